//! The public face: catalogue, event pages, booking.

mod asked;
mod at;
mod booking;
mod catalogue;
mod certificate;
mod change;
mod choosing;
mod embed;
mod event;
mod feeds;
mod form;
mod foyer;
mod invited;
mod keeping;
mod machines;
mod me;
mod own;
mod own_acts;
mod pay;
mod refused;
mod shown;
mod stub;
mod submitting;
mod summary;
mod ticket;
mod waiting;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::routing::{get, post};

use crate::{App, PICTURE};

/// The addresses of this face.
pub(crate) fn routes() -> Router<App> {
    Router::new()
        .route("/", get(catalogue::show))
        .route("/events/{slug}", get(event::show))
        .route("/events/{slug}/choose", get(keeping::back).post(keeping::choose))
        .route("/events/{slug}/keep", get(keeping::back).post(keeping::keep))
        .route("/events/{slug}/wait", get(waiting::ask).post(waiting::join))
        .route(
            "/events/{slug}/complain",
            get(submitting::complain::show).post(submitting::complain::send),
        )
        .route("/submit", get(submitting::show).post(submitting::act))
        .route("/submit/keep", get(submitting::show).post(submitting::keep))
        .route("/submissions", get(submitting::mine::list))
        .route("/submissions/{id}/{key}", get(submitting::one))
        .route(
            "/submissions/{id}/{key}/send",
            get(submitting::mine::back_of).post(submitting::confirm),
        )
        .route(
            "/submissions/{id}/{key}/picture",
            get(submitting::mine::back_of)
                .post(submitting::picture)
                .layer(DefaultBodyLimit::max(PICTURE)),
        )
        .route(
            "/submissions/{id}/{key}/change",
            get(submitting::mine::back_of).post(submitting::mine::change),
        )
        .route(
            "/submissions/{id}/{key}/{act}",
            get(submitting::mine::back).post(submitting::mine::act),
        )
        .route("/submitted/{id}/{key}/{size}", get(submitting::picture_file))
        .route("/waiting/{id}/{key}", get(waiting::place).post(waiting::leave))
        .route("/pictures/{id}/{key}/{size}", get(event::picture))
        .route("/feeds/{file}", get(feeds::all))
        .route("/feeds/{about}/{file}", get(feeds::about))
        .route("/feeds/mine/{id}/{file}", get(feeds::mine))
        .route("/feeds/host/{id}/{file}", get(feeds::host))
        .route("/embed.js", get(embed::script))
        .route("/embed/list", get(embed::list))
        .route("/embed/events/{slug}", get(embed::event))
        .route("/booking/{reference}/{key}/sessions", post(own_acts::sign_up))
        .route(
            "/booking/{reference}/{key}/address",
            get(booking::back).post(own_acts::correct_address),
        )
        .route("/booking/{reference}/{key}/undo", get(booking::back).post(own_acts::take_back))
        .route("/booking/{reference}/{key}", get(booking::show))
        .route("/booking/{reference}/{key}/draft", post(booking::draft))
        .route("/booking/{reference}/{key}/link", get(booking::back).post(booking::link))
        .route("/booking/{reference}/{key}/book", get(booking::back).post(booking::book))
        .route("/booking/{reference}/{key}/again", get(booking::back).post(booking::again))
        .route("/booking/{reference}/{key}/give-back", get(booking::back).post(booking::give_back))
        .route("/booking/{reference}/{key}/change", get(change::show))
        .route("/booking/{reference}/{key}/change/{act}", get(booking::back).post(change::act))
        .route("/booking/{reference}/{key}/names", get(change::names))
        .route("/booking/{reference}/{key}/code", get(booking::back).post(booking::code))
        .route("/booking/{reference}/{key}/transfer", get(booking::back).post(change::transfer))
        .route("/booking/{reference}/{key}/stamps", get(booking::back).post(change::stamps))
        .route("/booking/{reference}/{key}/papers/{id}", get(change::paper))
        .route("/booking/{reference}/{key}/pay", get(pay::pay))
        .route("/booking/{reference}/{key}/state", get(pay::state))
        .route("/booking/{reference}/{key}/tickets.pdf", get(own_acts::tickets))
        .route("/booking/{reference}/{key}/date.ics", get(own_acts::calendar))
        .route(
            "/booking/{reference}/{key}/calendar",
            get(booking::back).post(own_acts::calendar_by_mail),
        )
        .route("/foyer/try", get(foyer::try_window))
        .route("/foyer/{code}/{key}", get(foyer::show))
        .route("/foyer/{code}/{key}/now", get(foyer::now))
        .route("/foyer/{code}/{key}/go", get(foyer::show).post(foyer::go))
        .route("/foyer/{code}/{key}/recording", get(foyer::show).post(foyer::recording))
        .route("/invited/{id}/{key}", get(invited::open))
        .route("/invited/{id}/{key}/{act}", get(invited::ask).post(invited::act))
        .route("/unsubscribe/{address}/{key}", get(me::before_unsubscribing).post(me::unsubscribe))
        .route("/me", get(me::show).post(me::enter))
        .route("/me/number", get(me::show).post(me::send))
        .route("/me/out", post(me::out))
        .route("/me/feed", post(me::feed))
        .route("/certificate", get(certificate::show))
        .route("/ticket/{code}/{key}", get(ticket::show))
        .route("/ticket/{code}/{key}/{file}", get(ticket::file))
        .route("/robots.txt", get(machines::robots))
        .route("/sitemap.xml", get(machines::sitemap))
        .route("/house.css", get(machines::face))
        .route("/house-mark.png", get(machines::mark))
        .route("/accent/{colour}", get(machines::colour))
        .route("/manifest.webmanifest", get(machines::manifest))
        .route("/.well-known/security.txt", get(machines::security))
}
