//! The booking stub of an event page: tickets, seats left, the total.

use askama::Template;
use jiff::Timestamp;
use matricle_core::TicketTypeId;
use matricle_core::price;
use matricle_core::schedule::Sale;
use matricle_core::seats::Wanted;
use matricle_desk::programme::EventPage;
use matricle_formats::words;
use matricle_store::events::{DateSheet, TicketType};

use crate::parts::strip;

/// A date to choose among several.
pub(super) struct DateChoice {
    pub(super) href: String,
    pub(super) words: String,
    pub(super) left: String,
    pub(super) chosen: bool,
}

/// A ticket type to choose.
pub(super) struct Row {
    pub(super) id: TicketTypeId,
    pub(super) name: String,
    pub(super) notes: String,
    pub(super) price: String,
    pub(super) was: Option<String>,
    pub(super) quantity: u32,
    pub(super) most: u32,
    pub(super) closed: Option<String>,
}

/// A booking this browser has begun.
pub(super) struct Kept {
    pub(super) href: String,
    pub(super) words: String,
    pub(super) link: &'static str,
}

/// The stub, ready to render.
#[derive(Template)]
#[template(path = "programme/stub.html")]
pub(super) struct Stub {
    pub(super) slug: String,
    pub(super) token: String,
    pub(super) date: i64,
    pub(super) dates: Vec<DateChoice>,
    pub(super) strip: String,
    pub(super) left: String,
    pub(super) left_of: String,
    pub(super) others: String,
    pub(super) rows: Vec<Row>,
    pub(super) people: String,
    pub(super) total: String,
    pub(super) saved: Option<String>,
    pub(super) chosen: bool,
    pub(super) can_book: bool,
    pub(super) closed: Option<String>,
    pub(super) notice: Option<String>,
    pub(super) kept: Option<Kept>,
    pub(super) hold_minutes: i64,
    pub(super) next: String,
}

/// Takes as many of what was asked for as this booker can have; the first ticket
/// that was asked for in vain is told.
pub(super) fn clamp(
    sheet: &DateSheet,
    asked: &[Wanted],
    now: Timestamp,
) -> (Vec<Wanted>, Option<String>) {
    let mut chosen: Vec<Wanted> = Vec::new();
    let mut notice = None;
    for ticket in &sheet.tickets {
        let wanted = asked.iter().find(|w| w.ticket == ticket.id).map_or(0, |w| w.quantity);
        let quantity = wanted.min(sheet.offer.more(&chosen, ticket.id, now));
        if quantity < wanted && notice.is_none() {
            let mut full = chosen.clone();
            full.push(Wanted { ticket: ticket.id, quantity: wanted });
            notice = matricle_core::booking::choose(&sheet.offer, &full, now)
                .err()
                .map(|refusal| crate::wording::choice(&refusal, &sheet.tickets));
        }
        if quantity > 0 {
            chosen.push(Wanted { ticket: ticket.id, quantity });
        }
    }
    (chosen, notice)
}

/// Seats of a date that are left, in words.
fn left(sheet: &DateSheet) -> String {
    let pool = sheet.main_pool();
    match pool.free() {
        0 => "full".into(),
        free => format!("{} left", words::count(free, &pool.name)),
    }
}

/// Makes the stub for a chosen date.
pub(super) fn stub(
    page: &EventPage,
    sheet: &DateSheet,
    asked: &[Wanted],
    token: String,
    kept: Option<Kept>,
    now: Timestamp,
) -> Stub {
    let currency = page.house.currency;
    let (chosen, notice) = clamp(sheet, asked, now);
    let prices: Vec<_> = sheet.offer.offers.iter().map(|o| o.price.clone()).collect();
    let quote = price::quote(currency, &prices, &chosen, now);
    let rows: Vec<Row> = sheet
        .tickets
        .iter()
        .zip(&sheet.offer.offers)
        .map(|(ticket, offer)| {
            let quantity = quantity(&chosen, ticket);
            let unit = offer.price.unit(now);
            let zone = &page.house.zone;
            let closed = match offer.sale.at(sheet.offer.starts_at, now) {
                Sale::Open => None,
                Sale::NotYet(from) => {
                    Some(format!("on sale from {}", words::moment(from, zone, now)))
                }
                Sale::Over(_) => Some("no longer on sale".into()),
            };
            let most = quantity + sheet.offer.more(&chosen, ticket.id, now);
            let closed = closed.or_else(|| (most == 0).then(|| "none left".into()));
            let mut notes = Vec::new();
            if !ticket.note.is_empty() {
                notes.push(ticket.note.clone());
            }
            notes.extend(draws(sheet, offer));
            if let Some(early) = offer.price.early.filter(|e| now < e.until) {
                notes
                    .push(format!("early price until {}", words::deadline(early.until, zone, now)));
            }
            Row {
                id: ticket.id,
                name: ticket.name.clone(),
                notes: notes.join(" · "),
                price: if unit == 0 { "free".into() } else { currency.of(unit).to_string() },
                was: (unit < offer.price.minor).then(|| currency.of(offer.price.minor).to_string()),
                quantity,
                most,
                closed,
            }
        })
        .collect();
    let people: u32 = sheet.tickets.iter().map(|t| quantity(&chosen, t) * t.admits).sum();
    let (total, saved) = match &quote {
        Ok(q) if q.total.is_zero() => ("free".into(), None),
        Ok(q) => (q.total.to_string(), (q.saved.minor > 0).then(|| q.saved.to_string())),
        Err(_) => (String::new(), None),
    };
    let is_free = quote.as_ref().is_ok_and(|q| q.total.is_zero());
    let over = sheet.date.span.starts_at <= now;
    let open = rows.iter().any(|r| r.closed.is_none());
    let closed = if over {
        Some("This date has begun; seats are no longer sold here.".into())
    } else if !open && sheet.main_pool().free() == 0 {
        Some("This date is full.".into())
    } else if !open {
        Some("Nothing is on sale for this date at present.".into())
    } else {
        None
    };
    let pool = sheet.main_pool();
    let asked_questions = page.questions.len();
    Stub {
        slug: page.event.slug.clone(),
        token,
        date: sheet.date.id.0,
        dates: dates(page, sheet, now),
        strip: strip::svg(&pool, sheet.inside, strip::STUB),
        left: left(sheet),
        left_of: format!("of {}", pool.capacity),
        others: others(sheet),
        people: words::count(people, "seats"),
        chosen: people > 0,
        can_book: closed.is_none(),
        rows,
        total,
        saved,
        closed,
        notice,
        kept,
        hold_minutes: sheet.event.hold.as_mins(),
        next: next_steps(asked_questions, is_free),
    }
}

fn next_steps(questions: usize, is_free: bool) -> String {
    let names = match questions {
        0 => "You give names".to_owned(),
        1 => "You give names, answer one question".to_owned(),
        2 => "You give names, answer two questions".to_owned(),
        n => format!("You give names, answer {n} questions"),
    };
    let pay = if is_free { "and are done" } else { "and pay next" };
    format!("{names} {pay}. Nothing you type is lost if you go back.")
}

fn quantity(chosen: &[Wanted], ticket: &TicketType) -> u32 {
    chosen.iter().find(|w| w.ticket == ticket.id).map_or(0, |w| w.quantity)
}

/// What a ticket takes beyond one seat: `takes 4 seats and 4 protective suits`.
fn draws(sheet: &DateSheet, offer: &matricle_core::booking::Offer) -> Option<String> {
    let many = offer.seats.draws.len() > 1 || offer.seats.draws.iter().any(|d| d.seats > 1);
    let parts: Vec<String> = sheet
        .offer
        .pools
        .iter()
        .filter_map(|pool| {
            let draw = offer.seats.draws.iter().find(|d| d.pool == pool.id)?;
            Some(words::count(draw.seats, &pool.name))
        })
        .collect();
    (many && !parts.is_empty()).then(|| format!("takes {}", parts.join(" and ")))
}

/// What is left in the pools that the strip does not show.
fn others(sheet: &DateSheet) -> String {
    let said: Vec<String> = sheet
        .offer
        .pools
        .iter()
        .skip(1)
        .map(|p| format!("{} of {} {} left", p.free(), p.capacity, p.name))
        .collect();
    said.join(", ")
}

fn dates(page: &EventPage, chosen: &DateSheet, now: Timestamp) -> Vec<DateChoice> {
    if page.dates.len() < 2 {
        return Vec::new();
    }
    page.dates
        .iter()
        .map(|d| {
            let span = &d.date.span;
            let today = words::local(now, &span.zone).date();
            DateChoice {
                href: format!("/events/{}?date={}", page.event.slug, d.date.id),
                words: words::span(span.starts, span.ends, today),
                left: left(d),
                chosen: d.date.id == chosen.date.id,
            }
        })
        .collect()
}
