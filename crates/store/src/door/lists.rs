//! Lists of people at a date: the roster, those who have not come, who came late.

use jiff::Timestamp;
use matricle_core::people::staff::Role;
use matricle_core::{AttendeeId, BookingId, DateId, PersonId, TicketTypeId};
use rusqlite::{Connection, OptionalExtension};

use super::{AtDoor, COLUMNS, at_door, passed_on};
use crate::convert::InOrder;
use crate::states::sql;
use crate::{Doing, StoreError, Tx, us};

/// The attendee who was given this wristband or card at the door of a date.
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

/// The references of the bookings that come to a date, by their keys.
pub fn references(
    conn: &Connection,
    date: DateId,
    most: u32,
) -> Result<Vec<(i64, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT DISTINCT b.id, b.reference FROM attendees a JOIN bookings b ON b.id = a.booking_id
         WHERE a.date_id = ?1 ORDER BY b.id LIMIT ?2",
    )
    .and_then(|mut q| q.query_map((date.0, most), |row| Ok((row.get(0)?, row.get(1)?)))?.collect())
    .doing("reading references of a date")
}

/// Everybody whose ticket may be shown at the door of a date, by the code on it: those of the
/// date itself whatever their booking's state, each also by the codes of other dates of their
/// course; those with a code of before it was passed on; and those of other dates of the event.
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

/// Somebody's sessions of a date, in words: `10:00 Wax, upper room`.
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
pub fn not_come(
    conn: &Connection,
    date: DateId,
) -> Result<Vec<(AttendeeId, BookingId, String)>, StoreError> {
    conn.prepare_cached(sql!(
        "SELECT a.id, b.id, a.name FROM attendees a JOIN bookings b ON b.id = a.booking_id
         WHERE a.date_id = ?1 AND a.presence IN ('expected', 'missed') AND a.cancelled_at IS NULL
            AND a.given_up_at IS NULL AND b.state = {Confirmed} AND b.test = 0
         ORDER BY b.made_at DESC, b.id DESC, a.position DESC"
    ))
    .and_then(|mut q| {
        q.query_map([date.0], |row| {
            Ok((AttendeeId(row.get(0)?), BookingId(row.get(1)?), row.get(2)?))
        })?
        .collect()
    })
    .doing("looking who has not come")
}

/// Notes that somebody's seat was given up, or that they have it after all.
pub fn set_given_up(tx: &Tx<'_>, id: AttendeeId, at: Option<Timestamp>) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE attendees SET given_up_at = ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((id.0, at.map(us))))
        .map(drop)
        .doing("giving a seat up")
}

/// Whether somebody leads a date: as one of its hosts.
pub fn is_led_by(conn: &Connection, date: DateId, person: PersonId) -> Result<bool, StoreError> {
    conn.prepare_cached(
        "SELECT EXISTS (SELECT 1 FROM date_hosts l JOIN hosts h ON h.id = l.host_id
            WHERE l.date_id = ?1 AND h.person_id = ?2)",
    )
    .and_then(|mut q| q.query_row((date.0, person.0), |row| row.get(0)))
    .doing("looking who leads a date")
}

/// Those of a date who came late, as the list says.
pub fn came_late(conn: &Connection, date: DateId) -> Result<Vec<AttendeeId>, StoreError> {
    conn.prepare_cached("SELECT id FROM attendees WHERE date_id = ?1 AND came_late = 1")
        .and_then(|mut q| q.query_map([date.0], |row| row.get(0).map(AttendeeId))?.collect())
        .doing("reading who came late")
}

/// Notes that somebody came late, or not.
pub fn set_came_late(tx: &Tx<'_>, id: AttendeeId, late: bool) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE attendees SET came_late = ?2, missed_at_close = 0 WHERE id = ?1")
        .and_then(|mut q| q.execute((id.0, late)))
        .map(drop)
        .doing("noting who came late")
}

/// Those of a date whom closing its list counted as missing.
pub fn missed_at_close(conn: &Connection, date: DateId) -> Result<Vec<AttendeeId>, StoreError> {
    conn.prepare_cached("SELECT id FROM attendees WHERE date_id = ?1 AND missed_at_close = 1 AND presence = 'missed'")
        .and_then(|mut q| q.query_map([date.0], |row| row.get(0).map(AttendeeId))?.collect())
        .doing("reading who was missing")
}

/// Notes that closing the list counted somebody as missing, or not any more.
pub fn set_missed_at_close(tx: &Tx<'_>, id: AttendeeId, missed: bool) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE attendees SET missed_at_close = ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((id.0, missed)))
        .map(drop)
        .doing("noting who was missing")
}

/// Tells the folded name of everybody who may come to a date, without keeping them.
pub fn each_name(
    conn: &Connection,
    date: DateId,
    mut tell: impl FnMut(AttendeeId, &str),
) -> Result<(), StoreError> {
    let mut read = || -> rusqlite::Result<()> {
        let mut query = conn.prepare_cached(sql!(
            "SELECT a.id, a.search FROM attendees a JOIN bookings b ON b.id = a.booking_id
             WHERE a.date_id = ?1 AND b.test = 0 AND b.state IN {stands}
                AND a.cancelled_at IS NULL"
        ))?;
        let mut rows = query.query([date.0])?;
        while let Some(row) = rows.next()? {
            tell(AttendeeId(row.get(0)?), row.get_ref(1)?.as_str()?);
        }
        Ok(())
    };
    read().doing("reading names")
}

/// Sets what the door is told of somebody, on all dates of their course.
pub fn set_note(tx: &Tx<'_>, id: AttendeeId, note: &str) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE attendees SET note = ?2 WHERE (booking_id, person_no) = (SELECT booking_id, person_no FROM attendees WHERE id = ?1)",
    )
    .and_then(|mut q| q.execute((id.0, note)))
    .map(drop)
    .doing("noting something for the door")
}

/// Names and ticket codes of those on firm bookings for dates that start between two instants.
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

/// Asks to hear when somebody comes, of a course on each of its dates; or asks no more.
pub fn set_awaited(
    tx: &Tx<'_>,
    attendee: AttendeeId,
    person: PersonId,
    awaits: bool,
) -> Result<(), StoreError> {
    let sql = match awaits {
        true => {
            "INSERT OR IGNORE INTO awaited (attendee_id, person_id) SELECT x.id, ?2 FROM attendees a
             JOIN attendees x ON x.booking_id = a.booking_id AND x.person_no = a.person_no WHERE a.id = ?1"
        }
        false => {
            "DELETE FROM awaited WHERE person_id = ?2 AND attendee_id IN (SELECT x.id FROM attendees a
             JOIN attendees x ON x.booking_id = a.booking_id AND x.person_no = a.person_no WHERE a.id = ?1)"
        }
    };
    tx.prepare_cached(sql)
        .and_then(|mut q| q.execute((attendee.0, person.0)))
        .map(drop)
        .doing("asking to hear of somebody")
}

/// Who asked to hear when somebody comes: their address, and the role they have now.
pub fn awaited_by(
    conn: &Connection,
    attendee: AttendeeId,
) -> Result<Vec<(PersonId, String, Role)>, StoreError> {
    conn.prepare_cached(
        "SELECT p.id, p.email, p.role FROM awaited w JOIN people p ON p.id = w.person_id
         WHERE w.attendee_id = ?1 AND p.role IS NOT NULL ORDER BY p.id",
    )
    .and_then(|mut q| {
        q.query_map([attendee.0], |row| {
            let mut c = InOrder::from(row, 0);
            Ok((PersonId(c.next()?), c.next()?, c.word("people.role", Role::from_word)?))
        })?
        .collect()
    })
    .doing("looking who asked to hear of somebody")
}

/// The attendees of a booking of whom somebody asked to hear.
pub fn awaited_of(
    conn: &Connection,
    booking: BookingId,
    person: PersonId,
) -> Result<Vec<AttendeeId>, StoreError> {
    conn.prepare_cached(
        "SELECT a.id FROM awaited w JOIN attendees a ON a.id = w.attendee_id
         WHERE a.booking_id = ?1 AND w.person_id = ?2 ORDER BY a.position",
    )
    .and_then(|mut q| {
        q.query_map((booking.0, person.0), |row| row.get(0).map(AttendeeId))?.collect()
    })
    .doing("looking of whom somebody asked to hear")
}

/// The attendees of a booking at a date who have a ticket, or one person of it.
pub fn of_booking_at(
    conn: &Connection,
    booking: BookingId,
    date: DateId,
    person: Option<usize>,
) -> Result<Vec<AttendeeId>, StoreError> {
    let person = person.and_then(|no| i64::try_from(no).ok());
    conn.prepare_cached(
        "SELECT id FROM attendees WHERE booking_id = ?1 AND date_id = ?2 AND cancelled_at IS NULL
            AND (?3 IS NULL OR person_no = ?3) ORDER BY position",
    )
    .and_then(|mut q| {
        q.query_map((booking.0, date.0, person), |row| row.get(0).map(AttendeeId))?.collect()
    })
    .doing("reading who has a ticket")
}

/// To whom the badge of somebody goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wearer {
    /// The booking.
    pub booking: BookingId,
    /// Which person of it, where they have an address of their own.
    pub person: Option<usize>,
    /// The address; empty for none.
    pub email: String,
    /// Nothing could be handed over there before.
    pub refused: bool,
}

/// To whom the badge of an attendee goes: to themselves, or else to whoever booked.
pub fn wearer(conn: &Connection, attendee: AttendeeId) -> Result<Option<Wearer>, StoreError> {
    let found = conn
        .prepare_cached(
            "SELECT a.booking_id, CASE WHEN a.email <> '' THEN a.person_no END, CASE WHEN a.email <> '' THEN a.email ELSE b.email END
             FROM attendees a JOIN bookings b ON b.id = a.booking_id WHERE a.id = ?1",
        )
        .and_then(|mut q| {
            q.query_row([attendee.0], |row| {
                let person: Option<i64> = row.get(1)?;
                Ok(Wearer {
                    booking: BookingId(row.get(0)?),
                    person: person.and_then(|no| usize::try_from(no).ok()),
                    email: row.get(2)?,
                    refused: false,
                })
            })
            .optional()
        })
        .doing("looking whose badge it is")?;
    found
        .map(|w| {
            let refused =
                !w.email.is_empty() && crate::outbox::address(conn, &w.email)?.refused.is_some();
            Ok(Wearer { refused, ..w })
        })
        .transpose()
}
