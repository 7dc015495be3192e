//! From a filled-in form to a booking: details, who may book, what follows.

use crate::telling::tell;
use matricle_core::messages::occasion::{Knows, Occasion};
use std::sync::Arc;

use matricle_core::booking::confirm::Way;
use matricle_core::booking::details::{self, Draft};
use matricle_core::booking::{Move, MoveRefusal, State};
use matricle_core::people::acting::Acting;
use matricle_core::people::who::{WhoRefusal, is_proved};
use matricle_core::seats::hold_limits::may_wait;
use matricle_core::words::codes::Reference;
use matricle_formats::words;
use matricle_store::bookings::{self, Booking};
use matricle_store::{Tx, events, invited, people};

use crate::acting::Turn;
use crate::bookings::acts::way_of;
use crate::bookings::moves::{With, make};
use crate::bookings::seats::take_again;
use crate::bookings::whole::wants_proof;
use crate::people::asking::Asking;
use crate::people::often::Often;
use crate::{Desk, DeskError, Secrets, house_of};

/// What follows from a complete form.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// Booked.
    Confirmed,
    /// To be paid; the booking's page offers the way to the provider.
    ToPay,
    /// Asked for; the organiser decides.
    Asked,
}

/// Takes the form. When it is refused, what was typed is kept before that is said, so that
/// nothing is lost.
/// Sent twice, the second says the same as the first.
///
/// # Errors
/// Fields that need another look; seats that are gone since the hold ran out; a
/// price that changed since.
pub async fn submit(
    desk: &Desk,
    asking: &Asking,
    reference: Reference,
    draft: Draft,
) -> Result<Outcome, DeskError> {
    let typed = draft.clone();
    let turn = desk.turn(Acting::booker());
    let booker =
        Booker { asking: asking.clone(), secrets: desk.secrets.clone(), often: desk.often.clone() };
    let outcome =
        desk.store.write(move |tx| submit_in(tx, &booker, reference, &draft, &turn)).await;
    if outcome.is_err() {
        crate::bookings::hold::type_on(desk, reference, typed).await?;
    }
    desk.wake.all();
    outcome
}

/// Who sends a form in, and what it takes to know them and to bound what they do.
pub struct Booker {
    /// What they have proved.
    pub asking: Asking,
    /// What opens an invitation.
    pub secrets: Arc<Secrets>,
    /// What was asked for lately.
    pub often: Arc<Often>,
}

/// [`submit`], inside a transaction.
///
/// # Errors
/// As [`submit`].
pub fn submit_in(
    tx: &Tx<'_>,
    booker: &Booker,
    reference: Reference,
    draft: &Draft,
    turn: &Turn,
) -> Result<Outcome, DeskError> {
    let now = turn.now;
    let mut booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
    match booking.state {
        State::Confirmed => return Ok(Outcome::Confirmed),
        State::AwaitingPayment => return Ok(Outcome::ToPay),
        State::Requested => return Ok(Outcome::Asked),
        State::Held | State::Lapsed => {}
        state => return Err(MoveRefusal { state, by: Move::Complete }.into()),
    }
    let plan = events::planned(tx, booking.date)?.ok_or(DeskError::NotFound)?;
    let (event, questions) = (&plan.event, &plan.questions);
    let people = bookings::tickets_of_people(tx, booking.id)?;
    let details = details::check(draft, &people, questions).map_err(DeskError::Details)?;
    // By signing in now, by the link of an invitation, or when the seats were chosen.
    let proved = match booker.asking.address(tx, &booker.secrets, event.id, now)? {
        Some(address) if is_proved(&details.email, Some(&address)).is_ok() => Some(address),
        _ => Some(booking.buyer.address.clone()).filter(|a| !a.is_empty()),
    };
    let proved = proved.as_deref();
    let invited = invited::is_on(tx, event.id, &details.email)?;
    event.who.allows(&details.email, proved, &booking.buyer.word, invited)?;
    let lines = bookings::lines(tx, &booking)?;
    let way = way_of(event, &lines, booking.total);
    let promos = matricle_store::promos::of_booking(tx, booking.id)?;
    let is_theirs = is_proved(&details.email, proved).is_ok();
    if wants_proof(event, &promos, way) && !booking.test {
        is_proved(&details.email, proved)?;
    }
    if event.once && bookings::booked_already(tx, event.id, &details.email, booking.id)? {
        return Err(WhoRefusal::Again.into());
    }
    let other = bookings::same_date(tx, &booking, &details.email)?;
    // Who books from the browser that made the other knows of it already.
    let browser = booking.held_from.0;
    let is_known = |other: &Booking| is_theirs || browser != 0 && other.held_from.0 == browser;
    if let (Some(other), false) = (other.as_ref().filter(|o| is_known(o)), draft.again) {
        return Err(DeskError::BookedBefore { made_at: other.made_at, total: other.total });
    }
    let unfinished = bookings::unfinished_of(tx, booking.date, &details.email, booking.id)?;
    if !booking.test {
        may_wait(unfinished, is_theirs)?;
    }
    if !is_theirs && booker.often.stranger_mail(&details.email, booker.asking.from, now).is_err() {
        // Enough mails went to this address without its owner's word.
        return Err(WhoRefusal::NotSignedIn.into());
    }
    crate::bookings::codes::still_good(tx, &booking, &details.email, now)?;
    if booking.state == State::Lapsed || booking.deadline.is_none_or(|d| d <= now) {
        let again = take_again(tx, &booking, turn)?;
        if again.total != booking.total {
            return Err(DeskError::PriceChanged { old: booking.total, new: again.total });
        }
        booking = again;
    }
    let person = people::know(tx, &details.name, &details.email, now)?;
    bookings::complete(tx, &booking, &details, questions, Some(person))?;
    if let (Some(address), true) = (proved, is_theirs) {
        bookings::prove(tx, booking.id, address)?;
    }
    if let Some(other) = other.as_ref().filter(|o| !is_known(o)) {
        tell_of_another(tx, &booking, &details.email, other, turn)?;
    }
    // As it was written down: with the address that messages go to.
    let booking = Booking { name: details.name, email: details.email, ..booking };
    let (by, said, outcome) = match way {
        Way::AfterYes => (Move::Ask, "filled the form in and asked for seats", Outcome::Asked),
        Way::ByItself if booking.total.is_zero() => (Move::Complete, "", Outcome::Confirmed),
        Way::ByItself => (Move::AskForMoney, "filled the form in", Outcome::ToPay),
    };
    make(tx, &booking, by, turn, With::said(said))?;
    Ok(outcome)
}

/// Tells whoever reads the mail of an address that there is another booking of the date with
/// it: whoever merely typed the address learns nothing of that.
fn tell_of_another(
    tx: &Tx<'_>,
    booking: &Booking,
    address: &str,
    other: &Booking,
    turn: &Turn,
) -> Result<(), DeskError> {
    let made = house_of(tx)?;
    let day = words::long_day(words::local(other.made_at, &made.zone).date());
    let knows = Knows {
        reason: format!(
            "There are two bookings of this date with your address now: this one, and {} of {day}, {}. \
             If one of them is a mistake, cancel it on its page.",
            other.reference, other.total
        ),
        ..Knows::default()
    };
    let booking = Booking { email: address.to_owned(), ..booking.clone() };
    tell(tx, &booking, Occasion::Twice, &knows, turn)
}
