//! Web calendars: addresses that take a date in, as open templates (RFC 6570 §1.2, level 1).

use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

use crate::words::links::is_link;
use crate::words::text::percent;

/// A web calendar of the house: a date is put into it at an address.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct WebCalendar {
    /// What bookers know it by.
    pub name: String,
    /// Its address, with fields in braces.
    pub template: String,
}

/// A date, as a web calendar takes it in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CalendarFacts<'a> {
    /// What it is.
    pub title: &'a str,
    /// When it starts.
    pub starts: Timestamp,
    /// When it ends.
    pub ends: Timestamp,
    /// Where.
    pub place: &'a str,
    /// More about it.
    pub about: &'a str,
    /// The page about it.
    pub link: &'a str,
}

/// The fields that a template may have, each with what it says.
pub const FIELDS: [(&str, &str); 8] = [
    ("title", "what it is"),
    ("starts", "its start, as 20261212T090000Z"),
    ("ends", "its end, likewise"),
    ("from", "its start, as 2026-12-12T09:00:00Z"),
    ("until", "its end, likewise"),
    ("place", "where"),
    ("about", "more about it"),
    ("link", "its page"),
];

/// Why a line is no web calendar.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TemplateFault {
    /// It has no name before the address.
    #[error("no name")]
    NoName,
    /// What follows the name is no web address.
    #[error("not a web address")]
    NotALink,
    /// A brace that nothing closes, or that nothing opened.
    #[error("a brace without its other")]
    Brace,
    /// A field that there is not.
    #[error("no field {0:?}")]
    Unknown(String),
    /// It says no start, or nothing of what it is.
    #[error("needs a title and a start")]
    Needs,
}

impl WebCalendar {
    /// Reads a line: a name, then its address.
    ///
    /// # Errors
    /// [`TemplateFault`].
    pub fn read(line: &str) -> Result<Self, TemplateFault> {
        let line = line.trim();
        let at = line.find("https://").or_else(|| line.find("http://"));
        let (name, template) = line.split_at(at.ok_or(TemplateFault::NotALink)?);
        let (name, template) = (name.trim().trim_end_matches(':').trim(), template.trim());
        if name.is_empty() {
            return Err(TemplateFault::NoName);
        }
        // Fields stand after the host: what is filled in never says which server it is.
        let host_ends = template.splitn(4, '/').take(3).map(str::len).sum::<usize>() + 2;
        let host = template.get(..host_ends.min(template.len())).unwrap_or_default();
        if !is_link(template) || host.contains(['{', '}']) {
            return Err(TemplateFault::NotALink);
        }
        let fields = fields_of(template)?;
        let has = |name| fields.contains(&name);
        if !has("title") || !(has("starts") || has("from")) {
            return Err(TemplateFault::Needs);
        }
        Ok(Self { name: name.into(), template: template.into() })
    }

    /// The line that it was read from.
    #[must_use]
    pub fn line(&self) -> String {
        format!("{} {}", self.name, self.template)
    }

    /// The address that puts a date into it.
    #[must_use]
    pub fn address(&self, facts: &CalendarFacts<'_>) -> String {
        let basic = |at: Timestamp| {
            at.to_zoned_datetime(TimeZone::UTC).strftime("%Y%m%dT%H%M%SZ").to_string()
        };
        let iso = |at: Timestamp| {
            at.to_zoned_datetime(TimeZone::UTC).strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
        };
        let mut address = String::new();
        let mut rest = self.template.as_str();
        while let Some((before, after)) = rest.split_once('{') {
            address.push_str(before);
            let (name, after) = after.split_once('}').unwrap_or((after, ""));
            address.push_str(&percent(&match name {
                "title" => facts.title.to_owned(),
                "starts" => basic(facts.starts),
                "ends" => basic(facts.ends),
                "from" => iso(facts.starts),
                "until" => iso(facts.ends),
                "place" => facts.place.to_owned(),
                "about" => facts.about.to_owned(),
                "link" => facts.link.to_owned(),
                _ => String::new(),
            }));
            rest = after;
        }
        address + rest
    }
}

fn fields_of(template: &str) -> Result<Vec<&str>, TemplateFault> {
    let (mut fields, mut rest) = (Vec::new(), template);
    while let Some((before, after)) = rest.split_once('{') {
        let (name, after) = after.split_once('}').ok_or(TemplateFault::Brace)?;
        if before.contains('}') || name.contains('{') {
            return Err(TemplateFault::Brace);
        }
        if !FIELDS.iter().any(|(known, _)| *known == name) {
            return Err(TemplateFault::Unknown(name.into()));
        }
        fields.push(name);
        rest = after;
    }
    if rest.contains('}') { Err(TemplateFault::Brace) } else { Ok(fields) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const LINE: &str =
        "Town calendar: https://calendar.example/new?t={title}&f={starts}&u={ends}&w={place}";

    fn facts(title: &str) -> CalendarFacts<'_> {
        CalendarFacts {
            title,
            starts: "2026-12-12T09:00:00Z".parse().unwrap(),
            ends: "2026-12-12T11:30:00Z".parse().unwrap(),
            place: "Ford Lane 3",
            about: "",
            link: "",
        }
    }

    #[test]
    fn a_line_is_a_name_and_an_address_with_fields() {
        let read = WebCalendar::read(LINE).unwrap();
        assert_eq!(read.name, "Town calendar");
        assert_eq!(WebCalendar::read(&read.line()).unwrap(), read);
        let address = read.address(&facts("Honey & \"wax\""));
        assert_eq!(
            address,
            "https://calendar.example/new?t=Honey%20%26%20%22wax%22&f=20261212T090000Z\
             &u=20261212T113000Z&w=Ford%20Lane%203"
        );
        let wrong = |line: &str| WebCalendar::read(line).unwrap_err();
        assert_eq!(wrong("https://a.example/{title}{from}"), TemplateFault::NoName);
        assert_eq!(wrong("Town a.example/{title}"), TemplateFault::NotALink);
        assert_eq!(wrong("Town https://{title}.example/{from}"), TemplateFault::NotALink);
        assert_eq!(wrong("Town https://a.example/{title"), TemplateFault::Brace);
        assert_eq!(wrong("Town https://a.example/}{title}"), TemplateFault::Brace);
        let unknown = TemplateFault::Unknown("day".into());
        assert_eq!(wrong("Town https://a.example/{title}{day}"), unknown);
        assert_eq!(wrong("Town https://a.example/{title}"), TemplateFault::Needs);
    }

    proptest! {
        /// Whatever a title says, it stays one value of the address, and comes back out of it.
        #[test]
        fn what_is_filled_in_stays_in_its_place(title in any::<String>()) {
            let address = WebCalendar::read(LINE).unwrap().address(&facts(&title));
            prop_assert_eq!(address.matches(['&', '?', '#']).count(), 4);
            prop_assert!(address.starts_with("https://calendar.example/new?t="));
            let value = address.split(['=', '&']).nth(1).unwrap().as_bytes();
            let (mut bytes, mut i) = (Vec::new(), 0);
            while i < value.len() {
                if value[i] == b'%' {
                    let hex = std::str::from_utf8(&value[i + 1..i + 3]).unwrap();
                    bytes.push(u8::from_str_radix(hex, 16).unwrap());
                    i += 3;
                } else {
                    bytes.push(value[i]);
                    i += 1;
                }
            }
            prop_assert_eq!(String::from_utf8(bytes).unwrap(), title);
        }
    }
}
