//! What is looked at when a submission arrives, and again when something changes.
//!
//! Each check has a name, points and a sentence that says what it looks at; what it found is its
//! evidence. The points add up to one light word. Nothing is learnt, weighed or guessed beside
//! the rules that stand here, so that anybody can read why a submission is doubtful.

use jiff::civil::{DateTime, Weekday};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::record::Record;
use super::rules::HouseRules;
use super::submission::Proposal;
use crate::dates::recurrence::WEEK;
use crate::words::address::is_phone;
use crate::words::fold;
use crate::words::links::{self, Kind};
use crate::words::search::is_close;

/// From so many points on a submission is to be looked at, and from so many it is doubtful.
pub const LOOK: i32 = 2;
/// See [`LOOK`].
pub const DOUBT: i32 = 10;

crate::worded! {
    /// A light word for all of it.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
    pub enum Light {
        /// Nothing stands against it.
        Right = "looks right",
        /// Something is to be looked at.
        Look = "look at this",
        /// Much speaks against it.
        Doubtful = "doubtful",
    }
}

/// What a check is about: beside which part of the submission it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum About {
    /// The whole of it.
    Whole,
    /// Its title.
    Title,
    /// When it is.
    When,
    /// Where it is.
    Where,
    /// What it is about.
    What,
    /// Whom to ask.
    Contact,
    /// Whoever sent it.
    Sender,
}

macro_rules! checks {
    ($($(#[$doc:meta])* $name:ident $word:literal $about:ident $points:literal $says:literal $asks:literal;)*) => {
        /// A check.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Check {
            $($(#[$doc])* $name,)*
        }

        impl Check {
            /// All of them, in the order in which they are shown.
            pub const ALL: &[Self] = &[$(Self::$name,)*];

            /// The word for it, as stored.
            #[must_use]
            pub const fn word(self) -> &'static str {
                match self { $(Self::$name => $word,)* }
            }

            /// What it is about.
            #[must_use]
            pub const fn about(self) -> About {
                match self { $(Self::$name => About::$about,)* }
            }

            /// What it adds to the sum; below nothing speaks for it.
            #[must_use]
            pub const fn points(self) -> i32 {
                match self { $(Self::$name => $points,)* }
            }

            /// What it says to the reviewer.
            #[must_use]
            pub const fn says(self) -> &'static str {
                match self { $(Self::$name => $says,)* }
            }

            /// A ready-made sentence to the submitter; empty where there is nothing to ask for.
            #[must_use]
            pub const fn asks(self) -> &'static str {
                match self { $(Self::$name => $asks,)* }
            }
        }
    };
}

checks! {
    /// Addresses and numbers were made live.
    Links "links" What 0 "Addresses and numbers are live." "";
    /// No end is given.
    NoEnd "no end" When 2 "No end is given; it is said to take two hours." "When does it end?";
    /// No place is given.
    NoPlace "no place" Where 3 "No place is given: it cannot be accepted without one." "Where does it take place?";
    /// Nothing says whom to ask.
    NoContact "no contact" Contact 2 "Nothing says whom to ask." "Whom can people ask, by mail or telephone?";
    /// Whom to ask cannot be written to, rung or opened.
    BadContact "contact" Contact 3 "This is no address and no number." "Please give a mail address or a telephone number that people can use.";
    /// Nothing says what it is about.
    NoText "no text" What 2 "Nothing says what it is about." "Please say in a few sentences what it is about.";
    /// A date is in the past.
    Past "past" When 5 "A date is over." "A date is in the past; which day is meant?";
    /// A date is far ahead.
    FarAhead "far ahead" When 3 "A date is further ahead than the house plans." "Is the year right? The date is far ahead.";
    /// It starts in the night.
    OddHour "odd hour" When 3 "It starts at an hour at which hardly anything does." "Does it really start at that hour?";
    /// It takes longer than half a day.
    Long "long" When 2 "It takes more than twelve hours." "Is the end right? It would take more than twelve hours.";
    /// The text names another weekday than the day is.
    Weekday "weekday" When 4 "The text names another weekday than the day is." "The day and the weekday in your text do not agree; which is right?";
    /// The venue is none that is known.
    NewVenue "new venue" Where 1 "A place that the house does not know." "";
    /// The venue is nearly one that is known.
    NearVenue "near venue" Where 2 "Nearly the name of a place that is known." "Is this the place we know by a similar name?";
    /// The venue, a room or a host is used then.
    Clash "clash" Where 4 "Used by something else then." "Something else is there at that time; can it be another time or place?";
    /// Something published is nearly the same.
    Copy "near-copy" Whole 6 "Nearly the same as something else." "This looks like something that is announced already; is it the same?";
    /// More links than words bear.
    ManyLinks "many links" What 4 "Many links for so few words." "Please keep to one or two links.";
    /// Written in capital letters.
    Shouting "shouting" Title 2 "Written in capital letters." "Please write the title in small letters.";
    /// The same words again and again.
    Repeated "repeated" What 4 "The same words again and again." "Please shorten the text.";
    /// A link to a domain that nothing good came from.
    BadDomain "bad domain" What 10 "A domain from which nothing good ever came." "";
    /// Filled in very fast.
    Fast "fast" Sender 3 "Filled in faster than one reads it." "";
    /// Without the small computation of a browser.
    NoWork "no work" Sender 1 "Sent without a browser’s small computation: by a program, or with scripts switched off." "";
    /// Many from one sender in a short while.
    Many "many" Sender 3 "Many at once from one sender." "";
    /// Most of what this person sent was turned down.
    PoorRecord "poor record" Sender 3 "Most of what this address sent was turned down." "";
    /// Something of this person was spam.
    SpamBefore "spam before" Sender 10 "Something from this address was spam." "";
    /// What this person sent was accepted.
    GoodRecord "good record" Sender -2 "What this address sent was accepted." "";
    /// How it is, for whoever sent it the first time.
    Record "record" Sender 0 "What became of earlier ones." "";
}

impl Check {
    /// Finds one by its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|c| c.word() == word)
    }
}

impl Serialize for Check {
    fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(self.word())
    }
}

impl<'de> Deserialize<'de> for Check {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let word = String::deserialize(from)?;
        Self::from_word(&word).ok_or_else(|| serde::de::Error::custom("no such check"))
    }
}

/// The other thing that a check speaks of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Other {
    /// An event, by its key.
    Event(i64),
    /// A submission that waits, by its key.
    Submission(i64),
}

/// What a check found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// Which check.
    pub check: Check,
    /// What it found, word for word where it is about words.
    pub evidence: String,
    /// What else it speaks of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub other: Option<Other>,
}

/// Something that is nearly the same.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Near {
    /// What.
    pub other: Other,
    /// Its title.
    pub title: String,
    /// What agrees, in words.
    pub evidence: String,
}

/// How it was sent.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Sent {
    /// Seconds from the page to the sending; `None` where nobody measured.
    pub seconds: Option<u32>,
    /// A browser did its small computation.
    pub worked: bool,
    /// By a person who signed in, for whom neither counts.
    pub signed_in: bool,
    /// So many in the hour before, from the same sender or network.
    pub lately: u32,
}

/// Everything that the checks look at.
#[derive(Debug, Clone)]
pub struct SubmissionFacts<'a> {
    /// The submission.
    pub proposal: &'a Proposal,
    /// Its text, in plain words, without what is quoted in it.
    pub text: &'a str,
    /// The house rules.
    pub rules: &'a HouseRules,
    /// Names of known venues, and of rooms as `Venue, Room`.
    pub venues: &'a [String],
    /// What it would clash with, in words, by the thing that is used.
    pub clashes: &'a [(String, i64)],
    /// What is nearly the same.
    pub near: &'a [Near],
    /// The submitter's record.
    pub record: &'a Record,
    /// How it was sent.
    pub sent: Sent,
}

/// Seconds in which nobody fills the form in.
const FAST: u32 = 20;
/// So many in an hour are many.
const MANY: u32 = 4;

/// Runs all checks. `now` is the time it is, on the clock of the house as `here`.
#[must_use]
pub fn check(facts: &SubmissionFacts<'_>, now: Timestamp, here: DateTime) -> Vec<Finding> {
    let mut found = Vec::new();
    let mut say = |check: Check, evidence: String, other: Option<Other>| {
        found.push(Finding { check, evidence, other });
    };
    let p = facts.proposal;
    let links = links::find(facts.text);
    let live: Vec<String> = links
        .iter()
        .filter_map(|l| Some(format!("{} → {}", facts.text.get(l.from..l.until)?, l.to)))
        .collect();
    if !live.is_empty() {
        say(Check::Links, live.join("\n"), None);
    }
    if !p.has_end {
        say(Check::NoEnd, String::new(), None);
    }
    when(facts, now, here, &mut say);
    place(facts, &mut say);
    let words: Vec<String> =
        fold(facts.text).split(' ').filter(|w| !w.is_empty()).map(String::from).collect();
    if words.len() < 3 {
        say(Check::NoText, String::new(), None);
    }
    let in_text = links.iter().any(|l| matches!(l.kind, Kind::Mail | Kind::Phone));
    if p.contact.is_empty() && !in_text {
        say(Check::NoContact, String::new(), None);
    } else if !p.contact.is_empty() && !links::is_contact(&p.contact) {
        say(Check::BadContact, p.contact.clone(), None);
    } else if let Some(bad) = impossible(&p.contact) {
        say(Check::BadContact, bad, None);
    }
    spam(facts, &links, &words, &mut say);
    for near in facts.near {
        say(Check::Copy, format!("“{}”. {}", near.title, near.evidence), Some(near.other));
    }
    sender(facts, &mut say);
    found.sort_by_key(|f| f.check);
    found
}

type Say<'a> = &'a mut dyn FnMut(Check, String, Option<Other>);

fn when(facts: &SubmissionFacts<'_>, now: Timestamp, here: DateTime, say: Say<'_>) {
    let spans = &facts.proposal.spans;
    let day = |at: DateTime| at.strftime("%A %-d %B %Y, %H:%M").to_string();
    if let Some(past) = spans.iter().find(|s| s.ends_at <= now) {
        say(Check::Past, day(past.starts), None);
    }
    let far = SignedDuration::from_hours(24 * i64::from(facts.rules.ahead_days));
    if let Some(late) = spans.iter().find(|s| s.starts.duration_since(here) > far) {
        say(Check::FarAhead, day(late.starts), None);
    }
    if let Some(odd) = spans.iter().find(|s| (0..6).contains(&s.starts.hour())) {
        say(Check::OddHour, day(odd.starts), None);
    }
    let half = SignedDuration::from_hours(12);
    if let Some(long) = spans.iter().find(|s| s.ends_at.duration_since(s.starts_at) > half) {
        say(Check::Long, format!("{} to {}", day(long.starts), day(long.ends)), None);
    }
    let on: Vec<Weekday> = spans.iter().map(|s| s.starts.weekday()).collect();
    let title = fold(&facts.proposal.title);
    let text = fold(facts.text);
    let named = [title.as_str(), text.as_str()].concat_words();
    // Several weekdays named may be anything; one that is named and is none of the dates is not.
    let said: Vec<Weekday> =
        WEEK.into_iter().filter(|d| named.iter().any(|w| w == &name(*d))).collect();
    if let [one] = said.as_slice()
        && !on.contains(one)
    {
        let days: Vec<String> = spans.iter().take(3).map(|s| day(s.starts)).collect();
        say(
            Check::Weekday,
            format!("{} is named; it is on {}", capital(&name(*one)), days.join("; ")),
            None,
        );
    }
}

trait Words {
    fn concat_words(&self) -> Vec<String>;
}

impl Words for [&str; 2] {
    fn concat_words(&self) -> Vec<String> {
        self.iter()
            .flat_map(|t| t.split([' ', '.', ',']))
            .filter(|w| !w.is_empty())
            .map(String::from)
            .collect()
    }
}

fn name(day: Weekday) -> String {
    match day {
        Weekday::Monday => "monday",
        Weekday::Tuesday => "tuesday",
        Weekday::Wednesday => "wednesday",
        Weekday::Thursday => "thursday",
        Weekday::Friday => "friday",
        Weekday::Saturday => "saturday",
        Weekday::Sunday => "sunday",
    }
    .into()
}

fn capital(word: &str) -> String {
    let mut letters = word.chars();
    letters.next().map_or_else(String::new, |c| c.to_uppercase().chain(letters).collect())
}

/// The known place that a name nearly is, if it is none itself.
#[must_use]
pub fn near_venue<'a>(place: &str, venues: &'a [String]) -> Option<&'a String> {
    let typed = fold(place);
    if venues.iter().any(|v| fold(v) == typed) {
        return None;
    }
    let squeezed = |t: &str| t.replace([' ', '.'], "");
    let close = |known: &&String| {
        let known = fold(known);
        let most = if typed.chars().count() >= 8 { 2 } else { 1 };
        let long = typed.chars().count().min(known.chars().count()) >= 4;
        let begins = known.split(' ').next() == typed.split(' ').next() && {
            // `Millrace` for `Millrace Barn`.
            let (few, many) =
                if typed.len() < known.len() { (&typed, &known) } else { (&known, &typed) };
            few.chars().count() >= 6 && many.starts_with(few.as_str())
        };
        squeezed(&known) == squeezed(&typed) || long && is_close(&typed, &known, most) || begins
    };
    venues.iter().find(close)
}

fn place(facts: &SubmissionFacts<'_>, say: Say<'_>) {
    let place = facts.proposal.place.as_str();
    let known = facts.venues.iter().any(|v| fold(v) == fold(place));
    if place.is_empty() {
        say(Check::NoPlace, String::new(), None);
    } else if let Some(near) = near_venue(place, facts.venues) {
        say(Check::NearVenue, near.clone(), None);
    } else if !known {
        let address = &facts.proposal.address;
        let evidence =
            if address.is_empty() { place.to_owned() } else { format!("{place}, {address}") };
        say(Check::NewVenue, evidence, None);
    }
    for (what, event) in facts.clashes {
        say(Check::Clash, what.clone(), Some(Other::Event(*event)));
    }
}

/// A mail address or a number in a field for whom to ask that cannot be one.
fn impossible(contact: &str) -> Option<String> {
    let at = contact.split_whitespace().find(|w| w.contains('@'))?;
    let word = at.trim_matches(|c: char| !c.is_alphanumeric());
    (!crate::words::address::is_address(word) && !is_phone(word)).then(|| word.to_owned())
}

fn spam(facts: &SubmissionFacts<'_>, links: &[links::Link], words: &[String], say: Say<'_>) {
    let web = links.iter().filter(|l| l.kind == Kind::Web).count();
    if web >= 3 && web * 12 > words.len() {
        say(Check::ManyLinks, format!("{web} links in {} words", words.len()), None);
    }
    let title = &facts.proposal.title;
    let letters = title.chars().filter(|c| c.is_alphabetic()).count();
    let large = title.chars().filter(|c| c.is_uppercase()).count();
    let marks = title.matches('!').count();
    if letters >= 12 && large * 10 > letters * 7 || marks >= 3 {
        say(Check::Shouting, title.clone(), None);
    }
    let long: Vec<&String> = words.iter().filter(|w| w.chars().count() >= 4).collect();
    if long.len() >= 12 {
        let mut sorted = long.clone();
        sorted.sort_unstable();
        let most = sorted.chunk_by(|a, b| a == b).max_by_key(|c| c.len());
        if let Some(most) = most.filter(|m| m.len() * 4 > long.len() && m.len() >= 5) {
            say(Check::Repeated, format!("“{}” {} times", most[0], most.len()), None);
        }
    }
    let host = |to: &str| {
        let rest = to.split_once("//").map_or(to, |(_, r)| r);
        let rest = rest.rsplit_once('@').map_or(rest, |(_, r)| r);
        rest.split(['/', ':', '?', '#']).next().unwrap_or(rest).to_lowercase()
    };
    let contact = links::find(&facts.proposal.contact);
    let bad: Vec<String> = links
        .iter()
        .chain(&contact)
        .map(|l| host(&l.to))
        .filter(|h| facts.rules.is_bad(h))
        .collect();
    if let Some(bad) = bad.first() {
        say(Check::BadDomain, bad.clone(), None);
    }
}

fn sender(facts: &SubmissionFacts<'_>, say: Say<'_>) {
    let sent = facts.sent;
    if !sent.signed_in {
        if let Some(seconds) = sent.seconds.filter(|s| *s < FAST) {
            say(Check::Fast, format!("{seconds} seconds"), None);
        }
        if !sent.worked {
            say(Check::NoWork, String::new(), None);
        }
    }
    if sent.lately >= MANY {
        say(Check::Many, format!("{} in the last hour", sent.lately), None);
    }
    let record = facts.record;
    let words = record.words();
    let check = if record.spam > 0 {
        Check::SpamBefore
    } else if record.turned_down >= 2 && record.turned_down >= record.accepted {
        Check::PoorRecord
    } else if record.accepted >= 3 && record.in_a_row > 0 && record.complaints == 0 {
        Check::GoodRecord
    } else {
        Check::Record
    };
    say(check, words, None);
}

/// The sum of the points.
#[must_use]
pub fn points(found: &[Finding]) -> i32 {
    // Each check counts once, however much it found.
    let mut checks: Vec<Check> = found.iter().map(|f| f.check).collect();
    checks.sort_unstable();
    checks.dedup();
    checks.into_iter().map(Check::points).sum()
}

/// The light word. A near-copy, a clash, a bad domain and the like are always to be looked at,
/// whatever speaks for the sender.
#[must_use]
pub fn light(found: &[Finding]) -> Light {
    let points = points(found);
    let heavy = found.iter().any(|f| f.check.points() >= 4);
    if points >= DOUBT {
        Light::Doubtful
    } else if points >= LOOK || heavy {
        Light::Look
    } else {
        Light::Right
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Currency;
    use crate::forms::form::Form;
    use crate::review::submission::read;
    use crate::words::text;
    use proptest::prelude::*;

    const GOOD: &[(&str, &str)] = &[
        ("title", "Branch meeting"),
        ("day", "2027-01-12"),
        ("from", "19:30"),
        ("until", "21:00"),
        ("place", "Guildhall"),
        ("contact", "wilma@post.example"),
    ];
    const TEXT: &str = "We talk about the winter and what it left of our colonies.";

    struct World {
        text: String,
        venues: Vec<String>,
        clashes: Vec<(String, i64)>,
        near: Vec<Near>,
        record: Record,
        sent: Sent,
        rules: HouseRules,
    }

    impl World {
        fn new(text: &str) -> Self {
            Self {
                text: text.into(),
                venues: vec![
                    "Guildhall".into(),
                    "Millrace Barn".into(),
                    "Millrace Barn, Loft".into(),
                ],
                clashes: Vec::new(),
                near: Vec::new(),
                record: Record::default(),
                sent: Sent { seconds: Some(90), worked: true, ..Sent::default() },
                rules: HouseRules {
                    bad_domains: vec!["pills.example".into()],
                    ..HouseRules::default()
                },
            }
        }

        fn found(&self, pairs: &[(&str, &str)]) -> Vec<Finding> {
            let mut fields: Vec<(String, String)> = GOOD
                .iter()
                .filter(|(n, _)| pairs.iter().all(|(m, _)| m != n))
                .chain(pairs)
                .map(|(n, v)| ((*n).to_owned(), (*v).to_owned()))
                .collect();
            fields.retain(|(_, v)| !v.is_empty());
            let mut form = Form::new(fields);
            let proposal = read(&mut form, "Europe/Dublin", Currency::EUR).unwrap();
            let facts = SubmissionFacts {
                proposal: &proposal,
                text: &text::lines(&self.text),
                rules: &self.rules,
                venues: &self.venues,
                clashes: &self.clashes,
                near: &self.near,
                record: &self.record,
                sent: self.sent,
            };
            let now = "2026-11-25T12:00:00Z".parse().unwrap();
            check(&facts, now, jiff::civil::datetime(2026, 11, 25, 12, 0, 0, 0))
        }

        fn checks(&self, pairs: &[(&str, &str)]) -> Vec<&'static str> {
            let found = self.found(pairs);
            found.iter().map(|f| f.check.word()).filter(|w| *w != "record").collect()
        }
    }

    #[test]
    fn a_good_one_looks_right_and_each_fault_fires_alone() {
        let world = World::new(TEXT);
        assert_eq!(world.checks(&[]), [""; 0]);
        assert_eq!(light(&world.found(&[])), Light::Right);
        for (pairs, check) in [
            (&[("until", "")][..], "no end"),
            (&[("place", "")], "no place"),
            (&[("contact", "")], "no contact"),
            (&[("contact", "ask Wilma")], "contact"),
            (&[("contact", "wilma@post")], "contact"),
            (&[("contact", "1998-2004")], "contact"),
            (&[("day", "2026-11-24")], "past"),
            (&[("day", "2029-01-12")], "far ahead"),
            (&[("from", "03:30"), ("until", "05:00")], "odd hour"),
            (&[("from", "00:00"), ("until", "02:00")], "odd hour"),
            (&[("from", "05:59"), ("until", "07:00")], "odd hour"),
            (&[("from", "09:00"), ("until", "08:00")], "long"),
            (&[("title", "Meeting on Friday")], "weekday"),
            (&[("place", "The Old Forge")], "new venue"),
            (&[("place", "Guild hall")], "near venue"),
            (&[("place", "Millrace")], "near venue"),
            (&[("place", "Millrace Bran")], "near venue"),
            (&[("title", "BRANCH MEETING")], "shouting"),
            (&[("title", "Come all!!!")], "shouting"),
        ] {
            assert_eq!(world.checks(pairs), [check], "{pairs:?}");
        }
    }

    #[test]
    fn what_only_looks_like_a_fault_does_not_fire() {
        let world = World::new(TEXT);
        for pairs in [
            &[("place", "guildhall")][..],
            &[("place", "Millrace Barn, Loft")],
            &[("contact", "Wilma, 0412 55 61 20")],
            &[("contact", "www.ostrel.example")],
            // It is a Tuesday; several weekdays named may be anything.
            &[("title", "Meeting on Tuesday")],
            &[("title", "Not Monday, not Friday")],
            &[("title", "RSPB and BBKA")],
            // Six in the morning is early, and no odd hour; noon to midnight is no long day.
            &[("from", "06:00"), ("until", "07:00")],
            &[("from", "12:00"), ("until", "00:00")],
            &[("from", "22:00"), ("until", "01:00")],
        ] {
            assert_eq!(world.checks(pairs), [""; 0], "{pairs:?}");
        }
        // A number of years is no telephone, so it is nobody to ask; a real one is.
        let years = World::new("The branch from 1998-2004: pictures, a talk, and tea.");
        assert_eq!(years.checks(&[("contact", "")]), ["no contact"]);
        let rung = World::new("Ring Wilma, tel. 0412 55 61 20, and say that you come.");
        assert_eq!(rung.checks(&[("contact", "")]), ["links"]);
        assert_eq!(rung.found(&[])[0].evidence, "0412 55 61 20 → tel:0412556120");
        // Marked as a quotation in print, an address is live without its marks.
        let quoted = World::new("The page is called “bees.example/moor”, and it is good.");
        assert_eq!(quoted.found(&[])[0].evidence, "bees.example/moor → https://bees.example/moor");
    }

    #[test]
    fn signs_of_spam_add_up_to_a_doubt() {
        let mut world = World::new(
            "cheap https://a.example cheap https://b.example cheap https://c.example/x cheap www.pills.example cheap \
             cheap cheap cheap lovely cheap offer today here",
        );
        world.sent = Sent { seconds: Some(4), worked: false, signed_in: false, lately: 9 };
        let found = world.found(&[]);
        let words: Vec<&str> = found.iter().map(|f| f.check.word()).collect();
        assert_eq!(
            words,
            ["links", "many links", "repeated", "bad domain", "fast", "no work", "many", "record"]
        );
        assert_eq!(light(&found), Light::Doubtful);
        // The same haste of somebody who signed in says nothing.
        world.text = TEXT.into();
        world.sent.signed_in = true;
        assert_eq!(world.checks(&[]), ["many"]);
    }

    /// What an address is known for, at each edge: one that was turned down is none, two are as
    /// soon as they are half of all, spam goes before everything, and a complaint ends good standing.
    #[test]
    fn a_record_is_poor_or_good_from_the_second_and_the_third_on() {
        let known = |accepted, turned_down, in_a_row, complaints, spam| {
            let mut world = World::new(TEXT);
            world.record =
                Record { accepted, turned_down, in_a_row, complaints, spam, ..Record::default() };
            world.found(&[]).last().unwrap().check.word()
        };
        assert_eq!(known(0, 1, 0, 0, 0), "record");
        assert_eq!((known(0, 2, 0, 0, 0), known(2, 2, 0, 0, 0)), ("poor record", "poor record"));
        assert_eq!(known(3, 2, 0, 0, 0), "record", "fewer than half");
        assert_eq!((known(2, 0, 2, 0, 0), known(3, 0, 1, 0, 0)), ("record", "good record"));
        assert_eq!((known(3, 0, 0, 0, 0), known(3, 0, 1, 1, 0)), ("record", "record"));
        assert_eq!((known(9, 0, 9, 0, 1), known(0, 2, 0, 0, 1)), ("spam before", "spam before"));
    }

    #[test]
    fn a_good_record_outweighs_a_trifle_but_not_a_copy() {
        let mut world = World::new(TEXT);
        world.record = Record { accepted: 4, in_a_row: 2, ..Record::default() };
        assert_eq!(light(&world.found(&[("until", "")])), Light::Right);
        world.near.push(Near {
            other: Other::Event(3),
            title: "Branch meeting".into(),
            evidence: "Words agree.".into(),
        });
        let found = world.found(&[]);
        assert_eq!((points(&found), light(&found)), (4, Light::Look));
        world.record = Record { accepted: 9, spam: 1, ..Record::default() };
        assert_eq!(light(&world.found(&[])), Light::Doubtful);
        let json = serde_json::to_string(&found).unwrap();
        assert_eq!(serde_json::from_str::<Vec<Finding>>(&json).unwrap(), found);
    }

    proptest! {
        /// Whatever is written, the checks answer, each finding has words, and the light is of
        /// the points.
        #[test]
        fn whatever_is_written_is_judged(text in "[a-z0-9@:/. !A-Z\\-]{0,120}", contact in "[a-z@. 0-9+]{0,20}") {
            let world = World::new(&text);
            let found = world.found(&[("contact", contact.trim())]);
            prop_assert!(found.iter().all(|f| !f.check.says().is_empty()));
            prop_assert!(points(&found) < DOUBT || light(&found) == Light::Doubtful);
            prop_assert_eq!(found.clone(), world.found(&[("contact", contact.trim())]));
        }
    }
}
