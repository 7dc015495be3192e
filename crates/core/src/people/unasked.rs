//! Mails to whoever has not asked for them. An address is typed by anybody: until its owner has
//! shown that it is theirs, what strangers' acts make go to its box is counted together, whoever
//! they are and however they do it. What is too much waits; as it waits, what has become untrue is
//! withdrawn and what changes again becomes one mail. Nothing waits longer than a day.

use jiff::{SignedDuration, Timestamp};

/// Most mails to one box within an hour.
pub const AN_HOUR: usize = 12;
/// Most mails to one box within a day.
pub const A_DAY: usize = 30;
/// Most mails about one booking to one box within an hour, also where its owner is known: changes
/// to and fro become one mail.
pub const OF_A_BOOKING: usize = 6;
/// Most passes of one ticket by its booker within a day.
pub const PASSES: u32 = 3;
/// Most characters of a name in a greeting.
pub const LONGEST_CALLED: usize = 60;

const HOUR: SignedDuration = SignedDuration::from_hours(1);
const DAY: SignedDuration = SignedDuration::from_hours(24);

/// A mail that went to the same box within the last day.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Went {
    /// When.
    pub at: Timestamp,
    /// It was about the same booking.
    pub same: bool,
}

/// Whether one more goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Goes {
    /// It does.
    Now,
    /// Not before this instant.
    At(Timestamp),
    /// Enough went to this box within a day.
    Not,
}

/// Decides whether one more mail goes to a box now. `went` are those of the last day, in any
/// order; `proved` says that whoever reads the box has shown so to this booking.
#[must_use]
pub fn goes(went: &[Went], proved: bool, now: Timestamp) -> Goes {
    let within = |same: bool, period: SignedDuration| {
        let mut at: Vec<Timestamp> = went
            .iter()
            .filter(|w| (w.same || !same) && now.duration_since(w.at) < period)
            .map(|w| w.at)
            .collect();
        at.sort_unstable();
        at
    };
    // The one that has to be an hour old before there is room.
    let room = |at: &[Timestamp], most: usize| at.len().checked_sub(most).map(|n| at[n] + HOUR);
    let mut later = room(&within(true, HOUR), OF_A_BOOKING);
    if !proved {
        if within(false, DAY).len() >= A_DAY {
            return Goes::Not;
        }
        later = later.max(room(&within(false, HOUR), AN_HOUR));
    }
    later.map_or(Goes::Now, Goes::At)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(seconds: i64) -> Timestamp {
        Timestamp::from_second(1_000_000 + seconds).unwrap()
    }

    #[test]
    fn the_thirteenth_waits_until_the_first_is_an_hour_old() {
        let went = |n: i64, same| (0..n).map(|s| Went { at: at(s), same }).collect::<Vec<_>>();
        let now = at(100);
        assert_eq!(goes(&went(11, false), false, now), Goes::Now);
        assert_eq!(goes(&went(12, false), false, now), Goes::At(at(3600)));
        assert_eq!(goes(&went(12, false), false, at(3599)), Goes::At(at(3600)));
        assert_eq!(goes(&went(12, false), false, at(3600)), Goes::Now);
        assert_eq!(goes(&went(12, false), true, now), Goes::Now, "its owner asked for it");
        assert_eq!(goes(&went(5, true), true, now), Goes::Now);
        assert_eq!(goes(&went(6, true), true, now), Goes::At(at(3600)), "of one booking");
        assert_eq!(goes(&went(30, false), false, at(80_000)), Goes::Not);
        assert_eq!(goes(&went(30, false), false, at(86_400)), Goes::Now, "a day later");
    }

    proptest! {
        /// Whoever makes mails go and whenever: in no hour more than twelve arrive, in no day
        /// more than thirty, and what waits goes at the minute that it was told.
        #[test]
        fn no_box_is_written_to_without_end(
            steps in prop::collection::vec((0i64..900, any::<bool>()), 1..200),
        ) {
            let (mut now, mut went) = (at(0), Vec::<Went>::new());
            for (step, same) in steps {
                now += SignedDuration::from_secs(step);
                let seen: Vec<_> =
                    went.iter().map(|w| Went { same: w.same == same, ..*w }).collect();
                match goes(&seen, false, now) {
                    Goes::Now => went.push(Went { at: now, same }),
                    Goes::At(later) => {
                        prop_assert!(later > now && later <= now + HOUR);
                        let then = goes(&seen, false, later);
                        prop_assert!(matches!(then, Goes::Now | Goes::Not));
                    }
                    Goes::Not => {}
                }
                for (period, most) in [(HOUR, AN_HOUR), (DAY, A_DAY)] {
                    let n = went.iter().filter(|w| now.duration_since(w.at) < period).count();
                    prop_assert!(n <= most, "{n} of {most}");
                }
            }
        }
    }
}
