//! Addresses at which somebody's calendar reads all that they booked.

use rusqlite::{Connection, OptionalExtension};

use crate::{Doing, StoreError, Tx};

/// The feed of an address: its key, and how often it was made anew.
pub fn of(conn: &Connection, email: &str) -> Result<Option<(i64, u32)>, StoreError> {
    conn.prepare_cached("SELECT id, steps FROM own_feeds WHERE email = ?1 AND withdrawn = 0")
        .and_then(|mut q| q.query_row([email], |row| Ok((row.get(0)?, row.get(1)?))).optional())
        .doing("looking a feed up")
}

/// Whose feed it is, and how often it was made anew, unless it was withdrawn.
pub fn by_id(conn: &Connection, id: i64) -> Result<Option<(String, u32)>, StoreError> {
    conn.prepare_cached("SELECT email, steps FROM own_feeds WHERE id = ?1 AND withdrawn = 0")
        .and_then(|mut q| q.query_row([id], |row| Ok((row.get(0)?, row.get(1)?))).optional())
        .doing("looking a feed up")
}

/// Makes a feed, or makes it anew: the address before opens nothing.
pub fn make(tx: &Tx<'_>, email: &str) -> Result<(), StoreError> {
    tx.execute(
        "INSERT INTO own_feeds (email, steps) VALUES (?1, 1)
         ON CONFLICT (email) DO UPDATE SET steps = steps + 1, withdrawn = 0",
        [email],
    )
    .map(drop)
    .doing("making a feed")
}

/// Withdraws the feed of an address.
pub fn withdraw(tx: &Tx<'_>, email: &str) -> Result<(), StoreError> {
    tx.execute("UPDATE own_feeds SET withdrawn = 1 WHERE email = ?1", [email])
        .map(drop)
        .doing("withdrawing a feed")
}
