//! An event planned on one small form: title, when, where, seats, price.

use jiff::civil::{Date, DateTime, Time};
use jiff::{Timestamp, ToSpan};

use serde::{Deserialize, Serialize};

use crate::booking::details::LONGEST;
use crate::dates::schedule::{Span, SpanError};
use crate::words::fold;
use crate::words::links::is_link;
use crate::words::text;
use crate::{Currency, Money};

/// The most seats of one date: more than any hall, less than a slip of the finger.
pub const MOST_SEATS: u32 = 100_000;

/// The most desks at which appointments are kept at one time.
pub const MOST_DESKS: u32 = 100;

/// The most weeks of one form: a year.
pub const MOST_WEEKS: u32 = 53;

crate::worded! {
    /// How often it happens.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
    pub enum How {
        /// One date.
        #[default]
        Once = "once",
        /// A date each week, each booked alone.
        Weekly = "weekly",
        /// A date each week, and one booking covers all.
        Course = "course",
        /// Appointments, cut from the opening hours.
        Slots = "slots",
    }
}

crate::worded! {
    /// Where an event happens.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
    pub enum Format {
        /// At a place.
        #[default]
        InPerson = "in person",
        /// By a link.
        Online = "online",
        /// Either way.
        Both = "in person and online",
    }
}

/// What somebody means who names a place that is not known: the name comes first, and what stands
/// after a comma says where that is.
#[must_use]
pub fn name_and_address(place: &str) -> (&str, &str) {
    match place.split_once(',') {
        Some((name, rest)) if !name.trim().is_empty() => (name.trim(), rest.trim()),
        _ => (place.trim(), ""),
    }
}

/// What was typed, word for word.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Typed {
    /// How often.
    pub how: How,
    /// How many weeks, where it is each week.
    pub weeks: String,
    /// It ends on the day after.
    pub overnight: bool,
    /// How many minutes one appointment takes.
    pub minutes: String,
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
    /// How people take part.
    pub part: Format,
    /// Where.
    pub place: String,
    /// The link to join online; may come later.
    pub link: String,
    /// How many seats.
    pub seats: String,
    /// How many may join online, beside those at the place.
    pub places: String,
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
    /// The weeks.
    Weeks,
    /// The minutes of an appointment.
    Minutes,
    /// The place.
    Place,
    /// The link to join online.
    Link,
    /// The seats.
    Seats,
    /// How many may join online.
    Places,
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
    /// The clocks skip or repeat this hour of one of its days.
    #[error("skipped or repeated by a clock change")]
    ClockChange(DateTime),
    /// It would have started already.
    #[error("in the past")]
    Past,
    /// Not a whole number of seats, at least one.
    #[error("not a number from 1 to {most}")]
    NotACount {
        /// The most allowed.
        most: u32,
    },
    /// More seats than the room has.
    #[error("the room has {most} seats")]
    MoreThanRoom {
        /// The seats of the room.
        most: u32,
    },
    /// Not a web address.
    #[error("not a web address")]
    NotALink,
    /// Not a number of weeks, at least two.
    #[error("not a number from 2 to {most}")]
    NotWeeks {
        /// The most allowed.
        most: u32,
    },
    /// Not a number of minutes from 5 to 720.
    #[error("not a number from 5 to 720")]
    NotMinutes,
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
    /// When: one date, or one each week; none for appointments, which are cut.
    pub spans: Vec<Span>,
    /// One booking covers all dates.
    pub course: bool,
    /// Minutes of an appointment, where it is about them.
    pub slots: Option<u32>,
    /// How people take part.
    pub part: Format,
    /// Where; empty where all of it is online.
    pub place: String,
    /// The link to join online; empty where there is none yet.
    pub link: String,
    /// Seats; where all of it is online, people.
    pub seats: u32,
    /// How many may join online, beside those at the place.
    pub places: u32,
    /// What a seat costs.
    pub price: Money,
}

/// The dates of so many weeks, all at the same hours, ending so many days after they begin.
fn spans(
    (day, from, until): (Date, Time, Time),
    over: i64,
    weeks: u32,
    zone: &str,
    now: Timestamp,
) -> Result<Vec<Span>, (Field, Problem)> {
    let span = |week: u32| {
        let on = day.saturating_add((7 * i64::from(week)).days());
        let starts = on.to_datetime(from);
        let ends = on.saturating_add(over.days()).to_datetime(until);
        match Span::new(starts, ends, zone) {
            Ok(span) if span.starts_at <= now => Err((Field::Day, Problem::Past)),
            Ok(span) => Ok(span),
            Err(SpanError::EndsFirst { .. }) => Err((Field::Until, Problem::EndsFirst)),
            Err(SpanError::Ambiguous { at, .. }) => {
                let field = if at.time() == from { Field::From } else { Field::Until };
                Err((field, Problem::ClockChange(at)))
            }
            Err(SpanError::UnknownZone { .. }) => Err((Field::Day, Problem::NotADay)),
        }
    };
    (0..weeks).map(span).collect()
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
    let (here, online) = (typed.part != Format::Online, typed.part != Format::InPerson);
    let place = if here { line(Field::Place, &typed.place, true) } else { String::new() };
    let link = if online { line(Field::Link, &typed.link, false) } else { String::new() };
    if !link.is_empty() && !is_link(&link) {
        problems.push((Field::Link, Problem::NotALink));
    }
    let slug = fold(&title).replace([' ', '@', '.'], "-");
    if slug.is_empty() && !title.is_empty() {
        problems.push((Field::Title, Problem::NoWord));
    }
    let mut read = |field: Field, text: &str, wrong: Problem| {
        let wrong = if text.trim().is_empty() { Problem::Missing } else { wrong };
        problems.push((field, wrong));
    };
    let is_dated = typed.how != How::Slots;
    let day = typed.day.trim().parse::<Date>().ok();
    if day.is_none() && is_dated {
        read(Field::Day, &typed.day, Problem::NotADay);
    }
    let from = typed.from.trim().parse::<Time>().ok();
    if from.is_none() && is_dated {
        read(Field::From, &typed.from, Problem::NotATime);
    }
    let until = typed.until.trim().parse::<Time>().ok();
    if until.is_none() && is_dated {
        read(Field::Until, &typed.until, Problem::NotATime);
    }
    let whole = |text: &str, least: u32, most: u32| {
        text.trim().parse::<u32>().ok().filter(|n| (least..=most).contains(n))
    };
    let weeks = match typed.how {
        How::Once => Some(1),
        How::Slots => Some(0),
        How::Weekly | How::Course => whole(&typed.weeks, 2, MOST_WEEKS),
    };
    if weeks.is_none() {
        read(Field::Weeks, &typed.weeks, Problem::NotWeeks { most: MOST_WEEKS });
    }
    let minutes = whole(&typed.minutes, 5, 720).filter(|_| !is_dated);
    if minutes.is_none() && !is_dated {
        read(Field::Minutes, &typed.minutes, Problem::NotMinutes);
    }
    let most = if is_dated { MOST_SEATS } else { MOST_DESKS };
    let seats = whole(&typed.seats, 1, most);
    if seats.is_none() {
        read(Field::Seats, &typed.seats, Problem::NotACount { most });
    }
    let counts_both = typed.part == Format::Both && is_dated;
    let places = whole(&typed.places, 1, most);
    if counts_both && places.is_none() {
        read(Field::Places, &typed.places, Problem::NotACount { most });
    }
    let price = match typed.price.trim() {
        "" => Some(currency.of(0)),
        text => currency.parse(text),
    };
    if price.is_none() {
        problems.push((Field::Price, Problem::NotAnAmount));
    }
    let spans = match (is_dated, day, from, until) {
        (true, Some(day), Some(from), Some(until)) => {
            let over = i64::from(typed.overnight);
            spans((day, from, until), over, weeks.unwrap_or(1), zone, now)
        }
        _ => Ok(Vec::new()),
    };
    let spans = spans.unwrap_or_else(|problem| {
        problems.push(problem);
        Vec::new()
    });
    problems.sort_by_key(|(field, _)| *field);
    match (seats, price) {
        (Some(seats), Some(price)) if problems.is_empty() => Ok(Quick {
            kind: if kind.is_empty() { "Event".into() } else { kind },
            title,
            slug,
            spans,
            course: typed.how == How::Course,
            slots: minutes,
            part: typed.part,
            place,
            link,
            seats,
            places: places.filter(|_| counts_both).unwrap_or(0),
            price,
        }),
        _ => Err(problems),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::datetime;

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
            ..Typed::default()
        }
    }

    proptest::proptest! {
        /// Whatever is typed is a whole plan, or every odd field once, in the order of the form.
        #[test]
        fn anything_typed_is_planned_or_told(
            words in proptest::collection::vec("[0-9a-zA-Z :.,é-]{0,12}", 9),
            how in 0usize..4,
            part in 0usize..3,
            overnight: bool,
        ) {
            let [title, kind, day, from, until, place, seats, price, weeks] = &words[..] else { return Ok(()) };
            let minutes = seats.clone();
            let odd = Typed {
                how: How::ALL[how],
                overnight,
                weeks: weeks.clone(),
                minutes,
                title: title.clone(),
                kind: kind.clone(),
                day: day.clone(),
                from: from.clone(),
                until: until.clone(),
                part: Format::ALL[part],
                place: place.clone(),
                link: kind.clone(),
                places: seats.clone(),
                seats: seats.clone(),
                price: price.clone(),
            };
            match ask(&odd) {
                Ok(plan) => {
                    proptest::prop_assert!(!plan.slug.is_empty() && plan.seats > 0);
                    proptest::prop_assert_eq!(plan.slots.is_some(), plan.spans.is_empty());
                }
                Err(problems) => {
                    let fields: Vec<_> = problems.iter().map(|(f, _)| *f).collect();
                    let mut ordered = fields.clone();
                    ordered.sort();
                    proptest::prop_assert!(!fields.is_empty());
                    proptest::prop_assert_eq!(fields, ordered);
                }
            }
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
        let span = &quick.spans[0];
        assert_eq!(span.ends_at.duration_since(span.starts_at).as_hours(), 2);
        assert_eq!(ask(&Typed { price: "7,50".into(), ..typed() }).unwrap().price.minor, 750);
    }

    #[test]
    fn it_happens_once_each_week_as_a_course_or_by_appointment() {
        let weekly = Typed { how: How::Weekly, weeks: "20".into(), ..typed() };
        let plan = ask(&weekly).unwrap();
        assert_eq!((plan.spans.len(), plan.course, plan.slots), (20, false, None));
        // Over the change of clocks in March it stays at seven in the evening.
        let last = plan.spans.last().unwrap();
        assert_eq!(last.starts.to_string(), "2027-04-24T19:00:00");
        assert!(ask(&Typed { how: How::Course, ..weekly.clone() }).unwrap().course);
        for weeks in ["", "1", "54", "some"] {
            let problems = ask(&Typed { weeks: weeks.into(), ..weekly.clone() }).unwrap_err();
            assert_eq!(problems.iter().map(|p| p.0).collect::<Vec<_>>(), [Field::Weeks]);
        }
        // A clock change in the way of any of the weeks is told.
        let early = Typed {
            from: "00:30".into(),
            until: "01:30".into(),
            day: "2027-03-07".into(),
            ..weekly
        };
        assert_eq!(
            ask(&early),
            Err(vec![(Field::Until, Problem::ClockChange(datetime(2027, 3, 28, 1, 30, 0, 0)))])
        );
        let night = Typed { until: "01:00".into(), overnight: true, ..typed() };
        let span = &ask(&night).unwrap().spans[0];
        assert_eq!(span.ends_at.duration_since(span.starts_at).as_hours(), 6);
        // Appointments have no day of their own.
        let slots = Typed {
            how: How::Slots,
            day: String::new(),
            from: String::new(),
            until: String::new(),
            minutes: "40".into(),
            seats: "2".into(),
            ..typed()
        };
        let plan = ask(&slots).unwrap();
        assert_eq!((plan.spans.len(), plan.slots), (0, Some(40)));
        // More desks than can be are refused, never cut to fewer.
        let crowd = Typed { seats: "101".into(), ..slots.clone() };
        assert_eq!(ask(&crowd), Err(vec![(Field::Seats, Problem::NotACount { most: MOST_DESKS })]));
        let problems = ask(&Typed { minutes: "3".into(), ..slots }).unwrap_err();
        assert_eq!(problems, [(Field::Minutes, Problem::NotMinutes)]);
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
        let at = datetime(2027, 3, 28, 1, 30, 0, 0);
        assert_eq!(one(skipped), (Field::Until, Problem::ClockChange(at)));
        // Online needs no place, and may have its link; both count each.
        let online = Typed { part: Format::Online, place: String::new(), ..typed() };
        assert_eq!(ask(&online).unwrap().place, "");
        let linked = Typed { link: "https://meet.example/wax".into(), ..online.clone() };
        assert_eq!(ask(&linked).unwrap().link, linked.link);
        let wrong = ask(&Typed { link: "the usual room".into(), ..online }).unwrap_err();
        assert_eq!(wrong, [(Field::Link, Problem::NotALink)]);
        let both = Typed { part: Format::Both, places: "200".into(), ..typed() };
        assert_eq!(ask(&both).map(|p| (p.seats, p.places)), Ok((40, 200)));
        let wrong = ask(&Typed { places: String::new(), ..both }).unwrap_err();
        assert_eq!(wrong, [(Field::Places, Problem::Missing)]);
        assert_eq!(name_and_address("Mill, 3 Mill Lane, Ostrel"), ("Mill", "3 Mill Lane, Ostrel"));
        assert_eq!(name_and_address(" Mill "), ("Mill", ""));
        assert_eq!(name_and_address(", Ostrel"), (", Ostrel", ""), "no place without a name");
        for seats in ["0", "-1", "many", "100001", "4.5"] {
            let typed = Typed { seats: seats.into(), ..typed() };
            assert_eq!(one(typed), (Field::Seats, Problem::NotACount { most: MOST_SEATS }));
        }
    }
}
