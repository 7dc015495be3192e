//! `matricle bench-bookings`: what booking and looking bookings up cost in files of growing
//! size, beside plain SQL in the same run. Bookings a second on one contended date and over
//! a hundred dates; the list of bookings narrowed by words.

use std::path::Path;
use std::time::Instant;

use anyhow::{Context, Result, ensure};
use jiff::civil::date;
use jiff::{Timestamp, ToSpan};
use matricle_core::booking::details::Details;
use matricle_core::booking::{State, choose};
use matricle_core::dates::schedule::Span;
use matricle_core::money::ledger::{Account, Entry, Method};
use matricle_core::money::price::Buyer;
use matricle_core::people::acting::Acting;
use matricle_core::seats::Wanted;
use matricle_core::words::codes::{Reference, TicketCode};
use matricle_core::{BookingId, Currency, DateId, TicketTypeId};
use matricle_desk::bookings::hold;
use matricle_desk::{DeskError, random_u64};
use matricle_store::bookings::{self, Filter, HeldBy, Order};
use matricle_store::events::{self, Choices, EventState, NewDate, NewEvent, NewTicketType};
use matricle_store::house::{self, House};
use matricle_store::payments::{self, Taken};
use matricle_store::{Connection, Store, Tx, ledger};

use crate::args::BookingsArgs;
use crate::program::book;
use crate::season::{bare, median};

/// Dates that what fills the file is spread over.
const DATES: u32 = 1000;
/// Dates of one event.
const RUN: u32 = 10;
/// Bookings measured in each way.
const MEASURED: u32 = 2000;
/// How many more want the one contended date than it has seats.
const TOO_MANY: u32 = 500;
/// Bookers at once.
const AT_ONCE: u32 = 64;
/// Rows of the list's page.
const PAGE: u32 = 100;

const FIRST: [&str; 20] = [
    "Ana", "Bram", "Cecily", "Dov", "Ezra", "Femke", "Gwen", "Hedda", "Ilse", "Joss", "Kit",
    "Lowri", "Marit", "Nadia", "Orla", "Petra", "Quinn", "Ros", "Siân", "Tove",
];
const LAST: [&str; 30] = [
    "Quill",
    "Solheim",
    "O'Hara",
    "Żak",
    "Lindqvist",
    "Rees",
    "Barrow",
    "Mabon",
    "Tarn",
    "Wren",
    "Ash",
    "Birch",
    "Cole",
    "Dale",
    "Eskdale",
    "Fell",
    "Garth",
    "Holm",
    "Ings",
    "Jagger",
    "Kyme",
    "Lund",
    "Moss",
    "Nye",
    "Orme",
    "Pike",
    "Raine",
    "Sorrel",
    "Thorne",
    "Vale",
];

/// One measured thing, and what plain SQL takes for it in the same run.
struct PlainRow {
    what: &'static str,
    unit: &'static str,
    ours: f64,
    plain: f64,
}

/// Measures and prints a table.
///
/// # Errors
/// The file cannot be written or read, or a seat was sold twice.
pub async fn run(args: &BookingsArgs) -> Result<()> {
    println!("| attendees | what | ours | plain SQL | ours to plain | grown by |");
    println!("|---:|---|---:|---:|---:|---:|");
    let mut before: Vec<PlainRow> = Vec::new();
    for attendees in [10_000, 100_000, 1_000_000].into_iter().filter(|n| *n <= args.most) {
        let all = at_size(attendees).await?;
        for m in &all {
            let grown = before
                .iter()
                .find(|b| b.what == m.what)
                .map_or_else(String::new, |b| format!("{:.2}", m.ours / b.ours));
            println!(
                "| {attendees} | {} | {:.2} {unit} | {:.2} {unit} | {:.2} | {grown} |",
                m.what,
                m.ours,
                m.plain,
                m.ours / m.plain,
                unit = m.unit
            );
        }
        before = all;
    }
    Ok(())
}

#[allow(clippy::disallowed_methods, reason = "a measurement asks the machine's clock")]
fn now() -> Timestamp {
    Timestamp::now()
}

async fn at_size(attendees: u32) -> Result<Vec<PlainRow>> {
    let folder = tempfile::tempdir()?;
    Store::open(folder.path())?.close();
    let file = folder.path().join("matricle.sqlite");
    let conn = Store::writer(&file)?;
    let start = Instant::now();
    conn.execute_batch("BEGIN")?;
    let measured = plan(&Tx::within(&conn))?;
    fill(&Tx::within(&conn), attendees)?;
    conn.execute_batch("COMMIT; ANALYZE; PRAGMA wal_checkpoint(TRUNCATE)")?;
    eprintln!("{attendees} attendees written in {:.0} s", start.elapsed().as_secs_f64());
    let mut rows = lists(&conn)?;
    drop(conn);
    rows.extend(booked(folder.path(), &file, &measured).await?);
    Ok(rows)
}

/// The dates that bookings are measured on: one contended, and a hundred others.
struct Measured {
    ticket: TicketTypeId,
    contended: DateId,
    others: Vec<DateId>,
    /// As contended, for plain SQLite.
    alone: DateId,
}

fn plan(tx: &Tx<'_>) -> Result<Measured> {
    let house = House {
        name: "Bench".into(),
        zone: "Europe/Dublin".into(),
        currency: Currency::EUR,
        ..House::default()
    };
    house::set(tx, &house)?;
    let first = date(2028, 1, 3);
    let dated = |n: u32, seats: Vec<u32>| -> Result<NewDate> {
        let starts = first.saturating_add(i64::from(n % 730).days()).at(19, 0, 0, 0);
        Ok(NewDate {
            span: Span::new(starts, starts.saturating_add(2.hours()), &house.zone)?,
            venue: format!("Venue {}", n % 5),
            address: String::new(),
            directions: String::new(),
            room: String::new(),
            hosts: Vec::new(),
            margins: (0, 0),
            capacities: seats,
            sessions: Vec::new(),
            online: None,
        })
    };
    let event = |slug: String, title: String, dates, tickets| NewEvent {
        slug,
        title,
        kind: "Evening".into(),
        state: EventState::Published,
        hold_minutes: 15,
        pools: vec!["seats".into(), "protective suits".into()],
        tickets,
        dates,
        ..NewEvent::default()
    };
    let ticket = |name: &str, minor, admits, draws: &[(usize, u32)]| NewTicketType {
        name: name.into(),
        minor,
        admits,
        draws: draws.to_vec(),
        ..NewTicketType::default()
    };
    for number in 0..DATES / RUN {
        let words = ["candles", "pollen", "queens", "heather", "swarms"];
        let word = words[usize::try_from(number)? % words.len()];
        let dates = (0..RUN)
            .map(|i| dated(number * 7 + i * 31, vec![1_000_000, 1_000_000]))
            .collect::<Result<_>>()?;
        let tickets = vec![
            ticket("Single", 1200, 1, &[(0, 1)]),
            ticket("Pair at the hive", 2400, 2, &[(0, 2), (1, 2)]),
            ticket("Family", 3000, 4, &[(0, 4)]),
        ];
        let title = format!("An evening of {word}, number {number}");
        events::insert(tx, &event(format!("evening-{number}"), title, dates, tickets), now())?;
    }
    let mut dates = vec![dated(1, vec![MEASURED, 1])?, dated(2, vec![MEASURED, 1])?];
    for n in 0..100 {
        dates.push(dated(3 + n, vec![MEASURED, 1])?);
    }
    let free = vec![ticket("Seat", 0, 1, &[(0, 1)])];
    let made = events::insert(tx, &event("free".into(), "Free".into(), dates, free), now())?;
    let mut dates: Vec<DateId> = events::dates_of(tx, made)?.iter().map(|d| d.id).collect();
    dates.sort_unstable();
    let rows = events::ticket_rows(tx, made)?;
    Ok(Measured {
        ticket: rows.first().context("a ticket")?.id,
        contended: dates[0],
        alone: dates[1],
        others: dates[2..].to_vec(),
    })
}

/// Bookings of all states with their people, money and words, made as the program makes them.
fn fill(tx: &Tx<'_>, attendees: u32) -> Result<()> {
    let dates: Vec<DateId> = tx
        .prepare(
            "SELECT d.id FROM dates d JOIN events e ON e.id = d.event_id WHERE e.slug <> 'free'",
        )?
        .query_map([], |row| row.get(0).map(DateId))?
        .collect::<Result<_, _>>()?;
    let began = now();
    let sheets: Vec<Choices> = dates
        .iter()
        .map(|d| events::choices(tx, Currency::EUR, *d, began)?.context("a date"))
        .collect::<Result<_>>()?;
    let (mut people, mut n) = (0u32, 0u64);
    while people < attendees {
        n += 1;
        let at = usize::try_from(n * 7919 % u64::from(DATES))?;
        let sheet = &sheets[at];
        let which = usize::try_from(n / 13 % 3)?;
        let made = began - jiff::SignedDuration::from_secs(3 * i64::from(attendees - people));
        people += booking(tx, sheet, which, n, made)?;
    }
    Ok(())
}

/// A number far from those of its neighbours, and no other's: times an odd number every bit
/// pattern comes once, in the low bits too.
const fn scattered(n: u64) -> u64 {
    n.wrapping_mul(0x9E37_79B9_7F4A_7C15)
}

/// One booking as the program makes it; how many people it lets in.
pub(crate) fn booking(
    tx: &Tx<'_>,
    sheet: &Choices,
    which: usize,
    n: u64,
    made: Timestamp,
) -> Result<u32> {
    let wanted = [Wanted { ticket: sheet.tickets[which].id, quantity: 1 }];
    let choice = choose(&sheet.offer, &wanted, &Buyer::default(), made)?;
    let mut person = 8 * n;
    let code = || {
        person += 1;
        TicketCode::from_random(scattered(person))
    };
    let reference = Reference::from_random(scattered(n));
    let id = bookings::hold(tx, sheet, reference, &choice, code, &HeldBy::default(), made)?;
    let read = |id: BookingId| -> Result<bookings::Booking> {
        bookings::by_id(tx, id)?.context("the booking just made")
    };
    let at = |i: u64| usize::try_from(i).unwrap_or(0);
    let name = format!("{} {}", FIRST[at(n / 7 % 20)], LAST[at(n / 11 % 30)]);
    let admits = sheet.tickets[which].admits;
    let details = Details {
        email: format!("p{n}@post.example"),
        attendees: (0..admits)
            .map(|i| format!("{} {i}", FIRST[at((n + u64::from(i)) % 20)]))
            .collect(),
        name,
        answers: Default::default(),
        each: Vec::new(),
    };
    let mut booking = read(id)?;
    bookings::complete(tx, &booking, &details, &[], None)?;
    bookings::happened(tx, id, made, &Acting::booker(), "filled the form in")?;
    if n.is_multiple_of(25) {
        bookings::set_state(tx, &booking, State::Requested, None, made)?;
        return Ok(admits);
    }
    bookings::set_state(tx, &booking, State::AwaitingPayment, Some(sheet.offer.starts_at), made)?;
    if n.is_multiple_of(12) {
        return Ok(admits);
    }
    booking = read(id)?;
    let payment = format!("payment-{n}");
    let minor = booking.total.minor;
    let taken =
        Taken { id: &payment, booking: id, minor, method: Method::Cash, who: "a clerk", note: "" };
    payments::take(tx, &taken, made)?;
    bookings::add_paid(tx, id, minor)?;
    let entry = Entry::move_money((Account::Cash, 0), (Account::Receivable, id.0), minor);
    if let Some(entry) = entry {
        ledger::book(tx, &entry, Some(id), "a clerk", "cash", made)?;
    }
    bookings::set_state(tx, &booking, State::Confirmed, None, made)?;
    bookings::happened(tx, id, made, &Acting::program(), "confirmed")?;
    Ok(admits)
}

const SHOWN: &str = "SELECT b.*, e.title, d.starts, (SELECT count(*) FROM attendees a WHERE a.booking_id = b.id) \
     FROM bookings b JOIN dates d ON d.id = b.date_id JOIN events e ON e.id = d.event_id \
     WHERE b.state <> 'held' AND b.test = 0";

/// The list of bookings through its query, beside the plainest SQL for the same rows: columns
/// compared, words looked for by LIKE.
fn lists(conn: &Connection) -> Result<Vec<PlainRow>> {
    let reference: String = conn.query_row(
        "SELECT reference FROM bookings ORDER BY id LIMIT 1 OFFSET 2000",
        [],
        |row| row.get(0),
    )?;
    let typed = Reference::parse(&reference).context("a reference")?.to_string();
    let look = |words: &str, order: Order, skip: u32| {
        let filter = Filter { words: words.into(), order, skip, most: PAGE, ..Filter::default() };
        let found = bookings::list(conn, &filter)?;
        ensure!(!found.rows.is_empty(), "nothing found for {words:?}");
        let took = median(|| {
            std::hint::black_box(bookings::list(conn, &filter)?);
            Ok(())
        })?;
        Ok::<_, anyhow::Error>(took / 1000.0)
    };
    let plain = |and: &str, order: &str| -> Result<f64> {
        let page = format!("{SHOWN} {and} ORDER BY {order} LIMIT {PAGE}");
        let count = format!("SELECT count(*) FROM ({SHOWN} {and})");
        Ok((bare(conn, &page)? + bare(conn, &count)?) / 1000.0)
    };
    let suits = "AND b.state = 'awaiting payment' AND substr(d.starts, 6, 2) = '12' AND EXISTS (SELECT 1 \
         FROM booking_lines l WHERE l.booking_id = b.id AND l.name LIKE '%hive%')";
    let both = "AND b.search LIKE '%solheim%' AND b.search LIKE '%ezra%' AND substr(d.starts, 6, 2) = '12'";
    let cases = [
        ("bookings, the first page", "", Order::Made, 0, "", "b.made_at DESC"),
        ("bookings, the 40th page", "", Order::Made, 39 * PAGE, "", "b.made_at DESC"),
        ("to pay suits december", "to pay suits december", Order::Made, 0, suits, "b.made_at DESC"),
        ("solheim", "solheim", Order::Made, 0, "AND b.search LIKE '%solheim%'", "b.made_at DESC"),
        ("solheim ezra december", "solheim ezra december", Order::Made, 0, both, "b.made_at DESC"),
        (
            "to pay, who owes most first",
            "to pay",
            Order::Due,
            0,
            "AND b.state = 'awaiting payment'",
            "b.total_minor - b.paid_minor DESC",
        ),
    ];
    let mut rows = Vec::new();
    for (what, words, order, skip, and, by) in cases {
        let by = if skip > 0 { format!("{by} LIMIT {PAGE} OFFSET {skip} --") } else { by.into() };
        rows.push(PlainRow {
            what,
            unit: "ms",
            ours: look(words, order, skip)?,
            plain: plain(and, &by)?,
        });
    }
    let and = format!("AND b.search LIKE '%{}%'", typed.to_lowercase().replace('-', " "));
    rows.push(PlainRow {
        what: "a reference among the words",
        unit: "ms",
        ours: look(&typed, Order::Made, 0)?,
        plain: plain(&and, "b.made_at DESC")?,
    });
    Ok(rows)
}

fn keep(tx: &Tx<'_>, date: DateId, ticket: TicketTypeId) -> Result<Reference, DeskError> {
    hold::keep_in(
        tx,
        date,
        &[Wanted { ticket, quantity: 1 }],
        &HeldBy::default(),
        None,
        &crate::program::turn(),
    )
}

/// Books through the writing thread, many at once, one of `dates` after the other; gives how
/// many got a seat, and answers a second.
async fn through_the_store(
    store: &Store,
    dates: &[DateId],
    ticket: TicketTypeId,
    count: u32,
) -> Result<(u32, f64)> {
    let start = Instant::now();
    let mut tasks = Vec::new();
    for first in 0..AT_ONCE {
        let (store, dates) = (store.clone(), dates.to_vec());
        tasks.push(tokio::spawn(async move {
            let mut booked = 0u32;
            for n in (first..count).step_by(usize::try_from(AT_ONCE)?) {
                let date = dates[usize::try_from(n)? % dates.len()];
                let kept = store.write(move |tx| keep(tx, date, ticket)).await;
                match kept {
                    Ok(reference) => {
                        store.write(move |tx| book(tx, reference)).await?;
                        booked += 1;
                    }
                    Err(DeskError::Choice(_)) => {}
                    Err(error) => return Err(error.into()),
                }
            }
            Ok::<_, anyhow::Error>(booked)
        }));
    }
    let mut booked = 0;
    for task in tasks {
        booked += task.await??;
    }
    Ok((booked, f64::from(count) / start.elapsed().as_secs_f64()))
}

/// The least that a booking can be in SQLite: a counter that stops at its limit, a row, a
/// person, one commit.
fn plainest(folder: &Path, dates: u32, count: u32) -> Result<f64> {
    let conn = Store::writer(&folder.join(format!("plain-{dates}.sqlite")))?;
    conn.execute_batch(
        "CREATE TABLE pool (id INTEGER PRIMARY KEY, capacity INTEGER NOT NULL, taken INTEGER NOT NULL);
         CREATE TABLE booking (id INTEGER PRIMARY KEY, reference TEXT NOT NULL UNIQUE, pool INTEGER NOT NULL,
            name TEXT NOT NULL, email TEXT NOT NULL, made_at INTEGER NOT NULL);
         CREATE TABLE person (id INTEGER PRIMARY KEY, booking INTEGER NOT NULL, code TEXT NOT NULL UNIQUE);",
    )?;
    for id in 0..dates {
        conn.execute("INSERT INTO pool VALUES (?1, ?2, 0)", (id, MEASURED))?;
    }
    let start = Instant::now();
    for n in 0..count {
        conn.execute_batch("BEGIN IMMEDIATE")?;
        let free = conn
            .prepare_cached("UPDATE pool SET taken = taken + 1 WHERE id = ?1 AND taken < capacity")?
            .execute([n % dates])?;
        if free == 1 {
            let reference = Reference::from_random(random_u64());
            conn.prepare_cached("INSERT INTO booking (reference, pool, name, email, made_at) VALUES (?1, ?2, ?3, ?4, ?5)")?
                .execute((reference.as_str(), n % dates, "Ana Quill", "ana@post.example", n))?;
            conn.prepare_cached("INSERT INTO person (booking, code) VALUES (?1, ?2)")?.execute(
                (conn.last_insert_rowid(), TicketCode::from_random(random_u64()).as_str()),
            )?;
        }
        conn.execute_batch("COMMIT")?;
    }
    Ok(f64::from(count) / start.elapsed().as_secs_f64())
}

async fn booked(folder: &Path, file: &Path, on: &Measured) -> Result<Vec<PlainRow>> {
    let store = Store::open(folder)?;
    let everybody = MEASURED + TOO_MANY;
    let (sold, contended) =
        through_the_store(&store, &[on.contended], on.ticket, everybody).await?;
    ensure!(sold == MEASURED, "{sold} seats sold of {MEASURED}");
    let (_, spread) = through_the_store(&store, &on.others, on.ticket, MEASURED).await?;
    store.close();
    drop(store);
    let (one, hundred) = (plainest(folder, 1, everybody)?, plainest(folder, 100, MEASURED)?);
    // The same use cases without the writing thread: two answers, a commit each.
    let conn = Store::writer(file)?;
    let start = Instant::now();
    for _ in 0..MEASURED {
        conn.execute_batch("BEGIN IMMEDIATE")?;
        let reference = keep(&Tx::within(&conn), on.alone, on.ticket)?;
        conn.execute_batch("COMMIT; BEGIN IMMEDIATE")?;
        book(&Tx::within(&conn), reference)?;
        conn.execute_batch("COMMIT")?;
    }
    let same = f64::from(MEASURED) / start.elapsed().as_secs_f64();
    let row = |what, ours, plain| PlainRow { what, unit: "a second", ours, plain };
    Ok(vec![
        row("bookings on one contended date; plain: the least in SQL", contended, one),
        row("bookings on one contended date; plain: the same, a commit each", contended, same),
        row("bookings over 100 dates; plain: the least in SQL", spread, hundred),
    ])
}
