//! Addresses and telephone numbers in words that somebody typed, found so that they can be made
//! live: mail (RFC 6068), web (RFC 3986), telephone (RFC 3966, numbers as ITU-T E.123 writes
//! and E.164 bounds them).

use linkify::{LinkFinder, LinkKind};

use crate::words::address::{is_address, is_phone};

/// What an address is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// Mail.
    Mail,
    /// A page of the web.
    Web,
    /// A telephone.
    Phone,
}

/// An address that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// What it is of.
    pub kind: Kind,
    /// From which byte of the text …
    pub from: usize,
    /// … up to which.
    pub until: usize,
    /// Where it leads, with its scheme.
    pub to: String,
}

/// Ends of bare host names that are taken for addresses: a sentence that lacks a blank
/// (`over.then`) is none. `example` is RFC 2606's.
const ENDS: &[&str] = &[
    "com", "org", "net", "info", "eu", "edu", "gov", "int", "uk", "ie", "de", "at", "ch", "fr",
    "nl", "be", "dk", "se", "no", "fi", "pl", "cz", "es", "it", "pt", "us", "ca", "au", "nz",
    "club", "events", "online", "example",
];

/// Quotation marks of print.
const QUOTES: [char; 9] = ['“', '”', '„', '‘', '’', '‚', '«', '»', '…'];

/// Words before a number that say it is a telephone's.
const LABELS: &[&str] = &[
    "tel",
    "tel.",
    "phone",
    "telephone",
    "call",
    "ring",
    "mobile",
    "mob",
    "mob.",
    "cell",
    "fax",
    "text",
    "whatsapp",
    "sms",
    "no.",
    "number",
    "on",
    "at",
];

/// Words before a number that say it is none.
const NOT_PHONES: &[&str] =
    &["isbn", "issn", "iban", "account", "invoice", "order", "ref", "ref.", "reference", "vat"];

/// Every address and number in a text, in their order; none lies in another.
///
/// Quotation marks, brackets and the point at the end of a sentence are no part of an address.
/// Years, dates, times of day, amounts and book numbers are no telephones.
///
/// # Examples
/// ```
/// use matricle_core::words::links::find;
/// let text = "See “www.ostrel.example”, or ring 0412 55 61 20 (since 1998-2004).";
/// let found: Vec<_> = find(text).into_iter().map(|l| l.to).collect();
/// assert_eq!(found, ["https://www.ostrel.example", "tel:0412556120"]);
/// ```
#[must_use]
pub fn find(text: &str) -> Vec<Link> {
    let mut finder = LinkFinder::new();
    finder.kinds(&[LinkKind::Url, LinkKind::Email]);
    finder.url_must_have_scheme(false);
    let mut found = Vec::new();
    let mut plain = 0;
    for link in finder.links(text) {
        // Quotation marks of print stand around an address as those of a typewriter do.
        let whole = link.as_str();
        let begins = whole.trim_start_matches(QUOTES);
        let word = begins.split(QUOTES).next().unwrap_or(begins);
        let word = word.trim_end_matches(['.', ',', ';', ':', '!', '?']);
        let from = link.start() + whole.len() - begins.len();
        let until = from + word.len();
        let target = match link.kind() {
            LinkKind::Email if is_address(word) => Some((Kind::Mail, format!("mailto:{word}"))),
            LinkKind::Url => web(word).map(|to| (Kind::Web, to)),
            _ => None,
        };
        // What looks like an address and is none is left alone, numbers in it too.
        phones(text, plain, from, &mut found);
        plain = until;
        if let Some((kind, to)) = target {
            found.push(Link { kind, from, until, to });
        }
    }
    phones(text, plain, text.len(), &mut found);
    found
}

/// Where a word leads that may be a web address.
fn web(word: &str) -> Option<String> {
    let low = word.to_ascii_lowercase();
    if low.starts_with("http://") || low.starts_with("https://") {
        return Some(word.to_owned());
    }
    if low.contains("://") {
        return None;
    }
    let host = word.split(['/', '?', '#', ':']).next().unwrap_or(word);
    let end = host.rsplit('.').next().unwrap_or_default();
    let is_bare =
        host.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || "-.".contains(c))
            && ENDS.contains(&end);
    (low.starts_with("www.") || is_bare).then(|| format!("https://{word}"))
}

/// Telephone numbers between two bytes of a text.
fn phones(text: &str, from: usize, until: usize, found: &mut Vec<Link>) {
    let Some(part) = text.get(from..until) else { return };
    let (mut done, mut before) = (0, ' ');
    for (at, c) in part.char_indices() {
        let begins = c.is_ascii_digit() || c == '+' || c == '(';
        if at >= done && begins && !before.is_alphanumeric() {
            let long = candidate(&part[at..]);
            let word = &part[at..at + long];
            if is_number(text, from + at, word, &part[at + long..]) {
                let dialled = word.chars().filter(|c| c.is_ascii_digit() || *c == '+');
                found.push(Link {
                    kind: Kind::Phone,
                    from: from + at,
                    until: from + at + long,
                    to: format!("tel:{}", dialled.collect::<String>()),
                });
            }
            done = at + long;
        }
        before = c;
    }
}

/// How many bytes of a text can be one number: digits with single separators between them, an
/// opening bracket that is closed.
fn candidate(text: &str) -> usize {
    let bytes = text.as_bytes();
    let (mut end, mut open) = (0, false);
    let mut at = 0;
    while at < bytes.len() {
        match bytes[at] {
            b'0'..=b'9' => end = at + 1,
            b'+' if at == 0 => {}
            b'(' if !open => open = true,
            b')' if open => {
                open = false;
                end = at + 1;
            }
            b' ' | b'-' | b'.' | b'/' => {
                // Two separators in a row end it, but for a bracket beside a blank.
                let before = at.checked_sub(1).map(|i| bytes[i]);
                if !before.is_some_and(|b| b.is_ascii_digit() || b == b')') {
                    break;
                }
            }
            _ => break,
        }
        at += 1;
    }
    end
}

/// Whether such a word is a telephone number, by its shape and by what stands around it.
fn is_number(text: &str, at: usize, word: &str, after: &str) -> bool {
    if !is_phone(word) || word.matches('(').count() != word.matches(')').count() {
        return false;
    }
    // A currency, a percent sign, or more of a longer number right behind it.
    let mut next = after.chars();
    let is_more = match next.next() {
        Some(c) if c.is_alphanumeric() => true,
        Some('€' | '$' | '£' | '%' | '@' | '–' | '_') => true,
        Some(':' | ',' | '+') => next.next().is_some_and(|c| c.is_ascii_digit() || c == '-'),
        _ => false,
    };
    if is_more {
        return false;
    }
    let before: String =
        text[..at].chars().rev().take(16).collect::<Vec<_>>().into_iter().rev().collect();
    let before = before.to_lowercase();
    if before.ends_with(',') || before.trim_end().ends_with(['€', '$', '£', '–', '#']) {
        return false;
    }
    let label = before.split_whitespace().next_back().unwrap_or_default().trim_end_matches(':');
    if NOT_PHONES.contains(&label) {
        return false;
    }
    let groups: Vec<&str> =
        word.split(|c: char| !c.is_ascii_digit()).filter(|g| !g.is_empty()).collect();
    let year = |g: &str| {
        g.len() == 4 && (g.starts_with("19") || g.starts_with("20") || g.starts_with("18"))
    };
    let small = |g: &str| g.len() <= 2;
    let is_date = match groups.as_slice() {
        // 1998-2004; 2026-12-12; 12.12.2026, 12/12/2026; 19.00-21.30.
        [a, b] => year(a) && year(b),
        [a, b, c] => year(a) && small(b) && small(c) || small(a) && small(b) && year(c),
        [a, b, c, d] => {
            small(a) && small(b) && small(c) && small(d) && !word.starts_with(['0', '+', '('])
        }
        _ => false,
    };
    // Amounts in groups of three: 1.200.000
    let is_amount = groups.len() > 1
        && !word.starts_with(['0', '+', '('])
        && groups[1..].iter().all(|g| g.len() == 3)
        && groups[0].len() <= 3;
    if is_date || is_amount {
        return false;
    }
    word.starts_with('+')
        || word.starts_with('0')
        || word.starts_with("(0")
        || LABELS.contains(&label)
}

/// Whether a text is one address of the web (RFC 9110 §4.2), whole and by itself.
#[must_use]
pub fn is_link(typed: &str) -> bool {
    let rest = typed.strip_prefix("https://").or_else(|| typed.strip_prefix("http://"));
    rest.is_some_and(|r| !r.is_empty() && !r.starts_with('/'))
        && !typed.chars().any(|c| c.is_whitespace() || c.is_control())
}

/// What a field for whom to ask holds: one mail address, one web address, one number.
#[must_use]
pub fn is_contact(typed: &str) -> bool {
    let typed = typed.trim();
    let years = find(typed).is_empty() && typed.len() == 9;
    is_address(typed) || is_phone(typed) && !years || !find(typed).is_empty()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn to(text: &str) -> Vec<String> {
        find(text).into_iter().map(|l| l.to).collect()
    }

    #[test]
    fn addresses_are_found_without_what_stands_around_them() {
        assert_eq!(to("Write to wilma.thorne@post.example."), ["mailto:wilma.thorne@post.example"]);
        assert_eq!(
            to("“www.ostrel.example”, (https://a.example/x?y=1), ‘hive.example/map’ or <bees.org>"),
            [
                "https://www.ostrel.example",
                "https://a.example/x?y=1",
                "https://hive.example/map",
                "https://bees.org"
            ]
        );
        for none in
            ["It was over.Then we left.", "e.g. this", "ftp://x.example", "a@b", "v1.2.3", "http"]
        {
            assert_eq!(to(none), [""; 0], "{none}");
        }
    }

    #[test]
    fn numbers_that_can_be_rung_are_found_and_others_are_not() {
        for (text, dialled) in [
            ("ring 0412 55 61 20", "tel:0412556120"),
            ("Tel: (0412) 556120, after six", "tel:0412556120"),
            ("+43 660 123 45 67", "tel:+436601234567"),
            ("0043/660/1234567.", "tel:00436601234567"),
            ("phone 555 0142 9", "tel:55501429"),
        ] {
            assert_eq!(to(text), [dialled], "{text}");
        }
        for none in [
            "kept from 1998-2004",
            "in 2019/2023",
            "on 12.12.2026",
            "2026-12-12",
            "19.00-21.30",
            "10:00-15:30",
            "ISBN 0306406152",
            "account 0123456789",
            "€ 1.200.000",
            "12 000 000 bees",
            "1,234,567",
            "room 12",
            "01234",
            "0123456789012345678",
            "KRT0412556120",
            "0412556120kg",
        ] {
            assert_eq!(to(none), [""; 0], "{none}");
        }
    }

    #[test]
    fn a_contact_is_something_one_can_write_to_ring_or_open() {
        for good in ["wilma@post.example", "0412 55 61 20", "Wilma, 0412 556120", "www.a.example"] {
            assert!(is_contact(good), "{good}");
        }
        for bad in ["", "Wilma", "wilma@post", "1998-2004", "see above"] {
            assert!(!is_contact(bad), "{bad}");
        }
    }

    proptest! {
        /// Whatever is typed: links stand in their order, none in another, each between whole
        /// letters; the text is what it was; and what is found by itself is found again.
        #[test]
        fn links_lie_beside_one_another(
            parts in prop::collection::vec(prop::sample::select(vec![
                "a@b.example", "www.y.example", "https://x.example/", "0412 55 61 20", "+43 1", "(", ")", " ", ".",
                ",", "“", "”", "1998-2004", "é", "12.12.2026", "/", "@", ":", "-", "tel", "9", "\n", "中",
            ]), 0..16),
        ) {
            let text = parts.concat();
            let mut last = 0;
            for link in find(&text) {
                prop_assert!(last <= link.from && link.from < link.until && link.until <= text.len());
                let word = text.get(link.from..link.until);
                prop_assert!(word.is_some(), "between letters");
                let word = word.unwrap();
                prop_assert!(!word.contains(char::is_whitespace) || link.kind == Kind::Phone, "{word:?}");
                prop_assert!(word.chars().all(|c| !"“”‘’<>\"".contains(c)), "{word:?}");
                let scheme = match link.kind {
                    Kind::Mail => "mailto:",
                    Kind::Web => "http",
                    Kind::Phone => "tel:",
                };
                prop_assert!(link.to.starts_with(scheme), "{}", link.to);
                last = link.until;
            }
        }
    }
}
