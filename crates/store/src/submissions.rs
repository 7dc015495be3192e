//! Events that members submit, what happened to each, and the house rules.

mod lists;
mod near;

use jiff::civil::DateTime;
use jiff::{SignedDuration, Timestamp};
use matricle_core::review::checks::{Finding, Light, Sent};
use matricle_core::review::rules::HouseRules;
use matricle_core::review::submission::{Act, State, Typed};
use matricle_core::{EventId, PersonId, SubmissionId};
use rusqlite::{Connection, OptionalExtension, Row, named_params};

use crate::convert::{InOrder, foreign, json};
use crate::events::Picture;
use crate::unreadable::readable_one;
use crate::{Doing, StoreError, Tx, us};

pub use lists::{
    Decided, Trusted, ends_of, figures, lately, of_person, set_trusted, stale, to_erase, trusted,
    trusted_all, unsent_before, waiting, waits,
};
pub use near::{Candidate, candidates};

/// A submission.
#[derive(Debug, Clone, PartialEq)]
pub struct Submission {
    /// Its key.
    pub id: SubmissionId,
    /// Whoever proved the address, once somebody has.
    pub person: Option<PersonId>,
    /// The address.
    pub email: String,
    /// The name.
    pub name: String,
    /// Where it stands.
    pub state: State,
    /// What was typed.
    pub typed: Typed,
    /// Counts its wordings.
    pub version: u32,
    /// Its title.
    pub title: String,
    /// A change to what was accepted, that waits.
    pub change: Option<Typed>,
    /// What the checks found.
    pub findings: Vec<Finding>,
    /// The light word.
    pub light: Light,
    /// How it was sent.
    pub sent: Sent,
    /// The browser and the network it was begun in, as keyed hashes.
    pub from: (i64, i64),
    /// The event it became.
    pub event: Option<EventId>,
    /// When it was begun.
    pub begun_at: Timestamp,
    /// When it was sent first.
    pub sent_at: Option<Timestamp>,
    /// Since when it waits.
    pub waits_since: Option<Timestamp>,
    /// When it was decided on last.
    pub decided_at: Option<Timestamp>,
    /// Until when that can be taken back.
    pub undo_until: Option<Timestamp>,
}

const COLUMNS: &str = "s.id, s.person_id, s.email, s.name, s.state, s.typed, s.version, s.title, s.change, \
     s.findings, s.light, s.sent, s.browser, s.network, s.event_id, s.begun_at, s.sent_at, s.waits_since, \
     s.decided_at, s.undo_until";

fn typed_or(text: Option<String>, column: &'static str) -> rusqlite::Result<Option<Typed>> {
    text.map(|t| serde_json::from_str(&t).map_err(|_| foreign(column, t))).transpose()
}

fn submission(row: &Row<'_>) -> rusqlite::Result<Submission> {
    let mut c = InOrder::from(row, 0);
    Ok(Submission {
        id: SubmissionId(c.next()?),
        person: c.next::<Option<i64>>()?.map(PersonId),
        email: c.next()?,
        name: c.next()?,
        state: c.word("submissions.state", State::from_word)?,
        typed: c.word("submissions.typed", |t| serde_json::from_str(t).ok())?,
        version: c.next()?,
        title: c.next()?,
        change: {
            let text: Option<String> = c.next()?;
            let read =
                |t: String| serde_json::from_str(&t).map_err(|_| foreign("submissions.change", t));
            text.map(read).transpose()?
        },
        findings: c.word("submissions.findings", |f| serde_json::from_str(f).ok())?,
        light: c.word("submissions.light", Light::from_word)?,
        sent: c.word("submissions.sent", |s| serde_json::from_str(s).ok())?,
        from: (c.next()?, c.next()?),
        event: c.next::<Option<i64>>()?.map(EventId),
        begun_at: c.instant()?,
        sent_at: c.instant_or()?,
        waits_since: c.instant_or()?,
        decided_at: c.instant_or()?,
        undo_until: c.instant_or()?,
    })
}

/// The house rules; the usual ones where the house has set none.
pub fn rules(conn: &Connection) -> Result<HouseRules, StoreError> {
    conn.prepare_cached("SELECT rules FROM house_rules")
        .and_then(|mut q| {
            // Rules that cannot be read let nothing into the Programme by itself: the usual ones hold.
            let rules = q
                .query_row([], |row| {
                    InOrder::from(row, 0)
                        .word("house_rules.rules", |r| serde_json::from_str(r).ok())
                })
                .optional();
            readable_one("the house rules", rules)
        })
        .map(Option::unwrap_or_default)
        .doing("reading the house rules")
}

/// Writes the house rules.
pub fn set_rules(tx: &Tx<'_>, rules: &HouseRules) -> Result<(), StoreError> {
    json(rules)
        .and_then(|rules| {
            tx.execute("INSERT OR REPLACE INTO house_rules (id, rules) VALUES (1, ?1)", [rules])
        })
        .map(drop)
        .doing("writing the house rules")
}

/// Begins a submission.
pub fn begin(
    tx: &Tx<'_>,
    typed: &Typed,
    person: Option<PersonId>,
    (browser, network): (i64, i64),
    now: Timestamp,
) -> Result<SubmissionId, StoreError> {
    json(typed)
        .and_then(|text| {
            tx.execute(
                "INSERT INTO submissions (person_id, typed, title, email, name, browser, network, begun_at)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
                rusqlite::params![
                    person.map(|p| p.0),
                    text,
                    typed.get("title"),
                    typed.get("email"),
                    typed.get("name"),
                    browser,
                    network,
                    us(now)
                ],
            )
        })
        .doing("beginning a submission")?;
    Ok(SubmissionId(tx.last_insert_rowid()))
}

/// A submission by its key.
pub fn by_id(conn: &Connection, id: SubmissionId) -> Result<Option<Submission>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM submissions s WHERE s.id = ?1"))
        .and_then(|mut q| q.query_row([id.0], submission).optional())
        .doing("looking a submission up")
}

/// The submission that became an event.
pub fn of_event(conn: &Connection, event: EventId) -> Result<Option<Submission>, StoreError> {
    conn.prepare_cached(&format!("SELECT {COLUMNS} FROM submissions s WHERE s.event_id = ?1"))
        .and_then(|mut q| q.query_row([event.0], submission).optional())
        .doing("looking a submission up")
}

/// Keeps what was typed, as another wording.
pub fn set_typed(tx: &Tx<'_>, id: SubmissionId, typed: &Typed) -> Result<(), StoreError> {
    json(typed)
        .and_then(|text| {
            tx.execute(
                "UPDATE submissions SET typed = ?2, title = ?3, version = version + 1, checked = -1 WHERE id = ?1",
                (id.0, text, typed.get("title")),
            )
        })
        .map(drop)
        .doing("keeping a submission")
}

/// Keeps a change to what was accepted, as another wording; with none, there is none any more.
pub fn set_change(tx: &Tx<'_>, id: SubmissionId, change: Option<&Typed>) -> Result<(), StoreError> {
    change
        .map(json)
        .transpose()
        .and_then(|text| {
            tx.execute(
                "UPDATE submissions SET change = ?2, version = version + 1, checked = -1 WHERE id = ?1",
                (id.0, text),
            )
        })
        .map(drop)
        .doing("keeping a change to a submission")
}

/// Keeps whose it is, before it is sent.
pub fn set_sender(
    tx: &Tx<'_>,
    id: SubmissionId,
    person: Option<PersonId>,
    (email, name): (&str, &str),
) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE submissions SET person_id = ?2, email = ?3, name = ?4 WHERE id = ?1",
        (id.0, person.map(|p| p.0), email, name),
    )
    .map(drop)
    .doing("keeping whose a submission is")
}

/// What becomes of a submission with an act: where it stands, whether it waits, what it became.
pub fn set(tx: &Tx<'_>, s: &Submission) -> Result<(), StoreError> {
    let write = || {
        tx.prepare_cached(
            "UPDATE submissions SET state = :state, sent = :sent, event_id = :event,
                sent_at = :sent_at, waits_since = :since, decided_at = :decided, undo_until = :undo
             WHERE id = :id",
        )?
        .execute(named_params! {
            ":id": s.id.0, ":state": s.state.word(), ":sent": json(&s.sent)?,
            ":event": s.event.map(|e| e.0), ":sent_at": s.sent_at.map(us), ":since": s.waits_since.map(us),
            ":decided": s.decided_at.map(us), ":undo": s.undo_until.map(us),
        })
    };
    write().map(drop).doing("moving a submission")
}

/// The dates of a submission, by which others are found to be near; none where it waits no more.
pub fn set_dates(
    tx: &Tx<'_>,
    id: SubmissionId,
    starts: &[(DateTime, Timestamp)],
) -> Result<(), StoreError> {
    let write = || {
        tx.execute("DELETE FROM submission_dates WHERE submission_id = ?1", [id.0])?;
        let mut add =
            tx.prepare_cached("INSERT OR IGNORE INTO submission_dates VALUES (?1, ?2, ?3)")?;
        for (local, at) in starts {
            add.execute((id.0, local.to_string(), us(*at)))?;
        }
        Ok(())
    };
    write().doing("keeping the dates of a submission")
}

/// Writes down what the checks found, and what the plans were counted as then.
pub fn set_checks(
    tx: &Tx<'_>,
    id: SubmissionId,
    findings: &[Finding],
    light: Light,
    plans: i64,
) -> Result<(), StoreError> {
    json(&findings)
        .and_then(|text| {
            tx.prepare_cached(
                "UPDATE submissions SET findings = ?2, light = ?3, checked = ?4 WHERE id = ?1",
            )?
            .execute((id.0, text, light.word(), plans))
        })
        .map(drop)
        .doing("writing down what was checked")
}

/// What was checked of a submission is to be checked again.
pub fn recheck(tx: &Tx<'_>, id: SubmissionId) -> Result<(), StoreError> {
    tx.execute("UPDATE submissions SET checked = -1 WHERE id = ?1", [id.0])
        .map(drop)
        .doing("noting what is to be checked")
}

/// How often plans have changed.
pub fn plans(conn: &Connection) -> Result<i64, StoreError> {
    crate::plan_version::plan_version(conn)
}

/// A field that changed: its label, before, after.
pub type Changed = (String, String, String);

/// Something that happened to a submission.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Happened {
    /// Its key.
    pub id: i64,
    /// When.
    pub at: Timestamp,
    /// What.
    pub act: Act,
    /// Who of the house; `None` for the submitter and the program.
    pub person: Option<PersonId>,
    /// Their name then.
    pub who: String,
    /// What they said.
    pub words: String,
    /// What changed.
    pub difference: Vec<Changed>,
    /// What was typed before, where taking it back needs it.
    pub before: Option<Typed>,
    /// It was taken back.
    pub undone: bool,
}

/// Adds to the timeline of a submission.
pub fn note(tx: &Tx<'_>, id: SubmissionId, new: &Happened) -> Result<(), StoreError> {
    json(&new.difference)
        .and_then(|difference| Ok((difference, new.before.as_ref().map(json).transpose()?)))
        .and_then(|(difference, before)| {
            tx.prepare_cached(
                "INSERT INTO submission_acts (submission_id, at, act, person_id, who, words, difference, before)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
            )?
            .execute((
                id.0,
                us(new.at),
                new.act.word(),
                new.person.map(|p| p.0),
                &new.who,
                &new.words,
                difference,
                before,
            ))
        })
        .map(drop)
        .doing("noting what happened to a submission")
}

/// The timeline of a submission, the oldest first.
pub fn happened(conn: &Connection, id: SubmissionId) -> Result<Vec<Happened>, StoreError> {
    conn.prepare_cached(
        "SELECT id, at, act, person_id, who, words, difference, before, undone FROM submission_acts
         WHERE submission_id = ?1 ORDER BY id",
    )
    .and_then(|mut q| {
        q.query_map([id.0], |row| {
            let mut c = InOrder::from(row, 0);
            Ok(Happened {
                id: c.next()?,
                at: c.instant()?,
                act: c.word("submission_acts.act", Act::from_word)?,
                person: c.next::<Option<i64>>()?.map(PersonId),
                who: c.next()?,
                words: c.next()?,
                difference: c
                    .word("submission_acts.difference", |d| serde_json::from_str(d).ok())?,
                before: typed_or(c.next()?, "submission_acts.before")?,
                undone: c.next()?,
            })
        })?
        .collect()
    })
    .doing("reading what happened to a submission")
}

/// Notes that an act was taken back.
pub fn undo(tx: &Tx<'_>, act: i64) -> Result<(), StoreError> {
    tx.execute("UPDATE submission_acts SET undone = 1 WHERE id = ?1", [act])
        .map(drop)
        .doing("taking an act back")
}

/// The picture of a submission.
pub fn picture(conn: &Connection, id: SubmissionId) -> Result<Option<Picture>, StoreError> {
    conn.prepare_cached(
        "SELECT id, alt, width, height FROM submission_pictures WHERE submission_id = ?1",
    )
    .and_then(|mut q| q.query_row([id.0], Picture::read).optional())
    .doing("looking the picture of a submission up")
}

/// Its bytes: JPEG, for a screen or for a phone.
pub fn picture_bytes(
    conn: &Connection,
    id: i64,
    small: bool,
) -> Result<Option<Vec<u8>>, StoreError> {
    let column = if small { "small" } else { "large" };
    conn.prepare_cached(&format!("SELECT {column} FROM submission_pictures WHERE id = ?1"))
        .and_then(|mut q| q.query_row([id], |row| row.get(0)).optional())
        .doing("reading the picture of a submission")
}

/// The picture of a submission becomes that of an event, in the place of any it had.
pub fn give_picture(tx: &Tx<'_>, id: SubmissionId, event: EventId) -> Result<(), StoreError> {
    let write = || {
        let has = tx
            .prepare_cached("SELECT 1 FROM submission_pictures WHERE submission_id = ?1")?
            .exists([id.0])?;
        if !has {
            return Ok(0);
        }
        tx.execute("DELETE FROM pictures WHERE event_id = ?1", [event.0])?;
        tx.execute(
            "INSERT INTO pictures (id, event_id, alt, width, height, large, small)
             SELECT id, ?2, alt, width, height, large, small FROM submission_pictures WHERE submission_id = ?1",
            (id.0, event.0),
        )
    };
    write().map(drop).doing("giving a picture to an event")
}

/// Gives a submission a picture in the place of any it had; with none, takes it away.
pub fn set_picture(
    tx: &Tx<'_>,
    id: SubmissionId,
    picture: Option<(&Picture, &[u8], &[u8])>,
) -> Result<(), StoreError> {
    let write = || {
        tx.execute("DELETE FROM submission_pictures WHERE submission_id = ?1", [id.0])?;
        let Some((picture, large, small)) = picture else { return Ok(0) };
        tx.execute(
            "INSERT INTO submission_pictures (id, submission_id, alt, width, height, large, small)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            (picture.id, id.0, &picture.alt, picture.width, picture.height, large, small),
        )
    };
    write().map(drop).doing("keeping the picture of a submission")
}

/// Erases a submission with all that was said about it. What was told of it stays counted in the
/// outbox, without its words.
pub fn erase(tx: &Tx<'_>, id: SubmissionId) -> Result<(), StoreError> {
    let write = || {
        tx.execute(
            "DELETE FROM said WHERE outbox_id IN (SELECT id FROM outbox WHERE submission_id = ?1)",
            [id.0],
        )?;
        tx.execute(
            "UPDATE outbox SET submission_id = NULL, knows = '{}', next_try_at = NULL,
                state = CASE state WHEN 'planned' THEN 'withdrawn' ELSE state END WHERE submission_id = ?1",
            [id.0],
        )?;
        tx.execute("DELETE FROM submissions WHERE id = ?1", [id.0])
    };
    write().map(drop).doing("erasing a submission")
}

/// What has not gone out about a submission is withdrawn.
pub fn withdraw_messages(tx: &Tx<'_>, id: SubmissionId, why: &str) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE outbox SET state = 'withdrawn', next_try_at = NULL, reason = ?2
         WHERE submission_id = ?1 AND state = 'planned' AND reader NOT LIKE 'day %'",
        (id.0, why),
    )
    .map(drop)
    .doing("withdrawing what is planned about a submission")
}

/// When an hour before now began, for counting what came lately.
pub(crate) fn an_hour_before(now: Timestamp) -> i64 {
    us(now.saturating_sub(SignedDuration::from_hours(1)).unwrap_or(now))
}
