//! Patterns and copies: starting an event from another one.

use jiff::Timestamp;
use jiff::civil::Date as Day;
use matricle_core::EventId;
use matricle_core::dates::schedule::SpanError;
use matricle_core::forms::form::{Fault, Form, slug};
use matricle_core::people::staff::{Right, require};
use matricle_formats::words;
use matricle_store::Tx;
use matricle_store::events::{self, EventState, NewEvent, Pattern};
use matricle_store::people::Staff;

use crate::{Desk, DeskError, house_of};

/// Saves an event as a pattern under a name; without one, under the event's title.
///
/// # Errors
/// [`DeskError::Form`] when the name is too long; the role may not.
pub async fn save(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let name = form.line("pattern");
    form.done().map_err(DeskError::Form)?;
    desk.store
        .write(move |tx| {
            let plan = events::read(tx, event)?.ok_or(DeskError::NotFound)?;
            let name = if name.is_empty() { plan.title.clone() } else { name };
            events::save_pattern(tx, &name, &plan, turn.now)?;
            turn.log(tx, &format!("saved the pattern {name}"), "/office/patterns")
        })
        .await
}

/// All patterns.
pub async fn all(desk: &Desk, staff: &Staff) -> Result<Vec<Pattern>, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    Ok(desk.store.read(events::patterns).await?)
}

/// Forgets a pattern.
pub async fn forget(desk: &Desk, staff: &Staff, id: i64) -> Result<(), DeskError> {
    require(staff.role, Right::PlanEvents)?;
    Ok(desk.store.write(move |tx| events::drop_pattern(tx, id)).await?)
}

/// What a new event starts from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum From {
    /// A pattern.
    Pattern(i64),
    /// A copy of an event.
    Event(EventId),
}

/// Starts a draft from a pattern or a copy: all but the bookings, its first date on the
/// day asked for, everything else moved along on the wall clock.
///
/// # Errors
/// [`DeskError::Form`] with what needs another look; the role may not.
pub async fn start(
    desk: &Desk,
    staff: &Staff,
    from: From,
    mut form: Form,
) -> Result<EventId, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let title = form.line("title");
    let day = form.day("day");
    desk.store
        .write(move |tx| {
            let plan = match from {
                From::Event(id) => events::read(tx, id)?,
                From::Pattern(id) => {
                    events::patterns(tx)?.into_iter().find(|p| p.id == id).map(|p| p.plan)
                }
            };
            let mut plan = plan.ok_or(DeskError::NotFound)?;
            let day = if plan.dates.is_empty() { None } else { form.need("day", day) };
            if let Some(day) = day {
                shift(tx, &mut plan, day, &mut form, turn.now)?;
            }
            if !title.is_empty() {
                plan.title = title;
            }
            let word = slug(&plan.title);
            if word.is_empty() {
                form.fault("title", Fault::NoWord);
            }
            form.done().map_err(DeskError::Form)?;
            plan.slug = events::free_slug(tx, &word)?;
            plan.state = EventState::Draft;
            let id = events::insert(tx, &plan, turn.now)?;
            crate::planning::dates::log(tx, id, &turn, "started the event from another")?;
            Ok(id)
        })
        .await
}

fn shift(
    tx: &Tx<'_>,
    plan: &mut NewEvent,
    day: Day,
    form: &mut Form,
    now: Timestamp,
) -> Result<(), DeskError> {
    let house = house_of(tx)?;
    if day < words::local(now, &house.zone).date() {
        form.fault("day", Fault::Past);
        return Ok(());
    }
    let Some(first) = plan.dates.iter().map(|d| d.span.starts.date()).min() else { return Ok(()) };
    let days = day.since(first).map_or(0, |span| span.get_days());
    match plan.shift(days, &words::zone(&house.zone)) {
        Ok(()) => {}
        Err(SpanError::Ambiguous { at, .. }) => form.fault("day", Fault::ClockChange(at)),
        Err(SpanError::EndsFirst { .. } | SpanError::UnknownZone { .. }) => {
            form.fault("day", Fault::NotADay);
        }
    }
    Ok(())
}
