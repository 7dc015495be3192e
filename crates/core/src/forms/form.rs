//! Reading forms of the Office: each field once, every fault told at once.

use std::collections::HashSet;

use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use jiff::tz::TimeZone;

use super::field::{Binding, Field, Kind, Locale, Plain};
use crate::Currency;
use crate::booking::details::LONGEST;
use crate::messages::cue::CueRefusal;
use crate::messages::template;
use crate::money::transfer::IbanFault;
use crate::words::accent::{self, AccentRefusal};
use crate::words::address::is_address;
use crate::words::pasted::{Pasted, pasted};
use crate::words::text;

/// What is wrong with a field.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{field}: {fault}")]
pub struct Wrong {
    /// The field's name.
    pub field: String,
    /// What is wrong.
    pub fault: Fault,
}

/// What can be wrong with a field.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Fault {
    /// Nothing was given.
    #[error("missing")]
    Missing,
    /// More characters than fit.
    #[error("longer than {0} characters")]
    TooLong(usize),
    /// Fewer characters than it takes.
    #[error("shorter than {0} characters")]
    TooShort(usize),
    /// Not a day.
    #[error("not a day")]
    NotADay,
    /// Not a time of day.
    #[error("not a time")]
    NotATime,
    /// Not an amount of the house's currency.
    #[error("not an amount")]
    NotAnAmount,
    /// Not a whole number between these two, both included.
    #[error("not a number from {0} to {1}")]
    NotANumber(u32, u32),
    /// The end is not after the start.
    #[error("ends before it starts")]
    EndsFirst,
    /// The clocks skip or repeat this hour.
    #[error("{0} is skipped or repeated by a clock change")]
    ClockChange(DateTime),
    /// In the past.
    #[error("in the past")]
    Past,
    /// More than what it belongs to.
    #[error("more than it belongs to")]
    TooMuch,
    /// Another one has it already.
    #[error("taken")]
    Taken,
    /// Not among those known.
    #[error("unknown")]
    Unknown,
    /// Two fields of which one needs the other.
    #[error("needs the other field")]
    NeedsOther,
    /// Two fields of which only one may be given.
    #[error("one of two fields, not both")]
    OneOfTwo,
    /// A repeat rule that gives no date.
    #[error("gives no date")]
    NoDate,
    /// A repeat rule that gives more dates than this.
    #[error("gives more than {0} dates")]
    TooMany(usize),
    /// Not an e-mail address, or not a domain.
    #[error("not an address")]
    NotAnAddress,
    /// A line among several that is no e-mail address, nor a domain.
    #[error("{0:?} is not an address")]
    LineNotAnAddress(String),
    /// No time zone of this name; one that may be meant.
    #[error("no such time zone")]
    NoZone(Option<String>),
    /// Not an IBAN.
    #[error("not an IBAN: {0}")]
    NotAnIban(IbanFault),
    /// Not a BIC.
    #[error("not a BIC")]
    NotABic,
    /// Not a telephone number.
    #[error("not a telephone number")]
    NotAPhone,
    /// Not a web address.
    #[error("not a web address")]
    NotALink,
    /// Not a colour.
    #[error("not a colour")]
    NotAColour,
    /// A colour that words could not be read in.
    #[error("too faint: {0}")]
    TooFaint(AccentRefusal),
    /// A picture that cannot be read, or is of another kind.
    #[error("not a picture")]
    NotAPicture,
    /// Not a file that can go with messages.
    #[error("not a PDF, JPEG or PNG file")]
    NotAFile,
    /// A file with more bytes than can go with messages: at most so many megabytes.
    #[error("more than {0} megabytes")]
    FileTooLarge(u32),
    /// A picture that is too large.
    #[error("too large")]
    TooLarge,
    /// No letter or digit.
    #[error("no letter or digit")]
    NoWord,
    /// A cue that cannot be.
    #[error("{0}")]
    Cue(CueRefusal),
    /// Words of a template that cannot be read.
    #[error("{0}")]
    Words(template::Wrong),
    /// Words were changed that belong to another template than the one chosen.
    #[error("words of another template")]
    OtherWords,
    /// So many people have booked already, and nobody said whether they get it too.
    #[error("{0} people have booked already")]
    Already(u32),
    /// An address in none of the domains that are allowed.
    #[error("{0:?} is in another domain")]
    OtherDomain(String),
    /// A line that is no web calendar.
    #[error("{0:?}: {1}")]
    WebCalendar(String, crate::dates::web_calendar::TemplateFault),
    /// An invitation is not handed on.
    #[error(transparent)]
    HandOn(#[from] crate::messages::replies::HandOnRefusal),
    /// Nobody would get it.
    #[error("reaches nobody")]
    Nobody,
}

/// A form as it was sent, and the faults found in it so far.
#[derive(Debug, Clone, Default)]
pub struct Form {
    fields: Vec<(String, String)>,
    /// Faults, in the order in which the fields were read.
    pub wrong: Vec<Wrong>,
}

impl Form {
    /// Takes the fields as they were sent, but for what is unseen in them ([`text::lines`]).
    #[must_use]
    pub fn new(fields: Vec<(String, String)>) -> Self {
        // A password is whatever somebody types.
        let seen = |(name, typed): (String, String)| {
            let typed = if name.contains("password") { typed } else { text::lines(&typed) };
            (name, typed)
        };
        let fields = fields.into_iter().map(seen).collect();
        Self { fields, wrong: Vec::new() }
    }

    /// A field, trimmed; empty when it was not sent.
    #[must_use]
    pub fn get(&self, name: &str) -> &str {
        self.fields.iter().find(|(n, _)| n == name).map_or("", |(_, v)| v.trim())
    }

    /// Puts a value in the place of what was sent.
    pub fn set(&mut self, name: &str, value: &str) {
        self.fields.retain(|(n, _)| n != name);
        self.fields.push((name.to_owned(), value.to_owned()));
    }

    /// Whether a field was sent at all.
    #[must_use]
    pub fn has(&self, name: &str) -> bool {
        self.fields.iter().any(|(n, _)| n == name)
    }

    /// All values of a field that may come several times, trimmed, without empty ones.
    #[must_use]
    pub fn all(&self, name: &str) -> Vec<String> {
        self.fields
            .iter()
            .filter(|(n, v)| n == name && !v.trim().is_empty())
            .map(|(_, v)| v.trim().to_owned())
            .collect()
    }

    /// Whether a box is ticked.
    #[must_use]
    pub fn ticked(&self, name: &str) -> bool {
        !self.get(name).is_empty()
    }

    /// Notes a fault.
    pub fn fault(&mut self, field: impl AsRef<str>, fault: Fault) {
        let field = field.as_ref();
        if !self.wrong.iter().any(|w| w.field == field) {
            self.wrong.push(Wrong { field: field.into(), fault });
        }
    }

    /// Whether a fault was noted at a field.
    #[must_use]
    pub fn is_wrong(&self, field: &str) -> bool {
        self.wrong.iter().any(|w| w.field == field)
    }

    /// Reads one field by its declaration; what cannot be read is a fault.
    pub fn read<K: Kind>(&mut self, field: &Field<K>, locale: &Locale) -> K::Value
    where
        K::Value: Default,
    {
        let mut value = K::Value::default();
        Binding::Read(self, locale).bind(field, &mut value);
        value
    }

    /// Reads one field that is read the same in every house.
    pub fn take<K: Plain>(&mut self, field: &Field<K>) -> K::Value
    where
        K::Value: Default,
    {
        self.read(field, &Locale::default())
    }

    /// Reads a field of a row, from 0, that is read the same in every house.
    pub fn take_at<K: Plain>(&mut self, field: &Field<K>, row: usize) -> K::Value
    where
        K::Value: Default,
    {
        let mut value = K::Value::default();
        Binding::Read(self, &Locale::default()).bind_at(field, row, &mut value);
        value
    }

    /// A colour as it is kept; empty where none was given.
    pub fn accent(&mut self, name: &str) -> String {
        let typed = self.line(name);
        if typed.is_empty() {
            return typed;
        }
        match accent::read(&typed) {
            Ok(accent) => return accent.to_string(),
            Err(AccentRefusal::NotAColour) => self.fault(name, Fault::NotAColour),
            Err(faint) => self.fault(name, Fault::TooFaint(faint)),
        }
        typed
    }

    /// A line of text that may stay empty.
    pub fn line(&mut self, name: &str) -> String {
        let line = text::line(self.get(name));
        self.bounded(name, line, LONGEST)
    }

    /// A line of text that is needed.
    pub fn needed(&mut self, name: &str) -> String {
        let text = self.line(name);
        if text.is_empty() {
            self.fault(name, Fault::Missing);
        }
        text
    }

    /// Text of several lines, of at most so many characters.
    pub fn text(&mut self, name: &str, most: usize) -> String {
        let text = self.get(name).to_owned();
        self.bounded(name, text, most)
    }

    /// What is too long is a fault, and goes no further: nothing is worked out from more than fits.
    fn bounded(&mut self, name: &str, mut text: String, most: usize) -> String {
        if let Some((end, _)) = text.char_indices().nth(most) {
            self.fault(name, Fault::TooLong(most));
            text.truncate(end);
        }
        text
    }

    /// A whole number between two, if one was given.
    pub fn number(&mut self, name: &str, least: u32, most: u32) -> Option<u32> {
        let text = self.get(name);
        if text.is_empty() {
            return None;
        }
        let number = text.parse().ok().filter(|n| (least..=most).contains(n));
        if number.is_none() {
            self.fault(name, Fault::NotANumber(least, most));
        }
        number
    }

    /// Mail addresses, by line breaks, commas, semicolons or blanks, each once; a fault at what is
    /// none, and where there are more than `most`.
    pub fn addresses(&mut self, name: &str, most: usize) -> Vec<String> {
        let mut known = HashSet::new();
        let words = self.get(name).split(|c: char| c.is_whitespace() || matches!(c, ',' | ';'));
        let once = words.filter(|w| !w.is_empty() && known.insert(w.to_ascii_lowercase()));
        let found: Vec<String> = once.map(String::from).collect();
        if found.len() > most {
            self.fault(name, Fault::TooMany(most));
        } else if let Some(bad) = found.iter().find(|a| !is_address(a)) {
            self.fault(name, Fault::LineNotAnAddress(bad.clone()));
        }
        found
    }

    /// Domains, by line breaks, commas, semicolons or blanks, in small letters and without an `@`
    /// before them; a fault at what is none, and where there are more than `most`.
    pub fn domains(&mut self, name: &str, most: usize) -> Vec<String> {
        let words = self.get(name).split(|c: char| c.is_whitespace() || matches!(c, ',' | ';'));
        let domains = words.map(|word| word.trim_start_matches('@').to_lowercase());
        let found: Vec<String> = domains.filter(|domain| !domain.is_empty()).collect();
        if found.len() > most {
            self.fault(name, Fault::TooMany(most));
        } else if let Some(bad) = found.iter().find(|d| !is_address(&format!("a@{d}"))) {
            self.fault(name, Fault::LineNotAnAddress(bad.clone()));
        }
        found
    }

    /// Mail addresses out of a list as it was pasted, with whatever names stand beside them, each
    /// once; a fault at what is none, and where there are more than `most`.
    pub fn pasted(&mut self, name: &str, most: usize) -> Vec<String> {
        let read = pasted(self.get(name));
        self.found(name, &read, most);
        read.addresses
    }

    /// Faults of a list that was read out of a field.
    pub fn found(&mut self, name: &str, read: &Pasted, most: usize) {
        if let Some(word) = read.wrong.first() {
            self.fault(name, Fault::LineNotAnAddress(word.chars().take(80).collect()));
        } else if read.addresses.len() > most {
            self.fault(name, Fault::TooMany(most));
        }
    }

    /// A whole number between two, that is needed; zero stands for a faulty one.
    pub fn count(&mut self, name: &str, least: u32, most: u32) -> u32 {
        if self.get(name).is_empty() {
            self.fault(name, Fault::Missing);
        }
        self.number(name, least, most).unwrap_or(0)
    }

    /// An amount in minor units, if one was given.
    pub fn amount(&mut self, name: &str, currency: Currency) -> Option<i64> {
        let text = self.get(name);
        if text.is_empty() {
            return None;
        }
        let amount = currency.parse(text).map(|m| m.minor);
        if amount.is_none() {
            self.fault(name, Fault::NotAnAmount);
        }
        amount
    }

    /// A day, if one was given.
    pub fn day(&mut self, name: &str) -> Option<Date> {
        let text = self.get(name);
        if text.is_empty() {
            return None;
        }
        let day = text.parse().ok();
        if day.is_none() {
            self.fault(name, Fault::NotADay);
        }
        day
    }

    /// A time of day, if one was given.
    pub fn time(&mut self, name: &str) -> Option<Time> {
        let text = self.get(name);
        if text.is_empty() {
            return None;
        }
        let time = text.parse().ok();
        if time.is_none() {
            self.fault(name, Fault::NotATime);
        }
        time
    }

    /// Notes that something needed is missing; passes on what is there.
    pub fn need<T>(&mut self, name: &str, value: Option<T>) -> Option<T> {
        if value.is_none() {
            self.fault(name, Fault::Missing);
        }
        value
    }

    /// An instant given as local time, `2026-12-12T10:00`, if one was given.
    pub fn instant(&mut self, name: &str, zone: &str) -> Option<Timestamp> {
        let text = self.get(name);
        if text.is_empty() {
            return None;
        }
        let Ok(at) = text.parse::<DateTime>() else {
            self.fault(name, Fault::NotATime);
            return None;
        };
        let zone = TimeZone::get(zone).unwrap_or(TimeZone::UTC);
        match zone.to_ambiguous_zoned_datetime(at).unambiguous() {
            Ok(zoned) => Some(zoned.timestamp()),
            Err(_) => {
                self.fault(name, Fault::ClockChange(at));
                None
            }
        }
    }

    /// Ends the reading.
    ///
    /// # Errors
    /// Every fault that was found.
    pub fn done(self) -> Result<(), Vec<Wrong>> {
        if self.wrong.is_empty() { Ok(()) } else { Err(self.wrong) }
    }
}

/// The word of a title in addresses: folded, joined by hyphens; may be empty.
#[must_use]
pub fn slug(text: &str) -> String {
    crate::words::fold(text).replace([' ', '@', '.'], "-")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_colour_is_kept_as_it_is_written_once_and_one_that_is_none_is_told() {
        let fields = [("a", " #1D4F3F "), ("b", ""), ("c", "green"), ("d", "#fff")];
        let mut form = Form::new(fields.map(|(n, v)| (n.into(), v.into())).to_vec());
        assert_eq!(form.accent("a"), "#1d4f3f");
        assert_eq!(form.accent("b"), "", "the house's, or the program's");
        // What was typed goes back into the field.
        assert_eq!((form.accent("c"), form.accent("d")), ("green".into(), "#fff".into()));
        let told = form.done().unwrap_err();
        assert_eq!(told[0].fault, Fault::NotAColour);
        let Fault::TooFaint(AccentRefusal::TooFaint { tenths, nearest }) = told[1].fault else {
            panic!("{told:?}")
        };
        assert_eq!((tenths, accent::read(&nearest.to_string())), (11, Ok(nearest)));
    }

    #[test]
    fn every_fault_is_told_once_and_what_is_right_is_read() {
        let fields = [
            ("title", " Pollen "),
            ("seats", "4.5"),
            ("price", "12,5x"),
            ("day", "2027-02-30"),
            ("from", "19:30"),
            ("until_day", "2027-03-28T01:30"),
            ("tag", "a"),
            ("tag", ""),
            ("tag", "b"),
        ];
        let mut form = Form::new(fields.map(|(n, v)| (n.into(), v.into())).to_vec());
        assert_eq!(form.needed("title"), "Pollen");
        assert_eq!(form.number("seats", 1, 10), None);
        assert_eq!(form.amount("price", Currency::EUR), None);
        assert_eq!(form.day("day"), None);
        assert_eq!(form.time("from"), Some(jiff::civil::time(19, 30, 0, 0)));
        assert_eq!(form.instant("until_day", "Europe/Dublin"), None);
        assert_eq!(form.all("tag"), ["a", "b"]);
        form.needed("place");
        form.fault("place", Fault::Unknown);
        let told: Vec<String> = form.done().unwrap_err().iter().map(ToString::to_string).collect();
        insta::assert_snapshot!(told.join("\n"), @r"
        seats: not a number from 1 to 10
        price: not an amount
        day: not a day
        until_day: 2027-03-28T01:30:00 is skipped or repeated by a clock change
        place: missing
        ");
    }
}
