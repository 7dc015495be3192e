//! The list of bookings, narrowed by words.

use matricle_core::booking::State;
use matricle_core::words::fold;
use matricle_core::{BookingId, DateId};
use rusqlite::{Connection, Row};

use super::{Booking, COLUMNS, booking};
use crate::convert::foreign;
use crate::{Doing, StoreError};

/// A booking as lists show it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// The booking.
    pub booking: Booking,
    /// The title of its event.
    pub title: String,
    /// When its date starts, local.
    pub starts: jiff::civil::DateTime,
    /// People on it.
    pub people: u32,
    /// The last line of its timeline.
    pub last: String,
}

pub(super) fn listed(row: &Row<'_>) -> rusqlite::Result<Listed> {
    let starts: String = row.get("starts")?;
    Ok(Listed {
        booking: booking(row)?,
        title: row.get("title")?,
        starts: starts.parse().map_err(|_| foreign("dates.starts", starts))?,
        people: row.get("people")?,
        last: row.get("last")?,
    })
}

/// The order of a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Order {
    /// The latest first.
    #[default]
    Made,
    /// By booker.
    Booker,
    /// By event.
    Event,
    /// By date, the next first.
    Date,
    /// By state.
    State,
    /// Who owes most first.
    Due,
}

impl Order {
    /// Finds an order by its word in addresses.
    #[must_use]
    pub fn from_word(word: &str) -> Self {
        match word {
            "booker" => Self::Booker,
            "event" => Self::Event,
            "date" => Self::Date,
            "state" => Self::State,
            "due" => Self::Due,
            _ => Self::Made,
        }
    }

    const fn sql(self) -> &'static str {
        match self {
            Self::Made => "b.made_at DESC, b.id DESC",
            Self::Booker => "b.search, b.id",
            Self::Event => "e.title, b.id DESC",
            Self::Date => "d.starts, b.id DESC",
            Self::State => "b.state, b.made_at DESC, b.id DESC",
            Self::Due => "b.total_minor - b.paid_minor DESC, b.id DESC",
        }
    }
}

/// Answers of bookings: which booking, the question as it was worded, the answer.
///
/// # Errors
/// SQLite refuses.
pub fn answers_of(
    conn: &Connection,
    bookings: &[BookingId],
) -> Result<Vec<(BookingId, String, String)>, StoreError> {
    let mut query = conn
        .prepare_cached(
            "SELECT label, answer FROM answers WHERE booking_id = ?1 ORDER BY question_id, person_no",
        )
        .doing("reading answers")?;
    let mut all = Vec::new();
    for booking in bookings {
        let rows = query
            .query_map([booking.0], |row| Ok((row.get(0)?, row.get(1)?)))
            .and_then(Iterator::collect::<Result<Vec<(String, String)>, _>>)
            .doing("reading answers")?;
        all.extend(rows.into_iter().map(|(label, answer)| (*booking, label, answer)));
    }
    Ok(all)
}

/// What a list of bookings is narrowed to.
#[derive(Debug, Clone, Default)]
pub struct Filter {
    /// Words that must all be found, in any order: names, addresses, references,
    /// event titles, months and states.
    pub words: String,
    /// Only this event.
    pub event: Option<matricle_core::EventId>,
    /// Only this date, or a course that covers it.
    pub date: Option<DateId>,
    /// Only this state.
    pub state: Option<State>,
    /// Test bookings instead of real ones.
    pub test: bool,
    /// In which order.
    pub order: Order,
    /// Rows to leave out at the start.
    pub skip: u32,
    /// Most rows.
    pub most: u32,
}

/// Bookings that have got past the first choice, newest first, and how many the
/// filter finds in all.
///
/// # Errors
/// SQLite refuses.
pub fn list(conn: &Connection, filter: &Filter) -> Result<(Vec<Listed>, u32), StoreError> {
    // A hold that nobody has put a name to is no news to anybody.
    let mut conditions =
        String::from("(b.state <> 'held' AND NOT (b.state = 'lapsed' AND b.name = ''))");
    conditions.push_str(if filter.test { " AND b.test = 1" } else { " AND b.test = 0" });
    let mut values: Vec<String> = Vec::new();
    if let Some(event) = filter.event {
        conditions.push_str(" AND d.event_id = ?");
        values.push(event.0.to_string());
    }
    if let Some(date) = filter.date {
        conditions.push_str(
            " AND EXISTS (SELECT 1 FROM attendees a WHERE a.booking_id = b.id AND a.date_id = ?)",
        );
        values.push(date.0.to_string());
    }
    if let Some(state) = filter.state {
        conditions.push_str(" AND b.state = ?");
        values.push(state.word().to_owned());
    }
    for word in fold(&filter.words).split(' ').filter(|w| !w.is_empty()) {
        // Folded words hold no LIKE wildcard.
        conditions.push_str(
            " AND (b.search || ' ' || e.title || ' ' || e.kind || ' ' || d.month || ' ' || b.state ||
                CASE b.state WHEN 'awaiting payment' THEN ' to pay' WHEN 'requested' THEN ' asking' ELSE '' END
             ) LIKE ?",
        );
        values.push(format!("%{word}%"));
    }
    let from = format!(
        "FROM bookings b JOIN (SELECT id, event_id, starts,
            CASE substr(starts, 6, 2) WHEN '01' THEN 'january' WHEN '02' THEN 'february' WHEN '03' THEN 'march'
            WHEN '04' THEN 'april' WHEN '05' THEN 'may' WHEN '06' THEN 'june' WHEN '07' THEN 'july'
            WHEN '08' THEN 'august' WHEN '09' THEN 'september' WHEN '10' THEN 'october'
            WHEN '11' THEN 'november' ELSE 'december' END AS month FROM dates) d ON d.id = b.date_id
         JOIN events e ON e.id = d.event_id WHERE {conditions}"
    );
    let params = || rusqlite::params_from_iter(values.iter());
    let read = || -> rusqlite::Result<(Vec<Listed>, u32)> {
        let count = conn
            .prepare_cached(&format!("SELECT count(*) {from}"))?
            .query_row(params(), |row| row.get(0))?;
        let mut query = conn.prepare_cached(&format!(
            "SELECT {COLUMNS}, e.title, d.starts,
                (SELECT count(*) FROM attendees a WHERE a.booking_id = b.id AND a.position = a.person_no
                    AND a.cancelled_at IS NULL) AS people,
                coalesce((SELECT what FROM timeline t WHERE t.booking_id = b.id ORDER BY t.id DESC LIMIT 1), '') AS last
             {from} ORDER BY {} LIMIT {} OFFSET {}",
            filter.order.sql(),
            filter.most, filter.skip
        ))?;
        let rows = query.query_map(params(), listed)?;
        Ok((rows.collect::<Result<_, _>>()?, count))
    };
    read().doing("listing bookings")
}
