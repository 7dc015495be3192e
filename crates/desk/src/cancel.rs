//! Calling bookings back, whole or in part, with the money that the steps give back.

use jiff::Timestamp;
use matricle_core::Money;
use matricle_core::booking::{Actor, Move, MoveRefusal, State, next};
use matricle_core::codes::Reference;
use matricle_core::staff::{Right, require};
use matricle_core::waiting::Stands;
use matricle_store::bookings::{self, Booking, Deed};
use matricle_store::outbox::{self, About, Kind, NewMessage};
use matricle_store::people::Staff;
use matricle_store::{Connection, Tx, events, payments};

use crate::changes::settle_change;
use crate::checkout::message_id;
use crate::hold::BOOKER;
use crate::money::{document, give_back_surplus, percent_back};
use crate::{Desk, DeskError, house_of};

/// Who calls a booking back.
#[derive(Debug, Clone)]
pub enum By {
    /// The booker, by the booking's own address: by the event's rules and steps.
    Booker,
    /// Somebody at the Office; with a percentage of their own, if they give one.
    Staff(Staff, Option<u32>),
}

impl By {
    /// Lets the booker pass, and whoever may change bookings at the Office.
    pub(crate) fn may(&self) -> Result<(), DeskError> {
        match self {
            Self::Booker => Ok(()),
            Self::Staff(staff, _) => Ok(require(staff.role, Right::ChangeBookings)?),
        }
    }

    /// Who they are in the table of moves.
    pub(crate) const fn actor(&self) -> Actor {
        match self {
            Self::Booker => Actor::Booker,
            Self::Staff(..) => Actor::Clerk,
        }
    }

    /// The name under which they appear in a timeline.
    pub(crate) fn name(&self) -> String {
        match self {
            Self::Booker => BOOKER.into(),
            Self::Staff(staff, _) => staff.name.clone(),
        }
    }
}

/// What cancelling would come to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cancelling {
    /// The whole booking, not a part of it.
    pub whole: bool,
    /// The people whose tickets would die.
    pub people: Vec<String>,
    /// Of each price so many percent come back.
    pub percent: u32,
    /// What goes back to the booker.
    pub back: Money,
    /// What is still charged afterwards.
    pub kept: Money,
    /// What had not been paid and is no longer asked for.
    pub forgiven: Money,
}

/// Tickets of a booking by their numbers; none, or all of them, are the whole booking.
fn is_whole(conn: &Connection, booking: &Booking, numbers: &[u32]) -> Result<bool, DeskError> {
    let standing = bookings::attendees(conn, booking.id)?;
    Ok(numbers.is_empty() || standing.iter().all(|a| a.cancelled || numbers.contains(&a.ticket_no)))
}

/// Refuses while somebody is inside with a ticket of a booking, or with one of these: what is
/// moved or cancelled then would leave them counted nowhere.
pub(crate) fn nobody_inside(
    conn: &Connection,
    booking: &Booking,
    tickets: Option<&[u32]>,
) -> Result<(), DeskError> {
    match matricle_store::door::inside_of(conn, booking.id, tickets)? {
        Some(name) => Err(DeskError::Inside { name }),
        None => Ok(()),
    }
}

fn percent_of(
    conn: &Connection,
    booking: &Booking,
    by: &By,
    now: Timestamp,
) -> Result<u32, DeskError> {
    let (event, date) = events::date_by_id(conn, booking.date)?.ok_or(DeskError::NotFound)?;
    match by {
        By::Staff(_, Some(own)) => Ok((*own).min(100)),
        By::Staff(_, None) => Ok(percent_back(&house_of(conn)?, &event, &date, None, now)),
        By::Booker if !event.rules.may_cancel && booking.state != State::Requested => {
            Err(DeskError::NotByBooker)
        }
        By::Booker if date.span.starts_at <= now => Err(DeskError::NotByBooker),
        By::Booker => Ok(percent_back(&house_of(conn)?, &event, &date, booking.steps_from, now)),
    }
}

/// What cancelling would come to, before it is done.
///
/// # Errors
/// Whoever asks may not, or the booking is over already.
pub async fn preview(
    desk: &Desk,
    by: By,
    reference: Reference,
    numbers: Vec<u32>,
) -> Result<Cancelling, DeskError> {
    let now = desk.clock.now();
    desk.store.read(move |conn| preview_in(conn, &by, reference, &numbers, now)).await
}

fn preview_in(
    conn: &Connection,
    by: &By,
    reference: Reference,
    numbers: &[u32],
    now: Timestamp,
) -> Result<Cancelling, DeskError> {
    by.may()?;
    let booking = bookings::by_reference(conn, reference)?.ok_or(DeskError::NotFound)?;
    next(booking.state, Move::Cancel, by.actor())?;
    let whole = is_whole(conn, &booking, numbers)?;
    nobody_inside(conn, &booking, (!whole).then_some(numbers))?;
    // Nothing is kept of what was never confirmed.
    let firm = booking.state == State::Confirmed;
    let percent = if firm {
        percent_of(conn, &booking, by, now)?
    } else {
        percent_of(conn, &booking, by, now)?;
        100
    };
    let currency = booking.total.currency;
    let standing: Vec<_> =
        bookings::attendees(conn, booking.id)?.into_iter().filter(|a| !a.cancelled).collect();
    let going: Vec<_> =
        standing.iter().filter(|a| whole || numbers.contains(&a.ticket_no)).collect();
    // Sent twice: these tickets are cancelled already.
    if going.is_empty() && !whole {
        return Err(refuse(booking.state, Move::Cancel));
    }
    let less = if whole {
        let lines = bookings::lines(conn, &booking)?;
        lines.iter().map(|l| l.back(percent)).sum()
    } else {
        let gone = bookings::tickets_of_numbers(conn, booking.id, numbers)?;
        bookings::worth(conn, &booking, &gone, percent)?
    };
    let kept = booking.total.minor - less;
    let back = (booking.paid.minor - kept).max(0);
    Ok(Cancelling {
        whole,
        people: going.iter().map(|a| a.name.clone()).filter(|n| !n.is_empty()).collect(),
        percent,
        back: currency.of(back),
        kept: currency.of(kept),
        forgiven: currency.of((less - back).max(0)),
    })
}

/// Cancels a booking, or the tickets with these numbers: seats come free at once, dead
/// tickets are refused at the door, an open payment is called back, money goes back by the
/// steps the way it came, the booker is told by mail.
///
/// # Errors
/// Whoever asks may not, or the booking is over already.
pub async fn cancel(
    desk: &Desk,
    by: By,
    reference: Reference,
    numbers: Vec<u32>,
) -> Result<Cancelling, DeskError> {
    let (now, host) = (desk.clock.now(), desk.host().to_owned());
    let message = message_id(desk, reference, Kind::Cancellation);
    let done = desk
        .store
        .write(move |tx| {
            let plan = preview_in(tx, &by, reference, &numbers, now)?;
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            let standing: Vec<u32> = bookings::attendees(tx, booking.id)?
                .iter()
                .filter(|a| !a.cancelled && numbers.contains(&a.ticket_no))
                .map(|a| a.ticket_no)
                .collect();
            let who = by.name();
            let lines = bookings::lines(tx, &booking)?;
            let remember = |deed: &Deed| match by {
                By::Booker => bookings::remember(tx, booking.id, deed, plan.back.minor),
                By::Staff(..) => Ok(()),
            };
            if plan.whole {
                cancel_in(
                    tx,
                    &booking,
                    plan.percent,
                    (by.actor(), &who),
                    "cancelled the booking",
                    now,
                )?;
                if !booking.email.is_empty() {
                    let which = again(tx, &booking, Kind::Cancellation)?;
                    let new = NewMessage {
                        about: About::Booking(booking.id),
                        kind: Kind::Cancellation,
                        which: &which,
                        address: &booking.email,
                        message_id: &format!("{which}{message}").replace(' ', ""),
                        note: "",
                    };
                    outbox::plan_noted(tx, &new, now)?;
                }
                remember(&Deed::cancelled(booking.state, &lines))?;
                return Ok::<_, DeskError>(plan);
            }
            bookings::take_off(tx, &booking, &numbers, plan.percent, now)?;
            bookings::follow_books(tx, booking.id, "a part cancelled", now)?;
            let what = format!("cancelled the tickets of {}", plan.people.join(", "));
            bookings::happened(tx, booking.id, now, &who, &what)?;
            settle_change(tx, &booking, "a part was cancelled", (by.actor(), &who), &host, now)?;
            let said = if plan.back.is_zero() {
                format!("Cancelled: {}.", plan.people.join(", "))
            } else {
                format!(
                    "Cancelled: {}. {} goes back the way it came.",
                    plan.people.join(", "),
                    plan.back
                )
            };
            tell_changed(tx, &booking, &said, &host, now)?;
            crate::waiting::serve_date(tx, booking.date, now)?;
            remember(&Deed::part(&standing, &lines))?;
            Ok(plan)
        })
        .await?;
    desk.wake.all();
    Ok(done)
}

/// Tells the second and later messages of a kind about one booking apart.
pub(crate) fn again(tx: &Tx<'_>, booking: &Booking, kind: Kind) -> Result<String, DeskError> {
    let before = outbox::of_booking(tx, booking.id)?.iter().filter(|m| m.kind == kind).count();
    Ok(if before == 0 { String::new() } else { format!(" {}.", before + 1) })
}

/// Tells the booker what has changed about their booking.
pub(crate) fn tell_changed(
    tx: &Tx<'_>,
    booking: &Booking,
    said: &str,
    host: &str,
    now: Timestamp,
) -> Result<(), DeskError> {
    if booking.email.is_empty() {
        return Ok(());
    }
    let id = uuid::Uuid::now_v7();
    let new = NewMessage {
        about: About::Booking(booking.id),
        kind: Kind::Changed,
        which: &format!(" {id}"),
        address: &booking.email,
        message_id: &format!("{id}@{host}"),
        note: said,
    };
    Ok(outbox::plan_noted(tx, &new, now)?)
}

/// Cancels a booking whole, inside a transaction; of what it is charged so many percent
/// are taken off, and what was paid too much goes back. Says how much that is.
pub(crate) fn cancel_in(
    tx: &Tx<'_>,
    booking: &Booking,
    percent: u32,
    (by, who): (Actor, &str),
    what: &str,
    now: Timestamp,
) -> Result<i64, DeskError> {
    let to = next(booking.state, Move::Cancel, by)?;
    let percent = if booking.state == State::Confirmed { percent } else { 100 };
    bookings::cancel(tx, booking, to, percent, now)?;
    bookings::happened(tx, booking.id, now, who, what)?;
    payments::unwant(tx, booking.id, now)?;
    for kind in [Kind::Confirmation, Kind::Approval, Kind::Changed] {
        outbox::withdraw(tx, booking.id, kind)?;
    }
    let back = give_back_surplus(tx, booking, what, who, now)?;
    document(tx, booking, now)?;
    crate::waiting::follow(tx, booking, Stands::Passed)?;
    crate::waiting::serve_date(tx, booking.date, now)?;
    Ok(back)
}

/// The state does not allow it.
pub(crate) const fn refuse(state: State, by: Move) -> DeskError {
    DeskError::Move(MoveRefusal { state, by })
}
