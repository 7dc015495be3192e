//! Refusals in words: one sentence each, saying what to do.

use matricle_core::TicketTypeId;
use matricle_core::booking::{ChoiceRefusal, State};
use matricle_core::details::{Field, Problem};
use matricle_core::price::PriceRefusal;
use matricle_core::quick;
use matricle_core::schedule::Sale;
use matricle_core::seats::SeatRefusal;
use matricle_formats::words;
use matricle_store::events::TicketType;

/// Why a choice of tickets was refused.
pub(crate) fn choice(refusal: &ChoiceRefusal, tickets: &[TicketType]) -> String {
    let name = |id: TicketTypeId| {
        tickets.iter().find(|t| t.id == id).map_or("this ticket", |t| t.name.as_str())
    };
    match refusal {
        ChoiceRefusal::Nothing => "Choose at least one ticket.".into(),
        ChoiceRefusal::NotOnSale { ticket, sale } => match sale {
            Sale::Over(_) => format!("“{}” is no longer on sale for this date.", name(*ticket)),
            Sale::NotYet(_) | Sale::Open => {
                format!("“{}” is not on sale yet; come back later.", name(*ticket))
            }
        },
        ChoiceRefusal::TooManyInOne { ticket, most, .. } => format!(
            "One booking can have at most {most} of “{}”. Book the others separately, or write to us.",
            name(*ticket)
        ),
        ChoiceRefusal::Seats(SeatRefusal::TooFew { name, free: 0, .. }) => {
            format!("No {name} are left for this date. Somebody else was quicker.")
        }
        ChoiceRefusal::Seats(SeatRefusal::TooFew { name, wanted, free, .. }) => format!(
            "You chose {}, but only {free} {} left. Choose fewer.",
            words::count(*wanted, name),
            if *free == 1 { "is" } else { "are" }
        ),
        ChoiceRefusal::Seats(SeatRefusal::TicketLimit { ticket, left, .. }) => match left {
            0 => format!("“{}” is sold out for this date.", name(*ticket)),
            left => {
                format!("Only {left} of “{}” are left for this date. Choose fewer.", name(*ticket))
            }
        },
        ChoiceRefusal::Seats(SeatRefusal::UnknownTicket { .. }) => {
            "One of the tickets is not offered any more. Choose again.".into()
        }
        ChoiceRefusal::Price(PriceRefusal::OutOfRange { .. }) => {
            "That many cannot be booked at once. Choose fewer.".into()
        }
    }
}

/// What is wrong with a field.
pub(crate) fn problem(field: Field, problem: &Problem) -> String {
    match (field, problem) {
        (Field::Name, Problem::Missing) => "Tell us your name.".into(),
        (Field::Email, Problem::Missing) => "We need an address to send your tickets to.".into(),
        (Field::Attendee(_), Problem::Missing) => "Who is coming? A name is enough.".into(),
        (Field::Answer(_) | Field::Terms, Problem::Missing) => "Please answer this.".into(),
        (_, Problem::TooLong { most }) => format!("Shorten this to {most} characters."),
        (_, Problem::NotAnAddress) => {
            "This does not look like an e-mail address; it should be like name@post.example.".into()
        }
        (_, Problem::NotOffered) => "Choose one of the answers.".into(),
        (_, Problem::NotAgreed) => "Tick this to book.".into(),
    }
}

/// What is wrong with a field of the quick form.
pub(crate) fn quick(field: quick::Field, problem: quick::Problem) -> String {
    use quick::{Field, Problem};
    match (field, problem) {
        (Field::Title, Problem::Missing) => "Give it a title.".into(),
        (Field::Day, Problem::Missing) => "Choose a day.".into(),
        (Field::From, Problem::Missing) => "When does it start?".into(),
        (Field::Until, Problem::Missing) => "When does it end?".into(),
        (Field::Place, Problem::Missing) => "Where is it?".into(),
        (Field::Seats, Problem::Missing) => "How many people can come?".into(),
        (Field::Kind | Field::Price, Problem::Missing) => "Fill this in.".into(),
        (_, Problem::TooLong { most }) => format!("Shorten this to {most} characters."),
        (_, Problem::NoWord) => "The title needs at least one letter or digit.".into(),
        (_, Problem::NotADay) => "Write the day like 2026-12-31.".into(),
        (_, Problem::NotATime) => "Write the time like 19:30.".into(),
        (_, Problem::EndsFirst) => "It has to end after it starts, on the same day.".into(),
        (_, Problem::ClockChange) => {
            "The clocks change at this hour of this day, so it comes twice or not at all. Choose another hour.".into()
        }
        (_, Problem::Past) => "That is in the past. Choose a day to come.".into(),
        (_, Problem::NotACount { most }) => format!("Write a whole number from 1 to {most}."),
        (_, Problem::NotAnAmount) => "Write an amount like 12.50, or leave this empty if it is free.".into(),
    }
}

/// A booking's state as the Office says it.
pub(crate) const fn state(state: State) -> &'static str {
    match state {
        State::Held => "held",
        State::Requested => "asking",
        State::AwaitingPayment => "to pay",
        State::Confirmed => "confirmed",
        State::Declined => "declined",
        State::Cancelled => "cancelled",
        State::Lapsed => "lapsed",
    }
}

/// The class of the mark beside a state.
pub(crate) const fn state_class(state: State) -> &'static str {
    match state {
        State::Held => "held",
        State::Requested => "asking",
        State::AwaitingPayment => "pay",
        State::Confirmed => "conf",
        State::Declined | State::Cancelled | State::Lapsed => "over",
    }
}
