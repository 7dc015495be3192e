//! The door: looking tickets up, letting people in, scans.

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::codes::{Reference, TicketCode};
use matricle_core::door::passages::{Finding, Passage, Way, standing};
use matricle_core::door::{Door, Gate, Presence, TicketFacts};
use matricle_core::schedule::Span;
use matricle_core::{AttendeeId, BookingId, Currency, DateId, DeviceId, PersonId, TicketTypeId};
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
    /// Which ticket of the booking lets them in.
    pub ticket_no: u32,
    /// The code shown is an old one: the ticket was passed to somebody else.
    pub passed_on: bool,
    /// What the organiser wants the door to know of them.
    pub note: String,
}

const COLUMNS: &str = "(SELECT currency FROM house), a.id, a.date_id, \
     CASE WHEN a.cancelled_at IS NULL THEN b.state ELSE 'cancelled' END, b.total_minor - b.paid_minor, \
     a.presence, a.in_at, a.in_door, b.test, a.ticket_type_id, a.given_up_at, a.note, a.name, a.ticket_name, b.name, a.booking_id, a.person_no, a.ticket_no, \
     (SELECT count(*) FROM attendees x WHERE x.booking_id = b.id AND x.position = x.person_no AND x.cancelled_at IS NULL)";

fn at_door(row: &Row<'_>) -> rusqlite::Result<AtDoor> {
    let mut c = InOrder::from(row, 0);
    let currency = c.word("house.currency", Currency::from_letters)?;
    let facts = TicketFacts {
        attendee: AttendeeId(c.next()?),
        date: DateId(c.next()?),
        state: c.word("bookings.state", State::from_word)?,
        due: currency.of(c.next()?),
        presence: presence(&mut c)?,
        test: c.next()?,
        ticket: c.next::<Option<i64>>()?.map(TicketTypeId),
        given_up: c.instant_or()?,
    };
    Ok(AtDoor {
        facts,
        note: c.next()?,
        name: c.next()?,
        ticket: c.next()?,
        booker: c.next()?,
        booking: BookingId(c.next()?),
        place: c.next::<u32>()? + 1,
        ticket_no: c.next()?,
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
    Ok(found.map(passed_on))
}

fn passed_on(mut old: AtDoor) -> AtDoor {
    old.facts.state = State::Cancelled;
    old.passed_on = true;
    old
}

/// The attendee who was given this wristband or card at the door of a date.
///
/// # Errors
/// SQLite refuses.
pub fn by_house_code(
    conn: &Connection,
    code: &str,
    date: DateId,
) -> Result<Option<AtDoor>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM house_codes h JOIN attendees a ON a.id = h.attendee_id
         JOIN bookings b ON b.id = a.booking_id WHERE h.date_id = ?1 AND h.code = ?2"
    ))
    .and_then(|mut q| q.query_row((date.0, code), at_door).optional())
    .doing("looking a card of the house up")
}

/// Gives somebody a wristband or card; whoever had it before has it no more.
///
/// # Errors
/// SQLite refuses.
pub fn give_house_code(
    tx: &Tx<'_>,
    code: &str,
    to: (DateId, AttendeeId),
    who: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT INTO house_codes (date_id, code, attendee_id, at, who) VALUES (?1, ?2, ?3, ?4, ?5)
         ON CONFLICT (date_id, code) DO UPDATE SET attendee_id = ?3, at = ?4, who = ?5",
    )
    .and_then(|mut q| q.execute((to.0.0, code, to.1.0, us(now), who)))
    .map(drop)
    .doing("giving a card of the house")
}

/// Everybody whose ticket may be shown at the door of a date, by the code on it: those of the
/// date itself whatever their booking's state, each also by the codes of other dates of their
/// course; those with a code of before it was passed on; and those of other dates of the event.
///
/// # Errors
/// SQLite refuses.
pub fn roster(
    conn: &Connection,
    date: DateId,
    most: u32,
) -> Result<Vec<(String, AtDoor)>, StoreError> {
    let read = |sql: String| -> rusqlite::Result<Vec<(String, AtDoor)>> {
        conn.prepare_cached(&sql)?
            .query_map((date.0, most), |row| {
                Ok((row.get::<_, String>("shown_code")?, at_door(row)?))
            })?
            .collect()
    };
    let all = || -> rusqlite::Result<Vec<(String, AtDoor)>> {
        let mut all = read(format!(
            "SELECT {COLUMNS}, c.code AS shown_code FROM attendees a JOIN bookings b ON b.id = a.booking_id
             JOIN attendees c ON c.booking_id = a.booking_id AND c.person_no = a.person_no
             WHERE a.date_id = ?1 ORDER BY a.search, a.id LIMIT ?2"
        ))?;
        let dead = read(format!(
            "SELECT {COLUMNS}, x.code AS shown_code FROM dead_codes x JOIN attendees a ON a.id = x.attendee_id
             JOIN bookings b ON b.id = a.booking_id WHERE a.date_id = ?1 LIMIT ?2"
        ))?;
        all.extend(dead.into_iter().map(|(code, person)| (code, passed_on(person))));
        all.extend(read(format!(
            "SELECT {COLUMNS}, h.code AS shown_code FROM house_codes h JOIN attendees a ON a.id = h.attendee_id
             JOIN bookings b ON b.id = a.booking_id WHERE h.date_id = ?1 LIMIT ?2"
        ))?);
        all.extend(read(format!(
            "SELECT {COLUMNS}, a.code AS shown_code FROM dates d JOIN dates o ON o.event_id = d.event_id AND o.id <> d.id
                AND abs(o.starts_at - d.starts_at) < 2592000000000
             JOIN attendees a ON a.date_id = o.id JOIN bookings b ON b.id = a.booking_id
             WHERE d.id = ?1 AND NOT EXISTS (SELECT 1 FROM attendees s WHERE s.booking_id = a.booking_id
                AND s.person_no = a.person_no AND s.date_id = d.id) LIMIT ?2"
        ))?);
        Ok(all)
    };
    all().doing("reading a roster")
}

/// When a date is, who opened its door on another day, and what holds at its doors.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Doorway {
    /// When the date is.
    pub span: Span,
    /// Who opened its door.
    pub opened_by: Option<String>,
    /// Whoever went out may come in again.
    pub again: bool,
    /// People inside.
    pub inside: u32,
    /// The most that may be inside at once.
    pub most_inside: Option<u32>,
    /// Who lifted that limit and why, if somebody did.
    pub lifted: Option<(String, String)>,
    /// Minutes after the start at which the seats of those who have not come are given up.
    pub give_up_minutes: Option<u32>,
    /// When the list of who came was closed, and by whom.
    pub closed: Option<(Timestamp, String)>,
}

impl Doorway {
    /// What a verdict rests on at one of the doors.
    #[must_use]
    pub fn gate(&self, date: DateId, doors: Vec<Door>, door: &str) -> Gate {
        Gate {
            date,
            again: self.again,
            inside: self.inside,
            coming: 1,
            most: self.most_inside.filter(|_| self.lifted.is_none()),
            doors,
            door: door.into(),
        }
    }
}

/// The doors of a date that have names of their own.
///
/// # Errors
/// SQLite refuses.
pub fn doors(conn: &Connection, date: DateId) -> Result<Vec<Door>, StoreError> {
    conn.prepare_cached("SELECT name, tickets FROM doors WHERE date_id = ?1 ORDER BY position")
        .and_then(|mut q| {
            q.query_map([date.0], |row| {
                let tickets: String = row.get(1)?;
                let tickets = serde_json::from_str(&tickets)
                    .map_err(|_| crate::convert::foreign("doors.tickets", tickets))?;
                Ok(Door { name: row.get(0)?, tickets })
            })?
            .collect()
        })
        .doing("reading doors")
}

/// What holds at the doors of a date.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AtDoors {
    /// Whoever went out may come in again.
    pub again: bool,
    /// The most that may be inside at once.
    pub most_inside: Option<u32>,
    /// Minutes after the start at which the seats of those who have not come are given up.
    pub give_up_minutes: Option<u32>,
    /// Doors with names of their own.
    pub doors: Vec<Door>,
}

/// Sets what holds at the doors of a date. A limit that changes is lifted no more.
///
/// # Errors
/// SQLite refuses.
pub fn set_doors(tx: &Tx<'_>, date: DateId, at: &AtDoors) -> Result<(), StoreError> {
    tx.touch(date);
    let write = || -> rusqlite::Result<()> {
        tx.execute(
            "UPDATE dates SET again = ?2, give_up_minutes = ?4,
                lifted_by = CASE WHEN most_inside IS ?3 THEN lifted_by ELSE '' END,
                lifted_why = CASE WHEN most_inside IS ?3 THEN lifted_why ELSE '' END, most_inside = ?3
             WHERE id = ?1",
            (date.0, at.again, at.most_inside, at.give_up_minutes),
        )?;
        tx.execute("DELETE FROM doors WHERE date_id = ?1", [date.0])?;
        for (position, door) in at.doors.iter().enumerate() {
            let tickets = crate::convert::json(&door.tickets)?;
            tx.execute(
                "INSERT INTO doors (date_id, position, name, tickets) VALUES (?1, ?2, ?3, ?4)",
                (date.0, i64::try_from(position).unwrap_or(0), &door.name, tickets),
            )?;
        }
        Ok(())
    };
    write().doing("setting doors")
}

/// Lifts the limit of a date, or lets it hold again.
///
/// # Errors
/// SQLite refuses.
pub fn set_lifted(tx: &Tx<'_>, date: DateId, by: &str, why: &str) -> Result<(), StoreError> {
    tx.touch(date);
    tx.prepare_cached("UPDATE dates SET lifted_by = ?2, lifted_why = ?3 WHERE id = ?1")
        .and_then(|mut q| q.execute((date.0, by, why)))
        .map(drop)
        .doing("lifting a limit")
}

/// The doorway of a date.
///
/// # Errors
/// SQLite refuses.
pub fn doorway(conn: &Connection, date: DateId) -> Result<Option<Doorway>, StoreError> {
    conn.prepare_cached(
        "SELECT starts, ends, zone, starts_at, ends_at, CASE WHEN door_opened_at IS NULL THEN NULL ELSE door_opened_by END,
            again, inside, most_inside, lifted_by, lifted_why, give_up_minutes, list_closed_at, list_closed_by
         FROM dates WHERE id = ?1",
    )
    .and_then(|mut q| {
        q.query_row([date.0], |row| {
            let mut c = InOrder::from(row, 5);
            let opened_by = c.next()?;
            let (again, inside, most_inside) = (c.next()?, c.next()?, c.next()?);
            let lifted: (String, String) = (c.next()?, c.next()?);
            let give_up_minutes = c.next()?;
            let closed: (Option<Timestamp>, String) = (c.instant_or()?, c.next()?);
            Ok(Doorway {
                span: crate::events::span(row)?,
                opened_by,
                again,
                inside,
                most_inside,
                lifted: Some(lifted).filter(|l| !l.0.is_empty()),
                give_up_minutes,
                closed: closed.0.map(|at| (at, closed.1)),
            })
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

/// Others whom the same ticket lets in at the same date and who are not in: a family's.
///
/// # Errors
/// SQLite refuses.
pub fn on_the_same_ticket(
    conn: &Connection,
    attendee: AttendeeId,
) -> Result<Vec<AtDoor>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM attendees o JOIN attendees a ON a.booking_id = o.booking_id AND a.date_id = o.date_id
            AND a.ticket_no = o.ticket_no AND a.id <> o.id
         JOIN bookings b ON b.id = a.booking_id
         WHERE o.id = ?1 AND a.presence IN ('expected', 'missed') AND a.cancelled_at IS NULL AND a.given_up_at IS NULL
         ORDER BY a.position"
    ))
    .and_then(|mut q| q.query_map([attendee.0], at_door)?.collect())
    .doing("looking for who is on the same ticket")
}

/// Others on the same booking who are not in yet.
///
/// # Errors
/// SQLite refuses.
pub fn others_expected(
    conn: &Connection,
    booking: BookingId,
    date: DateId,
) -> Result<Vec<(AttendeeId, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT id, name FROM attendees WHERE booking_id = ?1 AND date_id = ?2 AND presence IN ('expected', 'missed')
            AND cancelled_at IS NULL AND given_up_at IS NULL ORDER BY position",
    )
    .and_then(|mut q| {
        q.query_map((booking.0, date.0), |row| Ok((AttendeeId(row.get(0)?), row.get(1)?)))?.collect()
    })
    .doing("looking for companions")
}

/// Scans that were written down with another one: those of a family's ticket.
///
/// # Errors
/// SQLite refuses.
pub fn scans_with(conn: &Connection, key: &str) -> Result<Vec<Scan>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {SCAN_COLUMNS} FROM scans WHERE scan_key > ?1 || '+' AND scan_key < ?1 || ',' ORDER BY id"
    ))
    .and_then(|mut q| q.query_map([key], scan)?.collect())
    .doing("reading scans")
}

/// Notes the money that was taken with a scan.
///
/// # Errors
/// SQLite refuses.
pub fn set_payment(tx: &Tx<'_>, scan: i64, payment: &str) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE scans SET payment_id = ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((scan, payment)))
        .map(drop)
        .doing("noting money")
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

/// All passages of an attendee that were not undone.
///
/// # Errors
/// SQLite refuses.
pub fn passages(conn: &Connection, attendee: AttendeeId) -> Result<Vec<Passage>, StoreError> {
    conn.prepare_cached(
        "SELECT id, at, door, passage FROM scans
         WHERE attendee_id = ?1 AND passage IS NOT NULL AND undone_at IS NULL ORDER BY at, id",
    )
    .and_then(|mut q| q.query_map([attendee.0], passage)?.collect())
    .doing("reading passages")
}

fn passage(row: &Row<'_>) -> rusqlite::Result<Passage> {
    let mut c = InOrder::from(row, 0);
    Ok(Passage {
        scan: c.next()?,
        at: c.instant()?,
        door: c.next()?,
        way: c.word("scans.passage", Way::from_word)?,
    })
}

/// Sets where an attendee is by all their passages; gives where that is.
///
/// # Errors
/// SQLite refuses.
pub fn stand(tx: &Tx<'_>, id: AttendeeId, date: DateId) -> Result<Presence, StoreError> {
    let presence = standing(&passages(tx, id)?).presence;
    set_presence(tx, id, date, &presence)?;
    Ok(presence)
}

/// The passages of all who were let in twice at a date, by attendee and name.
///
/// # Errors
/// SQLite refuses.
pub fn in_more_than_once(
    conn: &Connection,
    date: DateId,
) -> Result<Vec<(AttendeeId, String, Vec<Passage>)>, StoreError> {
    let people: Vec<(i64, String)> = conn
        .prepare_cached(
            "SELECT a.id, a.name FROM scans s JOIN attendees a ON a.id = s.attendee_id
             WHERE s.date_id = ?1 AND s.passage = 'in' AND s.undone_at IS NULL
             GROUP BY a.id HAVING count(*) > 1 ORDER BY min(s.at)",
        )
        .and_then(|mut q| q.query_map([date.0], |row| Ok((row.get(0)?, row.get(1)?)))?.collect())
        .doing("looking who was let in twice")?;
    people
        .into_iter()
        .map(|(id, name)| Ok((AttendeeId(id), name, passages(conn, AttendeeId(id))?)))
        .collect()
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
    /// Who scanned, or who answers for the device.
    pub person: PersonId,
    /// The device that joined, if it was one.
    pub device: Option<DeviceId>,
    /// What the device's clock said, if it did.
    pub device_at: Option<Timestamp>,
    /// When it happened.
    pub at: Timestamp,
    /// The way they went, if they passed.
    pub passage: Option<Way>,
    /// What somebody has to look into.
    pub line: Option<&'a Finding>,
    /// The number of the receipt that the device gave.
    pub receipt: &'a str,
}

/// Writes a scan down.
///
/// # Errors
/// SQLite refuses.
pub fn add_scan(tx: &Tx<'_>, scan: &NewScan<'_>, now: Timestamp) -> Result<i64, StoreError> {
    let line = scan.line.map(crate::convert::json).transpose().doing("writing a scan")?;
    tx.prepare_cached(
        "INSERT INTO scans (scan_key, date_id, attendee_id, verdict, told, door, person_id, at, device_at,
            device_id, arrived_at, passage, line, receipt)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14)",
    )
    .and_then(|mut q| {
        q.execute(rusqlite::params![
            scan.key,
            scan.date.0,
            scan.attendee.map(|a| a.0),
            scan.verdict,
            scan.told,
            scan.door,
            scan.person.0,
            us(scan.at),
            scan.device_at.map(us),
            scan.device.map(|d| d.0),
            Some(us(now)).filter(|_| scan.at != now),
            scan.passage.map(Way::word),
            line,
            scan.receipt,
        ])
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
    /// When it arrived, if that was later.
    pub arrived_at: Option<Timestamp>,
    /// The way they went, if they passed.
    pub passage: Option<Way>,
    /// What somebody has to look into.
    pub line: Option<Finding>,
    /// Who looked into it, and when.
    pub looked: Option<(Timestamp, String)>,
    /// The number of the receipt that the device gave.
    pub receipt: String,
    /// When it was undone.
    pub undone_at: Option<Timestamp>,
    /// Given by the device.
    pub key: String,
    /// The money that was taken with it.
    pub payment: Option<String>,
}

const SCAN_COLUMNS: &str = "id, date_id, attendee_id, verdict, told, door, at, arrived_at, passage, line, \
     looked_at, looked_by, receipt, undone_at, scan_key, payment_id";

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
        arrived_at: c.instant_or()?,
        passage: c.next::<Option<String>>()?.as_deref().and_then(Way::from_word),
        line: c
            .next::<Option<String>>()?
            .map(|json| {
                serde_json::from_str(&json).map_err(|_| crate::convert::foreign("scans.line", json))
            })
            .transpose()?,
        looked: {
            let looked: (Option<Timestamp>, String) = (c.instant_or()?, c.next()?);
            looked.0.map(|at| (at, looked.1))
        },
        receipt: c.next()?,
        undone_at: c.instant_or()?,
        key: c.next()?,
        payment: c.next()?,
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

/// What a device did turns out to be something else than what was written down when it asked:
/// its answer came after it was given up.
///
/// # Errors
/// SQLite refuses.
pub fn amend_scan(
    tx: &Tx<'_>,
    id: i64,
    at: Timestamp,
    passage: Option<Way>,
    line: Option<&Finding>,
) -> Result<(), StoreError> {
    let line = line.map(crate::convert::json).transpose().doing("amending a scan")?;
    tx.prepare_cached("UPDATE scans SET at = ?2, passage = ?3, line = ?4 WHERE id = ?1")
        .and_then(|mut q| q.execute((id, us(at), passage.map(Way::word), line)))
        .map(drop)
        .doing("amending a scan")
}

/// Scans of a date that somebody has to look into, the oldest first, with those looked into.
///
/// # Errors
/// SQLite refuses.
pub fn with_a_line(conn: &Connection, date: DateId) -> Result<Vec<Scan>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {SCAN_COLUMNS} FROM scans WHERE date_id = ?1 AND line IS NOT NULL AND undone_at IS NULL ORDER BY at, id"
    ))
    .and_then(|mut q| q.query_map([date.0], scan)?.collect())
    .doing("reading what is to be looked into")
}

/// Marks a line of the report as looked into, or not.
///
/// # Errors
/// SQLite refuses.
pub fn set_looked(
    tx: &Tx<'_>,
    id: i64,
    by: Option<&str>,
    now: Timestamp,
) -> Result<bool, StoreError> {
    tx.prepare_cached("UPDATE scans SET looked_at = ?2, looked_by = ?3 WHERE id = ?1")
        .and_then(|mut q| q.execute((id, by.map(|_| us(now)), by.unwrap_or_default())))
        .map(|n| n > 0)
        .doing("looking into a line")
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

/// When each one who came to a date came first, in minutes after its start.
///
/// # Errors
/// SQLite refuses.
pub fn arrivals(conn: &Connection, date: DateId) -> Result<Vec<i32>, StoreError> {
    conn.prepare_cached(
        "SELECT (min(s.at) - d.starts_at) / 60000000 FROM scans s JOIN dates d ON d.id = s.date_id
         WHERE s.date_id = ?1 AND s.passage = 'in' AND s.undone_at IS NULL GROUP BY s.attendee_id",
    )
    .and_then(|mut q| q.query_map([date.0], |row| row.get(0))?.collect())
    .doing("reading when people came")
}

/// Dates that are over and to which people came, the latest first: of the same event, then of
/// events of the same kind.
///
/// # Errors
/// SQLite refuses.
pub fn dates_like(conn: &Connection, date: DateId, most: u32) -> Result<Vec<DateId>, StoreError> {
    conn.prepare_cached(
        "SELECT o.id FROM dates d JOIN events e ON e.id = d.event_id JOIN events k ON k.kind = e.kind
         JOIN dates o ON o.event_id = k.id
         WHERE d.id = ?1 AND o.id <> d.id AND o.ends_at < d.starts_at AND o.called_off = ''
            AND EXISTS (SELECT 1 FROM scans s WHERE s.date_id = o.id AND s.passage = 'in')
         ORDER BY o.event_id <> d.event_id, o.starts_at DESC LIMIT ?2",
    )
    .and_then(|mut q| q.query_map((date.0, most), |row| row.get(0).map(DateId))?.collect())
    .doing("looking for like dates")
}

/// Seconds that a scan takes at a date while people stand in line: the median of the times
/// between scans of one lane that follow one another within half a minute. None of too few.
///
/// # Errors
/// SQLite refuses.
pub fn seconds_a_scan(conn: &Connection, date: DateId) -> Result<Option<f64>, StoreError> {
    let mut gaps: Vec<f64> = conn
        .prepare_cached(
            "SELECT gap / 1000000.0 FROM (SELECT at - lag(at) OVER (PARTITION BY door, coalesce(-device_id, person_id) ORDER BY at) AS gap
                FROM (SELECT * FROM scans WHERE date_id = ?1 ORDER BY id DESC LIMIT 400))
             WHERE gap BETWEEN 500000 AND 30000000",
        )
        .and_then(|mut q| q.query_map([date.0], |row| row.get(0))?.collect())
        .doing("measuring scans")?;
    gaps.sort_by(f64::total_cmp);
    Ok((gaps.len() >= 8).then(|| gaps[gaps.len() / 2]))
}

/// Lanes that scanned since an instant.
///
/// # Errors
/// SQLite refuses.
pub fn lanes_at_work(conn: &Connection, date: DateId, since: Timestamp) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT count(DISTINCT door || coalesce(-device_id, person_id)) FROM scans WHERE date_id = ?1 AND at >= ?2",
    )
    .and_then(|mut q| q.query_row((date.0, us(since)), |row| row.get(0)))
    .doing("counting lanes")
}

/// Somebody's sessions of a date, in words: `10:00 Wax, upper room`.
///
/// # Errors
/// SQLite refuses.
pub fn sessions_of(
    conn: &Connection,
    date: DateId,
) -> Result<Vec<(AttendeeId, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT u.attendee_id, substr(s.starts, 12, 5) || ' ' || s.title || coalesce(', ' || r.name, '')
         FROM sign_ups u JOIN date_sessions s ON s.id = u.session_id LEFT JOIN rooms r ON r.id = s.room_id
         WHERE s.date_id = ?1 ORDER BY s.starts, s.id",
    )
    .and_then(|mut q| {
        q.query_map([date.0], |row| Ok((AttendeeId(row.get(0)?), row.get(1)?)))?.collect()
    })
    .doing("reading who goes to which session")
}

/// The ticket types of an event by name, in its order.
///
/// # Errors
/// SQLite refuses.
pub fn ticket_names(
    conn: &Connection,
    event: matricle_core::EventId,
) -> Result<Vec<(TicketTypeId, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT id, name FROM ticket_types WHERE event_id = ?1 AND retired = 0 ORDER BY position",
    )
    .and_then(|mut q| {
        q.query_map([event.0], |row| Ok((TicketTypeId(row.get(0)?), row.get(1)?)))?.collect()
    })
    .doing("reading ticket types")
}

/// Those on firm bookings of a date who have not come, the latest to book first.
///
/// # Errors
/// SQLite refuses.
pub fn not_come(
    conn: &Connection,
    date: DateId,
) -> Result<Vec<(AttendeeId, BookingId, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT a.id, b.id, a.name FROM attendees a JOIN bookings b ON b.id = a.booking_id
         WHERE a.date_id = ?1 AND a.presence IN ('expected', 'missed') AND a.cancelled_at IS NULL
            AND a.given_up_at IS NULL AND b.state = 'confirmed' AND b.test = 0
         ORDER BY b.made_at DESC, b.id DESC, a.position DESC",
    )
    .and_then(|mut q| {
        q.query_map([date.0], |row| {
            Ok((AttendeeId(row.get(0)?), BookingId(row.get(1)?), row.get(2)?))
        })?
        .collect()
    })
    .doing("looking who has not come")
}

/// How many seats of a date were given up.
///
/// # Errors
/// SQLite refuses.
pub fn given_up(conn: &Connection, date: DateId) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT count(*) FROM attendees WHERE date_id = ?1 AND given_up_at IS NOT NULL",
    )
    .and_then(|mut q| q.query_row([date.0], |row| row.get(0)))
    .doing("counting seats given up")
}

/// Notes that somebody's seat was given up, or that they have it after all.
///
/// # Errors
/// SQLite refuses.
pub fn set_given_up(tx: &Tx<'_>, id: AttendeeId, at: Option<Timestamp>) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE attendees SET given_up_at = ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((id.0, at.map(us))))
        .map(drop)
        .doing("giving a seat up")
}

/// Accepts that the pools of a date are over-full: of seats given up somebody else has taken.
///
/// # Errors
/// SQLite refuses.
pub fn accept_over_full(tx: &Tx<'_>, date: DateId) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE pools SET accepted = held + requested + awaiting_payment + confirmed
         WHERE date_id = ?1 AND held + requested + awaiting_payment + confirmed > max(capacity, accepted)",
    )
    .and_then(|mut q| q.execute([date.0]))
    .map(drop)
    .doing("accepting an over-full pool")
}

/// Whether a host leads a date.
///
/// # Errors
/// SQLite refuses.
pub fn is_led_by(conn: &Connection, date: DateId, host: i64) -> Result<bool, StoreError> {
    conn.prepare_cached(
        "SELECT EXISTS (SELECT 1 FROM date_hosts WHERE date_id = ?1 AND host_id = ?2)",
    )
    .and_then(|mut q| q.query_row((date.0, host), |row| row.get(0)))
    .doing("looking who leads a date")
}

/// Those of a date who came late, as the list says.
///
/// # Errors
/// SQLite refuses.
pub fn came_late(conn: &Connection, date: DateId) -> Result<Vec<AttendeeId>, StoreError> {
    conn.prepare_cached("SELECT id FROM attendees WHERE date_id = ?1 AND came_late = 1")
        .and_then(|mut q| q.query_map([date.0], |row| row.get(0).map(AttendeeId))?.collect())
        .doing("reading who came late")
}

/// Notes that somebody came late, or not.
///
/// # Errors
/// SQLite refuses.
pub fn set_came_late(tx: &Tx<'_>, id: AttendeeId, late: bool) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE attendees SET came_late = ?2, missed_at_close = 0 WHERE id = ?1")
        .and_then(|mut q| q.execute((id.0, late)))
        .map(drop)
        .doing("noting who came late")
}

/// Those of a date whom closing its list counted as missing.
///
/// # Errors
/// SQLite refuses.
pub fn missed_at_close(conn: &Connection, date: DateId) -> Result<Vec<AttendeeId>, StoreError> {
    conn.prepare_cached("SELECT id FROM attendees WHERE date_id = ?1 AND missed_at_close = 1")
        .and_then(|mut q| q.query_map([date.0], |row| row.get(0).map(AttendeeId))?.collect())
        .doing("reading who was missing")
}

/// Notes that closing the list counted somebody as missing, or not any more.
///
/// # Errors
/// SQLite refuses.
pub fn set_missed_at_close(tx: &Tx<'_>, id: AttendeeId, missed: bool) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE attendees SET missed_at_close = ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((id.0, missed)))
        .map(drop)
        .doing("noting who was missing")
}

/// Closes the list of a date, or opens it again.
///
/// # Errors
/// SQLite refuses.
pub fn set_list_closed(
    tx: &Tx<'_>,
    date: DateId,
    by: Option<(Timestamp, &str)>,
) -> Result<(), StoreError> {
    tx.touch(date);
    tx.prepare_cached("UPDATE dates SET list_closed_at = ?2, list_closed_by = ?3 WHERE id = ?1")
        .and_then(|mut q| q.execute((date.0, by.map(|b| us(b.0)), by.map_or("", |b| b.1))))
        .map(drop)
        .doing("closing a list")
}

/// Tells the folded name of everybody who may come to a date, without keeping them.
///
/// # Errors
/// SQLite refuses.
pub fn each_name(
    conn: &Connection,
    date: DateId,
    mut tell: impl FnMut(AttendeeId, &str),
) -> Result<(), StoreError> {
    let mut read = || -> rusqlite::Result<()> {
        let mut query = conn.prepare_cached(
            "SELECT a.id, a.search FROM attendees a JOIN bookings b ON b.id = a.booking_id
             WHERE a.date_id = ?1 AND b.test = 0 AND b.state IN ('requested', 'awaiting payment', 'confirmed')
                AND a.cancelled_at IS NULL",
        )?;
        let mut rows = query.query([date.0])?;
        while let Some(row) = rows.next()? {
            tell(AttendeeId(row.get(0)?), row.get_ref(1)?.as_str()?);
        }
        Ok(())
    };
    read().doing("reading names")
}

/// Sets what the door is told of somebody, on all dates of their course.
///
/// # Errors
/// SQLite refuses.
pub fn set_note(tx: &Tx<'_>, id: AttendeeId, note: &str) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE attendees SET note = ?2 WHERE (booking_id, person_no) = (SELECT booking_id, person_no FROM attendees WHERE id = ?1)",
    )
    .and_then(|mut q| q.execute((id.0, note)))
    .map(drop)
    .doing("noting something for the door")
}

/// Names and ticket codes of those on firm bookings for dates that start between two instants.
///
/// # Errors
/// SQLite refuses.
pub fn tickets_between(
    conn: &Connection,
    from: Timestamp,
    until: Timestamp,
    most: u32,
) -> Result<Vec<(String, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT a.name, a.code FROM attendees a JOIN bookings b ON b.id = a.booking_id JOIN dates d ON d.id = a.date_id
         WHERE d.starts_at BETWEEN ?1 AND ?2 AND b.test = 0 AND a.cancelled_at IS NULL ORDER BY a.search LIMIT ?3",
    )
    .and_then(|mut q| {
        q.query_map((us(from), us(until), most), |row| Ok((row.get(0)?, row.get(1)?)))?.collect()
    })
    .doing("reading tickets")
}

/// How many attendees a date has, and the key of the latest.
///
/// # Errors
/// SQLite refuses.
pub fn how_many(conn: &Connection, date: DateId) -> Result<(u32, i64), StoreError> {
    conn.prepare_cached("SELECT count(*), coalesce(max(id), 0) FROM attendees WHERE date_id = ?1")
        .and_then(|mut q| q.query_row([date.0], |row| Ok((row.get(0)?, row.get(1)?))))
        .doing("counting attendees")
}
