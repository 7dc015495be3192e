//! Publishing an event, patterns, clearing tests, who was told.

use askama::Template;
use axum::extract::Path;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::EventId;
use matricle_core::form::Wrong;
use matricle_desk::planning::{events, patterns, sheet, trying};
use matricle_formats::words;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::office::tab::frame;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form, wrong};

#[derive(Template)]
#[template(path = "office/told.html")]
struct Told {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    rows: Vec<(String, String, String, &'static str, String, String)>,
}

/// `GET /office/events/{id}/told`: who is told that something moved or was called off.
pub(crate) async fn told(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    let told = sheet::told(&at.app.desk, &at.staff, EventId(id)).await?;
    let now = at.app.desk.clock.now();
    let f = at.frame("People told", &told.house.name).in_room("events");
    html(&Told {
        f,
        tab: "told",
        id,
        bookings: told.bookings,
        title: told.event.title,
        rows: told
            .rows
            .into_iter()
            .map(|(m, reference, name)| {
                let when = m
                    .sent_at
                    .map_or_else(String::new, |at| words::moment(at, &told.house.zone, now));
                (reference, name, m.address, m.kind.word(), m.state, when)
            })
            .collect(),
    })
}

/// `POST /office/events/{id}/pattern`: saved as a starting point.
pub(crate) async fn save_pattern(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    patterns::save(&at.app.desk, &at.staff, EventId(id), form(&posted)).await?;
    Ok(Redirect::to("/office/events/new").into_response())
}

/// `POST /office/events/{id}/publish-at`.
pub(crate) async fn publish_at(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let outcome = sheet::publish_at(&at.app.desk, &at.staff, EventId(id), form(&posted)).await;
    let wrong: Vec<Wrong> = match outcome {
        Ok(()) => return Ok(Redirect::to(&format!("/office/events/{id}")).into_response()),
        Err(error) => wrong(error)?,
    };
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let f = frame(&at, &s);
    let d = Fields::posted(&posted, &wrong);
    refused(StatusCode::UNPROCESSABLE_ENTITY, &PublishAgain { f, id, d })
}

#[derive(Template)]
#[template(path = "office/publish_at.html")]
struct PublishAgain {
    f: Frame,
    id: i64,
    d: Fields,
}

/// `POST /office/events/{id}/tests`: test bookings are cleared.
pub(crate) async fn clear_tests(
    at: Clerk,
    Path(id): Path<i64>,
    _posted: Posted,
) -> Result<Response, WebError> {
    let done = trying::clear_tests(&at.app.desk, &at.staff, EventId(id)).await?;
    let (gone, kept, back) = (done.gone, done.kept, done.back_minor);
    let to = format!("/office/events/{id}?cleared={gone}&kept={kept}&back={back}");
    Ok(Redirect::to(&to).into_response())
}

/// `POST /office/events/{id}/programme`: publishes a draft, or takes it back.
pub(crate) async fn show_in_programme(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let shown = posted.get("shown") == "yes";
    events::show_in_programme(&at.app.desk, &at.staff, EventId(id), shown).await?;
    Ok(Redirect::to(&format!("/office/events/{id}")).into_response())
}
