//! What goes out because of a letter.

use jiff::Timestamp;
use rusqlite::{Connection, OptionalExtension};

use crate::convert::InOrder;
use crate::{Doing, StoreError, Tx, us};

/// A mail that forwards or answers a letter.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Out {
    /// Its key.
    pub id: i64,
    /// The letter that it forwards or answers.
    pub letter: i64,
    /// It goes to whoever stands behind a reply address.
    pub forward: bool,
    /// The letter whose files go along.
    pub files_of: Option<i64>,
    /// Its `Message-ID`.
    pub message_id: String,
    /// The reply address that it goes out under: name and address.
    pub from: (String, String),
    /// To whom: name and address.
    pub to: (String, String),
    /// Its subject.
    pub subject: String,
    /// Its words.
    pub words: String,
    /// Files that could not go along, in words.
    pub without: String,
    /// Who wrote it, in words.
    pub who: String,
    /// When it was made.
    pub made_at: Timestamp,
    /// When it was sent.
    pub sent_at: Option<Timestamp>,
    /// Why it will never be taken.
    pub refused: Option<String>,
}

const COLUMNS: &str = "id, letter_id, forward, files_of, message_id, from_name, from_email, to_name, to_email, \
     subject, words, without, who, made_at, sent_at, refused";

fn out(row: &rusqlite::Row<'_>) -> rusqlite::Result<Out> {
    let mut c = InOrder::from(row, 0);
    Ok(Out {
        id: c.next()?,
        letter: c.next()?,
        forward: c.next()?,
        files_of: c.next()?,
        message_id: c.next()?,
        from: (c.next()?, c.next()?),
        to: (c.next()?, c.next()?),
        subject: c.next()?,
        words: c.next()?,
        without: c.next()?,
        who: c.next()?,
        made_at: c.instant()?,
        sent_at: c.instant_or()?,
        refused: c.next()?,
    })
}

/// A mail to go out because of a letter.
#[derive(Debug, Clone, Copy)]
pub struct NewOut<'a> {
    /// The letter that it forwards or answers.
    pub letter: i64,
    /// It goes to whoever stands behind a reply address.
    pub forward: bool,
    /// The letter whose files go along.
    pub files_of: Option<i64>,
    /// Its `Message-ID`, which nobody can guess: an answer to it is known by it.
    pub message_id: &'a str,
    /// The reply address that it goes out under.
    pub from: (&'a str, &'a str),
    /// To whom.
    pub to: (&'a str, &'a str),
    /// Its subject.
    pub subject: &'a str,
    /// Its words.
    pub words: &'a str,
    /// Files that could not go along, in words.
    pub without: &'a str,
    /// Who wrote it, in words.
    pub who: &'a str,
}

/// Plans it.
pub fn add_out(tx: &Tx<'_>, new: NewOut<'_>, now: Timestamp) -> Result<i64, StoreError> {
    if !new.forward {
        tx.prepare_cached("UPDATE letters SET to_answer = 0 WHERE id = ?1")
            .and_then(|mut q| q.execute([new.letter]))
            .doing("writing down that a letter is answered")?;
    }
    tx.prepare_cached(
        "INSERT INTO letters_out (letter_id, forward, files_of, message_id, from_name, from_email, to_name, to_email,
            subject, words, without, who, made_at)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13)",
    )
    .and_then(|mut q| {
        q.insert((
            new.letter,
            new.forward,
            new.files_of,
            new.message_id,
            new.from.0,
            new.from.1,
            new.to.0,
            new.to.1,
            new.subject,
            new.words,
            new.without,
            new.who,
            us(now),
        ))
    })
    .doing("planning an answer")
}

/// Those that are still to go, oldest first.
pub fn due(conn: &Connection, most: u32) -> Result<Vec<Out>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM letters_out WHERE sent_at IS NULL AND refused IS NULL ORDER BY id LIMIT ?1"
    ))
    .and_then(|mut q| q.query_map([most], out)?.collect())
    .doing("looking for answers to send")
}

/// One of them.
pub fn out_by_id(conn: &Connection, id: i64) -> Result<Option<Out>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM letters_out WHERE id = ?1"))
        .and_then(|mut q| q.query_row([id], out).optional())
        .doing("reading an answer")
}

/// The one with this `Message-ID`.
pub fn out_of_message(conn: &Connection, message_id: &str) -> Result<Option<Out>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM letters_out WHERE message_id = ?1"))
        .and_then(|mut q| q.query_row([message_id], out).optional())
        .doing("looking up what a letter answers")
}

/// What went out because of a letter, oldest first.
pub fn of_letter(conn: &Connection, letter: i64) -> Result<Vec<Out>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM letters_out WHERE letter_id = ?1 ORDER BY id"
    ))
    .and_then(|mut q| q.query_map([letter], out)?.collect())
    .doing("reading answers")
}

/// Writes down that it was taken, and which files could not go along.
pub fn sent(tx: &Tx<'_>, id: i64, without: &str, now: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE letters_out SET sent_at = ?2, without = ?3 WHERE id = ?1")
        .and_then(|mut q| q.execute((id, us(now), without)))
        .map(drop)
        .doing("writing that an answer went")
}

/// Writes down that it will never be taken.
pub fn refused(tx: &Tx<'_>, id: i64, why: &str) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE letters_out SET refused = ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((id, why)))
        .map(drop)
        .doing("writing that an answer was refused")
}

/// How many letters were forwarded to an address since, counted up to a number.
pub fn forwarded_to(
    conn: &Connection,
    email: &str,
    since: Timestamp,
    most: u32,
) -> Result<u32, StoreError> {
    let what = "SELECT 1 FROM letters_out
        WHERE to_email = ?1 AND made_at > ?2 AND forward = 1 LIMIT ?3";
    super::count_since(conn, what, email, since, most)
}
