//! Dates at the Office: adding them by rule, changing one or many, calling off. Before
//! anything is saved, what it touches can be seen.

use jiff::civil::{Date as Day, DateTime, Time};
use jiff::{Timestamp, ToSpan};
use matricle_core::booking::{Move, State, next};
use matricle_core::form::{Fault, Form};
use matricle_core::rule::{Ends, Every, Rule, RuleError, weekday};
use matricle_core::schedule::{Span, SpanError};
use matricle_core::staff::{Right, require};
use matricle_core::waiting::Stands;
use matricle_core::{DateId, EventId};
use matricle_store::bookings::{self, Booking};
use matricle_store::events::{self, Date, Event, EventState, NewDate};
use matricle_store::outbox::{self, About, Kind, NewMessage};
use matricle_store::people::Staff;
use matricle_store::{Connection, Tx, places};

use crate::board::{Clash, clashes_of, clashes_of_new};
use crate::hold::PROGRAM;
use crate::{Desk, DeskError, TooSmall, house_of};

/// Dates to be added: what was typed, and what comes of it.
#[derive(Debug, Clone)]
pub struct Adding {
    /// The dates.
    pub dates: Vec<NewDate>,
    /// The repeat rule, when there is one.
    pub rule: Option<Rule>,
    /// Days left out because the clocks skip or repeat an hour of theirs.
    pub skipped: Vec<DateTime>,
    /// What each of them would clash with.
    pub clashes: Vec<Clash>,
}

fn every(form: &mut Form, first: Day) -> Option<Every> {
    Some(match form.get("repeat") {
        "week" => {
            let mut days: Vec<_> =
                form.all("day_of_week").iter().filter_map(|d| weekday(d)).collect();
            if days.is_empty() {
                days.push(first.weekday());
            }
            Every::Week(days)
        }
        "day" => Every::Day,
        "month day" => Every::MonthDay(first.day()),
        "month last" => Every::MonthDay(-1),
        "month weekday" => {
            let nth = (first.day() - 1) / 7 + 1;
            Every::MonthWeekday { nth, day: first.weekday() }
        }
        "month last weekday" => Every::MonthWeekday { nth: -1, day: first.weekday() },
        "year" => Every::Year,
        _ => return None,
    })
}

/// Reads the rule of the form; none for a single date.
fn rule(form: &mut Form, first: Day) -> Option<Rule> {
    let every = every(form, first)?;
    let interval = form.number("interval", 1, 52).unwrap_or(1);
    let ends = match (form.number("count", 1, 520), form.day("last")) {
        (Some(count), _) => Ends::Count(count),
        (None, Some(last)) => Ends::On(last),
        (None, None) => {
            form.fault("count", Fault::NeedsOther);
            return None;
        }
    };
    Some(Rule { every, interval, ends })
}

/// Days typed one after another, by commas, spaces or lines.
fn days(form: &mut Form, name: &str) -> Vec<Day> {
    let read: Vec<Option<Day>> = form
        .get(name)
        .split([',', ';', ' ', '\n', '\r'])
        .filter(|d| !d.is_empty())
        .map(|d| d.parse().ok())
        .collect();
    if read.iter().any(Option::is_none) {
        form.fault(name, Fault::NotADay);
    }
    read.into_iter().flatten().collect()
}

fn read_adding(
    conn: &Connection,
    event: EventId,
    form: &mut Form,
) -> Result<Option<Adding>, DeskError> {
    let house = house_of(conn)?;
    let day = form.day("day");
    let first = form.need("day", day);
    let from = form.time("from");
    let from = form.need("from", from);
    let until = form.time("until");
    let until = form.need("until", until);
    let venue = form.needed("venue");
    let room = form.line("room");
    let hosts: Vec<String> = form
        .line("hosts")
        .split(',')
        .map(|h| h.trim().to_owned())
        .filter(|h| !h.is_empty())
        .collect();
    let margins =
        (form.number("setup", 0, 1440).unwrap_or(0), form.number("clearup", 0, 1440).unwrap_or(0));
    let kinds = events::pool_kinds(conn, event)?;
    let capacities: Vec<u32> = (0..kinds.len())
        .map(|i| form.count(&format!("pool_{i}"), 0, matricle_core::quick::MOST_SEATS))
        .collect();
    let (Some(first), Some(from), Some(until)) = (first, from, until) else { return Ok(None) };
    let rule = rule(form, first);
    let mut on = match &rule {
        None => vec![first],
        Some(rule) => match rule.days(first) {
            Ok(days) => days,
            Err(RuleError::TooMany { most }) => {
                form.fault("count", Fault::TooMany(most));
                return Ok(None);
            }
            Err(RuleError::NoDate | RuleError::Unknown { .. }) => {
                form.fault("count", Fault::NoDate);
                return Ok(None);
            }
        },
    };
    let but = days(form, "but");
    on.retain(|d| !but.contains(d));
    on.extend(days(form, "extra"));
    on.sort_unstable();
    on.dedup();
    if on.is_empty() {
        form.fault("but", Fault::NoDate);
    }
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
            }),
            Err(SpanError::Ambiguous { at, .. }) if rule.is_some() => skipped.push(at),
            Err(SpanError::Ambiguous { at, .. }) => form.fault("from", Fault::ClockChange(at)),
            Err(SpanError::EndsFirst { .. }) => form.fault("until", Fault::EndsFirst),
            Err(SpanError::UnknownZone { .. }) => form.fault("day", Fault::NotADay),
        }
    }
    if !form.wrong.is_empty() {
        return Ok(None);
    }
    let clashes = clashes_of_new(conn, &dates)?;
    Ok(Some(Adding { dates, rule, skipped, clashes }))
}

/// An end before the start is on the next day: an evening that goes past midnight.
fn span_of(day: Day, from: Time, until: Time, zone: &str) -> Result<Span, SpanError> {
    let ends = if until < from { day.saturating_add(1.day()) } else { day };
    Span::new(day.to_datetime(from), ends.to_datetime(until), zone)
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
    require(staff.role, Right::PlanEvents)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
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
            events::changed(tx, event, now)?;
            let n = u32::try_from(adding.dates.len()).unwrap_or(u32::MAX);
            let what = if n == 1 { "added a date".into() } else { format!("added {n} dates") };
            log(tx, event, now, &who, &what)?;
            Ok(n)
        })
        .await
}

pub(crate) fn log(
    tx: &Tx<'_>,
    event: EventId,
    now: Timestamp,
    who: &str,
    what: &str,
) -> Result<(), DeskError> {
    Ok(places::log(tx, now, who, what, &format!("/office/events/{event}"))?)
}

/// Which dates a change reaches.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Scope {
    /// This one.
    One,
    /// This one and those after it.
    Later,
    /// All that are still to come.
    All,
}

impl Scope {
    /// The word for it in forms.
    #[must_use]
    pub fn from_word(word: &str) -> Self {
        match word {
            "later" => Self::Later,
            "all" => Self::All,
            _ => Self::One,
        }
    }
}

/// One date of a change: as it is and as it would be.
#[derive(Debug, Clone)]
pub struct Moved {
    /// As it is.
    pub date: Date,
    /// When it would be.
    pub span: Span,
    /// Whether time or place change for the people booked.
    pub told: bool,
}

/// What a change touches.
#[derive(Debug, Clone)]
pub struct Touches {
    /// The dates.
    pub dates: Vec<Moved>,
    /// Bookings that keep seats on them.
    pub bookings: u32,
    /// Names of the people to be told.
    pub people: Vec<String>,
    /// Messages that have not gone out and would carry the new time.
    pub messages: u32,
    /// Pools that would be over-full.
    pub over: Vec<TooSmall>,
    /// Seats asked for, and fewer that the room has.
    pub capped: Vec<(u32, u32)>,
    /// What the dates would clash with.
    pub clashes: Vec<Clash>,
}

/// How many the room seats that a date would be in.
fn ceiling(conn: &Connection, date: &Date, change: &Change) -> Result<Option<u32>, DeskError> {
    let venue = change.venue.as_deref().unwrap_or(&date.venue);
    let room = match &change.room {
        Some(room) => room,
        None if venue == date.venue => &date.room,
        None => return Ok(None),
    };
    let venues = places::venues(conn)?;
    let venue = venues.iter().find(|v| v.name == venue).map(|v| v.id);
    let rooms = places::rooms(conn)?;
    Ok(rooms.iter().find(|r| Some(r.venue) == venue && r.name == *room).and_then(|r| r.seats))
}

/// A change to dates, read from a form.
#[derive(Debug, Clone)]
struct Change {
    day_shift: i32,
    times: Option<(Time, Time)>,
    venue: Option<String>,
    room: Option<String>,
    hosts: Option<Vec<String>>,
    margins: Option<(u32, u32)>,
    capacities: Vec<Option<u32>>,
}

fn reached(
    conn: &Connection,
    date: &Date,
    scope: Scope,
    now: Timestamp,
) -> Result<Vec<Date>, DeskError> {
    if scope == Scope::One {
        return Ok(vec![date.clone()]);
    }
    Ok(events::dates_of(conn, date.event)?
        .into_iter()
        .filter(|d| d.called_off.is_empty())
        .filter(|d| match scope {
            Scope::One => d.id == date.id,
            Scope::Later => d.span.starts_at >= date.span.starts_at,
            Scope::All => d.span.ends_at > now || d.id == date.id,
        })
        .collect())
}

fn read_change(conn: &Connection, date: &Date, form: &mut Form) -> Result<Change, DeskError> {
    let day = form.day("day");
    let from = form.time("from");
    let until = form.time("until");
    let day_shift =
        day.map_or(0, |d| d.since(date.span.starts.date()).map_or(0, |span| span.get_days()));
    let times = from.zip(until);
    if let Some((from, until)) = times
        && from == until
    {
        form.fault("until", Fault::EndsFirst);
    }
    let given = |form: &Form, name: &str| form.has(name);
    let venue = given(form, "venue").then(|| form.needed("venue"));
    let room = given(form, "room").then(|| form.line("room"));
    let hosts = given(form, "hosts").then(|| {
        form.line("hosts")
            .split(',')
            .map(|h| h.trim().to_owned())
            .filter(|h| !h.is_empty())
            .collect()
    });
    let margins = (given(form, "setup") || given(form, "clearup")).then(|| {
        (form.number("setup", 0, 1440).unwrap_or(0), form.number("clearup", 0, 1440).unwrap_or(0))
    });
    let kinds = events::pool_kinds(conn, date.event)?;
    let capacities = (0..kinds.len())
        .map(|i| form.number(&format!("pool_{i}"), 0, matricle_core::quick::MOST_SEATS))
        .collect();
    Ok(Change { day_shift, times, venue, room, hosts, margins, capacities })
}

fn new_span(date: &Date, change: &Change) -> Result<Span, SpanError> {
    let span = &date.span;
    if change.day_shift == 0 && change.times.is_none() {
        return Ok(span.clone());
    }
    let day = span.starts.date().saturating_add(change.day_shift.days());
    match change.times {
        Some((from, until)) => span_of(day, from, until, &span.zone),
        None => Span::new(
            span.starts.saturating_add(change.day_shift.days()),
            span.ends.saturating_add(change.day_shift.days()),
            &span.zone,
        ),
    }
}

/// The bookings that keep seats on a date and have an address to write to.
fn to_tell(conn: &Connection, date: DateId) -> Result<Vec<Booking>, DeskError> {
    Ok(bookings::live_on(conn, date)?
        .into_iter()
        .filter(|b| b.state != State::Held && !b.email.is_empty())
        .collect())
}

/// Who booked last, past a smaller capacity.
fn too_small(
    conn: &Connection,
    date: &Date,
    pool: &matricle_core::seats::Pool,
    capacity: u32,
) -> Result<Option<TooSmall>, DeskError> {
    let taken = pool.taken.total();
    if capacity >= taken {
        return Ok(None);
    }
    let mut seats = 0;
    let mut people = Vec::new();
    for booking in bookings::live_on(conn, date.id)? {
        seats += bookings::seats_of(conn, booking.id, pool.id)?;
        if seats > capacity && !booking.booker().is_empty() {
            people.push(booking.booker().to_owned());
        }
    }
    let pool = format!("{} on {}", pool.name, date.span.starts.strftime("%-d %B %Y"));
    Ok(Some(TooSmall { pool, taken, capacity, people }))
}

fn pools_of(
    conn: &Connection,
    date: &Date,
    now: Timestamp,
) -> Result<Vec<matricle_core::seats::Pool>, DeskError> {
    Ok(events::pools(conn, date.id, now)?)
}

fn touches(
    conn: &Connection,
    date: &Date,
    scope: Scope,
    form: &mut Form,
    now: Timestamp,
) -> Result<Option<(Touches, Change)>, DeskError> {
    let change = read_change(conn, date, form)?;
    let mut found = Touches {
        dates: Vec::new(),
        bookings: 0,
        people: Vec::new(),
        messages: 0,
        over: Vec::new(),
        capped: Vec::new(),
        clashes: Vec::new(),
    };
    for date in reached(conn, date, scope, now)? {
        let span = match new_span(&date, &change) {
            Ok(span) => span,
            Err(SpanError::Ambiguous { at, .. }) => {
                form.fault("from", Fault::ClockChange(at));
                continue;
            }
            Err(_) => {
                form.fault("until", Fault::EndsFirst);
                continue;
            }
        };
        let elsewhere = change.venue.as_ref().is_some_and(|v| *v != date.venue)
            || change.room.as_ref().is_some_and(|r| *r != date.room);
        let told = elsewhere || span != date.span;
        if told {
            for booking in to_tell(conn, date.id)? {
                found.bookings += 1;
                found.messages += outbox::unsent(conn, booking.id)?;
                if !found.people.contains(&booking.name) {
                    found.people.push(booking.name);
                }
            }
        }
        let ceiling = ceiling(conn, &date, &change)?;
        let given = events::capacities(conn, date.id)?;
        for (i, pool) in pools_of(conn, &date, now)?.iter().enumerate() {
            let asked = change.capacities.get(i).copied().flatten();
            let wanted = asked.or(given.get(i).copied()).unwrap_or(pool.capacity);
            // A room caps the first pool in it.
            let capacity = if i == 0 { wanted.min(ceiling.unwrap_or(u32::MAX)) } else { wanted };
            if capacity < wanted && !found.capped.contains(&(wanted, capacity)) {
                found.capped.push((wanted, capacity));
            }
            if capacity != pool.capacity {
                found.over.extend(too_small(conn, &date, pool, capacity)?);
            }
        }
        found.clashes.extend(clashes_of(
            conn,
            &date,
            &span,
            change.room.as_deref(),
            change.hosts.as_deref(),
            change.margins,
        )?);
        found.dates.push(Moved { date, span, told });
    }
    Ok(form.wrong.is_empty().then_some((found, change)))
}

/// What a change of dates would touch; nothing is saved.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn what_it_touches(
    desk: &Desk,
    staff: &Staff,
    id: DateId,
    scope: Scope,
    mut form: Form,
) -> Result<Touches, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let (_, date) = events::date_by_id(conn, id)?.ok_or(DeskError::NotFound)?;
            match touches(conn, &date, scope, &mut form, now)? {
                Some((found, _)) => Ok(found),
                None => Err(DeskError::Form(form.wrong)),
            }
        })
        .await
}

/// Changes dates, and plans a message to everybody booked whose time or place changes.
///
/// # Errors
/// As [`what_it_touches`]; [`DeskError::OverFull`] unless that is accepted. Then nothing
/// is changed.
pub async fn change(
    desk: &Desk,
    staff: &Staff,
    id: DateId,
    scope: Scope,
    mut form: Form,
    accept_over_full: bool,
) -> Result<Touches, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let (now, who, host) = (desk.clock.now(), staff.name.clone(), desk.host().to_owned());
    let done = desk
        .store
        .write(move |tx| {
            let (event, date) = events::date_by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            let Some((found, change)) = touches(tx, &date, scope, &mut form, now)? else {
                return Err(DeskError::Form(form.wrong));
            };
            if !found.over.is_empty() && !accept_over_full {
                return Err(DeskError::OverFull(found.over));
            }
            for moved in &found.dates {
                apply(tx, moved, &change, now)?;
                if moved.told {
                    tell_moved(tx, moved, &host, &who, now)?;
                }
            }
            events::changed(tx, event.id, now)?;
            let n = found.dates.len();
            let what = if n == 1 { "changed a date".into() } else { format!("changed {n} dates") };
            log(tx, event.id, now, &who, &what)?;
            // More seats than before go to whoever waits, before anybody else sees them.
            for moved in &found.dates {
                crate::waiting::serve_date(tx, moved.date.id, now)?;
            }
            Ok(found)
        })
        .await?;
    desk.wake.notify_one();
    Ok(done)
}

fn apply(tx: &Tx<'_>, moved: &Moved, change: &Change, now: Timestamp) -> Result<(), DeskError> {
    let date = &moved.date;
    if moved.span != date.span {
        events::move_date(tx, date.id, &moved.span)?;
        events::move_sessions(tx, date.id, &date.span, &moved.span)?;
    }
    let venue = match &change.venue {
        Some(name) => places::venue_named(tx, name)?,
        None => date.venue_id,
    };
    let room = match &change.room {
        Some(name) => places::room_named(tx, venue, name)?,
        None if venue == date.venue_id => date.room_id,
        None => None,
    };
    events::change_date(tx, date.id, venue, room, change.margins.unwrap_or(date.margins))?;
    if let Some(hosts) = &change.hosts {
        let keys =
            hosts.iter().map(|h| places::host_named(tx, h)).collect::<Result<Vec<_>, _>>()?;
        events::set_hosts(tx, date.id, &keys)?;
    }
    for (pool, capacity) in pools_of(tx, date, now)?.iter().zip(&change.capacities) {
        if let Some(capacity) = capacity {
            events::set_capacity(tx, pool.id, *capacity)?;
        }
    }
    Ok(())
}

fn tell_moved(
    tx: &Tx<'_>,
    moved: &Moved,
    host: &str,
    who: &str,
    now: Timestamp,
) -> Result<(), DeskError> {
    let (old, new) = (&moved.date.span, &moved.span);
    let before = format!(
        "{}, {}",
        matricle_formats::words::long_span(old.starts, old.ends),
        moved.date.place()
    );
    let which = format!(" {} {}", moved.date.id, moved.date.sequence + 1);
    for booking in to_tell(tx, moved.date.id)? {
        let message_id = format!(
            "{}.moved.{}.{}@{host}",
            booking.reference.as_str().to_lowercase(),
            moved.date.id,
            moved.date.sequence + 1
        );
        let message = NewMessage {
            about: About::Booking(booking.id),
            kind: Kind::Moved,
            which: &which,
            address: &booking.email,
            message_id: &message_id,
            note: &before,
        };
        outbox::plan_noted(tx, &message, now)?;
        let what = if new == old {
            "moved the date to another place".into()
        } else {
            format!(
                "moved the date to {}",
                matricle_formats::words::long_span(new.starts, new.ends)
            )
        };
        bookings::happened(tx, booking.id, now, who, &what)?;
    }
    Ok(())
}

/// Whom calling off would reach.
#[derive(Debug, Clone)]
pub struct CallingOff {
    /// The event.
    pub event: Event,
    /// The dates.
    pub dates: Vec<Date>,
    /// Bookings that would be cancelled, or told that a date of theirs is off.
    pub bookings: Vec<Booking>,
}

fn calling_off(
    conn: &Connection,
    event: EventId,
    only: Option<DateId>,
    now: Timestamp,
) -> Result<CallingOff, DeskError> {
    let event = events::by_id(conn, event)?.ok_or(DeskError::NotFound)?;
    let dates: Vec<Date> = events::dates_of(conn, event.id)?
        .into_iter()
        .filter(|d| d.called_off.is_empty())
        .filter(|d| only.map_or(d.span.ends_at > now, |id| d.id == id))
        .collect();
    let mut bookings: Vec<Booking> = Vec::new();
    for date in &dates {
        for booking in bookings::live_on(conn, date.id)? {
            if !bookings.iter().any(|b| b.id == booking.id) {
                bookings.push(booking);
            }
        }
    }
    Ok(CallingOff { event, dates, bookings })
}

/// Whom calling off a date, or all that are to come, would reach.
///
/// # Errors
/// The role may not, there is no such event, or the store fails.
pub async fn before_calling_off(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    only: Option<DateId>,
) -> Result<CallingOff, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let now = desk.clock.now();
    desk.store.read(move |conn| calling_off(conn, event, only, now)).await
}

/// Calls a date off, or the whole event. Bookings of it are cancelled and everybody is
/// told; what was paid is to be given back in full. A course that loses one of its dates
/// goes on.
///
/// # Errors
/// [`DeskError::Form`] without a reason; the role may not.
pub async fn call_off(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    only: Option<DateId>,
    reason: String,
) -> Result<u32, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let mut form = Form::new(vec![("reason".into(), reason)]);
    let reason = form.needed("reason");
    form.done().map_err(DeskError::Form)?;
    let (now, who, host) = (desk.clock.now(), staff.name.clone(), desk.host().to_owned());
    let told = desk
        .store
        .write(move |tx| {
            let off = calling_off(tx, event, only, now)?;
            for date in &off.dates {
                events::call_off(tx, date.id, &reason)?;
            }
            let ends = only.is_none()
                || events::dates_of(tx, event)?.iter().all(|d| !d.called_off.is_empty());
            if ends {
                let mut changed = off.event.clone();
                changed.called_off.clone_from(&reason);
                events::set(tx, &changed, now)?;
                events::set_state(tx, event, EventState::CalledOff)?;
            } else {
                events::changed(tx, event, now)?;
            }
            let mut told = 0;
            for booking in &off.bookings {
                told += u32::from(tell_off(tx, &off, booking, ends, &reason, &who, &host, now)?);
            }
            let what = match (&off.dates[..], ends) {
                (_, true) => "called the event off".into(),
                ([date], _) => {
                    format!("called off {}", date.span.starts.strftime("%-d %B %Y"))
                }
                (many, _) => format!("called off {} dates", many.len()),
            };
            log(tx, event, now, &who, &format!("{what}: {reason}"))?;
            Ok::<_, DeskError>(told)
        })
        .await?;
    desk.wake.notify_one();
    Ok(told)
}

#[allow(clippy::too_many_arguments, reason = "one step of one act, split off to be read")]
fn tell_off(
    tx: &Tx<'_>,
    off: &CallingOff,
    booking: &Booking,
    ends: bool,
    reason: &str,
    who: &str,
    host: &str,
    now: Timestamp,
) -> Result<bool, DeskError> {
    let goes_on = !ends && off.event.course;
    if !goes_on {
        if booking.state == State::Held {
            bookings::set_state(tx, booking, next(booking.state, Move::Lapse)?, None, now)?;
            bookings::happened(tx, booking.id, now, PROGRAM, "the date was called off")?;
            crate::waiting::follow(tx, booking, Stands::Passed)?;
            return Ok(false);
        }
        let what = format!("called the date off: {reason}");
        crate::cancel::cancel_in(tx, booking, 100, who, &what, now)?;
    } else {
        let what = format!("called the date off: {reason}");
        bookings::happened(tx, booking.id, now, who, &what)?;
    }
    outbox::withdraw(tx, booking.id, Kind::Moved)?;
    if booking.email.is_empty() {
        return Ok(false);
    }
    let dates: Vec<String> = off.dates.iter().map(|d| d.id.to_string()).collect();
    let which = dates.join("-");
    let message_id = format!("{}.off.{which}@{host}", booking.reference.as_str().to_lowercase());
    let new = NewMessage {
        about: About::Booking(booking.id),
        kind: Kind::CalledOff,
        which: &format!(" {which}"),
        address: &booking.email,
        message_id: &message_id,
        note: reason,
    };
    outbox::plan_noted(tx, &new, now)?;
    Ok(true)
}

/// Removes a date that nobody ever booked.
///
/// # Errors
/// [`DeskError::Booked`] when somebody has; the role may not.
pub async fn remove(desk: &Desk, staff: &Staff, id: DateId) -> Result<EventId, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
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
            events::changed(tx, event.id, now)?;
            log(tx, event.id, now, &who, "removed a date nobody had booked")?;
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
    require(staff.role, Right::PlanEvents)?;
    let name = form.needed("pool_name");
    let capacity = form.count("pool_seats", 0, matricle_core::quick::MOST_SEATS);
    let (now, who) = (desk.clock.now(), staff.name.clone());
    desk.store
        .write(move |tx| {
            let kinds = events::pool_kinds(tx, event)?;
            if kinds.iter().any(|(_, n)| n.eq_ignore_ascii_case(&name)) {
                form.fault("pool_name", Fault::Taken);
            }
            form.done().map_err(DeskError::Form)?;
            events::add_pool_kind(tx, event, &name, capacity)?;
            log(tx, event, now, &who, &format!("added the pool {name}"))
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
