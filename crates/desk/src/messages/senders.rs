//! Sender names: what goes out is written from one of the house's addresses.

use matricle_core::details::is_address;
use matricle_core::form::{Fault, Form};
use matricle_core::staff::{Right, require};
use matricle_core::{EventId, TagId};
use matricle_store::house::House;
use matricle_store::people::Staff;
use matricle_store::places;
use matricle_store::senders::{self, Sender};

use crate::{Desk, DeskError, house_of};

/// The senders of the house, with its tags.
///
/// # Errors
/// The role may not; the store fails.
pub async fn all(
    desk: &Desk,
    staff: &Staff,
) -> Result<(House, Vec<Sender>, Vec<(TagId, String)>), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(|conn| {
            let tags = places::tags(conn)?.into_iter().map(|t| (t.id, t.name)).collect();
            Ok::<_, DeskError>((house_of(conn)?, senders::all(conn)?, tags))
        })
        .await
}

/// Saves a sender.
///
/// # Errors
/// [`DeskError::Form`] for a name or address that is none; the role may not.
pub async fn save(desk: &Desk, staff: &Staff, id: i64, mut form: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    let (name, email) = (form.needed("name"), form.needed("email"));
    if !email.is_empty() && !is_address(&email) {
        form.fault("email", Fault::NotAnAddress);
    }
    let tag = form.get("tag").parse().ok().map(TagId);
    form.done().map_err(DeskError::Form)?;
    desk.store
        .write(move |tx| {
            senders::save(tx, &Sender { id, name: name.clone(), email, tag })?;
            turn.log(tx, &format!("wrote the sender {name}"), "/office/messages/senders")
        })
        .await
}

/// Takes a sender out of use.
///
/// # Errors
/// The role may not; the store fails.
pub async fn retire(desk: &Desk, staff: &Staff, id: i64) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    desk.store
        .write(move |tx| {
            senders::retire(tx, id, Some(turn.now))?;
            turn.log(tx, "took a sender out of use", "/office/messages/senders")
        })
        .await
}

/// Gives an event a sender of its own; none is the house's, or that of its tags.
///
/// # Errors
/// The role may not; the store fails.
pub async fn choose(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    sender: Option<i64>,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            if let Some(id) = sender
                && !senders::known(tx, id)?
            {
                return Err(DeskError::NotFound);
            }
            senders::set_own(tx, event, sender)?;
            crate::planning::dates::log(tx, event, &turn, "chose whom its messages come from")
        })
        .await
}
