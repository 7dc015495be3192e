//! Bookings, their lines, attendees, answers and timeline.

use std::collections::BTreeMap;

use jiff::Timestamp;
use matricle_core::booking::{Choice, State};
use matricle_core::codes::{Reading, Reference, TicketCode, read};
use matricle_core::details::{Details, Draft, Question};
use matricle_core::door::Presence;
use matricle_core::price::Buyer;
use matricle_core::seats::{Bucket, Draw, Wanted, shifts};
use matricle_core::words::fold;
use matricle_core::{
    AttendeeId, BookingId, Currency, DateId, Money, PersonId, PoolId, QuestionId, TicketTypeId,
};
use rusqlite::{Connection, OptionalExtension, Row};

use crate::convert::{foreign, instant, instant_or, word};
use crate::events::DateSheet;
use crate::{Doing, StoreError, Tx, us};

/// A booking.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Booking {
    /// Its key.
    pub id: BookingId,
    /// Its short name for people.
    pub reference: Reference,
    /// The date it is for.
    pub date: DateId,
    /// Where it stands.
    pub state: State,
    /// When the hold or the time to pay runs out, while there is such an instant.
    pub deadline: Option<Timestamp>,
    /// What it costs.
    pub total: Money,
    /// What has been paid.
    pub paid: Money,
    /// What has been typed so far.
    pub draft: Draft,
    /// The booker's name, once the form is complete.
    pub name: String,
    /// The booker's address, once the form is complete.
    pub email: String,
    /// When the seats were first held.
    pub made_at: Timestamp,
    /// Made to try the steps out: takes no seats, counts nowhere.
    pub test: bool,
    /// What was known of the booker when the seats were chosen.
    pub buyer: Buyer,
}

impl Booking {
    /// What is still to pay.
    #[must_use]
    pub const fn due(&self) -> Money {
        self.total.currency.of(self.total.minor - self.paid.minor)
    }

    /// The booker's name as far as it is known.
    #[must_use]
    pub fn booker(&self) -> &str {
        if self.name.is_empty() { self.draft.name.trim() } else { &self.name }
    }
}

/// Who holds seats.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct HeldBy {
    /// What is known of them.
    pub buyer: Buyer,
    /// They only try the steps out.
    pub test: bool,
}

/// One ticket type of a booking, at the price it was held for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    /// The ticket type.
    pub ticket: TicketTypeId,
    /// Its name then.
    pub name: String,
    /// How many.
    pub quantity: u32,
    /// The ordinary price of one.
    pub base: Money,
    /// The price of one.
    pub unit: Money,
}

impl Line {
    /// `2 × Visitor`.
    #[must_use]
    pub fn label(&self) -> String {
        format!("{} × {}", self.quantity, self.name)
    }

    /// `quantity × unit`.
    #[must_use]
    pub fn total(&self) -> Money {
        self.unit.currency.of(self.unit.minor * i64::from(self.quantity))
    }
}

/// One person on a booking.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attendee {
    /// Its key.
    pub id: AttendeeId,
    /// The name of the ticket type.
    pub ticket: String,
    /// Which person of the booking, counted from zero.
    pub person: usize,
    /// Their name; empty until the form is complete.
    pub name: String,
    /// The code on their ticket.
    pub code: TicketCode,
    /// Where they are.
    pub presence: Presence,
}

/// An answer, with the question as it was worded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// The question.
    pub label: String,
    /// What was answered.
    pub answer: String,
    /// Which person of the booking, counted from zero; `None` for the whole booking.
    pub person: Option<usize>,
}

/// One line of a timeline.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Happening {
    /// When.
    pub at: Timestamp,
    /// Who did it.
    pub who: String,
    /// What it was.
    pub what: String,
}

const COLUMNS: &str = "b.id, b.reference, b.date_id, b.state, b.deadline, b.total_minor, b.paid_minor, \
     b.draft, b.name, b.email, b.made_at, b.test, b.word, \
     b.member, b.known_as, (SELECT currency FROM house) AS currency";

fn booking(row: &Row<'_>) -> rusqlite::Result<Booking> {
    let currency = word(row, "currency", Currency::from_letters)?;
    let draft: String = row.get("draft")?;
    Ok(Booking {
        id: BookingId(row.get("id")?),
        reference: word(row, "reference", Reference::parse)?,
        date: DateId(row.get("date_id")?),
        state: word(row, "state", State::from_word)?,
        deadline: instant_or(row, "deadline")?,
        total: currency.of(row.get("total_minor")?),
        paid: currency.of(row.get("paid_minor")?),
        draft: parse_draft(draft)?,
        name: row.get("name")?,
        email: row.get("email")?,
        made_at: instant(row, "made_at")?,
        test: row.get("test")?,
        buyer: Buyer {
            member: row.get("member")?,
            word: row.get("word")?,
            address: row.get("known_as")?,
        },
    })
}

fn parse_draft(text: String) -> rusqlite::Result<Draft> {
    match text.as_str() {
        "{}" => Ok(Draft::default()),
        json => serde_json::from_str(json).map_err(|_| foreign("bookings.draft", text)),
    }
}

fn draft_json(draft: &Draft) -> rusqlite::Result<String> {
    serde_json::to_string(draft).map_err(|e| rusqlite::Error::ToSqlConversionFailure(e.into()))
}

/// Finds a booking by its reference.
///
/// # Errors
/// SQLite refuses.
pub fn by_reference(
    conn: &Connection,
    reference: Reference,
) -> Result<Option<Booking>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM bookings b WHERE b.reference = ?1"))
        .and_then(|mut q| q.query_row([reference.as_str()], booking).optional())
        .doing("looking a booking up")
}

/// Finds a booking by its key.
///
/// # Errors
/// SQLite refuses.
pub fn by_id(conn: &Connection, id: BookingId) -> Result<Option<Booking>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM bookings b WHERE b.id = ?1"))
        .and_then(|mut q| q.query_row([id.0], booking).optional())
        .doing("looking a booking up")
}

/// Whether a reference is in use.
///
/// # Errors
/// SQLite refuses.
pub fn reference_taken(conn: &Connection, reference: Reference) -> Result<bool, StoreError> {
    conn.prepare_cached("SELECT EXISTS (SELECT 1 FROM bookings WHERE reference = ?1)")
        .and_then(|mut q| q.query_row([reference.as_str()], |row| row.get(0)))
        .doing("looking a reference up")
}

/// The lines of a booking.
///
/// # Errors
/// SQLite refuses.
pub fn lines(conn: &Connection, booking: &Booking) -> Result<Vec<Line>, StoreError> {
    let currency = booking.total.currency;
    conn.prepare_cached(
        "SELECT ticket_type_id, name, quantity, base_minor, unit_minor FROM booking_lines
         WHERE booking_id = ?1 ORDER BY position",
    )
    .and_then(|mut q| {
        q.query_map([booking.id.0], |row| {
            Ok(Line {
                ticket: TicketTypeId(row.get(0)?),
                name: row.get(1)?,
                quantity: row.get(2)?,
                base: currency.of(row.get(3)?),
                unit: currency.of(row.get(4)?),
            })
        })?
        .collect()
    })
    .doing("reading the lines of a booking")
}

/// Presence as stored in three columns.
pub(crate) fn presence(row: &Row<'_>) -> rusqlite::Result<Presence> {
    let word: String = row.get("presence")?;
    match word.as_str() {
        "expected" => Ok(Presence::Expected),
        "in" => Ok(Presence::In { at: instant(row, "in_at")?, door: row.get("in_door")? }),
        "left" => Ok(Presence::Left),
        "missed" => Ok(Presence::Missed),
        _ => Err(foreign("attendees.presence", word)),
    }
}

/// A stored ticket code.
pub(crate) fn ticket_code(row: &Row<'_>) -> rusqlite::Result<TicketCode> {
    word(row, "code", |text| match read(text) {
        Reading::Code(code) => Some(code),
        Reading::Misread | Reading::NotACode => None,
    })
}

/// The attendees of a booking, in the order of its tickets: each person once, with the
/// code of the first date a course covers.
///
/// # Errors
/// SQLite refuses.
pub fn attendees(conn: &Connection, id: BookingId) -> Result<Vec<Attendee>, StoreError> {
    conn.prepare_cached(
        "SELECT id, ticket_name, person_no, name, code, presence, in_at, in_door FROM attendees
         WHERE booking_id = ?1 AND position = person_no ORDER BY position",
    )
    .and_then(|mut q| {
        q.query_map([id.0], |row| {
            Ok(Attendee {
                id: AttendeeId(row.get("id")?),
                ticket: row.get("ticket_name")?,
                person: usize::try_from(row.get::<_, i64>("person_no")?).unwrap_or(0),
                name: row.get("name")?,
                code: ticket_code(row)?,
                presence: presence(row)?,
            })
        })?
        .collect()
    })
    .doing("reading attendees")
}

/// The dates a booking covers, in their order.
///
/// # Errors
/// SQLite refuses.
pub fn covers(conn: &Connection, id: BookingId) -> Result<Vec<crate::events::Date>, StoreError> {
    let dates: Vec<DateId> = conn
        .prepare_cached(
            "SELECT DISTINCT a.date_id FROM attendees a JOIN dates d ON d.id = a.date_id
             WHERE a.booking_id = ?1 ORDER BY d.starts_at",
        )
        .and_then(|mut q| q.query_map([id.0], |row| row.get(0).map(DateId))?.collect())
        .doing("reading what a booking covers")?;
    let mut covered = Vec::new();
    for date in dates {
        covered.extend(crate::events::date_by_id(conn, date)?.map(|(_, date)| date));
    }
    Ok(covered)
}

/// The ticket type of each person on a booking, in their order.
///
/// # Errors
/// SQLite refuses.
pub fn tickets_of_people(
    conn: &Connection,
    id: BookingId,
) -> Result<Vec<TicketTypeId>, StoreError> {
    conn.prepare_cached(
        "SELECT l.ticket_type_id FROM attendees a JOIN booking_lines l
            ON l.booking_id = a.booking_id AND l.name = a.ticket_name
         WHERE a.booking_id = ?1 AND a.position = a.person_no ORDER BY a.position",
    )
    .and_then(|mut q| q.query_map([id.0], |row| row.get(0).map(TicketTypeId))?.collect())
    .doing("reading the tickets of people")
}

/// The answers given with a booking.
///
/// # Errors
/// SQLite refuses.
pub fn answers(conn: &Connection, id: BookingId) -> Result<Vec<Answer>, StoreError> {
    conn.prepare_cached(
        "SELECT a.label, a.answer, a.person_no FROM answers a JOIN questions q ON q.id = a.question_id
         WHERE a.booking_id = ?1 ORDER BY a.person_no, q.position, q.id",
    )
    .and_then(|mut q| {
        q.query_map([id.0], |row| {
            Ok(Answer {
                label: row.get(0)?,
                answer: row.get(1)?,
                person: usize::try_from(row.get::<_, i64>(2)?).ok(),
            })
        })?
        .collect()
    })
    .doing("reading answers")
}

/// What happened with a booking, oldest first.
///
/// # Errors
/// SQLite refuses.
pub fn timeline(conn: &Connection, id: BookingId) -> Result<Vec<Happening>, StoreError> {
    conn.prepare_cached("SELECT at, who, what FROM timeline WHERE booking_id = ?1 ORDER BY id")
        .and_then(|mut q| {
            q.query_map([id.0], |row| {
                Ok(Happening {
                    at: instant(row, "at")?,
                    who: row.get("who")?,
                    what: row.get("what")?,
                })
            })?
            .collect()
        })
        .doing("reading a timeline")
}

/// Adds to the timeline of a booking.
///
/// # Errors
/// SQLite refuses.
pub fn happened(
    tx: &Tx<'_>,
    id: BookingId,
    now: Timestamp,
    who: &str,
    what: &str,
) -> Result<(), StoreError> {
    tx.prepare_cached("INSERT INTO timeline (booking_id, at, who, what) VALUES (?1, ?2, ?3, ?4)")
        .and_then(|mut q| q.execute((id.0, us(now), who, what)))
        .map(drop)
        .doing("adding to a timeline")
}

/// The tickets a booking is for, as a choice to be made again.
///
/// # Errors
/// SQLite refuses.
pub fn wanted(conn: &Connection, id: BookingId) -> Result<Vec<Wanted>, StoreError> {
    conn.prepare_cached("SELECT ticket_type_id, quantity FROM booking_lines WHERE booking_id = ?1")
        .and_then(|mut q| {
            q.query_map([id.0], |row| {
                Ok(Wanted { ticket: TicketTypeId(row.get(0)?), quantity: row.get(1)? })
            })?
            .collect()
        })
        .doing("reading the lines of a booking")
}

/// Writes a new hold on all that the sheet covers down; its seats are counted from here
/// on. `code` gives a fresh ticket code for each attendee. A test takes no seats.
///
/// # Errors
/// SQLite refuses.
pub fn hold(
    tx: &Tx<'_>,
    sheet: &DateSheet,
    reference: Reference,
    choice: &Choice,
    code: impl FnMut() -> TicketCode,
    by: &HeldBy,
    now: Timestamp,
) -> Result<BookingId, StoreError> {
    let date = sheet.covers.first().copied().unwrap_or(sheet.date.id);
    tx.prepare_cached(
        "INSERT INTO bookings (reference, date_id, state, deadline, total_minor, search, made_at, test,
            word, member, known_as) VALUES (?1, ?2, 'held', ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
    )
    .and_then(|mut q| {
        q.execute((
            reference.as_str(),
            date.0,
            us(choice.held_until),
            choice.quote.total.minor,
            fold(&reference.to_string()),
            us(now),
            by.test,
            &by.buyer.word,
            by.buyer.member,
            &by.buyer.address,
        ))
    })
    .doing("writing a hold")?;
    let id = BookingId(tx.last_insert_rowid());
    choose(tx, id, choice, sheet, by.test, code)?;
    shift(tx, id, date, None, State::Held)?;
    Ok(id)
}

/// Puts another choice in the place of a hold's tickets; what has been typed stays.
/// The booking must keep no seats while this is done.
///
/// # Errors
/// SQLite refuses.
pub fn choose_again(
    tx: &Tx<'_>,
    booking: &Booking,
    choice: &Choice,
    sheet: &DateSheet,
    buyer: &Buyer,
    code: impl FnMut() -> TicketCode,
) -> Result<(), StoreError> {
    for sql in [
        "DELETE FROM booking_lines WHERE booking_id = ?1",
        "DELETE FROM booking_draws WHERE booking_id = ?1",
        "DELETE FROM sign_ups WHERE attendee_id IN (SELECT id FROM attendees WHERE booking_id = ?1)",
        "DELETE FROM attendees WHERE booking_id = ?1",
    ] {
        tx.prepare_cached(sql)
            .and_then(|mut q| q.execute([booking.id.0]))
            .doing("clearing a choice")?;
    }
    tx.prepare_cached("UPDATE bookings SET total_minor = ?2, word = ?3, member = ?4 WHERE id = ?1")
        .and_then(|mut q| {
            q.execute((booking.id.0, choice.quote.total.minor, &buyer.word, buyer.member))
        })
        .doing("writing a choice")?;
    choose(tx, booking.id, choice, sheet, booking.test, code)
}

/// Takes the same tickets at what they cost and draw now. The booking must keep no
/// seats while this is done.
///
/// # Errors
/// SQLite refuses.
pub fn reprice(tx: &Tx<'_>, booking: &Booking, choice: &Choice) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        let mut line = tx.prepare_cached(
            "UPDATE booking_lines SET base_minor = ?3, unit_minor = ?4
             WHERE booking_id = ?1 AND ticket_type_id = ?2",
        )?;
        for l in &choice.quote.lines {
            line.execute((booking.id.0, l.ticket.0, l.base.minor, l.unit.minor))?;
        }
        tx.prepare_cached("UPDATE bookings SET total_minor = ?2 WHERE id = ?1")?
            .execute((booking.id.0, choice.quote.total.minor))?;
        tx.prepare_cached("DELETE FROM booking_draws WHERE booking_id = ?1")?
            .execute([booking.id.0])?;
        draw(tx, booking.id, choice, booking.test)
    };
    write().doing("taking the same tickets again")
}

fn draw(tx: &Tx<'_>, id: BookingId, choice: &Choice, test: bool) -> rusqlite::Result<()> {
    if test {
        return Ok(());
    }
    let mut insert = tx.prepare_cached(
        "INSERT INTO booking_draws (booking_id, pool_id, seats) VALUES (?1, ?2, ?3)",
    )?;
    for draw in &choice.draws {
        insert.execute((id.0, draw.pool.0, draw.seats))?;
    }
    Ok(())
}

fn choose(
    tx: &Tx<'_>,
    id: BookingId,
    choice: &Choice,
    sheet: &DateSheet,
    test: bool,
    mut code: impl FnMut() -> TicketCode,
) -> Result<(), StoreError> {
    let mut write = || -> rusqlite::Result<()> {
        let mut insert_line = tx.prepare_cached(
            "INSERT INTO booking_lines (booking_id, ticket_type_id, position, name, quantity, base_minor, unit_minor)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
        )?;
        let mut insert_attendee = tx.prepare_cached(
            "INSERT INTO attendees (booking_id, date_id, position, person_no, ticket_name, code)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
        )?;
        let mut people: Vec<&str> = Vec::new();
        for (position, line) in (0i64..).zip(&choice.quote.lines) {
            let Some(ticket) = sheet.tickets.iter().find(|t| t.id == line.ticket) else { continue };
            insert_line.execute((
                id.0,
                ticket.id.0,
                position,
                &ticket.name,
                line.quantity,
                line.base.minor,
                line.unit.minor,
            ))?;
            for _ in 0..line.quantity.saturating_mul(ticket.admits) {
                people.push(&ticket.name);
            }
        }
        // A person's place and number are the same on the first date only.
        let mut place = 0;
        for date in &sheet.covers {
            for (person, ticket) in (0i64..).zip(&people) {
                insert_attendee.execute((id.0, date.0, place, person, ticket, code().as_str()))?;
                place += 1;
            }
        }
        draw(tx, id, choice, test)
    };
    write().doing("writing the tickets of a booking")
}

/// Moves a booking to a state that core allowed, its seats with it. The deadline is
/// for states that have one.
///
/// # Errors
/// SQLite refuses.
pub fn set_state(
    tx: &Tx<'_>,
    booking: &Booking,
    to: State,
    deadline: Option<Timestamp>,
) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE bookings SET state = ?2, deadline = ?3 WHERE id = ?1")
        .and_then(|mut q| q.execute((booking.id.0, to.word(), deadline.map(us))))
        .doing("moving a booking")?;
    shift(tx, booking.id, booking.date, Some(booking.state), to)
}

fn shift(
    tx: &Tx<'_>,
    id: BookingId,
    date: DateId,
    from: Option<State>,
    to: State,
) -> Result<(), StoreError> {
    tx.touch(date);
    let draws: Vec<Draw> = tx
        .prepare_cached("SELECT pool_id, seats FROM booking_draws WHERE booking_id = ?1")
        .and_then(|mut q| {
            q.query_map([id.0], |row| Ok(Draw { pool: PoolId(row.get(0)?), seats: row.get(1)? }))?
                .collect()
        })
        .doing("reading what a booking draws")?;
    for shift in shifts(&draws, from, to) {
        let sql = match shift.bucket {
            Bucket::Held => "UPDATE pools SET held = held + ?2 WHERE id = ?1",
            Bucket::Requested => "UPDATE pools SET requested = requested + ?2 WHERE id = ?1",
            Bucket::AwaitingPayment => {
                "UPDATE pools SET awaiting_payment = awaiting_payment + ?2 WHERE id = ?1"
            }
            Bucket::Confirmed => "UPDATE pools SET confirmed = confirmed + ?2 WHERE id = ?1",
        };
        tx.prepare_cached(sql)
            .and_then(|mut q| q.execute((shift.pool.0, shift.by)))
            .doing("moving seats")?;
    }
    Ok(())
}

/// Moves the deadline of a hold or a payment.
///
/// # Errors
/// SQLite refuses.
pub fn set_deadline(tx: &Tx<'_>, id: BookingId, deadline: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE bookings SET deadline = ?2 WHERE id = ?1 AND deadline IS NOT NULL")
        .and_then(|mut q| q.execute((id.0, us(deadline))))
        .map(drop)
        .doing("moving a deadline")
}

/// Keeps what has been typed.
///
/// # Errors
/// SQLite refuses.
pub fn keep_draft(tx: &Tx<'_>, id: BookingId, draft: &Draft) -> Result<(), StoreError> {
    draft_json(draft)
        .and_then(|json| {
            tx.prepare_cached("UPDATE bookings SET draft = ?2 WHERE id = ?1")?.execute((id.0, json))
        })
        .map(drop)
        .doing("keeping a draft")
}

/// Writes complete details down: booker, attendees, answers, words to search by.
///
/// # Errors
/// SQLite refuses.
pub fn complete(
    tx: &Tx<'_>,
    booking: &Booking,
    details: &Details,
    questions: &[Question],
    person: PersonId,
) -> Result<(), StoreError> {
    let mut search =
        vec![booking.reference.to_string(), details.name.clone(), details.email.clone()];
    search.extend(details.attendees.iter().cloned());
    let labels: BTreeMap<QuestionId, &str> =
        questions.iter().map(|q| (q.id, q.label.as_str())).collect();
    let write =
        || -> rusqlite::Result<()> {
            tx.prepare_cached(
            "UPDATE bookings SET name = ?2, email = ?3, person_id = ?4, search = ?5 WHERE id = ?1",
        )?
        .execute((booking.id.0, &details.name, &details.email, person.0, fold(&search.join(" "))))?;
            let mut name = tx.prepare_cached(
            "UPDATE attendees SET name = ?3, search = ?4 WHERE booking_id = ?1 AND person_no = ?2",
        )?;
            for (position, attendee) in (0i64..).zip(&details.attendees) {
                let words = fold(&format!("{attendee} {} {}", details.name, booking.reference));
                name.execute((booking.id.0, position, attendee, words))?;
            }
            tx.prepare_cached("DELETE FROM answers WHERE booking_id = ?1")?
                .execute([booking.id.0])?;
            let mut answer = tx.prepare_cached(
                "INSERT INTO answers (booking_id, question_id, person_no, label, answer)
             VALUES (?1, ?2, ?3, ?4, ?5)",
            )?;
            let of_all = details.answers.iter().map(|(question, text)| (-1i64, question, text));
            let of_each = (0i64..)
                .zip(&details.each)
                .flat_map(|(person, given)| given.iter().map(move |(q, text)| (person, q, text)));
            for (person, question, text) in of_all.chain(of_each) {
                let label = labels.get(question).copied().unwrap_or_default();
                answer.execute((booking.id.0, question.0, person, label, text))?;
            }
            Ok(())
        };
    write().doing("writing details down")
}

/// Counts money in.
///
/// # Errors
/// SQLite refuses.
pub fn add_paid(tx: &Tx<'_>, id: BookingId, minor: i64) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE bookings SET paid_minor = paid_minor + ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((id.0, minor)))
        .map(drop)
        .doing("counting money in")
}

/// Bookings whose deadline has passed, longest ago first.
///
/// # Errors
/// SQLite refuses.
pub fn overdue(conn: &Connection, now: Timestamp, most: u32) -> Result<Vec<Booking>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM bookings b WHERE b.deadline <= ?1 ORDER BY b.deadline LIMIT ?2"
    ))
    .and_then(|mut q| q.query_map((us(now), most), booking)?.collect())
    .doing("looking for what is overdue")
}

/// Holds on one date whose deadline has passed.
///
/// # Errors
/// SQLite refuses.
pub fn stale_holds(
    conn: &Connection,
    date: DateId,
    now: Timestamp,
) -> Result<Vec<Booking>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM bookings b WHERE b.state = 'held' AND b.deadline <= ?2
            AND (b.date_id = ?1 OR EXISTS (SELECT 1 FROM attendees a WHERE a.booking_id = b.id AND a.date_id = ?1))"
    ))
    .and_then(|mut q| q.query_map((date.0, us(now)), booking)?.collect())
    .doing("looking for stale holds")
}

/// The next deadline of any booking.
///
/// # Errors
/// SQLite refuses.
pub fn next_deadline(conn: &Connection) -> Result<Option<Timestamp>, StoreError> {
    conn.prepare_cached("SELECT min(deadline) FROM bookings WHERE deadline IS NOT NULL")
        .and_then(|mut q| q.query_row([], |row| row.get::<_, Option<i64>>(0)))
        .map(|us| us.map(crate::at))
        .doing("looking for the next deadline")
}

/// A booking as lists show it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// The booking.
    pub booking: Booking,
    /// The title of its event.
    pub title: String,
    /// When its date starts, local.
    pub starts: jiff::civil::DateTime,
    /// People on it.
    pub people: u32,
    /// The last line of its timeline.
    pub last: String,
}

/// What a list of bookings is narrowed to.
#[derive(Debug, Clone, Default)]
pub struct Filter {
    /// Words that must all be found, in any order: names, addresses, references,
    /// event titles, months and states.
    pub words: String,
    /// Only this event.
    pub event: Option<matricle_core::EventId>,
    /// Only this date, or a course that covers it.
    pub date: Option<DateId>,
    /// Only this state.
    pub state: Option<State>,
    /// Test bookings instead of real ones.
    pub test: bool,
    /// Rows to leave out at the start.
    pub skip: u32,
    /// Most rows.
    pub most: u32,
}

/// Bookings that have got past the first choice, newest first, and how many the
/// filter finds in all.
///
/// # Errors
/// SQLite refuses.
pub fn list(conn: &Connection, filter: &Filter) -> Result<(Vec<Listed>, u32), StoreError> {
    // A hold that nobody has put a name to is no news to anybody.
    let mut conditions =
        String::from("(b.state <> 'held' AND NOT (b.state = 'lapsed' AND b.name = ''))");
    conditions.push_str(if filter.test { " AND b.test = 1" } else { " AND b.test = 0" });
    let mut values: Vec<String> = Vec::new();
    if let Some(event) = filter.event {
        conditions.push_str(" AND d.event_id = ?");
        values.push(event.0.to_string());
    }
    if let Some(date) = filter.date {
        conditions.push_str(
            " AND EXISTS (SELECT 1 FROM attendees a WHERE a.booking_id = b.id AND a.date_id = ?)",
        );
        values.push(date.0.to_string());
    }
    if let Some(state) = filter.state {
        conditions.push_str(" AND b.state = ?");
        values.push(state.word().to_owned());
    }
    for word in fold(&filter.words).split(' ').filter(|w| !w.is_empty()) {
        // Folded words hold no LIKE wildcard.
        conditions.push_str(
            " AND (b.search || ' ' || e.title || ' ' || e.kind || ' ' || d.month || ' ' || b.state ||
                CASE b.state WHEN 'awaiting payment' THEN ' to pay' WHEN 'requested' THEN ' asking' ELSE '' END
             ) LIKE ?",
        );
        values.push(format!("%{word}%"));
    }
    let from = format!(
        "FROM bookings b JOIN (SELECT id, event_id, starts,
            CASE substr(starts, 6, 2) WHEN '01' THEN 'january' WHEN '02' THEN 'february' WHEN '03' THEN 'march'
            WHEN '04' THEN 'april' WHEN '05' THEN 'may' WHEN '06' THEN 'june' WHEN '07' THEN 'july'
            WHEN '08' THEN 'august' WHEN '09' THEN 'september' WHEN '10' THEN 'october'
            WHEN '11' THEN 'november' ELSE 'december' END AS month FROM dates) d ON d.id = b.date_id
         JOIN events e ON e.id = d.event_id WHERE {conditions}"
    );
    let params = || rusqlite::params_from_iter(values.iter());
    let read = || -> rusqlite::Result<(Vec<Listed>, u32)> {
        let count = conn
            .prepare_cached(&format!("SELECT count(*) {from}"))?
            .query_row(params(), |row| row.get(0))?;
        let mut query = conn.prepare_cached(&format!(
            "SELECT {COLUMNS}, e.title, d.starts,
                (SELECT count(*) FROM attendees a WHERE a.booking_id = b.id AND a.position = a.person_no) AS people,
                coalesce((SELECT what FROM timeline t WHERE t.booking_id = b.id ORDER BY t.id DESC LIMIT 1), '') AS last
             {from} ORDER BY b.made_at DESC, b.id DESC LIMIT {} OFFSET {}",
            filter.most, filter.skip
        ))?;
        let rows = query.query_map(params(), |row| {
            let starts: String = row.get("starts")?;
            Ok(Listed {
                booking: booking(row)?,
                title: row.get("title")?,
                starts: starts.parse().map_err(|_| foreign("dates.starts", starts))?,
                people: row.get("people")?,
                last: row.get("last")?,
            })
        })?;
        Ok((rows.collect::<Result<_, _>>()?, count))
    };
    read().doing("listing bookings")
}

/// How many bookings of an event are in each state that counts.
///
/// # Errors
/// SQLite refuses.
pub fn count_live(conn: &Connection, event: matricle_core::EventId) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT count(*) FROM bookings b JOIN dates d ON d.id = b.date_id
         WHERE d.event_id = ?1 AND b.test = 0 AND b.state IN ('requested', 'awaiting payment', 'confirmed')",
    )
    .and_then(|mut q| q.query_row([event.0], |row| row.get(0)))
    .doing("counting bookings")
}

/// Bookings that keep seats on a date, in the order they were made.
///
/// # Errors
/// SQLite refuses.
pub fn live_on(conn: &Connection, date: DateId) -> Result<Vec<Booking>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM bookings b WHERE b.test = 0
            AND b.state IN ('held', 'requested', 'awaiting payment', 'confirmed')
            AND b.id IN (SELECT booking_id FROM attendees WHERE date_id = ?1) ORDER BY b.id"
    ))
    .and_then(|mut q| q.query_map([date.0], booking)?.collect())
    .doing("looking for bookings")
}

/// Seats that a booking draws from a pool.
///
/// # Errors
/// SQLite refuses.
pub fn seats_of(conn: &Connection, id: BookingId, pool: PoolId) -> Result<u32, StoreError> {
    conn.prepare_cached(
        "SELECT coalesce(sum(seats), 0) FROM booking_draws WHERE booking_id = ?1 AND pool_id = ?2",
    )
    .and_then(|mut q| q.query_row((id.0, pool.0), |row| row.get(0)))
    .doing("reading what a booking draws")
}

/// Whether somebody with this address holds a booking of an event that counts, other
/// than this one.
///
/// # Errors
/// SQLite refuses.
pub fn booked_already(
    conn: &Connection,
    event: matricle_core::EventId,
    email: &str,
    but: BookingId,
) -> Result<bool, StoreError> {
    conn.prepare_cached(
        "SELECT EXISTS (SELECT 1 FROM bookings b JOIN people p ON p.id = b.person_id
            JOIN dates d ON d.id = b.date_id
            WHERE p.email = ?2 AND d.event_id = ?1 AND b.id <> ?3 AND b.test = 0
                AND b.state IN ('requested', 'awaiting payment', 'confirmed'))",
    )
    .and_then(|mut q| q.query_row((event.0, email, but.0), |row| row.get(0)))
    .doing("looking for another booking")
}

/// Forgets the test bookings of an event, all about them with them; says how many.
///
/// # Errors
/// SQLite refuses.
pub fn clear_tests(tx: &Tx<'_>, event: matricle_core::EventId) -> Result<usize, StoreError> {
    let tests = "(SELECT b.id FROM bookings b JOIN dates d ON d.id = b.date_id WHERE d.event_id = ?1 AND b.test = 1)";
    let write = || -> rusqlite::Result<usize> {
        for table in ["outbox", "timeline", "answers", "booking_lines", "booking_draws", "payments"]
        {
            tx.execute(&format!("DELETE FROM {table} WHERE booking_id IN {tests}"), [event.0])?;
        }
        let people = format!("(SELECT id FROM attendees WHERE booking_id IN {tests})");
        for table in ["sign_ups", "scans"] {
            tx.execute(&format!("DELETE FROM {table} WHERE attendee_id IN {people}"), [event.0])?;
        }
        tx.execute(
            &format!(
                "UPDATE dates SET inside = inside - (SELECT count(*) FROM attendees a
                    WHERE a.date_id = dates.id AND a.presence = 'in' AND a.booking_id IN {tests})
                 WHERE event_id = ?1"
            ),
            [event.0],
        )?;
        tx.execute(&format!("DELETE FROM attendees WHERE booking_id IN {tests}"), [event.0])?;
        tx.execute(&format!("DELETE FROM bookings WHERE id IN {tests}"), [event.0])
    };
    write().doing("clearing test bookings")
}

/// When the first booking of an event was made.
///
/// # Errors
/// SQLite refuses.
pub fn first_made(
    conn: &Connection,
    event: matricle_core::EventId,
) -> Result<Option<Timestamp>, StoreError> {
    conn.prepare_cached(
        "SELECT min(b.made_at) FROM bookings b JOIN dates d ON d.id = b.date_id WHERE d.event_id = ?1",
    )
    .and_then(|mut q| q.query_row([event.0], |row| row.get::<_, Option<i64>>(0)))
    .map(|us| us.map(crate::at))
    .doing("looking for the first booking")
}
