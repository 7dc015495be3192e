//! Lists that somebody comes back to.

use matricle_core::PersonId;
use rusqlite::Connection;

use crate::{Doing, StoreError, Tx};

/// The saved views of somebody: key, name, and what the address says.
pub fn of(conn: &Connection, person: PersonId) -> Result<Vec<(i64, String, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT id, name, query FROM saved_views WHERE person_id = ?1 ORDER BY name",
    )
    .and_then(|mut q| {
        q.query_map([person.0], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?.collect()
    })
    .doing("reading saved views")
}

/// Saves a view; one of the same name is replaced.
pub fn save(tx: &Tx<'_>, person: PersonId, name: &str, query: &str) -> Result<(), StoreError> {
    tx.execute(
        "INSERT INTO saved_views (person_id, name, query) VALUES (?1, ?2, ?3)
         ON CONFLICT (person_id, name) DO UPDATE SET query = ?3",
        (person.0, name, query),
    )
    .map(drop)
    .doing("saving a view")
}

/// Forgets a view of somebody's own.
pub fn forget(tx: &Tx<'_>, person: PersonId, id: i64) -> Result<(), StoreError> {
    tx.execute("DELETE FROM saved_views WHERE id = ?1 AND person_id = ?2", (id, person.0))
        .map(drop)
        .doing("forgetting a view")
}
