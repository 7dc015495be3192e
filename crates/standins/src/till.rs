//! The till: a card provider with a JSON interface, a page where the payer decides,
//! and webhooks signed by the Standard Webhooks scheme, which can be made late,
//! doubled or lost.
//!
//! | call | meaning |
//! |---|---|
//! | `POST /v1/payments` | make a payment; the same `Idempotency-Key` makes it once |
//! | `GET /v1/payments/{id}` | how it stands |
//! | `GET /v1/payments` | all payments |
//! | `POST /v1/payments/{id}/withdraw` | call it back, unless it is settled |
//! | `POST /v1/payments/{id}/refunds` | give a part back; the same `Idempotency-Key` gives it once |
//! | `GET /v1/payouts` | what was paid out to the house's bank, less fees |
//! | `GET /pay/{id}` | the page where the payer decides |

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use askama::Template;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use axum::{Form, Json, Router};
use base64::Engine;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use hmac::{Hmac, KeyInit, Mac};
use serde::{Deserialize, Serialize};
use sha2::Sha256;

use crate::pages::{machine_time, page};

/// The number that the payer's bank sends in this simulation.
pub const BANK_NUMBER: &str = "135790";

/// A payment as the interface tells it.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct Payment {
    id: String,
    reference: String,
    status: String,
    amount: i64,
    currency: String,
    pay_url: String,
    description: String,
    return_url: String,
    webhook_url: String,
    #[serde(default)]
    refunded: i64,
    #[serde(default)]
    refunds: Vec<String>,
    #[serde(default)]
    fee: i64,
    /// `none`, `open`, `won` or `lost`.
    #[serde(default = "undisputed")]
    dispute: String,
    /// It has been paid out.
    #[serde(default)]
    paid_out: bool,
}

fn undisputed() -> String {
    "none".into()
}

/// What the till keeps of a payment: 25 cents and 1.4 percent.
fn fee_of(amount: i64) -> i64 {
    25 + (amount * 14 + 500) / 1000
}

/// What was paid out to the house's bank.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct Payout {
    id: String,
    amount: i64,
    fees: i64,
}

#[derive(Debug, Deserialize)]
struct NewRefund {
    id: String,
    amount: i64,
}

#[derive(Debug, Deserialize)]
struct NewPayment {
    id: String,
    amount: i64,
    currency: String,
    description: String,
    return_url: String,
    webhook_url: String,
}

/// How webhooks go out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Delivery {
    /// At once, and again until taken.
    OnTime,
    /// Fifteen seconds late.
    Late,
    /// Two times.
    Twice,
    /// Never.
    Lost,
    /// One of the others, by chance.
    ByChance,
}

#[derive(Debug, Serialize, Deserialize)]
struct Books {
    payments: Vec<Payment>,
    delivery: Delivery,
    #[serde(default)]
    payouts: Vec<Payout>,
    /// Where chance stands; set it to get the same run again.
    #[serde(default)]
    seed: u64,
}

impl Books {
    /// The next number of a small generator (xorshift64*): chance that can be repeated.
    fn chance(&mut self) -> u64 {
        self.seed = self.seed.max(1);
        self.seed ^= self.seed >> 12;
        self.seed ^= self.seed << 25;
        self.seed ^= self.seed >> 27;
        self.seed.wrapping_mul(0x2545_F491_4F6C_DD1D) >> 32
    }

    /// How this webhook goes out.
    fn delivery_now(&mut self) -> Delivery {
        match self.delivery {
            Delivery::ByChance => match self.chance() % 4 {
                0 => Delivery::OnTime,
                1 => Delivery::Late,
                2 => Delivery::Twice,
                _ => Delivery::Lost,
            },
            other => other,
        }
    }
}

/// The till. Cheap to clone.
#[derive(Debug, Clone)]
pub struct Till {
    inner: Arc<Inner>,
}

#[derive(Debug)]
struct Inner {
    books: Mutex<Books>,
    file: Option<PathBuf>,
    url: String,
    key: String,
    secret: Vec<u8>,
    client: reqwest::Client,
}

fn random<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).expect("the operating system gives random bytes");
    bytes
}

impl Till {
    /// A till reached at `url`, for the program that has `key`; it signs webhooks with
    /// `secret`. With a file, payments survive a restart.
    #[must_use]
    pub fn new(url: &str, key: &str, secret: Vec<u8>, file: Option<PathBuf>) -> Self {
        let books = file
            .as_ref()
            .and_then(|file| std::fs::read(file).ok())
            .and_then(|json| serde_json::from_slice(&json).ok())
            .unwrap_or(Books {
                payments: Vec::new(),
                delivery: Delivery::OnTime,
                payouts: Vec::new(),
                seed: 1,
            });
        // Set once for the process; a second time is refused and changes nothing.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let client =
            reqwest::Client::builder().timeout(Duration::from_secs(5)).build().unwrap_or_default();
        let inner = Inner {
            books: Mutex::new(books),
            file,
            url: url.trim_end_matches('/').into(),
            key: key.into(),
            secret,
            client,
        };
        Self { inner: Arc::new(inner) }
    }

    /// The interface and the pages.
    pub fn router(self) -> Router {
        Router::new()
            .route("/", get(overview))
            .route("/delivery", post(set_delivery))
            .route("/v1/payments", get(list).post(create))
            .route("/v1/payments/{id}/refunds", post(refund))
            .route("/v1/payouts", get(payouts))
            .route("/payouts", post(pay_out))
            .route("/disputes/{id}", post(dispute))
            .route("/v1/payments/{id}", get(tell))
            .route("/v1/payments/{id}/withdraw", post(withdraw))
            .route("/pay/{id}", get(pay).post(decide))
            .with_state(self)
    }

    fn books<T>(&self, change: impl FnOnce(&mut Books) -> T) -> T {
        let mut books = self.inner.books.lock().unwrap_or_else(PoisonError::into_inner);
        let answer = change(&mut books);
        if let Some(file) = &self.inner.file
            && let Ok(json) = serde_json::to_vec(&*books)
        {
            let _ = std::fs::write(file, json);
        }
        answer
    }

    fn find(&self, id: &str) -> Option<Payment> {
        let books = self.inner.books.lock().unwrap_or_else(PoisonError::into_inner);
        books.payments.iter().find(|p| p.id == id).cloned()
    }

    /// Settles a waiting payment and tells the program; a settled one stays.
    fn settle(&self, id: &str, status: &str) -> Option<Payment> {
        let (payment, changed, delivery) = self.books(|books| {
            let delivery = books.delivery_now();
            let payment = books.payments.iter_mut().find(|p| p.id == id)?;
            let changed = payment.status == "waiting";
            if changed {
                payment.status = status.into();
                payment.fee = if status == "paid" { fee_of(payment.amount) } else { 0 };
            }
            Some((payment.clone(), changed, delivery))
        })?;
        if changed && status != "withdrawn" {
            tokio::spawn(self.clone().tell_program(payment.clone(), delivery));
        }
        Some(payment)
    }

    async fn tell_program(self, payment: Payment, delivery: Delivery) {
        let id = format!("msg_{}", URL_SAFE_NO_PAD.encode(random::<12>()));
        let times = match delivery {
            Delivery::Lost => return,
            Delivery::Late => {
                tokio::time::sleep(Duration::from_secs(15)).await;
                1
            }
            Delivery::Twice => 2,
            Delivery::OnTime | Delivery::ByChance => 1,
        };
        let Ok(body) = serde_json::to_vec(&payment) else { return };
        for _ in 0..times {
            for wait in [0, 1, 3, 9, 27] {
                tokio::time::sleep(Duration::from_secs(wait)).await;
                let timestamp = machine_time().as_second().to_string();
                let call = self
                    .inner
                    .client
                    .post(&payment.webhook_url)
                    .header("content-type", "application/json")
                    .header("webhook-id", &id)
                    .header("webhook-timestamp", &timestamp)
                    .header("webhook-signature", sign(&self.inner.secret, &id, &timestamp, &body))
                    .body(body.clone());
                if call.send().await.is_ok_and(|r| r.status().is_success()) {
                    break;
                }
            }
        }
    }

    fn is_ours(&self, headers: &HeaderMap) -> bool {
        headers
            .get("authorization")
            .and_then(|v| v.to_str().ok())
            .and_then(|v| v.strip_prefix("Bearer "))
            .is_some_and(|key| key == self.inner.key)
    }
}

/// `v1,` and the HMAC-SHA-256 of `id.timestamp.body`, as Standard Webhooks asks.
fn sign(secret: &[u8], id: &str, timestamp: &str, body: &[u8]) -> String {
    let mut mac = Hmac::<Sha256>::new_from_slice(secret).expect("HMAC takes any key");
    for part in [id.as_bytes(), b".", timestamp.as_bytes(), b".", body] {
        mac.update(part);
    }
    format!("v1,{}", STANDARD.encode(mac.finalize().into_bytes()))
}

async fn create(
    State(till): State<Till>,
    headers: HeaderMap,
    Json(new): Json<NewPayment>,
) -> Response {
    if !till.is_ours(&headers) {
        return StatusCode::UNAUTHORIZED.into_response();
    }
    let once = headers.get("idempotency-key").and_then(|v| v.to_str().ok());
    if once != Some(new.id.as_str()) || new.amount <= 0 || new.currency.len() != 3 {
        return StatusCode::UNPROCESSABLE_ENTITY.into_response();
    }
    let url = till.inner.url.clone();
    let payment = till.books(|books| {
        if let Some(known) = books.payments.iter().find(|p| p.reference == new.id) {
            return known.clone();
        }
        let id = URL_SAFE_NO_PAD.encode(random::<12>());
        let payment = Payment {
            pay_url: format!("{url}/pay/{id}"),
            id,
            reference: new.id,
            status: "waiting".into(),
            amount: new.amount,
            currency: new.currency,
            description: new.description,
            return_url: new.return_url,
            webhook_url: new.webhook_url,
            refunded: 0,
            refunds: Vec::new(),
            fee: 0,
            dispute: undisputed(),
            paid_out: false,
        };
        books.payments.push(payment.clone());
        payment
    });
    (StatusCode::CREATED, Json(payment)).into_response()
}

fn found(payment: Option<Payment>) -> Response {
    payment.map_or(StatusCode::NOT_FOUND.into_response(), |p| Json(p).into_response())
}

async fn tell(State(till): State<Till>, headers: HeaderMap, Path(id): Path<String>) -> Response {
    if till.is_ours(&headers) {
        found(till.find(&id))
    } else {
        StatusCode::UNAUTHORIZED.into_response()
    }
}

async fn list(State(till): State<Till>, headers: HeaderMap) -> Response {
    if till.is_ours(&headers) {
        Json(till.books(|b| b.payments.clone())).into_response()
    } else {
        StatusCode::UNAUTHORIZED.into_response()
    }
}

async fn payouts(State(till): State<Till>, headers: HeaderMap) -> Response {
    if till.is_ours(&headers) {
        Json(till.books(|b| b.payouts.clone())).into_response()
    } else {
        StatusCode::UNAUTHORIZED.into_response()
    }
}

async fn refund(
    State(till): State<Till>,
    headers: HeaderMap,
    Path(id): Path<String>,
    Json(new): Json<NewRefund>,
) -> Response {
    if !till.is_ours(&headers) {
        return StatusCode::UNAUTHORIZED.into_response();
    }
    let once = headers.get("idempotency-key").and_then(|v| v.to_str().ok());
    if once != Some(new.id.as_str()) || new.amount <= 0 {
        return StatusCode::UNPROCESSABLE_ENTITY.into_response();
    }
    let answer = till.books(|books| {
        let payment = books.payments.iter_mut().find(|p| p.id == id)?;
        if !payment.refunds.contains(&new.id) {
            let left = payment.amount - payment.refunded;
            if payment.status != "paid" || payment.dispute == "lost" || new.amount > left {
                return Some(None);
            }
            payment.refunds.push(new.id.clone());
            payment.refunded += new.amount;
        }
        Some(Some(payment.clone()))
    });
    match answer {
        Some(Some(payment)) => Json(payment).into_response(),
        Some(None) => StatusCode::UNPROCESSABLE_ENTITY.into_response(),
        None => StatusCode::NOT_FOUND.into_response(),
    }
}

/// Pays out what has come in and not gone out: what was paid, less refunds and fees.
async fn pay_out(State(till): State<Till>) -> Redirect {
    till.books(|books| {
        let (mut amount, mut fees) = (0, 0);
        for payment in books.payments.iter_mut().filter(|p| {
            p.status == "paid" && !p.paid_out && matches!(p.dispute.as_str(), "none" | "won")
        }) {
            payment.paid_out = true;
            amount += payment.amount - payment.refunded - payment.fee;
            fees += payment.fee;
        }
        if amount > 0 {
            let id = URL_SAFE_NO_PAD.encode(random::<9>());
            books.payouts.push(Payout { id, amount, fees });
        }
    });
    Redirect::to("/")
}

/// The payer's bank asks for the money, or decides.
async fn dispute(
    State(till): State<Till>,
    Path(id): Path<String>,
    Form(form): Form<HashMap<String, String>>,
) -> Redirect {
    let word = form.get("dispute").map_or("", String::as_str);
    let told = till.books(|books| {
        let delivery = books.delivery_now();
        let payment = books.payments.iter_mut().find(|p| p.id == id && p.status == "paid")?;
        let goes =
            matches!((payment.dispute.as_str(), word), ("none", "open") | ("open", "won" | "lost"));
        goes.then(|| {
            payment.dispute = word.into();
            (payment.clone(), delivery)
        })
    });
    if let Some((payment, delivery)) = told {
        tokio::spawn(till.tell_program(payment, delivery));
    }
    Redirect::to("/")
}

async fn withdraw(
    State(till): State<Till>,
    headers: HeaderMap,
    Path(id): Path<String>,
) -> Response {
    if till.is_ours(&headers) {
        found(till.settle(&id, "withdrawn"))
    } else {
        StatusCode::UNAUTHORIZED.into_response()
    }
}

#[derive(Template)]
#[template(path = "till.html")]
struct Overview {
    payments: Vec<Payment>,
    payouts: Vec<Payout>,
    delivery: Delivery,
    seed: u64,
}

impl Overview {
    fn is(&self, delivery: &str) -> bool {
        matches!(
            (self.delivery, delivery),
            (Delivery::OnTime, "on_time")
                | (Delivery::Late, "late")
                | (Delivery::Twice, "twice")
                | (Delivery::Lost, "lost")
                | (Delivery::ByChance, "by_chance")
        )
    }
}

/// An amount in its currency, with two decimals: this stand-in knows no others.
fn amount(payment: &Payment) -> String {
    format!("{} {}.{:02}", payment.currency, payment.amount / 100, payment.amount % 100)
}

fn figures(minor: &i64) -> String {
    format!("{}.{:02}", minor / 100, minor % 100)
}

/// What was given back of a payment; empty for nothing.
fn given(payment: &Payment) -> String {
    if payment.refunded == 0 { String::new() } else { figures(&payment.refunded) }
}

async fn overview(State(till): State<Till>) -> Response {
    let (mut payments, payouts, delivery, seed) =
        till.books(|b| (b.payments.clone(), b.payouts.clone(), b.delivery, b.seed));
    payments.reverse();
    payments.truncate(200);
    page(&Overview { payments, payouts, delivery, seed })
}

#[derive(Debug, Deserialize)]
struct Switch {
    delivery: Delivery,
    #[serde(default)]
    seed: Option<u64>,
}

async fn set_delivery(State(till): State<Till>, Form(switch): Form<Switch>) -> Redirect {
    till.books(|books| {
        books.delivery = switch.delivery;
        books.seed = switch.seed.unwrap_or(books.seed);
    });
    Redirect::to("/")
}

#[derive(Template)]
#[template(path = "pay.html")]
struct PayPage {
    payment: Payment,
    amount: String,
    step: &'static str,
    number: &'static str,
    wrong: bool,
}

fn pay_page(payment: Payment, step: &'static str, wrong: bool) -> Response {
    let amount = amount(&payment);
    page(&PayPage { payment, amount, step, number: BANK_NUMBER, wrong })
}

async fn pay(State(till): State<Till>, Path(id): Path<String>) -> Response {
    match till.find(&id) {
        Some(payment) if payment.status == "waiting" => pay_page(payment, "choose", false),
        Some(payment) => Redirect::to(&payment.return_url).into_response(),
        None => StatusCode::NOT_FOUND.into_response(),
    }
}

async fn decide(
    State(till): State<Till>,
    Path(id): Path<String>,
    Form(form): Form<HashMap<String, String>>,
) -> Response {
    let Some(payment) = till.find(&id) else { return StatusCode::NOT_FOUND.into_response() };
    let field = |name: &str| form.get(name).map_or("", String::as_str);
    let status = match field("outcome") {
        "paid" => "paid",
        "declined" => "declined",
        "second" => return pay_page(payment, "second", false),
        "number" if field("number").trim() == BANK_NUMBER => "paid",
        "number" => return pay_page(payment, "second", true),
        "close" => return pay_page(payment, "closed", false),
        _ => return pay_page(payment, "choose", false),
    };
    match till.settle(&id, status) {
        Some(payment) => Redirect::to(&payment.return_url).into_response(),
        None => StatusCode::NOT_FOUND.into_response(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::body::Bytes;
    use tokio::net::TcpListener;

    /// A webhook as it came in: id, timestamp, signature, body.
    type Hook = (String, String, String, String);

    struct Program {
        url: String,
        hooks: Arc<Mutex<Vec<Hook>>>,
    }

    /// Something that takes webhooks; refuses the first so many.
    async fn program(refuse: usize) -> Program {
        let hooks: Arc<Mutex<Vec<Hook>>> = Arc::default();
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        let kept = Arc::clone(&hooks);
        let take = move |headers: HeaderMap, body: Bytes| async move {
            let text = |name: &str| headers[name].to_str().unwrap().to_owned();
            let mut kept = kept.lock().unwrap();
            kept.push((
                text("webhook-id"),
                text("webhook-timestamp"),
                text("webhook-signature"),
                String::from_utf8(body.to_vec()).unwrap(),
            ));
            if kept.len() <= refuse { StatusCode::BAD_GATEWAY } else { StatusCode::NO_CONTENT }
        };
        tokio::spawn(async move {
            axum::serve(listener, Router::new().route("/hook", post(take))).await
        });
        Program { url, hooks }
    }

    async fn till() -> (Till, String, reqwest::Client) {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        let till = Till::new(&url, "key", b"0123456789abcdef".to_vec(), None);
        let router = till.clone().router();
        tokio::spawn(async move { axum::serve(listener, router).await });
        let client =
            reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).build().unwrap();
        (till, url, client)
    }

    fn new(id: &str, program: &str) -> serde_json::Value {
        serde_json::json!({
            "id": id, "amount": 1400, "currency": "EUR", "description": "Candles",
            "return_url": "http://club.example/booking", "webhook_url": format!("{program}/hook"),
        })
    }

    async fn make(
        client: &reqwest::Client,
        url: &str,
        id: &str,
        program: &str,
    ) -> serde_json::Value {
        let call = client
            .post(format!("{url}/v1/payments"))
            .bearer_auth("key")
            .header("idempotency-key", id);
        call.json(&new(id, program)).send().await.unwrap().json().await.unwrap()
    }

    async fn choose(client: &reqwest::Client, payment: &serde_json::Value, form: &str) -> String {
        let call = client
            .post(payment["pay_url"].as_str().unwrap())
            .header("content-type", "application/x-www-form-urlencoded")
            .body(form.to_owned());
        let reply = call.send().await.unwrap();
        match reply.headers().get("location") {
            Some(to) => to.to_str().unwrap().to_owned(),
            None => reply.text().await.unwrap(),
        }
    }

    async fn hooks(program: &Program, at_least: usize) -> Vec<Hook> {
        for _ in 0..100 {
            tokio::time::sleep(Duration::from_millis(50)).await;
            let hooks = program.hooks.lock().unwrap().clone();
            if hooks.len() >= at_least {
                return hooks;
            }
        }
        program.hooks.lock().unwrap().clone()
    }

    #[tokio::test]
    async fn a_payment_is_made_once_decided_once_and_told_with_a_signature() {
        let program = program(0).await;
        let (_till, url, client) = till().await;
        let stranger = client.post(format!("{url}/v1/payments")).header("idempotency-key", "a");
        let reply = stranger.json(&new("a", &program.url)).send().await.unwrap();
        assert_eq!(reply.status(), 401);
        let first = make(&client, &url, "a", &program.url).await;
        assert_eq!(first, make(&client, &url, "a", &program.url).await);
        assert_eq!(
            (first["status"].as_str(), first["reference"].as_str()),
            (Some("waiting"), Some("a"))
        );
        assert!(choose(&client, &first, "outcome=close").await.contains("Page closed"));
        assert!(choose(&client, &first, "outcome=second").await.contains("Your bank asks"));
        assert!(
            choose(&client, &first, "outcome=number&number=000000")
                .await
                .contains("That is not the number")
        );
        let back = choose(&client, &first, &format!("outcome=number&number={BANK_NUMBER}")).await;
        assert_eq!(back, "http://club.example/booking");
        assert_eq!(choose(&client, &first, "outcome=declined").await, back, "decided once");
        let told = hooks(&program, 1).await;
        let (id, time, signature, body) = &told[0];
        assert_eq!(*signature, sign(b"0123456789abcdef", id, time, body.as_bytes()));
        assert!(body.contains("\"status\":\"paid\""));
        let ask =
            client.post(format!("{url}/v1/payments/{}/withdraw", first["id"].as_str().unwrap()));
        let withdrawn: serde_json::Value =
            ask.bearer_auth("key").send().await.unwrap().json().await.unwrap();
        assert_eq!(withdrawn["status"], "paid", "what is paid cannot be called back");
        let unknown =
            client.get(format!("{url}/v1/payments/x")).bearer_auth("key").send().await.unwrap();
        assert_eq!(unknown.status(), 404);
    }

    #[tokio::test]
    async fn webhooks_can_be_doubled_or_lost_and_are_sent_again_until_taken() {
        let program = program(1).await;
        let (till, url, client) = till().await;
        for (n, (delivery, expected)) in
            [(Delivery::OnTime, 2), (Delivery::Twice, 4), (Delivery::Lost, 4)]
                .into_iter()
                .enumerate()
        {
            till.books(|books| books.delivery = delivery);
            let payment = make(&client, &url, &format!("p{n}"), &program.url).await;
            choose(&client, &payment, "outcome=paid").await;
            let told = hooks(&program, expected).await;
            assert_eq!(told.len(), expected, "{delivery:?}");
        }
        let told = hooks(&program, 4).await;
        assert_eq!(told[0].0, told[1].0, "sent again under the same id");
        assert_eq!(told[2].0, told[3].0, "doubled under the same id");
        assert_ne!(told[1].0, told[2].0);
    }

    #[test]
    fn payments_survive_a_restart() {
        let file = std::env::temp_dir().join(format!("till-{}.json", std::process::id()));
        let payment = Payment {
            id: "x".into(),
            reference: "a".into(),
            status: "paid".into(),
            amount: 1,
            currency: "EUR".into(),
            pay_url: String::new(),
            description: String::new(),
            return_url: String::new(),
            webhook_url: String::new(),
            refunded: 0,
            refunds: Vec::new(),
            fee: 0,
            dispute: undisputed(),
            paid_out: false,
        };
        let open = || Till::new("http://t.example", "key", vec![0; 16], Some(file.clone()));
        open().books(|books| books.payments.push(payment));
        assert_eq!(open().find("x").map(|p| p.status), Some("paid".into()));
        let _ = std::fs::remove_file(file);
    }
}
