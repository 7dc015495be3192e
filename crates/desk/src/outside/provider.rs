//! The card provider: its HTTP interface, and its webhooks.

use std::future::Future;
use std::pin::Pin;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use sha2::Sha256;

/// A future behind a pointer, so that the provider can be a trait object.
pub type Answer<'a, T> = Pin<Box<dyn Future<Output = Result<T, ProviderError>> + Send + 'a>>;

/// A payment to be made at the provider.
#[derive(Debug, Clone, Serialize)]
pub struct NewPayment {
    /// Our id, also the idempotency key: asking twice makes one payment.
    pub id: String,
    /// Minor units.
    pub amount: i64,
    /// ISO 4217 letters.
    pub currency: String,
    /// What the payer reads.
    pub description: String,
    /// Where the payer comes back to.
    pub return_url: String,
    /// Where webhooks go.
    pub webhook_url: String,
}

/// Where a payment stands at the provider.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Status {
    /// The payer has not decided.
    Waiting,
    /// Paid.
    Paid,
    /// Declined.
    Declined,
    /// Called back by us.
    Withdrawn,
}

/// A payment as the provider tells it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ProviderPayment {
    /// The provider's id.
    pub id: String,
    /// Our id.
    pub reference: String,
    /// Where it stands.
    pub status: Status,
    /// Minor units.
    pub amount: i64,
    /// ISO 4217 letters.
    pub currency: String,
    /// Where the payer pays.
    pub pay_url: String,
    /// Minor units given back so far.
    #[serde(default)]
    pub refunded: i64,
    /// Minor units the provider keeps of it.
    #[serde(default)]
    pub fee: i64,
    /// Whether the payer's bank takes the money back.
    #[serde(default)]
    pub dispute: Dispute,
}

matricle_core::worded! {
    /// Whether the payer's bank takes the money back.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
    #[serde(rename_all = "snake_case")]
    pub enum Dispute {
        /// Nobody disputes it.
        #[default]
        None = "",
        /// The bank has asked; the money is kept back until it decides.
        Open = "open",
        /// The money stays.
        Won = "won",
        /// The bank has taken the money back.
        Lost = "lost",
    }
}

/// Money that the provider paid out to the house's bank.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Payout {
    /// The provider's id.
    pub id: String,
    /// Minor units that reached the bank.
    pub amount: i64,
    /// Minor units the provider kept of what was paid.
    pub fees: i64,
}

/// Why the provider did not answer as hoped.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ProviderError {
    /// No answer: try again later.
    #[error("the card provider does not answer: {0}")]
    Away(String),
    /// The provider knows no such payment.
    #[error("the card provider knows no such payment")]
    Unknown,
    /// The provider refused.
    #[error("the card provider refused with status {status}")]
    Refused {
        /// Its HTTP status.
        status: u16,
    },
    /// The house has no card provider.
    #[error("no card provider is configured")]
    None,
}

/// What the program asks of a card provider.
pub trait CardProvider: Send + Sync {
    /// Whether the house has one: without it nothing is paid by card.
    fn is_there(&self) -> bool {
        true
    }
    /// Makes a payment, or gives the one made before under the same id.
    fn create(&self, payment: NewPayment) -> Answer<'_, ProviderPayment>;
    /// Asks how a payment stands.
    fn get<'a>(&'a self, provider_id: &'a str) -> Answer<'a, ProviderPayment>;
    /// Calls a payment back; one that is settled stays as it is, and is told.
    fn withdraw<'a>(&'a self, provider_id: &'a str) -> Answer<'a, ProviderPayment>;
    /// Gives a part of a payment back; the same `refund_id` gives it once.
    fn refund<'a>(
        &'a self,
        provider_id: &'a str,
        refund_id: &'a str,
        minor: i64,
    ) -> Answer<'a, ProviderPayment>;
    /// All payments the provider knows of.
    fn list(&self) -> Answer<'_, Vec<ProviderPayment>>;
    /// All payouts the provider has made.
    fn payouts(&self) -> Answer<'_, Vec<Payout>>;
    /// The secret that signs webhooks.
    fn webhook_secret(&self) -> &[u8];
}

/// A provider reached over HTTP.
pub struct HttpProvider {
    client: reqwest::Client,
    url: String,
    key: String,
    webhook_secret: Vec<u8>,
}

impl HttpProvider {
    /// A provider at `url`, with the key it gave us and the secret it signs webhooks with.
    ///
    /// # Errors
    /// TLS cannot be set up.
    pub fn new(url: &str, key: &str, webhook_secret: Vec<u8>) -> Result<Self, ProviderError> {
        // Set once for the process; a second time is refused and changes nothing.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let client = reqwest::Client::builder()
            .timeout(Duration::from_secs(8))
            .connect_timeout(Duration::from_secs(3))
            .redirect(reqwest::redirect::Policy::none())
            .build()
            .map_err(|e| ProviderError::Away(e.without_url().to_string()))?;
        Ok(Self { client, url: url.trim_end_matches('/').into(), key: key.into(), webhook_secret })
    }

    async fn ask<T: serde::de::DeserializeOwned>(
        &self,
        request: reqwest::RequestBuilder,
    ) -> Result<T, ProviderError> {
        let away = |e: reqwest::Error| ProviderError::Away(e.without_url().to_string());
        let response = request.bearer_auth(&self.key).send().await.map_err(away)?;
        match response.status().as_u16() {
            200..=299 => response.json().await.map_err(away),
            404 => Err(ProviderError::Unknown),
            408 | 425 | 429 | 500..=599 => {
                Err(ProviderError::Away(format!("status {}", response.status().as_u16())))
            }
            status => Err(ProviderError::Refused { status }),
        }
    }
}

impl CardProvider for HttpProvider {
    fn create(&self, payment: NewPayment) -> Answer<'_, ProviderPayment> {
        Box::pin(async move {
            let request = self
                .client
                .post(format!("{}/v1/payments", self.url))
                .header("idempotency-key", &payment.id)
                .json(&payment);
            self.ask(request).await
        })
    }

    fn get<'a>(&'a self, provider_id: &'a str) -> Answer<'a, ProviderPayment> {
        Box::pin(self.ask(self.client.get(format!("{}/v1/payments/{provider_id}", self.url))))
    }

    fn withdraw<'a>(&'a self, provider_id: &'a str) -> Answer<'a, ProviderPayment> {
        Box::pin(
            self.ask(self.client.post(format!("{}/v1/payments/{provider_id}/withdraw", self.url))),
        )
    }

    fn refund<'a>(
        &'a self,
        provider_id: &'a str,
        refund_id: &'a str,
        minor: i64,
    ) -> Answer<'a, ProviderPayment> {
        let request = self
            .client
            .post(format!("{}/v1/payments/{provider_id}/refunds", self.url))
            .header("idempotency-key", refund_id)
            .json(&serde_json::json!({ "id": refund_id, "amount": minor }));
        Box::pin(self.ask(request))
    }

    fn list(&self) -> Answer<'_, Vec<ProviderPayment>> {
        Box::pin(self.ask(self.client.get(format!("{}/v1/payments", self.url))))
    }

    fn payouts(&self) -> Answer<'_, Vec<Payout>> {
        Box::pin(self.ask(self.client.get(format!("{}/v1/payouts", self.url))))
    }

    fn webhook_secret(&self) -> &[u8] {
        &self.webhook_secret
    }
}

/// No card provider: a house may take transfers, stamps and money at the door alone.
#[derive(Debug, Clone, Copy)]
pub struct NoProvider;

impl CardProvider for NoProvider {
    fn is_there(&self) -> bool {
        false
    }

    fn create(&self, _: NewPayment) -> Answer<'_, ProviderPayment> {
        Box::pin(async { Err(ProviderError::None) })
    }

    fn get<'a>(&'a self, _: &'a str) -> Answer<'a, ProviderPayment> {
        Box::pin(async { Err(ProviderError::None) })
    }

    fn withdraw<'a>(&'a self, _: &'a str) -> Answer<'a, ProviderPayment> {
        Box::pin(async { Err(ProviderError::None) })
    }

    fn refund<'a>(&'a self, _: &'a str, _: &'a str, _: i64) -> Answer<'a, ProviderPayment> {
        Box::pin(async { Err(ProviderError::None) })
    }

    fn list(&self) -> Answer<'_, Vec<ProviderPayment>> {
        Box::pin(async { Err(ProviderError::None) })
    }

    fn payouts(&self) -> Answer<'_, Vec<Payout>> {
        Box::pin(async { Err(ProviderError::None) })
    }

    fn webhook_secret(&self) -> &[u8] {
        &[]
    }
}

/// A provider that lives in memory and does as it is told: for tests.
#[derive(Debug, Default)]
pub struct Rehearsal {
    payments: Mutex<Vec<ProviderPayment>>,
    refunds: Mutex<Vec<String>>,
    away: AtomicBool,
}

/// The secret that [`Rehearsal`] signs webhooks with.
pub const REHEARSAL_SECRET: &[u8] = b"rehearsal-rehearsal";

impl Rehearsal {
    /// From now on does not answer, or answers again.
    pub fn go_away(&self, away: bool) {
        self.away.store(away, Ordering::Relaxed);
    }

    /// The payments made so far.
    #[must_use]
    pub fn payments(&self) -> Vec<ProviderPayment> {
        self.payments.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// The payer decides about the last payment made.
    pub fn decide(&self, status: Status) {
        let mut payments = self.payments.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(last) = payments.last_mut().filter(|p| p.status == Status::Waiting) {
            last.status = status;
        }
    }

    /// The payer, who has a page open for each, decides about all payments that wait.
    pub fn decide_all(&self, status: Status) {
        let mut payments = self.payments.lock().unwrap_or_else(PoisonError::into_inner);
        for payment in payments.iter_mut().filter(|p| p.status == Status::Waiting) {
            payment.status = status;
        }
    }

    /// The payer's bank asks for the last payment made, or decides.
    pub fn dispute(&self, dispute: Dispute) {
        let mut payments = self.payments.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(last) = payments.last_mut() {
            last.dispute = dispute;
        }
    }

    /// Something happens at the provider that nobody tells us.
    pub fn change(&self, act: impl FnOnce(&mut Vec<ProviderPayment>)) {
        act(&mut self.payments.lock().unwrap_or_else(PoisonError::into_inner));
    }

    fn answer<T: Send + 'static>(
        &self,
        act: impl FnOnce(&mut Vec<ProviderPayment>) -> Option<T>,
    ) -> Answer<'_, T> {
        let answer = if self.away.load(Ordering::Relaxed) {
            Err(ProviderError::Away("gone for lunch".into()))
        } else {
            let mut payments = self.payments.lock().unwrap_or_else(PoisonError::into_inner);
            act(&mut payments).ok_or(ProviderError::Unknown)
        };
        Box::pin(async move { answer })
    }
}

impl CardProvider for Rehearsal {
    fn create(&self, new: NewPayment) -> Answer<'_, ProviderPayment> {
        self.answer(|payments| {
            if let Some(known) = payments.iter().find(|p| p.reference == new.id) {
                return Some(known.clone());
            }
            let id = format!("r{}", payments.len() + 1);
            let payment = ProviderPayment {
                pay_url: format!("https://till.example/pay/{id}"),
                id,
                reference: new.id,
                status: Status::Waiting,
                amount: new.amount,
                currency: new.currency,
                refunded: 0,
                fee: 0,
                dispute: Dispute::None,
            };
            payments.push(payment.clone());
            Some(payment)
        })
    }

    fn get<'a>(&'a self, provider_id: &'a str) -> Answer<'a, ProviderPayment> {
        self.answer(|payments| payments.iter().find(|p| p.id == provider_id).cloned())
    }

    fn withdraw<'a>(&'a self, provider_id: &'a str) -> Answer<'a, ProviderPayment> {
        self.answer(|payments| {
            let payment = payments.iter_mut().find(|p| p.id == provider_id)?;
            if payment.status == Status::Waiting {
                payment.status = Status::Withdrawn;
            }
            Some(payment.clone())
        })
    }

    fn refund<'a>(
        &'a self,
        provider_id: &'a str,
        refund_id: &'a str,
        minor: i64,
    ) -> Answer<'a, ProviderPayment> {
        let mut known = self.refunds.lock().unwrap_or_else(PoisonError::into_inner);
        let fresh = !self.away.load(Ordering::Relaxed) && !known.iter().any(|k| k == refund_id);
        if fresh {
            known.push(refund_id.to_owned());
        }
        drop(known);
        let fits = self.payments().iter().any(|p| {
            p.id == provider_id && p.status == Status::Paid && p.refunded + minor <= p.amount
        });
        if fresh && !fits {
            return Box::pin(async { Err(ProviderError::Refused { status: 422 }) });
        }
        self.answer(|payments| {
            let payment = payments.iter_mut().find(|p| p.id == provider_id)?;
            payment.refunded += if fresh { minor } else { 0 };
            Some(payment.clone())
        })
    }

    fn list(&self) -> Answer<'_, Vec<ProviderPayment>> {
        self.answer(|payments| Some(payments.clone()))
    }

    fn payouts(&self) -> Answer<'_, Vec<Payout>> {
        self.answer(|_| Some(Vec::new()))
    }

    fn webhook_secret(&self) -> &[u8] {
        REHEARSAL_SECRET
    }
}

/// Signatures looked at: a sender that changes its secret sends two.
const MOST_SIGNATURES: usize = 5;
/// How far a webhook's time may be off.
const TOLERANCE: i64 = 5 * 60;

/// Whether a webhook is signed as the Standard Webhooks scheme asks: one of the
/// space-separated `v1,` signatures is the HMAC-SHA-256 of `id.timestamp.body`,
/// and the time is within five minutes.
#[must_use]
pub fn is_signed(
    secret: &[u8],
    id: &str,
    timestamp: &str,
    signatures: &str,
    body: &[u8],
    now: Timestamp,
) -> bool {
    let fresh = timestamp
        .parse::<i64>()
        .is_ok_and(|then| now.as_second().abs_diff(then) <= TOLERANCE.unsigned_abs());
    if !fresh {
        return false;
    }
    let right = mac(secret, id, timestamp, body);
    signatures.split(' ').take(MOST_SIGNATURES).filter_map(|s| s.strip_prefix("v1,")).any(|given| {
        // Longer than an HMAC is none.
        given.len() <= 64
            && STANDARD.decode(given).is_ok_and(|bytes| right.clone().verify_slice(&bytes).is_ok())
    })
}

/// The `webhook-signature` of a call, as [`is_signed`] expects it.
#[must_use]
pub fn sign(secret: &[u8], id: &str, timestamp: &str, body: &[u8]) -> String {
    format!("v1,{}", STANDARD.encode(mac(secret, id, timestamp, body).finalize().into_bytes()))
}

fn mac(secret: &[u8], id: &str, timestamp: &str, body: &[u8]) -> Hmac<Sha256> {
    let mut mac = Hmac::<Sha256>::new_from_slice(secret).expect("HMAC takes any key");
    for part in [id.as_bytes(), b".", timestamp.as_bytes(), b".", body] {
        mac.update(part);
    }
    mac
}

/// Reads a webhook secret as the scheme writes it: `whsec_` and base64.
#[must_use]
pub fn parse_webhook_secret(text: &str) -> Option<Vec<u8>> {
    STANDARD.decode(text.strip_prefix("whsec_")?).ok().filter(|secret| secret.len() >= 16)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn only_a_fresh_and_rightly_signed_webhook_passes() {
        let secret = parse_webhook_secret("whsec_MDEyMzQ1Njc4OWFiY2RlZg==").unwrap();
        let body = br#"{"id":"p1"}"#;
        let good = sign(&secret, "msg_1", "1000", body);
        let at = |s| Timestamp::from_second(s).unwrap();
        let check = |id, time, sig: &str, body: &[u8], now| {
            is_signed(&secret, id, time, sig, body, at(now))
        };
        assert!(check("msg_1", "1000", &good, body, 1299));
        assert!(check("msg_1", "1000", &format!("v1,AAAA v1a,x {good}"), body, 701));
        let sixth = format!("{}{good}", "v1,AAAA ".repeat(5));
        assert!(!check("msg_1", "1000", &sixth, body, 1000), "five are looked at");
        assert!(!check("msg_1", "1000", &good, body, 1301), "too old");
        assert!(!check("msg_2", "1000", &good, body, 1000), "another id");
        assert!(!check("msg_1", "1001", &good, body, 1000), "another time");
        assert!(!check("msg_1", "1000", &good, b"{}", 1000), "another body");
        assert!(
            !check("msg_1", "1000", "", body, 1000) && !check("msg_1", "soon", &good, body, 1000)
        );
        assert_eq!(parse_webhook_secret("0123"), None);
    }

    proptest! {
        /// Whatever a stranger puts into the headers: no signature but the right one passes.
        #[test]
        fn nothing_but_the_secret_makes_a_signature(
            id in ".{0,40}",
            time in prop_oneof![Just("1000".to_owned()), ".{0,20}", any::<i64>().prop_map(|n| n.to_string())],
            signature in prop_oneof![".{0,200}", "(v1,[A-Za-z0-9+/=]{0,60} ?){0,9}"],
            body in prop::collection::vec(any::<u8>(), 0..200),
        ) {
            let at = Timestamp::from_second(1000).unwrap();
            prop_assert!(!is_signed(b"0123456789abcdef", &id, &time, &signature, &body, at));
            let good = sign(b"0123456789abcdef", &id, "1000", &body);
            let passes = is_signed(b"0123456789abcdef", &id, "1000", &format!("{good} {signature}"), &body, at);
            prop_assert!(passes);
        }
    }
}
