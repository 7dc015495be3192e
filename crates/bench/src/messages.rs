//! `matricle bench-messages`: planning anew what a moved date moves, beside the same rows in plain
//! SQL in the same run; scans at a door meanwhile, against none meanwhile; how fast mails are
//! handed to the stand-in at 1, 4 and 16 at once.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context, Result, ensure};
use jiff::civil::date;
use jiff::{Timestamp, ToSpan};
use matricle_core::dates::schedule::Span;
use matricle_core::people::staff::Role;
use matricle_core::{Currency, DateId};
use matricle_desk::door::{self, Device, Shown};
use matricle_desk::people::signin;
use matricle_desk::rounds::Work;
use matricle_desk::{Desk, messages, timers};
use matricle_store::events::{self, EventState, NewDate, NewEvent, NewTicketType};
use matricle_store::house::{self, House};
use matricle_store::{Tx, people};

use crate::args::MessagesArgs;
use crate::bookings::booking;
use matricle_serve::serve::{Parts, desk};
use matricle_standins::beside;

const ZONE: &str = "Europe/Dublin";
/// People at the door of another date.
const AT_THE_DOOR: u64 = 60_000;
/// Volunteers who scan at once.
const DOORS: u64 = 4;

/// Runs it.
///
/// # Errors
/// The store fails, or what is planned is not what the date says.
pub async fn run(args: &MessagesArgs) -> Result<()> {
    let folder = tempfile::tempdir()?;
    let outside = beside::start(0, None).await?;
    let open = |at_once: usize| -> Result<Desk> {
        desk(Parts {
            mail: (outside.smtp.clone(), None),
            mail_at_once: at_once,
            ..Parts::alone(folder.path(), "http://127.0.0.1:9".into())?
        })
    };
    let with = open(4)?;
    let (moved, scanned) = fill(&with, u64::from(args.bookings)).await?;
    let started = Instant::now();
    while timers::turn(&with, Work::Telling).await? {}
    let planned = count(&with, moved).await?;
    let first = started.elapsed();
    println!("planned at first: {planned} messages in {:.2} s", first.as_secs_f64());

    // Scans with nothing else going on, then while everything is planned anew.
    let quiet = scans(&with, scanned, 0, None).await?;
    let done = Arc::new(AtomicBool::new(false));
    let scanning = tokio::spawn({
        let (with, done) = (with.clone(), Arc::clone(&done));
        async move { scans(&with, scanned, AT_THE_DOOR / 2, Some(done)).await }
    });
    let started = Instant::now();
    move_by_a_day(&with, moved).await?;
    while timers::turn(&with, Work::Telling).await? {}
    let took = started.elapsed();
    done.store(true, Ordering::Relaxed);
    let busy = scanning.await??;
    ensure!(count(&with, moved).await? == planned, "as many are planned as before");
    let again = Instant::now();
    move_by_a_day(&with, moved).await?;
    while timers::turn(&with, Work::Telling).await? {}
    let alone = again.elapsed();
    let plain = plain(&with, moved).await?;
    let rate = |n: u32, t: Duration| f64::from(n) / t.as_secs_f64();
    println!("| what | seconds | messages a second | to plain SQL |\n|---|---:|---:|---:|");
    for (what, t) in [
        ("planned anew after the date moved, doors at work", took),
        ("planned anew after the date moved, nothing else", alone),
        ("the same rows in plain SQL, one by one", plain),
    ] {
        println!(
            "| {what} | {:.2} | {:.0} | {:.2} |",
            t.as_secs_f64(),
            rate(planned, t),
            t.as_secs_f64() / plain.as_secs_f64()
        );
    }
    println!(
        "limit: 100,000 within ten seconds; here {:.0} in ten seconds",
        rate(planned, alone) * 10.0
    );
    println!(
        "scans a second: {:.0} with nothing planned meanwhile, {:.0} meanwhile: {:.2} (limit 0.90)",
        quiet.rate,
        busy.rate,
        busy.rate / quiet.rate
    );
    with.store.close();
    drop(with);
    println!("| mails at once | mails a second |\n|---:|---:|");
    for at_once in [1, 4, 16] {
        let with = open(at_once)?;
        due(&with, moved, args.mails).await?;
        let started = Instant::now();
        while timers::turn(&with, Work::Mail).await? {}
        println!("| {at_once} | {:.0} |", rate(args.mails, started.elapsed()));
        with.store.close();
    }
    Ok(())
}

/// A house with two dates, of which the first has so many bookings, and the second has people at its
/// door today.
pub(crate) async fn fill(desk: &Desk, bookings: u64) -> Result<(DateId, DateId)> {
    let now = desk.clock.now();
    signin::employ(
        desk,
        "Bram".into(),
        "bram@bench.example".into(),
        Role::Administrator,
        "smoker-is-lit".into(),
    )
    .await?;
    let ids = desk
        .store
        .write(move |tx| {
            house::set(
                tx,
                &House {
                    name: "Bench".into(),
                    zone: ZONE.into(),
                    currency: Currency::EUR,
                    email: "office@bench.example".into(),
                    ..House::default()
                },
            )?;
            Ok::<_, matricle_store::StoreError>(())
        })
        .await;
    ids?;
    messages::prepare(desk).await?;
    desk.store
        .write(move |tx| {
            made(tx, bookings, now).map_err(|e| matricle_desk::DeskError::Internal(e.to_string()))
        })
        .await
        .map_err(Into::into)
}

fn made(tx: &Tx<'_>, bookings: u64, now: Timestamp) -> Result<(DateId, DateId)> {
    let day = jiff::tz::TimeZone::UTC.to_datetime(now).date();
    let far = date(2099, 6, 1).at(19, 0, 0, 0);
    let today = day.at(23, 0, 0, 0);
    let mut ids = Vec::new();
    for (slug, starts) in [("moved", far), ("scanned", today)] {
        let new = NewEvent {
            slug: slug.into(),
            title: format!("An evening that is {slug}"),
            kind: "Evening".into(),
            state: EventState::Published,
            hold_minutes: 15,
            pools: vec!["seats".into()],
            tickets: vec![NewTicketType {
                minor: 500,
                draws: vec![(0, 1)],
                ..NewTicketType::default()
            }],
            dates: vec![NewDate {
                span: Span::new(starts, starts.saturating_add(2.hours()), ZONE)?,
                venue: "Hall".into(),
                address: String::new(),
                directions: String::new(),
                room: String::new(),
                hosts: Vec::new(),
                margins: (0, 0),
                capacities: vec![1_000_000],
                sessions: Vec::new(),
                online: None,
            }],
            ..NewEvent::default()
        };
        let event = events::insert(tx, &new, now)?;
        ids.push(events::dates_of(tx, event)?.first().context("a date")?.id);
    }
    for (id, from, many) in [(ids[0], 0, bookings), (ids[1], 10_000_000, AT_THE_DOOR)] {
        let sheet = events::choices(tx, Currency::EUR, id, now)?.context("a date")?;
        for n in 1..=many {
            booking(tx, &sheet, 0, from + n, now)?;
        }
    }
    Ok((ids[0], ids[1]))
}

async fn count(desk: &Desk, moved: DateId) -> Result<u32> {
    let read = move |c: &matricle_store::Connection| {
        let sql = "SELECT count(*) FROM outbox WHERE date_id = ?1 AND state = 'planned'";
        Ok::<_, matricle_store::StoreError>(c.query_row(sql, [moved.0], |row| row.get(0))?)
    };
    Ok(desk.store.read(read).await?)
}

async fn move_by_a_day(desk: &Desk, moved: DateId) -> Result<()> {
    let now = desk.clock.now();
    desk.store
        .write(move |tx| {
            let (_, date) =
                events::date_by_id(tx, moved)?.ok_or_else(|| matricle_desk::DeskError::NotFound)?;
            let later = |at: jiff::civil::DateTime| at.saturating_add(1.day());
            let span = Span::new(later(date.span.starts), later(date.span.ends), ZONE)
                .map_err(|e| matricle_desk::DeskError::Internal(e.to_string()))?;
            events::move_date(tx, moved, &span)?;
            Ok::<_, matricle_desk::DeskError>(events::date_changed(tx, moved, now)?)
        })
        .await?;
    Ok(())
}

/// The same rows given another minute in plain SQL, one by one in one transaction.
async fn plain(desk: &Desk, moved: DateId) -> Result<Duration> {
    let took = desk
        .store
        .write(move |tx| {
            let keys: Vec<(i64, i64)> = tx
                .prepare(
                    "SELECT id, planned_at FROM outbox WHERE date_id = ?1 AND state = 'planned'",
                )?
                .query_map([moved.0], |row| Ok((row.get(0)?, row.get(1)?)))?
                .collect::<Result<_, _>>()?;
            let started = Instant::now();
            let mut update =
                tx.prepare("UPDATE outbox SET planned_at = ?2, next_try_at = ?2 WHERE id = ?1")?;
            for (id, at) in keys {
                update.execute((id, at + 1))?;
            }
            Ok::<_, matricle_store::StoreError>(started.elapsed())
        })
        .await?;
    Ok(took)
}

/// What doors did for a while.
pub(crate) struct Scans {
    /// Scans a second.
    pub(crate) rate: f64,
    /// The longest that one of them waited.
    pub(crate) longest: Duration,
}

/// Scans by some volunteers at once, whose keys begin with a number of their own: for three
/// seconds, or until something is done.
pub(crate) async fn scans(
    desk: &Desk,
    date: DateId,
    from: u64,
    until: Option<Arc<AtomicBool>>,
) -> Result<Scans> {
    let (codes, staff) = desk
        .store
        .read(move |c| {
            let codes: Vec<String> = c
                .prepare(
                    "SELECT a.code FROM attendees a JOIN bookings b ON b.id = a.booking_id
                     WHERE a.date_id = ?1 AND b.state = 'confirmed' AND a.presence = 'expected' ORDER BY a.id",
                )?
                .query_map([date.0], |row| row.get(0))?
                .collect::<Result<_, _>>()?;
            Ok::<_, matricle_store::StoreError>((codes, people::by_email(c, "bram@bench.example")?))
        })
        .await?;
    let staff = staff.context("somebody at the door")?.0;
    let codes = Arc::new(codes);
    let next = Arc::new(AtomicU64::new(0));
    let started = Instant::now();
    let mut doors = tokio::task::JoinSet::new();
    for lane in 0..DOORS {
        let (desk, staff, codes, next) =
            (desk.clone(), staff.clone(), Arc::clone(&codes), Arc::clone(&next));
        let until = until.clone();
        doors.spawn(async move {
            let (mut n, mut longest) = (0u64, Duration::ZERO);
            loop {
                let over = until.as_ref().map_or(started.elapsed() > Duration::from_secs(3), |u| {
                    u.load(Ordering::Relaxed)
                });
                let at = next.fetch_add(1, Ordering::Relaxed);
                let Some(code) = codes.get(usize::try_from(at).unwrap_or(usize::MAX)) else {
                    break;
                };
                if over {
                    break;
                }
                let key = format!("bench-{from}-{at}");
                let device = Device::at(&format!("lane {lane}"), &key);
                let asked = Instant::now();
                door::show(&desk, &staff, date, device, Shown::Text(code.clone())).await?;
                longest = longest.max(asked.elapsed());
                n += 1;
            }
            Ok::<_, matricle_desk::DeskError>((n, longest))
        });
    }
    let (mut all, mut longest) = (0, Duration::ZERO);
    while let Some(done) = doors.join_next().await {
        let (n, slowest) = done??;
        (all, longest) = (all + n, longest.max(slowest));
    }
    let rate = f64::from(u32::try_from(all)?) / started.elapsed().as_secs_f64();
    Ok(Scans { rate, longest })
}

/// So many messages of the date are due now.
async fn due(desk: &Desk, moved: DateId, many: u32) -> Result<()> {
    let now = matricle_store::us(desk.clock.now());
    desk.store
        .write(move |tx| {
            tx.execute(
                "UPDATE outbox SET next_try_at = ?3, planned_at = ?3, by_hand = 1,
                    address = 'p' || id || '@d' || (id % 16) || '.example' WHERE id IN
                    (SELECT id FROM outbox WHERE date_id = ?1 AND state = 'planned' AND happened = 'the date starts' LIMIT ?2)",
                (moved.0, many, now),
            )?;
            Ok::<_, matricle_store::StoreError>(())
        })
        .await?;
    Ok(())
}
