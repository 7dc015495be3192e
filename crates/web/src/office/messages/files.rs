//! Files of the house that go with messages.

use askama::Template;
use axum::extract::{Multipart, Path};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use matricle_core::people::staff::Right;
use matricle_desk::messages::files;
use matricle_formats::words;

use crate::asking::{Posted, WithFile};
use crate::error::WebError;
use crate::news::Undo;
use crate::office::Clerk;
use crate::office::tab::answer;
use crate::page::Frame;
use crate::parts::fields::{Fields, wrong};

const HERE: &str = "/office/messages/files";

#[derive(Template)]
#[template(path = "messages/files.html")]
struct Page {
    f: Frame,
    tab: &'static str,
    rows: Vec<(i64, String, String)>,
    d: Fields,
    most: u32,
    may: bool,
}

/// A size as people read it.
fn size(bytes: u32) -> String {
    match bytes {
        0..1024 => words::count(bytes, "bytes"),
        1024..1_048_576 => format!("{} kB", bytes / 1024),
        _ => format!("{}.{} MB", bytes / 1_048_576, bytes % 1_048_576 * 10 / 1_048_576),
    }
}

async fn page(at: &Clerk, d: Fields) -> Result<Response, WebError> {
    let (house, all) = files::all(&at.app.desk, &at.staff, &[]).await?;
    let wrong = d.count();
    let page = Page {
        f: at.frame("Files", &house.name).in_room("messages"),
        tab: "files",
        rows: all.into_iter().map(|f| (f.id, f.name, size(f.bytes))).collect(),
        d,
        most: files::MOST,
        may: at.staff.role.may(Right::SetHouseUp),
    };
    answer(wrong, &page)
}

/// `GET /office/messages/files`.
pub(crate) async fn show(at: Clerk) -> Result<Response, WebError> {
    page(&at, Fields::default()).await
}

/// `GET /office/messages/files/{id}`: the file, to be kept.
pub(crate) async fn one(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    let (name, media_type, bytes) = files::one(&at.app.desk, &at.staff, id).await?;
    let name = format!("attachment; filename*=UTF-8''{}", crate::address::encode(&name));
    let heads = [(header::CONTENT_TYPE, media_type), (header::CONTENT_DISPOSITION, name)];
    Ok((heads, bytes).into_response())
}

/// `POST /office/messages/files`: one more.
pub(crate) async fn add(at: Clerk, parts: Multipart) -> Result<Response, WebError> {
    let WithFile { name, bytes, .. } = WithFile::read(&at.app, &at.visitor, "file", parts).await?;
    match files::add(&at.app.desk, &at.staff, name, bytes).await {
        Ok(_) => Ok(at.done(HERE, "The file is kept. Templates can send it along.")),
        Err(error) => {
            let mut d = Fields::default();
            d.mark(&wrong(error)?);
            page(&at, d).await
        }
    }
}

/// `POST /office/messages/files/{id}`: out of use, or back into it.
pub(crate) async fn retire(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let out = posted.get("act") != "back";
    files::retire(&at.app.desk, &at.staff, id, out).await?;
    if !out {
        return Ok(at.done(HERE, "The file is in use again."));
    }
    let undo = Undo::new(format!("{HERE}/{id}"), &[("act", "back")]);
    Ok(at.done_but(HERE, "The file is out of use. Templates that have it keep it.", undo))
}
