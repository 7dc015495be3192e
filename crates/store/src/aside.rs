//! Rows that what runs by itself could not do: set aside with a reason, tried again later.

use jiff::Timestamp;
use matricle_core::BookingId;
use rusqlite::Connection;

use crate::convert::instant;
use crate::{Doing, StoreError, Tx, us};

/// A row set aside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Aside {
    /// Which work it is a row of.
    pub work: String,
    /// Its key there.
    pub about: String,
    /// The reference of the booking it concerns, if any.
    pub reference: Option<String>,
    /// Why it could not be done.
    pub reason: String,
    /// How often it was tried.
    pub tries: u32,
    /// When it first failed.
    pub first_at: Timestamp,
    /// When it is tried again.
    pub next_try_at: Timestamp,
}

/// Sets a row aside, or sets it aside once more.
pub fn set(
    tx: &Tx<'_>,
    (work, about): (&str, &str),
    booking: Option<BookingId>,
    reason: &str,
    now: Timestamp,
    again: Timestamp,
) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT INTO set_aside (work, about, booking_id, reason, first_at, next_try_at)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6)
         ON CONFLICT (work, about) DO UPDATE SET reason = ?4, tries = tries + 1, next_try_at = ?6",
    )
    .and_then(|mut q| q.execute((work, about, booking.map(|b| b.0), reason, us(now), us(again))))
    .map(drop)
    .doing("setting a row aside")
}

/// How often a row was set aside so far.
pub fn tries(conn: &Connection, work: &str, about: &str) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT coalesce(max(tries), 0) FROM set_aside WHERE work = ?1 AND about = ?2",
    )
    .and_then(|mut q| q.query_row((work, about), |row| row.get(0)))
    .doing("looking a row up that was set aside")
}

/// The keys of rows of some work that are set aside for now.
pub fn waiting(conn: &Connection, work: &str, now: Timestamp) -> Result<Vec<String>, StoreError> {
    conn.prepare_cached("SELECT about FROM set_aside WHERE work = ?1 AND next_try_at > ?2")
        .and_then(|mut q| q.query_map((work, us(now)), |row| row.get(0))?.collect())
        .doing("looking for rows set aside")
}

/// A row was done after all.
pub fn done(tx: &Tx<'_>, work: &str, about: &str) -> Result<(), StoreError> {
    tx.prepare_cached("DELETE FROM set_aside WHERE work = ?1 AND about = ?2")
        .and_then(|mut q| q.execute((work, about)))
        .map(drop)
        .doing("taking a row up again")
}

/// Everything set aside, what failed first at the top.
pub fn all(conn: &Connection) -> Result<Vec<Aside>, StoreError> {
    conn.prepare_cached(
        "SELECT s.work, s.about, b.reference, s.reason, s.tries, s.first_at, s.next_try_at
         FROM set_aside s LEFT JOIN bookings b ON b.id = s.booking_id ORDER BY s.first_at, s.work, s.about",
    )
    .and_then(|mut q| {
        q.query_map([], |row| {
            Ok(Aside {
                work: row.get("work")?,
                about: row.get("about")?,
                reference: row.get("reference")?,
                reason: row.get("reason")?,
                tries: row.get("tries")?,
                first_at: instant(row, "first_at")?,
                next_try_at: instant(row, "next_try_at")?,
            })
        })?
        .collect()
    })
    .doing("reading what was set aside")
}
