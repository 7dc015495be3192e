//! Afterwards: who came and who missed, gone through once, and closed.

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::door::Presence;
use matricle_core::door::passages::Way;
use matricle_core::fields;
use matricle_core::forms::form::Form;
use matricle_core::people::staff::{Right, RightRefusal, require};
use matricle_core::{AttendeeId, DateId};
use matricle_store::door::{self as db, Doorway};
use matricle_store::people::Staff;
use matricle_store::{Connection, Tx, events, outbox};

use super::unscanned;
use crate::acting::Turn;
use crate::{Desk, DeskError};

fields! {
    WHY: Line = "why", "Why it is opened again" needed;
}

matricle_core::worded! {
    /// What is said of somebody.
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum Mark {
        /// They came.
        Came = "came",
        /// They came late.
        CameLate = "came late",
        /// They missed it.
        Missed = "missed",
        /// Nothing is said.
        Open = "open",
    }
}

/// Somebody on the list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// Who.
    pub attendee: AttendeeId,
    /// Their name.
    pub name: String,
    /// Their ticket.
    pub ticket: String,
    /// What is said of them.
    pub mark: Mark,
    /// What the door knows: when they came in, and by which door.
    pub door: Option<(Timestamp, String)>,
}

/// The list of a date.
#[derive(Debug, Clone)]
pub struct Afterwards {
    /// The event.
    pub event: events::Event,
    /// The date.
    pub date: events::Date,
    /// Everybody on a firm booking, by name.
    pub people: Vec<Listed>,
    /// When it was closed, and by whom.
    pub closed: Option<(Timestamp, String)>,
    /// It has begun: before that nobody can have missed it.
    pub begun: bool,
}

/// The list is an organiser's, and that of whoever leads the date: of those who see dates of their
/// own, whoever changes bookings sees all.
fn may(conn: &Connection, staff: &Staff, date: DateId) -> Result<(), DeskError> {
    if require(staff.role, Right::ChangeBookings).is_ok() {
        return Ok(());
    }
    if db::is_led_by(conn, date, staff.id)? {
        return Ok(());
    }
    Err(RightRefusal { role: staff.role, right: Right::ChangeBookings }.into())
}

/// Who came and who missed, as far as it is known.
///
/// # Errors
/// There is no such date; they are no organiser and do not lead it.
pub async fn list(desk: &Desk, staff: &Staff, date: DateId) -> Result<Afterwards, DeskError> {
    require(staff.role, Right::SeeOwnDates)?;
    let (staff, now) = (staff.clone(), desk.clock.now());
    desk.store
        .read(move |conn| {
            may(conn, &staff, date)?;
            let (event, on) = events::date_by_id(conn, date)?.ok_or(DeskError::NotFound)?;
            let doorway = db::doorway(conn, date)?.ok_or(DeskError::NotFound)?;
            let late = db::came_late(conn, date)?;
            let people = db::by_words(conn, date, "", u32::MAX)?
                .into_iter()
                .filter(|p| p.facts.state == State::Confirmed)
                .map(|p| {
                    let id = p.facts.attendee;
                    let first = db::passages(conn, id)?.into_iter().find(|p| p.way == Way::In);
                    let mark = match &p.facts.presence {
                        Presence::In { .. } | Presence::Left if late.contains(&id) => {
                            Mark::CameLate
                        }
                        Presence::In { .. } | Presence::Left => Mark::Came,
                        Presence::Missed => Mark::Missed,
                        Presence::Expected => Mark::Open,
                    };
                    let door = first.map(|p| (p.at, p.door));
                    Ok(Listed { attendee: id, name: p.name, ticket: p.ticket, mark, door })
                })
                .collect::<Result<_, DeskError>>()?;
            let begun = doorway.span.starts_at <= now;
            Ok(Afterwards { event, date: on, people, closed: doorway.closed, begun })
        })
        .await
}

/// What holds at a date whose list is gone through: it has begun, and the list is not closed.
fn open_list(
    conn: &Connection,
    staff: &Staff,
    date: DateId,
    now: Timestamp,
) -> Result<Doorway, DeskError> {
    may(conn, staff, date)?;
    let doorway = db::doorway(conn, date)?.ok_or(DeskError::NotFound)?;
    if doorway.closed.is_some() || doorway.span.starts_at > now {
        return Err(DeskError::ListClosed);
    }
    Ok(doorway)
}

/// Closes the list of a date or opens it, writes down what was done, and lets what is planned for
/// those who came and those who missed it follow.
fn set_closed(
    tx: &Tx<'_>,
    date: DateId,
    closed: bool,
    turn: &Turn,
    what: impl FnOnce(&str) -> String,
) -> Result<(), DeskError> {
    db::set_list_closed(tx, date, closed.then_some((turn.now, turn.by.name.as_str())))?;
    outbox::mark_date(tx, date)?;
    let (event, on) = events::date_by_id(tx, date)?.ok_or(DeskError::NotFound)?;
    let when = matricle_formats::words::long_span(on.span.starts, on.span.ends);
    crate::planning::dates::log(tx, event.id, turn, &what(&when))
}

/// What the door is called with which the list lets somebody in.
pub const LIST: &str = "the list";

/// Says of somebody whether they came. What the door wrote down stays, undone where it was wrong.
///
/// # Errors
/// The list is closed; the date has not begun; no such person is on it; they may not.
pub async fn mark(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
    attendee: AttendeeId,
    mark: Mark,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SeeOwnDates)?;
    let staff = staff.clone();
    desk.store
        .write(move |tx| {
            let doorway = open_list(tx, &staff, date, turn.now)?;
            let person = db::by_id(tx, attendee)?.filter(|p| p.facts.date == date);
            let person = person.filter(|p| p.facts.state == State::Confirmed && !p.facts.test);
            let person = person.ok_or(DeskError::NotFound)?;
            let came = matches!(mark, Mark::Came | Mark::CameLate);
            let here = matches!(person.facts.presence, Presence::In { .. } | Presence::Left);
            if came && !here {
                let at = doorway.span.starts_at.min(turn.now);
                let by = unscanned::By { called: LIST, person: staff.id };
                unscanned::come(tx, &person, by, at, turn.now)?;
            }
            if !came {
                for passage in db::passages(tx, attendee)? {
                    db::undo_scan(tx, passage.scan, turn.now)?;
                }
                let presence =
                    if mark == Mark::Missed { Presence::Missed } else { Presence::Expected };
                db::set_presence(tx, attendee, date, &presence)?;
            }
            db::set_came_late(tx, attendee, mark == Mark::CameLate)?;
            // What is planned for whoever came, and for whoever missed, follows.
            Ok::<_, DeskError>(outbox::mark_date(tx, date)?)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Closes the list: of whom nothing is said missed it. Gives how many missed it in all.
///
/// # Errors
/// It is closed; the date has not begun; they may not.
pub async fn close(desk: &Desk, staff: &Staff, date: DateId) -> Result<u32, DeskError> {
    let turn = desk.turn_of(staff, Right::SeeOwnDates)?;
    let staff = staff.clone();
    let missed = desk
        .store
        .write(move |tx| {
            open_list(tx, &staff, date, turn.now)?;
            let mut missed = 0;
            for person in db::by_words(tx, date, "", u32::MAX)? {
                let firm = person.facts.state == State::Confirmed;
                missed += u32::from(firm && person.facts.presence == Presence::Missed);
                if firm && person.facts.presence == Presence::Expected {
                    db::set_presence(tx, person.facts.attendee, date, &Presence::Missed)?;
                    db::set_missed_at_close(tx, person.facts.attendee, true)?;
                    missed += 1;
                }
            }
            set_closed(tx, date, true, &turn, |when| {
                format!("closed the list of {when}: {missed} missed it")
            })?;
            Ok::<_, DeskError>(missed)
        })
        .await?;
    desk.wake.all();
    Ok(missed)
}

/// Opens a closed list again, with a reason: of those whom closing counted as missing nothing is
/// said again.
///
/// # Errors
/// No reason; it is not closed; they may not.
pub async fn open_again(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SeeOwnDates)?;
    let staff = staff.clone();
    desk.store
        .write(move |tx| {
            may(tx, &staff, date)?;
            let doorway = db::doorway(tx, date)?.ok_or(DeskError::NotFound)?;
            if doorway.closed.is_none() {
                return Err(DeskError::ListClosed);
            }
            let why = form.take(&WHY);
            form.done().map_err(DeskError::Form)?;
            for attendee in db::missed_at_close(tx, date)? {
                db::set_presence(tx, attendee, date, &Presence::Expected)?;
                db::set_missed_at_close(tx, attendee, false)?;
            }
            set_closed(tx, date, false, &turn, |when| {
                format!("opened the list of {when} again: {why}")
            })
        })
        .await?;
    desk.wake.all();
    Ok(())
}
