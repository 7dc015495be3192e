//! Words to search by: lower case, without accents and apostrophes.

pub mod accent;
pub mod address;
pub mod codes;
pub mod links;
pub mod marks;
pub mod pasted;
pub mod search;
pub mod text;

use unicode_normalization::UnicodeNormalization;
use unicode_normalization::char::is_combining_mark;

/// Folds a text so that `Siân O'Hara` is found by `sian ohara`.
///
/// Compatibility decomposition (Unicode annex 15, NFKD) without combining marks,
/// lower case, apostrophes dropped, every other run of what is no letter, digit,
/// `@` or `.` one space.
#[must_use]
pub fn fold(text: &str) -> String {
    let mut folded = String::with_capacity(text.len());
    // Most words are plain letters: nothing of them is put together from parts.
    if text.is_ascii() {
        for c in text.chars() {
            match c.to_ascii_lowercase() {
                '\'' => {}
                c if c.is_ascii_alphanumeric() || c == '@' || c == '.' => folded.push(c),
                _ if folded.ends_with(' ') || folded.is_empty() => {}
                _ => folded.push(' '),
            }
        }
        folded.truncate(folded.trim_end().len());
        return folded;
    }
    for c in text.nfkd().filter(|&c| !is_combining_mark(c)).flat_map(char::to_lowercase) {
        match c {
            '\'' | '\u{2019}' | '\u{2bc}' => {}
            'ß' => folded.push_str("ss"),
            'ø' => folded.push('o'),
            'ł' => folded.push('l'),
            'æ' => folded.push_str("ae"),
            c if c.is_alphanumeric() || c == '@' || c == '.' => folded.push(c),
            _ if folded.ends_with(' ') || folded.is_empty() => {}
            _ => folded.push(' '),
        }
    }
    folded.truncate(folded.trim_end().len());
    folded
}

/// Most words that are looked for at once.
pub const MOST_WORDS: usize = 12;
/// Most letters of a word that is looked for.
const LONGEST_WORD: usize = 100;

/// The words somebody typed to look for, as they were typed: a bounded number of bounded words,
/// since each is compared with every row.
#[must_use]
pub fn looked_for(typed: &str) -> Vec<String> {
    let words = typed.split_whitespace().take(MOST_WORDS);
    words.map(|word| word.chars().take(LONGEST_WORD).collect()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_more_is_looked_for_than_a_person_types() {
        assert_eq!(looked_for(" to  pay\tsolheim "), ["to", "pay", "solheim"]);
        assert_eq!(looked_for(&"é ".repeat(13)).len(), MOST_WORDS, "not the thirteenth");
        assert_eq!(looked_for(&"é".repeat(101))[0].chars().count(), LONGEST_WORD);
    }

    #[test]
    fn accents_apostrophes_and_case_do_not_hide_a_name() {
        assert_eq!(fold("  Siân  O’Hara-Łuczak "), "sian ohara luczak");
        assert_eq!(fold("Søren STRAẞE ﬁn"), "soren strasse fin");
        assert_eq!(fold("KRTB-XNLD marit@post.example"), "krtb xnld marit@post.example");
        assert_eq!(fold("%_\\"), "");
    }
}
