//! Who waits for seats.

use jiff::Timestamp;
use matricle_core::seats::Wanted;
use matricle_core::seats::waiting::Stands;
use matricle_core::{BookingId, DateId, TicketTypeId};
use rusqlite::{Connection, OptionalExtension, Row};

use crate::convert::{foreign, instant, word};
use crate::unreadable::readable;
use crate::{Doing, StoreError, Tx, us};

/// Somebody who waits for seats on a date.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Waiter {
    /// Its key.
    pub id: i64,
    /// The date.
    pub date: DateId,
    /// Their name.
    pub name: String,
    /// Their address.
    pub email: String,
    /// The tickets they want.
    pub wanted: Vec<Wanted>,
    /// Where they stand.
    pub stands: Stands,
    /// When they joined.
    pub joined_at: Timestamp,
    /// The booking that holds the seats offered to them.
    pub booking: Option<BookingId>,
    /// How often somebody behind them was served because their party did not fit.
    pub passed_over: u32,
}

const COLUMNS: &str = "w.id, w.date_id, w.name, w.email, w.wanted, w.stands, w.joined_at, w.booking_id, w.passed_over";

fn waiter(row: &Row<'_>) -> rusqlite::Result<Waiter> {
    let wanted: String = row.get("wanted")?;
    let pairs: Vec<(i64, u32)> =
        serde_json::from_str(&wanted).map_err(|_| foreign("waiting.wanted", wanted))?;
    Ok(Waiter {
        id: row.get("id")?,
        date: DateId(row.get("date_id")?),
        name: row.get("name")?,
        email: row.get("email")?,
        wanted: pairs
            .into_iter()
            .map(|(ticket, quantity)| Wanted { ticket: TicketTypeId(ticket), quantity })
            .collect(),
        stands: word(row, "stands", Stands::from_word)?,
        joined_at: instant(row, "joined_at")?,
        booking: row.get::<_, Option<i64>>("booking_id")?.map(BookingId),
        passed_over: row.get("passed_over")?,
    })
}

/// Puts somebody at the end of a list and gives the key.
pub fn join(
    tx: &Tx<'_>,
    date: DateId,
    name: &str,
    email: &str,
    wanted: &[Wanted],
    now: Timestamp,
) -> Result<i64, StoreError> {
    let pairs: Vec<(i64, u32)> =
        wanted.iter().filter(|w| w.quantity > 0).map(|w| (w.ticket.0, w.quantity)).collect();
    let json = serde_json::to_string(&pairs)
        .map_err(|e| rusqlite::Error::ToSqlConversionFailure(e.into()))
        .doing("joining a waiting list")?;
    tx.prepare_cached(
        "INSERT INTO waiting (date_id, name, email, wanted, stands, joined_at) VALUES (?1, ?2, ?3, ?4, 'waiting', ?5)",
    )
    .and_then(|mut q| q.execute((date.0, name, email, json, us(now))))
    .doing("joining a waiting list")?;
    tx.touch(date);
    Ok(tx.last_insert_rowid())
}

/// Those who wait for a date, first come first.
pub fn line(conn: &Connection, date: DateId) -> Result<Vec<Waiter>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM waiting w WHERE w.date_id = ?1 AND w.stands = 'waiting' ORDER BY w.id"
    ))
    .and_then(|mut q| readable("the waiting list", q.query_map([date.0], waiter)?))
    .doing("reading a waiting list")
}

/// Dates that somebody waits for.
pub fn dates(conn: &Connection) -> Result<Vec<DateId>, StoreError> {
    conn.prepare_cached("SELECT DISTINCT date_id FROM waiting WHERE stands = 'waiting'")
        .and_then(|mut q| q.query_map([], |row| row.get(0).map(DateId))?.collect())
        .doing("reading who waits")
}

/// Everybody who ever waited for a date, first come first.
pub fn all(conn: &Connection, date: DateId) -> Result<Vec<Waiter>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM waiting w WHERE w.date_id = ?1 ORDER BY w.id"
    ))
    .and_then(|mut q| readable("the waiting list", q.query_map([date.0], waiter)?))
    .doing("reading a waiting list")
}

/// Somebody on a list by their key.
pub fn by_id(conn: &Connection, id: i64) -> Result<Option<Waiter>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM waiting w WHERE w.id = ?1"))
        .and_then(|mut q| q.query_row([id], waiter).optional())
        .doing("looking somebody who waits up")
}

/// Whose offer this booking is.
pub fn of_booking(conn: &Connection, booking: BookingId) -> Result<Option<Waiter>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM waiting w WHERE w.booking_id = ?1"))
        .and_then(|mut q| q.query_row([booking.0], waiter).optional())
        .doing("looking for an offer")
}

/// Whether somebody with this address waits for a date already.
pub fn waits(conn: &Connection, date: DateId, email: &str) -> Result<Option<i64>, StoreError> {
    conn.prepare_cached(
        "SELECT id FROM waiting WHERE date_id = ?1 AND lower(email) = lower(?2) AND stands IN ('waiting', 'offered')",
    )
    .and_then(|mut q| q.query_row((date.0, email), |row| row.get(0)).optional())
    .doing("looking for somebody on a list")
}

/// Changes where somebody stands.
pub fn set(
    tx: &Tx<'_>,
    waiter: &Waiter,
    stands: Stands,
    booking: Option<BookingId>,
) -> Result<(), StoreError> {
    tx.touch(waiter.date);
    tx.prepare_cached(
        "UPDATE waiting SET stands = ?2, booking_id = coalesce(?3, booking_id) WHERE id = ?1",
    )
    .and_then(|mut q| q.execute((waiter.id, stands.word(), booking.map(|b| b.0))))
    .map(drop)
    .doing("moving somebody on a list")
}

/// Counts that somebody behind them was served.
pub fn passed_over(tx: &Tx<'_>, id: i64) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE waiting SET passed_over = passed_over + 1 WHERE id = ?1")
        .and_then(|mut q| q.execute([id]))
        .map(drop)
        .doing("counting on a list")
}

/// Notes that somebody was told of free seats; `false` when that was within the last hour.
pub fn tell(tx: &Tx<'_>, id: i64, now: Timestamp) -> Result<bool, StoreError> {
    tx.prepare_cached(
        "UPDATE waiting SET told_at = ?2 WHERE id = ?1 AND (told_at IS NULL OR told_at < ?2 - 3600000000)",
    )
    .and_then(|mut q| q.execute((id, us(now))))
    .map(|rows| rows == 1)
    .doing("telling somebody on a list")
}

/// How many of the list of a date stand so.
pub fn count(conn: &Connection, date: DateId, stands: Stands) -> Result<u32, StoreError> {
    conn.prepare_cached("SELECT count(*) FROM waiting WHERE date_id = ?1 AND stands = ?2")
        .and_then(|mut q| q.query_row((date.0, stands.word()), |row| row.get(0)))
        .doing("counting a waiting list")
}
