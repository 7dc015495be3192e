//! Calendar files and feeds (iCalendar, RFC 5545 and RFC 7986).

use std::collections::BTreeSet;

use icalendar::{Calendar, Component, Event, EventLike, Property};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use matricle_core::dates::schedule::Span;
use matricle_core::words::text;

use crate::words;

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
    /// When.
    pub span: Span,
    /// Whether it was cancelled.
    pub cancelled: bool,
    /// Counts the changes (RFC 5545 §3.8.7.4).
    pub sequence: u32,
    /// When it last changed.
    pub changed_at: Option<Timestamp>,
    /// Its tags (RFC 5545 §3.8.1.2).
    pub tags: Vec<String>,
    /// Later dates of the same entry: those of a course.
    pub others: Vec<Other>,
}

/// A later date of an entry that has several (RFC 5545 §3.8.5.2, §3.8.4.4).
#[derive(Debug, Clone)]
pub struct Other {
    /// When.
    pub span: Span,
    /// Where.
    pub location: String,
    /// Whether it was cancelled.
    pub cancelled: bool,
}

matricle_core::worded! {
    /// What a file wants of whoever gets it (RFC 5546 §1.4).
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum Method {
        /// To be taken into a calendar, or not.
        Publish = "PUBLISH",
        /// An invitation, or news of one.
        Request = "REQUEST",
        /// It does not take place any more, or not for them.
        Cancel = "CANCEL",
    }
}

/// Somebody in a file: a name, which may be empty, and an address.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Party {
    /// The name.
    pub name: String,
    /// The address.
    pub address: String,
}

/// Who hands a file to whom, and what for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Handed {
    /// What for.
    pub method: Method,
    /// The house.
    pub from: Party,
    /// Whoever gets it; nobody in particular for a file that is taken from a page.
    pub to: Option<Party>,
}

/// `20261212T090000Z` (RFC 5545 §3.3.5, form 2).
fn utc(at: Timestamp) -> String {
    at.to_zoned_datetime(TimeZone::UTC).strftime("%Y%m%dT%H%M%SZ").to_string()
}

/// Local wall time in its zone (RFC 5545 §3.3.5, form 3); in UTC for a zone that is UTC.
fn wall(name: &str, at: jiff::civil::DateTime, instant: Timestamp, zone: &str) -> Property {
    if matches!(zone, "UTC" | "Etc/UTC") {
        return Property::new(name, utc(instant));
    }
    let mut property = Property::new(name, at.strftime("%Y%m%dT%H%M%S").to_string());
    property.add_parameter("TZID", zone);
    property
}

/// A calendar user (RFC 5545 §3.3.3), with their name.
fn party(property: &str, party: &Party) -> Property {
    let mut written = Property::new(property, format!("mailto:{}", party.address));
    // A parameter's value has no double quotes (RFC 5545 §3.2).
    let name = text::line(&party.name).replace('"', "'");
    if !name.is_empty() {
        written.add_parameter("CN", &name);
    }
    written
}

fn component(entry: &Entry, stamp: Timestamp) -> Event {
    let mut event = part(entry, &entry.span, (&entry.location, entry.cancelled), stamp);
    for other in &entry.others {
        event.append_multi_property(wall(
            "RDATE",
            other.span.starts,
            other.span.starts_at,
            &other.span.zone,
        ));
    }
    event.done()
}

/// One date of an entry that has several, by itself.
fn instance(entry: &Entry, other: &Other, stamp: Timestamp) -> Event {
    let cancelled = entry.cancelled || other.cancelled;
    let mut event = part(entry, &other.span, (&other.location, cancelled), stamp);
    let (at, instant) = (other.span.starts, other.span.starts_at);
    event.append_property(wall("RECURRENCE-ID", at, instant, &other.span.zone));
    event.done()
}

fn part(
    entry: &Entry,
    span: &Span,
    (location, cancelled): (&str, bool),
    stamp: Timestamp,
) -> Event {
    let mut event = Event::with_uid(&entry.uid);
    event
        .add_property("DTSTAMP", utc(stamp))
        .append_property(wall("DTSTART", span.starts, span.starts_at, &span.zone))
        .append_property(wall("DTEND", span.ends, span.ends_at, &span.zone))
        .add_property("STATUS", if cancelled { "CANCELLED" } else { "CONFIRMED" })
        .sequence(entry.sequence)
        .summary(&entry.summary)
        .description(&entry.description)
        .url(&entry.url);
    if !location.is_empty() {
        event.location(location);
    }
    if let Some(at) = entry.changed_at {
        event.add_property("LAST-MODIFIED", utc(at));
    }
    for tag in &entry.tags {
        // The library leaves the text as it is here; RFC 5545 §3.3.11 does not.
        let text = tag.replace('\\', "\\\\").replace(',', "\\,").replace(';', "\\;");
        event.append_multi_property(Property::new("CATEGORIES", text));
    }
    event
}

/// `+0100` (RFC 5545 §3.3.14).
fn offset(seconds: i32) -> String {
    let sign = if seconds < 0 { '-' } else { '+' };
    let all = seconds.unsigned_abs();
    let (h, m, s) = (all / 3600, all / 60 % 60, all % 60);
    if s == 0 { format!("{sign}{h:02}{m:02}") } else { format!("{sign}{h:02}{m:02}{s:02}") }
}

/// The zone's clock changes that matter between two instants (RFC 5545 §3.6.5), written
/// out one by one.
fn timezone(name: &str, from: Timestamp, until: Timestamp) -> Option<String> {
    let zone = TimeZone::get(name).ok()?;
    let year = SignedDuration::from_hours(24 * 366);
    let begin = from.checked_sub(year).unwrap_or(from);
    let first = zone.preceding(begin).next();
    let changes = zone.following(begin).take_while(|t| t.timestamp() <= until);
    let mut text = format!("BEGIN:VTIMEZONE\r\nTZID:{name}\r\n");
    let mut before = match &first {
        Some(t) => t.offset().seconds(),
        None => zone.to_offset(begin).seconds(),
    };
    let mut observance = |at: Timestamp, dst: bool, from: i32, to: i32, short: &str| {
        let kind = if dst { "DAYLIGHT" } else { "STANDARD" };
        // The start is told on the clock that was valid before it.
        let clock = jiff::tz::Offset::from_seconds(from)
            .map_or_else(|_| utc(at), |o| o.to_datetime(at).strftime("%Y%m%dT%H%M%S").to_string());
        text.push_str(&format!(
            "BEGIN:{kind}\r\nDTSTART:{clock}\r\nTZOFFSETFROM:{}\r\nTZOFFSETTO:{}\r\nTZNAME:{short}\r\nEND:{kind}\r\n",
            offset(from), offset(to)
        ));
    };
    let start = first.as_ref().map_or(begin, jiff::tz::TimeZoneTransition::timestamp);
    let info = zone.to_offset_info(begin);
    observance(start, info.dst().is_dst(), before, before, info.abbreviation());
    for change in changes {
        let to = change.offset().seconds();
        observance(change.timestamp(), change.dst().is_dst(), before, to, change.abbreviation());
        before = to;
    }
    text.push_str("END:VTIMEZONE\r\n");
    Some(text)
}

/// Writes a calendar out, its zones in front of its dates. The library that writes the
/// rest gives every component a stamp and a random name, which zones must not have.
fn written(calendar: &Calendar, entries: &[Entry], stamp: Timestamp) -> String {
    let spans = || {
        entries
            .iter()
            .flat_map(|e| std::iter::once(&e.span).chain(e.others.iter().map(|o| &o.span)))
    };
    let zones: BTreeSet<&str> = spans().map(|s| s.zone.as_str()).collect();
    let from = spans().map(|s| s.starts_at).min().unwrap_or(stamp);
    let until = spans().map(|s| s.ends_at).max().unwrap_or(stamp);
    let zones: String = zones
        .into_iter()
        .filter(|zone| !matches!(*zone, "UTC" | "Etc/UTC"))
        .filter_map(|zone| timezone(zone, from, until))
        .collect();
    let text = calendar.to_string();
    match text.find("BEGIN:VEVENT") {
        Some(at) => format!("{}{zones}{}", &text[..at], &text[at..]),
        None => text,
    }
}

fn calendar(entries: &[Entry], stamp_of: impl Fn(&Entry) -> Timestamp) -> Calendar {
    let mut calendar = Calendar::empty();
    calendar
        .append_property(Property::new("VERSION", "2.0"))
        .append_property(Property::new("PRODID", "-//Matricle//Matricle//EN"))
        .append_property(Property::new("CALSCALE", "GREGORIAN"));
    for entry in entries {
        calendar.push(component(entry, stamp_of(entry)));
    }
    calendar.done()
}

/// How long before its start an entry reminds whoever has it (RFC 5545 §3.6.6).
const REMINDER: &str = "BEGIN:VALARM\r\nACTION:DISPLAY\r\nDESCRIPTION:It starts in two hours.\r\nTRIGGER:-PT2H\r\nEND:VALARM\r\n";

/// The file of an entry, handed to somebody (RFC 5546 §3.2); `stamp` is when it was written. All
/// of it has one UID, so that it is one invitation, however many dates it has.
#[must_use]
pub fn file(entry: &Entry, handed: &Handed, stamp: Timestamp) -> String {
    let mut parts = vec![component(entry, stamp)];
    parts.extend(entry.others.iter().map(|other| instance(entry, other, stamp)));
    let mut calendar = calendar(&[], |_| stamp);
    calendar.append_property(Property::new("METHOD", handed.method.word()));
    for mut event in parts {
        event.append_property(party("ORGANIZER", &handed.from));
        if let Some(to) = &handed.to {
            let mut attendee = party("ATTENDEE", to);
            if handed.method == Method::Request {
                attendee
                    .add_parameter("ROLE", "REQ-PARTICIPANT")
                    .add_parameter("PARTSTAT", "NEEDS-ACTION")
                    .add_parameter("RSVP", "TRUE");
            }
            event.append_property(attendee);
        }
        calendar.push(event.done());
    }
    let text = written(&calendar.done(), std::slice::from_ref(entry), stamp);
    match handed.method {
        Method::Cancel => text,
        Method::Publish | Method::Request => {
            text.replace("END:VEVENT", &format!("{REMINDER}END:VEVENT"))
        }
    }
}

/// A feed that calendars come back to (RFC 7986): its name, its colour, its own address, and that it
/// is worth asking again every hour. It is no message (RFC 5546), so that it has no METHOD,
/// and DTSTAMP is when the date last changed (RFC 5545 §3.8.7.2): what did not change stays as
/// it was, byte by byte. One without dates has a zone at least, for §3.6 wants a component.
#[must_use]
pub fn feed(name: &str, url: &str, zone: &str, colour: &str, entries: &[Entry]) -> String {
    let stamp = Timestamp::UNIX_EPOCH;
    let mut calendar = calendar(entries, |e| e.changed_at.unwrap_or(stamp));
    let mut refresh = Property::new("REFRESH-INTERVAL", "PT1H");
    refresh.add_parameter("VALUE", "DURATION");
    let mut source = Property::new("SOURCE", url);
    source.add_parameter("VALUE", "URI");
    calendar
        .append_property(Property::new("NAME", text(name)))
        .append_property(Property::new("X-WR-CALNAME", text(name)))
        .append_property(Property::new("TIMEZONE-ID", zone))
        .append_property(Property::new("COLOR", colour))
        .append_property(refresh.done())
        .append_property(source.done());
    let calendar = calendar.done();
    if !entries.is_empty() {
        return written(&calendar, entries, stamp);
    }
    let text = calendar.to_string();
    let bare = timezone(zone, stamp, stamp).unwrap_or_default();
    text.replace("END:VCALENDAR", &format!("{bare}END:VCALENDAR"))
}

/// A value of the type TEXT (RFC 5545 §3.3.11), for properties that the library does not know:
/// NAME is one (RFC 7986 §5.1).
fn text(value: &str) -> String {
    let mut escaped = String::with_capacity(value.len());
    for c in value.chars() {
        match c {
            '\\' | ';' | ',' => escaped.extend(['\\', c]),
            '\n' => escaped.push_str("\\n"),
            c if c.is_control() => {}
            c => escaped.push(c),
        }
    }
    escaped
}

/// Where a date is, on one line.
#[must_use]
pub fn location(place: &str, address: &str) -> String {
    if address.is_empty() { place.into() } else { format!("{place}, {address}") }
}

/// A date's time in words, for descriptions.
#[must_use]
pub fn when(span: &Span) -> String {
    words::long_span(span.starts, span.ends)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::datetime;

    fn entry(month: i8, zone: &str) -> Entry {
        let at = |hour, minute| datetime(2026, month, 12, hour, minute, 0, 0);
        Entry {
            uid: "date-7@club.example".into(),
            summary: "Pollen under the lens; soup, bread".into(),
            description: "First line\nsecond line, which is long enough that it has to be folded — over to the next".into(),
            location: "Millrace Barn, long room".into(),
            url: "http://club.example/events/pollen".into(),
            span: Span::new(at(10, 0), at(15, 30), zone).unwrap(),
            cancelled: month == 7,
            sequence: 3,
            changed_at: Some("2026-11-20T08:00:00Z".parse().unwrap()),
            tags: vec!["Talks".into(), "wax, wicks".into()],
            others: Vec::new(),
        }
    }

    #[test]
    fn a_feed_is_read_back_by_the_rules() {
        let url = "http://club.example/all.ics";
        let entries = [entry(7, "Europe/Dublin"), entry(12, "Europe/Dublin")];
        let text = feed("Club", url, "Europe/Dublin", "darkgreen", &entries);
        let none = feed("Club", url, "Europe/Dublin", "darkgreen", &[]);
        assert!(none.contains("BEGIN:VTIMEZONE") && none.parse::<Calendar>().is_ok(), "{none}");
        for line in text.split_inclusive("\r\n") {
            assert!(line.ends_with("\r\n") && line.trim_end().len() <= 75, "{line:?}");
        }
        insta::assert_snapshot!(text.replace("\r\n ", "").replace("\r\n", "\n"));
        let read: Calendar = text.parse().unwrap();
        assert_eq!(read.events().count(), 2);
        let first = read.events().next().unwrap();
        assert_eq!(first.get_uid(), Some("date-7@club.example"));
        assert_eq!(first.get_summary(), Some("Pollen under the lens; soup, bread"));
    }

    /// An invitation to a course: one UID, a date each, whom it is from and to (RFC 5546 §3.2.2);
    /// read back by a library, and word for word.
    #[test]
    fn an_invitation_is_one_entry_with_all_its_dates() {
        let mut course = entry(12, "Europe/Dublin");
        let at = |day, hour| datetime(2027, 1, day, hour, 0, 0, 0);
        course.others = [(9, 10), (16, 14)]
            .map(|(day, hour)| Other {
                span: Span::new(at(day, hour), at(day, hour + 2), "Europe/Dublin").unwrap(),
                location: "Orchard".into(),
                cancelled: day == 16,
            })
            .to_vec();
        let club = Party { name: "Club; \"the\" bees".into(), address: "club@club.example".into() };
        let to = Party { name: "Siân, O'Hara".into(), address: "sian@post.example".into() };
        let handed = Handed { method: Method::Request, from: club, to: Some(to) };
        let text = file(&course, &handed, "2026-11-27T05:00:00Z".parse().unwrap());
        for line in text.split_inclusive("\r\n") {
            assert!(line.ends_with("\r\n") && line.trim_end().len() <= 75, "{line:?}");
        }
        let read: Calendar = text.parse().unwrap();
        let uids: BTreeSet<&str> = read.events().filter_map(|e| e.get_uid()).collect();
        assert_eq!((read.events().count(), uids.len()), (3, 1));
        let unfolded = text.replace("\r\n ", "").replace("\r\n", "\n");
        insta::assert_snapshot!(unfolded.split("BEGIN:VEVENT").skip(1).collect::<String>());
        let gone = Handed { method: Method::Cancel, ..handed };
        let gone = file(&Entry { cancelled: true, ..course }, &gone, Timestamp::UNIX_EPOCH);
        assert_eq!(gone.matches("STATUS:CANCELLED").count(), 3);
        assert!(gone.contains("METHOD:CANCEL") && !gone.contains("VALARM"), "{gone}");
    }

    /// The zone's own offsets at each start are those that its component gives.
    #[test]
    fn the_zone_component_tells_the_right_offset() {
        for (zone, month, want) in [
            ("Europe/Dublin", 7, "+0100"),
            ("America/St_Johns", 12, "-0330"),
            ("Asia/Kolkata", 12, "+0530"),
        ] {
            let e = entry(month, zone);
            let text = timezone(zone, e.span.starts_at, e.span.ends_at).unwrap();
            let last = text.rsplit("TZOFFSETTO:").next().unwrap();
            assert!(last.starts_with(want), "{zone}: {text}");
        }
        let house = Party { name: "Club".into(), address: "club@club.example".into() };
        let handed = Handed { method: Method::Publish, from: house, to: None };
        assert!(!file(&entry(12, "UTC"), &handed, Timestamp::UNIX_EPOCH).contains("VTIMEZONE"));
    }
}
