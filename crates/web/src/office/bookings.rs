//! Bookings at the Office: the list, found by words.

use askama::Template;
use axum::extract::Query;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::EventId;
use matricle_core::codes::Reference;
use matricle_desk::office;
use matricle_store::bookings::Filter;
use serde::Deserialize;

use super::Clerk;
use super::{BookingRow, booking_row};
use crate::error::WebError;
use crate::guard::SignedIn;
use crate::page::{Frame, encode, html};

/// Rows on a page.
const ROWS: u32 = 100;

/// What the address of a list says.
#[derive(Debug, Deserialize)]
pub(crate) struct Asked {
    #[serde(default)]
    q: String,
    #[serde(default)]
    page: u32,
    event: Option<i64>,
}

#[derive(Template)]
#[template(path = "office/bookings.html")]
struct List {
    f: Frame,
    q: String,
    event: Option<i64>,
    rows: Vec<BookingRow>,
    count: u32,
    from: u32,
    to: u32,
    earlier: Option<String>,
    later: Option<String>,
}

/// `GET /office/bookings`: bookings by words.
pub(crate) async fn list(
    at: Clerk,
    Query(Asked { q, page, event }): Query<Asked>,
) -> Result<Response, WebError> {
    let skip = page.saturating_mul(ROWS);
    let filter = Filter {
        words: q.clone(),
        event: event.map(EventId),
        skip,
        most: ROWS,
        ..Filter::default()
    };
    let (house, rows, count) = office::bookings(&at.app.desk, &at.staff, filter).await?;
    let now = at.app.desk.clock.now();
    let address = |page: u32| {
        let event = event.map_or_else(String::new, |e| format!("&event={e}"));
        format!("/office/bookings?q={}{event}&page={page}", encode(&q))
    };
    let shown = u32::try_from(rows.len()).unwrap_or(ROWS);
    let f = at.frame("Bookings", &house.name).in_room("bookings");
    html(&List {
        f,
        event,
        count,
        from: if shown == 0 { 0 } else { skip + 1 },
        to: skip + shown,
        earlier: (page > 0).then(|| address(page - 1)),
        later: (skip + shown < count).then(|| address(page + 1)),
        rows: rows.iter().map(|r| booking_row(r, &house.zone, now)).collect(),
        q,
    })
}

/// `GET /office/find`: a reference opens its booking, words look through bookings.
pub(crate) async fn find(
    SignedIn(_staff): SignedIn,
    Query(Asked { q, .. }): Query<Asked>,
) -> Response {
    match Reference::parse(&q) {
        Some(reference) => Redirect::to(&format!("/office/bookings/{}", reference.as_str())),
        None => Redirect::to(&format!("/office/bookings?q={}", encode(q.trim()))),
    }
    .into_response()
}
