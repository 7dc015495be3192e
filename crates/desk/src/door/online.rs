//! A date online at the Office: where it happens, what the room can do, who came by which way,
//! the recording, a link that is replaced.

use std::collections::BTreeMap;

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::door::Presence;
use matricle_core::door::foyer::{Audience, Beside, RoomKind, beside};
use matricle_core::fields;
use matricle_core::forms::field::{Binding, Locale};
use matricle_core::forms::form::{Fault, Form};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::people::staff::{Right, require};
use matricle_core::words::links::is_link;
use matricle_core::{AttendeeId, DateId, EventId, SessionId};
use matricle_store::events::{self, Date, Event, Format};
use matricle_store::online::{self, OnlineDate, OwnRoom, Room};
use matricle_store::people::Staff;
use matricle_store::sessions::{self, Session};
use matricle_store::{Connection, Tx, bookings, door as db};

use crate::outside::rooms::Joiner;
use crate::{Desk, DeskError, telling};

fields! {
    ROOM: OneOf<RoomKind>(&[
        (RoomKind::OfEvent, "at the event’s link: a standing room"),
        (RoomKind::Link, "at a link of this date’s own"),
        (RoomKind::Made, "in a room made for this date"),
        (RoomKind::Shared, "in one room made for all dates of the event"),
    ]) = "room", "Where";
    STRAIGHT_IN: Tick = "straight_in", "lets everybody straight in";
    MAY_SPEAK: Tick = "may_speak", "lets everybody speak";
    RECORDED: Tick = "recorded", "is recorded";
    IN_MAILS: Tick = "in_mails",
        "may be named in mails, with its passcode: whoever has the mail comes in, and nobody knows who";
    AUDIENCE: OneOf<Audience>(&[
        (Audience::Came, "those who came"),
        (Audience::Booked, "all who booked"),
    ]) = "audience", "It is for";
    FOR_ALL: Tick = "for_all", "The same for the other dates to come",
        "but for links and recordings, which are each date’s own";
    LINK: Link = "link", "Link of its own",
        "May come later: who waits in the foyer goes on as soon as it is here.";
    PASSCODE: Line = "passcode", "Passcode", "Shown to whoever goes in, and nowhere else.";
    OPENS_MINUTES: Whole(0, 1440) = "opens_minutes", "Opens so many minutes before" needed;
    PREPARE: Text(3, 2000) = "prepare", "How to prepare",
        "A line each: what to have at hand, where to write questions.";
    RECORDING: Link = "recording", "Recording", "A room of the service brings it by itself.";
    RECORDING_UNTIL: Moment = "recording_until", "Until", "Empty: for ever.";
}

/// Somebody who joins online.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RoomLine {
    /// The attendee.
    pub attendee: AttendeeId,
    /// Their name.
    pub name: String,
    /// When they came, and by which way.
    pub came: Option<(Timestamp, String)>,
    /// How often they went in through the foyer, from how many browsers.
    pub goes: (u32, u32),
    /// What the room reports, beside it.
    pub beside: Option<Beside>,
}

/// A date online.
#[derive(Debug, Clone)]
pub struct OnlineSheet {
    /// The event.
    pub event: Event,
    /// The date.
    pub date: Date,
    /// How it happens.
    pub how: OnlineDate,
    /// There is a room for all of it, and it is known.
    pub one_room: bool,
    /// A room is known: of all of it, or of one of its sessions.
    pub is_known: bool,
    /// There is a service that makes rooms.
    pub service: bool,
    /// Who joins online.
    pub people: Vec<RoomLine>,
    /// So many came to the place.
    pub came_here: u32,
    /// Its sessions, each with its own room where it has one.
    pub sessions: Vec<(Session, Option<OwnRoom>)>,
    /// So many other dates of the event are to come.
    pub others: usize,
}

/// A date online.
///
/// # Errors
/// There is no such date; the role may not.
pub async fn sheet(desk: &Desk, staff: &Staff, date: DateId) -> Result<OnlineSheet, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let (now, service) = (desk.clock.now(), desk.rooms.is_there());
    desk.store
        .read(move |conn| {
            let (event, on) = events::date_by_id(conn, date)?.ok_or(DeskError::NotFound)?;
            if event.format == Format::InPerson {
                return Err(DeskError::NotFound);
            }
            let how = online::of_date(conn, date)?;
            let (goes, stays) = (online::all_goes(conn, date)?, online::stays(conn, date)?);
            let (mut people, mut came_here) = (Vec::new(), 0);
            for p in db::by_words(conn, date, "", u32::MAX)? {
                if p.facts.state != State::Confirmed {
                    continue;
                }
                let id = p.facts.attendee;
                let first = db::passages(conn, id)?.into_iter().next().map(|w| (w.at, w.door));
                if !online::joins_online(conn, id)? {
                    let here = matches!(p.facts.presence, Presence::In { .. } | Presence::Left);
                    came_here += u32::from(here);
                    continue;
                }
                let goes = goes.get(&id).copied().unwrap_or_default();
                let stays = stays.get(&id).map_or(&[][..], Vec::as_slice);
                people.push(RoomLine {
                    attendee: id,
                    name: p.name,
                    came: first,
                    beside: beside(goes.0 > 0, stays, how.room.is_made(), now),
                    goes,
                });
            }
            let one_room = online::room(conn, &event, date, &how)? != Room::Nowhere;
            let mut is_known = one_room;
            let own = online::own_rooms(conn, date)?;
            for (session, own) in &own {
                is_known |= online::room_of_session(conn, *session, own)? != Room::Nowhere;
            }
            let sessions = sessions::of_date(conn, date)?
                .into_iter()
                .map(|s| {
                    let own = own.get(&s.facts.id).cloned();
                    (s, own)
                })
                .collect();
            let others = others(conn, event.id, date, now)?.len();
            Ok(OnlineSheet {
                event,
                date: on,
                how,
                one_room,
                is_known,
                service,
                people,
                came_here,
                sessions,
                others,
            })
        })
        .await
}

/// The other dates of an event that are to come.
fn others(
    conn: &Connection,
    event: EventId,
    date: DateId,
    now: Timestamp,
) -> Result<Vec<DateId>, DeskError> {
    let mut all = events::dates_of(conn, event)?;
    all.retain(|d| d.id != date && d.called_off.is_empty() && d.span.starts_at > now);
    Ok(all.into_iter().map(|d| d.id).collect())
}

/// What stands in the fields of a date's sessions: which has a room of its own.
fn own_rooms(
    tx: &Tx<'_>,
    date: DateId,
    service: bool,
    form: &mut Form,
) -> Result<Vec<(SessionId, Option<OwnRoom>)>, DeskError> {
    let mut all = Vec::new();
    for session in sessions::of_date(tx, date)? {
        let id = session.facts.id;
        let field = |what: &str| format!("{what}_{id}");
        let kind = match form.get(&field("part")) {
            "link" => RoomKind::Link,
            "made" => RoomKind::Made,
            _ => {
                all.push((id, None));
                continue;
            }
        };
        let link = form.line(&field("partlink"));
        if !link.is_empty() && !is_link(&link) {
            form.fault(field("partlink"), Fault::NotALink);
        }
        if kind.is_made() && !service {
            form.fault(field("part"), Fault::Unknown);
        }
        let passcode = form.line(&field("partcode"));
        all.push((id, Some(OwnRoom { kind, link, passcode })));
    }
    Ok(all)
}

/// The form of how a date happens online.
pub fn form(f: &mut Binding<'_>, how: &mut OnlineDate) {
    f.bind(&ROOM, &mut how.room);
    f.bind(&LINK, &mut how.link);
    f.bind(&PASSCODE, &mut how.passcode);
    f.bind(&OPENS_MINUTES, &mut how.opens_minutes);
    f.bind(&STRAIGHT_IN, &mut how.straight_in);
    f.bind(&MAY_SPEAK, &mut how.may_speak);
    f.bind(&RECORDED, &mut how.recorded);
    f.bind(&IN_MAILS, &mut how.in_mails);
    f.bind(&PREPARE, &mut how.prepare);
    f.bind(&RECORDING, &mut how.recording);
    f.bind(&RECORDING_UNTIL, &mut how.recording_until);
    f.bind(&AUDIENCE, &mut how.audience);
}

/// Says where a date happens online, what its room can do, and what becomes of the recording.
///
/// # Errors
/// [`DeskError::Form`] for a link that is none; there is no such date; the role may not.
pub async fn save(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let service = desk.rooms.is_there();
    desk.store
        .write(move |tx| {
            let (event, on) = events::date_by_id(tx, date)?.ok_or(DeskError::NotFound)?;
            let before = online::of_date(tx, date)?;
            let mut how = OnlineDate::default();
            // A recording is there until a moment of the place, not of the house.
            let locale = Locale { zone: on.span.zone.clone(), ..Locale::default() };
            self::form(&mut Binding::Read(&mut form, &locale), &mut how);
            if how.room.is_made() && !service {
                form.fault(ROOM, Fault::Unknown);
            }
            let parts = own_rooms(tx, date, service, &mut form)?;
            let for_all = form.take(&FOR_ALL);
            form.done().map_err(DeskError::Form)?;
            for (session, own) in &parts {
                online::forget_made(tx, &online::session_key(*session))?;
                online::set_own_room(tx, *session, own.as_ref())?;
            }
            // A room of the service is brought to what is wanted.
            for kind in [before.room, how.room].into_iter().filter(|k| k.is_made()) {
                online::forget_made(tx, &online::room_key(kind, event.id, date))?;
            }
            online::set(tx, date, &how)?;
            // What is one date's alone stays its own: its link, and its recording.
            let others = if for_all { others(tx, event.id, date, turn.now)? } else { Vec::new() };
            for other in &others {
                let before = online::of_date(tx, *other)?;
                for kind in [before.room, how.room].into_iter().filter(|k| k.is_made()) {
                    online::forget_made(tx, &online::room_key(kind, event.id, *other))?;
                }
                online::set(tx, *other, &how.for_another(before))?;
            }
            let when = matricle_formats::words::long_span(on.span.starts, on.span.ends);
            let what = match others.len() {
                0 => format!("said how {when} happens online"),
                n => format!("said how {when} and {n} other dates happen online"),
            };
            crate::planning::dates::log(tx, event.id, &turn, &what)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Gives somebody a new link of their own: the one they had opens nothing from now on, and they
/// are mailed the new one.
///
/// # Errors
/// There is no such person at that date; the role may not.
pub async fn replace_link(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
    attendee: AttendeeId,
) -> Result<String, DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    let name = desk
        .store
        .write(move |tx| {
            let person = db::by_id(tx, attendee)?.filter(|p| p.facts.date == date);
            let person = person.filter(|p| p.facts.state == State::Confirmed);
            let person = person.ok_or(DeskError::NotFound)?;
            if !online::joins_online(tx, attendee)? {
                return Err(DeskError::NotFound);
            }
            online::replace(tx, attendee)?;
            let booking = bookings::by_id(tx, person.booking)?.ok_or(DeskError::NotFound)?;
            let what = format!("gave {} a new link to join online", person.name);
            bookings::happened(tx, person.booking, turn.now, &turn.by, &what)?;
            let change = format!("The link to join online of {} is a new one.", person.name);
            let knows = Knows { change, by_house: true, ..Knows::default() };
            telling::tell(tx, &booking, Occasion::Changed, &knows, &turn)?;
            Ok::<_, DeskError>(person.name)
        })
        .await?;
    desk.wake.all();
    Ok(name)
}

/// Where whoever leads a date, or one of its sessions with a room of its own, goes in: its hosts,
/// and whoever plans. Nobody is marked by it.
///
/// # Errors
/// Its room is not known, or does not answer; they do not lead it.
pub async fn lead(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
    session: Option<SessionId>,
) -> Result<(String, String), DeskError> {
    require(staff.role, Right::SeeOwnDates)?;
    let (me, plans) = (staff.id, require(staff.role, Right::PlanEvents).is_ok());
    let room = desk
        .store
        .read(move |conn| {
            let (event, _) = events::date_by_id(conn, date)?.ok_or(DeskError::NotFound)?;
            if !plans && !db::is_led_by(conn, date, me)? {
                return Err(DeskError::NotFound);
            }
            match session {
                None => Ok(online::room(conn, &event, date, &online::of_date(conn, date)?)?),
                Some(id) => match online::own_rooms(conn, date)?.get(&id) {
                    Some(own) => Ok(online::room_of_session(conn, id, own)?),
                    None => Err(DeskError::NotFound),
                },
            }
        })
        .await?;
    match room {
        Room::Nowhere => Err(DeskError::NotFound),
        Room::Link(link, passcode) => Ok((link, passcode)),
        Room::Service(room) => {
            let who = Joiner { person: format!("h{me}"), name: staff.name.clone(), leads: true };
            Ok((desk.rooms.join(room, who).await?, String::new()))
        }
    }
}

/// How many of those online came, and how many joined by which way, for one count.
#[must_use]
pub fn ways(people: &[RoomLine]) -> BTreeMap<String, u32> {
    let mut ways = BTreeMap::new();
    for (_, door) in people.iter().filter_map(|p| p.came.as_ref()) {
        *ways.entry(door.clone()).or_default() += 1;
    }
    ways
}
