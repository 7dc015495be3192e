//! The house's own mailbox beside the one where everything arrives: a small IMAP server
//! (RFC 3501), and a page where anybody can write back to what arrived.

use std::num::NonZeroU32;
use std::path::PathBuf;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use base64::Engine as _;
use imap_codec::encode::Encoder as _;
use imap_codec::fragmentizer::{FragmentInfo, Fragmentizer, LiteralAnnouncement};
use imap_codec::imap_types::command::{Command, CommandBody};
use imap_codec::imap_types::core::{AString, Literal, LiteralMode, NString, Tag, Vec1};
use imap_codec::imap_types::fetch::{
    MacroOrMessageDataItemNames, MessageDataItem, MessageDataItemName, Section,
};
use imap_codec::imap_types::response::{Capability, Code, Data, Greeting, Response, Status};
use imap_codec::imap_types::search::SearchKey;
use imap_codec::imap_types::sequence::{SeqOrUid, Sequence, SequenceSet};
use imap_codec::{CommandCodec, GreetingCodec, ResponseCodec};
use mail_parser::{MessageParser, MimeHeaders};
use serde::Deserialize;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

use crate::kept::Folder;
use crate::mailbox::{Mailbox, Mood, machine_time};

/// The name that it is read under.
pub const USER: &str = "house";
/// The password that it is read with.
pub const PASSWORD: &str = "stand-in-password";

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

    fn all(&self) -> Vec<Vec<u8>> {
        self.mails.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn keep(&self, raw: Vec<u8>) {
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

impl Mailbox {
    /// Puts a mail into the house's mailbox.
    pub fn deliver(&self, raw: Vec<u8>) {
        self.letters().keep(raw);
    }

    /// What lies in the house's mailbox: sender and subject, the latest first.
    #[must_use]
    pub fn delivered(&self) -> Vec<(String, String)> {
        let mut all: Vec<_> = self
            .letters()
            .all()
            .iter()
            .map(|raw| {
                let mail = MessageParser::default().parse(raw);
                let from =
                    mail.as_ref().and_then(|m| m.from()?.first()?.address().map(String::from));
                let subject = mail.as_ref().and_then(|m| m.subject().map(String::from));
                (from.unwrap_or_default(), subject.unwrap_or_else(|| "no subject".into()))
            })
            .collect();
        all.reverse();
        all
    }

    /// Serves IMAP until the task is dropped.
    pub async fn serve_imap(self, listener: TcpListener) {
        while let Ok((stream, _)) = listener.accept().await {
            let _ = stream.set_nodelay(true);
            let mailbox = self.clone();
            tokio::spawn(async move {
                if let Err(error) = mailbox.speak(stream).await {
                    tracing::debug!(%error, "an IMAP conversation ended early");
                }
            });
        }
    }

    async fn speak(&self, mut stream: TcpStream) -> std::io::Result<()> {
        let Ok(greeting) = Greeting::ok(None, "mailbox ready") else { return Ok(()) };
        stream.write_all(&GreetingCodec::default().encode(&greeting).dump()).await?;
        let mut fragments = Fragmentizer::new(64 * 1024);
        let mut known = false;
        let mut opened = false;
        loop {
            let Some(info) = fragments.progress() else {
                let mut read = [0; 4096];
                let n = stream.read(&mut read).await?;
                if n == 0 {
                    return Ok(());
                }
                fragments.enqueue_bytes(&read[..n]);
                continue;
            };
            if let FragmentInfo::Line {
                announcement: Some(LiteralAnnouncement { mode: LiteralMode::Sync, .. }),
                ..
            } = info
            {
                stream.write_all(b"+ go on\r\n").await?;
                continue;
            }
            if !fragments.is_message_complete() {
                continue;
            }
            if self.mood() == Mood::Hangs {
                tokio::time::sleep(Duration::from_secs(3600)).await;
                return Ok(());
            }
            let command = fragments.decode_message(&CommandCodec::default());
            let Ok(Command { tag, body }) = command else {
                let tag = fragments.decode_tag().map_or("*".to_owned(), |t| t.as_ref().to_owned());
                stream.write_all(format!("{tag} BAD not understood\r\n").as_bytes()).await?;
                continue;
            };
            let ends = matches!(body, CommandBody::Logout);
            let drops = self.mood() == Mood::Drops && matches!(body, CommandBody::Fetch { .. });
            let mut bytes = self.answer(&tag, &body, &mut known, &mut opened);
            if drops {
                bytes.truncate(bytes.len() / 2);
            }
            stream.write_all(&bytes).await?;
            if ends || drops {
                return Ok(());
            }
        }
    }

    fn answer(
        &self,
        tag: &Tag<'_>,
        body: &CommandBody<'_>,
        known: &mut bool,
        opened: &mut bool,
    ) -> Vec<u8> {
        let codec = ResponseCodec::default();
        let mut bytes = Vec::new();
        let mut data = |data: Data<'_>| bytes.extend(codec.encode(&Response::Data(data)).dump());
        let mut said = (true, "done");
        match body {
            CommandBody::Capability => {
                data(Data::Capability(Vec1::from(Capability::Imap4Rev1)));
            }
            CommandBody::Noop | CommandBody::Logout => {}
            CommandBody::Login { username, password } => {
                let is = |given: &AString<'_>, wanted: &str| given.as_ref() == wanted.as_bytes();
                *known = is(username, USER) && is(password.declassify(), PASSWORD);
                if !*known {
                    said = (false, "name and password do not belong together");
                }
            }
            _ if !*known => said = (false, "who are you?"),
            CommandBody::Select { .. } | CommandBody::Examine { .. } => {
                let count = u32::try_from(self.letters().all().len()).unwrap_or(u32::MAX);
                data(Data::Flags(Vec::new()));
                data(Data::Exists(count));
                data(Data::Recent(0));
                for code in [Code::uidvalidity(1), Code::uidnext(count + 1)].into_iter().flatten() {
                    if let Ok(status) = Status::ok(None, Some(code), "so it is") {
                        bytes.extend(codec.encode(&Response::Status(status)).dump());
                    }
                }
                *opened = true;
            }
            _ if !*opened => said = (false, "open a mailbox first"),
            CommandBody::Search { criteria, .. } => {
                let count = self.letters().all().len();
                let numbers = (1..=count)
                    .filter_map(|n| u32::try_from(n).ok())
                    .filter(|n| criteria.as_ref().iter().all(|key| fits(key, *n, count)))
                    .filter_map(NonZeroU32::new)
                    .collect();
                data(Data::Search(numbers));
            }
            CommandBody::Fetch { sequence_set, macro_or_item_names, .. } => {
                let names = match macro_or_item_names {
                    MacroOrMessageDataItemNames::MessageDataItemNames(names) => names.clone(),
                    MacroOrMessageDataItemNames::Macro(all) => all.expand(),
                };
                let all = self.letters().all();
                for (n, raw) in all.iter().enumerate() {
                    let Ok(uid) = u32::try_from(n + 1) else { continue };
                    if !within(sequence_set, uid, all.len()) {
                        continue;
                    }
                    let items: Vec<_> =
                        names.iter().filter_map(|name| item(name, uid, raw)).collect();
                    if let (Some(seq), Ok(items)) = (NonZeroU32::new(uid), Vec1::try_from(items)) {
                        data(Data::Fetch { seq, items });
                    }
                }
            }
            _ => said = (false, "not known here"),
        }
        let status = if said.0 {
            Status::ok(Some(tag.clone()), None, said.1)
        } else {
            Status::no(Some(tag.clone()), None, said.1)
        };
        if let Ok(status) = status {
            bytes.extend(codec.encode(&Response::Status(status)).dump());
        }
        bytes
    }
}

/// Whether a mail fits part of a search; what is not known here fits all.
fn fits(key: &SearchKey<'_>, uid: u32, count: usize) -> bool {
    match key {
        SearchKey::And(all) => all.as_ref().iter().all(|key| fits(key, uid, count)),
        SearchKey::Uid(set) | SearchKey::SequenceSet(set) => within(set, uid, count),
        _ => true,
    }
}

fn within(set: &SequenceSet, uid: u32, count: usize) -> bool {
    let largest = u32::try_from(count).unwrap_or(u32::MAX);
    let value = |n: &SeqOrUid| match n {
        SeqOrUid::Value(n) => n.get(),
        SeqOrUid::Asterisk => largest,
    };
    set.0.as_ref().iter().any(|sequence| match sequence {
        Sequence::Single(one) => value(one) == uid,
        Sequence::Range(a, b) => {
            let (a, b) = (value(a), value(b));
            (a.min(b)..=a.max(b)).contains(&uid)
        }
    })
}

fn item<'a>(name: &MessageDataItemName<'a>, uid: u32, raw: &[u8]) -> Option<MessageDataItem<'a>> {
    let literal = |bytes: &[u8]| {
        // What no literal of the protocol can hold is not sent as one.
        let bytes: Vec<u8> = bytes.iter().copied().filter(|b| *b != 0).collect();
        Literal::try_from(bytes).ok().map(NString::from)
    };
    Some(match name {
        MessageDataItemName::Uid => MessageDataItem::Uid(NonZeroU32::new(uid)?),
        MessageDataItemName::Rfc822Size => {
            MessageDataItem::Rfc822Size(u32::try_from(raw.len()).ok()?)
        }
        MessageDataItemName::Flags => MessageDataItem::Flags(Vec::new()),
        MessageDataItemName::BodyExt { section, .. } => {
            let bytes = match section {
                Some(Section::Header(_)) => {
                    let end = raw.windows(4).position(|w| w == b"\r\n\r\n");
                    &raw[..end.map_or(raw.len(), |end| end + 4)]
                }
                _ => raw,
            };
            MessageDataItem::BodyExt {
                section: section.clone(),
                origin: None,
                data: literal(bytes)?,
            }
        }
        _ => return None,
    })
}
