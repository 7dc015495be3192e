//! Dates & seats of an event: adding by rule, changing one or many, sessions, slots,
//! calling off. What a change touches is shown before it is saved.

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::Timestamp;
use matricle_core::forms::field::Locale;
use matricle_core::{DateId, EventId};
use matricle_desk::office::{self, EventSheet};
use matricle_desk::planning::dates::{self, week};
use matricle_desk::planning::sessions;
use matricle_desk::planning::{events, slots};
use matricle_desk::{DeskError, house};
use matricle_formats::words;
use matricle_store::events::Choices;
use matricle_store::events::SlotPlan;
use matricle_store::sessions::Session;
use serde::Deserialize;

use crate::asking::{Asker, Posted};
use crate::error::WebError;
use crate::news::Undo;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form};
use crate::parts::pager::Pager;
use crate::parts::{grid, strip};

/// Which date is being changed.
#[derive(Debug, Deserialize)]
pub(crate) struct Which {
    pub(crate) date: Option<i64>,
    page: Option<usize>,
    /// A time that somebody proposes: it stands in the form, and nothing is done.
    day: Option<String>,
    from: Option<String>,
    until: Option<String>,
}

struct DateRow {
    id: i64,
    when: String,
    place: String,
    hosts: String,
    strip: String,
    seats: String,
    off: String,
    past: bool,
    chosen: bool,
}

struct SessionRow {
    id: i64,
    when: String,
    title: String,
    place: String,
    seats: String,
}

#[derive(Template)]
#[template(path = "office/dates.html")]
struct Dates {
    f: Frame,
    /// It happens online, or that too.
    online: bool,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    rows: Vec<DateRow>,
    pager: Pager,
    runs: Vec<String>,
    slots: bool,
    slots_open: bool,
    /// The house has no opening hours that slots could be cut from.
    no_hours: bool,
    problem: Option<&'static str>,
    chosen: Option<i64>,
    chosen_when: String,
    /// Who opened the door of the chosen date for another day.
    door_opened: Option<String>,
    change: Fields,
    add: Fields,
    session: Fields,
    pool: Fields,
    slot: Fields,
    sessions: Vec<SessionRow>,
    grid: String,
    pools: Vec<(String, String)>,
    venues: Vec<String>,
    rooms: Vec<String>,
    hosts: Vec<String>,
    week: [(&'static str, &'static str); 7],
    repeats: Vec<(&'static str, &'static str)>,
    can_call_off: bool,
}

/// Dates of one page.
const ROWS: usize = 20;

/// Forms that were sent and need another look.
#[derive(Default)]
pub(crate) struct Again {
    pub(crate) change: Option<Fields>,
    pub(crate) add: Option<Fields>,
    pub(crate) session: Option<Fields>,
    pub(crate) pool: Option<Fields>,
    pub(crate) slot: Option<Fields>,
    /// Why something was not done, when it is no field's fault.
    pub(crate) problem: Option<&'static str>,
    /// The page of dates that was asked for.
    pub(crate) page: Option<usize>,
    /// What somebody proposes instead of what stands: fields, and what is to be in them.
    pub(crate) proposed: Vec<(&'static str, String)>,
}

/// The form with what somebody proposes.
fn proposed(mut form: Fields, proposed: &[(&'static str, String)]) -> Fields {
    // What it is made from is what stands, not what is proposed.
    let seen = form.seen();
    form.set("seen", seen);
    for (name, value) in proposed {
        form.set(name, value.chars().take(20).collect());
    }
    form
}

/// The form of slots, of a plan.
fn slot_fields(mut plan: SlotPlan) -> Fields {
    Fields::filled(&Locale::default(), |f| slots::form(f, &mut plan))
}

/// The form of a date as it stands.
pub(crate) fn change_fields(d: &Choices) -> Fields {
    let span = &d.date.span;
    let (starts, ends) = (span.starts, span.ends);
    let (mut day, mut from, mut until) =
        (Some(starts.date()), Some(starts.time()), Some(ends.time()));
    let (mut venue, mut room) = (d.date.venue.clone(), d.date.room.clone());
    let mut hosts = d.date.hosts.split(", ").map(String::from).collect();
    let (mut setup, mut clearup) = (Some(d.date.margins.0), Some(d.date.margins.1));
    let mut fields = Fields::filled(&Locale::default(), |f| {
        f.bind(&dates::DAY, &mut day);
        f.bind(&dates::FROM, &mut from);
        f.bind(&dates::UNTIL, &mut until);
        f.bind(&dates::VENUE, &mut venue);
        f.bind(&dates::ROOM, &mut room);
        f.bind(&dates::HOSTS, &mut hosts);
        f.bind(&dates::SETUP, &mut setup);
        f.bind(&dates::CLEARUP, &mut clearup);
    });
    for (i, pool) in d.offer.pools.iter().enumerate() {
        fields.add(&format!("pool_{i}"), pool.capacity.to_string());
    }
    fields
}

/// How dates repeat: the word that is sent, and what it says.
const REPEATS: [(&str, &str); 8] = [
    ("", "only once"),
    ("week", "every week, on the days ticked"),
    ("day", "every day"),
    ("month weekday", "every month, on that weekday counted from the first"),
    ("month last weekday", "every month, on the last such weekday"),
    ("month day", "every month, on that day"),
    ("month last", "every month, on the last day"),
    ("year", "every year"),
];

/// Dates of a page.
fn date_rows(
    sheet: &EventSheet,
    pager: &Pager,
    chosen: Option<i64>,
    now: Timestamp,
) -> Vec<DateRow> {
    let today = words::local(now, &sheet.house.zone).date();
    sheet
        .dates
        .iter()
        .skip(pager.first)
        .take(ROWS)
        .map(|d| {
            let pool = d.main_pool();
            DateRow {
                id: d.date.id.0,
                when: words::span(d.date.span.starts, d.date.span.ends, today),
                place: d.date.place(),
                hosts: d.date.hosts.clone(),
                strip: strip::svg(&pool, d.inside, strip::SMALL),
                seats: format!("{} of {}", pool.taken.total(), pool.capacity),
                off: d.date.called_off.clone(),
                past: d.date.span.ends_at <= now,
                chosen: Some(d.date.id.0) == chosen,
            }
        })
        .collect()
}

fn session_rows(all: &[Session]) -> Vec<SessionRow> {
    all.iter()
        .map(|s| SessionRow {
            id: s.facts.id.0,
            when: format!("{}–{}", words::clock(s.span.starts), words::clock(s.span.ends)),
            title: s.title.clone(),
            place: [s.room.as_str(), s.host.as_str()]
                .into_iter()
                .filter(|t| !t.is_empty())
                .collect::<Vec<_>>()
                .join(" · "),
            seats: grid::seats(s),
        })
        .collect()
}

pub(crate) async fn page(
    at: &Clerk,
    id: i64,
    chosen: Option<i64>,
    again: Again,
) -> Result<Response, WebError> {
    let wanting = events::wanting(&at.app.desk, &at.staff).await?;
    let sheet: EventSheet = office::event(&at.app.desk, &at.staff, EventId(id)).await?;
    let now = at.app.desk.clock.now();
    let wrong = [&again.change, &again.add, &again.session, &again.pool, &again.slot]
        .into_iter()
        .flatten()
        .map(Fields::count)
        .sum::<usize>()
        + usize::from(again.problem.is_some());
    let date = sheet.dates.iter().find(|d| Some(d.date.id.0) == chosen);
    let last = sheet.dates.last();
    let add = again.add.unwrap_or_else(|| match last {
        Some(d) => {
            let mut f = change_fields(d);
            f.set("day", String::new());
            f
        }
        None => Fields::default(),
    });
    let plan = sheet.slots.as_ref().map(|(plan, _)| plan.clone());
    let slot = again.slot.unwrap_or_else(|| match &plan {
        Some(p) => slot_fields(p.clone()),
        None => slot_fields(slots::blank()),
    });
    let chosen_sessions = date.and_then(|d| sheet.sessions.iter().find(|(id, _)| *id == d.date.id));
    // The page with the chosen date, or with the next one.
    let here = sheet.dates.iter().position(|d| match chosen {
        Some(id) => d.date.id.0 == id,
        None => d.date.span.ends_at > now,
    });
    let shown = again.page.unwrap_or(here.unwrap_or(0) / ROWS);
    let pager = Pager::of(sheet.dates.len(), shown, ROWS, &format!("/office/events/{id}/dates?"));
    let f = at.frame(sheet.event.title.clone(), &sheet.house.name).in_room("events");
    let page = Dates {
        online: sheet.event.format != matricle_store::events::Format::InPerson,
        f,
        tab: "dates",
        id,
        bookings: sheet.bookings,
        title: sheet.event.title.clone(),
        rows: date_rows(&sheet, &pager, chosen, now),
        pager,
        runs: sheet
            .runs
            .iter()
            .filter_map(|(_, rule, n)| {
                let rule = matricle_core::dates::recurrence::Rule::parse(rule).ok()?;
                // Days left out, added and taken away since are none of the rule's.
                Some(format!("{}; {} of it now", words::rule(&rule), words::count(*n, "dates")))
            })
            .collect(),
        slots: plan.is_some(),
        no_hours: house::all(&at.app.desk, &at.staff).await?.hours.is_empty(),
        problem: again.problem,
        slots_open: plan.is_some() || slot.count() > 0,
        chosen: date.map(|d| d.date.id.0),
        chosen_when: date
            .map_or_else(String::new, |d| words::long_span(d.date.span.starts, d.date.span.ends)),
        door_opened: match date {
            Some(d) => matricle_desk::door::opened_by(&at.app.desk, &at.staff, d.date.id).await?,
            None => None,
        },
        change: again
            .change
            .or_else(|| Some(proposed(change_fields(date?), &again.proposed)))
            .unwrap_or_default(),
        add,
        session: again.session.unwrap_or_default(),
        pool: again.pool.unwrap_or_default(),
        slot,
        grid: chosen_sessions.map_or_else(String::new, |(_, s)| grid::svg(s)),
        sessions: chosen_sessions.map_or_else(Vec::new, |(_, all)| session_rows(all)),
        pools: last.or(date).map_or_else(
            || vec![("pool_0".to_owned(), "seats".to_owned())],
            |d| {
                d.offer
                    .pools
                    .iter()
                    .enumerate()
                    .map(|(i, p)| (format!("pool_{i}"), p.name.clone()))
                    .collect()
            },
        ),
        venues: wanting.offered.venues.iter().map(|v| v.name.clone()).collect(),
        rooms: wanting.offered.rooms.iter().map(|r| r.name.clone()).collect(),
        hosts: wanting.offered.hosts.iter().map(|h| h.name.clone()).collect(),
        week: week(),
        repeats: REPEATS.to_vec(),
        can_call_off: sheet.event.called_off.is_empty(),
    };
    if wrong == 0 { html(&page) } else { refused(StatusCode::UNPROCESSABLE_ENTITY, &page) }
}

pub(crate) async fn show(
    at: Clerk,
    Path(id): Path<i64>,
    Query(which): Query<Which>,
) -> Result<Response, WebError> {
    let proposed = [("day", which.day), ("from", which.from), ("until", which.until)];
    let proposed = proposed.into_iter().filter_map(|(name, value)| Some((name, value?))).collect();
    page(&at, id, which.date, Again { page: which.page, proposed, ..Again::default() }).await
}

/// `POST /office/dates/{id}/door`: opens the door of a date on another day than its own, or
/// leaves it to its day again.
pub(crate) async fn door(
    at: Clerk,
    asker: Asker,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let (date, open) = (DateId(id), posted.get("act") == "open");
    matricle_desk::door::open(&at.app.desk, &at.staff, date, open, asker.1).await?;
    if posted.get("to") == "door" {
        return Ok(Redirect::to(&format!("/door/{id}")).into_response());
    }
    let to = match posted.get("to") {
        "doors" => format!("/office/doors/{id}#open"),
        _ => {
            let event = office::date(&at.app.desk, &at.staff, date).await?.event.id;
            format!("/office/events/{event}/dates?date={id}#door")
        }
    };
    let what =
        if open { "The door is open, whatever the day." } else { "The door keeps to its day." };
    let undo = Undo::new(
        format!("/office/dates/{id}/door"),
        &[("act", if open { "close" } else { "open" })],
    );
    Ok(at.done_but(&to, what, undo))
}

/// `POST /office/dates/{id}/remove`.
pub(crate) async fn remove(
    at: Clerk,
    Path(id): Path<i64>,
    _posted: Posted,
) -> Result<Response, WebError> {
    match dates::remove(&at.app.desk, &at.staff, DateId(id)).await {
        Ok(event) => Ok(at.done(&format!("/office/events/{event}/dates"), "The date is removed.")),
        Err(DeskError::Booked { .. }) => {
            let event = office::date(&at.app.desk, &at.staff, DateId(id)).await?.event.id;
            let problem = "This date has been booked, so it stays. Call it off instead: then everybody is told, and gets their money back.";
            let again = Again { problem: Some(problem), ..Again::default() };
            page(&at, event.0, Some(id), again).await
        }
        Err(error) => Err(error.into()),
    }
}

/// `POST /office/events/{id}/pools`: something more is counted.
pub(crate) async fn add_pool(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    match dates::add_pool(&at.app.desk, &at.staff, EventId(id), form(&posted)).await {
        Ok(()) => {
            Ok(at.done(&format!("/office/events/{id}/dates"), "Counted on every date from now on."))
        }
        Err(error) => {
            let pool = Some(Fields::again(&posted, error)?);
            page(&at, id, None, Again { pool, ..Again::default() }).await
        }
    }
}

/// `POST /office/events/{id}/slots`: how slots are cut.
pub(crate) async fn plan_slots(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    match slots::plan(&at.app.desk, &at.staff, EventId(id), form(&posted)).await {
        Ok(()) => Ok(at.done(&format!("/office/events/{id}/dates"), "Slots are cut as it says.")),
        Err(error) => {
            let slot = Some(Fields::again(&posted, error)?);
            page(&at, id, None, Again { slot, ..Again::default() }).await
        }
    }
}
