//! What becomes of bookings that wait for a yes when the rules for that change.

use matricle_core::booking::confirm::Way;
use matricle_core::booking::{Move, State};
use matricle_core::forms::form::Form;
use matricle_store::Tx;
use matricle_store::bookings::{self, Booking};
use matricle_store::events::Event;

use crate::DeskError;
use crate::acting::Turn;
use crate::bookings::acts::way_of;
use crate::bookings::moves::{With, firm};

/// What is to become of bookings that wait for a yes and need not any more.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Waiting {
    /// It has not been said.
    Unsaid,
    /// They go on: confirmed, or asked for the money.
    GoOn,
    /// They wait on, to be decided one by one.
    WaitOn,
}

impl Waiting {
    pub(crate) fn of(form: &Form) -> Self {
        match form.get("waiting") {
            "go on" => Self::GoOn,
            "wait on" => Self::WaitOn,
            _ => Self::Unsaid,
        }
    }
}

/// What became of the bookings of an event when its rules changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Followed {
    /// Bookings that went on by themselves.
    pub went_on: u32,
    /// Bookings that still wait for a yes.
    pub wait: u32,
    /// Bookings whose form is being filled in just now and that will wait for a yes.
    pub will_wait: u32,
}

/// Makes what the rules of an event say now true of the bookings that wait for a yes. To be
/// called after the rules were written, in the same transaction.
///
/// # Errors
/// [`DeskError::Freed`] when some wait that need not any more and it was not said what
/// becomes of them; nothing is written then.
pub(crate) fn follow(
    tx: &Tx<'_>,
    event: &Event,
    waiting: Waiting,
    turn: &Turn,
) -> Result<Followed, DeskError> {
    let mut followed = Followed::default();
    let mut freed: Vec<Booking> = Vec::new();
    for booking in bookings::undecided(tx, event.id)? {
        let lines = bookings::lines(tx, &booking)?;
        let way = way_of(event, &lines, booking.total);
        match (booking.state, way) {
            (State::Held, Way::AfterYes) => followed.will_wait += 1,
            (State::Requested, Way::ByItself) => freed.push(booking),
            (State::Requested, Way::AfterYes) => followed.wait += 1,
            _ => {}
        }
    }
    let count = u32::try_from(freed.len()).unwrap_or(u32::MAX);
    match waiting {
        Waiting::Unsaid if count > 0 => {
            let of = |b: &Booking| (b.reference, b.name.clone());
            return Err(DeskError::Freed { bookings: freed.iter().map(of).collect() });
        }
        Waiting::Unsaid | Waiting::WaitOn => followed.wait += count,
        Waiting::GoOn => {
            for booking in &freed {
                let what = "changed the rules, so that no yes is needed any more";
                firm(tx, booking, (Move::Approve, Move::ApproveToPay), turn, With::said(what))?;
            }
            followed.went_on = count;
        }
    }
    Ok(followed)
}
