//! Calling a date or an event off.

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::StatusCode;
use axum::response::Response;
use matricle_core::{DateId, EventId};
use matricle_desk::planning::dates;
use matricle_desk::planning::dates::off;
use matricle_formats::words;
use matricle_store::bookings::Booking;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::office::dates::Which;
use crate::page::{Frame, html, refused};
use crate::parts::fields::Fields;

#[derive(Template)]
#[template(path = "office/call_off.html")]
struct CallOff {
    f: Frame,
    id: i64,
    title: String,
    dates: Vec<String>,
    only: Option<i64>,
    /// Whom it reaches, and how.
    lines: Vec<String>,
    people: Vec<String>,
    paid: String,
    course_goes_on: bool,
    d: Fields,
}

/// A booker by name, with how they are told if that is not by mail.
fn named(booking: &Booking) -> String {
    match (booking.email.is_empty(), booking.phone.as_str()) {
        (false, _) => booking.name.clone(),
        (true, "") => format!("{} (to be rung, no number)", booking.name),
        (true, phone) => format!("{} (to be rung, {phone})", booking.name),
    }
}

/// Whom calling off reaches, and how, in sentences.
fn reached(told: usize, to_ring: usize, course_goes_on: bool) -> Vec<String> {
    let by_mail = told - to_ring;
    let people = |n: usize, one: &str, many: &str| match n {
        1 => format!("One booker {one}"),
        n => format!("{n} bookers {many}"),
    };
    let mut lines = Vec::new();
    if told == 0 {
        lines.push("Nobody has booked, so nobody is told.".into());
    }
    if by_mail > 0 {
        lines.push(people(by_mail, "is told by mail.", "are told by mail."));
    }
    if to_ring > 0 {
        let (one, many) = (
            "gave no address and has to be rung: People told has the number.",
            "gave no address and have to be rung: People told has their numbers.",
        );
        lines.push(people(to_ring, one, many));
    }
    if told > 0 && course_goes_on {
        lines.push("This date falls out; the course goes on and their bookings stay.".into());
    } else if told > 0 {
        lines.push("Their bookings are cancelled.".into());
    }
    lines
}

async fn call_off_page(
    at: &Clerk,
    id: i64,
    only: Option<i64>,
    d: Fields,
) -> Result<Response, WebError> {
    let off =
        dates::before_calling_off(&at.app.desk, &at.staff, EventId(id), only.map(DateId)).await?;
    let house = at.app.desk.house().await?;
    let told: Vec<_> = off.bookings.iter().filter(|b| b.is_told()).collect();
    let to_ring = told.iter().filter(|b| b.email.is_empty()).count();
    let paid: i64 = told.iter().map(|b| b.paid.minor).sum();
    let count = d.count();
    let page = CallOff {
        f: at.frame("Call off", &house.name).in_room("events"),
        id,
        title: off.event.title.clone(),
        dates: off.dates.iter().map(|d| words::long_span(d.span.starts, d.span.ends)).collect(),
        only,
        lines: reached(told.len(), to_ring, off.event.course && only.is_some()),
        people: told.iter().map(|b| named(b)).collect(),
        paid: if paid > 0 { house.currency.of(paid).to_string() } else { String::new() },
        course_goes_on: off.event.course && only.is_some(),
        d,
    };
    if count == 0 { html(&page) } else { refused(StatusCode::UNPROCESSABLE_ENTITY, &page) }
}

/// `GET /office/events/{id}/call-off`: whom it would reach.
pub(crate) async fn before_calling_off(
    at: Clerk,
    Path(id): Path<i64>,
    Query(which): Query<Which>,
) -> Result<Response, WebError> {
    call_off_page(&at, id, which.date, Fields::default()).await
}

/// `POST /office/events/{id}/call-off`.
pub(crate) async fn call_off(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let only = posted.get("date").parse().ok();
    let reason = posted.get("reason").to_owned();
    match dates::call_off(&at.app.desk, &at.staff, EventId(id), only.map(DateId), reason).await {
        Ok(_) => Ok(at.done(
            &format!("/office/events/{id}/told"),
            "Called off. Here stands who is told of it; money goes back the way it came.",
        )),
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            call_off_page(&at, id, only, d).await
        }
    }
}
