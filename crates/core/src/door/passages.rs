//! Passages: each time somebody went in or out, and what they come to. Devices without network
//! hand theirs in later, so where somebody is follows from all passages in the order of their
//! times, never from the order in which they arrived.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::{Gate, Presence, TicketFacts, Verdict, verdict};
use crate::Money;
use crate::booking::State;

crate::worded! {
    /// Which way somebody went.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
    pub enum Way {
        /// In.
        In = "in",
        /// Out.
        Out = "out",
    }
}

/// One time that somebody went through a door; one that was undone is none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Passage {
    /// The scan it came with.
    pub scan: i64,
    /// When, by the house's clock.
    pub at: Timestamp,
    /// Through which door.
    pub door: String,
    /// Who saw them through: a device, or whoever has signed in.
    pub by: String,
    /// Which way.
    pub way: Way,
    /// Into a room: whoever was in is in still, and whoever was not has come.
    pub room: bool,
}

/// What somebody's passages come to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Standing {
    /// Where they are.
    pub presence: Presence,
    /// Passages in while they were in already, each with the one that stands.
    pub twice: Vec<(Passage, Passage)>,
}

/// Where somebody is after these passages, in whatever order they are told. Of several passages
/// in, the earliest stands, and each other one let somebody in twice.
#[must_use]
pub fn standing(passages: &[Passage]) -> Standing {
    let mut in_order: Vec<&Passage> = passages.iter().collect();
    in_order.sort_by_key(|p| (p.at, p.room, p.scan));
    let (mut inside, mut gone, mut twice) = (None, false, Vec::new());
    for passage in in_order {
        match (passage.way, inside) {
            (Way::In, None) => inside = Some(passage),
            (Way::In, Some(_)) if passage.room => {}
            (Way::In, Some(first)) => twice.push((Passage::clone(first), passage.clone())),
            (Way::Out, _) => (inside, gone) = (None, true),
        }
    }
    let presence = match inside {
        Some(Passage { at, door, .. }) => Presence::In { at: *at, door: door.clone() },
        None if gone => Presence::Left,
        None => Presence::Expected,
    };
    Standing { presence, twice }
}

crate::worded! {
    /// What a device did with somebody while it could not ask.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
    #[serde(rename_all = "snake_case")]
    pub enum Did {
        /// Let them in.
        LetIn = "let in",
        /// Saw them out.
        LetOut = "let out",
        /// Did not let them in.
        SentAway = "sent away",
    }
}

/// A line of the report: what somebody has to look into, since a device could not ask.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Finding {
    /// Somebody was let in whose booking was cancelled by then.
    Cancelled,
    /// Somebody was let in with a ticket that had been passed on.
    PassedOn,
    /// Somebody was let in with a ticket for another date.
    OtherDate,
    /// Somebody was let in with a code that was made to try the steps out.
    Test,
    /// Somebody was let in with a code of nobody.
    Unknown,
    /// Somebody was let in though money was due.
    Unpaid {
        /// How much.
        due: Money,
    },
    /// Money was taken that was not due any more: it is to be given back.
    PaidTwice {
        /// How much.
        minor: i64,
    },
    /// Somebody without a ticket was let in without network, and could not be booked by then.
    WalkedIn {
        /// How many came in.
        people: u32,
        /// Cash that was taken, in minor units.
        minor: i64,
    },
    /// Somebody was let in whose seat had gone to another.
    GivenUp,
    /// More are inside than may be.
    Full {
        /// How many were inside before them.
        inside: u32,
        /// How many may be.
        most: u32,
    },
    /// The device had been sent away when it did this, by its own word.
    AfterSentAway,
    /// The device did this before it was sent away, as it had announced.
    OfSentAway,
    /// A device that was sent away says that it took cash: whether it did is for a person to say.
    CashSaid {
        /// How much.
        minor: i64,
    },
}

/// What is made of what a device did.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// The passage it is, if it is one of this person.
    pub passage: Option<Way>,
    /// What somebody has to look into.
    pub line: Option<Finding>,
}

/// Settles what a device did with a ticket while it could not ask, by what is known now.
///
/// Whoever was let in is inside, whatever was wrong: that cannot be undone by a rule. It counts
/// as their passage where the ticket is theirs and stands; of any other only the report tells.
/// Whether they were in already is not asked here: that follows from all their passages.
#[must_use]
pub fn settle(ticket: Option<&TicketFacts>, passed_on: bool, gate: &Gate, did: Did) -> Found {
    let way = match did {
        Did::LetIn => Way::In,
        Did::LetOut => Way::Out,
        Did::SentAway => return Found { passage: None, line: None },
    };
    let facts = ticket.map(|t| TicketFacts { presence: Presence::Expected, ..t.clone() });
    let firm = ticket.is_some_and(|t| t.state == State::Confirmed);
    let passes = |line| Found { passage: Some(way), line };
    let stray = |line| Found { passage: None, line: Some(line) };
    match verdict(facts.as_ref(), gate) {
        Verdict::Cancelled if passed_on => stray(Finding::PassedOn),
        Verdict::Cancelled => stray(Finding::Cancelled),
        Verdict::OtherDate { .. } => stray(Finding::OtherDate),
        Verdict::Test => stray(Finding::Test),
        Verdict::Unknown | Verdict::Misread | Verdict::StampCard { .. } => stray(Finding::Unknown),
        _ if way == Way::Out => passes(None),
        // A booking that is not firm may still lapse: it has nobody inside.
        Verdict::ToPay { due } if !firm => stray(Finding::Unpaid { due }),
        Verdict::ToPay { due } => passes(Some(Finding::Unpaid { due })),
        Verdict::GivenUp { .. } => passes(Some(Finding::GivenUp)),
        Verdict::Full { inside, most } => passes(Some(Finding::Full { inside, most })),
        // Presence is left out above; another door of the same date is no harm.
        Verdict::ComeIn
        | Verdict::AlreadyIn { .. }
        | Verdict::Out
        | Verdict::NotIn
        | Verdict::WentOut
        | Verdict::OtherDoor { .. }
        | Verdict::SignUpsFirst { .. } => passes(None),
    }
}

/// When something happened by the house's clock, told by a device whose clock is `behind` it by
/// so much as measured (less than nothing when it is ahead). Nothing happened later than `now`.
#[must_use]
pub fn corrected(device_at: Timestamp, behind: SignedDuration, now: Timestamp) -> Timestamp {
    device_at.checked_add(behind).map_or(now, |at| at.min(now))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{AttendeeId, Currency, DateId};
    use proptest::prelude::*;

    fn passage(scan: i64, minute: i64, door: &str, way: Way) -> Passage {
        let at = Timestamp::from_second(minute * 60).unwrap();
        Passage { scan, at, door: door.into(), by: String::new(), way, room: false }
    }

    #[test]
    fn the_earliest_stands_and_the_other_is_told_with_both_doors() {
        let (gate, side) = (passage(7, 42, "gate", Way::In), passage(3, 44, "side", Way::In));
        let told = standing(&[side.clone(), gate.clone()]);
        assert_eq!(told.presence, Presence::In { at: gate.at, door: "gate".into() });
        assert_eq!(told.twice, [(gate.clone(), side.clone())]);
        let out = passage(9, 43, "gate", Way::Out);
        let again = standing(&[side.clone(), out.clone(), gate.clone()]);
        assert!(again.twice.is_empty(), "out in between: in again");
        assert_eq!(again.presence, Presence::In { at: side.at, door: "side".into() });
        // Two of one instant: the one that was taken down first stands, in whichever order told.
        let twin = Passage { scan: 8, door: "yard".into(), ..gate.clone() };
        for told in [[gate.clone(), twin.clone()], [twin.clone(), gate.clone()]] {
            let told = standing(&told);
            assert_eq!(told.presence, Presence::In { at: gate.at, door: "gate".into() });
            assert_eq!(told.twice, [(gate.clone(), twin.clone())]);
        }
        let room = Passage { room: true, ..side.clone() };
        let both = standing(&[room.clone(), gate.clone()]);
        assert_eq!(both, standing(std::slice::from_ref(&gate)), "into a room of the house");
        let straight = Presence::In { at: side.at, door: "side".into() };
        assert_eq!(standing(&[room]).presence, straight, "they have come");
        assert_eq!(standing(&[gate, out]).presence, Presence::Left);
        assert_eq!(standing(&[]).presence, Presence::Expected);
    }

    #[test]
    fn what_a_device_did_has_its_line() {
        let due = Currency::EUR.of(800);
        let facts = |state, due| TicketFacts {
            attendee: AttendeeId(1),
            date: DateId(1),
            ticket: None,
            state,
            due,
            presence: Presence::In { at: Timestamp::UNIX_EPOCH, door: "gate".into() },
            test: false,
            given_up: None,
        };
        let free = Currency::EUR.of(0);
        let gate = Gate::plain(DateId(1));
        let full = Gate { inside: 40, most: Some(40), ..gate.clone() };
        let given_up =
            TicketFacts { given_up: Some(Timestamp::UNIX_EPOCH), ..facts(State::Confirmed, free) };
        let test = TicketFacts { test: true, ..facts(State::Confirmed, free) };
        let other = TicketFacts { date: DateId(2), ..facts(State::Confirmed, free) };
        let good = facts(State::Confirmed, free);
        let cases = [
            (Some(&good), false, &gate, Some(Way::In), None),
            (
                Some(&good),
                false,
                &full,
                Some(Way::In),
                Some(Finding::Full { inside: 40, most: 40 }),
            ),
            (Some(&given_up), false, &gate, Some(Way::In), Some(Finding::GivenUp)),
            (Some(&test), false, &gate, None, Some(Finding::Test)),
            (Some(&other), false, &gate, None, Some(Finding::OtherDate)),
            (None, false, &gate, None, Some(Finding::Unknown)),
        ];
        for (ticket, passed_on, gate, passage, line) in cases {
            let found = settle(ticket, passed_on, gate, Did::LetIn);
            assert_eq!(found, Found { passage, line }, "{ticket:?}");
            let nobody = Found { passage: None, line: None };
            assert_eq!(settle(ticket, passed_on, gate, Did::SentAway), nobody);
        }
        let cancelled = facts(State::Cancelled, free);
        let line = |passed_on| settle(Some(&cancelled), passed_on, &gate, Did::LetIn).line;
        assert_eq!((line(false), line(true)), (Some(Finding::Cancelled), Some(Finding::PassedOn)));
        for (state, passage) in [(State::AwaitingPayment, None), (State::Confirmed, Some(Way::In))]
        {
            let found = settle(Some(&facts(state, due)), false, &gate, Did::LetIn);
            assert_eq!(found, Found { passage, line: Some(Finding::Unpaid { due }) });
        }
        assert_eq!(settle(Some(&good), false, &full, Did::LetOut).line, None);
    }

    proptest! {
        /// Passages at three doors by clocks that differ, some undone, told in any order: they
        /// come to the same, each one in beyond the first is told, and nobody is in twice.
        #[test]
        fn the_order_of_arrival_does_not_matter(
            made in prop::collection::vec((0i64..60, 0usize..3, any::<bool>(), any::<bool>()), 0..12),
            turn in 0usize..12,
        ) {
            let doors = ["gate", "side", "yard"];
            let all: Vec<Passage> = made.iter().enumerate().filter(|(_, m)| !m.3)
                .map(|(n, (minute, door, is_in, _))| {
                    let way = if *is_in { Way::In } else { Way::Out };
                    passage(i64::try_from(n).unwrap(), *minute, doors[*door], way)
                }).collect();
            let told = standing(&all);
            let mut other = all.clone();
            if !other.is_empty() { let by = turn % other.len(); other.rotate_left(by); other.reverse(); }
            prop_assert_eq!(&standing(&other), &told);
            // Walked through minute by minute, as somebody who stood there would have counted.
            let mut sorted = all.clone();
            sorted.sort_by_key(|p| (p.at, p.scan));
            let (mut inside, mut reported) = (false, 0);
            for p in &sorted {
                match p.way { Way::In if inside => reported += 1, Way::In => inside = true, Way::Out => inside = false }
            }
            prop_assert_eq!(told.twice.len(), reported);
            prop_assert_eq!(matches!(told.presence, Presence::In { .. }), inside);
            for (first, second) in &told.twice {
                prop_assert!((first.at, first.scan) < (second.at, second.scan));
            }
        }

        /// Whatever a device's clock says, once its error is measured two devices agree on what
        /// came first.
        #[test]
        fn clocks_off_by_minutes_agree_once_measured(at in 0i64..10_000, off in -900i64..900) {
            let (real, now) = (Timestamp::from_second(at).unwrap(), Timestamp::from_second(20_000).unwrap());
            let device = Timestamp::from_second(at + off).unwrap();
            prop_assert_eq!(corrected(device, SignedDuration::from_secs(-off), now), real);
            prop_assert!(corrected(Timestamp::MAX, SignedDuration::from_secs(off), now) <= now);
        }
    }
}
