//! Dates online: what an attendee's own link opens, and when.

use jiff::{SignedDuration, Timestamp};

use crate::Money;
use crate::state::State;

crate::worded! {
    /// Where a date happens online.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
    pub enum RoomKind {
        /// The link that stands on the event: a standing room.
        #[default]
        OfEvent = "event",
        /// A link of the date's own.
        Link = "link",
        /// A room of the meeting-room service, made for this date.
        Made = "made",
        /// One room of the service for all dates of the event.
        Shared = "shared",
    }
}

impl RoomKind {
    /// Whether the meeting-room service makes it.
    #[must_use]
    pub const fn is_made(self) -> bool {
        matches!(self, Self::Made | Self::Shared)
    }
}

crate::worded! {
    /// Who may see a recording.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
    pub enum Audience {
        /// Whoever came.
        #[default]
        Came = "came",
        /// Whoever has booked.
        Booked = "booked",
    }
}

/// The recording of a date.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Recording {
    /// Who may see it.
    pub audience: Audience,
    /// Until when; for ever otherwise.
    pub until: Option<Timestamp>,
}

/// What is known of an attendee and their date.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FoyerFacts {
    /// The booking's state.
    pub state: State,
    /// Their ticket was cancelled, and the rest of the booking stands.
    pub cancelled: bool,
    /// The date, or the whole event, was called off.
    pub called_off: bool,
    /// No seat of the date is free.
    pub full: bool,
    /// What is still to pay.
    pub due: Money,
    /// When it starts.
    pub starts_at: Timestamp,
    /// When it ends.
    pub ends_at: Timestamp,
    /// How long before it starts the room opens, in minutes.
    pub opens_minutes: u32,
    /// The room's address is known.
    pub room: bool,
    /// They came.
    pub came: bool,
    /// The recording, if there is one.
    pub recording: Option<Recording>,
}

/// What the foyer says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stands {
    /// The room opens at this minute.
    Before(Timestamp),
    /// It would be open, and its address is not known yet.
    NoRoom,
    /// An act of the person opens the room.
    Open,
    /// It is over, and they may see the recording.
    Recording,
    /// It is over, and there is a recording, but not for them: they did not come.
    NotForYou,
    /// It is over.
    Over,
    /// It was called off.
    CalledOff,
    /// Money is due first.
    NotPaid(Money),
    /// The organiser has not said yes.
    Asked,
    /// The booking or the ticket does not stand any more.
    Cancelled,
    /// The booking was never complete, or lapsed; whether seats are left.
    Lapsed {
        /// No seat of the date is free.
        full: bool,
    },
}

/// How long after its end a date can still be joined: talks run over.
pub const OVERTIME: SignedDuration = SignedDuration::from_mins(60);

/// When the room of a date opens.
#[must_use]
pub fn opens_at(starts_at: Timestamp, minutes: u32) -> Timestamp {
    starts_at.saturating_sub(SignedDuration::from_mins(i64::from(minutes))).unwrap_or(starts_at)
}

/// What an attendee's own link opens now.
#[must_use]
pub fn stands(facts: &FoyerFacts, now: Timestamp) -> Stands {
    if facts.cancelled || matches!(facts.state, State::Cancelled | State::Declined) {
        return if facts.called_off { Stands::CalledOff } else { Stands::Cancelled };
    }
    if facts.called_off {
        return Stands::CalledOff;
    }
    match facts.state {
        State::Held | State::Lapsed => return Stands::Lapsed { full: facts.full },
        State::Requested => return Stands::Asked,
        State::AwaitingPayment | State::Confirmed | State::Cancelled | State::Declined => {}
    }
    // As at a door of wood.
    if facts.state.owes(facts.due.minor) {
        return Stands::NotPaid(facts.due);
    }
    let opens = opens_at(facts.starts_at, facts.opens_minutes);
    if now < opens {
        return Stands::Before(opens);
    }
    // A recording that is there says that it is over.
    let ends = facts.ends_at.saturating_add(OVERTIME).unwrap_or(facts.ends_at);
    let recorded = facts.recording.filter(|_| now >= facts.ends_at);
    if now < ends && recorded.is_none() {
        return if facts.room { Stands::Open } else { Stands::NoRoom };
    }
    match recorded.filter(|r| r.until.is_none_or(|until| now < until)) {
        None => Stands::Over,
        Some(r) if r.audience == Audience::Booked || facts.came => Stands::Recording,
        Some(_) => Stands::NotForYou,
    }
}

/// How long after its end a session can still be joined: the next one waits.
pub const PART_OVERTIME: SignedDuration = SignedDuration::from_mins(15);

/// A session with a room of its own, as somebody who has booked the date sees it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Part {
    /// When it starts.
    pub starts_at: Timestamp,
    /// When it ends.
    pub ends_at: Timestamp,
    /// The address of its room is known.
    pub room: bool,
    /// It is for those who signed up, and they have not.
    pub not_theirs: bool,
}

/// What the foyer says of one session of a date.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PartStands {
    /// Its room opens at this minute.
    Before(Timestamp),
    /// It would be open, and its address is not known yet.
    NoRoom,
    /// An act of the person opens it.
    Open,
    /// It is over.
    Over,
    /// It is for those who signed up.
    NotTheirs,
    /// The date itself is closed to them.
    Shut,
}

/// What the foyer says of a session with a room of its own: nobody is let into it whom the date
/// is closed to.
#[must_use]
pub fn of_part(whole: &FoyerFacts, part: &Part, now: Timestamp) -> PartStands {
    let alone = FoyerFacts {
        starts_at: part.starts_at,
        ends_at: part.ends_at,
        room: part.room,
        recording: None,
        ..*whole
    };
    let over = part.ends_at.saturating_add(PART_OVERTIME).unwrap_or(part.ends_at);
    match stands(&alone, now) {
        Stands::Before(_) | Stands::NoRoom | Stands::Open if part.not_theirs => {
            PartStands::NotTheirs
        }
        Stands::Before(at) => PartStands::Before(at),
        Stands::NoRoom | Stands::Open if now >= over => PartStands::Over,
        Stands::NoRoom => PartStands::NoRoom,
        Stands::Open => PartStands::Open,
        Stands::Over | Stands::Recording | Stands::NotForYou => PartStands::Over,
        Stands::CalledOff
        | Stands::NotPaid(_)
        | Stands::Asked
        | Stands::Cancelled
        | Stands::Lapsed { .. } => PartStands::Shut,
    }
}

/// A stay in a room, as the room reports it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stay {
    /// When they came.
    pub came_at: Timestamp,
    /// When they left; nothing while they are there.
    pub left_at: Option<Timestamp>,
}

/// What the foyer and the room know of one attendee, side by side.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Beside {
    /// The room saw them: from when, until when, how long in whole minutes.
    Stayed {
        /// When they first came.
        came_at: Timestamp,
        /// When they last left; nothing while they are there.
        left_at: Option<Timestamp>,
        /// How long in all, in minutes.
        minutes: i64,
    },
    /// They went in through the foyer, and the room has not seen them.
    NotSeen,
    /// The room saw them, and they did not come through the foyer.
    AnotherWay {
        /// When they first came.
        came_at: Timestamp,
        /// How long in all, in minutes.
        minutes: i64,
    },
}

/// Sets what the room reports beside what the foyer knows. Nothing where neither knows of them,
/// or where no room reports.
#[must_use]
pub fn beside(went_in: bool, stays: &[Stay], reports: bool, now: Timestamp) -> Option<Beside> {
    let Some(first) = stays.iter().min_by_key(|s| s.came_at) else {
        return (went_in && reports).then_some(Beside::NotSeen);
    };
    let minutes = minutes(stays, now);
    let there = stays.iter().any(|s| s.left_at.is_none());
    let left_at = stays.iter().filter_map(|s| s.left_at).max().filter(|_| !there);
    Some(if went_in {
        Beside::Stayed { came_at: first.came_at, left_at, minutes }
    } else {
        Beside::AnotherWay { came_at: first.came_at, minutes }
    })
}

/// How long somebody was there in all, in whole minutes: what two devices saw at once counts once.
#[must_use]
pub fn minutes(stays: &[Stay], now: Timestamp) -> i64 {
    let mut spans: Vec<(Timestamp, Timestamp)> =
        stays.iter().map(|s| (s.came_at, s.left_at.unwrap_or(now).max(s.came_at))).collect();
    spans.sort_unstable();
    let mut all = SignedDuration::ZERO;
    let mut until: Option<Timestamp> = None;
    for (from, to) in spans {
        let from = until.map_or(from, |u| from.max(u));
        if to > from {
            all += to.duration_since(from);
        }
        until = Some(until.map_or(to, |u| u.max(to)));
    }
    all.as_mins()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Currency;
    use proptest::prelude::*;

    fn at(minutes: i64) -> Timestamp {
        Timestamp::UNIX_EPOCH + SignedDuration::from_mins(minutes)
    }

    fn facts() -> FoyerFacts {
        FoyerFacts {
            state: State::Confirmed,
            cancelled: false,
            called_off: false,
            full: false,
            due: Currency::EUR.of(0),
            starts_at: at(600),
            ends_at: at(690),
            opens_minutes: 15,
            room: true,
            came: false,
            recording: None,
        }
    }

    #[test]
    fn the_same_link_says_what_is_true_before_during_and_after() {
        let f = facts();
        assert_eq!(stands(&f, at(0)), Stands::Before(at(585)));
        assert_eq!(stands(&f, at(585)), Stands::Open);
        assert_eq!(stands(&FoyerFacts { room: false, ..f }, at(600)), Stands::NoRoom);
        assert_eq!(stands(&f, at(720)), Stands::Open, "it runs over");
        assert_eq!(stands(&f, at(584)), Stands::Before(at(585)));
        assert_eq!(stands(&f, at(749)), Stands::Open, "the last minute of what runs over");
        assert_eq!(stands(&f, at(750)), Stands::Over);
        let until = Some(at(2000));
        let seen = |audience, came, now| {
            let recording = Some(Recording { audience, until });
            stands(&FoyerFacts { recording, came, ..f }, at(now))
        };
        assert_eq!(seen(Audience::Came, true, 700), Stands::Recording);
        assert_eq!(seen(Audience::Came, true, 650), Stands::Open, "while it is on");
        assert_eq!(seen(Audience::Came, false, 700), Stands::NotForYou);
        assert_eq!(seen(Audience::Booked, false, 700), Stands::Recording);
        assert_eq!(seen(Audience::Came, true, 689), Stands::Open, "to its last minute");
        assert_eq!(seen(Audience::Came, true, 690), Stands::Recording, "from the one it ends in");
        assert_eq!(seen(Audience::Booked, false, 1999), Stands::Recording, "its last minute");
        assert_eq!(seen(Audience::Booked, false, 2000), Stands::Over);
        let for_good = Some(Recording { audience: Audience::Booked, until: None });
        assert_eq!(
            stands(&FoyerFacts { recording: for_good, ..f }, at(9_000_000)),
            Stands::Recording
        );
        let with = |state| {
            stands(&FoyerFacts { state, due: Currency::EUR.of(500), full: true, ..f }, at(590))
        };
        assert_eq!(with(State::AwaitingPayment), Stands::NotPaid(Currency::EUR.of(500)));
        assert_eq!(with(State::Requested), Stands::Asked);
        assert_eq!(with(State::Lapsed), Stands::Lapsed { full: true });
        assert_eq!(with(State::Cancelled), Stands::Cancelled);
        assert_eq!(stands(&FoyerFacts { cancelled: true, ..f }, at(590)), Stands::Cancelled);
        assert_eq!(stands(&FoyerFacts { called_off: true, ..f }, at(590)), Stands::CalledOff);
    }

    #[test]
    fn a_session_opens_by_its_own_times_and_to_whom_the_date_is_open() {
        let part = Part { starts_at: at(630), ends_at: at(660), room: true, not_theirs: false };
        let f = facts();
        assert_eq!(of_part(&f, &part, at(600)), PartStands::Before(at(615)));
        assert_eq!(of_part(&f, &part, at(615)), PartStands::Open);
        assert_eq!(of_part(&f, &Part { room: false, ..part }, at(620)), PartStands::NoRoom);
        assert_eq!(of_part(&f, &Part { not_theirs: true, ..part }, at(620)), PartStands::NotTheirs);
        assert_eq!(of_part(&f, &part, at(674)), PartStands::Open, "it runs over");
        assert_eq!(of_part(&f, &part, at(675)), PartStands::Over);
        for shut in [
            FoyerFacts { state: State::AwaitingPayment, ..f },
            FoyerFacts { cancelled: true, ..f },
            FoyerFacts { called_off: true, ..f },
        ] {
            assert_eq!(of_part(&shut, &part, at(620)), PartStands::Shut);
        }
    }

    #[test]
    fn what_the_room_reports_stands_beside_and_a_difference_is_shown() {
        let stay = |from, to: Option<i64>| Stay { came_at: at(from), left_at: to.map(at) };
        let two = [stay(600, Some(640)), stay(620, Some(690))];
        let said = beside(true, &two, true, at(700));
        let stayed = Beside::Stayed { came_at: at(600), left_at: Some(at(690)), minutes: 90 };
        assert_eq!(said, Some(stayed));
        assert_eq!(beside(true, &[], true, at(700)), Some(Beside::NotSeen));
        assert_eq!(beside(true, &[], false, at(700)), None, "a plain link reports nothing");
        let other = Beside::AnotherWay { came_at: at(600), minutes: 90 };
        assert_eq!(beside(false, &two, true, at(700)), Some(other));
        assert_eq!(beside(false, &[], true, at(700)), None);
    }

    proptest! {
        /// Nobody gets into a room but by a booking that stands, while it is open.
        #[test]
        fn a_room_opens_only_to_who_may(
            state in prop::sample::select(vec![
                State::Held, State::Requested, State::AwaitingPayment, State::Confirmed,
                State::Declined, State::Cancelled, State::Lapsed,
            ]),
            cancelled in any::<bool>(), called_off in any::<bool>(), room in any::<bool>(),
            opens in 0u32..90, now in 0i64..900,
        ) {
            let f = FoyerFacts { state, cancelled, called_off, room, opens_minutes: opens, ..facts() };
            if stands(&f, at(now)) == Stands::Open {
                prop_assert!(state == State::Confirmed && !cancelled && !called_off && room);
                prop_assert!(now >= 600 - i64::from(opens) && now < 690 + 60);
            }
        }

        /// However stays overlap, nobody was there longer than from the first to the last.
        #[test]
        fn time_is_counted_once(stays in prop::collection::vec((0i64..300, 0i64..120), 1..8)) {
            let stays: Vec<Stay> = stays
                .into_iter()
                .map(|(from, long)| Stay { came_at: at(from), left_at: Some(at(from + long)) })
                .collect();
            let first = stays.iter().map(|s| s.came_at).min().unwrap();
            let last = stays.iter().filter_map(|s| s.left_at).max().unwrap();
            let longest = stays.iter().map(|s| minutes(&[*s], last)).max().unwrap();
            let all = minutes(&stays, last);
            prop_assert!(all <= last.duration_since(first).as_mins() && all >= longest);
        }
    }
}
