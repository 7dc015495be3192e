//! Somebody by their address: what they booked, to what they are invited, what they wrote.

use jiff::civil::DateTime;
use matricle_core::booking::State;
use matricle_core::people::staff::{Right, require};
use matricle_core::words::codes::Reference;
use matricle_core::{BookingId, EventId};
use matricle_store::letters::{self as stored, Letter, List};
use matricle_store::people::Staff;
use matricle_store::{Connection, bookings, events, invited, outbox, people};

use crate::letters::tray::ON_A_PAGE;
use crate::planning::replies::ReplyRow;
use crate::{Desk, DeskError};

/// A booking with somebody on it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Theirs {
    /// Its reference.
    pub reference: Reference,
    /// The title of its event.
    pub title: String,
    /// When its date starts, on its own wall clock.
    pub starts: DateTime,
    /// Where it stands.
    pub state: State,
    /// It is not theirs: a ticket of it was passed to them.
    pub passed: bool,
}

/// What is known of somebody by their address.
#[derive(Debug, Clone)]
pub struct Person {
    /// The address.
    pub address: String,
    /// Their name as it was given last; may be empty.
    pub name: String,
    /// They are a member.
    pub member: bool,
    /// Why no mail reaches them.
    pub refused: Option<String>,
    /// They want no announcements.
    pub unsubscribed: bool,
    /// Bookings that were made, the latest date first.
    pub bookings: Vec<Theirs>,
    /// To which events they are invited, and where they stand, the latest first.
    pub invited: Vec<(EventId, String, ReplyRow)>,
    /// What they wrote, oldest first; at most [`ON_A_PAGE`].
    pub letters: Vec<Letter>,
    /// How many letters there are, and the number of the latest.
    pub all_letters: Option<(u32, i64)>,
}

/// Somebody by their address.
///
/// # Errors
/// [`DeskError::NotFound`] where nothing is known of it; the role may not.
pub async fn person(desk: &Desk, staff: &Staff, address: String) -> Result<Person, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let address = address.trim().to_owned();
    desk.store.read(move |conn| of(conn, address)).await
}

fn of(conn: &Connection, address: String) -> Result<Person, DeskError> {
    // Whoever booked by telephone may have none: that is nobody's.
    if address.is_empty() {
        return Err(DeskError::NotFound);
    }
    let name = people::name_of(conn, &address)?;
    let known = outbox::address(conn, &address)?;
    let bookings = theirs(conn, &address)?;
    let mut invited = Vec::new();
    for (event, known) in invited::of_address(conn, &address)?.into_iter().rev() {
        let booked = bookings::booked_already(conn, event, &address, BookingId(0))?;
        let title = events::by_id(conn, event)?.ok_or(DeskError::NotFound)?.title;
        invited.push((event, title, ReplyRow::of(known, booked)));
    }
    let latest = stored::latest_of(conn, &address)?;
    let (letters, all_letters) = match latest {
        Some(id) => {
            let list = List::Writer(id);
            (stored::list(conn, list, 0, ON_A_PAGE)?, Some((stored::count(conn, list)?, id)))
        }
        None => (Vec::new(), None),
    };
    let wrote = letters.last().map(|l| l.from.0.clone()).unwrap_or_default();
    if name.is_empty() && bookings.is_empty() && invited.is_empty() && letters.is_empty() {
        return Err(DeskError::NotFound);
    }
    Ok(Person {
        name: if name.is_empty() { wrote } else { name },
        member: people::is_member(conn, &address)?,
        refused: known.refused.map(|(_, why)| why),
        unsubscribed: known.unsubscribed,
        bookings,
        invited,
        letters,
        all_letters,
        address,
    })
}

/// Their bookings, and those of which a ticket was passed to them.
fn theirs(conn: &Connection, address: &str) -> Result<Vec<Theirs>, DeskError> {
    let own = bookings::of_address(conn, address)?;
    let mut all: Vec<Theirs> = own
        .iter()
        .map(|l| Theirs {
            reference: l.booking.reference,
            title: l.title.clone(),
            starts: l.starts,
            state: l.booking.state,
            passed: false,
        })
        .collect();
    for (id, _) in bookings::passed_to(conn, address)? {
        let Some(booking) = bookings::by_id(conn, id)? else { continue };
        let known = all.iter().any(|t| t.reference == booking.reference);
        if known || booking.test || booking.state == State::Lapsed {
            continue;
        }
        if let Some((event, date)) = events::date_by_id(conn, booking.date)? {
            all.push(Theirs {
                reference: booking.reference,
                title: event.title,
                starts: date.span.starts,
                state: booking.state,
                passed: true,
            });
        }
    }
    all.sort_by_key(|t| std::cmp::Reverse(t.starts));
    Ok(all)
}
