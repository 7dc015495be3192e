//! The door: one scan, one verdict, with its reason.

pub mod foyer;

pub mod device;
pub mod flow;
pub mod names;
pub mod passages;
pub mod rooms;

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use crate::booking::State;
use crate::dates::schedule::Span;
use crate::words::codes::{Reading, TicketCode};
use crate::{AttendeeId, DateId, Money, TicketTypeId};

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
    /// Their ticket type; none of a ticket made before types were kept.
    pub ticket: Option<TicketTypeId>,
    /// The booking's state.
    pub state: State,
    /// What is still to pay for the whole booking.
    pub due: Money,
    /// Where the attendee is.
    pub presence: Presence,
    /// The booking was made to try the steps out.
    pub test: bool,
    /// When their seat was given to somebody who waited, since they had not come.
    pub given_up: Option<Timestamp>,
}

/// A door of a date, with a name of its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Door {
    /// What it is called.
    pub name: String,
    /// The ticket types it is for; none for all of them.
    pub tickets: Vec<TicketTypeId>,
    /// The room whose sessions it lets into; empty where it lets into the date as a whole.
    pub room: String,
}

impl Door {
    /// Whether somebody with such a ticket comes in here.
    #[must_use]
    pub fn takes(&self, ticket: Option<TicketTypeId>) -> bool {
        self.tickets.is_empty() || ticket.is_some_and(|t| self.tickets.contains(&t))
    }
}

/// What a verdict rests on besides the ticket.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Gate {
    /// The date whose door it is.
    pub date: DateId,
    /// Whoever went out may come in again.
    pub again: bool,
    /// People inside now.
    pub inside: u32,
    /// The most that may be inside, while that holds.
    pub most: Option<u32>,
    /// How many come in together.
    pub coming: u32,
    /// The doors of the date; none where all doors are alike.
    pub doors: Vec<Door>,
    /// The name of this one.
    pub door: String,
}

impl Gate {
    /// A door like all others of its date, without a limit.
    #[must_use]
    pub const fn plain(date: DateId) -> Self {
        Self {
            date,
            again: true,
            inside: 0,
            most: None,
            coming: 1,
            doors: Vec::new(),
            door: String::new(),
        }
    }

    /// The door to go to with such a ticket, if this one is not for it.
    #[must_use]
    pub fn way(&self, ticket: Option<TicketTypeId>) -> Option<&Door> {
        let here = self.doors.iter().find(|d| d.name == self.door)?;
        if here.takes(ticket) {
            return None;
        }
        self.doors.iter().find(|d| d.room.is_empty() && d.takes(ticket))
    }
}

/// What the door is told. It is kept with the scan as it was then.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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
    /// They are seen out.
    Out,
    /// They are to be seen out, and nobody saw them come in.
    NotIn,
    /// They went out, and nobody comes in again here.
    WentOut,
    /// A good ticket, for another door of this date.
    OtherDoor {
        /// What that door is called.
        door: String,
    },
    /// A room whose seats are kept for those who signed up.
    SignUpsFirst {
        /// From when those of whoever has not come are free.
        from: Timestamp,
    },
    /// As many are inside as may be.
    Full {
        /// How many are inside.
        inside: u32,
        /// How many may be.
        most: u32,
    },
    /// They had not come in time, and their seat went to somebody who waited.
    GivenUp {
        /// When.
        at: Timestamp,
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
    /// The booking was made to try the steps out: it lets nobody in.
    Test,
    /// The booking was cancelled, or never became one.
    Cancelled,
    /// No ticket of this house.
    Unknown,
    /// A ticket read wrongly; scan again.
    Misread,
}

impl Verdict {
    /// The word for it, as stored to be searched by; and as a heading.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::ComeIn => "come in",
            Self::AlreadyIn { .. } => "already in",
            Self::ToPay { .. } => "to pay",
            Self::Out => "out",
            Self::NotIn => "not in",
            Self::WentOut => "went out",
            Self::OtherDoor { .. } => "other door",
            Self::SignUpsFirst { .. } => "sign-ups first",
            Self::Full { .. } => "full",
            Self::GivenUp { .. } => "seat given up",
            Self::OtherDate { .. } => "other date",
            Self::StampCard { .. } => "stamp card",
            Self::Test => "a test",
            Self::Cancelled => "cancelled",
            Self::Unknown => "unknown",
            Self::Misread => "misread",
        }
    }

    /// The verdict that a device gave by itself, by its word, with what is known of the ticket;
    /// nothing for a word that says more than a device can know, or none.
    #[must_use]
    pub fn by_device(
        word: &str,
        ticket: Option<&TicketFacts>,
        at: Timestamp,
        door: &str,
    ) -> Option<Self> {
        let ticket = ticket?;
        Some(match word {
            "already in" => match &ticket.presence {
                Presence::In { at, door } => Self::AlreadyIn { at: *at, door: door.clone() },
                Presence::Expected | Presence::Left | Presence::Missed => {
                    Self::AlreadyIn { at, door: door.into() }
                }
            },
            "to pay" => Self::ToPay { due: ticket.due },
            "not in" => Self::NotIn,
            "went out" => Self::WentOut,
            "cancelled" => Self::Cancelled,
            "a test" => Self::Test,
            "misread" => Self::Misread,
            _ => return None,
        })
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

/// The verdict on a ticket at a door.
///
/// Another date comes before cancelled, and that before presence: the volunteer hears the reason
/// that sends the person to the right place. Money comes last of all: it is asked of nobody who
/// would not come in once it is paid.
#[must_use]
pub fn verdict(ticket: Option<&TicketFacts>, gate: &Gate) -> Verdict {
    let Some(ticket) = ticket else { return Verdict::Unknown };
    if ticket.test {
        return Verdict::Test;
    }
    match ticket.state {
        State::Cancelled | State::Declined | State::Lapsed | State::Held => {
            return Verdict::Cancelled;
        }
        State::Requested | State::AwaitingPayment | State::Confirmed
            if ticket.date != gate.date =>
        {
            return Verdict::OtherDate { date: ticket.date };
        }
        State::Requested | State::AwaitingPayment | State::Confirmed => {}
    }
    if let Presence::In { at, door } = &ticket.presence {
        return Verdict::AlreadyIn { at: *at, door: door.clone() };
    }
    if ticket.presence == Presence::Left && !gate.again {
        return Verdict::WentOut;
    }
    if let Some(at) = ticket.given_up {
        return Verdict::GivenUp { at };
    }
    if let Some(way) = gate.way(ticket.ticket) {
        return Verdict::OtherDoor { door: way.name.clone() };
    }
    match gate.most {
        Some(most) if gate.inside.saturating_add(gate.coming) > most => {
            return Verdict::Full { inside: gate.inside, most };
        }
        _ => {}
    }
    if ticket.state.owes(ticket.due.minor) {
        Verdict::ToPay { due: ticket.due }
    } else {
        Verdict::ComeIn
    }
}

/// The verdict on a ticket of somebody who goes out: what is no ticket of this date is told as
/// at the way in.
#[must_use]
pub fn verdict_out(ticket: Option<&TicketFacts>, gate: &Gate) -> Verdict {
    match verdict(ticket, gate) {
        Verdict::AlreadyIn { .. } => Verdict::Out,
        Verdict::ComeIn
        | Verdict::ToPay { .. }
        | Verdict::WentOut
        | Verdict::OtherDoor { .. }
        | Verdict::SignUpsFirst { .. }
        | Verdict::Full { .. }
        | Verdict::GivenUp { .. } => Verdict::NotIn,
        other => other,
    }
}

/// How long before its start the door of a date opens by itself, and how long after its end it
/// shuts.
const AROUND: SignedDuration = SignedDuration::from_hours(12);

/// Whether the door of a date is open at `now`: on its own days by its own clock, twelve hours
/// around it, so that an evening is prepared and cleared up, and on any other day once an
/// organiser has said so.
#[must_use]
pub fn is_open(span: &Span, opened: bool, now: Timestamp) -> bool {
    opened || is_its_day(span, now)
}

/// Whether the door of a date is open by itself at `now`, see [`is_open`].
#[must_use]
pub fn is_its_day(span: &Span, now: Timestamp) -> bool {
    let zone = TimeZone::get(&span.zone).unwrap_or(TimeZone::UTC);
    let today = now.to_zoned_datetime(zone).date();
    let by_day = span.starts.date() <= today && today <= span.ends.date();
    let from = span.starts_at.saturating_sub(AROUND).unwrap_or(span.starts_at);
    let until = span.ends_at.saturating_add(AROUND).unwrap_or(span.ends_at);
    by_day || (from <= now && now <= until)
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
            test: false,
            ticket: Some(TicketTypeId(1)),
            given_up: None,
        }
    }

    fn gate(date: i64) -> Gate {
        Gate::plain(DateId(date))
    }

    /// Forty may be inside: the fortieth comes in, the next does not; a family only whole.
    #[test]
    fn a_hall_is_full_by_one() {
        let ticket = facts(State::Confirmed, 0, Presence::Expected);
        let at = |inside, coming| {
            let gate = Gate { inside, coming, most: Some(40), ..gate(1) };
            verdict(Some(&ticket), &gate)
        };
        assert_eq!((at(39, 1), at(36, 4)), (Verdict::ComeIn, Verdict::ComeIn));
        assert_eq!(at(40, 1), Verdict::Full { inside: 40, most: 40 });
        assert_eq!(at(37, 4), Verdict::Full { inside: 37, most: 40 });
        assert_eq!(at(u32::MAX, u32::MAX), Verdict::Full { inside: u32::MAX, most: 40 });
    }

    proptest! {
        /// Whoever is let in has a confirmed and paid booking for this very date, and is not in.
        #[test]
        fn only_those_who_may_come_in_do(
            state in prop::sample::select(State::ALL.to_vec()), due in -100i64..100,
            place in 0u8..4, booked in 1i64..4, door in 1i64..4, test in any::<bool>(),
            again in any::<bool>(), (inside, most) in (0u32..4, prop::option::of(0u32..4)),
            (given_up, other) in any::<(bool, bool)>(),
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
            facts.test = test;
            facts.given_up = given_up.then_some(at);
            let of = |name: &str, ticket| Door { name: name.into(), tickets: vec![TicketTypeId(ticket)], room: String::new() };
            let doors = vec![of("gate", if other { 2 } else { 1 }), of("upper room", 1)];
            let gate = Gate { date: DateId(door), again, inside, most, coming: 1, doors, door: "gate".into() };
            let out = verdict_out(Some(&facts), &gate);
            let inside_now = matches!(presence, Presence::In { .. });
            prop_assert!(out != Verdict::Out || inside_now);
            let verdict = verdict(Some(&facts), &gate);
            let may = !test && state == State::Confirmed && due <= 0 && booked == door
                && !matches!(presence, Presence::In { .. })
                && (again || presence != Presence::Left)
                && !given_up && !other && most.is_none_or(|most| inside < most);
            prop_assert_eq!(verdict.admits(), may, "{:?}", verdict);
            prop_assert!(!verdict.word().is_empty());
        }
    }

    #[test]
    fn a_door_is_open_on_its_day_around_its_hours_and_when_an_organiser_says_so() {
        let at = |day, hour| jiff::civil::date(2026, 12, day).at(hour, 0, 0, 0);
        let span = Span::new(at(12, 19), at(12, 22), "Europe/Dublin").unwrap();
        let now = |text: &str| text.parse::<Timestamp>().unwrap();
        for open in ["2026-12-12T00:00:00Z", "2026-12-12T23:59:00Z", "2026-12-13T09:00:00Z"] {
            assert!(is_open(&span, false, now(open)), "{open}");
        }
        for shut in ["2026-12-11T23:59:00Z", "2026-12-13T10:01:00Z", "2099-12-12T19:00:00Z"] {
            assert!(!is_open(&span, false, now(shut)) && is_open(&span, true, now(shut)), "{shut}");
        }
        let early = Span::new(at(12, 6), at(12, 9), "Europe/Dublin").unwrap();
        assert!(is_open(&early, false, now("2026-12-11T19:00:00Z")), "the evening before");
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
            assert_eq!(verdict(Some(&facts), &gate(date)), expected, "{facts:?} at {date}");
        }
        let noon = at;
        let minutes = |m| Some(noon + SignedDuration::from_mins(m));
        assert_eq!(all_in_by(14, 31, 35, noon), Some(noon + SignedDuration::from_secs(145)));
        assert_eq!(all_in_by(0, 10, 5, noon), minutes(10));
        assert_eq!((all_in_by(31, 31, 9, noon), all_in_by(5, 31, 0, noon)), (None, None));
        assert_eq!(verdict(None, &gate(1)), Verdict::Unknown);
        assert_eq!(code(Reading::Misread), Err(Verdict::Misread));
        assert_eq!(code(Reading::NotACode), Err(Verdict::Unknown));
    }
}
