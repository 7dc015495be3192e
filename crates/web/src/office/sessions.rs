//! Sessions of a date.

use axum::extract::Path;
use axum::response::Response;
use matricle_core::{DateId, SessionId};
use matricle_desk::planning::sessions;
use matricle_desk::{DeskError, office};
use matricle_formats::words;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::office::dates::{Again, page};
use crate::office::touches::{Before, clash_lines};
use crate::page::html;
use crate::parts::fields::{Fields, form};

/// `POST /office/dates/{id}/sessions`: a session more, or one less.
pub(crate) async fn session(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let date = DateId(id);
    let event = office::date(&at.app.desk, &at.staff, date).await?.event.id;
    let there = format!("/office/events/{event}/dates?date={id}#sessions");
    if let Ok(session) = posted.get("drop").parse() {
        sessions::remove(&at.app.desk, &at.staff, date, SessionId(session)).await?;
        return Ok(at.done(
            &there,
            "The session is off the date; whoever had signed up for it is free then.",
        ));
    }
    let accept = posted.get("act") == "save";
    match sessions::add(&at.app.desk, &at.staff, date, form(&posted), accept).await {
        Ok(()) => Ok(at.done(&there, format!("Added: {}.", posted.get("title").trim()))),
        Err(DeskError::Clashes(clashes)) => {
            let house = at.app.desk.house().await?;
            let today = words::local(at.app.desk.clock.now(), &house.zone).date();
            let title = posted.get("title").to_owned();
            html(&Before {
                f: at.frame(title.clone(), &house.name).in_room("events"),
                heading: format!("“{title}”, before it is added"),
                action: format!("/office/dates/{id}/sessions"),
                back: there,
                button: "Add it all the same".into(),
                lines: Vec::new(),
                rule: None,
                dates: Vec::new(),
                people: Vec::new(),
                over: Vec::new(),
                clashes: clash_lines(&clashes, today),
                carried: Fields::posted(&posted, &[]).pairs(),
            })
        }
        Err(error) => {
            let session = Some(Fields::again(&posted, error)?);
            let again = Again { session, ..Again::default() };
            page(&at, event.0, Some(id), again).await
        }
    }
}
