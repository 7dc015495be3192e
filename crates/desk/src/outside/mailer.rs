//! Handing mails to a mail server.

use std::future::Future;
use std::pin::Pin;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use lettre::transport::smtp::authentication::Credentials;
use lettre::{AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};

/// Why a mail was not taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{reason}")]
pub struct SendError {
    /// The mail server will never take it (a 5yz reply, RFC 5321 §4.2.1).
    pub for_good: bool,
    /// What it said.
    pub reason: String,
}

impl SendError {
    /// Whether it is the address that is refused, and not this one mail (RFC 3463 §3.2, RFC 5321
    /// §4.2.3).
    #[must_use]
    pub fn is_of_address(&self) -> bool {
        let said = |code: &str| self.reason.contains(code);
        self.for_good && ["5.1.", "5.2.1", "(550)", "(551)", "(553)", "550 "].into_iter().any(said)
    }
}

/// Something handed over, behind a pointer: what the other side answered.
pub type Sending<'a> = Pin<Box<dyn Future<Output = Result<String, SendError>> + Send + 'a>>;
/// Somebody asked whether they are there.
pub type Checking<'a> = Pin<Box<dyn Future<Output = Result<(), SendError>> + Send + 'a>>;

/// Somebody who takes mails.
pub trait Mailer: Send + Sync {
    /// Hands a mail over; success means the server is responsible for it.
    fn send(&self, message: Message) -> Sending<'_>;
    /// Asks whether mails would be taken, without sending any: the server answers, and knows us.
    fn check(&self) -> Checking<'_>;
}

/// How long a whole conversation with the mail server may take: each step of it has a
/// time-out of its own, which a server that answers a little now and then outlasts.
const CONVERSATION: Duration = Duration::from_secs(30);

/// A mail server reached by SMTP.
pub struct SmtpMailer {
    transport: AsyncSmtpTransport<Tokio1Executor>,
}

impl SmtpMailer {
    /// A server at an URL such as `smtp://127.0.0.1:8423` or
    /// `smtps://mail.example:465`, with a name and password when it asks for them.
    ///
    /// # Errors
    /// Not an URL of a mail server.
    pub fn new(url: &str, credentials: Option<(String, String)>) -> Result<Self, SendError> {
        let wrong = |e: lettre::transport::smtp::Error| SendError {
            for_good: true,
            reason: format!("not the URL of a mail server: {e}"),
        };
        let mut builder = AsyncSmtpTransport::<Tokio1Executor>::from_url(url)
            .map_err(wrong)?
            .timeout(Some(Duration::from_secs(15)));
        if let Some((name, password)) = credentials {
            builder = builder.credentials(Credentials::new(name, password));
        }
        Ok(Self { transport: builder.build() })
    }
}

impl Mailer for SmtpMailer {
    fn send(&self, message: Message) -> Sending<'_> {
        Box::pin(async move {
            let conversation = self.transport.send(message);
            match tokio::time::timeout(CONVERSATION, conversation).await {
                Ok(said) => said
                    .map(|said| said.message().collect::<Vec<_>>().join(" "))
                    .map_err(|e| SendError { for_good: e.is_permanent(), reason: e.to_string() }),
                Err(_) => Err(SendError {
                    for_good: false,
                    reason: format!(
                        "the mail server did not answer within {} seconds",
                        CONVERSATION.as_secs()
                    ),
                }),
            }
        })
    }

    fn check(&self) -> Checking<'_> {
        Box::pin(async move {
            let asked = tokio::time::timeout(CONVERSATION, self.transport.test_connection()).await;
            let reason = match asked {
                Ok(Ok(true)) => return Ok(()),
                Ok(Ok(false)) => "the mail server ended the conversation".to_owned(),
                Ok(Err(e)) => e.to_string(),
                Err(_) => {
                    format!(
                        "the mail server did not answer within {} seconds",
                        CONVERSATION.as_secs()
                    )
                }
            };
            Err(SendError { for_good: false, reason })
        })
    }
}

/// Keeps mails instead of sending them: for tests.
#[derive(Debug, Default)]
pub struct Recorder {
    kept: Mutex<Vec<Vec<u8>>>,
    refusal: Mutex<Option<SendError>>,
}

impl Recorder {
    /// The mails taken so far.
    #[must_use]
    pub fn taken(&self) -> Vec<Vec<u8>> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// From now on refuses every mail, or takes them again.
    pub fn refuse(&self, refusal: Option<SendError>) {
        *self.refusal.lock().unwrap_or_else(PoisonError::into_inner) = refusal;
    }
}

impl Mailer for Recorder {
    fn send(&self, message: Message) -> Sending<'_> {
        let refusal = self.refusal.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let outcome = match refusal {
            Some(refusal) => Err(refusal),
            None => {
                self.kept.lock().unwrap_or_else(PoisonError::into_inner).push(message.formatted());
                Ok("taken".to_owned())
            }
        };
        Box::pin(async move { outcome })
    }

    fn check(&self) -> Checking<'_> {
        let refusal = self.refusal.lock().unwrap_or_else(PoisonError::into_inner).clone();
        Box::pin(async move { refusal.map_or(Ok(()), Err) })
    }
}
