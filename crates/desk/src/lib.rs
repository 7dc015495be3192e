//! Use cases: one function for each thing a person or a timer does.
//!
//! Each checks who may, loads facts, lets `matricle-core` decide, writes down
//! what was decided and plans messages. Pages, the command line and the timers
//! call the same functions, so none of them can forget a right or a rule.
//!
//! # Errors
//! Each use case of staff fails with [`DeskError::Right`] where the role may not, and each with
//! [`DeskError::Store`] where the store fails. What else can go wrong is said at each.

// Their floors are named in crates/matricle/tests/rooms.rs; imports go down only.
pub mod acting;
pub mod badges;
mod bench;
pub mod bookings;
mod clock;
pub mod door;
mod drawn;
mod error;
pub mod house;
pub mod letters;
pub mod messages;
pub mod money;
pub mod office;
pub mod outside;
pub mod people;
pub mod planning;
pub mod programme;
pub mod review;
pub mod rounds;
mod secrets;
pub mod telling;
pub mod timers;

use std::sync::Arc;

pub use clock::Clock;
pub(crate) use error::refuse;
pub use error::{Clash, DeskError, PlanError, TooSmall};
pub(crate) use secrets::fresh_code;
pub use secrets::{Secrets, random_bytes, random_u64};

use matricle_store::{Store, house::House};

/// Everything a use case needs. Cheap to clone.
#[derive(Clone)]
pub struct Desk {
    /// The database.
    pub store: Store,
    /// The one clock.
    pub clock: Clock,
    /// Keys made from the house's secret.
    pub secrets: Arc<Secrets>,
    /// The card provider.
    pub provider: Arc<dyn outside::provider::CardProvider>,
    /// The mail server.
    pub mailer: Arc<dyn outside::mailer::Mailer>,
    /// The house's mailbox.
    pub letterbox: Arc<dyn outside::letterbox::Letterbox>,
    /// The meeting-room service.
    pub rooms: Arc<dyn outside::rooms::Rooms>,
    /// The gateway for text messages.
    pub texts: Arc<dyn outside::texts::Texts>,
    /// The team's chat.
    pub chat: Arc<dyn outside::chat::Chat>,
    /// So many messages are handed over at once.
    pub mail_at_once: usize,
    /// Where the pages are reached from outside, without a slash at the end.
    pub public_url: Arc<str>,
    /// Wakes what runs by itself when something is due at once.
    pub wake: Arc<rounds::Wake>,
    /// How what runs by itself fares.
    pub health: Arc<rounds::Health>,
    /// Sessions looked up before.
    pub sessions: Arc<people::signin::Sessions>,
    /// What was asked for lately.
    pub often: Arc<people::often::Often>,
    /// How backups are made.
    pub backups: Arc<house::backup::Backups>,
    /// A word of one's own for the messages of an act; see [`Desk::saying`].
    pub word: Arc<str>,
    /// Names of dates, made ready to be looked through.
    pub names: Arc<door::finding::Names>,
    /// How far papers are that are being drawn.
    pub drawing: Arc<door::papers::Drawing>,
    /// Who looks at which submission now.
    pub looking: Arc<review::looking::Looking>,
}

impl Desk {
    /// The house.
    ///
    /// # Errors
    /// [`DeskError::NotSetUp`], or the store fails.
    pub async fn house(&self) -> Result<House, DeskError> {
        self.store.read(house_of).await
    }

    /// The secret address of a booking.
    #[must_use]
    pub fn booking_url(&self, reference: matricle_core::words::codes::Reference) -> String {
        format!(
            "{}/booking/{}/{}",
            self.public_url,
            reference.as_str(),
            self.secrets.booking_key(reference)
        )
    }

    /// The address of one ticket, for whoever it was passed to.
    #[must_use]
    pub fn ticket_url(&self, code: matricle_core::words::codes::TicketCode) -> String {
        format!("{}/ticket/{}/{}", self.public_url, code.as_str(), self.secrets.ticket_key(code))
    }

    /// An attendee's own link to a date online; `replaced` is how often it was replaced.
    #[must_use]
    pub fn foyer_url(
        &self,
        code: matricle_core::words::codes::TicketCode,
        replaced: u32,
    ) -> String {
        let key = self.secrets.foyer_key(code, replaced);
        format!("{}/foyer/{}/{key}", self.public_url, code.as_str())
    }

    /// The secret address of a submission, for whoever reads the mail of this address.
    #[must_use]
    pub fn submission_url(&self, id: matricle_core::SubmissionId, email: &str) -> String {
        let key = self.secrets.submission_key(id, email);
        format!("{}/submissions/{id}/{key}", self.public_url)
    }

    /// The link of an invitation, by the message that it is made of.
    #[must_use]
    pub fn invitation_url(&self, message: matricle_core::MessageId) -> String {
        let key = self.secrets.invitation_key(message.0);
        format!("{}/invited/{message}/{key}", self.public_url)
    }

    /// Where an address ends announcements, in one click.
    #[must_use]
    pub fn unsubscribe_url(&self, address: &str) -> String {
        let typed: String = address
            .bytes()
            .map(|b| match b {
                b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'.' | b'-' | b'_' => {
                    char::from(b).to_string()
                }
                b => format!("%{b:02X}"),
            })
            .collect();
        format!("{}/unsubscribe/{typed}/{}", self.public_url, self.secrets.unsubscribe_key(address))
    }

    /// The part of the public URL after the scheme, without a port: for identifiers in mails and calendars.
    #[must_use]
    pub fn host(&self) -> &str {
        let rest = self.public_url.split_once("://").map_or(&*self.public_url, |(_, rest)| rest);
        rest.split(['/', ':']).next().unwrap_or(rest)
    }
}

/// The house, as it is set up.
///
/// # Errors
/// It is not set up.
pub fn house_of(conn: &matricle_store::Connection) -> Result<House, DeskError> {
    matricle_store::house::get(conn)?.ok_or(DeskError::NotSetUp)
}

/// Inner parts of the use cases, which work in somebody else's transaction: what a made-up house is
/// made with.
pub mod within {
    pub use crate::bookings::moves::{With, make};
    pub use crate::bookings::reference::fresh_reference;
    pub use crate::messages::sending::words_now;
}

/// Does work that takes a processor, or the disk, for a while away from the async threads.
pub(crate) async fn off_thread<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, DeskError> + Send + 'static,
) -> Result<T, DeskError> {
    tokio::task::spawn_blocking(work)
        .await
        .map_err(|e| DeskError::Internal(format!("a worker failed: {e}")))?
}
