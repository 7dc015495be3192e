//! The page of a booking by where it stands: its form, the way to pay, or what was booked.

use axum::http::StatusCode;
use axum::response::Response;
use matricle_core::booking::State as BookingState;
use matricle_desk::bookings::whole::WholeBooking;

use crate::App;
use crate::error::WebError;
use crate::page::{Frame, refused};
use crate::programme::form::fill;
use crate::programme::own::own;
use crate::programme::pay::pay_page;
use crate::programme::refused::Refused;

/// The page for the state that the booking is in, with what was refused on it.
pub(crate) fn page(
    app: &App,
    f: Frame,
    sheet: &WholeBooking,
    what: Option<Refused>,
    notice: Option<String>,
) -> Result<Response, WebError> {
    let status = if what.is_some() { StatusCode::CONFLICT } else { StatusCode::OK };
    match sheet.booking.state {
        BookingState::Held | BookingState::Lapsed => {
            refused(status, &fill(app, f, sheet, &sheet.booking.draft, &[], notice))
        }
        BookingState::AwaitingPayment => refused(status, &pay_page(app, f, sheet, what, notice)),
        _ => refused(status, &own(app, f, sheet, what)),
    }
}
