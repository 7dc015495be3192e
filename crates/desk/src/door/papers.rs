//! Papers for the day: badges, name tents, lists to tick off and to sign, the door list for when
//! everything fails, certificates.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, PoisonError};

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::codes::{Reading, TicketCode, read};
use matricle_core::door::Presence;
use matricle_core::staff::{Right, require};
use matricle_core::{AttendeeId, BookingId, DateId};
use matricle_formats::mail::File;
use matricle_formats::{barcode, words};
use matricle_papers::{
    Badge, Badges, Barcodes, Certificate, List, badges, badges_telling, certificates, list, tents,
    without_glyph,
};
use matricle_store::bookings::{Coming, Which, coming};
use matricle_store::people::Staff;
use matricle_store::{Connection, door as db, events};
use serde::{Deserialize, Serialize};

use super::Volunteer;
use crate::{Desk, DeskError, house_of, off_thread};

pub use matricle_papers::Sheet;

/// What is printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Kind {
    /// Badges.
    Badges,
    /// Name tents.
    Tents,
    /// A list to tick off.
    Roster,
    /// A list to sign.
    SignIn,
    /// The list for when everything fails.
    DoorList,
    /// Certificates of those who came.
    Certificates,
}

impl Kind {
    /// All of them.
    pub const ALL: [Self; 6] =
        [Self::Badges, Self::Tents, Self::Roster, Self::SignIn, Self::DoorList, Self::Certificates];

    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Badges => "badges",
            Self::Tents => "name tents",
            Self::Roster => "list to tick off",
            Self::SignIn => "sign-in sheet",
            Self::DoorList => "door list for when everything fails",
            Self::Certificates => "certificates",
        }
    }

    /// Finds a kind by its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|k| k.word() == word)
    }
}

/// Sheets that are at hand, by their measures.
#[must_use]
pub fn sheets() -> Vec<(&'static str, Sheet)> {
    let (a4, letter) = ((210.0, 297.0), (215.9, 279.4));
    let labels =
        |badge, places, first, step| Sheet { page: a4, badge, places, first, step, folded: false };
    vec![
        ("A4, eight of 90 × 65 mm", Sheet::middle(a4, (90.0, 65.0), (2, 4))),
        ("card, 86 × 54 mm", Sheet::single(86.0, 54.0)),
        ("A4 folded in four", Sheet::in_four(a4.0, a4.1)),
        ("Letter folded in four", Sheet::in_four(letter.0, letter.1)),
        ("A4, ten of 85 × 54 mm", Sheet::middle(a4, (85.0, 54.0), (2, 5))),
        (
            "A4 labels, eight of 99.1 × 67.7 mm",
            labels((99.1, 67.7), (2, 4), (4.65, 13.1), (101.6, 67.7)),
        ),
        (
            "A4 labels, 21 of 63.5 × 38.1 mm",
            labels((63.5, 38.1), (3, 7), (7.2, 15.15), (66.04, 38.1)),
        ),
        (
            "Letter labels, six of 4 × 3⅓ in",
            Sheet {
                page: letter,
                badge: (101.6, 84.67),
                places: (2, 3),
                first: (3.97, 12.7),
                step: (106.36, 84.67),
                folded: false,
            },
        ),
        ("roll, 62 × 100 mm", Sheet::single(62.0, 100.0)),
        ("roll, 102 × 59 mm", Sheet::single(102.0, 59.0)),
    ]
}

/// Those with one badge each, for a printer at the door: the first is used where none is chosen.
pub fn at_the_door() -> impl Iterator<Item = &'static str> {
    let single = |sheet: &Sheet| sheet.on_a_page() == 1 && !sheet.folded;
    let mut names: Vec<_> = sheets().into_iter().filter(|(_, s)| single(s)).map(|s| s.0).collect();
    names.sort_by_key(|name| !name.starts_with("roll, 102"));
    names.into_iter()
}

/// What is asked for.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Asked {
    /// What is printed.
    pub kind: Kind,
    /// On which sheet badges stand.
    pub sheet: Sheet,
    /// The first free place of it, counted from nought.
    pub from: u32,
    /// Lists are in order of the tickets.
    pub by_ticket: bool,
    /// Only those with this ticket; empty for all.
    pub ticket: String,
    /// Only those who are in, or came.
    pub inside: bool,
    /// The question whose answer is a club or function; empty for none.
    pub function: String,
    /// Questions whose answers stand on lists.
    pub answers: Vec<String>,
    /// Badges carry the code.
    pub with_code: bool,
    /// How long it was, in words, on certificates; empty for the length of the date.
    pub hours: String,
    /// Only these; all where there are none.
    #[serde(skip)]
    pub only: Vec<AttendeeId>,
}

impl Asked {
    /// Badges for all, on the first sheet.
    #[must_use]
    pub fn new(kind: Kind) -> Self {
        Self {
            kind,
            sheet: sheets()[0].1,
            from: 0,
            by_ticket: false,
            ticket: String::new(),
            inside: false,
            function: String::new(),
            answers: Vec::new(),
            with_code: true,
            hours: String::new(),
            only: Vec::new(),
        }
    }

    /// As it is kept with a message.
    ///
    /// # Errors
    /// Its measures are no numbers.
    pub(crate) fn to_keep(&self) -> Result<String, DeskError> {
        serde_json::to_string(self).map_err(|e| DeskError::Internal(format!("keeping badges: {e}")))
    }

    /// Reads what was kept with a message; without it, a page that is folded in four.
    pub(crate) fn kept(text: &str) -> Self {
        serde_json::from_str(text).unwrap_or_else(|_| Self::folded())
    }

    /// Badges on a page each, to be printed at home and folded in four.
    #[must_use]
    pub fn folded() -> Self {
        Self { sheet: Sheet::in_four(210.0, 297.0), ..Self::new(Kind::Badges) }
    }
}

/// Badges that go with a message, as they are read before they are drawn.
pub(crate) struct ToDraw {
    made: Made,
    asked: Asked,
    name: String,
}

impl ToDraw {
    /// Of a booking at a date, or of one person of it; nothing where nobody of it comes.
    pub(crate) fn of_booking(
        conn: &Connection,
        date: DateId,
        (booking, person): (BookingId, Option<usize>),
        mut asked: Asked,
    ) -> Result<Option<Self>, DeskError> {
        asked.only = db::of_booking_at(conn, booking, date, person)?;
        if asked.only.is_empty() {
            return Ok(None);
        }
        Self::read(conn, date, asked, "badge")
    }

    /// Of all who come to a date; nothing where nobody does.
    pub(crate) fn of_date(
        conn: &Connection,
        date: DateId,
        asked: Asked,
    ) -> Result<Option<Self>, DeskError> {
        Self::read(conn, date, asked, "badges")
    }

    fn read(
        conn: &Connection,
        date: DateId,
        asked: Asked,
        name: &str,
    ) -> Result<Option<Self>, DeskError> {
        let made = gather(conn, date, &asked)?;
        let name = format!("{name}-{}.pdf", made.date.span.starts.date());
        Ok((!made.people.is_empty()).then_some(Self { made, asked, name }))
    }

    /// Draws them.
    pub(crate) fn file(self, now: Timestamp) -> Result<File, DeskError> {
        let bytes = badges(&badges_of(&self.made, &self.asked, now), now)?;
        Ok(File { name: self.name, media_type: "application/pdf".into(), bytes })
    }
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

/// Everything a paper is made of.
pub(super) struct Made {
    house: matricle_store::house::House,
    pub(super) event: events::Event,
    pub(super) date: events::Date,
    pub(super) people: Vec<Coming>,
    all_tickets: Vec<String>,
    questions: Vec<String>,
    back: BTreeMap<i64, Vec<String>>,
}

pub(super) fn gather(conn: &Connection, date: DateId, asked: &Asked) -> Result<Made, DeskError> {
    let (event, on) = events::date_by_id(conn, date)?.ok_or(DeskError::NotFound)?;
    let mut people = coming(conn, event.id, Which::Date(date))?;
    let (mut questions, mut all_tickets) = (Vec::new(), Vec::new());
    for person in &people {
        for question in person.answers.keys() {
            if !questions.contains(question) {
                questions.push(question.clone());
            }
        }
        if !all_tickets.contains(&person.ticket) {
            all_tickets.push(person.ticket.clone());
        }
    }
    let came = |p: &Presence| matches!(p, Presence::In { .. } | Presence::Left);
    people.retain(|p| {
        let firm = p.state == State::Confirmed;
        let fits = match asked.kind {
            Kind::Certificates => came(&p.presence),
            Kind::DoorList => true,
            Kind::Badges | Kind::Tents | Kind::Roster | Kind::SignIn => firm,
        };
        fits && (asked.ticket.is_empty() || p.ticket == asked.ticket)
            && (!asked.inside || came(&p.presence))
            && (asked.only.is_empty() || asked.only.contains(&p.attendee))
    });
    // Bands follow the event's own order of tickets.
    let order: Vec<String> = db::ticket_names(conn, event.id)?.into_iter().map(|t| t.1).collect();
    all_tickets.sort_by_key(|t| order.iter().position(|o| o == t).unwrap_or(usize::MAX));
    if asked.by_ticket {
        let place = |t: &str| all_tickets.iter().position(|o| o == t);
        people.sort_by_key(|p| place(&p.ticket));
    }
    let mut back: BTreeMap<i64, Vec<String>> = BTreeMap::new();
    for (attendee, session) in db::sessions_of(conn, date)? {
        back.entry(attendee.0).or_default().push(session);
    }
    Ok(Made { house: house_of(conn)?, event, date: on, people, all_tickets, questions, back })
}

/// Whom a paper is for, before it is printed.
///
/// # Errors
/// There is no such date; the role may not.
pub async fn before(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
    asked: Asked,
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
    asked: Asked,
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
///
/// # Errors
/// The role may not.
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
    let asked = Asked { sheet, only: vec![attendee], ..Asked::new(Kind::Badges) };
    Ok(printed(desk, date, asked, |_| {}).await?.1)
}

async fn printed(
    desk: &Desk,
    date: DateId,
    asked: Asked,
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
    let bytes = off_thread(move || match asked.kind {
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

fn when_of(made: &Made, now: Timestamp) -> String {
    let span = &made.date.span;
    let today = words::local(now, &span.zone).date();
    format!("{} · {}", words::span(span.starts, span.ends, today), made.date.place())
}

fn badges_of(made: &Made, asked: &Asked, now: Timestamp) -> Badges {
    let band = |ticket: &str| {
        let at = made.all_tickets.iter().position(|t| t == ticket).unwrap_or(0);
        u8::try_from(at % 8).unwrap_or(0)
    };
    let people = made
        .people
        .iter()
        .map(|p| {
            let square = barcode::qr(p.code);
            let barcodes = Barcodes { side: square.side, square: square.dark, bars: Vec::new() };
            Badge {
                name: p.name.clone(),
                function: p.answers.get(&asked.function).cloned().unwrap_or_default(),
                ticket: p.ticket.clone(),
                band: band(&p.ticket),
                back: made.back.get(&p.attendee.0).cloned().unwrap_or_default(),
                code: p.code.to_string(),
                barcodes,
            }
        })
        .collect();
    Badges {
        house: made.house.name.clone(),
        title: made.event.title.clone(),
        when: when_of(made, now),
        sheet: asked.sheet,
        from: asked.from,
        with_code: asked.with_code,
        people,
    }
}

fn list_of(made: &Made, asked: &Asked, now: Timestamp) -> List {
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
    asked: &Asked,
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
            let asked = Asked { only: vec![attendee], ..Asked::new(Kind::Certificates) };
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
