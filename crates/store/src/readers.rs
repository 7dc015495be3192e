//! Dates and people as cues see them.

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::messages::cue::{Cue, Part, Paying};
use matricle_core::messages::due::{DateFacts, Person, Reader, Seen};
use matricle_core::people::staff::Role;
use matricle_core::{
    BookingId, DateId, EventId, HostId, PersonId, QuestionId, TagId, TicketTypeId,
};
use rusqlite::{Connection, OptionalExtension};

use crate::convert::InOrder;
use crate::events::{EventState, JOINS_ONLINE};
use crate::states::sql_of;
use crate::{Doing, StoreError};

/// A date as cues see it, with its event.
pub fn date(conn: &Connection, id: DateId) -> Result<Option<(EventId, DateFacts)>, StoreError> {
    let found = conn
        .prepare_cached(
            "SELECT d.event_id, d.starts, d.ends, d.zone, d.called_off = '' AND e.state IN (?2, ?3), d.changed_at,
                (SELECT min(t.sale_from) FROM ticket_types t WHERE t.event_id = e.id AND t.retired = 0),
                (SELECT max(t.sale_until) FROM ticket_types t WHERE t.event_id = e.id AND t.retired = 0)
             FROM dates d JOIN events e ON e.id = d.event_id WHERE d.id = ?1",
        )
        .and_then(|mut q| {
            q.query_row((id.0, EventState::Published.word(), EventState::Past.word()), |row| {
                let mut c = InOrder::from(row, 0);
                let event = EventId(c.next()?);
                let civil = |text: String| {
                    text.parse().map_err(|_| crate::convert::foreign("dates.starts", text))
                };
                let (starts, ends) = (civil(c.next()?)?, civil(c.next()?)?);
                let zone: String = c.next()?;
                Ok((
                    event,
                    DateFacts {
                        id,
                        starts,
                        ends,
                        zone: jiff::tz::TimeZone::get(&zone).unwrap_or(jiff::tz::TimeZone::UTC),
                        takes_place: c.next()?,
                        moved_at: c.instant_or()?,
                        sale_opens: c.instant_or()?,
                        sale_closes: c.instant_or()?,
                        tags: Vec::new(),
                    },
                ))
            })
            .optional()
        })
        .doing("reading a date for its cues")?;
    let Some((event, mut facts)) = found else { return Ok(None) };
    facts.tags = tags(conn, event)?;
    Ok(Some((event, facts)))
}

/// The tags of an event.
pub fn tags(conn: &Connection, event: EventId) -> Result<Vec<TagId>, StoreError> {
    conn.prepare_cached("SELECT tag_id FROM event_tags WHERE event_id = ?1")
        .and_then(|mut q| q.query_map([event.0], |row| row.get(0).map(TagId))?.collect())
        .doing("reading tags")
}

/// Somebody of a booking, as cues see them.
#[derive(Debug, Clone)]
pub struct Booked {
    /// The booking.
    pub booking: BookingId,
    /// Its reference, as stored.
    pub reference: String,
    /// For which of its dates.
    pub date: DateId,
    /// Their name.
    pub name: String,
    /// As cues see them.
    pub person: Person,
}

/// Which bookings to read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Which {
    /// One.
    One(BookingId),
    /// Those of a date with keys after this one, so many.
    OfDate(DateId, BookingId, u32),
}

impl Which {
    /// All of a date.
    #[must_use]
    pub const fn all_of(date: DateId) -> Self {
        Self::OfDate(date, BookingId(0), u32::MAX >> 1)
    }
}

/// Somebody with their first ticket of a booking for a date.
fn one(
    row: OwingRow,
    reader: Reader,
    (stands, part, seen): (bool, Part, Seen),
    answers: Vec<(QuestionId, String)>,
) -> Booked {
    let own = !row.own_email.is_empty();
    let (email, name) = if own { (row.own_email, row.own_name) } else { (row.email, row.name) };
    Booked {
        booking: row.booking,
        reference: row.reference,
        date: row.date,
        name,
        person: Person {
            phone: if own { String::new() } else { row.phone },
            bounced: if own { row.own_refused } else { row.refused },
            stands,
            confirmed: stands && row.state == State::Confirmed,
            pay_by: row.deadline.filter(|_| row.state == State::AwaitingPayment),
            tickets: vec![row.ticket],
            part,
            paying: (row.state == State::AwaitingPayment).then_some(if row.transfer {
                Paying::Transfer
            } else {
                Paying::Card
            }),
            answers,
            first_visit: row.first,
            // What is owed is its booker's to pay.
            owes: stands && !own && row.state.is_owed(row.due),
            seen,
            ..Person::new(reader, &email, row.since)
        },
    }
}

/// The people of bookings as cues see them: for each date of a booking its booker, and whoever
/// holds a ticket with an address of their own. What only some cues ask is read where one does.
pub fn booked(conn: &Connection, which: Which, cues: &[Cue]) -> Result<Vec<Booked>, StoreError> {
    let first_visit = cues.iter().any(|c| c.only.first_visit);
    let seen = if first_visit {
        "NOT EXISTS (SELECT 1 FROM bookings p JOIN attendees pa ON pa.booking_id = p.id
            WHERE p.email = b.email AND p.id <> b.id AND pa.presence IN ('in', 'left'))"
    } else {
        "0"
    };
    let filter = match which {
        Which::One(_) => "b.id = ?1 AND ?2 IS NULL AND ?3 IS NULL",
        Which::OfDate(..) => {
            "b.id IN (SELECT DISTINCT x.booking_id FROM attendees x JOIN bookings y ON y.id = x.booking_id
                WHERE x.date_id = ?1 AND x.booking_id > ?2 AND y.test = 0 ORDER BY x.booking_id LIMIT ?3)"
        }
    };
    let keys = match which {
        Which::One(booking) => (booking.0, None, None),
        Which::OfDate(date, after, most) => (date.0, Some(after.0), Some(most)),
    };
    // A reader has rows one after the other: the booker's people first by date.
    let rows: Vec<OwingRow> = conn
        .prepare_cached(&sql_of!(
            "SELECT b.id, b.reference, b.state, b.name, b.email, b.phone, coalesce(b.since, b.made_at), b.deadline,
                ra.refused_at IS NOT NULL, a.date_id, a.person_no, a.name, a.email, ta.refused_at IS NOT NULL,
                a.ticket_type_id, a.cancelled_at IS NOT NULL, a.presence, {JOINS_ONLINE}, {seen},
                b.state = {{AwaitingPayment}} AND EXISTS (SELECT 1 FROM documents doc WHERE doc.booking_id = b.id
                    AND doc.kind = 'invoice'),
                b.total_minor - b.paid_minor
             FROM bookings b JOIN attendees a ON a.booking_id = b.id
             JOIN dates d ON d.id = a.date_id JOIN events e ON e.id = d.event_id
             LEFT JOIN ticket_types t ON t.id = a.ticket_type_id
             LEFT JOIN addresses ra ON ra.email = b.email LEFT JOIN addresses ta ON ta.email = a.email
             WHERE {filter} AND b.test = 0 ORDER BY b.id, a.date_id, a.position"
        ))
        .and_then(|mut q| q.query_map(keys, row)?.collect())
        .doing("reading people for cues")?;
    let asks = cues.iter().any(|c| c.only.answer.is_some());
    let mut found: Vec<Booked> = Vec::new();
    for row in rows {
        let stands = !row.cancelled
            && matches!(row.state, State::Requested | State::AwaitingPayment | State::Confirmed);
        let own = !row.own_email.is_empty();
        let reader = if own {
            Reader::Attendee(row.booking, row.person)
        } else {
            Reader::Booker(row.booking)
        };
        let known = found
            .iter_mut()
            .rev()
            .take_while(|f| f.booking == row.booking)
            .find(|f| f.date == row.date && f.person.reader == reader);
        let part = if row.online { Part::Online } else { Part::InPerson };
        let seen = if row.inside { Seen::In } else { Seen::NotIn };
        match known {
            // One of a party more.
            Some(known) => {
                let person = &mut known.person;
                if stands {
                    if person.stands {
                        person.tickets.push(row.ticket);
                    } else {
                        person.tickets = vec![row.ticket];
                        person.part = part;
                    }
                    person.stands = true;
                    person.confirmed = row.state == State::Confirmed;
                }
                if seen == Seen::In {
                    person.seen = Seen::In;
                }
            }
            None => {
                let answers = if asks {
                    answers(conn, row.booking, own.then_some(row.person))?
                } else {
                    Vec::new()
                };
                found.push(one(row, reader, (stands, part, seen), answers));
            }
        }
    }
    Ok(found)
}

struct OwingRow {
    booking: BookingId,
    reference: String,
    state: State,
    name: String,
    email: String,
    phone: String,
    since: Timestamp,
    deadline: Option<Timestamp>,
    refused: bool,
    date: DateId,
    person: usize,
    own_name: String,
    own_email: String,
    own_refused: bool,
    ticket: TicketTypeId,
    cancelled: bool,
    inside: bool,
    online: bool,
    first: bool,
    transfer: bool,
    due: i64,
}

fn row(row: &rusqlite::Row<'_>) -> rusqlite::Result<OwingRow> {
    let mut c = InOrder::from(row, 0);
    Ok(OwingRow {
        booking: BookingId(c.next()?),
        reference: c.next()?,
        state: c.word("bookings.state", State::from_word)?,
        name: c.next()?,
        email: c.next()?,
        phone: c.next()?,
        since: c.instant()?,
        deadline: c.instant_or()?,
        refused: c.next()?,
        date: DateId(c.next()?),
        person: usize::try_from(c.next::<i64>()?).unwrap_or(0),
        own_name: c.next()?,
        own_email: c.next()?,
        own_refused: c.next()?,
        ticket: TicketTypeId(c.next::<Option<i64>>()?.unwrap_or(0)),
        cancelled: c.next()?,
        inside: matches!(c.next::<String>()?.as_str(), "in" | "left"),
        online: c.next()?,
        first: c.next()?,
        transfer: c.next()?,
        due: c.next()?,
    })
}

fn answers(
    conn: &Connection,
    booking: BookingId,
    person: Option<usize>,
) -> Result<Vec<(QuestionId, String)>, StoreError> {
    let person = person.and_then(|p| i64::try_from(p).ok());
    conn.prepare_cached(
        "SELECT question_id, answer FROM answers WHERE booking_id = ?1 AND (?2 IS NULL OR person_no IN (-1, ?2))",
    )
    .and_then(|mut q| {
        q.query_map((booking.0, person), |row| Ok((QuestionId(row.get(0)?), row.get(1)?)))?.collect()
    })
    .doing("reading answers")
}

/// People who hear of a date without having booked it: its hosts who sign in, those who wait for
/// it, people of the house by their roles.
pub fn others(conn: &Connection, date: DateId) -> Result<Vec<(String, Person)>, StoreError> {
    let mut found = Vec::new();
    let hosts: Vec<(i64, i64, String, String)> = conn
        .prepare_cached(
            "SELECT h.id, p.id, h.name, p.email FROM date_hosts dh JOIN hosts h ON h.id = dh.host_id
             JOIN people p ON p.id = h.person_id WHERE dh.date_id = ?1",
        )
        .and_then(|mut q| {
            q.query_map([date.0], |row| {
                Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?))
            })?
            .collect()
        })
        .doing("reading hosts for cues")?;
    for (id, who, name, email) in hosts {
        let mut person = Person::new(Reader::Host(HostId(id)), &email, Timestamp::UNIX_EPOCH);
        person.wishes = crate::wishes::of(conn, PersonId(who))?;
        found.push((name, person));
    }
    let waiting: Vec<(i64, String, String, i64, Option<i64>)> = conn
        .prepare_cached(
            "SELECT w.id, w.name, w.email, w.joined_at, b.deadline FROM waiting w
             LEFT JOIN bookings b ON b.id = w.booking_id AND w.stands = 'offered'
             WHERE w.date_id = ?1 AND w.stands IN ('waiting', 'offered')",
        )
        .and_then(|mut q| {
            q.query_map([date.0], |row| {
                Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?, row.get(4)?))
            })?
            .collect()
        })
        .doing("reading who waits for cues")?;
    for (id, name, email, since, ends) in waiting {
        let mut person = Person::new(Reader::Waiter(id), &email, crate::at(since));
        person.offer_ends = ends.map(crate::at);
        found.push((name, person));
    }
    found.extend(staff(conn)?);
    for (_, person) in &mut found {
        person.bounced = crate::outbox::address(conn, &person.email)?.refused.is_some();
    }
    Ok(found)
}

/// Whoever has the stamp cards that a booking bought, or the bookings of a date, where those
/// expire.
pub fn card_owners(conn: &Connection, which: Which) -> Result<Vec<Booked>, StoreError> {
    let (filter, key) = match which {
        Which::One(booking) => ("b.id = ?1", booking.0),
        Which::OfDate(date, ..) => ("b.date_id = ?1", date.0),
    };
    conn.prepare_cached(&format!(
        "SELECT b.id, b.reference, b.date_id, c.name, c.id, c.email, c.made_at, c.expires_at, ra.refused_at IS NOT NULL
         FROM cards c JOIN bookings b ON b.id = c.booking_id LEFT JOIN addresses ra ON ra.email = c.email
         WHERE {filter} AND c.left > 0 AND c.expires_at IS NOT NULL ORDER BY b.id, c.id"
    ))
    .and_then(|mut q| {
        q.query_map([key], |row| {
            let mut c = InOrder::from(row, 0);
            let (booking, reference) = (BookingId(c.next()?), c.next()?);
            let (date, name) = (DateId(c.next()?), c.next()?);
            let (id, email): (i64, String) = (c.next()?, c.next()?);
            let mut person = Person::new(Reader::Card(id), &email, c.instant()?);
            person.card_ends = c.instant_or()?;
            person.bounced = c.next()?;
            Ok(Booked { booking, reference, date, name, person })
        })?
        .collect()
    })
    .doing("reading who has stamp cards")
}

/// People of the house by their roles.
pub fn staff(conn: &Connection) -> Result<Vec<(String, Person)>, StoreError> {
    conn.prepare_cached("SELECT id, name, email, role FROM people WHERE role IS NOT NULL")
        .and_then(|mut q| {
            q.query_map([], |row| {
                let (id, name, email): (i64, String, String) =
                    (row.get(0)?, row.get(1)?, row.get(2)?);
                let role: String = row.get(3)?;
                let mut person =
                    Person::new(Reader::Staff(PersonId(id)), &email, Timestamp::UNIX_EPOCH);
                person.role = Role::from_word(&role);
                Ok((name, person))
            })?
            .collect()
        })
        .doing("reading people of the house for cues")
}

/// Holders of tickets of a booking that were passed on: which person, their name and address.
pub fn holders(
    conn: &Connection,
    booking: BookingId,
) -> Result<Vec<(usize, String, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT DISTINCT person_no, name, email FROM attendees WHERE booking_id = ?1 AND email <> ''",
    )
    .and_then(|mut q| {
        q.query_map([booking.0], |row| {
            Ok((usize::try_from(row.get::<_, i64>(0)?).unwrap_or(0), row.get(1)?, row.get(2)?))
        })?
        .collect()
    })
    .doing("reading who holds tickets")
}
