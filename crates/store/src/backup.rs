//! Copies of the house's file while it is in use (SQLite's online backup,
//! sqlite.org/backup.html), and bringing one back.
//!
//! A backup is one SQLite file: the house's tables, and one row beside them that says when it
//! was made and holds the secret that all secret addresses are made from. Without that secret
//! no link that was ever mailed would open anything.

use std::path::Path;

use jiff::Timestamp;
use rusqlite::backup::Backup;
use rusqlite::{Connection, OpenFlags, OptionalExtension};

use crate::{Doing, StoreError, at, check, us};

/// What a backup says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Label {
    /// When it was made.
    pub made_at: Timestamp,
    /// The secret of the house, 64 hexadecimal digits; empty where it is kept elsewhere.
    pub secret: String,
}

/// Copies the file of a house to a new file, while it may be in use: one view of it, however
/// much is written meanwhile. The copy is then read through, by SQLite's own measure and by the
/// house's: gives what the house finds wrong in it, which is wrong in the house itself. A copy
/// with such a fault is a copy all the same, and the better for being there.
///
/// # Errors
/// The copy cannot be written; [`StoreError::Damaged`] when SQLite cannot read it.
pub fn copy(from: &Path, to: &Path, label: &Label) -> Result<Vec<String>, StoreError> {
    let source = Connection::open_with_flags(from, OpenFlags::SQLITE_OPEN_READ_ONLY)
        .doing("opening the database to copy it")?;
    source.busy_timeout(std::time::Duration::from_secs(30)).doing("setting a time-out")?;
    let mut target = Connection::open(to).doing("making the copy")?;
    // All pages in one step: what is written meanwhile neither delays it nor starts it again.
    Backup::new(&source, &mut target)
        .and_then(|backup| backup.step(-1))
        .doing("copying the database")?;
    target
        .execute_batch(
            "PRAGMA journal_mode = DELETE;
             CREATE TABLE IF NOT EXISTS backup_label (made_at INTEGER NOT NULL, secret TEXT NOT NULL) STRICT;
             DELETE FROM backup_label;",
        )
        .doing("labelling the copy")?;
    target
        .execute(
            "INSERT INTO backup_label (made_at, secret) VALUES (?1, ?2)",
            (us(label.made_at), &label.secret),
        )
        .doing("labelling the copy")?;
    let faults = sound(&target, to)?;
    target
        .close()
        .map_err(|(_, source)| StoreError::Sqlite { doing: "closing the copy", source })?;
    Ok(faults)
}

/// Reads a file through, by SQLite's own measure and by the house's; what the house finds wrong.
fn sound(conn: &Connection, file: &Path) -> Result<Vec<String>, StoreError> {
    let said: String = conn
        .query_row("PRAGMA integrity_check(1)", [], |row| row.get(0))
        .doing("reading the copy through")?;
    if said != "ok" {
        return Err(StoreError::Damaged { file: file.into(), said });
    }
    check::faults(conn)
}

/// What a backup says of itself.
///
/// # Errors
/// [`StoreError::NoBackup`] for a file that is none.
pub fn label(file: &Path) -> Result<Label, StoreError> {
    let none = || StoreError::NoBackup { file: file.into() };
    let conn =
        Connection::open_with_flags(file, OpenFlags::SQLITE_OPEN_READ_ONLY).map_err(|_| none())?;
    let read = conn.query_row("SELECT made_at, secret FROM backup_label", [], |row| {
        Ok(Label { made_at: at(row.get(0)?), secret: row.get(1)? })
    });
    read.optional().map_err(|_| none())?.ok_or_else(none)
}

/// Where a backup is brought to before it is whole.
const HALF: &str = "matricle.brought-back.half";

/// Brings a backup into a folder without a database, and gives what it says of itself. The
/// label does not come along. It is written beside its place and put there once it is whole and
/// on disk: one that breaks off can be done again. `first` is done right before that, so that what
/// belongs beside the file is there before it is.
///
/// # Errors
/// [`StoreError::NoBackup`]; [`StoreError::Damaged`] when SQLite cannot read it; there is a
/// database already.
pub fn bring_back(
    file: &Path,
    folder: &Path,
    first: impl FnOnce(&Label) -> std::io::Result<()>,
) -> Result<Label, StoreError> {
    let label = label(file)?;
    let unusable = |source| StoreError::Folder { folder: folder.into(), source };
    let to = folder.join(crate::store::FILE);
    if to.exists() {
        return Err(unusable(std::io::ErrorKind::AlreadyExists.into()));
    }
    crate::store::own_folder(folder)?;
    let half = folder.join(HALF);
    clear(&half);
    std::fs::copy(file, &half).map_err(unusable)?;
    crate::files::keep_to_oneself(&half);
    let conn = Connection::open(&half).doing("opening what was brought back")?;
    conn.execute_batch("DROP TABLE backup_label").doing("taking the label off")?;
    sound(&conn, &half)?;
    conn.close().map_err(|(_, source)| StoreError::Sqlite { doing: "closing the file", source })?;
    first(&label).map_err(unusable)?;
    let on_disk = std::fs::File::open(&half).and_then(|f| f.sync_all());
    on_disk.and_then(|()| std::fs::rename(&half, &to)).map_err(unusable)?;
    let _ = std::fs::File::open(folder).and_then(|f| f.sync_all());
    Ok(label)
}

/// Removes what a broken copy left: the half and SQLite's files beside it.
pub fn clear(half: &Path) {
    for beside in ["", "-journal", "-wal", "-shm"] {
        let _ = std::fs::remove_file(format!("{}{beside}", half.display()));
    }
}
