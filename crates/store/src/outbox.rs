//! Every message planned, sent, failed or withdrawn.

use jiff::Timestamp;
use matricle_core::{BookingId, EventId};
use rusqlite::{Connection, OptionalExtension, Row};

use crate::convert::{instant, instant_or, word};
use crate::{Doing, StoreError, Tx, us};

/// What a message is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// The booking is confirmed: tickets and calendar file.
    Confirmation,
    /// The booking was cancelled.
    Cancellation,
    /// The date, or the whole event, will not happen.
    CalledOff,
    /// The date moved to another time or place.
    Moved,
    /// The organiser said yes, and money is due.
    Approval,
    /// The organiser said no.
    Refusal,
    /// Somebody on a list of people invited is told of the event.
    Invitation,
    /// Something about a booking changed: people, tickets, date.
    Changed,
    /// Somebody has joined a waiting list.
    Waiting,
    /// Seats are on offer to somebody who waits.
    Offer,
    /// Everybody who waits is told that seats are free.
    SeatsFree,
    /// A ticket was passed to somebody else, who gets it.
    Passed,
    /// The way back to a booking that is not complete yet.
    Link,
    /// The address has booked the date before.
    Twice,
}

impl Kind {
    /// All kinds.
    pub const ALL: [Self; 14] = [
        Self::Confirmation,
        Self::Cancellation,
        Self::CalledOff,
        Self::Moved,
        Self::Approval,
        Self::Refusal,
        Self::Invitation,
        Self::Changed,
        Self::Waiting,
        Self::Offer,
        Self::SeatsFree,
        Self::Passed,
        Self::Link,
        Self::Twice,
    ];

    /// The word for it, as stored and as shown.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Confirmation => "confirmation",
            Self::Cancellation => "cancellation",
            Self::CalledOff => "called off",
            Self::Moved => "moved",
            Self::Approval => "approval",
            Self::Refusal => "refusal",
            Self::Invitation => "invitation",
            Self::Changed => "change",
            Self::Waiting => "place on the waiting list",
            Self::Offer => "offer",
            Self::SeatsFree => "seats free",
            Self::Passed => "ticket passed on",
            Self::Link => "link",
            Self::Twice => "second booking",
        }
    }

    fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }
}

/// The thing a message is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum About {
    /// A booking.
    Booking(BookingId),
    /// An event, for somebody who has not booked.
    Event(EventId),
}

impl About {
    /// The booking, if it is about one.
    #[must_use]
    pub const fn booking(self) -> Option<BookingId> {
        match self {
            Self::Booking(id) => Some(id),
            Self::Event(_) => None,
        }
    }

    const fn event(self) -> Option<EventId> {
        match self {
            Self::Booking(_) => None,
            Self::Event(id) => Some(id),
        }
    }
}

/// A message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// Its key.
    pub id: i64,
    /// The thing it is about.
    pub about: About,
    /// What it is about.
    pub kind: Kind,
    /// To whom.
    pub address: String,
    /// Its `Message-ID`, the same however often it is tried.
    pub message_id: String,
    /// Where it stands: planned, sending, sent, failed or withdrawn.
    pub state: String,
    /// When it was planned for.
    pub planned_at: Timestamp,
    /// How often it was tried.
    pub tries: u32,
    /// When it was sent.
    pub sent_at: Option<Timestamp>,
    /// Why the last try failed.
    pub last_error: Option<String>,
    /// A reason, or how it was before; may be empty.
    pub note: String,
}

const COLUMNS: &str = "o.id, o.booking_id, o.event_id, o.kind, o.address, o.message_id, o.state, o.planned_at, o.tries, \
     o.sent_at, o.last_error, o.note";

fn message(row: &Row<'_>) -> rusqlite::Result<Message> {
    let about = match row.get::<_, Option<i64>>("booking_id")? {
        Some(booking) => About::Booking(BookingId(booking)),
        None => About::Event(EventId(row.get("event_id")?)),
    };
    Ok(Message {
        id: row.get("id")?,
        about,
        kind: word(row, "kind", Kind::from_word)?,
        address: row.get("address")?,
        message_id: row.get("message_id")?,
        state: row.get("state")?,
        planned_at: instant(row, "planned_at")?,
        tries: row.get("tries")?,
        sent_at: instant_or(row, "sent_at")?,
        last_error: row.get("last_error")?,
        note: row.get("note")?,
    })
}

/// A message to be planned.
#[derive(Debug, Clone)]
pub struct NewMessage<'a> {
    /// The thing it is about.
    pub about: About,
    /// What it says about it.
    pub kind: Kind,
    /// Tells messages of one kind about one thing apart; empty where there is only one.
    pub which: &'a str,
    /// To whom.
    pub address: &'a str,
    /// Its `Message-ID`.
    pub message_id: &'a str,
    /// A reason, or how it was before; may be empty.
    pub note: &'a str,
}

/// How many messages of a kind there are about a booking.
///
/// # Errors
/// SQLite refuses.
pub fn count_of(conn: &Connection, booking: BookingId, kind: Kind) -> Result<u32, StoreError> {
    conn.prepare_cached("SELECT count(*) FROM outbox WHERE booking_id = ?1 AND kind = ?2")
        .and_then(|mut q| q.query_row((booking.0, kind.word()), |row| row.get(0)))
        .doing("counting messages")
}

/// Plans a message; one that is planned already stays as it is.
///
/// # Errors
/// SQLite refuses.
pub fn plan(
    tx: &Tx<'_>,
    booking: BookingId,
    kind: Kind,
    address: &str,
    message_id: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    let about = About::Booking(booking);
    plan_noted(tx, &NewMessage { about, kind, which: "", address, message_id, note: "" }, now)
}

/// Plans a message of which there may be several of a kind, or with a note.
///
/// # Errors
/// SQLite refuses.
pub fn plan_noted(tx: &Tx<'_>, new: &NewMessage<'_>, now: Timestamp) -> Result<(), StoreError> {
    let thing = match new.about {
        About::Booking(id) => id.to_string(),
        About::Event(id) => format!("event {id} "),
    };
    tx.prepare_cached(
        "INSERT OR IGNORE INTO outbox (unique_key, booking_id, event_id, kind, address, message_id, note, state,
            planned_at, next_try_at) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, 'planned', ?8, ?8)",
    )
    .and_then(|mut q| {
        q.execute((
            format!("{} {thing}{}", new.kind.word(), new.which),
            new.about.booking().map(|b| b.0),
            new.about.event().map(|e| e.0),
            new.kind.word(),
            new.address,
            new.message_id,
            new.note,
            us(now),
        ))
    })
    .map(drop)
    .doing("planning a message")
}

/// The invitations to an event, in the order they were planned.
///
/// # Errors
/// SQLite refuses.
pub fn invitations(conn: &Connection, event: EventId) -> Result<Vec<Message>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM outbox o WHERE o.event_id = ?1 AND o.kind = 'invitation' ORDER BY o.id"
    ))
    .and_then(|mut q| q.query_map([event.0], message)?.collect())
    .doing("reading invitations")
}

/// A message by its key.
///
/// # Errors
/// SQLite refuses.
pub fn by_id(conn: &Connection, id: i64) -> Result<Option<Message>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM outbox o WHERE o.id = ?1"))
        .and_then(|mut q| q.query_row([id], message).optional())
        .doing("looking a message up")
}

/// Messages of some kinds about an event's bookings, with reference and name, the latest first.
///
/// # Errors
/// SQLite refuses.
pub fn told(
    conn: &Connection,
    event: EventId,
) -> Result<Vec<(Message, String, String)>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS}, b.reference, b.name FROM outbox o JOIN bookings b ON b.id = o.booking_id
         JOIN dates d ON d.id = b.date_id
         WHERE d.event_id = ?1 AND o.kind IN ('called off', 'moved') AND b.test = 0 ORDER BY o.id DESC"
    ))
    .and_then(|mut q| {
        q.query_map([event.0], |row| Ok((message(row)?, row.get("reference")?, row.get("name")?)))?
            .collect()
    })
    .doing("reading who is told")
}

/// What has not gone out about a booking goes to another address; to none, it is withdrawn.
///
/// # Errors
/// SQLite refuses.
pub fn readdress(tx: &Tx<'_>, booking: BookingId, old: &str, new: &str) -> Result<(), StoreError> {
    let sql = if new.is_empty() {
        "UPDATE outbox SET state = 'withdrawn', next_try_at = NULL
         WHERE booking_id = ?1 AND address = ?2 AND state = 'planned' AND ?3 = ''"
    } else {
        "UPDATE outbox SET address = ?3 WHERE booking_id = ?1 AND address = ?2 AND state = 'planned'"
    };
    tx.prepare_cached(sql)
        .and_then(|mut q| q.execute((booking.0, old, new)))
        .map(drop)
        .doing("sending to another address")
}

/// Withdraws what has not gone out about a booking.
///
/// # Errors
/// SQLite refuses.
pub fn withdraw(tx: &Tx<'_>, booking: BookingId, kind: Kind) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE outbox SET state = 'withdrawn', next_try_at = NULL
         WHERE booking_id = ?1 AND kind = ?2 AND state = 'planned'",
    )
    .and_then(|mut q| q.execute((booking.0, kind.word())))
    .map(drop)
    .doing("withdrawing a message")
}

/// Takes the message that is due first, marked as being handed over: a second taker gets
/// another. One that cannot be read has failed, and stops none after it.
///
/// # Errors
/// SQLite refuses.
pub fn take_due(tx: &Tx<'_>, now: Timestamp) -> Result<Option<Message>, StoreError> {
    loop {
        let id: Option<i64> = tx
            .prepare_cached(
                "UPDATE outbox SET state = 'sending', next_try_at = NULL, tries = tries + 1
                 WHERE id = (SELECT id FROM outbox WHERE next_try_at <= ?1 ORDER BY next_try_at, id LIMIT 1)
                 RETURNING id",
            )
            .and_then(|mut q| q.query_row([us(now)], |row| row.get(0)).optional())
            .doing("taking a message")?;
        let Some(id) = id else { return Ok(None) };
        match by_id(tx, id) {
            Ok(taken) => return Ok(taken),
            Err(error) => not_sent(tx, id, &error.to_string(), None)?,
        }
    }
}

/// The mail server took it.
///
/// # Errors
/// SQLite refuses.
pub fn sent(tx: &Tx<'_>, id: i64, now: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE outbox SET state = 'sent', sent_at = ?2, next_try_at = NULL, last_error = NULL WHERE id = ?1",
    )
    .and_then(|mut q| q.execute((id, us(now))))
    .map(drop)
    .doing("noting a message as sent")
}

/// The mail server did not take it; tried again at `again`, or given up.
///
/// # Errors
/// SQLite refuses.
pub fn not_sent(
    tx: &Tx<'_>,
    id: i64,
    error: &str,
    again: Option<Timestamp>,
) -> Result<(), StoreError> {
    let state = if again.is_some() { "planned" } else { "failed" };
    tx.prepare_cached(
        "UPDATE outbox SET state = ?2, next_try_at = ?3, last_error = ?4 WHERE id = ?1",
    )
    .and_then(|mut q| q.execute((id, state, again.map(us), error)))
    .map(drop)
    .doing("noting a message as not sent")
}

/// What is marked as being handed over while nobody does: the program ended, or the disk was
/// full when it was to be noted. It may have got through or not, and is tried again under the
/// same `Message-ID`, by which mailboxes know a message they already have (RFC 5322 §3.6.4).
/// `but` are those whose fate is known and only not written yet.
///
/// # Errors
/// SQLite refuses.
pub fn take_up(tx: &Tx<'_>, but: &[i64], now: Timestamp) -> Result<usize, StoreError> {
    let left: Vec<i64> = tx
        .prepare_cached("SELECT id FROM outbox WHERE state = 'sending'")
        .and_then(|mut q| q.query_map([], |row| row.get(0))?.collect())
        .doing("looking for messages left half-way")?;
    let mut taken = 0;
    for id in left.into_iter().filter(|id| !but.contains(id)) {
        taken += tx
            .prepare_cached(
                "UPDATE outbox SET state = 'planned', next_try_at = ?2,
                    last_error = 'the handing over was not finished' WHERE id = ?1",
            )
            .and_then(|mut q| q.execute((id, us(now))))
            .doing("taking messages up again")?;
    }
    Ok(taken)
}

/// Whether something is marked as being handed over.
///
/// # Errors
/// SQLite refuses.
pub fn any_sending(conn: &Connection) -> Result<bool, StoreError> {
    conn.prepare_cached("SELECT EXISTS (SELECT 1 FROM outbox WHERE state = 'sending')")
        .and_then(|mut q| q.query_row([], |row| row.get(0)))
        .doing("looking for messages left half-way")
}

/// Messages about a booking, oldest first.
///
/// # Errors
/// SQLite refuses.
pub fn of_booking(conn: &Connection, booking: BookingId) -> Result<Vec<Message>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM outbox o WHERE o.booking_id = ?1 ORDER BY o.id"
    ))
    .and_then(|mut q| q.query_map([booking.0], message)?.collect())
    .doing("reading messages")
}

/// How many messages about a booking have not gone out.
///
/// # Errors
/// SQLite refuses.
pub fn unsent(conn: &Connection, booking: BookingId) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT count(*) FROM outbox WHERE booking_id = ?1 AND state IN ('planned', 'sending')",
    )
    .and_then(|mut q| q.query_row([booking.0], |row| row.get(0)))
    .doing("counting messages")
}

/// Messages that failed or are late, oldest first, with the reference of the booking that
/// each is about, if any.
///
/// # Errors
/// SQLite refuses.
pub fn in_trouble(conn: &Connection) -> Result<Vec<(Message, Option<String>)>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS}, b.reference FROM outbox o LEFT JOIN bookings b ON b.id = o.booking_id
         WHERE o.state = 'failed' OR (o.state = 'planned' AND o.last_error IS NOT NULL)
         ORDER BY o.id LIMIT 100"
    ))
    .and_then(|mut q| q.query_map([], |row| Ok((message(row)?, row.get("reference")?)))?.collect())
    .doing("looking for messages in trouble")
}

/// Messages of an event, as the thread shows them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SentCount {
    /// Sent.
    pub sent: u32,
    /// Planned or being tried.
    pub planned: u32,
    /// When the first was sent.
    pub first: Option<Timestamp>,
    /// When the last was sent.
    pub last: Option<Timestamp>,
}

/// Counts the messages of a kind about an event.
///
/// # Errors
/// SQLite refuses.
pub fn count(conn: &Connection, event: EventId, kind: Kind) -> Result<SentCount, StoreError> {
    conn.prepare_cached(
        "SELECT coalesce(sum(o.state = 'sent'), 0), coalesce(sum(o.state IN ('planned', 'sending')), 0),
            min(o.sent_at), max(o.sent_at)
         FROM outbox o JOIN bookings b ON b.id = o.booking_id JOIN dates d ON d.id = b.date_id
         WHERE d.event_id = ?1 AND o.kind = ?2 AND b.test = 0",
    )
    .and_then(|mut q| {
        q.query_row((event.0, kind.word()), |row| {
            Ok(SentCount {
                sent: row.get(0)?,
                planned: row.get(1)?,
                first: row.get::<_, Option<i64>>(2)?.map(crate::at),
                last: row.get::<_, Option<i64>>(3)?.map(crate::at),
            })
        })
    })
    .doing("counting messages")
}
