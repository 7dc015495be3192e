//! Sessions of dates, and who has signed up for them.

use jiff::civil;
use matricle_core::dates::schedule::Span;
use matricle_core::dates::sessions::CourseFacts;
use matricle_core::{AttendeeId, BookingId, DateId, SessionId};
use rusqlite::{Connection, Row};

use crate::convert::{foreign, instant};
use crate::events::new::NewSession;
use crate::states::sql_of;
use crate::{Doing, StoreError, Tx, us};

/// A part of a date with its own room, time and seats.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Session {
    /// What signing up needs to know.
    pub facts: CourseFacts,
    /// Its title.
    pub title: String,
    /// Its track; may be empty.
    pub track: String,
    /// Its room; may be empty.
    pub room: String,
    /// Who gives it; may be empty.
    pub host: String,
    /// When.
    pub span: Span,
}

const COLUMNS: &str = "s.id, s.title, s.track, s.starts, s.ends, s.starts_at, s.ends_at, s.seats, s.sign_up, d.zone, \
     coalesce(r.name, '') AS room, coalesce(h.name, '') AS host, \
     (SELECT count(*) FROM sign_ups u JOIN attendees a ON a.id = u.attendee_id JOIN bookings b ON b.id = a.booking_id \
        WHERE u.session_id = s.id AND b.state IN {stands}) AS taken";

fn session(row: &Row<'_>) -> rusqlite::Result<Session> {
    let local = |column: &'static str| -> rusqlite::Result<civil::DateTime> {
        let text: String = row.get(column)?;
        text.parse().map_err(|_| foreign(column, text))
    };
    let (from, until) = (instant(row, "starts_at")?, instant(row, "ends_at")?);
    Ok(Session {
        facts: CourseFacts {
            id: SessionId(row.get("id")?),
            from,
            until,
            seats: row.get("seats")?,
            taken: row.get("taken")?,
            sign_up: row.get("sign_up")?,
        },
        title: row.get("title")?,
        track: row.get("track")?,
        room: row.get("room")?,
        host: row.get("host")?,
        span: Span {
            starts: local("starts")?,
            ends: local("ends")?,
            zone: row.get("zone")?,
            starts_at: from,
            ends_at: until,
        },
    })
}

/// The sessions of a date, by start and room.
pub fn of_date(conn: &Connection, date: DateId) -> Result<Vec<Session>, StoreError> {
    conn.prepare_cached(&sql_of!(
        "SELECT {COLUMNS} FROM date_sessions s JOIN dates d ON d.id = s.date_id
         LEFT JOIN rooms r ON r.id = s.room_id LEFT JOIN hosts h ON h.id = s.host_id
         WHERE s.date_id = ?1 ORDER BY s.starts_at, r.name, s.id"
    ))
    .and_then(|mut q| q.query_map([date.0], session)?.collect())
    .doing("reading sessions")
}

/// The sessions of a date as plans.
pub(crate) fn plans(conn: &Connection, date: DateId) -> Result<Vec<NewSession>, StoreError> {
    let plan = |s: Session| NewSession {
        title: s.title,
        track: s.track,
        room: s.room,
        host: s.host,
        span: s.span,
        seats: s.facts.seats,
        sign_up: s.facts.sign_up,
    };
    Ok(of_date(conn, date)?.into_iter().map(plan).collect())
}

pub(crate) fn insert(tx: &Tx<'_>, date: i64, venue: i64, new: &NewSession) -> rusqlite::Result<()> {
    let room = crate::places::room(tx, venue, &new.room)?;
    let host = if new.host.is_empty() { None } else { Some(crate::places::host(tx, &new.host)?) };
    tx.execute(
        "INSERT INTO date_sessions (date_id, title, track, room_id, host_id, starts, ends, starts_at,
            ends_at, seats, sign_up) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11)",
        rusqlite::params![
            date,
            new.title,
            new.track,
            room,
            host,
            new.span.starts.to_string(),
            new.span.ends.to_string(),
            us(new.span.starts_at),
            us(new.span.ends_at),
            new.seats,
            new.sign_up
        ],
    )
    .map(drop)
}

/// Adds a session to a date and gives its key.
pub fn add(tx: &Tx<'_>, date: DateId, new: &NewSession) -> Result<SessionId, StoreError> {
    let write = || {
        let venue =
            tx.query_row("SELECT venue_id FROM dates WHERE id = ?1", [date.0], |row| row.get(0))?;
        insert(tx, date.0, venue, new)?;
        Ok(SessionId(tx.last_insert_rowid()))
    };
    write().doing("adding a session")
}

/// Takes a session off a date, its sign-ups with it.
pub fn remove(tx: &Tx<'_>, date: DateId, id: SessionId) -> Result<(), StoreError> {
    tx.execute(
        "DELETE FROM sign_ups WHERE session_id = (SELECT id FROM date_sessions WHERE id = ?1 AND date_id = ?2)",
        (id.0, date.0),
    )
    .and_then(|_| {
        tx.execute("DELETE FROM date_sessions WHERE id = ?1 AND date_id = ?2", (id.0, date.0))
    })
    .map(drop)
    .doing("taking a session off")
}

/// Who signed up for what, from the two columns of a row.
pub(crate) fn signed_up(row: &Row<'_>) -> rusqlite::Result<(AttendeeId, SessionId)> {
    Ok((AttendeeId(row.get(0)?), SessionId(row.get(1)?)))
}

/// The sessions that an attendee has signed up for.
pub fn of_attendee(conn: &Connection, attendee: AttendeeId) -> Result<Vec<SessionId>, StoreError> {
    conn.prepare_cached("SELECT session_id FROM sign_ups WHERE attendee_id = ?1")
        .and_then(|mut q| q.query_map([attendee.0], |row| row.get(0).map(SessionId))?.collect())
        .doing("reading what somebody signed up for")
}

/// What the attendees of a booking have signed up for.
pub fn of_booking(
    conn: &Connection,
    booking: BookingId,
) -> Result<Vec<(AttendeeId, SessionId)>, StoreError> {
    conn.prepare_cached(
        "SELECT u.attendee_id, u.session_id FROM sign_ups u JOIN attendees a ON a.id = u.attendee_id
         WHERE a.booking_id = ?1 ORDER BY u.attendee_id, u.session_id",
    )
    .and_then(|mut q| {
        q.query_map([booking.0], signed_up)?.collect()
    })
    .doing("reading sign-ups")
}

/// Signs an attendee up, and off.
pub fn sign_up(
    tx: &Tx<'_>,
    attendee: AttendeeId,
    added: &[SessionId],
    dropped: &[SessionId],
) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        for session in added {
            tx.execute(
                "INSERT OR IGNORE INTO sign_ups (session_id, attendee_id) VALUES (?1, ?2)",
                (session.0, attendee.0),
            )?;
        }
        for session in dropped {
            tx.execute(
                "DELETE FROM sign_ups WHERE session_id = ?1 AND attendee_id = ?2",
                (session.0, attendee.0),
            )?;
        }
        Ok(())
    };
    write().doing("signing up")
}
