//! What calendars answer to the house's invitations, and what follows from it. Nothing is
//! cancelled by it: a calendar is not its owner.

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::codes::Reference;
use matricle_core::letters::{self, Said};
use matricle_core::occasion::{Knows, Occasion};
use matricle_formats::incoming::{Asks, CalendarReply};
use matricle_formats::words;
use matricle_store::bookings::{self, Booking};
use matricle_store::events::{self, Date};
use matricle_store::letters::{self as stored, CalendarSaid};
use matricle_store::{Connection, Tx, outbox, readers};

use crate::acting::Turn;
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

/// Which of the dates of a booking a calendar speaks of, where that is not all of them.
fn one_of(
    conn: &Connection,
    reply: &CalendarReply,
    booking: &Booking,
) -> Result<Option<Date>, DeskError> {
    let Some(one) = reply.one else { return Ok(None) };
    let mut covers = bookings::covers(conn, booking.id)?;
    if covers.len() < 2 {
        return Ok(None);
    }
    let starts = |d: &Date| one.local(&words::zone(&d.span.zone)) == d.span.starts;
    Ok(covers.iter().position(starts).map(|at| covers.swap_remove(at)))
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
    let one = theirs.map(|t| one_of(conn, reply, &t.booking)).transpose()?.flatten();
    let of = match (&one, theirs) {
        (Some(one), _) => events::date_by_id(conn, one.id)?,
        (None, Some(t)) => events::date_by_id(conn, t.booking.date)?,
        (None, None) => None,
    };
    let today = |d: &Date| words::local(now, &d.span.zone).date();
    Ok(match &reply.asks {
        Asks::Refresh => ("asks for the entry once more".into(), None),
        Asks::Says(said) => {
            let only = one.map_or_else(String::new, |d| {
                format!(" for {} alone", words::span(d.span.starts, d.span.ends, today(&d)))
            });
            (format!("says {}{only}{word}", said.word()), None)
        }
        Asks::Counter(from, until) => {
            let proposed = of.as_ref().zip(*from).map(|((event, d), from)| {
                let zone = words::zone(&d.span.zone);
                let starts = from.local(&zone);
                let length = d.span.starts.until(d.span.ends).unwrap_or_default();
                let ends =
                    until.map_or_else(|| starts.saturating_add(length), |until| until.local(&zone));
                stored::Proposed { event: event.id.0, date: d.id.0, starts, ends }
            });
            let when = proposed.zip(of.as_ref()).map_or_else(
                || "another time".to_owned(),
                |(p, (_, d))| words::span(p.starts, p.ends, today(d)),
            );
            (format!("proposes {when}{word}"), proposed)
        }
    })
}

/// Whether a calendar speaks of one of the dates of a course, and not of all.
fn is_of_one(
    conn: &Connection,
    reply: &CalendarReply,
    theirs: Option<&Invited>,
) -> Result<bool, DeskError> {
    let Some(theirs) = theirs else { return Ok(false) };
    Ok(reply.one.is_some() && bookings::covers(conn, theirs.booking.id)?.len() > 1)
}

/// Writes down what a calendar says; who declines is offered to cancel, and the host hears of it.
/// Nothing is cancelled by it: a calendar is not its owner.
pub(super) fn follow(tx: &Tx<'_>, reply: &CalendarReply, turn: &Turn) -> Result<(), DeskError> {
    let Some(theirs) = invited(tx, reply)? else { return Ok(()) };
    let says = match &reply.asks {
        // Of one evening it says nothing of the others: it stands in the booking's history.
        Asks::Says(_) if is_of_one(tx, reply, Some(&theirs))? => return Ok(()),
        Asks::Says(said) => *said,
        Asks::Refresh => return send_again(tx, &theirs.booking, turn),
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

/// Sends what a booking was last told of once more to whoever asks for its entry (RFC 5546
/// §3.2.6), once a day at most: a calendar asks by itself.
fn send_again(tx: &Tx<'_>, booking: &Booking, turn: &Turn) -> Result<(), DeskError> {
    let since = turn.now - letters::TOLD_AGAIN;
    let occasion = match booking.state {
        State::Confirmed => Occasion::Confirmed,
        State::AwaitingPayment => Occasion::ToPay,
        _ => return Ok(()),
    };
    let went = outbox::of_booking(tx, booking.id)?;
    if went.iter().any(|m| m.occasion() == Some(occasion) && m.planned_at > since) {
        return Ok(());
    }
    telling::tell(tx, booking, occasion, &Knows::default(), turn)
}
