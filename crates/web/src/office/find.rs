//! Finding anything: events, dates, bookings and their people, pages of the House.

use askama::Template;
use axum::extract::Query;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::money::transfer::read_creditor_reference;
use matricle_core::words::codes::Reference;
use matricle_core::words::fold;
use matricle_core::words::search;
use matricle_desk::office::{self, BookingList};
use matricle_formats::words;
use matricle_store::bookings::{Filter, MOST_COUNTED};

use crate::address::encode;
use crate::error::WebError;
use crate::office::{BookingRow, Clerk, booking_row};
use crate::page::{Frame, html};

/// Rows of each kind that are shown.
const MOST: usize = 12;

/// Pages of the Office by words that somebody may look for.
const PAGES: [(&str, &str, &str); 21] = [
    (
        "The house",
        "/office/house",
        "name address zone currency terms seller receipts iban bic account cancellation steps",
    ),
    ("Venues and rooms", "/office/house/venues", "places addresses directions seats"),
    ("Hosts", "/office/house/hosts", "leaders speakers"),
    ("Tags", "/office/house/tags", "topics"),
    ("Tax rates", "/office/house/money", "vat percent"),
    ("Opening hours", "/office/house/hours", "closed days slots appointments"),
    (
        "People and roles",
        "/office/house/people",
        "colleagues staff members passwords administrator",
    ),
    ("Feeds and other sites", "/office/house/feeds", "calendar embed atom rss website"),
    ("Who changed what", "/office/house/changes", "log history"),
    ("Messages", "/office/messages", "outbox mail planned sent failed"),
    ("Templates", "/office/messages/templates", "wording words mail"),
    (
        "Automatic messages of the house",
        "/office/messages/cues",
        "reminder confirmation thanks automatic",
    ),
    ("Senders", "/office/messages/senders", "from address reply"),
    ("New event", "/office/events/new", "create add quick pattern"),
    ("Board", "/office/board", "rooms week clashes"),
    ("Owed", "/office/money", "unpaid transfer debts invoices"),
    ("Came and went", "/office/money/movements", "payments refunds"),
    ("Ledger", "/office/money/ledger", "entries accounts books"),
    ("Promo codes", "/office/money/promos", "discounts vouchers"),
    ("Stamp cards", "/office/money/cards", "prepaid"),
    ("You", "/you", "password sessions sign out"),
];

#[derive(Debug, serde::Deserialize)]
pub(crate) struct FindQuery {
    #[serde(default)]
    q: String,
}

struct EventHit {
    href: String,
    title: String,
    kind: String,
    state: &'static str,
}

#[derive(Template)]
#[template(path = "office/find.html")]
struct Page {
    f: Frame,
    q: String,
    events: Vec<EventHit>,
    more_events: usize,
    dates: Vec<(String, String, String)>,
    bookings: Vec<BookingRow>,
    found: String,
    more_bookings: bool,
    all: String,
    pages: Vec<(&'static str, &'static str)>,
}

impl Page {
    fn is_empty(&self) -> bool {
        self.events.is_empty()
            && self.dates.is_empty()
            && self.bookings.is_empty()
            && self.pages.is_empty()
    }
}

/// `GET /office/find`: a reference opens its booking; words find events, dates, bookings and
/// their people, and pages of the Office.
pub(crate) async fn find(
    at: Clerk,
    Query(FindQuery { q }): Query<FindQuery>,
) -> Result<Response, WebError> {
    let q = matricle_core::words::text::line(&q);
    if let Some(reference) = Reference::parse(&q).or_else(|| read_creditor_reference(&q)) {
        return Ok(
            Redirect::to(&format!("/office/bookings/{}", reference.as_str())).into_response()
        );
    }
    if q.is_empty() {
        return Ok(Redirect::to("/office").into_response());
    }
    let desk = &at.app.desk;
    let now = desk.clock.now();
    let typed = fold(&q);
    let asked: Vec<&str> = typed.split(' ').filter(|w| !w.is_empty()).collect();
    let fits = |text: &str| {
        let text = fold(text);
        let known: Vec<&str> = text.split(|c: char| !c.is_alphanumeric()).collect();
        asked.iter().all(|w| known.iter().any(|k| k.starts_with(w)))
    };
    let (house, rows) = office::events(desk, &at.staff).await?;
    let mut events: Vec<EventHit> = rows
        .iter()
        .filter(|r| fits(&format!("{} {} {}", r.event.title, r.event.kind, r.event.state.word())))
        .map(|r| EventHit {
            href: format!("/office/events/{}", r.event.id),
            title: r.event.title.clone(),
            kind: r.event.kind.clone(),
            state: r.event.state.word(),
        })
        .collect();
    let more_events = events.len().saturating_sub(MOST);
    events.truncate(MOST);
    let filter =
        Filter { words: q.clone(), most: u32::try_from(MOST).unwrap_or(12), ..Filter::default() };
    let BookingList { rows: found, count, .. } =
        office::bookings(desk, &at.staff, filter, false).await?;
    let today = words::local(now, &house.zone).date();
    // A day such as `10 december` names dates.
    let day = search::terms(&q).into_iter().find_map(|t| Some((t.months, t.day?)));
    let mut dates = Vec::new();
    if let Some((months, day)) = day {
        for date in office::dates_on(desk, &at.staff, months, day).await?.into_iter().take(MOST) {
            let span = &date.date.span;
            dates.push((
                format!("/office/events/{}/coming?date={}", date.event.id, date.date.id),
                words::span(span.starts, span.ends, today),
                date.event.title.clone(),
            ));
        }
    }
    let shown = |href: &str| match href {
        _ if href.starts_with("/office/money") => {
            at.staff.role.may(matricle_core::people::staff::Right::HandleMoney)
        }
        "/office/events/new" => at.staff.role.may(matricle_core::people::staff::Right::PlanEvents),
        _ => true,
    };
    html(&Page {
        f: at.frame(format!("Found: {q}"), &house.name),
        events,
        more_events,
        dates,
        bookings: found.iter().map(|r| booking_row(r, &house.zone, now)).collect(),
        found: match count {
            n if n > MOST_COUNTED => format!("more than {MOST_COUNTED}"),
            n => n.to_string(),
        },
        more_bookings: usize::try_from(count).unwrap_or(usize::MAX) > MOST,
        all: format!("/office/bookings?q={}", encode(&q)),
        pages: PAGES
            .iter()
            .filter(|(name, href, words)| shown(href) && fits(&format!("{name} {words}")))
            .map(|(name, href, _)| (*name, *href))
            .collect(),
        q,
    })
}
