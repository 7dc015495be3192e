//! What dates use, for finding clashes.

use jiff::Timestamp;
use matricle_core::DateId;
use matricle_core::dates::clash::{Resource, Use};
use matricle_core::words::fold;
use rusqlite::{Connection, Row};

use crate::convert::json;
use crate::events::longest;
use crate::{Doing, StoreError, at, us};

// Set-up and clear-up count. A date of slots uses nothing twice by being one of many.
const USES: &str = "
    WITH d AS (
        SELECT d.id, d.room_id, d.venue_id, e.format, d.event_id, d.starts_at - d.setup_minutes * 60000000 AS from_us,
            d.ends_at + d.clearup_minutes * 60000000 AS until_us
        FROM dates d JOIN events e ON e.id = d.event_id
        WHERE d.starts_at > :bound AND d.starts_at < :until + 86400000000 AND d.called_off = ''
            AND (d.ends_at + d.clearup_minutes * 60000000 > :from
                    AND d.starts_at - d.setup_minutes * 60000000 < :until
                OR EXISTS (SELECT 1 FROM date_sessions s WHERE s.date_id = d.id))
            AND e.state IN ('draft', 'published') AND e.thrown_at IS NULL
            AND (:all OR d.room_id IN (SELECT value FROM json_each(:rooms))
                OR d.venue_id IN (SELECT value FROM json_each(:venues))
                OR EXISTS (SELECT 1 FROM date_hosts dh WHERE dh.date_id = d.id
                    AND dh.host_id IN (SELECT value FROM json_each(:hosts)))
                OR EXISTS (SELECT 1 FROM date_sessions s WHERE s.date_id = d.id
                    AND (s.room_id IN (SELECT value FROM json_each(:rooms))
                        OR s.host_id IN (SELECT value FROM json_each(:hosts)))))
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
pub fn uses(conn: &Connection, from: Timestamp, until: Timestamp) -> Result<Vec<Use>, StoreError> {
    find(conn, from, until, None)
}

/// What those dates use between two instants that use one of these things; sets of equipment are
/// told by their names, so that asking for one asks for all.
pub fn uses_of(
    conn: &Connection,
    from: Timestamp,
    until: Timestamp,
    things: &[&Resource],
) -> Result<Vec<Use>, StoreError> {
    let named = things.iter().any(|t| matches!(t, Resource::Equipment(_)));
    find(conn, from, until, (!named).then_some(things))
}

fn find(
    conn: &Connection,
    from: Timestamp,
    until: Timestamp,
    things: Option<&[&Resource]>,
) -> Result<Vec<Use>, StoreError> {
    let keys = |of: fn(&Resource) -> Option<i64>| {
        let keys: Vec<i64> = things.iter().copied().flatten().filter_map(|t| of(t)).collect();
        json(&keys).doing("looking for what is used")
    };
    let rooms = keys(|t| if let Resource::Room(id) = t { Some(*id) } else { None })?;
    let venues = keys(|t| if let Resource::Venue(id) = t { Some(*id) } else { None })?;
    let hosts = keys(|t| if let Resource::Host(id) = t { Some(*id) } else { None })?;
    // Nothing is longer than the longest date with a day of setting up and one of clearing up.
    let bound = us(from).saturating_sub(longest(conn)?).saturating_sub(2 * 86_400_000_000);
    let until = us(until);
    conn.prepare_cached(USES)
        .and_then(|mut q| {
            q.query_map(
                rusqlite::named_params! {
                    ":bound": bound, ":from": us(from), ":until": until, ":all": things.is_none(),
                    ":rooms": rooms, ":venues": venues, ":hosts": hosts,
                },
                one,
            )?
            .collect()
        })
        .doing("looking for what is used")
}
