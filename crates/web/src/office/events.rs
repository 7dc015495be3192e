//! Events at the Office: the list, the sheet, its confirmations.

use askama::Template;
use axum::extract::Query;
use axum::http::Uri;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::Timestamp;
use matricle_core::EventId;
use matricle_core::words::fold;
use matricle_desk::planning::{dates, events};
use matricle_desk::{DeskError, office};
use matricle_formats::table::Cell;
use matricle_formats::words;
use matricle_store::events::{EventRow, EventState};
use matricle_store::house::House;
use serde::Deserialize;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html};
use crate::parts::files::list_file;
use crate::parts::strip;

/// How the list of events is narrowed and sorted.
#[derive(Debug, Deserialize)]
pub(crate) struct Shown {
    #[serde(default)]
    q: String,
    #[serde(default)]
    sort: String,
    #[serde(default)]
    done: Option<u32>,
}

struct Row {
    id: i64,
    title: String,
    kind: String,
    when: String,
    dates: u32,
    /// First and last start.
    span: Option<(jiff::civil::DateTime, jiff::civil::DateTime)>,
    /// Seats taken, and of how many.
    taken: (u32, u32),
    seats: String,
    strip: String,
    state: &'static str,
}

#[derive(Template)]
#[template(path = "office/events.html")]
struct List {
    f: Frame,
    q: String,
    rows: Vec<Row>,
    done: Option<u32>,
    query: String,
}

fn row(r: &EventRow, now: Timestamp, zone: &str) -> Row {
    let today = words::local(now, zone).date();
    let over = r.ends_at.is_some_and(|at| at <= now);
    let when = match r.span {
        None => "no date yet".into(),
        Some((first, last)) if first == last => {
            format!("{}, {}", words::day(first.date(), today), words::clock(first))
        }
        Some((first, last)) => {
            format!("{} – {}", words::day(first.date(), today), words::day(last.date(), today))
        }
    };
    let (taken, capacity) = r.seats;
    let pool = matricle_core::seats::Pool {
        id: matricle_core::PoolId(0),
        name: "seats".into(),
        capacity,
        taken: matricle_core::seats::Taken { confirmed: taken, ..Default::default() },
    };
    Row {
        id: r.event.id.0,
        title: r.event.title.clone(),
        kind: r.event.kind.clone(),
        when,
        dates: r.dates,
        span: r.span,
        taken: (taken, capacity),
        seats: format!("{taken} of {capacity}"),
        strip: strip::svg(&pool, 0, strip::SMALL),
        state: if over && r.event.state == EventState::Published {
            "past"
        } else {
            r.event.state.word()
        },
    }
}

async fn rows(at: &Clerk, shown: &Shown) -> Result<(House, Vec<Row>), WebError> {
    let (house, all) = office::events(&at.app.desk, &at.staff).await?;
    let now = at.app.desk.clock.now();
    let asked: Vec<String> =
        fold(&shown.q).split(' ').filter(|w| !w.is_empty()).map(String::from).collect();
    // What is coming first, soonest first; then what has no date; then what is over.
    let over = |r: &EventRow| r.ends_at.is_some_and(|at| at <= now);
    let mut coming: Vec<&EventRow> = all.iter().filter(|r| !over(r)).collect();
    coming.sort_by_key(|r| (r.span.is_none(), r.span.map(|s| s.0)));
    let mut rows: Vec<Row> = coming
        .into_iter()
        .chain(all.iter().filter(|r| over(r)))
        .map(|r| row(r, now, &house.zone))
        .filter(|r| {
            let text = fold(&format!("{} {} {} {}", r.title, r.kind, r.when, r.state));
            asked.iter().all(|w| text.contains(w.as_str()))
        })
        .collect();
    match shown.sort.as_str() {
        "title" => rows.sort_by_key(|r| fold(&r.title)),
        "state" => rows.sort_by_key(|r| r.state),
        "dates" => rows.sort_by_key(|r| std::cmp::Reverse(r.dates)),
        _ => {}
    }
    Ok((house, rows))
}

/// `GET /office/events`: all events, those to come first.
pub(crate) async fn list(at: Clerk, Query(shown): Query<Shown>) -> Result<Response, WebError> {
    let (house, rows) = rows(&at, &shown).await?;
    let f = at.frame("Events", &house.name).in_room("events");
    let query = format!(
        "q={}&sort={}",
        crate::address::encode(&shown.q),
        crate::address::encode(&shown.sort)
    );
    html(&List { f, q: shown.q, rows, done: shown.done, query })
}

/// `GET /office/events.csv` and `.xlsx`: the list as shown, as a file.
pub(crate) async fn file(
    at: Clerk,
    uri: Uri,
    Query(shown): Query<Shown>,
) -> Result<Response, WebError> {
    let (_, rows) = rows(&at, &shown).await?;
    let head = ["Event", "Kind", "First", "Last", "Dates", "Taken", "Seats", "State"];
    let cells: Vec<Vec<Cell>> = rows
        .into_iter()
        .map(|r| {
            vec![
                r.title.into(),
                r.kind.into(),
                r.span.map_or_else(|| Cell::from(""), |(first, _)| first.into()),
                r.span.map_or_else(|| Cell::from(""), |(_, last)| last.into()),
                r.dates.into(),
                r.taken.0.into(),
                r.taken.1.into(),
                r.state.into(),
            ]
        })
        .collect();
    let what = format!("events, {} rows", cells.len());
    matricle_desk::house::audit::taken_away(&at.app.desk, &at.staff, what).await?;
    list_file(uri.path(), "Events", &head, &cells)
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
