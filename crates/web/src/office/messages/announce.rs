//! Announcements: chosen, looked at, sent, stopped and gone on with.

use askama::Template;
use axum::extract::{Path, Query};
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::EventId;
use matricle_core::people::staff::Right;
use matricle_desk::messages::announcements::{self, AsRead};
use matricle_formats::words;
use matricle_store::announcements::{Announcement, LISTED};
use serde::Deserialize;

use crate::asking::Posted;
use crate::error::WebError;
use crate::news::Undo;
use crate::office::Clerk;
use crate::office::messages::templates;
use crate::office::tab::{with_editor, word};
use crate::page::{Frame, html};
use crate::parts::fields::{Fields, form, wrong};

/// An announcement with how far it has got.
pub(crate) struct AnnouncementRow {
    id: i64,
    event: i64,
    title: String,
    subject: String,
    whom: String,
    made: String,
    sent: u32,
    left: u32,
    not: u32,
    of: u32,
    stopped: bool,
}

fn row(a: &Announcement, zone: &str, now: jiff::Timestamp) -> AnnouncementRow {
    AnnouncementRow {
        id: a.id,
        event: a.event.0,
        title: a.title.clone(),
        subject: a.subject.clone(),
        whom: a.whom.clone(),
        made: format!("{}, {}", words::moment(a.made_at, zone, now), a.who),
        sent: a.sent,
        left: a.left,
        not: a.not,
        of: (a.sent + a.left + a.not).max(1),
        stopped: a.stopped_at.is_some(),
    }
}

#[derive(Template)]
#[template(path = "messages/announcements.html")]
struct All {
    f: Frame,
    tab: &'static str,
    rows: Vec<AnnouncementRow>,
    listed: usize,
    may: bool,
    back: String,
}

/// `GET /office/messages/announcements`.
pub(crate) async fn all(at: Clerk) -> Result<Response, WebError> {
    let (house, all) = announcements::all(&at.app.desk, &at.staff).await?;
    let now = at.app.desk.clock.now();
    html(&All {
        f: at.frame("Announcements", &house.name).in_room("messages"),
        tab: "announcements",
        rows: all.iter().map(|a| row(a, &house.zone, now)).collect(),
        listed: LISTED,
        may: at.staff.role.may(Right::PlanEvents),
        back: "/office/messages/announcements".into(),
    })
}

/// So many readers stand on the page; all are counted.
const MOST_READERS: usize = 500;

/// What the address says.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct AnnounceQuery {
    /// Whom it is to begin with.
    #[serde(default)]
    to: String,
}

#[derive(Template)]
#[template(path = "messages/announce.html")]
struct Page {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    d: Fields,
    nonce: String,
    dates: Vec<(String, String)>,
    tickets: Vec<(String, String)>,
    gets: usize,
    sample: Vec<String>,
    /// Everybody who gets it, as far as they stand on the page: key, name and address.
    readers: Vec<(String, String)>,
    /// As one of them reads it, and which.
    read: Option<AsRead>,
    reader: String,
    /// What was just done.
    said: String,
    /// When it goes.
    goes: String,
    not: Vec<(String, &'static str)>,
    looked: bool,
    rows: Vec<AnnouncementRow>,
    listed: usize,
    may: bool,
    back: String,
}

/// The page as it is shown: to begin with, or looked at, with what was just done.
enum Shows {
    Form,
    Looked(String),
}

async fn page(at: &Clerk, id: i64, d: Fields, shows: Shows) -> Result<Response, WebError> {
    let (looked, said) = match shows {
        Shows::Form => (false, String::new()),
        Shows::Looked(said) => (true, said),
    };
    let now = at.app.desk.clock.now();
    let typed = matricle_core::forms::form::Form::new(
        d.all().map(|(n, v)| (n.to_owned(), v.to_owned())).collect(),
    );
    let chosen = announcements::chosen(&typed);
    let before = announcements::before(&at.app.desk, &at.staff, EventId(id), chosen).await?;
    let zone = &before.house.zone;
    let today = words::local(now, zone).date();
    let nonce = word();
    let count = d.count();
    // As the one who was chosen reads it, or the first.
    let whose = before.gets.iter().find(|to| to.reader == d.v("as")).or(before.gets.first());
    let reader = whose.map_or_else(String::new, |to| to.reader.clone());
    let read = match whose.filter(|_| looked) {
        Some(to) => {
            let (typed, to) = (typed.clone(), to.clone());
            announcements::as_read(&at.app.desk, &at.staff, EventId(id), typed, to).await?
        }
        None => None,
    };
    let read = read.map(|r| AsRead { html: templates::styled(&r.html, &nonce), ..r });
    let mut when = typed;
    let goes = when
        .instant("at", zone)
        .filter(|at| *at > now)
        .map_or_else(|| "at once".to_owned(), |at| words::moment(at, zone, now));
    let page = Page {
        f: at.frame(before.title.clone(), &before.house.name).in_room("events"),
        tab: "messages",
        id,
        bookings: before.bookings,
        title: before.title.clone(),
        nonce,
        dates: before
            .dates
            .iter()
            .map(|d| (d.id.to_string(), words::span(d.span.starts, d.span.ends, today)))
            .collect(),
        tickets: before.tickets.iter().map(|t| (t.0.to_string(), t.1.clone())).collect(),
        gets: before.gets.len(),
        sample: before.gets.iter().take(8).map(|t| format!("{} ({})", t.name, t.email)).collect(),
        readers: before
            .gets
            .iter()
            .take(MOST_READERS)
            .map(|t| (t.reader.clone(), format!("{} ({})", t.name, t.email)))
            .collect(),
        read,
        reader,
        said,
        goes,
        not: before.not.iter().filter_map(|t| Some((t.name.clone(), t.not?.words()))).collect(),
        looked,
        rows: before.all.iter().map(|a| row(a, zone, now)).collect(),
        listed: LISTED,
        may: at.staff.role.may(Right::PlanEvents),
        back: format!("/office/events/{id}/announce"),
        d,
    };
    with_editor(at, &page.nonce, count, &page)
}

/// `GET /office/events/{id}/announce`.
pub(crate) async fn show(
    at: Clerk,
    Path(id): Path<i64>,
    Query(AnnounceQuery { to }): Query<AnnounceQuery>,
) -> Result<Response, WebError> {
    if to == "silent" {
        return page(&at, id, Fields::of([("silent", "yes".to_owned())]), Shows::Form).await;
    }
    let now = at.app.desk.clock.now();
    let none = announcements::chosen(&matricle_core::forms::form::Form::default());
    let before = announcements::before(&at.app.desk, &at.staff, EventId(id), none).await?;
    let mut d = Fields::of([("confirmed", "yes".to_owned())]);
    for date in before.dates.iter().filter(|d| d.span.ends_at > now && d.called_off.is_empty()) {
        d.add("date", date.id.to_string());
    }
    page(&at, id, d, Shows::Form).await
}

/// `POST /office/events/{id}/announce`: looked at first, then sent.
pub(crate) async fn send(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let to = format!("/office/events/{id}/announce");
    if posted.get("act") == "test" {
        let sent = announcements::test(&at.app.desk, &at.staff, EventId(id), form(&posted)).await;
        let (d, said) = match sent {
            Ok((address, None)) => (
                Fields::posted(&posted, &[]),
                format!("A test is on its way to {address}, and to nobody else."),
            ),
            Ok((address, Some(why))) => (
                Fields::posted(&posted, &[]),
                format!("No test went to {address}: {}.", why.words()),
            ),
            Err(error) => (Fields::posted(&posted, &wrong(error)?), String::new()),
        };
        return page(&at, id, d, Shows::Looked(said)).await;
    }
    if posted.get("act") != "send" {
        let d = Fields::posted(&posted, &[]);
        return page(&at, id, d, Shows::Looked(String::new())).await;
    }
    // Sent a second time, it is on its way already.
    if !at.app.guards.is_first(&to, &posted) {
        return Ok(Redirect::to(&to).into_response());
    }
    match announcements::send(&at.app.desk, &at.staff, EventId(id), form(&posted)).await {
        Ok((announcement, count)) => {
            let undo = Undo::new(
                "/office/messages/announcements/stop",
                &[("announcement", &announcement.to_string()), ("act", "stop"), ("back", &to)],
            );
            let people = words::people(count);
            Ok(at.done_but(&to, format!("On its way to {people}."), undo))
        }
        Err(error) => {
            at.app.guards.not_done(&to, &posted);
            let again = Fields::posted(&posted, &wrong(error)?);
            page(&at, id, again, Shows::Looked(String::new())).await
        }
    }
}

/// `POST /office/messages/announcements/stop`: stops one, or goes on with it.
pub(crate) async fn stop(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let id = posted.get("announcement").parse().unwrap_or(0);
    let stop = posted.get("act") == "stop";
    announcements::stop(&at.app.desk, &at.staff, id, stop).await?;
    let to = super::back_to(&posted, "/office/messages/announcements");
    let undo = Undo::new(
        "/office/messages/announcements/stop",
        &[
            ("announcement", &id.to_string()),
            ("act", if stop { "on" } else { "stop" }),
            ("back", &to),
        ],
    );
    Ok(at.done_but(
        &to,
        if stop { "Stopped; what has not gone out waits." } else { "It goes on." },
        undo,
    ))
}
