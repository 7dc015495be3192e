//! Who asks without a role: what they have proved, and where they ask from.

use jiff::Timestamp;
use matricle_core::money::price::Buyer;
use matricle_core::people::who::{Who, WhoRefusal};
use matricle_core::{BookingId, DateId, EventId};
use matricle_store::events::{self, Event};
use matricle_store::{Connection, bookings};

use crate::people::invited;
use crate::{Desk, DeskError, Secrets};

/// Somebody who books.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Asking {
    /// The address they have proved by signing in.
    pub proved: Option<String>,
    /// A member, by the record of that address.
    pub member: bool,
    /// The link of an invitation they have opened: its number and its secret part.
    pub invitation: Option<(i64, String)>,
    /// Their browser and their network, as keyed hashes; 0 is unknown.
    pub from: (i64, i64),
}

impl Asking {
    /// The address they have proved as far as an event is concerned: by signing in, or by the
    /// link of an invitation to this event, which proves it for nothing else.
    pub(crate) fn address(
        &self,
        conn: &Connection,
        secrets: &Secrets,
        event: EventId,
        now: Timestamp,
    ) -> Result<Option<String>, DeskError> {
        match (&self.proved, &self.invitation) {
            (Some(address), _) => Ok(Some(address.clone())),
            (None, Some((id, key))) if secrets.opens_invitation(*id, key) => {
                invited::address_of(conn, *id, event, now)
            }
            (None, _) => Ok(None),
        }
    }
}

/// What is known of somebody as a buyer of an event's tickets, with a word they gave. Members
/// are known by their record, people invited by their address.
pub async fn buyer(
    desk: &Desk,
    asking: &Asking,
    event: EventId,
    word: &str,
) -> Result<Buyer, DeskError> {
    let address = match (&asking.proved, &asking.invitation) {
        (Some(address), _) => address.clone(),
        (None, None) => String::new(),
        (None, Some(_)) => {
            let (asking, secrets, now) = (asking.clone(), desk.secrets.clone(), desk.clock.now());
            let address =
                desk.store.read(move |conn| asking.address(conn, &secrets, event, now)).await?;
            address.unwrap_or_default()
        }
    };
    Ok(Buyer { member: asking.member, word: word.into(), address, promos: Vec::new() })
}

/// Why somebody may not book an event, as far as the address they have proved tells: what is
/// told before a form is filled in. What they have not proved yet is no reason.
pub async fn barred(
    desk: &Desk,
    event: &Event,
    buyer: &Buyer,
) -> Result<Option<WhoRefusal>, DeskError> {
    let asks = matches!(event.who, Who::Domains(_) | Who::Invited) || event.once;
    if buyer.address.is_empty() || !asks {
        return Ok(None);
    }
    let (id, once, who, address) = (event.id, event.once, event.who.clone(), buyer.address.clone());
    desk.store
        .read(move |conn| {
            let invited = matricle_store::invited::is_on(conn, id, &address)?;
            let refused = match who {
                Who::Domains(_) | Who::Invited => {
                    who.allows(&address, Some(&address), "", invited).err()
                }
                Who::Anyone | Who::SignedIn | Who::Word(_) => None,
            };
            let again = || bookings::booked_already(conn, id, &address, BookingId(0));
            Ok(match refused {
                None if once && again()? => Some(WhoRefusal::Again),
                refused => refused,
            })
        })
        .await
}

/// [`buyer`], by a date of the event.
///
/// # Errors
/// There is no such date; the store fails.
pub async fn buyer_of(
    desk: &Desk,
    asking: &Asking,
    date: DateId,
    word: &str,
) -> Result<Buyer, DeskError> {
    // Only an invitation is good for one event and not for another.
    let event = match (&asking.proved, &asking.invitation) {
        (None, Some(_)) => {
            let found = desk.store.read(move |conn| events::date_by_id(conn, date)).await?;
            found.ok_or(DeskError::NotFound)?.0.id
        }
        (Some(_), _) | (None, None) => EventId(0),
    };
    buyer(desk, asking, event, word).await
}
