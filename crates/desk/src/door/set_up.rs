//! What holds at the doors of a date: their names and what each is for, in and out, how many may
//! be inside, when seats are given up.

use jiff::SignedDuration;
use matricle_core::door::Door;
use matricle_core::fields;
use matricle_core::forms::field::{Binding, Locale};
use matricle_core::forms::form::{Fault, Form};
use matricle_core::people::staff::{Right, require};
use matricle_core::words::codes::Reference;
use matricle_core::{AttendeeId, DateId, TicketTypeId};
use matricle_store::bookings;
use matricle_store::door::{self as db, AtDoors, Doorway};
use matricle_store::events::{self, DateSummary, EventState, Sought};
use matricle_store::people::Staff;

use super::rooms::{self, InRoom};
use crate::badges::at_the_door;
use crate::{Desk, DeskError};

fields! {
    DOOR_NOTE: Line = "door_note", "What the door is told when they are scanned",
        "Such as: speaker, take to the green room. Left empty, nothing.";
    WHY: Line = "why", "Why the limit may be passed" needed;
    MOST: WholeOrNone(0, 100_000) = "most", "The most that may be inside at once",
        "Left empty, there is no limit.";
    GIVE_UP: WholeOrNone(0, 1440) = "give_up", "Seats of those who have not come are given up",
        "Minutes after the start; left empty, never.";
    BADGE_SHEET: Choice = "badge_sheet", "Badges printed at the door",
        "What lies in the printer there.";
    AGAIN: Tick = "again", "Whoever goes out may come in again";
    FREE_AFTER: Whole(0, 240) = "free_after", "At the door of a room, seats of sign-ups who have not come are free",
        "Minutes after the session's start.";
}

/// How far back and how far ahead doors are listed.
const BEFORE: SignedDuration = SignedDuration::from_hours(24);
const AHEAD: SignedDuration = SignedDuration::from_hours(24 * 7);
/// Most doors of a date.
pub const MOST_DOORS: usize = 12;
/// Minutes after a session's start at which seats of sign-ups are free, where nothing is said.
const USUAL_FREE_AFTER: u32 = 5;

/// The doors of a date, with what they may be for.
#[derive(Debug, Clone)]
pub struct SetUp {
    /// The event.
    pub event: events::Event,
    /// The date.
    pub date: events::Date,
    /// What holds at its doors.
    pub doorway: Doorway,
    /// Its doors that have names of their own.
    pub doors: Vec<Door>,
    /// Its ticket types by name.
    pub tickets: Vec<(TicketTypeId, String)>,
    /// Its sessions, with who is there.
    pub sessions: Vec<InRoom>,
}

impl SetUp {
    /// Rooms where sessions are.
    #[must_use]
    pub fn rooms(&self) -> Vec<&str> {
        let mut rooms: Vec<&str> = self.sessions.iter().map(|s| s.session.room.as_str()).collect();
        rooms.retain(|room| !room.is_empty());
        rooms.sort_unstable();
        rooms.dedup();
        rooms
    }
}

/// The dates of the next week, and those of a day ago, by time.
pub async fn near(desk: &Desk, staff: &Staff) -> Result<Vec<DateSummary>, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let (from, until) = (now - BEFORE, now + AHEAD);
            let asked =
                Sought { staff: true, between: Some((from, until)), most: 60, ..Sought::default() };
            let mut dates = events::list(conn, &asked, now)?.dates;
            dates.retain(|d| d.date.called_off.is_empty() && d.event.state != EventState::Draft);
            Ok(dates)
        })
        .await
}

/// What holds at the doors of a date.
///
/// # Errors
/// There is no such date; the role may not.
pub async fn set_up(desk: &Desk, staff: &Staff, date: DateId) -> Result<SetUp, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            let (event, on) = events::date_by_id(conn, date)?.ok_or(DeskError::NotFound)?;
            let doorway = db::doorway(conn, date)?.ok_or(DeskError::NotFound)?;
            let doors = db::doors(conn, date)?;
            let tickets = db::ticket_names(conn, event.id)?;
            let sessions = rooms::of_date(conn, date, &doorway)?;
            Ok(SetUp { event, date: on, doorway, doors, tickets, sessions })
        })
        .await
}

/// The form of what holds at all doors of a date.
pub fn form(f: &mut Binding<'_>, at: &mut AtDoors) {
    f.bind(&MOST, &mut at.most_inside);
    f.bind(&GIVE_UP, &mut at.give_up_minutes);
    f.bind(&BADGE_SHEET, &mut at.badge_sheet);
    f.bind(&AGAIN, &mut at.again);
    f.bind(&FREE_AFTER, &mut at.free_after_minutes);
}

/// Sets it: `again`, `most`, `give_up`, `free_after`, `badge_sheet`, and for each door `name_0`, `tickets_0` (keys)
/// and `room_0`.
///
/// # Errors
/// A number that is none, a door without name or twice; the role may not.
pub async fn keep(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            let (event, on) = events::date_by_id(tx, date)?.ok_or(DeskError::NotFound)?;
            let known: Vec<TicketTypeId> =
                db::ticket_names(tx, event.id)?.into_iter().map(|t| t.0).collect();
            let mut at = AtDoors { free_after_minutes: USUAL_FREE_AFTER, ..AtDoors::default() };
            self::form(&mut Binding::Read(&mut form, &Locale::default()), &mut at);
            let sessions = events::sessions::of_date(tx, date)?;
            let mut doors: Vec<Door> = Vec::new();
            for n in 0..MOST_DOORS {
                let field = format!("name_{n}");
                let name = form.line(&field);
                let chosen = form.all(&format!("tickets_{n}"));
                let tickets: Vec<TicketTypeId> = chosen
                    .iter()
                    .filter_map(|id| id.parse().ok().map(TicketTypeId))
                    .filter(|id| known.contains(id))
                    .collect();
                let room = form.line(&format!("room_{n}"));
                if !room.is_empty() && !sessions.iter().any(|s| s.room == room) {
                    form.fault(format!("room_{n}"), Fault::Unknown);
                }
                match name.as_str() {
                    "" if tickets.is_empty() => {}
                    "" => form.fault(&field, Fault::Missing),
                    name if doors.iter().any(|d| d.name == *name) => {
                        form.fault(&field, Fault::Taken);
                    }
                    _ => doors.push(Door { name, tickets, room }),
                }
            }
            let sheet = &at.badge_sheet;
            if !sheet.is_empty() && !at_the_door().any(|name| name == sheet) {
                form.fault(BADGE_SHEET, Fault::Unknown);
            }
            form.done().map_err(DeskError::Form)?;
            at.doors = doors;
            db::set_doors(tx, date, &at)?;
            let when = matricle_formats::words::long_span(on.span.starts, on.span.ends);
            crate::planning::dates::log(tx, event.id, &turn, &format!("set the doors of {when}"))
        })
        .await
}

/// What the door is told when somebody of a booking is scanned; empty for nothing.
///
/// # Errors
/// It is too long; they are not on this booking; the role may not.
pub async fn note(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    attendee: AttendeeId,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    desk.store
        .write(move |tx| {
            let note = form.take(&DOOR_NOTE);
            form.done().map_err(DeskError::Form)?;
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            let person = db::by_id(tx, attendee)?.filter(|p| p.booking == booking.id);
            let person = person.ok_or(DeskError::NotFound)?;
            // Of a course it holds on every date.
            db::set_note(tx, attendee, &note)?;
            let what = match note.as_str() {
                "" => format!("took back what the door is told of {}", person.name),
                note => format!("the door is told of {}: {note}", person.name),
            };
            Ok(bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?)
        })
        .await
}

/// Asks to hear, by mail to one's own address, when somebody of a booking comes; or asks no more.
///
/// # Errors
/// They are not on this booking; the role may not.
pub async fn await_one(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
    attendee: AttendeeId,
    awaits: bool,
) -> Result<(), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let person = staff.id;
    desk.store
        .write(move |tx| {
            let booking = bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
            let who = db::by_id(tx, attendee)?.filter(|p| p.booking == booking.id);
            let who = who.ok_or(DeskError::NotFound)?;
            Ok(db::set_awaited(tx, who.facts.attendee, person, awaits)?)
        })
        .await
}

/// Of whom on a booking somebody of the house asked to hear.
pub async fn awaited(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
) -> Result<Vec<AttendeeId>, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let person = staff.id;
    desk.store
        .read(move |conn| {
            let booking = bookings::by_reference(conn, reference)?.ok_or(DeskError::NotFound)?;
            Ok(db::awaited_of(conn, booking.id, person)?)
        })
        .await
}

/// Lifts the limit of how many may be inside, with a reason, or lets it hold again.
///
/// # Errors
/// No reason; there is no such date; the role may not.
pub async fn lift(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
    lifted: bool,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    desk.store
        .write(move |tx| {
            let (event, on) = events::date_by_id(tx, date)?.ok_or(DeskError::NotFound)?;
            let why = if lifted { form.take(&WHY) } else { form.line(WHY.name) };
            form.done().map_err(DeskError::Form)?;
            let (by, why) = if lifted { (turn.by.name.as_str(), why.as_str()) } else { ("", "") };
            db::set_lifted(tx, date, by, why)?;
            let when = matricle_formats::words::long_span(on.span.starts, on.span.ends);
            let what = match lifted {
                true => format!("lifted the limit of {when}: {why}"),
                false => format!("let the limit of {when} hold again"),
            };
            crate::planning::dates::log(tx, event.id, &turn, &what)
        })
        .await
}
