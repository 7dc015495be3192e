//! Announcements: words to chosen people of one or several dates, now or at a time.

use std::collections::HashSet;

use jiff::Timestamp;
use matricle_core::cue::{Trigger, Way};
use matricle_core::cues::{Person, Reader, Seen, WhyNot};
use matricle_core::form::{Fault, Form};
use matricle_core::occasion::{Knows, Occasion};
use matricle_core::staff::{Right, require};
use matricle_core::{BookingId, DateId, EventId, TemplateId, TicketTypeId};
use matricle_formats::rich;
use matricle_store::announcements::{self, Announcement};
use matricle_store::events;
use matricle_store::house::House;
use matricle_store::outbox::{self, About, NewMessage};
use matricle_store::people::Staff;
use matricle_store::readers::{self, Which};
use matricle_store::templates::{self, Template};
use matricle_store::{Connection, Tx};

use crate::messages::wordings;
use crate::planning::replies;
use crate::telling::in_id;
use crate::{Desk, DeskError, house_of};

/// The three replies, for those who were invited.
const REPLIES: &str = "<p>{{if yes link}}</p><p>Are you coming? <a href=\"field:yes link\">Yes</a>, \
    <a href=\"field:maybe link\">maybe</a> or <a href=\"field:no link\">no</a>.</p><p>{{end}}</p>";
/// Longest words, in characters.
const LONGEST: usize = 20_000;

/// Who is asked for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Chosen {
    /// Of these dates; empty for none.
    pub dates: Vec<DateId>,
    /// With these tickets; empty for all.
    pub tickets: Vec<TicketTypeId>,
    /// Those who have booked and are confirmed.
    pub confirmed: bool,
    /// Those who have asked or have to pay.
    pub open: bool,
    /// Those who wait.
    pub waiting: bool,
    /// Those who were invited to the event and have not replied.
    pub silent: bool,
    /// Only who came, or only who missed it, of those who have booked.
    pub seen: Option<Seen>,
    /// Who gave this answer to any question; empty for all.
    pub answer: String,
}

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
    let answer = chosen.answer.trim().to_lowercase();
    for date in events::dates_of(conn, event)?.iter().filter(|d| chosen.dates.contains(&d.id)) {
        if chosen.confirmed || chosen.open {
            for b in readers::booked(conn, Which::all_of(date.id), &[])?
                .into_iter()
                .filter(|b| b.date == date.id)
            {
                let p: &Person = &b.person;
                let state = p.stands
                    && ((p.confirmed && chosen.confirmed) || (!p.confirmed && chosen.open));
                let ticket = chosen.tickets.is_empty()
                    || p.tickets.iter().any(|t| chosen.tickets.contains(t));
                let seen = chosen.seen.is_none_or(|s| s == p.seen);
                let answered = answer.is_empty()
                    || matricle_store::bookings::answers(conn, b.booking)?
                        .iter()
                        .any(|a| a.answer.to_lowercase().contains(&answer));
                if !(state && ticket && seen && answered) {
                    continue;
                }
                add(To {
                    booking: Some(b.booking),
                    waiter: None,
                    reader: p.reader.key(),
                    name: b.name.clone(),
                    email: p.email.clone(),
                    not: not_to(conn, &p.email)?,
                });
            }
        }
        if chosen.waiting {
            for w in matricle_store::waiting::line(conn, date.id)? {
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
        confirmed: form.ticked("confirmed"),
        open: form.ticked("open"),
        waiting: form.ticked("waiting"),
        silent: form.ticked("silent"),
        seen: match form.get("seen") {
            "came" => Some(Seen::In),
            "missed" => Some(Seen::NotIn),
            _ => None,
        },
        answer: form.get("answer").to_owned(),
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
    let (title, whom, all, mut form) = desk
        .store
        .read(move |conn| {
            let title = events::by_id(conn, event)?.ok_or(DeskError::NotFound)?.title;
            let chosen = chosen(&form);
            let all = people(conn, event, &chosen)?;
            if all.iter().all(|to| to.not.is_some()) {
                form.fault("confirmed", Fault::Nobody);
            }
            Ok::<_, DeskError>((title, in_words(conn, event, &chosen)?, all, form))
        })
        .await?;
    let words = read(&mut form, &title, event);
    let at = form.instant("at", &desk.house().await?.zone).unwrap_or(now);
    if at < now {
        form.fault("at", Fault::Past);
    }
    form.done().map_err(DeskError::Form)?;
    let sent = desk
        .store
        .write(move |tx| {
            let template = templates::save(tx, &words, &turn.by.name, turn.now)?;
            templates::retire(tx, template, turn.now)?;
            let id = announcements::add(tx, event, template, &whom, &turn.by.name, turn.now)?;
            let mut count = 0;
            for to in &all {
                plan(tx, event, id, template, to, at, &turn.host)?;
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
    let subject = matricle_core::text::line(form.get("subject"));
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

fn plan(
    tx: &Tx<'_>,
    event: EventId,
    id: i64,
    template: TemplateId,
    to: &To,
    at: Timestamp,
    host: &str,
) -> Result<(), DeskError> {
    outbox::plan(
        tx,
        &NewMessage {
            waiter: to.waiter,
            announcement: Some(id),
            template: Some(template),
            unique: &format!("announcement {id} {}", to.reader),
            message_id: &format!("a{id}.{}@{host}", in_id(&to.reader)),
            bulk: true,
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
        (chosen.open, "asked or to pay"),
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
///
/// # Errors
/// The role may not; the store fails.
pub async fn all(desk: &Desk, staff: &Staff) -> Result<(House, Vec<Announcement>), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(|conn| Ok::<_, DeskError>((house_of(conn)?, announcements::all(conn, None)?)))
        .await
}
