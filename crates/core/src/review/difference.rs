//! What differs between two wordings, word by word.

use similar::{ChangeTag, TextDiff};

/// A piece of a wording.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Piece {
    /// In both.
    Same,
    /// In the earlier one only.
    Gone,
    /// In the later one only.
    New,
}

/// Most words of either side that are compared one by one; of more, all is gone and new.
const MOST: usize = 4_000;

/// The pieces of two wordings, in order: those that are *same* and *gone* make the earlier one,
/// those that are *same* and *new* the later one, to the letter.
///
/// # Examples
/// ```
/// use matricle_core::review::difference::{between, Piece};
/// let pieces = between("at seven in the barn", "at eight in the barn");
/// let new: Vec<_> = pieces.iter().filter(|(p, _)| *p == Piece::New).collect();
/// assert_eq!(new, [&(Piece::New, "eight".to_owned())]);
/// ```
#[must_use]
pub fn between(earlier: &str, later: &str) -> Vec<(Piece, String)> {
    let mut pieces: Vec<(Piece, String)> = Vec::new();
    let mut put = |piece: Piece, text: &str| match pieces.last_mut() {
        Some((last, kept)) if *last == piece => kept.push_str(text),
        _ if text.is_empty() => {}
        _ => pieces.push((piece, text.to_owned())),
    };
    let many = |text: &str| text.split_whitespace().count() > MOST;
    if many(earlier) || many(later) {
        if earlier == later {
            put(Piece::Same, earlier);
        } else {
            put(Piece::Gone, earlier);
            put(Piece::New, later);
        }
        return pieces;
    }
    for change in TextDiff::from_words(earlier, later).iter_all_changes() {
        let piece = match change.tag() {
            ChangeTag::Equal => Piece::Same,
            ChangeTag::Delete => Piece::Gone,
            ChangeTag::Insert => Piece::New,
        };
        put(piece, change.value());
    }
    pieces
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Nothing is lost and nothing invented, in either direction.
        #[test]
        fn both_wordings_can_be_put_together_again(a in "[ab c\n.é]{0,60}", b in "[ab c\n.é]{0,60}") {
            let pieces = between(&a, &b);
            let side = |not: Piece| -> String {
                pieces.iter().filter(|(p, _)| *p != not).map(|(_, t)| t.as_str()).collect()
            };
            prop_assert_eq!(side(Piece::New), a.clone());
            prop_assert_eq!(side(Piece::Gone), b.clone());
            prop_assert_eq!(a == b, pieces.iter().all(|(p, _)| *p == Piece::Same));
        }
    }
}
