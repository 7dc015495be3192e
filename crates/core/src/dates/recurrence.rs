//! Runs: the dates that a repeat rule gives (RFC 5545 §3.3.10).
//!
//! A rule works on local wall time: the clock shows the same hour on every date,
//! whatever the zone's clocks do in between. Which instants that means is said by
//! [`Span`](crate::dates::schedule::Span), which refuses hours that come twice or never.

use std::fmt::Write;

use jiff::ToSpan;
use jiff::civil::{Date, Weekday};

/// The most dates of one run: ten years of every week, or a year and more of every day.
pub const MOST_DATES: usize = 520;

/// What repeats.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Every {
    /// Every day.
    Day,
    /// Every week on these days, Monday first.
    Week(Vec<Weekday>),
    /// Every month on this day; negative counts from the end, -1 is the last. Months
    /// that are too short are left out.
    MonthDay(i8),
    /// Every month on the n-th such weekday; negative counts from the end.
    MonthWeekday {
        /// 1 to 5, or -1 to -5.
        nth: i8,
        /// Which day of the week.
        day: Weekday,
    },
    /// Every year on the day of the first date; 29 February only in leap years.
    Year,
}

/// Where a rule ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ends {
    /// After so many dates.
    Count(u32),
    /// With this day, which may still be a date.
    On(Date),
}

/// A repeat rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rule {
    /// What repeats.
    pub every: Every,
    /// Every so many days, weeks, months or years; at least 1.
    pub interval: u32,
    /// Where it ends.
    pub ends: Ends,
}

/// Why a rule was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RuleError {
    /// No rule gives dates for nothing, or without end.
    #[error("the rule gives no date")]
    NoDate,
    /// More dates than one run may have.
    #[error("the rule gives more than {most} dates")]
    TooMany {
        /// The most allowed.
        most: usize,
    },
    /// Not a rule of the kinds known here.
    #[error("{text:?} is not a rule that is known here")]
    Unknown {
        /// What was given.
        text: String,
    },
}

/// Two letters for a weekday (RFC 5545 §3.3.10).
const fn letters(day: Weekday) -> &'static str {
    match day {
        Weekday::Monday => "MO",
        Weekday::Tuesday => "TU",
        Weekday::Wednesday => "WE",
        Weekday::Thursday => "TH",
        Weekday::Friday => "FR",
        Weekday::Saturday => "SA",
        Weekday::Sunday => "SU",
    }
}

/// The weekdays, Monday first.
pub const WEEK: [Weekday; 7] = [
    Weekday::Monday,
    Weekday::Tuesday,
    Weekday::Wednesday,
    Weekday::Thursday,
    Weekday::Friday,
    Weekday::Saturday,
    Weekday::Sunday,
];

/// Finds a weekday by its two letters.
#[must_use]
pub fn weekday(text: &str) -> Option<Weekday> {
    WEEK.into_iter().find(|d| letters(*d) == text)
}

impl Rule {
    /// The days of the run, from `first` on, in their order. `first` itself is one of
    /// them only when the rule says so.
    ///
    /// # Errors
    /// No day at all, or more than [`MOST_DATES`].
    pub fn days(&self, first: Date) -> Result<Vec<Date>, RuleError> {
        let mut days = Vec::new();
        // Every rule here gives a day at least every eight years (29 February around
        // 2100), times its interval; past that there is none.
        let mut barren = 0;
        for step in 0u32.. {
            let Some(mut found) = self.step(first, step) else { break };
            found.retain(|d| *d >= first);
            barren = if found.is_empty() { barren + 1 } else { 0 };
            if barren > 500 {
                break;
            }
            for day in found {
                match self.ends {
                    Ends::Count(count) if days.len() >= count as usize => return done(days),
                    Ends::On(last) if day > last => return done(days),
                    _ => {}
                }
                if days.len() >= MOST_DATES {
                    return Err(RuleError::TooMany { most: MOST_DATES });
                }
                days.push(day);
            }
            if matches!(self.ends, Ends::On(last) if self.begins(first, step).is_none_or(|d| d > last))
            {
                break;
            }
        }
        done(days)
    }

    /// The first day of the n-th period, for knowing when to stop.
    fn begins(&self, first: Date, step: u32) -> Option<Date> {
        let n = i64::from(step.checked_mul(self.interval.max(1))?);
        match self.every {
            Every::Day => first.checked_add(n.days()).ok(),
            Every::Week(_) => monday(first)?.checked_add((n * 7).days()).ok(),
            Every::MonthDay(_) | Every::MonthWeekday { .. } => {
                first.first_of_month().checked_add(n.months()).ok()
            }
            Every::Year => first.first_of_year().checked_add(n.years()).ok(),
        }
    }

    /// The days of the n-th period, in their order; `None` at the end of the calendar.
    fn step(&self, first: Date, step: u32) -> Option<Vec<Date>> {
        let begins = self.begins(first, step)?;
        Some(match &self.every {
            Every::Day => vec![begins],
            Every::Week(days) => WEEK
                .into_iter()
                .filter(|d| days.contains(d))
                .filter_map(|d| {
                    begins.checked_add(i64::from(d.to_monday_zero_offset()).days()).ok()
                })
                .collect(),
            Every::MonthDay(n) => {
                let length = begins.days_in_month();
                let day = if *n < 0 { length + 1 + n } else { *n };
                Date::new(begins.year(), begins.month(), day)
                    .ok()
                    .filter(|_| (1..=length).contains(&day))
                    .into_iter()
                    .collect()
            }
            Every::MonthWeekday { nth, day } => {
                begins.nth_weekday_of_month(*nth, *day).ok().into_iter().collect()
            }
            Every::Year => {
                Date::new(begins.year(), first.month(), first.day()).ok().into_iter().collect()
            }
        })
    }

    /// The rule as RFC 5545 §3.3.10 writes it.
    #[must_use]
    pub fn text(&self) -> String {
        let (freq, by) = match &self.every {
            Every::Day => ("DAILY", String::new()),
            Every::Week(days) => {
                let days: Vec<&str> =
                    WEEK.into_iter().filter(|d| days.contains(d)).map(letters).collect();
                ("WEEKLY", format!(";BYDAY={}", days.join(",")))
            }
            Every::MonthDay(n) => ("MONTHLY", format!(";BYMONTHDAY={n}")),
            Every::MonthWeekday { nth, day } => {
                ("MONTHLY", format!(";BYDAY={nth}{}", letters(*day)))
            }
            Every::Year => ("YEARLY", String::new()),
        };
        let mut text = format!("FREQ={freq}");
        if self.interval > 1 {
            let _ = write!(text, ";INTERVAL={}", self.interval);
        }
        text.push_str(&by);
        match self.ends {
            Ends::Count(n) => {
                let _ = write!(text, ";COUNT={n}");
            }
            Ends::On(day) => {
                let _ = write!(text, ";UNTIL={}T235959", day.strftime("%Y%m%d"));
            }
        }
        text
    }

    /// Reads a rule written by [`Rule::text`].
    ///
    /// # Errors
    /// [`RuleError::Unknown`] for anything else.
    pub fn parse(text: &str) -> Result<Self, RuleError> {
        let unknown = || RuleError::Unknown { text: text.into() };
        let part =
            |name: &str| text.split(';').find_map(|p| p.strip_prefix(name)?.strip_prefix('='));
        let every = match (part("FREQ"), part("BYDAY"), part("BYMONTHDAY")) {
            (Some("DAILY"), None, None) => Every::Day,
            (Some("WEEKLY"), Some(days), None) => Every::Week(
                days.split(',').map(weekday).collect::<Option<_>>().ok_or_else(unknown)?,
            ),
            (Some("MONTHLY"), None, Some(n)) => Every::MonthDay(n.parse().map_err(|_| unknown())?),
            (Some("MONTHLY"), Some(nth), None) if nth.is_ascii() && nth.len() > 2 => {
                let (n, day) = nth.split_at(nth.len() - 2);
                Every::MonthWeekday {
                    nth: n.parse().map_err(|_| unknown())?,
                    day: weekday(day).ok_or_else(unknown)?,
                }
            }
            (Some("YEARLY"), None, None) => Every::Year,
            _ => return Err(unknown()),
        };
        let ends = match (part("COUNT"), part("UNTIL")) {
            (Some(n), None) => Ends::Count(n.parse().map_err(|_| unknown())?),
            (None, Some(day)) => Ends::On(
                Date::strptime("%Y%m%d", day.get(..8).ok_or_else(unknown)?)
                    .map_err(|_| unknown())?,
            ),
            _ => return Err(unknown()),
        };
        let interval = part("INTERVAL").map_or(Ok(1), str::parse).map_err(|_| unknown())?;
        Ok(Self { every, interval, ends })
    }
}

fn monday(day: Date) -> Option<Date> {
    day.checked_sub(i64::from(day.weekday().to_monday_zero_offset()).days()).ok()
}

fn done(days: Vec<Date>) -> Result<Vec<Date>, RuleError> {
    if days.is_empty() { Err(RuleError::NoDate) } else { Ok(days) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use proptest::prelude::*;

    fn every() -> impl Strategy<Value = Every> {
        let weekday = || prop::sample::select(WEEK.to_vec());
        // The fifth from the end is valid too, but the other library does not know it.
        let nth = prop_oneof![1i8..=5, -4i8..=-1];
        prop_oneof![
            Just(Every::Day),
            prop::collection::btree_set(0usize..7, 1..5)
                .prop_map(|days| Every::Week(days.into_iter().map(|d| WEEK[d]).collect())),
            prop_oneof![1i8..=31, -31i8..=-1].prop_map(Every::MonthDay),
            (nth, weekday()).prop_map(|(nth, day)| Every::MonthWeekday { nth, day }),
            Just(Every::Year),
        ]
    }

    fn rule() -> impl Strategy<Value = Rule> {
        let ends = prop_oneof![
            (1u32..40).prop_map(Ends::Count),
            (2027i16..2032, 1i8..=12, 1i8..=28).prop_map(|(y, m, d)| Ends::On(date(y, m, d))),
        ];
        (every(), 1u32..5, ends).prop_map(|(every, interval, ends)| Rule { every, interval, ends })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]
        /// The days, and the wall times in zones whose clocks change, are those of a library
        /// that is not ours.
        #[test]
        fn a_rule_gives_the_dates_of_an_independent_library(
            rule in rule(), year in 2024i16..2028, month in 1i8..=12, day in 1i8..=31, hour in 0i8..24,
            zone in prop::sample::select(vec!["Europe/Dublin", "America/New_York", "Australia/Lord_Howe", "Asia/Kolkata", "America/Santiago"]),
        ) {
            let Ok(first) = jiff::civil::Date::new(year, month, day) else { return Ok(()) };
            // A start in an hour that comes twice or never they refuse, as `Span` does.
            let tz = jiff::tz::TimeZone::get(zone).unwrap();
            let fixed = tz.to_ambiguous_zoned_datetime(first.at(hour, 30, 0, 0)).unambiguous();
            if fixed.is_err() {
                return Ok(());
            }
            let ours = rule.days(first);
            // Their UNTIL must be an instant once the start has a zone (RFC 5545 §3.3.10).
            let text = match rule.ends {
                Ends::On(last) => {
                    let end = last.at(23, 59, 59, 0).to_zoned_datetime(jiff::tz::TimeZone::get(zone).unwrap()).unwrap();
                    let utc = end.timestamp().strftime("%Y%m%dT%H%M%SZ").to_string();
                    let plain = rule.text();
                    format!("{}UNTIL={utc}", plain.split("UNTIL=").next().unwrap())
                }
                Ends::Count(_) => rule.text(),
            };
            let source = format!("DTSTART;TZID={zone}:{}T{hour:02}3000\nRRULE:{text}", first.strftime("%Y%m%d"));
            // Rules that give nothing at all, and an end before the start, they refuse.
            let set = match source.parse::<rrule::RRuleSet>() {
                Ok(set) => set,
                Err(error) => {
                    prop_assert!(matches!(rule.ends, Ends::On(last) if last <= first), "{source}: {error}");
                    return Ok(());
                }
            };
            let theirs = set.all(600).dates;
            let Ok(ours) = ours else {
                prop_assert!(theirs.is_empty() || theirs.len() > MOST_DATES, "{source}: {ours:?}, {}", theirs.len());
                return Ok(());
            };
            // An hour that comes twice or never is refused by `Span`; libraries guess there.
            let sure = |d: &jiff::civil::Date| {
                tz.to_ambiguous_zoned_datetime(d.at(hour, 30, 0, 0)).unambiguous().is_ok()
            };
            let ours_text: Vec<String> = ours.iter().filter(|d| sure(d)).map(|d| format!("{d} {hour:02}:30")).collect();
            let theirs_text: Vec<String> = theirs.iter()
                .map(|d| d.format("%Y-%m-%d %H:%M").to_string())
                .filter(|t| { let day: jiff::civil::Date = t[..10].parse().unwrap(); sure(&day) })
                .collect();
            // Where a date of theirs was skipped with its hour, theirs goes on counting.
            let n = ours_text.len().min(theirs_text.len());
            prop_assert!(ours_text.len().abs_diff(theirs_text.len()) <= ours.len() - ours_text.len(), "{source}");
            prop_assert_eq!(&ours_text[..n], &theirs_text[..n], "{}", source);
        }

        #[test]
        fn what_is_written_is_read_back(rule in rule()) {
            prop_assert_eq!(Rule::parse(&rule.text()), Ok(rule));
        }
    }

    #[test]
    fn the_second_tuesday_the_last_day_and_the_leap_day() {
        let days = |every, interval, n, first| {
            Rule { every, interval, ends: Ends::Count(n) }.days(first).unwrap()
        };
        let tuesday = Every::MonthWeekday { nth: 2, day: Weekday::Tuesday };
        assert_eq!(
            days(tuesday, 1, 3, date(2026, 11, 25)),
            [date(2026, 12, 8), date(2027, 1, 12), date(2027, 2, 9)]
        );
        assert_eq!(
            days(Every::MonthDay(-1), 1, 3, date(2027, 1, 31)),
            [date(2027, 1, 31), date(2027, 2, 28), date(2027, 3, 31)]
        );
        assert_eq!(days(Every::MonthDay(31), 1, 2, date(2027, 1, 31))[1], date(2027, 3, 31));
        assert_eq!(days(Every::Year, 1, 2, date(2096, 2, 29))[1], date(2104, 2, 29));
    }

    #[test]
    fn a_rule_without_dates_or_with_too_many_is_refused() {
        let rule = |every, ends| Rule { every, interval: 1, ends };
        let first = date(2026, 11, 25);
        let fifth = Every::MonthWeekday { nth: 6, day: Weekday::Monday };
        assert_eq!(rule(fifth, Ends::Count(3)).days(first), Err(RuleError::NoDate));
        assert_eq!(
            rule(Every::Day, Ends::On(date(2026, 11, 1))).days(first),
            Err(RuleError::NoDate)
        );
        assert_eq!(
            rule(Every::Day, Ends::Count(9999)).days(first),
            Err(RuleError::TooMany { most: MOST_DATES })
        );
        for odd in [
            "",
            "FREQ=HOURLY;COUNT=3",
            "FREQ=WEEKLY;BYDAY=XX;COUNT=3",
            "FREQ=DAILY",
            "FREQ=MONTHLY;BYDAY=é1;COUNT=1",
        ] {
            assert!(Rule::parse(odd).is_err(), "{odd}");
        }
    }
}
