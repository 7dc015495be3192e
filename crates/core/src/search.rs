//! Searching by words that may be mistyped.

/// The fewest letters of a word for one slip to be forgiven, and for two.
const FORGIVING: [(usize, usize); 2] = [(8, 2), (4, 1)];
/// Most words that stand in for one.
const MOST: usize = 40;

/// Whether two words are at most `most` slips apart: a letter too many, too few, another
/// one, or two neighbours swapped (optimal string alignment distance).
#[must_use]
pub fn is_close(a: &str, b: &str, most: usize) -> bool {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
    if a.len().abs_diff(b.len()) > most {
        return false;
    }
    let mut before: Vec<usize> = Vec::new();
    let mut last: Vec<usize> = (0..=b.len()).collect();
    for i in 1..=a.len() {
        let mut row = vec![i];
        for j in 1..=b.len() {
            let change = last[j - 1] + usize::from(a[i - 1] != b[j - 1]);
            let mut least = change.min(last[j] + 1).min(row[j - 1] + 1);
            if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                least = least.min(before[j - 2] + 1);
            }
            row.push(least);
        }
        if row.iter().all(|n| *n > most) {
            return false;
        }
        before = std::mem::replace(&mut last, row);
    }
    last[b.len()] <= most
}

/// Words of a vocabulary that a typed word may stand for: those that begin with it, and
/// when there are none, those that are a slip or two away, begun or whole.
#[must_use]
pub fn alternatives(typed: &str, vocabulary: &[String]) -> Vec<String> {
    let begun: Vec<String> =
        vocabulary.iter().filter(|w| w.starts_with(typed)).take(MOST).cloned().collect();
    if !begun.is_empty() {
        return begun;
    }
    let length = typed.chars().count();
    let Some((_, most)) = FORGIVING.into_iter().find(|(least, _)| length >= *least) else {
        return Vec::new();
    };
    let close = |word: &String| {
        let start: String = word.chars().take(length).collect();
        is_close(typed, word, most) || is_close(typed, &start, most)
    };
    vocabulary.iter().filter(|w| close(w)).take(MOST).cloned().collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn slips_are_forgiven_but_short_words_are_taken_as_typed() {
        let words: Vec<String> =
            ["candle", "candles", "microscopy", "mead", "meadow", "bee"].map(String::from).to_vec();
        let find = |typed: &str| alternatives(typed, &words);
        assert_eq!(find("cand"), ["candle", "candles"]);
        assert_eq!(find("cnadle"), ["candle", "candles"]);
        assert_eq!(find("micrscopi"), ["microscopy"]);
        assert_eq!(find("meda"), ["mead", "meadow"]);
        assert!(find("bex").is_empty());
        assert!(find("wxyz").is_empty());
    }

    proptest! {
        /// One slip of any kind is always found, in both directions.
        #[test]
        fn one_slip_is_always_found(word in "[a-z]{4,12}", at in 0usize..12, other in "[a-z]", kind in 0u8..4) {
            let mut letters: Vec<char> = word.chars().collect();
            let at = at % letters.len();
            match kind {
                0 => { letters.remove(at); }
                1 => letters.insert(at, other.chars().next().unwrap()),
                2 => letters[at] = other.chars().next().unwrap(),
                _ => { let b = (at + 1) % letters.len(); if b > at { letters.swap(at, b); } }
            }
            let typed: String = letters.into_iter().collect();
            prop_assert!(is_close(&typed, &word, 1) && is_close(&word, &typed, 1));
            let far = typed.clone() + "xyz";
            prop_assert!(!is_close(&typed, &far, 2));
        }
    }
}
