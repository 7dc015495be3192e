//! Bookings at the Office: the list, the sheet, cancelling.

use askama::Template;
use axum::extract::{Path, Query};
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::EventId;
use matricle_core::booking::{Move, next};
use matricle_core::codes::Reference;
use matricle_core::door::Presence;
use matricle_desk::{DeskError, cancel, office};
use matricle_formats::words;
use matricle_store::bookings::Filter;
use serde::Deserialize;

use super::Clerk;
use super::{BookingRow, booking_row};
use crate::error::WebError;
use crate::guard::{Posted, SignedIn};
use crate::page::{Frame, encode, html};
use crate::wording;

/// Rows on a page.
const ROWS: u32 = 100;

/// What the address of a list says.
#[derive(Debug, Deserialize)]
pub(crate) struct Asked {
    #[serde(default)]
    q: String,
    #[serde(default)]
    page: u32,
    event: Option<i64>,
}

#[derive(Template)]
#[template(path = "office/bookings.html")]
struct List {
    f: Frame,
    q: String,
    event: Option<i64>,
    rows: Vec<BookingRow>,
    count: u32,
    from: u32,
    to: u32,
    earlier: Option<String>,
    later: Option<String>,
}

/// `GET /office/bookings`: bookings by words.
pub(crate) async fn list(
    at: Clerk,
    Query(Asked { q, page, event }): Query<Asked>,
) -> Result<Response, WebError> {
    let skip = page.saturating_mul(ROWS);
    let filter = Filter {
        words: q.clone(),
        event: event.map(EventId),
        skip,
        most: ROWS,
        ..Filter::default()
    };
    let (house, rows, count) = office::bookings(&at.app.desk, &at.staff, filter).await?;
    let now = at.app.desk.clock.now();
    let address = |page: u32| {
        let event = event.map_or_else(String::new, |e| format!("&event={e}"));
        format!("/office/bookings?q={}{event}&page={page}", encode(&q))
    };
    let shown = u32::try_from(rows.len()).unwrap_or(ROWS);
    let f = at.frame("Bookings", &house.name).in_room("bookings");
    html(&List {
        f,
        event,
        count,
        from: if shown == 0 { 0 } else { skip + 1 },
        to: skip + shown,
        earlier: (page > 0).then(|| address(page - 1)),
        later: (skip + shown < count).then(|| address(page + 1)),
        rows: rows.iter().map(|r| booking_row(r, &house.zone, now)).collect(),
        q,
    })
}

/// `GET /office/find`: a reference opens its booking, words look through bookings.
pub(crate) async fn find(
    SignedIn(_staff): SignedIn,
    Query(Asked { q, .. }): Query<Asked>,
) -> Response {
    match Reference::parse(&q) {
        Some(reference) => Redirect::to(&format!("/office/bookings/{}", reference.as_str())),
        None => Redirect::to(&format!("/office/bookings?q={}", encode(q.trim()))),
    }
    .into_response()
}

struct AttendeeRow {
    name: String,
    ticket: String,
    code: String,
    presence: String,
}

struct MessageRow {
    kind: &'static str,
    address: String,
    state: String,
    when: String,
    error: Option<String>,
}

struct HappeningRow {
    when: String,
    who: String,
    what: String,
}

#[derive(Template)]
#[template(path = "office/booking.html")]
struct Sheet {
    f: Frame,
    reference: String,
    href: String,
    class: &'static str,
    state: &'static str,
    booker: String,
    email: String,
    title: String,
    event_href: String,
    when: String,
    place: String,
    own_page: String,
    deadline: Option<String>,
    attendees: Vec<AttendeeRow>,
    lines: Vec<(String, String)>,
    total: String,
    paid: String,
    due: String,
    answers: Vec<(String, String)>,
    messages: Vec<MessageRow>,
    timeline: Vec<HappeningRow>,
    can_cancel: bool,
    /// The summary before cancelling, when asked for.
    cancelling: Option<Vec<String>>,
}

async fn load(at: &Clerk, reference: &str) -> Result<Sheet, WebError> {
    let reference = Reference::parse(reference).ok_or(DeskError::NotFound)?;
    let (sheet, messages) = office::booking(&at.app.desk, &at.staff, reference).await?;
    let now = at.app.desk.clock.now();
    let (b, zone) = (&sheet.booking, &sheet.house.zone);
    let moment = |at| words::moment(at, zone, now);
    let span = &sheet.date.span;
    let f = at.frame(format!("Booking {}", b.reference), &sheet.house.name).in_room("bookings");
    Ok(Sheet {
        f,
        reference: b.reference.to_string(),
        href: format!("/office/bookings/{}", b.reference.as_str()),
        class: wording::state_class(b.state),
        state: wording::state(b.state),
        booker: if b.booker().is_empty() { "No name yet".into() } else { b.booker().into() },
        email: b.email.clone(),
        title: sheet.event.title.clone(),
        event_href: format!("/office/events/{}", sheet.event.id),
        when: words::span(span.starts, span.ends, words::local(now, &span.zone).date()),
        place: sheet.date.place(),
        own_page: crate::programme::booking::address(&at.app, b.reference),
        deadline: b.deadline.map(moment),
        attendees: sheet
            .attendees
            .iter()
            .map(|a| AttendeeRow {
                name: a.name.clone(),
                ticket: a.ticket.clone(),
                code: a.code.to_string(),
                presence: match &a.presence {
                    Presence::Expected => "expected".into(),
                    Presence::In { at, door } => format!("in, {}, {door}", moment(*at)),
                    Presence::Left => "left".into(),
                    Presence::Missed => "missed".into(),
                },
            })
            .collect(),
        lines: sheet.lines.iter().map(|l| (l.label(), l.total().figures())).collect(),
        total: b.total.figures(),
        paid: b.paid.figures(),
        due: b.due().figures(),
        answers: sheet.answers.iter().map(|a| (a.label.clone(), a.answer.clone())).collect(),
        messages: messages
            .iter()
            .map(|m| MessageRow {
                kind: m.kind.word(),
                address: m.address.clone(),
                state: m.state.clone(),
                when: moment(m.sent_at.unwrap_or(m.planned_at)),
                error: m.last_error.clone(),
            })
            .collect(),
        timeline: sheet
            .timeline
            .iter()
            .rev()
            .map(|h| HappeningRow { when: moment(h.at), who: h.who.clone(), what: h.what.clone() })
            .collect(),
        can_cancel: next(b.state, Move::Cancel).is_ok(),
        cancelling: None,
    })
}

/// `GET /office/bookings/{reference}`: the sheet of a booking.
pub(crate) async fn sheet(at: Clerk, Path(reference): Path<String>) -> Result<Response, WebError> {
    html(&load(&at, &reference).await?)
}

/// `GET …/cancel`: what cancelling will do, before it is done: mail cannot be called back.
pub(crate) async fn before_cancelling(
    at: Clerk,
    Path(reference): Path<String>,
) -> Result<Response, WebError> {
    let mut page = load(&at, &reference).await?;
    if page.can_cancel {
        let people = u32::try_from(page.attendees.len()).unwrap_or(0);
        let mut what = vec![format!(
            "{} come free at once, and the tickets are refused at the door.",
            words::count(people, "seats")
        )];
        what.push(if page.email.is_empty() {
            "Nobody is told: the booking has no address yet.".into()
        } else {
            format!("A mail tells {} ({}).", page.booker, page.email)
        });
        if page.paid != "0.00" && page.paid != "0" {
            what.push(format!(
                "{} was paid. It is not given back by itself: Today will remind you.",
                page.paid
            ));
        }
        page.cancelling = Some(what);
    }
    html(&page)
}

/// `POST …/cancel`.
pub(crate) async fn cancel(
    at: Clerk,
    Path(reference): Path<String>,
    _form: Posted,
) -> Result<Response, WebError> {
    let reference = Reference::parse(&reference).ok_or(DeskError::NotFound)?;
    match cancel::cancel(&at.app.desk, &at.staff, reference).await {
        // A double click finds it cancelled: the sheet says so.
        Ok(()) | Err(DeskError::Move(_)) => {
            Ok(Redirect::to(&format!("/office/bookings/{}", reference.as_str())).into_response())
        }
        Err(error) => Err(error.into()),
    }
}

/// `POST /office/bookings/{reference}/answer`: yes or no to a booking that asks.
pub(crate) async fn answer(
    at: Clerk,
    Path(reference): Path<String>,
    posted: Posted,
) -> Result<Response, WebError> {
    let reference = Reference::parse(&reference).ok_or(DeskError::NotFound)?;
    if posted.get("answer") == "yes" {
        cancel::approve(&at.app.desk, &at.staff, reference).await?;
    } else {
        let reason = posted.get("reason").trim().to_owned();
        cancel::decline(&at.app.desk, &at.staff, reference, reason).await?;
    }
    Ok(Redirect::to(&format!("/office/bookings/{}", reference.as_str())).into_response())
}
