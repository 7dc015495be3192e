//! Dates at the Office: adding them by rule, changing one or many, calling off. Before
//! anything is saved, what it touches can be seen.

mod adding;
mod changing;
pub mod off;

use jiff::ToSpan;
use jiff::civil::{Date as Day, Time};
use matricle_core::dates::schedule::{Span, SpanError};
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::forms::quick::MOST_SEATS;
use matricle_core::people::staff::Right;
use matricle_core::{DateId, EventId};
use matricle_store::people::Staff;
use matricle_store::{Tx, bookings, events};

use crate::acting::Turn;
use crate::{Desk, DeskError};

fields! {
    SCOPE: OneOf<Scope>(&[
        (Scope::One, "this date only"),
        (Scope::Later, "this one and those after it"),
        (Scope::All, "all dates to come"),
    ]) = "scope", "Change";
    DAY: Day = "day", "Day" needed;
    FROM: Clock = "from", "From" needed;
    UNTIL: Clock = "until", "Until", "Earlier than the start is the next day." needed;
    VENUE: Line = "venue", "Venue" needed;
    ROOM: Line = "room", "Room", "A new name makes a new room.";
    HOSTS: Names = "hosts", "Led by", "Several are parted by commas.";
    SETUP: WholeOrNone(0, 1440) = "setup", "Minutes to set up";
    CLEARUP: WholeOrNone(0, 1440) = "clearup", "Minutes to clear up";
    BUT: Days = "but", "But not on";
    EXTRA: Days = "extra", "And also on";
    POOL: WholeOrNone(0, MOST_SEATS) = "pool", "Seats";
    POOL_NAME: Line = "pool_name", "What is counted",
        "In the plural. The house has one set of it: used twice at one time is a clash." needed;
    POOL_SEATS: Whole(0, MOST_SEATS) = "pool_seats", "How many for each date" needed;
}

pub use self::adding::{Adding, add, adding};
pub(crate) use self::changing::bring_to;
pub use self::changing::{Moved, Scope, Touches, change, what_it_touches};
pub use self::off::{CallingOff, before_calling_off, call_off};

/// Minutes to set up before, and to clear up after.
fn margins(form: &mut Form) -> (u32, u32) {
    (form.take(&SETUP).unwrap_or(0), form.take(&CLEARUP).unwrap_or(0))
}

/// An end before the start is on the next day: an evening that goes past midnight.
fn span_of(day: Day, from: Time, until: Time, zone: &str) -> Result<Span, SpanError> {
    let ends = if until < from { day.saturating_add(1.day()) } else { day };
    Span::new(day.to_datetime(from), ends.to_datetime(until), zone)
}

/// Writes into the log of an event what was done.
///
/// # Errors
/// The store fails.
pub fn log(tx: &Tx<'_>, event: EventId, turn: &Turn, what: &str) -> Result<(), DeskError> {
    turn.log(tx, what, &format!("/office/events/{event}"))
}

/// Removes a date that nobody ever booked.
///
/// # Errors
/// [`DeskError::Booked`] when somebody has; the role may not.
pub async fn remove(desk: &Desk, staff: &Staff, id: DateId) -> Result<EventId, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            let (event, _) = events::date_by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            if !events::without_bookings(tx, id)? {
                let live = bookings::live_on(tx, id)?.len();
                return Err(DeskError::Booked {
                    bookings: u32::try_from(live).unwrap_or(0).max(1),
                });
            }
            events::remove_date(tx, id)?;
            events::changed(tx, event.id, turn.now)?;
            log(tx, event.id, &turn, "removed a date nobody had booked")?;
            Ok(event.id)
        })
        .await
}

/// A pool's kind is added to an event: every date gets it, with this capacity.
///
/// # Errors
/// [`DeskError::Form`] with what needs another look; the role may not.
pub async fn add_pool(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let name = form.take(&POOL_NAME);
    let capacity = form.take(&POOL_SEATS);
    desk.store
        .write(move |tx| {
            let kinds = events::pool_kinds(tx, event)?;
            if kinds.iter().any(|(_, n)| n.eq_ignore_ascii_case(&name)) {
                form.fault(POOL_NAME, Fault::Taken);
            }
            form.done().map_err(DeskError::Form)?;
            events::add_pool_kind(tx, event, &name, capacity)?;
            log(tx, event, &turn, &format!("added the pool {name}"))
        })
        .await
}

/// The weekdays for forms, Monday first: two letters and the name.
#[must_use]
pub fn week() -> [(&'static str, &'static str); 7] {
    [
        ("MO", "Mon"),
        ("TU", "Tue"),
        ("WE", "Wed"),
        ("TH", "Thu"),
        ("FR", "Fri"),
        ("SA", "Sat"),
        ("SU", "Sun"),
    ]
}
