//! What a booker did with their own booking is taken back, as long as nothing final followed.

use jiff::Timestamp;
use matricle_core::DateId;
use matricle_core::booking::undo::{self, Act, UndoFacts};
use matricle_core::booking::{Move, State};
use matricle_core::people::acting::Acting;
use matricle_core::seats::Wanted;
use matricle_core::words::codes::Reference;
use matricle_store::bookings::{self, Booking, Deed, LastDeed};
use matricle_store::{Connection, Tx, events};

use crate::acting::Turn;
use crate::bookings::change::{correct_in, settle_change};
use crate::bookings::move_date::move_in;
use crate::bookings::moves::{With, firm, make, seats_for};
use crate::bookings::pass_on::take_in_again;

use crate::telling::tell_changed;
use crate::{Desk, DeskError};

/// What a booker did last, and whether it can be taken back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Undo {
    /// What they did.
    pub last: LastDeed,
    facts: UndoFacts,
}

impl Undo {
    /// Whether it can be taken back now.
    #[must_use]
    pub fn is_open(&self, now: Timestamp) -> bool {
        undo::is_open(&self.facts, now)
    }
}

/// What the booker did last.
pub fn last(conn: &Connection, booking: &Booking) -> Result<Option<Undo>, DeskError> {
    let Some(last) = bookings::last_deed(conn, booking.id)? else { return Ok(None) };
    let starts = |date| -> Result<Timestamp, DeskError> {
        let (_, date) = events::date_by_id(conn, date)?.ok_or(DeskError::NotFound)?;
        Ok(date.span.starts_at)
    };
    let mut starts_at = starts(booking.date)?;
    let act = match last.deed {
        Deed::Cancelled { .. } => Act::Cancelled,
        Deed::Part { .. } => Act::Part,
        Deed::Corrected(_) => Act::Corrected,
        Deed::PassedOn { .. } => Act::PassedOn,
        Deed::Moved(from) => {
            starts_at = starts_at.min(starts(DateId(from))?);
            Act::Moved
        }
    };
    let (back, since, state) = (last.back, last.since, booking.state);
    Ok(Some(Undo { facts: UndoFacts { act, back, since, state, starts_at }, last }))
}

/// Takes back what the booker did last.
///
/// # Errors
/// [`DeskError::NothingToUndo`]; the seats are gone by now.
pub async fn undo(desk: &Desk, reference: Reference) -> Result<(), DeskError> {
    let turn = desk.turn(Acting::booker());
    desk.store.write(move |tx| undo_in(tx, reference, &turn)).await?;
    desk.wake.all();
    Ok(())
}

fn undo_in(tx: &Tx<'_>, reference: Reference, turn: &Turn) -> Result<(), DeskError> {
    let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
    let undo =
        last(tx, &booking)?.filter(|u| u.is_open(turn.now)).ok_or(DeskError::NothingToUndo)?;
    match undo.last.deed {
        Deed::Moved(from) => {
            let (_, date) = events::date_by_id(tx, DateId(from))?.ok_or(DeskError::NotFound)?;
            move_in(tx, &booking, &date, turn)
        }
        Deed::Part { tickets, lines } => {
            let more = bookings::more(tx, &booking, &lines)?;
            let wanted: Vec<_> =
                more.into_iter().map(|(ticket, quantity)| Wanted { ticket, quantity }).collect();
            seats_for(tx, &booking, &wanted, turn)?;
            bookings::put_back(tx, &booking, &tickets, &lines)?;
            bookings::follow_books(tx, booking.id, "tickets taken back", turn.now)?;
            let what = "took the cancelling of tickets back";
            bookings::happened(tx, booking.id, turn.now, &turn.by, what)?;
            settle_change(tx, &booking, what, turn)?;
            let said = "The tickets you cancelled are yours again; their codes are as they were.";
            tell_changed(tx, &booking, said, turn)
        }
        Deed::Corrected(before) => {
            let said = "took the correcting of names and answers back";
            // Questions may have changed since: what cannot stand is not put back by half.
            correct_in(tx, &booking, *before, turn, said).map_err(|error| match error {
                DeskError::Details(_) => DeskError::NothingToUndo,
                other => other,
            })
        }
        Deed::PassedOn { person, name, email } => {
            take_in_again(tx, &booking, (person, &name, &email), turn)
        }
        Deed::Cancelled { from, lines } => {
            bookings::put_back(tx, &booking, &[], &lines)?;
            let booking = bookings::by_id(tx, booking.id)?.ok_or(DeskError::NotFound)?;
            let with = With::said("took the cancelling back");
            if State::from_word(&from) == Some(State::Requested) {
                return make(tx, &booking, Move::AskAfterAll, turn, with).map(drop);
            }
            let moves = (Move::BringBack, Move::BringBackToPay);
            firm(tx, &booking, moves, turn, with).map(drop)
        }
    }
}
