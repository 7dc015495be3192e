//! Bookings: their states, the moves between them, and what an event lets happen to them.

pub mod acts;
pub mod choice;
pub mod confirm;
pub mod details;
pub mod event_rules;
pub mod pay_deadline;
pub mod undo;

use crate::people::acting::Actor;

pub use crate::booking::choice::{Choice, ChoiceRefusal, DateOffer, Offer, choose};
pub use crate::booking::event_rules::Rules;
pub use crate::state::State;

crate::every! {
    /// What can happen to a booking.
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum Move {
        /// The form is complete and nothing is to pay.
        Complete,
        /// The form is complete and money is due, which the booker pays now.
        AskForMoney,
        /// Somebody at the house took the booking, and money is due: a mail asks for it.
        AskByMail,
        /// All the money came.
        Pay,
        /// Money came for what had lapsed, and its seats are still there.
        PayLate,
        /// The deadline of the hold or of the payment passed.
        Lapse,
        /// The booker or the organiser calls it back.
        Cancel,
        /// The organiser calls the date off.
        CallOff,
        /// The same seats are taken again after the hold ran out.
        TakeAgain,
        /// The form is complete and the organiser decides.
        Ask,
        /// The organiser says yes, and nothing is to pay.
        Approve,
        /// The organiser says yes, and money is due.
        ApproveToPay,
        /// The organiser says no.
        Decline,
        /// What was over is brought back, and nothing is to pay.
        BringBack,
        /// What was over is brought back, and money is due.
        BringBackToPay,
        /// A yes or a no is taken back: the organiser decides anew.
        Reconsider,
        /// The booker takes their cancelling of a question back: the organiser decides after all.
        AskAfterAll,
    }
}

/// What follows for the money.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Follows {
    /// Nothing is charged, before or after.
    Nothing,
    /// The total is charged, and a document says so.
    Charge,
    /// The total is charged; its document comes with the money, or with the choice of a
    /// transfer.
    Ask,
    /// What was charged stays charged.
    Stays,
    /// Nothing is charged any more; what was paid goes back whole.
    BackWhole,
    /// What the cancellation steps say goes back; the rest stays charged.
    BackBySteps,
}

/// What the booker is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tell {
    /// Nothing: they did it themselves, or nothing is settled yet.
    Nothing,
    /// The way back, if the money does not come at once.
    Left,
    /// They asked, and the organiser decides.
    Asked,
    /// The time to pay is over.
    Lapsed,
    /// Tickets and calendar file.
    Confirmation,
    /// The organiser said yes, and what is to pay.
    ToPay,
    /// The organiser said no.
    Refusal,
    /// The booking is cancelled, and what goes back.
    Cancellation,
    /// The date is called off, and why.
    CalledOff,
    /// The booker asks for the seats after all.
    AskedAgain,
}

/// One row of the table of moves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Allowed {
    /// The move.
    pub by: Move,
    /// From this state …
    pub from: State,
    /// … to this one. Which seats that moves, [`crate::seats::Bucket::of`] tells.
    pub to: State,
    /// Who may make it.
    pub who: &'static [Actor],
    /// What follows for the money.
    pub money: Follows,
    /// What the booker is told.
    pub tell: Tell,
}

const fn row(
    by: Move,
    from: State,
    to: State,
    who: &'static [Actor],
    money: Follows,
    tell: Tell,
) -> Allowed {
    Allowed { by, from, to, who, money, tell }
}

/// Every move that is allowed, who may make it, and what follows. What is not here cannot
/// happen.
pub const MOVES: [Allowed; 30] = {
    use State::{AwaitingPayment, Cancelled, Confirmed, Declined, Held, Lapsed, Requested};
    const SELF: &[Actor] = &[Actor::Booker, Actor::Clerk];
    const BOOKER: &[Actor] = &[Actor::Booker];
    const CLERK: &[Actor] = &[Actor::Clerk];
    // A walk-in is booked where they stand.
    const HERE: &[Actor] = &[Actor::Booker, Actor::Clerk, Actor::Door];
    const BY_HAND: &[Actor] = &[Actor::Clerk, Actor::Door];
    const PROVIDER: &[Actor] = &[Actor::Provider];
    // Whoever brings, takes or changes money: by card, by hand, at the door, by stamps, or
    // because nothing is due any more.
    const MONEY: &[Actor] =
        &[Actor::Provider, Actor::Booker, Actor::Clerk, Actor::Treasurer, Actor::Door];
    const TIME: &[Actor] = &[Actor::Program, Actor::Booker];
    [
        row(Move::Complete, Held, Confirmed, HERE, Follows::Charge, Tell::Confirmation),
        row(Move::AskForMoney, Held, AwaitingPayment, BOOKER, Follows::Ask, Tell::Left),
        row(Move::AskByMail, Held, AwaitingPayment, BY_HAND, Follows::Charge, Tell::ToPay),
        row(Move::Ask, Held, Requested, SELF, Follows::Nothing, Tell::Asked),
        row(Move::Lapse, Held, Lapsed, TIME, Follows::Nothing, Tell::Nothing),
        row(Move::Cancel, Held, Cancelled, SELF, Follows::Nothing, Tell::Nothing),
        row(Move::CallOff, Held, Lapsed, CLERK, Follows::Nothing, Tell::Nothing),
        row(Move::TakeAgain, Lapsed, Held, SELF, Follows::Nothing, Tell::Nothing),
        row(Move::PayLate, Lapsed, AwaitingPayment, PROVIDER, Follows::Ask, Tell::Nothing),
        row(Move::Approve, Requested, Confirmed, CLERK, Follows::Charge, Tell::Confirmation),
        row(Move::ApproveToPay, Requested, AwaitingPayment, CLERK, Follows::Charge, Tell::ToPay),
        row(Move::Decline, Requested, Declined, CLERK, Follows::Nothing, Tell::Refusal),
        row(Move::Cancel, Requested, Cancelled, SELF, Follows::Nothing, Tell::Cancellation),
        row(Move::CallOff, Requested, Cancelled, CLERK, Follows::Nothing, Tell::CalledOff),
        row(Move::Pay, AwaitingPayment, Confirmed, MONEY, Follows::Stays, Tell::Confirmation),
        row(Move::Lapse, AwaitingPayment, Lapsed, TIME, Follows::BackWhole, Tell::Lapsed),
        row(Move::Cancel, AwaitingPayment, Cancelled, SELF, Follows::BackWhole, Tell::Cancellation),
        row(Move::CallOff, AwaitingPayment, Cancelled, CLERK, Follows::BackWhole, Tell::CalledOff),
        row(Move::Cancel, Confirmed, Cancelled, SELF, Follows::BackBySteps, Tell::Cancellation),
        row(Move::CallOff, Confirmed, Cancelled, CLERK, Follows::BackWhole, Tell::CalledOff),
        row(Move::BringBack, Cancelled, Confirmed, SELF, Follows::Charge, Tell::Confirmation),
        row(Move::BringBackToPay, Cancelled, AwaitingPayment, SELF, Follows::Charge, Tell::ToPay),
        row(Move::AskAfterAll, Cancelled, Requested, BOOKER, Follows::Nothing, Tell::AskedAgain),
        row(Move::BringBack, Lapsed, Confirmed, CLERK, Follows::Charge, Tell::Confirmation),
        row(Move::BringBackToPay, Lapsed, AwaitingPayment, CLERK, Follows::Charge, Tell::ToPay),
        row(Move::BringBack, Declined, Confirmed, CLERK, Follows::Charge, Tell::Confirmation),
        row(Move::BringBackToPay, Declined, AwaitingPayment, CLERK, Follows::Charge, Tell::ToPay),
        row(Move::Reconsider, Confirmed, Requested, CLERK, Follows::BackWhole, Tell::Nothing),
        row(Move::Reconsider, AwaitingPayment, Requested, CLERK, Follows::BackWhole, Tell::Nothing),
        row(Move::Reconsider, Declined, Requested, CLERK, Follows::Nothing, Tell::Nothing),
    ]
};

/// A move that the state does not allow.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a booking that is {} cannot {by:?}", state.word())]
pub struct MoveRefusal {
    /// The booking's state.
    pub state: State,
    /// What was tried.
    pub by: Move,
}

/// The row of the table for a move from a state, if it is theirs to make.
///
/// # Errors
/// The move is not allowed from this state, or not to whoever makes it.
pub fn allowed(state: State, by: Move, who: Actor) -> Result<&'static Allowed, MoveRefusal> {
    MOVES
        .iter()
        .find(|m| m.from == state && m.by == by && m.who.contains(&who))
        .ok_or(MoveRefusal { state, by })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_of_moves() {
        let rows: Vec<String> = MOVES
            .iter()
            .map(|m| {
                let who: Vec<String> = m.who.iter().map(|w| format!("{w:?}")).collect();
                format!(
                    "{} --{:?}--> {}: by {}; money {:?}; tell {:?}",
                    m.from.word(),
                    m.by,
                    m.to.word(),
                    who.join(", "),
                    m.money,
                    m.tell
                )
            })
            .collect();
        insta::assert_snapshot!(rows.join("\n"));
        for (n, m) in MOVES.iter().enumerate() {
            let same = |o: &&Allowed| o.from == m.from && o.by == m.by;
            assert_eq!(MOVES.iter().filter(same).count(), 1, "row {n} is the only one");
            assert!(!m.who.is_empty() && m.from != m.to);
            for actor in Actor::ALL {
                let may = m.who.contains(&actor).then_some(m);
                assert_eq!(allowed(m.from, m.by, actor).ok(), may, "row {n}, {actor:?}");
            }
        }
        assert!(allowed(State::Confirmed, Move::Complete, Actor::Clerk).is_err());
        for state in State::ALL {
            assert_eq!(State::from_word(state.word()), Some(state));
        }
    }

    /// Every state leads to a confirmed booking and to an end, and nothing is charged where
    /// no seats are kept but what a cancellation leaves.
    #[test]
    fn no_state_is_a_dead_end() {
        use crate::seats::Bucket;
        let reach = |from: State| {
            let mut known = vec![from];
            while let Some(more) = MOVES
                .iter()
                .find(|m| known.contains(&m.from) && !known.contains(&m.to))
                .map(|m| m.to)
            {
                known.push(more);
            }
            known
        };
        for state in State::ALL {
            assert!(reach(state).contains(&State::Confirmed), "{state:?} can be confirmed");
            let ends = MOVES.iter().filter(|m| m.from == state && Bucket::of(m.to).is_none());
            assert!(Bucket::of(state).is_none() || ends.count() > 0, "{state:?} can be left");
        }
        for m in &MOVES {
            let charged = |s| matches!(s, State::AwaitingPayment | State::Confirmed);
            let right = match m.money {
                Follows::Nothing => !charged(m.to) && !charged(m.from),
                Follows::Charge | Follows::Ask => charged(m.to) && !charged(m.from),
                Follows::Stays => charged(m.to) && charged(m.from),
                Follows::BackWhole | Follows::BackBySteps => !charged(m.to) && charged(m.from),
            };
            assert!(right, "{m:?}");
        }
    }
}
