//! `/embed/…`: a stub, a list or a week of slots inside the page of another site. Needs
//! no cookie: choosing goes by address, and booking opens our own page.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse, Response};
use matricle_core::money::price::Buyer;
use matricle_desk::programme::{self, Looking, Wish};
use matricle_store::events::EventState;
use matricle_store::house::House;

use crate::App;
use crate::error::WebError;
use crate::page::html;
use crate::programme::asked::ProgrammeQuery;
use crate::programme::catalogue::{Entry, entry};
use crate::programme::event::{WeekView, week_view};
use crate::programme::stub::{Ask, Stub, stub};

#[derive(Template)]
#[template(path = "programme/embed.html")]
struct Embedded {
    version: &'static str,
    title: String,
    url: String,
    stub: Option<Stub>,
    week: Option<WeekView>,
    list: Vec<Entry>,
    is_list: bool,
    /// The event's own colour, six digits; empty for the house's.
    accent: String,
}

/// Lets the sites that the house names show the page in theirs, and nobody else.
fn framed(house: &House, page: &Embedded) -> Result<Response, WebError> {
    let mut response = html(page)?;
    let sites =
        if house.embed_sites.is_empty() { "'none'".into() } else { house.embed_sites.join(" ") };
    let policy = format!(
        "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; img-src 'self' data:; \
         form-action 'self'; base-uri 'none'; frame-ancestors {sites}"
    );
    if let Ok(policy) = HeaderValue::from_str(&policy) {
        response.headers_mut().insert(header::CONTENT_SECURITY_POLICY, policy);
    }
    Ok(response)
}

/// `GET /embed/list`: what is coming.
pub(crate) async fn list(
    State(app): State<App>,
    Query(pairs): Query<Vec<(String, String)>>,
) -> Result<Response, WebError> {
    let tag = pairs.into_iter().find(|(n, _)| n == "tag").map(|(_, v)| v).unwrap_or_default();
    let all = programme::catalogue(&app.desk, Wish { tag, ..Wish::default() }, 12).await?;
    let now = app.desk.clock.now();
    let page = Embedded {
        version: &crate::assets::VERSION,
        title: all.house.name.clone(),
        url: app.desk.public_url.to_string(),
        stub: None,
        week: None,
        list: all.found.dates.iter().map(|d| entry(d, all.house.currency, now)).collect(),
        is_list: true,
        accent: String::new(),
    };
    framed(&all.house, &page)
}

/// `GET /embed/events/{slug}`: the stub of an event, or a week of its slots.
pub(crate) async fn event(
    State(app): State<App>,
    Path(slug): Path<String>,
    Query(pairs): Query<Vec<(String, String)>>,
) -> Result<Response, WebError> {
    let asked = ProgrammeQuery::of(&pairs);
    let looking = Looking { slug, date: asked.date, week: asked.week, preview: String::new() };
    let page = programme::event(&app.desk, looking).await?;
    let now = app.desk.clock.now();
    let base = format!("/embed/events/{}", page.event.slug);
    let sheet = page.dates.iter().find(|d| Some(d.date.id) == asked.date).or(page.dates.first());
    let stub = sheet.filter(|_| page.event.state == EventState::Published).map(|sheet| {
        let ask = Ask {
            wanted: &asked.wanted,
            given: asked.given,
            buyer: &Buyer { word: asked.word.clone(), ..Buyer::default() },
            carried: asked.carried(),
            test: false,
            embedded: true,
            barred: None,
            known: None,
        };
        stub(&page, sheet, &ask, String::new(), None, now)
    });
    let embedded = Embedded {
        version: &crate::assets::VERSION,
        title: page.event.title.clone(),
        url: format!("{}/events/{}", app.desk.public_url, page.event.slug),
        week: week_view(&page, &base, asked.date),
        stub,
        list: Vec::new(),
        is_list: false,
        accent: page.event.accent.trim_start_matches('#').to_owned(),
    };
    framed(&page.house, &embedded)
}

/// `GET /embed.js`: for the other site, at an address that stays.
pub(crate) async fn script() -> Response {
    let headers = [
        (header::CONTENT_TYPE, "text/javascript; charset=utf-8"),
        (header::CACHE_CONTROL, "public, max-age=3600"),
        (header::ACCESS_CONTROL_ALLOW_ORIGIN, "*"),
    ];
    (headers, include_str!("../../assets/embed.js")).into_response()
}
