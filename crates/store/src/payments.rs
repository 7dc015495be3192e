//! Payments through the card provider, and webhooks already taken.

use jiff::Timestamp;
use matricle_core::BookingId;
use matricle_core::money::ledger::Method;
use rusqlite::{Connection, OptionalExtension, Row};

use crate::convert::{foreign, instant, instant_or, word};
use crate::{Doing, StoreError, Tx, us};

matricle_core::worded! {
    /// Where a payment stands.
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum PaymentState {
        /// The payer has not decided.
        Open = "open",
        /// The money came and was booked.
        Paid = "paid",
        /// The provider said no.
        Declined = "declined",
        /// Called back before it was paid.
        Withdrawn = "withdrawn",
        /// The money came for a booking that no longer wanted it: to be given back.
        Surplus = "surplus",
    }
}

/// A payment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Payment {
    /// Its UUID, the idempotency key at the provider.
    pub id: String,
    /// The booking it is for.
    pub booking: BookingId,
    /// The provider's name for it, once the provider has answered.
    pub provider_id: Option<String>,
    /// Where the payer pays, once the provider has answered.
    pub pay_url: Option<String>,
    /// Minor units of the house's currency.
    pub amount_minor: i64,
    /// Where it stands.
    pub state: PaymentState,
    /// When it was made.
    pub made_at: Timestamp,
    /// When it was settled.
    pub settled_at: Option<Timestamp>,
    /// How often the provider has been asked.
    pub tries: u32,
    /// The booking no longer wants the money.
    pub unwanted: bool,
    /// How it came, or is to come.
    pub method: Method,
    /// Who took it, when somebody did.
    pub who: String,
    /// What they noted.
    pub note: String,
    /// What the provider keeps of it, in minor units.
    pub fee_minor: i64,
    /// Whether the payer's bank takes it back: empty, `open`, `won` or `lost`.
    pub dispute: String,
    /// Minor units given back, or on their way.
    pub given_minor: i64,
}

impl Payment {
    /// What can still be given back of it.
    #[must_use]
    pub fn left(&self) -> i64 {
        let came = matches!(self.state, PaymentState::Paid | PaymentState::Surplus);
        if came && self.dispute != "lost" { self.amount_minor - self.given_minor } else { 0 }
    }
}

const COLUMNS: &str = "id, booking_id, provider_id, pay_url, amount_minor, state, made_at, settled_at, \
     tries, unwanted, method, who, note, fee_minor, dispute, \
     (SELECT coalesce(sum(r.amount_minor), 0) FROM refunds r WHERE r.payment_id = payments.id) AS given_minor";

fn payment(row: &Row<'_>) -> rusqlite::Result<Payment> {
    let state: String = row.get("state")?;
    Ok(Payment {
        id: row.get("id")?,
        booking: BookingId(row.get("booking_id")?),
        provider_id: row.get("provider_id")?,
        pay_url: row.get("pay_url")?,
        amount_minor: row.get("amount_minor")?,
        state: PaymentState::ALL
            .into_iter()
            .find(|s| s.word() == state)
            .ok_or_else(|| foreign("payments.state", state))?,
        made_at: instant(row, "made_at")?,
        settled_at: instant_or(row, "settled_at")?,
        tries: row.get("tries")?,
        unwanted: row.get("unwanted")?,
        method: word(row, "method", Method::from_word)?,
        who: row.get("who")?,
        note: row.get("note")?,
        fee_minor: row.get("fee_minor")?,
        dispute: row.get("dispute")?,
        given_minor: row.get("given_minor")?,
    })
}

/// Writes a payment down before the provider hears of it.
pub fn open(
    tx: &Tx<'_>,
    id: &str,
    booking: BookingId,
    amount_minor: i64,
    next_check_at: Timestamp,
    now: Timestamp,
) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT INTO payments (id, booking_id, amount_minor, state, made_at, next_check_at)
         VALUES (?1, ?2, ?3, 'open', ?4, ?5)",
    )
    .and_then(|mut q| q.execute((id, booking.0, amount_minor, us(now), us(next_check_at))))
    .map(drop)
    .doing("writing a payment")
}

/// Writes down money that somebody has taken.
pub fn take(tx: &Tx<'_>, new: &Taken<'_>, now: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT INTO payments (id, booking_id, amount_minor, state, made_at, settled_at, method, who, note)
         VALUES (?1, ?2, ?3, 'paid', ?4, ?4, ?5, ?6, ?7)",
    )
    .and_then(|mut q| {
        q.execute((
            new.id,
            new.booking.0,
            new.minor,
            us(now),
            new.method.word(),
            new.who,
            new.note,
        ))
    })
    .map(drop)
    .doing("writing money down")
}

/// Money that somebody has taken.
#[derive(Debug, Clone)]
pub struct Taken<'a> {
    /// A UUID.
    pub id: &'a str,
    /// The booking it is for.
    pub booking: BookingId,
    /// Minor units.
    pub minor: i64,
    /// How it came.
    pub method: Method,
    /// Who took it.
    pub who: &'a str,
    /// What they noted.
    pub note: &'a str,
}

/// Notes what the provider says of its fee and of a dispute; says what was known before.
pub fn note(tx: &Tx<'_>, id: &str, fee_minor: i64, dispute: &str) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE payments SET fee_minor = ?2, dispute = ?3 WHERE id = ?1")
        .and_then(|mut q| q.execute((id, fee_minor, dispute)))
        .map(drop)
        .doing("noting what the provider says")
}

/// Writes down what the provider calls a payment and where the payer pays.
pub fn known_as(tx: &Tx<'_>, id: &str, provider_id: &str, pay_url: &str) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE payments SET provider_id = ?2, pay_url = ?3 WHERE id = ?1")
        .and_then(|mut q| q.execute((id, provider_id, pay_url)))
        .map(drop)
        .doing("writing the provider's answer")
}

/// Finds a payment by its UUID.
pub fn by_id(conn: &Connection, id: &str) -> Result<Option<Payment>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM payments WHERE id = ?1"))
        .and_then(|mut q| q.query_row([id], payment).optional())
        .doing("looking a payment up")
}

/// Whether any payment came by card.
pub fn by_card(conn: &Connection) -> Result<bool, StoreError> {
    conn.prepare_cached(
        "SELECT EXISTS (SELECT 1 FROM payments WHERE method = 'card' AND state = 'paid')",
    )
    .and_then(|mut q| q.query_row([], |row| row.get(0)))
    .doing("looking for a payment by card")
}

/// The payments of a booking, oldest first.
pub fn of_booking(conn: &Connection, booking: BookingId) -> Result<Vec<Payment>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM payments WHERE booking_id = ?1 ORDER BY made_at, id"
    ))
    .and_then(|mut q| q.query_map([booking.0], payment)?.collect())
    .doing("reading payments")
}

/// Payments whose provider should be asked by now, without those set aside.
pub fn to_check(
    conn: &Connection,
    now: Timestamp,
    most: u32,
) -> Result<Vec<(String, BookingId)>, StoreError> {
    conn.prepare_cached(
        "SELECT id, booking_id FROM payments WHERE next_check_at <= ?1
            AND NOT EXISTS (SELECT 1 FROM set_aside s WHERE s.work = 'payments' AND s.about = payments.id AND s.next_try_at > ?1)
         ORDER BY next_check_at LIMIT ?2",
    )
    .and_then(|mut q| {
        q.query_map((us(now), most), |row| Ok((row.get(0)?, BookingId(row.get(1)?))))?.collect()
    })
    .doing("looking for payments to ask about")
}

/// Settles an open payment. Money that comes all the same for one that was declined
/// or withdrawn is still written down; anything else leaves what is settled alone.
pub fn settle(
    tx: &Tx<'_>,
    id: &str,
    state: PaymentState,
    now: Timestamp,
) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE payments SET state = ?2, settled_at = ?3, next_check_at = NULL WHERE id = ?1
            AND (state = 'open' OR (?2 IN ('paid', 'surplus') AND state IN ('declined', 'withdrawn')))",
    )
    .and_then(|mut q| q.execute((id, state.word(), us(now))))
    .map(drop)
    .doing("settling a payment")
}

/// Says when to ask the provider next.
pub fn check_again(tx: &Tx<'_>, id: &str, at: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE payments SET next_check_at = ?2, tries = tries + 1 WHERE id = ?1 AND state = 'open'",
    )
    .and_then(|mut q| q.execute((id, us(at))))
    .map(drop)
    .doing("putting a payment off")
}

/// The booking no longer wants the money: the provider is told at once.
pub fn unwant(tx: &Tx<'_>, booking: BookingId, now: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE payments SET unwanted = 1, next_check_at = ?2 WHERE booking_id = ?1 AND state = 'open'",
    )
    .and_then(|mut q| q.execute((booking.0, us(now))))
    .map(drop)
    .doing("calling a payment back")
}

/// Notes what a webhook that was taken said, of a kind that is not known.
pub fn note_hook(tx: &Tx<'_>, webhook_id: &str, note: &str) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE hooks_taken SET note = ?2 WHERE webhook_id = ?1")
        .and_then(|mut q| q.execute((webhook_id, note)))
        .map(drop)
        .doing("noting a webhook")
}

/// Takes a webhook; `false` when it was taken before. Ids older than a month are
/// forgotten: no sender repeats that long.
pub fn take_hook(tx: &Tx<'_>, webhook_id: &str, now: Timestamp) -> Result<bool, StoreError> {
    let month = jiff::SignedDuration::from_hours(30 * 24);
    tx.prepare_cached("DELETE FROM hooks_taken WHERE taken_at < ?1")
        .and_then(|mut q| q.execute([us(now.saturating_sub(month).unwrap_or(now))]))
        .and_then(|_| {
            tx.prepare_cached(
                "INSERT OR IGNORE INTO hooks_taken (webhook_id, taken_at) VALUES (?1, ?2)",
            )?
            .execute((webhook_id, us(now)))
        })
        .map(|rows| rows == 1)
        .doing("taking a webhook")
}
