//! Doors of rooms: the session that one is for, and what it says of somebody.

use jiff::Timestamp;
use matricle_core::door::passages::Way;
use matricle_core::door::rooms::{self, Room, SignedUp, on_now};
use matricle_core::door::{Door, Gate, Verdict};
use matricle_core::{AttendeeId, DateId, SessionId};
use matricle_formats::words;
use matricle_store::door::{self as db, AtDoor, Doorway};
use matricle_store::events::sessions::{self, Session};
use matricle_store::{Connection, StoreError};

/// The door of a room, and the session it is for.
#[derive(Debug, Clone)]
pub(super) struct AtRoom {
    pub(super) session: Session,
    pub(super) room: Room,
    /// Other sessions at the same time, each with the name of the door of its room.
    pub(super) others: Vec<(SessionId, String)>,
}

impl AtRoom {
    /// The door where a scan is judged, if it is that of a room where a session is on at `at` or
    /// is next.
    pub(super) fn of(
        conn: &Connection,
        (date, doorway): (DateId, &Doorway),
        gate: &Gate,
        at: Timestamp,
    ) -> Result<Option<Self>, StoreError> {
        let door = gate.doors.iter().find(|d| d.name == gate.door && !d.room.is_empty());
        let Some(door) = door else { return Ok(None) };
        let all = sessions::of_date(conn, date)?;
        let here: Vec<Session> = all.iter().filter(|s| s.room == door.room).cloned().collect();
        let on = on_now(&db::slots(&here), at);
        match here.into_iter().find(|s| Some(s.facts.id) == on) {
            Some(session) => Self::for_session(conn, session, &all, gate, doorway).map(Some),
            None => Ok(None),
        }
    }

    /// The door of a session's room.
    pub(super) fn for_session(
        conn: &Connection,
        session: Session,
        all: &[Session],
        gate: &Gate,
        doorway: &Doorway,
    ) -> Result<Self, StoreError> {
        let at_once = |s: &&Session| {
            s.facts.id != session.facts.id
                && s.facts.from < session.facts.until
                && session.facts.from < s.facts.until
        };
        let others = all
            .iter()
            .filter(at_once)
            .map(|s| {
                let door = gate.doors.iter().find(|d| !d.room.is_empty() && d.room == s.room);
                (s.facts.id, door.map_or_else(|| s.room.clone(), |d| d.name.clone()))
            })
            .collect();
        let room = db::room(conn, &session, doorway.free_after_minutes)?;
        Ok(Self { session, room, others })
    }

    /// What it is for, in words.
    pub(super) fn label(&self) -> String {
        format!("{}, {}", self.session.title, words::clock(self.session.span.starts))
    }

    /// What somebody has signed up for, of their sessions.
    pub(super) fn signed_up(&self, theirs: &[SessionId]) -> SignedUp {
        if theirs.contains(&self.session.facts.id) {
            return SignedUp::Here;
        }
        let other = self.others.iter().find(|(id, _)| theirs.contains(id));
        other.map_or(SignedUp::Nothing, |(_, door)| SignedUp::Elsewhere { door: door.clone() })
    }

    /// The verdict on somebody whose ticket says `whole` for the date.
    pub(super) fn judge(
        &self,
        conn: &Connection,
        whole: Verdict,
        (attendee, way): (AttendeeId, Way),
        coming: u32,
        now: Timestamp,
    ) -> Result<Verdict, StoreError> {
        let inside = db::in_session(conn, attendee, self.session.facts.id)?;
        Ok(match way {
            Way::In => {
                let signed_up = self.signed_up(&db::sign_ups(conn, attendee)?);
                rooms::verdict(whole, &self.room, &signed_up, inside, coming, now)
            }
            Way::Out => rooms::verdict_out(whole, inside.is_some()),
        })
    }

    /// Others on the same ticket who are not in the room.
    pub(super) fn family(
        &self,
        conn: &Connection,
        attendee: AttendeeId,
    ) -> Result<Vec<AtDoor>, StoreError> {
        let mut family = Vec::new();
        for other in db::all_on_the_same_ticket(conn, attendee)? {
            if db::in_session(conn, other.facts.attendee, self.session.facts.id)?.is_none() {
                family.push(other);
            }
        }
        Ok(family)
    }
}

/// The doors of rooms, each with what is on behind it, if something is.
pub(super) fn behind_doors(
    conn: &Connection,
    (date, doorway): (DateId, &Doorway),
    doors: &[Door],
    now: Timestamp,
) -> Result<Vec<(String, Option<AtRoom>)>, StoreError> {
    doors
        .iter()
        .filter(|d| !d.room.is_empty())
        .map(|door| {
            let gate = doorway.gate(date, doors.to_vec(), &door.name);
            Ok((door.name.clone(), AtRoom::of(conn, (date, doorway), &gate, now)?))
        })
        .collect()
}

/// A session of a date, with who is there.
#[derive(Debug, Clone)]
pub struct InRoom {
    /// The session.
    pub session: Session,
    /// Who is in its room.
    pub room: Room,
    /// How many came to it, whether they stayed or not.
    pub came: u32,
}

/// The sessions of a date, with who is there, by time.
pub(super) fn of_date(
    conn: &Connection,
    date: DateId,
    doorway: &Doorway,
) -> Result<Vec<InRoom>, StoreError> {
    let came = db::came_to_sessions(conn, date)?;
    let of = |session: Session| {
        let room = db::room(conn, &session, doorway.free_after_minutes)?;
        let came = came.iter().find(|c| c.0 == session.facts.id).map_or(0, |c| c.1);
        Ok(InRoom { session, room, came })
    };
    sessions::of_date(conn, date)?.into_iter().map(of).collect()
}

/// From when the door of a session's room is for it.
pub(super) fn opens(session: &Session, all: &[Session]) -> Timestamp {
    let here: Vec<Session> = all.iter().filter(|s| s.room == session.room).cloned().collect();
    let doors = rooms::at_the_door(&db::slots(&here));
    let own = doors.into_iter().find(|(slot, _)| slot.session == session.facts.id);
    own.map_or(session.facts.from, |(_, opens)| opens)
}
