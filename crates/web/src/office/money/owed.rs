//! Who owes, what is to be given back, and what the accounts come to.

use jiff::Timestamp;
use matricle_core::money::ledger::Account;
use matricle_core::money::transfer::{creditor_reference, grouped};
use matricle_core::words::codes::Reference;
use matricle_desk::money::books;
use matricle_formats::table::Cell;
use matricle_formats::words;
use matricle_store::books::Owing;

use super::{Room, ToGive, View, booking, href, text};
use crate::error::WebError;
use crate::parts::list::Column;

/// So many refunds by hand are named at once.
const TO_GIVE: usize = 12;

/// For how long something has been so, in days.
fn since(now: Timestamp, then: Timestamp) -> String {
    match now.duration_since(then).as_hours() / 24 {
        0 => "today".to_owned(),
        1 => "1 day".to_owned(),
        n => format!("{n} days"),
    }
}

/// Fills the tab.
pub(super) async fn fill(page: &mut Room, v: &View<'_>) -> Result<(), WebError> {
    let all = books::overview(v.desk(), v.staff()).await?;
    let sum: i64 = all.owing.iter().map(|o| o.due).sum();
    page.lead = match all.owing.len() {
        0 => "Nobody owes anything.".into(),
        n => format!(
            "{} to come from {}.",
            v.currency.of(sum),
            words::count(u32::try_from(n).unwrap_or(u32::MAX), "bookings")
        ),
    };
    page.empty = "Whoever has booked and not paid stands here, longest first.";
    let transfer = |o: &Owing| {
        Reference::parse(&o.reference)
            .filter(|_| o.invoiced)
            .map_or_else(String::new, |r| grouped(&creditor_reference(r)))
    };
    let columns = vec![
        booking(|o: &Owing| &o.reference),
        text("booker", "Booker", |o: &Owing| &o.name),
        text("event", "Event", |o: &Owing| &o.title),
        v.amounts("due", "Due", |o: &Owing| Some(o.due)),
        Column::new("since", "Since", |o: &Owing| Cell::at(o.since, v.zone))
            .shown(|o| since(v.now, o.since))
            .named()
            .rising(),
        Column::new("until", "Seats kept until", |o: &Owing| match o.until {
            Some(at) => Cell::at(at, v.zone),
            None => "confirmed".into(),
        })
        .shown(|o| o.until.map_or_else(|| "confirmed".to_owned(), |at| v.moment(at)))
        .named()
        .rising(),
        Column::new("transfer", "Reference on a transfer", transfer).named(),
    ];
    page.put(v, columns, all.owing);
    let by_hand: Vec<_> = all.refunds.into_iter().filter(|(r, ..)| r.by_hand).collect();
    let (count, sum) = (by_hand.len(), by_hand.iter().map(|(r, ..)| r.minor).sum());
    if count > TO_GIVE {
        page.giving = format!(
            "{count} in all, together {}. The first {TO_GIVE} stand here; the next come as these are given.",
            v.currency.of(sum)
        );
    }
    page.to_give = by_hand
        .into_iter()
        .take(TO_GIVE)
        .map(|(r, reference, name)| ToGive {
            amount: v.figures(r.minor),
            note: format!("{}; it came by {}", r.reason.trim_end_matches('.'), r.method.word()),
            id: r.id,
            href: href(&reference),
            name,
        })
        .collect();
    page.balances = Account::ALL
        .into_iter()
        .filter_map(|a| {
            let minor = all.balances.get(&a).copied().filter(|m| *m != 0)?;
            Some((a.word(), v.figures(minor)))
        })
        .collect();
    Ok(())
}
