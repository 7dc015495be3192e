//! `matricle bench-pages`: what each page costs in a house of many years. Every link is followed
//! as an organiser, two pages of each shape, and the slowest are printed beside the limit.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::net::SocketAddr;
use std::time::Instant;

use anyhow::{Context, Result, ensure};
use matricle_demo as demo;
use matricle_desk::people::signin;
use matricle_web::{Limits, Settings, router};
use tokio::net::TcpListener;
use tokio::sync::watch;

use crate::args::PagesArgs;
use crate::program::Wire;
use matricle_serve::serve::{Parts, desk};

/// How long a page may take, in milliseconds.
const LIMIT: f64 = 300.0;
/// Pages of one shape that are looked at.
const EACH: u32 = 2;
/// How often each is asked for; the median counts.
const TIMES: usize = 3;

/// Measures and prints a table.
///
/// # Errors
/// Something does not start, or a page fails.
pub async fn run(args: &PagesArgs) -> Result<()> {
    let folder = tempfile::tempdir()?;
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let address = listener.local_addr()?;
    let desk =
        desk(Parts { sign_in: 60, ..Parts::alone(folder.path(), format!("http://{address}"))? })?;
    demo::seed(&desk).await?;
    demo::enlarge(&desk, args.events, args.bookings).await?;
    eprintln!("{} events and {} bookings are there; measuring …", args.events, args.bookings);
    let (_, email, _, password) = demo::STAFF[0];
    let session = signin::sign_in(&desk, email.into(), password.into(), Default::default()).await?;
    let (stop, stopping) = watch::channel(false);
    let settings = Settings {
        secure_cookies: false,
        behind_proxy: false,
        pay_origin: String::new(),
        limits: Limits::default(),
        demo: &[],
        observed: Default::default(),
    };
    let app = router(desk.clone(), settings, stopping);
    let serving = tokio::spawn(async move {
        let service = app.into_make_service_with_connect_info::<SocketAddr>();
        axum::serve(listener, service).await
    });
    let mut line = Wire::open(address).await?;
    let cookie = format!("visitor=AAAAAAAAAAAAAAAAAAAAAA; session={session}");
    let mut waiting = VecDeque::from(["/".to_owned(), "/office".to_owned(), "/door".to_owned()]);
    let (mut seen, mut shapes) = (BTreeSet::new(), BTreeMap::<String, u32>::new());
    let mut measured: Vec<(f64, String)> = Vec::new();
    while let Some(at) = waiting.pop_front() {
        let count = shapes.entry(shape(&at)).or_default();
        let other = ["/live", "/feeds/", ".xlsx", ".pdf", "/papers/", "/documents/", "/pictures/"];
        if *count >= EACH || other.iter().any(|o| at.contains(o)) || !seen.insert(at.clone()) {
            continue;
        }
        *count += 1;
        let mut times = Vec::new();
        let mut page = String::new();
        for _ in 0..TIMES {
            let began = Instant::now();
            let ask =
                format!("GET {at} HTTP/1.1\r\nhost: bench.example\r\ncookie: {cookie}\r\n\r\n");
            page = line.ask(&ask).await?;
            ensure!(!page.starts_with("HTTP/1.1 5"), "{at}: {page}");
            times.push(began.elapsed().as_secs_f64() * 1e3);
        }
        times.sort_by(f64::total_cmp);
        measured.push((times[TIMES / 2], at.clone()));
        for link in page.split("href=\"").skip(1).filter_map(|l| l.split('"').next()) {
            let link = link.replace("&#38;", "&").replace("&amp;", "&");
            let link = link.split('#').next().unwrap_or_default().to_owned();
            let link = match link.strip_prefix('?') {
                Some(query) => format!("{}?{query}", at.split('?').next().unwrap_or_default()),
                None => link,
            };
            if link.starts_with('/') && !link.starts_with("//") && !link.starts_with("/static") {
                waiting.push_back(link);
            }
        }
    }
    let _ = stop.send(true);
    serving.abort();
    measured.sort_by(|a, b| b.0.total_cmp(&a.0));
    println!(
        "| {} pages and files, {} events, {} bookings | ms | of the limit of {LIMIT} ms |",
        measured.len(),
        args.events,
        args.bookings
    );
    println!("|---|---:|---:|");
    for (ms, at) in measured.iter().take(args.most) {
        println!("| {at} | {ms:.1} | {:.2} |", ms / LIMIT);
    }
    let median = measured.get(measured.len() / 2).context("no page was measured")?.0;
    println!("| the median of all | {median:.1} | {:.3} |", median / LIMIT);
    Ok(())
}

/// An address without what tells one thing from another of its kind.
#[must_use]
pub fn shape(address: &str) -> String {
    let (path, query) = address.split_once('?').unwrap_or((address, ""));
    let part = |p: &str| {
        let own = p.chars().any(|c| c.is_ascii_digit())
            || p.contains('-') && p.len() > 12
            || p.len() >= 8 && p.chars().any(|c| c.is_ascii_uppercase());
        if own { "*" } else { p }.to_owned()
    };
    let keys: BTreeSet<&str> = query.split('&').filter_map(|p| p.split('=').next()).collect();
    let path: Vec<String> = path.split('/').map(part).collect();
    format!("{}?{}", path.join("/"), keys.into_iter().collect::<Vec<_>>().join("&"))
}
