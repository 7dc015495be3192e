//! Letters in the house's own mailbox: what lies there, and how somebody's answer is written.

use std::path::PathBuf;
use std::sync::{Mutex, PoisonError};

use base64::Engine as _;
use mail_parser::{MessageParser, MimeHeaders};
use serde::Deserialize;

use crate::kept::Folder;
use crate::pages::machine_time;

/// What lies in the house's mailbox.
#[derive(Debug, Default)]
pub(crate) struct Letters {
    mails: Mutex<Vec<Vec<u8>>>,
    folder: Folder,
}

impl Letters {
    /// With a folder, mails are kept there and read again at the next start.
    pub(crate) fn new(folder: Option<PathBuf>) -> Self {
        let (folder, kept) = Folder::open(folder);
        Self { mails: Mutex::new(kept.into_iter().map(|(_, raw)| raw).collect()), folder }
    }

    pub(crate) fn all(&self) -> Vec<Vec<u8>> {
        self.mails.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    pub(crate) fn keep(&self, raw: Vec<u8>) {
        let mut mails = self.mails.lock().unwrap_or_else(PoisonError::into_inner);
        self.folder.keep(mails.len() + 1, &raw);
        mails.push(raw);
    }
}

/// How somebody writes back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum How {
    /// In words.
    Words,
    /// By a machine, because nobody is there (RFC 3834).
    Away,
    /// A mail server says that it did not arrive (RFC 3464).
    Bounce,
    /// Their calendar accepts.
    Accept,
    /// Their calendar accepts perhaps.
    Tentative,
    /// Their calendar declines.
    Decline,
}

impl How {
    const fn partstat(self) -> Option<&'static str> {
        match self {
            Self::Accept => Some("ACCEPTED"),
            Self::Tentative => Some("TENTATIVE"),
            Self::Decline => Some("DECLINED"),
            Self::Words | Self::Away | Self::Bounce => None,
        }
    }
}

/// A line of a header whatever letters it has (RFC 2047 §4.1).
fn header(text: &str) -> String {
    let text: String = text.chars().filter(|c| !c.is_control()).collect();
    if text.is_ascii() {
        return text;
    }
    format!("=?utf-8?B?{}?=", base64::engine::general_purpose::STANDARD.encode(text))
}

/// A mail as a mail program writes it.
pub(crate) fn written(
    (from, to): (&str, &str),
    subject: &str,
    more: &str,
    body: &str,
    n: usize,
) -> Vec<u8> {
    let at = machine_time();
    let date = at.strftime("%a, %d %b %Y %H:%M:%S +0000");
    let mut raw = format!(
        "From: {from}\r\nTo: {to}\r\nSubject: {}\r\nMessage-ID: <{}.{n}@writer.example>\r\nDate: {date}\r\n\
         MIME-Version: 1.0\r\n{more}\r\n{}\r\n",
        header(subject),
        at.as_microsecond(),
        body.replace("\r\n", "\n").replace('\n', "\r\n"),
    );
    if !raw.ends_with("\r\n") {
        raw.push_str("\r\n");
    }
    raw.into_bytes()
}

const PLAIN: &str =
    "Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n";

/// Writes back to a mail that arrived. `None` where it cannot: no calendar to answer with.
pub(crate) fn write_back(raw: &[u8], how: How, words: &str, n: usize) -> Option<Vec<u8>> {
    let mail = MessageParser::default().parse(raw)?;
    let first = |a: Option<&mail_parser::Address<'_>>| {
        let address = a.and_then(mail_parser::Address::first);
        let name = address.and_then(|a| a.name()).unwrap_or_default().to_owned();
        (name, address.and_then(|a| a.address()).unwrap_or_default().to_owned())
    };
    let (name, me) = first(mail.to());
    let (_, house) = first(mail.reply_to().or(mail.from()));
    let subject = mail.subject().unwrap_or_default();
    let id = mail.message_id().unwrap_or_default();
    let from = if name.is_empty() { me.clone() } else { format!("{} <{me}>", header(&name)) };
    let thread = format!("In-Reply-To: <{id}>\r\nReferences: <{id}>\r\n");
    let quoted: String = mail
        .body_text(0)
        .unwrap_or_default()
        .lines()
        .take(12)
        .map(|line| format!("> {line}\n"))
        .collect();
    Some(match how {
        How::Words => {
            let body = format!("{words}\n\nOn that day {house} wrote:\n{quoted}");
            written(
                (&from, &house),
                &format!("Re: {subject}"),
                &format!("{thread}{PLAIN}"),
                &body,
                n,
            )
        }
        How::Away => {
            let more = format!("{thread}Auto-Submitted: auto-replied (vacation)\r\n{PLAIN}");
            let words = if words.is_empty() { "I am away until Monday." } else { words };
            written((&from, &house), &format!("Away: {subject}"), &more, words, n)
        }
        How::Bounce => {
            let more = "Return-Path: <>\r\nAuto-Submitted: auto-replied\r\n\
                Content-Type: multipart/report; report-type=delivery-status; boundary=\"report\"\r\n";
            let body = format!(
                "--report\nContent-Type: text/plain\n\nYour mail to {me} could not be handed over.\n\
                 --report\nContent-Type: message/delivery-status\n\nReporting-MTA: dns; relay.example\n\n\
                 Final-Recipient: rfc822; {me}\nAction: failed\nStatus: 5.1.1\n\
                 Diagnostic-Code: smtp; 550 5.1.1 no such mailbox\n\n\
                 --report\nContent-Type: text/rfc822-headers\n\nMessage-ID: <{id}>\nTo: {me}\nSubject: {}\n\n--report--",
                header(subject)
            );
            let from = "Mail Delivery <mailer-daemon@relay.example>";
            written((from, &house), "Undelivered mail", more, &body, n)
        }
        How::Accept | How::Tentative | How::Decline => {
            let part = mail
                .parts
                .iter()
                .find(|p| p.content_type().is_some_and(|t| t.subtype() == Some("calendar")))?;
            let calendar = String::from_utf8_lossy(part.contents()).replace("\r\n ", "");
            let line = |name: &str| {
                let found = calendar.lines().find(|l| l.starts_with(name))?;
                Some(found.trim_end().to_owned())
            };
            let partstat = how.partstat()?;
            let (uid, sequence) = (line("UID:")?, line("SEQUENCE:").unwrap_or("SEQUENCE:0".into()));
            let starts = line("DTSTART").unwrap_or_default();
            let stamp = machine_time().strftime("%Y%m%dT%H%M%SZ");
            let comment = if words.is_empty() {
                String::new()
            } else {
                let words = words.replace('\\', "\\\\").replace(',', "\\,").replace('\n', "\\n");
                format!("COMMENT:{}\n", words.replace('\r', ""))
            };
            let file = format!(
                "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//stand-in//calendar//EN\nMETHOD:REPLY\nBEGIN:VEVENT\n{uid}\n\
                 {sequence}\nDTSTAMP:{stamp}\n{starts}\nORGANIZER:mailto:{house}\n\
                 ATTENDEE;PARTSTAT={partstat}:mailto:{me}\n{comment}END:VEVENT\nEND:VCALENDAR"
            );
            let more =
                format!("{thread}Content-Type: multipart/alternative; boundary=\"reply\"\r\n");
            let body = format!(
                "--reply\nContent-Type: text/plain; charset=utf-8\n\n{me}: {}\n\
                 --reply\nContent-Type: text/calendar; charset=utf-8; method=REPLY\n\n{file}\n--reply--",
                partstat.to_lowercase()
            );
            let word = partstat.to_lowercase();
            written((&from, &house), &format!("{word}: {subject}"), &more, &body, n)
        }
    })
}

/// Whether a mail brings an invitation that a calendar can answer.
pub(crate) fn invites(raw: &[u8]) -> bool {
    let mail = MessageParser::default().parse(raw);
    mail.is_some_and(|m| {
        m.parts.iter().any(|p| {
            p.content_type().is_some_and(|t| {
                t.subtype() == Some("calendar") && t.attribute("method") == Some("REQUEST")
            })
        })
    })
}
