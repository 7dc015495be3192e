//! Bookings looked for by what they are.

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::people::who::mailbox;
use matricle_core::words::codes::Reference;
use matricle_core::{BookingId, DateId};
use rusqlite::{Connection, OptionalExtension};

use super::list::{Listed, listed};
use super::{Booking, COLUMNS, booking};
use crate::convert::InOrder;
use crate::states::{sql, sql_of};
use crate::unreadable::readable;
use crate::{Doing, StoreError, us};

/// Bookings whose deadline has passed, longest ago first: without those that are set aside
/// for now, and without those whose payment is being called back at the provider.
pub fn overdue(conn: &Connection, now: Timestamp, most: u32) -> Result<Vec<BookingId>, StoreError> {
    conn.prepare_cached(
        "SELECT b.id FROM bookings b WHERE b.deadline <= ?1
            AND NOT EXISTS (SELECT 1 FROM set_aside s WHERE s.work = 'deadlines' AND s.about = b.id AND s.next_try_at > ?1)
            AND NOT EXISTS (SELECT 1 FROM payments p WHERE p.booking_id = b.id AND p.state = 'open' AND p.unwanted = 1)
         ORDER BY b.deadline LIMIT ?2",
    )
    .and_then(|mut q| q.query_map((us(now), most), |row| row.get(0).map(BookingId))?.collect())
    .doing("looking for what is overdue")
}

/// Holds on one date whose deadline has passed.
pub fn stale_holds(
    conn: &Connection,
    date: DateId,
    now: Timestamp,
) -> Result<Vec<Booking>, StoreError> {
    conn.prepare_cached(&sql_of!(
        "SELECT {COLUMNS} FROM bookings b WHERE b.state = {{Held}} AND b.deadline <= ?2
            AND (b.date_id = ?1 OR EXISTS (SELECT 1 FROM attendees a WHERE a.booking_id = b.id AND a.date_id = ?1))"
    ))
    .and_then(|mut q| readable("bookings", q.query_map((date.0, us(now)), booking)?))
    .doing("looking for stale holds")
}

/// The next deadline of any booking.
pub fn next_deadline(conn: &Connection) -> Result<Option<Timestamp>, StoreError> {
    conn.prepare_cached("SELECT min(deadline) FROM bookings WHERE deadline IS NOT NULL")
        .and_then(|mut q| q.query_row([], |row| row.get::<_, Option<i64>>(0)))
        .map(|us| us.map(crate::at))
        .doing("looking for the next deadline")
}

/// How many bookings of an event are in each state that counts.
pub fn count_live(conn: &Connection, event: matricle_core::EventId) -> Result<u32, StoreError> {
    conn.prepare_cached(sql!(
        "SELECT count(*) FROM bookings b JOIN dates d ON d.id = b.date_id
         WHERE d.event_id = ?1 AND b.test = 0 AND b.state IN {stands}"
    ))
    .and_then(|mut q| q.query_row([event.0], |row| row.get(0)))
    .doing("counting bookings")
}

/// Test bookings of an event that had a payment, the oldest first.
pub fn paid_tests(
    conn: &Connection,
    event: matricle_core::EventId,
) -> Result<Vec<Booking>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM bookings b WHERE b.test = 1
            AND b.date_id IN (SELECT id FROM dates WHERE event_id = ?1)
            AND EXISTS (SELECT 1 FROM payments p WHERE p.booking_id = b.id) ORDER BY b.id"
    ))
    .and_then(|mut q| readable("bookings", q.query_map([event.0], booking)?))
    .doing("listing test bookings that had a payment")
}

/// Test bookings of an event that are still to be cleared.
pub fn count_tests(conn: &Connection, event: matricle_core::EventId) -> Result<u32, StoreError> {
    conn.prepare_cached(sql!(
        "SELECT count(*) FROM bookings b JOIN dates d ON d.id = b.date_id
         WHERE d.event_id = ?1 AND b.test = 1 AND b.name <> ''
            AND (b.state IN {keeps_seats}
                OR NOT EXISTS (SELECT 1 FROM payments p WHERE p.booking_id = b.id))"
    ))
    .and_then(|mut q| q.query_row([event.0], |row| row.get(0)))
    .doing("counting test bookings")
}

/// Test bookings of an event that are still to be cleared: reference and state, the latest first.
pub fn tests_of(
    conn: &Connection,
    event: matricle_core::EventId,
    most: u32,
) -> Result<Vec<(Reference, State)>, StoreError> {
    conn.prepare_cached(sql!(
        "SELECT b.reference, b.state FROM bookings b JOIN dates d ON d.id = b.date_id
         WHERE d.event_id = ?1 AND b.test = 1 AND b.name <> ''
            AND (b.state IN {keeps_seats}
                OR NOT EXISTS (SELECT 1 FROM payments p WHERE p.booking_id = b.id))
         ORDER BY b.id DESC LIMIT ?2"
    ))
    .and_then(|mut q| {
        q.query_map((event.0, most), |row| {
            let mut c = InOrder::from(row, 0);
            let reference = c.word("bookings.reference", Reference::parse)?;
            Ok((reference, c.word("bookings.state", State::from_word)?))
        })?
        .collect()
    })
    .doing("listing test bookings")
}

/// Bookings that keep seats on a date, in the order they were made.
pub fn live_on(conn: &Connection, date: DateId) -> Result<Vec<Booking>, StoreError> {
    conn.prepare_cached(&sql_of!(
        "SELECT {COLUMNS} FROM bookings b WHERE b.test = 0
            AND b.state IN {{keeps_seats}}
            AND b.id IN (SELECT booking_id FROM attendees WHERE date_id = ?1) ORDER BY b.id"
    ))
    .and_then(|mut q| readable("bookings", q.query_map([date.0], booking)?))
    .doing("looking for bookings")
}

/// Whether anybody has booked here, tests left aside.
pub fn anybody(conn: &Connection) -> Result<bool, StoreError> {
    conn.prepare_cached("SELECT EXISTS (SELECT 1 FROM bookings WHERE test = 0 AND name <> '')")
        .and_then(|mut q| q.query_row([], |row| row.get(0)))
        .doing("asking whether anybody has booked")
}

/// Bookings of an event that wait for a yes, or whose form is being filled in, in the order
/// they were made.
pub fn undecided(
    conn: &Connection,
    event: matricle_core::EventId,
) -> Result<Vec<Booking>, StoreError> {
    conn.prepare_cached(&sql_of!(
        "SELECT {COLUMNS} FROM bookings b JOIN dates d ON d.id = b.date_id
         WHERE d.event_id = ?1 AND b.test = 0 AND b.state IN ({{Held}}, {{Requested}}) ORDER BY b.id"
    ))
    .and_then(|mut q| readable("bookings", q.query_map([event.0], booking)?))
    .doing("looking for bookings that wait")
}

/// Whether somebody with an address of the same box holds a booking of an event that
/// counts, other than this one.
pub fn booked_already(
    conn: &Connection,
    event: matricle_core::EventId,
    email: &str,
    but: BookingId,
) -> Result<bool, StoreError> {
    conn.prepare_cached(
        sql!("SELECT EXISTS (SELECT 1 FROM bookings b JOIN dates d ON d.id = b.date_id
            WHERE b.mailbox = ?2 AND b.mailbox <> '' AND d.event_id = ?1 AND b.id <> ?3 AND b.test = 0
                AND b.state IN {stands})"),
    )
    .and_then(|mut q| q.query_row((event.0, mailbox(email), but.0), |row| row.get(0)))
    .doing("looking for another booking")
}

/// Another booking of the same date that counts, by somebody with an address of the same
/// box.
pub fn same_date(
    conn: &Connection,
    booking: &Booking,
    email: &str,
) -> Result<Option<Booking>, StoreError> {
    // `+` keeps SQLite from the index of dates: a date has thousands of bookings, a mailbox a few.
    conn.prepare_cached(&sql_of!(
        "SELECT {COLUMNS} FROM bookings b WHERE b.mailbox = ?1 AND b.mailbox <> '' AND +b.date_id = ?2 AND b.id <> ?3
            AND b.test = ?4 AND b.state IN {{stands}} ORDER BY b.id LIMIT 1"
    ))
    .and_then(|mut q| {
        q.query_row((mailbox(email), booking.date.0, booking.id.0, booking.test), super::booking).optional()
    })
    .doing("looking for another booking")
}

/// The bookings of somebody by an address they have proved, the latest date first. The
/// address must be the same but for case: what a box means is the mail server's to say.
pub fn of_address(conn: &Connection, email: &str) -> Result<Vec<Listed>, StoreError> {
    conn.prepare_cached(&sql_of!(
        "SELECT {COLUMNS}, e.title, d.starts, '' AS last,
            (SELECT count(*) FROM attendees a WHERE a.booking_id = b.id AND a.position = a.person_no AND a.cancelled_at IS NULL) AS people
         FROM bookings b JOIN dates d ON d.id = b.date_id JOIN events e ON e.id = d.event_id
         WHERE b.mailbox = ?1 AND b.mailbox <> '' AND lower(b.email) = lower(?2) AND b.state <> {{Lapsed}} AND b.test = 0
         ORDER BY d.starts_at DESC"
    ))
    .and_then(|mut q| readable("bookings", q.query_map((mailbox(email), email.trim()), listed)?))
    .doing("looking for somebody's bookings")
}

/// Tickets that were passed to an address: booking and person.
pub fn passed_to(conn: &Connection, email: &str) -> Result<Vec<(BookingId, usize)>, StoreError> {
    conn.prepare_cached(
        "SELECT DISTINCT booking_id, person_no FROM attendees
         WHERE email <> '' AND email = ?1 COLLATE NOCASE AND cancelled_at IS NULL ORDER BY booking_id DESC",
    )
    .and_then(|mut q| {
        q.query_map([email.trim()], |row| {
            Ok((BookingId(row.get(0)?), usize::try_from(row.get::<_, i64>(1)?).unwrap_or(0)))
        })?
        .collect()
    })
    .doing("looking for tickets that were passed on")
}

/// What a browser and a network keep of a date while nothing is booked for good: bookings of
/// the browser, and seats (people) of the network by those who have not proved an address.
/// Unknown ones keep nothing.
pub fn kept(
    conn: &Connection,
    date: DateId,
    (browser, network): (i64, i64),
    but: BookingId,
) -> Result<(u32, u32), StoreError> {
    conn.prepare_cached(
        sql!("SELECT count(*) FILTER (WHERE b.by_browser = ?2 AND ?2 <> 0),
            coalesce(sum((SELECT count(*) FROM attendees a WHERE a.booking_id = b.id AND a.position = a.person_no))
                FILTER (WHERE b.known_as = '' AND b.by_network = ?3), 0)
         FROM bookings b WHERE b.date_id = ?1 AND b.id <> ?4 AND b.test = 0
            AND (b.by_network = ?3 AND b.by_network <> 0 OR b.by_browser = ?2 AND b.by_browser <> 0)
            AND b.state IN {open}"),
    )
    .and_then(|mut q| {
        q.query_row((date.0, browser, network, but.0), |row| Ok((row.get(0)?, row.get(1)?)))
    })
    .doing("counting what is kept")
}

/// Bookings of a date that an address has asked for or has to pay still, without this one.
pub fn unfinished_of(
    conn: &Connection,
    date: DateId,
    email: &str,
    but: BookingId,
) -> Result<u32, StoreError> {
    conn.prepare_cached(
        sql!("SELECT count(*) FROM bookings b WHERE b.mailbox = ?2 AND b.mailbox <> '' AND +b.date_id = ?1 AND b.id <> ?3
            AND b.test = 0 AND b.state IN ({Requested}, {AwaitingPayment})"),
    )
    .and_then(|mut q| q.query_row((date.0, mailbox(email), but.0), |row| row.get(0)))
    .doing("counting what an address keeps")
}

/// When the first booking of an event was made.
pub fn first_made(
    conn: &Connection,
    event: matricle_core::EventId,
) -> Result<Option<Timestamp>, StoreError> {
    conn.prepare_cached(
        "SELECT min(b.made_at) FROM bookings b JOIN dates d ON d.id = b.date_id WHERE d.event_id = ?1",
    )
    .and_then(|mut q| q.query_row([event.0], |row| row.get::<_, Option<i64>>(0)))
    .map(|us| us.map(crate::at))
    .doing("looking for the first booking")
}
