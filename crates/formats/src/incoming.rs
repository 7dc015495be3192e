//! Mails that come in (RFC 5322, MIME), read from bytes, whatever these are.

mod bounds;

pub use bounds::LARGEST;

use icalendar::parser::{Component, read_calendar, unfold};
use jiff::Timestamp;
use mail_parser::{Address, HeaderValue, Message, MessageParser, MimeHeaders, PartType};
use matricle_core::details::is_address;
use matricle_core::letters::Said;
use matricle_core::text;

use crate::calendar::Party;
use crate::mail::File;

/// A mail that came in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Incoming {
    /// Without angle brackets; empty where there is none.
    pub message_id: String,
    /// The messages that it answers, the nearest first, without angle brackets.
    pub answers: Vec<String>,
    /// Who wrote it.
    pub from: Party,
    /// Where it asks for answers (RFC 5322 §3.6.2); empty where it does not.
    pub answer_to: String,
    /// The addresses that it was written or delivered to.
    pub to: Vec<String>,
    /// Its subject, of one line.
    pub subject: String,
    /// When it was written, as it says itself.
    pub sent_at: Option<Timestamp>,
    /// Its words, as plain text.
    pub words: String,
    /// What it brings.
    pub files: Vec<File>,
    /// How it shows that a machine wrote it by itself (RFC 3834 §5).
    pub automatic: Option<&'static str>,
    /// What it says of a mail that did not arrive.
    pub bounce: Option<Bounce>,
    /// What a calendar answers.
    pub calendar: Option<CalendarReply>,
}

/// A mail that did not arrive.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Bounce {
    /// The `Message-ID` of the mail; empty where it is not told.
    pub message_id: String,
    /// The addresses that it did not arrive at.
    pub addresses: Vec<String>,
    /// It will not arrive; otherwise it is tried again.
    pub for_good: bool,
    /// What the other side said, in one line.
    pub said: String,
}

/// What a calendar answers to an invitation (RFC 5546 §3.2.3).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CalendarReply {
    /// Of which entry.
    pub uid: String,
    /// Who.
    pub who: Party,
    /// What they do.
    pub said: Said,
    /// Of which version of it (RFC 5545 §3.8.7.4).
    pub sequence: u32,
    /// When they said so, as their calendar says.
    pub at: Option<Timestamp>,
    /// A word with it.
    pub comment: String,
}

/// Most characters of words that are read.
const MOST_WORDS: usize = 200_000;
/// Most characters of a subject, and of an identifier.
const MOST_SUBJECT: usize = 500;
/// Most characters of a name, or of an address (RFC 5321 §4.5.3.1 allows 320).
const MOST_NAME: usize = 320;

/// A text as one line, and no longer than that: a header may be as long as the mail.
fn line(words: &str, most: usize) -> String {
    let cut: String = words.chars().take(most * 4).collect();
    text::line(&cut).chars().take(most).collect()
}

/// Why a mail is not read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Unread {
    /// No headers, or nobody who wrote it.
    #[error("it is no mail that can be read; what came is kept as it came")]
    NotAMail,
    /// More bytes than [`LARGEST`].
    #[error("it is too large to be read here; what came is kept as it came")]
    TooLarge,
    /// So many parts, headers or mails inside each other that reading it could do harm.
    #[error(
        "it has more parts inside each other than any mail program makes: it was not read, and is kept as it came"
    )]
    TooIntricate,
}

/// Reads a mail. Bounds are asked before anything is parsed: whatever comes, reading takes no
/// more stack than a few calls, memory by its size, and time by its size.
///
/// # Errors
/// [`Unread`].
pub fn read(raw: &[u8]) -> Result<Incoming, Unread> {
    bounds::mail(raw)?;
    let mail = MessageParser::default().parse(raw).ok_or(Unread::NotAMail)?;
    let sender = mail.from().and_then(Address::first);
    let from = Party {
        name: sender.and_then(|a| a.name()).map(|n| line(n, MOST_NAME)).unwrap_or_default(),
        address: sender.and_then(|a| a.address()).map(|a| line(a, MOST_NAME)).unwrap_or_default(),
    };
    let subject = line(mail.subject().unwrap_or_default(), MOST_SUBJECT);
    let words = words(&mail);
    if from.address.is_empty() && subject.is_empty() && mail.message_id().is_none() {
        return Err(Unread::NotAMail);
    }
    let bounce = bounce(&mail, &from.address, &words);
    let answer_to = mail.reply_to().and_then(Address::first).and_then(|a| a.address());
    Ok(Incoming {
        answer_to: answer_to.map(|a| line(a, MOST_NAME)).unwrap_or_default(),
        message_id: id(mail.message_id().unwrap_or_default()),
        answers: answers(&mail),
        to: to(&mail),
        subject,
        sent_at: mail.date().and_then(|d| Timestamp::from_second(d.to_timestamp()).ok()),
        files: files(&mail),
        automatic: if bounce.is_some() { None } else { automatic(&mail, &from.address) },
        bounce,
        calendar: calendar(&mail),
        words,
        from,
    })
}

/// An identifier as one line without what surrounds it.
fn id(text: &str) -> String {
    line(text, MOST_SUBJECT).replace(['<', '>'], "").trim().to_owned()
}

fn ids(value: &HeaderValue<'_>) -> Vec<String> {
    match value {
        HeaderValue::Text(one) => vec![id(one)],
        HeaderValue::TextList(many) => many.iter().map(|one| id(one)).collect(),
        _ => Vec::new(),
    }
}

/// In-Reply-To, then References from its end (RFC 5322 §3.6.4).
fn answers(mail: &Message<'_>) -> Vec<String> {
    let mut found = ids(mail.in_reply_to());
    found.extend(ids(mail.references()).into_iter().rev());
    let mut seen = std::collections::HashSet::new();
    found.retain(|id| !id.is_empty() && seen.insert(id.clone()));
    found.truncate(100);
    found
}

fn to(mail: &Message<'_>) -> Vec<String> {
    let mut found: Vec<String> = [mail.to(), mail.cc()]
        .into_iter()
        .flatten()
        .flat_map(|list| list.iter().take(200).filter_map(|a| a.address()))
        .map(|a| line(a, MOST_NAME))
        .collect();
    for name in ["Delivered-To", "X-Original-To", "Envelope-To"] {
        found.extend(mail.header_raw(name).map(id));
    }
    found.retain(|a| is_address(a));
    found.dedup();
    found
}

/// The words: each part that is to be read as text, or what is left of one in HTML.
fn words(mail: &Message<'_>) -> String {
    let mut words = String::new();
    for n in 0..mail.text_body_count() {
        if let Some(part) = mail.body_text(n) {
            if !words.is_empty() {
                words.push_str("\n\n");
            }
            words.push_str(&part);
        }
    }
    let words = words.replace("\r\n", "\n");
    let words: String = words
        .chars()
        .filter(|c| matches!(c, '\n' | '\t') || !c.is_control())
        .take(MOST_WORDS)
        .collect();
    words.trim_end().to_owned()
}

fn media_type(part: &mail_parser::MessagePart<'_>) -> String {
    part.content_type().map_or_else(
        || "application/octet-stream".to_owned(),
        |t| format!("{}/{}", t.ctype(), t.subtype().unwrap_or("octet-stream")).to_lowercase(),
    )
}

fn files(mail: &Message<'_>) -> Vec<File> {
    mail.attachments()
        .map(|part| File {
            name: line(part.attachment_name().unwrap_or_default(), MOST_NAME),
            media_type: match &part.body {
                PartType::Message(_) => "message/rfc822".into(),
                _ => media_type(part),
            },
            bytes: match &part.body {
                PartType::Message(inner) => inner.raw_message().to_vec(),
                _ => part.contents().to_vec(),
            },
        })
        .collect()
}

fn header<'a>(mail: &'a Message<'_>, name: &'static str) -> Option<&'a str> {
    mail.header_raw(name).map(str::trim)
}

/// How a mail shows that a machine wrote it by itself: RFC 3834 §5, RFC 2919, RFC 5321 §4.5.5,
/// and what was usual before.
fn automatic(mail: &Message<'_>, from: &str) -> Option<&'static str> {
    if header(mail, "Auto-Submitted")
        .is_some_and(|v| !v.split([';', ' ']).next().unwrap_or(v).eq_ignore_ascii_case("no"))
    {
        return Some("it says that a machine sent it");
    }
    if header(mail, "Precedence").is_some_and(|v| {
        ["bulk", "junk", "list", "auto_reply"].iter().any(|w| v.eq_ignore_ascii_case(w))
    }) || header(mail, "List-Id").is_some()
    {
        return Some("it went to many");
    }
    if ["X-Autoreply", "X-Autorespond", "X-Autoresponder", "X-Auto-Response-Suppress"]
        .into_iter()
        .any(|name| header(mail, name).is_some())
    {
        return Some("it says that a machine sent it");
    }
    if header(mail, "Return-Path").is_some_and(|v| v == "<>") {
        return Some("nobody is to answer it");
    }
    let local = from.split('@').next().unwrap_or_default().to_lowercase();
    let machine =
        ["mailer-daemon", "postmaster", "noreply", "no-reply", "donotreply", "do-not-reply"];
    machine.contains(&local.as_str()).then_some("its address reads no answers")
}

/// The lines of a report's fields (RFC 3464 §2.1): names in small letters, values unfolded.
fn fields(report: &str) -> Vec<(String, String)> {
    let mut fields: Vec<(String, String)> = Vec::new();
    for line in report.lines() {
        if line.starts_with([' ', '\t']) {
            if let Some((_, value)) = fields.last_mut() {
                value.push(' ');
                value.push_str(line.trim());
            }
        } else if let Some((name, value)) = line.split_once(':') {
            fields.push((name.trim().to_lowercase(), value.trim().to_owned()));
        }
    }
    fields
}

/// The `Message-ID` in the headers of a mail that is quoted.
fn quoted_id(quoted: &str) -> String {
    fields(quoted)
        .into_iter()
        .find(|(name, value)| {
            name.trim_start_matches(['>', ' ']) == "message-id" && value.contains('@')
        })
        .map(|(_, value)| id(&value))
        .unwrap_or_default()
}

/// An address in a field such as `rfc822; who@club.example` (RFC 3464 §2.3.2).
fn typed(value: &str) -> Option<String> {
    let address = value.rsplit(';').next().unwrap_or(value);
    let address = id(address.trim());
    is_address(&address).then_some(address)
}

/// What a mail says of one that did not arrive: a report (RFC 3464), a header that names who it
/// did not reach, or words of a mail server with the mail's own headers below.
fn bounce(mail: &Message<'_>, from: &str, words: &str) -> Option<Bounce> {
    let mut found = Bounce::default();
    let mut quoted = String::new();
    let mut reported = false;
    let mut delayed = false;
    for part in &mail.parts {
        let kind = media_type(part);
        match (&part.body, kind.as_str()) {
            (PartType::Message(inner), _) => {
                quoted = format!("Message-ID: <{}>", inner.message_id().unwrap_or_default());
            }
            (_, "message/delivery-status") => {
                reported = true;
                for (name, value) in fields(&String::from_utf8_lossy(part.contents())) {
                    match name.as_str() {
                        "final-recipient" | "original-recipient" => {
                            found.addresses.extend(typed(&value));
                        }
                        "action" if value.eq_ignore_ascii_case("failed") => found.for_good = true,
                        "action" if value.eq_ignore_ascii_case("delayed") => delayed = true,
                        // Nothing is wrong.
                        "action" => {}
                        "status" if found.said.is_empty() => found.said = value,
                        "diagnostic-code" => {
                            found.said =
                                value.split_once(';').map_or(value.as_str(), |v| v.1).trim().into();
                        }
                        _ => {}
                    }
                }
            }
            (_, "text/rfc822-headers" | "message/rfc822-headers" | "message/global-headers") => {
                quoted = String::from_utf8_lossy(part.contents()).into_owned();
            }
            _ => {}
        }
    }
    if reported && !found.for_good && !delayed {
        return None;
    }
    if !reported {
        let local = from.split('@').next().unwrap_or_default().to_lowercase();
        let named = header(mail, "X-Failed-Recipients");
        let server = ["mailer-daemon", "postmaster", "mail-daemon"].contains(&local.as_str());
        let empty = header(mail, "Return-Path").is_some_and(|v| v == "<>");
        if named.is_none() && !server && !empty {
            return None;
        }
        found.addresses.extend(named.into_iter().flat_map(|v| v.split(',')).filter_map(typed));
        let lines = words.lines().map(str::trim);
        // A code of the mail transport for good (RFC 5321 §4.2.1, RFC 3463) next to an address.
        let said = lines.clone().find(|l| {
            ["550", "551", "552", "553", "554", "5.1.", "5.2.", "5.4.", "5.7."].iter().any(|code| {
                l.starts_with(code)
                    || l.contains(&format!(" {code}"))
                    || l.contains(&format!("#{code}"))
            })
        });
        found.for_good = said.is_some() || named.is_some();
        found.said = said.unwrap_or_default().to_owned();
        if found.addresses.is_empty() {
            let head: Vec<&str> = words
                .split(|c: char| c.is_whitespace() || "<>(),;\"'".contains(c))
                .map(|w| w.trim_end_matches([':', '.']))
                .collect();
            found.addresses.extend(head.into_iter().find(|w| is_address(w)).map(String::from));
        }
        if found.addresses.is_empty() || (!found.for_good && named.is_none()) {
            return None;
        }
    }
    found.message_id = quoted_id(if quoted.is_empty() { words } else { &quoted });
    let mut seen = std::collections::HashSet::new();
    found.addresses.retain(|a| seen.insert(a.to_lowercase()));
    found.said = text::line(&found.said).chars().take(300).collect();
    Some(found)
}

/// The first thing that a calendar answers in a mail.
fn calendar(mail: &Message<'_>) -> Option<CalendarReply> {
    mail.parts
        .iter()
        .filter(|part| matches!(media_type(part).as_str(), "text/calendar" | "application/ics"))
        .filter(|part| bounds::calendar_size(part.contents().len()))
        .take(10)
        .find_map(|part| calendar_reply(&String::from_utf8_lossy(part.contents())))
}

/// Reads what a calendar answers: `METHOD:REPLY` with one attendee (RFC 5546 §3.2.3). `None` for
/// every other file, also for one that is larger or deeper than any reply.
#[must_use]
pub fn calendar_reply(file: &str) -> Option<CalendarReply> {
    let file = bounds::calendar_size(file.len()).then(|| unfold(file))?;
    if !bounds::calendar(&file) {
        return None;
    }
    let read = read_calendar(&file).ok()?;
    let method = read.properties.iter().find(|p| p.name.as_str() == "METHOD")?;
    if !method.val.as_str().trim().eq_ignore_ascii_case("REPLY") {
        return None;
    }
    let event: &Component<'_> = read.components.iter().find(|c| c.name.as_str() == "VEVENT")?;
    let value = |name: &str| {
        let found = event.properties.iter().find(|p| p.name.as_str().eq_ignore_ascii_case(name));
        found.map(|p| text::line(p.val.as_str())).unwrap_or_default()
    };
    let attendee =
        event.properties.iter().find(|p| p.name.as_str().eq_ignore_ascii_case("ATTENDEE"))?;
    let parameter = |name: &str| {
        let found = attendee.params.iter().find(|p| p.key.as_str().eq_ignore_ascii_case(name));
        found.and_then(|p| p.val.as_ref()).map(|v| text::line(v.as_str())).unwrap_or_default()
    };
    let address = attendee.val.as_str();
    let address = address.split_once(':').filter(|(s, _)| s.eq_ignore_ascii_case("mailto"));
    let uid = value("UID");
    Some(CalendarReply {
        who: Party {
            name: parameter("CN").trim_matches('"').to_owned(),
            address: text::line(address?.1),
        },
        said: Said::from_partstat(&parameter("PARTSTAT"))?,
        sequence: value("SEQUENCE").parse().unwrap_or(0),
        at: jiff::civil::DateTime::strptime("%Y%m%dT%H%M%SZ", value("DTSTAMP"))
            .ok()
            .and_then(|d| jiff::tz::TimeZone::UTC.to_timestamp(d).ok()),
        comment: value("COMMENT").replace("\\n", " ").replace("\\,", ",").replace("\\;", ";"),
        uid: (!uid.is_empty()).then_some(uid)?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const REPORT: &str = include_str!("../tests/mails/report.eml");
    const PLAIN_BOUNCE: &str = include_str!("../tests/mails/plain-bounce.eml");
    const REPLY: &str = include_str!("../tests/mails/calendar-reply.eml");
    const LETTER: &str = include_str!("../tests/mails/letter.eml");
    const AWAY: &str = include_str!("../tests/mails/away.eml");

    #[test]
    fn what_comes_in_is_read() {
        let all = [LETTER, AWAY, REPORT, PLAIN_BOUNCE, REPLY];
        // Of files their names, kinds and lengths.
        insta::assert_debug_snapshot!(all.map(|raw| {
            let mut mail = read(&crlf(raw)).unwrap();
            for file in &mut mail.files {
                file.name = format!("{} ({} bytes)", file.name, file.bytes.len());
                file.bytes.clear();
            }
            mail
        }));
    }

    fn crlf(text: &str) -> Vec<u8> {
        text.replace('\n', "\r\n").into_bytes()
    }

    #[test]
    fn what_is_only_delayed_or_arrived_is_no_bounce_for_good() {
        let delayed = REPORT.replace("Action: failed", "Action: delayed");
        assert!(!read(&crlf(&delayed)).unwrap().bounce.unwrap().for_good);
        let arrived = REPORT.replace("Action: failed", "Action: delivered");
        assert_eq!(read(&crlf(&arrived)).unwrap().bounce, None);
        let by_hand =
            PLAIN_BOUNCE.replace("MAILER-DAEMON@", "somebody@").replace("Return-Path: <>\n", "");
        assert_eq!(read(&crlf(&by_hand)).unwrap().bounce, None, "anybody may write such words");
    }

    #[test]
    fn the_house_own_mails_are_seen_as_automatic() {
        let mail = crate::mail::Mail {
            from: ("House".into(), "office@club.example".into()),
            reply_to: None,
            to: ("Siân".into(), "sian@post.example".into()),
            subject: "Yours".into(),
            message_id: "a@club.example".into(),
            answers: Vec::new(),
            by_hand: false,
            date: Timestamp::UNIX_EPOCH,
            text: "words".into(),
            html: "<p>words</p>".into(),
            pictures: Vec::new(),
            calendar: None,
            attachments: Vec::new(),
            list: None,
        };
        let written = crate::mail::message(&mail).unwrap().formatted();
        assert!(read(&written).unwrap().automatic.is_some());
        let by_hand = crate::mail::Mail { by_hand: true, answers: vec!["b@c".into()], ..mail };
        let read = read(&crate::mail::message(&by_hand).unwrap().formatted()).unwrap();
        assert_eq!((read.automatic, read.answers), (None, vec!["b@c".to_owned()]));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]
        /// Whatever comes, it is read or said to be none: nothing panics, no line breaks stand
        /// where one line is meant, and nobody is said to have refused mail whom no address names.
        #[test]
        fn anything_at_all_is_read_without_harm(
            which in 0usize..5,
            cut in any::<prop::sample::Index>(),
            swaps in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 0..12),
            pasted in prop::collection::vec(any::<u8>(), 0..60),
        ) {
            let mut raw = crlf([LETTER, AWAY, REPORT, PLAIN_BOUNCE, REPLY][which]);
            for (at, byte) in swaps {
                let at = at.index(raw.len());
                raw[at] = byte;
            }
            let at = cut.index(raw.len());
            raw.truncate(raw.len() - at / 3);
            let at = cut.index(raw.len());
            raw.splice(at..at, pasted);
            if let Ok(mail) = read(&raw) {
                prop_assert!(!mail.subject.contains(['\r', '\n']));
                prop_assert!(!mail.from.address.contains(['\r', '\n']));
                prop_assert!(!mail.message_id.contains(['\r', '\n', '<', '>']));
                prop_assert!(mail.to.iter().all(|a| is_address(a)));
                prop_assert!(mail.subject.chars().count() <= MOST_SUBJECT);
                if let Some(bounce) = mail.bounce {
                    prop_assert!(bounce.addresses.iter().all(|a| is_address(a)));
                }
            }
        }

        /// Bytes of no mail at all.
        #[test]
        fn bytes_are_read_without_harm(raw in prop::collection::vec(any::<u8>(), 0..400)) {
            let _ = read(&raw);
            let _ = calendar_reply(&String::from_utf8_lossy(&raw));
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]
        /// Whatever stands inside each other, however deep and however often, is read or refused;
        /// neither takes more stack than a thread has. (One that overflowed would end the tests.)
        #[test]
        fn what_is_built_to_break_its_reader_does_not(
            levels in prop_oneof![0usize..60, 900usize..60_000],
            shape in 0usize..6,
            ends in any::<bool>(),
        ) {
            let deep = |begin: &str, end: &str| {
                let mut text = begin.repeat(levels);
                if ends {
                    text.push_str(&end.repeat(levels));
                }
                text
            };
            let calendar = |inside: String| format!(
                "From: a@b.example\r\nContent-Type: text/calendar; method=REPLY\r\n\r\n\
                 BEGIN:VCALENDAR\r\nMETHOD:REPLY\r\n{inside}END:VCALENDAR\r\n"
            );
            let raw = match shape {
                0 => calendar(deep("BEGIN:A\r\n", "END:A\r\n")),
                1 => calendar(deep("BEG\r\n IN:VEVENT\r\n", "END:VEVENT\r\n")),
                2 => format!(
                    "From: a@b.example\r\n{}words",
                    deep("Content-Type: message/rfc822\r\n\r\nFrom: a@b.example\r\n", "")
                ),
                3 => {
                    let parts = (0..levels).map(|n| format!(
                        "Content-Type: multipart/mixed; boundary=\"b{n}\"\r\n\r\n--b{n}\r\n"
                    ));
                    format!("From: a@b.example\r\n{}\r\nwords", parts.collect::<String>())
                }
                4 => format!(
                    "From: a@b.example\r\nContent-Type: text/html\r\n\r\n{}",
                    deep("<div><b>", "</b></div>")
                ),
                _ => format!("From: a@b.example\r\n{}\r\n", deep("X: y\r\n", "")),
            };
            if let Ok(mail) = read(raw.as_bytes()) {
                prop_assert_eq!(mail.from.address, "a@b.example");
                prop_assert!(mail.calendar.is_none());
            }
        }
    }
}
