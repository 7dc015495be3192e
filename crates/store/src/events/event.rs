//! Events as they are stored.

use jiff::{SignedDuration, Timestamp};
use matricle_core::EventId;
use matricle_core::booking::Rules;
pub use matricle_core::forms::quick::Format;
use matricle_core::people::who::Who;
use rusqlite::{Connection, OptionalExtension, Row, named_params};
use serde::{Deserialize, Serialize};

use crate::convert::{InOrder, json};
use crate::{Doing, StoreError, Tx, us};

/// What is offered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Event {
    /// Its key.
    pub id: EventId,
    /// Its address in the Programme.
    pub slug: String,
    /// Its title.
    pub title: String,
    /// What kind of event, such as *Microscopy workshop*.
    pub kind: String,
    /// One sentence.
    pub lead: String,
    /// Sanitised HTML.
    pub description: String,
    /// What to bring; may be empty.
    pub bring: String,
    /// The cancellation steps in words; may be empty.
    pub refund_note: String,
    /// Draft, published, called off or past.
    pub state: EventState,
    /// How long chosen seats are kept.
    pub hold: SignedDuration,
    /// The word on the booking button; empty for the usual one.
    pub button: String,
    /// Shown and mailed after booking; may be empty.
    pub after_note: String,
    /// In the catalogue and the feeds; otherwise only for those with the link.
    pub listed: bool,
    /// In person, online, or both.
    pub format: Format,
    /// Where it happens online; only for people booked. May be empty for now.
    pub online_link: String,
    /// The passcode there; only for people booked.
    pub online_passcode: String,
    /// When a draft publishes itself.
    pub publish_at: Option<Timestamp>,
    /// Why it was called off; empty otherwise.
    pub called_off: String,
    /// One booking covers all dates.
    pub course: bool,
    /// A course that has begun may still be booked.
    pub latecomers: bool,
    /// Who may book.
    pub who: Who,
    /// One booking a person.
    pub once: bool,
    /// What may happen to its bookings once they are made.
    pub rules: Rules,
    /// When anything about it last changed.
    pub changed_at: Timestamp,
    /// When what calendars show of it last changed.
    pub shown_at: Timestamp,
    /// The colour of its page, as `#1d4f3f`; empty for the house's.
    pub accent: String,
    /// When the draft was thrown away; it is in no list since.
    pub thrown_at: Option<Timestamp>,
    /// Nobody books: people just come.
    pub drop_in: bool,
    /// What it costs then, in words; may be empty.
    pub price_words: String,
    /// Whom to ask, by an address or a number; may be empty.
    pub contact: String,
}

matricle_core::worded! {
    /// The state of an event.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
    pub enum EventState {
        /// Only staff see it.
        #[default]
        Draft = "draft",
        /// In the Programme.
        Published = "published",
        /// Will not happen.
        CalledOff = "called off",
        /// Over.
        Past = "past",
    }
}

pub(crate) const EVENT_COLUMNS: &str = "e.id AS e_id, e.slug, e.title, e.kind, e.lead, e.description, e.bring, \
     e.refund_note, e.state, e.hold_minutes, e.button, e.after_note, e.listed, e.format, e.online_link, \
     e.online_passcode, e.publish_at, e.called_off, e.course, e.latecomers, e.who, e.once, e.rules, e.changed_at, e.accent, e.thrown_at, \
     e.drop_in, e.price_words, e.contact, coalesce(e.shown_at, e.made_at)";

/// How many columns that is: those of a date come after them.
pub(crate) const EVENT_WIDTH: usize = 30;

pub(crate) fn event(row: &Row<'_>) -> rusqlite::Result<Event> {
    let mut c = InOrder::from(row, 0);
    Ok(Event {
        id: EventId(c.next()?),
        slug: c.next()?,
        title: c.next()?,
        kind: c.next()?,
        lead: c.next()?,
        description: c.next()?,
        bring: c.next()?,
        refund_note: c.next()?,
        state: c.word("events.state", EventState::from_word)?,
        hold: SignedDuration::from_mins(c.next()?),
        button: c.next()?,
        after_note: c.next()?,
        listed: c.next()?,
        format: c.word("events.format", Format::from_word)?,
        online_link: c.next()?,
        online_passcode: c.next()?,
        publish_at: c.instant_or()?,
        called_off: c.next()?,
        course: c.next()?,
        latecomers: c.next()?,
        who: c.word("events.who", |who| serde_json::from_str(who).ok())?,
        once: c.next()?,
        rules: c.word("events.rules", |rules| serde_json::from_str(rules).ok())?,
        changed_at: c.instant()?,
        accent: c.next()?,
        thrown_at: c.instant_or()?,
        drop_in: c.next()?,
        price_words: c.next()?,
        contact: c.next()?,
        shown_at: c.instant()?,
    })
}

/// Finds an event by its address, or by one it had before.
pub fn by_slug(conn: &Connection, slug: &str) -> Result<Option<Event>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {EVENT_COLUMNS} FROM events e WHERE e.slug = ?1
            OR e.id = (SELECT event_id FROM old_slugs WHERE slug = ?1) ORDER BY e.slug = ?1 DESC LIMIT 1"
    ))
    .and_then(|mut q| q.query_row([slug], event).optional())
    .doing("looking an event up")
}

/// Finds an event by its key.
pub fn by_id(conn: &Connection, id: EventId) -> Result<Option<Event>, StoreError> {
    conn.prepare_cached(&format!("SELECT {EVENT_COLUMNS} FROM events e WHERE e.id = ?1"))
        .and_then(|mut q| q.query_row([id.0], event).optional())
        .doing("looking an event up")
}

/// The first of `slug`, `slug-2`, `slug-3` … that no event has or had.
pub fn free_slug(conn: &Connection, slug: &str) -> Result<String, StoreError> {
    let mut query = conn
        .prepare_cached(
            "SELECT EXISTS (SELECT 1 FROM events WHERE slug = ?1)
                OR EXISTS (SELECT 1 FROM old_slugs WHERE slug = ?1)",
        )
        .doing("looking for an address")?;
    let mut taken = |slug: &str| {
        query.query_row([slug], |row| row.get::<_, bool>(0)).doing("looking for an address")
    };
    let mut free = slug.to_owned();
    let mut n = 1u32;
    while taken(&free)? {
        n += 1;
        free = format!("{slug}-{n}");
    }
    Ok(free)
}

/// Whether an address leads to another event than this one.
pub fn slug_of_another(conn: &Connection, slug: &str, id: EventId) -> Result<bool, StoreError> {
    Ok(by_slug(conn, slug)?.is_some_and(|e| e.id != id))
}

/// Gives an event another address; the old one keeps leading to it.
///
/// # Errors
/// SQLite refuses, for instance because another event has the address.
pub fn set_slug(tx: &Tx<'_>, id: EventId, slug: &str) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        tx.execute("DELETE FROM old_slugs WHERE slug = ?2 AND event_id = ?1", (id.0, slug))?;
        tx.execute(
            "INSERT OR IGNORE INTO old_slugs (slug, event_id)
             SELECT slug, id FROM events WHERE id = ?1 AND slug <> ?2",
            (id.0, slug),
        )?;
        tx.execute("UPDATE events SET slug = ?2 WHERE id = ?1", (id.0, slug)).map(drop)
    };
    write().doing("giving an event another address")
}

/// Moves an event to a state; a set time of publishing is over with that.
pub fn set_state(tx: &Tx<'_>, id: EventId, state: EventState) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE events SET state = ?2, publish_at = NULL WHERE id = ?1",
        (id.0, state.word()),
    )
    .map(drop)
    .doing("moving an event")
}

/// Throws a draft away, or brings it back: it publishes itself no more while it is away, and not
/// at once where its time has passed meanwhile.
pub fn set_thrown(tx: &Tx<'_>, id: EventId, away: bool, now: Timestamp) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE events SET thrown_at = iif(?2, ?3, NULL),
            publish_at = iif(?2 OR publish_at > ?3, publish_at, NULL)
         WHERE id = ?1 AND state = 'draft'",
        (id.0, away, us(now)),
    )
    .map(drop)
    .doing("throwing a draft away")
}

/// Sets or clears the time at which a draft publishes itself.
pub fn set_publish_at(tx: &Tx<'_>, id: EventId, at: Option<Timestamp>) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE events SET publish_at = ?2 WHERE id = ?1 AND state = 'draft'",
        (id.0, at.map(us)),
    )
    .map(drop)
    .doing("setting a time to publish")
}

/// Drafts whose time to be published has come.
pub fn to_publish(conn: &Connection, now: Timestamp) -> Result<Vec<EventId>, StoreError> {
    conn.prepare_cached(
        "SELECT id FROM events WHERE publish_at <= ?1 AND state = 'draft' AND thrown_at IS NULL ORDER BY publish_at",
    )
    .and_then(|mut q| q.query_map([us(now)], |row| row.get(0).map(EventId))?.collect())
    .doing("looking for drafts to publish")
}

/// Writes the words and settings of an event; its address and state stay as they are.
pub fn set(tx: &Tx<'_>, e: &Event, now: Timestamp) -> Result<(), StoreError> {
    // What is saved as it was has not changed.
    if by_id(tx, e.id)?.as_ref() == Some(e) {
        return Ok(());
    }
    let who = json(&e.who).doing("writing an event")?;
    let rules = json(&e.rules).doing("writing an event")?;
    tx.execute(
        "UPDATE events SET title = :title, kind = :kind, lead = :lead, description = :description,
            bring = :bring, refund_note = :refund_note, hold_minutes = :hold, button = :button,
            after_note = :after_note, listed = :listed, format = :format, online_link = :link,
            online_passcode = :passcode, called_off = :called_off, course = :course,
            latecomers = :latecomers, who = :who, once = :once, rules = :rules, changed_at = :now, accent = :accent,
            drop_in = :drop_in, price_words = :price_words, contact = :contact
         WHERE id = :id",
        named_params! {
            ":id": e.id.0, ":title": e.title, ":kind": e.kind, ":lead": e.lead,
            ":description": e.description, ":bring": e.bring, ":refund_note": e.refund_note,
            ":hold": e.hold.as_mins(), ":button": e.button, ":after_note": e.after_note,
            ":listed": e.listed, ":format": e.format.word(), ":link": e.online_link,
            ":passcode": e.online_passcode, ":called_off": e.called_off, ":course": e.course,
            ":latecomers": e.latecomers, ":who": who, ":once": e.once, ":rules": rules,
            ":now": us(now), ":accent": e.accent, ":drop_in": e.drop_in,
            ":price_words": e.price_words, ":contact": e.contact,
        },
    )
    .doing("writing an event")?;
    index(tx, e.id)
}

/// Notes that something about an event changed, and puts its words in the index again.
pub fn changed(tx: &Tx<'_>, id: EventId, now: Timestamp) -> Result<(), StoreError> {
    tx.execute("UPDATE events SET changed_at = ?2 WHERE id = ?1", (id.0, us(now)))
        .doing("noting a change")?;
    index(tx, id)
}

/// Puts the words of an event into the index that the Programme is searched by.
pub fn index(tx: &Tx<'_>, id: EventId) -> Result<(), StoreError> {
    let Some(e) = by_id(tx, id)? else { return Ok(()) };
    let write = || -> rusqlite::Result<()> {
        let places: String = tx.query_row(
            "SELECT coalesce((SELECT group_concat(name, ' ') FROM (
                    SELECT DISTINCT v.name FROM dates d JOIN venues v ON v.id = d.venue_id WHERE d.event_id = ?1)), '')
                || ' ' || coalesce((SELECT group_concat(name, ' ') FROM (
                    SELECT DISTINCT h.name FROM dates d JOIN date_hosts dh ON dh.date_id = d.id
                    JOIN hosts h ON h.id = dh.host_id WHERE d.event_id = ?1)), '')
                || ' ' || coalesce((SELECT group_concat(t.name, ' ') FROM event_tags et
                    JOIN tags t ON t.id = et.tag_id WHERE et.event_id = ?1), '')",
            [id.0],
            |row| row.get(0),
        )?;
        let text = without_marks(&e.description);
        let words = matricle_core::words::fold(&format!(
            "{} {} {} {text} {places}",
            e.title, e.kind, e.lead
        ));
        tx.execute("DELETE FROM event_text WHERE rowid = ?1", [id.0])?;
        tx.execute("INSERT INTO event_text (rowid, words) VALUES (?1, ?2)", (id.0, words))?;
        Ok(())
    };
    write().doing("indexing an event")
}

/// An event that was made a moment ago and is taken back leaves the Programme and every list, and
/// its address is free again.
pub fn unmake(tx: &Tx<'_>, id: EventId, now: Timestamp) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE events SET state = 'draft', thrown_at = ?2, slug = slug || '-taken-back-' || id, changed_at = ?2
         WHERE id = ?1",
        (id.0, us(now)),
    )
    .doing("taking an event back")?;
    tx.execute("DELETE FROM pictures WHERE event_id = ?1", [id.0])
        .map(drop)
        .doing("taking an event back")
}

/// The text of sanitised HTML.
#[must_use]
pub fn without_marks(html: &str) -> String {
    let mut text = String::with_capacity(html.len());
    let mut inside = false;
    for c in html.chars() {
        match c {
            '<' => {
                inside = true;
                text.push(' ');
            }
            '>' => inside = false,
            c if !inside => text.push(c),
            _ => {}
        }
    }
    if !text.contains('&') {
        return text;
    }
    text.replace("&lt;", "<")
        .replace("&gt;", ">")
        .replace("&quot;", "\"")
        .replace("&#39;", "'")
        .replace("&nbsp;", " ")
        .replace("&amp;", "&")
}

/// Every word of the index.
pub fn vocabulary(conn: &Connection) -> Result<Vec<String>, StoreError> {
    conn.prepare_cached("SELECT term FROM event_vocabulary")
        .and_then(|mut q| q.query_map([], |row| row.get(0))?.collect())
        .doing("reading the index")
}

/// The tags of an event: keys and names.
pub fn tags_of(conn: &Connection, id: EventId) -> Result<Vec<(String, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT t.slug, t.name FROM event_tags et JOIN tags t ON t.id = et.tag_id
         WHERE et.event_id = ?1 ORDER BY t.name",
    )
    .and_then(|mut q| q.query_map([id.0], |row| Ok((row.get(0)?, row.get(1)?)))?.collect())
    .doing("reading tags")
}

/// Gives an event these tags, by their slugs, and no others.
pub fn set_tags(tx: &Tx<'_>, id: EventId, slugs: &[String]) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        tx.execute("DELETE FROM event_tags WHERE event_id = ?1", [id.0])?;
        for slug in slugs {
            tx.execute(
                "INSERT OR IGNORE INTO event_tags (event_id, tag_id) SELECT ?1, id FROM tags WHERE slug = ?2",
                (id.0, slug),
            )?;
        }
        Ok(())
    };
    write().doing("tagging an event")
}
