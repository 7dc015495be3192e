//! Letters: the tray, all that came in, one of them, what is dropped or pasted.

use askama::Template;
use axum::extract::{Multipart, Path, Query};
use axum::http::{Uri, header};
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::EventId;
use matricle_core::messages::letters::{Kind, Place};
use matricle_core::people::staff::Right;
use matricle_desk::letters::tray::{self, ON_A_PAGE, Whole};
use matricle_formats::table::Cell;
use matricle_formats::words;
use matricle_store::letters::{Letter, List, Look, Out, Sort};
use serde::Deserialize;

use crate::asking::{Mails, Posted};
use crate::error::WebError;
use crate::news::Undo;
use crate::office::Clerk;
use crate::office::tab::answer;
use crate::page::Frame;
use crate::parts::fields::{Fields, form, wrong};
use crate::parts::list::{self, Ask, Column, Columns, Entries, Head, InFile, Shown, Spot};
use crate::parts::pager::Pager;

const HERE: &str = "/office/messages/letters";

/// A letter in a list.
pub(crate) struct LetterRow {
    pub(crate) href: String,
    pub(crate) who: String,
    pub(crate) subject: String,
    /// The first words that are new in it.
    pub(crate) words: String,
    pub(crate) kind: &'static str,
    pub(crate) class: &'static str,
    pub(crate) about: String,
    pub(crate) when: String,
}

/// The colour and shape of a kind.
pub(crate) const fn class(kind: Kind) -> &'static str {
    match kind {
        Kind::Letter => "held",
        Kind::Answer => "conf",
        Kind::Bounce | Kind::Unreadable => "over failed",
        Kind::Automatic | Kind::Calendar => "over",
    }
}

/// A name, or the address where there is none.
pub(crate) fn who((name, address): &(String, String)) -> String {
    match (name.as_str(), address.as_str()) {
        ("", "") => "nobody that can be read".into(),
        ("", address) => address.into(),
        (name, _) => name.into(),
    }
}

/// Some words of a text, on one line.
pub(crate) fn some(text: &str, most: usize) -> String {
    let line = matricle_core::words::text::line(&text.replace('\n', " "));
    if line.chars().count() <= most {
        return line;
    }
    let cut: String = line.chars().take(most).collect();
    format!("{}…", cut.trim_end())
}

pub(crate) fn row(at: &Clerk, letter: &Letter, zone: &str) -> LetterRow {
    let about = match (&letter.reference, letter.title.as_str()) {
        (Some(reference), title) => format!("{title}, booking {reference}"),
        (None, "") if letter.place == Place::Person => "somebody who is known".into(),
        (None, title) => title.to_owned(),
    };
    LetterRow {
        href: format!("{HERE}/{}", letter.id),
        who: who(&letter.from),
        subject: if letter.subject.is_empty() {
            "no subject".into()
        } else {
            letter.subject.clone()
        },
        words: match letter.kind {
            Kind::Letter | Kind::Answer => some(&letter.own, 160),
            _ => letter.note.clone(),
        },
        kind: letter.kind.word(),
        class: class(letter.kind),
        about,
        when: words::moment(letter.at, zone, at.app.desk.clock.now()),
    }
}

/// What the address says.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct LettersQuery {
    #[serde(default)]
    list: String,
    #[serde(default)]
    event: Option<i64>,
    /// The number of a letter: all by whoever wrote it.
    #[serde(default)]
    writer: Option<i64>,
}

impl LettersQuery {
    fn look(&self, ask: &Ask) -> Look {
        let of = match (self.writer, self.event, self.list.as_str()) {
            (Some(writer), ..) => List::Writer(writer),
            (None, Some(event), _) => List::Event(EventId(event)),
            (None, None, "answer") => List::ToAnswer,
            (None, None, "all") => List::All,
            (None, None, "away") => List::PutAway,
            (None, None, "unreadable") => List::Unreadable,
            (None, None, _) => List::Tray,
        };
        let words = ask.looked_for();
        match Sort::from_word(&ask.sort) {
            Some(sort) => Look { of, words, sort, backwards: ask.back },
            None => Look { words, ..of.into() },
        }
    }

    /// What the address says beside words and order.
    fn what(&self) -> String {
        match (self.writer, self.event) {
            (Some(writer), _) => format!("writer={writer}&"),
            (None, Some(event)) => format!("event={event}&"),
            (None, None) => format!("list={}&", crate::address::encode(&self.list)),
        }
    }
}

#[derive(Template)]
#[template(path = "messages/letters.html")]
struct Page {
    f: Frame,
    tab: &'static str,
    list: String,
    tray: u32,
    to_answer: u32,
    count: u32,
    heads: Vec<Head>,
    /// What the address of the same list says beside its words, and with them, up to the page.
    what: Vec<(String, String)>,
    query: String,
    q: String,
    letters: Entries,
    pager: Pager,
    is_read: bool,
    may: bool,
    d: Fields,
}

/// What stands on a list of letters.
fn columns<'a>(at: &'a Clerk, zone: &'a str) -> Columns<'a, Letter> {
    let row = move |letter: &Letter| row(at, letter, zone);
    vec![
        Column::new("minute", "When", |l: &Letter| Cell::at(l.at, zone))
            .shown(move |l| row(l).when)
            .at(Spot::Minute)
            .by_store(true),
        Column::new("kind", "Kind", |l: &Letter| l.kind.word())
            .shown(|l| Shown::state(l.kind.word(), format!("st st-{}", class(l.kind))))
            .at(Spot::State)
            .by_store(true),
        Column::new("who", "From", |l: &Letter| l.from.0.clone())
            .shown(|l| who(&l.from))
            .at(Spot::Beside)
            .by_store(true),
        Column::new("address", "Address", |l: &Letter| l.from.1.clone()).in_files(),
        Column::new("subject", "Subject", |l: &Letter| l.subject.clone())
            .shown(move |l| row(l).subject)
            .by_store(true),
        Column::new("words", "Words", |l: &Letter| l.own.clone())
            .shown(move |l| row(l).words)
            .at(Spot::Line),
        Column::screen("about", "About", move |l: &Letter| row(l).about).at(Spot::Line),
        Column::new("event", "Event", |l: &Letter| l.title.clone()).in_files(),
        Column::new("booking", "Booking", |l: &Letter| l.reference.map(|r| r.to_string()))
            .in_files(),
    ]
}

async fn page(at: &Clerk, asked: LettersQuery, ask: Ask, d: Fields) -> Result<Response, WebError> {
    let house = at.app.desk.house().await?;
    let look = asked.look(&ask);
    // By itself a list is in the order of its minutes, one way or the other.
    let shown = Ask { sort: look.sort.word().into(), back: look.backwards, ..ask.clone() };
    let n = u32::try_from(ask.page).unwrap_or(u32::MAX);
    let found = tray::list(&at.app.desk, &at.staff, look, n).await?;
    let columns = columns(at, &house.zone);
    let here = format!("{HERE}?{}", asked.what());
    let query = format!("{}{}", asked.what(), ask.query());
    let what = form_urlencoded::parse(asked.what().as_bytes()).into_owned().collect();
    answer(
        d.count(),
        &Page {
            f: at.frame("Letters", &house.name).in_room("messages"),
            tab: "letters",
            list: match (asked.writer, asked.event) {
                (Some(_), _) => "writer".into(),
                (None, Some(_)) => "event".into(),
                (None, None) => asked.list,
            },
            tray: found.tray,
            to_answer: found.to_answer,
            count: found.count,
            heads: list::heads(&columns, &here, &shown),
            letters: Entries::new(&columns, &found.letters, |l| format!("{HERE}/{}", l.id)),
            pager: Pager::of(
                found.count as usize,
                ask.page,
                ON_A_PAGE as usize,
                &format!("{HERE}?{query}"),
            ),
            what,
            query,
            q: ask.q,
            is_read: found.is_read,
            may: at.staff.role.may(Right::ChangeBookings),
            d,
        },
    )
}

/// `GET /office/messages/letters`.
pub(crate) async fn list(
    at: Clerk,
    Query(asked): Query<LettersQuery>,
    ask: Ask,
) -> Result<Response, WebError> {
    page(&at, asked, ask, Fields::default()).await
}

/// `GET /office/messages/letters.csv` and `.xlsx`: all of a list that fits, as a file.
pub(crate) async fn file(
    at: Clerk,
    uri: Uri,
    Query(asked): Query<LettersQuery>,
    ask: Ask,
) -> Result<Response, WebError> {
    let house = at.app.desk.house().await?;
    let found = tray::all(&at.app.desk, &at.staff, asked.look(&ask)).await?;
    let sheet = InFile::of(&columns(&at, &house.zone), &found.letters);
    sheet.hand_out((&at.app.desk, &at.staff), &uri, ("Letters", "letters")).await
}

/// `POST /office/messages/letters`: mails that were dropped as files, or pasted.
pub(crate) async fn drop_in(at: Clerk, parts: Multipart) -> Result<Response, WebError> {
    let mails = Mails::read(&at.app, &at.visitor, parts).await?;
    match tray::drop_in(&at.app.desk, &at.staff, mails.0).await {
        Ok(dropped) => {
            let letters = words::count(u32::try_from(dropped.new).unwrap_or(u32::MAX), "letters");
            let said = match (dropped.new, dropped.known) {
                (0, _) => "It was read before; nothing is there twice.".to_owned(),
                (_, 0) => format!("Read: {letters}."),
                (_, known) => format!("Read: {letters}; {known} had been read before."),
            };
            let to = match (dropped.new, dropped.last) {
                (1, Some(id)) => format!("{HERE}/{id}"),
                _ => format!("{HERE}?list=all"),
            };
            Ok(at.done(&to, said))
        }
        Err(error) => {
            let mut d = Fields::default();
            d.mark(&wrong(error)?);
            page(&at, LettersQuery::default(), Ask::default(), d).await
        }
    }
}

/// What went out because of a letter.
pub(crate) struct OutRow {
    pub(crate) to: String,
    pub(crate) forward: bool,
    pub(crate) who: String,
    pub(crate) words: String,
    pub(crate) when: String,
    pub(crate) state: &'static str,
    pub(crate) class: &'static str,
    pub(crate) refused: String,
    pub(crate) without: String,
}

pub(crate) fn out_row(out: &Out, moment: &impl Fn(jiff::Timestamp) -> String) -> OutRow {
    let (state, class) = match (&out.refused, out.sent_at) {
        (Some(_), _) => ("failed", "over failed"),
        (None, Some(_)) => ("sent", "conf"),
        (None, None) => ("planned", "held"),
    };
    OutRow {
        to: out.to.1.clone(),
        forward: out.forward,
        who: out.who.clone(),
        words: out.words.clone(),
        when: moment(out.sent_at.unwrap_or(out.made_at)),
        state,
        class,
        refused: out.refused.clone().unwrap_or_default(),
        without: out.without.clone(),
    }
}

#[derive(Template)]
#[template(path = "messages/letter.html")]
struct One {
    f: Frame,
    tab: &'static str,
    id: i64,
    row: LetterRow,
    email: String,
    /// All that is known of whoever wrote it.
    person: String,
    /// Where it asks for answers, if that is elsewhere.
    answer_to: String,
    to: String,
    own: String,
    /// All of its words, where that is more.
    whole: String,
    note: String,
    /// Where the time that it proposes stands in the form of its date.
    move_to: Option<String>,
    found: &'static str,
    booking: String,
    event: Option<i64>,
    away: bool,
    /// Not all of its words stand on the page.
    is_cut: bool,
    files: Vec<(usize, String, String)>,
    out: Vec<OutRow>,
    under: String,
    /// Addresses that it can be answered under, and how they are shown.
    senders: Vec<(String, String)>,
    behind: bool,
    beside: Vec<LetterRow>,
    may: bool,
    may_answer: bool,
    d: Fields,
}

/// Most characters of a letter that stand on its page.
const SHOWN: usize = 20_000;

/// The words of a letter as far as they stand on its page.
fn shown(words: &str) -> String {
    words.chars().take(SHOWN).collect()
}

async fn one_page(at: &Clerk, id: i64, d: Fields) -> Result<Response, WebError> {
    let house = at.app.desk.house().await?;
    let Whole { letter, files, out, under, senders, beside } =
        tray::one(&at.app.desk, &at.staff, id).await?;
    let now = at.app.desk.clock.now();
    let moment = |at| words::moment(at, &house.zone, now);
    let is_cut = letter.words.chars().count() > SHOWN;
    let own = shown(&letter.own);
    let wrong = d.count();
    let may = at.staff.role.may(Right::ChangeBookings);
    answer(
        wrong,
        &One {
            f: at.frame("Letter", &house.name).in_room("messages"),
            tab: "letters",
            id,
            row: row(at, &letter, &house.zone),
            email: letter.from.1.clone(),
            person: crate::address::person(&letter.from.1),
            answer_to: if letter.answer_to == letter.from.1 {
                String::new()
            } else {
                letter.answer_to.clone()
            },
            to: letter.to.clone(),
            whole: if letter.own.len() < letter.words.trim().len() {
                shown(&letter.words)
            } else {
                String::new()
            },
            own,
            is_cut,
            note: letter.note.clone(),
            move_to: letter.proposed.filter(|_| at.staff.role.may(Right::PlanEvents)).map(|p| {
                let (day, from, until) =
                    (p.starts.date(), words::clock(p.starts), words::clock(p.ends));
                format!(
                    "/office/events/{}/dates?date={}&day={day}&from={from}&until={until}#change",
                    p.event, p.date
                )
            }),
            found: letter.found.says(),
            booking: letter.reference.map_or_else(String::new, |r| r.as_str().to_owned()),
            event: match letter.place {
                Place::Event(event) => Some(event.0),
                _ => None,
            },
            away: letter.put_away.is_some(),
            files: files
                .into_iter()
                .enumerate()
                .map(|(n, (name, media_type, bytes))| {
                    let name = if name.is_empty() { media_type } else { name };
                    (n, name, format!("{} kB", bytes.div_ceil(1024)))
                })
                .collect(),
            out: out.iter().map(|o| out_row(o, &moment)).collect(),
            under: under.0,
            senders: senders
                .into_iter()
                .map(|(name, email)| (email.clone(), format!("{name} ‹{email}›")))
                .collect(),
            behind: under.1,
            beside: beside.iter().filter(|l| l.id != id).map(|l| row(at, l, &house.zone)).collect(),
            may_answer: may && letter.kind.is_from_somebody() && !letter.from.1.is_empty(),
            may,
            d,
        },
    )
}

/// `GET /office/messages/letters/{id}`.
pub(crate) async fn one(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    one_page(&at, id, Fields::default()).await
}

/// `POST /office/messages/letters/{id}`: give it to a booking, answer it, put it away.
pub(crate) async fn act(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let (desk, staff, there) = (&at.app.desk, &at.staff, format!("{HERE}/{id}"));
    let done = match posted.get("act") {
        "away" => {
            tray::put_away(desk, staff, id, true).await?;
            let undo = Undo::new(there, &[("act", "back")]);
            return Ok(at.done_but(HERE, "The letter is put away.", undo));
        }
        "back" => {
            tray::put_away(desk, staff, id, false).await?;
            return Ok(at.done(&there, "The letter is back."));
        }
        "tray" => {
            tray::give(desk, staff, id, matricle_core::forms::form::Form::default()).await?;
            return Ok(at.done(&there, "The letter lies in the tray again."));
        }
        "give" => match tray::give(desk, staff, id, form(&posted)).await {
            Ok(to) => {
                let undo = Undo::new(there.clone(), &[("act", "tray")]);
                return Ok(at.done_but(&there, format!("The letter belongs to {to} now."), undo));
            }
            Err(error) => Err(error),
        },
        "answer" => {
            if !at.app.guards.is_first(&there, &posted) {
                return Ok(Redirect::to(&there).into_response());
            }
            let answered = tray::answer(desk, staff, id, form(&posted)).await;
            if answered.is_err() {
                at.app.guards.not_done(&there, &posted);
            }
            answered.map(|()| "The answer is on its way.")
        }
        _ => return Err(WebError::Desk(matricle_desk::DeskError::NotFound)),
    };
    match done {
        Ok(said) => Ok(at.done(&there, said)),
        Err(error) => one_page(&at, id, Fields::again(&posted, error)?).await,
    }
}

/// A file that came from outside: it is kept, never shown, whatever it says that it is.
fn kept(file: matricle_formats::mail::File) -> Response {
    let name = if file.name.is_empty() { "file".into() } else { file.name };
    let heads = [
        (header::CONTENT_TYPE, "application/octet-stream".to_owned()),
        (
            header::CONTENT_DISPOSITION,
            format!("attachment; filename*=UTF-8''{}", crate::address::encode(&name)),
        ),
        (header::CACHE_CONTROL, "private, no-store".to_owned()),
    ];
    (heads, file.bytes).into_response()
}

/// `GET /office/messages/letters/{id}/raw`: word for word as it came.
pub(crate) async fn raw(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    Ok(kept(tray::file(&at.app.desk, &at.staff, id, None).await?))
}

/// `GET /office/messages/letters/{id}/files/{n}`.
pub(crate) async fn one_file(
    at: Clerk,
    Path((id, n)): Path<(i64, usize)>,
) -> Result<Response, WebError> {
    Ok(kept(tray::file(&at.app.desk, &at.staff, id, Some(n)).await?))
}

/// Letters of a booking, and what calendars said of it, for its sheet.
pub(crate) struct OfBooking {
    pub(crate) letters: Vec<(LetterRow, Vec<OutRow>)>,
    pub(crate) said: Vec<(Option<usize>, String)>,
}

pub(crate) async fn of_booking(
    at: &Clerk,
    reference: matricle_core::words::codes::Reference,
) -> Result<OfBooking, WebError> {
    let house = at.app.desk.house().await?;
    let now = at.app.desk.clock.now();
    let moment = |at| words::moment(at, &house.zone, now);
    let (letters, said) = tray::of_booking(&at.app.desk, &at.staff, reference).await?;
    Ok(OfBooking {
        letters: letters
            .iter()
            .map(|(l, out)| {
                let out = out.iter().map(|o| out_row(o, &moment)).collect();
                (LetterRow { words: some(&l.own, 400), ..row(at, l, &house.zone) }, out)
            })
            .collect(),
        said: said
            .iter()
            .map(|s| {
                let word =
                    if s.word.is_empty() { String::new() } else { format!(": “{}”", s.word) };
                (s.person, format!("calendar: {}, {}{word}", s.said.word(), moment(s.at)))
            })
            .collect(),
    })
}
