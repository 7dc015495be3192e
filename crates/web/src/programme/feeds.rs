//! `/feeds/…`: what is coming, for calendars, news readers and other programs.

use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderValue, header};
use axum::response::Response;
use jiff::Timestamp;
use matricle_core::dates::availability::{Availability, OnSale};
use matricle_core::dates::schedule::Sale;
use matricle_core::money::price::{Buyer, TicketPrice};
use matricle_core::seats::{Pool, Taken};
use matricle_core::{Currency, DateId, HostId, PoolId, RoomId};
use matricle_desk::DeskError;
use matricle_desk::programme::{self, EventPage, Fed, Feed};
use matricle_formats::calendar::{self, Entry};
use matricle_formats::feed::{self, Item, Ticket};
use matricle_formats::table::Cell;
use matricle_formats::words;
use matricle_store::events::{Choices, DateSummary, Event, Format};

use crate::App;
use crate::error::WebError;
use crate::parts::files::list_file;
use crate::serving::{self, Served};

fn missing() -> WebError {
    WebError::Desk(DeskError::NotFound)
}

/// The page of an event, with a date of it chosen.
fn page_of(app: &App, d: &DateSummary) -> String {
    let slug = crate::address::encode(&d.event.slug);
    format!("{}/events/{slug}?date={}", app.desk.public_url, d.date.id)
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
        url: page_of(app, d),
        span: d.date.span.clone(),
        cancelled: !d.date.called_off.is_empty(),
        sequence: d.date.sequence,
        changed_at: Some(d.shown_at()),
        tags: tags.to_vec(),
        others: Vec::new(),
    }
}

/// A feed, with what is needed to ask again for nothing but news.
fn answer(
    app: &App,
    asked: &HeaderMap,
    path: &str,
    media_type: &'static str,
    body: Vec<u8>,
) -> Response {
    let changed = app.pages.since(path, &serving::tag(&body), app.desk.clock.now());
    let served = Served { media_type, cache: "public, max-age=300", changed: Some(changed) };
    let mut response = serving::bytes(asked, body, &served);
    let headers = response.headers_mut();
    headers.insert(header::ACCESS_CONTROL_ALLOW_ORIGIN, HeaderValue::from_static("*"));
    response
}

fn ics(app: &App, asked: &HeaderMap, fed: &Fed, path: &str) -> Response {
    let mut entries: Vec<Entry> = fed
        .dates
        .iter()
        .map(|(d, tags, _)| {
            let mut entry = entry(app, d, tags);
            if let Some(names) = fed.names.get(&d.date.id) {
                let many = words::people(u32::try_from(names.len()).unwrap_or(u32::MAX));
                entry.description.push_str(&format!("\n\nWho comes: {many}"));
                for name in names {
                    entry.description.push_str(&format!("\n{name}"));
                }
            }
            entry
        })
        .collect();
    // What changed lately stands first: a calendar that reads only a part has that.
    entries.sort_by_key(|e| std::cmp::Reverse(e.changed_at));
    let url = format!("{}{path}", app.desk.public_url);
    let text = calendar::feed(&fed.name, &url, &fed.house.zone, fed.house.colour(), &entries);
    answer(app, asked, path, "text/calendar; charset=utf-8", text.into_bytes())
}

fn item(app: &App, d: &DateSummary, picture: Option<i64>, currency: Currency) -> Item {
    let url = &app.desk.public_url;
    let event: &Event = &d.event;
    Item {
        id: format!("{url}/feeds/date/{}.ics", d.date.id),
        url: page_of(app, d),
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
        changed_at: d.changed_at(),
        hosts: d.date.hosts.clone(),
        prices: d
            .prices
            .map(|(least, most)| (currency.of(least).figures(), currency.of(most).figures())),
        tickets: Vec::new(),
        currency: currency.letters().into(),
        availability: d.availability(app.desk.clock.now()),
        image: picture
            .map(|id| url.to_string() + &crate::parts::places::picture_address(app, id, "large")),
    }
}

/// The pool of a date that is called off: nothing is left.
fn no_pool() -> Pool {
    Pool { id: PoolId(0), name: "seats".into(), capacity: 0, taken: Taken::default() }
}

/// What a date sells to everybody, ticket by ticket.
fn tickets(sheet: &Choices, currency: Currency, now: Timestamp) -> Vec<Ticket> {
    let all = sheet.tickets.iter().zip(&sheet.offer.offers);
    all.filter(|(_, offer)| offer.word.is_empty() && offer.invited.is_empty())
        .map(|(ticket, offer)| {
            let sold = OnSale {
                window: offer.sale,
                members_only: offer.members_only,
                closed: offer.closed,
            };
            // Before its sale begins none can be had, and that is not for want of seats.
            let free = match offer.sale.at(sheet.date.span.starts_at, now) {
                Sale::Open => sheet.offer.more(&[], ticket.id, &Buyer::default(), now),
                Sale::NotYet(_) | Sale::Over(_) => sheet.main_pool().free(),
            };
            Ticket {
                name: ticket.name.clone(),
                price: currency.of(today(&offer.price, now)).figures(),
                availability: Availability::of([sold], free, sheet.date.span.starts_at, now),
            }
        })
        .collect()
}

/// What a ticket costs whoever comes from anywhere, today.
fn today(price: &TicketPrice, now: Timestamp) -> i64 {
    price.early.filter(|early| now < early.until).map_or(price.minor, |early| early.minor)
}

/// The JSON-LD inside an event's own page.
pub(crate) fn json_of_page(app: &App, page: &EventPage) -> String {
    let (picture, now) = (page.picture.as_ref().map(|p| p.id), app.desk.clock.now());
    let items: Vec<Item> = page
        .dates
        .iter()
        .map(|s| {
            let offers =
                s.offer.offers.iter().filter(|o| o.word.is_empty()).map(|o| today(&o.price, now));
            let (least, most) = (offers.clone().min(), offers.max());
            let d = DateSummary {
                event: page.event.clone(),
                date: s.date.clone(),
                pool: s.main_pool(),
                inside: 0,
                prices: least.zip(most),
                on_sale: s
                    .offer
                    .offers
                    .iter()
                    .filter(|o| o.word.is_empty())
                    .map(|o| OnSale {
                        window: o.sale,
                        members_only: o.members_only,
                        closed: o.closed,
                    })
                    .collect(),
                slot: false,
                course: None,
            };
            let tickets = tickets(s, page.house.currency, now);
            Item { tickets, ..item(app, &d, picture, page.house.currency) }
        })
        .chain(page.off.iter().map(|date| {
            let d = DateSummary {
                event: page.event.clone(),
                date: date.clone(),
                pool: no_pool(),
                inside: 0,
                prices: None,
                on_sale: Vec::new(),
                slot: false,
                course: None,
            };
            item(app, &d, picture, page.house.currency)
        }))
        .collect();
    feed::json_ld(&items, &page.house.name, &app.desk.public_url)
}

/// `GET /feeds/{file}`: everything, in one of several forms.
pub(crate) async fn all(
    State(app): State<App>,
    Path(file): Path<String>,
    asked: HeaderMap,
) -> Result<Response, WebError> {
    let Some(ending) = file.strip_prefix("all.") else { return Err(missing()) };
    if !["ics", "atom", "jsonld", "csv", "xlsx"].contains(&ending) {
        return Err(missing());
    }
    let fed = programme::feed(&app.desk, Feed::All).await?;
    let (now, url) = (app.desk.clock.now(), &app.desk.public_url);
    if ending == "ics" {
        return Ok(ics(&app, &asked, &fed, "/feeds/all.ics"));
    }
    // What is over concerns calendars only.
    let coming = || fed.dates.iter().filter(|(d, ..)| d.date.span.ends_at > now);
    if matches!(ending, "csv" | "xlsx") {
        let head = [
            "Event",
            "Kind",
            "Starts",
            "Ends",
            "Zone",
            "Where",
            "Led by",
            "Seats left",
            "From",
            "Currency",
            "Tags",
            "Address",
        ];
        let rows: Vec<Vec<Cell>> = coming()
            .filter(|(d, ..)| d.date.called_off.is_empty())
            .map(|(d, tags, _)| {
                vec![
                    d.event.title.clone().into(),
                    d.event.kind.clone().into(),
                    d.date.span.starts.into(),
                    d.date.span.ends.into(),
                    d.date.span.zone.clone().into(),
                    d.date.place().into(),
                    d.date.hosts.clone().into(),
                    d.pool.free().into(),
                    d.prices.map_or_else(
                        || Cell::from(""),
                        |(p, _)| Cell::amount(&fed.house.currency.of(p).figures()),
                    ),
                    fed.house.currency.letters().into(),
                    tags.join(", ").into(),
                    page_of(&app, d).into(),
                ]
            })
            .collect();
        return list_file(&file, "Programme", &head, &rows);
    }
    let items: Vec<Item> =
        coming().map(|(d, _, picture)| item(&app, d, *picture, fed.house.currency)).collect();
    if ending == "atom" {
        let own = format!("{url}/feeds/all.atom");
        let notices: Vec<feed::Notice> = fed
            .notices
            .iter()
            .map(|n| feed::Notice {
                id: format!("{url}/events/{}#notice-{}", n.slug, n.id),
                url: format!("{url}/events/{}", n.slug),
                title: format!("{}: {}", n.title, n.subject),
                words: n.words.clone(),
                at: n.at,
            })
            .collect();
        let bytes = feed::atom(&fed.house.name, (&format!("{url}/"), &own), &items, &notices, now)
            .map_err(|e| DeskError::Internal(format!("writing a feed: {e}")))?;
        return Ok(answer(&app, &asked, &file, "application/atom+xml; charset=utf-8", bytes));
    }
    let text = feed::json_ld(&items, &fed.house.name, url);
    Ok(answer(&app, &asked, &file, "application/ld+json", text.into_bytes()))
}

/// `GET /feeds/{about}/{file}`: a tag, an event, a date, a room.
pub(crate) async fn about(
    State(app): State<App>,
    Path((about, file)): Path<(String, String)>,
    asked: HeaderMap,
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
    Ok(ics(&app, &asked, &fed, &format!("/feeds/{about}/{}", crate::address::encode(&file))))
}

/// `GET /feeds/mine/{id}/{key}.ics`: all that somebody booked, at an address only they know.
pub(crate) async fn mine(
    State(app): State<App>,
    Path((id, file)): Path<(i64, String)>,
    asked: HeaderMap,
) -> Result<Response, WebError> {
    let key = file.strip_suffix(".ics").ok_or_else(missing)?;
    let (path, text) = matricle_desk::messages::own_feed::read(&app.desk, id, key).await?;
    Ok(private(answer(&app, &asked, &path, "text/calendar; charset=utf-8", text.into_bytes())))
}

/// What only its reader's program keeps, and no page of another site reads.
fn private(mut response: Response) -> Response {
    let headers = response.headers_mut();
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("private, max-age=300"));
    headers.remove(header::ACCESS_CONTROL_ALLOW_ORIGIN);
    response
}

/// `GET /feeds/host/{id}/{key}.ics`: the dates of a host, at an address only they know.
pub(crate) async fn host(
    State(app): State<App>,
    Path((id, file)): Path<(i64, String)>,
    asked: HeaderMap,
) -> Result<Response, WebError> {
    let key = file.strip_suffix(".ics").ok_or_else(missing)?;
    let fed = programme::feed(&app.desk, Feed::Host(HostId(id), key.into())).await?;
    Ok(private(ics(&app, &asked, &fed, &format!("/feeds/host/{id}/{file}"))))
}
