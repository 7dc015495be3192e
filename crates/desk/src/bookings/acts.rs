//! The facts on which it rests what may be done with a booking, for pages and use cases alike.

use jiff::Timestamp;
use matricle_core::booking::acts::{self, Act, ActRefusal, Facts};
use matricle_core::booking::confirm::Way;
use matricle_core::door::Presence;
use matricle_core::people::acting::Actor;
use matricle_store::bookings::{self, Booking};
use matricle_store::events::{self, Date, Event};
use matricle_store::{Connection, door};

use crate::DeskError;
use crate::acting::Turn;
use crate::bookings::whole::{WholeBooking, way_of};

/// What an act is about, of a booking.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Of<'a> {
    /// Only these tickets, by their numbers.
    pub(crate) tickets: Option<&'a [u32]>,
    /// A date it is moved to.
    pub(crate) to: Option<&'a Date>,
}

/// Lets an act on a booking pass, or says why not. Its event and date.
///
/// # Errors
/// The first reason that stands in the way.
pub(crate) fn allow(
    conn: &Connection,
    act: Act,
    booking: &Booking,
    of: Of<'_>,
    turn: &Turn,
) -> Result<(Event, Date), DeskError> {
    let (event, date) = events::date_by_id(conn, booking.date)?.ok_or(DeskError::NotFound)?;
    let inside = match act {
        Act::Cancel | Act::MoveDate | Act::Reconsider => {
            door::inside_of(conn, booking.id, of.tickets)?
        }
        _ => None,
    };
    let needs_yes = act == Act::Reconsider
        && way_of(&event, &bookings::lines(conn, booking)?, booking.total) == Way::AfterYes;
    let begun = |d: &Date| d.span.starts_at <= turn.now;
    let facts = Facts {
        state: booking.state,
        rules: &event.rules,
        course: event.course,
        begun: begun(&date) || of.to.is_some_and(begun),
        inside: inside.as_deref(),
        filled: !booking.name.is_empty(),
        addressed: !booking.email.is_empty(),
        paid: booking.paid.minor != 0,
        needs_yes,
    };
    acts::may(act, turn.by.kind, &facts)?;
    Ok((event, date))
}

impl WholeBooking {
    /// Whether somebody of a kind may do something with this booking now, with the whole of it.
    #[must_use]
    pub fn may(&self, act: Act, who: Actor, now: Timestamp) -> bool {
        self.may_with(act, None, who, now)
    }

    /// Whether somebody of a kind may cancel this one ticket now. Who is inside holds back
    /// their own ticket, not those of the others.
    #[must_use]
    pub fn may_cancel_ticket(&self, ticket: u32, who: Actor, now: Timestamp) -> bool {
        self.attendees.iter().any(|a| a.ticket_no == ticket && !a.cancelled)
            && self.may_with(Act::Cancel, Some(ticket), who, now)
    }

    fn may_with(&self, act: Act, only: Option<u32>, who: Actor, now: Timestamp) -> bool {
        let inside = self.attendees.iter().find(|a| {
            !a.cancelled
                && only.is_none_or(|n| n == a.ticket_no)
                && matches!(a.presence, Presence::In { .. } | Presence::Left)
        });
        let facts = Facts {
            state: self.booking.state,
            rules: &self.event.rules,
            course: self.event.course,
            begun: self.date.span.starts_at <= now,
            inside: inside.map(|a| a.name.as_str()),
            filled: !self.booking.name.is_empty(),
            addressed: !self.booking.email.is_empty(),
            paid: self.booking.paid.minor != 0,
            needs_yes: self.way() == Way::AfterYes,
        };
        acts::may(act, who, &facts).is_ok()
    }
}

impl From<ActRefusal> for DeskError {
    fn from(refusal: ActRefusal) -> Self {
        match refusal {
            ActRefusal::Move(refusal) => Self::Move(refusal),
            ActRefusal::NotByBooker => Self::NotByBooker,
            ActRefusal::Inside { name } => Self::Inside { name },
        }
    }
}
