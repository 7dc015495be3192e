//! The door: looking tickets up, letting people in, scans.

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::codes::{Reference, TicketCode};
use matricle_core::door::{Presence, TicketFacts};
use matricle_core::schedule::Span;
use matricle_core::{AttendeeId, BookingId, Currency, DateId, PersonId};
use rusqlite::{Connection, OptionalExtension, Row};

use crate::bookings::presence;
use crate::convert::InOrder;
use crate::{Doing, StoreError, Tx, us};

/// An attendee as the door sees them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AtDoor {
    /// What the verdict rests on.
    pub facts: TicketFacts,
    /// Their name.
    pub name: String,
    /// The name of their ticket type.
    pub ticket: String,
    /// The booker's name.
    pub booker: String,
    /// The booking.
    pub booking: BookingId,
    /// Their place on the booking, counted from one.
    pub place: u32,
    /// People on the booking.
    pub people: u32,
    /// The code shown is an old one: the ticket was passed to somebody else.
    pub passed_on: bool,
}

const COLUMNS: &str = "(SELECT currency FROM house), a.id, a.date_id, \
     CASE WHEN a.cancelled_at IS NULL THEN b.state ELSE 'cancelled' END, b.total_minor - b.paid_minor, \
     a.presence, a.in_at, a.in_door, b.test, a.name, a.ticket_name, b.name, a.booking_id, a.person_no, \
     (SELECT count(*) FROM attendees x WHERE x.booking_id = b.id AND x.position = x.person_no AND x.cancelled_at IS NULL)";

fn at_door(row: &Row<'_>) -> rusqlite::Result<AtDoor> {
    let mut c = InOrder::from(row, 0);
    let currency = c.word("house.currency", Currency::from_letters)?;
    Ok(AtDoor {
        facts: TicketFacts {
            attendee: AttendeeId(c.next()?),
            date: DateId(c.next()?),
            state: c.word("bookings.state", State::from_word)?,
            due: currency.of(c.next()?),
            presence: presence(&mut c)?,
            test: c.next()?,
        },
        name: c.next()?,
        ticket: c.next()?,
        booker: c.next()?,
        booking: BookingId(c.next()?),
        place: c.next::<u32>()? + 1,
        people: c.next()?,
        passed_on: false,
    })
}

/// The attendee with this code; of a course the same person's place on `date`, whichever
/// of their codes it is.
///
/// # Errors
/// SQLite refuses.
pub fn by_code(
    conn: &Connection,
    code: TicketCode,
    date: DateId,
) -> Result<Option<AtDoor>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM attendees c JOIN attendees a ON a.id = CASE WHEN c.date_id = ?2 THEN c.id ELSE
            coalesce((SELECT s.id FROM attendees s WHERE s.booking_id = c.booking_id
                AND s.person_no = c.person_no AND s.date_id = ?2), c.id) END
         JOIN bookings b ON b.id = a.booking_id WHERE c.code = ?1"
    ))
    .and_then(|mut q| q.query_row((code.as_str(), date.0), at_door).optional())
    .and_then(|found| if found.is_some() { Ok(found) } else { dead(conn, code) })
    .doing("looking a ticket up")
}

/// The attendee who had this code before their ticket was passed on: it opens nothing.
fn dead(conn: &Connection, code: TicketCode) -> rusqlite::Result<Option<AtDoor>> {
    let found = conn
        .prepare_cached(&format!(
            "SELECT {COLUMNS} FROM dead_codes x JOIN attendees a ON a.id = x.attendee_id
             JOIN bookings b ON b.id = a.booking_id WHERE x.code = ?1"
        ))?
        .query_row([code.as_str()], at_door)
        .optional()?;
    Ok(found.map(|mut old| {
        old.facts.state = State::Cancelled;
        old.passed_on = true;
        old
    }))
}

/// When a date is, and who opened its door on another day, if somebody did.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Doorway {
    /// When the date is.
    pub span: Span,
    /// Who opened its door.
    pub opened_by: Option<String>,
}

/// The doorway of a date.
///
/// # Errors
/// SQLite refuses.
pub fn doorway(conn: &Connection, date: DateId) -> Result<Option<Doorway>, StoreError> {
    conn.prepare_cached(
        "SELECT starts, ends, zone, starts_at, ends_at, CASE WHEN door_opened_at IS NULL THEN NULL ELSE door_opened_by END
         FROM dates WHERE id = ?1",
    )
    .and_then(|mut q| {
        q.query_row([date.0], |row| {
            Ok(Doorway { span: crate::events::span(row)?, opened_by: row.get(5)? })
        })
        .optional()
    })
    .doing("looking a doorway up")
}

/// Opens the door of a date on another day than its own, or leaves it to its day again.
///
/// # Errors
/// SQLite refuses.
pub fn set_open(
    tx: &Tx<'_>,
    date: DateId,
    by: Option<&str>,
    now: Timestamp,
) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE dates SET door_opened_at = ?2, door_opened_by = ?3 WHERE id = ?1")
        .and_then(|mut q| q.execute((date.0, by.map(|_| us(now)), by.unwrap_or_default())))
        .map(drop)
        .doing("opening a door")
}

/// Dates whose door an organiser has opened and that are not over for longer than a day.
///
/// # Errors
/// SQLite refuses.
pub fn opened(conn: &Connection, since: Timestamp) -> Result<Vec<DateId>, StoreError> {
    conn.prepare_cached("SELECT id FROM dates WHERE door_opened_at IS NOT NULL AND ends_at > ?1")
        .and_then(|mut q| q.query_map([us(since)], |row| row.get(0).map(DateId))?.collect())
        .doing("looking for open doors")
}

/// The name of somebody on a booking, or on these tickets of it, who has been let in.
///
/// # Errors
/// SQLite refuses.
pub fn inside_of(
    conn: &Connection,
    booking: BookingId,
    tickets: Option<&[u32]>,
) -> Result<Option<String>, StoreError> {
    let people: Vec<(u32, String)> = conn
        .prepare_cached(
            "SELECT ticket_no, name FROM attendees WHERE booking_id = ?1 AND cancelled_at IS NULL
                AND presence IN ('in', 'left') ORDER BY position",
        )
        .and_then(|mut q| q.query_map([booking.0], |row| Ok((row.get(0)?, row.get(1)?)))?.collect())
        .doing("looking who is inside")?;
    let meant = |number: &u32| tickets.is_none_or(|t| t.contains(number));
    Ok(people.into_iter().find(|(number, _)| meant(number)).map(|(_, name)| name))
}

/// An attendee by key.
///
/// # Errors
/// SQLite refuses.
pub fn by_id(conn: &Connection, id: AttendeeId) -> Result<Option<AtDoor>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM attendees a JOIN bookings b ON b.id = a.booking_id WHERE a.id = ?1"
    ))
    .and_then(|mut q| q.query_row([id.0], at_door).optional())
    .doing("looking an attendee up")
}

/// Words that are looked for; more of them narrow nothing down.
const MOST_WORDS: usize = 16;

/// People of a date whose folded words hold all of `words`, of the first sixteen, by name.
///
/// # Errors
/// SQLite refuses.
pub fn by_words(
    conn: &Connection,
    date: DateId,
    words: &str,
    most: u32,
) -> Result<Vec<AtDoor>, StoreError> {
    let words: Vec<String> = words
        .split(' ')
        .filter(|w| !w.is_empty())
        .take(MOST_WORDS)
        .map(|w| format!("%{w}%"))
        .collect();
    looked_up(conn, date, &" AND a.search LIKE ?".repeat(words.len()), words, most)
}

/// People of a date on one booking, by the reference that somebody says at the door.
///
/// # Errors
/// SQLite refuses.
pub fn by_reference(
    conn: &Connection,
    date: DateId,
    reference: Reference,
) -> Result<Vec<AtDoor>, StoreError> {
    looked_up(conn, date, " AND b.reference = ?", vec![reference.as_str().to_owned()], 1000)
}

fn looked_up(
    conn: &Connection,
    date: DateId,
    conditions: &str,
    values: Vec<String>,
    most: u32,
) -> Result<Vec<AtDoor>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM attendees a JOIN bookings b ON b.id = a.booking_id
         WHERE a.date_id = {date} AND b.test = 0 AND b.state IN ('requested', 'awaiting payment', 'confirmed')
            AND a.cancelled_at IS NULL{conditions}
         ORDER BY a.search LIMIT {most}"
    ))
    .and_then(|mut q| q.query_map(rusqlite::params_from_iter(values), at_door)?.collect())
    .doing("looking people up")
}

/// Others on the same booking who are not in yet, by name.
///
/// # Errors
/// SQLite refuses.
pub fn still_expected(
    conn: &Connection,
    booking: BookingId,
    but: AttendeeId,
) -> Result<Vec<String>, StoreError> {
    conn.prepare_cached(
        "SELECT a.name FROM attendees a WHERE a.booking_id = ?1 AND a.id <> ?2 AND a.presence = 'expected' AND a.cancelled_at IS NULL
            AND a.date_id = (SELECT date_id FROM attendees WHERE id = ?2) ORDER BY a.position",
    )
    .and_then(|mut q| q.query_map((booking.0, but.0), |row| row.get(0))?.collect())
    .doing("looking for companions")
}

/// Says where an attendee is.
///
/// # Errors
/// SQLite refuses.
pub fn set_presence(
    tx: &Tx<'_>,
    id: AttendeeId,
    date: DateId,
    presence: &Presence,
) -> Result<(), StoreError> {
    tx.touch(date);
    let (word, at, door) = match presence {
        Presence::Expected => ("expected", None, None),
        Presence::In { at, door } => ("in", Some(us(*at)), Some(door.as_str())),
        Presence::Left => ("left", None, None),
        Presence::Missed => ("missed", None, None),
    };
    let was_in: bool = tx
        .prepare_cached("SELECT presence = 'in' FROM attendees WHERE id = ?1")
        .and_then(|mut q| q.query_row([id.0], |row| row.get(0)))
        .doing("looking an attendee up")?;
    let by = i64::from(word == "in") - i64::from(was_in);
    tx.prepare_cached("UPDATE dates SET inside = inside + ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((date.0, by)))
        .doing("counting who is in")?;
    tx.prepare_cached("UPDATE attendees SET presence = ?2, in_at = ?3, in_door = ?4 WHERE id = ?1")
        .and_then(|mut q| q.execute((id.0, word, at, door)))
        .map(drop)
        .doing("noting where an attendee is")
}

/// A scan to be written down.
#[derive(Debug, Clone)]
pub struct NewScan<'a> {
    /// Given by the device.
    pub key: &'a str,
    /// At the door of this date.
    pub date: DateId,
    /// Whose ticket it was.
    pub attendee: Option<AttendeeId>,
    /// The verdict's word.
    pub verdict: &'a str,
    /// What the door was told, as JSON.
    pub told: &'a str,
    /// Which door.
    pub door: &'a str,
    /// Who scanned.
    pub person: PersonId,
    /// What the device's clock said, if it did.
    pub device_at: Option<Timestamp>,
}

/// Writes a scan down.
///
/// # Errors
/// SQLite refuses.
pub fn add_scan(tx: &Tx<'_>, scan: &NewScan<'_>, now: Timestamp) -> Result<i64, StoreError> {
    tx.prepare_cached(
        "INSERT INTO scans (scan_key, date_id, attendee_id, verdict, told, door, person_id, at, device_at)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
    )
    .and_then(|mut q| {
        q.execute((
            scan.key,
            scan.date.0,
            scan.attendee.map(|a| a.0),
            scan.verdict,
            scan.told,
            scan.door,
            scan.person.0,
            us(now),
            scan.device_at.map(us),
        ))
    })
    .doing("writing a scan")?;
    Ok(tx.last_insert_rowid())
}

/// A scan as it was written down.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Scan {
    /// Its key.
    pub id: i64,
    /// At the door of this date.
    pub date: DateId,
    /// Whose ticket it was.
    pub attendee: Option<AttendeeId>,
    /// The verdict's word.
    pub verdict: String,
    /// What the door was told, as JSON.
    pub told: String,
    /// Which door.
    pub door: String,
    /// When.
    pub at: Timestamp,
    /// When it was undone.
    pub undone_at: Option<Timestamp>,
}

const SCAN_COLUMNS: &str = "id, date_id, attendee_id, verdict, told, door, at, undone_at";

fn scan(row: &Row<'_>) -> rusqlite::Result<Scan> {
    let mut c = InOrder::from(row, 0);
    Ok(Scan {
        id: c.next()?,
        date: DateId(c.next()?),
        attendee: c.next::<Option<i64>>()?.map(AttendeeId),
        verdict: c.next()?,
        told: c.next()?,
        door: c.next()?,
        at: c.instant()?,
        undone_at: c.instant_or()?,
    })
}

/// The scan a device gave this key, if it got through before.
///
/// # Errors
/// SQLite refuses.
pub fn scan_by_key(conn: &Connection, key: &str) -> Result<Option<Scan>, StoreError> {
    conn.prepare_cached(&format!("SELECT {SCAN_COLUMNS} FROM scans WHERE scan_key = ?1"))
        .and_then(|mut q| q.query_row([key], scan).optional())
        .doing("looking a scan up")
}

/// A scan by key.
///
/// # Errors
/// SQLite refuses.
pub fn scan_by_id(conn: &Connection, id: i64) -> Result<Option<Scan>, StoreError> {
    conn.prepare_cached(&format!("SELECT {SCAN_COLUMNS} FROM scans WHERE id = ?1"))
        .and_then(|mut q| q.query_row([id], scan).optional())
        .doing("looking a scan up")
}

/// The last scans of a date, newest first.
///
/// # Errors
/// SQLite refuses.
pub fn last_scans(conn: &Connection, date: DateId, most: u32) -> Result<Vec<Scan>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {SCAN_COLUMNS} FROM scans WHERE date_id = ?1 ORDER BY id DESC LIMIT ?2"
    ))
    .and_then(|mut q| q.query_map((date.0, most), scan)?.collect())
    .doing("reading scans")
}

/// Marks a scan as undone.
///
/// # Errors
/// SQLite refuses.
pub fn undo_scan(tx: &Tx<'_>, id: i64, now: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE scans SET undone_at = ?2 WHERE id = ?1 AND undone_at IS NULL")
        .and_then(|mut q| q.execute((id, us(now))))
        .map(drop)
        .doing("undoing a scan")
}

/// People let in at a date since an instant.
///
/// # Errors
/// SQLite refuses.
pub fn admitted_since(
    conn: &Connection,
    date: DateId,
    since: Timestamp,
) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT count(*) FROM attendees WHERE date_id = ?1 AND presence = 'in' AND in_at >= ?2",
    )
    .and_then(|mut q| q.query_row((date.0, us(since)), |row| row.get(0)))
    .doing("counting who came")
}

/// People on confirmed bookings of a date.
///
/// # Errors
/// SQLite refuses.
pub fn expected(conn: &Connection, date: DateId) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT count(*) FROM attendees a JOIN bookings b ON b.id = a.booking_id
         WHERE a.date_id = ?1 AND b.state = 'confirmed' AND b.test = 0 AND a.cancelled_at IS NULL",
    )
    .and_then(|mut q| q.query_row([date.0], |row| row.get(0)))
    .doing("counting who is expected")
}
