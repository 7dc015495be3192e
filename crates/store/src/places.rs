//! What events are made of: venues, rooms, hosts, tags, tax rates, opening hours. And the
//! log of who changed what.

use jiff::{Timestamp, civil};
use matricle_core::dates::recurrence::WEEK;
use matricle_core::dates::slots::Opening;
use matricle_core::{HostId, PersonId, RoomId, TagId, TaxRateId, VenueId};
use rusqlite::{Connection, Row};

use crate::convert::{foreign, instant, instant_or};
use crate::{Doing, StoreError, Tx, us};

/// A place with an address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Venue {
    /// Its key; zero for one that is not written down yet.
    pub id: VenueId,
    /// Its name.
    pub name: String,
    /// Its address.
    pub address: String,
    /// How to get there.
    pub directions: String,
    /// Reached without steps.
    pub accessible: bool,
    /// No longer offered for new dates since then.
    pub retired_at: Option<Timestamp>,
}

/// A room of a venue.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Room {
    /// Its key; zero for one that is not written down yet.
    pub id: RoomId,
    /// The venue.
    pub venue: VenueId,
    /// Its name.
    pub name: String,
    /// How many it seats, if somebody counted.
    pub seats: Option<u32>,
    /// Reached without steps.
    pub accessible: bool,
    /// No longer offered for new dates since then.
    pub retired_at: Option<Timestamp>,
}

/// Somebody who leads dates.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Host {
    /// Their key; zero for one that is not written down yet.
    pub id: HostId,
    /// Their name.
    pub name: String,
    /// A line about them.
    pub about: String,
    /// The person who signs in as this host.
    pub person: Option<PersonId>,
    /// No longer offered for new dates since then.
    pub retired_at: Option<Timestamp>,
}

/// A tag of events.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tag {
    /// Its key; zero for one that is not written down yet.
    pub id: TagId,
    /// Its name.
    pub name: String,
    /// Its word in addresses.
    pub slug: String,
    /// What it stands for.
    pub description: String,
    /// No longer offered since then.
    pub retired_at: Option<Timestamp>,
}

/// A tax rate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TaxRate {
    /// Its key; zero for one that is not written down yet.
    pub id: TaxRateId,
    /// Its name.
    pub name: String,
    /// Hundredths of a percent.
    pub basis: u32,
    /// It comes on top of prices instead of being contained in them.
    pub added: bool,
    /// No longer offered since then.
    pub retired_at: Option<Timestamp>,
}

/// One line of the log of changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// When.
    pub at: Timestamp,
    /// Who did it.
    pub who: String,
    /// What it was.
    pub what: String,
    /// The address of the page about it.
    pub about: String,
    /// The title of the event it is about; empty for the house.
    pub title: String,
}

/// What can be retired: no longer offered, still on what was made with it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
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

impl Kind {
    const fn table(self) -> &'static str {
        match self {
            Self::Venue => "venues",
            Self::Room => "rooms",
            Self::Host => "hosts",
            Self::Tag => "tags",
            Self::TaxRate => "tax_rates",
        }
    }
}

/// The key of the venue of this name; made with the address when there is none.
pub(crate) fn venue(
    tx: &Tx<'_>,
    name: &str,
    address: &str,
    directions: &str,
) -> rusqlite::Result<i64> {
    tx.prepare_cached(
        "INSERT INTO venues (name, address, directions) VALUES (?1, ?2, ?3)
         ON CONFLICT (name) DO UPDATE SET name = name RETURNING id",
    )?
    .query_row((name, address, directions), |row| row.get(0))
}

/// The key of the room of this name in a venue; made when there is none. No name is no room.
pub(crate) fn room(tx: &Tx<'_>, venue: i64, name: &str) -> rusqlite::Result<Option<i64>> {
    if name.is_empty() {
        return Ok(None);
    }
    tx.prepare_cached(
        "INSERT INTO rooms (venue_id, name) VALUES (?1, ?2)
         ON CONFLICT (venue_id, name) DO UPDATE SET name = name RETURNING id",
    )?
    .query_row((venue, name), |row| row.get(0))
    .map(Some)
}

/// The key of the host of this name; made when there is none.
pub(crate) fn host(tx: &Tx<'_>, name: &str) -> rusqlite::Result<i64> {
    tx.prepare_cached(
        "INSERT INTO hosts (name) VALUES (?1) ON CONFLICT (name) DO UPDATE SET name = name RETURNING id",
    )?
    .query_row([name], |row| row.get(0))
}

/// Finds or makes a venue by its name.
pub fn venue_named(tx: &Tx<'_>, name: &str) -> Result<VenueId, StoreError> {
    venue(tx, name, "", "").map(VenueId).doing("making a venue")
}

/// Finds or makes a room by its name.
pub fn room_named(tx: &Tx<'_>, venue: VenueId, name: &str) -> Result<Option<RoomId>, StoreError> {
    room(tx, venue.0, name).map(|id| id.map(RoomId)).doing("making a room")
}

/// Finds or makes a host by their name.
pub fn host_named(tx: &Tx<'_>, name: &str) -> Result<HostId, StoreError> {
    host(tx, name).map(HostId).doing("making a host")
}

fn all<T>(
    conn: &Connection,
    sql: &str,
    read: impl Fn(&Row<'_>) -> rusqlite::Result<T>,
) -> Result<Vec<T>, StoreError> {
    conn.prepare_cached(sql)
        .and_then(|mut q| q.query_map([], |row| read(row))?.collect())
        .doing("reading the house")
}

/// All venues by name, those in use first.
pub fn venues(conn: &Connection) -> Result<Vec<Venue>, StoreError> {
    all(
        conn,
        "SELECT id, name, address, directions, accessible, retired_at FROM venues
         ORDER BY retired_at IS NOT NULL, name",
        |row| {
            Ok(Venue {
                id: VenueId(row.get("id")?),
                name: row.get("name")?,
                address: row.get("address")?,
                directions: row.get("directions")?,
                accessible: row.get("accessible")?,
                retired_at: instant_or(row, "retired_at")?,
            })
        },
    )
}

/// All rooms, by venue and name.
pub fn rooms(conn: &Connection) -> Result<Vec<Room>, StoreError> {
    all(
        conn,
        "SELECT r.id, r.venue_id, r.name, r.seats, r.accessible, r.retired_at FROM rooms r
         JOIN venues v ON v.id = r.venue_id ORDER BY r.retired_at IS NOT NULL, v.name, r.name",
        |row| {
            Ok(Room {
                id: RoomId(row.get("id")?),
                venue: VenueId(row.get("venue_id")?),
                name: row.get("name")?,
                seats: row.get("seats")?,
                accessible: row.get("accessible")?,
                retired_at: instant_or(row, "retired_at")?,
            })
        },
    )
}

/// All hosts by name, those in use first.
pub fn hosts(conn: &Connection) -> Result<Vec<Host>, StoreError> {
    all(
        conn,
        "SELECT id, name, about, person_id, retired_at FROM hosts ORDER BY retired_at IS NOT NULL, name",
        |row| {
            Ok(Host {
                id: HostId(row.get("id")?),
                name: row.get("name")?,
                about: row.get("about")?,
                person: row.get::<_, Option<i64>>("person_id")?.map(PersonId),
                retired_at: instant_or(row, "retired_at")?,
            })
        },
    )
}

/// All tags by name, those in use first.
pub fn tags(conn: &Connection) -> Result<Vec<Tag>, StoreError> {
    all(
        conn,
        "SELECT id, name, slug, description, retired_at FROM tags ORDER BY retired_at IS NOT NULL, name",
        |row| {
            Ok(Tag {
                id: TagId(row.get("id")?),
                name: row.get("name")?,
                slug: row.get("slug")?,
                description: row.get("description")?,
                retired_at: instant_or(row, "retired_at")?,
            })
        },
    )
}

/// All tax rates by name, those in use first.
pub fn tax_rates(conn: &Connection) -> Result<Vec<TaxRate>, StoreError> {
    all(
        conn,
        "SELECT id, name, basis, added, retired_at FROM tax_rates ORDER BY retired_at IS NOT NULL, name",
        |row| {
            Ok(TaxRate {
                id: TaxRateId(row.get("id")?),
                name: row.get("name")?,
                basis: row.get("basis")?,
                added: row.get("added")?,
                retired_at: instant_or(row, "retired_at")?,
            })
        },
    )
}

/// Writes a venue down; gives its key.
///
/// # Errors
/// SQLite refuses, for instance because another has the name.
pub fn save_venue(tx: &Tx<'_>, v: &Venue) -> Result<i64, StoreError> {
    tx.query_row(
        "INSERT INTO venues (id, name, address, directions, accessible)
         VALUES (nullif(?1, 0), ?2, ?3, ?4, ?5)
         ON CONFLICT (id) DO UPDATE SET name = ?2, address = ?3, directions = ?4, accessible = ?5
         RETURNING id",
        (v.id.0, &v.name, &v.address, &v.directions, v.accessible),
        |row| row.get(0),
    )
    .doing("writing a venue")
}

/// Writes a room down; gives its key.
///
/// # Errors
/// SQLite refuses, for instance because another room of the venue has the name.
pub fn save_room(tx: &Tx<'_>, r: &Room) -> Result<i64, StoreError> {
    tx.query_row(
        "INSERT INTO rooms (id, venue_id, name, seats, accessible) VALUES (nullif(?1, 0), ?2, ?3, ?4, ?5)
         ON CONFLICT (id) DO UPDATE SET name = ?3, seats = ?4, accessible = ?5 RETURNING id",
        (r.id.0, r.venue.0, &r.name, r.seats, r.accessible),
        |row| row.get(0),
    )
    .doing("writing a room")
}

/// Writes a host down; gives their key.
///
/// # Errors
/// SQLite refuses, for instance because another has the name.
pub fn save_host(tx: &Tx<'_>, h: &Host) -> Result<i64, StoreError> {
    tx.query_row(
        "INSERT INTO hosts (id, name, about, person_id) VALUES (nullif(?1, 0), ?2, ?3, ?4)
         ON CONFLICT (id) DO UPDATE SET name = ?2, about = ?3, person_id = ?4 RETURNING id",
        (h.id.0, &h.name, &h.about, h.person.map(|p| p.0)),
        |row| row.get(0),
    )
    .doing("writing a host")
}

/// Makes one venue of two: what was at `from` is at `into` from now on, and `from` is gone. Rooms
/// of one name become one. Gives how many dates went along.
pub fn join_venues(tx: &Tx<'_>, from: VenueId, into: VenueId) -> Result<usize, StoreError> {
    let all = rooms(tx)?;
    let join = || {
        for room in all.iter().filter(|r| r.venue == from) {
            let Some(same) = all.iter().find(|r| r.venue == into && r.name == room.name) else {
                let move_room = "UPDATE rooms SET venue_id = ?2 WHERE id = ?1";
                tx.execute(move_room, (room.id.0, into.0))?;
                continue;
            };
            for table in ["dates", "date_sessions", "slot_plans", "doors"] {
                let to_same = format!("UPDATE {table} SET room_id = ?2 WHERE room_id = ?1");
                tx.execute(&to_same, (room.id.0, same.id.0))?;
            }
            tx.execute("DELETE FROM rooms WHERE id = ?1", [room.id.0])?;
        }
        tx.execute("UPDATE slot_plans SET venue_id = ?2 WHERE venue_id = ?1", (from.0, into.0))?;
        let dates =
            tx.execute("UPDATE dates SET venue_id = ?2 WHERE venue_id = ?1", (from.0, into.0))?;
        tx.execute("DELETE FROM venues WHERE id = ?1", [from.0])?;
        Ok(dates)
    };
    join().doing("joining two venues")
}

/// Writes a tag down; gives its key. Its word in addresses stays as it was first.
///
/// # Errors
/// SQLite refuses, for instance because another has the name.
pub fn save_tag(tx: &Tx<'_>, t: &Tag) -> Result<i64, StoreError> {
    tx.query_row(
        "INSERT INTO tags (id, name, slug, description) VALUES (nullif(?1, 0), ?2, ?3, ?4)
         ON CONFLICT (id) DO UPDATE SET name = ?2, description = ?4 RETURNING id",
        (t.id.0, &t.name, &t.slug, &t.description),
        |row| row.get(0),
    )
    .doing("writing a tag")
}

/// Writes a tax rate down; gives its key. Quotes made before keep their amounts.
///
/// # Errors
/// SQLite refuses, for instance because another has the name.
pub fn save_tax_rate(tx: &Tx<'_>, t: &TaxRate) -> Result<i64, StoreError> {
    tx.query_row(
        "INSERT INTO tax_rates (id, name, basis, added) VALUES (nullif(?1, 0), ?2, ?3, ?4)
         ON CONFLICT (id) DO UPDATE SET name = ?2, basis = ?3, added = ?4 RETURNING id",
        (t.id.0, &t.name, t.basis, t.added),
        |row| row.get(0),
    )
    .doing("writing a tax rate")
}

/// Retires something, or offers it again.
pub fn retire(tx: &Tx<'_>, kind: Kind, id: i64, at: Option<Timestamp>) -> Result<(), StoreError> {
    tx.execute(
        &format!("UPDATE {} SET retired_at = ?2 WHERE id = ?1", kind.table()),
        (id, at.map(us)),
    )
    .map(drop)
    .doing("retiring")
}

/// The opening hours, by day and time.
pub fn opening_hours(conn: &Connection) -> Result<Vec<Opening>, StoreError> {
    all(conn, "SELECT weekday, opens, closes FROM opening_hours ORDER BY weekday, opens", |row| {
        let time = |column: &'static str| -> rusqlite::Result<civil::Time> {
            let text: String = row.get(column)?;
            text.parse().map_err(|_| foreign(column, text))
        };
        let day: i64 = row.get("weekday")?;
        let index = usize::try_from(day - 1).unwrap_or(0).min(6);
        Ok(Opening { weekday: WEEK[index], opens: time("opens")?, closes: time("closes")? })
    })
}

/// Writes the opening hours, in the place of those before.
pub fn set_opening_hours(tx: &Tx<'_>, hours: &[Opening]) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        tx.execute("DELETE FROM opening_hours", [])?;
        for h in hours {
            tx.execute(
                "INSERT INTO opening_hours (weekday, opens, closes) VALUES (?1, ?2, ?3)",
                (
                    i64::from(h.weekday.to_monday_one_offset()),
                    h.opens.strftime("%H:%M").to_string(),
                    h.closes.strftime("%H:%M").to_string(),
                ),
            )?;
        }
        Ok(())
    };
    write().doing("writing opening hours")
}

/// Days on which the house is closed, and why, from a day on.
pub fn closed_days(
    conn: &Connection,
    from: civil::Date,
) -> Result<Vec<(civil::Date, String)>, StoreError> {
    conn.prepare_cached("SELECT day, why FROM closed_days WHERE day >= ?1 ORDER BY day")
        .and_then(|mut q| {
            q.query_map([from.to_string()], |row| {
                let day: String = row.get(0)?;
                Ok((day.parse().map_err(|_| foreign("closed_days.day", day))?, row.get(1)?))
            })?
            .collect()
        })
        .doing("reading closed days")
}

/// Closes a day, or with no reason opens it again.
pub fn close_day(tx: &Tx<'_>, day: civil::Date, why: Option<&str>) -> Result<(), StoreError> {
    match why {
        Some(why) => tx.execute(
            "INSERT INTO closed_days (day, why) VALUES (?1, ?2) ON CONFLICT (day) DO UPDATE SET why = ?2",
            (day.to_string(), why),
        ),
        None => tx.execute("DELETE FROM closed_days WHERE day = ?1", [day.to_string()]),
    }
    .map(drop)
    .doing("closing a day")
}

/// Adds to the log of changes.
pub fn log(
    tx: &Tx<'_>,
    now: Timestamp,
    who: &str,
    what: &str,
    about: &str,
) -> Result<(), StoreError> {
    tx.execute(
        "INSERT INTO changes (at, who, what, about) VALUES (?1, ?2, ?3, ?4)",
        (us(now), who, what, about),
    )
    .map(drop)
    .doing("adding to the log of changes")
}

/// The latest changes, of the whole house or of what one page is about; `skip` leaves so many out.
pub fn changes(
    conn: &Connection,
    about: Option<&str>,
    skip: u32,
    most: u32,
) -> Result<Vec<Change>, StoreError> {
    conn.prepare_cached(
        "SELECT c.at, c.who, c.what, c.about, coalesce(e.title, '') AS title FROM changes c
         LEFT JOIN events e ON c.about = '/office/events/' || e.id
         WHERE ?1 IS NULL OR c.about = ?1 ORDER BY c.id DESC LIMIT ?3 OFFSET ?2",
    )
    .and_then(|mut q| {
        q.query_map((about, skip, most), |row| {
            Ok(Change {
                at: instant(row, "at")?,
                who: row.get("who")?,
                what: row.get("what")?,
                about: row.get("about")?,
                title: row.get("title")?,
            })
        })?
        .collect()
    })
    .doing("reading the log of changes")
}

/// How many changes were written down in all.
pub fn count_changes(conn: &Connection) -> Result<u32, StoreError> {
    conn.prepare_cached("SELECT count(*) FROM changes")
        .and_then(|mut q| q.query_row([], |row| row.get(0)))
        .doing("counting changes")
}
