//! What is told to whoever watches over the program: whether it is well, and numbers
//! (Prometheus text format 0.0.4). No names, no addresses.

use std::fmt::Write;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use axum::Router;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use jiff::SignedDuration;
use matricle_desk::Desk;
use matricle_desk::house::backup;
use matricle_store::measures;

use crate::App;

/// Faces of the program, as requests are counted by.
const FACES: [&str; 6] = ["programme", "booking", "office", "door", "static", "other"];
/// Upper bounds of the buckets of the time an answer took, in milliseconds.
const BUCKETS: [u64; 9] = [1, 5, 10, 25, 50, 100, 250, 1000, 5000];

/// Requests counted since the start.
#[derive(Debug, Default)]
pub struct Observed {
    answers: [[AtomicU64; 5]; FACES.len()],
    took: [AtomicU64; BUCKETS.len() + 1],
    micros: AtomicU64,
    next: AtomicU64,
}

fn face(path: &str) -> usize {
    let first = path.trim_start_matches('/').split('/').next().unwrap_or_default();
    match first {
        "" | "events" | "waiting" | "me" | "feeds" | "embed" | "pictures" => 0,
        "booking" | "ticket" => 1,
        "office" | "sign-in" | "you" => 2,
        "door" => 3,
        "static" => 4,
        _ => 5,
    }
}

impl Observed {
    /// A number for a request, by which its lines in the log are found.
    pub(crate) fn number(&self) -> u64 {
        self.next.fetch_add(1, Ordering::Relaxed) + 1
    }

    /// Counts an answer.
    pub(crate) fn count(&self, path: &str, status: StatusCode, took: Duration) {
        let class = usize::from(status.as_u16() / 100).clamp(1, 5) - 1;
        self.answers[face(path)][class].fetch_add(1, Ordering::Relaxed);
        let millis = u64::try_from(took.as_millis()).unwrap_or(u64::MAX);
        let bucket = BUCKETS.iter().position(|most| millis < *most).unwrap_or(BUCKETS.len());
        self.took[bucket].fetch_add(1, Ordering::Relaxed);
        let micros = u64::try_from(took.as_micros()).unwrap_or(u64::MAX);
        self.micros.fetch_add(micros, Ordering::Relaxed);
    }

    fn write(&self, out: &mut String) {
        family(out, "matricle_requests_total", "counter", "Requests answered.");
        for (face, classes) in FACES.iter().zip(&self.answers) {
            for (class, count) in (1..).zip(classes) {
                let count = count.load(Ordering::Relaxed);
                if count > 0 {
                    let _ = writeln!(
                        out,
                        "matricle_requests_total{{face=\"{face}\",status=\"{class}xx\"}} {count}"
                    );
                }
            }
        }
        family(out, "matricle_request_seconds", "histogram", "How long answers took.");
        let mut sum = 0;
        for (n, count) in self.took.iter().enumerate() {
            sum += count.load(Ordering::Relaxed);
            let bound = BUCKETS.get(n).map_or_else(|| "+Inf".to_owned(), |ms| seconds(*ms, 1000));
            let _ = writeln!(out, "matricle_request_seconds_bucket{{le=\"{bound}\"}} {sum}");
        }
        let micros = self.micros.load(Ordering::Relaxed);
        let _ = writeln!(out, "matricle_request_seconds_sum {}", seconds(micros, 1_000_000));
        let _ = writeln!(out, "matricle_request_seconds_count {sum}");
    }
}

/// Begins a family of numbers: all of one stand together, after what they are.
fn family(out: &mut String, name: &str, kind: &str, help: &str) {
    let _ = writeln!(out, "# HELP {name} {help}\n# TYPE {name} {kind}");
}

/// A number of parts of a second as seconds.
fn seconds(parts: u64, a_second: u64) -> String {
    let digits = a_second.ilog10() as usize;
    let text = format!("{}.{:0digits$}", parts / a_second, parts % a_second);
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

/// `GET /health`: the program answers.
pub(crate) async fn health() -> &'static str {
    "ok\n"
}

/// How long a loop may need for a round before the program is not called ready.
const LONGEST_ROUND: SignedDuration = SignedDuration::from_mins(5);

/// `GET /ready`: the house can be read, and what runs by itself runs.
pub(crate) async fn ready(State(app): State<App>) -> Response {
    let read = tokio::time::timeout(Duration::from_secs(2), app.desk.house()).await;
    if !matches!(read, Ok(Ok(_))) {
        return (StatusCode::SERVICE_UNAVAILABLE, "the house cannot be read\n").into_response();
    }
    let now = app.desk.clock.now();
    for (work, fares) in app.desk.health.all() {
        let late = fares.turned_at.is_some_and(|at| now.duration_since(at) > LONGEST_ROUND);
        if late {
            let said = format!("{} has not been looked after for five minutes\n", work.word());
            return (StatusCode::SERVICE_UNAVAILABLE, said).into_response();
        }
    }
    "ready\n".into_response()
}

/// The numbers, for an address of their own.
pub fn metrics(desk: Desk, observed: Arc<Observed>) -> Router {
    Router::new().route("/metrics", get(numbers)).with_state((desk, observed))
}

async fn numbers(State((desk, observed)): State<(Desk, Arc<Observed>)>) -> Response {
    let mut out = String::with_capacity(4096);
    family(&mut out, "matricle_build_info", "gauge", "The version that runs.");
    let version = env!("CARGO_PKG_VERSION");
    let _ = writeln!(out, "matricle_build_info{{version=\"{version}\"}} 1");
    observed.write(&mut out);
    family(&mut out, "matricle_writes_waiting", "gauge", "Writes that wait for the file.");
    let _ = writeln!(out, "matricle_writes_waiting {}", desk.store.waiting());
    family(&mut out, "matricle_commits_total", "counter", "Writes since the program began.");
    let _ = writeln!(out, "matricle_commits_total {}", desk.store.version());
    let now = desk.clock.now();
    let all = desk.health.all();
    family(&mut out, "matricle_work_age_seconds", "gauge", "Since a loop last went round.");
    for (work, fares) in &all {
        if let Some(at) = fares.turned_at {
            let age = now.duration_since(at).as_secs().max(0);
            let _ = writeln!(out, "matricle_work_age_seconds{{work=\"{}\"}} {age}", work.word());
        }
    }
    family(&mut out, "matricle_work_restarts_total", "counter", "How often a loop was begun.");
    for (work, fares) in &all {
        let (work, starts) = (work.word(), fares.starts);
        let _ = writeln!(out, "matricle_work_restarts_total{{work=\"{work}\"}} {starts}");
    }
    let database = desk.store.path().to_owned();
    let last = tokio::task::spawn_blocking(move || backup::last(&database)).await.ok().flatten();
    if let Some(last) = last {
        let age = now.duration_since(last.at).as_secs().max(0);
        family(&mut out, "matricle_backup_age_seconds", "gauge", "Since the last backup.");
        let _ = writeln!(out, "matricle_backup_age_seconds {age}");
    }
    match desk.store.read(measures::measure).await {
        Ok(found) => {
            for (name, counts, help) in [
                ("bookings", &found.bookings, "Bookings by their state."),
                ("messages", &found.messages, "Messages by their state."),
            ] {
                family(&mut out, &format!("matricle_{name}"), "gauge", help);
                for (state, count) in counts {
                    let _ = writeln!(out, "matricle_{name}{{state=\"{state}\"}} {count}");
                }
            }
            family(
                &mut out,
                "matricle_set_aside",
                "gauge",
                "Things that failed and are tried again.",
            );
            let _ = writeln!(out, "matricle_set_aside {}", found.set_aside);
            family(&mut out, "matricle_database_bytes", "gauge", "How large the file is.");
            let _ = writeln!(out, "matricle_database_bytes {}", found.bytes);
        }
        Err(error) => tracing::error!(%error, "the house could not be measured"),
    }
    ([(header::CONTENT_TYPE, "text/plain; version=0.0.4; charset=utf-8")], out).into_response()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_are_counted_by_face_and_class_and_the_buckets_add_up() {
        let observed = Observed::default();
        let ms = Duration::from_millis;
        observed.count("/", StatusCode::OK, ms(0));
        observed.count("/office/events/7", StatusCode::FORBIDDEN, ms(30));
        observed.count("/booking/BBBBBBBB/secret", StatusCode::OK, ms(9000));
        let mut out = String::new();
        observed.write(&mut out);
        assert!(out.contains("face=\"office\",status=\"4xx\"} 1") && !out.contains("secret"));
        assert!(out.contains("le=\"0.001\"} 1") && out.contains("le=\"0.05\"} 2"));
        assert!(
            out.contains("le=\"+Inf\"} 3") && out.contains("_count 3") && out.contains("_sum 9.03")
        );
        assert_eq!((seconds(1500, 1000), seconds(1000, 1000)), ("1.5".into(), "1".into()));
    }
}
