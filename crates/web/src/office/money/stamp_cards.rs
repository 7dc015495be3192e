//! Stamp cards.

use matricle_core::money::transfer::grouped;
use matricle_desk::money::cards;
use matricle_formats::table::Cell;
use matricle_formats::words;

use super::{Room, Table, View};
use crate::error::WebError;

/// Fills the tab.
pub(super) async fn fill(page: &mut Room, v: &View<'_>) -> Result<(), WebError> {
    let all = cards::all(v.desk(), v.staff()).await?;
    page.empty = "No card yet. A card is stamps paid for beforehand; what is not used is a debt of the house.";
    page.table = Table::new(
        &["Card", "Kind", "Holder", "Address", "Stamps left", "Worth", "Good until"],
        &[4, 5],
    );
    for c in all.cards {
        let until = c.card.expires_at.map_or_else(|| "for ever".to_owned(), |at| v.moment(at));
        page.cards.push(c.id);
        let exact = c.card.expires_at.map(|at| (6, Cell::at(at, v.zone)));
        page.table.push_exact(
            String::new(),
            vec![
                grouped(&c.code),
                c.kind,
                c.name,
                c.email,
                c.card.left.to_string(),
                v.figures(c.card.value),
                until,
            ],
            exact.into_iter().collect(),
        );
    }
    page.kinds = all
        .kinds
        .into_iter()
        .map(|k| {
            let life = k.life_days.map_or_else(String::new, |d| format!(", good for {d} days"));
            (
                k.id,
                format!(
                    "{}, {} for {}{life}",
                    k.name,
                    words::count(k.stamps, "stamps"),
                    v.currency.of(k.price)
                ),
                k.retired,
            )
        })
        .collect();
    Ok(())
}
