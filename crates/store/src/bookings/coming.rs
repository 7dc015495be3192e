//! Who comes to a date, or to the dates of some days: people with what they answered.

use std::collections::BTreeMap;

use jiff::Timestamp;
use jiff::civil::{Date as Day, DateTime};
use matricle_core::booking::State;
use matricle_core::door::Presence;
use matricle_core::words::codes::{Reference, TicketCode};
use matricle_core::{AttendeeId, DateId, EventId};
use rusqlite::{Connection, named_params};

use super::people::{presence, ticket_code};
use crate::convert::InOrder;
use crate::states::{sql, sql_of};
use crate::{Doing, StoreError, us};

/// Which dates of an event.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Which {
    /// This one.
    Date(DateId),
    /// Those that start from one day to another, both included, by their own clocks.
    Days(Day, Day),
}

/// Somebody who comes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Coming {
    /// When their date starts, local.
    pub starts: DateTime,
    /// Their name; the booker's where none was given.
    pub name: String,
    /// Their ticket.
    pub ticket: String,
    /// The booking.
    pub reference: Reference,
    /// Who booked.
    pub booker: String,
    /// Where the booking stands.
    pub state: State,
    /// What is still to pay on the whole booking, in minor units.
    pub due: i64,
    /// Where they are.
    pub presence: Presence,
    /// Notes on the booking that no booker sees, the latest first.
    pub notes: String,
    /// The booker's telephone number, if they gave one.
    pub phone: String,
    /// With a ticket to join online, where others come to the place.
    pub online: bool,
    /// What they answered, or the booker for the whole booking, by question.
    pub answers: BTreeMap<String, String>,
    /// Their key.
    pub attendee: AttendeeId,
    /// The code on their ticket.
    pub code: TicketCode,
}

/// Who comes: everybody with a ticket that lives on a booking that stands, by date and name.
pub fn coming(conn: &Connection, event: EventId, which: Which) -> Result<Vec<Coming>, StoreError> {
    let (date, from, until) = match which {
        Which::Date(date) => (date.0, String::new(), String::new()),
        Which::Days(from, until) => (0, from.to_string(), until.to_string()),
    };
    // A day is the first ten letters of a local time.
    const THESE: &str =
        "d.event_id = :event AND (d.id = :date OR substr(d.starts, 1, 10) BETWEEN :from AND :until)
        AND b.test = 0 AND b.state IN {stands}";
    let params = named_params! { ":event": event.0, ":date": date, ":from": from, ":until": until };
    let read = || -> rusqlite::Result<Vec<Coming>> {
        let mut answers: BTreeMap<(i64, i64), BTreeMap<String, String>> = BTreeMap::new();
        let mut query = conn.prepare_cached(&sql_of!(
            "SELECT DISTINCT g.booking_id, g.person_no, g.label, g.answer FROM answers g
             JOIN bookings b ON b.id = g.booking_id JOIN attendees a ON a.booking_id = b.id
             JOIN dates d ON d.id = a.date_id WHERE {THESE}"
        ))?;
        let mut rows = query.query(params)?;
        while let Some(row) = rows.next()? {
            let mut c = InOrder::from(row, 0);
            let whose = (c.next()?, c.next()?);
            answers.entry(whose).or_default().insert(c.next()?, c.next()?);
        }
        let mut query = conn.prepare_cached(&sql_of!(
            "SELECT b.id, a.person_no, d.starts, CASE a.name WHEN '' THEN b.name ELSE a.name END AS who, a.ticket_name,
                b.reference, b.name, b.state, b.total_minor - b.paid_minor, a.presence, a.in_at, a.in_door,
                coalesce((SELECT group_concat(n.text, '; ') FROM booking_notes n WHERE n.booking_id = b.id), ''),
                b.phone, coalesce((SELECT t.online FROM ticket_types t WHERE t.id = a.ticket_type_id), 0), a.id, a.code
             FROM attendees a JOIN bookings b ON b.id = a.booking_id JOIN dates d ON d.id = a.date_id
             WHERE {THESE} AND a.cancelled_at IS NULL ORDER BY d.starts, who COLLATE NOCASE, a.id"
        ))?;
        query
            .query_map(params, |row| {
                let mut c = InOrder::from(row, 0);
                let (booking, person): (i64, i64) = (c.next()?, c.next()?);
                let mut own = answers.get(&(booking, -1)).cloned().unwrap_or_default();
                own.extend(answers.get(&(booking, person)).cloned().unwrap_or_default());
                Ok(Coming {
                    starts: c.word("dates.starts", |t| t.parse().ok())?,
                    name: c.next()?,
                    ticket: c.next()?,
                    reference: c.word("bookings.reference", Reference::parse)?,
                    booker: c.next()?,
                    state: c.word("bookings.state", State::from_word)?,
                    due: c.next()?,
                    presence: presence(&mut c)?,
                    notes: c.next()?,
                    phone: c.next()?,
                    online: c.next()?,
                    attendee: AttendeeId(c.next()?),
                    code: c.word("attendees.code", ticket_code)?,
                    answers: own,
                })
            })?
            .collect()
    };
    read().doing("reading who comes")
}

/// Who is new on a date: came to it from one instant until another. Name, ticket, and who booked
/// where it was somebody else, with notes.
pub fn new_of_date(
    conn: &Connection,
    date: DateId,
    since: Timestamp,
    until: Timestamp,
) -> Result<Vec<(String, String, String)>, StoreError> {
    conn.prepare_cached(
        sql!("SELECT CASE a.name WHEN '' THEN b.name ELSE a.name END, a.ticket_name,
            CASE WHEN a.name IN ('', b.name) THEN '' ELSE 'booked by ' || b.name END,
            coalesce((SELECT group_concat(n.text, '; ') FROM booking_notes n WHERE n.booking_id = b.id), '')
         FROM attendees a JOIN bookings b ON b.id = a.booking_id
         WHERE a.date_id = ?1 AND b.test = 0 AND b.state = {Confirmed} AND a.cancelled_at IS NULL
            AND coalesce(b.since, b.made_at) >= ?2 AND coalesce(b.since, b.made_at) < ?3 ORDER BY a.id"),
    )
    .and_then(|mut q| {
        q.query_map((date.0, us(since), us(until)), |row| {
            let (by, notes): (String, String) = (row.get(2)?, row.get(3)?);
            let notes = if notes.is_empty() { notes } else { format!("Note: {notes}") };
            let said: Vec<String> = [by, notes].into_iter().filter(|s| !s.is_empty()).collect();
            Ok((row.get(0)?, row.get(1)?, said.join("; ")))
        })?
        .collect()
    })
    .doing("reading who is new")
}

/// How many people came to events, and cancelled, from one instant until another: title, how
/// many came, how many cancelled.
pub fn came_and_left(
    conn: &Connection,
    since: Timestamp,
    until: Timestamp,
) -> Result<Vec<(String, u32, u32)>, StoreError> {
    conn.prepare_cached(
        sql!("SELECT e.title, sum(came), sum(left) FROM (
            SELECT a.date_id, 1 AS came, 0 AS left FROM attendees a JOIN bookings b ON b.id = a.booking_id
                WHERE b.test = 0 AND b.state = {Confirmed} AND a.cancelled_at IS NULL
                    AND coalesce(b.since, b.made_at) >= ?1 AND coalesce(b.since, b.made_at) < ?2
            UNION ALL SELECT a.date_id, 0, 1 FROM attendees a JOIN bookings b ON b.id = a.booking_id
                WHERE b.test = 0 AND a.cancelled_at >= ?1 AND a.cancelled_at < ?2
         ) m JOIN dates d ON d.id = m.date_id JOIN events e ON e.id = d.event_id GROUP BY e.id ORDER BY e.title"),
    )
    .and_then(|mut q| {
        q.query_map((us(since), us(until)), |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?
            .collect()
    })
    .doing("counting who came and who left")
}
