//! Stamp cards and what happened with them.

use jiff::Timestamp;
use matricle_core::TicketTypeId;
use matricle_core::stamps::Card;
use rusqlite::{Connection, OptionalExtension, Row};

use crate::convert::{instant, instant_or};
use crate::{Doing, StoreError, Tx, us};

/// A kind of card.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CardKind {
    /// Its key.
    pub id: i64,
    /// Its name.
    pub name: String,
    /// Its stamps.
    pub stamps: u32,
    /// Its price in minor units.
    pub price: i64,
    /// Days it is good for; without them for ever.
    pub life_days: Option<u32>,
    /// No longer sold.
    pub retired: bool,
}

/// A card of somebody.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldCard {
    /// Its key.
    pub id: i64,
    /// What is typed to pay with it.
    pub code: String,
    /// Its kind's name.
    pub kind: String,
    /// Whose it is.
    pub name: String,
    /// Their address.
    pub email: String,
    /// Stamps, value, until when.
    pub card: Card,
    /// When it was made.
    pub made_at: Timestamp,
}

fn kind(row: &Row<'_>) -> rusqlite::Result<CardKind> {
    Ok(CardKind {
        id: row.get("id")?,
        name: row.get("name")?,
        stamps: row.get("stamps")?,
        price: row.get("price_minor")?,
        life_days: row.get("life_days")?,
        retired: row.get::<_, Option<i64>>("retired_at")?.is_some(),
    })
}

/// All kinds of cards by name, those sold first.
///
/// # Errors
/// SQLite refuses.
pub fn kinds(conn: &Connection) -> Result<Vec<CardKind>, StoreError> {
    conn.prepare_cached(
        "SELECT id, name, stamps, price_minor, life_days, retired_at FROM card_kinds ORDER BY retired_at IS NOT NULL, name",
    )
    .and_then(|mut q| q.query_map([], kind)?.collect())
    .doing("reading kinds of stamp cards")
}

/// Writes a kind down; `false` when another has the name.
///
/// # Errors
/// SQLite refuses.
pub fn add_kind(tx: &Tx<'_>, new: &CardKind) -> Result<bool, StoreError> {
    tx.execute(
        "INSERT OR IGNORE INTO card_kinds (name, stamps, price_minor, life_days) VALUES (?1, ?2, ?3, ?4)",
        (&new.name, new.stamps, new.price, new.life_days),
    )
    .map(|rows| rows == 1)
    .doing("writing a kind of stamp card")
}

/// Retires a kind: it is sold no longer, cards of it stay good.
///
/// # Errors
/// SQLite refuses.
pub fn retire_kind(tx: &Tx<'_>, id: i64, at: Option<Timestamp>) -> Result<(), StoreError> {
    tx.execute("UPDATE card_kinds SET retired_at = ?2 WHERE id = ?1", (id, at.map(us)))
        .map(drop)
        .doing("retiring a kind of stamp card")
}

const COLUMNS: &str =
    "c.id, c.code, k.name AS kind, c.name, c.email, c.left, c.value, c.made_at, c.expires_at";
const FROM: &str = "FROM cards c JOIN card_kinds k ON k.id = c.kind_id";

fn held(row: &Row<'_>) -> rusqlite::Result<HeldCard> {
    Ok(HeldCard {
        id: row.get("id")?,
        code: row.get("code")?,
        kind: row.get("kind")?,
        name: row.get("name")?,
        email: row.get("email")?,
        card: Card {
            left: row.get("left")?,
            value: row.get("value")?,
            expires_at: instant_or(row, "expires_at")?,
        },
        made_at: instant(row, "made_at")?,
    })
}

/// A card to be written down.
#[derive(Debug, Clone)]
pub struct NewCard<'a> {
    /// What is typed to pay with it.
    pub code: &'a str,
    /// Its kind.
    pub kind: i64,
    /// Whose it is.
    pub name: &'a str,
    /// Their address.
    pub email: &'a str,
    /// Stamps, value, until when.
    pub card: &'a Card,
}

/// Writes a card down and gives its key.
///
/// # Errors
/// SQLite refuses.
pub fn add(tx: &Tx<'_>, new: &NewCard<'_>, now: Timestamp) -> Result<i64, StoreError> {
    tx.execute(
        "INSERT INTO cards (code, kind_id, name, email, left, value, made_at, expires_at)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
        rusqlite::params![
            new.code,
            new.kind,
            new.name,
            new.email,
            new.card.left,
            new.card.value,
            us(now),
            new.card.expires_at.map(us)
        ],
    )
    .map(|_| tx.last_insert_rowid())
    .doing("writing a stamp card")
}

/// Something that happened with a card.
#[derive(Debug, Clone)]
pub struct Move<'a> {
    /// The card.
    pub card: i64,
    /// Who did it.
    pub who: &'a str,
    /// What it was.
    pub what: &'a str,
    /// Stamps more, or less.
    pub stamps: i64,
    /// Minor units that it is worth more, or less.
    pub value: i64,
    /// The payment it was used for.
    pub payment: Option<&'a str>,
}

/// Writes down what happened with a card, and what it holds after it.
///
/// # Errors
/// SQLite refuses, also when less than nothing would be left.
pub fn happened(tx: &Tx<'_>, what: &Move<'_>, now: Timestamp) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        tx.execute(
            "INSERT INTO card_moves (card_id, at, who, what, stamps, value, payment_id) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            (what.card, us(now), what.who, what.what, what.stamps, what.value, what.payment),
        )?;
        tx.execute(
            "UPDATE cards SET left = left + ?2, value = value + ?3 WHERE id = ?1",
            (what.card, what.stamps, what.value),
        )
        .map(drop)
    };
    write().doing("writing what happened with a stamp card")
}

/// The card with this code.
///
/// # Errors
/// SQLite refuses.
pub fn by_code(conn: &Connection, code: &str) -> Result<Option<HeldCard>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} {FROM} WHERE c.code = ?1"))
        .and_then(|mut q| q.query_row([code], held).optional())
        .doing("looking a stamp card up")
}

/// A card by its key.
///
/// # Errors
/// SQLite refuses.
pub fn by_id(conn: &Connection, id: i64) -> Result<Option<HeldCard>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} {FROM} WHERE c.id = ?1"))
        .and_then(|mut q| q.query_row([id], held).optional())
        .doing("looking a stamp card up")
}

/// The cards of an address, the latest first; of nobody's, all.
///
/// # Errors
/// SQLite refuses.
pub fn of(conn: &Connection, email: Option<&str>) -> Result<Vec<HeldCard>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} {FROM} WHERE ?1 IS NULL OR c.email = lower(?1) ORDER BY c.id DESC LIMIT 2000"
    ))
    .and_then(|mut q| q.query_map([email], held)?.collect())
    .doing("reading stamp cards")
}

/// Cards whose time is over and that hold something.
///
/// # Errors
/// SQLite refuses.
pub fn to_expire(conn: &Connection, now: Timestamp) -> Result<Vec<HeldCard>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} {FROM} WHERE c.expires_at <= ?1 AND c.left > 0 LIMIT 100"
    ))
    .and_then(|mut q| q.query_map([us(now)], held)?.collect())
    .doing("looking for stamp cards that are over")
}

/// What was used of which card for a payment: card, stamps, value, as they were taken off.
///
/// # Errors
/// SQLite refuses.
pub fn used_for(conn: &Connection, payment: &str) -> Result<Vec<(i64, i64, i64)>, StoreError> {
    conn.prepare_cached(
        "SELECT card_id, -sum(stamps), -sum(value) FROM card_moves WHERE payment_id = ?1 GROUP BY card_id",
    )
    .and_then(|mut q| {
        q.query_map([payment], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?.collect()
    })
    .doing("reading what stamps paid")
}

/// Stamps that one of a ticket costs, for tickets that take stamps.
///
/// # Errors
/// SQLite refuses.
pub fn stamps_of(conn: &Connection, ticket: TicketTypeId) -> Result<Option<u32>, StoreError> {
    conn.prepare_cached("SELECT stamps FROM ticket_types WHERE id = ?1")
        .and_then(|mut q| q.query_row([ticket.0], |row| row.get(0)))
        .doing("reading what a ticket costs in stamps")
}
