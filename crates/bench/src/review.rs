//! `matricle bench-review`: what the checks on arrival cost among many published events, beside
//! the bare SQL they cannot do without.

use anyhow::{Context, Result};
use jiff::civil::{DateTime, date};
use jiff::{Timestamp, ToSpan};
use matricle_core::Currency;
use matricle_core::dates::schedule::Span;
use matricle_core::review::submission::Typed;
use matricle_desk::review::checking::check;
use matricle_store::events::{self, EventState, NewDate, NewEvent};
use matricle_store::house::{self, House};
use matricle_store::submissions::{self, Submission};
use matricle_store::{Connection, Store, Tx};

use crate::args::ReviewArgs;
use crate::season::{bare, median};

/// The published events are spread over so many days: some 140 to a day.
const DAYS: u32 = 700;
/// What the checks may take, in milliseconds.
const LIMIT: f64 = 50.0;

/// Measures and prints a table.
///
/// # Errors
/// The file cannot be written or read.
pub fn run(args: &ReviewArgs) -> Result<()> {
    let folder = tempfile::tempdir()?;
    Store::open(folder.path())?.close();
    let conn = Store::writer(&folder.path().join("matricle.sqlite"))?;
    let now: Timestamp = "2027-01-01T08:00:00Z".parse()?;
    conn.execute_batch("BEGIN")?;
    fill(&Tx::within(&conn), args.events, now)?;
    conn.execute_batch("COMMIT; ANALYZE")?;
    println!(
        "| published events | submission | checks | bare SQL | times the bare SQL | of the limit of {LIMIT} ms |"
    );
    println!("|---:|---|---:|---:|---:|---:|");
    for (what, fields) in [
        ("one evening", &[("how", "once")][..]),
        (
            "the same, a second wording of one that is there",
            &[("title", "Number 700: evening of queens"), ("place", "Venue 0")],
        ),
        ("a run of twelve weeks", &[("how", "rule"), ("repeat", "week"), ("count", "12")]),
    ] {
        let s = submission(&conn, fields, now)?;
        let took = median(|| {
            std::hint::black_box(check(&conn, &s, &s.typed, now)?);
            Ok(())
        })?;
        let weeks = if fields.iter().any(|(n, _)| *n == "count") { 12 } else { 1 };
        let plain: f64 = (0..weeks).map(|week| bare(&conn, &sql(week))).sum::<Result<f64>>()?;
        println!(
            "| {} | {what} | {:.2} ms | {:.2} ms | {:.2} | {:.2} |",
            args.events,
            took / 1000.0,
            plain / 1000.0,
            took / plain,
            took / 1000.0 / LIMIT
        );
    }
    Ok(())
}

/// The rows of one date that both near-copies and clashes are looked for in.
fn sql(week: i64) -> String {
    let day = date(2027, 6, 14).saturating_add((7 * week).days());
    let at = |hour| {
        let day = day.at(hour, 0, 0, 0).in_tz("Europe/Dublin");
        day.map_or(0, |z| matricle_store::us(z.timestamp()))
    };
    let half = 13 * 3_600_000_000_i64;
    format!(
        "SELECT e.id, e.title, e.description, v.name, d.starts, d.starts_at, d.ends_at FROM dates d \
         JOIN events e ON e.id = d.event_id JOIN venues v ON v.id = d.venue_id \
         WHERE d.starts_at BETWEEN {} AND {} AND e.state = 'published'",
        at(19) - half,
        at(19) + half
    )
}

fn submission(conn: &Connection, with: &[(&str, &str)], now: Timestamp) -> Result<Submission> {
    let mut typed = Typed::default();
    for (name, value) in [
        ("title", "An evening of swarms"),
        ("day", "2027-06-14"),
        ("from", "19:00"),
        ("until", "21:00"),
        ("place", "Vanue 3"),
        ("hosts", "Host 12"),
        ("contact", "wilma@post.example"),
        ("description", "<p>Come and see what a swarm does, ring 0412 55 61 20 or look at www.bees.example.</p>"),
    ]
    .iter()
    .chain(with)
    {
        typed.set(name, value);
    }
    conn.execute_batch("BEGIN")?;
    let id = submissions::begin(&Tx::within(conn), &typed, None, (0, 0), now)?;
    let s = submissions::by_id(conn, id)?.context("it was written down");
    conn.execute_batch("COMMIT")?;
    s
}

/// So many published events of one date each.
fn fill(tx: &Tx<'_>, all: u32, now: Timestamp) -> Result<()> {
    let house = House {
        name: "Season".into(),
        zone: "Europe/Dublin".into(),
        currency: Currency::EUR,
        ..House::default()
    };
    house::set(tx, &house)?;
    let first = date(2027, 1, 2);
    for n in 0..all {
        let starts: DateTime =
            first.saturating_add(i64::from(n % DAYS).days()).at(17 + i8::try_from(n % 4)?, 0, 0, 0);
        let word = ["candles", "pollen", "queens", "heather", "swarms"][usize::try_from(n % 5)?];
        let date = NewDate {
            span: Span::new(starts, starts.saturating_add(2.hours()), &house.zone)?,
            venue: format!("Venue {}", n % 200),
            address: String::new(),
            directions: String::new(),
            room: String::new(),
            hosts: vec![format!("Host {}", n % 97)],
            margins: (0, 0),
            capacities: vec![24],
            sessions: Vec::new(),
            online: None,
        };
        let event = NewEvent {
            slug: format!("evening-{n}"),
            title: format!("An evening of {word}, number {n}"),
            kind: "Evening".into(),
            lead: "Come and see.".into(),
            description: format!(
                "<p>We talk about {word} and look at what the year brought. Tea afterwards; bring a cup.</p>"
            ),
            state: EventState::Published,
            hold_minutes: 15,
            pools: vec!["seats".into()],
            dates: vec![date],
            drop_in: true,
            ..NewEvent::default()
        };
        events::insert(tx, &event, now)?;
    }
    Ok(())
}
