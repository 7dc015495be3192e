//! `GET /events/{slug}`: an event, with the stub to book it.

use askama::Template;
use axum::extract::{Path, Query, State as Shared};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use jiff::ToSpan;
use matricle_core::booking::State;
use matricle_core::codes::Reference;
use matricle_core::price::Buyer;
use matricle_core::seats::Wanted;
use matricle_core::{DateId, TicketTypeId};
use matricle_desk::DeskError;
use matricle_desk::bookings::{hold, whole};
use matricle_desk::people::asking;
use matricle_desk::people::asking::Asking;
use matricle_desk::programme;
use matricle_desk::programme::{EventPage, Looking};
use matricle_formats::words;
use matricle_store::bookings::HeldBy;
use matricle_store::events::{Choices, EventState, Format};
use matricle_store::people::Staff;

use super::stub::{Ask, Kept, Stub, stub};
use crate::App;
use crate::cache::TOKEN_MARK;
use crate::error::WebError;
use crate::guard::{self, Asker, Booker, Often, Part, Perhaps, Posted, Reader, Visitor};
use crate::page::{Face, Frame, html};
use crate::parts::grid;
use crate::serving::{self, Served};

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
    description: String,
    refund_note: String,
    stub: Option<Stub>,
    /// A draft looked at beforehand, or something said about it.
    preview: bool,
    called_off: String,
    off: Vec<(String, String)>,
    course: Vec<(String, bool)>,
    tags: Vec<(String, String)>,
    picture: Option<PictureView>,
    online: &'static str,
    sessions: Vec<SessionsView>,
    week: Option<WeekView>,
    slug: String,
    date: i64,
    meta: Meta,
}

/// What other sites show of an event, and what machines read.
struct Meta {
    url: String,
    description: String,
    image: Option<String>,
    json: String,
    listed: bool,
}

struct PictureView {
    large: String,
    small: String,
    alt: String,
    width: u32,
    height: u32,
}

/// The sessions of a date: a grid, and the same as a list for phones.
struct SessionsView {
    when: String,
    grid: String,
    rows: Vec<(String, String, String, String)>,
}

/// A week of slots.
pub(super) struct WeekView {
    pub(super) heading: String,
    pub(super) before: Option<String>,
    pub(super) after: Option<String>,
    pub(super) days: Vec<(String, Vec<SlotView>)>,
    pub(super) chosen: bool,
}

/// A slot to choose.
pub(super) struct SlotView {
    pub(super) href: String,
    pub(super) time: String,
    pub(super) left: String,
    pub(super) open: bool,
    pub(super) chosen: bool,
}

/// The week of slots of a page; `base` is the address that choosing one leads to.
pub(super) fn week_view(page: &EventPage, base: &str, chosen: Option<DateId>) -> Option<WeekView> {
    let week = page.week.as_ref()?;
    let last = week.monday.saturating_add(6.days());
    let to = |day: jiff::civil::Date| format!("{base}?week={day}#week");
    let mut days: Vec<(String, Vec<SlotView>)> = Vec::new();
    for (slot, open) in &week.slots {
        let day = words::day(slot.date.span.starts.date(), week.monday);
        let free = slot.pool.free();
        let view = SlotView {
            href: format!("{base}?week={}&date={}#book", week.monday, slot.date.id),
            time: words::clock(slot.date.span.starts),
            left: match (free, open) {
                (0, _) => "full".into(),
                (_, false) => "not yet, or too late".into(),
                (n, true) => format!("{n} left"),
            },
            open: *open,
            chosen: Some(slot.date.id) == chosen,
        };
        match days.last_mut() {
            Some((name, slots)) if *name == day => slots.push(view),
            _ => days.push((day, vec![view])),
        }
    }
    Some(WeekView {
        heading: format!(
            "{} to {}",
            words::day(week.monday, week.monday),
            words::day(last, week.monday)
        ),
        before: week.around.0.then(|| to(week.monday.saturating_sub(7.days()))),
        after: week.around.1.then(|| to(week.monday.saturating_add(7.days()))),
        chosen: days.iter().any(|(_, slots)| slots.iter().any(|s| s.chosen)),
        days,
    })
}

/// What the address or a form asks for: a date and quantities.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Asked {
    pub(super) date: Option<DateId>,
    pub(super) wanted: Vec<Wanted>,
    given: bool,
    pub(super) word: String,
    pub(super) week: Option<jiff::civil::Date>,
    preview: String,
    test: bool,
}

impl Asked {
    /// Reads `date`, `q_{ticket}`, `step` and the like. Numbers that are none count as zero.
    pub(super) fn read<'f>(fields: impl Iterator<Item = (&'f str, &'f str)>) -> Self {
        let mut asked = Self::default();
        let mut step = None;
        for (name, value) in fields {
            match name {
                "date" => asked.date = value.parse().ok().map(DateId),
                "word" => asked.word = value.trim().chars().take(80).collect(),
                "week" => asked.week = value.parse().ok().filter(super::catalogue::near),
                "preview" => asked.preview = value.into(),
                "test" => asked.test = value == "yes",
                "step" => {
                    step = value.split_once(':').and_then(|(id, by)| {
                        Some((TicketTypeId(id.parse().ok()?), by.parse::<i64>().ok()?))
                    });
                }
                name => {
                    if let Some(id) = name.strip_prefix("q_").and_then(|id| id.parse().ok()) {
                        asked.given = true;
                        let quantity = value.trim().parse::<u32>().unwrap_or(0);
                        let ticket = TicketTypeId(id);
                        // A field that is there twice says what it says last.
                        asked.wanted.retain(|w| w.ticket != ticket);
                        asked.wanted.push(Wanted { ticket, quantity });
                    }
                }
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

    pub(super) fn of(pairs: &[(String, String)]) -> Self {
        Self::read(pairs.iter().map(|(n, v)| (n.as_str(), v.as_str())))
    }

    /// Only what everybody's page has: perhaps a date, perhaps a week.
    fn is_plain(&self) -> bool {
        !self.given && self.word.is_empty() && self.preview.is_empty() && !self.test
    }

    fn looking(&self, slug: String) -> Looking {
        Looking { slug, date: self.date, week: self.week, preview: self.preview.clone() }
    }

    /// Fields that go along from step to step.
    pub(super) fn carried(&self) -> Vec<(&'static str, String)> {
        let mut carried = Vec::new();
        if !self.preview.is_empty() {
            carried.push(("preview", self.preview.clone()));
        }
        if let Some(week) = self.week {
            carried.push(("week", week.to_string()));
        }
        if self.test {
            carried.push(("test", "yes".into()));
        }
        carried
    }

    fn address(&self, slug: &str) -> String {
        let mut address = format!("/events/{slug}?");
        if let Some(date) = self.date {
            address.push_str(&format!("date={date}&"));
        }
        for w in self.wanted.iter().filter(|w| w.quantity > 0) {
            address.push_str(&format!("q_{}={}&", w.ticket, w.quantity));
        }
        if !self.word.is_empty() {
            address.push_str(&format!("word={}&", crate::page::encode(&self.word)));
        }
        for (name, value) in self.carried() {
            address.push_str(&format!("{name}={}&", crate::page::encode(&value)));
        }
        address.pop();
        address + "#book"
    }
}

/// Who asks: perhaps working for the house, and what is known of them as a buyer.
struct Who<'a> {
    staff: Option<&'a Staff>,
    buyer: Buyer,
}

impl<'a> Who<'a> {
    async fn of(
        app: &App,
        booker: &Asking,
        page: &EventPage,
        asked: &Asked,
        staff: Option<&'a Staff>,
    ) -> Result<Self, WebError> {
        let buyer = asking::buyer(&app.desk, booker, page.event.id, &asked.word).await?;
        Ok(Self { staff, buyer })
    }
}

/// Whether this asker may try the steps of a draft out: with the key of a preview, or as a
/// planner.
fn may_test(app: &App, page: &EventPage, asked: &Asked, staff: Option<&Staff>) -> bool {
    asked.test && hold::may_test(&app.desk, &page.event, &asked.preview, staff)
}

fn chosen_date<'p>(page: &'p EventPage, asked: &Asked) -> Option<&'p Choices> {
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
) -> Result<Option<(Reference, whole::WholeBooking)>, WebError> {
    let Some((reference, key)) = guard::hold_of(headers) else { return Ok(None) };
    let Some(reference) = Reference::parse(&reference) else { return Ok(None) };
    if !app.desk.secrets.opens_booking(reference, &key) {
        return Ok(None);
    }
    match whole::of(&app.desk, reference).await {
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
    kept: Option<(Reference, whole::WholeBooking)>,
    who: &Who<'_>,
    token: String,
) -> Option<Stub> {
    let now = app.desk.clock.now();
    let mut asked = asked.clone();
    let held_now = |held: &whole::WholeBooking| held.booking.state == State::Held;
    if let Some((_, held)) = &kept
        && held_now(held)
        && !asked.given
        && asked.date.is_none_or(|d| d == held.date.id)
    {
        asked.date = Some(held.date.id);
        asked.wanted = held.wanted();
        asked.word.clone_from(&held.booking.buyer.word);
    }
    let test = may_test(app, page, &asked, who.staff);
    if (page.preview && !test) || page.event.state == EventState::CalledOff {
        // A draft is only looked at.
        asked.wanted.clear();
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
    let ask = Ask {
        wanted: &asked.wanted,
        buyer: &who.buyer,
        carried: asked.carried(),
        test,
        embedded: false,
        known: Some(who.buyer.address.as_str()).filter(|a| !a.is_empty()),
    };
    let mut stub = stub(page, &sheet, &ask, token, view, now);
    if page.preview && !test {
        stub.can_book = false;
        stub.closed = Some("This is a draft; nobody can book it yet.".into());
    }
    Some(stub)
}

fn free_own(sheet: &mut Choices, held: &whole::WholeBooking) {
    if held.booking.test {
        return;
    }
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

fn sessions_view(page: &EventPage) -> Vec<SessionsView> {
    page.sessions
        .iter()
        .filter_map(|(_, sessions)| {
            let first = sessions.first()?;
            Some(SessionsView {
                when: words::long_day(first.span.starts.date()),
                grid: grid::svg(sessions),
                rows: sessions
                    .iter()
                    .map(|s| {
                        let place = [s.room.as_str(), s.host.as_str(), s.track.as_str()];
                        let place: Vec<&str> =
                            place.into_iter().filter(|t| !t.is_empty()).collect();
                        (
                            format!(
                                "{}–{}",
                                words::clock(s.span.starts),
                                words::clock(s.span.ends)
                            ),
                            s.title.clone(),
                            place.join(" · "),
                            grid::seats(s),
                        )
                    })
                    .collect(),
            })
        })
        .collect()
}

fn render(
    app: &App,
    f: Frame,
    page: &EventPage,
    asked: &Asked,
    stub: Option<Stub>,
    now: jiff::Timestamp,
) -> EventTemplate {
    let date = stub
        .as_ref()
        .and_then(|s| page.dates.iter().find(|d| d.date.id.0 == s.date))
        .or(page.dates.first());
    let when = date.map_or_else(
        || {
            if page.week.is_some() {
                "By appointment".to_owned()
            } else {
                "No coming date".to_owned()
            }
        },
        |d| words::long_span(d.date.span.starts, d.date.span.ends),
    );
    let here = words::local(now, &page.house.zone).time_zone().clone();
    let zone_note = date
        .filter(|d| words::zone(&d.date.span.zone) != here)
        .map(|d| format!("{} time", d.date.span.zone));
    let of = |f: fn(&Choices) -> String| date.map_or_else(String::new, f);
    let today = words::local(now, &page.house.zone).date();
    let event = &page.event;
    let slug = event.slug.clone();
    let text = matricle_store::events::without_marks(&event.description);
    let description = if event.lead.is_empty() {
        text.trim().chars().take(200).collect()
    } else {
        event.lead.clone()
    };
    EventTemplate {
        f,
        kind: event.kind.clone(),
        title: event.title.clone(),
        lead: event.lead.clone(),
        when,
        zone_note,
        place: of(|d| d.date.place()),
        address: of(|d| d.date.address.clone()),
        directions: of(|d| d.date.directions.clone()),
        hosts: of(|d| d.date.hosts.clone()),
        bring: event.bring.clone(),
        description: event.description.clone(),
        refund_note: event.refund_note.clone(),
        preview: page.preview,
        called_off: event.called_off.clone(),
        off: page
            .off
            .iter()
            .filter(|_| event.called_off.is_empty())
            .map(|d| (words::span(d.span.starts, d.span.ends, today), d.called_off.clone()))
            .collect(),
        course: page
            .course
            .iter()
            .filter(|d| d.called_off.is_empty())
            .map(|d| (words::span(d.span.starts, d.span.ends, today), d.span.starts_at <= now))
            .collect(),
        tags: page.tags.clone(),
        picture: page.picture.as_ref().map(|p| PictureView {
            large: picture_address(app, p.id, "large"),
            small: picture_address(app, p.id, "small"),
            alt: p.alt.clone(),
            width: p.width,
            height: p.height,
        }),
        online: match event.format {
            Format::InPerson => "",
            Format::Online => "Online. The link comes with your confirmation.",
            Format::Both => "There, or online. The link comes with your confirmation.",
        },
        sessions: sessions_view(page),
        week: week_view(page, &format!("/events/{slug}"), asked.date),
        date: date.map_or(0, |d| d.date.id.0),
        meta: Meta {
            url: format!("{}/events/{slug}", app.desk.public_url),
            description,
            image: page
                .picture
                .as_ref()
                .map(|p| app.desk.public_url.to_string() + &picture_address(app, p.id, "large")),
            json: super::feeds::json_of_page(app, page),
            listed: event.listed && !page.preview,
        },
        slug,
        stub,
    }
}

pub(crate) async fn show(
    Shared(app): Shared<App>,
    Path(slug): Path<String>,
    Query(pairs): Query<Vec<(String, String)>>,
    visitor: Visitor,
    headers: HeaderMap,
    (Perhaps(staff), Reader(booker)): (Perhaps, Reader),
) -> Result<Response, WebError> {
    let asked = Asked::of(&pairs);
    let personal = !asked.is_plain() || guard::is_personal(&headers);
    let token = app.desk.secrets.form_token(&visitor.0);
    let no_cache = [(header::CACHE_CONTROL, "no-cache")];
    let address = format!("{slug}?{:?}{:?}", asked.date, asked.week);
    let (version, now) = (app.desk.store.version(), app.desk.clock.now());
    if !personal && let Some(page) = app.pages.get(&address, version, now, &token) {
        return Ok((no_cache, Html(page)).into_response());
    }
    let page = programme::event(&app.desk, asked.looking(slug.clone())).await?;
    if page.event.slug != slug {
        // An address it had before: it keeps leading here.
        return Ok(Redirect::permanent(&asked.address(&page.event.slug)).into_response());
    }
    let title = page.event.title.clone();
    let mut f =
        Frame::new(&app, Face::Programme, title, &page.house.name, &visitor, staff.as_ref());
    if personal {
        let who = Who::of(&app, &booker, &page, &asked, staff.as_ref()).await?;
        let kept = kept(&app, &headers, &page).await?;
        let stub = make_stub(&app, &page, &asked, kept, &who, token);
        return html(&render(&app, f, &page, &asked, stub, now));
    }
    f.token = TOKEN_MARK.into();
    let nobody = Who { staff: None, buyer: Buyer::default() };
    let stub = make_stub(&app, &page, &asked, None, &nobody, TOKEN_MARK.into());
    let rendered = render(&app, f, &page, &asked, stub, now).render()?;
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
    (Perhaps(staff), Booker(booker)): (Perhaps, Booker),
    form: Posted,
) -> Result<Response, WebError> {
    let asked = Asked::read(form.starting(""));
    if !part {
        return Ok(Redirect::to(&asked.address(&slug)).into_response());
    }
    let page = programme::event(&app.desk, asked.looking(slug)).await?;
    let who = Who::of(&app, &booker, &page, &asked, staff.as_ref()).await?;
    let kept = kept(&app, &headers, &page).await?;
    let token = app.desk.secrets.form_token(&visitor.0);
    match make_stub(&app, &page, &asked, kept, &who, token) {
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
    (Perhaps(staff), Booker(booker)): (Perhaps, Booker),
    form: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    let asked = Asked::read(form.starting(""));
    let page = programme::event(&app.desk, asked.looking(slug)).await?;
    let who = Who::of(&app, &booker, &page, &asked, staff.as_ref()).await?;
    let kept = kept(&app, &headers, &page).await?;
    let date = asked.date.ok_or(DeskError::NotFound)?;
    if page.dates.iter().all(|d| d.date.id != date && !d.covers.contains(&date)) {
        return Err(DeskError::NotFound.into());
    }
    let instead = kept
        .as_ref()
        .filter(|(_, sheet)| sheet.booking.state == State::Held)
        .map(|(reference, _)| *reference);
    let by = HeldBy { buyer: who.buyer.clone(), test: false, from: booker.from };
    let wanted = asked.wanted.clone();
    let kept_now = if may_test(&app, &page, &asked, staff.as_ref()) {
        let opener = (asked.preview.as_str(), staff.as_ref());
        hold::keep_test(&app.desk, date, wanted, by, instead, opener).await
    } else {
        hold::keep(&app.desk, date, wanted, by, instead).await
    };
    match kept_now {
        Ok(reference) => {
            let key = app.desk.secrets.booking_key(reference);
            let cookie =
                guard::hold_cookie(&app.settings, &format!("{}.{key}", reference.as_str()));
            let to = Redirect::to(&super::booking::address(&app, reference));
            Ok(([(header::SET_COOKIE, cookie)], to).into_response())
        }
        Err(error @ (DeskError::Choice(_) | DeskError::Keep(_))) => {
            let tickets = page.dates.first().map_or(&[][..], |d| &d.tickets);
            let notice = match &error {
                DeskError::Keep(refusal) => crate::wording::keep(refusal),
                DeskError::Choice(refusal) => crate::wording::choice(refusal, tickets),
                _ => String::new(),
            };
            let token = app.desk.secrets.form_token(&visitor.0);
            let mut stub = make_stub(&app, &page, &asked, kept, &who, token);
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
            let page = render(&app, f, &page, &asked, stub, app.desk.clock.now()).render()?;
            Ok((StatusCode::CONFLICT, Html(page)).into_response())
        }
        Err(error) => Err(error.into()),
    }
}

/// `GET` of an address that only takes forms, as after going back: the event.
pub(crate) async fn back(Path(slug): Path<String>) -> Redirect {
    Redirect::to(&format!("/events/{}", crate::page::encode(&slug)))
}

/// Where a picture is: `large` or `small`.
pub(crate) fn picture_address(app: &App, id: i64, size: &str) -> String {
    format!("/pictures/{id}/{}/{size}.jpg", app.desk.secrets.picture_key(id))
}

/// `GET /pictures/{id}/{key}/{size}`: a picture, to be kept for a year; another has another
/// address.
pub(crate) async fn picture(
    Shared(app): Shared<App>,
    Path((id, key, size)): Path<(i64, String, String)>,
    asked: HeaderMap,
) -> Result<Response, WebError> {
    if !app.desk.secrets.opens_picture(id, &key) {
        return Err(matricle_desk::DeskError::NotFound.into());
    }
    let bytes =
        matricle_desk::planning::pictures::picture(&app.desk, id, size == "small.jpg").await?;
    let cache = "public, max-age=31536000, immutable";
    let served = Served { media_type: "image/jpeg", cache, changed: None };
    Ok(serving::bytes(&asked, bytes, &served))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_and_odd_numbers_are_read_safely() {
        let read =
            |query: &str| Asked::read(query.split('&').filter_map(|pair| pair.split_once('=')));
        let asked = read("date=3&q_1=2&q_2=0&step=2:1");
        assert_eq!(asked.wanted.iter().map(|w| w.quantity).collect::<Vec<_>>(), [2, 1]);
        assert_eq!(asked.address("pollen"), "/events/pollen?date=3&q_1=2&q_2=1#book");
        let twice = read("q_1=4&q_1=4&q_1=4");
        assert_eq!(twice.wanted.iter().map(|w| w.quantity).collect::<Vec<_>>(), [4]);
        let odd = read("date=x&q_1=-3&q_2=99999999999&q_x=1&step=1:-1&step=9:1");
        assert_eq!(odd.date, None);
        assert!(odd.wanted.iter().all(|w| w.quantity == 0));
    }
}
