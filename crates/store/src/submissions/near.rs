//! What could be the same as a submission: what is on within half a day of one of its dates.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;

use jiff::civil::DateTime;
use jiff::{SignedDuration, Timestamp};
use matricle_core::SubmissionId;
use matricle_core::review::checks::Other;
use matricle_core::review::likeness::Sample;
use rusqlite::Connection;

use crate::convert::InOrder;
use crate::{Doing, StoreError, us};

/// Something that may be the same.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Candidate {
    /// What.
    pub other: Other,
    /// Its words, time and place.
    pub sample: Sample,
}

/// Most that are compared for one date.
const MOST: u32 = 400;

/// Published events and submissions that wait, with a date within thirteen hours of one of these
/// instants; not the submission itself, nor the event that it became. The text is as it is
/// stored.
pub fn candidates(
    conn: &Connection,
    of: SubmissionId,
    event: Option<i64>,
    starts: &[Timestamp],
) -> Result<Vec<Candidate>, StoreError> {
    let read = || -> rusqlite::Result<Vec<Candidate>> {
        let mut found: BTreeMap<Other, Sample> = BTreeMap::new();
        let mut events = conn.prepare_cached(
            "SELECT e.id, e.title, e.lead || ' ' || e.description, v.name || coalesce(', ' || r.name, ''), d.starts
             FROM dates d JOIN events e ON e.id = d.event_id JOIN venues v ON v.id = d.venue_id
             LEFT JOIN rooms r ON r.id = d.room_id
             WHERE d.starts_at BETWEEN ?1 AND ?2 AND e.state = 'published' AND e.thrown_at IS NULL
                AND d.called_off = '' AND e.id <> ?3
                AND NOT EXISTS (SELECT 1 FROM slot_plans sp WHERE sp.event_id = e.id) LIMIT ?4",
        )?;
        let mut waiting = conn.prepare_cached(
            "SELECT s.id, s.title, s.typed, sd.starts FROM submission_dates sd
             JOIN submissions s ON s.id = sd.submission_id
             WHERE sd.starts_at BETWEEN ?1 AND ?2 AND s.id <> ?3 AND s.waits_since IS NOT NULL
                AND s.state = 'received' LIMIT ?4",
        )?;
        for at in starts {
            let half = SignedDuration::from_hours(13);
            let from = us(at.saturating_sub(half).unwrap_or(*at));
            let until = us(at.saturating_add(half).unwrap_or(*at));
            let rows = events.query_map((from, until, event.unwrap_or(0), MOST), |row| {
                let mut c = InOrder::from(row, 0);
                Ok(Candidate {
                    other: Other::Event(c.next()?),
                    sample: Sample {
                        title: c.next()?,
                        text: c.next()?,
                        place: c.next()?,
                        starts: vec![c.word("dates.starts", |t| t.parse().ok())?],
                    },
                })
            })?;
            for row in rows {
                let Candidate { other, sample } = row?;
                add(&mut found, other, sample);
            }
            let rows = waiting.query_map((from, until, of.0, MOST), |row| {
                let mut c = InOrder::from(row, 0);
                let (other, title): (_, String) = (Other::Submission(c.next()?), c.next()?);
                let typed = c.word("submissions.typed", |t| {
                    serde_json::from_str::<matricle_core::review::submission::Typed>(t).ok()
                })?;
                let starts: DateTime = c.word("submission_dates.starts", |t| t.parse().ok())?;
                Ok(Candidate {
                    other,
                    sample: Sample {
                        title,
                        text: typed.get("description").to_owned(),
                        place: typed.get("place").to_owned(),
                        starts: vec![starts],
                    },
                })
            })?;
            for row in rows {
                let Candidate { other, sample } = row?;
                add(&mut found, other, sample);
            }
        }
        let whole = |(other, mut sample): (Other, Sample)| {
            sample.starts.sort_unstable();
            sample.starts.dedup();
            Candidate { other, sample }
        };
        Ok(found.into_iter().map(whole).collect())
    };
    read().doing("looking for what is nearly the same")
}

/// A date of something that was found before belongs to it.
fn add(found: &mut BTreeMap<Other, Sample>, other: Other, sample: Sample) {
    match found.entry(other) {
        Entry::Occupied(known) => known.into_mut().starts.extend(sample.starts),
        Entry::Vacant(free) => {
            free.insert(sample);
        }
    }
}
