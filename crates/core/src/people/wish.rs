//! What somebody of the house asks to be told by itself: at once, or once a day at their hour.

use jiff::Timestamp;
use jiff::civil::Time;
use jiff::tz::TimeZone;

use crate::people::staff::{Right, Role};

crate::worded! {
    /// What can be asked for.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
    pub enum What {
        /// A host: each new attendee of their dates, at once.
        EachAttendee = "each attendee",
        /// A host: the new attendees of their dates, once a day.
        Attendees = "attendees",
        /// A host: the list of who comes to each of their dates, the day before.
        Tomorrow = "list of tomorrow",
        /// The treasurer: what came in, went back and is owed, once a day.
        Money = "money",
        /// The organiser: what happened and what waits for somebody, once a day.
        House = "house",
    }
}

impl What {
    /// Whether somebody with this role, who is a host or not, may be told of it.
    #[must_use]
    pub fn is_for(self, role: Role, is_host: bool) -> bool {
        match self {
            Self::EachAttendee | Self::Attendees | Self::Tomorrow => is_host,
            Self::Money => role.may(Right::HandleMoney),
            Self::House => role.may(Right::PlanEvents),
        }
    }

    /// Whether it is told at an hour of its own, in one message of the day.
    #[must_use]
    pub const fn is_daily(self) -> bool {
        matches!(self, Self::Attendees | Self::Money | Self::House)
    }
}

/// A wish.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Wish {
    /// What is to be told.
    pub what: What,
    /// At which hour of the clock; `None` for at once.
    pub at: Option<Time>,
    /// Also when there is nothing to tell.
    pub nothing: bool,
}

/// The next time after an instant that a clock of a zone shows this hour.
///
/// An hour that a clock change leaves out is that much later, one that comes twice is its first
/// (RFC 5545 §3.3.5). `None` beyond the years that a calendar has.
///
/// # Examples
/// ```
/// # use matricle_core::people::wish::next;
/// # use jiff::{civil::time, tz::TimeZone};
/// let vienna = TimeZone::get("Europe/Vienna").unwrap();
/// let eight = time(8, 0, 0, 0);
/// let at = |after: &str| next(after.parse().unwrap(), eight, &vienna).unwrap().to_string();
/// // The clocks go forward on 28 March 2027: eight is an hour earlier.
/// assert_eq!(at("2027-03-27T07:00:00Z"), "2027-03-28T06:00:00Z");
/// assert_eq!(at("2027-03-27T06:59:00Z"), "2027-03-27T07:00:00Z");
/// ```
#[must_use]
pub fn next(after: Timestamp, hour: Time, zone: &TimeZone) -> Option<Timestamp> {
    let mut day = zone.to_datetime(after).date();
    // A clock change can leave the first of them behind: two days are always enough.
    for _ in 0..3 {
        let at = zone.to_timestamp(day.to_datetime(hour)).ok()?;
        if at > after {
            return Some(at);
        }
        day = day.tomorrow().ok()?;
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Every day has its hour once: from one to the next it is never twice the same day, and
        /// never a day is left out.
        #[test]
        fn an_hour_comes_once_a_day(from in 1_790_000_000i64..1_900_000_000, hour in 0i8..24, minute in 0i8..60) {
            let zone = TimeZone::get("Europe/Vienna").unwrap();
            let hour = jiff::civil::time(hour, minute, 0, 0);
            let after = Timestamp::from_second(from).unwrap();
            let first = next(after, hour, &zone).unwrap();
            let second = next(first, hour, &zone).unwrap();
            prop_assert!(after < first && first < second);
            let day = |at| zone.to_datetime(at).date();
            prop_assert_eq!(day(second), day(first).tomorrow().unwrap());
        }
    }
}
