//! What the Programme shows.

use std::collections::HashMap;

use jiff::civil::Date as Day;
use jiff::{Timestamp, ToSpan};
use matricle_core::booking::State;
use matricle_core::booking::details::Question;
use matricle_core::messages::cue::NOTICE_DAYS;
use matricle_core::review::rules::WhoMay;
use matricle_core::words::fold;
use matricle_core::words::marks::Mark;
use matricle_core::words::search::alternatives;
use matricle_core::{DateId, HostId, RoomId, VenueId};
use matricle_formats::words;
use matricle_store::Connection;
use matricle_store::bookings::{self, Which};
use matricle_store::events::{
    self, Choices, Date, DateSummary, Event, EventState, Format, Found, Picture, Sought,
};
use matricle_store::house::{self, House};
use matricle_store::outbox::{self, Notice};
use matricle_store::places::{self, Tag, Venue};
use matricle_store::sessions::{self, Session};
use matricle_store::submissions;

use crate::{Desk, DeskError, house_of};

/// Dates on one page of the catalogue.
pub const A_PAGE: u32 = 20;

/// What somebody looks for in the catalogue.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Wish {
    /// Words, perhaps mistyped.
    pub words: String,
    /// A tag, by its slug.
    pub tag: String,
    /// Only this month, named by any day of it.
    pub month: Option<Day>,
    /// Only at this venue.
    pub venue: Option<VenueId>,
    /// Only in this room.
    pub room: Option<RoomId>,
    /// Only with this host.
    pub host: Option<HostId>,
    /// Only in person, or online.
    pub format: Option<Format>,
    /// Only with seats left.
    pub with_seats: bool,
    /// Every date of a course and of slots, not only the next.
    pub every_date: bool,
    /// Pages to turn.
    pub page: u32,
}

/// The catalogue.
#[derive(Debug, Clone)]
pub struct Catalogue {
    /// The house.
    pub house: House,
    /// Dates, soonest first.
    pub found: Found,
    /// Tags that are in use.
    pub tags: Vec<Tag>,
    /// Venues that are in use.
    pub venues: Vec<Venue>,
    /// Months with dates, and how many.
    pub months: Vec<(Day, u32)>,
    /// Kinds of events that the house has given a mark.
    pub marks: Vec<(String, Mark)>,
    /// Events are submitted here, by whomever the house rules let.
    pub submits: bool,
}

impl Catalogue {
    /// The mark of a kind, if it has one.
    #[must_use]
    pub fn mark_of(&self, kind: &str) -> Option<Mark> {
        self.marks.iter().find(|(k, _)| k == kind).map(|(_, mark)| *mark)
    }
}

/// From the first midnight of a month, or from now, to the first of the next.
fn month_of(month: Day, zone: &str, now: Timestamp) -> (Timestamp, Timestamp) {
    let zone = words::zone(zone);
    let at = |day: Day| day.to_zoned_datetime(zone.clone()).map_or(now, |z| z.timestamp());
    let first = month.first_of_month();
    (at(first), at(first.saturating_add(1.month())))
}

/// Looks dates up for a wish, on a connection: what it costs is measured.
pub fn find(
    conn: &Connection,
    house: &House,
    wish: &Wish,
    most: u32,
    now: Timestamp,
) -> Result<Found, DeskError> {
    let typed = fold(&wish.words);
    let typed: Vec<&str> = typed.split(' ').filter(|w| !w.is_empty()).collect();
    let vocabulary = if typed.is_empty() { Vec::new() } else { events::vocabulary(conn)? };
    let asked = Sought {
        words: typed.iter().map(|w| alternatives(w, &vocabulary)).collect(),
        tag: (!wish.tag.is_empty()).then(|| wish.tag.clone()),
        between: wish.month.map(|m| month_of(m, &house.zone, now)),
        venue: wish.venue,
        room: wish.room,
        host: wish.host,
        format: wish.format,
        with_seats: wish.with_seats,
        collapsed: !wish.every_date,
        skip: wish.page.saturating_mul(most),
        most,
        ..Sought::default()
    };
    Ok(events::list(conn, &asked, now)?)
}

/// Coming dates of published events for a wish, soonest first.
pub async fn catalogue(desk: &Desk, wish: Wish, most: u32) -> Result<Catalogue, DeskError> {
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let house = house_of(conn)?;
            let mut tags = places::tags(conn)?;
            tags.retain(|t| t.retired_at.is_none());
            let mut venues = places::venues(conn)?;
            venues.retain(|v| v.retired_at.is_none());
            Ok(Catalogue {
                found: find(conn, &house, &wish, most, now)?,
                tags,
                venues,
                months: events::months(conn, now)?,
                marks: house::kinds(conn)?
                    .into_iter()
                    .filter_map(|(kind, mark)| Some((kind, mark?)))
                    .collect(),
                submits: submissions::rules(conn)?.who != WhoMay::Nobody,
                house,
            })
        })
        .await
}

/// The slots of one week.
#[derive(Debug, Clone)]
pub struct Week {
    /// Its Monday.
    pub monday: Day,
    /// Its slots that are still to come, with whether each may be booked now.
    pub slots: Vec<(DateSummary, bool)>,
    /// Whether there are slots before and after it.
    pub around: (bool, bool),
}

/// An event with its coming dates.
#[derive(Debug, Clone)]
pub struct EventPage {
    /// The house.
    pub house: House,
    /// The event.
    pub event: Event,
    /// Dates that are not over, soonest first; may be empty. Of a course the next one
    /// stands for all, of slots only the chosen one is here.
    pub dates: Vec<Choices>,
    /// Dates of a course, those that are over as well.
    pub course: Vec<Date>,
    /// Coming dates that were called off.
    pub off: Vec<Date>,
    /// Questions asked while booking.
    pub questions: Vec<Question>,
    /// Its tags: slugs and names.
    pub tags: Vec<(String, String)>,
    /// Its picture.
    pub picture: Option<Picture>,
    /// Sessions of its dates that have some.
    pub sessions: Vec<(DateId, Vec<Session>)>,
    /// A week of its slots, if it has slots.
    pub week: Option<Week>,
    /// Notices that are up, the latest first.
    pub notices: Vec<Notice>,
    /// It is a draft, shown by a link for looking at it beforehand.
    pub preview: bool,
}

/// When a notice that is up still was put up at the earliest.
fn notices_since(now: Timestamp) -> Timestamp {
    now - jiff::SignedDuration::from_hours(24 * NOTICE_DAYS)
}

/// How an event's page is asked for.
#[derive(Debug, Clone, Default)]
pub struct Looking {
    /// The event's address, or one it had before.
    pub slug: String,
    /// A date of it.
    pub date: Option<DateId>,
    /// The week of slots to show, by any day of it.
    pub week: Option<Day>,
    /// The key of its preview.
    pub preview: String,
}

/// An event by its address. One that moved says so by its own `slug`.
///
/// # Errors
/// [`DeskError::NotFound`], also for a draft without the key of its preview.
pub async fn event(desk: &Desk, looking: Looking) -> Result<EventPage, DeskError> {
    let (now, secrets) = (desk.clock.now(), desk.secrets.clone());
    desk.store
        .read(move |conn| {
            let house = house_of(conn)?;
            let event = events::by_slug(conn, &looking.slug)?.ok_or(DeskError::NotFound)?;
            let preview = event.state == EventState::Draft;
            if preview && !secrets.opens_preview(event.id, &looking.preview) {
                return Err(DeskError::NotFound);
            }
            read_event(conn, house, event, &looking, preview, now)
        })
        .await
}

fn read_event(
    conn: &Connection,
    house: House,
    event: Event,
    looking: &Looking,
    preview: bool,
    now: Timestamp,
) -> Result<EventPage, DeskError> {
    // Whoever comes for a slot sees the week that it is in.
    let wished = match (looking.week, looking.date) {
        (None, Some(id)) => events::date_by_id(conn, id)?
            .filter(|(e, d)| e.id == event.id && d.span.starts_at > now)
            .map(|(_, d)| d.span.starts.date()),
        (week, _) => week,
    };
    let week = week_of(conn, &house, &event, wished, now)?;
    let all = if week.is_some() { Vec::new() } else { events::dates_of(conn, event.id)? };
    let coming = |d: &&Date| d.span.ends_at > now;
    let off: Vec<Date> =
        all.iter().filter(coming).filter(|d| !d.called_off.is_empty()).cloned().collect();
    let on: Vec<&Date> = all.iter().filter(coming).filter(|d| d.called_off.is_empty()).collect();
    let mut dates = Vec::new();
    if let Some(week) = &week {
        let chosen = looking.date.filter(|id| week.slots.iter().any(|(s, _)| s.date.id == *id));
        if let Some(id) = chosen {
            dates.extend(events::choices(conn, house.currency, id, now)?);
        }
    } else if event.course {
        if let Some(next) = on.first() {
            dates.extend(events::choices(conn, house.currency, next.id, now)?);
        }
    } else {
        for date in &on {
            dates.extend(events::choices(conn, house.currency, date.id, now)?);
        }
    }
    let mut with_sessions = Vec::new();
    for date in &on {
        let sessions = sessions::of_date(conn, date.id)?;
        if !sessions.is_empty() {
            with_sessions.push((date.id, sessions));
        }
    }
    Ok(EventPage {
        dates,
        course: if event.course { all } else { Vec::new() },
        off,
        questions: events::questions(conn, event.id)?,
        tags: events::tags_of(conn, event.id)?,
        picture: events::picture(conn, event.id)?,
        sessions: with_sessions,
        week,
        notices: outbox::notices(conn, event.id, notices_since(now), now)?,
        preview,
        house,
        event,
    })
}

fn week_of(
    conn: &Connection,
    house: &House,
    event: &Event,
    asked: Option<Day>,
    now: Timestamp,
) -> Result<Option<Week>, DeskError> {
    let Some(plan) = matricle_store::slots::plan_of(conn, event.id)? else { return Ok(None) };
    let notice = matricle_core::dates::slots::Notice {
        hours: plan.notice_hours,
        days_ahead: plan.ahead_days,
    };
    let search = |between, with_seats, most| {
        let asked = Sought {
            staff: true,
            event: Some(event.id),
            between,
            with_seats,
            most,
            ..Sought::default()
        };
        events::list(conn, &asked, now)
    };
    let today = words::local(now, &house.zone).date();
    // Without a wish: the first week in which something can be booked.
    let day = match asked {
        Some(day) => day,
        None => search(None, true, 60)?
            .dates
            .iter()
            .find(|d| notice.allows(d.date.span.starts_at, now))
            .map_or(today, |d| d.date.span.starts.date()),
    };
    let monday = day.saturating_sub(i64::from(day.weekday().to_monday_zero_offset()).days());
    let zone = words::zone(&house.zone);
    let at = |day: Day| day.to_zoned_datetime(zone.clone()).map_or(now, |z| z.timestamp());
    let (from, until) = (at(monday), at(monday.saturating_add(7.days())));
    let slots = search(Some((from.max(now), until.max(now))), false, 500)?
        .dates
        .into_iter()
        .filter(|d| d.date.span.starts_at > now && d.date.called_off.is_empty())
        .map(|d| {
            let open = d.pool.free() > 0 && notice.allows(d.date.span.starts_at, now);
            (d, open)
        })
        .collect();
    let after = search(Some((until.max(now), Timestamp::MAX)), false, 1)?;
    Ok(Some(Week { monday, slots, around: (from > now, !after.dates.is_empty()) }))
}

/// What a feed is about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Feed {
    /// Everything that is listed.
    All,
    /// A tag, by its slug.
    Tag(String),
    /// An event, by its address; listed or not.
    Event(String),
    /// One date of a listed event: a number is no secret.
    Date(DateId),
    /// A host, by a secret address.
    Host(HostId, String),
    /// A room.
    Room(RoomId),
}

/// The dates of a feed.
#[derive(Debug, Clone)]
pub struct Fed {
    /// The house.
    pub house: House,
    /// What the feed is called.
    pub name: String,
    /// Its dates, called-off ones among them, with tags and picture.
    pub dates: Vec<(DateSummary, Vec<String>, Option<i64>)>,
    /// Notices that are up; of everything only.
    pub notices: Vec<Notice>,
    /// Who comes to each of the dates, by name, where it is a host's and the house lets it say so.
    pub names: HashMap<DateId, Vec<String>>,
}

/// The dates of a feed, from two months ago on.
///
/// # Errors
/// [`DeskError::NotFound`] for a tag, event, date or room there is none of, and for a
/// host without the secret part of the address.
pub async fn feed(desk: &Desk, feed: Feed) -> Result<Fed, DeskError> {
    let (now, secrets) = (desk.clock.now(), desk.secrets.clone());
    desk.store
        .read(move |conn| {
            let house = house_of(conn)?;
            let since = now - jiff::SignedDuration::from_hours(24 * 60);
            let mut asked = Sought {
                off: true,
                between: Some((since, Timestamp::MAX)),
                most: 3000,
                ..Sought::default()
            };
            let mut only = None;
            let missing = || DeskError::NotFound;
            let name = match &feed {
                Feed::All => house.name.clone(),
                Feed::Tag(slug) => {
                    asked.tag = Some(slug.clone());
                    let tag = places::tags(conn)?.into_iter().find(|t| t.slug == *slug);
                    format!("{}: {}", house.name, tag.ok_or_else(missing)?.name)
                }
                Feed::Event(slug) => {
                    let event = events::by_slug(conn, slug)?.ok_or_else(missing)?;
                    if event.state == EventState::Draft {
                        return Err(missing());
                    }
                    (asked.event, asked.unlisted) = (Some(event.id), true);
                    event.title
                }
                Feed::Date(id) => {
                    let (event, date) = events::date_by_id(conn, *id)?.ok_or_else(missing)?;
                    if event.state == EventState::Draft || !event.listed {
                        return Err(missing());
                    }
                    asked.event = Some(event.id);
                    asked.between = Some((date.span.starts_at, date.span.ends_at));
                    only = Some(*id);
                    event.title
                }
                Feed::Host(id, key) => {
                    if !secrets.opens_feed(*id, key) {
                        return Err(missing());
                    }
                    (asked.host, asked.unlisted) = (Some(*id), true);
                    // Whoever leads nothing any more reads no names any more.
                    let host = places::hosts(conn)?.into_iter().find(|h| h.id == *id);
                    let host = host.filter(|h| h.retired_at.is_none());
                    format!("{}: {}", house.name, host.ok_or_else(missing)?.name)
                }
                Feed::Room(id) => {
                    asked.room = Some(*id);
                    let room = places::rooms(conn)?.into_iter().find(|r| r.id == *id);
                    format!("{}: {}", house.name, room.ok_or_else(missing)?.name)
                }
            };
            let mut dates = Vec::new();
            for date in events::list(conn, &asked, now)?.dates {
                if only.is_some_and(|id| id != date.date.id) {
                    continue;
                }
                let tags =
                    events::tags_of(conn, date.event.id)?.into_iter().map(|(_, n)| n).collect();
                let picture = events::picture(conn, date.event.id)?.map(|p| p.id);
                dates.push((date, tags, picture));
            }
            if dates.is_empty() && matches!(feed, Feed::Event(_) | Feed::Date(_)) {
                return Err(missing());
            }
            let notices = match feed {
                Feed::All => outbox::notices_listed(conn, notices_since(now), now)?,
                _ => Vec::new(),
            };
            let mut names = HashMap::new();
            if house.names_in_feeds && matches!(feed, Feed::Host(..)) {
                for (d, ..) in &dates {
                    let coming = bookings::coming(conn, d.event.id, Which::Date(d.date.id))?;
                    let comes = coming.into_iter().filter(|c| c.state == State::Confirmed);
                    names.insert(d.date.id, comes.map(|c| c.name).collect());
                }
            }
            Ok(Fed { house, name, dates, notices, names })
        })
        .await
}
