//! The ledger of a month.

use matricle_core::money::ledger::Account;
use matricle_desk::money::books;
use matricle_formats::table::Cell;
use matricle_store::ledger::Booked;

use super::{Room, View, booking, month, text};
use crate::error::WebError;
use crate::parts::list::Column;

/// Fills the tab.
pub(super) async fn fill(page: &mut Room, v: &View<'_>) -> Result<(), WebError> {
    let (from, until, [shown, before, after, this]) = month(&v.asked.month, v.zone, v.now);
    page.month = Some((shown, before, after, this));
    page.empty = "Nothing was booked in this month.";
    let (_, all) = books::ledger_lines(v.desk(), v.staff(), from, until).await?;
    let account = |l: &Booked| match l.account {
        Account::Tax => format!("tax {}.{:02} %", l.about / 100, l.about % 100),
        account => account.word().to_owned(),
    };
    let columns = vec![
        Column::new("entry", "Entry", |l: &Booked| l.entry.to_string()).named(),
        Column::new("when", "When", |l: &Booked| Cell::at(l.at, v.zone))
            .shown(|l| v.moment(l.at))
            .rising(),
        text("what", "What", |l: &Booked| &l.what),
        booking(|l: &Booked| &l.reference),
        Column::new("account", "Account", account).rising(),
        v.amounts("debit", "Debit", |l: &Booked| (l.minor > 0).then_some(l.minor)),
        v.amounts("credit", "Credit", |l: &Booked| (l.minor <= 0).then_some(-l.minor)),
        text("who", "Who", |l: &Booked| &l.who),
    ];
    page.put(v, columns, all);
    Ok(())
}
