//! The booker corrects an address that refused its mail.

use matricle_core::forms::form::{Fault, Form};
use matricle_core::people::acting::Acting;
use matricle_core::words::address::is_address;
use matricle_core::words::codes::Reference;
use matricle_store::{bookings, outbox, people};

use crate::bookings::change::find;
use crate::people::asking::Asking;
use crate::{Desk, DeskError};

/// Puts another address in the place of one that refused mail; what could not be told goes there.
///
/// # Errors
/// [`DeskError::Form`] for what is no address; [`DeskError::NotByBooker`] while the address is
/// fine: then the house corrects it; too many mails to an address nobody has proved.
pub async fn correct(
    desk: &Desk,
    asking: &Asking,
    reference: Reference,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn(Acting::booker());
    let email = form.needed("new_email");
    if !email.is_empty() && !is_address(&email) {
        form.fault("new_email", Fault::NotAnAddress);
    }
    form.done().map_err(DeskError::Form)?;
    let (often, from) = (desk.often.clone(), asking.from);
    desk.store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            if booking.email.is_empty() || outbox::address(tx, &booking.email)?.refused.is_none() {
                return Err(DeskError::NotByBooker);
            }
            often.stranger_mail(&email, from, turn.now)?;
            let person = people::know(tx, &booking.name, &email, turn.now)?;
            let now = (booking.name.as_str(), email.as_str(), booking.phone.as_str());
            bookings::set_booker(tx, &booking, now, Some(person))?;
            outbox::readdress(tx, booking.id, &booking.email, &email)?;
            let what = format!("corrected the address from {} to {email}", booking.email);
            Ok(bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?)
        })
        .await?;
    desk.wake.all();
    Ok(())
}
