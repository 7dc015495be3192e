//! What the pages of the Office share.

use askama::Template;
use axum::http::StatusCode;
use axum::response::Response;
use matricle_desk::planning::sheet::Settings;

use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
pub(crate) use crate::parts::editor::word;

pub(crate) fn frame(at: &Clerk, s: &Settings) -> Frame {
    let title = s.event.title.clone();
    at.frame(title, &s.house.name).in_room("events")
}

/// The answer of a page with an editor.
pub(crate) fn with_editor(
    at: &Clerk,
    word: &str,
    wrong: usize,
    page: &impl Template,
) -> Result<Response, WebError> {
    crate::parts::editor::with_editor(&at.app, word, wrong, page)
}

pub(crate) fn answer(wrong: usize, page: &impl Template) -> Result<Response, WebError> {
    if wrong == 0 { html(page) } else { refused(StatusCode::UNPROCESSABLE_ENTITY, page) }
}
