//! What people of the house asked to be told by itself, each day or at once.

use matricle_core::people::wish::{What, Wish};
use matricle_core::{DateId, HostId, PersonId};
use rusqlite::{Connection, OptionalExtension};

use crate::convert::{InOrder, foreign};
use crate::{Doing, StoreError, Tx};

fn wish(c: &mut InOrder<'_, '_>) -> rusqlite::Result<Wish> {
    Ok(Wish {
        what: c.word("wishes.what", What::from_word)?,
        at: {
            let text: String = c.next()?;
            match text.as_str() {
                "" => None,
                _ => Some(text.parse().map_err(|_| foreign("wishes.at", text))?),
            }
        },
        nothing: c.next()?,
    })
}

/// The wishes of somebody of the house.
pub fn of(conn: &Connection, person: PersonId) -> Result<Vec<Wish>, StoreError> {
    conn.prepare_cached("SELECT what, at, empty_too FROM wishes WHERE person_id = ?1 ORDER BY what")
        .and_then(|mut q| {
            q.query_map([person.0], |row| wish(&mut InOrder::from(row, 0)))?.collect()
        })
        .doing("reading wishes")
}

/// Wishes that are granted in one message of the day, with whose they are and their address.
pub fn daily(conn: &Connection) -> Result<Vec<(PersonId, String, Wish)>, StoreError> {
    conn.prepare_cached(
        "SELECT p.id, p.email, w.what, w.at, w.empty_too FROM wishes w JOIN people p ON p.id = w.person_id
         WHERE p.role IS NOT NULL ORDER BY p.id, w.what",
    )
    .and_then(|mut q| {
        q.query_map([], |row| {
            let mut c = InOrder::from(row, 0);
            Ok((PersonId(c.next()?), c.next()?, wish(&mut c)?))
        })?
        .filter(|found| found.as_ref().map_or(true, |(_, _, wish)| wish.what.is_daily()))
        .collect()
    })
    .doing("reading wishes")
}

/// A wish of a host.
pub fn of_host(conn: &Connection, host: HostId, what: What) -> Result<Option<Wish>, StoreError> {
    conn.prepare_cached(
        "SELECT w.what, w.at, w.empty_too FROM wishes w JOIN hosts h ON h.person_id = w.person_id
         WHERE h.id = ?1 AND w.what = ?2",
    )
    .and_then(|mut q| {
        q.query_row((host.0, what.word()), |row| wish(&mut InOrder::from(row, 0))).optional()
    })
    .doing("looking a wish up")
}

/// Hosts of a date who want to be told of something: their keys and addresses.
pub fn hosts_who_want(
    conn: &Connection,
    date: DateId,
    what: What,
) -> Result<Vec<(HostId, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT h.id, p.email FROM date_hosts dh JOIN hosts h ON h.id = dh.host_id
         JOIN people p ON p.id = h.person_id JOIN wishes w ON w.person_id = p.id AND w.what = ?2
         WHERE dh.date_id = ?1 AND p.role IS NOT NULL",
    )
    .and_then(|mut q| {
        q.query_map((date.0, what.word()), |row| Ok((HostId(row.get(0)?), row.get(1)?)))?.collect()
    })
    .doing("reading who wants to be told")
}

/// Writes the wishes of somebody down, in place of those before.
pub fn set(tx: &Tx<'_>, person: PersonId, wishes: &[Wish]) -> Result<(), StoreError> {
    let write = || -> rusqlite::Result<()> {
        tx.execute("DELETE FROM wishes WHERE person_id = ?1", [person.0])?;
        for wish in wishes {
            let at = wish.at.map_or_else(String::new, |at| at.strftime("%H:%M").to_string());
            tx.execute(
                "INSERT INTO wishes (person_id, what, at, empty_too) VALUES (?1, ?2, ?3, ?4)",
                (person.0, wish.what.word(), at, wish.nothing),
            )?;
        }
        Ok(())
    };
    write().doing("writing wishes")
}
