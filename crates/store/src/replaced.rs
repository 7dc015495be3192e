//! How often keys of secret addresses were replaced.

use rusqlite::Connection;

use crate::{Doing, StoreError, Tx};

/// All that were: of what, of which, how often.
pub fn all(conn: &Connection) -> Result<Vec<(String, String, u32)>, StoreError> {
    conn.prepare_cached("SELECT what, key, times FROM replaced_keys")
        .and_then(|mut q| {
            q.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?.collect()
        })
        .doing("reading which keys were replaced")
}

/// Replaces one once more; how often it has been then.
pub fn once_more(tx: &Tx<'_>, what: &str, key: &str) -> Result<u32, StoreError> {
    tx.prepare_cached(
        "INSERT INTO replaced_keys (what, key, times) VALUES (?1, ?2, 1)
         ON CONFLICT (what, key) DO UPDATE SET times = times + 1 RETURNING times",
    )
    .and_then(|mut q| q.query_row((what, key), |row| row.get(0)))
    .doing("replacing a key")
}
