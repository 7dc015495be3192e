//! The audit log: who came in, who failed to, roles given and taken, files taken away.

use matricle_core::people::staff::{Right, require};
use matricle_store::audit::{self, Noted};
use matricle_store::people::Staff;

use crate::{Desk, DeskError};

/// Lines that are shown.
const SHOWN: u32 = 500;

/// Notes that somebody took a file away: of what, with how many rows.
///
/// # Errors
/// The role may see neither the Office nor dates of its own, or the store fails: then nothing is to be handed out.
pub async fn taken_away(desk: &Desk, staff: &Staff, what: String) -> Result<(), DeskError> {
    // Whoever leads a date has its list.
    let own = desk.turn_of(staff, Right::SeeOwnDates);
    let turn = own.or_else(|_| desk.turn_of(staff, Right::SeeOffice))?;
    let what = format!("took a file away: {what}");
    Ok(desk.store.write(move |tx| audit::note(tx, &turn.by.name, &what, "", turn.now)).await?)
}

/// Notes what somebody did at the machine itself, by a command.
pub async fn by_command(desk: &Desk, what: String) -> Result<(), DeskError> {
    let now = desk.clock.now();
    Ok(desk.store.write(move |tx| audit::note(tx, "at the machine", &what, "", now)).await?)
}

/// The latest lines, the newest first, and how many there are in all.
///
/// # Errors
/// The role may not give roles, or the store fails.
pub async fn log(desk: &Desk, staff: &Staff) -> Result<(Vec<Noted>, u32), DeskError> {
    require(staff.role, Right::GiveRoles)?;
    Ok(desk.store.read(move |conn| audit::latest(conn, SHOWN)).await?)
}
