//! What a date offers to choose from, with its seats and prices as they are now.

use std::collections::HashMap;
use std::rc::Rc;

use jiff::Timestamp;
use matricle_core::booking::details::Question;
use matricle_core::booking::{DateOffer, Offer};
use matricle_core::dates::availability::OnSale;
use matricle_core::dates::schedule::SaleWindow;
use matricle_core::dates::slots::Notice;
use matricle_core::money::price::Share;
use matricle_core::seats::{Pool, Taken};
use matricle_core::{Currency, DateId, EventId, PoolId};
use rusqlite::{Connection, OptionalExtension, Row};

use crate::convert::foreign;
use crate::events::dates::{Date, date_by_id, dates_of, inside, pools};
use crate::events::event::Event;
use crate::events::questions::questions;
use crate::events::tickets::{TicketType, ticket_types};
use crate::{Doing, StoreError, Tx, house};

/// A date with all that choosing tickets needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Choices {
    /// The event.
    pub event: Event,
    /// The date; for a course the next one.
    pub date: Date,
    /// Ticket types in their order, each beside the offer at the same place.
    pub tickets: Vec<TicketType>,
    /// Pools and offers. For a course: the pools of all dates that are left.
    pub offer: DateOffer,
    /// People who are in.
    pub inside: u32,
    /// Dates a booking covers: this one, or those left of a course.
    pub covers: Vec<DateId>,
}

impl Choices {
    /// The pool its strip shows; the first one. A date without pools shows an empty one.
    #[must_use]
    pub fn main_pool(&self) -> Pool {
        self.offer.pools.first().cloned().unwrap_or(Pool {
            id: PoolId(0),
            name: "seats".into(),
            capacity: 0,
            taken: Taken::default(),
        })
    }
}

/// Tickets that a stranger sees: those without a word.
pub(crate) const SHOWN: &str = "t.event_id = e.id AND t.retired = 0 AND t.code = ''";

pub(crate) fn on_sale(row: &Row<'_>) -> rusqlite::Result<Vec<OnSale>> {
    let text: String = row.get("on_sale")?;
    let tickets: Vec<(Option<i64>, Option<i64>, i64, i64)> =
        serde_json::from_str(&text).map_err(|_| foreign("ticket_types", text))?;
    let ticket = |(from, until, members, closed): (Option<i64>, Option<i64>, i64, i64)| OnSale {
        window: SaleWindow { from: from.map(crate::at), until: until.map(crate::at) },
        members_only: members == 1,
        closed: closed == 1,
    };
    Ok(tickets.into_iter().map(ticket).collect())
}

/// Everything that choosing tickets for a date needs, as of `now`. For a course: for
/// the dates that are left of it, whichever of its dates is asked for.
pub fn choices(
    conn: &Connection,
    currency: Currency,
    id: DateId,
    now: Timestamp,
) -> Result<Option<Choices>, StoreError> {
    match date_by_id(conn, id)? {
        Some((event, date)) if event.course => course(conn, currency, event, date, now).map(Some),
        Some((event, date)) => one(conn, currency, event, date, now).map(Some),
        None => Ok(None),
    }
}

/// What an event offers on a date as it is planned, without what bookings change of it: read
/// once, and kept by the writing thread until any plan changes.
#[derive(Debug)]
pub struct Planned {
    /// The event.
    pub event: Event,
    /// The date.
    pub date: Date,
    /// What it asks while booking.
    pub questions: Vec<Question>,
    currency: Currency,
    notice: Option<Notice>,
    /// Ticket types; how many are sold is as it was then.
    tickets: Vec<(TicketType, Offer)>,
}

/// Plans by date, true for one version.
#[derive(Default)]
struct Plans {
    version: i64,
    by_date: HashMap<DateId, Rc<Planned>>,
}

/// Most plans kept at once.
const MOST_KEPT: usize = 256;

/// A date as it is planned; nothing where there is none.
pub fn planned(tx: &Tx<'_>, id: DateId) -> Result<Option<Rc<Planned>>, StoreError> {
    let version = crate::plan_version::plan_version(tx)?;
    let known = tx.remembered(|plans: &mut Plans| {
        if plans.version != version || plans.by_date.len() > MOST_KEPT {
            *plans = Plans { version, by_date: HashMap::new() };
        }
        plans.by_date.get(&id).map(Rc::clone)
    });
    if known.is_some() {
        return Ok(known);
    }
    let Some((event, date)) = date_by_id(tx, id)? else { return Ok(None) };
    let Some(house) = house::get(tx)? else { return Ok(None) };
    let fresh = Rc::new(Planned {
        questions: questions(tx, event.id)?,
        currency: house.currency,
        notice: notice(tx, event.id)?,
        tickets: ticket_types(tx, event.id, &[id], None)?,
        event,
        date,
    });
    tx.remembered(|plans: &mut Plans| plans.by_date.insert(id, Rc::clone(&fresh)));
    Ok(Some(fresh))
}

/// [`choices`] of a date that is about to be booked: seats, and tickets sold of those with a
/// limit, as they are now; all else as it is planned.
pub fn choices_now(tx: &Tx<'_>, id: DateId, now: Timestamp) -> Result<Option<Choices>, StoreError> {
    let Some(plan) = planned(tx, id)? else { return Ok(None) };
    let limited = plan.tickets.iter().any(|(_, offer)| offer.seats.limit.is_some());
    if plan.event.course || limited {
        return choices(tx, plan.currency, id, now);
    }
    let (tickets, offers) = plan.tickets.iter().cloned().unzip();
    Ok(Some(Choices {
        offer: DateOffer {
            starts_at: plan.date.span.starts_at,
            called_off: !plan.date.called_off.is_empty(),
            notice: plan.notice,
            currency: plan.currency,
            hold: plan.event.hold,
            pools: pools(tx, id, now)?,
            offers,
        },
        event: plan.event.clone(),
        date: plan.date.clone(),
        tickets,
        inside: inside(tx, id)?,
        covers: vec![id],
    }))
}

/// A date by itself, even if a booking would cover others as well: for the Office and
/// the Door.
pub fn choices_of_date(
    conn: &Connection,
    currency: Currency,
    id: DateId,
    now: Timestamp,
) -> Result<Option<Choices>, StoreError> {
    let Some((event, date)) = date_by_id(conn, id)? else { return Ok(None) };
    one(conn, currency, event, date, now).map(Some)
}

fn one(
    conn: &Connection,
    currency: Currency,
    event: Event,
    date: Date,
    now: Timestamp,
) -> Result<Choices, StoreError> {
    let id = date.id;
    let mut offer = DateOffer {
        starts_at: date.span.starts_at,
        called_off: !date.called_off.is_empty(),
        notice: notice(conn, event.id)?,
        currency,
        hold: event.hold,
        pools: pools(conn, id, now)?,
        offers: Vec::new(),
    };
    let mut tickets = Vec::new();
    for (ticket, one) in ticket_types(conn, event.id, &[id], None)? {
        tickets.push(ticket);
        offer.offers.push(one);
    }
    let inside = inside(conn, id)?;
    Ok(Choices { event, date, tickets, offer, inside, covers: vec![id] })
}

fn course(
    conn: &Connection,
    currency: Currency,
    event: Event,
    asked: Date,
    now: Timestamp,
) -> Result<Choices, StoreError> {
    let all: Vec<Date> =
        dates_of(conn, event.id)?.into_iter().filter(|d| d.called_off.is_empty()).collect();
    let left: Vec<&Date> = all.iter().filter(|d| d.span.starts_at > now).collect();
    let sold_until = if event.latecomers { left.last().copied() } else { all.first() };
    let starts_at = sold_until.map_or(asked.span.starts_at, |d| d.span.starts_at);
    let count = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
    let share =
        (left.len() < all.len()).then(|| Share { left: count(left.len()), all: count(all.len()) });
    let covers: Vec<DateId> =
        if left.is_empty() { vec![asked.id] } else { left.iter().map(|d| d.id).collect() };
    let mut pools_of_all = Vec::new();
    for (i, id) in covers.iter().enumerate() {
        for mut pool in pools(conn, *id, now)? {
            if i > 0
                && let Some(date) = all.iter().find(|d| d.id == *id)
            {
                pool.name = format!("{} on {}", pool.name, date.span.starts.strftime("%-d %B"));
            }
            pools_of_all.push(pool);
        }
    }
    let mut offer = DateOffer {
        starts_at,
        called_off: all.is_empty(),
        notice: None,
        currency,
        hold: event.hold,
        pools: pools_of_all,
        offers: Vec::new(),
    };
    let mut tickets = Vec::new();
    for (ticket, one) in ticket_types(conn, event.id, &covers, share)? {
        tickets.push(ticket);
        offer.offers.push(one);
    }
    let date = left.first().map_or(asked, |d| (*d).clone());
    let inside = inside(conn, date.id)?;
    Ok(Choices { event, date, tickets, offer, inside, covers })
}

fn notice(conn: &Connection, event: EventId) -> Result<Option<Notice>, StoreError> {
    conn.prepare_cached("SELECT notice_hours, ahead_days FROM slot_plans WHERE event_id = ?1")
        .and_then(|mut q| {
            q.query_row([event.0], |row| Ok(Notice { hours: row.get(0)?, days_ahead: row.get(1)? }))
                .optional()
        })
        .doing("reading how slots are booked")
}
