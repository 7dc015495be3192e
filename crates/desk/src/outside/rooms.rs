//! Meeting rooms: a service that makes a room for a date, an address for each person to join by,
//! and tells who came and went.

use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use std::future::Future;
use std::pin::Pin;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::texts::client;

/// Why the service did not do it.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RoomError {
    /// The house has no such service.
    #[error("there is no meeting-room service")]
    None,
    /// The room is full.
    #[error("the room is full")]
    Full,
    /// It did not answer as it should.
    #[error("the meeting-room service: {0}")]
    Failed(String),
}

/// A room to be made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewRoom {
    /// The same for the same room, however often it is asked for.
    pub key: String,
    /// What it is called.
    pub title: String,
    /// When it is needed.
    pub starts_at: Timestamp,
    /// Until when.
    pub ends_at: Timestamp,
    /// Everybody is let straight in.
    pub straight_in: bool,
    /// Everybody may speak.
    pub may_speak: bool,
    /// It is recorded.
    pub record: bool,
}

/// Somebody who joins.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Joiner {
    /// Who, as the room reports them back.
    pub person: String,
    /// Their name.
    pub name: String,
    /// They lead it.
    pub leads: bool,
}

/// A stay in a room, as it is reported.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Visit {
    /// Who.
    pub person: String,
    /// When they came.
    pub came_at: Timestamp,
    /// When they left.
    pub left_at: Option<Timestamp>,
}

/// What the service is asked, behind a pointer.
pub type Asked<'a, T> = Pin<Box<dyn Future<Output = Result<T, RoomError>> + Send + 'a>>;

/// A service that has rooms.
pub trait Rooms: Send + Sync {
    /// Whether there is one.
    fn is_there(&self) -> bool {
        true
    }
    /// Makes a room, or brings it to what is wanted; what the service calls it.
    fn make(&self, room: NewRoom) -> Asked<'_, String>;
    /// An address for one person to join by, once.
    fn join(&self, room: String, who: Joiner) -> Asked<'_, String>;
    /// Who came and went so far.
    fn visits(&self, room: String) -> Asked<'_, Vec<Visit>>;
    /// Where the recording is, once there is one.
    fn recording(&self, room: String) -> Asked<'_, Option<String>>;
}

/// A house without such a service: its dates online have links.
#[derive(Debug, Default)]
pub struct NoRooms;

impl Rooms for NoRooms {
    fn is_there(&self) -> bool {
        false
    }
    fn make(&self, _: NewRoom) -> Asked<'_, String> {
        Box::pin(async { Err(RoomError::None) })
    }
    fn join(&self, _: String, _: Joiner) -> Asked<'_, String> {
        Box::pin(async { Err(RoomError::None) })
    }
    fn visits(&self, _: String) -> Asked<'_, Vec<Visit>> {
        Box::pin(async { Err(RoomError::None) })
    }
    fn recording(&self, _: String) -> Asked<'_, Option<String>> {
        Box::pin(async { Err(RoomError::None) })
    }
}

/// How long the service may take to answer: somebody waits at the door of a room.
const PATIENCE: Duration = Duration::from_secs(8);

/// A service reached by HTTP, with a bearer token: `POST /api/rooms`, `POST
/// /api/rooms/{room}/joins`, `GET /api/rooms/{room}/visits`, `GET /api/rooms/{room}/recording`.
pub struct HttpRooms {
    client: reqwest::Client,
    url: String,
    token: String,
}

impl HttpRooms {
    /// A service at an URL.
    #[must_use]
    pub fn new(url: &str, token: &str) -> Self {
        Self {
            client: client(PATIENCE),
            url: url.trim_end_matches('/').into(),
            token: token.into(),
        }
    }

    async fn answer<T: for<'d> Deserialize<'d>>(
        &self,
        asked: reqwest::RequestBuilder,
    ) -> Result<T, RoomError> {
        let failed = |e: reqwest::Error| RoomError::Failed(e.without_url().to_string());
        let said = asked.bearer_auth(&self.token).send().await.map_err(failed)?;
        match said.status().as_u16() {
            200..300 => said.json().await.map_err(failed),
            409 => Err(RoomError::Full),
            status => Err(RoomError::Failed(format!("it answered {status}"))),
        }
    }

    /// A room's own name is one part of an address, whatever it is.
    fn of(&self, room: &str, what: &str) -> String {
        let room: String =
            room.chars().filter(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_')).collect();
        format!("{}/api/rooms/{room}/{what}", self.url)
    }
}

#[derive(Deserialize)]
struct Made {
    id: String,
}

#[derive(Deserialize)]
struct At {
    url: String,
}

#[derive(Deserialize)]
struct Recorded {
    url: Option<String>,
}

/// An address that somebody can be sent to.
fn is_web(url: &str) -> bool {
    (url.starts_with("https://") || url.starts_with("http://"))
        && !url.chars().any(|c| c.is_control() || c.is_whitespace())
}

impl Rooms for HttpRooms {
    fn make(&self, room: NewRoom) -> Asked<'_, String> {
        Box::pin(async move {
            let asked = self.client.post(format!("{}/api/rooms", self.url)).json(&room);
            self.answer::<Made>(asked).await.map(|made| made.id)
        })
    }

    fn join(&self, room: String, who: Joiner) -> Asked<'_, String> {
        Box::pin(async move {
            let asked = self.client.post(self.of(&room, "joins")).json(&who);
            let url = self.answer::<At>(asked).await?.url;
            if is_web(&url) {
                Ok(url)
            } else {
                Err(RoomError::Failed("it gave no address that can be opened".into()))
            }
        })
    }

    fn visits(&self, room: String) -> Asked<'_, Vec<Visit>> {
        Box::pin(async move { self.answer(self.client.get(self.of(&room, "visits"))).await })
    }

    fn recording(&self, room: String) -> Asked<'_, Option<String>> {
        Box::pin(async move {
            let found: Recorded = self.answer(self.client.get(self.of(&room, "recording"))).await?;
            Ok(found.url.filter(|url| is_web(url)))
        })
    }
}

/// A service that does as it is told: for tests.
#[derive(Debug, Default)]
pub struct Rehearsed {
    /// The rooms that were made, by the last wish for each.
    pub made: Mutex<Vec<NewRoom>>,
    /// What it reports.
    pub visits: Mutex<Vec<Visit>>,
    /// Where the recording is.
    pub recording: Mutex<Option<String>>,
    /// It fails with this.
    pub fails: Mutex<Option<RoomError>>,
}

impl Rehearsed {
    fn fails<T>(&self, fine: T) -> Result<T, RoomError> {
        let fails = self.fails.lock().unwrap_or_else(PoisonError::into_inner).clone();
        fails.map_or(Ok(fine), Err)
    }
}

impl Rooms for Rehearsed {
    fn make(&self, room: NewRoom) -> Asked<'_, String> {
        Box::pin(async move {
            self.fails(())?;
            let mut made = self.made.lock().unwrap_or_else(PoisonError::into_inner);
            made.retain(|known| known.key != room.key);
            let id = format!("room-{}", room.key);
            made.push(room);
            Ok(id)
        })
    }

    fn join(&self, room: String, who: Joiner) -> Asked<'_, String> {
        Box::pin(
            async move { self.fails(format!("https://rooms.example/{room}?as={}", who.person)) },
        )
    }

    fn visits(&self, _: String) -> Asked<'_, Vec<Visit>> {
        Box::pin(async move {
            self.fails(self.visits.lock().unwrap_or_else(PoisonError::into_inner).clone())
        })
    }

    fn recording(&self, _: String) -> Asked<'_, Option<String>> {
        Box::pin(async move {
            self.fails(self.recording.lock().unwrap_or_else(PoisonError::into_inner).clone())
        })
    }
}
