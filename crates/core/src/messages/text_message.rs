//! Text messages, counted as 3GPP TS 23.038 does.
//!
//! Where all letters are in its default alphabet (GSM 7 bit), a message has 160 of them, or 153
//! in each part of a longer one; some few take two. Any other letter makes the whole message
//! UCS-2: 70 units, or 67 a part; what lies beyond the first plane of Unicode takes two.

/// The default alphabet without its control characters (3GPP TS 23.038 §6.2.1).
const BASIC: &str = "@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞÆæßÉ !\"#¤%&'()*+,-./0123456789:;<=>?\
    ¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§¿abcdefghijklmnopqrstuvwxyzäöñüà";
/// The extension table: each is an escape and a letter (§6.2.1.1).
const EXTENDED: &str = "^{}\\[~]|€\u{c}";

/// How a text message is counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Counted {
    /// It goes in the default alphabet; otherwise in UCS-2.
    pub gsm7: bool,
    /// How many units it takes.
    pub units: usize,
    /// In how many parts it goes.
    pub parts: usize,
    /// Units left in the last of them.
    pub left: usize,
}

/// Counts a text message. A letter is never cut in two between parts, so what takes two units
/// moves to the next part whole.
///
/// # Examples
/// ```
/// use matricle_core::messages::text_message::count;
/// assert_eq!(count(&"a".repeat(160)).parts, 1);
/// assert_eq!(count(&"a".repeat(161)).parts, 2);
/// assert_eq!(count("ő").left, 69); // one letter makes it UCS-2
/// ```
#[must_use]
pub fn count(text: &str) -> Counted {
    let gsm7 = text.chars().all(|c| BASIC.contains(c) || EXTENDED.contains(c));
    let width = |c: char| {
        if gsm7 { if EXTENDED.contains(c) { 2 } else { 1 } } else { c.len_utf16() }
    };
    let units: usize = text.chars().map(width).sum();
    let (alone, joined) = if gsm7 { (160, 153) } else { (70, 67) };
    if units <= alone {
        return Counted { gsm7, units, parts: 1, left: alone - units };
    }
    let (mut parts, mut used) = (1, 0);
    for w in text.chars().map(width) {
        if used + w > joined {
            parts += 1;
            used = 0;
        }
        used += w;
    }
    Counted { gsm7, units, parts, left: joined - used }
}

/// A mobile number as gateways take it (ITU-T E.164): a plus and up to fifteen digits. `None`
/// for what is not one.
#[must_use]
pub fn number(typed: &str) -> Option<String> {
    let typed = typed.trim();
    let digits: String = typed.chars().filter(char::is_ascii_digit).collect();
    let only = typed.chars().all(|c| c.is_ascii_digit() || " +-()/.".contains(c));
    let plus = typed.starts_with('+') || typed.starts_with("00");
    let digits = if typed.starts_with("00") { digits[2..].to_owned() } else { digits };
    (only && plus && (7..=15).contains(&digits.len()) && !digits.starts_with('0'))
        .then(|| format!("+{digits}"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn an_escape_is_not_torn_from_its_letter() {
        // 152 letters and a euro sign do not fit into a part of 153: the sign moves on whole.
        let text = format!("{}€{}", "a".repeat(152), "b".repeat(10));
        let counted = count(&text);
        assert_eq!((counted.units, counted.parts, counted.left), (164, 2, 153 - 12));
        assert_eq!(count(&"€".repeat(80)).parts, 1);
        assert_eq!(count(&"🐝".repeat(35)).parts, 1, "70 units of UTF-16");
        assert_eq!(count(&"🐝".repeat(36)).parts, 2);
    }

    #[test]
    fn numbers_are_taken_as_people_write_them() {
        assert_eq!(number("+43 664 / 123-45 67").as_deref(), Some("+436641234567"));
        assert_eq!(number("0043 664 1234567").as_deref(), Some("+436641234567"));
        assert_eq!((number("0664 1234567"), number("+43 call me"), number("")), (None, None, None));
    }

    proptest! {
        /// The parts have room for all of it, and one part less has not.
        #[test]
        fn as_many_parts_as_are_needed(text in "[a-z€{ő🐝]{0,400}") {
            let c = count(&text);
            let (alone, joined) = if c.gsm7 { (160, 153) } else { (70, 67) };
            if c.parts == 1 {
                prop_assert_eq!(c.units + c.left, alone);
            } else {
                prop_assert!(c.parts * joined >= c.units + c.left && c.units > alone);
                prop_assert!((c.parts - 1) * joined < c.units + c.parts, "{c:?}");
            }
        }
    }
}
