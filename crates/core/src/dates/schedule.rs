//! Dates and clocks: civil times in a named zone, and sale windows.

use jiff::tz::TimeZone;
use jiff::{Timestamp, civil};
use serde::{Deserialize, Serialize};

/// Why a date's times were refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SpanError {
    /// The zone is not in the IANA database.
    #[error("unknown time zone {zone}")]
    UnknownZone {
        /// The name given.
        zone: String,
    },
    /// The end is not after the start.
    #[error("the end {ends} is not after the start {starts}")]
    EndsFirst {
        /// Local start.
        starts: civil::DateTime,
        /// Local end.
        ends: civil::DateTime,
    },
    /// The clocks skip this hour, or it comes twice.
    #[error("{at} is skipped or repeated by a clock change in {zone}")]
    Ambiguous {
        /// The local time in question.
        at: civil::DateTime,
        /// The zone whose clocks change.
        zone: String,
    },
}

/// When a date happens: local wall time in an IANA zone, and the instants it means.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Span {
    /// Local start.
    pub starts: civil::DateTime,
    /// Local end, after the start.
    pub ends: civil::DateTime,
    /// IANA name of the zone.
    pub zone: String,
    /// The instant of the start.
    pub starts_at: Timestamp,
    /// The instant of the end.
    pub ends_at: Timestamp,
}

impl Span {
    /// Fixes local times in a zone.
    ///
    /// # Errors
    /// An unknown zone, an end not after the start, and an hour that a clock change
    /// skips or repeats: those are said, not guessed.
    pub fn new(
        starts: civil::DateTime,
        ends: civil::DateTime,
        zone: &str,
    ) -> Result<Self, SpanError> {
        let tz = TimeZone::get(zone).map_err(|_| SpanError::UnknownZone { zone: zone.into() })?;
        let fix = |at: civil::DateTime| {
            tz.to_ambiguous_zoned_datetime(at)
                .unambiguous()
                .map(|zoned| zoned.timestamp())
                .map_err(|_| SpanError::Ambiguous { at, zone: zone.into() })
        };
        let (starts_at, ends_at) = (fix(starts)?, fix(ends)?);
        if ends_at <= starts_at {
            return Err(SpanError::EndsFirst { starts, ends });
        }
        Ok(Self { starts, ends, zone: zone.into(), starts_at, ends_at })
    }
}

/// From when until when something is sold; open at an end that is `None`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct SaleWindow {
    /// First instant of sale.
    pub from: Option<Timestamp>,
    /// The instant from which it is no longer sold.
    pub until: Option<Timestamp>,
}

/// Where `now` lies in a sale window.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sale {
    /// On sale.
    Open,
    /// Sale starts at this instant.
    NotYet(Timestamp),
    /// Sale ended at this instant.
    Over(Timestamp),
}

impl SaleWindow {
    /// Says whether something is on sale at `now`; a date that has begun is never sold.
    #[must_use]
    pub fn at(&self, date_starts_at: Timestamp, now: Timestamp) -> Sale {
        let until = self.until.map_or(date_starts_at, |u| u.min(date_starts_at));
        match self.from {
            _ if now >= until => Sale::Over(until),
            Some(from) if now < from => Sale::NotYet(from),
            _ => Sale::Open,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::datetime;
    use proptest::prelude::*;

    #[test]
    fn an_hour_that_the_clocks_skip_or_repeat_is_said_not_guessed() {
        let day = |m, d, h, min| datetime(2026, m, d, h, min, 0, 0);
        let span = |from, to| Span::new(from, to, "Europe/Berlin");
        assert!(matches!(
            span(day(3, 29, 2, 30), day(3, 29, 4, 0)),
            Err(SpanError::Ambiguous { .. })
        ));
        assert!(matches!(
            span(day(10, 25, 2, 30), day(10, 25, 4, 0)),
            Err(SpanError::Ambiguous { .. })
        ));
        let night = span(day(3, 28, 22, 0), day(3, 29, 4, 0)).unwrap();
        assert_eq!(night.ends_at.duration_since(night.starts_at).as_hours(), 5);
        assert!(matches!(span(day(5, 1, 9, 0), day(5, 1, 9, 0)), Err(SpanError::EndsFirst { .. })));
        assert!(matches!(
            Span::new(day(5, 1, 9, 0), day(5, 1, 10, 0), "Mars/Base"),
            Err(SpanError::UnknownZone { .. })
        ));
    }

    proptest! {
        /// Exactly one of the three holds, and the window only ever opens once and closes once.
        #[test]
        fn a_sale_opens_once_and_closes_for_good(
            from in prop::option::of(0i64..100), until in prop::option::of(0i64..100), starts in 0i64..100,
        ) {
            let t = |s| Timestamp::from_second(s).unwrap();
            let window = SaleWindow { from: from.map(t), until: until.map(t) };
            let stages: Vec<u8> = (0..110).map(|now| match window.at(t(starts), t(now)) {
                Sale::NotYet(_) => 0,
                Sale::Open => 1,
                Sale::Over(_) => 2,
            }).collect();
            prop_assert!(stages.windows(2).all(|s| s[0] <= s[1]), "{:?}", stages);
            prop_assert!(stages[usize::try_from(starts).unwrap()..].iter().all(|s| *s == 2));
        }
    }

    #[test]
    fn nothing_is_sold_from_the_closing_instant_or_the_start_on() {
        let t = |s| Timestamp::from_second(s).unwrap();
        let window = SaleWindow { from: Some(t(100)), until: Some(t(200)) };
        assert_eq!(window.at(t(300), t(99)), Sale::NotYet(t(100)));
        assert_eq!(window.at(t(300), t(199)), Sale::Open);
        assert_eq!(window.at(t(300), t(200)), Sale::Over(t(200)));
        assert_eq!(window.at(t(150), t(150)), Sale::Over(t(150)));
        assert_eq!(SaleWindow::default().at(t(150), t(0)), Sale::Open);
    }
}
