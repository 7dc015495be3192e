//! Signing in and out; who a session belongs to.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use argon2::password_hash::phc::PasswordHash;
use argon2::{Argon2, PasswordHasher, PasswordVerifier};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::{SignedDuration, Timestamp};
use matricle_core::details::is_address;
use matricle_core::form::{Fault, Form};
use matricle_core::staff::Role;
use matricle_formats::mail::Mail;
use matricle_store::people::{self, Known, Staff};
use sha2::{Digest, Sha256};

use crate::{Desk, DeskError, random_bytes};

/// How long a session lasts.
pub(crate) const SESSION: SignedDuration = SignedDuration::from_hours(24 * 14);
/// The fewest characters of a password.
pub(crate) const LEAST: usize = 10;
/// Sessions remembered between requests; more than that and all are looked up afresh.
const REMEMBERED: usize = 10_000;

/// Sessions looked up before. Only this process writes to the house's file, so
/// what is remembered is true until this process changes it.
#[derive(Debug, Default)]
pub struct Sessions {
    known: Mutex<HashMap<[u8; 32], (Staff, Timestamp)>>,
}

impl Sessions {
    fn get(&self, hash: &[u8; 32], now: Timestamp) -> Option<Staff> {
        let known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        known.get(hash).filter(|(_, until)| *until > now).map(|(staff, _)| staff.clone())
    }

    fn put(&self, hash: [u8; 32], staff: Staff, until: Timestamp) {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= REMEMBERED {
            known.clear();
        }
        known.insert(hash, (staff, until));
    }

    /// Forgets all: after a role or a password changed, or a session was closed.
    pub(crate) fn forget(&self) {
        self.known.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }
}

pub(crate) fn hash_of(token: &str) -> [u8; 32] {
    Sha256::digest(token.as_bytes()).into()
}

/// Hashes a password with Argon2id (RFC 9106) and the library's recommended costs.
fn hash_password(password: &str) -> Result<String, DeskError> {
    Argon2::default()
        .hash_password(password.as_bytes())
        .map(|hash| hash.to_string())
        .map_err(|e| DeskError::Internal(format!("hashing a password: {e}")))
}

/// Gives somebody a role and a password.
///
/// # Errors
/// [`DeskError::ShortPassword`], or the store fails.
pub async fn employ(
    desk: &Desk,
    name: String,
    email: String,
    role: Role,
    password: String,
) -> Result<(), DeskError> {
    if password.chars().count() < LEAST {
        return Err(DeskError::ShortPassword { least: LEAST });
    }
    let hash = off_thread(move || hash_password(&password)).await?;
    let now = desk.clock.now();
    desk.store.write(move |tx| people::employ(tx, &name, &email, role, &hash, now)).await?;
    desk.sessions.forget();
    Ok(())
}

/// Opens a session and gives its token, which only the browser keeps.
///
/// # Errors
/// [`DeskError::SignIn`] whether the address or the password is wrong, after the
/// same work.
pub async fn sign_in(desk: &Desk, email: String, password: String) -> Result<String, DeskError> {
    let found = desk.store.read(move |conn| people::by_email(conn, email.trim())).await?;
    let (staff, hash) = match found {
        Some((staff, hash)) => (Some(staff), hash),
        None => (None, off_thread(|| Ok(nobody().to_owned())).await?),
    };
    let right = off_thread(move || {
        let hash = PasswordHash::new(&hash)
            .map_err(|e| DeskError::Internal(format!("reading a password hash: {e}")))?;
        Ok(Argon2::default().verify_password(password.as_bytes(), &hash).is_ok())
    })
    .await?;
    let Some(staff) = staff.filter(|_| right) else { return Err(DeskError::SignIn) };
    let token = URL_SAFE_NO_PAD.encode(random_bytes::<32>());
    let (hash, now) = (hash_of(&token), desk.clock.now());
    desk.store
        .write(move |tx| people::open_session(tx, &hash, staff.id, now + SESSION, now))
        .await?;
    Ok(token)
}

/// The hash of a password that nobody has, so that an unknown address costs as much as a known one.
fn nobody() -> &'static str {
    static HASH: std::sync::OnceLock<String> = std::sync::OnceLock::new();
    HASH.get_or_init(|| {
        let password = URL_SAFE_NO_PAD.encode(random_bytes::<32>());
        hash_password(&password).unwrap_or_default()
    })
}

async fn off_thread<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, DeskError> + Send + 'static,
) -> Result<T, DeskError> {
    tokio::task::spawn_blocking(work)
        .await
        .map_err(|e| DeskError::Internal(format!("a worker failed: {e}")))?
}

/// Whose session this token opens.
///
/// # Errors
/// The store fails.
pub async fn session(desk: &Desk, token: &str) -> Result<Option<Staff>, DeskError> {
    let (hash, now) = (hash_of(token), desk.clock.now());
    if let Some(staff) = desk.sessions.get(&hash, now) {
        return Ok(Some(staff));
    }
    let found = desk.store.read(move |conn| people::session(conn, &hash, now)).await?;
    Ok(found.map(|(staff, until)| {
        desk.sessions.put(hash, staff.clone(), until);
        staff
    }))
}

/// Closes a session.
///
/// # Errors
/// The store fails.
pub async fn sign_out(desk: &Desk, token: &str) -> Result<(), DeskError> {
    let hash = hash_of(token);
    desk.store.write(move |tx| people::close_session(tx, &hash)).await?;
    desk.sessions.forget();
    Ok(())
}

/// How long a number that was mailed may be used.
const CODE_LASTS: SignedDuration = SignedDuration::from_mins(15);
/// How often it may be tried.
const CODE_TRIES: u32 = 5;

fn code_hash(email: &str, code: &str) -> [u8; 32] {
    hash_of(&format!("{}\0{code}", email.trim().to_lowercase()))
}

/// Mails a number to an address, with which whoever reads its mail can sign in. Says
/// nothing about whether the address is known.
///
/// # Errors
/// [`DeskError::Form`] for what is no address; [`DeskError::MailAway`] when the mail
/// server does not take it.
pub async fn send_code(desk: &Desk, email: String) -> Result<(), DeskError> {
    let mut form = Form::new(vec![("email".into(), email)]);
    let email = form.needed("email");
    if !email.is_empty() && !is_address(&email) {
        form.fault("email", Fault::NotAnAddress);
    }
    form.done().map_err(DeskError::Form)?;
    let code = format!("{:06}", crate::random_u64() % 1_000_000);
    let (hash, now, to) = (code_hash(&email, &code), desk.clock.now(), email.clone());
    desk.store.write(move |tx| people::keep_code(tx, &to, &hash, now + CODE_LASTS)).await?;
    let house = desk.house().await?;
    let text = format!(
        "Your number to sign in at {} is {code}. It can be used for a quarter of an hour.\n\n\
         If you did not ask for it, do nothing: without the number nobody gets in.\n\n{}\n",
        house.name, house.name
    );
    let mail = Mail {
        from: (house.name.clone(), house.email.clone()),
        reply_to: None,
        to: (String::new(), email),
        subject: format!("{code} is your number"),
        message_id: format!("{}@{}", uuid::Uuid::now_v7(), desk.host()),
        date: now,
        html: matricle_formats::rich::from_text(&text),
        text,
        attachments: Vec::new(),
    };
    let message = matricle_formats::mail::message(&mail)?;
    desk.mailer.send(message).await.map_err(|error| {
        tracing::warn!(%error, "a number to sign in with could not be mailed");
        DeskError::MailAway
    })
}

/// Opens a session for whoever has read the number mailed to this address.
///
/// # Errors
/// [`DeskError::SignIn`] when it is another number, too old, or was tried too often.
pub async fn enter_code(desk: &Desk, email: String, code: &str) -> Result<String, DeskError> {
    let digits: String = code.chars().filter(char::is_ascii_digit).collect();
    let hash = code_hash(&email, &digits);
    let token = URL_SAFE_NO_PAD.encode(random_bytes::<32>());
    let (session, now) = (hash_of(&token), desk.clock.now());
    // A wrong try must be counted, so it is no error inside the transaction.
    let opened = desk
        .store
        .write(move |tx| {
            let email = email.trim();
            if !people::try_code(tx, email, &hash, CODE_TRIES, now)? {
                return Ok::<_, DeskError>(false);
            }
            let person = people::know(tx, "", email, now)?;
            people::open_session(tx, &session, person, now + SESSION, now)?;
            Ok(true)
        })
        .await?;
    if opened { Ok(token) } else { Err(DeskError::SignIn) }
}

/// Who has signed in with this token, whether they work here or only book.
///
/// # Errors
/// The store fails.
pub async fn known(desk: &Desk, token: &str) -> Result<Option<Known>, DeskError> {
    let (hash, now) = (hash_of(token), desk.clock.now());
    Ok(desk.store.read(move |conn| people::known(conn, &hash, now)).await?)
}
