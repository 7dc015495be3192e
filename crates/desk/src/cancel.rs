//! Deciding on bookings at the Office: saying yes or no to those that ask, cancelling.

use jiff::SignedDuration;
use matricle_core::booking::{Move, next};
use matricle_core::codes::Reference;
use matricle_core::staff::{Right, require};
use matricle_store::outbox::{self, About, Kind, NewMessage};
use matricle_store::people::Staff;
use matricle_store::{bookings, events, payments};

use crate::checkout::{FIRST_CHECK, confirm, message_id};
use crate::{Desk, DeskError};

/// Cancels a booking: its seats come free at once, its tickets are refused at the
/// door, an open payment is called back, the booker is told by mail.
///
/// # Errors
/// The role may not, or the booking is over already.
pub async fn cancel(desk: &Desk, staff: &Staff, reference: Reference) -> Result<(), DeskError> {
    require(staff.role, Right::ChangeBookings)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
    let message_id = message_id(desk, reference, Kind::Cancellation);
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            let to = next(booking.state, Move::Cancel)?;
            bookings::set_state(tx, &booking, to, None)?;
            bookings::happened(tx, booking.id, now, &who, "cancelled the booking")?;
            payments::unwant(tx, booking.id, now)?;
            outbox::withdraw(tx, booking.id, Kind::Confirmation)?;
            if !booking.email.is_empty() {
                let kind = Kind::Cancellation;
                outbox::plan(tx, booking.id, kind, &booking.email, &message_id, now)?;
            }
            Ok::<_, DeskError>(())
        })
        .await?;
    desk.wake.notify_one();
    Ok(())
}

/// How long seats are kept for the money once the organiser has said yes.
const TIME_TO_PAY: SignedDuration = SignedDuration::from_hours(72);

/// Says yes to a booking that asks: confirmed at once when nothing is to pay, otherwise
/// kept for the money, until the date begins at the latest.
///
/// # Errors
/// The role may not, or the booking does not ask.
pub async fn approve(desk: &Desk, staff: &Staff, reference: Reference) -> Result<(), DeskError> {
    require(staff.role, Right::ChangeBookings)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
    let confirmation = message_id(desk, reference, Kind::Confirmation);
    let approval = message_id(desk, reference, Kind::Approval);
    let payment = uuid::Uuid::now_v7().to_string();
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            if booking.total.is_zero() {
                bookings::happened(tx, booking.id, now, &who, "said yes")?;
                let email = booking.email.clone();
                return confirm(tx, &booking, Move::Approve, &email, &confirmation, now);
            }
            let to = next(booking.state, Move::ApproveToPay)?;
            let (_, date) = events::date_by_id(tx, booking.date)?.ok_or(DeskError::NotFound)?;
            let until = (now + TIME_TO_PAY).min(date.span.starts_at.max(now + FIRST_CHECK));
            bookings::set_state(tx, &booking, to, Some(until))?;
            bookings::happened(tx, booking.id, now, &who, "said yes and asked for the money")?;
            let due = booking.due().minor;
            payments::open(tx, &payment, booking.id, due, now + FIRST_CHECK, now)?;
            Ok(outbox::plan(tx, booking.id, Kind::Approval, &booking.email, &approval, now)?)
        })
        .await?;
    desk.wake.notify_one();
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
    require(staff.role, Right::ChangeBookings)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
    let message = message_id(desk, reference, Kind::Refusal);
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            bookings::set_state(tx, &booking, next(booking.state, Move::Decline)?, None)?;
            let what =
                if reason.is_empty() { "said no".into() } else { format!("said no: {reason}") };
            bookings::happened(tx, booking.id, now, &who, &what)?;
            let new = NewMessage {
                about: About::Booking(booking.id),
                kind: Kind::Refusal,
                which: "",
                address: &booking.email,
                message_id: &message,
                note: &reason,
            };
            Ok::<_, DeskError>(outbox::plan_noted(tx, &new, now)?)
        })
        .await?;
    desk.wake.notify_one();
    Ok(())
}
