//! From a filled-in form to a confirmed booking: details, money, confirmation.
//!
//! A payment is written down before the provider hears of it, under an id that
//! is also the provider's idempotency key. Whatever then tells its fate (the
//! payer coming back, a webhook once, twice or never, a timer that asks) goes
//! through `settle`, which books it once.

use jiff::Timestamp;
use matricle_core::booking::pay_deadline::{another_try, time_to_transfer};
use matricle_core::booking::{Move, MoveRefusal, State};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::money::ledger::Method;
use matricle_core::people::acting::Acting;
use matricle_core::people::who::is_proved;
use matricle_core::words::codes::Reference;
use matricle_store::bookings::{self, Booking};
use matricle_store::payments::{self, Payment, PaymentState};
use matricle_store::{Tx, events};

use crate::acting::Turn;
use crate::bookings::moves::{FIRST_CHECK, With, confirm_if_paid, make};
use crate::bookings::seats::same_seats;
use crate::money::{documents, entries};
use crate::outside::provider::{NewPayment, ProviderError, ProviderPayment, Status, is_signed};
use crate::people::asking::Asking;
use crate::rounds::backoff;
use crate::telling::tell;
use crate::{Desk, DeskError, house_of};

/// The page at the provider where this booking is paid: of the open payment, or
/// of a new one after a decline.
///
/// # Errors
/// The booking is not to be paid, or the provider is away: then the seats are
/// kept all the same and the booker can try again; the house has no provider.
pub async fn pay_url(desk: &Desk, reference: Reference) -> Result<String, DeskError> {
    if !desk.provider.is_there() {
        return Err(ProviderError::None.into());
    }
    let now = desk.clock.now();
    let fresh_id = uuid::Uuid::now_v7().to_string();
    let (payment, title, currency, test) = desk
        .store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            if !booking.is_owed() {
                return Err(MoveRefusal { state: booking.state, by: Move::Pay }.into());
            }
            // One that is being called back, or is for what was owed before, leads nowhere good.
            let due = booking.due().minor;
            let open = payments::of_booking(tx, booking.id)?
                .into_iter()
                .find(|p| p.state == PaymentState::Open && !p.unwanted && p.amount_minor == due);
            let payment = match open {
                Some(open) => open,
                None => {
                    payments::unwant(tx, booking.id, now)?;
                    try_again(tx, &booking, &fresh_id, now)?
                }
            };
            let (event, _) = events::date_by_id(tx, booking.date)?.ok_or(DeskError::NotFound)?;
            Ok::<_, DeskError>((payment, event.title, booking.total.currency, booking.test))
        })
        .await?;
    if let Some(url) = payment.pay_url {
        return Ok(url);
    }
    let new = NewPayment {
        id: payment.id.clone(),
        amount: payment.amount_minor,
        currency: currency.letters().into(),
        description: format!(
            "{}{title}, booking {reference}",
            if test { "TEST, takes no seat: " } else { "" }
        ),
        return_url: desk.booking_url(reference),
        webhook_url: format!("{}/hooks/card", desk.public_url),
    };
    let made = desk.provider.create(new).await?;
    let (url, provider_id) = (made.pay_url.clone(), made.id.clone());
    let settled = desk
        .store
        .write(move |tx| {
            payments::known_as(tx, &payment.id, &made.id, &made.pay_url)?;
            let now = payments::by_id(tx, &payment.id)?.ok_or(DeskError::NotFound)?;
            Ok::<_, DeskError>(now.state != PaymentState::Open)
        })
        .await?;
    if settled {
        // Given up while the provider was being asked: nobody is sent there any more.
        desk.provider.withdraw(&provider_id).await?;
        return Err(MoveRefusal { state: State::Lapsed, by: Move::Pay }.into());
    }
    Ok(url)
}

/// The booker will pay by bank transfer: the seats are kept some days for that, an invoice
/// is issued and mailed, an open card payment is called back. Asked twice, the second changes
/// nothing.
///
/// # Errors
/// The house takes no transfers; nothing is to be paid; the date is too near for one; the
/// booking's address is not proved.
pub async fn by_transfer(
    desk: &Desk,
    asking: &Asking,
    reference: Reference,
) -> Result<(), DeskError> {
    let turn = desk.turn(Acting::booker());
    let proved = asking.proved.clone();
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            if booking.state != State::AwaitingPayment {
                return Err(MoveRefusal { state: booking.state, by: Move::Pay }.into());
            }
            let house = house_of(tx)?;
            let (_, date) = events::date_by_id(tx, booking.date)?.ok_or(DeskError::NotFound)?;
            let Some(until) = transfer_until(&house, &date, turn.now) else {
                return Err(DeskError::NoTransfer);
            };
            // Seats are kept for days by whoever reads the mail of the address only.
            if is_proved(&booking.email, Some(&booking.buyer.address)).is_err() {
                is_proved(&booking.email, proved.as_deref())?;
                bookings::prove(tx, booking.id, &booking.email)?;
            }
            if matricle_store::documents::of_booking(tx, booking.id)?.is_empty() {
                let deadline = booking.deadline.map_or(until, |d| d.max(until));
                bookings::set_deadline(tx, booking.id, deadline)?;
                payments::unwant(tx, booking.id, turn.now)?;
                let what = "will pay by bank transfer";
                bookings::happened(tx, booking.id, turn.now, &turn.by, what)?;
                documents::document(tx, &booking, &turn)?;
                tell(tx, &booking, Occasion::ToPay, &Knows::default(), &turn)?;
            }
            Ok::<_, DeskError>(())
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Until when seats are kept for a transfer. `None` when the house takes none, or the date is
/// too near for one.
#[must_use]
pub fn transfer_until(
    house: &matricle_store::house::House,
    date: &events::Date,
    now: Timestamp,
) -> Option<Timestamp> {
    time_to_transfer(house.transfer_days, date.span.starts_at, now)
        .filter(|_| house.payee().takes_transfers())
}

fn try_again(
    tx: &Tx<'_>,
    booking: &Booking,
    id: &str,
    now: Timestamp,
) -> Result<Payment, DeskError> {
    if let Some(deadline) = booking.deadline {
        let until = another_try(deadline, booking.made_at, now);
        bookings::set_deadline(tx, booking.id, until)?;
    }
    payments::open(tx, id, booking.id, booking.due().minor, now + FIRST_CHECK, now)?;
    payments::by_id(tx, id)?.ok_or(DeskError::NotFound)
}

/// What a webhook that nobody knows is written down by: its type, where it has one, and how long it
/// is. What else it says may be about somebody, and stands nowhere.
fn kind_of(body: &[u8]) -> String {
    #[derive(serde::Deserialize)]
    struct Typed {
        #[serde(rename = "type")]
        kind: String,
    }
    let kind = serde_json::from_slice::<Typed>(body).map(|t| t.kind).unwrap_or_default();
    let plain = |c: &char| c.is_ascii_alphanumeric() || "._-".contains(*c);
    let kind: String = kind.chars().filter(plain).take(60).collect();
    let kind = if kind.is_empty() { "no type" } else { &kind };
    format!("{kind}, {} bytes", body.len())
}

/// Takes a webhook of the card provider. One taken before does nothing.
///
/// # Errors
/// [`DeskError::Unsigned`], or the store fails; the provider then tries again.
pub async fn hook(
    desk: &Desk,
    id: String,
    timestamp: &str,
    signatures: &str,
    body: &[u8],
) -> Result<(), DeskError> {
    let secret = desk.provider.webhook_secret();
    if !desk.provider.is_there()
        || !is_signed(secret, &id, timestamp, signatures, body, desk.clock.outside())
    {
        return Err(DeskError::Unsigned);
    }
    let now = desk.clock.now();
    let Ok(told) = serde_json::from_slice::<ProviderPayment>(body) else {
        // Rightly signed, and about something this version does not know: refused, it would
        // come again for ever.
        let note = kind_of(body);
        tracing::warn!(id, note, "a webhook of an unknown kind was taken");
        desk.store
            .write(move |tx| {
                payments::take_hook(tx, &id, now)?;
                payments::note_hook(tx, &id, &note)
            })
            .await?;
        return Ok(());
    };
    let turn = desk.turn(Acting::provider());
    desk.store
        .write(move |tx| {
            if payments::take_hook(tx, &id, turn.now)? {
                settle(tx, &told, &turn)?;
            }
            Ok::<_, DeskError>(())
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Asks the provider about a booking's open payments: when the payer comes back.
///
/// # Errors
/// The store fails. A provider that is away is asked again by the timer.
pub async fn ask(desk: &Desk, reference: Reference) -> Result<(), DeskError> {
    let open: Vec<Payment> = desk
        .store
        .read(move |conn| {
            let booking = bookings::by_reference(conn, reference)?.ok_or(DeskError::NotFound)?;
            Ok::<_, DeskError>(payments::of_booking(conn, booking.id)?)
        })
        .await?
        .into_iter()
        .filter(|p| p.state == PaymentState::Open && p.provider_id.is_some())
        .collect();
    for payment in open {
        check(desk, &payment).await?;
    }
    Ok(())
}

/// Asks the provider how an open payment stands, calls it back if it is no longer
/// wanted, and books what it says.
pub async fn check(desk: &Desk, payment: &Payment) -> Result<(), DeskError> {
    let told = match &payment.provider_id {
        // Nobody was ever shown where to pay.
        None if payment.unwanted => Err(ProviderError::Unknown),
        // The provider has not answered yet, or the booker has not been sent there.
        None => Err(ProviderError::Away("not made yet".into())),
        Some(id) if payment.unwanted => desk.provider.withdraw(id).await,
        Some(id) => desk.provider.get(id).await,
    };
    let turn = desk.turn(Acting::provider());
    let (id, tries) = (payment.id.clone(), payment.tries);
    desk.store
        .write(move |tx| match told {
            Ok(told) if told.status != Status::Waiting => settle(tx, &told, &turn),
            Err(ProviderError::Unknown) => {
                Ok(payments::settle(tx, &id, PaymentState::Withdrawn, turn.now)?)
            }
            Ok(_)
            | Err(ProviderError::Away(_) | ProviderError::Refused { .. } | ProviderError::None) => {
                Ok(payments::check_again(tx, &id, turn.now + backoff(tries))?)
            }
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Books what the provider says about a payment; said again, it changes nothing.
fn settle(tx: &Tx<'_>, told: &ProviderPayment, turn: &Turn) -> Result<(), DeskError> {
    let Some(payment) = payments::by_id(tx, &told.reference)? else {
        // Signed, but not ours: another program shares the provider's account.
        return Ok(());
    };
    settle_status(tx, &payment, told, turn)?;
    // What follows a payment is booked after it, also when both are heard of at once.
    let payment = payments::by_id(tx, &payment.id)?.ok_or(DeskError::NotFound)?;
    note_what_follows(tx, &payment, told, turn)
}

fn settle_status(
    tx: &Tx<'_>,
    payment: &Payment,
    told: &ProviderPayment,
    turn: &Turn,
) -> Result<(), DeskError> {
    let now = turn.now;
    // What was settled stays, except that money may come all the same: the payer was
    // already at the provider when the payment was given up here.
    let known = match payment.state {
        PaymentState::Open => false,
        PaymentState::Declined | PaymentState::Withdrawn => told.status != Status::Paid,
        PaymentState::Paid | PaymentState::Surplus => true,
    };
    if known {
        return Ok(());
    }
    let booking = bookings::by_id(tx, payment.booking)?.ok_or(DeskError::NotFound)?;
    let say = |what: &str| bookings::happened(tx, booking.id, now, &turn.by, what);
    match told.status {
        Status::Waiting => {}
        Status::Declined => {
            payments::settle(tx, &payment.id, PaymentState::Declined, now)?;
            say("the card was declined")?;
        }
        Status::Withdrawn => {
            payments::settle(tx, &payment.id, PaymentState::Withdrawn, now)?;
            say("the payment was called back")?;
        }
        Status::Paid => {
            let currency = house_of(tx)?.currency;
            let amount = currency.of(told.amount);
            let right = told.amount == payment.amount_minor && told.currency == currency.letters();
            let ready = if right { ready_for_money(tx, &booking, turn)? } else { None };
            let Some(ready) = ready else {
                payments::settle(tx, &payment.id, PaymentState::Surplus, now)?;
                say(&format!("{amount} came and is to be given back"))?;
                return entries::surplus(tx, &booking, payment, turn);
            };
            payments::settle(tx, &payment.id, PaymentState::Paid, now)?;
            entries::received(tx, &ready, Method::Card, payment.amount_minor, turn)?;
            say(&format!("{amount} paid by card"))?;
            let ready = confirm_if_paid(tx, &ready, turn)?;
            // Two payments may have been under way at once.
            entries::give_back_surplus(tx, &ready, "paid too much", &turn.program())?;
            documents::document(tx, &ready, turn)?;
        }
    }
    Ok(())
}

/// The provider's fee, and a dispute: what the payer's bank takes back is owed again.
fn note_what_follows(
    tx: &Tx<'_>,
    payment: &Payment,
    told: &ProviderPayment,
    turn: &Turn,
) -> Result<(), DeskError> {
    let new = told.dispute.word();
    // A dispute that is decided stays so, whatever an older message says.
    let old = payment.dispute.as_str();
    let goes_on = matches!((old, new), ("", "open" | "won" | "lost") | ("open", "won" | "lost"));
    let dispute = if goes_on { new } else { old };
    if told.fee == payment.fee_minor && dispute == old {
        return Ok(());
    }
    payments::note(tx, &payment.id, told.fee.max(payment.fee_minor), dispute)?;
    if dispute == old {
        return Ok(());
    }
    let booking = bookings::by_id(tx, payment.booking)?.ok_or(DeskError::NotFound)?;
    let amount = booking.total.currency.of(payment.amount_minor);
    let what = match dispute {
        "open" => format!("the payer’s bank asks for {amount} back"),
        "won" => format!("the payer’s bank left us {amount}"),
        _ => format!("the payer’s bank took {amount} back"),
    };
    bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
    if dispute == "lost" && payment.state == PaymentState::Paid {
        entries::taken_back(tx, &booking, payment, turn)?;
    }
    Ok(())
}

/// The booking, if it can take the money: awaiting it, or lapsed with its seats still free.
fn ready_for_money(
    tx: &Tx<'_>,
    booking: &Booking,
    turn: &Turn,
) -> Result<Option<Booking>, DeskError> {
    match booking.state {
        State::AwaitingPayment => Ok(Some(booking.clone())),
        State::Confirmed if booking.due().minor > 0 => Ok(Some(booking.clone())),
        State::Lapsed => match same_seats(tx, booking, turn) {
            Ok((_, choice)) if choice.quote.total == booking.total => {
                bookings::reprice(tx, booking, &choice)?;
                make(tx, booking, Move::PayLate, turn, With::said("")).map(Some)
            }
            // A refusal leaves nothing behind but swept holds, which were over anyway.
            Ok(_) | Err(DeskError::Choice(_) | DeskError::NotFound) => Ok(None),
            Err(error) => Err(error),
        },
        State::Held | State::Requested | State::Confirmed | State::Declined | State::Cancelled => {
            Ok(None)
        }
    }
}
