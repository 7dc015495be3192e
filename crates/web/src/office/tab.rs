//! What the tabs of an event’s sheet share.

use askama::Template;
use axum::http::StatusCode;
use axum::response::Response;
use matricle_desk::planning::sheet::Settings;

use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};

pub(crate) fn frame(at: &Clerk, s: &Settings) -> Frame {
    let title = s.event.title.clone();
    at.frame(title, &s.house.name).in_room("events")
}

pub(crate) fn answer(wrong: usize, page: &impl Template) -> Result<Response, WebError> {
    if wrong == 0 { html(page) } else { refused(StatusCode::UNPROCESSABLE_ENTITY, page) }
}
