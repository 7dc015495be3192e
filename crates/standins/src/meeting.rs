//! The meeting rooms: a service with an HTTP interface that makes rooms, gives each person an
//! address to join by, and tells who came and went; and pages to be in a room.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

use askama::Template;
use axum::extract::{Form, Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::pages::{machine_time, page};

/// A room as it is asked for.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
struct Wish {
    key: String,
    title: String,
    starts_at: Timestamp,
    ends_at: Timestamp,
    straight_in: bool,
    may_speak: bool,
    record: bool,
}

#[derive(Debug, Clone, Deserialize)]
struct Joiner {
    person: String,
    name: String,
    #[serde(default)]
    leads: bool,
}

/// A stay in a room.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
struct Visit {
    person: String,
    name: String,
    came_at: Timestamp,
    left_at: Option<Timestamp>,
}

#[derive(Debug, Clone)]
struct Room {
    id: String,
    wish: Wish,
    visits: Vec<Visit>,
    recorded: bool,
}

/// What somebody joins by.
#[derive(Debug, Clone)]
struct Address {
    room: String,
    who: Joiner,
}

/// How the service behaves.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Manner {
    /// As it should.
    #[default]
    Well,
    /// Its rooms are full.
    Full,
    /// It fails.
    Fails,
}

#[derive(Debug, Default)]
struct Inner {
    rooms: BTreeMap<String, Room>,
    addresses: BTreeMap<String, Address>,
    manner: Manner,
}

/// The service. Cheap to clone.
#[derive(Debug, Clone)]
pub struct Meeting {
    inner: Arc<Mutex<Inner>>,
    url: String,
    token: String,
}

impl Meeting {
    /// A service at an address, which asks for a token.
    #[must_use]
    pub fn new(url: &str, token: &str) -> Self {
        Self { inner: Arc::default(), url: url.into(), token: token.into() }
    }

    fn with<T>(&self, act: impl FnOnce(&mut Inner) -> T) -> T {
        act(&mut self.inner.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Makes it behave in another way.
    pub fn behave(&self, manner: Manner) {
        self.with(|i| i.manner = manner);
    }

    /// Its pages and its interface.
    pub fn router(self) -> Router {
        Router::new()
            .route("/", get(list))
            .route("/behave", post(behave))
            .route("/join/{token}", get(inside))
            .route("/join/{token}/leave", post(leave))
            .route("/rooms/{id}/record", post(record))
            .route("/recording/{id}", get(recording))
            .route("/api/rooms", post(make))
            .route("/api/rooms/{id}/joins", post(join))
            .route("/api/rooms/{id}/visits", get(visits))
            .route("/api/rooms/{id}/recording", get(where_recorded))
            .with_state(self)
    }

    fn refuses(&self, headers: &HeaderMap) -> Option<StatusCode> {
        let given = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok());
        if given != Some(&format!("Bearer {}", self.token)) {
            return Some(StatusCode::UNAUTHORIZED);
        }
        self.with(|i| (i.manner == Manner::Fails).then_some(StatusCode::INTERNAL_SERVER_ERROR))
    }
}

fn fresh() -> String {
    let mut bytes = [0u8; 12];
    let _ = getrandom::fill(&mut bytes);
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

async fn make(
    State(meeting): State<Meeting>,
    headers: HeaderMap,
    Json(wish): Json<Wish>,
) -> Response {
    if let Some(status) = meeting.refuses(&headers) {
        return status.into_response();
    }
    let id = meeting.with(|i| {
        if let Some(known) = i.rooms.values_mut().find(|r| r.wish.key == wish.key) {
            known.wish = wish;
            return known.id.clone();
        }
        let id = fresh();
        let room = Room { id: id.clone(), wish, visits: Vec::new(), recorded: false };
        i.rooms.insert(id.clone(), room);
        id
    });
    Json(serde_json::json!({ "id": id })).into_response()
}

async fn join(
    State(meeting): State<Meeting>,
    Path(id): Path<String>,
    headers: HeaderMap,
    Json(who): Json<Joiner>,
) -> Response {
    if let Some(status) = meeting.refuses(&headers) {
        return status.into_response();
    }
    let token = fresh();
    let known = meeting.with(|i| {
        if i.manner == Manner::Full {
            return Err(StatusCode::CONFLICT);
        }
        if !i.rooms.contains_key(&id) {
            return Err(StatusCode::NOT_FOUND);
        }
        i.addresses.insert(token.clone(), Address { room: id, who });
        Ok(())
    });
    match known {
        Ok(()) => {
            let url = format!("{}/join/{token}", meeting.url);
            Json(serde_json::json!({ "url": url })).into_response()
        }
        Err(status) => status.into_response(),
    }
}

async fn visits(
    State(meeting): State<Meeting>,
    Path(id): Path<String>,
    headers: HeaderMap,
) -> Response {
    if let Some(status) = meeting.refuses(&headers) {
        return status.into_response();
    }
    match meeting.with(|i| i.rooms.get(&id).map(|r| r.visits.clone())) {
        Some(visits) => Json(visits).into_response(),
        None => StatusCode::NOT_FOUND.into_response(),
    }
}

async fn where_recorded(
    State(meeting): State<Meeting>,
    Path(id): Path<String>,
    headers: HeaderMap,
) -> Response {
    if let Some(status) = meeting.refuses(&headers) {
        return status.into_response();
    }
    match meeting.with(|i| i.rooms.get(&id).map(|r| r.recorded)) {
        Some(recorded) => {
            let url = recorded.then(|| format!("{}/recording/{id}", meeting.url));
            Json(serde_json::json!({ "url": url })).into_response()
        }
        None => StatusCode::NOT_FOUND.into_response(),
    }
}

/// A room on the list.
struct Listed {
    id: String,
    title: String,
    what: String,
    visits: Vec<(String, String)>,
    record: bool,
    recorded: bool,
}

#[derive(Template)]
#[template(path = "meeting.html")]
struct List {
    rooms: Vec<Listed>,
    manners: [(&'static str, &'static str, bool); 3],
}

async fn list(State(meeting): State<Meeting>) -> Response {
    let time = |at: Timestamp| at.strftime("%H:%M:%S").to_string();
    let (rooms, now) = meeting.with(|i| {
        let rooms = i
            .rooms
            .values()
            .map(|r| Listed {
                id: r.id.clone(),
                title: r.wish.title.clone(),
                what: format!(
                    "{} to {}; {}; {}",
                    r.wish.starts_at.strftime("%Y-%m-%d %H:%M"),
                    r.wish.ends_at.strftime("%H:%M UTC"),
                    if r.wish.straight_in { "straight in" } else { "each is let in" },
                    if r.wish.may_speak { "all speak" } else { "whoever leads speaks" },
                ),
                visits: r
                    .visits
                    .iter()
                    .map(|v| {
                        let left = v.left_at.map_or("still there".into(), time);
                        (v.name.clone(), format!("{} to {left}", time(v.came_at)))
                    })
                    .collect(),
                record: r.wish.record,
                recorded: r.recorded,
            })
            .collect();
        (rooms, i.manner)
    });
    let manners = [
        ("well", "works", now == Manner::Well),
        ("full", "has no place left", now == Manner::Full),
        ("fails", "fails", now == Manner::Fails),
    ];
    page(&List { rooms, manners })
}

#[derive(Deserialize)]
struct RoomWanted {
    how: Manner,
}

async fn behave(State(meeting): State<Meeting>, Form(asked): Form<RoomWanted>) -> Redirect {
    meeting.behave(asked.how);
    Redirect::to("/")
}

#[derive(Template)]
#[template(path = "meeting_inside.html")]
struct Inside {
    title: String,
    name: String,
    token: String,
    leads: bool,
    there: Vec<String>,
}

/// Whoever opens their address is in the room.
async fn inside(State(meeting): State<Meeting>, Path(token): Path<String>) -> Response {
    let found = meeting.with(|i| {
        let address = i.addresses.get(&token)?.clone();
        let room = i.rooms.get_mut(&address.room)?;
        let there = |v: &&Visit| v.left_at.is_none();
        if !room.visits.iter().filter(there).any(|v| v.person == address.who.person) {
            room.visits.push(Visit {
                person: address.who.person.clone(),
                name: address.who.name.clone(),
                came_at: machine_time(),
                left_at: None,
            });
        }
        Some(Inside {
            title: room.wish.title.clone(),
            name: address.who.name,
            leads: address.who.leads,
            token: token.clone(),
            there: room.visits.iter().filter(there).map(|v| v.name.clone()).collect(),
        })
    });
    match found {
        Some(inside) => page(&inside),
        None => StatusCode::NOT_FOUND.into_response(),
    }
}

async fn leave(State(meeting): State<Meeting>, Path(token): Path<String>) -> Redirect {
    meeting.with(|i| {
        let Some(address) = i.addresses.get(&token).cloned() else { return };
        let Some(room) = i.rooms.get_mut(&address.room) else { return };
        for visit in &mut room.visits {
            if visit.person == address.who.person && visit.left_at.is_none() {
                visit.left_at = Some(machine_time());
            }
        }
    });
    Redirect::to("/")
}

/// A room is over, and its recording is there.
async fn record(State(meeting): State<Meeting>, Path(id): Path<String>) -> Redirect {
    meeting.with(|i| {
        if let Some(room) = i.rooms.get_mut(&id) {
            room.recorded = true;
            for visit in &mut room.visits {
                visit.left_at.get_or_insert_with(machine_time);
            }
        }
    });
    Redirect::to("/")
}

#[derive(Template)]
#[template(path = "meeting_recording.html")]
struct Recording {
    title: String,
}

async fn recording(State(meeting): State<Meeting>, Path(id): Path<String>) -> Response {
    match meeting.with(|i| i.rooms.get(&id).map(|r| r.wish.title.clone())) {
        Some(title) => page(&Recording { title }),
        None => StatusCode::NOT_FOUND.into_response(),
    }
}
