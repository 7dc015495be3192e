//! What bookings draw from pools, and how that moves.

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::seats::{Bucket, Draw, shifts};
use matricle_core::{BookingId, DateId, PoolId};
use rusqlite::Connection;

use super::Booking;
use crate::{Doing, StoreError, Tx, us};

/// Writes what a booking will draw, while it keeps no seats.
pub fn set_draws(tx: &Tx<'_>, booking: &Booking, draws: &[Draw]) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        tx.prepare_cached("DELETE FROM booking_draws WHERE booking_id = ?1")?
            .execute([booking.id.0])?;
        let mut insert = tx.prepare_cached(
            "INSERT INTO booking_draws (booking_id, pool_id, seats) VALUES (?1, ?2, ?3)",
        )?;
        for draw in draws.iter().filter(|_| !booking.test) {
            insert.execute((booking.id.0, draw.pool.0, draw.seats))?;
        }
        Ok(())
    };
    write().doing("writing what a booking draws")
}

/// Lets a booking draw more from a pool, also from one it drew nothing from before.
pub(super) fn draw_more(tx: &Tx<'_>, booking: &Booking, draw: &Draw) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT OR IGNORE INTO booking_draws (booking_id, pool_id, seats) VALUES (?1, ?2, 0)",
    )
    .and_then(|mut q| q.execute((booking.id.0, draw.pool.0)))
    .doing("adding what a booking draws")?;
    shift_pool(tx, booking, draw.pool.0, i64::from(draw.seats))
}

/// Changes what a booking draws from one pool, and the pool's counter with it.
pub(super) fn shift_pool(
    tx: &Tx<'_>,
    booking: &Booking,
    pool: i64,
    by: i64,
) -> Result<(), StoreError> {
    tx.touch(booking.date);
    let write = || -> rusqlite::Result<()> {
        tx.prepare_cached(
            "UPDATE booking_draws SET seats = seats + ?3 WHERE booking_id = ?1 AND pool_id = ?2",
        )?
        .execute((booking.id.0, pool, by))?;
        tx.prepare_cached("DELETE FROM booking_draws WHERE booking_id = ?1 AND seats = 0")?
            .execute([booking.id.0])?;
        if let Some(bucket) = Bucket::of(booking.state) {
            tx.prepare_cached(counter(bucket))?.execute((pool, by))?;
        }
        Ok(())
    };
    write().doing("moving seats")
}

const fn counter(bucket: Bucket) -> &'static str {
    match bucket {
        Bucket::Held => "UPDATE pools SET held = held + ?2 WHERE id = ?1",
        Bucket::Requested => "UPDATE pools SET requested = requested + ?2 WHERE id = ?1",
        Bucket::AwaitingPayment => {
            "UPDATE pools SET awaiting_payment = awaiting_payment + ?2 WHERE id = ?1"
        }
        Bucket::Confirmed => "UPDATE pools SET confirmed = confirmed + ?2 WHERE id = ?1",
    }
}

pub(super) fn shift(
    tx: &Tx<'_>,
    id: BookingId,
    date: DateId,
    from: Option<State>,
    to: State,
) -> Result<(), StoreError> {
    let draws: Vec<Draw> = tx
        .prepare_cached("SELECT pool_id, seats FROM booking_draws WHERE booking_id = ?1")
        .and_then(|mut q| {
            q.query_map([id.0], |row| Ok(Draw { pool: PoolId(row.get(0)?), seats: row.get(1)? }))?
                .collect()
        })
        .doing("reading what a booking draws")?;
    shift_by(tx, date, &draws, from, to)
}

/// Moves the counters of pools as a booking with these draws goes from state to state.
pub(super) fn shift_by(
    tx: &Tx<'_>,
    date: DateId,
    draws: &[Draw],
    from: Option<State>,
    to: State,
) -> Result<(), StoreError> {
    tx.touch(date);
    for shift in shifts(draws, from, to) {
        tx.prepare_cached(counter(shift.bucket))
            .and_then(|mut q| q.execute((shift.pool.0, shift.by)))
            .doing("moving seats")?;
    }
    Ok(())
}

/// Moves a booking to another date, its people and seats with it; sessions of the old date
/// are left.
pub fn move_to(
    tx: &Tx<'_>,
    booking: &Booking,
    date: DateId,
    draws: &[Draw],
    now: Timestamp,
) -> Result<(), StoreError> {
    let old: Vec<(i64, i64)> = tx
        .prepare_cached("SELECT pool_id, seats FROM booking_draws WHERE booking_id = ?1")
        .and_then(|mut q| {
            q.query_map([booking.id.0], |row| Ok((row.get(0)?, row.get(1)?)))?.collect()
        })
        .doing("reading what a booking draws")?;
    for (pool, seats) in old {
        shift_pool(tx, booking, pool, -seats)?;
    }
    let write = || -> rusqlite::Result<()> {
        tx.prepare_cached(
            "DELETE FROM sign_ups WHERE attendee_id IN (SELECT id FROM attendees WHERE booking_id = ?1)",
        )?
        .execute([booking.id.0])?;
        tx.prepare_cached("UPDATE attendees SET date_id = ?2 WHERE booking_id = ?1")?
            .execute((booking.id.0, date.0))?;
        tx.prepare_cached("UPDATE bookings SET date_id = ?2, since = ?3 WHERE id = ?1")?
            .execute((booking.id.0, date.0, us(now)))?;
        Ok(())
    };
    write().doing("moving a booking to another date")?;
    for draw in draws.iter().filter(|_| !booking.test) {
        draw_more(tx, booking, draw)?;
    }
    tx.touch(date);
    Ok(())
}

/// Seats that a booking draws from a pool.
pub fn seats_of(conn: &Connection, id: BookingId, pool: PoolId) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT coalesce(sum(seats), 0) FROM booking_draws WHERE booking_id = ?1 AND pool_id = ?2",
    )
    .and_then(|mut q| q.query_row((id.0, pool.0), |row| row.get(0)))
    .doing("reading what a booking draws")
}
