//! The board: rooms down, time across; and what clashes.

use std::collections::BTreeMap;

use jiff::civil::{Date as Day, Time};
use jiff::{SignedDuration, Timestamp, ToSpan};
use matricle_core::dates::clash::{Calendar, Resource, Use};
use matricle_core::dates::schedule::Span;
use matricle_core::people::staff::{Right, require};
use matricle_core::{DateId, EventId, RoomId, SessionId};
use matricle_formats::words;
use matricle_store::events::{self, Date, DateSummary, Event, NewDate, Sought};
use matricle_store::house::House;
use matricle_store::people::Staff;
use matricle_store::places::{self, Host, Room, Venue};
use matricle_store::{Connection, clashes, sessions};

use crate::{Clash, Desk, DeskError, house_of};

struct Names {
    rooms: BTreeMap<i64, String>,
    hosts: BTreeMap<i64, String>,
    venues: BTreeMap<i64, String>,
}

impl Names {
    fn load(conn: &Connection) -> Result<Self, DeskError> {
        Ok(Self {
            rooms: places::rooms(conn)?.into_iter().map(|r| (r.id.0, r.name)).collect(),
            hosts: places::hosts(conn)?.into_iter().map(|h| (h.id.0, h.name)).collect(),
            venues: places::venues(conn)?.into_iter().map(|v| (v.id.0, v.name)).collect(),
        })
    }

    fn of(&self, resource: &Resource) -> String {
        match resource {
            Resource::Room(id) => self.rooms.get(id).cloned().unwrap_or_default(),
            Resource::Venue(id) => self.venues.get(id).cloned().unwrap_or_default(),
            Resource::Host(id) => self.hosts.get(id).cloned().unwrap_or_default(),
            Resource::Equipment(name) => name.clone(),
        }
    }
}

fn named(
    conn: &Connection,
    names: &Names,
    mine: &Use,
    starts: jiff::civil::DateTime,
    known: bool,
    other: &Use,
) -> Result<Option<Clash>, DeskError> {
    let Some((event, date)) = events::date_by_id(conn, other.date)? else { return Ok(None) };
    // Sessions are named, since a day of talks has many.
    let talks = if other.session == 0 { Vec::new() } else { sessions::of_date(conn, date.id)? };
    let talk = talks.iter().find(|s| s.facts.id.0 == other.session);
    let span = talk.map_or(&date.span, |s| &s.span);
    let (starts_other, ends_other) = (span.starts, span.ends);
    let own = talks.iter().find(|s| mine.date == other.date && s.facts.id.0 == mine.session);
    let title = match (talk, own) {
        (Some(talk), Some(own)) => format!("{}” and “{}", own.title, talk.title),
        (Some(talk), None) => format!("{}: {}", event.title, talk.title),
        (None, _) => event.title.clone(),
    };
    Ok(Some(Clash {
        what: names.of(&mine.resource),
        mine: known.then_some(mine.date),
        starts,
        other: date.id,
        event: event.id,
        title,
        span: (starts_other, ends_other),
    }))
}

fn minutes(n: u32) -> SignedDuration {
    SignedDuration::from_mins(i64::from(n))
}

/// What a date at a venue takes up there: the room named, or all of a venue that has none.
fn taken_up(conn: &Connection, venue: &str, room: &str) -> Result<Option<Resource>, DeskError> {
    let Some(venue) = places::venues(conn)?.into_iter().find(|v| v.name == venue) else {
        return Ok(None);
    };
    let mut rooms = places::rooms(conn)?.into_iter().filter(|r| r.venue == venue.id).peekable();
    if rooms.peek().is_none() {
        return Ok(Some(Resource::Venue(venue.id.0)));
    }
    Ok(rooms.find(|r| r.name == room).map(|r| Resource::Room(r.id.0)))
}

/// The uses a date would have at other times, in another place, with other hosts.
fn uses_then(
    conn: &Connection,
    date: &Date,
    span: &Span,
    (venue, room): (Option<&str>, Option<&str>),
    hosts: Option<&[String]>,
    margins: Option<(u32, u32)>,
) -> Result<Vec<Use>, DeskError> {
    let own = clashes::uses(
        conn,
        date.span.starts_at - minutes(date.margins.0),
        date.span.ends_at + minutes(date.margins.1),
    )?;
    let margins = margins.unwrap_or(date.margins);
    let whole = (span.starts_at - minutes(margins.0), span.ends_at + minutes(margins.1));
    let by = span.starts_at.duration_since(date.span.starts_at);
    let mut then: Vec<Use> = own
        .into_iter()
        .filter(|u| u.date == date.id)
        .map(|u| {
            // The date itself takes the new times; its sessions move along.
            let (from, until) = if u.session == 0 { whole } else { (u.from + by, u.until + by) };
            Use { from, until, ..u }
        })
        .collect();
    let one = |resource| Use { resource, from: whole.0, until: whole.1, date: date.id, session: 0 };
    let there = venue.unwrap_or(&date.venue);
    // A date that goes to another venue leaves its room behind.
    let kept = if there == date.venue { date.room.as_str() } else { "" };
    let then_in = room.unwrap_or(kept);
    if (there, then_in) != (date.venue.as_str(), date.room.as_str()) {
        then.retain(|u| {
            u.resource != Resource::Venue(date.venue_id.0)
                && date.room_id.is_none_or(|r| u.resource != Resource::Room(r.0))
        });
        then.extend(taken_up(conn, there, then_in)?.map(one));
    }
    if let Some(names) = hosts {
        then.retain(|u| !matches!(u.resource, Resource::Host(_)));
        let known = places::hosts(conn)?;
        for name in names {
            let host = known.iter().find(|h| h.name.eq_ignore_ascii_case(name));
            then.extend(host.map(|h| one(Resource::Host(h.id.0))));
        }
    }
    Ok(then)
}

fn against(
    conn: &Connection,
    mine: &[Use],
    starts: jiff::civil::DateTime,
    known: bool,
    names: &mut Option<Names>,
) -> Result<Vec<Clash>, DeskError> {
    let (Some(from), Some(until)) =
        (mine.iter().map(|u| u.from).min(), mine.iter().map(|u| u.until).max())
    else {
        return Ok(Vec::new());
    };
    let things: Vec<&Resource> = mine.iter().map(|u| &u.resource).collect();
    let calendar = Calendar::new(clashes::uses_of(conn, from, until, &things)?);
    let mut found: Vec<Clash> = Vec::new();
    for u in mine {
        // Two sessions of one date are told of once.
        let once = |o: &&Use| o.date != u.date || o.session > u.session;
        for other in calendar.clashes(u).into_iter().filter(once) {
            let names = match &mut *names {
                Some(names) => names,
                None => names.insert(Names::load(conn)?),
            };
            if let Some(clash) = named(conn, names, u, starts, known, other)?
                && !found.contains(&clash)
            {
                found.push(clash);
            }
        }
    }
    Ok(found)
}

/// What a date would clash with, changed like this.
pub(crate) fn clashes_of(
    conn: &Connection,
    date: &Date,
    span: &Span,
    place: (Option<&str>, Option<&str>),
    hosts: Option<&[String]>,
    margins: Option<(u32, u32)>,
) -> Result<Vec<Clash>, DeskError> {
    if !date.called_off.is_empty() {
        return Ok(Vec::new());
    }
    let mut found = against(
        conn,
        &uses_then(conn, date, span, place, hosts, margins)?,
        span.starts,
        true,
        &mut None,
    )?;
    found.extend(twice(conn, date.event, Some(date.id), span)?);
    Ok(found)
}

/// Another date of the same event that begins at the very same time.
fn twice(
    conn: &Connection,
    event: EventId,
    but: Option<DateId>,
    span: &Span,
) -> Result<Option<Clash>, DeskError> {
    let same = events::that_begins(conn, event, span.starts_at, but.unwrap_or(DateId(0)))?;
    let same = same.map(|id| events::date_by_id(conn, id)).transpose()?.flatten();
    let Some((Event { title, .. }, same)) = same else { return Ok(None) };
    Ok(Some(Clash {
        what: "the same event".into(),
        mine: but,
        starts: span.starts,
        other: same.id,
        event,
        title,
        span: (same.span.starts, same.span.ends),
    }))
}

/// What one session of a date clashes with, as it stands.
pub(crate) fn clashes_of_session(
    conn: &Connection,
    date: &Date,
    session: SessionId,
) -> Result<Vec<Clash>, DeskError> {
    let Some(found) = sessions::of_date(conn, date.id)?.into_iter().find(|s| s.facts.id == session)
    else {
        return Ok(Vec::new());
    };
    let uses = clashes::uses(conn, found.facts.from, found.facts.until)?;
    let mine: Vec<Use> = uses.iter().filter(|u| u.session == session.0).cloned().collect();
    let (calendar, names) = (Calendar::new(uses), Names::load(conn)?);
    let mut clashes = Vec::new();
    for u in &mine {
        for other in calendar.clashes(u) {
            clashes.extend(named(conn, &names, u, found.span.starts, true, other)?);
        }
    }
    Ok(clashes)
}

/// What dates that are not written down yet would clash with.
pub(crate) fn clashes_of_new(
    conn: &Connection,
    event: EventId,
    dates: &[NewDate],
) -> Result<Vec<Clash>, DeskError> {
    let hosts = places::hosts(conn)?;
    let (mut found, mut names) = (Vec::new(), None);
    let mut places: BTreeMap<(&str, &str), Option<Resource>> = BTreeMap::new();
    for date in dates {
        let (from, until) = (
            date.span.starts_at - minutes(date.margins.0),
            date.span.ends_at + minutes(date.margins.1),
        );
        let one = |resource| Use { resource, from, until, date: DateId(0), session: 0 };
        // The dates of a run are in one place: it is looked up once.
        let at = (date.venue.as_str(), date.room.as_str());
        let place = match places.get(&at) {
            Some(known) => known.clone(),
            None => places.entry(at).or_insert(taken_up(conn, at.0, at.1)?).clone(),
        };
        let mut mine: Vec<Use> = place.map(one).into_iter().collect();
        for name in &date.hosts {
            let host = hosts.iter().find(|h| h.name.eq_ignore_ascii_case(name));
            mine.extend(host.map(|h| one(Resource::Host(h.id.0))));
        }
        found.extend(against(conn, &mine, date.span.starts, false, &mut names)?);
        found.extend(twice(conn, event, None, &date.span)?);
    }
    Ok(found)
}

/// Ways out of a clash.
#[derive(Debug, Clone, Default)]
pub struct Instead {
    /// The next free starts, local, at the same length.
    pub times: Vec<jiff::civil::DateTime>,
    /// Rooms that are free then and seat as many.
    pub rooms: Vec<String>,
}

/// The next free times and other rooms for a date, were it at `span`.
pub(crate) fn instead(conn: &Connection, date: &Date, span: &Span) -> Result<Instead, DeskError> {
    let mine = uses_then(conn, date, span, (None, None), None, None)?;
    let day = SignedDuration::from_hours(24);
    let calendar =
        Calendar::new(clashes::uses(conn, span.starts_at - day, span.ends_at + day * 22)?);
    let free = |by: SignedDuration| {
        mine.iter().all(|u| {
            let moved = Use { from: u.from + by, until: u.until + by, ..u.clone() };
            calendar.clashes(&moved).is_empty()
        })
    };
    let later_today =
        (1..=24).map(|half_hours| span.starts.saturating_add((half_hours * 30).minutes()));
    let later_today: Vec<_> = later_today
        .take_while(|s| s.date() == span.starts.date() && s.time() <= Time::constant(21, 0, 0, 0))
        .collect();
    let other_days = (1..=21).map(|n| span.starts.saturating_add(n.days()));
    let fits = |starts: &jiff::civil::DateTime| {
        let length = span.ends.since(span.starts).unwrap_or_default();
        Span::new(*starts, starts.saturating_add(length), &span.zone)
            .is_ok_and(|s| free(s.starts_at.duration_since(span.starts_at)))
    };
    let mut times: Vec<_> = later_today.into_iter().filter(fits).take(1).collect();
    times.extend(other_days.filter(fits).take(3));
    let needs: u32 =
        events::pools(conn, date.id, span.starts_at)?.first().map_or(0, |p| p.capacity);
    let rooms = places::rooms(conn)?
        .into_iter()
        .filter(|r| {
            r.retired_at.is_none() && Some(r.id) != date.room_id && r.venue == date.venue_id
        })
        .filter(|r| r.seats.is_none_or(|s| s >= needs))
        .filter(|r| {
            let there = Use {
                resource: Resource::Room(r.id.0),
                from: span.starts_at - minutes(date.margins.0),
                until: span.ends_at + minutes(date.margins.1),
                date: date.id,
                session: 0,
            };
            calendar.clashes(&there).is_empty()
        })
        .map(|r| r.name)
        .collect();
    Ok(Instead { times, rooms })
}

/// The clashes of the dates of an event that are to come, with ways out of each date's.
pub(crate) fn of_event(
    conn: &Connection,
    dates: &[Date],
    now: Timestamp,
) -> Result<Vec<(Vec<Clash>, Instead)>, DeskError> {
    let mut found = Vec::new();
    for date in dates.iter().filter(|d| d.span.ends_at > now) {
        let clashes = clashes_of(conn, date, &date.span, (None, None), None, None)?;
        if !clashes.is_empty() {
            found.push((clashes, instead(conn, date, &date.span)?));
        }
    }
    Ok(found)
}

matricle_core::worded! {
    /// How much time the board shows.
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum Reach {
        /// A day.
        Day = "day",
        /// A week, Monday first.
        Week = "week",
        /// A month.
        Month = "month",
    }
}

impl Reach {
    /// The first day it shows, and the day after the last.
    #[must_use]
    pub fn days(self, around: Day) -> (Day, Day) {
        match self {
            Self::Day => (around, around.saturating_add(1.day())),
            Self::Week => {
                let back = i64::from(around.weekday().to_monday_zero_offset());
                let first = around.saturating_sub(back.days());
                (first, first.saturating_add(7.days()))
            }
            Self::Month => {
                let first = around.first_of_month();
                (first, first.saturating_add(1.month()))
            }
        }
    }
}

/// A lane of the board: a room, or a venue without one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lane {
    /// The venue.
    pub venue: String,
    /// The room; empty for the whole venue.
    pub room: String,
    /// Seats of the room, if somebody counted.
    pub seats: Option<u32>,
}

/// What the board shows.
#[derive(Debug, Clone)]
pub struct Board {
    /// The house.
    pub house: House,
    /// The first day, and the day after the last.
    pub days: (Day, Day),
    /// Its lanes.
    pub lanes: Vec<Lane>,
    /// Its dates.
    pub dates: Vec<DateSummary>,
    /// Pairs of dates that clash, and over what.
    pub clashes: Vec<(DateId, DateId, String)>,
    /// Whoever looks may move dates.
    pub may_move: bool,
}

/// The board around a day.
pub async fn board(
    desk: &Desk,
    staff: &Staff,
    reach: Reach,
    around: Option<Day>,
) -> Result<Board, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let (now, may_move) = (desk.clock.now(), staff.role.may(Right::PlanEvents));
    desk.store
        .read(move |conn| {
            let house = house_of(conn)?;
            let today = words::local(now, &house.zone).date();
            let days = reach.days(around.unwrap_or(today));
            Ok(Board { may_move, ..read_board(conn, house, days, now)? })
        })
        .await
}

/// [`board`], on a connection: what it costs is measured.
pub fn read_board(
    conn: &Connection,
    house: House,
    days: (Day, Day),
    now: Timestamp,
) -> Result<Board, DeskError> {
    let zone = words::zone(&house.zone);
    let midnight = |day: Day| day.to_zoned_datetime(zone.clone()).map_or(now, |z| z.timestamp());
    let between = (midnight(days.0), midnight(days.1));
    let asked = Sought { staff: true, between: Some(between), most: 2000, ..Sought::default() };
    let dates: Vec<DateSummary> = events::list(conn, &asked, now)?.dates;
    let calendar = Calendar::new(clashes::uses(conn, between.0, between.1)?);
    let names = Names::load(conn)?;
    let clashes = calendar
        .pairs()
        .into_iter()
        .map(|(a, b)| (a.date, b.date, names.of(&a.resource)))
        .collect();
    let venues: Vec<Venue> = places::venues(conn)?;
    let rooms: Vec<Room> = places::rooms(conn)?;
    let mut lanes: Vec<Lane> = Vec::new();
    for venue in &venues {
        let of_venue: Vec<&Room> = rooms.iter().filter(|r| r.venue == venue.id).collect();
        let used = |room: Option<RoomId>| {
            dates.iter().any(|d| d.date.venue_id == venue.id && d.date.room_id == room)
        };
        for room in of_venue {
            if room.retired_at.is_none() || used(Some(room.id)) {
                lanes.push(Lane {
                    venue: venue.name.clone(),
                    room: room.name.clone(),
                    seats: room.seats,
                });
            }
        }
        if used(None) || (venue.retired_at.is_none() && !rooms.iter().any(|r| r.venue == venue.id))
        {
            lanes.push(Lane { venue: venue.name.clone(), room: String::new(), seats: None });
        }
    }
    Ok(Board { house, days, lanes, dates, clashes, may_move: false })
}

/// Hosts, rooms and venues that are offered for new dates.
#[derive(Debug, Clone)]
pub struct Offered {
    /// Venues.
    pub venues: Vec<Venue>,
    /// Rooms.
    pub rooms: Vec<Room>,
    /// Hosts.
    pub hosts: Vec<Host>,
}

impl Offered {
    /// Places on one line as dates name them, with venue and room: each venue, then each
    /// of its rooms.
    #[must_use]
    pub fn places(&self) -> Vec<(String, &str, &str)> {
        let rooms = |v: &Venue| {
            let (id, venue) = (v.id, v.name.clone());
            self.rooms
                .iter()
                .filter(move |r| r.venue == id)
                .map(move |r| (format!("{venue}, {}", r.name), r.name.as_str()))
        };
        self.venues
            .iter()
            .flat_map(|v| {
                std::iter::once((v.name.clone(), v.name.as_str(), ""))
                    .chain(rooms(v).map(|(line, room)| (line, v.name.as_str(), room)))
            })
            .collect()
    }
}

pub(crate) fn offered(conn: &Connection) -> Result<Offered, DeskError> {
    let mut offered = Offered {
        venues: places::venues(conn)?,
        rooms: places::rooms(conn)?,
        hosts: places::hosts(conn)?,
    };
    offered.venues.retain(|v| v.retired_at.is_none());
    offered.rooms.retain(|r| r.retired_at.is_none());
    offered.hosts.retain(|h| h.retired_at.is_none());
    Ok(offered)
}
