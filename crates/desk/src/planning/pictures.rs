//! The picture of an event.

use matricle_core::EventId;
use matricle_core::fields;
use matricle_core::forms::form::Form;
use matricle_core::people::staff::Right;
use matricle_formats::picture;
use matricle_store::events::{self, Picture};
use matricle_store::people::Staff;

use crate::bench::{self, Takes};
use crate::planning::dates::log;
use crate::{Desk, DeskError};

fields! {
    ALT: Line = "alt", "What it shows, for those who cannot see it" needed;
}

/// Gives an event a picture, or with no bytes takes it away.
///
/// # Errors
/// [`DeskError::Form`] when it is no picture, or has no words for those who cannot see
/// it; the role may not.
pub async fn set_picture(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    alt: String,
    bytes: Vec<u8>,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let mut form = Form::new(vec![("alt".into(), alt)]);
    let alt = form.take(&ALT);
    let kept = bench::unless_busy(Takes::All, move || Ok(picture::keep(&bytes))).await?;
    if let Err(error) = kept {
        form.fault("picture", error.into());
    }
    form.done().map_err(DeskError::Form)?;
    let Ok(kept) = kept else { return Err(DeskError::NotFound) };
    // Random, so that a picture of a draft is not found by counting.
    let id = i64::from_le_bytes((crate::random_u64() >> 12).to_le_bytes());
    desk.store
        .write(move |tx| {
            let picture = Picture { id, alt, width: kept.width, height: kept.height };
            events::set_picture(tx, event, &picture, &kept.large, &kept.small)?;
            events::changed(tx, event, turn.now)?;
            log(tx, event, &turn, "changed the picture")
        })
        .await
}

/// Takes the picture of an event away.
pub async fn drop_picture(desk: &Desk, staff: &Staff, event: EventId) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            events::drop_picture(tx, event)?;
            events::changed(tx, event, turn.now)?;
            log(tx, event, &turn, "took the picture away")
        })
        .await
}

/// The bytes of a picture: JPEG, for a screen or for a phone.
///
/// # Errors
/// [`DeskError::NotFound`], or the store fails.
pub async fn picture(desk: &Desk, id: i64, small: bool) -> Result<Vec<u8>, DeskError> {
    let found = desk.store.read(move |conn| events::picture_bytes(conn, id, small)).await?;
    found.ok_or(DeskError::NotFound)
}
