//! Who owes, what is to be given back, and what the accounts come to.

use matricle_core::money::ledger::Account;
use matricle_core::money::transfer::{creditor_reference, grouped};
use matricle_core::words::codes::Reference;
use matricle_desk::money::books;
use matricle_formats::table::Cell;
use matricle_formats::words;

use super::{Room, Table, ToGive, View, href};
use crate::error::WebError;

/// So many refunds by hand are named at once.
const TO_GIVE: usize = 12;

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
    page.table = Table::new(
        &[
            "Booking",
            "Booker",
            "Event",
            "Due",
            "Since",
            "Seats kept until",
            "Reference on a transfer",
        ],
        &[3],
    );
    for o in all.owing {
        let reference = Reference::parse(&o.reference);
        let shown = reference.map_or_else(|| o.reference.clone(), |r| r.to_string());
        let rf = reference
            .filter(|_| o.invoiced)
            .map_or_else(String::new, |r| grouped(&creditor_reference(r)));
        let days = v.now.duration_since(o.since).as_hours() / 24;
        let since = match days {
            0 => "today".to_owned(),
            1 => "1 day".to_owned(),
            n => format!("{n} days"),
        };
        let until = o.until.map_or_else(|| "confirmed".to_owned(), |at| v.moment(at));
        let exact = o.until.map(|at| (5, Cell::at(at, v.zone)));
        page.table.push_exact(
            href(&o.reference),
            vec![shown, o.name, o.title, v.figures(o.due), since, until, rf],
            std::iter::once((4, Cell::at(o.since, v.zone))).chain(exact).collect(),
        );
    }
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
