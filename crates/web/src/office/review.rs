//! `/office/review`: what members submit and the public complains of, decided one after the
//! other without loading the page again.

mod acting;
mod article;
mod trusted;

use askama::Template;
use axum::extract::{FromRequestParts, Path};
use axum::http::request::Parts;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::SubmissionId;
use matricle_core::review::checks::Light;
use matricle_core::review::submission::{Act, State};
use matricle_desk::DeskError;
use matricle_desk::review::figures::Figures;
use matricle_desk::review::queue::{self, Queue};
use matricle_desk::review::{complaints, name_of};
use matricle_formats::words;
use matricle_store::complaints::{Complaint, Outcome};
use matricle_store::submissions::Submission;

pub(super) use self::acting::{accept_right, act, decide_complaint, look};
use self::article::article_part;
pub(super) use self::trusted::{decide_trust, trusted};
use crate::App;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html};

/// Whether our own script asks for a part of the page.
pub(super) struct ByScript(bool);

impl FromRequestParts<App> for ByScript {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, _: &App) -> Result<Self, WebError> {
        Ok(Self(parts.headers.contains_key("x-part")))
    }
}

/// One of the queue.
struct Waits {
    key: String,
    href: String,
    title: String,
    about: String,
    light: &'static str,
    class: &'static str,
}

/// The figures, in words.
struct Said {
    line: String,
    by: Vec<String>,
    corrected: String,
    today: String,
}

#[derive(Template)]
#[template(path = "review/page.html")]
struct ReviewPage {
    f: Frame,
    rows: Vec<Waits>,
    open: String,
    article: String,
    said: Said,
    right: usize,
    more: bool,
}

#[derive(Template)]
#[template(path = "review/complaint.html")]
struct ComplaintPart {
    token: String,
    id: i64,
    key: String,
    title: String,
    href: String,
    sheet: String,
    lines: Vec<String>,
    from: String,
    since: String,
    refusal: String,
    open: bool,
}

#[derive(Template)]
#[template(path = "review/empty.html")]
struct EmptyPart {
    said: Said,
}

#[derive(Template)]
#[template(path = "review/right.html")]
struct RightPart {
    token: String,
    rows: Vec<(String, String, String)>,
}

/// One line about what was done, for our own script.
#[derive(Template)]
#[template(path = "review/done.html")]
struct DonePart {
    token: String,
    what: String,
    href: String,
    undo: String,
    /// The line of figures, as it is after that.
    figures: String,
}

const fn light_class(light: Light) -> &'static str {
    match light {
        Light::Right => "right",
        Light::Look => "look",
        Light::Doubtful => "doubt",
    }
}

fn of_figures(f: &Figures, zone: &str, now: jiff::Timestamp) -> Said {
    let oldest = f.oldest.map_or_else(String::new, |at| {
        format!(", the oldest since {}", words::moment(at, zone, now))
    });
    let median = f.median.map_or_else(String::new, |s| {
        let minutes = s / 60;
        let said = match minutes {
            0..=59 => words::count(u32::try_from(minutes).unwrap_or(0), "minutes"),
            60..=2879 => words::count(u32::try_from(minutes / 60).unwrap_or(0), "hours"),
            _ => words::count(u32::try_from(minutes / 1440).unwrap_or(0), "days"),
        };
        format!(". Half of the {} decided in 90 days waited no longer than {said}", f.decided)
    });
    let corrected: Vec<String> =
        f.corrected.iter().take(5).map(|(what, n)| format!("{what} {n}×")).collect();
    let today: Vec<String> = f.today.iter().map(|(act, n)| format!("{n} {}", past(*act))).collect();
    Said {
        line: format!("{} wait{oldest}{median}.", f.waiting),
        by: f
            .by
            .iter()
            .map(|(who, n, c)| format!("{who}: {n} decided, {c} after corrections"))
            .collect(),
        corrected: corrected.join(", "),
        today: today.join(", "),
    }
}

const fn past(act: Act) -> &'static str {
    match act {
        Act::Accept => "accepted",
        Act::SendBack => "sent back",
        Act::TurnDown => "turned down",
        Act::Spam => "put aside as spam",
        Act::Join => "joined",
        _ => "done",
    }
}

fn rows(q: &Queue, now: jiff::Timestamp) -> Vec<Waits> {
    let zone = &q.given.house.zone;
    let mut rows: Vec<(jiff::Timestamp, Waits)> = q
        .rows
        .iter()
        .map(|s| {
            let since = s.waits_since.unwrap_or(s.begun_at);
            let change = if s.state == State::Accepted { "a change · " } else { "" };
            (
                since,
                Waits {
                    key: format!("{}", s.id),
                    href: format!("/office/review/{}", s.id),
                    title: s.title.clone(),
                    about: format!("{change}{} · {}", name_of(s), words::moment(since, zone, now)),
                    light: s.light.word(),
                    class: light_class(s.light),
                },
            )
        })
        .collect();
    rows.extend(q.complaints.iter().map(|(c, event)| {
        (
            c.at,
            Waits {
                key: format!("c{}", c.id),
                href: format!("/office/review/complaint/{}", c.id),
                title: event.title.clone(),
                about: format!("a complaint · {}", words::moment(c.at, zone, now)),
                light: "complaint",
                class: "complaint",
            },
        )
    }));
    rows.sort_by_key(|(at, _)| *at);
    rows.into_iter().map(|(_, row)| row).collect()
}

fn complaint_part(
    at: &Clerk,
    c: &Complaint,
    event: &matricle_store::events::Event,
    zone: &str,
    refusal: String,
) -> ComplaintPart {
    let now = at.app.desk.clock.now();
    ComplaintPart {
        token: at.app.desk.secrets.form_token(&at.visitor.0),
        id: c.id,
        key: format!("c{}", c.id),
        title: event.title.clone(),
        href: format!("/events/{}", crate::address::encode(&event.slug)),
        sheet: format!("/office/events/{}", event.id),
        lines: c.words.lines().filter(|l| !l.trim().is_empty()).map(String::from).collect(),
        from: if c.email.is_empty() {
            "somebody without an address".into()
        } else {
            c.email.clone()
        },
        since: words::moment(c.at, zone, now),
        open: c.outcome == Outcome::Open,
        refusal,
    }
}

/// What of the queue is open.
enum Open {
    First,
    Submission(SubmissionId, String, Vec<String>),
    Complaint(i64, String),
    /// What looks right, to be accepted at once.
    Right(RightPart),
}

async fn page(at: &Clerk, open: Open) -> Result<Response, WebError> {
    let desk = &at.app.desk;
    let q = queue::list(desk, &at.staff).await?;
    let (now, zone) = (desk.clock.now(), q.given.house.zone.clone());
    let rows = rows(&q, now);
    let first = rows.first().map_or_else(String::new, |r| r.key.clone());
    let open = match open {
        Open::First => match first.strip_prefix('c') {
            Some(c) => Open::Complaint(c.parse().unwrap_or(0), String::new()),
            None => Open::Submission(
                SubmissionId(first.parse().unwrap_or(0)),
                String::new(),
                Vec::new(),
            ),
        },
        other => other,
    };
    let (key, article) = match open {
        Open::Submission(SubmissionId(0), ..) | Open::First => (String::new(), String::new()),
        Open::Submission(id, refusal, faults) => {
            let a = queue::one(desk, &at.staff, id, true).await?;
            (id.to_string(), article_part(at, a, refusal, faults).render()?)
        }
        Open::Complaint(id, refusal) => {
            let (c, event) = complaints::one(desk, &at.staff, id).await?;
            (format!("c{id}"), complaint_part(at, &c, &event, &zone, refusal).render()?)
        }
        Open::Right(part) => (String::new(), part.render()?),
    };
    html(&ReviewPage {
        f: at.frame("Review", &q.given.house.name).in_room("review"),
        right: q.rows.iter().filter(|s| queue::looks_right(s)).count(),
        more: q.figures.waiting as usize > rows.len(),
        said: of_figures(&q.figures, &zone, now),
        open: key,
        rows,
        article,
    })
}

pub(crate) async fn show(at: Clerk) -> Result<Response, WebError> {
    page(&at, Open::First).await
}

pub(crate) async fn one(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    page(&at, Open::Submission(SubmissionId(id), String::new(), Vec::new())).await
}

pub(crate) async fn complaint(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    page(&at, Open::Complaint(id, String::new())).await
}

/// `GET /office/review/{key}/part`: one of the queue, loaded before it is needed.
pub(crate) async fn part(at: Clerk, Path(key): Path<String>) -> Result<Response, WebError> {
    let desk = &at.app.desk;
    if let Some(id) = key.strip_prefix('c') {
        let id = id.parse().map_err(|_| DeskError::NotFound)?;
        let (c, event) = complaints::one(desk, &at.staff, id).await?;
        let zone = at.app.zone().await?;
        return html(&complaint_part(&at, &c, &event, &zone, String::new()));
    }
    let id = SubmissionId(key.parse().map_err(|_| DeskError::NotFound)?);
    let a = queue::one(desk, &at.staff, id, false).await?;
    html(&article_part(&at, a, String::new(), Vec::new()))
}

/// The line of figures above the queue.
async fn figures_line(at: &Clerk) -> Result<String, WebError> {
    let figures = matricle_desk::review::figures::show(&at.app.desk, &at.staff).await?;
    let (zone, now) = (at.app.zone().await?, at.app.desk.clock.now());
    Ok(of_figures(&figures, &zone, now).line)
}

/// `GET /office/review/empty`: what is said when nothing waits any more.
pub(crate) async fn empty(at: Clerk) -> Result<Response, WebError> {
    let figures = matricle_desk::review::figures::show(&at.app.desk, &at.staff).await?;
    let (zone, now) = (at.app.zone().await?, at.app.desk.clock.now());
    html(&EmptyPart { said: of_figures(&figures, &zone, now) })
}

/// `GET /office/review/right`: what looks right, before it is accepted at once.
pub(crate) async fn right(at: Clerk, ByScript(by_script): ByScript) -> Result<Response, WebError> {
    let these = queue::right(&at.app.desk, &at.staff).await?;
    let row = |(s, when): (Submission, String)| {
        (
            format!("{}.{}", s.id, s.version),
            s.title.clone(),
            format!("{when} · {} · {}", s.typed.get("place"), name_of(&s)),
        )
    };
    let token = at.app.desk.secrets.form_token(&at.visitor.0);
    let part = RightPart { token, rows: these.into_iter().map(row).collect() };
    if by_script { html(&part) } else { page(&at, Open::Right(part)).await }
}

/// `GET` on an address that takes forms only.
pub(crate) async fn back_of_look(Path(id): Path<String>) -> Response {
    Redirect::to(&format!("/office/review/{id}")).into_response()
}

/// The same, where the act stands in the address.
pub(crate) async fn back(Path((id, _)): Path<(String, String)>) -> Response {
    Redirect::to(&format!("/office/review/{id}")).into_response()
}
