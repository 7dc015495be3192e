use std::path::PathBuf;

/// Why the store could not do something.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// SQLite refused.
    #[error("{doing}: {source}")]
    Sqlite {
        /// What was being done.
        doing: &'static str,
        /// SQLite's reason.
        source: rusqlite::Error,
    },
    /// A stored value is not one this version writes.
    #[error("{column} holds {value:?}, which this version does not know")]
    Foreign {
        /// Where it stands.
        column: &'static str,
        /// What stands there.
        value: String,
    },
    /// The schema could not be brought up to date.
    #[error("migrating: {0}")]
    Migration(#[from] rusqlite_migration::Error),
    /// Another process has this data folder open.
    #[error("another Matricle is running on {folder}; stop it first, or choose another folder")]
    InUse {
        /// The folder.
        folder: PathBuf,
    },
    /// The data folder cannot be used.
    #[error("the folder {folder} cannot be used: {source}")]
    Folder {
        /// The folder.
        folder: PathBuf,
        /// The system's reason.
        source: std::io::Error,
    },
    /// The file is not as SQLite, or the house, writes it.
    #[error(
        "the file {file} is damaged ({said}); bring the last backup back with `matricle restore`, and keep the damaged file"
    )]
    Damaged {
        /// The file.
        file: PathBuf,
        /// What was found.
        said: String,
    },
    /// A file of a version of the program to come.
    #[error(
        "the file {file} was written by a newer Matricle; update the program, or bring back a backup from before"
    )]
    FromLater {
        /// The file.
        file: PathBuf,
    },
    /// Not a backup.
    #[error("{file} is not a backup of Matricle; if it was made with a passphrase, give that too")]
    NoBackup {
        /// The file.
        file: PathBuf,
    },
    /// The machine's clock stands before what the house has on record.
    #[error(
        "this machine’s clock says {now}, but the house has something on record of {latest}; set the clock first"
    )]
    ClockBehind {
        /// What the clock says.
        now: jiff::Timestamp,
        /// The latest on record.
        latest: jiff::Timestamp,
    },
    /// A booking is in another state than it was seen in.
    #[error("booking {booking} is not {} any more", seen.word())]
    Elsewhere {
        /// The booking.
        booking: matricle_core::BookingId,
        /// The state it was seen in.
        seen: matricle_core::booking::State,
    },
    /// A job panicked; it was rolled back alone.
    #[error("a write failed unexpectedly and was rolled back")]
    Panicked,
    /// The transaction that this job was part of could not be committed.
    #[error("the transaction could not be committed: {reason}")]
    NotCommitted {
        /// SQLite's reason.
        reason: String,
    },
    /// The store is shutting down.
    #[error("the store is closed")]
    Closed,
}

impl From<rusqlite::Error> for StoreError {
    fn from(source: rusqlite::Error) -> Self {
        Self::Sqlite { doing: "using the database", source }
    }
}

/// Says what was being done when SQLite refused.
pub trait Doing<T> {
    /// Attaches the doing to the error.
    ///
    /// # Errors
    /// The same failure, as [`StoreError::Sqlite`].
    fn doing(self, doing: &'static str) -> Result<T, StoreError>;
}

impl<T> Doing<T> for Result<T, rusqlite::Error> {
    fn doing(self, doing: &'static str) -> Result<T, StoreError> {
        self.map_err(|source| StoreError::Sqlite { doing, source })
    }
}
