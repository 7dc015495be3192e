//! Sessions: parts of a date with their own room, time and seats.

use jiff::Timestamp;

use crate::SessionId;

/// What signing up needs to know of a session.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CourseFacts {
    /// Its key.
    pub id: SessionId,
    /// When it starts.
    pub from: Timestamp,
    /// When it ends.
    pub until: Timestamp,
    /// Seats; `None` for as many as come.
    pub seats: Option<u32>,
    /// How many have signed up.
    pub taken: u32,
    /// Whether one signs up for it at all.
    pub sign_up: bool,
}

impl CourseFacts {
    /// Seats left, if they are counted.
    #[must_use]
    pub fn left(&self) -> Option<u32> {
        self.seats.map(|s| s.saturating_sub(self.taken))
    }
}

/// Why somebody cannot sign up.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SignUpRefusal {
    /// Everybody may come; nobody signs up.
    #[error("session {session} is open to all")]
    OpenToAll {
        /// Which session.
        session: SessionId,
    },
    /// No such session on this date.
    #[error("session {session} is not part of this date")]
    Unknown {
        /// Which session.
        session: SessionId,
    },
    /// It has begun.
    #[error("session {session} has begun")]
    Begun {
        /// Which session.
        session: SessionId,
    },
    /// No seat is left.
    #[error("session {session} is full")]
    Full {
        /// Which session.
        session: SessionId,
    },
    /// At the same time as another one this person has signed up for.
    #[error("session {session} overlaps {with}")]
    Overlaps {
        /// Which session.
        session: SessionId,
        /// The other one.
        with: SessionId,
    },
}

/// Decides what becomes of one person's sign-ups: `had` before, `wants` now. Returns
/// those to add and those to take off.
///
/// # Errors
/// The first session in the way.
pub fn choose(
    sessions: &[CourseFacts],
    had: &[SessionId],
    wants: &[SessionId],
    now: Timestamp,
) -> Result<(Vec<SessionId>, Vec<SessionId>), SignUpRefusal> {
    let find = |session: SessionId| {
        sessions.iter().find(|s| s.id == session).ok_or(SignUpRefusal::Unknown { session })
    };
    let mut chosen: Vec<&CourseFacts> = Vec::new();
    for &session in wants {
        let facts = find(session)?;
        if chosen.iter().any(|c| c.id == session) {
            continue;
        }
        if !facts.sign_up {
            return Err(SignUpRefusal::OpenToAll { session });
        }
        if !had.contains(&session) {
            if facts.from <= now {
                return Err(SignUpRefusal::Begun { session });
            }
            if facts.left() == Some(0) {
                return Err(SignUpRefusal::Full { session });
            }
        }
        if let Some(other) = chosen.iter().find(|o| o.from < facts.until && facts.from < o.until) {
            return Err(SignUpRefusal::Overlaps { session, with: other.id });
        }
        chosen.push(facts);
    }
    let added = chosen.iter().map(|f| f.id).filter(|id| !had.contains(id)).collect();
    let dropped = had.iter().copied().filter(|id| !wants.contains(id)).collect();
    Ok((added, dropped))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn t(minute: i64) -> Timestamp {
        Timestamp::from_second(minute * 60).unwrap()
    }

    fn session(id: i64, from: i64, until: i64, seats: Option<u32>, taken: u32) -> CourseFacts {
        CourseFacts {
            id: SessionId(id),
            from: t(from),
            until: t(until),
            seats,
            taken,
            sign_up: true,
        }
    }

    proptest! {
        /// Whoever is let in overlaps nothing and takes no seat that is not there.
        #[test]
        fn nobody_sits_in_two_rooms_or_on_a_seat_that_is_not_there(
            raw in prop::collection::vec((0i64..200, 10i64..80, prop::option::of(0u32..3), 0u32..3), 1..8),
            had in prop::collection::btree_set(0i64..8, 0..3), wants in prop::collection::vec(0i64..9, 0..5),
        ) {
            let sessions: Vec<CourseFacts> = (0i64..).zip(&raw)
                .map(|(id, &(from, length, seats, taken))| session(id, from, from + length, seats, taken)).collect();
            let ids = |list: &[i64]| list.iter().map(|&id| SessionId(id)).collect::<Vec<_>>();
            let had = ids(&had.into_iter().collect::<Vec<_>>());
            let wants = ids(&wants);
            if let Ok((added, dropped)) = choose(&sessions, &had, &wants, t(-1)) {
                for id in &added {
                    let facts = sessions.iter().find(|s| s.id == *id).unwrap();
                    prop_assert!(facts.left() != Some(0) && !had.contains(id));
                }
                prop_assert!(dropped.iter().all(|id| had.contains(id) && !wants.contains(id)));
                for a in &wants {
                    for b in wants.iter().filter(|b| *b != a) {
                        let of = |id| sessions.iter().find(|s| s.id == id).unwrap();
                        prop_assert!(of(*a).until <= of(*b).from || of(*b).until <= of(*a).from);
                    }
                }
            }
        }
    }

    #[test]
    fn each_refusal_names_the_session() {
        let mut open = session(4, 300, 330, None, 0);
        open.sign_up = false;
        let all = [
            session(1, 60, 120, Some(10), 3),
            session(2, 90, 150, None, 0),
            session(3, 0, 30, Some(2), 2),
            open,
        ];
        let ask = |wants: &[i64], now| {
            choose(&all, &[], &wants.iter().map(|&w| SessionId(w)).collect::<Vec<_>>(), t(now))
        };
        let (one, two) = (SessionId(1), SessionId(2));
        assert_eq!(ask(&[1, 2], -5), Err(SignUpRefusal::Overlaps { session: two, with: one }));
        assert_eq!(ask(&[3], -5), Err(SignUpRefusal::Full { session: SessionId(3) }));
        assert_eq!(ask(&[1], 60), Err(SignUpRefusal::Begun { session: one }));
        assert_eq!(ask(&[4], -5), Err(SignUpRefusal::OpenToAll { session: SessionId(4) }));
        assert_eq!(ask(&[9], -5), Err(SignUpRefusal::Unknown { session: SessionId(9) }));
        assert_eq!(ask(&[1, 1], -5), Ok((vec![one], vec![])));
    }
}
