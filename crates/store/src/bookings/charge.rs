//! What bookings are charged, and the books that follow it.

use jiff::Timestamp;
use matricle_core::BookingId;
use matricle_core::money::ledger::{Charge, charge as entry_of};
use matricle_core::money::line_worth::is_charged;
use matricle_core::people::acting::PROGRAM;
use matricle_core::state::State;
use rusqlite::Connection;

use crate::convert::word;
use crate::{Doing, StoreError, Tx, ledger, us};

/// What a booking is charged as it stands: core says which states are, see [`is_charged`].
pub fn charge(conn: &Connection, id: BookingId) -> Result<Charge, StoreError> {
    conn.prepare_cached(
        "SELECT b.state, b.test, l.tax_basis, l.charge_minor, l.tax_minor FROM booking_lines l
         JOIN bookings b ON b.id = l.booking_id WHERE b.id = ?1",
    )
    .and_then(|mut q| {
        q.query_map([id.0], |row| {
            let is_charged = is_charged(word(row, "state", State::from_word)?, row.get(1)?);
            Ok(is_charged.then_some((row.get(2)?, row.get(3)?, row.get(4)?)))
        })?
        .filter_map(Result::transpose)
        .collect::<Result<Vec<(u32, i64, i64)>, _>>()
    })
    .map(Charge::of)
    .doing("reading what a booking is charged")
}

/// Brings the books to what a booking is charged as it stands.
pub(super) fn follow(
    tx: &Tx<'_>,
    id: BookingId,
    what: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    let (was, wanted) = (ledger::charged(tx, id)?, charge(tx, id)?);
    if was == wanted {
        return Ok(());
    }
    let event: i64 = tx
        .prepare_cached(
            "SELECT d.event_id FROM bookings b JOIN dates d ON d.id = b.date_id WHERE b.id = ?1",
        )
        .and_then(|mut q| q.query_row([id.0], |row| row.get(0)))
        .doing("reading the event of a booking")?;
    for (rate, (gross, tax)) in was.to(&wanted).by_rate {
        tx.prepare_cached(
            "INSERT INTO charges (booking_id, at, rate, gross, tax) VALUES (?1, ?2, ?3, ?4, ?5)",
        )
        .and_then(|mut q| q.execute((id.0, us(now), rate, gross, tax)))
        .doing("writing what a booking is charged")?;
    }
    match entry_of(event, id.0, &was, &wanted) {
        Some(entry) => ledger::book(tx, &entry, Some(id), PROGRAM, what, now),
        None => Ok(()),
    }
}
