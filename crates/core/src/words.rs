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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn accents_apostrophes_and_case_do_not_hide_a_name() {
        assert_eq!(fold("  Siân  O’Hara-Łuczak "), "sian ohara luczak");
        assert_eq!(fold("Søren STRAẞE ﬁn"), "soren strasse fin");
        assert_eq!(fold("KRTB-XNLD marit@post.example"), "krtb xnld marit@post.example");
        assert_eq!(fold("%_\\"), "");
    }
}
