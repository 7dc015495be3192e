//! Who stands at a door: somebody who has signed in, or a device that has joined.

use axum::extract::{FromRequestParts, OptionalFromRequestParts};
use axum::http::request::Parts;
use matricle_core::people::staff::Right;
use matricle_desk::door::{Volunteer, devices};

use crate::App;
use crate::asking::{Perhaps, SignedIn};
use crate::cookies;
use crate::error::WebError;

/// Whoever stands at a door.
#[derive(Debug, Clone)]
pub(crate) struct AtDoor(pub(crate) Volunteer);

async fn find(parts: &mut Parts, app: &App) -> Result<Option<Volunteer>, WebError> {
    let Perhaps(staff) = Perhaps::from_request_parts(parts, app).await?;
    // Somebody who may check in does so as themselves, also on a device that has joined.
    if let Some(staff) = staff.filter(|s| s.role.may(Right::CheckIn)) {
        return Ok(Some(Volunteer::from(&staff)));
    }
    let Some(token) = cookies::device_token(&parts.headers) else { return Ok(None) };
    Ok(devices::by_token(&app.desk, token).await?.map(|device| Volunteer::Device(Box::new(device))))
}

impl FromRequestParts<App> for AtDoor {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        match find(parts, app).await? {
            Some(volunteer) => Ok(Self(volunteer)),
            // Signed in without the right, or not at all: as everywhere.
            None => {
                let SignedIn(staff) = SignedIn::from_request_parts(parts, app).await?;
                Ok(Self(Volunteer::from(&staff)))
            }
        }
    }
}

impl OptionalFromRequestParts<App> for AtDoor {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Option<Self>, WebError> {
        Ok(find(parts, app).await?.map(Self))
    }
}
