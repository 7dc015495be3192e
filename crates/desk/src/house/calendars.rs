//! How dates of the house get into calendars.

use matricle_core::dates::web_calendar::WebCalendar;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::people::staff::Right;
use matricle_store::house;
use matricle_store::people::Staff;

use crate::{Desk, DeskError};

/// Most web calendars that a house offers.
const MOST: usize = 8;

/// Writes the web calendars that bookers put dates into, one on a line, and whether the feeds of
/// hosts name who comes.
///
/// # Errors
/// [`DeskError::Form`] at the first line that is none; the role may not.
pub async fn set(desk: &Desk, staff: &Staff, mut form: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    let typed = form.text("web_calendars", 8_000);
    let (mut all, mut wrong) = (Vec::new(), None);
    for line in typed.lines().map(str::trim).filter(|l| !l.is_empty()) {
        match WebCalendar::read(line) {
            Ok(read) => all.push(read),
            Err(fault) => wrong = wrong.or(Some(Fault::WebCalendar(line.to_owned(), fault))),
        }
    }
    if all.len() > MOST {
        wrong = wrong.or(Some(Fault::TooMany(MOST)));
    }
    if let Some(fault) = wrong {
        form.fault("web_calendars", fault);
    }
    let names = form.ticked("names_in_feeds");
    form.done().map_err(DeskError::Form)?;
    desk.store
        .write(move |tx| {
            house::set_calendars(tx, &all, names)?;
            turn.log(tx, "changed how dates get into calendars", "/office/house/feeds")
        })
        .await
}
