//! What came and went in a month.

use matricle_desk::money::books;
use matricle_formats::table::Cell;
use matricle_store::books::Movement;

use super::{Room, View, booking, month, text};
use crate::error::WebError;
use crate::parts::list::Column;

/// Fills the tab.
pub(super) async fn fill(page: &mut Room, v: &View<'_>) -> Result<(), WebError> {
    let (from, until, [shown, before, after, this]) = month(&v.asked.month, v.zone, v.now);
    page.month = Some((shown, before, after, this));
    page.empty = "No money came or went in this month.";
    let (_, all) = books::movements(v.desk(), v.staff(), from, until).await?;
    let columns = vec![
        Column::new("when", "When", |m: &Movement| Cell::at(m.at, v.zone))
            .shown(|m| v.moment(m.at))
            .rising(),
        booking(|m: &Movement| &m.reference),
        text("booker", "Booker", |m: &Movement| &m.name),
        text("event", "Event", |m: &Movement| &m.title),
        text("how", "How", |m: &Movement| m.method.word()),
        v.amounts("amount", "Amount", |m: &Movement| Some(m.minor)),
        v.amounts("fee", "Fee", |m: &Movement| (m.fee > 0).then_some(m.fee)),
        text("who", "Who", |m: &Movement| &m.who),
        text("note", "Note", |m: &Movement| &m.note),
    ];
    page.put(v, columns, all);
    Ok(())
}
