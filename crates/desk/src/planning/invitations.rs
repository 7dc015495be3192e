//! Mailing invitations to those on an event's lists, and opening the event by one.

use std::collections::HashSet;

use matricle_core::pasted::pasted;
use matricle_core::staff::{Right, require};
use matricle_core::{EventId, MessageId};
use matricle_store::events::{self, EventState};
use matricle_store::outbox::{self, About};
use matricle_store::people::Staff;
use matricle_store::replies;

use crate::people::invited::{address_of, list};
use crate::{Desk, DeskError, telling};

/// Plans an invitation to everybody on the lists who has none yet; says to how many.
///
/// # Errors
/// The role may not; the event is not in the Programme.
pub async fn send(desk: &Desk, staff: &Staff, event: EventId) -> Result<usize, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let planned = desk
        .store
        .write(move |tx| {
            let found = events::by_id(tx, event)?.ok_or(DeskError::NotFound)?;
            if found.state != EventState::Published {
                return Err(DeskError::NotPublished);
            }
            let fresh: Vec<String> = list(tx, &found)?
                .into_iter()
                .filter(|(_, mailed)| mailed.is_none())
                .map(|(address, _)| address)
                .collect();
            for address in &fresh {
                telling::invite(tx, event, address, &turn)?;
            }
            if !fresh.is_empty() {
                let many = u32::try_from(fresh.len()).unwrap_or(u32::MAX);
                let what = format!("invited {}", matricle_formats::words::people(many));
                crate::planning::dates::log(tx, event, &turn, &what)?;
            }
            Ok(fresh.len())
        })
        .await?;
    desk.wake.all();
    Ok(planned)
}

/// Makes a link for everybody on the lists who has none yet, for a house that brings them its
/// invitations itself: nothing is mailed. Says for how many.
///
/// # Errors
/// As [`send`].
pub async fn by_other_means(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
) -> Result<usize, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            let found = events::by_id(tx, event)?.ok_or(DeskError::NotFound)?;
            if found.state != EventState::Published {
                return Err(DeskError::NotPublished);
            }
            let mut made = 0;
            for (address, mailed) in list(tx, &found)? {
                if mailed.is_none() {
                    telling::invite_elsewhere(tx, event, &address, &turn)?;
                    made += 1;
                }
            }
            if made > 0 {
                let many = u32::try_from(made).unwrap_or(u32::MAX);
                let many = matricle_formats::words::people(many);
                let what = format!("made links for {many}, to be sent by other means");
                crate::planning::dates::log(tx, event, &turn, &what)?;
            }
            Ok(made)
        })
        .await
}

/// What a pasted list comes to before anything is kept.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Looked {
    /// Addresses, each once: those of the text, then those of people of an earlier event.
    pub addresses: Vec<String>,
    /// Those that stood there twice.
    pub doubles: Vec<String>,
    /// What is no address.
    pub wrong: Vec<String>,
    /// Those who have booked this event already.
    pub booked: Vec<String>,
    /// Those whose mail server refuses mail to them.
    pub refused: Vec<String>,
}

/// Looks at a list before anything is kept: who is on it, whom it has twice, what is no address,
/// who has booked already. People of an earlier event are added when one is named.
///
/// # Errors
/// There is no such event; the role may not.
pub async fn look(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    text: String,
    earlier: Option<EventId>,
) -> Result<Looked, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    desk.store
        .read(move |conn| {
            events::by_id(conn, event)?.ok_or(DeskError::NotFound)?;
            let found = pasted(&text);
            let mut looked = Looked {
                addresses: found.addresses,
                doubles: found.doubles,
                wrong: found.wrong,
                ..Looked::default()
            };
            let mut known: HashSet<String> =
                looked.addresses.iter().map(|a| a.to_lowercase()).collect();
            if let Some(earlier) = earlier {
                let mut people: Vec<String> = replies::booked(conn, earlier)?.into_iter().collect();
                people.sort();
                looked.addresses.extend(people.into_iter().filter(|a| known.insert(a.clone())));
            }
            let booked = replies::booked(conn, event)?;
            for address in &looked.addresses {
                if booked.contains(&address.to_lowercase()) {
                    looked.booked.push(address.clone());
                }
                if outbox::address(conn, address)?.refused.is_some() {
                    looked.refused.push(address.clone());
                }
            }
            Ok(looked)
        })
        .await
}

/// The event that an invitation opens, by its word in addresses: for whoever has the link.
///
/// # Errors
/// [`DeskError::NotFound`] for another key, when the address has been taken off the lists
/// since, or when the event is over.
pub async fn open(desk: &Desk, id: i64, key: &str) -> Result<String, DeskError> {
    if !desk.secrets.opens_invitation(id, key) {
        return Err(DeskError::NotFound);
    }
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let message = outbox::by_id(conn, MessageId(id))?.ok_or(DeskError::NotFound)?;
            let About::Event(event) = message.about else { return Err(DeskError::NotFound) };
            address_of(conn, id, event, now)?.ok_or(DeskError::NotFound)?;
            Ok(events::by_id(conn, event)?.ok_or(DeskError::NotFound)?.slug)
        })
        .await
}
