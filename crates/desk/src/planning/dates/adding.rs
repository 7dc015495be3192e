//! Dates are added, one or by a rule; first they can be looked at.

use jiff::civil::DateTime;
use matricle_core::EventId;
use matricle_core::dates::recurrence::Rule;
use matricle_core::dates::schedule::SpanError;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::forms::repeats;
use matricle_core::people::staff::{Right, require};
use matricle_store::events::{self, NewDate};
use matricle_store::people::Staff;
use matricle_store::{Connection, places};

use super::{BUT, DAY, EXTRA, FROM, HOSTS, POOL, ROOM, UNTIL, VENUE, log, margins, span_of};
use crate::planning::board::clashes_of_new;
use crate::{Clash, Desk, DeskError, house_of};

/// Dates to be added: what was typed, and what comes of it.
#[derive(Debug, Clone)]
pub struct Adding {
    /// The dates.
    pub dates: Vec<NewDate>,
    /// The repeat rule, when there is one.
    pub rule: Option<Rule>,
    /// So many of the rule's days are left out.
    pub left_out: u32,
    /// So many days are added that are none of the rule's.
    pub extra: u32,
    /// Seats asked for, and fewer that the room has.
    pub capped: Option<(u32, u32)>,
    /// Days left out because the clocks skip or repeat an hour of theirs.
    pub skipped: Vec<DateTime>,
    /// What each of them would clash with.
    pub clashes: Vec<Clash>,
}

fn count(n: usize) -> u32 {
    u32::try_from(n).unwrap_or(u32::MAX)
}

fn read_adding(
    conn: &Connection,
    event: EventId,
    form: &mut Form,
) -> Result<Option<Adding>, DeskError> {
    let house = house_of(conn)?;
    let (first, from, until) = (form.take(&DAY), form.take(&FROM), form.take(&UNTIL));
    let (venue, room, hosts) = (form.take(&VENUE), form.take(&ROOM), form.take(&HOSTS));
    let margins = margins(form);
    let mut capacities: Vec<u32> = Vec::new();
    for i in 0..events::pool_kinds(conn, event)?.len() {
        let seats = form.take_at(&POOL, i);
        capacities.push(form.need(&POOL.at(i), seats).unwrap_or(0));
    }
    let (Some(first), Some(from), Some(until)) = (first, from, until) else { return Ok(None) };
    let rule = repeats::rule(form, first);
    let mut on = match &rule {
        None => vec![first],
        Some(rule) => match repeats::days_of(form, rule, first) {
            Some(days) => days,
            None => return Ok(None),
        },
    };
    let but = form.take(&BUT);
    let by_rule = on.len();
    on.retain(|d| !but.contains(d));
    let left_out = count(by_rule - on.len());
    let kept = on.len();
    on.extend(form.take(&EXTRA));
    on.sort_unstable();
    on.dedup();
    let extra = count(on.len() - kept);
    if on.is_empty() {
        form.fault(BUT, Fault::NoDate);
    }
    // A date that is added happens online as the latest of the event does.
    let online = events::latest_online(conn, event)?;
    let mut dates = Vec::new();
    let mut skipped = Vec::new();
    for day in on {
        match span_of(day, from, until, &house.zone) {
            Ok(span) => dates.push(NewDate {
                span,
                venue: venue.clone(),
                address: String::new(),
                directions: String::new(),
                room: room.clone(),
                hosts: hosts.clone(),
                margins,
                capacities: capacities.clone(),
                sessions: Vec::new(),
                online: online.clone(),
            }),
            Err(SpanError::Ambiguous { at, .. }) if rule.is_some() => skipped.push(at),
            Err(SpanError::Ambiguous { at, .. }) => form.fault(FROM, Fault::ClockChange(at)),
            Err(SpanError::EndsFirst { .. }) => form.fault(UNTIL, Fault::EndsFirst),
            Err(SpanError::UnknownZone { .. }) => form.fault(DAY, Fault::NotADay),
        }
    }
    if dates.is_empty() && form.wrong.is_empty() {
        form.fault(FROM, Fault::NoDate);
    }
    if !form.wrong.is_empty() {
        return Ok(None);
    }
    // What a room seats is the ceiling of the first pool in it; that is said before it is saved.
    let venues = places::venues(conn)?;
    let at = venues.iter().find(|v| v.name == venue).map(|v| v.id);
    let seats = places::rooms(conn)?
        .into_iter()
        .find(|r| Some(r.venue) == at && r.name == room)
        .and_then(|r| r.seats);
    let capped = capacities.first().copied().zip(seats).filter(|(asked, seats)| seats < asked);
    let clashes = clashes_of_new(conn, event, &dates)?;
    Ok(Some(Adding { dates, rule, left_out, extra, skipped, capped, clashes }))
}

/// What a form of new dates comes to; nothing is saved.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn adding(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    mut form: Form,
) -> Result<Adding, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    desk.store
        .read(move |conn| {
            let adding = read_adding(conn, event, &mut form)?;
            adding.ok_or(DeskError::Form(form.wrong))
        })
        .await
}

/// Adds the dates of a form to an event.
///
/// # Errors
/// As [`adding`]; then nothing is added.
pub async fn add(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    mut form: Form,
) -> Result<u32, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            let Some(adding) = read_adding(tx, event, &mut form)? else {
                return Err(DeskError::Form(form.wrong));
            };
            let run = match &adding.rule {
                Some(rule) if adding.dates.len() > 1 => {
                    Some(events::add_run(tx, event, &rule.text())?)
                }
                _ => None,
            };
            for date in &adding.dates {
                events::add_date(tx, event, date, run)?;
            }
            events::changed(tx, event, turn.now)?;
            let n = u32::try_from(adding.dates.len()).unwrap_or(u32::MAX);
            let what = if n == 1 { "added a date".into() } else { format!("added {n} dates") };
            log(tx, event, &turn, &what)?;
            Ok(n)
        })
        .await
}
