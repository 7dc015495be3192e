//! E-mail (RFC 5322, MIME): text and HTML, with attachments.

use std::time::SystemTime;

use jiff::Timestamp;
use lettre::message::header::{ContentType, HeaderName, HeaderValue};
use lettre::message::{Attachment, Mailbox, MessageBuilder, MultiPart, SinglePart};
use lettre::{Address, Message};
use matricle_core::words::text;

/// A mail to be put together.
#[derive(Debug, Clone)]
pub struct Mail {
    /// Sender's name and address.
    pub from: (String, String),
    /// Where answers go, if not to the sender.
    pub reply_to: Option<String>,
    /// Receiver's name and address.
    pub to: (String, String),
    /// The subject.
    pub subject: String,
    /// Without angle brackets.
    pub message_id: String,
    /// The mails that it answers, the nearest first, without angle brackets (RFC 5322 §3.6.4).
    pub answers: Vec<String>,
    /// Somebody wrote it, to somebody: it does not say that a machine did.
    pub by_hand: bool,
    /// When it is sent.
    pub date: Timestamp,
    /// The words, as plain text.
    pub text: String,
    /// The words, as HTML.
    pub html: String,
    /// Pictures inside it, by the names that its HTML shows them by.
    pub pictures: Vec<File>,
    /// What calendars read in it: the words once more, for them (RFC 6047 §2.4).
    pub calendar: Option<File>,
    /// Files that go with it.
    pub attachments: Vec<File>,
    /// For mass mail: where one click, or one request, ends it, and the name of its list.
    pub list: Option<(String, String)>,
}

/// A file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct File {
    /// Its name.
    pub name: String,
    /// Its media type, such as `application/pdf`.
    pub media_type: String,
    /// Its content.
    pub bytes: Vec<u8>,
}

/// Why a mail cannot be put together.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MailError {
    /// An address that no mail can be sent to.
    #[error("not an address that mail can be sent to")]
    Address,
    /// Letters beyond ASCII before the `@`, which only some servers take (RFC 6531).
    #[error(
        "before its @ this address has letters that mail servers do not take yet: ask for one that is written in plain letters"
    )]
    Letters,
    /// A media type that is none.
    #[error("not a media type: {0}")]
    MediaType(String),
    /// The library refused.
    #[error("the mail cannot be put together: {0}")]
    Build(String),
}

fn mailbox((name, address): &(String, String)) -> Result<Mailbox, MailError> {
    if address.rsplit_once('@').is_some_and(|(local, _)| !local.is_ascii()) {
        return Err(MailError::Letters);
    }
    let address: Address = plain_address(address).parse().map_err(|_| MailError::Address)?;
    // What stands in a header is one line, whatever an old file holds.
    let name = text::line(name);
    Ok(Mailbox::new((!name.is_empty()).then_some(name), address))
}

/// An address with its domain as mail servers know it: letters beyond ASCII as `xn--` (RFC 5891).
fn plain_address(address: &str) -> String {
    match address.rsplit_once('@') {
        Some((local, domain)) if !domain.is_ascii() => match idna::domain_to_ascii(domain) {
            Ok(domain) => format!("{local}@{domain}"),
            Err(_) => address.to_owned(),
        },
        _ => address.to_owned(),
    }
}

/// A header that lettre has no type for. Values are ASCII and of one line.
fn header(name: &'static str, value: String) -> HeaderValue {
    HeaderValue::new(HeaderName::new_from_ascii_str(name), value)
}

/// Longest line of a text that flows (RFC 3676 §4.2).
const FLOWS: usize = 72;

/// Text whose lines a reader joins again to its own width (RFC 3676): a line that goes on ends with
/// two spaces, of which one is the text's own and one is deleted (*DelSp*). Words stay whole, so
/// that addresses stay links where nobody knows of this.
#[must_use]
pub fn flowed(text: &str) -> String {
    let mut out = String::new();
    for line in text.lines() {
        let line = line.trim_end();
        let mut rest = line;
        let mut first = true;
        while first || !rest.is_empty() {
            first = false;
            // What a reader would take for a quotation, or for stuffing, is stuffed (§4.4).
            if rest.starts_with([' ', '>']) || rest.starts_with("From ") {
                out.push(' ');
            }
            let fits = |(at, _): &(usize, &str)| rest[..*at].chars().count() < FLOWS;
            let spaces: Vec<(usize, &str)> = rest.match_indices(' ').collect();
            let long = rest.chars().count() > FLOWS;
            let cut = spaces
                .iter()
                .rfind(|s| fits(s) && s.0 > 0)
                .or_else(|| spaces.iter().find(|s| s.0 > 0));
            match cut.filter(|_| long) {
                Some((at, _)) => {
                    out.push_str(&rest[..=*at]);
                    out.push_str(" \r\n");
                    rest = &rest[at + 1..];
                }
                None => {
                    out.push_str(rest);
                    out.push_str("\r\n");
                    rest = "";
                }
            }
        }
    }
    out
}

/// A text that flows as one that stands: its lines joined, its stuffing taken away.
#[must_use]
pub fn unflowed(text: &str) -> String {
    let mut out = String::new();
    for line in text.lines() {
        let line = line.strip_prefix(' ').unwrap_or(line);
        match line.strip_suffix(' ').filter(|_| line != "-- ") {
            Some(goes_on) => out.push_str(goes_on),
            None => {
                out.push_str(line);
                out.push('\n');
            }
        }
    }
    out
}

/// Puts a mail together: text and HTML as alternatives, then the attachments.
///
/// # Errors
/// An address or media type that is none.
pub fn message(mail: &Mail) -> Result<Message, MailError> {
    let build =
        |b: MessageBuilder, parts| b.multipart(parts).map_err(|e| MailError::Build(e.to_string()));
    let mut builder = Message::builder()
        .from(mailbox(&mail.from)?)
        .to(mailbox(&mail.to)?)
        .subject(text::line(&mail.subject))
        .message_id(Some(format!("<{}>", mail.message_id)))
        .date(SystemTime::try_from(mail.date).unwrap_or(SystemTime::UNIX_EPOCH));
    if let Some(reply_to) = &mail.reply_to {
        builder = builder.reply_to(mailbox(&(String::new(), reply_to.clone()))?);
    }
    if let Some(nearest) = mail.answers.first() {
        let all: Vec<String> = mail.answers.iter().rev().map(|id| format!("<{id}>")).collect();
        builder = builder.in_reply_to(format!("<{nearest}>")).references(all.join(" "));
    }
    // Nobody's machine is to answer it (RFC 3834 §5).
    if !mail.by_hand {
        builder = builder.raw_header(header("Auto-Submitted", "auto-generated".into()));
    }
    if let Some((link, name)) = &mail.list {
        // One click ends it, without a page in between (RFC 8058 §3.1, RFC 2919).
        builder = builder
            .raw_header(header("List-Unsubscribe", format!("<{link}>")))
            .raw_header(header("List-Unsubscribe-Post", "List-Unsubscribe=One-Click".into()))
            .raw_header(header("List-Id", format!("<{name}>")))
            .raw_header(header("Precedence", "bulk".into()));
    }
    // Boundaries made from the Message-ID: unique enough, and the same each time.
    let unique: String = mail.message_id.chars().filter(char::is_ascii_alphanumeric).collect();
    let words = MultiPart::alternative().boundary(format!("words-{unique}")).singlepart(
        SinglePart::builder()
            .header(
                ContentType::parse("text/plain; charset=utf-8; format=flowed; delsp=yes")
                    .map_err(|_| MailError::MediaType("text/plain".into()))?,
            )
            .body(flowed(&mail.text)),
    );
    let words = if mail.pictures.is_empty() {
        words.singlepart(SinglePart::html(mail.html.clone()))
    } else {
        // Pictures that the HTML shows belong to it (RFC 2387).
        let mut shown = MultiPart::related()
            .boundary(format!("shown-{unique}"))
            .singlepart(SinglePart::html(mail.html.clone()));
        for picture in &mail.pictures {
            let media_type = ContentType::parse(&picture.media_type)
                .map_err(|_| MailError::MediaType(picture.media_type.clone()))?;
            shown = shown.singlepart(
                Attachment::new_inline_with_name(
                    picture.name.clone(),
                    format!(
                        "{}.{}",
                        picture.name,
                        if picture.media_type == "image/jpeg" { "jpg" } else { "png" }
                    ),
                )
                .body(picture.bytes.clone(), media_type),
            );
        }
        words.multipart(shown)
    };
    let words = match &mail.calendar {
        None => words,
        Some(calendar) => {
            let media_type = ContentType::parse(&calendar.media_type)
                .map_err(|_| MailError::MediaType(calendar.media_type.clone()))?;
            words.singlepart(SinglePart::builder().header(media_type).body(calendar.bytes.clone()))
        }
    };
    let mut parts = MultiPart::mixed().boundary(format!("parts-{unique}")).multipart(words);
    for file in &mail.attachments {
        let media_type = ContentType::parse(&file.media_type)
            .map_err(|_| MailError::MediaType(file.media_type.clone()))?;
        parts = parts
            .singlepart(Attachment::new(file.name.clone()).body(file.bytes.clone(), media_type));
    }
    build(builder, parts)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// What flows is read back as it was, but for blanks at the ends of lines; no line but one
        /// of a single word is longer than it may be.
        #[test]
        fn what_flows_comes_back_as_it_was(text in "([ >]?([a-zé.]{1,9} {1,2}){0,30}(https://[a-z]{90})?\n){0,4}") {
            let sent = flowed(&text);
            let plain: String = text.lines().map(|l| format!("{}\n", l.trim_end())).collect();
            prop_assert_eq!(unflowed(&sent), plain);
            for line in sent.lines() {
                let words = line.trim().split(' ').filter(|w| !w.is_empty()).count();
                prop_assert!(line.chars().count() <= FLOWS + 3 || words == 1, "{:?}", line);
            }
        }

        /// What core takes for an address, a mail can be sent to; and no name breaks it.
        #[test]
        fn every_address_that_is_taken_can_be_written_to(
            email in prop_oneof!["[ -~]{0,12}@[ -~]{0,12}", "\\PC{0,10}@\\PC{1,8}\\.\\PC{2,4}", "[a-z.'+]{1,8}@[a-z.-]{1,8}\\.[a-z]{2,4}"],
            name in "\\PC{0,60}",
        ) {
            if matricle_core::words::address::is_address(&email) {
                let address = email.parse::<Address>();
                prop_assert!(address.is_ok(), "{email:?}");
                let mailbox = Mailbox::new(Some(name), address.unwrap());
                prop_assert!(MessageBuilder::new().from(mailbox.clone()).to(mailbox).body(String::new()).is_ok());
            }
        }
    }
    use mail_parser::{MessageParser, MimeHeaders};

    fn mail() -> Mail {
        Mail {
            from: ("Ostrel Vale Beekeepers".into(), "office@ostrel.example".into()),
            reply_to: Some("ilse@ostrel.example".into()),
            to: ("Siân \"Bee\" O'Hara".into(), "sian@post.example".into()),
            subject: "Your seats: Pollen under the lens – Sat 12 December".into(),
            message_id: "krtbxnld.confirmation@ostrel.example".into(),
            answers: Vec::new(),
            by_hand: false,
            date: "2026-11-25T08:00:00Z".parse().unwrap(),
            text: "Dear Siân,\n.\nsee you there. €84.00".into(),
            html: "<p>Dear Siân</p>".into(),
            pictures: Vec::new(),
            list: None,
            calendar: None,
            attachments: vec![File {
                name: "tickets.pdf".into(),
                media_type: "application/pdf".into(),
                bytes: b"%PDF-1.7".to_vec(),
            }],
        }
    }

    #[test]
    fn a_mail_is_read_back_whole() {
        let bytes = message(&mail()).unwrap().formatted();
        assert_eq!(bytes, message(&mail()).unwrap().formatted(), "nothing made up");
        let read = MessageParser::default().parse(&bytes).unwrap();
        assert_eq!(read.subject(), Some("Your seats: Pollen under the lens – Sat 12 December"));
        assert_eq!(read.message_id(), Some("krtbxnld.confirmation@ostrel.example"));
        let to = read.to().unwrap().first().unwrap();
        assert_eq!(
            (to.name(), to.address()),
            (Some("Siân \"Bee\" O'Hara"), Some("sian@post.example"))
        );
        assert!(read.body_text(0).unwrap().contains("\r\n.\r\nsee you there. €84.00"));
        assert_eq!(read.body_html(0).unwrap().trim_end(), "<p>Dear Siân</p>");
        let file = read.attachment(0).unwrap();
        assert_eq!(
            (file.attachment_name(), file.contents()),
            (Some("tickets.pdf"), &b"%PDF-1.7"[..])
        );
    }

    #[test]
    fn what_machines_read_is_there() {
        let mut many = mail();
        many.to.1 = "sian@bienen.österreich.example".into();
        many.list = Some(("https://club.example/stop/x".into(), "news.club.example".into()));
        many.pictures = vec![File {
            name: "code-0".into(),
            media_type: "image/png".into(),
            bytes: vec![1, 2, 3],
        }];
        let bytes = message(&many).unwrap().formatted();
        let read = MessageParser::default().parse(&bytes).unwrap();
        assert_eq!(
            read.to().unwrap().first().unwrap().address(),
            Some("sian@bienen.xn--sterreich-z7a.example")
        );
        let raw = String::from_utf8_lossy(&bytes);
        for line in [
            "Auto-Submitted: auto-generated\r\n",
            "List-Unsubscribe: <https://club.example/stop/x>\r\n",
            "List-Unsubscribe-Post: List-Unsubscribe=One-Click\r\n",
            "List-Id: <news.club.example>\r\n",
            "Content-ID: <code-0>\r\n",
        ] {
            assert!(raw.contains(line), "{line}");
        }
        assert!(read.body_html(0).unwrap().contains("Dear"));
    }

    #[test]
    fn an_address_that_is_none_is_refused() {
        let mut bad = mail();
        bad.to.1 = "sian@post.example\r\nBcc: all@post.example".into();
        assert_eq!(message(&bad).unwrap_err(), MailError::Address);
    }
}
