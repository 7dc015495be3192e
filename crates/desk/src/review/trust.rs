//! Whom reviewers trust: what they send lands where the house rules say for them.

use matricle_core::PersonId;
use matricle_core::people::staff::{Right, require};
use matricle_core::review::record::Record;
use matricle_store::people::Staff;
use matricle_store::submissions::{self, Submission, Trusted};
use matricle_store::{Connection, Tx};

use super::{name_of, record_of};
use crate::acting::Turn;
use crate::{Desk, DeskError};

/// Whether a reviewer is asked about trusting whoever sent a submission, and on what record.
pub(crate) fn proposed(
    conn: &Connection,
    s: &Submission,
    after: u32,
) -> Result<Option<Record>, DeskError> {
    let Some(person) = s.person else { return Ok(None) };
    let record = record_of(conn, Some(person))?;
    let before = submissions::trusted(conn, person)?;
    // Somebody who was not taken is proposed again once as many more were accepted.
    let asked = match before {
        Some(t) if t.yes => return Ok(None),
        Some(t) => record.accepted < t.accepted + after.max(1),
        None => false,
    };
    Ok((record.earns_trust(after) && !asked).then_some(record))
}

/// Everybody who is trusted.
pub async fn all(desk: &Desk, staff: &Staff) -> Result<Vec<Trusted>, DeskError> {
    require(staff.role, Right::Review)?;
    Ok(desk.store.read(submissions::trusted_all).await?)
}

/// Decides whether somebody is trusted.
///
/// # Errors
/// The role may not; there is no such person among those who sent something.
pub async fn decide(
    desk: &Desk,
    staff: &Staff,
    person: PersonId,
    yes: bool,
) -> Result<String, DeskError> {
    let turn = desk.turn_of(staff, Right::Review)?;
    desk.store
        .write(move |tx| {
            let (sent, _) = submissions::of_person(tx, person, 0, 1)?;
            let one = sent.first().ok_or(DeskError::NotFound)?;
            let name = name_of(one).to_owned();
            set(tx, person, yes, &turn)?;
            let what = if yes { "trusts" } else { "does not trust" };
            turn.log(
                tx,
                &format!("{what} {name} to publish at once"),
                "/office/house/submissions",
            )?;
            Ok(name)
        })
        .await
}

/// Writes down whether somebody is trusted.
pub fn set(tx: &Tx<'_>, person: PersonId, yes: bool, turn: &Turn) -> Result<(), DeskError> {
    let accepted = record_of(tx, Some(person))?.accepted;
    Ok(submissions::set_trusted(tx, person, yes, &turn.by.name, accepted, turn.now)?)
}
