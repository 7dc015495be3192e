//! Every message planned, sent, failed, withdrawn or skipped, by whichever way, and why.

mod answers;
mod list;
mod notices;
mod planning;

use jiff::Timestamp;
use matricle_core::messages::cue::{Trigger, Way};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::people::unasked::Went;
use matricle_core::people::who::mailbox;
use matricle_core::{
    BookingId, CueId, DateId, EventId, MessageId, PersonId, SubmissionId, TemplateId,
};
use rusqlite::{Connection, OptionalExtension, Row};

use crate::convert::{InOrder, foreign, json};
use crate::unreadable::readable;
use crate::{Doing, StoreError, Tx, us};

pub use answers::{Address, address, forgive, in_trouble, refused, said, say, unsubscribe};
pub use list::{Counted, Found, Look, Ring, Sort, beside, find, of_event, rings, rung, to_ring};
pub use notices::{Notice, notices, notices_changed, notices_listed, take_down};
pub use planning::{
    Change, Planned, Unplanned, apply, done, followed, left_to_follow, mark_date, open_of_date,
    planned_of, planned_of_moments, to_follow, to_follow_dates, unplanned_wishes, went,
    withdraw_wishes,
};

matricle_core::worded! {
    /// Where a message stands.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
    pub enum MessageState {
        /// It goes at its minute, or is tried again.
        Planned = "planned",
        /// It is being handed over.
        Sending = "sending",
        /// The other side took it.
        Sent = "sent",
        /// It was given up.
        Failed = "failed",
        /// It is not true any more.
        Withdrawn = "withdrawn",
        /// It does not go, for a reason.
        Skipped = "skipped",
    }
}

/// The thing a message is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum About {
    /// A booking.
    Booking(BookingId),
    /// An event, for somebody who has not booked.
    Event(EventId),
    /// What happened in the house, for somebody of it.
    House(PersonId),
    /// A submission, and whoever sent it.
    Submission(SubmissionId, PersonId),
}

impl About {
    /// The booking, if it is about one.
    #[must_use]
    pub const fn booking(self) -> Option<BookingId> {
        match self {
            Self::Booking(id) => Some(id),
            Self::Event(_) | Self::House(_) | Self::Submission(..) => None,
        }
    }

    const fn person(self) -> Option<PersonId> {
        match self {
            Self::House(id) | Self::Submission(_, id) => Some(id),
            Self::Booking(_) | Self::Event(_) => None,
        }
    }

    const fn event(self) -> Option<EventId> {
        match self {
            Self::Booking(_) | Self::House(_) | Self::Submission(..) => None,
            Self::Event(id) => Some(id),
        }
    }

    const fn submission(self) -> Option<SubmissionId> {
        match self {
            Self::Booking(_) | Self::Event(_) | Self::House(_) => None,
            Self::Submission(id, _) => Some(id),
        }
    }
}

/// A message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// Its key.
    pub id: MessageId,
    /// The thing it is about.
    pub about: About,
    /// The date it is about, where it is about one.
    pub date: Option<DateId>,
    /// The place on a waiting list it is about.
    pub waiter: Option<i64>,
    /// The announcement it belongs to.
    pub announcement: Option<i64>,
    /// What set it off.
    pub trigger: Trigger,
    /// The cue; nothing for what the program says by itself.
    pub cue: Option<CueId>,
    /// Its wording; nothing for the standard one of what happened.
    pub template: Option<TemplateId>,
    /// Who, as cues tell them apart.
    pub reader: String,
    /// By which way.
    pub way: Way,
    /// To which address or number.
    pub address: String,
    /// Its `Message-ID`, the same however often it is tried.
    pub message_id: String,
    /// What the occasion knew.
    pub knows: Knows,
    /// Where it stands.
    pub state: MessageState,
    /// Why it stands so; may be empty.
    pub reason: String,
    /// Its minute.
    pub planned_at: Timestamp,
    /// Somebody gave it that minute.
    pub by_hand: bool,
    /// How often it was tried.
    pub tries: u32,
    /// When it was sent.
    pub sent_at: Option<Timestamp>,
    /// What the other side answered.
    pub answer: String,
    /// Why the last try failed.
    pub last_error: Option<String>,
    /// An act of a stranger makes it go.
    pub unasked: bool,
}

impl Message {
    /// The occasion, unless a moment set it off.
    #[must_use]
    pub const fn occasion(&self) -> Option<Occasion> {
        match self.trigger {
            Trigger::On(occasion) => Some(occasion),
            Trigger::At(_) => None,
        }
    }
}

const COLUMNS: &str = "o.id, o.booking_id, o.event_id, o.person_id, o.submission_id, o.date_id, o.waiter_id, o.announcement_id, o.happened, \
     o.cue_id, o.template_id, o.reader, o.way, o.address, o.message_id, o.knows, o.state, o.reason, \
     o.planned_at, o.by_hand, o.tries, o.sent_at, o.answer, o.last_error, o.box <> ''";

fn message(row: &Row<'_>) -> rusqlite::Result<Message> {
    message_at(&mut InOrder::from(row, 0))
}

fn message_at(c: &mut InOrder<'_, '_>) -> rusqlite::Result<Message> {
    let id = MessageId(c.next()?);
    let (booking, event): (Option<i64>, Option<i64>) = (c.next()?, c.next()?);
    let person = PersonId(c.next::<Option<i64>>()?.unwrap_or_default());
    let submission: Option<i64> = c.next()?;
    let about = match (booking, event, submission) {
        (Some(booking), ..) => About::Booking(BookingId(booking)),
        (None, Some(event), _) => About::Event(EventId(event)),
        (None, None, Some(id)) => About::Submission(SubmissionId(id), person),
        (None, None, None) => About::House(person),
    };
    Ok(Message {
        id,
        about,
        date: c.next::<Option<i64>>()?.map(DateId),
        waiter: c.next()?,
        announcement: c.next()?,
        trigger: c.word("outbox.happened", Trigger::from_word)?,
        cue: c.next::<Option<i64>>()?.map(CueId),
        template: c.next::<Option<i64>>()?.map(TemplateId),
        reader: c.next()?,
        way: c.word("outbox.way", Way::from_word)?,
        address: c.next()?,
        message_id: c.next()?,
        knows: {
            let text: String = c.next()?;
            serde_json::from_str(&text).map_err(|_| foreign("outbox.knows", text))?
        },
        state: c.word("outbox.state", MessageState::from_word)?,
        reason: c.next()?,
        planned_at: c.instant()?,
        by_hand: c.next()?,
        tries: c.next()?,
        sent_at: c.instant_or()?,
        answer: c.next()?,
        last_error: c.next()?,
        unasked: c.next()?,
    })
}

/// A message to be planned.
#[derive(Debug, Clone)]
pub struct NewMessage<'a> {
    /// The thing it is about.
    pub about: About,
    /// The date it is about, where it is about one.
    pub date: Option<DateId>,
    /// The place on a waiting list it is about.
    pub waiter: Option<i64>,
    /// The announcement it belongs to.
    pub announcement: Option<i64>,
    /// What sets it off.
    pub trigger: Trigger,
    /// The cue; nothing for what the program says by itself.
    pub cue: Option<CueId>,
    /// Its wording; nothing for the standard one.
    pub template: Option<TemplateId>,
    /// Who, as cues tell them apart.
    pub reader: &'a str,
    /// By which way.
    pub way: Way,
    /// To which address or number.
    pub address: &'a str,
    /// Tells it from all others: planning it twice plans it once.
    pub unique: &'a str,
    /// Its `Message-ID`.
    pub message_id: &'a str,
    /// What the occasion knows.
    pub knows: &'a Knows,
    /// Its minute.
    pub at: Timestamp,
    /// It is mass mail, and goes after all else.
    pub bulk: bool,
    /// Why it does not go; empty for one that is planned.
    pub skipped: &'a str,
    /// An act of a stranger makes it go: it is counted by the box that it goes to.
    pub unasked: bool,
}

impl<'a> NewMessage<'a> {
    /// A message to one reader, with nothing beside: no cue, the standard wording, planned.
    #[must_use]
    pub const fn to(
        about: About,
        trigger: Trigger,
        reader: &'a str,
        (way, address): (Way, &'a str),
        knows: &'a Knows,
        at: Timestamp,
    ) -> Self {
        Self {
            about,
            date: None,
            waiter: None,
            announcement: None,
            trigger,
            cue: None,
            template: None,
            reader,
            way,
            address,
            unique: "",
            message_id: "",
            knows,
            at,
            bulk: false,
            skipped: "",
            unasked: false,
        }
    }
}

/// How many messages of a cue about an occasion there are for a booking and reader.
pub fn count_of(
    conn: &Connection,
    booking: BookingId,
    happened: Trigger,
    reader: &str,
    cue: Option<CueId>,
) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT count(*) FROM outbox WHERE booking_id = ?1 AND happened = ?2 AND reader = ?3 AND cue_id IS ?4",
    )
    .and_then(|mut q| {
        q.query_row((booking.0, happened.word(), reader, cue.map(|c| c.0)), |row| row.get(0))
    })
    .doing("counting messages")
}

/// Plans a message; one that is planned already stays as it is. Whether it is new.
pub fn plan(tx: &Tx<'_>, new: &NewMessage<'_>) -> Result<bool, StoreError> {
    let plan = || -> rusqlite::Result<usize> {
        let knows = if *new.knows == Knows::default() { "{}".to_owned() } else { json(new.knows)? };
        let goes = new.skipped.is_empty();
        let due = (goes && new.way != Way::Ring).then(|| us(new.at));
        let box_of =
            if new.unasked && new.way == Way::Mail { mailbox(new.address) } else { String::new() };
        tx.prepare_cached(
            "INSERT OR IGNORE INTO outbox (unique_key, cue_id, template_id, happened, way, reader, booking_id,
                event_id, date_id, waiter_id, announcement_id, address, message_id, knows, state, reason,
                planned_at, next_try_at, bulk, person_id, submission_id, box)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18, ?19, ?20, ?21, ?22)",
        )?
        .execute(rusqlite::params![
            new.unique,
            new.cue.map(|c| c.0),
            new.template.map(|t| t.0),
            new.trigger.word(),
            new.way.word(),
            new.reader,
            new.about.booking().map(|b| b.0),
            new.about.event().map(|e| e.0),
            new.date.map(|d| d.0),
            new.waiter,
            new.announcement,
            new.address,
            new.message_id,
            knows,
            if goes { "planned" } else { "skipped" },
            new.skipped,
            us(new.at),
            due,
            new.bulk,
            new.about.person().map(|p| p.0),
            new.about.submission().map(|s| s.0),
            box_of,
        ])
    };
    plan().map(|n| n == 1).doing("planning a message")
}

/// The invitations to an event, in the order they were planned.
pub fn invitations(conn: &Connection, event: EventId) -> Result<Vec<Message>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM outbox o WHERE o.event_id = ?1 AND o.happened = 'invitation' ORDER BY o.id"
    ))
    .and_then(|mut q| readable("messages", q.query_map([event.0], message)?))
    .doing("reading invitations")
}

/// A message by its key.
pub fn by_id(conn: &Connection, id: MessageId) -> Result<Option<Message>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM outbox o WHERE o.id = ?1"))
        .and_then(|mut q| q.query_row([id.0], message).optional())
        .doing("looking a message up")
}

/// Messages of a date that moved or was called off, about an event's bookings, with reference
/// and name, the latest first.
pub fn told(
    conn: &Connection,
    event: EventId,
) -> Result<Vec<(Message, String, String)>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS}, b.reference, b.name FROM outbox o JOIN bookings b ON b.id = o.booking_id
         JOIN dates d ON d.id = b.date_id
         WHERE d.event_id = ?1 AND o.happened IN ('called off', 'moved') AND o.way <> 'telephone'
            AND b.test = 0 ORDER BY o.id DESC"
    ))
    .and_then(|mut q| {
        q.query_map([event.0], |row| {
            let mut c = InOrder::from(row, 0);
            Ok((message_at(&mut c)?, c.next()?, c.next()?))
        })?
        .collect()
    })
    .doing("reading who is told")
}

/// What has not gone out about a booking goes to another address; to none, it is withdrawn.
pub fn readdress(tx: &Tx<'_>, booking: BookingId, old: &str, new: &str) -> Result<(), StoreError> {
    let sql = if new.is_empty() {
        "UPDATE outbox SET state = 'withdrawn', next_try_at = NULL, reason = 'no address'
         WHERE booking_id = ?1 AND address = ?2 AND state = 'planned' AND way = 'mail' AND ?3 = '' AND ?4 = ''"
    } else {
        "UPDATE outbox SET address = ?3, box = iif(box = '', '', ?4), state = 'planned', next_try_at = coalesce(next_try_at, planned_at),
            reason = '', last_error = NULL, tries = 0
         WHERE booking_id = ?1 AND address = ?2 AND way = 'mail'
            AND (state = 'planned' OR (state IN ('failed', 'skipped') AND by_hand = 0
                AND happened IN ('confirmation', 'approval', 'change', 'moved')))"
    };
    tx.prepare_cached(sql)
        .and_then(|mut q| q.execute((booking.0, old, new, mailbox(new))))
        .map(drop)
        .doing("sending to another address")
}

/// What strangers' acts made go to the box of a message within a day before `now`, itself left out;
/// what is being handed over before it counts as gone.
pub fn went_to_box(
    conn: &Connection,
    message: &Message,
    now: Timestamp,
) -> Result<Vec<Went>, StoreError> {
    let booking = message.about.booking().map(|b| b.0);
    let since = now - jiff::SignedDuration::from_hours(24);
    let went = |at: Timestamp, of: Option<i64>| Went { at, same: of.is_some() && of == booking };
    let box_of = mailbox(&message.address);
    let mut found: Vec<Went> = conn
        .prepare_cached(
            "SELECT sent_at, booking_id FROM outbox WHERE box = ?1 AND box <> '' AND sent_at > ?2 AND id <> ?3",
        )
        .and_then(|mut q| {
            q.query_map((&box_of, us(since), message.id.0), |row| {
                let mut c = InOrder::from(row, 0);
                Ok(went(c.instant()?, c.next()?))
            })?
            .collect()
        })
        .doing("counting what went to a box")?;
    let under_way: Vec<Went> = conn
        .prepare_cached(
            "SELECT booking_id FROM outbox WHERE state = 'sending' AND box = ?1 AND box <> '' AND id < ?2",
        )
        .and_then(|mut q| {
            q.query_map((&box_of, message.id.0), |row| Ok(went(now, row.get(0)?)))?.collect()
        })
        .doing("counting what goes to a box")?;
    found.extend(under_way);
    Ok(found)
}

/// Withdraws what has not gone out about a booking and these occasions, whichever way it was to
/// go; a cue's moments are followed, and not withdrawn here.
pub fn withdraw(
    tx: &Tx<'_>,
    booking: BookingId,
    is_true: impl Fn(Occasion) -> bool,
    why: &str,
) -> Result<(), StoreError> {
    let open: Vec<(i64, String)> = tx
        .prepare_cached(
            "SELECT id, happened FROM outbox WHERE booking_id = ?1 AND state = 'planned'",
        )
        .and_then(|mut q| q.query_map([booking.0], |row| Ok((row.get(0)?, row.get(1)?)))?.collect())
        .doing("reading what is planned")?;
    for (id, word) in open {
        if Occasion::from_word(&word).is_some_and(|occasion| !is_true(occasion)) {
            withdraw_one(tx, MessageId(id), why)?;
        }
    }
    Ok(())
}

/// Withdraws one message that has not gone out.
pub fn withdraw_one(tx: &Tx<'_>, id: MessageId, why: &str) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE outbox SET state = 'withdrawn', next_try_at = NULL, reason = ?2
         WHERE id = ?1 AND state IN ('planned', 'sending')",
    )
    .and_then(|mut q| q.execute((id.0, why)))
    .map(drop)
    .doing("withdrawing a message")
}

/// A message that is being handed over does not go, for a reason.
pub fn skip(tx: &Tx<'_>, id: MessageId, why: &str) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE outbox SET state = 'skipped', next_try_at = NULL, reason = ?2
         WHERE id = ?1 AND state IN ('planned', 'sending')",
    )
    .and_then(|mut q| q.execute((id.0, why)))
    .map(drop)
    .doing("skipping a message")
}

/// A message that is being handed over goes at another minute.
pub fn put_off(tx: &Tx<'_>, id: MessageId, at: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE outbox SET state = 'planned', planned_at = ?2, next_try_at = ?2, tries = 0
         WHERE id = ?1 AND state = 'sending'",
    )
    .and_then(|mut q| q.execute((id.0, us(at))))
    .map(drop)
    .doing("putting a message off")
}

/// Messages that are due, and where each goes: mass mail after all else, what has waited longest
/// first; none of some domains.
pub fn due(
    conn: &Connection,
    without: &[String],
    most: u32,
    now: Timestamp,
) -> Result<Vec<(MessageId, String)>, StoreError> {
    let mut found: Vec<(MessageId, String)> = Vec::new();
    for bulk in [false, true] {
        let left = most.saturating_sub(u32::try_from(found.len()).unwrap_or(u32::MAX));
        if left == 0 {
            break;
        }
        let rows: Vec<(MessageId, String)> = conn
            .prepare_cached(
                "SELECT id, address FROM outbox WHERE bulk = ?1 AND next_try_at <= ?2
                    AND lower(substr(address, instr(address, '@') + 1)) NOT IN (SELECT value FROM json_each(?3))
                 ORDER BY next_try_at LIMIT ?4",
            )
            .and_then(|mut q| {
                q.query_map((bulk, us(now), json(&without)?, left), |row| {
                    Ok((MessageId(row.get(0)?), row.get(1)?))
                })?
                .collect()
            })
            .doing("looking for messages that are due")?;
        found.extend(rows);
    }
    Ok(found)
}

/// Takes messages, marked as being handed over, if they are still due: a second taker gets others.
/// What cannot be read has failed, and stops none after it.
pub fn take(tx: &Tx<'_>, ids: &[MessageId], now: Timestamp) -> Result<Vec<Message>, StoreError> {
    let mut taken = Vec::with_capacity(ids.len());
    for id in ids {
        let is_due = tx
            .prepare_cached(
                "UPDATE outbox SET state = 'sending', next_try_at = NULL, tries = tries + 1
                 WHERE id = ?1 AND next_try_at <= ?2",
            )
            .and_then(|mut q| q.execute((id.0, us(now))))
            .doing("taking a message")?;
        if is_due == 0 {
            continue;
        }
        match by_id(tx, *id) {
            Ok(found) => taken.extend(found),
            Err(error) => not_sent(tx, *id, &error.to_string(), None)?,
        }
    }
    Ok(taken)
}

/// The other side took it.
pub fn sent(tx: &Tx<'_>, id: MessageId, answer: &str, now: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE outbox SET state = 'sent', sent_at = ?2, next_try_at = NULL, last_error = NULL,
            reason = '', answer = ?3 WHERE id = ?1",
    )
    .and_then(|mut q| q.execute((id.0, us(now), answer)))
    .map(drop)
    .doing("noting a message as sent")
}

/// The other side did not take it; tried again at `again`, or given up.
pub fn not_sent(
    tx: &Tx<'_>,
    id: MessageId,
    error: &str,
    again: Option<Timestamp>,
) -> Result<(), StoreError> {
    let state = if again.is_some() { "planned" } else { "failed" };
    tx.prepare_cached(
        "UPDATE outbox SET state = ?2, next_try_at = ?3, last_error = ?4 WHERE id = ?1",
    )
    .and_then(|mut q| q.execute((id.0, state, again.map(us), error)))
    .map(drop)
    .doing("noting a message as not sent")
}

/// What is marked as being handed over while nobody does: the program ended, or the disk was
/// full when it was to be noted. It may have got through or not, and is tried again under the
/// same `Message-ID`, by which mailboxes know a message they already have (RFC 5322 §3.6.4).
/// `but` are those whose fate is known and only not written yet.
pub fn take_up(tx: &Tx<'_>, but: &[MessageId], now: Timestamp) -> Result<usize, StoreError> {
    let left: Vec<i64> = tx
        .prepare_cached("SELECT id FROM outbox WHERE state = 'sending'")
        .and_then(|mut q| q.query_map([], |row| row.get(0))?.collect())
        .doing("looking for messages left half-way")?;
    let mut taken = 0;
    for id in left.into_iter().filter(|id| !but.contains(&MessageId(*id))) {
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
pub fn any_sending(conn: &Connection) -> Result<bool, StoreError> {
    conn.prepare_cached("SELECT EXISTS (SELECT 1 FROM outbox WHERE state = 'sending')")
        .and_then(|mut q| q.query_row([], |row| row.get(0)))
        .doing("looking for messages left half-way")
}

/// Whether any mail has gone out.
pub fn has_sent(conn: &Connection) -> Result<bool, StoreError> {
    conn.prepare_cached(
        "SELECT EXISTS (SELECT 1 FROM outbox WHERE state = 'sent' AND way = 'mail')",
    )
    .and_then(|mut q| q.query_row([], |row| row.get(0)))
    .doing("looking for a mail that went out")
}

/// Messages about a booking, oldest first.
pub fn of_booking(conn: &Connection, booking: BookingId) -> Result<Vec<Message>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM outbox o WHERE o.booking_id = ?1 ORDER BY o.id"
    ))
    .and_then(|mut q| readable("messages", q.query_map([booking.0], message)?))
    .doing("reading messages")
}

/// How many messages about a booking have not gone out.
pub fn unsent(conn: &Connection, booking: BookingId) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT count(*) FROM outbox WHERE booking_id = ?1 AND state IN ('planned', 'sending')",
    )
    .and_then(|mut q| q.query_row([booking.0], |row| row.get(0)))
    .doing("counting messages")
}

/// Stops a message, or lets it go after all; gives it another minute. Only what has not gone
/// out. Whether it could.
pub fn steer(
    tx: &Tx<'_>,
    id: MessageId,
    to: Option<Timestamp>,
    why: &str,
) -> Result<bool, StoreError> {
    let sql = match to {
        Some(_) => {
            "UPDATE outbox SET state = 'planned', planned_at = ?2, next_try_at = ?2, by_hand = 1, tries = 0,
                reason = ?3, last_error = NULL
             WHERE id = ?1 AND way <> 'telephone' AND state IN ('planned', 'failed', 'skipped', 'withdrawn')"
        }
        None => {
            "UPDATE outbox SET state = 'skipped', next_try_at = NULL, by_hand = 1, reason = ?3
             WHERE id = ?1 AND state = 'planned' AND ?2 IS NULL"
        }
    };
    tx.prepare_cached(sql)
        .and_then(|mut q| q.execute((id.0, to.map(us), why)))
        .map(|n| n == 1)
        .doing("steering a message")
}
