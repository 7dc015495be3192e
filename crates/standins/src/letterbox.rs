//! The house's own mailbox beside the one where everything arrives: a small IMAP server
//! (RFC 3501), and a page where anybody can write back to what arrived.

use std::num::NonZeroU32;
use std::time::Duration;

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
use mail_parser::MessageParser;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

use crate::mailbox::{Mailbox, Mood};

/// The name that it is read under.
pub const USER: &str = "house";
/// The password that it is read with.
pub const PASSWORD: &str = "stand-in-password";

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
