//! Who looks at which submission now: kept in memory, for a minute at a time.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use jiff::{SignedDuration, Timestamp};
use matricle_core::{PersonId, SubmissionId};

/// So long somebody is said to look after their page last told so.
const LASTS: SignedDuration = SignedDuration::from_secs(60);

/// Who looks at what.
#[derive(Debug, Default)]
pub struct Looking {
    at: Mutex<HashMap<PersonId, (SubmissionId, String, Timestamp)>>,
}

impl Looking {
    /// Somebody looks at a submission, and at no other.
    pub fn look(&self, who: PersonId, name: &str, at: SubmissionId, now: Timestamp) {
        let mut known = self.at.lock().unwrap_or_else(PoisonError::into_inner);
        known.retain(|_, (.., since)| *since + LASTS > now);
        known.insert(who, (at, name.to_owned(), now));
    }

    /// Who else looks at a submission.
    #[must_use]
    pub fn others(&self, who: PersonId, at: SubmissionId, now: Timestamp) -> Vec<String> {
        let known = self.at.lock().unwrap_or_else(PoisonError::into_inner);
        let mut names: Vec<String> = known
            .iter()
            .filter(|(person, (id, _, since))| **person != who && *id == at && *since + LASTS > now)
            .map(|(_, (_, name, _))| name.clone())
            .collect();
        names.sort_unstable();
        names
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn somebody_looks_at_one_thing_and_not_for_ever() {
        let (looking, now) = (Looking::default(), Timestamp::from_second(1_800_000_000).unwrap());
        let (ilse, nia) = (PersonId(1), PersonId(2));
        looking.look(ilse, "Ilse", SubmissionId(7), now);
        assert_eq!(looking.others(nia, SubmissionId(7), now), ["Ilse"]);
        assert!(looking.others(ilse, SubmissionId(7), now).is_empty());
        assert!(looking.others(nia, SubmissionId(7), now + LASTS).is_empty());
        looking.look(ilse, "Ilse", SubmissionId(8), now);
        assert!(looking.others(nia, SubmissionId(7), now).is_empty());
    }
}
