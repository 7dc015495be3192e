//! An event's tab *After booking*: what bookers may do themselves, cancellation steps, the
//! waiting list of each date, booking by phone.

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::seats::Wanted;
use matricle_core::waiting::{Manner, Stands};
use matricle_core::{DateId, EventId, TicketTypeId};
use matricle_desk::bookings::phone::{self, ByPhone};
use matricle_desk::bookings::waiting;
use matricle_desk::planning::sheet;
use matricle_desk::{DeskError, office};
use matricle_formats::words;
use serde::Deserialize;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form};
use crate::wording;

struct WaiterRow {
    id: i64,
    place: String,
    name: String,
    email: String,
    tickets: String,
    stands: &'static str,
    when: String,
    note: String,
    may_offer: bool,
}

#[derive(Template)]
#[template(path = "office/rules.html")]
struct Rules {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    d: Fields,
    said: &'static str,
    dates: Vec<(i64, String, u32, bool)>,
    date: Option<i64>,
    waiters: Vec<WaiterRow>,
    offering: Fields,
}

impl Rules {
    fn manners(&self) -> [(&'static str, &'static str); 3] {
        [
            (Manner::Off.word(), "Nobody waits"),
            (Manner::OfferFirst.word(), "Seats that come free are offered to the first who fits"),
            (Manner::TellAll.word(), "Everybody who waits is told, the first to book has them"),
        ]
    }
}

#[derive(Debug, Deserialize)]
pub(crate) struct Which {
    date: Option<i64>,
    #[serde(default)]
    saved: bool,
}

#[derive(Default)]
struct Again {
    d: Option<Fields>,
    offering: Fields,
}

async fn page(at: &Clerk, id: i64, which: &Which, again: Again) -> Result<Response, WebError> {
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let event = office::event(&at.app.desk, &at.staff, EventId(id)).await?;
    let now = at.app.desk.clock.now();
    let zone = &s.house.zone;
    let today = words::local(now, zone).date();
    let wrong = again.d.as_ref().map_or(0, Fields::count) + again.offering.count();
    let d = again.d.unwrap_or_else(|| {
        let r = &s.event.rules;
        let mut d = Fields::of([
            ("waiting", r.waiting.word().into()),
            ("offer_hours", r.offer_hours.to_string()),
        ]);
        d.tick("may_cancel", r.may_cancel);
        d.tick("may_move", r.may_move);
        d.tick("may_pass", r.may_pass);
        d.tick("own_steps", r.steps.is_some());
        for (i, (days, percent)) in r.steps.iter().flatten().enumerate() {
            d.add(&format!("days_{i}"), days.to_string());
            d.add(&format!("percent_{i}"), percent.to_string());
        }
        d
    });
    let mut dates = Vec::new();
    for date in event.dates.iter().filter(|d| d.date.span.ends_at > now) {
        let count = waiting::count(&at.app.desk, date.date.id).await?;
        let when = words::span(date.date.span.starts, date.date.span.ends, today);
        dates.push((date.date.id.0, when, count, which.date == Some(date.date.id.0)));
    }
    let date = which.date.or_else(|| dates.iter().find(|d| d.2 > 0).map(|d| d.0));
    let waiters = match date {
        Some(date) => waiting::list(&at.app.desk, &at.staff, DateId(date)).await?,
        None => Vec::new(),
    };
    let page = Rules {
        f: at.frame(s.event.title.clone(), &s.house.name).in_room("events"),
        tab: "rules",
        id,
        bookings: s.bookings,
        title: s.event.title.clone(),
        d,
        said: if which.saved { "Kept." } else { "" },
        dates,
        date,
        waiters: waiters
            .into_iter()
            .map(|p| WaiterRow {
                id: p.waiter.id,
                place: if p.waiter.stands == Stands::Waiting {
                    p.place.to_string()
                } else {
                    String::new()
                },
                name: p.waiter.name.clone(),
                email: p.waiter.email.clone(),
                tickets: p.tickets.join(", "),
                stands: p.waiter.stands.word(),
                when: words::moment(p.waiter.joined_at, zone, now),
                note: match (&p.offer, p.waiter.passed_over) {
                    (Some(offer), _) if p.waiter.stands == Stands::Offered => {
                        offer.deadline.map_or_else(String::new, |until| {
                            format!("until {}", words::moment(until, zone, now))
                        })
                    }
                    (_, 0) => String::new(),
                    (_, n) => format!("passed over {n} ×: the party did not fit"),
                },
                may_offer: matches!(p.waiter.stands, Stands::Waiting | Stands::Passed),
            })
            .collect(),
        offering: again.offering,
    };
    if wrong == 0 { html(&page) } else { refused(StatusCode::UNPROCESSABLE_ENTITY, &page) }
}

/// `GET /office/events/{id}/rules`.
pub(crate) async fn show(
    at: Clerk,
    Path(id): Path<i64>,
    Query(which): Query<Which>,
) -> Result<Response, WebError> {
    page(&at, id, &which, Again::default()).await
}

/// `POST /office/events/{id}/rules`.
pub(crate) async fn save(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    match sheet::set_rules(&at.app.desk, &at.staff, EventId(id), form(&posted)).await {
        Ok(()) => {
            Ok(Redirect::to(&format!("/office/events/{id}/rules?saved=true")).into_response())
        }
        Err(error) => {
            let again = Again { d: Some(Fields::again(&posted, error)?), ..Again::default() };
            page(&at, id, &Which { date: None, saved: false }, again).await
        }
    }
}

/// `POST /office/events/{id}/offer`: seats for somebody on the list, out of turn.
pub(crate) async fn offer(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let waiter = posted.get("waiter").parse().unwrap_or(0);
    let date = posted.get("date").parse().ok();
    let back = format!("/office/events/{id}/rules?date={}", date.unwrap_or(0));
    let mut offering = Fields::posted(&posted, &[]);
    match waiting::out_of_turn(&at.app.desk, &at.staff, waiter, form(&posted)).await {
        Ok(()) => return Ok(Redirect::to(&back).into_response()),
        Err(DeskError::Form(wrong)) => offering.mark(&wrong),
        Err(DeskError::Choice(refusal)) => offering.say("reason", wording::choice(&refusal, &[])),
        Err(error) => return Err(error.into()),
    }
    page(&at, id, &Which { date, saved: false }, Again { d: None, offering }).await
}

#[derive(Template)]
#[template(path = "office/phone.html")]
struct Phone {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    dates: Vec<(i64, String)>,
    tickets: Vec<(i64, String, String)>,
    d: Fields,
    problem: Option<String>,
}

async fn phone_page(
    at: &Clerk,
    id: i64,
    d: Fields,
    problem: Option<String>,
) -> Result<Response, WebError> {
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let event = office::event(&at.app.desk, &at.staff, EventId(id)).await?;
    let now = at.app.desk.clock.now();
    let today = words::local(now, &s.house.zone).date();
    let bad = d.count() > 0 || problem.is_some();
    let page = Phone {
        f: at.frame(s.event.title.clone(), &s.house.name).in_room("events"),
        tab: "phone",
        id,
        bookings: s.bookings,
        title: s.event.title.clone(),
        dates: event
            .dates
            .iter()
            .filter(|d| d.date.span.ends_at > now && d.date.called_off.is_empty())
            .map(|d| {
                let when = words::span(d.date.span.starts, d.date.span.ends, today);
                (d.date.id.0, format!("{when}, {} left", d.main_pool().free()))
            })
            .collect(),
        tickets: s
            .tickets
            .iter()
            .map(|t| {
                let price = s.house.currency.of(t.plan.minor).to_string();
                (t.id.0, t.plan.name.clone(), price)
            })
            .collect(),
        d,
        problem,
    };
    if bad { refused(StatusCode::UNPROCESSABLE_ENTITY, &page) } else { html(&page) }
}

/// `GET /office/events/{id}/phone`: a booking for somebody on the phone.
pub(crate) async fn phone(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    phone_page(&at, id, Fields::default(), None).await
}

/// `POST /office/events/{id}/phone`.
pub(crate) async fn by_phone(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let sheet = format!("/office/events/{id}");
    if !at.app.guards.is_first(&sheet, &posted) {
        return Ok(Redirect::to(&sheet).into_response());
    }
    let currency = at.app.desk.house().await?.currency;
    let mut fields = form(&posted);
    let price = fields.amount("price", currency);
    let reason = fields.line("reason");
    let wanted = posted
        .starting("q_")
        .filter_map(|(ticket, n)| {
            let quantity = n.trim().parse().ok().filter(|n| *n > 0)?;
            Some(Wanted { ticket: TicketTypeId(ticket.parse().ok()?), quantity })
        })
        .collect();
    let asked = ByPhone {
        date: DateId(posted.get("date").parse().unwrap_or(0)),
        wanted,
        by_hand: price.map(|minor| (currency.of(minor), reason)),
    };
    let mut d = Fields::posted(&posted, &[]);
    let outcome = phone::by_phone(&at.app.desk, &at.staff, asked, fields).await;
    if outcome.is_err() {
        at.app.guards.not_done(&sheet, &posted);
    }
    match outcome {
        Ok(reference) => {
            let to = format!("/office/bookings/{}", reference.as_str());
            Ok(Redirect::to(&to).into_response())
        }
        Err(DeskError::Form(wrong)) => {
            d.mark(&wrong);
            phone_page(&at, id, d, None).await
        }
        Err(DeskError::Choice(refusal)) => {
            let said = wording::choice(&refusal, &[]);
            phone_page(&at, id, d, Some(said)).await
        }
        Err(error) => Err(error.into()),
    }
}
