//! What the Programme shows.

use matricle_core::details::Question;
use matricle_store::StoreError;
use matricle_store::events::{self, DateSheet, DateSummary, Event, Listing};
use matricle_store::house::House;

use crate::{Desk, DeskError, house_of};

/// Coming dates of published events, soonest first.
///
/// # Errors
/// The store fails.
pub async fn catalogue(desk: &Desk) -> Result<(House, Vec<DateSummary>), DeskError> {
    let now = desk.clock.now();
    desk.store
        .read(move |conn| Ok((house_of(conn)?, events::list(conn, Listing::Coming, now)?)))
        .await
}

/// An event with its coming dates.
#[derive(Debug, Clone)]
pub struct EventPage {
    /// The house.
    pub house: House,
    /// The event.
    pub event: Event,
    /// Dates that are not over, soonest first; may be empty.
    pub dates: Vec<DateSheet>,
    /// Questions asked while booking.
    pub questions: Vec<Question>,
}

/// A published event by its address.
///
/// # Errors
/// [`DeskError::NotFound`], or the store fails.
pub async fn event(desk: &Desk, slug: String) -> Result<EventPage, DeskError> {
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let house = house_of(conn)?;
            let event = events::published(conn, &slug)?.ok_or(DeskError::NotFound)?;
            let coming = events::dates_of(conn, event.id)?;
            let dates = coming
                .into_iter()
                .filter(|date| date.span.ends_at > now)
                .filter_map(|date| events::sheet(conn, house.currency, date.id, now).transpose())
                .collect::<Result<Vec<_>, StoreError>>()?;
            let questions = events::questions(conn, event.id)?;
            Ok(EventPage { house, event, dates, questions })
        })
        .await
}
