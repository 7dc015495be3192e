//! Passing a ticket to somebody else.

use matricle_core::AttendeeId;
use matricle_core::acts::Act;
use matricle_core::codes::Reference;
use matricle_core::details::is_address;
use matricle_core::form::{Fault, Form};
use matricle_core::occasion::{Knows, Occasion};
use matricle_store::{bookings, readers};

use crate::bookings::acts::{Of, allow};
use crate::bookings::cancel::By;
use crate::bookings::change::find;
use crate::people::often::Asks;
use crate::telling::tell;
use crate::{Desk, DeskError, fresh_code};

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
    let (name, email) = (form.needed("new_name"), form.needed("new_email"));
    if !email.is_empty() && !is_address(&email) {
        form.fault("new_email", Fault::NotAnAddress);
    }
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
            // Whoever had it until now has lost it, unless it is passed to them once more.
            let other = before.filter(|(_, _, at)| !at.eq_ignore_ascii_case(&email));
            if let Some((no, _, _)) = other {
                // They hear that it is gone, and not to whom.
                let mut lost = knows(no, &person.name);
                lost.change = "it was passed on to somebody else".into();
                tell(tx, &booking, Occasion::PassedBack, &lost, &turn)?;
            }
            bookings::set_holder(tx, booking.id, person.person, &email)?;
            tell(tx, &booking, Occasion::PassedOn, &knows(person.person, &name), &turn)
        })
        .await?;
    desk.wake.all();
    Ok(())
}
