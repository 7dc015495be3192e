//! Deciding at the Office: yes, no, asking for the money, bringing back, taking a decision
//! back.

use jiff::Timestamp;
use matricle_core::booking::Move;
use matricle_core::booking::acts::Act;
use matricle_core::people::staff::Right;
use matricle_core::words::codes::Reference;
use matricle_store::bookings;
use matricle_store::people::Staff;

use crate::bookings::acts::{Of, allow};
use crate::bookings::moves::{With, firm, make};
use crate::{Desk, DeskError, refuse};

matricle_core::fields! {
    UNTIL: Moment = "until", "Until" needed;
}

/// Says yes to a booking that asks: confirmed at once when nothing is to pay, otherwise
/// kept for the money until `until`, or three days, and until the date begins at the latest.
///
/// # Errors
/// The role may not, or the booking does not ask.
pub async fn approve(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    until: Option<Timestamp>,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            let moves = (Move::Approve, Move::ApproveToPay);
            firm(tx, &booking, moves, &turn, With { until, ..With::said("said yes") }).map(drop)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Says no to a booking that asks; its seats come free, the booker is told why.
///
/// # Errors
/// The role may not, or the booking does not ask.
pub async fn decline(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    reason: String,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            let said =
                if reason.is_empty() { "said no".into() } else { format!("said no: {reason}") };
            let with = With { note: &reason, ..With::said(&said) };
            make(tx, &booking, Move::Decline, &turn, with).map(drop)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Brings back what was cancelled, declined or lapsed, if the seats are still there, at the
/// prices it was booked at.
///
/// # Errors
/// The seats are gone, or the booking is not over; the role may not.
pub async fn bring_back(desk: &Desk, staff: &Staff, reference: Reference) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            allow(tx, Act::BringBack, &booking, Of::default(), &turn)?;
            bookings::restore_charges(tx, &booking)?;
            let booking = bookings::by_id(tx, booking.id)?.ok_or(DeskError::NotFound)?;
            let moves = (Move::BringBack, Move::BringBackToPay);
            firm(tx, &booking, moves, &turn, With::said("brought the booking back")).map(drop)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Takes a yes or a no back, while no money came: the booking asks again.
///
/// # Errors
/// Money came, or there is nothing to take back; the role may not.
pub async fn reconsider(desk: &Desk, staff: &Staff, reference: Reference) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            allow(tx, Act::Reconsider, &booking, Of::default(), &turn)?;
            make(tx, &booking, Move::Reconsider, &turn, With::said("took the decision back"))
                .map(drop)
        })
        .await
}

/// Puts the deadline of a payment elsewhere.
///
/// # Errors
/// Nothing is to be paid, or the deadline is past; the role may not.
pub async fn put_off(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    until: Timestamp,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            allow(tx, Act::PutOff, &booking, Of::default(), &turn)?;
            if until <= turn.now {
                return Err(refuse(booking.state, Move::Pay));
            }
            bookings::set_deadline(tx, booking.id, until)?;
            let what = "set another deadline for the money";
            Ok(bookings::happened(tx, booking.id, turn.now, &turn.by, what)?)
        })
        .await
}
