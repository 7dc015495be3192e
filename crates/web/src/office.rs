//! The staff face.

pub(crate) mod board;
pub(crate) mod bookings;
pub(crate) mod dates;
pub(crate) mod events;
mod fields;
pub(crate) mod house;
pub(crate) mod planning;
pub(crate) mod quick;
pub(crate) mod signin;
pub(crate) mod today;

use jiff::Timestamp;
use matricle_formats::words;
use matricle_store::bookings::Listed;
use matricle_store::events::DateSummary;

use crate::parts::strip;
use crate::wording;

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
