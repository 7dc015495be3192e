//! The link of an invitation: it opens its event, and asks whether one is coming. A click that only
//! fetches an address changes nothing: a person's act sends the reply.

use askama::Template;
use axum::extract::{Path, Query, State as Shared};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::replies::Reply;
use matricle_desk::DeskError;
use matricle_desk::planning::{invitations, replies};
use matricle_formats::words;
use serde::Deserialize;

use crate::asking::{Asker, Posted, Visitor};
use crate::error::WebError;
use crate::guard::Often;
use crate::page::{Face, Frame, html, refused};
use crate::parts::fields::{Fields, form};
use crate::{App, cookies};

#[derive(Template)]
#[template(path = "programme/reply.html")]
struct ReplyPage {
    f: Frame,
    /// The address of the invitation.
    link: String,
    title: String,
    lead: String,
    when: Vec<String>,
    place: String,
    address: String,
    replies: [&'static str; 3],
    /// What the link proposes, or what was said.
    say: &'static str,
    /// What was said, and when; empty before.
    said: String,
    /// They said yes, and have not booked.
    to_book: bool,
    booked: bool,
    /// A yes books a seat at once, under these terms.
    at_once: bool,
    terms: String,
    d: Fields,
}

/// What the address says.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct Say {
    #[serde(default)]
    say: String,
}

/// A link that opens nothing is counted against whoever tries it; one that does is not, since a
/// whole firm may stand behind one network, and a program that looks through its mails.
fn counted<T>(app: &App, asker: &Asker, opened: Result<T, DeskError>) -> Result<T, WebError> {
    if matches!(opened, Err(DeskError::NotFound)) {
        app.guards.often(Often::SignIn, asker)?;
    }
    Ok(opened?)
}

/// `GET /invited/{id}/{key}`: the link of an invitation. Whoever has it is known by its address
/// at this event, and nowhere else; nobody is signed in by it.
pub(crate) async fn open(
    Shared(app): Shared<App>,
    Path((id, key)): Path<(i64, String)>,
    asker: Asker,
) -> Result<Response, WebError> {
    let slug = counted(&app, &asker, invitations::open(&app.desk, id, &key).await)?;
    let to = Redirect::to(&format!("/events/{}", crate::address::encode(&slug)));
    let cookie = cookies::invitation_cookie(&app.settings, id, &key);
    Ok(([(header::SET_COOKIE, cookie)], to).into_response())
}

async fn page(
    app: &App,
    (asker, visitor): (&Asker, &Visitor),
    (id, key): (i64, &str),
    say: &str,
    d: Fields,
) -> Result<ReplyPage, WebError> {
    let asked = counted(app, asker, replies::question(&app.desk, id, key).await)?;
    let house = app.desk.house().await?;
    let now = app.desk.clock.now();
    let title = asked.event.title.clone();
    let reply = Reply::from_word(say).or(asked.said.as_ref().map(|s| s.reply));
    let when = |d: &matricle_store::events::Date| {
        words::span(d.span.starts, d.span.ends, words::local(now, &d.span.zone).date())
    };
    let mut d = d;
    if let (Some(said), 0, "") = (&asked.said, d.count(), d.v("word")) {
        d.set("word", said.word.clone());
    }
    if d.v("name").is_empty() && d.count() == 0 {
        d.set("name", asked.name.clone());
    }
    Ok(ReplyPage {
        at_once: asked.at_once && !asked.booked,
        terms: asked.terms.clone(),
        f: Frame::new(app, Face::Programme, title.clone(), &house.name, visitor, None),
        link: format!("/invited/{id}/{}", crate::address::encode(key)),
        lead: asked.event.lead.clone(),
        when: asked.dates.iter().take(6).map(when).collect(),
        place: asked.dates.first().map_or_else(String::new, |d| d.place()),
        address: asked.address,
        replies: Reply::ALL.map(Reply::word),
        say: reply.map_or("", Reply::word),
        said: asked.said.as_ref().map_or_else(String::new, |said| {
            let at = words::moment(said.at, &house.zone, now);
            format!("You said {}, {at}.", said.reply.word())
        }),
        to_book: asked.said.as_ref().is_some_and(|s| s.reply == Reply::Yes) && !asked.booked,
        booked: asked.booked,
        title,
        d,
    })
}

/// `GET /invited/{id}/{key}/reply`: what is asked, with what the link proposes; it changes nothing.
pub(crate) async fn ask(
    Shared(app): Shared<App>,
    Path((id, key)): Path<(i64, String)>,
    Query(Say { say }): Query<Say>,
    asker: Asker,
    visitor: Visitor,
) -> Result<Response, WebError> {
    html(&page(&app, (&asker, &visitor), (id, &key), &say, Fields::default()).await?)
}

/// `POST /invited/{id}/{key}/reply`: the reply.
pub(crate) async fn reply(
    Shared(app): Shared<App>,
    Path((id, key)): Path<(i64, String)>,
    asker: Asker,
    visitor: Visitor,
    posted: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    match replies::reply(&app.desk, id, &key, form(&posted)).await {
        Ok(_) => {
            let key = crate::address::encode(&key);
            Ok(Redirect::to(&format!("/invited/{id}/{key}/reply#said")).into_response())
        }
        Err(error @ DeskError::Form(_)) => {
            let fields = Fields::again(&posted, error)?;
            let who = (&asker, &visitor);
            let page = page(&app, who, (id, &key), posted.get("reply"), fields).await?;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
        Err(other) => counted(&app, &asker, Err(other)),
    }
}
