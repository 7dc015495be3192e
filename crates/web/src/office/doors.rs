//! Doors and devices: who joins, what holds at the doors of a date, what is to be looked into,
//! how people come.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::{IntoResponse, Redirect, Response};
use jiff::Timestamp;
use matricle_core::forms::field::Locale;
use matricle_core::people::staff::Right;
use matricle_core::{DateId, DeviceId};
use matricle_desk::DeskError;
use matricle_desk::door::papers::at_the_door;
use matricle_desk::door::report::{About, ReportLine};
use matricle_desk::door::set_up::{self, MOST_DOORS, SetUp};
use matricle_desk::door::{devices, flow as flows, report};
use matricle_formats::{barcode, words};
use matricle_store::devices::Device;
use matricle_store::door::AtDoors;

use crate::App;
use crate::asking::Posted;
use crate::error::WebError;
use crate::live;
use crate::news::Undo;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form};
use crate::parts::files::square_svg;
use crate::parts::flow;
use crate::wording;

/// A device in the list.
struct DeviceRow {
    id: i64,
    name: String,
    door: String,
    dates: String,
    state: &'static str,
    seen: String,
    roster: String,
    to_send: u32,
    ends: String,
    money: bool,
    answers: String,
    may_send_away: bool,
}

/// A date with its door.
struct DateRow {
    id: i64,
    title: String,
    when: String,
    open: bool,
}

#[derive(Template)]
#[template(path = "office/doors.html")]
struct Doors {
    f: Frame,
    dates: Vec<DateRow>,
    devices: Vec<DeviceRow>,
    join: Fields,
    may_let_join: bool,
}

fn device_row(
    device: &Device,
    titles: &[(DateId, String)],
    zone: &str,
    now: Timestamp,
) -> DeviceRow {
    let near = |at: Timestamp| {
        let (at, today) = (words::local(at, zone), words::local(now, zone).date());
        match at.date() == today {
            true => words::clock(at.datetime()),
            false => {
                format!("{}, {}", words::near_day(at.date(), today), words::clock(at.datetime()))
            }
        }
    };
    let state = match (device.joined_at, device.grant.sent_away_at, device.wiped_at) {
        (_, Some(_), Some(_)) => "sent away, keeps nothing",
        (_, Some(_), None) => "sent away, has not heard of it yet",
        (None, None, _) => "waits to join",
        (Some(_), None, _) if now >= device.grant.ends_at => "over",
        (Some(_), None, _) => "joined",
    };
    let title = |id: &DateId| titles.iter().find(|t| t.0 == *id).map(|t| t.1.clone());
    DeviceRow {
        id: device.id.0,
        name: device.name.clone(),
        door: device.door.clone(),
        dates: match device.grant.dates.as_slice() {
            [] => "all that are on".into(),
            ids => ids
                .iter()
                .map(|id| title(id).unwrap_or("another day".into()))
                .collect::<Vec<_>>()
                .join(", "),
        },
        state,
        seen: device.seen_at.map_or_else(String::new, near),
        roster: device.roster_at.map_or_else(String::new, near),
        to_send: device.to_send,
        ends: near(device.grant.ends_at),
        money: device.grant.takes_money,
        answers: device.made_by_name.clone(),
        may_send_away: device.grant.sent_away_at.is_none() && now < device.grant.ends_at,
    }
}

async fn doors_page(at: &Clerk, join: Fields) -> Result<Doors, WebError> {
    let house = at.app.desk.house().await?;
    let now = at.app.desk.clock.now();
    let near = set_up::near(&at.app.desk, &at.staff).await?;
    let may_let_join = at.staff.role.may(Right::ChangeBookings);
    let all = match may_let_join {
        true => devices::all(&at.app.desk, &at.staff).await?,
        false => Vec::new(),
    };
    let titles: Vec<(DateId, String)> =
        near.iter().map(|d| (d.date.id, d.event.title.clone())).collect();
    let today = words::local(now, &house.zone).date();
    let dates = near
        .iter()
        .map(|d| DateRow {
            id: d.date.id.0,
            title: d.event.title.clone(),
            when: words::span(d.date.span.starts, d.date.span.ends, today),
            open: matricle_core::door::is_its_day(&d.date.span, now),
        })
        .collect();
    let devices = all.iter().map(|d| device_row(d, &titles, &house.zone, now)).collect();
    Ok(Doors {
        f: at.frame("Doors", &house.name).in_room("doors"),
        dates,
        devices,
        join,
        may_let_join,
    })
}

/// `GET /office/doors`: the doors of these days, and the devices.
pub(crate) async fn show(at: Clerk) -> Result<Response, WebError> {
    html(&doors_page(&at, Fields::default()).await?)
}

#[derive(Template)]
#[template(path = "office/letters.html")]
struct LettersPage {
    f: Frame,
    name: String,
    letters: String,
    address: String,
    qr: String,
    until: String,
    ends: String,
}

/// `POST /office/doors/join`: letters with which a device joins; they are shown this once.
pub(crate) async fn join(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    if !at.app.guards.is_first("/office/doors/join", &posted) {
        return Ok(at.done(
            "/office/doors",
            "These letters were shown before. Let the device join anew for other ones.",
        ));
    }
    let mut sent = Vec::new();
    let dates: Vec<&str> = posted.starting("date_").map(|(id, _)| id).collect();
    sent.extend(posted.0.iter().filter(|(n, _)| !n.starts_with("date_")).cloned());
    sent.push(("dates".into(), dates.join(",")));
    let letters = match devices::let_join(
        &at.app.desk,
        &at.staff,
        matricle_core::forms::form::Form::new(sent),
    )
    .await
    {
        Ok(letters) => letters,
        Err(error) => {
            let page = doors_page(&at, Fields::again(&posted, error)?).await?;
            return refused(axum::http::StatusCode::UNPROCESSABLE_ENTITY, &page);
        }
    };
    let house = at.app.desk.house().await?;
    let clock = |when: Timestamp| words::clock(words::local(when, &house.zone).datetime());
    let ends = words::local(letters.ends_at, &house.zone);
    let address =
        format!("{}/door/join?letters={}", at.app.desk.public_url, letters.letters.as_str());
    let square = barcode::text_qr(&address);
    html(&LettersPage {
        f: at.frame("A device joins", &house.name).in_room("doors"),
        name: letters.name,
        letters: letters.letters.to_string(),
        qr: square.map_or_else(String::new, |s| {
            square_svg(&s, "The address with the letters, to be scanned")
        }),
        address: format!("{}/door/join", at.app.desk.public_url),
        until: clock(letters.until),
        ends: format!(
            "{}, {}",
            words::near_day(ends.date(), words::local(at.app.desk.clock.now(), &house.zone).date()),
            words::clock(ends.datetime())
        ),
    })
}

/// `POST /office/doors/devices/{id}/away`.
pub(crate) async fn away(
    at: Clerk,
    Path(id): Path<i64>,
    _posted: Posted,
) -> Result<Response, WebError> {
    let name = devices::send_away(&at.app.desk, &at.staff, DeviceId(id)).await?;
    Ok(at.done("/office/doors", format!("{name} is sent away: it may do nothing any more, and wipes what it keeps as soon as it hears of it.")))
}

/// A line of the report.
struct LineRow {
    scan: i64,
    at: String,
    late: String,
    name: String,
    door: String,
    what: String,
    looked: String,
}

fn line_row(line: &ReportLine, house: &matricle_store::house::House) -> LineRow {
    let clock = |at: Timestamp| words::clock(words::local(at, &house.zone).datetime());
    LineRow {
        scan: line.scan,
        at: clock(line.at),
        late: line.arrived_at.map_or_else(String::new, |at| format!("arrived {}", clock(at))),
        name: if line.name.is_empty() { "somebody".into() } else { line.name.clone() },
        door: line.door.clone(),
        what: match &line.about {
            About::Twice(first, second) => wording::twice(first, second, &house.zone),
            About::Found(found) => wording::line(found, house.currency),
        },
        looked: line
            .looked
            .as_ref()
            .map_or_else(String::new, |(at, who)| format!("{who}, {}", clock(*at))),
    }
}

/// A door as its fields show it.
struct DoorRow {
    n: usize,
    name: String,
    wrong: String,
    tickets: Vec<(i64, String, bool)>,
    /// Rooms it may let into, and whether it does.
    rooms: Vec<(String, bool)>,
    wrong_room: String,
}

#[derive(Template)]
#[template(path = "office/door.html")]
struct DoorOf {
    /// It happens online, or that too.
    online: bool,
    f: Frame,
    id: i64,
    event: i64,
    title: String,
    when: String,
    d: Fields,
    doors: Vec<DoorRow>,
    inside: u32,
    most: Option<u32>,
    lifted: Option<(String, String)>,
    may_change: bool,
    lines: Vec<LineRow>,
    open_lines: usize,
    flow: String,
    opened_by: Option<String>,
    /// It is open now.
    open: bool,
    closed: String,
    /// Its sessions: how it stands, the room, how many came.
    sessions: Vec<(String, String, u32)>,
    /// On which badges can be printed at the door.
    badge_sheets: Vec<(String, String)>,
}

fn fields_of(set: &SetUp) -> Fields {
    let mut at = AtDoors {
        again: set.doorway.again,
        most_inside: set.doorway.most_inside,
        give_up_minutes: set.doorway.give_up_minutes,
        free_after_minutes: set.doorway.free_after_minutes,
        badge_sheet: set.doorway.badge_sheet.clone(),
        doors: Vec::new(),
    };
    let mut d = Fields::filled(&Locale::default(), |f| set_up::form(f, &mut at));
    for (n, door) in set.doors.iter().enumerate() {
        d.add(&format!("name_{n}"), door.name.clone());
        for ticket in &door.tickets {
            d.add(&format!("tickets_{n}"), ticket.to_string());
        }
        d.add(&format!("room_{n}"), door.room.clone());
    }
    d
}

async fn door_page(at: &Clerk, id: i64, d: Option<Fields>, why: &str) -> Result<DoorOf, WebError> {
    let (desk, date) = (&at.app.desk, DateId(id));
    let set = set_up::set_up(desk, &at.staff, date).await?;
    let house = desk.house().await?;
    let lines = report::report(desk, &at.staff, date).await?;
    let told = flows::of_date(desk, &at.staff, date).await?;
    let mut d = d.unwrap_or_else(|| fields_of(&set));
    if !why.is_empty() {
        d.say("why", why.to_owned());
    }
    let rows = set.doors.len().max(1) + 1;
    let doors = (0..rows.min(MOST_DOORS))
        .map(|n| {
            let (name, tickets, room) =
                (format!("name_{n}"), format!("tickets_{n}"), format!("room_{n}"));
            DoorRow {
                n,
                name: d.v(&name).to_owned(),
                wrong: d.w(&name).to_owned(),
                tickets: set
                    .tickets
                    .iter()
                    .map(|(id, name)| (id.0, name.clone(), d.is(&tickets, &id.to_string())))
                    .collect(),
                rooms: set
                    .rooms()
                    .into_iter()
                    .map(|name| (name.to_owned(), d.is(&room, name)))
                    .collect(),
                wrong_room: d.w(&room).to_owned(),
            }
        })
        .collect();
    let now = desk.clock.now();
    let today = words::local(now, &house.zone).date();
    let span = &set.date.span;
    let sessions = set
        .sessions
        .iter()
        .map(|s| {
            let stands = wording::session_stands(&s.session, &s.room, &house.zone, now);
            (stands, s.session.room.clone(), s.came)
        })
        .collect();
    let clock = |at: Timestamp| words::clock(words::local(at, &house.zone).datetime());
    Ok(DoorOf {
        online: set.event.format != matricle_store::events::Format::InPerson,
        f: at.frame(format!("Door: {}", set.event.title), &house.name).in_room("doors"),
        id,
        event: set.event.id.0,
        title: set.event.title.clone(),
        when: words::span(span.starts, span.ends, today),
        doors,
        inside: set.doorway.inside,
        most: set.doorway.most_inside,
        lifted: set.doorway.lifted.clone(),
        may_change: at.staff.role.may(Right::PlanEvents),
        open_lines: lines.iter().filter(|l| l.looked.is_none()).count(),
        lines: lines.iter().map(|l| line_row(l, &house)).collect(),
        flow: flow::part(&told, span.starts_at, &house.zone),
        open: matricle_core::door::is_open(span, set.doorway.opened_by.is_some(), desk.clock.now()),
        opened_by: set.doorway.opened_by.clone(),
        closed: set.doorway.closed.as_ref().map_or_else(String::new, |(at, who)| {
            format!("{who} closed the list at {}", clock(*at))
        }),
        sessions,
        badge_sheets: at_the_door().map(|name| (name.to_owned(), name.to_owned())).collect(),
        d,
    })
}

/// `GET /office/doors/{date}`: the door of a date.
pub(crate) async fn of_date(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    html(&door_page(&at, id, None, "").await?)
}

/// `POST /office/doors/{date}`: what holds at its doors.
pub(crate) async fn keep(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let _alone = at.keeping().await;
    let now = fields_of(&set_up::set_up(&at.app.desk, &at.staff, DateId(id)).await?);
    let posted = match posted.over(&now) {
        Ok(posted) => posted,
        Err(again) => {
            let page = door_page(&at, id, Some(*again), "").await?;
            return refused(axum::http::StatusCode::UNPROCESSABLE_ENTITY, &page);
        }
    };
    match set_up::keep(&at.app.desk, &at.staff, DateId(id), form(&posted)).await {
        Ok(()) => Ok(at.done(
            &format!("/office/doors/{id}"),
            "The doors are set. Devices hear of it within a minute or two.",
        )),
        Err(error) => {
            let fields = Fields::again(&posted, error)?;
            let page = door_page(&at, id, Some(fields), "").await?;
            refused(axum::http::StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
    }
}

/// `POST /office/doors/{date}/lift`: the limit is lifted, or holds again.
pub(crate) async fn lift(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let (lifted, to) = (posted.get("act") == "lift", format!("/office/doors/{id}"));
    match set_up::lift(&at.app.desk, &at.staff, DateId(id), lifted, form(&posted)).await {
        Ok(()) if lifted => {
            let undo = Undo::new(format!("{to}/lift"), &[("act", "hold")]);
            Ok(at.done_but(&to, "The limit is lifted: the doors go on letting in.", undo))
        }
        Ok(()) => Ok(at.done(&to, "The limit holds again.")),
        Err(DeskError::Form(_)) => {
            let page = door_page(&at, id, None, "Say why: everybody at the doors sees it.").await?;
            refused(axum::http::StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
        Err(other) => Err(other.into()),
    }
}

/// `POST /office/doors/{date}/looked`: a line of the report was looked into, or not.
pub(crate) async fn looked(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let scan = posted.get("scan").to_owned();
    let done = posted.get("act") != "again";
    let number = scan.parse().map_err(|_| DeskError::NotFound)?;
    report::look_into(&at.app.desk, &at.staff, number, done).await?;
    let to = format!("/office/doors/{id}");
    if !done {
        return Ok(at.done(&to, "It is to be looked into again."));
    }
    let undo = Undo::new(format!("{to}/looked"), &[("scan", &scan), ("act", "again")]);
    Ok(at.done_but(&to, "Looked into.", undo))
}

/// `GET /office/doors/{date}/live`: the flow, as it changes.
pub(crate) async fn live_flow(
    State(app): State<App>,
    at: Clerk,
    Path(id): Path<i64>,
    headers: axum::http::HeaderMap,
) -> Result<Response, WebError> {
    let date = DateId(id);
    let set = set_up::set_up(&app.desk, &at.staff, date).await?;
    let house = app.desk.house().await?;
    let (desk, staff, span, zone) = (app.desk.clone(), at.staff.clone(), set.date.span, house.zone);
    let viewer = live::Viewer::of(&headers, &staff);
    Ok(live::stream(&app, viewer, vec![date], move || {
        let (desk, staff, span, zone) = (desk.clone(), staff.clone(), span.clone(), zone.clone());
        async move { Ok(flow::part(&flows::of_date(&desk, &staff, date).await?, span.starts_at, &zone)) }
    }))
}

/// `GET /office/dates/{id}/door`, where a form was sent to: on to the page of the door.
pub(crate) async fn old(Path(id): Path<i64>) -> Response {
    Redirect::to(&format!("/office/doors/{id}")).into_response()
}
