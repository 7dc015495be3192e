//! Writing a submission and handing it in.

use jiff::{SignedDuration, Timestamp};
use matricle_core::forms::form::{Fault, Form};
use matricle_core::review::checks::{Light, Other};
use matricle_core::review::rules::{HouseRules, Lands};
use matricle_core::review::submission::{Act, EMAIL, NAME, Refusal, State, Typed};
use matricle_core::words::fold;
use matricle_core::{EventId, SubmissionId};
use matricle_formats::{picture, words};
use matricle_store::events::{self, EventState, Picture};
use matricle_store::places;
use matricle_store::submissions::{self, Submission};
use matricle_store::{Connection, Tx, people};

use super::{
    Given, Submitter, changes, checking, found, given, kept, note, plain, proposal, standing_of,
    told,
};
use crate::acting::Turn;
use crate::bench::{self, Takes};
use crate::people::often::Asks;
use crate::people::signin::mail_now;
use crate::planning::board::offered;
use crate::{Desk, DeskError};
use matricle_core::messages::occasion::{Knows, Occasion};

/// Faster than this nobody fills a form in.
const LEAST: SignedDuration = SignedDuration::from_secs(3);
/// A page older than this is typed on no more.
const OLD: SignedDuration = SignedDuration::from_hours(24 * 14);
/// So many bits of the digest of a browser's small computation are zero: some thousand tries,
/// which cost a telephone a fraction of a second.
pub const WORK_BITS: u32 = 13;
/// Longest name of a submitter.
const MOST_NAME: usize = 120;

/// How somebody opens a submission.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Opens {
    /// By the key of the browser that began it: it can be written, and proves nothing.
    Writing,
    /// By the link that was mailed to its address.
    Mailed,
    /// By signing in as whoever sent it.
    SignedIn,
}

/// How somebody opens a submission, if they do.
pub(crate) fn opens(desk: &Desk, s: &Submission, key: &str, who: &Submitter) -> Option<Opens> {
    if who.person.is_some() && who.person == s.person {
        Some(Opens::SignedIn)
    } else if !s.email.is_empty() && desk.secrets.opens_submission(s.id, &s.email, key) {
        Some(Opens::Mailed)
    } else if s.state == State::Unsent && desk.secrets.opens_writing(s.id, key) {
        Some(Opens::Writing)
    } else {
        None
    }
}

/// What the form shows beside the fields.
#[derive(Debug, Clone)]
pub struct Page {
    /// The house and its rules.
    pub given: Given,
    /// What was typed so far.
    pub typed: Typed,
    /// Places that are suggested.
    pub places: Vec<String>,
    /// Those who lead events that are suggested.
    pub hosts: Vec<String>,
    /// All tags, by name.
    pub tags: Vec<String>,
    /// What is said at once about what was typed.
    pub hints: Hints,
    /// The picture: its key and what it shows.
    pub picture: Option<Picture>,
    /// A link was mailed that hands it in.
    pub email: String,
}

/// What is said at once about what was typed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Hints {
    /// What it would clash with, in words.
    pub clashes: Vec<String>,
    /// What in the Programme is nearly the same: title and address.
    pub near: Vec<(String, String)>,
    /// Something like it waits already.
    pub waits: bool,
    /// Tags that the words speak of.
    pub tags: Vec<String>,
    /// Addresses and numbers that became live.
    pub live: Vec<String>,
    /// The known place that is perhaps meant.
    pub place: String,
    /// Enough is typed to look for the rest.
    pub read: bool,
}

fn is_public(conn: &Connection, event: i64) -> Result<Option<(String, String)>, DeskError> {
    let event = events::by_id(conn, EventId(event))?;
    let public =
        |e: &events::Event| e.state == EventState::Published && e.listed && e.thrown_at.is_none();
    Ok(event.filter(public).map(|e| (e.title, e.slug)))
}

/// What is said at once. Of what is not announced, or waits for review, no word is given away.
fn hints(
    conn: &Connection,
    id: SubmissionId,
    typed: &Typed,
    given: &Given,
    now: Timestamp,
) -> Result<Hints, DeskError> {
    let mut hints = Hints::default();
    let text = plain(typed);
    let said = format!(" {} ", fold(&format!("{} {text}", typed.get("title"))));
    for tag in places::tags(conn)?.into_iter().filter(|t| t.retired_at.is_none()) {
        // `Talk` is spoken of by *talks*.
        let name = fold(&tag.name);
        let chosen = typed.all("tag").any(|t| fold(t) == name);
        let stem = name.trim_end_matches('s');
        if !chosen && stem.chars().count() >= 3 && said.contains(&format!(" {stem}")) {
            hints.tags.push(tag.name);
        }
    }
    hints.live = matricle_core::words::links::find(&text)
        .into_iter()
        .filter_map(|l| text.get(l.from..l.until).map(String::from))
        .take(8)
        .collect();
    let offered = offered(conn)?;
    if given.rules.suggest_places {
        let known = checking::places(&offered);
        let near = matricle_core::review::checks::near_venue(typed.get("place"), &known);
        hints.place = near.filter(|_| !typed.get("place").is_empty()).cloned().unwrap_or_default();
    }
    let Ok(p) = proposal(typed, &given.house) else { return Ok(hints) };
    hints.read = true;
    for near in checking::near(conn, &p, &text, (id, None))? {
        match near.other {
            Other::Event(event) => hints.near.extend(is_public(conn, event)?),
            Other::Submission(_) => hints.waits = true,
        }
    }
    let today = words::local(now, &given.house.zone).date();
    for (what, event) in checking::clashes(conn, &p, None, &offered, today)? {
        hints.clashes.push(match is_public(conn, event)? {
            Some(_) => what,
            None => {
                let thing = what.split(':').next().unwrap_or_default();
                format!("{thing}: something that is not announced yet")
            }
        });
    }
    Ok(hints)
}

/// Everything the form shows: an empty one, or one that was begun.
///
/// # Errors
/// [`DeskError::NotFound`] for a key that opens nothing; [`Refusal::NotYou`].
pub async fn page(
    desk: &Desk,
    who: &Submitter,
    begun: Option<(SubmissionId, String)>,
) -> Result<(Page, Option<Opens>), DeskError> {
    let (who, desk_too, now) = (who.clone(), desk.clone(), desk.clock.now());
    desk.store
        .read(move |conn| {
            let given = given(conn)?;
            let (s, open) = match begun {
                Some((id, key)) => {
                    let s = found(conn, id)?;
                    let open = opens(&desk_too, &s, &key, &who).ok_or(DeskError::NotFound)?;
                    (Some(s), Some(open))
                }
                None => (None, None),
            };
            if open.is_none() {
                given.rules.may_submit(&who.standing(conn)?)?;
            }
            let mut typed = s.as_ref().map_or_else(Typed::default, |s| s.typed.clone());
            if s.is_none() {
                typed.set("name", &who.name);
            }
            let offered = offered(conn)?;
            let id = s.as_ref().map_or(SubmissionId(0), |s| s.id);
            let hints = hints(conn, id, &typed, &given, now)?;
            let picture = match &s {
                Some(s) => submissions::picture(conn, s.id)?,
                None => None,
            };
            let page = Page {
                places: if given.rules.suggest_places {
                    checking::places(&offered)
                } else {
                    Vec::new()
                },
                hosts: if given.rules.suggest_hosts {
                    places::hosts(conn)?
                        .into_iter()
                        .filter(|h| h.retired_at.is_none())
                        .map(|h| h.name)
                        .collect()
                } else {
                    Vec::new()
                },
                tags: places::tags(conn)?
                    .into_iter()
                    .filter(|t| t.retired_at.is_none())
                    .map(|t| t.name)
                    .collect(),
                hints,
                picture,
                typed,
                given,
                email: s.map_or_else(String::new, |s| s.email),
            };
            Ok((page, open))
        })
        .await
}

/// Which fields a page says it changed since they were last kept; nothing where it does not say.
fn changed(form: &Form) -> Option<Vec<String>> {
    form.has("changed").then(|| form.get("changed").split(' ').map(str::to_owned).collect())
}

/// Keeps what was typed, as it is: a new submission is begun, or one that was begun goes on.
///
/// # Errors
/// [`DeskError::NotFound`] for a key that opens nothing; [`Refusal::NotYou`];
/// [`DeskError::TooOften`] when many are begun.
pub async fn keep(
    desk: &Desk,
    who: &Submitter,
    begun: Option<(SubmissionId, String)>,
    form: &Form,
) -> Result<(SubmissionId, Hints), DeskError> {
    let (typed, now) = (kept(form), desk.clock.now());
    let changed = changed(form);
    if who.from.1 != 0 {
        desk.often.ask(Asks::Keeping, &who.from.1.to_string(), now)?;
    }
    if begun.is_none() {
        if who.from.0 != 0 {
            desk.often.ask(Asks::Submission, &who.from.0.to_string(), now)?;
        }
        if who.from.1 != 0 {
            desk.often.ask(Asks::SubmissionFrom, &who.from.1.to_string(), now)?;
        }
    }
    let (who, desk_too) = (who.clone(), desk.clone());
    desk.store
        .write(move |tx| {
            let given = given(tx)?;
            let id = match begun {
                None => {
                    given.rules.may_submit(&who.standing(tx)?)?;
                    submissions::begin(tx, &typed, who.person, who.from, now)?
                }
                Some((id, key)) => {
                    let s = found(tx, id)?;
                    opens(&desk_too, &s, &key, &who).ok_or(DeskError::NotFound)?;
                    if s.state != State::Unsent {
                        return Err(super::elsewhere(tx, &s)?.into());
                    }
                    let typed = typed.over(&s.typed, changed.as_deref());
                    if s.typed != typed {
                        submissions::set_typed(tx, id, &typed)?;
                    }
                    return Ok((id, hints(tx, id, &typed, &given, now)?));
                }
            };
            Ok((id, hints(tx, id, &typed, &given, now)?))
        })
        .await
}

/// Whether whoever asks opens a submission, and it may have a picture now.
fn takes_picture(
    conn: &Connection,
    desk: &Desk,
    (id, key): (SubmissionId, &str),
    who: &Submitter,
) -> Result<(), DeskError> {
    let s = found(conn, id)?;
    opens(desk, &s, key, who).ok_or(DeskError::NotFound)?;
    let in_hand = matches!(s.state, State::Unsent | State::Received | State::SentBack);
    if submissions::rules(conn)?.pictures && in_hand {
        Ok(())
    } else {
        Err(Refusal::ByRules(Act::Change).into())
    }
}

/// Asked before a picture is even taken in: whether this key opens a submission that may have one.
///
/// # Errors
/// [`DeskError::NotFound`] for a key that opens nothing; the rules have no pictures.
pub async fn may_have_picture(
    desk: &Desk,
    who: &Submitter,
    id: SubmissionId,
    key: &str,
) -> Result<(), DeskError> {
    let (desk_too, who, key) = (desk.clone(), who.clone(), key.to_owned());
    desk.store.read(move |conn| takes_picture(conn, &desk_too, (id, &key), &who)).await
}

/// The picture of a submission that is being written, or of one that waits; with no bytes it is
/// taken away.
///
/// # Errors
/// [`DeskError::Form`] when it is no picture, or nothing says what it shows;
/// [`DeskError::NotFound`] for a key that opens nothing.
pub async fn set_picture(
    desk: &Desk,
    who: &Submitter,
    (id, key): (SubmissionId, String),
    alt: String,
    bytes: Vec<u8>,
) -> Result<(), DeskError> {
    // Who asks, and whether there may be one, before anything looks at what was sent.
    may_have_picture(desk, who, id, &key).await?;
    let mut form = Form::new(vec![("alt".into(), alt)]);
    let drops = bytes.is_empty();
    let mut new = None;
    if !drops {
        let alt = form.needed("alt");
        let read = bench::unless_busy(Takes::All, move || Ok(picture::keep(&bytes))).await?;
        match read {
            Ok(read) => {
                let key = i64::from_le_bytes((crate::random_u64() >> 12).to_le_bytes());
                let shown = Picture { id: key, alt, width: read.width, height: read.height };
                new = Some((shown, read.large, read.small));
            }
            Err(error) => form.fault("picture", error.into()),
        }
    }
    form.done().map_err(DeskError::Form)?;
    let (who, desk_too) = (who.clone(), desk.clone());
    desk.store
        .write(move |tx| {
            takes_picture(tx, &desk_too, (id, &key), &who)?;
            let picture =
                new.as_ref().map(|(p, large, small)| (p, large.as_slice(), small.as_slice()));
            Ok(submissions::set_picture(tx, id, picture)?)
        })
        .await
}

/// The bytes of the picture of a submission, for whoever has the secret part of its address.
///
/// # Errors
/// [`DeskError::NotFound`].
pub async fn picture(desk: &Desk, id: i64, small: bool) -> Result<Vec<u8>, DeskError> {
    let found = desk.store.read(move |conn| submissions::picture_bytes(conn, id, small)).await?;
    found.ok_or(DeskError::NotFound)
}

/// What came of handing in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Handed {
    /// A link went to the address; whoever opens it hands it in.
    Mailed(String),
    /// It waits for a reviewer.
    Waits,
    /// It became a draft at the Office.
    Draft,
    /// It is in the Programme, at this address.
    Published(String),
}

/// Whether a browser did its small computation: the digest (SHA-256, FIPS 180-4) of the stamp, a
/// blank and the number begins with [`WORK_BITS`] zero bits.
#[must_use]
pub fn is_worked(stamp: &str, number: &str) -> bool {
    use sha2::{Digest, Sha256};
    if number.is_empty() || number.len() > 12 || !number.bytes().all(|b| b.is_ascii_digit()) {
        return false;
    }
    let digest = Sha256::digest(format!("{stamp} {number}").as_bytes());
    let first = u32::from_be_bytes([digest[0], digest[1], digest[2], digest[3]]);
    first.leading_zeros() >= WORK_BITS
}

/// What keeps programs out and costs a person nothing: a field that people leave empty, the stamp
/// of a page that was made by us a while ago.
fn seconds(
    desk: &Desk,
    form: &Form,
    (browser, signed_in): (i64, bool),
) -> Result<Option<u32>, Refusal> {
    if !form.get("website").is_empty() {
        return Err(Refusal::Trapped);
    }
    let made = desk.secrets.stamped_at(form.get("stamp"), browser).ok_or(Refusal::OldForm)?;
    let took = desk.clock.now().duration_since(made);
    if took > OLD {
        return Err(Refusal::OldForm);
    }
    if took < LEAST && !signed_in {
        return Err(Refusal::TooFast);
    }
    Ok(u32::try_from(took.as_secs()).ok())
}

/// Hands a submission in: at once where the submitter has signed in, and otherwise by a link that
/// goes to the address they give, which proves it.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; [`DeskError::Submission`];
/// [`DeskError::TooOften`]; [`DeskError::MailAway`].
pub async fn send(
    desk: &Desk,
    who: &Submitter,
    (id, key): (SubmissionId, String),
    mut form: Form,
) -> Result<Handed, DeskError> {
    let signed_in = who.person.is_some();
    // What is wrong with fields is said first: whoever mends them is no program.
    let took = seconds(desk, &form, (who.from.0, signed_in));
    let worked = is_worked(form.get("stamp"), form.get("work"));
    let (asks, desk_too, asked) = (who.clone(), desk.clone(), key.clone());
    let read = move |conn: &Connection| {
        let s = found(conn, id)?;
        opens(&desk_too, &s, &asked, &asks).ok_or(DeskError::NotFound)?;
        Ok::<_, DeskError>((given(conn)?, s.typed))
    };
    let (given, stored) = desk.store.read(read).await?;
    let changed = changed(&form);
    let typed = kept(&form).over(&stored, changed.as_deref());
    if changed.is_some() {
        for field in ["name", "email"] {
            form.set(field, typed.get(field));
        }
    }
    let name = form.take(&NAME);
    if name.chars().count() > MOST_NAME {
        form.fault(NAME, Fault::TooLong(MOST_NAME));
    }
    let email = match &who.proved {
        Some(proved) => proved.clone(),
        None => form.take(&EMAIL),
    };
    if !given.rules.terms.is_empty() && !form.ticked("agreed") {
        form.fault("agreed", Fault::Missing);
    }
    if let Err(faults) = proposal(&typed, &given.house) {
        for wrong in faults.wrong {
            form.fault(&wrong.field, wrong.fault);
        }
    }
    form.done().map_err(DeskError::Form)?;
    let took = took?;
    let now = desk.clock.now();
    let (asks, desk_too, to) = (who.clone(), desk.clone(), email.clone());
    let s = desk
        .store
        .write(move |tx| {
            let mut s = found(tx, id)?;
            opens(&desk_too, &s, &key, &asks).ok_or(DeskError::NotFound)?;
            if s.state != State::Unsent {
                return Err(super::elsewhere(tx, &s)?.into());
            }
            submissions::rules(tx)?.may_submit(&asks.standing(tx)?)?;
            if s.typed != typed {
                submissions::set_typed(tx, id, &typed)?;
            }
            submissions::set_sender(tx, id, asks.person, (&to, &name))?;
            s.sent.seconds = took;
            s.sent.worked = worked;
            s.sent.signed_in = asks.person.is_some();
            submissions::set(tx, &s)?;
            enough(tx, &to, s.from.1, &submissions::rules(tx)?, now)?;
            found(tx, id)
        })
        .await?;
    if signed_in {
        return hand_in(desk, id, None).await;
    }
    desk.often.stranger_mail(&email, who.from, now)?;
    let link = desk.submission_url(id, &email);
    let house = &given.house;
    let title = matricle_core::words::text::unlinked(&s.title);
    let text = format!(
        "“{title}” was written at {} with this address. If that was you, open this page and hand it in:\n\n{link}\n\n\
         With the same link you can change it, on any device, and see where it stands. Keep it to yourself.\n\n\
         If it was somebody else, do nothing: it goes no further.\n\n{}\n",
        house.name, house.name
    );
    let subject = format!("Hand in “{title}”");
    mail_now(desk, house, email.clone(), subject, text).await?;
    Ok(Handed::Mailed(email))
}

/// Mails the link with which one goes on writing on another device.
///
/// # Errors
/// [`DeskError::Form`] for what is no address; [`DeskError::TooOften`]; [`DeskError::MailAway`].
pub async fn mail_link(
    desk: &Desk,
    who: &Submitter,
    (id, key): (SubmissionId, String),
    mut form: Form,
) -> Result<String, DeskError> {
    let email = form.take(&EMAIL);
    form.done().map_err(DeskError::Form)?;
    let (asks, desk_too, to) = (who.clone(), desk.clone(), email.clone());
    let s = desk
        .store
        .write(move |tx| {
            let s = found(tx, id)?;
            let open = opens(&desk_too, &s, &key, &asks).ok_or(DeskError::NotFound)?;
            if s.state != State::Unsent {
                return Err(super::elsewhere(tx, &s)?.into());
            }
            // Whoever signed in keeps it as theirs; another address does not take it over.
            if open == Opens::Writing || s.email.is_empty() {
                submissions::set_sender(tx, id, s.person, (&to, s.typed.get("name")))?;
            }
            found(tx, id)
        })
        .await?;
    if !s.email.eq_ignore_ascii_case(&email) {
        return Err(DeskError::NotFound);
    }
    let now = desk.clock.now();
    desk.often.stranger_mail(&email, who.from, now)?;
    let house = desk.house().await?;
    let link = desk.submission_url(id, &email);
    let text = format!(
        "Go on writing your event for {} here, on any device:\n\n{link}\n\nNothing is handed in before you say so. What nobody goes on with is erased after two weeks.\n\n{}\n",
        house.name, house.name
    );
    mail_now(desk, &house, email.clone(), "Go on with your event".into(), text).await?;
    Ok(email)
}

/// Refuses one more of a day than the house rules allow.
fn enough(
    conn: &Connection,
    email: &str,
    network: i64,
    rules: &HouseRules,
    now: Timestamp,
) -> Result<u32, DeskError> {
    let (hour, day) = submissions::lately(conn, email, network, now)?;
    if day >= rules.a_day {
        return Err(Refusal::Enough { most: rules.a_day }.into());
    }
    Ok(hour)
}

/// Hands a submission in by the link that was mailed, in the wording that was looked at: whoever
/// opens it reads that mail.
///
/// # Errors
/// [`Refusal::Changed`]; [`DeskError::NotFound`] for a link that is none; [`DeskError::Form`] when something is missing
/// that it cannot be without; [`DeskError::Submission`].
pub async fn confirm(
    desk: &Desk,
    id: SubmissionId,
    key: &str,
    version: u32,
) -> Result<Handed, DeskError> {
    let key = key.to_owned();
    let s = desk.store.read(move |conn| found(conn, id)).await?;
    if s.email.is_empty() || !desk.secrets.opens_submission(id, &s.email, &key) {
        return Err(DeskError::NotFound);
    }
    hand_in(desk, id, Some(version)).await
}

/// Hands in what whoever wrote it has proved to be theirs.
async fn hand_in(desk: &Desk, id: SubmissionId, seen: Option<u32>) -> Result<Handed, DeskError> {
    let s = desk.store.read(move |conn| found(conn, id)).await?;
    let turn = desk.turn_of_submitter(super::name_of(&s));
    let handed = desk
        .store
        .write(move |tx| {
            // Another browser may hold the key to write it: what is handed in was looked at.
            let s = found(tx, id)?;
            if s.state == State::Unsent && seen.is_some_and(|version| version != s.version) {
                return Err(Refusal::Changed.into());
            }
            hand_in_in(tx, id, &turn)
        })
        .await?;
    desk.wake.all();
    Ok(handed)
}

/// Hands it in, inside a transaction; the demo hands its own in with it.
pub fn hand_in_in(tx: &Tx<'_>, id: SubmissionId, turn: &Turn) -> Result<Handed, DeskError> {
    let now = turn.now;
    let mut s = found(tx, id)?;
    let to = super::led(tx, &s, Act::Send)?;
    let Given { house, rules } = given(tx)?;
    let p = proposal(&s.typed, &house).map_err(|form| DeskError::Form(form.wrong))?;
    let person = people::know(tx, &s.name, &s.email, now)?;
    s.sent.lately = enough(tx, &s.email, s.from.1, &rules, now)?;
    submissions::set_sender(tx, id, Some(person), (&s.email, &s.name))?;
    s.person = Some(person);
    let standing = standing_of(tx, &s)?;
    rules.may_submit(&standing)?;
    (s.state, s.sent_at, s.waits_since) = (to, Some(now), Some(now));
    submissions::set(tx, &s)?;
    submissions::set_dates(tx, id, &super::dates_of(&p))?;
    note(tx, id, Act::Send, turn, s.typed.get("note"), Vec::new(), None)?;
    let light = checking::check_in(tx, id, now)?;
    let s = found(tx, id)?;
    let copies = s.findings.iter().any(|f| f.check == matricle_core::review::checks::Check::Copy);
    // What is doubtful, or looks like something that is there already, is read by somebody.
    let lands = match rules.lands(&standing) {
        Lands::Published | Lands::Draft
            if light == Light::Doubtful || copies || p.place.is_empty() =>
        {
            Lands::Review
        }
        lands => lands,
    };
    let knows = Knows::default();
    if lands == Lands::Review {
        told::tell(tx, &s, Occasion::Submitted, &knows, now, turn)?;
        told::tell_reviewers(tx, &s, turn)?;
        return Ok(Handed::Waits);
    }
    let state = if lands == Lands::Published { EventState::Published } else { EventState::Draft };
    let by = turn.program();
    let event = changes::make_event(tx, &s, &p, state, &rules, &by)?;
    let mut s = s;
    (s.state, s.event, s.waits_since) = (State::Accepted, Some(event), None);
    s.decided_at = Some(now);
    submissions::set(tx, &s)?;
    submissions::set_dates(tx, id, &[])?;
    note(tx, id, Act::Accept, &by, "", Vec::new(), None)?;
    told::tell(tx, &s, Occasion::Accepted, &knows, now, turn)?;
    if lands == Lands::Draft {
        return Ok(Handed::Draft);
    }
    let slug = events::by_id(tx, event)?.map_or_else(String::new, |e| e.slug);
    Ok(Handed::Published(slug))
}
