//! Publishing an event, patterns, clearing tests, who was told.

use askama::Template;
use axum::extract::Path;
use axum::http::StatusCode;
use axum::response::Response;
use matricle_core::EventId;
use matricle_core::forms::form::Wrong;
use matricle_core::people::staff::Right;
use matricle_desk::planning::{events, patterns, sheet, trying};
use matricle_formats::words;

use crate::asking::Posted;
use crate::error::WebError;
use crate::news::Undo;
use crate::office::Clerk;
use crate::office::tab::frame;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form, wrong};

/// Somebody to ring.
struct Ring {
    id: i64,
    reference: String,
    name: String,
    phone: String,
    about: String,
    note: String,
    /// When, and by whom.
    rung: Option<String>,
}

#[derive(Template)]
#[template(path = "office/told.html")]
struct Told {
    rings: Vec<Ring>,
    may_ring: bool,
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
        may_ring: at.staff.role.may(Right::ChangeBookings),
        rings: told
            .rings
            .into_iter()
            .map(|r| Ring {
                id: r.id.0,
                reference: r.reference,
                name: r.name,
                phone: r.phone,
                about: r.kind,
                note: r.note,
                rung: r.rung.map(|(at, who)| {
                    format!("{}, {who}", words::moment(at, &told.house.zone, now))
                }),
            })
            .collect(),
        rows: told
            .rows
            .into_iter()
            .map(|(m, reference, name)| {
                let when = m
                    .sent_at
                    .map_or_else(String::new, |at| words::moment(at, &told.house.zone, now));
                (reference, name, m.address, m.trigger.word(), m.state.word().to_owned(), when)
            })
            .collect(),
    })
}

/// `POST /office/events/{id}/rung`: somebody without an address was rung.
pub(crate) async fn rung(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let ring = posted.get("ring").parse().unwrap_or(0);
    sheet::rung(&at.app.desk, &at.staff, EventId(id), ring).await?;
    Ok(at.done(&format!("/office/events/{id}/told"), "Noted: rung."))
}

/// `POST /office/events/{id}/pattern`: saved as a starting point.
pub(crate) async fn save_pattern(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    patterns::save(&at.app.desk, &at.staff, EventId(id), form(&posted)).await?;
    Ok(at.done("/office/events/new", "Saved. It can be started from here."))
}

/// `POST /office/events/{id}/publish-at`.
pub(crate) async fn publish_at(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let outcome = sheet::publish_at(&at.app.desk, &at.staff, EventId(id), form(&posted)).await;
    let wrong: Vec<Wrong> = match outcome {
        Ok(before) => {
            let to = format!("/office/events/{id}");
            let what = match posted.get("publish_at") {
                "" => "It does not publish itself any more.",
                _ => "It publishes itself then.",
            };
            let zone = at.app.zone().await?;
            let before = before.map_or_else(String::new, |then| {
                words::local(then, &zone).strftime("%Y-%m-%dT%H:%M").to_string()
            });
            let undo = Undo::new(format!("{to}/publish-at"), &[("publish_at", &before)]);
            return Ok(at.done_but(&to, what, undo));
        }
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
    let back = at.app.desk.house().await?.currency.of(done.back_minor);
    let mut said = Vec::new();
    if done.gone > 0 || done.kept == 0 {
        said.push(format!(
            "Cleared: {}.",
            words::count(u32::try_from(done.gone).unwrap_or(u32::MAX), "test bookings")
        ));
    }
    if done.kept > 0 {
        let stay = match done.kept {
            1 => "1 that had a payment is kept, cancelled".to_owned(),
            many => format!("{many} that had a payment are kept, cancelled"),
        };
        said.push(match back.is_zero() {
            true => format!("{stay}."),
            false => format!("{stay}; {back} goes back the way it came."),
        });
    }
    Ok(at.done(&format!("/office/events/{id}"), said.join(" ")))
}

/// `POST /office/events/{id}/programme`: publishes a draft, or takes it back.
pub(crate) async fn show_in_programme(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let shown = posted.get("shown") == "yes";
    events::show_in_programme(&at.app.desk, &at.staff, EventId(id), shown).await?;
    let (said, what, back) = if shown {
        ("?published=yes", "It is in the Programme.", "no")
    } else {
        ("", "It is a draft again; only staff see it.", "yes")
    };
    let undo = Undo::new(format!("/office/events/{id}/programme"), &[("shown", back)]);
    Ok(at.done_but(&format!("/office/events/{id}{said}"), what, undo))
}

/// `POST /office/events/{id}/throw`: a draft is thrown away, or brought back.
pub(crate) async fn throw(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let away = posted.get("away") == "yes";
    events::throw_away(&at.app.desk, &at.staff, EventId(id), away).await?;
    let undo = Undo::new(format!("/office/events/{id}/throw"), &[("away", "no")]);
    Ok(if away {
        at.done_but("/office/events", "The draft is thrown away.", undo)
    } else {
        at.done(&format!("/office/events/{id}"), "The draft is back.")
    })
}
