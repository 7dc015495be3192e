//! What the pages of the Office share.

use askama::Template;
use axum::http::{StatusCode, header};
use axum::response::Response;
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use matricle_desk::planning::sheet::Settings;
use matricle_desk::random_bytes;

use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};

pub(crate) fn frame(at: &Clerk, s: &Settings) -> Frame {
    let title = s.event.title.clone();
    at.frame(title, &s.house.name).in_room("events")
}

/// The word that lets the style of an editor on one page through.
pub(crate) fn word() -> String {
    URL_SAFE_NO_PAD.encode(random_bytes::<16>())
}

/// The answer of a page with an editor, which writes a style of its own: the page's word lets
/// that one through.
pub(crate) fn with_editor(
    at: &Clerk,
    word: &str,
    wrong: usize,
    page: &impl Template,
) -> Result<Response, WebError> {
    let mut response = answer(wrong, page)?;
    let policy = at.app.guards.policy_for_editor(word);
    response.headers_mut().insert(header::CONTENT_SECURITY_POLICY, policy);
    Ok(response)
}

pub(crate) fn answer(wrong: usize, page: &impl Template) -> Result<Response, WebError> {
    if wrong == 0 { html(page) } else { refused(StatusCode::UNPROCESSABLE_ENTITY, page) }
}
