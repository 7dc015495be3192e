//! What a submitter sees of theirs, and does with it.

use matricle_core::SubmissionId;
use matricle_core::forms::form::{Fault, Form, Wrong};
use matricle_core::review::submission::{Act, Refusal, State};
use matricle_store::events::{self, EventState, Picture};
use matricle_store::submissions::{self, Happened, Submission};
use matricle_store::{Connection, bookings};

use super::writing::{Opens, opens};
use super::{
    Given, Submitter, checking, dates_of, differences, found, given, kept, led, note, proposal,
    told,
};
use crate::{Desk, DeskError};
use matricle_core::messages::occasion::{Knows, Occasion};

/// A page of what somebody sent.
#[derive(Debug, Clone)]
pub struct List {
    /// The house and its rules.
    pub given: Given,
    /// The submissions, the latest first.
    pub rows: Vec<Submission>,
    /// How many there are in all.
    pub all: u32,
    /// They may submit another.
    pub may: Result<(), Refusal>,
}

/// What somebody who has signed in sent, or is writing.
pub async fn list(desk: &Desk, who: &Submitter, skip: u32, most: u32) -> Result<List, DeskError> {
    let who = who.clone();
    desk.store
        .read(move |conn| {
            let given = given(conn)?;
            let (rows, all) = match who.person {
                Some(person) => submissions::of_person(conn, person, skip, most.clamp(1, 100))?,
                None => (Vec::new(), 0),
            };
            let may = given.rules.may_submit(&who.standing(conn)?);
            Ok(List { given, rows, all, may })
        })
        .await
}

/// A submission, as its submitter sees it.
#[derive(Debug, Clone)]
pub struct Mine {
    /// The house and its rules.
    pub given: Given,
    /// The submission.
    pub submission: Submission,
    /// How it was opened.
    pub opens: Opens,
    /// What happened to it that is theirs to know: what a reviewer decided is, once it can not be
    /// taken back any more.
    pub happened: Vec<Happened>,
    /// Where it stands, as far as that is theirs to know.
    pub state: State,
    /// What is missing, as questions.
    pub missing: Vec<&'static str>,
    /// Its page in the Programme, by its address.
    pub slug: String,
    /// Its picture.
    pub picture: Option<Picture>,
    /// Whether it may be changed.
    pub may_change: Result<(), Refusal>,
    /// Whether it may be withdrawn.
    pub may_withdraw: Result<(), Refusal>,
}

fn mine(conn: &Connection, desk: &Desk, s: Submission, opens: Opens) -> Result<Mine, DeskError> {
    let given = given(conn)?;
    let now = desk.clock.now();
    // A decision that can still be taken back is not told before it stands.
    let open = s.undo_until.is_some_and(|until| until > now);
    let mut happened = submissions::happened(conn, s.id)?;
    happened.retain(|h| !h.undone && !matches!(h.act, Act::Correct | Act::Undo));
    // Nobody learns that theirs was taken for spam.
    let spam = happened.iter().any(|h| h.act == Act::Spam);
    happened.retain(|h| h.act != Act::Spam);
    let state = if open || spam { State::Received } else { s.state };
    if open {
        let last = happened.iter().rposition(|h| h.act.is_decision());
        if let Some(last) = last {
            happened.remove(last);
        }
    }
    let slug = match s.event.filter(|_| !open) {
        Some(event) => events::by_id(conn, event)?
            .filter(|e| e.state == EventState::Published && e.thrown_at.is_none())
            .map_or_else(String::new, |e| e.slug),
        None => String::new(),
    };
    let missing = s
        .findings
        .iter()
        .filter(|f| f.check.points() >= 2 && !f.check.asks().is_empty())
        .map(|f| f.check.asks())
        .filter(|_| matches!(state, State::Received | State::SentBack))
        .collect();
    let may = |act: Act| -> Result<(), Refusal> {
        if matricle_core::review::submission::leads(act, s.state).is_none() || spam {
            return Err(Refusal::ByRules(act));
        }
        given.rules.allows(act, s.state)
    };
    Ok(Mine {
        may_change: may(Act::Change),
        may_withdraw: may(Act::Withdraw),
        picture: submissions::picture(conn, s.id)?,
        happened,
        state,
        missing,
        slug,
        opens,
        submission: s,
        given,
    })
}

/// The address of a submission, for whoever has just proved that it is theirs.
///
/// # Errors
/// [`DeskError::NotFound`].
pub async fn address(desk: &Desk, id: SubmissionId) -> Result<String, DeskError> {
    let s = desk.store.read(move |conn| found(conn, id)).await?;
    Ok(format!("/submissions/{id}/{}", desk.secrets.submission_key(id, &s.email)))
}

/// A submission, for whoever has its link or has signed in as its submitter.
///
/// # Errors
/// [`DeskError::NotFound`] for anybody else.
pub async fn one(
    desk: &Desk,
    who: &Submitter,
    id: SubmissionId,
    key: &str,
) -> Result<Mine, DeskError> {
    let (who, key, desk_too) = (who.clone(), key.to_owned(), desk.clone());
    desk.store
        .read(move |conn| {
            let s = found(conn, id)?;
            let by = opens(&desk_too, &s, &key, &who).ok_or(DeskError::NotFound)?;
            mine(conn, &desk_too, s, by)
        })
        .await
}

/// Changes a submission, or answers what was asked: with a wording, with words, or with both.
/// What was accepted stays as it is in the Programme until the change is.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; [`DeskError::Submission`].
pub async fn change(
    desk: &Desk,
    who: &Submitter,
    id: SubmissionId,
    key: &str,
    form: Form,
) -> Result<(), DeskError> {
    let (who, key, desk_too) = (who.clone(), key.to_owned(), desk.clone());
    desk.store
        .write(move |tx| {
            let mut s = found(tx, id)?;
            opens(&desk_too, &s, &key, &who).ok_or(DeskError::NotFound)?;
            let now = desk_too.clock.now();
            let turn = desk_too.turn_of_submitter(super::name_of(&s));
            let Given { house, rules } = given(tx)?;
            // What was put aside as spam says nothing of it, and nothing happens to it any more.
            let to = led(tx, &s, Act::Change)?;
            rules.allows(Act::Change, s.state)?;
            let only_words = !form.has("title");
            let before = s.change.clone().unwrap_or_else(|| s.typed.clone());
            let typed = if only_words { before.clone() } else { kept(&form) };
            let p = proposal(&typed, &house).map_err(|f| DeskError::Form(f.wrong))?;
            let words = matricle_core::words::text::lines(form.get("note"));
            let changed = differences(&before, &typed);
            if changed.is_empty() && words.is_empty() {
                return Err(DeskError::Form(vec![Wrong {
                    field: "note".into(),
                    fault: Fault::Missing,
                }]));
            }
            if s.state == State::Accepted {
                if changed.is_empty() {
                    // Words alone change nothing in the Programme.
                    return Err(DeskError::Form(vec![Wrong {
                        field: "title".into(),
                        fault: Fault::Missing,
                    }]));
                }
                submissions::set_change(tx, id, Some(&typed))?;
            } else {
                submissions::set_typed(tx, id, &typed)?;
                submissions::set_dates(tx, id, &dates_of(&p))?;
            }
            let waited = s.waits_since.is_some();
            s = found(tx, id)?;
            (s.state, s.undo_until) = (to, None);
            s.waits_since = s.waits_since.or(Some(now));
            submissions::set(tx, &s)?;
            note(tx, id, Act::Change, &turn, &words, changed, Some(before))?;
            checking::check_in(tx, id, now)?;
            let s = found(tx, id)?;
            if !waited {
                let knows = Knows { whole: s.state == State::Accepted, ..Knows::default() };
                told::tell(tx, &s, Occasion::Submitted, &knows, now, &turn)?;
                told::tell_reviewers(tx, &s, &turn)?;
            }
            Ok::<_, DeskError>(())
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Withdraws a submission; an event that it became leaves the Programme, unless people have
/// booked it.
///
/// # Errors
/// [`DeskError::Submission`].
pub async fn withdraw(
    desk: &Desk,
    who: &Submitter,
    id: SubmissionId,
    key: &str,
) -> Result<(), DeskError> {
    let (who, key, desk_too) = (who.clone(), key.to_owned(), desk.clone());
    desk.store
        .write(move |tx| {
            let mut s = found(tx, id)?;
            opens(&desk_too, &s, &key, &who).ok_or(DeskError::NotFound)?;
            let turn = desk_too.turn_of_submitter(super::name_of(&s));
            let to = led(tx, &s, Act::Withdraw)?;
            submissions::rules(tx)?.allows(Act::Withdraw, s.state)?;
            if let Some(event) = s.event {
                let bookings = bookings::count_live(tx, event)?;
                if bookings > 0 {
                    return Err(Refusal::Booked { bookings }.into());
                }
                if events::by_id(tx, event)?.is_some_and(|e| e.state == EventState::Published) {
                    events::set_state(tx, event, EventState::Draft)?;
                    events::changed(tx, event, turn.now)?;
                    let what = "took the event out of the Programme: its submitter withdrew it";
                    crate::planning::dates::log(tx, event, &turn.program(), what)?;
                }
            }
            (s.state, s.waits_since, s.undo_until) = (to, None, None);
            s.decided_at = Some(turn.now);
            submissions::set(tx, &s)?;
            submissions::set_dates(tx, id, &[])?;
            submissions::withdraw_messages(tx, id, "it was withdrawn")?;
            note(tx, id, Act::Withdraw, &turn, "", Vec::new(), None)
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// Begins another with the words of one, for another date.
///
/// # Errors
/// [`DeskError::NotFound`]; [`Refusal::NotYou`].
pub async fn copy(
    desk: &Desk,
    who: &Submitter,
    id: SubmissionId,
    key: &str,
) -> Result<(SubmissionId, String), DeskError> {
    let now = desk.clock.now();
    if who.from.1 != 0 {
        desk.often.ask(crate::people::often::Asks::SubmissionFrom, &who.from.1.to_string(), now)?;
    }
    let (who, key, desk_too) = (who.clone(), key.to_owned(), desk.clone());
    let (new, email) = desk
        .store
        .write(move |tx| {
            let s = found(tx, id)?;
            opens(&desk_too, &s, &key, &who).ok_or(DeskError::NotFound)?;
            let standing = super::standing_of(tx, &s)?;
            submissions::rules(tx)?.may_submit(&standing)?;
            let mut typed = s.typed.clone();
            for field in
                ["day", "days", "last", "note", "how", "repeat", "count", "interval", "day_of_week"]
            {
                typed.set(field, "");
            }
            let new = submissions::begin(tx, &typed, s.person, who.from, now)?;
            submissions::set_sender(tx, new, s.person, (&s.email, &s.name))?;
            Ok::<_, DeskError>((new, s.email))
        })
        .await?;
    Ok((new, desk.secrets.submission_key(new, &email)))
}
