//! Calls of other programs.

use axum::body::Bytes;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use matricle_desk::DeskError;
use matricle_desk::bookings::pay;

use crate::App;
use crate::error::WebError;

/// `POST /hooks/card`: a webhook of the card provider (Standard Webhooks).
pub(crate) async fn card(
    State(app): State<App>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<StatusCode, WebError> {
    let text =
        |name: &str| headers.get(name).and_then(|v| v.to_str().ok()).ok_or(DeskError::Unsigned);
    let id = text("webhook-id")?.to_owned();
    pay::hook(&app.desk, id, text("webhook-timestamp")?, text("webhook-signature")?, &body).await?;
    Ok(StatusCode::NO_CONTENT)
}
