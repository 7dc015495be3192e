//! The tickets of an event.

use askama::Template;
use axum::extract::Path;
use axum::response::Response;
use matricle_core::booking::confirm::Way;
use matricle_core::words::codes::Reference;
use matricle_core::{EventId, TicketTypeId};
use matricle_desk::DeskError;
use matricle_desk::planning::sheet::{self, Settings};
use matricle_desk::planning::tickets as on;
use matricle_formats::words;
use matricle_store::events::TicketRow;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::office::tab::{answer, frame};
use crate::page::Frame;
use crate::parts::drawn::Drawn;
use crate::parts::fields::{Fields, form};

struct TicketView {
    here: bool,
    id: i64,
    name: String,
    note: String,
    price: String,
    more: Vec<String>,
    sold: u32,
}

#[derive(Template)]
#[template(path = "office/tickets.html")]
struct Tickets {
    /// Kinds of stamp cards that a ticket may be.
    card_kinds: Vec<(String, String)>,
    both: bool,
    /// Bookings that wait for a yes and need not any more: what becomes of them is asked.
    waiting: Vec<(String, String)>,
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    rows: Vec<TicketView>,
    editing: Option<i64>,
    d: Fields,
    pools: Vec<String>,
    rates: Vec<(String, String)>,
    currency: String,
}

impl Tickets {
    /// What a ticket takes of one thing the event counts.
    fn draw(&self, pool: &str, place: &usize) -> Drawn<'_> {
        self.d.draw(on::DRAW).row(*place).label(format!("{} {pool}", on::DRAW.label))
    }
}

fn ticket_view(
    row: &TicketRow,
    editing: Option<i64>,
    s: &Settings,
    now: jiff::Timestamp,
) -> TicketView {
    let (t, currency, zone) = (&row.plan, s.house.currency, &s.house.zone);
    let mut more = Vec::new();
    let takes: Vec<String> = t
        .draws
        .iter()
        .filter_map(|(i, n)| s.pools.get(*i).map(|name| words::count(*n, name)))
        .collect();
    match &t.card {
        Some(kind) => more.push(format!("the stamp card “{kind}”")),
        None => more.push(format!("takes {}", takes.join(" and "))),
    }
    if t.admits != 1 && t.card.is_none() {
        more.push(format!("lets {} in", words::count(t.admits, "people")));
    }
    if let Some(early) = t.early {
        more.push(format!(
            "{} until {}",
            currency.of(early.minor),
            words::deadline(early.until, zone, now)
        ));
    }
    if let Some(member) = t.member {
        more.push(format!("{} for members", currency.of(member)));
    }
    if let Some(group) = t.group {
        more.push(format!("{} each from {} on", currency.of(group.minor), group.from));
    }
    if let Some(tax) = &t.tax {
        more.push(format!("tax: {tax}"));
    }
    if let Some(stamps) = t.stamps {
        more.push(format!("or {}", words::count(stamps, "stamps")));
    }
    match t.confirm {
        Some(Way::ByItself) => more.push("confirmed by itself".into()),
        Some(Way::AfterYes) => more.push("confirmed after the organiser’s yes".into()),
        None => {}
    }
    if let Some(until) = t.sale.until {
        more.push(format!("on sale until {}", words::deadline(until, zone, now)));
    }
    if let Some(from) = t.sale.from {
        more.push(format!("on sale from {}", words::moment(from, zone, now)));
    }
    if let Some(n) = t.per_date {
        more.push(format!("at most {n} a date"));
    }
    if !t.word.is_empty() {
        more.push(format!("only with the word “{}”", t.word));
    }
    if t.members_only {
        more.push("for members only".into());
    }
    if !t.invited.is_empty() {
        more.push(format!("by invitation, {} on the list", t.invited.len()));
    }
    if t.closed {
        more.push("closed by hand".into());
    }
    TicketView {
        id: row.id.0,
        here: editing == Some(row.id.0),
        name: t.name.clone(),
        note: t.note.clone(),
        price: if t.minor == 0 { "free".into() } else { currency.of(t.minor).to_string() },
        more,
        sold: row.sold,
    }
}

fn ticket_fields(ticket: Option<&TicketRow>, s: &Settings) -> Fields {
    let mut plan = ticket.map_or_else(on::blank, |row| row.plan.clone());
    let place = ticket.and_then(|row| s.tickets.iter().position(|r| r.id == row.id));
    let mut place = place.and_then(|i| u32::try_from(i + 1).ok());
    Fields::filled(&s.house.locale(), |f| {
        on::form(f, &mut plan, s.pools.len());
        f.bind(&on::PLACE, &mut place);
    })
}

async fn tickets_page(
    at: &Clerk,
    id: i64,
    editing: Option<i64>,
    d: Option<Fields>,
    waiting: Vec<(String, String)>,
) -> Result<Response, WebError> {
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let now = at.app.desk.clock.now();
    let d = match (d, editing) {
        (Some(d), _) => d,
        (None, Some(ticket)) => {
            let row = s.tickets.iter().find(|t| t.id.0 == ticket);
            ticket_fields(Some(row.ok_or(DeskError::NotFound)?), &s)
        }
        (None, None) => ticket_fields(None, &s),
    };
    let count = d.count();
    let mut rates = vec![(String::new(), "none".to_owned())];
    rates.extend(s.tax_rates.iter().map(|r| {
        (r.name.clone(), format!("{}, {}.{:02} %", r.name, r.basis / 100, r.basis % 100))
    }));
    let mut card_kinds = vec![(String::new(), "no, a seat".to_owned())];
    card_kinds.extend(s.card_kinds.iter().map(|k| (k.clone(), k.clone())));
    let page = Tickets {
        card_kinds,
        both: s.event.format == matricle_store::events::Format::Both,
        waiting,
        tab: "tickets",
        id,
        bookings: s.bookings,
        title: s.event.title.clone(),
        rows: s.tickets.iter().map(|t| ticket_view(t, editing, &s, now)).collect(),
        editing,
        pools: s.pools.clone(),
        rates,
        currency: s.house.currency.letters().to_owned(),
        f: frame(at, &s),
        d,
    };
    answer(count, &page)
}

pub(crate) async fn tickets(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    tickets_page(&at, id, None, None, Vec::new()).await
}

pub(crate) async fn ticket(
    at: Clerk,
    Path((id, ticket)): Path<(i64, i64)>,
) -> Result<Response, WebError> {
    tickets_page(&at, id, Some(ticket), None, Vec::new()).await
}

/// `POST /office/events/{id}/tickets/{ticket}`: a change, an addition (`0`), or off with it.
pub(crate) async fn save_ticket(
    at: Clerk,
    Path((id, ticket)): Path<(i64, i64)>,
    posted: Posted,
) -> Result<Response, WebError> {
    let which = (ticket != 0).then_some(TicketTypeId(ticket));
    if let (Some(which), "drop") = (which, posted.get("act")) {
        on::drop_ticket(&at.app.desk, &at.staff, EventId(id), which).await?;
        let to = format!("/office/events/{id}/tickets");
        return Ok(at.done(&to, "The ticket type is off the event. What was booked with it stays."));
    }
    let _alone = at.keeping().await;
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let row = s.tickets.iter().find(|t| Some(t.id) == which);
    let now = row.map_or_else(Fields::default, |row| ticket_fields(Some(row), &s));
    let posted = match posted.over(&now) {
        Ok(posted) => posted,
        Err(again) => return tickets_page(&at, id, Some(ticket), Some(*again), Vec::new()).await,
    };
    match on::save_ticket(&at.app.desk, &at.staff, EventId(id), which, form(&posted)).await {
        Ok(()) => {
            let what = format!("Kept: {}.", posted.get("name").trim());
            Ok(at.done(&format!("/office/events/{id}/tickets"), what))
        }
        Err(DeskError::Freed { bookings }) => {
            let d = Some(Fields::posted(&posted, &[]));
            tickets_page(&at, id, which.map(|t| t.0), d, freed(bookings)).await
        }
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            tickets_page(&at, id, which.map(|t| t.0), Some(d), Vec::new()).await
        }
    }
}

/// Bookings that wait for a yes and need not any more: reference and booker.
pub(crate) fn freed(bookings: Vec<(Reference, String)>) -> Vec<(String, String)> {
    bookings.into_iter().map(|(reference, name)| (reference.to_string(), name)).collect()
}
