//! What was said word for word, and what became of addresses.

use std::io::{Read, Write};

use flate2::Compression;
use flate2::read::DeflateDecoder;
use flate2::write::DeflateEncoder;
use jiff::Timestamp;
use matricle_core::MessageId;
use rusqlite::{Connection, OptionalExtension};

use crate::convert::InOrder;
use crate::outbox::{COLUMNS, Message, message_at};
use crate::{Doing, StoreError, Tx, us};

/// Keeps what a message said, packed: the words are much alike and become small.
pub fn say(tx: &Tx<'_>, id: MessageId, subject: &str, words: &str) -> Result<(), StoreError> {
    let mut packer = DeflateEncoder::new(Vec::new(), Compression::default());
    let packed = packer
        .write_all(words.as_bytes())
        .and_then(|()| packer.finish())
        .map_err(|e| rusqlite::Error::ToSqlConversionFailure(e.into()))
        .doing("packing a message")?;
    tx.prepare_cached(
        "INSERT OR REPLACE INTO said (outbox_id, subject, packed) VALUES (?1, ?2, ?3)",
    )
    .and_then(|mut q| q.execute((id.0, subject, packed)))
    .map(drop)
    .doing("keeping a message")
}

/// What a message said: the subject, the words. `None` for what was not sent, and for what was
/// sent before words were kept.
pub fn said(conn: &Connection, id: MessageId) -> Result<Option<(String, String)>, StoreError> {
    let found: Option<(String, Vec<u8>)> = conn
        .prepare_cached("SELECT subject, packed FROM said WHERE outbox_id = ?1")
        .and_then(|mut q| q.query_row([id.0], |row| Ok((row.get(0)?, row.get(1)?))).optional())
        .doing("reading a message")?;
    let Some((subject, packed)) = found else { return Ok(None) };
    let words = unpacked(&packed).doing("unpacking a message")?;
    Ok(Some((subject, words)))
}

/// Words as they were before they were packed.
pub(super) fn unpacked(packed: &[u8]) -> rusqlite::Result<String> {
    let mut words = String::new();
    DeflateDecoder::new(packed).read_to_string(&mut words).map(|_| words).map_err(|e| {
        rusqlite::Error::FromSqlConversionFailure(0, rusqlite::types::Type::Blob, e.into())
    })
}

/// Messages that failed or are late, oldest first, with the reference of the booking that
/// each is about, if any.
pub fn in_trouble(conn: &Connection) -> Result<Vec<(Message, Option<String>)>, StoreError> {
    conn.prepare_cached(&format!(
        "SELECT {COLUMNS}, b.reference FROM outbox o LEFT JOIN bookings b ON b.id = o.booking_id
         WHERE o.state = 'failed' OR (o.state = 'planned' AND o.last_error IS NOT NULL)
         ORDER BY o.id LIMIT 100"
    ))
    .and_then(|mut q| {
        q.query_map([], |row| {
            let mut c = InOrder::from(row, 0);
            Ok((message_at(&mut c)?, c.next()?))
        })?
        .collect()
    })
    .doing("looking for messages in trouble")
}

/// What is known of an address.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Address {
    /// It refused a mail for good, with these words.
    pub refused: Option<(Timestamp, String)>,
    /// It wants no announcements.
    pub unsubscribed: bool,
}

/// What is known of an address.
pub fn address(conn: &Connection, email: &str) -> Result<Address, StoreError> {
    conn.prepare_cached(
        "SELECT refused_at, refusal, unsubscribed_at IS NOT NULL FROM addresses WHERE email = ?1",
    )
    .and_then(|mut q| {
        q.query_row([email], |row| {
            let mut c = InOrder::from(row, 0);
            Ok(Address { refused: c.instant_or()?.zip(Some(c.next()?)), unsubscribed: c.next()? })
        })
        .optional()
    })
    .map(Option::unwrap_or_default)
    .doing("looking an address up")
}

/// An address refused a mail for good.
pub fn refused(tx: &Tx<'_>, email: &str, why: &str, now: Timestamp) -> Result<(), StoreError> {
    tx.execute(
        "INSERT INTO addresses (email, refused_at, refusal) VALUES (?1, ?2, ?3)
         ON CONFLICT (email) DO UPDATE SET refused_at = ?2, refusal = ?3",
        (email, us(now), why),
    )
    .map(drop)
    .doing("marking an address")
}

/// An address is written to again.
pub fn forgive(tx: &Tx<'_>, email: &str) -> Result<(), StoreError> {
    tx.execute("UPDATE addresses SET refused_at = NULL, refusal = '' WHERE email = ?1", [email])
        .map(drop)
        .doing("unmarking an address")
}

/// An address wants no announcements any more.
pub fn unsubscribe(tx: &Tx<'_>, email: &str, now: Timestamp) -> Result<(), StoreError> {
    tx.execute(
        "INSERT INTO addresses (email, unsubscribed_at) VALUES (?1, ?2)
         ON CONFLICT (email) DO UPDATE SET unsubscribed_at = coalesce(unsubscribed_at, ?2)",
        (email, us(now)),
    )
    .map(drop)
    .doing("taking an address off announcements")
}
