//! Rounds of work that runs by itself. Each row runs in a task of its own: one that fails, or
//! panics, is set aside with its reason, shown on Today and tried again later, and stops
//! nothing after it.

mod health;

use std::any::Any;
use std::future::Future;
use std::time::Duration;

use jiff::SignedDuration;
use matricle_core::BookingId;
use matricle_store::{StoreError, aside};
use tokio::task::JoinSet;

pub use health::{Fares, Health, Wake};
pub(crate) use health::{Fate, Outcome};

use crate::{Desk, DeskError};

/// 5, 10, 20 … seconds, at most ten minutes.
pub(crate) fn backoff(tries: u32) -> SignedDuration {
    SignedDuration::from_secs((5i64 << tries.min(7)).min(600))
}

/// Rows of one kind done in one round.
pub(crate) const ROUND: u32 = 50;
/// Conversations with the card provider under way at once.
pub(crate) const AT_ONCE: usize = 8;
/// A pause after a loop ended that should not have.
pub(crate) const PAUSE: Duration = Duration::from_secs(1);

matricle_core::worded! {
    /// A kind of work, in a loop of its own.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
    pub enum Work {
        /// Holds and times to pay that run out.
        Deadlines = "deadlines",
        /// Payments whose provider is to be asked.
        Payments = "payments",
        /// Money on its way back.
        Refunds = "refunds",
        /// What is planned, brought to what bookings and dates say.
        Telling = "telling",
        /// Messages to be handed over.
        Mail = "mail",
        /// The house's mailbox, to be read.
        Letters = "letters",
        /// What goes out because of letters.
        Answers = "answers",
        /// Rooms of dates online.
        Rooms = "rooms",
        /// Drafts whose time has come, slots to be cut.
        Planning = "planning",
        /// Payouts of the provider, stamp cards that expire.
        Books = "books",
        /// The backup by the timer.
        Backup = "backup",
    }
}

impl Work {
    /// How long one row may take, whatever it waits for.
    const fn longest(self) -> Duration {
        match self {
            Self::Backup => Duration::from_secs(3600),
            Self::Deadlines
            | Self::Payments
            | Self::Refunds
            | Self::Telling
            | Self::Mail
            | Self::Letters
            | Self::Answers
            | Self::Rooms
            | Self::Planning
            | Self::Books => Duration::from_secs(90),
        }
    }
}

/// What a panic said.
pub(crate) fn panic_words(cause: &(dyn Any + Send)) -> String {
    cause
        .downcast_ref::<String>()
        .cloned()
        .or_else(|| cause.downcast_ref::<&str>().map(|s| (*s).to_owned()))
        .unwrap_or_else(|| "an unknown cause".into())
}

/// Runs the work of one row in a task of its own, and no longer than such a row may take:
/// whatever becomes of it, it becomes of it alone.
///
/// # Errors
/// What the work says; that it panicked, or took too long.
pub(crate) async fn guarded<T: Send + 'static>(
    kind: Work,
    work: impl Future<Output = Result<T, DeskError>> + Send + 'static,
) -> Result<T, DeskError> {
    match tokio::spawn(tokio::time::timeout(kind.longest(), work)).await {
        Ok(Ok(outcome)) => outcome,
        Ok(Err(_)) => Err(DeskError::Internal("it took too long".into())),
        Err(ended) if ended.is_cancelled() => Err(StoreError::Closed.into()),
        Err(ended) => Err(DeskError::Internal(panic_words(&*ended.into_panic()))),
    }
}

/// One row of some work.
pub(crate) struct Due<R> {
    /// Its key.
    pub(crate) about: String,
    /// The booking it concerns, if any.
    pub(crate) booking: Option<BookingId>,
    /// What is to be done.
    pub(crate) row: R,
}

/// Does rows, so many at once; those that fail are set aside. Says how many there were.
///
/// # Errors
/// [`StoreError::Closed`]; nothing else stops it.
pub(crate) async fn each<R, F>(
    desk: &Desk,
    work: Work,
    rows: Vec<Due<R>>,
    at_once: usize,
    act: impl Fn(Desk, R) -> F,
) -> Result<usize, DeskError>
where
    R: Send + 'static,
    F: Future<Output = Result<(), DeskError>> + Send + 'static,
{
    if rows.is_empty() {
        return Ok(0);
    }
    let now = desk.clock.now();
    let waiting = desk.store.read(move |conn| aside::waiting(conn, work.word(), now)).await?;
    let mut rows = rows;
    rows.retain(|due| !waiting.contains(&due.about));
    let count = rows.len();
    let mut rows = rows.into_iter();
    let mut under_way = JoinSet::new();
    loop {
        while under_way.len() < at_once
            && let Some(due) = rows.next()
        {
            let doing = act(desk.clone(), due.row);
            let (about, booking) = (due.about, due.booking);
            under_way.spawn(async move { (about, booking, guarded(work, doing).await) });
        }
        let Some(done) = under_way.join_next().await else { return Ok(count) };
        let Ok((about, booking, outcome)) = done else { return Err(StoreError::Closed.into()) };
        if let Err(DeskError::Store(StoreError::Closed)) = outcome {
            return Err(StoreError::Closed.into());
        }
        if let Err(error) = note(desk, work, about, booking, outcome).await {
            // Nothing can be written at present: the row comes again by itself.
            tracing::error!(work = work.word(), %error, "a row could not be set aside");
            desk.health.failed(work, error.to_string(), desk.clock.now());
        }
    }
}

/// Sets a row aside that failed; forgets that it was once it is done.
async fn note(
    desk: &Desk,
    work: Work,
    about: String,
    booking: Option<BookingId>,
    outcome: Result<(), DeskError>,
) -> Result<(), DeskError> {
    let (key, word) = (about.clone(), work.word());
    let tries = desk.store.read(move |conn| aside::tries(conn, word, &key)).await?;
    let Err(error) = outcome else {
        if tries > 0 {
            desk.store.write(move |tx| aside::done(tx, word, &about)).await?;
        }
        return Ok(());
    };
    tracing::error!(work = word, about, %error, "a row is set aside");
    let (now, reason) = (desk.clock.now(), error.to_string());
    // One minute, two, four … at most an hour.
    let again = now + SignedDuration::from_mins((1i64 << tries.min(6)).min(60));
    desk.store
        .write(move |tx| aside::set(tx, (word, &about), booking, &reason, now, again))
        .await
        .map_err(DeskError::from)
}
