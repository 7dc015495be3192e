//! Events, their dates, pools, ticket types and questions.

use jiff::{SignedDuration, Timestamp, civil};
use matricle_core::booking::{DateOffer, Offer};
use matricle_core::details::{Answering, Question};
use matricle_core::price::{Early, TicketPrice};
use matricle_core::schedule::{SaleWindow, Span};
use matricle_core::seats::{Draw, Pool, Taken, TicketSeats};
use matricle_core::{Currency, DateId, EventId, PoolId, QuestionId, TicketTypeId};
use rusqlite::{Connection, OptionalExtension, Row, named_params};

use crate::convert::{foreign, instant, instant_or};
use crate::{Doing, StoreError, Tx, us};

/// What is offered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Event {
    /// Its key.
    pub id: EventId,
    /// Its address in the Programme.
    pub slug: String,
    /// Its title.
    pub title: String,
    /// What kind of event, such as *Microscopy workshop*.
    pub kind: String,
    /// One sentence.
    pub lead: String,
    /// Paragraphs of plain text, an empty line between them.
    pub description: String,
    /// What to bring; may be empty.
    pub bring: String,
    /// The cancellation steps in words; may be empty.
    pub refund_note: String,
    /// Draft, published, called off or past.
    pub state: EventState,
    /// How long chosen seats are kept.
    pub hold: SignedDuration,
}

/// The state of an event.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EventState {
    /// Only staff see it.
    Draft,
    /// In the Programme.
    Published,
    /// Will not happen.
    CalledOff,
    /// Over.
    Past,
}

impl EventState {
    const ALL: [Self; 4] = [Self::Draft, Self::Published, Self::CalledOff, Self::Past];

    /// The word for it, as stored and as shown.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Draft => "draft",
            Self::Published => "published",
            Self::CalledOff => "called off",
            Self::Past => "past",
        }
    }

    fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.word() == word)
    }
}

/// One happening of an event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Date {
    /// Its key.
    pub id: DateId,
    /// The event.
    pub event: EventId,
    /// When.
    pub span: Span,
    /// Where: the venue's name.
    pub venue: String,
    /// Its address.
    pub address: String,
    /// How to get there; may be empty.
    pub directions: String,
    /// The room; may be empty.
    pub room: String,
    /// Who leads it; may be empty.
    pub hosts: String,
}

impl Date {
    /// Venue and room on one line.
    #[must_use]
    pub fn place(&self) -> String {
        if self.room.is_empty() {
            self.venue.clone()
        } else {
            format!("{}, {}", self.venue, self.room)
        }
    }
}

/// A ticket type's words, beside its [`Offer`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TicketType {
    /// Its key.
    pub id: TicketTypeId,
    /// Its name.
    pub name: String,
    /// A line of explanation; may be empty.
    pub note: String,
    /// People one ticket lets in.
    pub admits: u32,
}

/// A date with all that choosing tickets needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DateSheet {
    /// The event.
    pub event: Event,
    /// The date.
    pub date: Date,
    /// Ticket types in their order, each beside the offer at the same place.
    pub tickets: Vec<TicketType>,
    /// Pools and offers.
    pub offer: DateOffer,
    /// People who are in.
    pub inside: u32,
}

impl DateSheet {
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

/// What lists say of a date.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DateSummary {
    /// The event.
    pub event: Event,
    /// The date.
    pub date: Date,
    /// The pool its strip shows.
    pub pool: Pool,
    /// People who are in.
    pub inside: u32,
    /// The lowest and the highest ordinary price of a ticket, in minor units.
    pub prices: Option<(i64, i64)>,
}

const EVENT_COLUMNS: &str = "e.id AS e_id, e.slug, e.title, e.kind, e.lead, e.description, e.bring, \
     e.refund_note, e.state, e.hold_minutes";

fn event(row: &Row<'_>) -> rusqlite::Result<Event> {
    let state: String = row.get("state")?;
    Ok(Event {
        id: EventId(row.get("e_id")?),
        slug: row.get("slug")?,
        title: row.get("title")?,
        kind: row.get("kind")?,
        lead: row.get("lead")?,
        description: row.get("description")?,
        bring: row.get("bring")?,
        refund_note: row.get("refund_note")?,
        state: EventState::from_word(&state).ok_or_else(|| foreign("events.state", state))?,
        hold: SignedDuration::from_mins(row.get("hold_minutes")?),
    })
}

const DATE_COLUMNS: &str = "d.id AS d_id, d.event_id, d.starts, d.ends, d.zone, d.starts_at, d.ends_at, \
     v.name AS venue, v.address, v.directions, d.room, d.hosts";

fn civil_time(row: &Row<'_>, column: &'static str) -> rusqlite::Result<civil::DateTime> {
    let text: String = row.get(column)?;
    text.parse().map_err(|_| foreign(column, text))
}

fn date(row: &Row<'_>) -> rusqlite::Result<Date> {
    Ok(Date {
        id: DateId(row.get("d_id")?),
        event: EventId(row.get("event_id")?),
        span: Span {
            starts: civil_time(row, "starts")?,
            ends: civil_time(row, "ends")?,
            zone: row.get("zone")?,
            starts_at: instant(row, "starts_at")?,
            ends_at: instant(row, "ends_at")?,
        },
        venue: row.get("venue")?,
        address: row.get("address")?,
        directions: row.get("directions")?,
        room: row.get("room")?,
        hosts: row.get("hosts")?,
    })
}

fn pool(row: &Row<'_>) -> rusqlite::Result<Pool> {
    let held: u32 = row.get("held")?;
    Ok(Pool {
        id: PoolId(row.get("p_id")?),
        name: row.get("p_name")?,
        capacity: row.get("capacity")?,
        taken: Taken {
            held: held.saturating_sub(row.get("stale")?),
            requested: row.get("requested")?,
            awaiting_payment: row.get("awaiting_payment")?,
            confirmed: row.get("confirmed")?,
        },
    })
}

// `stale` are holds past their deadline that no timer has swept out yet: they are free.
const POOL_COLUMNS: &str = "p.id AS p_id, k.name AS p_name, p.capacity, p.held, p.requested, \
     p.awaiting_payment, p.confirmed, (SELECT coalesce(sum(bd.seats), 0) FROM bookings b \
     JOIN booking_draws bd ON bd.booking_id = b.id AND bd.pool_id = p.id \
     WHERE b.date_id = p.date_id AND b.state = 'held' AND b.deadline <= :now) AS stale";

/// Finds a published event by its address.
///
/// # Errors
/// SQLite refuses.
pub fn published(conn: &Connection, slug: &str) -> Result<Option<Event>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {EVENT_COLUMNS} FROM events e WHERE e.slug = ?1 AND e.state = 'published'"
    ))
    .and_then(|mut q| q.query_row([slug], event).optional())
    .doing("looking an event up")
}

/// Finds an event by its key.
///
/// # Errors
/// SQLite refuses.
pub fn by_id(conn: &Connection, id: EventId) -> Result<Option<Event>, StoreError> {
    conn.prepare_cached(&format!("SELECT {EVENT_COLUMNS} FROM events e WHERE e.id = ?1"))
        .and_then(|mut q| q.query_row([id.0], event).optional())
        .doing("looking an event up")
}

/// The dates of an event, in their order.
///
/// # Errors
/// SQLite refuses.
pub fn dates_of(conn: &Connection, event: EventId) -> Result<Vec<Date>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {DATE_COLUMNS} FROM dates d JOIN venues v ON v.id = d.venue_id
         WHERE d.event_id = ?1 ORDER BY d.starts_at, d.id"
    ))
    .and_then(|mut q| q.query_map([event.0], date)?.collect())
    .doing("reading dates")
}

/// A date with its event.
///
/// # Errors
/// SQLite refuses.
pub fn date_by_id(conn: &Connection, id: DateId) -> Result<Option<(Event, Date)>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {EVENT_COLUMNS}, {DATE_COLUMNS} FROM dates d
         JOIN events e ON e.id = d.event_id JOIN venues v ON v.id = d.venue_id WHERE d.id = ?1"
    ))
    .and_then(|mut q| q.query_row([id.0], |row| Ok((event(row)?, date(row)?))).optional())
    .doing("looking a date up")
}

/// Everything that choosing tickets for a date needs, as of `now`.
///
/// # Errors
/// SQLite refuses.
pub fn sheet(
    conn: &Connection,
    currency: Currency,
    id: DateId,
    now: Timestamp,
) -> Result<Option<DateSheet>, StoreError> {
    let Some((event, date)) = date_by_id(conn, id)? else { return Ok(None) };
    let mut offer = DateOffer {
        starts_at: date.span.starts_at,
        currency,
        hold: event.hold,
        pools: pools(conn, id, now)?,
        offers: Vec::new(),
    };
    let mut tickets = Vec::new();
    for (ticket, one) in ticket_types(conn, event.id, id)? {
        tickets.push(ticket);
        offer.offers.push(one);
    }
    let inside = inside(conn, id)?;
    Ok(Some(DateSheet { event, date, tickets, offer, inside }))
}

fn pools(conn: &Connection, date: DateId, now: Timestamp) -> Result<Vec<Pool>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {POOL_COLUMNS} FROM pools p JOIN pool_kinds k ON k.id = p.kind_id
         WHERE p.date_id = :date ORDER BY k.position"
    ))
    .and_then(|mut q| {
        q.query_map(named_params! { ":date": date.0, ":now": us(now) }, pool)?.collect()
    })
    .doing("reading pools")
}

/// People who are in.
///
/// # Errors
/// SQLite refuses.
pub fn inside(conn: &Connection, date: DateId) -> Result<u32, StoreError> {
    conn.prepare_cached("SELECT inside FROM dates WHERE id = ?1")
        .and_then(|mut q| q.query_row([date.0], |row| row.get(0)))
        .doing("counting who is in")
}

fn ticket_types(
    conn: &Connection,
    event: EventId,
    date: DateId,
) -> Result<Vec<(TicketType, Offer)>, StoreError> {
    // How many are sold is asked only of ticket types with a limit.
    let sql = "SELECT t.id, t.name, t.note, t.minor, t.early_minor, t.early_until, t.sale_from, t.sale_until,
            t.per_date, t.most, t.admits,
            CASE WHEN t.per_date IS NULL THEN 0 ELSE (
                SELECT coalesce(sum(l.quantity), 0) FROM bookings b
                JOIN booking_lines l ON l.booking_id = b.id AND l.ticket_type_id = t.id
                WHERE b.date_id = :date
                  AND b.state IN ('held', 'requested', 'awaiting payment', 'confirmed')
            ) END AS sold
         FROM ticket_types t WHERE t.event_id = :event ORDER BY t.position";
    let read = || -> rusqlite::Result<Vec<(TicketType, Offer)>> {
        let mut query = conn.prepare_cached(sql)?;
        let mut draws = conn.prepare_cached(
            "SELECT p.id, w.seats FROM draws w JOIN pools p ON p.kind_id = w.kind_id AND p.date_id = ?2
             WHERE w.ticket_type_id = ?1",
        )?;
        let rows =
            query.query_map(named_params! { ":event": event.0, ":date": date.0 }, |row| {
                let id = TicketTypeId(row.get("id")?);
                let draws = draws
                    .query_map((id.0, date.0), |d| {
                        Ok(Draw { pool: PoolId(d.get(0)?), seats: d.get(1)? })
                    })?
                    .collect::<Result<_, _>>()?;
                let early = match (row.get("early_minor")?, instant_or(row, "early_until")?) {
                    (Some(minor), Some(until)) => Some(Early { minor, until }),
                    _ => None,
                };
                let ticket = TicketType {
                    id,
                    name: row.get("name")?,
                    note: row.get("note")?,
                    admits: row.get("admits")?,
                };
                let offer = Offer {
                    price: TicketPrice { id, minor: row.get("minor")?, early },
                    seats: TicketSeats {
                        id,
                        draws,
                        limit: row.get("per_date")?,
                        sold: row.get("sold")?,
                    },
                    sale: SaleWindow {
                        from: instant_or(row, "sale_from")?,
                        until: instant_or(row, "sale_until")?,
                    },
                    most: row.get("most")?,
                };
                Ok((ticket, offer))
            })?;
        rows.collect()
    };
    read().doing("reading ticket types")
}

/// The questions of an event, in their order.
///
/// # Errors
/// SQLite refuses.
pub fn questions(conn: &Connection, event: EventId) -> Result<Vec<Question>, StoreError> {
    conn.prepare_cached(
        "SELECT id, label, answering, needed FROM questions WHERE event_id = ?1 ORDER BY position, id",
    )
    .and_then(|mut q| {
        q.query_map([event.0], |row| {
            let answering: String = row.get("answering")?;
            Ok(Question {
                id: QuestionId(row.get("id")?),
                label: row.get("label")?,
                answering: serde_json::from_str(&answering)
                    .map_err(|_| foreign("questions.answering", answering))?,
                needed: row.get("needed")?,
            })
        })?
        .collect()
    })
    .doing("reading questions")
}

/// Which dates a list shows.
#[derive(Debug, Clone, Copy)]
pub enum Listing {
    /// Dates of published events that are not over, soonest first.
    Coming,
    /// All dates, soonest first.
    All,
}

/// Dates with what lists say of them.
///
/// # Errors
/// SQLite refuses.
pub fn list(
    conn: &Connection,
    listing: Listing,
    now: Timestamp,
) -> Result<Vec<DateSummary>, StoreError> {
    let which = match listing {
        Listing::Coming => "d.ends_at > :now AND e.state = 'published'",
        Listing::All => ":now IS NOT NULL",
    };
    conn.prepare_cached(&format!(
        "SELECT {EVENT_COLUMNS}, {DATE_COLUMNS}, {POOL_COLUMNS},
            d.inside,
            (SELECT min(minor) FROM ticket_types t WHERE t.event_id = e.id) AS least,
            (SELECT max(minor) FROM ticket_types t WHERE t.event_id = e.id) AS most
         FROM dates d JOIN events e ON e.id = d.event_id JOIN venues v ON v.id = d.venue_id
         JOIN pool_kinds k ON k.event_id = e.id AND k.position = 0
         JOIN pools p ON p.date_id = d.id AND p.kind_id = k.id
         WHERE {which} ORDER BY d.starts_at, d.id"
    ))
    .and_then(|mut q| {
        q.query_map(named_params! { ":now": us(now) }, |row| {
            let prices = match (row.get("least")?, row.get("most")?) {
                (Some(least), Some(most)) => Some((least, most)),
                _ => None,
            };
            Ok(DateSummary {
                event: event(row)?,
                date: date(row)?,
                pool: pool(row)?,
                inside: row.get("inside")?,
                prices,
            })
        })?
        .collect()
    })
    .doing("listing dates")
}

/// The first of `slug`, `slug-2`, `slug-3` … that no event has.
///
/// # Errors
/// SQLite refuses.
pub fn free_slug(conn: &Connection, slug: &str) -> Result<String, StoreError> {
    let mut query = conn
        .prepare_cached("SELECT EXISTS (SELECT 1 FROM events WHERE slug = ?1)")
        .doing("looking for an address")?;
    let mut taken = |slug: &str| {
        query.query_row([slug], |row| row.get::<_, bool>(0)).doing("looking for an address")
    };
    let mut free = slug.to_owned();
    let mut n = 1u32;
    while taken(&free)? {
        n += 1;
        free = format!("{slug}-{n}");
    }
    Ok(free)
}

/// Moves an event to a state.
///
/// # Errors
/// SQLite refuses.
pub fn set_state(tx: &Tx<'_>, id: EventId, state: EventState) -> Result<(), StoreError> {
    tx.execute("UPDATE events SET state = ?2 WHERE id = ?1", (id.0, state.word()))
        .map(drop)
        .doing("moving an event")
}

/// Names of known venues, in their order.
///
/// # Errors
/// SQLite refuses.
pub fn venues(conn: &Connection) -> Result<Vec<String>, StoreError> {
    conn.prepare_cached("SELECT name FROM venues ORDER BY name")
        .and_then(|mut q| q.query_map([], |row| row.get(0))?.collect())
        .doing("reading venues")
}

/// An event to be written down, with everything that belongs to it.
#[derive(Debug, Clone)]
pub struct NewEvent {
    /// Its address in the Programme.
    pub slug: String,
    /// Its title.
    pub title: String,
    /// What kind of event.
    pub kind: String,
    /// One sentence.
    pub lead: String,
    /// Paragraphs.
    pub description: String,
    /// What to bring.
    pub bring: String,
    /// The cancellation steps in words.
    pub refund_note: String,
    /// Its state.
    pub state: EventState,
    /// How long chosen seats are kept, in minutes.
    pub hold_minutes: i64,
    /// Names of the pools; the first is the one its strip shows.
    pub pools: Vec<String>,
    /// Ticket types in their order.
    pub tickets: Vec<NewTicketType>,
    /// Questions in their order.
    pub questions: Vec<NewQuestion>,
    /// Its dates.
    pub dates: Vec<NewDate>,
}

/// A ticket type to be written down.
#[derive(Debug, Clone)]
pub struct NewTicketType {
    /// Its name.
    pub name: String,
    /// A line of explanation.
    pub note: String,
    /// Price of one in minor units.
    pub minor: i64,
    /// The early price.
    pub early: Option<Early>,
    /// When it is sold.
    pub sale: SaleWindow,
    /// How many for one date.
    pub per_date: Option<u32>,
    /// The most in one booking.
    pub most: u32,
    /// People one lets in.
    pub admits: u32,
    /// Seats it draws from each pool, by the pool's place in [`NewEvent::pools`].
    pub draws: Vec<(usize, u32)>,
}

/// A question to be written down.
#[derive(Debug, Clone)]
pub struct NewQuestion {
    /// Its wording.
    pub label: String,
    /// How it is answered.
    pub answering: Answering,
    /// Whether an answer is needed.
    pub needed: bool,
}

/// A date to be written down.
#[derive(Debug, Clone)]
pub struct NewDate {
    /// When.
    pub span: Span,
    /// The venue's name; a new one is made with the address.
    pub venue: String,
    /// Its address.
    pub address: String,
    /// How to get there.
    pub directions: String,
    /// The room.
    pub room: String,
    /// Who leads it.
    pub hosts: String,
    /// Capacity of each pool, in their order.
    pub capacities: Vec<u32>,
}

/// Writes a whole event down.
///
/// # Errors
/// SQLite refuses, for instance because the slug is taken.
pub fn insert(tx: &Tx<'_>, new: &NewEvent, now: Timestamp) -> Result<EventId, StoreError> {
    let write =
        || -> rusqlite::Result<i64> {
            tx.execute(
            "INSERT INTO events (slug, title, kind, lead, description, bring, refund_note, state,
                hold_minutes, made_at) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
            rusqlite::params![
                new.slug, new.title, new.kind, new.lead, new.description, new.bring,
                new.refund_note, new.state.word(), new.hold_minutes, us(now)
            ],
        )?;
            let event = tx.last_insert_rowid();
            let mut kinds = Vec::new();
            for (position, name) in (0i64..).zip(&new.pools) {
                tx.execute(
                    "INSERT INTO pool_kinds (event_id, position, name) VALUES (?1, ?2, ?3)",
                    (event, position, name),
                )?;
                kinds.push(tx.last_insert_rowid());
            }
            for (position, ticket) in (0i64..).zip(&new.tickets) {
                insert_ticket(tx, event, position, ticket, &kinds)?;
            }
            for (position, q) in (0i64..).zip(&new.questions) {
                let answering = serde_json::to_string(&q.answering)
                    .map_err(|e| rusqlite::Error::ToSqlConversionFailure(e.into()))?;
                tx.execute(
                    "INSERT INTO questions (event_id, position, label, answering, needed)
                 VALUES (?1, ?2, ?3, ?4, ?5)",
                    (event, position, &q.label, answering, q.needed),
                )?;
            }
            for date in &new.dates {
                insert_date(tx, event, date, &kinds)?;
            }
            Ok(event)
        };
    write().map(EventId).doing("writing an event")
}

fn insert_ticket(
    tx: &Tx<'_>,
    event: i64,
    position: i64,
    ticket: &NewTicketType,
    kinds: &[i64],
) -> rusqlite::Result<()> {
    tx.execute(
        "INSERT INTO ticket_types (event_id, position, name, note, minor, early_minor,
            early_until, sale_from, sale_until, per_date, most, admits)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)",
        rusqlite::params![
            event,
            position,
            ticket.name,
            ticket.note,
            ticket.minor,
            ticket.early.map(|e| e.minor),
            ticket.early.map(|e| us(e.until)),
            ticket.sale.from.map(us),
            ticket.sale.until.map(us),
            ticket.per_date,
            ticket.most,
            ticket.admits
        ],
    )?;
    let id = tx.last_insert_rowid();
    for &(pool, seats) in &ticket.draws {
        tx.execute(
            "INSERT INTO draws (ticket_type_id, kind_id, seats) VALUES (?1, ?2, ?3)",
            (id, kinds.get(pool), seats),
        )?;
    }
    Ok(())
}

fn insert_date(tx: &Tx<'_>, event: i64, new: &NewDate, kinds: &[i64]) -> rusqlite::Result<()> {
    let venue: i64 = tx.query_row(
        "INSERT INTO venues (name, address, directions) VALUES (?1, ?2, ?3)
         ON CONFLICT (name) DO UPDATE SET name = name RETURNING id",
        (&new.venue, &new.address, &new.directions),
        |row| row.get(0),
    )?;
    tx.execute(
        "INSERT INTO dates (event_id, starts, ends, zone, starts_at, ends_at, venue_id, room, hosts)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
        rusqlite::params![
            event,
            new.span.starts.to_string(),
            new.span.ends.to_string(),
            new.span.zone,
            us(new.span.starts_at),
            us(new.span.ends_at),
            venue,
            new.room,
            new.hosts
        ],
    )?;
    let date = tx.last_insert_rowid();
    for (kind, capacity) in kinds.iter().zip(&new.capacities) {
        tx.execute(
            "INSERT INTO pools (date_id, kind_id, capacity) VALUES (?1, ?2, ?3)",
            (date, kind, capacity),
        )?;
    }
    Ok(())
}
