//! Sign-ins, failures, roles given and taken, files taken away: who, what, from which
//! neighbourhood. Only ever added to, and forgotten after two years.

use jiff::{SignedDuration, Timestamp};
use rusqlite::Connection;

use crate::convert::instant;
use crate::{Doing, StoreError, Tx, us};

/// A line of the log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Noted {
    /// When.
    pub at: Timestamp,
    /// Who; an address for somebody who failed to sign in.
    pub who: String,
    /// What.
    pub what: String,
    /// From which neighbourhood of the network, shortened.
    pub from_where: String,
}

/// Adds a line.
pub fn note(
    tx: &Tx<'_>,
    who: &str,
    what: &str,
    from_where: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    let kept = now.saturating_sub(SignedDuration::from_hours(24 * 730)).unwrap_or(now);
    tx.prepare_cached("INSERT INTO audit (at, who, what, from_where) VALUES (?1, ?2, ?3, ?4)")
        .and_then(|mut q| q.execute((us(now), who, what, from_where)))
        .and_then(|_| tx.prepare_cached("DELETE FROM audit WHERE at < ?1")?.execute([us(kept)]))
        .map(drop)
        .doing("writing the audit log")
}

/// Whether something was ever noted, word for word.
pub fn has(conn: &Connection, what: &str) -> Result<bool, StoreError> {
    conn.prepare_cached("SELECT EXISTS (SELECT 1 FROM audit WHERE what = ?1)")
        .and_then(|mut q| q.query_row([what], |row| row.get(0)))
        .doing("reading the audit log")
}

/// The latest lines, the newest first, and how many there are in all.
pub fn latest(conn: &Connection, most: u32) -> Result<(Vec<Noted>, u32), StoreError> {
    let read = || -> rusqlite::Result<(Vec<Noted>, u32)> {
        let lines = conn
            .prepare_cached(
                "SELECT at, who, what, from_where FROM audit ORDER BY id DESC LIMIT ?1",
            )?
            .query_map([most], |row| {
                Ok(Noted {
                    at: instant(row, "at")?,
                    who: row.get("who")?,
                    what: row.get("what")?,
                    from_where: row.get("from_where")?,
                })
            })?
            .collect::<Result<_, _>>()?;
        let all = conn.query_row("SELECT count(*) FROM audit", [], |row| row.get(0))?;
        Ok((lines, all))
    };
    read().doing("reading the audit log")
}
