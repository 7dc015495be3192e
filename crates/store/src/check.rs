//! Whether the whole file is as it should be, and putting right what follows from facts.

mod more;

use std::collections::HashSet;

use jiff::Timestamp;
use matricle_core::booking::{State, choose};
use matricle_core::dates::schedule::Span;
use matricle_core::messages::cue::Trigger;
use matricle_core::messages::occasion::Moment;
use matricle_core::money::price::Buyer;
use matricle_core::seats::waiting::Manner;
use matricle_core::words::codes::{Reading, Reference, read as read_code};
use matricle_core::{BookingId, CueId, EventId, MessageId, SubmissionId, TemplateId};
use rusqlite::Connection;
use rusqlite::types::ValueRef;

use crate::states::{filled, sql};
use crate::unreadable::is_unreadable;
use crate::{Doing, StoreError, events, us, waiting};

/// What must hold, and a query that names each place where it does not. `{charged}` stands for
/// the states that core charges.
const RULES: &[(&str, &str)] = &[
    (
        "a submission waits while it is received or a change to it is, and no longer",
        "SELECT 'submission ' || s.id || ': ' || s.state FROM submissions s
         WHERE (s.state = 'received') > (s.waits_since IS NOT NULL)
            OR s.waits_since IS NOT NULL AND s.state <> 'received' AND (s.state <> 'accepted' OR s.change IS NULL)",
    ),
    (
        "what was accepted has an event, and whoever sent it has proved an address",
        "SELECT 'submission ' || s.id || ': ' || s.state FROM submissions s
         WHERE s.state = 'accepted' AND s.event_id IS NULL OR s.state <> 'not sent yet' AND s.person_id IS NULL",
    ),
    (
        "nobody is told of a decision that can still be taken back",
        "SELECT 'submission ' || s.id FROM submissions s JOIN outbox o ON o.submission_id = s.id
         WHERE o.happened IN ('submission accepted', 'submission sent back', 'submission turned down')
            AND o.state = 'planned' AND s.state = 'received' AND s.decided_at IS NULL",
    ),
    (
        "a date counts the people who are in",
        "SELECT 'date ' || d.id || ': counted ' || d.inside FROM dates d WHERE d.inside <> (
            SELECT count(*) FROM attendees a WHERE a.date_id = d.id AND a.presence = 'in')",
    ),
    (
        "a pool's counters are the sum of its bookings",
        "SELECT 'pool ' || p.id || ': counted ' || p.held || '/' || p.requested || '/' || p.awaiting_payment || '/' || p.confirmed
            || ', booked ' || s.held || '/' || s.requested || '/' || s.awaiting || '/' || s.confirmed
         FROM pools p JOIN (
            SELECT p.id,
                coalesce(sum(d.seats) FILTER (WHERE b.state = {Held}), 0) AS held,
                coalesce(sum(d.seats) FILTER (WHERE b.state = {Requested}), 0) AS requested,
                coalesce(sum(d.seats) FILTER (WHERE b.state = {AwaitingPayment}), 0) AS awaiting,
                coalesce(sum(d.seats) FILTER (WHERE b.state = {Confirmed}), 0) AS confirmed
            FROM pools p LEFT JOIN booking_draws d ON d.pool_id = p.id
            LEFT JOIN bookings b ON b.id = d.booking_id GROUP BY p.id
         ) s ON s.id = p.id
         WHERE (p.held, p.requested, p.awaiting_payment, p.confirmed)
            <> (s.held, s.requested, s.awaiting, s.confirmed)",
    ),
    (
        "no pool is over-full but on purpose",
        "SELECT 'pool ' || id FROM pools WHERE held + requested + awaiting_payment + confirmed > max(capacity, accepted)",
    ),
    (
        "what a booking has paid is what came less what goes back",
        "SELECT 'booking ' || b.reference || ': noted ' || b.paid_minor FROM bookings b WHERE b.test = 0 AND b.paid_minor <> (
            SELECT coalesce(sum(p.amount_minor), 0) FROM payments p WHERE p.booking_id = b.id AND p.state = 'paid' AND p.dispute <> 'lost')
            - (SELECT coalesce(sum(r.amount_minor), 0) FROM refunds r JOIN payments p ON p.id = r.payment_id
               WHERE r.booking_id = b.id AND p.state = 'paid' AND p.dispute <> 'lost')",
    ),
    (
        "nobody awaits money for a booking that is paid",
        "SELECT 'booking ' || b.reference FROM bookings b WHERE b.state = {AwaitingPayment} AND b.paid_minor >= b.total_minor",
    ),
    (
        "more never goes back than came",
        "SELECT 'payment ' || p.id FROM payments p JOIN refunds r ON r.payment_id = p.id GROUP BY p.id
         HAVING sum(r.amount_minor) > p.amount_minor OR p.state NOT IN ('paid', 'surplus')",
    ),
    (
        "a booking's lines come to its total",
        "SELECT 'booking ' || b.reference FROM bookings b JOIN booking_lines l ON l.booking_id = b.id
         GROUP BY b.id HAVING sum(l.charge_minor) <> b.total_minor",
    ),
    (
        "every entry of the ledger balances",
        "SELECT 'entry ' || entry_id || ': off by ' || sum(minor) FROM entry_lines GROUP BY entry_id HAVING sum(minor) <> 0",
    ),
    (
        "the ledger charges what the bookings say",
        "SELECT 'booking ' || b.reference FROM bookings b
         LEFT JOIN (SELECT booking_id, sum(gross) AS gross FROM charges GROUP BY booking_id) c ON c.booking_id = b.id
         WHERE coalesce(c.gross, 0) <> CASE WHEN b.test = 0 AND b.state IN {charged}
            THEN b.total_minor ELSE 0 END",
    ),
    (
        "what a booking owes in the ledger is what it is charged less what it paid",
        "SELECT 'booking ' || b.reference || ': ' || coalesce(l.minor, 0) FROM bookings b
         LEFT JOIN (SELECT about, sum(minor) AS minor FROM entry_lines WHERE account = 'receivables' GROUP BY about) l ON l.about = b.id
         WHERE b.test = 0 AND coalesce(l.minor, 0) <> CASE WHEN b.state IN {charged}
            THEN b.total_minor ELSE 0 END - b.paid_minor",
    ),
    (
        "money promised back in the ledger is what refunds are open",
        "SELECT 'refunds owed: ' || coalesce(l.minor, 0) || ', open ' || r.minor FROM
            (SELECT sum(minor) AS minor FROM entry_lines WHERE account = 'refunds owed') l,
            (SELECT coalesce(sum(r.amount_minor), 0) AS minor FROM refunds r JOIN bookings b ON b.id = r.booking_id
             WHERE r.state = 'open' AND b.test = 0) r WHERE coalesce(l.minor, 0) <> -r.minor",
    ),
    (
        "stamps owed in the ledger are what cards are worth",
        "SELECT 'stamps owed: ' || coalesce(l.minor, 0) || ', on cards ' || c.value FROM
            (SELECT sum(minor) AS minor FROM entry_lines WHERE account = 'stamps owed') l,
            (SELECT coalesce(sum(value), 0) AS value FROM cards) c WHERE coalesce(l.minor, 0) <> -c.value",
    ),
    (
        "a card holds what happened with it",
        "SELECT 'card ' || c.code FROM cards c JOIN card_moves m ON m.card_id = c.id GROUP BY c.id
         HAVING sum(m.stamps) <> c.left OR sum(m.value) <> c.value",
    ),
    (
        "documents are numbered without gaps",
        "SELECT kind || ' ' || year || ': ' || count(*) || ' up to ' || max(number) FROM documents
         GROUP BY kind, year HAVING count(*) <> max(number) OR min(number) <> 1",
    ),
    (
        "the documents of a booking come to what it was charged",
        "SELECT 'booking ' || b.reference FROM bookings b JOIN documents d ON d.booking_id = b.id GROUP BY b.id
         HAVING sum(d.total_minor) <> (SELECT coalesce(sum(gross), 0) FROM charges c WHERE c.booking_id = b.id)",
    ),
    (
        "the lines of a document come to its total",
        "SELECT d.kind || ' ' || d.year || '-' || d.number FROM documents d WHERE d.total_minor <>
            CASE WHEN coalesce(json_extract(d.body, '$.settles'), 0) THEN 0 ELSE
                (SELECT coalesce(sum(json_extract(l.value, '$.gross')), 0) FROM json_each(d.body, '$.lines') l) END",
    ),
    (
        "the tax of an entry is the tax that was charged",
        "SELECT 'booking ' || b.reference || ': rate ' || t.rate FROM (
            SELECT booking_id, rate, sum(tax) AS tax FROM charges GROUP BY booking_id, rate) t
         JOIN bookings b ON b.id = t.booking_id WHERE t.tax <> -(
            SELECT coalesce(sum(l.minor), 0) FROM entries e JOIN entry_lines l ON l.entry_id = e.id
            WHERE e.booking_id = t.booking_id AND l.account = 'tax' AND l.about = t.rate)",
    ),
    (
        "whoever is in has a booking that stands, and no test of one",
        "SELECT 'attendee ' || a.id || ' of ' || b.reference FROM attendees a JOIN bookings b ON b.id = a.booking_id
         JOIN dates d ON d.id = a.date_id WHERE a.presence = 'in' AND d.called_off = ''
            AND (b.state <> {Confirmed} OR b.test = 1 OR a.cancelled_at IS NOT NULL)",
    ),
    (
        "no ticket of a test is let in",
        "SELECT 'attendee ' || a.id || ' of ' || b.reference FROM attendees a JOIN bookings b ON b.id = a.booking_id
         WHERE b.test = 1 AND (a.presence = 'in' OR EXISTS (SELECT 1 FROM scans s WHERE s.attendee_id = a.id AND s.passage IS NOT NULL))",
    ),
    (
        "every person belongs to a line of their booking",
        "SELECT 'attendee ' || a.id || ' of ' || b.reference FROM attendees a JOIN bookings b ON b.id = a.booking_id
         WHERE NOT EXISTS (SELECT 1 FROM booking_lines l WHERE l.booking_id = a.booking_id AND l.ticket_type_id = a.ticket_type_id)",
    ),
    (
        "a line has the people that its tickets let in",
        "SELECT 'booking ' || b.reference || ': ' || l.name FROM booking_lines l JOIN bookings b ON b.id = l.booking_id
         WHERE l.quantity <> (SELECT count(DISTINCT a.ticket_no) FROM attendees a WHERE a.booking_id = l.booking_id
            AND a.ticket_type_id = l.ticket_type_id AND a.cancelled_at IS NULL)
            AND EXISTS (SELECT 1 FROM attendees a WHERE a.booking_id = l.booking_id AND a.ticket_type_id = l.ticket_type_id)",
    ),
    (
        "whoever is offered seats has a booking that holds them",
        "SELECT 'waiting ' || w.id FROM waiting w JOIN bookings b ON b.id = w.booking_id
         WHERE w.stands = 'offered' AND b.state <> {Held}",
    ),
    (
        "a payment at the provider is written down once",
        "SELECT 'payment ' || provider_id FROM payments WHERE provider_id IS NOT NULL GROUP BY provider_id HAVING count(*) > 1",
    ),
    (
        "a confirmed booking has its confirmation planned",
        "SELECT 'booking ' || b.reference FROM bookings b WHERE b.state = {Confirmed} AND b.email <> '' AND NOT EXISTS (
            SELECT 1 FROM outbox o WHERE o.booking_id = b.id AND o.happened = 'confirmation')
         AND NOT EXISTS (SELECT 1 FROM cues c WHERE c.happens = 'confirmation'
            AND (c.active = 0 OR c.event_id IS NOT NULL OR c.removed_at IS NOT NULL))",
    ),
    (
        "one cue reaches one person once for one date",
        "SELECT 'message ' || min(o.id) FROM outbox o WHERE o.cue_id IS NOT NULL AND o.date_id IS NOT NULL
            AND o.happened NOT IN ('moved', 'called off')
         GROUP BY o.cue_id, o.reader, o.date_id, o.booking_id HAVING count(*) > 1",
    ),
    (
        "nothing is planned for a date that is called off but to say so",
        "SELECT 'message ' || o.id FROM outbox o JOIN dates d ON d.id = o.date_id
         WHERE o.state = 'planned' AND o.by_hand = 0 AND d.called_off <> ''
            AND o.happened NOT IN ('called off', 'a stamp card expires')
            AND o.date_id NOT IN (SELECT t.date_id FROM to_follow_dates t)
            AND (o.booking_id IS NULL OR o.booking_id NOT IN (SELECT t.booking_id FROM to_follow t))",
    ),
    (
        "a booking is found by its words",
        "SELECT 'booking ' || b.reference FROM bookings b WHERE b.name <> '' AND NOT EXISTS (
            SELECT 1 FROM booking_words_docsize w WHERE w.id = b.id)",
    ),
    (
        "every attendee of a completed booking has a name",
        "SELECT 'booking ' || b.reference FROM bookings b JOIN attendees a ON a.booking_id = b.id
         WHERE b.state IN {asked_for} AND a.name = ''",
    ),
    (
        "somebody is in when the last of their passages was in",
        "SELECT 'attendee ' || a.id FROM attendees a WHERE (a.presence = 'in') <> coalesce('in' = (
            SELECT s.passage FROM scans s WHERE s.attendee_id = a.id AND s.passage IS NOT NULL AND s.undone_at IS NULL
            ORDER BY s.at DESC, s.id DESC LIMIT 1), 0)",
    ),
];

/// Dates whose instants are not what their wall times mean in their zones.
fn wrong_clocks(conn: &Connection) -> Result<Vec<String>, StoreError> {
    let spans: Vec<(String, Span)> = conn
        .prepare(
            "SELECT starts, ends, zone, starts_at, ends_at, 'date ' || id AS what FROM dates
             UNION ALL SELECT s.starts, s.ends, d.zone, s.starts_at, s.ends_at, 'session ' || s.id
                FROM date_sessions s JOIN dates d ON d.id = s.date_id",
        )
        .and_then(|mut q| {
            q.query_map([], |row| Ok((row.get("what")?, crate::events::span(row)?)))?.collect()
        })
        .doing("checking the file")?;
    let wrong = |span: &Span| {
        Span::new(span.starts, span.ends, &span.zone).ok().is_none_or(|meant| meant != *span)
    };
    Ok(spans
        .into_iter()
        .filter(|(_, span)| wrong(span))
        .map(|(what, span)| {
            format!(
                "{what}: broken is “an instant is what the wall time means”, {} {}",
                span.starts, span.zone
            )
        })
        .collect())
}

/// Parties that wait for seats which they could have at `now`, a sentence each. It is no fault
/// of the file: a sale that opens by itself brings it about until the list is served next.
pub fn idle_seats(conn: &Connection, now: Timestamp) -> Result<Vec<String>, StoreError> {
    let Some(house) = crate::house::get(conn)? else { return Ok(Vec::new()) };
    let mut idle = Vec::new();
    for date in waiting::dates(conn)? {
        let Some(sheet) = events::choices(conn, house.currency, date, now)? else { continue };
        let closed = sheet.offer.bars(now).is_some() || sheet.offer.starts_at <= now;
        if closed || sheet.event.rules.waiting != Manner::OfferFirst {
            continue;
        }
        for waiter in waiting::line(conn, date)? {
            if choose(&sheet.offer, &waiter.wanted, &Buyer::default(), now).is_ok() {
                let who = waiter.name;
                idle.push(format!(
                    "date {date}: broken is “nobody who fits waits beside free seats”, {who}"
                ));
            }
        }
    }
    Ok(idle)
}

/// Ticket codes and references whose check letters do not fit, and one code on two tickets.
fn wrong_codes(conn: &Connection) -> rusqlite::Result<Vec<String>> {
    let mut wrong = Vec::new();
    let mut seen = HashSet::new();
    let mut codes = conn.prepare(
        "SELECT code, 'attendee ' || id FROM attendees UNION ALL SELECT code, 'dead code' FROM dead_codes",
    )?;
    let rows =
        codes.query_map([], |row| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?)))?;
    for row in rows {
        let (code, of) = row?;
        if !matches!(read_code(&code), Reading::Code(_)) {
            wrong.push(format!("{of}: broken is “a ticket code has its check letters”, {code}"));
        }
        if !seen.insert(code.clone()) {
            wrong.push(format!("{of}: broken is “a ticket code is given once”, {code}"));
        }
    }
    let mut references = conn.prepare("SELECT reference FROM bookings")?;
    for reference in references.query_map([], |row| row.get::<_, String>(0))? {
        let reference = reference?;
        if Reference::parse(&reference).is_none() {
            wrong
                .push(format!("booking {reference}: broken is “a reference has its check letter”"));
        }
    }
    Ok(wrong)
}

/// Messages planned of what is not true of their bookings any more.
fn untrue_messages(conn: &Connection) -> rusqlite::Result<Vec<String>> {
    let mut planned = conn.prepare(
        "SELECT o.id, o.happened, b.state FROM outbox o JOIN bookings b ON b.id = o.booking_id
         WHERE o.state = 'planned' AND o.announcement_id IS NULL AND o.by_hand = 0
            AND b.id NOT IN (SELECT t.booking_id FROM to_follow t)",
    )?;
    let rows = planned.query_map([], |row| {
        Ok((row.get::<_, i64>(0)?, row.get::<_, String>(1)?, row.get::<_, String>(2)?))
    })?;
    let mut wrong = Vec::new();
    for row in rows {
        let (id, happened, state) = row?;
        let Some(state) = State::from_word(&state) else { continue };
        let holds = match Trigger::from_word(&happened) {
            Some(Trigger::On(occasion)) => occasion.holds(state),
            Some(Trigger::At(Moment::CardExpires)) | None => true,
            Some(Trigger::At(_)) => {
                !matches!(state, State::Cancelled | State::Declined | State::Lapsed)
            }
        };
        if !holds {
            wrong.push(format!(
                "message {id}: broken is “what is planned is true of its booking”, {happened}, {}",
                state.word()
            ));
        }
    }
    Ok(wrong)
}

/// Whether a row can be read by its key.
type CanRead = fn(&Connection, i64) -> Result<(), StoreError>;

/// Rows that cannot be read, each by its key.
fn unreadable_rows(conn: &Connection) -> Result<Vec<String>, StoreError> {
    let tables: [(&str, &str, CanRead); 7] = [
        ("cue", "SELECT id FROM cues", |c, id| crate::cues::by_id(c, CueId(id)).map(drop)),
        ("template", "SELECT id FROM templates", |c, id| {
            crate::templates::by_id(c, TemplateId(id)).map(drop)
        }),
        ("message", "SELECT id FROM outbox", |c, id| {
            crate::outbox::by_id(c, MessageId(id)).map(drop)
        }),
        ("event", "SELECT id FROM events", |c, id| events::by_id(c, EventId(id)).map(drop)),
        ("booking", "SELECT id FROM bookings", |c, id| {
            crate::bookings::by_id(c, BookingId(id)).map(drop)
        }),
        ("submission", "SELECT id FROM submissions", |c, id| {
            crate::submissions::by_id(c, SubmissionId(id)).map(drop)
        }),
        ("letter", "SELECT id FROM letters", |c, id| crate::letters::by_id(c, id).map(drop)),
    ];
    let mut wrong = Vec::new();
    for (what, keys, can_read) in tables {
        let keys: Vec<i64> = conn
            .prepare(keys)
            .and_then(|mut q| q.query_map([], |row| row.get(0))?.collect())
            .doing("checking the file")?;
        for key in keys {
            match can_read(conn, key) {
                Err(error) if is_unreadable(&error) => {
                    wrong.push(format!("{what} {key}: broken is “it can be read”, {error}"));
                }
                read => read?,
            }
        }
    }
    // What is read leniently, or as one of a list, is asked of SQLite.
    for (what, query) in [
        ("booking", "SELECT reference FROM bookings WHERE NOT json_valid(draft)"),
        ("question", "SELECT id FROM questions WHERE NOT json_valid(answering)"),
        ("ticket type", "SELECT id FROM ticket_types WHERE NOT json_valid(invited)"),
        ("house rules", "SELECT id FROM house_rules WHERE NOT json_valid(rules)"),
        ("device", "SELECT id FROM devices WHERE NOT json_valid(dates)"),
        ("place in line", "SELECT id FROM waiting WHERE NOT json_valid(wanted)"),
    ] {
        let keys: Vec<String> = conn
            .prepare(query)
            .and_then(|mut q| {
                q.query_map([], |row| {
                    Ok(match row.get_ref(0)? {
                        ValueRef::Integer(key) => key.to_string(),
                        other => other.as_str().unwrap_or_default().to_owned(),
                    })
                })?
                .collect()
            })
            .doing("checking the file")?;
        wrong.extend(
            keys.into_iter().map(|key| format!("{what} {key}: broken is “it can be read”")),
        );
    }
    Ok(wrong)
}

/// What happened later than `now`, a sentence each: a clock was set back, or ahead for a while. A
/// minute of leeway is for what is written while this is read.
pub fn ahead_of_time(conn: &Connection, now: Timestamp) -> Result<Vec<String>, StoreError> {
    let late = us(now) + 60_000_000;
    let mut wrong = Vec::new();
    for (rule, query) in [
        ("a scan has happened", "SELECT 'scan ' || id FROM scans WHERE at > ?1"),
        (
            "a booking has been made",
            "SELECT 'booking ' || reference FROM bookings WHERE made_at > ?1",
        ),
        ("an entry has been made", "SELECT 'entry ' || id FROM entries WHERE at > ?1"),
        ("what was sent has gone", "SELECT 'message ' || id FROM outbox WHERE sent_at > ?1"),
        (
            "seats are held for weeks and not for years",
            sql!(
                "SELECT 'booking ' || reference FROM bookings WHERE state = {Held} AND made_at > ?1 - 60000000"
            ),
        ),
    ] {
        let places: Vec<String> = conn
            .prepare(query)
            .and_then(|mut q| q.query_map([late], |row| row.get(0))?.collect())
            .doing("checking the file")?;
        wrong.extend(places.into_iter().map(|place| format!("{place}: broken is “{rule}”")));
    }
    Ok(wrong)
}

/// Whether every page of the file can be read: said at the start, before anybody books. Nothing
/// where it can.
///
/// # Errors
/// SQLite refuses, which says that it cannot.
pub fn damage(conn: &Connection) -> Result<Option<String>, StoreError> {
    let said: String = conn
        .query_row("PRAGMA quick_check(1)", [], |row| row.get(0))
        .doing("reading the file through")?;
    Ok((said != "ok").then_some(said))
}

/// Everything that is not as it should be, a sentence each; empty when all is well. What SQLite
/// cannot answer is a fault like any other, and the rest is asked all the same.
///
/// # Errors
/// Never: what cannot be asked is told.
pub fn faults(conn: &Connection) -> Result<Vec<String>, StoreError> {
    let mut faults = Vec::new();
    for (rule, query) in RULES.iter().chain(more::MORE) {
        let asked = || -> rusqlite::Result<Vec<String>> {
            let mut query = conn.prepare(&filled(query))?;
            query.query_map([], |row| row.get(0))?.collect()
        };
        match asked() {
            Ok(places) => {
                faults.extend(places.into_iter().map(|p| format!("{p}: broken is “{rule}”")));
            }
            Err(error) => faults.push(format!("SQLite says: {error}, asked whether {rule}")),
        }
    }
    let told = |faults: &mut Vec<String>, found: Result<Vec<String>, String>| match found {
        Ok(found) => faults.extend(found),
        Err(error) => faults.push(format!("SQLite says: {error}")),
    };
    told(&mut faults, wrong_clocks(conn).map_err(|e| e.to_string()));
    told(&mut faults, wrong_codes(conn).map_err(|e| e.to_string()));
    told(&mut faults, untrue_messages(conn).map_err(|e| e.to_string()));
    told(&mut faults, unreadable_rows(conn).map_err(|e| e.to_string()));
    // A connection that only reads keeps what it knew of the index until it searches; the
    // check by itself would call what another connection wrote since a corruption.
    for index in ["event_text", "booking_words"] {
        let asked = conn
            .prepare(&format!("SELECT count(*) FROM {index} WHERE {index} MATCH 'anything'"))
            .and_then(|mut q| q.query_row([], |row| row.get::<_, i64>(0)));
        if let Err(error) = asked {
            faults.push(format!("SQLite says: {error}, of the index {index}"));
        }
    }
    for pragma in ["PRAGMA foreign_key_check", "PRAGMA integrity_check"] {
        let asked = || -> rusqlite::Result<Vec<String>> {
            conn.prepare(pragma)?.query_map([], |row| row.get::<_, String>(0))?.collect()
        };
        match asked() {
            Ok(broken) => faults.extend(
                broken.into_iter().filter(|b| b != "ok").map(|b| format!("SQLite says: {b}")),
            ),
            Err(error) => faults.push(format!("SQLite says: {error}")),
        }
    }
    Ok(faults)
}

/// Works out anew what follows from facts: counters of pools and of who is inside, words that are
/// searched, what a booking has paid, the count of changes; and marks every booking and date, so
/// that what is planned is brought to what they say. What was put right, a sentence each.
pub fn mend(conn: &Connection) -> Result<Vec<String>, StoreError> {
    let steps = [
        (
            "counters of pools",
            sql!("UPDATE pools SET (held, requested, awaiting_payment, confirmed) = (
                SELECT coalesce(sum(d.seats) FILTER (WHERE b.state = {Held}), 0),
                    coalesce(sum(d.seats) FILTER (WHERE b.state = {Requested}), 0),
                    coalesce(sum(d.seats) FILTER (WHERE b.state = {AwaitingPayment}), 0),
                    coalesce(sum(d.seats) FILTER (WHERE b.state = {Confirmed}), 0)
                FROM booking_draws d JOIN bookings b ON b.id = d.booking_id WHERE d.pool_id = pools.id)
             WHERE (held, requested, awaiting_payment, confirmed) <> (
                SELECT coalesce(sum(d.seats) FILTER (WHERE b.state = {Held}), 0),
                    coalesce(sum(d.seats) FILTER (WHERE b.state = {Requested}), 0),
                    coalesce(sum(d.seats) FILTER (WHERE b.state = {AwaitingPayment}), 0),
                    coalesce(sum(d.seats) FILTER (WHERE b.state = {Confirmed}), 0)
                FROM booking_draws d JOIN bookings b ON b.id = d.booking_id WHERE d.pool_id = pools.id)"),
        ),
        (
            "counts of who is inside",
            "UPDATE dates SET inside = (SELECT count(*) FROM attendees a WHERE a.date_id = dates.id AND a.presence = 'in')
             WHERE inside <> (SELECT count(*) FROM attendees a WHERE a.date_id = dates.id AND a.presence = 'in')",
        ),
        (
            "words of bookings",
            "INSERT INTO booking_words (rowid, words) SELECT b.id, b.search FROM bookings b WHERE b.name <> ''
                AND NOT EXISTS (SELECT 1 FROM booking_words_docsize w WHERE w.id = b.id)",
        ),
        (
            "words of events",
            "INSERT INTO event_text (rowid, words)
                SELECT e.id, lower(e.title || ' ' || e.kind || ' ' || e.lead) FROM events e
                WHERE NOT EXISTS (SELECT 1 FROM event_text t WHERE t.rowid = e.id)",
        ),
        (
            "the count of changes of plans",
            "INSERT INTO plan_version (id, n) SELECT 1, 1 WHERE NOT EXISTS (SELECT 1 FROM plan_version)",
        ),
        (
            "messages planned of what is over",
            sql!("UPDATE outbox SET state = 'withdrawn', next_try_at = NULL, reason = 'not true any more'
             WHERE state = 'planned' AND by_hand = 0 AND announcement_id IS NULL
                AND booking_id IN (SELECT id FROM bookings WHERE state IN {over})
                AND happened NOT IN ('cancellation', 'refusal', 'lapsed', 'called off', 'money back', 'ticket taken back',
                    'a stamp card expires')"),
        ),
    ];
    let mut mended = Vec::new();
    for (what, step) in steps {
        let rows = conn.execute(step, []).doing("mending the file")?;
        if rows > 0 {
            mended.push(format!("{what}: {rows} put right"));
        }
    }
    for mark in [
        sql!(
            "INSERT INTO to_follow (booking_id) SELECT id FROM bookings WHERE state IN {stands}
         ON CONFLICT DO UPDATE SET n = n + 1"
        ),
        "INSERT INTO to_follow_dates (date_id) SELECT id FROM dates WHERE true ON CONFLICT DO UPDATE SET n = n + 1, done_to = 0",
    ] {
        conn.execute(mark, []).doing("mending the file")?;
    }
    mended.push(
        "what is planned is brought to what bookings and dates say when the program runs".into(),
    );
    Ok(mended)
}
