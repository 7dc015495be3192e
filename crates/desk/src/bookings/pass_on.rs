//! Passing a ticket to somebody else.

use matricle_core::AttendeeId;
use matricle_core::booking::acts::Act;
use matricle_core::fields;
use matricle_core::forms::form::Form;
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::words::codes::Reference;
use matricle_store::bookings::{Booking, Deed};
use matricle_store::{Tx, bookings, readers};

use crate::acting::Turn;
use crate::bookings::acts::{Of, allow};
use crate::bookings::by::By;
use crate::bookings::change::find;
use crate::people::often::Asks;
use crate::telling::{tell, tell_changed, tell_holder_again};
use crate::{Desk, DeskError, fresh_code};

fields! {
    NEW_NAME: Line = "new_name", "To whom" needed;
    NEW_EMAIL: MailAddress = "new_email", "Their e-mail address",
        "The new ticket goes there by itself; the old code no longer opens the door." needed;
}

/// Passes a ticket to somebody else: the old code dies, the new one is mailed to them.
///
/// # Errors
/// [`DeskError::Form`] for a name or address that is none; [`DeskError::TooOften`] where the booker
/// has passed it on often today; the event's rules do not let the booker; the booking is not confirmed; the person is in already.
pub async fn pass_on(
    desk: &Desk,
    by: By,
    reference: Reference,
    attendee: AttendeeId,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = by.turn(desk)?;
    let (name, email) = (form.take(&NEW_NAME), form.take(&NEW_EMAIL));
    let often = desk.often.clone();
    desk.store
        .write(move |tx| {
            form.done().map_err(DeskError::Form)?;
            let booking = find(tx, reference)?;
            allow(tx, Act::PassOn, &booking, Of::default(), &turn)?;
            let all = bookings::attendees(tx, booking.id)?;
            let person = all.iter().find(|a| a.id == attendee && !a.cancelled);
            let person = person.ok_or(DeskError::NotFound)?;
            if person.presence != matricle_core::door::Presence::Expected {
                return Err(DeskError::NotByBooker);
            }
            // Each pass is a mail to somebody who has not asked for it.
            if matches!(by, By::Booker) {
                often.ask(Asks::PassOn, &attendee.to_string(), turn.now)?;
            }
            bookings::new_codes(tx, &booking, person.person, fresh_code, turn.now)?;
            bookings::rename(tx, &booking, person.person, &name)?;
            let what = format!("passed the ticket of {} to {name}", person.name);
            bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
            let before = readers::holders(tx, booking.id)?
                .into_iter()
                .find(|(no, _, _)| *no == person.person);
            let knows = |person: usize, holder: &str| Knows {
                person: Some(person),
                holder: holder.to_owned(),
                ..Knows::default()
            };
            let held_by = before.as_ref().map_or_else(String::new, |(_, _, at)| at.clone());
            // Whoever had it until now has lost it, unless it is passed to them once more.
            let other = before.filter(|(_, _, at)| !at.eq_ignore_ascii_case(&email));
            if let Some((no, _, _)) = other {
                // They hear that it is gone, and not to whom.
                let mut lost = knows(no, &person.name);
                lost.change = "it was passed on to somebody else".into();
                tell(tx, &booking, Occasion::PassedBack, &lost, &turn)?;
            }
            bookings::set_holder(tx, booking.id, person.person, &email)?;
            tell(tx, &booking, Occasion::PassedOn, &knows(person.person, &name), &turn)?;
            if matches!(by, By::Booker) {
                let deed = Deed::PassedOn {
                    person: person.person,
                    name: person.name.clone(),
                    email: held_by,
                };
                bookings::remember(tx, booking.id, &deed, 0)?;
            }
            Ok(())
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Takes a ticket back that the booker passed on: it is of whoever had it before, with a new code,
/// and the other's opens nothing.
pub(super) fn take_in_again(
    tx: &Tx<'_>,
    booking: &Booking,
    (person, name, email): (usize, &str, &str),
    turn: &Turn,
) -> Result<(), DeskError> {
    let all = bookings::attendees(tx, booking.id)?;
    let theirs = all.iter().find(|a| a.person == person && !a.cancelled);
    let theirs = theirs.ok_or(DeskError::NothingToUndo)?;
    if theirs.presence != matricle_core::door::Presence::Expected {
        return Err(DeskError::NothingToUndo);
    }
    let lost = Knows {
        person: Some(person),
        holder: theirs.name.clone(),
        change: "it was taken back".into(),
        ..Knows::default()
    };
    tell(tx, booking, Occasion::PassedBack, &lost, turn)?;
    bookings::new_codes(tx, booking, person, fresh_code, turn.now)?;
    bookings::rename(tx, booking, person, name)?;
    bookings::set_holder(tx, booking.id, person, email)?;
    let what = format!("took the ticket back that was passed to {}", theirs.name);
    bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
    if email.is_empty() {
        let said = format!("The ticket of {name} is yours again. It has a new code.");
        return tell_changed(tx, booking, &said, turn);
    }
    tell_holder_again(tx, booking, (person, name.into()), "is yours again, with a new code", turn)
}
