//! How often something may be asked for: so many at once, and one more each time a share of
//! the period has passed (the generic cell rate algorithm, as in ITU-T I.371).

use jiff::{SignedDuration, Timestamp};

/// So many in a period.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Quota {
    /// How many, all of them at once if need be.
    pub most: u32,
    /// The period.
    pub every: SignedDuration,
}

/// Decides whether one more may pass at `now`, and what is remembered then. `before` is what
/// was remembered last; nothing for whoever asks for the first time or was quiet for a period.
///
/// # Errors
/// How long to wait.
pub fn next(
    quota: Quota,
    before: Option<Timestamp>,
    now: Timestamp,
) -> Result<Timestamp, SignedDuration> {
    let each = quota.every / i32::try_from(quota.most.max(1)).unwrap_or(i32::MAX);
    // A clock that was set back makes nobody wait longer than a period.
    let due = before.map_or(now, |b| b.clamp(now, now.saturating_add(quota.every).unwrap_or(b)));
    let ahead = due.duration_since(now);
    if ahead + each > quota.every {
        return Err(ahead + each - quota.every);
    }
    Ok(due + each)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_burst_passes_then_one_at_a_time_and_a_clock_set_back_locks_nobody_out() {
        let quota = Quota { most: 3, every: SignedDuration::from_mins(3) };
        let at = |s| Timestamp::from_second(s).unwrap();
        let mut known = None;
        for _ in 0..3 {
            known = Some(next(quota, known, at(1000)).unwrap());
        }
        assert_eq!(next(quota, known, at(1000)), Err(SignedDuration::from_mins(1)));
        assert!(next(quota, known, at(1059)).is_err());
        assert!(next(quota, known, at(1060)).is_ok());
        assert!(next(quota, known, at(100)).unwrap_err() <= quota.every);
    }

    proptest! {
        /// In any period of the quota's length no more than twice its number pass: those at
        /// once, and those that came free meanwhile.
        #[test]
        fn no_more_pass_than_the_quota_says(most in 1u32..8, steps in prop::collection::vec(0i64..40, 1..120)) {
            let quota = Quota { most, every: SignedDuration::from_secs(60) };
            let (mut now, mut known, mut passed) = (1000i64, None, Vec::new());
            for step in steps {
                now += step;
                if let Ok(next) = next(quota, known, Timestamp::from_second(now).unwrap()) {
                    known = Some(next);
                    passed.push(now);
                }
            }
            for from in &passed {
                let within = passed.iter().filter(|at| (*from..*from + 60).contains(at)).count();
                prop_assert!(within <= 2 * most as usize, "{within} of {most}");
            }
        }
    }
}
