//! Mailing invitations to those on an event's lists, and opening the event by one.

use matricle_core::EventId;
use matricle_core::staff::Right;
use matricle_formats::mail::Mail;
use matricle_formats::{rich, words};
use matricle_store::events::{self, EventState};
use matricle_store::outbox::{self, About, Kind, Message, NewMessage};
use matricle_store::people::Staff;

use crate::people::invited::{address_of, list};
use crate::{Desk, DeskError, house_of};

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
                let message_id = format!("{}@{}", uuid::Uuid::now_v7(), turn.host);
                let new = NewMessage {
                    about: About::Event(event),
                    kind: Kind::Invitation,
                    which: &address.to_lowercase(),
                    address,
                    message_id: &message_id,
                    note: "",
                };
                outbox::plan_noted(tx, &new, turn.now)?;
            }
            if !fresh.is_empty() {
                let what: String = match fresh.len() {
                    1 => "invited 1 person".into(),
                    n => format!("invited {n} people"),
                };
                crate::planning::dates::log(tx, event, &turn, &what)?;
            }
            Ok(fresh.len())
        })
        .await?;
    desk.wake.all();
    Ok(planned)
}

/// Puts an invitation together.
pub(crate) async fn compose(
    desk: &Desk,
    message: &Message,
    event: EventId,
) -> Result<Mail, DeskError> {
    let now = desk.clock.now();
    let (house, event, dates) = desk
        .store
        .read(move |conn| {
            let dates = events::dates_of(conn, event)?;
            let event = events::by_id(conn, event)?.ok_or(DeskError::NotFound)?;
            Ok::<_, DeskError>((house_of(conn)?, event, dates))
        })
        .await?;
    let key = desk.secrets.invitation_key(message.id);
    let url = format!("{}/invited/{}/{key}", desk.public_url, message.id);
    let when: Vec<String> = dates
        .iter()
        .filter(|d| d.called_off.is_empty() && d.span.starts_at > now)
        .take(6)
        .map(|d| {
            let place = d.place();
            let at = if place.is_empty() { String::new() } else { format!(", {place}") };
            format!("{}{at}", words::long_span(d.span.starts, d.span.ends))
        })
        .collect();
    let text = format!(
        "Hello,\n\nyou are invited: {}\n\n{}\n\n{}\n\nSee what it is and take your seat:\n{url}\n\n\
         The address above is yours alone: it opens this event and nothing else, until it is over.\n\n{}\n",
        event.title,
        event.lead,
        when.join("\n"),
        house.name
    );
    Ok(Mail {
        from: (house.name.clone(), house.email.clone()),
        reply_to: None,
        to: (String::new(), message.address.clone()),
        subject: format!("An invitation: {}", event.title),
        message_id: message.message_id.clone(),
        date: now,
        html: rich::from_text(&text),
        text,
        attachments: Vec::new(),
    })
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
            let message = outbox::by_id(conn, id)?.ok_or(DeskError::NotFound)?;
            let About::Event(event) = message.about else { return Err(DeskError::NotFound) };
            address_of(conn, id, event, now)?.ok_or(DeskError::NotFound)?;
            Ok(events::by_id(conn, event)?.ok_or(DeskError::NotFound)?.slug)
        })
        .await
}
