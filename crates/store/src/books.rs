//! What the treasurer reads: who owes, what came and went, sums by event, payouts, shares.

use jiff::Timestamp;
use matricle_core::money::ledger::Method;
use matricle_core::money::shares::Share;
use matricle_core::{EventId, HostId};
use rusqlite::{Connection, OptionalExtension};

use crate::convert::{foreign, instant, instant_or, word};
use crate::states::{sql, sql_of};
use crate::{Doing, StoreError, Tx, us};

/// Somebody who owes money.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Owing {
    /// The booking's reference, as stored.
    pub reference: String,
    /// The booker.
    pub name: String,
    /// Their address.
    pub email: String,
    /// The event.
    pub title: String,
    /// What is still to pay, in minor units.
    pub due: i64,
    /// Since when it is owed.
    pub since: Timestamp,
    /// Until when the seats are kept for it, if they are not confirmed.
    pub until: Option<Timestamp>,
    /// An invoice was issued: a transfer is awaited.
    pub invoiced: bool,
}

/// Who owes what, longest first.
pub fn owing(conn: &Connection) -> Result<Vec<Owing>, StoreError> {
    conn.prepare_cached(
        sql!("SELECT b.reference, b.name, b.email, e.title, b.total_minor - b.paid_minor AS due, b.deadline,
            coalesce((SELECT min(c.at) FROM charges c WHERE c.booking_id = b.id), b.made_at) AS since,
            EXISTS (SELECT 1 FROM documents d WHERE d.booking_id = b.id AND d.kind = 'invoice') AS invoiced
         FROM bookings b JOIN dates d ON d.id = b.date_id JOIN events e ON e.id = d.event_id
         WHERE b.test = 0 AND b.state IN {asked_for} AND b.total_minor > b.paid_minor
         ORDER BY since, b.id"),
    )
    .and_then(|mut q| {
        q.query_map([], |row| {
            Ok(Owing {
                reference: row.get("reference")?,
                name: row.get("name")?,
                email: row.get("email")?,
                title: row.get("title")?,
                due: row.get("due")?,
                since: instant(row, "since")?,
                until: instant_or(row, "deadline")?,
                invoiced: row.get("invoiced")?,
            })
        })?
        .collect()
    })
    .doing("looking for who owes")
}

/// Money that came or went.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Movement {
    /// When.
    pub at: Timestamp,
    /// The booking's reference, as stored.
    pub reference: String,
    /// The booker.
    pub name: String,
    /// The event.
    pub title: String,
    /// How.
    pub method: Method,
    /// Minor units; what went back is negative.
    pub minor: i64,
    /// The provider's fee, in minor units.
    pub fee: i64,
    /// Who took or gave it.
    pub who: String,
    /// A note, or the reason.
    pub note: String,
}

/// Money that came or went between two instants, the latest first.
pub fn movements(
    conn: &Connection,
    from: Timestamp,
    until: Timestamp,
) -> Result<Vec<Movement>, StoreError> {
    conn.prepare_cached(
        "SELECT m.*, b.reference, b.name, e.title FROM (
            SELECT settled_at AS at, booking_id, method, amount_minor AS minor, fee_minor AS fee, who, note
                FROM payments WHERE state IN ('paid', 'surplus')
            UNION ALL SELECT r.done_at, r.booking_id, p.method, -r.amount_minor, 0, r.who, r.reason
                FROM refunds r JOIN payments p ON p.id = r.payment_id WHERE r.state = 'done'
         ) m JOIN bookings b ON b.id = m.booking_id JOIN dates d ON d.id = b.date_id JOIN events e ON e.id = d.event_id
         WHERE b.test = 0 AND m.at >= ?1 AND m.at < ?2 ORDER BY m.at DESC",
    )
    .and_then(|mut q| {
        q.query_map((us(from), us(until)), |row| {
            Ok(Movement {
                at: instant(row, "at")?,
                reference: row.get("reference")?,
                name: row.get("name")?,
                title: row.get("title")?,
                method: word(row, "method", Method::from_word)?,
                minor: row.get("minor")?,
                fee: row.get("fee")?,
                who: row.get("who")?,
                note: row.get("note")?,
            })
        })?
        .collect()
    })
    .doing("reading what came and went")
}

/// The money of an event, in minor units.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EventSums {
    /// The event.
    pub id: EventId,
    /// Its title.
    pub title: String,
    /// What bookings are charged, with tax.
    pub sold: i64,
    /// What promo codes took off.
    pub discounts: i64,
    /// Tax in what is charged.
    pub tax: i64,
    /// What the provider keeps.
    pub fees: i64,
    /// What went back, or is on its way.
    pub refunds: i64,
    /// What came.
    pub came: i64,
    /// People booked.
    pub heads: u32,
}

impl EventSums {
    /// What is left of what is charged, without tax and fees.
    #[must_use]
    pub const fn net(&self) -> i64 {
        self.sold - self.tax - self.fees
    }
}

/// The bookings of an event, by its dates.
const OWN: &str = "dates d CROSS JOIN bookings b ON b.date_id = d.id";
const OF: &str = "d.event_id = e.id AND b.test = 0";

/// The money of each event that has any, the latest made first.
pub fn by_event(conn: &Connection) -> Result<Vec<EventSums>, StoreError> {
    conn.prepare_cached(
        // Each sum goes from the event by its dates to its bookings: every step has an index.
        &sql_of!(
            "SELECT e.id, e.title,
                (SELECT coalesce(sum(c.gross), 0) FROM {OWN} JOIN charges c ON c.booking_id = b.id WHERE {OF}) AS sold,
                (SELECT coalesce(sum(c.tax), 0) FROM {OWN} JOIN charges c ON c.booking_id = b.id WHERE {OF}) AS tax,
                (SELECT coalesce(sum(l.discount_minor), 0) FROM {OWN} JOIN booking_lines l ON l.booking_id = b.id
                    WHERE {OF} AND b.state IN {{asked_for}}) AS discounts,
                (SELECT coalesce(sum(p.fee_minor), 0) FROM {OWN} JOIN payments p ON p.booking_id = b.id
                    WHERE {OF} AND p.state IN ('paid', 'surplus')) AS fees,
                (SELECT coalesce(sum(p.amount_minor), 0) FROM {OWN} JOIN payments p ON p.booking_id = b.id
                    WHERE {OF} AND p.state IN ('paid', 'surplus')) AS came,
                (SELECT coalesce(sum(r.amount_minor), 0) FROM {OWN} JOIN refunds r ON r.booking_id = b.id WHERE {OF}) AS refunds,
                (SELECT count(*) FROM {OWN} JOIN attendees a ON a.booking_id = b.id
                    WHERE {OF} AND b.state = {{Confirmed}} AND a.cancelled_at IS NULL AND a.position = a.person_no) AS heads
             FROM events e WHERE e.thrown_at IS NULL ORDER BY e.id DESC"
        ),
    )
    .and_then(|mut q| {
        q.query_map([], |row| {
            Ok(EventSums {
                id: EventId(row.get("id")?),
                title: row.get("title")?,
                sold: row.get("sold")?,
                discounts: row.get("discounts")?,
                tax: row.get("tax")?,
                fees: row.get("fees")?,
                refunds: row.get("refunds")?,
                came: row.get("came")?,
                heads: row.get("heads")?,
            })
        })?
        .collect::<Result<Vec<_>, _>>()
    })
    .map(|mut all| {
        all.retain(|e| e.sold != 0 || e.came != 0);
        all
    })
    .doing("adding events up")
}

/// What the card provider should say of a payment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CardPayment {
    /// Its UUID.
    pub id: String,
    /// The booking's reference, as stored.
    pub reference: String,
    /// Minor units that came, if they did.
    pub came: i64,
    /// Minor units given back.
    pub refunded: i64,
}

/// The payments by card as the books have them.
pub fn card_payments(conn: &Connection) -> Result<Vec<CardPayment>, StoreError> {
    conn.prepare_cached(
        "SELECT p.id, b.reference, CASE WHEN p.state IN ('paid', 'surplus') THEN p.amount_minor ELSE 0 END AS came,
            (SELECT coalesce(sum(r.amount_minor), 0) FROM refunds r WHERE r.payment_id = p.id AND r.state = 'done') AS refunded
         FROM payments p JOIN bookings b ON b.id = p.booking_id WHERE p.method = 'card' AND p.provider_id IS NOT NULL",
    )
    .and_then(|mut q| {
        q.query_map([], |row| {
            Ok(CardPayment {
                id: row.get("id")?,
                reference: row.get("reference")?,
                came: row.get("came")?,
                refunded: row.get("refunded")?,
            })
        })?
        .collect()
    })
    .doing("reading payments by card")
}

/// Notes a payout; `false` when it was noted before.
pub fn payout(
    tx: &Tx<'_>,
    id: &str,
    amount: i64,
    fees: i64,
    now: Timestamp,
) -> Result<bool, StoreError> {
    tx.prepare_cached(
        "INSERT OR IGNORE INTO payouts (id, amount, fees, booked_at) VALUES (?1, ?2, ?3, ?4)",
    )
    .and_then(|mut q| q.execute((id, amount, fees, us(now))))
    .map(|rows| rows == 1)
    .doing("noting a payout")
}

/// Payouts noted: when, to the bank, fees; the latest first.
pub fn payouts(conn: &Connection) -> Result<Vec<(Timestamp, i64, i64)>, StoreError> {
    conn.prepare_cached("SELECT booked_at, amount, fees FROM payouts ORDER BY booked_at DESC")
        .and_then(|mut q| {
            q.query_map([], |row| Ok((instant(row, "booked_at")?, row.get(1)?, row.get(2)?)))?
                .collect()
        })
        .doing("reading payouts")
}

/// Whether something is to be asked of the outside again; if so, notes that it is.
pub fn ask_again(
    tx: &Tx<'_>,
    what: &str,
    every: jiff::SignedDuration,
    now: Timestamp,
) -> Result<bool, StoreError> {
    let before = now.saturating_sub(every).unwrap_or(now);
    tx.prepare_cached(
        "INSERT INTO asked (what, at) VALUES (?1, ?2) ON CONFLICT (what) DO UPDATE SET at = ?2 WHERE at <= ?3",
    )
    .and_then(|mut q| q.execute((what, us(now), us(before))))
    .map(|rows| rows == 1)
    .doing("noting what was asked")
}

/// Whether something was asked at or after an instant, without noting anything.
pub fn asked_since(conn: &Connection, what: &str, since: Timestamp) -> Result<bool, StoreError> {
    conn.prepare_cached("SELECT at > ?2 FROM asked WHERE what = ?1")
        .and_then(|mut q| q.query_row((what, us(since)), |row| row.get(0)).optional())
        .map(|known| known.unwrap_or(false))
        .doing("looking what was asked")
}

/// What a host gets of an event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostShare {
    /// The host.
    pub host: HostId,
    /// Their name.
    pub name: String,
    /// The event.
    pub event: EventId,
    /// Its title.
    pub title: String,
    /// How it is worked out.
    pub share: Share,
    /// What the ledger has for them of this event, in minor units.
    pub booked: i64,
}

/// All shares, by host and event.
pub fn shares(conn: &Connection) -> Result<Vec<HostShare>, StoreError> {
    conn.prepare_cached(
        "SELECT s.host_id, h.name, s.event_id, e.title, s.kind, s.amount, s.costs,
            (SELECT coalesce(-sum(l.minor), 0) FROM entry_lines l JOIN entries n ON n.id = l.entry_id
                WHERE l.account = 'hosts owed' AND l.about = s.host_id AND n.what = 'share of event ' || s.event_id) AS booked
         FROM host_shares s JOIN hosts h ON h.id = s.host_id JOIN events e ON e.id = s.event_id ORDER BY h.name, s.event_id",
    )
    .and_then(|mut q| {
        q.query_map([], |row| {
            let kind: String = row.get("kind")?;
            Ok(HostShare {
                host: HostId(row.get("host_id")?),
                name: row.get("name")?,
                event: EventId(row.get("event_id")?),
                title: row.get("title")?,
                share: Share::from_parts(&kind, row.get("amount")?, row.get("costs")?)
                    .ok_or_else(|| foreign("host_shares.kind", kind))?,
                booked: row.get("booked")?,
            })
        })?
        .collect()
    })
    .doing("reading hosts' shares")
}

/// Writes a share down, or changes it.
pub fn set_share(
    tx: &Tx<'_>,
    event: EventId,
    host: HostId,
    share: Share,
) -> Result<(), StoreError> {
    let (amount, costs) = share.parts();
    tx.execute(
        "INSERT INTO host_shares (event_id, host_id, kind, amount, costs) VALUES (?1, ?2, ?3, ?4, ?5)
         ON CONFLICT (event_id, host_id) DO UPDATE SET kind = ?3, amount = ?4, costs = ?5",
        (event.0, host.0, share.word(), amount, costs),
    )
    .map(drop)
    .doing("writing a host's share")
}
