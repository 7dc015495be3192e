//! What goes with messages, and stands on the pages of their readers: tickets, calendar files,
//! the list of who comes.

use jiff::Timestamp;
use matricle_core::dates::web_calendar::CalendarFacts;
use matricle_core::door::foyer::RoomKind;
use matricle_core::words::codes::{Reference, TicketCode};
use matricle_core::words::text::unlinked;
use matricle_formats::calendar::{self, Entry, Handed, Method, Other, Party};
use matricle_formats::{barcode, words};
use matricle_papers::{Barcodes, Ticket, tickets};
use matricle_store::bookings;
use matricle_store::cards::HeldCard;
use matricle_store::events::{Date, Format};

use crate::bench::{self, Takes};
use crate::bookings::whole::{self, Joins, WholeBooking};
use crate::drawn::paper;
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
    (
        matricle_core::money::transfer::grouped(&card.code),
        format!("{}, {left} left, {until}", card.kind),
    )
}

/// Their own links, by name, for those of a booking who join online.
#[must_use]
pub fn own_links(desk: &Desk, sheet: &WholeBooking) -> Vec<(String, String)> {
    let here = |person| sheet.attendees.iter().any(|a| a.person == person && !a.cancelled);
    let link = |j: &Joins| (j.name.clone(), desk.foyer_url(j.link.0, j.link.1));
    sheet.online.iter().filter(|j| here(j.person)).map(link).collect()
}

/// The room's own address and passcode, where the organiser wants them in mails.
fn in_mails(sheet: &WholeBooking) -> Option<(&str, &str)> {
    let how = &sheet.how;
    let (link, passcode) = match how.room {
        RoomKind::OfEvent => (&sheet.event.online_link, &sheet.event.online_passcode),
        RoomKind::Link => (&how.link, &how.passcode),
        RoomKind::Made | RoomKind::Shared => return None,
    };
    (how.in_mails && !link.is_empty()).then_some((link, passcode))
}

/// Where it happens online, for people booked, in words; empty for whoever comes to a place. The
/// room's own address is not among them, unless the organiser wants it to be.
#[must_use]
pub fn online(desk: &Desk, sheet: &WholeBooking) -> String {
    online_lines(desk, sheet).join(" ")
}

/// The same, each link on a line of its own where there are several.
pub(crate) fn online_lines(desk: &Desk, sheet: &WholeBooking) -> Vec<String> {
    let links = own_links(desk, sheet);
    match (in_mails(sheet), &links[..]) {
        (_, []) => Vec::new(),
        (Some((link, "")), _) => vec![format!("Join online: {link}")],
        (Some((link, code)), _) => vec![format!("Join online: {link} (passcode {code})")],
        (None, [(_, link)]) => vec![
            format!("Join online by your own link: {link}"),
            format!(
                "It opens the room {} before it starts, and is yours alone.",
                words::count(sheet.how.opens_minutes, "minutes")
            ),
        ],
        (None, many) => {
            let each = many.iter().map(|(name, link)| format!("{}: {link}", unlinked(name)));
            let lead = "Each joins online by a link of their own.".to_owned();
            std::iter::once(lead).chain(each).collect()
        }
    }
}

/// Where one click leads who joins online: their own link, or their booking where there are
/// several.
#[must_use]
pub(crate) fn join_link(desk: &Desk, sheet: &WholeBooking) -> String {
    match (in_mails(sheet), &own_links(desk, sheet)[..]) {
        (_, []) => String::new(),
        (Some((link, _)), _) => link.to_owned(),
        (None, [(_, link)]) => link.clone(),
        (None, _) => desk.booking_url(sheet.booking.reference),
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
    paper(&("tickets", &title, &pages), || Ok(tickets(&title, &pages, now)?))
}

/// Whose entry a calendar file is, and where it leads.
pub(crate) struct Theirs<'a> {
    /// The person of the booking who has a ticket of their own; the booker's otherwise.
    pub(crate) person: Option<usize>,
    /// Their own page.
    pub(crate) url: &'a str,
    /// The host of the house's addresses.
    pub(crate) host: &'a str,
    /// How they join online, in words; empty for whoever comes.
    pub(crate) online: String,
}

/// The calendar entry of a booking, or of one ticket of it: one for all its dates, whose SEQUENCE
/// never falls.
pub(crate) fn entry(sheet: &WholeBooking, theirs: &Theirs<'_>, gone: bool) -> Entry {
    let reference = sheet.booking.reference.as_str().to_lowercase();
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
    Entry {
        uid: match theirs.person {
            Some(person) => format!("{reference}-{person}@{}", theirs.host),
            None => format!("{reference}@{}", theirs.host),
        },
        summary: sheet.event.title.clone(),
        description: format!(
            "{}\nBooking {}\n{}{}",
            sheet.event.lead,
            sheet.booking.reference,
            theirs.url,
            match theirs.online.as_str() {
                "" => String::new(),
                online => format!("\n{online}"),
            }
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
    }
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
    let entry = entry(sheet, theirs, method == Method::Cancel);
    let house = &sheet.house;
    let from = Party { name: house.name.clone(), address: house.email.clone() };
    calendar::file(&entry, &Handed { method, from, to }, now)
}

/// Addresses at which a booking, or the one ticket of it, is put into the web calendars of the
/// house, by name. Of a course each holds its next date alone: the file has them all.
#[must_use]
pub fn web_calendars(
    desk: &Desk,
    sheet: &WholeBooking,
    url: &str,
    now: Timestamp,
) -> Vec<(String, String)> {
    let dates = || sheet.covers.iter().filter(|d| d.called_off.is_empty());
    let next = dates().filter(|d| d.span.ends_at > now).min_by_key(|d| d.span.starts_at);
    let Some(date) = next.or_else(|| dates().next()) else { return Vec::new() };
    let place = match sheet.event.format {
        Format::Online => "Online".to_owned(),
        Format::InPerson | Format::Both => calendar::location(&date.place(), &date.address),
    };
    let about = format!("{}\nBooking {}\n{url}", sheet.event.lead, sheet.booking.reference);
    let online = online(desk, sheet);
    let about = if online.is_empty() { about } else { format!("{about}\n{online}") };
    let facts = CalendarFacts {
        title: &sheet.event.title,
        starts: date.span.starts_at,
        ends: date.span.ends_at,
        place: &place,
        about: &about,
        link: url,
    };
    let all = &sheet.house.web_calendars;
    all.iter().map(|c| (c.name.clone(), c.address(&facts))).collect()
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
    bench::unless_busy(Takes::Place, move || tickets_pdf(&sheet, now)).await
}

/// The calendar file of a confirmed booking, for its own page.
///
/// # Errors
/// [`DeskError::NotFound`] unless it is confirmed.
pub async fn calendar_of(desk: &Desk, reference: Reference) -> Result<String, DeskError> {
    let sheet = confirmed(desk, reference).await?;
    let url = desk.booking_url(reference);
    let online = online(desk, &sheet);
    let theirs = Theirs { person: None, url: &url, host: desk.host(), online };
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
    bench::unless_busy(Takes::Place, move || tickets_pdf(&sheet, now)).await
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
    let online = online(desk, &sheet);
    let theirs = Theirs { person, url: &url, host: desk.host(), online };
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
