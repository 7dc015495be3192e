//! Things of the house, kind by kind, each with its form.

use matricle_core::forms::field::Locale;
use matricle_desk::house::Rooms;
use matricle_desk::house::things::{self as on, Thing, ThingRow};

use super::{Again, HousePage};
use crate::parts::drawn::Drawn;
use crate::parts::fields::Fields;

/// A thing of the house with its form.
pub(super) struct Item {
    pub(super) id: i64,
    pub(super) name: String,
    pub(super) line: String,
    pub(super) retired: bool,
    pub(super) d: Fields,
}

/// A list of things of one kind, with the form for a new one.
pub(super) struct Shelf {
    pub(super) thing: Thing,
    pub(super) title: &'static str,
    pub(super) one: &'static str,
    pub(super) empty: &'static str,
    pub(super) items: Vec<Item>,
    pub(super) new: Fields,
}

/// What stands on a tab: kinds of things, what they are called, and what is said of none.
const SHELVES: [(&str, Thing, &str, &str, &str); 5] = [
    (
        "venues",
        Thing::Venue,
        "Venues",
        "venue",
        "No venue yet. The first event makes one, or add one here.",
    ),
    (
        "venues",
        Thing::Room,
        "Rooms",
        "room",
        "No room yet. With rooms, clashes are found and the board has lanes.",
    ),
    ("hosts", Thing::Host, "Hosts", "host", "Nobody yet. Whoever leads a date stands here."),
    (
        "tags",
        Thing::Tag,
        "Tags",
        "tag",
        "No tag yet. Tags narrow the Programme down, and each has a feed.",
    ),
    (
        "money",
        Thing::TaxRate,
        "Tax rates",
        "tax rate",
        "No tax rate yet. Tickets without one contain no tax.",
    ),
];

/// The shelves of a tab; in the place of a form that needs another look, what was typed.
pub(super) fn shelves(all: &Rooms, tab: &str, again: &Again) -> Vec<Shelf> {
    let of_tab = SHELVES.into_iter().filter(|(on, ..)| *on == tab);
    of_tab
        .map(|(_, thing, title, one, empty)| Shelf {
            thing,
            title,
            one,
            empty,
            items: rows(all, thing)
                .into_iter()
                .map(|(id, line, retired, mut row)| Item {
                    id,
                    name: row.name().to_owned(),
                    line,
                    retired,
                    d: again.typed(thing, id).unwrap_or_else(|| filled(&mut row)),
                })
                .collect(),
            new: again.typed(thing, 0).unwrap_or_default(),
        })
        .collect()
}

fn filled(row: &mut ThingRow) -> Fields {
    Fields::filled(&Locale::default(), |f| row.form(f))
}

/// The things of a kind: key, the line below the name, whether it is offered no more, its form.
fn rows(all: &Rooms, thing: Thing) -> Vec<(i64, String, bool, ThingRow)> {
    let without_steps = |yes: bool| if yes { " · reached without steps" } else { "" };
    match thing {
        Thing::Venue => all
            .venues
            .iter()
            .map(|v| {
                let line = format!("{}{}", v.address, without_steps(v.accessible));
                (v.id.0, line, v.retired_at.is_some(), ThingRow::Venue(v.clone()))
            })
            .collect(),
        Thing::Room => all
            .rooms
            .iter()
            .map(|r| {
                let venue = all.venues.iter().find(|v| v.id == r.venue);
                let venue = venue.map_or("", |v| v.name.as_str());
                let seats = r.seats.map_or_else(String::new, |n| format!(" · seats {n}"));
                let line = format!("{venue}{seats}{}", without_steps(r.accessible));
                (r.id.0, line, r.retired_at.is_some(), ThingRow::Room(r.clone()))
            })
            .collect(),
        Thing::Host => all
            .hosts
            .iter()
            .map(|h| (h.id.0, h.about.clone(), h.retired_at.is_some(), ThingRow::Host(h.clone())))
            .collect(),
        Thing::Tag => all
            .tags
            .iter()
            .map(|t| {
                (t.id.0, t.description.clone(), t.retired_at.is_some(), ThingRow::Tag(t.clone()))
            })
            .collect(),
        Thing::TaxRate => all
            .tax_rates
            .iter()
            .map(|t| {
                let added = if t.added { ", added to prices" } else { "" };
                let line = format!("{}.{:02} %{added}", t.basis / 100, t.basis % 100);
                (t.id.0, line, t.retired_at.is_some(), ThingRow::TaxRate(t.clone()))
            })
            .collect(),
    }
}

impl HousePage {
    /// The fields of a thing's form.
    pub(super) fn fields<'a>(&self, thing: &Thing, id: &i64, d: &'a Fields) -> Vec<Drawn<'a>> {
        let fields = match thing {
            Thing::Venue => vec![
                d.draw(on::NAME),
                d.draw(on::ADDRESS),
                d.draw(on::DIRECTIONS).wide(),
                d.draw(on::ACCESSIBLE),
            ],
            Thing::Room => vec![
                d.draw(on::NAME),
                d.draw(on::VENUE).of(&self.venues),
                d.draw(on::SEATS),
                d.draw(on::ACCESSIBLE),
            ],
            Thing::Host => vec![
                d.draw(on::NAME),
                d.draw(on::ABOUT).wide(),
                d.draw(on::PERSON).of(&self.persons),
            ],
            Thing::Tag => vec![d.draw(on::NAME), d.draw(on::DESCRIPTION).wide()],
            Thing::TaxRate => {
                vec![d.draw(on::NAME), d.draw(on::PERCENT), d.draw(on::ADDED)]
            }
        };
        let apart = format!("{}-{id}", thing.word());
        fields.into_iter().map(|field| field.apart(&apart)).collect()
    }

    /// The venues that one may be made one with.
    pub(super) fn others<'a>(&self, id: &i64, d: &'a Fields) -> Drawn<'a> {
        let named = d.v(on::NAME);
        let others = self.venues.iter().filter(|(_, name)| name != named);
        let others = others.map(|(_, name)| (name.as_str(), name.as_str()));
        let choose: Vec<(&str, &str)> = std::iter::once(("", "choose")).chain(others).collect();
        d.draw(on::INTO).of(&choose).apart(id)
    }
}
