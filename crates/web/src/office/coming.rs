//! Who is coming: a list of people for a date, and of slots for a day or a week.

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::Uri;
use axum::response::Response;
use jiff::civil::Date as Day;
use jiff::{Timestamp, ToSpan};
use matricle_core::door::Presence;
use matricle_core::money::line_worth::is_charged;
use matricle_core::{DateId, EventId};
use matricle_desk::office::{self, WhoComes};
use matricle_formats::table::Cell;
use matricle_formats::words;
use matricle_store::bookings::{Coming, Which};
use matricle_store::house::House;
use serde::Deserialize;

use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html};
use crate::parts::list::{Ask, Column, Columns, InFile, Shown, View};
use crate::parts::pager;
use crate::wording;

/// What the address of the list says.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct ComingQuery {
    /// The date, by its key.
    #[serde(default)]
    date: String,
    /// The first of the days, and how many.
    #[serde(default)]
    from: String,
    #[serde(default)]
    days: String,
    /// All on one page, to be printed.
    #[serde(default)]
    whole: String,
}

/// What the address of the list of a date, or of days, says.
fn what(which: Which) -> String {
    match which {
        Which::Date(date) => format!("date={date}&"),
        Which::Days(from, until) => {
            let days = until.since(from).map_or(0, |s| s.get_days()) + 1;
            format!("from={from}&days={days}&")
        }
    }
}

#[derive(Template)]
#[template(path = "office/coming.html")]
struct Page {
    f: Frame,
    tab: &'static str,
    id: i64,
    title: String,
    bookings: u32,
    when: String,
    dates: Vec<(i64, String, bool)>,
    days: Option<DaysView>,
    q: String,
    /// What the address of the same list says, up to its page.
    query: String,
    whole: bool,
    list: View,
}

struct DaysView {
    from: String,
    week: bool,
    before: String,
    after: String,
}

/// The date or the days asked for: of slots this week, of other events the next date.
fn which(asked: &ComingQuery, all: &WhoComes, now: Timestamp) -> Which {
    let today = words::local(now, &all.house.zone).date();
    if let Ok(date) = asked.date.parse() {
        return Which::Date(DateId(date));
    }
    if all.slots || !asked.from.is_empty() {
        let from: Day = asked.from.parse().unwrap_or(today);
        let days = asked.days.parse().unwrap_or(7).clamp(1, 31);
        return Which::Days(from, from.saturating_add((days - 1).days()));
    }
    let coming = all.dates.iter().find(|d| d.span.ends_at > now && d.called_off.is_empty());
    Which::Date(coming.or_else(|| all.dates.last()).map_or(DateId(0), |d| d.id))
}

fn presence(presence: &Presence) -> &'static str {
    match presence {
        Presence::Expected => "expected",
        Presence::In { .. } => "in",
        Presence::Left => "left",
        Presence::Missed => "missed",
    }
}

/// Everybody on the list of the date or of the days asked for.
async fn load(at: &Clerk, id: i64, asked: &ComingQuery) -> Result<(WhoComes, Which), WebError> {
    let (desk, event) = (&at.app.desk, EventId(id));
    let known = office::who_comes(desk, &at.staff, event, Which::Date(DateId(0))).await?;
    let which = which(asked, &known, desk.clock.now());
    Ok((office::who_comes(desk, &at.staff, event, which).await?, which))
}

fn questions(people: &[Coming]) -> Vec<String> {
    let mut labels: Vec<String> = Vec::new();
    for label in people.iter().flat_map(|c| c.answers.keys()) {
        if !labels.contains(label) {
            labels.push(label.clone());
        }
    }
    labels
}

/// What is due on a booking that is charged.
fn due(c: &Coming) -> i64 {
    if is_charged(c.state, false) { c.due.max(0) } else { 0 }
}

/// What stands on the list of people: answers to questions each have a column.
fn columns<'a>(
    house: &'a House,
    many_days: bool,
    questions: &[String],
    now: Timestamp,
) -> Columns<'a, Coming> {
    let today = words::local(now, &house.zone).date();
    let figures = |c: &Coming| house.currency.of(due(c)).column();
    let when = move |c: &Coming| {
        Shown::from(format!("{}, {}", words::day(c.starts.date(), today), words::clock(c.starts)))
            .class("nobr")
    };
    let booking = |c: &Coming| {
        let booker = if c.booker == c.name { "" } else { &c.booker };
        Shown::from(c.reference.to_string())
            .to(format!("/office/bookings/{}", c.reference.as_str()))
            .small(booker)
            .class("ref")
    };
    let state = |c: &Coming| {
        let presence = if c.presence == Presence::Expected { "" } else { presence(&c.presence) };
        Shown::state(wording::state(c.state), format!("st st-{}", wording::state_class(c.state)))
            .small(presence)
    };
    let to_pay = move |c: &Coming| if due(c) == 0 { String::new() } else { figures(c) };
    let mut columns = vec![
        Column::new("when", "When", |c: &Coming| c.starts)
            .shown(when)
            .on_screen(many_days)
            .rising(),
        Column::new("name", "Name", |c: &Coming| c.name.clone())
            .shown(|c| Shown::from(c.name.as_str()).strong())
            .rising(),
        Column::new("ticket", "Ticket", |c: &Coming| c.ticket.clone()).rising(),
        Column::new("reference", "Booking", |c: &Coming| c.reference.to_string()).shown(booking),
        Column::new("booker", "Booker", |c: &Coming| c.booker.clone()).in_files().rising(),
        Column::new("state", "State", |c: &Coming| wording::state(c.state)).shown(state).rising(),
        Column::new("due", "Due", move |c: &Coming| Cell::amount(&figures(c)))
            .shown(to_pay)
            .number()
            .falling(),
        Column::new("currency", "Currency", |_: &Coming| house.currency.letters()).in_files(),
        Column::new("where", "Where", |c: &Coming| presence(&c.presence)).in_files(),
    ];
    columns.extend(questions.iter().map(|question| {
        let of = question.clone();
        Column::new("", question.as_str(), move |c: &Coming| c.answers.get(&of).cloned()).named()
    }));
    columns.push(Column::new("notes", "Notes", |c: &Coming| c.notes.clone()));
    columns
}

/// What stands above the list of some days: which, and the ways to those before and after.
fn days_view(here: &str, (from, until): (Day, Day)) -> (String, DaysView) {
    let length = until.since(from).map_or(0, |s| s.get_days()) + 1;
    let to = |day: Day| format!("{here}?from={day}&days={length}");
    let when = if from == until {
        words::long_day(from)
    } else {
        format!("{} to {}", words::long_day(from), words::long_day(until))
    };
    let view = DaysView {
        from: from.to_string(),
        week: length > 1,
        before: to(from.saturating_sub(length.days())),
        after: to(from.saturating_add(length.days())),
    };
    (when, view)
}

/// `GET /office/events/{id}/coming`: who comes to a date, or to the dates of some days.
pub(crate) async fn list(
    at: Clerk,
    Path(id): Path<i64>,
    Query(asked): Query<ComingQuery>,
    ask: Ask,
) -> Result<Response, WebError> {
    let (mut all, which) = load(&at, id, &asked).await?;
    let now = at.app.desk.clock.now();
    let today = words::local(now, &all.house.zone).date();
    let here = format!("/office/events/{id}/coming");
    let whole = !asked.whole.is_empty();
    let most = if whole { usize::MAX } else { pager::ROWS };
    let questions = questions(&all.people);
    let columns = columns(&all.house, matches!(which, Which::Days(..)), &questions, now);
    let what = what(which);
    let (when, days) = match which {
        Which::Date(date) => {
            let date = all.dates.iter().find(|d| d.id == date);
            let when = date.map_or_else(String::new, |d| {
                format!("{} · {}", words::long_span(d.span.starts, d.span.ends), d.place())
            });
            (when, None)
        }
        Which::Days(from, until) => {
            let (when, view) = days_view(&here, (from, until));
            (when, Some(view))
        }
    };
    html(&Page {
        f: at
            .frame(format!("Who is coming: {}", all.event.title), &all.house.name)
            .in_room("events"),
        tab: "coming",
        id,
        bookings: all.bookings,
        when,
        dates: if all.slots || all.dates.len() < 2 {
            Vec::new()
        } else {
            let chosen = |d: DateId| which == Which::Date(d);
            all.dates
                .iter()
                .map(|d| (d.id.0, words::span(d.span.starts, d.span.ends, today), chosen(d.id)))
                .collect()
        },
        days,
        list: ask.page(&columns, &mut all.people, &format!("{here}?{what}"), most),
        title: all.event.title,
        query: format!("{what}{}", ask.query()),
        q: ask.q,
        whole,
    })
}

/// `GET /office/events/{id}/coming.csv` and `.xlsx`: everybody on the list, as a file.
pub(crate) async fn file(
    at: Clerk,
    Path(id): Path<i64>,
    uri: Uri,
    Query(asked): Query<ComingQuery>,
    ask: Ask,
) -> Result<Response, WebError> {
    let (mut all, which) = load(&at, id, &asked).await?;
    let questions = questions(&all.people);
    let many_days = matches!(which, Which::Days(..));
    let columns = columns(&all.house, many_days, &questions, at.app.desk.clock.now());
    ask.narrow(&columns, &mut all.people);
    let what = format!("who comes to {}", all.event.title);
    InFile::of(&columns, &all.people)
        .hand_out((&at.app.desk, &at.staff), &uri, ("Who is coming", &what))
        .await
}
