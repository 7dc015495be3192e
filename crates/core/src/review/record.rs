//! The record of a submitter: what became of what they sent, and whether they are to be trusted.

/// What became of somebody's submissions, joined ones apart.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Record {
    /// Accepted.
    pub accepted: u32,
    /// Of those, corrected before.
    pub corrected: u32,
    /// Turned down.
    pub turned_down: u32,
    /// Put aside as spam.
    pub spam: u32,
    /// Complaints that a reviewer found right.
    pub complaints: u32,
    /// Accepted without a correction, one after the other, since anything else happened.
    pub in_a_row: u32,
    /// What was corrected most often, by its label, with how often.
    pub usual: Vec<(String, u32)>,
}

impl Record {
    /// All that were decided on.
    #[must_use]
    pub const fn decided(&self) -> u32 {
        self.accepted + self.turned_down + self.spam
    }

    /// In a sentence.
    #[must_use]
    pub fn words(&self) -> String {
        if self.decided() == 0 {
            return "The first from this address.".into();
        }
        let mut said = format!("{} of {} accepted", self.accepted, self.decided());
        if self.corrected > 0 {
            said.push_str(&format!(", {} of them after a correction", self.corrected));
        }
        if let Some((what, _)) = self.usual.first() {
            said.push_str(&format!(" (mostly: {what})"));
        }
        if self.spam > 0 {
            said.push_str(&format!("; {} put aside as spam", self.spam));
        }
        if self.complaints > 0 {
            said.push_str(&format!("; {} complained of", self.complaints));
        }
        said.push('.');
        said
    }

    /// Whether somebody is proposed to be trusted: so many were accepted in a row without a
    /// correction. 0 proposes nobody.
    #[must_use]
    pub const fn earns_trust(&self, after: u32) -> bool {
        after > 0 && self.in_a_row >= after && self.complaints == 0
    }
}

/// How one submission ended, the oldest first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Ended {
    /// Accepted, after corrections to these fields.
    Accepted(Vec<String>),
    /// Turned down.
    TurnedDown,
    /// Spam.
    Spam,
    /// A complaint about it was found right.
    Complained,
}

/// Gathers a record.
#[must_use]
pub fn gather(ends: impl IntoIterator<Item = Ended>) -> Record {
    let mut record = Record::default();
    for end in ends {
        match end {
            Ended::Accepted(fields) if fields.is_empty() => {
                record.accepted += 1;
                record.in_a_row += 1;
            }
            Ended::Accepted(fields) => {
                record.accepted += 1;
                record.corrected += 1;
                record.in_a_row = 0;
                for field in fields {
                    match record.usual.iter_mut().find(|(f, _)| *f == field) {
                        Some((_, n)) => *n += 1,
                        None => record.usual.push((field, 1)),
                    }
                }
            }
            Ended::TurnedDown => {
                record.turned_down += 1;
                record.in_a_row = 0;
            }
            Ended::Spam => {
                record.spam += 1;
                record.in_a_row = 0;
            }
            Ended::Complained => {
                record.complaints += 1;
                record.in_a_row = 0;
            }
        }
    }
    record.usual.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    record
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn trust_is_earned_in_a_row_and_lost_by_anything_else() {
        let plain = || Ended::Accepted(Vec::new());
        assert!(gather([plain(), plain(), plain()]).earns_trust(3));
        assert!(!gather([plain(), plain(), plain()]).earns_trust(0), "the house trusts nobody");
        for end in [
            Ended::TurnedDown,
            Ended::Spam,
            Ended::Complained,
            Ended::Accepted(vec!["Where".into()]),
        ] {
            assert!(!gather([plain(), plain(), end.clone(), plain()]).earns_trust(3), "{end:?}");
        }
        // Whoever was complained of is never proposed again: a reviewer who wants to can.
        assert!(!gather([Ended::Complained, plain(), plain(), plain()]).earns_trust(3));
        let corrected =
            |fields: &[&str]| Ended::Accepted(fields.iter().map(|f| (*f).to_owned()).collect());
        let record = gather([
            corrected(&["Title", "Where"]),
            corrected(&["Where"]),
            Ended::TurnedDown,
            plain(),
        ]);
        assert_eq!(
            record.words(),
            "3 of 4 accepted, 2 of them after a correction (mostly: Where)."
        );
    }
}
