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
         ON CONFLICT (email) DO UPDATE SET name = CASE name WHEN '' THEN ?1 ELSE name END RETURNING id",
    )
    .and_then(|mut q| q.query_row((name, email, us(now)), |row| row.get(0).map(PersonId)))
    .doing("recording a person")
}

/// Somebody who has proved their address by signing in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Known {
    /// The person.
    pub id: PersonId,
    /// Their name; empty until they have booked.
    pub name: String,
    /// Their address.
    pub email: String,
    /// A member, by their record.
    pub member: bool,
    /// Works for the house.
    pub staff: bool,
}

/// Whose session this is, whether they work here or only book.
///
/// # Errors
/// SQLite refuses.
pub fn known(
    conn: &Connection,
    token_hash: &[u8; 32],
    now: Timestamp,
) -> Result<Option<Known>, StoreError> {
    conn.prepare_cached(
        "SELECT p.id, p.name, p.email, p.member, p.role IS NOT NULL AS staff FROM sessions s
         JOIN people p ON p.id = s.person_id WHERE s.token_hash = ?1 AND s.expires_at > ?2",
    )
    .and_then(|mut q| {
        q.query_row((token_hash, us(now)), |row| {
            Ok(Known {
                id: PersonId(row.get("id")?),
                name: row.get("name")?,
                email: row.get("email")?,
                member: row.get("member")?,
                staff: row.get("staff")?,
            })
        })
        .optional()
    })
    .doing("looking a session up")
}

/// Keeps the hash of a number that was sent to an address, in the place of any before.
///
/// # Errors
/// SQLite refuses.
pub fn keep_code(
    tx: &Tx<'_>,
    email: &str,
    hash: &[u8; 32],
    expires_at: Timestamp,
) -> Result<(), StoreError> {
    tx.execute(
        "INSERT INTO sign_in_codes (email, code_hash, expires_at) VALUES (?1, ?2, ?3)
         ON CONFLICT (email) DO UPDATE SET code_hash = ?2, expires_at = ?3, tries = 0",
        (email, hash, us(expires_at)),
    )
    .map(drop)
    .doing("keeping a number")
}

/// Tries a number: true once for the right one, while it lasts and has not been tried
/// more often than this.
///
/// # Errors
/// SQLite refuses.
pub fn try_code(
    tx: &Tx<'_>,
    email: &str,
    hash: &[u8; 32],
    most: u32,
    now: Timestamp,
) -> Result<bool, StoreError> {
    let write = || -> rusqlite::Result<bool> {
        tx.execute("UPDATE sign_in_codes SET tries = tries + 1 WHERE email = ?1", [email])?;
        let right = tx.execute(
            "DELETE FROM sign_in_codes WHERE email = ?1 AND code_hash = ?2 AND expires_at > ?3 AND tries <= ?4",
            (email, hash, us(now), most),
        )?;
        Ok(right == 1)
    };
    write().doing("trying a number")
}

/// Makes exactly these addresses members; others are none any more.
///
/// # Errors
/// SQLite refuses.
pub fn set_members(tx: &Tx<'_>, emails: &[String], now: Timestamp) -> Result<(), StoreError> {
    tx.execute("UPDATE people SET member = 0 WHERE member = 1", []).doing("noting members")?;
    for email in emails {
        let id = know(tx, "", email, now)?;
        tx.execute("UPDATE people SET member = 1 WHERE id = ?1", [id.0]).doing("noting members")?;
    }
    Ok(())
}

/// The addresses of all members.
///
/// # Errors
/// SQLite refuses.
pub fn members(conn: &Connection) -> Result<Vec<String>, StoreError> {
    conn.prepare_cached("SELECT email FROM people WHERE member = 1 ORDER BY email")
        .and_then(|mut q| q.query_map([], |row| row.get(0))?.collect())
        .doing("reading members")
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

/// Whether somebody with this address is a member.
///
/// # Errors
/// SQLite refuses.
pub fn is_member(conn: &Connection, email: &str) -> Result<bool, StoreError> {
    conn.prepare_cached("SELECT EXISTS (SELECT 1 FROM people WHERE email = ?1 AND member = 1)")
        .and_then(|mut q| q.query_row([email], |row| row.get(0)))
        .doing("looking a member up")
}
