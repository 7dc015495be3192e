//! Who is invited to an event, and what an invitation proves.

use jiff::Timestamp;
use matricle_core::occasion::Occasion;
use matricle_core::who::{Who, is_invited};
use matricle_core::{EventId, MessageId};
use matricle_store::Connection;
use matricle_store::events::{self, Event, EventState};
use matricle_store::outbox::{self, About, Message};

use crate::DeskError;

/// Somebody on a list, and the invitation mailed to them, if it was.
pub type Invited = (String, Option<Message>);

/// Everybody on the lists of an event, each once.
pub(crate) fn addresses(conn: &Connection, event: &Event) -> Result<Vec<String>, DeskError> {
    let mut addresses: Vec<String> = match &event.who {
        Who::Invited(list) => list.clone(),
        Who::Anyone | Who::SignedIn | Who::Word(_) | Who::Domains(_) => Vec::new(),
    };
    for ticket in events::ticket_rows(conn, event.id)? {
        for address in ticket.plan.invited {
            if !is_invited(&addresses, &address) {
                addresses.push(address);
            }
        }
    }
    Ok(addresses)
}

/// Everybody on the lists of an event, each once, with what was mailed to them.
pub(crate) fn list(conn: &Connection, event: &Event) -> Result<Vec<Invited>, DeskError> {
    let addresses = addresses(conn, event)?;
    let mailed = outbox::invitations(conn, event.id)?;
    let known = |address: &str| {
        mailed.iter().find(|m| is_invited(std::slice::from_ref(&m.address), address)).cloned()
    };
    Ok(addresses
        .into_iter()
        .map(|address| {
            let mailed = known(&address);
            (address, mailed)
        })
        .collect())
}

/// Whose address an invitation proves for this event: that of whoever it was mailed to, as
/// long as they are on its lists and a date of it is to come.
pub(crate) fn address_of(
    conn: &Connection,
    id: i64,
    event: EventId,
    now: Timestamp,
) -> Result<Option<String>, DeskError> {
    let Some(message) = outbox::by_id(conn, MessageId(id))? else { return Ok(None) };
    let Some(found) = events::by_id(conn, event)? else { return Ok(None) };
    let invited =
        message.about == About::Event(event) && message.occasion() == Some(Occasion::Invited);
    if !invited || found.state != EventState::Published {
        return Ok(None);
    }
    let listed = list(conn, &found)?
        .iter()
        .any(|(address, _)| is_invited(std::slice::from_ref(address), &message.address));
    let coming = events::dates_of(conn, event)?
        .iter()
        .any(|d| d.called_off.is_empty() && d.span.ends_at > now);
    Ok((listed && coming).then_some(message.address))
}
