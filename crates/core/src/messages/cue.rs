//! A cue: this template, to these people, this long before or after that.

use jiff::civil::{DateTime, Time};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Span, Timestamp};
use serde::{Deserialize, Serialize};

use crate::ids::{CueId, EventId, TemplateId};
use crate::messages::occasion::{Moment, Occasion, Subject};
use crate::people::staff::Role;
use crate::{QuestionId, TicketTypeId};

/// What sets a cue off.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Trigger {
    /// Something that happened.
    On(Occasion),
    /// A time.
    At(Moment),
}

impl Trigger {
    /// The word for it, as stored and as shown.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::On(occasion) => occasion.word(),
            Self::At(moment) => moment.word(),
        }
    }

    /// Finds a trigger by its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Occasion::from_word(word).map(Self::On).or_else(|| Moment::from_word(word).map(Self::At))
    }

    /// Whether a cue can be set off by it: invitations and announcements are sent by hand, the news
    /// of the day go to whoever wishes for them, and submissions have no cue sheet.
    #[must_use]
    pub const fn sets_cues_off(self) -> bool {
        !matches!(
            self,
            Self::On(Occasion::Invited | Occasion::Announced | Occasion::Came | Occasion::Badge)
                | Self::At(Moment::Day)
        ) && !self.is_of_submission()
    }

    /// Whether it is about a submission, which has no cue sheet: the house rules say who is told.
    #[must_use]
    pub const fn is_of_submission(self) -> bool {
        match self {
            Self::On(occasion) => matches!(occasion.subject(), Subject::Submission),
            Self::At(_) => false,
        }
    }

    /// Whether a notice can tell of it: what happens to a date, for everybody to read.
    #[must_use]
    pub const fn is_public(self) -> bool {
        match self {
            Self::On(occasion) => occasion.is_of_date(),
            Self::At(moment) => matches!(
                moment,
                Moment::Starts | Moment::Ends | Moment::SaleOpens | Moment::SaleCloses
            ),
        }
    }
}

/// Before or after.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Side {
    /// Before the moment.
    Before,
    /// After it.
    After,
}

crate::worded! {
    /// What an offset is counted in.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
    #[serde(rename_all = "snake_case")]
    pub enum Unit {
        /// Minutes that pass.
        Minutes = "minutes",
        /// Hours that pass.
        Hours = "hours",
        /// Days on the wall clock.
        Days = "days",
        /// Weeks on the wall clock.
        Weeks = "weeks",
        /// Months on the wall clock.
        Months = "months",
    }
}

impl Unit {
    /// The most of it that a cue may count: some two years.
    #[must_use]
    pub const fn most(self) -> u32 {
        match self {
            Self::Minutes => 1_440,
            Self::Hours => 1_000,
            Self::Days => 730,
            Self::Weeks => 104,
            Self::Months => 24,
        }
    }
}

/// When, counted from an occasion or a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum When {
    /// At once.
    AtOnce,
    /// So long before or after.
    Offset {
        /// How many.
        n: u32,
        /// Of what.
        unit: Unit,
        /// Before or after.
        side: Side,
    },
    /// At a clock time on the day so many days before or after.
    Clock {
        /// How many days.
        days: u32,
        /// Before or after.
        side: Side,
        /// The wall clock of the date's own zone.
        at: Time,
    },
}

impl When {
    /// Whether it is before what it counts from.
    #[must_use]
    pub const fn is_before(&self) -> bool {
        match self {
            Self::AtOnce => false,
            Self::Offset { side, .. } | Self::Clock { side, .. } => matches!(side, Side::Before),
        }
    }

    /// The instant that is so long before or after `from` on the wall clock of `zone`.
    ///
    /// Minutes and hours pass; days, weeks and months keep the wall clock, right through clock
    /// changes. A wall time that a clock change leaves out is that much later, one that comes
    /// twice is its first (RFC 5545 §3.3.5). `None` beyond the years that a calendar has.
    ///
    /// # Examples
    /// ```
    /// # use matricle_core::messages::cue::{Side, Unit, When};
    /// # use jiff::{civil::{datetime, time}, tz::{Offset, TimeZone}};
    /// let monday = datetime(2027, 3, 29, 10, 0, 0, 0);
    /// let day_before = When::Clock { days: 1, side: Side::Before, at: time(18, 0, 0, 0) };
    /// let at = day_before.from(monday, &TimeZone::UTC).unwrap();
    /// assert_eq!(at.to_string(), "2027-03-28T18:00:00Z");
    /// ```
    #[must_use]
    pub fn from(&self, from: DateTime, zone: &TimeZone) -> Option<Timestamp> {
        let wall = |at: DateTime| zone.to_timestamp(at).ok();
        let sign = |side: Side| if side == Side::Before { -1i64 } else { 1 };
        match *self {
            Self::AtOnce => wall(from),
            Self::Offset { n, unit, side } => {
                let n = i64::from(n) * sign(side);
                match unit {
                    Unit::Minutes => wall(from)?.checked_add(SignedDuration::from_mins(n)).ok(),
                    Unit::Hours => wall(from)?.checked_add(SignedDuration::from_hours(n)).ok(),
                    Unit::Days => wall(from.checked_add(Span::new().try_days(n).ok()?).ok()?),
                    Unit::Weeks => wall(from.checked_add(Span::new().try_weeks(n).ok()?).ok()?),
                    Unit::Months => wall(from.checked_add(Span::new().try_months(n).ok()?).ok()?),
                }
            }
            Self::Clock { days, side, at } => {
                let n = i64::from(days) * sign(side);
                let day = from.date().checked_add(Span::new().try_days(n).ok()?).ok()?;
                wall(day.to_datetime(at))
            }
        }
    }
}

/// To whom.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Whom {
    /// Each attendee; those without an address of their own are told with the booker.
    Attendees,
    /// The booker.
    Booker,
    /// The hosts of the date.
    Hosts,
    /// Those on its waiting list.
    Waiting,
    /// Those who were invited and have not replied.
    Silent,
    /// Attendees who came.
    Came,
    /// Attendees who missed it.
    Missed,
    /// Everybody of the house with this role.
    Role(Role),
    /// An address.
    Address(String),
}

impl Whom {
    /// Whether somebody of these may be somebody of those.
    #[must_use]
    pub fn meets(&self, other: &Self) -> bool {
        use Whom::{Attendees, Booker, Came, Missed};
        match (self, other) {
            (Came, Missed) | (Missed, Came) => false,
            (Attendees | Booker | Came | Missed, Attendees | Booker | Came | Missed) => true,
            _ => self == other,
        }
    }

    /// Those who are among these or those, where both are people of bookings.
    fn or(&self, other: &Self) -> Self {
        if self.has_booked() && other.has_booked() { Self::Attendees } else { self.clone() }
    }

    /// Whether these are people of bookings.
    #[must_use]
    pub const fn has_booked(&self) -> bool {
        matches!(self, Self::Attendees | Self::Booker | Self::Came | Self::Missed)
    }
}

/// So many days a notice is up, unless its date is over before.
pub const NOTICE_DAYS: i64 = 30;

crate::worded! {
    /// By which way.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
    #[serde(rename_all = "snake_case")]
    pub enum Way {
        /// By mail.
        Mail = "mail",
        /// By text message.
        Text = "text message",
        /// Into the team's chat.
        Chat = "team chat",
        /// A notice on the event's page and in the Atom feed.
        Notice = "notice",
        /// By telephone: somebody of the house rings.
        Ring = "telephone",
    }
}

impl Way {
    /// Those that a cue can go by: nobody is rung up by a cue.
    pub const OF_CUES: [Self; 4] = [Self::Mail, Self::Text, Self::Chat, Self::Notice];
}

/// How somebody takes part.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Part {
    /// At the place.
    InPerson,
    /// Online.
    Online,
}

/// How somebody who has something to pay pays it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Paying {
    /// At once, by card.
    Card,
    /// Within some days, by bank transfer.
    Transfer,
}

/// Only for some.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Only {
    /// For those who take part like this.
    pub part: Option<Part>,
    /// For these ticket types; empty for all.
    pub tickets: Vec<TicketTypeId>,
    /// For those who answered a question with these words; case and spaces around do not count.
    pub answer: Option<(QuestionId, String)>,
    /// For events with this tag.
    pub tag: Option<crate::TagId>,
    /// For those who come for the first time.
    pub first_visit: bool,
    /// For those who pay like this.
    pub paying: Option<Paying>,
    /// Also when nobody has booked; for hosts and people of the house.
    pub nobody: bool,
}

impl Only {
    /// Whether it chooses among those who have booked.
    fn is_of_bookings(&self) -> bool {
        let Self { part, tickets, answer, tag: _, first_visit, paying, nobody: _ } = self;
        part.is_some()
            || !tickets.is_empty()
            || answer.is_some()
            || *first_visit
            || paying.is_some()
    }

    /// For whoever is one of either.
    fn or(&self, other: &Self) -> Self {
        fn both<T: Clone + PartialEq>(a: &Option<T>, b: &Option<T>) -> Option<T> {
            if a == b { a.clone() } else { None }
        }
        let mut tickets = Vec::new();
        if !self.tickets.is_empty() && !other.tickets.is_empty() {
            tickets.clone_from(&self.tickets);
            tickets.extend(other.tickets.iter().filter(|t| !self.tickets.contains(t)));
        }
        Self {
            part: both(&self.part, &other.part),
            tickets,
            answer: both(&self.answer, &other.answer),
            tag: both(&self.tag, &other.tag),
            first_visit: self.first_visit && other.first_visit,
            paying: both(&self.paying, &other.paying),
            nobody: self.nobody || other.nobody,
        }
    }

    /// Whether somebody may be one of both.
    fn meets(&self, other: &Self) -> bool {
        let tickets = self.tickets.is_empty()
            || other.tickets.is_empty()
            || self.tickets.iter().any(|t| other.tickets.contains(t));
        let parts = self.part.is_none() || other.part.is_none() || self.part == other.part;
        let answers = match (&self.answer, &other.answer) {
            (Some((a, x)), Some((b, y))) if a == b => same(x, y),
            _ => true,
        };
        let paying = self.paying.is_none() || other.paying.is_none() || self.paying == other.paying;
        tickets && parts && answers && paying
    }
}

/// Whether two answers are the same.
pub(crate) fn same(a: &str, b: &str) -> bool {
    a.trim().to_lowercase() == b.trim().to_lowercase()
}

/// What becomes of a message for somebody who books after its minute.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Late {
    /// They are told at once.
    #[default]
    AtOnce,
    /// They are not told.
    Never,
    /// They are told at once until so many hours before the moment.
    UntilHours(u32),
}

/// A cue.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cue {
    /// Its key.
    pub id: CueId,
    /// The event it is for; the house's own are for all.
    pub event: Option<EventId>,
    /// The house's cue that an event's own stands in place of.
    pub instead_of: Option<CueId>,
    /// Switched on.
    pub on: bool,
    /// What sets it off.
    pub trigger: Trigger,
    /// When.
    pub when: When,
    /// To whom.
    pub whom: Whom,
    /// Only for some.
    pub only: Only,
    /// By which way.
    pub way: Way,
    /// In which words.
    pub template: TemplateId,
    /// For somebody who books after its minute.
    pub late: Late,
    /// When it was added: what was over by then is not told of.
    pub added_at: Timestamp,
    /// Those who had booked when it was added, after its minute for them, get it at once.
    pub already: bool,
    /// Only those who book from then on get it; `None` for all.
    pub since: Option<Timestamp>,
}

/// Why a cue cannot be saved.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum CueRefusal {
    /// No cue is set off by it.
    #[error("no automatic message goes because of this")]
    Trigger,
    /// It is before something that nobody knows before it happens.
    #[error("an occasion is not known before it happens")]
    BeforeAnOccasion,
    /// More than a cue may count.
    #[error("at most {most} {unit}")]
    TooFar {
        /// The most.
        most: u32,
        /// Of what.
        unit: &'static str,
    },
    /// Nobody of these is there then.
    #[error("{whom} cannot be told of this: {why}")]
    Nobody {
        /// Whom.
        whom: &'static str,
        /// Why not.
        why: &'static str,
    },
    /// Another cue tells the same people of the same thing by the same way.
    #[error("another automatic message tells the same people of the same thing by the same way")]
    ToldTwice {
        /// That cue.
        by: CueId,
    },
    /// Not an address.
    #[error("not an address that mail can be sent to")]
    Address,
    /// This way does not lead there.
    #[error("this way does not lead to these people")]
    Way,
    /// A notice is for everybody, and this is nobody else's business.
    #[error(
        "a notice tells of a date only: that it moves, is called off, starts, ends, or of its sale"
    )]
    NotPublic,
}

impl Cue {
    /// What its messages are about: which of their fields have something to say.
    #[must_use]
    pub const fn subject(&self) -> Subject {
        match (self.trigger, &self.whom) {
            _ if matches!(self.way, Way::Notice) => Subject::Date,
            (_, Whom::Silent) => Subject::Event,
            (Trigger::On(occasion), whom) if occasion.is_of_date() && !whom.has_booked() => {
                Subject::Date
            }
            (Trigger::On(occasion), _) => occasion.subject(),
            (_, Whom::Waiting) | (Trigger::At(Moment::OfferEnds), _) => Subject::Waiting,
            (Trigger::At(Moment::PayBy), _) => Subject::Booking,
            (Trigger::At(Moment::CardExpires), _) => Subject::Card,
            (_, whom) if whom.has_booked() => Subject::Booking,
            _ => Subject::Date,
        }
    }

    /// Checks a cue by itself and beside the others of its sheet.
    ///
    /// # Errors
    /// [`CueRefusal`], with the cue in the way for what would be told twice.
    pub fn check(&self, sheet: &[Self]) -> Result<(), CueRefusal> {
        if !self.trigger.sets_cues_off() {
            return Err(CueRefusal::Trigger);
        }
        if !Way::OF_CUES.contains(&self.way) || (self.way == Way::Text && !self.whom.has_booked()) {
            return Err(CueRefusal::Way);
        }
        if self.way == Way::Notice && !self.trigger.is_public() {
            return Err(CueRefusal::NotPublic);
        }
        if matches!(self.trigger, Trigger::On(_)) && self.when.is_before() {
            return Err(CueRefusal::BeforeAnOccasion);
        }
        match self.when {
            When::Offset { n, unit, .. } if n > unit.most() => {
                return Err(CueRefusal::TooFar { most: unit.most(), unit: unit.word() });
            }
            When::Clock { days, .. } if days > Unit::Days.most() => {
                return Err(CueRefusal::TooFar { most: Unit::Days.most(), unit: "days" });
            }
            _ => {}
        }
        if let Whom::Address(address) = &self.whom
            && !crate::words::address::is_address(address)
        {
            return Err(CueRefusal::Address);
        }
        let nobody = |whom, why| Err(CueRefusal::Nobody { whom, why });
        match (&self.whom, self.trigger) {
            (Whom::Came | Whom::Missed, Trigger::At(Moment::Ends)) if !self.when.is_before() => {}
            (Whom::Came | Whom::Missed, _) => {
                return nobody("who came or missed it", "that is known after the date ends");
            }
            // They are asked once more, by mail, where there is still something to be asked.
            (Whom::Silent, _) if self.way != Way::Mail => return Err(CueRefusal::Way),
            (Whom::Silent, Trigger::At(Moment::Asked | Moment::Starts | Moment::SaleCloses))
                if self.when.is_before() != (self.trigger == Trigger::At(Moment::Asked)) => {}
            (Whom::Silent, _) => {
                return nobody(
                    "who has not replied",
                    "they are asked once again some time after the invitation, or before the date or the sale ends",
                );
            }
            (_, Trigger::At(Moment::Asked)) => {
                return nobody("others", "only whoever was invited is asked once again");
            }
            (Whom::Waiting, Trigger::On(o))
                if o.subject() != Subject::Waiting && !o.is_of_date() =>
            {
                return nobody("who waits", "it is about a booking");
            }
            (whom, Trigger::On(o)) if whom.has_booked() && o.subject() == Subject::Waiting => {
                return nobody("who has booked", "it is about somebody who waits");
            }
            (whom, Trigger::At(Moment::CardExpires)) if *whom != Whom::Booker => {
                return nobody("others", "only whoever has the stamp card is told that it expires");
            }
            (whom, Trigger::At(Moment::OfferEnds)) if whom.has_booked() => {
                return nobody("who has booked", "it is about somebody who waits");
            }
            _ => {}
        }
        let of_a_booking = match self.trigger {
            Trigger::On(o) => o.subject() == Subject::Booking && !o.is_of_date(),
            Trigger::At(_) => false,
        };
        let booked = self.whom.has_booked() && !self.is_for_everybody();
        if self.only.is_of_bookings() && !booked && !of_a_booking {
            return nobody(
                "only some of these",
                "tickets, answers and the like are of people who have booked",
            );
        }
        match sheet.iter().find(|other| self.tells_twice_with(other)) {
            Some(other) => Err(CueRefusal::ToldTwice { by: other.id }),
            None => Ok(()),
        }
    }

    /// Whether both would tell somebody of the same thing at the same time by the same way.
    #[must_use]
    pub fn tells_twice_with(&self, other: &Self) -> bool {
        self.id != other.id
            && self.on
            && other.on
            && self.trigger == other.trigger
            && self.when == other.when
            && self.way == other.way
            && (self.is_for_everybody() || self.whom.meets(&other.whom))
            && !self.tells_another_than(other)
            && self.only.meets(&other.only)
    }

    /// Whether one tells the booker and the other whoever holds the ticket that it is about.
    fn tells_another_than(&self, other: &Self) -> bool {
        let of_ticket = matches!(self.trigger, Trigger::On(o) if o.is_of_ticket());
        let bookers = [&self.whom, &other.whom].map(|w| *w == Whom::Booker);
        of_ticket && !self.is_for_everybody() && bookers[0] != bookers[1]
    }

    /// Whether it goes where everybody reads it, whomever it names.
    #[must_use]
    pub const fn is_for_everybody(&self) -> bool {
        matches!(self.way, Way::Chat | Way::Notice)
    }

    /// This cue, for all whom it or another reaches: the two made one.
    #[must_use]
    pub fn joined_with(&self, other: &Self) -> Self {
        let whom =
            if self.whom == other.whom { self.whom.clone() } else { self.whom.or(&other.whom) };
        Self { whom, only: self.only.or(&other.only), ..self.clone() }
    }
}

/// The cues that hold for an event: the house's, but for those that it has its own in place of.
#[must_use]
pub fn sheet(event: EventId, all: &[Cue]) -> Vec<Cue> {
    let own = |c: &&Cue| c.event == Some(event);
    let replaced: Vec<CueId> = all.iter().filter(own).filter_map(|c| c.instead_of).collect();
    all.iter()
        .filter(|c| c.event == Some(event) || (c.event.is_none() && !replaced.contains(&c.id)))
        .cloned()
        .collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use jiff::civil::{datetime, time};
    use proptest::prelude::*;

    fn vienna() -> TimeZone {
        TimeZone::get("Europe/Vienna").unwrap()
    }

    /// Days keep the wall clock through a clock change; hours pass.
    #[test]
    fn a_day_before_is_the_same_hour_and_24_hours_before_is_not() {
        // On 28 March 2027 the clocks go from 2:00 to 3:00.
        let sunday = datetime(2027, 3, 28, 18, 0, 0, 0);
        let offset = |n, unit| When::Offset { n, unit, side: Side::Before };
        let at = |when: When| when.from(sunday, &vienna()).unwrap().to_string();
        assert_eq!(at(offset(1, Unit::Days)), "2027-03-27T17:00:00Z");
        assert_eq!(at(offset(24, Unit::Hours)), "2027-03-27T16:00:00Z");
        // What the clock leaves out is that much later.
        let at_half_past_two = When::Clock { days: 0, side: Side::Before, at: time(2, 30, 0, 0) };
        assert_eq!(at(at_half_past_two), "2027-03-28T01:30:00Z");
        assert_eq!(at(offset(1, Unit::Months)), "2027-02-28T17:00:00Z");
    }

    pub(crate) fn cue(id: i64) -> Cue {
        Cue {
            id: CueId(id),
            event: None,
            instead_of: None,
            on: true,
            trigger: Trigger::On(Occasion::Confirmed),
            when: When::AtOnce,
            whom: Whom::Booker,
            only: Only::default(),
            way: Way::Mail,
            template: TemplateId(1),
            late: Late::AtOnce,
            added_at: Timestamp::UNIX_EPOCH,
            already: false,
            since: None,
        }
    }

    #[test]
    fn two_confirmations_are_found_and_two_for_different_people_are_fine() {
        let first = cue(1);
        let all = [first.clone(), Cue { whom: Whom::Attendees, ..cue(2) }];
        assert_eq!(first.check(&all), Err(CueRefusal::ToldTwice { by: CueId(2) }));
        let of = |part| Only { part: Some(part), ..Only::default() };
        let online = Cue { only: of(Part::Online), ..cue(3) };
        let in_person = Cue { only: of(Part::InPerson), ..cue(4) };
        assert_eq!(online.check(std::slice::from_ref(&in_person)), Ok(()));
        let says = |answer: &str| Only {
            answer: Some((crate::QuestionId(1), answer.into())),
            ..Only::default()
        };
        let [bread, honey] = ["bread", "honey"].map(|answer| Cue { only: says(answer), ..cue(6) });
        let honey = Cue { id: CueId(7), ..honey };
        assert!(!bread.tells_twice_with(&honey), "nobody answers both");
        let bread_too = Cue { id: CueId(8), ..bread.clone() };
        assert!(bread.tells_twice_with(&bread_too), "the same answer twice");
        let off = Cue { on: false, ..cue(5) };
        assert_eq!(first.check(&[off]), Ok(()), "an old rule that is off is in nobody's way");
    }

    /// Whoever waits hears of offers and of what becomes of the whole date, and of no booking;
    /// whoever has booked hears of no offer.
    #[test]
    fn who_waits_hears_of_the_date_and_of_no_booking() {
        let to = |whom: Whom, occasion| {
            Cue { whom, trigger: Trigger::On(occasion), ..cue(1) }.check(&[])
        };
        for occasion in Occasion::ALL {
            if !Trigger::On(occasion).sets_cues_off() {
                continue;
            }
            let fits = occasion.subject() == Subject::Waiting || occasion.is_of_date();
            assert_eq!(to(Whom::Waiting, occasion).is_ok(), fits, "{occasion:?}");
            let not_booked = occasion.subject() == Subject::Waiting;
            assert_eq!(to(Whom::Attendees, occasion).is_err(), not_booked, "{occasion:?}");
        }
    }

    #[test]
    fn what_nobody_can_know_is_refused() {
        let before = When::Offset { n: 1, unit: Unit::Days, side: Side::Before };
        let asked = Cue { when: before, ..cue(1) };
        assert_eq!(asked.check(&[]), Err(CueRefusal::BeforeAnOccasion));
        let missed = Cue { whom: Whom::Missed, trigger: Trigger::At(Moment::Starts), ..cue(1) };
        assert!(matches!(missed.check(&[]), Err(CueRefusal::Nobody { .. })));
        let far = When::Offset { n: 731, unit: Unit::Days, side: Side::After };
        assert!(matches!(Cue { when: far, ..cue(1) }.check(&[]), Err(CueRefusal::TooFar { .. })));
        let address = Whom::Address("nobody".into());
        assert_eq!(Cue { whom: address, ..cue(1) }.check(&[]), Err(CueRefusal::Address));
        assert_eq!(Cue { way: Way::Ring, ..cue(1) }.check(&[]), Err(CueRefusal::Way));
        let notice = Cue { way: Way::Notice, ..cue(1) };
        assert_eq!(notice.check(&[]), Err(CueRefusal::NotPublic), "a booking is no public matter");
        let moved = Cue { trigger: Trigger::On(Occasion::Moved), ..notice };
        assert_eq!(moved.check(&[]), Ok(()));
        let expires = Cue { trigger: Trigger::At(Moment::CardExpires), whom: Whom::Came, ..cue(1) };
        assert!(matches!(expires.check(&[]), Err(CueRefusal::Nobody { .. })));
        // Hosts hear of some bookings only, but nobody has a ticket for a date that starts.
        let only = Only { part: Some(Part::Online), ..Only::default() };
        let some = Cue { whom: Whom::Hosts, only, ..cue(1) };
        assert_eq!(some.check(&[]), Ok(()));
        for trigger in [Trigger::At(Moment::Starts), Trigger::On(Occasion::Moved)] {
            let refused = Cue { trigger, ..some.clone() }.check(&[]);
            assert!(matches!(refused, Err(CueRefusal::Nobody { .. })), "{refused:?}");
        }
        let to_hosts = Cue { whom: Whom::Hosts, way: Way::Text, ..cue(1) };
        assert_eq!(to_hosts.check(&[]), Err(CueRefusal::Way));
        let invited = Cue { trigger: Trigger::On(Occasion::Invited), ..cue(1) };
        assert_eq!(invited.check(&[]), Err(CueRefusal::Trigger));
    }

    #[test]
    fn an_event_s_own_cue_stands_in_place_of_the_house_s() {
        let own = Cue { event: Some(EventId(7)), instead_of: Some(CueId(1)), on: false, ..cue(2) };
        let ids = |event| -> Vec<i64> {
            sheet(EventId(event), &[cue(1), own.clone()]).iter().map(|c| c.id.0).collect()
        };
        assert_eq!((ids(7), ids(8)), (vec![2], vec![1]));
    }

    proptest! {
        /// To be told twice is mutual, and what is before comes before.
        #[test]
        fn before_is_before_and_after_is_after(n in 0u32..100, unit in 0usize..5, days in 0i32..700) {
            let from = datetime(2026, 11, 26, 10, 0, 0, 0).checked_add(Span::new().days(days)).unwrap();
            let at = |side| When::Offset { n, unit: Unit::ALL[unit], side }.from(from, &vienna()).unwrap();
            let moment = When::AtOnce.from(from, &vienna()).unwrap();
            prop_assert!(at(Side::Before) <= moment && at(Side::After) >= moment);
        }
    }
}
