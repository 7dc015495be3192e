//! Scans and passages: what was shown, who passed, what somebody has to look into.

use jiff::Timestamp;
use matricle_core::door::Presence;
use matricle_core::door::passages::{Finding, Passage, Way, standing};
use matricle_core::{AttendeeId, DateId, DeviceId, PersonId, SessionId};
use rusqlite::{Connection, OptionalExtension, Row};

use crate::convert::InOrder;
use crate::unreadable::readable;
use crate::{Doing, StoreError, Tx, us};

/// Scans that were written down with another one: those of a family's ticket.
pub fn scans_with(conn: &Connection, key: &str) -> Result<Vec<Scan>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {SCAN_COLUMNS} FROM scans WHERE scan_key > ?1 || '+' AND scan_key < ?1 || ',' ORDER BY id"
    ))
    .and_then(|mut q| readable("scans", q.query_map([key], scan)?))
    .doing("reading scans")
}

/// Notes the money that was taken with a scan.
pub fn set_payment(tx: &Tx<'_>, scan: i64, payment: &str) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE scans SET payment_id = ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((scan, payment)))
        .map(drop)
        .doing("noting money")
}

/// Says where an attendee is.
pub fn set_presence(
    tx: &Tx<'_>,
    id: AttendeeId,
    date: DateId,
    presence: &Presence,
) -> Result<(), StoreError> {
    tx.touch(date);
    let (word, at, door) = match presence {
        Presence::Expected => ("expected", None, None),
        Presence::In { at, door } => ("in", Some(us(*at)), Some(door.as_str())),
        Presence::Left => ("left", None, None),
        Presence::Missed => ("missed", None, None),
    };
    let was_in: bool = tx
        .prepare_cached("SELECT presence = 'in' FROM attendees WHERE id = ?1")
        .and_then(|mut q| q.query_row([id.0], |row| row.get(0)))
        .doing("looking an attendee up")?;
    let by = i64::from(word == "in") - i64::from(was_in);
    tx.prepare_cached("UPDATE dates SET inside = inside + ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((date.0, by)))
        .doing("counting who is in")?;
    tx.prepare_cached("UPDATE attendees SET presence = ?2, in_at = ?3, in_door = ?4 WHERE id = ?1")
        .and_then(|mut q| q.execute((id.0, word, at, door)))
        .map(drop)
        .doing("noting where an attendee is")
}

/// All passages of an attendee that were not undone.
pub fn passages(conn: &Connection, attendee: AttendeeId) -> Result<Vec<Passage>, StoreError> {
    conn.prepare_cached(
        "SELECT s.id, s.at, s.door, coalesce(d.name, p.name, ''), s.passage, s.room_way IS NOT NULL
         FROM scans s LEFT JOIN devices d ON d.id = s.device_id LEFT JOIN people p ON p.id = s.person_id
         WHERE s.attendee_id = ?1 AND s.passage IS NOT NULL AND s.undone_at IS NULL ORDER BY s.at, s.id",
    )
    .and_then(|mut q| q.query_map([attendee.0], passage)?.collect())
    .doing("reading passages")
}

fn passage(row: &Row<'_>) -> rusqlite::Result<Passage> {
    let mut c = InOrder::from(row, 0);
    Ok(Passage {
        scan: c.next()?,
        at: c.instant()?,
        door: c.next()?,
        by: c.next()?,
        way: c.word("scans.passage", Way::from_word)?,
        room: c.next()?,
    })
}

/// Sets where an attendee is by all their passages; gives where that is.
pub fn stand(tx: &Tx<'_>, id: AttendeeId, date: DateId) -> Result<Presence, StoreError> {
    let presence = standing(&passages(tx, id)?).presence;
    set_presence(tx, id, date, &presence)?;
    Ok(presence)
}

/// The passages of all who were let in twice at a date, by attendee and name.
pub fn in_more_than_once(
    conn: &Connection,
    date: DateId,
) -> Result<Vec<(AttendeeId, String, Vec<Passage>)>, StoreError> {
    let people: Vec<(i64, String)> = conn
        .prepare_cached(
            "SELECT a.id, a.name FROM scans s JOIN attendees a ON a.id = s.attendee_id
             WHERE s.date_id = ?1 AND s.passage = 'in' AND s.room_way IS NULL AND s.undone_at IS NULL
             GROUP BY a.id HAVING count(*) > 1 ORDER BY min(s.at)",
        )
        .and_then(|mut q| q.query_map([date.0], |row| Ok((row.get(0)?, row.get(1)?)))?.collect())
        .doing("looking who was let in twice")?;
    people
        .into_iter()
        .map(|(id, name)| Ok((AttendeeId(id), name, passages(conn, AttendeeId(id))?)))
        .collect()
}

/// A scan to be written down.
#[derive(Debug, Clone)]
pub struct NewScan<'a> {
    /// Given by the device.
    pub key: &'a str,
    /// At the door of this date.
    pub date: DateId,
    /// Whose ticket it was.
    pub attendee: Option<AttendeeId>,
    /// The verdict's word.
    pub verdict: &'a str,
    /// What the door was told, as JSON.
    pub told: &'a str,
    /// Which door.
    pub door: &'a str,
    /// Who scanned, or who answers for the device.
    pub person: PersonId,
    /// The device that joined, if it was one.
    pub device: Option<DeviceId>,
    /// What the device's clock said, if it did.
    pub device_at: Option<Timestamp>,
    /// When it happened.
    pub at: Timestamp,
    /// The way they went, if they passed the door of the date.
    pub passage: Option<Way>,
    /// The session into whose room they went, or out of it.
    pub room: Option<(SessionId, Way)>,
    /// What somebody has to look into.
    pub line: Option<&'a Finding>,
    /// The number of the receipt that the device gave.
    pub receipt: &'a str,
}

/// Writes a scan down.
pub fn add_scan(tx: &Tx<'_>, scan: &NewScan<'_>, now: Timestamp) -> Result<i64, StoreError> {
    let line = scan.line.map(crate::convert::json).transpose().doing("writing a scan")?;
    tx.prepare_cached(
        "INSERT INTO scans (scan_key, date_id, attendee_id, verdict, told, door, person_id, at, device_at,
            device_id, arrived_at, passage, line, receipt, session_id, room_way)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16)",
    )
    .and_then(|mut q| {
        q.execute(rusqlite::params![
            scan.key,
            scan.date.0,
            scan.attendee.map(|a| a.0),
            scan.verdict,
            scan.told,
            scan.door,
            scan.person.0,
            us(scan.at),
            scan.device_at.map(us),
            scan.device.map(|d| d.0),
            Some(us(now)).filter(|_| scan.at != now),
            scan.passage.map(Way::word),
            line,
            scan.receipt,
            scan.room.map(|(session, _)| session.0),
            scan.room.map(|(_, way)| way.word()),
        ])
    })
    .doing("writing a scan")?;
    Ok(tx.last_insert_rowid())
}

/// A scan as it was written down.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Scan {
    /// Its key.
    pub id: i64,
    /// At the door of this date.
    pub date: DateId,
    /// Whose ticket it was.
    pub attendee: Option<AttendeeId>,
    /// The verdict's word.
    pub verdict: String,
    /// What the door was told, as JSON.
    pub told: String,
    /// Which door.
    pub door: String,
    /// When.
    pub at: Timestamp,
    /// When it arrived, if that was later.
    pub arrived_at: Option<Timestamp>,
    /// The way they went, if they passed the door of the date.
    pub passage: Option<Way>,
    /// The way they went, if it was the door of a room.
    pub room_way: Option<Way>,
    /// What somebody has to look into.
    pub line: Option<Finding>,
    /// Who looked into it, and when.
    pub looked: Option<(Timestamp, String)>,
    /// The number of the receipt that the device gave.
    pub receipt: String,
    /// When it was undone.
    pub undone_at: Option<Timestamp>,
    /// Given by the device.
    pub key: String,
    /// The money that was taken with it.
    pub payment: Option<String>,
}

const SCAN_COLUMNS: &str = "id, date_id, attendee_id, verdict, told, door, at, arrived_at, passage, line, \
     looked_at, looked_by, receipt, undone_at, scan_key, payment_id, room_way";

fn scan(row: &Row<'_>) -> rusqlite::Result<Scan> {
    let mut c = InOrder::from(row, 0);
    Ok(Scan {
        id: c.next()?,
        date: DateId(c.next()?),
        attendee: c.next::<Option<i64>>()?.map(AttendeeId),
        verdict: c.next()?,
        told: c.next()?,
        door: c.next()?,
        at: c.instant()?,
        arrived_at: c.instant_or()?,
        passage: c.next::<Option<String>>()?.as_deref().and_then(Way::from_word),
        line: c
            .next::<Option<String>>()?
            .map(|json| {
                serde_json::from_str(&json).map_err(|_| crate::convert::foreign("scans.line", json))
            })
            .transpose()?,
        looked: {
            let looked: (Option<Timestamp>, String) = (c.instant_or()?, c.next()?);
            looked.0.map(|at| (at, looked.1))
        },
        receipt: c.next()?,
        undone_at: c.instant_or()?,
        key: c.next()?,
        payment: c.next()?,
        room_way: c.next::<Option<String>>()?.as_deref().and_then(Way::from_word),
    })
}

/// The scan a device gave this key, if it got through before.
pub fn scan_by_key(conn: &Connection, key: &str) -> Result<Option<Scan>, StoreError> {
    conn.prepare_cached(&format!("SELECT {SCAN_COLUMNS} FROM scans WHERE scan_key = ?1"))
        .and_then(|mut q| q.query_row([key], scan).optional())
        .doing("looking a scan up")
}

/// A scan by key.
pub fn scan_by_id(conn: &Connection, id: i64) -> Result<Option<Scan>, StoreError> {
    conn.prepare_cached(&format!("SELECT {SCAN_COLUMNS} FROM scans WHERE id = ?1"))
        .and_then(|mut q| q.query_row([id], scan).optional())
        .doing("looking a scan up")
}

/// The last scans of a date, newest first.
pub fn last_scans(conn: &Connection, date: DateId, most: u32) -> Result<Vec<Scan>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {SCAN_COLUMNS} FROM scans WHERE date_id = ?1 ORDER BY id DESC LIMIT ?2"
    ))
    .and_then(|mut q| readable("scans", q.query_map((date.0, most), scan)?))
    .doing("reading scans")
}

/// What a device did turns out to be something else than what was written down when it asked:
/// its answer came after it was given up.
pub fn amend_scan(
    tx: &Tx<'_>,
    id: i64,
    at: Timestamp,
    (passage, room): (Option<Way>, Option<(SessionId, Way)>),
    line: Option<&Finding>,
) -> Result<(), StoreError> {
    let line = line.map(crate::convert::json).transpose().doing("amending a scan")?;
    tx.prepare_cached(
        "UPDATE scans SET at = ?2, passage = ?3, line = ?4, session_id = ?5, room_way = ?6 WHERE id = ?1",
    )
        .and_then(|mut q| {
            let (session, way) = (room.map(|r| r.0.0), room.map(|r| r.1.word()));
            q.execute((id, us(at), passage.map(Way::word), line, session, way))
        })
        .map(drop)
        .doing("amending a scan")
}

/// Writes down what somebody has to look into at a scan.
pub fn set_line(tx: &Tx<'_>, id: i64, line: &Finding) -> Result<(), StoreError> {
    let line = crate::convert::json(line).doing("amending a scan")?;
    tx.execute("UPDATE scans SET line = ?2 WHERE id = ?1", (id, line))
        .map(drop)
        .doing("amending a scan")
}

/// Scans of a date that somebody has to look into, the oldest first, with those looked into.
pub fn with_a_line(conn: &Connection, date: DateId) -> Result<Vec<Scan>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {SCAN_COLUMNS} FROM scans WHERE date_id = ?1 AND line IS NOT NULL AND undone_at IS NULL ORDER BY at, id"
    ))
    .and_then(|mut q| readable("scans", q.query_map([date.0], scan)?))
    .doing("reading what is to be looked into")
}

/// Marks a line of the report as looked into, or not.
pub fn set_looked(
    tx: &Tx<'_>,
    id: i64,
    by: Option<&str>,
    now: Timestamp,
) -> Result<bool, StoreError> {
    tx.prepare_cached("UPDATE scans SET looked_at = ?2, looked_by = ?3 WHERE id = ?1")
        .and_then(|mut q| q.execute((id, by.map(|_| us(now)), by.unwrap_or_default())))
        .map(|n| n > 0)
        .doing("looking into a line")
}

/// Marks a scan as undone.
pub fn undo_scan(tx: &Tx<'_>, id: i64, now: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE scans SET undone_at = ?2 WHERE id = ?1 AND undone_at IS NULL")
        .and_then(|mut q| q.execute((id, us(now))))
        .map(drop)
        .doing("undoing a scan")
}
