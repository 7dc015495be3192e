//! The phone: a gateway for text messages with its HTTP interface, and a page that shows what
//! came. And the team room, where a chat webhook posts lines.
//!
//! Both can be told to be slow, to refuse, or to fail for a while. A text message handed over
//! again under the same key is counted, and shown once.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use askama::Template;
use axum::extract::{Form, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use serde::{Deserialize, Serialize};

/// How it behaves.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Behaves {
    /// As it should.
    #[default]
    Well,
    /// It takes five seconds for everything.
    Slow,
    /// It refuses everything for good.
    Refuses,
    /// It fails for now.
    Fails,
}

/// Something that came.
#[derive(Debug, Clone, Serialize)]
pub struct Came {
    /// To which number; empty in the team room.
    pub to: String,
    /// The words.
    pub text: String,
    /// How often it was handed over.
    pub times: u32,
    #[serde(skip)]
    key: String,
}

#[derive(Debug, Default)]
struct Inner {
    came: Mutex<Vec<Came>>,
    behaves: Mutex<Behaves>,
}

/// A stand-in that takes short words: the phone, or the team room. Cheap to clone.
#[derive(Debug, Clone)]
pub struct Phone {
    inner: Arc<Inner>,
    title: &'static str,
    token: Option<String>,
}

#[derive(Template)]
#[template(path = "phone.html")]
struct Page {
    title: &'static str,
    came: Vec<Came>,
    behaves: Behaves,
}

#[derive(Debug, Deserialize)]
struct Text {
    #[serde(default)]
    to: String,
    text: String,
}

#[derive(Debug, Deserialize)]
struct Behaving {
    how: Behaves,
}

impl Phone {
    /// The gateway, which asks for a bearer token.
    #[must_use]
    pub fn gateway(token: &str) -> Self {
        Self { inner: Arc::default(), title: "Phone", token: Some(token.into()) }
    }

    /// The team room, whose address is its secret.
    #[must_use]
    pub fn room() -> Self {
        Self { inner: Arc::default(), title: "Team room", token: None }
    }

    /// What came, the latest first.
    #[must_use]
    pub fn came(&self) -> Vec<Came> {
        let came = self.inner.came.lock().unwrap_or_else(PoisonError::into_inner);
        came.iter().rev().cloned().collect()
    }

    /// Its pages and its interface.
    pub fn router(self) -> Router {
        Router::new()
            .route("/", get(page))
            .route("/came.json", get(json))
            .route("/messages", post(take))
            .route("/hook", post(take))
            .route("/behave", post(behave))
            .with_state(self)
    }
}

async fn page(State(phone): State<Phone>) -> Response {
    let behaves = *phone.inner.behaves.lock().unwrap_or_else(PoisonError::into_inner);
    match (Page { title: phone.title, came: phone.came(), behaves }).render() {
        Ok(html) => Html(html).into_response(),
        Err(_) => StatusCode::INTERNAL_SERVER_ERROR.into_response(),
    }
}

async fn json(State(phone): State<Phone>) -> Json<Vec<Came>> {
    Json(phone.came())
}

async fn behave(State(phone): State<Phone>, Form(form): Form<Behaving>) -> Redirect {
    *phone.inner.behaves.lock().unwrap_or_else(PoisonError::into_inner) = form.how;
    Redirect::to("/")
}

async fn take(
    State(phone): State<Phone>,
    headers: HeaderMap,
    Json(text): Json<Text>,
) -> Result<Json<serde_json::Value>, (StatusCode, String)> {
    if let Some(token) = &phone.token {
        let given = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok());
        if given != Some(&format!("Bearer {token}")) {
            return Err((StatusCode::UNAUTHORIZED, "the token is another".into()));
        }
        if !text.to.starts_with('+') {
            return Err((StatusCode::UNPROCESSABLE_ENTITY, "not a number".into()));
        }
    }
    let behaves = *phone.inner.behaves.lock().unwrap_or_else(PoisonError::into_inner);
    match behaves {
        Behaves::Well => {}
        Behaves::Slow => tokio::time::sleep(Duration::from_secs(5)).await,
        Behaves::Refuses => return Err((StatusCode::FORBIDDEN, "refused for good".into())),
        Behaves::Fails => return Err((StatusCode::SERVICE_UNAVAILABLE, "not now".into())),
    }
    let key =
        headers.get("idempotency-key").and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned();
    let mut came = phone.inner.came.lock().unwrap_or_else(PoisonError::into_inner);
    match came.iter_mut().find(|c| !key.is_empty() && c.key == key) {
        Some(known) => known.times += 1,
        None => came.push(Came { to: text.to, text: text.text, times: 1, key }),
    }
    Ok(Json(serde_json::json!({ "taken": came.len() })))
}
