//! People and their sessions.

use jiff::Timestamp;
use matricle_core::PersonId;
use matricle_core::staff::Role;
use rusqlite::{Connection, OptionalExtension, Row, named_params};

use crate::convert::{foreign, instant};
use crate::{Doing, StoreError, Tx, us};

/// Somebody who works for the house.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Staff {
    /// The person.
    pub id: PersonId,
    /// Their name.
    pub name: String,
    /// Their address.
    pub email: String,
    /// What they may do.
    pub role: Role,
}

fn staff(row: &Row<'_>) -> rusqlite::Result<Staff> {
    let role: String = row.get("role")?;
    Ok(Staff {
        id: PersonId(row.get("id")?),
        name: row.get("name")?,
        email: row.get("email")?,
        role: Role::from_word(&role).ok_or_else(|| foreign("people.role", role))?,
    })
}

/// A member of staff by address, with the hash of their password.
///
/// # Errors
/// SQLite refuses.
pub fn by_email(conn: &Connection, email: &str) -> Result<Option<(Staff, String)>, StoreError> {
    conn.prepare_cached(
        "SELECT id, name, email, role, password_hash FROM people WHERE email = ?1 AND role IS NOT NULL",
    )
    .and_then(|mut q| {
        q.query_row([email], |row| Ok((staff(row)?, row.get("password_hash")?))).optional()
    })
    .doing("looking a person up")
}

/// Gives a person a role and a password; makes the record when there is none. Their
/// open sessions end: whoever knew the old password is out.
///
/// # Errors
/// SQLite refuses.
pub fn employ(
    tx: &Tx<'_>,
    name: &str,
    email: &str,
    role: Role,
    password_hash: &str,
    now: Timestamp,
) -> Result<PersonId, StoreError> {
    tx.execute(
        "DELETE FROM sessions WHERE person_id IN (SELECT id FROM people WHERE email = ?1)",
        [email],
    )
    .doing("ending sessions")?;
    tx.query_row(
        "INSERT INTO people (name, email, role, password_hash, made_at)
         VALUES (:name, :email, :role, :hash, :now)
         ON CONFLICT (email) DO UPDATE SET name = :name, role = :role, password_hash = :hash
         RETURNING id",
        named_params! { ":name": name, ":email": email, ":role": role.word(),
        ":hash": password_hash, ":now": us(now) },
        |row| row.get(0).map(PersonId),
    )
    .doing("giving a person a role")
}

/// Everybody with a role, by name.
///
/// # Errors
/// SQLite refuses.
pub fn staff_of(conn: &Connection) -> Result<Vec<Staff>, StoreError> {
    conn.prepare_cached(
        "SELECT id, name, email, role FROM people WHERE role IS NOT NULL ORDER BY name",
    )
    .and_then(|mut q| q.query_map([], staff)?.collect())
    .doing("reading who works here")
}

/// Gives somebody who has a role another one.
///
/// # Errors
/// SQLite refuses.
pub fn set_role(tx: &Tx<'_>, email: &str, name: &str, role: Role) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE people SET role = ?2, name = ?3 WHERE email = ?1 AND role IS NOT NULL",
        (email, role.word(), name),
    )
    .map(drop)
    .doing("giving a person a role")
}

/// Takes a person's role away and ends their sessions; gives their name.
///
/// # Errors
/// SQLite refuses.
pub fn take_role(tx: &Tx<'_>, id: PersonId) -> Result<Option<String>, StoreError> {
    tx.execute("DELETE FROM sessions WHERE person_id = ?1", [id.0]).doing("ending sessions")?;
    tx.query_row(
        "UPDATE people SET role = NULL, password_hash = NULL WHERE id = ?1 AND role IS NOT NULL RETURNING name",
        [id.0],
        |row| row.get(0),
    )
    .optional()
    .doing("taking a role away")
}

/// The record of whoever books with this address; made when there is none. The
/// name of an existing record stays as it is.
///
/// # Errors
/// SQLite refuses.
pub fn know(tx: &Tx<'_>, name: &str, email: &str, now: Timestamp) -> Result<PersonId, StoreError> {
    tx.prepare_cached(
        "INSERT INTO people (name, email, made_at) VALUES (?1, ?2, ?3)
         ON CONFLICT (email) DO UPDATE SET email = email RETURNING id",
    )
    .and_then(|mut q| q.query_row((name, email, us(now)), |row| row.get(0).map(PersonId)))
    .doing("recording a person")
}

/// Opens a session, known by the hash of its token; sessions past their end are swept out.
///
/// # Errors
/// SQLite refuses.
pub fn open_session(
    tx: &Tx<'_>,
    token_hash: &[u8; 32],
    person: PersonId,
    expires_at: Timestamp,
    now: Timestamp,
) -> Result<(), StoreError> {
    tx.execute("DELETE FROM sessions WHERE expires_at <= ?1", [us(now)])
        .and_then(|_| {
            tx.execute(
                "INSERT INTO sessions (token_hash, person_id, expires_at) VALUES (?1, ?2, ?3)",
                (token_hash, person.0, us(expires_at)),
            )
        })
        .map(drop)
        .doing("opening a session")
}

/// Whose session this is, and until when.
///
/// # Errors
/// SQLite refuses.
pub fn session(
    conn: &Connection,
    token_hash: &[u8; 32],
    now: Timestamp,
) -> Result<Option<(Staff, Timestamp)>, StoreError> {
    conn.prepare_cached(
        "SELECT p.id, p.name, p.email, p.role, s.expires_at FROM sessions s
         JOIN people p ON p.id = s.person_id
         WHERE s.token_hash = ?1 AND s.expires_at > ?2 AND p.role IS NOT NULL",
    )
    .and_then(|mut q| {
        q.query_row((token_hash, us(now)), |row| Ok((staff(row)?, instant(row, "expires_at")?)))
            .optional()
    })
    .doing("looking a session up")
}

/// Closes a session.
///
/// # Errors
/// SQLite refuses.
pub fn close_session(tx: &Tx<'_>, token_hash: &[u8; 32]) -> Result<(), StoreError> {
    tx.execute("DELETE FROM sessions WHERE token_hash = ?1", [token_hash])
        .map(drop)
        .doing("closing a session")
}

/// Whether anybody can sign in.
///
/// # Errors
/// SQLite refuses.
pub fn anybody(conn: &Connection) -> Result<bool, StoreError> {
    conn.query_row("SELECT EXISTS (SELECT 1 FROM people WHERE role IS NOT NULL)", [], |r| r.get(0))
        .doing("counting staff")
}
