//! An event's tab *After booking*: what bookers may do themselves, cancellation steps, the
//! waiting list of each date.

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::StatusCode;
use axum::response::Response;
use matricle_core::seats::waiting::Stands;
use matricle_core::{DateId, EventId};
use matricle_desk::bookings::waiting;
use matricle_desk::planning::{after_booking as on, sheet};
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
    dates: Vec<(i64, String, String, bool)>,
    date: Option<i64>,
    waiters: Vec<WaiterRow>,
    offering: Fields,
}

#[derive(Debug, Deserialize)]
pub(crate) struct Which {
    date: Option<i64>,
}

#[derive(Default)]
struct Again {
    d: Option<Fields>,
    offering: Fields,
}

/// What holds after booking, as it stands.
fn filled(s: &sheet::Settings) -> Fields {
    let mut rules = s.event.rules.clone();
    Fields::filled(&s.house.locale(), |f| on::form(f, &mut rules))
}

async fn page(at: &Clerk, id: i64, which: &Which, again: Again) -> Result<Response, WebError> {
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let event = office::event(&at.app.desk, &at.staff, EventId(id)).await?;
    let now = at.app.desk.clock.now();
    let zone = &s.house.zone;
    let today = words::local(now, zone).date();
    let wrong = again.d.as_ref().map_or(0, Fields::count) + again.offering.count();
    let d = again.d.unwrap_or_else(|| filled(&s));
    let (mut dates, mut first) = (Vec::new(), None);
    for date in event.dates.iter().filter(|d| d.date.span.ends_at > now) {
        let (count, offered) = waiting::counts(&at.app.desk, &at.staff, date.date.id).await?;
        let stand = match offered {
            0 => format!("{count} waiting"),
            n => format!("{count} waiting, {n} with an offer"),
        };
        let when = words::span(date.date.span.starts, date.date.span.ends, today);
        dates.push((date.date.id.0, when, stand, which.date == Some(date.date.id.0)));
        first = first.or((count + offered > 0).then_some(date.date.id.0));
    }
    let date = which.date.or(first);
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
    let _alone = at.keeping().await;
    let now = filled(&sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?);
    let keep = |form| on::keep(&at.app.desk, &at.staff, EventId(id), form);
    match Fields::keep(posted, &now, keep).await? {
        Ok(()) => Ok(at.done(&format!("/office/events/{id}/rules"), "The rules are kept.")),
        Err(d) => {
            page(&at, id, &Which { date: None }, Again { d: Some(d), ..Again::default() }).await
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
        Ok(()) => {
            return Ok(
                at.done(&back, "The seats are offered, out of turn; a mail says until when.")
            );
        }
        Err(DeskError::Form(wrong)) => offering.mark(&wrong),
        Err(DeskError::Choice(refusal)) => offering.say("reason", wording::choice(&refusal, &[])),
        Err(error) => return Err(error.into()),
    }
    page(&at, id, &Which { date }, Again { d: None, offering }).await
}
