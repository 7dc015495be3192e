//! Files of the house that go with messages.

use jiff::Timestamp;
use rusqlite::{Connection, OptionalExtension};

use crate::{Doing, StoreError, Tx, us};

/// A file, without its bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HouseFile {
    /// Its key.
    pub id: i64,
    /// Its name, as receivers see it.
    pub name: String,
    /// Its media type (RFC 6838).
    pub media_type: String,
    /// How many bytes it has.
    pub bytes: u32,
    /// It is out of use: it goes with the templates that have it, and can be given to no other.
    pub retired: bool,
}

/// The files, without their bytes, by name; those out of use as well.
pub fn all(conn: &Connection) -> Result<Vec<HouseFile>, StoreError> {
    conn.prepare_cached(
        "SELECT id, name, media_type, length(bytes), retired_at IS NOT NULL FROM house_files ORDER BY name, id",
    )
    .and_then(|mut q| {
        q.query_map([], |row| {
            Ok(HouseFile {
                id: row.get(0)?,
                name: row.get(1)?,
                media_type: row.get(2)?,
                bytes: row.get(3)?,
                retired: row.get(4)?,
            })
        })?
        .collect()
    })
    .doing("reading files of the house")
}

/// A file: name, media type, bytes; also one out of use, for what it went with before.
pub fn by_id(conn: &Connection, id: i64) -> Result<Option<(String, String, Vec<u8>)>, StoreError> {
    conn.prepare_cached("SELECT name, media_type, bytes FROM house_files WHERE id = ?1")
        .and_then(|mut q| {
            q.query_row([id], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?))).optional()
        })
        .doing("reading a file of the house")
}

/// Adds a file; its key.
pub fn add(
    tx: &Tx<'_>,
    name: &str,
    media_type: &str,
    bytes: &[u8],
    now: Timestamp,
) -> Result<i64, StoreError> {
    tx.execute(
        "INSERT INTO house_files (name, media_type, bytes, added_at) VALUES (?1, ?2, ?3, ?4)",
        (name, media_type, bytes, us(now)),
    )
    .map(|_| tx.last_insert_rowid())
    .doing("adding a file of the house")
}

/// Takes a file out of use, or back into it. Whether there is one.
pub fn retire(tx: &Tx<'_>, id: i64, at: Option<Timestamp>) -> Result<bool, StoreError> {
    tx.execute("UPDATE house_files SET retired_at = ?2 WHERE id = ?1", (id, at.map(us)))
        .map(|n| n == 1)
        .doing("retiring a file of the house")
}
