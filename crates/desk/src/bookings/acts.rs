//! The facts on which it rests what may be done with a booking, for pages and use cases alike.

use matricle_core::Money;
use matricle_core::booking::acts::{self, Act, ActFacts, ActRefusal};
use matricle_core::booking::confirm::Way;
use matricle_store::bookings::ChargedLine;
use matricle_store::bookings::{self, Booking};
use matricle_store::events::{self, Date, Event};
use matricle_store::{Connection, door};

use crate::DeskError;
use crate::acting::Turn;

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
    let facts = ActFacts {
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

/// How a booking of an event with these lines is confirmed.
pub(crate) fn way_of(event: &Event, lines: &[ChargedLine], total: Money) -> Way {
    event.rules.confirm.way(lines.iter().map(|l| l.confirm), total)
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
