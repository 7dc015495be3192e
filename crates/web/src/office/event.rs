//! The sheet of an event.

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::HeaderMap;
use axum::response::Response;
use jiff::Timestamp;
use matricle_core::EventId;
use matricle_core::people::staff::Right;
use matricle_desk::office::{self, EventSheet};
use matricle_formats::words;
use matricle_store::events::{Choices, EventState};

use crate::error::WebError;
use crate::live;
use crate::office::messages::letters;
use crate::office::{BookingRow, Clerk, booking_row};
use crate::page::{Frame, html};
use crate::parts::thread::{self, Bar, Block, Pin, Thread};
use crate::parts::{grid, strip};

/// The seats of a date, kept up to date on the sheet.
#[derive(Template)]
#[template(path = "office/seats.html")]
struct Seats {
    strip: String,
    counts: Vec<(u32, &'static str)>,
    free: u32,
    capacity: u32,
    over: u32,
    inside: u32,
    others: Vec<String>,
}

fn seats(date: &Choices) -> Seats {
    let pool = date.main_pool();
    let t = pool.taken;
    let counts = [
        (t.confirmed, "confirmed"),
        (t.awaiting_payment, "to pay"),
        (t.requested, "asking"),
        (t.held, "held"),
    ];
    Seats {
        strip: strip::svg(&pool, date.inside, strip::SHEET),
        counts: counts.into_iter().filter(|(n, word)| *n > 0 || *word == "confirmed").collect(),
        free: pool.free(),
        capacity: pool.capacity,
        over: t.total().saturating_sub(pool.capacity),
        inside: date.inside,
        others: date
            .offer
            .pools
            .iter()
            .skip(1)
            .map(|p| format!("{}: {} of {} taken", p.name, p.taken.total(), p.capacity))
            .collect(),
    }
}

struct DateView {
    off: String,
    when: String,
    seats: String,
    door: Option<String>,
    /// The list of people; empty where nobody books.
    coming: String,
    many: bool,
    /// One of many: a row beside the next, which is drawn in full.
    row: Option<(String, String)>,
}

struct TicketRow {
    name: String,
    note: String,
    price: String,
    sale: String,
}

/// The seats of the dates of an event, kept up to date as one part.
#[derive(Template)]
#[template(path = "office/seats_of.html")]
struct SeatsOf {
    id: i64,
    more: usize,
    /// Whoever looks plans events.
    plans: bool,
    dates: Vec<DateView>,
}

fn has_rows(dates: &[DateView]) -> bool {
    dates.iter().any(|d| d.row.is_some())
}

impl SeatsOf {
    fn has_rows(&self) -> bool {
        has_rows(&self.dates)
    }
}

impl Sheet {
    fn has_rows(&self) -> bool {
        has_rows(&self.dates)
    }
}

/// The dates a sheet shows: those to come, or all when none is.
fn shown(sheet: &EventSheet, now: Timestamp) -> impl Iterator<Item = &Choices> {
    let over = move |d: &Choices| d.date.span.ends_at <= now;
    let only_past = sheet.dates.iter().all(over);
    sheet.dates.iter().filter(move |d| only_past || !over(d))
}

/// Most dates on a sheet; of more, those after them stand under Dates & seats.
const ON_SHEET: usize = 6;

/// How many dates stand there alone.
fn more(sheet: &EventSheet, now: Timestamp) -> usize {
    shown(sheet, now).count().saturating_sub(ON_SHEET)
}

/// So many dates are each drawn in full; of more, the next is, and the others are a row each.
const DRAWN: usize = 3;

fn date_views(sheet: &EventSheet, now: Timestamp) -> Result<Vec<DateView>, WebError> {
    let many = sheet.dates.len() > 1;
    let all = shown(sheet, now).count();
    shown(sheet, now)
        .take(ON_SHEET)
        .enumerate()
        .map(|(place, date)| {
            let span = &date.date.span;
            let today = words::local(now, &span.zone).date();
            let is_on =
                span.starts.date() == today || (span.starts_at <= now && now < span.ends_at);
            Ok(DateView {
                off: date.date.called_off.clone(),
                when: words::span(span.starts, span.ends, today),
                // Nothing is on sale of what is called off.
                seats: if date.date.called_off.is_empty() {
                    if sheet.event.drop_in {
                        "<p>Nobody books this: people just come.</p>".into()
                    } else {
                        seats(date).render()?
                    }
                } else {
                    let booked = date.main_pool().taken.total();
                    format!(
                        "<p class=\"empty\">Called off; no seats are sold.{}</p>",
                        match booked {
                            0 => String::new(),
                            n => format!(" {} still booked.", words::count(n, "seats")),
                        }
                    )
                },
                coming: if sheet.event.drop_in {
                    String::new()
                } else {
                    format!("/office/events/{}/coming?date={}", sheet.event.id, date.date.id)
                },
                door: (is_on && !sheet.event.drop_in).then(|| format!("/door/{}", date.date.id)),
                many,
                row: (all > DRAWN && place > 0).then(|| {
                    let pool = date.main_pool();
                    let taken = format!("{} of {}", pool.taken.total(), pool.capacity);
                    if sheet.event.drop_in {
                        return (String::new(), "just come".into());
                    }
                    (strip::svg(&pool, date.inside, strip::SMALL), taken)
                }),
            })
        })
        .collect()
}

#[derive(Template)]
#[template(path = "office/event.html")]
struct Sheet {
    f: Frame,
    tab: &'static str,
    id: i64,
    kind: String,
    title: String,
    state: &'static str,
    when: String,
    programme: String,
    published: bool,
    /// It was put into the Programme just now.
    fresh: bool,
    link: String,
    poster: String,
    worded: bool,
    pictured: bool,
    draft: bool,
    /// The draft was thrown away.
    thrown: bool,
    /// Nobody books it.
    drop_in: bool,
    dates: Vec<DateView>,
    /// So many more dates stand under Dates & seats.
    more: usize,
    plans: bool,
    thread: String,
    tickets: Vec<TicketRow>,
    latest: Vec<BookingRow>,
    bookings: u32,
    past_dates: usize,
    called_off: String,
    publish_at: Option<String>,
    preview: String,
    tests: u32,
    /// The latest of them: where each is, its letters, and how it stands.
    latest_tests: Vec<(String, String, &'static str)>,
    clashes: Vec<ClashView>,
    slots: Option<String>,
    grids: Vec<(String, String)>,
    changes: Vec<(String, String, String)>,
    /// The latest letters about it, and how many there are.
    letters: Vec<letters::LetterRow>,
    letters_all: u32,
}

/// A clash, and ways out of it.
struct ClashView {
    when: String,
    what: Vec<(String, String, i64)>,
    times: String,
    rooms: String,
}

fn clash_views(sheet: &EventSheet, now: Timestamp) -> Vec<ClashView> {
    let today = words::local(now, &sheet.house.zone).date();
    sheet
        .clashes
        .iter()
        .map(|(clashes, instead)| ClashView {
            when: clashes.first().map_or_else(String::new, |c| words::day(c.starts.date(), today)),
            what: clashes
                .iter()
                .map(|c| {
                    let when = words::span(c.span.0, c.span.1, today);
                    (c.what.clone(), format!("“{}”, {when}", c.title), c.event.0)
                })
                .collect(),
            times: instead
                .times
                .iter()
                .map(|t| format!("{} {}", words::day(t.date(), today), words::clock(*t)))
                .collect::<Vec<_>>()
                .join(" · "),
            rooms: instead.rooms.join(", "),
        })
        .collect()
}

/// One line for a poster or a newsletter: what, when, where, and the way to book.
fn poster(sheet: &EventSheet, link: &str) -> String {
    let coming = sheet.dates.iter().find(|d| d.date.called_off.is_empty());
    let when = coming.map_or_else(String::new, |d| {
        format!(", {}, {}", words::long_span(d.date.span.starts, d.date.span.ends), d.date.place())
    });
    let bare = link.split_once("://").map_or(link, |(_, rest)| rest);
    format!("{}{when}. {bare}", sheet.event.title)
}

/// `GET /office/events/{id}`: the sheet of an event.
pub(crate) async fn sheet(
    at: Clerk,
    Path(id): Path<i64>,
    Query(pairs): Query<Vec<(String, String)>>,
) -> Result<Response, WebError> {
    let sheet = office::event(&at.app.desk, &at.staff, EventId(id)).await?;
    let now = at.app.desk.clock.now();
    let zone = sheet.house.zone.clone();
    let many = sheet.dates.len() > 1;
    let past_dates = sheet.dates.iter().filter(|d| d.date.span.ends_at <= now).count();
    let only_past = past_dates == sheet.dates.len();
    let dates = date_views(&sheet, now)?;
    let when = sheet.dates.first().map_or_else(String::new, |d| {
        let place = d.date.place();
        let hosts = if d.date.hosts.is_empty() {
            String::new()
        } else {
            format!(" · led by {}", d.date.hosts)
        };
        let span = words::long_span(d.date.span.starts, d.date.span.ends);
        let more =
            if many { format!(" and {} more", sheet.dates.len() - 1) } else { String::new() };
        format!("{span}{more} · {place}{hosts}")
    });
    let link = format!("{}/events/{}", at.app.desk.public_url, sheet.event.slug);
    let f = at.frame(sheet.event.title.clone(), &sheet.house.name).in_room("events");
    html(&Sheet {
        f,
        tab: "sheet",
        id,
        kind: sheet.event.kind.clone(),
        title: sheet.event.title.clone(),
        state: sheet.event.state.word(),
        when,
        programme: format!("/events/{}", sheet.event.slug),
        published: sheet.event.state == EventState::Published,
        fresh: pairs.iter().any(|(n, _)| n == "published"),
        poster: poster(&sheet, &link),
        link,
        worded: !sheet.event.description.is_empty(),
        pictured: sheet.pictured,
        draft: sheet.event.state == EventState::Draft,
        thrown: sheet.event.thrown_at.is_some(),
        drop_in: sheet.event.drop_in,
        more: more(&sheet, now),
        plans: at.staff.role.may(Right::PlanEvents),
        dates,
        thread: thread::svg(&thread_of(&sheet, now)),
        tickets: tickets(&sheet, now),
        latest: sheet.latest.iter().map(|r| booking_row(r, &zone, now)).collect(),
        bookings: sheet.bookings,
        past_dates: if only_past { 0 } else { past_dates },
        called_off: sheet.event.called_off.clone(),
        publish_at: sheet.event.publish_at.map(|at| words::moment(at, &zone, now)),
        preview: format!(
            "{}/events/{}?preview={}",
            at.app.desk.public_url,
            sheet.event.slug,
            at.app.desk.secrets.preview_key(EventId(id))
        ),
        tests: sheet.tests,
        latest_tests: sheet
            .latest_tests
            .iter()
            .map(|(r, state)| (format!("/office/bookings/{}", r.as_str()), r.to_string(), state.word()))
            .collect(),
        clashes: clash_views(&sheet, now),
        slots: sheet.slots.as_ref().map(|(plan, free)| {
            format!(
                "{} of {} minutes, {} side by side; {free} free ahead. Below stand those that somebody has booked.",
                "Slots", plan.minutes, plan.desks
            )
        }),
        grids: sheet
            .sessions
            .iter()
            .map(|(id, sessions)| {
                let when = sheet.dates.iter().find(|d| d.date.id == *id).map_or_else(String::new, |d| {
                    words::long_day(d.date.span.starts.date())
                });
                (when, grid::svg(sessions))
            })
            .collect(),
        letters: sheet.letters.0.iter().map(|l| letters::row(&at, l, &zone)).collect(),
        letters_all: sheet.letters.1,
        changes: sheet
            .changes
            .iter()
            .map(|c| (words::moment(c.at, &zone, now), c.who.clone(), c.what.clone()))
            .collect(),
    })
}

fn tickets(sheet: &EventSheet, now: Timestamp) -> Vec<TicketRow> {
    let coming = |d: &&Choices| d.date.called_off.is_empty() && d.date.span.ends_at > now;
    let over = !sheet.dates.iter().any(|d| coming(&d));
    let date = sheet.dates.iter().find(coming).or_else(|| sheet.dates.first());
    let Some(date) = date else { return Vec::new() };
    let (currency, zone) = (sheet.house.currency, &sheet.house.zone);
    date.tickets
        .iter()
        .zip(&date.offer.offers)
        .map(|(t, o)| {
            let base = currency.of(o.price.minor);
            let price = match o.price.early {
                Some(early) => format!(
                    "{base}, {} until {}",
                    currency.of(early.minor),
                    words::deadline(early.until, zone, now)
                ),
                None if base.is_zero() => "free".into(),
                None => base.to_string(),
            };
            let sale = match o.sale.until {
                _ if sheet.event.state == EventState::CalledOff => "called off".into(),
                _ if over => "over".into(),
                Some(until) => format!("on sale until {}", words::deadline(until, zone, now)),
                None => "on sale until the start".into(),
            };
            TicketRow { name: t.name.clone(), note: t.note.clone(), price, sale }
        })
        .collect()
}

/// The thread of an event: sale windows, early prices, dates, confirmations.
fn thread_of(sheet: &EventSheet, now: Timestamp) -> Thread {
    let zone = sheet.house.zone.clone();
    let first = sheet.first_booking.unwrap_or(now).min(now);
    let mut bars: Vec<Bar> = Vec::new();
    let mut add = |class: &'static str, from: Timestamp, until: Timestamp, label: String| {
        if !bars.iter().any(|b| b.class == class && b.until == until) && until > from {
            bars.push(Bar { class, from, until, label });
        }
    };
    for date in sheet.dates.iter().filter(|d| d.date.called_off.is_empty()) {
        for offer in &date.offer.offers {
            let from = offer.sale.from.unwrap_or(first);
            let until =
                offer.sale.until.map_or(date.offer.starts_at, |u| u.min(date.offer.starts_at));
            add(
                "sale",
                from,
                until,
                format!("on sale until {}", words::deadline(until, &zone, now)),
            );
        }
    }
    for date in sheet.dates.iter().filter(|d| d.date.called_off.is_empty()) {
        for (ticket, offer) in date.tickets.iter().zip(&date.offer.offers) {
            if let Some(early) = offer.price.early {
                let by = words::deadline(early.until, &zone, now);
                add(
                    "early",
                    first,
                    early.until,
                    format!("{}: early price until {by}", ticket.name),
                );
            }
        }
    }
    let blocks = sheet
        .dates
        .iter()
        .map(|d| {
            let span = &d.date.span;
            let today = words::local(now, &span.zone).date();
            Block {
                from: span.starts_at,
                until: span.ends_at,
                label: words::span(span.starts, span.ends, today),
            }
        })
        .collect();
    let href = format!("/office/events/{}/messages", sheet.event.id);
    let mut pins = Vec::new();
    for (_, word, c) in &sheet.messages {
        let label = |n: u32, what: &str| format!("{word}, {n} {what}");
        if let (Some(first), true) = (c.first, c.sent > 0) {
            let at = first.min(now);
            pins.push(Pin { at, sent: true, label: label(c.sent, "sent"), href: href.clone() });
        }
        if let (Some(last), true) = (c.last, c.planned > 0) {
            let at = last.max(now);
            pins.push(Pin {
                at,
                sent: false,
                label: label(c.planned, "to go"),
                href: href.clone(),
            });
        }
    }
    Thread { zone, now, bars, blocks, pins }
}

/// `GET /office/events/{id}/live`: the seats of an event's dates, as they change.
pub(crate) async fn live(
    at: Clerk,
    Path(id): Path<i64>,
    headers: HeaderMap,
) -> Result<Response, WebError> {
    // Refused now rather than in the stream.
    let sheet = office::event(&at.app.desk, &at.staff, EventId(id)).await?;
    let now = at.app.desk.clock.now();
    let ids = shown(&sheet, now).map(|d| d.date.id).collect();
    let desk = at.app.desk.clone();
    let viewer = live::Viewer::of(&headers, &at.staff);
    Ok(live::stream(&at.app, viewer, ids, move || {
        let (desk, staff) = (desk.clone(), at.staff.clone());
        async move {
            let sheet = office::event(&desk, &staff, EventId(id)).await?;
            let now = desk.clock.now();
            let (id, more) = (sheet.event.id.0, more(&sheet, now));
            let plans = staff.role.may(Right::PlanEvents);
            Ok(SeatsOf { id, more, plans, dates: date_views(&sheet, now)? }.render()?)
        }
    }))
}
