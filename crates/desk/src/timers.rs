//! What happens by itself: deadlines, payments to ask about, refunds, mails, dates and events
//! whose time has come.
//!
//! What is due stands in the database, so a restart loses nothing and two runs do nothing
//! twice. Each kind of work runs in a loop of its own: a mail server that hangs delays no
//! deadline. Each row runs in a task of its own: one that fails, or panics, is set aside with
//! its reason, shown on Today and tried again later, and stops nothing after it. A loop that
//! ends all the same is started again, and that is said too.

mod health;
mod mails;

use std::any::Any;
use std::future::Future;
use std::time::Duration;

use jiff::SignedDuration;
use matricle_core::BookingId;
use matricle_core::acting::{Acting, PROGRAM};
use matricle_core::booking::State;
use matricle_store::bookings;
use matricle_store::events::{self, EventState};
use matricle_store::payments::{self, PaymentState};
use matricle_store::{StoreError, aside};
use tokio::task::JoinSet;

pub use health::{Fares, Health, Wake};

use crate::checkout::check;
use crate::hold::lapse;
use crate::{Desk, DeskError};

/// Rows of one kind done in one round.
pub(crate) const ROUND: u32 = 50;
/// Conversations with the card provider under way at once.
const AT_ONCE: usize = 8;
/// A pause after a loop ended that should not have.
const PAUSE: Duration = Duration::from_secs(1);

/// A kind of work, in a loop of its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Work {
    /// Holds and times to pay that run out.
    Deadlines,
    /// Payments whose provider is to be asked.
    Payments,
    /// Money on its way back.
    Refunds,
    /// Messages to be handed over.
    Mail,
    /// Drafts whose time has come, slots to be cut.
    Planning,
    /// Payouts of the provider, stamp cards that expire.
    Books,
    /// The backup by the timer.
    Backup,
}

impl Work {
    /// All of it.
    pub const ALL: [Self; 7] = [
        Self::Deadlines,
        Self::Payments,
        Self::Refunds,
        Self::Mail,
        Self::Planning,
        Self::Books,
        Self::Backup,
    ];

    /// How long one row may take, whatever it waits for.
    const fn longest(self) -> Duration {
        match self {
            Self::Backup => Duration::from_secs(3600),
            Self::Deadlines
            | Self::Payments
            | Self::Refunds
            | Self::Mail
            | Self::Planning
            | Self::Books => Duration::from_secs(90),
        }
    }

    /// The word for it, as stored and as shown.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Deadlines => "deadlines",
            Self::Payments => "payments",
            Self::Refunds => "refunds",
            Self::Mail => "mail",
            Self::Planning => "planning",
            Self::Books => "books",
            Self::Backup => "backup",
        }
    }
}

/// Does what is due of one kind; says whether there may be more at once.
///
/// # Errors
/// What is due cannot be read.
pub async fn turn(desk: &Desk, work: Work) -> Result<bool, DeskError> {
    let count = match work {
        Work::Deadlines => pass_deadlines(desk).await?,
        Work::Payments => ask_about_payments(desk).await?,
        Work::Refunds => crate::money::give_refunds(desk).await?,
        Work::Mail => return mails::send(desk).await,
        Work::Planning => publish(desk).await? + crate::slots::roll(desk).await?,
        Work::Books => {
            crate::books::ask_for_payouts(desk).await?;
            crate::cards::expire(desk).await?
        }
        Work::Backup => crate::backup::by_timer(desk).await?,
    };
    Ok(count >= ROUND as usize)
}

/// Does what is due of every kind, one after the other; says whether there may be more. What
/// a payment that was called back leaves open is done in the same run.
///
/// # Errors
/// What is due cannot be read.
pub async fn run_due(desk: &Desk) -> Result<bool, DeskError> {
    let mut more = turn(desk, Work::Deadlines).await?;
    for work in Work::ALL {
        more |= turn(desk, work).await?;
    }
    let mut late = turn(desk, Work::Deadlines).await?;
    late |= turn(desk, Work::Mail).await?;
    Ok(more | late)
}

/// Runs for ever, each kind of work beside the others.
pub async fn run(desk: Desk) {
    let mut loops = JoinSet::new();
    for work in Work::ALL {
        loops.spawn(keep(desk.clone(), work));
    }
    while loops.join_next().await.is_some() {}
}

/// Keeps one loop running until the store is closed.
async fn keep(desk: Desk, work: Work) {
    loop {
        match tokio::spawn(round_and_round(desk.clone(), work)).await {
            Ok(()) => return,
            Err(ended) if ended.is_cancelled() => return,
            Err(ended) => {
                let reason = panic_words(&*ended.into_panic());
                tracing::error!(work = work.word(), reason, "a loop ended; it is started again");
                desk.health.started_again(work, reason, desk.clock.now());
                tokio::time::sleep(PAUSE).await;
            }
        }
    }
}

async fn round_and_round(desk: Desk, work: Work) {
    let mut woken = desk.wake.listen();
    loop {
        match turn(&desk, work).await {
            Ok(more) => {
                desk.health.turned(work, desk.clock.now());
                if more {
                    continue;
                }
            }
            Err(DeskError::Store(StoreError::Closed)) => return,
            Err(error) => {
                tracing::error!(work = work.word(), %error, "work failed; trying again");
                desk.health.failed(work, error.to_string(), desk.clock.now());
            }
        }
        let _ = tokio::time::timeout(PAUSE, woken.changed()).await;
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

/// Drafts whose time has come go into the Programme.
async fn publish(desk: &Desk) -> Result<usize, DeskError> {
    let now = desk.clock.now();
    let due = desk.store.read(move |conn| events::to_publish(conn, now)).await?;
    let due = due
        .into_iter()
        .map(|id| Due { about: format!("event {id}"), booking: None, row: id })
        .collect();
    each(desk, Work::Planning, due, 1, |desk, id| async move {
        desk.store
            .write(move |tx| {
                events::set_state(tx, id, EventState::Published)?;
                events::changed(tx, id, now)?;
                crate::dates::log(tx, id, now, PROGRAM, "published the event at the set time")
            })
            .await
    })
    .await
}

async fn pass_deadlines(desk: &Desk) -> Result<usize, DeskError> {
    let now = desk.clock.now();
    let overdue = desk.store.read(move |conn| bookings::overdue(conn, now, ROUND)).await?;
    let due = overdue
        .into_iter()
        .map(|id| Due { about: id.to_string(), booking: Some(id), row: id })
        .collect();
    each(desk, Work::Deadlines, due, 1, |desk, id| async move { pass_deadline(&desk, id).await })
        .await
}

/// Seats that are being paid for are given back only once the provider has called the
/// payment back, so that no money can come for seats sold to somebody else: that is asked of
/// it where payments are asked about, and the booking comes here again afterwards.
async fn pass_deadline(desk: &Desk, id: BookingId) -> Result<(), DeskError> {
    let turn = desk.turn(Acting::program());
    let called_back = desk
        .store
        .write(move |tx| {
            let now = turn.now;
            let Some(booking) = bookings::by_id(tx, id)? else { return Ok(false) };
            if booking.deadline.is_none_or(|d| d > now) {
                return Ok(false); // paid, taken again or put off meanwhile
            }
            let open = booking.state == State::AwaitingPayment
                && payments::of_booking(tx, id)?.iter().any(|p| p.state == PaymentState::Open);
            if open {
                payments::unwant(tx, id, now)?;
                return Ok(true);
            }
            lapse(tx, &booking, &turn).map(|_| false)
        })
        .await?;
    if called_back {
        desk.wake.all();
    }
    Ok::<_, DeskError>(())
}

async fn ask_about_payments(desk: &Desk) -> Result<usize, DeskError> {
    let now = desk.clock.now();
    let due = desk.store.read(move |conn| payments::to_check(conn, now, ROUND)).await?;
    let due = due
        .into_iter()
        .map(|(id, booking)| Due { about: id.clone(), booking: Some(booking), row: id })
        .collect();
    each(desk, Work::Payments, due, AT_ONCE, |desk, id| async move {
        match desk.store.read(move |conn| payments::by_id(conn, &id)).await? {
            Some(payment) => check(&desk, &payment).await,
            None => Ok(()),
        }
    })
    .await
}
