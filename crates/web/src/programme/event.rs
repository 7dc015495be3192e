//! `GET /events/{slug}`: an event, with the stub to book it.

use askama::Template;
use axum::extract::{Path, RawQuery, State as Shared};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use matricle_core::booking::State;
use matricle_core::codes::Reference;
use matricle_core::seats::Wanted;
use matricle_core::{DateId, TicketTypeId};
use matricle_desk::programme::{self, EventPage};
use matricle_desk::{DeskError, hold};
use matricle_formats::words;
use matricle_store::events::DateSheet;

use super::stub::{Kept, Stub, stub};
use crate::App;
use crate::cache::TOKEN_MARK;
use crate::error::WebError;
use crate::guard::{self, Asker, Often, Part, Perhaps, Posted, Visitor};
use crate::page::{Face, Frame, html};

#[derive(Template)]
#[template(path = "programme/event.html")]
struct EventTemplate {
    f: Frame,
    kind: String,
    title: String,
    lead: String,
    when: String,
    zone_note: Option<String>,
    place: String,
    address: String,
    directions: String,
    hosts: String,
    bring: String,
    paragraphs: Vec<String>,
    refund_note: String,
    stub: Option<Stub>,
}

/// What the address or a form asks for: a date and quantities.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct Asked {
    date: Option<DateId>,
    wanted: Vec<Wanted>,
    given: bool,
}

impl Asked {
    /// Reads `date`, `q_{ticket}` and `step` fields. Numbers that are none count as zero.
    fn read<'f>(fields: impl Iterator<Item = (&'f str, &'f str)>) -> Self {
        let mut asked = Self::default();
        let mut step = None;
        for (name, value) in fields {
            if name == "date" {
                asked.date = value.parse().ok().map(DateId);
            } else if name == "step" {
                step = value.split_once(':').and_then(|(id, by)| {
                    Some((TicketTypeId(id.parse().ok()?), by.parse::<i64>().ok()?))
                });
            } else if let Some(id) = name.strip_prefix("q_").and_then(|id| id.parse().ok()) {
                asked.given = true;
                let quantity = value.trim().parse::<u32>().unwrap_or(0);
                asked.wanted.push(Wanted { ticket: TicketTypeId(id), quantity });
            }
        }
        if let Some((ticket, by)) = step
            && let Some(w) = asked.wanted.iter_mut().find(|w| w.ticket == ticket)
        {
            let after = i64::from(w.quantity).saturating_add(by).max(0);
            w.quantity = u32::try_from(after).unwrap_or(u32::MAX);
        }
        asked
    }

    fn of_query(query: &str) -> Self {
        // Only numbers and short names stand in our addresses, so nothing needs decoding.
        let pairs = query.split('&').filter_map(|pair| pair.split_once('='));
        Self::read(pairs)
    }

    fn address(&self, slug: &str) -> String {
        let mut address = format!("/events/{slug}?");
        if let Some(date) = self.date {
            address.push_str(&format!("date={date}&"));
        }
        for w in self.wanted.iter().filter(|w| w.quantity > 0) {
            address.push_str(&format!("q_{}={}&", w.ticket, w.quantity));
        }
        address.pop();
        address + "#book"
    }
}

fn chosen_date<'p>(page: &'p EventPage, asked: &Asked) -> Option<&'p DateSheet> {
    page.dates
        .iter()
        .find(|d| Some(d.date.id) == asked.date)
        .or_else(|| page.dates.iter().find(|d| d.main_pool().free() > 0))
        .or_else(|| page.dates.first())
}

/// The booking of this browser, if it is for this event and waits to be filled in or paid.
async fn kept(
    app: &App,
    headers: &HeaderMap,
    page: &EventPage,
) -> Result<Option<(Reference, hold::BookingSheet)>, WebError> {
    let Some((reference, key)) = guard::hold_of(headers) else { return Ok(None) };
    let Some(reference) = Reference::parse(&reference) else { return Ok(None) };
    if !app.desk.secrets.opens_booking(reference, &key) {
        return Ok(None);
    }
    match hold::sheet(&app.desk, reference).await {
        Ok(sheet)
            if sheet.event.id == page.event.id && sheet.waits_for_booker(app.desk.clock.now()) =>
        {
            Ok(Some((reference, sheet)))
        }
        Ok(_) | Err(DeskError::NotFound) => Ok(None),
        Err(error) => Err(error.into()),
    }
}

fn make_stub(
    app: &App,
    page: &EventPage,
    asked: &Asked,
    kept: Option<(Reference, hold::BookingSheet)>,
    token: String,
) -> Option<Stub> {
    let now = app.desk.clock.now();
    let mut asked = asked.clone();
    let held_now = |held: &hold::BookingSheet| held.booking.state == State::Held;
    if let Some((_, held)) = &kept
        && held_now(held)
        && !asked.given
        && asked.date.is_none_or(|d| d == held.date.id)
    {
        asked.date = Some(held.date.id);
        asked.wanted = held.wanted();
    }
    let sheet = chosen_date(page, &asked)?;
    // The seats kept by this browser are free for it to choose again.
    let mut sheet = sheet.clone();
    let view = kept.map(|(reference, held)| {
        if held_now(&held) && held.date.id == sheet.date.id {
            free_own(&mut sheet, &held);
        }
        let until = held.booking.deadline.unwrap_or(now);
        let people = u32::try_from(held.attendees.len()).unwrap_or(0);
        let clock = words::clock(words::local(until, &page.house.zone).datetime());
        let seats = words::count(people, "seats");
        let (words, link) = if held_now(&held) {
            (format!("You have {seats} kept until {clock}."), "Go on with your booking")
        } else {
            let due = held.booking.due();
            (format!("You have {seats} to pay for until {clock}: {due}."), "Go on and pay")
        };
        Kept { href: super::booking::address(app, reference), words, link }
    });
    Some(stub(page, &sheet, &asked.wanted, token, view, now))
}

fn free_own(sheet: &mut DateSheet, held: &hold::BookingSheet) {
    for offer in &mut sheet.offer.offers {
        let quantity = held.quantity(offer.price.id);
        offer.seats.sold = offer.seats.sold.saturating_sub(quantity);
        for draw in &offer.seats.draws {
            if let Some(pool) = sheet.offer.pools.iter_mut().find(|p| p.id == draw.pool) {
                pool.taken.held = pool.taken.held.saturating_sub(draw.seats * quantity);
            }
        }
    }
}

fn render(f: Frame, page: &EventPage, stub: Option<Stub>, now: jiff::Timestamp) -> EventTemplate {
    let date = stub
        .as_ref()
        .and_then(|s| page.dates.iter().find(|d| d.date.id.0 == s.date))
        .or(page.dates.first());
    let when = date.map_or_else(
        || "No coming date".to_owned(),
        |d| words::long_span(d.date.span.starts, d.date.span.ends),
    );
    let here = words::local(now, &page.house.zone).time_zone().clone();
    let zone_note = date
        .filter(|d| words::zone(&d.date.span.zone) != here)
        .map(|d| format!("{} time", d.date.span.zone));
    let of = |f: fn(&DateSheet) -> String| date.map_or_else(String::new, f);
    EventTemplate {
        f,
        kind: page.event.kind.clone(),
        title: page.event.title.clone(),
        lead: page.event.lead.clone(),
        when,
        zone_note,
        place: of(|d| d.date.place()),
        address: of(|d| d.date.address.clone()),
        directions: of(|d| d.date.directions.clone()),
        hosts: of(|d| d.date.hosts.clone()),
        bring: page.event.bring.clone(),
        paragraphs: page.event.description.split("\n\n").map(|p| p.trim().to_owned()).collect(),
        refund_note: page.event.refund_note.clone(),
        stub,
    }
}

pub(crate) async fn show(
    Shared(app): Shared<App>,
    Path(slug): Path<String>,
    RawQuery(query): RawQuery,
    visitor: Visitor,
    headers: HeaderMap,
    Perhaps(staff): Perhaps,
) -> Result<Response, WebError> {
    let query = query.unwrap_or_default();
    let asked = Asked::of_query(&query);
    let personal = staff.is_some() || asked.given || guard::hold_of(&headers).is_some();
    let token = app.desk.secrets.form_token(&visitor.0);
    let no_cache = [(header::CACHE_CONTROL, "no-cache")];
    let address = format!("{slug}?{:?}", asked.date);
    let (version, now) = (app.desk.store.version(), app.desk.clock.now());
    if !personal && let Some(page) = app.pages.get(&address, version, now, &token) {
        return Ok((no_cache, Html(page)).into_response());
    }
    let page = programme::event(&app.desk, slug).await?;
    let title = page.event.title.clone();
    let mut f =
        Frame::new(&app, Face::Programme, title, &page.house.name, &visitor, staff.as_ref());
    if personal {
        let kept = kept(&app, &headers, &page).await?;
        let stub = make_stub(&app, &page, &asked, kept, token);
        return html(&render(f, &page, stub, now));
    }
    f.token = TOKEN_MARK.into();
    let stub = make_stub(&app, &page, &asked, None, TOKEN_MARK.into());
    let rendered = render(f, &page, stub, now).render()?;
    let whole = app.pages.put(address, version, now, &rendered, &token);
    Ok((no_cache, Html(whole)).into_response())
}

/// `POST /events/{slug}/choose`: one more, one less, or a number: the stub again.
/// Without script, the page again with the choice in its address.
pub(crate) async fn choose(
    Shared(app): Shared<App>,
    Path(slug): Path<String>,
    Part(part): Part,
    headers: HeaderMap,
    visitor: Visitor,
    form: Posted,
) -> Result<Response, WebError> {
    let asked = Asked::read(form.starting(""));
    if !part {
        return Ok(Redirect::to(&asked.address(&slug)).into_response());
    }
    let page = programme::event(&app.desk, slug).await?;
    let kept = kept(&app, &headers, &page).await?;
    let token = app.desk.secrets.form_token(&visitor.0);
    match make_stub(&app, &page, &asked, kept, token) {
        Some(stub) => html(&stub),
        None => Err(DeskError::NotFound.into()),
    }
}

/// `POST /events/{slug}/keep`: keeps the chosen seats and goes on to the form.
pub(crate) async fn keep(
    Shared(app): Shared<App>,
    Path(slug): Path<String>,
    asker: Asker,
    headers: HeaderMap,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
    form: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, asker)?;
    let asked = Asked::read(form.starting(""));
    let page = programme::event(&app.desk, slug).await?;
    let kept = kept(&app, &headers, &page).await?;
    let date = asked.date.ok_or(DeskError::NotFound)?;
    if page.dates.iter().all(|d| d.date.id != date) {
        return Err(DeskError::NotFound.into());
    }
    let instead = kept
        .as_ref()
        .filter(|(_, sheet)| sheet.booking.state == State::Held)
        .map(|(reference, _)| *reference);
    match hold::keep(&app.desk, date, asked.wanted.clone(), instead).await {
        Ok(reference) => {
            let key = app.desk.secrets.booking_key(reference);
            let cookie =
                guard::hold_cookie(&app.settings, &format!("{}.{key}", reference.as_str()));
            let to = Redirect::to(&super::booking::address(&app, reference));
            Ok(([(header::SET_COOKIE, cookie)], to).into_response())
        }
        Err(DeskError::Choice(refusal)) => {
            let tickets = page.dates.first().map_or(&[][..], |d| &d.tickets);
            let notice = crate::wording::choice(&refusal, tickets);
            let token = app.desk.secrets.form_token(&visitor.0);
            let mut stub = make_stub(&app, &page, &asked, kept, token);
            if let Some(stub) = &mut stub {
                stub.notice = Some(notice);
            }
            let title = page.event.title.clone();
            let f = Frame::new(
                &app,
                Face::Programme,
                title,
                &page.house.name,
                &visitor,
                staff.as_ref(),
            );
            let page = render(f, &page, stub, app.desk.clock.now()).render()?;
            Ok((StatusCode::CONFLICT, Html(page)).into_response())
        }
        Err(error) => Err(error.into()),
    }
}

/// `GET` of an address that only takes forms, as after going back: the event.
pub(crate) async fn back(Path(slug): Path<String>) -> Redirect {
    Redirect::to(&format!("/events/{}", crate::page::encode(&slug)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_and_odd_numbers_are_read_safely() {
        let read = |query: &str| Asked::of_query(query);
        let asked = read("date=3&q_1=2&q_2=0&step=2:1");
        assert_eq!(asked.wanted.iter().map(|w| w.quantity).collect::<Vec<_>>(), [2, 1]);
        assert_eq!(asked.address("pollen"), "/events/pollen?date=3&q_1=2&q_2=1#book");
        let odd = read("date=x&q_1=-3&q_2=99999999999&q_x=1&step=1:-1&step=9:1");
        assert_eq!(odd.date, None);
        assert!(odd.wanted.iter().all(|w| w.quantity == 0));
    }
}
