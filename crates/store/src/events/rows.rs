//! The list of events at the Office.

use jiff::Timestamp;
use rusqlite::Connection;

use crate::convert::{foreign, instant_or};
use crate::events::event::{EVENT_COLUMNS, Event, event};
use crate::{Doing, StoreError};

/// An event in a list of events.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EventRow {
    /// The event.
    pub event: Event,
    /// When its first and its last date start, local.
    pub span: Option<(jiff::civil::DateTime, jiff::civil::DateTime)>,
    /// When its last date ends.
    pub ends_at: Option<Timestamp>,
    /// How many dates it has.
    pub dates: u32,
    /// Seats taken and in all, of its first pool.
    pub seats: (u32, u32),
}

/// All events with what a list says of them, those with the latest end first.
///
/// # Errors
/// SQLite refuses.
pub fn rows(conn: &Connection) -> Result<Vec<EventRow>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {EVENT_COLUMNS}, s.first, s.last, s.ends_at, coalesce(s.dates, 0) AS dates,
            coalesce(s.taken, 0) AS taken, coalesce(s.capacity, 0) AS capacity
         FROM events e LEFT JOIN (
            SELECT d.event_id, min(d.starts) AS first, max(d.starts) AS last, max(d.ends_at) AS ends_at,
                count(*) AS dates, sum(p.capacity) AS capacity,
                sum(p.held + p.requested + p.awaiting_payment + p.confirmed) AS taken
            FROM dates d LEFT JOIN pool_kinds k ON k.event_id = d.event_id AND k.position = 0
            LEFT JOIN pools p ON p.date_id = d.id AND p.kind_id = k.id GROUP BY d.event_id
         ) s ON s.event_id = e.id ORDER BY s.ends_at IS NULL DESC, s.ends_at DESC, e.id DESC"
    ))
    .and_then(|mut q| {
        q.query_map([], |row| {
            let local = |column| -> rusqlite::Result<Option<jiff::civil::DateTime>> {
                let text: Option<String> = row.get(column)?;
                text.map(|t| t.parse().map_err(|_| foreign("dates.starts", t))).transpose()
            };
            Ok(EventRow {
                event: event(row)?,
                span: local("first")?.zip(local("last")?),
                ends_at: instant_or(row, "ends_at")?,
                dates: row.get("dates")?,
                seats: (row.get("taken")?, row.get("capacity")?),
            })
        })?
        .collect()
    })
    .doing("listing events")
}
