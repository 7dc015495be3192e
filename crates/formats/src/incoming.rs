//! Mails that come in (RFC 5322, MIME), read from bytes, whatever these are.

mod bounce;
mod bounds;
mod calendar;

pub use bounce::{Bounce, Report};
pub use bounds::LARGEST;
pub use calendar::{Asks, CalendarReply, When, calendar_reply};

use jiff::Timestamp;
use mail_parser::{Address, HeaderValue, Message, MessageParser, MimeHeaders, PartType};
use matricle_core::words::address::is_address;
use matricle_core::words::text;

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
    /// What it reports of one of ours.
    pub report: Option<Report>,
    /// What a calendar answers.
    pub calendar: Option<CalendarReply>,
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
    let report = bounce::report(&mail, &from.address, &words);
    let answer_to = mail.reply_to().and_then(Address::first).and_then(|a| a.address());
    Ok(Incoming {
        answer_to: answer_to.map(|a| line(a, MOST_NAME)).unwrap_or_default(),
        message_id: id(mail.message_id().unwrap_or_default()),
        answers: answers(&mail),
        to: to(&mail),
        sent_at: mail.date().and_then(|d| Timestamp::from_second(d.to_timestamp()).ok()),
        files: files(&mail),
        automatic: match &report {
            Some(Report::Receipt) => Some("it reports that a mail arrived or was shown"),
            Some(_) => None,
            None => automatic(&mail, &from.address, &subject),
        },
        report,
        calendar: calendar::of_mail(&mail),
        words,
        subject,
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

/// How subjects of answers begin that mail programs give by themselves, in small letters.
const AWAY: [&str; 31] = [
    "automatic reply",
    "auto reply",
    "autoreply",
    "auto-reply",
    "auto response",
    "out of office",
    "out of the office",
    "automatische antwort",
    "abwesenheitsnotiz",
    "abwesenheit:",
    "réponse automatique",
    "absence du bureau",
    "respuesta automática",
    "fuera de la oficina",
    "resposta automática",
    "risposta automatica",
    "automatisch antwoord",
    "autosvar",
    "automatiskt svar",
    "automaattinen vastaus",
    "odpowiedź automatyczna",
    "automatická odpověď",
    "automatikus válasz",
    "răspuns automat",
    "otomatik yanıt",
    "αυτόματη απάντηση",
    "автоматический ответ",
    "автоответ",
    "自動応答",
    "自动答复",
    "자동 회신",
];
/// A word of these scripts may follow without a space.
const FOLLOWS: fn(char) -> bool = |c| c as u32 > 0x2E80;

fn header<'a>(mail: &'a Message<'_>, name: &'static str) -> Option<&'a str> {
    mail.header_raw(name).map(str::trim)
}

/// How a mail shows that a machine wrote it by itself: RFC 3834 §5, RFC 2919, RFC 5321 §4.5.5,
/// and what was usual before.
fn automatic(mail: &Message<'_>, from: &str, subject: &str) -> Option<&'static str> {
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
    let subject = subject.to_lowercase();
    let is_away = AWAY.iter().any(|words| {
        let rest = subject.strip_prefix(words);
        rest.is_some_and(|rest| {
            !rest.starts_with(char::is_alphanumeric) || rest.starts_with(FOLLOWS)
        })
    });
    if is_away {
        return Some("its subject says that a machine answers");
    }
    let local = from.split('@').next().unwrap_or_default().to_lowercase();
    let machine =
        ["mailer-daemon", "postmaster", "noreply", "no-reply", "donotreply", "do-not-reply"];
    machine.contains(&local.as_str()).then_some("its address reads no answers")
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
        let Some(Report::Bounce(bounce)) = read(&crlf(&delayed)).unwrap().report else { panic!() };
        assert!(!bounce.for_good);
        let arrived = REPORT.replace("Action: failed", "Action: delivered");
        assert_eq!(read(&crlf(&arrived)).unwrap().report, Some(Report::Receipt));
        let by_hand =
            PLAIN_BOUNCE.replace("MAILER-DAEMON@", "somebody@").replace("Return-Path: <>\n", "");
        assert_eq!(read(&crlf(&by_hand)).unwrap().report, None, "anybody may write such words");
    }

    #[test]
    fn what_machines_write_of_a_mail_is_no_letter() {
        let report = |kind: &str, part: &str| {
            let raw = format!(
                "From: Ana <ana@post.example>\nSubject: Re\nMessage-ID: <r@post.example>\n\
                 Content-Type: multipart/report; report-type={kind}; boundary=\"y\"\n\n--y\n\
                 Content-Type: text/plain\n\n550 words\n--y\nContent-Type: message/{kind}\n\n{part}\n\
                 --y\nContent-Type: message/rfc822\n\nMessage-ID: <019cd@ostrel.example>\n\nwords\n--y--\n"
            );
            read(&crlf(&raw)).unwrap()
        };
        let shown = report(
            "disposition-notification",
            "Final-Recipient: rfc822; ana@post.example\nDisposition: manual-action/MDN-sent-manually; displayed",
        );
        assert_eq!(shown.report, Some(Report::Receipt));
        assert!(shown.automatic.is_some());
        let of = "019cd@ostrel.example".to_owned();
        let abuse = "Feedback-Type: abuse\nVersion: 1\nUser-Agent: loop/1";
        assert_eq!(report("feedback-report", abuse).report, Some(Report::Complaint(of)));
        let fine = report("feedback-report", &abuse.replace("abuse", "not-spam"));
        assert_eq!(fine.report, Some(Report::Receipt));
        for (subject, is) in [
            ("Automatische Antwort: Ihre Plätze", true),
            ("Réponse automatique : vos places", true),
            ("自动答复您的邮件", true),
            ("Automatic replying of bees", false),
            ("About the automatic reply", false),
        ] {
            let raw = format!("From: Ana <ana@post.example>\r\nSubject: {subject}\r\n\r\nwords");
            assert_eq!(read(raw.as_bytes()).unwrap().automatic.is_some(), is, "{subject}");
        }
    }

    #[test]
    fn letters_of_the_great_scripts_are_read_in_their_old_encodings() {
        let mail = |charset: &str, bytes: &[u8]| {
            let head = format!(
                "From: Ana <ana@post.example>\r\nSubject: x\r\n\
                 Content-Type: text/plain; charset={charset}\r\nContent-Transfer-Encoding: 8bit\r\n\r\n"
            );
            read(&[head.as_bytes(), bytes].concat()).unwrap().words
        };
        assert_eq!(mail("ISO-2022-JP", b"\x1b$B$O$$\x1b(B"), "はい");
        assert_eq!(mail("Shift_JIS", b"\x82\xcd\x82\xa2"), "はい");
        assert_eq!(mail("GB18030", b"\xc4\xe3\xba\xc3"), "你好");
        assert_eq!(mail("EUC-KR", b"\xb3\xd7"), "네");
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
                if let Some(Report::Bounce(bounce)) = mail.report {
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
