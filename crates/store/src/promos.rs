//! Promo codes, and the bookings they are used on.

use jiff::Timestamp;
use matricle_core::money::promo::{Gives, Promo};
use matricle_core::words::fold;
use matricle_core::{BookingId, DateId, EventId, TicketTypeId};
use rusqlite::{Connection, OptionalExtension, Row, named_params};

use crate::convert::{foreign, instant_or};
use crate::states::{sql, sql_of};
use crate::{Doing, StoreError, Tx, us};

/// A promo code as the Office sees it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PromoRow {
    /// The code and its bounds.
    pub promo: Promo,
    /// The event it is for, and its title.
    pub event: Option<(EventId, String)>,
    /// How often it is in use on bookings that count.
    pub used: u32,
    /// What it has taken off them, in minor units, shared with other codes on the same line.
    pub taken_off: i64,
}

const COLUMNS: &str = "p.id, p.code, p.event_id, p.percent, p.minor, p.tickets, p.dates, p.address, p.most, p.once, \
     p.from_at, p.until_at, p.least_minor, p.most_minor, p.together, p.stopped_at";

fn ids(row: &Row<'_>, column: &'static str) -> rusqlite::Result<Vec<i64>> {
    let text: String = row.get(column)?;
    serde_json::from_str(&text).map_err(|_| foreign(column, text))
}

fn promo(row: &Row<'_>) -> rusqlite::Result<Promo> {
    let gives = match (row.get::<_, Option<u32>>("percent")?, row.get::<_, Option<i64>>("minor")?) {
        (Some(percent), _) => Gives::Percent(percent),
        (None, minor) => Gives::Amount(minor.unwrap_or(0)),
    };
    Ok(Promo {
        id: row.get("id")?,
        code: row.get("code")?,
        gives,
        tickets: ids(row, "tickets")?.into_iter().map(TicketTypeId).collect(),
        dates: ids(row, "dates")?.into_iter().map(DateId).collect(),
        address: row.get("address")?,
        most: row.get("most")?,
        once: row.get("once")?,
        from: instant_or(row, "from_at")?,
        until: instant_or(row, "until_at")?,
        least_minor: row.get("least_minor")?,
        most_minor: row.get("most_minor")?,
        together: row.get("together")?,
        stopped: row.get::<_, Option<i64>>("stopped_at")?.is_some(),
    })
}

/// What is compared of a code.
fn key(code: &str) -> String {
    fold(code).replace(' ', "")
}

/// Writes a new code down; `None` when another has the same letters.
pub fn add(
    tx: &Tx<'_>,
    promo: &Promo,
    event: Option<EventId>,
    now: Timestamp,
) -> Result<Option<i64>, StoreError> {
    let (percent, minor) = match promo.gives {
        Gives::Percent(percent) => (Some(percent), None),
        Gives::Amount(minor) => (None, Some(minor)),
    };
    let json = |ids: Vec<i64>| {
        serde_json::to_string(&ids).map_err(|e| rusqlite::Error::ToSqlConversionFailure(e.into()))
    };
    let write = || -> rusqlite::Result<usize> {
        tx.execute(
            "INSERT OR IGNORE INTO promos (code, folded, event_id, percent, minor, tickets, dates, address, most,
                once, from_at, until_at, least_minor, most_minor, together, made_at)
             VALUES (:code, :folded, :event, :percent, :minor, :tickets, :dates, :address, :most, :once, :from,
                :until, :least_minor, :most_minor, :together, :now)",
            named_params! {
                ":code": promo.code,
                ":folded": key(&promo.code),
                ":event": event.map(|e| e.0),
                ":percent": percent,
                ":minor": minor,
                ":tickets": json(promo.tickets.iter().map(|t| t.0).collect())?,
                ":dates": json(promo.dates.iter().map(|d| d.0).collect())?,
                ":address": promo.address,
                ":most": promo.most,
                ":once": promo.once,
                ":from": promo.from.map(us),
                ":until": promo.until.map(us),
                ":least_minor": promo.least_minor,
                ":most_minor": promo.most_minor,
                ":together": promo.together,
                ":now": us(now),
            },
        )
    };
    let rows = write().doing("writing a promo code")?;
    Ok((rows == 1).then(|| tx.last_insert_rowid()))
}

/// Stops a code, or lets it be used again.
pub fn stop(tx: &Tx<'_>, id: i64, at: Option<Timestamp>) -> Result<(), StoreError> {
    tx.execute("UPDATE promos SET stopped_at = ?2 WHERE id = ?1", (id, at.map(us)))
        .map(drop)
        .doing("stopping a promo code")
}

/// The code that was typed, if it is for this event.
pub fn typed(conn: &Connection, event: EventId, text: &str) -> Result<Option<Promo>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM promos p WHERE p.folded = ?1 AND (p.event_id IS NULL OR p.event_id = ?2)"
    ))
    .and_then(|mut q| q.query_row((key(text), event.0), promo).optional())
    .doing("looking a promo code up")
}

/// The codes on a booking, in the order given.
pub fn of_booking(conn: &Connection, booking: BookingId) -> Result<Vec<Promo>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM booking_promos bp JOIN promos p ON p.id = bp.promo_id
         WHERE bp.booking_id = ?1 ORDER BY bp.position"
    ))
    .and_then(|mut q| q.query_map([booking.0], promo)?.collect())
    .doing("reading the promo codes of a booking")
}

/// Writes the codes of a booking.
pub fn set(tx: &Tx<'_>, booking: BookingId, promos: &[Promo]) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        tx.prepare_cached("DELETE FROM booking_promos WHERE booking_id = ?1")?
            .execute([booking.0])?;
        let mut insert = tx.prepare_cached(
            "INSERT INTO booking_promos (booking_id, promo_id, position) VALUES (?1, ?2, ?3)",
        )?;
        for (position, promo) in (0i64..).zip(promos) {
            insert.execute((booking.0, promo.id, position))?;
        }
        Ok(())
    };
    write().doing("writing the promo codes of a booking")
}

/// How often a code is in use on bookings other than this one, and whether one of them has
/// this address.
pub fn used(
    conn: &Connection,
    promo: i64,
    but: BookingId,
    address: &str,
) -> Result<(u32, bool), StoreError> {
    conn.prepare_cached(
        sql!("SELECT count(*), coalesce(max(b.email <> '' AND lower(b.email) = lower(?3)), 0) FROM booking_promos bp
         JOIN bookings b ON b.id = bp.booking_id WHERE bp.promo_id = ?1 AND b.id <> ?2 AND b.test = 0
            AND b.state IN {keeps_seats}"),
    )
    .and_then(|mut q| q.query_row((promo, but.0, address), |row| Ok((row.get(0)?, row.get(1)?))))
    .doing("counting the uses of a promo code")
}

/// All codes, the latest first.
pub fn all(conn: &Connection) -> Result<Vec<PromoRow>, StoreError> {
    conn.prepare_cached(&sql_of!(
        "SELECT {COLUMNS}, e.title,
            (SELECT count(*) FROM booking_promos bp JOIN bookings b ON b.id = bp.booking_id WHERE bp.promo_id = p.id
                AND b.test = 0 AND b.state IN {{stands}}) AS used,
            (SELECT coalesce(sum(l.discount_minor), 0) FROM booking_promos bp JOIN bookings b ON b.id = bp.booking_id
                JOIN booking_lines l ON l.booking_id = b.id WHERE bp.promo_id = p.id
                AND b.test = 0 AND b.state IN {{asked_for}}) AS taken_off
         FROM promos p LEFT JOIN events e ON e.id = p.event_id ORDER BY p.id DESC"
    ))
    .and_then(|mut q| {
        q.query_map([], |row| {
            let event: Option<i64> = row.get("event_id")?;
            let title: Option<String> = row.get("title")?;
            Ok(PromoRow {
                promo: promo(row)?,
                event: event.map(EventId).zip(title),
                used: row.get("used")?,
                taken_off: row.get("taken_off")?,
            })
        })?
        .collect()
    })
    .doing("reading promo codes")
}
