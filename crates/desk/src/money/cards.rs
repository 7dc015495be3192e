//! Stamp cards: selling, giving, taking stamps off, paying with them, letting them expire.

use jiff::{SignedDuration, Timestamp};
use matricle_core::booking::State;
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::money::ledger::{Account, Entry, LedgerLine, Method};
use matricle_core::money::refund::last_parts;
use matricle_core::people::acting::{Acting, BOOKER, PROGRAM};
use matricle_core::people::staff::{Right, require};
use matricle_core::words::codes::TicketCode;
use matricle_core::{BookingId, TicketTypeId};
use matricle_store::bookings::{self, Booking};
use matricle_store::cards::{self, CardKind, HeldCard, Move, NewCard, SoldAt};
use matricle_store::house::House;
use matricle_store::people::Staff;
use matricle_store::refunds::Refund;
use matricle_store::{Connection, Tx, events, ledger};

use crate::acting::Turn;
use crate::rounds::{Due, Work, each};
use crate::telling::tell;
use crate::{Desk, DeskError, fresh_code, house_of};

fields! {
    NAME: Line = "name", "Holder" needed;
    EMAIL: MailAddress = "email", "E-mail address",
        "They see the card, and what is left on it, when they sign in with it." needed;
    REASON: Line = "reason", "Why", "Needed for one that is given.";
    CARD_NAME: Line = "card_name", "Name of the kind" needed;
    CARD_STAMPS: Whole(1, 500) = "card_stamps", "Stamps" needed;
    CARD_PRICE: Amount = "card_price", "Price" needed;
    LIFE_DAYS: WholeOrNone(1, 3660) = "life_days", "Good for so many days", "Left empty, for ever.";
}

/// Kinds of cards, and all cards.
#[derive(Debug, Clone)]
pub struct Cards {
    /// The house.
    pub house: House,
    /// Kinds.
    pub kinds: Vec<CardKind>,
    /// Cards, the latest first.
    pub cards: Vec<HeldCard>,
}

/// Kinds of cards, and all cards.
pub async fn all(desk: &Desk, staff: &Staff) -> Result<Cards, DeskError> {
    require(staff.role, Right::HandleMoney)?;
    desk.store
        .read(|conn| {
            Ok(Cards {
                house: house_of(conn)?,
                kinds: cards::kinds(conn)?,
                cards: cards::of(conn, None)?,
            })
        })
        .await
}

/// The cards of whoever has proved this address.
pub async fn mine(desk: &Desk, email: String) -> Result<Vec<HeldCard>, DeskError> {
    Ok(desk.store.read(move |conn| cards::of(conn, Some(&email))).await?)
}

/// Where cards are sold like tickets.
pub async fn sold_at(desk: &Desk) -> Result<Vec<SoldAt>, DeskError> {
    let now = desk.clock.now();
    Ok(desk.store.read(move |conn| cards::sold_at(conn, now)).await?)
}

/// Makes a kind of card.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn make_kind(desk: &Desk, staff: &Staff, mut form: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::HandleMoney)?;
    desk.store
        .write(move |tx| {
            let currency = house_of(tx)?.currency;
            let price = form.amount(CARD_PRICE.name, currency);
            let new = CardKind {
                id: 0,
                name: form.take(&CARD_NAME),
                stamps: form.take(&CARD_STAMPS),
                price: form.need(CARD_PRICE.name, price).unwrap_or(0),
                life_days: form.take(&LIFE_DAYS),
                retired: false,
            };
            let wrong = std::mem::take(&mut form.wrong);
            if !wrong.is_empty() {
                return Err(DeskError::Form(wrong));
            }
            if !cards::add_kind(tx, &new)? {
                form.fault(CARD_NAME, Fault::Taken);
                return Err(DeskError::Form(form.wrong));
            }
            let what = format!("made the stamp card {}", new.name);
            turn.log(tx, &what, "/office/money/cards")
        })
        .await
}

/// Retires a kind of card, or sells it again.
pub async fn retire_kind(
    desk: &Desk,
    staff: &Staff,
    id: i64,
    retired: bool,
) -> Result<(), DeskError> {
    require(staff.role, Right::HandleMoney)?;
    let now = desk.clock.now();
    Ok(desk.store.write(move |tx| cards::retire_kind(tx, id, retired.then_some(now))).await?)
}

/// Sells a card to somebody at the Office or the door, or gives it: with a method it is paid
/// for, without one it is a present, for a reason. Gives the card's code.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn sell(desk: &Desk, staff: &Staff, mut form: Form) -> Result<String, DeskError> {
    let turn = desk.turn_of(staff, Right::HandleMoney)?;
    desk.store
        .write(move |tx| {
            let id = form.number("kind", 1, u32::MAX).map(i64::from);
            let kind = cards::kinds(tx)?.into_iter().find(|k| Some(k.id) == id && !k.retired);
            if kind.is_none() {
                form.fault("kind", Fault::Missing);
            }
            let (name, email) = (form.take(&NAME), form.take(&EMAIL).to_lowercase());
            let given = form.get("method") == "given";
            let method = Method::from_word(form.get("method")).filter(|m| m.by_hand());
            if method.is_none() && !given {
                form.fault("method", Fault::Missing);
            }
            let reason = if given { form.needed(REASON.name) } else { form.take(&REASON) };
            let wrong = std::mem::take(&mut form.wrong);
            let (Some(kind), true) = (kind, wrong.is_empty()) else {
                return Err(DeskError::Form(wrong));
            };
            let value = if given { 0 } else { kind.price };
            let what = match (method, reason.as_str()) {
                (None, reason) => format!("given: {reason}"),
                (Some(method), "") => format!("sold, paid by {}", method.word()),
                (Some(method), reason) => format!("sold, paid by {}: {reason}", method.word()),
            };
            let holder = (name.as_str(), email.as_str());
            let code = issue(tx, &kind, holder, (&turn.by.name, &what), value, None, turn.now)?;
            if let Some(method) = method {
                let (to, from) = ((method.account(), 0), (Account::StampsOwed, 0));
                if let Some(entry) = Entry::move_money(to, from, value) {
                    let what = format!("stamp card {code} sold");
                    ledger::book(tx, &entry, None, &turn.by.name, &what, turn.now)?;
                }
            }
            Ok(code.to_string())
        })
        .await
}

/// Makes a card of a kind and puts its stamps on it, worth so much; gives its letters. `told`
/// is who made it, and what is written on it.
pub fn issue(
    tx: &Tx<'_>,
    kind: &CardKind,
    (name, email): (&str, &str),
    (who, what): (&str, &str),
    value: i64,
    bought: Option<(BookingId, TicketTypeId)>,
    now: Timestamp,
) -> Result<TicketCode, DeskError> {
    let life = |days| now + SignedDuration::from_hours(24 * i64::from(days));
    let code = fresh_code();
    let new = NewCard {
        code: code.as_str(),
        kind: kind.id,
        name,
        email,
        expires_at: kind.life_days.map(life),
        bought,
    };
    let card = cards::add(tx, &new, now)?;
    let stamps = i64::from(kind.stamps);
    cards::happened(tx, &Move { card, who, what, stamps, value, payment: None }, now)?;
    Ok(code)
}

/// Makes the stamp cards that a booking buys, once it is confirmed and all is paid; asked
/// again, it makes none twice. What they cost without tax was the event's income and is a
/// debt of the house from here on.
pub(crate) fn make_bought(tx: &Tx<'_>, booking: BookingId, turn: &Turn) -> Result<(), DeskError> {
    let now = turn.now;
    let bought = cards::bought(tx, booking)?;
    if bought.is_empty() {
        return Ok(());
    }
    let booking = bookings::by_id(tx, booking)?.ok_or(DeskError::NotFound)?;
    if booking.test || booking.state != State::Confirmed || booking.due().minor > 0 {
        return Ok(());
    }
    let (event, _) = events::date_by_id(tx, booking.date)?.ok_or(DeskError::NotFound)?;
    let (email, what) = (
        booking.email.to_lowercase(),
        format!("bought with booking {}", booking.reference.as_str()),
    );
    let mut made = 0;
    for line in &bought {
        let missing = line.quantity.saturating_sub(line.made);
        let worth = last_parts(line.net, line.quantity, missing);
        let mut rest = worth;
        for left in (1..=missing).rev() {
            let value = last_parts(rest, left, 1);
            rest -= value;
            let holder = (booking.name.as_str(), email.as_str());
            let by = Some((booking.id, line.ticket));
            issue(tx, &line.kind, holder, (BOOKER, &what), value, by, now)?;
        }
        let (income, owed) = ((Account::Income, event.id.0), (Account::StampsOwed, 0));
        if let Some(entry) = Entry::move_money(income, owed, worth) {
            ledger::book(tx, &entry, Some(booking.id), PROGRAM, "stamp cards bought", now)?;
        }
        made += missing;
    }
    if made > 0 {
        let what = format!("{} made", matricle_formats::words::count(made, "stamp cards"));
        bookings::happened(tx, booking.id, now, &Acting::program(), &what)?;
        tell(tx, &booking, Occasion::CardBought, &Knows::default(), turn)?;
    }
    Ok(())
}

/// Takes stamps off a card, for a reason; what they were worth is earned.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn take(desk: &Desk, staff: &Staff, id: i64, mut form: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::HandleMoney)?;
    desk.store
        .write(move |tx| {
            let card = cards::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            let stamps = form.count("take_stamps", 1, card.card.left.max(1));
            let reason = form.needed("take_reason");
            form.done().map_err(DeskError::Form)?;
            lose(
                tx,
                &card,
                stamps.min(card.card.left),
                &turn.by.name,
                &format!("taken off: {reason}"),
                turn.now,
            )
        })
        .await
}

/// Stamps that are lost to their holder: what they were worth is earned, by no event.
fn lose(
    tx: &Tx<'_>,
    card: &HeldCard,
    stamps: u32,
    who: &str,
    what: &str,
    now: Timestamp,
) -> Result<(), DeskError> {
    if stamps == 0 {
        return Ok(());
    }
    let worth = last_parts(card.card.value, card.card.left, stamps);
    let happened =
        Move { card: card.id, who, what, stamps: -i64::from(stamps), value: -worth, payment: None };
    cards::happened(tx, &happened, now)?;
    let (to, from) = ((Account::StampsOwed, 0), (Account::Income, 0));
    if let Some(entry) = Entry::move_money(to, from, worth) {
        ledger::book(tx, &entry, None, who, what, now)?;
    }
    Ok(())
}

/// Stamps of cards whose time is over expire.
pub(crate) async fn expire(desk: &Desk) -> Result<usize, DeskError> {
    let now = desk.clock.now();
    let over = desk.store.read(move |conn| cards::to_expire(conn, now)).await?;
    let over = over
        .into_iter()
        .map(|card| Due { about: format!("card {}", card.id), booking: None, row: card.id })
        .collect();
    each(desk, Work::Books, over, 1, |desk, id| async move {
        desk.store
            .write(move |tx| {
                // Read again: it may have been used meanwhile.
                let card = cards::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
                lose(tx, &card, card.card.left, PROGRAM, "expired", now)
            })
            .await
    })
    .await
}

/// What stamps can pay of a booking: how many, and the amount that meets.
pub fn payable(conn: &Connection, booking: &Booking) -> Result<(u32, i64), DeskError> {
    let (mut stamps, mut minor) = (0, 0);
    for line in bookings::lines(conn, booking)? {
        if let Some(each) = cards::stamps_of(conn, line.ticket)? {
            stamps += each * line.quantity;
            minor += line.charge.minor;
        }
    }
    // What has been paid in another way is not paid again.
    Ok(if minor <= booking.due().minor && minor > 0 { (stamps, minor) } else { (0, 0) })
}

/// Gives stamps back onto the card that paid, as many as the refund is of the payment.
pub(crate) fn give_back(
    tx: &Tx<'_>,
    booking: &Booking,
    refund: &Refund,
    paid: i64,
    turn: &Turn,
) -> Result<(), DeskError> {
    let now = turn.now;
    let mut worth_all = 0;
    for (card, stamps, value) in cards::used_for(tx, &refund.payment)? {
        // Whole stamps only: the booker's favour is to round up.
        let part = |whole: i64| {
            let exact = i128::from(whole) * i128::from(refund.minor);
            i64::try_from((exact + i128::from(paid) - 1).div_euclid(i128::from(paid.max(1))))
                .unwrap_or(whole)
        };
        let (back, worth) = (part(stamps).min(stamps), part(value).min(value));
        let happened = Move {
            card,
            who: PROGRAM,
            what: &format!("given back for booking {}", booking.reference),
            stamps: back,
            value: worth,
            payment: Some(&refund.payment),
        };
        cards::happened(tx, &happened, now)?;
        worth_all += worth;
    }
    let event = events::date_by_id(tx, booking.date)?.map_or(0, |(event, _)| event.id.0);
    let line = |account, about, minor| LedgerLine { account, about, minor };
    let lines = [
        line(Account::Refunds, 0, refund.minor),
        line(Account::StampsOwed, 0, -worth_all),
        line(Account::Income, event, worth_all - refund.minor),
    ];
    match Entry::new(lines) {
        Ok(Some(entry)) if !booking.test => {
            Ok(ledger::book(tx, &entry, Some(booking.id), PROGRAM, "stamps given back", now)?)
        }
        _ => Ok(()),
    }
}
