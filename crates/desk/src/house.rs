//! The house at the Office: places, hosts, tags, tax rates, opening hours, terms, roles,
//! and the log of who changed what.

pub mod audit;
pub mod backup;
pub mod calendars;
pub mod face;
pub mod first;

use matricle_core::dates::slots::Opening;
use matricle_core::forms::form::{Fault, Form, Wrong, slug};
use matricle_core::people::staff::{Right, Role, require};
use matricle_core::words::fold;
use matricle_core::{HostId, PersonId, RoomId, TagId, TaxRateId, VenueId};
use matricle_formats::words;
use matricle_store::Tx;
use matricle_store::house::{self, House};
use matricle_store::people::{self, Staff};
use matricle_store::places::{self, Change, Host, Kind, Room, Tag, TaxRate, Venue};

use crate::planning::rates::percent;
use crate::planning::slots;
use crate::{Desk, DeskError, house_of};

/// Everything the pages of the house show.
#[derive(Debug, Clone)]
pub struct Rooms {
    /// The house.
    pub house: House,
    /// Venues.
    pub venues: Vec<Venue>,
    /// Rooms.
    pub rooms: Vec<Room>,
    /// Hosts.
    pub hosts: Vec<Host>,
    /// Tags.
    pub tags: Vec<Tag>,
    /// Tax rates.
    pub tax_rates: Vec<TaxRate>,
    /// Opening hours.
    pub hours: Vec<Opening>,
    /// Days that are closed, and why.
    pub closed: Vec<(jiff::civil::Date, String)>,
    /// Everybody with a role.
    pub staff: Vec<Staff>,
    /// Addresses of members.
    pub members: Vec<String>,
}

/// The house, whole.
pub async fn all(desk: &Desk, staff: &Staff) -> Result<Rooms, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let house = house_of(conn)?;
            let today = words::local(now, &house.zone).date();
            Ok(Rooms {
                venues: places::venues(conn)?,
                rooms: places::rooms(conn)?,
                hosts: places::hosts(conn)?,
                tags: places::tags(conn)?,
                tax_rates: places::tax_rates(conn)?,
                hours: places::opening_hours(conn)?,
                closed: places::closed_days(conn, today)?,
                staff: people::staff_of(conn)?,
                members: people::members(conn)?,
                house,
            })
        })
        .await
}

/// The kinds of things that a form of the house can make, as words in addresses.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Thing {
    /// A venue.
    Venue,
    /// A room.
    Room,
    /// A host.
    Host,
    /// A tag.
    Tag,
    /// A tax rate.
    TaxRate,
}

impl Thing {
    /// Finds it by its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Some(match word {
            "venue" => Self::Venue,
            "room" => Self::Room,
            "host" => Self::Host,
            "tag" => Self::Tag,
            "tax-rate" => Self::TaxRate,
            _ => return None,
        })
    }

    const fn kind(self) -> Kind {
        match self {
            Self::Venue => Kind::Venue,
            Self::Room => Kind::Room,
            Self::Host => Kind::Host,
            Self::Tag => Kind::Tag,
            Self::TaxRate => Kind::TaxRate,
        }
    }

    const fn word(self) -> &'static str {
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

/// Some of the log of changes, the latest first, and how many there are in all.
pub async fn changes(
    desk: &Desk,
    staff: &Staff,
    skip: u32,
    most: u32,
) -> Result<(Vec<Change>, u32), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            Ok((places::changes(conn, None, skip, most)?, places::count_changes(conn)?))
        })
        .await
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
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    desk.store
        .write(move |tx| {
            let name = form.needed("name");
            let write = read_thing(tx, thing, id, &name, &mut form)?;
            form.done().map_err(DeskError::Form)?;
            write.write(tx)?;
            let act = if id == 0 { "added" } else { "changed" };
            let what = format!("{act} the {} {name}", thing.word());
            turn.log(tx, &what, thing.page())
        })
        .await
}

enum Write {
    Venue(Venue),
    Room(Room),
    Host(Host),
    Tag(Tag),
    TaxRate(TaxRate),
}

impl Write {
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

fn read_thing(
    tx: &Tx<'_>,
    thing: Thing,
    id: i64,
    name: &str,
    form: &mut Form,
) -> Result<Write, DeskError> {
    let same = |other: &str| other.eq_ignore_ascii_case(name);
    let (taken, write) = match thing {
        Thing::Venue => (
            places::venues(tx)?.iter().any(|v| same(&v.name) && v.id.0 != id),
            Write::Venue(Venue {
                id: VenueId(id),
                name: name.into(),
                address: form.line("address"),
                directions: form.text("directions", 1000),
                accessible: form.ticked("accessible"),
                retired_at: None,
            }),
        ),
        Thing::Room => {
            let venue = form.get("venue").parse().map(VenueId).unwrap_or(VenueId(0));
            if !places::venues(tx)?.iter().any(|v| v.id == venue) {
                form.fault("venue", Fault::Unknown);
            }
            (
                places::rooms(tx)?
                    .iter()
                    .any(|r| r.venue == venue && same(&r.name) && r.id.0 != id),
                Write::Room(Room {
                    id: RoomId(id),
                    venue,
                    name: name.into(),
                    seats: form.number("seats", 1, matricle_core::forms::quick::MOST_SEATS),
                    accessible: form.ticked("accessible"),
                    retired_at: None,
                }),
            )
        }
        Thing::Host => {
            if name.contains(',') {
                // Hosts are typed one after another, by commas.
                form.fault("name", Fault::Unknown);
            }
            let person = form.get("person").parse().ok().map(PersonId);
            (
                places::hosts(tx)?.iter().any(|h| same(&h.name) && h.id.0 != id),
                Write::Host(Host {
                    id: HostId(id),
                    name: name.into(),
                    about: form.text("about", 1000),
                    person,
                    retired_at: None,
                }),
            )
        }
        Thing::Tag => {
            let word = slug(name);
            if word.is_empty() && !name.is_empty() {
                form.fault("name", Fault::NoWord);
            }
            let tags = places::tags(tx)?;
            (
                tags.iter().any(|t| (same(&t.name) || t.slug == word) && t.id.0 != id),
                Write::Tag(Tag {
                    id: TagId(id),
                    name: name.into(),
                    slug: word,
                    description: form.text("description", 1000),
                    retired_at: None,
                }),
            )
        }
        Thing::TaxRate => {
            let text = form.get("percent").replace(',', ".");
            let basis = percent(&text);
            if basis.is_none() {
                form.fault("percent", Fault::NotANumber(0, 100));
            }
            (
                places::tax_rates(tx)?.iter().any(|t| same(&t.name) && t.id.0 != id),
                Write::TaxRate(TaxRate {
                    id: TaxRateId(id),
                    name: name.into(),
                    basis: basis.unwrap_or(0),
                    added: form.ticked("added"),
                    retired_at: None,
                }),
            )
        }
    };
    if taken {
        form.fault("name", Fault::Taken);
    }
    Ok(write)
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
            turn.log(tx, &format!("{act} a {}", thing.word()), thing.page())
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
            let wanted = form.line("into");
            let new = venues.iter().find(|v| v.name == wanted && v.id != from);
            let new = new.ok_or_else(|| {
                let field = "into".to_owned();
                DeskError::Form(vec![Wrong { field, fault: Fault::Missing }])
            })?;
            let dates = places::join_venues(tx, from, new.id)?;
            let what = format!("made one venue of {} and {}", old.name, new.name);
            turn.log(tx, &what, Thing::Venue.page())?;
            Ok((new.name.clone(), dates))
        })
        .await
}

/// A time zone that may be meant: of the same place, or one whose name holds what was typed.
fn zone_like(typed: &str) -> Option<String> {
    let typed = fold(typed).replace([' ', '-'], "_");
    let place = typed.rsplit('/').next().unwrap_or(&typed);
    let names: Vec<String> = jiff::tz::db().available().map(|n| n.to_string()).collect();
    let of_place = |n: &&String| fold(n).rsplit('/').next() == Some(place);
    let holds = |n: &&String| place.len() > 2 && fold(n).contains(place);
    names.iter().find(of_place).or_else(|| names.iter().find(holds)).cloned()
}

/// Writes the house's name, address, terms, cancellation steps and the sites that may
/// show our stubs.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn set_terms(desk: &Desk, staff: &Staff, mut form: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    desk.store
        .write(move |tx| {
            let mut house = house_of(tx)?;
            house.name = form.needed("name");
            house.email = form.needed("email");
            if !matricle_core::words::address::is_address(&house.email) {
                form.fault("email", Fault::NotAnAddress);
            }
            let zone = form.needed("zone");
            if !zone.is_empty() && jiff::tz::TimeZone::get(&zone).is_err() {
                form.fault("zone", Fault::NoZone(zone_like(&zone)));
            }
            house.zone = zone;
            let currency = matricle_core::Currency::from_letters(form.get("currency"));
            match currency.filter(|c| *c != house.currency) {
                Some(_) if house::has_amounts(tx)? => form.fault("currency", Fault::Taken),
                Some(currency) => house.currency = currency,
                None if form.has("currency") && currency.is_none() => {
                    form.fault("currency", Fault::Unknown);
                }
                None => {}
            }
            house.terms = form.text("terms", 4000);
            if house.terms.is_empty() {
                form.fault("terms", Fault::Missing);
            }
            let mut steps: Vec<(u32, u32)> = (0..4)
                .filter_map(|i| {
                    let days = form.number(&format!("days_{i}"), 0, 365)?;
                    Some((days, form.number(&format!("percent_{i}"), 0, 100).unwrap_or(0)))
                })
                .collect();
            steps.sort_unstable_by(|a, b| b.cmp(a));
            house.steps = steps;
            house.embed_sites = form
                .text("embed_sites", 4000)
                .lines()
                .map(|l| l.trim().trim_end_matches('/').to_owned())
                .filter(|l| !l.is_empty())
                .collect();
            if house.embed_sites.iter().any(|s| !is_origin(s)) {
                form.fault("embed_sites", Fault::NotALink);
            }
            house.seller = form.text("seller", 600);
            house.tax_number = form.line("tax_number");
            house.account_holder = form.line("account_holder");
            house.iban = form.line("iban").to_uppercase();
            if !house.iban.is_empty()
                && let Err(fault) = matricle_core::money::transfer::read_iban(&house.iban)
            {
                form.fault("iban", Fault::NotAnIban(fault));
            }
            house.bic = form.line("bic").to_uppercase();
            if !house.bic.is_empty() && !matricle_core::money::transfer::is_bic(&house.bic) {
                form.fault("bic", Fault::NotABic);
            }
            house.accent = form.accent("accent");
            if form.has("transfer_days") {
                house.transfer_days = form.count("transfer_days", 1, 90);
            }
            form.done().map_err(DeskError::Form)?;
            house::set(tx, &house)?;
            turn.log(tx, "changed the house", "/office/house")
        })
        .await
}

/// Whether a text is a web origin (RFC 6454 §6.2): scheme, host, perhaps a port.
fn is_origin(text: &str) -> bool {
    let rest = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://"));
    rest.is_some_and(|host| {
        !host.is_empty()
            && host.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | ':'))
    })
}

/// Writes the opening hours; slots that nobody has booked are cut again.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn set_hours(desk: &Desk, staff: &Staff, mut form: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    let mut hours = Vec::new();
    for (i, weekday) in matricle_core::dates::recurrence::WEEK.into_iter().enumerate() {
        for part in 0..2 {
            let (opens, closes) = (format!("opens_{i}_{part}"), format!("closes_{i}_{part}"));
            let pair = (form.time(&opens), form.time(&closes));
            match pair {
                (Some(from), Some(until)) if until > from => {
                    hours.push(Opening { weekday, opens: from, closes: until });
                }
                (Some(_), Some(_)) => form.fault(&closes, Fault::EndsFirst),
                (None, None) => {}
                _ => form.fault(&closes, Fault::NeedsOther),
            }
        }
    }
    form.done().map_err(DeskError::Form)?;
    desk.store
        .write(move |tx| {
            places::set_opening_hours(tx, &hours)?;
            let today = words::local(turn.now, &house_of(tx)?.zone).date();
            slots::recut_all(tx, today, turn.now)?;
            turn.log(tx, "changed the opening hours", "/office/house/hours")
        })
        .await
}

/// Writes who is a member, by their addresses: one on a line.
///
/// # Errors
/// [`DeskError::Form`] when a line is no address; the role may not.
pub async fn set_members(desk: &Desk, staff: &Staff, mut form: Form) -> Result<u32, DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    let text = form.text("members", 400_000);
    let members: Vec<String> = text
        .split(['\n', ',', ';'])
        .map(|l| l.trim().to_owned())
        .filter(|l| !l.is_empty())
        .collect();
    if let Some(line) = members.iter().find(|m| !matricle_core::words::address::is_address(m)) {
        form.fault("members", Fault::LineNotAnAddress(line.clone()));
    }
    form.done().map_err(DeskError::Form)?;
    desk.store
        .write(move |tx| {
            people::set_members(tx, &members, turn.now)?;
            let n = u32::try_from(people::members(tx)?.len()).unwrap_or(u32::MAX);
            turn.log(tx, &format!("wrote down {n} members"), "/office/house/people")?;
            Ok(n)
        })
        .await
}

/// Gives a person a role; somebody new needs a password for the first time.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn give_role(desk: &Desk, staff: &Staff, mut form: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::GiveRoles)?;
    let name = form.needed("name");
    let email = form.needed("email");
    if !email.is_empty() && !matricle_core::words::address::is_address(&email) {
        form.fault("email", Fault::NotAnAddress);
    }
    let role = Role::from_word(form.get("role"));
    if role.is_none() {
        form.fault("role", Fault::Unknown);
    }
    // A host sees their own dates: which those are, the name on them says.
    let host = form.line("host");
    if role == Some(Role::Host) && host.is_empty() {
        form.fault("host", Fault::Missing);
    } else if host.contains(',') {
        form.fault("host", Fault::Unknown);
    }
    let password = form.get("password").to_owned();
    let (asked, own) = (email.clone(), staff.email.clone());
    let known = desk.store.read(move |conn| people::by_email(conn, &asked)).await?;
    if known.is_none() && password.is_empty() {
        form.fault("password", Fault::Missing);
    }
    if !password.is_empty() && password.chars().count() < crate::people::signin::LEAST {
        form.fault("password", Fault::TooShort(crate::people::signin::LEAST));
    }
    // Nobody takes the last key out of the door by accident.
    if email.eq_ignore_ascii_case(&own) && role != Some(Role::Administrator) {
        form.fault("role", Fault::Taken);
    }
    form.done().map_err(DeskError::Form)?;
    let Some(role) = role else { return Err(DeskError::NotFound) };
    if password.is_empty() {
        let (n, e) = (name.clone(), email.clone());
        desk.store.write(move |tx| people::set_role(tx, &e, &n, role)).await?;
        desk.sessions.forget();
    } else {
        crate::people::signin::employ(desk, name.clone(), email.clone(), role, password).await?;
    }
    desk.store
        .write(move |tx| {
            if role == Role::Host {
                let id = places::host_named(tx, &host)?;
                let person = people::by_email(tx, &email)?.ok_or(DeskError::NotFound)?.0.id;
                let all = places::hosts(tx)?;
                let known = all.into_iter().find(|h| h.id == id).ok_or(DeskError::NotFound)?;
                places::save_host(tx, &Host { person: Some(person), ..known })?;
            }
            let what = format!("made {name} {}", role.word());
            matricle_store::audit::note(tx, &turn.by.name, &what, "", turn.now)?;
            turn.log(tx, &what, "/office/house/people")
        })
        .await
}

/// Takes a person's role away; their sessions end.
///
/// # Errors
/// [`DeskError::NotFound`] for oneself; the role may not.
pub async fn take_role(desk: &Desk, staff: &Staff, person: PersonId) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::GiveRoles)?;
    if person == staff.id {
        return Err(DeskError::NotFound);
    }
    desk.store
        .write(move |tx| {
            let name = people::take_role(tx, person)?.ok_or(DeskError::NotFound)?;
            let what = format!("took the role of {name} away");
            matricle_store::audit::note(tx, &turn.by.name, &what, "", turn.now)?;
            turn.log(tx, &what, "/office/house/people")
        })
        .await?;
    desk.sessions.forget();
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn origins() {
        assert!(is_origin("https://club.example:8443") && is_origin("http://127.0.0.1:9"));
        for bad in ["club.example", "https://", "https://a.example/path", "https://a b", "*"] {
            assert!(!is_origin(bad), "{bad}");
        }
    }
}
