//! What may be done with a booking now, and by whom. Pages ask this to show an act, use cases
//! to allow it, so that both say the same.

use crate::booking::{Move, MoveRefusal, Rules, State, allowed};
use crate::people::acting::Actor;

crate::every! {
    /// What somebody does with a booking that is made.
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum Act {
        /// Call it back, whole or in part.
        Cancel,
        /// Move it to another date of its event.
        MoveDate,
        /// Pass a ticket to somebody else.
        PassOn,
        /// Correct names and answers.
        Correct,
        /// Add tickets, swap one, set a price by hand.
        Change,
        /// Take a yes or a no back.
        Reconsider,
        /// Bring back what is over.
        BringBack,
        /// Put the deadline for the money elsewhere.
        PutOff,
        /// Take money by hand.
        TakeMoney,
        /// Give an amount back of what was paid, whatever its tickets cost.
        GiveBack,
        /// Send its tickets, or the way to pay, once more.
        Resend,
    }
}

/// What is known of a booking when it is asked what may be done with it.
#[derive(Debug, Clone)]
pub struct ActFacts<'a> {
    /// Where it stands.
    pub state: State,
    /// What its event lets happen to it.
    pub rules: &'a Rules,
    /// Its event is a course: there is no other date to move to.
    pub course: bool,
    /// The date has begun, or a date it is moved to.
    pub begun: bool,
    /// Somebody who has been let in with a ticket of it that this is about.
    pub inside: Option<&'a str>,
    /// Its form was filled in.
    pub filled: bool,
    /// There is an address to write to.
    pub addressed: bool,
    /// Money has come for it.
    pub paid: bool,
    /// It needs the organiser's yes.
    pub needs_yes: bool,
}

/// Why something may not be done with a booking now.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ActRefusal {
    /// Its state does not allow it, or not to whoever asks.
    #[error(transparent)]
    Move(#[from] MoveRefusal),
    /// The event leaves it to the organiser, or the date has begun.
    #[error("not by the booker")]
    NotByBooker,
    /// Somebody is inside with a ticket of it.
    #[error("{name} is inside")]
    Inside {
        /// Who.
        name: String,
    },
}

/// Lets an act pass, or says why not.
///
/// # Errors
/// [`ActRefusal`], the first reason that stands in the way.
pub fn may(act: Act, who: Actor, facts: &ActFacts<'_>) -> Result<(), ActRefusal> {
    let refused = |by| Err(MoveRefusal { state: facts.state, by }.into());
    let money = matches!(facts.state, State::AwaitingPayment | State::Confirmed);
    let clerk = who == Actor::Clerk;
    match act {
        Act::Cancel => {
            allowed(facts.state, Move::Cancel, who)?;
            let theirs = facts.rules.may_cancel || facts.state == State::Requested;
            by_booker(who, theirs && !facts.begun)?;
            nobody_inside(facts)
        }
        Act::MoveDate => {
            if !facts.state.stands() || facts.course || !(clerk || who == Actor::Booker) {
                return refused(Move::Complete);
            }
            by_booker(who, facts.rules.may_move && !facts.begun)?;
            nobody_inside(facts)
        }
        Act::PassOn => {
            if facts.state != State::Confirmed || !(clerk || who == Actor::Booker) {
                return refused(Move::Complete);
            }
            by_booker(who, facts.rules.may_pass && !facts.begun)
        }
        Act::Correct if !facts.state.stands() || !(clerk || who == Actor::Booker) => {
            refused(Move::Complete)
        }
        Act::Change if !facts.state.stands() || !clerk => refused(Move::Complete),
        Act::Correct | Act::Change => Ok(()),
        Act::Reconsider => {
            allowed(facts.state, Move::Reconsider, who)?;
            // What is declined was asked for, whatever the rules say since.
            let decided = facts.needs_yes || facts.state == State::Declined;
            if facts.paid || !decided {
                return refused(Move::Reconsider);
            }
            nobody_inside(facts)
        }
        Act::BringBack => {
            allowed(facts.state, Move::BringBack, who)?;
            // An undo of the booker's own goes another way.
            if facts.filled && clerk { Ok(()) } else { refused(Move::BringBack) }
        }
        Act::PutOff if clerk && facts.state == State::AwaitingPayment => Ok(()),
        Act::TakeMoney if money && matches!(who, Actor::Treasurer | Actor::Door) => Ok(()),
        Act::GiveBack
            if who == Actor::Treasurer
                && facts.paid
                && matches!(facts.state, State::Confirmed | State::Cancelled) =>
        {
            Ok(())
        }
        Act::PutOff | Act::TakeMoney | Act::GiveBack => refused(Move::Pay),
        Act::Resend if clerk && money && facts.addressed => Ok(()),
        Act::Resend => refused(Move::Complete),
    }
}

fn by_booker(who: Actor, theirs: bool) -> Result<(), ActRefusal> {
    if who == Actor::Booker && !theirs { Err(ActRefusal::NotByBooker) } else { Ok(()) }
}

fn nobody_inside(facts: &ActFacts<'_>) -> Result<(), ActRefusal> {
    match facts.inside {
        Some(name) => Err(ActRefusal::Inside { name: name.into() }),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Who may do what with a booking that nothing stands in the way of, by its state; and
    /// what each thing that does stand in the way takes from that.
    #[test]
    fn what_may_be_done_with_a_booking() {
        let rules = Rules::default();
        let strict =
            Rules { may_cancel: false, may_move: false, may_pass: false, ..Rules::default() };
        let free = ActFacts {
            state: State::Confirmed,
            rules: &rules,
            course: false,
            begun: false,
            inside: None,
            filled: true,
            addressed: true,
            paid: false,
            needs_yes: true,
        };
        let can = |who, facts: &ActFacts<'_>| -> Vec<Act> {
            Act::ALL.into_iter().filter(|act| may(*act, who, facts).is_ok()).collect()
        };
        let mut rows = Vec::new();
        for who in [Actor::Booker, Actor::Clerk, Actor::Treasurer, Actor::Door] {
            for state in State::ALL {
                let facts = ActFacts { state, ..free.clone() };
                rows.push(format!("{}, {}: {:?}", who.word(), state.word(), can(who, &facts)));
            }
            let all = can(who, &free);
            for (what, facts) in [
                ("a strict event", ActFacts { rules: &strict, ..free.clone() }),
                ("begun", ActFacts { begun: true, ..free.clone() }),
                ("a course", ActFacts { course: true, ..free.clone() }),
                ("Ana inside", ActFacts { inside: Some("Ana"), ..free.clone() }),
                ("paid", ActFacts { paid: true, ..free.clone() }),
                ("no yes needed", ActFacts { needs_yes: false, ..free.clone() }),
                ("no address", ActFacts { addressed: false, ..free.clone() }),
            ] {
                let left = can(who, &facts);
                // Only what has come can be given back.
                let new: Vec<_> = left.iter().filter(|act| !all.contains(act)).collect();
                let gives = what == "paid" && who == Actor::Treasurer;
                assert_eq!(new == [&Act::GiveBack], gives, "{what} allows nothing else");
                assert!(gives || new.is_empty());
                let gone: Vec<_> = all.iter().filter(|act| !left.contains(act)).collect();
                rows.push(format!("{}, {what}: not {gone:?}", who.word()));
            }
        }
        for who in [Actor::Provider, Actor::Program] {
            assert_eq!(can(who, &free), []);
        }
        insta::assert_snapshot!(rows.join("\n"));
    }
}
