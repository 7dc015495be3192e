//! A date online: where it happens, what its room can do, who came by which way, the recording.

use askama::Template;
use axum::extract::Path;
use axum::response::Response;
use jiff::Timestamp;
use matricle_core::door::foyer::{Beside, RoomKind};
use matricle_core::forms::field::{Kind, Locale};
use matricle_core::people::staff::Right;
use matricle_core::{AttendeeId, DateId, SessionId};
use matricle_desk::door::online as on;
use matricle_desk::door::online::{self, OnlineSheet, RoomLine};
use matricle_formats::words;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::office::tab::answer;
use crate::page::Frame;
use crate::parts::fields::{Fields, form};

/// The room, for whoever leads the date.
#[derive(Template)]
#[template(path = "office/online_lead.html")]
struct Lead {
    f: Frame,
    to: String,
    passcode: String,
    back: String,
}

/// Somebody who joins online.
struct OnlineRow {
    attendee: i64,
    name: String,
    came: String,
    /// What the room reports.
    room: String,
    /// What is known here and there is not the same.
    differs: bool,
    /// Their link was used in so many browsers.
    browsers: u32,
}

#[derive(Template)]
#[template(path = "office/online.html")]
struct Page {
    f: Frame,
    date: i64,
    title: String,
    event_href: String,
    when: String,
    state: &'static str,
    one_room: bool,
    /// Any session has a room that is known.
    session_rooms: bool,
    service: bool,
    rows: Vec<OnlineRow>,
    is_over: bool,
    /// The one count: in all, by which way how many.
    counts: Vec<(String, u32)>,
    d: Fields,
    /// Its sessions: key, what it is; and whether whoever leads it can go in.
    sessions: Vec<(i64, String, bool)>,
    /// So many other dates are to come.
    others: usize,
    may: bool,
    may_change: bool,
}

fn row(line: &RoomLine, moment: &impl Fn(Timestamp) -> String) -> OnlineRow {
    let (room, differs) = match &line.beside {
        None => (String::new(), false),
        Some(Beside::NotSeen) => ("the room has not seen them".into(), true),
        Some(Beside::Stayed { came_at, left_at, minutes }) => {
            let until = left_at.map_or("there now".into(), |at| format!("until {}", moment(at)));
            (format!("in the room from {}, {until}, {minutes} min", moment(*came_at)), false)
        }
        Some(Beside::AnotherWay { came_at, minutes }) => (
            format!("in the room from {}, {minutes} min, not by their link", moment(*came_at)),
            true,
        ),
    };
    OnlineRow {
        attendee: line.attendee.0,
        name: if line.name.is_empty() { "–".into() } else { line.name.clone() },
        came: line
            .came
            .as_ref()
            .map_or_else(String::new, |(at, door)| format!("came {}, {door}", moment(*at))),
        room,
        differs,
        browsers: line.goes.1,
    }
}

fn fields(sheet: &OnlineSheet) -> Fields {
    let mut how = sheet.how.clone();
    let locale = Locale { zone: sheet.date.span.zone.clone(), ..Locale::default() };
    let mut d = Fields::filled(&locale, |f| on::form(f, &mut how));
    for (session, own) in &sheet.sessions {
        let Some(own) = own else { continue };
        let id = session.facts.id;
        d.set(&format!("part_{id}"), own.kind.word().into());
        d.set(&format!("partlink_{id}"), own.link.clone());
        d.set(&format!("partcode_{id}"), own.passcode.clone());
    }
    d
}

async fn page(at: &Clerk, date: i64, typed: Option<Fields>) -> Result<Response, WebError> {
    let sheet = online::sheet(&at.app.desk, &at.staff, DateId(date)).await?;
    let house = at.app.desk.house().await?;
    let now = at.app.desk.clock.now();
    let span = &sheet.date.span;
    let moment = |when| words::moment(when, &span.zone, now);
    let today = words::local(now, &span.zone).date();
    let mut counts: Vec<(String, u32)> = online::ways(&sheet.people).into_iter().collect();
    if sheet.came_here > 0 {
        counts.push(("at the place".into(), sheet.came_here));
    }
    let is_over = now >= span.ends_at;
    let state = match (sheet.how.room, sheet.is_known) {
        _ if is_over => "It is over.",
        (_, true) => "Its room is known.",
        (RoomKind::Made | RoomKind::Shared, false) => {
            "The room is made on the day before; until then the links of attendees say so."
        }
        (_, false) => "Its room is not known yet: the links of attendees wait for it.",
    };
    let wrong = typed.as_ref().map_or(0, Fields::count);
    answer(
        wrong,
        &Page {
            f: at.frame(format!("Online: {}", sheet.event.title), &house.name).in_room("doors"),
            date,
            title: sheet.event.title.clone(),
            event_href: format!("/office/events/{}", sheet.event.id),
            when: words::span(span.starts, span.ends, today),
            state,
            one_room: sheet.one_room,
            session_rooms: sheet.sessions.iter().any(|(_, own)| own.is_some()) && !is_over,
            service: sheet.service,
            is_over,
            rows: sheet.people.iter().map(|l| row(l, &moment)).collect(),
            counts,
            sessions: sheet
                .sessions
                .iter()
                .map(|(s, own)| {
                    let times = words::clock(s.span.starts);
                    let own = own.as_ref().is_some_and(|o| o.kind.is_made() || !o.link.is_empty());
                    (s.facts.id.0, format!("{times} {}", s.title), own)
                })
                .collect(),
            others: sheet.others,
            d: typed.unwrap_or_else(|| fields(&sheet)),
            may: at.staff.role.may(Right::PlanEvents),
            may_change: at.staff.role.may(Right::ChangeBookings),
        },
    )
}

/// `GET /office/dates/{id}/online`.
pub(crate) async fn show(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    page(&at, id, None).await
}

/// `POST /office/dates/{id}/online`: how it happens, or a new link for somebody.
pub(crate) async fn save(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let (desk, there) = (&at.app.desk, format!("/office/dates/{id}/online"));
    if let Ok(attendee) = posted.get("replace").parse().map(AttendeeId) {
        let name = online::replace_link(desk, &at.staff, DateId(id), attendee).await?;
        return Ok(at.done(&there, format!("{name} gets a new link; the old one opens nothing.")));
    }
    if posted.get("act") == "lead" {
        let session = posted.get("session").parse().ok().map(SessionId);
        let (to, passcode) = online::lead(desk, &at.staff, DateId(id), session).await?;
        let house = at.app.desk.house().await?;
        let f = at.frame("Online", &house.name).in_room("doors");
        return crate::page::html(&Lead { f, to, passcode, back: there });
    }
    let _alone = at.keeping().await;
    let now = fields(&online::sheet(desk, &at.staff, DateId(id)).await?);
    let posted = match posted.over(&now) {
        Ok(posted) => posted,
        Err(again) => return page(&at, id, Some(*again)).await,
    };
    match online::save(desk, &at.staff, DateId(id), form(&posted)).await {
        Ok(()) => Ok(at.done(&there, "How it happens online is kept.")),
        Err(error) => page(&at, id, Some(Fields::again(&posted, error)?)).await,
    }
}

impl Page {
    fn rooms(&self) -> Vec<(&'static str, &'static str)> {
        let offered =
            |word| self.service || RoomKind::from_word(word).is_some_and(|room| !room.is_made());
        let rooms = on::ROOM.kind.options();
        rooms.into_iter().filter(|(word, _)| offered(word)).collect()
    }

    fn for_others(&self) -> String {
        format!("The same for the {} other dates to come", self.others)
    }

    fn service(&self) -> &'static str {
        if self.service { "" } else { "No meeting-room service is set up, so rooms are links." }
    }
}
