//! What is planned for the moments of dates, and what is to be followed again.

use jiff::Timestamp;
use matricle_core::messages::cue::{Trigger, Way};
use matricle_core::messages::occasion::{Knows, Moment};
use matricle_core::people::wish::Wish;
use matricle_core::{BookingId, CueId, DateId, EventId, MessageId, PersonId, TemplateId};
use rusqlite::{Connection, OptionalExtension};

use crate::convert::InOrder;
use crate::outbox::{About, COLUMNS, Message, MessageState, NewMessage, message, plan};
use crate::states::sql;
use crate::unreadable::readable;
use crate::{Doing, StoreError, Tx, us};

/// A message of a moment, as far as following needs it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Planned {
    /// Its key.
    pub id: MessageId,
    /// The cue.
    pub cue: CueId,
    /// The house's cue that it stands in place of, or the cue itself: to be told by either is to
    /// be told.
    pub root: CueId,
    /// Who.
    pub reader: String,
    /// For which date.
    pub date: DateId,
    /// To which address or number.
    pub address: String,
    /// Where it stands.
    pub state: MessageState,
    /// Its minute.
    pub at: Timestamp,
    /// Somebody stopped it, or gave it that minute.
    pub by_hand: bool,
}

/// What is planned of moments: about a booking, or about a date and none of its bookings.
pub fn planned_of(
    conn: &Connection,
    booking: Option<BookingId>,
    date: DateId,
) -> Result<Vec<Planned>, StoreError> {
    const COLUMNS: &str = "o.id, o.cue_id, coalesce(c.instead_of, c.id), o.reader, o.date_id, o.address, o.state, \
         o.planned_at, o.by_hand FROM outbox o JOIN cues c ON c.id = o.cue_id";
    // What happened to a date is told of it too, and is nothing that follows.
    let moments: Vec<String> = Moment::ALL.iter().map(|m| format!("'{}'", m.word())).collect();
    let moments = moments.join(", ");
    let (sql, key) = match booking {
        Some(booking) => (
            format!(
                "SELECT {COLUMNS} WHERE o.booking_id = ?1 AND o.date_id IS NOT NULL AND o.happened IN ({moments})"
            ),
            booking.0,
        ),
        None => (
            format!(
                "SELECT {COLUMNS} WHERE o.date_id = ?1 AND o.booking_id IS NULL AND o.happened IN ({moments})"
            ),
            date.0,
        ),
    };
    conn.prepare_cached(&sql)
        .and_then(|mut q| {
            q.query_map([key], |row| {
                let mut c = InOrder::from(row, 0);
                Ok(Planned {
                    id: MessageId(c.next()?),
                    cue: CueId(c.next()?),
                    root: CueId(c.next()?),
                    reader: c.next()?,
                    date: DateId(c.next()?),
                    address: c.next()?,
                    state: c.word("outbox.state", MessageState::from_word)?,
                    at: c.instant()?,
                    by_hand: c.next()?,
                })
            })?
            .collect()
        })
        .doing("reading what is planned")
}

/// What is to be done so that what is planned is what bookings and dates say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// Something is planned that was not.
    Plan {
        /// The thing it is about.
        about: About,
        /// For which date.
        date: DateId,
        /// The cue.
        cue: CueId,
        /// Its wording.
        template: TemplateId,
        /// What sets it off.
        trigger: Trigger,
        /// By which way.
        way: Way,
        /// Who.
        reader: String,
        /// To which address or number.
        address: String,
        /// The place on a waiting list it is about.
        waiter: Option<i64>,
        /// Its `Message-ID`.
        message_id: String,
        /// Its minute.
        at: Timestamp,
    },
    /// It has another minute.
    Put {
        /// The message.
        id: MessageId,
        /// Its minute.
        at: Timestamp,
    },
    /// It has another address, or is true again.
    Move {
        /// The message.
        id: MessageId,
        /// Its minute.
        at: Timestamp,
        /// To which address or number.
        address: String,
    },
    /// It is not true any more.
    Withdraw {
        /// The message.
        id: MessageId,
        /// Why.
        why: &'static str,
    },
}

/// Makes changes that were worked out from what was read a moment before: nothing that has
/// been sent, stopped or steered by hand meanwhile is touched.
pub fn apply(tx: &Tx<'_>, changes: &[Change]) -> Result<(), StoreError> {
    for change in changes {
        match change {
            Change::Plan {
                about,
                date,
                cue,
                template,
                trigger,
                way,
                reader,
                address,
                waiter,
                message_id,
                at,
            } => {
                plan(
                    tx,
                    &NewMessage {
                        date: Some(*date),
                        waiter: *waiter,
                        cue: Some(*cue),
                        template: Some(*template),
                        unique: &format!("{cue} {reader} {date}"),
                        message_id,
                        ..NewMessage::to(
                            *about,
                            *trigger,
                            reader,
                            (*way, address),
                            &Knows::default(),
                            *at,
                        )
                    },
                )?;
            }
            // By itself, since it touches two indexes and not all.
            Change::Put { id, at } => {
                tx.prepare_cached(
                    "UPDATE outbox SET planned_at = ?2, next_try_at = ?2
                     WHERE id = ?1 AND by_hand = 0 AND state = 'planned'",
                )
                .and_then(|mut q| q.execute((id.0, us(*at))))
                .doing("moving a message")?;
            }
            Change::Move { id, at, address } => {
                tx.prepare_cached(
                    "UPDATE outbox SET state = 'planned', planned_at = ?2, next_try_at = ?2, address = ?3,
                        reason = '' WHERE id = ?1 AND by_hand = 0 AND state IN ('planned', 'withdrawn', 'skipped')",
                )
                .and_then(|mut q| q.execute((id.0, us(*at), address)))
                .doing("moving a message")?;
            }
            Change::Withdraw { id, why } => {
                tx.prepare_cached(
                    "UPDATE outbox SET state = 'withdrawn', next_try_at = NULL, reason = ?2
                     WHERE id = ?1 AND state = 'planned'",
                )
                .and_then(|mut q| q.execute((id.0, why)))
                .doing("withdrawing a message")?;
            }
        }
    }
    Ok(())
}

/// Bookings whose messages are to be followed, with the count that tells whether they changed
/// again meanwhile.
pub fn to_follow(conn: &Connection, most: u32) -> Result<Vec<(BookingId, i64)>, StoreError> {
    conn.prepare_cached("SELECT booking_id, n FROM to_follow ORDER BY booking_id LIMIT ?1")
        .and_then(|mut q| {
            q.query_map([most], |row| Ok((BookingId(row.get(0)?), row.get(1)?)))?.collect()
        })
        .doing("reading what is to be followed")
}

/// Dates whose messages are to be followed: the count that tells whether they changed again, and
/// up to which booking it is done.
pub fn to_follow_dates(
    conn: &Connection,
    most: u32,
) -> Result<Vec<(DateId, i64, BookingId)>, StoreError> {
    conn.prepare_cached("SELECT date_id, n, done_to FROM to_follow_dates ORDER BY date_id LIMIT ?1")
        .and_then(|mut q| {
            q.query_map([most], |row| {
                Ok((DateId(row.get(0)?), row.get(1)?, BookingId(row.get(2)?)))
            })?
            .collect()
        })
        .doing("reading what is to be followed")
}

/// These bookings are followed, unless they changed again meanwhile.
pub fn followed(tx: &Tx<'_>, bookings: &[(BookingId, i64)]) -> Result<(), StoreError> {
    for (booking, n) in bookings {
        tx.prepare_cached("DELETE FROM to_follow WHERE booking_id = ?1 AND n = ?2")
            .and_then(|mut q| q.execute((booking.0, n)))
            .doing("noting what is followed")?;
    }
    Ok(())
}

/// A date is followed up to a booking; with none, it is done. One that changed again meanwhile
/// begins anew; whether it did not.
pub fn done(
    tx: &Tx<'_>,
    date: DateId,
    n: i64,
    up_to: Option<BookingId>,
) -> Result<bool, StoreError> {
    let sql = match up_to {
        Some(_) => "UPDATE to_follow_dates SET done_to = ?3 WHERE date_id = ?1 AND n = ?2",
        None => "DELETE FROM to_follow_dates WHERE date_id = ?1 AND n = ?2 AND ?3 IS NULL",
    };
    tx.prepare_cached(sql)
        .and_then(|mut q| q.execute((date.0, n, up_to.map(|b| b.0))))
        .map(|rows| rows == 1)
        .doing("noting what is followed")
}

/// A date is to be followed again.
pub fn mark_date(tx: &Tx<'_>, date: DateId) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT INTO to_follow_dates (date_id) VALUES (?1) ON CONFLICT DO UPDATE SET n = n + 1, done_to = 0",
    )
    .and_then(|mut q| q.execute([date.0]))
    .map(drop)
    .doing("noting what is to be followed")
}

/// How many bookings of an event, or of all, are still to be followed.
pub fn left_to_follow(conn: &Connection, event: Option<EventId>) -> Result<u32, StoreError> {
    conn.prepare_cached(
        sql!("SELECT (SELECT count(*) FROM to_follow t JOIN bookings b ON b.id = t.booking_id JOIN dates d ON d.id = b.date_id
                WHERE ?1 IS NULL OR d.event_id = ?1)
            + (SELECT count(*) FROM to_follow_dates t JOIN dates d ON d.id = t.date_id
                JOIN bookings b ON b.date_id = d.id AND b.id > t.done_to
                WHERE (?1 IS NULL OR d.event_id = ?1) AND b.state IN {asked_for})"),
    )
    .and_then(|mut q| q.query_row([event.map(|e| e.0)], |row| row.get(0)).optional())
    .map(Option::unwrap_or_default)
    .doing("counting what is to be followed")
}

/// What was due before an instant counts as sent at its minute: for a house with a made-up past.
pub fn went(tx: &Tx<'_>, until: Timestamp) -> Result<usize, StoreError> {
    tx.execute(
        "UPDATE outbox SET state = 'sent', sent_at = planned_at, next_try_at = NULL, answer = CASE way WHEN 'mail' THEN '250 taken' ELSE 'taken' END
         WHERE state = 'planned' AND way <> 'telephone' AND planned_at < ?1",
        [us(until)],
    )
    .doing("making up what went")
}

/// What is planned of something that happened to a whole date, for those who have not booked it.
pub fn open_of_date(
    conn: &Connection,
    date: DateId,
    happened: Trigger,
) -> Result<Vec<Message>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM outbox o WHERE o.date_id = ?1 AND o.booking_id IS NULL AND o.happened = ?2
            AND o.state = 'planned' AND o.tries = 0 ORDER BY o.id"
    ))
    .and_then(|mut q| readable("messages", q.query_map((date.0, happened.word()), message)?))
    .doing("reading what is planned")
}

/// A wish for news of the day that nothing is planned for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unplanned {
    /// Whose.
    pub person: PersonId,
    /// Their address.
    pub email: String,
    /// The wish.
    pub wish: Wish,
    /// Since when they have not heard of it; nothing where they never have.
    pub since: Option<Timestamp>,
}

/// Wishes for news of the day that nothing is planned for.
pub fn unplanned_wishes(conn: &Connection) -> Result<Vec<Unplanned>, StoreError> {
    let mut found = Vec::new();
    for (person, email, wish) in crate::wishes::daily(conn)? {
        // The latest of a state, by its index: years of news are not gone through.
        let latest = |state: MessageState| -> Result<Option<i64>, StoreError> {
            conn.prepare_cached(
                "SELECT planned_at FROM outbox WHERE person_id = ?1 AND state = ?2
                    AND json_extract(knows, '$.wish') = ?3 ORDER BY planned_at DESC LIMIT 1",
            )
            .and_then(|mut q| {
                q.query_row((person.0, state.word(), wish.what.word()), |row| row.get(0)).optional()
            })
            .doing("asking for whom nothing is planned")
        };
        if latest(MessageState::Planned)?.or(latest(MessageState::Sending)?).is_none() {
            let since = latest(MessageState::Sent)?.max(latest(MessageState::Skipped)?);
            found.push(Unplanned { person, email, wish, since: since.map(crate::at) });
        }
    }
    Ok(found)
}

/// Withdraws what is planned for the wishes of somebody.
pub fn withdraw_wishes(tx: &Tx<'_>, person: PersonId, why: &str) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE outbox SET state = 'withdrawn', next_try_at = NULL, reason = ?2
         WHERE person_id = ?1 AND state = 'planned'",
        (person.0, why),
    )
    .map(drop)
    .doing("withdrawing what was wished for")
}

/// Messages of moments that are planned, but for those that are still to be followed or that
/// somebody steered by hand.
pub fn planned_of_moments(conn: &Connection, most: u32) -> Result<Vec<Message>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM outbox o WHERE o.state = 'planned' AND o.by_hand = 0 AND o.cue_id IS NOT NULL
            AND o.date_id IS NOT NULL AND o.tries = 0 AND o.announcement_id IS NULL
            AND o.date_id NOT IN (SELECT t.date_id FROM to_follow_dates t)
            AND (o.booking_id IS NULL OR o.booking_id NOT IN (SELECT t.booking_id FROM to_follow t))
         ORDER BY o.planned_at LIMIT ?1"
    ))
    .and_then(|mut q| readable("messages", q.query_map([most], message)?))
    .doing("reading what is planned")
}
