//! What a booker did with their own booking, and how long it can be taken back.

use jiff::Timestamp;

use crate::booking::State;

/// What a booker did.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Act {
    /// Cancelled the whole booking.
    Cancelled,
    /// Cancelled some of its tickets.
    Part,
    /// Moved it to another date.
    Moved,
    /// Corrected names and answers.
    Corrected,
    /// Passed a ticket to somebody else.
    PassedOn,
}

/// What is known when it is asked whether an act can be taken back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UndoFacts {
    /// What was done.
    pub act: Act,
    /// Minor units that went back, or are to go back, because of it: money is final.
    pub back: i64,
    /// Acts of anybody but the program with the booking since.
    pub since: u32,
    /// Where the booking stands now.
    pub state: State,
    /// When the first of the dates it is about begins.
    pub starts_at: Timestamp,
}

/// Whether an act can be taken back at `now`: nothing final happened, nobody did anything
/// since, the booking is as the act left it, and no date that it is about has begun. That
/// the seats are there is seen when it is done.
#[must_use]
pub fn is_open(facts: &UndoFacts, now: Timestamp) -> bool {
    let as_left = match facts.act {
        Act::Cancelled => facts.state == State::Cancelled,
        Act::Part | Act::Moved | Act::Corrected | Act::PassedOn => facts.state.stands(),
    };
    facts.back == 0 && facts.since == 0 && as_left && now < facts.starts_at
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_act_is_open_until_anything_ends_it() {
        let at = |second| Timestamp::from_second(second).unwrap();
        for act in [Act::Cancelled, Act::Part, Act::Moved, Act::Corrected, Act::PassedOn] {
            for state in State::ALL {
                let open = UndoFacts { act, back: 0, since: 0, state, starts_at: at(100) };
                let left = match act {
                    Act::Cancelled => state == State::Cancelled,
                    _ => state.stands(),
                };
                assert_eq!(is_open(&open, at(99)), left, "{open:?}");
                for ended in [UndoFacts { back: 1, ..open }, UndoFacts { since: 1, ..open }] {
                    assert!(!is_open(&ended, at(99)), "{ended:?}");
                }
                assert!(!is_open(&open, at(100)), "it has begun");
            }
        }
    }
}
