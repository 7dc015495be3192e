//! Those without a ticket whom a device let in while it could not ask: booked, paid and in, as
//! far as there are seats; what cannot be is written down for a person to look into.

use jiff::{SignedDuration, Timestamp};
use matricle_core::door::passages::{Did, Finding};
use matricle_core::money::ledger::Method;
use matricle_core::seats::Wanted;
use matricle_core::{DateId, TicketTypeId};
use matricle_store::Tx;
use matricle_store::door as db;

use super::settling::{Queued, SettledScan, settle_in, unbooked, when_of};
use super::walk_in::{Paid, WalkIn, book_in};
use super::{Device, Shown, Volunteer};
use crate::acting::Turn;
use crate::{Desk, DeskError};

/// Somebody without a ticket whom a device let in, with whoever came along.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WalkedIn {
    /// Made by the device: handed in twice, it counts once.
    pub key: String,
    /// Which ticket they wanted.
    pub ticket: TicketTypeId,
    /// How many.
    pub quantity: u32,
    /// Their name; none is needed.
    pub name: String,
    /// When, by the device's clock.
    pub at: Timestamp,
    /// How far that was behind the house's.
    pub behind: SignedDuration,
    /// At which door.
    pub door: String,
    /// Cash that was taken, in minor units.
    pub cash: i64,
    /// The number of its receipt, out of the device's own block.
    pub receipt: String,
}

/// Settles a walk-in. Handed in again, the answer is the same and nothing is done twice.
///
/// # Errors
/// The role may not; the device is for other dates, or has nothing more to hand in; the date is
/// long over.
pub async fn settle_walk_in(
    desk: &Desk,
    who: impl Into<Volunteer>,
    date: DateId,
    walked: WalkedIn,
) -> Result<SettledScan, DeskError> {
    let volunteer = who.into();
    if let Volunteer::Staff(_) = &volunteer {
        volunteer.checks_in(desk.clock.now())?;
    }
    let turn = desk.turn(volunteer.acting());
    let settled =
        desk.store.write(move |tx| settle_walk_in_in(tx, &volunteer, date, &walked, &turn)).await?;
    desk.wake.all();
    Ok(settled)
}

/// More than so much in minor units nobody pays at a door for one person, whatever a device says.
const MOST_CASH: i64 = 100_000;

fn settle_walk_in_in(
    tx: &Tx<'_>,
    volunteer: &Volunteer,
    date: DateId,
    walked: &WalkedIn,
    turn: &Turn,
) -> Result<SettledScan, DeskError> {
    if let Some(scan) = db::scan_by_key(tx, &walked.key)? {
        let name = walked.name.clone();
        return Ok(SettledScan { scan: scan.id, name, line: scan.line, twice: None });
    }
    let cash = walked.cash.clamp(0, MOST_CASH.saturating_mul(walked.quantity.into()));
    let queued = Queued {
        key: walked.key.clone(),
        shown: Shown::Text(String::new()),
        did: Did::LetIn,
        at: walked.at,
        behind: walked.behind,
        door: walked.door.clone(),
        cash: Some((cash, walked.receipt.clone())).filter(|(cash, _)| *cash > 0),
        said: String::new(),
        undone: None,
    };
    let (doorway, at, in_time) = when_of(tx, volunteer, date, &queued, turn)?;
    let booked = if in_time {
        let walk = WalkIn {
            wanted: vec![Wanted { ticket: walked.ticket, quantity: walked.quantity }],
            due_minor: cash,
            method: Method::Cash,
            name: walked.name.clone(),
            waiter: None,
        };
        let device = Device { at: Some(walked.at), ..Device::at(&walked.door, &walked.key) };
        let paid = Paid::Before { minor: cash, receipt: &walked.receipt };
        match book_in(tx, volunteer, (date, &doorway, &device), &walk, paid, turn) {
            Err(DeskError::Choice(_)) => None,
            booked => Some(booked?),
        }
    } else {
        None
    };
    let Some(booked) = booked else {
        let line = Finding::WalkedIn { people: walked.quantity, minor: cash };
        let scan = unbooked(tx, volunteer, (date, at), &queued, &line, turn)?;
        return Ok(SettledScan { scan, name: walked.name.clone(), line: Some(line), twice: None });
    };
    let mut first = None;
    for (n, (attendee, _)) in booked.people.iter().enumerate() {
        let key = if n == 0 { walked.key.clone() } else { format!("{}+{attendee}", walked.key) };
        let own = Queued { key, shown: Shown::Attendee(*attendee), cash: None, ..queued.clone() };
        let settled = settle_in(tx, volunteer, date, &own, turn)?;
        first = first.or(Some(settled));
    }
    let mut settled = first.ok_or(DeskError::NotFound)?;
    if booked.over > 0 {
        let line = Finding::PaidTwice { minor: booked.over };
        db::set_line(tx, settled.scan, &line)?;
        settled.line = Some(line);
    }
    Ok(settled)
}
