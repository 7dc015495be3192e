//! The staff face.

mod acts;
mod as_booker;
mod board;
mod booking;
mod bookings;
mod calling_off;
mod coming;
mod dates;
mod doors;
mod event;
mod events;
mod find;
mod help;
mod house;
mod invitations;
mod messages;
mod money;
mod online;
mod papers;
mod person;
mod phone;
mod publishing;
mod questions;
mod quick;
mod replies;
mod review;
mod rules;
mod sessions;
mod signin;
mod tab;
mod tickets;
mod today;
mod touches;
mod who;
mod who_came;
mod wording;
mod you;

use axum::Router;
use axum::extract::{DefaultBodyLimit, FromRequestParts};
use axum::http::request::Parts;
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use jiff::Timestamp;
use matricle_formats::words;
use matricle_store::bookings::Listed;
use matricle_store::people::Staff;

use crate::asking::{SignedIn, Visitor};
use crate::error::WebError;
use crate::news::{NewsLine, Undo};
use crate::page::{Face, Frame};
use crate::{App, LETTERS, MEMBERS, PICTURE};

/// Somebody of the staff at the Office: the program, their browser, and who they are.
pub(crate) struct Clerk {
    pub(crate) app: App,
    pub(crate) visitor: Visitor,
    pub(crate) staff: Staff,
}

impl Clerk {
    /// The frame of a page of the Office.
    fn frame(&self, title: impl Into<String>, house: &str) -> Frame {
        Frame::new(&self.app, Face::Office, title, house, &self.visitor, Some(&self.staff))
    }

    /// Held from reading what stands until a form is kept over it, so that no other comes between.
    pub(crate) async fn keeping(&self) -> tokio::sync::MutexGuard<'_, ()> {
        self.app.keeping.lock().await
    }

    /// On to a page that says in one line what was done.
    fn done(&self, to: &str, what: impl Into<String>) -> Response {
        self.app.news.tell(&self.visitor.0, NewsLine { what: what.into(), undo: None });
        Redirect::to(to).into_response()
    }

    /// The same, with the form that undoes it.
    fn done_but(&self, to: &str, what: impl Into<String>, undo: Undo) -> Response {
        self.app.news.tell(&self.visitor.0, NewsLine { what: what.into(), undo: Some(undo) });
        Redirect::to(to).into_response()
    }
}

impl FromRequestParts<App> for Clerk {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        let SignedIn(staff) = SignedIn::from_request_parts(parts, app).await?;
        let visitor = Visitor::from_request_parts(parts, app).await?;
        Ok(Self { app: app.clone(), visitor, staff })
    }
}

/// A booking in a list.
pub(crate) struct BookingRow {
    pub(crate) href: String,
    pub(crate) reference: String,
    pub(crate) booker: String,
    pub(crate) title: String,
    pub(crate) when: String,
    pub(crate) people: u32,
    pub(crate) class: &'static str,
    pub(crate) state: &'static str,
    pub(crate) paid: String,
    pub(crate) due: String,
    pub(crate) last: String,
}

pub(crate) fn booking_row(row: &Listed, zone: &str, now: Timestamp) -> BookingRow {
    let b = &row.booking;
    let today = words::local(now, zone).date();
    let live = crate::wording::state_class(b.state) != "over";
    let amount = |m: matricle_core::Money| if m.is_zero() { "–".into() } else { m.column() };
    BookingRow {
        href: format!("/office/bookings/{}", b.reference.as_str()),
        reference: b.reference.to_string(),
        booker: b.booker().to_owned(),
        title: row.title.clone(),
        when: words::day(row.starts.date(), today),
        people: row.people,
        class: crate::wording::state_class(b.state),
        state: crate::wording::state(b.state),
        paid: amount(b.paid),
        due: if live { amount(b.due()) } else { "–".into() },
        last: row.last.clone(),
    }
}

/// The addresses of this face.
pub(crate) fn routes() -> Router<App> {
    own().merge(events()).merge(messages()).merge(house())
}

/// Signing in, Today, bookings, and what is of nothing else.
fn own() -> Router<App> {
    Router::new()
        .route("/sign-in", get(signin::show).post(signin::sign_in))
        .route("/sign-out", post(signin::sign_out))
        .route("/you", get(you::show).post(you::change))
        .route("/you/told", post(you::told))
        .route("/office", get(today::show))
        .route("/office/first/{what}", post(today::try_step))
        .route("/office/find", get(find::find))
        .route("/office/help", get(help::index))
        .route("/office/help/here", get(help::here))
        .route("/office/help/{chapter}", get(help::chapter_page))
        .route("/office/person", get(person::show))
        .route("/office/mine", get(house::mine))
        .route("/office/bookings", get(bookings::list))
        .route("/office/bookings.csv", get(bookings::file))
        .route("/office/bookings.xlsx", get(bookings::file))
        .route("/office/many", post(bookings::act))
        .route("/office/views", post(bookings::views))
        .route("/office/bookings/{reference}", get(booking::sheet))
        .route(
            "/office/bookings/{reference}/cancel",
            get(acts::before_cancelling).post(acts::cancel),
        )
        .route("/office/bookings/{reference}/documents/{id}", get(booking::document))
        .route("/office/bookings/{reference}/page", get(as_booker::page))
        .route("/office/bookings/{reference}/{act}", post(acts::act))
}

/// Events, dates, their doors and the board.
fn events() -> Router<App> {
    Router::new()
        .route("/office/events", get(events::list))
        .route("/office/events/new", get(quick::show).post(quick::make))
        .route("/office/events.csv", get(events::file))
        .route("/office/events.xlsx", get(events::file))
        .route("/office/events/many", post(events::many))
        .route("/office/events/new/from", post(quick::start))
        .route("/office/events/{id}", get(event::sheet))
        .route("/office/events/{id}/programme", post(publishing::show_in_programme))
        .route("/office/events/{id}/throw", post(publishing::throw))
        .route("/office/events/{id}/publish-at", post(publishing::publish_at))
        .route("/office/events/{id}/tests", post(publishing::clear_tests))
        .route("/office/events/{id}/pattern", post(publishing::save_pattern))
        .route("/office/events/{id}/wording", get(wording::wording).post(wording::reword))
        .route(
            "/office/events/{id}/picture",
            post(wording::picture).layer(DefaultBodyLimit::max(PICTURE)),
        )
        .route("/office/events/{id}/tickets", get(tickets::tickets))
        .route(
            "/office/events/{id}/tickets/{ticket}",
            get(tickets::ticket).post(tickets::save_ticket),
        )
        .route("/office/events/{id}/questions", get(questions::questions))
        .route(
            "/office/events/{id}/questions/{question}",
            get(questions::question).post(questions::save_question),
        )
        .route("/office/events/{id}/who", get(who::who).post(who::save_who))
        .route("/office/events/{id}/rules", get(rules::show).post(rules::save))
        .route("/office/events/{id}/offer", post(rules::offer))
        .route("/office/events/{id}/rung", post(publishing::rung))
        .route("/office/events/{id}/coming", get(coming::list))
        .route("/office/events/{id}/coming.csv", get(coming::file))
        .route("/office/events/{id}/coming.xlsx", get(coming::file))
        .route("/office/events/{id}/phone", get(phone::phone).post(phone::by_phone))
        .route("/office/events/{id}/replies", get(replies::show).post(replies::again))
        .route("/office/events/{id}/replies/book", post(replies::book))
        .route("/office/events/{id}/replies/links", post(replies::links))
        .route(
            "/office/events/{id}/invitations",
            get(invitations::show).post(invitations::add).layer(DefaultBodyLimit::max(MEMBERS)),
        )
        .route(
            "/office/events/{id}/invitations/look",
            get(invitations::show).post(invitations::look).layer(DefaultBodyLimit::max(MEMBERS)),
        )
        .route("/office/events/{id}/invitations/off", post(invitations::take_off))
        .route("/office/events/{id}/invitations/link", post(invitations::new_link))
        .route("/office/events/{id}/invitations/back", post(invitations::put_back))
        .route(
            "/office/events/{id}/invitations/rules",
            get(invitations::show).post(invitations::set_rules),
        )
        .route("/office/events/{id}/replies.csv", get(replies::file))
        .route("/office/events/{id}/replies.xlsx", get(replies::file))
        .route("/office/events/{id}/invite", post(invitations::invite))
        .route("/office/events/{id}/told", get(publishing::told))
        .route("/office/events/{id}/dates", get(dates::show).post(touches::add))
        .route("/office/events/{id}/pools", post(dates::add_pool))
        .route("/office/events/{id}/slots", post(dates::plan_slots))
        .route(
            "/office/events/{id}/call-off",
            get(calling_off::before_calling_off).post(calling_off::call_off),
        )
        .route("/office/dates/{id}/change", post(touches::change))
        .route("/office/dates/{id}/online", get(online::show).post(online::save))
        .route("/office/dates/{id}/remove", post(dates::remove))
        .route("/office/dates/{id}/sessions", post(sessions::session))
        .route("/office/dates/{id}/door", get(doors::old).post(dates::door))
        .route("/office/doors", get(doors::show))
        .route("/office/doors/join", post(doors::join))
        .route("/office/doors/devices/{id}/away", post(doors::away))
        .route("/office/doors/{date}", get(doors::of_date).post(doors::keep))
        .route("/office/doors/{date}/papers", get(papers::show).post(papers::send))
        .route("/office/doors/papers/drawn", get(papers::drawn))
        .route("/office/doors/{date}/papers.pdf", get(papers::file))
        .route("/office/doors/{date}/after", get(who_came::show).post(who_came::mark))
        .route("/office/doors/{date}/after.csv", get(who_came::file))
        .route("/office/doors/{date}/after.xlsx", get(who_came::file))
        .route("/office/doors/{date}/lift", post(doors::lift))
        .route("/office/doors/{date}/looked", post(doors::looked))
        .route("/office/doors/{date}/live", get(doors::live_flow))
        .route("/office/board", get(board::show))
        .route("/office/events/{id}/confirmations", get(events::confirmations))
        .route("/office/events/{id}/messages", get(messages::cues::of_event))
        .route("/office/events/{id}/messages/switch", post(messages::cues::switch_event))
        .route("/office/events/{id}/messages/sender", post(messages::cues::choose_sender))
        .route(
            "/office/events/{id}/messages/cues/{cue}",
            get(messages::cues::show_event).post(messages::cues::save_event),
        )
        .route("/office/events/{id}/goes", get(messages::cues::goes))
        .route(
            "/office/events/{id}/announce",
            get(messages::announce::show).post(messages::announce::send),
        )
        .route("/office/events/{id}/live", get(event::live))
}

/// Messages, letters and review.
fn messages() -> Router<App> {
    Router::new()
        .route("/office/messages", get(messages::next))
        .route("/office/messages.csv", get(messages::file))
        .route("/office/messages.xlsx", get(messages::file))
        .route("/office/messages/steer", post(messages::steer))
        .route("/office/messages/announcements", get(messages::announce::all))
        .route("/office/messages/announcements/stop", post(messages::announce::stop))
        .route("/office/messages/cues", get(messages::cues::of_house))
        .route("/office/messages/words", get(messages::cues::words))
        .route("/office/messages/cues/switch", post(messages::cues::switch_house))
        .route(
            "/office/messages/cues/{cue}",
            get(messages::cues::show_house).post(messages::cues::save_house),
        )
        .route("/office/messages/templates", get(messages::templates::list))
        .route(
            "/office/messages/templates/{id}",
            get(messages::templates::show).post(messages::templates::save),
        )
        .route(
            "/office/messages/letters",
            get(messages::letters::list)
                .post(messages::letters::drop_in)
                .layer(DefaultBodyLimit::max(LETTERS)),
        )
        .route(
            "/office/messages/letters/{id}",
            get(messages::letters::one).post(messages::letters::act),
        )
        .route("/office/messages/letters/{id}/raw", get(messages::letters::raw))
        .route("/office/messages/letters/{id}/files/{n}", get(messages::letters::one_file))
        .route("/office/messages/letters.csv", get(messages::letters::file))
        .route("/office/messages/letters.xlsx", get(messages::letters::file))
        .route("/office/messages/senders", get(messages::senders::show))
        .route("/office/messages/senders/house", post(messages::senders::house))
        .route("/office/messages/senders/{id}", post(messages::senders::save))
        .route(
            "/office/messages/files",
            get(messages::files::show)
                .post(messages::files::add)
                .layer(DefaultBodyLimit::max(PICTURE)),
        )
        .route(
            "/office/messages/files/{id}",
            get(messages::files::one).post(messages::files::retire),
        )
        .route("/office/messages/notices/{id}", post(messages::take_down))
        .route("/office/messages/{tab}", get(messages::tab))
        .route("/office/review", get(review::show))
        .route("/office/review/empty", get(review::empty))
        .route("/office/review/right", get(review::right).post(review::accept_right))
        .route("/office/review/trusted", get(review::trusted))
        .route("/office/review/trust/{person}", post(review::decide_trust))
        .route(
            "/office/review/complaint/{id}",
            get(review::complaint).post(review::decide_complaint),
        )
        .route("/office/review/{id}", get(review::one))
        .route("/office/review/{id}/part", get(review::part))
        .route("/office/review/{id}/look", get(review::back_of_look).post(review::look))
        .route("/office/review/{id}/{act}", get(review::back).post(review::act))
}

/// Money and the house.
fn house() -> Router<App> {
    Router::new()
        .route("/office/money", get(money::show))
        .route("/office/money/{tab}", get(money::tab).post(money::act))
        .route("/office/house", get(house::show).post(house::set_terms))
        .route("/office/house/hours", get(house::hours::hours).post(house::hours::set_hours))
        .route("/office/house/closed", post(house::hours::close_day))
        .route("/office/house/people", get(house::people::people).post(house::people::give_role))
        .route(
            "/office/house/members",
            post(house::people::set_members).layer(DefaultBodyLimit::max(MEMBERS)),
        )
        .route("/office/house/people/{id}", post(house::people::take_role))
        .route("/office/house/mark", post(house::set_mark).layer(DefaultBodyLimit::max(PICTURE)))
        .route("/office/house/kinds", post(house::set_kinds))
        .route(
            "/office/house/submissions",
            get(house::submissions::show).post(house::submissions::save),
        )
        .route("/office/house/calendars", get(house::feeds).post(house::set_calendars))
        .route("/office/house/{tab}", get(house::part))
        .route("/office/house/{thing}/{id}", post(house::save))
}
