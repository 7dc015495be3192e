//! Changing dates, their pools, hosts and runs.

use jiff::Timestamp;
use matricle_core::dates::schedule::Span;
use matricle_core::{DateId, EventId, HostId, PoolId, RoomId, VenueId};
use rusqlite::Connection;

use crate::events::new::NewDate;
use crate::events::tickets::pool_kinds;
use crate::{Doing, StoreError, Tx, us};

pub(crate) fn insert_date(
    tx: &Tx<'_>,
    event: i64,
    new: &NewDate,
    kinds: &[i64],
    run: Option<i64>,
) -> rusqlite::Result<i64> {
    let venue = crate::places::venue(tx, &new.venue, &new.address, &new.directions)?;
    let room = crate::places::room(tx, venue, &new.room)?;
    let span = &new.span;
    tx.prepare_cached(
        "INSERT INTO dates (event_id, starts, ends, zone, starts_at, ends_at, venue_id, room_id,
            setup_minutes, clearup_minutes, run_id)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11)",
    )?
    .execute(rusqlite::params![
        event,
        span.starts.to_string(),
        span.ends.to_string(),
        span.zone,
        us(span.starts_at),
        us(span.ends_at),
        venue,
        room,
        new.margins.0,
        new.margins.1,
        run
    ])?;
    let date = tx.last_insert_rowid();
    for host in &new.hosts {
        let host = crate::places::host(tx, host)?;
        tx.prepare_cached("INSERT OR IGNORE INTO date_hosts (date_id, host_id) VALUES (?1, ?2)")?
            .execute((date, host))?;
    }
    for (kind, capacity) in kinds.iter().zip(&new.capacities) {
        tx.prepare_cached("INSERT INTO pools (date_id, kind_id, capacity) VALUES (?1, ?2, ?3)")?
            .execute((date, kind, capacity))?;
    }
    for session in &new.sessions {
        crate::events::sessions::insert(tx, date, venue, session)?;
    }
    if let Some(online) = &new.online {
        let (straight_in, may_speak, recorded, in_mails) = online.can;
        tx.prepare_cached(
            "INSERT INTO online_dates (date_id, room, opens_minutes, straight_in, may_speak, recorded, in_mails,
                prepare, audience) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
        )?
        .execute((
            date,
            &online.room,
            online.opens_minutes,
            straight_in,
            may_speak,
            recorded,
            in_mails,
            &online.prepare,
            &online.audience,
        ))?;
    }
    Ok(date)
}

/// Adds a date to an event, with capacities for its pool kinds in their order.
pub fn add_date(
    tx: &Tx<'_>,
    event: EventId,
    new: &NewDate,
    run: Option<i64>,
) -> Result<DateId, StoreError> {
    let kinds: Vec<i64> = pool_kinds(tx, event)?.into_iter().map(|(id, _)| id).collect();
    insert_date(tx, event.0, new, &kinds, run).map(DateId).doing("adding a date")
}

/// Notes that what is told of a date has changed.
pub fn date_changed(tx: &Tx<'_>, id: DateId, now: Timestamp) -> Result<(), StoreError> {
    tx.execute("UPDATE dates SET changed_at = ?2 WHERE id = ?1", (id.0, us(now)))
        .map(drop)
        .doing("noting a change")
}

/// Moves a date to other times; calendars follow by its sequence.
pub fn move_date(tx: &Tx<'_>, id: DateId, span: &Span) -> Result<(), StoreError> {
    tx.touch(id);
    tx.execute(
        "UPDATE dates SET starts = ?2, ends = ?3, zone = ?4, starts_at = ?5, ends_at = ?6,
            sequence = sequence + 1 WHERE id = ?1",
        (
            id.0,
            span.starts.to_string(),
            span.ends.to_string(),
            &span.zone,
            us(span.starts_at),
            us(span.ends_at),
        ),
    )
    .map(drop)
    .doing("moving a date")
}

/// Moves the sessions of a date along with it, at the same distance from its start.
pub fn move_sessions(tx: &Tx<'_>, id: DateId, old: &Span, new: &Span) -> Result<(), StoreError> {
    let by = new.starts.since(old.starts).unwrap_or_default();
    for session in crate::events::sessions::of_date(tx, id)? {
        let (starts, ends) =
            (session.span.starts.saturating_add(by), session.span.ends.saturating_add(by));
        // An hour that does not exist keeps its instant's distance instead.
        let Ok(span) = Span::new(starts, ends, &new.zone) else { continue };
        tx.execute(
            "UPDATE date_sessions SET starts = ?2, ends = ?3, starts_at = ?4, ends_at = ?5 WHERE id = ?1",
            (
                session.facts.id.0,
                span.starts.to_string(),
                span.ends.to_string(),
                us(span.starts_at),
                us(span.ends_at),
            ),
        )
        .doing("moving sessions")?;
    }
    Ok(())
}

/// Writes a repeat rule down, for the dates that come of it; gives its key.
pub fn add_run(tx: &Tx<'_>, event: EventId, rule: &str) -> Result<i64, StoreError> {
    tx.execute("INSERT INTO runs (event_id, rule) VALUES (?1, ?2)", (event.0, rule))
        .doing("adding a run")?;
    Ok(tx.last_insert_rowid())
}

/// The repeat rules of an event, with the first and the number of their dates.
pub fn runs_of(conn: &Connection, event: EventId) -> Result<Vec<(i64, String, u32)>, StoreError> {
    conn.prepare_cached(
        "SELECT r.id, r.rule, (SELECT count(*) FROM dates d WHERE d.run_id = r.id) FROM runs r
         WHERE r.event_id = ?1 ORDER BY r.id",
    )
    .and_then(|mut q| {
        q.query_map([event.0], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?.collect()
    })
    .doing("reading runs")
}

/// Adds something that an event counts; every date has so much of it.
pub fn add_pool_kind(
    tx: &Tx<'_>,
    event: EventId,
    name: &str,
    capacity: u32,
) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        tx.execute(
            "INSERT INTO pool_kinds (event_id, position, name)
             SELECT ?1, coalesce(max(position) + 1, 0), ?2 FROM pool_kinds WHERE event_id = ?1",
            (event.0, name),
        )?;
        let kind = tx.last_insert_rowid();
        tx.execute(
            "INSERT INTO pools (date_id, kind_id, capacity) SELECT id, ?2, ?3 FROM dates WHERE event_id = ?1",
            (event.0, kind, capacity),
        )
        .map(drop)
    };
    write().doing("adding a pool")
}

/// Gives a date another place and other margins.
pub fn change_date(
    tx: &Tx<'_>,
    id: DateId,
    venue: VenueId,
    room: Option<RoomId>,
    margins: (u32, u32),
) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE dates SET sequence = sequence + (venue_id <> ?2 OR room_id IS NOT ?3), venue_id = ?2,
            room_id = ?3, setup_minutes = ?4, clearup_minutes = ?5 WHERE id = ?1",
        (id.0, venue.0, room.map(|r| r.0), margins.0, margins.1),
    )
    .map(drop)
    .doing("changing a date")
}

/// Gives a date these hosts and no others.
pub fn set_hosts(tx: &Tx<'_>, id: DateId, hosts: &[HostId]) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        tx.execute("DELETE FROM date_hosts WHERE date_id = ?1", [id.0])?;
        for host in hosts {
            tx.execute(
                "INSERT OR IGNORE INTO date_hosts (date_id, host_id) VALUES (?1, ?2)",
                (id.0, host.0),
            )?;
        }
        Ok(())
    };
    write().doing("naming hosts")
}

/// Gives a pool another capacity. One below what is taken is over-full on purpose.
pub fn set_capacity(tx: &Tx<'_>, pool: PoolId, capacity: u32) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE pools SET capacity = ?2, accepted = CASE
            WHEN held + requested + awaiting_payment + confirmed > ?2
            THEN held + requested + awaiting_payment + confirmed ELSE 0 END WHERE id = ?1",
        (pool.0, capacity),
    )
    .map(drop)
    .doing("changing a capacity")
}

/// Notes why a date will not happen.
pub fn call_off(tx: &Tx<'_>, id: DateId, reason: &str) -> Result<(), StoreError> {
    tx.touch(id);
    tx.execute(
        "UPDATE dates SET called_off = ?2, sequence = sequence + 1 WHERE id = ?1",
        (id.0, reason),
    )
    .map(drop)
    .doing("calling a date off")
}

/// Whether nobody ever booked a date, so that it may vanish.
pub fn without_bookings(conn: &Connection, id: DateId) -> Result<bool, StoreError> {
    conn.prepare_cached(
        "SELECT NOT EXISTS (SELECT 1 FROM bookings WHERE date_id = ?1)
            AND NOT EXISTS (SELECT 1 FROM booking_draws bd JOIN pools p ON p.id = bd.pool_id WHERE p.date_id = ?1)
            AND NOT EXISTS (SELECT 1 FROM attendees WHERE date_id = ?1)
            AND NOT EXISTS (SELECT 1 FROM scans WHERE date_id = ?1)",
    )
    .and_then(|mut q| q.query_row([id.0], |row| row.get(0)))
    .doing("looking for bookings")
}

/// Removes a date that nobody ever booked.
///
/// # Errors
/// SQLite refuses; also when somebody has booked it.
pub fn remove_date(tx: &Tx<'_>, id: DateId) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        for sql in [
            "DELETE FROM date_sessions WHERE date_id = ?1",
            "DELETE FROM date_hosts WHERE date_id = ?1",
            "DELETE FROM pools WHERE date_id = ?1",
            "DELETE FROM dates WHERE id = ?1",
        ] {
            tx.prepare_cached(sql)?.execute([id.0])?;
        }
        Ok(())
    };
    write().doing("removing a date")
}
