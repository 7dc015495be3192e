//! Who asks, from where, how often, and whether a form is ours.

use std::collections::{HashSet, VecDeque};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::num::NonZeroU32;
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use axum::extract::{ConnectInfo, FromRequest, FromRequestParts, MatchedPath, Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, Version, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use governor::clock::Clock as _;
use governor::{DefaultKeyedRateLimiter, Quota, RateLimiter};
use matricle_core::{network, text};
use matricle_desk::people::asking::Asking;
use matricle_desk::people::signin;
use matricle_desk::people::signin::Browser;
use matricle_desk::random_bytes;
use matricle_store::people::{Known, Staff};
use tracing::Instrument;

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
                 img-src 'self' data: blob:; connect-src 'self'; worker-src 'self'; media-src 'self' blob:; \
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
             img-src 'self' data: blob:; connect-src 'self'; form-action 'self' {}; \
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

/// Whether a request carries anything of somebody's own: then its page is theirs alone.
pub(crate) fn is_personal(headers: &HeaderMap) -> bool {
    session_token(headers).is_some()
        || cookie(headers, HOLD).is_some()
        || cookie(headers, INVITED).is_some()
}

/// A random name that a browser keeps, to which its forms are bound. Empty for whoever only
/// reads what is public: they are given none.
#[derive(Debug, Clone)]
pub(crate) struct Visitor(pub(crate) String);

const VISITOR: &str = "visitor";
const SESSION: &str = "session";
/// The hold that this browser has begun.
const HOLD: &str = "hold";
/// The invitation that this browser has opened.
const INVITED: &str = "invited";
/// Which door this device stands at.
const DOOR: &str = "door";

/// The value of a cookie.
fn cookie<'h>(headers: &'h HeaderMap, name: &str) -> Option<&'h str> {
    headers
        .get_all(header::COOKIE)
        .iter()
        .filter_map(|line| line.to_str().ok())
        .flat_map(|line| line.split(';'))
        .filter_map(|pair| pair.trim().split_once('='))
        .find(|(known, _)| *known == name)
        .map(|(_, value)| value)
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

/// What a page that is the same for everybody sends: a choice of tickets, and seats to keep.
/// It is made for nobody, so its token is everybody's; that another site sent it is still
/// refused by what the browser says of where it comes from.
fn is_sent_by_anybody(path: &str) -> bool {
    path.strip_prefix("/events/")
        .and_then(|rest| rest.split_once('/'))
        .is_some_and(|(_, act)| act == "choose" || act == "keep")
}

fn is_for_machines(path: &str) -> bool {
    path == "/embed.js"
        || ["/static/", "/feeds/", "/embed/", "/pictures/", "/hooks/"]
            .iter()
            .any(|p| path.starts_with(p))
        || [
            "/favicon.ico",
            "/robots.txt",
            "/sitemap.xml",
            "/manifest.webmanifest",
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
    request.extensions_mut().insert(Visitor(visitor.clone()));
    let is_part = request.headers().contains_key("hx-request");
    let mut response = next.run(request).await;
    if is_part {
        response = crate::error::in_short(response);
    }
    if fresh && !is_for_machines(path) {
        let set = set_cookie(&app.settings, VISITOR, &visitor, Some(180 * 24 * 3600));
        response.headers_mut().append(header::SET_COOKIE, set);
    }
    with_headers(response, policy, secure)
}

/// What every answer carries, failures among them.
fn with_headers(mut response: Response, policy: &HeaderValue, secure: bool) -> Response {
    let headers = response.headers_mut();
    // A page that has its own reasons sets its own policy.
    if !headers.contains_key(header::CONTENT_SECURITY_POLICY) {
        headers.insert(header::CONTENT_SECURITY_POLICY, policy.clone());
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

fn set_cookie(settings: &Settings, name: &str, value: &str, seconds: Option<u64>) -> HeaderValue {
    let secure = if settings.secure_cookies { "; Secure" } else { "" };
    let age = seconds.map_or(String::new(), |s| format!("; Max-Age={s}"));
    HeaderValue::from_str(&format!("{name}={value}; Path=/; HttpOnly; SameSite=Lax{age}{secure}"))
        .unwrap_or(HeaderValue::from_static("visitor=; Max-Age=0"))
}

/// Sets the cookie of a session.
pub(crate) fn session_cookie(settings: &Settings, token: &str) -> HeaderValue {
    set_cookie(settings, SESSION, token, Some(14 * 24 * 3600))
}

/// Removes the cookie of a session.
pub(crate) fn no_session(settings: &Settings) -> HeaderValue {
    set_cookie(settings, SESSION, "", Some(0))
}

/// Remembers the invitation whose link this browser has opened: it is known there for that
/// event, and for nothing else.
pub(crate) fn invitation_cookie(settings: &Settings, id: i64, key: &str) -> HeaderValue {
    set_cookie(settings, INVITED, &format!("{id}.{key}"), Some(30 * 24 * 3600))
}

/// Number and secret part of the invitation that this browser has opened.
fn invitation_of(headers: &HeaderMap) -> Option<(i64, String)> {
    let (id, key) = cookie(headers, INVITED)?.split_once('.')?;
    Some((id.parse().ok()?, key.to_owned()))
}

/// Remembers the hold that this browser has begun.
pub(crate) fn hold_cookie(settings: &Settings, address: &str) -> HeaderValue {
    set_cookie(settings, HOLD, address, Some(24 * 3600))
}

/// Remembers which door this device stands at. Written in base64, since names
/// of doors may hold anything.
pub(crate) fn door_cookie(settings: &Settings, door: &str) -> HeaderValue {
    set_cookie(settings, DOOR, &URL_SAFE_NO_PAD.encode(door), Some(180 * 24 * 3600))
}

/// The door of this device.
pub(crate) fn door_name(headers: &HeaderMap) -> String {
    cookie(headers, DOOR)
        .and_then(|v| URL_SAFE_NO_PAD.decode(v).ok())
        .and_then(|bytes| String::from_utf8(bytes).ok())
        .filter(|name| !name.trim().is_empty())
        .unwrap_or_else(|| "main door".into())
}

/// The session token of a request.
pub(crate) fn session_token(headers: &HeaderMap) -> Option<&str> {
    cookie(headers, SESSION).filter(|token| !token.is_empty())
}

/// Reference and key of the hold that this browser has begun.
pub(crate) fn hold_of(headers: &HeaderMap) -> Option<(String, String)> {
    let (reference, key) = cookie(headers, HOLD)?.split_once('.')?;
    Some((reference.to_owned(), key.to_owned()))
}

impl FromRequestParts<App> for Visitor {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, _: &App) -> Result<Self, WebError> {
        parts.extensions.get::<Self>().cloned().ok_or(WebError::Elsewhere)
    }
}

/// The network somebody asks from, and the address they ask from, shortened.
#[derive(Debug, Clone)]
pub(crate) struct Asker(pub(crate) IpAddr, pub(crate) String);

impl FromRequestParts<App> for Asker {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        let peer = parts
            .extensions
            .get::<ConnectInfo<SocketAddr>>()
            .map_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED), |ConnectInfo(addr)| addr.ip());
        let address = asker(peer, &parts.headers, app.settings.behind_proxy);
        Ok(Self(network::of(address), network::shortened(address)))
    }
}

/// Only the last entry of `X-Forwarded-For` was written by the proxy in front; the
/// others say what the asker likes.
fn asker(peer: IpAddr, headers: &HeaderMap, behind_proxy: bool) -> IpAddr {
    let forwarded = headers
        .get_all("x-forwarded-for")
        .iter()
        .next_back()
        .and_then(|v| v.to_str().ok())
        .and_then(|v| v.rsplit(',').next())
        .and_then(|v| v.trim().parse().ok());
    forwarded.filter(|_| behind_proxy).unwrap_or(peer)
}

/// Somebody who works here and has signed in.
#[derive(Debug, Clone)]
pub(crate) struct SignedIn(pub(crate) Staff);

impl FromRequestParts<App> for SignedIn {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        match staff(&parts.headers, app).await? {
            Some(staff) => Ok(Self(staff)),
            None => {
                let path = parts.uri.path_and_query().map_or("/office", |p| p.as_str());
                Err(WebError::SignInFirst { back: path.to_owned() })
            }
        }
    }
}

/// Whoever asks, perhaps signed in.
#[derive(Debug, Clone)]
pub(crate) struct Perhaps(pub(crate) Option<Staff>);

impl FromRequestParts<App> for Perhaps {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        Ok(Self(staff(&parts.headers, app).await?))
    }
}

async fn staff(headers: &HeaderMap, app: &App) -> Result<Option<Staff>, WebError> {
    match session_token(headers) {
        Some(token) => Ok(signin::session(&app.desk, token).await?),
        None => Ok(None),
    }
}

/// Whoever has proved their address by signing in, whether they work here or only book.
#[derive(Debug, Clone)]
pub(crate) struct Somebody(pub(crate) Option<Known>);

impl FromRequestParts<App> for Somebody {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        match session_token(&parts.headers) {
            Some(token) => Ok(Self(signin::known(&app.desk, token).await?)),
            None => Ok(Self(None)),
        }
    }
}

/// What is known of somebody who books: what they have proved, and where they ask from.
pub(crate) struct Booker(pub(crate) Asking);

impl FromRequestParts<App> for Booker {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        let Somebody(known) = Somebody::from_request_parts(parts, app).await?;
        let Asker(network, _) = Asker::from_request_parts(parts, app).await?;
        let Visitor(visitor) = Visitor::from_request_parts(parts, app).await?;
        let secrets = &app.desk.secrets;
        Ok(Self(Asking {
            member: known.as_ref().is_some_and(|k| k.member),
            proved: known.map(|k| k.email),
            invitation: invitation_of(&parts.headers),
            from: (
                secrets.trace("browser", &visitor),
                secrets.trace("network", &network.to_string()),
            ),
        }))
    }
}

/// The same for whoever only reads: somebody who carries nothing of their own is nobody.
pub(crate) struct Reader(pub(crate) Asking);

impl FromRequestParts<App> for Reader {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        if !is_personal(&parts.headers) {
            return Ok(Self(Asking::default()));
        }
        let Booker(asking) = Booker::from_request_parts(parts, app).await?;
        Ok(Self(asking))
    }
}

/// The browser that signs in.
pub(crate) struct Signer(pub(crate) Browser);

impl FromRequestParts<App> for Signer {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        let Asker(_, from_where) = Asker::from_request_parts(parts, app).await?;
        let Visitor(visitor) = Visitor::from_request_parts(parts, app).await?;
        let agent = parts.headers.get(header::USER_AGENT).and_then(|v| v.to_str().ok());
        Ok(Self(Browser { visitor, agent: agent.unwrap_or_default().into(), from_where }))
    }
}

/// The fields of a form that came from one of our pages, made for this visitor.
#[derive(Debug, Clone)]
pub(crate) struct Posted(Vec<(String, String)>);

impl Posted {
    /// The value of a field; empty when it is missing.
    pub(crate) fn get(&self, name: &str) -> &str {
        self.0.iter().find(|(known, _)| known == name).map_or("", |(_, value)| value)
    }

    /// Fields whose names begin with `prefix`, with the rest of the name.
    pub(crate) fn starting<'p>(
        &'p self,
        prefix: &'p str,
    ) -> impl Iterator<Item = (&'p str, &'p str)> {
        self.0
            .iter()
            .filter_map(move |(name, value)| Some((name.strip_prefix(prefix)?, value.as_str())))
    }
}

/// A field without what is unseen in it; a password is whatever somebody types.
fn seen((name, typed): (String, String)) -> (String, String) {
    let typed = if name.contains("password") { typed } else { text::lines(&typed) };
    (name, typed)
}

impl FromRequest<App> for Posted {
    type Rejection = WebError;

    async fn from_request(request: Request, app: &App) -> Result<Self, WebError> {
        let visitor = request.extensions().get::<Visitor>().cloned().ok_or(WebError::Elsewhere)?;
        let by_anybody = is_sent_by_anybody(request.uri().path());
        let in_header =
            request.headers().get("x-form-token").and_then(|v| v.to_str().ok()).map(String::from);
        let axum::Form(fields) = axum::Form::<Vec<(String, String)>>::from_request(request, &())
            .await
            .map_err(|refusal| match refusal.into_response().status() {
                StatusCode::PAYLOAD_TOO_LARGE => WebError::TooLarge,
                StatusCode::REQUEST_TIMEOUT => WebError::TooSlow,
                _ => WebError::Unreadable,
            })?;
        let posted = Self(fields.into_iter().map(seen).collect());
        let token = in_header.unwrap_or_else(|| posted.get("token").to_owned());
        let secrets = &app.desk.secrets;
        if secrets.is_form_token(&visitor.0, &token)
            || by_anybody && secrets.is_form_token("", &token)
        {
            Ok(posted)
        } else {
            Err(WebError::OldPage)
        }
    }
}

/// Whether htmx asks for a part of a page.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Part(pub(crate) bool);

impl FromRequestParts<App> for Part {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, _: &App) -> Result<Self, WebError> {
        Ok(Self(parts.headers.contains_key("hx-request")))
    }
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

    #[test]
    fn only_the_entry_written_by_our_proxy_counts() {
        let peer: IpAddr = "10.0.0.1".parse().unwrap();
        let told = headers(&[("x-forwarded-for", "1.1.1.1, 203.0.113.9")]);
        assert_eq!(asker(peer, &told, true).to_string(), "203.0.113.9");
        assert_eq!(asker(peer, &told, false), peer);
        assert_eq!(asker(peer, &headers(&[("x-forwarded-for", "nobody")]), true), peer);
    }
}
