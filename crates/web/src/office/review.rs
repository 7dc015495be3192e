//! `/office/review`: what members submit and the public complains of, decided one after the
//! other without loading the page again.

use askama::Template;
use axum::extract::{FromRequestParts, Path};
use axum::http::StatusCode;
use axum::http::request::Parts;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::SubmissionId;
use matricle_core::review::checks::{About, Check, Finding, Light, Other};
use matricle_core::review::difference::Piece;
use matricle_core::review::submission::{Act, Refusal, State};
use matricle_desk::DeskError;
use matricle_desk::review::deciding::{self, Decision};
use matricle_desk::review::figures::Figures;
use matricle_desk::review::queue::{self, Article, Queue};
use matricle_desk::review::{complaints, name_of, trust};
use matricle_formats::{letter, rich, words};
use matricle_store::complaints::{Complaint, Outcome};
use matricle_store::submissions::Submission;

use crate::App;
use crate::asking::Posted;
use crate::error::WebError;
use crate::news::Undo;
use crate::office::Clerk;
use crate::page::{Frame, html};
use crate::parts::fields::{Fields, form};
use crate::parts::submitted::{picture_address, typed_fields};
use crate::wording;

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

/// A finding beside what it is about.
struct Found {
    says: &'static str,
    evidence: Vec<String>,
    href: String,
    weight: &'static str,
    points: i32,
}

/// One row of a submission: what it says, what was found, and the fields that correct it.
struct Part {
    key: &'static str,
    label: &'static str,
    lines: Vec<String>,
    found: Vec<Found>,
}

struct Side {
    label: String,
    theirs: Vec<(bool, String)>,
    mine: Vec<(bool, String)>,
}

struct BesideView {
    title: String,
    href: String,
    with: String,
    sides: Vec<Side>,
}

#[derive(Template)]
#[template(path = "review/article.html")]
struct ArticlePart {
    token: String,
    id: i64,
    version: u32,
    key: String,
    title: String,
    kind: String,
    light: &'static str,
    class: &'static str,
    points: i32,
    sender: String,
    since: String,
    others: String,
    /// Where it stands, where it waits no more: who, what, when.
    over: String,
    may_undo: bool,
    of_change: bool,
    bookings: u32,
    parts: Vec<Part>,
    html: String,
    note: Vec<String>,
    picture: Option<(String, String)>,
    whole: Vec<Found>,
    of_sender: Vec<Found>,
    beside: Vec<BesideView>,
    changes: Vec<Side>,
    corrected: Vec<(String, String, String)>,
    happened: Vec<(String, String, String)>,
    trust: Option<(i64, String)>,
    trusted: bool,
    sentences: Vec<&'static str>,
    /// A ready-made reason to turn it down.
    why: &'static str,
    d: Fields,
    text: String,
    faults: Vec<String>,
    refusal: String,
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

fn found(f: &Finding) -> Found {
    let points = f.check.points();
    Found {
        says: f.check.says(),
        evidence: f.evidence.lines().map(String::from).collect(),
        href: match f.other {
            Some(Other::Event(id)) => format!("/office/events/{id}"),
            Some(Other::Submission(id)) => format!("/office/review/{id}"),
            None => String::new(),
        },
        weight: match points {
            i32::MIN..=-1 => "speaks for it",
            0 => "to know",
            1..=3 => "a little",
            4..=7 => "much",
            _ => "very much",
        },
        points,
    }
}

fn about(findings: &[Finding], about: About) -> Vec<Found> {
    findings
        .iter()
        .filter(|f| f.check.about() == about && f.check != Check::Copy)
        .map(found)
        .collect()
}

/// A side of a difference: each piece, and whether it is on this side alone.
fn side(pieces: &[(Piece, String)], mine: bool) -> Vec<(bool, String)> {
    let alone = if mine { Piece::New } else { Piece::Gone };
    pieces
        .iter()
        .filter(|(p, _)| *p == Piece::Same || *p == alone)
        .map(|(p, t)| (*p == alone, t.clone()))
        .collect()
}

fn sides(all: Vec<(String, Vec<(Piece, String)>)>) -> Vec<Side> {
    all.into_iter()
        .map(|(label, p)| Side { label, theirs: side(&p, false), mine: side(&p, true) })
        .collect()
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

fn article_part(at: &Clerk, a: Article, refusal: String, faults: Vec<String>) -> ArticlePart {
    let (now, s) = (at.app.desk.clock.now(), &a.submission);
    let house = &a.given.house;
    let zone = &house.zone;
    let today = words::local(now, zone).date();
    let f = &a.findings;
    let line = |text: &str| if text.is_empty() { Vec::new() } else { vec![text.to_owned()] };
    let p = a.proposal.as_ref().ok();
    let mut faults = faults;
    if let Err(wrong) = &a.proposal {
        faults.extend(wrong.iter().map(|w| wording::fault(&w.field, &w.fault)));
    }
    let mut when: Vec<String> = p.map_or_else(Vec::new, |p| {
        p.spans.iter().take(12).map(|s| words::span(s.starts, s.ends, today)).collect()
    });
    if let Some(p) = p
        && p.spans.len() > 12
    {
        when.push(format!("and {} more", p.spans.len() - 12));
    }
    let price = p.map_or_else(Vec::new, |p| {
        let mut lines = line(&p.price);
        if let Some(b) = p.booked {
            lines.push(format!(
                "Can be booked here: {}, {} each",
                words::count(b.seats, "seats"),
                b.price
            ));
        }
        lines
    });
    let typed = &a.typed;
    let part = |key, label, lines, found| Part { key, label, lines, found };
    let parts = vec![
        part(
            "title",
            "Title",
            [line(typed.get("title")), line(typed.get("kind"))].concat(),
            about(f, About::Title),
        ),
        part("when", "When", when, about(f, About::When)),
        part(
            "where",
            "Where",
            [line(typed.get("place")), line(typed.get("address"))].concat(),
            about(f, About::Where),
        ),
        part("what", "What", Vec::new(), about(f, About::What)),
        part("hosts", "Who leads it", line(typed.get("hosts")), Vec::new()),
        part("contact", "Whom to ask", line(typed.get("contact")), about(f, About::Contact)),
        part("price", "Price", price, Vec::new()),
        part("tags", "Tags", typed.all("tag").map(String::from).collect(), Vec::new()),
    ];
    let over = if s.waits_since.is_some() {
        String::new()
    } else {
        let last = a.happened.iter().rev().find(|h| !h.undone);
        last.map_or_else(String::new, |h| {
            format!(
                "{} {}, {}: {}.",
                h.who,
                h.act.done(),
                words::moment(h.at, zone, now),
                s.state.word()
            )
        })
    };
    let d = typed_fields(typed);
    ArticlePart {
        token: at.app.desk.secrets.form_token(&at.visitor.0),
        id: s.id.0,
        version: s.version,
        key: s.id.to_string(),
        title: typed.get("title").to_owned(),
        kind: typed.get("kind").to_owned(),
        light: a.light.word(),
        class: light_class(a.light),
        points: matricle_core::review::checks::points(f),
        sender: format!("{} ({})", name_of(s), s.email),
        since: s.waits_since.map_or_else(String::new, |at| words::moment(at, zone, now)),
        others: a.others.join(", "),
        may_undo: s.undo_until.is_some_and(|until| until > now),
        over,
        of_change: s.change.is_some() && s.waits_since.is_some(),
        bookings: a.bookings,
        html: rich::clean(typed.get("description")),
        text: letter::text_of(typed.get("description")),
        note: typed
            .get("note")
            .lines()
            .filter(|l| !l.trim().is_empty())
            .map(String::from)
            .collect(),
        picture: a
            .picture
            .as_ref()
            .map(|p| (picture_address(&at.app, p.id, "small"), p.alt.clone())),
        whole: about(f, About::Whole),
        of_sender: about(f, About::Sender),
        beside: a
            .beside
            .into_iter()
            .map(|b| BesideView {
                title: b.title,
                href: b.href,
                with: match b.other {
                    Other::Event(id) => format!("event {id}"),
                    Other::Submission(id) => format!("submission {id}"),
                },
                sides: sides(b.fields),
            })
            .collect(),
        changes: sides(a.changes),
        corrected: a.corrected,
        happened: a
            .happened
            .iter()
            .rev()
            .filter(|h| !h.undone)
            .map(|h| {
                (
                    words::moment(h.at, zone, now),
                    format!("{} {}", h.who, h.act.done()),
                    h.words.clone(),
                )
            })
            .collect(),
        trust: a.trust.and_then(|r| Some((s.person?.0, r.words()))),
        trusted: a.trusted,
        why: if f.iter().any(|f| f.check == Check::Past) { "Its date is over." } else { "" },
        sentences: a.sentences,
        parts,
        d,
        faults,
        refusal,
    }
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
    };
    let looks_right = |s: &&Submission| s.light == Light::Right && s.state == State::Received;
    html(&ReviewPage {
        f: at.frame("Review", &q.given.house.name).in_room("review"),
        right: q.rows.iter().filter(looks_right).count(),
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
pub(crate) async fn right(at: Clerk) -> Result<Response, WebError> {
    let these = queue::right(&at.app.desk, &at.staff).await?;
    let row = |s: Submission| {
        let day = format!("{} {}", s.typed.get("day"), s.typed.get("from"));
        (
            format!("{}.{}", s.id, s.version),
            s.title.clone(),
            format!("{day} · {} · {}", s.typed.get("place"), name_of(&s)),
        )
    };
    let token = at.app.desk.secrets.form_token(&at.visitor.0);
    html(&RightPart { token, rows: these.into_iter().map(row).collect() })
}

/// `POST /office/review/right`: all of them are accepted, but for those that somebody unticked.
pub(crate) async fn accept_right(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let these = posted
        .starting("these")
        .filter_map(|(_, v)| {
            let (id, version) = v.split_once('.')?;
            Some((SubmissionId(id.parse().ok()?), version.parse().ok()?))
        })
        .collect();
    let (done, not) = deciding::accept_many(&at.app.desk, &at.staff, these).await?;
    let n = u32::try_from(done.len()).unwrap_or(u32::MAX);
    let mut what = format!("{} accepted.", words::count(n, "submissions"));
    for (id, error) in not {
        let why = match error {
            DeskError::Submission(refusal) => says(&at, &refusal).await?,
            DeskError::Form(_) => "It needs another look.".into(),
            other => other.to_string(),
        };
        what.push_str(&format!(" Submission {id} was not: {why}"));
    }
    Ok(at.done("/office/review", what))
}

async fn says(at: &Clerk, refusal: &Refusal) -> Result<String, WebError> {
    Ok(wording::submission(refusal, &at.app.zone().await?, at.app.desk.clock.now()))
}

/// What came of an act, before it is shown.
enum Came {
    Done { what: String, undo: String, href: String },
    Refused { what: String, faults: Vec<String> },
}

async fn came(
    at: &Clerk,
    id: SubmissionId,
    result: Result<deciding::Done, DeskError>,
) -> Result<Came, WebError> {
    Ok(match result {
        Ok(done) if done.act.is_decision() => Came::Done {
            what: format!("“{}”: {}.", done.title, past(done.act)),
            undo: format!("/office/review/{id}/undo"),
            href: if done.slug.is_empty() {
                String::new()
            } else {
                format!("/events/{}", crate::address::encode(&done.slug))
            },
        },
        Ok(done) => Came::Done {
            what: format!("“{}”.", done.title),
            undo: String::new(),
            href: String::new(),
        },
        Err(DeskError::Submission(refusal)) => {
            Came::Refused { what: says(at, &refusal).await?, faults: Vec::new() }
        }
        Err(DeskError::Form(wrong)) => Came::Refused {
            what: "It needs another look first.".into(),
            faults: wrong
                .iter()
                .map(|w| {
                    let label = matricle_core::review::submission::label(&w.field);
                    let said = wording::fault(&w.field, &w.fault);
                    if w.field == "words" { said } else { format!("{label}: {said}") }
                })
                .collect(),
        },
        Err(error) => return Err(error.into()),
    })
}

/// `POST /office/review/{id}/{act}`.
pub(crate) async fn act(
    at: Clerk,
    ByScript(by_script): ByScript,
    Path((id, act)): Path<(i64, String)>,
    posted: Posted,
) -> Result<Response, WebError> {
    let (desk, id) = (&at.app.desk, SubmissionId(id));
    let version = posted.get("version").parse().unwrap_or(0);
    let mut undone = false;
    let result = match act.as_str() {
        "undo" => {
            undone = true;
            deciding::undo(desk, &at.staff, id).await
        }
        "correct" => return correct(at, by_script, id, version, posted).await,
        act => {
            let act = Act::from_word(&act.replace('-', " ")).ok_or(DeskError::NotFound)?;
            let number = |text: &str| text.trim().parse().ok();
            let with = posted.get("with");
            let with =
                with.strip_prefix("event ").and_then(number).map(Other::Event).or_else(|| {
                    with.strip_prefix("submission ").and_then(number).map(Other::Submission)
                });
            let words = posted.get("words").to_owned();
            deciding::decide(desk, &at.staff, Decision { id, version, act, words, with }).await
        }
    };
    let token = at.app.desk.secrets.form_token(&at.visitor.0);
    match came(&at, id, result).await? {
        Came::Done { what, .. } if undone => {
            let what = format!("Taken back: {what} It waits again.");
            if by_script {
                let figures = figures_line(&at).await?;
                let (href, undo) = (String::new(), String::new());
                return html(&DonePart { token, what, href, undo, figures });
            }
            Ok(at.done(&format!("/office/review/{id}"), what))
        }
        Came::Done { what, undo, href } if by_script => {
            let figures = figures_line(&at).await?;
            html(&DonePart { token, what, href, undo, figures })
        }
        Came::Done { what, undo, .. } => {
            Ok(at.done_but("/office/review", what, Undo::new(undo, &[])))
        }
        Came::Refused { what, faults } if by_script => {
            let said = [vec![what], faults].concat().join(" ");
            let (href, undo, figures) = (String::new(), String::new(), String::new());
            let part = DonePart { token, what: said, href, undo, figures };
            crate::page::refused(StatusCode::CONFLICT, &part)
        }
        Came::Refused { what, faults } => {
            let mut response = page(&at, Open::Submission(id, what, faults)).await?;
            *response.status_mut() = StatusCode::CONFLICT;
            Ok(response)
        }
    }
}

/// Something in it is put right; the answer to our script is the article as it is then.
async fn correct(
    at: Clerk,
    by_script: bool,
    id: SubmissionId,
    version: u32,
    posted: Posted,
) -> Result<Response, WebError> {
    let result = deciding::correct(&at.app.desk, &at.staff, (id, version), form(&posted)).await;
    let (mut said, mut faults) = (String::new(), Vec::new());
    match result {
        Ok(changed) if !by_script => {
            let what = match changed.len() {
                0 => "Nothing is another than before.".to_owned(),
                _ => "Corrected. The submitter reads what was changed, with your decision.".into(),
            };
            return Ok(at.done(&format!("/office/review/{id}"), what));
        }
        Ok(_) => {}
        Err(error) => match came(&at, id, Err(error)).await? {
            Came::Refused { what, faults: found } => (said, faults) = (what, found),
            Came::Done { .. } => {}
        },
    }
    let status = if said.is_empty() { StatusCode::OK } else { StatusCode::CONFLICT };
    if by_script {
        let a = queue::one(&at.app.desk, &at.staff, id, true).await?;
        return crate::page::refused(status, &article_part(&at, a, said, faults));
    }
    let mut response = page(&at, Open::Submission(id, said, faults)).await?;
    *response.status_mut() = status;
    Ok(response)
}

/// `POST /office/review/{id}/look`: somebody looks at it; says who else does, and whether it
/// waits still, in which wording.
pub(crate) async fn look(
    at: Clerk,
    Path(id): Path<i64>,
    _posted: Posted,
) -> Result<Response, WebError> {
    let (others, waits, version) = queue::look(&at.app.desk, &at.staff, SubmissionId(id)).await?;
    let body = serde_json::json!({ "others": others, "waits": waits, "version": version });
    Ok(([(axum::http::header::CONTENT_TYPE, "application/json")], body.to_string()).into_response())
}

/// `POST /office/review/complaint/{id}`.
pub(crate) async fn decide_complaint(
    at: Clerk,
    ByScript(by_script): ByScript,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let desk = &at.app.desk;
    let token = desk.secrets.form_token(&at.visitor.0);
    let act = posted.get("act").to_owned();
    let result = match act.as_str() {
        "undo" => complaints::undo(desk, &at.staff, id).await.map(|()| None),
        "out" => complaints::decide(desk, &at.staff, id, true, true).await.map(Some),
        "right" => complaints::decide(desk, &at.staff, id, true, false).await.map(Some),
        "not-right" => complaints::decide(desk, &at.staff, id, false, false).await.map(Some),
        _ => return Err(DeskError::NotFound.into()),
    };
    let to = format!("/office/review/complaint/{id}");
    match result {
        Ok(done) => {
            let what = match (&done, act.as_str()) {
                (None, _) => "Taken back: the complaint waits again.",
                (Some(_), "out") => "The complaint is right: the event is out of the Programme.",
                (Some(_), "right") => "The complaint is right; the event stays in the Programme.",
                _ => "The complaint is not right.",
            };
            if by_script {
                let undo = if done.is_some() { to } else { String::new() };
                let figures = figures_line(&at).await?;
                let href = String::new();
                return html(&DonePart { token, what: what.into(), href, undo, figures });
            }
            match done {
                Some(_) => {
                    Ok(at.done_but("/office/review", what, Undo::new(to, &[("act", "undo")])))
                }
                None => Ok(at.done(&to, what)),
            }
        }
        Err(DeskError::Submission(refusal)) => {
            let what = says(&at, &refusal).await?;
            if by_script {
                let (href, undo, figures) = (String::new(), String::new(), String::new());
                let part = DonePart { token, what, href, undo, figures };
                return crate::page::refused(StatusCode::CONFLICT, &part);
            }
            let mut response = page(&at, Open::Complaint(id, what)).await?;
            *response.status_mut() = StatusCode::CONFLICT;
            Ok(response)
        }
        Err(error) => Err(error.into()),
    }
}

/// `GET /office/review/trusted`: who is trusted.
#[derive(Template)]
#[template(path = "review/trusted.html")]
struct TrustedPage {
    f: Frame,
    rows: Vec<(i64, String, String)>,
}

pub(crate) async fn trusted(at: Clerk) -> Result<Response, WebError> {
    let all = trust::all(&at.app.desk, &at.staff).await?;
    let house = at.app.desk.house().await?;
    let now = at.app.desk.clock.now();
    let rows = all
        .into_iter()
        .map(|t| {
            let name = if t.name.is_empty() {
                t.email.clone()
            } else {
                format!("{} ({})", t.name, t.email)
            };
            let since = words::moment(t.at, &house.zone, now);
            (
                t.person.0,
                name,
                format!("since {since}, by {}, after {} accepted", t.who, t.accepted),
            )
        })
        .collect();
    html(&TrustedPage { f: at.frame("Trusted", &house.name).in_room("review"), rows })
}

/// `POST /office/review/trust/{person}`: somebody is trusted, or not.
pub(crate) async fn decide_trust(
    at: Clerk,
    Path(person): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let yes = posted.get("act") == "yes";
    let id = matricle_core::PersonId(person);
    let name = trust::decide(&at.app.desk, &at.staff, id, yes).await?;
    let what = if yes {
        format!("What {name} sends lands where that of trusted people does.")
    } else {
        format!("{name} is not trusted to publish at once.")
    };
    let other = if yes { "no" } else { "yes" };
    let undo = Undo::new(format!("/office/review/trust/{person}"), &[("act", other)]);
    Ok(at.done_but("/office/review", what, undo))
}

/// `GET` on an address that takes forms only.
pub(crate) async fn back_of_look(Path(id): Path<String>) -> Response {
    Redirect::to(&format!("/office/review/{id}")).into_response()
}

/// The same, where the act stands in the address.
pub(crate) async fn back(Path((id, _)): Path<(String, String)>) -> Response {
    Redirect::to(&format!("/office/review/{id}")).into_response()
}
