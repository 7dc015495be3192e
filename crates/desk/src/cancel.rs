//! Cancelling a booking at the Office.

use matricle_core::booking::{Move, next};
use matricle_core::codes::Reference;
use matricle_core::staff::{Right, require};
use matricle_store::outbox::{self, Kind};
use matricle_store::people::Staff;
use matricle_store::{bookings, payments};

use crate::checkout::message_id;
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
