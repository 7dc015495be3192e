//! Tax rates.

use matricle_desk::house::{Rooms, Thing};

use super::{Again, Shelf};
use crate::parts::fields::Fields;

/// What stands on the tab.
pub(super) fn shelves(all: &Rooms, again: &Again) -> Vec<Shelf> {
    let rates = all
        .tax_rates
        .iter()
        .map(|t| {
            let percent = format!("{}.{:02}", t.basis / 100, t.basis % 100);
            let mut d = Fields::of([("name", t.name.clone()), ("percent", percent.clone())]);
            d.tick("added", t.added);
            again.item(
                Thing::TaxRate,
                t.id.0,
                &t.name,
                format!("{percent} %{}", if t.added { ", added to prices" } else { "" }),
                t.retired_at.is_some(),
                d,
            )
        })
        .collect();
    vec![again.shelf(
        Thing::TaxRate,
        "tax-rate",
        "Tax rates",
        "tax rate",
        "No tax rate yet. Tickets without one contain no tax.",
        rates,
    )]
}
