//! The checks of a submission: what they look at is gathered here, what they find is core's.

use jiff::{SignedDuration, Timestamp};
use matricle_core::review::checks::{self, Finding, Light, Near, Other, SubmissionFacts};
use matricle_core::review::likeness::{Known, Sample, compare, may_be};
use matricle_core::review::submission::{Proposal, Typed};
use matricle_core::{EventId, SubmissionId};
use matricle_formats::words;
use matricle_store::events::{self, NewDate};
use matricle_store::submissions::{self, Submission};
use matricle_store::{Connection, Tx};

use super::{Given, given, plain, proposal, record_of};
use crate::planning::board::{Offered, clashes_of_new, offered};
use crate::{Desk, DeskError};

/// Dates of a run that are compared and looked at for clashes: the first of them.
const MOST_DATES: usize = 12;
/// Most clashes and near-copies that are told.
const MOST_TOLD: usize = 5;
/// Checked again in one go.
const AT_ONCE: u32 = 50;

/// The dates of a proposal, as they would be written down.
pub(crate) fn new_dates(p: &Proposal, offered: &Offered) -> Vec<NewDate> {
    let (venue, room) = place_of(&p.place, offered);
    p.spans
        .iter()
        .map(|span| NewDate {
            span: span.clone(),
            venue: venue.clone(),
            address: p.address.clone(),
            directions: String::new(),
            room: room.clone(),
            hosts: p.hosts.clone(),
            margins: (0, 0),
            capacities: vec![p.booked.map_or(1, |b| b.seats)],
            sessions: Vec::new(),
            online: None,
        })
        .collect()
}

/// The venue and room that a line means.
pub(crate) fn place_of(place: &str, offered: &Offered) -> (String, String) {
    let line = matricle_core::words::fold(place);
    let known = offered.places().into_iter().find(|(l, ..)| matricle_core::words::fold(l) == line);
    known.map_or_else(
        || (place.to_owned(), String::new()),
        |(_, venue, room)| (venue.to_owned(), room.to_owned()),
    )
}

/// What is nearly the same as a proposal.
pub fn near(
    conn: &Connection,
    p: &Proposal,
    text: &str,
    (of, event): (SubmissionId, Option<EventId>),
) -> Result<Vec<Near>, DeskError> {
    let spans = &p.spans[..p.spans.len().min(MOST_DATES)];
    let starts: Vec<Timestamp> = spans.iter().map(|s| s.starts_at).collect();
    let mine = Known::of(&Sample {
        title: p.title.clone(),
        text: text.to_owned(),
        place: p.place.clone(),
        starts: spans.iter().map(|s| s.starts).collect(),
    });
    let mut found = Vec::new();
    for mut candidate in submissions::candidates(conn, of, event.map(|e| e.0), &starts)? {
        if !may_be(&mine, &candidate.sample.place, &candidate.sample.starts) {
            continue;
        }
        candidate.sample.text = events::without_marks(&candidate.sample.text);
        let like = compare(&mine, &Known::of(&candidate.sample));
        if like.is_copy() {
            let near = Near {
                other: candidate.other,
                title: candidate.sample.title,
                evidence: like.evidence(),
            };
            found.push((like.total(), near));
        }
    }
    found.sort_by_key(|(total, _)| std::cmp::Reverse(*total));
    Ok(found.into_iter().take(MOST_TOLD).map(|(_, near)| near).collect())
}

/// What a proposal would clash with, in words, with the event that is in the way.
pub fn clashes(
    conn: &Connection,
    p: &Proposal,
    event: Option<EventId>,
    offered: &Offered,
    today: jiff::civil::Date,
) -> Result<Vec<(String, i64)>, DeskError> {
    if p.place.is_empty() && p.hosts.is_empty() {
        return Ok(Vec::new());
    }
    let dates = new_dates(p, offered);
    let found = clashes_of_new(conn, EventId(0), &dates[..dates.len().min(MOST_DATES)])?;
    Ok(found
        .into_iter()
        .filter(|c| Some(c.event) != event)
        .take(MOST_TOLD)
        .map(|c| {
            let when = words::span(c.span.0, c.span.1, today);
            (format!("{}: “{}”, {when}", c.what, c.title), c.event.0)
        })
        .collect())
}

/// Names of the places that the house knows.
pub(crate) fn places(offered: &Offered) -> Vec<String> {
    offered.places().into_iter().map(|(line, ..)| line).collect()
}

/// Checks a submission as it is worded. The time it takes is measured by `bench-review`.
pub fn check(
    conn: &Connection,
    s: &Submission,
    typed: &Typed,
    now: Timestamp,
) -> Result<(Vec<Finding>, Light), DeskError> {
    let Given { house, rules } = given(conn)?;
    let Ok(p) = proposal(typed, &house) else { return Ok((Vec::new(), Light::Doubtful)) };
    let text = plain(typed);
    let offered = offered(conn)?;
    let here = words::local(now, &house.zone).datetime();
    let near = near(conn, &p, &text, (s.id, s.event))?;
    let clashes = clashes(conn, &p, s.event, &offered, here.date())?;
    let record = record_of(conn, s.person)?;
    let venues = places(&offered);
    let facts = SubmissionFacts {
        proposal: &p,
        text: &text,
        rules: &rules,
        venues: &venues,
        clashes: &clashes,
        near: &near,
        record: &record,
        sent: s.sent,
    };
    let found = checks::check(&facts, now, here);
    let light = checks::light(&found);
    Ok((found, light))
}

/// Checks a submission, and writes down what was found. Others that wait and are nearly the same
/// are checked again with the next.
pub(crate) fn check_in(tx: &Tx<'_>, id: SubmissionId, now: Timestamp) -> Result<Light, DeskError> {
    let s = super::found(tx, id)?;
    let typed = s.change.as_ref().unwrap_or(&s.typed);
    let (found, light) = check(tx, &s, typed, now)?;
    for finding in found.iter().chain(&s.findings) {
        if let Some(Other::Submission(other)) = finding.other
            && other != id.0
            && found.contains(finding) != s.findings.contains(finding)
        {
            submissions::recheck(tx, SubmissionId(other))?;
        }
    }
    submissions::set_checks(tx, id, &found, light, submissions::plans(tx)?)?;
    Ok(light)
}

/// Checks again what waits and was checked against other plans than those of now, the longest
/// waiting first; how many there were. They are worked out away from the writing thread, and
/// written down where nothing changed meanwhile.
pub async fn check_stale(desk: &Desk) -> Result<usize, DeskError> {
    let now = desk.clock.now();
    let checked = desk
        .store
        .read(move |conn| {
            let plans = submissions::plans(conn)?;
            let mut checked = Vec::new();
            for id in submissions::stale(conn, plans, AT_ONCE)? {
                let s = super::found(conn, id)?;
                let typed = s.change.as_ref().unwrap_or(&s.typed);
                let (found, light) = check(conn, &s, typed, now)?;
                checked.push((id, s.version, found, light));
            }
            Ok::<_, DeskError>((plans, checked))
        })
        .await?;
    let (plans, checked) = checked;
    let n = checked.len();
    if n > 0 {
        desk.store
            .write(move |tx| {
                for (id, version, found, light) in checked {
                    if super::found(tx, id)?.version == version {
                        submissions::set_checks(tx, id, &found, light, plans)?;
                    }
                }
                Ok::<_, DeskError>(())
            })
            .await?;
    }
    Ok(n)
}

/// What time does: what was turned down or withdrawn is erased when the house rules say so, what
/// was never sent after two weeks; what waits is looked at again.
pub(crate) async fn pass_time(desk: &Desk) -> Result<usize, DeskError> {
    let now = desk.clock.now();
    let before = move |days: u32| {
        now.saturating_sub(SignedDuration::from_hours(24 * i64::from(days))).unwrap_or(now)
    };
    let due = move |conn: &Connection| {
        let rules = submissions::rules(conn)?;
        let mut due = submissions::to_erase(conn, before(rules.keep_days.max(1)), now, AT_ONCE)?;
        due.extend(submissions::unsent_before(conn, before(14), AT_ONCE)?);
        Ok::<_, DeskError>(due)
    };
    let n = desk.store.read(due).await?.len();
    if n > 0 {
        desk.store
            .write(move |tx| {
                for id in due(tx)? {
                    submissions::erase(tx, id)?;
                }
                Ok::<_, DeskError>(())
            })
            .await?;
    }
    Ok(n + check_stale(desk).await?)
}
