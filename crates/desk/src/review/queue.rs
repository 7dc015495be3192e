//! What waits for those who review, and one of it with all that there is to know.

use matricle_core::SubmissionId;
use matricle_core::forms::form::Wrong;
use matricle_core::people::staff::{Right, require};
use matricle_core::review::checks::{Finding, Light, Other};
use matricle_core::review::difference::{Piece, between};
use matricle_core::review::record::Record;
use matricle_core::review::submission::{Proposal, State, Typed};
use matricle_formats::words;
use matricle_store::complaints::{self, Complaint};
use matricle_store::events::{self, Event, Picture};
use matricle_store::people::Staff;
use matricle_store::submissions::{self, Changed, Happened, Submission};
use matricle_store::{Connection, bookings};

use super::figures::{Figures, figures};
use super::{Given, checking, found, given, proposal, told, trust};
use crate::{Desk, DeskError};

/// Most that the queue shows.
pub const MOST: u32 = 200;

/// The queue.
#[derive(Debug, Clone)]
pub struct Queue {
    /// The house and its rules.
    pub given: Given,
    /// What waits, the longest waiting first.
    pub rows: Vec<Submission>,
    /// Complaints that nobody has decided on, with the event.
    pub complaints: Vec<(Complaint, Event)>,
    /// Figures.
    pub figures: Figures,
}

/// The queue, checked against the plans of now.
pub async fn list(desk: &Desk, staff: &Staff) -> Result<Queue, DeskError> {
    require(staff.role, Right::Review)?;
    // What waits was checked when it arrived, and is again where a plan changed since.
    while checking::check_stale(desk).await? > 0 {}
    let now = desk.clock.now();
    desk.store
        .read(move |conn| {
            let mut open = Vec::new();
            for complaint in complaints::open(conn, MOST)? {
                if let Some(event) = events::by_id(conn, complaint.event)? {
                    open.push((complaint, event));
                }
            }
            Ok(Queue {
                given: given(conn)?,
                rows: submissions::waiting(conn, MOST)?,
                complaints: open,
                figures: figures(conn, now)?,
            })
        })
        .await
}

/// Something that is nearly the same, beside the submission.
#[derive(Debug, Clone)]
pub struct Beside {
    /// What.
    pub other: Other,
    /// Its title.
    pub title: String,
    /// Where it is to be seen, as an address.
    pub href: String,
    /// Each field of both: its label, and its pieces.
    pub fields: Vec<(String, Vec<(Piece, String)>)>,
}

/// One that waits, with all that there is to know.
#[derive(Debug, Clone)]
pub struct Article {
    /// The house and its rules.
    pub given: Given,
    /// The submission.
    pub submission: Submission,
    /// The wording that is decided on.
    pub typed: Typed,
    /// What it says, read; or what needs another look.
    pub proposal: Result<Proposal, Vec<Wrong>>,
    /// What the checks found.
    pub findings: Vec<Finding>,
    /// The light word.
    pub light: Light,
    /// What is nearly the same, side by side.
    pub beside: Vec<Beside>,
    /// What changes, where it is a change to what was accepted.
    pub changes: Vec<(String, Vec<(Piece, String)>)>,
    /// Bookings of the event that it became.
    pub bookings: u32,
    /// What was corrected since it was sent.
    pub corrected: Vec<Changed>,
    /// What happened to it.
    pub happened: Vec<Happened>,
    /// A reviewer is asked about trusting them, on this record.
    pub trust: Option<Record>,
    /// They are trusted.
    pub trusted: bool,
    /// The picture.
    pub picture: Option<Picture>,
    /// Who else looks at it now.
    pub others: Vec<String>,
    /// Ready-made sentences, by what was found.
    pub sentences: Vec<&'static str>,
}

/// Fields of two wordings, beside one another, of those that differ; with `all`, of all.
fn sides(
    before: &[(String, String)],
    after: &[(String, String)],
    all: bool,
) -> Vec<(String, Vec<(Piece, String)>)> {
    let mut labels: Vec<&String> = before.iter().chain(after).map(|(l, _)| l).collect();
    let mut seen = Vec::new();
    labels.retain(|l| {
        let new = !seen.contains(l);
        seen.push(*l);
        new
    });
    let of = |side: &[(String, String)], label: &str| {
        side.iter().find(|(l, _)| l == label).map_or_else(String::new, |(_, t)| t.clone())
    };
    labels
        .into_iter()
        .map(|label| (label.clone(), between(&of(before, label), &of(after, label))))
        .filter(|(_, pieces)| all || pieces.iter().any(|(p, _)| *p != Piece::Same))
        .collect()
}

/// An event, field by field, as a submission is copied.
fn fields_of(
    conn: &Connection,
    event: &Event,
    today: jiff::civil::Date,
) -> Result<Vec<(String, String)>, DeskError> {
    let dates = events::dates_of(conn, event.id)?;
    let when: Vec<String> = dates
        .iter()
        .filter(|d| d.called_off.is_empty())
        .take(6)
        .map(|d| matricle_formats::words::span(d.span.starts, d.span.ends, today))
        .collect();
    let first = dates.first();
    let text = events::without_marks(&event.description).trim().to_owned();
    Ok([
        ("Title", event.title.clone()),
        ("When", when.join("; ")),
        ("Where", first.map_or_else(String::new, matricle_store::events::Date::place)),
        ("Who leads it", first.map_or_else(String::new, |d| d.hosts.clone())),
        ("Whom to ask", event.contact.clone()),
        (
            "What it is about",
            if text.contains(&event.lead) { text } else { format!("{} {text}", event.lead) },
        ),
    ]
    .into_iter()
    .filter(|(_, text)| !text.is_empty())
    .map(|(label, text)| (label.to_owned(), text))
    .collect())
}

fn beside(
    conn: &Connection,
    typed: &Typed,
    finding: &Finding,
    given: &Given,
    now: jiff::Timestamp,
) -> Result<Option<Beside>, DeskError> {
    let Some(other) = finding.other else { return Ok(None) };
    let house = &given.house;
    let mine = told::copy(typed, house, now);
    let today = matricle_formats::words::local(now, &house.zone).date();
    let (title, href, theirs) = match other {
        Other::Event(id) => {
            let Some(event) = events::by_id(conn, matricle_core::EventId(id))? else {
                return Ok(None);
            };
            let theirs = fields_of(conn, &event, today)?;
            (event.title, format!("/events/{}", event.slug), theirs)
        }
        Other::Submission(id) => {
            let Some(other) = submissions::by_id(conn, SubmissionId(id))? else { return Ok(None) };
            let theirs = told::copy(&other.typed, house, now);
            (other.title, format!("/office/review/{id}"), theirs)
        }
    };
    let kept = ["Title", "When", "Where", "Who leads it", "Whom to ask", "What it is about"];
    let mine: Vec<_> = mine.into_iter().filter(|(l, _)| kept.contains(&l.as_str())).collect();
    Ok(Some(Beside { other, title, href, fields: sides(&theirs, &mine, true) }))
}

fn article(
    conn: &Connection,
    id: SubmissionId,
    now: jiff::Timestamp,
) -> Result<Article, DeskError> {
    let s = found(conn, id)?;
    if s.state == State::Unsent {
        return Err(DeskError::NotFound);
    }
    let given = given(conn)?;
    let of_change = s.change.is_some() && s.waits_since.is_some();
    let typed = s.change.clone().filter(|_| of_change).unwrap_or_else(|| s.typed.clone());
    let read = proposal(&typed, &given.house).map_err(|form| form.wrong);
    let (findings, light) = if s.waits_since.is_some() {
        checking::check(conn, &s, &typed, now)?
    } else {
        (s.findings.clone(), s.light)
    };
    let mut near = Vec::new();
    for finding in findings.iter().filter(|f| f.check == matricle_core::review::checks::Check::Copy)
    {
        near.extend(beside(conn, &typed, finding, &given, now)?);
    }
    let changes = if of_change {
        let side = |t: &Typed| {
            let mut side = told::copy(t, &given.house, now);
            side.retain(|(label, _)| label != "Words to the reviewer");
            side
        };
        sides(&side(&s.typed), &side(&typed), false)
    } else {
        Vec::new()
    };
    let happened = submissions::happened(conn, id)?;
    let trusted = match s.person {
        Some(person) => submissions::trusted(conn, person)?.is_some_and(|t| t.yes),
        None => false,
    };
    Ok(Article {
        proposal: read,
        beside: near,
        changes,
        bookings: match s.event {
            Some(event) => bookings::count_live(conn, event)?,
            None => 0,
        },
        corrected: super::deciding::corrected(&happened),
        happened,
        trust: trust::proposed(conn, &s, given.rules.trust_after)?,
        trusted,
        picture: submissions::picture(conn, id)?,
        others: Vec::new(),
        sentences: findings
            .iter()
            .map(|f| f.check.asks())
            .filter(|asks| !asks.is_empty())
            .collect(),
        findings,
        light,
        typed,
        submission: s,
        given,
    })
}

/// One submission, for somebody who reviews. With `looks`, others see that they look at it.
///
/// # Errors
/// The role may not; there is no such submission, or it was never sent.
pub async fn one(
    desk: &Desk,
    staff: &Staff,
    id: SubmissionId,
    looks: bool,
) -> Result<Article, DeskError> {
    require(staff.role, Right::Review)?;
    let now = desk.clock.now();
    if looks {
        desk.looking.look(staff.id, &staff.name, id, now);
    }
    let mut article = desk.store.read(move |conn| article(conn, id, now)).await?;
    article.others = desk.looking.others(staff.id, id, now);
    Ok(article)
}

/// Tells others that somebody looks at a submission; says who else does, and whether it waits
/// still, in which wording.
///
/// # Errors
/// The role may not; there is no such submission.
pub async fn look(
    desk: &Desk,
    staff: &Staff,
    id: SubmissionId,
) -> Result<(Vec<String>, bool, u32), DeskError> {
    require(staff.role, Right::Review)?;
    let now = desk.clock.now();
    desk.looking.look(staff.id, &staff.name, id, now);
    let s = desk.store.read(move |conn| found(conn, id)).await?;
    Ok((desk.looking.others(staff.id, id, now), s.waits_since.is_some(), s.version))
}

/// What waits and looks right, each with its first dates in words, for deciding on all of it at
/// once.
pub async fn right(desk: &Desk, staff: &Staff) -> Result<Vec<(Submission, String)>, DeskError> {
    require(staff.role, Right::Review)?;
    let Queue { given: Given { house, .. }, mut rows, .. } = list(desk, staff).await?;
    let today = words::local(desk.clock.now(), &house.zone).date();
    rows.retain(looks_right);
    let with_dates = |s: Submission| {
        let when = proposal(&s.typed, &house).map(|p| told::when(&p, today, 2)).unwrap_or_default();
        (s, when.join("; "))
    };
    Ok(rows.into_iter().map(with_dates).collect())
}

/// Whether it may be accepted with others at once; a change to what is accepted never is.
#[must_use]
pub fn looks_right(s: &Submission) -> bool {
    s.light == Light::Right && s.state == State::Received
}
