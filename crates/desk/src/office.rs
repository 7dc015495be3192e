//! What the Office shows.

pub mod person;

use matricle_core::CueId;
use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use matricle_core::booking::State;
use matricle_core::people::staff::{Right, require};
use matricle_core::words::codes::Reference;
use matricle_core::{BookingId, DateId, EventId};
use matricle_store::aside::{self, Aside};
use matricle_store::bookings::{self, Booking, Filter, Found, Listed, Note};
use matricle_store::events::{
    self, Choices, Date, DateSummary, Event, EventRow, EventState, SlotPlan, Sought, TicketRow,
};
use matricle_store::house::House;
use matricle_store::letters::{self, Letter, List};
use matricle_store::outbox::{self, Counted, Look, Message};
use matricle_store::people::Staff;
use matricle_store::places::{self, Change};
use matricle_store::refunds::{self, Refund};
use matricle_store::sessions::{self, Session};
use matricle_store::{complaints, online, slots, submissions};

use crate::bookings::whole::{self, WholeBooking};
use crate::house::backup;
use crate::planning::board::Instead;
use crate::rounds::{Fares, Work};
use crate::{Clash, Desk, DeskError, house_of};

/// So many bookings that ask, or are to be paid, are named on Today; the others are counted.
pub const SHOWN: u32 = 12;

/// Today at the Office.
#[derive(Debug, Clone)]
pub struct Today {
    /// The house.
    pub house: House,
    /// Dates under way or starting within a week, soonest first.
    pub dates: Vec<DateSummary>,
    /// Messages that could not be sent, with the reference of the booking of each, if any.
    pub messages: Vec<(Message, Option<String>)>,
    /// Money to be given back by hand, with reference and name of the booking.
    pub to_give_back: Vec<(Refund, String, String)>,
    /// Bookings that ask for an answer: the first of them, and how many there are.
    pub asking: Found,
    /// Bookings that are to be paid, likewise.
    pub to_pay: Found,
    /// Events with bookers to ring, because they gave no address: how many of each.
    pub to_ring: Vec<(EventId, String, u32)>,
    /// How many submissions wait for a reviewer, and since when the oldest does.
    pub to_review: (u32, Option<Timestamp>),
    /// How many complaints nobody has decided on.
    pub complaints: u32,
    /// Rows of what runs by itself that failed and are tried again.
    pub aside: Vec<Aside>,
    /// How what runs by itself fares.
    pub fares: Vec<(Work, Fares)>,
    /// The last backup, when and where it lies.
    pub backup: Option<backup::LastBackup>,
    /// It is older than it should be, or there is none where somebody wants one.
    pub backup_late: bool,
    /// Dates online of the next day whose room is not known: title, date, start.
    pub without_room: Vec<(String, DateId, Timestamp)>,
    /// So many letters lie in the tray.
    pub tray: u32,
    /// So many letters found their place and wait for an answer.
    pub to_answer: u32,
    /// Rows of the house's file that cannot be read: left out wherever they stand.
    pub left_out: Vec<String>,
    /// So many mails could not be read, and are kept as they came.
    pub unreadable: u32,
    /// Bookings to come whose address refuses mail: reference, booker, what was said.
    pub unreachable: Vec<(String, String, String)>,
}

/// What is on, and what needs doing.
pub async fn today(desk: &Desk, staff: &Staff) -> Result<Today, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let (now, fares) = (desk.clock.now(), desk.health.all());
    let (database, backups) = (desk.store.path().to_owned(), desk.backups.clone());
    desk.store
        .read(move |conn| {
            let backup = backup::last(&database);
            let until = now + SignedDuration::from_hours(7 * 24);
            let asked =
                Sought { staff: true, between: Some((now, until)), most: 200, ..Sought::default() };
            let mut dates = events::list(conn, &asked, now)?.dates;
            // Slots stand here once somebody has booked them.
            dates.retain(|d| {
                d.event.state == EventState::Published
                    && d.date.called_off.is_empty()
                    && (!d.slot || d.pool.taken.total() > 0)
            });
            let waiting = |state| {
                let filter = Filter { state: Some(state), most: SHOWN, ..Filter::default() };
                bookings::list(conn, &filter)
            };
            Ok(Today {
                house: house_of(conn)?,
                dates,
                messages: outbox::in_trouble(conn)?,
                to_give_back: refunds::open_ones(conn)?
                    .into_iter()
                    .filter(|(r, ..)| r.by_hand)
                    .collect(),
                asking: waiting(State::Requested)?,
                to_pay: waiting(State::AwaitingPayment)?,
                to_ring: outbox::to_ring(conn)?,
                to_review: submissions::waits(conn)?,
                complaints: complaints::count_open(conn)?,
                aside: aside::all(conn)?,
                without_room: online::without_room(
                    conn,
                    now,
                    now + SignedDuration::from_hours(24),
                )?,
                tray: letters::count(conn, List::Tray)?,
                to_answer: letters::count(conn, List::ToAnswer)?,
                left_out: matricle_store::unreadable::noted(),
                unreadable: letters::count(conn, List::Unreadable)?,
                unreachable: letters::unreachable(conn, now, SHOWN)?,
                fares,
                backup_late: backups.late(backup.as_ref().map(|b| b.at), now),
                backup,
            })
        })
        .await
}

/// All events, those with the latest end first.
pub async fn events(desk: &Desk, staff: &Staff) -> Result<(House, Vec<EventRow>), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store.read(move |conn| Ok((house_of(conn)?, events::rows(conn)?))).await
}

/// The dates that somebody leads, and who comes to each.
pub async fn own_dates(
    desk: &Desk,
    staff: &Staff,
) -> Result<(House, Vec<(DateSummary, Vec<matricle_store::door::AtDoor>)>), DeskError> {
    require(staff.role, Right::SeeOwnDates)?;
    let (now, me) = (desk.clock.now(), staff.id);
    desk.store
        .read(move |conn| {
            let mut dates = Vec::new();
            for host in places::hosts(conn)?.into_iter().filter(|h| h.person == Some(me)) {
                let asked = Sought {
                    staff: true,
                    host: Some(host.id),
                    most: u32::MAX,
                    ..Sought::default()
                };
                for date in events::list(conn, &asked, now)?.dates {
                    let people = matricle_store::door::by_words(conn, date.date.id, "", u32::MAX)?;
                    dates.push((date, people));
                }
            }
            dates.sort_by_key(|(d, _)| d.date.span.starts_at);
            Ok((house_of(conn)?, dates))
        })
        .await
}

/// An event at the Office.
#[derive(Debug, Clone)]
pub struct EventSheet {
    /// The house.
    pub house: House,
    /// The event.
    pub event: Event,
    /// Its dates with their seats; of slots only those that somebody has booked.
    pub dates: Vec<Choices>,
    /// How its slots are cut, if it has slots, and how many are free.
    pub slots: Option<(SlotPlan, u32)>,
    /// Its repeat rules.
    pub runs: Vec<(i64, String, u32)>,
    /// What its coming dates clash with, and ways out.
    pub clashes: Vec<(Vec<Clash>, Instead)>,
    /// Sessions by date.
    pub sessions: Vec<(DateId, Vec<Session>)>,
    /// It has a picture.
    pub pictured: bool,
    /// Test bookings.
    pub tests: u32,
    /// The latest of them, with how they stand.
    pub latest_tests: Vec<(Reference, State)>,
    /// The log of its changes.
    pub changes: Vec<Change>,
    /// What its cues came to.
    pub messages: Vec<(Option<CueId>, String, Counted)>,
    /// Its latest bookings.
    pub latest: Vec<Listed>,
    /// How many bookings count.
    pub bookings: u32,
    /// When the first booking was made.
    pub first_booking: Option<Timestamp>,
    /// The latest letters about it that belong to no booking, and how many there are.
    pub letters: (Vec<Letter>, u32),
}

/// So many letters stand on the sheet of an event.
const LETTERS: u32 = 5;

/// The sheet of an event.
///
/// # Errors
/// The role may not, there is no such event, or the store fails.
pub async fn event(desk: &Desk, staff: &Staff, id: EventId) -> Result<EventSheet, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let house = house_of(conn)?;
            let event = events::by_id(conn, id)?.ok_or(DeskError::NotFound)?;
            let all = events::dates_of(conn, id)?;
            let plan = slots::plan_of(conn, id)?;
            let mut dates = Vec::new();
            let mut free = 0;
            let mut with_sessions = Vec::new();
            for date in &all {
                if plan.is_some() {
                    let pools = events::pools(conn, date.id, now)?;
                    if date.span.starts_at > now && pools.iter().all(|p| p.free() > 0) {
                        free += 1;
                    }
                    if pools.iter().all(|p| p.taken.total() == 0) {
                        continue;
                    }
                }
                dates.extend(events::choices_of_date(conn, house.currency, date.id, now)?);
                let sessions = sessions::of_date(conn, date.id)?;
                if !sessions.is_empty() {
                    with_sessions.push((date.id, sessions));
                }
            }
            let clashes = if plan.is_some() {
                Vec::new()
            } else {
                crate::planning::board::of_event(conn, &all, now)?
            };
            let filter = Filter { event: Some(id), most: 8, ..Filter::default() };
            let latest = bookings::list(conn, &filter)?.rows;
            let about = format!("/office/events/{id}");
            Ok(EventSheet {
                event,
                dates,
                messages: outbox::of_event(conn, id)?,
                latest,
                bookings: bookings::count_live(conn, id)?,
                first_booking: bookings::first_made(conn, id)?,
                letters: (
                    letters::list(conn, List::Event(id), 0, LETTERS)?,
                    letters::count(conn, List::Event(id))?,
                ),
                slots: plan.map(|p| (p, free)),
                runs: events::runs_of(conn, id)?,
                clashes,
                sessions: with_sessions,
                tests: bookings::count_tests(conn, id)?,
                latest_tests: bookings::tests_of(conn, id, 10)?,
                pictured: events::picture(conn, id)?.is_some(),
                changes: places::changes(conn, Some(&about), 0, 12)?,
                house,
            })
        })
        .await
}

/// One date with its seats, for a sheet that keeps itself up to date.
///
/// # Errors
/// The role may not, there is no such date, or the store fails.
pub async fn date(desk: &Desk, staff: &Staff, date: DateId) -> Result<Choices, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let house = house_of(conn)?;
            events::choices_of_date(conn, house.currency, date, now)?.ok_or(DeskError::NotFound)
        })
        .await
}

/// Dates on a day of some months, of any event, drafts too: those to come first.
pub async fn dates_on(
    desk: &Desk,
    staff: &Staff,
    months: Vec<u8>,
    day: u8,
) -> Result<Vec<DateSummary>, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let now = desk.clock.now();
    let year = SignedDuration::from_hours(24 * 366);
    desk.store
        .read(move |conn| {
            let is_on = |d: &DateSummary| {
                let on = d.date.span.starts.date();
                u8::try_from(on.day()) == Ok(day)
                    && months.iter().any(|m| i8::try_from(*m) == Ok(on.month()))
            };
            let mut found = Vec::new();
            for between in [(now, now + year), (now - year, now)] {
                let asked = Sought {
                    staff: true,
                    off: true,
                    between: Some(between),
                    most: u32::MAX,
                    ..Sought::default()
                };
                let dates = events::list(conn, &asked, now)?.dates;
                for date in dates.into_iter().filter(is_on) {
                    if found.iter().all(|f: &DateSummary| f.date.id != date.date.id) {
                        found.push(date);
                    }
                }
            }
            Ok(found)
        })
        .await
}

/// Who comes to one date of an event, or to those of some days.
#[derive(Debug, Clone)]
pub struct WhoComes {
    /// The house.
    pub house: House,
    /// The event.
    pub event: Event,
    /// Its dates, for choosing one.
    pub dates: Vec<Date>,
    /// Bookings of the event that count.
    pub bookings: u32,
    /// Its slots are dates too, so many that they are looked at by days.
    pub slots: bool,
    /// Everybody who comes.
    pub people: Vec<bookings::Coming>,
}

/// Who comes to an event.
///
/// # Errors
/// The role may not, there is no such event, or the store fails.
pub async fn who_comes(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    which: bookings::Which,
) -> Result<WhoComes, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            Ok(WhoComes {
                house: house_of(conn)?,
                event: events::by_id(conn, event)?.ok_or(DeskError::NotFound)?,
                dates: events::dates_of(conn, event)?,
                bookings: bookings::count_live(conn, event)?,
                slots: slots::plan_of(conn, event)?.is_some(),
                people: bookings::coming(conn, event, which)?,
            })
        })
        .await
}

/// Bookings by words, and what was answered with them.
#[derive(Debug, Clone)]
pub struct BookingList {
    /// The house.
    pub house: House,
    /// The rows asked for.
    pub rows: Vec<Listed>,
    /// How many the filter finds in all.
    pub count: u32,
    /// The questions that the rows have answers to, in the order they are met; empty unless
    /// answers were asked for.
    pub questions: Vec<String>,
    /// Answers by booking and question.
    pub answers: BTreeMap<i64, BTreeMap<String, String>>,
}

/// Bookings by words.
pub async fn bookings(
    desk: &Desk,
    staff: &Staff,
    filter: Filter,
    with_answers: bool,
) -> Result<BookingList, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            let Found { rows, count } = bookings::list(conn, &filter)?;
            let ids: Vec<BookingId> = rows.iter().map(|r| r.booking.id).collect();
            let given = if with_answers { bookings::answers_of(conn, &ids)? } else { Vec::new() };
            let (mut questions, mut answers) = (Vec::new(), BTreeMap::new());
            for (booking, label, answer) in given {
                if !questions.contains(&label) {
                    questions.push(label.clone());
                }
                let of_booking: &mut BTreeMap<String, String> =
                    answers.entry(booking.0).or_default();
                // Each person's answer to one question stands in one cell.
                let cell = of_booking.entry(label).or_default();
                if !cell.is_empty() {
                    cell.push_str("; ");
                }
                cell.push_str(&answer.replace('\n', ", "));
            }
            Ok(BookingList { house: house_of(conn)?, rows, count, questions, answers })
        })
        .await
}

/// Bookings by their references; those there are none of are left out.
pub async fn by_references(
    desk: &Desk,
    staff: &Staff,
    references: Vec<Reference>,
) -> Result<Vec<Booking>, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            let mut found = Vec::new();
            for reference in references {
                found.extend(bookings::by_reference(conn, reference)?);
            }
            Ok(found)
        })
        .await
}

/// A booking at the Office.
#[derive(Debug, Clone)]
pub struct OfficeBooking {
    /// The booking.
    pub sheet: WholeBooking,
    /// Its messages, in the order of their minutes.
    pub messages: Vec<outbox::Found>,
    /// Notes that no booker sees, the latest first.
    pub notes: Vec<Note>,
    /// The ticket types of its event.
    pub tickets: Vec<TicketRow>,
    /// Other dates of its event that are to come.
    pub other_dates: Vec<Date>,
}

/// A booking at the Office, with everything about it.
///
/// # Errors
/// The role may not, there is no such booking, or the store fails.
pub async fn booking(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
) -> Result<OfficeBooking, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let sheet = whole::find(conn, reference)?;
            let mut other_dates = events::dates_of(conn, sheet.event.id)?;
            other_dates.retain(|d| {
                d.id != sheet.date.id && d.called_off.is_empty() && d.span.starts_at > now
            });
            other_dates.truncate(60);
            let of_this = Look { booking: Some(sheet.booking.id), ..Look::default() };
            Ok(OfficeBooking {
                messages: outbox::find(conn, &of_this, 0, u32::MAX)?.0,
                notes: bookings::notes(conn, sheet.booking.id)?,
                tickets: events::ticket_rows(conn, sheet.event.id)?,
                other_dates,
                sheet,
            })
        })
        .await
}
