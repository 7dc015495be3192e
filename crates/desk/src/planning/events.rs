//! Planning events at the Office.

use matricle_core::EventId;
use matricle_core::quick::{self, Typed};
use matricle_core::staff::{Right, require};
use matricle_core::words::fold;
use matricle_store::bookings;
use matricle_store::events::{self, EventState, NewDate, NewEvent, NewTicketType, Pattern};
use matricle_store::house::House;
use matricle_store::people::Staff;

use crate::planning::board::{Offered, offered};
use crate::{Desk, DeskError, house_of};

/// What the quick form needs to be drawn.
#[derive(Debug, Clone)]
pub struct Wanting {
    /// The house.
    pub house: House,
    /// Venues, rooms and hosts that are offered.
    pub offered: Offered,
    /// Patterns to start from.
    pub patterns: Vec<Pattern>,
}

/// What the quick form needs to be drawn.
///
/// # Errors
/// The role may not, or the store fails.
pub async fn wanting(desk: &Desk, staff: &Staff) -> Result<Wanting, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    desk.store
        .read(|conn| {
            Ok(Wanting {
                house: house_of(conn)?,
                offered: offered(conn)?,
                patterns: events::patterns(conn)?,
            })
        })
        .await
}

/// Makes an event of one small form: one date, one ticket, on sale until it starts,
/// confirmations on. A known venue keeps its address, and a known room counts for clashes
/// and is the ceiling of its seats. Published at once, or a draft.
///
/// # Errors
/// [`DeskError::Quick`] with every field that needs another look; the role may not.
pub async fn quick(
    desk: &Desk,
    staff: &Staff,
    typed: Typed,
    publish: bool,
) -> Result<EventId, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
    desk.store
        .write(move |tx| {
            let house = house_of(tx)?;
            let plan =
                quick::check(&typed, &house.zone, house.currency, now).map_err(DeskError::Quick)?;
            let offered = offered(tx)?;
            let line = fold(&plan.place);
            let known = offered.places().into_iter().find(|(l, ..)| fold(l) == line);
            let (venue, room) = known.map_or_else(
                || (plan.place, String::new()),
                |(_, venue, room)| (venue.to_owned(), room.to_owned()),
            );
            let new = NewEvent {
                slug: events::free_slug(tx, &plan.slug)?,
                title: plan.title,
                kind: plan.kind,
                state: if publish { EventState::Published } else { EventState::Draft },
                hold_minutes: 15,
                pools: vec!["seats".into()],
                tickets: vec![NewTicketType {
                    minor: plan.price.minor,
                    ..NewTicketType::default()
                }],
                dates: vec![NewDate {
                    span: plan.span,
                    venue,
                    address: String::new(),
                    directions: String::new(),
                    room,
                    hosts: Vec::new(),
                    margins: (0, 0),
                    capacities: vec![plan.seats],
                    sessions: Vec::new(),
                }],
                ..NewEvent::default()
            };
            let id = events::insert(tx, &new, now)?;
            let what = if publish { "made and published the event" } else { "made the event" };
            crate::planning::dates::log(tx, id, now, &who, what)?;
            Ok(id)
        })
        .await
}

/// Publishes a draft, or takes an event that nobody has booked back to a draft.
///
/// # Errors
/// [`DeskError::Booked`] when people have booked; the role may not; there is no such event.
pub async fn show_in_programme(
    desk: &Desk,
    staff: &Staff,
    id: EventId,
    shown: bool,
) -> Result<(), DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
    desk.store
        .write(move |tx| {
            let event = events::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            let to = match (event.state, shown) {
                (EventState::Draft, true) => EventState::Published,
                (EventState::Published, false) => EventState::Draft,
                // Twice clicked, or in a second tab: as asked already.
                _ => return Ok(()),
            };
            let bookings = bookings::count_live(tx, id)?;
            if to == EventState::Draft && bookings > 0 {
                return Err(DeskError::Booked { bookings });
            }
            events::set_state(tx, id, to)?;
            events::changed(tx, id, now)?;
            let what = if shown { "published the event" } else { "took the event back to a draft" };
            crate::planning::dates::log(tx, id, now, &who, what)
        })
        .await
}
