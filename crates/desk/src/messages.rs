//! Messages: their wording, and what goes with them.

pub(crate) mod sending;

use askama::Template;
use jiff::Timestamp;
use matricle_core::codes::{Reference, TicketCode};
use matricle_core::confirm::Way;
use matricle_core::documents;
use matricle_core::text::unlinked;
use matricle_formats::calendar::{self, Entry};
use matricle_formats::mail::{self, File, Mail};
use matricle_formats::{barcode, words};
use matricle_papers::{Barcodes, Ticket, tickets};
use matricle_store::bookings;
use matricle_store::cards::HeldCard;
use matricle_store::documents::Document;
use matricle_store::outbox::{About, Kind, Message};

use crate::bookings::waiting;
use crate::bookings::whole::{self, WholeBooking};
use crate::outside::mailer::SendError;
use crate::planning::invitations;
use crate::{Desk, DeskError};

/// The words that all messages about a booking are made of.
struct Words {
    house: String,
    greeting: String,
    /// What the link opens.
    what: String,
    title: String,
    when: String,
    place: String,
    address: String,
    directions: String,
    bring: String,
    refund_note: String,
    reference: String,
    url: String,
    tickets: Vec<(String, String, String)>,
    /// Stamp cards bought: letters, and what is on them.
    cards: Vec<(String, String)>,
    lines: Vec<(String, String)>,
    total: String,
    paid: bool,
    to_give_back: Option<String>,
    /// The dates of a course; empty otherwise.
    dates: Vec<String>,
    /// Where it happens online; empty otherwise.
    online: String,
    after_note: String,
}

#[derive(Template)]
#[template(path = "mail/confirmation.txt")]
struct ConfirmationText<'a> {
    w: &'a Words,
}

#[derive(Template)]
#[template(path = "mail/confirmation.html")]
struct ConfirmationHtml<'a> {
    w: &'a Words,
}

#[derive(Template)]
#[template(path = "mail/cancellation.txt")]
struct CancellationText<'a> {
    w: &'a Words,
}

#[derive(Template)]
#[template(path = "mail/cancellation.html")]
struct CancellationHtml<'a> {
    w: &'a Words,
}

#[derive(Template)]
#[template(path = "mail/note.txt")]
struct NoteText<'a> {
    w: &'a Words,
    said: &'a [String],
}

#[derive(Template)]
#[template(path = "mail/note.html")]
struct NoteHtml<'a> {
    w: &'a Words,
    subject: &'a str,
    said: &'a [String],
}

/// The invoice of a booking that is to be paid, if a transfer is awaited.
fn invoice(sheet: &WholeBooking) -> Option<&Document> {
    let open = sheet.booking.due().minor > 0 && sheet.house.payee().takes_transfers();
    sheet.documents.iter().rev().find(|d| open && d.kind == documents::Kind::Invoice)
}

/// What a message other than a confirmation or a cancellation says: subject, sentences.
fn noted(
    sheet: &WholeBooking,
    message: &Message,
    day: &str,
    now: Timestamp,
) -> (String, Vec<String>) {
    let title = &sheet.event.title;
    let booking = &sheet.booking;
    let over = booking.state == matricle_core::booking::State::Cancelled;
    // After what is said by itself comes what somebody added in words of their own.
    let before = message.note.split_once("\n\n").unwrap_or((&message.note, ""));
    match message.kind {
        Kind::Moved => (
            format!("Moved: {title}, now {day}"),
            vec![
                format!(
                    "“{title}” has moved. Your booking stays as it is, and your tickets stay valid."
                ),
                format!("Before: {}.", before.0),
                before.1.to_owned(),
                "Now:".into(),
            ],
        ),
        Kind::CalledOff if over => {
            let mut said = vec![
                format!("“{title}” will not take place. We are sorry."),
                message.note.clone(),
                "Your booking has been cancelled; you need not do anything.".into(),
            ];
            let back: i64 = sheet.refunds.iter().map(|r| r.minor).sum();
            if back > 0 {
                let back = booking.total.currency.of(back);
                said.push(format!("You had paid {back}. All of it goes back the way it came."));
            }
            (format!("Called off: {title}, {day}"), said)
        }
        Kind::CalledOff => {
            let off: Vec<String> = sheet
                .covers
                .iter()
                .filter(|d| !d.called_off.is_empty())
                .map(|d| words::long_span(d.span.starts, d.span.ends))
                .collect();
            (
                format!("One date less: {title}"),
                vec![
                    format!("Of “{title}” this will not take place: {}.", off.join("; ")),
                    message.note.clone(),
                    "Everything else stays as it is, and so does your booking.".into(),
                ],
            )
        }
        Kind::Approval => {
            let by = booking.deadline.map_or_else(String::new, |d| {
                format!(" Please pay by {}.", words::deadline(d, &sheet.house.zone, now))
            });
            let mut said = vec![
                if sheet.way() == Way::AfterYes {
                    "the organiser said yes to your booking.".into()
                } else {
                    "your seats are kept.".into()
                },
                format!("{} to pay.{by} The way to pay is on your booking’s page.", booking.due()),
            ];
            if invoice(sheet).is_some() {
                said.push(
                    "To pay by bank transfer, use the code on the invoice, or type this:".into(),
                );
                let lines = crate::money::documents::transfer_lines(&sheet.house, booking);
                said.extend(lines.into_iter().map(|(name, value)| format!("{name}: {value}")));
            }
            (format!("Your seats are kept: {title}, {day}"), said)
        }
        Kind::Refusal => (
            format!("About your booking: {title}, {day}"),
            vec![
                "the organiser cannot accept your booking. We are sorry.".into(),
                message.note.clone(),
            ],
        ),
        Kind::Passed => (
            format!("A ticket for you: {title}, {day}"),
            vec![format!(
                "{} has passed a ticket to you. It is attached, and the link below opens it.",
                unlinked(&booking.name)
            )],
        ),
        Kind::Changed => (
            format!("Your booking has changed: {title}, {day}"),
            vec![
                "something about your booking has changed.".into(),
                before.0.to_owned(),
                before.1.to_owned(),
            ],
        ),
        Kind::Twice => (
            format!("Two bookings: {title}, {day}"),
            vec!["somebody has booked with your address once more.".into(), message.note.clone()],
        ),
        Kind::Link => {
            let kept = booking.deadline.filter(|d| *d > now).map_or_else(
                || "the seats are no longer kept, but you can ask for them again.".to_owned(),
                |d| {
                    let until = words::deadline(d, &sheet.house.zone, now);
                    format!("your seats are kept until {until}.")
                },
            );
            let back = "The link below leads back to your booking; what you typed is there.";
            (format!("Go on with your booking: {title}, {day}"), vec![kept, back.into()])
        }
        Kind::Confirmation
        | Kind::Cancellation
        | Kind::Invitation
        | Kind::Waiting
        | Kind::Offer
        | Kind::SeatsFree => (String::new(), Vec::new()),
    }
}

/// Puts a message together and hands it over.
///
/// # Errors
/// The mail server did not take it, or it cannot be put together, now or ever.
pub async fn send(desk: &Desk, message: &Message) -> Result<(), SendError> {
    let never = |error: DeskError| SendError { for_good: true, reason: error.to_string() };
    let later = |error: DeskError| SendError { for_good: false, reason: error.to_string() };
    let booking = match message.about {
        About::Booking(booking) => booking,
        About::Event(event) => {
            let mail = match message.kind {
                Kind::Waiting | Kind::Offer | Kind::SeatsFree => {
                    waiting::compose(desk, message).await.map_err(later)?
                }
                _ => invitations::compose(desk, message, event).await.map_err(later)?,
            };
            let mail = mail::message(&mail).map_err(|e| never(e.into()))?;
            return desk.mailer.send(mail).await;
        }
    };
    let sheet = desk
        .store
        .read(move |conn| {
            let booking = bookings::by_id(conn, booking)?.ok_or(DeskError::NotFound)?;
            whole::load(conn, booking)
        })
        .await
        .map_err(later)?;
    // A ticket that was passed on goes to whoever has it now: all that the mail shows, and all
    // it leads to, is that ticket.
    let holder = (message.kind == Kind::Passed).then(|| only(&sheet, message.note.parse().ok()));
    let (sheet, url) = match holder {
        None => {
            let url = desk.booking_url(sheet.booking.reference);
            (sheet, url)
        }
        Some(Some((only, code))) => (only, desk.ticket_url(code)),
        Some(None) => return Err(never(DeskError::NotFound)),
    };
    let (now, host) = (desk.clock.now(), desk.host().to_owned());
    let message = message.clone();
    let composed = tokio::task::spawn_blocking(move || {
        compose(&sheet, &message, url, &host, now).and_then(|mail| Ok(mail::message(&mail)?))
    })
    .await
    .map_err(|e| SendError { for_good: false, reason: e.to_string() })?;
    desk.mailer.send(composed.map_err(never)?).await
}

/// A booking with one of its people only, and the code of their ticket.
fn only(sheet: &WholeBooking, person: Option<usize>) -> Option<(WholeBooking, TicketCode)> {
    let mut only = sheet.clone();
    only.attendees.retain(|a| Some(a.person) == person && !a.cancelled);
    let code = only.attendees.first()?.code;
    Some((only, code))
}

fn compose(
    sheet: &WholeBooking,
    message: &Message,
    url: String,
    host: &str,
    now: Timestamp,
) -> Result<Mail, DeskError> {
    let words = in_words(sheet, message.kind, url, now);
    let day =
        words::day(sheet.date.span.starts.date(), words::local(now, &sheet.date.span.zone).date());
    let render = |rendered: Result<String, askama::Error>| {
        rendered.map_err(|e| DeskError::Internal(format!("wording a message: {e}")))
    };
    let ics = File {
        name: "date.ics".into(),
        media_type: "text/calendar; charset=utf-8; method=PUBLISH".into(),
        bytes: calendar_file(
            sheet,
            host,
            &words.url,
            sheet.booking.state == matricle_core::booking::State::Cancelled,
            now,
        )
        .into_bytes(),
    };
    let (subject, text, html, attachments) = match message.kind {
        Kind::Confirmation => {
            let mut files = Vec::new();
            // Who buys stamp cards only has no tickets.
            if !words.tickets.is_empty() {
                files.push(File {
                    name: format!("tickets-{}.pdf", sheet.booking.reference),
                    media_type: "application/pdf".into(),
                    bytes: tickets_pdf(sheet, now)?,
                });
                files.push(ics);
            }
            (
                format!("Your seats: {}, {day}", sheet.event.title),
                render(ConfirmationText { w: &words }.render())?,
                render(ConfirmationHtml { w: &words }.render())?,
                files,
            )
        }
        Kind::Cancellation => (
            format!("Cancelled: {}, {day}", sheet.event.title),
            render(CancellationText { w: &words }.render())?,
            render(CancellationHtml { w: &words }.render())?,
            vec![ics],
        ),
        Kind::CalledOff
        | Kind::Moved
        | Kind::Approval
        | Kind::Refusal
        | Kind::Changed
        | Kind::Passed
        | Kind::Link
        | Kind::Twice
        | Kind::Invitation
        | Kind::Waiting
        | Kind::Offer
        | Kind::SeatsFree => {
            let (subject, mut said) = noted(sheet, message, &day, now);
            said.retain(|p| !p.is_empty());
            let text = render(NoteText { w: &words, said: &said }.render())?;
            let html = render(NoteHtml { w: &words, subject: &subject, said: &said }.render())?;
            let confirmed = sheet.booking.state == matricle_core::booking::State::Confirmed;
            let files = match message.kind {
                Kind::CalledOff | Kind::Moved => vec![ics],
                Kind::Approval => match invoice(sheet) {
                    Some(invoice) => vec![File {
                        name: format!("{}.pdf", invoice.name()),
                        media_type: "application/pdf".into(),
                        bytes: crate::bookings::papers::draw(invoice, &sheet.house.zone)?,
                    }],
                    None => Vec::new(),
                },
                Kind::Passed => vec![
                    File {
                        name: format!("ticket-{}.pdf", sheet.booking.reference),
                        media_type: "application/pdf".into(),
                        bytes: tickets_pdf(sheet, now)?,
                    },
                    ics,
                ],
                Kind::Changed if confirmed && !words.tickets.is_empty() => vec![
                    File {
                        name: format!("tickets-{}.pdf", sheet.booking.reference),
                        media_type: "application/pdf".into(),
                        bytes: tickets_pdf(sheet, now)?,
                    },
                    ics,
                ],
                _ => Vec::new(),
            };
            (subject, text, html, files)
        }
    };
    let subject = if sheet.booking.test { format!("Test: {subject}") } else { subject };
    Ok(Mail {
        from: (sheet.house.name.clone(), sheet.house.email.clone()),
        reply_to: None,
        to: (matricle_core::text::unlinked(receiver(sheet, message.kind)), message.address.clone()),
        subject,
        message_id: message.message_id.clone(),
        date: now,
        text,
        html,
        attachments,
    })
}

/// Whom a message greets: the booker, or whoever has the one ticket it is about.
fn receiver(sheet: &WholeBooking, kind: Kind) -> &str {
    match (kind, sheet.attendees.first()) {
        (Kind::Passed, Some(holder)) => &holder.name,
        // Before it is sent in, the name stands in the form alone.
        _ if sheet.booking.name.is_empty() => sheet.booking.draft.name.trim(),
        _ => &sheet.booking.name,
    }
}

/// How a message opens. Somebody who has not yet given a name is greeted without one.
fn greeting(name: &str) -> String {
    match name {
        "" => "Hello".into(),
        name => format!("Dear {}", unlinked(name)),
    }
}

fn in_words(sheet: &WholeBooking, kind: Kind, url: String, now: Timestamp) -> Words {
    let span = &sheet.date.span;
    let here = words::local(now, &sheet.house.zone).time_zone().clone();
    let there = words::zone(&span.zone);
    let zone = if here == there { String::new() } else { format!(" ({} time)", span.zone) };
    Words {
        house: sheet.house.name.clone(),
        greeting: greeting(receiver(sheet, kind)),
        what: if kind == Kind::Passed {
            "Your ticket".into()
        } else {
            format!("Your booking {}", sheet.booking.reference)
        },
        title: sheet.event.title.clone(),
        when: format!("{}{zone}", words::long_span(span.starts, span.ends)),
        place: sheet.date.place(),
        address: sheet.date.address.clone(),
        directions: sheet.date.directions.clone(),
        bring: sheet.event.bring.clone(),
        refund_note: sheet.event.refund_note.clone(),
        reference: sheet.booking.reference.to_string(),
        url,
        tickets: sheet
            .attendees
            .iter()
            .filter(|a| !a.cancelled)
            .map(|a| (unlinked(&a.name), a.ticket.clone(), a.code.to_string()))
            .collect(),
        cards: sheet.cards.iter().map(|c| card_words(c, &sheet.house.zone, now)).collect(),
        lines: sheet.lines.iter().map(|l| (l.label(), l.charge.to_string())).collect(),
        total: sheet.booking.total.to_string(),
        paid: sheet.booking.total.minor > 0,
        to_give_back: {
            let back: i64 = sheet.refunds.iter().map(|r| r.minor).sum();
            (back > 0).then(|| sheet.booking.total.currency.of(back).to_string())
        },
        dates: if sheet.covers.len() > 1 {
            sheet.covers.iter().map(|d| words::long_span(d.span.starts, d.span.ends)).collect()
        } else {
            Vec::new()
        },
        online: online(sheet),
        after_note: sheet.event.after_note.clone(),
    }
}

/// A stamp card in words: its letters, and what is on it.
#[must_use]
pub fn card_words(card: &HeldCard, zone: &str, now: Timestamp) -> (String, String) {
    let until = card.card.expires_at.map_or_else(
        || "good for ever".to_owned(),
        |until| format!("good until {}", words::moment(until, zone, now)),
    );
    let left = words::count(card.card.left, "stamps");
    (matricle_core::transfer::grouped(&card.code), format!("{}, {left} left, {until}", card.kind))
}

/// Where it happens online, for people booked; empty for events at a place.
#[must_use]
pub fn online(sheet: &WholeBooking) -> String {
    let event = &sheet.event;
    match (event.format, event.online_link.as_str(), event.online_passcode.as_str()) {
        (matricle_store::events::Format::InPerson, ..) => String::new(),
        (_, "", _) => "The link to join online will stand on your booking’s page in time.".into(),
        (_, link, "") => format!("Join online: {link}"),
        (_, link, code) => format!("Join online: {link} (passcode {code})"),
    }
}

/// The tickets of a booking, a page each.
///
/// # Errors
/// The PDF writer refuses.
pub fn tickets_pdf(sheet: &WholeBooking, now: Timestamp) -> Result<Vec<u8>, DeskError> {
    let span = &sheet.date.span;
    let standing: Vec<_> = sheet.attendees.iter().filter(|a| !a.cancelled).collect();
    let many = standing.len();
    let course = sheet.covers.len();
    let (day, times) = if course > 1 {
        let first = words::long_day(span.starts.date());
        (format!("{course} dates from {first}"), words::clock(span.starts))
    } else if span.starts.date() == span.ends.date() {
        let times = format!("{} to {}", words::clock(span.starts), words::clock(span.ends));
        (words::long_day(span.starts.date()), times)
    } else {
        let until =
            format!("until {}, {}", words::long_day(span.ends.date()), words::clock(span.ends));
        (words::long_day(span.starts.date()), format!("{} {until}", words::clock(span.starts)))
    };
    let pages: Vec<Ticket> = standing
        .into_iter()
        .enumerate()
        .map(|(i, a)| {
            let square = barcode::qr(a.code);
            Ticket {
                house: sheet.house.name.clone(),
                kind: if sheet.booking.test {
                    format!("TEST, lets nobody in · {}", sheet.event.kind)
                } else {
                    sheet.event.kind.clone()
                },
                title: sheet.event.title.clone(),
                day: day.clone(),
                times: times.clone(),
                place: sheet.date.place(),
                address: sheet.date.address.clone(),
                attendee: a.name.clone(),
                ticket: if many > 1 {
                    format!("{} · place {} of {many}", a.ticket, i + 1)
                } else {
                    a.ticket.clone()
                },
                booking: format!("Booking {} · {}", sheet.booking.reference, sheet.booking.name),
                code: a.code.to_string(),
                barcodes: Barcodes {
                    side: square.side,
                    square: square.dark,
                    bars: barcode::code128(a.code),
                },
            }
        })
        .collect();
    let title = format!("Tickets: {}, booking {}", sheet.event.title, sheet.booking.reference);
    Ok(tickets(&title, &pages, now)?)
}

fn calendar_file(
    sheet: &WholeBooking,
    host: &str,
    url: &str,
    cancelled: bool,
    now: Timestamp,
) -> String {
    let reference = sheet.booking.reference.as_str().to_lowercase();
    let entries: Vec<Entry> = sheet
        .covers
        .iter()
        .map(|date| Entry {
            uid: if sheet.covers.len() == 1 {
                format!("{reference}@{host}")
            } else {
                format!("{reference}-{}@{host}", date.id)
            },
            summary: sheet.event.title.clone(),
            description: format!(
                "{}\nBooking {}\n{url}",
                sheet.event.lead, sheet.booking.reference
            ),
            location: calendar::location(&date.place(), &date.address),
            url: url.into(),
            span: date.span.clone(),
            cancelled: cancelled || !date.called_off.is_empty(),
            sequence: date.sequence + u32::from(cancelled),
            changed_at: None,
            tags: Vec::new(),
        })
        .collect();
    calendar::file(&entries, now)
}

/// The tickets of a confirmed booking, for its own page.
///
/// # Errors
/// [`DeskError::NotFound`] unless it is confirmed and has tickets.
pub async fn tickets_of(desk: &Desk, reference: Reference) -> Result<Vec<u8>, DeskError> {
    let sheet = confirmed(desk, reference).await?;
    if sheet.attendees.iter().all(|a| a.cancelled) {
        return Err(DeskError::NotFound);
    }
    let now = desk.clock.now();
    tokio::task::spawn_blocking(move || tickets_pdf(&sheet, now))
        .await
        .map_err(|e| DeskError::Internal(e.to_string()))?
}

/// The calendar file of a confirmed booking, for its own page.
///
/// # Errors
/// [`DeskError::NotFound`] unless it is confirmed.
pub async fn calendar_of(desk: &Desk, reference: Reference) -> Result<String, DeskError> {
    let sheet = confirmed(desk, reference).await?;
    let url = desk.booking_url(reference);
    Ok(calendar_file(&sheet, desk.host(), &url, false, desk.clock.now()))
}

/// A booking with the one ticket of this code, for whoever it was passed to.
///
/// # Errors
/// [`DeskError::NotFound`] for another key, and unless the ticket is good.
pub async fn ticket(desk: &Desk, code: TicketCode, key: &str) -> Result<WholeBooking, DeskError> {
    if !desk.secrets.opens_ticket(code, key) {
        return Err(DeskError::NotFound);
    }
    desk.store
        .read(move |conn| {
            let found = bookings::of_ticket(conn, code)?.ok_or(DeskError::NotFound)?;
            let booking = bookings::by_id(conn, found.0)?.ok_or(DeskError::NotFound)?;
            let confirmed = booking.state == matricle_core::booking::State::Confirmed;
            let (sheet, _) = only(&whole::load(conn, booking)?, Some(found.1))
                .filter(|_| confirmed)
                .ok_or(DeskError::NotFound)?;
            Ok(sheet)
        })
        .await
}

/// The one ticket of this code, drawn.
///
/// # Errors
/// As [`ticket`].
pub async fn ticket_file(desk: &Desk, code: TicketCode, key: &str) -> Result<Vec<u8>, DeskError> {
    let (sheet, now) = (ticket(desk, code, key).await?, desk.clock.now());
    tokio::task::spawn_blocking(move || tickets_pdf(&sheet, now))
        .await
        .map_err(|e| DeskError::Internal(e.to_string()))?
}

/// The calendar file for whoever has the one ticket of this code.
///
/// # Errors
/// As [`ticket`].
pub async fn ticket_calendar(
    desk: &Desk,
    code: TicketCode,
    key: &str,
) -> Result<String, DeskError> {
    let sheet = ticket(desk, code, key).await?;
    let url = desk.ticket_url(code);
    Ok(calendar_file(&sheet, desk.host(), &url, false, desk.clock.now()))
}

async fn confirmed(desk: &Desk, reference: Reference) -> Result<WholeBooking, DeskError> {
    let sheet = desk.store.read(move |conn| whole::find(conn, reference)).await?;
    if sheet.booking.state == matricle_core::booking::State::Confirmed {
        Ok(sheet)
    } else {
        Err(DeskError::NotFound)
    }
}
