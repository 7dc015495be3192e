//! Finding people of a date by name, among a hundred thousand while somebody stands there.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use jiff::{SignedDuration, Timestamp};
use matricle_core::door::names::{Everybody, Typed};
use matricle_core::{AttendeeId, DateId};
use matricle_store::Connection;
use matricle_store::door::{self as db, AtDoor};

use crate::DeskError;

/// Most people that are shown for a name.
const MOST: usize = 30;
/// So many with the letters that were typed are enough; of fewer, those near to them come after.
const ENOUGH: usize = 6;
/// Of more people than this the letters alone are looked for among the names made ready as well:
/// reading all of them takes longer than somebody waits.
const MANY: u32 = 10_000;
/// Names made ready are looked at again after this long.
const STAY: SignedDuration = SignedDuration::from_secs(60);
/// Most dates whose names are kept ready.
const DATES: usize = 8;

/// Names made ready, by date. A name that was corrected within the last minute may be missed by a
/// slip; whoever is new is not.
#[derive(Debug, Default)]
pub struct Names {
    known: Mutex<HashMap<DateId, Known>>,
}

#[derive(Debug, Clone)]
struct Known {
    at: Timestamp,
    /// How many there were, and the key of the latest.
    of: (u32, i64),
    everybody: Arc<Everybody>,
}

impl Names {
    fn get(
        &self,
        conn: &Connection,
        date: DateId,
        of: (u32, i64),
        now: Timestamp,
    ) -> Result<Arc<Everybody>, DeskError> {
        {
            let known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
            let fresh = |k: &&Known| k.of == of && now.duration_since(k.at).abs() < STAY;
            if let Some(known) = known.get(&date).filter(fresh) {
                return Ok(known.everybody.clone());
            }
        }
        let (mut everybody, mut words) = Everybody::begin();
        db::each_name(conn, date, |id, name| everybody.add(&mut words, id, name))?;
        let everybody = Arc::new(everybody);
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= DATES {
            known.clear();
        }
        known.insert(date, Known { at: now, of, everybody: everybody.clone() });
        Ok(everybody)
    }
}

/// People whose names have the words that were typed, and if those are few the nearest others.
pub(super) fn by_name(
    conn: &Connection,
    names: &Names,
    date: DateId,
    (words, typed): (&str, &Typed),
    now: Timestamp,
) -> Result<Vec<AtDoor>, DeskError> {
    let of = db::how_many(conn, date)?;
    let mut found = match of.0 {
        many if many > MANY && !typed.is_empty() => Vec::new(),
        _ => db::by_words(conn, date, words, 30)?,
    };
    if found.len() >= ENOUGH || typed.is_empty() {
        return Ok(found);
    }
    let near: Vec<(u32, AttendeeId)> = names.get(conn, date, of, now)?.nearest(typed, MOST);
    for (_, id) in near {
        if found.len() >= MOST {
            break;
        }
        if found.iter().all(|p| p.facts.attendee != id) {
            let stands = |p: &AtDoor| p.facts.state.stands() && !p.facts.test;
            found.extend(db::by_id(conn, id)?.filter(stands));
        }
    }
    Ok(found)
}
