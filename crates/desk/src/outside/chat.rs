//! Posting lines into the team's chat, by a webhook.

use std::time::Duration;

use serde_json::json;

use crate::outside::mailer::{SendError, Sending};
use crate::outside::texts::{answer, client};

/// A room where lines are posted.
pub trait Chat: Send + Sync {
    /// Posts some lines.
    fn post(&self, words: &str) -> Sending<'_>;
    /// Whether there is a room at all.
    fn is_there(&self) -> bool {
        true
    }
}

/// A room reached by an incoming webhook: `POST {url}` with `text`.
pub struct Webhook {
    client: reqwest::Client,
    url: String,
}

impl Webhook {
    /// A webhook at an URL, which is its own secret.
    #[must_use]
    pub fn new(url: &str) -> Self {
        Self { client: client(Duration::from_secs(15)), url: url.into() }
    }
}

impl Chat for Webhook {
    fn post(&self, words: &str) -> Sending<'_> {
        let asked = self.client.post(&self.url).json(&json!({ "text": words })).send();
        Box::pin(async move { answer(asked.await).await })
    }
}

/// There is no room: what would go there fails and says so.
#[derive(Debug, Clone, Copy, Default)]
pub struct NoChat;

impl Chat for NoChat {
    fn post(&self, _words: &str) -> Sending<'_> {
        Box::pin(async {
            Err(SendError { for_good: true, reason: "no team chat is configured".into() })
        })
    }

    fn is_there(&self) -> bool {
        false
    }
}
