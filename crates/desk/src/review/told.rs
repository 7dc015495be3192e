//! Telling the submitter what became of theirs, and those who review that something waits.

use jiff::Timestamp;
use matricle_core::messages::cue::{Trigger, Way};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::people::acting::Actor;
use matricle_core::people::wish;
use matricle_core::review::submission::{Proposal, State, Typed};
use matricle_formats::words;
use matricle_store::house::House;
use matricle_store::outbox::{self, About, NewMessage};
use matricle_store::submissions::{self, Submission};
use matricle_store::{Connection, Tx, events};

use super::{name_of, proposal};
use crate::acting::Turn;
use crate::{DeskError, house_of};

/// The reader that a message of the day is for, by its beginning.
const DAY: &str = "day ";

/// Whether a message is the one of the day, of all that waits.
pub(crate) fn is_of_a_day(reader: &str) -> bool {
    reader.starts_with(DAY)
}

/// Tells whoever sent a submission what became of it, at an instant.
pub(crate) fn tell(
    tx: &Tx<'_>,
    s: &Submission,
    occasion: Occasion,
    knows: &Knows,
    at: Timestamp,
    turn: &Turn,
) -> Result<(), DeskError> {
    let Some(person) = s.person else { return Ok(()) };
    let (reader, id) = (format!("s{}", s.id), uuid::Uuid::now_v7());
    let (about, trigger) = (About::Submission(s.id, person), Trigger::On(occasion));
    let refused = outbox::address(tx, &s.email)?.refused.is_some();
    outbox::plan(
        tx,
        &NewMessage {
            unique: &format!("{} s{} {id}", occasion.word(), s.id),
            message_id: &format!("s{}.{id}@{}", s.id, turn.host),
            unasked: turn.by.kind == Actor::Booker,
            skipped: if refused {
                matricle_core::messages::due::WhyNot::Bounced.words()
            } else {
                ""
            },
            ..NewMessage::to(about, trigger, &reader, (Way::Mail, &s.email), knows, at)
        },
    )?;
    Ok(())
}

/// Tells those whom the house rules name that something waits: of each at once, or once a day of
/// all that wait then.
pub(crate) fn tell_reviewers(tx: &Tx<'_>, s: &Submission, turn: &Turn) -> Result<(), DeskError> {
    let Some(person) = s.person else { return Ok(()) };
    let (rules, house) = (submissions::rules(tx)?, house_of(tx)?);
    let zone = words::zone(&house.zone);
    for told in &rules.told {
        let id = uuid::Uuid::now_v7();
        let (reader, unique, at) = if told.daily {
            let at = wish::next(turn.now, rules.hour, &zone).unwrap_or(turn.now);
            // The first that arrives after one has gone plans the next.
            (format!("{DAY}{}", told.email), format!("{DAY}{} {at}", told.email), at)
        } else {
            (format!("a{}", told.email), format!("to review s{} {id}", s.id), turn.now)
        };
        let about = About::Submission(s.id, person);
        let trigger = Trigger::On(Occasion::ToReview);
        outbox::plan(
            tx,
            &NewMessage {
                unique: &unique,
                message_id: &format!("s{}.{id}@{}", s.id, turn.host),
                ..NewMessage::to(
                    about,
                    trigger,
                    &reader,
                    (Way::Mail, &told.email),
                    &Knows::default(),
                    at,
                )
            },
        )?;
    }
    Ok(())
}

/// Everything a message about a submission says.
#[derive(Debug, Clone)]
pub struct Whole {
    /// The house.
    pub house: House,
    /// The submission.
    pub submission: Submission,
    /// Its page in the Programme, by its address; empty while it has none.
    pub slug: String,
    /// What waits, for reviewers: title, and its light word with what was found.
    pub waiting: Vec<(String, String)>,
}

/// Reads what a message about a submission is about; for reviewers, what waits now.
pub(crate) fn about(
    conn: &Connection,
    s: Submission,
    occasion: Option<Occasion>,
    reader: &str,
    joined: Option<i64>,
) -> Result<Whole, DeskError> {
    let shown = joined.map(matricle_core::EventId).or(s.event);
    let event = shown.map(|e| events::by_id(conn, e)).transpose()?.flatten();
    let slug = event
        .filter(|e| e.state == events::EventState::Published && e.thrown_at.is_none())
        .map_or_else(String::new, |e| e.slug);
    let waiting = match occasion {
        Some(Occasion::ToReview) if is_of_a_day(reader) => submissions::waiting(conn, 200)?,
        Some(Occasion::ToReview) if s.waits_since.is_some() => vec![s.clone()],
        _ => Vec::new(),
    };
    let waiting = waiting.iter().map(line).collect();
    Ok(Whole { house: house_of(conn)?, submission: s, slug, waiting })
}

/// One that waits, in a line.
fn line(s: &Submission) -> (String, String) {
    let found: Vec<&str> =
        s.findings.iter().filter(|f| f.check.points() > 1).map(|f| f.check.says()).collect();
    let change = if s.state == State::Accepted { "a change, " } else { "" };
    let from = matricle_core::words::text::unlinked(name_of(s));
    let says = if found.is_empty() { String::new() } else { format!(": {}", found.join(" ")) };
    (
        matricle_core::words::text::unlinked(&s.title),
        format!("{change}from {from}; {}{says}", s.light.word()),
    )
}

/// The dates of a proposal in words, the first so many of them, and how many more there are.
#[must_use]
pub fn when(p: &Proposal, today: jiff::civil::Date, most: usize) -> Vec<String> {
    let first = p.spans.iter().take(most).map(|s| words::span(s.starts, s.ends, today));
    let more = p.spans.len().saturating_sub(most);
    first.chain((more > 0).then(|| format!("and {more} more"))).collect()
}

/// What was sent, field by field, for a copy by mail.
#[must_use]
pub fn copy(typed: &Typed, house: &House, now: Timestamp) -> Vec<(String, String)> {
    let mut lines = Vec::new();
    let mut put = |name: &str, said: String| {
        if !said.is_empty() {
            lines.push((name.to_owned(), said));
        }
    };
    let today = words::local(now, &house.zone).date();
    put("Title", typed.get("title").into());
    if let Ok(p) = proposal(typed, house) {
        let open = if p.has_end { "" } else { " (no end given: two hours are kept)" };
        put("When", when(&p, today, p.spans.len()).join("; ") + open);
        put(
            "Where",
            [p.place, p.address]
                .into_iter()
                .filter(|t| !t.is_empty())
                .collect::<Vec<_>>()
                .join(", "),
        );
        put("Who leads it", p.hosts.join(", "));
        put("Whom to ask", p.contact);
        put("Price", p.price);
        if let Some(booked) = p.booked {
            let seats = words::count(booked.seats, "seats");
            put("Can be booked here", format!("{seats}, {} each", booked.price));
        }
        put("Tags", p.tags.join(", "));
    }
    put("What it is about", events::without_marks(typed.get("description")).trim().to_owned());
    put("Words to the reviewer", typed.get("note").into());
    lines
}
