//! Who is invited to an event, how often they were asked, and whom they handed it on to.

use std::collections::HashSet;

use jiff::Timestamp;
use jiff::civil::DateTime;
use matricle_core::messages::replies::{Replied, Reply};
use matricle_core::{DateId, EventId, MessageId};
use rusqlite::{Connection, OptionalExtension};

use crate::convert::InOrder;
use crate::outbox::MessageState;
use crate::states::{sql, sql_of};
use crate::{Doing, StoreError, Tx, us};

/// Somebody who is invited to an event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Invited {
    /// Their address.
    pub email: String,
    /// On the list of the event, not only on that of a ticket.
    pub listed: bool,
    /// How often they were asked.
    pub asked: u32,
    /// When last.
    pub asked_at: Option<Timestamp>,
    /// The house brings them the invitation itself.
    pub elsewhere: bool,
    /// The message that their link is made of.
    pub message: Option<MessageId>,
    /// Who has the invitation now; empty while it is theirs.
    pub handed_to: String,
    /// Whose it was; empty for one that nobody handed on.
    pub handed_from: String,
    /// How often it was handed on.
    pub handed: u32,
}

/// Somebody who is invited, and all that is known of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Known {
    /// They.
    pub invited: Invited,
    /// Their name; may be empty.
    pub name: String,
    /// Their address refuses mail.
    pub refused: bool,
    /// What they said.
    pub said: Option<Replied>,
    /// Where the first mail to them stands, and when it went.
    pub mail: Option<(MessageState, Option<Timestamp>)>,
}

const COLUMNS: &str = "i.email, i.listed, i.asked, i.asked_at, i.elsewhere, i.message_id, i.handed_to, i.handed_from, i.handed";

/// Whether somebody is invited still: on the event's list, or on that of one of its tickets.
const STANDS: &str = "(i.listed = 1 OR EXISTS (SELECT 1 FROM ticket_types t, json_each(t.invited) j
    WHERE t.event_id = i.event_id AND t.retired = 0 AND lower(j.value) = lower(i.email)))";

fn invited(c: &mut InOrder<'_, '_>) -> rusqlite::Result<Invited> {
    Ok(Invited {
        email: c.next()?,
        listed: c.next()?,
        asked: c.next()?,
        asked_at: c.instant_or()?,
        elsewhere: c.next()?,
        message: c.next::<Option<i64>>()?.map(MessageId),
        handed_to: c.next()?,
        handed_from: c.next()?,
        handed: c.next()?,
    })
}

/// Puts addresses, with the names beside them, on the list of an event; says how many were not on it. One that somebody had
/// handed on is theirs again.
pub fn add(
    tx: &Tx<'_>,
    event: EventId,
    people: &[(String, String)],
    now: Timestamp,
) -> Result<usize, StoreError> {
    let write = || {
        let mut put = tx.prepare_cached(
            "INSERT INTO invited (event_id, email, listed, added_at, name) VALUES (?1, ?2, 1, ?3, ?4)
             ON CONFLICT (event_id, email) DO UPDATE SET listed = 1, handed_to = '',
                name = iif(excluded.name = '', name, excluded.name)
             WHERE listed = 0 OR handed_to <> ''",
        )?;
        people
            .iter()
            .try_fold(0, |n, (email, name)| Ok(n + put.execute((event.0, email, us(now), name))?))
    };
    write().doing("inviting people")
}

/// Takes an address off the list of an event; says whether it was on it.
pub fn take_off(tx: &Tx<'_>, event: EventId, email: &str) -> Result<bool, StoreError> {
    tx.execute(
        "UPDATE invited SET listed = 0 WHERE event_id = ?1 AND email = ?2 AND listed = 1",
        (event.0, email),
    )
    .map(|n| n == 1)
    .doing("taking somebody off a list")
}

/// Whether an address is on the list of an event, and the invitation is still theirs.
pub fn is_on(conn: &Connection, event: EventId, email: &str) -> Result<bool, StoreError> {
    conn.prepare_cached(
        "SELECT EXISTS (SELECT 1 FROM invited
            WHERE event_id = ?1 AND email = ?2 AND listed = 1 AND handed_to = '')",
    )
    .and_then(|mut q| q.query_row((event.0, email.trim()), |row| row.get(0)))
    .doing("looking on a list")
}

/// Somebody who is invited still, by their address; also one who has handed the invitation on.
pub fn by_email(
    conn: &Connection,
    event: EventId,
    email: &str,
) -> Result<Option<Invited>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM invited i WHERE i.event_id = ?1 AND i.email = ?2 AND {STANDS}"
    ))
    .and_then(|mut q| {
        q.query_row((event.0, email.trim()), |row| invited(&mut InOrder::from(row, 0))).optional()
    })
    .doing("looking somebody invited up")
}

/// The name that an address was put on the list of an event with; empty where none stood there.
pub fn name_of(conn: &Connection, event: EventId, email: &str) -> Result<String, StoreError> {
    conn.prepare_cached("SELECT name FROM invited WHERE event_id = ?1 AND email = ?2")
        .and_then(|mut q| q.query_row((event.0, email), |row| row.get(0)).optional())
        .map(Option::unwrap_or_default)
        .doing("looking up who is invited")
}

/// How many are invited to an event, and how many of them were not asked yet.
pub fn count(conn: &Connection, event: EventId) -> Result<(u32, u32), StoreError> {
    conn.prepare_cached(&format!(
        "SELECT count(*), coalesce(sum(i.asked = 0), 0) FROM invited i
         WHERE i.event_id = ?1 AND i.handed_to = '' AND {STANDS}"
    ))
    .and_then(|mut q| q.query_row([event.0], |row| Ok((row.get(0)?, row.get(1)?))))
    .doing("counting who is invited")
}

/// Those who are invited, of whom a condition holds, with what is known of them.
fn known_where(condition: &str) -> String {
    format!(
        "SELECT {COLUMNS}, coalesce(nullif(p.name, ''), i.name), a.refused_at IS NOT NULL, o.state, o.sent_at,
            r.reply, r.word, r.at, i.event_id
         FROM invited i LEFT JOIN people p ON p.email = i.email LEFT JOIN addresses a ON a.email = i.email
         LEFT JOIN outbox o ON o.id = i.message_id
         LEFT JOIN replies r ON r.event_id = i.event_id AND r.email = i.email
         WHERE {condition} AND {STANDS} ORDER BY i.id"
    )
}

fn known(row: &rusqlite::Row<'_>) -> rusqlite::Result<(EventId, Known)> {
    let mut c = InOrder::from(row, 0);
    let (invited, name, refused) = (invited(&mut c)?, c.next()?, c.next()?);
    let state: Option<String> = c.next()?;
    let sent_at = c.instant_or()?;
    let (reply, word): (Option<String>, Option<String>) = (c.next()?, c.next()?);
    let at = c.instant_or()?;
    let known = Known {
        invited,
        name,
        refused,
        said: reply.zip(word).zip(at).and_then(|((reply, word), at)| {
            Some(Replied { reply: Reply::from_word(&reply)?, word, at })
        }),
        mail: state.and_then(|s| Some((MessageState::from_word(&s)?, sent_at))),
    };
    Ok((EventId(c.next()?), known))
}

/// Everybody who is invited to an event, in the order they were put on the lists.
pub fn all(conn: &Connection, event: EventId) -> Result<Vec<Known>, StoreError> {
    conn.prepare_cached(&known_where("i.event_id = ?1"))
        .and_then(|mut q| q.query_map([event.0], |row| Ok(known(row)?.1))?.collect())
        .doing("reading who is invited")
}

/// The events to which an address is invited, with what is known of it there.
pub fn of_address(conn: &Connection, email: &str) -> Result<Vec<(EventId, Known)>, StoreError> {
    conn.prepare_cached(&known_where("i.email = ?1"))
        .and_then(|mut q| q.query_map([email], known)?.collect())
        .doing("reading to what somebody is invited")
}

/// Some of those who are invited to an event and were not asked yet.
pub fn to_ask(conn: &Connection, event: EventId, most: u32) -> Result<Vec<String>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT i.email FROM invited i WHERE i.event_id = ?1 AND i.asked = 0 AND i.handed_to = '' AND {STANDS}
         ORDER BY i.id LIMIT ?2"
    ))
    .and_then(|mut q| q.query_map((event.0, most), |row| row.get(0))?.collect())
    .doing("reading who is to be asked")
}

/// Some of those who were asked once, between two instants, by mail that arrives, and have neither
/// replied nor booked: each with when they were asked.
pub fn silent(
    conn: &Connection,
    event: EventId,
    (from, until): (Timestamp, Timestamp),
    most: u32,
) -> Result<Vec<(String, Timestamp)>, StoreError> {
    conn.prepare_cached(&sql_of!(
        "SELECT i.email, i.asked_at FROM invited i
         WHERE i.event_id = ?1 AND i.asked = 1 AND i.asked_at BETWEEN ?2 AND ?3
            AND i.elsewhere = 0 AND i.handed_to = '' AND {STANDS}
            AND NOT EXISTS (SELECT 1 FROM replies r WHERE r.event_id = i.event_id AND r.email = i.email)
            AND NOT EXISTS (SELECT 1 FROM addresses a WHERE a.email = i.email AND a.refused_at IS NOT NULL)
            AND NOT EXISTS (SELECT 1 FROM bookings b JOIN dates d ON d.id = b.date_id
                WHERE b.email = i.email AND d.event_id = i.event_id AND b.test = 0
                    AND b.state IN {{stands}})
         ORDER BY i.asked_at LIMIT ?4"
    ))
    .and_then(|mut q| {
        q.query_map((event.0, us(from), us(until), most), |row| {
            let mut c = InOrder::from(row, 0);
            Ok((c.next()?, c.instant()?))
        })?
        .collect()
    })
    .doing("reading who has not replied")
}

/// Events in the Programme with dates to come, to which somebody was asked once.
pub fn events_asked(conn: &Connection, now: Timestamp) -> Result<Vec<EventId>, StoreError> {
    conn.prepare_cached(
        "SELECT DISTINCT d.event_id FROM dates d JOIN events e ON e.id = d.event_id
         WHERE d.starts_at > ?1 AND d.called_off = '' AND e.state = 'published'
            AND EXISTS (SELECT 1 FROM invited i WHERE i.event_id = d.event_id AND i.asked = 1)",
    )
    .and_then(|mut q| q.query_map([us(now)], |row| row.get(0).map(EventId))?.collect())
    .doing("reading which events people are invited to")
}

/// Writes down that somebody was asked: by which message, or the house asks them itself. The link
/// stays the one of the first message.
pub fn asked(
    tx: &Tx<'_>,
    event: EventId,
    email: &str,
    (message, elsewhere): (Option<MessageId>, bool),
    now: Timestamp,
) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE invited SET asked = asked + 1, asked_at = ?3, message_id = coalesce(message_id, ?4),
            elsewhere = ?5 WHERE event_id = ?1 AND email = ?2",
    )
    .and_then(|mut q| q.execute((event.0, email, us(now), message.map(|m| m.0), elsewhere)))
    .map(drop)
    .doing("writing down who was asked")
}

/// Hands an invitation on: it is the other's from now on.
pub fn hand_on(
    tx: &Tx<'_>,
    event: EventId,
    (from, to): (&str, &str),
    now: Timestamp,
) -> Result<(), StoreError> {
    let write = || {
        tx.execute(
            "UPDATE invited SET handed_to = ?3, handed = handed + 1 WHERE event_id = ?1 AND email = ?2",
            (event.0, from, to),
        )?;
        tx.execute(
            "INSERT INTO invited (event_id, email, listed, added_at, handed_from, handed)
             SELECT event_id, ?3, listed, ?4, email, handed FROM invited WHERE event_id = ?1 AND email = ?2
             ON CONFLICT (event_id, email) DO UPDATE SET handed_from = excluded.handed_from,
                handed = excluded.handed, handed_to = '', listed = excluded.listed,
                added_at = excluded.added_at, asked = 0, asked_at = NULL, message_id = NULL",
            (event.0, from, to, us(now)),
        )
    };
    write().map(drop).doing("handing an invitation on")
}

/// Counts that somebody tried to hand their invitation on.
pub fn count_handed(tx: &Tx<'_>, event: EventId, email: &str) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE invited SET handed = handed + 1 WHERE event_id = ?1 AND email = ?2",
        (event.0, email),
    )
    .map(drop)
    .doing("counting who hands an invitation on")
}

/// Takes an invitation back that was handed on: the other's opens nothing any more.
pub fn take_back(tx: &Tx<'_>, event: EventId, from: &str, to: &str) -> Result<(), StoreError> {
    let write = || {
        tx.execute(
            "UPDATE invited SET handed_to = '' WHERE event_id = ?1 AND email = ?2 AND handed_to = ?3",
            (event.0, from, to),
        )?;
        tx.execute(
            // On the list of a ticket they may be all the same.
            "UPDATE invited SET listed = 0, handed_from = '', asked = 0, asked_at = NULL, message_id = NULL
             WHERE event_id = ?1 AND email = ?2 AND handed_from = ?3",
            (event.0, to, from),
        )
    };
    write().map(drop).doing("taking an invitation back")
}

/// The addresses, in small letters, of those who booked an event, or one date of it: confirmed, and
/// only who came, or only who did not, where that is asked for.
pub fn people_of(
    conn: &Connection,
    event: Option<EventId>,
    date: Option<DateId>,
    came: Option<bool>,
) -> Result<Vec<String>, StoreError> {
    conn.prepare_cached(sql!(
        "SELECT DISTINCT lower(iif(a.email = '', b.email, a.email)) AS address
         FROM dates d JOIN attendees a ON a.date_id = d.id JOIN bookings b ON b.id = a.booking_id
         WHERE (d.event_id = ?1 OR d.id = ?2) AND b.test = 0 AND b.state = {Confirmed}
            AND a.cancelled_at IS NULL AND address <> ''
            AND (?3 IS NULL OR ?3 = (a.presence IN ('in', 'left'))) ORDER BY 1"
    ))
    .and_then(|mut q| {
        q.query_map((event.map(|e| e.0), date.map(|d| d.0), came), |row| row.get(0))?.collect()
    })
    .doing("reading who booked an event")
}

/// Addresses, in small letters, of which this is known: that they refuse mail, or want no
/// announcements.
pub fn known_addresses(conn: &Connection, refused: bool) -> Result<HashSet<String>, StoreError> {
    let column = if refused { "refused_at IS NOT NULL" } else { "unsubscribed_at IS NOT NULL" };
    conn.prepare_cached(&format!("SELECT lower(email) FROM addresses WHERE {column}"))
        .and_then(|mut q| q.query_map([], |row| row.get(0))?.collect())
        .doing("reading addresses")
}

/// A date that is over or has begun, whose people can be invited to another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Earlier {
    /// Its event.
    pub event: EventId,
    /// The event's title.
    pub title: String,
    /// The date.
    pub date: DateId,
    /// When it started, on its own wall clock.
    pub starts: DateTime,
}

/// Dates that have begun, the latest first.
pub fn earlier(conn: &Connection, now: Timestamp, most: u32) -> Result<Vec<Earlier>, StoreError> {
    conn.prepare_cached(
        "SELECT e.id, e.title, d.id, d.starts FROM dates d JOIN events e ON e.id = d.event_id
         WHERE d.starts_at <= ?1 AND d.called_off = '' AND e.state <> 'draft'
         ORDER BY d.starts_at DESC, d.id LIMIT ?2",
    )
    .and_then(|mut q| {
        q.query_map((us(now), most), |row| {
            let mut c = InOrder::from(row, 0);
            Ok(Earlier {
                event: EventId(c.next()?),
                title: c.next()?,
                date: DateId(c.next()?),
                starts: c.word("dates.starts", |text| text.parse().ok())?,
            })
        })?
        .collect()
    })
    .doing("reading earlier dates")
}

/// Other events to which people are invited, with how many, the latest first.
pub fn other_lists(
    conn: &Connection,
    event: EventId,
    most: u32,
) -> Result<Vec<(EventId, String, u32)>, StoreError> {
    conn.prepare_cached(
        "SELECT e.id, e.title, count(*) FROM invited i JOIN events e ON e.id = i.event_id
         WHERE i.listed = 1 AND e.id <> ?1 GROUP BY e.id ORDER BY e.id DESC LIMIT ?2",
    )
    .and_then(|mut q| {
        q.query_map((event.0, most), |row| Ok((EventId(row.get(0)?), row.get(1)?, row.get(2)?)))?
            .collect()
    })
    .doing("reading lists of people invited")
}
