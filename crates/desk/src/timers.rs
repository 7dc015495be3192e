//! What happens by itself: deadlines, payments to ask about, mails to send.
//!
//! What is due stands in the database, so a restart loses nothing and two runs do
//! nothing twice.

use std::time::Duration;

use jiff::SignedDuration;
use matricle_core::booking::State;
use matricle_store::StoreError;
use matricle_store::bookings::{self, Booking};
use matricle_store::events::{self, EventState};
use matricle_store::outbox::{self, About};
use matricle_store::payments::{self, PaymentState};

use crate::checkout::{backoff, check};
use crate::hold::{PROGRAM, lapse};
use crate::{Desk, DeskError, messages};

/// Things of one kind done in one round.
const ROUND: u32 = 50;
/// Tries of a mail, over some two days, before it is given up.
const TRIES: u32 = 300;

/// At a start: takes up what the last run left half-way.
///
/// # Errors
/// The store fails.
pub async fn take_up(desk: &Desk) -> Result<(), DeskError> {
    let now = desk.clock.now();
    let left = desk.store.write(move |tx| outbox::take_up(tx, now)).await?;
    if left > 0 {
        tracing::warn!(
            left,
            "messages were being handed over when the program ended; trying again"
        );
    }
    Ok(())
}

/// Does what is due now; says whether there may be more.
///
/// # Errors
/// The store fails.
pub async fn run_due(desk: &Desk) -> Result<bool, DeskError> {
    let late = pass_deadlines(desk).await?;
    let asked = ask_about_payments(desk).await?;
    let given = crate::money::give_refunds(desk).await?;
    crate::books::ask_for_payouts(desk).await?;
    crate::cards::expire(desk).await?;
    publish(desk).await?;
    crate::slots::roll(desk).await?;
    let sent = send_messages(desk).await?;
    Ok([late, asked, given, sent].contains(&(ROUND as usize)))
}

/// Runs for ever: at once when something is due, and every second besides.
pub async fn run(desk: Desk) {
    loop {
        match run_due(&desk).await {
            Ok(true) => continue,
            Ok(false) => {}
            Err(DeskError::Store(StoreError::Closed)) => return,
            Err(error) => tracing::error!(%error, "a timer failed; trying again"),
        }
        let _ = tokio::time::timeout(Duration::from_secs(1), desk.wake.notified()).await;
    }
}

/// Drafts whose time has come go into the Programme.
async fn publish(desk: &Desk) -> Result<(), DeskError> {
    let now = desk.clock.now();
    for id in desk.store.read(move |conn| events::to_publish(conn, now)).await? {
        desk.store
            .write(move |tx| {
                events::set_state(tx, id, EventState::Published)?;
                events::changed(tx, id, now)?;
                crate::dates::log(tx, id, now, PROGRAM, "published the event at the set time")
            })
            .await?;
    }
    Ok(())
}

async fn pass_deadlines(desk: &Desk) -> Result<usize, DeskError> {
    let now = desk.clock.now();
    let overdue = desk.store.read(move |conn| bookings::overdue(conn, now, ROUND)).await?;
    let count = overdue.len();
    for booking in overdue {
        pass_deadline(desk, booking).await?;
    }
    Ok(count)
}

/// Seats that are being paid for are given back only once the provider has called
/// the payment back, so that no money can come for seats sold to somebody else.
async fn pass_deadline(desk: &Desk, booking: Booking) -> Result<(), DeskError> {
    let (now, id) = (desk.clock.now(), booking.id);
    if booking.state == State::AwaitingPayment {
        let open = desk.store.read(move |conn| payments::of_booking(conn, id)).await?;
        for mut payment in open.into_iter().filter(|p| p.state == PaymentState::Open) {
            payment.unwanted = true;
            check(desk, &payment).await?;
        }
    }
    desk.store
        .write(move |tx| {
            let Some(booking) = bookings::by_id(tx, id)? else { return Ok(()) };
            if booking.deadline.is_none_or(|d| d > now) {
                return Ok(()); // paid, taken again or put off meanwhile
            }
            let open = payments::of_booking(tx, id)?;
            match open.iter().find(|p| p.state == PaymentState::Open) {
                Some(open) => {
                    let later = now + backoff(open.tries).max(SignedDuration::from_secs(30));
                    Ok(bookings::set_deadline(tx, id, later)?)
                }
                None => lapse(tx, &booking, now),
            }
        })
        .await
}

async fn ask_about_payments(desk: &Desk) -> Result<usize, DeskError> {
    let now = desk.clock.now();
    let due = desk.store.read(move |conn| payments::to_check(conn, now, ROUND)).await?;
    let count = due.len();
    for payment in due {
        check(desk, &payment).await?;
    }
    Ok(count)
}

async fn send_messages(desk: &Desk) -> Result<usize, DeskError> {
    let mut count = 0;
    // One at a time: what is marked as being handed over really is, so that a kill
    // leaves at most one message in doubt.
    while count < ROUND as usize {
        let now = desk.clock.now();
        let taken = desk.store.write(move |tx| outbox::take_due(tx, now, 1)).await?;
        let Some(message) = taken.into_iter().next() else { break };
        count += 1;
        let outcome = messages::send(desk, &message).await;
        let (now, kind) = (desk.clock.now(), message.kind);
        desk.store
            .write(move |tx| match outcome {
                Ok(()) => {
                    outbox::sent(tx, message.id, now)?;
                    let what = format!("{} sent to {}", kind.word(), message.address);
                    match message.about {
                        About::Booking(booking) => {
                            bookings::happened(tx, booking, now, PROGRAM, &what)
                        }
                        About::Event(_) => Ok(()),
                    }
                }
                Err(error) => {
                    let again = (!error.for_good && message.tries < TRIES)
                        .then(|| now + backoff(message.tries.saturating_sub(1)));
                    outbox::not_sent(tx, message.id, &error.reason, again)
                }
            })
            .await?;
    }
    Ok(count)
}
