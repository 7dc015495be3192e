//! The card provider’s list beside ours.

use matricle_desk::money::books;
use matricle_formats::words;

use super::{Room, Table, View, href};
use crate::error::WebError;

/// Fills the tab.
pub(super) async fn fill(page: &mut Room, v: &View<'_>) -> Result<(), WebError> {
    let compared = books::compare(v.desk(), v.staff()).await?;
    page.lead = if !v.desk().provider.is_there() {
        "This house has no card provider: nothing is paid by card.".into()
    } else if !compared.answered {
        "The card provider does not answer. Try again in a while.".into()
    } else if compared.differences.is_empty() {
        format!(
            "{} compared with the provider’s own list: all the same. {} lies there.",
            words::count(u32::try_from(compared.count).unwrap_or(u32::MAX), "payments"),
            v.currency.of(compared.there)
        )
    } else {
        format!(
            "{} of {} payments differ from the provider’s own list.",
            compared.differences.len(),
            compared.count
        )
    };
    page.empty = "No differences.";
    page.table = Table::new(
        &["Booking", "Payment", "Came, ours", "Came, theirs", "Back, ours", "Back, theirs"],
        &[2, 3, 4, 5],
    );
    for x in compared.differences {
        let theirs = |pick: fn((i64, i64)) -> i64| {
            x.theirs.map_or_else(|| "unknown".to_owned(), |t| v.figures(pick(t)))
        };
        let cells = vec![
            x.reference.clone(),
            x.payment.clone(),
            v.figures(x.ours.0),
            theirs(|t| t.0),
            v.figures(x.ours.1),
            theirs(|t| t.1),
        ];
        let to = if x.reference.is_empty() { String::new() } else { href(&x.reference) };
        page.table.push(to, cells);
    }
    page.balances = compared
        .payouts
        .iter()
        .map(|(at, amount, fees)| {
            (
                "payout",
                format!(
                    "{}: {} to the bank, {} fees",
                    v.moment(*at),
                    v.figures(*amount),
                    v.figures(*fees)
                ),
            )
        })
        .collect();
    Ok(())
}
