//! What came of each event.

use matricle_desk::money::books;
use matricle_store::books::EventSums;

use super::{Room, View, text};
use crate::error::WebError;
use crate::parts::list::{Column, Shown};

/// Fills the tab.
pub(super) async fn fill(page: &mut Room, v: &View<'_>) -> Result<(), WebError> {
    page.empty = "Once something is sold, each event stands here with what came of it.";
    let (_, all) = books::by_event(v.desk(), v.staff()).await?;
    let event =
        |e: &EventSums| Shown::from(e.title.as_str()).to(format!("/office/events/{}", e.id));
    let columns = vec![
        text("event", "Event", |e: &EventSums| &e.title).shown(event),
        Column::new("people", "People", |e: &EventSums| e.heads).number().falling(),
        v.amounts("sold", "Sold", |e: &EventSums| Some(e.sold)),
        v.amounts("discounts", "Discounts", |e: &EventSums| Some(e.discounts)),
        v.amounts("tax", "Tax", |e: &EventSums| Some(e.tax)),
        v.amounts("fees", "Fees", |e: &EventSums| Some(e.fees)),
        v.amounts("came", "Came", |e: &EventSums| Some(e.came)),
        v.amounts("back", "Given back", |e: &EventSums| Some(e.refunds)),
        v.amounts("net", "Net", |e: &EventSums| Some(e.net())),
    ];
    page.put(v, columns, all);
    Ok(())
}
