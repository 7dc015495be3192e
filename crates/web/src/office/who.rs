//! Who may book an event, and who is invited.

use askama::Template;
use axum::extract::Path;
use axum::response::Response;
use matricle_core::EventId;
use matricle_desk::DeskError;
use matricle_desk::bookings::confirm::Followed;
use matricle_desk::planning::sheet::{self, Settings};
use matricle_desk::planning::who as on;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::office::tab::{answer, frame};
use crate::office::tickets::freed;
use crate::page::Frame;
use crate::parts::fields::{Fields, form};

#[derive(Template)]
#[template(path = "office/who.html")]
struct WhoPage {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    d: Fields,
    /// What became of it; empty before anything was saved.
    saved: String,
    /// Bookings that wait for a yes and need not any more: what becomes of them is asked.
    waiting: Vec<(String, String)>,
    /// How many are invited.
    invited: u32,
}

/// The form as it stands.
fn filled(s: &Settings) -> Fields {
    let mut event = s.event.clone();
    Fields::filled(&s.house.locale(), |f| on::form(f, &mut event))
}

async fn who_page(
    at: &Clerk,
    id: i64,
    d: Option<Fields>,
    saved: String,
    waiting: Vec<(String, String)>,
) -> Result<Response, WebError> {
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let d = d.unwrap_or_else(|| filled(&s));
    let count = d.count();
    let page = WhoPage {
        tab: "who",
        id,
        bookings: s.bookings,
        title: s.event.title.clone(),
        invited: s.invited,
        f: frame(at, &s),
        d,
        saved,
        waiting,
    };
    answer(count, &page)
}

pub(crate) async fn who(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    who_page(&at, id, None, String::new(), Vec::new()).await
}

/// What became of bookings when the rules changed, in words.
fn followed(f: Followed) -> String {
    let mut said = vec!["Kept.".to_owned()];
    match f.went_on {
        0 => {}
        1 => said.push("One booking that waited has gone on by itself.".into()),
        n => said.push(format!("{n} bookings that waited have gone on by themselves.")),
    }
    match f.wait {
        0 => {}
        1 => said.push("One booking waits for your yes.".into()),
        n => said.push(format!("{n} bookings wait for your yes.")),
    }
    match f.will_wait {
        0 => {}
        1 => said.push("One that is being filled in now will wait for it too.".into()),
        n => said.push(format!("{n} that are being filled in now will wait for it too.")),
    }
    said.join(" ")
}

/// `POST /office/events/{id}/who`.
pub(crate) async fn save_who(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let _alone = at.keeping().await;
    let now = filled(&sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?);
    let posted = match posted.over(&now) {
        Ok(posted) => posted,
        Err(again) => {
            return who_page(&at, id, Some(*again), String::new(), Vec::new()).await;
        }
    };
    match on::keep(&at.app.desk, &at.staff, EventId(id), form(&posted)).await {
        Ok(done) => who_page(&at, id, None, followed(done), Vec::new()).await,
        Err(DeskError::Freed { bookings }) => {
            let d = Some(Fields::posted(&posted, &[]));
            who_page(&at, id, d, String::new(), freed(bookings)).await
        }
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            who_page(&at, id, Some(d), String::new(), Vec::new()).await
        }
    }
}
