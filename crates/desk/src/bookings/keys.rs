//! Replacing the key in a secret address that came into other hands: the old address opens nothing
//! from then on.

use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::people::staff::Right;
use matricle_core::words::codes::Reference;
use matricle_store::people::Staff;
use matricle_store::{bookings, replaced};

use crate::bookings::change::find;
use crate::secrets::BOOKING;
use crate::telling::tell;
use crate::{Desk, DeskError};

/// Brings what is known of replaced keys to what the house has written down: once, at the start.
pub async fn load(desk: &Desk) -> Result<(), DeskError> {
    for (what, key, times) in desk.store.read(replaced::all).await? {
        desk.secrets.replace(&what, &key, times);
    }
    Ok(())
}

/// Gives a booking's page another address. The booker is mailed the new one.
///
/// # Errors
/// There is no such booking; the role may not.
pub async fn replace_of_booking(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    let secrets = desk.secrets.clone();
    desk.store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            let times = replaced::once_more(tx, BOOKING, reference.as_str())?;
            let what = "replaced the address of the booking’s page; the old one opens nothing";
            bookings::happened(tx, booking.id, turn.now, &turn.by, what)?;
            let said = "Its page has another address now. The one you had opens nothing any more.";
            if booking.is_told() && !booking.email.is_empty() {
                let knows = Knows { change: said.into(), ..Knows::default() };
                tell(tx, &booking, Occasion::Changed, &knows, &turn)?;
            }
            // Before the mail is put together, which may be as soon as this is on disk.
            secrets.replace(BOOKING, reference.as_str(), times);
            Ok::<_, DeskError>(())
        })
        .await?;
    desk.wake.all();
    Ok(())
}
