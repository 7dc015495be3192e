//! Lists of dates: the Programme, the Office, months.

use jiff::{Timestamp, civil};
use matricle_core::dates::availability::{Availability, OnSale};
use matricle_core::seats::Pool;
use matricle_core::{EventId, HostId, RoomId, VenueId};
use rusqlite::{Connection, Row, ToSql};

use crate::convert::foreign;
use crate::events::choices::{SHOWN, on_sale};
use crate::events::dates::{
    DATE_COLUMNS, DATE_WIDTH, Date, POOL_COLUMNS, date_at, longest, pool_at,
};
use crate::events::event::{EVENT_COLUMNS, EVENT_WIDTH, Event, Format, event};
use crate::states::sql_of;
use crate::{Doing, StoreError, us};

impl DateSummary {
    /// When what is told of it last changed.
    #[must_use]
    pub fn changed_at(&self) -> Timestamp {
        self.date.changed_at.map_or(self.event.changed_at, |at| at.max(self.event.changed_at))
    }

    /// When what calendars show of it last changed: its own time and place, or the event's words.
    #[must_use]
    pub fn shown_at(&self) -> Timestamp {
        self.date.changed_at.map_or(self.event.shown_at, |at| at.max(self.event.shown_at))
    }

    /// Whether a stranger can book it at `now`.
    #[must_use]
    pub fn availability(&self, now: Timestamp) -> Availability {
        let tickets = self.on_sale.iter().copied();
        Availability::of(tickets, self.pool.free(), self.date.span.starts_at, now)
    }
}

/// What lists say of a date.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DateSummary {
    /// The event.
    pub event: Event,
    /// The date.
    pub date: Date,
    /// The pool its strip shows.
    pub pool: Pool,
    /// People who are in.
    pub inside: u32,
    /// The lowest and the highest price, today, of the tickets that everybody sees, in minor units.
    pub prices: Option<(i64, i64)>,
    /// How these tickets are sold.
    pub on_sale: Vec<OnSale>,
    /// One of many slots, of which lists show the next.
    pub slot: bool,
    /// Of a course: how many dates it has, and when the last of them starts.
    pub course: Option<(u32, civil::DateTime)>,
}

/// What a list of dates is narrowed to.
#[derive(Debug, Clone, Default)]
pub struct Sought {
    /// Drafts, unlisted and called-off ones as well, for staff.
    pub staff: bool,
    /// Called-off ones as well, so that calendars can strike them out.
    pub off: bool,
    /// Unlisted ones as well, for whoever has the link.
    pub unlisted: bool,
    /// Words of the index: of each group one must be found.
    pub words: Vec<Vec<String>>,
    /// A tag, by its slug.
    pub tag: Option<String>,
    /// Dates on from this instant, and starting before that one.
    pub between: Option<(Timestamp, Timestamp)>,
    /// A venue.
    pub venue: Option<VenueId>,
    /// A room.
    pub room: Option<RoomId>,
    /// A host.
    pub host: Option<HostId>,
    /// An event.
    pub event: Option<EventId>,
    /// In person or online; both belong to either.
    pub format: Option<Format>,
    /// Only with seats left.
    pub with_seats: bool,
    /// Of a course the next date, of slots the next free one.
    pub collapsed: bool,
    /// Rows to leave out at the start.
    pub skip: u32,
    /// Most rows.
    pub most: u32,
}

/// Dates that were found.
#[derive(Debug, Clone)]
pub struct Found {
    /// The dates, soonest first.
    pub dates: Vec<DateSummary>,
    /// Whether there are more.
    pub more: bool,
}

/// A `MATCH` expression (SQLite FTS5 §3) for groups of words of which one must be found.
fn matching(groups: &[Vec<String>]) -> String {
    let one = |group: &Vec<String>| {
        let words: Vec<String> =
            group.iter().map(|w| format!("\"{}\"", w.replace('"', ""))).collect();
        format!("({})", words.join(" OR "))
    };
    groups.iter().map(one).collect::<Vec<_>>().join(" AND ")
}

/// What a ticket costs today.
const TODAY: &str = "CASE WHEN t.early_minor IS NOT NULL AND t.early_until > :now THEN t.early_minor ELSE t.minor END";

impl Sought {
    /// What whoever asks may see: all, for those who see the Office.
    const fn seen(&self) -> Option<&'static str> {
        match (self.staff, self.off, self.unlisted) {
            (true, ..) => None,
            (false, true, true) => Some("e.state IN ('published', 'called off')"),
            (false, true, false) => Some("e.state IN ('published', 'called off') AND e.listed = 1"),
            (false, false, true) => Some("e.state = 'published' AND d.called_off = ''"),
            (false, false, false) => {
                Some("e.state = 'published' AND d.called_off = '' AND e.listed = 1")
            }
        }
    }
}

/// A date in a list.
fn summary(row: &Row<'_>) -> rusqlite::Result<DateSummary> {
    let prices = match (row.get("least")?, row.get("most")?) {
        (Some(least), Some(most)) => Some((least, most)),
        _ => None,
    };
    Ok(DateSummary {
        event: event(row)?,
        date: date_at(row, EVENT_WIDTH)?,
        pool: pool_at(row, EVENT_WIDTH + DATE_WIDTH)?,
        inside: row.get("inside")?,
        prices,
        on_sale: on_sale(row)?,
        slot: row.get("slot")?,
        course: course(row)?,
    })
}

/// Dates with what lists say of them, soonest first. Without `between`: those that are
/// not over.
pub fn list(conn: &Connection, asked: &Sought, now: Timestamp) -> Result<Found, StoreError> {
    if asked.words.iter().any(Vec::is_empty) {
        return Ok(Found { dates: Vec::new(), more: false });
    }
    let longest = longest(conn)?;
    let (from, until) = match asked.between {
        Some((from, until)) => (us(from), us(until)),
        None => (us(now), i64::MAX),
    };
    let bound = from.saturating_sub(longest);
    let now_us = us(now);
    let words = matching(&asked.words);
    let format = asked.format.map(Format::word);
    let mut params: Vec<(&str, &dyn ToSql)> =
        vec![(":now", &now_us), (":from", &from), (":until", &until), (":bound", &bound)];
    let mut which =
        String::from("d.starts_at >= :bound AND d.starts_at < :until AND d.ends_at > :from");
    let mut narrow = |sql: &str| {
        which.push_str(" AND ");
        which.push_str(sql);
    };
    if let Some(seen) = asked.seen() {
        narrow(seen);
    }
    if !asked.words.is_empty() {
        narrow("e.id IN (SELECT rowid FROM event_text WHERE event_text MATCH :words)");
        params.push((":words", &words));
    }
    if let Some(tag) = &asked.tag {
        narrow(
            "e.id IN (SELECT et.event_id FROM event_tags et JOIN tags t ON t.id = et.tag_id WHERE t.slug = :tag)",
        );
        params.push((":tag", tag));
    }
    if let Some(venue) = &asked.venue {
        narrow("d.venue_id = :venue");
        params.push((":venue", &venue.0));
    }
    if let Some(room) = &asked.room {
        narrow("d.room_id = :room");
        params.push((":room", &room.0));
    }
    if let Some(host) = &asked.host {
        narrow("d.id IN (SELECT date_id FROM date_hosts WHERE host_id = :host)");
        params.push((":host", &host.0));
    }
    if let Some(event) = &asked.event {
        narrow("d.event_id = :event");
        params.push((":event", &event.0));
    }
    if let Some(format) = &format {
        narrow("e.format IN (:format, 'in person and online')");
        params.push((":format", format));
    }
    if asked.with_seats {
        narrow(
            "d.starts_at > :now AND p.held + p.requested + p.awaiting_payment + p.confirmed < p.capacity",
        );
    }
    if asked.collapsed {
        narrow(
            "(e.course = 0 OR d.id = (SELECT d2.id FROM dates d2 WHERE d2.event_id = e.id AND d2.ends_at > :now
                AND d2.called_off = '' ORDER BY d2.starts_at LIMIT 1))
             AND (sp.event_id IS NULL OR d.id = (SELECT d2.id FROM dates d2
                JOIN pools p2 ON p2.date_id = d2.id AND p2.kind_id = k.id
                WHERE d2.event_id = e.id AND d2.starts_at >= :now + sp.notice_hours * 3600000000
                AND p2.held + p2.requested + p2.awaiting_payment + p2.confirmed < p2.capacity
                ORDER BY d2.starts_at LIMIT 1))",
        );
    }
    let sql = sql_of!(
        "SELECT {EVENT_COLUMNS}, {DATE_COLUMNS}, {POOL_COLUMNS}, d.inside, sp.event_id IS NOT NULL AS slot,
            (SELECT min({TODAY}) FROM ticket_types t WHERE {SHOWN}) AS least,
            (SELECT max({TODAY}) FROM ticket_types t WHERE {SHOWN}) AS most,
            CASE WHEN e.course THEN (SELECT json_array(count(*), max(d3.starts)) FROM dates d3
                WHERE d3.event_id = e.id AND d3.called_off = '') END AS course_dates,
            (SELECT json_group_array(json_array(t.sale_from, t.sale_until, t.members_only, t.closed))
                FROM ticket_types t WHERE {SHOWN}) AS on_sale
         FROM dates d JOIN events e ON e.id = d.event_id JOIN venues v ON v.id = d.venue_id
         JOIN pool_kinds k ON k.event_id = e.id AND k.position = 0
         JOIN pools p ON p.date_id = d.id AND p.kind_id = k.id
         LEFT JOIN slot_plans sp ON sp.event_id = e.id
         WHERE e.thrown_at IS NULL AND {which} ORDER BY d.starts_at, d.id LIMIT {} OFFSET {}",
        asked.most.saturating_add(1),
        asked.skip
    );
    let mut dates: Vec<DateSummary> = conn
        .prepare_cached(&sql)
        .and_then(|mut q| q.query_map(params.as_slice(), summary)?.collect())
        .doing("listing dates")?;
    let more = dates.len() > asked.most as usize;
    dates.truncate(asked.most as usize);
    Ok(Found { dates, more })
}

/// How many dates a course has, and when the last starts.
fn course(row: &Row<'_>) -> rusqlite::Result<Option<(u32, civil::DateTime)>> {
    let Some(json) = row.get::<_, Option<String>>("course_dates")? else { return Ok(None) };
    let (count, last): (u32, String) =
        serde_json::from_str(&json).map_err(|_| foreign("course_dates", json.clone()))?;
    let last = last.parse().map_err(|_| foreign("dates.starts", last.clone()))?;
    Ok(Some((count, last)))
}

/// Months in which listed dates are still to come, the first of each and how many.
pub fn months(conn: &Connection, now: Timestamp) -> Result<Vec<(civil::Date, u32)>, StoreError> {
    let bound = us(now).saturating_sub(longest(conn)?);
    conn.prepare_cached(
        "SELECT substr(d.starts, 1, 7) || '-01' AS month, count(*) FROM dates d
         JOIN events e ON e.id = d.event_id
         WHERE d.starts_at >= ?2 AND d.ends_at > ?1 AND e.state = 'published' AND e.listed = 1
            AND d.called_off = '' GROUP BY 1 ORDER BY 1 LIMIT 36",
    )
    .and_then(|mut q| {
        q.query_map((us(now), bound), |row| {
            let month: String = row.get(0)?;
            Ok((month.parse().map_err(|_| foreign("dates.starts", month))?, row.get(1)?))
        })?
        .collect()
    })
    .doing("counting months")
}
