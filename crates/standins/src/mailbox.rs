//! The mailbox: a small SMTP server (RFC 5321) and a page to read what arrived.
//!
//! Like many real mail stores it shows each `Message-ID` once; a mail handed over
//! again is counted beside it.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use base64::Engine as _;
use jiff::Timestamp;
use mail_parser::{Address, MessageParser, MimeHeaders};
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};

use crate::kept::Folder;
use crate::letters::{self, How, Letters};
use crate::pages::{machine_time, page};

/// The largest mail taken, in bytes.
const LARGEST: usize = 20 * 1024 * 1024;

/// A mail that arrived.
#[derive(Debug, Clone)]
struct Arrived {
    at: Timestamp,
    raw: Vec<u8>,
    /// How often it was handed over.
    times: u32,
}

/// The mailbox. Cheap to clone.
#[derive(Debug, Clone)]
pub struct Mailbox {
    inner: Arc<Inner>,
}

/// All that arrived, in order.
#[derive(Debug, Default)]
struct Mails {
    all: Vec<Arrived>,
    /// Where in it a mail stands, by its `Message-ID`.
    by_id: HashMap<String, usize>,
}

impl Mails {
    fn add(&mut self, at: Timestamp, raw: Vec<u8>) {
        let id = message_id(&raw);
        if !id.is_empty() {
            self.by_id.entry(id).or_insert(self.all.len());
        }
        self.all.push(Arrived { at, raw, times: 1 });
    }

    /// Whether a mail was handed over before: that is counted.
    fn came_again(&mut self, raw: &[u8]) -> bool {
        let known = self.by_id.get(&message_id(raw)).and_then(|at| self.all.get_mut(*at));
        known.map(|mail| mail.times += 1).is_some()
    }
}

#[derive(Debug)]
struct Inner {
    mails: Mutex<Mails>,
    folder: Folder,
    mood: Mutex<Mood>,
    letters: Letters,
}

/// How it behaves.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Mood {
    /// As it should.
    #[default]
    Well,
    /// It takes half a second for each mail.
    Slow,
    /// It refuses everything for now, as a server in trouble does.
    Refuses,
    /// It takes connections and says nothing any more.
    Hangs,
    /// It keeps a mail and hangs up before it says so.
    HangsUp,
    /// It hangs up in the middle of what is fetched from the house's mailbox.
    Drops,
}

/// What the list of mails says of one, also as JSON for tests.
#[derive(Debug, Clone, Serialize)]
pub struct Listed {
    /// Its number on the pages.
    pub id: usize,
    /// When it arrived.
    pub at: String,
    /// To whom.
    pub to: String,
    /// Its subject.
    pub subject: String,
    /// Its `Message-ID`.
    pub message_id: String,
    /// How often it was handed over.
    pub times: u32,
    /// Names of its attachments.
    pub attachments: Vec<String>,
}

impl Mailbox {
    /// A mailbox; with a folder, mails are kept there as `.eml` files and read again at the next start.
    #[must_use]
    pub fn new(folder: Option<PathBuf>) -> Self {
        let letters = Letters::new(folder.as_ref().map(|f| f.with_extension("letters")));
        let (folder, kept) = Folder::open(folder);
        let mut mails = Mails::default();
        for (at, raw) in kept {
            mails.add(at, raw);
        }
        let (mails, mood) = (Mutex::new(mails), Mutex::default());
        Self { inner: Arc::new(Inner { mails, folder, mood, letters }) }
    }

    /// What lies in the house's own mailbox.
    pub(crate) fn letters(&self) -> &Letters {
        &self.inner.letters
    }

    pub(crate) fn mood(&self) -> Mood {
        *self.inner.mood.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Makes it behave in another way.
    pub fn behave(&self, mood: Mood) {
        *self.inner.mood.lock().unwrap_or_else(PoisonError::into_inner) = mood;
    }

    fn keep(&self, raw: Vec<u8>) {
        let mut mails = self.mails();
        if !mails.came_again(&raw) {
            self.inner.folder.keep(mails.all.len() + 1, &raw);
            mails.add(machine_time(), raw);
        }
    }

    fn mails(&self) -> MutexGuard<'_, Mails> {
        self.inner.mails.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The mails, newest first.
    #[must_use]
    pub fn list(&self) -> Vec<Listed> {
        let mails = self.mails();
        mails.all.iter().enumerate().rev().map(|(i, m)| listed(i + 1, m)).collect()
    }

    /// Serves SMTP until the task is dropped.
    pub async fn serve_smtp(self, listener: TcpListener) {
        while let Ok((stream, _)) = listener.accept().await {
            // Short words go back and forth: none waits for more to come.
            let _ = stream.set_nodelay(true);
            let mailbox = self.clone();
            tokio::spawn(async move {
                if let Err(error) = mailbox.talk(stream).await {
                    tracing::debug!(%error, "an SMTP conversation ended early");
                }
            });
        }
    }

    async fn talk(&self, stream: TcpStream) -> std::io::Result<()> {
        let (read, mut write) = stream.into_split();
        let mut read = BufReader::new(read.take(u64::MAX));
        let (mut sender, mut receivers) = (false, 0u32);
        write.write_all(b"220 mailbox.example ready\r\n").await?;
        loop {
            let mut line = Vec::new();
            read.get_mut().set_limit(4096);
            if read.read_until(b'\n', &mut line).await? == 0 {
                return Ok(());
            }
            let line = String::from_utf8_lossy(&line).trim_end().to_owned();
            let verb: String = line.chars().take_while(char::is_ascii_alphabetic).collect();
            let mood = self.mood();
            if mood == Mood::Hangs {
                // Until whoever called gives up.
                let mut unheard = Vec::new();
                while read.read_until(b'\n', &mut unheard).await? > 0 {}
                return Ok(());
            }
            let reply: &str = match verb.to_ascii_uppercase().as_str() {
                "EHLO" => {
                    "250-mailbox.example\r\n250-8BITMIME\r\n250-SMTPUTF8\r\n250 SIZE 20971520\r\n"
                }
                "HELO" => "250 mailbox.example\r\n",
                "MAIL" if mood == Mood::Refuses => "451 the mailbox is out of order for now\r\n",
                "MAIL" => {
                    (sender, receivers) = (true, 0);
                    "250 go on\r\n"
                }
                "RCPT" if !sender => "503 MAIL comes first\r\n",
                "RCPT" if line.contains("@nowhere.") => "550 no such mailbox\r\n",
                "RCPT" => {
                    receivers += 1;
                    "250 go on\r\n"
                }
                "DATA" if receivers == 0 => "503 RCPT comes first\r\n",
                "DATA" => {
                    write.write_all(b"354 end with a dot\r\n").await?;
                    let Some(mail) = read_mail(&mut read).await? else {
                        write.write_all(b"552 too large\r\n").await?;
                        return Ok(());
                    };
                    if mood == Mood::Slow {
                        tokio::time::sleep(Duration::from_millis(500)).await;
                    }
                    self.keep(mail);
                    if mood == Mood::HangsUp {
                        return Ok(());
                    }
                    (sender, receivers) = (false, 0);
                    "250 kept\r\n"
                }
                "RSET" => {
                    (sender, receivers) = (false, 0);
                    "250 done\r\n"
                }
                "NOOP" => "250 still here\r\n",
                "QUIT" => {
                    write.write_all(b"221 goodbye\r\n").await?;
                    return Ok(());
                }
                _ => "502 not known here\r\n",
            };
            write.write_all(reply.as_bytes()).await?;
        }
    }

    /// The pages: the list, a mail, its HTML, its attachments.
    pub fn router(self) -> Router {
        Router::new()
            .route("/", get(list))
            .route("/mails.json", get(list_json))
            .route("/behave", post(behave))
            .route("/house", get(house).post(write))
            .route("/calendar", get(calendar))
            .route("/mail/{id}", get(mail).post(back))
            .route("/mail/{id}/html", get(mail_html))
            .route("/mail/{id}/raw", get(raw))
            .route("/mail/{id}/attachment/{n}", get(attachment))
            .with_state(self)
    }

    fn raw(&self, id: usize) -> Option<Arrived> {
        self.mails().all.get(id.checked_sub(1)?).cloned()
    }
}

/// Reads to the dot on a line of its own; leading dots were doubled (RFC 5321 §4.5.2).
async fn read_mail(
    read: &mut BufReader<tokio::io::Take<tokio::net::tcp::OwnedReadHalf>>,
) -> std::io::Result<Option<Vec<u8>>> {
    let mut mail = Vec::new();
    loop {
        let mut line = Vec::new();
        read.get_mut().set_limit(LARGEST as u64);
        if read.read_until(b'\n', &mut line).await? == 0 {
            return Err(std::io::ErrorKind::UnexpectedEof.into());
        }
        if line == b".\r\n" || line == b".\n" {
            return Ok(Some(mail));
        }
        let line = line.strip_prefix(b".").unwrap_or(&line);
        if mail.len() + line.len() > LARGEST {
            return Ok(None);
        }
        mail.extend_from_slice(line);
    }
}

fn message_id(raw: &[u8]) -> String {
    MessageParser::default()
        .parse_headers(raw)
        .and_then(|m| m.message_id().map(String::from))
        .unwrap_or_default()
}

fn first_address(address: Option<&Address<'_>>) -> String {
    let Some(first) = address.and_then(Address::first) else { return String::new() };
    match (first.name(), first.address()) {
        (Some(name), Some(address)) => format!("{name} <{address}>"),
        (_, address) => address.unwrap_or_default().to_owned(),
    }
}

fn listed(id: usize, mail: &Arrived) -> Listed {
    let parsed = MessageParser::default().parse(&mail.raw);
    let of = |f: &dyn Fn(&mail_parser::Message<'_>) -> String| {
        parsed.as_ref().map_or_else(String::new, f)
    };
    Listed {
        id,
        at: mail.at.strftime("%H:%M:%S").to_string(),
        to: of(&|m| first_address(m.to())),
        subject: of(&|m| m.subject().unwrap_or("no subject").to_owned()),
        message_id: of(&|m| m.message_id().unwrap_or_default().to_owned()),
        times: mail.times,
        attachments: parsed
            .as_ref()
            .map_or_else(Vec::new, |m| m.attachments().map(named).collect()),
    }
}

/// The name of a part: what calendars read has none of its own (RFC 6047).
fn named(part: &mail_parser::MessagePart<'_>) -> String {
    let calendar = part.content_type().is_some_and(|t| t.subtype() == Some("calendar"));
    let unnamed = if calendar { "for calendars" } else { "unnamed" };
    part.attachment_name().unwrap_or(unnamed).to_owned()
}

#[derive(Template)]
#[template(path = "mailbox.html")]
struct ListPage {
    mails: Vec<Listed>,
    moods: Vec<(&'static str, &'static str, bool)>,
}

async fn list(State(mailbox): State<Mailbox>) -> Response {
    let now = mailbox.mood();
    let moods = [
        ("well", "takes every mail", Mood::Well),
        ("slow", "is slow", Mood::Slow),
        ("refuses", "refuses for now", Mood::Refuses),
        ("hangs", "hangs", Mood::Hangs),
        ("hangs_up", "keeps a mail and hangs up", Mood::HangsUp),
        ("drops", "hangs up while it is read", Mood::Drops),
    ];
    let moods = moods.map(|(key, says, mood)| (key, says, mood == now)).to_vec();
    page(&ListPage { mails: mailbox.list(), moods })
}

async fn list_json(State(mailbox): State<Mailbox>) -> Json<Vec<Listed>> {
    Json(mailbox.list())
}

#[derive(Deserialize)]
struct MailsQuery {
    how: Mood,
}

async fn behave(
    State(mailbox): State<Mailbox>,
    axum::Form(asked): axum::Form<MailsQuery>,
) -> Redirect {
    mailbox.behave(asked.how);
    Redirect::to("/")
}

#[derive(Template)]
#[template(path = "mail.html")]
struct MailPage {
    mail: Listed,
    from: String,
    text: String,
    /// It brings an invitation that a calendar can answer.
    invites: bool,
}

/// A text whose lines flow (RFC 3676, with `DelSp`) as a mail program shows it.
fn joined(text: &str) -> String {
    let mut shown = String::new();
    for line in text.lines() {
        match line.strip_suffix("  ") {
            Some(goes_on) => shown.push_str(&format!("{goes_on} ")),
            None => shown.push_str(&format!("{line}\n")),
        }
    }
    shown
}

async fn mail(State(mailbox): State<Mailbox>, Path(id): Path<usize>) -> Response {
    let Some(arrived) = mailbox.raw(id) else { return StatusCode::NOT_FOUND.into_response() };
    let parsed = MessageParser::default().parse(&arrived.raw);
    let from = parsed.as_ref().map_or_else(String::new, |m| first_address(m.from()));
    let text =
        parsed.as_ref().and_then(|m| m.body_text(0)).map_or_else(String::new, |text| joined(&text));
    let invites = letters::invites(&arrived.raw);
    page(&MailPage { mail: listed(id, &arrived), from, text, invites })
}

#[derive(Deserialize)]
struct Back {
    how: How,
    #[serde(default)]
    words: String,
}

/// Somebody writes back to a mail that arrived: it goes into the house's mailbox.
async fn back(
    State(mailbox): State<Mailbox>,
    Path(id): Path<usize>,
    axum::Form(Back { how, words }): axum::Form<Back>,
) -> Response {
    let Some(arrived) = mailbox.raw(id) else { return StatusCode::NOT_FOUND.into_response() };
    match letters::write_back(&arrived.raw, how, words.trim(), id) {
        Some(raw) => {
            mailbox.deliver(raw);
            Redirect::to("/house").into_response()
        }
        None => StatusCode::UNPROCESSABLE_ENTITY.into_response(),
    }
}

#[derive(Template)]
#[template(path = "calendar.html")]
struct CalendarPage {
    what: String,
    rows: Vec<(String, String)>,
}

/// A web calendar, beside the mails: it shows what a date would be put into it as.
async fn calendar(Query(given): Query<Vec<(String, String)>>) -> Response {
    let what = given.iter().find(|(name, _)| name == "what");
    page(&CalendarPage {
        what: what.map_or_else(|| "Nothing was given".into(), |(_, what)| what.clone()),
        rows: given,
    })
}

#[derive(Template)]
#[template(path = "house.html")]
struct HousePage {
    letters: Vec<(String, String)>,
}

async fn house(State(mailbox): State<Mailbox>) -> Response {
    page(&HousePage { letters: mailbox.delivered() })
}

#[derive(Deserialize)]
struct New {
    from: String,
    to: String,
    subject: String,
    words: String,
}

/// Somebody writes to the house.
async fn write(State(mailbox): State<Mailbox>, axum::Form(new): axum::Form<New>) -> Redirect {
    let line = |text: &str| text.chars().filter(|c| !c.is_control()).collect::<String>();
    let more = "Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n";
    let n = mailbox.delivered().len();
    let who = (line(&new.from), line(&new.to));
    mailbox.deliver(letters::written((&who.0, &who.1), &line(&new.subject), more, &new.words, n));
    Redirect::to("/house")
}

/// The HTML of a mail, with nothing in it allowed to run or to be fetched.
async fn mail_html(State(mailbox): State<Mailbox>, Path(id): Path<usize>) -> Response {
    let Some(arrived) = mailbox.raw(id) else { return StatusCode::NOT_FOUND.into_response() };
    let parsed = MessageParser::default().parse(&arrived.raw);
    let html = parsed
        .as_ref()
        .and_then(|m| m.body_html(0))
        .map_or_else(String::new, std::borrow::Cow::into_owned);
    // Pictures that came inside it are shown where it shows them (RFC 2392).
    let mut html = html;
    for part in parsed.iter().flat_map(|m| m.attachments()) {
        if let Some(id) = part.content_id() {
            let data = base64::engine::general_purpose::STANDARD.encode(part.contents());
            let source = format!("src=\"data:image/png;base64,{data}\"");
            html = html.replace(&format!("src=\"cid:{id}\""), &source);
        }
    }
    let policy = "default-src 'none'; img-src data:; style-src 'unsafe-inline'; sandbox allow-popups allow-top-navigation-by-user-activation";
    ([(header::CONTENT_SECURITY_POLICY, policy)], Html(html)).into_response()
}

async fn raw(State(mailbox): State<Mailbox>, Path(id): Path<usize>) -> Response {
    match mailbox.raw(id) {
        Some(arrived) => {
            ([(header::CONTENT_TYPE, "text/plain; charset=utf-8")], arrived.raw).into_response()
        }
        None => StatusCode::NOT_FOUND.into_response(),
    }
}

async fn attachment(State(mailbox): State<Mailbox>, Path((id, n)): Path<(usize, u32)>) -> Response {
    let Some(arrived) = mailbox.raw(id) else { return StatusCode::NOT_FOUND.into_response() };
    let parsed = MessageParser::default().parse(&arrived.raw);
    let Some(part) = parsed.as_ref().and_then(|m| m.attachment(n)) else {
        return StatusCode::NOT_FOUND.into_response();
    };
    let media_type = part.content_type().map_or_else(
        || "application/octet-stream".to_owned(),
        |t| format!("{}/{}", t.ctype(), t.subtype().unwrap_or("octet-stream")),
    );
    let headers = [
        (header::CONTENT_TYPE, media_type),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff".to_owned()),
    ];
    (headers, part.contents().to_vec()).into_response()
}

#[cfg(test)]
mod tests {
    use super::*;
    use lettre::{AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};

    async fn send(port: u16, id: &str, to: &str) -> Result<(), lettre::transport::smtp::Error> {
        let message = Message::builder()
            .from("office@club.example".parse().unwrap())
            .to(to.parse().unwrap())
            .subject("Dots")
            .message_id(Some(format!("<{id}@club.example>")))
            .body("first\r\n.\r\n..two\r\nlast\r\n".to_owned())
            .unwrap();
        AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous("127.0.0.1")
            .port(port)
            .build()
            .send(message)
            .await
            .map(drop)
    }

    #[tokio::test]
    async fn mails_arrive_whole_and_each_message_id_once() {
        let mailbox = Mailbox::new(None);
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        tokio::spawn(mailbox.clone().serve_smtp(listener));
        for id in ["one", "two", "one"] {
            send(port, id, "sian@post.example").await.unwrap();
        }
        let mails = mailbox.list();
        assert_eq!(
            mails.iter().map(|m| (m.message_id.as_str(), m.times)).collect::<Vec<_>>(),
            [("two@club.example", 1), ("one@club.example", 2)]
        );
        let raw = mailbox.raw(1).unwrap().raw;
        let text = MessageParser::default().parse(&raw).unwrap().body_text(0).unwrap().into_owned();
        assert_eq!(text.trim_end(), "first\r\n.\r\n..two\r\nlast");
        let refused = send(port, "three", "who@nowhere.example").await.unwrap_err();
        assert!(refused.is_permanent());
        mailbox.behave(Mood::Refuses);
        assert!(send(port, "four", "sian@post.example").await.unwrap_err().is_transient());
        assert_eq!(mailbox.list().len(), 2);
        mailbox.behave(Mood::HangsUp);
        assert!(send(port, "five", "sian@post.example").await.is_err());
        mailbox.behave(Mood::Hangs);
        let silent = Duration::from_millis(200);
        let sent = tokio::time::timeout(silent, send(port, "six", "sian@post.example")).await;
        assert!(sent.is_err(), "it says nothing");
        mailbox.behave(Mood::Well);
        send(port, "five", "sian@post.example").await.unwrap();
        assert_eq!((mailbox.list().len(), mailbox.list()[0].times), (3, 2), "kept, and told again");
    }
}
