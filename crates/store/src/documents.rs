//! Receipts, invoices and credit notes: numbered without gaps, kept as issued.

use jiff::Timestamp;
use matricle_core::BookingId;
use matricle_core::money::documents::{Body, Kind};
use matricle_core::money::ledger::Charge;
use rusqlite::{Connection, OptionalExtension, Row};

use crate::convert::{foreign, instant, word};
use crate::{Doing, StoreError, Tx, us};

/// A document as it was issued.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Document {
    /// Its key.
    pub id: i64,
    /// What it is.
    pub kind: Kind,
    /// The year it is numbered in.
    pub year: i16,
    /// Its number in that year.
    pub number: u32,
    /// The booking.
    pub booking: BookingId,
    /// When.
    pub issued_at: Timestamp,
    /// All that is printed on it.
    pub body: Body,
}

impl Document {
    /// Its number as it is written: `R-2026-0017`.
    #[must_use]
    pub fn name(&self) -> String {
        self.kind.name(self.year, self.number)
    }
}

const COLUMNS: &str = "id, kind, year, number, booking_id, issued_at, body";

fn document(row: &Row<'_>) -> rusqlite::Result<Document> {
    let body: String = row.get("body")?;
    Ok(Document {
        id: row.get("id")?,
        kind: word(row, "kind", Kind::from_word)?,
        year: row.get("year")?,
        number: row.get("number")?,
        booking: BookingId(row.get("booking_id")?),
        issued_at: instant(row, "issued_at")?,
        body: serde_json::from_str(&body).map_err(|_| foreign("documents.body", body))?,
    })
}

/// Issues a document under the next number of its kind and year. The number is taken in
/// the transaction that writes it, and there is one writer, so none is ever missing.
pub fn issue(
    tx: &Tx<'_>,
    kind: Kind,
    year: i16,
    booking: BookingId,
    body: &Body,
    now: Timestamp,
) -> Result<Document, StoreError> {
    let write = || -> rusqlite::Result<Document> {
        let number: u32 = tx
            .prepare_cached(
                "SELECT coalesce(max(number), 0) + 1 FROM documents WHERE kind = ?1 AND year = ?2",
            )?
            .query_row((kind.word(), year), |row| row.get(0))?;
        let json = serde_json::to_string(body)
            .map_err(|e| rusqlite::Error::ToSqlConversionFailure(e.into()))?;
        tx.prepare_cached(
            "INSERT INTO documents (kind, year, number, booking_id, issued_at, total_minor, body)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
        )?
        .execute((kind.word(), year, number, booking.0, us(now), body.charged(), json))?;
        let id = tx.last_insert_rowid();
        Ok(Document { id, kind, year, number, booking, issued_at: now, body: body.clone() })
    };
    write().doing("issuing a document")
}

/// The documents of a booking, in the order they were issued.
pub fn of_booking(conn: &Connection, id: BookingId) -> Result<Vec<Document>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM documents WHERE booking_id = ?1 ORDER BY id"
    ))
    .and_then(|mut q| q.query_map([id.0], document)?.collect())
    .doing("reading documents")
}

/// What the documents of a booking come to.
#[must_use]
pub fn documented(documents: &[Document]) -> Charge {
    documents.iter().filter(|d| !d.body.settles).fold(Charge::default(), |sum, d| {
        let parts = |c: &Charge| -> Vec<(u32, i64, i64)> {
            c.by_rate.iter().map(|(rate, (gross, tax))| (*rate, *gross, *tax)).collect()
        };
        Charge::of(parts(&sum).into_iter().chain(parts(&d.body.charge())))
    })
}

/// A document by its key, if it belongs to this booking.
pub fn by_id(
    conn: &Connection,
    booking: BookingId,
    id: i64,
) -> Result<Option<Document>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS} FROM documents WHERE id = ?1 AND booking_id = ?2"
    ))
    .and_then(|mut q| q.query_row((id, booking.0), document).optional())
    .doing("looking a document up")
}
