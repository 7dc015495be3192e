//! What the door sees: the board of a date, names, the last scans, today's dates.

use jiff::{SignedDuration, Timestamp};
use matricle_core::DateId;
use matricle_core::door::names::Typed;
use matricle_core::door::passages::Way;
use matricle_core::door::rooms::Room;
use matricle_core::door::{self, PACE_MINUTES, Verdict, all_in_by};
use matricle_core::words::codes::Reference;
use matricle_core::words::fold;
use matricle_store::door::AtDoor;
use matricle_store::events::sessions::Session;
use matricle_store::events::{self, Choices, DateSummary, EventState, Format, Sought};
use matricle_store::{Connection, door as db};

use super::rooms::{AtRoom, behind_doors};
use super::{Outcome, Volunteer, at_open_door, finding, gate_of};
use crate::{Desk, DeskError, house_of};

/// A person as the list of names shows them.
#[derive(Debug, Clone)]
pub struct Name {
    /// Who.
    pub person: AtDoor,
    /// What the door would be told now.
    pub verdict: Verdict,
}

/// People of a date by words typed at a door of it, or by the reference of their booking; each with
/// what that door would be told.
pub async fn names(
    desk: &Desk,
    who: impl Into<Volunteer>,
    (date, door): (DateId, &str),
    typed: &str,
) -> Result<Vec<Name>, DeskError> {
    let volunteer = who.into();
    volunteer.checks_in_at(date, desk.clock.now())?;
    let (words, reference) = (fold(typed), Reference::parse(typed));
    let (now, typed, known) = (desk.clock.now(), Typed::new(typed), desk.names.clone());
    let door = door.to_owned();
    desk.store
        .read(move |conn| {
            let doorway = at_open_door(conn, &volunteer, date, now)?;
            let gate = gate_of(conn, &doorway, date, &door)?;
            let at_room = AtRoom::of(conn, (date, &doorway), &gate, now)?;
            let people = match reference {
                Some(reference) => db::by_reference(conn, date, reference)?,
                None => finding::by_name(conn, &known, date, (&words, &typed), now)?,
            };
            let mut names = Vec::new();
            for person in people {
                let mut verdict = door::verdict(Some(&person.facts), &gate);
                if let Some(room) = &at_room {
                    let who = (person.facts.attendee, Way::In);
                    verdict = room.judge(conn, verdict, who, 1, now)?;
                }
                names.push(Name { person, verdict });
            }
            Ok(names)
        })
        .await
}

/// What every open door of a date shows and keeps up to date.
#[derive(Debug, Clone)]
pub struct Board {
    /// The date with its seats.
    pub sheet: Choices,
    /// People who are in.
    pub inside: u32,
    /// People on confirmed bookings.
    pub expected: u32,
    /// People who came in the last minutes, see [`PACE_MINUTES`].
    pub lately: u32,
    /// When all will be in at that pace.
    pub all_in_by: Option<Timestamp>,
    /// The zone of the house's clocks.
    pub zone: String,
    /// It is another day than the date's own: who opened the door.
    pub opened_by: Option<String>,
    /// The most that may be inside at once.
    pub most: Option<u32>,
    /// Who lifted that limit, and why.
    pub lifted: Option<(String, String)>,
    /// The doors of the date that have names of their own.
    pub doors: Vec<String>,
    /// What is on behind the doors of rooms, each with the name of its door.
    pub rooms: Vec<(String, Session, Room)>,
}

/// The board of a date.
///
/// # Errors
/// The role may not, there is no such date, or the store fails.
pub async fn board(
    desk: &Desk,
    who: impl Into<Volunteer>,
    date: DateId,
) -> Result<Board, DeskError> {
    let volunteer = who.into();
    volunteer.checks_in_at(date, desk.clock.now())?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let doorway = at_open_door(conn, &volunteer, date, now)?;
            let house = house_of(conn)?;
            let sheet = events::choices_of_date(conn, house.currency, date, now)?
                .ok_or(DeskError::NotFound)?;
            let expected = db::expected(conn, date)?;
            let since = now - SignedDuration::from_mins(i64::from(PACE_MINUTES));
            let lately = db::admitted_since(conn, date, since)?;
            let inside = sheet.inside;
            let all_in_by = all_in_by(inside, expected, lately, now);
            let doors = db::doors(conn, date)?;
            let rooms = behind_doors(conn, (date, &doorway), &doors, now)?
                .into_iter()
                .filter_map(|(door, on)| on.map(|on| (door, on.session, on.room)))
                .collect();
            let doors = doors.into_iter().map(|d| d.name).collect();
            let opened_by = doorway.opened_by.filter(|_| !door::is_its_day(&doorway.span, now));
            Ok(Board {
                sheet,
                inside,
                expected,
                lately,
                all_in_by,
                zone: house.zone,
                opened_by,
                most: doorway.most_inside,
                lifted: doorway.lifted,
                doors,
                rooms,
            })
        })
        .await
}

/// The last scans of a date, newest first.
pub async fn log(
    desk: &Desk,
    who: impl Into<Volunteer>,
    date: DateId,
) -> Result<Vec<Outcome>, DeskError> {
    let volunteer = who.into();
    volunteer.checks_in_at(date, desk.clock.now())?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            at_open_door(conn, &volunteer, date, now)?;
            db::last_scans(conn, date, 12)?.into_iter().map(Outcome::of).collect()
        })
        .await
}

/// Dates whose door is open: those of today, those under way, and those that an organiser has
/// opened.
pub async fn todays(desk: &Desk, who: impl Into<Volunteer>) -> Result<Vec<DateSummary>, DeskError> {
    let volunteer = who.into();
    volunteer.checks_in(desk.clock.now())?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let mut dates = open_now(conn, now)?;
            dates.retain(|d| volunteer.covers(d.date.id));
            Ok(dates)
        })
        .await
}

/// Dates whose door is open at `now`, by their start. One that happens online alone has no door
/// that anybody stands at, unless an organiser opens it.
pub(super) fn open_now(conn: &Connection, now: Timestamp) -> Result<Vec<DateSummary>, DeskError> {
    let day = SignedDuration::from_hours(24);
    let opened = db::opened(conn, now - day)?;
    let between = |from, until| Sought {
        staff: true,
        between: Some((from, until)),
        most: 500,
        ..Sought::default()
    };
    let mut dates = events::list(conn, &between(now - day, now + day), now)?.dates;
    for id in &opened {
        let Some((_, date)) = events::date_by_id(conn, *id)? else { continue };
        let asked = between(date.span.starts_at, date.span.ends_at);
        let found = events::list(conn, &asked, now)?.dates;
        dates.extend(found.into_iter().filter(|d| d.date.id == *id));
    }
    dates.sort_by_key(|d| (d.date.span.starts_at, d.date.id));
    dates.dedup_by_key(|d| d.date.id);
    Ok(dates
        .into_iter()
        .filter(|d| d.date.called_off.is_empty() && d.event.state != EventState::Draft)
        .filter(|d| d.event.format != Format::Online || opened.contains(&d.date.id))
        .filter(|d| door::is_open(&d.date.span, opened.contains(&d.date.id), now))
        .collect())
}
