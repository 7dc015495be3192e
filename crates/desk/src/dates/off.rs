//! A date, or a whole event, is called off.

use jiff::Timestamp;
use matricle_core::booking::{Actor, Move, State, next};
use matricle_core::form::Form;
use matricle_core::staff::{Right, require};
use matricle_core::waiting::Stands;
use matricle_core::{DateId, EventId};
use matricle_store::bookings::{self, Booking};
use matricle_store::events::{self, Date, Event, EventState};
use matricle_store::outbox::{self, About, Kind, NewMessage};
use matricle_store::people::Staff;
use matricle_store::{Connection, Tx};

use super::log;
use crate::hold::PROGRAM;
use crate::{Desk, DeskError};

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
    require(staff.role, Right::PlanEvents)?;
    let mut form = Form::new(vec![("reason".into(), reason)]);
    let reason = form.needed("reason");
    form.done().map_err(DeskError::Form)?;
    let (now, who, host) = (desk.clock.now(), staff.name.clone(), desk.host().to_owned());
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
                told += u32::from(tell_off(tx, &off, booking, ends, &reason, &who, &host, now)?);
            }
            let what = match (&off.dates[..], ends) {
                (_, true) => "called the event off".into(),
                ([date], _) => {
                    format!("called off {}", date.span.starts.strftime("%-d %B %Y"))
                }
                (many, _) => format!("called off {} dates", many.len()),
            };
            log(tx, event, now, &who, &format!("{what}: {reason}"))?;
            Ok::<_, DeskError>(told)
        })
        .await?;
    desk.wake.all();
    Ok(told)
}

#[allow(clippy::too_many_arguments, reason = "one step of one act, split off to be read")]
fn tell_off(
    tx: &Tx<'_>,
    off: &CallingOff,
    booking: &Booking,
    ends: bool,
    reason: &str,
    who: &str,
    host: &str,
    now: Timestamp,
) -> Result<bool, DeskError> {
    let goes_on = !ends && off.event.course;
    if !goes_on {
        if booking.state == State::Held {
            bookings::set_state(
                tx,
                booking,
                next(booking.state, Move::Lapse, Actor::Clerk)?,
                None,
                now,
            )?;
            bookings::happened(tx, booking.id, now, PROGRAM, "the date was called off")?;
            crate::waiting::follow(tx, booking, Stands::Passed)?;
            return Ok(false);
        }
        let what = format!("called the date off: {reason}");
        crate::cancel::cancel_in(tx, booking, 100, (Actor::Clerk, who), &what, now)?;
    } else {
        let what = format!("called the date off: {reason}");
        bookings::happened(tx, booking.id, now, who, &what)?;
    }
    outbox::withdraw(tx, booking.id, Kind::Moved)?;
    if booking.email.is_empty() {
        return Ok(false);
    }
    let dates: Vec<String> = off.dates.iter().map(|d| d.id.to_string()).collect();
    let which = dates.join("-");
    let message_id = format!("{}.off.{which}@{host}", booking.reference.as_str().to_lowercase());
    let new = NewMessage {
        about: About::Booking(booking.id),
        kind: Kind::CalledOff,
        which: &format!(" {which}"),
        address: &booking.email,
        message_id: &message_id,
        note: reason,
    };
    outbox::plan_noted(tx, &new, now)?;
    Ok(true)
}
