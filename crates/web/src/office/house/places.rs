//! Venues and their rooms.

use matricle_desk::house::{Rooms, Thing};

use super::{Again, Shelf, ticked};
use crate::parts::fields::Fields;

/// What stands on the tab.
pub(super) fn shelves(all: &Rooms, again: &Again) -> Vec<Shelf> {
    let venues = all
        .venues
        .iter()
        .map(|v| {
            let d = Fields::of([
                ("name", v.name.clone()),
                ("address", v.address.clone()),
                ("directions", v.directions.clone()),
            ]);
            let line = if v.accessible {
                format!("{} · reached without steps", v.address)
            } else {
                v.address.clone()
            };
            let d = ticked(d, "accessible", v.accessible);
            again.item(Thing::Venue, v.id.0, &v.name, line, v.retired_at.is_some(), d)
        })
        .collect();
    let rooms = all
        .rooms
        .iter()
        .map(|r| {
            let venue = all.venues.iter().find(|v| v.id == r.venue);
            let seats = r.seats.map_or_else(String::new, |n| n.to_string());
            let d = Fields::of([
                ("name", r.name.clone()),
                ("venue", r.venue.to_string()),
                ("seats", seats.clone()),
            ]);
            let mut line = venue.map_or_else(String::new, |v| v.name.clone());
            if !seats.is_empty() {
                line.push_str(&format!(" · seats {seats}"));
            }
            if r.accessible {
                line.push_str(" · reached without steps");
            }
            let d = ticked(d, "accessible", r.accessible);
            again.item(Thing::Room, r.id.0, &r.name, line, r.retired_at.is_some(), d)
        })
        .collect();
    vec![
        again.shelf(
            Thing::Venue,
            "venue",
            "Venues",
            "venue",
            "No venue yet. The first event makes one, or add one here.",
            venues,
        ),
        again.shelf(
            Thing::Room,
            "room",
            "Rooms",
            "room",
            "No room yet. With rooms, clashes are found and the board has lanes.",
            rooms,
        ),
    ]
}
