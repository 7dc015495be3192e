//! Money taken by hand, at the Office, at the door, by transfer; and an amount given back by itself.

use matricle_core::Money;
use matricle_core::booking::State;
use matricle_core::booking::acts::Act;
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::money::ledger::Method;
use matricle_core::people::staff::Right;
use matricle_core::words::codes::Reference;
use matricle_store::Tx;
use matricle_store::bookings::{self, Booking};
use matricle_store::payments::{self, Taken};
use matricle_store::people::Staff;

use crate::acting::Turn;
use crate::bookings::acts::{Of, allow};
use crate::bookings::change::{find, settle_change};
use crate::bookings::moves::confirm_if_paid;
use crate::money::documents::document;
use crate::money::entries::{give_back_surplus, received};
use crate::{Desk, DeskError, house_of};

fields! {
    REFERENCES: Text(2, 2000) = "references", "For which bookings",
        "References as they stand on the transfer or the booking; one on a line. Each gets what it is due, the rest goes to the last.";
    AMOUNT: Amount = "amount", "Amount" needed;
    MONEY_NOTE: Line = "money_note", "Note";
    BACK: Amount = "back", "Amount to give back",
        "It goes back the way it came. The tickets stay as they are." needed;
    BACK_REASON: Line = "back_reason", "Why", "The booker reads it in the mail." needed;
}

/// Takes money for a booking: what is due is met, the booking is confirmed once all of it
/// has come, and what is too much goes back.
pub(crate) fn take_in(
    tx: &Tx<'_>,
    booking: &Booking,
    (method, minor): (Method, i64),
    note: &str,
    turn: &Turn,
) -> Result<String, DeskError> {
    let id = uuid::Uuid::now_v7().to_string();
    let who = turn.by.shown();
    let new = Taken { id: &id, booking: booking.id, minor, method, who: &who, note };
    payments::take(tx, &new, turn.now)?;
    received(tx, booking, method, minor, turn)?;
    let amount = booking.total.currency.of(minor);
    let what = match note {
        "" => format!("took {amount} by {}", method.word()),
        note => format!("took {amount} by {}: {note}", method.word()),
    };
    bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
    let booking = confirm_if_paid(tx, booking, turn)?;
    give_back_surplus(tx, &booking, "paid too much", turn)?;
    document(tx, &booking, turn)?;
    Ok(id)
}

/// Money that somebody at the house takes in cash, by transfer or on its own card machine.
///
/// # Errors
/// No amount, or nothing to pay for; the role may not.
pub async fn take_money(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::HandleMoney)?;
    desk.store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            let amount = form.amount(AMOUNT.name, booking.total.currency).filter(|m| *m > 0);
            let amount = form.need(AMOUNT.name, amount);
            let method = Method::from_word(form.get("method")).filter(|m| m.by_hand());
            let method = form.need("method", method);
            let note = form.take(&MONEY_NOTE);
            let wrong = std::mem::take(&mut form.wrong);
            let (Some(amount), Some(method), true) = (amount, method, wrong.is_empty()) else {
                return Err(DeskError::Form(wrong));
            };
            allow(tx, Act::TakeMoney, &booking, Of::default(), &turn)?;
            take_in(tx, &booking, (method, amount), &note, &turn).map(drop)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Gives an amount back of what a booking has paid, the way it came: the booking is charged that
/// much less, whatever its tickets cost. Nothing is given back while something is due.
///
/// # Errors
/// No amount or no reason; more than was paid; the booking is not one that is charged; the role
/// may not.
pub async fn give_back(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    mut form: Form,
) -> Result<Money, DeskError> {
    let turn = desk.turn_of(staff, Right::HandleMoney)?;
    let given = desk
        .store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            allow(tx, Act::GiveBack, &booking, Of::default(), &turn)?;
            let currency = booking.total.currency;
            let amount = form.amount(BACK.name, currency);
            let most = if booking.due().minor > 0 { 0 } else { booking.total.minor };
            if amount.is_some_and(|amount| amount > most) {
                form.fault(BACK, Fault::TooMuch);
            }
            let amount = form.need(BACK.name, amount.filter(|a| *a > 0)).unwrap_or(0);
            let reason = form.take(&BACK_REASON);
            form.done().map_err(DeskError::Form)?;
            bookings::set_total(tx, &booking, booking.total.minor - amount)?;
            bookings::follow_books(tx, booking.id, "an amount given back", turn.now)?;
            settle_change(tx, &booking, &reason, &turn)?;
            Ok::<_, DeskError>(currency.of(amount))
        })
        .await?;
    desk.wake.all();
    Ok(given)
}

/// One transfer for one booking or several, in the order named: each gets what it is due,
/// what is left over goes to the last.
///
/// # Errors
/// No amount; a reference that no booking to pay has; the role may not.
pub async fn take_transfer(desk: &Desk, staff: &Staff, mut form: Form) -> Result<u32, DeskError> {
    let turn = desk.turn_of(staff, Right::HandleMoney)?;
    let done = desk
        .store
        .write(move |tx| {
            let currency = house_of(tx)?.currency;
            let amount = form.amount(AMOUNT.name, currency).filter(|m| *m > 0);
            let amount = form.need(AMOUNT.name, amount).unwrap_or(0);
            let note = form.take(&MONEY_NOTE);
            let mut all: Vec<Booking> = Vec::new();
            for word in form.take(&REFERENCES).split([',', ';', '\n']) {
                let word = word.trim();
                if word.is_empty() {
                    continue;
                }
                let known = matricle_core::money::transfer::read_creditor_reference(word)
                    .or_else(|| Reference::parse(word));
                let found = match known {
                    Some(reference) => bookings::by_reference(tx, reference)?,
                    None => None,
                };
                let open = |b: &Booking| {
                    matches!(b.state, State::AwaitingPayment | State::Confirmed)
                        && !all.iter().any(|o| o.id == b.id)
                };
                match found.filter(open) {
                    Some(booking) => all.push(booking),
                    None => form.fault(REFERENCES, Fault::Unknown),
                }
            }
            if all.is_empty() {
                form.fault(REFERENCES, Fault::Missing);
            }
            form.done().map_err(DeskError::Form)?;
            let mut rest = amount;
            let last = all.len() - 1;
            for (n, booking) in all.iter().enumerate() {
                let due = booking.due().minor.max(0);
                let minor = if n == last { rest } else { rest.min(due) };
                if minor > 0 {
                    take_in(tx, booking, (Method::Transfer, minor), &note, &turn)?;
                    rest -= minor;
                }
            }
            Ok::<_, DeskError>(u32::try_from(all.len()).unwrap_or(u32::MAX))
        })
        .await?;
    desk.wake.all();
    Ok(done)
}
