//! What a booker did last with their own booking, and how it is put back.

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::booking::details::Draft;
use matricle_core::{BookingId, DateId, TicketTypeId};
use rusqlite::{Connection, OptionalExtension};
use serde::{Deserialize, Serialize};

use super::Booking;
use super::lines::{Charged, ChargedLine, change_draws};
use crate::convert::{instant, word};
use crate::{Doing, StoreError, Tx};

/// What a booker did, and how it was before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Deed {
    /// Cancelled the whole booking.
    Cancelled {
        /// The word of the state it was in.
        from: String,
        /// Its lines before.
        lines: Vec<Charged>,
    },
    /// Cancelled the tickets with these numbers.
    Part {
        /// Numbers on the booking.
        tickets: Vec<u32>,
        /// Its lines before.
        lines: Vec<Charged>,
    },
    /// Moved it from this date to the one it is on.
    Moved(i64),
    /// Corrected names and answers; as they were before.
    Corrected(Box<Draft>),
    /// Passed a ticket to somebody else.
    PassedOn {
        /// Which person of the booking has it.
        person: usize,
        /// The name that stood on it.
        name: String,
        /// The address that had it; empty for the booker's.
        email: String,
    },
}

impl Deed {
    /// The whole booking was cancelled.
    #[must_use]
    pub fn cancelled(from: State, lines: &[ChargedLine]) -> Self {
        Self::Cancelled {
            from: from.word().into(),
            lines: lines.iter().map(Charged::from).collect(),
        }
    }

    /// Tickets were taken off.
    #[must_use]
    pub fn part(tickets: &[u32], lines: &[ChargedLine]) -> Self {
        Self::Part { tickets: tickets.to_vec(), lines: lines.iter().map(Charged::from).collect() }
    }

    /// It was moved.
    #[must_use]
    pub const fn moved(from: DateId) -> Self {
        Self::Moved(from.0)
    }
}

/// What a booker did last, and what has been since.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LastDeed {
    /// What.
    pub deed: Deed,
    /// When.
    pub at: Timestamp,
    /// Minor units that went back because of it.
    pub back: i64,
    /// Acts of anybody but the program since.
    pub since: u32,
}

/// Remembers what the booker just did, and the minor units that go back because of it; the
/// newest line of the timeline tells it.
pub fn remember(tx: &Tx<'_>, id: BookingId, deed: &Deed, back: i64) -> Result<(), StoreError> {
    serde_json::to_string(deed)
        .map_err(|e| rusqlite::Error::ToSqlConversionFailure(e.into()))
        .and_then(|deed| {
            tx.prepare_cached(
                "INSERT OR REPLACE INTO deeds (booking_id, line_id, back, deed)
                 SELECT ?1, max(id), ?2, ?3 FROM timeline WHERE booking_id = ?1",
            )?
            .execute((id.0, back, deed))
        })
        .map(drop)
        .doing("remembering what a booker did")
}

/// What the booker did last.
pub fn last_deed(conn: &Connection, id: BookingId) -> Result<Option<LastDeed>, StoreError> {
    conn.prepare_cached(
        "SELECT d.deed, d.back, t.at, (SELECT count(*) FROM timeline l WHERE l.booking_id = d.booking_id
            AND l.id > d.line_id AND l.kind <> 'program') AS since
         FROM deeds d JOIN timeline t ON t.id = d.line_id WHERE d.booking_id = ?1",
    )
    .and_then(|mut q| {
        q.query_row([id.0], |row| {
            Ok(LastDeed {
                deed: word(row, "deed", |text| serde_json::from_str(text).ok())?,
                at: instant(row, "at")?,
                back: row.get("back")?,
                since: row.get("since")?,
            })
        })
        .optional()
    })
    .doing("looking up what a booker did")
}

/// Lines are as they were, and the people of these tickets come back. What is drawn follows
/// where tickets were taken off; that the seats are there is the caller's to know.
pub fn put_back(
    tx: &Tx<'_>,
    booking: &Booking,
    tickets: &[u32],
    lines: &[Charged],
) -> Result<(), StoreError> {
    let more = more(tx, booking, lines)?;
    super::lines::write_lines(tx, booking.id, lines.iter().cloned())?;
    let mut on = tx
        .prepare_cached(
            "UPDATE attendees SET cancelled_at = NULL WHERE booking_id = ?1 AND ticket_no = ?2",
        )
        .doing("putting tickets back on a booking")?;
    for number in tickets {
        on.execute((booking.id.0, number)).doing("putting tickets back on a booking")?;
    }
    change_draws(tx, booking, |ticket| {
        more.iter().filter(|(t, _)| *t == ticket).map(|(_, n)| i64::from(*n)).sum()
    })
}

/// How many tickets of each type there were more than there are.
pub fn more(
    conn: &Connection,
    booking: &Booking,
    lines: &[Charged],
) -> Result<Vec<(TicketTypeId, u32)>, StoreError> {
    let now = super::lines(conn, booking)?;
    let each = lines.iter().map(|was| {
        let ticket = TicketTypeId(was.ticket);
        let stands = now.iter().find(|l| l.ticket == ticket).map_or(0, |l| l.quantity);
        (ticket, was.quantity.saturating_sub(stands))
    });
    Ok(each.filter(|(_, n)| *n > 0).collect())
}
