//! What calendars answer to the house's invitations, and what follows from it. Nothing is
//! cancelled by it: a calendar is not its owner.

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::messages::letters::{self, Said};
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::words::codes::Reference;
use matricle_formats::incoming::{Asks, CalendarReply};
use matricle_formats::words;
use matricle_store::bookings::{self, Booking};
use matricle_store::events::{self, Date};
use matricle_store::letters::{self as stored, CalendarSaid};
use matricle_store::{Connection, Tx, outbox, readers};

use crate::acting::Turn;
use crate::bookings::change::sent_again;
use crate::{DeskError, telling};

/// Whoever has a calendar entry: the booking, the person of it, their name.
pub(super) struct Invited {
    pub(super) booking: Booking,
    person: Option<usize>,
    name: String,
}

/// Whose entry a calendar answers: `krtbxnld@…` the booker's, `krtbxnld-2@…` that of whoever has
/// the ticket. Who was written to, and nobody else, can say anything of it.
pub(super) fn invited(
    conn: &Connection,
    reply: &CalendarReply,
) -> Result<Option<Invited>, DeskError> {
    let local = reply.uid.split('@').next().unwrap_or_default();
    let (reference, person) = match local.split_once('-') {
        Some((reference, person)) => (reference, person.parse().ok()),
        None => (local, None),
    };
    let Some(reference) = Reference::parse(reference) else { return Ok(None) };
    let Some(booking) = bookings::by_reference(conn, reference)? else { return Ok(None) };
    let holders = readers::holders(conn, booking.id)?;
    let holder = person.and_then(|p| holders.into_iter().find(|(no, _, _)| *no == p));
    let (name, email) = match holder {
        Some((_, name, email)) => (name, email),
        None => (booking.booker().to_owned(), booking.email.clone()),
    };
    let theirs = email.eq_ignore_ascii_case(&reply.who.address);
    Ok(theirs.then_some(Invited { booking, person, name }))
}

/// What a calendar speaks of: a course has several dates, and of one it says nothing of the others.
enum Speaks {
    /// Of all that the booking covers.
    OfAll,
    /// Of this one of several, or of one that is none of them any more.
    OfOne(Option<Box<Date>>),
}

fn speaks(
    conn: &Connection,
    reply: &CalendarReply,
    booking: &Booking,
) -> Result<Speaks, DeskError> {
    let Some(one) = reply.one else { return Ok(Speaks::OfAll) };
    let covers = bookings::covers(conn, booking.id)?;
    if covers.len() < 2 {
        return Ok(Speaks::OfAll);
    }
    let starts = |d: &Date| one.local(&words::zone(&d.span.zone)) == d.span.starts;
    Ok(Speaks::OfOne(covers.into_iter().find(starts).map(Box::new)))
}

/// What a calendar says, in words, and the time that it proposes.
pub(super) fn said(
    conn: &Connection,
    reply: &CalendarReply,
    theirs: Option<&Invited>,
    now: Timestamp,
) -> Result<(String, Option<stored::Proposed>), DeskError> {
    let word = match (&reply.asks, reply.comment.as_str()) {
        (_, "") => String::new(),
        (Asks::Says(Said::Delegated), to) => format!(" to {to}"),
        (_, word) => format!(": “{word}”"),
    };
    let speaks = theirs.map(|t| speaks(conn, reply, &t.booking)).transpose()?;
    let of = match (&speaks, theirs) {
        (Some(Speaks::OfOne(Some(one))), _) => events::date_by_id(conn, one.id)?,
        (_, Some(t)) => events::date_by_id(conn, t.booking.date)?,
        (_, None) => None,
    };
    let today = |d: &Date| words::local(now, &d.span.zone).date();
    Ok(match &reply.asks {
        Asks::Refresh => ("asks for the entry once more".into(), None),
        Asks::Says(said) => {
            let only = match speaks {
                Some(Speaks::OfOne(Some(d))) => {
                    format!(" for {} alone", words::span(d.span.starts, d.span.ends, today(&d)))
                }
                Some(Speaks::OfOne(None)) => " for one of the dates alone".into(),
                Some(Speaks::OfAll) | None => String::new(),
            };
            (format!("says {}{only}{word}", said.word()), None)
        }
        Asks::Counter(from, until) => {
            let proposed = of.as_ref().zip(*from).map(|((event, d), from)| {
                let zone = words::zone(&d.span.zone);
                let starts = from.local(&zone);
                let length = d.span.starts.until(d.span.ends).unwrap_or_default();
                let ends =
                    until.map_or_else(|| starts.saturating_add(length), |until| until.local(&zone));
                stored::Proposed { event: event.id, date: d.id, starts, ends }
            });
            let when = proposed.zip(of.as_ref()).map_or_else(
                || "another time".to_owned(),
                |(p, (_, d))| words::span(p.starts, p.ends, today(d)),
            );
            (format!("proposes {when}{word}"), proposed)
        }
    })
}

/// Writes down what a calendar says; who declines is offered to cancel, and the host hears of it.
/// Nothing is cancelled by it: a calendar is not its owner.
pub(super) fn follow(tx: &Tx<'_>, reply: &CalendarReply, turn: &Turn) -> Result<(), DeskError> {
    let Some(theirs) = invited(tx, reply)? else { return Ok(()) };
    let says = match &reply.asks {
        // What is said of one evening stands in the booking's history.
        Asks::Says(said) => match speaks(tx, reply, &theirs.booking)? {
            Speaks::OfAll => *said,
            Speaks::OfOne(_) => return Ok(()),
        },
        Asks::Refresh => return send_again(tx, theirs, turn),
        Asks::Counter(..) => return Ok(()),
    };
    let Invited { booking, person, name } = theirs;
    let id = booking.id;
    let word: String = reply.comment.chars().take(500).collect();
    let said = CalendarSaid {
        person,
        said: says,
        sequence: reply.sequence,
        at: reply.at.unwrap_or(turn.now).min(turn.now),
        word: word.clone(),
    };
    // Said once more, it is nothing new: whoever sends it again and again is not told again.
    let before = stored::calendar_said(tx, id)?;
    let is_new = before.iter().all(|b| b.person != person || b.said != says);
    let holds = stored::calendar_says(tx, id, &said)? && is_new;
    let since = turn.now - letters::TOLD_AGAIN;
    let is_told = outbox::of_booking(tx, id)?.iter().any(|m| {
        m.occasion() == Some(Occasion::NotComing)
            && m.knows.person == person
            && m.planned_at > since
    });
    let stands =
        matches!(booking.state, State::Confirmed | State::AwaitingPayment | State::Requested);
    if holds && says == Said::Declined && stands && !is_told {
        let knows = Knows { holder: name, change: word, person, ..Knows::default() };
        telling::tell(tx, &booking, Occasion::NotComing, &knows, turn)?;
    }
    Ok(())
}

/// Sends what whoever asks for their entry was last told once more (RFC 5546 §3.2.6): the booker of
/// the booking, a holder of their ticket. Once a day at most: a calendar asks by itself.
fn send_again(tx: &Tx<'_>, theirs: Invited, turn: &Turn) -> Result<(), DeskError> {
    let Invited { booking, person, name } = theirs;
    if !matches!(booking.state, State::Confirmed | State::AwaitingPayment) {
        return Ok(());
    }
    let occasion = match person {
        Some(_) => Occasion::PassedOn,
        None => sent_again(booking.state),
    };
    let since = turn.now - letters::TOLD_AGAIN;
    let went = outbox::of_booking(tx, booking.id)?;
    let is_told = went.iter().any(|m| {
        m.occasion() == Some(occasion) && m.knows.person == person && m.planned_at > since
    });
    match person {
        _ if is_told => Ok(()),
        Some(person) => {
            let what = "is here once more";
            telling::tell_holder_again(tx, &booking, (person, name), what, turn)
        }
        None => telling::tell(tx, &booking, occasion, &Knows::default(), turn),
    }
}
