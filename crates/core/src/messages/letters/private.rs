//! Private addresses in what leaves the house: found however they are written, and taken out.
//!
//! An address is looked for after what hides it is undone: line breaks, blanks and unseen marks
//! amid it, marks of quoting, percent escapes (RFC 3986 §2.1) and quoted-printable (RFC 2045 §6.7),
//! also one over the other, character references (HTML §13.5), other forms of the same letters
//! (Unicode annex 15, NFKC), *(at)*, base64 (RFC 4648), UTF-16.

use unicode_normalization::UnicodeNormalization;

/// A letter that is compared, and the bytes of the text that it stands for.
struct Bare {
    letter: char,
    from: usize,
    until: usize,
}

/// How long what is undone may be written: `%25252540`, `&#x00000040;`.
const LONGEST_ESCAPE: usize = 24;
/// Shortest piece of base64 that is looked into: shorter ones hold no address.
const SHORTEST_BASE64: usize = 8;

/// Whether a mark is unseen, or a blank: it may stand amid an address without parting it.
fn is_nothing(c: char) -> bool {
    c.is_whitespace()
        || c.is_control()
        || matches!(c, '\u{ad}' | '\u{34f}' | '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{2064}' | '\u{feff}')
}

fn hex(digits: &str) -> Option<char> {
    let two = digits.get(..2).filter(|d| d.bytes().all(|b| b.is_ascii_hexdigit()))?;
    u8::from_str_radix(two, 16).ok().filter(u8::is_ascii).map(char::from)
}

/// A letter written in another way at the beginning of a text, and how many bytes that takes.
fn undone(text: &str) -> Option<(char, usize)> {
    let first = text.chars().next()?;
    match first {
        '%' => {
            // An escape of an escape of …
            let mut at = 1;
            while text.get(at..).is_some_and(|rest| rest.starts_with("25")) && at < LONGEST_ESCAPE {
                at += 2;
            }
            hex(text.get(at..)?).map(|c| (c, at + 2))
        }
        '=' => {
            let rest = text.get(1..)?;
            for end in ["\r\n", "\n"] {
                if rest.starts_with(end) {
                    return Some(('\n', 1 + end.len()));
                }
            }
            hex(rest).map(|c| (c, 3))
        }
        '&' => {
            let reference =
                text.get(1..)?.split_once(';').filter(|(r, _)| r.len() <= LONGEST_ESCAPE)?.0;
            let c = match reference.strip_prefix('#') {
                Some(number) => {
                    let code = match number.strip_prefix(['x', 'X']) {
                        Some(hex) => u32::from_str_radix(hex, 16).ok()?,
                        None => number.parse().ok()?,
                    };
                    char::from_u32(code)?
                }
                None => match reference {
                    "commat" => '@',
                    "period" => '.',
                    "lowbar" => '_',
                    "plus" => '+',
                    "hyphen" | "dash" => '-',
                    "nbsp" | "shy" | "ZeroWidthSpace" | "NewLine" | "Tab" => ' ',
                    _ => return None,
                },
            };
            Some((c, reference.len() + 2))
        }
        '(' | '[' | '{' | '<' => {
            let inside = text.get(1..)?;
            let end = inside.find([')', ']', '}', '>']).filter(|end| *end <= 6)?;
            match inside[..end].trim().to_ascii_lowercase().as_str() {
                "at" | "@" => Some(('@', end + 2)),
                "dot" | "." => Some(('.', end + 2)),
                _ => None,
            }
        }
        _ => None,
    }
}

/// A text as it is compared: bare letters, each with where it stands.
fn bare(text: &str) -> Vec<Bare> {
    let mut found = Vec::with_capacity(text.len());
    let (mut at, mut begins_line) = (0, true);
    while let Some(first) = text[at..].chars().next() {
        let (letter, bytes) = undone(&text[at..]).unwrap_or((first, first.len_utf8()));
        let (from, until) = (at, at + bytes);
        at = until;
        if is_nothing(letter) {
            begins_line |= matches!(letter, '\n' | '\r');
        } else if begins_line && matches!(letter, '>' | '|') {
            // What is quoted goes on in the next line.
        } else {
            begins_line = false;
            for letter in letter.nfkc().flat_map(char::to_lowercase).filter(|c| !is_nothing(*c)) {
                found.push(Bare { letter, from, until });
            }
        }
    }
    found
}

/// The six bits that a letter of base64 stands for, in either alphabet (RFC 4648 §4 and §5).
fn value(byte: u8) -> Option<u32> {
    Some(match byte {
        b'A'..=b'Z' => u32::from(byte - b'A'),
        b'a'..=b'z' => u32::from(byte - b'a') + 26,
        b'0'..=b'9' => u32::from(byte - b'0') + 52,
        b'+' | b'-' => 62,
        b'/' | b'_' => 63,
        _ => return None,
    })
}

/// The bytes behind base64, as text, from the letter numbered `skip` on; line breaks amid it and
/// what fills its end count for nothing.
fn from_base64(text: &str, skip: usize) -> String {
    let (mut bytes, mut bits, mut many) = (Vec::new(), 0_u32, 0_u32);
    for six in text.bytes().filter_map(value).skip(skip) {
        (bits, many) = ((bits << 6 | six) & 0xFFFF, many + 6);
        if many >= 8 {
            many -= 8;
            bytes.push(u8::try_from(bits >> many & 0xFF).unwrap_or_default());
        }
    }
    // UTF-16 of an address is its letters with a zero beside each.
    bytes.retain(|b| *b != 0);
    String::from_utf8_lossy(&bytes).into_owned()
}

/// Pieces of a text that may be base64, in lines or in one.
fn base64_pieces(text: &str) -> impl Iterator<Item = (usize, usize)> {
    let is_part = |b: u8| value(b).is_some() || matches!(b, b'=' | b'\r' | b'\n');
    let mut at = 0;
    std::iter::from_fn(move || {
        let bytes = text.as_bytes();
        loop {
            while at < bytes.len() && !is_part(bytes[at]) {
                at += 1;
            }
            let from = at;
            while at < bytes.len() && is_part(bytes[at]) {
                at += 1;
            }
            if from == at {
                return None;
            }
            if at - from >= SHORTEST_BASE64 {
                return Some((from, at));
            }
        }
    })
}

/// Where addresses stand in a text, each from one byte up to another; none in another.
fn places(text: &str, addresses: &[Vec<char>]) -> Vec<(usize, usize)> {
    let bare = bare(text);
    let mut found: Vec<(usize, usize)> = Vec::new();
    let mut at = 0;
    while at < bare.len() {
        let here = addresses.iter().filter(|a| {
            bare.len() - at >= a.len() && a.iter().zip(&bare[at..]).all(|(c, b)| *c == b.letter)
        });
        match here.map(Vec::len).max() {
            Some(letters) => {
                found.push((bare[at].from, bare[at + letters - 1].until));
                at += letters;
            }
            None => at += 1,
        }
    }
    for (from, until) in base64_pieces(text) {
        let inside = |skip| {
            let decoded = self::bare(&from_base64(&text[from..until], skip));
            addresses.iter().any(|a| {
                decoded.windows(a.len()).any(|w| a.iter().zip(w).all(|(c, b)| *c == b.letter))
            })
        };
        if (0..4).any(inside) {
            found.push((from, until));
        }
    }
    found.sort_unstable();
    found
}

/// Addresses as they are compared; nothing is no address.
fn wanted(private: &[&str]) -> Vec<Vec<char>> {
    let letters = |a: &&str| bare(a).into_iter().map(|b| b.letter).collect::<Vec<_>>();
    private.iter().map(letters).filter(|a| !a.is_empty()).collect()
}

/// A text without some addresses, however they are written in it: another stands in their place.
/// Takes time by the length of the text.
#[must_use]
pub fn without_addresses(text: &str, private: &[&str], instead: &str) -> String {
    let mut kept = String::with_capacity(text.len());
    let mut done = 0;
    for (from, until) in places(text, &wanted(private)) {
        if from >= done {
            kept.push_str(&text[done..from]);
            kept.push_str(instead);
        }
        done = done.max(until);
    }
    kept.push_str(&text[done..]);
    kept
}

/// Whether a text holds one of some addresses, however it is written.
#[must_use]
pub fn holds_address(text: &str, private: &[&str]) -> bool {
    !places(text, &wanted(private)).is_empty()
}

/// The text of a file that is nothing but text: UTF-8, UTF-16 with or without its mark, or one
/// byte a letter. `None` for everything else, whatever it says that it is: it cannot be looked into.
#[must_use]
pub fn plain(bytes: &[u8]) -> Option<String> {
    let zeros = |from| bytes.iter().skip(from).step_by(2).filter(|b| **b == 0).count();
    let (even, odd) = (zeros(0), zeros(1));
    let marked = bytes.starts_with(&[0xFF, 0xFE]) || bytes.starts_with(&[0xFE, 0xFF]);
    let text = if even + odd == 0 && !marked {
        match std::str::from_utf8(bytes) {
            Ok(text) => text.to_owned(),
            Err(_) => bytes.iter().map(|b| char::from(*b)).collect(),
        }
    } else if marked || even.min(odd) == 0 && even.max(odd) * 5 >= bytes.len() * 2 {
        // Without its mark: of most letters one byte of two is a zero.
        let little = if marked { bytes[0] == 0xFF } else { odd > 0 };
        let pair = |p: &[u8]| {
            let pair = [p[0], p.get(1).copied().unwrap_or_default()];
            if little { u16::from_le_bytes(pair) } else { u16::from_be_bytes(pair) }
        };
        let units: Vec<u16> = bytes.chunks(2).map(pair).collect();
        String::from_utf16(&units).ok()?
    } else {
        return None;
    };
    let is_text = |c: char| !c.is_control() || matches!(c, '\t' | '\n' | '\r' | '\u{c}');
    text.chars().all(is_text).then_some(text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const PRIVATE: &str = "ann.o'hara@home.example";

    /// An address written so that it looks like none, in one of many ways, also two at once.
    fn hidden() -> impl Strategy<Value = String> {
        fn base64(text: &[u8]) -> String {
            const LETTERS: &[u8] =
                b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
            let group = |c: &[u8]| {
                let n = c.iter().fold(0, |n, b| n << 8 | u32::from(*b)) << (8 * (3 - c.len()));
                let letter = |i: usize| char::from(LETTERS[(n >> (18 - 6 * i) & 63) as usize]);
                (0..4).map(|i| if i <= c.len() { letter(i) } else { '=' }).collect::<String>()
            };
            text.chunks(3).map(group).collect()
        }
        let one = |way: usize, text: String| match way {
            0 => text.replace('@', "@\r\n> "),
            1 => text.replace('@', " @ "),
            2 => text.bytes().map(|b| format!("%{b:02x}")).collect(),
            3 => text.replace('@', "%2540"),
            4 => text.replace('@', "=40").replace('.', "=\r\n."),
            5 => text.chars().map(|c| format!("&#{};", u32::from(c))).collect(),
            6 => text.replace('@', "&commat;").replace('.', "&#x2E;"),
            7 => text.replace('@', "\u{ff20}").replace('.', "\u{200b}."),
            8 => text.to_uppercase(),
            9 => text.replace('@', " [at] "),
            10 => base64(format!("mailto:{text}").as_bytes()),
            11 => base64(&text.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<_>>()),
            12 => text.chars().flat_map(|c| [c, '\u{ad}']).collect(),
            _ => text,
        };
        (0usize..14, 0usize..10).prop_map(move |(outer, inner)| match outer {
            // Base64 and letter by letter cannot be written over in the same way again.
            2 | 5 | 10 | 11 => one(outer, PRIVATE.to_owned()),
            _ => one(outer, one(inner % 2 * 8, PRIVATE.to_owned())),
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(500))]
        /// However the address is written and whatever stands around it, it is gone, the words
        /// around it stay, and a file with it is seen.
        #[test]
        fn a_private_address_is_gone_however_it_is_written(
            before in "[a-z .\n]{0,20}", after in "[ .!\n]\\PC{0,20}", written in hidden(),
        ) {
            let text = format!("{before} {written}{after}");
            let without = without_addresses(&text, &["", PRIVATE], "(…)");
            prop_assert!(!holds_address(&without, &[PRIVATE]), "{text:?}: {without:?}");
            prop_assert!(without.contains("(…)"), "{text:?}: {without:?}");
            prop_assert!(without.starts_with(before.trim_end()), "{text:?}: {without:?}");
            for bytes in [
                text.clone().into_bytes(),
                text.encode_utf16().flat_map(u16::to_be_bytes).collect(),
                [vec![0xFF, 0xFE], text.encode_utf16().flat_map(u16::to_le_bytes).collect()].concat(),
            ] {
                if let Some(read) = plain(&bytes) {
                    prop_assert!(holds_address(&read, &[PRIVATE]), "{text:?}");
                }
            }
        }

        /// Words without the address stay as they are, to the byte.
        #[test]
        fn other_words_stay_as_they_are(text in "(\\PC|[%=&;\n>@]|&#64;|%40|home\\.example){0,60}") {
            prop_assume!(!text.to_lowercase().contains("hara"));
            prop_assert_eq!(without_addresses(&text, &[PRIVATE], "(…)"), text);
        }
    }

    #[test]
    fn what_cannot_be_looked_into_is_no_text() {
        assert_eq!(plain(b"PK\x03\x04\x14\x00\x08\x00"), None);
        assert_eq!(plain(b"%PDF-1.7\n\x01\x02"), None);
        assert_eq!(plain("Grüße\n".as_bytes()).as_deref(), Some("Grüße\n"));
        assert_eq!(plain(b"Gr\xfc\xdfe").as_deref(), Some("Grüße"));
        assert_eq!(plain(b"").as_deref(), Some(""));
    }
}
