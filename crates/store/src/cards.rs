//! Stamp cards and what happened with them.

use jiff::Timestamp;
use matricle_core::money::stamps::Card;
use matricle_core::{BookingId, TicketTypeId};
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
pub fn kinds(conn: &Connection) -> Result<Vec<CardKind>, StoreError> {
    conn.prepare_cached(
        "SELECT id, name, stamps, price_minor, life_days, retired_at FROM card_kinds ORDER BY retired_at IS NOT NULL, name",
    )
    .and_then(|mut q| q.query_map([], kind)?.collect())
    .doing("reading kinds of stamp cards")
}

/// Writes a kind down; `false` when another has the name.
pub fn add_kind(tx: &Tx<'_>, new: &CardKind) -> Result<bool, StoreError> {
    tx.execute(
        "INSERT OR IGNORE INTO card_kinds (name, stamps, price_minor, life_days) VALUES (?1, ?2, ?3, ?4)",
        (&new.name, new.stamps, new.price, new.life_days),
    )
    .map(|rows| rows == 1)
    .doing("writing a kind of stamp card")
}

/// Retires a kind: it is sold no longer, cards of it stay good.
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
    /// Until when it is good; without it for ever.
    pub expires_at: Option<Timestamp>,
    /// The booking and the ticket that buy it.
    pub bought: Option<(BookingId, TicketTypeId)>,
}

/// Writes a card down, empty, and gives its key: what is put on it is the first thing that
/// happens with it.
pub fn add(tx: &Tx<'_>, new: &NewCard<'_>, now: Timestamp) -> Result<i64, StoreError> {
    tx.execute(
        "INSERT INTO cards (code, kind_id, name, email, left, value, made_at, expires_at, booking_id, ticket_type_id)
         VALUES (?1, ?2, ?3, ?4, 0, 0, ?5, ?6, ?7, ?8)",
        rusqlite::params![
            new.code,
            new.kind,
            new.name,
            new.email,
            us(now),
            new.expires_at.map(us),
            new.bought.map(|(booking, _)| booking.0),
            new.bought.map(|(_, ticket)| ticket.0)
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
pub fn by_code(conn: &Connection, code: &str) -> Result<Option<HeldCard>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} {FROM} WHERE c.code = ?1"))
        .and_then(|mut q| q.query_row([code], held).optional())
        .doing("looking a stamp card up")
}

/// A card by its key.
pub fn by_id(conn: &Connection, id: i64) -> Result<Option<HeldCard>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} {FROM} WHERE c.id = ?1"))
        .and_then(|mut q| q.query_row([id], held).optional())
        .doing("looking a stamp card up")
}

/// The cards of an address, the latest first; of nobody's, all.
pub fn of(conn: &Connection, email: Option<&str>) -> Result<Vec<HeldCard>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} {FROM} WHERE ?1 IS NULL OR c.email = lower(?1) ORDER BY c.id DESC"
    ))
    .and_then(|mut q| q.query_map([email], held)?.collect())
    .doing("reading stamp cards")
}

/// Cards whose time is over and that hold something.
pub fn to_expire(conn: &Connection, now: Timestamp) -> Result<Vec<HeldCard>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} {FROM} WHERE c.expires_at <= ?1 AND c.left > 0
            AND NOT EXISTS (SELECT 1 FROM set_aside s WHERE s.work = 'books' AND s.about = 'card ' || c.id
                AND s.next_try_at > ?1) LIMIT 100"
    ))
    .and_then(|mut q| q.query_map([us(now)], held)?.collect())
    .doing("looking for stamp cards that are over")
}

/// What was used of which card for a payment: card, stamps, value, as they were taken off.
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
pub fn stamps_of(conn: &Connection, ticket: TicketTypeId) -> Result<Option<u32>, StoreError> {
    conn.prepare_cached("SELECT stamps FROM ticket_types WHERE id = ?1")
        .and_then(|mut q| q.query_row([ticket.0], |row| row.get(0)))
        .doing("reading what a ticket costs in stamps")
}

/// A line of a booking that buys stamp cards, and how many of them there are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bought {
    /// The ticket that is a card.
    pub ticket: TicketTypeId,
    /// The kind of card.
    pub kind: CardKind,
    /// Tickets on the line.
    pub quantity: u32,
    /// Cards that were made of them.
    pub made: u32,
    /// What the line is charged without tax, in minor units.
    pub net: i64,
}

/// The stamp cards that the tickets of a booking buy.
pub fn bought(conn: &Connection, booking: BookingId) -> Result<Vec<Bought>, StoreError> {
    conn.prepare_cached(
        "SELECT l.ticket_type_id, k.id, k.name, k.stamps, k.price_minor, k.life_days, k.retired_at, l.quantity,
            l.charge_minor - l.tax_minor AS net,
            (SELECT count(*) FROM cards c WHERE c.booking_id = l.booking_id AND c.ticket_type_id = t.id) AS made
         FROM booking_lines l JOIN ticket_types t ON t.id = l.ticket_type_id
         JOIN card_kinds k ON k.id = t.card_kind_id WHERE l.booking_id = ?1 ORDER BY l.position",
    )
    .and_then(|mut q| {
        q.query_map([booking.0], |row| {
            Ok(Bought {
                ticket: TicketTypeId(row.get("ticket_type_id")?),
                kind: kind(row)?,
                quantity: row.get("quantity")?,
                made: row.get("made")?,
                net: row.get("net")?,
            })
        })?
        .collect()
    })
    .doing("reading what stamp cards a booking buys")
}

/// The stamp cards that were bought with a booking.
pub fn of_booking(conn: &Connection, booking: BookingId) -> Result<Vec<HeldCard>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} {FROM} WHERE c.booking_id = ?1 ORDER BY c.id"))
        .and_then(|mut q| q.query_map([booking.0], held)?.collect())
        .doing("reading the stamp cards of a booking")
}

/// A place where a kind of card is sold like a ticket.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SoldAt {
    /// The name of the kind.
    pub kind: String,
    /// The event's address and title.
    pub slug: String,
    /// Its title.
    pub title: String,
    /// The price in minor units.
    pub minor: i64,
}

/// Where cards are sold: events in the Programme with dates to come, a kind once an event.
pub fn sold_at(conn: &Connection, now: Timestamp) -> Result<Vec<SoldAt>, StoreError> {
    conn.prepare_cached(
        "SELECT k.name, e.slug, e.title, min(t.minor) FROM ticket_types t
         JOIN card_kinds k ON k.id = t.card_kind_id JOIN events e ON e.id = t.event_id
         WHERE t.retired = 0 AND t.closed = 0 AND t.code = '' AND e.state = 'published' AND e.listed = 1
            AND EXISTS (SELECT 1 FROM dates d WHERE d.event_id = e.id AND d.starts_at > ?1 AND d.called_off = '')
         GROUP BY k.id, e.id ORDER BY k.name, e.title LIMIT 20",
    )
    .and_then(|mut q| {
        q.query_map([us(now)], |row| {
            Ok(SoldAt { kind: row.get(0)?, slug: row.get(1)?, title: row.get(2)?, minor: row.get(3)? })
        })?
        .collect()
    })
    .doing("looking where stamp cards are sold")
}
