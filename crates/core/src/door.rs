//! The door: one scan, one verdict, with its reason.

use jiff::{SignedDuration, Timestamp};

use crate::booking::State;
use crate::codes::{Reading, TicketCode};
use crate::{AttendeeId, DateId, Money};

/// Where an attendee is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Presence {
    /// Not here yet.
    Expected,
    /// Let in.
    In {
        /// When.
        at: Timestamp,
        /// At which door.
        door: String,
    },
    /// Gone again.
    Left,
    /// Did not come.
    Missed,
}

/// What the door knows of the attendee whose code was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TicketFacts {
    /// The attendee.
    pub attendee: AttendeeId,
    /// The date the booking is for.
    pub date: DateId,
    /// The booking's state.
    pub state: State,
    /// What is still to pay for the whole booking.
    pub due: Money,
    /// Where the attendee is.
    pub presence: Presence,
}

/// What the door is told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// Let them in; they are now in.
    ComeIn,
    /// They were let in before.
    AlreadyIn {
        /// When.
        at: Timestamp,
        /// At which door.
        door: String,
    },
    /// Money is due first.
    ToPay {
        /// How much, for the whole booking.
        due: Money,
    },
    /// A good ticket, for another date.
    OtherDate {
        /// The date it is for.
        date: DateId,
    },
    /// No ticket but a stamp card: what is on it.
    StampCard {
        /// Stamps left; none of a card that is over.
        left: u32,
    },
    /// The booking was cancelled, or never became one.
    Cancelled,
    /// No ticket of this house.
    Unknown,
    /// A ticket read wrongly; scan again.
    Misread,
}

impl Verdict {
    /// The word for it, as stored and as a heading.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::ComeIn => "come in",
            Self::AlreadyIn { .. } => "already in",
            Self::ToPay { .. } => "to pay",
            Self::OtherDate { .. } => "other date",
            Self::StampCard { .. } => "stamp card",
            Self::Cancelled => "cancelled",
            Self::Unknown => "unknown",
            Self::Misread => "misread",
        }
    }

    /// Whether the attendee is let in by this.
    #[must_use]
    pub const fn admits(&self) -> bool {
        matches!(self, Self::ComeIn)
    }
}

/// Which code to look up for a reading, or the verdict when there is none.
///
/// # Errors
/// The verdict for what is no sound code.
pub const fn code(reading: Reading) -> Result<TicketCode, Verdict> {
    match reading {
        Reading::Code(code) => Ok(code),
        Reading::Misread => Err(Verdict::Misread),
        Reading::NotACode => Err(Verdict::Unknown),
    }
}

/// The verdict on a ticket at the door of `date`.
///
/// Another date comes before cancelled, and that before presence and money: the
/// volunteer hears the reason that sends the person to the right place.
#[must_use]
pub fn verdict(ticket: Option<&TicketFacts>, date: DateId) -> Verdict {
    let Some(ticket) = ticket else { return Verdict::Unknown };
    let standing = match ticket.state {
        State::Cancelled | State::Declined | State::Lapsed | State::Held => Verdict::Cancelled,
        State::Requested | State::AwaitingPayment | State::Confirmed if ticket.date != date => {
            Verdict::OtherDate { date: ticket.date }
        }
        State::Requested | State::AwaitingPayment => Verdict::ToPay { due: ticket.due },
        State::Confirmed => Verdict::ComeIn,
    };
    match (standing, &ticket.presence) {
        (Verdict::ComeIn, Presence::In { at, door }) => {
            Verdict::AlreadyIn { at: *at, door: door.clone() }
        }
        (Verdict::ComeIn, _) if ticket.due.minor > 0 => Verdict::ToPay { due: ticket.due },
        (verdict, _) => verdict,
    }
}

/// The minutes over which the pace at the door is taken.
pub const PACE_MINUTES: u32 = 5;

/// When everybody will be in at the pace of the last [`PACE_MINUTES`] minutes.
///
/// `None` when nobody came in that time, or nobody is missing.
#[must_use]
pub fn all_in_by(inside: u32, expected: u32, lately: u32, now: Timestamp) -> Option<Timestamp> {
    let missing = expected.checked_sub(inside).filter(|n| *n > 0)?;
    let seconds = u64::from(missing) * u64::from(PACE_MINUTES) * 60 / u64::from(lately.max(1));
    let wait = SignedDuration::from_secs(i64::try_from(seconds).ok()?);
    (lately > 0).then(|| now.checked_add(wait).ok()).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Currency;
    use proptest::prelude::*;

    fn facts(state: State, due: i64, presence: Presence) -> TicketFacts {
        TicketFacts {
            attendee: AttendeeId(1),
            date: DateId(1),
            state,
            due: Currency::EUR.of(due),
            presence,
        }
    }

    proptest! {
        /// Whoever is let in has a confirmed and paid booking for this very date, and is not in.
        #[test]
        fn only_those_who_may_come_in_do(
            state in prop::sample::select(State::ALL.to_vec()), due in -100i64..100,
            place in 0u8..4, booked in 1i64..4, door in 1i64..4,
        ) {
            let at = Timestamp::UNIX_EPOCH;
            let presence = match place {
                0 => Presence::Expected,
                1 => Presence::In { at, door: "gate".into() },
                2 => Presence::Left,
                _ => Presence::Missed,
            };
            let mut facts = facts(state, due, presence.clone());
            facts.date = DateId(booked);
            let verdict = verdict(Some(&facts), DateId(door));
            let may = state == State::Confirmed && due <= 0 && booked == door
                && !matches!(presence, Presence::In { .. });
            prop_assert_eq!(verdict.admits(), may, "{:?}", verdict);
            prop_assert!(!verdict.word().is_empty());
        }
    }

    #[test]
    fn each_case_has_its_one_verdict() {
        let at = Timestamp::from_second(18 * 3600).unwrap();
        let inside = Presence::In { at, door: "side gate".into() };
        let already = Verdict::AlreadyIn { at, door: "side gate".into() };
        let due = |minor| Verdict::ToPay { due: Currency::EUR.of(minor) };
        let cases = [
            (State::Confirmed, 0, Presence::Expected, 1, Verdict::ComeIn),
            (State::Confirmed, 0, Presence::Left, 1, Verdict::ComeIn),
            (State::Confirmed, 0, inside.clone(), 1, already.clone()),
            (State::Confirmed, 500, inside, 1, already),
            (State::Confirmed, 500, Presence::Expected, 1, due(500)),
            (State::AwaitingPayment, 4200, Presence::Expected, 1, due(4200)),
            (State::Confirmed, 0, Presence::Expected, 2, Verdict::OtherDate { date: DateId(1) }),
            (
                State::AwaitingPayment,
                4200,
                Presence::Expected,
                2,
                Verdict::OtherDate { date: DateId(1) },
            ),
            (State::Cancelled, 0, Presence::Expected, 1, Verdict::Cancelled),
            (State::Cancelled, 0, Presence::Expected, 2, Verdict::Cancelled),
            (State::Lapsed, 4200, Presence::Expected, 1, Verdict::Cancelled),
        ];
        for (state, due, presence, date, expected) in cases {
            let facts = facts(state, due, presence);
            assert_eq!(verdict(Some(&facts), DateId(date)), expected, "{facts:?} at {date}");
        }
        let noon = at;
        let minutes = |m| Some(noon + SignedDuration::from_mins(m));
        assert_eq!(all_in_by(14, 31, 35, noon), Some(noon + SignedDuration::from_secs(145)));
        assert_eq!(all_in_by(0, 10, 5, noon), minutes(10));
        assert_eq!((all_in_by(31, 31, 9, noon), all_in_by(5, 31, 0, noon)), (None, None));
        assert_eq!(verdict(None, DateId(1)), Verdict::Unknown);
        assert_eq!(code(Reading::Misread), Err(Verdict::Misread));
        assert_eq!(code(Reading::NotACode), Err(Verdict::Unknown));
    }
}
