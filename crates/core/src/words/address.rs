//! Addresses that mail can be sent to, and telephone numbers.

/// Longest address, in bytes (RFC 5321 §4.5.3.1.3 less the angle brackets).
pub const LONGEST_ADDRESS: usize = 254;

/// Whether mail can be sent to this: one `@`, a local part, a domain with a dot,
/// no spaces or control characters (the shape of RFC 5321 §4.1.2, quoted local
/// parts left out). Whether the box exists only mail can tell.
#[must_use]
pub fn is_address(text: &str) -> bool {
    let Some((local, domain)) = text.rsplit_once('@') else { return false };
    let label = |l: &str| {
        !l.is_empty()
            && l.len() <= 63
            && !l.starts_with('-')
            && !l.ends_with('-')
            && l.chars().all(|c| c.is_alphanumeric() || c == '-')
    };
    let atom = |a: &str| {
        !a.is_empty() && a.chars().all(|c| c.is_alphanumeric() || "!#$%&'*+-/=?^_`{|}~".contains(c))
    };
    text.len() <= LONGEST_ADDRESS
        && local.len() <= 64
        && local.split('.').all(atom)
        && domain.contains('.')
        && domain.split('.').all(label)
}

/// Whether this can be a telephone number: digits, spaces, a plus, brackets (ITU-T E.123);
/// seven to fifteen digits (E.164).
#[must_use]
pub fn is_phone(line: &str) -> bool {
    let digits = line.chars().filter(char::is_ascii_digit).count();
    let known = line.chars().all(|c| c.is_ascii_digit() || " +-()/.".contains(c));
    known && (7..=15).contains(&digits)
}
