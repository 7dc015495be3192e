//! Replies to an invitation: yes, no, maybe.

use jiff::Timestamp;

/// What somebody who was invited says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Reply {
    /// They are coming.
    Yes,
    /// They do not know yet.
    Maybe,
    /// They are not coming.
    No,
}

impl Reply {
    /// All of them, in the order of the buttons.
    pub const ALL: [Self; 3] = [Self::Yes, Self::Maybe, Self::No];

    /// The word for it, as stored and as shown.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Yes => "yes",
            Self::Maybe => "maybe",
            Self::No => "no",
        }
    }

    /// Finds a reply by its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|r| r.word() == word)
    }
}

/// What booking an event asks of somebody who was invited.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Asks {
    /// Dates that can be chosen; one for a course.
    pub dates: usize,
    /// Ticket types that can be chosen.
    pub tickets: usize,
    /// What the first of them costs, in minor units.
    pub minor: i64,
    /// Something has to be answered.
    pub answers: bool,
    /// The organiser has to say yes.
    pub after_yes: bool,
}

/// Whether a yes books at once: nothing is to be chosen, asked or paid, and nobody has to say yes.
#[must_use]
pub const fn books_at_once(asks: Asks) -> bool {
    asks.dates == 1 && asks.tickets == 1 && asks.minor == 0 && !asks.answers && !asks.after_yes
}

/// A reply as it stands: the latest of whoever was invited.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Replied {
    /// What they say.
    pub reply: Reply,
    /// A word with it; may be empty.
    pub word: String,
    /// When.
    pub at: Timestamp,
}

/// Where somebody who was invited stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stands {
    /// They said so.
    Said(Reply),
    /// They have said nothing, but have booked.
    Booked,
    /// Their address takes no mail.
    Bounced,
    /// They have said nothing.
    None,
    /// No invitation has gone to them yet.
    NotAsked,
}

impl Stands {
    /// Where somebody stands: what they said comes before what they did, and that before what
    /// became of the mail.
    #[must_use]
    pub fn of(said: Option<Reply>, booked: bool, bounced: bool, asked: bool) -> Self {
        match said {
            Some(reply) => Self::Said(reply),
            None if booked => Self::Booked,
            None if bounced => Self::Bounced,
            None if asked => Self::None,
            None => Self::NotAsked,
        }
    }

    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Said(reply) => reply.word(),
            Self::Booked => "booked",
            Self::Bounced => "bounced",
            Self::None => "none",
            Self::NotAsked => "not asked",
        }
    }

    /// All of them, in the order of the strip.
    pub const ALL: [Self; 7] = [
        Self::Said(Reply::Yes),
        Self::Booked,
        Self::Said(Reply::Maybe),
        Self::Said(Reply::No),
        Self::None,
        Self::Bounced,
        Self::NotAsked,
    ];

    /// Whether they may be asked once more, having been `asked` so often: once, and only who has
    /// neither replied nor booked, where mail arrives.
    #[must_use]
    pub const fn may_be_asked_again(self, asked: u32) -> bool {
        matches!(self, Self::None) && asked == 1
    }
}

/// How many stand where, in the order of [`Stands::ALL`].
#[must_use]
pub fn counts(all: impl IntoIterator<Item = Stands>) -> [u32; 7] {
    let mut counts = [0; 7];
    for stands in all {
        if let Some(at) = Stands::ALL.iter().position(|s| *s == stands) {
            counts[at] += 1;
        }
    }
    counts
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Whoever has replied is never asked again; everybody is counted once.
        #[test]
        fn nobody_is_asked_again_who_has_replied(
            people in prop::collection::vec((0usize..4, any::<(bool, bool, bool)>()), 0..40),
        ) {
            let all: Vec<Stands> = people.iter().map(|(said, (booked, bounced, asked))| {
                Stands::of(Reply::ALL.get(*said).copied(), *booked, *bounced, *asked)
            }).collect();
            for (stands, (said, (booked, bounced, asked))) in all.iter().zip(&people) {
                prop_assert!(!stands.may_be_asked_again(2), "never a third time");
                prop_assert_eq!(
                    stands.may_be_asked_again(1),
                    *said == 3 && !booked && !bounced && *asked,
                );
            }
            let counted: u32 = counts(all).iter().sum();
            prop_assert_eq!(counted as usize, people.len());
        }
    }

    #[test]
    fn words_lead_back() {
        for reply in Reply::ALL {
            assert_eq!(Reply::from_word(reply.word()), Some(reply));
        }
        assert_eq!(Reply::from_word("perhaps"), None);
    }
}
