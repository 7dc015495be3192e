//! An event planned on one small form: title, when, where, seats, price.

use jiff::Timestamp;
use jiff::civil::{Date, Time};

use crate::details::LONGEST;
use crate::schedule::{Span, SpanError};
use crate::words::fold;
use crate::{Currency, Money, text};

/// The most seats of one date: more than any hall, less than a slip of the finger.
pub const MOST_SEATS: u32 = 100_000;

/// What was typed, word for word.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Typed {
    /// The title.
    pub title: String,
    /// What kind of event; may be empty.
    pub kind: String,
    /// The day, `2026-12-12`.
    pub day: String,
    /// When it starts, `10:00`.
    pub from: String,
    /// When it ends, `15:30`.
    pub until: String,
    /// Where.
    pub place: String,
    /// How many seats.
    pub seats: String,
    /// What a seat costs; empty is free.
    pub price: String,
}

/// A field of the form, in its order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Field {
    /// The title.
    Title,
    /// The kind.
    Kind,
    /// The day.
    Day,
    /// The start.
    From,
    /// The end.
    Until,
    /// The place.
    Place,
    /// The seats.
    Seats,
    /// The price.
    Price,
}

/// What is wrong with a field.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Problem {
    /// Nothing was given.
    #[error("missing")]
    Missing,
    /// More than fits.
    #[error("longer than {most} characters")]
    TooLong {
        /// The most that fits.
        most: usize,
    },
    /// A title without a letter or digit makes no address.
    #[error("no letter or digit")]
    NoWord,
    /// Not a day.
    #[error("not a day")]
    NotADay,
    /// Not a time of day.
    #[error("not a time")]
    NotATime,
    /// The end is not after the start.
    #[error("ends before it starts")]
    EndsFirst,
    /// The clocks skip or repeat this hour.
    #[error("skipped or repeated by a clock change")]
    ClockChange,
    /// It would have started already.
    #[error("in the past")]
    Past,
    /// Not a whole number of seats, at least one.
    #[error("not a number from 1 to {most}")]
    NotACount {
        /// The most allowed.
        most: u32,
    },
    /// Not an amount of the house's currency.
    #[error("not an amount")]
    NotAnAmount,
}

/// A plan that can be carried out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Quick {
    /// The title.
    pub title: String,
    /// What kind of event; *Event* when nothing was said.
    pub kind: String,
    /// The start of its address in the Programme.
    pub slug: String,
    /// When.
    pub span: Span,
    /// Where.
    pub place: String,
    /// Seats.
    pub seats: u32,
    /// What a seat costs.
    pub price: Money,
}

/// Checks what was typed, for a house in this zone and currency.
///
/// # Errors
/// Every field that needs another look, in the order of the form.
pub fn check(
    typed: &Typed,
    zone: &str,
    currency: Currency,
    now: Timestamp,
) -> Result<Quick, Vec<(Field, Problem)>> {
    let mut problems = Vec::new();
    let mut line = |field: Field, typed: &str, needed: bool| {
        let text = text::line(typed);
        if text.is_empty() && needed {
            problems.push((field, Problem::Missing));
        } else if text.chars().count() > LONGEST {
            problems.push((field, Problem::TooLong { most: LONGEST }));
        }
        text
    };
    let title = line(Field::Title, &typed.title, true);
    let kind = line(Field::Kind, &typed.kind, false);
    let place = line(Field::Place, &typed.place, true);
    let slug = fold(&title).replace([' ', '@', '.'], "-");
    if slug.is_empty() && !title.is_empty() {
        problems.push((Field::Title, Problem::NoWord));
    }
    let mut read = |field: Field, text: &str, wrong: Problem| {
        let wrong = if text.trim().is_empty() { Problem::Missing } else { wrong };
        problems.push((field, wrong));
    };
    let day = typed.day.trim().parse::<Date>().ok();
    if day.is_none() {
        read(Field::Day, &typed.day, Problem::NotADay);
    }
    let from = typed.from.trim().parse::<Time>().ok();
    if from.is_none() {
        read(Field::From, &typed.from, Problem::NotATime);
    }
    let until = typed.until.trim().parse::<Time>().ok();
    if until.is_none() {
        read(Field::Until, &typed.until, Problem::NotATime);
    }
    let seats = typed.seats.trim().parse::<u32>().ok().filter(|n| (1..=MOST_SEATS).contains(n));
    if seats.is_none() {
        read(Field::Seats, &typed.seats, Problem::NotACount { most: MOST_SEATS });
    }
    let price = match typed.price.trim() {
        "" => Some(currency.of(0)),
        text => currency.parse(text),
    };
    if price.is_none() {
        problems.push((Field::Price, Problem::NotAnAmount));
    }
    let span = match (day, from, until) {
        (Some(day), Some(from), Some(until)) => {
            match Span::new(day.to_datetime(from), day.to_datetime(until), zone) {
                Ok(span) if span.starts_at <= now => {
                    problems.push((Field::Day, Problem::Past));
                    None
                }
                Ok(span) => Some(span),
                Err(SpanError::EndsFirst { .. }) => {
                    problems.push((Field::Until, Problem::EndsFirst));
                    None
                }
                Err(SpanError::Ambiguous { at, .. }) => {
                    let field = if at.time() == from { Field::From } else { Field::Until };
                    problems.push((field, Problem::ClockChange));
                    None
                }
                Err(SpanError::UnknownZone { .. }) => {
                    problems.push((Field::Day, Problem::NotADay));
                    None
                }
            }
        }
        _ => None,
    };
    problems.sort_by_key(|(field, _)| *field);
    match (span, seats, price) {
        (Some(span), Some(seats), Some(price)) if problems.is_empty() => Ok(Quick {
            kind: if kind.is_empty() { "Event".into() } else { kind },
            title,
            slug,
            span,
            place,
            seats,
            price,
        }),
        _ => Err(problems),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn typed() -> Typed {
        Typed {
            title: " Søren's honey talk ".into(),
            kind: String::new(),
            day: "2026-12-12".into(),
            from: "19:00".into(),
            until: "21:00".into(),
            place: "Guildhall".into(),
            seats: "40".into(),
            price: String::new(),
        }
    }

    fn ask(typed: &Typed) -> Result<Quick, Vec<(Field, Problem)>> {
        let now = "2026-11-25T12:00:00Z".parse().unwrap();
        check(typed, "Europe/Dublin", Currency::EUR, now)
    }

    #[test]
    fn a_small_form_makes_a_whole_plan() {
        let quick = ask(&typed()).unwrap();
        assert_eq!(
            (quick.title.as_str(), quick.slug.as_str()),
            ("Søren's honey talk", "sorens-honey-talk")
        );
        assert_eq!((quick.kind.as_str(), quick.seats, quick.price.minor), ("Event", 40, 0));
        assert_eq!(quick.span.ends_at.duration_since(quick.span.starts_at).as_hours(), 2);
        assert_eq!(ask(&Typed { price: "7,50".into(), ..typed() }).unwrap().price.minor, 750);
    }

    #[test]
    fn every_odd_field_is_told_in_the_order_of_the_form() {
        let all = ask(&Typed {
            price: "cheap".into(),
            kind: "x".repeat(LONGEST + 1),
            ..Typed::default()
        });
        let fields: Vec<_> = all.unwrap_err().into_iter().map(|(field, _)| field).collect();
        assert_eq!(
            fields,
            [
                Field::Title,
                Field::Kind,
                Field::Day,
                Field::From,
                Field::Until,
                Field::Place,
                Field::Seats,
                Field::Price
            ]
        );
        let one = |typed: Typed| {
            let problems = ask(&typed).unwrap_err();
            assert_eq!(problems.len(), 1, "{problems:?}");
            problems[0]
        };
        let with = |change: fn(&mut Typed)| {
            let mut typed = typed();
            change(&mut typed);
            one(typed)
        };
        assert_eq!(with(|t| t.title = "!!".into()), (Field::Title, Problem::NoWord));
        assert_eq!(with(|t| t.day = "2026-11-24".into()), (Field::Day, Problem::Past));
        assert_eq!(with(|t| t.day = "2026-02-30".into()), (Field::Day, Problem::NotADay));
        assert_eq!(with(|t| t.from = "7pm".into()), (Field::From, Problem::NotATime));
        assert_eq!(with(|t| t.until = "19:00".into()), (Field::Until, Problem::EndsFirst));
        let spring = |t: &mut Typed| {
            (t.day, t.from, t.until) = ("2027-03-28".into(), "00:30".into(), "01:30".into())
        };
        let mut skipped = typed();
        spring(&mut skipped);
        assert_eq!(one(skipped), (Field::Until, Problem::ClockChange));
        for seats in ["0", "-1", "many", "100001", "4.5"] {
            let typed = Typed { seats: seats.into(), ..typed() };
            assert_eq!(one(typed), (Field::Seats, Problem::NotACount { most: MOST_SEATS }));
        }
    }
}
