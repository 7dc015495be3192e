//! Dates online: where each happens, who went in, what the room reported.

use std::collections::HashMap;

use jiff::Timestamp;
use matricle_core::door::foyer::{Audience, RoomKind, Stay};
use matricle_core::words::codes::TicketCode;
use matricle_core::{AttendeeId, BookingId, DateId, EventId, SessionId};
use rusqlite::{Connection, OptionalExtension};

use crate::convert::InOrder;
use crate::events::{Event, JOINS_ONLINE};
use crate::{Doing, StoreError, Tx, at, us};

/// How a date happens online.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OnlineDate {
    /// Where.
    pub room: RoomKind,
    /// A link of its own.
    pub link: String,
    /// The passcode of that.
    pub passcode: String,
    /// The room opens so many minutes before it starts.
    pub opens_minutes: u32,
    /// Everybody is let straight in; otherwise whoever leads it lets each in.
    pub straight_in: bool,
    /// Everybody may speak; otherwise whoever leads it.
    pub may_speak: bool,
    /// It is recorded.
    pub recorded: bool,
    /// The room's own address and passcode may stand in mails.
    pub in_mails: bool,
    /// How to prepare, in the organiser's words.
    pub prepare: String,
    /// Where the recording is; empty while there is none.
    pub recording: String,
    /// Until when it may be seen.
    pub recording_until: Option<Timestamp>,
    /// Who may see it.
    pub audience: Audience,
}

impl Default for OnlineDate {
    fn default() -> Self {
        Self {
            room: RoomKind::OfEvent,
            link: String::new(),
            passcode: String::new(),
            opens_minutes: 15,
            straight_in: true,
            may_speak: false,
            recorded: false,
            in_mails: false,
            prepare: String::new(),
            recording: String::new(),
            recording_until: None,
            audience: Audience::Came,
        }
    }
}

impl OnlineDate {
    /// How another date happens, which was to happen in some way before: as this one, but for what
    /// is one date's alone, its link and its recording.
    #[must_use]
    pub fn for_another(&self, before: Self) -> Self {
        Self {
            link: before.link,
            passcode: before.passcode,
            recording: before.recording,
            recording_until: before.recording_until,
            ..self.clone()
        }
    }
}

/// How a date happens online; as usual where nothing was said of it.
pub fn of_date(conn: &Connection, date: DateId) -> Result<OnlineDate, StoreError> {
    conn.prepare_cached(
        "SELECT room, link, passcode, opens_minutes, straight_in, may_speak, recorded, in_mails, prepare, recording,
            recording_until, audience FROM online_dates WHERE date_id = ?1",
    )
    .and_then(|mut q| {
        q.query_row([date.0], |row| {
            let mut c = InOrder::from(row, 0);
            Ok(OnlineDate {
                room: c.word("online_dates.room", RoomKind::from_word)?,
                link: c.next()?,
                passcode: c.next()?,
                opens_minutes: c.next()?,
                straight_in: c.next()?,
                may_speak: c.next()?,
                recorded: c.next()?,
                in_mails: c.next()?,
                prepare: c.next()?,
                recording: c.next()?,
                recording_until: c.instant_or()?,
                audience: c.word("online_dates.audience", Audience::from_word)?,
            })
        })
        .optional()
    })
    .map(Option::unwrap_or_default)
    .doing("reading how a date happens online")
}

/// Says how a date happens online.
pub fn set(tx: &Tx<'_>, date: DateId, o: &OnlineDate) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT OR REPLACE INTO online_dates (date_id, room, link, passcode, opens_minutes, straight_in, may_speak,
            recorded, in_mails, prepare, recording, recording_until, audience)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13)",
    )
    .and_then(|mut q| {
        q.execute((
            date.0,
            o.room.word(),
            &o.link,
            &o.passcode,
            o.opens_minutes,
            o.straight_in,
            o.may_speak,
            o.recorded,
            o.in_mails,
            &o.prepare,
            &o.recording,
            o.recording_until.map(us),
            o.audience.word(),
        ))
    })
    .map(drop)
    .doing("writing how a date happens online")
}

/// The key of the room that the service makes for a date.
#[must_use]
pub fn room_key(kind: RoomKind, event: EventId, date: DateId) -> String {
    if kind == RoomKind::Shared { format!("e{event}") } else { format!("d{date}") }
}

/// What the service calls a room that it made.
pub fn made(conn: &Connection, key: &str) -> Result<Option<String>, StoreError> {
    conn.prepare_cached("SELECT remote FROM online_rooms WHERE key = ?1")
        .and_then(|mut q| q.query_row([key], |row| row.get(0)).optional())
        .doing("looking a room up")
}

/// Writes down that the service made a room.
pub fn set_made(tx: &Tx<'_>, key: &str, remote: &str, now: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT OR REPLACE INTO online_rooms (key, remote, made_at) VALUES (?1, ?2, ?3)",
    )
    .and_then(|mut q| q.execute((key, remote, us(now))))
    .map(drop)
    .doing("writing a room down")
}

/// Where a date happens.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Room {
    /// At this link, with this passcode.
    Link(String, String),
    /// In what the service calls this.
    Service(String),
    /// That is not known yet.
    Nowhere,
}

/// Where a date happens.
pub fn room(
    conn: &Connection,
    event: &Event,
    date: DateId,
    how: &OnlineDate,
) -> Result<Room, StoreError> {
    let link = |link: &str, passcode: &str| match link {
        "" => Room::Nowhere,
        link => Room::Link(link.to_owned(), passcode.to_owned()),
    };
    Ok(match how.room {
        RoomKind::OfEvent => link(&event.online_link, &event.online_passcode),
        RoomKind::Link => link(&how.link, &how.passcode),
        RoomKind::Made | RoomKind::Shared => {
            let key = room_key(how.room, event.id, date);
            made(conn, &key)?.map_or(Room::Nowhere, Room::Service)
        }
    })
}

/// A room of its own that a session has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OwnRoom {
    /// A link, or made by the service.
    pub kind: RoomKind,
    /// The link; may be empty until it is known.
    pub link: String,
    /// The passcode of that.
    pub passcode: String,
}

/// The key of the room that the service makes for a session.
#[must_use]
pub fn session_key(session: SessionId) -> String {
    format!("s{session}")
}

/// The sessions of a date that have a room of their own.
pub fn own_rooms(
    conn: &Connection,
    date: DateId,
) -> Result<HashMap<SessionId, OwnRoom>, StoreError> {
    conn.prepare_cached(
        "SELECT o.session_id, o.room, o.link, o.passcode FROM online_sessions o
            JOIN date_sessions s ON s.id = o.session_id WHERE s.date_id = ?1",
    )
    .and_then(|mut q| {
        q.query_map([date.0], |row| {
            let mut c = InOrder::from(row, 0);
            let id = SessionId(c.next()?);
            let kind = c.word("online_sessions.room", RoomKind::from_word)?;
            Ok((id, OwnRoom { kind, link: c.next()?, passcode: c.next()? }))
        })?
        .collect()
    })
    .doing("reading which sessions have rooms of their own")
}

/// Gives a session a room of its own, or none.
pub fn set_own_room(
    tx: &Tx<'_>,
    session: SessionId,
    own: Option<&OwnRoom>,
) -> Result<(), StoreError> {
    match own {
        None => tx.execute("DELETE FROM online_sessions WHERE session_id = ?1", [session.0]),
        Some(own) => tx.execute(
            "INSERT OR REPLACE INTO online_sessions (session_id, room, link, passcode) VALUES (?1, ?2, ?3, ?4)",
            (session.0, own.kind.word(), &own.link, &own.passcode),
        ),
    }
    .map(drop)
    .doing("writing which room a session has")
}

/// Where a session happens that has a room of its own.
pub fn room_of_session(
    conn: &Connection,
    session: SessionId,
    own: &OwnRoom,
) -> Result<Room, StoreError> {
    Ok(match own.kind {
        RoomKind::Made | RoomKind::Shared => {
            made(conn, &session_key(session))?.map_or(Room::Nowhere, Room::Service)
        }
        RoomKind::OfEvent | RoomKind::Link if own.link.is_empty() => Room::Nowhere,
        RoomKind::OfEvent | RoomKind::Link => Room::Link(own.link.clone(), own.passcode.clone()),
    })
}

/// Whether it is not known where a date happens, or one of its sessions that has a room of its own.
fn is_nowhere(conn: &Connection, event: &Event, date: DateId) -> Result<bool, StoreError> {
    let own = own_rooms(conn, date)?;
    for (session, own) in &own {
        if room_of_session(conn, *session, own)? == Room::Nowhere {
            return Ok(true);
        }
    }
    Ok(own.is_empty() && room(conn, event, date, &of_date(conn, date)?)? == Room::Nowhere)
}

/// Dates online that start before an instant and whose room is not known: event's title, date.
pub fn without_room(
    conn: &Connection,
    now: Timestamp,
    until: Timestamp,
) -> Result<Vec<(String, DateId, Timestamp)>, StoreError> {
    let near: Vec<i64> = conn
        .prepare_cached(
            "SELECT d.id FROM dates d JOIN events e ON e.id = d.event_id
             WHERE e.format <> 'in person' AND e.state = 'published' AND d.called_off = ''
                AND d.ends_at > ?1 AND d.starts_at < ?2 ORDER BY d.starts_at LIMIT 50",
        )
        .and_then(|mut q| q.query_map((us(now), us(until)), |row| row.get(0))?.collect())
        .doing("looking for dates without a room")?;
    let mut found = Vec::new();
    for id in near.into_iter().map(DateId) {
        if let Some((event, date)) = crate::events::date_by_id(conn, id)?
            && is_nowhere(conn, &event, id)?
        {
            found.push((event.title, id, date.span.starts_at));
        }
    }
    Ok(found)
}

/// Forgets that the service made a room: it is brought to what is wanted next time.
pub fn forget_made(tx: &Tx<'_>, key: &str) -> Result<(), StoreError> {
    tx.execute("DELETE FROM online_rooms WHERE key = ?1", [key])
        .map(drop)
        .doing("forgetting a room")
}

/// Dates with a room of the service, or a session with one, that start or end between two instants: event, date, how.
pub fn with_service(
    conn: &Connection,
    from: Timestamp,
    until: Timestamp,
) -> Result<Vec<(EventId, DateId, RoomKind)>, StoreError> {
    conn.prepare_cached(
        "SELECT d.event_id, d.id, coalesce(o.room, 'event') FROM dates d JOIN events e ON e.id = d.event_id
            LEFT JOIN online_dates o ON o.date_id = d.id
         WHERE d.ends_at > ?1 AND d.starts_at < ?2 AND e.format <> 'in person'
            AND (o.room IN ('made', 'shared') OR EXISTS (SELECT 1 FROM online_sessions x
                JOIN date_sessions s ON s.id = x.session_id WHERE s.date_id = d.id AND x.room = 'made'))
            AND d.called_off = '' AND e.state = 'published' ORDER BY d.starts_at LIMIT 200",
    )
    .and_then(|mut q| {
        q.query_map((us(from), us(until)), |row| {
            let mut c = InOrder::from(row, 0);
            Ok((
                EventId(c.next()?),
                DateId(c.next()?),
                c.word("online_dates.room", RoomKind::from_word)?,
            ))
        })?
        .collect()
    })
    .doing("looking for rooms to make")
}

/// The dates of the person who has this code, in their order: place on each, date, end.
pub fn of_code(
    conn: &Connection,
    code: TicketCode,
) -> Result<Vec<(AttendeeId, DateId, Timestamp)>, StoreError> {
    conn.prepare_cached(
        "SELECT a.id, a.date_id, d.ends_at FROM attendees c
            JOIN attendees a ON a.booking_id = c.booking_id AND a.person_no = c.person_no
            JOIN dates d ON d.id = a.date_id
         WHERE c.code = ?1 ORDER BY d.starts_at, a.id",
    )
    .and_then(|mut q| {
        q.query_map([code.as_str()], |row| {
            Ok((AttendeeId(row.get(0)?), DateId(row.get(1)?), at(row.get(2)?)))
        })?
        .collect()
    })
    .doing("looking a personal link up")
}

/// How often the personal link of a person was replaced, by any of their places.
pub fn steps(conn: &Connection, code: TicketCode) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT coalesce(sum(l.steps), 0) FROM attendees c
            JOIN attendees a ON a.booking_id = c.booking_id AND a.person_no = c.person_no
            JOIN online_links l ON l.attendee_id = a.id WHERE c.code = ?1",
    )
    .and_then(|mut q| q.query_row([code.as_str()], |row| row.get(0)))
    .doing("looking a personal link up")
}

/// Replaces the personal link of an attendee.
pub fn replace(tx: &Tx<'_>, attendee: AttendeeId) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT INTO online_links (attendee_id, steps) VALUES (?1, 1) ON CONFLICT DO UPDATE SET steps = steps + 1",
    )
    .and_then(|mut q| q.execute([attendee.0]))
    .map(drop)
    .doing("replacing a personal link")
}

/// Writes down that somebody went in through the foyer.
pub fn add_go(
    tx: &Tx<'_>,
    attendee: AttendeeId,
    date: DateId,
    browser: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT INTO online_goes (attendee_id, date_id, at, browser) VALUES (?1, ?2, ?3, ?4)",
    )
    .and_then(|mut q| q.execute((attendee.0, date.0, us(now), browser)))
    .map(drop)
    .doing("writing who went in")
}

/// When somebody went in through the foyer at a date, and from which browser, oldest first.
pub fn goes(
    conn: &Connection,
    attendee: AttendeeId,
    date: DateId,
) -> Result<Vec<(Timestamp, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT at, browser FROM online_goes WHERE attendee_id = ?1 AND date_id = ?2 ORDER BY at, id",
    )
    .and_then(|mut q| {
        q.query_map((attendee.0, date.0), |row| Ok((at(row.get(0)?), row.get(1)?)))?.collect()
    })
    .doing("reading who went in")
}

/// Who went in through the foyer at a date: how often, from how many browsers.
pub fn all_goes(
    conn: &Connection,
    date: DateId,
) -> Result<HashMap<AttendeeId, (u32, u32)>, StoreError> {
    conn.prepare_cached(
        "SELECT attendee_id, count(*), count(DISTINCT browser) FROM online_goes WHERE date_id = ?1 GROUP BY attendee_id",
    )
    .and_then(|mut q| {
        q.query_map([date.0], |row| Ok((AttendeeId(row.get(0)?), (row.get(1)?, row.get(2)?))))?
            .collect()
    })
    .doing("reading who went in")
}

/// What the room reported of a date takes the place of what it reported before.
pub fn set_stays(
    tx: &Tx<'_>,
    date: DateId,
    stays: &[(AttendeeId, Stay)],
) -> Result<(), StoreError> {
    tx.execute("DELETE FROM online_stays WHERE date_id = ?1", [date.0])
        .doing("writing what a room reported")?;
    for (attendee, stay) in stays {
        tx.prepare_cached(
            "INSERT OR REPLACE INTO online_stays (date_id, attendee_id, came_at, left_at)
             SELECT ?1, id, ?3, ?4 FROM attendees WHERE id = ?2 AND date_id = ?1",
        )
        .and_then(|mut q| q.execute((date.0, attendee.0, us(stay.came_at), stay.left_at.map(us))))
        .doing("writing what a room reported")?;
    }
    Ok(())
}

/// What the room reported of a date.
pub fn stays(
    conn: &Connection,
    date: DateId,
) -> Result<HashMap<AttendeeId, Vec<Stay>>, StoreError> {
    let rows: Vec<(i64, i64, Option<i64>)> = conn
        .prepare_cached("SELECT attendee_id, came_at, left_at FROM online_stays WHERE date_id = ?1")
        .and_then(|mut q| {
            q.query_map([date.0], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?.collect()
        })
        .doing("reading what a room reported")?;
    let mut stays: HashMap<AttendeeId, Vec<Stay>> = HashMap::new();
    for (attendee, came, left) in rows {
        let stay = Stay { came_at: at(came), left_at: left.map(at) };
        stays.entry(AttendeeId(attendee)).or_default().push(stay);
    }
    Ok(stays)
}

/// Whether a ticket joins online, where its event is both in person and online.
pub fn joins_online(conn: &Connection, attendee: AttendeeId) -> Result<bool, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {JOINS_ONLINE} FROM attendees a
            JOIN dates d ON d.id = a.date_id JOIN events e ON e.id = d.event_id
            LEFT JOIN ticket_types t ON t.id = a.ticket_type_id WHERE a.id = ?1"
    ))
    .and_then(|mut q| q.query_row([attendee.0], |row| row.get(0)).optional())
    .map(|found| found.unwrap_or(false))
    .doing("looking up who joins online")
}

/// The attendees of a booking who join online: person, name, code of their first place.
pub fn of_booking(
    conn: &Connection,
    booking: BookingId,
) -> Result<Vec<(usize, String, TicketCode)>, StoreError> {
    let rows: Vec<(i64, String, String)> = conn
        .prepare_cached(&format!(
            "SELECT a.person_no, a.name, a.code FROM attendees a
                JOIN dates d ON d.id = a.date_id JOIN events e ON e.id = d.event_id
                LEFT JOIN ticket_types t ON t.id = a.ticket_type_id
             WHERE a.booking_id = ?1 AND a.position = a.person_no AND a.cancelled_at IS NULL
                AND {JOINS_ONLINE}
             ORDER BY a.person_no"
        ))
        .and_then(|mut q| {
            q.query_map([booking.0], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?.collect()
        })
        .doing("looking up who joins online")?;
    Ok(rows
        .into_iter()
        .filter_map(|(person, name, code)| match matricle_core::words::codes::read(&code) {
            matricle_core::words::codes::Reading::Code(code) => {
                Some((usize::try_from(person).ok()?, name, code))
            }
            _ => None,
        })
        .collect())
}

/// Somebody of the house who answers for what the foyer writes down: the first there is.
pub fn who_answers(conn: &Connection) -> Result<Option<matricle_core::PersonId>, StoreError> {
    conn.prepare_cached("SELECT id FROM people WHERE role IS NOT NULL ORDER BY id LIMIT 1")
        .and_then(|mut q| q.query_row([], |row| row.get(0).map(matricle_core::PersonId)).optional())
        .doing("looking up who answers for the foyer")
}
