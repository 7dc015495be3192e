//! A device joins with letters from the Office, and leaves again.

use askama::Template;
use axum::extract::{Query, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use matricle_desk::DeskError;
use matricle_desk::door::devices;
use serde::Deserialize;

use crate::asking::{Asker, Posted, Visitor};
use crate::door::at::AtDoor;
use crate::error::WebError;
use crate::page::{Face, Frame, html, refused};
use crate::{App, cookies};

#[derive(Template)]
#[template(path = "door/join.html")]
struct Join {
    f: Frame,
    letters: String,
    wrong: String,
}

/// Letters that stand in the address which the Office's picture holds.
#[derive(Debug, Deserialize)]
pub(crate) struct Given {
    #[serde(default)]
    letters: String,
}

async fn page(app: &App, visitor: &Visitor, letters: String, wrong: String) -> Join {
    let house = app.house_name().await;
    Join { f: Frame::new(app, Face::Door, "Join", &house, visitor, None), letters, wrong }
}

/// `GET /door/join`: letters are typed, or stand there from the address. Nothing is used up by
/// looking at it.
pub(crate) async fn show(
    State(app): State<App>,
    Query(Given { letters }): Query<Given>,
    visitor: Visitor,
) -> Result<Response, WebError> {
    let letters: String = letters.chars().filter(char::is_ascii_alphabetic).take(12).collect();
    html(&page(&app, &visitor, letters, String::new()).await)
}

/// `POST /door/join`: the device joins, and goes on to its doors.
pub(crate) async fn join(
    State(app): State<App>,
    visitor: Visitor,
    Asker(network, _): Asker,
    form: Posted,
) -> Result<Response, WebError> {
    let typed = form.get("letters");
    match devices::join(&app.desk, typed, &network.to_string()).await {
        Ok((token, device)) => {
            let left = device.grant.ends_at.duration_since(app.desk.clock.now()).as_secs();
            // Longer than the device itself, so that it can still hand in what it kept.
            let seconds = left.unsigned_abs() + 14 * 24 * 3600;
            let cookie = cookies::device_cookie(&app.settings, &token, seconds);
            Ok(([(header::SET_COOKIE, cookie)], Redirect::to("/door")).into_response())
        }
        Err(DeskError::Device(refusal)) => {
            let wrong = crate::wording::sentence(&refusal.to_string());
            let page = page(&app, &visitor, typed.chars().take(12).collect(), wrong).await;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
        Err(other) => Err(other.into()),
    }
}

/// `POST /door/leave`: the device is handed back.
pub(crate) async fn leave(
    State(app): State<App>,
    AtDoor(volunteer): AtDoor,
    _form: Posted,
) -> Result<Response, WebError> {
    devices::leave(&app.desk, &volunteer).await?;
    let cookie = cookies::device_cookie(&app.settings, "", 0);
    Ok(([(header::SET_COOKIE, cookie)], Redirect::to("/door/join")).into_response())
}
