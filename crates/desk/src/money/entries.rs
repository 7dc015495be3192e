//! Money that comes and goes: every act is booked in the ledger as it happens, and every
//! change of what a booking is charged is met by a document.

use jiff::Timestamp;
use matricle_core::money::ledger::{Account, Entry, Method};
use matricle_core::money::refund::{Step, over_payments, percent, until};
use matricle_store::bookings::{self, Booking};
use matricle_store::events::{Date, Event};
use matricle_store::house::House;
use matricle_store::payments::{self, Payment};
use matricle_store::refunds::{self, NewRefund};
use matricle_store::{Tx, ledger};

use crate::DeskError;
use crate::acting::Turn;

/// Tries of a refund at the provider before somebody has to look at it.
pub(crate) const TRIES: u32 = 60;

/// Books money that came for a booking.
pub fn received(
    tx: &Tx<'_>,
    booking: &Booking,
    method: Method,
    minor: i64,
    turn: &Turn,
) -> Result<(), DeskError> {
    bookings::add_paid(tx, booking.id, minor)?;
    let (to, from) = ((method.account(), 0), (Account::Receivable, booking.id.0));
    book(tx, booking, Entry::move_money(to, from, minor), method.word(), turn)
}

pub(crate) fn book(
    tx: &Tx<'_>,
    booking: &Booking,
    entry: Option<Entry>,
    what: &str,
    turn: &Turn,
) -> Result<(), DeskError> {
    match entry.filter(|_| !booking.test) {
        Some(entry) => {
            Ok(ledger::book(tx, &entry, Some(booking.id), &turn.by.shown(), what, turn.now)?)
        }
        None => Ok(()),
    }
}

/// Money that came and is not wanted: owed back at once.
pub(crate) fn surplus(
    tx: &Tx<'_>,
    booking: &Booking,
    payment: &Payment,
    turn: &Turn,
) -> Result<(), DeskError> {
    let turn = turn.program();
    let (to, from) = ((payment.method.account(), 0), (Account::Refunds, 0));
    let entry = Entry::move_money(to, from, payment.amount_minor);
    book(tx, booking, entry, "not wanted any more", &turn)?;
    open_refund(tx, booking, payment, payment.amount_minor, "not wanted any more", &turn)
}

fn open_refund(
    tx: &Tx<'_>,
    booking: &Booking,
    payment: &Payment,
    minor: i64,
    reason: &str,
    turn: &Turn,
) -> Result<(), DeskError> {
    let (id, who) = (uuid::Uuid::now_v7().to_string(), turn.by.shown());
    let new = NewRefund {
        id: &id,
        payment: &payment.id,
        booking: booking.id,
        minor,
        reason,
        who: &who,
        by_hand: payment.method.by_hand(),
    };
    Ok(refunds::open(tx, &new, turn.now)?)
}

/// Gives back what has been paid beyond what is charged, the way it came; says how much.
/// The booking is read anew.
pub(crate) fn give_back_surplus(
    tx: &Tx<'_>,
    booking: &Booking,
    reason: &str,
    turn: &Turn,
) -> Result<i64, DeskError> {
    let booking = bookings::by_id(tx, booking.id)?.ok_or(DeskError::NotFound)?;
    if booking.paid.minor <= 0 {
        return Ok(0);
    }
    let charged = bookings::charge(tx, booking.id)?.total();
    // A test is charged nothing in the books: what it is asked for while it stands.
    let charged = match booking.test {
        true if booking.state.stands() => booking.total.minor,
        _ => charged,
    };
    let over = booking.paid.minor - charged;
    if over <= 0 {
        return Ok(0);
    }
    let payments = payments::of_booking(tx, booking.id)?;
    let left: Vec<i64> = payments.iter().map(Payment::left).collect();
    let gives = over_payments(over, &left);
    let mut all = 0;
    for (payment, minor) in payments.iter().zip(gives).filter(|(_, minor)| *minor > 0) {
        open_refund(tx, &booking, payment, minor, reason, turn)?;
        all += minor;
    }
    bookings::add_paid(tx, booking.id, -all)?;
    let entry = Entry::move_money((Account::Receivable, booking.id.0), (Account::Refunds, 0), all);
    book(tx, &booking, entry, reason, turn)?;
    if all > 0 {
        let what = format!("{} to be given back: {reason}", booking.total.currency.of(all));
        bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
    }
    Ok(all)
}

/// Money that was taken at the door is handed back there and then: the booking owes it again.
/// Gives the refund that tells it, which is done with that.
pub(crate) fn hand_back(
    tx: &Tx<'_>,
    booking: &Booking,
    payment: &Payment,
    reason: &str,
    turn: &Turn,
) -> Result<i64, DeskError> {
    let left = payment.left();
    if left <= 0 {
        return Ok(0);
    }
    open_refund(tx, booking, payment, left, reason, turn)?;
    bookings::add_paid(tx, booking.id, -left)?;
    let entry = Entry::move_money((Account::Receivable, booking.id.0), (Account::Refunds, 0), left);
    book(tx, booking, entry, reason, turn)?;
    Ok(left)
}

/// The payer's bank took money back: the booking owes it again.
pub(crate) fn taken_back(
    tx: &Tx<'_>,
    booking: &Booking,
    payment: &Payment,
    turn: &Turn,
) -> Result<(), DeskError> {
    let left = payment.amount_minor - payment.given_minor;
    bookings::add_paid(tx, booking.id, -payment.amount_minor + payment.given_minor)?;
    let (to, from) = ((Account::Receivable, booking.id.0), (Account::Provider, 0));
    book(tx, booking, Entry::move_money(to, from, left), "dispute lost", turn)
}

/// The percent that comes back of a booking cancelled at `now`. `moved_from` is the earliest
/// start of the dates that the booker moved it away from: the steps count from that one, so
/// that moving to a far date first makes nothing of cancelling.
pub(crate) fn percent_back(
    house: &House,
    event: &Event,
    date: &Date,
    moved_from: Option<Timestamp>,
    now: Timestamp,
) -> u32 {
    let (steps, starts_at) = counted(house, event, date, moved_from);
    percent(steps, starts_at, !date.called_off.is_empty(), now)
}

/// What the percent given back comes to as time goes on: until each instant so many percent.
#[must_use]
pub fn steps_until(
    house: &House,
    event: &Event,
    date: &Date,
    moved_from: Option<Timestamp>,
) -> Vec<(Timestamp, u32)> {
    let (steps, starts_at) = counted(house, event, date, moved_from);
    until(steps, starts_at)
}

/// The steps that hold, and the start they are counted from.
fn counted<'a>(
    house: &'a House,
    event: &'a Event,
    date: &Date,
    moved_from: Option<Timestamp>,
) -> (&'a [Step], Timestamp) {
    let steps = event.rules.steps.as_ref().unwrap_or(&house.steps);
    (steps, moved_from.map_or(date.span.starts_at, |from| from.min(date.span.starts_at)))
}
