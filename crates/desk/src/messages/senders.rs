//! Sender names: what goes out is written from one of the house's addresses.

use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::people::staff::{Right, require};
use matricle_core::words::address::is_address;
use matricle_core::{EventId, TagId};
use matricle_store::house::House;
use matricle_store::people::Staff;
use matricle_store::senders::{self, Sender};
use matricle_store::{Connection, places};

use crate::{Desk, DeskError, house_of};

fields! {
    NAME: Line = "name", "Name" needed;
    EMAIL: MailAddress = "email", "Address",
        "Answers go there: the house’s mailbox has to receive it." needed;
    FORWARDS_TO: MailAddress = "forwards_to", "Letters go on to",
        "The private address of whoever stands behind it. Empty: letters are read at the Office.";
}

/// The senders of the house, with its tags.
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
    let (name, email) = (form.take(&NAME), form.take(&EMAIL));
    let forwards_to = form.take(&FORWARDS_TO);
    let tag = form.get("tag").parse().ok().map(TagId);
    desk.store
        .write(move |tx| {
            if forwards_to.eq_ignore_ascii_case(&email) && !email.is_empty()
                || is_own(tx, &forwards_to)?
            {
                form.fault(FORWARDS_TO, Fault::Taken);
            }
            form.done().map_err(DeskError::Form)?;
            senders::save(tx, &Sender { id, name: name.clone(), email, tag, forwards_to })?;
            turn.log(tx, &format!("wrote the sender {name}"), "/office/messages/senders")
        })
        .await
}

/// Whether the house writes from an address itself: what went on to it would come back.
fn is_own(conn: &Connection, address: &str) -> Result<bool, DeskError> {
    let is = |own: &str| own.eq_ignore_ascii_case(address);
    Ok(is(&house_of(conn)?.email) || senders::all(conn)?.iter().any(|s| is(&s.email)))
}

/// Says who stands behind the house's own address: letters to it are forwarded there; empty for
/// nobody, then they are read at the Office.
///
/// # Errors
/// [`DeskError::Form`] for an address that is none; the role may not.
pub async fn forward_house(desk: &Desk, staff: &Staff, mut form: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    let to = form.line("house_forwards_to");
    if !to.is_empty() && !is_address(&to) {
        form.fault("house_forwards_to", Fault::NotAnAddress);
    }
    desk.store
        .write(move |tx| {
            if is_own(tx, &to)? {
                form.fault("house_forwards_to", Fault::Taken);
            }
            form.done().map_err(DeskError::Form)?;
            senders::set_behind_house(tx, &to)?;
            turn.log(tx, "said who reads the house’s letters", "/office/messages/senders")
        })
        .await
}

/// Who stands behind the house's own address.
pub async fn behind_house(desk: &Desk, staff: &Staff) -> Result<String, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    Ok(desk.store.read(senders::behind_house).await?)
}

/// Takes a sender out of use.
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
