//! Announcements: words to chosen people of one or several dates, now or at a time.

use std::collections::HashSet;

use jiff::Timestamp;
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::messages::cue::{Trigger, Way};
use matricle_core::messages::due::{Reader, Seen, WhyNot};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::people::staff::{Right, require};
use matricle_core::seats::waiting::Stands;
use matricle_core::{BookingId, DateId, EventId, TemplateId, TicketTypeId};
use matricle_formats::rich;
use matricle_store::announcements::{self, Announcement};
use matricle_store::events;
use matricle_store::house::House;
use matricle_store::outbox::{self, About, Message, NewMessage};
use matricle_store::people::Staff;
use matricle_store::readers::{self, Booked, Which};
use matricle_store::templates::{self, Template};
use matricle_store::{Connection, Tx, invited, replies as replied, waiting};

use crate::messages::{values, wordings};
use crate::planning::replies;
use crate::telling::in_id;
use crate::{Desk, DeskError, house_of};

fields! {
    CONFIRMED: Tick = "confirmed", "are booked";
    ASKED: Tick = "asked", "have asked and wait for a yes";
    TO_PAY: Tick = "to_pay", "have something to pay", "also of those who are booked";
    WAITING: Tick = "waiting", "wait";
    SILENT: Tick = "silent", "were invited to the event and have not replied",
        "with the three replies under your words";
    ANSWER: Line = "answer", "Who gave this answer";
    SUBJECT: Line = "subject", "Subject" needed;
    AT: Moment = "at", "When; left empty, now";
}

/// The three replies, for those who were invited.
const REPLIES: &str = "<p>{{if yes link}}</p><p>Are you coming? <a href=\"field:yes link\">Yes</a>, \
    <a href=\"field:maybe link\">maybe</a> or <a href=\"field:no link\">no</a>.</p><p>{{end}}</p>";
/// Longest words, in characters.
const LONGEST: usize = 20_000;

pub use matricle_core::messages::announced::Chosen;

/// Somebody who would get it, or not.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct To {
    /// The booking, if they have booked.
    pub booking: Option<BookingId>,
    /// The place on a list, if they wait.
    pub waiter: Option<i64>,
    /// Who, as the outbox tells them apart.
    pub reader: String,
    /// Their name.
    pub name: String,
    /// Their address.
    pub email: String,
    /// Why they do not get it.
    pub not: Option<WhyNot>,
}

/// Why an address gets no announcement.
fn not_to(conn: &Connection, email: &str) -> Result<Option<WhyNot>, DeskError> {
    if email.is_empty() {
        return Ok(Some(WhyNot::NoAddress));
    }
    let known = outbox::address(conn, email)?;
    Ok(match (known.refused, known.unsubscribed) {
        (Some(_), _) => Some(WhyNot::Bounced),
        (None, true) => Some(WhyNot::Unsubscribed),
        (None, false) => None,
    })
}

/// Everybody chosen: each address once.
fn people(conn: &Connection, event: EventId, chosen: &Chosen) -> Result<Vec<To>, DeskError> {
    let mut found: Vec<To> = Vec::new();
    let mut known: HashSet<String> = HashSet::new();
    let mut add = |to: To| {
        if to.email.is_empty() || known.insert(to.email.to_ascii_lowercase()) {
            found.push(to);
        }
    };
    for date in events::dates_of(conn, event)?.iter().filter(|d| chosen.dates.contains(&d.id)) {
        if chosen.is_of_bookings() {
            for b in readers::booked(conn, Which::all_of(date.id), &[])? {
                if b.date != date.id || !is_chosen(conn, chosen, &b)? {
                    continue;
                }
                add(To {
                    booking: Some(b.booking),
                    waiter: None,
                    reader: b.person.reader.key(),
                    name: b.name.clone(),
                    email: b.person.email.clone(),
                    not: not_to(conn, &b.person.email)?,
                });
            }
        }
        if chosen.waiting {
            for w in waiting::line(conn, date.id)? {
                add(To {
                    booking: None,
                    waiter: Some(w.id),
                    reader: Reader::Waiter(w.id).key(),
                    not: not_to(conn, &w.email)?,
                    name: w.name,
                    email: w.email,
                });
            }
        }
    }
    if chosen.silent {
        for (name, email) in replies::silent(conn, event)? {
            add(To {
                booking: None,
                waiter: None,
                reader: Reader::Address(email.clone()).key(),
                not: not_to(conn, &email)?,
                name,
                email,
            });
        }
    }
    Ok(found)
}

/// Whether somebody of a booking is asked for, as things stand.
fn is_chosen(conn: &Connection, chosen: &Chosen, who: &Booked) -> Result<bool, DeskError> {
    let answers = match chosen.answer.trim() {
        "" => Vec::new(),
        _ => matricle_store::bookings::answers(conn, who.booking)?,
    };
    Ok(chosen.takes(&who.person, answers.iter().map(|a| a.answer.as_str())))
}

/// Whether the reader of an announcement still is one whom it is for: asked when it goes. Whoever
/// has paid, replied, got a seat or cancelled meanwhile is not told what is not true of them.
pub(crate) fn is_still_for(conn: &Connection, message: &Message) -> Result<bool, DeskError> {
    let Some(id) = message.announcement else { return Ok(true) };
    let Some(found) = announcements::by_id(conn, id)? else { return Ok(false) };
    // One that was made before it was kept who was chosen goes to all who were.
    let Ok(chosen) = serde_json::from_str::<Chosen>(&found.chosen) else { return Ok(true) };
    if let Some(waiter) = message.waiter
        && waiting::by_id(conn, waiter)?.is_some_and(|w| w.stands == Stands::Waiting)
    {
        return Ok(true);
    }
    let own = match message.about {
        About::Booking(booking) => Some(booking),
        _ => None,
    };
    // The booking that they were found by, or another of theirs: each address is written to once.
    let others = matricle_store::letters::bookings_of(conn, &message.address)?;
    let bookings = own.into_iter().chain(others.into_iter().map(|b| b.booking));
    if chosen.is_of_bookings() {
        for booking in bookings {
            for who in readers::booked(conn, Which::One(booking), &[])? {
                let theirs = who.person.email.eq_ignore_ascii_case(&message.address);
                if theirs && chosen.dates.contains(&who.date) && is_chosen(conn, &chosen, &who)? {
                    return Ok(true);
                }
            }
        }
    }
    let is_silent = chosen.silent
        && invited::by_email(conn, found.event, &message.address)?
            .is_some_and(|i| i.handed_to.is_empty())
        && replied::of(conn, found.event, &message.address)?.is_none()
        && !matricle_store::bookings::booked_already(
            conn,
            found.event,
            &message.address,
            BookingId(0),
        )?;
    Ok(is_silent)
}

/// What sending would come to, before it is done.
#[derive(Debug, Clone)]
pub struct Before {
    /// The house.
    pub house: House,
    /// The event's title.
    pub title: String,
    /// Its dates.
    pub dates: Vec<events::Date>,
    /// Its tickets.
    pub tickets: Vec<(TicketTypeId, String)>,
    /// Bookings that live.
    pub bookings: u32,
    /// Who would get it.
    pub gets: Vec<To>,
    /// Who would not, with why.
    pub not: Vec<To>,
    /// Announcements of before.
    pub all: Vec<Announcement>,
}

/// Reads who is chosen.
#[must_use]
pub fn chosen(form: &Form) -> Chosen {
    Chosen {
        dates: form.all("date").iter().filter_map(|d| d.parse().ok().map(DateId)).collect(),
        tickets: form
            .all("ticket")
            .iter()
            .filter_map(|t| t.parse().ok().map(TicketTypeId))
            .collect(),
        confirmed: form.ticked(CONFIRMED.name),
        asked: form.ticked(ASKED.name),
        to_pay: form.ticked(TO_PAY.name),
        waiting: form.ticked(WAITING.name),
        silent: form.ticked(SILENT.name),
        seen: match form.get("seen") {
            "came" => Some(Seen::In),
            "missed" => Some(Seen::NotIn),
            _ => None,
        },
        answer: form.get(ANSWER.name).to_owned(),
    }
}

/// What an announcement would come to.
///
/// # Errors
/// The role may not; there is no such event.
pub async fn before(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    chosen: Chosen,
) -> Result<Before, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            let found = events::by_id(conn, event)?.ok_or(DeskError::NotFound)?;
            let rows = events::ticket_rows(conn, event)?;
            let (gets, not) =
                people(conn, event, &chosen)?.into_iter().partition(|to| to.not.is_none());
            Ok(Before {
                house: house_of(conn)?,
                title: found.title,
                dates: events::dates_of(conn, event)?,
                tickets: rows.into_iter().map(|t| (t.id, t.plan.name)).collect(),
                bookings: matricle_store::bookings::count_live(conn, event)?,
                gets,
                not,
                all: announcements::all(conn, Some(event))?,
            })
        })
        .await
}

/// An announcement as one of those reads it who get it.
#[derive(Debug, Clone)]
pub struct AsRead {
    /// Its subject.
    pub subject: String,
    /// The whole mail in HTML.
    pub html: String,
    /// As plain text.
    pub text: String,
}

/// What an announcement says to one of its readers, as typed so far; nothing where its words cannot
/// be read yet. Links that open a booking keep their keys only for a role that may change it.
///
/// # Errors
/// The role may not; there is no such event; the store fails.
pub async fn as_read(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    form: Form,
    to: To,
) -> Result<Option<AsRead>, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let (with, now) = (desk.clone(), desk.clock.now());
    let may = staff.role.may(Right::ChangeBookings);
    let (template, form) = worded(desk, event, form).await?;
    if !form.wrong.is_empty() {
        return Ok(None);
    }
    desk.store
        .read(move |conn| {
            let message = Message {
                waiter: to.waiter,
                reader: to.reader,
                address: to.email,
                ..wordings::as_if(
                    to.booking.map_or(About::Event(event), About::Booking),
                    Trigger::On(Occasion::Announced),
                )
            };
            let about = values::about(conn, &message, now)?;
            let mut said = values::of(&with, conn, &about, &message, now)?;
            if !may {
                wordings::without_keys(&with, &mut said);
            }
            let Ok(letter) = crate::messages::write(&template, &said) else { return Ok(None) };
            let html = wordings::dressed(&house_of(conn)?, &letter, &letter.body);
            Ok(Some(AsRead { subject: letter.subject, html, text: letter.text }))
        })
        .await
}

/// Sends an announcement, as typed so far, to whoever writes it, and to nobody else. Gives their
/// address, and why it does not go there, if it does not.
///
/// # Errors
/// [`DeskError::Form`] as for [`send`]; the role may not.
pub async fn test(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    form: Form,
) -> Result<(String, Option<WhyNot>), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let (address, name) = (staff.email.clone(), staff.name.clone());
    let (mut words, form) = worded(desk, event, form).await?;
    words.subject = format!("Test: {}", words.subject);
    form.done().map_err(DeskError::Form)?;
    let sent = desk
        .store
        .write(move |tx| {
            let to = To {
                booking: None,
                waiter: None,
                reader: Reader::Address(address.clone()).key(),
                name,
                not: not_to(tx, &address)?,
                email: address,
            };
            if to.not.is_none() {
                let template = templates::save(tx, &words, &turn.by.name, turn.now)?;
                templates::retire(tx, template, turn.now)?;
                plan(tx, event, Sends::Test(template), template, &to, turn.now, &turn.host)?;
            }
            Ok::<_, DeskError>((to.email, to.not))
        })
        .await?;
    desk.wake.all();
    Ok(sent)
}

/// The words of a form, read away from the async threads and from those that write; what is wrong
/// with them stands at the form.
async fn worded(
    desk: &Desk,
    event: EventId,
    mut form: Form,
) -> Result<(Template, Form), DeskError> {
    let found = desk.store.read(move |conn| events::by_id(conn, event)).await?;
    let title = found.ok_or(DeskError::NotFound)?.title;
    crate::off_thread(move || {
        let words = read(&mut form, &title, event);
        Ok((words, form))
    })
    .await
}

/// Sends words to everybody chosen, now or at a time.
///
/// # Errors
/// [`DeskError::Form`]: no subject, no words, a field that is none, a time that is past, nobody
/// who would get it; the role may not.
pub async fn send(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    mut form: Form,
) -> Result<(i64, u32), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    // Who gets it is read before anything is written: thousands are looked up, and the doors wait
    // for nobody's announcement. Whoever cancels in between is a moment too late.
    let now = turn.now;
    let (whom, all, form) = desk
        .store
        .read(move |conn| {
            let chosen = chosen(&form);
            let all = people(conn, event, &chosen)?;
            if all.iter().all(|to| to.not.is_some()) {
                form.fault(CONFIRMED, Fault::Nobody);
            }
            let kept = serde_json::to_string(&chosen)
                .map_err(|e| DeskError::Internal(format!("who was chosen: {e}")))?;
            Ok::<_, DeskError>(((in_words(conn, event, &chosen)?, kept), all, form))
        })
        .await?;
    let (words, mut form) = worded(desk, event, form).await?;
    let at = form.instant(AT.name, &desk.house().await?.zone).unwrap_or(now);
    if at < now {
        form.fault(AT, Fault::Past);
    }
    form.done().map_err(DeskError::Form)?;
    let sent = desk
        .store
        .write(move |tx| {
            let template = templates::save(tx, &words, &turn.by.name, turn.now)?;
            templates::retire(tx, template, turn.now)?;
            let id = announcements::add(
                tx,
                event,
                template,
                (&whom.0, &whom.1),
                &turn.by.name,
                turn.now,
            )?;
            let mut count = 0;
            for to in &all {
                plan(tx, event, Sends::Announcement(id), template, to, at, &turn.host)?;
                count += u32::from(to.not.is_none());
            }
            let what = format!("announced something to {}", matricle_formats::words::people(count));
            crate::planning::dates::log(tx, event, &turn, &what)?;
            Ok::<_, DeskError>((id, count))
        })
        .await?;
    desk.wake.all();
    Ok(sent)
}

/// Reads the words that a form has; what is wrong with them stands at its field.
fn read(form: &mut Form, title: &str, event: EventId) -> Template {
    let subject = matricle_core::words::text::line(form.get(SUBJECT.name));
    let body = rich::clean_template(&form.text("words", LONGEST));
    wordings::check(form, [("subject", &subject), ("words", &body), ("", "")]);
    let name: String = subject.replace("{{event}}", title).chars().take(80).collect();
    Template {
        id: TemplateId(0),
        event: Some(event),
        name: format!("Announcement: {name}"),
        subject,
        // Whoever is invited and has not replied has the three replies under it.
        body: format!("<p>{{{{greeting}}}},</p>{body}{REPLIES}<p>{{{{house}}}}</p>"),
        plain: String::new(),
        files: Vec::new(),
        standard: String::new(),
        own_words: true,
    }
}

/// What a message belongs to.
#[derive(Debug, Clone, Copy)]
enum Sends {
    /// An announcement, by its key.
    Announcement(i64),
    /// A test of one that is being written, by its wording.
    Test(TemplateId),
}

fn plan(
    tx: &Tx<'_>,
    event: EventId,
    sends: Sends,
    template: TemplateId,
    to: &To,
    at: Timestamp,
    host: &str,
) -> Result<(), DeskError> {
    let (announcement, id, in_message_id) = match sends {
        Sends::Announcement(id) => (Some(id), format!("announcement {id}"), format!("a{id}")),
        Sends::Test(of) => (None, format!("test of {}", of.0), format!("try{}", of.0)),
    };
    outbox::plan(
        tx,
        &NewMessage {
            waiter: to.waiter,
            announcement,
            template: Some(template),
            unique: &format!("{id} {}", to.reader),
            message_id: &format!("{in_message_id}.{}@{host}", in_id(&to.reader)),
            bulk: announcement.is_some(),
            skipped: to.not.map_or("", WhyNot::words),
            ..NewMessage::to(
                to.booking.map_or(About::Event(event), About::Booking),
                Trigger::On(Occasion::Announced),
                &to.reader,
                (Way::Mail, &to.email),
                &Knows::default(),
                at,
            )
        },
    )?;
    Ok(())
}

fn in_words(conn: &Connection, event: EventId, chosen: &Chosen) -> Result<String, DeskError> {
    let mut said = Vec::new();
    let kinds = [
        (chosen.confirmed, "confirmed"),
        (chosen.asked, "asked"),
        (chosen.to_pay, "to pay"),
        (chosen.waiting, "waiting"),
        (chosen.silent, "invited, without a reply"),
    ];
    said.push(kinds.iter().filter(|k| k.0).map(|k| k.1).collect::<Vec<_>>().join(", "));
    match chosen.seen {
        Some(Seen::In) => said.push("who came".into()),
        Some(Seen::NotIn) => said.push("who did not come".into()),
        None => {}
    }
    if !chosen.answer.is_empty() {
        said.push(format!("who answered {}", chosen.answer));
    }
    let dates: Vec<String> = events::dates_of(conn, event)?
        .iter()
        .filter(|d| chosen.dates.contains(&d.id))
        .map(|d| matricle_formats::words::long_day(d.span.starts.date()))
        .collect();
    said.push(dates.join(", "));
    Ok(said.join("; "))
}

/// Stops an announcement midway, or goes on with it.
///
/// # Errors
/// The role may not; there is no such announcement.
pub async fn stop(desk: &Desk, staff: &Staff, id: i64, stop: bool) -> Result<EventId, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let event = desk
        .store
        .write(move |tx| {
            let found = announcements::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            announcements::stop(tx, id, stop.then_some(turn.now), turn.now)?;
            let what =
                if stop { "stopped an announcement" } else { "went on with an announcement" };
            crate::planning::dates::log(tx, found.event, &turn, what)?;
            Ok::<_, DeskError>(found.event)
        })
        .await?;
    desk.wake.all();
    Ok(event)
}

/// Announcements of all events, the latest first.
pub async fn all(desk: &Desk, staff: &Staff) -> Result<(House, Vec<Announcement>), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(|conn| Ok::<_, DeskError>((house_of(conn)?, announcements::all(conn, None)?)))
        .await
}
