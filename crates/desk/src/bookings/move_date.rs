//! Moving a booking to another date of its event.

use matricle_core::booking::acts::Act;
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::seats::take;
use matricle_core::words::codes::Reference;
use matricle_core::{DateId, booking};
use matricle_store::bookings::{self, Booking, Deed};
use matricle_store::{Tx, events};

use crate::acting::Turn;
use crate::bookings::acts::{Of, allow};
use crate::bookings::by::By;
use crate::bookings::change::find;
use crate::bookings::moves::sweep;
use crate::bookings::serving;
use crate::telling::{tell, tell_holders_again};
use crate::{Desk, DeskError, house_of};

/// Moves a booking to another date of its event, at the price it was booked at.
///
/// # Errors
/// The seats are not there; the event's rules do not let the booker; a course has no other
/// date; the booking does not stand.
pub async fn move_to(
    desk: &Desk,
    by: By,
    reference: Reference,
    date: DateId,
) -> Result<(), DeskError> {
    let turn = by.turn(desk)?;
    desk.store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            let (event, old) = events::date_by_id(tx, booking.date)?.ok_or(DeskError::NotFound)?;
            let (other, new) = events::date_by_id(tx, date)?.ok_or(DeskError::NotFound)?;
            if event.id != other.id || booking.date == date {
                return Err(DeskError::NotFound);
            }
            move_in(tx, &booking, &new, &turn)?;
            if matches!(by, By::Booker) {
                bookings::moved_from(tx, booking.id, old.span.starts_at)?;
                bookings::remember(tx, booking.id, &Deed::moved(old.id), 0)?;
            }
            Ok::<_, DeskError>(())
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Moves a booking that stands to another date of its event, inside a transaction.
pub(crate) fn move_in(
    tx: &Tx<'_>,
    booking: &Booking,
    to: &events::Date,
    turn: &Turn,
) -> Result<(), DeskError> {
    allow(tx, Act::MoveDate, booking, Of { to: Some(to), ..Of::default() }, turn)?;
    sweep(tx, to.id, turn)?;
    let house = house_of(tx)?;
    let sheet = events::choices(tx, house.currency, to.id, turn.now)?.ok_or(DeskError::NotFound)?;
    if let Some(refusal) = sheet.offer.bars(turn.now) {
        return Err(refusal.into());
    }
    let (_, old) = events::date_by_id(tx, booking.date)?.ok_or(DeskError::NotFound)?;
    let wanted = bookings::wanted(tx, booking.id)?;
    let draws = take(&sheet.offer.pools, &sheet.offer.tickets(), &wanted)
        .map_err(booking::ChoiceRefusal::from)?;
    bookings::move_to(tx, booking, to.id, &draws, turn.now)?;
    let moved = Booking { date: to.id, ..booking.clone() };
    let when = matricle_formats::words::long_span(to.span.starts, to.span.ends);
    let what = format!("moved the booking to {when}");
    bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
    let knows = Knows {
        change: "It is for another date now.".into(),
        before: Some((old.span.starts, old.span.ends)),
        place_before: old.place(),
        ..Knows::default()
    };
    tell(tx, &moved, Occasion::Changed, &knows, turn)?;
    tell_holders_again(tx, &moved, "is for another date now", turn)?;
    serving::serve_date(tx, booking.date, turn.now)
}
