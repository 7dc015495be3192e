//! Names and addresses to write from: a private address never appears in what goes out.

use jiff::Timestamp;
use matricle_core::{EventId, TagId};
use rusqlite::{Connection, OptionalExtension};

use crate::{Doing, StoreError, Tx, us};

/// A sender.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sender {
    /// Its key; 0 for a new one.
    pub id: i64,
    /// The name.
    pub name: String,
    /// The address.
    pub email: String,
    /// For events with this tag, by itself.
    pub tag: Option<TagId>,
    /// The private address of whoever stands behind it: letters are forwarded there. Empty for
    /// nobody.
    pub forwards_to: String,
}

/// The senders of the house, by name.
pub fn all(conn: &Connection) -> Result<Vec<Sender>, StoreError> {
    conn.prepare_cached(
        "SELECT id, name, email, tag_id, forwards_to FROM senders WHERE retired_at IS NULL ORDER BY name, id",
    )
    .and_then(|mut q| {
        q.query_map([], |row| {
            Ok(Sender {
                id: row.get(0)?,
                name: row.get(1)?,
                email: row.get(2)?,
                tag: row.get::<_, Option<i64>>(3)?.map(TagId),
                forwards_to: row.get(4)?,
            })
        })?
        .collect()
    })
    .doing("reading senders")
}

/// The sender of an event's messages: its own, or one for its tags. Name and address.
pub fn of_event(conn: &Connection, event: EventId) -> Result<Option<(String, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT s.name, s.email FROM events e JOIN senders s ON s.id = e.sender_id
            WHERE e.id = ?1 AND s.retired_at IS NULL
         UNION ALL SELECT s.name, s.email FROM event_tags t JOIN senders s ON s.tag_id = t.tag_id
            WHERE t.event_id = ?1 AND s.retired_at IS NULL LIMIT 1",
    )
    .and_then(|mut q| q.query_row([event.0], |row| Ok((row.get(0)?, row.get(1)?))).optional())
    .doing("looking a sender up")
}

/// The reply address of an event's messages, its own or one for its tags: name, address, and who
/// stands behind it.
pub fn reply_address(
    conn: &Connection,
    event: EventId,
) -> Result<Option<(String, String, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT s.name, s.email, s.forwards_to FROM events e JOIN senders s ON s.id = e.sender_id
            WHERE e.id = ?1 AND s.retired_at IS NULL
         UNION ALL SELECT s.name, s.email, s.forwards_to
            FROM event_tags t JOIN senders s ON s.tag_id = t.tag_id
            WHERE t.event_id = ?1 AND s.retired_at IS NULL LIMIT 1",
    )
    .and_then(|mut q| {
        q.query_row([event.0], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?))).optional()
    })
    .doing("looking a reply address up")
}

/// The key of a sender in use.
pub fn known(conn: &Connection, id: i64) -> Result<bool, StoreError> {
    conn.prepare_cached(
        "SELECT EXISTS (SELECT 1 FROM senders WHERE id = ?1 AND retired_at IS NULL)",
    )
    .and_then(|mut q| q.query_row([id], |row| row.get(0)))
    .doing("looking a sender up")
}

/// The key of an event's own sender.
pub fn own(conn: &Connection, event: EventId) -> Result<Option<i64>, StoreError> {
    conn.prepare_cached("SELECT sender_id FROM events WHERE id = ?1")
        .and_then(|mut q| q.query_row([event.0], |row| row.get(0)).optional())
        .map(Option::flatten)
        .doing("looking a sender up")
}

/// Gives an event a sender of its own, or none.
pub fn set_own(tx: &Tx<'_>, event: EventId, sender: Option<i64>) -> Result<(), StoreError> {
    tx.execute("UPDATE events SET sender_id = ?2 WHERE id = ?1", (event.0, sender))
        .map(drop)
        .doing("giving an event a sender")
}

/// Writes a sender down.
pub fn save(tx: &Tx<'_>, sender: &Sender) -> Result<(), StoreError> {
    let tag = sender.tag.map(|t| t.0);
    if sender.id == 0 {
        tx.execute(
            "INSERT INTO senders (name, email, tag_id, forwards_to) VALUES (?1, ?2, ?3, ?4)",
            (&sender.name, &sender.email, tag, &sender.forwards_to),
        )
    } else {
        tx.execute(
            "UPDATE senders SET name = ?2, email = ?3, tag_id = ?4, forwards_to = ?5 WHERE id = ?1",
            (sender.id, &sender.name, &sender.email, tag, &sender.forwards_to),
        )
    }
    .map(drop)
    .doing("writing a sender")
}

/// Takes a sender out of use, or back into it.
pub fn retire(tx: &Tx<'_>, id: i64, at: Option<Timestamp>) -> Result<(), StoreError> {
    tx.execute("UPDATE senders SET retired_at = ?2 WHERE id = ?1", (id, at.map(us)))
        .map(drop)
        .doing("retiring a sender")
}

/// Who stands behind the house's own address: letters to it are forwarded there. Empty for nobody.
pub fn behind_house(conn: &Connection) -> Result<String, StoreError> {
    conn.prepare_cached("SELECT forwards_to FROM house")
        .and_then(|mut q| q.query_row([], |row| row.get(0)).optional())
        .map(Option::unwrap_or_default)
        .doing("looking up who reads the house's letters")
}

/// Says who stands behind the house's own address.
pub fn set_behind_house(tx: &Tx<'_>, address: &str) -> Result<(), StoreError> {
    tx.execute("UPDATE house SET forwards_to = ?1", [address])
        .map(drop)
        .doing("writing who reads the house's letters")
}

/// All private addresses behind reply addresses: none of them ever leaves the house.
pub fn private(conn: &Connection) -> Result<Vec<String>, StoreError> {
    conn.prepare_cached(
        "SELECT forwards_to FROM senders WHERE forwards_to <> '' UNION SELECT forwards_to FROM house WHERE forwards_to <> ''",
    )
    .and_then(|mut q| q.query_map([], |row| row.get(0))?.collect())
    .doing("reading private addresses")
}
