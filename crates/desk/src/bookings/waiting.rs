//! The waiting list: joining, offers, leaving.
//!
//! A seat on offer is held by a booking of its own, so it is on sale to nobody else; freed
//! seats are served to the list in the transaction that frees them.

use jiff::Timestamp;
use matricle_core::DateId;
use matricle_core::booking::{self, ChoiceRefusal};
use matricle_core::fields;
use matricle_core::forms::form::Form;
use matricle_core::messages::occasion::Occasion;
use matricle_core::money::price::Buyer;
use matricle_core::people::acting::Acting;
use matricle_core::people::staff::{Right, require};
use matricle_core::people::who::is_proved;
use matricle_core::seats::Wanted;
use matricle_core::seats::waiting::{Manner, Stands};
use matricle_store::Connection;
use matricle_store::bookings::{self, Booking};
use matricle_store::events::{self, Choices, Date, Event};
use matricle_store::house::House;
use matricle_store::people::Staff;
use matricle_store::waiting::{self, Waiter};

use crate::bookings::moves::{lapse, sweep};
use crate::bookings::serving::{choices_of, list_date, offer, tell};
use crate::people::asking::Asking;
use crate::{Desk, DeskError, house_of};

fields! {
    NAME: Line = "name", "Your name" needed;
    EMAIL: MailAddress = "email", "Your e-mail address",
        "We write there when seats come free." needed;
}

/// Somebody's place on a list, and whether it may be shown to whoever asked for it: only to
/// one who has proved the address. Everybody else is told by a mail to that address, where
/// the list knows it already as well, so that nobody learns who waits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Joined {
    /// The place.
    pub id: i64,
    /// The address was proved.
    pub proved: bool,
}

/// Joins the list of a date, with the tickets wanted.
///
/// # Errors
/// The event keeps no list; seats are free after all ([`DeskError::SeatsFree`]); fields that
/// need another look; mails to this address were asked for too often.
pub async fn join(
    desk: &Desk,
    date: DateId,
    wanted: Vec<Wanted>,
    asking: &Asking,
    mut form: Form,
) -> Result<Joined, DeskError> {
    let (name, email) = (form.take(&NAME), form.take(&EMAIL));
    let (turn, asking) = (desk.turn(Acting::booker()), asking.clone());
    let (secrets, often) = (desk.secrets.clone(), desk.often.clone());
    let joined = desk
        .store
        .write(move |tx| {
            form.done().map_err(DeskError::Form)?;
            let now = turn.now;
            sweep(tx, date, &turn)?;
            let sheet = choices_of(tx, date, now)?;
            let address = asking.address(tx, &secrets, sheet.event.id, now)?;
            let proved = is_proved(&email, address.as_deref()).is_ok();
            let buyer = Buyer {
                member: asking.member,
                address: address.unwrap_or_default(),
                ..Buyer::default()
            };
            if sheet.event.rules.waiting == Manner::Off {
                return Err(DeskError::NotFound);
            }
            match booking::choose(&sheet.offer, &wanted, &buyer, now) {
                Ok(_) => return Err(DeskError::SeatsFree),
                // A party that could never fit waits for nothing.
                Err(ChoiceRefusal::Seats(_)) if fits_ever(&sheet, &wanted) => {}
                Err(refusal) => return Err(refusal.into()),
            }
            if !proved {
                often.stranger_mail(&email, asking.from, now)?;
            }
            let list = list_date(tx, date)?;
            let id = match waiting::waits(tx, list, &email)? {
                Some(known) => known,
                None => waiting::join(tx, list, &name, &email, &wanted, now)?,
            };
            tell(tx, &sheet.event, (id, &email), Occasion::Joined, now)?;
            Ok(Joined { id, proved })
        })
        .await?;
    desk.wake.all();
    Ok(joined)
}

/// Whether a party could have its seats were nobody else there.
fn fits_ever(sheet: &Choices, wanted: &[Wanted]) -> bool {
    let mut pools = sheet.offer.pools.clone();
    pools.iter_mut().for_each(|p| p.taken = Default::default());
    let mut tickets = sheet.offer.tickets();
    tickets.iter_mut().for_each(|t| t.sold = 0);
    matricle_core::seats::take(&pools, &tickets, wanted).is_ok()
}

/// Offers seats to somebody out of turn, with a reason that stays on the booking.
///
/// # Errors
/// The seats are not there; they do not wait any more; the role may not.
pub async fn out_of_turn(
    desk: &Desk,
    staff: &Staff,
    id: i64,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    let reason = form.needed("reason");
    desk.store
        .write(move |tx| {
            form.done().map_err(DeskError::Form)?;
            let waiter = waiting::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            if waiter.stands != Stands::Waiting && waiter.stands != Stands::Passed {
                return Err(DeskError::NotFound);
            }
            let now = turn.now;
            sweep(tx, waiter.date, &turn)?;
            let what = format!("offered seats out of turn by {}: {reason}", turn.by.name);
            if offer(tx, &waiter, &what, now)? {
                Ok(())
            } else {
                let sheet = choices_of(tx, waiter.date, now)?;
                Err(booking::choose(&sheet.offer, &waiter.wanted, &Buyer::default(), now)
                    .err()
                    .map_or(DeskError::NotFound, DeskError::from))
            }
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Somebody's place on a list.
#[derive(Debug, Clone)]
pub struct Place {
    /// The house.
    pub house: House,
    /// The event.
    pub event: Event,
    /// The date.
    pub date: Date,
    /// Who waits.
    pub waiter: Waiter,
    /// Their place in the line, counted from one, while they wait.
    pub place: u32,
    /// How many wait.
    pub line: u32,
    /// The booking that holds the seats on offer to them.
    pub offer: Option<Booking>,
    /// The names of the tickets they want.
    pub tickets: Vec<String>,
}

pub(crate) fn place_of(conn: &Connection, id: i64) -> Result<Place, DeskError> {
    let waiter = waiting::by_id(conn, id)?.ok_or(DeskError::NotFound)?;
    let (event, date) = events::date_by_id(conn, waiter.date)?.ok_or(DeskError::NotFound)?;
    let line = waiting::line(conn, waiter.date)?;
    let before = line.iter().take_while(|w| w.id != id).count();
    let names = events::ticket_rows(conn, event.id)?;
    let tickets = waiter
        .wanted
        .iter()
        .map(|w| {
            let name = names.iter().find(|t| t.id == w.ticket).map_or("", |t| &t.plan.name);
            format!("{} × {name}", w.quantity)
        })
        .collect();
    let offer = match waiter.booking {
        Some(booking) => bookings::by_id(conn, booking)?,
        None => None,
    };
    let count = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
    Ok(Place {
        house: house_of(conn)?,
        event,
        date,
        place: count(before) + 1,
        line: count(line.len()),
        waiter,
        offer,
        tickets,
    })
}

/// Somebody's place on a list, for whoever has its secret address.
///
/// # Errors
/// [`DeskError::NotFound`], or the store fails.
pub async fn place(desk: &Desk, id: i64) -> Result<Place, DeskError> {
    desk.store.read(move |conn| place_of(conn, id)).await
}

/// How many parties wait for a date.
pub async fn count(desk: &Desk, date: DateId) -> Result<u32, DeskError> {
    desk.store
        .read(move |conn| {
            let list = list_date(conn, date)?;
            Ok(waiting::count(conn, list, Stands::Waiting)?)
        })
        .await
}

/// How many parties wait for a date, and how many of its list have seats on offer.
pub async fn counts(desk: &Desk, staff: &Staff, date: DateId) -> Result<(u32, u32), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            let list = list_date(conn, date)?;
            let of = |stands| waiting::count(conn, list, stands);
            Ok((of(Stands::Waiting)?, of(Stands::Offered)?))
        })
        .await
}

/// Leaves a list; seats on offer go to the next.
///
/// # Errors
/// [`DeskError::NotFound`], or the store fails.
pub async fn leave(desk: &Desk, id: i64) -> Result<(), DeskError> {
    let turn = desk.turn(Acting::booker());
    desk.store
        .write(move |tx| {
            let waiter = waiting::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            if !matches!(waiter.stands, Stands::Waiting | Stands::Offered) {
                return Ok(());
            }
            if let Some(booking) = waiter.booking
                && let Some(booking) = bookings::by_id(tx, booking)?
                && booking.state == booking::State::Held
            {
                lapse(tx, &booking, &turn)?;
            }
            // Last, so that they have left, and are not said to have let the time pass.
            waiting::set(tx, &waiter, Stands::Left, None)?;
            Ok::<_, DeskError>(())
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// The list of a date, for the Office.
pub async fn list(desk: &Desk, staff: &Staff, date: DateId) -> Result<Vec<Place>, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            let list = list_date(conn, date)?;
            waiting::all(conn, list)?.into_iter().map(|w| place_of(conn, w.id)).collect()
        })
        .await
}

/// What the tickets somebody waits for cost now, in minor units.
pub(crate) fn price_of(conn: &Connection, waiter: &Waiter, now: Timestamp) -> Option<i64> {
    let sheet = choices_of(conn, waiter.date, now).ok()?;
    let prices: Vec<_> = sheet.offer.offers.iter().map(|o| o.price.clone()).collect();
    let buyer = Buyer::default();
    let quote = matricle_core::money::price::quote(
        sheet.offer.currency,
        &prices,
        &waiter.wanted,
        &buyer,
        now,
    );
    quote.ok().map(|q| q.total.minor)
}
