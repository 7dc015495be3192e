//! Signing in and out; who a session belongs to.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use argon2::password_hash::phc::PasswordHash;
use argon2::{Argon2, PasswordHasher, PasswordVerifier};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::{SignedDuration, Timestamp};
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::people::staff::Role;
use matricle_core::words::address::is_address;
use matricle_core::words::text::line;
use matricle_formats::mail::Mail;
use matricle_store::audit;
use matricle_store::house::House;
use matricle_store::people::{self, Known, NewSession, OpenSession, Staff};
use sha2::{Digest, Sha256};
use tokio::sync::watch;

use crate::people::often::Asks;
use crate::{Desk, DeskError, off_thread, random_bytes};

fields! {
    OLD_PASSWORD: Password = "old_password", "The password you have" needed;
    NEW_PASSWORD: Password = "new_password", "The new one",
        "At least ten characters. You sign in with it afterwards, on every device." needed;
}

/// How long a session lasts.
const SESSION: SignedDuration = SignedDuration::from_hours(24 * 14);
/// The fewest characters of a password.
pub(crate) const LEAST: usize = 10;
/// Sessions remembered between requests; more than that and all are looked up afresh.
const REMEMBERED: usize = 10_000;

/// Sessions looked up before. Only this process writes to the house's file, so
/// what is remembered is true until this process changes it.
#[derive(Debug, Default)]
pub struct Sessions {
    known: Mutex<HashMap<[u8; 32], (Staff, Timestamp)>>,
    ended: watch::Sender<()>,
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
        self.ended.send_replace(());
    }

    /// For pages that stay open: `changed` is ready when sessions may have ended.
    #[must_use]
    pub fn listen(&self) -> watch::Receiver<()> {
        self.ended.subscribe()
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

/// What is known of whoever signs in.
#[derive(Debug, Clone, Default)]
pub struct Browser {
    /// The random name that their browser keeps.
    pub visitor: String,
    /// What it calls itself.
    pub agent: String,
    /// Their address in the network, shortened: for the audit log.
    pub from_where: String,
}

/// Longest name of a browser that is kept, in characters.
const LONGEST_AGENT: usize = 120;

impl Browser {
    fn agent(&self) -> String {
        line(&self.agent).chars().take(LONGEST_AGENT).collect()
    }
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

/// Opens a session with the rights of a role and gives its token, which only the browser
/// keeps. Tries are counted by address, and the outcome stands in the audit log.
///
/// # Errors
/// [`DeskError::SignIn`] whether the address or the password is wrong, after the
/// same work; [`DeskError::TooOften`].
pub async fn sign_in(
    desk: &Desk,
    email: String,
    password: String,
    browser: Browser,
) -> Result<String, DeskError> {
    let email = line(&email);
    desk.often.ask(Asks::Password, &email, desk.clock.now())?;
    let asked = email.clone();
    let found = desk.store.read(move |conn| people::by_email(conn, &asked)).await?;
    let (staff, hash) = match found {
        Some((staff, hash)) => (Some(staff), hash),
        None => (None, off_thread(|| Ok(nobody().to_owned())).await?),
    };
    let right = verify(password, hash).await?;
    let now = desk.clock.now();
    let Some(staff) = staff.filter(|_| right) else {
        let shown: String = email.chars().take(LONGEST_AGENT).collect();
        let noted = move |tx: &matricle_store::Tx<'_>| {
            audit::note(tx, &shown, "could not sign in", &browser.from_where, now)
        };
        desk.store.write(noted).await?;
        return Err(DeskError::SignIn);
    };
    let token = URL_SAFE_NO_PAD.encode(random_bytes::<32>());
    let hash = hash_of(&token);
    desk.store
        .write(move |tx| {
            let new = NewSession {
                token_hash: &hash,
                person: staff.id,
                staff: true,
                browser: &browser.agent(),
                expires_at: now + SESSION,
            };
            people::open_session(tx, &new, now)?;
            let what = format!("signed in as {}", staff.role.word());
            audit::note(tx, &staff.name, &what, &browser.from_where, now)
        })
        .await?;
    Ok(token)
}

async fn verify(password: String, hash: String) -> Result<bool, DeskError> {
    off_thread(move || {
        let hash = PasswordHash::new(&hash)
            .map_err(|e| DeskError::Internal(format!("reading a password hash: {e}")))?;
        Ok(Argon2::default().verify_password(password.as_bytes(), &hash).is_ok())
    })
    .await
}

/// Changes one's own password; all one's sessions end.
///
/// # Errors
/// [`DeskError::Form`] when the old one is wrong or the new one too short;
/// [`DeskError::TooOften`].
pub async fn change_password(
    desk: &Desk,
    staff: &Staff,
    mut form: Form,
    browser: Browser,
) -> Result<(), DeskError> {
    let now = desk.clock.now();
    desk.often.ask(Asks::Password, &staff.email, now)?;
    let (old, new) =
        (form.get(OLD_PASSWORD.name).to_owned(), form.get(NEW_PASSWORD.name).to_owned());
    let asked = staff.email.clone();
    let found = desk.store.read(move |conn| people::by_email(conn, &asked)).await?;
    let (_, hash) = found.ok_or(DeskError::NotFound)?;
    if !verify(old, hash).await? {
        form.fault(OLD_PASSWORD, Fault::Unknown);
    }
    if new.chars().count() < LEAST {
        form.fault(NEW_PASSWORD, Fault::TooShort(LEAST));
    }
    form.done().map_err(DeskError::Form)?;
    let hash = off_thread(move || hash_password(&new)).await?;
    let (id, name) = (staff.id, staff.name.clone());
    desk.store
        .write(move |tx| {
            people::set_password(tx, id, &hash)?;
            audit::note(tx, &name, "changed their own password", &browser.from_where, now)
        })
        .await?;
    desk.sessions.forget();
    Ok(())
}

/// The open sessions of whoever has this token.
pub async fn sessions(desk: &Desk, token: &str) -> Result<Vec<OpenSession>, DeskError> {
    let (hash, now) = (hash_of(token), desk.clock.now());
    Ok(desk.store.read(move |conn| people::sessions_beside(conn, &hash, now)).await?)
}

/// Closes all sessions of whoever has this token, on every device; says how many.
pub async fn sign_out_everywhere(desk: &Desk, token: &str) -> Result<usize, DeskError> {
    let hash = hash_of(token);
    let closed = desk.store.write(move |tx| people::close_all_beside(tx, &hash)).await?;
    desk.sessions.forget();
    Ok(closed)
}

/// The hash of a password that nobody has, so that an unknown address costs as much as a known one.
fn nobody() -> &'static str {
    static HASH: std::sync::OnceLock<String> = std::sync::OnceLock::new();
    HASH.get_or_init(|| {
        let password = URL_SAFE_NO_PAD.encode(random_bytes::<32>());
        hash_password(&password).unwrap_or_default()
    })
}

/// Whose session with the rights of a role this token opens.
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
    hash_of(&format!("{}\0{code}", email.to_lowercase()))
}

/// Mails a number to an address, with which whoever reads its mail can sign in, in this
/// browser only. Asking again leaves a number that is under way as it is. Says nothing about
/// whether the address is known.
///
/// # Errors
/// [`DeskError::Form`] for what is no address; [`DeskError::TooOften`];
/// [`DeskError::MailAway`] when the mail server does not take it.
pub async fn send_code(desk: &Desk, email: String, browser: &Browser) -> Result<(), DeskError> {
    let mut form = Form::new(vec![("email".into(), email)]);
    let email = form.needed("email");
    if !email.is_empty() && !is_address(&email) {
        form.fault("email", Fault::NotAnAddress);
    }
    form.done().map_err(DeskError::Form)?;
    let now = desk.clock.now();
    desk.often.ask(Asks::NumberMail, &email, now)?;
    let code = format!("{:06}", crate::random_u64() % 1_000_000);
    let (hash, visitor) = (code_hash(&email, &code), hash_of(&browser.visitor));
    let to = email.clone();
    desk.store
        .write(move |tx| people::keep_code(tx, &to, &visitor, &hash, now + CODE_LASTS, now))
        .await?;
    let house = desk.house().await?;
    let text = format!(
        "Your number to sign in at {} is {code}. It can be used for a quarter of an hour, in the browser that asked for it.\n\n\
         If you did not ask for it, do nothing, and give it to nobody: without the number nobody gets in.\n\n{}\n",
        house.name, house.name
    );
    mail_now(desk, &house, email, format!("{code} is your number"), text).await
}

/// Hands a mail over while somebody waits for it.
///
/// # Errors
/// [`DeskError::MailAway`] when the mail server does not take it.
pub(crate) async fn mail_now(
    desk: &Desk,
    house: &House,
    to: String,
    subject: String,
    text: String,
) -> Result<(), DeskError> {
    let mail = Mail {
        answers: Vec::new(),
        by_hand: false,
        from: (house.name.clone(), house.email.clone()),
        reply_to: None,
        to: (String::new(), to),
        subject,
        message_id: format!("{}@{}", uuid::Uuid::now_v7(), desk.host()),
        date: desk.clock.now(),
        html: matricle_formats::rich::from_text(&text),
        text,
        pictures: Vec::new(),
        calendar: None,
        attachments: Vec::new(),
        list: None,
    };
    let message = matricle_formats::mail::message(&mail)?;
    desk.mailer.send(message).await.map(drop).map_err(|error| {
        // What the server says may name the address: that is nobody's to keep in a log.
        tracing::warn!(for_good = error.for_good, "a mail that somebody waits for was not taken");
        DeskError::MailAway
    })
}

/// Opens a session for whoever has read the number mailed to this address, in the browser
/// that asked for it. It gives what a booker has, and never the rights of a role.
///
/// # Errors
/// [`DeskError::SignIn`] when it is another number or browser, too old, or was tried too
/// often; [`DeskError::TooOften`] when many were tried for the address.
pub async fn enter_code(
    desk: &Desk,
    email: String,
    code: &str,
    browser: &Browser,
) -> Result<String, DeskError> {
    let email = line(&email);
    let now = desk.clock.now();
    desk.often.ask(Asks::NumberTry, &email, now)?;
    let digits: String = code.chars().filter(char::is_ascii_digit).collect();
    let (hash, visitor) = (code_hash(&email, &digits), hash_of(&browser.visitor));
    let token = URL_SAFE_NO_PAD.encode(random_bytes::<32>());
    let (session, agent) = (hash_of(&token), browser.agent());
    // A wrong try must be counted, so it is no error inside the transaction.
    let opened = desk
        .store
        .write(move |tx| {
            if !people::try_code(tx, &email, &visitor, &hash, CODE_TRIES, now)? {
                return Ok::<_, DeskError>(false);
            }
            let new = NewSession {
                token_hash: &session,
                person: people::know(tx, "", &email, now)?,
                staff: false,
                browser: &agent,
                expires_at: now + SESSION,
            };
            people::open_session(tx, &new, now)?;
            Ok(true)
        })
        .await?;
    if opened { Ok(token) } else { Err(DeskError::SignIn) }
}

/// Who has signed in with this token, whether they work here or only book.
pub async fn known(desk: &Desk, token: &str) -> Result<Option<Known>, DeskError> {
    let (hash, now) = (hash_of(token), desk.clock.now());
    Ok(desk.store.read(move |conn| people::known(conn, &hash, now)).await?)
}
