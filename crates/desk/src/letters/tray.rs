//! Letters at the Office: the tray, a letter with what went out because of it, giving it to a
//! booking, answering it, putting it away.

use std::sync::Arc;

use matricle_core::EventId;
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form, Wrong};
use matricle_core::messages::letters::{self, Found, Kind, Place};
use matricle_core::people::staff::{Right, require};
use matricle_core::words::codes::Reference;
use matricle_formats::incoming;
use matricle_formats::mail::File;
use matricle_store::letters::{self as stored, FileNote, Letter, List, Look, Out};
use matricle_store::people::Staff;
use matricle_store::{Connection, bookings, events};

use super::{LARGEST, Taken, passing, reply_address, take_in};
use crate::bench::{self, Takes};
use crate::messages::keyless;
use crate::{Desk, DeskError, house_of};

fields! {
    FROM: Choice = "from", "It goes out under";
}

/// Most characters of an answer.
const LONGEST_ANSWER: usize = 20_000;
/// Most letters on a page.
pub const ON_A_PAGE: u32 = 50;

/// Letters of a list.
#[derive(Debug, Clone)]
pub struct Letters {
    /// Those of the page.
    pub letters: Vec<Letter>,
    /// How many there are in all.
    pub count: u32,
    /// How many lie in the tray.
    pub tray: u32,
    /// How many wait for an answer.
    pub to_answer: u32,
    /// The mailbox is read by itself.
    pub is_read: bool,
}

/// Letters as somebody of the house may see them: what they quote has secret addresses in it, and
/// those are for whoever may do what they open.
struct AsSeen {
    /// Where keys are taken out of what is shown; nowhere for whoever may change bookings.
    without_keys: Option<Arc<str>>,
}

impl AsSeen {
    fn by(desk: &Desk, staff: &Staff) -> Self {
        let may = staff.role.may(Right::ChangeBookings);
        Self { without_keys: (!may).then(|| desk.public_url.clone()) }
    }

    fn one(&self, letter: Letter) -> Letter {
        let Some(url) = &self.without_keys else { return letter };
        Letter { words: keyless(url, &letter.words), own: keyless(url, &letter.own), ..letter }
    }

    fn all(&self, letters: Vec<Letter>) -> Vec<Letter> {
        letters.into_iter().map(|l| self.one(l)).collect()
    }

    fn out(&self, out: Vec<Out>) -> Vec<Out> {
        let Some(url) = &self.without_keys else { return out };
        out.into_iter().map(|o| Out { words: keyless(url, &o.words), ..o }).collect()
    }
}

/// Letters that are looked for, a page of them.
pub async fn list(
    desk: &Desk,
    staff: &Staff,
    look: impl Into<Look>,
    page: u32,
) -> Result<Letters, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    found(desk, staff, look.into(), page.saturating_mul(ON_A_PAGE), ON_A_PAGE).await
}

/// All letters that are looked for, for a file.
pub async fn all(desk: &Desk, staff: &Staff, look: Look) -> Result<Letters, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    found(desk, staff, look, 0, u32::MAX).await
}

async fn found(
    desk: &Desk,
    staff: &Staff,
    look: Look,
    skip: u32,
    most: u32,
) -> Result<Letters, DeskError> {
    let is_read = desk.letterbox.is_there();
    let as_seen = AsSeen::by(desk, staff);
    desk.store
        .read(move |conn| {
            let (letters, count) = stored::find(conn, &look, skip, most)?;
            Ok::<_, DeskError>(Letters {
                letters: as_seen.all(letters),
                count,
                tray: stored::count(conn, List::Tray)?,
                to_answer: stored::count(conn, List::ToAnswer)?,
                is_read,
            })
        })
        .await
}

/// A letter, whole.
#[derive(Debug, Clone)]
pub struct Whole {
    /// The letter.
    pub letter: Letter,
    /// What it brings.
    pub files: Vec<FileNote>,
    /// What went out because of it.
    pub out: Vec<Out>,
    /// The reply address that it is answered under, and whether somebody stands behind it.
    pub under: (String, bool),
    /// Names and addresses that the house writes under, that one first.
    pub senders: Vec<(String, String)>,
    /// Others of the same booking or event, in their order.
    pub beside: Vec<Letter>,
}

/// A letter, with what it brings and what went out because of it.
///
/// # Errors
/// There is none; the role may not.
pub async fn one(desk: &Desk, staff: &Staff, id: i64) -> Result<Whole, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let as_seen = AsSeen::by(desk, staff);
    let mut whole = desk
        .store
        .read(move |conn| {
            let letter = stored::by_id(conn, id)?.ok_or(DeskError::NotFound)?;
            let under = reply_address(conn, letter.place, &letter.to)?;
            let beside = match letter.place {
                Place::Booking(b) => stored::list(conn, List::Booking(b), 0, ON_A_PAGE)?,
                Place::Event(e) => stored::list(conn, List::Event(e), 0, ON_A_PAGE)?,
                Place::Person => stored::list(conn, List::Writer(id), 0, ON_A_PAGE)?,
                Place::Tray => Vec::new(),
            };
            Ok::<_, DeskError>(Whole {
                files: letter.files.clone().unwrap_or_default(),
                out: as_seen.out(stored::of_letter(conn, id)?),
                senders: senders_of(conn, (&under.name, &under.email))?,
                under: (format!("{} <{}>", under.name, under.email), !under.behind.is_empty()),
                beside: as_seen.all(beside),
                letter: as_seen.one(letter),
            })
        })
        .await?;
    // Of one that was kept before its files were written down. What cannot be read is not tried.
    if whole.letter.files.is_none() && whole.letter.kind != Kind::Unreadable {
        let files = files_of(desk, id).await?;
        whole.files =
            files.into_iter().map(|f| (f.name, f.media_type, f.bytes.len() as u64)).collect();
    }
    Ok(whole)
}

/// What a letter brings, read from what came: in its turn, away from what answers pages.
pub(super) async fn files_of(desk: &Desk, id: i64) -> Result<Vec<File>, DeskError> {
    let raw = desk.store.read(move |conn| stored::raw(conn, id)).await?.unwrap_or_default();
    bench::unless_busy(Takes::Place, move || {
        Ok(incoming::read(&raw).map(|m| m.files).unwrap_or_default())
    })
    .await
}

/// A letter word for word as it came, or one of its files by number: for whoever may change
/// bookings, since what it quotes has their secret addresses in it.
///
/// # Errors
/// There is none; the role may not.
pub async fn file(
    desk: &Desk,
    staff: &Staff,
    id: i64,
    n: Option<usize>,
) -> Result<File, DeskError> {
    require(staff.role, Right::ChangeBookings)?;
    let Some(n) = n else {
        let raw = desk.store.read(move |conn| stored::raw(conn, id)).await?;
        return Ok(File {
            name: format!("letter-{id}.eml"),
            media_type: "message/rfc822".into(),
            bytes: raw.ok_or(DeskError::NotFound)?,
        });
    };
    let letter = desk.store.read(move |conn| stored::by_id(conn, id)).await?;
    if letter.is_none_or(|l| l.kind == Kind::Unreadable) {
        return Err(DeskError::NotFound);
    }
    files_of(desk, id).await?.into_iter().nth(n).ok_or(DeskError::NotFound)
}

/// Letters of a booking, for its sheet.
///
/// # Errors
/// The store fails; the role may not.
pub async fn of_booking(
    desk: &Desk,
    staff: &Staff,
    reference: Reference,
) -> Result<(Vec<(Letter, Vec<Out>)>, Vec<stored::CalendarSaid>), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let as_seen = AsSeen::by(desk, staff);
    desk.store
        .read(move |conn| {
            let booking = bookings::by_reference(conn, reference)?.ok_or(DeskError::NotFound)?;
            let mut letters = Vec::new();
            for letter in stored::list(conn, List::Booking(booking.id), 0, 200)? {
                let out = as_seen.out(stored::of_letter(conn, letter.id)?);
                letters.push((as_seen.one(letter), out));
            }
            Ok((letters, stored::calendar_said(conn, booking.id)?))
        })
        .await
}

/// Gives a letter to a booking by its reference, or to an event by its key; neither puts it back
/// into the tray. Says what it was given to.
///
/// # Errors
/// [`DeskError::Form`] for a booking that there is not; the role may not.
pub async fn give(
    desk: &Desk,
    staff: &Staff,
    id: i64,
    mut form: Form,
) -> Result<String, DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    let written = form.get("booking").trim().to_owned();
    let event = form.get("event").parse().ok().map(EventId);
    desk.store
        .write(move |tx| {
            let letter = stored::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            let (place, to) = if written.is_empty() {
                match event {
                    Some(event) => {
                        let event = events::by_id(tx, event)?.ok_or(DeskError::NotFound)?;
                        (Place::Event(event.id), event.title)
                    }
                    None => (Place::Tray, "the tray".to_owned()),
                }
            } else {
                let found = match Reference::parse(&written) {
                    Some(reference) => bookings::by_reference(tx, reference)?,
                    None => None,
                };
                let Some(booking) = found else {
                    form.fault("booking", Fault::Unknown);
                    return Err(DeskError::Form(form.done().err().unwrap_or_default()));
                };
                let by = &turn.by;
                let what = format!("was given a letter: {}", letter.subject);
                bookings::happened(tx, booking.id, turn.now, by, &what)?;
                (Place::Booking(booking.id), format!("booking {}", booking.reference))
            };
            let found = if place == Place::Tray { Found::Not } else { Found::ByHand };
            // Whoever was answered already waits for nothing.
            let answered = stored::of_letter(tx, id)?.iter().any(|out| !out.forward);
            let proposes = letter.proposed.is_some();
            let waits = !answered && letters::is_to_answer(letter.kind, place, proposes);
            stored::put(tx, id, (place, found), waits)?;
            Ok(to)
        })
        .await
}

/// Puts a letter away, or takes it out again.
///
/// # Errors
/// There is none; the role may not.
pub async fn put_away(desk: &Desk, staff: &Staff, id: i64, away: bool) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    desk.store
        .write(move |tx| {
            stored::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            Ok(stored::put_away(tx, id, away.then_some(turn.now))?)
        })
        .await
}

/// Names and addresses that the house writes under, one of them first.
fn senders_of(
    conn: &Connection,
    (name, email): (&str, &str),
) -> Result<Vec<(String, String)>, DeskError> {
    let house = house_of(conn)?;
    let own = matricle_store::senders::all(conn)?.into_iter().map(|s| (s.name, s.email));
    let mut all = vec![(name.to_owned(), email.to_owned())];
    for sender in std::iter::once((house.name, house.email)).chain(own) {
        if !all.contains(&sender) {
            all.push(sender);
        }
    }
    Ok(all)
}

/// Answers a letter from the Office, under the reply address it was written to.
///
/// # Errors
/// [`DeskError::Form`] for no words; a machine's letter is not answered; the role may not.
pub async fn answer(desk: &Desk, staff: &Staff, id: i64, mut form: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    let words = form.text("answer", LONGEST_ANSWER);
    if words.trim().is_empty() {
        form.fault("answer", Fault::Missing);
    }
    let asked = form.take(&FROM);
    form.done().map_err(DeskError::Form)?;
    let who = staff.name.clone();
    desk.store
        .write(move |tx| {
            let letter = stored::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            if !letter.kind.is_from_somebody() {
                return Err(DeskError::NotFound);
            }
            let reply = reply_address(tx, letter.place, &letter.to)?;
            let known = senders_of(tx, (&reply.name, &reply.email))?;
            let from = known.iter().find(|(_, email)| asked.is_empty() || *email == asked);
            let (name, email) = from.ok_or_else(|| {
                let field = "from".to_owned();
                DeskError::Form(vec![Wrong { field, fault: Fault::Unknown }])
            })?;
            passing::answer_from_office(tx, &letter, words.trim(), (name, email), &who, &turn)?;
            if let Place::Booking(booking) = letter.place {
                let what = format!("answered a letter: {}", letter.subject);
                bookings::happened(tx, booking, turn.now, &turn.by, &what)?;
            }
            Ok(())
        })
        .await?;
    desk.wake.all();
    Ok(())
}

/// What was dropped or pasted at the Office.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Dropped {
    /// So many were new …
    pub new: usize,
    /// … and so many had been read before.
    pub known: usize,
    /// The last of the new ones.
    pub last: Option<i64>,
}

/// Takes in mails that were dropped as files, or pasted as text.
///
/// # Errors
/// [`DeskError::Form`] where nothing was given, or too much; the role may not.
pub async fn drop_in(
    desk: &Desk,
    staff: &Staff,
    mails: Vec<Vec<u8>>,
) -> Result<Dropped, DeskError> {
    require(staff.role, Right::ChangeBookings)?;
    let mut form = Form::default();
    let mails: Vec<Vec<u8>> =
        mails.into_iter().filter(|m| !m.iter().all(u8::is_ascii_whitespace)).collect();
    if mails.is_empty() {
        form.fault("mail", Fault::Missing);
    }
    if mails.iter().any(|m| m.len() > LARGEST) {
        form.fault("mail", Fault::TooLong(LARGEST));
    }
    form.done().map_err(DeskError::Form)?;
    let mut dropped = Dropped::default();
    for mail in mails {
        match take_in(desk, mail).await? {
            Taken::New(id) => {
                dropped.new += 1;
                dropped.last = Some(id);
            }
            Taken::Known => dropped.known += 1,
        }
    }
    Ok(dropped)
}
