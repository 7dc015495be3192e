//! Changing bookings that stand: people, tickets, dates, prices, money taken by hand, notes.

use matricle_core::acts::Act;
use matricle_core::booking::{self, Move, State};
use matricle_core::codes::Reference;
use matricle_core::details::{self, Draft, is_address};
use matricle_core::form::{Fault, Form};
use matricle_core::ledger::Method;
use matricle_core::seats::{Wanted, take};
use matricle_core::staff::Right;
use matricle_core::{AttendeeId, DateId, Money, TicketTypeId};
use matricle_store::bookings::{self, Booking, Deed, HeldBy};
use matricle_store::outbox::{About, Kind, NewMessage};
use matricle_store::payments::{self, Taken};
use matricle_store::people::{self, Staff};
use matricle_store::{Connection, Tx, events, outbox};

use crate::acting::Turn;
use crate::acts::{Of, allow};
use crate::cancel::By;
use crate::hold::{fresh_code, keep_in, on_sheet, sweep};
use crate::money::{document, give_back_surplus, received};
use crate::moves::{With, confirm_if_paid, firm, tell, tell_changed};
use crate::{Desk, DeskError, house_of, waiting};

/// Longest private note, in characters.
const LONGEST_NOTE: usize = 2000;

fn find(conn: &Connection, reference: Reference) -> Result<Booking, DeskError> {
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
            let kind = match booking.state {
                State::AwaitingPayment => Kind::Approval,
                _ => Kind::Confirmation,
            };
            bookings::happened(tx, booking.id, turn.now, &turn.by, "sent the mail once more")?;
            tell(tx, &booking, kind, "", &turn)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Takes money for a booking: what is due is met, the booking is confirmed once all of it
/// has come, and what is too much goes back.
pub(crate) fn take_in(
    tx: &Tx<'_>,
    booking: &Booking,
    (method, minor): (Method, i64),
    note: &str,
    turn: &Turn,
) -> Result<(), DeskError> {
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
    document(tx, &booking, turn.now)
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
            let amount = form.amount("amount", booking.total.currency).filter(|m| *m > 0);
            let amount = form.need("amount", amount);
            let method = Method::from_word(form.get("method")).filter(|m| m.by_hand());
            let method = form.need("method", method);
            let note = form.line("money_note");
            let wrong = std::mem::take(&mut form.wrong);
            let (Some(amount), Some(method), true) = (amount, method, wrong.is_empty()) else {
                return Err(DeskError::Form(wrong));
            };
            allow(tx, Act::TakeMoney, &booking, Of::default(), &turn)?;
            take_in(tx, &booking, (method, amount), &note, &turn)
        })
        .await?;
    desk.wake.all();
    Ok(())
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
            let amount = form.amount("amount", currency).filter(|m| *m > 0);
            let amount = form.need("amount", amount).unwrap_or(0);
            let note = form.line("money_note");
            let mut all: Vec<Booking> = Vec::new();
            for word in form.text("references", 2000).split([',', ';', '\n']) {
                let word = word.trim();
                if word.is_empty() {
                    continue;
                }
                let known = matricle_core::transfer::read_creditor_reference(word)
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
                    None => form.fault("references", Fault::Unknown),
                }
            }
            if all.is_empty() {
                form.fault("references", Fault::Missing);
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
            let amount = form.amount("price", currency);
            let amount = form.need("price", amount);
            let ticket = form.number("ticket", 1, u32::MAX).map(|t| TicketTypeId(t.into()));
            let reason = form.needed("reason");
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
    document(tx, &booking, turn.now)
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
    let sheet = on_sheet(tx, booking, turn.now)?;
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
            waiting::serve_date(tx, booking.date, turn.now)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Moves a booking to another date of its event, at the price it was booked at.
///
/// # Errors
/// The seats are not there; the event's rules do not let the booker; a course has no other
/// date; the booking does not stand.
pub async fn move_to(
    desk: &Desk,
    by: By,
    reference: Reference,
    date: DateId,
) -> Result<(), DeskError> {
    let turn = by.turn(desk)?;
    desk.store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            let (event, old) = events::date_by_id(tx, booking.date)?.ok_or(DeskError::NotFound)?;
            let (other, new) = events::date_by_id(tx, date)?.ok_or(DeskError::NotFound)?;
            if event.id != other.id || booking.date == date {
                return Err(DeskError::NotFound);
            }
            move_in(tx, &booking, &new, &turn)?;
            if matches!(by, By::Booker) {
                bookings::moved_from(tx, booking.id, old.span.starts_at)?;
                bookings::remember(tx, booking.id, &Deed::moved(old.id), 0)?;
            }
            Ok::<_, DeskError>(())
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Moves a booking that stands to another date of its event, inside a transaction.
pub(crate) fn move_in(
    tx: &Tx<'_>,
    booking: &Booking,
    to: &events::Date,
    turn: &Turn,
) -> Result<(), DeskError> {
    allow(tx, Act::MoveDate, booking, Of { to: Some(to), ..Of::default() }, turn)?;
    sweep(tx, to.id, turn)?;
    let house = house_of(tx)?;
    let sheet = events::sheet(tx, house.currency, to.id, turn.now)?.ok_or(DeskError::NotFound)?;
    if let Some(refusal) = sheet.offer.bars(turn.now) {
        return Err(refusal.into());
    }
    let wanted = bookings::wanted(tx, booking.id)?;
    let draws = take(&sheet.offer.pools, &sheet.offer.tickets(), &wanted)
        .map_err(booking::ChoiceRefusal::from)?;
    bookings::move_to(tx, booking, to.id, &draws)?;
    let when = matricle_formats::words::long_span(to.span.starts, to.span.ends);
    let what = format!("moved the booking to {when}");
    bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
    tell_changed(tx, booking, &format!("It is for another date now: {when}."), turn)?;
    waiting::serve_date(tx, booking.date, turn.now)
}

/// Corrects names and answers of a booking that stands; the address stays.
///
/// # Errors
/// [`DeskError::Details`] with what needs another look; the booking does not stand.
pub async fn correct(
    desk: &Desk,
    by: By,
    reference: Reference,
    mut draft: Draft,
) -> Result<(), DeskError> {
    let turn = by.turn(desk)?;
    desk.store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            let (event, _) = allow(tx, Act::Correct, &booking, Of::default(), &turn)?;
            draft.name =
                if draft.name.trim().is_empty() { booking.name.clone() } else { draft.name };
            // One who booked by phone may have no address; it is not asked for here.
            draft.email = match booking.email.as_str() {
                "" => "nobody@nowhere.example".into(),
                email => email.to_owned(),
            };
            draft.agreed = true;
            let questions = events::questions(tx, event.id)?;
            let tickets = bookings::tickets_of_people(tx, booking.id)?;
            let mut details =
                details::check(&draft, &tickets, &questions).map_err(DeskError::Details)?;
            details.email.clone_from(&booking.email);
            draft.email.clone_from(&booking.email);
            let person = match details.email.as_str() {
                "" => None,
                email => Some(people::know(tx, &details.name, email, turn.now)?),
            };
            bookings::complete(tx, &booking, &details, &questions, person)?;
            bookings::keep_draft(tx, booking.id, &draft)?;
            tx.touch(booking.date);
            Ok(bookings::happened(
                tx,
                booking.id,
                turn.now,
                &turn.by,
                "corrected names and answers",
            )?)
        })
        .await
}

/// Passes a ticket to somebody else: the old code dies, the new one is mailed to them.
///
/// # Errors
/// [`DeskError::Form`] for a name or address that is none; the event's rules do not let the
/// booker; the booking is not confirmed; the person is in already.
pub async fn pass_on(
    desk: &Desk,
    by: By,
    reference: Reference,
    attendee: AttendeeId,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = by.turn(desk)?;
    let (name, email) = (form.needed("new_name"), form.needed("new_email"));
    if !email.is_empty() && !is_address(&email) {
        form.fault("new_email", Fault::NotAnAddress);
    }
    desk.store
        .write(move |tx| {
            form.done().map_err(DeskError::Form)?;
            let booking = find(tx, reference)?;
            allow(tx, Act::PassOn, &booking, Of::default(), &turn)?;
            let all = bookings::attendees(tx, booking.id)?;
            let person = all.iter().find(|a| a.id == attendee && !a.cancelled);
            let person = person.ok_or(DeskError::NotFound)?;
            if person.presence != matricle_core::door::Presence::Expected {
                return Err(DeskError::NotByBooker);
            }
            bookings::new_codes(tx, &booking, person.person, fresh_code, turn.now)?;
            bookings::rename(tx, &booking, person.person, &name)?;
            let what = format!("passed the ticket of {} to {name}", person.name);
            bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
            let id = uuid::Uuid::now_v7();
            let new = NewMessage {
                about: About::Booking(booking.id),
                kind: Kind::Passed,
                which: &format!(" {id}"),
                address: &email,
                message_id: &format!("{id}@{}", turn.host),
                note: &person.person.to_string(),
            };
            Ok(outbox::plan_noted(tx, &new, turn.now)?)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// A booking made at the Office, for somebody on the phone.
#[derive(Debug, Clone)]
pub struct ByPhone {
    /// The date.
    pub date: DateId,
    /// The tickets.
    pub wanted: Vec<Wanted>,
    /// A price for all of it together, set by hand, and why.
    pub by_hand: Option<(Money, String)>,
}

/// Makes a booking for somebody on the phone: confirmed when nothing is to pay, otherwise
/// awaiting the money, which a mail asks for.
///
/// # Errors
/// [`DeskError::Form`] for what needs another look; the seats are not there; the role may
/// not.
pub async fn by_phone(
    desk: &Desk,
    staff: &Staff,
    asked: ByPhone,
    mut form: Form,
) -> Result<Reference, DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    let (name, email) = (form.needed("name"), form.line("email"));
    if !email.is_empty() && !is_address(&email) {
        form.fault("email", Fault::NotAnAddress);
    }
    if asked.by_hand.as_ref().is_some_and(|(_, reason)| reason.is_empty()) {
        form.fault("reason", Fault::Missing);
    }
    let names: Vec<String> = form
        .text("people", 4000)
        .lines()
        .map(|l| l.trim().to_owned())
        .filter(|l| !l.is_empty())
        .collect();
    let made = desk
        .store
        .write(move |tx| {
            form.done().map_err(DeskError::Form)?;
            let buyer = matricle_core::price::Buyer {
                member: people::is_member(tx, &email)?,
                ..Default::default()
            };
            let by = HeldBy { buyer, ..HeldBy::default() };
            let reference = keep_in(tx, asked.date, &asked.wanted, &by, None, &turn)?;
            let booking = find(tx, reference)?;
            let people = bookings::attendees(tx, booking.id)?;
            let attendees: Vec<String> =
                (0..people.len()).map(|n| names.get(n).unwrap_or(&name).clone()).collect();
            // Whoever takes a booking by phone asks what needs asking; nothing is forced.
            let details = details::Details {
                name: name.clone(),
                email: email.clone(),
                attendees,
                answers: Default::default(),
                each: Vec::new(),
            };
            let person = match email.as_str() {
                "" => None,
                email => Some(people::know(tx, &name, email, turn.now)?),
            };
            bookings::complete(tx, &booking, &details, &[], person)?;
            bookings::happened(tx, booking.id, turn.now, &turn.by, "took the booking by phone")?;
            if let Some((price, reason)) = &asked.by_hand {
                bookings::set_total(tx, &booking, price.minor)?;
                let what = format!("set the price to {price} by hand: {reason}");
                bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
            }
            let booking = find(tx, reference)?;
            firm(tx, &booking, (Move::Complete, Move::AskByMail), &turn, With::said(""))?;
            Ok::<_, DeskError>(reference)
        })
        .await?;
    desk.wake.all();
    Ok(made)
}
