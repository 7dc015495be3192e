//! Patterns that events are started from.

use jiff::Timestamp;
use rusqlite::Connection;

use crate::convert::foreign;
use crate::events::new::NewEvent;
use crate::{Doing, StoreError, Tx, us};

/// A saved starting point for events.
#[derive(Debug, Clone)]
pub struct Pattern {
    /// Its key.
    pub id: i64,
    /// Its name.
    pub name: String,
    /// The event it starts.
    pub plan: NewEvent,
}

/// Saves a pattern under a name; one of the same name is replaced.
pub fn save_pattern(
    tx: &Tx<'_>,
    name: &str,
    plan: &NewEvent,
    now: Timestamp,
) -> Result<(), StoreError> {
    serde_json::to_string(plan)
        .map_err(|e| rusqlite::Error::ToSqlConversionFailure(e.into()))
        .and_then(|json| {
            tx.execute(
                "INSERT INTO patterns (name, plan, made_at) VALUES (?1, ?2, ?3)
                 ON CONFLICT (name) DO UPDATE SET plan = ?2",
                (name, json, us(now)),
            )
        })
        .map(drop)
        .doing("saving a pattern")
}

/// All patterns by name.
pub fn patterns(conn: &Connection) -> Result<Vec<Pattern>, StoreError> {
    conn.prepare_cached("SELECT id, name, plan FROM patterns ORDER BY name")
        .and_then(|mut q| {
            q.query_map([], |row| {
                let plan: String = row.get("plan")?;
                Ok(Pattern {
                    id: row.get("id")?,
                    name: row.get("name")?,
                    plan: serde_json::from_str(&plan)
                        .map_err(|_| foreign("patterns.plan", plan))?,
                })
            })?
            .collect()
        })
        .doing("reading patterns")
}

/// Forgets a pattern; events made from it stay.
pub fn drop_pattern(tx: &Tx<'_>, id: i64) -> Result<(), StoreError> {
    tx.execute("DELETE FROM patterns WHERE id = ?1", [id]).map(drop).doing("forgetting a pattern")
}
