//! Calling bookings back, whole or in part, with the money that the steps give back.

use jiff::Timestamp;
use matricle_core::Money;
use matricle_core::booking::acts::Act;
use matricle_core::booking::{Move, State};
use matricle_core::words::codes::Reference;
use matricle_store::Connection;
use matricle_store::bookings::{self, Booking, Deed};
use matricle_store::events::{Date, Event};

use crate::acting::Turn;
use crate::bookings::acts::{Of, allow};
pub use crate::bookings::by::By;
use crate::bookings::change::settle_change;
use crate::bookings::moves::{With, make};
use crate::money::entries::percent_back;
use crate::telling::tell_changed;
use crate::{Desk, DeskError, house_of, refuse};

/// What cancelling would come to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cancelling {
    /// The whole booking, not a part of it.
    pub whole: bool,
    /// The people whose tickets would die.
    pub people: Vec<String>,
    /// Of each price so many percent come back.
    pub percent: u32,
    /// What goes back to the booker.
    pub back: Money,
    /// What is still charged afterwards.
    pub kept: Money,
    /// What had not been paid and is no longer asked for.
    pub forgiven: Money,
}

/// Tickets of a booking by their numbers; none, or all of them, are the whole booking.
fn is_whole(conn: &Connection, booking: &Booking, numbers: &[u32]) -> Result<bool, DeskError> {
    let standing = bookings::attendees(conn, booking.id)?;
    Ok(numbers.is_empty() || standing.iter().all(|a| a.cancelled || numbers.contains(&a.ticket_no)))
}

/// Of each price so many percent come back.
fn percent_of(
    conn: &Connection,
    booking: &Booking,
    by: &By,
    (event, date): (&Event, &Date),
    now: Timestamp,
) -> Result<u32, DeskError> {
    match by {
        // Nothing is kept of what was never confirmed.
        _ if booking.state != State::Confirmed => Ok(100),
        By::Staff(_, Some(own)) => Ok((*own).min(100)),
        By::Staff(_, None) => Ok(percent_back(&house_of(conn)?, event, date, None, now)),
        By::Booker => Ok(percent_back(&house_of(conn)?, event, date, booking.steps_from, now)),
    }
}

/// What cancelling would come to, before it is done.
///
/// # Errors
/// Whoever asks may not, or the booking is over already.
pub async fn preview(
    desk: &Desk,
    by: By,
    reference: Reference,
    numbers: Vec<u32>,
) -> Result<Cancelling, DeskError> {
    let turn = by.turn(desk)?;
    desk.store.read(move |conn| preview_in(conn, &by, reference, &numbers, &turn)).await
}

fn preview_in(
    conn: &Connection,
    by: &By,
    reference: Reference,
    numbers: &[u32],
    turn: &Turn,
) -> Result<Cancelling, DeskError> {
    let now = turn.now;
    let booking = bookings::by_reference(conn, reference)?.ok_or(DeskError::NotFound)?;
    let whole = is_whole(conn, &booking, numbers)?;
    let of = Of { tickets: (!whole).then_some(numbers), ..Of::default() };
    let (event, date) = allow(conn, Act::Cancel, &booking, of, turn)?;
    let percent = percent_of(conn, &booking, by, (&event, &date), now)?;
    let currency = booking.total.currency;
    let standing: Vec<_> =
        bookings::attendees(conn, booking.id)?.into_iter().filter(|a| !a.cancelled).collect();
    let going: Vec<_> =
        standing.iter().filter(|a| whole || numbers.contains(&a.ticket_no)).collect();
    // Sent twice: these tickets are cancelled already.
    if going.is_empty() && !whole {
        return Err(refuse(booking.state, Move::Cancel));
    }
    let less = if whole {
        let lines = bookings::lines(conn, &booking)?;
        lines.iter().map(|l| l.worth().back(percent)).sum()
    } else {
        let gone = bookings::tickets_of_numbers(conn, booking.id, numbers)?;
        bookings::worth(conn, &booking, &gone, percent)?
    };
    let kept = booking.total.minor - less;
    let back = (booking.paid.minor - kept).max(0);
    Ok(Cancelling {
        whole,
        people: going.iter().map(|a| a.name.clone()).filter(|n| !n.is_empty()).collect(),
        percent,
        back: currency.of(back),
        kept: currency.of(kept),
        forgiven: currency.of((less - back).max(0)),
    })
}

/// Cancels a booking, or the tickets with these numbers: seats come free at once, dead
/// tickets are refused at the door, an open payment is called back, money goes back by the
/// steps the way it came, the booker is told by mail.
///
/// # Errors
/// Whoever asks may not, or the booking is over already.
pub async fn cancel(
    desk: &Desk,
    by: By,
    reference: Reference,
    numbers: Vec<u32>,
) -> Result<Cancelling, DeskError> {
    let turn = by.turn(desk)?;
    let done = desk
        .store
        .write(move |tx| {
            let plan = preview_in(tx, &by, reference, &numbers, &turn)?;
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            let standing: Vec<u32> = bookings::attendees(tx, booking.id)?
                .iter()
                .filter(|a| !a.cancelled && numbers.contains(&a.ticket_no))
                .map(|a| a.ticket_no)
                .collect();
            let lines = bookings::lines(tx, &booking)?;
            let remember = |deed: &Deed| match by {
                // Whoever gives a hold back has booked nothing that could be had back.
                By::Booker if booking.state != State::Held => {
                    bookings::remember(tx, booking.id, deed, plan.back.minor)
                }
                By::Booker | By::Staff(..) => Ok(()),
            };
            if plan.whole {
                let with = With { percent: plan.percent, ..With::said("cancelled the booking") };
                make(tx, &booking, Move::Cancel, &turn, with)?;
                remember(&Deed::cancelled(booking.state, &lines))?;
                return Ok::<_, DeskError>(plan);
            }
            bookings::take_off(tx, &booking, &numbers, plan.percent, turn.now)?;
            bookings::follow_books(tx, booking.id, "a part cancelled", turn.now)?;
            let what = format!("cancelled the tickets of {}", plan.people.join(", "));
            bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
            settle_change(tx, &booking, "a part was cancelled", &turn)?;
            let said = if plan.back.is_zero() {
                format!("Cancelled: {}.", plan.people.join(", "))
            } else {
                format!(
                    "Cancelled: {}. {} goes back the way it came.",
                    plan.people.join(", "),
                    plan.back
                )
            };
            tell_changed(tx, &booking, &said, &turn)?;
            crate::bookings::serving::serve_date(tx, booking.date, turn.now)?;
            remember(&Deed::part(&standing, &lines))?;
            Ok(plan)
        })
        .await?;
    desk.wake.all();
    Ok(done)
}
