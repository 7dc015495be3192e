//! Letters: mails that came in, what went out because of them, what calendars said.

pub mod being_read;
mod out;
mod said;

use std::io::{Read, Write};

use flate2::Compression;
use flate2::read::DeflateDecoder;
use flate2::write::DeflateEncoder;
use jiff::Timestamp;
use jiff::civil::DateTime;
use matricle_core::messages::letters::{Found, Kind, Place, Theirs, own_words};
use matricle_core::people::who::mailbox;
use matricle_core::words::MOST_WORDS;
use matricle_core::words::codes::Reference;
use matricle_core::{BookingId, DateId, EventId};
use rusqlite::{Connection, OptionalExtension, params_from_iter};

use crate::convert::InOrder;
use crate::states::sql;
use crate::{Doing, StoreError, Tx, at, us};

pub use out::{
    NewOut, Out, add_out, due, forwarded_to, of_letter, out_by_id, out_of_message, refused, sent,
};
pub use said::{CalendarSaid, calendar_said, calendar_says};

/// A file of a letter: its name, its media type, how many bytes it has.
pub type FileNote = (String, String, u64);

/// Another time for a date, as a calendar proposes it: by the clock on the wall there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Proposed {
    /// The key of the event.
    pub event: EventId,
    /// The key of the date.
    pub date: DateId,
    /// From.
    pub starts: DateTime,
    /// Until.
    pub ends: DateTime,
}

/// A letter.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Letter {
    /// Its key.
    pub id: i64,
    /// Its `Message-ID`.
    pub message_id: String,
    /// What it is.
    pub kind: Kind,
    /// When it was read.
    pub at: Timestamp,
    /// Who wrote it: name and address.
    pub from: (String, String),
    /// Where answers to it go: what it asks for, or where it came from.
    pub answer_to: String,
    /// The reply address that it was written to.
    pub to: String,
    /// Its subject.
    pub subject: String,
    /// Its words.
    pub words: String,
    /// Those of its words that are new in it.
    pub own: String,
    /// What it brings; `None` for one that was kept before this was written down.
    pub files: Option<Vec<FileNote>>,
    /// Why it is what it is.
    pub note: String,
    /// The time that it proposes instead.
    pub proposed: Option<Proposed>,
    /// Where it belongs.
    pub place: Place,
    /// How it found its place.
    pub found: Found,
    /// When it was put away.
    pub put_away: Option<Timestamp>,
    /// The booking that it belongs to.
    pub reference: Option<Reference>,
    /// The title of the event that it belongs to, by itself or by its booking.
    pub title: String,
}

const COLUMNS: &str = "l.id, l.message_id, l.kind, l.at, l.from_name, l.from_email, \
     iif(l.answer_to = '', l.from_email, l.answer_to), l.to_email, l.subject, l.words, l.own, l.files, \
     l.note, l.proposed, l.booking_id, l.event_id, l.person IS NOT NULL, l.found, l.put_away_at, b.reference, \
     coalesce(e.title, be.title, '')";
const FROM: &str = "letters l LEFT JOIN bookings b ON b.id = l.booking_id \
     LEFT JOIN dates d ON d.id = b.date_id LEFT JOIN events be ON be.id = d.event_id \
     LEFT JOIN events e ON e.id = l.event_id";
/// A letter that belongs to nothing that is known.
const IN_TRAY: &str =
    "l.booking_id IS NULL AND l.event_id IS NULL AND l.person IS NULL AND l.put_away_at IS NULL";

fn letter(row: &rusqlite::Row<'_>) -> rusqlite::Result<Letter> {
    let mut c = InOrder::from(row, 0);
    let (id, message_id) = (c.next()?, c.next()?);
    let kind = c.word("letters.kind", Kind::from_word)?;
    let at = c.instant()?;
    let from = (c.next()?, c.next()?);
    let (answer_to, to, subject) = (c.next()?, c.next()?, c.next()?);
    let words: String = c.next()?;
    let own = c.next::<Option<String>>()?.unwrap_or_else(|| own_words(&words).to_owned());
    let files = c.next::<Option<String>>()?;
    Ok(Letter {
        id,
        message_id,
        kind,
        at,
        from,
        answer_to,
        to,
        subject,
        words,
        own,
        files: files.and_then(|f| serde_json::from_str(&f).ok()),
        note: c.next()?,
        // One that a later version wrote otherwise is none.
        proposed: c.next::<Option<String>>()?.and_then(|p| serde_json::from_str(&p).ok()),
        place: match (c.next::<Option<i64>>()?, c.next::<Option<i64>>()?, c.next::<bool>()?) {
            (Some(booking), _, _) => Place::Booking(BookingId(booking)),
            (_, Some(event), _) => Place::Event(EventId(event)),
            (_, _, true) => Place::Person,
            _ => Place::Tray,
        },
        found: c.word("letters.found", Found::from_word)?,
        put_away: c.instant_or()?,
        reference: c.next::<Option<String>>()?.and_then(|r| Reference::parse(&r)),
        title: c.next()?,
    })
}

/// A letter to be kept.
#[derive(Debug, Clone)]
pub struct New<'a> {
    /// The digest by which it is known again.
    pub seen: &'a str,
    /// Its `Message-ID`.
    pub message_id: &'a str,
    /// What it is.
    pub kind: Kind,
    /// When it says that it was written.
    pub written_at: Option<Timestamp>,
    /// Who wrote it: name and address.
    pub from: (&'a str, &'a str),
    /// Where it asks for answers; empty for where it came from.
    pub answer_to: &'a str,
    /// The reply address that it was written to.
    pub to: &'a str,
    /// Its subject.
    pub subject: &'a str,
    /// Its words.
    pub words: &'a str,
    /// Those that are new in it.
    pub own: &'a str,
    /// What it brings.
    pub files: &'a [FileNote],
    /// Why it is what it is.
    pub note: &'a str,
    /// The time that it proposes instead.
    pub proposed: Option<Proposed>,
    /// Somebody is to answer it, or to decide on what it proposes.
    pub to_answer: bool,
    /// Where it belongs, and how that was found.
    pub place: (Place, Found),
    /// Word for word as it came, packed.
    pub packed: &'a [u8],
}

/// A mail packed, as it is kept: away from the writing thread.
///
/// # Errors
/// The packer refuses.
pub fn packed(raw: &[u8]) -> Result<Vec<u8>, StoreError> {
    let mut packer = DeflateEncoder::new(Vec::new(), Compression::fast());
    packer
        .write_all(raw)
        .and_then(|()| packer.finish())
        .map_err(|e| rusqlite::Error::ToSqlConversionFailure(e.into()))
        .doing("packing a letter")
}

/// Keeps a letter; its key.
pub fn add(tx: &Tx<'_>, new: &New<'_>, now: Timestamp) -> Result<i64, StoreError> {
    let (booking, event, person) = columns(new.place.0, new.from.1);
    tx.prepare_cached(
        "INSERT INTO letters (seen, message_id, kind, at, written_at, from_name, from_email, to_email, subject,
            words, note, booking_id, event_id, person, found, raw, answer_to, own, files, proposed, to_answer)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18, ?19, ?20, ?21)",
    )
    .and_then(|mut q| {
        q.insert(rusqlite::params![
            new.seen,
            new.message_id,
            new.kind.word(),
            us(now),
            new.written_at.map(us),
            new.from.0,
            new.from.1,
            new.to,
            new.subject,
            new.words,
            new.note,
            booking,
            event,
            person,
            new.place.1.word(),
            new.packed,
            new.answer_to,
            new.own,
            serde_json::to_string(new.files).unwrap_or_else(|_| "[]".into()),
            new.proposed.and_then(|p| serde_json::to_string(&p).ok()),
            new.to_answer
        ])
    })
    .doing("keeping a letter")
}

/// The place that two columns name: a booking, or an event.
fn place(booking: Option<i64>, event: Option<i64>) -> Place {
    match (booking, event) {
        (Some(booking), _) => Place::Booking(BookingId(booking)),
        (None, Some(event)) => Place::Event(EventId(event)),
        (None, None) => Place::Tray,
    }
}

/// What stands in the columns for a place.
fn columns(place: Place, from: &str) -> (Option<i64>, Option<i64>, Option<&str>) {
    match place {
        Place::Booking(booking) => (Some(booking.0), None, None),
        Place::Event(event) => (None, Some(event.0), None),
        Place::Person => (None, None, Some(from)),
        Place::Tray => (None, None, None),
    }
}

/// Whether a letter was read before, by its digest.
pub fn known(conn: &Connection, seen: &str) -> Result<bool, StoreError> {
    conn.prepare_cached("SELECT EXISTS (SELECT 1 FROM letters WHERE seen = ?1)")
        .and_then(|mut q| q.query_row([seen], |row| row.get(0)))
        .doing("looking a letter up")
}

/// A letter.
pub fn by_id(conn: &Connection, id: i64) -> Result<Option<Letter>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM {FROM} WHERE l.id = ?1"))
        .and_then(|mut q| q.query_row([id], letter).optional())
        .doing("reading a letter")
}

/// A letter word for word as it came.
pub fn raw(conn: &Connection, id: i64) -> Result<Option<Vec<u8>>, StoreError> {
    let packed: Option<Vec<u8>> = conn
        .prepare_cached("SELECT raw FROM letters WHERE id = ?1")
        .and_then(|mut q| q.query_row([id], |row| row.get(0)).optional())
        .doing("reading a letter")?;
    let Some(packed) = packed else { return Ok(None) };
    let mut raw = Vec::new();
    DeflateDecoder::new(&packed[..])
        .read_to_end(&mut raw)
        .map_err(|e| {
            rusqlite::Error::FromSqlConversionFailure(0, rusqlite::types::Type::Blob, e.into())
        })
        .doing("unpacking a letter")?;
    Ok(Some(raw))
}

/// Which letters are listed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum List {
    /// Those that belong to nothing that is known.
    Tray,
    /// Those that found their place and wait for an answer.
    ToAnswer,
    /// All that were not put away.
    All,
    /// Those that were put away.
    PutAway,
    /// Those that could not be read, and were not put away.
    Unreadable,
    /// Of a booking, oldest first.
    Booking(BookingId),
    /// Of an event, by itself.
    Event(EventId),
    /// By whoever wrote the letter of this number, oldest first.
    Writer(i64),
}

impl List {
    fn condition(self) -> (String, i64) {
        match self {
            Self::Tray => (IN_TRAY.to_owned(), 0),
            Self::ToAnswer => ("l.to_answer = 1 AND l.put_away_at IS NULL".into(), 0),
            Self::All => ("l.put_away_at IS NULL".into(), 0),
            Self::Unreadable => {
                ("l.kind = 'unreadable' AND l.put_away_at IS NULL".into(), 0)
            }
            Self::PutAway => ("l.put_away_at IS NOT NULL".into(), 0),
            Self::Booking(id) => ("l.booking_id = ?1".into(), id.0),
            Self::Event(id) => ("l.event_id = ?1".into(), id.0),
            Self::Writer(id) => (
                "l.from_email <> '' AND l.from_email = (SELECT w.from_email FROM letters w WHERE w.id = ?1)"
                    .into(),
                id,
            ),
        }
    }
}

matricle_core::worded! {
    /// What a list of letters is ordered by.
    #[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
    pub enum Sort {
        /// The minute they came.
        #[default]
        Minute = "minute",
        /// Whoever wrote them.
        Who = "who",
        /// Their subject.
        Subject = "subject",
        /// What they are.
        Kind = "kind",
    }
}

impl Sort {
    const fn column(self) -> &'static str {
        match self {
            Self::Minute => "l.at",
            Self::Who => "coalesce(nullif(l.from_name, ''), l.from_email) COLLATE NOCASE",
            Self::Subject => "l.subject COLLATE NOCASE",
            Self::Kind => "l.kind",
        }
    }
}

/// What is looked for among letters.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Look {
    /// The list.
    pub of: List,
    /// Words that stand in a letter, in who wrote it or in what it is about.
    pub words: Vec<String>,
    /// How they are ordered.
    pub sort: Sort,
    /// The other way round.
    pub backwards: bool,
}

impl From<List> for Look {
    /// All of a list, the latest first but for those of a booking or a writer.
    fn from(of: List) -> Self {
        let backwards = !matches!(of, List::Booking(_) | List::Writer(_));
        Self { of, words: Vec::new(), sort: Sort::Minute, backwards }
    }
}

/// The letters that are looked for, from the one numbered `skip` on, so many at most, and how many
/// there are in all.
pub fn find(
    conn: &Connection,
    look: &Look,
    skip: u32,
    most: u32,
) -> Result<(Vec<Letter>, u32), StoreError> {
    let (condition, of) = look.of.condition();
    let mut values: Vec<rusqlite::types::Value> = vec![of.into()];
    let mut joined = format!("{FROM} WHERE {condition} AND ?1 = ?1");
    for word in look.words.iter().take(MOST_WORDS) {
        values.push(format!("%{}%", word.replace(['%', '_'], " ")).into());
        let n = values.len();
        let said = [
            "l.from_name",
            "l.from_email",
            "l.subject",
            "l.words",
            "b.reference",
            "e.title",
            "be.title",
        ];
        let any: Vec<String> = said.iter().map(|column| format!("{column} LIKE ?{n}")).collect();
        joined.push_str(&format!(" AND ({})", any.join(" OR ")));
    }
    let count = conn
        .prepare_cached(&format!("SELECT count(*) FROM {joined}"))
        .and_then(|mut q| q.query_row(params_from_iter(&values), |row| row.get(0)))
        .doing("counting letters")?;
    let way = if look.backwards { "DESC" } else { "ASC" };
    let column = look.sort.column();
    let found = conn
        .prepare_cached(&format!(
            "SELECT {COLUMNS} FROM {joined} ORDER BY {column} {way}, l.at {way}, l.id {way}
             LIMIT {most} OFFSET {skip}"
        ))
        .and_then(|mut q| q.query_map(params_from_iter(&values), letter)?.collect())
        .doing("listing letters")?;
    Ok((found, count))
}

/// Letters of a list, from the one numbered `skip` on, so many at most.
pub fn list(
    conn: &Connection,
    list: List,
    skip: u32,
    most: u32,
) -> Result<Vec<Letter>, StoreError> {
    Ok(find(conn, &list.into(), skip, most)?.0)
}

/// The latest letter that an address wrote.
pub fn latest_of(conn: &Connection, email: &str) -> Result<Option<i64>, StoreError> {
    conn.prepare_cached(
        "SELECT id FROM letters WHERE from_email = ?1 AND from_email <> '' ORDER BY at DESC, id DESC LIMIT 1",
    )
    .and_then(|mut q| q.query_row([email], |row| row.get(0)).optional())
    .doing("looking for somebody's letters")
}

/// How many letters there are in a list.
pub fn count(conn: &Connection, list: List) -> Result<u32, StoreError> {
    let (condition, of) = list.condition();
    conn.prepare_cached(&format!("SELECT count(*) FROM letters l WHERE {condition} AND ?1 = ?1"))
        .and_then(|mut q| q.query_row([of], |row| row.get(0)))
        .doing("counting letters")
}

/// Gives a letter to a booking or an event, or takes it back into the tray.
pub fn put(tx: &Tx<'_>, id: i64, place: (Place, Found), to_answer: bool) -> Result<(), StoreError> {
    let (booking, event, _) = columns(place.0, "");
    tx.prepare_cached(
        "UPDATE letters SET booking_id = ?2, event_id = ?3, person = NULL, found = ?4, put_away_at = NULL,
            to_answer = ?5 WHERE id = ?1",
    )
    .and_then(|mut q| q.execute((id, booking, event, place.1.word(), to_answer)))
    .map(drop)
    .doing("giving a letter its place")
}

/// Puts a letter away, or takes it out again.
pub fn put_away(tx: &Tx<'_>, id: i64, at: Option<Timestamp>) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE letters SET put_away_at = ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((id, at.map(us))))
        .map(drop)
        .doing("putting a letter away")
}

/// Where the message or the letter belongs that a letter answers, by its `Message-ID`.
pub fn of_thread(conn: &Connection, message_id: &str) -> Result<Option<Place>, StoreError> {
    conn.prepare_cached(
        "SELECT booking_id, event_id FROM outbox WHERE message_id = ?1
         UNION ALL SELECT booking_id, event_id FROM letters WHERE message_id = ?1 AND message_id <> ''
         UNION ALL SELECT l.booking_id, l.event_id FROM letters_out o JOIN letters l ON l.id = o.letter_id
            WHERE o.message_id = ?1
         LIMIT 1",
    )
    .and_then(|mut q| {
        q.query_row([message_id], |row| Ok(place(row.get(0)?, row.get(1)?))).optional()
    })
    .map(|found| found.filter(|place| *place != Place::Tray))
    .doing("looking up what a letter answers")
}

/// The bookings of an address that stand, as booker or with a ticket that was passed to it.
pub fn bookings_of(conn: &Connection, email: &str) -> Result<Vec<Theirs>, StoreError> {
    conn.prepare_cached(
        sql!("SELECT b.id, max(d.ends_at) FROM bookings b
            JOIN attendees a ON a.booking_id = b.id AND a.cancelled_at IS NULL
            JOIN dates d ON d.id = a.date_id
         WHERE b.state IN {stands} AND b.test = 0
            AND b.id IN (SELECT id FROM bookings WHERE mailbox = ?2 AND mailbox <> ''
                UNION SELECT booking_id FROM attendees WHERE email = ?1 COLLATE NOCASE AND email <> '')
         GROUP BY b.id"),
    )
    .and_then(|mut q| {
        q.query_map((email, mailbox(email)), |row| {
            Ok(Theirs { booking: BookingId(row.get(0)?), ends_at: at(row.get(1)?) })
        })?
        .collect()
    })
    .doing("looking up whose a letter is")
}

/// The events in the Programme whose reply address this is.
pub fn events_of(conn: &Connection, address: &str) -> Result<Vec<EventId>, StoreError> {
    conn.prepare_cached(
        "SELECT e.id FROM events e JOIN senders s ON s.id = e.sender_id
            WHERE s.email = ?1 COLLATE NOCASE AND s.retired_at IS NULL AND e.state = 'published'
         UNION SELECT e.id FROM events e JOIN event_tags t ON t.event_id = e.id
                JOIN senders s ON s.tag_id = t.tag_id
            WHERE s.email = ?1 COLLATE NOCASE AND s.retired_at IS NULL AND e.state = 'published'
                AND e.sender_id IS NULL
         LIMIT 3",
    )
    .and_then(|mut q| q.query_map([address], |row| row.get(0).map(EventId))?.collect())
    .doing("looking up whose reply address that is")
}

/// Whether an address is known: somebody of the house, a member, a booker, somebody who waits,
/// or who is invited or replied to an invitation.
pub fn is_known(conn: &Connection, email: &str) -> Result<bool, StoreError> {
    conn.prepare_cached(
        sql!("SELECT EXISTS (SELECT 1 FROM people WHERE email = ?1 COLLATE NOCASE)
            OR EXISTS (SELECT 1 FROM bookings WHERE mailbox = ?2 AND mailbox <> '' AND state <> {Lapsed})
            OR EXISTS (SELECT 1 FROM waiting WHERE email = ?1 COLLATE NOCASE)
            OR EXISTS (SELECT 1 FROM invited WHERE email = ?1)
            OR EXISTS (SELECT 1 FROM replies WHERE email = ?1 COLLATE NOCASE)"),
    )
    .and_then(|mut q| q.query_row((email, mailbox(email)), |row| row.get(0)))
    .doing("looking up whose a letter is")
}

/// How many letters of an address were read since, counted up to a number.
pub fn count_from(
    conn: &Connection,
    email: &str,
    since: Timestamp,
    most: u32,
) -> Result<u32, StoreError> {
    let what = "SELECT 1 FROM letters WHERE from_email = ?1 AND at > ?2 LIMIT ?3";
    count_since(conn, what, email, since, most)
}

/// How many rows of an address there are since a moment, at most so many.
fn count_since(
    conn: &Connection,
    rows: &str,
    email: &str,
    since: Timestamp,
    most: u32,
) -> Result<u32, StoreError> {
    conn.prepare_cached(&format!("SELECT count(*) FROM ({rows})"))
        .and_then(|mut q| q.query_row((email, us(since), most), |row| row.get(0)))
        .doing("counting letters")
}

/// A message that went, by its `Message-ID`: to whom, and where it belongs.
pub fn message_sent(
    conn: &Connection,
    message_id: &str,
) -> Result<Option<(String, Place)>, StoreError> {
    conn.prepare_cached(
        "SELECT address, booking_id, event_id FROM outbox WHERE message_id = ?1 AND state = 'sent'
         UNION ALL SELECT o.to_email, l.booking_id, l.event_id
            FROM letters_out o JOIN letters l ON l.id = o.letter_id
            WHERE o.message_id = ?1 AND o.sent_at IS NOT NULL",
    )
    .and_then(|mut q| {
        q.query_row([message_id], |row| Ok((row.get(0)?, place(row.get(1)?, row.get(2)?))))
            .optional()
    })
    .doing("looking up what did not arrive")
}

/// A booking that stands and is still to come, whose address refused mail for good: its
/// reference, its booker, what was said. The soonest first, so many at most.
pub fn unreachable(
    conn: &Connection,
    now: Timestamp,
    most: u32,
) -> Result<Vec<(String, String, String)>, StoreError> {
    let refused: Vec<(String, String)> = conn
        .prepare_cached(
            "SELECT email, refusal FROM addresses WHERE refused_at IS NOT NULL ORDER BY refused_at DESC LIMIT 500",
        )
        .and_then(|mut q| q.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?.collect())
        .doing("looking for whom no mail reaches")?;
    let mut found: Vec<(i64, (String, String, String))> = Vec::new();
    for (email, why) in refused {
        let of_it: Vec<(i64, String, String)> = conn
            .prepare_cached(
                sql!("SELECT d.starts_at, b.reference, b.name FROM bookings b JOIN dates d ON d.id = b.date_id
                 WHERE b.mailbox = ?1 AND b.mailbox <> '' AND b.email = ?2 COLLATE NOCASE AND d.ends_at > ?3
                    AND b.test = 0 AND b.state IN {stands}"),
            )
            .and_then(|mut q| {
                q.query_map((mailbox(&email), &email, us(now)), |row| {
                    Ok((row.get(0)?, row.get(1)?, row.get(2)?))
                })?
                .collect()
            })
            .doing("looking for whom no mail reaches")?;
        found.extend(
            of_it.into_iter().map(|(at, r, name)| (at, (r, name, format!("{email}: {why}")))),
        );
    }
    found.sort();
    Ok(found.into_iter().take(most as usize).map(|(_, row)| row).collect())
}

/// How far a mailbox was read: its validity and the last identifier.
pub fn read_to(conn: &Connection, name: &str) -> Result<Option<(u32, u32)>, StoreError> {
    conn.prepare_cached("SELECT validity, uid FROM letterbox WHERE name = ?1")
        .and_then(|mut q| q.query_row([name], |row| Ok((row.get(0)?, row.get(1)?))).optional())
        .doing("reading how far the mailbox was read")
}

/// Writes down how far a mailbox was read.
pub fn set_read_to(
    tx: &Tx<'_>,
    name: &str,
    (validity, uid): (u32, u32),
    now: Timestamp,
) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT INTO letterbox (name, validity, uid, read_at) VALUES (?1, ?2, ?3, ?4)
         ON CONFLICT (name) DO UPDATE SET validity = ?2, uid = ?3, read_at = ?4",
    )
    .and_then(|mut q| q.execute((name, validity, uid, us(now))))
    .map(drop)
    .doing("writing how far the mailbox was read")
}
