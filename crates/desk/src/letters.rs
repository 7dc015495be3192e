//! Letters: mails that come in. Each is read once, finds its booking, event or person, goes on to
//! whoever stands behind the reply address it was written to, and their answer goes back under
//! that address. What matches nothing lies in the tray.

mod calendars;
pub mod fetching;
pub mod passing;
mod taking;
pub mod tray;

pub use taking::{Taken, take_in};

use matricle_core::EventId;
use matricle_core::messages::letters::Place;
use matricle_store::{Connection, bookings, senders};

use crate::{DeskError, house_of};

/// The largest mail that is read, in bytes.
pub use matricle_formats::incoming::LARGEST;

/// A name and address of the house, and who stands behind it; empty for nobody.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct ReplyAddress {
    pub(crate) name: String,
    pub(crate) email: String,
    pub(crate) behind: String,
}

/// The event that a place is of.
fn event_of(conn: &Connection, place: Place) -> Result<Option<EventId>, DeskError> {
    Ok(match place {
        Place::Event(event) => Some(event),
        Place::Booking(booking) => match bookings::by_id(conn, booking)? {
            Some(b) => matricle_store::events::date_by_id(conn, b.date)?.map(|(event, _)| event.id),
            None => None,
        },
        Place::Person | Place::Tray => None,
    })
}

/// The reply address that a letter is answered under: the event's own, the one that it was
/// written to, or the house's.
fn reply_address(
    conn: &Connection,
    place: Place,
    written_to: &str,
) -> Result<ReplyAddress, DeskError> {
    let address = |(name, email, behind)| ReplyAddress { name, email, behind };
    if let Some(event) = event_of(conn, place)?
        && let Some(own) = senders::reply_address(conn, event)?
    {
        return Ok(address(own));
    }
    let known = senders::all(conn)?;
    if let Some(s) = known.into_iter().find(|s| s.email.eq_ignore_ascii_case(written_to)) {
        return Ok(address((s.name, s.email, s.forwards_to)));
    }
    let house = house_of(conn)?;
    Ok(address((house.name, house.email, senders::behind_house(conn)?)))
}

/// All addresses that the house writes from.
fn own_addresses(conn: &Connection) -> Result<Vec<String>, DeskError> {
    let mut own = vec![house_of(conn)?.email];
    own.extend(senders::all(conn)?.into_iter().map(|s| s.email));
    Ok(own)
}
