//! A date, or a whole event, is called off.

use jiff::Timestamp;
use matricle_core::booking::Move;
use matricle_core::fields;
use matricle_core::forms::form::Form;
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::people::staff::{Right, require};
use matricle_core::{DateId, EventId};
use matricle_store::bookings::{self, Booking};
use matricle_store::events::{self, Date, Event, EventState};
use matricle_store::outbox;
use matricle_store::people::Staff;
use matricle_store::{Connection, Tx};

use super::log;
use crate::acting::Turn;
use crate::bookings::moves::{With, make};
use crate::telling::{tell, tell_of_date};
use crate::{Desk, DeskError};

fields! {
    REASON: Line = "reason", "Why", "Everybody booked reads this." needed;
}

/// Whom calling off would reach.
#[derive(Debug, Clone)]
pub struct CallingOff {
    /// The event.
    pub event: Event,
    /// The dates.
    pub dates: Vec<Date>,
    /// Bookings that would be cancelled, or told that a date of theirs is off.
    pub bookings: Vec<Booking>,
}

fn calling_off(
    conn: &Connection,
    event: EventId,
    only: Option<DateId>,
    now: Timestamp,
) -> Result<CallingOff, DeskError> {
    let event = events::by_id(conn, event)?.ok_or(DeskError::NotFound)?;
    let dates: Vec<Date> = events::dates_of(conn, event.id)?
        .into_iter()
        .filter(|d| d.called_off.is_empty())
        .filter(|d| only.map_or(d.span.ends_at > now, |id| d.id == id))
        .collect();
    let mut bookings: Vec<Booking> = Vec::new();
    for date in &dates {
        for booking in bookings::live_on(conn, date.id)? {
            if !bookings.iter().any(|b| b.id == booking.id) {
                bookings.push(booking);
            }
        }
    }
    Ok(CallingOff { event, dates, bookings })
}

/// Whom calling off a date, or all that are to come, would reach.
///
/// # Errors
/// The role may not, there is no such event, or the store fails.
pub async fn before_calling_off(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    only: Option<DateId>,
) -> Result<CallingOff, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    let now = desk.clock.now();
    desk.store.read(move |conn| calling_off(conn, event, only, now)).await
}

/// Calls a date off, or the whole event. Bookings of it are cancelled and everybody is
/// told; what was paid is to be given back in full. A course that loses one of its dates
/// goes on.
///
/// # Errors
/// [`DeskError::Form`] without a reason; the role may not.
pub async fn call_off(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    only: Option<DateId>,
    reason: String,
) -> Result<u32, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let mut form = Form::new(vec![("reason".into(), reason)]);
    let reason = form.take(&REASON);
    form.done().map_err(DeskError::Form)?;
    let now = turn.now;
    let told = desk
        .store
        .write(move |tx| {
            let off = calling_off(tx, event, only, now)?;
            for date in &off.dates {
                events::call_off(tx, date.id, &reason)?;
                events::date_changed(tx, date.id, now)?;
            }
            let ends = only.is_none()
                || events::dates_of(tx, event)?.iter().all(|d| !d.called_off.is_empty());
            if ends {
                let mut changed = off.event.clone();
                changed.called_off.clone_from(&reason);
                events::set(tx, &changed, now)?;
                events::set_state(tx, event, EventState::CalledOff)?;
            } else {
                events::changed(tx, event, now)?;
            }
            let mut told = 0;
            for booking in &off.bookings {
                told += u32::from(tell_off(tx, &off, booking, ends, &reason, &turn)?);
            }
            let knows = Knows { reason: reason.clone(), ..Knows::default() };
            for date in &off.dates {
                tell_of_date(tx, (event, date.id), Occasion::CalledOff, &knows, &turn)?;
            }
            let what = match (&off.dates[..], ends) {
                (_, true) => "called the event off".into(),
                ([date], _) => {
                    format!("called off {}", date.span.starts.strftime("%-d %B %Y"))
                }
                (many, _) => format!("called off {} dates", many.len()),
            };
            log(tx, event, &turn, &format!("{what}: {reason}"))?;
            Ok::<_, DeskError>(told)
        })
        .await?;
    desk.wake.all();
    Ok(told)
}

/// Cancels a booking of what is called off; a course that goes on only tells. Whether the
/// booker is told.
fn tell_off(
    tx: &Tx<'_>,
    off: &CallingOff,
    booking: &Booking,
    ends: bool,
    reason: &str,
    turn: &Turn,
) -> Result<bool, DeskError> {
    let said = format!("called the date off: {reason}");
    if ends || !off.event.course {
        let with = With { note: reason, ..With::said(&said) };
        make(tx, booking, Move::CallOff, turn, with)?;
        return Ok(booking.is_told());
    }
    bookings::happened(tx, booking.id, turn.now, &turn.by, &said)?;
    outbox::withdraw(tx, booking.id, |o| o != Occasion::Moved, "the date was called off")?;
    let date = off.dates.first().map(|d| d.id);
    let knows = Knows { date, reason: reason.to_owned(), ..Knows::default() };
    tell(tx, booking, Occasion::CalledOff, &knows, turn)?;
    Ok(booking.is_told())
}
