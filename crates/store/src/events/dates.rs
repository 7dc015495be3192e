//! Dates: their times and places, their seats, and lists of them.

use jiff::{Timestamp, civil};
use matricle_core::availability::{Availability, OnSale};
use matricle_core::booking::DateOffer;
use matricle_core::price::Share;
use matricle_core::schedule::{SaleWindow, Span};
use matricle_core::seats::{Pool, Taken};
use matricle_core::slots::Notice;
use matricle_core::{Currency, DateId, EventId, HostId, PoolId, RoomId, VenueId};
use rusqlite::{Connection, OptionalExtension, Row, ToSql, named_params};

use super::tickets::{TicketType, ticket_types};
use super::{EVENT_COLUMNS, Event, Format, NewDate, event};
use crate::convert::{foreign, instant, instant_or};
use crate::{Doing, StoreError, Tx, us};

/// One happening of an event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Date {
    /// Its key.
    pub id: DateId,
    /// The event.
    pub event: EventId,
    /// When.
    pub span: Span,
    /// The venue's key.
    pub venue_id: VenueId,
    /// Where: the venue's name.
    pub venue: String,
    /// Its address.
    pub address: String,
    /// How to get there; may be empty.
    pub directions: String,
    /// The room's key.
    pub room_id: Option<RoomId>,
    /// The room; may be empty.
    pub room: String,
    /// Who leads it; may be empty.
    pub hosts: String,
    /// Why it will not happen; empty while it will.
    pub called_off: String,
    /// Counts the changes that calendars must follow.
    pub sequence: u32,
    /// Minutes to set up before, and to clear up after.
    pub margins: (u32, u32),
    /// The run it belongs to.
    pub run: Option<i64>,
    /// When its time, place or hosts last changed, or it was called off; `None` for never.
    pub changed_at: Option<Timestamp>,
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

/// A date with all that choosing tickets needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DateSheet {
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

impl DateSummary {
    /// When what is told of it last changed.
    #[must_use]
    pub fn changed_at(&self) -> Timestamp {
        self.date.changed_at.map_or(self.event.changed_at, |at| at.max(self.event.changed_at))
    }

    /// Whether a stranger can book it at `now`.
    #[must_use]
    pub fn availability(&self, now: Timestamp) -> Availability {
        let tickets = self.on_sale.iter().copied();
        Availability::of(tickets, self.pool.free(), self.date.span.starts_at, now)
    }
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

/// Tickets that a stranger sees: those without a word.
const SHOWN: &str = "t.event_id = e.id AND t.retired = 0 AND t.code = ''";

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
    /// The lowest and the highest ordinary price of the tickets that everybody sees, in minor
    /// units.
    pub prices: Option<(i64, i64)>,
    /// How these tickets are sold.
    pub on_sale: Vec<OnSale>,
    /// One of many slots, of which lists show the next.
    pub slot: bool,
}

pub(crate) const DATE_COLUMNS: &str = "d.id AS d_id, d.event_id, d.starts, d.ends, d.zone, d.starts_at, d.ends_at, \
     d.venue_id, d.room_id, d.called_off AS d_called_off, d.sequence, d.setup_minutes, d.clearup_minutes, d.run_id, \
     d.changed_at AS d_changed_at, \
     v.name AS venue, v.address, v.directions, \
     coalesce((SELECT r.name FROM rooms r WHERE r.id = d.room_id), '') AS room, \
     coalesce((SELECT group_concat(h.name, ', ') FROM date_hosts dh JOIN hosts h ON h.id = dh.host_id \
        WHERE dh.date_id = d.id), '') AS hosts";

fn civil_time(row: &Row<'_>, column: &'static str) -> rusqlite::Result<civil::DateTime> {
    let text: String = row.get(column)?;
    text.parse().map_err(|_| foreign(column, text))
}

/// When a date is, from its five columns.
pub(crate) fn span(row: &Row<'_>) -> rusqlite::Result<Span> {
    Ok(Span {
        starts: civil_time(row, "starts")?,
        ends: civil_time(row, "ends")?,
        zone: row.get("zone")?,
        starts_at: instant(row, "starts_at")?,
        ends_at: instant(row, "ends_at")?,
    })
}

pub(crate) fn date(row: &Row<'_>) -> rusqlite::Result<Date> {
    Ok(Date {
        id: DateId(row.get("d_id")?),
        event: EventId(row.get("event_id")?),
        span: span(row)?,
        venue_id: VenueId(row.get("venue_id")?),
        venue: row.get("venue")?,
        address: row.get("address")?,
        directions: row.get("directions")?,
        room_id: row.get::<_, Option<i64>>("room_id")?.map(RoomId),
        room: row.get("room")?,
        hosts: row.get("hosts")?,
        called_off: row.get("d_called_off")?,
        sequence: row.get("sequence")?,
        margins: (row.get("setup_minutes")?, row.get("clearup_minutes")?),
        run: row.get("run_id")?,
        changed_at: instant_or(row, "d_changed_at")?,
    })
}

fn on_sale(row: &Row<'_>) -> rusqlite::Result<Vec<OnSale>> {
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
// Asked only where something is held, since most dates of a long list hold nothing.
// A room is the ceiling of the first pool in it.
const POOL_COLUMNS: &str = "p.id AS p_id, k.name AS p_name, \
     CASE WHEN k.position > 0 THEN p.capacity ELSE min(p.capacity, coalesce((SELECT r.seats FROM dates dr \
        JOIN rooms r ON r.id = dr.room_id WHERE dr.id = p.date_id), p.capacity)) END AS capacity, p.held, p.requested, \
     p.awaiting_payment, p.confirmed, CASE WHEN p.held = 0 THEN 0 ELSE (SELECT coalesce(sum(bd.seats), 0) \
     FROM bookings b JOIN booking_draws bd ON bd.booking_id = b.id AND bd.pool_id = p.id \
     WHERE b.state = 'held' AND b.deadline <= :now) END AS stale";

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

/// Everything that choosing tickets for a date needs, as of `now`. For a course: for
/// the dates that are left of it, whichever of its dates is asked for.
///
/// # Errors
/// SQLite refuses.
pub fn sheet(
    conn: &Connection,
    currency: Currency,
    id: DateId,
    now: Timestamp,
) -> Result<Option<DateSheet>, StoreError> {
    match date_by_id(conn, id)? {
        Some((event, date)) if event.course => course(conn, currency, event, date, now).map(Some),
        Some(_) => date_sheet(conn, currency, id, now),
        None => Ok(None),
    }
}

/// A date by itself, even if a booking would cover others as well: for the Office and
/// the Door.
///
/// # Errors
/// SQLite refuses.
pub fn date_sheet(
    conn: &Connection,
    currency: Currency,
    id: DateId,
    now: Timestamp,
) -> Result<Option<DateSheet>, StoreError> {
    let Some((event, date)) = date_by_id(conn, id)? else { return Ok(None) };
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
    Ok(Some(DateSheet { event, date, tickets, offer, inside, covers: vec![id] }))
}

fn course(
    conn: &Connection,
    currency: Currency,
    event: Event,
    asked: Date,
    now: Timestamp,
) -> Result<DateSheet, StoreError> {
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
    Ok(DateSheet { event, date, tickets, offer, inside, covers })
}

fn notice(conn: &Connection, event: EventId) -> Result<Option<Notice>, StoreError> {
    conn.prepare_cached("SELECT notice_hours, ahead_days FROM slot_plans WHERE event_id = ?1")
        .and_then(|mut q| {
            q.query_row([event.0], |row| Ok(Notice { hours: row.get(0)?, days_ahead: row.get(1)? }))
                .optional()
        })
        .doing("reading how slots are booked")
}

/// The pools of a date, in the order of the event's kinds.
///
/// # Errors
/// SQLite refuses.
pub fn pools(conn: &Connection, date: DateId, now: Timestamp) -> Result<Vec<Pool>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {POOL_COLUMNS} FROM pools p JOIN pool_kinds k ON k.id = p.kind_id
         WHERE p.date_id = :date ORDER BY k.position"
    ))
    .and_then(|mut q| {
        q.query_map(named_params! { ":date": date.0, ":now": us(now) }, pool)?.collect()
    })
    .doing("reading pools")
}

/// The capacities that were given to the pools of a date, whatever its room seats.
///
/// # Errors
/// SQLite refuses.
pub fn capacities(conn: &Connection, date: DateId) -> Result<Vec<u32>, StoreError> {
    conn.prepare_cached(
        "SELECT p.capacity FROM pools p JOIN pool_kinds k ON k.id = p.kind_id
         WHERE p.date_id = ?1 ORDER BY k.position",
    )
    .and_then(|mut q| q.query_map([date.0], |row| row.get(0))?.collect())
    .doing("reading capacities")
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

/// The longest date, in microseconds: nothing that starts longer ago is still on.
///
/// # Errors
/// SQLite refuses.
pub fn longest(conn: &Connection) -> Result<i64, StoreError> {
    conn.prepare_cached("SELECT max(ends_at - starts_at) FROM dates")
        .and_then(|mut q| q.query_row([], |row| row.get::<_, Option<i64>>(0)))
        .map(Option::unwrap_or_default)
        .doing("looking for the longest date")
}

/// What a list of dates is narrowed to.
#[derive(Debug, Clone, Default)]
pub struct Asked {
    /// Drafts, unlisted and called-off ones as well, for staff.
    pub staff: bool,
    /// Called-off ones as well, so that calendars can strike them out.
    pub off: bool,
    /// Unlisted ones as well, for whoever has the link.
    pub unlisted: bool,
    /// Words of the index: of each group one must be found.
    pub words: Vec<Vec<String>>,
    /// A tag, by its slug.
    pub tag: Option<String>,
    /// Dates on from this instant, and starting before that one.
    pub between: Option<(Timestamp, Timestamp)>,
    /// A venue.
    pub venue: Option<VenueId>,
    /// A room.
    pub room: Option<RoomId>,
    /// A host.
    pub host: Option<HostId>,
    /// An event.
    pub event: Option<EventId>,
    /// In person or online; both belong to either.
    pub format: Option<Format>,
    /// Only with seats left.
    pub with_seats: bool,
    /// Of a course the next date, of slots the next free one.
    pub collapsed: bool,
    /// Rows to leave out at the start.
    pub skip: u32,
    /// Most rows.
    pub most: u32,
}

/// Dates that were found.
#[derive(Debug, Clone)]
pub struct Found {
    /// The dates, soonest first.
    pub dates: Vec<DateSummary>,
    /// Whether there are more.
    pub more: bool,
}

/// A `MATCH` expression (SQLite FTS5 §3) for groups of words of which one must be found.
fn matching(groups: &[Vec<String>]) -> String {
    let one = |group: &Vec<String>| {
        let words: Vec<String> =
            group.iter().map(|w| format!("\"{}\"", w.replace('"', ""))).collect();
        format!("({})", words.join(" OR "))
    };
    groups.iter().map(one).collect::<Vec<_>>().join(" AND ")
}

/// Dates with what lists say of them, soonest first. Without `between`: those that are
/// not over.
///
/// # Errors
/// SQLite refuses.
pub fn list(conn: &Connection, asked: &Asked, now: Timestamp) -> Result<Found, StoreError> {
    if asked.words.iter().any(Vec::is_empty) {
        return Ok(Found { dates: Vec::new(), more: false });
    }
    let longest = longest(conn)?;
    let (from, until) = match asked.between {
        Some((from, until)) => (us(from), us(until)),
        None => (us(now), i64::MAX),
    };
    let bound = from.saturating_sub(longest);
    let now_us = us(now);
    let words = matching(&asked.words);
    let format = asked.format.map(Format::word);
    let mut params: Vec<(&str, &dyn ToSql)> =
        vec![(":now", &now_us), (":from", &from), (":until", &until), (":bound", &bound)];
    let mut which =
        String::from("d.starts_at >= :bound AND d.starts_at < :until AND d.ends_at > :from");
    let mut narrow = |sql: &str| {
        which.push_str(" AND ");
        which.push_str(sql);
    };
    if !asked.staff {
        narrow(if asked.off {
            "e.state IN ('published', 'called off')"
        } else {
            "e.state = 'published' AND d.called_off = ''"
        });
        if !asked.unlisted {
            narrow("e.listed = 1");
        }
    }
    if !asked.words.is_empty() {
        narrow("e.id IN (SELECT rowid FROM event_text WHERE event_text MATCH :words)");
        params.push((":words", &words));
    }
    if let Some(tag) = &asked.tag {
        narrow(
            "e.id IN (SELECT et.event_id FROM event_tags et JOIN tags t ON t.id = et.tag_id WHERE t.slug = :tag)",
        );
        params.push((":tag", tag));
    }
    if let Some(venue) = &asked.venue {
        narrow("d.venue_id = :venue");
        params.push((":venue", &venue.0));
    }
    if let Some(room) = &asked.room {
        narrow("d.room_id = :room");
        params.push((":room", &room.0));
    }
    if let Some(host) = &asked.host {
        narrow("d.id IN (SELECT date_id FROM date_hosts WHERE host_id = :host)");
        params.push((":host", &host.0));
    }
    if let Some(event) = &asked.event {
        narrow("d.event_id = :event");
        params.push((":event", &event.0));
    }
    if let Some(format) = &format {
        narrow("e.format IN (:format, 'in person and online')");
        params.push((":format", format));
    }
    if asked.with_seats {
        narrow(
            "d.starts_at > :now AND p.held + p.requested + p.awaiting_payment + p.confirmed < p.capacity",
        );
    }
    if asked.collapsed {
        narrow(
            "(e.course = 0 OR d.id = (SELECT d2.id FROM dates d2 WHERE d2.event_id = e.id AND d2.ends_at > :now
                AND d2.called_off = '' ORDER BY d2.starts_at LIMIT 1))
             AND (sp.event_id IS NULL OR d.id = (SELECT d2.id FROM dates d2
                JOIN pools p2 ON p2.date_id = d2.id AND p2.kind_id = k.id
                WHERE d2.event_id = e.id AND d2.starts_at >= :now + sp.notice_hours * 3600000000
                AND p2.held + p2.requested + p2.awaiting_payment + p2.confirmed < p2.capacity
                ORDER BY d2.starts_at LIMIT 1))",
        );
    }
    let sql = format!(
        "SELECT {EVENT_COLUMNS}, {DATE_COLUMNS}, {POOL_COLUMNS}, d.inside, sp.event_id IS NOT NULL AS slot,
            (SELECT min(minor) FROM ticket_types t WHERE {SHOWN}) AS least,
            (SELECT max(minor) FROM ticket_types t WHERE {SHOWN}) AS most,
            (SELECT json_group_array(json_array(t.sale_from, t.sale_until, t.members_only, t.closed))
                FROM ticket_types t WHERE {SHOWN}) AS on_sale
         FROM dates d JOIN events e ON e.id = d.event_id JOIN venues v ON v.id = d.venue_id
         JOIN pool_kinds k ON k.event_id = e.id AND k.position = 0
         JOIN pools p ON p.date_id = d.id AND p.kind_id = k.id
         LEFT JOIN slot_plans sp ON sp.event_id = e.id
         WHERE {which} ORDER BY d.starts_at, d.id LIMIT {} OFFSET {}",
        asked.most.saturating_add(1),
        asked.skip
    );
    let mut dates: Vec<DateSummary> = conn
        .prepare_cached(&sql)
        .and_then(|mut q| {
            q.query_map(params.as_slice(), |row| {
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
                    on_sale: on_sale(row)?,
                    slot: row.get("slot")?,
                })
            })?
            .collect()
        })
        .doing("listing dates")?;
    let more = dates.len() > asked.most as usize;
    dates.truncate(asked.most as usize);
    Ok(Found { dates, more })
}

/// Months in which listed dates are still to come, the first of each and how many.
///
/// # Errors
/// SQLite refuses.
pub fn months(conn: &Connection, now: Timestamp) -> Result<Vec<(civil::Date, u32)>, StoreError> {
    let bound = us(now).saturating_sub(longest(conn)?);
    conn.prepare_cached(
        "SELECT substr(d.starts, 1, 7) || '-01' AS month, count(*) FROM dates d
         JOIN events e ON e.id = d.event_id
         WHERE d.starts_at >= ?2 AND d.ends_at > ?1 AND e.state = 'published' AND e.listed = 1
            AND d.called_off = '' GROUP BY 1 ORDER BY 1 LIMIT 36",
    )
    .and_then(|mut q| {
        q.query_map((us(now), bound), |row| {
            let month: String = row.get(0)?;
            Ok((month.parse().map_err(|_| foreign("dates.starts", month))?, row.get(1)?))
        })?
        .collect()
    })
    .doing("counting months")
}

/// Adds a date to an event, with capacities for its pool kinds in their order.
///
/// # Errors
/// SQLite refuses.
pub fn add_date(
    tx: &Tx<'_>,
    event: EventId,
    new: &NewDate,
    run: Option<i64>,
) -> Result<DateId, StoreError> {
    let kinds: Vec<i64> = super::pool_kinds(tx, event)?.into_iter().map(|(id, _)| id).collect();
    super::plan::insert_date(tx, event.0, new, &kinds, run).map(DateId).doing("adding a date")
}

/// Notes that what is told of a date has changed.
///
/// # Errors
/// SQLite refuses.
pub fn date_changed(tx: &Tx<'_>, id: DateId, now: Timestamp) -> Result<(), StoreError> {
    tx.execute("UPDATE dates SET changed_at = ?2 WHERE id = ?1", (id.0, us(now)))
        .map(drop)
        .doing("noting a change")
}

/// Moves a date to other times; calendars follow by its sequence.
///
/// # Errors
/// SQLite refuses.
pub fn move_date(tx: &Tx<'_>, id: DateId, span: &Span) -> Result<(), StoreError> {
    tx.touch(id);
    tx.execute(
        "UPDATE dates SET starts = ?2, ends = ?3, zone = ?4, starts_at = ?5, ends_at = ?6,
            sequence = sequence + 1 WHERE id = ?1",
        (
            id.0,
            span.starts.to_string(),
            span.ends.to_string(),
            &span.zone,
            us(span.starts_at),
            us(span.ends_at),
        ),
    )
    .map(drop)
    .doing("moving a date")
}

/// Moves the sessions of a date along with it, at the same distance from its start.
///
/// # Errors
/// SQLite refuses.
pub fn move_sessions(tx: &Tx<'_>, id: DateId, old: &Span, new: &Span) -> Result<(), StoreError> {
    let by = new.starts.since(old.starts).unwrap_or_default();
    for session in crate::sessions::of_date(tx, id)? {
        let (starts, ends) =
            (session.span.starts.saturating_add(by), session.span.ends.saturating_add(by));
        // An hour that does not exist keeps its instant's distance instead.
        let Ok(span) = Span::new(starts, ends, &new.zone) else { continue };
        tx.execute(
            "UPDATE date_sessions SET starts = ?2, ends = ?3, starts_at = ?4, ends_at = ?5 WHERE id = ?1",
            (
                session.facts.id.0,
                span.starts.to_string(),
                span.ends.to_string(),
                us(span.starts_at),
                us(span.ends_at),
            ),
        )
        .doing("moving sessions")?;
    }
    Ok(())
}

/// Writes a repeat rule down, for the dates that come of it; gives its key.
///
/// # Errors
/// SQLite refuses.
pub fn add_run(tx: &Tx<'_>, event: EventId, rule: &str) -> Result<i64, StoreError> {
    tx.execute("INSERT INTO runs (event_id, rule) VALUES (?1, ?2)", (event.0, rule))
        .doing("adding a run")?;
    Ok(tx.last_insert_rowid())
}

/// The repeat rules of an event, with the first and the number of their dates.
///
/// # Errors
/// SQLite refuses.
pub fn runs_of(conn: &Connection, event: EventId) -> Result<Vec<(i64, String, u32)>, StoreError> {
    conn.prepare_cached(
        "SELECT r.id, r.rule, (SELECT count(*) FROM dates d WHERE d.run_id = r.id) FROM runs r
         WHERE r.event_id = ?1 ORDER BY r.id",
    )
    .and_then(|mut q| {
        q.query_map([event.0], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?.collect()
    })
    .doing("reading runs")
}

/// Adds something that an event counts; every date has so much of it.
///
/// # Errors
/// SQLite refuses.
pub fn add_pool_kind(
    tx: &Tx<'_>,
    event: EventId,
    name: &str,
    capacity: u32,
) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        tx.execute(
            "INSERT INTO pool_kinds (event_id, position, name)
             SELECT ?1, coalesce(max(position) + 1, 0), ?2 FROM pool_kinds WHERE event_id = ?1",
            (event.0, name),
        )?;
        let kind = tx.last_insert_rowid();
        tx.execute(
            "INSERT INTO pools (date_id, kind_id, capacity) SELECT id, ?2, ?3 FROM dates WHERE event_id = ?1",
            (event.0, kind, capacity),
        )
        .map(drop)
    };
    write().doing("adding a pool")
}

/// Gives a date another place and other margins.
///
/// # Errors
/// SQLite refuses.
pub fn change_date(
    tx: &Tx<'_>,
    id: DateId,
    venue: VenueId,
    room: Option<RoomId>,
    margins: (u32, u32),
) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE dates SET sequence = sequence + (venue_id <> ?2 OR room_id IS NOT ?3), venue_id = ?2,
            room_id = ?3, setup_minutes = ?4, clearup_minutes = ?5 WHERE id = ?1",
        (id.0, venue.0, room.map(|r| r.0), margins.0, margins.1),
    )
    .map(drop)
    .doing("changing a date")
}

/// Gives a date these hosts and no others.
///
/// # Errors
/// SQLite refuses.
pub fn set_hosts(tx: &Tx<'_>, id: DateId, hosts: &[HostId]) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        tx.execute("DELETE FROM date_hosts WHERE date_id = ?1", [id.0])?;
        for host in hosts {
            tx.execute(
                "INSERT OR IGNORE INTO date_hosts (date_id, host_id) VALUES (?1, ?2)",
                (id.0, host.0),
            )?;
        }
        Ok(())
    };
    write().doing("naming hosts")
}

/// Gives a pool another capacity. One below what is taken is over-full on purpose.
///
/// # Errors
/// SQLite refuses.
pub fn set_capacity(tx: &Tx<'_>, pool: PoolId, capacity: u32) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE pools SET capacity = ?2, accepted = CASE
            WHEN held + requested + awaiting_payment + confirmed > ?2
            THEN held + requested + awaiting_payment + confirmed ELSE 0 END WHERE id = ?1",
        (pool.0, capacity),
    )
    .map(drop)
    .doing("changing a capacity")
}

/// Notes why a date will not happen.
///
/// # Errors
/// SQLite refuses.
pub fn call_off(tx: &Tx<'_>, id: DateId, reason: &str) -> Result<(), StoreError> {
    tx.touch(id);
    tx.execute(
        "UPDATE dates SET called_off = ?2, sequence = sequence + 1 WHERE id = ?1",
        (id.0, reason),
    )
    .map(drop)
    .doing("calling a date off")
}

/// Whether nobody ever booked a date, so that it may vanish.
///
/// # Errors
/// SQLite refuses.
pub fn without_bookings(conn: &Connection, id: DateId) -> Result<bool, StoreError> {
    conn.prepare_cached(
        "SELECT NOT EXISTS (SELECT 1 FROM bookings WHERE date_id = ?1)
            AND NOT EXISTS (SELECT 1 FROM booking_draws bd JOIN pools p ON p.id = bd.pool_id WHERE p.date_id = ?1)
            AND NOT EXISTS (SELECT 1 FROM attendees WHERE date_id = ?1)
            AND NOT EXISTS (SELECT 1 FROM scans WHERE date_id = ?1)",
    )
    .and_then(|mut q| q.query_row([id.0], |row| row.get(0)))
    .doing("looking for bookings")
}

/// Removes a date that nobody ever booked.
///
/// # Errors
/// SQLite refuses; also when somebody has booked it.
pub fn remove_date(tx: &Tx<'_>, id: DateId) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        for sql in [
            "DELETE FROM date_sessions WHERE date_id = ?1",
            "DELETE FROM date_hosts WHERE date_id = ?1",
            "DELETE FROM pools WHERE date_id = ?1",
            "DELETE FROM dates WHERE id = ?1",
        ] {
            tx.prepare_cached(sql)?.execute([id.0])?;
        }
        Ok(())
    };
    write().doing("removing a date")
}
