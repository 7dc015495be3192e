//! The Messages room: what goes and what went, and why.

pub(crate) mod announce;
pub(crate) mod cues;
pub(crate) mod files;
pub(crate) mod letters;
pub(crate) mod put_in;
pub(crate) mod senders;
pub(crate) mod templates;

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::Uri;
use axum::response::Response;
use jiff::{SignedDuration, Timestamp};
use matricle_core::messages::cue::{Trigger, Way, Whom};
use matricle_core::people::staff::Right;
use matricle_core::{EventId, MessageId};
use matricle_desk::DeskError;
use matricle_desk::messages::outbox::{self, Steer};
use matricle_formats::table::Cell;
use matricle_formats::words;
use matricle_store::outbox::{About, Found, Look, MessageState, Sort};
use serde::Deserialize;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html};
use crate::parts::cue_words;
use crate::parts::list::{self, Ask, Column, Columns, Entries, Head, InFile, Shown, Spot};
use crate::parts::pager::{self, Pager};

/// A message in a list.
pub(crate) struct OutboxRow {
    pub(crate) id: i64,
    pub(crate) href: String,
    pub(crate) what: String,
    pub(crate) about: String,
    pub(crate) to: String,
    pub(crate) name: String,
    pub(crate) way: &'static str,
    pub(crate) state: &'static str,
    pub(crate) class: &'static str,
    pub(crate) why: String,
    pub(crate) is_open: bool,
}

/// The colour and shape of a state.
pub(crate) const fn class(state: MessageState) -> &'static str {
    match state {
        MessageState::Planned | MessageState::Sending => "held",
        MessageState::Sent => "conf",
        MessageState::Failed => "over failed",
        MessageState::Withdrawn | MessageState::Skipped => "over",
    }
}

/// What a message is about, in words.
pub(crate) fn what(found: &Found) -> String {
    if found.template.is_empty() {
        let word = match found.message.trigger {
            Trigger::On(o) => o.word(),
            Trigger::At(m) => m.word(),
        };
        let mut letters = word.chars();
        let first = letters.next().map(|c| c.to_uppercase().to_string()).unwrap_or_default();
        return format!("{first}{}", letters.as_str());
    }
    // Both are planned until it is known who came: one of the two goes.
    if !found.or_else.is_empty() {
        return format!("{}, or {}", found.template, found.or_else);
    }
    match (found.message.state, &found.whom) {
        (MessageState::Planned, Some(Whom::Came)) => format!("{}, if they come", found.template),
        (MessageState::Planned, Some(Whom::Missed)) => {
            format!("{}, if they miss it", found.template)
        }
        _ => found.template.clone(),
    }
}

pub(crate) fn row(found: &Found) -> OutboxRow {
    let m = &found.message;
    let why = match (&m.last_error, m.state) {
        (Some(error), MessageState::Planned | MessageState::Failed) => error.clone(),
        _ if m.state == MessageState::Sent => m.answer.clone(),
        _ => m.reason.clone(),
    };
    OutboxRow {
        id: m.id.0,
        href: format!("/office/messages/{}", m.id),
        what: what(found),
        about: found.title.clone(),
        to: match m.way {
            Way::Notice => "everybody, on the event’s page".into(),
            Way::Chat => "the team’s chat".into(),
            Way::Mail | Way::Text | Way::Ring => m.address.clone(),
        },
        name: found.name.clone(),
        way: m.way.word(),
        state: m.state.word(),
        class: class(m.state),
        why,
        is_open: outbox::is_open(m),
    }
}

#[derive(Debug, Default, Deserialize)]
pub(crate) struct MessagesQuery {
    #[serde(default)]
    event: Option<i64>,
    /// Which list, where the address has no room for it.
    #[serde(default)]
    tab: String,
    #[serde(default)]
    day: String,
}

impl MessagesQuery {
    /// What the address says beside words and order.
    fn what(&self) -> String {
        let mut query = String::new();
        if !self.day.is_empty() {
            query.push_str(&format!("day={}&", crate::address::encode(&self.day)));
        }
        if let Some(event) = self.event {
            query.push_str(&format!("event={event}&"));
        }
        query
    }
}

/// What stands on a list of messages.
fn columns(zone: &str, now: Timestamp) -> Columns<'_, Found> {
    let minute = move |f: &Found| f.message.sent_at.unwrap_or(f.message.planned_at);
    // Where a mail goes is plain; another way is said.
    let way = |f: &Found| match f.message.way {
        way @ (Way::Text | Way::Ring) => way.word(),
        Way::Mail | Way::Notice | Way::Chat => "",
    };
    let state = |f: &Found| {
        Shown::state(f.message.state.word(), format!("st st-{}", class(f.message.state)))
    };
    vec![
        Column::new(Sort::Minute.word(), "When", move |f: &Found| Cell::at(minute(f), zone))
            .shown(move |f| words::moment(minute(f), zone, now))
            .at(Spot::Minute)
            .by_store(true),
        Column::new(Sort::State.word(), "State", |f: &Found| f.message.state.word())
            .shown(state)
            .at(Spot::State)
            .by_store(true),
        Column::new(Sort::Message.word(), "Message", what).by_store(true),
        Column::new(Sort::Event.word(), "Event", |f: &Found| f.title.clone())
            .at(Spot::Beside)
            .by_store(true),
        Column::new("booking", "Booking", |f: &Found| f.reference.clone()).in_files(),
        Column::new(Sort::Name.word(), "Booker", |f: &Found| f.name.clone())
            .at(Spot::Below)
            .by_store(true),
        Column::new(Sort::Way.word(), "Way", |f: &Found| f.message.way.word())
            .shown(way)
            .at(Spot::Below)
            .by_store(true),
        Column::new(Sort::To.word(), "To", |f: &Found| row(f).to).at(Spot::Below).by_store(true),
        Column::new("why", "Why", |f: &Found| row(f).why).at(Spot::Below),
    ]
}

#[derive(Template)]
#[template(path = "messages/list.html")]
struct List {
    f: Frame,
    tab: &'static str,
    title: &'static str,
    says: &'static str,
    asked: MessagesQuery,
    q: String,
    /// What the address of the same list says, up to its page.
    query: String,
    messages: Entries,
    count: u32,
    left: u32,
    pager: Pager,
    heads: Vec<Head>,
    may: bool,
}

/// What a tab of the room shows.
fn look(
    tab: &str,
    (asked, ask): (&MessagesQuery, &Ask),
    now: Timestamp,
) -> Option<(&'static str, &'static str, &'static str, Look)> {
    let words = ask.looked_for();
    let sort = Sort::from_word(&ask.sort);
    let base = Look {
        event: asked.event.map(EventId),
        words,
        sort: sort.unwrap_or_default(),
        backwards: ask.back,
        ..Look::default()
    };
    // What lies behind is read from its end, where nobody says otherwise.
    let back = Look { backwards: sort.is_none() || base.backwards, ..base.clone() };
    let planned = vec![MessageState::Planned, MessageState::Sending];
    Some(match tab {
        "" => (
            "next",
            "Next hours",
            "What goes until this time tomorrow, by itself.",
            Look { states: planned, until: Some(now + SignedDuration::from_hours(24)), ..base },
        ),
        "planned" => (
            "planned",
            "Planned",
            "All that is planned, the soonest first.",
            Look { states: planned, ..base },
        ),
        "went" => (
            "went",
            "What went",
            "All that went out, the latest first, with its words.",
            Look { states: vec![MessageState::Sent], ..back },
        ),
        "failed" => (
            "failed",
            "Failed",
            "What the other side refused, with what it said.",
            Look { states: vec![MessageState::Failed], ..back },
        ),
        "not" => (
            "not",
            "Not sent",
            "What is not true any more, what was stopped, and who could not be reached.",
            Look { states: vec![MessageState::Withdrawn, MessageState::Skipped], ..back },
        ),
        _ => return None,
    })
}

/// Only what has its minute on the day that was asked for, by the clock of the house.
async fn on_day(at: &Clerk, asked: &MessagesQuery, look: &mut Look) -> Result<(), WebError> {
    let Ok(day) = asked.day.parse::<jiff::civil::Date>() else { return Ok(()) };
    let zone = words::zone(&at.app.desk.house().await?.zone);
    let midnight = |day: jiff::civil::Date| day.to_zoned_datetime(zone.clone()).ok();
    if let (Some(from), Some(until)) = (midnight(day), day.tomorrow().ok().and_then(midnight)) {
        (look.from, look.until) = (Some(from.timestamp()), Some(until.timestamp()));
    }
    Ok(())
}

async fn list(at: Clerk, tab: &str, asked: MessagesQuery, ask: Ask) -> Result<Response, WebError> {
    let now = at.app.desk.clock.now();
    let (name, title, says, mut look) =
        look(tab, (&asked, &ask), now).ok_or(DeskError::NotFound)?;
    on_day(&at, &asked, &mut look).await?;
    // By itself a list is in the order of its minutes, one way or the other.
    let shown = Ask { sort: look.sort.word().into(), back: look.backwards, ..ask.clone() };
    let skip = u32::try_from(ask.page.saturating_mul(pager::ROWS)).unwrap_or(u32::MAX);
    let most = u32::try_from(pager::ROWS).unwrap_or(30);
    let found = outbox::list(&at.app.desk, &at.staff, look, skip, most).await?;
    let columns = columns(&found.house.zone, now);
    let place = if tab.is_empty() { "" } else { "/" };
    let here = format!("/office/messages{place}{tab}?{}", asked.what());
    let query = format!("{}{}", asked.what(), ask.query());
    let may = at.staff.role.may(Right::ChangeBookings);
    let tick = |f: &Found| {
        let id = f.message.id;
        let called = format!("{} to {}", what(f), f.name);
        let is_open = may && outbox::is_open(&f.message);
        is_open.then(|| (format!("message_{id}"), id.to_string(), called))
    };
    html(&List {
        f: at.frame(title, &found.house.name).in_room("messages"),
        tab: name,
        title,
        says,
        messages: Entries::new(&columns, &found.rows, |f| {
            format!("/office/messages/{}", f.message.id)
        })
        .ticked(found.rows.iter().map(tick)),
        count: found.count,
        left: found.left,
        pager: Pager::of(
            usize::try_from(found.count).unwrap_or(usize::MAX),
            ask.page,
            pager::ROWS,
            &format!("{here}{}", ask.query()),
        ),
        heads: list::heads(&columns, &here, &shown),
        may,
        asked,
        query,
        q: ask.q,
    })
}

/// `GET /office/messages`: the next hours.
pub(crate) async fn next(
    at: Clerk,
    Query(asked): Query<MessagesQuery>,
    ask: Ask,
) -> Result<Response, WebError> {
    list(at, "", asked, ask).await
}

/// `GET /office/messages/{tab}`: a list, or one message by its key.
pub(crate) async fn tab(
    at: Clerk,
    Path(tab): Path<String>,
    Query(asked): Query<MessagesQuery>,
    ask: Ask,
) -> Result<Response, WebError> {
    match tab.parse() {
        Ok(id) => one(at, MessageId(id)).await,
        Err(_) => list(at, &tab, asked, ask).await,
    }
}

/// `GET /office/messages.csv`, `.xlsx`: all that fits, whole.
pub(crate) async fn file(
    at: Clerk,
    uri: Uri,
    Query(asked): Query<MessagesQuery>,
    ask: Ask,
) -> Result<Response, WebError> {
    let now = at.app.desk.clock.now();
    let tab = if asked.tab == "next" { "" } else { &asked.tab };
    let (_, _, _, mut look) = look(tab, (&asked, &ask), now).ok_or(DeskError::NotFound)?;
    on_day(&at, &asked, &mut look).await?;
    let found = outbox::list(&at.app.desk, &at.staff, look, 0, u32::MAX >> 1).await?;
    let sheet = InFile::of(&columns(&found.house.zone, now), &found.rows);
    sheet.hand_out((&at.app.desk, &at.staff), &uri, ("Messages", "messages")).await
}

#[derive(Template)]
#[template(path = "messages/one.html")]
struct One {
    f: Frame,
    tab: &'static str,
    row: OutboxRow,
    booking: String,
    /// The submission that it is about; 0 for none.
    submission: i64,
    event: i64,
    subject: String,
    words: String,
    as_sent: bool,
    has_words: bool,
    planned: String,
    sent: String,
    tries: u32,
    by: &'static str,
    message_id: String,
    refused: Option<String>,
    /// It is a notice that was put up; whether it is up still.
    notice: Option<bool>,
    may: bool,
}

async fn one(at: Clerk, id: MessageId) -> Result<Response, WebError> {
    let now = at.app.desk.clock.now();
    let shown = outbox::show(&at.app.desk, &at.staff, id).await?;
    let (zone, m) = (&shown.house.zone, &shown.found.message);
    let has_words = shown.words.is_some();
    let (subject, words_said) = shown.words.unwrap_or_default();
    html(&One {
        f: at.frame(what(&shown.found), &shown.house.name).in_room("messages"),
        tab: "one",
        row: row(&shown.found),
        booking: match m.about {
            About::Booking(_) => shown.found.reference.clone(),
            About::Event(_) | About::House(_) | About::Submission(..) => String::new(),
        },
        submission: match m.about {
            About::Submission(id, _) => id.0,
            About::Booking(_) | About::Event(_) | About::House(_) => 0,
        },
        event: shown.found.event.map_or(0, |e| e.0),
        subject,
        words: words_said,
        as_sent: shown.as_sent,
        has_words,
        planned: words::moment(m.planned_at, zone, now),
        sent: m.sent_at.map_or_else(String::new, |at| words::moment(at, zone, now)),
        tries: m.tries,
        by: cue_words::trigger(m.trigger),
        message_id: if m.way == Way::Mail { m.message_id.clone() } else { String::new() },
        refused: shown.address.refused.map(|(_, why)| why),
        notice: (m.way == Way::Notice && m.state == MessageState::Sent)
            .then_some(m.reason.is_empty()),
        may: at.staff.role.may(Right::ChangeBookings),
    })
}

/// `POST /office/messages/notices/{id}`: a notice is taken down, or put up again.
pub(crate) async fn take_down(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let down = posted.get("act") != "up";
    let there = format!("/office/messages/{id}");
    outbox::take_down(&at.app.desk, &at.staff, MessageId(id), down).await?;
    if !down {
        return Ok(at.done(&there, "The notice is up again."));
    }
    let undo = crate::news::Undo::new(format!("/office/messages/notices/{id}"), &[("act", "up")]);
    Ok(at.done_but(&there, "The notice is taken down.", undo))
}

/// Where a form leads back to: a page of the Office, or else this one.
fn back_to(posted: &Posted, or: &str) -> String {
    let back = posted.get("back");
    if back.starts_with("/office/") { back } else { or }.to_owned()
}

/// What is said where no minute to come was given.
const NO_MINUTE: &str = "Nothing was changed: choose a time to come.";

/// `POST /office/messages/steer`: sends, stops, or gives another minute to what has not gone.
pub(crate) async fn steer(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let ids: Vec<MessageId> =
        posted.starting("message").filter_map(|(_, v)| v.parse().ok().map(MessageId)).collect();
    let back = back_to(&posted, "/office/messages");
    if posted.get("how") == "forgive" {
        let address = posted.get("address").to_owned();
        outbox::forgive(&at.app.desk, &at.staff, address).await?;
        return Ok(at.done(&back, "The address is written to again."));
    }
    let how = match posted.get("how") {
        "now" => Steer::Now,
        "stop" => Steer::Stop,
        _ => {
            let house = at.app.desk.house().await?;
            let mut form = crate::parts::fields::form(&posted);
            match form.instant("at", &house.zone) {
                Some(minute) => Steer::At(minute),
                None => return Ok(at.done(&back, NO_MINUTE)),
            }
        }
    };
    let asked = ids.len();
    let done = match outbox::steer(&at.app.desk, &at.staff, ids, how).await {
        Err(DeskError::Form(_)) => return Ok(at.done(&back, NO_MINUTE)),
        done => done?,
    };
    let act = match how {
        Steer::Now => "go now",
        Steer::Stop => "stopped",
        Steer::At(_) => "given another minute",
    };
    let said = match (done, asked) {
        (0, 0) => "Nothing was chosen. Tick the messages first.".to_owned(),
        (0, _) => "Nothing was changed: it has gone out already.".into(),
        (1, 1) => format!("Done: {act}."),
        (n, m) => format!("{n} of {m}: {act}."),
    };
    Ok(at.done(&back, said))
}
