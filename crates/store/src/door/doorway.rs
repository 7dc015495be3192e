//! What holds at the doors of a date.

use jiff::Timestamp;
use matricle_core::DateId;
use matricle_core::dates::schedule::Span;
use matricle_core::door::{Door, Gate};
use rusqlite::{Connection, OptionalExtension};

use crate::convert::InOrder;
use crate::{Doing, StoreError, Tx, us};

/// When a date is, who opened its door on another day, and what holds at its doors.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Doorway {
    /// When the date is.
    pub span: Span,
    /// Who opened its door.
    pub opened_by: Option<String>,
    /// Whoever went out may come in again.
    pub again: bool,
    /// People inside.
    pub inside: u32,
    /// The most that may be inside at once.
    pub most_inside: Option<u32>,
    /// Who lifted that limit and why, if somebody did.
    pub lifted: Option<(String, String)>,
    /// Minutes after the start at which the seats of those who have not come are given up.
    pub give_up_minutes: Option<u32>,
    /// Minutes after a session's start at which the seats of sign-ups who have not come are free.
    pub free_after_minutes: u32,
    /// On which sheet or roll badges are printed at the door, by its name; empty for the first.
    pub badge_sheet: String,
    /// When the list of who came was closed, and by whom.
    pub closed: Option<(Timestamp, String)>,
}

impl Doorway {
    /// What a verdict rests on at one of the doors.
    #[must_use]
    pub fn gate(&self, date: DateId, doors: Vec<Door>, door: &str) -> Gate {
        Gate {
            date,
            again: self.again,
            inside: self.inside,
            coming: 1,
            most: self.most_inside.filter(|_| self.lifted.is_none()),
            doors,
            door: door.into(),
        }
    }
}

/// The doors of a date that have names of their own.
pub fn doors(conn: &Connection, date: DateId) -> Result<Vec<Door>, StoreError> {
    conn.prepare_cached(
        "SELECT o.name, o.tickets, coalesce(r.name, '') FROM doors o LEFT JOIN rooms r ON r.id = o.room_id
         WHERE o.date_id = ?1 ORDER BY o.position",
    )
        .and_then(|mut q| {
            q.query_map([date.0], |row| {
                let tickets: String = row.get(1)?;
                let tickets = serde_json::from_str(&tickets)
                    .map_err(|_| crate::convert::foreign("doors.tickets", tickets))?;
                Ok(Door { name: row.get(0)?, tickets, room: row.get(2)? })
            })?
            .collect()
        })
        .doing("reading doors")
}

/// What holds at the doors of a date.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct AtDoors {
    /// Whoever went out may come in again.
    pub again: bool,
    /// The most that may be inside at once.
    pub most_inside: Option<u32>,
    /// Minutes after the start at which the seats of those who have not come are given up.
    pub give_up_minutes: Option<u32>,
    /// Minutes after a session's start at which the seats of sign-ups who have not come are free.
    pub free_after_minutes: u32,
    /// On which sheet or roll badges are printed at the door, by its name; empty for the first.
    pub badge_sheet: String,
    /// Doors with names of their own.
    pub doors: Vec<Door>,
}

/// Sets what holds at the doors of a date. A limit that changes is lifted no more.
pub fn set_doors(tx: &Tx<'_>, date: DateId, at: &AtDoors) -> Result<(), StoreError> {
    tx.touch(date);
    let write = || -> rusqlite::Result<()> {
        tx.execute(
            "UPDATE dates SET again = ?2, give_up_minutes = ?4, free_after_minutes = ?5, badge_sheet = ?6,
                lifted_by = CASE WHEN most_inside IS ?3 THEN lifted_by ELSE '' END,
                lifted_why = CASE WHEN most_inside IS ?3 THEN lifted_why ELSE '' END, most_inside = ?3
             WHERE id = ?1",
            (date.0, at.again, at.most_inside, at.give_up_minutes, at.free_after_minutes, &at.badge_sheet),
        )?;
        tx.execute("DELETE FROM doors WHERE date_id = ?1", [date.0])?;
        for (position, door) in at.doors.iter().enumerate() {
            let tickets = crate::convert::json(&door.tickets)?;
            tx.execute(
                "INSERT INTO doors (date_id, position, name, tickets, room_id) VALUES (?1, ?2, ?3, ?4,
                    (SELECT room_id FROM date_sessions s JOIN rooms r ON r.id = s.room_id
                     WHERE s.date_id = ?1 AND r.name = ?5))",
                (date.0, i64::try_from(position).unwrap_or(0), &door.name, tickets, &door.room),
            )?;
        }
        Ok(())
    };
    write().doing("setting doors")
}

/// Lifts the limit of a date, or lets it hold again.
pub fn set_lifted(tx: &Tx<'_>, date: DateId, by: &str, why: &str) -> Result<(), StoreError> {
    tx.touch(date);
    tx.prepare_cached("UPDATE dates SET lifted_by = ?2, lifted_why = ?3 WHERE id = ?1")
        .and_then(|mut q| q.execute((date.0, by, why)))
        .map(drop)
        .doing("lifting a limit")
}

/// The doorway of a date.
pub fn doorway(conn: &Connection, date: DateId) -> Result<Option<Doorway>, StoreError> {
    conn.prepare_cached(
        "SELECT starts, ends, zone, starts_at, ends_at, CASE WHEN door_opened_at IS NULL THEN NULL ELSE door_opened_by END,
            again, inside, most_inside, lifted_by, lifted_why, give_up_minutes, free_after_minutes, badge_sheet, list_closed_at, list_closed_by
         FROM dates WHERE id = ?1",
    )
    .and_then(|mut q| {
        q.query_row([date.0], |row| {
            let mut c = InOrder::from(row, 5);
            let opened_by = c.next()?;
            let (again, inside, most_inside) = (c.next()?, c.next()?, c.next()?);
            let lifted: (String, String) = (c.next()?, c.next()?);
            let (give_up_minutes, free_after_minutes, badge_sheet) =
                (c.next()?, c.next()?, c.next()?);
            let closed: (Option<Timestamp>, String) = (c.instant_or()?, c.next()?);
            Ok(Doorway {
                span: crate::events::span(row)?,
                opened_by,
                again,
                inside,
                most_inside,
                lifted: Some(lifted).filter(|l| !l.0.is_empty()),
                give_up_minutes,
                free_after_minutes,
                badge_sheet,
                closed: closed.0.map(|at| (at, closed.1)),
            })
        })
        .optional()
    })
    .doing("looking a doorway up")
}

/// Opens the door of a date on another day than its own, or leaves it to its day again.
pub fn set_open(
    tx: &Tx<'_>,
    date: DateId,
    by: Option<&str>,
    now: Timestamp,
) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE dates SET door_opened_at = ?2, door_opened_by = ?3 WHERE id = ?1")
        .and_then(|mut q| q.execute((date.0, by.map(|_| us(now)), by.unwrap_or_default())))
        .map(drop)
        .doing("opening a door")
}

/// Dates whose door an organiser has opened and that are not over for longer than a day.
pub fn opened(conn: &Connection, since: Timestamp) -> Result<Vec<DateId>, StoreError> {
    conn.prepare_cached("SELECT id FROM dates WHERE door_opened_at IS NOT NULL AND ends_at > ?1")
        .and_then(|mut q| q.query_map([us(since)], |row| row.get(0).map(DateId))?.collect())
        .doing("looking for open doors")
}

/// Accepts that the pools of a date are over-full: of seats given up somebody else has taken.
pub fn accept_over_full(tx: &Tx<'_>, date: DateId) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE pools SET accepted = held + requested + awaiting_payment + confirmed
         WHERE date_id = ?1 AND held + requested + awaiting_payment + confirmed > max(capacity, accepted)",
    )
    .and_then(|mut q| q.execute([date.0]))
    .map(drop)
    .doing("accepting an over-full pool")
}

/// Closes the list of a date, or opens it again.
pub fn set_list_closed(
    tx: &Tx<'_>,
    date: DateId,
    by: Option<(Timestamp, &str)>,
) -> Result<(), StoreError> {
    tx.touch(date);
    tx.prepare_cached("UPDATE dates SET list_closed_at = ?2, list_closed_by = ?3 WHERE id = ?1")
        .and_then(|mut q| q.execute((date.0, by.map(|b| us(b.0)), by.map_or("", |b| b.1))))
        .map(drop)
        .doing("closing a list")
}
