//! Who is coming: a list of people for a date, and of slots for a day or a week.

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::Uri;
use axum::response::Response;
use jiff::civil::Date as Day;
use jiff::{Timestamp, ToSpan};
use matricle_core::door::Presence;
use matricle_core::money::line_worth::is_charged;
use matricle_core::words::fold;
use matricle_core::{DateId, EventId};
use matricle_desk::office::{self, WhoComes};
use matricle_formats::table::Cell;
use matricle_formats::words;
use matricle_store::bookings::{Coming, Which};
use serde::Deserialize;

use crate::address::encode;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html};
use crate::parts::files::list_file;
use crate::parts::pager::{self, Pager};
use crate::wording;

/// What the address of the list says.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct Asked {
    /// The date, by its key.
    #[serde(default)]
    date: String,
    /// The first of the days, and how many.
    #[serde(default)]
    from: String,
    #[serde(default)]
    days: String,
    #[serde(default)]
    q: String,
    #[serde(default)]
    sort: String,
    #[serde(default)]
    page: usize,
    /// All on one page, to be printed.
    #[serde(default)]
    whole: String,
}

impl Asked {
    /// The address of the same list, up to its order and its page.
    fn base(&self, which: Which) -> String {
        let which = match which {
            Which::Date(date) => format!("date={date}"),
            Which::Days(from, until) => {
                let days = until.since(from).map_or(0, |s| s.get_days()) + 1;
                format!("from={from}&days={days}")
            }
        };
        format!("{which}&q={}", encode(&self.q))
    }
}

struct Person {
    href: String,
    reference: String,
    when: String,
    name: String,
    ticket: String,
    booker: String,
    class: &'static str,
    state: &'static str,
    due: String,
    presence: &'static str,
    notes: String,
    answers: Vec<String>,
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
    many_dates: bool,
    dates: Vec<(i64, String, bool)>,
    days: Option<DaysView>,
    questions: Vec<String>,
    people: Vec<Person>,
    q: String,
    /// The address up to the order, and up to the page.
    base: String,
    query: String,
    whole: bool,
    count: usize,
    pager: Pager,
}

struct DaysView {
    from: String,
    week: bool,
    before: String,
    after: String,
}

/// The date or the days asked for: of slots this week, of other events the next date.
fn which(asked: &Asked, all: &WhoComes, now: Timestamp) -> Which {
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

/// What somebody is found by.
fn text(c: &Coming) -> String {
    let answers: Vec<&str> = c.answers.values().map(String::as_str).collect();
    fold(&format!(
        "{} {} {} {} {} {} {}",
        c.name,
        c.ticket,
        c.booker,
        c.reference,
        wording::state(c.state),
        c.notes,
        answers.join(" ")
    ))
}

/// Everybody found, in the order asked for, and the questions that somebody answered.
async fn load(at: &Clerk, id: i64, asked: &Asked) -> Result<(WhoComes, Which), WebError> {
    let (desk, event) = (&at.app.desk, EventId(id));
    let now = desk.clock.now();
    let known = office::who_comes(desk, &at.staff, event, Which::Date(DateId(0))).await?;
    let which = which(asked, &known, now);
    let mut all = office::who_comes(desk, &at.staff, event, which).await?;
    let typed = fold(&asked.q);
    all.people.retain(|c| {
        let text = text(c);
        typed.split(' ').all(|word| text.contains(word))
    });
    match asked.sort.as_str() {
        "ticket" => all.people.sort_by_key(|c| fold(&c.ticket)),
        "booker" => all.people.sort_by_key(|c| fold(&c.booker)),
        "state" => all.people.sort_by_key(|c| wording::state(c.state)),
        "due" => all.people.sort_by_key(|c| std::cmp::Reverse(c.due)),
        "name" => all.people.sort_by_key(|c| fold(&c.name)),
        _ => {}
    }
    Ok((all, which))
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

fn answers(c: &Coming, questions: &[String]) -> Vec<String> {
    questions.iter().map(|q| c.answers.get(q).cloned().unwrap_or_default()).collect()
}

/// What is due on a booking that is charged.
fn due(c: &Coming) -> i64 {
    if is_charged(c.state, false) { c.due.max(0) } else { 0 }
}

/// `GET /office/events/{id}/coming`: who comes to a date, or to the dates of some days.
pub(crate) async fn list(
    at: Clerk,
    Path(id): Path<i64>,
    Query(asked): Query<Asked>,
) -> Result<Response, WebError> {
    let (mut all, which) = load(&at, id, &asked).await?;
    let now = at.app.desk.clock.now();
    let today = words::local(now, &all.house.zone).date();
    let questions = questions(&all.people);
    let base = asked.base(which);
    let query = format!("{base}&sort={}", encode(&asked.sort));
    let here = format!("/office/events/{id}/coming");
    let (count, whole) = (all.people.len(), !asked.whole.is_empty());
    let rows = if whole { usize::MAX } else { pager::ROWS };
    let pager = Pager::of(count, asked.page, rows, &format!("{here}?{query}&"));
    pager.cut(&mut all.people);
    let (when, days) = match which {
        Which::Date(date) => {
            let date = all.dates.iter().find(|d| d.id == date);
            let when = date.map_or_else(String::new, |d| {
                format!("{} · {}", words::long_span(d.span.starts, d.span.ends), d.place())
            });
            (when, None)
        }
        Which::Days(from, until) => {
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
        many_dates: days.is_some(),
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
        people: all
            .people
            .iter()
            .map(|c| Person {
                href: format!("/office/bookings/{}", c.reference.as_str()),
                reference: c.reference.to_string(),
                when: format!("{}, {}", words::day(c.starts.date(), today), words::clock(c.starts)),
                name: c.name.clone(),
                ticket: c.ticket.clone(),
                booker: if c.booker == c.name { String::new() } else { c.booker.clone() },
                class: wording::state_class(c.state),
                state: wording::state(c.state),
                due: match due(c) {
                    0 => String::new(),
                    minor => all.house.currency.of(minor).column(),
                },
                presence: presence(&c.presence),
                notes: c.notes.clone(),
                answers: answers(c, &questions),
            })
            .collect(),
        title: all.event.title,
        questions,
        q: asked.q,
        base,
        query,
        whole,
        count,
        pager,
    })
}

/// `GET /office/events/{id}/coming.csv` and `.xlsx`: everybody on the list, as a file.
pub(crate) async fn file(
    at: Clerk,
    Path(id): Path<i64>,
    uri: Uri,
    Query(asked): Query<Asked>,
) -> Result<Response, WebError> {
    let (all, _) = load(&at, id, &asked).await?;
    let questions = questions(&all.people);
    let mut head = vec![
        "When", "Name", "Ticket", "Booking", "Booker", "State", "Due", "Currency", "Where", "Notes",
    ];
    head.extend(questions.iter().map(String::as_str));
    let cells: Vec<Vec<Cell>> = all
        .people
        .iter()
        .map(|c| {
            let mut row: Vec<Cell> = vec![
                c.starts.into(),
                c.name.clone().into(),
                c.ticket.clone().into(),
                c.reference.to_string().into(),
                c.booker.clone().into(),
                wording::state(c.state).into(),
                Cell::amount(&all.house.currency.of(due(c)).figures()),
                all.house.currency.letters().into(),
                presence(&c.presence).into(),
                c.notes.clone().into(),
            ];
            row.extend(answers(c, &questions).into_iter().map(Cell::from));
            row
        })
        .collect();
    let what = format!("who comes to {}, {} rows", all.event.title, cells.len());
    matricle_desk::house::audit::taken_away(&at.app.desk, &at.staff, what).await?;
    list_file(uri.path(), "Who is coming", &head, &cells)
}
