//! How often things may be asked for, whoever asks. Kept in memory: after a restart everybody
//! starts afresh.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use jiff::{SignedDuration, Timestamp};
use matricle_core::people::rate_limit::{Quota, next};
use matricle_core::people::unasked::PASSES;
use matricle_core::people::who::mailbox;

use crate::DeskError;

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

impl Asks {
    /// Whether what it is counted by is an address: all that lead to one box are one.
    const fn is_of_box(self) -> bool {
        matches!(self, Self::NumberMail | Self::StrangerMail | Self::LeftMail)
    }
}

/// Most keys remembered; more than that, and those that were quiet are forgotten.
const MOST: usize = 50_000;

/// What was asked for lately.
#[derive(Debug)]
pub struct Often {
    /// Tries to sign in that one network has in a minute: the other numbers follow from it.
    scale: u32,
    known: Mutex<HashMap<(Asks, String), Timestamp>>,
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
        Self { scale: scale.max(1), known: Mutex::default() }
    }

    const fn quota(&self, what: Asks) -> Quota {
        let n = self.scale;
        let (most, minutes) = match what {
            Asks::Password | Asks::Letters | Asks::Certificate => (n.saturating_mul(2), 15),
            Asks::NumberMail => (n / 2 + 1, 60),
            Asks::Submission | Asks::Complaint => (n, 60),
            Asks::Keeping => (n.saturating_mul(60), 1),
            Asks::SubmissionFrom => (n.saturating_mul(10), 60),
            Asks::Roster => (n.saturating_mul(30), 10),
            Asks::PassOn => (PASSES, 24 * 60),
            Asks::NumberTry => (n.saturating_mul(2), 60),
            Asks::StrangerMail | Asks::LeftMail => (n / 2 + 1, 24 * 60),
            Asks::StrangerMailBy => (n.saturating_mul(2), 60),
            Asks::StrangerMailFrom | Asks::LeftMailFrom => (n.saturating_mul(40), 60),
        };
        Quota { most, every: SignedDuration::from_mins(minutes) }
    }

    /// Lets somebody pass, unless it was asked for too often.
    ///
    /// # Errors
    /// [`DeskError::TooOften`], with how long to wait.
    pub fn ask(&self, what: Asks, by: &str, now: Timestamp) -> Result<(), DeskError> {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() > MOST {
            known.retain(|_, due| *due > now);
        }
        let by = if what.is_of_box() { mailbox(by) } else { by.trim().to_lowercase() };
        let key = (what, by);
        match next(self.quota(what), known.get(&key).copied(), now) {
            Ok(due) => {
                known.insert(key, due);
                Ok(())
            }
            Err(wait) => Err(DeskError::TooOften { seconds: wait.as_secs().unsigned_abs() + 1 }),
        }
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
