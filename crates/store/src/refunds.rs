//! Money on its way back to bookers.

use jiff::Timestamp;
use matricle_core::BookingId;
use matricle_core::money::ledger::Method;
use rusqlite::{Connection, OptionalExtension, Row};

use crate::convert::{instant, instant_or, word};
use crate::{Doing, StoreError, Tx, us};

/// Money on its way back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refund {
    /// Its UUID, the idempotency key at the provider.
    pub id: String,
    /// The payment it goes back by.
    pub payment: String,
    /// The provider's name for that payment, if it came by card.
    pub provider_id: Option<String>,
    /// How that payment came.
    pub method: Method,
    /// The booking.
    pub booking: BookingId,
    /// Minor units.
    pub minor: i64,
    /// Why.
    pub reason: String,
    /// It has been given.
    pub done_at: Option<Timestamp>,
    /// Somebody at the house has to give it.
    pub by_hand: bool,
    /// When it was decided.
    pub made_at: Timestamp,
    /// How often it was tried.
    pub tries: u32,
    /// Why the last try failed.
    pub last_error: Option<String>,
}

const COLUMNS: &str = "r.id, r.payment_id, p.provider_id, p.method, r.booking_id, r.amount_minor, r.reason, \
     r.done_at, r.by_hand, r.made_at, r.tries, r.last_error";
const FROM: &str = "FROM refunds r JOIN payments p ON p.id = r.payment_id";

fn refund(row: &Row<'_>) -> rusqlite::Result<Refund> {
    Ok(Refund {
        id: row.get("id")?,
        payment: row.get("payment_id")?,
        provider_id: row.get("provider_id")?,
        method: word(row, "method", Method::from_word)?,
        booking: BookingId(row.get("booking_id")?),
        minor: row.get("amount_minor")?,
        reason: row.get("reason")?,
        done_at: instant_or(row, "done_at")?,
        by_hand: row.get("by_hand")?,
        made_at: instant(row, "made_at")?,
        tries: row.get("tries")?,
        last_error: row.get("last_error")?,
    })
}

/// A refund to be written down.
#[derive(Debug, Clone)]
pub struct NewRefund<'a> {
    /// Its UUID.
    pub id: &'a str,
    /// The payment it goes back by.
    pub payment: &'a str,
    /// The booking.
    pub booking: BookingId,
    /// Minor units.
    pub minor: i64,
    /// Why.
    pub reason: &'a str,
    /// Who decided it.
    pub who: &'a str,
    /// Somebody at the house has to give it.
    pub by_hand: bool,
}

/// Writes down that money is to go back.
pub fn open(tx: &Tx<'_>, new: &NewRefund<'_>, now: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT INTO refunds (id, payment_id, booking_id, amount_minor, reason, state, by_hand, made_at, who, next_try_at)
         VALUES (?1, ?2, ?3, ?4, ?5, 'open', ?6, ?7, ?8, ?9)",
    )
    .and_then(|mut q| {
        q.execute((
            new.id,
            new.payment,
            new.booking.0,
            new.minor,
            new.reason,
            new.by_hand,
            us(now),
            new.who,
            (!new.by_hand).then_some(us(now)),
        ))
    })
    .map(drop)
    .doing("writing a refund")
}

/// The refunds of a booking, oldest first.
pub fn of_booking(conn: &Connection, id: BookingId) -> Result<Vec<Refund>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} {FROM} WHERE r.booking_id = ?1 ORDER BY r.made_at, r.id"
    ))
    .and_then(|mut q| q.query_map([id.0], refund)?.collect())
    .doing("reading refunds")
}

/// A refund by its UUID.
pub fn by_id(conn: &Connection, id: &str) -> Result<Option<Refund>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} {FROM} WHERE r.id = ?1"))
        .and_then(|mut q| q.query_row([id], refund).optional())
        .doing("looking a refund up")
}

/// Refunds that the provider should be asked for by now, without those set aside.
pub fn due(
    conn: &Connection,
    now: Timestamp,
    most: u32,
) -> Result<Vec<(String, BookingId)>, StoreError> {
    conn.prepare_cached(
        "SELECT r.id, r.booking_id FROM refunds r WHERE r.next_try_at <= ?1
            AND NOT EXISTS (SELECT 1 FROM set_aside s WHERE s.work = 'refunds' AND s.about = r.id AND s.next_try_at > ?1)
         ORDER BY r.next_try_at LIMIT ?2",
    )
    .and_then(|mut q| {
        q.query_map((us(now), most), |row| Ok((row.get(0)?, BookingId(row.get(1)?))))?.collect()
    })
    .doing("looking for refunds to give")
}

/// Open refunds with reference and name of the booking, oldest first.
pub fn open_ones(conn: &Connection) -> Result<Vec<(Refund, String, String)>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS}, b.reference, b.name {FROM} JOIN bookings b ON b.id = r.booking_id
         WHERE r.state = 'open' AND b.test = 0 ORDER BY r.made_at, r.id"
    ))
    .and_then(|mut q| {
        q.query_map([], |row| Ok((refund(row)?, row.get("reference")?, row.get("name")?)))?
            .collect()
    })
    .doing("looking for money to give back")
}

/// The money has been given; `false` when that was known already.
pub fn done(tx: &Tx<'_>, id: &str, now: Timestamp) -> Result<bool, StoreError> {
    tx.prepare_cached(
        "UPDATE refunds SET state = 'done', done_at = ?2, next_try_at = NULL, last_error = NULL
         WHERE id = ?1 AND state = 'open'",
    )
    .and_then(|mut q| q.execute((id, us(now))))
    .map(|rows| rows == 1)
    .doing("noting a refund as given")
}

/// The provider did not take it; tried again at `again`, or left to somebody's hand.
pub fn not_done(
    tx: &Tx<'_>,
    id: &str,
    error: &str,
    again: Option<Timestamp>,
) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE refunds SET tries = tries + 1, last_error = ?2, next_try_at = ?3, by_hand = ?3 IS NULL
         WHERE id = ?1 AND state = 'open'",
    )
    .and_then(|mut q| q.execute((id, error, again.map(us))))
    .map(drop)
    .doing("putting a refund off")
}
