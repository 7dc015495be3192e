//! Dates and times written for people.

use jiff::civil::{Date, DateTime, Weekday};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan, ZonedDateTime};
use matricle_core::dates::recurrence::{Ends, Every, Rule};

const DAYS: [&str; 7] =
    ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
const MONTHS: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];

fn weekday(date: Date) -> &'static str {
    DAYS[usize::try_from(date.weekday().to_monday_zero_offset()).unwrap_or(0) % 7]
}

fn month(date: Date) -> &'static str {
    MONTHS[usize::try_from(date.month() - 1).unwrap_or(0) % 12]
}

/// A named zone; one that this machine does not know is UTC.
#[must_use]
pub fn zone(name: &str) -> TimeZone {
    TimeZone::get(name).unwrap_or(TimeZone::UTC)
}

/// The wall clock of a zone at an instant.
#[must_use]
pub fn local(at: Timestamp, zone_name: &str) -> ZonedDateTime {
    at.to_zoned_datetime(zone(zone_name))
}

/// `10:00`.
#[must_use]
pub fn clock(at: DateTime) -> String {
    format!("{:02}:{:02}", at.hour(), at.minute())
}

/// `Sat 12 December`, with the year when it is not this one.
#[must_use]
pub fn day(date: Date, today: Date) -> String {
    let year =
        if date.year() == today.year() { String::new() } else { format!(" {}", date.year()) };
    format!("{} {} {}{year}", &weekday(date)[..3], date.day(), month(date))
}

/// `today`, `tomorrow`, `yesterday`, or [`day`].
#[must_use]
pub fn near_day(date: Date, today: Date) -> String {
    if date == today {
        "today".into()
    } else if today.checked_add(1.day()).is_ok_and(|d| d == date) {
        "tomorrow".into()
    } else if today.checked_sub(1.day()).is_ok_and(|d| d == date) {
        "yesterday".into()
    } else {
        day(date, today)
    }
}

/// `Saturday 12 December 2026`.
#[must_use]
pub fn long_day(date: Date) -> String {
    format!("{} {} {} {}", weekday(date), date.day(), month(date), date.year())
}

/// `12 Dec`: for axes.
#[must_use]
pub fn tick(date: Date) -> String {
    format!("{} {}", date.day(), &month(date)[..3])
}

/// `December 2026`: for headings of lists.
#[must_use]
pub fn month_of(date: Date) -> String {
    format!("{} {}", month(date), date.year())
}

/// `Sat 12 December, 10:00–15:30`; the end has its own day when it is another.
#[must_use]
pub fn span(starts: DateTime, ends: DateTime, today: Date) -> String {
    let from = format!("{}, {}", day(starts.date(), today), clock(starts));
    if starts.date() == ends.date() {
        format!("{from}–{}", clock(ends))
    } else {
        format!("{from} – {}, {}", day(ends.date(), today), clock(ends))
    }
}

/// `Saturday 12 December 2026, 10:00 to 15:30`.
#[must_use]
pub fn long_span(starts: DateTime, ends: DateTime) -> String {
    let from = format!("{}, {}", long_day(starts.date()), clock(starts));
    if starts.date() == ends.date() {
        format!("{from} to {}", clock(ends))
    } else {
        format!("{from} to {}, {}", long_day(ends.date()), clock(ends))
    }
}

/// `today 14:05`, `Fri 27 November, 20:00`: an instant on the wall clock of a zone.
#[must_use]
pub fn moment(at: Timestamp, zone_name: &str, now: Timestamp) -> String {
    let (at, today) = (local(at, zone_name), local(now, zone_name).date());
    let near = near_day(at.date(), today);
    let gap = if near.starts_with(|c: char| c.is_ascii_lowercase()) { " " } else { ", " };
    format!("{near}{gap}{}", clock(at.datetime()))
}

/// Until when, for what ends at an instant: [`moment`], but a midnight is the end of
/// the day before, `Fri 27 November`.
#[must_use]
pub fn deadline(at: Timestamp, zone_name: &str, now: Timestamp) -> String {
    let (end, today) = (local(at, zone_name), local(now, zone_name).date());
    if end.time() == jiff::civil::Time::midnight() {
        let day = end.date().saturating_sub(1.day());
        return near_day(day, today);
    }
    moment(at, zone_name, now)
}

/// `18:42:07`.
#[must_use]
pub fn seconds(at: Timestamp, zone_name: &str) -> String {
    let at = local(at, zone_name);
    format!("{:02}:{:02}:{:02}", at.hour(), at.minute(), at.second())
}

/// `1 seat`, `4 seats`; the plural is given.
#[must_use]
pub fn count(n: u32, plural: &str) -> String {
    let one = plural.strip_suffix('s').unwrap_or(plural);
    if n == 1 { format!("1 {one}") } else { format!("{n} {plural}") }
}

/// `1 person`, `4 people`.
#[must_use]
pub fn people(n: u32) -> String {
    if n == 1 { "1 person".into() } else { format!("{n} people") }
}

/// A repeat rule in plain words: `every 2nd week on Monday and Thursday, 6 times`.
#[must_use]
pub fn rule(rule: &Rule) -> String {
    let nth = |n: u32| match n % 100 {
        11..=13 => format!("{n}th"),
        _ => match n % 10 {
            1 => format!("{n}st"),
            2 => format!("{n}nd"),
            3 => format!("{n}rd"),
            _ => format!("{n}th"),
        },
    };
    let each = |unit: &str| match rule.interval {
        0 | 1 => format!("every {unit}"),
        n => format!("every {} {unit}", nth(n)),
    };
    let from_end = |n: i8| match n {
        -1 => "last".to_owned(),
        -2 => "last but one".to_owned(),
        n if n < 0 => format!("{} from the end", nth(u32::from(n.unsigned_abs()))),
        n => nth(u32::from(n.unsigned_abs())),
    };
    let name = |d: Weekday| DAYS[usize::try_from(d.to_monday_zero_offset()).unwrap_or(0) % 7];
    let what = match &rule.every {
        Every::Day => each("day"),
        Every::Week(days) => {
            let names: Vec<&str> = days.iter().map(|d| name(*d)).collect();
            let list = match names.split_last() {
                Some((last, [])) => (*last).to_owned(),
                Some((last, others)) => format!("{} and {last}", others.join(", ")),
                None => String::new(),
            };
            format!("{} on {list}", each("week"))
        }
        Every::MonthDay(n) => format!("{} on the {} day", each("month"), from_end(*n)),
        Every::MonthWeekday { nth, day } => {
            format!("{} on the {} {}", each("month"), from_end(*nth), name(*day))
        }
        Every::Year => each("year"),
    };
    match rule.ends {
        Ends::Count(1) => format!("{what}, once"),
        Ends::Count(n) => format!("{what}, {n} times"),
        Ends::On(day) => format!("{what}, until {}", long_day(day)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::{date, datetime};

    #[test]
    fn dates_are_written_for_people() {
        let (from, to) =
            (datetime(2026, 12, 12, 10, 0, 0, 0), datetime(2026, 12, 12, 15, 30, 0, 0));
        let next = datetime(2026, 12, 13, 9, 5, 0, 0);
        let today = date(2026, 11, 25);
        assert_eq!(span(from, to, today), "Sat 12 December, 10:00–15:30");
        assert_eq!(span(from, to, date(2027, 1, 1)), "Sat 12 December 2026, 10:00–15:30");
        assert_eq!(span(from, next, today), "Sat 12 December, 10:00 – Sun 13 December, 09:05");
        assert_eq!(long_span(from, to), "Saturday 12 December 2026, 10:00 to 15:30");
        let noon = Timestamp::from_second(1_795_608_000).unwrap(); // 2026-11-25T12:00Z
        let hours = |h| noon + jiff::SignedDuration::from_hours(h);
        assert_eq!(moment(noon, "Europe/Berlin", noon), "today 13:00");
        assert_eq!(moment(hours(11), "Europe/Berlin", noon), "tomorrow 00:00");
        assert_eq!(moment(hours(48), "Nowhere/Land", noon), "Fri 27 November, 12:00");
        assert_eq!(deadline(hours(11), "Europe/Berlin", noon), "today");
        assert_eq!(deadline(hours(59), "Europe/Berlin", noon), "Fri 27 November");
        assert_eq!(deadline(hours(58), "Europe/Berlin", noon), "Fri 27 November, 23:00");
        assert_eq!(count(1, "seats"), "1 seat");
        assert_eq!(count(0, "protective suits"), "0 protective suits");
    }

    #[test]
    fn a_rule_is_read_back_in_plain_words() {
        let said = |text: &str| rule(&Rule::parse(text).unwrap());
        assert_eq!(
            said("FREQ=WEEKLY;INTERVAL=2;BYDAY=MO,WE,TH;COUNT=6"),
            "every 2nd week on Monday, Wednesday and Thursday, 6 times"
        );
        assert_eq!(said("FREQ=MONTHLY;BYDAY=2TU;COUNT=1"), "every month on the 2nd Tuesday, once");
        assert_eq!(
            said("FREQ=MONTHLY;BYMONTHDAY=-1;UNTIL=20271231T235959"),
            "every month on the last day, until Friday 31 December 2027"
        );
        assert_eq!(
            said("FREQ=MONTHLY;INTERVAL=3;BYDAY=-1FR;COUNT=4"),
            "every 3rd month on the last Friday, 4 times"
        );
        assert_eq!(said("FREQ=DAILY;INTERVAL=11;COUNT=3"), "every 11th day, 3 times");
    }
}
