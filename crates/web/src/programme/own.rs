//! The page of a booking that stands or is over: its tickets, cards, money, sessions, papers.

use std::collections::BTreeMap;

use askama::Template;
use jiff::Timestamp;
use matricle_core::booking::State as BookingState;
use matricle_core::{AttendeeId, SessionId};
use matricle_desk::bookings::whole::WholeBooking;
use matricle_desk::messages;
use matricle_formats::words;

use crate::page::Frame;
use crate::parts::files::qr_svg;
use crate::parts::places::address;
use crate::programme::pay::Ways;
use crate::programme::refused::{Refused, TakeBack};
use crate::{App, wording};

/// So long after booking the mail is said to be on its way.
const JUST_BOOKED: jiff::SignedDuration = jiff::SignedDuration::from_mins(30);

/// One attendee on the booking's own page.
struct TicketView {
    name: String,
    ticket: String,
    code: String,
    qr: String,
    inside: Option<String>,
}

/// Confirmed, or over.
#[derive(Template)]
#[template(path = "programme/own.html")]
pub(crate) struct Own {
    f: Frame,
    address: String,
    state: &'static str,
    confirmed: bool,
    /// Nothing for a calendar goes with the mails.
    calendar_off: bool,
    /// Web calendars that it is put into: name and address.
    web_calendars: Vec<(String, String)>,
    reference: String,
    title: String,
    event_href: String,
    when: String,
    place: String,
    address_line: String,
    directions: String,
    bring: String,
    refund_note: String,
    /// What cancelling gives back, in days for this date.
    steps: String,
    /// The place, for a map.
    map: String,
    email: String,
    /// Why the address refused mail, if it did; what is wrong with the one typed instead.
    refused: Option<String>,
    new_email: (String, String),
    tickets: Vec<TicketView>,
    /// Stamp cards bought: letters, and what is on them.
    cards: Vec<(String, String)>,
    lines: Vec<(String, String)>,
    total: String,
    paid: Option<String>,
    answers: Vec<(String, String)>,
    what: String,
    /// Where the mail about it is: on its way, or there since; empty where something newer is said.
    mailed: &'static str,
    /// Everybody of it joins online: there is no door to show anything at.
    is_online: bool,
    /// The dates of a course.
    dates: Vec<(String, String)>,
    online: String,
    /// Their own links, by name.
    joins: Vec<(String, String)>,
    after_note: String,
    signing: Vec<Signing>,
    grid: String,
    problem: Option<String>,
    undo: TakeBack,
    /// Receipts, invoices, credit notes: address, number, kind, amount.
    papers: Vec<(String, String, &'static str, String)>,
    /// How to pay what is still owed, when something is.
    ways: Option<Ways>,
    back: Vec<String>,
    may_change: bool,
}

/// The sessions one person may sign up for.
struct Signing {
    attendee: i64,
    name: String,
    sessions: Vec<SessionChoice>,
}

struct SessionChoice {
    id: i64,
    when: String,
    title: String,
    place: String,
    seats: String,
    mine: bool,
    closed: bool,
}

/// What each person may sign up for; `wanted` is what was sent and refused.
fn signing(
    sheet: &WholeBooking,
    wanted: Option<&BTreeMap<AttendeeId, Vec<SessionId>>>,
    now: Timestamp,
) -> Vec<Signing> {
    if !sheet.sessions.iter().any(|s| s.facts.sign_up) {
        return Vec::new();
    }
    sheet
        .attendees
        .iter()
        .map(|a| Signing {
            attendee: a.id.0,
            name: a.name.clone(),
            sessions: sheet
                .sessions
                .iter()
                .filter(|s| s.facts.sign_up)
                .map(|s| {
                    let had = sheet.sign_ups.contains(&(a.id, s.facts.id));
                    let place: Vec<&str> = [s.room.as_str(), s.host.as_str()]
                        .into_iter()
                        .filter(|t| !t.is_empty())
                        .collect();
                    SessionChoice {
                        id: s.facts.id.0,
                        when: format!(
                            "{}–{}",
                            words::clock(s.span.starts),
                            words::clock(s.span.ends)
                        ),
                        title: s.title.clone(),
                        place: place.join(" · "),
                        seats: crate::parts::grid::seats(s),
                        mine: wanted
                            .and_then(|w| w.get(&a.id))
                            .map_or(had, |w| w.contains(&s.facts.id)),
                        closed: !had && (s.facts.left() == Some(0) || s.facts.from <= now),
                    }
                })
                .collect(),
        })
        .collect()
}

/// Tickets that open the door.
fn tickets(sheet: &WholeBooking) -> Vec<TicketView> {
    sheet
        .attendees
        .iter()
        .filter(|a| !a.cancelled)
        .map(|a| TicketView {
            name: a.name.clone(),
            ticket: a.ticket.clone(),
            code: a.code.to_string(),
            qr: qr_svg(a.code),
            inside: match &a.presence {
                matricle_core::door::Presence::In { at, .. } => Some(format!(
                    "in since {}",
                    words::clock(words::local(*at, &sheet.house.zone).datetime())
                )),
                _ => None,
            },
        })
        .collect()
}

/// What was answered, and for whom.
fn answers(sheet: &WholeBooking) -> Vec<(String, String)> {
    sheet
        .answers
        .iter()
        .map(|a| {
            let name = a.person.and_then(|i| sheet.attendees.get(i)).map(|p| &p.name);
            let label = name.map_or_else(|| a.label.clone(), |n| format!("{n}: {}", a.label));
            (label, a.answer.clone())
        })
        .collect()
}

/// Money on its way back, or back.
fn given_back(sheet: &WholeBooking) -> Vec<String> {
    sheet
        .refunds
        .iter()
        .map(|r| {
            let amount = sheet.booking.total.currency.of(r.minor);
            match r.done_at {
                Some(_) => format!("{amount} given back by {}", r.method.word()),
                None => format!("{amount} on its way back by {}", r.method.word()),
            }
        })
        .collect()
}

/// Where the booking stands, in a sentence.
fn what(sheet: &WholeBooking) -> String {
    match sheet.booking.state {
        BookingState::Confirmed if sheet.attendees.is_empty() => "It is paid. Thank you.".into(),
        BookingState::Confirmed => "Your seats are booked.".into(),
        BookingState::Requested => "You asked for seats. The organiser answers by mail.".into(),
        BookingState::Cancelled => match sheet.date.called_off.trim() {
            "" => "This booking was cancelled. Its tickets no longer open the door.".into(),
            why => {
                let why = wording::sentence(why.trim_end_matches(['.', ' ']));
                format!(
                    "This date was called off. {why} Your booking was cancelled with it; what you paid goes back in full."
                )
            }
        },
        BookingState::Declined => "The organiser could not accept this booking.".into(),
        BookingState::Held | BookingState::AwaitingPayment | BookingState::Lapsed => String::new(),
    }
}

/// The page, with what was refused.
pub(crate) fn own(app: &App, f: Frame, sheet: &WholeBooking, refused: Option<Refused>) -> Own {
    let (mut card, mut wanted, mut problem, mut undo_problem) = (None, None, None, None);
    let mut new_email = (String::new(), String::new());
    match refused {
        Some(Refused::Card(typed, why)) => card = Some((typed, why)),
        Some(Refused::Sessions(wants, why)) => (wanted, problem) = (Some(wants), Some(why)),
        Some(Refused::Undo(why)) => undo_problem = Some(why),
        Some(Refused::Address(typed, why)) => new_email = (typed, why),
        Some(Refused::Unproved(_)) | None => {}
    }
    let now = app.desk.clock.now();
    let stands = sheet.booking.state.stands();
    let booking = &sheet.booking;
    let span = &sheet.date.span;
    let confirmed = booking.state == BookingState::Confirmed;
    Own {
        address: address(app, booking.reference),
        state: wording::state(booking.state),
        confirmed,
        calendar_off: booking.calendar_off,
        web_calendars: messages::web_calendars(
            &app.desk,
            sheet,
            &app.desk.booking_url(booking.reference),
            now,
        ),
        reference: booking.reference.to_string(),
        title: sheet.event.title.clone(),
        event_href: format!("/events/{}?date={}", sheet.event.slug, sheet.date.id),
        when: words::long_span(span.starts, span.ends),
        place: sheet.date.place(),
        address_line: sheet.date.address.clone(),
        directions: sheet.date.directions.clone(),
        bring: sheet.event.bring.clone(),
        refund_note: sheet.event.refund_note.clone(),
        steps: if confirmed && span.starts_at > now {
            crate::programme::form::steps_of(app, sheet)
        } else {
            String::new()
        },
        map: crate::parts::places::map(&sheet.date),
        email: booking.email.clone(),
        refused: sheet.refused.clone().filter(|_| stands),
        new_email,
        tickets: tickets(sheet),
        cards: sheet
            .cards
            .iter()
            .map(|c| messages::card_words(c, &sheet.house.zone, now))
            .collect(),
        lines: wording::money_lines(&sheet.lines)
            .into_iter()
            .map(|(what, amount)| (what, amount.to_string()))
            .collect(),
        total: booking.total.to_string(),
        paid: (booking.paid.minor > 0).then(|| booking.paid.to_string()),
        answers: answers(sheet),
        dates: if sheet.covers.len() > 1 {
            sheet
                .covers
                .iter()
                .map(|d| (words::long_span(d.span.starts, d.span.ends), d.called_off.clone()))
                .collect()
        } else {
            Vec::new()
        },
        joins: if confirmed { messages::own_links(&app.desk, sheet) } else { Vec::new() },
        online: if confirmed { messages::online(&app.desk, sheet) } else { String::new() },
        after_note: if stands { sheet.event.after_note.clone() } else { String::new() },
        signing: if stands { signing(sheet, wanted.as_ref(), now) } else { Vec::new() },
        grid: crate::parts::grid::svg(&sheet.sessions),
        papers: sheet
            .documents
            .iter()
            .map(|d| {
                let href = format!("{}/papers/{}", address(app, booking.reference), d.id);
                let total = booking.total.currency.of(d.body.total());
                (href, d.name(), d.kind.word(), total.to_string())
            })
            .collect(),
        ways: (confirmed && booking.is_owed()).then(|| Ways::of(app, sheet, f.token.clone(), card)),
        back: given_back(sheet),
        may_change: stands && !booking.test && span.starts_at > now,
        problem,
        undo: TakeBack::of(app, sheet, f.token.clone(), undo_problem),
        what: what(sheet),
        mailed: match &sheet.undo {
            Some(undo) if undo.is_open(now) => "",
            _ if now.duration_since(booking.made_at) < JUST_BOOKED => "on the way",
            _ => "there",
        },
        is_online: messages::is_online(sheet),
        f,
    }
}
