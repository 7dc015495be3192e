//! Passing letters on to whoever stands behind a reply address, and their answers back, so that
//! neither learns more of the other than the house's address.

use matricle_core::messages::letters::private::{holds_address, plain, without_addresses};
use matricle_core::words::text;
use matricle_formats::incoming::{self, Incoming};
use matricle_formats::mail::{self, File, Mail};
use matricle_formats::{picture, rich};
use matricle_store::letters::{self as stored, NewOut, Out};
use matricle_store::{StoreError, Tx, senders};

use super::ReplyAddress;
use crate::acting::Turn;
use crate::bench::{self, Takes};
use crate::rounds::{Due, ROUND, Work, each};
use crate::{Desk, DeskError, telling};

/// Most bytes of files that go along.
const MOST_FILES: usize = 15 * 1024 * 1024;

/// A subject that says it is an answer, once.
fn re(subject: &str) -> String {
    let starts = subject.get(..3).is_some_and(|s| s.eq_ignore_ascii_case("re:"));
    if starts { subject.to_owned() } else { format!("Re: {subject}") }
}

fn message_id(turn: &Turn) -> String {
    format!("letter.{}{}@{}", telling::unguessed(), telling::unguessed(), turn.host)
}

/// Plans that a letter goes on to whoever stands behind a reply address.
pub(super) fn forward(
    tx: &Tx<'_>,
    id: i64,
    mail: &Incoming,
    behind: &ReplyAddress,
    turn: &Turn,
) -> Result<(), DeskError> {
    let letter = stored::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
    let writer = if mail.from.name.is_empty() { &mail.from.address } else { &mail.from.name };
    let about = match (&letter.reference, letter.title.as_str()) {
        (Some(reference), title) => format!("About {title}, booking {reference}."),
        (None, "") => String::new(),
        (None, title) => format!("About {title}."),
    };
    let words = format!(
        "{writer} wrote to {}. {about}\nAnswer this mail: your answer goes to them under the name of {}, \
         and your own address stays with the house.\n\n{}",
        behind.name, behind.name, mail.words
    );
    // The name of whoever wrote, so that it stands in the list of a mail program.
    let name = format!("{writer} · {}", behind.name);
    stored::add_out(
        tx,
        NewOut {
            letter: id,
            forward: true,
            files_of: Some(id),
            message_id: &message_id(turn),
            from: (&name, &behind.email),
            to: ("", &behind.behind),
            subject: &mail.subject,
            words: &words,
            without: "",
            who: "the program",
        },
        turn.now,
    )?;
    Ok(())
}

/// Plans that the answer of whoever stands behind a reply address goes to whoever wrote.
pub(super) fn answer_with(
    tx: &Tx<'_>,
    files_of: i64,
    (mail, own): (&Incoming, &str),
    forwarded: &Out,
    turn: &Turn,
) -> Result<(), DeskError> {
    let Some(letter) = stored::by_id(tx, forwarded.letter)? else { return Ok(()) };
    let reply = super::reply_address(tx, letter.place, &letter.to)?;
    let mut private = senders::private(tx)?;
    private.push(mail.from.address.clone());
    let private: Vec<&str> = private.iter().map(String::as_str).collect();
    let words = without_addresses(own, &private, &reply.email);
    let subject = without_addresses(&mail.subject, &private, &reply.email);
    stored::add_out(
        tx,
        NewOut {
            letter: letter.id,
            forward: false,
            files_of: Some(files_of),
            message_id: &message_id(turn),
            from: (&reply.name, &reply.email),
            to: (&letter.from.0, &letter.answer_to),
            subject: &subject,
            words: &words,
            without: "",
            who: &mail.from.address,
        },
        turn.now,
    )?;
    Ok(())
}

/// Plans an answer from the Office, under a name and an address of the house. Its key.
pub(super) fn answer_from_office(
    tx: &Tx<'_>,
    letter: &stored::Letter,
    words: &str,
    from: (&str, &str),
    who: &str,
    turn: &Turn,
) -> Result<i64, DeskError> {
    Ok(stored::add_out(
        tx,
        NewOut {
            letter: letter.id,
            forward: false,
            files_of: None,
            message_id: &message_id(turn),
            from,
            to: (&letter.from.0, &letter.answer_to),
            subject: &re(&letter.subject),
            words,
            without: "",
            who,
        },
        turn.now,
    )?)
}

/// Files that go along, and in words those that do not: what is too much for a mail stays here,
/// and of an answer whatever cannot be looked into or would show a private address.
fn files(found: Vec<File>, out: &Out, private: &[&str]) -> (Vec<File>, String) {
    let (mut kept, mut without, mut bytes) = (Vec::new(), Vec::new(), 0);
    for (n, mut file) in found.into_iter().enumerate() {
        if file.name.is_empty() {
            file.name = format!("file-{}", n + 1);
        }
        file.name = text::line(&file.name);
        let name = file.name.clone();
        let goes = if out.forward { Some(file) } else { without_private(file, private) };
        match goes.filter(|f| bytes + f.bytes.len() <= MOST_FILES) {
            Some(file) => {
                bytes += file.bytes.len();
                kept.push(file);
            }
            None => without.push(without_addresses(&name, private, "…")),
        }
    }
    (kept, without.join(", "))
}

/// A file as it may leave the house under a reply address: text that holds no private address, or
/// a picture written anew. Of all other kinds nobody can say what is in them.
fn without_private(file: File, private: &[&str]) -> Option<File> {
    if holds_address(&file.name, private) {
        return None;
    }
    if let Ok(bytes) = picture::bare(&file.bytes) {
        let stem = file.name.rsplit_once('.').map_or(file.name.as_str(), |(stem, _)| stem);
        return Some(File { name: format!("{stem}.jpg"), media_type: "image/jpeg".into(), bytes });
    }
    // Cards, calendars and pages are text that says whose it is in ways of its own.
    let is_text = ["text/plain", "text/csv", "text/markdown"].contains(&file.media_type.as_str());
    let text = is_text.then(|| plain(&file.bytes)).flatten()?;
    (!holds_address(&text, private)).then_some(file)
}

/// Sends what is to go because of letters; says how many there were.
pub(crate) async fn send(desk: &Desk) -> Result<usize, DeskError> {
    let due = desk.store.read(|conn| stored::due(conn, ROUND)).await?;
    let due = due
        .into_iter()
        .map(|out| Due { about: format!("letter out {}", out.id), booking: None, row: out.id })
        .collect();
    each(desk, Work::Answers, due, 2, |desk, id| async move { one(&desk, id).await }).await
}

async fn one(desk: &Desk, id: i64) -> Result<(), DeskError> {
    let now = desk.clock.now();
    let found = desk
        .store
        .read(move |conn| {
            let Some(out) = stored::out_by_id(conn, id)? else { return Ok(None) };
            let letter = stored::by_id(conn, out.letter)?;
            let raw = match out.files_of {
                Some(id) => stored::raw(conn, id)?.unwrap_or_default(),
                None => Vec::new(),
            };
            Ok::<_, DeskError>(Some((out, letter, raw, senders::private(conn)?)))
        })
        .await?;
    let Some((out, Some(letter), raw, mut private)) = found else { return Ok(()) };
    if out.sent_at.is_some() || out.refused.is_some() {
        return Ok(());
    }
    private.push(out.who.clone());
    let (out, files, without) = bench::in_turn(Takes::All, move || {
        let private: Vec<&str> = private.iter().map(String::as_str).collect();
        let found = incoming::read(&raw).map(|m| m.files).unwrap_or_default();
        let (files, without) = files(found, &out, &private);
        Ok((out, files, without))
    })
    .await?;
    let answers = if out.forward || letter.message_id.is_empty() {
        Vec::new()
    } else {
        vec![letter.message_id]
    };
    let message = mail::message(&Mail {
        from: out.from,
        reply_to: None,
        to: out.to,
        subject: out.subject,
        message_id: out.message_id,
        answers,
        by_hand: !out.forward,
        date: now,
        html: rich::from_text(&out.words),
        text: out.words,
        pictures: Vec::new(),
        calendar: None,
        attachments: files,
        list: None,
    });
    let refused = match message {
        Ok(message) => match desk.mailer.send(message).await {
            Ok(_) => None,
            Err(error) if error.for_good => Some(error.reason),
            Err(error) => return Err(DeskError::Internal(error.reason)),
        },
        Err(error) => Some(error.to_string()),
    };
    desk.store
        .write(move |tx| match refused {
            None => stored::sent(tx, id, &without, now),
            Some(why) => stored::refused(tx, id, &why),
        })
        .await
        .map_err(|e: StoreError| e.into())
}
