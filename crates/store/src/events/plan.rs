//! Whole events as plans: written down, read back to be copied, kept as patterns.

use jiff::{Timestamp, ToSpan, tz::TimeZone};
use matricle_core::EventId;
use matricle_core::booking::Rules;
use matricle_core::confirm::Way;
use matricle_core::details::Answering;
use matricle_core::price::{Early, Group};
use matricle_core::schedule::{SaleWindow, Span, SpanError};
use matricle_core::who::Who;
use rusqlite::{Connection, OptionalExtension};
use serde::{Deserialize, Serialize};

use super::tickets::{days_later, questions, ticket_rows};
use super::{EventState, Format, by_id, dates_of, index, pool_kinds, tags_of};
use crate::{Doing, StoreError, Tx, us};

/// An event to be written down, with everything that belongs to it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct NewEvent {
    /// Its address in the Programme.
    pub slug: String,
    /// Its title.
    pub title: String,
    /// What kind of event.
    pub kind: String,
    /// One sentence.
    pub lead: String,
    /// Sanitised HTML.
    pub description: String,
    /// What to bring.
    pub bring: String,
    /// The cancellation steps in words.
    pub refund_note: String,
    /// Its state.
    pub state: EventState,
    /// How long chosen seats are kept, in minutes.
    pub hold_minutes: i64,
    /// The word on the booking button.
    pub button: String,
    /// Shown and mailed after booking.
    pub after_note: String,
    /// Only for those with the link.
    pub unlisted: bool,
    /// In person, online, or both.
    pub format: Format,
    /// Where it happens online.
    pub online_link: String,
    /// The passcode there.
    pub online_passcode: String,
    /// One booking covers all dates.
    pub course: bool,
    /// A course that has begun may still be booked.
    pub latecomers: bool,
    /// Who may book.
    pub who: Who,
    /// One booking a person.
    pub once: bool,
    /// What may happen to its bookings once they are made.
    pub rules: Rules,
    /// Slugs of its tags.
    pub tags: Vec<String>,
    /// Names of the pools; the first is the one its strip shows.
    pub pools: Vec<String>,
    /// Ticket types in their order.
    pub tickets: Vec<NewTicketType>,
    /// Questions in their order.
    pub questions: Vec<NewQuestion>,
    /// Its dates.
    pub dates: Vec<NewDate>,
    /// How its slots are cut, if it has slots.
    pub slots: Option<SlotPlan>,
}

/// A ticket type to be written down.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct NewTicketType {
    /// Its name.
    pub name: String,
    /// A line of explanation.
    pub note: String,
    /// Price of one in minor units.
    pub minor: i64,
    /// The early price.
    pub early: Option<Early>,
    /// The price for members.
    pub member: Option<i64>,
    /// The price by group size.
    pub group: Option<Group>,
    /// The name of its tax rate.
    pub tax: Option<String>,
    /// When it is sold.
    pub sale: SaleWindow,
    /// How many for one date.
    pub per_date: Option<u32>,
    /// The fewest in one booking, if any.
    pub least: u32,
    /// The most in one booking.
    pub most: u32,
    /// People one lets in.
    pub admits: u32,
    /// Shown only to those who give this word.
    pub word: String,
    /// Sold to members only.
    pub members_only: bool,
    /// Sold only to whoever has proved one of these addresses; empty for everybody.
    pub invited: Vec<String>,
    /// Taken off sale by hand.
    pub closed: bool,
    /// Stamps that one costs, where stamps are taken for it.
    pub stamps: Option<u32>,
    /// The name of the kind of stamp card that one is: it lets nobody in.
    pub card: Option<String>,
    /// Whether bookings with it wait for the organiser's yes; `None` as the event says.
    pub confirm: Option<Way>,
    /// Seats it draws from each pool, by the pool's place in [`NewEvent::pools`].
    pub draws: Vec<(usize, u32)>,
}

impl Default for NewTicketType {
    fn default() -> Self {
        Self {
            name: "Seat".into(),
            note: String::new(),
            minor: 0,
            early: None,
            member: None,
            group: None,
            tax: None,
            sale: SaleWindow::default(),
            per_date: None,
            least: 1,
            most: 10,
            admits: 1,
            word: String::new(),
            members_only: false,
            invited: Vec::new(),
            closed: false,
            stamps: None,
            card: None,
            confirm: None,
            draws: vec![(0, 1)],
        }
    }
}

/// A question to be written down.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewQuestion {
    /// Its wording.
    pub label: String,
    /// How it is answered.
    pub answering: Answering,
    /// Whether an answer is needed.
    pub needed: bool,
    /// Asked of each attendee.
    #[serde(default)]
    pub each: bool,
    /// Only for these tickets, by their place; empty for all.
    #[serde(default)]
    pub only: Vec<usize>,
}

/// A date to be written down.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewDate {
    /// When.
    pub span: Span,
    /// The venue's name; a new one is made with the address.
    pub venue: String,
    /// Its address.
    pub address: String,
    /// How to get there.
    pub directions: String,
    /// The room's name; a new one is made. Empty for the whole venue.
    pub room: String,
    /// Names of those who lead it; new ones are made.
    pub hosts: Vec<String>,
    /// Minutes to set up before, and to clear up after.
    #[serde(default)]
    pub margins: (u32, u32),
    /// Capacity of each pool, in their order.
    pub capacities: Vec<u32>,
    /// Its sessions.
    #[serde(default)]
    pub sessions: Vec<NewSession>,
}

/// A session to be written down.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewSession {
    /// Its title.
    pub title: String,
    /// Its track; may be empty.
    pub track: String,
    /// Its room, in the venue of the date; may be empty.
    pub room: String,
    /// Who gives it; may be empty.
    pub host: String,
    /// When.
    pub span: Span,
    /// Seats, if they are counted.
    pub seats: Option<u32>,
    /// Whether one signs up for it.
    pub sign_up: bool,
}

/// How an event's slots are cut from the opening hours.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SlotPlan {
    /// Minutes of one slot.
    pub minutes: u32,
    /// Minutes between two.
    pub pause: u32,
    /// How many are served at one time.
    pub desks: u32,
    /// Booked at the latest so many hours before.
    pub notice_hours: u32,
    /// Booked at the earliest so many days before.
    pub ahead_days: u32,
    /// The venue's name.
    pub venue: String,
    /// The room's name; may be empty.
    pub room: String,
}

/// Writes a whole event down.
///
/// # Errors
/// SQLite refuses, for instance because the slug is taken.
pub fn insert(tx: &Tx<'_>, new: &NewEvent, now: Timestamp) -> Result<EventId, StoreError> {
    let id = write(tx, new, now).map(EventId).doing("writing an event")?;
    super::set_tags(tx, id, &new.tags)?;
    if let Some(plan) = &new.slots {
        crate::slots::set_plan(tx, id, plan)?;
    }
    index(tx, id)?;
    Ok(id)
}

pub(super) fn json(value: &impl Serialize) -> rusqlite::Result<String> {
    serde_json::to_string(value).map_err(|e| rusqlite::Error::ToSqlConversionFailure(e.into()))
}

fn write(tx: &Tx<'_>, new: &NewEvent, now: Timestamp) -> rusqlite::Result<i64> {
    tx.execute(
        "INSERT INTO events (slug, title, kind, lead, description, bring, refund_note, state,
            hold_minutes, made_at, button, after_note, listed, format, online_link, online_passcode,
            course, latecomers, who, once, changed_at, rules)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18,
            ?19, ?20, ?10, ?21)",
        rusqlite::params![
            new.slug,
            new.title,
            new.kind,
            new.lead,
            new.description,
            new.bring,
            new.refund_note,
            new.state.word(),
            new.hold_minutes.clamp(1, 240),
            us(now),
            new.button,
            new.after_note,
            !new.unlisted,
            new.format.word(),
            new.online_link,
            new.online_passcode,
            new.course,
            new.latecomers,
            json(&new.who)?,
            new.once,
            json(&new.rules)?
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
    let mut tickets = Vec::new();
    for (position, ticket) in (0i64..).zip(&new.tickets) {
        insert_ticket(tx, event, position, ticket, &kinds)?;
        tickets.push(tx.query_row(
            "SELECT id FROM ticket_types WHERE event_id = ?1 AND position = ?2",
            (event, position),
            |row| row.get::<_, i64>(0),
        )?);
    }
    for (position, q) in (0i64..).zip(&new.questions) {
        let only: Vec<i64> = q.only.iter().filter_map(|i| tickets.get(*i).copied()).collect();
        tx.execute(
            "INSERT INTO questions (event_id, position, label, answering, needed, each, only_tickets)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            (event, position, &q.label, json(&q.answering)?, q.needed, q.each, json(&only)?),
        )?;
    }
    for date in &new.dates {
        insert_date(tx, event, date, &kinds, None)?;
    }
    Ok(event)
}

pub(super) fn insert_ticket(
    tx: &Tx<'_>,
    event: i64,
    position: i64,
    ticket: &NewTicketType,
    kinds: &[i64],
) -> rusqlite::Result<()> {
    tx.execute(
        "INSERT INTO ticket_types (event_id, position, name, note, minor, early_minor,
            early_until, sale_from, sale_until, per_date, most, admits, member_minor, group_from,
            group_minor, least, code, members_only, closed, invited, stamps, after_yes, tax_rate_id, card_kind_id)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18, ?19, ?20,
            ?21, ?22, (SELECT id FROM tax_rates WHERE name = ?23), (SELECT id FROM card_kinds WHERE name = ?24))",
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
            ticket.admits.max(1),
            ticket.member,
            ticket.group.map(|g| g.from),
            ticket.group.map(|g| g.minor),
            ticket.least.max(1),
            ticket.word,
            ticket.members_only,
            ticket.closed,
            json(&ticket.invited)?,
            ticket.stamps,
            ticket.confirm.map(|w| w == Way::AfterYes),
            ticket.tax,
            ticket.card,
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

pub(super) fn insert_date(
    tx: &Tx<'_>,
    event: i64,
    new: &NewDate,
    kinds: &[i64],
    run: Option<i64>,
) -> rusqlite::Result<i64> {
    let venue = crate::places::venue(tx, &new.venue, &new.address, &new.directions)?;
    let room = crate::places::room(tx, venue, &new.room)?;
    let span = &new.span;
    tx.prepare_cached(
        "INSERT INTO dates (event_id, starts, ends, zone, starts_at, ends_at, venue_id, room_id,
            setup_minutes, clearup_minutes, run_id)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11)",
    )?
    .execute(rusqlite::params![
        event,
        span.starts.to_string(),
        span.ends.to_string(),
        span.zone,
        us(span.starts_at),
        us(span.ends_at),
        venue,
        room,
        new.margins.0,
        new.margins.1,
        run
    ])?;
    let date = tx.last_insert_rowid();
    for host in &new.hosts {
        let host = crate::places::host(tx, host)?;
        tx.prepare_cached("INSERT OR IGNORE INTO date_hosts (date_id, host_id) VALUES (?1, ?2)")?
            .execute((date, host))?;
    }
    for (kind, capacity) in kinds.iter().zip(&new.capacities) {
        tx.prepare_cached("INSERT INTO pools (date_id, kind_id, capacity) VALUES (?1, ?2, ?3)")?
            .execute((date, kind, capacity))?;
    }
    for session in &new.sessions {
        crate::sessions::insert(tx, date, venue, session)?;
    }
    Ok(date)
}

/// Reads an event back as a plan: all but its bookings. Its draft state, address and a
/// set time of publishing stay with the original.
///
/// # Errors
/// SQLite refuses.
pub fn read(conn: &Connection, id: EventId) -> Result<Option<NewEvent>, StoreError> {
    let Some(e) = by_id(conn, id)? else { return Ok(None) };
    let slots = crate::slots::plan_of(conn, id)?;
    let mut dates = Vec::new();
    // Slots are cut afresh, not copied.
    for date in if slots.is_some() { Vec::new() } else { dates_of(conn, id)? } {
        let capacities = super::dates::capacities(conn, date.id)?;
        dates.push(NewDate {
            span: date.span,
            venue: date.venue,
            address: date.address,
            directions: date.directions,
            room: date.room,
            hosts: date.hosts.split(", ").filter(|h| !h.is_empty()).map(String::from).collect(),
            margins: date.margins,
            capacities,
            sessions: crate::sessions::plans(conn, date.id)?,
        });
    }
    let tickets = ticket_rows(conn, id)?;
    let questions = questions(conn, id)?
        .into_iter()
        .map(|q| NewQuestion {
            label: q.label,
            answering: q.answering,
            needed: q.needed,
            each: q.each,
            only: q.only.iter().filter_map(|id| tickets.iter().position(|t| t.id == *id)).collect(),
        })
        .collect();
    let hold: Option<i64> = conn
        .query_row("SELECT hold_minutes FROM events WHERE id = ?1", [id.0], |row| row.get(0))
        .optional()
        .doing("reading an event")?;
    Ok(Some(NewEvent {
        slug: e.slug,
        title: e.title,
        kind: e.kind,
        lead: e.lead,
        description: e.description,
        bring: e.bring,
        refund_note: e.refund_note,
        state: EventState::Draft,
        hold_minutes: hold.unwrap_or(15),
        button: e.button,
        after_note: e.after_note,
        unlisted: !e.listed,
        format: e.format,
        online_link: e.online_link,
        online_passcode: e.online_passcode,
        course: e.course,
        latecomers: e.latecomers,
        who: e.who,
        rules: e.rules,
        once: e.once,
        tags: tags_of(conn, id)?.into_iter().map(|(slug, _)| slug).collect(),
        pools: pool_kinds(conn, id)?.into_iter().map(|(_, name)| name).collect(),
        tickets: tickets.into_iter().map(|t| t.plan).collect(),
        questions,
        dates,
        slots,
    }))
}

impl NewEvent {
    /// Moves every date, session, sale window and early price by so many days, on the
    /// wall clock: what was at seven in the evening stays at seven.
    ///
    /// # Errors
    /// A date would begin or end in an hour that a clock change skips or repeats.
    pub fn shift(&mut self, days: i32, zone: &TimeZone) -> Result<(), SpanError> {
        let later = |span: &Span| {
            let by = days.days();
            Span::new(span.starts.saturating_add(by), span.ends.saturating_add(by), &span.zone)
        };
        for date in &mut self.dates {
            date.span = later(&date.span)?;
            for session in &mut date.sessions {
                session.span = later(&session.span)?;
            }
        }
        for ticket in &mut self.tickets {
            let moved = |at: Timestamp| days_later(at, days, zone);
            if let Some(early) = &mut ticket.early {
                early.until = moved(early.until);
            }
            ticket.sale.from = ticket.sale.from.map(moved);
            ticket.sale.until = ticket.sale.until.map(moved);
        }
        Ok(())
    }
}
