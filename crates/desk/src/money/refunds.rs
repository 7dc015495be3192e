//! Money on its way back, and what was given back by hand.

use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::money::ledger::{Account, Entry, Method};
use matricle_core::people::acting::Acting;
use matricle_core::people::staff::Right;
use matricle_store::people::Staff;
use matricle_store::refunds::{self, Refund};
use matricle_store::{Tx, bookings, payments};

use crate::acting::Turn;
use crate::money::entries::{TRIES, book};
use crate::outside::provider::ProviderError;
use crate::rounds::{Due, ROUND, Work, backoff, each};
use crate::telling::tell;
use crate::{Desk, DeskError};

/// Money on its way back is asked of the provider.
pub(crate) async fn give_refunds(desk: &Desk) -> Result<usize, DeskError> {
    let now = desk.clock.now();
    let due = desk.store.read(move |conn| refunds::due(conn, now, ROUND)).await?;
    let due = due
        .into_iter()
        .map(|(id, booking)| Due { about: id.clone(), booking: Some(booking), row: id })
        .collect();
    each(desk, Work::Refunds, due, 4, |desk, id| async move {
        match desk.store.read(move |conn| refunds::by_id(conn, &id)).await? {
            Some(refund) => give(&desk, refund).await,
            None => Ok(()),
        }
    })
    .await
}

async fn give(desk: &Desk, refund: Refund) -> Result<(), DeskError> {
    let told = match (&refund.provider_id, refund.method) {
        (Some(id), Method::Card) => {
            desk.provider.refund(id, &refund.id, refund.minor).await.map(drop)
        }
        // Stamps go back onto their card without asking anybody.
        (_, Method::Stamps) => Ok(()),
        _ => Err(ProviderError::Unknown),
    };
    let turn = desk.turn(match refund.method {
        Method::Stamps => Acting::program(),
        _ => Acting::provider(),
    });
    desk.store
        .write(move |tx| match told {
            Ok(()) => note_given(tx, &refund, &turn),
            Err(ProviderError::Away(why)) if refund.tries < TRIES => {
                let next = turn.now + backoff(refund.tries);
                Ok(refunds::not_done(tx, &refund.id, &why, Some(next))?)
            }
            Err(error) => {
                let why = error.to_string();
                Ok(refunds::not_done(tx, &refund.id, &why, None)?)
            }
        })
        .await
}

fn note_given(tx: &Tx<'_>, refund: &Refund, turn: &Turn) -> Result<(), DeskError> {
    if !refunds::done(tx, &refund.id, turn.now)? {
        return Ok(());
    }
    let booking = bookings::by_id(tx, refund.booking)?.ok_or(DeskError::NotFound)?;
    if refund.method == Method::Stamps {
        let paid = payments::by_id(tx, &refund.payment)?.map_or(1, |p| p.amount_minor);
        crate::money::cards::give_back(tx, &booking, refund, paid, turn)?;
    } else {
        let (to, from) = ((Account::Refunds, 0), (refund.method.account(), 0));
        book(tx, &booking, Entry::move_money(to, from, refund.minor), "given back", turn)?;
    }
    let amount = booking.total.currency.of(refund.minor);
    let what = format!("{amount} given back by {}", refund.method.word());
    bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
    let knows =
        Knows { back: Some(refund.minor), reason: refund.reason.clone(), ..Knows::default() };
    tell(tx, &booking, Occasion::MoneyBack, &knows, turn)
}

/// Hands money back that was taken at the door.
pub(crate) fn hand_back(
    tx: &Tx<'_>,
    payment: &str,
    reason: &str,
    turn: &Turn,
) -> Result<Option<matricle_core::Money>, DeskError> {
    let Some(payment) = payments::by_id(tx, payment)? else { return Ok(None) };
    let booking = bookings::by_id(tx, payment.booking)?.ok_or(DeskError::NotFound)?;
    let left = crate::money::entries::hand_back(tx, &booking, &payment, reason, turn)?;
    for refund in refunds::of_booking(tx, booking.id)? {
        if refund.payment == payment.id && refund.reason == reason {
            note_given(tx, &refund, turn)?;
        }
    }
    let booking = bookings::by_id(tx, booking.id)?.ok_or(DeskError::NotFound)?;
    crate::money::documents::document(tx, &booking, turn)?;
    Ok((left > 0).then(|| booking.total.currency.of(left)))
}

/// Somebody has given money back by hand.
///
/// # Errors
/// The role may not; there is no such refund.
pub async fn given(desk: &Desk, staff: &Staff, refund: String) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::HandleMoney)?;
    desk.store
        .write(move |tx| {
            let refund = refunds::by_id(tx, &refund)?.ok_or(DeskError::NotFound)?;
            note_given(tx, &refund, &turn)
        })
        .await
}
