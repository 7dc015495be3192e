//! What is planned to be told about a booking.

use matricle_store::Tx;
use matricle_store::bookings::Booking;
use matricle_store::outbox::{self, About, Kind, NewMessage};

use crate::DeskError;
use crate::acting::Turn;

/// Plans a message about a booking; a second one of its kind has an id of its own.
pub(crate) fn tell(
    tx: &Tx<'_>,
    booking: &Booking,
    kind: Kind,
    note: &str,
    turn: &Turn,
) -> Result<(), DeskError> {
    if booking.email.is_empty() {
        return Ok(());
    }
    let before = outbox::count_of(tx, booking.id, kind)?;
    let which = if before == 0 { String::new() } else { format!(" {}.", before + 1) };
    let local = booking.reference.as_str().to_lowercase();
    let host = &turn.host;
    let message_id = format!("{local}.{}{}@{host}", kind.word(), which.trim()).replace(' ', "-");
    let new = NewMessage {
        about: About::Booking(booking.id),
        kind,
        which: &which,
        address: &booking.email,
        message_id: &message_id,
        note,
    };
    Ok(outbox::plan_noted(tx, &new, turn.now)?)
}

/// Tells the booker what has changed about their booking.
pub(crate) fn tell_changed(
    tx: &Tx<'_>,
    booking: &Booking,
    said: &str,
    turn: &Turn,
) -> Result<(), DeskError> {
    if booking.email.is_empty() {
        return Ok(());
    }
    let id = uuid::Uuid::now_v7();
    let new = NewMessage {
        about: About::Booking(booking.id),
        kind: Kind::Changed,
        which: &format!(" {id}"),
        address: &booking.email,
        message_id: &format!("{id}@{}", turn.host),
        note: said,
    };
    Ok(outbox::plan_noted(tx, &new, turn.now)?)
}
