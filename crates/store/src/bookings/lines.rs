//! What bookings are for and what they are charged: lines, draws, people's rows.

use jiff::Timestamp;
use matricle_core::booking::Choice;
use matricle_core::booking::confirm::Way;
use matricle_core::money::line_worth::Worth;
use matricle_core::money::price::{self, Buyer, Quote};
use matricle_core::seats::Wanted;
use matricle_core::state::State;
use matricle_core::words::codes::TicketCode;
use matricle_core::{BookingId, Money, TicketTypeId};
use rusqlite::Connection;
use serde::{Deserialize, Serialize};

use super::Booking;
use crate::events::{Choices, way};
use crate::{Doing, StoreError, Tx, us};

/// One ticket type of a booking, at the price it was held for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChargedLine {
    /// The ticket type.
    pub ticket: TicketTypeId,
    /// Its name then.
    pub name: String,
    /// How many stand.
    pub quantity: u32,
    /// How many were cancelled one by one.
    pub cancelled: u32,
    /// The ordinary price of one.
    pub base: Money,
    /// The price of one.
    pub unit: Money,
    /// What promo codes take off.
    pub discount: Money,
    /// What it is charged, tax with it.
    pub charge: Money,
    /// What its tickets that stand come to, what was kept of those that were cancelled one by one,
    /// and what these came to.
    pub parts: Parts,
    /// The tax contained in that.
    pub tax: Money,
    /// Its rate, in hundredths of a percent.
    pub tax_basis: u32,
    /// The tax comes on top of the price.
    pub tax_added: bool,
    /// Whether its ticket type has a rule of its own for how bookings are confirmed.
    pub confirm: Option<Way>,
    /// Its people join online, where the event is both.
    pub online: bool,
    /// Stamp cards that were made of it: these stay bought, whatever is cancelled.
    pub cards: u32,
}

/// What a line's charge is made of, in minor units; see [`Worth`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Parts {
    /// What the tickets that stand come to.
    pub standing: i64,
    /// What was kept of those that were cancelled one by one.
    pub kept: i64,
    /// What these came to.
    pub gone: i64,
}

impl ChargedLine {
    /// `2 × Visitor`.
    #[must_use]
    pub fn label(&self) -> String {
        format!("{} × {}", self.quantity, self.name)
    }

    /// What core reckons with.
    #[must_use]
    pub fn worth(&self) -> Worth {
        Worth {
            quantity: self.quantity,
            unit: self.unit.minor,
            discount: self.discount.minor,
            standing: self.parts.standing,
            kept: self.parts.kept,
            gone: self.parts.gone,
            tax_basis: self.tax_basis,
            tax_added: self.tax_added,
            bought: self.cards > 0,
        }
    }
}

/// The lines of a booking.
pub fn lines(conn: &Connection, booking: &Booking) -> Result<Vec<ChargedLine>, StoreError> {
    let currency = booking.total.currency;
    conn.prepare_cached(
        "SELECT l.ticket_type_id, l.name, l.quantity, l.cancelled, l.base_minor, l.unit_minor, l.discount_minor,
            l.charge_minor, l.tax_minor, l.tax_basis, l.tax_added, t.after_yes,
            CASE WHEN t.card_kind_id IS NULL THEN 0 ELSE (SELECT count(*) FROM cards c
                WHERE c.booking_id = l.booking_id AND c.ticket_type_id = l.ticket_type_id) END, t.online,
            l.standing_minor, l.kept_minor, l.gone_minor
         FROM booking_lines l JOIN ticket_types t ON t.id = l.ticket_type_id
         WHERE l.booking_id = ?1 ORDER BY l.position",
    )
    .and_then(|mut q| {
        q.query_map([booking.id.0], |row| {
            Ok(ChargedLine {
                ticket: TicketTypeId(row.get(0)?),
                name: row.get(1)?,
                quantity: row.get(2)?,
                cancelled: row.get(3)?,
                base: currency.of(row.get(4)?),
                unit: currency.of(row.get(5)?),
                discount: currency.of(row.get(6)?),
                charge: currency.of(row.get(7)?),
                tax: currency.of(row.get(8)?),
                tax_basis: row.get(9)?,
                tax_added: row.get(10)?,
                confirm: way(row.get(11)?),
                cards: row.get(12)?,
                online: row.get(13)?,
                parts: Parts { standing: row.get(14)?, kept: row.get(15)?, gone: row.get(16)? },
            })
        })?
        .collect()
    })
    .doing("reading the lines of a booking")
}

/// Writes what becomes of each line, and the sum of what they are charged: what it is worth, and
/// what of that is charged.
fn write_charges(
    tx: &Tx<'_>,
    booking: &Booking,
    becomes: impl Fn(&ChargedLine) -> (Worth, i64),
) -> Result<(), StoreError> {
    let all = lines(tx, booking)?.into_iter().map(|l| {
        let (worth, minor) = becomes(&l);
        let tax = if minor == l.charge.minor {
            l.tax.minor
        } else {
            price::tax_within(minor, l.tax_basis)
        };
        Charged {
            ticket: l.ticket.0,
            quantity: worth.quantity,
            cancelled: l.cancelled + l.quantity.saturating_sub(worth.quantity),
            discount: worth.discount,
            charge: minor,
            tax,
            parts: Some(Parts { standing: worth.standing, kept: worth.kept, gone: worth.gone }),
        }
    });
    write_lines(tx, booking.id, all)
}

/// What stands of a line, and what it is charged; money in minor units.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Charged {
    pub(super) ticket: i64,
    pub(super) quantity: u32,
    cancelled: u32,
    discount: i64,
    charge: i64,
    tax: i64,
    /// Nothing for a line that was remembered before this was: then all it was charged stood.
    #[serde(default)]
    parts: Option<Parts>,
}

impl From<&ChargedLine> for Charged {
    fn from(l: &ChargedLine) -> Self {
        Self {
            ticket: l.ticket.0,
            quantity: l.quantity,
            cancelled: l.cancelled,
            discount: l.discount.minor,
            charge: l.charge.minor,
            tax: l.tax.minor,
            parts: Some(l.parts),
        }
    }
}

/// Writes lines of a booking, and its total.
pub(super) fn write_lines(
    tx: &Tx<'_>,
    id: BookingId,
    lines: impl IntoIterator<Item = Charged>,
) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        let mut line = tx.prepare_cached(
            "UPDATE booking_lines SET quantity = ?3, cancelled = ?4, discount_minor = ?5,
                charge_minor = ?6, tax_minor = ?7, standing_minor = ?8, kept_minor = ?9, gone_minor = ?10
             WHERE booking_id = ?1 AND ticket_type_id = ?2",
        )?;
        for l in lines {
            let p = l.parts.unwrap_or(Parts { standing: l.charge, ..Parts::default() });
            line.execute((
                id.0,
                l.ticket,
                l.quantity,
                l.cancelled,
                l.discount,
                l.charge,
                l.tax,
                p.standing,
                p.kept,
                p.gone,
            ))?;
        }
        sum_up(tx, id)
    };
    write().doing("writing what a booking is charged")
}

fn sum_up(tx: &Tx<'_>, id: BookingId) -> rusqlite::Result<()> {
    tx.prepare_cached(
        "UPDATE bookings SET total_minor =
            (SELECT coalesce(sum(charge_minor), 0) FROM booking_lines WHERE booking_id = ?1) WHERE id = ?1",
    )?
    .execute([id.0])
    .map(drop)
}

/// Takes so many percent of what each line is charged off it; the tickets stay named on it.
pub fn charge_less(tx: &Tx<'_>, booking: &Booking, percent: u32) -> Result<(), StoreError> {
    write_charges(tx, booking, |l| (l.worth(), l.worth().charge() - l.worth().back(percent)))
}

/// Charges the tickets that stand in full again, after a cancellation is taken back.
pub fn restore_charges(tx: &Tx<'_>, booking: &Booking) -> Result<(), StoreError> {
    write_charges(tx, booking, |l| (l.worth(), l.worth().charge()))
}

/// Charges a line a price for one that was set by hand; no promo code takes anything off it.
pub fn set_price(
    tx: &Tx<'_>,
    booking: &Booking,
    ticket: TicketTypeId,
    unit_minor: i64,
) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE booking_lines SET unit_minor = ?3, discount_minor = 0 WHERE booking_id = ?1 AND ticket_type_id = ?2",
    )
    .and_then(|mut q| q.execute((booking.id.0, ticket.0, unit_minor)))
    .doing("setting a price by hand")?;
    write_charges(tx, booking, |l| {
        let worth = if l.ticket == ticket { l.worth().at(unit_minor) } else { l.worth() };
        (worth, worth.charge())
    })
}

/// Charges a booking an amount for everything together that was set by hand, spread over
/// its lines. What its tickets are worth follows while it stands; of a cancelled one it is what
/// the cancellation leaves.
pub fn set_total(tx: &Tx<'_>, booking: &Booking, minor: i64) -> Result<(), StoreError> {
    let all = lines(tx, booking)?;
    let mut weights: Vec<i64> = all.iter().map(|l| l.charge.minor).collect();
    if weights.iter().all(|w| *w == 0) {
        weights = all.iter().map(|l| i64::from(l.quantity)).collect();
    }
    let parts = matricle_core::money::promo::spread(minor, &weights);
    write_charges(tx, booking, |l| {
        let at = all.iter().position(|o| o.ticket == l.ticket).unwrap_or(0);
        let worth = l.worth();
        let cancelled = booking.state == State::Cancelled;
        (if cancelled { worth } else { worth.charged(parts[at]) }, parts[at])
    })
}

/// What taking tickets off a booking would give back at so many percent, line by line:
/// the ticket type, how many, and the amount.
pub fn worth(
    conn: &Connection,
    booking: &Booking,
    gone: &[(TicketTypeId, u32)],
    percent: u32,
) -> Result<i64, StoreError> {
    let lines = lines(conn, booking)?;
    Ok(lines.iter().map(|l| l.worth().part_back(gone_of(gone, l), percent)).sum())
}

fn gone_of(gone: &[(TicketTypeId, u32)], line: &ChargedLine) -> u32 {
    gone.iter().filter(|(t, _)| *t == line.ticket).map(|(_, n)| n).sum::<u32>().min(line.quantity)
}

/// Takes tickets off a booking that stands, by their numbers on it; its people, seats and
/// charge follow, and of their price so many percent are no longer charged.
pub fn take_off(
    tx: &Tx<'_>,
    booking: &Booking,
    ticket_numbers: &[u32],
    percent: u32,
    now: Timestamp,
) -> Result<(), StoreError> {
    let gone = tickets_of_numbers(tx, booking.id, ticket_numbers)?;
    write_charges(tx, booking, |l| {
        let n = gone_of(&gone, l);
        let left = l.worth().without(n, percent);
        (left, left.charge())
    })?;
    let write = || -> rusqlite::Result<()> {
        let mut off = tx.prepare_cached(
            "UPDATE attendees SET cancelled_at = ?3 WHERE booking_id = ?1 AND ticket_no = ?2 AND cancelled_at IS NULL",
        )?;
        for number in ticket_numbers {
            off.execute((booking.id.0, number, us(now)))?;
        }
        tx.prepare_cached(
            "DELETE FROM sign_ups WHERE attendee_id IN
                (SELECT id FROM attendees WHERE booking_id = ?1 AND cancelled_at IS NOT NULL)",
        )?
        .execute([booking.id.0])
        .map(drop)
    };
    write().doing("taking tickets off")?;
    change_draws(tx, booking, |ticket| {
        -i64::from(gone.iter().filter(|(t, _)| *t == ticket).map(|(_, n)| n).sum::<u32>())
    })
}

/// The ticket types of tickets by their numbers on a booking, and how many of each.
pub fn tickets_of_numbers(
    conn: &Connection,
    id: BookingId,
    numbers: &[u32],
) -> Result<Vec<(TicketTypeId, u32)>, StoreError> {
    let all: Vec<(u32, TicketTypeId)> = conn
        .prepare_cached(
            "SELECT DISTINCT ticket_no, ticket_type_id FROM attendees
             WHERE booking_id = ?1 AND cancelled_at IS NULL",
        )
        .and_then(|mut q| {
            q.query_map([id.0], |row| Ok((row.get(0)?, TicketTypeId(row.get(1)?))))?.collect()
        })
        .doing("reading the tickets of a booking")?;
    let mut counted: Vec<(TicketTypeId, u32)> = Vec::new();
    for (_, ticket) in all.into_iter().filter(|(n, _)| numbers.contains(n)) {
        match counted.iter_mut().find(|(t, _)| *t == ticket) {
            Some(known) => known.1 += 1,
            None => counted.push((ticket, 1)),
        }
    }
    Ok(counted)
}

/// Changes what a booking draws by so many tickets of each type, and the pools with it.
pub(super) fn change_draws(
    tx: &Tx<'_>,
    booking: &Booking,
    by: impl Fn(TicketTypeId) -> i64,
) -> Result<(), StoreError> {
    if booking.test {
        return Ok(());
    }
    let rows: Vec<(i64, TicketTypeId, i64, i64)> = tx
        .prepare_cached(
            "SELECT bd.pool_id, d.ticket_type_id, d.seats, bd.seats FROM booking_draws bd
             JOIN pools p ON p.id = bd.pool_id JOIN draws d ON d.kind_id = p.kind_id
             JOIN booking_lines l ON l.booking_id = bd.booking_id AND l.ticket_type_id = d.ticket_type_id
             WHERE bd.booking_id = ?1",
        )
        .and_then(|mut q| {
            q.query_map([booking.id.0], |row| {
                Ok((row.get(0)?, TicketTypeId(row.get(1)?), row.get(2)?, row.get(3)?))
            })?
            .collect()
        })
        .doing("reading what tickets draw")?;
    let mut pools: Vec<(i64, i64, i64)> = Vec::new();
    for (pool, ticket, each, drawn) in rows {
        let change = by(ticket) * each;
        match pools.iter_mut().find(|p| p.0 == pool) {
            Some(known) => known.1 += change,
            None => pools.push((pool, change, drawn)),
        }
    }
    // A ticket may draw something else since it was booked: nothing falls below nothing.
    let changes = pools.into_iter().map(|(pool, change, drawn)| (pool, change.max(-drawn)));
    for (pool, change) in changes.filter(|(_, change)| *change != 0) {
        super::shift_pool(tx, booking, pool, change)?;
    }
    Ok(())
}

/// The tickets a booking is for, as a choice to be made again.
pub fn wanted(conn: &Connection, id: BookingId) -> Result<Vec<Wanted>, StoreError> {
    conn.prepare_cached("SELECT ticket_type_id, quantity FROM booking_lines WHERE booking_id = ?1")
        .and_then(|mut q| {
            q.query_map([id.0], |row| {
                Ok(Wanted { ticket: TicketTypeId(row.get(0)?), quantity: row.get(1)? })
            })?
            .collect()
        })
        .doing("reading the lines of a booking")
}

/// Puts another choice in the place of a hold's tickets; what has been typed stays.
/// The booking must keep no seats while this is done.
pub fn choose_again(
    tx: &Tx<'_>,
    booking: &Booking,
    choice: &Choice,
    sheet: &Choices,
    buyer: &Buyer,
    code: impl FnMut() -> TicketCode,
) -> Result<(), StoreError> {
    for sql in [
        "DELETE FROM booking_lines WHERE booking_id = ?1",
        "DELETE FROM booking_draws WHERE booking_id = ?1",
        "DELETE FROM sign_ups WHERE attendee_id IN (SELECT id FROM attendees WHERE booking_id = ?1)",
        "DELETE FROM attendees WHERE booking_id = ?1",
    ] {
        tx.prepare_cached(sql)
            .and_then(|mut q| q.execute([booking.id.0]))
            .doing("clearing a choice")?;
    }
    tx.prepare_cached("UPDATE bookings SET total_minor = ?2, word = ?3, member = ?4 WHERE id = ?1")
        .and_then(|mut q| {
            q.execute((booking.id.0, choice.quote.total.minor, &buyer.word, buyer.member))
        })
        .doing("writing a choice")?;
    choose(tx, booking.id, choice, sheet, booking.test, code)
}

/// Takes the same tickets at what they cost and draw now. The booking must keep no
/// seats while this is done.
pub fn reprice(tx: &Tx<'_>, booking: &Booking, choice: &Choice) -> Result<(), StoreError> {
    price_anew(tx, booking, &choice.quote)?;
    let write = || -> rusqlite::Result<()> {
        tx.prepare_cached("DELETE FROM booking_draws WHERE booking_id = ?1")?
            .execute([booking.id.0])?;
        draw(tx, booking.id, choice, booking.test)
    };
    write().doing("taking the same tickets again")
}

/// Writes what the same tickets cost now.
pub fn price_anew(tx: &Tx<'_>, booking: &Booking, quote: &Quote) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        let mut line = tx.prepare_cached(
            "UPDATE booking_lines SET base_minor = ?3, unit_minor = ?4, discount_minor = ?5,
                charge_minor = ?6, tax_minor = ?7, tax_basis = ?8, tax_added = ?9,
                standing_minor = ?6, kept_minor = 0, gone_minor = 0
             WHERE booking_id = ?1 AND ticket_type_id = ?2",
        )?;
        for l in &quote.lines {
            line.execute((
                booking.id.0,
                l.ticket.0,
                l.base.minor,
                l.unit.minor,
                l.discount.minor,
                l.total.minor,
                l.tax.minor,
                l.tax_basis,
                l.tax_added,
            ))?;
        }
        tx.prepare_cached("UPDATE bookings SET total_minor = ?2 WHERE id = ?1")?
            .execute((booking.id.0, quote.total.minor))
            .map(drop)
    };
    write().doing("writing what a booking costs")
}

fn draw(tx: &Tx<'_>, id: BookingId, choice: &Choice, test: bool) -> rusqlite::Result<()> {
    if test {
        return Ok(());
    }
    let mut insert = tx.prepare_cached(
        "INSERT INTO booking_draws (booking_id, pool_id, seats) VALUES (?1, ?2, ?3)",
    )?;
    for draw in &choice.draws {
        insert.execute((id.0, draw.pool.0, draw.seats))?;
    }
    Ok(())
}

pub(super) fn choose(
    tx: &Tx<'_>,
    id: BookingId,
    choice: &Choice,
    sheet: &Choices,
    test: bool,
    mut code: impl FnMut() -> TicketCode,
) -> Result<(), StoreError> {
    let mut write = || -> rusqlite::Result<()> {
        let people = add_lines(tx, id, choice, sheet, 0)?;
        let mut insert_attendee = tx.prepare_cached(
            "INSERT INTO attendees (booking_id, date_id, position, person_no, ticket_no, ticket_name, code, ticket_type_id)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
        )?;
        // A person's place and number are the same on the first date only.
        let mut place = 0;
        for date in &sheet.covers {
            for (person, (number, ticket, name)) in (0i64..).zip(&people) {
                let code = unused(tx, &mut code)?;
                insert_attendee.execute((
                    id.0,
                    date.0,
                    place,
                    person,
                    number,
                    name,
                    code.as_str(),
                    ticket.0,
                ))?;
                place += 1;
            }
        }
        draw(tx, id, choice, test)
    };
    write().doing("writing the tickets of a booking")
}

/// Writes lines, or makes those there are longer; gives the number, the type and the name of
/// the ticket of each person they let in.
fn add_lines<'s>(
    tx: &Tx<'_>,
    id: BookingId,
    choice: &Choice,
    sheet: &'s Choices,
    first_number: u32,
) -> rusqlite::Result<Vec<(u32, TicketTypeId, &'s str)>> {
    let mut insert = tx.prepare_cached(
        "INSERT INTO booking_lines (booking_id, ticket_type_id, position, name, quantity, base_minor, unit_minor,
            discount_minor, charge_minor, tax_minor, tax_basis, tax_added, standing_minor)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?9)
         ON CONFLICT (booking_id, ticket_type_id) DO UPDATE SET quantity = quantity + excluded.quantity,
            discount_minor = discount_minor + excluded.discount_minor,
            charge_minor = charge_minor + excluded.charge_minor,
            standing_minor = standing_minor + excluded.standing_minor, tax_minor = tax_minor + excluded.tax_minor",
    )?;
    let mut people: Vec<(u32, TicketTypeId, &str)> = Vec::new();
    let mut number = first_number;
    for (position, line) in (i64::from(first_number)..).zip(&choice.quote.lines) {
        let Some(ticket) = sheet.tickets.iter().find(|t| t.id == line.ticket) else { continue };
        insert.execute(rusqlite::params![
            id.0,
            ticket.id.0,
            position,
            ticket.name,
            line.quantity,
            line.base.minor,
            line.unit.minor,
            line.discount.minor,
            line.total.minor,
            line.tax.minor,
            line.tax_basis,
            line.tax_added,
        ])?;
        for _ in 0..line.quantity {
            people.extend((0..ticket.admits).map(|_| (number, ticket.id, ticket.name.as_str())));
            number += 1;
        }
    }
    Ok(people)
}

/// Adds tickets to a booking that stands, at what they cost now; their people come after
/// those there are, their seats are counted as the booking's are.
pub fn add_on(
    tx: &Tx<'_>,
    booking: &Booking,
    choice: &Choice,
    sheet: &Choices,
    mut code: impl FnMut() -> TicketCode,
) -> Result<(), StoreError> {
    let mut write = || -> rusqlite::Result<()> {
        let (next_number, next_person): (u32, i64) = tx
            .prepare_cached(
                "SELECT coalesce(max(ticket_no), -1) + 1, coalesce(max(person_no), -1) + 1 FROM attendees WHERE booking_id = ?1",
            )?
            .query_row([booking.id.0], |row| Ok((row.get(0)?, row.get(1)?)))?;
        let people = add_lines(tx, booking.id, choice, sheet, next_number)?;
        sum_up(tx, booking.id)?;
        // Places are told anew, those of the first date first: there a person's place is
        // their number.
        tx.prepare_cached("UPDATE attendees SET position = -1 - position WHERE booking_id = ?1")?
            .execute([booking.id.0])?;
        let mut insert = tx.prepare_cached(
            "INSERT INTO attendees (booking_id, date_id, position, person_no, ticket_no, ticket_name, code, ticket_type_id)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
        )?;
        let mut place = -1_000_000;
        for date in &sheet.covers {
            for (person, (number, ticket, name)) in (next_person..).zip(&people) {
                place -= 1;
                let code = unused(tx, &mut code)?;
                insert.execute((
                    booking.id.0,
                    date.0,
                    place,
                    person,
                    number,
                    name,
                    code.as_str(),
                    ticket.0,
                ))?;
            }
        }
        let order: Vec<i64> = tx
            .prepare_cached(
                "SELECT a.id FROM attendees a JOIN dates d ON d.id = a.date_id
                 WHERE a.booking_id = ?1 ORDER BY d.starts_at, d.id, a.person_no",
            )?
            .query_map([booking.id.0], |row| row.get(0))?
            .collect::<Result<_, _>>()?;
        let mut set = tx.prepare_cached("UPDATE attendees SET position = ?2 WHERE id = ?1")?;
        for (position, attendee) in (0i64..).zip(order) {
            set.execute((attendee, position))?;
        }
        Ok(())
    };
    write().doing("adding tickets to a booking")?;
    if booking.test {
        return Ok(());
    }
    for draw in &choice.draws {
        super::draw_more(tx, booking, draw)?;
    }
    Ok(())
}

/// A ticket code that no ticket has, and that none had: of 40 random bits, one in a million is
/// somebody's in a house of a million tickets.
pub(super) fn unused(
    tx: &Tx<'_>,
    mut code: impl FnMut() -> TicketCode,
) -> rusqlite::Result<TicketCode> {
    let mut given = tx.prepare_cached(
        "SELECT EXISTS (SELECT 1 FROM attendees WHERE code = ?1) OR EXISTS (SELECT 1 FROM dead_codes WHERE code = ?1)",
    )?;
    loop {
        let fresh = code();
        if !given.query_row([fresh.as_str()], |row| row.get(0))? {
            return Ok(fresh);
        }
    }
}
