//! Promo codes given to a booking that is being made.

use jiff::Timestamp;
use matricle_core::TicketTypeId;
use matricle_core::booking::{self, Move, State};
use matricle_core::money::promo::{Asks, Promo, PromoRefusal};
use matricle_core::people::acting::Acting;
use matricle_core::words::codes::Reference;
use matricle_store::bookings::{self, Booking};
use matricle_store::{Connection, Tx, events, promos};

use crate::bookings::serving::choices_of;
use crate::{Desk, DeskError, refuse};

/// Lets a booking use a code, or says why not. `email` is the booker's address as far as it
/// is known; `others` are codes on the booking already.
fn admit(
    conn: &Connection,
    booking: &Booking,
    promo: &Promo,
    email: &str,
    others: &[Promo],
    now: Timestamp,
) -> Result<(), DeskError> {
    let lines = bookings::lines(conn, booking)?;
    let tickets: Vec<TicketTypeId> = lines.iter().map(|l| l.ticket).collect();
    let basket = lines.iter().map(|l| l.unit.minor * i64::from(l.quantity)).sum();
    let (used, used_by_them) = promos::used(conn, promo.id, booking.id, email)?;
    let asks = Asks {
        date: booking.date,
        tickets: &tickets,
        basket,
        address: email,
        used,
        used_by_them,
        others,
    };
    promo
        .admits(&asks, now)
        .map_err(|refusal| DeskError::Promo { code: promo.code.clone(), refusal })
}

/// Uses a code on a booking that is being made: its price follows at once.
///
/// # Errors
/// [`DeskError::Promo`] with why not.
pub async fn give(desk: &Desk, reference: Reference, typed: String) -> Result<(), DeskError> {
    let now = desk.clock.now();
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            if booking.state != State::Held {
                return Err(refuse(booking.state, Move::Complete));
            }
            let (event, _) = events::date_by_id(tx, booking.date)?.ok_or(DeskError::NotFound)?;
            let unknown = || DeskError::Promo {
                code: typed.trim().to_owned(),
                refusal: PromoRefusal::Unknown,
            };
            let promo = promos::typed(tx, event.id, &typed)?.ok_or_else(unknown)?;
            let mut all = promos::of_booking(tx, booking.id)?;
            admit(tx, &booking, &promo, booking.draft.email.trim(), &all, now)?;
            let what = format!("gave the promo code {}", promo.code);
            all.push(promo);
            reprice(tx, &booking, all, now)?;
            Ok(bookings::happened(tx, booking.id, now, &Acting::booker(), &what)?)
        })
        .await
}

/// Takes a code off a booking that is being made.
///
/// # Errors
/// The booking is past that.
pub async fn drop(desk: &Desk, reference: Reference, id: i64) -> Result<(), DeskError> {
    let now = desk.clock.now();
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            if booking.state != State::Held {
                return Err(refuse(booking.state, Move::Complete));
            }
            let mut all = promos::of_booking(tx, booking.id)?;
            all.retain(|p| p.id != id);
            reprice(tx, &booking, all, now)
        })
        .await
}

/// Writes the codes of a hold, and what its tickets come to with them.
fn reprice(
    tx: &Tx<'_>,
    booking: &Booking,
    all: Vec<Promo>,
    now: Timestamp,
) -> Result<(), DeskError> {
    promos::set(tx, booking.id, &all)?;
    let sheet = choices_of(tx, booking.date, now)?;
    let buyer = matricle_core::money::price::Buyer { promos: all, ..booking.buyer.clone() };
    let prices: Vec<_> = sheet.offer.offers.iter().map(|o| o.price.clone()).collect();
    let wanted = bookings::wanted(tx, booking.id)?;
    let quote =
        matricle_core::money::price::quote(sheet.offer.currency, &prices, &wanted, &buyer, now)
            .map_err(booking::ChoiceRefusal::from)?;
    Ok(bookings::price_anew(tx, booking, &quote)?)
}

/// Asks once more, when the form is complete, whether the booker may use the codes given:
/// only now is it known for whom the booking is.
pub(crate) fn still_good(
    conn: &Connection,
    booking: &Booking,
    email: &str,
    now: Timestamp,
) -> Result<(), DeskError> {
    let all = promos::of_booking(conn, booking.id)?;
    for (n, promo) in all.iter().enumerate() {
        admit(conn, booking, promo, email, &all[..n], now)?;
    }
    Ok(())
}
