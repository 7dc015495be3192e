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
use crate::parts::pager::Pager;
use crate::parts::strip;

/// How the list of events is narrowed and sorted.
#[derive(Debug, Deserialize)]
pub(crate) struct Shown {
    #[serde(default)]
    q: String,
    #[serde(default)]
    sort: String,
    #[serde(default)]
    page: usize,
    #[serde(default)]
    done: Option<u32>,
}

/// Events of a page.
const ROWS: usize = 28;

/// States by which the list is narrowed with one click.
const STATES: [&str; 4] = ["published", "draft", "past", "called off"];

struct Row {
    id: i64,
    /// Stands above the first event of each month.
    heading: String,
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
    pager: Pager,
    states: Vec<(&'static str, bool)>,
}

/// Puts the month above the first event of each: of its next date, or of its last when it is over.
fn head(rows: &mut [Row], today: jiff::civil::Date) {
    let mut before = String::new();
    for row in rows {
        let heading = match row.span {
            None => "Without a date".to_owned(),
            Some(_) if row.state == "past" => "Over".to_owned(),
            Some((first, last)) => {
                words::month_of(first.date().max(today).min(last.date()).first_of_month())
            }
        };
        if heading != before {
            row.heading.clone_from(&heading);
            before = heading;
        }
    }
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
    // What nobody books has no seats to tell of, in the files neither.
    let capacity = if r.event.drop_in { 0 } else { r.seats.capacity };
    let taken = r.seats.taken.total();
    let off = r.event.state == EventState::CalledOff;
    Row {
        id: r.event.id.0,
        heading: String::new(),
        title: r.event.title.clone(),
        kind: r.event.kind.clone(),
        when,
        dates: r.dates,
        span: r.span,
        taken: (taken, capacity),
        seats: match (off, r.event.drop_in) {
            (true, _) => "–".into(),
            (false, true) => "just come".into(),
            (false, false) => format!("{taken} of {capacity}"),
        },
        strip: if off || r.event.drop_in {
            String::new()
        } else {
            strip::svg(&r.seats, 0, strip::SMALL)
        },
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
    let (house, mut rows) = rows(&at, &shown).await?;
    let f = at.frame("Events", &house.name).in_room("events");
    let today = words::local(at.app.desk.clock.now(), &house.zone).date();
    let query = format!(
        "q={}&sort={}",
        crate::address::encode(&shown.q),
        crate::address::encode(&shown.sort)
    );
    let pager = Pager::of(rows.len(), shown.page, ROWS, &format!("/office/events?{query}&"));
    pager.cut(&mut rows);
    if shown.sort.is_empty() {
        head(&mut rows, today);
    }
    let states = STATES.map(|s| (s, fold(&shown.q) == s)).to_vec();
    html(&List { f, q: shown.q, rows, done: shown.done, query, pager, states })
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

/// `GET /office/events/{id}/confirmations`: an address of before.
pub(crate) async fn confirmations(
    _at: Clerk,
    axum::extract::Path(id): axum::extract::Path<i64>,
) -> axum::response::Redirect {
    axum::response::Redirect::permanent(&format!("/office/events/{id}/messages"))
}
