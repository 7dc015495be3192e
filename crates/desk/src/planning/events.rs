//! Planning events at the Office.

use jiff::ToSpan;
use matricle_core::EventId;
use matricle_core::dates::recurrence::{Ends, Every, Rule};
use matricle_core::dates::schedule::Span;
use matricle_core::forms::quick::{self, Field, Problem, Quick, Typed};
use matricle_core::people::staff::{Right, require};
use matricle_core::words::fold;
use matricle_formats::words;
use matricle_store::bookings;
use matricle_store::events::{
    self, EventState, Format, NewDate, NewEvent, NewTicketType, Pattern, SlotPlan,
};
use matricle_store::house::House;
use matricle_store::people::Staff;
use matricle_store::{Connection, places};

use crate::planning::board::{Offered, offered};
use crate::planning::slots::cut_again;
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

/// The tickets of a plan: one, and one more for those who join online where there are both.
fn tickets(plan: &Quick) -> Vec<NewTicketType> {
    let seat = NewTicketType { minor: plan.price.minor, ..NewTicketType::default() };
    if plan.part != Format::Both {
        return vec![seat];
    }
    let draws = if plan.places > 0 { vec![(1, 1)] } else { seat.draws.clone() };
    let online = NewTicketType { name: "Online".into(), online: true, draws, ..seat.clone() };
    vec![seat, online]
}

/// The place that is meant: a known one, a new room of a known venue, or a new venue with what was
/// typed behind its name as its address.
fn meant(offered: &Offered, plan: &Quick) -> (String, String, String) {
    if plan.part == Format::Online {
        return ("Online".into(), String::new(), String::new());
    }
    let places = offered.places();
    let line = fold(&plan.place);
    if let Some((_, venue, room)) = places.iter().find(|(l, ..)| fold(l) == line) {
        return ((*venue).to_owned(), String::new(), (*room).to_owned());
    }
    let (name, rest) = quick::name_and_address(&plan.place);
    let named = |name: &str| places.iter().find(|(_, v, _)| fold(v) == fold(name));
    match named(name) {
        // A street has a number: that is where the venue is, and it is known already.
        Some((_, venue, _)) if rest.chars().any(|c| c.is_ascii_digit()) => {
            ((*venue).to_owned(), String::new(), String::new())
        }
        Some((_, venue, _)) => ((*venue).to_owned(), String::new(), rest.to_owned()),
        None => (name.to_owned(), rest.to_owned(), String::new()),
    }
}

/// Refuses more seats than the room has: what it seats is the ceiling of each of its dates.
fn fits(conn: &Connection, venue: &str, room: &str, plan: &Quick) -> Result<(), DeskError> {
    let venue = places::venues(conn)?.into_iter().find(|v| v.name == venue).map(|v| v.id);
    let rooms = places::rooms(conn)?;
    let found = rooms.iter().find(|r| Some(r.venue) == venue && r.name == room);
    match found.and_then(|r| r.seats).filter(|most| plan.slots.is_none() && plan.seats > *most) {
        Some(most) => Err(DeskError::Quick(vec![(Field::Seats, Problem::MoreThanRoom { most })])),
        None => Ok(()),
    }
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
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            let house = house_of(tx)?;
            let plan = quick::check(&typed, &house.zone, house.currency, turn.now)
                .map_err(DeskError::Quick)?;
            let (venue, address, room) = meant(&offered(tx)?, &plan);
            fits(tx, &venue, &room, &plan)?;
            let is_run = plan.spans.len() > 1;
            let date = |span: &Span| NewDate {
                span: span.clone(),
                venue: venue.clone(),
                address: address.clone(),
                directions: String::new(),
                room: room.clone(),
                hosts: Vec::new(),
                margins: (0, 0),
                capacities: std::iter::once(plan.seats)
                    .chain(Some(plan.places).filter(|n| *n > 0))
                    .collect(),
                sessions: Vec::new(),
                online: None,
            };
            let new = NewEvent {
                slug: events::free_slug(tx, &plan.slug)?,
                title: plan.title.clone(),
                kind: plan.kind.clone(),
                state: if publish { EventState::Published } else { EventState::Draft },
                hold_minutes: 15,
                format: plan.part,
                online_link: plan.link.clone(),
                pools: std::iter::once(if plan.slots.is_some() { "desks" } else { "seats" })
                    .chain(Some("online").filter(|_| plan.places > 0))
                    .map(str::to_owned)
                    .collect(),
                tickets: tickets(&plan),
                dates: if is_run { Vec::new() } else { plan.spans.iter().map(date).collect() },
                course: plan.course,
                slots: plan.slots.map(|minutes| SlotPlan {
                    minutes,
                    pause: 0,
                    desks: plan.seats,
                    notice_hours: 12,
                    ahead_days: 60,
                    venue: venue.clone(),
                    room: room.clone(),
                }),
                ..NewEvent::default()
            };
            let id = events::insert(tx, &new, turn.now)?;
            if is_run {
                let count = u32::try_from(plan.spans.len()).unwrap_or(u32::MAX);
                let days = plan.spans.iter().take(1).map(|s| s.starts.weekday()).collect();
                let rule = Rule { every: Every::Week(days), interval: 1, ends: Ends::Count(count) };
                let run = events::add_run(tx, id, &rule.text())?;
                for span in &plan.spans {
                    events::add_date(tx, id, &date(span), Some(run))?;
                }
            }
            if let Some(plan) = &new.slots {
                let today = words::local(turn.now, &house.zone).date();
                let last = today.saturating_add(i64::from(plan.ahead_days).days());
                cut_again(tx, id, today, last, turn.now)?;
            }
            let what = if publish { "made and published the event" } else { "made the event" };
            crate::planning::dates::log(tx, id, &turn, what)?;
            Ok(id)
        })
        .await
}

/// Throws a draft that nobody booked away, or brings it back: nothing of it is lost.
///
/// # Errors
/// [`DeskError::Booked`] when people have booked; it is no draft; the role may not.
pub async fn throw_away(
    desk: &Desk,
    staff: &Staff,
    id: EventId,
    away: bool,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            let event = events::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            if event.state != EventState::Draft {
                return Err(DeskError::NotADraft);
            }
            let bookings = bookings::count_live(tx, id)?;
            if away && bookings > 0 {
                return Err(DeskError::Booked { bookings });
            }
            if event.thrown_at.is_some() == away {
                return Ok(());
            }
            events::set_thrown(tx, id, away, turn.now)?;
            let what = if away { "threw the draft away" } else { "brought the draft back" };
            crate::planning::dates::log(tx, id, &turn, what)
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
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            let event = events::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            let to = match (event.state, shown) {
                (EventState::Draft, true) if event.thrown_at.is_some() => {
                    return Err(DeskError::NotADraft);
                }
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
            events::changed(tx, id, turn.now)?;
            let what = if shown { "published the event" } else { "took the event back to a draft" };
            crate::planning::dates::log(tx, id, &turn, what)
        })
        .await
}
