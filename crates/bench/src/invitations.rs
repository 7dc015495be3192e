//! `matricle bench-invitations`: a long list of addresses looked at, put on the list of an event and
//! planned to be asked, beside the same rows in plain SQL in the same run; scans at a door
//! meanwhile, against none meanwhile.

use std::fmt::Write as _;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context, Result, ensure};
use matricle_core::EventId;
use matricle_core::forms::form::Form;
use matricle_desk::Desk;
use matricle_desk::planning::invitations::From;
use matricle_desk::planning::{asking, invitations};
use matricle_store::people::Staff;
use matricle_store::{Connection, StoreError, events, people};

use crate::args::InvitationsArgs;
use crate::messages::{fill, scans};
use matricle_serve::serve::{Parts, desk};

/// One address of a hundred stands there twice.
const DOUBLES: u32 = 100;
/// Lists that are planned while the doors scan.
const LISTS: u32 = 4;

/// Runs it.
///
/// # Errors
/// The store fails, or a list comes to something else than it should.
pub async fn run(args: &InvitationsArgs) -> Result<()> {
    let folder = tempfile::tempdir()?;
    let with = desk(Parts::alone(folder.path(), "http://127.0.0.1:9".into())?)?;
    let (date, scanned) = fill(&with, 0).await?;
    let find = move |c: &Connection| {
        let bram = people::by_email(c, "bram@bench.example")?.map(|found| found.0);
        Ok::<_, StoreError>(bram.zip(events::date_by_id(c, date)?.map(|found| found.0.id)))
    };
    let (bram, event) = with.store.read(find).await?.context("an event")?;
    println!(
        "| addresses | what | took | an address | plain SQL | to plain |\n|---:|---|---:|---:|---:|---:|"
    );
    let mut each = Vec::new();
    for many in [args.most / 10, args.most] {
        let took = one(&with, (&bram, event), many).await?;
        let plain = plain(folder.path(), many)?;
        for (what, t) in
            [("looked at", took.looked), ("put on the list", took.kept), ("planned", took.planned)]
        {
            println!(
                "| {many} | {what} | {:.0} ms | {:.1} µs | {:.0} ms | {:.1} |",
                millis(t),
                millis(t) * 1000.0 / f64::from(many),
                millis(plain),
                t.as_secs_f64() / plain.as_secs_f64()
            );
        }
        each.push((took.looked + took.kept + took.planned).as_secs_f64() / f64::from(many));
    }
    println!(
        "an address of the long list costs {:.2} of one of the short (limit 1.50)",
        each[1] / each[0]
    );

    let quiet = scans(&with, scanned, 0, None).await?;
    let done = Arc::new(AtomicBool::new(false));
    let scanning = tokio::spawn({
        let (with, done) = (with.clone(), Arc::clone(&done));
        async move { scans(&with, scanned, 1, Some(done)).await }
    });
    for n in 0..LISTS {
        let list = one(&with, (&bram, event), args.most + n + 1).await;
        if list.is_err() || n + 1 == LISTS {
            done.store(true, Ordering::Relaxed);
        }
        list?;
    }
    let busy = scanning.await??;
    for (what, s) in [("nothing else", &quiet), ("lists meanwhile", &busy)] {
        println!("{what}: {:.0} scans a second, the longest {:.1} ms", s.rate, millis(s.longest));
    }
    println!("scans meanwhile to none: {:.2} (limit 0.50)", busy.rate / quiet.rate);
    Ok(())
}

fn millis(t: Duration) -> f64 {
    t.as_secs_f64() * 1000.0
}

/// What a list took.
struct Took {
    looked: Duration,
    kept: Duration,
    planned: Duration,
}

/// A list of so many addresses, as people paste it: looked at, kept, planned.
async fn one(desk: &Desk, (staff, event): (&Staff, EventId), many: u32) -> Result<Took> {
    let mut text = String::new();
    for n in 0..many {
        let ends = ["\n", "; ", ", "][n as usize % 3];
        write!(text, "\"Guest, {n}\" <guest.{n}@list{many}.example>{ends}")?;
        if n % DOUBLES == 0 {
            writeln!(text, "GUEST.{n}@list{many}.example")?;
        }
    }
    let wanted = usize::try_from(many)?;
    let started = Instant::now();
    let looked = invitations::look(desk, staff, event, text.clone(), From::Nowhere).await?;
    let took = started.elapsed();
    ensure!(looked.addresses.len() == wanted && looked.wrong.is_empty(), "all of them are found");
    let started = Instant::now();
    let form = Form::new(vec![("whom".to_owned(), text)]);
    let added = invitations::add(desk, staff, event, form).await?;
    let kept = started.elapsed();
    ensure!(added.new == wanted, "all of them are new");
    let started = Instant::now();
    ensure!(asking::send(desk, staff, event).await? == wanted, "all of them are asked");
    Ok(Took { looked: took, kept, planned: started.elapsed() })
}

/// As many rows in two plain tables with an index each, in one transaction: who is invited, and a
/// message to each.
fn plain(folder: &std::path::Path, many: u32) -> Result<Duration> {
    let conn = Connection::open(folder.join(format!("plain-{many}.sqlite")))?;
    conn.execute_batch(
        "PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL;
         CREATE TABLE people (id INTEGER PRIMARY KEY, email TEXT UNIQUE) STRICT;
         CREATE TABLE messages (id INTEGER PRIMARY KEY, email TEXT, at INTEGER) STRICT;
         CREATE INDEX by_minute ON messages (at);",
    )?;
    let started = Instant::now();
    conn.execute_batch("BEGIN IMMEDIATE")?;
    for n in 0..many {
        let email = format!("guest.{n}@list{many}.example");
        conn.prepare_cached("INSERT INTO people (email) VALUES (?1)")?.execute([&email])?;
        conn.prepare_cached("INSERT INTO messages (email, at) VALUES (?1, ?2)")?
            .execute((&email, n))?;
    }
    conn.execute_batch("COMMIT")?;
    Ok(started.elapsed())
}
