//! What devices did while they could not ask, settled one by one when the network is back.

use jiff::{SignedDuration, Timestamp};
use matricle_core::door::passages::{
    Did, Finding, Found, Passage, Way, corrected, settle, standing,
};
use matricle_core::door::{Presence, Verdict};
use matricle_core::money::ledger::Method;
use matricle_core::{DateId, SessionId};
use matricle_store::Tx;
use matricle_store::door::{self as db, AtDoor, Doorway, NewScan, Scan};
use matricle_store::{bookings, devices};

use super::rooms::AtRoom;
use super::{Shown, Told, Volunteer, Why, answered_before, gate_of, looked_up, tell};
use crate::acting::Turn;
use crate::bookings::taking::take_in;
use crate::telling::{Arrived, tell_let_in};
use crate::{Desk, DeskError};

/// How long before a date begins somebody may have come to it.
const EARLIEST: SignedDuration = SignedDuration::from_hours(36);
/// How long after the end of a date its door takes what devices hand in.
const LATEST: SignedDuration = SignedDuration::from_hours(24 * 14);

/// One thing that a device did.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Queued {
    /// Made by the device: handed in twice, it counts once.
    pub key: String,
    /// What was shown.
    pub shown: Shown,
    /// What the device did.
    pub did: Did,
    /// When, by its clock.
    pub at: Timestamp,
    /// How far its clock was behind the house's.
    pub behind: SignedDuration,
    /// At which door.
    pub door: String,
    /// Cash that was taken with it, in minor units, and the number of the receipt.
    pub cash: Option<(i64, String)>,
    /// The word of the verdict that the device gave; empty where it let in.
    pub said: String,
    /// It was let in, and taken back at the device: cash that was given back, and its receipt.
    pub undone: Option<(i64, String)>,
}

/// What became of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SettledScan {
    /// Its key, for undoing.
    pub scan: i64,
    /// Whose ticket it was; empty when nobody's.
    pub name: String,
    /// What somebody has to look into.
    pub line: Option<Finding>,
    /// They were let in twice: by the first, and by the other.
    pub twice: Option<(Passage, Passage)>,
}

/// Settles what a device did while it could not ask. Handed in again, the answer is the same
/// and nothing is done twice.
///
/// A device whose time is over still hands in what it did before that. One that was sent away hands
/// in as many scans as it had announced until then, each with a line in the report: its clock is
/// its own, and so is its word on money, which waits for a person. All else lets nobody in.
///
/// # Errors
/// The role may not; the device is for other dates; the date is long over.
pub async fn settle_one(
    desk: &Desk,
    who: impl Into<Volunteer>,
    date: DateId,
    queued: Queued,
) -> Result<SettledScan, DeskError> {
    let volunteer = who.into();
    if let Volunteer::Staff(_) = &volunteer {
        volunteer.checks_in(desk.clock.now())?;
    }
    let turn = desk.turn(volunteer.acting());
    let settled =
        desk.store.write(move |tx| settle_in(tx, &volunteer, date, &queued, &turn)).await?;
    desk.wake.all();
    Ok(settled)
}

/// The doorway that a device stood at, when it did what it hands in, and whether its time was over.
fn moment_of(
    tx: &Tx<'_>,
    volunteer: &Volunteer,
    date: DateId,
    queued: &Queued,
    turn: &Turn,
) -> Result<(Doorway, Timestamp, bool), DeskError> {
    if !volunteer.covers(date) {
        return Err(matricle_core::door::device::DeviceRefusal::OtherDate.into());
    }
    let doorway = db::doorway(tx, date)?.ok_or(DeskError::NotFound)?;
    if doorway.span.ends_at.saturating_add(LATEST).is_ok_and(|latest| turn.now > latest) {
        return Err(DeskError::DoorShut);
    }
    // Nobody came in before the door could be open, whatever a device says.
    let first = doorway.span.starts_at.saturating_sub(EARLIEST).unwrap_or(doorway.span.starts_at);
    let at = corrected(queued.at, queued.behind, turn.now).max(first.min(turn.now));
    let too_late = match volunteer {
        Volunteer::Staff(_) => false,
        Volunteer::Device(device) => {
            let until = device.grant.sent_away_at.unwrap_or(device.grant.ends_at);
            at > until.min(device.grant.ends_at) || device.joined_at.is_none_or(|j| at < j)
        }
    };
    Ok((doorway, at, too_late))
}

/// The doorway and the moment of a walk-in, and whether it may be booked: what a device hands in
/// that was sent away waits for a person, and no more of it than it had announced is heard.
pub(super) fn when_of(
    tx: &Tx<'_>,
    volunteer: &Volunteer,
    date: DateId,
    queued: &Queued,
    turn: &Turn,
) -> Result<(Doorway, Timestamp, bool), DeskError> {
    let (doorway, at, too_late) = moment_of(tx, volunteer, date, queued, turn)?;
    if let Some(device) = volunteer.sent_away() {
        if !devices::take_announced(tx, device)? {
            return Err(matricle_core::door::device::DeviceRefusal::SentAway.into());
        }
        return Ok((doorway, at, false));
    }
    Ok((doorway, at, !too_late))
}

/// Writes down that somebody was let in who could not be booked.
pub(super) fn unbooked(
    tx: &Tx<'_>,
    volunteer: &Volunteer,
    (date, at): (DateId, Timestamp),
    queued: &Queued,
    line: &Finding,
    turn: &Turn,
) -> Result<i64, DeskError> {
    let mut told = tell(tx, Verdict::Unknown, None)?;
    told.why = Why::Said("let in without a ticket and without network".into());
    let what =
        Written { at, told: &told, person: None, passage: None, room: None, line: Some(line) };
    write(tx, volunteer, date, queued, &what, turn)
}

/// [`settle_one`], inside a transaction.
///
/// # Errors
/// As [`settle_one`].
pub fn settle_in(
    tx: &Tx<'_>,
    volunteer: &Volunteer,
    date: DateId,
    queued: &Queued,
    turn: &Turn,
) -> Result<SettledScan, DeskError> {
    let (doorway, at, too_late) = moment_of(tx, volunteer, date, queued, turn)?;
    let before = answered_before(tx, &queued.key, &queued.shown, date)?;
    let sent_away = volunteer.sent_away();
    let too_late = too_late
        || match (sent_away, &before) {
            (Some(device), None) => !devices::take_announced(tx, device)?,
            _ => false,
        };
    let (mut line, payment) = match (&queued.cash, &before) {
        (Some((minor, _)), None) if sent_away.is_some() => {
            (Some(Finding::CashSaid { minor: *minor }), None)
        }
        (Some((minor, _)), None) if !too_late => {
            take_cash(tx, volunteer, date, queued, *minor, turn)?
        }
        _ => (None, None),
    };
    let person = looked_up(tx, &queued.shown, date)?;
    let verdict = person.as_ref().err().cloned();
    let person = person.ok().flatten();
    let gate = gate_of(tx, &doorway, date, &queued.door)?;
    let passed_on = person.as_ref().is_some_and(|p| p.passed_on);
    let facts = person.as_ref().map(|p| &p.facts);
    let mut found = match too_late {
        true if queued.did == Did::SentAway => Found { passage: None, line: None },
        true => Found { passage: None, line: Some(Finding::AfterSentAway) },
        false => settle(facts, passed_on, &gate, queued.did),
    };
    line = line.or_else(|| found.line.take());
    if sent_away.is_some() && queued.did != Did::SentAway {
        line = line.or(Some(Finding::OfSentAway));
    }
    // The door of a room: they went into the session that was on then.
    let at_room = AtRoom::of(tx, (date, &doorway), &gate, at)?;
    let room = at_room.as_ref().and_then(|r| found.passage.map(|w| (r.session.facts.id, w)));
    if room.is_some() {
        found.passage = found.passage.filter(|way| *way == Way::In);
    }
    match before {
        Some(scan) => {
            let what = (found.passage, room, line.as_ref());
            settled_before(tx, &scan, date, (queued.did, at), what)?
        }
        None => {
            let mut told = told_then(tx, queued, at, verdict, person.as_ref())?;
            told.session = at_room.map_or_else(String::new, |r| r.label());
            write(
                tx,
                volunteer,
                date,
                queued,
                &Written {
                    at,
                    told: &told,
                    person: person.as_ref(),
                    passage: found.passage,
                    room,
                    line: line.as_ref(),
                },
                turn,
            )?;
        }
    }
    let scan = db::scan_by_key(tx, &queued.key)?.ok_or(DeskError::NotFound)?;
    if let Some(payment) = payment {
        db::set_payment(tx, scan.id, &payment)?;
    }
    let mut twice = None;
    if let (Some(attendee), Some(way)) = (scan.attendee, scan.passage) {
        let all = standing(&db::passages(tx, attendee)?);
        twice = all
            .twice
            .into_iter()
            .find(|(first, second)| [first.scan, second.scan].contains(&scan.id));
        db::set_presence(tx, attendee, date, &all.presence)?;
        let inside = matches!(all.presence, Presence::In { at, .. } if at == scan.at);
        if let (Way::In, true, Some(person)) = (way, inside, &person) {
            let arrived = Arrived(person, &scan.door, scan.at);
            tell_let_in(tx, &arrived, &turn.by, &turn.host, turn.now)?;
        }
    }
    let name = person.map_or_else(String::new, |p| p.name);
    Ok(SettledScan { scan: scan.id, name, line: scan.line, twice })
}

/// The money that a device took: what the booking owed, or too much, which goes back.
fn take_cash(
    tx: &Tx<'_>,
    volunteer: &Volunteer,
    date: DateId,
    queued: &Queued,
    minor: i64,
    turn: &Turn,
) -> Result<(Option<Finding>, Option<String>), DeskError> {
    // What a device took that may take none stays a matter between people: the scan is settled.
    if !volunteer.may_take_money() {
        return Ok((None, None));
    }
    let Some(person) = looked_up(tx, &queued.shown, date)?.ok().flatten() else {
        return Ok((None, None));
    };
    let booking = bookings::by_id(tx, person.booking)?.ok_or(DeskError::NotFound)?;
    // A device offers what the booking had to pay, never more than all of it.
    let minor = minor.min(booking.total.minor);
    if minor <= 0 {
        return Ok((None, None));
    }
    let owed = if booking.is_owed() { booking.due().minor } else { 0 };
    let receipt = queued.cash.as_ref().map_or("", |(_, receipt)| receipt);
    let note = match receipt {
        "" => queued.door.clone(),
        receipt => format!("{}, receipt {receipt}", queued.door),
    };
    let payment = take_in(tx, &booking, (Method::Cash, minor), &note, turn)?;
    let line = (minor > owed).then_some(Finding::PaidTwice { minor: minor - owed.max(0) });
    Ok((line, Some(payment)))
}

/// What the device said then, as far as it is known: it is kept with the scan.
fn told_then(
    tx: &Tx<'_>,
    queued: &Queued,
    at: Timestamp,
    verdict: Option<Verdict>,
    person: Option<&AtDoor>,
) -> Result<Told, DeskError> {
    let facts = person.map(|p| &p.facts);
    let verdict = match (queued.did, verdict) {
        (Did::LetIn | Did::LetOut, _) => Verdict::ComeIn,
        (Did::SentAway, Some(verdict)) => verdict,
        (Did::SentAway, None) if queued.undone.is_some() => Verdict::NotIn,
        (Did::SentAway, None) => {
            Verdict::by_device(&queued.said, facts, at, &queued.door).unwrap_or(Verdict::Unknown)
        }
    };
    let due = match &verdict {
        Verdict::ToPay { due } => Some(due.currency),
        _ => facts.map(|f| f.due.currency),
    };
    let mut told = tell(tx, verdict, person)?;
    if queued.did == Did::SentAway {
        told.why = Why::Said(match (&queued.undone, due) {
            (None, _) => "told by the device without network".into(),
            (Some((minor, receipt)), Some(currency)) if *minor > 0 => format!(
                "let in without network and taken back there: receipt {receipt}, {} given back",
                currency.of(*minor)
            ),
            (Some(_), _) => "let in without network and taken back there".into(),
        });
    }
    Ok(told)
}

struct Written<'a> {
    at: Timestamp,
    told: &'a Told,
    person: Option<&'a AtDoor>,
    passage: Option<Way>,
    room: Option<(SessionId, Way)>,
    line: Option<&'a Finding>,
}

fn write(
    tx: &Tx<'_>,
    volunteer: &Volunteer,
    date: DateId,
    queued: &Queued,
    what: &Written<'_>,
    turn: &Turn,
) -> Result<i64, DeskError> {
    let json = super::told_json(what.told)?;
    let new = NewScan {
        key: &queued.key,
        date,
        attendee: what.person.map(|p| p.facts.attendee),
        verdict: what.told.verdict.word(),
        told: &json,
        door: &queued.door,
        person: volunteer.person(),
        device: volunteer.device(),
        device_at: Some(queued.at),
        at: what.at,
        passage: what.passage,
        room: what.room,
        line: what.line,
        receipt: queued.cash.as_ref().map_or("", |(_, receipt)| receipt),
    };
    Ok(db::add_scan(tx, &new, turn.now)?)
}

/// The program had this scan already: an answer that came too late, or the same handed in again.
/// What the device did is what happened.
fn settled_before(
    tx: &Tx<'_>,
    scan: &Scan,
    date: DateId,
    (did, at): (Did, Timestamp),
    (passage, room, line): (Option<Way>, Option<(SessionId, Way)>, Option<&Finding>),
) -> Result<(), DeskError> {
    let did_pass = match did {
        Did::LetIn => Some(Way::In),
        Did::LetOut => Some(Way::Out),
        Did::SentAway => None,
    };
    // Settled before, or the answer said what the device did: nothing new.
    if scan.undone_at.is_some() || scan.line.is_some() || scan.passage.or(scan.room_way) == did_pass
    {
        return Ok(());
    }
    let at = if passage.is_some() || room.is_some() { at } else { scan.at };
    db::amend_scan(tx, scan.id, at, (passage, room), line)?;
    if let Some(attendee) = scan.attendee {
        db::stand(tx, attendee, date)?;
    }
    Ok(())
}
