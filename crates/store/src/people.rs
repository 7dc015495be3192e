//! People and their sessions.

use jiff::Timestamp;
use matricle_core::PersonId;
use matricle_core::people::staff::Role;
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
pub fn staff_of(conn: &Connection) -> Result<Vec<Staff>, StoreError> {
    conn.prepare_cached(
        "SELECT id, name, email, role FROM people WHERE role IS NOT NULL ORDER BY name",
    )
    .and_then(|mut q| q.query_map([], staff)?.collect())
    .doing("reading who works here")
}

/// Gives somebody who has a role another one.
pub fn set_role(tx: &Tx<'_>, email: &str, name: &str, role: Role) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE people SET role = ?2, name = ?3 WHERE email = ?1 AND role IS NOT NULL",
        (email, role.word(), name),
    )
    .map(drop)
    .doing("giving a person a role")
}

/// Takes a person's role away and ends their sessions; gives their name.
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
    /// They signed in with their password, so they have the rights of their role.
    pub by_password: bool,
}

/// Whose session this is, whether they work here or only book.
pub fn known(
    conn: &Connection,
    token_hash: &[u8; 32],
    now: Timestamp,
) -> Result<Option<Known>, StoreError> {
    conn.prepare_cached(
        "SELECT p.id, p.name, p.email, p.member, p.role IS NOT NULL AS staff, s.staff AS by_password FROM sessions s
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
                by_password: row.get("by_password")?,
            })
        })
        .optional()
    })
    .doing("looking a session up")
}

/// Keeps the hash of a number that was sent to an address, for the browser that asked. What
/// is older than an hour is forgotten.
pub fn keep_code(
    tx: &Tx<'_>,
    email: &str,
    browser: &[u8; 32],
    hash: &[u8; 32],
    expires_at: Timestamp,
    now: Timestamp,
) -> Result<(), StoreError> {
    let hour = now.saturating_sub(jiff::SignedDuration::from_hours(1)).unwrap_or(now);
    tx.execute("DELETE FROM sign_in_codes WHERE made_at < ?1", [us(hour)])
        .and_then(|_| {
            tx.execute(
                "INSERT INTO sign_in_codes (email, browser, code_hash, made_at, expires_at)
                 VALUES (?1, ?2, ?3, ?4, ?5)",
                (email, browser, hash, us(now), us(expires_at)),
            )
        })
        .map(drop)
        .doing("keeping a number")
}

/// Tries a number in the browser that asked for it: true once for one of the two newest that
/// last still and have not been tried more often than this.
pub fn try_code(
    tx: &Tx<'_>,
    email: &str,
    browser: &[u8; 32],
    hash: &[u8; 32],
    most: u32,
    now: Timestamp,
) -> Result<bool, StoreError> {
    const LIVE: &str =
        "id IN (SELECT id FROM sign_in_codes WHERE email = ?1 AND browser = ?2 AND used = 0
            AND expires_at > ?3 ORDER BY id DESC LIMIT 2)";
    let write = || -> rusqlite::Result<bool> {
        tx.execute(
            &format!("UPDATE sign_in_codes SET tries = tries + 1 WHERE {LIVE}"),
            (email, browser, us(now)),
        )?;
        let right = tx.execute(
            &format!(
                "UPDATE sign_in_codes SET used = 1 WHERE {LIVE} AND code_hash = ?4 AND tries <= ?5"
            ),
            (email, browser, us(now), hash, most),
        )?;
        Ok(right == 1)
    };
    write().doing("trying a number")
}

/// Makes exactly these addresses members; others are none any more.
pub fn set_members(tx: &Tx<'_>, emails: &[String], now: Timestamp) -> Result<(), StoreError> {
    tx.execute("UPDATE people SET member = 0 WHERE member = 1", []).doing("noting members")?;
    for email in emails {
        let id = know(tx, "", email, now)?;
        tx.execute("UPDATE people SET member = 1 WHERE id = ?1", [id.0]).doing("noting members")?;
    }
    Ok(())
}

/// The addresses of all members.
pub fn members(conn: &Connection) -> Result<Vec<String>, StoreError> {
    conn.prepare_cached("SELECT email FROM people WHERE member = 1 ORDER BY email")
        .and_then(|mut q| q.query_map([], |row| row.get(0))?.collect())
        .doing("reading members")
}

/// A session to be opened.
#[derive(Debug, Clone)]
pub struct NewSession<'a> {
    /// The hash of its token.
    pub token_hash: &'a [u8; 32],
    /// Whose it is.
    pub person: PersonId,
    /// Opened with a password: with the rights of a role.
    pub staff: bool,
    /// What the browser calls itself, shortened.
    pub browser: &'a str,
    /// When it ends by itself.
    pub expires_at: Timestamp,
}

/// Opens a session; sessions past their end are swept out.
pub fn open_session(tx: &Tx<'_>, new: &NewSession<'_>, now: Timestamp) -> Result<(), StoreError> {
    tx.execute("DELETE FROM sessions WHERE expires_at <= ?1", [us(now)])
        .and_then(|_| {
            tx.execute(
                "INSERT INTO sessions (token_hash, person_id, staff, made_at, expires_at, browser)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                (new.token_hash, new.person.0, new.staff, us(now), us(new.expires_at), new.browser),
            )
        })
        .map(drop)
        .doing("opening a session")
}

/// A session that is open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenSession {
    /// When it was opened.
    pub made_at: Timestamp,
    /// When it ends by itself.
    pub expires_at: Timestamp,
    /// What the browser called itself.
    pub browser: String,
    /// Opened with a password.
    pub staff: bool,
    /// It is the one that asks.
    pub own: bool,
}

/// The open sessions of whoever has this one, the newest first.
pub fn sessions_beside(
    conn: &Connection,
    token_hash: &[u8; 32],
    now: Timestamp,
) -> Result<Vec<OpenSession>, StoreError> {
    conn.prepare_cached(
        "SELECT made_at, expires_at, browser, staff, token_hash = ?1 AS own FROM sessions
         WHERE person_id = (SELECT person_id FROM sessions WHERE token_hash = ?1) AND expires_at > ?2
         ORDER BY made_at DESC LIMIT 100",
    )
    .and_then(|mut q| {
        q.query_map((token_hash, us(now)), |row| {
            Ok(OpenSession {
                made_at: instant(row, "made_at")?,
                expires_at: instant(row, "expires_at")?,
                browser: row.get("browser")?,
                staff: row.get("staff")?,
                own: row.get("own")?,
            })
        })?
        .collect()
    })
    .doing("reading sessions")
}

/// Closes all sessions of whoever has this one, this one too; says how many.
pub fn close_all_beside(tx: &Tx<'_>, token_hash: &[u8; 32]) -> Result<usize, StoreError> {
    tx.execute(
        "DELETE FROM sessions WHERE person_id = (SELECT person_id FROM sessions WHERE token_hash = ?1)",
        [token_hash],
    )
    .doing("closing sessions")
}

/// Gives a person another password; all their sessions end.
pub fn set_password(tx: &Tx<'_>, id: PersonId, hash: &str) -> Result<(), StoreError> {
    tx.execute("DELETE FROM sessions WHERE person_id = ?1", [id.0])
        .and_then(|_| {
            tx.execute(
                "UPDATE people SET password_hash = ?2 WHERE id = ?1 AND role IS NOT NULL",
                (id.0, hash),
            )
        })
        .map(drop)
        .doing("changing a password")
}

/// Whose session with the rights of a role this is, and until when.
pub fn session(
    conn: &Connection,
    token_hash: &[u8; 32],
    now: Timestamp,
) -> Result<Option<(Staff, Timestamp)>, StoreError> {
    conn.prepare_cached(
        "SELECT p.id, p.name, p.email, p.role, s.expires_at FROM sessions s
         JOIN people p ON p.id = s.person_id
         WHERE s.token_hash = ?1 AND s.expires_at > ?2 AND s.staff = 1 AND p.role IS NOT NULL",
    )
    .and_then(|mut q| {
        q.query_row((token_hash, us(now)), |row| Ok((staff(row)?, instant(row, "expires_at")?)))
            .optional()
    })
    .doing("looking a session up")
}

/// Closes a session.
pub fn close_session(tx: &Tx<'_>, token_hash: &[u8; 32]) -> Result<(), StoreError> {
    tx.execute("DELETE FROM sessions WHERE token_hash = ?1", [token_hash])
        .map(drop)
        .doing("closing a session")
}

/// Whether anybody can sign in.
pub fn anybody(conn: &Connection) -> Result<bool, StoreError> {
    conn.query_row("SELECT EXISTS (SELECT 1 FROM people WHERE role IS NOT NULL)", [], |r| r.get(0))
        .doing("counting staff")
}

/// The name that goes with an address, as it was given last; empty for somebody unknown.
pub fn name_of(conn: &Connection, email: &str) -> Result<String, StoreError> {
    conn.prepare_cached("SELECT name FROM people WHERE email = ?1")
        .and_then(|mut q| q.query_row([email], |row| row.get(0)).optional())
        .map(Option::unwrap_or_default)
        .doing("looking a name up")
}

/// Whether somebody with this address is a member.
pub fn is_member(conn: &Connection, email: &str) -> Result<bool, StoreError> {
    conn.prepare_cached("SELECT EXISTS (SELECT 1 FROM people WHERE email = ?1 AND member = 1)")
        .and_then(|mut q| q.query_row([email], |row| row.get(0)))
        .doing("looking a member up")
}
