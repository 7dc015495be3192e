//! `matricle bench-door`: how long a volunteer waits for a verdict at two hundred scans a second,
//! beside a bare POST; the roster to a device; names among a hundred thousand; a thousand badges.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::{Result, ensure};
use axum::Router;
use axum::response::Html;
use axum::routing::post as posting;
use matricle_desk::door::papers::{Kind, PaperChoice, paper};
use matricle_desk::door::{Volunteer, names};
use matricle_store::people::Staff;
use tokio::net::TcpListener;

use crate::args::DoorArgs;
use crate::program::{Site, VISITOR, Wire, form_head, post};

/// Scans a second.
const PACE: u32 = 200;
/// Connections that carry them: so many devices.
const DEVICES: usize = 16;
/// The wait that nine hundred and ninety-nine of a thousand verdicts keep, in milliseconds.
const LIMIT: f64 = 10.0;

/// Measures and prints a table.
///
/// # Errors
/// Something does not start, or answers what it should not.
pub async fn run(args: &DoorArgs) -> Result<()> {
    let folder = tempfile::tempdir()?;
    eprintln!("making {} tickets …", args.people);
    let site = Site::open(folder.path(), args.people).await?;
    let count = (args.seconds * PACE) as usize;
    ensure!(count <= site.codes.len(), "fewer tickets than scans");
    let head = Arc::new(form_head(&site.desk.secrets, VISITOR, &site.session));
    let path = format!("/door/{}/scan", site.date);
    let codes = Arc::new(site.codes.clone());
    let scan = {
        let (head, codes, path) = (Arc::clone(&head), Arc::clone(&codes), path.clone());
        move |n: usize| {
            let body = format!("text={}&by=scanner&key=bench-{n:08}", codes[n]);
            post(&path, &format!("hx-request: true\r\n{head}"), &body)
        }
    };
    let there = paced(site.address, count, scan, "come in").await?;
    let bare = bare_post().await?;
    let body = |n: usize| format!("text={}&by=scanner&key=bench-{n:08}", codes[n]);
    let head_there = Arc::clone(&head);
    let plain = {
        let bodies: Vec<String> = (0..count).map(body).collect();
        paced(bare, count, move |n| post("/", &head_there, &bodies[n]), "Come in").await?
    };
    println!(
        "| {PACE} scans a second, {} on the roster | p50 | p99 | of the limit of {LIMIT} ms |",
        args.people
    );
    println!("|---|---:|---:|---:|");
    for (what, times) in [
        ("scan to verdict over HTTP, on disk", &there),
        ("a bare POST to Axum, kept nowhere", &plain),
    ] {
        let (p50, p99) = (at(times, 50), at(times, 99));
        println!("| {what} | {p50:.2} ms | {p99:.2} ms | {:.2} |", p99 / LIMIT);
    }
    println!("\nThe p99 is {:.1} times that of the bare POST.\n", at(&there, 99) / at(&plain, 99));

    let volunteer = Volunteer::from(&site.staff);
    println!("| among {} | took | limit | of the limit |", args.people);
    println!("|---|---:|---:|---:|");
    for typed in ["person 77", "Prsn 4711", "zzz nobody"] {
        let took = median(async || {
            names(&site.desk, &volunteer, (site.date, "gate"), typed).await?;
            Ok(())
        })
        .await?;
        println!("| names like “{typed}” | {took:.1} ms | 50 ms | {:.2} |", took / 50.0);
    }
    site.close().await?;

    let folder = tempfile::tempdir()?;
    let site = Site::open(folder.path(), 10_000).await?;
    let mut size = 0;
    let ask = format!(
        "GET /door/{}/roster HTTP/1.1\r\nhost: bench.example\r\ncookie: visitor={VISITOR}; session={}\r\n\r\n",
        site.date, site.session
    );
    let address = site.address;
    let took = median(async || {
        let answer = Wire::open(address).await?.ask(&ask).await?;
        size = answer.len();
        ensure!(
            answer.starts_with("HTTP/1.1 200"),
            "no roster: {}",
            &answer[..200.min(answer.len())]
        );
        Ok(())
    })
    .await?;
    println!("\n| to a device, or onto paper | took | limit | of the limit |");
    println!("|---|---:|---:|---:|");
    println!("| the roster of 10,000 over HTTP | {took:.0} ms | 2000 ms | {:.2} |", took / 2000.0);
    #[allow(clippy::cast_precision_loss, reason = "a size to be read")]
    let kilobytes = size as f64 / 1000.0;
    println!("| its size | {kilobytes:.0} kB | 2000 kB | {:.2} |", kilobytes / 2000.0);
    site.close().await?;

    let folder = tempfile::tempdir()?;
    let site = Site::open(folder.path(), 1_000).await?;
    let clerk = Staff { role: matricle_core::people::staff::Role::Organiser, ..site.staff.clone() };
    let began = Instant::now();
    let (_, pdf) = paper(&site.desk, &clerk, site.date, PaperChoice::new(Kind::Badges), "").await?;
    let took = began.elapsed().as_secs_f64() * 1000.0;
    println!(
        "| 1,000 badges, {} kB | {took:.0} ms | 5000 ms | {:.2} |",
        pdf.len() / 1000,
        took / 5000.0
    );
    site.close().await
}

/// What so many in a hundred stay under.
fn at(sorted: &[f64], percent: usize) -> f64 {
    sorted[(sorted.len() * percent / 100).min(sorted.len() - 1)]
}

async fn median(mut act: impl AsyncFnMut() -> Result<()>) -> Result<f64> {
    let mut times = Vec::new();
    for _ in 0..9 {
        let began = Instant::now();
        act().await?;
        times.push(began.elapsed().as_secs_f64() * 1000.0);
    }
    times.sort_by(f64::total_cmp);
    Ok(times[times.len() / 2])
}

/// Sends requests at an even pace, whether the one before is answered or not; gives how long
/// each took from the moment it was due, in milliseconds, sorted.
async fn paced(
    address: SocketAddr,
    count: usize,
    request: impl Fn(usize) -> String + Send + Sync + 'static,
    says: &'static str,
) -> Result<Vec<f64>> {
    let request = Arc::new(request);
    let begins = Instant::now() + Duration::from_millis(200);
    let mut devices = Vec::new();
    for device in 0..DEVICES {
        let request = Arc::clone(&request);
        devices.push(tokio::spawn(async move {
            let mut line = Wire::open(address).await?;
            let mut times = Vec::new();
            for n in (device..count).step_by(DEVICES) {
                let due = begins + Duration::from_secs(1) / PACE * u32::try_from(n)?;
                tokio::time::sleep_until(due.into()).await;
                let answer = line.ask(&request(n)).await?;
                times.push(due.elapsed().as_secs_f64() * 1000.0);
                let low = answer.to_lowercase();
                ensure!(low.contains(&says.to_lowercase()), "{answer}");
            }
            Ok::<_, anyhow::Error>(times)
        }));
    }
    let mut all = Vec::new();
    for device in devices {
        all.extend(device.await??);
    }
    all.sort_by(f64::total_cmp);
    Ok(all)
}

/// A server that reads a form and answers with a few lines.
async fn bare_post() -> Result<SocketAddr> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let address = listener.local_addr()?;
    let page = "<section class=\"verdict in\"><p>Come in</p></section>".repeat(30);
    let answer = move |body: String| async move { Html(format!("{page}{}", body.len())) };
    let app = Router::new().route("/", posting(answer));
    tokio::spawn(async move { axum::serve(listener, app).await });
    Ok(address)
}
