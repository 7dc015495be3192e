//! Handing text messages to a gateway.

use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use serde_json::json;

use crate::outside::mailer::{SendError, Sending};

/// Somebody who takes text messages.
pub trait Texts: Send + Sync {
    /// Hands a message to a number (ITU-T E.164) over. `key` is the same however often it is
    /// tried, so that a gateway sends it once.
    fn send(&self, to: &str, words: &str, key: &str) -> Sending<'_>;
    /// Whether there is a gateway at all.
    fn is_there(&self) -> bool {
        true
    }
}

/// How long a gateway may take to answer.
const PATIENCE: Duration = Duration::from_secs(15);

/// A client for a service that is asked now and then.
pub(crate) fn client(patience: Duration) -> reqwest::Client {
    // Set once for the process; a second time is refused and changes nothing.
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::builder()
        .timeout(patience)
        .redirect(reqwest::redirect::Policy::none())
        .build()
        .unwrap_or_default()
}

/// A gateway reached by HTTP: `POST {url}/messages` with `to`, `text` and an idempotency key, and
/// a bearer token.
pub struct Gateway {
    client: reqwest::Client,
    url: String,
    token: String,
}

impl Gateway {
    /// A gateway at an URL.
    #[must_use]
    pub fn new(url: &str, token: &str) -> Self {
        let client = client(PATIENCE);
        Self { client, url: url.trim_end_matches('/').into(), token: token.into() }
    }
}

/// What an answer of the other side means: taken, refused for good (4xx but 408 and 429), or not
/// now.
pub(crate) async fn answer(
    asked: Result<reqwest::Response, reqwest::Error>,
) -> Result<String, SendError> {
    match asked {
        Ok(said) => {
            let status = said.status();
            let text: String = said.text().await.unwrap_or_default().chars().take(200).collect();
            if status.is_success() {
                return Ok(if text.is_empty() { status.to_string() } else { text });
            }
            let for_good = status.is_client_error() && !matches!(status.as_u16(), 408 | 425 | 429);
            Err(SendError { for_good, reason: format!("{status}: {text}") })
        }
        Err(error) => Err(SendError { for_good: false, reason: error.without_url().to_string() }),
    }
}

impl Texts for Gateway {
    fn send(&self, to: &str, words: &str, key: &str) -> Sending<'_> {
        let asked = self
            .client
            .post(format!("{}/messages", self.url))
            .bearer_auth(&self.token)
            .header("Idempotency-Key", key)
            .json(&json!({ "to": to, "text": words }))
            .send();
        Box::pin(async move { answer(asked.await).await })
    }
}

/// There is no gateway: what would go by it fails and says so.
#[derive(Debug, Clone, Copy, Default)]
pub struct NoTexts;

impl Texts for NoTexts {
    fn send(&self, _to: &str, _words: &str, _key: &str) -> Sending<'_> {
        Box::pin(async {
            Err(SendError {
                for_good: true,
                reason: "no gateway for text messages is configured".into(),
            })
        })
    }

    fn is_there(&self) -> bool {
        false
    }
}

/// Keeps text messages instead of sending them: for tests.
#[derive(Debug, Default)]
pub struct KeptTexts {
    kept: Mutex<Vec<(String, String)>>,
}

impl KeptTexts {
    /// Number and words of each, in order.
    #[must_use]
    pub fn taken(&self) -> Vec<(String, String)> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl Texts for KeptTexts {
    fn send(&self, to: &str, words: &str, _key: &str) -> Sending<'_> {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.push((to.to_owned(), words.to_owned()));
        Box::pin(async { Ok("taken".into()) })
    }
}
