//! What the Office shows.

use jiff::{SignedDuration, Timestamp};
use matricle_core::booking::State;
use matricle_core::codes::Reference;
use matricle_core::staff::{Right, require};
use matricle_core::{DateId, EventId};
use matricle_store::bookings::{self, Filter, Listed};
use matricle_store::events::{self, DateSheet, DateSummary, Event, Listing};
use matricle_store::house::House;
use matricle_store::outbox::{self, Kind, Message, SentCount};
use matricle_store::payments::{self, ToGiveBack};
use matricle_store::people::Staff;

use crate::hold::{BookingSheet, sheet_in};
use crate::{Desk, DeskError, house_of};

/// Today at the Office.
#[derive(Debug, Clone)]
pub struct Today {
    /// The house.
    pub house: House,
    /// Dates under way or starting within a week, soonest first.
    pub dates: Vec<DateSummary>,
    /// Messages that could not be sent, with the reference of their booking.
    pub messages: Vec<(Message, String)>,
    /// Money to be given back.
    pub to_give_back: Vec<ToGiveBack>,
    /// Bookings that ask for an answer.
    pub asking: Vec<Listed>,
    /// Bookings that are to be paid.
    pub to_pay: Vec<Listed>,
}

/// What is on, and what needs doing.
///
/// # Errors
/// The role may not, or the store fails.
pub async fn today(desk: &Desk, staff: &Staff) -> Result<Today, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let until = now + SignedDuration::from_hours(7 * 24);
            let dates = events::list(conn, Listing::Coming, now)?
                .into_iter()
                .filter(|d| d.date.span.starts_at < until)
                .collect();
            let waiting = |state| {
                let filter = Filter { state: Some(state), most: 50, ..Filter::default() };
                bookings::list(conn, &filter).map(|(rows, _)| rows)
            };
            Ok(Today {
                house: house_of(conn)?,
                dates,
                messages: outbox::in_trouble(conn)?,
                to_give_back: payments::to_give_back(conn)?,
                asking: waiting(State::Requested)?,
                to_pay: waiting(State::AwaitingPayment)?,
            })
        })
        .await
}

/// All dates, soonest first.
///
/// # Errors
/// The role may not, or the store fails.
pub async fn dates(desk: &Desk, staff: &Staff) -> Result<(House, Vec<DateSummary>), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let now = desk.clock.now();
    desk.store.read(move |conn| Ok((house_of(conn)?, events::list(conn, Listing::All, now)?))).await
}

/// An event at the Office.
#[derive(Debug, Clone)]
pub struct EventSheet {
    /// The house.
    pub house: House,
    /// The event.
    pub event: Event,
    /// Its dates with their seats.
    pub dates: Vec<DateSheet>,
    /// Its confirmations.
    pub confirmations: SentCount,
    /// Its latest bookings.
    pub latest: Vec<Listed>,
    /// How many bookings count.
    pub bookings: u32,
    /// When the first booking was made.
    pub first_booking: Option<Timestamp>,
}

/// The sheet of an event.
///
/// # Errors
/// The role may not, there is no such event, or the store fails.
pub async fn event(desk: &Desk, staff: &Staff, id: EventId) -> Result<EventSheet, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let house = house_of(conn)?;
            let event = events::by_id(conn, id)?.ok_or(DeskError::NotFound)?;
            let mut dates = Vec::new();
            for date in events::dates_of(conn, id)? {
                dates.extend(events::sheet(conn, house.currency, date.id, now)?);
            }
            let filter = Filter { event: Some(id), most: 8, ..Filter::default() };
            let (latest, _) = bookings::list(conn, &filter)?;
            Ok(EventSheet {
                event,
                dates,
                confirmations: outbox::count(conn, id, Kind::Confirmation)?,
                latest,
                bookings: bookings::count_live(conn, id)?,
                first_booking: bookings::first_made(conn, id)?,
                house,
            })
        })
        .await
}

/// One date with its seats, for a sheet that keeps itself up to date.
///
/// # Errors
/// The role may not, there is no such date, or the store fails.
pub async fn date(desk: &Desk, staff: &Staff, date: DateId) -> Result<DateSheet, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let house = house_of(conn)?;
            events::sheet(conn, house.currency, date, now)?.ok_or(DeskError::NotFound)
        })
        .await
}

/// Bookings by words.
///
/// # Errors
/// The role may not, or the store fails.
pub async fn bookings(
    desk: &Desk,
    staff: &Staff,
    filter: Filter,
) -> Result<(House, Vec<Listed>, u32), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            let (rows, count) = bookings::list(conn, &filter)?;
            Ok((house_of(conn)?, rows, count))
        })
        .await
}

/// A booking at the Office, with its messages.
///
/// # Errors
/// The role may not, there is no such booking, or the store fails.
pub async fn booking(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
) -> Result<(BookingSheet, Vec<Message>), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            let sheet = sheet_in(conn, reference)?;
            let messages = outbox::of_booking(conn, sheet.booking.id)?;
            Ok((sheet, messages))
        })
        .await
}
