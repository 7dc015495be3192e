//! How many to a page, and how dates are written: as the reader likes.

use axum::http::HeaderMap;
use jiff::civil::DateTime;
use matricle_formats::words;

use crate::cookies::cookie;

/// The cookie that remembers it.
pub(crate) const VIEW: &str = "view";

/// How lists are read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct View {
    /// Rows on a page.
    pub(crate) rows: usize,
    /// How days are written.
    pub(crate) days: Days,
}

/// How days are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Days {
    /// `Sat 12 December, 10:00`.
    Words,
    /// `2026-12-12 10:00` (ISO 8601).
    Numbers,
    /// `12/12/2026, 10:00`.
    Slashes,
}

impl Days {
    pub(crate) const ALL: [Self; 3] = [Self::Words, Self::Numbers, Self::Slashes];

    pub(crate) const fn word(self) -> &'static str {
        match self {
            Self::Words => "words",
            Self::Numbers => "numbers",
            Self::Slashes => "slashes",
        }
    }

    /// A day and an hour, written so.
    pub(crate) fn write(self, at: DateTime, today: jiff::civil::Date) -> String {
        match self {
            Self::Words => format!("{}, {}", words::day(at.date(), today), words::clock(at)),
            Self::Numbers => at.strftime("%Y-%m-%d %H:%M").to_string(),
            Self::Slashes => at.strftime("%d/%m/%Y, %H:%M").to_string(),
        }
    }
}

/// Rows that can be chosen.
pub(crate) const ROWS: [usize; 3] = [10, 30, 100];

impl View {
    /// As the reader chose before; what is no choice is the usual.
    pub(crate) fn of(headers: &HeaderMap) -> Self {
        Self::read(cookie(headers, VIEW).unwrap_or_default())
    }

    /// From `30.words`.
    pub(crate) fn read(text: &str) -> Self {
        let (rows, days) = text.split_once('.').unwrap_or((text, ""));
        let rows = rows.parse().ok().filter(|n| ROWS.contains(n)).unwrap_or(ROWS[0]);
        let days = Days::ALL.into_iter().find(|d| d.word() == days).unwrap_or(Days::Words);
        Self { rows, days }
    }

    pub(crate) fn text(self) -> String {
        format!("{}.{}", self.rows, self.days.word())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::datetime;

    #[test]
    fn what_a_reader_chose_is_remembered_and_nonsense_is_the_usual() {
        for rows in ROWS {
            for days in Days::ALL {
                let view = View { rows, days };
                assert_eq!(View::read(&view.text()), view);
            }
        }
        assert_eq!(View::read("7.moons"), View { rows: 10, days: Days::Words });
        let at = datetime(2026, 12, 12, 10, 5, 0, 0);
        let written = Days::ALL.map(|d| d.write(at, at.date()));
        assert_eq!(written, ["Sat 12 December, 10:05", "2026-12-12 10:05", "12/12/2026, 10:05"]);
    }
}
