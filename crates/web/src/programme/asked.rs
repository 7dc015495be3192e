//! What the page of an event is asked for, in its address or a form.

use matricle_core::seats::Wanted;
use matricle_core::{DateId, TicketTypeId};
use matricle_desk::programme::Looking;

/// What the address or a form asks for: a date and quantities.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct ProgrammeQuery {
    pub(super) date: Option<DateId>,
    pub(super) wanted: Vec<Wanted>,
    pub(crate) given: bool,
    pub(super) word: String,
    pub(super) week: Option<jiff::civil::Date>,
    pub(crate) preview: String,
    pub(crate) test: bool,
}

impl ProgrammeQuery {
    /// Reads `date`, `q_{ticket}`, `step` and the like. Numbers that are none count as zero.
    pub(super) fn read<'f>(fields: impl Iterator<Item = (&'f str, &'f str)>) -> Self {
        let mut asked = Self::default();
        let mut step = None;
        for (name, value) in fields {
            match name {
                "date" => asked.date = value.parse().ok().map(DateId),
                "word" => asked.word = value.trim().chars().take(80).collect(),
                "week" => asked.week = value.parse().ok().filter(crate::parts::places::near),
                "preview" => asked.preview = value.into(),
                "test" => asked.test = value == "yes",
                "step" => {
                    step = value.split_once(':').and_then(|(id, by)| {
                        Some((TicketTypeId(id.parse().ok()?), by.parse::<i64>().ok()?))
                    });
                }
                name => {
                    if let Some(id) = name.strip_prefix("q_").and_then(|id| id.parse().ok()) {
                        asked.given = true;
                        let quantity = value.trim().parse::<u32>().unwrap_or(0);
                        let ticket = TicketTypeId(id);
                        // A field that is there twice says what it says last.
                        asked.wanted.retain(|w| w.ticket != ticket);
                        asked.wanted.push(Wanted { ticket, quantity });
                    }
                }
            }
        }
        if let Some((ticket, by)) = step
            && let Some(w) = asked.wanted.iter_mut().find(|w| w.ticket == ticket)
        {
            let after = i64::from(w.quantity).saturating_add(by).max(0);
            w.quantity = u32::try_from(after).unwrap_or(u32::MAX);
        }
        asked
    }

    pub(super) fn of(pairs: &[(String, String)]) -> Self {
        Self::read(pairs.iter().map(|(n, v)| (n.as_str(), v.as_str())))
    }

    /// Only what everybody's page has: perhaps a date, perhaps a week.
    pub(crate) fn is_plain(&self) -> bool {
        !self.given && self.word.is_empty() && self.preview.is_empty() && !self.test
    }

    pub(crate) fn looking(&self, slug: String) -> Looking {
        Looking { slug, date: self.date, week: self.week, preview: self.preview.clone() }
    }

    /// Fields that go along from step to step.
    pub(super) fn carried(&self) -> Vec<(&'static str, String)> {
        let mut carried = Vec::new();
        if !self.preview.is_empty() {
            carried.push(("preview", self.preview.clone()));
        }
        if let Some(week) = self.week {
            carried.push(("week", week.to_string()));
        }
        if self.test {
            carried.push(("test", "yes".into()));
        }
        carried
    }

    pub(crate) fn address(&self, slug: &str) -> String {
        let mut address = format!("/events/{slug}?");
        if let Some(date) = self.date {
            address.push_str(&format!("date={date}&"));
        }
        for w in self.wanted.iter().filter(|w| w.quantity > 0) {
            address.push_str(&format!("q_{}={}&", w.ticket, w.quantity));
        }
        if !self.word.is_empty() {
            address.push_str(&format!("word={}&", crate::address::encode(&self.word)));
        }
        for (name, value) in self.carried() {
            address.push_str(&format!("{name}={}&", crate::address::encode(&value)));
        }
        address.pop();
        address + "#book"
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_and_odd_numbers_are_read_safely() {
        let read = |query: &str| {
            ProgrammeQuery::read(query.split('&').filter_map(|pair| pair.split_once('=')))
        };
        let asked = read("date=3&q_1=2&q_2=0&step=2:1");
        assert_eq!(asked.wanted.iter().map(|w| w.quantity).collect::<Vec<_>>(), [2, 1]);
        assert_eq!(asked.address("pollen"), "/events/pollen?date=3&q_1=2&q_2=1#book");
        let twice = read("q_1=4&q_1=4&q_1=4");
        assert_eq!(twice.wanted.iter().map(|w| w.quantity).collect::<Vec<_>>(), [4]);
        let odd = read("date=x&q_1=-3&q_2=99999999999&q_x=1&step=1:-1&step=9:1");
        assert_eq!(odd.date, None);
        assert!(odd.wanted.iter().all(|w| w.quantity == 0));
    }
}
