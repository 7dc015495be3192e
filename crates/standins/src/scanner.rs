//! The scanner: a page that holds tickets and types them into a window beside it as a scanner at
//! a USB port would, set to a layout, at a pace, with noise and misreads; and a page of ticket
//! pictures for a camera: dim, turned, cracked, small.

use std::sync::{Arc, Mutex, PoisonError};

use askama::Template;
use axum::Router;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{Html, IntoResponse, Response};
use axum::routing::get;
use qrcode::{Color, EcLevel, QrCode};

/// A ticket: whose, and its code.
type Ticket = (String, String);

/// A stand-in that scans. Cheap to clone.
#[derive(Debug, Clone, Default)]
pub struct Scanner {
    holds: Arc<Mutex<(String, Vec<Ticket>)>>,
}

#[derive(Template)]
#[template(path = "scanner.html")]
struct Page {
    door: String,
    tickets: Vec<Ticket>,
}

#[derive(Template)]
#[template(path = "scanner_pictures.html")]
struct Pictures {
    pictures: Vec<(String, &'static str, String)>,
}

impl Scanner {
    /// Gives it the address of a door, and the tickets it holds.
    pub fn hold(&self, door: String, tickets: Vec<Ticket>) {
        *self.holds.lock().unwrap_or_else(PoisonError::into_inner) = (door, tickets);
    }

    /// Its pages.
    pub fn router(self) -> Router {
        Router::new().route("/", get(page)).route("/pictures", get(pictures)).with_state(self)
    }
}

async fn page(State(scanner): State<Scanner>) -> Response {
    let (door, tickets) = scanner.holds.lock().unwrap_or_else(PoisonError::into_inner).clone();
    shown(&Page { door, tickets })
}

/// In which ways a ticket is held before the camera.
const WAYS: [&str; 6] = ["as it is", "dim", "turned", "cracked", "small", "askew"];

async fn pictures(State(scanner): State<Scanner>) -> Response {
    let (_, tickets) = scanner.holds.lock().unwrap_or_else(PoisonError::into_inner).clone();
    let pictures = tickets
        .iter()
        .zip(WAYS.iter().cycle())
        .take(18)
        .filter_map(|((name, code), way)| Some((name.clone(), *way, square(code)?)))
        .collect();
    shown(&Pictures { pictures })
}

/// A QR code as SVG, with its quiet zone.
fn square(code: &str) -> Option<String> {
    let symbol = QrCode::with_error_correction_level(code, EcLevel::M).ok()?;
    let side = symbol.width();
    let dark: String = symbol
        .into_colors()
        .into_iter()
        .enumerate()
        .filter(|(_, color)| *color == Color::Dark)
        .map(|(n, _)| format!("M{} {}h1v1h-1z", n % side + 4, n / side + 4))
        .collect();
    let whole = side + 8;
    Some(format!(
        r#"<svg viewBox="0 0 {whole} {whole}" shape-rendering="crispEdges"><rect width="{whole}" height="{whole}" fill="white"/><path d="{dark}"/></svg>"#
    ))
}

fn shown(page: &impl Template) -> Response {
    match page.render() {
        Ok(html) => Html(html).into_response(),
        Err(_) => StatusCode::INTERNAL_SERVER_ERROR.into_response(),
    }
}
