//! What goes with messages, and stands on the pages of their readers: tickets, calendar files,
//! the list of who comes.

use jiff::Timestamp;
use matricle_core::codes::{Reference, TicketCode};
use matricle_formats::calendar::{self, Entry, Handed, Method, Other, Party};
use matricle_formats::{barcode, words};
use matricle_papers::{Barcodes, Ticket, tickets};
use matricle_store::bookings;
use matricle_store::cards::HeldCard;
use matricle_store::events::{Date, Format};

use crate::bookings::whole::{self, WholeBooking};
use crate::{Desk, DeskError};

/// A booking with one of its people only, and the code of their ticket.
pub(crate) fn only(
    sheet: &WholeBooking,
    person: Option<usize>,
) -> Option<(WholeBooking, TicketCode)> {
    let mut only = sheet.clone();
    only.attendees.retain(|a| Some(a.person) == person && !a.cancelled);
    let code = only.attendees.first()?.code;
    Some((only, code))
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

/// Whose entry a calendar file is, and where it leads.
pub(crate) struct Theirs<'a> {
    /// The person of the booking who has a ticket of their own; the booker's otherwise.
    pub(crate) person: Option<usize>,
    /// Their own page.
    pub(crate) url: &'a str,
    /// The host of the house's addresses.
    pub(crate) host: &'a str,
}

/// The calendar file of a booking, or of one ticket of it: one entry with all its dates, whose
/// SEQUENCE never falls, whatever the booking goes through.
pub(crate) fn calendar_file(
    sheet: &WholeBooking,
    theirs: &Theirs<'_>,
    method: Method,
    to: Option<Party>,
    now: Timestamp,
) -> String {
    let reference = sheet.booking.reference.as_str().to_lowercase();
    let gone = method == Method::Cancel;
    let off = |date: &Date| gone || !date.called_off.is_empty();
    let place = |date: &Date| match sheet.event.format {
        Format::Online => "Online".to_owned(),
        Format::InPerson | Format::Both => calendar::location(&date.place(), &date.address),
    };
    // An entry that has several dates begins with its first.
    let mut dates: Vec<&Date> = sheet.covers.iter().collect();
    dates.sort_by_key(|d| (d.span.starts_at, d.id));
    let first = dates.first().copied().unwrap_or(&sheet.date);
    let steps: i64 = dates.iter().map(|d| i64::from(d.sequence)).sum();
    let entry = Entry {
        uid: match theirs.person {
            Some(person) => format!("{reference}-{person}@{}", theirs.host),
            None => format!("{reference}@{}", theirs.host),
        },
        summary: sheet.event.title.clone(),
        description: format!(
            "{}\nBooking {}\n{}",
            sheet.event.lead, sheet.booking.reference, theirs.url
        ),
        location: place(first),
        url: theirs.url.into(),
        span: first.span.clone(),
        cancelled: off(first),
        sequence: u32::try_from(steps + sheet.booking.calendar_steps).unwrap_or(0),
        changed_at: None,
        tags: Vec::new(),
        others: dates
            .iter()
            .skip(1)
            .map(|d| Other { span: d.span.clone(), location: place(d), cancelled: off(d) })
            .collect(),
    };
    let house = &sheet.house;
    let from = Party { name: house.name.clone(), address: house.email.clone() };
    calendar::file(&entry, &Handed { method, from, to }, now)
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
    let theirs = Theirs { person: None, url: &url, host: desk.host() };
    Ok(calendar_file(&sheet, &theirs, Method::Publish, None, desk.clock.now()))
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
    let person = sheet.attendees.first().map(|a| a.person);
    let theirs = Theirs { person, url: &url, host: desk.host() };
    Ok(calendar_file(&sheet, &theirs, Method::Publish, None, desk.clock.now()))
}

async fn confirmed(desk: &Desk, reference: Reference) -> Result<WholeBooking, DeskError> {
    let sheet = desk.store.read(move |conn| whole::find(conn, reference)).await?;
    if sheet.booking.state == matricle_core::booking::State::Confirmed {
        Ok(sheet)
    } else {
        Err(DeskError::NotFound)
    }
}
