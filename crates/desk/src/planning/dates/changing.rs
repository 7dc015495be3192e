//! A date is changed, by itself or with those after it; what that touches is seen first.

use jiff::civil::Time;
use jiff::{Timestamp, ToSpan};
use matricle_core::DateId;
use matricle_core::dates::schedule::{Span, SpanError};
use matricle_core::forms::form::{Fault, Form};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::people::staff::{Right, require};
use matricle_store::bookings::{self, Booking};
use matricle_store::events::{self, Date};
use matricle_store::outbox;
use matricle_store::people::Staff;
use matricle_store::{Connection, Tx, places};

use super::{CLEARUP, DAY, FROM, HOSTS, POOL, ROOM, SETUP, UNTIL, VENUE, log, margins, span_of};
use crate::acting::Turn;
use crate::planning::board::clashes_of;
use crate::telling::{tell, tell_of_date};
use crate::{Clash, Desk, DeskError, TooSmall};

matricle_core::worded! {
    /// Which dates a change reaches.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
    pub enum Scope {
        /// This one.
        #[default]
        One = "one",
        /// This one and those after it.
        Later = "later",
        /// All that are still to come.
        All = "all",
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
    /// Bookings of those who gave no address, and are rung up.
    pub to_ring: u32,
    /// Messages that have not gone out and would carry the new time.
    pub messages: u32,
    /// Pools that would be over-full.
    pub over: Vec<TooSmall>,
    /// Seats asked for, and fewer that the room has.
    pub capped: Vec<(u32, u32)>,
    /// So many of them have bookings and would be over already.
    pub past: u32,
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
    let given = |form: &Form, field: &str| form.has(field);
    let day = given(form, DAY.name).then(|| form.take(&DAY)).flatten();
    let from = given(form, FROM.name).then(|| form.take(&FROM)).flatten();
    let until = given(form, UNTIL.name).then(|| form.take(&UNTIL)).flatten();
    let day_shift =
        day.map_or(0, |d| d.since(date.span.starts.date()).map_or(0, |span| span.get_days()));
    let times = from.zip(until);
    if let Some((from, until)) = times
        && from == until
    {
        form.fault(UNTIL, Fault::EndsFirst);
    }
    let venue = given(form, VENUE.name).then(|| form.take(&VENUE));
    let room = given(form, ROOM.name).then(|| form.take(&ROOM));
    let hosts = given(form, HOSTS.name).then(|| form.take(&HOSTS));
    let margins = (given(form, SETUP.name) || given(form, CLEARUP.name)).then(|| margins(form));
    let kinds = events::pool_kinds(conn, date.event)?;
    let capacities = (0..kinds.len()).map(|i| form.take_at(&POOL, i)).collect();
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

/// The bookings that keep seats on a date and have a booker to tell, by mail or by telephone.
fn to_tell(conn: &Connection, date: DateId) -> Result<Vec<Booking>, DeskError> {
    Ok(bookings::live_on(conn, date)?.into_iter().filter(Booking::is_told).collect())
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
        to_ring: 0,
        messages: 0,
        over: Vec::new(),
        capped: Vec::new(),
        past: 0,
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
                form.fault(UNTIL, Fault::EndsFirst);
                continue;
            }
        };
        let elsewhere = change.venue.as_ref().is_some_and(|v| *v != date.venue)
            || change.room.as_ref().is_some_and(|r| *r != date.room);
        let told = elsewhere || span != date.span;
        if told {
            let booked = to_tell(conn, date.id)?;
            let is_past = span != date.span && span.ends_at <= now;
            found.past += u32::from(is_past && !booked.is_empty());
            for booking in booked {
                found.bookings += 1;
                found.to_ring += u32::from(booking.email.is_empty());
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
            (change.venue.as_deref(), change.room.as_deref()),
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
/// As [`what_it_touches`]; [`DeskError::IntoPast`] where people have booked what would be over,
/// unless `past` is ticked; [`DeskError::OverFull`] unless that is accepted. Then nothing
/// is changed.
pub async fn change(
    desk: &Desk,
    staff: &Staff,
    id: DateId,
    scope: Scope,
    mut form: Form,
    accept_over_full: bool,
) -> Result<Touches, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let now = turn.now;
    let done = desk
        .store
        .write(move |tx| {
            let (event, date) = events::date_by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            let Some((found, change)) = touches(tx, &date, scope, &mut form, now)? else {
                return Err(DeskError::Form(form.wrong));
            };
            if found.past > 0 && !form.ticked("past") {
                return Err(DeskError::IntoPast);
            }
            if !found.over.is_empty() && !accept_over_full {
                return Err(DeskError::OverFull(found.over));
            }
            for moved in &found.dates {
                apply(tx, moved, &change, now)?;
                if moved.told {
                    tell_moved(tx, moved, &turn)?;
                }
            }
            events::index(tx, event.id)?;
            let n = found.dates.len();
            let what = if n == 1 { "changed a date".into() } else { format!("changed {n} dates") };
            log(tx, event.id, &turn, &what)?;
            // More seats than before go to whoever waits, before anybody else sees them.
            for moved in &found.dates {
                crate::bookings::serving::serve_date(tx, moved.date.id, now)?;
            }
            Ok(found)
        })
        .await?;
    desk.wake.all();
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
    let told = |d: &Date| (d.span.clone(), d.place(), d.hosts.clone());
    if let Some((_, new)) = events::date_by_id(tx, date.id)?
        && told(&new) != told(date)
    {
        events::date_changed(tx, date.id, now)?;
    }
    for (pool, capacity) in pools_of(tx, date, now)?.iter().zip(&change.capacities) {
        if let Some(capacity) = capacity {
            events::set_capacity(tx, pool.id, *capacity)?;
        }
    }
    Ok(())
}

/// Brings a date to another time, place and hosts, and tells everybody booked of what changes for
/// them.
pub(crate) fn bring_to(
    tx: &Tx<'_>,
    date: &Date,
    span: Span,
    (venue, room): (&str, &str),
    hosts: &[String],
    turn: &Turn,
) -> Result<(), DeskError> {
    let told = span != date.span || venue != date.venue || room != date.room;
    let moved = Moved { date: date.clone(), span, told };
    let change = Change {
        day_shift: 0,
        times: None,
        venue: Some(venue.to_owned()),
        room: Some(room.to_owned()),
        hosts: Some(hosts.to_vec()),
        margins: None,
        capacities: Vec::new(),
    };
    apply(tx, &moved, &change, turn.now)?;
    if told { tell_moved(tx, &moved, turn) } else { Ok(()) }
}

fn tell_moved(tx: &Tx<'_>, moved: &Moved, turn: &Turn) -> Result<(), DeskError> {
    let (old, new) = (&moved.date.span, &moved.span);
    let knows = Knows {
        date: Some(moved.date.id),
        before: Some((old.starts, old.ends)),
        place_before: moved.date.place(),
        ..Knows::default()
    };
    if let Some((event, _)) = events::date_by_id(tx, moved.date.id)? {
        tell_of_date(tx, (event.id, moved.date.id), Occasion::Moved, &knows, turn)?;
    }
    for booking in to_tell(tx, moved.date.id)? {
        tell(tx, &booking, Occasion::Moved, &knows, turn)?;
        let what = if new == old {
            "moved the date to another place".into()
        } else {
            format!(
                "moved the date to {}",
                matricle_formats::words::long_span(new.starts, new.ends)
            )
        };
        bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
    }
    Ok(())
}
