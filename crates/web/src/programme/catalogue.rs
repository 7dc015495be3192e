//! `GET /`: what is coming, narrowed by words, tag, month, place and the like; and as a
//! month calendar. Each view has an address.

use askama::Template;
use axum::extract::{Query, State};
use axum::response::Response;
use jiff::civil::Date as Day;
use jiff::{Timestamp, ToSpan};
use matricle_core::{Currency, HostId, RoomId, VenueId};
use matricle_desk::programme::{self, A_PAGE, Catalogue, Wish};
use matricle_formats::words;
use matricle_store::events::{DateSummary, Format};

use crate::App;
use crate::address::encode;
use crate::asking::{Perhaps, Visitor};
use crate::error::WebError;
use crate::page::{Face, Frame, html};
use crate::parts::places::near;
use crate::parts::{marks, strip};

/// Most dates of a month in the calendar.
const A_MONTH: u32 = 400;

#[derive(Template)]
#[template(path = "programme/catalogue.html")]
struct CataloguePage {
    f: Frame,
    months: Vec<Month>,
    asked: Shown,
    tags: Vec<(String, String, bool)>,
    venues: Vec<(String, String, bool)>,
    choices: Vec<(String, String, bool)>,
    narrowed: bool,
    about: String,
    earlier: Option<String>,
    later: Option<String>,
    calendar: Option<CalendarView>,
    to_calendar: String,
    to_list: String,
    feed: String,
    /// Events are submitted here.
    submits: bool,
}

/// What the address says, to be shown in the form again.
struct Shown {
    q: String,
    format: String,
    seats: bool,
}

struct Month {
    name: String,
    dates: Vec<Entry>,
}

/// A date in a list.
pub(crate) struct Entry {
    pub(super) href: String,
    pub(super) weekday: String,
    pub(super) day: i8,
    pub(super) title: String,
    pub(super) kind: String,
    pub(super) lead: String,
    pub(super) when: String,
    pub(super) place: String,
    pub(super) price: String,
    pub(super) strip: String,
    pub(super) left: String,
    pub(super) full: bool,
}

/// A month as weeks of days.
struct CalendarView {
    name: String,
    before: Option<String>,
    after: String,
    weeks: Vec<Vec<DayView>>,
    more: bool,
    /// Marks with the kinds they stand for, of those that the month shows.
    legend: Vec<(String, String)>,
}

struct DayView {
    number: i8,
    name: String,
    inside: bool,
    today: bool,
    /// Address, time, title, why it cannot be booked, and the mark of its kind.
    dates: Vec<(String, String, String, Option<String>, String)>,
}

/// What a date's seats come to, in words.
pub(crate) fn left(date: &DateSummary) -> (String, bool) {
    if date.event.drop_in {
        return ("just come".into(), false);
    }
    let free = date.pool.free();
    match free {
        0 => ("full".into(), true),
        free => (format!("{} left", words::count(free, &date.pool.name)), false),
    }
}

pub(crate) fn entry(date: &DateSummary, currency: Currency, now: Timestamp) -> Entry {
    let span = &date.date.span;
    let today = words::local(now, &span.zone).date();
    let price = match date.prices {
        None => date.event.price_words.clone(),
        Some((0, 0)) => "free".into(),
        Some((least, most)) if least == most => currency.of(least).to_string(),
        Some((0, most)) => format!("free to {}", currency.of(most)),
        Some((least, most)) => format!("{} to {}", currency.of(least), currency.of(most)),
    };
    let (left, full) = if span.starts_at <= now { ("under way".into(), true) } else { left(date) };
    let near = words::near_day(span.starts.date(), today);
    let times = format!("{}–{}", words::clock(span.starts), words::clock(span.ends));
    let what = if date.slot { "next free: " } else { "" };
    Entry {
        href: format!("/events/{}?date={}", crate::address::encode(&date.event.slug), date.date.id),
        weekday: words::day(span.starts.date(), today)[..3].to_owned(),
        day: span.starts.date().day(),
        title: date.event.title.clone(),
        kind: date.event.kind.clone(),
        lead: date.event.lead.clone(),
        when: match date.course {
            Some((dates, last)) if dates > 1 => {
                let until = words::near_day(last.date(), today);
                format!("{dates} dates, {near} to {until}, {times}")
            }
            _ => format!("{what}{near}, {times}"),
        },
        place: if date.event.format == Format::Online {
            "Online".into()
        } else {
            date.date.place()
        },
        price,
        strip: if date.event.drop_in {
            String::new()
        } else {
            strip::svg(&date.pool, 0, strip::SMALL)
        },
        left,
        full,
    }
}

/// Reads the address; what is no number, month or the like counts as not said.
fn wish(pairs: &[(String, String)]) -> Wish {
    let get = |name: &str| pairs.iter().find(|(n, _)| n == name).map_or("", |(_, v)| v.trim());
    Wish {
        words: get("q").chars().take(120).collect(),
        tag: get("tag").into(),
        month: format!("{}-01", get("month")).parse().ok().filter(near),
        venue: get("place").parse().ok().map(VenueId),
        room: get("room").parse().ok().map(RoomId),
        host: get("host").parse().ok().map(HostId),
        format: Format::from_word(get("format")),
        with_seats: !get("seats").is_empty(),
        every_date: false,
        page: get("page").parse().unwrap_or(0),
    }
}

/// The address of a wish, with some parts changed.
pub(crate) fn address(wish: &Wish, change: &[(&str, Option<String>)]) -> String {
    let month = wish.month.map(|m| m.strftime("%Y-%m").to_string());
    let known = [
        ("q", Some(wish.words.clone())),
        ("tag", Some(wish.tag.clone())),
        ("month", month),
        ("place", wish.venue.map(|v| v.to_string())),
        ("room", wish.room.map(|v| v.to_string())),
        ("host", wish.host.map(|v| v.to_string())),
        ("format", wish.format.map(|f| f.word().to_owned())),
        ("seats", wish.with_seats.then(|| "yes".to_owned())),
        ("page", (wish.page > 0).then(|| wish.page.to_string())),
        ("view", None),
    ];
    let parts: Vec<String> = known
        .into_iter()
        .filter_map(|(name, value)| {
            let changed = change.iter().find(|(n, _)| *n == name).map(|(_, v)| v.clone());
            let value = changed.unwrap_or(value).filter(|v| !v.is_empty())?;
            Some(format!("{name}={}", encode(&value)))
        })
        .collect();
    if parts.is_empty() { "/".into() } else { format!("/?{}", parts.join("&")) }
}

fn calendar(all: &Catalogue, wish: &Wish, month: Day, now: Timestamp) -> CalendarView {
    let today = words::local(now, &all.house.zone).date();
    let first = month.first_of_month();
    let back = i64::from(first.weekday().to_monday_zero_offset());
    let mut day = first.saturating_sub(back.days());
    let mut weeks = Vec::new();
    // At most six weeks touch a month, also where the calendar itself ends.
    while day <= first.last_of_month() && weeks.len() < 6 {
        let week = (0..7)
            .map(|_| {
                let dates = all
                    .found
                    .dates
                    .iter()
                    .filter(|d| d.date.span.starts.date() == day)
                    .map(|d| {
                        let e = entry(d, all.house.currency, now);
                        (
                            e.href,
                            words::clock(d.date.span.starts),
                            e.title,
                            e.full.then_some(e.left),
                            all.mark_of(&d.event.kind).map_or_else(String::new, marks::svg),
                        )
                    })
                    .collect();
                let view = DayView {
                    number: day.day(),
                    name: words::long_day(day),
                    inside: day.month() == first.month(),
                    today: day == today,
                    dates,
                };
                day = day.saturating_add(1.day());
                view
            })
            .collect();
        weeks.push(week);
    }
    let mut legend: Vec<(String, String)> = Vec::new();
    for date in &all.found.dates {
        let kind = &date.event.kind;
        if let Some(mark) = all.mark_of(kind).filter(|_| legend.iter().all(|(_, k)| k != kind)) {
            legend.push((marks::svg(mark), kind.clone()));
        }
    }
    let to = |m: Day| {
        let month = Some(m.strftime("%Y-%m").to_string());
        address(wish, &[("month", month), ("view", Some("month".into())), ("page", None)])
    };
    CalendarView {
        name: words::month_of(first),
        before: (first > today.first_of_month()).then(|| to(first.saturating_sub(1.month()))),
        after: to(first.saturating_add(1.month())),
        weeks,
        more: all.found.more,
        legend,
    }
}

pub(crate) async fn show(
    State(app): State<App>,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
    Query(pairs): Query<Vec<(String, String)>>,
) -> Result<Response, WebError> {
    let mut wish = wish(&pairs);
    let now = app.desk.clock.now();
    let as_calendar = pairs.iter().any(|(n, v)| n == "view" && v == "month");
    let mut asked = wish.clone();
    let month = if as_calendar {
        let zone = app.desk.house().await?.zone;
        let month = wish.month.unwrap_or_else(|| words::local(now, &zone).date().first_of_month());
        (asked.month, asked.every_date, asked.page) = (Some(month), true, 0);
        Some(month)
    } else {
        None
    };
    let most = if as_calendar { A_MONTH } else { A_PAGE };
    let mut all = programme::catalogue(&app.desk, asked, most).await?;
    if as_calendar {
        // Slots would fill the sheet; their event stands in the list.
        all.found.dates.retain(|d| !d.slot);
        wish.page = 0;
    }
    let mut months: Vec<Month> = Vec::new();
    for date in all.found.dates.iter().filter(|_| !as_calendar) {
        let name = words::month_of(date.date.span.starts.date());
        if months.last().is_none_or(|m| m.name != name) {
            months.push(Month { name, dates: Vec::new() });
        }
        if let Some(month) = months.last_mut() {
            month.dates.push(entry(date, all.house.currency, now));
        }
    }
    let f =
        Frame::new(&app, Face::Programme, "Programme", &all.house.name, &visitor, staff.as_ref());
    let chosen_month = wish.month.map_or_else(String::new, |m| m.strftime("%Y-%m").to_string());
    let about = all
        .tags
        .iter()
        .find(|t| t.slug == wish.tag)
        .map_or_else(String::new, |t| t.description.clone());
    let page = |n: u32| address(&wish, &[("page", Some(n.to_string()))]);
    html(&CataloguePage {
        f,
        months,
        tags: all
            .tags
            .iter()
            .map(|t| {
                let on = t.slug == wish.tag;
                let to = if on { String::new() } else { t.slug.clone() };
                (address(&wish, &[("tag", Some(to)), ("page", None)]), t.name.clone(), on)
            })
            .collect(),
        venues: all
            .venues
            .iter()
            .map(|v| (v.id.to_string(), v.name.clone(), Some(v.id) == wish.venue))
            .collect(),
        choices: all
            .months
            .iter()
            .map(|(m, n)| {
                let value = m.strftime("%Y-%m").to_string();
                let on = value == chosen_month;
                (value, format!("{} ({n})", words::month_of(*m)), on)
            })
            .collect(),
        narrowed: wish != Wish::default(),
        about,
        earlier: (wish.page > 0 && !as_calendar).then(|| page(wish.page - 1)),
        later: (all.found.more && !as_calendar).then(|| page(wish.page + 1)),
        calendar: month.map(|m| calendar(&all, &wish, m, now)),
        to_calendar: address(&wish, &[("view", Some("month".into())), ("page", None)]),
        to_list: address(&wish, &[("page", None)]),
        feed: if wish.tag.is_empty() {
            "/feeds/all.ics".into()
        } else {
            format!("/feeds/tag/{}.ics", encode(&wish.tag))
        },
        submits: all.submits,
        asked: Shown {
            q: wish.words.clone(),
            format: wish.format.map_or_else(String::new, |f| f.word().into()),
            seats: wish.with_seats,
        },
    })
}
