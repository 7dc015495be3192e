//! What people type, made fit to keep: one line is one line, and nothing in it is unseen.
//!
//! Every form, import and configuration passes through here once, at the edge; what is kept
//! can then stand in a mail's header (RFC 5322 §2.2), a calendar file (RFC 5545 §3.3.11), an
//! XML document (XML 1.0 §2.2), a PDF and an address without another look.

use unicode_normalization::UnicodeNormalization;

/// Whether a character is never kept: it says nothing to a reader, and may turn the writing
/// round (Unicode annex 9), end a line, or be no text at all.
const fn is_unseen(c: char) -> bool {
    matches!(
        c,
        '\u{200b}' | '\u{2060}'..='\u{2064}' | '\u{feff}' // widths of nothing
            | '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' // direction marks
            | '\u{2066}'..='\u{206f}'
            | '\u{fff9}'..='\u{fffb}' | '\u{fffe}' | '\u{ffff}' | '\u{fdd0}'..='\u{fdef}'
            | '\u{e0000}'..='\u{e007f}'
    ) || (c as u32) & 0xfffe == 0xfffe
}

/// Whether a character ends a line: those of Unicode annex 14 and the separators of old
/// machines.
const fn ends_line(c: char) -> bool {
    matches!(
        c,
        '\n' | '\r' | '\u{b}' | '\u{c}' | '\u{1c}'..='\u{1f}' | '\u{85}' | '\u{2028}' | '\u{2029}'
    )
}

/// Whether something is left that can be read: joiners alone are nothing.
fn is_nothing(text: &str) -> bool {
    text.chars()
        .all(|c| c.is_whitespace() || matches!(c, '\u{200c}' | '\u{200d}' | '\u{ad}' | '\u{34f}'))
}

/// One line: line breaks and tabs become spaces, control and direction marks go, letters are
/// composed (Unicode annex 15, NFC), ends are trimmed. Joiners, which some scripts write
/// with, stay. Read twice it is the same.
///
/// # Examples
/// ```
/// use matricle_core::words::text::line;
/// assert_eq!(line(" Siân\r\nBcc: all@post.example\0"), "Siân Bcc: all@post.example");
/// assert_eq!(line("\u{202e}gnp.exe"), "gnp.exe");
/// ```
#[must_use]
pub fn line(text: &str) -> String {
    let mut kept = String::with_capacity(text.len());
    let mut was_break = false;
    for c in text.chars() {
        if ends_line(c) || c == '\t' {
            // `\r\n` and its like are one break.
            if !was_break {
                kept.push(' ');
            }
            was_break = true;
        } else if !c.is_control() && !is_unseen(c) {
            kept.push(c);
            was_break = false;
        }
    }
    tidied(&kept)
}

/// Text of several lines: each break is one `\n`, tabs stay, otherwise as [`line()`].
#[must_use]
pub fn lines(text: &str) -> String {
    let mut kept = String::with_capacity(text.len());
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        if ends_line(c) {
            if c == '\r' && chars.peek() == Some(&'\n') {
                continue;
            }
            kept.push('\n');
        } else if c == '\t' || !c.is_control() && !is_unseen(c) {
            kept.push(c);
        }
    }
    tidied(&kept)
}

/// A name as it stands in a mail to somebody else: nothing in it is taken for an address by a
/// mail program, so that what a stranger types as their name leads nowhere. Points between
/// letters get a blank after them, `://` and `@` are taken apart.
///
/// # Examples
/// ```
/// use matricle_core::words::text::unlinked;
/// assert_eq!(unlinked("J. R. Hive-Smith"), "J. R. Hive-Smith");
/// assert_eq!(unlinked("Win https://evil.example/now"), "Win https: / /evil. example/now");
/// ```
#[must_use]
pub fn unlinked(name: &str) -> String {
    let mut out = String::with_capacity(name.len() + 8);
    let mut chars = name.chars().peekable();
    let mut before = ' ';
    while let Some(c) = chars.next() {
        let next = chars.peek().copied().unwrap_or(' ');
        match c {
            '@' => out.push_str(" at "),
            '.' if !before.is_whitespace() && !next.is_whitespace() => out.push_str(". "),
            ':' if next == '/' => out.push_str(": "),
            '/' if next == '/' => out.push_str("/ "),
            c => out.push(c),
        }
        before = c;
    }
    out.trim_end().to_owned()
}

fn tidied(kept: &str) -> String {
    let composed: String = kept.nfc().collect();
    if is_nothing(&composed) { String::new() } else { composed.trim().to_owned() }
}

/// A text inside an address: everything but what is unreserved (RFC 3986 §2.3) as `%` and two
/// figures.
#[must_use]
pub fn percent(text: &str) -> String {
    let mut encoded = String::with_capacity(text.len());
    for byte in text.bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => {
                encoded.push(char::from(byte));
            }
            _ => encoded.push_str(&format!("%{byte:02X}")),
        }
    }
    encoded
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_is_unseen_goes_and_what_is_written_stays() {
        assert_eq!(line("a\u{0}b\u{7f}\u{9b}c"), "abc");
        assert_eq!(line("one\r\ntwo\u{2028}three\tfour"), "one two three four");
        assert_eq!(line("\u{200d}\u{200b} \u{ad}"), "");
        // A joiner that Persian writes with, a letter that was put together, an old script.
        assert_eq!(line("می\u{200c}خواهم e\u{301} 𐎠"), "می\u{200c}خواهم é 𐎠");
        assert_eq!(lines("one\r\ntwo\rthree\u{85}\u{7}four\t5 "), "one\ntwo\nthree\nfour\t5");
    }

    proptest! {
        #[test]
        fn whatever_is_typed_is_one_clean_line(text in "(\\PC|[\\x00-\\x1f\\x7f-\\x9f\u{2028}\u{202e}\u{200d}\u{feff}é]){0,40}") {
            let once = line(&text);
            prop_assert!(once.chars().all(|c| !c.is_control() && !ends_line(c) && !is_unseen(c)), "{once:?}");
            prop_assert_eq!(line(&once), once.clone());
            prop_assert_eq!(line(&lines(&text)), once);
            let several = lines(&text);
            prop_assert!(several.chars().all(|c| matches!(c, '\n' | '\t') || !c.is_control()));
            prop_assert_eq!(lines(&several), several);
        }
    }
}
