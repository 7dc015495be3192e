//! Devices that have joined to check people in.

use jiff::Timestamp;
use matricle_core::door::device::Grant;
use matricle_core::{DateId, DeviceId, PersonId};
use rusqlite::{Connection, OptionalExtension, Row};

use crate::convert::{InOrder, foreign};
use crate::unreadable::readable;
use crate::{Doing, StoreError, Tx, us};

/// A device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Device {
    /// Its key.
    pub id: DeviceId,
    /// What it is called.
    pub name: String,
    /// What it may do.
    pub grant: Grant,
    /// Who answers for it.
    pub made_by: PersonId,
    /// Their name.
    pub made_by_name: String,
    /// When it joined; none while its letters wait.
    pub joined_at: Option<Timestamp>,
    /// Until when its letters are good.
    pub letters_until: Option<Timestamp>,
    /// It has said that it keeps nothing any more.
    pub wiped_at: Option<Timestamp>,
    /// Which door it stands at, as it said last.
    pub door: String,
    /// When it was heard of last.
    pub seen_at: Option<Timestamp>,
    /// When it took the roster along last.
    pub roster_at: Option<Timestamp>,
    /// Scans that wait on it to be sent, as it said last.
    pub to_send: u32,
    /// How far its clock is behind the house's, in milliseconds.
    pub behind_ms: i64,
}

const COLUMNS: &str = "d.id, d.name, d.dates, d.takes_money, d.ends_at, d.sent_away_at, d.made_by, p.name, \
     d.joined_at, d.letters_until, d.wiped_at, d.door, d.seen_at, d.roster_at, d.to_send, d.behind_ms";

fn device(row: &Row<'_>) -> rusqlite::Result<Device> {
    let mut c = InOrder::from(row, 0);
    let (id, name, dates) = (DeviceId(c.next()?), c.next()?, c.next::<String>()?);
    let dates: Vec<DateId> =
        serde_json::from_str(&dates).map_err(|_| foreign("devices.dates", dates))?;
    let takes_money = c.next()?;
    let grant = Grant { dates, takes_money, ends_at: c.instant()?, sent_away_at: c.instant_or()? };
    Ok(Device {
        id,
        name,
        grant,
        made_by: PersonId(c.next()?),
        made_by_name: c.next()?,
        joined_at: c.instant_or()?,
        letters_until: c.instant_or()?,
        wiped_at: c.instant_or()?,
        door: c.next()?,
        seen_at: c.instant_or()?,
        roster_at: c.instant_or()?,
        to_send: c.next()?,
        behind_ms: c.next()?,
    })
}

fn one(
    conn: &Connection,
    condition: &str,
    value: impl rusqlite::ToSql,
) -> Result<Option<Device>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM devices d JOIN people p ON p.id = d.made_by WHERE {condition} = ?1"
    ))
    .and_then(|mut q| q.query_row([value], device).optional())
    .doing("looking a device up")
}

/// A device by key.
pub fn by_id(conn: &Connection, id: DeviceId) -> Result<Option<Device>, StoreError> {
    one(conn, "d.id", id.0)
}

/// The device whose cookie this is.
pub fn by_token(conn: &Connection, hash: &[u8; 32]) -> Result<Option<Device>, StoreError> {
    one(conn, "d.token_hash", hash)
}

/// The device that waits for these letters.
pub fn by_letters(conn: &Connection, hash: &[u8; 32]) -> Result<Option<Device>, StoreError> {
    one(conn, "d.letters_hash", hash)
}

/// All devices that ended later than `since`, those that stand first.
pub fn all(conn: &Connection, since: Timestamp) -> Result<Vec<Device>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM devices d JOIN people p ON p.id = d.made_by WHERE d.ends_at > ?1
            AND (d.joined_at IS NOT NULL OR d.letters_until > ?1)
         ORDER BY d.sent_away_at IS NOT NULL, d.id DESC LIMIT 200"
    ))
    .and_then(|mut q| readable("devices", q.query_map([us(since)], device)?))
    .doing("reading devices")
}

/// A device that is to join.
#[derive(Debug, Clone)]
pub struct NewDevice<'a> {
    /// What it is called.
    pub name: &'a str,
    /// What it may do.
    pub grant: &'a Grant,
    /// Who answers for it.
    pub by: PersonId,
    /// SHA-256 of its letters.
    pub letters_hash: &'a [u8; 32],
    /// Until when they are good.
    pub letters_until: Timestamp,
}

/// Lets a device join, once it says its letters. Those whose letters nobody used go.
pub fn add(tx: &Tx<'_>, new: &NewDevice<'_>, now: Timestamp) -> Result<DeviceId, StoreError> {
    let write = || -> rusqlite::Result<i64> {
        tx.execute(
            "DELETE FROM devices WHERE joined_at IS NULL AND letters_until <= ?1",
            [us(now)],
        )?;
        tx.execute(
            "INSERT INTO devices (name, dates, takes_money, made_at, made_by, letters_hash, letters_until, ends_at)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
            (
                new.name,
                crate::convert::json(&new.grant.dates)?,
                new.grant.takes_money,
                us(now),
                new.by.0,
                new.letters_hash,
                us(new.letters_until),
                us(new.grant.ends_at),
            ),
        )?;
        Ok(tx.last_insert_rowid())
    };
    write().map(DeviceId).doing("letting a device join")
}

/// A device has said its letters: they are used up, and its cookie is known.
pub fn joined(
    tx: &Tx<'_>,
    id: DeviceId,
    token_hash: &[u8; 32],
    now: Timestamp,
) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE devices SET letters_hash = NULL, letters_until = NULL, token_hash = ?2, joined_at = ?3, seen_at = ?3
         WHERE id = ?1",
    )
    .and_then(|mut q| q.execute((id.0, token_hash, us(now))))
    .map(drop)
    .doing("joining a device")
}

/// Sends a device away.
pub fn send_away(tx: &Tx<'_>, id: DeviceId, by: &str, now: Timestamp) -> Result<bool, StoreError> {
    tx.prepare_cached(
        "UPDATE devices SET sent_away_at = ?2, sent_away_by = ?3, letters_hash = NULL, letters_until = NULL,
            announced = min(to_send, 1000)
         WHERE id = ?1 AND sent_away_at IS NULL",
    )
    .and_then(|mut q| q.execute((id.0, us(now), by)))
    .map(|n| n > 0)
    .doing("sending a device away")
}

/// Takes one of the scans that a device had announced before it was sent away; false where it
/// had announced no more.
pub fn take_announced(tx: &Tx<'_>, id: DeviceId) -> Result<bool, StoreError> {
    tx.prepare_cached(
        "UPDATE devices SET announced = announced - 1 WHERE id = ?1 AND announced > 0",
    )
    .and_then(|mut q| q.execute([id.0]))
    .map(|n| n > 0)
    .doing("taking what a device announced")
}

/// What a device says of itself.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Said {
    /// Which door it stands at.
    pub door: String,
    /// Scans that wait on it.
    pub to_send: u32,
    /// How far its clock is behind, in milliseconds.
    pub behind_ms: i64,
    /// It took the roster along now.
    pub took_roster: bool,
    /// It keeps nothing any more.
    pub wiped: bool,
}

/// A device was heard of.
pub fn heard(tx: &Tx<'_>, id: DeviceId, said: &Said, now: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE devices SET door = ?2, to_send = ?3, behind_ms = ?4, seen_at = ?5,
            roster_at = CASE WHEN ?6 THEN ?5 ELSE roster_at END,
            wiped_at = CASE WHEN ?7 THEN coalesce(wiped_at, ?5) ELSE wiped_at END
         WHERE id = ?1",
    )
    .and_then(|mut q| {
        q.execute((
            id.0,
            &said.door,
            said.to_send,
            said.behind_ms,
            us(now),
            said.took_roster,
            said.wiped,
        ))
    })
    .map(drop)
    .doing("hearing of a device")
}
