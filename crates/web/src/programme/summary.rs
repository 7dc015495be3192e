//! A booking in a few lines, beside its form and its payment.

use askama::Template;
use jiff::Timestamp;
use matricle_core::booking::State as BookingState;
use matricle_desk::bookings::whole::WholeBooking;
use matricle_formats::words;

use crate::parts::places::address;
use crate::{App, wording};

/// What stands beside every step: which seats, until when, for how much.
#[derive(Template)]
#[template(path = "programme/summary.html")]
pub(crate) struct Summary {
    pub(crate) address: String,
    pub(crate) token: String,
    pub(crate) title: String,
    pub(crate) event_href: String,
    pub(crate) when: String,
    pub(crate) place: String,
    pub(crate) lines: Vec<(String, String)>,
    pub(crate) total: String,
    /// Seconds that the seats are still kept, and until when in words.
    pub(crate) kept: Option<(i64, String)>,
    /// What happened to the seats, when something did.
    pub(super) notice: Option<String>,
    /// The time ran out and the seats are not kept.
    pub(crate) lost: bool,
}

/// Deadlines so near that only the clock is told, in seconds; a page counts them down.
const TODAY: i64 = 2 * 60 * 60;

pub(crate) fn summary(app: &App, sheet: &WholeBooking, token: String, now: Timestamp) -> Summary {
    let span = &sheet.date.span;
    let today = words::local(now, &span.zone).date();
    let kept = sheet.booking.deadline.filter(|d| *d > now).map(|until| {
        let seconds = until.duration_since(now).as_secs();
        let zone = &sheet.house.zone;
        // Some minutes: the clock says it. Some days: the day with it.
        let said = if seconds <= TODAY {
            words::clock(words::local(until, zone).datetime())
        } else {
            words::deadline(until, zone, now)
        };
        (seconds, said)
    });
    let total = sheet.booking.total;
    Summary {
        address: address(app, sheet.booking.reference),
        token,
        title: sheet.event.title.clone(),
        event_href: format!("/events/{}?date={}", sheet.event.slug, sheet.date.id),
        when: words::span(span.starts, span.ends, today),
        place: sheet.date.place(),
        lines: wording::money_lines(&sheet.lines)
            .into_iter()
            .map(|(what, amount)| (what, amount.to_string()))
            .collect(),
        total: if total.is_zero() { "free".into() } else { total.to_string() },
        lost: kept.is_none()
            && matches!(sheet.booking.state, BookingState::Held | BookingState::Lapsed),
        kept,
        notice: None,
    }
}
