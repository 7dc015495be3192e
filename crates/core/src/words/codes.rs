//! Ticket codes and booking references: sixteen letters, with check letters.
//!
//! The alphabet `BCDFGHJKLNPRSTVX` sits on the same keys in every Latin keyboard
//! layout a scanner may be set to, has no vowels and no look-alikes. Sixteen
//! letters are the sixteen elements of the field GF(2⁴) (reduction polynomial
//! x⁴ + x + 1, generator α = x), so the check letters are those of a
//! Reed–Solomon code (I. S. Reed, G. Solomon, 1960), whose guarantees are exact:
//!
//! * a ticket code has two check letters: any one or two wrong letters and any
//!   swap of neighbours are detected;
//! * a reference has one: any one wrong letter and any swap of neighbours are.

use std::fmt;

/// The sixteen letters, in the order of their values 0 to 15.
pub const ALPHABET: [u8; 16] = *b"BCDFGHJKLNPRSTVX";

/// α⁰ … α¹⁴, the powers of the generator of GF(16).
const POWERS: [u8; 15] = {
    let mut table = [1u8; 15];
    let mut i = 1;
    while i < 15 {
        let doubled = table[i - 1] << 1;
        table[i] = if doubled & 0x10 == 0 { doubled } else { doubled ^ 0x13 };
        i += 1;
    }
    table
};

fn times(a: u8, b: u8) -> u8 {
    let (mut a, mut b, mut product) = (a, b, 0);
    while b != 0 {
        if b & 1 == 1 {
            product ^= a;
        }
        a <<= 1;
        if a & 0x10 != 0 {
            a ^= 0x13;
        }
        b >>= 1;
    }
    product
}

/// a¹⁴ = a⁻¹ in a field of sixteen elements.
fn inverse(a: u8) -> u8 {
    (0..14).fold(1, |product, _| times(product, a))
}

fn value(letter: u8) -> Option<u8> {
    let letter = letter.to_ascii_uppercase();
    let place = ALPHABET.iter().position(|&known| known == letter)?;
    u8::try_from(place).ok()
}

/// Σ c_i and Σ c_i·α^i; both are zero for a sound ticket code.
fn syndromes(values: &[u8]) -> (u8, u8) {
    values
        .iter()
        .zip(POWERS)
        .fold((0, 0), |(plain, weighted), (&v, power)| (plain ^ v, weighted ^ times(v, power)))
}

/// Letters of what somebody scanned or typed: upper case, without spaces and dashes.
fn letters(text: &str) -> impl Iterator<Item = char> + '_ {
    text.chars()
        .filter(|c| !c.is_whitespace() && !matches!(c, '-' | '\u{2010}'..='\u{2015}' | '·' | '_'))
        .map(|c| c.to_ascii_uppercase())
}

/// The code on an attendee's ticket: ten random letters (40 bits) and two check letters.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct TicketCode([u8; TicketCode::LENGTH]);

impl TicketCode {
    /// Letters in a code.
    pub const LENGTH: usize = 12;

    /// Makes a code of 40 random bits; the rest of `random` is not looked at.
    #[must_use]
    pub fn from_random(random: u64) -> Self {
        let mut values = [0u8; Self::LENGTH];
        for (i, v) in values.iter_mut().take(10).enumerate() {
            *v = ((random >> (4 * i)) & 0xf) as u8;
        }
        // c₁₀ + c₁₁ = s₀ and c₁₀·α¹⁰ + c₁₁·α¹¹ = s₁, solved for the two.
        let (s0, s1) = syndromes(&values[..10]);
        let (p10, p11) = (POWERS[10], POWERS[11]);
        values[10] = times(s1 ^ times(s0, p11), inverse(p10 ^ p11));
        values[11] = s0 ^ values[10];
        Self(values.map(|v| ALPHABET[usize::from(v)]))
    }

    /// The twelve letters, without gaps: what stands in the barcodes.
    #[must_use]
    pub fn as_str(&self) -> &str {
        std::str::from_utf8(&self.0).unwrap_or_default()
    }
}

/// Printed in groups of four, `XXXX-XXXX-XXXX`.
impl fmt::Display for TicketCode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let s = self.as_str();
        write!(f, "{}-{}-{}", &s[..4], &s[4..8], &s[8..])
    }
}

impl fmt::Debug for TicketCode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "TicketCode({self})")
    }
}

/// Characters of a symbology identifier (ISO/IEC 15424).
const IDENTIFIER: usize = 3;
/// Characters of a code behind one.
const IDENTIFIED: usize = TicketCode::LENGTH + IDENTIFIER;

/// What a scanned or typed text turned out to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reading {
    /// A sound ticket code; whose, the door must still find out.
    Code(TicketCode),
    /// Nearly a ticket code: a letter is wrong, missing or too many. Scan again.
    Misread,
    /// Something else: a name, or a stranger's barcode.
    NotACode,
}

/// Reads what a scanner, a camera or a finger gave.
///
/// Case, spaces and dashes do not matter. A text of the right alphabet that is
/// off by up to two letters in length, or of the right length with at most two
/// foreign letters, counts as misread: no name looks like that, having no vowel. A scanner may
/// put three characters before a code that say how it is printed (ISO/IEC 15424, `]C0`), which a
/// keyboard layout may change: a sound code behind any three is that code.
///
/// # Examples
/// ```
/// # use matricle_core::words::codes::{Reading, TicketCode, read};
/// let code = TicketCode::from_random(0xBEE);
/// assert_eq!(read(&format!(" {} ", code.to_string().to_lowercase())), Reading::Code(code));
/// assert_eq!(read(&format!("]C0{}", code.as_str())), Reading::Code(code));
/// assert_eq!(read(&code.as_str()[..11]), Reading::Misread);
/// assert_eq!(read("Marit Solheim"), Reading::NotACode);
/// ```
#[must_use]
pub fn read(text: &str) -> Reading {
    let mut values = [0u8; IDENTIFIED];
    let (mut length, mut foreign, mut foreign_before) = (0, 0, 0);
    for letter in letters(text) {
        if length == values.len() {
            return Reading::NotACode;
        }
        match u8::try_from(letter).ok().and_then(value) {
            Some(v) => values[length] = v,
            None => foreign += 1,
        }
        length += 1;
        if length == IDENTIFIER {
            foreign_before = foreign;
        }
    }
    let near = length.abs_diff(TicketCode::LENGTH) <= 2 && foreign == 0;
    let sound = |values: &[u8], foreign: u32| {
        (foreign == 0 && syndromes(values) == (0, 0)).then(|| {
            let mut code = [0; TicketCode::LENGTH];
            code.iter_mut().zip(values).for_each(|(c, v)| *c = ALPHABET[usize::from(*v)]);
            Reading::Code(TicketCode(code))
        })
    };
    let whole = match length {
        TicketCode::LENGTH => sound(&values[..length], foreign),
        // Foreign letters before it are not counted.
        IDENTIFIED => sound(&values[IDENTIFIER..], foreign - foreign_before),
        _ => None,
    };
    if let Some(code) = whole {
        return code;
    }
    match (length, foreign) {
        (TicketCode::LENGTH, 1..=2) => Reading::Misread,
        _ if near => Reading::Misread,
        _ => Reading::NotACode,
    }
}

/// The short name of a booking, said on the phone and printed: seven random
/// letters (28 bits) and a check letter. It opens nothing by itself.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Reference([u8; Reference::LENGTH]);

impl Reference {
    /// Letters in a reference.
    pub const LENGTH: usize = 8;

    /// Makes a reference of 28 random bits; the rest of `random` is not looked at.
    #[must_use]
    pub fn from_random(random: u64) -> Self {
        let mut values = [0u8; Self::LENGTH];
        for (i, v) in values.iter_mut().take(7).enumerate() {
            *v = ((random >> (4 * i)) & 0xf) as u8;
        }
        let (_, s1) = syndromes(&values[..7]);
        values[7] = times(s1, inverse(POWERS[7]));
        Self(values.map(|v| ALPHABET[usize::from(v)]))
    }

    /// Reads a reference as somebody types or says it; `None` when the check letter does not fit.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let mut values = [0u8; Self::LENGTH];
        let mut length = 0;
        for letter in letters(text) {
            *values.get_mut(length)? = value(u8::try_from(letter).ok()?)?;
            length += 1;
        }
        let sound = length == Self::LENGTH && syndromes(&values).1 == 0;
        sound.then(|| Self(values.map(|v| ALPHABET[usize::from(v)])))
    }

    /// The eight letters without the dash, as stored and as used in addresses.
    #[must_use]
    pub fn as_str(&self) -> &str {
        std::str::from_utf8(&self.0).unwrap_or_default()
    }
}

/// Printed as `XXXX-XXXX`.
impl fmt::Display for Reference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let s = self.as_str();
        write!(f, "{}-{}", &s[..4], &s[4..])
    }
}

impl fmt::Debug for Reference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Reference({self})")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Every text that differs from `sound` by one letter or by a swap of neighbours.
    fn slips(sound: &str) -> Vec<String> {
        let letters: Vec<char> = sound.chars().collect();
        let mut wrong = Vec::new();
        for i in 0..letters.len() {
            for other in ALPHABET.map(char::from) {
                let mut l = letters.clone();
                l[i] = other;
                wrong.push(l);
            }
            if i + 1 < letters.len() {
                let mut l = letters.clone();
                l.swap(i, i + 1);
                wrong.push(l);
            }
        }
        wrong.into_iter().filter(|l| *l != letters).map(String::from_iter).collect()
    }

    proptest! {
        #[test]
        fn every_wrong_letter_and_every_swap_in_a_ticket_code_is_a_misread(random: u64) {
            let code = TicketCode::from_random(random);
            prop_assert_eq!(read(code.as_str()), Reading::Code(code));
            prop_assert_eq!(read(&code.to_string().to_lowercase()), Reading::Code(code));
            for wrong in slips(code.as_str()) {
                prop_assert_eq!(read(&wrong), Reading::Misread, "{} for {}", wrong, code);
            }
        }

        #[test]
        fn two_wrong_letters_in_a_ticket_code_are_a_misread(
            random: u64, i in 0usize..12, j in 0usize..12, a in 1u8..16, b in 1u8..16,
        ) {
            prop_assume!(i != j);
            let code = TicketCode::from_random(random);
            let mut values: Vec<u8> = code.as_str().bytes().map(|l| value(l).unwrap()).collect();
            values[i] ^= a;
            values[j] ^= b;
            let wrong: String =
                values.iter().map(|&v| char::from(ALPHABET[usize::from(v)])).collect();
            prop_assert_eq!(read(&wrong), Reading::Misread);
        }

        /// As many letters as a code has: one or two that none has are misread, three are no code.
        /// Two letters too many or too few may be a slip, three are not.
        #[test]
        fn how_far_off_is_a_misreading_and_how_far_is_no_code(random: u64, at in 0usize..10) {
            let code = TicketCode::from_random(random);
            let with = |foreign: usize| {
                let mut letters: Vec<char> = code.as_str().chars().collect();
                letters[at..].iter_mut().take(foreign).for_each(|l| *l = 'é');
                read(&letters.into_iter().collect::<String>())
            };
            prop_assert_eq!((with(1), with(2)), (Reading::Misread, Reading::Misread));
            if at < 9 {
                prop_assert_eq!(with(3), Reading::NotACode);
            }
            for off in 1..=4 {
                let short = &code.as_str()[..TicketCode::LENGTH - off];
                let expected = if off <= 2 { Reading::Misread } else { Reading::NotACode };
                prop_assert_eq!(read(short), expected, "{} letters short", off);
            }
            let long = format!("{}BB", code.as_str());
            prop_assert_eq!(read(&long), Reading::Misread);
        }

        #[test]
        fn every_wrong_letter_and_every_swap_in_a_reference_is_refused(random: u64) {
            let reference = Reference::from_random(random);
            prop_assert_eq!(Reference::parse(&reference.to_string()), Some(reference));
            for wrong in slips(reference.as_str()) {
                prop_assert_eq!(Reference::parse(&wrong), None, "{}", wrong);
            }
        }

        #[test]
        fn no_text_makes_reading_panic(text in "\\PC{0,40}") {
            let _ = (read(&text), Reference::parse(&text));
        }
    }

    #[test]
    fn names_and_strangers_barcodes_are_not_codes() {
        for text in ["", "Ng", "Björk", "4006381333931", "https://club.example/t/1", "Schwartz"] {
            assert_eq!(read(text), Reading::NotACode, "{text}");
        }
        let code = TicketCode::from_random(7);
        let digit = format!("{}7", &code.as_str()[..11]);
        assert_eq!(read(&digit), Reading::Misread);
    }
}
