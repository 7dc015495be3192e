//! Calling a date or an event off.

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::{DateId, EventId};
use matricle_desk::planning::dates;
use matricle_formats::words;

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
    bookings: u32,
    people: Vec<String>,
    paid: String,
    course_goes_on: bool,
    d: Fields,
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
    let told: Vec<_> = off.bookings.iter().filter(|b| !b.email.is_empty()).collect();
    let paid: i64 = told.iter().map(|b| b.paid.minor).sum();
    let count = d.count();
    let page = CallOff {
        f: at.frame("Call off", &house.name).in_room("events"),
        id,
        title: off.event.title.clone(),
        dates: off.dates.iter().map(|d| words::long_span(d.span.starts, d.span.ends)).collect(),
        only,
        bookings: u32::try_from(told.len()).unwrap_or(u32::MAX),
        people: told.iter().map(|b| b.name.clone()).collect(),
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
        Ok(_) => Ok(Redirect::to(&format!("/office/events/{id}/told")).into_response()),
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            call_off_page(&at, id, only, d).await
        }
    }
}
