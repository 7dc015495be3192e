//! Bookings, their lines, attendees, answers and timeline.

use std::collections::BTreeMap;

use jiff::Timestamp;
use matricle_core::booking::{Choice, State};
use matricle_core::codes::{Reading, Reference, TicketCode, read};
use matricle_core::details::{Details, Draft, Question};
use matricle_core::door::Presence;
use matricle_core::price::Buyer;
use matricle_core::seats::{Bucket, Draw, shifts};
use matricle_core::who::mailbox;
use matricle_core::words::fold;
use matricle_core::{
    AttendeeId, BookingId, Currency, DateId, Money, PersonId, PoolId, QuestionId, TicketTypeId,
};
use rusqlite::{Connection, OptionalExtension, Row};

mod deeds;
mod lines;
mod list;

pub use deeds::{Deed, LastDeed, last_deed, more, put_back, remember};

pub use lines::{
    Line, add_on, charge, charge_less, choose_again, lines, price_anew, reprice, restore_charges,
    set_price, set_total, take_off, tickets_of_numbers, wanted, worth,
};
pub use list::{Filter, Found, Listed, MOST_COUNTED, Order, answers_of, list};

use crate::convert::{foreign, instant, instant_or, word};
use crate::events::DateSheet;
use crate::ledger;
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

    /// Whether money is waited for: its seats are kept until it comes, or they are the booker's
    /// and something is still to pay.
    #[must_use]
    pub const fn is_owed(&self) -> bool {
        match self.state {
            State::AwaitingPayment => true,
            State::Confirmed => self.due().minor > 0,
            _ => false,
        }
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
    /// Which ticket of the booking lets them in.
    pub ticket_no: u32,
    /// Their ticket was cancelled, and the rest of the booking stands.
    pub cancelled: bool,
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
            // Codes are read where a price is asked for.
            promos: Vec::new(),
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
        "SELECT id, ticket_name, person_no, name, code, presence, in_at, in_door, ticket_no, cancelled_at
         FROM attendees
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
                ticket_no: row.get("ticket_no")?,
                cancelled: row.get::<_, Option<i64>>("cancelled_at")?.is_some(),
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
    lines::choose(tx, id, choice, sheet, by.test, code)?;
    shift(tx, id, date, None, State::Held)?;
    Ok(id)
}

/// Moves a booking to a state that core allowed; its seats and the books follow. The
/// deadline is for states that have one.
///
/// # Errors
/// SQLite refuses.
pub fn set_state(
    tx: &Tx<'_>,
    booking: &Booking,
    to: State,
    deadline: Option<Timestamp>,
    now: Timestamp,
) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE bookings SET state = ?2, deadline = ?3 WHERE id = ?1")
        .and_then(|mut q| q.execute((booking.id.0, to.word(), deadline.map(us))))
        .doing("moving a booking")?;
    shift(tx, booking.id, booking.date, Some(booking.state), to)?;
    ledger::follow(tx, booking.id, to.word(), now)
}

/// Cancels a booking: of what it is charged so many percent are taken off, its seats come
/// free, the books follow.
///
/// # Errors
/// SQLite refuses.
pub fn cancel(
    tx: &Tx<'_>,
    booking: &Booking,
    to: State,
    percent_back: u32,
    now: Timestamp,
) -> Result<(), StoreError> {
    charge_less(tx, booking, percent_back)?;
    set_state(tx, booking, to, None, now)
}

/// Brings the books to what a booking is charged after a change that is no move.
///
/// # Errors
/// SQLite refuses.
pub fn follow_books(
    tx: &Tx<'_>,
    id: BookingId,
    what: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    ledger::follow(tx, id, what, now)
}

/// Writes what a booking will draw, while it keeps no seats.
///
/// # Errors
/// SQLite refuses.
pub fn set_draws(tx: &Tx<'_>, booking: &Booking, draws: &[Draw]) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        tx.prepare_cached("DELETE FROM booking_draws WHERE booking_id = ?1")?
            .execute([booking.id.0])?;
        let mut insert = tx.prepare_cached(
            "INSERT INTO booking_draws (booking_id, pool_id, seats) VALUES (?1, ?2, ?3)",
        )?;
        for draw in draws.iter().filter(|_| !booking.test) {
            insert.execute((booking.id.0, draw.pool.0, draw.seats))?;
        }
        Ok(())
    };
    write().doing("writing what a booking draws")
}

/// Lets a booking draw more from a pool, also from one it drew nothing from before.
fn draw_more(tx: &Tx<'_>, booking: &Booking, draw: &Draw) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT OR IGNORE INTO booking_draws (booking_id, pool_id, seats) VALUES (?1, ?2, 0)",
    )
    .and_then(|mut q| q.execute((booking.id.0, draw.pool.0)))
    .doing("adding what a booking draws")?;
    shift_pool(tx, booking, draw.pool.0, i64::from(draw.seats))
}

/// Changes what a booking draws from one pool, and the pool's counter with it.
fn shift_pool(tx: &Tx<'_>, booking: &Booking, pool: i64, by: i64) -> Result<(), StoreError> {
    tx.touch(booking.date);
    let write = || -> rusqlite::Result<()> {
        tx.prepare_cached(
            "UPDATE booking_draws SET seats = seats + ?3 WHERE booking_id = ?1 AND pool_id = ?2",
        )?
        .execute((booking.id.0, pool, by))?;
        tx.prepare_cached("DELETE FROM booking_draws WHERE booking_id = ?1 AND seats = 0")?
            .execute([booking.id.0])?;
        if let Some(bucket) = Bucket::of(booking.state) {
            tx.prepare_cached(counter(bucket))?.execute((pool, by))?;
        }
        Ok(())
    };
    write().doing("moving seats")
}

const fn counter(bucket: Bucket) -> &'static str {
    match bucket {
        Bucket::Held => "UPDATE pools SET held = held + ?2 WHERE id = ?1",
        Bucket::Requested => "UPDATE pools SET requested = requested + ?2 WHERE id = ?1",
        Bucket::AwaitingPayment => {
            "UPDATE pools SET awaiting_payment = awaiting_payment + ?2 WHERE id = ?1"
        }
        Bucket::Confirmed => "UPDATE pools SET confirmed = confirmed + ?2 WHERE id = ?1",
    }
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
        tx.prepare_cached(counter(shift.bucket))
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
    person: Option<PersonId>,
) -> Result<(), StoreError> {
    let mut search =
        vec![booking.reference.to_string(), details.name.clone(), details.email.clone()];
    search.extend(details.attendees.iter().cloned());
    let labels: BTreeMap<QuestionId, &str> =
        questions.iter().map(|q| (q.id, q.label.as_str())).collect();
    let write = || -> rusqlite::Result<()> {
        tx.prepare_cached(
            "UPDATE bookings SET name = ?2, email = ?3, person_id = ?4, search = ?5, mailbox = ?6 WHERE id = ?1",
        )?
        .execute((
            booking.id.0,
            &details.name,
            &details.email,
            person.map(|p| p.0),
            fold(&search.join(" ")), mailbox(&details.email),
        ))?;
        list::index(tx, booking.id)?;
        let mut name = tx.prepare_cached(
            "UPDATE attendees SET name = ?3, search = ?4 WHERE booking_id = ?1 AND person_no = ?2",
        )?;
        for (position, attendee) in (0i64..).zip(&details.attendees) {
            let words = fold(&format!("{attendee} {} {}", details.name, booking.reference));
            name.execute((booking.id.0, position, attendee, words))?;
        }
        tx.prepare_cached("DELETE FROM answers WHERE booking_id = ?1")?.execute([booking.id.0])?;
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

/// Bookings of an event that wait for a yes, or whose form is being filled in, in the order
/// they were made.
///
/// # Errors
/// SQLite refuses.
pub fn undecided(
    conn: &Connection,
    event: matricle_core::EventId,
) -> Result<Vec<Booking>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM bookings b JOIN dates d ON d.id = b.date_id
         WHERE d.event_id = ?1 AND b.test = 0 AND b.state IN ('held', 'requested') ORDER BY b.id"
    ))
    .and_then(|mut q| q.query_map([event.0], booking)?.collect())
    .doing("looking for bookings that wait")
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

/// Whether somebody with an address of the same box holds a booking of an event that
/// counts, other than this one.
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
        "SELECT EXISTS (SELECT 1 FROM bookings b JOIN dates d ON d.id = b.date_id
            WHERE b.mailbox = ?2 AND b.mailbox <> '' AND d.event_id = ?1 AND b.id <> ?3 AND b.test = 0
                AND b.state IN ('requested', 'awaiting payment', 'confirmed'))",
    )
    .and_then(|mut q| q.query_row((event.0, mailbox(email), but.0), |row| row.get(0)))
    .doing("looking for another booking")
}

/// Another booking of the same date that counts, by somebody with an address of the same
/// box.
///
/// # Errors
/// SQLite refuses.
pub fn same_date(
    conn: &Connection,
    booking: &Booking,
    email: &str,
) -> Result<Option<Booking>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM bookings b WHERE b.mailbox = ?1 AND b.mailbox <> '' AND b.date_id = ?2 AND b.id <> ?3
            AND b.test = ?4 AND b.state IN ('requested', 'awaiting payment', 'confirmed') ORDER BY b.id LIMIT 1"
    ))
    .and_then(|mut q| {
        q.query_row((mailbox(email), booking.date.0, booking.id.0, booking.test), self::booking).optional()
    })
    .doing("looking for another booking")
}

/// The bookings of somebody by an address they have proved, the latest date first. The
/// address must be the same but for case: what a box means is the mail server's to say.
///
/// # Errors
/// SQLite refuses.
pub fn of_address(conn: &Connection, email: &str) -> Result<Vec<Listed>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS}, e.title, d.starts, '' AS last,
            (SELECT count(*) FROM attendees a WHERE a.booking_id = b.id AND a.position = a.person_no AND a.cancelled_at IS NULL) AS people
         FROM bookings b JOIN dates d ON d.id = b.date_id JOIN events e ON e.id = d.event_id
         WHERE b.mailbox = ?1 AND lower(b.email) = lower(?2) AND b.state <> 'lapsed' AND b.test = 0
         ORDER BY d.starts_at DESC LIMIT 200"
    ))
    .and_then(|mut q| q.query_map((mailbox(email), email.trim()), list::listed)?.collect())
    .doing("looking for somebody's bookings")
}

/// Forgets the test bookings of an event, all about them with them; says how many.
///
/// # Errors
/// SQLite refuses.
pub fn clear_tests(tx: &Tx<'_>, event: matricle_core::EventId) -> Result<usize, StoreError> {
    let tests = "(SELECT b.id FROM bookings b JOIN dates d ON d.id = b.date_id WHERE d.event_id = ?1 AND b.test = 1)";
    let write = || -> rusqlite::Result<usize> {
        for table in
            ["deeds", "outbox", "timeline", "answers", "booking_lines", "booking_draws", "payments"]
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
        tx.execute(&format!("DELETE FROM booking_words WHERE rowid IN {tests}"), [event.0])?;
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

/// Adds a private note.
///
/// # Errors
/// SQLite refuses.
pub fn note(
    tx: &Tx<'_>,
    id: BookingId,
    who: &str,
    text: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT INTO booking_notes (booking_id, at, who, text) VALUES (?1, ?2, ?3, ?4)",
    )
    .and_then(|mut q| q.execute((id.0, us(now), who, text)))
    .map(drop)
    .doing("writing a note")
}

/// The private notes of a booking, the latest first.
///
/// # Errors
/// SQLite refuses.
pub fn notes(conn: &Connection, id: BookingId) -> Result<Vec<Happening>, StoreError> {
    conn.prepare_cached(
        "SELECT at, who, text AS what FROM booking_notes WHERE booking_id = ?1 ORDER BY id DESC",
    )
    .and_then(|mut q| {
        q.query_map([id.0], |row| {
            Ok(Happening { at: instant(row, "at")?, who: row.get("who")?, what: row.get("what")? })
        })?
        .collect()
    })
    .doing("reading notes")
}

/// Gives a person of a booking another name, on all its dates.
///
/// # Errors
/// SQLite refuses.
pub fn rename(tx: &Tx<'_>, booking: &Booking, person: usize, name: &str) -> Result<(), StoreError> {
    tx.touch(booking.date);
    let words = fold(&format!("{name} {} {}", booking.name, booking.reference));
    let person = i64::try_from(person).unwrap_or(i64::MAX);
    tx.prepare_cached(
        "UPDATE attendees SET name = ?3, search = ?4 WHERE booking_id = ?1 AND person_no = ?2",
    )
    .and_then(|mut q| q.execute((booking.id.0, person, name, words)))
    .doing("renaming somebody")?;
    tx.prepare_cached("UPDATE bookings SET search = search || ' ' || ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((booking.id.0, fold(name))))
        .and_then(|_| list::index(tx, booking.id))
        .doing("renaming somebody")
}

/// Gives a person of a booking new ticket codes; the old ones die, and the door knows them
/// as passed on.
///
/// # Errors
/// SQLite refuses.
pub fn new_codes(
    tx: &Tx<'_>,
    booking: &Booking,
    person: usize,
    mut code: impl FnMut() -> TicketCode,
    now: Timestamp,
) -> Result<(), StoreError> {
    let person = i64::try_from(person).unwrap_or(i64::MAX);
    let mut write = || -> rusqlite::Result<()> {
        let rows: Vec<i64> = tx
            .prepare_cached("SELECT id FROM attendees WHERE booking_id = ?1 AND person_no = ?2")?
            .query_map((booking.id.0, person), |row| row.get(0))?
            .collect::<Result<_, _>>()?;
        for id in rows {
            tx.prepare_cached(
                "INSERT INTO dead_codes (code, attendee_id, died_at) SELECT code, id, ?2 FROM attendees WHERE id = ?1",
            )?
            .execute((id, us(now)))?;
            tx.prepare_cached("UPDATE attendees SET code = ?2 WHERE id = ?1")?
                .execute((id, lines::unused(tx, &mut code)?.as_str()))?;
        }
        Ok(())
    };
    write().doing("giving new ticket codes")
}

/// Moves a booking to another date, its people and seats with it; sessions of the old date
/// are left.
///
/// # Errors
/// SQLite refuses.
pub fn move_to(
    tx: &Tx<'_>,
    booking: &Booking,
    date: DateId,
    draws: &[Draw],
) -> Result<(), StoreError> {
    let old: Vec<(i64, i64)> = tx
        .prepare_cached("SELECT pool_id, seats FROM booking_draws WHERE booking_id = ?1")
        .and_then(|mut q| {
            q.query_map([booking.id.0], |row| Ok((row.get(0)?, row.get(1)?)))?.collect()
        })
        .doing("reading what a booking draws")?;
    for (pool, seats) in old {
        shift_pool(tx, booking, pool, -seats)?;
    }
    let write = || -> rusqlite::Result<()> {
        tx.prepare_cached(
            "DELETE FROM sign_ups WHERE attendee_id IN (SELECT id FROM attendees WHERE booking_id = ?1)",
        )?
        .execute([booking.id.0])?;
        tx.prepare_cached("UPDATE attendees SET date_id = ?2 WHERE booking_id = ?1")?
            .execute((booking.id.0, date.0))?;
        tx.prepare_cached("UPDATE bookings SET date_id = ?2 WHERE id = ?1")?
            .execute((booking.id.0, date.0))?;
        Ok(())
    };
    write().doing("moving a booking to another date")?;
    for draw in draws.iter().filter(|_| !booking.test) {
        draw_more(tx, booking, draw)?;
    }
    tx.touch(date);
    Ok(())
}
