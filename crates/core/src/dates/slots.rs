//! Slots: appointments cut from opening hours.

use jiff::civil::{Date, Time, Weekday};
use jiff::{SignedDuration, Timestamp, ToSpan};

use crate::dates::schedule::Span;

/// One stretch of opening hours.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Opening {
    /// The day of the week.
    pub weekday: Weekday,
    /// Local time from which the house is open.
    pub opens: Time,
    /// Local time until which it is open, after `opens`.
    pub closes: Time,
}

/// How slots are cut.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cut {
    /// Minutes of one slot, at least one.
    pub minutes: u32,
    /// Minutes between two.
    pub pause: u32,
    /// How many are served at one time: the seats of a slot.
    pub desks: u32,
}

/// When a slot may be booked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Notice {
    /// At the latest so many hours before it starts.
    pub hours: u32,
    /// At the earliest so many days before it starts.
    pub days_ahead: u32,
}

impl Notice {
    /// Whether a slot may be booked at `now`.
    #[must_use]
    pub fn allows(&self, starts_at: Timestamp, now: Timestamp) -> bool {
        let until = starts_at.duration_since(now);
        until > SignedDuration::ZERO
            && until >= SignedDuration::from_hours(i64::from(self.hours))
            && until <= SignedDuration::from_hours(i64::from(self.days_ahead) * 24)
    }
}

/// Cuts the slots of the days `from` to `until`, both included, in their order. Days
/// that are closed have none, nor have hours that a clock change skips, repeats or shortens.
#[must_use]
pub fn cut(
    openings: &[Opening],
    closed: &[Date],
    cut: Cut,
    from: Date,
    until: Date,
    zone: &str,
) -> Vec<Span> {
    let mut slots: Vec<Span> = Vec::new();
    let whole = SignedDuration::from_mins(i64::from(cut.minutes.max(1)));
    for day in from.series(1.days()).take_while(|d| *d <= until) {
        if closed.contains(&day) {
            continue;
        }
        let mut today: Vec<&Opening> =
            openings.iter().filter(|o| o.weekday == day.weekday()).collect();
        today.sort_by_key(|o| o.opens);
        for opening in today {
            let mut starts = day.to_datetime(opening.opens);
            let closes = day.to_datetime(opening.closes);
            while let Ok(ends) = starts.checked_add(i64::from(cut.minutes.max(1)).minutes())
                && ends <= closes
            {
                if let Ok(slot) = Span::new(starts, ends, zone)
                    // Openings that overlap, as after a slip of the pen, give no slot twice.
                    && slot.ends_at.duration_since(slot.starts_at) == whole
                    && slots.last().is_none_or(|last| last.ends_at <= slot.starts_at)
                {
                    slots.push(slot);
                }
                let Ok(next) = ends.checked_add(i64::from(cut.pause).minutes()) else { break };
                starts = next;
            }
        }
    }
    slots
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dates::recurrence::WEEK;
    use jiff::civil::{date, time};
    use proptest::prelude::*;

    proptest! {
        /// At no instant are there more slots than one, so never more people than desks;
        /// every slot lies in an opening and is as long as it should be.
        #[test]
        fn slots_never_overlap_and_stay_within_the_opening_hours(
            raw in prop::collection::vec((0usize..7, 0i8..23, 1i8..12), 1..6),
            minutes in 5u32..180, pause in 0u32..40, closed in 0i64..20,
        ) {
            let openings: Vec<Opening> = raw.iter().map(|&(d, from, hours)| Opening {
                weekday: WEEK[d], opens: time(from, 0, 0, 0), closes: time((from + hours).min(23), 30, 0, 0),
            }).collect();
            let first = date(2027, 3, 15);
            let shut = first.saturating_add(closed.days());
            let plan = Cut { minutes, pause, desks: 2 };
            let slots = cut(&openings, &[shut], plan, first, first.saturating_add(20.days()), "Europe/Dublin");
            for pair in slots.windows(2) {
                prop_assert!(pair[0].ends_at <= pair[1].starts_at);
            }
            for slot in &slots {
                prop_assert!(slot.starts.date() != shut);
                prop_assert_eq!(slot.ends_at.duration_since(slot.starts_at).as_mins(), i64::from(minutes));
                prop_assert!(openings.iter().any(|o| o.weekday == slot.starts.weekday()
                    && o.opens <= slot.starts.time() && slot.ends.time() <= o.closes));
            }
        }
    }

    #[test]
    fn an_afternoon_is_cut_and_notice_is_kept() {
        let opening = Opening {
            weekday: Weekday::Saturday,
            opens: time(13, 0, 0, 0),
            closes: time(16, 0, 0, 0),
        };
        let plan = Cut { minutes: 40, pause: 10, desks: 2 };
        let day = date(2026, 11, 28);
        let slots = cut(&[opening], &[], plan, day, day, "Europe/Dublin");
        let starts: Vec<String> = slots.iter().map(|s| s.starts.time().to_string()).collect();
        assert_eq!(starts, ["13:00:00", "13:50:00", "14:40:00"]);
        let notice = Notice { hours: 24, days_ahead: 21 };
        let at = slots[0].starts_at;
        let before = |hours| at - SignedDuration::from_hours(hours);
        assert!(notice.allows(at, before(24)) && notice.allows(at, before(21 * 24)));
        assert!(!notice.allows(at, before(23)) && !notice.allows(at, before(21 * 24 + 1)));
        assert!(!Notice { hours: 0, days_ahead: 1 }.allows(at, at));
    }
}
