//! The list of events at the Office.

use jiff::Timestamp;
use matricle_core::PoolId;
use matricle_core::seats::{Pool, Taken};
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
    /// The seats of its first pool over its dates that take place, no more than rooms seat. A
    /// booking of a course takes a seat on each of its dates: there it is the fullest of them.
    pub seats: Pool,
}

/// All events with what a list says of them, those with the latest end first.
pub fn rows(conn: &Connection) -> Result<Vec<EventRow>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {EVENT_COLUMNS}, s.first, s.last, s.ends_at, coalesce(s.dates, 0) AS dates,
            coalesce(s.capacity, 0) AS capacity, coalesce(s.held, 0) AS held, coalesce(s.requested, 0) AS requested,
            coalesce(s.to_pay, 0) AS to_pay, coalesce(s.confirmed, 0) AS confirmed
         FROM events e LEFT JOIN (
            SELECT d.event_id, min(d.starts) AS first, max(d.starts) AS last, max(d.ends_at) AS ends_at,
                count(*) AS dates,
                CASE WHEN v.course THEN min(min(p.capacity, coalesce(r.seats, p.capacity)))
                    ELSE sum(min(p.capacity, coalesce(r.seats, p.capacity))) END AS capacity,
                CASE WHEN v.course THEN max(p.held) ELSE sum(p.held) END AS held,
                CASE WHEN v.course THEN max(p.requested) ELSE sum(p.requested) END AS requested,
                CASE WHEN v.course THEN max(p.awaiting_payment) ELSE sum(p.awaiting_payment) END AS to_pay,
                CASE WHEN v.course THEN max(p.confirmed) ELSE sum(p.confirmed) END AS confirmed
            FROM dates d JOIN events v ON v.id = d.event_id
            LEFT JOIN pool_kinds k ON k.event_id = d.event_id AND k.position = 0
            LEFT JOIN pools p ON p.date_id = d.id AND p.kind_id = k.id LEFT JOIN rooms r ON r.id = d.room_id
            WHERE d.called_off = '' OR v.state = 'called off' GROUP BY d.event_id
         ) s ON s.event_id = e.id WHERE e.thrown_at IS NULL ORDER BY s.ends_at IS NULL DESC, s.ends_at DESC, e.id DESC"
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
                seats: Pool {
                    id: PoolId(0),
                    name: "seats".into(),
                    capacity: row.get("capacity")?,
                    taken: Taken {
                        held: row.get("held")?,
                        requested: row.get("requested")?,
                        awaiting_payment: row.get("to_pay")?,
                        confirmed: row.get("confirmed")?,
                    },
                },
            })
        })?
        .collect()
    })
    .doing("listing events")
}
