//! Whether something for a calendar goes with a booking's mails, as whoever booked wants it.

use matricle_core::people::acting::Acting;
use matricle_core::words::codes::Reference;
use matricle_store::bookings;

use crate::bookings::change::find;
use crate::{Desk, DeskError};

/// Sends nothing for a calendar with the mails of a booking any more, or sends it again.
///
/// # Errors
/// There is no such booking.
pub async fn turn_off(desk: &Desk, reference: Reference, off: bool) -> Result<(), DeskError> {
    let turn = desk.turn(Acting::booker());
    desk.store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            if booking.calendar_off == off {
                return Ok(());
            }
            bookings::set_calendar_off(tx, booking.id, off)?;
            let what = match off {
                true => "wants nothing for a calendar with the mails",
                false => "wants calendar entries with the mails again",
            };
            Ok(bookings::happened(tx, booking.id, turn.now, &turn.by, what)?)
        })
        .await
}
