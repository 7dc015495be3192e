//! A device at a door: what it may do, and for how long.

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};

use crate::DateId;

/// How long the letters with which a device joins are good for.
pub const LETTERS_LAST: SignedDuration = SignedDuration::from_mins(15);

/// Longest time that a device is let join for.
const LONGEST: SignedDuration = SignedDuration::from_hours(24 * 14);
/// How long after the last of its dates a device ends.
const AFTERWARDS: SignedDuration = SignedDuration::from_hours(3);

/// When a device ends by itself: three hours after the last of its dates ends, at most in two
/// weeks; one that is for all that are on ends at four in the next morning, or three hours after
/// the last of those that are on now, if that is later.
#[must_use]
pub fn ends_by_itself(
    last: Option<Timestamp>,
    on: Option<Timestamp>,
    zone: &str,
    now: Timestamp,
) -> Timestamp {
    let bound = now.saturating_add(LONGEST).unwrap_or(now);
    let zone = TimeZone::get(zone).unwrap_or(TimeZone::UTC);
    let here = now.to_zoned_datetime(zone);
    let morning = || {
        let at = here.date().checked_add(i64::from(here.hour() >= 4).days()).ok()?.at(4, 0, 0, 0);
        here.time_zone().to_ambiguous_timestamp(at).compatible().ok()
    };
    let after = |end: Timestamp| end.saturating_add(AFTERWARDS).map_or(bound, |at| at.min(bound));
    match last {
        Some(last) => after(last),
        None => on.map(after).max(morning()).unwrap_or(bound),
    }
}

/// What a device was given when it joined.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grant {
    /// The dates it is for; none for all that are on when it asks.
    pub dates: Vec<DateId>,
    /// It may take money.
    pub takes_money: bool,
    /// When it ends by itself.
    pub ends_at: Timestamp,
    /// When somebody sent it away.
    pub sent_away_at: Option<Timestamp>,
}

/// Why a device may not do something.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum DeviceRefusal {
    /// It was sent away.
    #[error("this device was sent away; it joins again with new letters from the Office")]
    SentAway,
    /// Its time is over.
    #[error("this device's time is over; it joins again with new letters from the Office")]
    Ended,
    /// It is for other dates.
    #[error("this device was not given this date; ask at the Office for letters that cover it")]
    OtherDate,
    /// It may not take money.
    #[error("this device takes no money; send the person to somebody who does")]
    NoMoney,
    /// The letters are not good, or not any more.
    #[error(
        "these letters let nothing join: each set works once and for a quarter of an hour; ask at the Office for new ones"
    )]
    Letters,
}

impl Grant {
    /// Lets a device pass at `now`.
    ///
    /// # Errors
    /// [`DeviceRefusal::SentAway`], [`DeviceRefusal::Ended`].
    pub fn stands(&self, now: Timestamp) -> Result<(), DeviceRefusal> {
        if self.sent_away_at.is_some() {
            Err(DeviceRefusal::SentAway)
        } else if now >= self.ends_at {
            Err(DeviceRefusal::Ended)
        } else {
            Ok(())
        }
    }

    /// Lets a device pass at the door of a date.
    ///
    /// # Errors
    /// As [`Self::stands`]; [`DeviceRefusal::OtherDate`].
    pub fn at(&self, date: DateId, now: Timestamp) -> Result<(), DeviceRefusal> {
        self.stands(now)?;
        if self.covers(date) { Ok(()) } else { Err(DeviceRefusal::OtherDate) }
    }

    /// Whether it is for a date.
    #[must_use]
    pub fn covers(&self, date: DateId) -> bool {
        self.dates.is_empty() || self.dates.contains(&date)
    }

    /// Lets a device take money.
    ///
    /// # Errors
    /// [`DeviceRefusal::NoMoney`].
    pub const fn money(&self) -> Result<(), DeviceRefusal> {
        if self.takes_money { Ok(()) } else { Err(DeviceRefusal::NoMoney) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_device_ends_when_what_it_is_for_is_over() {
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        let ends = |last, now| ends_by_itself(last, None, "Europe/Dublin", at(now)).to_string();
        let on = Some(at("2026-11-27T06:15:00Z"));
        let night = ends_by_itself(None, on, "Europe/Dublin", at("2026-11-27T02:55:00Z"));
        assert_eq!(night.to_string(), "2026-11-27T09:15:00Z", "what is on at night goes on");
        assert_eq!(ends(None, "2026-11-26T18:00:00Z"), "2026-11-27T04:00:00Z");
        assert_eq!(ends(None, "2026-11-27T01:00:00Z"), "2026-11-27T04:00:00Z");
        let last = Some(at("2026-11-28T22:00:00Z"));
        assert_eq!(ends(last, "2026-11-26T18:00:00Z"), "2026-11-29T01:00:00Z");
        assert_eq!(ends(last, "2026-11-01T18:00:00Z"), "2026-11-15T18:00:00Z");
    }

    #[test]
    fn a_device_does_what_it_was_given_until_it_ends() {
        let at = |s| Timestamp::from_second(s).unwrap();
        let grant = Grant {
            dates: vec![DateId(7)],
            takes_money: false,
            ends_at: at(100),
            sent_away_at: None,
        };
        assert_eq!(grant.at(DateId(7), at(99)), Ok(()));
        assert_eq!(grant.at(DateId(8), at(99)), Err(DeviceRefusal::OtherDate));
        assert_eq!(grant.at(DateId(7), at(100)), Err(DeviceRefusal::Ended));
        assert_eq!(grant.money(), Err(DeviceRefusal::NoMoney));
        let away = Grant { sent_away_at: Some(at(50)), ..grant.clone() };
        assert_eq!(away.stands(at(60)), Err(DeviceRefusal::SentAway));
        assert!(Grant { dates: vec![], ..grant }.covers(DateId(9)), "all that are on");
    }
}
