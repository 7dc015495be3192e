//! The staff face.

pub(crate) mod board;
pub(crate) mod booking;
pub(crate) mod bookings;
pub(crate) mod dates;
pub(crate) mod events;
pub(crate) mod fields;
pub(crate) mod house;
pub(crate) mod money;
pub(crate) mod planning;
pub(crate) mod quick;
pub(crate) mod rules;
pub(crate) mod signin;
pub(crate) mod today;
pub(crate) mod you;

use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use jiff::Timestamp;
use matricle_formats::words;
use matricle_store::bookings::Listed;
use matricle_store::events::DateSummary;
use matricle_store::people::Staff;

use crate::App;
use crate::error::WebError;
use crate::guard::{SignedIn, Visitor};
use crate::page::{Face, Frame};
use crate::parts::strip;
use crate::wording;

/// Somebody of the staff at the Office: the program, their browser, and who they are.
pub(crate) struct Clerk {
    pub(crate) app: App,
    pub(crate) visitor: Visitor,
    pub(crate) staff: Staff,
}

impl Clerk {
    /// The frame of a page of the Office.
    fn frame(&self, title: impl Into<String>, house: &str) -> Frame {
        Frame::new(&self.app, Face::Office, title, house, &self.visitor, Some(&self.staff))
    }
}

impl FromRequestParts<App> for Clerk {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        let SignedIn(staff) = SignedIn::from_request_parts(parts, app).await?;
        let visitor = Visitor::from_request_parts(parts, app).await?;
        Ok(Self { app: app.clone(), visitor, staff })
    }
}

/// A booking in a list.
pub(crate) struct BookingRow {
    pub(crate) href: String,
    pub(crate) reference: String,
    pub(crate) booker: String,
    pub(crate) title: String,
    pub(crate) when: String,
    pub(crate) people: u32,
    pub(crate) class: &'static str,
    pub(crate) state: &'static str,
    pub(crate) paid: String,
    pub(crate) due: String,
    pub(crate) last: String,
}

pub(crate) fn booking_row(row: &Listed, zone: &str, now: Timestamp) -> BookingRow {
    let b = &row.booking;
    let today = words::local(now, zone).date();
    let live = wording::state_class(b.state) != "over";
    let amount = |m: matricle_core::Money| if m.is_zero() { "–".into() } else { m.figures() };
    BookingRow {
        href: format!("/office/bookings/{}", b.reference.as_str()),
        reference: b.reference.to_string(),
        booker: b.booker().to_owned(),
        title: row.title.clone(),
        when: words::day(row.starts.date(), today),
        people: row.people,
        class: wording::state_class(b.state),
        state: wording::state(b.state),
        paid: amount(b.paid),
        due: if live { amount(b.due()) } else { "–".into() },
        last: row.last.clone(),
    }
}

/// A date in a list.
pub(crate) struct DateRow {
    pub(crate) href: String,
    pub(crate) title: String,
    pub(crate) near: String,
    pub(crate) place: String,
    pub(crate) strip: String,
    pub(crate) seats: String,
    pub(crate) door: Option<String>,
}

pub(crate) fn date_row(row: &DateSummary, now: Timestamp) -> DateRow {
    let span = &row.date.span;
    let today = words::local(now, &span.zone).date();
    let is_today = span.starts.date() == today || (span.starts_at <= now && now < span.ends_at);
    let taken = row.pool.taken.total();
    DateRow {
        href: format!("/office/events/{}", row.event.id),
        title: row.event.title.clone(),
        near: format!(
            "{}, {}–{}",
            words::near_day(span.starts.date(), today),
            words::clock(span.starts),
            words::clock(span.ends)
        ),
        place: row.date.place(),
        strip: strip::svg(&row.pool, row.inside, strip::SMALL),
        seats: format!("{taken} of {}", row.pool.capacity),
        door: is_today.then(|| format!("/door/{}", row.date.id)),
    }
}
