//! What the pages of all stand-ins share.

use askama::Template;
use axum::http::StatusCode;
use axum::response::{Html, IntoResponse, Response};
use jiff::Timestamp;

#[allow(clippy::disallowed_methods, reason = "a stand-in is an outside service with its own clock")]
pub(crate) fn machine_time() -> Timestamp {
    Timestamp::now()
}

pub(crate) fn page(template: &impl Template) -> Response {
    match template.render() {
        Ok(html) => Html(html).into_response(),
        Err(error) => (StatusCode::INTERNAL_SERVER_ERROR, error.to_string()).into_response(),
    }
}
