//! Opening hours and closed days.

use axum::response::Response;
use matricle_core::dates::recurrence::WEEK;
use matricle_desk::house::{self, Rooms};
use matricle_desk::planning::slots;
use matricle_formats::words;

use super::{Again, page};
use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::parts::fields::{Fields, form};

pub(super) fn hours_fields(all: &Rooms) -> Fields {
    let mut d = Fields::default();
    for (i, weekday) in WEEK.into_iter().enumerate() {
        for (part, h) in all.hours.iter().filter(|h| h.weekday == weekday).take(2).enumerate() {
            d.add(&format!("opens_{i}_{part}"), h.opens.strftime("%H:%M").to_string());
            d.add(&format!("closes_{i}_{part}"), h.closes.strftime("%H:%M").to_string());
        }
    }
    d
}

pub(crate) async fn hours(at: Clerk) -> Result<Response, WebError> {
    page(&at, "hours", Again::None).await
}

/// `POST /office/house/hours`.
pub(crate) async fn set_hours(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let _alone = at.keeping().await;
    let all = house::all(&at.app.desk, &at.staff).await?;
    let posted = match posted.over(&hours_fields(&all)) {
        Ok(posted) => posted,
        Err(again) => return page(&at, "hours", Again::Form(*again)).await,
    };
    match house::set_hours(&at.app.desk, &at.staff, form(&posted)).await {
        Ok(()) => {
            let said = "Kept. Slots that nobody has booked were cut again.".into();
            page(&at, "hours", Again::Said(said)).await
        }
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            page(&at, "hours", Again::Form(d)).await
        }
    }
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
