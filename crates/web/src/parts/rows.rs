//! A date in a row, as the Office and the Door list it.

use jiff::Timestamp;
use matricle_formats::words;
use matricle_store::events::DateSummary;

use crate::parts::strip;

/// A date in a list.
pub(crate) struct DateRow {
    pub(crate) href: String,
    pub(crate) title: String,
    pub(crate) near: String,
    pub(crate) place: String,
    pub(crate) strip: String,
    pub(crate) seats: String,
    pub(crate) door: Option<String>,
    /// Who comes, at the Office.
    pub(crate) coming: String,
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
        strip: if row.event.drop_in {
            String::new()
        } else {
            strip::svg(&row.pool, row.inside, strip::SMALL)
        },
        seats: if row.event.drop_in {
            "just come".into()
        } else {
            format!("{taken} of {}", row.pool.capacity)
        },
        coming: format!("/office/events/{}/coming?date={}", row.event.id, row.date.id),
        door: (is_today && !row.event.drop_in).then(|| format!("/door/{}", row.date.id)),
    }
}
