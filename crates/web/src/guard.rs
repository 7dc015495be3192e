//! Who asks, from where, how often, and whether a form is ours.

use std::collections::{HashSet, VecDeque};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::net::IpAddr;
use std::num::NonZeroU32;
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use axum::extract::{MatchedPath, Request, State};
use axum::http::{HeaderMap, HeaderValue, Method, Version, header};
use axum::middleware::Next;
use axum::response::{Html, IntoResponse, Response};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use governor::clock::Clock as _;
use governor::{DefaultKeyedRateLimiter, Quota, RateLimiter};
use matricle_desk::{DeskError, random_bytes};
use tracing::Instrument;

use crate::asking::{Asker, Posted, Visitor};
use crate::cookies::{VISITOR, cookie, is_personal, session_token, set_cookie};
use crate::error::WebError;
use crate::{App, Settings};

/// How much one network may ask for in a minute.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Tries to sign in.
    pub sign_in: u32,
    /// Choices of seats and completed forms.
    pub booking: u32,
}

impl Default for Limits {
    fn default() -> Self {
        Self { sign_in: 10, booking: 40 }
    }
}

/// What somebody asks too often for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Often {
    SignIn,
    Booking,
}

#[derive(Debug)]
pub(crate) struct Guards {
    sign_in: DefaultKeyedRateLimiter<IpAddr>,
    booking: DefaultKeyedRateLimiter<IpAddr>,
    policy: HeaderValue,
    door_policy: HeaderValue,
    pay_origin: String,
    sent: Mutex<Sent>,
}

/// Forms that were sent lately: a double click sends the same one again.
#[derive(Debug, Default)]
struct Sent {
    known: HashSet<u64>,
    order: VecDeque<u64>,
}

/// So many forms are remembered.
const REMEMBERED: usize = 4096;

impl Guards {
    pub(crate) fn new(settings: &Settings) -> Self {
        let a_minute = |n: u32| {
            RateLimiter::keyed(Quota::per_minute(NonZeroU32::new(n).unwrap_or(NonZeroU32::MIN)))
        };
        let policy = |script: &str| {
            let text = format!(
                "default-src 'none'; script-src 'self'{script}; style-src 'self'; font-src 'self'; \
                 img-src 'self' data: blob:; connect-src 'self'; manifest-src 'self'; worker-src 'self'; media-src 'self' blob:; object-src 'self'; frame-src 'self'; \
                 form-action 'self' {}; frame-ancestors 'none'; base-uri 'none'",
                settings.pay_origin
            );
            HeaderValue::from_str(&text).unwrap_or(HeaderValue::from_static("default-src 'self'"))
        };
        Self {
            sign_in: a_minute(settings.limits.sign_in),
            booking: a_minute(settings.limits.booking),
            pay_origin: settings.pay_origin.clone(),
            sent: Mutex::default(),
            policy: policy(""),
            door_policy: policy(" 'wasm-unsafe-eval'"),
        }
    }

    /// The policy of a page with the editor, whose own style carries this word.
    pub(crate) fn policy_for_editor(&self, nonce: &str) -> HeaderValue {
        let text = format!(
            "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-{nonce}'; font-src 'self'; \
             img-src 'self' data: blob:; connect-src 'self'; manifest-src 'self'; form-action 'self' {}; \
             frame-ancestors 'none'; base-uri 'none'",
            self.pay_origin
        );
        HeaderValue::from_str(&text).unwrap_or(HeaderValue::from_static("default-src 'self'"))
    }

    /// Whether a form is sent to an address for the first time with all that is in it. The
    /// forms of one page carry the same word; a form without a word is always new.
    pub(crate) fn is_first(&self, to: &str, posted: &Posted) -> bool {
        if posted.get("once").is_empty() {
            return true;
        }
        let key = fingerprint(to, posted);
        let mut sent = self.sent.lock().unwrap_or_else(PoisonError::into_inner);
        if !sent.known.insert(key) {
            return false;
        }
        sent.order.push_back(key);
        if sent.order.len() > REMEMBERED
            && let Some(oldest) = sent.order.pop_front()
        {
            sent.known.remove(&oldest);
        }
        true
    }

    /// A form was not acted on after all: it may be sent again as it is.
    pub(crate) fn not_done(&self, to: &str, posted: &Posted) {
        let key = fingerprint(to, posted);
        let mut sent = self.sent.lock().unwrap_or_else(PoisonError::into_inner);
        if sent.known.remove(&key) {
            sent.order.retain(|k| *k != key);
        }
    }

    /// Lets somebody pass, unless they asked too often.
    pub(crate) fn often(&self, what: Often, from: &Asker) -> Result<(), WebError> {
        let limiter = match what {
            Often::SignIn => &self.sign_in,
            Often::Booking => &self.booking,
        };
        // Addresses that have been quiet for long enough to start afresh are forgotten.
        if limiter.len() > 10_000 {
            limiter.retain_recent();
        }
        limiter.check_key(&from.0).map_err(|not_until| {
            let wait = not_until.wait_time_from(limiter.clock().now());
            WebError::TooOften { seconds: wait.as_secs() + 1 }
        })
    }
}

/// Tells a form with all that is in it from others.
fn fingerprint(to: &str, posted: &Posted) -> u64 {
    let mut hasher = DefaultHasher::new();
    (to, &posted.0).hash(&mut hasher);
    hasher.finish()
}

/// Whether no cookie is set at an address: files and answers for machines, and the pages that
/// are the same for everybody, for as long as somebody carries nothing of their own.
fn sets_no_cookie(path: &str, headers: &HeaderMap) -> bool {
    is_for_machines(path) || is_public_page(path) && !is_personal(headers)
}

/// The Programme and the page of an event.
fn is_public_page(path: &str) -> bool {
    path == "/" || path.strip_prefix("/events/").is_some_and(|s| !s.is_empty() && !s.contains('/'))
}

fn is_for_machines(path: &str) -> bool {
    path == "/embed.js"
        || ["/static/", "/accent/", "/feeds/", "/embed/", "/pictures/", "/hooks/"]
            .iter()
            .any(|p| path.starts_with(p))
        || [
            "/favicon.ico",
            "/robots.txt",
            "/sitemap.xml",
            "/manifest.webmanifest",
            "/.well-known/security.txt",
            "/house.css",
            "/house-mark.png",
            "/health",
            "/ready",
        ]
        .contains(&path)
}

/// Whether a request names the host it is for, once (RFC 9112 §3.2).
fn names_its_host(request: &Request) -> bool {
    let hosts: Vec<_> = request.headers().get_all(header::HOST).iter().collect();
    match hosts.as_slice() {
        [one] => one.to_str().is_ok_and(|h| !h.is_empty() && !h.contains([',', ' ', '/', '@'])),
        _ => request.version() == Version::HTTP_2 && request.uri().host().is_some(),
    }
}

/// Runs around every request: numbers and counts it, names visitors, turns forms from elsewhere
/// away, sets headers.
pub(crate) async fn watch(State(app): State<App>, request: Request, next: Next) -> Response {
    let began = Instant::now();
    let number = app.settings.observed.number();
    let path = request.uri().path().to_owned();
    // The route, not the address: addresses of bookings are secret.
    let route = request.extensions().get::<MatchedPath>().map(|m| m.as_str().to_owned());
    let method = request.method().clone();
    let span = tracing::info_span!("request", number);
    let mut response = answered(&app, &path, request, next).instrument(span).await;
    let status = response.status();
    app.settings.observed.count(&path, status, began.elapsed());
    let route = route.as_deref().unwrap_or("none");
    let ms = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
    if status.is_server_error() {
        tracing::error!(number, %method, route, status = status.as_u16(), ms, "answered");
    } else {
        tracing::debug!(number, %method, route, status = status.as_u16(), ms, "answered");
    }
    response.headers_mut().insert("x-request-number", HeaderValue::from(number));
    response
}

async fn answered(app: &App, path: &str, mut request: Request, next: Next) -> Response {
    let (is_static, is_hook, is_door) =
        (path.starts_with("/static/"), path.starts_with("/hooks/"), path.starts_with("/door"));
    let secure = app.settings.secure_cookies;
    if !names_its_host(&request) {
        return with_headers(WebError::NoHost.into_response(), &app.guards.policy, secure);
    }
    if is_static {
        return with_headers(next.run(request).await, &app.guards.policy, secure);
    }
    if let Some(page) = for_nobody(app, path, &request) {
        return with_headers(page, &app.guards.policy, secure);
    }
    let policy = if is_door { &app.guards.door_policy } else { &app.guards.policy };
    let safe = matches!(*request.method(), Method::GET | Method::HEAD);
    if !safe && !is_hook && comes_from_elsewhere(request.headers()) {
        return with_headers(WebError::Elsewhere.into_response(), policy, secure);
    }
    let known = cookie(request.headers(), VISITOR).filter(|v| v.len() == 22).map(String::from);
    let fresh = known.is_none() && !(safe && sets_no_cookie(path, request.headers()));
    let visitor = match known {
        Some(known) => known,
        None if fresh => URL_SAFE_NO_PAD.encode(random_bytes::<16>()),
        None => String::new(),
    };
    let session = session_token(request.headers()).map(String::from);
    let carries_session = session.is_some();
    // Whoever signs in at the same browser afterwards is somebody else.
    let reader = format!("{visitor} {}", session.unwrap_or_default());
    request.extensions_mut().insert(Visitor(visitor.clone(), carries_session));
    let is_part = request.headers().contains_key("hx-request");
    let address = request.uri().clone();
    let kept = if safe { app.answers.get(&address, &reader) } else { None };
    let mut response = match kept {
        Some(kept) => kept,
        None => crate::error::of_address(next.run(request).await),
    };
    if is_part {
        response = crate::error::in_short(response);
    } else if !is_hook {
        if crate::error::is_failure(&response) {
            response = crate::error::dressed(&app.house_name().await, response);
        }
        response = if safe {
            crate::again::above(&address, response)
        } else {
            app.answers.keep(&address, &reader, response).await
        };
    }
    if fresh && !is_for_machines(path) {
        let set = set_cookie(&app.settings, VISITOR, &visitor, Some(180 * 24 * 3600));
        response.headers_mut().append(header::SET_COOKIE, set);
    }
    with_headers(response, policy, secure)
}

/// The page of an event as it lies kept, for a reader who carries nothing and asks for nothing
/// but the page: most readers do, and nothing else need be looked at for them.
fn for_nobody(app: &App, path: &str, request: &Request) -> Option<Response> {
    let slug = path.strip_prefix("/events/")?;
    let plain = *request.method() == Method::GET
        && request.uri().query().is_none()
        && !slug.contains(['/', '%'])
        && !request.headers().contains_key(header::COOKIE)
        && !request.headers().contains_key("hx-request");
    if !plain {
        return None;
    }
    let (version, now) = (app.desk.store.version(), app.desk.clock.now());
    let page = app.pages.get(slug, version, now, None)?;
    let no_cache = [(header::CACHE_CONTROL, HeaderValue::from_static("no-cache"))];
    Some((no_cache, Html(page)).into_response())
}

/// What every answer carries, failures among them.
fn with_headers(mut response: Response, policy: &HeaderValue, secure: bool) -> Response {
    let headers = response.headers_mut();
    // A page that has its own reasons sets its own policy.
    if !headers.contains_key(header::CONTENT_SECURITY_POLICY) {
        headers.insert(header::CONTENT_SECURITY_POLICY, policy.clone());
    }
    // Every page is written in one language (RFC 9110 §8.5).
    let is_page = headers
        .get(header::CONTENT_TYPE)
        .is_some_and(|kind| kind.as_bytes().starts_with(b"text/html"));
    if is_page {
        headers.insert(header::CONTENT_LANGUAGE, HeaderValue::from_static("en-GB"));
    }
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, NOSNIFF);
    headers.insert(header::REFERRER_POLICY, HeaderValue::from_static("same-origin"));
    headers.insert("permissions-policy", HeaderValue::from_static("camera=(self), microphone=()"));
    if secure {
        let year = HeaderValue::from_static("max-age=31536000");
        headers.insert(header::STRICT_TRANSPORT_SECURITY, year);
    }
    if !headers.contains_key(header::CACHE_CONTROL) {
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    response
}

const NOSNIFF: HeaderValue = HeaderValue::from_static("nosniff");

/// Whether a browser says that another site made it send this.
fn comes_from_elsewhere(headers: &HeaderMap) -> bool {
    let text = |name: &str| headers.get(name).and_then(|v| v.to_str().ok());
    if let Some(site) = text("sec-fetch-site") {
        return !matches!(site, "same-origin" | "none");
    }
    match (text("origin"), text("host")) {
        (Some(origin), Some(host)) => origin.split_once("://").is_none_or(|(_, from)| from != host),
        _ => false,
    }
}

/// A link that opens nothing is counted against whoever tries it; one that does is not, since a
/// whole firm may stand behind one network, and a program that looks through its mails.
pub(crate) fn counted<T>(
    app: &App,
    asker: &Asker,
    opened: Result<T, DeskError>,
) -> Result<T, WebError> {
    if matches!(opened, Err(DeskError::NotFound)) {
        app.guards.often(Often::SignIn, asker)?;
    }
    Ok(opened?)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn headers(pairs: &[(&'static str, &'static str)]) -> HeaderMap {
        pairs.iter().map(|&(n, v)| (n.parse().unwrap(), HeaderValue::from_static(v))).collect()
    }

    #[test]
    fn forms_of_other_sites_are_known_by_what_the_browser_says() {
        let elsewhere = |pairs: &[_]| comes_from_elsewhere(&headers(pairs));
        assert!(elsewhere(&[("sec-fetch-site", "cross-site")]));
        assert!(elsewhere(&[
            ("sec-fetch-site", "same-site"),
            ("origin", "http://a.example"),
            ("host", "a.example")
        ]));
        assert!(elsewhere(&[("origin", "http://evil.example"), ("host", "club.example")]));
        assert!(elsewhere(&[("origin", "null"), ("host", "club.example")]));
        assert!(!elsewhere(&[("sec-fetch-site", "same-origin")]));
        assert!(!elsewhere(&[("origin", "http://club.example:80"), ("host", "club.example:80")]));
        assert!(!elsewhere(&[("host", "club.example")]), "no browser");
    }
}
