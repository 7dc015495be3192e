//! Bookers who have to be told by telephone, because they gave no address.

use jiff::Timestamp;
use matricle_core::{BookingId, EventId};
use rusqlite::Connection;

use crate::convert::InOrder;
use crate::outbox::Kind;
use crate::{Doing, StoreError, Tx, us};

/// Somebody to ring.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ring {
    /// Its key.
    pub id: i64,
    /// The booking's reference, as stored.
    pub reference: String,
    /// The booker.
    pub name: String,
    /// Their number; may be empty.
    pub phone: String,
    /// What it is about.
    pub kind: String,
    /// What there is to say.
    pub note: String,
    /// When they were rung, and who rang.
    pub rung: Option<(Timestamp, String)>,
}

/// Puts a booker on the list of those to ring. What they were to hear before and have not, they
/// need not hear any more.
///
/// # Errors
/// SQLite refuses.
pub fn plan(
    tx: &Tx<'_>,
    booking: BookingId,
    kind: Kind,
    note: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    withdraw(tx, booking)?;
    tx.prepare_cached("INSERT INTO rings (booking_id, kind, note, made_at) VALUES (?1, ?2, ?3, ?4)")
        .and_then(|mut q| q.execute((booking.0, kind.word(), note, us(now))))
        .map(drop)
        .doing("noting whom to ring")
}

/// Takes a booker off the list whose news is not true any more.
///
/// # Errors
/// SQLite refuses.
pub fn withdraw(tx: &Tx<'_>, booking: BookingId) -> Result<(), StoreError> {
    tx.prepare_cached("DELETE FROM rings WHERE booking_id = ?1 AND rung_at IS NULL")
        .and_then(|mut q| q.execute([booking.0]))
        .map(drop)
        .doing("taking a ring back")
}

/// Whom to ring about an event, or was rung; those who wait first.
///
/// # Errors
/// SQLite refuses.
pub fn of_event(conn: &Connection, event: EventId) -> Result<Vec<Ring>, StoreError> {
    conn.prepare_cached(
        "SELECT r.id, b.reference, b.name, b.phone, r.kind, r.note, r.rung_at, r.rung_by
         FROM rings r JOIN bookings b ON b.id = r.booking_id JOIN dates d ON d.id = b.date_id
         WHERE d.event_id = ?1 AND b.test = 0 ORDER BY r.rung_at IS NOT NULL, r.id DESC",
    )
    .and_then(|mut q| {
        q.query_map([event.0], |row| {
            let mut c = InOrder::from(row, 0);
            Ok(Ring {
                id: c.next()?,
                reference: c.next()?,
                name: c.next()?,
                phone: c.next()?,
                kind: c.next()?,
                note: c.next()?,
                rung: c.instant_or()?.zip(Some(c.next()?)),
            })
        })?
        .collect()
    })
    .doing("reading whom to ring")
}

/// Somebody of an event was rung. Whether they were still to be.
///
/// # Errors
/// SQLite refuses.
pub fn rung(
    tx: &Tx<'_>,
    event: EventId,
    id: i64,
    who: &str,
    now: Timestamp,
) -> Result<bool, StoreError> {
    tx.prepare_cached(
        "UPDATE rings SET rung_at = ?4, rung_by = ?3 WHERE id = ?2 AND rung_at IS NULL AND booking_id IN
            (SELECT b.id FROM bookings b JOIN dates d ON d.id = b.date_id WHERE d.event_id = ?1)",
    )
    .and_then(|mut q| q.execute((event.0, id, who, us(now))))
    .map(|n| n == 1)
    .doing("noting that somebody was rung")
}

/// Events with bookers who are still to be rung: key, title, how many.
///
/// # Errors
/// SQLite refuses.
pub fn waiting(conn: &Connection) -> Result<Vec<(EventId, String, u32)>, StoreError> {
    conn.prepare_cached(
        "SELECT e.id, e.title, count(*) FROM rings r JOIN bookings b ON b.id = r.booking_id
         JOIN dates d ON d.id = b.date_id JOIN events e ON e.id = d.event_id
         WHERE r.rung_at IS NULL AND b.test = 0 GROUP BY e.id ORDER BY min(r.id)",
    )
    .and_then(|mut q| {
        q.query_map([], |row| Ok((EventId(row.get(0)?), row.get(1)?, row.get(2)?)))?.collect()
    })
    .doing("counting whom to ring")
}
