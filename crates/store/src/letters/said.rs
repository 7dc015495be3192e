//! What calendars said of bookings.

use jiff::Timestamp;
use matricle_core::BookingId;
use matricle_core::messages::letters::Said;
use rusqlite::Connection;

use crate::convert::InOrder;
use crate::{Doing, StoreError, Tx, us};

/// What somebody's calendar said of a booking.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CalendarSaid {
    /// The person of the booking; nothing for the booker.
    pub person: Option<usize>,
    /// What.
    pub said: Said,
    /// Of which version of the entry (RFC 5545 §3.8.7.4).
    pub sequence: u32,
    /// When.
    pub at: Timestamp,
    /// A word with it.
    pub word: String,
}

/// What calendars said of a booking.
pub fn calendar_said(
    conn: &Connection,
    booking: BookingId,
) -> Result<Vec<CalendarSaid>, StoreError> {
    conn.prepare_cached(
        "SELECT person, said, sequence, at, word FROM calendar_said WHERE booking_id = ?1 ORDER BY person",
    )
    .and_then(|mut q| {
        q.query_map([booking.0], |row| {
            let mut c = InOrder::from(row, 0);
            Ok(CalendarSaid {
                person: usize::try_from(c.next::<i64>()?).ok(),
                said: c.word("calendar_said.said", Said::from_word)?,
                sequence: c.next()?,
                at: c.instant()?,
                word: c.next()?,
            })
        })?
        .collect()
    })
    .doing("reading what calendars said")
}

/// Writes down what a calendar says, unless it said something later before: of two, the one about
/// the later version holds, and of one version the later (RFC 5546 §2.1.5). Says whether it holds.
pub fn calendar_says(
    tx: &Tx<'_>,
    booking: BookingId,
    said: &CalendarSaid,
) -> Result<bool, StoreError> {
    let person = said.person.and_then(|p| i64::try_from(p).ok()).unwrap_or(-1);
    tx.prepare_cached(
        // A version that the house has not sent is none: whoever names one far ahead says nothing
        // for ever after.
        "INSERT INTO calendar_said (booking_id, person, said, sequence, at, word)
            SELECT b.id, ?2, ?3, min(?4, b.calendar_steps + (SELECT coalesce(sum(d.sequence), 0) FROM dates d
                WHERE d.id = b.date_id OR d.id IN (SELECT a.date_id FROM attendees a WHERE a.booking_id = b.id))), ?5, ?6
            FROM bookings b WHERE b.id = ?1
         ON CONFLICT (booking_id, person) DO UPDATE SET said = excluded.said, sequence = excluded.sequence,
            at = excluded.at, word = excluded.word
         WHERE (excluded.sequence, excluded.at) > (calendar_said.sequence, calendar_said.at)",
    )
    .and_then(|mut q| {
        q.execute((
            booking.0,
            person,
            said.said.word(),
            said.sequence,
            us(said.at),
            &said.word,
        ))
    })
    .map(|rows| rows > 0)
    .doing("writing what a calendar said")
}
