//! Certificates confirmed: whoever holds one types its number and code.

use askama::Template;
use axum::extract::{Query, State};
use axum::http::StatusCode;
use axum::response::Response;
use matricle_desk::DeskError;
use matricle_desk::door::papers::{Confirmed, confirm};
use serde::Deserialize;

use crate::App;
use crate::asking::{Asker, Visitor};
use crate::error::WebError;
use crate::page::{Face, Frame, html, refused};

#[derive(Template)]
#[template(path = "programme/certificate.html")]
struct Page {
    f: Frame,
    number: String,
    code: String,
    found: Option<Confirmed>,
    wrong: &'static str,
}

/// What was typed.
#[derive(Debug, Deserialize)]
pub(crate) struct Typed {
    #[serde(default)]
    number: String,
    #[serde(default)]
    code: String,
}

/// `GET /certificate`.
pub(crate) async fn show(
    State(app): State<App>,
    Query(Typed { number, code }): Query<Typed>,
    visitor: Visitor,
    Asker(network, _): Asker,
) -> Result<Response, WebError> {
    let (mut found, mut wrong) = (None, "");
    if !number.is_empty() || !code.is_empty() {
        match confirm(&app.desk, &number, &code, &network.to_string()).await {
            Ok(confirmed) => found = Some(confirmed),
            Err(DeskError::NotFound) => {
                wrong = "No certificate of this house has this number and this code. Compare them letter by letter.";
            }
            Err(other) => return Err(other.into()),
        }
    }
    let house = app.house_name().await;
    let f = Frame::new(&app, Face::Programme, "A certificate", &house, &visitor, None);
    let short = |typed: String| typed.chars().take(40).collect();
    let page = Page { f, number: short(number), code: short(code), found, wrong };
    match page.wrong {
        "" => html(&page),
        _ => refused(StatusCode::NOT_FOUND, &page),
    }
}
