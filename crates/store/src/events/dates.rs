//! Dates: their times and places, their seats, and lists of them.

use jiff::{Timestamp, civil};
use matricle_core::schedule::Span;
use matricle_core::seats::{Pool, Taken};
use matricle_core::{DateId, EventId, PoolId, RoomId, VenueId};
use rusqlite::{Connection, OptionalExtension, Row, named_params};

use crate::convert::{foreign, instant, instant_or};
use crate::events::event::{EVENT_COLUMNS, Event, event};
use crate::{Doing, StoreError, us};

/// One happening of an event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Date {
    /// Its key.
    pub id: DateId,
    /// The event.
    pub event: EventId,
    /// When.
    pub span: Span,
    /// The venue's key.
    pub venue_id: VenueId,
    /// Where: the venue's name.
    pub venue: String,
    /// Its address.
    pub address: String,
    /// How to get there; may be empty.
    pub directions: String,
    /// The room's key.
    pub room_id: Option<RoomId>,
    /// The room; may be empty.
    pub room: String,
    /// Who leads it; may be empty.
    pub hosts: String,
    /// Why it will not happen; empty while it will.
    pub called_off: String,
    /// Counts the changes that calendars must follow.
    pub sequence: u32,
    /// Minutes to set up before, and to clear up after.
    pub margins: (u32, u32),
    /// The run it belongs to.
    pub run: Option<i64>,
    /// When its time, place or hosts last changed, or it was called off; `None` for never.
    pub changed_at: Option<Timestamp>,
}

impl Date {
    /// Venue and room on one line.
    #[must_use]
    pub fn place(&self) -> String {
        if self.room.is_empty() {
            self.venue.clone()
        } else {
            format!("{}, {}", self.venue, self.room)
        }
    }
}

pub(crate) const DATE_COLUMNS: &str = "d.id AS d_id, d.event_id, d.starts, d.ends, d.zone, d.starts_at, d.ends_at, \
     d.venue_id, d.room_id, d.called_off AS d_called_off, d.sequence, d.setup_minutes, d.clearup_minutes, d.run_id, \
     d.changed_at AS d_changed_at, \
     v.name AS venue, v.address, v.directions, \
     coalesce((SELECT r.name FROM rooms r WHERE r.id = d.room_id), '') AS room, \
     coalesce((SELECT group_concat(h.name, ', ') FROM date_hosts dh JOIN hosts h ON h.id = dh.host_id \
        WHERE dh.date_id = d.id), '') AS hosts";

fn civil_time(row: &Row<'_>, column: &'static str) -> rusqlite::Result<civil::DateTime> {
    let text: String = row.get(column)?;
    text.parse().map_err(|_| foreign(column, text))
}

/// When a date is, from its five columns.
pub(crate) fn span(row: &Row<'_>) -> rusqlite::Result<Span> {
    Ok(Span {
        starts: civil_time(row, "starts")?,
        ends: civil_time(row, "ends")?,
        zone: row.get("zone")?,
        starts_at: instant(row, "starts_at")?,
        ends_at: instant(row, "ends_at")?,
    })
}

pub(crate) fn date(row: &Row<'_>) -> rusqlite::Result<Date> {
    Ok(Date {
        id: DateId(row.get("d_id")?),
        event: EventId(row.get("event_id")?),
        span: span(row)?,
        venue_id: VenueId(row.get("venue_id")?),
        venue: row.get("venue")?,
        address: row.get("address")?,
        directions: row.get("directions")?,
        room_id: row.get::<_, Option<i64>>("room_id")?.map(RoomId),
        room: row.get("room")?,
        hosts: row.get("hosts")?,
        called_off: row.get("d_called_off")?,
        sequence: row.get("sequence")?,
        margins: (row.get("setup_minutes")?, row.get("clearup_minutes")?),
        run: row.get("run_id")?,
        changed_at: instant_or(row, "d_changed_at")?,
    })
}

pub(crate) fn pool(row: &Row<'_>) -> rusqlite::Result<Pool> {
    let held: u32 = row.get("held")?;
    Ok(Pool {
        id: PoolId(row.get("p_id")?),
        name: row.get("p_name")?,
        capacity: row.get("capacity")?,
        taken: Taken {
            held: held.saturating_sub(row.get("stale")?),
            requested: row.get("requested")?,
            awaiting_payment: row.get("awaiting_payment")?,
            confirmed: row.get("confirmed")?,
        },
    })
}

// `stale` are holds past their deadline that no timer has swept out yet: they are free.
// Asked only where something is held, since most dates of a long list hold nothing.
// A room is the ceiling of the first pool in it.
pub(crate) const POOL_COLUMNS: &str = "p.id AS p_id, k.name AS p_name, \
     CASE WHEN k.position > 0 THEN p.capacity ELSE min(p.capacity, coalesce((SELECT r.seats FROM dates dr \
        JOIN rooms r ON r.id = dr.room_id WHERE dr.id = p.date_id), p.capacity)) END AS capacity, p.held, p.requested, \
     p.awaiting_payment, p.confirmed, CASE WHEN p.held = 0 THEN 0 ELSE (SELECT coalesce(sum(bd.seats), 0) \
     FROM bookings b JOIN booking_draws bd ON bd.booking_id = b.id AND bd.pool_id = p.id \
     WHERE b.state = 'held' AND b.deadline <= :now) END AS stale";

/// The dates of an event, in their order.
///
/// # Errors
/// SQLite refuses.
pub fn dates_of(conn: &Connection, event: EventId) -> Result<Vec<Date>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {DATE_COLUMNS} FROM dates d JOIN venues v ON v.id = d.venue_id
         WHERE d.event_id = ?1 ORDER BY d.starts_at, d.id"
    ))
    .and_then(|mut q| q.query_map([event.0], date)?.collect())
    .doing("reading dates")
}

/// A date with its event.
///
/// # Errors
/// SQLite refuses.
pub fn date_by_id(conn: &Connection, id: DateId) -> Result<Option<(Event, Date)>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {EVENT_COLUMNS}, {DATE_COLUMNS} FROM dates d
         JOIN events e ON e.id = d.event_id JOIN venues v ON v.id = d.venue_id WHERE d.id = ?1"
    ))
    .and_then(|mut q| q.query_row([id.0], |row| Ok((event(row)?, date(row)?))).optional())
    .doing("looking a date up")
}

/// The pools of a date, in the order of the event's kinds.
///
/// # Errors
/// SQLite refuses.
pub fn pools(conn: &Connection, date: DateId, now: Timestamp) -> Result<Vec<Pool>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {POOL_COLUMNS} FROM pools p JOIN pool_kinds k ON k.id = p.kind_id
         WHERE p.date_id = :date ORDER BY k.position"
    ))
    .and_then(|mut q| {
        q.query_map(named_params! { ":date": date.0, ":now": us(now) }, pool)?.collect()
    })
    .doing("reading pools")
}

/// The capacities that were given to the pools of a date, whatever its room seats.
///
/// # Errors
/// SQLite refuses.
pub fn capacities(conn: &Connection, date: DateId) -> Result<Vec<u32>, StoreError> {
    conn.prepare_cached(
        "SELECT p.capacity FROM pools p JOIN pool_kinds k ON k.id = p.kind_id
         WHERE p.date_id = ?1 ORDER BY k.position",
    )
    .and_then(|mut q| q.query_map([date.0], |row| row.get(0))?.collect())
    .doing("reading capacities")
}

/// People who are in.
///
/// # Errors
/// SQLite refuses.
pub fn inside(conn: &Connection, date: DateId) -> Result<u32, StoreError> {
    conn.prepare_cached("SELECT inside FROM dates WHERE id = ?1")
        .and_then(|mut q| q.query_row([date.0], |row| row.get(0)))
        .doing("counting who is in")
}

/// The longest date, in microseconds: nothing that starts longer ago is still on.
///
/// # Errors
/// SQLite refuses.
pub fn longest(conn: &Connection) -> Result<i64, StoreError> {
    conn.prepare_cached("SELECT max(ends_at - starts_at) FROM dates")
        .and_then(|mut q| q.query_row([], |row| row.get::<_, Option<i64>>(0)))
        .map(Option::unwrap_or_default)
        .doing("looking for the longest date")
}
