//! The foyer of a date online: what an attendee's own link opens, going in by it, what the room
//! reports, the recording afterwards.

use std::collections::HashMap;

use jiff::{SignedDuration, Timestamp};
use matricle_core::booking::State;
use matricle_core::dates::schedule::Span;
use matricle_core::door::Presence;
use matricle_core::door::foyer::{self, FoyerFacts, PartStands, Recording, RoomKind, Stands, Stay};
use matricle_core::people::acting::Acting;
use matricle_core::words::codes::TicketCode;
use matricle_core::{AttendeeId, DateId, SessionId};
use matricle_store::door as db;
use matricle_store::events::{self, Date, Event, EventState};
use matricle_store::online::{self, OnlineDate, Room};
use matricle_store::sessions::{self, Session};
use matricle_store::{Connection, Tx, bookings};

use super::unscanned;
use crate::outside::rooms::{Joiner, NewRoom, RoomError};
use crate::rounds::{Due, Work, each};
use crate::telling::{Arrived, tell_let_in};
use crate::{Desk, DeskError, house_of};

/// What the door is called by which somebody comes online.
pub const ONLINE: &str = "online";

/// What the foyer shows.
#[derive(Debug, Clone)]
pub struct Foyer {
    /// The house's name, its zone.
    pub house: (String, String),
    /// The event.
    pub event: Event,
    /// The date: of a course the next, or the last.
    pub date: Date,
    /// How it happens online.
    pub how: OnlineDate,
    /// Who.
    pub name: String,
    /// The attendee.
    pub attendee: AttendeeId,
    /// The booking was made to try the steps out.
    pub test: bool,
    /// What it says.
    pub stands: Stands,
    /// When somebody went in by this link before, from another browser than the one that asks.
    pub elsewhere: Option<Timestamp>,
    /// The one who asks has been in.
    pub been_in: bool,
    /// There is a room for all of it.
    pub one_room: bool,
    /// Its sessions that have rooms of their own.
    pub parts: Vec<Part>,
}

/// A session with a room of its own.
#[derive(Debug, Clone)]
pub struct Part {
    /// The session.
    pub session: Session,
    /// What the foyer says of it.
    pub stands: PartStands,
}

/// What a personal link is about.
struct Found {
    foyer: Foyer,
    /// The room's address and passcode, or the room of the service.
    room: Room,
    /// Those of its sessions.
    rooms: HashMap<SessionId, Room>,
}

impl Found {
    /// The room that somebody may go into now: of the date, or of one of its sessions.
    fn open(&self, session: Option<SessionId>) -> Option<&Room> {
        let room = match session {
            None => (self.foyer.stands == Stands::Open).then_some(&self.room),
            Some(id) => {
                let part = self.foyer.parts.iter().find(|p| p.session.facts.id == id);
                part.filter(|p| p.stands == PartStands::Open).and_then(|_| self.rooms.get(&id))
            }
        };
        room.filter(|r| **r != Room::Nowhere)
    }
}

fn find(
    conn: &Connection,
    code: TicketCode,
    browser: &str,
    now: Timestamp,
) -> Result<Found, DeskError> {
    let places = online::of_code(conn, code)?;
    let over = |ends: Timestamp| ends.saturating_add(foyer::OVERTIME).is_ok_and(|e| e <= now);
    let place = places.iter().find(|(_, _, ends)| !over(*ends)).or(places.last());
    let (attendee, date_id, _) = *place.ok_or(DeskError::NotFound)?;
    if !online::joins_online(conn, attendee)? {
        return Err(DeskError::NotFound);
    }
    let person = db::by_id(conn, attendee)?.ok_or(DeskError::NotFound)?;
    let booking = bookings::by_id(conn, person.booking)?.ok_or(DeskError::NotFound)?;
    let (event, date) = events::date_by_id(conn, date_id)?.ok_or(DeskError::NotFound)?;
    let how = online::of_date(conn, date_id)?;
    let room = online::room(conn, &event, date_id, &how)?;
    let mut rooms = HashMap::new();
    for (session, own) in online::own_rooms(conn, date_id)? {
        rooms.insert(session, online::room_of_session(conn, session, &own)?);
    }
    let house = house_of(conn)?;
    let full = events::choices_of_date(conn, house.currency, date_id, now)?
        .is_none_or(|choices| choices.main_pool().free() == 0);
    let came = matches!(person.facts.presence, Presence::In { .. } | Presence::Left);
    let facts = FoyerFacts {
        state: booking.state,
        // Of a ticket that was cancelled by itself the booking stands.
        cancelled: person.facts.state == State::Cancelled,
        called_off: !date.called_off.is_empty() || event.state == EventState::CalledOff,
        full,
        due: booking.due(),
        starts_at: date.span.starts_at,
        ends_at: date.span.ends_at,
        opens_minutes: how.opens_minutes,
        room: room != Room::Nowhere || rooms.values().any(|r| *r != Room::Nowhere),
        came,
        recording: (!how.recording.is_empty())
            .then_some(Recording { audience: how.audience, until: how.recording_until }),
    };
    let signed_up = sessions::of_attendee(conn, attendee)?;
    let part = |session: Session| {
        let known = rooms.get(&session.facts.id)?;
        let part = foyer::Part {
            starts_at: session.facts.from,
            ends_at: session.facts.until,
            room: *known != Room::Nowhere,
            not_theirs: session.facts.sign_up && !signed_up.contains(&session.facts.id),
        };
        Some(Part { stands: foyer::of_part(&facts, &part, now), session })
    };
    let parts = match rooms.is_empty() {
        true => Vec::new(),
        false => sessions::of_date(conn, date_id)?.into_iter().filter_map(part).collect(),
    };
    let goes = online::goes(conn, attendee, date_id)?;
    let foyer = Foyer {
        one_room: room != Room::Nowhere || rooms.is_empty(),
        parts,
        house: (house.name, house.zone),
        name: person.name,
        attendee,
        test: booking.test,
        stands: foyer::stands(&facts, now),
        elsewhere: goes.iter().rev().find(|(_, b)| b != browser).map(|(at, _)| *at),
        been_in: goes.iter().any(|(_, b)| b == browser),
        event,
        date,
        how,
    };
    Ok(Found { foyer, room, rooms })
}

async fn opens(desk: &Desk, code: TicketCode, key: &str) -> Result<(), DeskError> {
    let steps = desk.store.read(move |conn| online::steps(conn, code)).await?;
    if desk.secrets.opens_foyer(code, steps, key) { Ok(()) } else { Err(DeskError::NotFound) }
}

/// What a personal link opens now. Looking marks nobody.
///
/// # Errors
/// [`DeskError::NotFound`] for another key, and for a ticket that does not join online.
pub async fn look(
    desk: &Desk,
    code: TicketCode,
    key: &str,
    browser: &str,
) -> Result<Foyer, DeskError> {
    opens(desk, code, key).await?;
    let (now, browser) = (desk.clock.now(), browser.to_owned());
    let found = desk.store.read(move |conn| find(conn, code, &browser, now)).await?;
    Ok(found.foyer)
}

/// Where somebody goes who goes in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum In {
    /// To this address.
    To(String),
    /// To this address, where they are asked for this passcode.
    With(String, String),
    /// Not yet, or not any more: the foyer says why.
    Not,
    /// The room is full.
    Full,
    /// The service does not answer just now.
    Away,
}

/// Goes in by a personal link, to the date or to one of its sessions: an act of the person, which
/// marks them as come, with the minute. Going in again is no second coming.
///
/// # Errors
/// As [`look`].
pub async fn go(
    desk: &Desk,
    code: TicketCode,
    key: &str,
    browser: &str,
    session: Option<SessionId>,
) -> Result<In, DeskError> {
    opens(desk, code, key).await?;
    let (now, of) = (desk.clock.now(), browser.to_owned());
    let found = desk.store.read(move |conn| find(conn, code, &of, now)).await?;
    let Some(room) = found.open(session).cloned() else { return Ok(In::Not) };
    let to = match room {
        Room::Nowhere => return Ok(In::Not),
        Room::Link(link, passcode) if passcode.is_empty() => In::To(link),
        Room::Link(link, passcode) => In::With(link, passcode),
        Room::Service(room) => {
            let who = Joiner {
                person: format!("a{}", found.foyer.attendee),
                name: found.foyer.name.clone(),
                leads: false,
            };
            match desk.rooms.join(room, who).await {
                Ok(address) => In::To(address),
                Err(RoomError::Full) => return Ok(In::Full),
                Err(RoomError::None | RoomError::Failed(_)) => return Ok(In::Away),
            }
        }
    };
    let (browser, host) = (browser.to_owned(), desk.host().to_owned());
    let went = desk
        .store
        .write(move |tx| {
            // What holds is asked again where it is written down: they may have cancelled.
            let found = find(tx, code, &browser, now)?;
            let (attendee, date) = (found.foyer.attendee, found.foyer.date.id);
            if found.open(session).is_none() {
                return Ok(false);
            }
            online::add_go(tx, attendee, date, &browser, now)?;
            if !found.foyer.test {
                come_in(tx, attendee, &host, now)?;
            }
            Ok::<_, DeskError>(true)
        })
        .await?;
    if went {
        desk.wake.all();
    }
    Ok(if went { to } else { In::Not })
}

/// Marks somebody as come online at a minute, unless they are there already.
pub fn come_in(
    tx: &Tx<'_>,
    attendee: AttendeeId,
    host: &str,
    at: Timestamp,
) -> Result<(), DeskError> {
    let person = db::by_id(tx, attendee)?.ok_or(DeskError::NotFound)?;
    if matches!(person.facts.presence, Presence::In { .. }) {
        return Ok(());
    }
    let answers = online::who_answers(tx)?.ok_or(DeskError::NotSetUp)?;
    unscanned::come(tx, &person, unscanned::By { called: ONLINE, person: answers }, at, at)?;
    tell_let_in(tx, &Arrived(&person, ONLINE, at), &Acting::program(), host, at)
}

/// The recording of a date, for whoever may see it.
///
/// # Errors
/// As [`look`]; there is none for them.
pub async fn recording(desk: &Desk, code: TicketCode, key: &str) -> Result<String, DeskError> {
    let found = look(desk, code, key, "").await?;
    if found.stands == Stands::Recording {
        Ok(found.how.recording)
    } else {
        Err(DeskError::NotFound)
    }
}

/// How long before a date its room is made.
const MADE_BEFORE: SignedDuration = SignedDuration::from_hours(24);
/// How long after a date the service is asked for what it reports, and for the recording.
const ASKED_AFTER: SignedDuration = SignedDuration::from_hours(12);

/// Makes rooms whose dates are near, brings them to what is wanted, and asks what they report.
pub(crate) async fn turn(desk: &Desk) -> Result<usize, DeskError> {
    if !desk.rooms.is_there() {
        return Ok(0);
    }
    let now = desk.clock.now();
    let due = desk
        .store
        .read(move |conn| online::with_service(conn, now - ASKED_AFTER, now + MADE_BEFORE))
        .await?;
    let rows = due
        .into_iter()
        .map(|row| Due { about: format!("the room of date {}", row.1), booking: None, row })
        .collect();
    each(desk, Work::Rooms, rows, 4, |desk, (event, date, kind)| async move {
        one(&desk, (event, date, kind)).await
    })
    .await?;
    Ok(0)
}

async fn one(
    desk: &Desk,
    (event_id, date_id, kind): (matricle_core::EventId, DateId, RoomKind),
) -> Result<(), DeskError> {
    let failed = |e: RoomError| DeskError::Internal(e.to_string());
    let now = desk.clock.now();
    let (event, date, how, own, sessions) = desk
        .store
        .read(move |conn| {
            let (event, date) = events::date_by_id(conn, date_id)?.ok_or(DeskError::NotFound)?;
            let (own, how) = (online::own_rooms(conn, date_id)?, online::of_date(conn, date_id)?);
            Ok::<_, DeskError>((event, date, how, own, sessions::of_date(conn, date_id)?))
        })
        .await?;
    let wish = |key: String, title: String, span: &Span| NewRoom {
        key,
        title,
        starts_at: span.starts_at,
        ends_at: span.ends_at,
        straight_in: how.straight_in,
        may_speak: how.may_speak,
        record: how.recorded,
    };
    // That of the date first, if it has one; then those of its sessions.
    let mut wishes = Vec::new();
    if kind.is_made() {
        let key = online::room_key(kind, event_id, date_id);
        wishes.push(wish(key, event.title.clone(), &date.span));
    }
    for s in &sessions {
        if own.get(&s.facts.id).is_some_and(|o| o.kind.is_made()) {
            let title = format!("{}: {}", event.title, s.title);
            wishes.push(wish(online::session_key(s.facts.id), title, &s.span));
        }
    }
    let mut rooms = Vec::new();
    for wish in wishes {
        let key = wish.key.clone();
        let known = desk.store.read(move |conn| online::made(conn, &key)).await?;
        rooms.push(match known {
            Some(room) => room,
            None => {
                let key = wish.key.clone();
                let room = desk.rooms.make(wish).await.map_err(failed)?;
                let remote = room.clone();
                desk.store.write(move |tx| online::set_made(tx, &key, &remote, now)).await?;
                room
            }
        });
    }
    if now < date.span.starts_at - MADE_BEFORE / 24 {
        return Ok(());
    }
    let mut stays: Vec<(AttendeeId, Stay)> = Vec::new();
    for room in &rooms {
        for v in desk.rooms.visits(room.clone()).await.map_err(failed)? {
            let who = v.person.strip_prefix('a').and_then(|a| a.parse().ok()).map(AttendeeId);
            let Some(who) = who else { continue };
            // Into two rooms at the same instant is one coming.
            if !stays.iter().any(|(a, s)| *a == who && s.came_at == v.came_at) {
                stays.push((who, Stay { came_at: v.came_at, left_at: v.left_at }));
            }
        }
    }
    let before = desk.store.read(move |conn| online::stays(conn, date_id)).await?;
    let known: usize = before.values().map(Vec::len).sum();
    let same = known == stays.len()
        && stays.iter().all(|(a, s)| before.get(a).is_some_and(|b| b.contains(s)));
    if !same {
        desk.store.write(move |tx| online::set_stays(tx, date_id, &stays)).await?;
    }
    if how.recorded
        && how.recording.is_empty()
        && now > date.span.ends_at
        && let Some(first) = rooms.into_iter().next()
        && let Some(url) = desk.rooms.recording(first).await.map_err(failed)?
    {
        desk.store
            .write(move |tx| {
                let how = online::of_date(tx, date_id)?;
                online::set(tx, date_id, &OnlineDate { recording: url, ..how })
            })
            .await?;
    }
    Ok(())
}
