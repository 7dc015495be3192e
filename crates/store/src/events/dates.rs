//! Dates: their times and places, their seats, and lists of them.

use jiff::Timestamp;
use matricle_core::dates::schedule::Span;
use matricle_core::seats::{Pool, Taken};
use matricle_core::{DateId, EventId, PoolId, RoomId, VenueId};
use rusqlite::{Connection, OptionalExtension, Row, named_params};

use crate::convert::InOrder;
use crate::events::event::{EVENT_COLUMNS, EVENT_WIDTH, Event, event};
use crate::events::new::NewOnline;
use crate::states::sql_of;
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

pub(crate) const DATE_COLUMNS: &str = "d.id, d.event_id, d.starts, d.ends, d.zone, d.starts_at, d.ends_at, \
     d.venue_id, v.name, v.address, v.directions, d.room_id, \
     coalesce((SELECT r.name FROM rooms r WHERE r.id = d.room_id), ''), \
     coalesce((SELECT group_concat(h.name, ', ') FROM date_hosts dh JOIN hosts h ON h.id = dh.host_id \
        WHERE dh.date_id = d.id), ''), \
     d.called_off, d.sequence, d.setup_minutes, d.clearup_minutes, d.run_id, d.changed_at";

/// How many columns that is.
pub(crate) const DATE_WIDTH: usize = 20;

/// When a date is, from its five columns: starts, ends, zone, and the two instants.
pub(crate) fn span_of(c: &mut InOrder<'_, '_>) -> rusqlite::Result<Span> {
    Ok(Span {
        starts: c.word("dates.starts", |text| text.parse().ok())?,
        ends: c.word("dates.ends", |text| text.parse().ok())?,
        zone: c.next()?,
        starts_at: c.instant()?,
        ends_at: c.instant()?,
    })
}

/// When something is, from the first five columns of a row.
pub(crate) fn span(row: &Row<'_>) -> rusqlite::Result<Span> {
    span_of(&mut InOrder::from(row, 0))
}

/// A date whose columns begin at one of a row.
pub(crate) fn date_at(row: &Row<'_>, first: usize) -> rusqlite::Result<Date> {
    let mut c = InOrder::from(row, first);
    Ok(Date {
        id: DateId(c.next()?),
        event: EventId(c.next()?),
        span: span_of(&mut c)?,
        venue_id: VenueId(c.next()?),
        venue: c.next()?,
        address: c.next()?,
        directions: c.next()?,
        room_id: c.next::<Option<i64>>()?.map(RoomId),
        room: c.next()?,
        hosts: c.next()?,
        called_off: c.next()?,
        sequence: c.next()?,
        margins: (c.next()?, c.next()?),
        run: c.next()?,
        changed_at: c.instant_or()?,
    })
}

/// A pool whose columns begin at one of a row.
pub(crate) fn pool_at(row: &Row<'_>, first: usize) -> rusqlite::Result<Pool> {
    let mut c = InOrder::from(row, first);
    let (id, name, capacity) = (PoolId(c.next()?), c.next()?, c.next()?);
    let (held, stale): (u32, u32) = (c.next()?, c.next()?);
    Ok(Pool {
        id,
        name,
        capacity,
        taken: Taken {
            held: held.saturating_sub(stale),
            requested: c.next()?,
            awaiting_payment: c.next()?,
            confirmed: c.next()?,
        },
    })
}

// `stale` are holds past their deadline that no timer has swept out yet: they are free.
// Asked only where something is held, since most dates of a long list hold nothing.
// A room is the ceiling of the first pool in it.
pub(crate) const POOL_COLUMNS: &str = "p.id, k.name, \
     CASE WHEN k.position > 0 THEN p.capacity ELSE min(p.capacity, coalesce((SELECT r.seats FROM dates dr \
        JOIN rooms r ON r.id = dr.room_id WHERE dr.id = p.date_id), p.capacity)) END, p.held, \
     CASE WHEN p.held = 0 THEN 0 ELSE (SELECT coalesce(sum(bd.seats), 0) \
     FROM bookings b JOIN booking_draws bd ON bd.booking_id = b.id AND bd.pool_id = p.id \
     WHERE b.state = {Held} AND b.deadline <= :now) END, p.requested, p.awaiting_payment, p.confirmed";

/// The dates of an event, in their order.
pub fn dates_of(conn: &Connection, event: EventId) -> Result<Vec<Date>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {DATE_COLUMNS} FROM dates d JOIN venues v ON v.id = d.venue_id
         WHERE d.event_id = ?1 ORDER BY d.starts_at, d.id"
    ))
    .and_then(|mut q| q.query_map([event.0], |row| date_at(row, 0))?.collect())
    .doing("reading dates")
}

/// A date with its event.
pub fn date_by_id(conn: &Connection, id: DateId) -> Result<Option<(Event, Date)>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {EVENT_COLUMNS}, {DATE_COLUMNS} FROM dates d
         JOIN events e ON e.id = d.event_id JOIN venues v ON v.id = d.venue_id WHERE d.id = ?1"
    ))
    .and_then(|mut q| {
        q.query_row([id.0], |row| Ok((event(row)?, date_at(row, EVENT_WIDTH)?))).optional()
    })
    .doing("looking a date up")
}

/// A date of an event that begins at this instant and takes place, other than one.
pub fn that_begins(
    conn: &Connection,
    event: EventId,
    starts_at: Timestamp,
    but: DateId,
) -> Result<Option<DateId>, StoreError> {
    conn.prepare_cached(
        "SELECT id FROM dates
         WHERE event_id = ?1 AND starts_at = ?2 AND id <> ?3 AND called_off = '' LIMIT 1",
    )
    .and_then(|mut q| {
        q.query_row((event.0, us(starts_at), but.0), |row| row.get(0).map(DateId)).optional()
    })
    .doing("looking for the same date")
}

/// The pools of a date, in the order of the event's kinds.
pub fn pools(conn: &Connection, date: DateId, now: Timestamp) -> Result<Vec<Pool>, StoreError> {
    conn.prepare_cached(&sql_of!(
        "SELECT {POOL_COLUMNS} FROM pools p JOIN pool_kinds k ON k.id = p.kind_id
         WHERE p.date_id = :date ORDER BY k.position"
    ))
    .and_then(|mut q| {
        q.query_map(named_params! { ":date": date.0, ":now": us(now) }, |row| pool_at(row, 0))?
            .collect()
    })
    .doing("reading pools")
}

/// The capacities that were given to the pools of a date, whatever its room seats.
pub fn capacities(conn: &Connection, date: DateId) -> Result<Vec<u32>, StoreError> {
    conn.prepare_cached(
        "SELECT p.capacity FROM pools p JOIN pool_kinds k ON k.id = p.kind_id
         WHERE p.date_id = ?1 ORDER BY k.position",
    )
    .and_then(|mut q| q.query_map([date.0], |row| row.get(0))?.collect())
    .doing("reading capacities")
}

/// People who are in.
pub fn inside(conn: &Connection, date: DateId) -> Result<u32, StoreError> {
    conn.prepare_cached("SELECT inside FROM dates WHERE id = ?1")
        .and_then(|mut q| q.query_row([date.0], |row| row.get(0)))
        .doing("counting who is in")
}

/// The longest date, in microseconds: nothing that starts longer ago is still on.
pub fn longest(conn: &Connection) -> Result<i64, StoreError> {
    conn.prepare_cached("SELECT max(ends_at - starts_at) FROM dates")
        .and_then(|mut q| q.query_row([], |row| row.get::<_, Option<i64>>(0)))
        .map(Option::unwrap_or_default)
        .doing("looking for the longest date")
}

/// How a date happens online, as far as another may happen like it; nothing where nothing was said.
pub(crate) fn online_of(conn: &Connection, date: DateId) -> Result<Option<NewOnline>, StoreError> {
    conn.prepare_cached(
        "SELECT room, opens_minutes, straight_in, may_speak, recorded, in_mails, prepare, audience
         FROM online_dates WHERE date_id = ?1",
    )
    .and_then(|mut q| {
        q.query_row([date.0], |row| {
            let mut c = InOrder::from(row, 0);
            Ok(NewOnline {
                room: c.next()?,
                opens_minutes: c.next()?,
                can: (c.next()?, c.next()?, c.next()?, c.next()?),
                prepare: c.next()?,
                audience: c.next()?,
            })
        })
        .optional()
    })
    .doing("reading how a date happens online")
}

/// How the latest date of an event happens online.
pub fn latest_online(conn: &Connection, event: EventId) -> Result<Option<NewOnline>, StoreError> {
    match dates_of(conn, event)?.last() {
        Some(date) => online_of(conn, date.id),
        None => Ok(None),
    }
}
