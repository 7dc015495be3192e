//! E-mail (RFC 5322, MIME): text and HTML, with attachments.

use std::time::SystemTime;

use jiff::Timestamp;
use lettre::message::header::ContentType;
use lettre::message::{Attachment, Mailbox, MessageBuilder, MultiPart, SinglePart};
use lettre::{Address, Message};
use matricle_core::text;

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
    /// When it is sent.
    pub date: Timestamp,
    /// The words, as plain text.
    pub text: String,
    /// The words, as HTML.
    pub html: String,
    /// Files that go with it.
    pub attachments: Vec<File>,
}

/// A file.
#[derive(Debug, Clone)]
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
    /// A media type that is none.
    #[error("not a media type: {0}")]
    MediaType(String),
    /// The library refused.
    #[error("the mail cannot be put together: {0}")]
    Build(String),
}

fn mailbox((name, address): &(String, String)) -> Result<Mailbox, MailError> {
    let address: Address = address.parse().map_err(|_| MailError::Address)?;
    // What stands in a header is one line, whatever an old file holds.
    let name = text::line(name);
    Ok(Mailbox::new((!name.is_empty()).then_some(name), address))
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
    // Boundaries made from the Message-ID: unique enough, and the same each time.
    let unique: String = mail.message_id.chars().filter(char::is_ascii_alphanumeric).collect();
    let words = MultiPart::alternative()
        .boundary(format!("words-{unique}"))
        .singlepart(SinglePart::plain(mail.text.clone()))
        .singlepart(SinglePart::html(mail.html.clone()));
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
        /// What core takes for an address, a mail can be sent to; and no name breaks it.
        #[test]
        fn every_address_that_is_taken_can_be_written_to(
            email in prop_oneof!["[ -~]{0,12}@[ -~]{0,12}", "\\PC{0,10}@\\PC{1,8}\\.\\PC{2,4}", "[a-z.'+]{1,8}@[a-z.-]{1,8}\\.[a-z]{2,4}"],
            name in "\\PC{0,60}",
        ) {
            if matricle_core::details::is_address(&email) {
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
            date: "2026-11-25T08:00:00Z".parse().unwrap(),
            text: "Dear Siân,\n.\nsee you there. €84.00".into(),
            html: "<p>Dear Siân</p>".into(),
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
    fn an_address_that_is_none_is_refused() {
        let mut bad = mail();
        bad.to.1 = "sian@post.example\r\nBcc: all@post.example".into();
        assert_eq!(message(&bad).unwrap_err(), MailError::Address);
    }
}
