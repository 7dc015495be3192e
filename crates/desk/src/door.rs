//! The door: scanning, letting in by name, undoing, and what the door sees.

pub mod after;
mod board;
pub mod devices;
pub mod finding;
pub mod flow;
pub mod foyer;
pub mod online;
pub mod papers;
mod paying;
pub mod posting;
pub mod report;
mod rooms;
pub mod roster;
pub mod set_up;
pub mod settling;
mod unscanned;
mod volunteer;
pub mod walk_in;
pub mod walked_in;

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::dates::schedule::Span;
use matricle_core::door::passages::Way;
use matricle_core::door::{self, Gate, Presence, Verdict};
use matricle_core::people::staff::{Right, require};
use matricle_core::words::codes::{Reading, read};
use matricle_core::{AttendeeId, Currency, DateId, Money};
use matricle_formats::words;
use matricle_store::cards::{self, HeldCard};
use matricle_store::door::{AtDoor, Doorway, NewScan, Scan};
use matricle_store::events;
use matricle_store::people::Staff;
use matricle_store::{Connection, Tx, bookings, door as db};
use serde::{Deserialize, Serialize};

use crate::acting::Turn;
use crate::money::refunds::hand_back;
use crate::telling::{Arrived, tell_let_in};
use crate::{Desk, DeskError};

pub use board::{Board, Name, board, log, names, todays};
pub use paying::{Pay, With, on_their_telephone, pay};
pub use rooms::InRoom;
pub use volunteer::Volunteer;

use board::open_now;
use paying::with_ways;
use rooms::AtRoom;

/// What the door is told about a scan, kept with it as it was then. The pages word it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Told {
    /// The verdict.
    pub verdict: Verdict,
    /// What else there is to say about it.
    pub why: Why,
    /// Whose ticket or stamp card it was; empty when nobody's.
    pub name: String,
    /// The ticket type, or the kind of card.
    pub ticket: String,
    /// Place on the booking and people on it, where there are several.
    pub place: Option<(u32, u32)>,
    /// Others on the booking who are not here yet, by name: of scans that were kept before
    /// [`Told::others`] was.
    pub companions: Vec<String>,
    /// What the organiser wants the door to know of them.
    #[serde(default)]
    pub note: String,
    /// Others who came in with the same ticket: the scan, who, their name.
    #[serde(default)]
    pub with: Vec<(i64, AttendeeId, String)>,
    /// Others on the booking with tickets of their own who are not here yet.
    #[serde(default)]
    pub others: Vec<(AttendeeId, String)>,
    /// The session whose room it was, in words; empty at the door of the date.
    #[serde(default)]
    pub session: String,
}

/// What a verdict rests on, beyond itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Why {
    /// Nothing more.
    Itself,
    /// The ticket was passed to somebody else.
    PassedOn,
    /// Money is due, and the organiser has not said yes.
    NoYesYet,
    /// The date that the ticket is for.
    Other {
        /// Its event.
        title: String,
        /// When it is.
        span: Span,
    },
    /// As it was worded by a version that kept words.
    Said(String),
}

/// How scans were kept by a version that kept words.
#[derive(Deserialize)]
struct InWords {
    verdict: String,
    name: String,
    ticket: String,
    reason: String,
    companions: Vec<String>,
}

impl InWords {
    fn told(self, scan: &Scan) -> Told {
        let verdict = match self.verdict.as_str() {
            "come in" => Verdict::ComeIn,
            "already in" => Verdict::AlreadyIn { at: scan.at, door: scan.door.clone() },
            "to pay" => Verdict::ToPay { due: Currency::EUR.of(0) },
            "other date" => Verdict::OtherDate { date: scan.date },
            "stamp card" => Verdict::StampCard { left: 0 },
            "a test" => Verdict::Test,
            "cancelled" => Verdict::Cancelled,
            "misread" => Verdict::Misread,
            _ => Verdict::Unknown,
        };
        let why = if self.reason.is_empty() { Why::Itself } else { Why::Said(self.reason) };
        let (name, ticket, companions) = (self.name, self.ticket, self.companions);
        Told {
            verdict,
            why,
            name,
            ticket,
            place: None,
            companions,
            note: String::new(),
            with: Vec::new(),
            others: Vec::new(),
            session: String::new(),
        }
    }
}

/// The device at a door, and one scan of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Device {
    /// Which door it stands at.
    pub door: String,
    /// Made by the device for this scan, so that one sent twice counts once.
    pub key: String,
    /// What its clock said, if it did.
    pub at: Option<Timestamp>,
    /// Which way people go past it.
    pub way: Way,
}

impl Device {
    /// A scan at a door, by a device that tells no time.
    #[must_use]
    pub fn at(door: &str, key: &str) -> Self {
        Self { door: door.into(), key: key.into(), at: None, way: Way::In }
    }
}

/// A scan with what was told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Outcome {
    /// Its key, for undoing.
    pub scan: i64,
    /// What the door is told.
    pub told: Told,
    /// When.
    pub at: Timestamp,
    /// Which door.
    pub door: String,
    /// Whether it was undone since.
    pub undone: bool,
    /// How the person can pay here and now; only of a fresh verdict, and only if they can.
    pub pay: Option<Pay>,
    /// Where the person stands after an undo.
    pub stands: Option<Presence>,
    /// What was handed back with an undo.
    pub back: Option<Money>,
    /// Whose ticket it was.
    pub attendee: Option<AttendeeId>,
    /// Somebody passed with it.
    pub passed: bool,
    /// Money was taken with it.
    pub took: bool,
}

impl Outcome {
    fn of(scan: Scan) -> Result<Self, DeskError> {
        let told = match serde_json::from_str(&scan.told) {
            Ok(told) => told,
            Err(_) => serde_json::from_str::<InWords>(&scan.told)
                .map_err(|e| DeskError::Internal(format!("reading a scan: {e}")))?
                .told(&scan),
        };
        Ok(Self {
            scan: scan.id,
            told,
            at: scan.at,
            undone: scan.undone_at.is_some(),
            attendee: scan.attendee,
            passed: scan.passage.or(scan.room_way).is_some(),
            took: scan.payment.is_some(),
            door: scan.door,
            pay: None,
            stands: None,
            back: None,
        })
    }
}

/// What was held to the door.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Shown {
    /// A text that a scanner or camera read.
    Text(String),
    /// Somebody found by name.
    Attendee(AttendeeId),
}

/// Judges what is shown at a door, and lets the person in if all is well.
///
/// The device makes a key for this scan: sent again after a lost answer, the answer is the
/// same and nobody is let in twice. Two doors in the same instant
/// are one after the other here, so one of them is told *already in*.
///
/// # Errors
/// The role may not, there is no such date, or the store fails.
pub async fn show(
    desk: &Desk,
    who: impl Into<Volunteer>,
    date: DateId,
    device: Device,
    shown: Shown,
) -> Result<Outcome, DeskError> {
    let volunteer = who.into();
    volunteer.checks_in_at(date, desk.clock.now())?;
    let turn = desk.turn(volunteer.acting());
    let by = volunteer.clone();
    let outcome =
        desk.store.write(move |tx| show_in(tx, &by, date, &device, &shown, &turn)).await?;
    with_ways(desk, &volunteer, outcome).await
}

/// Lets whoever checks in pass at the door of a date that is on, or that an organiser has
/// opened; names of other days are nobody's at the door.
fn at_open_door(
    conn: &Connection,
    volunteer: &Volunteer,
    date: DateId,
    now: Timestamp,
) -> Result<Doorway, DeskError> {
    volunteer.checks_in_at(date, now)?;
    let doorway = db::doorway(conn, date)?.ok_or(DeskError::NotFound)?;
    if door::is_open(&doorway.span, doorway.opened_by.is_some(), now) {
        Ok(doorway)
    } else {
        Err(DeskError::DoorShut)
    }
}

/// What a verdict rests on at one of the doors of a date.
fn gate_of(
    conn: &Connection,
    doorway: &Doorway,
    date: DateId,
    door: &str,
) -> Result<Gate, DeskError> {
    Ok(doorway.gate(date, db::doors(conn, date)?, door))
}

/// The event and the date of a door, whether it is open or not.
///
/// # Errors
/// The role may not, or there is no such date.
pub async fn of_date(
    desk: &Desk,
    who: impl Into<Volunteer>,
    date: DateId,
) -> Result<(events::Event, events::Date), DeskError> {
    who.into().checks_in_at(date, desk.clock.now())?;
    desk.store.read(move |conn| events::date_by_id(conn, date)?.ok_or(DeskError::NotFound)).await
}

/// Who opened the door of a date for another day than its own, if somebody did.
///
/// # Errors
/// The role may not, or there is no such date.
pub async fn opened_by(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
) -> Result<Option<String>, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let doorway = desk.store.read(move |conn| db::doorway(conn, date)).await?;
    Ok(doorway.ok_or(DeskError::NotFound)?.opened_by)
}

/// Why money goes back that was taken by mistake.
const TAKEN_BACK: &str = "taken back at the door";

/// Gives somebody a wristband or a card that the house has: it lets them in and out at this date
/// like their ticket. Whoever had it before has it no more.
///
/// # Errors
/// The role may not; there is no such person at this date; the code is a ticket's.
pub async fn give_code(
    desk: &Desk,
    who: impl Into<Volunteer>,
    date: DateId,
    code: &str,
    attendee: AttendeeId,
) -> Result<String, DeskError> {
    let volunteer = who.into();
    volunteer.checks_in_at(date, desk.clock.now())?;
    let turn = desk.turn(volunteer.acting());
    let code = house_code(&code.chars().take(LONGEST_CODE).collect::<String>());
    if code.is_empty() || !matches!(read(&code), Reading::NotACode) {
        return Err(DeskError::NotFound);
    }
    desk.store
        .write(move |tx| {
            at_open_door(tx, &volunteer, date, turn.now)?;
            let person = db::by_id(tx, attendee)?.filter(|p| p.facts.date == date);
            let person = person.ok_or(DeskError::NotFound)?;
            db::give_house_code(tx, &code, (date, attendee), &turn.by.name, turn.now)?;
            let what = format!("gave {} the card or wristband {code}", person.name);
            bookings::happened(tx, person.booking, turn.now, &turn.by, &what)?;
            Ok(person.name)
        })
        .await
}

/// Longest code of a wristband or a card, in characters.
const LONGEST_CODE: usize = 64;

/// Opens the door of a date on another day than its own, or leaves it to its day again: an
/// organiser's yes, which the door shows with their name.
///
/// # Errors
/// There is no such date; the role may not.
pub async fn open(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
    open: bool,
    from_where: String,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    desk.store
        .write(move |tx| {
            let (event, on) = events::date_by_id(tx, date)?.ok_or(DeskError::NotFound)?;
            db::set_open(tx, date, open.then_some(turn.by.name.as_str()), turn.now)?;
            let act = if open { "opened" } else { "shut" };
            let when = words::long_span(on.span.starts, on.span.ends);
            let what = format!("{act} the door of {} of {when}", event.title);
            matricle_store::audit::note(tx, &turn.by.name, &what, &from_where, turn.now)?;
            crate::planning::dates::log(tx, event.id, &turn, &what)
        })
        .await
}

/// What a door says of whoever stands there, and who comes in with them.
struct Judged {
    verdict: Verdict,
    person: Option<AtDoor>,
    family: Vec<AtDoor>,
    at_room: Option<AtRoom>,
}

/// Judges what is shown, of all that comes in with it.
fn judge(
    conn: &Connection,
    (date, doorway): (DateId, &Doorway),
    device: &Device,
    shown: &Shown,
    now: Timestamp,
) -> Result<Judged, DeskError> {
    let mut gate = gate_of(conn, doorway, date, &device.door)?;
    let at_room = AtRoom::of(conn, (date, doorway), &gate, now)?;
    let person = match looked_up(conn, shown, date)? {
        Ok(person) => person,
        Err(verdict) => return Ok(Judged { verdict, person: None, family: Vec::new(), at_room }),
    };
    let family = match (device.way, &person, &at_room) {
        (Way::In, Some(p), Some(room)) if p.people > 1 => room.family(conn, p.facts.attendee)?,
        (Way::In, Some(p), None) if p.people > 1 => db::on_the_same_ticket(conn, p.facts.attendee)?,
        _ => Vec::new(),
    };
    let coming = 1 + u32::try_from(family.len()).unwrap_or(u32::MAX - 1);
    gate.coming = coming;
    let facts = person.as_ref().map(|p| &p.facts);
    let verdict = match (&at_room, facts, device.way) {
        (Some(room), Some(person), way) => {
            let whole = door::verdict(Some(person), &gate);
            room.judge(conn, whole, (person.attendee, way), coming, now)?
        }
        (_, _, Way::In) => door::verdict(facts, &gate),
        (_, _, Way::Out) => door::verdict_out(facts, &gate),
    };
    Ok(Judged { verdict, person, family, at_room })
}

/// The scan that a key was made for, if it was used before: the answer to it is the same. A key
/// belongs to one scan of one person.
///
/// # Errors
/// [`DeskError::KeyOfAnother`] where it was used for somebody else, or at another date.
fn answered_before(
    conn: &Connection,
    key: &str,
    shown: &Shown,
    date: DateId,
) -> Result<Option<Scan>, DeskError> {
    let Some(before) = db::scan_by_key(conn, key)? else { return Ok(None) };
    let theirs = looked_up(conn, shown, date)?.ok().flatten().map(|p| p.facts.attendee);
    let other = theirs.is_some() && before.attendee.is_some() && theirs != before.attendee;
    if other || before.date != date {
        return Err(DeskError::KeyOfAnother);
    }
    Ok(Some(before))
}

/// [`show`], inside a transaction.
///
/// # Errors
/// As [`show`]; [`DeskError::DoorShut`] on another day.
pub fn show_in(
    tx: &Tx<'_>,
    volunteer: &Volunteer,
    date: DateId,
    device: &Device,
    shown: &Shown,
    turn: &Turn,
) -> Result<Outcome, DeskError> {
    let (door, key, now) = (device.door.as_str(), device.key.as_str(), turn.now);
    let doorway = at_open_door(tx, volunteer, date, now)?;
    if let Some(before) = answered_before(tx, key, shown, date)? {
        return Outcome::of(before);
    }
    let Judged { verdict, person, family, at_room } =
        judge(tx, (date, &doorway), device, shown, now)?;
    // Not a ticket, but perhaps a stamp card.
    let card = if verdict == Verdict::Unknown { card_of(tx, shown)? } else { None };
    let verdict =
        card.as_ref().map_or(verdict, |held| Verdict::StampCard { left: held.card.usable(now) });
    let mut told = tell(tx, verdict, person.as_ref())?;
    if let Some(held) = card {
        (told.name, told.ticket) = (held.name, held.kind);
    }
    let passage = match told.verdict {
        Verdict::ComeIn => Some(Way::In),
        Verdict::Out => Some(Way::Out),
        _ => None,
    };
    let went = passage.filter(|_| person.is_some());
    let room = at_room.as_ref().and_then(|r| went.map(|way| (r.session.facts.id, way)));
    // Whoever goes into a room is at the date; whoever goes out of it still is.
    let passage = went.filter(|way| room.is_none() || *way == Way::In);
    let was_in = person.as_ref().is_some_and(|p| matches!(p.facts.presence, Presence::In { .. }));
    if let (Some(at_room), true) = (&at_room, person.is_some()) {
        told.session = at_room.label();
    }
    let write = |key: &str, told: &Told, attendee: Option<AttendeeId>| {
        let json = told_json(told)?;
        let new = NewScan {
            key,
            date,
            attendee,
            verdict: told.verdict.word(),
            told: &json,
            door,
            person: volunteer.person(),
            device: volunteer.device(),
            device_at: device.at,
            at: now,
            passage,
            room,
            line: None,
            receipt: "",
        };
        Ok::<_, DeskError>(db::add_scan(tx, &new, now)?)
    };
    // With the ticket of a family all of it comes in; who is missing is taken out again.
    if passage == Some(Way::In) {
        for member in &family {
            let own = tell(tx, Verdict::ComeIn, Some(member))?;
            let scan = write(
                &format!("{key}+{}", member.facts.attendee),
                &own,
                Some(member.facts.attendee),
            )?;
            db::stand(tx, member.facts.attendee, date)?;
            if !matches!(member.facts.presence, Presence::In { .. }) {
                tell_let_in(tx, &Arrived(member, door, now), &turn.by, &turn.host, now)?;
            }
            told.with.push((scan, member.facts.attendee, member.name.clone()));
        }
    }
    if let (Some(Way::In), Some(person), None) = (passage, &person, room) {
        let own = person.facts.attendee;
        let mut others = db::others_expected(tx, person.booking, date)?;
        others.retain(|(id, _)| *id != own);
        told.others = if person.people > 1 { others } else { Vec::new() };
    }
    let scan = write(key, &told, person.as_ref().map(|p| p.facts.attendee))?;
    if let (Some(way), Some(person)) = (passage, &person) {
        db::stand(tx, person.facts.attendee, date)?;
        if way == Way::Out {
            return Outcome::of(db::scan_by_id(tx, scan)?.ok_or(DeskError::NotFound)?);
        }
    }
    if let (Some(Way::In), Some(person), false) = (passage, &person, was_in) {
        tell_let_in(tx, &Arrived(person, door, now), &turn.by, &turn.host, now)?;
    }
    Ok(Outcome {
        scan,
        told,
        at: now,
        door: door.into(),
        undone: false,
        pay: None,
        stands: None,
        back: None,
        attendee: person.map(|p| p.facts.attendee),
        passed: went.is_some(),
        took: false,
    })
}

fn told_json(told: &Told) -> Result<String, DeskError> {
    serde_json::to_string(told).map_err(|e| DeskError::Internal(format!("writing a scan: {e}")))
}

/// Whose ticket was shown at the door of a date, or the verdict on what is no ticket.
fn looked_up(
    conn: &Connection,
    shown: &Shown,
    date: DateId,
) -> Result<Result<Option<AtDoor>, Verdict>, DeskError> {
    let text = match shown {
        // By name only people of this very date: others are not to be gone through by number.
        Shown::Attendee(id) => {
            return Ok(Ok(db::by_id(conn, *id)?.filter(|p| p.facts.date == date)));
        }
        Shown::Text(text) => text,
    };
    Ok(match door::code(read(text)) {
        Ok(code) => Ok(db::by_code(conn, code, date)?),
        // Perhaps a wristband or a card of the house that somebody was given here.
        Err(verdict) => match db::by_house_code(conn, &house_code(text), date)? {
            Some(person) => Ok(Some(person)),
            None => Err(verdict),
        },
    })
}

/// A foreign code as it is kept: without blanks around it, in one case.
fn house_code(text: &str) -> String {
    text.trim().to_uppercase()
}

/// The card of a text that was shown, if it is one.
fn card_of(conn: &Connection, shown: &Shown) -> Result<Option<HeldCard>, DeskError> {
    match shown {
        Shown::Text(text) => match read(text) {
            Reading::Code(code) => Ok(cards::by_code(conn, code.as_str())?),
            Reading::Misread | Reading::NotACode => Ok(None),
        },
        Shown::Attendee(_) => Ok(None),
    }
}

fn tell(tx: &Connection, verdict: Verdict, person: Option<&AtDoor>) -> Result<Told, DeskError> {
    let why = match &verdict {
        Verdict::ToPay { .. } if person.is_some_and(|p| p.facts.state == State::Requested) => {
            Why::NoYesYet
        }
        Verdict::Cancelled if person.is_some_and(|p| p.passed_on) => Why::PassedOn,
        Verdict::OtherDate { date } => match events::date_by_id(tx, *date)? {
            Some((event, date)) => Why::Other { title: event.title, span: date.span },
            None => Why::Itself,
        },
        Verdict::ComeIn
        | Verdict::AlreadyIn { .. }
        | Verdict::ToPay { .. }
        | Verdict::Out
        | Verdict::NotIn
        | Verdict::WentOut
        | Verdict::OtherDoor { .. }
        | Verdict::SignUpsFirst { .. }
        | Verdict::Full { .. }
        | Verdict::GivenUp { .. }
        | Verdict::StampCard { .. }
        | Verdict::Test
        | Verdict::Cancelled
        | Verdict::Unknown
        | Verdict::Misread => Why::Itself,
    };
    Ok(Told {
        verdict,
        why,
        name: person.map_or_else(String::new, |p| p.name.clone()),
        ticket: person.map_or_else(String::new, |p| p.ticket.clone()),
        place: person.filter(|p| p.people > 1).map(|p| (p.place, p.people)),
        companions: Vec::new(),
        note: person.map_or_else(String::new, |p| p.note.clone()),
        with: Vec::new(),
        others: Vec::new(),
        session: String::new(),
    })
}

/// Undoes a scan with which somebody passed, or with which money was taken: where they are then
/// follows from their other scans, and what was taken goes back; both are told.
///
/// # Errors
/// [`DeskError::NothingToUndo`] when nobody passed with it and no money was taken, or it was undone
/// before.
pub async fn undo(
    desk: &Desk,
    who: impl Into<Volunteer>,
    date: DateId,
    scan: i64,
) -> Result<Outcome, DeskError> {
    let volunteer = who.into();
    volunteer.checks_in_at(date, desk.clock.now())?;
    let (now, turn) = (desk.clock.now(), desk.turn(volunteer.acting()));
    let outcome = desk
        .store
        .write(move |tx| {
            at_open_door(tx, &volunteer, date, now)?;
            let scan = db::scan_by_id(tx, scan)?.ok_or(DeskError::NotFound)?;
            let fits = scan.date == date
                && scan.undone_at.is_none()
                && (scan.passage.or(scan.room_way).is_some() || scan.payment.is_some());
            let (true, Some(attendee)) = (fits, scan.attendee) else {
                return Err(DeskError::NothingToUndo);
            };
            // With a family's ticket all of it is undone.
            for with in db::scans_with(tx, &scan.key)? {
                if let (None, Some(member)) = (with.undone_at, with.attendee) {
                    db::undo_scan(tx, with.id, now)?;
                    db::stand(tx, member, date)?;
                }
            }
            db::undo_scan(tx, scan.id, now)?;
            let stands = db::stand(tx, attendee, date)?;
            let back = match &scan.payment {
                Some(payment) => hand_back(tx, payment, TAKEN_BACK, &turn)?,
                None => None,
            };
            let undone = db::scan_by_id(tx, scan.id)?.ok_or(DeskError::NotFound)?;
            Ok(Outcome { stands: Some(stands), back, ..Outcome::of(undone)? })
        })
        .await?;
    desk.wake.all();
    Ok(outcome)
}
