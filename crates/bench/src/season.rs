//! `matricle bench-season`: what lists of many dates cost. The catalogue, its search, the
//! board's month and the search for clashes at growing numbers of dates, beside the bare
//! SQL they cannot do without.

use std::time::Instant;

use anyhow::{Context, Result};
use jiff::civil::{DateTime, date};
use jiff::{Timestamp, ToSpan};
use matricle_core::Currency;
use matricle_core::dates::clash::Calendar;
use matricle_core::dates::schedule::Span;
use matricle_desk::planning::board::read_board;
use matricle_desk::programme::{A_PAGE, Wish, find};
use matricle_store::events::{self, EventState, NewDate, NewEvent, NewTicketType};
use matricle_store::house::{self, House};
use matricle_store::{Connection, Store, Tx, clashes};

use crate::args::SeasonArgs;

/// Dates of one event.
const RUN: u32 = 50;
/// Rooms that share them.
const ROOMS: u32 = 20;
/// Times each thing is measured; the median counts.
const TIMES: usize = 15;

/// One measured thing: its name, and how long it and its bare SQL take, in microseconds.
struct Measured {
    what: &'static str,
    took: f64,
    bare: f64,
}

/// Measures and prints a table.
///
/// # Errors
/// The file cannot be written or read.
pub fn run(args: &SeasonArgs) -> Result<()> {
    println!("| dates | what | took | bare SQL | times the bare SQL | grown by |");
    println!("|---:|---|---:|---:|---:|---:|");
    let mut before: Vec<Measured> = Vec::new();
    for dates in [100, 10_000, 100_000].into_iter().filter(|n| *n <= args.most) {
        let all = at_size(dates)?;
        for m in &all {
            let grown = before
                .iter()
                .find(|b| b.what == m.what)
                .map_or_else(String::new, |b| format!("{:.1}", m.took / b.took));
            println!(
                "| {dates} | {} | {:.2} ms | {:.3} ms | {:.2} | {grown} |",
                m.what,
                m.took / 1000.0,
                m.bare / 1000.0,
                m.took / m.bare
            );
        }
        before = all;
    }
    Ok(())
}

fn at_size(dates: u32) -> Result<Vec<Measured>> {
    let folder = tempfile::tempdir()?;
    Store::open(folder.path())?.close();
    let conn = Store::writer(&folder.path().join("matricle.sqlite"))?;
    let now: Timestamp = "2027-01-01T08:00:00Z".parse()?;
    let house = House {
        name: "Season".into(),
        zone: "Europe/Dublin".into(),
        currency: Currency::EUR,
        ..House::default()
    };
    conn.execute_batch("BEGIN")?;
    fill(&Tx::within(&conn), &house, dates, now)?;
    conn.execute_batch("COMMIT; ANALYZE")?;
    measure(&conn, &house, now)
}

/// Ten years of evenings, as many a day as it takes, in twenty rooms.
fn fill(tx: &Tx<'_>, house: &House, dates: u32, now: Timestamp) -> Result<()> {
    house::set(tx, house)?;
    let first = date(2027, 1, 2);
    let days = 3650;
    let mut made = 0;
    while made < dates {
        let number = made / RUN;
        let run: Vec<NewDate> = (0..RUN.min(dates - made))
            .map(|i| {
                let n = u64::from(made + i);
                // Spread evenly and, unless there are more dates than days, without clashes.
                let day = i64::try_from(n * 7919 % days).unwrap_or(0);
                let starts: DateTime = first.saturating_add(day.days()).at(17, 0, 0, 0);
                let span = Span::new(starts, starts.saturating_add(2.hours()), &house.zone)?;
                Ok(NewDate {
                    span,
                    venue: format!("Venue {}", n % 5),
                    address: String::new(),
                    directions: String::new(),
                    room: format!("room {}", n % u64::from(ROOMS)),
                    hosts: vec![format!("Host {}", n % 97)],
                    margins: (15, 15),
                    capacities: vec![24],
                    sessions: Vec::new(),
                    online: None,
                })
            })
            .collect::<Result<_, matricle_core::dates::schedule::SpanError>>()?;
        let word = ["candles", "pollen", "queens", "heather", "swarms"]
            [usize::try_from(number % 5).unwrap_or(0)];
        let event = NewEvent {
            slug: format!("evening-{number}"),
            title: format!("An evening of {word}, number {number}"),
            kind: "Evening".into(),
            lead: "Come and see.".into(),
            state: EventState::Published,
            hold_minutes: 15,
            pools: vec!["seats".into()],
            tickets: vec![NewTicketType::default()],
            dates: run,
            ..NewEvent::default()
        };
        events::insert(tx, &event, now)?;
        made += RUN;
    }
    Ok(())
}

/// The median of some runs, in microseconds.
pub(crate) fn median(mut act: impl FnMut() -> Result<()>) -> Result<f64> {
    let mut times = Vec::new();
    for _ in 0..TIMES {
        let start = Instant::now();
        act()?;
        times.push(start.elapsed().as_secs_f64() * 1e6);
    }
    times.sort_by(f64::total_cmp);
    times.get(TIMES / 2).copied().context("no time was measured")
}

/// Reads every column of every row of a query.
pub(crate) fn bare(conn: &Connection, sql: &str) -> Result<f64> {
    median(|| {
        let mut query = conn.prepare_cached(sql)?;
        let columns = query.column_count();
        let mut rows = query.query([])?;
        while let Some(row) = rows.next()? {
            for i in 0..columns {
                std::hint::black_box(row.get_ref(i)?);
            }
        }
        Ok(())
    })
}

const PAGE_SQL: &str = "SELECT d.*, e.title, e.slug, e.lead, v.name, p.capacity, p.confirmed FROM dates d \
     JOIN events e ON e.id = d.event_id JOIN venues v ON v.id = d.venue_id \
     JOIN pool_kinds k ON k.event_id = e.id AND k.position = 0 JOIN pools p ON p.date_id = d.id AND p.kind_id = k.id \
     WHERE e.state = 'published' AND e.listed = 1";

fn measure(conn: &Connection, house: &House, now: Timestamp) -> Result<Vec<Measured>> {
    let month = (date(2027, 5, 1), date(2027, 6, 1));
    let wish = |words: &str| Wish { words: words.into(), ..Wish::default() };
    let look = |wish: &Wish| {
        median(|| {
            std::hint::black_box(find(conn, house, wish, A_PAGE, now)?);
            Ok(())
        })
    };
    let us = matricle_store::us(now);
    let at = |day: jiff::civil::Date| -> Result<i64> {
        Ok(matricle_store::us(day.in_tz(&house.zone)?.timestamp()))
    };
    let (from, until) = (at(month.0)?, at(month.1)?);
    let in_month = format!("d.starts_at >= {} AND d.starts_at < {until}", from - 86_400_000_000);
    let page =
        format!("{PAGE_SQL} AND d.starts_at >= {us} ORDER BY d.starts_at, d.id LIMIT {A_PAGE}");
    let found = format!(
        "{PAGE_SQL} AND d.starts_at >= {us} AND e.id IN (SELECT rowid FROM event_text \
         WHERE event_text MATCH 'heather') ORDER BY d.starts_at, d.id LIMIT {A_PAGE}"
    );
    let uses = format!(
        "SELECT d.id, d.room_id, h.host_id, d.starts_at, d.ends_at FROM dates d \
         LEFT JOIN date_hosts h ON h.date_id = d.id WHERE {in_month}"
    );
    let board = format!("{PAGE_SQL} AND {in_month} ORDER BY d.starts_at LIMIT 2000");
    let day = SpanOfDay { from: at(date(2027, 5, 14))?, until: at(date(2027, 5, 15))? };
    let one_day = format!(
        "SELECT d.id, d.room_id, h.host_id, d.starts_at, d.ends_at FROM dates d LEFT JOIN date_hosts h \
         ON h.date_id = d.id WHERE d.starts_at >= {} AND d.starts_at < {}",
        day.from - 86_400_000_000,
        day.until
    );
    Ok(vec![
        Measured {
            what: "catalogue page",
            took: look(&Wish::default())?,
            bare: bare(conn, &page)?,
        },
        Measured {
            what: "catalogue, a mistyped word",
            took: look(&wish("haether"))?,
            bare: bare(conn, &found)?,
        },
        Measured {
            what: "board, a month, clashes in it",
            took: median(|| {
                std::hint::black_box(read_board(conn, house.clone(), month, now)?);
                Ok(())
            })?,
            bare: bare(conn, &board)? + bare(conn, &uses)?,
        },
        Measured {
            what: "clashes of one evening",
            took: median(|| {
                let (from, until) = (matricle_store::at(day.from), matricle_store::at(day.until));
                let calendar = Calendar::new(clashes::uses(conn, from, until)?);
                std::hint::black_box(calendar.pairs().len());
                Ok(())
            })?,
            bare: bare(conn, &one_day)?,
        },
    ])
}

/// A day as microseconds.
struct SpanOfDay {
    from: i64,
    until: i64,
}
