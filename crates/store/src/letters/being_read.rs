//! Mails that are being read, written down before they are: what ended the program while it was
//! read is not read again at every start.

use jiff::Timestamp;
use rusqlite::OptionalExtension;

use crate::{Doing, StoreError, Tx, us};

/// What is known of a mail that is about to be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Before {
    /// It was not being read when the program last ended.
    Nothing,
    /// It was, among others.
    AmongOthers,
    /// It was, and nothing else was.
    Alone,
}

/// Writes down that a mail is being read; says how it was before.
pub fn begin(tx: &Tx<'_>, digest: &str, alone: bool, now: Timestamp) -> Result<Before, StoreError> {
    let before: Option<bool> = tx
        .prepare_cached("SELECT alone FROM being_read WHERE digest = ?1")
        .and_then(|mut q| q.query_row([digest], |row| row.get(0)).optional())
        .doing("looking whether a mail is being read")?;
    tx.prepare_cached(
        "INSERT INTO being_read (digest, alone, at) VALUES (?1, ?2, ?3)
         ON CONFLICT (digest) DO UPDATE SET alone = max(alone, ?2), at = ?3",
    )
    .and_then(|mut q| q.execute((digest, alone, us(now))))
    .doing("writing down that a mail is being read")?;
    Ok(match before {
        None => Before::Nothing,
        Some(false) => Before::AmongOthers,
        Some(true) => Before::Alone,
    })
}

/// A mail was read, or given up.
pub fn done(tx: &Tx<'_>, digest: &str) -> Result<(), StoreError> {
    tx.prepare_cached("DELETE FROM being_read WHERE digest = ?1")
        .and_then(|mut q| q.execute([digest]))
        .map(drop)
        .doing("writing down that a mail was read")
}
