//! Notices: what everybody reads on an event's page and in the feed.

use jiff::Timestamp;
use matricle_core::messages::cue::Way;
use matricle_core::{EventId, MessageId};
use rusqlite::Connection;

use crate::convert::InOrder;
use crate::outbox::answers;
use crate::{Doing, StoreError, Tx, us};

/// A notice that is up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Notice {
    /// Its key.
    pub id: MessageId,
    /// Its event.
    pub event: EventId,
    /// The event's title.
    pub title: String,
    /// The event's address in the Programme.
    pub slug: String,
    /// Its heading.
    pub subject: String,
    /// Its words.
    pub words: String,
    /// When it was put up.
    pub at: Timestamp,
}

const UP: &str = "SELECT o.id, e.id, e.title, e.slug, s.subject, s.packed, o.sent_at
    FROM outbox o JOIN events e ON e.id = o.event_id JOIN said s ON s.outbox_id = o.id
    LEFT JOIN dates d ON d.id = o.date_id
    WHERE o.way = 'notice' AND o.state = 'sent' AND o.reason = '' AND o.sent_at >= ?1
        AND (d.ends_at IS NULL OR d.ends_at > ?2)";

fn read(
    conn: &Connection,
    more: &str,
    event: Option<EventId>,
    since: Timestamp,
    now: Timestamp,
) -> Result<Vec<Notice>, StoreError> {
    conn.prepare_cached(&format!("{UP} {more} ORDER BY o.sent_at DESC, o.id DESC LIMIT 20"))
        .and_then(|mut q| {
            q.query_map((us(since), us(now), event.map(|e| e.0)), |row| {
                let mut c = InOrder::from(row, 0);
                Ok(Notice {
                    id: MessageId(c.next()?),
                    event: EventId(c.next()?),
                    title: c.next()?,
                    slug: c.next()?,
                    subject: c.next()?,
                    words: answers::unpacked(&c.next::<Vec<u8>>()?)?,
                    at: c.instant()?,
                })
            })?
            .collect()
        })
        .doing("reading notices")
}

/// The notices of an event put up since an instant, of dates that are not over, the latest
/// first: at most twenty.
pub fn notices(
    conn: &Connection,
    event: EventId,
    since: Timestamp,
    now: Timestamp,
) -> Result<Vec<Notice>, StoreError> {
    read(conn, "AND o.event_id = ?3", Some(event), since, now)
}

/// The notices of all events that the Programme lists.
pub fn notices_listed(
    conn: &Connection,
    since: Timestamp,
    now: Timestamp,
) -> Result<Vec<Notice>, StoreError> {
    read(
        conn,
        "AND ?3 IS NULL AND e.listed = 1 AND e.state IN ('published', 'called off')",
        None,
        since,
        now,
    )
}

/// A notice is put up or taken down: pages are kept only until a plan changes.
pub fn notices_changed(tx: &Tx<'_>) -> Result<(), StoreError> {
    tx.execute("UPDATE plan_version SET n = n + 1", []).map(drop).doing("noting a change")
}

/// Takes a notice down that was put up, or puts it up again.
pub fn take_down(tx: &Tx<'_>, id: MessageId, why: &str) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE outbox SET reason = ?2 WHERE id = ?1 AND way = ?3 AND state = 'sent' AND reason <> ?2",
    )
    .and_then(|mut q| q.execute((id.0, why, Way::Notice.word())))
    .doing("taking a notice down")?;
    notices_changed(tx)
}
