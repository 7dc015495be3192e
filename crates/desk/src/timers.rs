//! What happens by itself: deadlines, payments to ask about, refunds, mails, dates and events
//! whose time has come.
//!
//! What is due stands in the database, so a restart loses nothing and two runs do nothing
//! twice. Each kind of work runs in a loop of its own: a mail server that hangs delays no
//! deadline. Each row runs in a task of its own: one that fails, or panics, is set aside with
//! its reason, shown on Today and tried again later, and stops nothing after it. A loop that
//! ends all the same is started again, and that is said too.

use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use matricle_core::BookingId;
use matricle_core::booking::State;
use matricle_core::people::acting::Acting;
use matricle_store::events::{self, EventState};
use matricle_store::payments::{self, PaymentState};
use matricle_store::{StoreError, bookings, clock};
use tokio::task::JoinSet;

use crate::bookings::moves::lapse;
use crate::bookings::pay::check;
use crate::rounds::{AT_ONCE, Due, PAUSE, ROUND, Work, each, panic_words};
use crate::{Desk, DeskError};

/// How often rooms are asked who is there.
const ROOMS: Duration = Duration::from_secs(10);

/// Does what is due of one kind; says whether there may be more at once.
///
/// # Errors
/// What is due cannot be read.
pub async fn turn(desk: &Desk, work: Work) -> Result<bool, DeskError> {
    let count = match work {
        Work::Deadlines => pass_deadlines(desk).await?,
        Work::Payments => ask_about_payments(desk).await?,
        Work::Refunds => crate::money::refunds::give_refunds(desk).await?,
        Work::Telling => return crate::telling::follow_due(desk).await,
        Work::Mail => return crate::messages::sending::send(desk).await,
        Work::Letters => return Ok(crate::letters::fetching::fetch(desk).await?.1),
        Work::Rooms => crate::door::foyer::turn(desk).await?,
        Work::Answers => crate::letters::passing::send(desk).await?,
        Work::Planning => {
            publish(desk).await?
                + crate::planning::asking::by_cues(desk).await?
                + crate::planning::slots::roll(desk).await?
                + crate::review::checking::pass_time(desk).await?
        }
        Work::Books => {
            crate::money::books::ask_for_payouts(desk).await?;
            crate::money::cards::expire(desk).await?
        }
        Work::Backup => crate::house::backup::by_timer(desk).await?,
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
    let mut last = desk.clock.now();
    loop {
        if work == Work::Deadlines {
            match follow_clock(&desk, last).await {
                Ok(now) => last = now,
                Err(error) => tracing::error!(%error, "what hangs on the clock cannot be set back"),
            }
        }
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
        // Who is asked from here is not asked each time that something happens here.
        match work {
            Work::Letters => tokio::time::sleep(desk.letterbox.pause()).await,
            Work::Rooms => tokio::time::sleep(ROOMS).await,
            _ => drop(tokio::time::timeout(PAUSE, woken.changed()).await),
        }
    }
}

/// A clock that runs back by more than this was set back.
const SET_BACK: SignedDuration = SignedDuration::from_secs(60);

/// Sees a clock that was set back since it was looked at last, and brings to it what was written
/// down by the one that was ahead. What it is now.
async fn follow_clock(desk: &Desk, last: Timestamp) -> Result<Timestamp, DeskError> {
    let now = desk.clock.now();
    if last.duration_since(now) > SET_BACK {
        let rows = desk.store.write(move |tx| clock::set_back(tx, now)).await?;
        tracing::error!(%last, %now, rows, "the clock was set back; what hung on it goes by it now");
    }
    Ok(now)
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
        let turn = desk.turn(Acting::program());
        desk.store
            .write(move |tx| {
                events::set_state(tx, id, EventState::Published)?;
                events::changed(tx, id, now)?;
                crate::planning::dates::log(tx, id, &turn, "published the event at the set time")
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
