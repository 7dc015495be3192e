//! How often things may be asked for, whoever asks. Kept in memory: after a restart everybody
//! starts afresh.

use std::collections::HashMap;
use std::num::NonZeroU32;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use governor::clock::Clock;
use governor::middleware::NoOpMiddleware;
use governor::nanos::Nanos;
use governor::state::keyed::DashMapStateStore;
use governor::{Quota, RateLimiter};
use jiff::Timestamp;
use matricle_core::people::unasked::PASSES;
use matricle_core::people::who::mailbox;

use crate::DeskError;

matricle_core::every! {
/// What is asked for, counted by what.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Asks {
    /// A password is tried: by address.
    Password,
    /// A number to sign in with is mailed: by address.
    NumberMail,
    /// A number is tried: by address.
    NumberTry,
    /// A mail goes to an address that nobody has proved: by that address.
    StrangerMail,
    /// The same, by the browser that makes it go.
    StrangerMailBy,
    /// The same, by the network.
    StrangerMailFrom,
    /// A mail leads back to a booking that was left: by the address that was typed. It has bounds
    /// of its own, since it goes only where no other mail of the booking does.
    LeftMail,
    /// The same, by the network.
    LeftMailFrom,
    /// A submission is begun: by the browser.
    Submission,
    /// The same, by the network.
    SubmissionFrom,
    /// What is written of submissions is kept: by the network.
    Keeping,
    /// Somebody complains: by the network.
    Complaint,
    /// A certificate is looked up: by the network.
    Certificate,
    /// A roster is taken along: by whom, for which date.
    Roster,
    /// Letters with which a device joins are tried: by the network.
    Letters,
    /// A ticket is passed on by its booker: by the ticket.
    PassOn,
}
}

impl Asks {
    /// Whether what it is counted by is an address: all that lead to one box are one.
    const fn is_of_box(self) -> bool {
        matches!(self, Self::NumberMail | Self::StrangerMail | Self::LeftMail)
    }

    /// So many at once, and as many again in a period; `n` follows from the configuration.
    fn quota(self, n: u32) -> Quota {
        let (most, minutes) = match self {
            Self::Password | Self::Letters | Self::Certificate => (n.saturating_mul(2), 15),
            Self::NumberMail => (n / 2 + 1, 60),
            Self::Submission | Self::Complaint => (n, 60),
            Self::Keeping => (n.saturating_mul(60), 1),
            Self::SubmissionFrom => (n.saturating_mul(10), 60),
            Self::Roster => (n.saturating_mul(30), 10),
            Self::PassOn => (PASSES, 24 * 60),
            Self::NumberTry => (n.saturating_mul(2), 60),
            Self::StrangerMail | Self::LeftMail => (n / 2 + 1, 24 * 60),
            Self::StrangerMailBy => (n.saturating_mul(2), 60),
            Self::StrangerMailFrom | Self::LeftMailFrom => (n.saturating_mul(40), 60),
        };
        let most = NonZeroU32::new(most).unwrap_or(NonZeroU32::MIN);
        let each = Duration::from_secs(minutes * 60) / most.get();
        Quota::with_period(each).unwrap_or(Quota::per_second(most)).allow_burst(most)
    }
}

/// Most keys remembered; more than that, and those that were quiet are forgotten.
const MOST: usize = 50_000;

/// How long the desk's clock has gone on. Where that is set back, this goes on from there: nobody
/// waits longer for it.
#[derive(Debug, Clone, Default)]
struct Elapsed {
    nanos: Arc<AtomicU64>,
    last: Arc<Mutex<Option<Timestamp>>>,
}

impl Elapsed {
    fn set(&self, now: Timestamp) {
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        let gone = last.map_or(0, |last| now.duration_since(last).as_nanos());
        self.nanos.fetch_add(u64::try_from(gone).unwrap_or(0), Ordering::Relaxed);
        *last = Some(now);
    }
}

impl Clock for Elapsed {
    type Instant = Nanos;

    fn now(&self) -> Nanos {
        self.nanos.load(Ordering::Relaxed).into()
    }
}

type Limiter = RateLimiter<String, DashMapStateStore<String>, Elapsed, NoOpMiddleware<Nanos>>;

/// What was asked for lately: for each kind a limiter by the generic cell rate algorithm
/// (ITU-T I.371), so many at once and one more each time a share of the period has passed.
#[derive(Debug)]
pub struct Often {
    clock: Elapsed,
    limiters: HashMap<Asks, Limiter>,
}

impl Default for Often {
    fn default() -> Self {
        Self::new(10)
    }
}

impl Often {
    /// Bounds that follow from how many tries to sign in one network has in a minute.
    #[must_use]
    pub fn new(scale: u32) -> Self {
        let clock = Elapsed::default();
        let limiter = |what: Asks| {
            let store = DashMapStateStore::default();
            (what, RateLimiter::new(what.quota(scale.max(1)), store, clock.clone()))
        };
        Self { limiters: Asks::ALL.into_iter().map(limiter).collect(), clock }
    }

    /// Lets somebody pass, unless it was asked for too often.
    ///
    /// # Errors
    /// [`DeskError::TooOften`], with how long to wait.
    pub fn ask(&self, what: Asks, by: &str, now: Timestamp) -> Result<(), DeskError> {
        let Some(limiter) = self.limiters.get(&what) else { return Ok(()) };
        self.clock.set(now);
        if limiter.len() > MOST {
            limiter.retain_recent();
        }
        let by = if what.is_of_box() { mailbox(by) } else { by.trim().to_lowercase() };
        limiter.check_key(&by).map_err(|until| {
            let wait = until.wait_time_from(self.clock.now());
            DeskError::TooOften { seconds: wait.as_secs() + 1 }
        })
    }

    /// Lets a mail go to an address that nobody has proved: few to one address, whoever asks;
    /// few by one browser; and for a network no more than a hall full of people makes.
    ///
    /// # Errors
    /// [`DeskError::TooOften`].
    pub fn stranger_mail(
        &self,
        address: &str,
        (browser, network): (i64, i64),
        now: Timestamp,
    ) -> Result<(), DeskError> {
        if browser != 0 {
            self.ask(Asks::StrangerMailBy, &browser.to_string(), now)?;
        }
        if network != 0 {
            self.ask(Asks::StrangerMailFrom, &network.to_string(), now)?;
        }
        self.ask(Asks::StrangerMail, address, now)
    }

    /// Lets a mail lead an address that nobody has proved back to a booking that was left.
    ///
    /// # Errors
    /// [`DeskError::TooOften`].
    pub fn left_mail(
        &self,
        address: &str,
        (_, network): (i64, i64),
        now: Timestamp,
    ) -> Result<(), DeskError> {
        if network != 0 {
            self.ask(Asks::LeftMailFrom, &network.to_string(), now)?;
        }
        self.ask(Asks::LeftMail, address, now)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(second).unwrap()
    }

    #[test]
    fn a_burst_passes_then_one_at_a_time_and_a_clock_set_back_locks_nobody_out() {
        // Ten in an hour.
        let often = Often::new(10);
        let ask = |second| often.ask(Asks::Submission, "a", at(second));
        (0..10).for_each(|_| ask(1000).unwrap());
        let wait = |refused| match refused {
            Err(DeskError::TooOften { seconds }) => seconds,
            other => panic!("{other:?}"),
        };
        assert!((359..=361).contains(&wait(ask(1000))));
        assert!(ask(1359).is_err() && ask(1361).is_ok() && ask(1361).is_err());
        assert!(often.ask(Asks::Submission, "b", at(1361)).is_ok(), "others have their own");
        assert!(often.ask(Asks::Complaint, "a", at(1361)).is_ok(), "and so has what else is asked");
        // Set back by a day, nobody waits longer than before.
        assert!(wait(ask(1361 - 86_400)) <= 361);
        assert!(ask(1361 - 86_400 + 361).is_ok());
    }

    #[test]
    fn all_addresses_of_one_box_are_counted_as_one() {
        let often = Often::new(2);
        assert!(often.ask(Asks::NumberMail, "ann+one@post.example", at(0)).is_ok());
        assert!(often.ask(Asks::NumberMail, "Ann+two@post.example", at(0)).is_ok());
        assert!(often.ask(Asks::NumberMail, "ann@post.example", at(0)).is_err());
    }

    proptest! {
        /// In any period no more than twice its number pass: those at once, and those that came
        /// free meanwhile.
        #[test]
        fn no_more_pass_than_the_quota_says(
            scale in 1u32..6,
            steps in prop::collection::vec(0i64..1800, 1..120),
        ) {
            let often = Often::new(scale);
            let (mut now, mut passed) = (1000, Vec::new());
            for step in steps {
                now += step;
                if often.ask(Asks::Submission, "a", at(now)).is_ok() {
                    passed.push(now);
                }
            }
            for from in &passed {
                let within = passed.iter().filter(|t| (*from..from + 3600).contains(t)).count();
                prop_assert!(within <= 2 * scale as usize);
            }
        }
    }
}
