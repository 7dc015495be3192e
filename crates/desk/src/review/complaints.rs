//! What the public complains of: it comes to the queue of those who review.

use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::people::staff::{Right, require};
use matricle_core::review::submission::{Refusal, UNDO};
use matricle_store::complaints::{self, Complaint, Outcome};
use matricle_store::events::{self, Event, EventState};
use matricle_store::house::House;
use matricle_store::people::Staff;
use matricle_store::{bookings, submissions};

use super::{Submitter, trust};
use crate::people::often::Asks;
use crate::planning::dates::log;
use crate::{Desk, DeskError, house_of};

fields! {
    WORDS: Text(4, LONGEST) = "words", "What is wrong";
    EMAIL: MailAddress = "email", "Your e-mail address",
        "May stay empty; with it somebody can ask you.";
}

/// Most words of a complaint.
const LONGEST: usize = 2_000;
/// So many complaints from one network in a day, and so many open ones of one event, are kept.
const MOST_A_DAY: u32 = 10;
const MOST_OPEN: u32 = 20;

/// The event that somebody complains of.
///
/// # Errors
/// [`DeskError::NotFound`] for one that is not in the Programme.
pub async fn about(desk: &Desk, slug: &str) -> Result<(House, Event), DeskError> {
    let slug = slug.to_owned();
    desk.store
        .read(move |conn| {
            let event = events::by_slug(conn, &slug)?.filter(|e| {
                matches!(e.state, EventState::Published | EventState::CalledOff)
                    && e.thrown_at.is_none()
            });
            Ok((house_of(conn)?, event.ok_or(DeskError::NotFound)?))
        })
        .await
}

/// Writes a complaint down.
///
/// # Errors
/// [`DeskError::Form`]; [`DeskError::TooOften`]; [`DeskError::Submission`] for what a program
/// would send.
pub async fn complain(
    desk: &Desk,
    who: &Submitter,
    slug: &str,
    mut form: Form,
) -> Result<(), DeskError> {
    if !form.get("website").is_empty() {
        return Err(Refusal::Trapped.into());
    }
    let (_, event) = about(desk, slug).await?;
    let words = form.take(&WORDS);
    if words.is_empty() {
        form.fault(WORDS, Fault::Missing);
    }
    let email = form.take(&EMAIL);
    form.done().map_err(DeskError::Form)?;
    let (now, network) = (desk.clock.now(), who.from.1);
    if network != 0 {
        desk.often.ask(Asks::Complaint, &network.to_string(), now)?;
    }
    desk.store
        .write(move |tx| {
            let (lately, open) = complaints::lately(tx, event.id, network, now)?;
            if lately >= MOST_A_DAY {
                return Err(Refusal::Enough { most: MOST_A_DAY }.into());
            }
            // More of the same tell a reviewer nothing new.
            if open < MOST_OPEN {
                complaints::add(tx, event.id, &email, &words, network, now)?;
            }
            Ok(())
        })
        .await
}

/// A complaint and the event that it is about.
///
/// # Errors
/// The role may not; [`DeskError::NotFound`].
pub async fn one(desk: &Desk, staff: &Staff, id: i64) -> Result<(Complaint, Event), DeskError> {
    require(staff.role, Right::Review)?;
    desk.store
        .read(move |conn| {
            let c = complaints::by_id(conn, id)?.ok_or(DeskError::NotFound)?;
            let event = events::by_id(conn, c.event)?.ok_or(DeskError::NotFound)?;
            Ok((c, event))
        })
        .await
}

/// Decides on a complaint. One that is right takes the trust back that whoever submitted the
/// event had; the event may be taken out of the Programme with it.
///
/// # Errors
/// [`Refusal::Elsewhere`] when somebody was faster; [`Refusal::Booked`] when the event is to go
/// and people have booked it; the role may not.
pub async fn decide(
    desk: &Desk,
    staff: &Staff,
    id: i64,
    right: bool,
    take_out: bool,
) -> Result<Complaint, DeskError> {
    let turn = desk.turn_of(staff, Right::Review)?;
    desk.store
        .write(move |tx| {
            let mut c = complaints::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            if c.outcome != Outcome::Open {
                return Err(decided(&c).into());
            }
            let event = events::by_id(tx, c.event)?.ok_or(DeskError::NotFound)?;
            if right && take_out && event.state == EventState::Published {
                let bookings = bookings::count_live(tx, event.id)?;
                if bookings > 0 {
                    return Err(Refusal::Booked { bookings }.into());
                }
                events::set_state(tx, event.id, EventState::Draft)?;
                events::changed(tx, event.id, turn.now)?;
                log(tx, event.id, &turn, "took the event out of the Programme after a complaint")?;
                c.taken_out = true;
            }
            c.outcome = if right { Outcome::Right } else { Outcome::NotRight };
            (c.decided_at, c.undo_until) = (Some(turn.now), Some(turn.now + UNDO));
            c.who.clone_from(&turn.by.name);
            complaints::decide(tx, &c, turn.by.key)?;
            let sender = submissions::of_event(tx, c.event)?.and_then(|s| s.person);
            if let (true, Some(person)) = (right, sender) {
                trust::set(tx, person, false, &turn)?;
            }
            Ok(c)
        })
        .await
}

/// Takes a decision on a complaint back. Trust that it took back is not given again by that.
///
/// # Errors
/// [`Refusal::TooLate`], [`Refusal::NothingToUndo`]; the role may not.
pub async fn undo(desk: &Desk, staff: &Staff, id: i64) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::Review)?;
    desk.store
        .write(move |tx| {
            let mut c = complaints::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            if c.outcome == Outcome::Open {
                return Err(Refusal::NothingToUndo.into());
            }
            if c.undo_until.is_none_or(|until| until <= turn.now) {
                return Err(Refusal::TooLate.into());
            }
            if c.taken_out {
                let event = events::by_id(tx, c.event)?.ok_or(DeskError::NotFound)?;
                if event.state != EventState::Draft || event.thrown_at.is_some() {
                    return Err(Refusal::NothingToUndo.into());
                }
                events::set_state(tx, c.event, EventState::Published)?;
                events::changed(tx, c.event, turn.now)?;
                log(tx, c.event, &turn, "put the event into the Programme again")?;
            }
            (c.outcome, c.decided_at, c.undo_until, c.taken_out) =
                (Outcome::Open, None, None, false);
            c.who.clear();
            Ok(complaints::decide(tx, &c, None)?)
        })
        .await
}

fn decided(c: &Complaint) -> Refusal {
    Refusal::Elsewhere {
        state: matricle_core::review::submission::State::Accepted,
        who: c.who.clone(),
        what: "decided on the complaint",
        at: c.decided_at.unwrap_or(c.at),
    }
}
