//! Deciding at the Office: yes, no, asking for the money, bringing back, taking a decision
//! back.

use jiff::{SignedDuration, Timestamp};
use matricle_core::booking::{Actor, Move, State, next};
use matricle_core::codes::Reference;
use matricle_core::seats::Bucket;
use matricle_core::staff::{Right, require};
use matricle_store::bookings::{self, Booking};
use matricle_store::outbox::{self, About, Kind, NewMessage};
use matricle_store::people::Staff;
use matricle_store::{Tx, events, payments};

use crate::cancel::{again, refuse};
use crate::checkout::FIRST_CHECK;
use crate::hold::{PROGRAM, seats_for};
use crate::money::{document, give_back_surplus};
use crate::{Desk, DeskError};

/// How long seats are kept for the money once the organiser has said yes.
pub const TIME_TO_PAY: SignedDuration = SignedDuration::from_hours(72);

/// Says yes to a booking that asks: confirmed at once when nothing is to pay, otherwise
/// kept for the money until `until`, or three days, and until the date begins at the latest.
///
/// # Errors
/// The role may not, or the booking does not ask.
pub async fn approve(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    until: Option<Timestamp>,
) -> Result<(), DeskError> {
    require(staff.role, Right::ChangeBookings)?;
    let (now, who, host) = (desk.clock.now(), staff.name.clone(), desk.host().to_owned());
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            let moves = (Move::Approve, Move::ApproveToPay);
            bookings::happened(tx, booking.id, now, &who, "said yes")?;
            firm(tx, &booking, moves, Actor::Clerk, until, &host, now)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Makes a booking firm: confirmed when nothing is to pay, awaiting the money otherwise.
pub(crate) fn firm(
    tx: &Tx<'_>,
    booking: &Booking,
    (free, to_pay): (Move, Move),
    by: Actor,
    until: Option<Timestamp>,
    host: &str,
    now: Timestamp,
) -> Result<(), DeskError> {
    if booking.due().minor <= 0 {
        let to = next(booking.state, free, by)?;
        bookings::set_state(tx, booking, to, None, now)?;
        bookings::happened(tx, booking.id, now, PROGRAM, "confirmed")?;
        give_back_surplus(tx, booking, "paid too much", PROGRAM, now)?;
        document(tx, booking, now)?;
        return tell(tx, booking, Kind::Confirmation, "", host, now);
    }
    let to = next(booking.state, to_pay, by)?;
    let (_, date) = events::date_by_id(tx, booking.date)?.ok_or(DeskError::NotFound)?;
    let latest = date.span.starts_at.max(now + FIRST_CHECK);
    let until = until.filter(|u| *u > now).unwrap_or(now + TIME_TO_PAY).min(latest);
    bookings::set_state(tx, booking, to, Some(until), now)?;
    let what = format!("{} to pay", booking.due());
    bookings::happened(tx, booking.id, now, PROGRAM, &what)?;
    let payment = uuid::Uuid::now_v7().to_string();
    payments::open(tx, &payment, booking.id, booking.due().minor, now + FIRST_CHECK, now)?;
    document(tx, booking, now)?;
    tell(tx, booking, Kind::Approval, "", host, now)
}

/// Confirms a booking that waits for its money once all of it is there: other payments are
/// called back, the booker is told. `by` is who brought what was missing. The booking as it
/// is then.
pub(crate) fn confirm_if_paid(
    tx: &Tx<'_>,
    booking: &Booking,
    by: Actor,
    host: &str,
    now: Timestamp,
) -> Result<Booking, DeskError> {
    let booking = bookings::by_id(tx, booking.id)?.ok_or(DeskError::NotFound)?;
    if booking.state != State::AwaitingPayment || booking.due().minor > 0 {
        return Ok(booking);
    }
    payments::unwant(tx, booking.id, now)?;
    bookings::set_state(tx, &booking, next(booking.state, Move::Pay, by)?, None, now)?;
    bookings::happened(tx, booking.id, now, PROGRAM, "confirmed")?;
    tell(tx, &booking, Kind::Confirmation, "", host, now)?;
    bookings::by_id(tx, booking.id)?.ok_or(DeskError::NotFound)
}

/// Plans a message about a booking; a second one of its kind has an id of its own.
pub(crate) fn tell(
    tx: &Tx<'_>,
    booking: &Booking,
    kind: Kind,
    note: &str,
    host: &str,
    now: Timestamp,
) -> Result<(), DeskError> {
    if booking.email.is_empty() {
        return Ok(());
    }
    let which = again(tx, booking, kind)?;
    let local = booking.reference.as_str().to_lowercase();
    let message_id = format!("{local}.{}{}@{host}", kind.word(), which.trim()).replace(' ', "-");
    let new = NewMessage {
        about: About::Booking(booking.id),
        kind,
        which: &which,
        address: &booking.email,
        message_id: &message_id,
        note,
    };
    Ok(outbox::plan_noted(tx, &new, now)?)
}

/// Says no to a booking that asks; its seats come free, the booker is told why.
///
/// # Errors
/// The role may not, or the booking does not ask.
pub async fn decline(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    reason: String,
) -> Result<(), DeskError> {
    require(staff.role, Right::ChangeBookings)?;
    let (now, who, host) = (desk.clock.now(), staff.name.clone(), desk.host().to_owned());
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            bookings::set_state(
                tx,
                &booking,
                next(booking.state, Move::Decline, Actor::Clerk)?,
                None,
                now,
            )?;
            let what =
                if reason.is_empty() { "said no".into() } else { format!("said no: {reason}") };
            bookings::happened(tx, booking.id, now, &who, &what)?;
            tell(tx, &booking, Kind::Refusal, &reason, &host, now)?;
            crate::waiting::serve_date(tx, booking.date, now)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Brings back what was cancelled, declined or lapsed, if the seats are still there, at the
/// prices it was booked at.
///
/// # Errors
/// The seats are gone, or the booking is not over; the role may not.
pub async fn bring_back(desk: &Desk, staff: &Staff, reference: Reference) -> Result<(), DeskError> {
    require(staff.role, Right::ChangeBookings)?;
    let (now, who, host) = (desk.clock.now(), staff.name.clone(), desk.host().to_owned());
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            next(booking.state, Move::BringBack, Actor::Clerk)?;
            if booking.name.is_empty() {
                return Err(refuse(booking.state, Move::BringBack));
            }
            let wanted = bookings::wanted(tx, booking.id)?;
            let draws = seats_for(tx, &booking, &wanted, now)?;
            bookings::set_draws(tx, &booking, &draws)?;
            bookings::restore_charges(tx, &booking)?;
            let booking = bookings::by_id(tx, booking.id)?.ok_or(DeskError::NotFound)?;
            bookings::happened(tx, booking.id, now, &who, "brought the booking back")?;
            let moves = (Move::BringBack, Move::BringBackToPay);
            firm(tx, &booking, moves, Actor::Clerk, None, &host, now)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Takes a yes or a no back, while no money came: the booking asks again.
///
/// # Errors
/// Money came, or there is nothing to take back; the role may not.
pub async fn reconsider(desk: &Desk, staff: &Staff, reference: Reference) -> Result<(), DeskError> {
    require(staff.role, Right::ChangeBookings)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            let to = next(booking.state, Move::Reconsider, Actor::Clerk)?;
            if booking.paid.minor != 0 {
                return Err(refuse(booking.state, Move::Reconsider));
            }
            crate::cancel::nobody_inside(tx, &booking, None)?;
            if Bucket::of(booking.state).is_none() {
                let wanted = bookings::wanted(tx, booking.id)?;
                seats_for(tx, &booking, &wanted, now)?;
            }
            bookings::set_state(tx, &booking, to, None, now)?;
            bookings::happened(tx, booking.id, now, &who, "took the decision back")?;
            payments::unwant(tx, booking.id, now)?;
            for kind in [Kind::Confirmation, Kind::Approval, Kind::Refusal] {
                outbox::withdraw(tx, booking.id, kind)?;
            }
            document(tx, &booking, now)
        })
        .await
}

/// Puts the deadline of a payment elsewhere.
///
/// # Errors
/// Nothing is to be paid, or the deadline is past; the role may not.
pub async fn put_off(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    until: Timestamp,
) -> Result<(), DeskError> {
    require(staff.role, Right::ChangeBookings)?;
    let (now, who) = (desk.clock.now(), staff.name.clone());
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            if booking.state != State::AwaitingPayment || until <= now {
                return Err(refuse(booking.state, Move::Pay));
            }
            bookings::set_deadline(tx, booking.id, until)?;
            Ok(bookings::happened(tx, booking.id, now, &who, "set another deadline for the money")?)
        })
        .await
}
