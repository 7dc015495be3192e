//! The cue sheet: what is sent by itself, looked at and changed.

use jiff::Timestamp;
use jiff::civil::Time;
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::messages::cue::{
    Cue, CueRefusal, Late, Only, Part, Paying, Side, Trigger, Unit, Way, When, Whom, sheet,
};
use matricle_core::messages::due::Outcome;
use matricle_core::messages::occasion::Moment;
use matricle_core::people::staff::{Right, Role, require};
use matricle_core::{CueId, DateId, EventId, QuestionId, TagId, TemplateId, TicketTypeId};
use matricle_formats::letter;
use matricle_store::events::{self, Event};
use matricle_store::house::House;
use matricle_store::outbox::{self, Counted};
use matricle_store::people::Staff;
use matricle_store::readers;
use matricle_store::senders::{self, Sender};
use matricle_store::templates::{self, Template};
use matricle_store::{Connection, Tx, cues, places};

use crate::acting::Turn;
use crate::messages::wordings::{self, OWN_WORDS};
use crate::telling::{GoingLine, to_bookers, will_go};
use crate::{Desk, DeskError, house_of};

fields! {
    ADDRESS: Line = "address", "The address, if it is to one";
    ANSWER: Line = "answer", "and answered";
    FIRST_VISIT: Tick = "first_visit", "Who come for the first time";
    NOBODY: Tick = "nobody", "Also when nobody has booked", "for hosts and people of the house";
    WAY: Choice = "way", "By which way";
}

/// A cue of a sheet, with what it came to.
#[derive(Debug, Clone)]
pub struct CueLine {
    /// The cue.
    pub cue: Cue,
    /// The name of its template.
    pub template: String,
    /// The subject of it, as written.
    pub subject: String,
    /// What it came to on this event; nothing for what never went.
    pub counted: Option<Counted>,
}

/// The messages of an event, or of the house.
#[derive(Debug, Clone)]
pub struct Sheet {
    /// The house.
    pub house: House,
    /// The event; nothing for the house's own sheet.
    pub event: Option<Event>,
    /// Bookings of the event that live.
    pub bookings: u32,
    /// Its cues: moments first, in the order of their minutes; then occasions.
    pub cues: Vec<CueLine>,
    /// The templates that there are for it.
    pub templates: Vec<Template>,
    /// Its dates.
    pub dates: Vec<events::Date>,
    /// Its tickets: key and name.
    pub tickets: Vec<(TicketTypeId, String)>,
    /// Its questions: key and wording.
    pub questions: Vec<(QuestionId, String)>,
    /// Tags of the house: key and name.
    pub tags: Vec<(TagId, String)>,
    /// Names and addresses to write from.
    pub senders: Vec<Sender>,
    /// The event's own sender.
    pub sender: Option<i64>,
    /// Bookings whose messages are still to be brought to what is true.
    pub left: u32,
}

/// Loads the messages of an event, or of the house.
///
/// # Errors
/// The role may not; there is no such event; the store fails.
pub async fn load(desk: &Desk, staff: &Staff, event: Option<EventId>) -> Result<Sheet, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store.read(move |conn| load_in(conn, event)).await
}

fn load_in(conn: &Connection, id: Option<EventId>) -> Result<Sheet, DeskError> {
    let event = match id {
        Some(id) => Some(events::by_id(conn, id)?.ok_or(DeskError::NotFound)?),
        None => None,
    };
    let all = cues::of(conn, id)?;
    let mut lines = sheet(id.unwrap_or(EventId(0)), &all);
    lines.sort_by_key(order);
    let templates = templates::of(conn, id)?;
    let counted = match id {
        Some(id) => outbox::of_event(conn, id)?,
        None => Vec::new(),
    };
    let of = |cue: &Cue| {
        let words = templates.iter().find(|t| t.id == cue.template);
        // Words that an event's own cue stands in place of count for it.
        let mine = |id: Option<CueId>| id == Some(cue.id) || (id.is_some() && id == cue.instead_of);
        let counted = counted.iter().filter(|c| mine(c.0)).map(|c| c.2).reduce(|a, b| Counted {
            sent: a.sent + b.sent,
            planned: a.planned + b.planned,
            failed: a.failed + b.failed,
            first: a.first.min(b.first),
            last: a.last.max(b.last),
        });
        CueLine {
            cue: cue.clone(),
            template: words.map_or_else(String::new, |t| t.name.clone()),
            subject: words.map_or_else(String::new, |t| t.subject.clone()),
            counted,
        }
    };
    Ok(Sheet {
        house: house_of(conn)?,
        bookings: match id {
            Some(id) => matricle_store::bookings::count_live(conn, id)?,
            None => 0,
        },
        cues: lines.iter().map(of).collect(),
        dates: match id {
            Some(id) => events::dates_of(conn, id)?,
            None => Vec::new(),
        },
        tickets: match id {
            Some(id) => {
                events::ticket_rows(conn, id)?.into_iter().map(|t| (t.id, t.plan.name)).collect()
            }
            None => Vec::new(),
        },
        questions: match id {
            Some(id) => events::questions(conn, id)?.into_iter().map(|q| (q.id, q.label)).collect(),
            None => Vec::new(),
        },
        tags: places::tags(conn)?.into_iter().map(|t| (t.id, t.name)).collect(),
        senders: senders::all(conn)?,
        sender: match id {
            Some(id) => senders::own(conn, id)?,
            None => None,
        },
        left: outbox::left_to_follow(conn, id)?,
        event,
        templates,
    })
}

/// Where a cue stands on its sheet: moments by how long before, then occasions in their order.
fn order(cue: &Cue) -> (u8, i64, CueId) {
    let group = match cue.trigger {
        Trigger::On(_) => 0,
        Trigger::At(moment) => 1 + moment as u8,
    };
    let minutes = match cue.when {
        When::AtOnce => 0,
        When::Offset { n, unit, side } => {
            let one = match unit {
                Unit::Minutes => 1,
                Unit::Hours => 60,
                Unit::Days => 1_440,
                Unit::Weeks => 10_080,
                Unit::Months => 43_200,
            };
            i64::from(n) * one * if side == Side::Before { -1 } else { 1 }
        }
        When::Clock { days, side, at } => {
            i64::from(days) * 1_440 * if side == Side::Before { -1 } else { 1 }
                + i64::from(at.hour()) * 60
        }
    };
    (group, minutes, cue.id)
}

/// What goes for a date of an event: each cue and each person it could reach.
pub async fn goes(desk: &Desk, staff: &Staff, date: DateId) -> Result<Vec<GoingLine>, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let now = desk.clock.now();
    desk.store.read(move |conn| will_go(conn, date, now)).await
}

/// The right it takes: an event's sheet is planning, the house's is setting it up.
const fn right_of(event: Option<EventId>) -> Right {
    if event.is_some() { Right::PlanEvents } else { Right::SetHouseUp }
}

fn log(tx: &Tx<'_>, event: Option<EventId>, turn: &Turn, what: &str) -> Result<(), DeskError> {
    match event {
        Some(event) => crate::planning::dates::log(tx, event, turn, what),
        None => turn.log(tx, what, "/office/messages/cues"),
    }
}

/// The cue that a sheet shows, by its key.
fn shown(
    conn: &Connection,
    event: Option<EventId>,
    id: CueId,
) -> Result<(Cue, Vec<Cue>), DeskError> {
    let all = cues::of(conn, event)?;
    let sheet = sheet(event.unwrap_or(EventId(0)), &all);
    let cue = sheet.iter().find(|c| c.id == id).cloned().ok_or(DeskError::NotFound)?;
    Ok((cue, sheet))
}

/// Reads the cue that a form describes.
fn read(form: &mut Form, event: Option<EventId>, before: Option<&Cue>, now: Timestamp) -> Cue {
    let trigger = Trigger::from_word(form.get("happens"));
    let trigger = form.need("happens", trigger).unwrap_or(Trigger::At(Moment::Starts));
    let side = if form.get("side") == "after" { Side::After } else { Side::Before };
    let when = match form.get("when") {
        "offset" => {
            let unit = Unit::ALL.into_iter().find(|u| u.word() == form.get("unit"));
            let n = form.number("n", 0, 100_000).unwrap_or(0);
            When::Offset { n, unit: unit.unwrap_or(Unit::Days), side }
        }
        "clock" => {
            let days = form.number("days", 0, 730).unwrap_or(0);
            let typed = form.get("at").to_owned();
            let at = typed.parse::<Time>().or_else(|_| format!("{typed}:00").parse());
            if at.is_err() {
                form.fault("at", Fault::NotATime);
            }
            When::Clock { days, side, at: at.unwrap_or(Time::midnight()) }
        }
        _ => When::AtOnce,
    };
    let whom = match form.get("whom") {
        "booker" => Whom::Booker,
        "hosts" => Whom::Hosts,
        "waiting" => Whom::Waiting,
        "silent" => Whom::Silent,
        "came" => Whom::Came,
        "missed" => Whom::Missed,
        "address" => Whom::Address(form.get(ADDRESS.name).to_owned()),
        other => match other.strip_prefix("role ").and_then(Role::from_word) {
            Some(role) => Whom::Role(role),
            None => Whom::Attendees,
        },
    };
    let answer = form.get(ANSWER.name).to_owned();
    let question = form.get("question").parse().ok().map(QuestionId);
    if !answer.is_empty() && question.is_none() {
        form.fault("question", Fault::NeedsOther);
    }
    let only = Only {
        part: match form.get("part") {
            "in person" => Some(Part::InPerson),
            "online" => Some(Part::Online),
            _ => None,
        },
        tickets: form
            .all("ticket")
            .iter()
            .filter_map(|t| t.parse().ok().map(TicketTypeId))
            .collect(),
        answer: question.filter(|_| !answer.is_empty()).map(|q| (q, answer)),
        tag: form.get("tag").parse().ok().map(TagId),
        first_visit: form.take(&FIRST_VISIT),
        paying: match form.get("paying") {
            "card" => Some(Paying::Card),
            "transfer" => Some(Paying::Transfer),
            _ => None,
        },
        nobody: form.take(&NOBODY),
    };
    let way = Way::from_word(form.get(WAY.name));
    let template = match form.get("template") {
        OWN_WORDS => Some(TemplateId(0)),
        _ => {
            let chosen = form.number("template", 1, u32::MAX).map(|t| TemplateId(t.into()));
            form.need("template", chosen)
        }
    };
    let late = match form.get("late") {
        "never" => Late::Never,
        "until" => Late::UntilHours(form.number("late_hours", 0, 1_000).unwrap_or(0)),
        _ => Late::AtOnce,
    };
    Cue {
        id: before.filter(|b| b.event == event).map_or(CueId(0), |b| b.id),
        event,
        instead_of: match before {
            Some(b) if b.event.is_none() && event.is_some() => Some(b.id),
            Some(b) => b.instead_of,
            None => None,
        },
        on: true,
        trigger,
        when,
        whom,
        only,
        way: way.unwrap_or(Way::Mail),
        template: template.unwrap_or(TemplateId(0)),
        late,
        added_at: before.map_or(now, |b| b.added_at),
        already: before.is_some_and(|b| b.already),
        since: before.and_then(|b| b.since),
    }
}

/// Where on a form a refusal stands.
const fn field_of(refusal: &CueRefusal) -> &'static str {
    match refusal {
        CueRefusal::Trigger | CueRefusal::ToldTwice { .. } => "happens",
        CueRefusal::BeforeAnOccasion | CueRefusal::TooFar { .. } => "n",
        CueRefusal::Nobody { .. } => "whom",
        CueRefusal::Address => "address",
        CueRefusal::Way | CueRefusal::NotPublic => "way",
    }
}

/// How many people who have booked already a cue would reach on the dates to come.
fn already(conn: &Connection, event: EventId, cue: &Cue, now: Timestamp) -> Result<u32, DeskError> {
    let mut count = 0;
    for date in events::dates_of(conn, event)?.iter().filter(|d| d.span.ends_at > now) {
        let Some((_, facts)) = readers::date(conn, date.id)? else { continue };
        let lines = to_bookers(conn, &facts, std::slice::from_ref(cue), now)?;
        count += lines.iter().filter(|l| matches!(l.outcome, Outcome::Told(_))).count();
    }
    Ok(u32::try_from(count).unwrap_or(u32::MAX))
}

/// What a template says that cannot be read, or that the readers of a cue do not have.
fn check_words(form: &mut Form, words: &Template, cue: &Cue) {
    let subject = matricle_core::messages::template::Template::read(&words.subject);
    for read in [subject, letter::read_body(&words.body)] {
        let wrong = match read {
            Ok(read) => read.not_theirs(cue),
            Err(wrong) => wrong,
        };
        if let Some(wrong) = wrong.into_iter().next() {
            form.fault("template", Fault::Words(wrong));
        }
    }
}

/// Whether all that speak with the words have what they say.
fn readers_fit(
    tx: &Tx<'_>,
    form: &mut Form,
    (own, words): (Option<&Template>, Option<&Template>),
    (cue, others): (&Cue, &[Cue]),
) -> Result<(), DeskError> {
    match (own, words) {
        (Some(own), _) => {
            // All that speak with the words have to have what they say.
            let speak = match own.id {
                TemplateId(0) => others.to_vec(),
                id => cues::using(tx, id)?,
            };
            let speak = speak.iter().filter(|c| c.template == cue.template && c.id != cue.id);
            for cue in std::iter::once(cue).chain(speak) {
                wordings::check_readers(form, own, cue);
            }
        }
        (None, Some(words)) => check_words(form, words, cue),
        (None, None) if form.wrong.iter().all(|w| w.field != "template") => {
            form.fault("template", Fault::Unknown);
        }
        (None, None) => {}
    }
    Ok(())
}

/// Saves a cue: a new one, or over one of the sheet. An event's change of a cue of the house
/// becomes its own. Words that were typed with it are saved with it, or nothing is.
///
/// # Errors
/// [`DeskError::Form`]: two cues that would tell the same people twice, unless `join` is ticked,
/// which makes them one and switches the other off; what nobody can be told, and whether those already booked get it, where nobody said so; the role may not.
pub async fn save(
    desk: &Desk,
    staff: &Staff,
    event: Option<EventId>,
    id: Option<CueId>,
    mut form: Form,
) -> Result<CueId, DeskError> {
    let turn = desk.turn_of(staff, right_of(event))?;
    // All who have booked are counted before anything is written: the doors do not wait for it.
    let booked = match (event, id) {
        (Some(event), None) => {
            let (mut form, now) = (form.clone(), turn.now);
            let count = move |conn: &Connection| {
                let cue = Cue { already: true, ..read(&mut form, Some(event), None, now) };
                match cue.trigger {
                    Trigger::At(_) if form.wrong.is_empty() => already(conn, event, &cue, now),
                    _ => Ok(0),
                }
            };
            desk.store.read(count).await?
        }
        _ => 0,
    };
    let saved = desk
        .store
        .write(move |tx| {
            let before = match id {
                Some(id) => Some(shown(tx, event, id)?.0),
                None => None,
            };
            let mut cue = read(&mut form, event, before.as_ref(), turn.now);
            cue.on = before.as_ref().is_none_or(|b| b.on);
            let all = cues::of(tx, event)?;
            let mut others: Vec<Cue> = sheet(event.unwrap_or(EventId(0)), &all)
                .into_iter()
                .filter(|c| Some(c.id) != id)
                .collect();
            let joins = form.ticked("join");
            let mut joined = Vec::new();
            while joins
                && let Err(CueRefusal::ToldTwice { by }) = cue.check(&others)
                && let Some(at) = others.iter().position(|c| c.id == by)
            {
                let other = others.remove(at);
                cue = cue.joined_with(&other);
                joined.push(other);
            }
            if let Err(refusal) = cue.check(&others) {
                form.fault(field_of(&refusal), Fault::Cue(refusal));
            }
            let of_sheet = |id: TemplateId| {
                let found = templates::by_id(tx, id)?;
                Ok::<_, DeskError>(found.filter(|t| t.event.is_none() || t.event == event))
            };
            let words = of_sheet(cue.template)?;
            let made_from = match form.get("words_of").parse() {
                Ok(of) => of_sheet(TemplateId(of))?,
                Err(_) => None,
            };
            let own =
                wordings::typed_with_cue(&mut form, words.as_ref(), made_from.as_ref(), event);
            readers_fit(tx, &mut form, (own.as_ref(), words.as_ref()), (&cue, &others))?;
            let is_new = before.is_none();
            if is_new && event.is_some() && matches!(cue.trigger, Trigger::At(_)) {
                match form.get("already") {
                    "yes" => cue.already = true,
                    "no" => cue.since = Some(turn.now),
                    _ if booked > 0 && form.wrong.is_empty() => {
                        form.fault("already", Fault::Already(booked));
                    }
                    _ => {}
                }
            }
            form.done().map_err(DeskError::Form)?;
            if let Some(own) = &own {
                cue.template = templates::save(tx, own, &turn.by.name, turn.now)?;
            }
            let id = cues::save(tx, &cue, None)?;
            if let Some(own) = &own {
                let before = words.as_ref();
                wordings::reworded(tx, before, (cue.template, own), &turn)?;
            }
            for other in joined {
                cues::save(tx, &switched(other, event, false), None)?;
            }
            log(
                tx,
                event,
                &turn,
                if is_new { "added an automatic message" } else { "changed an automatic message" },
            )?;
            Ok::<_, DeskError>(id)
        })
        .await?;
    desk.wake.all();
    Ok(saved)
}

/// A cue of a sheet, on or off: where it is the house's and the sheet an event's, the event gets
/// one of its own in its place.
fn switched(found: Cue, event: Option<EventId>, on: bool) -> Cue {
    let own = found.event == event;
    Cue {
        id: if own { found.id } else { CueId(0) },
        event,
        instead_of: if own { found.instead_of } else { Some(found.id) },
        on,
        ..found
    }
}

/// Switches a cue of a sheet on or off. An event's switching of a cue of the house is its own.
///
/// # Errors
/// Switched on it would tell somebody twice ([`DeskError::Form`]); the role may not.
pub async fn switch(
    desk: &Desk,
    staff: &Staff,
    event: Option<EventId>,
    id: CueId,
    on: bool,
) -> Result<CueId, DeskError> {
    let turn = desk.turn_of(staff, right_of(event))?;
    let saved = desk
        .store
        .write(move |tx| {
            let (found, sheet) = shown(tx, event, id)?;
            let cue = switched(found, event, on);
            let others: Vec<Cue> = sheet.into_iter().filter(|c| c.id != id).collect();
            if on && let Err(refusal) = cue.check(&others) {
                let fault = matricle_core::forms::form::Wrong {
                    field: format!("cue_{id}"),
                    fault: Fault::Cue(refusal),
                };
                return Err(DeskError::Form(vec![fault]));
            }
            let saved = cues::save(tx, &cue, None)?;
            log(
                tx,
                event,
                &turn,
                if on {
                    "switched an automatic message on"
                } else {
                    "switched an automatic message off"
                },
            )?;
            Ok::<_, DeskError>(saved)
        })
        .await?;
    desk.wake.all();
    Ok(saved)
}

/// Takes a cue off the sheet; what the house has in its place holds again. What it sent stays.
///
/// # Errors
/// It is one of the house's, and this is an event's sheet; the role may not.
pub async fn remove(
    desk: &Desk,
    staff: &Staff,
    event: Option<EventId>,
    id: CueId,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, right_of(event))?;
    desk.store
        .write(move |tx| {
            let (cue, _) = shown(tx, event, id)?;
            if cue.event != event || !cues::standard_of(tx, id)?.is_empty() {
                return Err(DeskError::NotFound);
            }
            cues::remove(tx, id, Some(turn.now))?;
            log(tx, event, &turn, "removed an automatic message")
        })
        .await?;
    desk.wake.all();
    Ok(())
}
