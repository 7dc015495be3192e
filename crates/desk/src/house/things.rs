//! Things of the house: venues, rooms, hosts, tags, tax rates. Each is a form, and a row.

use matricle_core::fields;
use matricle_core::forms::field::{Binding, Locale};
use matricle_core::forms::form::{Fault, Form, Wrong, slug};
use matricle_core::forms::quick::MOST_SEATS;
use matricle_core::people::staff::Right;
use matricle_core::{HostId, PersonId, RoomId, TagId, TaxRateId, VenueId};
use matricle_store::Tx;
use matricle_store::people::Staff;
use matricle_store::places::{self, Host, Kind, Room, Tag, TaxRate, Venue};

use crate::{Desk, DeskError};

matricle_core::worded! {
    /// The kinds of things that a form of the house can make, as words in addresses.
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum Thing {
        /// A venue.
        Venue = "venue",
        /// A room.
        Room = "room",
        /// A host.
        Host = "host",
        /// A tag.
        Tag = "tag",
        /// A tax rate.
        TaxRate = "tax-rate",
    }
}

impl Thing {
    const fn kind(self) -> Kind {
        match self {
            Self::Venue => Kind::Venue,
            Self::Room => Kind::Room,
            Self::Host => Kind::Host,
            Self::Tag => Kind::Tag,
            Self::TaxRate => Kind::TaxRate,
        }
    }

    /// What it is called.
    const fn called(self) -> &'static str {
        match self {
            Self::Venue => "venue",
            Self::Room => "room",
            Self::Host => "host",
            Self::Tag => "tag",
            Self::TaxRate => "tax rate",
        }
    }

    /// The address of the page about such things.
    #[must_use]
    pub const fn page(self) -> &'static str {
        match self {
            Self::Venue | Self::Room => "/office/house/venues",
            Self::Host => "/office/house/hosts",
            Self::Tag => "/office/house/tags",
            Self::TaxRate => "/office/house/money",
        }
    }
}

fields! {
    NAME: Line = "name", "Name" needed;
    ADDRESS: Line = "address", "Address";
    DIRECTIONS: Text(2, 1000) = "directions", "How to get there";
    VENUE: Choice = "venue", "Venue";
    SEATS: WholeOrNone(1, MOST_SEATS) = "seats", "Seats";
    ACCESSIBLE: Tick = "accessible", "Reached without steps";
    ABOUT: Text(2, 1000) = "about", "About them";
    PERSON: Choice = "person", "Signs in as";
    DESCRIPTION: Text(2, 1000) = "description", "What it stands for";
    PERCENT: Percent = "percent", "Percent";
    ADDED: Tick = "added", "Comes on top of the price";
    INTO: Choice = "into", "Make it one with";
}

/// A thing as its form has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ThingRow {
    /// A venue.
    Venue(Venue),
    /// A room.
    Room(Room),
    /// A host.
    Host(Host),
    /// A tag.
    Tag(Tag),
    /// A tax rate.
    TaxRate(TaxRate),
}

impl ThingRow {
    /// What the form of a new one begins with (`id` 0), or a change of one is read into.
    #[must_use]
    pub fn blank(thing: Thing, id: i64) -> Self {
        let (name, retired_at) = (String::new(), None);
        match thing {
            Thing::Venue => Self::Venue(Venue {
                id: VenueId(id),
                name,
                address: String::new(),
                directions: String::new(),
                accessible: false,
                retired_at,
            }),
            Thing::Room => Self::Room(Room {
                id: RoomId(id),
                venue: VenueId(0),
                name,
                seats: None,
                accessible: false,
                retired_at,
            }),
            Thing::Host => Self::Host(Host {
                id: HostId(id),
                name,
                about: String::new(),
                person: None,
                retired_at,
            }),
            Thing::Tag => Self::Tag(Tag {
                id: TagId(id),
                name,
                slug: String::new(),
                description: String::new(),
                retired_at,
            }),
            Thing::TaxRate => Self::TaxRate(TaxRate {
                id: TaxRateId(id),
                name,
                basis: 0,
                added: false,
                retired_at,
            }),
        }
    }

    /// Its form.
    pub fn form(&mut self, f: &mut Binding<'_>) {
        match self {
            Self::Venue(venue) => {
                f.bind(&NAME, &mut venue.name);
                f.bind(&ADDRESS, &mut venue.address);
                f.bind(&DIRECTIONS, &mut venue.directions);
                f.bind(&ACCESSIBLE, &mut venue.accessible);
            }
            Self::Room(room) => {
                f.bind(&NAME, &mut room.name);
                let mut venue = room.venue.to_string();
                f.bind(&VENUE, &mut venue);
                room.venue = VenueId(venue.parse().unwrap_or(0));
                f.bind(&SEATS, &mut room.seats);
                f.bind(&ACCESSIBLE, &mut room.accessible);
            }
            Self::Host(host) => {
                f.bind(&NAME, &mut host.name);
                f.bind(&ABOUT, &mut host.about);
                let mut person = host.person.map_or_else(String::new, |p| p.to_string());
                f.bind(&PERSON, &mut person);
                host.person = person.parse().ok().map(PersonId);
            }
            Self::Tag(tag) => {
                f.bind(&NAME, &mut tag.name);
                f.bind(&DESCRIPTION, &mut tag.description);
            }
            Self::TaxRate(rate) => {
                f.bind(&NAME, &mut rate.name);
                f.bind(&PERCENT, &mut rate.basis);
                f.bind(&ADDED, &mut rate.added);
            }
        }
    }

    /// Its name.
    #[must_use]
    pub fn name(&self) -> &str {
        match self {
            Self::Venue(v) => &v.name,
            Self::Room(r) => &r.name,
            Self::Host(h) => &h.name,
            Self::Tag(t) => &t.name,
            Self::TaxRate(t) => &t.name,
        }
    }

    /// What its kind asks beyond each field alone: names that are free, a venue that there is.
    fn check(&mut self, tx: &Tx<'_>, form: &mut Form) -> Result<(), DeskError> {
        let name = self.name().to_owned();
        let same = |other: &str| other.eq_ignore_ascii_case(&name);
        let taken = match self {
            Self::Venue(new) => places::venues(tx)?.iter().any(|v| same(&v.name) && v.id != new.id),
            Self::Room(new) => {
                if !places::venues(tx)?.iter().any(|v| v.id == new.venue) {
                    form.fault(VENUE, Fault::Unknown);
                }
                let rooms = places::rooms(tx)?;
                rooms.iter().any(|r| r.venue == new.venue && same(&r.name) && r.id != new.id)
            }
            Self::Host(new) => {
                if name.contains(',') {
                    // Hosts are typed one after another, by commas.
                    form.fault(NAME, Fault::Unknown);
                }
                places::hosts(tx)?.iter().any(|h| same(&h.name) && h.id != new.id)
            }
            Self::Tag(new) => {
                new.slug = slug(&name);
                if new.slug.is_empty() && !name.is_empty() {
                    form.fault(NAME, Fault::NoWord);
                }
                let tags = places::tags(tx)?;
                tags.iter().any(|t| (same(&t.name) || t.slug == new.slug) && t.id != new.id)
            }
            Self::TaxRate(new) => {
                places::tax_rates(tx)?.iter().any(|t| same(&t.name) && t.id != new.id)
            }
        };
        if taken {
            form.fault(NAME, Fault::Taken);
        }
        Ok(())
    }

    fn write(&self, tx: &Tx<'_>) -> Result<i64, DeskError> {
        Ok(match self {
            Self::Venue(v) => places::save_venue(tx, v)?,
            Self::Room(r) => places::save_room(tx, r)?,
            Self::Host(h) => places::save_host(tx, h)?,
            Self::Tag(t) => places::save_tag(tx, t)?,
            Self::TaxRate(t) => places::save_tax_rate(tx, t)?,
        })
    }
}

/// Makes a thing of the house (`id` 0), or changes one.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn save(
    desk: &Desk,
    staff: &Staff,
    thing: Thing,
    id: i64,
    mut typed: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    desk.store
        .write(move |tx| {
            let mut row = ThingRow::blank(thing, id);
            row.form(&mut Binding::Read(&mut typed, &Locale::default()));
            row.check(tx, &mut typed)?;
            typed.done().map_err(DeskError::Form)?;
            row.write(tx)?;
            let act = if id == 0 { "added" } else { "changed" };
            let what = format!("{act} the {} {}", thing.called(), row.name());
            turn.log(tx, &what, thing.page())
        })
        .await
}

/// Retires a thing of the house, or offers it again. What was made with it keeps it.
pub async fn retire(
    desk: &Desk,
    staff: &Staff,
    thing: Thing,
    id: i64,
    retired: bool,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    desk.store
        .write(move |tx| {
            places::retire(tx, thing.kind(), id, retired.then_some(turn.now))?;
            let act = if retired { "retired" } else { "offers again" };
            turn.log(tx, &format!("{act} a {}", thing.called()), thing.page())
        })
        .await
}

/// Makes one venue of two that are the same place; gives its name and how many dates went along.
///
/// # Errors
/// [`DeskError::Form`] without another venue; there is no such venue; the role may not.
pub async fn join_venues(
    desk: &Desk,
    staff: &Staff,
    from: VenueId,
    mut form: Form,
) -> Result<(String, usize), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    desk.store
        .write(move |tx| {
            let venues = places::venues(tx)?;
            let old = venues.iter().find(|v| v.id == from).ok_or(DeskError::NotFound)?;
            let wanted = form.line(INTO.name);
            let new = venues.iter().find(|v| v.name == wanted && v.id != from);
            let new = new.ok_or_else(|| {
                let field = INTO.name.to_owned();
                DeskError::Form(vec![Wrong { field, fault: Fault::Missing }])
            })?;
            let dates = places::join_venues(tx, from, new.id)?;
            let what = format!("made one venue of {} and {}", old.name, new.name);
            turn.log(tx, &what, Thing::Venue.page())?;
            Ok((new.name.clone(), dates))
        })
        .await
}
