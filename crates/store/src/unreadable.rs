//! Rows that cannot be read: of a newer version, or spoiled. Each row of a list is read by itself;
//! one that cannot be read is left out of it, and noted, so that Today can tell. What is left out
//! is not done: a cue that nobody can read tells nobody, and stops no booking.

use std::collections::BTreeSet;
use std::sync::{Mutex, PoisonError};

use crate::StoreError;

/// So many are noted; more say nothing new.
const MOST: usize = 50;

static NOTED: Mutex<BTreeSet<String>> = Mutex::new(BTreeSet::new());

/// Whether an error is about what stands in a row, and not about reading at all.
fn is_of_row(error: &rusqlite::Error) -> bool {
    matches!(
        error,
        rusqlite::Error::FromSqlConversionFailure(..)
            | rusqlite::Error::InvalidColumnType(..)
            | rusqlite::Error::IntegralValueOutOfRange(..)
    )
}

/// What is wrong with a row: its own sentence, where there is one.
fn said(error: &rusqlite::Error) -> &dyn std::fmt::Display {
    match error {
        rusqlite::Error::FromSqlConversionFailure(_, _, why) => why,
        other => other,
    }
}

/// Notes something that cannot be read.
pub(crate) fn note(what: &str, error: &dyn std::fmt::Display) {
    let said = format!("{what}: {error}");
    let mut noted = NOTED.lock().unwrap_or_else(PoisonError::into_inner);
    if noted.len() < MOST {
        noted.insert(said);
    }
}

/// The rows of a list that can be read; the others are noted.
pub(crate) fn readable<T>(
    what: &str,
    rows: impl Iterator<Item = rusqlite::Result<T>>,
) -> rusqlite::Result<Vec<T>> {
    let mut read = Vec::new();
    for row in rows {
        match row {
            Ok(row) => read.push(row),
            Err(error) if is_of_row(&error) => note(what, said(&error)),
            Err(error) => return Err(error),
        }
    }
    Ok(read)
}

/// A single row that can be read, if there is one; one that cannot is noted, and is none.
pub(crate) fn readable_one<T>(
    what: &str,
    row: rusqlite::Result<Option<T>>,
) -> rusqlite::Result<Option<T>> {
    match row {
        Err(error) if is_of_row(&error) => {
            note(what, said(&error));
            Ok(None)
        }
        row => row,
    }
}

/// What could not be read since the program began, a sentence each.
#[must_use]
pub fn noted() -> Vec<String> {
    NOTED.lock().unwrap_or_else(PoisonError::into_inner).iter().cloned().collect()
}

/// Whether an error of the store is about one row that cannot be read.
#[must_use]
pub fn is_unreadable(error: &StoreError) -> bool {
    matches!(error, StoreError::Sqlite { source, .. } if is_of_row(source))
}
