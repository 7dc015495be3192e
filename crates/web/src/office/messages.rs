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
use crate::parts::files::list_file;
use crate::parts::pager::{self, Pager};

/// A message in a list.
pub(crate) struct Row {
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
    pub(crate) when: String,
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

pub(crate) fn row(found: &Found, zone: &str, now: Timestamp) -> Row {
    let m = &found.message;
    let when = words::moment(m.sent_at.unwrap_or(m.planned_at), zone, now);
    let why = match (&m.last_error, m.state) {
        (Some(error), MessageState::Planned | MessageState::Failed) => error.clone(),
        _ if m.state == MessageState::Sent => m.answer.clone(),
        _ => m.reason.clone(),
    };
    Row {
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
        when,
        is_open: outbox::is_open(m),
    }
}

#[derive(Debug, Default, Deserialize)]
pub(crate) struct Asked {
    #[serde(default)]
    q: String,
    #[serde(default)]
    event: Option<i64>,
    #[serde(default)]
    page: usize,
    /// Which list, where the address has no room for it.
    #[serde(default)]
    tab: String,
    #[serde(default)]
    day: String,
    #[serde(default)]
    sort: String,
    #[serde(default)]
    back: Option<String>,
}

/// The head of a column of a list, and where it leads: the order by it, or the other way round.
struct Head {
    name: &'static str,
    href: String,
    /// How the list is ordered by it now, as `aria-sort` says it; empty for not.
    now: &'static str,
}

/// The heads of the columns that a list can be ordered by.
fn heads(address: &str, look: &Look) -> Vec<Head> {
    Sort::ALL
        .into_iter()
        .map(|sort| {
            let is_now = look.sort == sort;
            let back = if is_now && !look.backwards { "&back=1" } else { "" };
            Head {
                name: match sort {
                    Sort::Minute => "When",
                    Sort::Message => "Message",
                    Sort::Event => "Event",
                    Sort::Name => "Booker",
                    Sort::To => "To",
                    Sort::Way => "Way",
                    Sort::State => "State",
                },
                href: format!("{address}sort={}{back}", sort.word()),
                now: match (is_now, look.backwards) {
                    (false, _) => "",
                    (true, false) => "ascending",
                    (true, true) => "descending",
                },
            }
        })
        .collect()
}

#[derive(Template)]
#[template(path = "messages/list.html")]
struct List {
    f: Frame,
    tab: &'static str,
    title: &'static str,
    says: &'static str,
    asked: Asked,
    rows: Vec<Row>,
    count: u32,
    left: u32,
    pager: Pager,
    heads: Vec<Head>,
    may: bool,
}

/// What a tab of the room shows.
fn look(
    tab: &str,
    asked: &Asked,
    now: Timestamp,
) -> Option<(&'static str, &'static str, &'static str, Look)> {
    let words = asked.q.split_whitespace().map(String::from).collect();
    let sort = Sort::from_word(&asked.sort);
    let base = Look {
        event: asked.event.map(EventId),
        words,
        sort: sort.unwrap_or_default(),
        backwards: asked.back.is_some(),
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
async fn on_day(at: &Clerk, asked: &Asked, look: &mut Look) -> Result<(), WebError> {
    let Ok(day) = asked.day.parse::<jiff::civil::Date>() else { return Ok(()) };
    let zone = words::zone(&at.app.desk.house().await?.zone);
    let midnight = |day: jiff::civil::Date| day.to_zoned_datetime(zone.clone()).ok();
    if let (Some(from), Some(until)) = (midnight(day), day.tomorrow().ok().and_then(midnight)) {
        (look.from, look.until) = (Some(from.timestamp()), Some(until.timestamp()));
    }
    Ok(())
}

async fn list(at: Clerk, tab: &str, asked: Asked) -> Result<Response, WebError> {
    let now = at.app.desk.clock.now();
    let (name, title, says, mut look) = look(tab, &asked, now).ok_or(DeskError::NotFound)?;
    on_day(&at, &asked, &mut look).await?;
    let skip = u32::try_from(asked.page.saturating_mul(pager::ROWS)).unwrap_or(u32::MAX);
    let most = u32::try_from(pager::ROWS).unwrap_or(30);
    let found = outbox::list(&at.app.desk, &at.staff, look.clone(), skip, most).await?;
    let zone = found.house.zone.clone();
    let mut address = match tab {
        "" => "/office/messages?".to_owned(),
        tab => format!("/office/messages/{tab}?"),
    };
    if !asked.q.is_empty() {
        address.push_str(&format!("q={}&", crate::address::encode(&asked.q)));
    }
    if !asked.day.is_empty() {
        address.push_str(&format!("day={}&", crate::address::encode(&asked.day)));
    }
    if let Some(event) = asked.event {
        address.push_str(&format!("event={event}&"));
    }
    let heads = heads(&address, &look);
    if !asked.sort.is_empty() {
        address.push_str(&format!("sort={}&", look.sort.word()));
    }
    if asked.back.is_some() {
        address.push_str("back=1&");
    }
    html(&List {
        f: at.frame(title, &found.house.name).in_room("messages"),
        tab: name,
        title,
        says,
        rows: found.rows.iter().map(|r| row(r, &zone, now)).collect(),
        count: found.count,
        left: found.left,
        pager: Pager::of(
            usize::try_from(found.count).unwrap_or(usize::MAX),
            asked.page,
            pager::ROWS,
            &address,
        ),
        heads,
        may: at.staff.role.may(Right::ChangeBookings),
        asked,
    })
}

/// `GET /office/messages`: the next hours.
pub(crate) async fn next(at: Clerk, Query(asked): Query<Asked>) -> Result<Response, WebError> {
    list(at, "", asked).await
}

/// `GET /office/messages/{tab}`: a list, or one message by its key.
pub(crate) async fn tab(
    at: Clerk,
    Path(tab): Path<String>,
    Query(asked): Query<Asked>,
) -> Result<Response, WebError> {
    match tab.parse() {
        Ok(id) => one(at, MessageId(id)).await,
        Err(_) => list(at, &tab, asked).await,
    }
}

/// `GET /office/messages.csv`, `.xlsx`: all that fits, whole.
pub(crate) async fn file(
    at: Clerk,
    uri: Uri,
    Query(asked): Query<Asked>,
) -> Result<Response, WebError> {
    let now = at.app.desk.clock.now();
    let tab = if asked.tab == "next" { "" } else { &asked.tab };
    let (_, _, _, mut look) = look(tab, &asked, now).ok_or(DeskError::NotFound)?;
    on_day(&at, &asked, &mut look).await?;
    let found = outbox::list(&at.app.desk, &at.staff, look, 0, u32::MAX >> 1).await?;
    let zone = &found.house.zone;
    let rows: Vec<Vec<Cell>> = found
        .rows
        .iter()
        .map(|f| {
            let r = row(f, zone, now);
            let at = words::local(f.message.sent_at.unwrap_or(f.message.planned_at), zone);
            let texts = [
                r.state.into(),
                r.what,
                r.about,
                f.reference.clone(),
                r.name,
                r.way.into(),
                r.to,
                r.why,
            ];
            std::iter::once(Cell::At(at.datetime())).chain(texts.map(Cell::Text)).collect()
        })
        .collect();
    let head = ["Minute", "State", "Message", "Event", "Booking", "Booker", "Way", "To", "Why"];
    list_file(uri.path(), "Messages", &head, &rows)
}

#[derive(Template)]
#[template(path = "messages/one.html")]
struct One {
    f: Frame,
    tab: &'static str,
    row: Row,
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
        row: row(&shown.found, zone, now),
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
