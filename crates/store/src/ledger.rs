//! The ledger's rows. Entries are made by core, balanced, and only ever added.

use std::collections::BTreeMap;

use jiff::Timestamp;
use matricle_core::BookingId;
use matricle_core::money::ledger::{Account, Charge, Entry};
use rusqlite::Connection;

use crate::convert::{instant, word};
use crate::{Doing, StoreError, Tx, us};

/// Writes an entry.
pub fn book(
    tx: &Tx<'_>,
    entry: &Entry,
    booking: Option<BookingId>,
    who: &str,
    what: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        tx.prepare_cached(
            "INSERT INTO entries (at, who, what, booking_id) VALUES (?1, ?2, ?3, ?4)",
        )?
        .execute((us(now), who, what, booking.map(|b| b.0)))?;
        let id = tx.last_insert_rowid();
        let mut line = tx.prepare_cached(
            "INSERT INTO entry_lines (entry_id, position, account, about, minor) VALUES (?1, ?2, ?3, ?4, ?5)",
        )?;
        for (position, l) in (0i64..).zip(entry.lines()) {
            line.execute((id, position, l.account.word(), l.about, l.minor))?;
        }
        Ok(())
    };
    write().doing("writing in the ledger")
}

/// What the books say a booking is charged.
pub fn charged(conn: &Connection, id: BookingId) -> Result<Charge, StoreError> {
    // Tax is kept by rate, income by event only; what each rate's whole amount was stands in
    // the lines of the booking's own entries as pairs.
    conn.prepare_cached(
        "SELECT rate, sum(gross), sum(tax) FROM charges WHERE booking_id = ?1 GROUP BY rate",
    )
    .and_then(|mut q| {
        q.query_map([id.0], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?
            .collect::<Result<Vec<(u32, i64, i64)>, _>>()
    })
    .map(Charge::of)
    .doing("reading what a booking was charged")
}

/// A line of the ledger, as it is read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Booked {
    /// The entry's key.
    pub entry: i64,
    /// When.
    pub at: Timestamp,
    /// Who.
    pub who: String,
    /// What for.
    pub what: String,
    /// The booking's reference; empty for none.
    pub reference: String,
    /// The account.
    pub account: Account,
    /// What the account is kept by.
    pub about: i64,
    /// Minor units; a debit is positive.
    pub minor: i64,
}

/// The lines of the ledger between two instants, the latest entry first.
pub fn lines(
    conn: &Connection,
    from: Timestamp,
    until: Timestamp,
) -> Result<Vec<Booked>, StoreError> {
    read(
        conn,
        "WHERE e.at >= ?1 AND e.at < ?2 ORDER BY e.id DESC, l.position",
        (us(from), us(until)),
    )
}

/// The lines of the ledger about a booking, oldest first.
pub fn of_booking(conn: &Connection, id: BookingId) -> Result<Vec<Booked>, StoreError> {
    read(conn, "WHERE e.booking_id = ?1 ORDER BY e.id, l.position", [id.0])
}

fn read(
    conn: &Connection,
    condition: &str,
    params: impl rusqlite::Params,
) -> Result<Vec<Booked>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT e.id, e.at, e.who, e.what, coalesce(b.reference, '') AS reference, l.account, l.about, l.minor
         FROM entries e JOIN entry_lines l ON l.entry_id = e.id LEFT JOIN bookings b ON b.id = e.booking_id
         {condition}"
    ))
    .and_then(|mut q| {
        q.query_map(params, |row| {
            Ok(Booked {
                entry: row.get("id")?,
                at: instant(row, "at")?,
                who: row.get("who")?,
                what: row.get("what")?,
                reference: row.get("reference")?,
                account: word(row, "account", Account::from_word)?,
                about: row.get("about")?,
                minor: row.get("minor")?,
            })
        })?
        .collect()
    })
    .doing("reading the ledger")
}

/// What each account comes to, in minor units; debits are positive.
pub fn balances(conn: &Connection) -> Result<BTreeMap<Account, i64>, StoreError> {
    conn.prepare_cached("SELECT account, sum(minor) AS minor FROM entry_lines GROUP BY account")
        .and_then(|mut q| {
            q.query_map([], |row| {
                Ok((word(row, "account", Account::from_word)?, row.get("minor")?))
            })?
            .collect()
        })
        .doing("adding the ledger up")
}

/// What an account comes to by what it is kept by.
pub fn by_about(conn: &Connection, account: Account) -> Result<Vec<(i64, i64)>, StoreError> {
    conn.prepare_cached(
        "SELECT about, sum(minor) FROM entry_lines WHERE account = ?1 GROUP BY about HAVING sum(minor) <> 0",
    )
    .and_then(|mut q| q.query_map([account.word()], |row| Ok((row.get(0)?, row.get(1)?)))?.collect())
    .doing("adding an account up")
}
