//! Keeping seats for a booker, and what they type meanwhile.

use jiff::Timestamp;
use matricle_core::acting::Acting;
use matricle_core::booking::{self, Choice, ChoiceRefusal, Move, MoveRefusal, State};
use matricle_core::codes::{Reference, TicketCode};
use matricle_core::confirm::Way;
use matricle_core::details::{Draft, Field, Problem, Question, is_address};
use matricle_core::keeping;
use matricle_core::price::Buyer;
use matricle_core::promo::Promo;
use matricle_core::seats::{Draw, Wanted, take};
use matricle_core::staff::Right;
use matricle_core::{AttendeeId, BookingId, DateId, Money, SessionId, TicketTypeId};
use matricle_store::bookings::{self, Answer, Attendee, Booking, Happening, HeldBy, Line};
use matricle_store::cards::{self, HeldCard};
use matricle_store::documents::{self, Document};
use matricle_store::events::{self, Date, DateSheet, Event, EventState};
use matricle_store::house::House;
use matricle_store::outbox::{self, Kind};
use matricle_store::payments::{self, Payment};
use matricle_store::people::Staff;
use matricle_store::promos;
use matricle_store::refunds::{self, Refund};
use matricle_store::sessions::{self, Session};
use matricle_store::{Connection, Tx};

use crate::acting::Turn;
use crate::asking::Asking;
use crate::moves::{self, With, make};
use crate::undo::Undo;
use crate::{Desk, DeskError, house_of, random_u64};

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
            .filter(|b| matches!(b.state, State::Held | State::Lapsed) && b.test == by.test)
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

/// Bounds what one browser and one network keep of a date while nothing is booked for good.
fn may_keep(
    conn: &Connection,
    sheet: &DateSheet,
    choice: &Choice,
    by: &HeldBy,
    but: BookingId,
) -> Result<(), DeskError> {
    if by.test || by.from == (0, 0) {
        return Ok(());
    }
    let date = sheet.covers.first().copied().unwrap_or(sheet.date.id);
    let (by_browser, by_network) = bookings::kept(conn, date, by.from, but)?;
    let pool = sheet.main_pool();
    let drawn = choice.draws.iter().find(|d| d.pool == pool.id);
    let facts = keeping::Facts {
        wanted: drawn.map_or(0, |d| d.seats),
        open: pool.capacity.saturating_sub(pool.taken.confirmed),
        by_browser,
        by_network,
        proved: !by.buyer.address.is_empty(),
    };
    Ok(keeping::may_keep(&facts)?)
}

fn same_event(tx: &Tx<'_>, event: matricle_core::EventId, date: DateId) -> bool {
    events::date_by_id(tx, date).is_ok_and(|d| d.is_some_and(|(e, _)| e.id == event))
}

/// The sheet of a date that is in the Programme; for a test of a draft as well.
fn on_sale(tx: &Tx<'_>, date: DateId, test: bool, now: Timestamp) -> Result<DateSheet, DeskError> {
    let house = house_of(tx)?;
    events::sheet(tx, house.currency, date, now)?
        .filter(|sheet| match sheet.event.state {
            // What is published is booked for good: nobody tries its steps out any more.
            EventState::Published => !test,
            EventState::Draft => test,
            EventState::CalledOff | EventState::Past => false,
        })
        .ok_or(DeskError::NotFound)
}

pub(crate) fn fresh_code() -> TicketCode {
    TicketCode::from_random(random_u64())
}

pub(crate) fn fresh_reference(tx: &Tx<'_>) -> Result<Reference, DeskError> {
    for _ in 0..32 {
        let reference = Reference::from_random(random_u64());
        if !bookings::reference_taken(tx, reference)? {
            return Ok(reference);
        }
    }
    Err(DeskError::Internal("no free booking reference found in 32 tries".into()))
}

/// Lets holds on a date lapse whose time is over, before its seats are counted.
pub(crate) fn sweep(tx: &Tx<'_>, date: DateId, turn: &Turn) -> Result<(), DeskError> {
    for stale in bookings::stale_holds(tx, date, turn.now)? {
        lapse(tx, &stale, &turn.program())?;
    }
    Ok(())
}

/// Lets a booking lapse: its time is over.
pub(crate) fn lapse(tx: &Tx<'_>, booking: &Booking, turn: &Turn) -> Result<Booking, DeskError> {
    let what = match booking.state {
        State::AwaitingPayment => "not paid in time; the seats were given back",
        _ => "the time to fill the form in ran out; the seats were given back",
    };
    make(tx, booking, Move::Lapse, turn, With::said(what))
}

/// The sheet that a booking is counted on, whatever the state of its event.
pub(crate) fn on_sheet(
    conn: &Connection,
    booking: &Booking,
    now: Timestamp,
) -> Result<DateSheet, DeskError> {
    let house = house_of(conn)?;
    events::sheet(conn, house.currency, booking.date, now)?.ok_or(DeskError::NotFound)
}

/// What so many tickets of a booking draw from the pools of its dates, if they have it.
///
/// # Errors
/// The seats are gone, or the date is called off.
pub(crate) fn seats_for(
    tx: &Tx<'_>,
    booking: &Booking,
    wanted: &[Wanted],
    turn: &Turn,
) -> Result<Vec<Draw>, DeskError> {
    sweep(tx, booking.date, turn)?;
    let offer = on_sheet(tx, booking, turn.now)?.offer;
    if offer.called_off {
        return Err(ChoiceRefusal::CalledOff.into());
    }
    Ok(take(&offer.pools, &offer.tickets(), wanted).map_err(ChoiceRefusal::from)?)
}

/// Takes the same seats again for a hold whose time is over.
///
/// # Errors
/// The seats are gone, or cost something else now; the booking stays lapsed.
pub(crate) fn take_again(
    tx: &Tx<'_>,
    booking: &Booking,
    turn: &Turn,
) -> Result<Booking, DeskError> {
    let booking = match booking.state {
        State::Held => lapse(tx, booking, &turn.program())?,
        _ => booking.clone(),
    };
    let (sheet, choice) = same_seats(tx, &booking, turn)?;
    let by = HeldBy { buyer: booking.buyer.clone(), test: booking.test, from: booking.held_from };
    may_keep(tx, &sheet, &choice, &by, booking.id)?;
    bookings::reprice(tx, &booking, &choice)?;
    let said = With { until: Some(choice.held_until), ..With::said("took the same seats again") };
    make(tx, &booking, Move::TakeAgain, turn, said)
}

/// The seats of a booking that lapsed as they can be had now.
///
/// # Errors
/// They are gone.
pub(crate) fn same_seats(
    tx: &Tx<'_>,
    booking: &Booking,
    turn: &Turn,
) -> Result<(DateSheet, Choice), DeskError> {
    sweep(tx, booking.date, turn)?;
    let wanted = bookings::wanted(tx, booking.id)?;
    let sheet = on_sale(tx, booking.date, booking.test, turn.now)?;
    let promos = promos::of_booking(tx, booking.id)?;
    let buyer = Buyer { promos, ..booking.buyer.clone() };
    let choice = booking::choose(&sheet.offer, &wanted, &buyer, turn.now)?;
    Ok((sheet, choice))
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

/// Keeps what has been typed so far. Once the booking is complete nothing is
/// overwritten any more; a second tab that still types does no harm.
///
/// # Errors
/// No such booking, or the store fails.
pub async fn type_on(desk: &Desk, reference: Reference, draft: Draft) -> Result<State, DeskError> {
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            if matches!(booking.state, State::Held | State::Lapsed) && booking.draft != draft {
                bookings::keep_draft(tx, booking.id, &draft)?;
            }
            Ok(booking.state)
        })
        .await
}

/// A booking with everything about it.
#[derive(Debug, Clone)]
pub struct BookingSheet {
    /// The house.
    pub house: House,
    /// The booking.
    pub booking: Booking,
    /// Its tickets.
    pub lines: Vec<Line>,
    /// Its people.
    pub attendees: Vec<Attendee>,
    /// The event.
    pub event: Event,
    /// The date.
    pub date: Date,
    /// What is asked while booking.
    pub questions: Vec<Question>,
    /// What was answered.
    pub answers: Vec<Answer>,
    /// Its payments.
    pub payments: Vec<Payment>,
    /// What happened.
    pub timeline: Vec<Happening>,
    /// All dates the booking covers: one, or those of a course.
    pub covers: Vec<Date>,
    /// Sessions of the date.
    pub sessions: Vec<Session>,
    /// Who has signed up for which.
    pub sign_ups: Vec<(AttendeeId, SessionId)>,
    /// Money that went back, or is on its way.
    pub refunds: Vec<Refund>,
    /// Receipts, invoices, credit notes.
    pub documents: Vec<Document>,
    /// Promo codes on it, in the order given.
    pub promos: Vec<Promo>,
    /// Stamps that would pay it, or a part of it, and the amount that meets; nothing when
    /// stamps are not taken.
    pub stamps: (u32, i64),
    /// Stamp cards that were bought with it.
    pub cards: Vec<HeldCard>,
    /// The event's dates to come that it could move to.
    pub other_dates: Vec<Date>,
    /// What the booker did last, and whether it can be taken back.
    pub undo: Option<Undo>,
}

impl BookingSheet {
    /// Seats are kept, and the booker has to go on: with the form, or with the money.
    #[must_use]
    pub fn waits_for_booker(&self, now: Timestamp) -> bool {
        matches!(self.booking.state, State::Held | State::AwaitingPayment)
            && self.booking.deadline.is_some_and(|d| d > now)
    }

    /// How it is confirmed: by itself, or after the organiser's yes.
    #[must_use]
    pub fn way(&self) -> Way {
        way_of(&self.event, &self.lines, self.booking.total)
    }

    /// The tickets as a choice.
    #[must_use]
    pub fn wanted(&self) -> Vec<Wanted> {
        self.lines.iter().map(|l| Wanted { ticket: l.ticket, quantity: l.quantity }).collect()
    }

    /// The ticket type of each attendee, in their order.
    #[must_use]
    pub fn tickets_of_people(&self) -> Vec<TicketTypeId> {
        self.attendees.iter().map(|a| a.ticket_type).collect()
    }

    /// How many of a ticket type are on it.
    #[must_use]
    pub fn quantity(&self, ticket: TicketTypeId) -> u32 {
        self.lines.iter().find(|l| l.ticket == ticket).map_or(0, |l| l.quantity)
    }
}

/// How a booking of an event with these lines is confirmed.
pub(crate) fn way_of(event: &Event, lines: &[Line], total: Money) -> Way {
    event.rules.confirm.way(lines.iter().map(|l| l.confirm), total)
}

/// Loads a booking with everything about it.
///
/// # Errors
/// [`DeskError::NotFound`], or the store fails.
pub fn sheet_in(conn: &Connection, reference: Reference) -> Result<BookingSheet, DeskError> {
    let booking = bookings::by_reference(conn, reference)?.ok_or(DeskError::NotFound)?;
    sheet_of(conn, booking)
}

/// Dates to come that a booking could move to, soonest first.
fn other_dates(conn: &Connection, event: &Event, date: &Date) -> Result<Vec<Date>, DeskError> {
    if event.course || !event.rules.may_move {
        return Ok(Vec::new());
    }
    let mut others = events::dates_of(conn, event.id)?;
    others.retain(|d| {
        d.id != date.id && d.called_off.is_empty() && d.span.starts_at >= date.span.starts_at
    });
    others.truncate(40);
    Ok(others)
}

pub(crate) fn sheet_of(conn: &Connection, booking: Booking) -> Result<BookingSheet, DeskError> {
    let house = house_of(conn)?;
    let (event, date) = events::date_by_id(conn, booking.date)?.ok_or(DeskError::NotFound)?;
    Ok(BookingSheet {
        lines: bookings::lines(conn, &booking)?,
        attendees: bookings::attendees(conn, booking.id)?,
        questions: events::questions(conn, event.id)?,
        answers: bookings::answers(conn, booking.id)?,
        payments: payments::of_booking(conn, booking.id)?,
        timeline: bookings::timeline(conn, booking.id)?,
        covers: bookings::covers(conn, booking.id)?,
        sessions: sessions::of_date(conn, booking.date)?,
        sign_ups: sessions::of_booking(conn, booking.id)?,
        refunds: refunds::of_booking(conn, booking.id)?,
        documents: documents::of_booking(conn, booking.id)?,
        promos: promos::of_booking(conn, booking.id)?,
        stamps: crate::cards::payable(conn, &booking)?,
        cards: cards::of_booking(conn, booking.id)?,
        other_dates: other_dates(conn, &event, &date)?,
        undo: crate::undo::last(conn, &booking)?,
        house,
        booking,
        event,
        date,
    })
}

/// A booking for whoever has its secret address.
///
/// # Errors
/// [`DeskError::NotFound`], or the store fails.
pub async fn sheet(desk: &Desk, reference: Reference) -> Result<BookingSheet, DeskError> {
    desk.store.read(move |conn| sheet_in(conn, reference)).await
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
            let before = before.iter().filter(|m| m.kind == Kind::Link).count();
            if before >= MOST_LINKS {
                return Err(DeskError::EnoughLinks);
            }
            often.stranger_mail(address, from, turn.now)?;
            let to = Booking { email: address.to_owned(), ..booking.clone() };
            moves::tell(tx, &to, Kind::Link, "", &turn)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// The bookings of whoever has proved this address.
///
/// # Errors
/// The store fails.
pub async fn mine(desk: &Desk, email: String) -> Result<Vec<bookings::Listed>, DeskError> {
    Ok(desk.store.read(move |conn| bookings::of_address(conn, &email)).await?)
}
