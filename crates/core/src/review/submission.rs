//! A submission: what its form says, where it stands, and what may become of it.

use jiff::civil::{Date, Time};
use jiff::{SignedDuration, Timestamp, ToSpan};
use serde::{Deserialize, Serialize};

use crate::booking::details;
use crate::dates::recurrence::Rule;
use crate::dates::schedule::{Span, SpanError};
use crate::forms::form::{Fault, Form, slug};
use crate::forms::quick::MOST_SEATS;
use crate::forms::repeats;
use crate::{Currency, Money};

/// So long a decision can be taken back; the mail to the submitter waits for that.
pub const UNDO: SignedDuration = SignedDuration::from_mins(5);

/// Most letters of a description.
pub const LONGEST_TEXT: usize = 20_000;

/// Most dates of one submission.
pub const MOST_DATES: usize = 60;

/// How long a date is said to be whose end is not given.
const NO_END: SignedDuration = SignedDuration::from_hours(2);

crate::worded! {
    /// Where a submission stands.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
    pub enum State {
        /// It is being written, and nobody else sees it.
        Unsent = "not sent yet",
        /// It waits for a reviewer.
        Received = "received",
        /// Its submitter is asked for something.
        SentBack = "sent back",
        /// It became an event.
        Accepted = "accepted",
        /// It will not be one.
        TurnedDown = "turned down",
        /// Its submitter took it back.
        Withdrawn = "withdrawn",
    }
}

impl State {
    /// Whether it is at its end.
    #[must_use]
    pub const fn is_over(self) -> bool {
        matches!(self, Self::TurnedDown | Self::Withdrawn)
    }
}

crate::worded! {
    /// What is done with a submission.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
    pub enum Act {
        /// The submitter hands it in.
        Send = "send",
        /// The submitter changes it.
        Change = "change",
        /// The submitter takes it back.
        Withdraw = "withdraw",
        /// A reviewer puts something right in it.
        Correct = "correct",
        /// It becomes an event.
        Accept = "accept",
        /// It goes back with words.
        SendBack = "send back",
        /// It is turned down with a reason.
        TurnDown = "turn down",
        /// It is spam: turned down, and nobody is told.
        Spam = "spam",
        /// It is a copy of something else, and ends in it.
        Join = "join",
        /// A decision is taken back.
        Undo = "undo",
    }
}

impl Act {
    /// What was done, for a timeline.
    #[must_use]
    pub const fn done(self) -> &'static str {
        match self {
            Self::Send => "sent it in",
            Self::Change => "changed it",
            Self::Withdraw => "withdrew it",
            Self::Correct => "corrected it",
            Self::Accept => "accepted it",
            Self::SendBack => "sent it back",
            Self::TurnDown => "turned it down",
            Self::Spam => "put it aside as spam",
            Self::Join => "joined it with another",
            Self::Undo => "took the decision back",
        }
    }

    /// Whether a reviewer ends the waiting with it.
    #[must_use]
    pub const fn is_decision(self) -> bool {
        matches!(self, Self::Accept | Self::SendBack | Self::TurnDown | Self::Spam | Self::Join)
    }

    /// Whether it is the submitter's.
    #[must_use]
    pub const fn is_submitters(self) -> bool {
        matches!(self, Self::Send | Self::Change | Self::Withdraw)
    }
}

/// Every act there is: from which state, and to which. What is not here cannot happen.
pub const ACTS: &[(Act, &[State], State)] = {
    use State::{Accepted, Received, SentBack, TurnedDown, Unsent, Withdrawn};
    &[
        (Act::Send, &[Unsent], Received),
        // What is accepted stays so: the change waits beside it.
        (Act::Change, &[Received, SentBack], Received),
        (Act::Change, &[Accepted], Accepted),
        (Act::Withdraw, &[Received, SentBack, Accepted], Withdrawn),
        (Act::Correct, &[Received], Received),
        (Act::Accept, &[Received], Accepted),
        (Act::SendBack, &[Received], SentBack),
        (Act::TurnDown, &[Received], TurnedDown),
        (Act::Spam, &[Received], TurnedDown),
        (Act::Join, &[Received], TurnedDown),
        (Act::Undo, &[Accepted, SentBack, TurnedDown], Received),
    ]
};

/// Why something cannot be done with a submission.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// It stands elsewhere by now: somebody was faster.
    #[error("{who} {what}, at {at}; it is {} now", state.word())]
    Elsewhere {
        /// Where it stands.
        state: State,
        /// Who brought it there.
        who: String,
        /// What they did.
        what: &'static str,
        /// When.
        at: Timestamp,
    },
    /// Its words are others than those that were looked at.
    #[error("changed since it was looked at")]
    Changed,
    /// A decision can be taken back for a while only.
    #[error("the time to take it back is over")]
    TooLate,
    /// There is nothing to take back.
    #[error("nothing to take back")]
    NothingToUndo,
    /// The house rules do not allow it.
    #[error("the house rules do not allow to {} it", .0.word())]
    ByRules(Act),
    /// The house takes no submissions from this person.
    #[error("no submissions from this person")]
    NotYou(NotYou),
    /// So many were sent in a day.
    #[error("{most} in a day are enough")]
    Enough {
        /// The most of a day.
        most: u32,
    },
    /// Nobody decides on what they submitted themselves.
    #[error("nobody accepts their own")]
    Own,
    /// It was filled in faster than anybody types.
    #[error("filled in faster than anybody types")]
    TooFast,
    /// The field that people leave empty was filled in.
    #[error("the field that people leave empty is filled in")]
    Trapped,
    /// The page it was typed on is too old, or is none of ours.
    #[error("the page is too old")]
    OldForm,
    /// People have booked the event that it became.
    #[error("{bookings} bookings are in the way")]
    Booked {
        /// How many.
        bookings: u32,
    },
    /// There is nothing that it could be joined with.
    #[error("nothing to join it with")]
    NothingToJoin,
    /// It waits for nobody: what came last was decided.
    #[error("no change waits")]
    NoChange,
}

/// Why somebody may not submit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NotYou {
    /// Nobody may at present.
    Closed,
    /// Members only, and they have not signed in as one.
    MembersOnly,
    /// Only people named, and they have not signed in as one.
    NotNamed,
}

/// The state that an act leads to.
///
/// # Errors
/// `None` where [`ACTS`] has no such row: the caller says who was faster.
#[must_use]
pub fn leads(act: Act, from: State) -> Option<State> {
    ACTS.iter().find(|(a, states, _)| *a == act && states.contains(&from)).map(|(.., to)| *to)
}

/// How it can be booked here.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Booked {
    /// Seats of each date.
    pub seats: u32,
    /// What a seat costs.
    pub price: Money,
}

/// What a form says, read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proposal {
    /// The title.
    pub title: String,
    /// Its word in addresses.
    pub slug: String,
    /// What kind of event; may be empty.
    pub kind: String,
    /// Each date, in order; at least one.
    pub spans: Vec<Span>,
    /// The rule that gave them, if any did.
    pub rule: Option<Rule>,
    /// An end was given; otherwise each date is said to take two hours.
    pub has_end: bool,
    /// Where; may be empty.
    pub place: String,
    /// The address of a new place; may be empty.
    pub address: String,
    /// Who leads it.
    pub hosts: Vec<String>,
    /// Whom to ask; may be empty.
    pub contact: String,
    /// What it costs, in words; may be empty.
    pub price: String,
    /// It can be booked here.
    pub booked: Option<Booked>,
    /// Names of tags.
    pub tags: Vec<String>,
}

crate::fields! {
    TITLE: Line = "title", "Title" needed;
    DAY: Day = "day", "Day" needed;
    FROM: Clock = "from", "From" needed;
    UNTIL: Clock = "until", "Until";
    DAYS: Days = "days", "The other days, at the same hour",
        "One after another, such as 2027-01-12, 2027-02-09.";
    PLACE: Line = "place", "Where", "A known place, or the name of another.";
    ADDRESS: Line = "address", "Its address", "Street, town, and how to find it.";
    CONTACT: Line = "contact", "Whom to ask",
        "A mail address or a telephone number that everybody may see.";
    HOSTS: Names = "hosts", "Names", "By commas, where there are several.";
    PRICE_WORDS: Line = "price_words", "What it costs, in words",
        "Such as: free, a collection at the end.";
    BOOKABLE: Tick = "bookable", "It can be booked here",
        "seats are counted, and paid for here where they cost anything";
    SEATS: WholeOrNone(1, MOST_SEATS) = "seats", "Seats";
    PRICE: Price = "price", "Price of a seat";
    NOTE: Text(2, details::LONGEST_TEXT) = "note", "Words to the reviewer",
        "They are not published.";
    NAME: Line = "name", "Your name" needed;
    EMAIL: MailAddress = "email", "Your e-mail address",
        "A link goes there that hands it in. It is not published." needed;
}

/// Fields of the form, in its order. What else is sent is not kept.
pub const FIELDS: &[&str] = &[
    "title",
    "how",
    "day",
    "from",
    "until",
    "days",
    "repeat",
    "interval",
    "count",
    "last",
    "day_of_week",
    "place",
    "address",
    "description",
    "hosts",
    "contact",
    "price_words",
    "bookable",
    "seats",
    "price",
    "tag",
    "kind",
    "note",
    "name",
    "email",
];

/// What the form's fields are called where their changes are told.
#[must_use]
pub fn label(field: &str) -> &'static str {
    match field {
        "title" => "Title",
        "how" | "days" | "repeat" | "interval" | "count" | "last" | "day_of_week" => "Dates",
        "day" => "Day",
        "from" => "From",
        "until" => "Until",
        "place" => "Where",
        "address" => "Address of the place",
        "description" => "What it is about",
        "hosts" => "Who leads it",
        "contact" => "Whom to ask",
        "price_words" | "price" => "Price",
        "bookable" => "Can be booked here",
        "seats" => "Seats",
        "tag" => "Tags",
        "kind" => "Kind",
        "picture" => "Picture",
        _ => "Words to the reviewer",
    }
}

/// What was typed, word for word, by field; a field may come several times.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Typed(pub Vec<(String, String)>);

impl Typed {
    /// Keeps the fields of the form, and of each no more than it can hold.
    #[must_use]
    pub fn of(form: &Form) -> Self {
        let mut kept = Vec::new();
        for name in FIELDS {
            for value in form.all(name).into_iter().take(MOST_DATES) {
                let value = value.chars().take(LONGEST_TEXT + 1).collect();
                kept.push(((*name).to_owned(), value));
            }
        }
        Self(kept)
    }

    /// The first value of a field; empty when there is none.
    #[must_use]
    pub fn get(&self, name: &str) -> &str {
        self.0.iter().find(|(n, _)| n == name).map_or("", |(_, v)| v)
    }

    /// All values of a field.
    pub fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a str> {
        self.0.iter().filter(move |(n, _)| n == name).map(|(_, v)| v.as_str())
    }

    /// Puts a value in the place of those there were; an empty one leaves none.
    pub fn set(&mut self, name: &str, value: &str) {
        self.0.retain(|(n, _)| n != name);
        if !value.is_empty() {
            self.0.push((name.to_owned(), value.to_owned()));
        }
    }

    /// What was typed, put over what is kept: where the form says in `changed` which fields it
    /// changed since it was last kept, the others stay as another device left them.
    #[must_use]
    pub fn over(self, kept: &Self, changed: Option<&[String]>) -> Self {
        let Some(changed) = changed else { return self };
        let is_ours = |name: &String| changed.contains(name);
        let fields = FIELDS.iter().map(|name| (*name).to_owned());
        let of = |name: &String| if is_ours(name) { &self.0 } else { &kept.0 };
        Self(
            fields
                .flat_map(|name| of(&name).iter().filter(move |(n, _)| *n == name).cloned())
                .collect(),
        )
    }

    /// As a form, to be read.
    #[must_use]
    pub fn form(&self) -> Form {
        Form::new(self.0.clone())
    }

    /// The fields in which two differ, each once, in the order of the form.
    #[must_use]
    pub fn differs(&self, other: &Self) -> Vec<&'static str> {
        FIELDS
            .iter()
            .copied()
            .filter(|f| !matches!(*f, "note" | "name" | "email") && !self.all(f).eq(other.all(f)))
            .collect()
    }
}

/// Reads a form for a house in this zone and currency. Only what no event can be without is
/// needed: a title, a day and an hour; what else is missing the checks tell.
///
/// # Errors
/// The faults are in the form; then there is no proposal.
pub fn read(form: &mut Form, zone: &str, currency: Currency) -> Option<Proposal> {
    let title = form.take(&TITLE);
    let slug = slug(&title);
    if slug.is_empty() && !title.is_empty() {
        form.fault(TITLE, Fault::NoWord);
    }
    let kind = form.line("kind");
    let (first, from, until) = (form.take(&DAY), form.take(&FROM), form.take(&UNTIL));
    let (mut days, mut rule) = (Vec::new(), None);
    if let Some(first) = first {
        match form.get("how") {
            "several" => {
                days = form.take(&DAYS);
                days.push(first);
            }
            "rule" => {
                rule = repeats::rule(form, first);
                if rule.is_none() {
                    form.fault("repeat", Fault::Missing);
                }
                let found = rule.as_ref().and_then(|r| repeats::days_of(form, r, first));
                days = found.unwrap_or_default();
            }
            _ => days.push(first),
        }
    }
    days.sort_unstable();
    days.dedup();
    if days.len() > MOST_DATES {
        let at = if rule.is_some() { repeats::COUNT.name } else { DAYS.name };
        form.fault(at, Fault::TooMany(MOST_DATES));
    }
    let mut spans = Vec::new();
    if let Some(from) = from {
        for day in days.into_iter().take(MOST_DATES) {
            match span_of(day, from, until, zone) {
                Ok(span) => spans.push(span),
                // A rule leaves such a day out.
                Err(SpanError::Ambiguous { .. }) if rule.is_some() => {}
                Err(SpanError::Ambiguous { at, .. }) => {
                    let field = if at.time() == from { FROM.name } else { UNTIL.name };
                    form.fault(field, Fault::ClockChange(at));
                }
                Err(SpanError::EndsFirst { .. }) => form.fault(UNTIL, Fault::EndsFirst),
                Err(SpanError::UnknownZone { .. }) => form.fault(DAY, Fault::NotADay),
            }
        }
    }
    let (place, address) = (form.take(&PLACE), form.take(&ADDRESS));
    form.text("description", LONGEST_TEXT);
    form.take(&NOTE);
    let (hosts, contact) = (form.take(&HOSTS), form.take(&CONTACT));
    let price = form.take(&PRICE_WORDS);
    let booked = form.take(&BOOKABLE).then(|| {
        let seats = form.count(SEATS.name, 1, MOST_SEATS);
        let price = form.amount(PRICE.name, currency).unwrap_or(0);
        Booked { seats, price: currency.of(price) }
    });
    let mut tags: Vec<String> =
        form.all("tag").iter().map(|t| crate::words::text::line(t)).collect();
    tags.truncate(10);
    if !form.wrong.is_empty() || spans.is_empty() {
        return None;
    }
    Some(Proposal {
        title,
        slug,
        kind,
        spans,
        rule,
        has_end: until.is_some(),
        place,
        address,
        hosts,
        contact,
        price,
        booked,
        tags,
    })
}

/// A date on a day; an end before the start is on the next day.
fn span_of(day: Date, from: Time, until: Option<Time>, zone: &str) -> Result<Span, SpanError> {
    let starts = day.to_datetime(from);
    let ends = match until {
        None => starts.saturating_add(NO_END),
        Some(until) if until < from => day.saturating_add(1.day()).to_datetime(until),
        Some(until) => day.to_datetime(until),
    };
    Span::new(starts, ends, zone)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn form(pairs: &[(&str, &str)]) -> Form {
        Form::new(pairs.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect())
    }

    fn read_all(pairs: &[(&str, &str)]) -> Result<Proposal, Vec<String>> {
        let mut form = form(pairs);
        let read = read(&mut form, "Europe/Dublin", Currency::EUR);
        read.ok_or_else(|| form.wrong.iter().map(ToString::to_string).collect())
    }

    #[test]
    fn a_title_a_day_and_an_hour_are_enough() {
        let p = read_all(&[("title", "Branch meeting"), ("day", "2027-01-12"), ("from", "19:30")]);
        let p = p.unwrap();
        assert_eq!((p.slug.as_str(), p.has_end, p.spans.len()), ("branch-meeting", false, 1));
        assert_eq!(p.spans[0].ends.to_string(), "2027-01-12T21:30:00");
        assert_eq!(
            read_all(&[("title", "??"), ("from", "late"), ("bookable", "yes")]).unwrap_err(),
            ["title: no letter or digit", "day: missing", "from: not a time", "seats: missing"]
        );
    }

    #[test]
    fn several_dates_are_typed_or_follow_a_rule() {
        let base = [("title", "T"), ("day", "2027-03-01"), ("from", "01:30"), ("until", "00:15")];
        let with = |more: &[(&str, &str)]| read_all(&[&base[..], more].concat());
        let several = with(&[("how", "several"), ("days", "2027-02-03, 2027-03-01\n2027-02-04")]);
        let days: Vec<String> =
            several.unwrap().spans.iter().map(|s| s.starts.date().to_string()).collect();
        assert_eq!(days, ["2027-02-03", "2027-02-04", "2027-03-01"]);
        // An hour that the clocks skip is left out of a rule, and told of a day that was typed.
        let rule = with(&[("how", "rule"), ("repeat", "day"), ("count", "30")]).unwrap();
        assert_eq!((rule.spans.len(), rule.rule.is_some()), (29, true));
        let typed = with(&[("how", "several"), ("days", "2027-03-28")]).unwrap_err();
        assert_eq!(typed, ["from: 2027-03-28T01:30:00 is skipped or repeated by a clock change"]);
        assert_eq!(with(&[("how", "rule")]).unwrap_err(), ["repeat: missing"]);
        let many = with(&[("how", "rule"), ("repeat", "day"), ("count", "61")]).unwrap_err();
        assert_eq!(many, ["count: gives more than 60 dates"]);
    }

    #[test]
    fn nothing_happens_but_what_the_table_says() {
        let mut rows = Vec::new();
        for act in Act::ALL {
            for from in State::ALL {
                if let Some(to) = leads(act, from) {
                    rows.push(format!("{}: {} → {}", act.word(), from.word(), to.word()));
                }
            }
            assert_eq!(Act::from_word(act.word()), Some(act));
        }
        insta::assert_snapshot!(rows.join("\n"), @r"
        send: not sent yet → received
        change: received → received
        change: sent back → received
        change: accepted → accepted
        withdraw: received → withdrawn
        withdraw: sent back → withdrawn
        withdraw: accepted → withdrawn
        correct: received → received
        accept: received → accepted
        send back: received → sent back
        turn down: received → turned down
        spam: received → turned down
        join: received → turned down
        undo: sent back → received
        undo: accepted → received
        undo: turned down → received
        ");
        assert!(State::ALL.into_iter().all(|s| State::from_word(s.word()) == Some(s)));
    }

    proptest! {
        /// Whatever is typed is a proposal with dates in their order, or faults; what is kept of
        /// it is the same when it is read again.
        #[test]
        fn anything_typed_is_read_or_told(
            words in prop::collection::vec("[0-9a-z :,.é-]{0,12}", 6),
            how in prop::sample::select(vec!["", "several", "rule"]),
            repeat in prop::sample::select(vec!["", "week", "day", "month last"]),
            bookable in prop::sample::select(vec!["", "yes"]),
        ) {
            let [title, day, from, days, count, seats] = &words[..] else { return Ok(()) };
            let (day, from) = (if day.len() % 2 == 0 { day } else { "2027-01-12" }, if from.len() % 2 == 0 { from } else { "19:30" });
            let mut form = form(&[("title", title), ("how", how), ("day", day), ("from", from), ("days", days),
                ("repeat", repeat), ("count", count), ("bookable", bookable), ("seats", seats), ("elsewhere", "x")]);
            let typed = Typed::of(&form);
            prop_assert_eq!(&Typed::of(&typed.form()), &typed);
            prop_assert!(typed.get("elsewhere").is_empty() && typed.differs(&typed).is_empty());
            match read(&mut form, "Europe/Dublin", Currency::EUR) {
                Some(p) => {
                    prop_assert!(form.wrong.is_empty() && (1..=MOST_DATES).contains(&p.spans.len()));
                    prop_assert!(p.spans.windows(2).all(|w| w[0].starts < w[1].starts));
                }
                None => prop_assert!(!form.wrong.is_empty() || repeat == "month last"),
            }
        }
    }
}
