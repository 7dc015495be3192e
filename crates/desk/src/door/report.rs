//! What somebody has to look into after devices were without network.

use jiff::Timestamp;
use matricle_core::DateId;
use matricle_core::door::passages::{Finding, Passage, standing};
use matricle_core::people::staff::{Right, require};
use matricle_store::door as db;
use matricle_store::people::Staff;

use super::Outcome;
use crate::{Desk, DeskError};

/// What a line is about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum About {
    /// Somebody was let in twice: by the passage that stands, and by the other.
    Twice(Passage, Passage),
    /// What core found when it was settled.
    Found(Finding),
}

/// A line of the report.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReportLine {
    /// The scan it is about.
    pub scan: i64,
    /// What it is about.
    pub about: About,
    /// The name to look for; empty when nobody's ticket was shown.
    pub name: String,
    /// Which door.
    pub door: String,
    /// When it happened.
    pub at: Timestamp,
    /// When it arrived, if that was later.
    pub arrived_at: Option<Timestamp>,
    /// Who looked into it, and when.
    pub looked: Option<(Timestamp, String)>,
}

/// The report of a date: those let in twice, and all else that devices could not know, in the
/// order in which it happened.
pub async fn report(
    desk: &Desk,
    staff: &Staff,
    date: DateId,
) -> Result<Vec<ReportLine>, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store.read(move |conn| report_in(conn, date)).await
}

/// [`report`], of a connection.
pub fn report_in(
    conn: &matricle_store::Connection,
    date: DateId,
) -> Result<Vec<ReportLine>, DeskError> {
    let mut lines = Vec::new();
    for (_, name, passages) in db::in_more_than_once(conn, date)? {
        for (first, second) in standing(&passages).twice {
            let scan = db::scan_by_id(conn, second.scan)?.ok_or(DeskError::NotFound)?;
            lines.push(ReportLine {
                scan: scan.id,
                about: About::Twice(first, second.clone()),
                name: name.clone(),
                door: second.door,
                at: second.at,
                arrived_at: scan.arrived_at,
                looked: scan.looked,
            });
        }
    }
    for scan in db::with_a_line(conn, date)? {
        let Some(line) = scan.line.clone() else { continue };
        let (scan_id, arrived_at, looked) = (scan.id, scan.arrived_at, scan.looked.clone());
        let outcome = Outcome::of(scan)?;
        lines.push(ReportLine {
            scan: scan_id,
            about: About::Found(line),
            name: outcome.told.name,
            door: outcome.door,
            at: outcome.at,
            arrived_at,
            looked,
        });
    }
    lines.sort_by_key(|l| (l.at, l.scan));
    Ok(lines)
}

/// Marks a line as looked into, or takes that back.
///
/// # Errors
/// There is no such scan; the role may not.
pub async fn look_into(desk: &Desk, staff: &Staff, scan: i64, done: bool) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    desk.store
        .write(move |tx| {
            let by = Some(turn.by.name.as_str()).filter(|_| done);
            match db::set_looked(tx, scan, by, turn.now)? {
                true => Ok(()),
                false => Err(DeskError::NotFound),
            }
        })
        .await
}
