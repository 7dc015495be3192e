//! Events at the Office: the list, the sheet, its confirmations.

use askama::Template;
use axum::extract::Query;
use axum::http::Uri;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::Timestamp;
use jiff::civil::Date as Day;
use matricle_core::EventId;
use matricle_core::words::fold;
use matricle_desk::planning::{dates, events};
use matricle_desk::{DeskError, office};
use matricle_formats::words;
use matricle_store::events::{EventRow, EventState};
use matricle_store::house::House;
use serde::Deserialize;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html};
use crate::parts::list::{Ask, Column, Columns, InFile, Shown, View};
use crate::parts::strip;

/// What an act on many has left in the address.
#[derive(Debug, Deserialize)]
pub(crate) struct EventsQuery {
    #[serde(default)]
    done: Option<u32>,
}

/// Events of a page.
const ROWS: usize = 28;

/// States by which the list is narrowed with one click.
const STATES: [&str; 4] = ["published", "draft", "past", "called off"];

#[derive(Template)]
#[template(path = "office/events.html")]
struct List {
    f: Frame,
    q: String,
    done: Option<u32>,
    query: String,
    list: View,
    states: Vec<(&'static str, bool)>,
}

/// Whether all of its dates are over.
fn is_over(r: &EventRow, now: Timestamp) -> bool {
    r.ends_at.is_some_and(|at| at <= now)
}

/// The state of an event, or that it is past.
fn state(r: &EventRow, now: Timestamp) -> &'static str {
    if is_over(r, now) && r.event.state == EventState::Published {
        return "past";
    }
    r.event.state.word()
}

/// What stands above an event of this month, if it is the first: the month of its next date, or of
/// its last when it is over.
fn heading(r: &EventRow, now: Timestamp, today: Day) -> String {
    match r.span {
        None => "Without a date".to_owned(),
        Some(_) if state(r, now) == "past" => "Over".to_owned(),
        Some((first, last)) => {
            words::month_of(first.date().max(today).min(last.date()).first_of_month())
        }
    }
}

fn when(r: &EventRow, today: Day) -> String {
    match r.span {
        None => "no date yet".into(),
        Some((first, last)) if first == last => {
            format!("{}, {}", words::day(first.date(), today), words::clock(first))
        }
        Some((first, last)) => {
            format!("{} – {}", words::day(first.date(), today), words::day(last.date(), today))
        }
    }
}

fn seats(r: &EventRow) -> Shown {
    match (r.event.state, r.event.drop_in) {
        (EventState::CalledOff, _) => Shown::default().small("–"),
        (_, true) => Shown::default().small("just come"),
        (_, false) => Shown::drawn(strip::svg(&r.seats, 0, strip::SMALL)).small(format!(
            "{} of {}",
            r.seats.taken.total(),
            r.seats.capacity
        )),
    }
    .class("seats")
}

/// What stands on the list of events.
fn columns(now: Timestamp, today: Day) -> Columns<'static, EventRow> {
    let first = |r: &EventRow| r.span.map(|(first, _)| first);
    // What nobody books has no seats to tell of, in the files neither.
    let capacity = |r: &EventRow| if r.event.drop_in { 0 } else { r.seats.capacity };
    vec![
        Column::new("title", "Event", |r: &EventRow| r.event.title.clone())
            .shown(|r| {
                Shown::from(r.event.title.as_str())
                    .strong()
                    .to(format!("/office/events/{}", r.event.id))
                    .small(r.event.kind.as_str())
            })
            .rising(),
        Column::new("kind", "Kind", |r: &EventRow| r.event.kind.clone()).in_files().rising(),
        Column::new("first", "First", first).in_files(),
        Column::new("last", "Last", |r: &EventRow| r.span.map(|(_, last)| last)).in_files(),
        Column::screen("when", "When", move |r: &EventRow| {
            Shown::from(when(r, today)).class("nobr")
        })
        .by_store(false),
        Column::new("dates", "Dates", |r: &EventRow| r.dates).number().falling(),
        Column::new("taken", "Taken", |r: &EventRow| r.seats.taken.total()).in_files(),
        Column::new("seats", "Seats", capacity).shown(seats),
        Column::new("state", "State", move |r: &EventRow| state(r, now))
            .shown(move |r| {
                let state = state(r, now);
                Shown::state(state, format!("est est-{}", state.replace(' ', "-")))
            })
            .rising(),
    ]
}

/// What is coming first, soonest first; then what has no date; then what is over.
async fn rows(at: &Clerk) -> Result<(House, Vec<EventRow>), WebError> {
    let (house, mut all) = office::events(&at.app.desk, &at.staff).await?;
    let now = at.app.desk.clock.now();
    all.sort_by_key(|r| {
        let over = is_over(r, now);
        let first = if over { None } else { r.span.map(|s| s.0) };
        (over, !over && r.span.is_none(), first)
    });
    Ok((house, all))
}

/// `GET /office/events`: all events, those to come first.
pub(crate) async fn list(
    at: Clerk,
    Query(asked): Query<EventsQuery>,
    ask: Ask,
) -> Result<Response, WebError> {
    let (house, mut rows) = rows(&at).await?;
    let now = at.app.desk.clock.now();
    let today = words::local(now, &house.zone).date();
    let mut list = ask.page(&columns(now, today), &mut rows, "/office/events?", ROWS);
    list.table = list
        .table
        .ticked("id", rows.iter().map(|r| (r.event.id.to_string(), r.event.title.clone())));
    if matches!(ask.sort.as_str(), "" | "when") {
        list.table = list.table.headed(rows.iter().map(|r| heading(r, now, today)));
    }
    html(&List {
        f: at.frame("Events", &house.name).in_room("events"),
        query: ask.query(),
        list,
        done: asked.done,
        states: STATES.map(|s| (s, fold(&ask.q) == s)).to_vec(),
        q: ask.q,
    })
}

/// `GET /office/events.csv` and `.xlsx`: the list as shown, as a file.
pub(crate) async fn file(at: Clerk, uri: Uri, ask: Ask) -> Result<Response, WebError> {
    let (house, mut rows) = rows(&at).await?;
    let now = at.app.desk.clock.now();
    let columns = columns(now, words::local(now, &house.zone).date());
    ask.narrow(&columns, &mut rows);
    InFile::of(&columns, &rows)
        .hand_out((&at.app.desk, &at.staff), &uri, ("Events", "events"))
        .await
}

/// `POST /office/events/many`: one act on all that are ticked.
pub(crate) async fn many(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let ids: Vec<EventId> = posted
        .starting("id")
        .filter(|(rest, _)| rest.is_empty())
        .filter_map(|(_, v)| v.parse().ok().map(EventId))
        .collect();
    let mut done = 0;
    for id in ids {
        let outcome = match posted.get("act") {
            "publish" => events::show_in_programme(&at.app.desk, &at.staff, id, true).await,
            "draft" => events::show_in_programme(&at.app.desk, &at.staff, id, false).await,
            "call off" => {
                dates::call_off(&at.app.desk, &at.staff, id, None, posted.get("reason").to_owned())
                    .await
                    .map(drop)
            }
            _ => continue,
        };
        match outcome {
            Ok(()) => done += 1,
            // One that people have booked stays; the others go on.
            Err(DeskError::Booked { .. }) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(Redirect::to(&format!("/office/events?done={done}")).into_response())
}

/// `GET /office/events/{id}/confirmations`: an address of before.
pub(crate) async fn confirmations(
    _at: Clerk,
    axum::extract::Path(id): axum::extract::Path<i64>,
) -> axum::response::Redirect {
    axum::response::Redirect::permanent(&format!("/office/events/{id}/messages"))
}
