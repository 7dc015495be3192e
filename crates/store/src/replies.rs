//! Replies to invitations.

use std::collections::{HashMap, HashSet};

use jiff::Timestamp;
use matricle_core::messages::replies::{Replied, Reply};
use matricle_core::{BookingId, EventId};
use rusqlite::{Connection, OptionalExtension};

use crate::convert::InOrder;
use crate::states::sql;
use crate::{Doing, StoreError, Tx, us};

fn replied(c: &mut InOrder<'_, '_>) -> rusqlite::Result<Replied> {
    Ok(Replied {
        reply: c.word("replies.reply", Reply::from_word)?,
        word: c.next()?,
        at: c.instant()?,
    })
}

/// Writes down what an address says; it takes the place of what it said before.
pub fn set(
    tx: &Tx<'_>,
    event: EventId,
    email: &str,
    said: (Reply, &str),
    now: Timestamp,
) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT INTO replies (event_id, email, reply, word, at) VALUES (?1, ?2, ?3, ?4, ?5)
         ON CONFLICT (event_id, email) DO UPDATE SET reply = excluded.reply, word = excluded.word, at = excluded.at",
    )
    .and_then(|mut q| q.execute((event.0, email, said.0.word(), said.1, us(now))))
    .map(drop)
    .doing("writing a reply")
}

/// What an address says of an event.
pub fn of(conn: &Connection, event: EventId, email: &str) -> Result<Option<Replied>, StoreError> {
    conn.prepare_cached("SELECT reply, word, at FROM replies WHERE event_id = ?1 AND email = ?2")
        .and_then(|mut q| {
            q.query_row((event.0, email), |row| replied(&mut InOrder::from(row, 0))).optional()
        })
        .doing("reading a reply")
}

/// The booking of the seat that a *maybe* keeps, whatever became of it.
pub fn kept(
    conn: &Connection,
    event: EventId,
    email: &str,
) -> Result<Option<BookingId>, StoreError> {
    conn.prepare_cached("SELECT kept_id FROM replies WHERE event_id = ?1 AND email = ?2")
        .and_then(|mut q| {
            q.query_row((event.0, email), |row| row.get::<_, Option<i64>>(0)).optional()
        })
        .map(|id| id.flatten().map(BookingId))
        .doing("looking for a seat that is kept")
}

/// Writes down which booking keeps the seat of a *maybe*.
pub fn keep(
    tx: &Tx<'_>,
    event: EventId,
    email: &str,
    booking: BookingId,
) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE replies SET kept_id = ?3 WHERE event_id = ?1 AND email = ?2",
        (event.0, email, booking.0),
    )
    .map(drop)
    .doing("writing down a seat that is kept")
}

/// All replies to an event, by address in small letters.
pub fn of_event(conn: &Connection, event: EventId) -> Result<HashMap<String, Replied>, StoreError> {
    conn.prepare_cached("SELECT email, reply, word, at FROM replies WHERE event_id = ?1")
        .and_then(|mut q| {
            q.query_map([event.0], |row| {
                let mut c = InOrder::from(row, 0);
                let email: String = c.next()?;
                Ok((email.to_lowercase(), replied(&mut c)?))
            })?
            .collect()
        })
        .doing("reading replies")
}

/// The addresses, in small letters, that have booked an event.
pub fn booked(conn: &Connection, event: EventId) -> Result<HashSet<String>, StoreError> {
    conn.prepare_cached(sql!(
        "SELECT lower(b.email) FROM bookings b JOIN dates d ON d.id = b.date_id
         WHERE d.event_id = ?1 AND b.test = 0 AND b.email <> ''
            AND b.state IN {stands}"
    ))
    .and_then(|mut q| q.query_map([event.0], |row| row.get(0))?.collect())
    .doing("reading who has booked")
}
