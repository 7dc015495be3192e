//! What went to whom about an event.

use askama::Template;
use axum::extract::Path;
use axum::response::Response;
use matricle_core::EventId;
use matricle_desk::office;
use matricle_store::bookings::Filter;

use crate::error::WebError;
use crate::office::{BookingRow, Clerk, booking_row};
use crate::page::{Frame, html};

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
}

/// `GET /office/events/{id}/confirmations`: what went to whom.
pub(crate) async fn confirmations(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    let event = office::event(&at.app.desk, &at.staff, EventId(id)).await?;
    let filter = Filter {
        event: Some(EventId(id)),
        state: Some(matricle_core::booking::State::Confirmed),
        most: 500,
        ..Filter::default()
    };
    let office::BookingList { house, rows, .. } =
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
        sent: event.confirmations.sent,
        planned: event.confirmations.planned,
    })
}
