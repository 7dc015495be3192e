//! What calendars answer to an invitation (RFC 5546).

use icalendar::parser::{Component, Property, read_calendar, unfold};
use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use mail_parser::{Message, MimeHeaders};
use matricle_core::messages::letters::Said;
use matricle_core::words::text;

use super::{bounds, media_type};
use crate::calendar::Party;

/// What a calendar answers to an invitation (RFC 5546 §3.2).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CalendarReply {
    /// Of which entry.
    pub uid: String,
    /// Who.
    pub who: Party,
    /// What they do or want.
    pub asks: Asks,
    /// Of one date of the entry, and not of all of it: when that begins (RFC 5545 §3.8.4.4).
    pub one: Option<When>,
    /// Of which version of it (RFC 5545 §3.8.7.4).
    pub sequence: u32,
    /// When they said so, as their calendar says.
    pub at: Option<Timestamp>,
    /// A word with it.
    pub comment: String,
}

/// What the owner of a calendar does with an invitation, or wants.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Asks {
    /// Whether they come (`REPLY`).
    Says(Said),
    /// Another time is proposed (`COUNTER`): from and until, where it tells.
    Counter(Option<When>, Option<When>),
    /// The entry is asked for once more (`REFRESH`).
    Refresh,
}

/// A time as a calendar writes it (RFC 5545 §3.3.5).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum When {
    /// An instant.
    At(Timestamp),
    /// By the clock on the wall there.
    Local(DateTime),
}

impl When {
    /// As the clock on the wall shows it in a zone.
    #[must_use]
    pub fn local(self, zone: &TimeZone) -> DateTime {
        match self {
            Self::At(at) => zone.to_datetime(at),
            Self::Local(at) => at,
        }
    }
}

/// Most parts of a mail that are looked into.
const MOST_PARTS: usize = 10;

/// The first thing that a calendar answers in a mail, by whatever type its part is sent.
pub(super) fn of_mail(mail: &Message<'_>) -> Option<CalendarReply> {
    mail.parts
        .iter()
        .filter(|part| bounds::calendar_size(part.contents().len()))
        .filter(|part| {
            matches!(media_type(part).as_str(), "text/calendar" | "application/ics")
                || part.attachment_name().is_some_and(|n| n.to_lowercase().ends_with(".ics"))
                || part.contents().trim_ascii_start().starts_with(b"BEGIN:VCALENDAR")
        })
        .take(MOST_PARTS)
        .find_map(|part| calendar_reply(&String::from_utf8_lossy(part.contents())))
}

fn found<'a>(event: &'a Component<'a>, name: &str) -> Option<&'a Property<'a>> {
    event.properties.iter().find(|p| p.name.as_str().eq_ignore_ascii_case(name))
}

fn value(event: &Component<'_>, name: &str) -> String {
    found(event, name).map(|p| text::line(p.val.as_str())).unwrap_or_default()
}

fn parameter(of: &Property<'_>, name: &str) -> String {
    let found = of.params.iter().find(|p| p.key.as_str().eq_ignore_ascii_case(name));
    let value = found.and_then(|p| p.val.as_ref()).map(|v| text::line(v.as_str()));
    value.unwrap_or_default().trim_matches('"').to_owned()
}

/// A time, in the zone that it names where that is known.
fn when(event: &Component<'_>, name: &str) -> Option<When> {
    let of = found(event, name)?;
    let written = text::line(of.val.as_str());
    if let Ok(at) = DateTime::strptime("%Y%m%dT%H%M%SZ", &written) {
        return TimeZone::UTC.to_timestamp(at).ok().map(When::At);
    }
    let at = DateTime::strptime("%Y%m%dT%H%M%S", &written).ok().or_else(|| {
        Some(
            jiff::civil::Date::strptime("%Y%m%d", &written)
                .ok()?
                .to_datetime(jiff::civil::Time::midnight()),
        )
    })?;
    let zone = parameter(of, "TZID");
    match TimeZone::get(zone.trim_start_matches('/')) {
        Ok(zone) if !written.contains('Z') && written.len() > 8 => {
            zone.to_timestamp(at).ok().map(When::At)
        }
        _ => Some(When::Local(at)),
    }
}

fn mailbox(value: &str) -> Option<String> {
    let value = value.trim_matches('"');
    let address = value.split_once(':').filter(|(s, _)| s.eq_ignore_ascii_case("mailto"))?.1;
    Some(text::line(address))
}

fn unescaped(word: &str) -> String {
    word.replace("\\n", " ").replace("\\N", " ").replace("\\,", ",").replace("\\;", ";")
}

/// Reads what a calendar answers: one entry, one attendee (RFC 5546 §3.2.3, §3.2.6, §3.2.7).
/// `None` for every other file, also for one that is larger or deeper than any reply. Of an
/// attendee who sends another, the one who was invited is read, and the other's name.
#[must_use]
pub fn calendar_reply(file: &str) -> Option<CalendarReply> {
    let file = bounds::calendar_size(file.len()).then(|| unfold(file))?;
    if !bounds::calendar(&file) {
        return None;
    }
    let read = read_calendar(&file).ok()?;
    let method = read.properties.iter().find(|p| p.name.as_str().eq_ignore_ascii_case("METHOD"))?;
    let method = method.val.as_str().trim().to_ascii_uppercase();
    let event = read.components.iter().find(|c| c.name.as_str().eq_ignore_ascii_case("VEVENT"))?;
    let mut attendees =
        event.properties.iter().filter(|p| p.name.as_str().eq_ignore_ascii_case("ATTENDEE"));
    // The one who delegates, or the first.
    let first = attendees.clone().find(|a| !parameter(a, "DELEGATED-TO").is_empty());
    let attendee = first.or_else(|| attendees.next())?;
    let mut comment = unescaped(&value(event, "COMMENT"));
    let asks = match method.as_str() {
        "REPLY" => {
            let said = Said::from_partstat(&parameter(attendee, "PARTSTAT"))?;
            if said == Said::Delegated {
                let to = mailbox(&parameter(attendee, "DELEGATED-TO")).unwrap_or_default();
                comment = if comment.is_empty() { to } else { format!("{to}: {comment}") };
            }
            Asks::Says(said)
        }
        "COUNTER" => Asks::Counter(when(event, "DTSTART"), when(event, "DTEND")),
        "REFRESH" => Asks::Refresh,
        _ => return None,
    };
    let uid = value(event, "UID");
    Some(CalendarReply {
        who: Party { name: parameter(attendee, "CN"), address: mailbox(attendee.val.as_str())? },
        asks,
        one: when(event, "RECURRENCE-ID"),
        sequence: value(event, "SEQUENCE").parse().unwrap_or(0),
        at: match when(event, "DTSTAMP") {
            Some(When::At(at)) => Some(at),
            _ => None,
        },
        comment,
        uid: (!uid.is_empty()).then_some(uid)?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(method: &str, lines: &str) -> Option<CalendarReply> {
        let file = format!(
            "BEGIN:VCALENDAR\nVERSION:2.0\nMETHOD:{method}\nBEGIN:VEVENT\nUID:krtbxnld@ostrel.example\n\
             DTSTAMP:20261125T091500Z\nSEQUENCE:3\n{lines}\nEND:VEVENT\nEND:VCALENDAR\n"
        );
        calendar_reply(&file.replace('\n', "\r\n"))
    }

    #[test]
    fn what_calendars_answer_is_read_by_its_method() {
        let at = |text: &str| Some(When::At(text.parse().unwrap()));
        let plain = "ATTENDEE;PARTSTAT=DECLINED:mailto:sian@post.example";
        let all = read("REPLY", plain).unwrap();
        assert_eq!((all.asks, all.one), (Asks::Says(Said::Declined), None));
        let one =
            read("REPLY", &format!("{plain}\nRECURRENCE-ID;TZID=Europe/Berlin:20261222T180000"));
        assert_eq!(one.unwrap().one, at("2026-12-22T17:00:00Z"), "one evening of a course");
        let counter = read(
            "counter",
            "ATTENDEE;PARTSTAT=TENTATIVE:mailto:sian@post.example\nDTSTART:20261212T100000Z\n\
             DTEND;TZID=Nowhere/Known:20261212T140000\nCOMMENT:Later\\, please",
        )
        .unwrap();
        let local = DateTime::constant(2026, 12, 12, 14, 0, 0, 0);
        assert_eq!(
            counter.asks,
            Asks::Counter(at("2026-12-12T10:00:00Z"), Some(When::Local(local)))
        );
        assert_eq!(counter.comment, "Later, please");
        let sent = read(
            "REPLY",
            "ATTENDEE;PARTSTAT=ACCEPTED;DELEGATED-FROM=\"mailto:sian@post.example\":mailto:kit@post.example\n\
             ATTENDEE;PARTSTAT=DELEGATED;DELEGATED-TO=\"mailto:kit@post.example\":MAILTO:sian@post.example",
        )
        .unwrap();
        assert_eq!(sent.who.address, "sian@post.example");
        assert_eq!(
            (sent.asks, sent.comment.as_str()),
            (Asks::Says(Said::Delegated), "kit@post.example")
        );
        let again = read("REFRESH", "ATTENDEE:mailto:sian@post.example").unwrap();
        assert_eq!(again.asks, Asks::Refresh);
        for (method, lines) in [
            ("REQUEST", plain),
            ("PUBLISH", plain),
            ("REPLY", "ATTENDEE;PARTSTAT=NEEDS-ACTION:mailto:a@b.example"),
            ("REPLY", "COMMENT:nobody"),
            ("REPLY", "ATTENDEE;PARTSTAT=DECLINED:tel:+44"),
        ] {
            assert_eq!(read(method, lines), None, "{method} {lines}");
        }
    }
}
