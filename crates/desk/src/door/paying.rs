//! Money at the door: what is to pay there, and taking it.

use jiff::Timestamp;
use matricle_core::door::Verdict;
use matricle_core::money::ledger::Method;
use matricle_core::money::stamps::using;
use matricle_core::{AttendeeId, DateId, Money};
use matricle_store::{Connection, bookings, cards, door as db};

use super::{Device, Outcome, Shown, Volunteer, answered_before, at_open_door, judge, show_in};
use crate::bookings::taking::take_in;
use crate::{Desk, DeskError};

/// Ways to pay at the door.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pay {
    /// Who stands there.
    pub attendee: AttendeeId,
    /// What is to pay for their whole booking.
    pub due: Money,
    /// Stamps that would pay it, when stamps pay all of it.
    pub stamps: u32,
    /// The booker's cards that have so many: letters, stamps left.
    pub cards: Vec<(String, u32)>,
    /// The house has a card provider: they can pay on their own telephone.
    pub by_card: bool,
}

/// How money is taken at the door.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum With {
    /// In cash.
    Cash,
    /// On the house's card machine.
    CardHere,
    /// With the stamp card of these letters.
    Stamps(String),
}

/// Adds how a person who is to pay can do so here.
pub(super) async fn with_ways(
    desk: &Desk,
    volunteer: &Volunteer,
    mut outcome: Outcome,
) -> Result<Outcome, DeskError> {
    if matches!(outcome.told.verdict, Verdict::ToPay { .. }) && volunteer.may_take_money() {
        let (now, scan) = (desk.clock.now(), outcome.scan);
        outcome.pay = desk.store.read(move |conn| ways(conn, scan, now)).await?;
        if let Some(pay) = &mut outcome.pay {
            pay.by_card = desk.provider.is_there();
        }
    }
    Ok(outcome)
}

fn ways(conn: &Connection, scan: i64, now: Timestamp) -> Result<Option<Pay>, DeskError> {
    let Some(attendee) = db::scan_by_id(conn, scan)?.and_then(|s| s.attendee) else {
        return Ok(None);
    };
    let person = db::by_id(conn, attendee)?.ok_or(DeskError::NotFound)?;
    let booking = bookings::by_id(conn, person.booking)?.ok_or(DeskError::NotFound)?;
    if !booking.is_owed() {
        return Ok(None);
    }
    let (stamps, minor) = crate::money::cards::payable(conn, &booking)?;
    let stamps = if minor == booking.due().minor { stamps } else { 0 };
    let mut held = Vec::new();
    if stamps > 0 && !booking.email.is_empty() {
        held = cards::of(conn, Some(&booking.email))?;
        held.retain(|c| using(&c.card, stamps, now).is_ok());
    }
    let cards = held.into_iter().map(|c| (c.code, c.card.left)).collect();
    Ok(Some(Pay { attendee, due: booking.due(), stamps, cards, by_card: false }))
}

/// Takes what a person's booking is to pay at the door, and lets them in. `due` is what the
/// volunteer saw; when it is something else by now nothing is taken, and the fresh verdict
/// says so. Sent again by the device, nothing is taken twice.
///
/// # Errors
/// The role may not; the stamp card does not pay; the store fails.
pub async fn pay(
    desk: &Desk,
    who: impl Into<Volunteer>,
    (date, device): (DateId, Device),
    attendee: AttendeeId,
    due_minor: i64,
    with: With,
) -> Result<Outcome, DeskError> {
    let volunteer = who.into();
    volunteer.checks_in_at(date, desk.clock.now())?;
    volunteer.takes_money()?;
    let turn = desk.turn(volunteer.acting());
    let by = volunteer.clone();
    let outcome = desk
        .store
        .write(move |tx| {
            let doorway = at_open_door(tx, &by, date, turn.now)?;
            let shown = Shown::Attendee(attendee);
            if let Some(before) = answered_before(tx, &device.key, &shown, date)? {
                return Outcome::of(before);
            }
            let person = db::by_id(tx, attendee)?.filter(|p| p.facts.date == date);
            let person = person.ok_or(DeskError::NotFound)?;
            let booking = bookings::by_id(tx, person.booking)?.ok_or(DeskError::NotFound)?;
            // The whole verdict, as the scan that follows will have it: nobody pays who then
            // stands outside.
            let judged = judge(tx, (date, &doorway), &device, &shown, turn.now)?;
            let as_seen =
                matches!(judged.verdict, Verdict::ToPay { due } if due.minor == due_minor);
            let mut payment = None;
            if booking.is_owed() && as_seen {
                let by_hand =
                    |method| take_in(tx, &booking, (method, due_minor), &device.door, &turn);
                match &with {
                    With::Cash => payment = Some(by_hand(Method::Cash)?),
                    With::CardHere => payment = Some(by_hand(Method::CardHere)?),
                    With::Stamps(code) => {
                        crate::bookings::stamps::pay_in(tx, &booking, code, &turn)?;
                    }
                }
            }
            let mut outcome = show_in(tx, &by, date, &device, &shown, &turn)?;
            if let Some(payment) = payment {
                db::set_payment(tx, outcome.scan, &payment)?;
                outcome.took = true;
            }
            Ok(outcome)
        })
        .await?;
    desk.wake.all();
    with_ways(desk, &volunteer, outcome).await
}

/// The provider's page where a person pays their booking by card, on their own telephone. The
/// door hears of it as of any payment, and lets them in with the next scan.
///
/// # Errors
/// The role may not, or the device takes no money; nothing is owed; the provider is away.
pub async fn on_their_telephone(
    desk: &Desk,
    who: impl Into<Volunteer>,
    date: DateId,
    attendee: AttendeeId,
) -> Result<String, DeskError> {
    let volunteer = who.into();
    volunteer.checks_in_at(date, desk.clock.now())?;
    volunteer.takes_money()?;
    let now = desk.clock.now();
    let reference = desk
        .store
        .read(move |conn| {
            at_open_door(conn, &volunteer, date, now)?;
            let person = db::by_id(conn, attendee)?.filter(|p| p.facts.date == date);
            let booking = person.ok_or(DeskError::NotFound)?.booking;
            let booking = bookings::by_id(conn, booking)?.ok_or(DeskError::NotFound)?;
            Ok::<_, DeskError>(booking.reference)
        })
        .await?;
    crate::bookings::pay::pay_url(desk, reference).await
}
