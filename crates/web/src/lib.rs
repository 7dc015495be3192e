//! Axum routes and Askama pages: the Programme, the Office and the Door.
//!
//! Handlers extract, make one call to `matricle-desk` and reply. Rules are in
//! core, rights in desk; here are addresses, wording and looks.

mod address;
mod again;
mod asking;
mod assets;
mod cache;
mod cookies;
mod door;
mod error;
mod guard;
mod hooks;
mod live;
mod news;
mod observe;
mod office;
mod page;
mod parts;
mod programme;
mod serving;
mod static_files;
mod wording;

use std::ops::Deref;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::http::StatusCode;
use axum::routing::{get, post};
use matricle_desk::Desk;
use tokio::sync::watch;
use tower_http::CompressionLevel;
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::compression::CompressionLayer;
use tower_http::compression::predicate::{DefaultPredicate, NotForContentType, Predicate};
use tower_http::timeout::{RequestBodyTimeoutLayer, TimeoutLayer};

pub use guard::Limits;
pub use observe::{Observed, metrics};

/// How the pages are served.
#[derive(Debug, Clone)]
pub struct Settings {
    /// Cookies are sent over HTTPS only.
    pub secure_cookies: bool,
    /// A proxy in front says who asks, in the last entry of `X-Forwarded-For`.
    pub behind_proxy: bool,
    /// Where the card provider's pages are: forms may lead there.
    pub pay_origin: String,
    /// How much one address may ask for.
    pub limits: Limits,
    /// Who can sign in, as the sign-in page of a demo shows it: name, address, role, password.
    pub demo:
        &'static [(&'static str, &'static str, matricle_core::people::staff::Role, &'static str)],
    /// Requests counted.
    pub observed: Arc<Observed>,
}

/// What handlers share. Each request clones it several times, so it is one pointer.
#[derive(Clone)]
pub(crate) struct App(Arc<Shared>);

impl Deref for App {
    type Target = Shared;

    fn deref(&self) -> &Shared {
        &self.0
    }
}

/// What is behind it.
pub(crate) struct Shared {
    pub(crate) desk: Desk,
    pub(crate) settings: Settings,
    pub(crate) guards: guard::Guards,
    pub(crate) pages: cache::Pages,
    pub(crate) answers: again::Answers,
    pub(crate) news: news::News,
    /// Held while a form of the Office is put over what stands, and kept: one after the other.
    pub(crate) keeping: tokio::sync::Mutex<()>,
    /// Turns true when the program stops, so that open streams end.
    pub(crate) stop: watch::Receiver<bool>,
}

/// Largest upload of a picture, with the form around it, in bytes.
pub(crate) const PICTURE: usize = 13 * 1024 * 1024;
/// The largest form with mails, in bytes.
pub(crate) const LETTERS: usize = 60 * 1024 * 1024;
/// Largest form, in bytes as it is sent: a letter may be four bytes, each three signs.
const FORM: usize = 1024 * 1024;
/// Largest list of members' addresses, likewise: what its field takes.
pub(crate) const MEMBERS: usize = 400_000 * 12;
/// How long the next piece of a form may take, and how long a whole request.
const PIECE: Duration = Duration::from_secs(20);
const REQUEST: Duration = Duration::from_secs(120);

/// All pages. Open streams end when `stop` turns true.
pub fn router(desk: Desk, settings: Settings, stop: watch::Receiver<bool>) -> Router {
    let app = App(Arc::new(Shared {
        desk,
        guards: guard::Guards::new(&settings),
        settings,
        pages: cache::Pages::default(),
        answers: again::Answers::default(),
        news: news::News::default(),
        keeping: tokio::sync::Mutex::default(),
        stop,
    }));
    Router::new()
        .merge(programme::routes())
        .merge(office::routes())
        .merge(door::routes())
        .route("/hooks/card", post(hooks::card))
        .route("/static/{*path}", get(static_files::serve))
        .route("/favicon.ico", get(static_files::favicon))
        .route("/tickets-keeper.js", get(static_files::tickets))
        .route("/health", get(observe::health))
        .route("/ready", get(observe::ready))
        .fallback(error::not_found)
        .layer(DefaultBodyLimit::max(FORM))
        .layer(CatchPanicLayer::custom(error::panicked))
        .layer(TimeoutLayer::with_status_code(StatusCode::REQUEST_TIMEOUT, REQUEST))
        .layer(RequestBodyTimeoutLayer::new(PIECE))
        // Around all that answers, so that also a failure carries the headers.
        .layer(axum::middleware::from_fn_with_state(app.clone(), guard::watch))
        .layer(compression())
        .layer(axum::middleware::map_response(serving::tag_by_coding))
        .with_state(app)
}

/// Brotli or gzip where asked for, quickly; nothing that is compressed by itself.
fn compression() -> CompressionLayer<impl Predicate> {
    let worth = DefaultPredicate::new()
        .and(NotForContentType::const_new("font/"))
        .and(NotForContentType::const_new("application/pdf"))
        .and(NotForContentType::const_new("application/vnd.openxmlformats"))
        .and(NotForContentType::const_new("application/octet-stream"));
    CompressionLayer::new().quality(CompressionLevel::Precise(4)).compress_when(worth)
}
