//! Messages: put together from their templates, handed over, shown before and after.

pub mod announcements;
pub mod cues;
pub mod files;
pub(crate) mod kept;
pub mod outbox;
pub mod own_feed;
mod roster;
pub mod senders;
pub(crate) mod sending;
mod tickets;
mod values;
pub mod wordings;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use jiff::Timestamp;
use matricle_core::messages::cue::{Trigger, Way};
use matricle_core::messages::occasion::Occasion;
use matricle_core::messages::template::{Form, Template, Values};
use matricle_formats::letter::{self, Letterhead};
use matricle_formats::mail::{self, File, Mail};
use matricle_store::house::House;
use matricle_store::outbox::{Message, MessageState};
use matricle_store::templates::{self, Goes};
use matricle_store::{Connection, Tx, house_files};

use crate::drawn::{Print, print_of};
use crate::telling::{install, wording_of};
use crate::{Desk, DeskError, house_of};

pub use tickets::{
    calendar_of, card_words, online, own_links, ticket, ticket_calendar, ticket_file, tickets_of,
    tickets_pdf, web_calendars,
};
#[cfg(test)]
pub(crate) use values::made_up;
pub use values::{About, is_online};

/// The house's colour where it has none of its own.
const ACCENT: &str = "#1d4f3f";

/// Writes down what is missing of the program's own templates and cues.
pub async fn prepare(desk: &Desk) -> Result<(), DeskError> {
    let now = desk.clock.now();
    desk.store.write(move |tx: &Tx<'_>| install(tx, now)).await
}

/// The wording of a message.
///
/// # Errors
/// The store fails, or it has none.
pub(crate) fn template_of(
    conn: &Connection,
    message: &Message,
) -> Result<templates::Template, DeskError> {
    if let Some(id) = message.template
        && let Some(found) = templates::by_id(conn, id)?
    {
        return Ok(found);
    }
    templates::standard(conn, wording_of(message.trigger))?.ok_or(DeskError::NotFound)
}

/// Text whose links open nothing: a link that carries a key is its reader's alone, and whoever
/// may not change a booking does not get it by reading mail. Links to events stay.
pub(crate) fn keyless(public_url: &str, text: &str) -> String {
    let mut said = String::with_capacity(text.len());
    let mut rest = text;
    let begin = format!("{public_url}/");
    while let Some(at) = rest.find(&begin) {
        let (before, link) = rest.split_at(at);
        let (base, path) = link.split_at(begin.len());
        let ends = |c: char| c.is_whitespace() || matches!(c, '"' | '\'' | '<' | '>' | ')');
        let (path, after) = path.split_at(path.find(ends).unwrap_or(path.len()));
        said.push_str(before);
        said.push_str(base);
        match path.split_once('/') {
            Some((what, _)) if what != "events" => {
                said.push_str(what);
                said.push_str("/…");
            }
            _ => said.push_str(path),
        }
        rest = after;
    }
    said.push_str(rest);
    said
}

/// A message as it is read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Letter {
    /// The subject.
    pub subject: String,
    /// The text part.
    pub text: String,
    /// The words as HTML, without what stands around them.
    pub body: String,
    /// The names of fields that say nothing in it, though nothing stands in for them.
    pub empty: Vec<&'static str>,
}

/// Writes a template for one reader. One that cannot be read says why, in place of a letter.
///
/// # Errors
/// All that is wrong with the template.
pub fn write(
    template: &templates::Template,
    values: &Values,
) -> Result<Letter, Vec<matricle_core::messages::template::Wrong>> {
    let subject = Template::read(&template.subject)?;
    let body = letter::read_body(&template.body)?;
    let lead =
        |name: &str| match values.get(matricle_core::messages::template::field(name)?.name)? {
            matricle_core::messages::template::Value::Link(to) => Some(to.clone()),
            _ => None,
        };
    let html = letter::with_links(&body.write(values, Form::Html), lead);
    let text = if template.plain.trim().is_empty() {
        letter::text_of(&html)
    } else {
        Template::read(&template.plain)?.write(values, Form::Text)
    };
    let mut empty = subject.empty_for(values);
    empty.extend(body.empty_for(values));
    empty.dedup();
    Ok(Letter { subject: subject.write(values, Form::Line), text, body: html, empty })
}

/// What is handed over.
#[derive(Clone)]
pub(crate) enum Ready {
    /// A mail, and what is kept of it.
    Mail(Box<lettre::Message>),
    /// A text message, a line for the chat, a notice: plain words.
    Words(String),
}

/// A message put together: what is handed over, its subject, its words as they are kept.
#[derive(Clone)]
pub(crate) struct Composed {
    pub(crate) ready: Ready,
    pub(crate) subject: String,
    pub(crate) words: String,
}

/// Whom a message comes from: the event's own sender, one for its tags, or the house.
fn sender(conn: &Connection, house: &House, about: &About) -> Result<(String, String), DeskError> {
    let own = match about.event() {
        Some(event) => matricle_store::senders::of_event(conn, event)?,
        None => None,
    };
    Ok(own.unwrap_or_else(|| (house.name.clone(), house.email.clone())))
}

/// The confirmation that went to the same box: what comes after it stands in its thread.
fn confirmation_of(conn: &Connection, message: &Message) -> Result<Vec<String>, DeskError> {
    let confirmed = Trigger::On(Occasion::Confirmed);
    let Some(booking) = message.about.booking().filter(|_| message.trigger != confirmed) else {
        return Ok(Vec::new());
    };
    if message.way != Way::Mail || !matches!(message.trigger, Trigger::On(_)) {
        return Ok(Vec::new());
    }
    let all = matricle_store::outbox::of_booking(conn, booking)?;
    let of_it = |m: &&Message| {
        m.trigger == confirmed
            && m.way == Way::Mail
            && m.state == MessageState::Sent
            && m.address == message.address
    };
    Ok(all.iter().rfind(of_it).map(|m| m.message_id.clone()).into_iter().collect())
}

/// Puts a message together from what is known now.
///
/// # Errors
/// What it is about is gone; its template cannot be read; a file cannot be drawn.
pub(crate) async fn compose(desk: &Desk, message: &Message) -> Result<Composed, DeskError> {
    Ok(compose_for(desk, message).await?.0)
}

/// What a message is made of.
struct Loaded {
    template: templates::Template,
    about: About,
    house: House,
    from: (String, String),
    values: Values,
    own: Vec<File>,
    badges: Option<crate::badges::ToDraw>,
    answers: Vec<String>,
}

fn load(
    desk: &Desk,
    conn: &Connection,
    message: &Message,
    now: Timestamp,
) -> Result<Loaded, DeskError> {
    let template = template_of(conn, message)?;
    let about = values::about(conn, message, now)?;
    let house = house_of(conn)?;
    let badges = match template.files.contains(&Goes::Badge) {
        true => values::badges(conn, &about, message)?,
        false => None,
    };
    Ok(Loaded {
        from: sender(conn, &house, &about)?,
        values: values::of(desk, conn, &about, message, now)?,
        own: files_of_house(conn, &template.files)?,
        answers: confirmation_of(conn, message)?,
        badges,
        template,
        about,
        house,
    })
}

/// The words of a message; what goes to somebody who did not ask names nobody in its subject.
fn written(
    template: &templates::Template,
    values: &Values,
    unasked: bool,
) -> Result<Letter, DeskError> {
    let unreadable = |wrong: Vec<matricle_core::messages::template::Wrong>| {
        let said: Vec<String> = wrong.iter().map(ToString::to_string).collect();
        DeskError::Internal(format!("the template “{}”: {}", template.name, said.join("; ")))
    };
    let mut letter = write(template, values).map_err(unreadable)?;
    if unasked {
        let subject = Template::read(&template.subject).map_err(unreadable)?;
        letter.subject = subject.write(&values::for_a_stranger(values), Form::Line);
    }
    Ok(letter)
}

/// The same for one that is to be handed over, with what it is made of where it was tried before:
/// as long as that is the same, it is put together once.
///
/// # Errors
/// As [`compose`].
pub(crate) async fn compose_for(
    desk: &Desk,
    message: &Message,
) -> Result<(Composed, Option<Print>), DeskError> {
    let (with, message) = (desk.clone(), message.clone());
    let now = desk.clock.now();
    let loaded = {
        let (desk, message) = (with.clone(), message.clone());
        with.store.read(move |conn| load(&desk, conn, &message, now)).await?
    };
    let Loaded { template, about, house, from, values, own, badges, answers } = loaded;
    let print = (message.tries > 1).then(|| {
        let own: Vec<_> = own.iter().map(|f| (&f.name, f.bytes.len())).collect();
        let template = (&template.subject, &template.body, &template.plain);
        print_of(&(
            template,
            &about,
            &from,
            &values,
            own,
            &badges,
            (&message.message_id, &answers),
            &message.address,
        ))
    });
    if let Some(print) = &print
        && let Some(known) = kept::get(message.id, print)
    {
        return Ok((known, Some(*print)));
    }
    let composed = crate::bench::in_turn(crate::bench::Takes::Place, move || {
        let letter = written(&template, &values, message.unasked)?;
        if message.way != Way::Mail {
            let words = letter.text.clone();
            return Ok(Composed {
                ready: Ready::Words(words.clone()),
                subject: letter.subject,
                words,
            });
        }
        let subject = if about.is_test() { format!("Test: {}", letter.subject) } else { letter.subject };
        let mut files = files(&about, &template.files, now)?;
        let calendar = template.files.contains(&Goes::Calendar).then(|| {
            about.calendar(&with, &message, values::receiver(&values), now)
        });
        files.extend(badges.map(|b| b.file(now)).transpose()?);
        let own = Own::in_mail(&letter.body, own);
        files.extend(own.attached);
        let unsubscribe = (message.trigger == Trigger::On(Occasion::Announced))
            .then(|| with.unsubscribe_url(&message.address));
        let foot = unsubscribe.as_ref().map_or_else(String::new, |to| {
            format!("No more announcements of this house? <a href=\"{to}\" class=\"link\">One click ends them</a>. What you book is still confirmed.")
        });
        let accent = if house.accent.is_empty() { ACCENT } else { &house.accent };
        let head = Letterhead { house: &house.name, accent, subject: &subject, foot: &foot };
        let html = letter::dress(&own.body, head);
        let text = match &unsubscribe {
            Some(to) => format!("{}\n\nNo more announcements: {to}", letter.text),
            None => letter.text.clone(),
        };
        let mut words = text.clone();
        let calendar = calendar.flatten();
        for file in files.iter().chain(&calendar) {
            words.push_str(&format!("\n\n[{}, {} bytes]", file.name, file.bytes.len()));
        }
        let codes = letter.body.contains("\"cid:code-");
        let mut pictures = if codes { about.pictures() } else { Vec::new() };
        pictures.extend(own.shown);
        let mail = Mail {
            from,
            reply_to: None,
            to: (values::receiver(&values), message.address.clone()),
            subject: subject.clone(),
            message_id: message.message_id.clone(),
            answers,
            by_hand: false,
            date: now,
            text,
            html,
            pictures,
            calendar,
            attachments: files,
            list: unsubscribe.map(|to| (to, format!("announcements.{}", with.host()))),
        };
        Ok(Composed { ready: Ready::Mail(Box::new(mail::message(&mail)?)), subject, words })
    })
    .await?;
    Ok((composed, print))
}

/// The files of the house that go with a message.
pub(crate) fn files_of_house(conn: &Connection, goes: &[Goes]) -> Result<Vec<File>, DeskError> {
    let mut found = Vec::new();
    for id in goes.iter().filter_map(|g| g.file()) {
        if let Some((name, media_type, bytes)) = house_files::by_id(conn, id)? {
            found.push(File { name, media_type, bytes });
        }
    }
    Ok(found)
}

/// Words with the files of the house that go with them: a picture whose name stands by itself is
/// shown there, all others are attached.
pub(crate) struct Own {
    pub(crate) body: String,
    pub(crate) shown: Vec<File>,
    pub(crate) attached: Vec<File>,
}

impl Own {
    /// For a mail, whose pictures are parts of it (RFC 2392).
    pub(crate) fn in_mail(body: &str, files: Vec<File>) -> Self {
        let (body, names) = shown(body, &files, |n, _| format!("cid:file-{n}"));
        let (mut pictures, mut attached) = (Vec::new(), Vec::new());
        for (n, file) in files.into_iter().enumerate() {
            if names.contains(&file.name) {
                pictures.push(File { name: format!("file-{n}"), ..file });
            } else {
                attached.push(file);
            }
        }
        Self { body, shown: pictures, attached }
    }

    /// The words alone, for a page, which has its pictures in itself (RFC 2397).
    pub(crate) fn in_page(body: &str, files: &[File]) -> String {
        let data = |_: usize, file: &File| {
            format!("data:{};base64,{}", file.media_type, STANDARD.encode(&file.bytes))
        };
        shown(body, files, data).0
    }
}

/// Words with the pictures among files where their names stand, and the names of those.
fn shown(
    body: &str,
    files: &[File],
    source: impl Fn(usize, &File) -> String,
) -> (String, Vec<String>) {
    let pictures = files.iter().enumerate().filter(|(_, f)| f.media_type.starts_with("image/"));
    let named: Vec<(String, String)> =
        pictures.map(|(n, f)| (f.name.clone(), source(n, f))).collect();
    letter::with_pictures(body, &named)
}

/// What goes with a message, as its template says and the program makes it.
fn files(about: &About, goes: &[Goes], now: Timestamp) -> Result<Vec<File>, DeskError> {
    let mut files = Vec::new();
    for file in goes {
        files.extend(match file {
            Goes::Tickets => about.tickets(now)?,
            Goes::Bill => about.bill()?,
            Goes::Roster => about.roster(now)?,
            // Drawn with what was read for it; for calendars, among the words; files of the house
            // go by themselves.
            Goes::Badge | Goes::Calendar | Goes::File(_) => None,
        });
    }
    Ok(files)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_link_without_its_key_opens_nothing() {
        let here = "https://club.example";
        let text = "See https://club.example/events/bees (https://club.example/booking/KRT/k3y), \
                    <a href=\"https://club.example/ticket/9/k3y\">it</a> https://club.example";
        let without = keyless(here, text);
        assert_eq!(
            without,
            "See https://club.example/events/bees (https://club.example/booking/…), \
             <a href=\"https://club.example/ticket/…\">it</a> https://club.example"
        );
        assert_eq!(keyless(here, &without), without);
    }
}
