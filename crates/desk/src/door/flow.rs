//! The flow at the doors of a date, from who came to it and to dates like it.

use jiff::{SignedDuration, Timestamp};
use matricle_core::DateId;
use matricle_core::door::flow::{Flow, Like, Now, flow};
use matricle_core::people::staff::{Right, require};
use matricle_store::door as db;
use matricle_store::people::Staff;

use super::Volunteer;
use super::rooms::behind_doors;
use crate::{Desk, DeskError};

/// Dates before this one that it is compared with.
const LIKE: u32 = 8;
/// Nobody should wait longer than so many minutes.
pub const MOST_WAIT: f64 = 3.0;
/// Within so many minutes a lane that scanned is at work.
const AT_WORK: SignedDuration = SignedDuration::from_mins(15);

/// The flow of a date.
///
/// # Errors
/// There is no such date; the role may not.
pub async fn of_date(desk: &Desk, staff: &Staff, date: DateId) -> Result<Flow, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let now = desk.clock.now();
    desk.store.read(move |conn| flow_in(conn, date, now)).await
}

fn flow_in(
    conn: &matricle_store::Connection,
    date: DateId,
    now: Timestamp,
) -> Result<Flow, DeskError> {
    let doorway = db::doorway(conn, date)?.ok_or(DeskError::NotFound)?;
    let like: Vec<Like> = db::dates_like(conn, date, LIKE)?
        .into_iter()
        .map(|id| Ok(Like { expected: db::expected(conn, id)?, came: db::arrivals(conn, id)? }))
        .collect::<Result<_, DeskError>>()?;
    let minutes = now.duration_since(doorway.span.starts_at).as_secs() / 60;
    let here = Now {
        expected: db::expected(conn, date)?,
        came: db::arrivals(conn, date)?,
        minute: i32::try_from(minutes).unwrap_or(if minutes < 0 { i32::MIN } else { i32::MAX }),
        scan: db::seconds_a_scan(conn, date)?,
        lanes: db::lanes_at_work(conn, date, now - AT_WORK)?.max(1),
        most_wait: MOST_WAIT,
    };
    Ok(flow(&like, &here))
}

/// What a hall screen shows: nobody's name.
#[derive(Debug, Clone)]
pub struct Hall {
    /// The house.
    pub house: String,
    /// The event.
    pub title: String,
    /// When and where.
    pub date: matricle_store::events::Date,
    /// People inside.
    pub inside: u32,
    /// The most that may be.
    pub most: Option<u32>,
    /// Each door by name, with the tickets it is for.
    pub doors: Vec<(String, Vec<String>)>,
    /// Doors of rooms by name, with what is on behind each, if something is.
    pub rooms: Vec<(String, Option<String>)>,
    /// The zone of the house's clocks.
    pub zone: String,
}

/// What the hall screen of a date shows.
///
/// # Errors
/// The role may not, or the device is for other dates; the door is not open.
pub async fn hall(desk: &Desk, who: impl Into<Volunteer>, date: DateId) -> Result<Hall, DeskError> {
    let volunteer = who.into();
    volunteer.checks_in_at(date, desk.clock.now())?;
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let doorway = super::at_open_door(conn, &volunteer, date, now)?;
            let (event, on) =
                matricle_store::events::date_by_id(conn, date)?.ok_or(DeskError::NotFound)?;
            let tickets = db::ticket_names(conn, event.id)?;
            let named = |id| tickets.iter().find(|t| t.0 == id).map(|t| t.1.clone());
            let all = db::doors(conn, date)?;
            let rooms = behind_doors(conn, (date, &doorway), &all, now)?
                .into_iter()
                .map(|(door, on)| (door, on.map(|on| on.label())))
                .collect();
            let doors = all
                .into_iter()
                .filter(|d| d.room.is_empty())
                .map(|d| (d.name, d.tickets.into_iter().filter_map(named).collect()))
                .collect();
            let house = crate::house_of(conn)?;
            Ok(Hall {
                house: house.name,
                title: event.title,
                date: on,
                inside: doorway.inside,
                most: doorway.most_inside,
                doors,
                rooms,
                zone: house.zone,
            })
        })
        .await
}
