//! Sessions of a date: planning them, signing up for them.

use std::collections::BTreeMap;

use matricle_core::dates::schedule::{Span, SpanError};
use matricle_core::dates::sessions::{CourseFacts, SignUpRefusal, choose};
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::forms::quick::MOST_SEATS;
use matricle_core::people::acting::Acting;
use matricle_core::people::staff::Right;
use matricle_core::words::codes::Reference;
use matricle_core::{AttendeeId, DateId, SessionId};
use matricle_store::events::{self, NewSession};
use matricle_store::people::Staff;
use matricle_store::{bookings, sessions};

use crate::{Desk, DeskError};

fields! {
    TITLE: Line = "title", "Title" needed;
    FROM: Clock = "from", "From" needed;
    UNTIL: Clock = "until", "Until" needed;
    ROOM: Line = "room", "Room";
    TRACK: Line = "track", "Track";
    HOST: Line = "host", "Given by";
    SEATS: WholeOrNone(1, MOST_SEATS) = "seats", "Seats";
    SIGN_UP: Tick = "sign_up", "One signs up for it";
}

/// Adds a session to a date. What it clashes with is shown first, unless it is accepted.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; [`DeskError::Clashes`]
/// unless they are accepted; the role may not.
pub async fn add(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
    mut form: Form,
    accept: bool,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let (title, track) = (form.take(&TITLE), form.take(&TRACK));
    let (room, host) = (form.take(&ROOM), form.take(&HOST));
    let (from, until) = (form.take(&FROM), form.take(&UNTIL));
    let (seats, sign_up) = (form.take(&SEATS), form.take(&SIGN_UP));
    desk.store
        .write(move |tx| {
            let (event, at) = events::date_by_id(tx, date)?.ok_or(DeskError::NotFound)?;
            let (Some(from), Some(until)) = (from, until) else {
                return Err(DeskError::Form(form.wrong));
            };
            // A session belongs to the day of the date on which it fits.
            let days = [at.span.starts.date(), at.span.ends.date()];
            let fits = |day: &jiff::civil::Date| {
                let span = Span::new(day.to_datetime(from), day.to_datetime(until), &at.span.zone);
                span.is_ok_and(|s| s.starts_at >= at.span.starts_at && s.ends_at <= at.span.ends_at)
            };
            let day = days.into_iter().find(fits).unwrap_or(days[0]);
            let span = Span::new(day.to_datetime(from), day.to_datetime(until), &at.span.zone);
            let span = match span {
                Ok(span) if fits(&day) => Some(span),
                Ok(_) => {
                    form.fault(FROM, Fault::Unknown);
                    None
                }
                Err(SpanError::EndsFirst { .. }) => {
                    form.fault(UNTIL, Fault::EndsFirst);
                    None
                }
                Err(SpanError::Ambiguous { at, .. }) => {
                    form.fault(FROM, Fault::ClockChange(at));
                    None
                }
                Err(SpanError::UnknownZone { .. }) => None,
            };
            let wrong = std::mem::take(&mut form.wrong);
            let Some(span) = span.filter(|_| wrong.is_empty()) else {
                return Err(DeskError::Form(wrong));
            };
            let new = NewSession { title, track, room, host, span, seats, sign_up };
            let session = sessions::add(tx, date, &new)?;
            let clashes = crate::planning::board::clashes_of_session(tx, &at, session)?;
            if !accept && !clashes.is_empty() {
                return Err(DeskError::Clashes(clashes));
            }
            events::changed(tx, event.id, turn.now)?;
            crate::planning::dates::log(tx, event.id, &turn, "added a session")
        })
        .await
}

/// Takes a session off a date.
pub async fn remove(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
    session: SessionId,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            let (event, _) = events::date_by_id(tx, date)?.ok_or(DeskError::NotFound)?;
            sessions::remove(tx, date, session)?;
            crate::planning::dates::log(tx, event.id, &turn, "took a session off")
        })
        .await
}

/// Signs the people of a booking up for sessions, all of them or none.
///
/// # Errors
/// [`DeskError::SignUp`] with the session in the way; [`DeskError::NotFound`] unless the
/// booking stands.
pub async fn sign_up(
    desk: &Desk,
    reference: Reference,
    wants: BTreeMap<AttendeeId, Vec<SessionId>>,
) -> Result<(), DeskError> {
    let now = desk.clock.now();
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            if !booking.state.stands() {
                return Err(DeskError::NotFound);
            }
            let had = sessions::of_booking(tx, booking.id)?;
            let mut names = Vec::new();
            for attendee in bookings::attendees(tx, booking.id)? {
                let Some(wants) = wants.get(&attendee.id) else { continue };
                // Read again for each: two people of one booking may want the last seat.
                let all = sessions::of_date(tx, booking.date)?;
                let facts: Vec<CourseFacts> = all.iter().map(|s| s.facts.clone()).collect();
                let had: Vec<SessionId> =
                    had.iter().filter(|(a, _)| *a == attendee.id).map(|(_, s)| *s).collect();
                let (added, dropped) = choose(&facts, &had, wants, now)?;
                sessions::sign_up(tx, attendee.id, &added, &dropped)?;
                if !added.is_empty() || !dropped.is_empty() {
                    names.push(attendee.name);
                }
            }
            if !names.is_empty() {
                let what = format!("chose sessions for {}", names.join(", "));
                bookings::happened(tx, booking.id, now, &Acting::booker(), &what)?;
                tx.touch(booking.date);
            }
            Ok(())
        })
        .await
}

/// The title of the session a refusal is about.
#[must_use]
pub const fn session_of(refusal: &SignUpRefusal) -> SessionId {
    match refusal {
        SignUpRefusal::OpenToAll { session }
        | SignUpRefusal::Unknown { session }
        | SignUpRefusal::Begun { session }
        | SignUpRefusal::Full { session }
        | SignUpRefusal::Overlaps { session, .. } => *session,
    }
}
