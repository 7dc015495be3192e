//! A booking taken at the Office, for somebody on the phone.

use matricle_core::booking::Move;
use matricle_core::codes::Reference;
use matricle_core::details::{self, is_address};
use matricle_core::form::{Fault, Form};
use matricle_core::seats::Wanted;
use matricle_core::staff::Right;
use matricle_core::{DateId, Money};
use matricle_store::bookings::{self, HeldBy};
use matricle_store::people::{self, Staff};

use crate::bookings::change::find;
use crate::bookings::hold::keep_in;
use crate::bookings::moves::{With, firm};
use crate::{Desk, DeskError};

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
