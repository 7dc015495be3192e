//! Changing bookings that stand: people, tickets, dates, prices, money taken by hand, notes.

use matricle_core::TicketTypeId;
use matricle_core::booking::acts::Act;
use matricle_core::booking::details::{self, Draft};
use matricle_core::booking::{self, State};
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::people::staff::Right;
use matricle_core::seats::Wanted;
use matricle_core::words::codes::Reference;
use matricle_store::bookings::{self, Booking};
use matricle_store::people::{self, Staff};
use matricle_store::{Connection, Tx, events, outbox, payments};

use crate::acting::Turn;
use crate::bookings::acts::{Of, allow};
use crate::bookings::by::By;
use crate::bookings::moves::confirm_if_paid;
use crate::bookings::moves::sweep;
use crate::bookings::serving;
use crate::money::documents::document;
use crate::money::entries::give_back_surplus;
use crate::telling::{tell, tell_changed};
use crate::{Desk, DeskError, fresh_code};

fields! {
    PRICE: Amount = "price", "Price of one" needed;
    REASON: Line = "reason", "Why", "Stays in the history." needed;
}

/// Longest private note, in characters.
const LONGEST_NOTE: usize = 2000;

pub(crate) fn find(conn: &Connection, reference: Reference) -> Result<Booking, DeskError> {
    bookings::by_reference(conn, reference)?.ok_or(DeskError::NotFound)
}

/// Adds a note that no booker ever sees.
///
/// # Errors
/// Nothing was written; the role may not.
pub async fn note(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    let text = form.text("note", LONGEST_NOTE);
    if text.is_empty() {
        form.fault("note", Fault::Missing);
    }
    form.done().map_err(DeskError::Form)?;
    desk.store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            Ok(bookings::note(tx, booking.id, &turn.by.name, &text, turn.now)?)
        })
        .await
}

/// Sends the tickets of a confirmed booking once more, or the way to pay of one that waits
/// for the money.
///
/// # Errors
/// The booking is in another state; the role may not.
pub async fn resend(desk: &Desk, staff: &Staff, reference: Reference) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    desk.store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            allow(tx, Act::Resend, &booking, Of::default(), &turn)?;
            if outbox::address(tx, &booking.email)?.refused.is_some() {
                return Err(DeskError::RefusesMail(booking.email));
            }
            bookings::happened(tx, booking.id, turn.now, &turn.by, "sent the mail once more")?;
            tell(tx, &booking, sent_again(booking.state), &Knows::default(), &turn)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// What is told once more of a booking: the way to pay while money is waited for, else that it is
/// confirmed.
pub(crate) const fn sent_again(state: State) -> Occasion {
    match state {
        State::AwaitingPayment => Occasion::ToPay,
        _ => Occasion::Confirmed,
    }
}

/// Sets the price of one ticket of a booking by hand, for a reason.
///
/// # Errors
/// No price or no reason; the booking is not one that is charged; the role may not.
pub async fn set_price(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    desk.store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            let currency = booking.total.currency;
            let amount = form.amount(PRICE.name, currency);
            let amount = form.need(PRICE.name, amount);
            let ticket = form.number("ticket", 1, u32::MAX).map(|t| TicketTypeId(t.into()));
            let reason = form.take(&REASON);
            let lines = bookings::lines(tx, &booking)?;
            let line = lines.iter().find(|l| Some(l.ticket) == ticket);
            if line.is_none() {
                form.fault("ticket", Fault::Missing);
            }
            let wrong = std::mem::take(&mut form.wrong);
            let (Some(amount), Some(line), true) = (amount, line, wrong.is_empty()) else {
                return Err(DeskError::Form(wrong));
            };
            allow(tx, Act::Change, &booking, Of::default(), &turn)?;
            bookings::set_price(tx, &booking, line.ticket, amount)?;
            bookings::follow_books(tx, booking.id, "a price set by hand", turn.now)?;
            let what = format!(
                "set the price of {} to {} by hand: {reason}",
                line.name,
                currency.of(amount)
            );
            bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
            settle_change(tx, &booking, "the price was changed", &turn)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// After what is charged has changed: money back, a document, an open payment made anew, or
/// the booking confirmed because nothing is due any more.
pub(crate) fn settle_change(
    tx: &Tx<'_>,
    booking: &Booking,
    reason: &str,
    turn: &Turn,
) -> Result<(), DeskError> {
    // An open payment asks for another amount than is due now.
    payments::unwant(tx, booking.id, turn.now)?;
    let booking = confirm_if_paid(tx, booking, turn)?;
    give_back_surplus(tx, &booking, reason, turn)?;
    document(tx, &booking, turn)
}

/// Adds tickets to a booking that stands, at what they cost now.
///
/// # Errors
/// The seats are not there; nothing was chosen; the booking does not stand; the role may
/// not.
pub async fn add_tickets(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    wanted: Vec<Wanted>,
    names: Vec<String>,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    desk.store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            add_in(tx, &booking, &wanted, &names, &turn)?;
            let said = format!("More tickets: {}.", counted(tx, &booking, &wanted)?);
            tell_changed(tx, &booking, &said, &turn)?;
            settle_change(tx, &booking, "tickets were added", &turn)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

fn counted(conn: &Connection, booking: &Booking, wanted: &[Wanted]) -> Result<String, DeskError> {
    let lines = bookings::lines(conn, booking)?;
    let named = wanted.iter().filter(|w| w.quantity > 0).filter_map(|w| {
        let line = lines.iter().find(|l| l.ticket == w.ticket)?;
        Some(format!("{} × {}", w.quantity, line.name))
    });
    Ok(named.collect::<Vec<_>>().join(", "))
}

fn add_in(
    tx: &Tx<'_>,
    booking: &Booking,
    wanted: &[Wanted],
    names: &[String],
    turn: &Turn,
) -> Result<(), DeskError> {
    allow(tx, Act::Change, booking, Of::default(), turn)?;
    sweep(tx, booking.date, turn)?;
    let sheet = serving::choices_of(tx, booking.date, turn.now)?;
    let choice = booking::choose(&sheet.offer, wanted, &booking.buyer, turn.now)?;
    let before = bookings::attendees(tx, booking.id)?.len();
    bookings::add_on(tx, booking, &choice, &sheet, fresh_code)?;
    for (n, attendee) in bookings::attendees(tx, booking.id)?.iter().skip(before).enumerate() {
        let name = names.get(n).map(|n| n.trim()).filter(|n| !n.is_empty());
        bookings::rename(tx, booking, attendee.person, name.unwrap_or(&booking.name))?;
    }
    bookings::follow_books(tx, booking.id, "tickets added", turn.now)?;
    let what = format!("added {}", counted(tx, booking, wanted)?);
    Ok(bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?)
}

/// Swaps one ticket of a booking for another type; the difference in money is asked for or
/// goes back whole.
///
/// # Errors
/// The seats are not there; the booking does not stand; the role may not.
pub async fn swap_ticket(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    ticket_no: u32,
    to: TicketTypeId,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    desk.store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            let people = bookings::attendees(tx, booking.id)?;
            let names: Vec<String> = people
                .iter()
                .filter(|a| a.ticket_no == ticket_no && !a.cancelled)
                .map(|a| a.name.clone())
                .collect();
            if names.is_empty() {
                return Err(DeskError::NotFound);
            }
            let inside = matricle_store::door::inside_of(tx, booking.id, Some(&[ticket_no]))?;
            if let Some(name) = inside {
                return Err(DeskError::Inside { name });
            }
            // The seats go back into the pot first: the new ticket may need the same ones.
            bookings::take_off(tx, &booking, &[ticket_no], 100, turn.now)?;
            let booking = find(tx, reference)?;
            let wanted = [Wanted { ticket: to, quantity: 1 }];
            add_in(tx, &booking, &wanted, &names, &turn)?;
            let said = format!("Another ticket: {}.", counted(tx, &booking, &wanted)?);
            tell_changed(tx, &booking, &said, &turn)?;
            settle_change(tx, &booking, "a ticket was swapped", &turn)?;
            serving::serve_date(tx, booking.date, turn.now)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Corrects names and answers of a booking that stands; the address stays.
///
/// # Errors
/// [`DeskError::Details`] with what needs another look; the booking does not stand.
pub async fn correct(
    desk: &Desk,
    by: By,
    reference: Reference,
    draft: Draft,
) -> Result<(), DeskError> {
    let turn = by.turn(desk)?;
    desk.store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            let before = as_it_stands(tx, &booking)?;
            correct_in(tx, &booking, draft, &turn, "corrected names and answers")?;
            if matches!(by, By::Booker) {
                let deed = bookings::Deed::Corrected(Box::new(before));
                bookings::remember(tx, booking.id, &deed, 0)?;
            }
            Ok(())
        })
        .await
}

/// What the form of a booking would say now.
fn as_it_stands(conn: &Connection, booking: &Booking) -> Result<Draft, DeskError> {
    let mut draft = booking.draft.clone();
    draft.name.clone_from(&booking.name);
    draft.attendees = bookings::attendees(conn, booking.id)?.into_iter().map(|a| a.name).collect();
    Ok(draft)
}

/// Writes names and answers as they are given.
///
/// # Errors
/// [`DeskError::Details`] with every field that needs another look; the rules do not let.
pub(super) fn correct_in(
    tx: &Tx<'_>,
    booking: &Booking,
    mut draft: Draft,
    turn: &Turn,
    said: &str,
) -> Result<(), DeskError> {
    let (event, _) = allow(tx, Act::Correct, booking, Of::default(), turn)?;
    draft.name = if draft.name.trim().is_empty() { booking.name.clone() } else { draft.name };
    // One who booked by phone may have no address; it is not asked for here.
    draft.email = match booking.email.as_str() {
        "" => "nobody@nowhere.example".into(),
        email => email.to_owned(),
    };
    draft.agreed = true;
    let questions = events::questions(tx, event.id)?;
    let tickets = bookings::tickets_of_people(tx, booking.id)?;
    let mut details = details::check(&draft, &tickets, &questions).map_err(DeskError::Details)?;
    details.email.clone_from(&booking.email);
    draft.email.clone_from(&booking.email);
    let person = match details.email.as_str() {
        "" => None,
        email => Some(people::know(tx, &details.name, email, turn.now)?),
    };
    bookings::complete(tx, booking, &details, &questions, person)?;
    bookings::keep_draft(tx, booking.id, &draft)?;
    tx.touch(booking.date);
    Ok(bookings::happened(tx, booking.id, turn.now, &turn.by, said)?)
}
