//! Mailing invitations to those on an event's lists, and opening the event by one.

use matricle_core::staff::Right;
use matricle_core::{EventId, MessageId};
use matricle_store::events::{self, EventState};
use matricle_store::outbox::{self, About};
use matricle_store::people::Staff;

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
