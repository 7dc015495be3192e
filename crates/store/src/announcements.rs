//! Announcements: one-off messages to chosen people, with how far each has got.

use jiff::Timestamp;
use matricle_core::{EventId, TemplateId};
use rusqlite::{Connection, OptionalExtension, Row};

use crate::convert::InOrder;
use crate::{Doing, StoreError, Tx, us};

/// An announcement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Announcement {
    /// Its key.
    pub id: i64,
    /// The event.
    pub event: EventId,
    /// The event's title.
    pub title: String,
    /// Its words.
    pub template: TemplateId,
    /// Its subject, as written.
    pub subject: String,
    /// To whom, in words.
    pub whom: String,
    /// Who was chosen, in JSON; empty for one that was made before this was kept.
    pub chosen: String,
    /// When it was made, and by whom.
    pub made_at: Timestamp,
    /// Who made it.
    pub who: String,
    /// When it was stopped, if it is.
    pub stopped_at: Option<Timestamp>,
    /// How many went out.
    pub sent: u32,
    /// How many are still to go, or wait because it is stopped.
    pub left: u32,
    /// How many do not get it, or could not be reached.
    pub not: u32,
}

const COLUMNS: &str = "a.id, a.event_id, e.title, a.template_id, t.subject, a.whom, a.chosen, a.made_at, a.who, a.stopped_at, \
     (SELECT count(*) FROM outbox o WHERE o.announcement_id = a.id AND o.state = 'sent'), \
     (SELECT count(*) FROM outbox o WHERE o.announcement_id = a.id AND (o.state IN ('planned', 'sending') \
        OR (o.state = 'skipped' AND o.reason = 'the announcement is stopped'))), \
     (SELECT count(*) FROM outbox o WHERE o.announcement_id = a.id AND (o.state IN ('failed', 'withdrawn') \
        OR (o.state = 'skipped' AND o.reason <> 'the announcement is stopped')))";

fn announcement(row: &Row<'_>) -> rusqlite::Result<Announcement> {
    let mut c = InOrder::from(row, 0);
    Ok(Announcement {
        id: c.next()?,
        event: EventId(c.next()?),
        title: c.next()?,
        template: TemplateId(c.next()?),
        subject: c.next()?,
        whom: c.next()?,
        chosen: c.next()?,
        made_at: c.instant()?,
        who: c.next()?,
        stopped_at: c.instant_or()?,
        sent: c.next()?,
        left: c.next()?,
        not: c.next()?,
    })
}

/// So many announcements are listed at most.
pub const LISTED: usize = 200;

/// The latest announcements of an event, or of all, the latest first: [`LISTED`] at most.
pub fn all(conn: &Connection, event: Option<EventId>) -> Result<Vec<Announcement>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM announcements a JOIN events e ON e.id = a.event_id
         JOIN templates t ON t.id = a.template_id WHERE ?1 IS NULL OR a.event_id = ?1 ORDER BY a.id DESC LIMIT {LISTED}"
    ))
    .and_then(|mut q| q.query_map([event.map(|e| e.0)], announcement)?.collect())
    .doing("reading announcements")
}

/// An announcement by its key.
pub fn by_id(conn: &Connection, id: i64) -> Result<Option<Announcement>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM announcements a JOIN events e ON e.id = a.event_id
         JOIN templates t ON t.id = a.template_id WHERE a.id = ?1"
    ))
    .and_then(|mut q| q.query_row([id], announcement).optional())
    .doing("looking an announcement up")
}

/// Writes an announcement down.
pub fn add(
    tx: &Tx<'_>,
    event: EventId,
    template: TemplateId,
    (whom, chosen): (&str, &str),
    who: &str,
    now: Timestamp,
) -> Result<i64, StoreError> {
    tx.execute(
        "INSERT INTO announcements (event_id, template_id, whom, chosen, made_at, who) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
        (event.0, template.0, whom, chosen, us(now), who),
    )
    .map(|_| tx.last_insert_rowid())
    .doing("writing an announcement")
}

/// Stops an announcement, or lets it go on: what has not gone out waits, or goes.
pub fn stop(tx: &Tx<'_>, id: i64, at: Option<Timestamp>, now: Timestamp) -> Result<(), StoreError> {
    const WHY: &str = "the announcement is stopped";
    let write = || -> rusqlite::Result<()> {
        tx.execute("UPDATE announcements SET stopped_at = ?2 WHERE id = ?1", (id, at.map(us)))?;
        if at.is_some() {
            tx.execute(
                "UPDATE outbox SET state = 'skipped', next_try_at = NULL, reason = ?2
                 WHERE announcement_id = ?1 AND state = 'planned'",
                (id, WHY),
            )?;
        } else {
            tx.execute(
                "UPDATE outbox SET state = 'planned', next_try_at = max(planned_at, ?3), reason = ''
                 WHERE announcement_id = ?1 AND state = 'skipped' AND reason = ?2",
                (id, WHY, us(now)),
            )?;
        }
        Ok(())
    };
    write().doing("stopping an announcement")
}
