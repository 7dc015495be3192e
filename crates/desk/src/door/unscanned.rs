//! Coming to a date without a scan: by a personal link, or by the list that is gone through
//! afterwards. It is written down as a scan all the same, so that there is one log and one count.

use jiff::Timestamp;
use matricle_core::PersonId;
use matricle_core::door::Verdict;
use matricle_core::door::passages::Way;
use matricle_store::Tx;
use matricle_store::door::{self as db, AtDoor, NewScan};

use super::{tell, told_json};
use crate::DeskError;

/// By what somebody came: what it is called where a door's name stands, and who answers for it.
#[derive(Clone, Copy)]
pub(super) struct By {
    pub(super) called: &'static str,
    pub(super) person: PersonId,
}

/// Writes down that somebody came at a minute.
pub(super) fn come(
    tx: &Tx<'_>,
    person: &AtDoor,
    by: By,
    at: Timestamp,
    now: Timestamp,
) -> Result<(), DeskError> {
    let told = tell(tx, Verdict::ComeIn, Some(person))?;
    let (attendee, date) = (person.facts.attendee, person.facts.date);
    let new = NewScan {
        key: &format!("{} {}", by.called, uuid::Uuid::now_v7()),
        date,
        attendee: Some(attendee),
        verdict: told.verdict.word(),
        told: &told_json(&told)?,
        door: by.called,
        person: by.person,
        device: None,
        device_at: None,
        at,
        passage: Some(Way::In),
        room: None,
        line: None,
        receipt: "",
    };
    db::add_scan(tx, &new, now)?;
    db::stand(tx, attendee, date)?;
    Ok(())
}
