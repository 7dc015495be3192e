//! A booking taken at the Office, for somebody on the phone.

use matricle_core::booking::details::{self, Answering, Draft, Question};
use matricle_core::booking::{Move, MoveRefusal};
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::money::price::Buyer;
use matricle_core::people::staff::Right;
use matricle_core::seats::Wanted;
use matricle_core::words::codes::Reference;
use matricle_core::{DateId, Money, TicketTypeId};
use matricle_store::bookings::{self, HeldBy};
use matricle_store::outbox;
use matricle_store::people::{self, Staff};
use matricle_store::{Tx, events};

use crate::acting::Turn;
use crate::bookings::change::find;
use crate::bookings::hold::keep_in;
use crate::bookings::moves::{With, firm};
use crate::{Desk, DeskError};

fields! {
    BOOKER_NAME: Line = "booker_name", "Name" needed;
    BOOKER_EMAIL: MailAddress = "booker_email", "E-mail address",
        "What has not gone out yet goes there.";
    NAME: Line = "name", "Booker" needed;
    EMAIL: MailAddress = "email", "E-mail address", "Tickets, or the way to pay, go there.";
    PHONE: Phone = "phone", "Telephone number",
        "Whoever has no address is rung when the date moves or is called off.";
    PEOPLE: Lines(3, 4000) = "people", "Who comes", "One on a line; left empty, the booker.";
    PRICE: Amount = "price", "Price for all of it, set by hand", "Left empty, what it costs.";
    REASON: Line = "reason", "Why this price", "Stays in the history.";
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
    let draft = Draft {
        name: form.take(&NAME),
        email: form.take(&EMAIL),
        attendees: form.take(&PEOPLE),
        ..Draft::default()
    };
    let phone = form.take(&PHONE);
    if asked.by_hand.as_ref().is_some_and(|(_, reason)| reason.is_empty()) {
        form.fault(REASON, Fault::Missing);
    }
    let made = desk
        .store
        .write(move |tx| {
            let wrong = std::mem::take(&mut form.wrong);
            if !wrong.is_empty() {
                return Err(DeskError::Form(wrong));
            }
            let said = (None, phone.as_str(), "took the booking by phone");
            let member = people::is_member(tx, &draft.email)?;
            let buyer = Buyer { member, ..Buyer::default() };
            book_for(tx, &asked, (draft, buyer), &mut form, said, &turn)
        })
        .await?;
    desk.wake.all();
    Ok(made)
}

/// Makes a booking for somebody, of the seats that are kept for them if any are: with their
/// telephone number, and what is said to have happened.
fn book_for(
    tx: &Tx<'_>,
    asked: &ByPhone,
    (draft, buyer): (Draft, Buyer),
    form: &mut Form,
    (kept, phone, said): (Option<Reference>, &str, &str),
    turn: &Turn,
) -> Result<Reference, DeskError> {
    let by = HeldBy { buyer, ..HeldBy::default() };
    let reference = keep_in(tx, asked.date, &asked.wanted, &by, kept, turn)?;
    let booking = find(tx, reference)?;
    let (event, _) = events::date_by_id(tx, booking.date)?.ok_or(DeskError::NotFound)?;
    let questions = events::questions(tx, event.id)?;
    let people = bookings::tickets_of_people(tx, booking.id)?;
    let draft = answered(draft, form, &questions, people.len());
    let details =
        details::check_by_phone(&draft, &people, &questions).map_err(DeskError::Details)?;
    let person = match details.email.as_str() {
        "" => None,
        email => Some(people::know(tx, &details.name, email, turn.now)?),
    };
    bookings::complete(tx, &booking, &details, &questions, person)?;
    bookings::set_phone(tx, booking.id, phone)?;
    bookings::happened(tx, booking.id, turn.now, &turn.by, said)?;
    if let Some((price, reason)) = &asked.by_hand {
        bookings::set_total(tx, &booking, price.minor)?;
        let what = format!("set the price to {price} by hand: {reason}");
        bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
    }
    let booking = find(tx, reference)?;
    firm(tx, &booking, (Move::Complete, Move::AskByMail), turn, With::said(""))?;
    Ok(reference)
}

/// Books one seat for whoever said yes to an invitation, the one that a *maybe* of before keeps if
/// it does, with what is said to have happened.
pub(crate) fn by_a_yes(
    tx: &Tx<'_>,
    (date, ticket): (DateId, TicketTypeId),
    (name, buyer): (&str, Buyer),
    (kept, said): (Option<Reference>, &str),
    turn: &Turn,
) -> Result<Reference, DeskError> {
    let wanted = vec![Wanted { ticket, quantity: 1 }];
    let asked = ByPhone { date, wanted, by_hand: None };
    let draft = Draft {
        name: name.into(),
        email: buyer.address.clone(),
        attendees: vec![name.into()],
        ..Draft::default()
    };
    book_for(tx, &asked, (draft, buyer), &mut Form::default(), (kept, "", said), turn)
}

/// What stands on the lines of a field.
fn lines_of(form: &mut Form, name: &str) -> Vec<String> {
    let text = form.text(name, 4000);
    text.lines().map(|l| l.trim().to_owned()).filter(|l| !l.is_empty()).collect()
}

/// What was answered: once for the booking, or on a line for each person; one line stands for
/// all of them.
fn answered(mut draft: Draft, form: &mut Form, questions: &[Question], people: usize) -> Draft {
    draft.each = vec![Default::default(); people];
    for q in questions {
        if !q.each {
            let typed = match q.answering {
                Answering::SeveralOf(_) => form.all(&format!("answer_{}", q.id)).join("\n"),
                _ => form.text(&format!("answer_{}", q.id), details::LONGEST_TEXT),
            };
            draft.answers.insert(q.id, typed);
            continue;
        }
        let lines = lines_of(form, &format!("each_{}", q.id));
        for (i, given) in draft.each.iter_mut().enumerate() {
            let line = if lines.len() == 1 { lines.first() } else { lines.get(i) };
            given.extend(line.map(|l| (q.id, l.clone())));
        }
    }
    draft
}

/// Corrects who booked: name, address, telephone number. What goes out from now on goes to the
/// new address.
///
/// # Errors
/// [`DeskError::Form`] for what needs another look; the role may not.
pub async fn correct_booker(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    let (name, email) = (form.take(&BOOKER_NAME), form.take(&BOOKER_EMAIL));
    let phone = form.take(&PHONE);
    form.done().map_err(DeskError::Form)?;
    desk.store
        .write(move |tx| {
            let booking = find(tx, reference)?;
            if booking.name.is_empty() {
                return Err(MoveRefusal { state: booking.state, by: Move::Complete }.into());
            }
            let person = match email.as_str() {
                "" => None,
                email => Some(people::know(tx, &name, email, turn.now)?),
            };
            bookings::set_booker(tx, &booking, (&name, &email, &phone), person)?;
            // Tickets that bore the booker's name bear the right one; at the door everybody is
            // found by who booked, too.
            let now = find(tx, reference)?;
            for a in bookings::attendees(tx, booking.id)? {
                let own = if a.name == booking.name { &name } else { &a.name };
                bookings::rename(tx, &now, a.person, own)?;
            }
            let changed = [
                (booking.name != name, format!("the name from {} to {name}", booking.name)),
                (
                    booking.email != email,
                    format!("the address from {} to {email}", or_none(&booking.email)),
                ),
                (
                    booking.phone != phone,
                    format!("the telephone number from {} to {phone}", or_none(&booking.phone)),
                ),
            ];
            for (_, what) in changed.iter().filter(|(is, _)| *is) {
                let what = format!("corrected {}", what.trim_end_matches("to ").trim_end());
                bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
            }
            if booking.email != email {
                outbox::readdress(tx, booking.id, &booking.email, &email)?;
            }
            Ok::<_, DeskError>(())
        })
        .await?;
    desk.wake.all();
    Ok(())
}

fn or_none(text: &str) -> &str {
    if text.is_empty() { "none" } else { text }
}
