//! Papers for the day: badges, name tents, lists to tick off and to sign, the door list for when
//! everything fails, certificates.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::people::staff::{Right, require};
use matricle_core::words::codes::{Reading, TicketCode, read};
use matricle_core::{AttendeeId, DateId};
use matricle_formats::words;
use matricle_papers::{
    Certificate, List, badges_telling, certificates, list, tents, without_glyph,
};
use matricle_store::bookings::Coming;
use matricle_store::people::Staff;
use matricle_store::{door as db, events};

use super::Volunteer;
use crate::bench::{self, Takes};
use crate::{Desk, DeskError};

pub use crate::badges::{Kind, PaperChoice, at_the_door, sheets};
pub use matricle_papers::Sheet;

use crate::badges::{Made, badges_of, gather, when_of};

matricle_core::fields! {
    TICKET: Choice = "ticket", "For whom";
    INSIDE: Tick = "inside", "Only those who came";
    FUNCTION: Choice = "function", "Club or function, from an answer";
    SHEET: Choice = "sheet", "Sheet",
        "By its measures; print at actual size, not fitted to the page.";
    FROM: WholeOrNone(1, 1000) = "from", "First free place",
        "1 is at the top left; a sheet that was begun goes on where it is free.";
    WITH_CODE: Tick = "with_code", "With the code", "it lets in and out like the ticket";
    HOURS: Line = "hours", "How long",
        "Left empty, the length of the date. They are for those who came.";
}

/// Whom a paper is for, and what to know before it is printed.
#[derive(Debug, Clone)]
pub struct Before {
    /// The event.
    pub event: events::Event,
    /// The date.
    pub date: events::Date,
    /// How many people it is for.
    pub people: usize,
    /// Pages it takes.
    pub pages: u32,
    /// Names with letters that no font here has, and those letters.
    pub missing: Vec<(String, String)>,
    /// Questions that were answered.
    pub questions: Vec<String>,
    /// Tickets that people have.
    pub tickets: Vec<String>,
}

/// Whom a paper is for, before it is printed.
///
/// # Errors
/// There is no such date; the role may not.
pub async fn before(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
    asked: PaperChoice,
) -> Result<Before, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let made = {
        let asked = asked.clone();
        desk.store.read(move |conn| gather(conn, date, &asked)).await?
    };
    let shown = |p: &Coming| {
        let function = p.answers.get(&asked.function).cloned().unwrap_or_default();
        [p.name.clone(), function].join(" ")
    };
    let missing = made
        .people
        .iter()
        .filter_map(|p| {
            let letters: String = without_glyph(&shown(p)).into_iter().collect();
            (!letters.is_empty()).then(|| (p.name.clone(), letters))
        })
        .collect();
    let count = u32::try_from(made.people.len()).unwrap_or(u32::MAX);
    let pages = match asked.kind {
        Kind::Badges => (count + asked.from).div_ceil(asked.sheet.on_a_page().max(1)),
        Kind::Tents | Kind::Certificates => count,
        Kind::Roster | Kind::SignIn | Kind::DoorList => 0,
    };
    Ok(Before {
        event: made.event,
        date: made.date,
        people: made.people.len(),
        pages,
        missing,
        questions: made.questions,
        tickets: made.all_tickets,
    })
}

/// A paper for a date: the name of its file, and the PDF. How far it is can be asked under `key`
/// with [`drawn`] meanwhile.
///
/// # Errors
/// There is no such date, or nobody on it; the role may not.
pub async fn paper(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
    asked: PaperChoice,
    key: &str,
) -> Result<(String, Vec<u8>), DeskError> {
    require(staff.role, Right::SeeOffice)?;
    let key = format!("{} {}", staff.id, key.chars().take(40).collect::<String>());
    let now_drawn = NowDrawn { drawing: desk.drawing.clone(), key };
    printed(desk, date, asked, move |done| now_drawn.tell(done)).await
}

/// A paper that is being drawn; dropped with the drawing, it is told of no more.
struct NowDrawn {
    drawing: Arc<Drawing>,
    key: String,
}

impl NowDrawn {
    fn tell(&self, done: usize) {
        self.drawing.open().insert(self.key.clone(), done);
    }
}

impl Drop for NowDrawn {
    fn drop(&mut self) {
        self.drawing.open().remove(&self.key);
    }
}

/// How many are drawn of the paper that somebody asked for under a key; none of one that is not
/// being drawn.
pub fn drawn(desk: &Desk, staff: &Staff, key: &str) -> Result<Option<usize>, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    Ok(desk.drawing.of(&format!("{} {}", staff.id, key.chars().take(40).collect::<String>())))
}

/// How far papers are that are being drawn.
#[derive(Debug, Default)]
pub struct Drawing(Mutex<HashMap<String, usize>>);

impl Drawing {
    fn open(&self) -> std::sync::MutexGuard<'_, HashMap<String, usize>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn of(&self, key: &str) -> Option<usize> {
        self.open().get(key).copied()
    }
}

/// The badge of one who stands at the door, on what is printed on there.
///
/// # Errors
/// The role may not, or the device is for other dates; there is no such person at this date.
pub async fn badge_at_door(
    desk: &Desk,
    who: impl Into<Volunteer>,
    date: DateId,
    attendee: AttendeeId,
) -> Result<Vec<u8>, DeskError> {
    let volunteer = who.into();
    volunteer.checks_in_at(date, desk.clock.now())?;
    let now = desk.clock.now();
    let doorway =
        desk.store.read(move |conn| super::at_open_door(conn, &volunteer, date, now)).await?;
    let name = Some(doorway.badge_sheet.as_str()).filter(|name| !name.is_empty());
    let name = name.or_else(|| at_the_door().next());
    let found = sheets().into_iter().find(|(known, _)| Some(*known) == name);
    let sheet = found.map_or(Sheet::single(102.0, 59.0), |(_, sheet)| sheet);
    let asked = PaperChoice { sheet, only: vec![attendee], ..PaperChoice::new(Kind::Badges) };
    Ok(printed(desk, date, asked, |_| {}).await?.1)
}

async fn printed(
    desk: &Desk,
    date: DateId,
    asked: PaperChoice,
    tell: impl Fn(usize) + Send + 'static,
) -> Result<(String, Vec<u8>), DeskError> {
    let gathered = {
        let asked = asked.clone();
        desk.store.read(move |conn| gather(conn, date, &asked)).await?
    };
    if gathered.people.is_empty() {
        return Err(DeskError::NotFound);
    }
    let (now, secrets, url) = (desk.clock.now(), desk.secrets.clone(), desk.public_url.clone());
    let name = format!("{} {}", asked.kind.word(), gathered.date.span.starts.date());
    let bytes = bench::unless_busy(Takes::Place, move || match asked.kind {
        Kind::Badges => Ok(badges_telling(&badges_of(&gathered, &asked, now), now, &tell)?),
        Kind::Tents => Ok(tents(&badges_of(&gathered, &asked, now), now)?),
        Kind::Roster | Kind::SignIn | Kind::DoorList => {
            Ok(list(&list_of(&gathered, &asked, now), now)?)
        }
        Kind::Certificates => {
            let code = |id| secrets.certificate_code(id);
            Ok(certificates(&certificates_of(&gathered, &asked, (&code, &url), now), now)?)
        }
    })
    .await?;
    Ok((name, bytes))
}

fn list_of(made: &Made, asked: &PaperChoice, now: Timestamp) -> List {
    let currency = made.house.currency;
    let mut columns: Vec<(String, f32)> = match asked.kind {
        Kind::SignIn => {
            vec![("Name".into(), 3.0), ("Ticket".into(), 1.6), ("Signature".into(), 3.0)]
        }
        Kind::DoorList => vec![
            ("Name".into(), 3.0),
            ("Ticket".into(), 1.8),
            ("Code ends".into(), 1.0),
            ("Booking".into(), 1.3),
            ("To pay".into(), 1.1),
        ],
        _ => vec![("Name".into(), 3.0), ("Ticket".into(), 1.8)],
    };
    if asked.kind == Kind::Roster {
        columns.extend(asked.answers.iter().map(|q| (q.clone(), 1.8)));
    }
    let rows = made
        .people
        .iter()
        .map(|p| {
            let mut cells = vec![p.name.clone(), p.ticket.clone()];
            match asked.kind {
                Kind::SignIn => cells.push(String::new()),
                Kind::DoorList => {
                    let code = p.code.as_str();
                    let due = currency.of(p.due.max(0));
                    cells.push(code[code.len() - 4..].to_owned());
                    cells.push(p.reference.to_string());
                    cells.push(match p.state {
                        State::Requested => "no yes yet".into(),
                        _ if due.minor > 0 => due.to_string(),
                        _ => String::new(),
                    });
                }
                _ => cells.extend(
                    asked.answers.iter().map(|q| p.answers.get(q).cloned().unwrap_or_default()),
                ),
            }
            let group = if asked.by_ticket { p.ticket.clone() } else { String::new() };
            (group, cells)
        })
        .collect();
    let at = words::local(now, &made.house.zone);
    let count = u32::try_from(made.people.len()).unwrap_or(u32::MAX);
    List {
        house: made.house.name.clone(),
        kind: heading(asked.kind).into(),
        title: made.event.title.clone(),
        when: when_of(made, now),
        says: format!(
            "{} · as of {}, {}",
            words::people(count),
            words::long_day(at.date()),
            words::clock(at.datetime())
        ),
        boxes: asked.kind != Kind::SignIn,
        columns,
        rows,
    }
}

const fn heading(kind: Kind) -> &'static str {
    match kind {
        Kind::SignIn => "Sign-in sheet",
        Kind::DoorList => "Door list",
        _ => "Who comes",
    }
}

type CodeOf<'a> = &'a dyn Fn(AttendeeId) -> TicketCode;

fn certificates_of(
    made: &Made,
    asked: &PaperChoice,
    (code, url): (CodeOf<'_>, &str),
    now: Timestamp,
) -> Vec<Certificate> {
    let span = &made.date.span;
    let hours = match asked.hours.as_str() {
        "" => hours_of(span.ends_at.duration_since(span.starts_at).as_secs() / 60),
        hours => hours.to_owned(),
    };
    let made_on = words::long_day(words::local(now, &made.house.zone).date());
    made.people
        .iter()
        .map(|p| Certificate {
            house: made.house.name.clone(),
            name: p.name.clone(),
            title: made.event.title.clone(),
            when: when_of(made, now),
            hours: hours.clone(),
            by: made.date.hosts.clone(),
            made: made_on.clone(),
            code: format!("{} · {}", p.attendee, code(p.attendee)),
            address: format!("{url}/certificate"),
        })
        .collect()
}

/// A length in words: `2 hours 30 minutes`.
fn hours_of(minutes: i64) -> String {
    let (hours, rest) = (minutes / 60, minutes % 60);
    let count = |n: i64, word: &str| words::count(u32::try_from(n).unwrap_or(0), word);
    match (hours, rest) {
        (0, rest) => count(rest, "minutes"),
        (hours, 0) => count(hours, "hours"),
        (hours, rest) => format!("{} {}", count(hours, "hours"), count(rest, "minutes")),
    }
}

/// What a certificate says, for whoever has its number and code.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Confirmed {
    /// Who took part.
    pub name: String,
    /// In what.
    pub title: String,
    /// When and where.
    pub when: String,
    /// Who led it.
    pub by: String,
    /// The house that says so.
    pub house: String,
}

/// Confirms a certificate. One that is none, and one of somebody who did not come, are the same.
///
/// # Errors
/// [`DeskError::NotFound`]; [`DeskError::TooOften`] by network.
pub async fn confirm(
    desk: &Desk,
    number: &str,
    typed: &str,
    network: &str,
) -> Result<Confirmed, DeskError> {
    let now = desk.clock.now();
    desk.often.ask(crate::people::often::Asks::Certificate, network, now)?;
    let attendee: i64 = number.trim().parse().map_err(|_| DeskError::NotFound)?;
    let attendee = AttendeeId(attendee);
    let Reading::Code(code) = read(typed) else { return Err(DeskError::NotFound) };
    if desk.secrets.certificate_code(attendee) != code {
        return Err(DeskError::NotFound);
    }
    desk.store
        .read(move |conn| {
            let person = db::by_id(conn, attendee)?.ok_or(DeskError::NotFound)?;
            let asked =
                PaperChoice { only: vec![attendee], ..PaperChoice::new(Kind::Certificates) };
            let made = gather(conn, person.facts.date, &asked)?;
            let one = made.people.first().ok_or(DeskError::NotFound)?;
            Ok(Confirmed {
                name: one.name.clone(),
                when: when_of(&made, now),
                by: made.date.hosts.clone(),
                title: made.event.title,
                house: made.house.name,
            })
        })
        .await
}
