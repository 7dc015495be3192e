//! Who is trusted to publish at once.

use askama::Template;
use axum::extract::Path;
use axum::response::Response;
use matricle_desk::review::trust;
use matricle_formats::words;

use crate::asking::Posted;
use crate::error::WebError;
use crate::news::Undo;
use crate::office::Clerk;
use crate::page::{Frame, html};

/// `GET /office/review/trusted`: who is trusted.
#[derive(Template)]
#[template(path = "review/trusted.html")]
struct TrustedPage {
    f: Frame,
    rows: Vec<(i64, String, String)>,
}

pub(crate) async fn trusted(at: Clerk) -> Result<Response, WebError> {
    let all = trust::all(&at.app.desk, &at.staff).await?;
    let house = at.app.desk.house().await?;
    let now = at.app.desk.clock.now();
    let rows = all
        .into_iter()
        .map(|t| {
            let name = if t.name.is_empty() {
                t.email.clone()
            } else {
                format!("{} ({})", t.name, t.email)
            };
            let since = words::moment(t.at, &house.zone, now);
            (
                t.person.0,
                name,
                format!("since {since}, by {}, after {} accepted", t.who, t.accepted),
            )
        })
        .collect();
    html(&TrustedPage { f: at.frame("Trusted", &house.name).in_room("review"), rows })
}

/// `POST /office/review/trust/{person}`: somebody is trusted, or not.
pub(crate) async fn decide_trust(
    at: Clerk,
    Path(person): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let yes = posted.get("act") == "yes";
    let id = matricle_core::PersonId(person);
    let name = trust::decide(&at.app.desk, &at.staff, id, yes).await?;
    let what = if yes {
        format!("What {name} sends lands where that of trusted people does.")
    } else {
        format!("{name} is not trusted to publish at once.")
    };
    let other = if yes { "no" } else { "yes" };
    let undo = Undo::new(format!("/office/review/trust/{person}"), &[("act", other)]);
    Ok(at.done_but("/office/review", what, undo))
}
