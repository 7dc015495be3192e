//! What came of each event.

use matricle_desk::money::books;

use super::{Room, Table, View};
use crate::error::WebError;

/// Fills the tab.
pub(super) async fn fill(page: &mut Room, v: &View<'_>) -> Result<(), WebError> {
    page.empty = "Once something is sold, each event stands here with what came of it.";
    page.table = Table::new(
        &["Event", "People", "Sold", "Discounts", "Tax", "Fees", "Came", "Given back", "Net"],
        &[1, 2, 3, 4, 5, 6, 7, 8],
    );
    let (_, all) = books::by_event(v.desk(), v.staff()).await?;
    for e in all {
        let cells = vec![
            e.title.clone(),
            e.heads.to_string(),
            v.figures(e.sold),
            v.figures(e.discounts),
            v.figures(e.tax),
            v.figures(e.fees),
            v.figures(e.came),
            v.figures(e.refunds),
            v.figures(e.net()),
        ];
        page.table.push(format!("/office/events/{}", e.id), cells);
    }
    Ok(())
}
