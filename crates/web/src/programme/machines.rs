//! What is there for programs that go by themselves: `robots.txt` (RFC 9309), a site map
//! (sitemaps.org 0.9) and the manifest of the web application (W3C Application Manifest).

use std::fmt::Write;
use std::hash::{DefaultHasher, Hash, Hasher};

use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderValue, header};
use axum::response::{IntoResponse, Response};
use jiff::SignedDuration;
use matricle_core::words::accent;
use matricle_desk::DeskError;
use matricle_desk::house::face;
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

/// `GET /.well-known/security.txt` (RFC 9116): whom to tell of a hole.
pub(crate) async fn security(State(app): State<App>) -> Result<Response, WebError> {
    let house = app.desk.house().await?;
    let url = &app.desk.public_url;
    let expires = app.desk.clock.now().saturating_add(SignedDuration::from_hours(24 * 90));
    let expires =
        expires.map_or_else(|_| String::new(), |at| at.strftime("%Y-%m-%dT%H:%M:%SZ").to_string());
    let text = format!(
        "Contact: mailto:{}\nExpires: {expires}\nPreferred-Languages: en\nCanonical: {url}/.well-known/security.txt\n",
        house.email
    );
    Ok(answer("text/plain; charset=utf-8", text))
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

/// `GET /house.css`: the colour and the mark of the house, over the program's own.
pub(crate) async fn face(State(app): State<App>, asked: HeaderMap) -> Result<Response, WebError> {
    let (house, mark) = (app.desk.house().await?, face::mark(&app.desk).await?);
    let mut css = accent_css(&house.accent);
    if let Some(mark) = mark {
        let _ = write!(
            css,
            ".mark > svg {{ display: none; }} .mark::before {{ content: \"\"; flex: none; width: 2rem; height: 2rem; \
             background: url(/house-mark.png?{:08x}) center / contain no-repeat; }}",
            fingerprint(&mark)
        );
    }
    let served =
        Served { media_type: "text/css; charset=utf-8", cache: "public, no-cache", changed: None };
    Ok(serving::bytes(&asked, css.into_bytes(), &served))
}

/// `GET /house-mark.png`.
pub(crate) async fn mark(State(app): State<App>, asked: HeaderMap) -> Result<Response, WebError> {
    let png = face::mark(&app.desk).await?.ok_or(DeskError::NotFound)?;
    let served = Served { media_type: "image/png", cache: "public, max-age=86400", changed: None };
    Ok(serving::bytes(&asked, png, &served))
}

/// `GET /accent/{colour}`: a colour of an event's own.
pub(crate) async fn colour(
    Path(colour): Path<String>,
    asked: HeaderMap,
) -> Result<Response, WebError> {
    let accent = accent::read(&colour).map_err(|_| DeskError::NotFound)?;
    let cache = "public, max-age=31536000, immutable";
    let served = Served { media_type: "text/css; charset=utf-8", cache, changed: None };
    Ok(serving::bytes(&asked, accent_css(&accent.to_string()).into_bytes(), &served))
}

/// What a colour changes: links, buttons, ticks. Seats, states and verdicts keep theirs.
fn accent_css(accent: &str) -> String {
    if accent.is_empty() {
        return String::new();
    }
    format!(":root, [data-bs-theme=light] {{ --accent: {accent}; }}\n")
}

fn fingerprint(bytes: &[u8]) -> u64 {
    let mut hasher = DefaultHasher::new();
    bytes.hash(&mut hasher);
    hasher.finish()
}

/// `GET /manifest.webmanifest`: so that a phone keeps the pages among its applications.
pub(crate) async fn manifest(State(app): State<App>) -> Result<Response, WebError> {
    let house = app.desk.house().await?;
    let icon = |name: &str, size: u32, purpose: &str| {
        json!({
            "src": format!("/static/{}/{name}-{size}.png", *VERSION),
            "sizes": format!("{size}x{size}"),
            "type": "image/png",
            "purpose": purpose,
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
        "icons": [icon("icon", 192, "any"), icon("icon", 512, "any"), icon("maskable", 512, "maskable")],
    });
    Ok(answer("application/manifest+json", manifest.to_string()))
}
