//! Deciding on what waits: accept, send back, turn down, spam, join; correct before that; take
//! back what was decided.

use matricle_core::forms::form::{Fault, Form, Wrong};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::people::acting::Acting;
use matricle_core::people::staff::Right;
use matricle_core::review::checks::Other;
use matricle_core::review::rules::is_own;
use matricle_core::review::submission::{Act, Proposal, Refusal, State, Typed, UNDO};
use matricle_core::{EventId, SubmissionId};
use matricle_store::events::{self, EventState};
use matricle_store::people::Staff;
use matricle_store::submissions::{self, Changed, Happened, Submission};
use matricle_store::{Connection, Tx, bookings, people};

use super::{
    Given, changes, checking, dates_of, differences, elsewhere, found, given, kept, led, note,
    proposal, told,
};
use crate::acting::Turn;
use crate::{Desk, DeskError};

/// Most words of a reviewer.
const LONGEST: usize = matricle_core::booking::details::LONGEST_TEXT;

/// Under these names the history of a submission keeps what it was joined with: an event, or
/// another that waits.
const JOINED: &str = "joined";
const JOINED_WAITING: &str = "joined waiting";
/// What one that waits takes from another that is joined with it, where it has none itself.
const FILLED: [&str; 7] =
    ["until", "place", "address", "contact", "description", "hosts", "price_words"];

/// What a reviewer decides.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Decision {
    /// On which.
    pub id: SubmissionId,
    /// The wording that they looked at.
    pub version: u32,
    /// What.
    pub act: Act,
    /// With these words.
    pub words: String,
    /// With what it is joined.
    pub with: Option<Other>,
}

/// What was done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Done {
    /// With which.
    pub id: SubmissionId,
    /// Its title.
    pub title: String,
    /// What.
    pub act: Act,
    /// Its address in the Programme; empty where it has none.
    pub slug: String,
}

/// Whether whoever decides submitted it themselves.
fn is_theirs(conn: &Connection, s: &Submission, turn: &Turn) -> Result<bool, DeskError> {
    let Some(key) = turn.by.key else { return Ok(false) };
    let staff = people::staff_of(conn)?.into_iter().find(|p| p.id == key);
    let staff = staff.map_or_else(String::new, |p| p.email);
    Ok(is_own((s.person, &s.email), (Some(key), &staff)))
}

/// The version that a reviewer looked at, or what is in the way.
fn seen(conn: &Connection, s: &Submission, version: u32) -> Result<(), DeskError> {
    if s.waits_since.is_none() {
        return Err(elsewhere(conn, s)?.into());
    }
    if s.version != version { Err(Refusal::Changed.into()) } else { Ok(()) }
}

/// What was corrected since it was sent last, each field from its first wording to its last.
pub(crate) fn corrected(happened: &[Happened]) -> Vec<Changed> {
    let mut told: Vec<Changed> = Vec::new();
    let begun = happened.iter().rposition(|h| h.act.is_submitters()).map_or(0, |at| at + 1);
    for h in happened[begun..].iter().filter(|h| h.act == Act::Correct && !h.undone) {
        for (label, before, after) in &h.difference {
            match told.iter_mut().find(|(l, ..)| l == label) {
                Some((.., last)) => last.clone_from(after),
                None => told.push((label.clone(), before.clone(), after.clone())),
            }
        }
    }
    told.retain(|(_, before, after)| before != after);
    told
}

/// Decides.
///
/// # Errors
/// [`Refusal::Elsewhere`] when somebody was faster, [`Refusal::Changed`] when its words are
/// others by now; [`DeskError::Form`] when a reason is missing, or the event cannot be made; the
/// role may not.
pub async fn decide(desk: &Desk, staff: &Staff, decision: Decision) -> Result<Done, DeskError> {
    let turn = desk.turn_of(staff, Right::Review)?;
    let done = desk.store.write(move |tx| decide_in(tx, &decision, &turn)).await?;
    desk.wake.all();
    Ok(done)
}

/// [`decide`], inside a transaction.
pub fn decide_in(tx: &Tx<'_>, d: &Decision, turn: &Turn) -> Result<Done, DeskError> {
    let mut s = found(tx, d.id)?;
    seen(tx, &s, d.version)?;
    if !d.act.is_decision() {
        return Err(DeskError::NotFound);
    }
    let own_turn;
    let mut turn = turn;
    if matches!(d.act, Act::Accept | Act::Join) && is_theirs(tx, &s, turn)? {
        if !submissions::rules(tx)?.own {
            return Err(Refusal::Own.into());
        }
        let by = Acting { name: format!("{} (their own)", turn.by.name), ..turn.by.clone() };
        own_turn = Turn { by, ..turn.clone() };
        turn = &own_turn;
    }
    let words = matricle_core::words::text::lines(&d.words);
    let words: String = words.chars().take(LONGEST).collect();
    if words.is_empty() && matches!(d.act, Act::SendBack | Act::TurnDown) {
        return Err(DeskError::Form(vec![Wrong { field: "words".into(), fault: Fault::Missing }]));
    }
    let of_change = s.state == State::Accepted;
    let title = s.title.clone();
    let until = turn.now + UNDO;
    let mut knows = Knows { word: words.clone(), whole: of_change, ..Knows::default() };
    knows.corrected = corrected(&submissions::happened(tx, d.id)?);
    let mut before = None;
    let mut filled = Vec::new();
    if of_change {
        let Some(change) = s.change.clone() else { return Err(Refusal::NoChange.into()) };
        match d.act {
            Act::Accept => {
                before = Some(s.typed.clone());
                take_over(tx, &mut s, change, turn)?;
            }
            // It stays with its submitter, to be gone on with.
            Act::SendBack => {}
            Act::TurnDown => {
                before = Some(change);
                submissions::set_change(tx, s.id, None)?;
            }
            _ => return Err(DeskError::NotFound),
        }
    } else {
        s.state = led(tx, &s, d.act)?;
        match d.act {
            Act::Accept => {
                let Given { house, rules } = given(tx)?;
                let p = proposal(&s.typed, &house).map_err(|f| DeskError::Form(f.wrong))?;
                placed(&p)?;
                let event = changes::make_event(tx, &s, &p, EventState::Published, &rules, turn)?;
                s.event = Some(event);
            }
            Act::Join => {
                let (kept, name) = joined(tx, &s, d.with, &mut filled, turn)?;
                knows.holder = name;
                let (of, id) = match kept {
                    Other::Event(id) => (JOINED, id),
                    Other::Submission(id) => (JOINED_WAITING, id),
                };
                knows.event = (of == JOINED).then_some(id);
                before = Some(Typed(vec![(of.into(), id.to_string())]));
            }
            _ => {}
        }
        submissions::set_dates(tx, s.id, &[])?;
    }
    (s.waits_since, s.decided_at, s.undo_until) = (None, Some(turn.now), Some(until));
    submissions::set(tx, &s)?;
    note(tx, s.id, d.act, turn, &words, filled, before)?;
    let occasion = match d.act {
        Act::Accept => Some(Occasion::Accepted),
        Act::SendBack => Some(Occasion::SentBack),
        Act::TurnDown | Act::Join => Some(Occasion::TurnedDown),
        _ => None,
    };
    submissions::withdraw_messages(tx, s.id, "it is decided")?;
    if let Some(occasion) = occasion {
        told::tell(tx, &s, occasion, &knows, until, turn)?;
    }
    let slug = match s.event {
        Some(event) => events::by_id(tx, event)?.map_or_else(String::new, |e| e.slug),
        None => String::new(),
    };
    let what = format!("{} “{title}”", said(d.act, of_change));
    turn.log(tx, &what, &page_of(&s))?;
    Ok(Done { id: s.id, title, act: d.act, slug })
}

/// The page that the house's log of changes leads to: not all who read that review.
fn page_of(s: &Submission) -> String {
    s.event.map_or_else(|| "/office/house/submissions".into(), |e| format!("/office/events/{e}"))
}

/// Nothing is in the Programme that is nowhere.
fn placed(p: &Proposal) -> Result<(), DeskError> {
    if !p.place.is_empty() {
        return Ok(());
    }
    Err(DeskError::Form(vec![Wrong { field: "place".into(), fault: Fault::Missing }]))
}

/// What a decision is called in the house's log of changes.
const fn said(act: Act, of_change: bool) -> &'static str {
    match (act, of_change) {
        (Act::Accept, false) => "accepted the submission",
        (Act::Accept, true) => "accepted a change to",
        (Act::SendBack, _) => "sent back",
        (Act::Spam, _) => "put aside as spam",
        (Act::Join, _) => "joined with another",
        (Act::Undo, _) => "took back the decision on",
        _ => "turned down",
    }
}

/// A change to what was accepted reaches the event.
fn take_over(tx: &Tx<'_>, s: &mut Submission, change: Typed, turn: &Turn) -> Result<(), DeskError> {
    let event = s.event.ok_or(DeskError::NotFound)?;
    let p = proposal(&change, &given(tx)?.house).map_err(|f| DeskError::Form(f.wrong))?;
    placed(&p)?;
    submissions::set_typed(tx, s.id, &change)?;
    submissions::set_change(tx, s.id, None)?;
    (s.typed, s.change) = (change, None);
    changes::apply(tx, event, s, &p, turn)
}

/// What a submission is joined with: an event gets what it lacks and the other has, and a
/// submission that waits takes it as corrections.
fn joined(
    tx: &Tx<'_>,
    s: &Submission,
    with: Option<Other>,
    filled: &mut Vec<Changed>,
    turn: &Turn,
) -> Result<(Other, String), DeskError> {
    // What was nearly the same a moment ago may have become an event since.
    let (found_now, light) = checking::check(tx, s, &s.typed, turn.now)?;
    submissions::set_checks(tx, s.id, &found_now, light, submissions::plans(tx)?)?;
    let near = found_now.iter().filter_map(|f| {
        (f.check == matricle_core::review::checks::Check::Copy).then_some(f.other).flatten()
    });
    let near: Vec<Other> = near.collect();
    let with = match with {
        Some(Other::Submission(id)) => match found(tx, SubmissionId(id))?.event {
            Some(event) => Some(Other::Event(event.0)),
            None => with,
        },
        with => with.or_else(|| near.first().copied()),
    };
    let with = with.filter(|w| near.contains(w));
    match with.ok_or(Refusal::NothingToJoin)? {
        Other::Event(id) => {
            let mut event = events::by_id(tx, EventId(id))?.ok_or(Refusal::NothingToJoin)?;
            let mut fill = |field: &mut String, label: &str, with: &str| {
                if field.is_empty() && !with.is_empty() {
                    with.clone_into(field);
                    filled.push((label.to_owned(), String::new(), with.to_owned()));
                }
            };
            fill(&mut event.contact, "Whom to ask", s.typed.get("contact"));
            fill(&mut event.description, "What it is about", s.typed.get("description"));
            if event.drop_in {
                fill(&mut event.price_words, "Price", s.typed.get("price_words"));
            }
            if !filled.is_empty() {
                events::set(tx, &event, turn.now)?;
            }
            Ok((Other::Event(event.id.0), event.title))
        }
        Other::Submission(id) => {
            let other = found(tx, SubmissionId(id))?;
            if other.state != State::Received {
                return Err(Refusal::NothingToJoin.into());
            }
            let mut typed = other.typed.clone();
            for field in FILLED {
                if typed.get(field).is_empty() {
                    typed.set(field, s.typed.get(field));
                }
            }
            let changed = differences(&other.typed, &typed);
            if !changed.is_empty() {
                submissions::set_typed(tx, other.id, &typed)?;
                note(tx, other.id, Act::Correct, turn, "", changed, Some(other.typed))?;
                checking::check_in(tx, other.id, turn.now)?;
            }
            Ok((Other::Submission(other.id.0), other.title))
        }
    }
}

/// Accepts several at once: each by itself, so that one that is in the way leaves the others.
///
/// # Errors
/// The role may not. What was not accepted is told with its title and why.
pub async fn accept_many(
    desk: &Desk,
    staff: &Staff,
    these: Vec<(SubmissionId, u32)>,
) -> Result<(Vec<Done>, Vec<(SubmissionId, DeskError)>), DeskError> {
    desk.turn_of(staff, Right::Review)?;
    let (mut done, mut not) = (Vec::new(), Vec::new());
    for (id, version) in these.into_iter().take(200) {
        let act = Act::Accept;
        let decision = Decision { id, version, act, words: String::new(), with: None };
        match decide(desk, staff, decision).await {
            Ok(one) => done.push(one),
            Err(error @ DeskError::Store(_)) => return Err(error),
            Err(error) => not.push((id, error)),
        }
    }
    Ok((done, not))
}

/// Takes the last decision on a submission back, while nobody was told of it.
///
/// # Errors
/// [`Refusal::TooLate`], [`Refusal::NothingToUndo`], [`Refusal::Booked`]; the role may not.
pub async fn undo(desk: &Desk, staff: &Staff, id: SubmissionId) -> Result<Done, DeskError> {
    let turn = desk.turn_of(staff, Right::Review)?;
    let done = desk.store.write(move |tx| undo_in(tx, id, &turn)).await?;
    desk.wake.all();
    Ok(done)
}

fn undo_in(tx: &Tx<'_>, id: SubmissionId, turn: &Turn) -> Result<Done, DeskError> {
    let mut s = found(tx, id)?;
    let happened = submissions::happened(tx, id)?;
    let last = happened.iter().rev().find(|h| !h.undone && h.act != Act::Correct);
    let last = last.filter(|h| h.act.is_decision() && h.person.is_some());
    let Some(last) = last else { return Err(Refusal::NothingToUndo.into()) };
    if s.undo_until.is_none_or(|until| until <= turn.now) {
        return Err(Refusal::TooLate.into());
    }
    let sent = happened.iter().rev().find(|h| h.act.is_submitters());
    let since = sent.map_or(s.begun_at, |h| h.at);
    let of_change = s.state == State::Accepted
        && happened.iter().any(|h| h.act == Act::Accept && !h.undone && h.id < last.id);
    if of_change {
        match (last.act, &last.before) {
            (Act::Accept, Some(before)) => {
                let change = s.typed.clone();
                take_over(tx, &mut s, before.clone(), turn)?;
                submissions::set_change(tx, id, Some(&change))?;
            }
            (Act::TurnDown, Some(change)) => submissions::set_change(tx, id, Some(change))?,
            _ => {}
        }
    } else {
        s.state = led(tx, &s, Act::Undo)?;
        if let Some(event) = s.event.take() {
            let bookings = bookings::count_live(tx, event)?;
            if bookings > 0 {
                return Err(Refusal::Booked { bookings }.into());
            }
            events::unmake(tx, event, turn.now)?;
        }
        unfill(tx, &s, last, turn)?;
        let p = proposal(&s.typed, &given(tx)?.house).map_err(|f| DeskError::Form(f.wrong))?;
        submissions::set_dates(tx, id, &dates_of(&p))?;
    }
    (s.waits_since, s.decided_at, s.undo_until) = (Some(since), None, None);
    submissions::set(tx, &s)?;
    submissions::withdraw_messages(tx, id, "the decision was taken back")?;
    submissions::undo(tx, last.id)?;
    note(tx, id, Act::Undo, turn, "", Vec::new(), None)?;
    checking::check_in(tx, id, turn.now)?;
    turn.log(tx, &format!("{} “{}”", said(Act::Undo, of_change), s.title), &page_of(&s))?;
    Ok(Done { id, title: s.title, act: last.act, slug: String::new() })
}

/// What an event, or another that waits, was given when something was joined with it goes again,
/// unless it is another by now.
fn unfill(tx: &Tx<'_>, s: &Submission, last: &Happened, turn: &Turn) -> Result<(), DeskError> {
    if last.act != Act::Join {
        return Ok(());
    }
    let key = |name: &str| last.before.as_ref().and_then(|b| b.get(name).parse().ok());
    if let Some(other) = key(JOINED_WAITING).map(SubmissionId) {
        return unfill_waiting(tx, s, other, last, turn);
    }
    let id = key(JOINED);
    if last.difference.is_empty() {
        return Ok(());
    }
    let Some(mut event) = id.map(|id| events::by_id(tx, EventId(id))).transpose()?.flatten() else {
        return Ok(());
    };
    for (label, _, with) in &last.difference {
        let field = match label.as_str() {
            "Whom to ask" => &mut event.contact,
            "What it is about" => &mut event.description,
            _ => &mut event.price_words,
        };
        if field == with {
            field.clear();
        }
    }
    events::set(tx, &event, turn.now)?;
    Ok(())
}

/// The same of another that waits still: the correction that it took is none any more.
fn unfill_waiting(
    tx: &Tx<'_>,
    s: &Submission,
    other: SubmissionId,
    last: &Happened,
    turn: &Turn,
) -> Result<(), DeskError> {
    let other = found(tx, other)?;
    let filled = |h: &&Happened| h.act == Act::Correct && h.at == last.at && !h.undone;
    let happened = submissions::happened(tx, other.id)?;
    let Some((filled, before)) =
        happened.iter().rev().find(filled).and_then(|h| Some((h, h.before.as_ref()?)))
    else {
        return Ok(());
    };
    if other.state != State::Received {
        return Ok(());
    }
    let mut typed = other.typed.clone();
    for field in FILLED {
        if before.get(field).is_empty() && typed.get(field) == s.typed.get(field) {
            typed.set(field, "");
        }
    }
    submissions::set_typed(tx, other.id, &typed)?;
    submissions::undo(tx, filled.id)?;
    checking::check_in(tx, other.id, turn.now)?;
    Ok(())
}

/// Puts something right in what waits, in place: the fields of the form that were sent, and no
/// others. What was changed is kept, and told with the decision.
///
/// # Errors
/// As [`decide`].
pub async fn correct(
    desk: &Desk,
    staff: &Staff,
    (id, version): (SubmissionId, u32),
    form: Form,
) -> Result<Vec<Changed>, DeskError> {
    let turn = desk.turn_of(staff, Right::Review)?;
    desk.store
        .write(move |tx| {
            let s = found(tx, id)?;
            seen(tx, &s, version)?;
            let old = s.change.clone().filter(|_| s.state == State::Accepted);
            let of_change = old.is_some();
            let old = old.unwrap_or_else(|| s.typed.clone());
            let mut typed = old.clone();
            let sent = kept(&form);
            for field in matricle_core::review::submission::FIELDS {
                // A box that is not ticked is not sent: its group says that it stood there.
                let group = matches!(*field, "tag" | "bookable") && form.has("with_boxes");
                if form.has(field) || group {
                    typed.0.retain(|(n, _)| n != field);
                    let values = sent.all(field).map(|v| ((*field).to_owned(), v.to_owned()));
                    let values: Vec<_> = values.collect();
                    typed.0.extend(values);
                }
            }
            let typed = kept(&typed.form());
            proposal(&typed, &given(tx)?.house).map_err(|f| DeskError::Form(f.wrong))?;
            let changed = differences(&old, &typed);
            if changed.is_empty() {
                return Ok(changed);
            }
            if of_change {
                submissions::set_change(tx, id, Some(&typed))?;
            } else {
                submissions::set_typed(tx, id, &typed)?;
                let p =
                    proposal(&typed, &given(tx)?.house).map_err(|f| DeskError::Form(f.wrong))?;
                submissions::set_dates(tx, id, &dates_of(&p))?;
            }
            note(tx, id, Act::Correct, &turn, "", changed.clone(), Some(old))?;
            checking::check_in(tx, id, turn.now)?;
            Ok(changed)
        })
        .await
}
