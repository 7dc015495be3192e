//! What a device keeps to go on without network: the roster it takes along, what it hands in
//! later, and the worker that keeps the page itself.

use askama::Template;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::{SignedDuration, Timestamp};
use matricle_core::door::device::DeviceRefusal;
use matricle_core::door::passages::Did;
use matricle_core::{AttendeeId, DateId, TicketTypeId};
use matricle_desk::DeskError;
use matricle_desk::door::roster::{self, Entry, Roster, SessionDoor};
use matricle_desk::door::settling::{Queued, SettledScan, settle_one};
use matricle_desk::door::walked_in::{WalkedIn, settle_walk_in};
use matricle_desk::door::{Shown, Told, Volunteer, devices};
use matricle_formats::words;
use matricle_store::devices::Said;
use matricle_store::house::House;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use crate::asking::{Posted, Visitor};
use crate::door::Door;
use crate::door::at::AtDoor;
use crate::door::verdict::{class, heading};
use crate::error::WebError;
use crate::page::{Face, Frame};
use crate::{App, cookies, static_files, wording};

/// Longest text that a device hands in, in characters.
const LONGEST: usize = 200;

/// A roster as it is sent: a list for each person, since ten thousand have to fit into little.
#[derive(Serialize)]
struct Sent {
    date: i64,
    title: String,
    when: String,
    place: String,
    key: String,
    bits: u32,
    at: i64,
    until: i64,
    zone: String,
    cut: bool,
    inside: u32,
    most: Option<u32>,
    again: bool,
    money: bool,
    receipts: String,
    /// What it sells to those without a ticket: ticket, name, price in minor units and in words,
    /// how many are left.
    sold: Vec<(i64, String, i64, String, u32)>,
    /// Class, word, reason, whether it lets in.
    verdicts: Vec<(&'static str, String, String, bool)>,
    /// The doors of rooms, session by session.
    rooms: Vec<Value>,
    /// Who signed up for which session: attendee, session.
    sign_ups: Vec<(i64, i64)>,
    tickets: Vec<String>,
    /// The references of bookings, by their keys.
    references: Vec<(i64, String)>,
    /// Digest, attendee, booking, name, ticket, place, people, verdict, ticket of the booking, then, where there are any,
    /// note, cash in minor units, cash in words.
    people: Vec<Value>,
}

/// Where a thing stands in a list of different things; it is put there if need be.
fn place_of<T: PartialEq>(list: &mut Vec<T>, thing: T) -> usize {
    list.iter().position(|known| *known == thing).unwrap_or_else(|| {
        list.push(thing);
        list.len() - 1
    })
}

/// The door of a session's room, as it is sent.
fn session_door(door: &SessionDoor, place_of: &mut impl FnMut(&Told) -> usize) -> Value {
    let mut twice = |told: &[Told; 2]| [place_of(&told[0]), place_of(&told[1])];
    let elsewhere: Vec<_> = door.elsewhere.iter().map(|(of, told)| (of.0, twice(told))).collect();
    let inside: Vec<_> =
        door.inside.iter().map(|(who, at, door)| (who.0, at.as_millisecond(), door)).collect();
    json!({
        "door": door.door,
        "session": door.session.0,
        "label": door.label,
        "opens": door.opens.as_millisecond(),
        "until": door.until.as_millisecond(),
        "free_from": door.free_from.as_millisecond(),
        "sign_up": door.sign_up,
        "seats": door.seats,
        "free": door.free,
        "here": twice(&door.here),
        "nothing": twice(&door.nothing),
        "elsewhere": elsewhere,
        "inside": inside,
    })
}

fn sent(date: DateId, roster: Roster, receipts: String) -> Sent {
    let today = words::local(roster.at, &roster.span.zone).date();
    let (mut verdicts, mut tickets) = (Vec::new(), Vec::new());
    let mut known = std::collections::HashMap::new();
    let zone = roster.zone.clone();
    let mut place_of_verdict = |told: &Told| {
        let verdict = (
            class(&told.verdict),
            heading(told.verdict.word()),
            wording::verdict(told, &zone, roster.at),
            told.verdict.admits(),
        );
        // Most verdicts are one of a few; each of those who are in has a reason of its own.
        *known.entry(verdict.clone()).or_insert_with(|| {
            verdicts.push(verdict);
            verdicts.len() - 1
        })
    };
    let rooms = roster.rooms.iter().map(|r| session_door(r, &mut place_of_verdict)).collect();
    let mut person = |entry: Entry| {
        let told = &entry.told;
        let verdict = place_of_verdict(told);
        let ticket = place_of(&mut tickets, told.ticket.clone());
        let (place, people) = told.place.unwrap_or((1, 1));
        let mut row = vec![
            json!(entry.digest),
            json!(entry.attendee.map_or(0, |a| a.0)),
            json!(entry.booking),
            json!(told.name),
            json!(ticket),
            json!(place),
            json!(people),
            json!(verdict),
            json!(entry.ticket_no),
        ];
        if !told.note.is_empty() || entry.cash.is_some() {
            row.push(json!(told.note));
        }
        if let (Some(cash), matricle_core::door::Verdict::ToPay { due }) =
            (entry.cash, &told.verdict)
        {
            row.extend([json!(cash), json!(due.to_string())]);
        }
        Value::Array(row)
    };
    let people = roster.people.into_iter().map(&mut person).collect();
    Sent {
        date: date.0,
        title: roster.title,
        when: words::span(roster.span.starts, roster.span.ends, today),
        place: roster.place,
        key: URL_SAFE_NO_PAD.encode(roster.key),
        bits: roster.bits,
        at: roster.at.as_millisecond(),
        until: roster.until.as_millisecond(),
        zone: roster.zone,
        cut: roster.cut,
        inside: roster.inside.0,
        most: roster.inside.1,
        again: roster.again,
        money: roster.takes_money,
        receipts,
        sold: roster
            .sold
            .into_iter()
            .map(|t| {
                let price = if t.price.is_zero() { "free".into() } else { t.price.to_string() };
                (t.ticket.0, t.name, t.price.minor, price, t.left)
            })
            .collect(),
        verdicts,
        rooms,
        sign_ups: roster.sign_ups.iter().map(|(who, what)| (who.0, what.0)).collect(),
        tickets,
        references: roster.references,
        people,
    }
}

/// `GET /door/{date}/roster`: what a device takes along.
pub(crate) async fn take(
    State(app): State<App>,
    Path(date): Path<i64>,
    headers: HeaderMap,
    AtDoor(volunteer): AtDoor,
) -> Result<Response, WebError> {
    let date = DateId(date);
    let door = cookies::door_name(&headers, date);
    let receipts = match volunteer.device() {
        Some(device) => format!("D{device}"),
        None => format!("S{}", volunteer.person()),
    };
    let roster = roster::roster(&app.desk, &volunteer, date, door).await?;
    Ok(Json(sent(date, roster, receipts)).into_response())
}

/// What a device says of itself, and asks.
#[derive(Debug, Deserialize)]
pub(crate) struct Beat {
    /// The date whose door it is at.
    #[serde(default)]
    date: i64,
    #[serde(default)]
    to_send: u32,
    #[serde(default)]
    behind: i64,
    #[serde(default)]
    wiped: u8,
}

/// `GET /door/beat`: a device says how it fares, and hears the time, the token of its forms and
/// whether it may go on. Nobody is redirected here: it answers a script.
pub(crate) async fn beat(
    State(app): State<App>,
    Query(Beat { date: at, to_send, behind, wiped }): Query<Beat>,
    headers: HeaderMap,
    visitor: Visitor,
    asker: Option<AtDoor>,
) -> Result<Response, WebError> {
    let now = app.desk.clock.now();
    let why = match &asker {
        None => Some("Nobody has signed in on this device."),
        Some(AtDoor(volunteer)) => match volunteer.checks_in(now) {
            Ok(()) => None,
            Err(DeskError::Device(DeviceRefusal::SentAway)) => Some("This device was sent away."),
            Err(DeskError::Device(_)) => Some("This device's time is over."),
            Err(_) => Some("This role does not check people in."),
        },
    };
    if let Some(AtDoor(Volunteer::Device(device))) = &asker {
        let said = Said {
            door: cookies::door_name(&headers, DateId(at)),
            to_send,
            behind_ms: behind,
            took_roster: false,
            wiped: wiped == 1,
        };
        // A wiped device and one that has something new to say are heard; else once in a while.
        let stale = device.seen_at.is_none_or(|seen| now.duration_since(seen).as_secs() >= 20);
        if stale || said.wiped || to_send != device.to_send || said.door != device.door {
            devices::heard(&app.desk, device.id, said).await?;
        }
    }
    let ms = now.as_millisecond();
    let token = app.desk.secrets.form_token(&visitor.0);
    Ok(Json(
        json!({ "now": ms, "token": token, "stands": why.is_none(), "why": why.unwrap_or("") }),
    )
    .into_response())
}

/// Reads what a device hands in; nothing where it cannot be read.
fn queued(form: &Posted) -> Option<Queued> {
    let key = Some(form.get("key")).filter(|k| (8..=64).contains(&k.len()))?.to_owned();
    let shown = match form.get("attendee").parse() {
        Ok(id) => Shown::Attendee(AttendeeId(id)),
        Err(_) => Shown::Text(form.get("text").chars().take(LONGEST).collect()),
    };
    let cash = form.get("cash").parse::<i64>().ok().filter(|minor| *minor > 0);
    let line = |name: &str, most: usize| -> String {
        matricle_core::words::text::line(form.get(name)).chars().take(most).collect()
    };
    Some(Queued {
        key,
        shown,
        did: Did::from_word(form.get("did"))?,
        at: Timestamp::from_millisecond(form.get("at").parse().ok()?).ok()?,
        behind: SignedDuration::from_millis(form.get("behind").parse().unwrap_or(0)),
        door: Some(line("door", 40)).filter(|d| !d.is_empty()).unwrap_or("main door".into()),
        cash: cash.map(|minor| (minor, line("receipt", 20))),
        said: line("said", 40),
        undone: (form.get("undone") == "yes").then(|| {
            let back = form.get("back").parse::<i64>().ok().filter(|minor| *minor > 0);
            (back.unwrap_or(0), line("receipt", 20))
        }),
    })
}

/// `POST /door/{date}/settle`: one thing that a device did while it could not ask.
pub(crate) async fn settle(
    State(app): State<App>,
    Path(date): Path<i64>,
    AtDoor(volunteer): AtDoor,
    form: Posted,
) -> Result<Response, WebError> {
    let Some(queued) = queued(&form) else {
        return Ok((StatusCode::UNPROCESSABLE_ENTITY, Json(json!({ "ok": false }))).into_response());
    };
    let settled = settle_one(&app.desk, &volunteer, DateId(date), queued).await?;
    let house = app.desk.house().await?;
    let line = line(&settled, &house);
    Ok(Json(json!({ "ok": true, "scan": settled.scan, "name": settled.name, "line": line }))
        .into_response())
}

/// `POST /door/{date}/walked-in`: somebody without a ticket whom a device let in while it could not
/// ask.
pub(crate) async fn walked_in(
    State(app): State<App>,
    Path(date): Path<i64>,
    AtDoor(volunteer): AtDoor,
    form: Posted,
) -> Result<Response, WebError> {
    let unreadable =
        || (StatusCode::UNPROCESSABLE_ENTITY, Json(json!({ "ok": false }))).into_response();
    let (Some(queued), Ok(ticket)) = (queued(&form), form.get("ticket").parse()) else {
        return Ok(unreadable());
    };
    let (cash, receipt) = queued.cash.unwrap_or_default();
    let walked = WalkedIn {
        key: queued.key,
        ticket: TicketTypeId(ticket),
        quantity: form.get("quantity").parse().unwrap_or(1).clamp(1, 20),
        name: matricle_core::words::text::line(form.get("name")).chars().take(200).collect(),
        at: queued.at,
        behind: queued.behind,
        door: queued.door,
        cash,
        receipt,
    };
    let settled = settle_walk_in(&app.desk, &volunteer, DateId(date), walked).await?;
    let house = app.desk.house().await?;
    let line = line(&settled, &house);
    Ok(Json(json!({ "ok": true, "scan": settled.scan, "name": settled.name, "line": line }))
        .into_response())
}

fn line(settled: &SettledScan, house: &House) -> String {
    match (&settled.twice, &settled.line) {
        (Some((first, second)), _) => wording::twice(first, second, &house.zone),
        (None, Some(line)) => wording::line(line, house.currency),
        (None, None) => String::new(),
    }
}

/// `GET /door/shell`: the page of a door without anybody on it, which the worker keeps.
pub(crate) async fn shell(State(app): State<App>, visitor: Visitor) -> Result<Response, WebError> {
    let house = app.house_name().await;
    let f = Frame::new(&app, Face::Door, "Door", &house, &visitor, None);
    let page = Door::shell(f)?;
    Ok(axum::response::Html(page.render()?).into_response())
}

/// `GET /door-worker.js`: the worker that keeps the page, with the version of the files it keeps.
pub(crate) async fn worker() -> Response {
    static_files::worker("door-keeper.js", "/door").await
}
