//! Cues: the house's and those of events.

use std::collections::HashMap;
use std::rc::Rc;

use jiff::Timestamp;
use matricle_core::messages::cue::{Cue, Late, Only, Trigger, Way, When, Whom};
use matricle_core::{CueId, EventId, TemplateId};
use rusqlite::{Connection, OptionalExtension, Row, ToSql};
use serde::de::DeserializeOwned;

use crate::convert::{InOrder, foreign, json};
use crate::unreadable::readable;
use crate::{Doing, StoreError, Tx, us};

const COLUMNS: &str = "id, event_id, instead_of, active, happens, at, whom, only, way, template_id, late, \
     since, added_at, already";

fn of_json<T: DeserializeOwned>(column: &'static str, text: &str) -> rusqlite::Result<T> {
    serde_json::from_str(text).map_err(|_| foreign(column, text.to_owned()))
}

fn cue(row: &Row<'_>) -> rusqlite::Result<Cue> {
    let mut c = InOrder::from(row, 0);
    Ok(Cue {
        id: CueId(c.next()?),
        event: c.next::<Option<i64>>()?.map(EventId),
        instead_of: c.next::<Option<i64>>()?.map(CueId),
        on: c.next()?,
        trigger: c.word("cues.happens", Trigger::from_word)?,
        when: of_json::<When>("cues.at", &c.next::<String>()?)?,
        whom: of_json::<Whom>("cues.whom", &c.next::<String>()?)?,
        only: of_json::<Only>("cues.only", &c.next::<String>()?)?,
        way: c.word("cues.way", Way::from_word)?,
        template: TemplateId(c.next()?),
        late: of_json::<Late>("cues.late", &c.next::<String>()?)?,
        since: c.instant_or()?,
        added_at: c.instant()?,
        already: c.next()?,
    })
}

/// The house's cues and an event's own, in the order they were made.
pub fn of(conn: &Connection, event: Option<EventId>) -> Result<Vec<Cue>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM cues WHERE removed_at IS NULL AND (event_id IS NULL OR event_id = ?1)
         ORDER BY id"
    ))
    .and_then(|mut q| readable("cues", q.query_map([event.map(|e| e.0)], cue)?))
    .doing("reading cues")
}

/// Whether any cue at all speaks of this.
pub fn speak_of(conn: &Connection, trigger: Trigger) -> Result<bool, StoreError> {
    conn.prepare_cached(
        "SELECT EXISTS (SELECT 1 FROM cues WHERE happens = ?1 AND active = 1 AND removed_at IS NULL)",
    )
    .and_then(|mut q| q.query_row([trigger.word()], |row| row.get(0)))
    .doing("asking whether any cue speaks of something")
}

/// Cue sheets by event, true for one version of all plans.
#[derive(Default)]
struct Sheets {
    version: i64,
    by_event: HashMap<EventId, Rc<Vec<Cue>>>,
}

/// The cues that hold for an event: read once, and kept by the writing thread until any plan
/// changes.
pub fn sheet(tx: &Tx<'_>, event: EventId) -> Result<Rc<Vec<Cue>>, StoreError> {
    let version = crate::plan_version::plan_version(tx)?;
    let known = tx.remembered(|sheets: &mut Sheets| {
        if sheets.version != version {
            *sheets = Sheets { version, by_event: HashMap::new() };
        }
        sheets.by_event.get(&event).map(Rc::clone)
    });
    if let Some(known) = known {
        return Ok(known);
    }
    let fresh = Rc::new(matricle_core::messages::cue::sheet(event, &of(tx, Some(event))?));
    tx.remembered(|sheets: &mut Sheets| sheets.by_event.insert(event, Rc::clone(&fresh)));
    Ok(fresh)
}

/// A cue by its key, a removed one too.
pub fn by_id(conn: &Connection, id: CueId) -> Result<Option<Cue>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM cues WHERE id = ?1"))
        .and_then(|mut q| q.query_row([id.0], cue).optional())
        .doing("looking a cue up")
}

/// The program's own cue that a cue began as; empty for one of the house's.
pub fn standard_of(conn: &Connection, id: CueId) -> Result<String, StoreError> {
    conn.prepare_cached("SELECT coalesce(standard, '') FROM cues WHERE id = ?1")
        .and_then(|mut q| q.query_row([id.0], |row| row.get(0)).optional())
        .map(Option::unwrap_or_default)
        .doing("looking a cue up")
}

/// How many of the program's own cues there are.
pub fn standards(conn: &Connection) -> Result<u32, StoreError> {
    conn.prepare_cached("SELECT count(*) FROM cues WHERE standard IS NOT NULL")
        .and_then(|mut q| q.query_row([], |row| row.get(0)))
        .doing("counting cues")
}

/// Writes a cue down: a new one with the key 0, or over the one that is there. `standard` names
/// one of the program's own, which is written once and then left to the house.
pub fn save(tx: &Tx<'_>, cue: &Cue, standard: Option<&str>) -> Result<CueId, StoreError> {
    let write = || -> rusqlite::Result<CueId> {
        let (when, whom) = (json(&cue.when)?, json(&cue.whom)?);
        let (only, late) = (json(&cue.only)?, json(&cue.late)?);
        let is_new = cue.id == CueId(0);
        let sql = if is_new {
            "INSERT OR IGNORE INTO cues (event_id, instead_of, active, happens, at, whom, only, way, template_id,
                late, since, added_at, standard, already)
             VALUES (:event, :instead, :on, :happens, :at, :whom, :only, :way, :template, :late, :since, :added,
                :standard, :already)"
        } else {
            "UPDATE cues SET active = :on, happens = :happens, at = :at, whom = :whom, only = :only, way = :way,
                template_id = :template, late = :late, since = :since WHERE id = :id"
        };
        let mut params: Vec<(&str, &dyn ToSql)> = Vec::new();
        let (event, instead) = (cue.event.map(|e| e.0), cue.instead_of.map(|c| c.0));
        let (happens, way) = (cue.trigger.word(), cue.way.word());
        let (since, added) = (cue.since.map(us), us(cue.added_at));
        params.extend::<[(&str, &dyn ToSql); 9]>([
            (":on", &cue.on),
            (":happens", &happens),
            (":at", &when),
            (":whom", &whom),
            (":only", &only),
            (":way", &way),
            (":template", &cue.template.0),
            (":late", &late),
            (":since", &since),
        ]);
        if is_new {
            params.extend::<[(&str, &dyn ToSql); 5]>([
                (":event", &event),
                (":instead", &instead),
                (":added", &added),
                (":standard", &standard),
                (":already", &cue.already),
            ]);
            tx.execute(sql, &params[..])?;
            return Ok(CueId(tx.last_insert_rowid()));
        }
        params.push((":id", &cue.id.0));
        tx.execute(sql, &params[..])?;
        Ok(cue.id)
    };
    write().doing("writing a cue")
}

/// Takes a cue off its sheet, or puts it back; what it sent stays.
pub fn remove(tx: &Tx<'_>, id: CueId, at: Option<Timestamp>) -> Result<(), StoreError> {
    tx.execute("UPDATE cues SET removed_at = ?2 WHERE id = ?1", (id.0, at.map(us)))
        .map(drop)
        .doing("removing a cue")
}

/// Where a template is used: the cues that speak with it.
pub fn using(conn: &Connection, template: TemplateId) -> Result<Vec<Cue>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM cues WHERE template_id = ?1 AND removed_at IS NULL ORDER BY id"
    ))
    .and_then(|mut q| readable("cues", q.query_map([template.0], cue)?))
    .doing("looking where a template is used")
}
