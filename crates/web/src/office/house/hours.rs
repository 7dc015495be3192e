//! Opening hours and closed days.

use axum::response::Response;
use matricle_desk::house;
use matricle_desk::planning::slots;
use matricle_formats::words;

use super::{Again, keep, page};
use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::parts::fields::{Fields, form};

pub(crate) async fn hours(at: Clerk) -> Result<Response, WebError> {
    page(&at, "hours", Again::None).await
}

/// `POST /office/house/hours`.
pub(crate) async fn set_hours(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let act = |form| house::set_hours(&at.app.desk, &at.staff, form);
    let said = |()| "Kept. Slots that nobody has booked were cut again.".into();
    keep(&at, "hours", posted, act, said).await
}

/// `POST /office/house/closed`: a day is closed, or opened again.
pub(crate) async fn close_day(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let close = posted.get("act") != "open";
    match slots::close_day(&at.app.desk, &at.staff, form(&posted), close).await {
        Ok(0) => page(&at, "hours", Again::Said("Kept.".into())).await,
        Ok(booked) => {
            let said = format!(
                "Kept. {} on that day stand all the same; move them or call their dates off.",
                words::count(booked, "bookings")
            );
            page(&at, "hours", Again::Said(said)).await
        }
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            page(&at, "hours", Again::Closing(d)).await
        }
    }
}
