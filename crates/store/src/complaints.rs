//! What the public complains of.

use jiff::{SignedDuration, Timestamp};
use matricle_core::{EventId, PersonId};
use rusqlite::{Connection, OptionalExtension, Row};

use crate::convert::{InOrder, foreign};
use crate::{Doing, StoreError, Tx, us};

matricle_core::worded! {
    /// What became of a complaint.
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum Outcome {
        /// Nobody has decided.
        Open = "open",
        /// It was right.
        Right = "right",
        /// It was not.
        NotRight = "not right",
    }
}

/// A complaint.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Complaint {
    /// Its key.
    pub id: i64,
    /// About which event.
    pub event: EventId,
    /// The address of whoever complains; may be empty.
    pub email: String,
    /// What they say.
    pub words: String,
    /// When.
    pub at: Timestamp,
    /// What became of it.
    pub outcome: Outcome,
    /// When that was decided.
    pub decided_at: Option<Timestamp>,
    /// By whom.
    pub who: String,
    /// The event was taken out of the Programme with it.
    pub taken_out: bool,
    /// Until when that can be taken back.
    pub undo_until: Option<Timestamp>,
}

const COLUMNS: &str =
    "id, event_id, email, words, at, outcome, decided_at, who, taken_out, undo_until";

fn complaint(row: &Row<'_>) -> rusqlite::Result<Complaint> {
    let mut c = InOrder::from(row, 0);
    Ok(Complaint {
        id: c.next()?,
        event: EventId(c.next()?),
        email: c.next()?,
        words: c.next()?,
        at: c.instant()?,
        outcome: {
            let word: String = c.next()?;
            Outcome::from_word(&word).ok_or_else(|| foreign("complaints.outcome", word))?
        },
        decided_at: c.instant_or()?,
        who: c.next()?,
        taken_out: c.next()?,
        undo_until: c.instant_or()?,
    })
}

/// Writes a complaint down.
pub fn add(
    tx: &Tx<'_>,
    event: EventId,
    email: &str,
    words: &str,
    network: i64,
    now: Timestamp,
) -> Result<i64, StoreError> {
    tx.execute(
        "INSERT INTO complaints (event_id, email, words, network, at) VALUES (?1, ?2, ?3, ?4, ?5)",
        (event.0, email, words, network, us(now)),
    )
    .doing("writing a complaint down")?;
    Ok(tx.last_insert_rowid())
}

/// How many complaints came from a network within a day, and how many of one event are open.
pub fn lately(
    conn: &Connection,
    event: EventId,
    network: i64,
    now: Timestamp,
) -> Result<(u32, u32), StoreError> {
    let day = us(now.saturating_sub(SignedDuration::from_hours(24)).unwrap_or(now));
    conn.prepare_cached(
        "SELECT (SELECT count(*) FROM complaints WHERE network = ?2 AND ?2 <> 0 AND at > ?3),
            (SELECT count(*) FROM complaints WHERE event_id = ?1 AND outcome = 'open')",
    )
    .and_then(|mut q| q.query_row((event.0, network, day), |row| Ok((row.get(0)?, row.get(1)?))))
    .doing("counting complaints")
}

/// Those that nobody has decided on, the oldest first.
pub fn open(conn: &Connection, most: u32) -> Result<Vec<Complaint>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM complaints WHERE outcome = 'open' ORDER BY at LIMIT ?1"
    ))
    .and_then(|mut q| q.query_map([most], complaint)?.collect())
    .doing("reading complaints")
}

/// How many nobody has decided on.
pub fn count_open(conn: &Connection) -> Result<u32, StoreError> {
    conn.prepare_cached("SELECT count(*) FROM complaints WHERE outcome = 'open'")
        .and_then(|mut q| q.query_row([], |row| row.get(0)))
        .doing("counting complaints")
}

/// A complaint by its key.
pub fn by_id(conn: &Connection, id: i64) -> Result<Option<Complaint>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM complaints WHERE id = ?1"))
        .and_then(|mut q| q.query_row([id], complaint).optional())
        .doing("looking a complaint up")
}

/// Writes down what became of a complaint.
pub fn decide(tx: &Tx<'_>, c: &Complaint, by: Option<PersonId>) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE complaints SET outcome = ?2, decided_at = ?3, who = ?4, person_id = ?5, taken_out = ?6, undo_until = ?7
         WHERE id = ?1",
        (
            c.id,
            c.outcome.word(),
            c.decided_at.map(us),
            &c.who,
            by.map(|p| p.0),
            c.taken_out,
            c.undo_until.map(us),
        ),
    )
    .map(drop)
    .doing("deciding on a complaint")
}
