use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::{PoisonError, RwLock};

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use hmac::{Hmac, KeyInit, Mac};
use matricle_core::words::codes::{Reference, TicketCode};
use sha2::Sha256;

/// Random bytes from the operating system.
///
/// # Panics
/// When the operating system has no randomness to give: nothing safe can follow.
#[must_use]
pub fn random_bytes<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).expect("the operating system gives random bytes");
    bytes
}

/// A random number.
#[must_use]
pub fn random_u64() -> u64 {
    u64::from_le_bytes(random_bytes())
}

/// What a booking's key is made of.
pub(crate) const BOOKING: &str = "booking";
/// What an invitation's key is made of.
pub(crate) const INVITATION: &str = "invitation";

/// Keys made from the one secret of a house (HMAC-SHA-256, RFC 2104).
///
/// A booking's address is made, not stored: the database alone opens none.
pub struct Secrets {
    /// Keyed once: each key that is made begins with a copy of it.
    keyed: Hmac<Sha256>,
    /// How often keys were replaced, of those that were: few, and asked at every page.
    replaced: RwLock<HashMap<(String, String), u32>>,
}

impl Secrets {
    /// Takes the secret of the house.
    ///
    /// # Panics
    /// Never: HMAC takes a key of any length.
    #[must_use]
    pub fn new(master: [u8; 32]) -> Self {
        Self {
            keyed: Hmac::new_from_slice(&master).expect("HMAC takes any key"),
            replaced: RwLock::default(),
        }
    }

    /// A key has been replaced so often: those of before open nothing from now on.
    pub(crate) fn replace(&self, what: &str, of: &str, times: u32) {
        let mut replaced = self.replaced.write().unwrap_or_else(PoisonError::into_inner);
        replaced.insert((what.to_owned(), of.to_owned()), times);
    }

    /// What a key that may have been replaced is made of.
    fn as_replaced<'o>(&self, what: &str, of: &'o str) -> Cow<'o, str> {
        let replaced = self.replaced.read().unwrap_or_else(PoisonError::into_inner);
        if replaced.is_empty() {
            return of.into();
        }
        match replaced.get(&(what.to_owned(), of.to_owned())) {
            None => of.into(),
            Some(times) => format!("{of} {times}").into(),
        }
    }

    fn mac(&self, what: &str, of: &str) -> Hmac<Sha256> {
        let mut mac = self.keyed.clone();
        mac.update(what.as_bytes());
        mac.update(&[0]);
        mac.update(of.as_bytes());
        mac
    }

    fn make(&self, what: &str, of: &str) -> String {
        URL_SAFE_NO_PAD.encode(&self.mac(what, of).finalize().into_bytes()[..16])
    }

    /// Compares in constant time.
    fn fits(&self, what: &str, of: &str, given: &str) -> bool {
        URL_SAFE_NO_PAD.decode(given).is_ok_and(|bytes| {
            bytes.len() == 16 && self.mac(what, of).verify_truncated_left(&bytes).is_ok()
        })
    }

    /// The unguessable part of a booking's address: 128 bits.
    #[must_use]
    pub fn booking_key(&self, reference: Reference) -> String {
        self.make(BOOKING, &self.as_replaced(BOOKING, reference.as_str()))
    }

    /// Whether this is the key of that booking.
    #[must_use]
    pub fn opens_booking(&self, reference: Reference, key: &str) -> bool {
        self.fits(BOOKING, &self.as_replaced(BOOKING, reference.as_str()), key)
    }

    /// The code on somebody's certificate.
    #[must_use]
    pub fn certificate_code(&self, attendee: matricle_core::AttendeeId) -> TicketCode {
        let bytes = self.mac("certificate", &attendee.to_string()).finalize().into_bytes();
        let mut first = [0; 8];
        first.copy_from_slice(&bytes[..8]);
        TicketCode::from_random(u64::from_le_bytes(first))
    }

    /// The key with which a draft is looked at.
    #[must_use]
    pub fn preview_key(&self, event: matricle_core::EventId) -> String {
        self.make("preview", &event.to_string())
    }

    /// Whether this is the key with which that draft is looked at.
    #[must_use]
    pub fn opens_preview(&self, event: matricle_core::EventId, key: &str) -> bool {
        self.fits("preview", &event.to_string(), key)
    }

    /// The secret part of a picture's address: one of an event that is not listed is not to be
    /// found by counting.
    #[must_use]
    pub fn picture_key(&self, picture: i64) -> String {
        self.make("picture", &picture.to_string())
    }

    /// Whether this is the secret part of the address of that picture.
    #[must_use]
    pub fn opens_picture(&self, picture: i64, key: &str) -> bool {
        self.fits("picture", &picture.to_string(), key)
    }

    /// The secret part of an invitation's link.
    #[must_use]
    pub fn invitation_key(&self, message: i64) -> String {
        self.make(INVITATION, &self.as_replaced(INVITATION, &message.to_string()))
    }

    /// Whether this is the secret part of that invitation's link.
    #[must_use]
    pub fn opens_invitation(&self, message: i64, key: &str) -> bool {
        self.fits(INVITATION, &self.as_replaced(INVITATION, &message.to_string()), key)
    }

    /// The secret part of the link that ends announcements for an address.
    #[must_use]
    pub fn unsubscribe_key(&self, address: &str) -> String {
        self.make("unsubscribe", &address.to_lowercase())
    }

    /// Whether this is the secret part of the link that ends announcements for that address.
    #[must_use]
    pub fn opens_unsubscribe(&self, address: &str, key: &str) -> bool {
        self.fits("unsubscribe", &address.to_lowercase(), key)
    }

    /// The secret part of a submission's address that is mailed: whoever has it reads the mail of
    /// this address.
    #[must_use]
    pub fn submission_key(&self, id: matricle_core::SubmissionId, email: &str) -> String {
        self.make("submission", &format!("{id} {}", email.to_lowercase()))
    }

    /// Whether this is that secret part.
    #[must_use]
    pub fn opens_submission(
        &self,
        id: matricle_core::SubmissionId,
        email: &str,
        key: &str,
    ) -> bool {
        self.fits("submission", &format!("{id} {}", email.to_lowercase()), key)
    }

    /// The secret part of the address of a submission that is being written, for the browser that
    /// began it. It proves nothing.
    #[must_use]
    pub fn writing_key(&self, id: matricle_core::SubmissionId) -> String {
        self.make("writing", &id.to_string())
    }

    /// Whether this is that secret part.
    #[must_use]
    pub fn opens_writing(&self, id: matricle_core::SubmissionId, key: &str) -> bool {
        self.fits("writing", &id.to_string(), key)
    }

    /// A stamp for a page that was made at this instant for this browser, which nobody else can
    /// make and no other browser can use.
    #[must_use]
    pub fn stamp(&self, at: jiff::Timestamp, browser: i64) -> String {
        let at = at.as_second();
        format!("{at}.{}", self.make("stamp", &format!("{at} {browser}")))
    }

    /// When a page was made, by its stamp; nothing for a stamp that is none of ours, or another
    /// browser's.
    #[must_use]
    pub fn stamped_at(&self, stamp: &str, browser: i64) -> Option<jiff::Timestamp> {
        let (at, key) = stamp.split_once('.')?;
        self.fits("stamp", &format!("{at} {browser}"), key)
            .then(|| jiff::Timestamp::from_second(at.parse().ok()?).ok())?
    }

    /// The secret part of the address of a place on a waiting list.
    #[must_use]
    pub fn waiting_key(&self, place: i64) -> String {
        self.make("waiting", &place.to_string())
    }

    /// Whether this is the secret part of the address of that place.
    #[must_use]
    pub fn opens_waiting(&self, place: i64, key: &str) -> bool {
        self.fits("waiting", &place.to_string(), key)
    }

    /// The secret part of the address of somebody's own feed; `made` is how often it was made.
    #[must_use]
    pub fn own_feed_key(&self, id: i64, made: u32) -> String {
        self.make("own feed", &format!("{id} {made}"))
    }

    /// Whether this is the secret part of the address of that feed.
    #[must_use]
    pub fn opens_own_feed(&self, id: i64, made: u32, key: &str) -> bool {
        self.fits("own feed", &format!("{id} {made}"), key)
    }

    /// The secret part of the address of a host's feed.
    #[must_use]
    pub fn feed_key(&self, host: matricle_core::HostId) -> String {
        self.make("feed", &host.to_string())
    }

    /// Whether this is the secret part of the address of that host's feed.
    #[must_use]
    pub fn opens_feed(&self, host: matricle_core::HostId, key: &str) -> bool {
        self.fits("feed", &host.to_string(), key)
    }

    /// The secret part of the address of one ticket, for whoever it was passed to. It dies
    /// with the code.
    #[must_use]
    pub fn ticket_key(&self, code: matricle_core::words::codes::TicketCode) -> String {
        self.make("ticket", code.as_str())
    }

    /// Whether this is the secret part of the address of that ticket.
    #[must_use]
    pub fn opens_ticket(&self, code: matricle_core::words::codes::TicketCode, key: &str) -> bool {
        self.fits("ticket", code.as_str(), key)
    }

    /// The secret part of an attendee's own link to a date online. It dies with the code, and
    /// where it is replaced.
    #[must_use]
    pub fn foyer_key(
        &self,
        code: matricle_core::words::codes::TicketCode,
        replaced: u32,
    ) -> String {
        self.make("foyer", &format!("{} {replaced}", code.as_str()))
    }

    /// Whether this is the secret part of that link.
    #[must_use]
    pub fn opens_foyer(
        &self,
        code: matricle_core::words::codes::TicketCode,
        replaced: u32,
        key: &str,
    ) -> bool {
        self.fits("foyer", &format!("{} {replaced}", code.as_str()), key)
    }

    /// A number that stands for a browser or a network where things are counted: the file
    /// alone does not say which. Never 0, which is unknown.
    #[must_use]
    pub fn trace(&self, what: &str, of: &str) -> i64 {
        let bytes = self.mac(what, of).finalize().into_bytes();
        let mut first = [0; 8];
        first.copy_from_slice(&bytes[..8]);
        i64::from_le_bytes(first).max(i64::MIN + 1).abs() | 1
    }

    /// The token that a form of this visitor carries.
    #[must_use]
    pub fn form_token(&self, visitor: &str) -> String {
        self.make("form", visitor)
    }

    /// Whether a form comes from a page made for this visitor.
    #[must_use]
    pub fn is_form_token(&self, visitor: &str, token: &str) -> bool {
        self.fits("form", visitor, token)
    }
}

pub(crate) fn fresh_code() -> TicketCode {
    TicketCode::from_random(random_u64())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_open_only_what_they_were_made_for() {
        let secrets = Secrets::new([7; 32]);
        let (one, other) = (Reference::from_random(1), Reference::from_random(2));
        let key = secrets.booking_key(one);
        assert_eq!(key.len(), 22);
        assert!(secrets.opens_booking(one, &key));
        assert!(!secrets.opens_booking(other, &key));
        assert!(!secrets.is_form_token(one.as_str(), &key));
        assert!(!secrets.opens_booking(one, &key[..21]) && !secrets.opens_booking(one, ""));
        assert!(!Secrets::new([8; 32]).opens_booking(one, &key));
    }
}
