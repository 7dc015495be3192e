//! The face of the house: its colour, its mark, and marks for its kinds of events.

use matricle_core::forms::form::{Fault, Form, Wrong};
use matricle_core::people::staff::Right;
use matricle_core::words::marks::Mark;
use matricle_formats::picture::{self, PictureError};
use matricle_store::house;
use matricle_store::people::Staff;

use crate::bench::{self, Takes};
use crate::{Desk, DeskError};

/// The mark of the house (PNG) for whoever looks at a page.
pub async fn mark(desk: &Desk) -> Result<Option<Vec<u8>>, DeskError> {
    Ok(desk.store.read(house::mark).await?)
}

/// Gives the house a mark, or with nothing takes it away.
///
/// # Errors
/// [`DeskError::Form`] when it is no picture, or too large; the role may not.
pub async fn set_mark(desk: &Desk, staff: &Staff, bytes: Option<Vec<u8>>) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    let png = match bytes {
        Some(bytes) => {
            let read = bench::unless_busy(Takes::All, move || Ok(picture::mark(&bytes))).await?;
            let wrong = |e: PictureError| Wrong { field: "mark".into(), fault: e.into() };
            Some(read.map_err(|e| DeskError::Form(vec![wrong(e)]))?)
        }
        None => None,
    };
    desk.store
        .write(move |tx| {
            house::set_mark(tx, png.as_deref())?;
            let what =
                if png.is_some() { "changed the mark of the house" } else { "took the mark away" };
            turn.log(tx, what, "/office/house")
        })
        .await
}

/// The kinds of events there are, each with its mark if it has one.
pub async fn kinds(desk: &Desk) -> Result<Vec<(String, Option<Mark>)>, DeskError> {
    Ok(desk.store.read(house::kinds).await?)
}

/// Gives kinds of events their marks; what is not named keeps its own.
///
/// # Errors
/// [`DeskError::Form`] when two kinds would have the same, one that is not named included; the role may not.
pub async fn set_kinds(
    desk: &Desk,
    staff: &Staff,
    marks: Vec<(String, Option<Mark>)>,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    desk.store
        .write(move |tx| {
            let others = house::kinds(tx)?;
            let others = others.iter().filter(|(kind, _)| marks.iter().all(|(k, _)| k != kind));
            let others: Vec<Mark> = others.filter_map(|(_, mark)| *mark).collect();
            let mut form = Form::new(Vec::new());
            for (at, (_, mark)) in marks.iter().enumerate() {
                let Some(mark) = mark else { continue };
                let before = marks[..at].iter().filter_map(|(_, other)| other.as_ref());
                if before.chain(&others).any(|other| other == mark) {
                    form.fault(format!("mark_{at}"), Fault::Taken);
                }
            }
            form.done().map_err(DeskError::Form)?;
            for (kind, mark) in &marks {
                house::set_kind_mark(tx, kind, *mark)?;
            }
            turn.log(tx, "gave kinds of events their marks", "/office/house/tags")
        })
        .await
}
