//! The ledger of a month.

use matricle_core::money::ledger::Account;
use matricle_core::words::codes::Reference;
use matricle_desk::money::books;
use matricle_formats::table::Cell;

use super::{Room, Table, View, href, month};
use crate::error::WebError;

/// Fills the tab.
pub(super) async fn fill(page: &mut Room, v: &View<'_>) -> Result<(), WebError> {
    let (from, until, [shown, before, after, this]) = month(&v.asked.month, v.zone, v.now);
    page.month = Some((shown, before, after, this));
    page.empty = "Nothing was booked in this month.";
    page.table = Table::new(
        &["Entry", "When", "What", "Booking", "Account", "Debit", "Credit", "Who"],
        &[5, 6],
    );
    let (_, all) = books::ledger_lines(v.desk(), v.staff(), from, until).await?;
    for l in all {
        let (debit, credit) = if l.minor > 0 {
            (v.figures(l.minor), String::new())
        } else {
            (String::new(), v.figures(-l.minor))
        };
        let account = match l.account {
            Account::Tax => format!("tax {}.{:02} %", l.about / 100, l.about % 100),
            account => account.word().to_owned(),
        };
        let shown =
            Reference::parse(&l.reference).map_or_else(|| l.reference.clone(), |r| r.to_string());
        let to = if l.reference.is_empty() { String::new() } else { href(&l.reference) };
        page.table.push_exact(
            to,
            vec![l.entry.to_string(), v.moment(l.at), l.what, shown, account, debit, credit, l.who],
            vec![(1, Cell::at(l.at, v.zone))],
        );
    }
    Ok(())
}
