//! What is there for programs that go by themselves: `robots.txt` (RFC 9309), a site map
//! (sitemaps.org 0.9) and the manifest of the web application (W3C Application Manifest).

use std::fmt::Write;

use axum::extract::State;
use axum::http::{HeaderMap, HeaderValue, header};
use axum::response::{IntoResponse, Response};
use matricle_desk::programme::{self, Feed};
use serde_json::json;

use crate::App;
use crate::assets::VERSION;
use crate::error::WebError;
use crate::serving::{self, Served};

fn answer(media_type: &'static str, body: String) -> Response {
    let headers = [
        (header::CONTENT_TYPE, HeaderValue::from_static(media_type)),
        (header::CACHE_CONTROL, HeaderValue::from_static("public, max-age=3600")),
    ];
    (headers, body).into_response()
}

/// `GET /robots.txt`: what is not for everybody is not for searching.
pub(crate) async fn robots(State(app): State<App>) -> Response {
    let closed = [
        "booking", "ticket", "waiting", "invited", "me", "office", "door", "you", "sign-in",
        "hooks",
    ];
    let mut text = String::from("User-agent: *\n");
    for path in closed {
        let _ = writeln!(text, "Disallow: /{path}");
    }
    let _ = writeln!(text, "\nSitemap: {}/sitemap.xml", app.desk.public_url);
    answer("text/plain; charset=utf-8", text)
}

/// `GET /sitemap.xml`: the listed events with a date to come, each once.
pub(crate) async fn sitemap(
    State(app): State<App>,
    asked: HeaderMap,
) -> Result<Response, WebError> {
    let fed = programme::feed(&app.desk, Feed::All).await?;
    let now = app.desk.clock.now();
    let mut events: Vec<_> = fed
        .dates
        .iter()
        .filter(|(d, ..)| d.date.span.ends_at > now)
        .map(|(d, ..)| (d.event.slug.as_str(), d.event.changed_at))
        .collect();
    events.sort_unstable();
    events.dedup_by_key(|(slug, _)| *slug);
    let mut text = String::from(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n\
         <urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">\n",
    );
    let url = &app.desk.public_url;
    let _ = writeln!(text, "<url><loc>{url}/</loc></url>");
    for (slug, changed_at) in &events {
        let changed = changed_at.strftime("%Y-%m-%dT%H:%M:%SZ");
        let slug = crate::address::encode(slug);
        let _ =
            writeln!(text, "<url><loc>{url}/events/{slug}</loc><lastmod>{changed}</lastmod></url>");
    }
    text.push_str("</urlset>\n");
    let served = Served {
        media_type: "application/xml; charset=utf-8",
        cache: "public, max-age=3600",
        // An event that has passed is gone without anything having changed.
        changed: None,
    };
    Ok(serving::bytes(&asked, text.into_bytes(), &served))
}

/// `GET /manifest.webmanifest`: so that a phone keeps the pages among its applications.
pub(crate) async fn manifest(State(app): State<App>) -> Result<Response, WebError> {
    let house = app.desk.house().await?;
    let icon = |size: u32| {
        json!({
            "src": format!("/static/{}/icon-{size}.png", *VERSION),
            "sizes": format!("{size}x{size}"),
            "type": "image/png",
        })
    };
    let manifest = json!({
        "name": house.name,
        "short_name": house.name.chars().take(12).collect::<String>().trim_end(),
        "start_url": "/",
        "scope": "/",
        "display": "minimal-ui",
        "background_color": "#f6f2e7",
        "theme_color": "#1c2924",
        "icons": [icon(192), icon(512)],
    });
    Ok(answer("application/manifest+json", manifest.to_string()))
}
