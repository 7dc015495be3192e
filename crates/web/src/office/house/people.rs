//! People, their roles, and members.

use axum::extract::Path;
use axum::response::Response;
use matricle_core::PersonId;
use matricle_desk::house;
use matricle_formats::words;

use super::{Again, keep, page};
use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::parts::fields::{Fields, form};

pub(crate) async fn people(at: Clerk) -> Result<Response, WebError> {
    page(&at, "people", Again::None).await
}

/// `POST /office/house/members`: who is a member.
pub(crate) async fn set_members(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let act = |form| house::set_members(&at.app.desk, &at.staff, form);
    let said = |n| format!("Kept: {}.", words::count(n, "members"));
    keep(&at, "people", posted, act, said).await
}

/// `POST /office/house/people`: a role is given.
pub(crate) async fn give_role(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    match house::give_role(&at.app.desk, &at.staff, form(&posted)).await {
        Ok(()) => {
            let what = format!("{} is {} now.", posted.get("name").trim(), posted.get("role"));
            Ok(at.done("/office/house/people", what))
        }
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            page(&at, "people", Again::Person(d)).await
        }
    }
}

/// `POST /office/house/people/{id}`: a role is taken away.
pub(crate) async fn take_role(
    at: Clerk,
    Path(id): Path<i64>,
    _posted: Posted,
) -> Result<Response, WebError> {
    house::take_role(&at.app.desk, &at.staff, PersonId(id)).await?;
    Ok(at
        .done("/office/house/people", "The role is taken away, and every session of theirs ended."))
}
