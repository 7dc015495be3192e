//! Serving who waits: what comes free is offered in the order of the list.

use jiff::{SignedDuration, Timestamp};
use matricle_core::DateId;
use matricle_core::booking;
use matricle_core::booking::details::Draft;
use matricle_core::messages::occasion::Occasion;
use matricle_core::money::price::Buyer;
use matricle_core::people::acting::Acting;
use matricle_core::seats::waiting::{Manner, Party, Stands, serve};
use matricle_store::bookings::{self, Booking, HeldBy};
use matricle_store::events::{self, Choices, Event};
use matricle_store::waiting::{self, Waiter};
use matricle_store::{Connection, Tx};

use crate::bookings::reference::fresh_reference;
use crate::{DeskError, fresh_code, house_of, telling};

/// The date whose list somebody joins: a course has one list, at its first date.
pub(crate) fn list_date(conn: &Connection, date: DateId) -> Result<DateId, DeskError> {
    let (event, _) = events::date_by_id(conn, date)?.ok_or(DeskError::NotFound)?;
    if !event.course {
        return Ok(date);
    }
    Ok(events::dates_of(conn, event.id)?.first().map_or(date, |d| d.id))
}

/// What a date offers, whatever the state of its event.
pub(crate) fn choices_of(
    conn: &Connection,
    date: DateId,
    now: Timestamp,
) -> Result<Choices, DeskError> {
    let house = house_of(conn)?;
    events::choices(conn, house.currency, date, now)?.ok_or(DeskError::NotFound)
}

/// Tells somebody who waits.
pub(crate) fn tell(
    tx: &Tx<'_>,
    event: &Event,
    (id, email): (i64, &str),
    occasion: Occasion,
    now: Timestamp,
) -> Result<(), DeskError> {
    let house = house_of(tx)?;
    let host = house.email.rsplit_once('@').map_or("localhost", |(_, domain)| domain);
    telling::tell_waiter(tx, event.id, telling::Waiting { id, email }, occasion, host, now)
}

/// Serves the list of a date from what is free, in the transaction that freed it.
pub(crate) fn serve_date(tx: &Tx<'_>, date: DateId, now: Timestamp) -> Result<(), DeskError> {
    let list = list_date(tx, date)?;
    let line = waiting::line(tx, list)?;
    if line.is_empty() {
        return Ok(());
    }
    let sheet = choices_of(tx, list, now)?;
    if sheet.offer.bars(now).is_some() || sheet.offer.starts_at <= now {
        return Ok(());
    }
    match sheet.event.rules.waiting {
        Manner::Off => Ok(()),
        Manner::OfferFirst => {
            let parties: Vec<Party> =
                line.iter().map(|w| Party { id: w.id, wanted: w.wanted.clone() }).collect();
            let serving = serve(&sheet.offer.pools, &sheet.offer.tickets(), &parties);
            for waiter in line.iter().filter(|w| serving.offered.contains(&w.id)) {
                let what = "offered seats from the waiting list";
                offer(tx, waiter, what, now)?;
            }
            for id in serving.passed_over {
                waiting::passed_over(tx, id)?;
                if let Some(waiter) = line.iter().find(|w| w.id == id) {
                    let who = (waiter.id, waiter.email.as_str());
                    tell(tx, &sheet.event, who, Occasion::PassedOver, now)?;
                }
            }
            Ok(())
        }
        Manner::TellAll => {
            for waiter in &line {
                let fits = matricle_core::seats::take(
                    &sheet.offer.pools,
                    &sheet.offer.tickets(),
                    &waiter.wanted,
                );
                if fits.is_ok() && waiting::tell(tx, waiter.id, now)? {
                    tell(tx, &sheet.event, (waiter.id, &waiter.email), Occasion::SeatsFree, now)?;
                }
            }
            Ok(())
        }
    }
}

/// Holds seats for somebody on the list and tells them; says whether it could.
pub(crate) fn offer(
    tx: &Tx<'_>,
    waiter: &Waiter,
    what: &str,
    now: Timestamp,
) -> Result<bool, DeskError> {
    let mut sheet = choices_of(tx, waiter.date, now)?;
    let until = (now + SignedDuration::from_hours(i64::from(sheet.event.rules.offer_hours.max(1))))
        .min(sheet.offer.starts_at);
    sheet.offer.hold = until.duration_since(now);
    let member = matricle_store::people::is_member(tx, &waiter.email)?;
    let by = HeldBy { buyer: Buyer { member, ..Buyer::default() }, ..HeldBy::default() };
    let Ok(choice) = booking::choose(&sheet.offer, &waiter.wanted, &by.buyer, now) else {
        return Ok(false);
    };
    let reference = fresh_reference(tx)?;
    let id = bookings::hold(tx, &sheet, reference, &choice, fresh_code, &by, now)?;
    let draft =
        Draft { name: waiter.name.clone(), email: waiter.email.clone(), ..Draft::default() };
    bookings::keep_draft(tx, id, &draft)?;
    bookings::happened(tx, id, now, &Acting::program(), what)?;
    waiting::set(tx, waiter, Stands::Offered, Some(id))?;
    tell(tx, &sheet.event, (waiter.id, &waiter.email), Occasion::Offered, now)?;
    Ok(true)
}

/// Follows what became of an offer: the seats were taken, or its time is over.
pub(crate) fn follow(tx: &Tx<'_>, booking: &Booking, stands: Stands) -> Result<(), DeskError> {
    if let Some(waiter) = waiting::of_booking(tx, booking.id)?
        && waiter.stands != Stands::Taken
    {
        waiting::set(tx, &waiter, stands, None)?;
    }
    Ok(())
}
