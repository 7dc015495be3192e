//! Counts of a date at its door.

use jiff::Timestamp;
use matricle_core::DateId;
use rusqlite::Connection;

use crate::states::sql;
use crate::{Doing, StoreError, us};

/// People let in at a date since an instant.
pub fn admitted_since(
    conn: &Connection,
    date: DateId,
    since: Timestamp,
) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT count(*) FROM attendees WHERE date_id = ?1 AND presence = 'in' AND in_at >= ?2",
    )
    .and_then(|mut q| q.query_row((date.0, us(since)), |row| row.get(0)))
    .doing("counting who came")
}

/// People on confirmed bookings of a date.
pub fn expected(conn: &Connection, date: DateId) -> Result<u32, StoreError> {
    conn.prepare_cached(sql!(
        "SELECT count(*) FROM attendees a JOIN bookings b ON b.id = a.booking_id
         WHERE a.date_id = ?1 AND b.state = {Confirmed} AND b.test = 0 AND a.cancelled_at IS NULL"
    ))
    .and_then(|mut q| q.query_row([date.0], |row| row.get(0)))
    .doing("counting who is expected")
}

/// When each one who came to a date came first, in minutes after its start.
pub fn arrivals(conn: &Connection, date: DateId) -> Result<Vec<i32>, StoreError> {
    conn.prepare_cached(
        "SELECT (min(s.at) - d.starts_at) / 60000000 FROM scans s JOIN dates d ON d.id = s.date_id
         WHERE s.date_id = ?1 AND s.passage = 'in' AND s.undone_at IS NULL GROUP BY s.attendee_id",
    )
    .and_then(|mut q| q.query_map([date.0], |row| row.get(0))?.collect())
    .doing("reading when people came")
}

/// Dates that are over and to which people came, the latest first: of the same event, then of
/// events of the same kind.
pub fn dates_like(conn: &Connection, date: DateId, most: u32) -> Result<Vec<DateId>, StoreError> {
    conn.prepare_cached(
        "SELECT o.id FROM dates d JOIN events e ON e.id = d.event_id JOIN events k ON k.kind = e.kind
         JOIN dates o ON o.event_id = k.id
         WHERE d.id = ?1 AND o.id <> d.id AND o.ends_at < d.starts_at AND o.called_off = ''
            AND EXISTS (SELECT 1 FROM scans s WHERE s.date_id = o.id AND s.passage = 'in')
         ORDER BY o.event_id <> d.event_id, o.starts_at DESC LIMIT ?2",
    )
    .and_then(|mut q| q.query_map((date.0, most), |row| row.get(0).map(DateId))?.collect())
    .doing("looking for like dates")
}

/// Seconds that a scan takes at a date while people stand in line: the median of the times
/// between scans of one lane that follow one another within half a minute. None of too few.
pub fn seconds_a_scan(conn: &Connection, date: DateId) -> Result<Option<f64>, StoreError> {
    let mut gaps: Vec<f64> = conn
        .prepare_cached(
            "SELECT gap / 1000000.0 FROM (SELECT at - lag(at) OVER (PARTITION BY door, coalesce(-device_id, person_id) ORDER BY at) AS gap
                FROM (SELECT * FROM scans WHERE date_id = ?1 ORDER BY id DESC LIMIT 400))
             WHERE gap BETWEEN 500000 AND 30000000",
        )
        .and_then(|mut q| q.query_map([date.0], |row| row.get(0))?.collect())
        .doing("measuring scans")?;
    gaps.sort_by(f64::total_cmp);
    Ok((gaps.len() >= 8).then(|| gaps[gaps.len() / 2]))
}

/// Lanes that scanned since an instant.
pub fn lanes_at_work(conn: &Connection, date: DateId, since: Timestamp) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT count(DISTINCT door || coalesce(-device_id, person_id)) FROM scans WHERE date_id = ?1 AND at >= ?2",
    )
    .and_then(|mut q| q.query_row((date.0, us(since)), |row| row.get(0)))
    .doing("counting lanes")
}

/// How many seats of a date were given up.
pub fn given_up(conn: &Connection, date: DateId) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT count(*) FROM attendees WHERE date_id = ?1 AND given_up_at IS NOT NULL",
    )
    .and_then(|mut q| q.query_row([date.0], |row| row.get(0)))
    .doing("counting seats given up")
}

/// How many attendees a date has, and the key of the latest.
pub fn how_many(conn: &Connection, date: DateId) -> Result<(u32, i64), StoreError> {
    conn.prepare_cached("SELECT count(*), coalesce(max(id), 0) FROM attendees WHERE date_id = ?1")
        .and_then(|mut q| q.query_row([date.0], |row| Ok((row.get(0)?, row.get(1)?))))
        .doing("counting attendees")
}
