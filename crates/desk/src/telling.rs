//! Telling people: what happened is told by the cues of the event's sheet, and what is planned
//! for its moments follows bookings and dates. No use case words a message, and none can forget
//! to withdraw one.

mod daily;
mod follow;
mod standard;

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::messages::cue::{Cue, Only, Trigger, Way, When, Whom};
use matricle_core::messages::due::{Person, Reader, WhyNot, concerns, reaches, suits, target};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::people::acting::{Acting, Actor};
use matricle_core::people::staff::Right;
use matricle_core::people::wish::What;
use matricle_core::{DateId, EventId, MessageId, TagId};
use matricle_formats::words;
use matricle_store::bookings::{self, Booking};
use matricle_store::door::{self, AtDoor};
use matricle_store::outbox::{self, About, NewMessage};
use matricle_store::{Connection, Tx, cues, events, invited, readers, templates, wishes as wished};

use crate::acting::Turn;
use crate::{DeskError, house_of};

pub use daily::{News, Wishes, keep_wishes, wishes};
pub(crate) use daily::{news, plan as plan_wishes};
pub use follow::follow_due;
pub use follow::{GoingLine, misplanned, to_bookers, will_go};
pub(crate) use follow::{Still, is_still_due};
pub(crate) use standard::{install, wording_of};

/// The cues that hold for an event; a house that has none yet gets the program's own.
pub(crate) fn sheet_of(
    tx: &Tx<'_>,
    event: EventId,
    now: Timestamp,
) -> Result<std::rc::Rc<Vec<Cue>>, DeskError> {
    let sheet = cues::sheet(tx, event)?;
    if sheet.is_empty() && cues::standards(tx)? == 0 {
        install(tx, now)?;
        return Ok(cues::sheet(tx, event)?);
    }
    Ok(sheet)
}

/// Tells of something that happened to a booking, as the event's cues say. Whoever has no
/// address is rung up when what they booked moves or falls out; of all else they hear where they
/// did it.
pub(crate) fn tell(
    tx: &Tx<'_>,
    booking: &Booking,
    occasion: Occasion,
    knows: &Knows,
    turn: &Turn,
) -> Result<(), DeskError> {
    let Some(plan) = events::planned(tx, booking.date)? else { return Err(DeskError::NotFound) };
    let event = plan.event.id;
    let sheet = sheet_of(tx, event, turn.now)?;
    let mut knows = knows.clone();
    if knows.word.is_empty() {
        turn.word.as_ref().clone_into(&mut knows.word);
    }
    if occasion == Occasion::Moved && !supersedes(tx, booking, &mut knows, &plan.date)? {
        return Ok(());
    }
    if occasion.is_rung() && booking.email.is_empty() {
        return ring(tx, booking, occasion, &knows, turn);
    }
    // What happens to a whole date is told to those who have not booked it once: `tell_of_date`.
    let of_bookings = |c: &&Cue| !occasion.is_of_date() || is_of_bookings(c);
    let cues: Vec<&Cue> = sheet
        .iter()
        .filter(|c| c.on && c.trigger == Trigger::On(occasion))
        .filter(|c| !knows.again || c.whom == Whom::Attendees)
        .filter(of_bookings)
        .collect();
    // Where a cue tells the hosts, they are not told twice.
    let by_cue = cues.iter().any(|c| c.whom == Whom::Hosts && c.way == Way::Mail);
    if occasion == Occasion::Confirmed && !by_cue {
        tell_each(tx, booking, turn)?;
    }
    if cues.is_empty() {
        return Ok(());
    }
    let people = people_of(tx, booking, occasion, &knows, &cues)?;
    let Some(booker) = people.first() else { return Ok(()) };
    let asks_tags = cues.iter().any(|c| c.only.tag.is_some());
    let tags: Vec<TagId> = if asks_tags { readers::tags(tx, event)? } else { Vec::new() };
    let mut told: Vec<String> = Vec::new();
    for cue in cues {
        let holders = occasion.is_of_ticket() && cue.whom == Whom::Attendees;
        for person in people.iter().filter(|p| concerns(cue, p)) {
            if holders && matches!(person.reader, Reader::Booker(_)) {
                continue;
            }
            // Others hear of those bookings only that the cue is for.
            let booked = matches!(person.reader, Reader::Booker(_) | Reader::Attendee(..));
            if !booked && suits(cue, booker).is_err() {
                continue;
            }
            let Some(skipped) = skipped(reaches(cue, person, &tags)) else { continue };
            let reader = person.reader.key();
            let said = format!("{} {reader}", cue.way.word());
            let several = told.contains(&said).then_some(cue);
            told.push(said);
            let date = &plan.date;
            let new = Happening { booking, date, occasion, knows: &knows, reader: &reader };
            plan_one(tx, &new, cue, person, skipped, several, turn)?;
        }
    }
    Ok(())
}

/// Why a message is written down and does not go: nothing for one that goes. `None` where there
/// is nothing to write down, since somebody is none of those whom the cue is for.
const fn skipped(reached: Result<(), WhyNot>) -> Option<&'static str> {
    match reached {
        Ok(()) => Some(""),
        Err(why @ (WhyNot::NoAddress | WhyNot::NoNumber | WhyNot::Bounced)) => Some(why.words()),
        Err(_) => None,
    }
}

/// Whether a cue speaks to people of bookings, each by themselves.
const fn is_of_bookings(cue: &Cue) -> bool {
    cue.whom.has_booked() && !cue.is_for_everybody()
}

/// Tells hosts who want to hear of each new attendee at once.
fn tell_each(tx: &Tx<'_>, booking: &Booking, turn: &Turn) -> Result<(), DeskError> {
    if booking.test {
        return Ok(());
    }
    for (host, address) in wished::hosts_who_want(tx, booking.date, What::EachAttendee)? {
        let (reader, id) = (Reader::Host(host).key(), uuid::Uuid::now_v7());
        let template = templates::standard(tx, "new-booking")?.map(|t| t.id);
        let (about, trigger) = (About::Booking(booking.id), Trigger::On(Occasion::Confirmed));
        let (to, knows) = ((Way::Mail, address.as_str()), Knows::default());
        outbox::plan(
            tx,
            &NewMessage {
                template,
                unique: &format!("each {} {reader} {id}", booking.id),
                message_id: &format!("{id}@{}", turn.host),
                ..NewMessage::to(about, trigger, &reader, to, &knows, turn.now)
            },
        )?;
    }
    Ok(())
}

/// Tells those who have not booked a date, once, of something that happened to it: hosts, people
/// of the house, those who wait, the chat, the event's page. A date that moves again before
/// anybody was told is told of once; of one that is back where it was, nothing is.
pub(crate) fn tell_of_date(
    tx: &Tx<'_>,
    (event, date): (EventId, DateId),
    occasion: Occasion,
    knows: &Knows,
    turn: &Turn,
) -> Result<(), DeskError> {
    let trigger = Trigger::On(occasion);
    let mut knows = knows.clone();
    // Nobody need hear any more that it moved before, nor that it moved at all once it is off.
    let open = outbox::open_of_date(tx, date, Trigger::On(Occasion::Moved))?;
    for message in &open {
        outbox::withdraw_one(tx, message.id, "something newer is to be said")?;
    }
    if let (Some(first), Occasion::Moved) = (open.first(), occasion) {
        knows.before = first.knows.before;
        knows.place_before.clone_from(&first.knows.place_before);
        let found = events::date_by_id(tx, date)?;
        let back = found.is_some_and(|(_, d)| {
            knows.before == Some((d.span.starts, d.span.ends)) && knows.place_before == d.place()
        });
        if back {
            return Ok(());
        }
    }
    let sheet = sheet_of(tx, event, turn.now)?;
    let cues: Vec<&Cue> =
        sheet.iter().filter(|c| c.on && c.trigger == trigger && !is_of_bookings(c)).collect();
    if cues.is_empty() {
        return Ok(());
    }
    let tags = readers::tags(tx, event)?;
    let people: Vec<Person> =
        others_of(tx, date, cues.iter().copied())?.into_iter().map(|(_, p)| p).collect();
    for cue in cues {
        for person in people.iter().filter(|p| concerns(cue, p)) {
            let Some(skipped) = skipped(reaches(cue, person, &tags)) else { continue };
            let (reader, id) = (person.reader.key(), uuid::Uuid::now_v7());
            let to = (cue.way, target(cue.way, person));
            let at = after(turn.now, cue.when);
            outbox::plan(
                tx,
                &NewMessage {
                    date: Some(date),
                    cue: Some(cue.id),
                    template: Some(cue.template),
                    unique: &format!("{} d{date} {reader} {id}", occasion.word()),
                    message_id: &format!("d{date}.{id}@{}", turn.host),
                    skipped,
                    ..NewMessage::to(About::Event(event), trigger, &reader, to, &knows, at)
                },
            )?;
        }
    }
    Ok(())
}

/// Somebody who was let in: who, by which door, when.
pub(crate) struct Arrived<'a>(pub(crate) &'a AtDoor, pub(crate) &'a str, pub(crate) Timestamp);

/// Tells of somebody who was let in: whoever of the house asked to hear of them, and, where any
/// cue speaks of it, those that the cues name. Asked at each scan: most houses have no such cue.
pub(crate) fn tell_let_in(
    tx: &Tx<'_>,
    who: &Arrived<'_>,
    by: &Acting,
    host: &str,
    now: Timestamp,
) -> Result<(), DeskError> {
    tell_awaited(tx, who, host, now)?;
    if !cues::speak_of(tx, Trigger::On(Occasion::LetIn))? {
        return Ok(());
    }
    let Some(booking) = bookings::by_id(tx, who.0.booking)? else { return Ok(()) };
    let turn = Turn { by: by.clone(), now, host: host.into(), word: "".into() };
    tell(tx, &booking, Occasion::LetIn, &Knows::default(), &turn)
}

/// Tells those who asked to hear of somebody that they have come: once, however often they go in
/// and out, and only who may see the Office still.
fn tell_awaited(
    tx: &Tx<'_>,
    Arrived(person, by, at): &Arrived<'_>,
    host: &str,
    now: Timestamp,
) -> Result<(), DeskError> {
    let attendee = person.facts.attendee;
    let mut awaited_by = door::awaited_by(tx, attendee)?;
    awaited_by.retain(|(_, _, role)| role.may(Right::SeeOffice));
    if awaited_by.is_empty() {
        return Ok(());
    }
    let clock = words::clock(words::local(*at, &house_of(tx)?.zone).datetime());
    let came = format!("{}, {clock}, {by}", person.name);
    let knows = Knows { came, ..Knows::default() };
    for (staff, address, _) in awaited_by {
        let reader = Reader::Staff(staff).key();
        let (about, trigger) = (About::Booking(person.booking), Trigger::On(Occasion::Came));
        outbox::plan(
            tx,
            &NewMessage {
                unique: &format!("came {attendee} {reader}"),
                message_id: &format!("{}@{host}", uuid::Uuid::now_v7()),
                ..NewMessage::to(about, trigger, &reader, (Way::Mail, &address), &knows, now)
            },
        )?;
    }
    Ok(())
}

/// What of a booking's change is told when an earlier one has not been told yet: both, once. Nothing
/// where it is back where it was.
fn with_open(knows: &Knows, open: Knows, date: &events::Date) -> Option<Knows> {
    let mut both = knows.clone();
    if open.before.is_some() {
        (both.before, both.place_before) = (open.before, open.place_before);
    }
    if both.word.is_empty() {
        both.word = open.word;
    }
    if both.change.is_empty() {
        both.change = open.change;
    } else if !open.change.is_empty() && !both.change.contains(&open.change) {
        both.change = format!("{} {}", open.change, both.change);
    }
    if !open.holder.is_empty() && open.person != both.person {
        both.holder = format!("{}, {}", open.holder, both.holder);
    }
    let is_back = both.before == Some((date.span.starts, date.span.ends))
        && both.place_before == date.place();
    if !is_back {
        return Some(both);
    }
    both.before = None;
    (both.change != knows.change).then_some(both)
}

/// Whether an act is a stranger's as far as mails are concerned, or follows from one: whoever of the
/// house acts answers for theirs themselves, and whoever pays is no stranger.
const fn is_unasked(occasion: Occasion, by: &Acting) -> bool {
    matches!(by.kind, Actor::Booker | Actor::Program) && !occasion.is_of_date()
}

/// Something that happened, to be told to one reader.
struct Happening<'a> {
    booking: &'a Booking,
    date: &'a events::Date,
    occasion: Occasion,
    knows: &'a Knows,
    reader: &'a str,
}

fn plan_one(
    tx: &Tx<'_>,
    new: &Happening<'_>,
    cue: &Cue,
    person: &Person,
    skipped: &str,
    several: Option<&Cue>,
    turn: &Turn,
) -> Result<(), DeskError> {
    let Happening { booking, date, occasion, knows, reader } = *new;
    let trigger = Trigger::On(occasion);
    let before = outbox::count_of(tx, booking.id, trigger, reader, Some(cue.id))?;
    if before > 0 && occasion.is_once() {
        return Ok(());
    }
    let mut knows = knows.clone();
    let is_theirs = matches!(person.reader, Reader::Booker(_) | Reader::Attendee(..));
    let unasked = is_theirs && is_unasked(occasion, &turn.by);
    if before > 0 && unasked {
        // What waits, since much went to this reader lately, and has not been told.
        let open = outbox::of_booking(tx, booking.id)?.into_iter().filter(|m| {
            m.unasked
                && m.state == outbox::MessageState::Planned
                && m.planned_at > turn.now
                && m.trigger == trigger
                && m.reader == *reader
                && m.address == target(cue.way, person)
                && m.cue == Some(cue.id)
        });
        for open in open {
            outbox::withdraw_one(tx, open.id, "a newer one says it as well")?;
            match with_open(&knows, open.knows, date) {
                Some(both) => knows = both,
                None => return Ok(()),
            }
        }
    }
    let mut id = booking.reference.as_str().to_lowercase();
    id.push('.');
    id.push_str(&occasion.word().replace(' ', "-"));
    if before > 0 {
        id.push_str(&(before + 1).to_string());
    }
    if !matches!(person.reader, Reader::Booker(_)) {
        id.push('.');
        id.push_str(&in_id(reader));
    }
    if let Some(cue) = several {
        id.push_str(&format!(".c{}", cue.id));
    }
    let at = after(turn.now, cue.when);
    let to = (cue.way, target(cue.way, person));
    outbox::plan(
        tx,
        &NewMessage {
            cue: Some(cue.id),
            template: Some(cue.template),
            unique: &format!("{} {} {reader} {} {before}", occasion.word(), booking.id, cue.id),
            message_id: &format!("{id}.{}@{}", unguessed(), turn.host),
            skipped,
            unasked,
            ..NewMessage::to(About::Booking(booking.id), trigger, reader, to, &knows, at)
        },
    )?;
    Ok(())
}

/// So long after something happened.
fn after(now: Timestamp, when: When) -> Timestamp {
    let civil = jiff::tz::TimeZone::UTC.to_datetime(now);
    when.from(civil, &jiff::tz::TimeZone::UTC).unwrap_or(now).max(now)
}

/// The people of a booking whom an occasion concerns.
fn people_of(
    tx: &Tx<'_>,
    booking: &Booking,
    occasion: Occasion,
    knows: &Knows,
    cues: &[&Cue],
) -> Result<Vec<Person>, DeskError> {
    let typed = booking.draft.email.trim();
    // Before it is sent in, the address stands in the form alone.
    let is_open = matches!(occasion, Occasion::Left | Occasion::WayBack);
    let email = if booking.email.is_empty() && is_open { typed } else { &booking.email };
    let mut booker = Person::new(Reader::Booker(booking.id), email, booking.made_at);
    booker.phone.clone_from(&booking.phone);
    let plain = cues.iter().all(|c| c.only == Only::default());
    let mut people = Vec::new();
    if !plain {
        let owned: Vec<Cue> = cues.iter().map(|c| (*c).clone()).collect();
        let known = readers::booked(tx, readers::Which::One(booking.id), &owned)?;
        if let Some(found) = known.into_iter().find(|b| b.person.reader == booker.reader) {
            booker = Person { email: booker.email, ..found.person };
        }
    }
    if !email.is_empty() {
        booker.bounced = outbox::address(tx, email)?.refused.is_some();
    }
    people.push(booker.clone());
    if cues.iter().any(|c| c.whom == Whom::Attendees) {
        for (no, _, email) in readers::holders(tx, booking.id)? {
            if occasion.is_of_ticket() && knows.person != Some(no) {
                continue;
            }
            let mut person = Person::new(Reader::Attendee(booking.id, no), &email, booking.made_at);
            person.tickets.clone_from(&booker.tickets);
            person.part = booker.part;
            person.bounced = outbox::address(tx, &person.email)?.refused.is_some();
            people.push(person);
        }
    }
    if cues.iter().any(|c| !is_of_bookings(c)) {
        let others = others_of(tx, booking.date, cues.iter().copied())?;
        people.extend(others.into_iter().map(|(_, person)| person));
    }
    Ok(people)
}

/// The people who hear of a date without having booked it, by their names: hosts, those who wait,
/// people of the house, the addresses that cues are for, and nobody in particular.
fn others_of<'a>(
    conn: &Connection,
    date: DateId,
    cues: impl Iterator<Item = &'a Cue>,
) -> Result<Vec<(String, Person)>, DeskError> {
    let of = |reader, email: &str| Person::new(reader, email, Timestamp::UNIX_EPOCH);
    let mut people = readers::others(conn, date)?;
    people.extend(cues.filter_map(|cue| match &cue.whom {
        Whom::Address(address) => {
            Some((address.clone(), of(Reader::Address(address.clone()), address)))
        }
        _ => None,
    }));
    people.push(("everybody".into(), of(Reader::Everybody, "")));
    Ok(people)
}

/// A part of a `Message-ID` that nobody guesses: by it a letter finds what it answers, and a mail
/// server says what did not arrive.
pub(crate) fn unguessed() -> String {
    crate::random_bytes::<8>().iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A reader, as part of a `Message-ID` (RFC 5322 §3.6.4).
pub(crate) fn in_id(reader: &str) -> String {
    reader.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect()
}

/// A booker who has to be told by telephone. What they were to hear before and have not, they
/// need not hear any more.
fn ring(
    tx: &Tx<'_>,
    booking: &Booking,
    occasion: Occasion,
    knows: &Knows,
    turn: &Turn,
) -> Result<(), DeskError> {
    if !booking.is_told() {
        return Ok(());
    }
    outbox::withdraw(tx, booking.id, |known| !known.is_rung(), "something newer is to be said")?;
    let (reader, id) = (Reader::Booker(booking.id).key(), uuid::Uuid::now_v7());
    let (about, trigger) = (About::Booking(booking.id), Trigger::On(occasion));
    outbox::plan(
        tx,
        &NewMessage {
            unique: &format!("ring {id}"),
            message_id: &format!("ring.{id}"),
            ..NewMessage::to(about, trigger, &reader, (Way::Ring, &booking.phone), knows, turn.now)
        },
    )?;
    Ok(())
}

/// A date that moves again before anybody was told: they hear of both at once, or of nothing if
/// it is back where it was. Whether there is something to tell.
fn supersedes(
    tx: &Tx<'_>,
    booking: &Booking,
    knows: &mut Knows,
    date: &events::Date,
) -> Result<bool, DeskError> {
    let open = outbox::of_booking(tx, booking.id)?.into_iter().find(|m| {
        m.occasion() == Some(Occasion::Moved)
            && m.state == outbox::MessageState::Planned
            && m.tries == 0
            && m.knows.before.is_some()
    });
    let Some(open) = open else { return Ok(true) };
    let same = |o: Occasion| o != Occasion::Moved;
    outbox::withdraw(tx, booking.id, same, "it moved once more")?;
    knows.before = open.knows.before;
    knows.place_before = open.knows.place_before;
    if knows.word.is_empty() {
        knows.word = open.knows.word;
    }
    let back = knows.before == Some((date.span.starts, date.span.ends))
        && knows.place_before == date.place();
    Ok(!back)
}

/// Tells the booker what has changed about their booking.
pub(crate) fn tell_changed(
    tx: &Tx<'_>,
    booking: &Booking,
    said: &str,
    turn: &Turn,
) -> Result<(), DeskError> {
    let knows = Knows { change: said.into(), ..Knows::default() };
    tell(tx, booking, Occasion::Changed, &knows, turn)
}

/// Tells those to whom tickets of a booking were passed that these stand again, or on another date.
///
/// # Errors
/// As [`tell`].
pub(crate) fn tell_holders_again(
    tx: &Tx<'_>,
    booking: &Booking,
    what: &str,
    turn: &Turn,
) -> Result<(), DeskError> {
    for (person, holder, _) in readers::holders(tx, booking.id)? {
        tell_holder_again(tx, booking, (person, holder), what, turn)?;
    }
    Ok(())
}

/// The same for one of them.
///
/// # Errors
/// As [`tell`].
pub(crate) fn tell_holder_again(
    tx: &Tx<'_>,
    booking: &Booking,
    (person, holder): (usize, String),
    what: &str,
    turn: &Turn,
) -> Result<(), DeskError> {
    let change = format!("The ticket that {} passed to you {what}.", booking.booker());
    let knows = Knows { person: Some(person), holder, change, again: true, ..Knows::default() };
    tell(tx, booking, Occasion::PassedOn, &knows, turn)
}

/// What was planned and is not true any more of a booking in this state is not sent.
pub(crate) fn withdraw(tx: &Tx<'_>, booking: &Booking, to: State) -> Result<(), DeskError> {
    let why = match to {
        State::Cancelled => "the booking was cancelled",
        State::Lapsed => "the booking lapsed",
        State::Confirmed => "the booking is confirmed",
        State::Declined => "the booking was declined",
        State::Held | State::Requested | State::AwaitingPayment => "not true any more",
    };
    Ok(outbox::withdraw(tx, booking.id, |occasion| occasion.holds(to), why)?)
}

/// Somebody who waits, to be told something.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Waiting<'a> {
    pub(crate) id: i64,
    pub(crate) email: &'a str,
}

/// Tells somebody who waits for a date of an event.
pub(crate) fn tell_waiter(
    tx: &Tx<'_>,
    event: EventId,
    waiter: Waiting<'_>,
    occasion: Occasion,
    host: &str,
    now: Timestamp,
) -> Result<(), DeskError> {
    let sheet = sheet_of(tx, event, now)?;
    let person = Person::new(Reader::Waiter(waiter.id), waiter.email, now);
    let reader = person.reader.key();
    for cue in sheet.iter().filter(|c| c.trigger == Trigger::On(occasion)) {
        if !concerns(cue, &person) || reaches(cue, &person, &[]).is_err() {
            continue;
        }
        let id = uuid::Uuid::now_v7();
        let (to, at) = ((cue.way, waiter.email), after(now, cue.when));
        outbox::plan(
            tx,
            &NewMessage {
                waiter: Some(waiter.id),
                cue: Some(cue.id),
                template: Some(cue.template),
                unasked: true,
                unique: &format!("{} {id}", occasion.word()),
                message_id: &format!("{id}@{host}"),
                ..NewMessage::to(
                    About::Event(event),
                    cue.trigger,
                    &reader,
                    to,
                    &Knows::default(),
                    at,
                )
            },
        )?;
    }
    Ok(())
}

/// An invitation that is written down.
pub enum Ask<'a> {
    /// The first, by mail.
    First,
    /// The first, which the house brings to its reader itself: its link is there to be copied.
    Elsewhere,
    /// Once more, and never a third time: by a cue, or by hand.
    Again(Option<&'a Cue>),
}

/// Why an invitation was not mailed that the house brings to its reader itself.
const ELSEWHERE: &str = "the house sends this one by other means";

/// Invites somebody who is on a list of an event.
pub fn invite(
    tx: &Tx<'_>,
    event: EventId,
    address: &str,
    ask: &Ask<'_>,
    turn: &Turn,
) -> Result<(), DeskError> {
    let (what, skipped, cue) = match ask {
        Ask::First => ("invitation", "", None),
        Ask::Elsewhere => ("invitation", ELSEWHERE, None),
        Ask::Again(cue) => ("invitation again", "", *cue),
    };
    let reader = Reader::Address(address.to_owned()).key();
    let (about, trigger) = (About::Event(event), Trigger::On(Occasion::Invited));
    let (to, knows) = ((Way::Mail, address), Knows::default());
    // How often somebody was asked stands beside them: nobody is asked twice by this.
    let id = uuid::Uuid::now_v7();
    let new = outbox::plan(
        tx,
        &NewMessage {
            cue: cue.map(|c| c.id),
            template: cue.map(|c| c.template),
            unique: &format!("{what} {id}"),
            message_id: &format!("{id}@{}", turn.host),
            bulk: true,
            skipped,
            unasked: is_unasked(Occasion::Invited, &turn.by),
            ..NewMessage::to(about, trigger, &reader, to, &knows, turn.now)
        },
    )?;
    let message = new.then(|| MessageId(tx.last_insert_rowid()));
    let elsewhere = matches!(ask, Ask::Elsewhere);
    Ok(invited::asked(tx, event, address, (message, elsewhere), turn.now)?)
}
