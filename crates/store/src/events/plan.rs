//! Whole events as plans: written down, read back to be copied, kept as patterns.

use jiff::Timestamp;
use matricle_core::EventId;
use rusqlite::{Connection, OptionalExtension};

use crate::convert::json;
use crate::events::change::insert_date;
use crate::events::dates::{capacities, dates_of, online_of};
use crate::events::event::{EventState, by_id, index, set_tags, tags_of};
use crate::events::new::{NewDate, NewEvent, NewQuestion};
use crate::events::questions::questions;
use crate::events::tickets::{insert_ticket, pool_kinds, ticket_rows};
use crate::{Doing, StoreError, Tx, us};

/// Writes a whole event down.
///
/// # Errors
/// SQLite refuses, for instance because the slug is taken.
pub fn insert(tx: &Tx<'_>, new: &NewEvent, now: Timestamp) -> Result<EventId, StoreError> {
    let id = write(tx, new, now).map(EventId).doing("writing an event")?;
    set_tags(tx, id, &new.tags)?;
    if let Some(plan) = &new.slots {
        crate::events::slots::set_plan(tx, id, plan)?;
    }
    index(tx, id)?;
    Ok(id)
}

fn write(tx: &Tx<'_>, new: &NewEvent, now: Timestamp) -> rusqlite::Result<i64> {
    tx.execute(
        "INSERT INTO events (slug, title, kind, lead, description, bring, refund_note, state,
            hold_minutes, made_at, button, after_note, listed, format, online_link, online_passcode,
            course, latecomers, who, once, changed_at, rules, accent, drop_in, price_words, contact)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18,
            ?19, ?20, ?10, ?21, ?22, ?23, ?24, ?25)",
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
            json(&new.rules)?,
            new.accent,
            new.drop_in,
            new.price_words,
            new.contact,
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

/// Reads an event back as a plan: all but its bookings. Its draft state, address and a
/// set time of publishing stay with the original.
pub fn read(conn: &Connection, id: EventId) -> Result<Option<NewEvent>, StoreError> {
    let Some(e) = by_id(conn, id)? else { return Ok(None) };
    let slots = crate::events::slots::plan_of(conn, id)?;
    let mut dates = Vec::new();
    // Slots are cut afresh, not copied.
    for date in if slots.is_some() { Vec::new() } else { dates_of(conn, id)? } {
        let capacities = capacities(conn, date.id)?;
        dates.push(NewDate {
            span: date.span,
            venue: date.venue,
            address: date.address,
            directions: date.directions,
            room: date.room,
            hosts: date.hosts.split(", ").filter(|h| !h.is_empty()).map(String::from).collect(),
            margins: date.margins,
            capacities,
            sessions: crate::events::sessions::plans(conn, date.id)?,
            online: online_of(conn, date.id)?,
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
        accent: e.accent,
        drop_in: e.drop_in,
        price_words: e.price_words,
        contact: e.contact,
    }))
}
