//! What an invitation proves, and to whom.

use jiff::Timestamp;
use matricle_core::messages::occasion::Occasion;
use matricle_core::{EventId, MessageId};
use matricle_store::Connection;
use matricle_store::events::{self, Event, EventState};
use matricle_store::invited::{self, Invited};
use matricle_store::outbox::{self, About};

use crate::DeskError;

/// Whose an invitation is or was, by the message that it came with: as long as they are on the
/// lists of the event and a date of it is to come.
pub(crate) fn theirs(
    conn: &Connection,
    id: i64,
    now: Timestamp,
) -> Result<Option<(Event, Invited)>, DeskError> {
    let Some(message) = outbox::by_id(conn, MessageId(id))? else { return Ok(None) };
    let About::Event(event) = message.about else { return Ok(None) };
    let Some(found) = events::by_id(conn, event)? else { return Ok(None) };
    if message.occasion() != Some(Occasion::Invited) || found.state != EventState::Published {
        return Ok(None);
    }
    let Some(invited) = invited::by_email(conn, event, &message.address)? else { return Ok(None) };
    let coming = events::dates_of(conn, event)?
        .iter()
        .any(|d| d.called_off.is_empty() && d.span.ends_at > now);
    Ok(coming.then_some((found, invited)))
}

/// Whose address an invitation proves for this event; nobody's, once it was handed on.
pub(crate) fn address_of(
    conn: &Connection,
    id: i64,
    event: EventId,
    now: Timestamp,
) -> Result<Option<String>, DeskError> {
    Ok(theirs(conn, id, now)?
        .filter(|(found, invited)| found.id == event && invited.handed_to.is_empty())
        .map(|(_, invited)| invited.email))
}
