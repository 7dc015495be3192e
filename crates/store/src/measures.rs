//! Numbers for whoever watches over the program: counts, no names.

use jiff::Timestamp;
use rusqlite::{Connection, OptionalExtension};

use crate::{Doing, StoreError, at};

/// What a house holds, in numbers.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Measures {
    /// Bookings by state.
    pub bookings: Vec<(String, i64)>,
    /// Messages by state.
    pub messages: Vec<(String, i64)>,
    /// Rows of what runs by itself that are set aside.
    pub set_aside: i64,
    /// Bytes of the database.
    pub bytes: i64,
}

/// Counts what a house holds.
pub fn measure(conn: &Connection) -> Result<Measures, StoreError> {
    let by_state = |table: &str| -> rusqlite::Result<Vec<(String, i64)>> {
        conn.prepare_cached(&format!(
            "SELECT state, count(*) FROM {table} GROUP BY state ORDER BY state"
        ))?
        .query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?
        .collect()
    };
    let read = || -> rusqlite::Result<Measures> {
        let number = |sql: &str| conn.query_row(sql, [], |row| row.get::<_, i64>(0));
        Ok(Measures {
            bookings: by_state("bookings")?,
            messages: by_state("outbox")?,
            set_aside: number("SELECT count(*) FROM set_aside")?,
            bytes: number("PRAGMA page_count")? * number("PRAGMA page_size")?,
        })
    };
    read().doing("counting what the house holds")
}

/// The latest instant that the house has on record as past: of a timeline, the books or the
/// audit log.
pub fn latest(conn: &Connection) -> Result<Option<Timestamp>, StoreError> {
    let mut latest = None;
    for table in ["timeline", "entries", "audit"] {
        let found: Option<i64> = conn
            .query_row(&format!("SELECT at FROM {table} ORDER BY id DESC LIMIT 1"), [], |r| {
                r.get(0)
            })
            .optional()
            .doing("looking for the latest on record")?;
        latest = latest.max(found);
    }
    Ok(latest.map(at))
}
