//! Paying a booking with the stamps of a card.

use crate::telling::tell;
use jiff::Timestamp;
use matricle_core::booking::Move as BookingMove;
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::money::ledger::{Account, Entry, LedgerLine, Method};
use matricle_core::money::stamps::{StampRefusal, using};
use matricle_core::people::acting::Acting;
use matricle_core::words::codes::{Reading, Reference, read};
use matricle_store::bookings::{self, Booking};
use matricle_store::cards::{self, Move};
use matricle_store::payments::{self, Taken};
use matricle_store::{Tx, events, ledger};

use crate::acting::Turn;
use crate::money::cards::payable;
use crate::{Desk, DeskError, refuse};

/// Pays a booking, or the part of it that takes stamps, with a card, in one act.
///
/// # Errors
/// [`DeskError::Stamps`] with why not; the booking is not to be paid.
pub async fn pay(desk: &Desk, reference: Reference, code: String) -> Result<(), DeskError> {
    let turn = desk.turn(Acting::booker());
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            pay_in(tx, &booking, &code, &turn)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// [`pay`], inside a transaction.
///
/// # Errors
/// As [`pay`].
pub(crate) fn pay_in(
    tx: &Tx<'_>,
    booking: &Booking,
    code: &str,
    turn: &Turn,
) -> Result<(), DeskError> {
    let (now, who) = (turn.now, turn.by.shown());
    let who = who.as_str();
    if !booking.is_owed() {
        return Err(refuse(booking.state, BookingMove::Pay));
    }
    let card = match read(code) {
        Reading::Code(code) => cards::by_code(tx, code.as_str())?,
        Reading::Misread | Reading::NotACode => None,
    };
    let card = card.ok_or(DeskError::Stamps(StampRefusal::Unknown))?;
    let (stamps, minor) = payable(tx, booking)?;
    let worth = using(&card.card, stamps, now).map_err(DeskError::Stamps)?;
    let payment = uuid::Uuid::now_v7().to_string();
    let taken = Taken {
        id: &payment,
        booking: booking.id,
        minor,
        method: Method::Stamps,
        who,
        note: &card.code,
    };
    payments::take(tx, &taken, now)?;
    bookings::add_paid(tx, booking.id, minor)?;
    let used = Move {
        card: card.id,
        who,
        what: &format!("booking {}", booking.reference),
        stamps: -i64::from(stamps),
        value: -worth,
        payment: Some(&payment),
    };
    cards::happened(tx, &used, now)?;
    book_use(tx, booking, minor, worth, who, now)?;
    let what = format!("paid {} with {stamps} stamps", booking.total.currency.of(minor));
    bookings::happened(tx, booking.id, now, &turn.by, &what)?;
    if card.card.is_nearly_used(stamps) {
        tell(tx, booking, Occasion::CardNearlyUsed, &Knows::default(), turn)?;
    }
    payments::unwant(tx, booking.id, now)?;
    let booking = crate::bookings::moves::confirm_if_paid(tx, booking, turn)?;
    crate::money::documents::document(tx, &booking, turn)
}

/// Stamps met an amount: the debt falls by what they were worth; what a stamp gives beyond
/// that, or less, is the event's.
fn book_use(
    tx: &Tx<'_>,
    booking: &Booking,
    minor: i64,
    worth: i64,
    who: &str,
    now: Timestamp,
) -> Result<(), DeskError> {
    let event = events::date_by_id(tx, booking.date)?.map_or(0, |(event, _)| event.id.0);
    let line = |account, about, minor| LedgerLine { account, about, minor };
    let lines = [
        line(Account::StampsOwed, 0, worth),
        line(Account::Income, event, minor - worth),
        line(Account::Receivable, booking.id.0, -minor),
    ];
    match Entry::new(lines) {
        Ok(Some(entry)) if !booking.test => {
            Ok(ledger::book(tx, &entry, Some(booking.id), who, "stamps", now)?)
        }
        _ => Ok(()),
    }
}
