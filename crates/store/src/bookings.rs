//! Bookings, their lines, attendees, answers and timeline.

mod charge;
mod coming;
mod deeds;
mod lines;
mod list;
mod look;
mod people;
mod seats;

use std::collections::BTreeMap;

use jiff::Timestamp;
use matricle_core::booking::details::{Details, Draft, Question};
use matricle_core::booking::{Choice, State};
use matricle_core::money::line_worth::is_charged;
use matricle_core::money::price::Buyer;
use matricle_core::people::acting::{Acting, Actor};
use matricle_core::people::who::mailbox;
use matricle_core::words::codes::{Reference, TicketCode};
use matricle_core::words::fold;
use matricle_core::{BookingId, Currency, DateId, Money, PersonId, QuestionId};
use rusqlite::{Connection, OptionalExtension, Row};
use seats::{draw_more, shift, shift_pool};

pub use charge::charge;
pub use coming::{Coming, Which, came_and_left, coming, new_of_date};
pub use deeds::{Deed, LastDeed, last_deed, more, put_back, remember};
pub use lines::{
    ChargedLine, add_on, charge_less, choose_again, lines, price_anew, reprice, restore_charges,
    set_price, set_total, take_off, tickets_of_numbers, wanted, worth,
};
pub use list::{Filter, Found, Listed, MOST_COUNTED, Order, answers_of, list};
pub use look::{
    anybody, booked_already, count_live, count_tests, first_made, kept, live_on, next_deadline,
    of_address, overdue, paid_tests, passed_to, same_date, stale_holds, tests_of, undecided,
    unfinished_of,
};
pub(crate) use people::presence;
pub use people::{
    Answer, Attendee, answers, attendees, new_codes, of_ticket, rename, set_holder,
    tickets_of_people,
};
pub use seats::{move_to, seats_of, set_draws};

use crate::convert::{InOrder, instant, word};
use crate::events::Choices;
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
    /// The booker's telephone number, where somebody at the house wrote it down.
    pub phone: String,
    /// When the seats were first held.
    pub made_at: Timestamp,
    /// Made to try the steps out: takes no seats, counts nowhere.
    pub test: bool,
    /// What was known of the booker when the seats were chosen.
    pub buyer: Buyer,
    /// The earliest start of the dates that the booker moved it away from, if they did.
    pub steps_from: Option<Timestamp>,
    /// The browser and the network that hold it, as hashes; 0 is unknown.
    pub held_from: (i64, i64),
    /// How often what its calendar entry says has changed, besides its dates.
    pub calendar_steps: i64,
    /// Nothing for a calendar goes with its mails.
    pub calendar_off: bool,
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
        self.state.is_owed(self.due().minor)
    }

    /// Whether somebody has to be told when it moves or falls out: a hold has no booker yet.
    #[must_use]
    pub fn is_told(&self) -> bool {
        self.state != State::Held && !self.name.is_empty()
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
    /// Their browser and their network, as hashes; 0 is unknown.
    pub from: (i64, i64),
}

/// One line of a timeline.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Happening {
    /// When.
    pub at: Timestamp,
    /// Who did it, with the name they went by then.
    pub who: Acting,
    /// What it was.
    pub what: String,
}

/// A private note.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Note {
    /// When.
    pub at: Timestamp,
    /// Who wrote it.
    pub who: String,
    /// What it says.
    pub text: String,
}

const COLUMNS: &str = "(SELECT currency FROM house), b.id, b.reference, b.date_id, b.state, b.deadline, \
     b.total_minor, b.paid_minor, b.draft, b.name, b.email, b.made_at, b.test, b.word, b.member, b.known_as, \
     b.steps_from, b.by_browser, b.by_network, b.phone, b.calendar_steps, b.calendar_off";

fn booking(row: &Row<'_>) -> rusqlite::Result<Booking> {
    let mut c = InOrder::from(row, 0);
    let currency = c.word("house.currency", Currency::from_letters)?;
    Ok(Booking {
        id: BookingId(c.next()?),
        reference: c.word("bookings.reference", Reference::parse)?,
        date: DateId(c.next()?),
        state: c.word("bookings.state", State::from_word)?,
        deadline: c.instant_or()?,
        total: currency.of(c.next()?),
        paid: currency.of(c.next()?),
        draft: parse_draft(c.next()?)?,
        name: c.next()?,
        email: c.next()?,
        made_at: c.instant()?,
        test: c.next()?,
        buyer: Buyer {
            word: c.next()?,
            member: c.next()?,
            address: c.next()?,
            // Codes are read where a price is asked for.
            promos: Vec::new(),
        },
        steps_from: c.instant_or()?,
        held_from: (c.next()?, c.next()?),
        phone: c.next()?,
        calendar_steps: c.next()?,
        calendar_off: c.next()?,
    })
}

fn parse_draft(text: String) -> rusqlite::Result<Draft> {
    match text.as_str() {
        "{}" => Ok(Draft::default()),
        // What was typed and not sent in yet: the booking stands without it.
        json => Ok(serde_json::from_str(json).unwrap_or_else(|error| {
            crate::unreadable::note("what was typed into a booking", &error);
            Draft::default()
        })),
    }
}

fn draft_json(draft: &Draft) -> rusqlite::Result<String> {
    serde_json::to_string(draft).map_err(|e| rusqlite::Error::ToSqlConversionFailure(e.into()))
}

/// Finds a booking by its reference.
pub fn by_reference(
    conn: &Connection,
    reference: Reference,
) -> Result<Option<Booking>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM bookings b WHERE b.reference = ?1"))
        .and_then(|mut q| q.query_row([reference.as_str()], booking).optional())
        .doing("looking a booking up")
}

/// Where a booking stands, and nothing else of it.
pub fn state_of(conn: &Connection, reference: Reference) -> Result<Option<State>, StoreError> {
    conn.prepare_cached("SELECT state FROM bookings WHERE reference = ?1")
        .and_then(|mut q| {
            q.query_row([reference.as_str()], |row| {
                InOrder::from(row, 0).word("bookings.state", State::from_word)
            })
            .optional()
        })
        .doing("asking where a booking stands")
}

/// Finds a booking by its key.
pub fn by_id(conn: &Connection, id: BookingId) -> Result<Option<Booking>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM bookings b WHERE b.id = ?1"))
        .and_then(|mut q| q.query_row([id.0], booking).optional())
        .doing("looking a booking up")
}

/// Whether a reference is in use.
pub fn reference_taken(conn: &Connection, reference: Reference) -> Result<bool, StoreError> {
    conn.prepare_cached("SELECT EXISTS (SELECT 1 FROM bookings WHERE reference = ?1)")
        .and_then(|mut q| q.query_row([reference.as_str()], |row| row.get(0)))
        .doing("looking a reference up")
}

/// The dates a booking covers, in their order.
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

/// What happened with a booking, oldest first.
pub fn timeline(conn: &Connection, id: BookingId) -> Result<Vec<Happening>, StoreError> {
    conn.prepare_cached(
        "SELECT at, who, what, kind, person_id FROM timeline WHERE booking_id = ?1 ORDER BY id",
    )
    .and_then(|mut q| {
        q.query_map([id.0], |row| {
            Ok(Happening {
                at: instant(row, "at")?,
                who: Acting {
                    kind: word(row, "kind", Actor::from_word)?,
                    key: row.get::<_, Option<i64>>("person_id")?.map(PersonId),
                    name: row.get("who")?,
                },
                what: row.get("what")?,
            })
        })?
        .collect()
    })
    .doing("reading a timeline")
}

/// Adds to the timeline of a booking.
pub fn happened(
    tx: &Tx<'_>,
    id: BookingId,
    now: Timestamp,
    who: &Acting,
    what: &str,
) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT INTO timeline (booking_id, at, who, what, kind, person_id) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
    )
    .and_then(|mut q| {
        let key = who.key.map(|k| k.0);
        q.execute((id.0, us(now), &who.name, what, who.kind.word(), key))
    })
    .map(drop)
    .doing("adding to a timeline")
}

/// Writes a new hold on all that the sheet covers down; its seats are counted from here
/// on. `code` gives a fresh ticket code for each attendee. A test takes no seats.
pub fn hold(
    tx: &Tx<'_>,
    sheet: &Choices,
    reference: Reference,
    choice: &Choice,
    code: impl FnMut() -> TicketCode,
    by: &HeldBy,
    now: Timestamp,
) -> Result<BookingId, StoreError> {
    let date = sheet.covers.first().copied().unwrap_or(sheet.date.id);
    tx.prepare_cached(
        "INSERT INTO bookings (reference, date_id, state, deadline, total_minor, search, made_at, test,
            word, member, known_as, by_browser, by_network)
         VALUES (?1, ?2, 'held', ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)",
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
            by.from.0,
            by.from.1,
        ))
    })
    .doing("writing a hold")?;
    let id = BookingId(tx.last_insert_rowid());
    lines::choose(tx, id, choice, sheet, by.test, code)?;
    let draws = if by.test { &[][..] } else { &choice.draws };
    seats::shift_by(tx, date, draws, None, State::Held)?;
    Ok(id)
}

/// Moves a booking from the state it was seen in to one that core allowed; its seats and the
/// books follow. The deadline is for states that have one.
///
/// # Errors
/// [`StoreError::Elsewhere`] when it is in another state by now; SQLite refuses.
pub fn set_state(
    tx: &Tx<'_>,
    booking: &Booking,
    to: State,
    deadline: Option<Timestamp>,
    now: Timestamp,
) -> Result<(), StoreError> {
    let moved = tx
        .prepare_cached(
            "UPDATE bookings SET state = ?2, deadline = ?3, since = coalesce(?5, since)
             WHERE id = ?1 AND state = ?4",
        )
        .and_then(|mut q| {
            let since = (to == State::Confirmed).then(|| us(now));
            q.execute((booking.id.0, to.word(), deadline.map(us), booking.state.word(), since))
        })
        .doing("moving a booking")?;
    if moved != 1 {
        return Err(StoreError::Elsewhere { booking: booking.id, seen: booking.state });
    }
    shift(tx, booking.id, booking.date, Some(booking.state), to)?;
    // From what is not charged to what is not, or for nothing, the books have nothing to follow.
    let charged = |state| is_charged(state, booking.test) && booking.total.minor != 0;
    if booking.state != State::Cancelled && !charged(booking.state) && !charged(to) {
        return Ok(());
    }
    charge::follow(tx, booking.id, to.word(), now)
}

/// Brings the books to what a booking is charged after a change that is no move.
pub fn follow_books(
    tx: &Tx<'_>,
    id: BookingId,
    what: &str,
    now: Timestamp,
) -> Result<(), StoreError> {
    charge::follow(tx, id, what, now)
}

/// Moves the deadline of a hold or a payment.
pub fn set_deadline(tx: &Tx<'_>, id: BookingId, deadline: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE bookings SET deadline = ?2 WHERE id = ?1 AND deadline IS NOT NULL")
        .and_then(|mut q| q.execute((id.0, us(deadline))))
        .map(drop)
        .doing("moving a deadline")
}

/// Keeps what has been typed.
pub fn keep_draft(tx: &Tx<'_>, id: BookingId, draft: &Draft) -> Result<(), StoreError> {
    draft_json(draft)
        .and_then(|json| {
            tx.prepare_cached("UPDATE bookings SET draft = ?2 WHERE id = ?1")?.execute((id.0, json))
        })
        .map(drop)
        .doing("keeping a draft")
}

/// Writes complete details down: booker, attendees, answers, words to search by.
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
    let words = fold(&search.join(" "));
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
            &words, mailbox(&details.email),
        ))?;
        list::index(tx, booking.id)?;
        if !booking.name.is_empty() {
            // Complete once before: its answers are there.
            tx.prepare_cached("DELETE FROM answers WHERE booking_id = ?1")?
                .execute([booking.id.0])?;
        }
        people::name_all(tx, booking, details)?;
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

/// Writes the booker's telephone number down.
pub fn set_phone(tx: &Tx<'_>, id: BookingId, phone: &str) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE bookings SET phone = ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((id.0, phone)))
        .map(drop)
        .doing("writing a telephone number down")
}

/// Writes the booker down anew: name, address, telephone number; their words are found by, too.
pub fn set_booker(
    tx: &Tx<'_>,
    booking: &Booking,
    (name, email, phone): (&str, &str, &str),
    person: Option<PersonId>,
) -> Result<(), StoreError> {
    let words = fold(&format!("{name} {email}"));
    tx.prepare_cached(
        "UPDATE bookings SET name = ?2, email = ?3, phone = ?4, person_id = ?5, mailbox = ?6,
            search = search || ' ' || ?7 WHERE id = ?1",
    )
    .and_then(|mut q| {
        let person = person.map(|p| p.0);
        q.execute((booking.id.0, name, email, phone, person, mailbox(email), words))
    })
    .and_then(|_| list::index(tx, booking.id))
    .doing("writing the booker down")
}

/// The booker has proved an address.
pub fn prove(tx: &Tx<'_>, id: BookingId, address: &str) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE bookings SET known_as = ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((id.0, address)))
        .map(drop)
        .doing("noting a proved address")
}

/// The booker moves it away from a date that starts at this instant.
pub fn moved_from(tx: &Tx<'_>, id: BookingId, starts_at: Timestamp) -> Result<(), StoreError> {
    tx.prepare_cached(
        "UPDATE bookings SET steps_from = min(coalesce(steps_from, ?2), ?2) WHERE id = ?1",
    )
    .and_then(|mut q| q.execute((id.0, us(starts_at))))
    .map(drop)
    .doing("noting a move")
}

/// Counts money in.
pub fn add_paid(tx: &Tx<'_>, id: BookingId, minor: i64) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE bookings SET paid_minor = paid_minor + ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((id.0, minor)))
        .map(drop)
        .doing("counting money in")
}

/// Forgets the test bookings of an event that never had a payment, all about them with them;
/// says how many. What has had one stays: money may yet come by it.
pub fn clear_tests(tx: &Tx<'_>, event: matricle_core::EventId) -> Result<usize, StoreError> {
    let tests = "(SELECT b.id FROM bookings b JOIN dates d ON d.id = b.date_id WHERE d.event_id = ?1 AND b.test = 1
        AND NOT EXISTS (SELECT 1 FROM payments p WHERE p.booking_id = b.id))";
    let write = || -> rusqlite::Result<usize> {
        tx.execute(
            &format!("DELETE FROM said WHERE outbox_id IN (SELECT id FROM outbox WHERE booking_id IN {tests})"),
            [event.0],
        )?;
        for table in [
            "deeds",
            "to_follow",
            "outbox",
            "timeline",
            "answers",
            "booking_lines",
            "booking_draws",
        ] {
            tx.execute(&format!("DELETE FROM {table} WHERE booking_id IN {tests}"), [event.0])?;
        }
        let people = format!("(SELECT id FROM attendees WHERE booking_id IN {tests})");
        for table in ["sign_ups", "scans", "house_codes"] {
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

/// Adds a private note.
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
pub fn notes(conn: &Connection, id: BookingId) -> Result<Vec<Note>, StoreError> {
    conn.prepare_cached(
        "SELECT at, who, text FROM booking_notes WHERE booking_id = ?1 ORDER BY id DESC",
    )
    .and_then(|mut q| {
        q.query_map([id.0], |row| {
            Ok(Note { at: instant(row, "at")?, who: row.get("who")?, text: row.get("text")? })
        })?
        .collect()
    })
    .doing("reading notes")
}

/// Says whether something for a calendar goes with a booking's mails.
pub fn set_calendar_off(tx: &Tx<'_>, id: BookingId, off: bool) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE bookings SET calendar_off = ?2 WHERE id = ?1")
        .and_then(|mut q| q.execute((id.0, off)))
        .map(drop)
        .doing("keeping what goes to calendars")
}
