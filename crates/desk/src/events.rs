//! Planning events at the Office.

use matricle_core::EventId;
use matricle_core::quick::{self, Typed};
use matricle_core::schedule::SaleWindow;
use matricle_core::staff::{Right, require};
use matricle_store::events::{self, EventState, NewDate, NewEvent, NewTicketType};
use matricle_store::house::House;
use matricle_store::people::Staff;
use matricle_store::{StoreError, bookings};

use crate::{Desk, DeskError, house_of};

/// What the quick form needs to be drawn.
#[derive(Debug, Clone)]
pub struct Wanting {
    /// The house.
    pub house: House,
    /// Venues that are known.
    pub venues: Vec<String>,
}

/// What the quick form needs to be drawn.
///
/// # Errors
/// The role may not, or the store fails.
pub async fn wanting(desk: &Desk, staff: &Staff) -> Result<Wanting, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    desk.store
        .read(|conn| Ok(Wanting { house: house_of(conn)?, venues: events::venues(conn)? }))
        .await
}

/// Makes an event of one small form: one date, one ticket, on sale until it starts,
/// confirmations on. A known venue keeps its address. Published at once, or a draft.
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
    let now = desk.clock.now();
    desk.store
        .write(move |tx| {
            let house = house_of(tx)?;
            let plan =
                quick::check(&typed, &house.zone, house.currency, now).map_err(DeskError::Quick)?;
            let new = NewEvent {
                slug: events::free_slug(tx, &plan.slug)?,
                title: plan.title,
                kind: plan.kind,
                lead: String::new(),
                description: String::new(),
                bring: String::new(),
                refund_note: String::new(),
                state: if publish { EventState::Published } else { EventState::Draft },
                hold_minutes: 15,
                pools: vec!["seats".into()],
                tickets: vec![NewTicketType {
                    name: "Seat".into(),
                    note: String::new(),
                    minor: plan.price.minor,
                    early: None,
                    sale: SaleWindow::default(),
                    per_date: None,
                    most: 10,
                    admits: 1,
                    draws: vec![(0, 1)],
                }],
                questions: Vec::new(),
                dates: vec![NewDate {
                    span: plan.span,
                    venue: plan.place,
                    address: String::new(),
                    directions: String::new(),
                    room: String::new(),
                    hosts: String::new(),
                    capacities: vec![plan.seats],
                }],
            };
            Ok(events::insert(tx, &new, now)?)
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
            events::set_state(tx, id, to).map_err(|e: StoreError| e.into())
        })
        .await
}
