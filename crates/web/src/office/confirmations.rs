//! What went to whom about an event.

use askama::Template;
use axum::extract::{Path, Query};
use axum::response::Response;
use matricle_core::EventId;
use matricle_desk::office;
use matricle_store::bookings::Filter;
use serde::Deserialize;

use crate::error::WebError;
use crate::office::{BookingRow, Clerk, booking_row};
use crate::page::{Frame, html};
use crate::parts::pager::{self, Pager};

#[derive(Template)]
#[template(path = "office/confirmations.html")]
struct Confirmations {
    f: Frame,
    tab: &'static str,
    id: i64,
    title: String,
    bookings: u32,
    rows: Vec<BookingRow>,
    sent: u32,
    planned: u32,
    pager: Pager,
}

/// Rows of a page.
const ROWS: u32 = 30;

/// Which page of the list.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct Shown {
    #[serde(default)]
    page: u32,
}

/// `GET /office/events/{id}/confirmations`: what went to whom.
pub(crate) async fn confirmations(
    at: Clerk,
    Path(id): Path<i64>,
    Query(shown): Query<Shown>,
) -> Result<Response, WebError> {
    let event = office::event(&at.app.desk, &at.staff, EventId(id)).await?;
    let filter = Filter {
        event: Some(EventId(id)),
        state: Some(matricle_core::booking::State::Confirmed),
        most: ROWS,
        skip: shown.page.saturating_mul(ROWS),
        ..Filter::default()
    };
    let office::BookingList { house, rows, count, .. } =
        office::bookings(&at.app.desk, &at.staff, filter, false).await?;
    let now = at.app.desk.clock.now();
    let f = at.frame("Confirmations", &house.name).in_room("events");
    html(&Confirmations {
        f,
        tab: "confirmations",
        id,
        title: event.event.title,
        bookings: event.bookings,
        rows: rows.iter().map(|r| booking_row(r, &house.zone, now)).collect(),
        pager: Pager::of(
            usize::try_from(count).unwrap_or(usize::MAX),
            usize::try_from(shown.page).unwrap_or(usize::MAX),
            pager::ROWS,
            &format!("/office/events/{id}/confirmations?"),
        ),
        sent: event.confirmations.sent,
        planned: event.confirmations.planned,
    })
}
