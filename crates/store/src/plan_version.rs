//! How often plans have changed: by it whoever keeps what they read of a plan knows whether it is
//! still so.

use std::sync::atomic::{AtomicI64, Ordering};

use rusqlite::Connection;

use crate::{Doing, StoreError};

/// How often plans have changed. Where that is not written down any more, each time it is asked
/// is another version: nothing is kept then, and nothing is wrong but slower.
pub(crate) fn plan_version(conn: &Connection) -> Result<i64, StoreError> {
    static LOST: AtomicI64 = AtomicI64::new(-1);
    let known: Option<i64> = conn
        .prepare_cached("SELECT max(n) FROM plan_version")
        .and_then(|mut q| q.query_row([], |row| row.get(0)))
        .doing("asking whether plans changed")?;
    Ok(known.unwrap_or_else(|| LOST.fetch_sub(1, Ordering::Relaxed)))
}
