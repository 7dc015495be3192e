//! What is planned to be told about a booking.

use matricle_store::bookings::Booking;
use matricle_store::outbox::{self, About, Kind, NewMessage};
use matricle_store::{Tx, rings};

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
    send(tx, booking, &new, turn)
}

/// Plans a message to the booker. Whoever has no address is rung up when what they booked moves
/// or falls out; of all else they hear where they did it.
pub(crate) fn send(
    tx: &Tx<'_>,
    booking: &Booking,
    new: &NewMessage<'_>,
    turn: &Turn,
) -> Result<(), DeskError> {
    if !booking.email.is_empty() {
        return Ok(outbox::plan_noted(tx, new, turn.now)?);
    }
    match new.kind {
        Kind::Moved | Kind::CalledOff if booking.is_told() => {
            Ok(rings::plan(tx, booking.id, new.kind, new.note, turn.now)?)
        }
        _ => Ok(()),
    }
}

/// Tells the booker what has changed about their booking.
pub(crate) fn tell_changed(
    tx: &Tx<'_>,
    booking: &Booking,
    said: &str,
    turn: &Turn,
) -> Result<(), DeskError> {
    let id = uuid::Uuid::now_v7();
    let new = NewMessage {
        about: About::Booking(booking.id),
        kind: Kind::Changed,
        which: &format!(" {id}"),
        address: &booking.email,
        message_id: &format!("{id}@{}", turn.host),
        note: &turn.with_word(said),
    };
    send(tx, booking, &new, turn)
}
