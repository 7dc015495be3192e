//! Which submissions wait, whose they are, how they ended.

use jiff::{SignedDuration, Timestamp};
use matricle_core::review::record::Ended;
use matricle_core::review::submission::Act;
use matricle_core::{PersonId, SubmissionId};
use rusqlite::{Connection, OptionalExtension};

use super::{COLUMNS, Changed, Submission, an_hour_before, submission};
use crate::convert::InOrder;
use crate::unreadable::readable;
use crate::{Doing, StoreError, Tx, at, us};

/// How many wait for a reviewer, and since when the oldest does.
pub fn waits(conn: &Connection) -> Result<(u32, Option<Timestamp>), StoreError> {
    conn.prepare_cached(
        "SELECT count(*), min(waits_since) FROM submissions WHERE waits_since IS NOT NULL",
    )
    .and_then(|mut q| {
        q.query_row([], |row| Ok((row.get(0)?, row.get::<_, Option<i64>>(1)?.map(at))))
    })
    .doing("counting what waits for review")
}

/// Those that wait, the longest waiting first.
pub fn waiting(conn: &Connection, most: u32) -> Result<Vec<Submission>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM submissions s WHERE s.waits_since IS NOT NULL ORDER BY s.waits_since, s.id LIMIT ?1"
    ))
    .and_then(|mut q| readable("submissions", q.query_map([most], submission)?))
    .doing("reading what waits for review")
}

/// Those that wait and were checked against other plans than those of now.
pub fn stale(conn: &Connection, plans: i64, most: u32) -> Result<Vec<SubmissionId>, StoreError> {
    conn.prepare_cached(
        "SELECT id FROM submissions WHERE waits_since IS NOT NULL AND checked <> ?1 ORDER BY waits_since LIMIT ?2",
    )
    .and_then(|mut q| {
        q.query_map((plans, most), |row| row.get(0).map(SubmissionId))?.collect()
    })
    .doing("reading what is to be checked")
}

/// A page of what somebody sent or is writing, the latest first, and how many there are in all.
pub fn of_person(
    conn: &Connection,
    person: PersonId,
    skip: u32,
    most: u32,
) -> Result<(Vec<Submission>, u32), StoreError> {
    let read = || {
        let rows = conn
            .prepare_cached(&format!(
                "SELECT {COLUMNS} FROM submissions s WHERE s.person_id = ?1 ORDER BY s.id DESC LIMIT ?2 OFFSET ?3"
            ))?
            .query_map((person.0, most, skip), submission)?
            .collect::<rusqlite::Result<Vec<_>>>()?;
        let all = conn
            .prepare_cached("SELECT count(*) FROM submissions WHERE person_id = ?1")?
            .query_row([person.0], |row| row.get(0))?;
        Ok((rows, all))
    };
    read().doing("reading somebody's submissions")
}

/// How many an address, or a network, sent within an hour and within a day; the higher of both.
pub fn lately(
    conn: &Connection,
    email: &str,
    network: i64,
    now: Timestamp,
) -> Result<(u32, u32), StoreError> {
    let day = us(now.saturating_sub(SignedDuration::from_hours(24)).unwrap_or(now));
    conn.prepare_cached(
        "SELECT max((SELECT count(*) FROM submissions WHERE email = ?1 AND sent_at > ?3),
                (SELECT count(*) FROM submissions WHERE network = ?2 AND ?2 <> 0 AND sent_at > ?3)),
            (SELECT count(*) FROM submissions WHERE email = ?1 AND sent_at > ?4)",
    )
    .and_then(|mut q| {
        q.query_row((email, network, an_hour_before(now), day), |row| {
            Ok((row.get(0)?, row.get(1)?))
        })
    })
    .doing("counting what was sent lately")
}

/// How somebody's submissions ended, the oldest first; those that were joined with another, or
/// withdrawn, did not.
pub fn ends_of(conn: &Connection, person: PersonId) -> Result<Vec<Ended>, StoreError> {
    // The last thing a reviewer decided, with what was corrected before it.
    let read = || -> rusqlite::Result<Vec<(i64, Ended)>> {
        let mut ends = conn
            .prepare_cached(
                "SELECT a.at, a.act, (SELECT group_concat(c.difference, char(10)) FROM submission_acts c
                    WHERE c.submission_id = s.id AND c.act = 'correct' AND c.undone = 0)
                 FROM submissions s JOIN submission_acts a ON a.id = (SELECT max(d.id) FROM submission_acts d
                    WHERE d.submission_id = s.id AND d.undone = 0
                        AND d.act IN ('accept', 'turn down', 'spam', 'join') AND d.person_id IS NOT NULL)
                 WHERE s.person_id = ?1 ORDER BY a.at DESC LIMIT 200",
            )?
            .query_map([person.0], |row| {
                let mut c = InOrder::from(row, 0);
                let at: i64 = c.next()?;
                let act = c.word("submission_acts.act", Act::from_word)?;
                let corrected: Option<String> = c.next()?;
                let fields = corrected.map_or_else(Vec::new, |lines| fields(&lines));
                Ok((at, act, fields))
            })?
            .filter_map(|row| match row {
                Ok((at, Act::Accept, fields)) => Some(Ok((at, Ended::Accepted(fields)))),
                Ok((at, Act::TurnDown, _)) => Some(Ok((at, Ended::TurnedDown))),
                Ok((at, Act::Spam, _)) => Some(Ok((at, Ended::Spam))),
                Ok(_) => None,
                Err(error) => Some(Err(error)),
            })
            .collect::<rusqlite::Result<Vec<_>>>()?;
        let complained = conn
            .prepare_cached(
                "SELECT c.decided_at FROM complaints c JOIN submissions s ON s.event_id = c.event_id
                 WHERE s.person_id = ?1 AND c.outcome = 'right'",
            )?
            .query_map([person.0], |row| Ok((row.get(0)?, Ended::Complained)))?
            .collect::<rusqlite::Result<Vec<_>>>()?;
        ends.extend(complained);
        ends.sort_by_key(|(at, _)| *at);
        Ok(ends)
    };
    let ends = read().doing("reading somebody's record")?;
    Ok(ends.into_iter().map(|(_, end)| end).collect())
}

/// The labels of the fields that corrections changed, each once.
fn fields(lines: &str) -> Vec<String> {
    let mut fields: Vec<String> = lines
        .lines()
        .filter_map(|line| serde_json::from_str::<Vec<Changed>>(line).ok())
        .flatten()
        .map(|(label, ..)| label)
        .collect();
    fields.sort_unstable();
    fields.dedup();
    fields
}

/// A decision, for figures.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Decided {
    /// What.
    pub act: Act,
    /// Who.
    pub who: String,
    /// When.
    pub at: Timestamp,
    /// How long it had waited, in microseconds.
    pub waited: i64,
    /// What was corrected, by label.
    pub corrected: Vec<String>,
}

/// The decisions since an instant that stand, the latest first; at most 5000.
pub fn figures(conn: &Connection, since: Timestamp) -> Result<Vec<Decided>, StoreError> {
    conn.prepare_cached(
        "SELECT a.act, a.who, a.at, a.at - coalesce((SELECT max(b.at) FROM submission_acts b
                WHERE b.submission_id = a.submission_id AND b.id < a.id AND b.act IN ('send', 'change')), a.at),
            (SELECT group_concat(c.difference, char(10)) FROM submission_acts c
                WHERE c.submission_id = a.submission_id AND c.act = 'correct' AND c.id < a.id)
         FROM submission_acts a WHERE a.at >= ?1 AND a.undone = 0 AND a.person_id IS NOT NULL
            AND a.act IN ('accept', 'send back', 'turn down', 'spam', 'join') ORDER BY a.at DESC LIMIT 5000",
    )
    .and_then(|mut q| {
        q.query_map([us(since)], |row| {
            let mut c = InOrder::from(row, 0);
            Ok(Decided {
                act: c.word("submission_acts.act", Act::from_word)?,
                who: c.next()?,
                at: c.instant()?,
                waited: c.next()?,
                corrected: c.next::<Option<String>>()?.map_or_else(Vec::new, |l| fields(&l)),
            })
        })?
        .collect()
    })
    .doing("reading decisions")
}

/// Those that were turned down or withdrawn before an instant, and cannot be taken back any more.
pub fn to_erase(
    conn: &Connection,
    before: Timestamp,
    now: Timestamp,
    most: u32,
) -> Result<Vec<SubmissionId>, StoreError> {
    conn.prepare_cached(
        "SELECT id FROM submissions WHERE state IN ('turned down', 'withdrawn') AND event_id IS NULL
            AND decided_at < ?1 AND coalesce(undo_until, 0) < ?2 ORDER BY decided_at LIMIT ?3",
    )
    .and_then(|mut q| {
        q.query_map((us(before), us(now), most), |row| row.get(0).map(SubmissionId))?.collect()
    })
    .doing("reading what is to be erased")
}

/// Those that were begun before an instant and never sent.
pub fn unsent_before(
    conn: &Connection,
    before: Timestamp,
    most: u32,
) -> Result<Vec<SubmissionId>, StoreError> {
    conn.prepare_cached(
        "SELECT id FROM submissions WHERE state = 'not sent yet' AND begun_at < ?1 ORDER BY begun_at LIMIT ?2",
    )
    .and_then(|mut q| {
        q.query_map((us(before), most), |row| row.get(0).map(SubmissionId))?.collect()
    })
    .doing("reading what was never sent")
}

/// What reviewers said of trusting somebody.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trusted {
    /// The person.
    pub person: PersonId,
    /// Their name.
    pub name: String,
    /// Their address.
    pub email: String,
    /// Whether they are trusted.
    pub yes: bool,
    /// Since when.
    pub at: Timestamp,
    /// Who decided.
    pub who: String,
    /// How many of theirs were accepted then.
    pub accepted: u32,
}

const TRUSTED: &str = "SELECT t.person_id, p.name, p.email, t.yes, t.at, t.who, t.accepted
    FROM trusted t JOIN people p ON p.id = t.person_id";

fn row(row: &rusqlite::Row<'_>) -> rusqlite::Result<Trusted> {
    let mut c = InOrder::from(row, 0);
    Ok(Trusted {
        person: PersonId(c.next()?),
        name: c.next()?,
        email: c.next()?,
        yes: c.next()?,
        at: c.instant()?,
        who: c.next()?,
        accepted: c.next()?,
    })
}

/// What was decided about trusting somebody, if anything was.
pub fn trusted(conn: &Connection, person: PersonId) -> Result<Option<Trusted>, StoreError> {
    conn.prepare_cached(&format!("{TRUSTED} WHERE t.person_id = ?1"))
        .and_then(|mut q| q.query_row([person.0], row).optional())
        .doing("reading whom reviewers trust")
}

/// Everybody who is trusted, by name.
pub fn trusted_all(conn: &Connection) -> Result<Vec<Trusted>, StoreError> {
    conn.prepare_cached(&format!("{TRUSTED} WHERE t.yes = 1 ORDER BY p.name, p.email"))
        .and_then(|mut q| q.query_map([], row)?.collect())
        .doing("reading whom reviewers trust")
}

/// Writes down whether somebody is trusted.
pub fn set_trusted(
    tx: &Tx<'_>,
    person: PersonId,
    yes: bool,
    who: &str,
    accepted: u32,
    now: Timestamp,
) -> Result<(), StoreError> {
    tx.execute(
        "INSERT OR REPLACE INTO trusted (person_id, yes, at, who, accepted) VALUES (?1, ?2, ?3, ?4, ?5)",
        (person.0, yes, us(now), who, accepted),
    )
    .map(drop)
    .doing("writing down whom reviewers trust")
}
