//! How events cut slots from the opening hours.

use jiff::civil;
use matricle_core::EventId;
use rusqlite::{Connection, OptionalExtension};

use crate::convert::foreign;
use crate::events::new::SlotPlan;
use crate::states::sql;
use crate::{Doing, StoreError, Tx};

/// Writes down how an event cuts its slots; they are cut afresh from here on.
pub fn set_plan(tx: &Tx<'_>, event: EventId, plan: &SlotPlan) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        let venue = crate::places::venue(tx, &plan.venue, "", "")?;
        let room = crate::places::room(tx, venue, &plan.room)?;
        tx.execute(
            "INSERT INTO slot_plans (event_id, minutes, pause, desks, notice_hours, ahead_days, venue_id, room_id)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)
             ON CONFLICT (event_id) DO UPDATE SET minutes = ?2, pause = ?3, desks = ?4, notice_hours = ?5,
                ahead_days = ?6, venue_id = ?7, room_id = ?8, cut_until = ''",
            (
                event.0,
                plan.minutes,
                plan.pause,
                plan.desks,
                plan.notice_hours,
                plan.ahead_days,
                venue,
                room,
            ),
        )
        .map(drop)
    };
    write().doing("planning slots")
}

/// How an event cuts its slots, if it has slots.
pub fn plan_of(conn: &Connection, event: EventId) -> Result<Option<SlotPlan>, StoreError> {
    conn.prepare_cached(
        "SELECT s.minutes, s.pause, s.desks, s.notice_hours, s.ahead_days, v.name AS venue,
            coalesce((SELECT name FROM rooms WHERE id = s.room_id), '') AS room
         FROM slot_plans s JOIN venues v ON v.id = s.venue_id WHERE s.event_id = ?1",
    )
    .and_then(|mut q| {
        q.query_row([event.0], |row| {
            Ok(SlotPlan {
                minutes: row.get("minutes")?,
                pause: row.get("pause")?,
                desks: row.get("desks")?,
                notice_hours: row.get("notice_hours")?,
                ahead_days: row.get("ahead_days")?,
                venue: row.get("venue")?,
                room: row.get("room")?,
            })
        })
        .optional()
    })
    .doing("reading how slots are cut")
}

/// Events whose slots are not yet cut up to their last day, as of `today`.
pub fn to_cut(
    conn: &Connection,
    today: civil::Date,
) -> Result<Vec<(EventId, civil::Date)>, StoreError> {
    conn.prepare_cached(
        "SELECT s.event_id, date(?1, '+' || s.ahead_days || ' days') AS last FROM slot_plans s
         JOIN events e ON e.id = s.event_id
         WHERE e.state IN ('draft', 'published') AND e.thrown_at IS NULL AND s.cut_until < date(?1, '+' || s.ahead_days || ' days')",
    )
    .and_then(|mut q| {
        q.query_map([today.to_string()], |row| {
            let last: String = row.get(1)?;
            Ok((EventId(row.get(0)?), last.parse().map_err(|_| foreign("slots.last", last))?))
        })?
        .collect()
    })
    .doing("looking for slots to cut")
}

/// Notes up to which day the slots of an event are cut; none when they must be cut again.
pub fn cut_until(
    tx: &Tx<'_>,
    event: Option<EventId>,
    day: Option<civil::Date>,
) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE slot_plans SET cut_until = ?2 WHERE ?1 IS NULL OR event_id = ?1",
        (event.map(|e| e.0), day.map_or_else(String::new, |d| d.to_string())),
    )
    .map(drop)
    .doing("noting how far slots are cut")
}

/// Bookings that stand on the slots of a day.
pub fn booked_on(conn: &Connection, day: civil::Date) -> Result<u32, StoreError> {
    conn.prepare_cached(sql!(
        "SELECT count(*) FROM bookings b JOIN dates d ON d.id = b.date_id
         JOIN slot_plans s ON s.event_id = d.event_id
         WHERE substr(d.starts, 1, 10) = ?1 AND b.test = 0
            AND b.state IN {keeps_seats}"
    ))
    .and_then(|mut q| q.query_row([day.to_string()], |row| row.get(0)))
    .doing("counting bookings of slots")
}
