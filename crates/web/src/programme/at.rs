//! A booking by its secret address.

use std::collections::HashMap;

use axum::extract::{FromRequestParts, Path};
use axum::http::request::Parts;
use matricle_core::words::codes::Reference;
use matricle_desk::DeskError;
use matricle_desk::bookings::whole::WholeBooking;

use crate::App;
use crate::asking::Visitor;
use crate::error::WebError;
use crate::page::{Face, Frame, Trial};

/// The booking that an address opens; an address that opens none is not found.
pub(crate) struct At(pub(super) Reference);

impl FromRequestParts<App> for At {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        let nothing = || WebError::Desk(DeskError::NotFound);
        let Path(path): Path<HashMap<String, String>> =
            Path::from_request_parts(parts, app).await.map_err(|_| nothing())?;
        let part = |name: &str| path.get(name).map_or("", String::as_str);
        Reference::parse(part("reference"))
            .filter(|reference| app.desk.secrets.opens_booking(*reference, part("key")))
            .map(Self)
            .ok_or_else(nothing)
    }
}

pub(crate) async fn frame(
    app: &App,
    sheet: &WholeBooking,
    visitor: &Visitor,
    staff: Option<&matricle_store::people::Staff>,
) -> Frame {
    let title = format!("Booking {}", sheet.booking.reference);
    let f = Frame::new(app, Face::Programme, title, &sheet.house.name, visitor, staff)
        .coloured(&sheet.event.accent);
    if sheet.booking.test { f.tried(Trial::Test, sheet.event.id.0) } else { f }
}
