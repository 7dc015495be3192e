//! What is to be made: events, dates, tickets, questions, sessions, slots.

use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use matricle_core::booking::Rules;
use matricle_core::booking::confirm::Way;
use matricle_core::booking::details::Answering;
use matricle_core::dates::schedule::{SaleWindow, Span, SpanError};
use matricle_core::money::price::{Early, Group};
use matricle_core::people::who::Who;
use serde::{Deserialize, Serialize};

use crate::events::event::{EventState, Format};

/// An event to be written down, with everything that belongs to it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct NewEvent {
    /// Its address in the Programme.
    pub slug: String,
    /// Its title.
    pub title: String,
    /// What kind of event.
    pub kind: String,
    /// One sentence.
    pub lead: String,
    /// Sanitised HTML.
    pub description: String,
    /// What to bring.
    pub bring: String,
    /// The cancellation steps in words.
    pub refund_note: String,
    /// Its state.
    pub state: EventState,
    /// How long chosen seats are kept, in minutes.
    pub hold_minutes: i64,
    /// The word on the booking button.
    pub button: String,
    /// Shown and mailed after booking.
    pub after_note: String,
    /// Only for those with the link.
    pub unlisted: bool,
    /// In person, online, or both.
    pub format: Format,
    /// Where it happens online.
    pub online_link: String,
    /// The passcode there.
    pub online_passcode: String,
    /// One booking covers all dates.
    pub course: bool,
    /// A course that has begun may still be booked.
    pub latecomers: bool,
    /// Who may book.
    pub who: Who,
    /// One booking a person.
    pub once: bool,
    /// What may happen to its bookings once they are made.
    pub rules: Rules,
    /// Slugs of its tags.
    pub tags: Vec<String>,
    /// Names of the pools; the first is the one its strip shows.
    pub pools: Vec<String>,
    /// Ticket types in their order.
    pub tickets: Vec<NewTicketType>,
    /// Questions in their order.
    pub questions: Vec<NewQuestion>,
    /// Its dates.
    pub dates: Vec<NewDate>,
    /// How its slots are cut, if it has slots.
    pub slots: Option<SlotPlan>,
    /// The colour of its page; empty for the house's.
    pub accent: String,
    /// Nobody books: people just come.
    pub drop_in: bool,
    /// What it costs then, in words.
    pub price_words: String,
    /// Whom to ask.
    pub contact: String,
}

/// A ticket type to be written down.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct NewTicketType {
    /// Its name.
    pub name: String,
    /// A line of explanation.
    pub note: String,
    /// Price of one in minor units.
    pub minor: i64,
    /// The early price.
    pub early: Option<Early>,
    /// The price for members.
    pub member: Option<i64>,
    /// The price by group size.
    pub group: Option<Group>,
    /// The name of its tax rate.
    pub tax: Option<String>,
    /// When it is sold.
    pub sale: SaleWindow,
    /// How many for one date.
    pub per_date: Option<u32>,
    /// The fewest in one booking, if any.
    pub least: u32,
    /// The most in one booking.
    pub most: u32,
    /// People one lets in.
    pub admits: u32,
    /// Shown only to those who give this word.
    pub word: String,
    /// Sold to members only.
    pub members_only: bool,
    /// Its people join online, where the event is both.
    #[serde(default)]
    pub online: bool,
    /// Sold only to whoever has proved one of these addresses; empty for everybody.
    pub invited: Vec<String>,
    /// Taken off sale by hand.
    pub closed: bool,
    /// Stamps that one costs, where stamps are taken for it.
    pub stamps: Option<u32>,
    /// The name of the kind of stamp card that one is: it lets nobody in.
    pub card: Option<String>,
    /// Whether bookings with it wait for the organiser's yes; `None` as the event says.
    pub confirm: Option<Way>,
    /// Seats it draws from each pool, by the pool's place in [`NewEvent::pools`].
    pub draws: Vec<(usize, u32)>,
}

impl Default for NewTicketType {
    fn default() -> Self {
        Self {
            name: "Seat".into(),
            note: String::new(),
            minor: 0,
            early: None,
            member: None,
            group: None,
            tax: None,
            sale: SaleWindow::default(),
            per_date: None,
            least: 1,
            most: 10,
            admits: 1,
            word: String::new(),
            members_only: false,
            online: false,
            invited: Vec::new(),
            closed: false,
            stamps: None,
            card: None,
            confirm: None,
            draws: vec![(0, 1)],
        }
    }
}

/// A question to be written down.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewQuestion {
    /// Its wording.
    pub label: String,
    /// How it is answered.
    pub answering: Answering,
    /// Whether an answer is needed.
    pub needed: bool,
    /// Asked of each attendee.
    #[serde(default)]
    pub each: bool,
    /// Only for these tickets, by their place; empty for all.
    #[serde(default)]
    pub only: Vec<usize>,
}

/// A date to be written down.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewDate {
    /// When.
    pub span: Span,
    /// The venue's name; a new one is made with the address.
    pub venue: String,
    /// Its address.
    pub address: String,
    /// How to get there.
    pub directions: String,
    /// The room's name; a new one is made. Empty for the whole venue.
    pub room: String,
    /// Names of those who lead it; new ones are made.
    pub hosts: Vec<String>,
    /// Minutes to set up before, and to clear up after.
    #[serde(default)]
    pub margins: (u32, u32),
    /// Capacity of each pool, in their order.
    pub capacities: Vec<u32>,
    /// Its sessions.
    #[serde(default)]
    pub sessions: Vec<NewSession>,
    /// How it happens online; as usual where nothing is said.
    #[serde(default)]
    pub online: Option<NewOnline>,
}

/// How a date that is to be made happens online: all but what is one date's alone, its link and
/// its recording.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewOnline {
    /// The word for where.
    pub room: String,
    /// It opens so many minutes before.
    pub opens_minutes: u32,
    /// Everybody is let straight in; everybody may speak; it is recorded; its address may stand in
    /// mails.
    pub can: (bool, bool, bool, bool),
    /// How to prepare.
    pub prepare: String,
    /// The word for who may see the recording.
    pub audience: String,
}

/// A session to be written down.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewSession {
    /// Its title.
    pub title: String,
    /// Its track; may be empty.
    pub track: String,
    /// Its room, in the venue of the date; may be empty.
    pub room: String,
    /// Who gives it; may be empty.
    pub host: String,
    /// When.
    pub span: Span,
    /// Seats, if they are counted.
    pub seats: Option<u32>,
    /// Whether one signs up for it.
    pub sign_up: bool,
}

/// How an event's slots are cut from the opening hours.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SlotPlan {
    /// Minutes of one slot.
    pub minutes: u32,
    /// Minutes between two.
    pub pause: u32,
    /// How many are served at one time.
    pub desks: u32,
    /// Booked at the latest so many hours before.
    pub notice_hours: u32,
    /// Booked at the earliest so many days before.
    pub ahead_days: u32,
    /// The venue's name.
    pub venue: String,
    /// The room's name; may be empty.
    pub room: String,
}

impl NewEvent {
    /// Moves every date, session, sale window and early price by so many days, on the
    /// wall clock: what was at seven in the evening stays at seven.
    ///
    /// # Errors
    /// A date would begin or end in an hour that a clock change skips or repeats.
    pub fn shift(&mut self, days: i32, zone: &TimeZone) -> Result<(), SpanError> {
        let later = |span: &Span| {
            let by = days.days();
            Span::new(span.starts.saturating_add(by), span.ends.saturating_add(by), &span.zone)
        };
        for date in &mut self.dates {
            date.span = later(&date.span)?;
            for session in &mut date.sessions {
                session.span = later(&session.span)?;
            }
        }
        for ticket in &mut self.tickets {
            let moved = |at: Timestamp| days_later(at, days, zone);
            if let Some(early) = &mut ticket.early {
                early.until = moved(early.until);
            }
            ticket.sale.from = ticket.sale.from.map(moved);
            ticket.sale.until = ticket.sale.until.map(moved);
        }
        Ok(())
    }
}

/// Moves an instant of a plan by so many days on the wall clock of a zone.
pub(crate) fn days_later(at: Timestamp, days: i32, zone: &jiff::tz::TimeZone) -> Timestamp {
    at.to_zoned_datetime(zone.clone())
        .checked_add(jiff::Span::new().days(days))
        .map_or(at, |z| z.timestamp())
}
