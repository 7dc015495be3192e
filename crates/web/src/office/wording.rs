//! The wording of an event, and its picture.

use askama::Template;
use axum::extract::{Multipart, Path};
use axum::http::StatusCode;
use axum::response::Response;
use matricle_core::EventId;
use matricle_desk::planning::sheet::Settings;
use matricle_desk::planning::{pictures, sheet};
use matricle_store::events::Format;

use crate::asking::{Posted, WithFile};
use crate::error::WebError;
use crate::office::Clerk;
use crate::office::tab::{frame, with_editor, word};
use crate::page::{Frame, refused};
use crate::parts::fields::{Fields, form, wrong};

#[derive(Template)]
#[template(path = "office/wording.html")]
struct Wording {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    d: Fields,
    formats: Vec<(&'static str, &'static str)>,
    tags: Vec<(String, String)>,
    picture: Option<(String, String)>,
    nonce: String,
    saved: bool,
}

/// The form of an event's wording as it stands.
fn filled(s: &Settings) -> Fields {
    let e = &s.event;
    let mut d = Fields::of([
        ("title", e.title.clone()),
        ("kind", e.kind.clone()),
        ("lead", e.lead.clone()),
        ("description", e.description.clone()),
        ("bring", e.bring.clone()),
        ("refund_note", e.refund_note.clone()),
        ("button", e.button.clone()),
        ("after_note", e.after_note.clone()),
        ("format", e.format.word().into()),
        ("online_link", e.online_link.clone()),
        ("online_passcode", e.online_passcode.clone()),
        ("slug", e.slug.clone()),
        ("accent", e.accent.clone()),
        ("contact", e.contact.clone()),
        ("price_words", e.price_words.clone()),
    ]);
    d.tick("drop_in", e.drop_in);
    d.tick("listed", e.listed);
    s.tags.iter().for_each(|(slug, _)| d.add("tag", slug.clone()));
    d
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
        formats: Format::ALL.map(|f| (f.word(), f.word())).to_vec(),
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
    let posted = match posted.over(&now) {
        Ok(posted) => posted,
        Err(again) => return wording_page(&at, id, Some(*again), false).await,
    };
    match sheet::reword(&at.app.desk, &at.staff, EventId(id), form(&posted)).await {
        Ok(()) => wording_page(&at, id, None, true).await,
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            wording_page(&at, id, Some(d), false).await
        }
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
