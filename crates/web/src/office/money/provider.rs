//! The card provider’s list beside ours.

use matricle_desk::money::books::{self, Difference};
use matricle_formats::table::Cell;
use matricle_formats::words;

use super::{Room, View, booking, text};
use crate::error::WebError;
use crate::parts::list::Column;

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
    let theirs = |x: &Difference, pick: fn((i64, i64)) -> i64| {
        x.theirs.map_or_else(|| "unknown".to_owned(), |t| v.figures(pick(t)))
    };
    let columns = vec![
        booking(|x: &Difference| &x.reference),
        text("payment", "Payment", |x: &Difference| &x.payment),
        v.amounts("came", "Came, ours", |x: &Difference| Some(x.ours.0)),
        Column::new("came-there", "Came, theirs", |x: &Difference| {
            Cell::amount(&theirs(x, |t| t.0))
        })
        .shown(|x| theirs(x, |t| t.0))
        .number(),
        v.amounts("back", "Back, ours", |x: &Difference| Some(x.ours.1)),
        Column::new("back-there", "Back, theirs", |x: &Difference| {
            Cell::amount(&theirs(x, |t| t.1))
        })
        .shown(|x| theirs(x, |t| t.1))
        .number(),
    ];
    page.put(v, columns, compared.differences);
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
