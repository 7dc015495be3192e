//! What came and went in a month.

use matricle_core::words::codes::Reference;
use matricle_desk::money::books;
use matricle_formats::table::Cell;

use super::{Room, Table, View, href, month};
use crate::error::WebError;

/// Fills the tab.
pub(super) async fn fill(page: &mut Room, v: &View<'_>) -> Result<(), WebError> {
    let (from, until, [shown, before, after, this]) = month(&v.asked.month, v.zone, v.now);
    page.month = Some((shown, before, after, this));
    page.empty = "No money came or went in this month.";
    page.table = Table::new(
        &["When", "Booking", "Booker", "Event", "How", "Amount", "Fee", "Who", "Note"],
        &[5, 6],
    );
    let (_, all) = books::movements(v.desk(), v.staff(), from, until).await?;
    for m in all {
        let fee = if m.fee > 0 { v.figures(m.fee) } else { String::new() };
        let shown =
            Reference::parse(&m.reference).map_or_else(|| m.reference.clone(), |r| r.to_string());
        page.table.push_exact(
            href(&m.reference),
            vec![
                v.moment(m.at),
                shown,
                m.name,
                m.title,
                m.method.word().into(),
                v.figures(m.minor),
                fee,
                m.who,
                m.note,
            ],
            vec![(0, Cell::at(m.at, v.zone))],
        );
    }
    Ok(())
}
