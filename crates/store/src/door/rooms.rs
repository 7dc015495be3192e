//! Doors of rooms: who is in a session, and who signed up for it.

use jiff::{SignedDuration, Timestamp};
use matricle_core::door::rooms::{Room, Slot};
use matricle_core::{AttendeeId, DateId, SessionId};
use rusqlite::{Connection, OptionalExtension};

use crate::convert::InOrder;
use crate::events::sessions::{Session, signed_up};
use crate::{Doing, StoreError};

/// The last time that somebody (`x.attendee_id`) went into a room or out of it; whoever leaves
/// the house leaves the room as well.
const LAST: &str = "SELECT session_id, room_way, at, door FROM (
        SELECT id, at, door, session_id, room_way FROM scans
            WHERE attendee_id = x.attendee_id AND room_way IS NOT NULL AND undone_at IS NULL
        UNION ALL SELECT id, at, door, NULL, 'out' FROM scans
            WHERE attendee_id = x.attendee_id AND passage IS NOT NULL AND passage = 'out' AND undone_at IS NULL
     ) ORDER BY at DESC, id DESC LIMIT 1";

/// When sessions are, as the rules of a door want them.
#[must_use]
pub fn slots(sessions: &[Session]) -> Vec<Slot> {
    let slot = |s: &Session| Slot { session: s.facts.id, from: s.facts.from, until: s.facts.until };
    sessions.iter().map(slot).collect()
}

/// A session as its door sees it, where the seats of sign-ups who have not come are free
/// `free_after` minutes after its start.
pub fn room(conn: &Connection, session: &Session, free_after: u32) -> Result<Room, StoreError> {
    let facts = &session.facts;
    let (signed_in, all_in): (u32, u32) = conn
        .prepare_cached(&format!(
            "SELECT count(*) FILTER (WHERE EXISTS (SELECT 1 FROM sign_ups u
                WHERE u.session_id = ?1 AND u.attendee_id = x.attendee_id)), count(*)
             FROM (SELECT DISTINCT attendee_id FROM scans
                WHERE session_id = ?1 AND room_way = 'in' AND undone_at IS NULL) x
             WHERE (SELECT session_id FROM ({LAST})) = ?1 AND (SELECT room_way FROM ({LAST})) = 'in'"
        ))
        .and_then(|mut q| q.query_row([facts.id.0], |row| Ok((row.get(0)?, row.get(1)?))))
        .doing("counting who is in a room")?;
    let after = SignedDuration::from_mins(i64::from(free_after));
    Ok(Room {
        session: facts.id,
        seats: facts.seats,
        sign_up: facts.sign_up,
        signed_up: facts.taken,
        signed_in,
        others_in: all_in - signed_in,
        free_from: facts.from.saturating_add(after).unwrap_or(facts.from),
    })
}

/// When and at which door somebody came into a session, if they are in it.
pub fn in_session(
    conn: &Connection,
    attendee: AttendeeId,
    session: SessionId,
) -> Result<Option<(Timestamp, String)>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT session_id, room_way, at, door FROM ({})",
        LAST.replace("x.attendee_id", "?1")
    ))
    .and_then(|mut q| {
        q.query_row([attendee.0], |row| {
            let mut c = InOrder::from(row, 0);
            let (of, way): (Option<i64>, String) = (c.next()?, c.next()?);
            let at = (c.instant()?, c.next()?);
            Ok((of == Some(session.0) && way == "in").then_some(at))
        })
        .optional()
    })
    .doing("looking who is in a room")
    .map(Option::flatten)
}

/// Who is in a session: who, since when, by which door.
pub fn in_room(
    conn: &Connection,
    session: SessionId,
) -> Result<Vec<(AttendeeId, Timestamp, String)>, StoreError> {
    let all: Vec<i64> = conn
        .prepare_cached(
            "SELECT DISTINCT attendee_id FROM scans
             WHERE session_id = ?1 AND room_way = 'in' AND undone_at IS NULL",
        )
        .and_then(|mut q| q.query_map([session.0], |row| row.get(0))?.collect())
        .doing("looking who is in a room")?;
    let mut inside = Vec::new();
    for attendee in all.into_iter().map(AttendeeId) {
        if let Some((at, door)) = in_session(conn, attendee, session)? {
            inside.push((attendee, at, door));
        }
    }
    Ok(inside)
}

/// The sessions of a date that each attendee signed up for, by attendee.
pub fn all_sign_ups(
    conn: &Connection,
    date: DateId,
) -> Result<Vec<(AttendeeId, SessionId)>, StoreError> {
    conn.prepare_cached(
        "SELECT u.attendee_id, u.session_id FROM date_sessions s JOIN sign_ups u ON u.session_id = s.id
         WHERE s.date_id = ?1 ORDER BY u.attendee_id, u.session_id",
    )
    .and_then(|mut q| {
        q.query_map([date.0], signed_up)?.collect()
    })
    .doing("reading sign-ups")
}

/// The sessions that somebody signed up for.
pub fn sign_ups(conn: &Connection, attendee: AttendeeId) -> Result<Vec<SessionId>, StoreError> {
    conn.prepare_cached("SELECT session_id FROM sign_ups WHERE attendee_id = ?1")
        .and_then(|mut q| q.query_map([attendee.0], |row| row.get(0).map(SessionId))?.collect())
        .doing("reading sign-ups")
}

/// How many came to each session of a date, whether they stayed or not.
pub fn came_to_sessions(
    conn: &Connection,
    date: DateId,
) -> Result<Vec<(SessionId, u32)>, StoreError> {
    conn.prepare_cached(
        "SELECT s.id, (SELECT count(DISTINCT attendee_id) FROM scans c
            WHERE c.session_id = s.id AND c.room_way = 'in' AND c.undone_at IS NULL)
         FROM date_sessions s WHERE s.date_id = ?1 ORDER BY s.id",
    )
    .and_then(|mut q| {
        q.query_map([date.0], |row| Ok((SessionId(row.get(0)?), row.get(1)?)))?.collect()
    })
    .doing("counting who came to sessions")
}
