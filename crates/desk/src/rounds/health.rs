//! How what runs by itself fares, and what wakes it. Kept in memory: it is about this run of
//! the program.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};

use jiff::Timestamp;
use matricle_core::MessageId;
use matricle_store::outbox::Message;
use tokio::sync::watch;

use super::Work;
use crate::outside::mailer::SendError;

/// Wakes everything that runs by itself.
#[derive(Debug)]
pub struct Wake(watch::Sender<()>);

impl Default for Wake {
    fn default() -> Self {
        Self(watch::Sender::new(()))
    }
}

impl Wake {
    /// Something may be due at once.
    pub fn all(&self) {
        self.0.send_replace(());
    }

    /// For a loop: `changed` is ready when something may be due.
    #[must_use]
    pub fn listen(&self) -> watch::Receiver<()> {
        self.0.subscribe()
    }
}

/// What became of one message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Outcome {
    /// The other side took it: what it answered, and what was said.
    Sent { answer: String, subject: String, words: String },
    /// It did not.
    Refused(SendError),
    /// It is not due any more.
    Withdrawn(&'static str),
    /// It does not go this time.
    Skipped(&'static str),
    /// It goes at another minute.
    Later(Timestamp),
}

/// What became of a message that was handed over.
#[derive(Debug, Clone)]
pub(crate) struct Fate {
    pub(crate) message: Message,
    pub(crate) outcome: Outcome,
    pub(crate) at: Timestamp,
}

/// How one loop fares.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Fares {
    /// When it last did all that was due.
    pub turned_at: Option<Timestamp>,
    /// When it last failed as a whole, and why; nothing once it went well again.
    pub failed: Option<(Timestamp, String)>,
    /// How often it ended and was started again.
    pub starts: u32,
    /// When it was last started again, and why it had ended.
    pub started: Option<(Timestamp, String)>,
}

/// How all loops fare.
#[derive(Debug, Default)]
pub struct Health {
    loops: Mutex<BTreeMap<Work, Fares>>,
    /// Messages whose fate is known but could not be written down.
    pub(crate) unwritten: Mutex<BTreeMap<MessageId, Fate>>,
}

impl Health {
    fn with(&self, work: Work, change: impl FnOnce(&mut Fares)) {
        change(self.loops.lock().unwrap_or_else(PoisonError::into_inner).entry(work).or_default());
    }

    pub(crate) fn turned(&self, work: Work, now: Timestamp) {
        self.with(work, |f| (f.turned_at, f.failed) = (Some(now), None));
    }

    pub(crate) fn failed(&self, work: Work, why: String, now: Timestamp) {
        self.with(work, |f| f.failed = Some((now, why)));
    }

    pub(crate) fn started_again(&self, work: Work, why: String, now: Timestamp) {
        self.with(work, |f| {
            f.starts += 1;
            f.started = Some((now, why));
        });
    }

    /// How each loop fares that has done anything yet.
    #[must_use]
    pub fn all(&self) -> Vec<(Work, Fares)> {
        let loops = self.loops.lock().unwrap_or_else(PoisonError::into_inner);
        loops.iter().map(|(work, fares)| (*work, fares.clone())).collect()
    }
}
