//! The list of bookings, narrowed by words.

use matricle_core::booking::State;
use matricle_core::words::fold;
use matricle_core::words::search::{Term, alternatives, terms};
use matricle_core::{BookingId, DateId};
use rusqlite::{Connection, OptionalExtension, Row};

use super::{Booking, COLUMNS, booking};
use crate::convert::foreign;
use crate::states::sql;
use crate::{Doing, StoreError, Tx};

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
    /// Words that must all be found, in any order, by their beginnings: names, addresses,
    /// references, events, tickets, what they draw from, months and states.
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

/// Bookings are counted up to so many; of a list that finds more it is said that there are.
pub const MOST_COUNTED: u32 = 10_000;
/// A filter that finds no more than so many is worked out from what it finds; a broader one
/// goes through the list in its order.
const FEW: u32 = 3000;

/// What a filter finds.
#[derive(Debug, Clone)]
pub struct Found {
    /// The rows asked for.
    pub rows: Vec<Listed>,
    /// How many there are in all, counted up to one more than [`MOST_COUNTED`].
    pub count: u32,
}

/// Puts the words of a booking into the index that bookings are searched by, as they are when
/// the commit is made.
pub(super) fn index(tx: &Tx<'_>, id: BookingId) -> rusqlite::Result<()> {
    tx.at_last(move |tx| {
        let words: Option<String> = tx
            .prepare_cached("SELECT search FROM bookings WHERE id = ?1")?
            .query_row([id.0], |row| row.get(0))
            .optional()?;
        let Some(words) = words else { return Ok(()) };
        tx.prepare_cached("INSERT OR REPLACE INTO booking_words (rowid, words) VALUES (?1, ?2)")?
            .execute((id.0, words))
            .map(drop)
    })
}

/// The conditions of a filter, in SQL.
#[derive(Default)]
struct Narrowed {
    /// For all words that only the index knows: what it is asked.
    matching: Vec<String>,
    conditions: Vec<String>,
    values: Vec<String>,
}

impl Narrowed {
    fn and(&mut self, condition: impl Into<String>) {
        self.conditions.push(condition.into());
    }

    /// What one term of a filter asks for. Events, tickets and pools are few, so their names
    /// are gone through; names and addresses of people stand in the index.
    fn term(&mut self, conn: &Connection, term: &Term) -> rusqlite::Result<()> {
        let mut either = Vec::new();
        if !term.states.is_empty() {
            let states: Vec<String> =
                term.states.iter().map(|s| format!("'{}'", s.word())).collect();
            either.push(format!("b.state IN ({})", states.join(", ")));
        }
        if !term.months.is_empty() {
            let months: Vec<String> = term.months.iter().map(|m| format!("'{m:02}'")).collect();
            let day = term
                .day
                .map_or_else(String::new, |day| format!(" AND substr(starts, 9, 2) = '{day:02}'"));
            either.push(format!(
                "b.date_id IN (SELECT id FROM dates WHERE substr(starts, 6, 2) IN ({}){day})",
                months.join(", ")
            ));
        }
        if !term.beginnings.is_empty() {
            let named = |name: &str| {
                let folded = fold(name);
                let words: Vec<&str> = folded.split(|c: char| !c.is_alphanumeric()).collect();
                term.beginnings.iter().all(|b| words.iter().any(|w| w.starts_with(b.as_str())))
            };
            let events = ids(conn, "SELECT id, title || ' ' || kind FROM events", named)?;
            if !events.is_empty() {
                either.push(format!(
                    "b.date_id IN (SELECT id FROM dates WHERE event_id IN ({}))",
                    events.join(", ")
                ));
            }
            let tickets = ids(
                conn,
                "SELECT t.id, t.name || ' ' || coalesce((SELECT group_concat(k.name, ' ') FROM draws w
                    JOIN pool_kinds k ON k.id = w.kind_id WHERE w.ticket_type_id = t.id), '')
                 FROM ticket_types t",
                named,
            )?;
            if !tickets.is_empty() {
                either.push(format!(
                    "EXISTS (SELECT 1 FROM booking_lines l WHERE l.booking_id = b.id AND l.quantity > 0
                        AND l.ticket_type_id IN ({}))",
                    tickets.join(", ")
                ));
            }
        }
        let asked: Vec<String> = term.beginnings.iter().map(|b| format!("\"{b}\"*")).collect();
        let asked = asked.join(" AND ");
        if either.is_empty() {
            let asked = match &term.beginnings[..] {
                [word] if known(conn, &asked, 1)? == 0 => meant(conn, word)?.unwrap_or(asked),
                _ => asked,
            };
            self.matching.push(asked);
            return Ok(());
        }
        if !asked.is_empty() && known(conn, &asked, 1)? > 0 {
            self.values.push(asked);
            either.push(format!(
                "b.id IN (SELECT rowid FROM booking_words WHERE booking_words MATCH ?{})",
                self.values.len()
            ));
        }
        self.and(format!("({})", either.join(" OR ")));
        Ok(())
    }

    /// Where the list is to be read from: what the index finds, if that is not much; else all
    /// bookings in their order.
    fn source(&mut self, conn: &Connection) -> rusqlite::Result<&'static str> {
        if self.matching.is_empty() {
            return Ok("bookings b");
        }
        let asked = self.matching.join(" AND ");
        let few = known(conn, &asked, FEW + 1)? <= FEW;
        self.values.push(asked);
        let at = self.values.len();
        let found = format!("(SELECT rowid FROM booking_words WHERE booking_words MATCH ?{at})");
        if few {
            self.and(format!("b.id IN {found}"));
            // The index of bookings by time is kept out of it, so that what was found leads.
            return Ok("bookings b NOT INDEXED");
        }
        self.and(format!("+b.id IN {found}"));
        Ok("bookings b")
    }
}

/// Rows whose name fits.
fn ids(conn: &Connection, sql: &str, fits: impl Fn(&str) -> bool) -> rusqlite::Result<Vec<String>> {
    let mut query = conn.prepare_cached(sql)?;
    let rows = query.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
    let mut found = Vec::new();
    for row in rows {
        let (id, name): (i64, String) = row?;
        if fits(&name) {
            found.push(id.to_string());
        }
    }
    Ok(found)
}

/// What the index is asked for a word that none begins with: those that are a slip or two away.
fn meant(conn: &Connection, word: &str) -> rusqlite::Result<Option<String>> {
    let vocabulary: Vec<String> = conn
        .prepare_cached("SELECT term FROM booking_vocabulary")?
        .query_map([], |row| row.get(0))?
        .collect::<Result<_, _>>()?;
    let others: Vec<String> =
        alternatives(word, &vocabulary).iter().map(|w| format!("\"{w}\"")).collect();
    Ok((!others.is_empty()).then(|| format!("({})", others.join(" OR "))))
}

/// How many bookings the index finds, counted up to `most`.
fn known(conn: &Connection, asked: &str, most: u32) -> rusqlite::Result<u32> {
    conn.prepare_cached(
        "SELECT count(*) FROM (SELECT 1 FROM booking_words WHERE booking_words MATCH ?1 LIMIT ?2)",
    )?
    .query_row((asked, most), |row| row.get(0))
}

/// Bookings that have got past the first choice, newest first, and how many the filter finds
/// in all.
pub fn list(conn: &Connection, filter: &Filter) -> Result<Found, StoreError> {
    let read = || -> rusqlite::Result<Found> {
        let mut narrowed = Narrowed::default();
        // A hold that nobody has put a name to is no news to anybody.
        narrowed.and(sql!("(b.state <> {Held} AND NOT (b.state = {Lapsed} AND b.name = ''))"));
        narrowed.and(if filter.test { "b.test = 1" } else { "b.test = 0" });
        if let Some(event) = filter.event {
            narrowed
                .and(format!("b.date_id IN (SELECT id FROM dates WHERE event_id = {})", event.0));
        }
        if let Some(date) = filter.date {
            narrowed.and(format!(
                "EXISTS (SELECT 1 FROM attendees a WHERE a.booking_id = b.id AND a.date_id = {})",
                date.0
            ));
        }
        if let Some(state) = filter.state {
            narrowed.and(format!("b.state = '{}'", state.word()));
        }
        for term in terms(&filter.words) {
            narrowed.term(conn, &term)?;
        }
        let source = narrowed.source(conn)?;
        let joined = match filter.order {
            Order::Event | Order::Date => {
                " JOIN dates d ON d.id = b.date_id JOIN events e ON e.id = d.event_id"
            }
            Order::Made | Order::Booker | Order::State | Order::Due => "",
        };
        let from = format!("FROM {source}{joined} WHERE {}", narrowed.conditions.join(" AND "));
        let params = || rusqlite::params_from_iter(narrowed.values.iter());
        let count = conn
            .prepare_cached(&format!(
                "SELECT count(*) FROM (SELECT 1 {from} LIMIT {})",
                MOST_COUNTED + 1
            ))?
            .query_row(params(), |row| row.get(0))?;
        let order = filter.order.sql();
        // What a row shows is read only for the rows that are shown.
        let mut query = conn.prepare_cached(&format!(
            "SELECT {COLUMNS}, e.title, d.starts,
                (SELECT count(*) FROM attendees a WHERE a.booking_id = b.id AND a.position = a.person_no
                    AND a.cancelled_at IS NULL) AS people,
                coalesce((SELECT what FROM timeline t WHERE t.booking_id = b.id ORDER BY t.id DESC LIMIT 1), '') AS last
             FROM (SELECT b.id {from} ORDER BY {order} LIMIT {} OFFSET {}) page CROSS JOIN bookings b ON b.id = page.id
             JOIN dates d ON d.id = b.date_id JOIN events e ON e.id = d.event_id ORDER BY {order}",
            filter.most, filter.skip
        ))?;
        let rows = query.query_map(params(), listed)?.collect::<Result<_, _>>()?;
        Ok(Found { rows, count })
    };
    read().doing("listing bookings")
}
