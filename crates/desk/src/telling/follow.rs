//! What is planned for the moments of dates is brought to what bookings and dates say.
//!
//! Triggers of the database mark what changed, so that no use case can forget to. What is to be
//! planned is worked out from what is read, away from the writing thread, and written in pieces;
//! a piece that changed again meanwhile stays marked. Before a message goes it is asked once more
//! whether it is still due, so that what is marked and not yet followed never goes out wrong.

use std::collections::HashMap;
use std::rc::Rc;

use jiff::Timestamp;
use matricle_core::messages::cue::{Cue, Trigger, Way, sheet};
use matricle_core::messages::due::{DateFacts, Due, Outcome, Person, Reader, WhyNot, due, target};
use matricle_core::messages::occasion::Moment;
use matricle_core::{BookingId, CueId, DateId, EventId};
use matricle_store::outbox::{self, About, Change, Message, MessageState, Planned};
use matricle_store::readers::{self, Booked, Which};
use matricle_store::{Connection, cues};

use super::{in_id, others_of, unguessed};

use crate::{Desk, DeskError};

/// Bookings followed in one piece: some milliseconds of the writing thread.
const PIECE: u32 = 250;
/// Bookings of a date read in one piece, beside the writing thread.
const READ: u32 = 4_000;
/// Changes written at once.
const WRITTEN: usize = 500;
/// What a large date writes takes one in so many of the writing thread's time: the doors and the
/// bookings have the others.
const SHARE: u32 = 11;
/// One date is followed no longer than this before others have their turn.
const LONGEST: jiff::SignedDuration = jiff::SignedDuration::from_secs(20);

/// Dates and cue sheets that were read.
struct Known<'c> {
    conn: &'c Connection,
    dates: HashMap<DateId, Option<(EventId, Rc<DateFacts>)>>,
    sheets: HashMap<EventId, Rc<Vec<Cue>>>,
}

impl<'c> Known<'c> {
    fn new(conn: &'c Connection) -> Self {
        Self { conn, dates: HashMap::new(), sheets: HashMap::new() }
    }

    fn date(&mut self, id: DateId) -> Result<Option<(EventId, Rc<DateFacts>)>, DeskError> {
        if let Some(known) = self.dates.get(&id) {
            return Ok(known.clone());
        }
        let found = readers::date(self.conn, id)?.map(|(event, date)| (event, Rc::new(date)));
        self.dates.insert(id, found.clone());
        Ok(found)
    }

    /// The cues that count for a date; none where there is no such date.
    fn cues_of(&mut self, date: DateId) -> Result<Rc<Vec<Cue>>, DeskError> {
        match self.date(date)? {
            Some((event, _)) => self.sheet(event),
            None => Ok(Rc::default()),
        }
    }

    fn sheet(&mut self, event: EventId) -> Result<Rc<Vec<Cue>>, DeskError> {
        if let Some(known) = self.sheets.get(&event) {
            return Ok(Rc::clone(known));
        }
        let all = cues::of(self.conn, Some(event))?;
        let moments: Vec<Cue> = sheet(event, &all)
            .into_iter()
            .filter(|c| matches!(c.trigger, Trigger::At(_)))
            .collect();
        let moments = Rc::new(moments);
        self.sheets.insert(event, Rc::clone(&moments));
        Ok(moments)
    }
}

/// What is to be changed for some people of one date, of whom this is planned so far.
fn changes(
    (event, date): (EventId, &DateFacts),
    booking: Option<(BookingId, &str)>,
    people: &[Person],
    cues: &[Cue],
    planned: &[Planned],
    host: &str,
    now: Timestamp,
) -> Vec<Change> {
    let lines = due(date, people, cues, now);
    let mut changes = Vec::new();
    for line in &lines {
        let Some(cue) = cues.iter().find(|c| c.id == line.cue) else { continue };
        let Some(person) = people.iter().find(|p| p.reader == line.reader) else { continue };
        let reader = line.reader.key();
        let known =
            planned.iter().find(|p| p.cue == line.cue && p.reader == reader && p.date == line.date);
        let address = target(cue.way, person);
        // To be told by the house's cue, or by the one in its place, is to be told.
        let root = cue.instead_of.unwrap_or(cue.id);
        let told = planned.iter().any(|p| {
            p.root == root
                && p.cue != cue.id
                && p.reader == reader
                && p.date == line.date
                && matches!(p.state, MessageState::Sent | MessageState::Sending)
        });
        let outcome = if told { Outcome::Not(WhyNot::OtherCue) } else { line.outcome };
        match (outcome, known) {
            (Outcome::Told(at), None) => changes.push(Change::Plan {
                about: booking.map_or(About::Event(event), |(id, _)| About::Booking(id)),
                date: date.id,
                cue: cue.id,
                template: cue.template,
                trigger: cue.trigger,
                way: cue.way,
                waiter: match line.reader {
                    Reader::Waiter(id) => Some(id),
                    _ => None,
                },
                address: address.to_owned(),
                message_id: format!(
                    "{}c{}.{}.d{}.{}@{host}",
                    booking.map_or_else(String::new, |(_, r)| format!("{}.", r.to_lowercase())),
                    cue.id,
                    in_id(&reader),
                    date.id,
                    unguessed()
                ),
                reader,
                at,
            }),
            (Outcome::Told(at), Some(p)) => {
                let open = matches!(p.state, MessageState::Planned);
                let again = matches!(p.state, MessageState::Withdrawn | MessageState::Skipped);
                let moved = open && (p.at != at || p.address != address);
                if !p.by_hand && open && p.address == address {
                    if moved {
                        changes.push(Change::Put { id: p.id, at });
                    }
                } else if !p.by_hand && (moved || again) {
                    changes.push(Change::Move { id: p.id, at, address: address.to_owned() });
                }
            }
            (Outcome::Not(why), Some(p)) if p.state == MessageState::Planned => {
                changes.push(Change::Withdraw { id: p.id, why: why.words() });
            }
            (Outcome::Not(_), _) => {}
        }
    }
    changes
}

/// What is planned for somebody who is not there any more, for a date they have left, or by a cue
/// that is gone.
fn orphans(planned: &[Planned], seen: &[(CueId, String, DateId)]) -> Vec<Change> {
    planned
        .iter()
        .filter(|p| p.state == MessageState::Planned)
        .filter(|p| !seen.iter().any(|(c, r, d)| *c == p.cue && *r == p.reader && *d == p.date))
        .map(|p| Change::Withdraw {
            id: p.id,
            why: "the date or the automatic message is another now",
        })
        .collect()
}

/// What is to be changed for some bookings, each with all its dates.
fn of_bookings(
    known: &mut Known<'_>,
    booked: &[Booked],
    host: &str,
    now: Timestamp,
) -> Result<Vec<Change>, DeskError> {
    let mut all = Vec::new();
    for mine in booked.chunk_by(|a, b| a.booking == b.booking) {
        let Some(first) = mine.first() else { continue };
        let of = (first.booking, first.reference.as_str());
        all.extend(of_booking(known, of, None, mine, host, now)?);
    }
    Ok(all)
}

/// What is to be changed for one booking, with all its dates and the stamp cards it bought;
/// those are told of by the cues of its own date.
fn of_booking(
    known: &mut Known<'_>,
    of: (BookingId, &str),
    home: Option<DateId>,
    mine: &[Booked],
    host: &str,
    now: Timestamp,
) -> Result<Vec<Change>, DeskError> {
    let mut dates: Vec<DateId> = mine.iter().map(|b| b.date).collect();
    dates.dedup();
    let Some(first) = dates.first().copied().or(home) else { return Ok(Vec::new()) };
    if dates.is_empty() {
        dates.push(first);
    }
    let planned = outbox::planned_of(known.conn, Some(of.0), first)?;
    let (mut all, mut seen) = (Vec::new(), Vec::new());
    for id in dates {
        let Some((event, date)) = known.date(id)? else { continue };
        let cues = known.sheet(event)?;
        let mut people: Vec<Person> =
            mine.iter().filter(|b| b.date == id).map(|b| b.person.clone()).collect();
        if id == first && speaks_of_cards(&cues) {
            people.extend(
                readers::card_owners(known.conn, Which::One(of.0))?.into_iter().map(|b| b.person),
            );
        }
        for cue in cues.iter() {
            seen.extend(people.iter().map(|p| (cue.id, p.reader.key(), id)));
        }
        all.extend(changes((event, &date), Some(of), &people, &cues, &planned, host, now));
    }
    all.extend(orphans(&planned, &seen));
    Ok(all)
}

fn speaks_of_cards(cues: &[Cue]) -> bool {
    cues.iter().any(|c| c.trigger == Trigger::At(Moment::CardExpires))
}

fn of_others(
    known: &mut Known<'_>,
    id: DateId,
    host: &str,
    now: Timestamp,
) -> Result<Vec<Change>, DeskError> {
    let planned = outbox::planned_of(known.conn, None, id)?;
    let Some((event, date)) = known.date(id)? else { return Ok(orphans(&planned, &[])) };
    let cues = known.sheet(event)?;
    let people: Vec<Person> =
        others_of(known.conn, id, cues.iter())?.into_iter().map(|(_, p)| p).collect();
    let seen: Vec<_> =
        cues.iter().flat_map(|cue| people.iter().map(|p| (cue.id, p.reader.key(), id))).collect();
    let mut all = changes((event, &date), None, &people, &cues, &planned, host, now);
    all.extend(orphans(&planned, &seen));
    Ok(all)
}

/// Brings what is planned to what bookings and dates say: the marked bookings of one piece, and
/// one date, a piece after the other. Whether there is more.
///
/// # Errors
/// The store fails; what was not written stays marked.
pub async fn follow_due(desk: &Desk) -> Result<bool, DeskError> {
    super::daily::plan(desk).await?;
    let more = follow_marked(desk).await?;
    let Some(mut piece) = read_piece(desk, None).await? else { return Ok(more) };
    let began = desk.clock.outside();
    loop {
        // While a piece is written, in a part of the writing thread's time, the next is worked out.
        let ahead = piece.last.map(|last| (piece.date, piece.n, last));
        let next = async {
            match ahead {
                Some(from) => read_piece(desk, Some(from)).await,
                None => Ok(None),
            }
        };
        let (written, next) = tokio::join!(write_piece(desk, piece), next);
        // One that changed again meanwhile begins anew; other work has its turn too.
        match (written?, next?) {
            (true, Some(next)) if desk.clock.outside() - began < LONGEST => piece = next,
            _ => return Ok(true),
        }
        follow_marked(desk).await?;
    }
}

/// Follows the marked bookings of one piece; whether there are more.
async fn follow_marked(desk: &Desk) -> Result<bool, DeskError> {
    let (now, host) = (desk.clock.now(), desk.host().to_owned());
    let (marked, changes) = desk
        .store
        .read(move |conn| {
            let marked = outbox::to_follow(conn, PIECE)?;
            let mut known = Known::new(conn);
            let mut all = Vec::new();
            for (booking, _) in &marked {
                let found = matricle_store::bookings::by_id(conn, *booking)?;
                let Some(found) = found.filter(|b| !b.test) else { continue };
                let cues = known.cues_of(found.date)?;
                let booked = readers::booked(conn, Which::One(*booking), &cues)?;
                let of = (*booking, found.reference.as_str());
                all.extend(of_booking(&mut known, of, Some(found.date), &booked, &host, now)?);
            }
            Ok::<_, DeskError>((marked, all))
        })
        .await?;
    let more = marked.len() == PIECE as usize;
    if !marked.is_empty() {
        desk.store
            .write(move |tx| {
                outbox::apply(tx, &changes)?;
                outbox::followed(tx, &marked)
            })
            .await?;
    }
    Ok(more)
}

/// Some of the bookings of a date, and what is to be changed for them.
struct Piece {
    date: DateId,
    /// How often the date had changed.
    n: i64,
    /// The last booking of the piece; with none the date is done.
    last: Option<BookingId>,
    /// How many people were read.
    many: usize,
    changes: Vec<Change>,
}

/// Works out the next piece: of the date and from the booking that are given, or of the first
/// date that is marked. The first piece of a date has those who have not booked it, too.
async fn read_piece(
    desk: &Desk,
    from: Option<(DateId, i64, BookingId)>,
) -> Result<Option<Piece>, DeskError> {
    let (now, host) = (desk.clock.now(), desk.host().to_owned());
    desk.store
        .read(move |conn| {
            let from = match from {
                Some(from) => Some(from),
                None => outbox::to_follow_dates(conn, 1)?.pop(),
            };
            let Some((date, n, done_to)) = from else { return Ok(None) };
            let mut known = Known::new(conn);
            let mut changes = Vec::new();
            if done_to == BookingId(0) {
                changes.extend(of_others(&mut known, date, &host, now)?);
            }
            let cues = known.cues_of(date)?;
            let booked = readers::booked(conn, Which::OfDate(date, done_to, READ), &cues)?;
            let last = booked.last().map(|b| b.booking);
            changes.extend(of_bookings(&mut known, &booked, &host, now)?);
            Ok(Some(Piece { date, n, last, many: booked.len(), changes }))
        })
        .await
}

/// Writes a piece; whether the date has not changed meanwhile.
async fn write_piece(desk: &Desk, piece: Piece) -> Result<bool, DeskError> {
    let Piece { date, n, last, many, changes } = piece;
    // A door waits for no more than a small part of this.
    for part in changes.chunks(WRITTEN) {
        let part = part.to_vec();
        let took = desk
            .store
            .write(move |tx| {
                let began = std::time::Instant::now();
                outbox::apply(tx, &part)?;
                Ok::<_, DeskError>(began.elapsed())
            })
            .await?;
        if many >= PIECE as usize {
            tokio::time::sleep(took * (SHARE - 1)).await;
        }
    }
    Ok(desk.store.write(move |tx| outbox::done(tx, date, n, last)).await?)
}

/// Whether a message of a moment is still due.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Still {
    /// It goes.
    Yes,
    /// It goes at another minute.
    Later(Timestamp),
    /// It does not go.
    No(&'static str),
}

/// Whether a message of a moment is still due as bookings and dates are now.
pub(crate) fn is_still_due(
    conn: &Connection,
    message: &Message,
    now: Timestamp,
) -> Result<Still, DeskError> {
    let (Some(cue), Some(id)) = (message.cue, message.date) else { return Ok(Still::Yes) };
    let mut known = Known::new(conn);
    let gone = Still::No(WhyNot::NoDate.words());
    let Some((event, date)) = known.date(id)? else { return Ok(gone) };
    let cues = known.sheet(event)?;
    let people: Vec<Person> = match message.about {
        About::Booking(booking) if message.trigger == Trigger::At(Moment::CardExpires) => {
            readers::card_owners(conn, Which::One(booking))?.into_iter().map(|b| b.person).collect()
        }
        About::Booking(booking) => readers::booked(conn, Which::One(booking), &cues)?
            .into_iter()
            .filter(|b| b.date == id)
            .map(|b| b.person)
            .collect(),
        About::Event(_) | About::House(_) | About::Submission(..) => {
            others_of(conn, id, cues.iter())?.into_iter().map(|(_, p)| p).collect()
        }
    };
    let lines = due(&date, &people, &cues, now);
    let line = lines.iter().find(|l| l.cue == cue && l.reader.key() == message.reader);
    Ok(match line.map(|l| l.outcome) {
        Some(Outcome::Told(at)) if at > now && !message.by_hand => Still::Later(at),
        Some(Outcome::Told(_)) => Still::Yes,
        // Somebody sends it now all the same, or gave it another minute.
        Some(Outcome::Not(WhyNot::Over | WhyNot::BookedAfter | WhyNot::BookedBefore))
            if message.by_hand =>
        {
            Still::Yes
        }
        Some(Outcome::Not(why)) => Still::No(why.words()),
        None => Still::No("the date or the automatic message is another now"),
    })
}

/// Messages that stand planned at another minute than their cues, dates and bookings say, a
/// sentence each; nothing of what is still to be followed, nor of what somebody steered by hand.
pub fn misplanned(conn: &Connection, now: Timestamp) -> Result<Vec<String>, DeskError> {
    let mut wrong = Vec::new();
    for message in outbox::planned_of_moments(conn, MOST_CHECKED)? {
        let said = match is_still_due(conn, &message, now)? {
            Still::Later(at) if at != message.planned_at => format!("it is to go at {at}"),
            Still::No(why) => why.to_owned(),
            Still::Later(_) | Still::Yes => continue,
        };
        wrong.push(format!(
            "message {}: broken is “what is planned stands at its minute”, {}: {said}",
            message.id, message.planned_at
        ));
    }
    Ok(wrong)
}

/// So many planned messages are looked at one by one; more of them would be looked at for hours.
const MOST_CHECKED: u32 = 20_000;

/// One line of what goes, for one date.
#[derive(Debug, Clone)]
pub struct GoingLine {
    /// By which cue.
    pub cue: CueId,
    /// For which date.
    pub date: DateId,
    /// Who.
    pub name: String,
    /// Their booking's reference, as stored; empty for others.
    pub reference: String,
    /// To which address or number; empty for none.
    pub address: String,
    /// When, or why not.
    pub outcome: Outcome,
}

/// What goes for the moments of a date: each cue and each person it could reach, told or not.
pub fn will_go(conn: &Connection, id: DateId, now: Timestamp) -> Result<Vec<GoingLine>, DeskError> {
    let mut known = Known::new(conn);
    let Some((event, date)) = known.date(id)? else { return Ok(Vec::new()) };
    let cues = known.sheet(event)?;
    let mut lines = to_bookers(conn, &date, &cues, now)?;
    let way = |line: &Due| cues.iter().find(|c| c.id == line.cue).map_or(Way::Mail, |c| c.way);
    let others = others_of(conn, id, cues.iter())?;
    let people: Vec<Person> = others.iter().map(|(_, p)| p.clone()).collect();
    for line in due(&date, &people, &cues, now) {
        let Some((name, person)) = others.iter().find(|(_, p)| p.reader == line.reader) else {
            continue;
        };
        lines.push(GoingLine {
            cue: line.cue,
            date: id,
            name: name.clone(),
            reference: String::new(),
            address: target(way(&line), person).to_owned(),
            outcome: line.outcome,
        });
    }
    Ok(lines)
}

/// What cues of moments mean for the people who have booked a date, booking by booking, as they
/// are followed.
pub fn to_bookers(
    conn: &Connection,
    date: &DateFacts,
    cues: &[Cue],
    now: Timestamp,
) -> Result<Vec<GoingLine>, DeskError> {
    let which = Which::all_of(date.id);
    let mut booked = readers::booked(conn, which, cues)?;
    booked.retain(|b| b.date == date.id);
    if speaks_of_cards(cues) {
        booked.extend(readers::card_owners(conn, which)?);
    }
    let mut lines = Vec::new();
    let way = |line: &Due| cues.iter().find(|c| c.id == line.cue).map_or(Way::Mail, |c| c.way);
    for mine in booked.chunk_by(|a, b| a.booking == b.booking) {
        let people: Vec<Person> = mine.iter().map(|b| b.person.clone()).collect();
        for line in due(date, &people, cues, now) {
            let Some(who) = mine.iter().find(|b| b.person.reader == line.reader) else { continue };
            lines.push(GoingLine {
                cue: line.cue,
                date: date.id,
                name: who.name.clone(),
                reference: who.reference.clone(),
                address: target(way(&line), &who.person).to_owned(),
                outcome: line.outcome,
            });
        }
    }
    Ok(lines)
}
