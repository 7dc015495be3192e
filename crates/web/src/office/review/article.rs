//! One submission on the review page: what it says, what was found in it, what it is like, and
//! what may be done.

use askama::Template;
use matricle_core::review::checks::{About, Check, Finding, Other};
use matricle_core::review::difference::Piece;
use matricle_desk::review::queue::{Article, Beside};
use matricle_desk::review::{name_of, told};
use matricle_formats::{letter, rich, words};

use super::light_class;
use crate::office::Clerk;
use crate::parts::fields::Fields;
use crate::parts::submitted::{picture_address, typed_fields};
use crate::wording;

/// A finding beside what it is about.
struct Found {
    says: &'static str,
    evidence: Vec<String>,
    href: String,
    weight: &'static str,
    points: i32,
}

/// One row of a submission: what it says, what was found, and the fields that correct it.
struct Part {
    key: &'static str,
    label: &'static str,
    lines: Vec<String>,
    found: Vec<Found>,
}

struct Side {
    label: String,
    theirs: Vec<(bool, String)>,
    mine: Vec<(bool, String)>,
}

struct BesideView {
    title: String,
    href: String,
    with: String,
    sides: Vec<Side>,
}

#[derive(Template)]
#[template(path = "review/article.html")]
pub(super) struct ArticlePart {
    token: String,
    id: i64,
    version: u32,
    key: String,
    title: String,
    kind: String,
    light: &'static str,
    class: &'static str,
    points: i32,
    sender: String,
    since: String,
    others: String,
    /// Where it stands, where it waits no more: who, what, when.
    over: String,
    may_undo: bool,
    of_change: bool,
    bookings: u32,
    parts: Vec<Part>,
    html: String,
    note: Vec<String>,
    picture: Option<(String, String)>,
    whole: Vec<Found>,
    of_sender: Vec<Found>,
    beside: Vec<BesideView>,
    changes: Vec<Side>,
    corrected: Vec<(String, String, String)>,
    happened: Vec<(String, String, String)>,
    trust: Option<(i64, String)>,
    trusted: bool,
    sentences: Vec<&'static str>,
    /// A ready-made reason to turn it down.
    why: &'static str,
    d: Fields,
    text: String,
    faults: Vec<String>,
    refusal: String,
}

fn found(f: &Finding) -> Found {
    let points = f.check.points();
    Found {
        says: f.check.says(),
        evidence: f.evidence.lines().map(String::from).collect(),
        href: match f.other {
            Some(Other::Event(id)) => format!("/office/events/{id}"),
            Some(Other::Submission(id)) => format!("/office/review/{id}"),
            None => String::new(),
        },
        weight: match points {
            i32::MIN..=-1 => "speaks for it",
            0 => "to know",
            1..=3 => "a little",
            4..=7 => "much",
            _ => "very much",
        },
        points,
    }
}

fn about(findings: &[Finding], about: About) -> Vec<Found> {
    findings
        .iter()
        .filter(|f| f.check.about() == about && f.check != Check::Copy)
        .map(found)
        .collect()
}

/// A side of a difference: each piece, and whether it is on this side alone.
fn side(pieces: &[(Piece, String)], mine: bool) -> Vec<(bool, String)> {
    let alone = if mine { Piece::New } else { Piece::Gone };
    pieces
        .iter()
        .filter(|(p, _)| *p == Piece::Same || *p == alone)
        .map(|(p, t)| (*p == alone, t.clone()))
        .collect()
}

fn sides(all: Vec<(String, Vec<(Piece, String)>)>) -> Vec<Side> {
    all.into_iter()
        .map(|(label, p)| Side { label, theirs: side(&p, false), mine: side(&p, true) })
        .collect()
}

/// The parts of what was sent, each with what the checks found about it.
fn parts(a: &Article, today: jiff::civil::Date) -> Vec<Part> {
    let line = |text: &str| if text.is_empty() { Vec::new() } else { vec![text.to_owned()] };
    let (p, f, typed) = (a.proposal.as_ref().ok(), &a.findings, &a.typed);
    let when = p.map_or_else(Vec::new, |p| told::when(p, today, 12));
    let price = p.map_or_else(Vec::new, |p| {
        let mut lines = line(&p.price);
        if let Some(b) = p.booked {
            lines.push(format!(
                "Can be booked here: {}, {} each",
                words::count(b.seats, "seats"),
                b.price
            ));
        }
        lines
    });
    let part = |key, label, lines, found| Part { key, label, lines, found };
    vec![
        part(
            "title",
            "Title",
            [line(typed.get("title")), line(typed.get("kind"))].concat(),
            about(f, About::Title),
        ),
        part("when", "When", when, about(f, About::When)),
        part(
            "where",
            "Where",
            [line(typed.get("place")), line(typed.get("address"))].concat(),
            about(f, About::Where),
        ),
        part("what", "What", Vec::new(), about(f, About::What)),
        part("hosts", "Who leads it", line(typed.get("hosts")), Vec::new()),
        part("contact", "Whom to ask", line(typed.get("contact")), about(f, About::Contact)),
        part("price", "Price", price, Vec::new()),
        part("tags", "Tags", typed.all("tag").map(String::from).collect(), Vec::new()),
    ]
}

/// Who decided it last, once it waits no more.
fn over(a: &Article, moment: &impl Fn(jiff::Timestamp) -> String) -> String {
    let s = &a.submission;
    if s.waits_since.is_some() {
        String::new()
    } else {
        let last = a.happened.iter().rev().find(|h| !h.undone);
        last.map_or_else(String::new, |h| {
            format!("{} {}, {}: {}.", h.who, h.act.done(), moment(h.at), s.state.word())
        })
    }
}

fn beside(b: Beside) -> BesideView {
    BesideView {
        title: b.title,
        href: b.href,
        with: match b.other {
            Other::Event(id) => format!("event {id}"),
            Other::Submission(id) => format!("submission {id}"),
        },
        sides: sides(b.fields),
    }
}

pub(super) fn article_part(
    at: &Clerk,
    a: Article,
    refusal: String,
    faults: Vec<String>,
) -> ArticlePart {
    let (now, s) = (at.app.desk.clock.now(), &a.submission);
    let house = &a.given.house;
    let zone = &house.zone;
    let today = words::local(now, zone).date();
    let f = &a.findings;
    let moment = |at| words::moment(at, zone, now);
    let typed = &a.typed;
    let happened = a
        .happened
        .iter()
        .rev()
        .filter(|h| !h.undone)
        .map(|h| (moment(h.at), format!("{} {}", h.who, h.act.done()), h.words.clone()))
        .collect();
    let mut faults = faults;
    if let Err(wrong) = &a.proposal {
        faults.extend(wrong.iter().map(|w| wording::fault(&w.field, &w.fault)));
    }
    let parts = parts(&a, today);
    let over = over(&a, &moment);
    let d = typed_fields(typed);
    ArticlePart {
        token: at.app.desk.secrets.form_token(&at.visitor.0),
        id: s.id.0,
        version: s.version,
        key: s.id.to_string(),
        title: typed.get("title").to_owned(),
        kind: typed.get("kind").to_owned(),
        light: a.light.word(),
        class: light_class(a.light),
        points: matricle_core::review::checks::points(f),
        sender: format!("{} ({})", name_of(s), s.email),
        since: s.waits_since.map_or_else(String::new, |at| words::moment(at, zone, now)),
        others: a.others.join(", "),
        may_undo: s.undo_until.is_some_and(|until| until > now),
        over,
        of_change: s.change.is_some() && s.waits_since.is_some(),
        bookings: a.bookings,
        html: rich::clean(typed.get("description")),
        text: letter::text_of(typed.get("description")),
        note: typed
            .get("note")
            .lines()
            .filter(|l| !l.trim().is_empty())
            .map(String::from)
            .collect(),
        picture: a
            .picture
            .as_ref()
            .map(|p| (picture_address(&at.app, p.id, "small"), p.alt.clone())),
        whole: about(f, About::Whole),
        of_sender: about(f, About::Sender),
        beside: a.beside.into_iter().map(beside).collect(),
        changes: sides(a.changes),
        corrected: a.corrected,
        happened,
        trust: a.trust.and_then(|r| Some((s.person?.0, r.words()))),
        trusted: a.trusted,
        why: if f.iter().any(|f| f.check == Check::Past) { "Its date is over." } else { "" },
        sentences: a.sentences,
        parts,
        d,
        faults,
        refusal,
    }
}
