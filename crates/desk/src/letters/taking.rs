//! Taking a mail in: read it, find its place, do what follows from it.

use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use matricle_core::messages::letters::{self, Found, Kind, LetterFacts, Place, own_words};
use matricle_core::people::acting::Acting;
use matricle_core::words::address::is_address;
use matricle_formats::incoming::{self, Bounce, Incoming, Report};
use matricle_formats::mail::File;
use matricle_store::letters::being_read::{self, Before};
use matricle_store::letters::{self as stored, FileNote, New};
use matricle_store::{Connection, Tx, bookings, outbox};
use sha2::{Digest, Sha256};

use super::{calendars, own_addresses, passing, reply_address};
use crate::acting::Turn;
use crate::bench::{self, Takes};
use crate::{Desk, DeskError};

/// Most files of a letter that are listed.
const MOST_FILES: usize = 200;

/// What became of a mail.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Taken {
    /// It is kept, under this key.
    New(i64),
    /// It was read before.
    Known,
}

/// A mail to be taken in. Of one that is too large to be read, with so many bytes, it is the head.
#[derive(Debug, Clone)]
pub(super) struct Brought {
    pub(super) raw: Arc<Vec<u8>>,
    pub(super) too_large: Option<u32>,
}

/// A mail as it was read, without the bytes of its files: they lie in what is packed.
struct Read {
    raw: Arc<Vec<u8>>,
    digest: String,
    too_large: Option<u32>,
    found: Result<Incoming, String>,
    own: String,
    files: Vec<FileNote>,
    packed: Vec<u8>,
}

/// How long reading one mail may take; what takes longer is kept unread.
const LONGEST: Duration = Duration::from_secs(20);

/// Takes a mail in, whatever it is: what cannot be read is kept and shown. Taken in twice, it is
/// there once.
pub async fn take_in(desk: &Desk, raw: Vec<u8>) -> Result<Taken, DeskError> {
    let mail = Brought { raw: Arc::new(raw), too_large: None };
    let all = take_in_all(desk, vec![mail], |_| Ok(())).await?;
    Ok(all.first().copied().unwrap_or(Taken::Known))
}

/// Takes mails in, in their order, and writes something down with them: all of it or nothing.
///
/// That they are being read is on disk before any of them is. Those that were being read when the
/// program last ended are read one by one; the one that was read alone then is not read again.
pub(super) async fn take_in_all(
    desk: &Desk,
    mails: Vec<Brought>,
    and: impl FnOnce(&Tx<'_>) -> Result<(), DeskError> + Send + 'static,
) -> Result<Vec<Taken>, DeskError> {
    let mails = digested(mails).await?;
    let digests: Vec<String> = mails.iter().map(|(_, digest)| digest.clone()).collect();
    let before = mark(desk, digests).await?;
    if mails.len() == 1 || before.iter().all(|b| *b == Before::Nothing) {
        return read_and_keep(desk, mails, &before, and).await;
    }
    let mut taken = Vec::with_capacity(mails.len());
    for (mail, digest) in mails {
        let before = mark(desk, vec![digest.clone()]).await?;
        taken.extend(read_and_keep(desk, vec![(mail, digest)], &before, |_| Ok(())).await?);
    }
    desk.store.write(and).await?;
    Ok(taken)
}

/// The mails, each with the digest of its bytes.
async fn digested(mails: Vec<Brought>) -> Result<Vec<(Brought, String)>, DeskError> {
    crate::off_thread(move || {
        let digest = |m: &Brought| hex(&Sha256::digest(m.raw.as_slice()));
        Ok(mails.into_iter().map(|m| (digest(&m), m)).map(|(d, m)| (m, d)).collect())
    })
    .await
}

/// Writes down that mails are being read: how it was with each before.
async fn mark(desk: &Desk, digests: Vec<String>) -> Result<Vec<Before>, DeskError> {
    let now = desk.clock.now();
    desk.store
        .write(move |tx| {
            let alone = digests.len() == 1;
            digests.iter().map(|d| Ok(being_read::begin(tx, d, alone, now)?)).collect()
        })
        .await
}

/// A mail was read without harm, though what follows from it failed.
pub(super) async fn forget(desk: &Desk, mail: &Brought) -> Result<(), DeskError> {
    let mut mails = digested(vec![mail.clone()]).await?;
    let Some((_, digest)) = mails.pop() else { return Ok(()) };
    Ok(desk.store.write(move |tx| being_read::done(tx, &digest)).await?)
}

async fn read_and_keep(
    desk: &Desk,
    mails: Vec<(Brought, String)>,
    before: &[Before],
    and: impl FnOnce(&Tx<'_>) -> Result<(), DeskError> + Send + 'static,
) -> Result<Vec<Taken>, DeskError> {
    let mut read = Vec::with_capacity(mails.len());
    for (mail, before) in mails.into_iter().zip(before) {
        read.push(read_one(mail, *before).await?);
    }
    let turn = desk.turn(Acting::program());
    let taken = desk
        .store
        .write(move |tx| {
            let mut taken = Vec::with_capacity(read.len());
            for one in &read {
                taken.push(match &one.found {
                    Ok(mail) => keep(tx, mail, one, &turn)?,
                    Err(why) => keep_unread(tx, one, why, turn.now)?,
                });
                being_read::done(tx, &one.digest)?;
            }
            and(tx)?;
            Ok::<_, DeskError>(taken)
        })
        .await?;
    if taken.iter().any(|t| matches!(t, Taken::New(_))) {
        desk.wake.all();
    }
    Ok(taken)
}

/// Reads one mail: away from everything else, in its turn, and no longer than it may take.
async fn read_one((mail, digest): (Brought, String), before: Before) -> Result<Read, DeskError> {
    let Brought { raw, too_large } = mail;
    let found = if before == Before::Alone {
        Err("the program ended while it was being read: it was not read again, and is kept as it came"
            .to_owned())
    } else {
        let bytes = raw.clone();
        // A reader that a mail brings down is brought down by this mail alone.
        let reading = bench::in_turn(Takes::Place, move || Ok(incoming::read(&bytes)));
        match tokio::time::timeout(LONGEST, reading).await {
            Ok(Ok(Ok(mail))) => Ok(mail),
            Ok(Ok(Err(unread))) => Err(unread.to_string()),
            Ok(Err(_)) => Err("reading it failed: it is kept as it came".to_owned()),
            Err(_) => Err("reading it took too long: it is kept as it came".to_owned()),
        }
    };
    crate::off_thread(move || {
        let packed = stored::packed(&raw)?;
        let mut read =
            Read { own: String::new(), files: Vec::new(), raw, digest, too_large, found, packed };
        if let Ok(mail) = &mut read.found {
            own_words(&mail.words).clone_into(&mut read.own);
            let note = |f: File| (f.name, f.media_type, f.bytes.len() as u64);
            read.files =
                std::mem::take(&mut mail.files).into_iter().take(MOST_FILES).map(note).collect();
        }
        Ok(read)
    })
    .await
}

/// Keeps a mail as it came, without anything that follows from it, and writes something down.
pub(super) async fn keep_plainly(
    desk: &Desk,
    mail: Brought,
    and: impl FnOnce(&Tx<'_>) -> Result<(), DeskError> + Send + 'static,
) -> Result<Taken, DeskError> {
    let now = desk.clock.now();
    let mut mails = digested(vec![mail]).await?;
    let Some(mail) = mails.pop() else { return Ok(Taken::Known) };
    let read = read_one(mail, Before::Nothing).await?;
    desk.store
        .write(move |tx| {
            let why = "what follows from it failed: it is kept as it came";
            let taken = keep_unread(tx, &read, why, now)?;
            being_read::done(tx, &read.digest)?;
            and(tx)?;
            Ok(taken)
        })
        .await
}

fn hex(digest: &[u8]) -> String {
    digest.iter().map(|b| format!("{b:02x}")).collect()
}

/// The digest by which a mail is known again: of who wrote what when, since what carried it here
/// may have added lines of its own.
fn seen(mail: &Incoming, raw: &[u8]) -> String {
    let mut digest = Sha256::new();
    if mail.message_id.is_empty() {
        digest.update(raw);
    } else {
        let at = mail.sent_at.map(|at| at.to_string()).unwrap_or_default();
        for part in [&mail.message_id, &mail.from.address, &at, &mail.subject, &mail.words] {
            digest.update(part.as_bytes());
            digest.update([0]);
        }
    }
    hex(&digest.finalize())
}

fn keep_unread(tx: &Tx<'_>, read: &Read, why: &str, now: Timestamp) -> Result<Taken, DeskError> {
    if stored::known(tx, &read.digest)? {
        return Ok(Taken::Known);
    }
    let new = New {
        answer_to: "",
        seen: &read.digest,
        message_id: "",
        kind: Kind::Unreadable,
        written_at: None,
        from: ("", ""),
        to: "",
        subject: "",
        words: "",
        own: "",
        files: &[],
        note: why,
        proposed: None,
        to_answer: false,
        place: (Place::Tray, Found::Not),
        packed: &read.packed,
    };
    Ok(Taken::New(stored::add(tx, &new, now)?))
}

/// What a mail is, where it belongs, and why.
struct Sorted {
    kind: Kind,
    place: (Place, Found),
    note: String,
    /// The time that it proposes instead.
    proposed: Option<stored::Proposed>,
    /// What of it is to be passed back to whoever wrote the letter that it answers.
    answers: Option<stored::Out>,
}

/// Writes into the timeline of the booking that it belongs to, what came.
fn note(tx: &Tx<'_>, mail: &Incoming, sorted: &Sorted, turn: &Turn) -> Result<(), DeskError> {
    if let Place::Booking(booking) = sorted.place.0 {
        let what = match sorted.kind {
            Kind::Letter => format!("wrote a letter: {}", mail.subject),
            Kind::Answer => format!("answered by mail: {}", mail.subject),
            Kind::Automatic => format!("a machine answered: {}", mail.subject),
            Kind::Bounce => format!("a mail did not arrive: {}", sorted.note),
            Kind::Calendar => format!("their calendar {}", sorted.note),
            Kind::Unreadable => "a letter came that cannot be read".into(),
        };
        let who = if mail.from.name.is_empty() { &mail.from.address } else { &mail.from.name };
        let by = Acting { name: who.clone(), ..Acting::program() };
        bookings::happened(tx, booking, turn.now, &by, &what)?;
    }
    Ok(())
}

fn keep(tx: &Tx<'_>, mail: &Incoming, read: &Read, turn: &Turn) -> Result<Taken, DeskError> {
    let seen = seen(mail, &read.raw);
    if stored::known(tx, &seen)? {
        return Ok(Taken::Known);
    }
    let own = own_addresses(tx)?;
    let is_own = |a: &String| own.iter().any(|o| o.eq_ignore_ascii_case(a));
    let to = mail.to.iter().find(|a| is_own(a)).or(mail.to.first()).cloned().unwrap_or_default();
    let mut sorted = sort(tx, mail, is_own(&mail.from.address), &to, turn.now)?;
    if let Some(bytes) = read.too_large {
        sorted.kind = Kind::Unreadable;
        let mib = bytes.div_ceil(1024 * 1024);
        sorted.note =
            format!("it is too large to be read here ({mib} MiB): read it in the house’s mailbox");
    }
    let before = stored::count_from(
        tx,
        &mail.from.address,
        turn.now - letters::AN_HOUR,
        letters::MOST_AN_HOUR,
    )?;
    let behind = reply_address(tx, sorted.place.0, &to)?;
    let since = turn.now - letters::AN_HOUR;
    let to_them = stored::forwarded_to(tx, &behind.behind, since, letters::MOST_FORWARDED)?;
    // Nobody is sent what they wrote themselves.
    let goes_on = !behind.behind.is_empty()
        && !behind.behind.eq_ignore_ascii_case(&mail.from.address)
        && sorted.kind == Kind::Letter;
    let is_forwarded = goes_on && letters::is_forwarded(sorted.kind, before, to_them);
    if goes_on && !is_forwarded {
        sorted.note = "more came within an hour than is passed on: it waits here to be read".into();
        if !matches!(sorted.place.0, Place::Booking(_)) {
            sorted.place = (Place::Tray, Found::Not);
        }
    }
    // Where it asks for answers, unless that is the house itself.
    let asks = &mail.answer_to;
    let elsewhere =
        is_address(asks) && !is_own(asks) && !asks.eq_ignore_ascii_case(&mail.from.address);
    let id = stored::add(
        tx,
        &New {
            answer_to: if elsewhere { asks } else { "" },
            seen: &seen,
            message_id: &mail.message_id,
            kind: sorted.kind,
            written_at: mail.sent_at,
            from: (&mail.from.name, &mail.from.address),
            to: &to,
            subject: &mail.subject,
            words: &mail.words,
            own: &read.own,
            files: &read.files,
            note: &sorted.note,
            proposed: sorted.proposed,
            to_answer: letters::is_to_answer(
                sorted.kind,
                sorted.place.0,
                sorted.proposed.is_some(),
            ),
            place: sorted.place,
            packed: &read.packed,
        },
        turn.now,
    )?;
    note(tx, mail, &sorted, turn)?;
    match sorted.kind {
        Kind::Letter if is_forwarded => passing::forward(tx, id, mail, &behind, turn)?,
        Kind::Answer => {
            if let Some(out) = &sorted.answers {
                passing::answer_with(tx, id, (mail, &read.own), out, turn)?;
            }
        }
        Kind::Bounce => {
            if let Some(Report::Bounce(bounce)) = &mail.report {
                refuse(tx, bounce, turn.now)?;
            }
        }
        Kind::Calendar => {
            if let (Some(reply), Place::Booking(_)) = (&mail.calendar, sorted.place.0) {
                calendars::follow(tx, reply, turn)?;
            }
        }
        Kind::Automatic => {
            if let Some(Report::Complaint(of)) = &mail.report
                && let Some((address, _)) = stored::message_sent(tx, of)?
            {
                outbox::unsubscribe(tx, &address, turn.now)?;
            }
        }
        Kind::Letter | Kind::Unreadable => {}
    }
    Ok(Taken::New(id))
}

/// Says what a mail is and where it belongs.
fn sort(
    conn: &Connection,
    mail: &Incoming,
    is_own: bool,
    to: &str,
    now: Timestamp,
) -> Result<Sorted, DeskError> {
    let sorted =
        |kind, place, note: String| Ok(Sorted { kind, place, note, proposed: None, answers: None });
    let of_message = |id: &str| -> Result<_, DeskError> {
        Ok(match stored::message_sent(conn, id)? {
            Some((_, place)) if place != Place::Tray => (place, Found::ByThread),
            _ => (Place::Tray, Found::Not),
        })
    };
    match &mail.report {
        Some(Report::Bounce(bounce)) => {
            let note = format!("{}: {}", bounce.addresses.join(", "), bounce.said);
            return sorted(Kind::Bounce, of_message(&bounce.message_id)?, note);
        }
        Some(Report::Complaint(of)) => {
            let known = stored::message_sent(conn, of)?;
            let note = match &known {
                Some((address, _)) => format!(
                    "{address} complained of a mail of ours as unwanted: no more announcements go there"
                ),
                None => "somebody complained of a mail as unwanted; it is none that is known here"
                    .to_owned(),
            };
            return sorted(Kind::Automatic, of_message(of)?, note);
        }
        Some(Report::Receipt) | None => {}
    }
    // Many calendars send their replies by themselves: that makes them no less theirs.
    if let Some(reply) = &mail.calendar {
        let theirs = calendars::invited(conn, reply)?;
        if theirs.is_some() && !letters::is_believed(&reply.who.address, &mail.from.address) {
            let note = "it speaks for another address than it comes from: nothing follows from it";
            return sorted(Kind::Calendar, (Place::Tray, Found::Not), note.into());
        }
        let (note, proposed) = calendars::said(conn, reply, theirs.as_ref(), now)?;
        let place = theirs
            .map_or((Place::Tray, Found::Not), |t| (Place::Booking(t.booking.id), Found::ByThread));
        return Ok(Sorted { kind: Kind::Calendar, place, note, proposed, answers: None });
    }
    let facts = facts(conn, mail, to)?;
    if let Some(why) = mail.automatic {
        return sorted(Kind::Automatic, letters::place(&facts, now), why.into());
    }
    if is_own {
        let why = "it comes from an address of the house itself, and goes no further";
        return sorted(Kind::Automatic, letters::place(&facts, now), why.into());
    }
    // An answer to what was forwarded, from the one address that it was forwarded to.
    for id in &mail.answers {
        if let Some(out) = stored::out_of_message(conn, id)?.filter(|o| o.forward) {
            let place = letters::place(&facts, now);
            if out.to.1.eq_ignore_ascii_case(&mail.from.address) {
                let (kind, note) = (Kind::Answer, String::new());
                return Ok(Sorted { kind, place, note, proposed: None, answers: Some(out) });
            }
            let note = "it answers what was forwarded, from another address than that went to: it was not passed on";
            return sorted(Kind::Answer, place, note.into());
        }
    }
    sorted(Kind::Letter, letters::place(&facts, now), String::new())
}

/// What is known of a letter before it has a place.
fn facts(conn: &Connection, mail: &Incoming, to: &str) -> Result<LetterFacts, DeskError> {
    let mut thread = None;
    for id in &mail.answers {
        thread = stored::of_thread(conn, id)?;
        if thread.is_some() {
            break;
        }
    }
    let named = match letters::reference_in(&mail.subject) {
        Some(reference) => bookings::by_reference(conn, reference)?.map(|b| b.id),
        None => None,
    };
    let from = &mail.from.address;
    Ok(LetterFacts {
        thread,
        named,
        theirs: if from.is_empty() { Vec::new() } else { stored::bookings_of(conn, from)? },
        events: stored::events_of(conn, to)?,
        known: !from.is_empty() && stored::is_known(conn, from)?,
    })
}

/// Marks the addresses of a mail that did not arrive, if it is one that we sent there: what nobody
/// but its reader and its carriers knows is the `Message-ID`.
fn refuse(tx: &Tx<'_>, bounce: &Bounce, now: Timestamp) -> Result<(), DeskError> {
    if !bounce.for_good {
        return Ok(());
    }
    let Some((address, _)) = stored::message_sent(tx, &bounce.message_id)? else {
        return Ok(());
    };
    if bounce.addresses.iter().any(|a| a.eq_ignore_ascii_case(&address)) {
        outbox::refused(tx, &address, &bounce.said, now)?;
    }
    Ok(())
}
