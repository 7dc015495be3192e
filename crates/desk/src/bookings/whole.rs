//! A booking with everything about it.

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::booking::acts::{self, Act, ActFacts};
use matricle_core::booking::confirm::Way;
use matricle_core::booking::details::Question;
use matricle_core::door::Presence;
use matricle_core::money::promo::Promo;
use matricle_core::people::acting::Actor;
use matricle_core::seats::Wanted;
use matricle_core::words::codes::{Reference, TicketCode};
use matricle_core::{AttendeeId, SessionId, TicketTypeId};
use matricle_store::bookings::{self, Answer, Attendee, Booking, ChargedLine, Happening};
use matricle_store::cards::{self, HeldCard};
use matricle_store::documents::{self, Document};
use matricle_store::events::{self, Date, Event, Format};
use matricle_store::house::House;
use matricle_store::online::{self, OnlineDate};
use matricle_store::payments::{self, Payment};
use matricle_store::refunds::{self, Refund};
use matricle_store::sessions::{self, Session};
use matricle_store::{Connection, outbox, people, promos, readers};

use crate::bookings::acts::way_of;
use crate::bookings::hold::other_dates;
use crate::bookings::undo::Undo;
use crate::{Desk, DeskError, house_of};

/// A booking with everything about it.
#[derive(Debug, Clone)]
pub struct WholeBooking {
    /// The house.
    pub house: House,
    /// The booking.
    pub booking: Booking,
    /// Its tickets.
    pub lines: Vec<ChargedLine>,
    /// Its people.
    pub attendees: Vec<Attendee>,
    /// Which of its people have their ticket from the booker, at an address of their own.
    pub passed: Vec<usize>,
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
    /// The name of whoever holds it and has proved an address, while the form is open.
    pub known: String,
    /// What the booker did last, and whether it can be taken back.
    pub undo: Option<Undo>,
    /// Why the booker's address refused mail for good, if it did.
    pub refused: Option<String>,
    /// Who of it joins online.
    pub online: Vec<Joins>,
    /// How the date happens online.
    pub how: OnlineDate,
}

/// Somebody who joins online.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Joins {
    /// Which person of the booking.
    pub person: usize,
    /// Their name.
    pub name: String,
    /// Their code, and how often their link was replaced: what it is made of.
    pub link: (TicketCode, u32),
}

/// Who of a booking joins online.
fn joins(conn: &Connection, event: &Event, booking: &Booking) -> Result<Vec<Joins>, DeskError> {
    if event.format == Format::InPerson {
        return Ok(Vec::new());
    }
    let mut joins = Vec::new();
    for (person, name, code) in online::of_booking(conn, booking.id)? {
        joins.push(Joins { person, name, link: (code, online::steps(conn, code)?) });
    }
    Ok(joins)
}

impl WholeBooking {
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

    /// Its booker is asked to prove their address before it goes on, and has not done so yet.
    #[must_use]
    pub fn wants_proof(&self) -> bool {
        self.booking.buyer.address.is_empty()
            && !self.booking.test
            && (self.event.who.wants_proof() || wants_proof(&self.event, &self.promos, self.way()))
    }

    /// The booker has no ticket of it any more: all were passed on.
    #[must_use]
    pub fn is_all_passed(&self) -> bool {
        let mut here = self.attendees.iter().filter(|a| !a.cancelled).peekable();
        here.peek().is_some() && here.all(|a| self.passed.contains(&a.person))
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

/// Whether an address has to be proved for a booking: what counts people by their addresses, and
/// what keeps seats for days, wants that.
pub(crate) fn wants_proof(event: &Event, promos: &[Promo], way: Way) -> bool {
    event.once || way == Way::AfterYes || promos.iter().any(|p| p.once || !p.address.is_empty())
}

impl WholeBooking {
    /// Whether somebody of a kind may do something with this booking now, with the whole of it.
    #[must_use]
    pub fn may(&self, act: Act, who: Actor, now: Timestamp) -> bool {
        self.may_with(act, None, who, now)
    }

    /// Whether somebody of a kind may cancel this one ticket now. Who is inside holds back
    /// their own ticket, not those of the others.
    #[must_use]
    pub fn may_cancel_ticket(&self, ticket: u32, who: Actor, now: Timestamp) -> bool {
        self.attendees.iter().any(|a| a.ticket_no == ticket && !a.cancelled)
            && self.may_with(Act::Cancel, Some(ticket), who, now)
    }

    fn may_with(&self, act: Act, only: Option<u32>, who: Actor, now: Timestamp) -> bool {
        let inside = self.attendees.iter().find(|a| {
            !a.cancelled
                && only.is_none_or(|n| n == a.ticket_no)
                && matches!(a.presence, Presence::In { .. } | Presence::Left)
        });
        let facts = ActFacts {
            state: self.booking.state,
            rules: &self.event.rules,
            course: self.event.course,
            begun: self.date.span.starts_at <= now,
            inside: inside.map(|a| a.name.as_str()),
            filled: !self.booking.name.is_empty(),
            addressed: !self.booking.email.is_empty(),
            paid: self.booking.paid.minor != 0,
            needs_yes: self.way() == Way::AfterYes,
        };
        acts::may(act, who, &facts).is_ok()
    }
}

/// Loads a booking with everything about it.
///
/// # Errors
/// [`DeskError::NotFound`], or the store fails.
pub fn find(conn: &Connection, reference: Reference) -> Result<WholeBooking, DeskError> {
    let booking = bookings::by_reference(conn, reference)?.ok_or(DeskError::NotFound)?;
    load(conn, booking)
}

pub(crate) fn load(conn: &Connection, booking: Booking) -> Result<WholeBooking, DeskError> {
    let house = house_of(conn)?;
    let (event, date) = events::date_by_id(conn, booking.date)?.ok_or(DeskError::NotFound)?;
    Ok(WholeBooking {
        lines: bookings::lines(conn, &booking)?,
        attendees: bookings::attendees(conn, booking.id)?,
        passed: readers::holders(conn, booking.id)?.into_iter().map(|(no, ..)| no).collect(),
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
        stamps: crate::money::cards::payable(conn, &booking)?,
        cards: cards::of_booking(conn, booking.id)?,
        other_dates: other_dates(conn, &event, &date)?,
        known: match booking.buyer.address.as_str() {
            address if booking.name.is_empty() && !address.is_empty() => {
                people::name_of(conn, address)?
            }
            _ => String::new(),
        },
        undo: crate::bookings::undo::last(conn, &booking)?,
        refused: match booking.email.as_str() {
            "" => None,
            email => outbox::address(conn, email)?.refused.map(|(_, why)| why),
        },
        online: joins(conn, &event, &booking)?,
        how: match event.format {
            Format::InPerson => OnlineDate::default(),
            Format::Online | Format::Both => online::of_date(conn, date.id)?,
        },
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
pub async fn of(desk: &Desk, reference: Reference) -> Result<WholeBooking, DeskError> {
    desk.store.read(move |conn| find(conn, reference)).await
}

/// Where a booking stands: all that a page which waits for a payment asks, each second.
///
/// # Errors
/// [`DeskError::NotFound`], or the store fails.
pub async fn state(desk: &Desk, reference: Reference) -> Result<State, DeskError> {
    let found = desk.store.read(move |conn| bookings::state_of(conn, reference)).await?;
    found.ok_or(DeskError::NotFound)
}

/// The bookings of whoever has proved this address.
pub async fn mine(desk: &Desk, email: String) -> Result<Vec<bookings::Listed>, DeskError> {
    Ok(desk.store.read(move |conn| bookings::of_address(conn, &email)).await?)
}
