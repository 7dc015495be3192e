//! Marks that a house gives its kinds of events, so that a month can be read at a glance.

crate::worded! {
    /// A shape; what it stands for is said beside it.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
    pub enum Mark {
        /// Six corners.
        Cell = "cell",
        /// A drop.
        Drop = "drop",
        /// A leaf.
        Leaf = "leaf",
        /// Three corners.
        Hill = "hill",
        /// Four corners, on one of them.
        Kite = "kite",
        /// Round, and empty.
        Ring = "ring",
        /// Two bars.
        Bars = "bars",
        /// Half a round.
        Half = "half",
        /// A bar across another.
        Crossing = "crossing",
        /// Up and down.
        Wave = "wave",
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
