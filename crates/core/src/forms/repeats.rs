//! Dates by a rule, and days one after another, as forms give them.

use jiff::civil::Date;

use crate::dates::recurrence::{Ends, Every, MOST_DATES, Rule, RuleError, weekday};
use crate::forms::form::{Fault, Form};

crate::fields! {
    REPEAT: Choice = "repeat", "It repeats";
    INTERVAL: WholeOrNone(1, 52) = "interval", "Every so many", "2 for every other week.";
    COUNT: WholeOrNone(1, 520) = "count", "How many dates";
    LAST: Day = "last", "Or until";
}

/// What may repeat, by the words that are sent.
pub const WAYS: [(&str, &str); 7] = [
    ("", "…"),
    ("week", "every week on this day"),
    ("month weekday", "every month on this weekday"),
    ("month last weekday", "every month on its last such weekday"),
    ("month day", "every month on this day of it"),
    ("day", "every day"),
    ("year", "every year"),
];

fn every(form: &Form, first: Date) -> Option<Every> {
    Some(match form.get(REPEAT.name) {
        "week" => {
            let mut days: Vec<_> =
                form.all("day_of_week").iter().filter_map(|d| weekday(d)).collect();
            if days.is_empty() {
                days.push(first.weekday());
            }
            Every::Week(days)
        }
        "day" => Every::Day,
        "month day" => Every::MonthDay(first.day()),
        "month last" => Every::MonthDay(-1),
        "month weekday" => {
            let nth = (first.day() - 1) / 7 + 1;
            Every::MonthWeekday { nth, day: first.weekday() }
        }
        "month last weekday" => Every::MonthWeekday { nth: -1, day: first.weekday() },
        "year" => Every::Year,
        _ => return None,
    })
}

/// Reads the repeat rule of a form; none where it does not repeat, or where it is faulty.
pub fn rule(form: &mut Form, first: Date) -> Option<Rule> {
    let every = every(form, first)?;
    let interval = form.take(&INTERVAL).unwrap_or(1);
    let ends = match (form.take(&COUNT), form.take(&LAST)) {
        (Some(_), Some(_)) => {
            form.fault(LAST, Fault::OneOfTwo);
            return None;
        }
        (Some(count), None) => Ends::Count(count),
        (None, Some(last)) => Ends::On(last),
        (None, None) => {
            form.fault(COUNT, Fault::NeedsOther);
            return None;
        }
    };
    Some(Rule { every, interval, ends })
}

/// The days of a rule; a fault of the form where it gives none, or too many.
pub fn days_of(form: &mut Form, rule: &Rule, first: Date) -> Option<Vec<Date>> {
    match rule.days(first) {
        Ok(days) => Some(days),
        Err(RuleError::TooMany { most }) => {
            form.fault(COUNT, Fault::TooMany(most));
            None
        }
        Err(RuleError::NoDate | RuleError::Unknown { .. }) => {
            form.fault(COUNT, Fault::NoDate);
            None
        }
    }
}

/// Days typed one after another, by commas, blanks or lines.
pub fn days(form: &mut Form, name: &str) -> Vec<Date> {
    let typed = form.get(name).split([',', ';', ' ', '\n', '\r']).filter(|d| !d.is_empty());
    let read: Vec<Option<Date>> = typed.take(MOST_DATES + 1).map(|d| d.parse().ok()).collect();
    if read.iter().any(Option::is_none) {
        form.fault(name, Fault::NotADay);
    }
    if read.len() > MOST_DATES {
        form.fault(name, Fault::TooMany(MOST_DATES));
    }
    read.into_iter().flatten().collect()
}
