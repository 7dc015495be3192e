//! Events that members submit: the house rules, writing and sending, the checks, deciding.

pub mod changes;
pub mod checking;
pub mod complaints;
pub mod deciding;
pub mod figures;
pub mod house_rules;
pub mod looking;
pub mod mine;
pub mod queue;
pub mod told;
pub mod trust;
pub mod writing;

use jiff::Timestamp;
use matricle_core::forms::form::Form;
use matricle_core::review::record::{Record, gather};
use matricle_core::review::rules::{HouseRules, Standing};
use matricle_core::review::submission::{Act, Proposal, Refusal, State, Typed, read};
use matricle_core::{PersonId, SubmissionId};
use matricle_formats::rich;
use matricle_store::house::House;
use matricle_store::people::{self, Known};
use matricle_store::submissions::{self, Changed, Happened, Submission};
use matricle_store::{Connection, Tx};

use crate::acting::Turn;
use crate::people::asking::Asking;
use crate::{Desk, DeskError};

/// Somebody who submits: what they have proved, and where they ask from.
#[derive(Debug, Clone, Default)]
pub struct Submitter {
    /// The person, where they have signed in.
    pub person: Option<PersonId>,
    /// Their name, as far as it is known.
    pub name: String,
    /// The address they have proved by signing in.
    pub proved: Option<String>,
    /// A member, by their record.
    pub member: bool,
    /// Their browser and their network, as keyed hashes.
    pub from: (i64, i64),
}

impl Submitter {
    /// From what a request knows of whoever asks.
    #[must_use]
    pub fn of(known: Option<&Known>, asking: &Asking) -> Self {
        Self {
            person: known.map(|k| k.id),
            name: known.map_or_else(String::new, |k| k.name.clone()),
            proved: known.map(|k| k.email.clone()),
            member: known.is_some_and(|k| k.member),
            from: asking.from,
        }
    }

    fn standing(&self, conn: &Connection) -> Result<Standing, DeskError> {
        standing(conn, self.proved.as_deref(), self.person)
    }
}

/// What is known of whoever has proved an address.
fn standing(
    conn: &Connection,
    proved: Option<&str>,
    person: Option<PersonId>,
) -> Result<Standing, DeskError> {
    let trusted = match person {
        Some(person) => submissions::trusted(conn, person)?.is_some_and(|t| t.yes),
        None => false,
    };
    let member = match proved {
        Some(address) => people::is_member(conn, address)?,
        None => false,
    };
    Ok(Standing { proved: proved.map(String::from), member, trusted })
}

/// The standing of whoever sent a submission.
fn standing_of(conn: &Connection, s: &Submission) -> Result<Standing, DeskError> {
    standing(conn, s.person.map(|_| s.email.as_str()), s.person)
}

/// The record of whoever sent a submission.
fn record_of(conn: &Connection, person: Option<PersonId>) -> Result<Record, DeskError> {
    Ok(match person {
        Some(person) => gather(submissions::ends_of(conn, person)?),
        None => Record::default(),
    })
}

/// A submission that is there.
fn found(conn: &Connection, id: SubmissionId) -> Result<Submission, DeskError> {
    submissions::by_id(conn, id)?.ok_or(DeskError::NotFound)
}

/// What was typed, made fit to keep: the description cleaned, its addresses live.
fn kept(form: &Form) -> Typed {
    let mut typed = Typed::of(form);
    // Words typed without the editor are plain text.
    let description = typed.get("description");
    let description = if description.contains('<') {
        rich::clean(description)
    } else {
        rich::from_text(description)
    };
    typed.set("description", &description);
    typed
}

/// A description as it is shown again with its form, cleaned away from the async threads.
///
/// # Errors
/// A worker failed.
pub async fn shown(description: &str) -> Result<String, DeskError> {
    let description = description.to_owned();
    crate::off_thread(move || Ok(rich::clean(&description))).await
}

/// Reads what was typed, for a house.
fn proposal(typed: &Typed, house: &House) -> Result<Proposal, Form> {
    let mut form = typed.form();
    read(&mut form, &house.zone, house.currency).ok_or(form)
}

/// The plain words of a description, without what is quoted in it.
fn plain(typed: &Typed) -> String {
    let mut text = String::new();
    let mut rest = typed.get("description");
    while let Some((before, after)) = rest.split_once("<blockquote>") {
        text.push_str(before);
        text.push(' ');
        rest = after.split_once("</blockquote>").map_or("", |(_, rest)| rest);
    }
    text.push_str(rest);
    matricle_store::events::without_marks(&text).trim().to_owned()
}

/// Each field that differs between two wordings: its label, before, after. Fields that stand
/// under one label are told once.
fn differences(before: &Typed, after: &Typed) -> Vec<Changed> {
    let mut told: Vec<Changed> = Vec::new();
    for field in before.differs(after) {
        let label = matricle_core::review::submission::label(field);
        let said = |typed: &Typed| {
            let words: Vec<&str> = typed.all(field).collect();
            match field {
                "description" => {
                    matricle_store::events::without_marks(typed.get(field)).trim().to_owned()
                }
                "bookable" => {
                    if words.is_empty() {
                        "no".into()
                    } else {
                        "yes".to_owned()
                    }
                }
                _ => words.join(", "),
            }
        };
        let new = (label.to_owned(), said(before), said(after));
        match told.iter_mut().find(|(l, ..)| l == label) {
            Some((_, b, a)) => {
                for (all, one) in [(b, new.1), (a, new.2)] {
                    if !one.is_empty() {
                        if !all.is_empty() {
                            all.push_str("; ");
                        }
                        all.push_str(&one);
                    }
                }
            }
            None => told.push(new),
        }
    }
    told
}

/// Adds to the timeline of a submission.
fn note(
    tx: &Tx<'_>,
    id: SubmissionId,
    act: Act,
    turn: &Turn,
    words: &str,
    difference: Vec<Changed>,
    before: Option<Typed>,
) -> Result<(), DeskError> {
    let new = Happened {
        id: 0,
        at: turn.now,
        act,
        person: turn.by.key,
        who: turn.by.name.clone(),
        words: words.to_owned(),
        difference,
        before,
        undone: false,
    };
    Ok(submissions::note(tx, id, &new)?)
}

/// The state that an act leads to, or who was faster.
fn led(conn: &Connection, s: &Submission, act: Act) -> Result<State, DeskError> {
    matricle_core::review::submission::leads(act, s.state)
        .map_or_else(|| Err(elsewhere(conn, s)?.into()), Ok)
}

/// Who brought a submission to where it stands.
fn elsewhere(conn: &Connection, s: &Submission) -> Result<Refusal, DeskError> {
    let last = submissions::happened(conn, s.id)?
        .into_iter()
        .rev()
        .find(|h| h.act != Act::Correct && !h.undone);
    Ok(match last {
        Some(h) => Refusal::Elsewhere { state: s.state, who: h.who, what: h.act.done(), at: h.at },
        None => Refusal::Elsewhere {
            state: s.state,
            who: "nobody".into(),
            what: Act::Send.done(),
            at: s.begun_at,
        },
    })
}

/// The dates by which others find a submission that waits.
fn dates_of(p: &Proposal) -> Vec<(jiff::civil::DateTime, Timestamp)> {
    p.spans.iter().map(|s| (s.starts, s.starts_at)).collect()
}

/// The name that a submitter goes by where names are shown.
#[must_use]
pub fn name_of(s: &Submission) -> &str {
    if s.name.trim().is_empty() { &s.email } else { &s.name }
}

impl Desk {
    /// An act of whoever sent a submission.
    fn turn_of_submitter(&self, name: &str) -> Turn {
        let by = matricle_core::people::acting::Acting {
            kind: matricle_core::people::acting::Actor::Booker,
            key: None,
            name: name.to_owned(),
        };
        self.turn(by)
    }
}

/// What every page about submissions needs.
#[derive(Debug, Clone)]
pub struct Given {
    /// The house.
    pub house: House,
    /// The house rules.
    pub rules: HouseRules,
}

fn given(conn: &Connection) -> Result<Given, DeskError> {
    Ok(Given { house: crate::house_of(conn)?, rules: submissions::rules(conn)? })
}
