//! The roster that a device takes along: what the verdict needs of everybody, and nothing else.

use std::collections::HashSet;

use hmac::{Hmac, KeyInit, Mac};
use jiff::{SignedDuration, Timestamp};
use matricle_core::dates::schedule::Span;
use matricle_core::door::rooms::{SignedUp, verdict};
use matricle_core::door::{self, Door, Gate, Verdict};
use matricle_core::{AttendeeId, DateId, SessionId};
use matricle_store::devices::Said;
use matricle_store::door::Doorway;
use matricle_store::{Connection, devices, door as db, events};
use sha2::Sha256;

use super::rooms::{self, AtRoom};
use super::walk_in::{self, Sold};
use super::{Told, Volunteer, at_open_door, tell};
use crate::{Desk, DeskError, house_of, random_bytes};

/// Most people on a roster; of more, a device asks.
pub const MOST: u32 = 100_000;
/// Bits of a digest beyond those that tell the people of a roster apart: a sound code of nobody on
/// it is taken for somebody's once in so many powers of two.
const BITS_BEYOND: u32 = 13;
/// Most bits of a digest: script reckons with whole numbers up to 2^53.
const MOST_BITS: u32 = 48;
/// So many keys are tried before a digest gets one bit more.
const KEYS: u32 = 6;

/// Somebody on a roster.
#[derive(Debug, Clone)]
pub struct Entry {
    /// Of the code on their ticket: the first bits of HMAC-SHA-256 (RFC 2104) under the roster's key.
    pub digest: u64,
    /// Who; nobody where the ticket is not of this date or was passed on.
    pub attendee: Option<AttendeeId>,
    /// The booking they belong to.
    pub booking: i64,
    /// Which ticket of the booking lets them in: that of a family lets several in.
    pub ticket_no: u32,
    /// What the door is told of them as things stand.
    pub told: Told,
    /// What the whole booking has to pay, in minor units, where cash settles it.
    pub cash: Option<i64>,
}

/// What a device takes along.
#[derive(Debug, Clone)]
pub struct Roster {
    /// The event.
    pub title: String,
    /// When it is.
    pub span: Span,
    /// Where.
    pub place: String,
    /// The key of the digests: another each time.
    pub key: [u8; 16],
    /// Bits of each digest: so few that many codes have the same, and none can be found from it.
    pub bits: u32,
    /// When it was taken.
    pub at: Timestamp,
    /// Until when it is kept: the day after.
    pub until: Timestamp,
    /// Everybody.
    pub people: Vec<Entry>,
    /// The references of their bookings, by the bookings' keys.
    pub references: Vec<(i64, String)>,
    /// More are expected than it holds.
    pub cut: bool,
    /// People inside, and the most that may be, where that holds.
    pub inside: (u32, Option<u32>),
    /// Whoever went out may come in again.
    pub again: bool,
    /// Doors with names of their own.
    pub doors: Vec<Door>,
    /// The sessions behind the doors of rooms, with what each of those doors says.
    pub rooms: Vec<SessionDoor>,
    /// Who signed up for which of them.
    pub sign_ups: Vec<(AttendeeId, SessionId)>,
    /// Money may be taken.
    pub takes_money: bool,
    /// What it sells to those without a ticket.
    pub sold: Vec<Sold>,
    /// The zone of the house's clocks.
    pub zone: String,
}

/// What the door of a room says while a session is on, worked out as things stand. Each verdict
/// stands there twice: while the seats of sign-ups are kept, and once they are free.
#[derive(Debug, Clone)]
pub struct SessionDoor {
    /// What the door is called.
    pub door: String,
    /// The session.
    pub session: SessionId,
    /// What it is, in words.
    pub label: String,
    /// From when the door is for it.
    pub opens: Timestamp,
    /// Until when.
    pub until: Timestamp,
    /// From when the seats of sign-ups who have not come are free.
    pub free_from: Timestamp,
    /// Whether one signs up for it.
    pub sign_up: bool,
    /// Its seats, where they are counted.
    pub seats: Option<u32>,
    /// Seats that whoever has not signed up may take, where they are counted.
    pub free: [Option<u32>; 2],
    /// Who is in the room, since when, and by which door.
    pub inside: Vec<(AttendeeId, Timestamp, String)>,
    /// To those who signed up for it.
    pub here: [Told; 2],
    /// To those who signed up for nothing that is on.
    pub nothing: [Told; 2],
    /// To those who signed up for another one at the same time.
    pub elsewhere: Vec<(SessionId, [Told; 2])>,
}

/// The doors of a date's rooms, session by session.
fn session_doors(
    conn: &Connection,
    (date, doorway): (DateId, &Doorway),
    gate: &Gate,
) -> Result<Vec<SessionDoor>, DeskError> {
    let mut doors = Vec::new();
    if gate.doors.iter().all(|d| d.room.is_empty()) {
        return Ok(doors);
    }
    let all = events::sessions::of_date(conn, date)?;
    for session in all.clone() {
        let opens = rooms::opens(&session, &all);
        let door = gate.doors.iter().find(|d| !d.room.is_empty() && d.room == session.room);
        let Some(door) = door else { continue };
        let at_room = AtRoom::for_session(conn, session, &all, gate, doorway)?;
        let (facts, room) = (&at_room.session.facts, &at_room.room);
        let early = room.free_from.saturating_sub(SignedDuration::from_nanos(1));
        let times = [early.unwrap_or(room.free_from), room.free_from];
        let told = |signed_up: &SignedUp| -> Result<[Told; 2], DeskError> {
            let at = |now| verdict(Verdict::ComeIn, room, signed_up, None, 1, now);
            Ok([tell(conn, at(times[0]), None)?, tell(conn, at(times[1]), None)?])
        };
        doors.push(SessionDoor {
            door: door.name.clone(),
            session: facts.id,
            label: at_room.label(),
            opens,
            until: facts.until,
            free_from: room.free_from,
            sign_up: facts.sign_up,
            seats: facts.seats,
            free: times.map(|at| room.free(at)),
            inside: db::in_room(conn, facts.id)?,
            here: told(&SignedUp::Here)?,
            nothing: told(&SignedUp::Nothing)?,
            elsewhere: at_room
                .others
                .iter()
                .map(|(other, _)| Ok((*other, told(&at_room.signed_up(&[*other]))?)))
                .collect::<Result<_, DeskError>>()?,
        });
    }
    Ok(doors)
}

/// The first bits of a code's digest under a roster's key.
fn digest(key: &[u8; 16], code: &str, bits: u32) -> Result<u64, DeskError> {
    let mut mac = Hmac::<Sha256>::new_from_slice(key)
        .map_err(|e| DeskError::Internal(format!("a key: {e}")))?;
    mac.update(code.as_bytes());
    let bytes = mac.finalize().into_bytes();
    let first = bytes.iter().take(8).fold(0_u64, |all, byte| all << 8 | u64::from(*byte));
    Ok(first >> (64 - bits))
}

/// A key, so many bits, and each code's digest, no two of which are the same.
///
/// A code has forty bits that nobody knows. The whole of its digest would tell which they are to
/// whoever tries all of them; of so few bits it tells only that it is one of hundreds of thousands,
/// each as likely as the other.
fn digests(codes: &[String]) -> Result<([u8; 16], u32, Vec<u64>), DeskError> {
    let people = u64::try_from(codes.len()).unwrap_or(u64::MAX).max(1);
    let mut bits = (u64::BITS - people.leading_zeros() + BITS_BEYOND).min(MOST_BITS);
    let of_codes = codes.iter().collect::<HashSet<_>>().len();
    let mut tried = 0;
    loop {
        let key = random_bytes::<16>();
        let found: Vec<u64> =
            codes.iter().map(|c| digest(&key, c, bits)).collect::<Result<_, _>>()?;
        let different: HashSet<u64> = found.iter().copied().collect();
        if bits >= MOST_BITS || different.len() == of_codes {
            return Ok((key, bits, found));
        }
        tried += 1;
        bits += u32::from(tried % KEYS == 0);
    }
}

/// The roster of a date, for the door of this name.
///
/// # Errors
/// The role may not, or the device is for other dates; the door is not open.
pub async fn roster(
    desk: &Desk,
    who: impl Into<Volunteer>,
    date: DateId,
    door_name: String,
) -> Result<Roster, DeskError> {
    let volunteer = who.into();
    volunteer.checks_in_at(date, desk.clock.now())?;
    let now = desk.clock.now();
    // It is long, and is asked for anew every other minute at the most.
    let who = format!("{:?} {:?} {date}", volunteer.device(), volunteer.person());
    desk.often.ask(crate::people::often::Asks::Roster, &who, now)?;
    let (by, door_of) = (volunteer.clone(), door_name.clone());
    let roster = desk
        .store
        .read(move |conn| {
            let doorway = at_open_door(conn, &by, date, now)?;
            let doors = db::doors(conn, date)?;
            let mut gate = doorway.gate(date, doors.clone(), &door_of);
            let most = gate.most.take();
            let (event, on) = events::date_by_id(conn, date)?.ok_or(DeskError::NotFound)?;
            let house = house_of(conn)?;
            let rooms = session_doors(conn, (date, &doorway), &gate)?;
            let sign_ups =
                if rooms.is_empty() { Vec::new() } else { db::all_sign_ups(conn, date)? };
            let rows = db::roster(conn, date, MOST)?;
            let cut = rows.len() >= MOST as usize;
            let codes: Vec<String> = rows.iter().map(|(code, _)| code.clone()).collect();
            let (key, bits, all) = digests(&codes)?;
            let people = rows
                .into_iter()
                .zip(all)
                .map(|((_, person), digest)| {
                    let verdict = door::verdict(Some(&person.facts), &gate);
                    let own = person.facts.date == date && !person.passed_on;
                    let due = match verdict {
                        Verdict::ToPay { due } => Some(due.minor),
                        _ => None,
                    };
                    // Who of a party is not here yet the device works out itself.
                    let told = tell(conn, verdict, Some(&person))?;
                    let cash = due.filter(|_| {
                        own && person.facts.state != matricle_core::booking::State::Requested
                    });
                    Ok(Entry {
                        digest,
                        attendee: Some(person.facts.attendee).filter(|_| own),
                        booking: person.booking.0,
                        ticket_no: person.ticket_no,
                        told,
                        cash,
                    })
                })
                .collect::<Result<Vec<_>, DeskError>>()?;
            Ok::<_, DeskError>(Roster {
                title: event.title,
                until: kept_until(&on.span),
                place: on.place(),
                span: on.span,
                key,
                bits,
                at: now,
                people,
                references: db::references(conn, date, MOST)?,
                cut,
                inside: (doorway.inside, most),
                again: doorway.again,
                doors,
                rooms,
                sign_ups,
                takes_money: by.may_take_money(),
                sold: walk_in::sold(conn, &doorway, date, now)?,
                zone: house.zone,
            })
        })
        .await?;
    if let Some(device) = volunteer.device() {
        let said = Said { door: door_name, took_roster: true, ..Said::default() };
        desk.store.write(move |tx| devices::heard(tx, device, &said, now)).await?;
    }
    Ok(roster)
}

/// A roster is gone the day after.
fn kept_until(span: &Span) -> Timestamp {
    span.ends_at.saturating_add(SignedDuration::from_hours(12)).unwrap_or(span.ends_at)
}

#[cfg(test)]
mod tests {
    use super::*;
    use matricle_core::words::codes::TicketCode;

    #[test]
    fn a_digest_tells_people_apart_and_their_codes_nobody() {
        for people in [1_u64, 40, 3_000] {
            let codes: Vec<String> =
                (0..people).map(|n| TicketCode::from_random(n * 7_919).to_string()).collect();
            let (key, bits, all) = digests(&codes).unwrap();
            let mut sorted = all.clone();
            sorted.sort_unstable();
            sorted.dedup();
            assert_eq!(sorted.len() as u64, people, "each has one of their own");
            assert!(all.iter().all(|d| *d < 1 << bits));
            assert_eq!(all[0], digest(&key, &codes[0], bits).unwrap());
            // Of the forty unknown bits of a code so many stay unknown, whatever is tried.
            assert!(40 - bits >= 12, "{people} people: {bits} bits");
        }
    }
}
