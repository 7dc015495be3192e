//! Dates & seats of an event: adding by rule, changing one or many, sessions, slots,
//! calling off. What a change touches is shown before it is saved.

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::{DateId, EventId, SessionId};
use matricle_desk::Clash;
use matricle_desk::DeskError;
use matricle_desk::office;
use matricle_desk::office::EventSheet;
use matricle_desk::planning::dates;
use matricle_desk::planning::dates::{Scope, Touches, week};
use matricle_desk::planning::{events, sessions, slots};
use matricle_formats::words;
use matricle_store::events::Choices;
use serde::Deserialize;

use super::Clerk;
use super::fields::{Fields, form, wrong};
use crate::error::WebError;
use crate::guard::{Asker, Part, Posted};
use crate::page::{Frame, html, refused};
use crate::parts::{grid, strip};

/// Which date is being changed.
#[derive(Debug, Deserialize)]
pub(crate) struct Which {
    date: Option<i64>,
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
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    rows: Vec<DateRow>,
    runs: Vec<String>,
    slots: bool,
    slots_open: bool,
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
    scopes: Vec<(&'static str, &'static str)>,
    can_call_off: bool,
}

/// Forms that were sent and need another look.
#[derive(Default)]
struct Again {
    change: Option<Fields>,
    add: Option<Fields>,
    session: Option<Fields>,
    pool: Option<Fields>,
    slot: Option<Fields>,
}

fn change_fields(d: &Choices) -> Fields {
    let span = &d.date.span;
    let mut fields = Fields::of([
        ("day", span.starts.date().to_string()),
        ("from", words::clock(span.starts)),
        ("until", words::clock(span.ends)),
        ("venue", d.date.venue.clone()),
        ("room", d.date.room.clone()),
        ("hosts", d.date.hosts.clone()),
        ("setup", d.date.margins.0.to_string()),
        ("clearup", d.date.margins.1.to_string()),
    ]);
    for (i, pool) in d.offer.pools.iter().enumerate() {
        fields.add(&format!("pool_{i}"), pool.capacity.to_string());
    }
    fields
}

async fn page(
    at: &Clerk,
    id: i64,
    chosen: Option<i64>,
    again: Again,
) -> Result<Response, WebError> {
    let wanting = events::wanting(&at.app.desk, &at.staff).await?;
    let sheet: EventSheet = office::event(&at.app.desk, &at.staff, EventId(id)).await?;
    let now = at.app.desk.clock.now();
    let today = words::local(now, &sheet.house.zone).date();
    let wrong = [&again.change, &again.add, &again.session, &again.pool, &again.slot]
        .into_iter()
        .flatten()
        .map(Fields::count)
        .sum::<usize>();
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
        Some(p) => Fields::of([
            ("minutes", p.minutes.to_string()),
            ("pause", p.pause.to_string()),
            ("desks", p.desks.to_string()),
            ("notice_hours", p.notice_hours.to_string()),
            ("ahead_days", p.ahead_days.to_string()),
            ("venue", p.venue.clone()),
            ("room", p.room.clone()),
        ]),
        None => Fields::of([
            ("minutes", "30".into()),
            ("pause", "0".into()),
            ("desks", "1".into()),
            ("notice_hours", "24".into()),
            ("ahead_days", "28".into()),
        ]),
    });
    let chosen_sessions = date.and_then(|d| sheet.sessions.iter().find(|(id, _)| *id == d.date.id));
    let f = at.frame(sheet.event.title.clone(), &sheet.house.name).in_room("events");
    let page = Dates {
        f,
        tab: "dates",
        id,
        bookings: sheet.bookings,
        title: sheet.event.title.clone(),
        rows: sheet
            .dates
            .iter()
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
            .collect(),
        runs: sheet
            .runs
            .iter()
            .filter_map(|(_, rule, n)| {
                let rule = matricle_core::rule::Rule::parse(rule).ok()?;
                Some(format!("{} ({})", words::rule(&rule), words::count(*n, "dates")))
            })
            .collect(),
        slots: plan.is_some(),
        slots_open: plan.is_some() || slot.count() > 0,
        chosen: date.map(|d| d.date.id.0),
        chosen_when: date
            .map_or_else(String::new, |d| words::long_span(d.date.span.starts, d.date.span.ends)),
        door_opened: match date {
            Some(d) => matricle_desk::door::opened_by(&at.app.desk, &at.staff, d.date.id).await?,
            None => None,
        },
        change: again.change.or_else(|| date.map(change_fields)).unwrap_or_default(),
        add,
        session: again.session.unwrap_or_default(),
        pool: again.pool.unwrap_or_default(),
        slot,
        grid: chosen_sessions.map_or_else(String::new, |(_, s)| grid::svg(s)),
        sessions: chosen_sessions.map_or_else(Vec::new, |(_, all)| {
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
        }),
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
        repeats: vec![
            ("", "only once"),
            ("week", "every week, on the days ticked"),
            ("day", "every day"),
            ("month weekday", "every month, on that weekday counted from the first"),
            ("month last weekday", "every month, on the last such weekday"),
            ("month day", "every month, on that day"),
            ("month last", "every month, on the last day"),
            ("year", "every year"),
        ],
        scopes: vec![
            ("one", "this date only"),
            ("later", "this one and those after it"),
            ("all", "all dates to come"),
        ],
        can_call_off: sheet.event.called_off.is_empty(),
    };
    if wrong == 0 { html(&page) } else { refused(StatusCode::UNPROCESSABLE_ENTITY, &page) }
}

pub(crate) async fn show(
    at: Clerk,
    Path(id): Path<i64>,
    Query(which): Query<Which>,
) -> Result<Response, WebError> {
    page(&at, id, which.date, Again::default()).await
}

struct ClashLine {
    what: String,
    with: String,
    event: i64,
}

fn clash_lines(clashes: &[Clash], today: jiff::civil::Date) -> Vec<ClashLine> {
    clashes
        .iter()
        .map(|c| ClashLine {
            what: c.what.clone(),
            with: format!("“{}”, {}", c.title, words::span(c.span.0, c.span.1, today)),
            event: c.event.0,
        })
        .collect()
}

/// What would be saved, before it is.
#[derive(Template)]
#[template(path = "office/before.html")]
struct Before {
    f: Frame,
    heading: String,
    action: String,
    back: String,
    button: String,
    lines: Vec<String>,
    rule: Option<String>,
    dates: Vec<(String, String)>,
    people: Vec<String>,
    over: Vec<(String, String)>,
    clashes: Vec<ClashLine>,
    carried: Vec<(String, String)>,
}

/// `POST /office/events/{id}/dates`: what the form comes to, then the dates themselves.
pub(crate) async fn add(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let event = EventId(id);
    if posted.get("act") == "save" {
        return match dates::add(&at.app.desk, &at.staff, event, form(&posted)).await {
            Ok(_) => Ok(Redirect::to(&format!("/office/events/{id}/dates")).into_response()),
            Err(error) => {
                let add = Some(Fields::again(&posted, error)?);
                page(&at, id, None, Again { add, ..Again::default() }).await
            }
        };
    }
    let adding = match dates::adding(&at.app.desk, &at.staff, event, form(&posted)).await {
        Ok(adding) => adding,
        Err(error) => {
            let add = Some(Fields::again(&posted, error)?);
            return page(&at, id, None, Again { add, ..Again::default() }).await;
        }
    };
    let house = at.app.desk.house().await?;
    let today = words::local(at.app.desk.clock.now(), &house.zone).date();
    let n = u32::try_from(adding.dates.len()).unwrap_or(u32::MAX);
    let mut lines = vec![format!("{} will be added; nobody is told.", words::count(n, "dates"))];
    lines.extend(adding.skipped.iter().map(|at| {
        format!(
            "{} at {} is left out: the clocks change, so that hour comes twice or not at all.",
            words::long_day(at.date()),
            words::clock(*at)
        )
    }));
    html(&Before {
        f: at.frame("New dates", &house.name).in_room("events"),
        heading: format!("Add {}?", words::count(n, "dates")),
        action: format!("/office/events/{id}/dates"),
        back: format!("/office/events/{id}/dates"),
        button: format!("Add {}", words::count(n, "dates")),
        lines,
        rule: adding.rule.as_ref().map(words::rule),
        dates: adding
            .dates
            .iter()
            .map(|d| (words::span(d.span.starts, d.span.ends, today), String::new()))
            .collect(),
        people: Vec::new(),
        over: Vec::new(),
        clashes: clash_lines(&adding.clashes, today),
        carried: Fields::posted(&posted, &[]).pairs(),
    })
}

fn touched(touches: &Touches, today: jiff::civil::Date) -> (Vec<String>, Vec<(String, String)>) {
    let mut lines = Vec::new();
    let told = u32::try_from(touches.people.len()).unwrap_or(u32::MAX);
    if touches.bookings == 0 {
        lines.push("Nobody has to be told.".into());
    } else {
        lines.push(format!(
            "{} on {} get a mail with the new time or place.",
            words::count(told, "bookers"),
            words::count(touches.bookings, "bookings")
        ));
    }
    lines.extend(touches.capped.iter().map(|(wanted, seats)| {
        format!("The room seats {seats}, so {seats} are sold instead of {wanted}.")
    }));
    if touches.messages > 0 {
        lines.push(format!(
            "{} not sent yet will carry the new time.",
            words::count(touches.messages, "messages")
        ));
    }
    let dates = touches
        .dates
        .iter()
        .map(|m| {
            let old = words::span(m.date.span.starts, m.date.span.ends, today);
            let new = words::span(m.span.starts, m.span.ends, today);
            if old == new { (old, String::new()) } else { (old, new) }
        })
        .collect();
    (lines, dates)
}

#[derive(Template)]
#[template(path = "office/touches.html")]
struct TouchesPart {
    token: String,
    action: String,
    lines: Vec<String>,
    dates: Vec<(String, String)>,
    people: Vec<String>,
    over: Vec<(String, String)>,
    clashes: Vec<ClashLine>,
    carried: Vec<(String, String)>,
}

/// `POST /office/dates/{id}/change`: what it touches, then the change itself. The board
/// asks for the first as a part of its page.
pub(crate) async fn change(
    at: Clerk,
    Path(id): Path<i64>,
    Part(part): Part,
    posted: Posted,
) -> Result<Response, WebError> {
    let date = DateId(id);
    let scope = Scope::from_word(posted.get("scope"));
    let sheet = office::date(&at.app.desk, &at.staff, date).await?;
    let event = sheet.event.id;
    let house = at.app.desk.house().await?;
    let today = words::local(at.app.desk.clock.now(), &house.zone).date();
    let back = if posted.get("back").starts_with("/office/board") {
        posted.get("back").to_owned()
    } else {
        format!("/office/events/{event}/dates?date={id}")
    };
    if posted.get("act") == "save" {
        let accept = !posted.get("over_full").is_empty();
        match dates::change(&at.app.desk, &at.staff, date, scope, form(&posted), accept).await {
            Ok(_) => return Ok(Redirect::to(&back).into_response()),
            // Somebody booked meanwhile: what it touches now is shown again.
            Err(DeskError::OverFull(_)) => {}
            Err(error) => {
                let change = Some(Fields::again(&posted, error)?);
                let again = Again { change, ..Again::default() };
                return page(&at, event.0, Some(id), again).await;
            }
        }
    }
    let touches =
        match dates::what_it_touches(&at.app.desk, &at.staff, date, scope, form(&posted)).await {
            Ok(touches) => touches,
            Err(error) => {
                let wrong = wrong(error)?;
                if part {
                    let said = wrong.iter().map(|w| crate::wording::fault(&w.field, &w.fault));
                    let lines = said.collect();
                    return html(&TouchesPart {
                        token: String::new(),
                        action: String::new(),
                        lines,
                        dates: Vec::new(),
                        people: Vec::new(),
                        over: Vec::new(),
                        clashes: Vec::new(),
                        carried: Vec::new(),
                    });
                }
                let change = Some(Fields::posted(&posted, &wrong));
                let again = Again { change, ..Again::default() };
                return page(&at, event.0, Some(id), again).await;
            }
        };
    let (lines, moved) = touched(&touches, today);
    let over: Vec<(String, String)> = touches
        .over
        .iter()
        .map(|o| {
            let what = format!("{}: {} taken, {} wanted", o.pool, o.taken, o.capacity);
            (what, o.people.join(", "))
        })
        .collect();
    let clashes = clash_lines(&touches.clashes, today);
    let carried = Fields::posted(&posted, &[]).pairs();
    let action = format!("/office/dates/{id}/change");
    if part {
        return html(&TouchesPart {
            token: at.app.desk.secrets.form_token(&at.visitor.0),
            action,
            lines,
            dates: moved,
            people: touches.people,
            over,
            clashes,
            carried,
        });
    }
    html(&Before {
        f: at.frame(sheet.event.title.clone(), &house.name).in_room("events"),
        heading: "What this touches".into(),
        action,
        back,
        button: "Change it".into(),
        lines,
        rule: None,
        dates: moved,
        people: touches.people,
        over,
        clashes,
        carried,
    })
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
    let event = office::date(&at.app.desk, &at.staff, date).await?.event.id;
    Ok(Redirect::to(&format!("/office/events/{event}/dates?date={id}#door")).into_response())
}

/// `POST /office/dates/{id}/remove`.
pub(crate) async fn remove(
    at: Clerk,
    Path(id): Path<i64>,
    _posted: Posted,
) -> Result<Response, WebError> {
    let event = dates::remove(&at.app.desk, &at.staff, DateId(id)).await?;
    Ok(Redirect::to(&format!("/office/events/{event}/dates")).into_response())
}

#[derive(Template)]
#[template(path = "office/call_off.html")]
struct CallOff {
    f: Frame,
    id: i64,
    title: String,
    dates: Vec<String>,
    only: Option<i64>,
    bookings: u32,
    people: Vec<String>,
    paid: String,
    course_goes_on: bool,
    d: Fields,
}

async fn call_off_page(
    at: &Clerk,
    id: i64,
    only: Option<i64>,
    d: Fields,
) -> Result<Response, WebError> {
    let off =
        dates::before_calling_off(&at.app.desk, &at.staff, EventId(id), only.map(DateId)).await?;
    let house = at.app.desk.house().await?;
    let told: Vec<_> = off.bookings.iter().filter(|b| !b.email.is_empty()).collect();
    let paid: i64 = told.iter().map(|b| b.paid.minor).sum();
    let count = d.count();
    let page = CallOff {
        f: at.frame("Call off", &house.name).in_room("events"),
        id,
        title: off.event.title.clone(),
        dates: off.dates.iter().map(|d| words::long_span(d.span.starts, d.span.ends)).collect(),
        only,
        bookings: u32::try_from(told.len()).unwrap_or(u32::MAX),
        people: told.iter().map(|b| b.name.clone()).collect(),
        paid: if paid > 0 { house.currency.of(paid).to_string() } else { String::new() },
        course_goes_on: off.event.course && only.is_some(),
        d,
    };
    if count == 0 { html(&page) } else { refused(StatusCode::UNPROCESSABLE_ENTITY, &page) }
}

/// `GET /office/events/{id}/call-off`: whom it would reach.
pub(crate) async fn before_calling_off(
    at: Clerk,
    Path(id): Path<i64>,
    Query(which): Query<Which>,
) -> Result<Response, WebError> {
    call_off_page(&at, id, which.date, Fields::default()).await
}

/// `POST /office/events/{id}/call-off`.
pub(crate) async fn call_off(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let only = posted.get("date").parse().ok();
    let reason = posted.get("reason").to_owned();
    match dates::call_off(&at.app.desk, &at.staff, EventId(id), only.map(DateId), reason).await {
        Ok(_) => Ok(Redirect::to(&format!("/office/events/{id}/told")).into_response()),
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            call_off_page(&at, id, only, d).await
        }
    }
}

/// `POST /office/events/{id}/pools`: something more is counted.
pub(crate) async fn add_pool(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    match dates::add_pool(&at.app.desk, &at.staff, EventId(id), form(&posted)).await {
        Ok(()) => Ok(Redirect::to(&format!("/office/events/{id}/dates")).into_response()),
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
        Ok(()) => Ok(Redirect::to(&format!("/office/events/{id}/dates")).into_response()),
        Err(error) => {
            let slot = Some(Fields::again(&posted, error)?);
            page(&at, id, None, Again { slot, ..Again::default() }).await
        }
    }
}

/// `POST /office/dates/{id}/sessions`: a session more, or one less.
pub(crate) async fn session(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let date = DateId(id);
    let event = office::date(&at.app.desk, &at.staff, date).await?.event.id;
    let there = format!("/office/events/{event}/dates?date={id}#sessions");
    if let Ok(session) = posted.get("drop").parse() {
        sessions::remove(&at.app.desk, &at.staff, date, SessionId(session)).await?;
        return Ok(Redirect::to(&there).into_response());
    }
    let accept = posted.get("act") == "save";
    match sessions::add(&at.app.desk, &at.staff, date, form(&posted), accept).await {
        Ok(()) => Ok(Redirect::to(&there).into_response()),
        Err(DeskError::Clashes(clashes)) => {
            let house = at.app.desk.house().await?;
            let today = words::local(at.app.desk.clock.now(), &house.zone).date();
            let title = posted.get("title").to_owned();
            html(&Before {
                f: at.frame(title.clone(), &house.name).in_room("events"),
                heading: format!("“{title}”, before it is added"),
                action: format!("/office/dates/{id}/sessions"),
                back: there,
                button: "Add it all the same".into(),
                lines: Vec::new(),
                rule: None,
                dates: Vec::new(),
                people: Vec::new(),
                over: Vec::new(),
                clashes: clash_lines(&clashes, today),
                carried: Fields::posted(&posted, &[]).pairs(),
            })
        }
        Err(error) => {
            let session = Some(Fields::again(&posted, error)?);
            let again = Again { session, ..Again::default() };
            page(&at, event.0, Some(id), again).await
        }
    }
}
