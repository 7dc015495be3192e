//! Hosts.

use matricle_desk::house::{Rooms, Thing};

use super::{Again, Shelf};
use crate::parts::fields::Fields;

/// What stands on the tab.
pub(super) fn shelves(all: &Rooms, again: &Again) -> Vec<Shelf> {
    let hosts = all
        .hosts
        .iter()
        .map(|h| {
            let d = Fields::of([
                ("name", h.name.clone()),
                ("about", h.about.clone()),
                ("person", h.person.map_or_else(String::new, |p| p.to_string())),
            ]);
            again.item(Thing::Host, h.id.0, &h.name, h.about.clone(), h.retired_at.is_some(), d)
        })
        .collect();
    vec![again.shelf(
        Thing::Host,
        "host",
        "Hosts",
        "host",
        "Nobody yet. Whoever leads a date stands here.",
        hosts,
    )]
}
