//! Axum routes and Askama pages: the Programme, the Office and the Door.
//!
//! Handlers extract, make one call to `matricle-desk` and reply. Rules are in
//! core, rights in desk; here are addresses, wording and looks.

mod assets;
mod cache;
mod door;
mod error;
mod guard;
mod hooks;
mod live;
mod observe;
mod office;
mod page;
mod parts;
mod programme;
mod serving;
mod wording;

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
    /// Shown on the sign-in page: demo names and passwords.
    pub demo: bool,
    /// Requests counted.
    pub observed: Arc<Observed>,
}

/// What handlers share. Cheap to clone.
#[derive(Clone)]
pub(crate) struct App {
    pub(crate) desk: Desk,
    pub(crate) settings: Arc<Settings>,
    pub(crate) guards: Arc<guard::Guards>,
    pub(crate) pages: Arc<cache::Pages>,
    /// Turns true when the program stops, so that open streams end.
    pub(crate) stop: watch::Receiver<bool>,
}

/// Largest upload of a picture, with the form around it, in bytes.
const PICTURE: usize = 13 * 1024 * 1024;
/// Largest form, in bytes as it is sent: a letter may be four bytes, each three signs.
const FORM: usize = 1024 * 1024;
/// Largest list of members' addresses, likewise: what its field takes.
const MEMBERS: usize = 400_000 * 12;
/// How long the next piece of a form may take, and how long a whole request.
const PIECE: Duration = Duration::from_secs(20);
const REQUEST: Duration = Duration::from_secs(120);

/// All pages. Open streams end when `stop` turns true.
pub fn router(desk: Desk, settings: Settings, stop: watch::Receiver<bool>) -> Router {
    let app = App {
        desk,
        guards: Arc::new(guard::Guards::new(&settings)),
        settings: Arc::new(settings),
        pages: Arc::default(),
        stop,
    };
    Router::new()
        // Programme
        .route("/", get(programme::catalogue::show))
        .route("/events/{slug}", get(programme::event::show))
        .route("/events/{slug}/choose", get(programme::event::back).post(programme::event::choose))
        .route("/events/{slug}/keep", get(programme::event::back).post(programme::event::keep))
        .route("/events/{slug}/wait", get(programme::waiting::ask).post(programme::waiting::join))
        .route(
            "/waiting/{id}/{key}",
            get(programme::waiting::place).post(programme::waiting::leave),
        )
        .route("/pictures/{id}/{key}/{size}", get(programme::event::picture))
        .route("/feeds/{file}", get(programme::feeds::all))
        .route("/feeds/{about}/{file}", get(programme::feeds::about))
        .route("/feeds/host/{id}/{file}", get(programme::feeds::host))
        .route("/embed.js", get(programme::embed::script))
        .route("/embed/list", get(programme::embed::list))
        .route("/embed/events/{slug}", get(programme::embed::event))
        .route("/booking/{reference}/{key}/sessions", post(programme::own::sign_up))
        .route(
            "/booking/{reference}/{key}/undo",
            get(programme::booking::back).post(programme::own::take_back),
        )
        .route("/booking/{reference}/{key}", get(programme::booking::show))
        .route("/booking/{reference}/{key}/draft", post(programme::booking::draft))
        .route(
            "/booking/{reference}/{key}/link",
            get(programme::booking::back).post(programme::booking::link),
        )
        .route(
            "/booking/{reference}/{key}/book",
            get(programme::booking::back).post(programme::booking::book),
        )
        .route(
            "/booking/{reference}/{key}/again",
            get(programme::booking::back).post(programme::booking::again),
        )
        .route(
            "/booking/{reference}/{key}/give-back",
            get(programme::booking::back).post(programme::booking::give_back),
        )
        .route("/booking/{reference}/{key}/change", get(programme::change::show))
        .route(
            "/booking/{reference}/{key}/change/{act}",
            get(programme::booking::back).post(programme::change::act),
        )
        .route("/booking/{reference}/{key}/names", get(programme::change::names))
        .route(
            "/booking/{reference}/{key}/code",
            get(programme::booking::back).post(programme::change::code),
        )
        .route(
            "/booking/{reference}/{key}/transfer",
            get(programme::booking::back).post(programme::change::transfer),
        )
        .route(
            "/booking/{reference}/{key}/stamps",
            get(programme::booking::back).post(programme::change::stamps),
        )
        .route("/booking/{reference}/{key}/papers/{id}", get(programme::change::paper))
        .route("/booking/{reference}/{key}/pay", get(programme::pay::pay))
        .route("/booking/{reference}/{key}/state", get(programme::pay::state))
        .route("/booking/{reference}/{key}/tickets.pdf", get(programme::own::tickets))
        .route("/booking/{reference}/{key}/date.ics", get(programme::own::calendar))
        .route("/invited/{id}/{key}", get(programme::me::invited))
        .route("/me", get(programme::me::show).post(programme::me::enter))
        .route("/me/number", get(programme::me::show).post(programme::me::send))
        .route("/me/out", post(programme::me::out))
        .route("/ticket/{code}/{key}", get(programme::ticket::show))
        .route("/ticket/{code}/{key}/{file}", get(programme::ticket::file))
        // Office
        .route("/sign-in", get(office::signin::show).post(office::signin::sign_in))
        .route("/sign-out", post(office::signin::sign_out))
        .route("/you", get(office::you::show).post(office::you::change))
        .route("/office", get(office::today::show))
        .route("/office/find", get(office::bookings::find))
        .route("/office/events", get(office::events::list))
        .route("/office/events/new", get(office::quick::show).post(office::quick::make))
        .route("/office/events.csv", get(office::events::file))
        .route("/office/events.xlsx", get(office::events::file))
        .route("/office/events/many", post(office::events::many))
        .route("/office/events/new/from", post(office::quick::start))
        .route("/office/events/{id}", get(office::events::sheet))
        .route("/office/events/{id}/programme", post(office::planning::show_in_programme))
        .route("/office/events/{id}/publish-at", post(office::planning::publish_at))
        .route("/office/events/{id}/tests", post(office::planning::clear_tests))
        .route("/office/events/{id}/pattern", post(office::planning::save_pattern))
        .route(
            "/office/events/{id}/wording",
            get(office::planning::wording).post(office::planning::reword),
        )
        .route(
            "/office/events/{id}/picture",
            post(office::planning::picture).layer(DefaultBodyLimit::max(PICTURE)),
        )
        .route("/office/events/{id}/tickets", get(office::planning::tickets))
        .route(
            "/office/events/{id}/tickets/{ticket}",
            get(office::planning::ticket).post(office::planning::save_ticket),
        )
        .route("/office/events/{id}/questions", get(office::planning::questions))
        .route(
            "/office/events/{id}/questions/{question}",
            get(office::planning::question).post(office::planning::save_question),
        )
        .route(
            "/office/events/{id}/who",
            get(office::planning::who).post(office::planning::save_who),
        )
        .route("/office/events/{id}/rules", get(office::rules::show).post(office::rules::save))
        .route("/office/events/{id}/offer", post(office::rules::offer))
        .route("/office/events/{id}/phone", get(office::rules::phone).post(office::rules::by_phone))
        .route("/office/events/{id}/invite", post(office::planning::invite))
        .route("/office/events/{id}/told", get(office::planning::told))
        .route("/office/events/{id}/dates", get(office::dates::show).post(office::dates::add))
        .route("/office/events/{id}/pools", post(office::dates::add_pool))
        .route("/office/events/{id}/slots", post(office::dates::plan_slots))
        .route(
            "/office/events/{id}/call-off",
            get(office::dates::before_calling_off).post(office::dates::call_off),
        )
        .route("/office/dates/{id}/change", post(office::dates::change))
        .route("/office/dates/{id}/remove", post(office::dates::remove))
        .route("/office/dates/{id}/sessions", post(office::dates::session))
        .route("/office/dates/{id}/door", post(office::dates::door))
        .route("/office/money", get(office::money::show))
        .route("/office/money/{tab}", get(office::money::tab).post(office::money::act))
        .route("/office/board", get(office::board::show))
        .route("/office/mine", get(office::house::mine))
        .route("/office/house", get(office::house::show).post(office::house::set_terms))
        .route("/office/house/hours", get(office::house::hours).post(office::house::set_hours))
        .route("/office/house/closed", post(office::house::close_day))
        .route("/office/house/people", get(office::house::people).post(office::house::give_role))
        .route(
            "/office/house/members",
            post(office::house::set_members).layer(DefaultBodyLimit::max(MEMBERS)),
        )
        .route("/office/house/people/{id}", post(office::house::take_role))
        .route("/office/house/{tab}", get(office::house::part))
        .route("/office/house/{thing}/{id}", post(office::house::save))
        .route("/office/events/{id}/confirmations", get(office::events::confirmations))
        .route("/office/events/{id}/live", get(office::events::live))
        .route("/office/bookings", get(office::bookings::list))
        .route("/office/bookings.csv", get(office::bookings::file))
        .route("/office/bookings.xlsx", get(office::bookings::file))
        .route("/office/many", post(office::bookings::act))
        .route("/office/views", post(office::bookings::views))
        .route("/office/bookings/{reference}", get(office::booking::sheet))
        .route(
            "/office/bookings/{reference}/cancel",
            get(office::booking::before_cancelling).post(office::booking::cancel),
        )
        .route("/office/bookings/{reference}/documents/{id}", get(office::booking::document))
        .route("/office/bookings/{reference}/{act}", post(office::booking::act))
        // Door
        .route("/door", get(door::dates))
        .route("/door/{date}", get(door::show))
        .route("/door/{date}/scan", post(door::scan))
        .route("/door/{date}/undo", post(door::undo))
        .route("/door/{date}/pay", post(door::pay))
        .route("/door/{date}/names", get(door::names))
        .route("/door/{date}/live", get(door::live))
        // Other programs
        .route("/hooks/card", post(hooks::card))
        .route("/static/{*path}", get(assets::serve))
        .route("/favicon.ico", get(assets::favicon))
        .route("/robots.txt", get(programme::machines::robots))
        .route("/sitemap.xml", get(programme::machines::sitemap))
        .route("/manifest.webmanifest", get(programme::machines::manifest))
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
