//! The outbox as lists: by words, by state, by event; whom to ring.

use jiff::Timestamp;
use matricle_core::messages::cue::Whom;
use matricle_core::messages::occasion::Knows;
use matricle_core::{BookingId, CueId, EventId, MessageId};
use rusqlite::{Connection, OptionalExtension, params_from_iter};

use crate::convert::{InOrder, foreign};
use crate::outbox::{COLUMNS, Message, MessageState, message_at};
use crate::{Doing, StoreError, Tx, us};

/// What to look for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Look {
    /// Of this event only.
    pub event: Option<EventId>,
    /// About this booking only.
    pub booking: Option<BookingId>,
    /// In these states; empty for all.
    pub states: Vec<MessageState>,
    /// Its minute is not before …
    pub from: Option<Timestamp>,
    /// … and before this.
    pub until: Option<Timestamp>,
    /// Words in address, name, reference or event.
    pub words: Vec<String>,
    /// In which order.
    pub sort: Sort,
    /// The other way round.
    pub backwards: bool,
}

matricle_core::worded! {
    /// What a list of messages is ordered by.
    #[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
    pub enum Sort {
        /// Its minute, or when it went.
        #[default]
        Minute = "minute",
        /// What it says, by the name of its template.
        Message = "message",
        /// The event.
        Event = "event",
        /// The booker.
        Name = "name",
        /// To which address.
        To = "to",
        /// By which way.
        Way = "way",
        /// Where it stands.
        State = "state",
    }
}

impl Sort {
    const fn column(self) -> &'static str {
        match self {
            Self::Minute => "o.planned_at",
            Self::Message => "coalesce(t.name, o.happened) COLLATE NOCASE",
            Self::Event => "e.title COLLATE NOCASE",
            Self::Name => "b.name COLLATE NOCASE",
            Self::To => "o.address COLLATE NOCASE",
            Self::Way => "o.way",
            Self::State => "o.state",
        }
    }
}

/// A message with what lists show beside it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// The message.
    pub message: Message,
    /// The booking's reference; empty where it is about none.
    pub reference: String,
    /// The booker's name; empty where it is about none.
    pub name: String,
    /// The event; none where it is about the whole house.
    pub event: Option<EventId>,
    /// Its title.
    pub title: String,
    /// The name of its template; empty for a standard wording of before.
    pub template: String,
    /// Whom its cue is for. Of those who come and those who miss it both are planned until it is
    /// known.
    pub whom: Option<Whom>,
    /// Of what is planned for those who come: the name of the template that goes in its place to
    /// whoever misses it; empty where nothing does.
    pub or_else: String,
}

/// Whom a cue is for; one that cannot be read is for nobody that is known here.
fn whom(kept: Option<String>) -> Option<Whom> {
    serde_json::from_str(&kept?).ok()
}

/// Of an event: about it itself, or about one of its bookings. Written so that both sides are
/// found by their index, in an outbox of many years.
const OF_EVENT: &str = "(o.event_id = ?# OR o.booking_id IN
    (SELECT f.id FROM dates g JOIN bookings f ON f.date_id = g.id WHERE g.event_id = ?#))";

/// Until it is known who came, one message is planned for whoever comes, and another, `w`, in its
/// place for whoever misses it: the same booking, box and minute.
const IN_ITS_PLACE: &str = "w.booking_id = o.booking_id AND w.address = o.address AND w.way = o.way
    AND w.planned_at = o.planned_at AND w.state = 'planned' AND w.id <> o.id";

/// Whom a cue is for, as it is written in a query.
fn kept(whom: &Whom) -> String {
    let json = serde_json::to_string(whom).unwrap_or_default();
    format!("'{json}'")
}

/// The other of two of which one goes, as it is not listed on a line of its own.
fn is_other() -> String {
    let (came, missed) = (kept(&Whom::Came), kept(&Whom::Missed));
    format!(
        "o.state = 'planned' AND o.cue_id IN (SELECT id FROM cues WHERE whom = {missed}) AND EXISTS
         (SELECT 1 FROM outbox w JOIN cues k ON k.id = w.cue_id WHERE {IN_ITS_PLACE} AND k.whom = {came})"
    )
}

/// What goes to whoever misses it, beside what goes to whoever comes.
fn or_else() -> String {
    let (came, missed) = (kept(&Whom::Came), kept(&Whom::Missed));
    format!(
        "CASE WHEN o.state = 'planned' AND o.cue_id IN (SELECT id FROM cues WHERE whom = {came}) THEN
            (SELECT x.name FROM outbox w JOIN cues k ON k.id = w.cue_id JOIN templates x ON x.id = w.template_id
             WHERE {IN_ITS_PLACE} AND k.whom = {missed}) END"
    )
}

/// The messages that are looked for, from one on, and how many there are in all.
pub fn find(
    conn: &Connection,
    look: &Look,
    skip: u32,
    most: u32,
) -> Result<(Vec<Found>, u32), StoreError> {
    let mut wheres = vec![format!("NOT ({})", is_other())];
    // Messages of a test stand on its own sheet alone.
    if look.booking.is_none() {
        wheres.push("coalesce(b.test, 0) = 0".to_owned());
    }
    let mut values: Vec<rusqlite::types::Value> = Vec::new();
    let mut with = |sql: &str, value: rusqlite::types::Value| {
        values.push(value);
        sql.replace("?#", &format!("?{}", values.len()))
    };
    if let Some(event) = look.event {
        wheres.push(with(OF_EVENT, event.0.into()));
    }
    if let Some(booking) = look.booking {
        wheres.push(with("o.booking_id = ?#", booking.0.into()));
    }
    if !look.states.is_empty() {
        let states: Vec<String> = look.states.iter().map(|s| format!("'{}'", s.word())).collect();
        wheres.push(format!("o.state IN ({})", states.join(", ")));
    }
    if let Some(from) = look.from {
        wheres.push(with("o.planned_at >= ?#", us(from).into()));
    }
    if let Some(until) = look.until {
        wheres.push(with("o.planned_at < ?#", us(until).into()));
    }
    for word in look.words.iter().take(matricle_core::words::MOST_WORDS) {
        let like = format!("%{}%", word.replace(['%', '_'], " "));
        wheres.push(with(
            "(o.address LIKE ?# OR b.name LIKE ?# OR b.reference LIKE ?# OR e.title LIKE ?# OR o.happened LIKE ?#)",
            like.into(),
        ));
    }
    let joined = format!(
        "FROM outbox o LEFT JOIN bookings b ON b.id = o.booking_id LEFT JOIN dates d ON d.id = b.date_id
         LEFT JOIN events e ON e.id = coalesce(o.event_id, d.event_id)
         LEFT JOIN templates t ON t.id = o.template_id WHERE {}",
        wheres.join(" AND ")
    );
    let count: u32 = conn
        .prepare_cached(&format!("SELECT count(*) {joined}"))
        .and_then(|mut q| q.query_row(params_from_iter(&values), |row| row.get(0)))
        .doing("counting messages")?;
    let way = if look.backwards { " DESC" } else { "" };
    let order = match look.sort {
        Sort::Minute => format!("o.planned_at{way}, o.id{way}"),
        other => format!("{}{way}, o.planned_at, o.id", other.column()),
    };
    let found = conn
        .prepare_cached(&format!(
            "SELECT {COLUMNS}, coalesce(b.reference, ''), coalesce(b.name, ''), e.id, coalesce(e.title, ''), coalesce(t.name, ''),
                (SELECT c.whom FROM cues c WHERE c.id = o.cue_id), coalesce({}, '')
             {joined} ORDER BY {order} LIMIT {most} OFFSET {skip}",
            or_else()
        ))
        .and_then(|mut q| {
            q.query_map(params_from_iter(&values), |row| {
                let mut c = InOrder::from(row, 0);
                Ok(Found {
                    message: message_at(&mut c)?,
                    reference: c.next()?,
                    name: c.next()?,
                    event: c.next::<Option<i64>>()?.map(EventId),
                    title: c.next()?,
                    template: c.next()?,
                    whom: whom(c.next()?),
                    or_else: c.next()?,
                })
            })?
            .collect()
        })
        .doing("reading messages")?;
    Ok((found, count))
}

/// A message with what lists show beside it.
pub fn beside(conn: &Connection, message: Message) -> Result<Option<Found>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT coalesce(b.reference, ''), coalesce(b.name, ''), e.id, coalesce(e.title, ''), coalesce(t.name, ''),
                (SELECT c.whom FROM cues c WHERE c.id = o.cue_id), coalesce({}, '')
         FROM outbox o LEFT JOIN bookings b ON b.id = o.booking_id LEFT JOIN dates d ON d.id = b.date_id
         LEFT JOIN events e ON e.id = coalesce(o.event_id, d.event_id)
         LEFT JOIN templates t ON t.id = o.template_id WHERE o.id = ?1",
        or_else()
    ))
    .and_then(|mut q| {
        q.query_row([message.id.0], |row| {
            let mut c = InOrder::from(row, 0);
            Ok(Found {
                message: message.clone(),
                reference: c.next()?,
                name: c.next()?,
                event: c.next::<Option<i64>>()?.map(EventId),
                title: c.next()?,
                template: c.next()?,
                whom: whom(c.next()?),
                or_else: c.next()?,
            })
        })
        .optional()
    })
    .doing("looking a message up")
}

/// What a cue, or an occasion without one, came to on an event.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Counted {
    /// Sent.
    pub sent: u32,
    /// Planned or being tried.
    pub planned: u32,
    /// Failed.
    pub failed: u32,
    /// When the first was sent, or goes.
    pub first: Option<Timestamp>,
    /// When the last was sent, or goes.
    pub last: Option<Timestamp>,
}

/// What all cues of an event came to: the cue, or what happened where there is none.
pub fn of_event(
    conn: &Connection,
    event: EventId,
) -> Result<Vec<(Option<CueId>, String, Counted)>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT o.cue_id, o.happened, sum(o.state = 'sent'), sum(o.state IN ('planned', 'sending')),
            sum(o.state = 'failed'), min(coalesce(o.sent_at, o.planned_at)), max(coalesce(o.sent_at, o.planned_at))
         FROM outbox o LEFT JOIN bookings b ON b.id = o.booking_id
         WHERE {} AND o.state IN ('sent', 'planned', 'sending', 'failed') AND coalesce(b.test, 0) = 0
         GROUP BY o.cue_id, o.happened",
        OF_EVENT.replace("?#", "?1")
    ))
    .and_then(|mut q| {
        q.query_map([event.0], |row| {
            let mut c = InOrder::from(row, 0);
            Ok((
                c.next::<Option<i64>>()?.map(CueId),
                c.next()?,
                Counted {
                    sent: c.next()?,
                    planned: c.next()?,
                    failed: c.next()?,
                    first: c.instant_or()?,
                    last: c.instant_or()?,
                },
            ))
        })?
        .collect()
    })
    .doing("counting messages")
}

/// Somebody to ring.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ring {
    /// Its key.
    pub id: MessageId,
    /// The booking's reference, as stored.
    pub reference: String,
    /// The booker.
    pub name: String,
    /// Their number; may be empty.
    pub phone: String,
    /// What it is about.
    pub kind: String,
    /// What there is to say.
    pub note: String,
    /// When they were rung, and who rang.
    pub rung: Option<(Timestamp, String)>,
}

/// Whom to ring about an event, or was rung; those who wait first.
pub fn rings(conn: &Connection, event: EventId) -> Result<Vec<Ring>, StoreError> {
    conn.prepare_cached(
        "SELECT o.id, b.reference, b.name, b.phone, o.happened, o.knows, o.sent_at, o.answer
         FROM outbox o JOIN bookings b ON b.id = o.booking_id JOIN dates d ON d.id = b.date_id
         WHERE d.event_id = ?1 AND b.test = 0 AND o.way = 'telephone' AND o.state IN ('planned', 'sent')
         ORDER BY o.sent_at IS NOT NULL, o.id DESC",
    )
    .and_then(|mut q| {
        q.query_map([event.0], |row| {
            let mut c = InOrder::from(row, 0);
            Ok(Ring {
                id: MessageId(c.next()?),
                reference: c.next()?,
                name: c.next()?,
                phone: c.next()?,
                kind: c.next()?,
                note: {
                    let text: String = c.next()?;
                    let knows: Knows = serde_json::from_str(&text)
                        .map_err(|_| foreign("outbox.knows", text))?;
                    knows.said()
                },
                rung: c.instant_or()?.zip(Some(c.next()?)),
            })
        })?
        .collect()
    })
    .doing("reading whom to ring")
}

/// Somebody of an event was rung. Whether they were still to be.
pub fn rung(
    tx: &Tx<'_>,
    event: EventId,
    id: MessageId,
    who: &str,
    now: Timestamp,
) -> Result<bool, StoreError> {
    tx.prepare_cached(
        "UPDATE outbox SET state = 'sent', sent_at = ?4, answer = ?3
         WHERE id = ?2 AND way = 'telephone' AND state = 'planned' AND booking_id IN
            (SELECT b.id FROM bookings b JOIN dates d ON d.id = b.date_id WHERE d.event_id = ?1)",
    )
    .and_then(|mut q| q.execute((event.0, id.0, who, us(now))))
    .map(|n| n == 1)
    .doing("noting that somebody was rung")
}

/// Events with bookers who are still to be rung: key, title, how many.
pub fn to_ring(conn: &Connection) -> Result<Vec<(EventId, String, u32)>, StoreError> {
    conn.prepare_cached(
        "SELECT e.id, e.title, count(*) FROM outbox o JOIN bookings b ON b.id = o.booking_id
         JOIN dates d ON d.id = b.date_id JOIN events e ON e.id = d.event_id
         WHERE o.way = 'telephone' AND o.state = 'planned' AND b.test = 0 GROUP BY e.id ORDER BY min(o.id)",
    )
    .and_then(|mut q| {
        q.query_map([], |row| Ok((EventId(row.get(0)?), row.get(1)?, row.get(2)?)))?.collect()
    })
    .doing("counting whom to ring")
}
