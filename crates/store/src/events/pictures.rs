//! The pictures of events.

use matricle_core::EventId;
use rusqlite::{Connection, OptionalExtension, Row};

use crate::{Doing, StoreError, Tx};

/// The picture of an event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Picture {
    /// Its key; another picture has another.
    pub id: i64,
    /// What it shows.
    pub alt: String,
    /// Pixels across the large one.
    pub width: u32,
    /// Pixels down the large one.
    pub height: u32,
}

impl Picture {
    /// From a row of key, words, width and height.
    pub(crate) fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self { id: row.get(0)?, alt: row.get(1)?, width: row.get(2)?, height: row.get(3)? })
    }
}

/// The picture of an event, if it has one.
pub fn picture(conn: &Connection, event: EventId) -> Result<Option<Picture>, StoreError> {
    conn.prepare_cached("SELECT id, alt, width, height FROM pictures WHERE event_id = ?1")
        .and_then(|mut q| q.query_row([event.0], Picture::read).optional())
        .doing("looking a picture up")
}

/// The bytes of a picture: JPEG, for a screen or for a phone.
pub fn picture_bytes(
    conn: &Connection,
    id: i64,
    small: bool,
) -> Result<Option<Vec<u8>>, StoreError> {
    let column = if small { "small" } else { "large" };
    conn.prepare_cached(&format!("SELECT {column} FROM pictures WHERE id = ?1"))
        .and_then(|mut q| q.query_row([id], |row| row.get(0)).optional())
        .doing("reading a picture")
}

/// Gives an event a picture in the place of any it had.
pub fn set_picture(
    tx: &Tx<'_>,
    event: EventId,
    picture: &Picture,
    large: &[u8],
    small: &[u8],
) -> Result<(), StoreError> {
    drop_picture(tx, event)?;
    tx.execute(
        "INSERT INTO pictures (id, event_id, alt, width, height, large, small)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
        (picture.id, event.0, &picture.alt, picture.width, picture.height, large, small),
    )
    .map(drop)
    .doing("keeping a picture")
}

/// Takes the picture of an event away.
pub fn drop_picture(tx: &Tx<'_>, event: EventId) -> Result<(), StoreError> {
    tx.execute("DELETE FROM pictures WHERE event_id = ?1", [event.0])
        .map(drop)
        .doing("taking a picture away")
}
