//! The outbox: what goes and what went, and steering what has not gone.

use jiff::Timestamp;
use matricle_core::MessageId;
use matricle_core::forms::form::{Fault, Wrong};
use matricle_core::messages::cue::Way;
use matricle_core::people::staff::{Right, require};
use matricle_store::house::House;
use matricle_store::outbox::{self, Found, Look, Message, MessageState};
use matricle_store::people::Staff;

use crate::messages::keyless;
use crate::messages::sending::words_now;
use crate::{Desk, DeskError, house_of};

/// A part of the outbox.
#[derive(Debug, Clone)]
pub struct Listed {
    /// The house.
    pub house: House,
    /// The messages.
    pub rows: Vec<Found>,
    /// How many there are in all.
    pub count: u32,
    /// Bookings whose messages are still to be brought to what is true.
    pub left: u32,
}

/// Messages that are looked for, from one on.
pub async fn list(
    desk: &Desk,
    staff: &Staff,
    look: Look,
    skip: u32,
    most: u32,
) -> Result<Listed, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            let (rows, count) = outbox::find(conn, &look, skip, most)?;
            let left = outbox::left_to_follow(conn, look.event)?;
            Ok(Listed { house: house_of(conn)?, rows, count, left })
        })
        .await
}

/// A message with what it said, or would say now.
#[derive(Debug, Clone)]
pub struct Shown {
    /// The house.
    pub house: House,
    /// The message with what stands beside it.
    pub found: Found,
    /// Subject and words.
    pub words: Option<(String, String)>,
    /// They are those that went out; otherwise those that would go now.
    pub as_sent: bool,
    /// What is known of its address.
    pub address: outbox::Address,
}

/// One message, with its words exactly as sent; or as they would be now. Links that open a
/// booking keep their keys only for a role that may change it.
///
/// # Errors
/// The role may not; there is no such message.
pub async fn show(desk: &Desk, staff: &Staff, id: MessageId) -> Result<Shown, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let (house, found, said, address) = desk
        .store
        .read(move |conn| {
            let message = outbox::by_id(conn, id)?.ok_or(DeskError::NotFound)?;
            let found = outbox::beside(conn, message.clone())?.ok_or(DeskError::NotFound)?;
            let address = outbox::address(conn, &message.address)?;
            Ok::<_, DeskError>((house_of(conn)?, found, outbox::said(conn, id)?, address))
        })
        .await?;
    let as_sent = said.is_some();
    let mut words = match said {
        Some(said) => Some(said),
        None => words_now(desk, &found.message).await,
    };
    if !staff.role.may(Right::ChangeBookings) {
        words = words.map(|(subject, said)| (subject, keyless(&desk.public_url, &said)));
    }
    Ok(Shown { house, found, words, as_sent, address })
}

/// What is done with a message that has not gone out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Steer {
    /// It goes now.
    Now,
    /// It does not go.
    Stop,
    /// It goes at another minute.
    At(Timestamp),
}

/// Steers messages that have not gone out. How many it could.
///
/// # Errors
/// [`DeskError::Form`]: the minute is past; the role may not; the store fails.
pub async fn steer(
    desk: &Desk,
    staff: &Staff,
    ids: Vec<MessageId>,
    how: Steer,
) -> Result<u32, DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    if matches!(how, Steer::At(at) if at <= turn.now) {
        return Err(DeskError::Form(vec![Wrong { field: "at".into(), fault: Fault::Past }]));
    }
    let done = desk
        .store
        .write(move |tx| {
            let mut done = 0;
            for id in ids {
                let (to, why) = match how {
                    Steer::Now => (Some(turn.now), format!("sent at once by {}", turn.by.name)),
                    Steer::Stop => (None, format!("stopped by {}", turn.by.name)),
                    Steer::At(at) => (Some(at), format!("given this minute by {}", turn.by.name)),
                };
                done += u32::from(outbox::steer(tx, id, to, &why)?);
            }
            Ok::<_, DeskError>(done)
        })
        .await?;
    desk.wake.all();
    Ok(done)
}

/// Takes a notice down, or puts it up again.
///
/// # Errors
/// The role may not; it is no notice that was put up.
pub async fn take_down(
    desk: &Desk,
    staff: &Staff,
    id: MessageId,
    down: bool,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let why = if down { format!("taken down by {}", turn.by.name) } else { String::new() };
    desk.store
        .write(move |tx| {
            outbox::by_id(tx, id)?
                .filter(|m| m.way == Way::Notice && m.state == MessageState::Sent)
                .ok_or(DeskError::NotFound)?;
            outbox::take_down(tx, id, &why)?;
            let what = if down { "took a notice down" } else { "put a notice up again" };
            turn.log(tx, what, &format!("/office/messages/{id}"))
        })
        .await
}

/// An address that refused a mail is written to again.
pub async fn forgive(desk: &Desk, staff: &Staff, address: String) -> Result<(), DeskError> {
    desk.turn_of(staff, Right::ChangeBookings)?;
    Ok(desk.store.write(move |tx| outbox::forgive(tx, &address)).await?)
}

/// Ends announcements for whoever has the link.
///
/// # Errors
/// [`DeskError::NotFound`] for another key.
pub async fn unsubscribe(desk: &Desk, address: String, key: &str) -> Result<(), DeskError> {
    if !desk.secrets.opens_unsubscribe(&address, key) {
        return Err(DeskError::NotFound);
    }
    let now = desk.clock.now();
    Ok(desk.store.write(move |tx| outbox::unsubscribe(tx, &address, now)).await?)
}

/// Whether a message can still be steered.
#[must_use]
pub const fn is_open(message: &Message) -> bool {
    matches!(
        message.state,
        MessageState::Planned
            | MessageState::Failed
            | MessageState::Skipped
            | MessageState::Withdrawn
    ) && !matches!(message.way, Way::Ring)
}
