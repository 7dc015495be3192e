//! Calendar files (iCalendar, RFC 5545).

use icalendar::{Calendar, Component, Event, EventLike, Property};
use jiff::Timestamp;
use jiff::tz::TimeZone;

/// A date for somebody's calendar.
#[derive(Debug, Clone)]
pub struct Entry {
    /// Unique for ever, the same in every file about this date (RFC 5545 §3.8.4.7).
    pub uid: String,
    /// What.
    pub summary: String,
    /// More about it.
    pub description: String,
    /// Where.
    pub location: String,
    /// The page about it.
    pub url: String,
    /// When it starts.
    pub starts_at: Timestamp,
    /// When it ends.
    pub ends_at: Timestamp,
    /// Whether it was cancelled.
    pub cancelled: bool,
    /// Counts the changes (RFC 5545 §3.8.7.4).
    pub sequence: u32,
}

/// `20261212T090000Z` (RFC 5545 §3.3.5, form 2): every calendar knows UTC, whatever zones it knows.
fn utc(at: Timestamp) -> String {
    at.to_zoned_datetime(TimeZone::UTC).strftime("%Y%m%dT%H%M%SZ").to_string()
}

/// A calendar file with one entry; `stamp` is when it was written.
#[must_use]
pub fn file(entry: &Entry, stamp: Timestamp) -> String {
    let mut event = Event::with_uid(&entry.uid);
    event
        .add_property("DTSTAMP", utc(stamp))
        .add_property("DTSTART", utc(entry.starts_at))
        .add_property("DTEND", utc(entry.ends_at))
        .add_property("STATUS", if entry.cancelled { "CANCELLED" } else { "CONFIRMED" })
        .sequence(entry.sequence)
        .summary(&entry.summary)
        .description(&entry.description)
        .location(&entry.location)
        .url(&entry.url);
    Calendar::empty()
        .append_property(Property::new("VERSION", "2.0"))
        .append_property(Property::new("PRODID", "-//Matricle//Matricle//EN"))
        .append_property(Property::new("CALSCALE", "GREGORIAN"))
        .append_property(Property::new("METHOD", "PUBLISH"))
        .push(event.done())
        .to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_read_back_by_the_rules() {
        let at = |s: &str| s.parse::<Timestamp>().unwrap();
        let entry = Entry {
            uid: "krtbxnld@club.example".into(),
            summary: "Pollen under the lens; soup, bread".into(),
            description: "First line\nsecond line, which is long enough that it has to be folded over to the next".into(),
            location: "Millrace Barn, long room".into(),
            url: "http://club.example/events/pollen".into(),
            starts_at: at("2026-12-12T09:00:00Z"),
            ends_at: at("2026-12-12T14:30:00Z"),
            cancelled: false,
            sequence: 0,
        };
        let text = file(&entry, at("2026-11-25T08:00:00Z"));
        for line in text.split_inclusive("\r\n") {
            assert!(line.ends_with("\r\n") && line.trim_end().len() <= 75, "{line:?}");
        }
        let unfolded = text.replace("\r\n ", "");
        for part in [
            "BEGIN:VCALENDAR",
            "VERSION:2.0",
            "UID:krtbxnld@club.example",
            "DTSTART:20261212T090000Z",
            "DTEND:20261212T143000Z",
            "DTSTAMP:20261125T080000Z",
            "SEQUENCE:0",
            "STATUS:CONFIRMED",
            r"SUMMARY:Pollen under the lens\; soup\, bread",
            r"DESCRIPTION:First line\nsecond line\,",
        ] {
            assert!(unfolded.contains(part), "{part} in\n{unfolded}");
        }
        let read: Calendar = text.parse().unwrap();
        let events: Vec<_> = read.events().collect();
        assert_eq!(events.len(), 1);
        assert_eq!(events[0].get_uid(), Some("krtbxnld@club.example"));
    }
}
