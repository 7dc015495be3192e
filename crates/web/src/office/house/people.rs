//! People, their roles, and members.

use axum::extract::Path;
use axum::response::Response;
use matricle_core::PersonId;
use matricle_desk::house::{self, Rooms};
use matricle_formats::words;

use super::{Again, page};
use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::parts::fields::{Fields, form};

pub(crate) async fn people(at: Clerk) -> Result<Response, WebError> {
    page(&at, "people", Again::None).await
}

/// The members as they stand, one address on a line.
pub(super) fn members_fields(all: &Rooms) -> Fields {
    Fields::of([("members", all.members.join("\n"))])
}

/// `POST /office/house/members`: who is a member.
pub(crate) async fn set_members(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let _alone = at.keeping().await;
    let all = house::all(&at.app.desk, &at.staff).await?;
    let posted = match posted.over(&members_fields(&all)) {
        Ok(posted) => posted,
        Err(again) => return page(&at, "people", Again::Form(*again)).await,
    };
    match house::set_members(&at.app.desk, &at.staff, form(&posted)).await {
        Ok(n) => {
            let said = format!("Kept: {}.", words::count(n, "members"));
            page(&at, "people", Again::Said(said)).await
        }
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            page(&at, "people", Again::Form(d)).await
        }
    }
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
