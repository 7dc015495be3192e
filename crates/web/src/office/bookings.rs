//! Bookings at the Office: the list, found by words, with the columns one wants; and one act
//! on many.

use std::collections::BTreeMap;

use askama::Template;
use axum::http::Uri;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::Timestamp;
use matricle_core::people::staff::Right;
use matricle_core::words::codes::Reference;
use matricle_core::{EventId, Money};
use matricle_desk::DeskError;
use matricle_desk::bookings::many::{self, Act, Done};
use matricle_desk::office::{self, BookingList};
use matricle_formats::table::Cell;
use matricle_formats::words;
use matricle_store::bookings::{Filter, Listed, MOST_COUNTED, Order};

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html};
use crate::parts::list::{Ask, Column, Columns, InFile, Shown, Table};
use crate::wording;

/// Rows on a page.
const ROWS: u32 = 30;
/// Rows of a file.
const FILE_ROWS: u32 = u32::MAX;

/// Columns shown unless others are chosen.
const USUAL: [&str; 7] = ["booker", "event", "date", "seats", "state", "paid", "due"];

/// What the address of a list says.
#[derive(Debug, Clone, Default)]
struct BookingsQuery {
    ask: Ask,
    event: Option<i64>,
    /// Keys of the columns that are shown.
    chosen: Vec<String>,
    answers: bool,
}

impl BookingsQuery {
    fn read(query: &str) -> Self {
        let mut asked = Self { ask: Ask::read(query), ..Self::default() };
        for (name, value) in form_urlencoded::parse(query.as_bytes()) {
            match &*name {
                "event" => asked.event = value.parse().ok(),
                "col" => asked.chosen.push(value.into_owned()),
                "answers" => asked.answers = value == "yes",
                _ => {}
            }
        }
        let known = self::choice("UTC", Timestamp::UNIX_EPOCH);
        asked.chosen.retain(|key| known.iter().any(|c| c.key() == key));
        if asked.chosen.is_empty() {
            asked.chosen = USUAL.map(String::from).to_vec();
        }
        asked
    }

    fn filter(&self) -> Filter {
        Filter {
            words: self.ask.q.clone(),
            event: self.event.map(EventId),
            order: Order::from_word(&self.ask.sort),
            ..Filter::default()
        }
    }

    fn page(&self) -> u32 {
        u32::try_from(self.ask.page).unwrap_or(u32::MAX)
    }

    /// What the address says beside the words and the order.
    fn what(&self) -> String {
        let mut query = String::new();
        if let Some(event) = self.event {
            query.push_str(&format!("event={event}&"));
        }
        if self.chosen != USUAL {
            self.chosen.iter().for_each(|c| query.push_str(&format!("col={c}&")));
        }
        if self.answers {
            query.push_str("answers=yes&");
        }
        query
    }

    /// The address again, but for the page.
    fn query(&self) -> String {
        format!("{}{}", self.what(), self.ask.query().trim_end_matches('&'))
    }
}

#[derive(Template)]
#[template(path = "office/bookings.html")]
struct List {
    f: Frame,
    q: String,
    event: Option<i64>,
    sort: String,
    answers: bool,
    /// Columns that can be chosen: key, heading, whether it is.
    choice: Vec<(&'static str, String, bool)>,
    table: Table,
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
}

/// Columns that can be chosen.
fn choice(zone: &str, now: Timestamp) -> Columns<'_, Listed> {
    let today = words::local(now, zone).date();
    let owes = |r: &Listed| wording::state_class(r.booking.state) != "over";
    let shown = |m: Money| if m.is_zero() { "–".to_owned() } else { m.column() };
    let amount = |m: Money| Cell::amount(&m.figures());
    let due = move |r: &Listed| match owes(r) {
        true => amount(r.booking.due()),
        false => amount(r.booking.total.currency.of(0)),
    };
    let state = |r: &Listed| {
        let mark = format!("st st-{}", wording::state_class(r.booking.state));
        Shown::state(wording::state(r.booking.state), mark).class("")
    };
    vec![
        Column::new("booker", "Booker", |r: &Listed| r.booking.booker().to_owned()).by_store(false),
        Column::new("address", "Address", |r: &Listed| r.booking.email.clone()),
        Column::new("event", "Event", |r: &Listed| r.title.clone()).by_store(false),
        Column::new("date", "Date", |r: &Listed| r.starts)
            .shown(move |r| words::day(r.starts.date(), today))
            .by_store(false),
        Column::new("seats", "Seats", |r: &Listed| r.people).number(),
        Column::new("state", "State", |r: &Listed| wording::state(r.booking.state))
            .shown(state)
            .by_store(false),
        Column::new("total", "Total", move |r: &Listed| amount(r.booking.total))
            .shown(|r| r.booking.total.column())
            .number(),
        Column::new("paid", "Paid", move |r: &Listed| amount(r.booking.paid))
            .shown(move |r| shown(r.booking.paid))
            .number(),
        Column::new("due", "Due", due)
            .shown(move |r| if owes(r) { shown(r.booking.due()) } else { "–".to_owned() })
            .number()
            .by_store(false),
        Column::new("made", "Made", move |r: &Listed| Cell::at(r.booking.made_at, zone))
            .shown(move |r| words::moment(r.booking.made_at, zone, now)),
        Column::new("last", "Last", |r: &Listed| r.last.clone()),
    ]
}

/// The columns of the list: those chosen, and answers to questions where they are asked for.
fn columns<'a>(
    asked: &BookingsQuery,
    list: &'a BookingList,
    now: Timestamp,
) -> Columns<'a, Listed> {
    let mut columns = vec![
        Column::new("reference", "Booking", |r: &Listed| r.booking.reference.to_string()).shown(
            |r| {
                Shown::from(r.booking.reference.to_string())
                    .to(format!("/office/bookings/{}", r.booking.reference.as_str()))
                    .class("ref")
            },
        ),
    ];
    let is_chosen = |c: &Column<'_, Listed>| asked.chosen.iter().any(|key| key == c.key());
    columns.extend(choice(&list.house.zone, now).into_iter().filter(is_chosen));
    columns.extend(list.questions.iter().map(|question| {
        let given = |r: &Listed| list.answers.get(&r.booking.id.0)?.get(question).cloned();
        Column::new("", question.as_str(), given)
    }));
    let letters = list.house.currency.letters();
    columns.push(Column::new("currency", "Currency", move |_: &Listed| letters).in_files());
    columns
}

/// What a kept view finds, by what its address says.
pub(crate) fn filter(query: &str) -> Filter {
    BookingsQuery::read(query).filter()
}

async fn load(
    at: &Clerk,
    asked: &BookingsQuery,
    skip: u32,
    most: u32,
) -> Result<BookingList, WebError> {
    let filter = Filter { skip, most, ..asked.filter() };
    Ok(office::bookings(&at.app.desk, &at.staff, filter, asked.answers).await?)
}

/// `GET /office/bookings`: bookings by words.
pub(crate) async fn list(at: Clerk, uri: Uri) -> Result<Response, WebError> {
    let asked = BookingsQuery::read(uri.query().unwrap_or_default());
    let skip = asked.page().saturating_mul(ROWS);
    let list = load(&at, &asked, skip, ROWS).await?;
    let now = at.app.desk.clock.now();
    let address = |page: u32| format!("/office/bookings?{}&page={page}", asked.query());
    let shown = u32::try_from(list.rows.len()).unwrap_or(ROWS);
    let acts = if at.staff.role.may(Right::ChangeBookings) {
        Act::ALL.map(Act::word).to_vec()
    } else {
        Vec::new()
    };
    let here = format!("/office/bookings?{}", asked.what());
    let mut table = Table::new(&columns(&asked, &list, now), &list.rows, &here, &asked.ask);
    if !acts.is_empty() {
        let tick =
            |r: &Listed| (r.booking.reference.as_str().to_owned(), r.booking.reference.to_string());
        table = table.ticked("ref", list.rows.iter().map(tick));
    }
    let is_chosen = |key: &str| asked.chosen.iter().any(|c| c == key);
    html(&List {
        f: at.frame("Bookings", &list.house.name).in_room("bookings"),
        event: asked.event,
        sort: asked.ask.sort.clone(),
        answers: asked.answers,
        choice: choice(&list.house.zone, now)
            .iter()
            .map(|c| (c.key(), c.heading().to_owned(), is_chosen(c.key())))
            .collect(),
        table,
        found: list.count,
        from: if shown == 0 { 0 } else { skip + 1 },
        to: skip + shown,
        query: asked.query(),
        earlier: asked.page().checked_sub(1).map(address),
        later: (shown == ROWS && (skip + shown < list.count || list.count > MOST_COUNTED))
            .then(|| address(asked.page() + 1)),
        views: many::saved(&at.app.desk, &at.staff).await?,
        acts,
        q: asked.ask.q,
    })
}

/// `GET /office/bookings.csv` and `.xlsx`: the list just as it is shown, all of its rows.
pub(crate) async fn file(at: Clerk, uri: Uri) -> Result<Response, WebError> {
    let asked = BookingsQuery::read(uri.query().unwrap_or_default());
    let list = load(&at, &asked, 0, FILE_ROWS).await?;
    let columns = columns(&asked, &list, at.app.desk.clock.now());
    InFile::of(&columns, &list.rows)
        .hand_out((&at.app.desk, &at.staff), &uri, ("Bookings", "bookings"))
        .await
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
    let asked = BookingsQuery::read(&query);
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
