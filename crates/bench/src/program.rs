//! `matricle bench`: the program over HTTP, beside the same transactions in plain
//! SQLite and beside bare Axum, in one run on one machine.

use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context, Result, ensure};
use axum::Router;
use axum::response::Html;
use axum::routing::get;
use jiff::Timestamp;
use matricle_core::booking::details::Draft;
use matricle_core::people::acting::Acting;
use matricle_core::people::staff::Role;
use matricle_core::seats::Wanted;
use matricle_core::words::codes::Reference;
use matricle_core::{Currency, DateId, TicketTypeId};
use matricle_desk::acting::Turn;
use matricle_desk::bookings::submit::Booker;
use matricle_desk::bookings::{hold, submit};
use matricle_desk::door::{Device, Shown, Volunteer, show_in};
use matricle_desk::people::asking::Asking;
use matricle_desk::people::often::Often;
use matricle_desk::people::signin;
use matricle_desk::planning::plan;
use matricle_desk::{Desk, DeskError, Secrets};
use matricle_store::bookings::HeldBy;
use matricle_store::house::{self, House};
use matricle_store::people::Staff;
use matricle_store::{Store, Tx, bookings};
use matricle_web::{Limits, Settings, router};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

use crate::args::BenchArgs;
use matricle_serve::serve::{Parts, desk};

/// Bookings made before measuring, of which each has ten people to scan.
const PEOPLE: u32 = 10;

/// Measures and prints a table.
///
/// # Errors
/// Something does not start, or answers what it should not.
pub async fn run(args: &BenchArgs) -> Result<()> {
    let folder = tempfile::tempdir()?;
    let scans = args.count;
    let site = Site::open(folder.path(), scans).await?;
    eprintln!("{scans} tickets are ready; measuring …");

    // Over HTTP, through the real pages.
    let codes = Arc::new(site.codes.clone());
    let (date, head) = (site.date, form_head(&site.desk.secrets, VISITOR, &site.session));
    let half = codes.len() / 2;
    let scan_http = {
        let codes = Arc::clone(&codes);
        let request = move |i: u32| {
            let code = &codes[usize::try_from(i).unwrap_or(0)];
            let body = format!("text={code}&by=scanner&key=http-{i:08}");
            format!(
                "POST /door/{date}/scan HTTP/1.1\r\n{head}hx-request: true\r\ncontent-length: {}\r\n\r\n{body}",
                body.len()
            )
        };
        let count = u32::try_from(half)?;
        over_http(site.address, args.connections, count, request, "data-verdict=\"in\"").await?
    };
    let bookings = scans / 4;
    let book_http = site.book_over_http(args.connections, bookings).await?;
    let page = site.page().await?;
    let views = scans;
    let path = "GET /events/evening HTTP/1.1\r\nhost: bench.example\r\n\r\n";
    let page_http =
        over_http(site.address, args.connections, views, move |_| path.into(), "Keep these seats")
            .await?;

    // Bare Axum with a page of the same size.
    let bare = bare(page.len()).await?;
    let page_bare = over_http(bare, args.connections, views, move |_| path.into(), "xxxx").await?;

    // The same transactions without the server: one commit each, and sixteen to a commit.
    let staff = site.staff.clone();
    let ticket = site.ticket;
    site.close().await?;
    let file = folder.path().join("matricle.sqlite");
    let rest = &codes[half..];
    let (one_each, sixteen) = rest.split_at(rest.len() / 2);
    let scan_each = in_sqlite(&file, one_each.len(), 1, |tx, i| {
        scan(tx, &staff, date, &format!("each-{i}"), &one_each[i])
    })?;
    let scan_sixteen = in_sqlite(&file, sixteen.len(), 16, |tx, i| {
        scan(tx, &staff, date, &format!("sixteen-{i}"), &sixteen[i])
    })?;
    let plain = usize::try_from(bookings)?;
    // Over HTTP a booking is two answers, each on disk: keeping and booking.
    let book_each = in_sqlite_twice(&file, plain, date, ticket)?;
    let book_sixteen = in_sqlite(&file, plain, 16, |tx, _| {
        let reference = keep(tx, date, ticket)?;
        book(tx, reference)
    })?;

    let (least_scan, least_booking) =
        (least_scans(folder.path(), scans)?, least_bookings(folder.path(), bookings)?);

    println!(
        "| measured with {} connections on {} cores | a second | ratio |",
        args.connections,
        cores()
    );
    println!("|---|---:|---|");
    row("scans over HTTP, each on disk", scan_http, None);
    row("scans, plain SQLite, a commit each", scan_each, Some(("HTTP is", scan_http / scan_each)));
    row(
        "scans, plain SQLite, 16 to a commit",
        scan_sixteen,
        Some(("HTTP is", scan_http / scan_sixteen)),
    );
    row(
        "scans, least in SQL, a commit each",
        least_scan,
        Some(("HTTP is", scan_http / least_scan)),
    );
    row("two-seat bookings over HTTP, each on disk", book_http, None);
    row(
        "two-seat bookings, plain SQLite, a commit each answer",
        book_each,
        Some(("HTTP is", book_http / book_each)),
    );
    row(
        "two-seat bookings, plain SQLite, 16 to a commit",
        book_sixteen,
        Some(("HTTP is", book_http / book_sixteen)),
    );
    row(
        "two-seat bookings, least in SQL, a commit each",
        least_booking,
        Some(("HTTP is", book_http / least_booking)),
    );
    row("event page", page_http, None);
    row(
        &format!("bare Axum, a page of {} bytes", page.len()),
        page_bare,
        Some(("the event page is", page_http / page_bare)),
    );
    Ok(())
}

fn row(what: &str, per_second: f64, ratio: Option<(&str, f64)>) {
    let ratio =
        ratio.map_or_else(String::new, |(words, r)| format!("{words} {r:.2} times as fast"));
    println!("| {what} | {per_second:.0} | {ratio} |");
}

fn cores() -> usize {
    std::thread::available_parallelism().map_or(1, std::num::NonZero::get)
}

/// A house with one large evening, a door volunteer, and tickets to scan.
pub(crate) struct Site {
    pub(crate) desk: Desk,
    pub(crate) address: SocketAddr,
    pub(crate) date: DateId,
    ticket: TicketTypeId,
    pub(crate) staff: Staff,
    pub(crate) session: String,
    pub(crate) codes: Vec<String>,
    stop: watch::Sender<bool>,
    serving: tokio::task::JoinHandle<()>,
}

/// The visitor that all requests of the measurement pretend to be.
pub(crate) const VISITOR: &str = "AAAAAAAAAAAAAAAAAAAAAA";

impl Site {
    pub(crate) async fn open(folder: &std::path::Path, tickets: u32) -> Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let address = listener.local_addr()?;
        let desk = desk(Parts {
            card: Some(("http://127.0.0.1:9".into(), String::new(), vec![0; 16])),
            ..Parts::alone(folder, format!("http://{address}"))?
        })?;
        desk.store
            .write(|tx| {
                house::set(
                    tx,
                    &House {
                        name: "Bench".into(),
                        currency: Currency::EUR,
                        zone: "Europe/Dublin".into(),
                        email: "office@bench.example".into(),
                        terms: "I agree.".into(),
                        ..House::default()
                    },
                )
            })
            .await?;
        let event = include_str!("bench.event.toml");
        plan::publish(&desk, event).await?;
        let (name, email) = ("Bram".to_owned(), "bram@bench.example".to_owned());
        signin::employ(&desk, name, email.clone(), Role::Door, "smoker-is-lit".into()).await?;
        let session =
            signin::sign_in(&desk, email, "smoker-is-lit".into(), Default::default()).await?;
        let staff = signin::session(&desk, &session).await?.context("a session")?;
        let (date, ticket) = (DateId(1), TicketTypeId(1));
        let codes = desk
            .store
            .write(move |tx| {
                // Its day is far off; somebody has opened its door.
                matricle_store::door::set_open(tx, date, Some("Bench"), now())?;
                let mut codes = Vec::new();
                while codes.len() < tickets as usize {
                    let wanted = [Wanted { ticket, quantity: PEOPLE }];
                    let reference =
                        hold::keep_in(tx, date, &wanted, &HeldBy::default(), None, &turn())?;
                    book(tx, reference)?;
                    let booking =
                        bookings::by_reference(tx, reference)?.ok_or(DeskError::NotFound)?;
                    let people = bookings::attendees(tx, booking.id)?;
                    codes.extend(people.iter().map(|a| a.code.as_str().to_owned()));
                }
                Ok::<_, DeskError>(codes)
            })
            .await?;
        let (stop, stopping) = watch::channel(false);
        let settings = Settings {
            secure_cookies: false,
            // Everybody comes from a network of their own, as the proxy in front tells.
            behind_proxy: true,
            pay_origin: "http://127.0.0.1:9".into(),
            limits: Limits { sign_in: u32::MAX, booking: u32::MAX },
            demo: &[],
            observed: Default::default(),
        };
        let app = router(desk.clone(), settings, stopping.clone());
        let mut stopped = stopping;
        let serving = tokio::spawn(async move {
            let service = app.into_make_service_with_connect_info::<SocketAddr>();
            let server = axum::serve(listener, service).with_graceful_shutdown(async move {
                let _ = stopped.wait_for(|s| *s).await;
            });
            if let Err(error) = server.await {
                tracing::error!(%error, "serving");
            }
        });
        Ok(Self { desk, address, date, ticket, staff, session, codes, stop, serving })
    }

    /// Keeps two seats and books them, both through the pages.
    async fn book_over_http(&self, connections: u32, count: u32) -> Result<f64> {
        let next = Arc::new(AtomicU32::new(0));
        let (address, date, ticket) = (self.address, self.date, self.ticket);
        let start = Instant::now();
        let mut tasks = Vec::new();
        for _ in 0..connections {
            let (secrets, next) = (Arc::clone(&self.desk.secrets), Arc::clone(&next));
            tasks.push(tokio::spawn(async move {
                let mut line = Wire::open(address).await?;
                loop {
                    let n = next.fetch_add(1, Ordering::Relaxed);
                    if n >= count {
                        break;
                    }
                    let from = Ipv4Addr::from_bits(0x6440_0000 + (n << 8));
                    let visitor = format!("{n:0>22}");
                    let head = form_head(&secrets, &visitor, "");
                    let head = format!("x-forwarded-for: {from}\r\n{head}");
                    let body = format!("date={date}&q_{ticket}=2");
                    let kept = line.ask(&post("/events/evening/keep", &head, &body)).await?;
                    let own = kept
                        .split("location: ")
                        .nth(1)
                        .and_then(|l| l.split("\r\n").next())
                        .with_context(|| format!("not kept: {kept}"))?
                        .to_owned();
                    let who = own.trim_matches('/').replace('/', "-");
                    let body = format!(
                        "name=Ana+Quill&email={who}@post.example&attendee_1=Kit&agreed=yes"
                    );
                    let done = line.ask(&post(&format!("{own}/book"), &head, &body)).await?;
                    ensure!(done.starts_with("HTTP/1.1 303"), "not booked: {done}");
                }
                Ok::<_, anyhow::Error>(())
            }));
        }
        for task in tasks {
            task.await??;
        }
        Ok(f64::from(count) / start.elapsed().as_secs_f64())
    }

    async fn page(&self) -> Result<String> {
        let answer = Wire::open(self.address)
            .await?
            .ask("GET /events/evening HTTP/1.1\r\nhost: bench.example\r\n\r\n")
            .await?;
        Ok(answer.split_once("\r\n\r\n").context("a page")?.1.to_owned())
    }

    pub(crate) async fn close(self) -> Result<()> {
        self.stop.send(true)?;
        let _ = tokio::time::timeout(Duration::from_secs(3), self.serving).await;
        self.desk.store.close();
        Ok(())
    }
}

#[allow(clippy::disallowed_methods, reason = "a measurement asks the machine's clock")]
pub(crate) fn now() -> Timestamp {
    Timestamp::now()
}

/// The lines that every form of the measurement begins with.
pub(crate) fn form_head(secrets: &Secrets, visitor: &str, session: &str) -> String {
    format!(
        "host: bench.example\r\ncookie: visitor={visitor}; session={session}\r\nx-form-token: {}\r\n\
         content-type: application/x-www-form-urlencoded\r\n",
        secrets.form_token(visitor)
    )
}

pub(crate) fn post(path: &str, head: &str, body: &str) -> String {
    format!("POST {path} HTTP/1.1\r\n{head}content-length: {}\r\n\r\n{body}", body.len())
}

/// An act of a booker, now.
pub(crate) fn turn() -> Turn {
    Turn { by: Acting::booker(), now: now(), host: "bench.example".into(), word: Arc::from("") }
}

fn keep(tx: &Tx<'_>, date: DateId, ticket: TicketTypeId) -> Result<Reference, DeskError> {
    hold::keep_in(tx, date, &[Wanted { ticket, quantity: 2 }], &HeldBy::default(), None, &turn())
}

/// Books what is kept, for as many people as there are. Every booker is somebody else: who books a date
/// twice is asked about it.
pub(crate) fn book(tx: &Tx<'_>, reference: Reference) -> Result<(), DeskError> {
    let draft = Draft {
        name: "Ana Quill".into(),
        email: format!("{}@post.example", reference.as_str()),
        attendees: vec!["Kit".into(); PEOPLE as usize],
        agreed: true,
        ..Draft::default()
    };
    // Everybody asks without having proved an address, as most bookers do.
    static BOOKER: std::sync::OnceLock<Booker> = std::sync::OnceLock::new();
    let booker = BOOKER.get_or_init(|| Booker {
        asking: Asking::default(),
        secrets: Arc::new(Secrets::new([0; 32])),
        often: Arc::new(Often::new(u32::MAX)),
    });
    submit::submit_in(tx, booker, reference, &draft, &turn()).map(drop)
}

fn scan(tx: &Tx<'_>, staff: &Staff, date: DateId, key: &str, code: &str) -> Result<(), DeskError> {
    let shown = Shown::Text(code.into());
    let (volunteer, device) = (Volunteer::from(staff), Device::at("gate", key));
    let by = Turn { by: volunteer.acting(), ..turn() };
    let outcome = show_in(tx, &volunteer, date, &device, &shown, &by)?;
    if outcome.told.verdict.admits() {
        Ok(())
    } else {
        Err(DeskError::Internal(format!("{code}: {}", outcome.told.verdict.word())))
    }
}

/// Runs the same job again and again on a connection of its own, so many to a commit.
fn in_sqlite(
    file: &std::path::Path,
    count: usize,
    to_a_commit: usize,
    mut job: impl FnMut(&Tx<'_>, usize) -> Result<(), DeskError>,
) -> Result<f64> {
    let conn = Store::writer(file)?;
    let start = Instant::now();
    for first in (0..count).step_by(to_a_commit) {
        conn.prepare_cached("BEGIN IMMEDIATE")?.execute([])?;
        let tx = Tx::within(&conn);
        for i in first..count.min(first + to_a_commit) {
            job(&tx, i)?;
        }
        conn.prepare_cached("COMMIT")?.execute([])?;
    }
    rate(count, start)
}

fn in_sqlite_twice(
    file: &std::path::Path,
    count: usize,
    date: DateId,
    ticket: TicketTypeId,
) -> Result<f64> {
    let conn = Store::writer(file)?;
    let start = Instant::now();
    for _ in 0..count {
        conn.prepare_cached("BEGIN IMMEDIATE")?.execute([])?;
        let reference = keep(&Tx::within(&conn), date, ticket)?;
        conn.prepare_cached("COMMIT")?.execute([])?;
        conn.prepare_cached("BEGIN IMMEDIATE")?.execute([])?;
        book(&Tx::within(&conn), reference)?;
        conn.prepare_cached("COMMIT")?.execute([])?;
    }
    rate(count, start)
}

/// The least that a booking of two can be in SQL, in plain tables of its own: one `UPDATE` of a
/// pool, one row for the booking, two for its people, a commit each.
fn least_bookings(folder: &std::path::Path, count: u32) -> Result<f64> {
    let conn = Store::writer(&folder.join("least-bookings.sqlite"))?;
    conn.execute_batch(
        "CREATE TABLE pools (id INTEGER PRIMARY KEY, taken INTEGER NOT NULL) STRICT;
         CREATE TABLE bookings (id INTEGER PRIMARY KEY, reference TEXT NOT NULL UNIQUE) STRICT;
         CREATE TABLE people (id INTEGER PRIMARY KEY, booking INTEGER NOT NULL, code TEXT NOT NULL UNIQUE) STRICT;
         INSERT INTO pools VALUES (1, 0);",
    )?;
    let start = Instant::now();
    for i in 0..count {
        conn.prepare_cached("BEGIN IMMEDIATE")?.execute([])?;
        conn.prepare_cached("UPDATE pools SET taken = taken + 2 WHERE id = 1")?.execute([])?;
        conn.prepare_cached("INSERT INTO bookings (reference) VALUES (?1)")?
            .execute([format!("{i:08}")])?;
        let booking = conn.last_insert_rowid();
        for seat in 0..2 {
            conn.prepare_cached("INSERT INTO people (booking, code) VALUES (?1, ?2)")?
                .execute((booking, format!("{i:08}{seat}")))?;
        }
        conn.prepare_cached("COMMIT")?.execute([])?;
    }
    rate(usize::try_from(count)?, start)
}

/// The least that a scan can be in SQL: one look by code, one row, one `UPDATE`, a commit each.
fn least_scans(folder: &std::path::Path, count: u32) -> Result<f64> {
    let conn = Store::writer(&folder.join("least-scans.sqlite"))?;
    conn.execute_batch(
        "CREATE TABLE people (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, inside INTEGER NOT NULL) STRICT;
         CREATE TABLE scans (id INTEGER PRIMARY KEY, key TEXT NOT NULL UNIQUE, person INTEGER NOT NULL) STRICT;
         BEGIN;",
    )?;
    for i in 0..count {
        conn.prepare_cached("INSERT INTO people (code, inside) VALUES (?1, 0)")?
            .execute([format!("{i:08}")])?;
    }
    conn.execute_batch("COMMIT")?;
    let start = Instant::now();
    for i in 0..count {
        conn.prepare_cached("BEGIN IMMEDIATE")?.execute([])?;
        let person: i64 = conn
            .prepare_cached("SELECT id FROM people WHERE code = ?1")?
            .query_row([format!("{i:08}")], |row| row.get(0))?;
        conn.prepare_cached("INSERT INTO scans (key, person) VALUES (?1, ?2)")?
            .execute((format!("key-{i:08}"), person))?;
        conn.prepare_cached("UPDATE people SET inside = 1 WHERE id = ?1")?.execute([person])?;
        conn.prepare_cached("COMMIT")?.execute([])?;
    }
    rate(usize::try_from(count)?, start)
}

fn rate(count: usize, start: Instant) -> Result<f64> {
    Ok(f64::from(u32::try_from(count)?) / start.elapsed().as_secs_f64())
}

/// A page of this many bytes, served by Axum alone.
async fn bare(bytes: usize) -> Result<SocketAddr> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let address = listener.local_addr()?;
    let page = "x".repeat(bytes);
    let app = Router::new().route("/events/evening", get(move || async move { Html(page) }));
    tokio::spawn(async move {
        if let Err(error) = axum::serve(listener, app).await {
            tracing::error!(%error, "serving");
        }
    });
    Ok(address)
}

/// Sends requests over so many connections, one after the other on each; requests a second.
async fn over_http(
    address: SocketAddr,
    connections: u32,
    count: u32,
    request: impl Fn(u32) -> String + Send + Sync + 'static,
    proof: &'static str,
) -> Result<f64> {
    let (next, request) = (Arc::new(AtomicU32::new(0)), Arc::new(request));
    let start = Instant::now();
    let mut tasks = Vec::new();
    for _ in 0..connections {
        let (next, request) = (Arc::clone(&next), Arc::clone(&request));
        tasks.push(tokio::spawn(async move {
            let mut line = Wire::open(address).await?;
            loop {
                let i = next.fetch_add(1, Ordering::Relaxed);
                if i >= count {
                    return Ok::<_, anyhow::Error>(());
                }
                let answer = line.ask(&request(i)).await?;
                ensure!(answer.contains(proof), "not as hoped: {answer}");
            }
        }));
    }
    for task in tasks {
        task.await??;
    }
    Ok(f64::from(count) / start.elapsed().as_secs_f64())
}

/// A kept-alive HTTP/1.1 connection, as plain as can be, so that asking costs little.
pub(crate) struct Wire {
    stream: TcpStream,
    buffer: Vec<u8>,
}

impl Wire {
    pub(crate) async fn open(address: SocketAddr) -> Result<Self> {
        let stream = TcpStream::connect(address).await?;
        stream.set_nodelay(true)?;
        Ok(Self { stream, buffer: Vec::with_capacity(32 * 1024) })
    }

    pub(crate) async fn ask(&mut self, request: &str) -> Result<String> {
        self.stream.write_all(request.as_bytes()).await?;
        self.buffer.clear();
        let (mut head, mut length) = (None, 0);
        loop {
            ensure!(self.stream.read_buf(&mut self.buffer).await? > 0, "the connection ended");
            if head.is_none()
                && let Some(end) = self.buffer.windows(4).position(|w| w == b"\r\n\r\n")
            {
                let text = std::str::from_utf8(&self.buffer[..end])?.to_ascii_lowercase();
                length = text
                    .split("content-length: ")
                    .nth(1)
                    .and_then(|l| l.split("\r\n").next())
                    .map_or(Ok(0), str::parse)?;
                head = Some(end + 4);
            }
            if head.is_some_and(|head| self.buffer.len() >= head + length) {
                return Ok(std::str::from_utf8(&self.buffer)?.to_owned());
            }
        }
    }
}
