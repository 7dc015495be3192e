//! Marks that a house gives its kinds of events, so that a month can be read at a glance.

/// A shape; what it stands for is said beside it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Mark {
    /// Six corners.
    Cell,
    /// A drop.
    Drop,
    /// A leaf.
    Leaf,
    /// Three corners.
    Hill,
    /// Four corners, on one of them.
    Kite,
    /// Round, and empty.
    Ring,
    /// Two bars.
    Bars,
    /// Half a round.
    Half,
    /// A bar across another.
    Crossing,
    /// Up and down.
    Wave,
}

impl Mark {
    /// All marks.
    pub const ALL: [Self; 10] = [
        Self::Cell,
        Self::Drop,
        Self::Leaf,
        Self::Hill,
        Self::Kite,
        Self::Ring,
        Self::Bars,
        Self::Half,
        Self::Crossing,
        Self::Wave,
    ];

    /// The word for it, as stored and as shown.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Cell => "cell",
            Self::Drop => "drop",
            Self::Leaf => "leaf",
            Self::Hill => "hill",
            Self::Kite => "kite",
            Self::Ring => "ring",
            Self::Bars => "bars",
            Self::Half => "half",
            Self::Crossing => "crossing",
            Self::Wave => "wave",
        }
    }

    /// Finds a mark by its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|m| m.word() == word)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_mark_is_found_by_its_word_and_no_two_share_one() {
        for (i, mark) in Mark::ALL.into_iter().enumerate() {
            assert_eq!(Mark::from_word(mark.word()), Some(mark));
            assert!(Mark::ALL[..i].iter().all(|m| m.word() != mark.word()));
        }
        assert_eq!(Mark::from_word("none"), None);
    }
}
