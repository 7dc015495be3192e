//! Money: whole minor units of one currency.

pub mod documents;
pub mod ledger;
pub mod line_worth;
pub mod price;
pub mod promo;
pub mod refund;
pub mod shares;
pub mod stamps;
pub mod transfer;

use std::fmt;

use serde::{Deserialize, Serialize};

/// A currency by its ISO 4217 letters, with the exponent of its minor unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Currency {
    letters: [u8; 3],
    exponent: u8,
    sign: &'static str,
}

/// Currencies with their ISO 4217 exponent (list one, 2026) and the sign people write.
const KNOWN: [(&[u8; 3], u8, &str); 10] = [
    (b"EUR", 2, "€"),
    (b"GBP", 2, "£"),
    (b"USD", 2, "$"),
    (b"CHF", 2, "CHF "),
    (b"DKK", 2, "DKK "),
    (b"NOK", 2, "NOK "),
    (b"SEK", 2, "SEK "),
    (b"PLN", 2, "PLN "),
    (b"JPY", 0, "¥"),
    (b"TND", 3, "TND "),
];

impl Currency {
    /// The euro.
    pub const EUR: Self = Self { letters: *b"EUR", exponent: 2, sign: "€" };

    /// Finds a currency by its three letters.
    #[must_use]
    pub fn from_letters(letters: &str) -> Option<Self> {
        let (known, exponent, sign) =
            KNOWN.into_iter().find(|(known, ..)| known.as_slice() == letters.as_bytes())?;
        Some(Self { letters: *known, exponent, sign })
    }

    /// The ISO 4217 letters.
    #[must_use]
    pub fn letters(&self) -> &str {
        std::str::from_utf8(&self.letters).unwrap_or_default()
    }

    /// Reads an amount as people write it: `36`, `36.00`, `36,5`; not negative, no
    /// thousands marks, at most as many decimals as the currency has.
    #[must_use]
    pub fn parse(self, text: &str) -> Option<Money> {
        let text = text.trim();
        let (whole, rest) = text.split_once(['.', ',']).unwrap_or((text, ""));
        let exponent = usize::from(self.exponent);
        let digits = |s: &str| s.bytes().all(|b| b.is_ascii_digit());
        if whole.is_empty() || rest.len() > exponent || !digits(whole) || !digits(rest) {
            return None;
        }
        let minor = format!("{whole}{rest:0<exponent$}").parse().ok()?;
        Some(self.of(minor))
    }

    /// An amount of this currency.
    #[must_use]
    pub const fn of(self, minor: i64) -> Money {
        Money { minor, currency: self }
    }
}

impl Serialize for Currency {
    fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(self.letters())
    }
}

impl<'de> Deserialize<'de> for Currency {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let letters = String::deserialize(from)?;
        Self::from_letters(&letters)
            .ok_or_else(|| serde::de::Error::custom(format!("unknown currency {letters}")))
    }
}

/// An amount: whole minor units (cents, pence) of one currency.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Money {
    /// Minor units; negative when owed the other way.
    pub minor: i64,
    /// Their currency.
    pub currency: Currency,
}

impl Money {
    /// Whether nothing is to pay.
    #[must_use]
    pub const fn is_zero(self) -> bool {
        self.minor == 0
    }

    /// The figures alone, such as `84.00`: for columns whose heading names the currency.
    #[must_use]
    pub fn figures(self) -> String {
        let exponent = usize::from(self.currency.exponent);
        let scale = 10u64.pow(u32::from(self.currency.exponent));
        let sign = if self.minor < 0 { "−" } else { "" };
        let (whole, rest) = (self.minor.unsigned_abs() / scale, self.minor.unsigned_abs() % scale);
        if exponent == 0 {
            format!("{sign}{whole}")
        } else {
            format!("{sign}{whole}.{rest:0exponent$}")
        }
    }

    /// The figures alone as people read them, `12,345.00`: for tables on a page, never for a file
    /// or a field.
    #[must_use]
    pub fn column(self) -> String {
        grouped(&self.figures())
    }
}

/// Figures with a comma before every three digits of a whole number of five digits and more, as
/// people read large ones: `12,345.00`.
#[must_use]
pub fn grouped(figures: &str) -> String {
    let (whole, rest) = figures.find('.').map_or((figures, ""), |at| figures.split_at(at));
    let digits = whole.chars().filter(char::is_ascii_digit).count();
    if digits < 5 {
        return figures.to_owned();
    }
    let mut left = digits;
    let mut out = String::new();
    for c in whole.chars() {
        if c.is_ascii_digit() {
            if left < digits && left % 3 == 0 {
                out.push(',');
            }
            left -= 1;
        }
        out.push(c);
    }
    out + rest
}

/// Written for people: `€84.00`, `−£3.50`, `¥1200`, `€12,345.00`.
impl fmt::Display for Money {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let figures = self.column();
        match figures.strip_prefix('−') {
            Some(positive) => write!(f, "−{}{positive}", self.currency.sign),
            None => write!(f, "{}{figures}", self.currency.sign),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// What is written can be read again, in every currency.
        #[test]
        fn figures_are_read_back(minor in 0i64..=i64::MAX / 2, which in 0usize..KNOWN.len()) {
            let letters = std::str::from_utf8(KNOWN[which].0).unwrap();
            let currency = Currency::from_letters(letters).unwrap();
            let money = currency.of(minor);
            prop_assert_eq!(currency.parse(&money.figures()), Some(money));
            let owed = currency.of(-minor).figures();
            prop_assert_eq!(owed.trim_start_matches('−'), money.figures());
            prop_assert_eq!(currency.letters(), letters);
        }

        #[test]
        fn no_text_makes_reading_an_amount_panic(text in "\\PC{0,24}") {
            if let Some(money) = Currency::EUR.parse(&text) {
                prop_assert!(money.minor >= 0);
            }
        }
    }

    #[test]
    fn amounts_are_written_with_the_exponent_of_their_currency() {
        let of = |letters, minor| Currency::from_letters(letters).unwrap().of(minor).to_string();
        assert_eq!(of("EUR", 8400), "€84.00");
        assert_eq!(of("EUR", 5), "€0.05");
        assert_eq!(of("GBP", -350), "−£3.50");
        assert_eq!(of("JPY", 1200), "¥1200");
        assert_eq!(of("TND", 1), "TND 0.001");
        assert_eq!(of("EUR", 999_999), "€9999.99");
        assert_eq!(of("EUR", 1_000_000), "€10,000.00");
        assert_eq!(of("EUR", -123_456_789), "−€1,234,567.89");
        assert_eq!(of("JPY", 123_456), "¥123,456");
        assert_eq!(Currency::EUR.of(i64::MIN).figures(), "−92233720368547758.08");
        assert_eq!(Currency::from_letters("EUX"), None);
        let read = |text| Currency::EUR.parse(text).map(|m| m.minor);
        assert_eq!(
            [read("36"), read("36.00"), read("36,5"), read("0.05")],
            [Some(3600), Some(3600), Some(3650), Some(5)]
        );
        for bad in ["", ".5", "-1", "1.234", "1,000.00", "ten", "99999999999999999999"] {
            assert_eq!(read(bad), None, "{bad}");
        }
    }
}
