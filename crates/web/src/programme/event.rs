//! `GET /events/{slug}`: an event, with the stub to book it.

use askama::Template;
use axum::extract::{Path, Query, State as Shared};
use axum::http::{HeaderMap, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use jiff::Timestamp;
use jiff::ToSpan;
use matricle_core::DateId;
use matricle_core::money::price::Buyer;
use matricle_desk::money::entries;
use matricle_desk::programme::{self, EventPage};
use matricle_formats::words;
use matricle_store::events::{Choices, Format};

use crate::asking::{Perhaps, Reader, Visitor};
use crate::cache::TOKEN_MARK;
use crate::error::WebError;
use crate::page::{Face, Frame, Trial, html};
use crate::parts::grid;
use crate::parts::places::picture_address;
use crate::programme::asked::ProgrammeQuery;
use crate::programme::choosing::{Who, kept, make_stub, may_test};
use crate::programme::stub::Stub;
use crate::serving::{self, Served};
use crate::{App, cookies};

/// What cancelling a booking of this date gives back.
fn steps_of(page: &EventPage, date: &Choices, now: Timestamp) -> String {
    let costs = date.offer.offers.iter().any(|o| o.price.minor > 0);
    if !costs || !page.event.rules.may_cancel || date.date.span.starts_at <= now {
        return String::new();
    }
    let told = entries::steps_until(&page.house, &page.event, &date.date, None);
    crate::wording::steps(&told, &page.house.zone, now)
}

#[derive(Template)]
#[template(path = "programme/event.html")]
pub(crate) struct EventTemplate {
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
    /// Whom to ask, with live addresses.
    contact: String,
    /// Nobody books it: what it costs, in words.
    drop_in: Option<(String, Vec<String>)>,
    description: String,
    refund_note: String,
    /// What cancelling gives back, in days for this date; empty where nothing costs anything.
    steps: String,
    /// The place, for a map on the telephone.
    map: String,
    stub: Option<Stub>,
    /// A draft looked at beforehand, or something said about it.
    called_off: String,
    off: Vec<(String, String)>,
    course: Vec<(String, bool)>,
    /// More dates are to come than the one that is shown.
    several: bool,
    tags: Vec<(String, String)>,
    /// Notices: heading, paragraphs, when it was put up.
    notices: Vec<(String, Vec<String>, String)>,
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
    /// It is in the Programme, so that calendars find it.
    public: bool,
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
pub(crate) struct WeekView {
    pub(super) heading: String,
    pub(super) before: Option<String>,
    pub(super) after: Option<String>,
    pub(super) days: Vec<(String, Vec<SlotView>)>,
    pub(super) chosen: bool,
}

/// A slot to choose.
pub(crate) struct SlotView {
    pub(super) href: String,
    pub(super) time: String,
    pub(super) left: String,
    pub(super) open: bool,
    pub(super) chosen: bool,
}

/// The week of slots of a page; `base` is the address that choosing one leads to.
pub(crate) fn week_view(page: &EventPage, base: &str, chosen: Option<DateId>) -> Option<WeekView> {
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

/// What was announced: its subject, its lines, its day.
fn notices(page: &EventPage, today: jiff::civil::Date) -> Vec<(String, Vec<String>, String)> {
    page.notices
        .iter()
        .map(|n| {
            let lines = n.words.lines().map(str::trim).filter(|l| !l.is_empty());
            let at = words::local(n.at, &page.house.zone).date();
            (n.subject.clone(), lines.map(String::from).collect(), words::day(at, today))
        })
        .collect()
}

/// What the page tells other programs of itself.
fn meta(app: &App, page: &EventPage) -> Meta {
    let (event, slug) = (&page.event, &page.event.slug);
    let text = matricle_store::events::without_marks(&event.description);
    let description = if event.lead.is_empty() {
        text.trim().chars().take(200).collect()
    } else {
        event.lead.clone()
    };
    Meta {
        url: format!("{}/events/{slug}", app.desk.public_url),
        description,
        image: page
            .picture
            .as_ref()
            .map(|p| app.desk.public_url.to_string() + &picture_address(app, p.id, "large")),
        json: super::feeds::json_of_page(app, page),
        listed: event.listed && !page.preview,
        public: !page.preview,
    }
}

pub(crate) fn render(
    app: &App,
    f: Frame,
    page: &EventPage,
    asked: &ProgrammeQuery,
    stub: Option<Stub>,
    now: jiff::Timestamp,
) -> EventTemplate {
    let date = stub
        .as_ref()
        .map(|s| s.date)
        .or(asked.date.map(|d| d.0))
        .and_then(|id| page.dates.iter().find(|d| d.date.id.0 == id))
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
    EventTemplate {
        f,
        kind: event.kind.clone(),
        title: event.title.clone(),
        lead: event.lead.clone(),
        when,
        zone_note,
        place: of(|d| d.date.place()),
        address: of(|d| d.date.address.clone()),
        map: of(|d| crate::parts::places::map(&d.date)),
        steps: date.map_or_else(String::new, |d| steps_of(page, d, now)),
        directions: of(|d| d.date.directions.clone()),
        hosts: of(|d| d.date.hosts.clone()),
        bring: event.bring.clone(),
        contact: matricle_formats::rich::line(&event.contact),
        drop_in: (event.drop_in && event.called_off.is_empty() && !page.dates.is_empty()).then(
            || {
                let dates = page.dates.iter().filter(|_| page.dates.len() > 1);
                let dates = dates.map(|d| words::span(d.date.span.starts, d.date.span.ends, today));
                (event.price_words.clone(), dates.collect())
            },
        ),
        description: event.description.clone(),
        refund_note: event.refund_note.clone(),
        called_off: event.called_off.clone(),
        off: page
            .off
            .iter()
            .filter(|_| event.called_off.is_empty())
            .map(|d| (words::span(d.span.starts, d.span.ends, today), d.called_off.clone()))
            .collect(),
        several: page.dates.len() > 1,
        course: page
            .course
            .iter()
            .filter(|d| d.called_off.is_empty())
            .map(|d| (words::span(d.span.starts, d.span.ends, today), d.span.starts_at <= now))
            .collect(),
        tags: page.tags.clone(),
        notices: notices(page, today),
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
        meta: meta(app, page),
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
    let asked = ProgrammeQuery::of(&pairs);
    let personal = !asked.is_plain() || cookies::is_personal(&headers);
    // Whoever carries nothing has everybody's token, which stands in the page that is kept.
    let own = (!visitor.0.is_empty()).then(|| app.desk.secrets.form_token(&visitor.0));
    let no_cache = [(header::CACHE_CONTROL, "no-cache")];
    let address = match (asked.date, asked.week) {
        (None, None) => slug.clone(),
        (date, week) => format!("{slug}?{date:?}{week:?}"),
    };
    let (version, now) = (app.desk.store.version(), app.desk.clock.now());
    if !personal && let Some(page) = app.pages.get(&address, version, now, own.as_deref()) {
        return Ok((no_cache, Html(page)).into_response());
    }
    let page = programme::event(&app.desk, asked.looking(slug.clone())).await?;
    if page.event.slug != slug {
        // An address it had before: it keeps leading here.
        return Ok(Redirect::permanent(&asked.address(&page.event.slug)).into_response());
    }
    let title = page.event.title.clone();
    let mut f =
        Frame::new(&app, Face::Programme, title, &page.house.name, &visitor, staff.as_ref())
            .coloured(&page.event.accent);
    if page.preview {
        let is_test = may_test(&app, &page, &asked, staff.as_ref());
        f = f.tried(if is_test { Trial::Test } else { Trial::Preview }, page.event.id.0);
    }
    if personal {
        let who = Who::of(&app, &booker, &page, &asked, staff.as_ref()).await?;
        let kept = kept(&app, &headers, &page).await?;
        let stub = make_stub(&app, &page, &asked, kept, &who, f.token.clone());
        return html(&render(&app, f, &page, &asked, stub, now));
    }
    f.token = TOKEN_MARK.into();
    let nobody = Who { staff: None, buyer: Buyer::default(), barred: None };
    let stub = make_stub(&app, &page, &asked, None, &nobody, TOKEN_MARK.into());
    let rendered = render(&app, f, &page, &asked, stub, now).render()?;
    app.pages.put(address, version, now, &rendered, &app.desk.secrets.form_token(""));
    let token = own.unwrap_or_else(|| app.desk.secrets.form_token(""));
    Ok((no_cache, Html(rendered.replace(TOKEN_MARK, &token))).into_response())
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
