//! Searching: by words that may be mistyped, and by words that may mean several things.

use crate::state::State;
use crate::words::{MOST_WORDS, fold, looked_for};

/// The fewest letters of a word for one slip to be forgiven, and for two.
const FORGIVING: [(usize, usize); 2] = [(8, 2), (4, 1)];
/// Most words that stand in for one.
const MOST: usize = 40;

/// Whether two words are at most `most` slips apart: a letter too many, too few, another
/// one, or two neighbours swapped (optimal string alignment distance).
#[must_use]
pub fn is_close(a: &str, b: &str, most: usize) -> bool {
    // A slip changes at most two of the letters that a word has at all: that tells most words
    // apart before anything is worked out.
    let letters = |w: &str| w.chars().fold(0_u64, |all, c| all | 1 << (u32::from(c) % 64));
    if a.chars().count().abs_diff(b.chars().count()) > most
        || (letters(a) ^ letters(b)).count_ones() as usize > 2 * most
    {
        return false;
    }
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
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

/// A word of a list's filter, and what it may mean: each is enough.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Term {
    /// The beginnings of words, all of which must be found; empty when a phrase has its own
    /// meaning only.
    pub beginnings: Vec<String>,
    /// States that it names.
    pub states: Vec<State>,
    /// Months that it names, from 1.
    pub months: Vec<u8>,
    /// A day of those months, where a number stands beside the month: `10 december`.
    pub day: Option<u8>,
}

const MONTHS: [&str; 12] = [
    "january",
    "february",
    "march",
    "april",
    "may",
    "june",
    "july",
    "august",
    "september",
    "october",
    "november",
    "december",
];

/// Phrases that mean a state, whole.
const PHRASES: [(&str, State); 2] =
    [("to pay", State::AwaitingPayment), ("awaiting payment", State::AwaitingPayment)];

/// Letters of a state or a month that name it.
const ENOUGH: usize = 3;

/// Reads what was typed over a list of bookings: words in any order, states and months among
/// them, such as `to pay suits december`.
#[must_use]
pub fn terms(typed: &str) -> Vec<Term> {
    let folded = fold(&looked_for(typed).join(" "));
    let words: Vec<&str> =
        folded.split(' ').filter(|w| !w.is_empty()).take(2 * MOST_WORDS).collect();
    let mut terms = Vec::new();
    let mut rest = words.as_slice();
    while let Some((first, after)) = rest.split_first() {
        let phrase = PHRASES.iter().find_map(|(phrase, state)| {
            let parts: Vec<&str> = phrase.split(' ').collect();
            rest.starts_with(&parts).then_some((parts.len(), *state))
        });
        if let Some((long, state)) = phrase {
            terms.push(Term { states: vec![state], ..Term::default() });
            rest = &rest[long..];
            continue;
        }
        let names = |word: &str| first.len() >= ENOUGH && word.starts_with(first);
        let states = State::ALL
            .into_iter()
            .filter(|s| match s {
                State::Requested => names(s.word()) || names("asking"),
                State::AwaitingPayment => names(s.word()) || names("payment"),
                _ => names(s.word()),
            })
            .collect();
        let months = (1u8..).zip(MONTHS).filter(|(_, m)| names(m)).map(|(n, _)| n).collect();
        let letters = |part: &&str| !part.is_empty();
        let beginnings = first
            .split(|c: char| !c.is_alphanumeric())
            .filter(letters)
            .map(str::to_owned)
            .collect();
        let mut term = Term { beginnings, states, months, day: None };
        // `10 december` and `december 10` are a day, not two words.
        if let Some((next, beyond)) = after.split_first() {
            let (number, month) =
                if term.months.is_empty() { (*first, *next) } else { (*next, *first) };
            let number = number.trim_end_matches("th").trim_end_matches(['.', ',']);
            let months: Vec<u8> = (1u8..)
                .zip(MONTHS)
                .filter(|(_, m)| month.len() >= ENOUGH && m.starts_with(month))
                .map(|(n, _)| n)
                .collect();
            let day = number.parse().ok().filter(|d| (1..=31).contains(d));
            if let (Some(day), false) = (day, months.is_empty()) {
                term = Term { months, day: Some(day), ..Term::default() };
                rest = beyond;
                terms.push(term);
                continue;
            }
        }
        // A dot alone asks for nothing.
        if term != Term::default() {
            terms.push(term);
        }
        rest = after;
    }
    terms
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

    #[test]
    fn words_of_a_filter_mean_names_states_and_months() {
        // A number beside a month is a day of it, on either side.
        for typed in ["10 december", "December 10", "10. dec", "dec 10th"] {
            let day = Term { months: vec![12], day: Some(10), ..Term::default() };
            assert_eq!(terms(typed), [day], "{typed}");
        }
        assert_eq!(terms("12 december 10").len(), 2, "the second number is a word");
        assert_eq!(terms("42 december").len(), 2, "no month has 42 days");
        assert_eq!(terms(&"maria ".repeat(3000)).len(), MOST_WORDS, "each is looked for in a row");
        let read = |typed: &str| {
            let said = terms(typed).into_iter().map(|t| {
                let states: Vec<&str> = t.states.iter().map(|s| s.word()).collect();
                format!("{}|{}|{:?}", t.beginnings.join(" "), states.join(","), t.months)
            });
            said.collect::<Vec<_>>()
        };
        assert_eq!(
            read("To pay  suits DECEMBER"),
            ["|awaiting payment|[]", "suits||[]", "december||[12]"]
        );
        assert_eq!(read("pay"), ["pay|awaiting payment|[]"], "or somebody called Payne");
        assert_eq!(read("ju may"), ["ju||[]", "may||[5]"]);
        assert_eq!(read("jun ask"), ["jun||[6]", "ask|requested|[]"]);
        assert_eq!(read("Łukasz.Żak@post.example"), ["lukasz zak post example||[]"]);
        assert_eq!(read(" 'to "), ["to||[]"]);
        assert!(read("  %_ ").is_empty());
    }

    proptest! {
        /// Whatever is typed, each term means something, and what it looks for are plain
        /// beginnings of words.
        #[test]
        fn every_term_means_something(typed in "\\PC{0,40}") {
            for term in terms(&typed) {
                let named = !term.states.is_empty() || !term.months.is_empty();
                prop_assert!(named || !term.beginnings.is_empty());
                prop_assert!(term.beginnings.iter().all(|b| b.chars().all(char::is_alphanumeric) && !b.is_empty()));
            }
        }

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
