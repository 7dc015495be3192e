//! What is due: who gets what when and why, and who does not and why not.
//!
//! The minute of a message is a pure function of what is known: the moment, the cue, when
//! somebody booked, when the date was last moved. Nothing here remembers what was planned
//! before; what was sent is kept by the outbox, where one cue reaches one person once for one
//! date.

use std::collections::{HashMap, HashSet};

use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::TimeZone;

use crate::ids::{BookingId, CueId, DateId, HostId, PersonId, QuestionId, TagId, TicketTypeId};
use crate::messages::cue::{Cue, Late, Part, Paying, Side, Trigger, Way, When, Whom, same};
use crate::messages::occasion::{Moment, Occasion};
use crate::people::staff::Role;
use crate::people::wish::{What, Wish};

/// Who is told.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Reader {
    /// The booker of a booking.
    Booker(BookingId),
    /// One person of a booking, who has an address of their own.
    Attendee(BookingId, usize),
    /// A host.
    Host(HostId),
    /// Somebody on a waiting list.
    Waiter(i64),
    /// Whoever has a stamp card, by its key.
    Card(i64),
    /// Somebody of the house.
    Staff(PersonId),
    /// An address.
    Address(String),
    /// The team's chat, or the event's page: nobody in particular.
    Everybody,
}

impl Reader {
    /// Tells one reader from another, as stored.
    #[must_use]
    pub fn key(&self) -> String {
        match self {
            Self::Booker(booking) => format!("b{booking}"),
            Self::Attendee(booking, person) => format!("b{booking}.{person}"),
            Self::Host(host) => format!("h{host}"),
            Self::Waiter(id) => format!("w{id}"),
            Self::Card(id) => format!("c{id}"),
            Self::Staff(person) => format!("p{person}"),
            Self::Address(address) => format!("a{}", address.to_lowercase()),
            Self::Everybody => "all".into(),
        }
    }
}

/// A date, as far as cues need to know it.
#[derive(Debug, Clone)]
pub struct DateFacts {
    /// Its key.
    pub id: DateId,
    /// When it starts, on its own wall clock.
    pub starts: DateTime,
    /// When it ends.
    pub ends: DateTime,
    /// The zone of that clock.
    pub zone: TimeZone,
    /// It is published, and neither it nor its event is called off.
    pub takes_place: bool,
    /// When it was last moved, if ever.
    pub moved_at: Option<Timestamp>,
    /// When the first ticket goes on sale, if that is set.
    pub sale_opens: Option<Timestamp>,
    /// When the last ticket goes off sale, if that is set.
    pub sale_closes: Option<Timestamp>,
    /// The event's tags.
    pub tags: Vec<TagId>,
}

/// How one person of a booking stands at the door.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Seen {
    /// Not let in, so far.
    NotIn,
    /// Let in.
    In,
}

/// Somebody who may be told, as far as cues need to know them.
#[derive(Debug, Clone)]
pub struct Person {
    /// Who.
    pub reader: Reader,
    /// The address; empty for none.
    pub email: String,
    /// The number; empty for none.
    pub phone: String,
    /// The address refused a mail for good.
    pub bounced: bool,
    /// Since when they belong to the date: when they booked, or were put on it.
    pub since: Timestamp,
    /// Their booking stands: requested, to pay or confirmed.
    pub stands: bool,
    /// … and it is confirmed.
    pub confirmed: bool,
    /// When the time to pay ends, while it runs.
    pub pay_by: Option<Timestamp>,
    /// When their offer ends, while it runs.
    pub offer_ends: Option<Timestamp>,
    /// When their stamp card expires, while it has stamps.
    pub card_ends: Option<Timestamp>,
    /// The ticket types they have.
    pub tickets: Vec<TicketTypeId>,
    /// How they take part.
    pub part: Part,
    /// How they pay what is still to pay.
    pub paying: Option<Paying>,
    /// Something of the price is still to pay, whether the booking is confirmed or not.
    pub owes: bool,
    /// What they answered.
    pub answers: Vec<(QuestionId, String)>,
    /// They have never been to a date of the house.
    pub first_visit: bool,
    /// How they stand at the door.
    pub seen: Seen,
    /// Their role, for people of the house.
    pub role: Option<Role>,
    /// What they asked to be told, for hosts.
    pub wishes: Vec<Wish>,
}

impl Person {
    /// Somebody of whom nothing more is known.
    #[must_use]
    pub fn new(reader: Reader, email: &str, since: Timestamp) -> Self {
        Self {
            reader,
            email: email.into(),
            phone: String::new(),
            bounced: false,
            since,
            stands: true,
            confirmed: true,
            pay_by: None,
            offer_ends: None,
            card_ends: None,
            tickets: Vec::new(),
            part: Part::InPerson,
            paying: None,
            owes: false,
            answers: Vec::new(),
            first_visit: false,
            seen: Seen::NotIn,
            role: None,
            wishes: Vec::new(),
        }
    }

    /// What they asked to be told of something.
    fn wish(&self, what: What) -> Option<&Wish> {
        self.wishes.iter().find(|w| w.what == what)
    }
}

crate::every! {
    /// Why somebody is not told.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
    pub enum WhyNot {
        /// The cue is switched off.
        Off,
        /// The date, or its event, does not take place, or is a draft.
        NoDate,
        /// The date has no such moment.
        NoMoment,
        /// The booking does not stand.
        NotBooked,
        /// The booking is not confirmed.
        NotConfirmed,
        /// They take part another way.
        WrongPart,
        /// They have another ticket.
        WrongTicket,
        /// They answered something else.
        WrongAnswer,
        /// The event does not have the tag.
        WrongTag,
        /// They have been here before.
        NotFirst,
        /// They pay another way.
        WrongPaying,
        /// They came.
        Came,
        /// They did not come.
        DidNotCome,
        /// No address is known.
        NoAddress,
        /// No mobile number is known.
        NoNumber,
        /// The address refused a mail for good.
        Bounced,
        /// Another message of this cue goes to the same address for the same date.
        WithAnother,
        /// Another cue tells them the same.
        OtherCue,
        /// They booked after its minute.
        BookedAfter,
        /// They booked before this automatic message was there, and it is for new bookings only.
        BookedBefore,
        /// What it counts from is over.
        Over,
        /// They do not want announcements.
        Unsubscribed,
        /// They want to hear of it once a day.
        OnceADay,
    }
}

impl WhyNot {
    /// The reason in words, as stored and as shown.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Off => "the automatic message is switched off",
            Self::NoDate => "the date does not take place",
            Self::NoMoment => "the date has no such moment",
            Self::NotBooked => "the booking does not stand",
            Self::NotConfirmed => "the booking is not confirmed",
            Self::WrongPart => "takes part another way",
            Self::WrongTicket => "has another ticket",
            Self::WrongAnswer => "answered something else",
            Self::WrongTag => "the event has another tag",
            Self::NotFirst => "has been here before",
            Self::WrongPaying => "pays another way",
            Self::Came => "came",
            Self::DidNotCome => "did not come",
            Self::NoAddress => "no address",
            Self::NoNumber => "no mobile number",
            Self::Bounced => "the address refused mail",
            Self::WithAnother => "told with another of the booking",
            Self::OtherCue => "told by another automatic message",
            Self::BookedAfter => "booked after its minute",
            Self::BookedBefore => "booked before this automatic message was there",
            Self::Over => "its time is over",
            Self::Unsubscribed => "wants no announcements",
            Self::OnceADay => "hears of it once a day",
        }
    }
}

/// What a cue means for somebody.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// They are told, at this instant.
    Told(Timestamp),
    /// They are not.
    Not(WhyNot),
}

/// One line of what will go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Due {
    /// By which cue.
    pub cue: CueId,
    /// Who.
    pub reader: Reader,
    /// For which date.
    pub date: DateId,
    /// When, or why not.
    pub outcome: Outcome,
}

/// What the cues of moments mean for the people of a date: one line for each cue and each person
/// whom it could reach.
///
/// Whether somebody came is known when the date is over: until then both *who came* and *who
/// missed it* are planned, and decided when they are due.
#[must_use]
pub fn due(date: &DateFacts, people: &[Person], cues: &[Cue], now: Timestamp) -> Vec<Due> {
    let mut lines = Vec::new();
    for cue in cues {
        let Trigger::At(moment) = cue.trigger else { continue };
        let mut reached: HashSet<String> = HashSet::new();
        for person in people.iter().filter(|p| concerns(cue, p)) {
            let mut outcome = decide(date, person, cue, moment, now);
            if let Outcome::Told(_) = outcome {
                // One address hears one thing once, however many seats it has on a booking.
                let is_first = reached.insert(target(cue.way, person).to_lowercase());
                if !is_first && person_of(person).is_some() {
                    outcome = Outcome::Not(WhyNot::WithAnother);
                }
            }
            let reader = person.reader.clone();
            lines.push(Due { cue: cue.id, reader, date: date.id, outcome });
        }
    }
    told_by_one(&mut lines, cues);
    lines
}

/// Of two cues that tell one person the same thing at the same time, the first does.
fn told_by_one(lines: &mut [Due], cues: &[Cue]) {
    let by_id: HashMap<CueId, &Cue> = cues.iter().map(|c| (c.id, c)).collect();
    let mut told: HashMap<Reader, Vec<(Timestamp, &Cue)>> = HashMap::new();
    for line in lines {
        let (Outcome::Told(at), Some(cue)) = (line.outcome, by_id.get(&line.cue)) else { continue };
        let before = told.entry(line.reader.clone()).or_default();
        if before.iter().any(|(then, other)| *then == at && other.tells_twice_with(cue)) {
            line.outcome = Outcome::Not(WhyNot::OtherCue);
        } else {
            before.push((at, cue));
        }
    }
}

const fn person_of(person: &Person) -> Option<BookingId> {
    match person.reader {
        Reader::Booker(booking) | Reader::Attendee(booking, _) => Some(booking),
        _ => None,
    }
}

/// Where a way leads for somebody.
#[must_use]
pub fn target(way: Way, person: &Person) -> &str {
    match way {
        Way::Mail => &person.email,
        Way::Text | Way::Ring => &person.phone,
        Way::Chat | Way::Notice => "",
    }
}

/// Whether somebody is among those whom a cue is for at all.
#[must_use]
pub fn concerns(cue: &Cue, person: &Person) -> bool {
    match (&cue.whom, &person.reader) {
        _ if cue.trigger == Trigger::At(Moment::CardExpires) => {
            matches!(person.reader, Reader::Card(_))
        }
        _ if matches!(cue.way, Way::Chat | Way::Notice) => person.reader == Reader::Everybody,
        (Whom::Attendees | Whom::Came | Whom::Missed, Reader::Booker(_) | Reader::Attendee(..))
        | (Whom::Booker, Reader::Booker(_))
        | (Whom::Hosts, Reader::Host(_))
        | (Whom::Waiting, Reader::Waiter(_)) => true,
        (Whom::Role(role), Reader::Staff(_)) => person.role == Some(*role),
        (Whom::Address(address), Reader::Address(own)) => address.eq_ignore_ascii_case(own),
        _ => false,
    }
}

/// Whether somebody who has booked is one of those few whom a cue is only for.
///
/// # Errors
/// Why not.
pub fn suits(cue: &Cue, person: &Person) -> Result<(), WhyNot> {
    let only = &cue.only;
    if only.part.is_some_and(|part| part != person.part) {
        return Err(WhyNot::WrongPart);
    }
    if !only.tickets.is_empty() && !person.tickets.iter().any(|t| only.tickets.contains(t)) {
        return Err(WhyNot::WrongTicket);
    }
    if let Some((question, answer)) = &only.answer
        && !person.answers.iter().any(|(q, said)| q == question && same(said, answer))
    {
        return Err(WhyNot::WrongAnswer);
    }
    if only.first_visit && !person.first_visit {
        return Err(WhyNot::NotFirst);
    }
    if only.paying.is_some() && only.paying != person.paying {
        return Err(WhyNot::WrongPaying);
    }
    Ok(())
}

/// Whether a cue is for somebody, of an event with these tags, and its way leads to them.
///
/// # Errors
/// Why not.
pub fn reaches(cue: &Cue, person: &Person, tags: &[TagId]) -> Result<(), WhyNot> {
    if !cue.on {
        return Err(WhyNot::Off);
    }
    if cue.only.tag.is_some_and(|tag| !tags.contains(&tag)) {
        return Err(WhyNot::WrongTag);
    }
    if person_of(person).is_some() {
        suits(cue, person)?;
    }
    let each = cue.trigger == Trigger::On(Occasion::Confirmed);
    if each && cue.whom == Whom::Hosts && person.wish(What::Attendees).is_some() {
        return Err(WhyNot::OnceADay);
    }
    match cue.way {
        Way::Mail if person.email.is_empty() => Err(WhyNot::NoAddress),
        Way::Mail if person.bounced => Err(WhyNot::Bounced),
        Way::Text if person.phone.is_empty() => Err(WhyNot::NoNumber),
        Way::Mail | Way::Text | Way::Chat | Way::Notice | Way::Ring => Ok(()),
    }
}

fn decide(date: &DateFacts, person: &Person, cue: &Cue, moment: Moment, now: Timestamp) -> Outcome {
    match minute(date, person, cue, moment, now) {
        Ok(at) => Outcome::Told(at),
        Err(why) => Outcome::Not(why),
    }
}

/// When a cue speaks to somebody: a host has the list of who comes at their own hour.
fn when(cue: &Cue, person: &Person) -> When {
    let own = person.wish(What::Tomorrow).and_then(|w| w.at);
    match (cue.when, own) {
        (When::Clock { days, side: Side::Before, .. }, Some(at))
            if cue.whom == Whom::Hosts && cue.trigger == Trigger::At(Moment::Starts) =>
        {
            When::Clock { days, side: Side::Before, at }
        }
        (when, _) => when,
    }
}

fn minute(
    date: &DateFacts,
    person: &Person,
    cue: &Cue,
    moment: Moment,
    now: Timestamp,
) -> Result<Timestamp, WhyNot> {
    if !cue.on {
        return Err(WhyNot::Off);
    }
    if !date.takes_place && moment != Moment::CardExpires {
        return Err(WhyNot::NoDate);
    }
    let wall = |at: Timestamp| date.zone.to_datetime(at);
    let from = match moment {
        Moment::Starts => date.starts,
        Moment::Ends => date.ends,
        Moment::SaleOpens => wall(date.sale_opens.ok_or(WhyNot::NoMoment)?),
        Moment::SaleCloses => wall(date.sale_closes.ok_or(WhyNot::NoMoment)?),
        Moment::PayBy => wall(person.pay_by.ok_or(WhyNot::NoMoment)?),
        Moment::OfferEnds => wall(person.offer_ends.ok_or(WhyNot::NoMoment)?),
        Moment::CardExpires => wall(person.card_ends.ok_or(WhyNot::NoMoment)?),
        // Whoever has not replied is found when the minute has come: `replies::again_at`.
        Moment::Asked | Moment::Day => return Err(WhyNot::NoMoment),
    };
    if person_of(person).is_some() {
        if !person.stands {
            return Err(WhyNot::NotBooked);
        }
        if !person.confirmed && moment != Moment::PayBy {
            return Err(WhyNot::NotConfirmed);
        }
    }
    reaches(cue, person, &date.tags)?;
    let minute = when(cue, person).from(from, &date.zone).ok_or(WhyNot::NoMoment)?;
    let moment_at = date.zone.to_timestamp(from).map_err(|_| WhyNot::NoMoment)?;
    let over = date.zone.to_timestamp(date.ends).is_ok_and(|ends| ends <= now);
    match cue.whom {
        Whom::Came if over && person.seen == Seen::NotIn => return Err(WhyNot::DidNotCome),
        Whom::Missed if over && person.seen == Seen::In => return Err(WhyNot::Came),
        _ => {}
    }
    if let Some(since) = cue.since
        && person.since < since
    {
        return Err(WhyNot::BookedBefore);
    }
    // A cue that was added afterwards is not for what was over by then.
    if !cue.when.is_before() && minute < cue.added_at {
        return Err(WhyNot::Over);
    }
    // Nor is one that was added after its minute for those who had booked, unless somebody said so.
    let had_booked = person.since < cue.added_at;
    if minute < cue.added_at && had_booked && !cue.already {
        return Err(WhyNot::BookedBefore);
    }
    // Since when it can be known that they are to be told.
    let moved = date.moved_at.filter(|_| moment != Moment::CardExpires);
    let mut known = person.since.max(moved.unwrap_or(person.since));
    if had_booked && cue.already {
        known = known.max(cue.added_at);
    }
    let at = if known <= minute {
        minute
    } else {
        match cue.late {
            Late::AtOnce => {}
            Late::Never => return Err(WhyNot::BookedAfter),
            Late::UntilHours(hours) => {
                let last = moment_at
                    .checked_sub(jiff::SignedDuration::from_hours(i64::from(hours)))
                    .map_err(|_| WhyNot::BookedAfter)?;
                if known > last {
                    return Err(WhyNot::BookedAfter);
                }
            }
        }
        known
    };
    // What is said before something is not said after it.
    if cue.when.is_before() && (at >= moment_at || now >= moment_at) {
        return Err(WhyNot::Over);
    }
    Ok(at)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ids::TemplateId;
    use crate::messages::cue::{Only, Side, Unit, When};
    use jiff::civil::{datetime, time};
    use proptest::prelude::*;

    fn date() -> DateFacts {
        DateFacts {
            id: DateId(1),
            starts: datetime(2026, 12, 12, 10, 0, 0, 0),
            ends: datetime(2026, 12, 12, 15, 0, 0, 0),
            zone: TimeZone::get("Europe/Vienna").unwrap(),
            takes_place: true,
            moved_at: None,
            sale_opens: None,
            sale_closes: None,
            tags: vec![TagId(3)],
        }
    }

    fn at(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    fn cue(id: i64, moment: Moment, when: When, whom: Whom) -> Cue {
        Cue {
            id: CueId(id),
            event: None,
            instead_of: None,
            on: true,
            trigger: Trigger::At(moment),
            when,
            whom,
            only: Only::default(),
            way: Way::Mail,
            template: TemplateId(id),
            late: Late::UntilHours(2),
            added_at: Timestamp::UNIX_EPOCH,
            already: false,
            since: None,
        }
    }

    fn reminder() -> Cue {
        let when = When::Clock { days: 1, side: Side::Before, at: time(18, 0, 0, 0) };
        cue(1, Moment::Starts, when, Whom::Attendees)
    }

    fn booker(n: i64, since: &str) -> Person {
        Person::new(Reader::Booker(BookingId(n)), &format!("p{n}@post.example"), at(since))
    }

    fn one(date: &DateFacts, person: Person, cue: Cue, now: &str) -> Outcome {
        due(date, &[person], &[cue], at(now))[0].outcome
    }

    /// Whoever books in the very minute of a cue is told with all others; a moment later it is
    /// late, and what becomes of that is the cue's to say.
    #[test]
    fn the_very_minute_of_a_cue_is_not_late_and_the_next_moment_is() {
        let minute = at("2026-12-11T17:00:00Z");
        let late = |late, since: &str| {
            one(&date(), booker(1, since), Cue { late, ..reminder() }, "2026-12-01T12:00:00Z")
        };
        let (in_it, after) = ("2026-12-11T17:00:00Z", "2026-12-11T17:00:00.000001Z");
        for rule in [Late::AtOnce, Late::Never, Late::UntilHours(2)] {
            assert_eq!(late(rule, in_it), Outcome::Told(minute), "{rule:?}");
        }
        assert_eq!(late(Late::AtOnce, after), Outcome::Told(at(after)));
        assert_eq!(late(Late::Never, after), Outcome::Not(WhyNot::BookedAfter));
        assert_eq!(late(Late::UntilHours(2), after), Outcome::Told(at(after)));
        // It starts at nine by the clocks of the world: two hours before is the last moment.
        assert_eq!(
            late(Late::UntilHours(2), "2026-12-12T07:00:00Z"),
            Outcome::Told(at("2026-12-12T07:00:00Z"))
        );
        let too_late = late(Late::UntilHours(2), "2026-12-12T07:00:00.000001Z");
        assert_eq!(too_late, Outcome::Not(WhyNot::BookedAfter));
        assert_eq!(late(Late::AtOnce, "2026-12-12T09:00:00Z"), Outcome::Not(WhyNot::Over));
    }

    /// Two cues of one minute that tell the same: the first does, the second says why not. At
    /// another minute, in another way or of an answer nobody gave, both do as they say.
    #[test]
    fn one_thing_is_told_once_at_one_minute() {
        let person = booker(1, "2026-11-01T09:00:00Z");
        let told = |second: Cue| {
            let lines = due(
                &date(),
                std::slice::from_ref(&person),
                &[reminder(), second],
                at("2026-12-01T12:00:00Z"),
            );
            [lines[0].outcome, lines[1].outcome].map(|o| match o {
                Outcome::Told(_) => "told",
                Outcome::Not(why) => why.words(),
            })
        };
        let again = Cue { id: CueId(2), ..reminder() };
        assert_eq!(told(again.clone()), ["told", WhyNot::OtherCue.words()]);
        let when = When::Clock { days: 1, side: Side::Before, at: time(18, 1, 0, 0) };
        assert_eq!(told(Cue { when, ..again.clone() }), ["told", "told"]);
        let only = Only { answer: Some((crate::QuestionId(4), "bread".into())), ..Only::default() };
        assert_eq!(told(Cue { only, ..again }), ["told", WhyNot::WrongAnswer.words()]);
    }

    /// An answer is the one to that very question, whatever its letters' case.
    #[test]
    fn an_answer_counts_for_its_own_question_only() {
        let answered = |question, said: &str| {
            let mut person = booker(1, "2026-11-01T09:00:00Z");
            person.answers = vec![(crate::QuestionId(question), said.into())];
            let only =
                Only { answer: Some((crate::QuestionId(4), "Bread".into())), ..Only::default() };
            suits(&Cue { only, ..reminder() }, &person)
        };
        assert_eq!((answered(4, " bread"), answered(4, "BREAD ")), (Ok(()), Ok(())));
        assert_eq!(answered(5, "bread"), Err(WhyNot::WrongAnswer));
        assert_eq!(answered(4, "no bread"), Err(WhyNot::WrongAnswer));
    }

    #[test]
    fn a_reminder_has_its_minute_and_follows_its_date() {
        let early = booker(1, "2026-11-01T09:00:00Z");
        let now = "2026-11-26T12:00:00Z";
        let six = Outcome::Told(at("2026-12-11T17:00:00Z"));
        assert_eq!(one(&date(), early.clone(), reminder(), now), six);
        let mut moved = date();
        moved.starts = datetime(2027, 1, 16, 10, 0, 0, 0);
        moved.ends = datetime(2027, 1, 16, 15, 0, 0, 0);
        let later = Outcome::Told(at("2027-01-15T17:00:00Z"));
        assert_eq!(one(&moved, early.clone(), reminder(), now), later);
        moved.takes_place = false;
        let off = Outcome::Not(WhyNot::NoDate);
        assert_eq!(one(&moved, early, reminder(), now), off);
    }

    #[test]
    fn whoever_books_late_hears_at_once_or_not_at_all_as_the_cue_says() {
        let now = "2026-12-11T20:00:00Z";
        let evening = booker(1, "2026-12-11T19:00:00Z");
        let told = Outcome::Told(at("2026-12-11T19:00:00Z"));
        assert_eq!(one(&date(), evening.clone(), reminder(), now), told);
        let morning = booker(1, "2026-12-12T08:00:00Z");
        let after = Outcome::Not(WhyNot::BookedAfter);
        assert_eq!(one(&date(), morning, reminder(), now), after, "an hour before is too late");
        let never = Cue { late: Late::Never, ..reminder() };
        assert_eq!(one(&date(), evening.clone(), never, now), after);
        let new_only = Cue { since: Some(at("2026-12-11T19:30:00Z")), ..reminder() };
        assert_eq!(
            one(&date(), evening.clone(), new_only, now),
            Outcome::Not(WhyNot::BookedBefore)
        );
        let late = Cue { added_at: at("2026-12-11T19:30:00Z"), ..reminder() };
        let before = Outcome::Not(WhyNot::BookedBefore);
        assert_eq!(
            one(&date(), evening.clone(), late.clone(), now),
            before,
            "added after its minute"
        );
        let added = Outcome::Told(late.added_at);
        assert_eq!(one(&date(), evening.clone(), Cue { already: true, ..late }, now), added);
        let over = Outcome::Not(WhyNot::Over);
        assert_eq!(one(&date(), evening, reminder(), "2026-12-12T09:00:00Z"), over);
    }

    #[test]
    fn who_is_not_told_is_told_why() {
        let now = "2026-11-26T12:00:00Z";
        let person = || booker(1, "2026-11-01T09:00:00Z");
        let why = |person: Person, only: Only| match one(
            &date(),
            person,
            Cue { only, ..reminder() },
            now,
        ) {
            Outcome::Not(why) => why.words(),
            Outcome::Told(_) => "told",
        };
        let all = Only::default;
        let said = [
            why(Person { email: String::new(), ..person() }, all()),
            why(Person { bounced: true, ..person() }, all()),
            why(Person { confirmed: false, ..person() }, all()),
            why(Person { stands: false, ..person() }, all()),
            why(
                Person { part: Part::Online, ..person() },
                Only { part: Some(Part::InPerson), ..all() },
            ),
            why(person(), Only { tickets: vec![TicketTypeId(4)], ..all() }),
            why(person(), Only { answer: Some((QuestionId(1), "Yes".into())), ..all() }),
            why(
                Person { answers: vec![(QuestionId(1), " yes".into())], ..person() },
                Only { answer: Some((QuestionId(1), "Yes".into())), ..all() },
            ),
            why(person(), Only { tag: Some(TagId(4)), ..all() }),
            why(person(), Only { first_visit: true, ..all() }),
        ];
        insta::assert_snapshot!(said.join("\n"), @r"
        no address
        the address refused mail
        the booking is not confirmed
        the booking does not stand
        takes part another way
        has another ticket
        answered something else
        told
        the event has another tag
        has been here before
        ");
        let text = Cue { way: Way::Text, ..reminder() };
        assert_eq!(one(&date(), person(), text, now), Outcome::Not(WhyNot::NoNumber));
    }

    #[test]
    fn after_the_date_it_is_thanks_or_we_missed_you_and_never_both() {
        let after = When::Offset { n: 2, unit: Unit::Hours, side: Side::After };
        let cues =
            [cue(1, Moment::Ends, after, Whom::Came), cue(2, Moment::Ends, after, Whom::Missed)];
        for (seen, thanks, missed) in [(Seen::In, true, false), (Seen::NotIn, false, true)] {
            let person = Person { seen, ..booker(1, "2026-11-01T09:00:00Z") };
            let lines = due(&date(), &[person], &cues, at("2026-12-12T15:00:00Z"));
            let told: Vec<bool> =
                lines.iter().map(|l| matches!(l.outcome, Outcome::Told(_))).collect();
            assert_eq!(told, [thanks, missed]);
        }
    }

    #[test]
    fn one_address_hears_it_once_and_whoever_holds_a_ticket_of_their_own_too() {
        let now = at("2026-11-26T12:00:00Z");
        let mut holder = booker(1, "2026-11-02T09:00:00Z");
        holder.reader = Reader::Attendee(BookingId(1), 1);
        let same = holder.clone();
        holder.reader = Reader::Attendee(BookingId(1), 2);
        holder.email = "holder@post.example".into();
        let people = [booker(1, "2026-11-01T09:00:00Z"), same, holder];
        let lines = due(&date(), &people, &[reminder()], now);
        let told: Vec<bool> = lines.iter().map(|l| matches!(l.outcome, Outcome::Told(_))).collect();
        assert_eq!(told, [true, false, true]);
        assert_eq!(lines[1].outcome, Outcome::Not(WhyNot::WithAnother));
    }

    /// A card is told of by itself: its date may be over, moved or called off.
    #[test]
    fn whoever_has_a_stamp_card_is_told_that_it_expires() {
        let mut off = date();
        (off.takes_place, off.moved_at) = (false, Some(at("2026-12-10T00:00:00Z")));
        let before = When::Offset { n: 14, unit: Unit::Days, side: Side::Before };
        let cue = cue(1, Moment::CardExpires, before, Whom::Booker);
        let mut owner =
            Person::new(Reader::Card(4), "ida@post.example", at("2026-01-01T00:00:00Z"));
        owner.card_ends = Some(at("2027-01-31T11:00:00Z"));
        let people = [owner, booker(1, "2026-11-01T09:00:00Z")];
        let lines = due(&off, &people, &[cue], at("2026-12-20T00:00:00Z"));
        assert_eq!(lines.len(), 1, "who booked a date has no card in it");
        assert_eq!(lines[0].outcome, Outcome::Told(at("2027-01-17T11:00:00Z")));
    }

    proptest! {
        /// Exact to the minute and the same whenever it is asked; never before somebody booked,
        /// never after what it is to come before; and one line for one person and cue.
        #[test]
        fn a_minute_is_never_early_never_over_and_stays_as_it_was_said(
            booked in 0i64..60_000, asked in 0i64..60_000, n in 0u32..50, unit in 0usize..4, before: bool,
            late in 0usize..3, moved in prop::option::of(0i64..60_000),
        ) {
            let from = at("2026-11-10T00:00:00Z");
            let minutes = |n: i64| from + jiff::SignedDuration::from_mins(n);
            let side = if before { Side::Before } else { Side::After };
            let mut cue = cue(1, Moment::Starts, When::Offset { n, unit: Unit::ALL[unit], side }, Whom::Booker);
            cue.late = [Late::AtOnce, Late::Never, Late::UntilHours(5)][late];
            let mut date = date();
            date.moved_at = moved.map(minutes);
            let mut person = booker(1, "2026-11-01T09:00:00Z");
            person.since = minutes(booked);
            let lines = due(&date, &[person.clone()], &[cue.clone()], minutes(asked));
            prop_assert_eq!(lines.len(), 1);
            if let Outcome::Told(told) = lines[0].outcome {
                let starts = date.zone.to_timestamp(date.starts).unwrap();
                prop_assert!(told >= person.since);
                prop_assert!(!before || n == 0 || told < starts);
                let minute = cue.when.from(date.starts, &date.zone).unwrap();
                prop_assert!(told == minute || told > minute && cue.late != Late::Never);
                let again = due(&date, &[person], &[cue], minutes(0));
                prop_assert_eq!(again[0].outcome, lines[0].outcome, "whenever it is asked");
            }
        }

        /// Two cues made one reach everybody whom either reaches, and are in each other's way no
        /// more.
        #[test]
        fn joined_they_reach_whom_either_reaches(
            whom in 0usize..4, other in 0usize..4, tickets in 0u8..8, others in 0u8..8, has in 0u8..8,
            part in 0usize..3, other_part in 0usize..3, online: bool, first: bool, other_first: bool, came: bool,
        ) {
            let all = [Whom::Attendees, Whom::Booker, Whom::Came, Whom::Missed];
            let parts = [None, Some(Part::Online), Some(Part::InPerson)];
            let some = |bits: u8| (0..3).filter(|n| bits & (1 << n) != 0).map(TicketTypeId).collect::<Vec<_>>();
            let after = When::Offset { n: 1, unit: Unit::Days, side: Side::After };
            let with = |id, whom: &Whom, tickets, part, first_visit| Cue {
                only: Only { tickets, part, first_visit, ..Only::default() },
                ..cue(id, Moment::Ends, after, whom.clone())
            };
            let one = with(1, &all[whom], some(tickets), parts[part], first);
            let two = with(2, &all[other], some(others), parts[other_part], other_first);
            let joined = one.joined_with(&two);
            let mut person = booker(1, "2026-11-01T09:00:00Z");
            person.tickets = some(has);
            person.part = if online { Part::Online } else { Part::InPerson };
            person.seen = if came { Seen::In } else { Seen::NotIn };
            let told = |cue: &Cue| {
                let lines = due(&date(), std::slice::from_ref(&person), std::slice::from_ref(cue), at("2026-12-12T18:00:00Z"));
                lines.iter().any(|l| matches!(l.outcome, Outcome::Told(_)))
            };
            prop_assert!(told(&joined) || !(told(&one) || told(&two)));
            prop_assert!(!one.tells_twice_with(&two) || joined.tells_twice_with(&two), "what either told, it tells");
        }
    }
}
