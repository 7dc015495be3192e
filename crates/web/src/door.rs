//! The check-in face.

mod at;
mod hall;
mod joining;
mod keeping;
mod scanner;
mod verdict;
mod walking;

use askama::Template;
use axum::Router;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::Timestamp;
use matricle_core::door::Verdict;
use matricle_core::door::passages::Way;
use matricle_core::people::staff::Right;
use matricle_core::words::codes::{Reading, read};
use matricle_core::{AttendeeId, DateId};
use matricle_desk::door::{Board, Device, Name, Outcome, Shown, Volunteer, With};
use matricle_desk::{DeskError, door as desk_door, random_bytes};
use matricle_formats::words;
use serde::Deserialize;

use crate::asking::{Part, Posted, Visitor};
use crate::door::at::AtDoor;
use crate::door::verdict::{VerdictPart, VerdictRow, class, log_row, verdict_part};
use crate::error::WebError;
use crate::page::{Face, Frame, html};
use crate::parts::rows::{DateRow, date_row};
use crate::parts::strip;
use crate::{App, cookies, live, wording};

#[derive(Template)]
#[template(path = "door/dates.html")]
struct Dates {
    f: Frame,
    day: String,
    rows: Vec<DateRow>,
}

/// The frame of a page of the door: around somebody who has signed in, or around a device.
fn frame(
    app: &App,
    title: impl Into<String>,
    house: &str,
    visitor: &Visitor,
    volunteer: &Volunteer,
) -> Frame {
    let staff = match volunteer {
        Volunteer::Staff(staff) => Some(staff),
        Volunteer::Device(_) => None,
    };
    let mut f = Frame::new(app, Face::Door, title, house, visitor, staff);
    if let Volunteer::Device(device) = volunteer {
        f.device = Some(device.name.clone());
    }
    f
}

/// Whether all dates are asked for, though there is one.
#[derive(Debug, Deserialize)]
pub(crate) struct All {
    all: Option<String>,
}

/// `GET /door`: today's dates, one tap each; with one date there is nothing to choose.
pub(crate) async fn dates(
    State(app): State<App>,
    Query(all): Query<All>,
    visitor: Visitor,
    AtDoor(volunteer): AtDoor,
) -> Result<Response, WebError> {
    let house = app.desk.house().await?;
    let dates = desk_door::todays(&app.desk, &volunteer).await?;
    // With one date there is nothing to choose.
    if let ([one], false) = (dates.as_slice(), all.all.is_some()) {
        return Ok(Redirect::to(&format!("/door/{}", one.date.id)).into_response());
    }
    let now = app.desk.clock.now();
    let f = frame(&app, "Door", &house.name, &visitor, &volunteer);
    let day = words::long_day(words::local(now, &house.zone).date());
    html(&Dates { f, day, rows: dates.iter().map(|d| date_row(d, now)).collect() })
}

/// The count and the strip, kept up to date on every open door.
#[derive(Template)]
#[template(path = "door/board.html")]
struct BoardPart {
    strip: String,
    inside: u32,
    expected: u32,
    pace: String,
    /// How many may be inside, and whether that is near.
    limit: String,
    near: bool,
    /// What is on behind the doors of rooms: the door, how it stands there.
    rooms: Vec<(String, String)>,
}

fn board_part(board: &Board, now: Timestamp) -> BoardPart {
    let pace = if board.expected > 0 && board.inside >= board.expected {
        "everybody is in".into()
    } else if board.lately == 0 {
        "nobody in the last five minutes".into()
    } else {
        let tenths = board.lately * 10 / matricle_core::door::PACE_MINUTES;
        let pace = if tenths >= 10 { (tenths / 10).to_string() } else { format!("0.{tenths}") };
        let by = board.all_in_by.map_or_else(String::new, |at| {
            format!(
                " · all in by {} at this pace",
                words::clock(words::local(at, &board.zone).datetime())
            )
        });
        format!("{pace} a minute just now{by}")
    };
    BoardPart {
        strip: strip::svg(&board.sheet.main_pool(), board.inside, strip::DOOR),
        inside: board.inside,
        expected: board.expected,
        pace,
        limit: match (&board.lifted, board.most) {
            (_, None) => String::new(),
            (Some((who, why)), Some(most)) => format!("{who} lifted the limit of {most}: {why}"),
            (None, Some(most)) if board.inside >= most => {
                format!("Full: {most} may be inside. An organiser can lift that.")
            }
            (None, Some(most)) => format!("{most} may be inside, {} more", most - board.inside),
        },
        near: board.lifted.is_none()
            && board.most.is_some_and(|m| u64::from(board.inside) * 10 >= u64::from(m) * 9),
        rooms: board
            .rooms
            .iter()
            .map(|(door, on, room)| {
                (door.clone(), wording::session_stands(on, room, &board.zone, now))
            })
            .collect(),
    }
}

/// Somebody found by name.
struct NameRow {
    attendee: i64,
    name: String,
    ticket: String,
    booker: String,
    class: &'static str,
    state: String,
    can_admit: bool,
}

#[derive(Template)]
#[template(path = "door/names.html")]
struct Names {
    date: i64,
    token: String,
    typed: String,
    rows: Vec<NameRow>,
    keys: Vec<String>,
}

fn name_row(name: &Name, zone: &str) -> NameRow {
    let p = &name.person;
    let state = match &name.verdict {
        Verdict::ComeIn => String::new(),
        Verdict::AlreadyIn { at, door } => {
            format!("in since {}, {door}", words::clock(words::local(*at, zone).datetime()))
        }
        Verdict::ToPay { due } => format!("{due} to pay"),
        other => other.word().into(),
    };
    NameRow {
        attendee: p.facts.attendee.0,
        name: p.name.clone(),
        ticket: p.ticket.clone(),
        booker: if p.booker == p.name { String::new() } else { format!("with {}", p.booker) },
        class: class(&name.verdict),
        state,
        can_admit: name.verdict.admits(),
    }
}

/// A key for a scan sent by a page without script.
pub(crate) fn scan_key() -> String {
    URL_SAFE_NO_PAD.encode(random_bytes::<16>())
}

/// The parts of a door's page that are about its date and who came.
#[derive(Debug, Default)]
pub(crate) struct DoorParts {
    date: i64,
    title: String,
    when: String,
    place: String,
    door: String,
    key: String,
    /// It is another day than the date's own: when it is, and who opened the door.
    another_day: Option<(String, String)>,
    /// The doors of the date that have names.
    doors: Vec<String>,
    walk: String,
    board: String,
    log: Vec<String>,
    names: Option<String>,
    last: Option<i64>,
}

#[derive(Template)]
#[template(path = "door/door.html")]
pub(crate) struct Door {
    f: Frame,
    p: DoorParts,
    verdict: String,
    /// What each kind of verdict looks like, for a device that judges by itself.
    shapes: Vec<(&'static str, String)>,
    /// The demo's scanner types here.
    demo: bool,
}

impl Door {
    /// The page without anybody on it, which a device keeps.
    pub(crate) fn shell(f: Frame) -> Result<Self, askama::Error> {
        let door = "main door".to_owned();
        let p = DoorParts { door, ..DoorParts::default() };
        Ok(Self { f, p, verdict: ready().render()?, shapes: verdict::shapes()?, demo: false })
    }
}

/// What stands there before the first scan.
fn ready() -> VerdictPart {
    VerdictPart {
        class: "ready",
        word: "Ready".into(),
        ticket: "Hold a ticket to the scanner or the camera, or type a name or a booking.".into(),
        ..VerdictPart::default()
    }
}

async fn door_page(
    app: &App,
    visitor: &Visitor,
    volunteer: &Volunteer,
    date: DateId,
    door: String,
    now_told: Option<Outcome>,
    names: Option<String>,
) -> Result<Response, WebError> {
    let board = desk_door::board(&app.desk, volunteer, date).await?;
    let log = desk_door::log(&app.desk, volunteer, date).await?;
    let house = app.desk.house().await?;
    let title = format!("Door: {}", board.sheet.event.title);
    let f = frame(app, title, &house.name, visitor, volunteer);
    let zone = &house.zone;
    let part = |outcome: Outcome| verdict_part(&outcome, date, zone, &f.token);
    let verdict = now_told.map_or_else(ready, part).render()?;
    let rows = log
        .iter()
        .map(|o| log_row(o, date, zone, &f.token).render())
        .collect::<Result<Vec<_>, _>>()?;
    let last =
        log.iter().find(|o| !o.undone && o.door == door && (o.passed || o.took)).map(|o| o.scan);
    let span = &board.sheet.date.span;
    let today = words::local(app.desk.clock.now(), &span.zone).date();
    let parts = DoorParts {
        date: date.0,
        title: board.sheet.event.title.clone(),
        when: words::span(span.starts, span.ends, today),
        place: board.sheet.date.place(),
        door,
        key: scan_key(),
        another_day: board.opened_by.clone().map(|who| (words::long_day(span.starts.date()), who)),
        doors: board.doors.clone(),
        walk: walking::part(app, volunteer, date, &f.token).await?,
        board: board_part(&board, app.desk.clock.now()).render()?,
        log: rows,
        names,
        last,
    };
    let demo = !app.settings.demo.is_empty();
    html(&Door { f, p: parts, verdict, shapes: verdict::shapes()?, demo })
}

/// What the address of a door says.
#[derive(Debug, Deserialize)]
pub(crate) struct DoorQuery {
    /// A new name for the door of this device.
    door: Option<String>,
}

/// `GET /door/{date}`: the door of a date.
pub(crate) async fn show(
    State(app): State<App>,
    Path(date): Path<i64>,
    Query(DoorQuery { door }): Query<DoorQuery>,
    headers: HeaderMap,
    visitor: Visitor,
    AtDoor(volunteer): AtDoor,
) -> Result<Response, WebError> {
    if let Some(door) = door {
        let door: String = matricle_core::words::text::line(&door).chars().take(40).collect();
        let cookie = cookies::door_cookie(&app.settings, DateId(date), &door);
        let to = Redirect::to(&format!("/door/{date}"));
        return Ok(([(header::SET_COOKIE, cookie)], to).into_response());
    }
    let date = DateId(date);
    match door_page(
        &app,
        &visitor,
        &volunteer,
        date,
        cookies::door_name(&headers, date),
        None,
        None,
    )
    .await
    {
        Err(WebError::Desk(DeskError::DoorShut)) => shut(&app, &visitor, &volunteer, date).await,
        page => page,
    }
}

/// The door of another day: an organiser may open it.
#[derive(Template)]
#[template(path = "door/shut.html")]
struct Shut {
    f: Frame,
    date: i64,
    title: String,
    when: String,
    may_open: bool,
}

async fn shut(
    app: &App,
    visitor: &Visitor,
    volunteer: &Volunteer,
    date: DateId,
) -> Result<Response, WebError> {
    let (event, on) = desk_door::of_date(&app.desk, volunteer, date).await?;
    let house = app.desk.house().await?;
    let page = Shut {
        f: frame(app, "Door", &house.name, visitor, volunteer),
        date: date.0,
        title: event.title,
        when: words::long_span(on.span.starts, on.span.ends),
        may_open: matches!(volunteer, Volunteer::Staff(s) if s.role.may(Right::ChangeBookings)),
    };
    crate::page::refused(StatusCode::FORBIDDEN, &page)
}

/// The answer to a scan: the verdict, and its row for the log.
#[derive(Template)]
#[template(path = "door/answer.html")]
struct Answer {
    verdict: VerdictPart,
    row: VerdictRow,
}

/// `POST /door/{date}/scan`: something was shown at the door: a text that was
/// scanned or typed, or a person found by name.
pub(crate) async fn scan(
    State(app): State<App>,
    Path(date): Path<i64>,
    Part(part): Part,
    headers: HeaderMap,
    visitor: Visitor,
    AtDoor(volunteer): AtDoor,
    form: Posted,
) -> Result<Response, WebError> {
    let date = DateId(date);
    let (text, door) = (form.get("text").trim(), cookies::door_name(&headers, date));
    let attendee = form.get("attendee").parse().ok().map(AttendeeId);
    // A name that was typed is looked for; a text that a scanner read is judged as it is.
    let typed_name =
        attendee.is_none() && form.get("by") != "scanner" && read(text) == Reading::NotACode;
    if typed_name {
        let token = app.desk.secrets.form_token(&visitor.0);
        let names = names_part(&app, &volunteer, (date, &door), text, token).await?;
        return door_page(&app, &visitor, &volunteer, date, door, None, Some(names)).await;
    }
    let shown =
        attendee.map_or_else(|| Shown::Text(text.chars().take(200).collect()), Shown::Attendee);
    let device = device_of(&form, &door);
    let outcome = desk_door::show(&app.desk, &volunteer, date, device, shown).await?;
    if !part {
        return door_page(&app, &visitor, &volunteer, date, door, Some(outcome), None).await;
    }
    answer(&app, &visitor, date, &outcome).await
}

/// The key that a device gave its scan; one of ours for a page without script.
/// The device behind a scan: its key for it, and what its clock said, in milliseconds.
fn device_of(form: &Posted, door: &str) -> Device {
    let key = match form.get("key") {
        key if (8..=64).contains(&key.len()) => key.to_owned(),
        _ => scan_key(),
    };
    let at = form.get("at").parse().ok().and_then(|ms| Timestamp::from_millisecond(ms).ok());
    let way = if form.get("out").is_empty() { Way::In } else { Way::Out };
    Device { door: door.to_owned(), key, at, way }
}

/// `POST /door/{date}/pay`: what somebody is to pay is taken here, and they are let in.
pub(crate) async fn pay(
    State(app): State<App>,
    Path(date): Path<i64>,
    Part(part): Part,
    headers: HeaderMap,
    visitor: Visitor,
    AtDoor(volunteer): AtDoor,
    form: Posted,
) -> Result<Response, WebError> {
    let date = DateId(date);
    let door = cookies::door_name(&headers, date);
    let attendee = form.get("attendee").parse().map(AttendeeId).map_err(|_| DeskError::NotFound)?;
    let due = form.get("due").parse().map_err(|_| DeskError::NotFound)?;
    let with = match form.get("with") {
        "cash" => With::Cash,
        "card" => With::CardHere,
        "stamps" => With::Stamps(form.get("code").into()),
        letters => With::Stamps(letters.into()),
    };
    let device = device_of(&form, &door);
    let at = (date, device);
    let outcome = match desk_door::pay(&app.desk, &volunteer, at, attendee, due, with).await {
        Err(DeskError::Stamps(refusal)) => {
            let what = crate::wording::stamps(&refusal, &app.zone().await?);
            return Err(WebError::Refused { title: "The card does not pay", what });
        }
        outcome => outcome?,
    };
    if !part {
        return door_page(&app, &visitor, &volunteer, date, door, Some(outcome), None).await;
    }
    answer(&app, &visitor, date, &outcome).await
}

async fn answer(
    app: &App,
    visitor: &Visitor,
    date: DateId,
    outcome: &Outcome,
) -> Result<Response, WebError> {
    let zone = app.zone().await?;
    let token = app.desk.secrets.form_token(&visitor.0);
    html(&Answer {
        verdict: verdict_part(outcome, date, &zone, &token),
        row: log_row(outcome, date, &zone, &token),
    })
}

/// `POST /door/{date}/undo`: somebody was let in by mistake.
pub(crate) async fn undo(
    State(app): State<App>,
    Path(date): Path<i64>,
    Part(part): Part,
    headers: HeaderMap,
    visitor: Visitor,
    AtDoor(volunteer): AtDoor,
    form: Posted,
) -> Result<Response, WebError> {
    let scan = form.get("scan").parse().map_err(|_| DeskError::NothingToUndo)?;
    let outcome = desk_door::undo(&app.desk, &volunteer, DateId(date), scan).await?;
    if !part {
        let door = cookies::door_name(&headers, DateId(date));
        return door_page(&app, &visitor, &volunteer, DateId(date), door, Some(outcome), None)
            .await;
    }
    answer(&app, &visitor, DateId(date), &outcome).await
}

/// What is typed at the door.
#[derive(Debug, Deserialize)]
pub(crate) struct Typed {
    #[serde(default)]
    text: String,
}

async fn names_part(
    app: &App,
    volunteer: &Volunteer,
    at: (DateId, &str),
    typed: &str,
    token: String,
) -> Result<String, WebError> {
    let zone = app.zone().await?;
    let found = desk_door::names(&app.desk, volunteer, at, typed).await?;
    let rows: Vec<_> = found.iter().map(|n| name_row(n, &zone)).collect();
    let keys = rows.iter().map(|_| scan_key()).collect();
    Ok(Names { date: at.0.0, token, typed: typed.into(), rows, keys }.render()?)
}

/// `GET /door/{date}/names`: people whose names are being typed.
pub(crate) async fn names(
    State(app): State<App>,
    Path(date): Path<i64>,
    Query(Typed { text }): Query<Typed>,
    headers: HeaderMap,
    visitor: Visitor,
    AtDoor(volunteer): AtDoor,
) -> Result<Response, WebError> {
    let text = text.trim();
    if text.is_empty() || read(text) != Reading::NotACode {
        return Ok(axum::response::Html("").into_response());
    }
    let token = app.desk.secrets.form_token(&visitor.0);
    let door = cookies::door_name(&headers, DateId(date));
    let part = names_part(&app, &volunteer, (DateId(date), &door), text, token).await?;
    Ok(axum::response::Html(part).into_response())
}

/// `GET /door/{date}/live`: the count and the strip, as they change.
pub(crate) async fn live(
    State(app): State<App>,
    Path(date): Path<i64>,
    headers: HeaderMap,
    AtDoor(volunteer): AtDoor,
) -> Result<Response, WebError> {
    let desk = app.desk.clone();
    // Refused now rather than in the stream.
    desk_door::board(&desk, &volunteer, DateId(date)).await?;
    let viewer = live::Viewer::at_door(&headers, &volunteer);
    Ok(live::stream(&app, viewer, vec![DateId(date)], move || {
        let (desk, volunteer) = (desk.clone(), volunteer.clone());
        async move {
            let board = desk_door::board(&desk, &volunteer, DateId(date)).await?;
            Ok(board_part(&board, desk.clock.now()).render()?)
        }
    }))
}

/// The addresses of this face.
pub(crate) fn routes() -> Router<App> {
    Router::new()
        .route("/door", get(dates))
        .route("/door/{date}", get(show))
        .route("/door/{date}/scan", post(scan))
        .route("/door/{date}/undo", post(undo))
        .route("/door/{date}/pay", post(pay))
        .route("/door/{date}/walk-in", get(walking::show).post(walking::walk_in))
        .route("/door/{date}/give", post(walking::give))
        .route("/door/{date}/till", post(walking::till))
        .route("/door/{date}/names", get(names))
        .route("/door/{date}/live", get(live))
        .route("/door/{date}/roster", get(keeping::take))
        .route("/door/{date}/settle", post(keeping::settle))
        .route("/door/{date}/walked-in", post(keeping::walked_in))
        .route("/door/{date}/hall", get(hall::show))
        .route("/door/{date}/hall/live", get(hall::live))
        .route("/door/{date}/badge/{attendee}", get(scanner::badge))
        .route("/door/scanner", get(scanner::show))
        .route("/door/guide", get(scanner::guide))
        .route("/door/beat", get(keeping::beat))
        .route("/door/shell", get(keeping::shell))
        .route("/door/join", get(joining::show).post(joining::join))
        .route("/door/leave", post(joining::leave))
        .route("/door-keeper.js", get(keeping::worker))
}
