//! Events at the Office: the list, the sheet, its confirmations.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use jiff::Timestamp;
use matricle_core::words::fold;
use matricle_core::{DateId, EventId};
use matricle_desk::office::{self, EventSheet};
use matricle_formats::words;
use matricle_store::bookings::Filter;
use matricle_store::events::{DateSheet, EventState};
use serde::Deserialize;

use super::{BookingRow, DateRow, booking_row, date_row};
use crate::App;
use crate::error::WebError;
use crate::guard::{SignedIn, Visitor};
use crate::live;
use crate::page::{Face, Frame, html};
use crate::parts::strip;
use crate::parts::thread::{self, Bar, Block, Pin, Thread};

/// Words typed into a filter.
#[derive(Debug, Deserialize)]
pub(crate) struct Words {
    #[serde(default)]
    pub(crate) q: String,
}

#[derive(Template)]
#[template(path = "office/events.html")]
struct List {
    f: Frame,
    q: String,
    rows: Vec<DateRow>,
}

/// `GET /office/events`: all dates, those to come first.
pub(crate) async fn list(
    State(app): State<App>,
    visitor: Visitor,
    SignedIn(staff): SignedIn,
    Query(Words { q }): Query<Words>,
) -> Result<Response, WebError> {
    let (house, dates) = office::dates(&app.desk, &staff).await?;
    let now = app.desk.clock.now();
    let (past, coming): (Vec<_>, Vec<_>) = dates.iter().partition(|d| d.date.span.ends_at <= now);
    let asked: Vec<String> =
        fold(&q).split(' ').filter(|w| !w.is_empty()).map(String::from).collect();
    let rows = coming
        .into_iter()
        .chain(past.into_iter().rev())
        .map(|d| date_row(d, now))
        .filter(|r| {
            let text = fold(&format!("{} {} {} {} {}", r.title, r.kind, r.when, r.place, r.state));
            asked.iter().all(|w| text.contains(w.as_str()))
        })
        .collect();
    let f = Frame::new(&app, Face::Office, "Events", &house.name, &visitor, Some(&staff))
        .in_room("events");
    html(&List { f, q, rows })
}

/// The seats of a date, kept up to date on the sheet.
#[derive(Template)]
#[template(path = "office/seats.html")]
struct Seats {
    strip: String,
    counts: Vec<(u32, &'static str)>,
    free: u32,
    capacity: u32,
    over: u32,
    inside: u32,
    others: Vec<String>,
}

fn seats(date: &DateSheet) -> Seats {
    let pool = date.main_pool();
    let t = pool.taken;
    let counts = [
        (t.confirmed, "confirmed"),
        (t.awaiting_payment, "to pay"),
        (t.requested, "asking"),
        (t.held, "held"),
    ];
    Seats {
        strip: strip::svg(&pool, date.inside, strip::SHEET),
        counts: counts.into_iter().filter(|(n, word)| *n > 0 || *word == "confirmed").collect(),
        free: pool.free(),
        capacity: pool.capacity,
        over: t.total().saturating_sub(pool.capacity),
        inside: date.inside,
        others: date
            .offer
            .pools
            .iter()
            .skip(1)
            .map(|p| format!("{}: {} of {} taken", p.name, p.taken.total(), p.capacity))
            .collect(),
    }
}

struct DateView {
    id: i64,
    when: String,
    seats: String,
    door: Option<String>,
    many: bool,
}

struct TicketRow {
    name: String,
    note: String,
    price: String,
    sale: String,
}

#[derive(Template)]
#[template(path = "office/event.html")]
struct Sheet {
    f: Frame,
    tab: &'static str,
    id: i64,
    kind: String,
    title: String,
    state: &'static str,
    when: String,
    programme: String,
    published: bool,
    draft: bool,
    dates: Vec<DateView>,
    thread: String,
    tickets: Vec<TicketRow>,
    latest: Vec<BookingRow>,
    bookings: u32,
}

/// `GET /office/events/{id}`: the sheet of an event.
pub(crate) async fn sheet(
    State(app): State<App>,
    Path(id): Path<i64>,
    visitor: Visitor,
    SignedIn(staff): SignedIn,
) -> Result<Response, WebError> {
    let sheet = office::event(&app.desk, &staff, EventId(id)).await?;
    let now = app.desk.clock.now();
    let zone = sheet.house.zone.clone();
    let many = sheet.dates.len() > 1;
    let mut dates = Vec::new();
    for date in &sheet.dates {
        let span = &date.date.span;
        let today = words::local(now, &span.zone).date();
        let is_on = span.starts.date() == today || (span.starts_at <= now && now < span.ends_at);
        dates.push(DateView {
            id: date.date.id.0,
            when: words::span(span.starts, span.ends, today),
            seats: seats(date).render()?,
            door: is_on.then(|| format!("/door/{}", date.date.id)),
            many,
        });
    }
    let when = sheet.dates.first().map_or_else(String::new, |d| {
        let place = d.date.place();
        let hosts = if d.date.hosts.is_empty() {
            String::new()
        } else {
            format!(" · led by {}", d.date.hosts)
        };
        let span = words::long_span(d.date.span.starts, d.date.span.ends);
        let more =
            if many { format!(" and {} more", sheet.dates.len() - 1) } else { String::new() };
        format!("{span}{more} · {place}{hosts}")
    });
    let f = Frame::new(
        &app,
        Face::Office,
        sheet.event.title.clone(),
        &sheet.house.name,
        &visitor,
        Some(&staff),
    )
    .in_room("events");
    html(&Sheet {
        f,
        tab: "sheet",
        id,
        kind: sheet.event.kind.clone(),
        title: sheet.event.title.clone(),
        state: sheet.event.state.word(),
        when,
        programme: format!("/events/{}", sheet.event.slug),
        published: sheet.event.state == EventState::Published,
        draft: sheet.event.state == EventState::Draft,
        dates,
        thread: thread::svg(&thread_of(&sheet, now)),
        tickets: tickets(&sheet, now),
        latest: sheet.latest.iter().map(|r| booking_row(r, &zone, now)).collect(),
        bookings: sheet.bookings,
    })
}

fn tickets(sheet: &EventSheet, now: Timestamp) -> Vec<TicketRow> {
    let Some(date) = sheet.dates.first() else { return Vec::new() };
    let (currency, zone) = (sheet.house.currency, &sheet.house.zone);
    date.tickets
        .iter()
        .zip(&date.offer.offers)
        .map(|(t, o)| {
            let base = currency.of(o.price.minor);
            let price = match o.price.early {
                Some(early) => format!(
                    "{base}, {} until {}",
                    currency.of(early.minor),
                    words::deadline(early.until, zone, now)
                ),
                None if base.is_zero() => "free".into(),
                None => base.to_string(),
            };
            let sale = match o.sale.until {
                Some(until) => format!("on sale until {}", words::deadline(until, zone, now)),
                None => "on sale until the start".into(),
            };
            TicketRow { name: t.name.clone(), note: t.note.clone(), price, sale }
        })
        .collect()
}

/// The thread of an event: sale windows, early prices, dates, confirmations.
fn thread_of(sheet: &EventSheet, now: Timestamp) -> Thread {
    let zone = sheet.house.zone.clone();
    let first = sheet.first_booking.unwrap_or(now).min(now);
    let mut bars: Vec<Bar> = Vec::new();
    let mut add = |class: &'static str, from: Timestamp, until: Timestamp, label: String| {
        if !bars.iter().any(|b| b.class == class && b.until == until) && until > from {
            bars.push(Bar { class, from, until, label });
        }
    };
    for date in &sheet.dates {
        for offer in &date.offer.offers {
            let from = offer.sale.from.unwrap_or(first);
            let until =
                offer.sale.until.map_or(date.offer.starts_at, |u| u.min(date.offer.starts_at));
            add(
                "sale",
                from,
                until,
                format!("on sale until {}", words::deadline(until, &zone, now)),
            );
        }
    }
    for date in &sheet.dates {
        for (ticket, offer) in date.tickets.iter().zip(&date.offer.offers) {
            if let Some(early) = offer.price.early {
                let by = words::deadline(early.until, &zone, now);
                add(
                    "early",
                    first,
                    early.until,
                    format!("{}: early price until {by}", ticket.name),
                );
            }
        }
    }
    let blocks = sheet
        .dates
        .iter()
        .map(|d| {
            let span = &d.date.span;
            let today = words::local(now, &span.zone).date();
            Block {
                from: span.starts_at,
                until: span.ends_at,
                label: words::span(span.starts, span.ends, today),
            }
        })
        .collect();
    let c = sheet.confirmations;
    let href = format!("/office/events/{}/confirmations", sheet.event.id);
    let mut pins = Vec::new();
    if let (Some(first), Some(last)) = (c.first, c.last) {
        let sent = Pin {
            at: first,
            sent: true,
            label: format!("confirmations, {} sent so far", c.sent),
            href: href.clone(),
        };
        pins.push(sent);
        if c.sent > 1 {
            let label = format!("the latest, {}", words::moment(last, &zone, now));
            pins.push(Pin { at: last, sent: true, label, href: href.clone() });
        }
    }
    if c.planned > 0 {
        pins.push(Pin {
            at: now,
            sent: false,
            label: format!("confirmations, {} to go", c.planned),
            href,
        });
    }
    Thread { zone, now, bars, blocks, pins }
}

#[derive(Template)]
#[template(path = "office/confirmations.html")]
struct Confirmations {
    f: Frame,
    tab: &'static str,
    id: i64,
    title: String,
    bookings: u32,
    rows: Vec<BookingRow>,
    sent: u32,
    planned: u32,
}

/// `GET /office/events/{id}/confirmations`: what went to whom.
pub(crate) async fn confirmations(
    State(app): State<App>,
    Path(id): Path<i64>,
    visitor: Visitor,
    SignedIn(staff): SignedIn,
) -> Result<Response, WebError> {
    let event = office::event(&app.desk, &staff, EventId(id)).await?;
    let filter = Filter {
        event: Some(EventId(id)),
        state: Some(matricle_core::booking::State::Confirmed),
        most: 500,
        ..Filter::default()
    };
    let (house, rows, _) = office::bookings(&app.desk, &staff, filter).await?;
    let now = app.desk.clock.now();
    let f = Frame::new(&app, Face::Office, "Confirmations", &house.name, &visitor, Some(&staff))
        .in_room("events");
    html(&Confirmations {
        f,
        tab: "confirmations",
        id,
        title: event.event.title,
        bookings: event.bookings,
        rows: rows.iter().map(|r| booking_row(r, &house.zone, now)).collect(),
        sent: event.confirmations.sent,
        planned: event.confirmations.planned,
    })
}

/// `GET /office/dates/{id}/live`: the seats of a date, as they change.
pub(crate) async fn live(
    State(app): State<App>,
    Path(id): Path<i64>,
    SignedIn(staff): SignedIn,
) -> Result<Response, WebError> {
    // Refused now rather than in the stream.
    office::date(&app.desk, &staff, DateId(id)).await?;
    let desk = app.desk.clone();
    Ok(live::stream(&app, DateId(id), move || {
        let (desk, staff) = (desk.clone(), staff.clone());
        async move { Ok(seats(&office::date(&desk, &staff, DateId(id)).await?).render()?) }
    }))
}
