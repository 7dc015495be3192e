//! The wording of an event, and its picture.

use askama::Template;
use axum::extract::{Multipart, Path};
use axum::http::StatusCode;
use axum::response::Response;
use matricle_core::EventId;
use matricle_desk::planning::sheet::Settings;
use matricle_desk::planning::{pictures, sheet, wording as on};

use crate::asking::{Posted, WithFile};
use crate::error::WebError;
use crate::office::Clerk;
use crate::office::tab::{frame, with_editor, word};
use crate::page::{Frame, refused};
use crate::parts::fields::{Fields, wrong};

#[derive(Template)]
#[template(path = "office/wording.html")]
struct Wording {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    d: Fields,
    tags: Vec<(String, String)>,
    picture: Option<(String, String)>,
    nonce: String,
    saved: bool,
}

/// The form of an event's wording as it stands.
fn filled(s: &Settings) -> Fields {
    let mut event = s.event.clone();
    let mut tags = s.tags.iter().map(|(slug, _)| slug.clone()).collect();
    Fields::filled(&s.house.locale(), |f| on::form(f, &mut event, &mut tags))
}

async fn wording_page(
    at: &Clerk,
    id: i64,
    d: Option<Fields>,
    saved: bool,
) -> Result<Response, WebError> {
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let d = d.unwrap_or_else(|| filled(&s));
    let nonce = word();
    let count = d.count();
    let page = Wording {
        tab: "wording",
        id,
        bookings: s.bookings,
        title: s.event.title.clone(),
        tags: s.all_tags.iter().map(|t| (t.slug.clone(), t.name.clone())).collect(),
        picture: s.picture.as_ref().map(|p| {
            let address = crate::parts::places::picture_address(&at.app, p.id, "small");
            (address, p.alt.clone())
        }),
        nonce,
        f: frame(at, &s),
        d,
        saved,
    };
    with_editor(at, &page.nonce, count, &page)
}

pub(crate) async fn wording(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    wording_page(&at, id, None, false).await
}

/// `POST /office/events/{id}/wording`.
pub(crate) async fn reword(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let _alone = at.keeping().await;
    let now = filled(&sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?);
    let keep = |form| on::keep(&at.app.desk, &at.staff, EventId(id), form);
    match Fields::keep(posted, &now, keep).await? {
        Ok(()) => wording_page(&at, id, None, true).await,
        Err(d) => wording_page(&at, id, Some(d), false).await,
    }
}

/// `POST /office/events/{id}/picture`: a file with words for those who cannot see it.
pub(crate) async fn picture(
    at: Clerk,
    Path(id): Path<i64>,
    parts: Multipart,
) -> Result<Response, WebError> {
    let WithFile { act, alt, bytes, .. } =
        WithFile::read(&at.app, &at.visitor, "picture", parts).await?;
    if act == "drop" {
        pictures::drop_picture(&at.app.desk, &at.staff, EventId(id)).await?;
        let to = format!("/office/events/{id}/wording#picture");
        return Ok(at.done(&to, "The picture is taken away."));
    }
    match pictures::set_picture(&at.app.desk, &at.staff, EventId(id), alt.clone(), bytes).await {
        Ok(()) => {
            Ok(at.done(&format!("/office/events/{id}/wording#picture"), "The picture is kept."))
        }
        Err(error) => {
            let wrong = wrong(error)?;
            let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
            let mut d = Fields::of([("title", s.event.title.clone()), ("alt", alt)]);
            d.mark(&wrong);
            let f = frame(&at, &s);
            refused(StatusCode::UNPROCESSABLE_ENTITY, &PictureAgain { f, id, d })
        }
    }
}

#[derive(Template)]
#[template(path = "office/picture.html")]
struct PictureAgain {
    f: Frame,
    id: i64,
    d: Fields,
}
