//! Bookings at the Office: the list, found by words, with the columns one wants; and one act
//! on many.

use std::collections::BTreeMap;

use askama::Template;
use axum::http::Uri;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::EventId;
use matricle_core::words::codes::Reference;
use matricle_desk::DeskError;
use matricle_desk::bookings::many::{self, Act, Done};
use matricle_desk::office::{self, BookingList};
use matricle_formats::table::Cell;
use matricle_formats::words;
use matricle_store::bookings::{Filter, Listed, MOST_COUNTED, Order};

use crate::address::encode;
use crate::asking::Posted;
use crate::error::WebError;
use crate::office::{Clerk, booking_row};
use crate::page::{Frame, html};
use crate::parts::files::list_file;
use crate::wording;

/// Rows on a page.
const ROWS: u32 = 30;
/// Rows of a file.
const FILE_ROWS: u32 = u32::MAX;

/// Columns that can be shown: name in addresses, heading, whether it is a number.
const COLUMNS: [(&str, &str, bool); 11] = [
    ("booker", "Booker", false),
    ("address", "Address", false),
    ("event", "Event", false),
    ("date", "Date", false),
    ("seats", "Seats", true),
    ("state", "State", false),
    ("total", "Total", true),
    ("paid", "Paid", true),
    ("due", "Due", true),
    ("made", "Made", false),
    ("last", "Last", false),
];
/// Columns shown unless others are chosen.
const USUAL: [&str; 7] = ["booker", "event", "date", "seats", "state", "paid", "due"];

/// What the address of a list says.
#[derive(Debug, Clone, Default)]
struct Asked {
    q: String,
    page: u32,
    event: Option<i64>,
    sort: String,
    columns: Vec<String>,
    answers: bool,
}

impl Asked {
    fn read(query: &str) -> Self {
        let pairs: Vec<(String, String)> = form_urlencoded::parse(query.as_bytes())
            .map(|(n, v)| (n.into_owned(), v.into_owned()))
            .collect();
        let get = |name: &str| pairs.iter().find(|(n, _)| n == name).map_or("", |(_, v)| v);
        let chosen: Vec<String> = pairs
            .iter()
            .filter(|(n, v)| n == "col" && COLUMNS.iter().any(|(c, ..)| c == v))
            .map(|(_, v)| v.clone())
            .collect();
        Self {
            q: get("q").to_owned(),
            page: get("page").parse().unwrap_or(0),
            event: get("event").parse().ok(),
            sort: get("sort").to_owned(),
            columns: if chosen.is_empty() { USUAL.map(String::from).to_vec() } else { chosen },
            answers: get("answers") == "yes",
        }
    }

    fn filter(&self) -> Filter {
        Filter {
            words: self.q.clone(),
            event: self.event.map(EventId),
            order: Order::from_word(&self.sort),
            ..Filter::default()
        }
    }

    /// The address again, but for the page.
    fn query(&self) -> String {
        let mut query = format!("q={}", encode(&self.q));
        if let Some(event) = self.event {
            query.push_str(&format!("&event={event}"));
        }
        if !self.sort.is_empty() {
            query.push_str(&format!("&sort={}", encode(&self.sort)));
        }
        if self.columns != USUAL {
            self.columns.iter().for_each(|c| query.push_str(&format!("&col={c}")));
        }
        if self.answers {
            query.push_str("&answers=yes");
        }
        query
    }
}

struct Heading {
    name: &'static str,
    words: String,
    number: bool,
    shown: bool,
    sorts: bool,
}

struct Shown {
    href: String,
    reference: String,
    plain: String,
    /// Text, a class of a state, whether it is a number, and what stands before a number where
    /// there are no headings.
    cells: Vec<(String, &'static str, bool, &'static str)>,
}

#[derive(Template)]
#[template(path = "office/bookings.html")]
struct List {
    f: Frame,
    q: String,
    event: Option<i64>,
    sort: String,
    answers: bool,
    headings: Vec<Heading>,
    questions: Vec<String>,
    rows: Vec<Shown>,
    found: u32,
    from: u32,
    to: u32,
    query: String,
    earlier: Option<String>,
    later: Option<String>,
    views: Vec<(i64, String, String)>,
    acts: Vec<&'static str>,
}

impl List {
    /// More are found than one act may concern.
    fn too_many(&self) -> bool {
        self.found > many::MOST
    }

    /// How many are found, in words.
    fn count(&self) -> String {
        match self.found {
            n if n > MOST_COUNTED => format!("more than {MOST_COUNTED}"),
            n => n.to_string(),
        }
    }

    fn columns(&self) -> impl Iterator<Item = &Heading> {
        self.headings.iter().filter(|h| h.shown)
    }
}

fn cell(
    column: &str,
    row: &Listed,
    zone: &str,
    now: jiff::Timestamp,
) -> (String, &'static str, bool) {
    let b = &row.booking;
    let shown = booking_row(row, zone, now);
    match column {
        "booker" => (shown.booker, "", false),
        "address" => (b.email.clone(), "", false),
        "event" => (shown.title, "", false),
        "date" => (shown.when, "", false),
        "seats" => (shown.people.to_string(), "", true),
        "state" => (shown.state.to_owned(), shown.class, false),
        "total" => (b.total.column(), "", true),
        "paid" => (shown.paid, "", true),
        "due" => (shown.due, "", true),
        "made" => (words::moment(b.made_at, zone, now), "", false),
        _ => (shown.last, "", false),
    }
}

fn row(
    asked: &Asked,
    listed: &Listed,
    list: &BookingList,
    now: jiff::Timestamp,
    zone: &str,
) -> Shown {
    let (questions, answers) = (&list.questions, &list.answers);
    let mut cells: Vec<_> = COLUMNS
        .iter()
        .filter(|(name, ..)| asked.columns.iter().any(|c| c == name))
        .map(|(name, head, _)| {
            let (text, class, number) = cell(name, listed, zone, now);
            (text, class, number, *head)
        })
        .collect();
    cells.extend(questions.iter().map(|q| {
        let given = answers.get(&listed.booking.id.0).and_then(|given| given.get(q));
        (given.cloned().unwrap_or_default(), "", false, "")
    }));
    Shown {
        href: format!("/office/bookings/{}", listed.booking.reference.as_str()),
        reference: listed.booking.reference.to_string(),
        plain: listed.booking.reference.as_str().to_owned(),
        cells,
    }
}

/// What a kept view finds, by what its address says.
pub(crate) fn filter(query: &str) -> Filter {
    Asked::read(query).filter()
}

async fn load(at: &Clerk, asked: &Asked, skip: u32, most: u32) -> Result<BookingList, WebError> {
    let filter = Filter { skip, most, ..asked.filter() };
    Ok(office::bookings(&at.app.desk, &at.staff, filter, asked.answers).await?)
}

/// `GET /office/bookings`: bookings by words.
pub(crate) async fn list(at: Clerk, uri: Uri) -> Result<Response, WebError> {
    let asked = Asked::read(uri.query().unwrap_or_default());
    let skip = asked.page.saturating_mul(ROWS);
    let list = load(&at, &asked, skip, ROWS).await?;
    let now = at.app.desk.clock.now();
    let address = |page: u32| format!("/office/bookings?{}&page={page}", asked.query());
    let shown = u32::try_from(list.rows.len()).unwrap_or(ROWS);
    let zone = list.house.zone.clone();
    let rows = list.rows.iter().map(|r| row(&asked, r, &list, now, &zone)).collect();
    let f = at.frame("Bookings", &list.house.name).in_room("bookings");
    html(&List {
        f,
        event: asked.event,
        sort: asked.sort.clone(),
        answers: asked.answers,
        headings: COLUMNS
            .iter()
            .map(|(name, words, number)| Heading {
                name,
                words: (*words).to_owned(),
                number: *number,
                shown: asked.columns.iter().any(|c| c == name),
                sorts: Order::from_word(name) != Order::default(),
            })
            .collect(),
        questions: list.questions.clone(),
        found: list.count,
        from: if shown == 0 { 0 } else { skip + 1 },
        to: skip + shown,
        query: asked.query(),
        earlier: (asked.page > 0).then(|| address(asked.page - 1)),
        later: (shown == ROWS && (skip + shown < list.count || list.count > MOST_COUNTED))
            .then(|| address(asked.page + 1)),
        rows,
        views: many::saved(&at.app.desk, &at.staff).await?,
        acts: if at.staff.role.may(matricle_core::people::staff::Right::ChangeBookings) {
            Act::ALL.map(Act::word).to_vec()
        } else {
            Vec::new()
        },
        q: asked.q,
    })
}

/// `GET /office/bookings.csv` and `.xlsx`: the list just as it is shown, all of its rows.
pub(crate) async fn file(at: Clerk, uri: Uri) -> Result<Response, WebError> {
    let asked = Asked::read(uri.query().unwrap_or_default());
    let list = load(&at, &asked, 0, FILE_ROWS).await?;
    let now = at.app.desk.clock.now();
    let zone = list.house.zone.clone();
    let mut head = vec!["Booking"];
    let columns: Vec<_> =
        COLUMNS.iter().filter(|(name, ..)| asked.columns.iter().any(|c| c == name)).collect();
    head.extend(columns.iter().map(|(_, words, _)| *words));
    head.extend(list.questions.iter().map(String::as_str));
    head.push("Currency");
    let cells: Vec<Vec<Cell>> = list
        .rows
        .iter()
        .map(|r| {
            let shown = row(&asked, r, &list, now, &zone);
            let b = &r.booking;
            let rest = shown.cells.into_iter().enumerate().map(|(n, (text, ..))| {
                match columns.get(n).map_or("", |(name, ..)| *name) {
                    "date" => r.starts.into(),
                    "made" => Cell::at(b.made_at, &zone),
                    "seats" => r.people.into(),
                    "total" => Cell::amount(&b.total.figures()),
                    "paid" => Cell::amount(&b.paid.figures()),
                    "due" if text == "–" => Cell::amount(&b.total.currency.of(0).figures()),
                    "due" => Cell::amount(&text),
                    _ => text.into(),
                }
            });
            let currency = Cell::from(list.house.currency.letters());
            std::iter::once(Cell::from(shown.reference)).chain(rest).chain([currency]).collect()
        })
        .collect();
    let what = format!("bookings, {} rows", cells.len());
    matricle_desk::house::audit::taken_away(&at.app.desk, &at.staff, what).await?;
    list_file(uri.path(), "Bookings", &head, &cells)
}

/// One act on many bookings, before and after it.
#[derive(Template)]
#[template(path = "office/many.html")]
struct Many {
    f: Frame,
    act: &'static str,
    heading: String,
    rows: Vec<(String, String)>,
    references: Vec<String>,
    query: String,
    reason: String,
    asks_reason: bool,
    done: Option<DoneView>,
}

struct DoneView {
    refused: Vec<(String, String)>,
    undo: Option<&'static str>,
}

/// Why something could not be done with one booking of many.
fn why_not(error: &DeskError) -> String {
    match error {
        DeskError::Move(refusal) => format!("it is {} by now", wording::state(refusal.state)),
        DeskError::Choice(refusal) => wording::choice(refusal, &[]),
        DeskError::NotFound => "there is no such booking".into(),
        _ => "it did not work; open the booking and try there".into(),
    }
}

/// `POST /office/many`: what it will do, then the act, then a way to undo it.
pub(crate) async fn act(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let query = posted.get("query").to_owned();
    let asked = Asked::read(&query);
    let Some(act) = Act::from_word(posted.get("act")) else {
        return Ok(Redirect::to(&format!("/office/bookings?{query}")).into_response());
    };
    let references: Vec<Reference> = if posted.get("all") == "yes" {
        many::found(&at.app.desk, &at.staff, asked.filter()).await?
    } else {
        posted
            .starting("ref")
            .filter(|(rest, _)| rest.is_empty())
            .filter_map(|(_, r)| Reference::parse(r))
            .collect()
    };
    let house = at.app.desk.house().await?;
    let reason = matricle_core::words::text::line(posted.get("reason"));
    let count = words::count(u32::try_from(references.len()).unwrap_or(u32::MAX), "bookings");
    let mut page = Many {
        f: at.frame("Bookings", &house.name).in_room("bookings"),
        act: act.word(),
        heading: format!("{}{}: {count}", act.word()[..1].to_uppercase(), &act.word()[1..]),
        rows: Vec::new(),
        references: references.iter().map(|r| r.as_str().to_owned()).collect(),
        query,
        reason: reason.clone(),
        asks_reason: act == Act::Decline,
        done: None,
    };
    if posted.get("sure") != "yes" {
        let mut states: BTreeMap<&'static str, (u32, i64)> = BTreeMap::new();
        let list = office::by_references(&at.app.desk, &at.staff, references).await?;
        for b in &list {
            let sum = states.entry(wording::state(b.state)).or_default();
            *sum = (sum.0 + 1, sum.1 + b.paid.minor);
        }
        page.rows = states
            .into_iter()
            .map(|(state, (n, paid))| {
                let paid = house.currency.of(paid);
                (format!("{n} {state}"), format!("{paid} paid"))
            })
            .collect();
        return html(&page);
    }
    let Done { done, refused } =
        many::act(&at.app.desk, &at.staff, act, references, &reason).await?;
    page.heading = format!(
        "Done with {}",
        words::count(u32::try_from(done.len()).unwrap_or(u32::MAX), "bookings")
    );
    page.references = done.iter().map(|r| r.as_str().to_owned()).collect();
    page.done = Some(DoneView {
        refused: refused.iter().map(|(r, error)| (r.to_string(), why_not(error))).collect(),
        undo: act.undone_by().filter(|_| !done.is_empty()).map(Act::word),
    });
    html(&page)
}

/// `POST /office/views`: saves the list as it is shown, or forgets one.
pub(crate) async fn views(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let query = posted.get("query");
    match posted.get("forget").parse() {
        Ok(id) => many::forget(&at.app.desk, &at.staff, id).await?,
        Err(_) => many::save(&at.app.desk, &at.staff, posted.get("name"), query).await?,
    }
    Ok(Redirect::to(&format!("/office/bookings?{query}")).into_response())
}
