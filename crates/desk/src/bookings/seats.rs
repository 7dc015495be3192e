//! Taking seats for a booking, and letting them go when a time is over.

use jiff::Timestamp;
use matricle_core::booking::{self, Choice, Move, State};
use matricle_core::money::price::Buyer;
use matricle_core::seats::hold_limits;
use matricle_core::{BookingId, DateId};
use matricle_store::bookings::{self, Booking, HeldBy};
use matricle_store::events::{self, Choices, EventState};
use matricle_store::{Connection, Tx, promos};

use crate::DeskError;
use crate::acting::Turn;
use crate::bookings::moves::{With, lapse, make, sweep};

/// Bounds what one browser and one network keep of a date while nothing is booked for good.
pub(crate) fn may_keep(
    conn: &Connection,
    sheet: &Choices,
    choice: &Choice,
    by: &HeldBy,
    but: BookingId,
) -> Result<(), DeskError> {
    if by.test || by.from == (0, 0) {
        return Ok(());
    }
    let date = sheet.covers.first().copied().unwrap_or(sheet.date.id);
    let (by_browser, by_network) = bookings::kept(conn, date, by.from, but)?;
    let pool = sheet.main_pool();
    let drawn = choice.draws.iter().find(|d| d.pool == pool.id);
    let facts = hold_limits::HoldFacts {
        wanted: drawn.map_or(0, |d| d.seats),
        open: pool.capacity.saturating_sub(pool.taken.confirmed),
        by_browser,
        by_network,
        proved: !by.buyer.address.is_empty(),
    };
    Ok(hold_limits::may_keep(&facts)?)
}

pub(crate) fn same_event(tx: &Tx<'_>, event: matricle_core::EventId, date: DateId) -> bool {
    events::date_by_id(tx, date).is_ok_and(|d| d.is_some_and(|(e, _)| e.id == event))
}

/// The sheet of a date that is in the Programme; for a test of a draft as well.
pub(crate) fn on_sale(
    tx: &Tx<'_>,
    date: DateId,
    test: bool,
    now: Timestamp,
) -> Result<Choices, DeskError> {
    events::choices_now(tx, date, now)?
        .filter(|sheet| match sheet.event.state {
            // What is published is booked for good: nobody tries its steps out any more.
            EventState::Published => !test,
            EventState::Draft => test,
            EventState::CalledOff | EventState::Past => false,
        })
        .ok_or(DeskError::NotFound)
}

/// Takes the same seats again for a hold whose time is over.
///
/// # Errors
/// The seats are gone, or cost something else now; the booking stays lapsed.
pub(crate) fn take_again(
    tx: &Tx<'_>,
    booking: &Booking,
    turn: &Turn,
) -> Result<Booking, DeskError> {
    let booking = match booking.state {
        State::Held => lapse(tx, booking, &turn.program())?,
        _ => booking.clone(),
    };
    let (sheet, choice) = same_seats(tx, &booking, turn)?;
    let by = HeldBy { buyer: booking.buyer.clone(), test: booking.test, from: booking.held_from };
    may_keep(tx, &sheet, &choice, &by, booking.id)?;
    bookings::reprice(tx, &booking, &choice)?;
    let said = With { until: Some(choice.held_until), ..With::said("took the same seats again") };
    make(tx, &booking, Move::TakeAgain, turn, said)
}

/// The seats of a booking that lapsed as they can be had now.
///
/// # Errors
/// They are gone.
pub(crate) fn same_seats(
    tx: &Tx<'_>,
    booking: &Booking,
    turn: &Turn,
) -> Result<(Choices, Choice), DeskError> {
    sweep(tx, booking.date, turn)?;
    let wanted = bookings::wanted(tx, booking.id)?;
    let sheet = on_sale(tx, booking.date, booking.test, turn.now)?;
    let promos = promos::of_booking(tx, booking.id)?;
    let buyer = Buyer { promos, ..booking.buyer.clone() };
    let choice = booking::choose(&sheet.offer, &wanted, &buyer, turn.now)?;
    Ok((sheet, choice))
}
