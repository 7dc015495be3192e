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

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::Timestamp;
    use matricle_core::{PoolId, QuestionId};

    fn tickets() -> Vec<TicketType> {
        vec![TicketType {
            id: TicketTypeId(1),
            name: "Family".into(),
            note: String::new(),
            admits: 4,
        }]
    }

    /// A sentence: it begins like one, ends like one, and shows nothing from inside.
    fn is_a_sentence(text: &str) {
        assert!(text.starts_with(|c: char| c.is_uppercase() || c == '“'), "{text}");
        assert!(text.ends_with(['.', '?']), "{text}");
        for inside in ["{", "}", "Some(", "::", "TicketTypeId", "  "] {
            assert!(!text.contains(inside), "{text}");
        }
    }

    #[test]
    fn every_refused_choice_is_a_sentence_with_the_number_in_the_way() {
        let id = TicketTypeId(1);
        let few = |wanted, free| {
            ChoiceRefusal::Seats(SeatRefusal::TooFew {
                pool: PoolId(1),
                name: "protective suits".into(),
                wanted,
                free,
            })
        };
        let limit =
            |left| ChoiceRefusal::Seats(SeatRefusal::TicketLimit { ticket: id, wanted: 9, left });
        let at = Timestamp::UNIX_EPOCH;
        let said: Vec<String> = [
            ChoiceRefusal::Nothing,
            few(4, 0),
            few(4, 1),
            few(4, 3),
            limit(0),
            limit(2),
            ChoiceRefusal::Seats(SeatRefusal::UnknownTicket { ticket: TicketTypeId(9) }),
            ChoiceRefusal::TooManyInOne { ticket: id, wanted: 9, most: 3 },
            ChoiceRefusal::NotOnSale { ticket: id, sale: Sale::Over(at) },
            ChoiceRefusal::NotOnSale { ticket: id, sale: Sale::NotYet(at) },
            ChoiceRefusal::Price(PriceRefusal::OutOfRange { ticket: id, quantity: 9 }),
        ]
        .iter()
        .map(|refusal| choice(refusal, &tickets()))
        .collect();
        said.iter().for_each(|text| is_a_sentence(text));
        insta::assert_snapshot!(said.join("\n"));
    }

    #[test]
    fn every_problem_of_a_form_is_a_sentence() {
        let fields = [
            Field::Name,
            Field::Email,
            Field::Attendee(0),
            Field::Answer(QuestionId(1)),
            Field::Terms,
        ];
        let problems = [
            Problem::Missing,
            Problem::TooLong { most: 200 },
            Problem::NotAnAddress,
            Problem::NotOffered,
            Problem::NotAgreed,
        ];
        for field in fields {
            problems.iter().for_each(|p| is_a_sentence(&problem(field, p)));
        }
        use quick::{Field as Q, Problem as P};
        let problems = [
            P::Missing,
            P::TooLong { most: 200 },
            P::NoWord,
            P::NotADay,
            P::NotATime,
            P::EndsFirst,
            P::ClockChange,
            P::Past,
            P::NotACount { most: 9 },
            P::NotAnAmount,
        ];
        for field in [Q::Title, Q::Kind, Q::Day, Q::From, Q::Until, Q::Place, Q::Seats, Q::Price] {
            problems.iter().for_each(|p| is_a_sentence(&quick(field, *p)));
        }
    }

    #[test]
    fn every_state_has_a_word_and_a_mark() {
        for s in State::ALL {
            assert!(!state(s).is_empty() && !state_class(s).is_empty());
            let over = matches!(s, State::Declined | State::Cancelled | State::Lapsed);
            assert_eq!(state_class(s) == "over", over, "{s:?}");
        }
    }
}
