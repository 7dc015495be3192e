//! Handing messages over, one at a time: what is marked as being handed over really is, so
//! that a kill leaves at most one message in doubt.

use std::sync::PoisonError;

use matricle_core::acting::Acting;
use matricle_store::outbox::{self, About, Message};
use matricle_store::{StoreError, bookings};

use crate::outside::mailer::SendError;
use crate::rounds::{Fate, ROUND, Work, backoff, guarded};
use crate::{Desk, DeskError, messages};

/// Tries of a message, over some two days, before it is given up.
const TRIES: u32 = 300;

/// Hands over what is due; says whether there may be more.
pub(crate) async fn send(desk: &Desk) -> Result<bool, DeskError> {
    write_what_is_known(desk).await?;
    take_up(desk).await?;
    for _ in 0..ROUND {
        let now = desk.clock.now();
        let taken = desk.store.write(move |tx| outbox::take_due(tx, now)).await?;
        let Some(message) = taken else { return Ok(false) };
        let outcome = hand_over(desk, message.clone()).await?;
        let fate = Fate { message, outcome, at: desk.clock.now() };
        if let Err(error) = write(desk, fate.clone()).await {
            if matches!(error, DeskError::Store(StoreError::Closed)) {
                return Err(error);
            }
            // A full disk, perhaps. What became of it is remembered, so that it is not sent
            // twice once it can be written.
            let mut unwritten =
                desk.health.unwritten.lock().unwrap_or_else(PoisonError::into_inner);
            unwritten.insert(fate.message.id, fate);
            return Err(error);
        }
    }
    Ok(true)
}

/// Puts a message together and hands it over; a panic in that is a failure of this message.
async fn hand_over(desk: &Desk, message: Message) -> Result<Result<(), SendError>, DeskError> {
    let with = desk.clone();
    match guarded(Work::Mail, async move { Ok(messages::send(&with, &message).await) }).await {
        Ok(outcome) => Ok(outcome),
        Err(closed @ DeskError::Store(StoreError::Closed)) => Err(closed),
        Err(error) => Ok(Err(SendError { for_good: false, reason: error.to_string() })),
    }
}

async fn write(desk: &Desk, fate: Fate) -> Result<(), DeskError> {
    let Fate { message, outcome, at } = fate;
    desk.store
        .write(move |tx| match outcome {
            Ok(()) => {
                outbox::sent(tx, message.id, at)?;
                let what = format!("{} sent to {}", message.kind.word(), message.address);
                match message.about {
                    About::Booking(booking) => {
                        bookings::happened(tx, booking, at, &Acting::program(), &what)
                    }
                    About::Event(_) => Ok(()),
                }
            }
            Err(error) => {
                let again = (!error.for_good && message.tries < TRIES)
                    .then(|| at + backoff(message.tries.saturating_sub(1)));
                outbox::not_sent(tx, message.id, &error.reason, again)
            }
        })
        .await
        .map_err(DeskError::from)
}

/// Writes down what could not be written when it happened.
async fn write_what_is_known(desk: &Desk) -> Result<(), DeskError> {
    let known: Vec<Fate> = {
        let unwritten = desk.health.unwritten.lock().unwrap_or_else(PoisonError::into_inner);
        unwritten.values().cloned().collect()
    };
    for fate in known {
        let id = fate.message.id;
        match write(desk, fate).await {
            Ok(()) => {
                let unwritten = &desk.health.unwritten;
                unwritten.lock().unwrap_or_else(PoisonError::into_inner).remove(&id);
            }
            Err(error) => {
                tracing::error!(id, %error, "what became of a message cannot be written down");
                desk.health.failed(Work::Mail, error.to_string(), desk.clock.now());
            }
        }
    }
    Ok(())
}

/// Takes up what is marked as being handed over while nobody does.
async fn take_up(desk: &Desk) -> Result<(), DeskError> {
    if !desk.store.read(outbox::any_sending).await? {
        return Ok(());
    }
    let known: Vec<i64> = {
        let unwritten = desk.health.unwritten.lock().unwrap_or_else(PoisonError::into_inner);
        unwritten.keys().copied().collect()
    };
    let now = desk.clock.now();
    let left = desk.store.write(move |tx| outbox::take_up(tx, &known, now)).await?;
    if left > 0 {
        tracing::warn!(left, "messages were left half-way; they are tried again");
    }
    Ok(())
}
