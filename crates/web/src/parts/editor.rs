//! Pages with an editor for words, which writes a style of its own.

use askama::Template;
use axum::http::{StatusCode, header};
use axum::response::Response;
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use matricle_desk::random_bytes;

use crate::App;
use crate::error::WebError;
use crate::page::{html, refused};

/// The word that lets the style of an editor on one page through.
pub(crate) fn word() -> String {
    URL_SAFE_NO_PAD.encode(random_bytes::<16>())
}

/// The answer of a page with an editor: the page's word lets its style through.
pub(crate) fn with_editor(
    app: &App,
    word: &str,
    wrong: usize,
    page: &impl Template,
) -> Result<Response, WebError> {
    let mut response =
        if wrong == 0 { html(page)? } else { refused(StatusCode::UNPROCESSABLE_ENTITY, page)? };
    let policy = app.guards.policy_for_editor(word);
    response.headers_mut().insert(header::CONTENT_SECURITY_POLICY, policy);
    Ok(response)
}
