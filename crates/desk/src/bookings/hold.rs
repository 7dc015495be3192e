//! Keeping seats for a booker, and what they type meanwhile.

use matricle_core::booking::details::{Draft, Field, Problem};
use matricle_core::booking::{self, Move, MoveRefusal, State};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::money::price::Buyer;
use matricle_core::people::acting::Acting;
use matricle_core::people::staff::Right;
use matricle_core::seats::Wanted;
use matricle_core::words::address::is_address;
use matricle_core::words::codes::Reference;
use matricle_core::{BookingId, DateId, QuestionId};
use matricle_store::bookings::{self, Booking, HeldBy};
use matricle_store::events::{self, Date, Event, EventState};
use matricle_store::outbox;
use matricle_store::people::Staff;
use matricle_store::{Connection, Tx, promos};

use crate::acting::Turn;
use crate::bookings::moves::sweep;
use crate::bookings::moves::{self, With, make};
use crate::bookings::reference::fresh_reference;
use crate::bookings::seats::{may_keep, on_sale, same_event, take_again};
use crate::people::asking::Asking;
use crate::people::often::Often;
use crate::{Desk, DeskError, fresh_code, telling};

/// So many dates to come are offered to move to.
const MOST_DATES: usize = 120;

/// So often the way back to one booking is mailed.
pub const MOST_LINKS: usize = 3;

/// Keeps the chosen seats. `instead` is an earlier hold of the same browser: on
/// the same date its seats go back into the pot first and it gets the new choice,
/// so that choosing again never holds twice and loses nothing typed.
///
/// # Errors
/// What is in the way; the earlier hold then stays as it was.
pub async fn keep(
    desk: &Desk,
    date: DateId,
    wanted: Vec<Wanted>,
    by: HeldBy,
    instead: Option<Reference>,
) -> Result<Reference, DeskError> {
    let by = HeldBy { test: false, ..by };
    kept(desk, date, wanted, by, instead).await
}

/// Keeps seats to try the steps out, of an event that is a draft: see [`may_test`].
///
/// # Errors
/// As [`keep`]; they may not.
pub async fn keep_test(
    desk: &Desk,
    date: DateId,
    wanted: Vec<Wanted>,
    by: HeldBy,
    instead: Option<Reference>,
    (preview, staff): (&str, Option<&Staff>),
) -> Result<Reference, DeskError> {
    let found = desk.store.read(move |conn| events::date_by_id(conn, date)).await?;
    let (event, _) = found.ok_or(DeskError::NotFound)?;
    if !may_test(desk, &event, preview, staff) {
        return Err(DeskError::NotFound);
    }
    kept(desk, date, wanted, HeldBy { test: true, ..by }, instead).await
}

/// Whether the steps of an event may be tried out: while it is a draft, by whoever has the key
/// of its preview and by those who plan events.
#[must_use]
pub fn may_test(desk: &Desk, event: &Event, preview: &str, staff: Option<&Staff>) -> bool {
    event.state == EventState::Draft
        && (desk.secrets.opens_preview(event.id, preview)
            || staff.is_some_and(|s| s.role.may(Right::PlanEvents)))
}

async fn kept(
    desk: &Desk,
    date: DateId,
    wanted: Vec<Wanted>,
    by: HeldBy,
    instead: Option<Reference>,
) -> Result<Reference, DeskError> {
    let turn = desk.turn(Acting::booker());
    let kept = desk.store.write(move |tx| keep_in(tx, date, &wanted, &by, instead, &turn)).await?;
    desk.wake.all();
    Ok(kept)
}

/// [`keep`], inside a transaction.
///
/// # Errors
/// What is in the way.
pub fn keep_in(
    tx: &Tx<'_>,
    date: DateId,
    wanted: &[Wanted],
    by: &HeldBy,
    instead: Option<Reference>,
    turn: &Turn,
) -> Result<Reference, DeskError> {
    let now = turn.now;
    sweep(tx, date, turn)?;
    let covers = |b: &Booking| {
        b.date == date
            || events::date_by_id(tx, b.date).is_ok_and(|found| {
                found.is_some_and(|(e, d)| e.course && same_event(tx, d.event, date))
            })
    };
    let earlier = match instead {
        Some(reference) => bookings::by_reference(tx, reference)?
            // What was sent in once has a payment or an answer of its own.
            .filter(|b| b.state == State::Held || b.state == State::Lapsed && b.name.is_empty())
            .filter(|b| b.test == by.test)
            .filter(covers),
        None => None,
    };
    if let Some(earlier) = earlier {
        moves::choose_again(tx, &earlier, turn, |earlier| {
            let sheet = on_sale(tx, date, by.test, now)?;
            let promos = promos::of_booking(tx, earlier.id)?;
            let buyer = Buyer { promos, ..by.buyer.clone() };
            let choice = booking::choose(&sheet.offer, wanted, &buyer, now)?;
            may_keep(tx, &sheet, &choice, by, earlier.id)?;
            bookings::choose_again(tx, earlier, &choice, &sheet, &by.buyer, fresh_code)?;
            Ok(choice.held_until)
        })?;
        return Ok(earlier.reference);
    }
    let sheet = on_sale(tx, date, by.test, now)?;
    let choice = booking::choose(&sheet.offer, wanted, &by.buyer, now)?;
    may_keep(tx, &sheet, &choice, by, BookingId(0))?;
    let reference = fresh_reference(tx)?;
    let id = bookings::hold(tx, &sheet, reference, &choice, fresh_code, by, now)?;
    let what = if by.test { "chose seats, as a test" } else { "chose seats" };
    bookings::happened(tx, id, now, &turn.by, what)?;
    Ok(reference)
}

/// The booker asks for the same seats again after the time ran out.
///
/// # Errors
/// The seats are gone.
pub async fn again(desk: &Desk, reference: Reference) -> Result<(), DeskError> {
    let turn = desk.turn(Acting::booker());
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            match booking.state {
                State::Held if booking.deadline.is_some_and(|d| d > turn.now) => Ok(()),
                State::Held | State::Lapsed => take_again(tx, &booking, &turn).map(drop),
                state => Err(booking::MoveRefusal { state, by: Move::TakeAgain }.into()),
            }
        })
        .await
}

/// The booker gives the seats back before booking.
///
/// # Errors
/// The booking is past that.
pub async fn give_back(desk: &Desk, reference: Reference) -> Result<(), DeskError> {
    let turn = desk.turn(Acting::booker());
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            if booking.state == State::Held {
                let with = With::said("gave the seats back");
                make(tx, &booking, Move::Lapse, &turn, with)?;
            }
            Ok(())
        })
        .await
}

/// Keeps some fields of what has been typed so far, and leaves the others as they are. Fields that
/// the form of the booking does not have are dropped: parts that are sent without end add up to
/// no more than the form.
///
/// # Errors
/// As [`type_on`].
pub async fn type_over(
    desk: &Desk,
    reference: Reference,
    typed: Draft,
    mut fields: Vec<Field>,
) -> Result<State, DeskError> {
    keep_typed(desk, reference, move |tx, booking| {
        let people = bookings::attendees(tx, booking.id)?.len();
        let (event, _) = events::date_by_id(tx, booking.date)?.ok_or(DeskError::NotFound)?;
        let questions = events::questions(tx, event.id)?;
        let asked = |id: QuestionId| questions.iter().any(|q| q.id == id);
        fields.retain(|field| match *field {
            Field::Name | Field::Email | Field::Terms => true,
            Field::Attendee(at) => at < people,
            Field::Answer(question) => asked(question),
            Field::AnswerOf(at, question) => at < people && asked(question),
        });
        let mut draft = booking.draft.clone();
        draft.take_over(&typed, &fields);
        Ok(draft)
    })
    .await
}

/// Keeps what has been typed so far. Once the booking is complete nothing is
/// overwritten any more; a second tab that still types does no harm.
///
/// # Errors
/// No such booking, or the store fails.
pub async fn type_on(desk: &Desk, reference: Reference, draft: Draft) -> Result<State, DeskError> {
    keep_typed(desk, reference, |_, _| Ok(draft)).await
}

async fn keep_typed(
    desk: &Desk,
    reference: Reference,
    typed: impl FnOnce(&Tx<'_>, &Booking) -> Result<Draft, DeskError> + Send + 'static,
) -> Result<State, DeskError> {
    let (turn, often) = (desk.turn(Acting::booker()), desk.often.clone());
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            if matches!(booking.state, State::Held | State::Lapsed) {
                let draft = typed(tx, &booking)?;
                if booking.draft != draft {
                    bookings::keep_draft(tx, booking.id, &draft)?;
                    tell_left(tx, &booking, draft, &often, &turn)?;
                }
            }
            Ok(booking.state)
        })
        .await
}

/// Whoever typed an address and leaves is mailed the way back, once; few to an address that
/// nobody has proved.
fn tell_left(
    tx: &Tx<'_>,
    booking: &Booking,
    draft: Draft,
    often: &Often,
    turn: &Turn,
) -> Result<(), DeskError> {
    let typed = draft.email.trim().to_owned();
    if booking.state != State::Held || !is_address(&typed) {
        return Ok(());
    }
    let before = booking.draft.email.trim();
    let known = outbox::of_booking(tx, booking.id)?;
    let is_told = known.iter().any(|m| m.occasion() == Some(Occasion::Left));
    let is_another = is_address(before) && before != typed;
    if is_told && !is_another {
        return Ok(());
    }
    // Whoever types another address makes a mail go there: it has its bound too.
    let is_theirs = typed.eq_ignore_ascii_case(&booking.buyer.address);
    if !is_theirs && often.left_mail(&typed, booking.held_from, turn.now).is_err() {
        let is_left = |occasion| occasion == Occasion::Left;
        outbox::withdraw(tx, booking.id, |o| !is_left(o), "another address was typed")?;
        return Ok(());
    }
    if is_told {
        return Ok(outbox::readdress(tx, booking.id, before, &typed)?);
    }
    let booking = Booking { draft, ..booking.clone() };
    telling::tell(tx, &booking, Occasion::Left, &Knows::default(), turn)
}

/// The event's other dates that take place, soonest first, earlier ones too: what cancelling
/// gives back never gets better by moving. Which of them are still to come, and have seats left,
/// [`free_on`] tells.
pub(crate) fn other_dates(
    conn: &Connection,
    event: &Event,
    date: &Date,
) -> Result<Vec<Date>, DeskError> {
    if event.course || !event.rules.may_move {
        return Ok(Vec::new());
    }
    let mut others = events::dates_of(conn, event.id)?;
    others.retain(|d| d.id != date.id && d.called_off.is_empty());
    Ok(others)
}

/// The dates to come that a booking could move to, with the seats that are left on each.
pub async fn free_on(desk: &Desk, dates: Vec<Date>) -> Result<Vec<(Date, u32)>, DeskError> {
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let mut found = Vec::new();
            for date in dates.into_iter().filter(|d| d.span.starts_at > now).take(MOST_DATES) {
                let pools = events::pools(conn, date.id, now)?;
                let free = pools.first().map_or(0, |p| p.free());
                found.push((date, free));
            }
            Ok(found)
        })
        .await
}

/// Mails the way back to a booking that is not complete yet to the address typed into it.
///
/// # Errors
/// [`DeskError::Details`] when no address is typed yet; [`DeskError::EnoughLinks`] when it was
/// mailed [`MOST_LINKS`] times; the booking is complete.
pub async fn mail_link(
    desk: &Desk,
    asking: &Asking,
    reference: Reference,
) -> Result<(), DeskError> {
    let turn = desk.turn(Acting::booker());
    let (often, from) = (desk.often.clone(), asking.from);
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            if !matches!(booking.state, State::Held | State::Lapsed | State::AwaitingPayment) {
                return Err(MoveRefusal { state: booking.state, by: Move::Complete }.into());
            }
            let typed = [booking.email.as_str(), booking.draft.email.trim()];
            let address = typed.into_iter().find(|a| !a.is_empty()).unwrap_or_default();
            if !is_address(address) {
                return Err(DeskError::Details(vec![(Field::Email, Problem::NotAnAddress)]));
            }
            let before = outbox::of_booking(tx, booking.id)?;
            let before = before.iter().filter(|m| m.occasion() == Some(Occasion::WayBack)).count();
            if before >= MOST_LINKS {
                return Err(DeskError::EnoughLinks);
            }
            often.stranger_mail(address, from, turn.now)?;
            let to = Booking { email: address.to_owned(), ..booking.clone() };
            telling::tell(tx, &to, Occasion::WayBack, &Knows::default(), &turn)
        })
        .await?;
    desk.wake.all();
    Ok(())
}
