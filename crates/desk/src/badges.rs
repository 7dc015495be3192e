//! What papers of a date are made of: badges, lists, certificates. Mails carry badges as well, so
//! this stands below them; the door asks for papers in `door::papers`.

use std::collections::BTreeMap;

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::door::Presence;
use matricle_core::{AttendeeId, BookingId, DateId};
use matricle_formats::mail::File;
use matricle_formats::{barcode, words};
use matricle_papers::{Badge, Badges, Barcodes, Sheet, badges};
use matricle_store::bookings::{Coming, Which, coming};
use matricle_store::events::Format;
use matricle_store::{Connection, door as db, events};
use serde::{Deserialize, Serialize};

use crate::{DeskError, house_of};

matricle_core::worded! {
    /// What is printed.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
    #[serde(rename_all = "snake_case")]
    pub enum Kind {
        /// Badges.
        Badges = "badges",
        /// Name tents.
        Tents = "name tents",
        /// A list to tick off.
        Roster = "list to tick off",
        /// A list to sign.
        SignIn = "sign-in sheet",
        /// The list for when everything fails.
        DoorList = "door list for when everything fails",
        /// Certificates of those who came.
        Certificates = "certificates",
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
pub struct PaperChoice {
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

impl PaperChoice {
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

/// Everything a paper is made of.
#[derive(Debug)]
pub(crate) struct Made {
    pub(crate) house: matricle_store::house::House,
    pub(crate) event: events::Event,
    pub(crate) date: events::Date,
    pub(crate) people: Vec<Coming>,
    pub(crate) all_tickets: Vec<String>,
    pub(crate) questions: Vec<String>,
    pub(crate) back: BTreeMap<i64, Vec<String>>,
}

pub(crate) fn gather(
    conn: &Connection,
    date: DateId,
    asked: &PaperChoice,
) -> Result<Made, DeskError> {
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
        // Whoever joins online wears no badge and sits at no table.
        let here = !p.online || event.format != Format::Both;
        let fits = match asked.kind {
            Kind::Certificates => came(&p.presence),
            Kind::DoorList => true,
            Kind::Badges | Kind::Tents | Kind::SignIn => firm && here,
            Kind::Roster => firm,
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

/// Badges that go with a message, as they are read before they are drawn.
#[derive(Debug)]
pub(crate) struct ToDraw {
    made: Made,
    asked: PaperChoice,
    name: String,
}

impl ToDraw {
    /// Of a booking at a date, or of one person of it; nothing where nobody of it comes.
    pub(crate) fn of_booking(
        conn: &Connection,
        date: DateId,
        (booking, person): (BookingId, Option<usize>),
        mut asked: PaperChoice,
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
        asked: PaperChoice,
    ) -> Result<Option<Self>, DeskError> {
        Self::read(conn, date, asked, "badges")
    }

    fn read(
        conn: &Connection,
        date: DateId,
        asked: PaperChoice,
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

pub(crate) fn when_of(made: &Made, now: Timestamp) -> String {
    let span = &made.date.span;
    let today = words::local(now, &span.zone).date();
    format!("{} · {}", words::span(span.starts, span.ends, today), made.date.place())
}

pub(crate) fn badges_of(made: &Made, asked: &PaperChoice, now: Timestamp) -> Badges {
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
