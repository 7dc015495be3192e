//! `GET /`: what is coming.

use askama::Template;
use axum::extract::State;
use axum::response::Response;
use jiff::Timestamp;
use matricle_core::Currency;
use matricle_desk::programme;
use matricle_formats::words;
use matricle_store::events::DateSummary;

use crate::App;
use crate::error::WebError;
use crate::guard::{Perhaps, Visitor};
use crate::page::{Face, Frame, html};
use crate::parts::strip;

#[derive(Template)]
#[template(path = "programme/catalogue.html")]
struct Catalogue {
    f: Frame,
    months: Vec<Month>,
}

struct Month {
    name: String,
    dates: Vec<Entry>,
}

struct Entry {
    href: String,
    weekday: String,
    day: i8,
    title: String,
    kind: String,
    lead: String,
    when: String,
    place: String,
    price: String,
    strip: String,
    left: String,
    full: bool,
}

/// What a date's seats come to, in words.
pub(super) fn left(date: &DateSummary) -> (String, bool) {
    let free = date.pool.free();
    match free {
        0 => ("full".into(), true),
        free => (format!("{} left", words::count(free, &date.pool.name)), false),
    }
}

fn entry(date: &DateSummary, currency: Currency, now: Timestamp) -> Entry {
    let span = &date.date.span;
    let today = words::local(now, &span.zone).date();
    let price = match date.prices {
        None | Some((0, 0)) => "free".into(),
        Some((least, most)) if least == most => currency.of(least).to_string(),
        Some((0, most)) => format!("free to {}", currency.of(most)),
        Some((least, most)) => format!("{} to {}", currency.of(least), currency.of(most)),
    };
    let (left, full) = if span.starts_at <= now { ("under way".into(), true) } else { left(date) };
    let near = words::near_day(span.starts.date(), today);
    let times = format!("{}–{}", words::clock(span.starts), words::clock(span.ends));
    Entry {
        href: format!("/events/{}?date={}", date.event.slug, date.date.id),
        weekday: words::day(span.starts.date(), today)[..3].to_owned(),
        day: span.starts.date().day(),
        title: date.event.title.clone(),
        kind: date.event.kind.clone(),
        lead: date.event.lead.clone(),
        when: format!("{near}, {times}"),
        place: date.date.place(),
        price,
        strip: strip::svg(&date.pool, 0, strip::SMALL),
        left,
        full,
    }
}

pub(crate) async fn show(
    State(app): State<App>,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
) -> Result<Response, WebError> {
    let (house, dates) = programme::catalogue(&app.desk).await?;
    let now = app.desk.clock.now();
    let mut months: Vec<Month> = Vec::new();
    for date in &dates {
        let name = words::month_of(date.date.span.starts.date());
        if months.last().is_none_or(|m| m.name != name) {
            months.push(Month { name, dates: Vec::new() });
        }
        if let Some(month) = months.last_mut() {
            month.dates.push(entry(date, house.currency, now));
        }
    }
    let f = Frame::new(&app, Face::Programme, "Programme", &house.name, &visitor, staff.as_ref());
    html(&Catalogue { f, months })
}
