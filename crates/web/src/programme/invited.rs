//! The link of an invitation: it opens its event, and asks whether one is coming. A click that only
//! fetches an address changes nothing: a person's act sends the reply.

use askama::Template;
use axum::extract::{Path, Query, State as Shared};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use jiff::Timestamp;
use matricle_core::messages::replies::Reply;
use matricle_desk::DeskError;
use matricle_desk::planning::invitations::{self, Opens};
use matricle_desk::planning::replies;
use matricle_formats::words;
use serde::Deserialize;

use crate::asking::{Asker, Posted, Visitor};
use crate::error::WebError;
use crate::guard::{Often, counted};
use crate::page::{Face, Frame, html, refused};
use crate::parts::fields::{Fields, form};
use crate::parts::places;
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
    /// Until when a maybe keeps a seat; empty where it keeps none.
    maybe_until: String,
    /// The seat that is kept now: where it is taken, and until when.
    kept: Option<(String, String)>,
    hand_on: bool,
    /// Who has the invitation now; empty while it is theirs.
    handed_to: String,
    take_back: bool,
    terms: String,
    d: Fields,
}

/// What the address says.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct Say {
    #[serde(default)]
    say: String,
}

/// `GET /invited/{id}/{key}`: the link of an invitation. Whoever has it is known by its address
/// at this event, and nowhere else; nobody is signed in by it.
pub(crate) async fn open(
    Shared(app): Shared<App>,
    Path((id, key)): Path<(i64, String)>,
    asker: Asker,
) -> Result<Response, WebError> {
    let slug = match counted(&app, &asker, invitations::open(&app.desk, id, &key).await)? {
        Opens::Event(slug) => slug,
        Opens::WhoHasIt => {
            let to = format!("/invited/{id}/{}/reply", crate::address::encode(&key));
            return Ok(Redirect::to(&to).into_response());
        }
    };
    let to = Redirect::to(&format!("/events/{}", crate::address::encode(&slug)));
    let cookie = cookies::invitation_cookie(&app.settings, id, &key);
    Ok(([(header::SET_COOKIE, cookie)], to).into_response())
}

/// Until when something is kept: the end of a day is that day.
fn until(at: Timestamp, zone: &str, now: Timestamp) -> String {
    let local = words::local(at, zone);
    if local.time() == jiff::civil::Time::midnight()
        && let Ok(day) = local.date().yesterday()
    {
        return format!("the end of {}", words::long_day(day));
    }
    words::moment(at, zone, now)
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
    // Each date has a clock of its own; what is kept is of the one that is to come.
    let zone = asked.dates.first().map_or_else(|| house.zone.clone(), |d| d.span.zone.clone());
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
        at_once: asked.at_once,
        maybe_until: asked.maybe_until.map_or_else(String::new, |at| until(at, &zone, now)),
        kept: asked
            .kept
            .map(|(reference, at)| (places::address(app, reference), until(at, &zone, now))),
        hand_on: asked.hand_on,
        handed_to: asked.handed_to.clone(),
        take_back: asked.take_back,
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

/// What can be done with an invitation, as its address says it.
#[derive(Debug, Clone, Copy)]
enum Act {
    /// Reply to it.
    Reply,
    /// Hand it on.
    Hand,
    /// Take it back.
    Back,
}

impl Act {
    fn from_word(word: &str) -> Result<Self, DeskError> {
        match word {
            "reply" => Ok(Self::Reply),
            "hand" => Ok(Self::Hand),
            "back" => Ok(Self::Back),
            _ => Err(DeskError::NotFound),
        }
    }
}

/// `GET /invited/{id}/{key}/{act}`: what is asked, with what the link proposes; it changes nothing,
/// whichever act it is that the page was left with.
pub(crate) async fn ask(
    Shared(app): Shared<App>,
    Path((id, key, act)): Path<(i64, String, String)>,
    Query(Say { say }): Query<Say>,
    asker: Asker,
    visitor: Visitor,
) -> Result<Response, WebError> {
    Act::from_word(&act)?;
    html(&page(&app, (&asker, &visitor), (id, &key), &say, Fields::default()).await?)
}

/// `POST /invited/{id}/{key}/{act}`: the reply; hands the invitation on; takes it back.
pub(crate) async fn act(
    Shared(app): Shared<App>,
    Path((id, key, act)): Path<(i64, String, String)>,
    asker: Asker,
    visitor: Visitor,
    posted: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    let done = match Act::from_word(&act)? {
        Act::Reply => replies::reply(&app.desk, id, &key, form(&posted)).await.map(drop),
        Act::Hand => replies::hand_on(&app.desk, id, &key, form(&posted)).await.map(drop),
        Act::Back => replies::take_back(&app.desk, id, &key).await,
    };
    answered(&app, (&asker, &visitor), (id, &key), &posted, done).await
}

/// The page again: with what was done, or with what needs another look.
async fn answered(
    app: &App,
    who: (&Asker, &Visitor),
    (id, key): (i64, &str),
    posted: &Posted,
    done: Result<(), DeskError>,
) -> Result<Response, WebError> {
    match done {
        Ok(()) => {
            let key = crate::address::encode(key);
            Ok(Redirect::to(&format!("/invited/{id}/{key}/reply#said")).into_response())
        }
        Err(error @ DeskError::Form(_)) => {
            let fields = Fields::again(posted, error)?;
            let page = page(app, who, (id, key), posted.get("reply"), fields).await?;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
        Err(other) => counted(app, who.0, Err(other)),
    }
}
