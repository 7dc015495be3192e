//! Which backups are kept, and when the next is due.

use std::collections::BTreeSet;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

/// How long backups are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Keep {
    /// All of the last so many days.
    pub all_days: u32,
    /// After that the last of each day, for so many days.
    pub days: u32,
    /// After that the last of each month, for so many months of 31 days; 0 is for ever.
    pub months: u32,
}

impl Default for Keep {
    fn default() -> Self {
        Self { all_days: 2, days: 30, months: 24 }
    }
}

/// The backups that are not kept at `now`. Days and months are of UTC; the newest backup
/// always stays, and so does one from the future, whatever a clock says.
#[must_use]
pub fn thinned(made: &[Timestamp], keep: Keep, now: Timestamp) -> Vec<Timestamp> {
    let days = |n: u32| SignedDuration::from_hours(24 * i64::from(n));
    let mut newest_first: Vec<Timestamp> = made.to_vec();
    newest_first.sort_unstable_by(|a, b| b.cmp(a));
    newest_first.dedup();
    let (mut seen_days, mut seen_months) = (BTreeSet::<Date>::new(), BTreeSet::<(i16, i8)>::new());
    newest_first
        .into_iter()
        .enumerate()
        .filter_map(|(n, at)| {
            let (age, day) = (now.duration_since(at), at.to_zoned_datetime(TimeZone::UTC).date());
            let first_of_day = seen_days.insert(day);
            let first_of_month = seen_months.insert((day.year(), day.month()));
            let stays = n == 0
                || age <= days(keep.all_days)
                || (first_of_day && age <= days(keep.days))
                || (first_of_month
                    && (keep.months == 0 || age <= days(keep.months.saturating_mul(31))));
            (!stays).then_some(at)
        })
        .collect()
}

/// Whether a backup is due at `now`.
#[must_use]
pub fn is_due(last: Option<Timestamp>, every: SignedDuration, now: Timestamp) -> bool {
    last.is_none_or(|last| now.duration_since(last) >= every)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn all_of_two_days_one_a_day_one_a_month() {
        let now: Timestamp = "2026-11-25T12:00:00Z".parse().unwrap();
        let hours = |h: i64| now - SignedDuration::from_hours(h);
        let made: Vec<_> = (0..24 * 90).step_by(6).map(hours).collect();
        let gone = thinned(&made, Keep { months: 1, ..Keep::default() }, now);
        let left = made.len() - gone.len();
        // Nine of two days, one for each of 28 days more, the last of October.
        assert_eq!(left, 9 + 28 + 1 - 1, "{left}");
        assert!(is_due(None, SignedDuration::from_hours(24), now));
        assert!(!is_due(Some(hours(23)), SignedDuration::from_hours(24), now));
    }

    proptest! {
        /// The newest stays, thinning twice changes nothing, and what is kept is kept also when
        /// it is thinned as time goes on, day by day.
        #[test]
        fn thinning_is_steady(hours in prop::collection::vec(0i64..24 * 400, 1..80), all_days in 0u32..5, days in 0u32..60, months in 0u32..14) {
            let now: Timestamp = "2026-11-25T12:00:00Z".parse().unwrap();
            let keep = Keep { all_days, days, months };
            let mut made: Vec<_> = hours.iter().map(|h| now - SignedDuration::from_hours(*h)).collect();
            let gone = thinned(&made, keep, now);
            prop_assert!(!gone.contains(made.iter().max().unwrap()));
            made.retain(|at| !gone.contains(at));
            prop_assert_eq!(thinned(&made, keep, now), vec![]);
        }
    }
}
