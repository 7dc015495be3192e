//! Somebody without a ticket at the door: a walk-in, or somebody of the waiting list.

use jiff::{SignedDuration, Timestamp};
use matricle_core::booking::details::{self, Draft};
use matricle_core::booking::{self, Move};
use matricle_core::money::ledger::Method;
use matricle_core::money::price::Buyer;
use matricle_core::seats::Wanted;
use matricle_core::seats::waiting::Stands;
use matricle_core::{AttendeeId, BookingId, DateId, Money, TicketTypeId};
use matricle_store::bookings::{self, HeldBy};
use matricle_store::door::{self as db, Doorway};
use matricle_store::events::{self, Choices};
use matricle_store::waiting::{self, Waiter};
use matricle_store::{Connection, Tx};

use super::{Device, Outcome, Shown, Volunteer, at_open_door, gate_of, show_in};
use crate::acting::Turn;
use crate::bookings::moves::sweep;
use crate::bookings::moves::{With, firm};
use crate::bookings::reference::fresh_reference;
use crate::bookings::taking::take_in;
use crate::{Desk, DeskError, fresh_code, house_of};

/// A ticket that the door sells now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sold {
    /// The ticket type.
    pub ticket: TicketTypeId,
    /// Its name.
    pub name: String,
    /// What one costs now.
    pub price: Money,
    /// How many are left.
    pub left: u32,
}

/// Somebody in the line of the waiting list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InLine {
    /// Their key.
    pub id: i64,
    /// Their place, counted from one.
    pub place: u32,
    /// Their name.
    pub name: String,
    /// What they want, in words.
    pub wants: String,
    /// What it costs now.
    pub price: Money,
    /// There are seats for them now.
    pub fits: bool,
}

/// What a door can do for those without a ticket.
#[derive(Debug, Clone)]
pub struct ForWalkIns {
    /// Tickets it sells.
    pub tickets: Vec<Sold>,
    /// The waiting list, in order.
    pub line: Vec<InLine>,
    /// From when on the seats of those who have not come are given up; none where they never are.
    pub from: Option<Timestamp>,
    /// Seats of those who have not come that can be given now.
    pub given_up: u32,
    /// The code that words go with; money may be taken.
    pub takes_money: bool,
}

/// Somebody without a ticket who is let in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WalkIn {
    /// What they want; nothing for what they wait for.
    pub wanted: Vec<Wanted>,
    /// What the volunteer saw that it costs, in minor units.
    pub due_minor: i64,
    /// How they pay, if anything.
    pub method: Method,
    /// Their name; a walk-in needs none.
    pub name: String,
    /// Who they are on the waiting list.
    pub waiter: Option<i64>,
}

/// From when on the seats of those who have not come are given up.
fn given_up_from(doorway: &Doorway) -> Option<Timestamp> {
    let minutes = SignedDuration::from_mins(i64::from(doorway.give_up_minutes?));
    doorway.span.starts_at.checked_add(minutes).ok()
}

/// The date as its door sells it, and how many seats of those who have not come are in that.
fn at_door(
    conn: &Connection,
    doorway: &Doorway,
    date: DateId,
    now: Timestamp,
) -> Result<(Choices, u32), DeskError> {
    let house = house_of(conn)?;
    let mut sheet = events::choices(conn, house.currency, date, now)?.ok_or(DeskError::NotFound)?;
    let given_up = match given_up_from(doorway).is_some_and(|from| from <= now) {
        true => u32::try_from(db::not_come(conn, date)?.len()).unwrap_or(u32::MAX),
        false => 0,
    };
    // Those whose seats were given up already still count in the pools: somebody sits there.
    let given = given_up + db::given_up(conn, date)?;
    sheet.offer = sheet.offer.at_door(doorway.span.ends_at, given);
    Ok((sheet, given_up))
}

fn price_of(sheet: &Choices, wanted: &[Wanted], now: Timestamp) -> Option<Money> {
    booking::choose(&sheet.offer, wanted, &Buyer::default(), now).ok().map(|c| c.quote.total)
}

fn sold_at(sheet: &Choices, now: Timestamp) -> Vec<Sold> {
    let open = sheet.tickets.iter().zip(&sheet.offer.offers).filter(|(_, offer)| !offer.closed);
    open.filter_map(|(ticket, _)| {
        let one = [Wanted { ticket: ticket.id, quantity: 1 }];
        let price = price_of(sheet, &one, now);
        let left = sheet.offer.more(&[], ticket.id, &Buyer::default(), now);
        Some(Sold { ticket: ticket.id, name: ticket.name.clone(), price: price?, left })
    })
    .collect()
}

/// The tickets that a door sells now.
pub(super) fn sold(
    conn: &Connection,
    doorway: &Doorway,
    date: DateId,
    now: Timestamp,
) -> Result<Vec<Sold>, DeskError> {
    Ok(sold_at(&at_door(conn, doorway, date, now)?.0, now))
}

/// What a door can do for those without a ticket.
///
/// # Errors
/// The role may not, or the device is for other dates; the door is not open.
pub async fn for_walk_ins(
    desk: &Desk,
    who: impl Into<Volunteer>,
    date: DateId,
) -> Result<ForWalkIns, DeskError> {
    let volunteer = who.into();
    volunteer.checks_in_at(date, desk.clock.now())?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let doorway = at_open_door(conn, &volunteer, date, now)?;
            let (sheet, given_up) = at_door(conn, &doorway, date, now)?;
            let tickets = sold_at(&sheet, now);
            let named = |w: &Wanted| {
                let ticket = sheet.tickets.iter().find(|t| t.id == w.ticket);
                format!("{} × {}", w.quantity, ticket.map_or("", |t| &t.name))
            };
            let line = (1..)
                .zip(waiting::line(conn, date)?)
                .map(|(place, w): (u32, Waiter)| {
                    let price = price_of(&sheet, &w.wanted, now);
                    InLine {
                        id: w.id,
                        place,
                        name: w.name.clone(),
                        wants: w.wanted.iter().map(named).collect::<Vec<_>>().join(", "),
                        price: price.unwrap_or(sheet.offer.currency.of(0)),
                        fits: price.is_some(),
                    }
                })
                .collect();
            Ok(ForWalkIns {
                tickets,
                line,
                from: given_up_from(&doorway),
                given_up,
                takes_money: volunteer.may_take_money(),
            })
        })
        .await
}

/// Books, takes the money and lets in, in one. Where the seats are those of people who have not
/// come, the latest to book lose theirs, and hear so when they come after all. Sent again by the
/// device, it is done once.
///
/// # Errors
/// The seats are not there, or cost something else by now; the device takes no money; the role
/// may not.
pub async fn walk_in(
    desk: &Desk,
    who: impl Into<Volunteer>,
    (date, device): (DateId, Device),
    walk: WalkIn,
) -> Result<Outcome, DeskError> {
    let volunteer = who.into();
    volunteer.checks_in_at(date, desk.clock.now())?;
    let turn = desk.turn(volunteer.acting());
    let outcome = desk
        .store
        .write(move |tx| {
            let doorway = at_open_door(tx, &volunteer, date, turn.now)?;
            if let Some(before) = db::scan_by_key(tx, &device.key)? {
                return Outcome::of(before);
            }
            let here = (date, &doorway, &device);
            let booked = book_in(tx, &volunteer, here, &walk, Paid::Now, &turn)?;
            let first = booked.people.first().ok_or(DeskError::NotFound)?.0;
            let all_of = |id| Shown::Attendee(id);
            let mut outcome = show_in(tx, &volunteer, date, &device, &all_of(first), &turn)?;
            // All of them stand there; one undo takes all of them back.
            for (id, name) in std::mem::take(&mut outcome.told.others) {
                let key = format!("{}+{id}", device.key);
                let other = Device { key, ..device.clone() };
                let own = show_in(tx, &volunteer, date, &other, &all_of(id), &turn)?;
                outcome.told.with.push((own.scan, id, name));
            }
            Ok(outcome)
        })
        .await?;
    desk.wake.all();
    Ok(outcome)
}

/// How a walk-in is paid.
#[derive(Debug, Clone, Copy)]
pub(super) enum Paid<'a> {
    /// What it costs, now.
    Now,
    /// This much in cash, while the device could not ask, with the number of its receipt.
    Before {
        /// In minor units.
        minor: i64,
        /// Out of the device's own block.
        receipt: &'a str,
    },
}

/// A walk-in that was booked.
#[derive(Debug)]
pub(super) struct Booked {
    /// Who it is for.
    pub people: Vec<(AttendeeId, String)>,
    /// What was paid more than it costs, in minor units.
    pub over: i64,
}

pub(super) fn book_in(
    tx: &Tx<'_>,
    volunteer: &Volunteer,
    (date, doorway, device): (DateId, &Doorway, &Device),
    walk: &WalkIn,
    paid: Paid<'_>,
    turn: &Turn,
) -> Result<Booked, DeskError> {
    sweep(tx, date, turn)?;
    let waiter = match walk.waiter {
        Some(id) => Some(
            waiting::by_id(tx, id)?
                .filter(|w| w.date == date && w.stands == Stands::Waiting)
                .ok_or(DeskError::NotFound)?,
        ),
        None => None,
    };
    let wanted = waiter.as_ref().map_or(&walk.wanted, |w| &w.wanted);
    let (sheet, _) = at_door(tx, doorway, date, turn.now)?;
    let choice = booking::choose(&sheet.offer, wanted, &Buyer::default(), turn.now)?;
    let total = choice.quote.total;
    if let Paid::Now = paid {
        if total.minor != walk.due_minor {
            let old = total.currency.of(walk.due_minor);
            return Err(DeskError::PriceChanged { old, new: total });
        }
        if total.minor > 0 {
            volunteer.takes_money()?;
        }
        // Nobody pays for standing outside; whoever is in already is in.
        let gate = gate_of(tx, doorway, date, &device.door)?;
        let admits = |w: &Wanted| {
            let ticket = sheet.tickets.iter().find(|t| t.id == w.ticket);
            ticket.map_or(0, |t| t.admits.saturating_mul(w.quantity))
        };
        let coming = wanted.iter().map(admits).sum::<u32>();
        if let Some(most) = gate.most.filter(|most| gate.inside.saturating_add(coming) > *most) {
            return Err(DeskError::HallFull { inside: gate.inside, most });
        }
    }
    let reference = fresh_reference(tx)?;
    let id =
        bookings::hold(tx, &sheet, reference, &choice, fresh_code, &HeldBy::default(), turn.now)?;
    if let Some(waiter) = &waiter {
        waiting::set(tx, waiter, Stands::Taken, Some(id))?;
    }
    let name = match (waiter.as_ref(), walk.name.trim()) {
        (_, name) if !name.is_empty() => name.to_owned(),
        (Some(waiter), _) => waiter.name.clone(),
        (None, _) => format!("Walk-in {}", reference),
    };
    let email = waiter.as_ref().map_or_else(String::new, |w| w.email.clone());
    let draft = Draft { name, email, ..Draft::default() };
    let people = bookings::tickets_of_people(tx, id)?;
    let details = details::check_by_phone(&draft, &people, &[]).map_err(DeskError::Details)?;
    let person = match details.email.as_str() {
        "" => None,
        email => Some(matricle_store::people::know(tx, &details.name, email, turn.now)?),
    };
    let held = bookings::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
    bookings::complete(tx, &held, &details, &[], person)?;
    let what = match &waiter {
        Some(_) => "came from the waiting list at the door",
        None => "walked in",
    };
    bookings::happened(tx, id, turn.now, &turn.by, what)?;
    let held = bookings::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
    // Whoever is in already is booked for good, and owes what was not paid.
    let to_pay = match paid {
        Paid::Now => Move::AskByMail,
        Paid::Before { .. } => Move::Complete,
    };
    let made = firm(tx, &held, (Move::Complete, to_pay), turn, With::said(""))?;
    let due = made.due().minor;
    let (taken, note) = match paid {
        Paid::Now => (due, device.door.clone()),
        // What a device took that may take none stays a matter between people.
        Paid::Before { .. } if !volunteer.may_take_money() => (0, String::new()),
        Paid::Before { minor, receipt } => {
            (due.min(minor), format!("{}, receipt {receipt}", device.door))
        }
    };
    if taken > 0 {
        take_in(tx, &made, (walk.method, taken), &note, turn)?;
    }
    give_up(tx, (date, id), turn)?;
    let over = match paid {
        Paid::Now => 0,
        Paid::Before { minor, .. } => (minor - due).max(0),
    };
    Ok(Booked { people: db::others_expected(tx, id, date)?, over })
}

/// Where more seats are taken than there are, those who booked last and have not come lose
/// theirs.
fn give_up(tx: &Tx<'_>, (date, theirs): (DateId, BookingId), turn: &Turn) -> Result<(), DeskError> {
    let house = house_of(tx)?;
    let sheet = events::choices(tx, house.currency, date, turn.now)?.ok_or(DeskError::NotFound)?;
    let Some(pool) = sheet.offer.pools.first() else { return Ok(()) };
    let over = pool.taken.total().saturating_sub(pool.capacity);
    let lost = over.saturating_sub(db::given_up(tx, date)?);
    let mut absent = db::not_come(tx, date)?;
    absent.retain(|(_, booking, _)| *booking != theirs);
    for (attendee, booking, name) in absent.into_iter().take(lost as usize) {
        db::set_given_up(tx, attendee, Some(turn.now))?;
        let what = format!("{name} had not come: their seat went to somebody who waited");
        bookings::happened(tx, booking, turn.now, &turn.by, &what)?;
    }
    Ok(db::accept_over_full(tx, date)?)
}
