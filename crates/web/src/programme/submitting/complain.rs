//! `/events/{slug}/complain`: what the public complains of.

use askama::Template;
use axum::extract::Path;
use axum::http::StatusCode;
use axum::response::Response;
use matricle_desk::DeskError;
use matricle_desk::review::complaints;

use super::At;
use crate::asking::{Asker, Posted};
use crate::error::WebError;
use crate::guard::Often;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form, wrong};

#[derive(Template)]
#[template(path = "submit/complain.html")]
struct Complain {
    f: Frame,
    title: String,
    slug: String,
    d: Fields,
    refusal: String,
}

async fn page(at: &At, slug: &str, d: Fields, refusal: String) -> Result<Response, WebError> {
    let (house, event) = complaints::about(&at.app.desk, slug).await?;
    let page = Complain {
        f: at.frame("Something is wrong", &house.name),
        title: event.title,
        slug: event.slug,
        d,
        refusal,
    };
    let is_wrong = page.d.count() > 0 || !page.refusal.is_empty();
    if is_wrong { refused(StatusCode::UNPROCESSABLE_ENTITY, &page) } else { html(&page) }
}

pub(crate) async fn show(at: At, Path(slug): Path<String>) -> Result<Response, WebError> {
    let mut d = Fields::default();
    d.set("email", at.who.proved.clone().unwrap_or_default());
    page(&at, &slug, d, String::new()).await
}

/// `POST /events/{slug}/complain`.
pub(crate) async fn send(
    at: At,
    asker: Asker,
    Path(slug): Path<String>,
    posted: Posted,
) -> Result<Response, WebError> {
    at.app.guards.often(Often::Booking, &asker)?;
    let to = format!("/events/{}", crate::address::encode(&slug));
    match complaints::complain(&at.app.desk, &at.who, &slug, form(&posted)).await {
        Ok(()) => Ok(at.done(&to, "Thank you. Somebody of the house reads it.")),
        Err(DeskError::Submission(refusal)) => {
            let said = at.says(&refusal).await?;
            page(&at, &slug, Fields::posted(&posted, &[]), said).await
        }
        Err(error @ DeskError::Form(_)) => {
            let faults = wrong(error)?;
            page(&at, &slug, Fields::posted(&posted, &faults), String::new()).await
        }
        Err(error) => Err(error.into()),
    }
}
