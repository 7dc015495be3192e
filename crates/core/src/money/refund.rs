//! What is given back when a booking, or a part of it, is cancelled.

use jiff::{SignedDuration, Timestamp};

/// A cancellation step: until so many days before the start, so many percent come back.
pub type Step = (u32, u32);

/// The percent given back at `now`. Days are of 24 hours before `starts_at`; the last
/// instant of a step still counts. A date that was called off gives everything back,
/// and so does one without steps until it starts.
#[must_use]
pub fn percent(steps: &[Step], starts_at: Timestamp, called_off: bool, now: Timestamp) -> u32 {
    if called_off {
        return 100;
    }
    if steps.is_empty() {
        return if now < starts_at { 100 } else { 0 };
    }
    let reaches = |days: u32| now + SignedDuration::from_hours(24 * i64::from(days)) <= starts_at;
    steps
        .iter()
        .filter(|(days, _)| reaches(*days))
        .map(|(_, percent)| *percent)
        .max()
        .unwrap_or(0)
        .min(100)
}

/// The steps for one date, as instants: until each, its last instant included, so many percent
/// come back; after the last, nothing. Steps that give no more than a later one are left out.
#[must_use]
pub fn until(steps: &[Step], starts_at: Timestamp) -> Vec<(Timestamp, u32)> {
    let mut ends: Vec<Timestamp> = if steps.is_empty() {
        vec![starts_at - SignedDuration::from_micros(1)]
    } else {
        let hours = |days: u32| SignedDuration::from_hours(24 * i64::from(days));
        steps.iter().filter_map(|(days, _)| starts_at.checked_sub(hours(*days)).ok()).collect()
    };
    ends.sort_unstable();
    ends.dedup();
    let mut told: Vec<(Timestamp, u32)> = Vec::new();
    for end in ends.into_iter().rev() {
        let back = percent(steps, starts_at, false, end);
        if back > told.last().map_or(0, |(_, p)| *p) {
            told.push((end, back));
        }
    }
    told.reverse();
    told
}

/// `minor` cut into `parts` that differ by one at most and add up to it exactly; this is
/// part `n`, counted from zero. The larger parts come first.
#[must_use]
pub fn part(minor: i64, parts: u32, n: u32) -> i64 {
    let parts = i64::from(parts.max(1));
    let (each, over) = (minor.div_euclid(parts), minor.rem_euclid(parts));
    each + i64::from(i64::from(n) < over)
}

/// The sum of the last `count` of `parts` parts of `minor`, see [`part`].
#[must_use]
pub fn last_parts(minor: i64, parts: u32, count: u32) -> i64 {
    let from = parts.saturating_sub(count);
    (from..parts).map(|n| part(minor, parts, n)).sum()
}

/// A percentage of an amount in minor units, rounded half up, to the booker's favour.
#[must_use]
pub fn share(minor: i64, percent: u32) -> i64 {
    let twice = i128::from(minor) * i128::from(percent.min(100)) * 2 + 100;
    i64::try_from(twice.div_euclid(200)).unwrap_or(minor)
}

/// Money that is to go back, cut over the payments it came by: the last payment gives
/// first, and none gives more than is left of it. `left` is by payment, oldest first.
///
/// What no payment can give is left out: nothing goes back that never came.
#[must_use]
pub fn over_payments(minor: i64, left: &[i64]) -> Vec<i64> {
    let mut rest = minor.max(0);
    let mut gives: Vec<i64> = left
        .iter()
        .rev()
        .map(|&left| {
            let gives = rest.min(left.max(0));
            rest -= gives;
            gives
        })
        .collect();
    gives.reverse();
    gives
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn steps_told_as_instants_are_those_that_are_paid_by(
            steps in proptest::collection::vec((0u32..40, 0u32..=100), 0..5),
            hours in -60i64..1200,
        ) {
            let starts: Timestamp = "2026-12-12T10:00:00Z".parse().unwrap();
            let now = starts - SignedDuration::from_hours(hours);
            let told = until(&steps, starts);
            let back = told.iter().find(|(end, _)| now <= *end).map_or(0, |(_, p)| *p);
            prop_assert_eq!(back, percent(&steps, starts, false, now));
            prop_assert!(told.windows(2).all(|w| w[0].0 < w[1].0 && w[0].1 > w[1].1));
        }
    }

    #[test]
    fn the_steps_of_the_house_are_kept_to_the_last_instant() {
        let starts: Timestamp = "2026-12-12T10:00:00Z".parse().unwrap();
        let steps = [(14, 100), (3, 50)];
        let at = |text: &str| percent(&steps, starts, false, text.parse().unwrap());
        assert_eq!(at("2026-11-28T10:00:00Z"), 100);
        assert_eq!(at("2026-11-28T10:00:01Z"), 50);
        assert_eq!(at("2026-12-09T10:00:00Z"), 50);
        assert_eq!(at("2026-12-09T10:00:01Z"), 0);
        assert_eq!(at("2026-12-13T10:00:00Z"), 0);
        assert_eq!(percent(&steps, starts, true, starts), 100);
        assert_eq!(percent(&[], starts, false, starts), 0);
        assert_eq!((share(4800, 50), share(5, 50), share(1, 0)), (2400, 3, 0));
        assert_eq!(over_payments(50, &[40, 30]), [20, 30]);
        assert_eq!(over_payments(100, &[40, 30]), [40, 30]);
    }

    proptest! {
        #[test]
        fn parts_add_up_to_the_cent(minor in 0i64..1_000_000, parts in 1u32..40, count in 0u32..40) {
            let count = count.min(parts);
            prop_assert_eq!((0..parts).map(|n| part(minor, parts, n)).sum::<i64>(), minor);
            let first = last_parts(minor, parts, parts) - last_parts(minor, parts, count);
            prop_assert!(first >= 0 && last_parts(minor, parts, count) + first == minor);
            // Taking off one after the other comes to the same as taking off at once.
            let (mut left, mut back) = (minor, 0);
            for n in 0..count {
                let one = last_parts(left, parts - n, 1);
                left -= one;
                back += one;
            }
            prop_assert_eq!(back, last_parts(minor, parts, count));
        }

        #[test]
        fn a_refund_never_exceeds_what_came(minor in 0i64..10_000, left in prop::collection::vec(-50i64..3000, 0..6)) {
            let gives = over_payments(minor, &left);
            let all: i64 = left.iter().map(|l| (*l).max(0)).sum();
            prop_assert_eq!(gives.iter().sum::<i64>(), minor.min(all));
            prop_assert!(gives.iter().zip(&left).all(|(g, l)| *g >= 0 && *g <= (*l).max(0)));
            for percent in 0..=100 { prop_assert!(share(minor, percent) <= minor); }
        }
    }
}
