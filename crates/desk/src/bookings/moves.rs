//! The one way in which a booking's state changes: the row of [`matricle_core::booking::MOVES`]
//! tells all that follows, so that no use case can forget any of it.

use jiff::{SignedDuration, Timestamp};
use matricle_core::DateId;
use matricle_core::booking::ChoiceRefusal;
use matricle_core::booking::pay_deadline::time_to_pay;
use matricle_core::booking::{Allowed, Follows, Move, MoveRefusal, State, Tell, allowed};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::people::acting::Actor;
use matricle_core::seats::Bucket;
use matricle_core::seats::waiting::Stands;
use matricle_core::seats::{Draw, Wanted, take};
use matricle_store::bookings::{self, Booking};
use matricle_store::{Tx, events, payments, readers};

use crate::DeskError;
use crate::acting::Turn;
use crate::bookings::serving;
use crate::money::cards::make_bought;
use crate::money::documents::document;
use crate::money::entries::give_back_surplus;
use crate::telling::{tell, tell_changed, tell_holders_again, withdraw};

/// When to ask the provider first, if nothing was heard of a payment.
pub(crate) const FIRST_CHECK: SignedDuration = SignedDuration::from_secs(20);

/// What a move comes with, beyond what its row says.
#[derive(Debug, Clone, Copy)]
pub struct With<'a> {
    /// What the timeline says whoever acts did; empty where the outcome says it all.
    pub said: &'a str,
    /// Until when, for a state that ends by itself.
    pub until: Option<Timestamp>,
    /// So many percent come back, where the row goes by steps.
    pub percent: u32,
    /// What the message to the booker says beside its own words.
    pub note: &'a str,
}

impl<'a> With<'a> {
    /// Only words for the timeline.
    #[must_use]
    pub const fn said(said: &'a str) -> Self {
        Self { said, until: None, percent: 100, note: "" }
    }
}

/// Makes a move: state, seats, ledger, document, message, timeline follow from its row, and
/// the waiting list is served from what comes free. The booking as it is then.
///
/// # Errors
/// The move is not allowed from this state, or not to whoever acts; the seats are gone.
pub fn make(
    tx: &Tx<'_>,
    booking: &Booking,
    by: Move,
    turn: &Turn,
    with: With<'_>,
) -> Result<Booking, DeskError> {
    let row = allowed(booking.state, by, turn.by.kind)?;
    // Nothing stands of which the form was never filled in, whatever way leads there.
    if row.to.stands() && booking.name.is_empty() {
        return Err(MoveRefusal { state: booking.state, by }.into());
    }
    take_seats(tx, booking, row, turn)?;
    // A ticket that is dead stays charged with what the steps keep of it.
    match row.money {
        Follows::BackBySteps => bookings::charge_less(tx, booking, with.percent)?,
        _ if row.to == State::Cancelled => bookings::charge_less(tx, booking, 100)?,
        _ => {}
    }
    let until = deadline(tx, booking, row, turn, with.until)?;
    bookings::set_state(tx, booking, row.to, until, turn.now)?;
    say(tx, booking, row, turn, with.said)?;
    follow_payments(tx, booking, row, turn)?;
    withdraw(tx, booking, row.to)?;
    match row.money {
        Follows::Nothing | Follows::Ask => {}
        Follows::Charge | Follows::Stays | Follows::BackWhole | Follows::BackBySteps => {
            let reason = match row.by {
                Move::Lapse => "the booking lapsed",
                _ if with.said.is_empty() => "paid too much",
                _ => with.said,
            };
            if booking.paid.minor > 0 {
                give_back_surplus(tx, booking, reason, turn)?;
            }
            // What was never charged and costs nothing has no document; stamp cards may be free.
            if row.from == State::Held && booking.total.is_zero() {
                make_bought(tx, booking.id, turn)?;
            } else {
                document(tx, booking, turn)?;
            }
        }
    }
    // What money, steps and another choice changed is read; all else is known.
    let chosen = matches!(row.by, Move::TakeAgain | Move::PayLate);
    let moved = if chosen || booking.paid.minor != 0 || row.to == State::Cancelled {
        bookings::by_id(tx, booking.id)?.ok_or(DeskError::NotFound)?
    } else {
        Booking { state: row.to, deadline: until, ..booking.clone() }
    };
    tell_of(tx, booking, &moved, row, turn, with)?;
    tell_holders(tx, &moved, row, turn)?;
    follow_list(tx, booking, row, turn)?;
    Ok(moved)
}

/// The seats of what was over are taken again; a choice made anew has taken its own.
fn take_seats(tx: &Tx<'_>, booking: &Booking, row: &Allowed, turn: &Turn) -> Result<(), DeskError> {
    let chosen = matches!(row.by, Move::TakeAgain | Move::PayLate);
    if Bucket::of(row.from).is_some() || Bucket::of(row.to).is_none() || chosen {
        return Ok(());
    }
    let wanted = bookings::wanted(tx, booking.id)?;
    let draws = seats_for(tx, booking, &wanted, turn)?;
    Ok(bookings::set_draws(tx, booking, &draws)?)
}

fn deadline(
    tx: &Tx<'_>,
    booking: &Booking,
    row: &Allowed,
    turn: &Turn,
    wished: Option<Timestamp>,
) -> Result<Option<Timestamp>, DeskError> {
    match row.to {
        State::Held => Ok(wished),
        State::AwaitingPayment => {
            let (_, date) = events::date_by_id(tx, booking.date)?.ok_or(DeskError::NotFound)?;
            Ok(Some(time_to_pay(row.by, wished, date.span.starts_at, turn.now)))
        }
        State::Requested
        | State::Confirmed
        | State::Declined
        | State::Cancelled
        | State::Lapsed => Ok(None),
    }
}

/// What whoever acts did, and what came of it.
fn say(
    tx: &Tx<'_>,
    booking: &Booking,
    row: &Allowed,
    turn: &Turn,
    said: &str,
) -> Result<(), DeskError> {
    let program = turn.program().by;
    let became = match row.to {
        State::Confirmed => "confirmed".to_owned(),
        State::AwaitingPayment => format!("{} to pay", booking.due()),
        State::Held | State::Requested | State::Declined | State::Cancelled | State::Lapsed => {
            String::new()
        }
    };
    if !said.is_empty() {
        bookings::happened(tx, booking.id, turn.now, &turn.by, said)?;
    }
    if !became.is_empty() {
        bookings::happened(tx, booking.id, turn.now, &program, &became)?;
    }
    Ok(())
}

/// A payment that is not wanted any more is called back; one that is, is written down before
/// the provider hears of it.
fn follow_payments(
    tx: &Tx<'_>,
    booking: &Booking,
    row: &Allowed,
    turn: &Turn,
) -> Result<(), DeskError> {
    if row.from == State::AwaitingPayment || row.from == State::Confirmed {
        payments::unwant(tx, booking.id, turn.now)?;
    }
    if row.to == State::AwaitingPayment && row.by != Move::PayLate {
        let id = uuid::Uuid::now_v7().to_string();
        let (due, first) = (booking.due().minor, turn.now + FIRST_CHECK);
        payments::open(tx, &id, booking.id, due, first, turn.now)?;
    }
    Ok(())
}

fn tell_of(
    tx: &Tx<'_>,
    before: &Booking,
    booking: &Booking,
    row: &Allowed,
    turn: &Turn,
    with: With<'_>,
) -> Result<(), DeskError> {
    let asked_again = "You ask for these seats after all; the organiser answers by mail.";
    let occasion = match row.tell {
        Tell::Nothing => return Ok(()),
        Tell::Left => Occasion::Left,
        Tell::Lapsed => Occasion::Lapsed,
        Tell::Asked => Occasion::Asked,
        Tell::Confirmation => Occasion::Confirmed,
        Tell::ToPay => Occasion::ToPay,
        Tell::Refusal => Occasion::Declined,
        Tell::Cancellation => Occasion::Cancelled,
        Tell::CalledOff => Occasion::CalledOff,
        Tell::AskedAgain => return tell_changed(tx, booking, asked_again, turn),
    };
    // Nobody is told of a form that was never sent in.
    if booking.name.is_empty() && occasion == Occasion::Lapsed {
        return Ok(());
    }
    let kept = booking.total.minor;
    let knows = Knows {
        reason: with.note.to_owned(),
        by_house: turn.by.kind != Actor::Booker,
        whole: true,
        back: (occasion == Occasion::Cancelled).then(|| (before.paid.minor - kept).max(0)),
        kept: (occasion == Occasion::Cancelled).then(|| kept.min(before.paid.minor)),
        ..Knows::default()
    };
    tell(tx, booking, occasion, &knows, turn)
}

/// Whoever holds a ticket of a booking that somebody else made loses it with the booking, and has
/// it again with it. Of a date that is called off each hears by itself.
fn tell_holders(
    tx: &Tx<'_>,
    booking: &Booking,
    row: &Allowed,
    turn: &Turn,
) -> Result<(), DeskError> {
    match (row.from.stands(), row.to.stands()) {
        (true, false) if row.tell != Tell::CalledOff => {
            for (person, _, _) in readers::holders(tx, booking.id)? {
                let lost = Knows { person: Some(person), ..Knows::default() };
                tell(tx, booking, Occasion::PassedBack, &lost, turn)?;
            }
            Ok(())
        }
        (false, true) => tell_holders_again(tx, booking, "is good again", turn),
        _ => Ok(()),
    }
}

/// Whoever waited for these seats has them now, or has lost them; what comes free goes on to
/// those who wait.
fn follow_list(
    tx: &Tx<'_>,
    booking: &Booking,
    row: &Allowed,
    turn: &Turn,
) -> Result<(), DeskError> {
    if !row.to.stands() && row.to != State::Held {
        serving::follow(tx, booking, Stands::Passed)?;
    } else if row.from == State::Held {
        serving::follow(tx, booking, Stands::Taken)?;
    }
    if Bucket::of(row.from).is_some() && Bucket::of(row.to).is_none() {
        serving::serve_date(tx, booking.date, turn.now)?;
    }
    Ok(())
}

/// Puts another choice in the place of a hold's. Its seats go back into the pot first, so that
/// choosing again never holds twice; what the new choice leaves of them is offered to those
/// who wait. `choose` writes the new choice and says until when it is held.
///
/// # Errors
/// What `choose` refuses; the hold then stays as it was.
pub(crate) fn choose_again(
    tx: &Tx<'_>,
    hold: &Booking,
    turn: &Turn,
    choose: impl FnOnce(&Booking) -> Result<Timestamp, DeskError>,
) -> Result<(), DeskError> {
    let mut hold = hold.clone();
    if hold.state == State::Held {
        let to = allowed(hold.state, Move::Lapse, turn.by.kind)?.to;
        bookings::set_state(tx, &hold, to, None, turn.now)?;
        hold.state = to;
    }
    let row = allowed(hold.state, Move::TakeAgain, turn.by.kind)?;
    let until = choose(&hold)?;
    bookings::set_state(tx, &hold, row.to, Some(until), turn.now)?;
    bookings::happened(tx, hold.id, turn.now, &turn.by, "chose again")?;
    serving::serve_date(tx, hold.date, turn.now)
}

/// Confirms a booking that waits for its money once all of it is there. The booking as it is
/// then.
pub(crate) fn confirm_if_paid(
    tx: &Tx<'_>,
    booking: &Booking,
    turn: &Turn,
) -> Result<Booking, DeskError> {
    let booking = bookings::by_id(tx, booking.id)?.ok_or(DeskError::NotFound)?;
    if booking.state != State::AwaitingPayment || booking.due().minor > 0 {
        return Ok(booking);
    }
    make(tx, &booking, Move::Pay, turn, With::said(""))
}

/// Makes a booking firm: by the first move when nothing is to pay, by the second otherwise.
pub(crate) fn firm(
    tx: &Tx<'_>,
    booking: &Booking,
    (free, to_pay): (Move, Move),
    turn: &Turn,
    with: With<'_>,
) -> Result<Booking, DeskError> {
    let by = if booking.due().minor <= 0 { free } else { to_pay };
    make(tx, booking, by, turn, with)
}

/// Lets holds on a date lapse whose time is over, before its seats are counted.
pub(crate) fn sweep(tx: &Tx<'_>, date: DateId, turn: &Turn) -> Result<(), DeskError> {
    for stale in bookings::stale_holds(tx, date, turn.now)? {
        lapse(tx, &stale, &turn.program())?;
    }
    Ok(())
}

/// Lets a booking lapse: its time is over.
pub(crate) fn lapse(tx: &Tx<'_>, booking: &Booking, turn: &Turn) -> Result<Booking, DeskError> {
    let what = match booking.state {
        State::AwaitingPayment => "not paid in time; the seats were given back",
        _ => "the time to fill the form in ran out; the seats were given back",
    };
    make(tx, booking, Move::Lapse, turn, With::said(what))
}

/// What so many tickets of a booking draw from the pools of its dates, if they have it.
///
/// # Errors
/// The seats are gone, or the date is called off.
pub(crate) fn seats_for(
    tx: &Tx<'_>,
    booking: &Booking,
    wanted: &[Wanted],
    turn: &Turn,
) -> Result<Vec<Draw>, DeskError> {
    sweep(tx, booking.date, turn)?;
    let offer = serving::choices_of(tx, booking.date, turn.now)?.offer;
    if offer.called_off {
        return Err(ChoiceRefusal::CalledOff.into());
    }
    Ok(take(&offer.pools, &offer.tickets(), wanted).map_err(ChoiceRefusal::from)?)
}
