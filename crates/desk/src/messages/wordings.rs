//! Templates: written, checked, looked at before anybody gets them.

use jiff::Timestamp;
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::messages::cue::{Cue, Trigger, Way};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::messages::template::{self, Value, Values, Wrong};
use matricle_core::messages::text_message::{Counted, count};
use matricle_core::people::staff::{Right, require};
use matricle_core::words::codes::Reference;
use matricle_core::{BookingId, CueId, EventId, MessageId, TemplateId};
use matricle_formats::letter;
use matricle_formats::mail::{self, Mail};
use matricle_formats::rich;
use matricle_store::house::House;
use matricle_store::outbox::{About, Message, MessageState};
use matricle_store::people::Staff;
use matricle_store::templates::{self, Goes, Template, Wording};
use matricle_store::{Connection, Tx, bookings, cues};

use crate::acting::Turn;
use crate::messages::files::{MOST_TOGETHER, are_too_many};
use crate::messages::{ACCENT, Letter, Own, files_of_house, keyless, values, write};
use crate::{Desk, DeskError, house_of};

fields! {
    NAME: Line = "name", "Name", "For the list; nobody outside reads it." needed;
    SUBJECT: Line = "subject", "Subject" needed;
    PLAIN: Text(6, LONGEST_BODY) = "plain", "Plain words, for text messages too",
        "Left empty, it is made from the words above.";
}

/// Longest body, in characters.
const LONGEST_BODY: usize = 40_000;
/// What is chosen of the templates for words of its own.
pub const OWN_WORDS: &str = "own";
/// Most people whose empty fields are looked for at once.
pub const MOST_LOOKED_AT: u32 = 1_000;

/// A template with all about it.
#[derive(Debug, Clone)]
pub struct Opened {
    /// The house.
    pub house: House,
    /// The template.
    pub template: Template,
    /// The cues that speak with it.
    pub used: Vec<Cue>,
    /// Earlier wordings, the latest first.
    pub wordings: Vec<Wording>,
}

/// Opens a template of the house, or of an event.
///
/// # Errors
/// The role may not; there is no such template.
pub async fn open(desk: &Desk, staff: &Staff, id: TemplateId) -> Result<Opened, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            Ok(Opened {
                house: house_of(conn)?,
                template: templates::by_id(conn, id)?.ok_or(DeskError::NotFound)?,
                used: cues::using(conn, id)?,
                wordings: templates::wordings(conn, id)?,
            })
        })
        .await
}

/// For whom a template is looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Whose {
    /// Somebody made up.
    MadeUp,
    /// The booker of a booking.
    Booking(Reference),
}

/// A template as somebody would get it.
#[derive(Debug, Clone)]
pub struct Preview {
    /// The letter; or all that is wrong with the template.
    pub letter: Result<Letter, Vec<Wrong>>,
    /// The whole mail as HTML.
    pub html: String,
    /// How its text part counts as a text message.
    pub text: Counted,
    /// What each field says for them.
    pub says: Vec<(&'static str, &'static str, String)>,
    /// People it could be looked at with: reference as stored, name.
    pub people: Vec<(String, String)>,
    /// Fields that would be empty, for how many, and who for instance.
    pub empty: Vec<(&'static str, u32, Vec<String>)>,
    /// How many people were looked at for that, and whether there are more.
    pub looked_at: (u32, bool),
}

/// A message as if it were about something, to look at a template with: to the booker, of a
/// booking.
pub(super) fn as_if(about: About, trigger: Trigger) -> Message {
    Message {
        id: MessageId(0),
        about,
        date: None,
        waiter: None,
        announcement: None,
        trigger,
        cue: None,
        template: None,
        reader: match about {
            About::Booking(booking) => format!("b{booking}"),
            _ => String::new(),
        },
        way: Way::Mail,
        address: String::new(),
        message_id: String::new(),
        knows: Knows::default(),
        state: MessageState::Planned,
        reason: String::new(),
        planned_at: Timestamp::UNIX_EPOCH,
        by_hand: false,
        tries: 0,
        sent_at: None,
        answer: String::new(),
        last_error: None,
        unasked: false,
    }
}

fn values_for(
    desk: &Desk,
    conn: &Connection,
    booking: BookingId,
    now: Timestamp,
) -> Result<Values, DeskError> {
    let message = as_if(About::Booking(booking), Trigger::On(Occasion::Confirmed));
    let about = values::about(conn, &message, now)?;
    values::of(desk, conn, &about, &message, now)
}

/// Confirmed bookings a template can be looked at with, of an event or of all.
fn bookings_of(
    conn: &Connection,
    event: Option<EventId>,
    most: u32,
) -> Result<(Vec<bookings::Listed>, bool), DeskError> {
    let filter = bookings::Filter {
        event,
        state: Some(matricle_core::booking::State::Confirmed),
        most,
        ..bookings::Filter::default()
    };
    let found = bookings::list(conn, &filter)?;
    let more = u32::try_from(found.rows.len()).unwrap_or(0) < found.count;
    Ok((found.rows, more))
}

/// A template, as typed so far, as somebody would get it. Links that open a booking keep their
/// keys only for a role that may change it.
///
/// # Errors
/// The role may not; there is no such booking.
pub async fn preview(
    desk: &Desk,
    staff: &Staff,
    template: Template,
    event: Option<EventId>,
    whose: Whose,
    all: bool,
) -> Result<Preview, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let (now, with) = (desk.clock.now(), desk.clone());
    let may = staff.role.may(Right::ChangeBookings);
    desk.store
        .read(move |conn| {
            let house = house_of(conn)?;
            let made_up = values::made_up();
            let values = match whose {
                Whose::MadeUp => made_up,
                Whose::Booking(reference) => {
                    let booking =
                        bookings::by_reference(conn, reference)?.ok_or(DeskError::NotFound)?;
                    let mut values = values_for(&with, conn, booking.id, now)?;
                    if !may {
                        without_keys(&with, &mut values);
                    }
                    values
                }
            };
            let letter = write(&template, &values);
            let (people, _) = bookings_of(conn, event, 20)?;
            let people = people
                .iter()
                .map(|l| {
                    (
                        l.booking.reference.as_str().to_owned(),
                        format!("{}, {}", l.booking.name, l.title),
                    )
                })
                .collect();
            let mut empty: Vec<(&'static str, u32, Vec<String>)> = Vec::new();
            let mut looked_at = (0, false);
            if all && letter.is_ok() {
                let (rows, more) = bookings_of(conn, event, MOST_LOOKED_AT)?;
                looked_at = (u32::try_from(rows.len()).unwrap_or(0), more);
                for row in rows {
                    let values = values_for(&with, conn, row.booking.id, now)?;
                    let Ok(letter) = write(&template, &values) else { continue };
                    for name in letter.empty {
                        match empty.iter_mut().find(|(known, _, _)| *known == name) {
                            Some((_, n, who)) => {
                                *n += 1;
                                if who.len() < 5 {
                                    who.push(row.booking.name.clone());
                                }
                            }
                            None => empty.push((name, 1, vec![row.booking.name.clone()])),
                        }
                    }
                }
            }
            let own = files_of_house(conn, &template.files)?;
            let html = letter.as_ref().map_or_else(
                |_| String::new(),
                |l| dressed(&house, l, &Own::in_page(&l.body, &own)),
            );
            let text = count(letter.as_ref().map_or("", |l| l.text.as_str()));
            let says = template::FIELDS
                .iter()
                .map(|f| {
                    let said = values.get(f.name).map_or_else(String::new, |v| {
                        let one = template::Template::read(&format!("{{{{{}}}}}", f.name));
                        match (one, v) {
                            (_, Value::Holds(holds)) => {
                                if *holds {
                                    "yes".into()
                                } else {
                                    "no".into()
                                }
                            }
                            (Ok(one), _) => one.write(&values, template::Form::Line),
                            (Err(_), _) => String::new(),
                        }
                    });
                    (f.name, f.says, said)
                })
                .collect();
            Ok(Preview { letter, html, text, says, people, empty, looked_at })
        })
        .await
}

/// Takes the keys out of links: they are their reader's alone.
pub(super) fn without_keys(desk: &Desk, values: &mut Values) {
    for value in values.values_mut() {
        if let Value::Link(to) = value {
            *to = keyless(&desk.public_url, to);
        }
    }
}

/// A letter in the house's letterhead.
pub(super) fn dressed(house: &House, letter: &Letter, body: &str) -> String {
    let accent = if house.accent.is_empty() { ACCENT } else { &house.accent };
    let head =
        letter::Letterhead { house: &house.name, accent, subject: &letter.subject, foot: "" };
    letter::dress(body, head)
}

/// Subject and words as a form has them.
fn typed(form: &mut Form) -> (String, String) {
    let subject = matricle_core::words::text::line(form.get(SUBJECT.name));
    (subject, rich::clean_template(&form.text("body", LONGEST_BODY)))
}

/// The words that were typed on the page of a cue: in place of what the template says that they
/// were made from, or of their own. Nothing where they are as they were.
pub(super) fn typed_with_cue(
    form: &mut Form,
    chosen: Option<&Template>,
    of: Option<&Template>,
    event: Option<EventId>,
) -> Option<Template> {
    let (subject, body) = typed(form);
    let same = |t: &Template| t.subject == subject && rich::clean_template(&t.body) == body;
    let own = form.get("template") == OWN_WORDS;
    let nothing = subject.is_empty() && letter::text_of(&body).is_empty();
    if !own && of.map_or(nothing, same) {
        return None;
    }
    if !own && of.map(|t| t.id) != chosen.map(|t| t.id) {
        form.fault("template", Fault::OtherWords);
        return None;
    }
    let before = chosen.filter(|_| !own);
    check(form, [("subject", &subject), ("body", &body), ("plain", "")]);
    Some(Template {
        id: before.filter(|b| b.event == event).map_or(TemplateId(0), |b| b.id),
        event,
        name: before.map_or_else(|| plain_name(&subject), |b| b.name.clone()),
        plain: before.map_or_else(String::new, |b| b.plain.clone()),
        files: before.map_or_else(Vec::new, |b| b.files.clone()),
        standard: before.map_or_else(String::new, |b| b.standard.clone()),
        subject,
        body,
        own_words: true,
    })
}

/// What a template is called in lists that has no name yet: its subject, without the braces.
fn plain_name(subject: &str) -> String {
    let name: String = subject.chars().filter(|c| !matches!(c, '{' | '}')).take(80).collect();
    matricle_core::words::text::line(&name)
}

/// Reads the template that a form describes; what is wrong with it stands at its field.
pub fn read(form: &mut Form, before: Option<&Template>, event: Option<EventId>) -> Template {
    let name = form.take(&NAME);
    let (subject, body) = typed(form);
    let plain = form.take(&PLAIN);
    check(form, [("subject", &subject), ("body", &body), ("plain", &plain)]);
    Template {
        id: before.filter(|b| b.event == event).map_or(TemplateId(0), |b| b.id),
        event,
        name,
        subject,
        body,
        plain,
        files: form.all("goes").iter().filter_map(|key| Goes::from_key(key)).collect(),
        standard: before.map_or_else(String::new, |b| b.standard.clone()),
        own_words: true,
    }
}

/// What is wrong with subject, body and text part, each beside the name of its field.
pub(super) fn check(form: &mut Form, [subject, body, plain]: [(&str, &str); 3]) {
    let first = |wrong: Vec<Wrong>| wrong.into_iter().next();
    let of_subject = match template::Template::read(subject.1) {
        _ if subject.1.is_empty() => Some(Wrong::NoSubject),
        Err(wrong) => first(wrong),
        Ok(read) => read.block().map(|name| Wrong::Block { name }),
    };
    let of_body = match letter::read_body(body.1) {
        _ if letter::text_of(body.1).is_empty() => Some(Wrong::NoWords),
        read => read.err().and_then(first),
    };
    let of_plain = template::Template::read(plain.1).err().and_then(first);
    for (field, wrong) in [(subject.0, of_subject), (body.0, of_body), (plain.0, of_plain)] {
        if let Some(wrong) = wrong {
            form.fault(field, Fault::Words(wrong));
        }
    }
}

/// The right it takes: an event's words are planning, the house's are setting it up.
const fn right_of(event: Option<EventId>) -> Right {
    if event.is_some() { Right::PlanEvents } else { Right::SetHouseUp }
}

/// Saves a template: a new one, or over another. An event's change of one of the house becomes
/// its own, and its cues speak with it.
///
/// # Errors
/// [`DeskError::Form`] with all that is wrong; the role may not.
pub async fn save(
    desk: &Desk,
    staff: &Staff,
    event: Option<EventId>,
    id: Option<TemplateId>,
    mut form: Form,
) -> Result<TemplateId, DeskError> {
    let turn = desk.turn_of(staff, right_of(event))?;
    let saved = desk
        .store
        .write(move |tx| {
            let before = match id {
                Some(id) => Some(templates::by_id(tx, id)?.ok_or(DeskError::NotFound)?),
                None => None,
            };
            if before.as_ref().is_some_and(|b| b.event.is_some() && b.event != event) {
                return Err(DeskError::NotFound);
            }
            let new = read(&mut form, before.as_ref(), event);
            // Its cues' readers have to have what it says.
            for cue in id.map_or(Ok(Vec::new()), |id| cues::using(tx, id))? {
                check_readers(&mut form, &new, &cue);
            }
            if are_too_many(tx, &new.files)? {
                form.fault("goes", Fault::FileTooLarge(MOST_TOGETHER));
            }
            form.done().map_err(DeskError::Form)?;
            let saved = templates::save(tx, &new, &turn.by.name, turn.now)?;
            reworded(tx, before.as_ref(), (saved, &new), &turn)?;
            Ok::<_, DeskError>(saved)
        })
        .await?;
    desk.wake.all();
    Ok(saved)
}

/// What a template says that the readers of a cue do not have, each at its field.
pub(super) fn check_readers(form: &mut Form, words: &Template, cue: &Cue) {
    let subject = template::Template::read(&words.subject);
    for (field, read) in [("subject", subject), ("body", letter::read_body(&words.body))] {
        let Ok(read) = read else { continue };
        for wrong in read.not_theirs(cue).into_iter().take(1) {
            form.fault(field, Fault::Words(wrong));
        }
    }
}

/// After words were saved: an event's in place of the house's are what its cues speak with; and
/// it is written down.
pub(super) fn reworded(
    tx: &Tx<'_>,
    before: Option<&Template>,
    (saved, new): (TemplateId, &Template),
    turn: &Turn,
) -> Result<(), DeskError> {
    if let (Some(before), Some(event)) = (before, new.event)
        && before.event.is_none()
    {
        speak_with(tx, event, before.id, saved)?;
    }
    let what = format!("reworded “{}”", new.name);
    match new.event {
        Some(event) => crate::planning::dates::log(tx, event, turn, &what),
        None => turn.log(tx, &what, "/office/messages/templates"),
    }
}

/// The cues of an event that spoke with a template of the house speak with its own.
fn speak_with(
    tx: &Tx<'_>,
    event: EventId,
    old: TemplateId,
    new: TemplateId,
) -> Result<(), DeskError> {
    let all = cues::of(tx, Some(event))?;
    for cue in
        matricle_core::messages::cue::sheet(event, &all).into_iter().filter(|c| c.template == old)
    {
        let own = cue.event == Some(event);
        let changed = Cue {
            id: if own { cue.id } else { matricle_core::CueId(0) },
            event: Some(event),
            instead_of: if own { cue.instead_of } else { Some(cue.id) },
            template: new,
            ..cue
        };
        cues::save(tx, &changed, None)?;
    }
    Ok(())
}

/// Sends the words of a cue to oneself, as the latest who booked the event would get them, or
/// somebody made up.
///
/// # Errors
/// The template cannot be read any more, or the cue is none of this sheet; the mail server did not
/// take it; the role may not.
pub async fn try_cue(
    desk: &Desk,
    staff: &Staff,
    event: Option<EventId>,
    cue: CueId,
) -> Result<String, DeskError> {
    desk.turn_of(staff, right_of(event))?;
    let words = desk
        .store
        .read(move |conn| {
            let cue = cues::by_id(conn, cue)?.filter(|c| c.event.is_none() || c.event == event);
            let cue = cue.ok_or(DeskError::NotFound)?;
            templates::by_id(conn, cue.template)?.ok_or(DeskError::NotFound)
        })
        .await?;
    let shown = preview(desk, staff, words.clone(), event, Whose::MadeUp, false).await?;
    let latest = shown.people.first().and_then(|p| Reference::parse(&p.0));
    let whose = latest.map_or(Whose::MadeUp, Whose::Booking);
    let mut fields = vec![
        ("name".to_owned(), words.name),
        ("subject".into(), words.subject),
        ("body".into(), words.body),
        ("plain".into(), words.plain),
    ];
    fields.extend(words.files.iter().map(|g| ("goes".to_owned(), g.key())));
    to_oneself(desk, staff, event, Form::new(fields), whose).await
}

/// Sends a template as typed so far to oneself, as somebody would get it.
///
/// # Errors
/// [`DeskError::Form`] with all that is wrong with it; the mail server did not take it
/// ([`DeskError::MailAway`]); the role may not.
pub async fn to_oneself(
    desk: &Desk,
    staff: &Staff,
    event: Option<EventId>,
    mut form: Form,
    whose: Whose,
) -> Result<String, DeskError> {
    desk.turn_of(staff, right_of(event))?;
    let typed = read(&mut form, None, event);
    form.done().map_err(DeskError::Form)?;
    let goes = typed.files.clone();
    let files = desk.store.read(move |conn| files_of_house(conn, &goes)).await?;
    let preview = preview(desk, staff, typed, event, whose, false).await?;
    let Ok(letter) = preview.letter else { return Err(DeskError::NotFound) };
    let house = desk.house().await?;
    let own = Own::in_mail(&letter.body, files);
    let html = dressed(&house, &letter, &own.body);
    let mail = Mail {
        answers: Vec::new(),
        by_hand: false,
        from: (house.name.clone(), house.email.clone()),
        reply_to: None,
        to: (staff.name.clone(), staff.email.clone()),
        subject: format!("Test: {}", letter.subject),
        message_id: format!("{}@{}", uuid::Uuid::now_v7(), desk.host()),
        date: desk.clock.now(),
        text: letter.text,
        html,
        pictures: own.shown,
        calendar: None,
        attachments: own.attached,
        list: None,
    };
    let message = mail::message(&mail)?;
    desk.mailer.send(message).await.map_err(|_| DeskError::MailAway)?;
    Ok(staff.email.clone())
}
