//! Tags.

use matricle_desk::house::{Rooms, Thing};

use super::{Again, Shelf};
use crate::parts::fields::Fields;

/// What stands on the tab.
pub(super) fn shelves(all: &Rooms, again: &Again) -> Vec<Shelf> {
    let tags = all
        .tags
        .iter()
        .map(|t| {
            let d = Fields::of([("name", t.name.clone()), ("description", t.description.clone())]);
            again.item(
                Thing::Tag,
                t.id.0,
                &t.name,
                t.description.clone(),
                t.retired_at.is_some(),
                d,
            )
        })
        .collect();
    vec![again.shelf(
        Thing::Tag,
        "tag",
        "Tags",
        "tag",
        "No tag yet. Tags narrow the Programme down, and each has a feed.",
        tags,
    )]
}
