//! What the fields of a template say for one reader.

use std::collections::BTreeMap;

use jiff::Timestamp;
use matricle_core::booking::confirm::Way;
use matricle_core::messages::occasion::{Knows, Occasion};
use matricle_core::messages::replies::Reply;
use matricle_core::messages::template::{Value, Values};
use matricle_core::money::Currency;
use matricle_core::money::documents;
use matricle_core::people::unasked::LONGEST_CALLED;
use matricle_core::words::text::unlinked;
use matricle_core::{EventId, MessageId, booking};
use matricle_formats::barcode;
use matricle_formats::calendar::{Method, Party};
use matricle_formats::mail::File;
use matricle_formats::words;
use matricle_store::bookings::{self, Coming};
use matricle_store::documents::Document;
use matricle_store::events::{self, Date, Event, Format};
use matricle_store::house::House;
use matricle_store::outbox::{self, Message};
use matricle_store::{Connection, cards, invited, payments, submissions};

use crate::badges::{PaperChoice, ToDraw};
use crate::bookings::waiting::{self, Place};
use crate::bookings::whole::{self, WholeBooking};
use crate::messages::roster::roster_pdf;
use crate::messages::tickets::{
    Theirs, calendar_file, card_words, join_link, online, online_lines, only, tickets_pdf,
};
use crate::review::told;
use crate::telling::News;
use crate::telling::news;
use crate::{Desk, DeskError, house_of};

/// What a message is about, with everything of it.
#[derive(Debug, Clone)]
pub enum About {
    /// A booking, and for whom of it: the one holder of a ticket, or the booker.
    Booking {
        /// With everything about it.
        sheet: Box<WholeBooking>,
        /// It is for whoever has this one ticket.
        holder: bool,
        /// Stamps used on it and how many are left on the cards, in words; may be empty.
        stamps: String,
    },
    /// A place on a waiting list.
    Place(Box<Place>, Option<i64>),
    /// A date, for hosts and people of the house; or an event, for somebody invited.
    Event {
        /// The house.
        house: Box<House>,
        /// The event.
        event: Box<Event>,
        /// Its dates to come, or the one it is about.
        dates: Vec<Date>,
        /// Who comes to the one date it is about.
        coming: Vec<Coming>,
        /// Whom it is for; may be empty.
        name: String,
        /// The message that the links of an invitation are made of, for whoever is invited.
        invitation: Option<MessageId>,
    },
    /// What happened in the house, for somebody of it.
    House(Box<News>),
    /// A submission, for whoever sent it or for those who review.
    Submission(Box<told::Whole>),
}

impl About {
    /// The event, where it is about one.
    #[must_use]
    pub const fn event(&self) -> Option<EventId> {
        match self {
            Self::Booking { sheet, .. } => Some(sheet.event.id),
            Self::Place(place, _) => Some(place.event.id),
            Self::Event { event, .. } => Some(event.id),
            Self::House(_) | Self::Submission(_) => None,
        }
    }

    /// Whether it is about a booking that was made to try the steps out.
    #[must_use]
    pub const fn is_test(&self) -> bool {
        match self {
            Self::Booking { sheet, .. } => sheet.booking.test,
            Self::Place(..) | Self::Event { .. } | Self::House(_) | Self::Submission(_) => false,
        }
    }

    /// The codes of its tickets as pictures.
    pub(crate) fn pictures(&self) -> Vec<File> {
        let Self::Booking { sheet, .. } = self else { return Vec::new() };
        shown(sheet)
            .enumerate()
            .map(|(i, a)| File {
                name: format!("code-{i}"),
                media_type: "image/png".into(),
                bytes: barcode::png(&barcode::qr(a.code)),
            })
            .collect()
    }

    /// The tickets as a file; nothing where there are none that are good.
    pub(crate) fn tickets(&self, now: Timestamp) -> Result<Option<File>, DeskError> {
        let Self::Booking { sheet, holder, .. } = self else { return Ok(None) };
        let good = sheet.booking.state == booking::State::Confirmed
            && sheet.attendees.iter().any(|a| !a.cancelled)
            && !is_online(sheet);
        if !good {
            return Ok(None);
        }
        let name = if *holder { "ticket" } else { "tickets" };
        Ok(Some(File {
            name: format!("{name}-{}.pdf", sheet.booking.reference),
            media_type: "application/pdf".into(),
            bytes: tickets_pdf(sheet, now)?,
        }))
    }

    /// What calendars read in a message about a booking: an invitation, news of it, or that it is
    /// over. Nothing for whoever does not want that.
    pub(crate) fn calendar(
        &self,
        desk: &Desk,
        message: &Message,
        to: String,
        now: Timestamp,
    ) -> Option<File> {
        let Self::Booking { sheet, holder, .. } = self else { return None };
        // Who buys stamp cards only comes to nothing.
        if sheet.attendees.is_empty() || sheet.booking.calendar_off {
            return None;
        }
        let gone = sheet.booking.state == booking::State::Cancelled
            || message.occasion() == Some(Occasion::PassedBack)
            || !*holder && sheet.is_all_passed()
            || sheet.covers.iter().all(|d| !d.called_off.is_empty());
        let method = match sheet.booking.state {
            _ if gone => Method::Cancel,
            booking::State::Confirmed => Method::Request,
            _ => return None,
        };
        let url = link_of(desk, sheet, *holder);
        let person = sheet.attendees.first().map(|a| a.person).filter(|_| *holder);
        let online = online(desk, sheet);
        let theirs = Theirs { person, url: &url, host: desk.host(), online };
        let to = Party { name: to, address: message.address.clone() };
        Some(File {
            name: "date.ics".into(),
            media_type: format!("text/calendar; charset=utf-8; method={}", method.word()),
            bytes: calendar_file(sheet, &theirs, method, Some(to), now).into_bytes(),
        })
    }

    /// The invoice of what is to be paid by transfer, or else the latest receipt.
    pub(crate) fn bill(&self) -> Result<Option<File>, DeskError> {
        let Self::Booking { sheet, .. } = self else { return Ok(None) };
        let Some(found) = invoice(sheet).or_else(|| receipt(sheet)) else { return Ok(None) };
        Ok(Some(File {
            name: format!("{}.pdf", found.name()),
            media_type: "application/pdf".into(),
            bytes: crate::bookings::bills::draw(found, &sheet.house.zone)?,
        }))
    }

    /// The list of who comes.
    pub(crate) fn roster(&self, now: Timestamp) -> Result<Option<File>, DeskError> {
        match self {
            Self::Event { house, event, dates, coming, .. } if !coming.is_empty() => {
                let Some(date) = dates.first() else { return Ok(None) };
                Ok(Some(File {
                    name: "who-comes.pdf".into(),
                    media_type: "application/pdf".into(),
                    bytes: roster_pdf(&house.name, event, date, coming, now)?,
                }))
            }
            _ => Ok(None),
        }
    }
}

/// The badges that go with a message: of its reader, of their booking, or of a whole date.
pub(crate) fn badges(
    conn: &Connection,
    about: &About,
    message: &Message,
) -> Result<Option<ToDraw>, DeskError> {
    let asked = PaperChoice::kept(&message.knows.paper);
    match about {
        About::Booking { sheet, holder, .. } => {
            let person = message.reader.split_once('.').and_then(|(_, no)| no.parse().ok());
            let whose = (sheet.booking.id, person.filter(|_| *holder));
            ToDraw::of_booking(conn, sheet.date.id, whose, asked)
        }
        About::Event { dates, .. } => match (message.date, dates.first()) {
            (Some(_), Some(date)) => ToDraw::of_date(conn, date.id, asked),
            _ => Ok(None),
        },
        About::Place(..) | About::House(_) | About::Submission(_) => Ok(None),
    }
}

/// The people of a booking whose codes are shown.
fn shown(sheet: &WholeBooking) -> impl Iterator<Item = &bookings::Attendee> {
    let good = sheet.booking.state == booking::State::Confirmed && !is_online(sheet);
    sheet.attendees.iter().filter(move |a| good && !a.cancelled)
}

/// Everybody of it joins online: a code for a door would only mislead them.
#[must_use]
pub fn is_online(sheet: &WholeBooking) -> bool {
    match sheet.event.format {
        Format::InPerson => false,
        Format::Online => true,
        Format::Both => {
            let standing: Vec<_> = sheet.attendees.iter().filter(|a| !a.cancelled).collect();
            !standing.is_empty()
                && standing
                    .iter()
                    .all(|a| sheet.lines.iter().any(|l| l.ticket == a.ticket_type && l.online))
        }
    }
}

fn invoice(sheet: &WholeBooking) -> Option<&Document> {
    let open = sheet.booking.due().minor > 0 && sheet.house.payee().takes_transfers();
    sheet.documents.iter().rev().find(|d| open && d.kind == documents::Kind::Invoice)
}

fn receipt(sheet: &WholeBooking) -> Option<&Document> {
    sheet.documents.iter().rev().find(|d| d.kind == documents::Kind::Receipt)
}

/// Reads what a message is about.
///
/// # Errors
/// [`DeskError::NotFound`] when it is gone; the store fails.
pub(crate) fn about(
    conn: &Connection,
    message: &Message,
    now: Timestamp,
) -> Result<About, DeskError> {
    match (message.about, message.waiter) {
        (_, Some(waiter)) => {
            let place = waiting::place_of(conn, waiter)?;
            let price = waiting::price_of(conn, &place.waiter, now);
            Ok(About::Place(Box::new(place), price))
        }
        (outbox::About::Booking(id), None) => {
            let booking = bookings::by_id(conn, id)?.ok_or(DeskError::NotFound)?;
            // A message of one date of a course speaks of that date.
            let mut sheet = whole::load(conn, booking)?;
            if let Some(date) = message.date.or(message.knows.date)
                && let Some((_, date)) = events::date_by_id(conn, date)?
            {
                sheet.date = date;
            }
            if let Some(card) = message.reader.strip_prefix('c').and_then(|c| c.parse::<i64>().ok())
            {
                sheet.cards.retain(|c| c.id == card);
            }
            if message.occasion() == Some(Occasion::PassedBack) && !message.knows.holder.is_empty()
            {
                // Whoever had it until then reads their own name: who has it now is not theirs to know.
                let whose = message.knows.person;
                for theirs in sheet.attendees.iter_mut().filter(|a| Some(a.person) == whose) {
                    theirs.name.clone_from(&message.knows.holder);
                }
            }
            let stamps = stamps(conn, &sheet)?;
            let person = message
                .reader
                .split_once('.')
                .and_then(|(_, person)| person.parse().ok())
                // The booker hears of it as the booker: the ticket is the other's alone.
                .or(message.knows.person.filter(|_| {
                    message.occasion().is_some_and(Occasion::is_of_ticket)
                        && !message.reader.starts_with('b')
                }));
            let (sheet, holder) = match person {
                None => (sheet, false),
                Some(person) => match only(&sheet, Some(person)) {
                    Some((only, _)) => (only, true),
                    // Their ticket is gone: they are told that it is, of what they had.
                    None => {
                        sheet.attendees.retain(|a| a.person == person);
                        (sheet, true)
                    }
                },
            };
            Ok(About::Booking { sheet: Box::new(sheet), holder, stamps })
        }
        (outbox::About::House(person), None) => {
            let news = news(conn, person, &message.knows, now)?.ok_or(DeskError::NotFound)?;
            Ok(About::House(Box::new(news)))
        }
        (outbox::About::Submission(id, _), None) => {
            let s = submissions::by_id(conn, id)?.ok_or(DeskError::NotFound)?;
            let (occasion, joined) = (message.occasion(), message.knows.event);
            let whole = told::about(conn, s, occasion, &message.reader, joined)?;
            Ok(About::Submission(Box::new(whole)))
        }
        (outbox::About::Event(id), None) => {
            let event = events::by_id(conn, id)?.ok_or(DeskError::NotFound)?;
            let dates = match message.date {
                Some(date) => events::date_by_id(conn, date)?.map(|(_, d)| d).into_iter().collect(),
                None => events::dates_of(conn, id)?
                    .into_iter()
                    .filter(|d| d.called_off.is_empty() && d.span.starts_at > now)
                    .take(6)
                    .collect::<Vec<_>>(),
            };
            let coming = match message.date {
                Some(date) => bookings::coming(conn, id, bookings::Which::Date(date))?,
                None => Vec::new(),
            };
            let name = name_of(conn, message)?;
            let house = Box::new(house_of(conn)?);
            let invitation = match message.occasion() {
                // Of one that is looked at before it goes, too.
                Some(Occasion::Invited) => Some(message.id),
                Some(Occasion::Announced) => invited::by_email(conn, id, &message.address)?
                    .filter(|i| i.handed_to.is_empty())
                    .and_then(|i| i.message),
                _ => None,
            };
            Ok(About::Event { house, event: Box::new(event), dates, coming, name, invitation })
        }
    }
}

/// The field that leads to a reply.
const fn reply_field(reply: Reply) -> &'static str {
    match reply {
        Reply::Yes => "yes link",
        Reply::Maybe => "maybe link",
        Reply::No => "no link",
    }
}

/// The name of whoever a message about an event is for.
fn name_of(conn: &Connection, message: &Message) -> Result<String, DeskError> {
    if let Some(waiter) = message.reader.strip_prefix('w').and_then(|w| w.parse::<i64>().ok())
        && let Some(waiter) = matricle_store::waiting::by_id(conn, waiter)?
    {
        return Ok(waiter.name);
    }
    let known = matricle_store::people::name_of(conn, &message.address)?;
    match message.about {
        // Who is known by nothing but a list has the name that stood on it.
        outbox::About::Event(event) if known.is_empty() => {
            Ok(invited::name_of(conn, event, &message.address)?)
        }
        _ => Ok(known),
    }
}

/// Stamps used, and what is left, in words.
fn stamps(conn: &Connection, sheet: &WholeBooking) -> Result<String, DeskError> {
    let mut said = Vec::new();
    for payment in &sheet.payments {
        for (card, used, _) in cards::used_for(conn, &payment.id)? {
            let Some(held) = cards::by_id(conn, card)? else { continue };
            let used = u32::try_from(used.abs()).unwrap_or(0);
            said.push(format!(
                "Used of {}: {}, {} left.",
                held.kind,
                words::count(used, "stamps"),
                words::count(held.card.left, "stamps")
            ));
        }
    }
    Ok(said.join(" "))
}

/// What the subject of a message may say that a stranger's act makes go: nothing that people typed
/// as a name, since whoever reads it may know none of them.
pub(crate) fn for_a_stranger(values: &Values) -> Values {
    let mut values = values.clone();
    for field in ["name", "first name", "booker", "holder"] {
        values.remove(field);
    }
    values.insert("greeting", Value::line("Hello"));
    values
}

/// Whom a message greets, for its `To`.
pub(crate) fn receiver(values: &Values) -> String {
    match values.get("name") {
        Some(Value::Line(name)) => name.clone(),
        _ => String::new(),
    }
}

fn link_of(desk: &Desk, sheet: &WholeBooking, holder: bool) -> String {
    match sheet.attendees.first() {
        Some(first) if holder => desk.ticket_url(first.code),
        _ => desk.booking_url(sheet.booking.reference),
    }
}

/// A time in its lengths.
fn when(date: &Date, here: &str, now: Timestamp) -> Value {
    let span = &date.span;
    let elsewhere = words::zone(here) != words::zone(&span.zone);
    let zone = if elsewhere { format!(" ({} time)", span.zone) } else { String::new() };
    Value::When {
        long: format!("{}{zone}", words::long_span(span.starts, span.ends)),
        short: short_day(date, now),
        day: words::long_day(span.starts.date()),
        clock: words::clock(span.starts),
    }
}

fn short_day(date: &Date, now: Timestamp) -> String {
    words::day(date.span.starts.date(), words::local(now, &date.span.zone).date())
}

/// An instant in its lengths, never with a word that is only true on the day it is written.
fn instant(at: Timestamp, zone: &str) -> Value {
    let local = words::local(at, zone);
    // A midnight is the end of the day before.
    let midnight = local.hour() == 0 && local.minute() == 0;
    let shown = if midnight { local.datetime().yesterday_or_same() } else { local.datetime() };
    let day = words::long_day(shown.date());
    let clock = words::clock(local.datetime());
    let short = shown.strftime("%a %-d %B").to_string();
    if midnight {
        Value::When { long: format!("the end of {day}"), short, day, clock: "24:00".into() }
    } else {
        Value::When {
            long: format!("{day}, {clock}"),
            short: format!("{short}, {clock}"),
            day,
            clock,
        }
    }
}

trait Yesterday {
    fn yesterday_or_same(self) -> Self;
}

impl Yesterday for jiff::civil::DateTime {
    fn yesterday_or_same(self) -> Self {
        self.checked_sub(jiff::Span::new().days(1)).unwrap_or(self)
    }
}

/// How a message opens. Somebody who has not yet given a name is greeted without one.
fn greeting(name: &str) -> String {
    match called(name).as_str() {
        "" => "Hello".into(),
        name => format!("Dear {name}"),
    }
}

/// A name as somebody is called by it, who has perhaps never typed it: no longer than a name is,
/// and with nothing in it that leads anywhere.
fn called(name: &str) -> String {
    unlinked(&name.chars().take(LONGEST_CALLED).collect::<String>())
}

fn names(values: &mut Values, name: &str, house: &House) {
    values.insert("house", Value::line(&house.name));
    values.insert("our address", Value::line(&house.email));
    values.insert("name", Value::line(called(name)));
    let first = name.split_whitespace().next().unwrap_or_default();
    values.insert("first name", Value::line(unlinked(first)));
    values.insert("greeting", Value::line(greeting(name)));
}

fn of_event(values: &mut Values, desk: &Desk, event: &Event) {
    values.insert("event", Value::line(&event.title));
    values.insert("lead", Value::line(&event.lead));
    let page = format!("{}/events/{}", desk.public_url, event.slug);
    values.insert("event page", Value::Link(page));
    values.insert("bring", Value::line(&event.bring));
    values.insert("note", Value::line(&event.after_note));
    values.insert("cancelling", Value::line(&event.refund_note));
}

fn of_date(values: &mut Values, date: &Date, covers: &[Date], house: &House, now: Timestamp) {
    values.insert("when", when(date, &house.zone, now));
    values.insert("place", Value::line(date.place()));
    values.insert("address", Value::line(&date.address));
    values.insert("directions", Value::line(&date.directions));
    values.insert("hosts", Value::line(&date.hosts));
    let standing: Vec<&Date> = covers.iter().filter(|d| d.called_off.is_empty()).collect();
    values.insert("course", Value::Holds(covers.len() > 1));
    if covers.len() > 1 {
        let lines = standing.iter().map(|d| words::long_span(d.span.starts, d.span.ends)).collect();
        values.insert("dates", Value::Lines(lines));
    }
}

/// What all fields say for one reader of a message.
pub(crate) fn of(
    desk: &Desk,
    conn: &Connection,
    about: &About,
    message: &Message,
    now: Timestamp,
) -> Result<Values, DeskError> {
    let mut values = Values::new();
    match about {
        About::Booking { sheet, holder, stamps } => {
            of_booking(&mut values, desk, sheet, *holder, &message.knows, now);
            values.insert("stamps", Value::line(stamps));
            of_occasion(&mut values, sheet, &message.knows);
            if !message.reader.starts_with(['b', 'c']) {
                of_others(&mut values, desk, conn, sheet, message)?;
            }
            let pays = payments::of_booking(conn, sheet.booking.id)?;
            let paid: i64 = pays
                .iter()
                .filter(|p| p.state == payments::PaymentState::Paid)
                .map(|p| p.amount_minor)
                .sum();
            if sheet.booking.paid.minor > 0 && paid > 0 {
                values.insert("paid", Value::line(sheet.booking.paid.to_string()));
            }
        }
        About::Place(place, price) => of_place(&mut values, desk, place, *price, now),
        About::Event { house, event, dates, coming, name, invitation } => {
            names(&mut values, name, house);
            of_event(&mut values, desk, event);
            if message.date.is_some()
                && let Some(date) = dates.first()
            {
                of_date(&mut values, date, &[], house, now);
            } else {
                let lines = dates
                    .iter()
                    .map(|d| {
                        let place = d.place();
                        let at = if place.is_empty() { place } else { format!(", {place}") };
                        format!("{}{at}", words::long_span(d.span.starts, d.span.ends))
                    })
                    .collect();
                values.insert("dates", Value::Lines(lines));
            }
            of_coming(&mut values, coming);
            of_knows(&mut values, &message.knows);
            if let Some(id) = invitation {
                let link = desk.invitation_url(*id);
                for reply in Reply::ALL {
                    let to = format!("{link}/reply?say={}", reply.word());
                    values.insert(reply_field(reply), Value::Link(to));
                }
                values.insert("invitation link", Value::Link(link));
            }
        }
        About::House(news) => {
            names(&mut values, &news.name, &news.house);
            values.insert("news", Value::Pairs(news.lines.clone()));
            let since = message.knows.since.unwrap_or(message.planned_at);
            values.insert("since", instant(since, &news.house.zone));
        }
        About::Submission(whole) => of_submission(&mut values, desk, whole, message, now),
    }
    if message.occasion() == Some(Occasion::Announced) {
        let to = desk.unsubscribe_url(&message.address);
        values.insert("unsubscribe", Value::Link(to));
    }
    Ok(values)
}

fn of_submission(
    values: &mut Values,
    desk: &Desk,
    whole: &told::Whole,
    message: &Message,
    now: Timestamp,
) {
    let (s, knows) = (&whole.submission, &message.knows);
    if message.occasion() == Some(Occasion::ToReview) {
        names(values, "", &whole.house);
        values.insert("waiting", Value::Pairs(whole.waiting.clone()));
        let n = u32::try_from(whole.waiting.len()).unwrap_or(u32::MAX);
        values.insert("how many wait", Value::line(words::count(n, "submissions")));
        values.insert("review link", Value::Link(format!("{}/office/review", desk.public_url)));
        return;
    }
    names(values, &s.name, &whole.house);
    values.insert("submission", Value::line(unlinked(&s.title)));
    values.insert("submission state", Value::line(s.state.word()));
    values.insert("submission link", Value::Link(desk.submission_url(s.id, &s.email)));
    values.insert("of a change", Value::Holds(knows.whole));
    let typed = s.change.as_ref().filter(|_| knows.whole).unwrap_or(&s.typed);
    values.insert("copy", Value::Pairs(told::copy(typed, &whole.house, now)));
    let said = knows.word.lines().map(String::from).collect();
    values.insert("reviewer words", Value::Lines(said));
    values.insert("same as", Value::line(unlinked(&knows.holder)));
    let corrected = knows.corrected.iter().map(|(label, before, after)| {
        let before = if before.is_empty() { "nothing" } else { before };
        let after = if after.is_empty() { "nothing" } else { after };
        (label.clone(), format!("{before} → {after}"))
    });
    values.insert("corrections", Value::Pairs(corrected.collect()));
    if !whole.slug.is_empty() {
        let page = format!("{}/events/{}", desk.public_url, whole.slug);
        values.insert("published at", Value::Link(page));
    }
}

/// Somebody who comes, for a list.
fn coming_words(coming: &Coming) -> (String, String) {
    let mut what = vec![coming.ticket.clone()];
    if coming.booker != coming.name {
        what.push(format!("booked by {}", coming.booker));
    }
    what.extend(coming.answers.iter().map(|(q, a)| format!("{q} {a}")));
    if !coming.notes.is_empty() {
        what.push(format!("Note: {}", coming.notes));
    }
    (coming.name.clone(), what.join("; "))
}

/// Who comes to a date.
fn of_coming(values: &mut Values, coming: &[bookings::Coming]) {
    values.insert("who comes", Value::Pairs(coming.iter().map(coming_words).collect()));
    let people = u32::try_from(coming.len()).unwrap_or(u32::MAX);
    values.insert("how many", Value::line(words::people(people)));
}

/// What somebody hears of a booking that is not theirs: they are greeted by their own name, are
/// told who comes, and are led to the Office, which asks who they are. The booking's own address
/// is its booker's.
fn of_others(
    values: &mut Values,
    desk: &Desk,
    conn: &Connection,
    sheet: &WholeBooking,
    message: &Message,
) -> Result<(), DeskError> {
    names(values, &name_of(conn, message)?, &sheet.house);
    let reference = sheet.booking.reference;
    let office = format!("{}/office/bookings/{}", desk.public_url, reference.as_str());
    values.insert("link", Value::Link(office));
    values.insert("link words", Value::line(format!("Open booking {reference} at the Office")));
    let coming = bookings::coming(conn, sheet.event.id, bookings::Which::Date(sheet.date.id))?;
    of_coming(values, &coming);
    Ok(())
}

fn of_booking(
    values: &mut Values,
    desk: &Desk,
    sheet: &WholeBooking,
    holder: bool,
    knows: &Knows,
    now: Timestamp,
) {
    let booking = &sheet.booking;
    let first = sheet.attendees.first().filter(|_| holder);
    let name = first.map_or(booking.booker(), |a| a.name.as_str());
    names(values, name, &sheet.house);
    of_event(values, desk, &sheet.event);
    of_date(values, &sheet.date, &sheet.covers, &sheet.house, now);
    let online_all = is_online(sheet);
    values.insert("in person", Value::Holds(!online_all));
    let confirmed = booking.state == booking::State::Confirmed;
    let says_online = sheet.event.format == Format::Online || online_all;
    if confirmed && (says_online || sheet.event.format == Format::Both) {
        let of_some = sheet.lines.iter().any(|l| l.online) || says_online;
        if of_some {
            values.insert("online", Value::Ways(online_lines(desk, sheet)));
            values.insert("join link", Value::Link(join_link(desk, sheet)));
        }
    }
    if online_all {
        // Who joins from home needs no way there.
        for field in ["place", "address", "directions"] {
            values.remove(field);
        }
    }
    values.insert("reference", Value::line(booking.reference.to_string()));
    values.insert("link", Value::Link(link_of(desk, sheet, holder)));
    let what = match booking.state {
        _ if holder => "Open your ticket".to_owned(),
        booking::State::Held | booking::State::Lapsed => "Go on with your booking".to_owned(),
        _ => format!("Open booking {}", booking.reference),
    };
    values.insert("link words", Value::line(what));
    values.insert("booker", Value::line(called(booking.booker())));
    let standing: Vec<_> = sheet.attendees.iter().filter(|a| !a.cancelled).collect();
    if confirmed && !online_all {
        let tickets = standing
            .iter()
            .map(|a| (a.code.to_string(), format!("{}, {}", unlinked(&a.name), a.ticket)))
            .collect();
        values.insert("tickets", Value::Pairs(tickets));
        let codes = shown(sheet)
            .enumerate()
            .map(|(i, a)| {
                (format!("code-{i}"), format!("Code {} of {}", a.code, unlinked(&a.name)))
            })
            .collect();
        values.insert("codes", Value::Pictures(codes));
    }
    let party = u32::try_from(standing.len()).unwrap_or(u32::MAX);
    values.insert("party", Value::line(words::people(party)));
    values.insert("several", Value::Holds(party > 1));
    let signed: Vec<String> = sheet
        .sessions
        .iter()
        .filter_map(|session| {
            let who: Vec<String> = standing
                .iter()
                .filter(|a| sheet.sign_ups.contains(&(a.id, session.facts.id)))
                .map(|a| unlinked(&a.name))
                .collect();
            let at = words::clock(session.span.starts);
            (!who.is_empty()).then(|| format!("{at} {}: {}", session.title, who.join(", ")))
        })
        .collect();
    values.insert("sessions", Value::Lines(signed));
    if !holder {
        of_money(values, sheet, now);
    }
    values.insert("after a yes", Value::Holds(sheet.way() == Way::AfterYes));
    let keeps = matches!(booking.state, booking::State::Held | booking::State::AwaitingPayment);
    if let Some(until) = booking.deadline.filter(|d| keeps && *d > now) {
        values.insert("keeps seats", instant(until, &sheet.house.zone));
    }
    values.insert("word", Value::line(&knows.word));
}

fn of_money(values: &mut Values, sheet: &WholeBooking, now: Timestamp) {
    let booking = &sheet.booking;
    let cards = sheet.cards.iter().map(|c| card_words(c, &sheet.house.zone, now)).collect();
    values.insert("cards", Value::Pairs(cards));
    let lines = sheet.lines.iter().filter(|l| l.quantity > 0);
    let lines = lines.map(|l| (l.label(), l.charge.to_string())).collect();
    values.insert("lines", Value::Pairs(lines));
    if booking.total.minor > 0 {
        values.insert("total", Value::line(booking.total.to_string()));
    }
    if booking.due().minor > 0 && booking.state != booking::State::Cancelled {
        values.insert("to pay", Value::line(booking.due().to_string()));
    }
    let promos: Vec<String> = sheet.promos.iter().map(|p| p.code.clone()).collect();
    values.insert("promo code", Value::line(promos.join(", ")));
    if let Some(by) = booking.deadline.filter(|_| booking.state == booking::State::AwaitingPayment)
    {
        values.insert("pay by", instant(by, &sheet.house.zone));
    }
    if invoice(sheet).is_some() {
        let lines = crate::money::documents::transfer_lines(&sheet.house, booking);
        let lines = lines.into_iter().map(|(name, value)| format!("{name}: {value}")).collect();
        values.insert("transfer", Value::Lines(lines));
    }
    if let Some(receipt) = receipt(sheet) {
        values.insert("receipt", Value::line(receipt.name()));
    }
}

/// What an occasion of a whole date knows.
fn of_knows(values: &mut Values, knows: &Knows) {
    if let Some((starts, ends)) = knows.before {
        let long = words::long_span(starts, ends);
        let day = words::long_day(starts.date());
        let short = starts.strftime("%a %-d %B, %H:%M").to_string();
        values.insert("before", Value::When { long, short, day, clock: words::clock(starts) });
        values.insert("place before", Value::line(&knows.place_before));
    }
    values.insert("reason", Value::line(&knows.reason));
}

fn of_occasion(values: &mut Values, sheet: &WholeBooking, knows: &Knows) {
    let currency: Currency = sheet.booking.total.currency;
    of_knows(values, knows);
    values.insert("change", Value::line(&knows.change));
    values.insert("came", Value::line(unlinked(&knows.came)));
    values.insert("whole date", Value::Holds(knows.whole));
    values.insert("by the house", Value::Holds(knows.by_house));
    values.insert("holder", Value::line(called(&knows.holder)));
    let off: Vec<String> = sheet
        .covers
        .iter()
        .filter(|d| !d.called_off.is_empty())
        .map(|d| words::long_span(d.span.starts, d.span.ends))
        .collect();
    values.insert("called off", Value::line(off.join("; ")));
    let owed: i64 = sheet.refunds.iter().map(|r| r.minor).sum();
    let back = knows.back.unwrap_or(owed);
    if back > 0 {
        values.insert("back", Value::line(currency.of(back).to_string()));
    }
    let kept = knows.kept.unwrap_or(match sheet.booking.state {
        booking::State::Cancelled => sheet.booking.total.minor,
        _ => 0,
    });
    if kept > 0 {
        values.insert("kept", Value::line(currency.of(kept).to_string()));
    }
}

fn of_place(values: &mut Values, desk: &Desk, place: &Place, price: Option<i64>, now: Timestamp) {
    names(values, &place.waiter.name, &place.house);
    of_event(values, desk, &place.event);
    of_date(values, &place.date, &[], &place.house, now);
    let waiter = &place.waiter;
    values.insert("wanted", Value::line(place.tickets.join(", ")));
    values.insert("place in line", Value::line(place.place.to_string()));
    values.insert("line", Value::line(place.line.to_string()));
    if let Some(minor) = price.filter(|p| *p > 0) {
        values.insert("price", Value::line(place.house.currency.of(minor).to_string()));
    }
    values.insert(
        "waits",
        Value::Holds(waiter.stands == matricle_core::seats::waiting::Stands::Waiting),
    );
    let key = desk.secrets.waiting_key(waiter.id);
    let mine = format!("{}/waiting/{}/{key}", desk.public_url, waiter.id);
    values.insert("list link", Value::Link(mine));
    if let Some(offer) = place.offer.as_ref().filter(|o| o.state == booking::State::Held) {
        if let Some(until) = offer.deadline {
            values.insert("offer until", instant(until, &place.house.zone));
        }
        values.insert("take link", Value::Link(desk.booking_url(offer.reference)));
    }
}

/// A made-up reader, for looking at a template before anybody has booked: every field says what
/// it is for.
#[must_use]
pub(crate) fn made_up() -> Values {
    let mut values: BTreeMap<&'static str, Value> = BTreeMap::new();
    for field in matricle_core::messages::template::FIELDS {
        use matricle_core::messages::template::Shape;
        let says = match field.name {
            "house" => "Our house",
            "name" => "Wilma Thorne",
            "first name" => "Wilma",
            "greeting" => "Dear Wilma Thorne",
            "event" => "Is beekeeping for me?",
            "place" => "Millrace Barn, Loft",
            "reference" => "KRT-BXN-LDF",
            "link words" => "Open booking KRT-BXN-LDF",
            "total" | "to pay" | "paid" | "back" | "kept" | "price" => "€12.00",
            _ => field.says,
        };
        let value = match field.shape {
            Shape::Line => Value::line(says),
            Shape::Block => Value::Lines(vec![says.to_owned()]),
            Shape::When => Value::When {
                long: "Saturday 12 December 2026, 10:00 to 15:30".into(),
                short: "Sat 12 December".into(),
                day: "Saturday 12 December 2026".into(),
                clock: "10:00".into(),
            },
            Shape::Link => Value::Link("https://club.example/made-up".into()),
            Shape::Holds => Value::Holds(true),
        };
        values.insert(field.name, value);
    }
    values
}
