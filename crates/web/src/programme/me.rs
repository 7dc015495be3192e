//! `/me`: signing in with a number that comes by mail, for those who only book.

use askama::Template;
use axum::extract::{Path, Query, State as Shared};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::booking::State;
use matricle_core::forms::form::Wrong;
use matricle_desk::DeskError;
use matricle_desk::bookings::whole;
use matricle_desk::money::cards;
use matricle_desk::people::signin;
use matricle_formats::words;
use matricle_store::people::Known;
use serde::Deserialize;

use crate::asking::{Asker, Perhaps, Posted, Signer, Somebody, Visitor};
use crate::error::WebError;
use crate::guard::Often;
use crate::page::{Face, Frame, html, refused};
use crate::parts::places::own_address;
use crate::parts::sessions::session_row;
use crate::{App, cookies, wording};

#[derive(Template)]
#[template(path = "programme/me.html")]
struct Me {
    f: Frame,
    back: String,
    email: String,
    /// The number has been sent; it is asked for.
    sent: bool,
    problem: Option<String>,
    known: Option<Known>,
    /// Open sessions: the browser, and since when.
    sessions: Vec<(String, String)>,
    bookings: Vec<Mine>,
    /// The address of their own feed, if they made one, and as calendars take it up.
    feed: Option<(String, String)>,
    /// Stamp cards: kind, letters, stamps left, until when.
    cards: Vec<(String, String, String, String)>,
    /// Where cards are sold: kind, price, address and title of the event.
    sold_at: Vec<(String, String, String, String)>,
}

/// A booking of whoever has signed in.
struct Mine {
    href: String,
    title: String,
    when: String,
    people: String,
    class: &'static str,
    state: &'static str,
    due: Option<String>,
}

/// Where to go on to.
#[derive(Debug, Deserialize)]
pub(crate) struct Back {
    #[serde(default)]
    back: String,
}

async fn page(
    app: &App,
    visitor: &Visitor,
    back: &str,
    email: &str,
    sent: bool,
    problem: Option<String>,
) -> Result<Me, WebError> {
    let house = app.desk.house().await?;
    Ok(Me {
        f: Frame::new(app, Face::Programme, "Sign in", &house.name, visitor, None),
        back: own_address(back).into(),
        email: email.into(),
        sent,
        problem,
        known: None,
        sessions: Vec::new(),
        bookings: Vec::new(),
        feed: None,
        cards: Vec::new(),
        sold_at: Vec::new(),
    })
}

pub(crate) async fn show(
    Shared(app): Shared<App>,
    Query(Back { back }): Query<Back>,
    visitor: Visitor,
    headers: HeaderMap,
    Perhaps(staff): Perhaps,
    Somebody(known): Somebody,
) -> Result<Response, WebError> {
    let mut page = page(&app, &visitor, &back, "", false, None).await?;
    let over = known.is_none() && cookies::session_token(&headers).is_some();
    page.f.signed_in = known.is_some();
    if known.is_some() {
        let house = page.f.house.clone();
        page.f = Frame::new(&app, Face::Programme, "Signed in", &house, &visitor, staff.as_ref());
        if let Some(known) = &known {
            let now = app.desk.clock.now();
            let house = app.desk.house().await?;
            let zone = house.zone;
            let today = words::local(now, &zone).date();
            if let Some(token) = cookies::session_token(&headers) {
                let open = signin::sessions(&app.desk, token).await?;
                page.sessions = open.iter().map(|s| session_row(s, &zone, now)).collect();
            }
            let mine = whole::mine(&app.desk, known.email.clone()).await?;
            let feed = matricle_desk::messages::own_feed::of(&app.desk, &known.email).await?;
            page.feed = feed.map(|url| {
                let rest = url.split_once("://").map_or(url.as_str(), |(_, rest)| rest);
                (url.clone(), format!("webcal://{rest}"))
            });
            page.cards = cards::mine(&app.desk, known.email.clone())
                .await?
                .into_iter()
                .map(|c| {
                    let until = c.card.expires_at.map_or_else(
                        || "good for ever".to_owned(),
                        |until| format!("good until {}", words::moment(until, &zone, now)),
                    );
                    let letters = matricle_core::money::transfer::grouped(&c.code);
                    (c.kind, letters, words::count(c.card.left, "stamps"), until)
                })
                .collect();
            page.sold_at = cards::sold_at(&app.desk)
                .await?
                .into_iter()
                .map(|s| (s.kind, house.currency.of(s.minor).to_string(), s.slug, s.title))
                .collect();
            page.bookings = mine
                .into_iter()
                .map(|row| Mine {
                    href: crate::parts::places::address(&app, row.booking.reference),
                    when: format!(
                        "{}, {}",
                        words::day(row.starts.date(), today),
                        words::clock(row.starts)
                    ),
                    people: words::count(row.people, "seats"),
                    class: wording::state_class(row.booking.state),
                    state: wording::state(row.booking.state),
                    due: (row.booking.due().minor > 0
                        && matches!(row.booking.state, State::AwaitingPayment | State::Confirmed))
                    .then(|| row.booking.due().to_string()),
                    title: row.title,
                })
                .collect();
        }
        page.known = known;
    }
    let mut response = html(&page)?;
    if over {
        // A session that is over: the head of every page says again where to sign in.
        response.headers_mut().append(header::SET_COOKIE, cookies::no_session(&app.settings));
    }
    Ok(response)
}

/// `POST /me/number`: a number is mailed.
pub(crate) async fn send(
    Shared(app): Shared<App>,
    asker: Asker,
    visitor: Visitor,
    Signer(browser): Signer,
    posted: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::SignIn, &asker)?;
    let (email, back) = (posted.get("email").trim().to_owned(), posted.get("back"));
    match signin::send_code(&app.desk, email.clone(), &browser).await {
        Ok(()) => html(&page(&app, &visitor, back, &email, true, None).await?),
        Err(DeskError::Form(wrong)) => {
            let said = wrong.first().map(|Wrong { field, fault }| wording::fault(field, fault));
            let page = page(&app, &visitor, back, &email, false, said).await?;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
        Err(error) => Err(error.into()),
    }
}

/// `POST /me`: the number is given.
pub(crate) async fn enter(
    Shared(app): Shared<App>,
    asker: Asker,
    visitor: Visitor,
    Signer(browser): Signer,
    posted: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::SignIn, &asker)?;
    let (email, back) = (posted.get("email").trim().to_owned(), posted.get("back"));
    match signin::enter_code(&app.desk, email.clone(), posted.get("code"), &browser).await {
        Ok(token) => {
            let to = match own_address(back) {
                "" => "/me",
                back => back,
            };
            let cookie = cookies::session_cookie(&app.settings, &token);
            Ok(([(header::SET_COOKIE, cookie)], Redirect::to(to)).into_response())
        }
        Err(DeskError::SignIn) => {
            let said = "This is another number, it is too old, or it was asked for in another browser. Look at the newest mail, or ask for a new one here.";
            let page = page(&app, &visitor, back, &email, true, Some(said.into())).await?;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
        Err(error) => Err(error.into()),
    }
}

/// `POST /me/feed`: an address for one's own calendar, another one, or none.
pub(crate) async fn feed(
    Shared(app): Shared<App>,
    Somebody(known): Somebody,
    visitor: Visitor,
    posted: Posted,
) -> Result<Response, WebError> {
    let Some(known) = known else { return Ok(Redirect::to("/me").into_response()) };
    let wanted = posted.get("act") != "withdraw";
    matricle_desk::messages::own_feed::set(&app.desk, &known.email, wanted).await?;
    let what = if wanted {
        "Your calendar can read all you book at this address. Keep it to yourself."
    } else {
        "The address is withdrawn: it opens nothing any more."
    };
    app.news.tell(&visitor.0, crate::news::NewsLine { what: what.into(), undo: None });
    Ok(Redirect::to("/me#feed").into_response())
}

/// `POST /me/out`: signs out on every device.
pub(crate) async fn out(
    Shared(app): Shared<App>,
    headers: HeaderMap,
    _posted: Posted,
) -> Result<Response, WebError> {
    if let Some(token) = cookies::session_token(&headers) {
        signin::sign_out_everywhere(&app.desk, token).await?;
    }
    let cookie = cookies::no_session(&app.settings);
    Ok(([(header::SET_COOKIE, cookie)], Redirect::to("/me")).into_response())
}

#[derive(Template)]
#[template(path = "programme/unsubscribe.html")]
struct Unsubscribe {
    f: Frame,
    address: String,
    done: bool,
}

async fn unsubscribe_page(
    app: &App,
    visitor: &Visitor,
    address: String,
    done: bool,
) -> Result<Response, WebError> {
    let house = app.desk.house().await?;
    let f = Frame::new(app, Face::Programme, "Announcements", &house.name, visitor, None);
    html(&Unsubscribe { f, address, done })
}

/// `GET /unsubscribe/{address}/{key}`: a click that only fetches an address changes nothing.
pub(crate) async fn before_unsubscribing(
    Shared(app): Shared<App>,
    Path((address, key)): Path<(String, String)>,
    visitor: Visitor,
) -> Result<Response, WebError> {
    if !app.desk.secrets.opens_unsubscribe(&address, &key) {
        return Err(DeskError::NotFound.into());
    }
    unsubscribe_page(&app, &visitor, address, false).await
}

/// `POST /unsubscribe/{address}/{key}`: by a person on the page, or by a mail program in one
/// request (RFC 8058 §3.2); the key in the address is all it takes.
pub(crate) async fn unsubscribe(
    Shared(app): Shared<App>,
    Path((address, key)): Path<(String, String)>,
    visitor: Visitor,
    sent: String,
) -> Result<Response, WebError> {
    matricle_desk::messages::outbox::unsubscribe(&app.desk, address.clone(), &key).await?;
    if sent.contains("List-Unsubscribe=One-Click") {
        // Nobody reads it, and it follows no redirect.
        return Ok("No more announcements.".into_response());
    }
    unsubscribe_page(&app, &visitor, address, true).await
}
