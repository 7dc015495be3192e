//! The people of a booking: names, codes, answers.

use jiff::Timestamp;
use matricle_core::booking::details::Details;
use matricle_core::door::Presence;
use matricle_core::words::codes::{Reading, TicketCode, read};
use matricle_core::words::fold;
use matricle_core::{AttendeeId, BookingId, TicketTypeId};
use rusqlite::{Connection, OptionalExtension};

use super::{Booking, lines, list};
use crate::convert::InOrder;
use crate::{Doing, StoreError, Tx, us};

/// One person on a booking.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attendee {
    /// Its key.
    pub id: AttendeeId,
    /// The ticket type, by which they belong to a line of the booking.
    pub ticket_type: TicketTypeId,
    /// Its name when it was booked.
    pub ticket: String,
    /// Which person of the booking, counted from zero.
    pub person: usize,
    /// Their name; empty until the form is complete.
    pub name: String,
    /// The code on their ticket.
    pub code: TicketCode,
    /// Where they are.
    pub presence: Presence,
    /// Which ticket of the booking lets them in.
    pub ticket_no: u32,
    /// Their ticket was cancelled, and the rest of the booking stands.
    pub cancelled: bool,
}

/// An answer, with the question as it was worded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// The question.
    pub label: String,
    /// What was answered.
    pub answer: String,
    /// Which person of the booking, counted from zero; `None` for the whole booking.
    pub person: Option<usize>,
}

/// Presence as stored in three columns: presence, in_at, in_door.
pub(crate) fn presence(c: &mut InOrder<'_, '_>) -> rusqlite::Result<Presence> {
    let word = c.word("attendees.presence", |w| {
        ["expected", "in", "left", "missed"].into_iter().find(|known| *known == w)
    })?;
    let (since, door): (Option<i64>, Option<String>) = (c.next()?, c.next()?);
    Ok(match word {
        "in" => Presence::In { at: crate::at(since.unwrap_or(0)), door: door.unwrap_or_default() },
        "left" => Presence::Left,
        "missed" => Presence::Missed,
        _ => Presence::Expected,
    })
}

/// A stored ticket code.
pub(crate) fn ticket_code(text: &str) -> Option<TicketCode> {
    match read(text) {
        Reading::Code(code) => Some(code),
        Reading::Misread | Reading::NotACode => None,
    }
}

/// The attendees of a booking, in the order of its tickets: each person once, with the
/// code of the first date a course covers.
pub fn attendees(conn: &Connection, id: BookingId) -> Result<Vec<Attendee>, StoreError> {
    conn.prepare_cached(
        "SELECT id, ticket_type_id, ticket_name, person_no, name, code, presence, in_at, in_door, ticket_no, cancelled_at
         FROM attendees
         WHERE booking_id = ?1 AND position = person_no ORDER BY position",
    )
    .and_then(|mut q| {
        q.query_map([id.0], |row| {
            let mut c = InOrder::from(row, 0);
            Ok(Attendee {
                id: AttendeeId(c.next()?),
                ticket_type: TicketTypeId(c.next()?),
                ticket: c.next()?,
                person: usize::try_from(c.next::<i64>()?).unwrap_or(0),
                name: c.next()?,
                code: c.word("attendees.code", ticket_code)?,
                presence: presence(&mut c)?,
                ticket_no: c.next()?,
                cancelled: c.next::<Option<i64>>()?.is_some(),
            })
        })?
        .collect()
    })
    .doing("reading attendees")
}

/// The ticket type of each person on a booking, in their order.
pub fn tickets_of_people(
    conn: &Connection,
    id: BookingId,
) -> Result<Vec<TicketTypeId>, StoreError> {
    conn.prepare_cached(
        "SELECT ticket_type_id FROM attendees
         WHERE booking_id = ?1 AND position = person_no ORDER BY position",
    )
    .and_then(|mut q| q.query_map([id.0], |row| row.get(0).map(TicketTypeId))?.collect())
    .doing("reading the tickets of people")
}

/// Writes the names of all people of a booking down, on each of its dates. Row by row: SQLite
/// keeps no copy of pages for a statement that changes one.
pub(super) fn name_all(tx: &Tx<'_>, booking: &Booking, details: &Details) -> rusqlite::Result<()> {
    let rows: Vec<(i64, usize)> = tx
        .prepare_cached("SELECT id, person_no FROM attendees WHERE booking_id = ?1")?
        .query_map([booking.id.0], |row| {
            Ok((row.get(0)?, usize::try_from(row.get::<_, i64>(1)?).unwrap_or(usize::MAX)))
        })?
        .collect::<Result<_, _>>()?;
    let mut name =
        tx.prepare_cached("UPDATE attendees SET name = ?2, search = ?3 WHERE id = ?1")?;
    for (id, person) in rows {
        let Some(attendee) = details.attendees.get(person) else { continue };
        let words = fold(&format!("{attendee} {} {}", details.name, booking.reference));
        name.execute((id, attendee, words))?;
    }
    Ok(())
}

/// The answers given with a booking.
pub fn answers(conn: &Connection, id: BookingId) -> Result<Vec<Answer>, StoreError> {
    conn.prepare_cached(
        "SELECT a.label, a.answer, a.person_no FROM answers a JOIN questions q ON q.id = a.question_id
         WHERE a.booking_id = ?1 ORDER BY a.person_no, q.position, q.id",
    )
    .and_then(|mut q| {
        q.query_map([id.0], |row| {
            Ok(Answer {
                label: row.get(0)?,
                answer: row.get(1)?,
                person: usize::try_from(row.get::<_, i64>(2)?).ok(),
            })
        })?
        .collect()
    })
    .doing("reading answers")
}

/// The booking and the person that a ticket code is of.
pub fn of_ticket(
    conn: &Connection,
    code: TicketCode,
) -> Result<Option<(BookingId, usize)>, StoreError> {
    conn.prepare_cached("SELECT booking_id, person_no FROM attendees WHERE code = ?1")
        .and_then(|mut q| {
            q.query_row([code.as_str()], |row| {
                let person: i64 = row.get(1)?;
                Ok((BookingId(row.get(0)?), usize::try_from(person).unwrap_or(usize::MAX)))
            })
            .optional()
        })
        .doing("looking a ticket up")
}

/// Gives a person of a booking another name, on all its dates.
pub fn rename(tx: &Tx<'_>, booking: &Booking, person: usize, name: &str) -> Result<(), StoreError> {
    tx.touch(booking.date);
    let words = fold(&format!("{name} {} {}", booking.name, booking.reference));
    let person = i64::try_from(person).unwrap_or(i64::MAX);
    tx.prepare_cached(
        "UPDATE attendees SET name = ?3, search = ?4 WHERE booking_id = ?1 AND person_no = ?2",
    )
    .and_then(|mut q| q.execute((booking.id.0, person, name, words)))
    .doing("renaming somebody")?;
    tx.prepare_cached("UPDATE bookings SET search = search || ' ' || ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((booking.id.0, fold(name))))
        .and_then(|_| list::index(tx, booking.id))
        .doing("renaming somebody")
}

/// Gives a person of a booking an address of their own, on all its dates: a ticket was passed to
/// them.
pub fn set_holder(
    tx: &Tx<'_>,
    booking: BookingId,
    person: usize,
    email: &str,
) -> Result<(), StoreError> {
    let person = i64::try_from(person).unwrap_or(i64::MAX);
    tx.prepare_cached("UPDATE attendees SET email = ?3 WHERE booking_id = ?1 AND person_no = ?2")
        .and_then(|mut q| q.execute((booking.0, person, email)))
        .map(drop)
        .doing("giving a ticket to somebody")
}

/// Gives a person of a booking new ticket codes; the old ones die, and the door knows them
/// as passed on.
pub fn new_codes(
    tx: &Tx<'_>,
    booking: &Booking,
    person: usize,
    mut code: impl FnMut() -> TicketCode,
    now: Timestamp,
) -> Result<(), StoreError> {
    let person = i64::try_from(person).unwrap_or(i64::MAX);
    let mut write = || -> rusqlite::Result<()> {
        let rows: Vec<i64> = tx
            .prepare_cached("SELECT id FROM attendees WHERE booking_id = ?1 AND person_no = ?2")?
            .query_map((booking.id.0, person), |row| row.get(0))?
            .collect::<Result<_, _>>()?;
        for id in rows {
            tx.prepare_cached(
                "INSERT INTO dead_codes (code, attendee_id, died_at) SELECT code, id, ?2 FROM attendees WHERE id = ?1",
            )?
            .execute((id, us(now)))?;
            tx.prepare_cached("UPDATE attendees SET code = ?2 WHERE id = ?1")?
                .execute((id, lines::unused(tx, &mut code)?.as_str()))?;
        }
        Ok(())
    };
    write().doing("giving new ticket codes")
}
