//! Whether the whole file is as it should be.

use rusqlite::Connection;

use crate::{Doing, StoreError};

/// What must hold, and a query that names each place where it does not.
const RULES: [(&str, &str); 8] = [
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
                coalesce(sum(d.seats) FILTER (WHERE b.state = 'held'), 0) AS held,
                coalesce(sum(d.seats) FILTER (WHERE b.state = 'requested'), 0) AS requested,
                coalesce(sum(d.seats) FILTER (WHERE b.state = 'awaiting payment'), 0) AS awaiting,
                coalesce(sum(d.seats) FILTER (WHERE b.state = 'confirmed'), 0) AS confirmed
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
        "a confirmed booking is paid in full, by payments that were booked",
        "SELECT 'booking ' || b.reference FROM bookings b WHERE b.state = 'confirmed' AND (
            b.paid_minor <> b.total_minor OR b.paid_minor <> (
                SELECT coalesce(sum(amount_minor), 0) FROM payments p WHERE p.booking_id = b.id AND p.state = 'paid'))",
    ),
    (
        "a payment at the provider is written down once",
        "SELECT 'payment ' || provider_id FROM payments WHERE provider_id IS NOT NULL GROUP BY provider_id HAVING count(*) > 1",
    ),
    (
        "a confirmed booking has its confirmation planned, once",
        "SELECT 'booking ' || b.reference FROM bookings b WHERE b.state = 'confirmed' AND 1 <> (
            SELECT count(*) FROM outbox o WHERE o.booking_id = b.id AND o.kind = 'confirmation')",
    ),
    (
        "every attendee of a completed booking has a name",
        "SELECT 'booking ' || b.reference FROM bookings b JOIN attendees a ON a.booking_id = b.id
         WHERE b.state IN ('confirmed', 'awaiting payment') AND a.name = ''",
    ),
    (
        "somebody is in only by a scan that was not undone",
        "SELECT 'attendee ' || a.id FROM attendees a WHERE (a.presence = 'in') <> (1 = (
            SELECT count(*) FROM scans s WHERE s.attendee_id = a.id AND s.verdict = 'come in' AND s.undone_at IS NULL))",
    ),
];

/// Everything that is not as it should be, a sentence each; empty when all is well.
///
/// # Errors
/// SQLite refuses.
pub fn faults(conn: &Connection) -> Result<Vec<String>, StoreError> {
    let mut faults = Vec::new();
    for (rule, query) in RULES {
        let places: Vec<String> = conn
            .prepare(query)
            .and_then(|mut q| q.query_map([], |row| row.get(0))?.collect())
            .doing("checking the file")?;
        faults.extend(places.into_iter().map(|place| format!("{place}: broken is “{rule}”")));
    }
    // A connection that only reads keeps what it knew of the index until it searches; the
    // check by itself would call what another connection wrote since a corruption.
    conn.prepare("SELECT count(*) FROM event_text WHERE event_text MATCH 'anything'")
        .and_then(|mut q| q.query_row([], |row| row.get::<_, i64>(0)))
        .doing("checking the file")?;
    for pragma in ["PRAGMA foreign_key_check", "PRAGMA quick_check"] {
        let broken: Vec<String> = conn
            .prepare(pragma)
            .and_then(|mut q| q.query_map([], |row| row.get::<_, String>(0))?.collect())
            .doing("checking the file")?;
        faults
            .extend(broken.into_iter().filter(|b| b != "ok").map(|b| format!("SQLite says: {b}")));
    }
    Ok(faults)
}
