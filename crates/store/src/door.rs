//! The door: looking tickets up, letting people in, scans.

mod counts;
mod doorway;
mod lists;
mod rooms;
mod scans;

use matricle_core::booking::State;
use matricle_core::door::{Presence, TicketFacts};
use matricle_core::words::codes::{Reference, TicketCode};
use matricle_core::{AttendeeId, BookingId, Currency, DateId, TicketTypeId};
use rusqlite::{Connection, OptionalExtension, Row};

use crate::bookings::presence;
use crate::convert::InOrder;
use crate::states::sql_of;
use crate::{Doing, StoreError};

pub use counts::*;
pub use doorway::*;
pub use lists::*;
pub use rooms::*;
pub use scans::*;

/// An attendee as the door sees them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AtDoor {
    /// What the verdict rests on.
    pub facts: TicketFacts,
    /// Their name.
    pub name: String,
    /// The name of their ticket type.
    pub ticket: String,
    /// The booker's name.
    pub booker: String,
    /// The booking.
    pub booking: BookingId,
    /// Their place on the booking, counted from one.
    pub place: u32,
    /// People on the booking.
    pub people: u32,
    /// Which ticket of the booking lets them in.
    pub ticket_no: u32,
    /// The code shown is an old one: the ticket was passed to somebody else.
    pub passed_on: bool,
    /// What the organiser wants the door to know of them.
    pub note: String,
}

const COLUMNS: &str = "(SELECT currency FROM house), a.id, a.date_id, \
     CASE WHEN a.cancelled_at IS NULL THEN b.state ELSE 'cancelled' END, b.total_minor - b.paid_minor, \
     a.presence, a.in_at, a.in_door, b.test, a.ticket_type_id, a.given_up_at, a.note, a.name, a.ticket_name, b.name, a.booking_id, a.person_no, a.ticket_no, \
     (SELECT count(*) FROM attendees x WHERE x.booking_id = b.id AND x.position = x.person_no AND x.cancelled_at IS NULL)";

fn at_door(row: &Row<'_>) -> rusqlite::Result<AtDoor> {
    let mut c = InOrder::from(row, 0);
    let currency = c.word("house.currency", Currency::from_letters)?;
    let facts = TicketFacts {
        attendee: AttendeeId(c.next()?),
        date: DateId(c.next()?),
        state: c.word("bookings.state", State::from_word)?,
        due: currency.of(c.next()?),
        presence: presence(&mut c)?,
        test: c.next()?,
        ticket: c.next::<Option<i64>>()?.map(TicketTypeId),
        given_up: c.instant_or()?,
    };
    Ok(AtDoor {
        facts,
        note: c.next()?,
        name: c.next()?,
        ticket: c.next()?,
        booker: c.next()?,
        booking: BookingId(c.next()?),
        place: c.next::<u32>()? + 1,
        ticket_no: c.next()?,
        people: c.next()?,
        passed_on: false,
    })
}

/// The attendee with this code; of a course the same person's place on `date`, whichever
/// of their codes it is.
pub fn by_code(
    conn: &Connection,
    code: TicketCode,
    date: DateId,
) -> Result<Option<AtDoor>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM attendees c JOIN attendees a ON a.id = CASE WHEN c.date_id = ?2 THEN c.id ELSE
            coalesce((SELECT s.id FROM attendees s WHERE s.booking_id = c.booking_id
                AND s.person_no = c.person_no AND s.date_id = ?2), c.id) END
         JOIN bookings b ON b.id = a.booking_id WHERE c.code = ?1"
    ))
    .and_then(|mut q| q.query_row((code.as_str(), date.0), at_door).optional())
    .and_then(|found| if found.is_some() { Ok(found) } else { dead(conn, code) })
    .doing("looking a ticket up")
}

/// The attendee who had this code before their ticket was passed on: it opens nothing.
fn dead(conn: &Connection, code: TicketCode) -> rusqlite::Result<Option<AtDoor>> {
    let found = conn
        .prepare_cached(&format!(
            "SELECT {COLUMNS} FROM dead_codes x JOIN attendees a ON a.id = x.attendee_id
             JOIN bookings b ON b.id = a.booking_id WHERE x.code = ?1"
        ))?
        .query_row([code.as_str()], at_door)
        .optional()?;
    Ok(found.map(passed_on))
}

fn passed_on(mut old: AtDoor) -> AtDoor {
    old.facts.state = State::Cancelled;
    old.passed_on = true;
    old
}

/// The name of somebody on a booking, or on these tickets of it, who has been let in.
pub fn inside_of(
    conn: &Connection,
    booking: BookingId,
    tickets: Option<&[u32]>,
) -> Result<Option<String>, StoreError> {
    let people: Vec<(u32, String)> = conn
        .prepare_cached(
            "SELECT ticket_no, name FROM attendees WHERE booking_id = ?1 AND cancelled_at IS NULL
                AND presence IN ('in', 'left') ORDER BY position",
        )
        .and_then(|mut q| q.query_map([booking.0], |row| Ok((row.get(0)?, row.get(1)?)))?.collect())
        .doing("looking who is inside")?;
    let meant = |number: &u32| tickets.is_none_or(|t| t.contains(number));
    Ok(people.into_iter().find(|(number, _)| meant(number)).map(|(_, name)| name))
}

/// An attendee by key.
pub fn by_id(conn: &Connection, id: AttendeeId) -> Result<Option<AtDoor>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM attendees a JOIN bookings b ON b.id = a.booking_id WHERE a.id = ?1"
    ))
    .and_then(|mut q| q.query_row([id.0], at_door).optional())
    .doing("looking an attendee up")
}

/// Words that are looked for; more of them narrow nothing down.
const MOST_WORDS: usize = 16;

/// People of a date whose folded words hold all of `words`, of the first sixteen, by name.
pub fn by_words(
    conn: &Connection,
    date: DateId,
    words: &str,
    most: u32,
) -> Result<Vec<AtDoor>, StoreError> {
    let words: Vec<String> = words
        .split(' ')
        .filter(|w| !w.is_empty())
        .take(MOST_WORDS)
        .map(|w| format!("%{w}%"))
        .collect();
    looked_up(conn, date, &" AND a.search LIKE ?".repeat(words.len()), words, most)
}

/// People of a date on one booking, by the reference that somebody says at the door.
pub fn by_reference(
    conn: &Connection,
    date: DateId,
    reference: Reference,
) -> Result<Vec<AtDoor>, StoreError> {
    looked_up(conn, date, " AND b.reference = ?", vec![reference.as_str().to_owned()], 1000)
}

fn looked_up(
    conn: &Connection,
    date: DateId,
    conditions: &str,
    values: Vec<String>,
    most: u32,
) -> Result<Vec<AtDoor>, StoreError> {
    conn.prepare_cached(&sql_of!(
        "SELECT {COLUMNS} FROM attendees a JOIN bookings b ON b.id = a.booking_id
         WHERE a.date_id = {date} AND b.test = 0 AND b.state IN {{stands}}
            AND a.cancelled_at IS NULL{conditions}
         ORDER BY a.search LIMIT {most}"
    ))
    .and_then(|mut q| q.query_map(rusqlite::params_from_iter(values), at_door)?.collect())
    .doing("looking people up")
}

/// Others whom the same ticket lets in at the same date and who are not in: a family's.
pub fn on_the_same_ticket(
    conn: &Connection,
    attendee: AttendeeId,
) -> Result<Vec<AtDoor>, StoreError> {
    let mut all = all_on_the_same_ticket(conn, attendee)?;
    all.retain(|a| matches!(a.facts.presence, Presence::Expected | Presence::Missed));
    Ok(all)
}

/// Others whom the same ticket lets in at the same date, wherever they are.
pub fn all_on_the_same_ticket(
    conn: &Connection,
    attendee: AttendeeId,
) -> Result<Vec<AtDoor>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM attendees o JOIN attendees a ON a.booking_id = o.booking_id AND a.date_id = o.date_id
            AND a.ticket_no = o.ticket_no AND a.id <> o.id
         JOIN bookings b ON b.id = a.booking_id
         WHERE o.id = ?1 AND a.cancelled_at IS NULL AND a.given_up_at IS NULL ORDER BY a.position"
    ))
    .and_then(|mut q| q.query_map([attendee.0], at_door)?.collect())
    .doing("looking for who is on the same ticket")
}

/// Others on the same booking who are not in yet.
pub fn others_expected(
    conn: &Connection,
    booking: BookingId,
    date: DateId,
) -> Result<Vec<(AttendeeId, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT id, name FROM attendees WHERE booking_id = ?1 AND date_id = ?2 AND presence IN ('expected', 'missed')
            AND cancelled_at IS NULL AND given_up_at IS NULL ORDER BY position",
    )
    .and_then(|mut q| {
        q.query_map((booking.0, date.0), |row| Ok((AttendeeId(row.get(0)?), row.get(1)?)))?.collect()
    })
    .doing("looking for companions")
}
