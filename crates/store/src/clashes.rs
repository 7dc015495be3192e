//! What dates use, for finding clashes.

use jiff::Timestamp;
use matricle_core::DateId;
use matricle_core::clash::{Resource, Use};
use matricle_core::words::fold;
use rusqlite::{Connection, Row};

use crate::events::longest;
use crate::{Doing, StoreError, at, us};

// Set-up and clear-up count. A date of slots uses nothing twice by being one of many.
const USES: &str = "
    WITH d AS (
        SELECT d.id, d.room_id, d.venue_id, e.format, d.event_id, d.starts_at - d.setup_minutes * 60000000 AS from_us,
            d.ends_at + d.clearup_minutes * 60000000 AS until_us
        FROM dates d JOIN events e ON e.id = d.event_id
        WHERE d.starts_at > :bound AND d.starts_at < :until + 86400000000 AND d.called_off = ''
            AND e.state IN ('draft', 'published') AND e.thrown_at IS NULL
    )
    SELECT 'room' AS what, room_id AS id, '' AS name, d.id AS date_id, 0 AS session_id, from_us, until_us FROM d
        WHERE room_id IS NOT NULL AND until_us > :from AND from_us < :until
            AND NOT EXISTS (SELECT 1 FROM date_sessions s WHERE s.date_id = d.id AND s.room_id = d.room_id)
    UNION ALL
    SELECT 'room', s.room_id, '', d.id, s.id, s.starts_at, s.ends_at FROM d
        JOIN date_sessions s ON s.date_id = d.id
        WHERE s.room_id IS NOT NULL AND s.ends_at > :from AND s.starts_at < :until
    UNION ALL
    SELECT 'venue', venue_id, '', d.id, 0, from_us, until_us FROM d
        WHERE room_id IS NULL AND format <> 'online' AND until_us > :from AND from_us < :until
            AND NOT EXISTS (SELECT 1 FROM rooms r WHERE r.venue_id = d.venue_id)
    UNION ALL
    SELECT 'host', dh.host_id, '', d.id, 0, from_us, until_us FROM d JOIN date_hosts dh ON dh.date_id = d.id
        WHERE until_us > :from AND from_us < :until
    UNION ALL
    SELECT 'host', s.host_id, '', d.id, s.id, s.starts_at, s.ends_at FROM d
        JOIN date_sessions s ON s.date_id = d.id
        WHERE s.host_id IS NOT NULL AND s.ends_at > :from AND s.starts_at < :until
    UNION ALL
    SELECT 'equipment', 0, k.name, d.id, 0, from_us, until_us FROM d
        JOIN pool_kinds k ON k.event_id = d.event_id AND k.position > 0
        WHERE until_us > :from AND from_us < :until";

fn one(row: &Row<'_>) -> rusqlite::Result<Use> {
    let what: String = row.get("what")?;
    let id: i64 = row.get("id")?;
    let name: String = row.get("name")?;
    Ok(Use {
        resource: match what.as_str() {
            "room" => Resource::Room(id),
            "venue" => Resource::Venue(id),
            "host" => Resource::Host(id),
            _ => Resource::Equipment(fold(&name)),
        },
        from: at(row.get("from_us")?),
        until: at(row.get("until_us")?),
        date: DateId(row.get("date_id")?),
        session: row.get("session_id")?,
    })
}

/// Everything that dates use between two instants.
///
/// # Errors
/// SQLite refuses.
pub fn uses(conn: &Connection, from: Timestamp, until: Timestamp) -> Result<Vec<Use>, StoreError> {
    // Nothing is longer than the longest date with a day of setting up and one of clearing up.
    let bound = us(from).saturating_sub(longest(conn)?).saturating_sub(2 * 86_400_000_000);
    let until = us(until);
    conn.prepare_cached(USES)
        .and_then(|mut q| {
            q.query_map(
                rusqlite::named_params! { ":bound": bound, ":from": us(from), ":until": until },
                one,
            )?
            .collect()
        })
        .doing("looking for what is used")
}
