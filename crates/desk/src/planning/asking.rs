//! Asking those who are invited: by mail, by other means, and once again whoever has not replied.

use std::time::{Duration, Instant};

use jiff::{SignedDuration, Timestamp};
use matricle_core::EventId;
use matricle_core::messages::cue::{Cue, Whom, sheet};
use matricle_core::messages::due::DateFacts;
use matricle_core::messages::replies::again_at;
use matricle_core::people::acting::Acting;
use matricle_core::people::staff::Right;
use matricle_formats::words;
use matricle_store::events::{self, EventState};
use matricle_store::people::Staff;
use matricle_store::{Connection, cues, invited, readers};

use crate::acting::Turn;
use crate::planning::dates::log;
use crate::telling::{Ask, invite};
use crate::{Desk, DeskError};

/// So many are asked in one piece: a few milliseconds of the writing thread.
const PIECE: u32 = 250;

/// The doors' turn after a piece of a long list: as long as the piece took, so that a list has no
/// more than half of the writing thread.
pub(super) async fn doors_first(took: Duration) {
    tokio::time::sleep(took).await;
}

/// Plans an invitation to everybody on the lists who has none yet; says to how many. It is written
/// in pieces, so that no door waits for a long list; what a piece wrote stands.
///
/// # Errors
/// The role may not; the event is not in the Programme.
pub async fn send(desk: &Desk, staff: &Staff, event: EventId) -> Result<usize, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let planned = ask_all(desk, event, &turn, fresh, || Ask::First).await?;
    say(desk, event, &turn, planned, |many| format!("invited {many}")).await?;
    desk.wake.all();
    Ok(planned)
}

/// Makes a link for everybody on the lists who has none yet, for a house that brings them its
/// invitations itself: nothing is mailed. Says for how many.
///
/// # Errors
/// As [`send`].
pub async fn by_other_means(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
) -> Result<usize, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let made = ask_all(desk, event, &turn, fresh, || Ask::Elsewhere).await?;
    say(desk, event, &turn, made, |many| {
        format!("made links for {many}, to be sent by other means")
    })
    .await?;
    Ok(made)
}

/// Some of those who were not asked yet.
fn fresh(conn: &Connection, event: EventId, _: Timestamp) -> Result<Vec<String>, DeskError> {
    Ok(invited::to_ask(conn, event, PIECE)?)
}

/// Some of those who have not replied.
fn silent(conn: &Connection, event: EventId, now: Timestamp) -> Result<Vec<String>, DeskError> {
    let found = invited::silent(conn, event, (Timestamp::MIN, now), PIECE)?;
    Ok(found.into_iter().map(|(address, _)| address).collect())
}

/// Asks all whom `whom` finds, a piece after the other: whoever was asked is not found again.
async fn ask_all(
    desk: &Desk,
    event: EventId,
    turn: &Turn,
    whom: fn(&Connection, EventId, Timestamp) -> Result<Vec<String>, DeskError>,
    ask: fn() -> Ask<'static>,
) -> Result<usize, DeskError> {
    let mut all = 0;
    loop {
        let turn = turn.clone();
        let (asked, took) = desk
            .store
            .write(move |tx| {
                let began = Instant::now();
                let event_now = events::by_id(tx, event)?.ok_or(DeskError::NotFound)?;
                if event_now.state != EventState::Published {
                    return Err(DeskError::NotPublished);
                }
                let found = whom(tx, event, turn.now)?;
                for address in &found {
                    invite(tx, event, address, &ask(), &turn)?;
                }
                Ok((found.len(), began.elapsed()))
            })
            .await?;
        all += asked;
        if asked < PIECE as usize {
            return Ok(all);
        }
        doors_first(took).await;
    }
}

async fn say(
    desk: &Desk,
    event: EventId,
    turn: &Turn,
    many: usize,
    what: impl FnOnce(&str) -> String,
) -> Result<(), DeskError> {
    if many == 0 {
        return Ok(());
    }
    let what = what(&words::people(u32::try_from(many).unwrap_or(u32::MAX)));
    let turn = turn.clone();
    desk.store.write(move |tx| log(tx, event, &turn, &what)).await
}

/// Asks those once again who have not replied: never who has, nor who has booked, nor anybody a
/// third time, nor whom the house asks by other means. Says how many.
///
/// # Errors
/// The event is not in the Programme; the role may not.
pub async fn ask_again(desk: &Desk, staff: &Staff, event: EventId) -> Result<usize, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let all = ask_all(desk, event, &turn, silent, || Ask::Again(None)).await?;
    let what = |many: &str| format!("asked {many} once again who had not replied");
    say(desk, event, &turn, all, what).await?;
    desk.wake.all();
    Ok(all)
}

/// The cues of an event that ask once again, and the next of its dates.
pub(crate) fn again_of(
    conn: &Connection,
    event: EventId,
    now: Timestamp,
) -> Result<Option<(DateFacts, Vec<Cue>)>, DeskError> {
    let mut cues = sheet(event, &cues::of(conn, Some(event))?);
    cues.retain(|c| c.on && c.whom == Whom::Silent);
    if cues.is_empty() {
        return Ok(None);
    }
    let next = events::dates_of(conn, event)?
        .into_iter()
        .filter(|d| d.called_off.is_empty() && d.span.starts_at > now)
        .min_by_key(|d| d.span.starts_at);
    let Some(next) = next else { return Ok(None) };
    Ok(readers::date(conn, next.id)?.map(|(_, date)| (date, cues)))
}

/// Whom the cues of an event ask once again by now, each by which of them.
fn due(conn: &Connection, event: EventId, now: Timestamp) -> Result<Vec<(String, Cue)>, DeskError> {
    let Some((date, cues)) = again_of(conn, event, now)? else { return Ok(Vec::new()) };
    let mut found: Vec<(String, Cue)> = Vec::new();
    for cue in cues {
        let from = if cue.already { Timestamp::MIN } else { cue.added_at };
        let until = now - SignedDuration::from_hours(24);
        // The earliest first: those whose minute has come are before all others.
        for (address, asked_at) in invited::silent(conn, event, (from, until), PIECE)? {
            let is_due = again_at(&cue, &date, asked_at).is_some_and(|at| at <= now);
            if is_due && !found.iter().any(|(known, _)| *known == address) {
                found.push((address, cue.clone()));
            }
        }
    }
    Ok(found)
}

/// Asks whom cues ask once again by now; says how many.
pub(crate) async fn by_cues(desk: &Desk) -> Result<usize, DeskError> {
    let now = desk.clock.now();
    let events = desk.store.read(move |conn| invited::events_asked(conn, now)).await?;
    let mut all = 0;
    for event in events {
        if desk.store.read(move |conn| due(conn, event, now)).await?.is_empty() {
            continue;
        }
        let turn = desk.turn(Acting::program());
        all += desk
            .store
            .write(move |tx| {
                let due = due(tx, event, now)?;
                for (address, cue) in &due {
                    invite(tx, event, address, &Ask::Again(Some(cue)), &turn)?;
                }
                if !due.is_empty() {
                    let many = words::people(u32::try_from(due.len()).unwrap_or(u32::MAX));
                    let what = format!("asked {many} once again who had not replied, by itself");
                    log(tx, event, &turn, &what)?;
                }
                Ok::<_, DeskError>(due.len())
            })
            .await?;
    }
    if all > 0 {
        desk.wake.all();
    }
    Ok(all)
}
