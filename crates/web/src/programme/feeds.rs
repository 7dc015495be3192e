//! `/feeds/…`: what is coming, for calendars, news readers and other programs.

use axum::extract::{Path, State};
use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse, Response};
use matricle_core::{DateId, HostId, RoomId};
use matricle_desk::DeskError;
use matricle_desk::programme::{self, EventPage, Fed, Feed};
use matricle_formats::calendar::{self, Entry};
use matricle_formats::feed::{self, Item};
use matricle_formats::table::Cell;
use matricle_formats::words;
use matricle_store::events::{DateSummary, Event, Format};

use crate::App;
use crate::error::WebError;
use crate::office::events::list_file;

fn missing() -> WebError {
    WebError::Desk(DeskError::NotFound)
}

fn entry(app: &App, d: &DateSummary, tags: &[String]) -> Entry {
    let event = &d.event;
    Entry {
        uid: format!("date-{}@{}", d.date.id, app.desk.host()),
        summary: event.title.clone(),
        description: event.lead.clone(),
        location: if event.format == Format::Online {
            "Online".into()
        } else {
            calendar::location(&d.date.place(), &d.date.address)
        },
        url: format!("{}/events/{}?date={}", app.desk.public_url, event.slug, d.date.id),
        span: d.date.span.clone(),
        cancelled: !d.date.called_off.is_empty(),
        sequence: d.date.sequence,
        changed_at: Some(event.changed_at),
        tags: tags.to_vec(),
    }
}

fn answer(media_type: &'static str, body: impl Into<axum::body::Body>) -> Response {
    let mut response = body.into().into_response();
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(media_type));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("public, max-age=300"));
    headers.insert(header::ACCESS_CONTROL_ALLOW_ORIGIN, HeaderValue::from_static("*"));
    response
}

fn ics(app: &App, fed: &Fed, path: &str) -> Response {
    let entries: Vec<Entry> = fed.dates.iter().map(|(d, tags, _)| entry(app, d, tags)).collect();
    let url = format!("{}{path}", app.desk.public_url);
    let text = calendar::feed(&fed.name, &url, &entries, app.desk.clock.now());
    answer("text/calendar; charset=utf-8", text)
}

fn item(
    app: &App,
    d: &DateSummary,
    picture: Option<i64>,
    currency: matricle_core::Currency,
) -> Item {
    let url = &app.desk.public_url;
    let event: &Event = &d.event;
    Item {
        id: format!("{url}/feeds/date/{}.ics", d.date.id),
        url: format!("{url}/events/{}?date={}", event.slug, d.date.id),
        title: event.title.clone(),
        summary: event.lead.clone(),
        span: d.date.span.clone(),
        place: if event.format == Format::Online {
            (String::new(), String::new())
        } else {
            (d.date.place(), d.date.address.clone())
        },
        online: event.format != Format::InPerson,
        called_off: !d.date.called_off.is_empty(),
        changed_at: event.changed_at,
        hosts: d.date.hosts.clone(),
        price: d.prices.map(|(least, _)| currency.of(least).figures()),
        currency: currency.letters().into(),
        left: d.pool.free(),
        image: picture.map(|id| format!("{url}/pictures/{id}/large.jpg")),
    }
}

/// The JSON-LD inside an event's own page.
pub(super) fn json_of_page(app: &App, page: &EventPage) -> String {
    let items: Vec<Item> = page
        .dates
        .iter()
        .map(|s| {
            let offers = s.offer.offers.iter().filter(|o| o.word.is_empty()).map(|o| o.price.minor);
            let (least, most) = (offers.clone().min(), offers.max());
            let d = DateSummary {
                event: page.event.clone(),
                date: s.date.clone(),
                pool: s.main_pool(),
                inside: 0,
                prices: least.zip(most),
                slot: false,
            };
            item(app, &d, page.picture.as_ref().map(|p| p.id), page.house.currency)
        })
        .collect();
    feed::json_ld(&items, &page.house.name, &app.desk.public_url)
}

/// `GET /feeds/{file}`: everything, in one of several forms.
pub(crate) async fn all(
    State(app): State<App>,
    Path(file): Path<String>,
) -> Result<Response, WebError> {
    let Some(ending) = file.strip_prefix("all.") else { return Err(missing()) };
    if !["ics", "atom", "jsonld", "csv", "xlsx"].contains(&ending) {
        return Err(missing());
    }
    let fed = programme::feed(&app.desk, Feed::All).await?;
    let (now, url) = (app.desk.clock.now(), &app.desk.public_url);
    if ending == "ics" {
        return Ok(ics(&app, &fed, "/feeds/all.ics"));
    }
    // What is over concerns calendars only.
    let coming = || fed.dates.iter().filter(|(d, ..)| d.date.span.ends_at > now);
    if matches!(ending, "csv" | "xlsx") {
        let today = words::local(now, &fed.house.zone).date();
        let head =
            ["Event", "Kind", "When", "Where", "Led by", "Seats left", "From", "Tags", "Address"];
        let rows: Vec<Vec<Cell>> = coming()
            .filter(|(d, ..)| d.date.called_off.is_empty())
            .map(|(d, tags, _)| {
                vec![
                    d.event.title.clone().into(),
                    d.event.kind.clone().into(),
                    words::span(d.date.span.starts, d.date.span.ends, today).into(),
                    d.date.place().into(),
                    d.date.hosts.clone().into(),
                    d.pool.free().into(),
                    d.prices
                        .map_or_else(String::new, |(p, _)| fed.house.currency.of(p).to_string())
                        .into(),
                    tags.join(", ").into(),
                    format!("{url}/events/{}?date={}", d.event.slug, d.date.id).into(),
                ]
            })
            .collect();
        return list_file(&file, "Programme", &head, &rows);
    }
    let items: Vec<Item> =
        coming().map(|(d, _, picture)| item(&app, d, *picture, fed.house.currency)).collect();
    if ending == "atom" {
        let own = format!("{url}/feeds/all.atom");
        let bytes = feed::atom(&fed.house.name, &format!("{url}/"), &own, &items, now)
            .map_err(|e| DeskError::Internal(format!("writing a feed: {e}")))?;
        return Ok(answer("application/atom+xml; charset=utf-8", bytes));
    }
    Ok(answer("application/ld+json", feed::json_ld(&items, &fed.house.name, url)))
}

/// `GET /feeds/{about}/{file}`: a tag, an event, a date, a room.
pub(crate) async fn about(
    State(app): State<App>,
    Path((about, file)): Path<(String, String)>,
) -> Result<Response, WebError> {
    let name = file.strip_suffix(".ics").ok_or_else(missing)?;
    let number = || name.parse::<i64>().map_err(|_| missing());
    let feed = match about.as_str() {
        "tag" => Feed::Tag(name.into()),
        "event" => Feed::Event(name.into()),
        "date" => Feed::Date(DateId(number()?)),
        "room" => Feed::Room(RoomId(number()?)),
        _ => return Err(missing()),
    };
    let fed = programme::feed(&app.desk, feed).await?;
    Ok(ics(&app, &fed, &format!("/feeds/{about}/{file}")))
}

/// `GET /feeds/host/{id}/{key}.ics`: the dates of a host, at an address only they know.
pub(crate) async fn host(
    State(app): State<App>,
    Path((id, file)): Path<(i64, String)>,
) -> Result<Response, WebError> {
    let key = file.strip_suffix(".ics").ok_or_else(missing)?;
    let fed = programme::feed(&app.desk, Feed::Host(HostId(id), key.into())).await?;
    Ok(ics(&app, &fed, &format!("/feeds/host/{id}/{file}")))
}
