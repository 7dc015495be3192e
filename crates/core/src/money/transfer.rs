//! Bank transfers: the creditor reference on a booking (ISO 11649) and the text of the
//! payment QR code (EPC069-12, version 002, SEPA credit transfer).

use crate::Money;
use crate::words::codes::Reference;

/// The remainder modulo 97 of letters and digits, letters counting as two digits
/// (A = 10 … Z = 35), as ISO 7064 MOD 97-10 asks. `None` for any other character.
fn modulo_97(text: &str) -> Option<u32> {
    text.chars().try_fold(0u32, |sum, c| {
        let value = c.to_digit(36)?;
        Some(if value < 10 { (sum * 10 + value) % 97 } else { (sum * 100 + value) % 97 })
    })
}

/// The creditor reference of a booking: `RF`, two check digits, the booking's reference.
#[must_use]
pub fn creditor_reference(reference: Reference) -> String {
    let own = reference.as_str();
    let check = modulo_97(&format!("{own}RF00")).map_or(0, |rest| 98 - rest);
    format!("RF{check:02}{own}")
}

/// In groups of four, as it is printed.
#[must_use]
pub fn grouped(text: &str) -> String {
    let letters: Vec<char> = text.chars().collect();
    letters.chunks(4).map(|c| c.iter().collect::<String>()).collect::<Vec<_>>().join(" ")
}

/// The booking named by a creditor reference as somebody typed or a bank printed it:
/// blanks and case do not matter; the check digits and the reference's own letter must
/// be right.
#[must_use]
pub fn read_creditor_reference(text: &str) -> Option<Reference> {
    let text: String = text.chars().filter(char::is_ascii_alphanumeric).collect();
    let text = text.to_ascii_uppercase();
    let (head, own) = text.split_at_checked(4)?;
    // Check digits are 02 to 98: others would leave the same remainder.
    let check: u32 =
        head.strip_prefix("RF").filter(|d| d.bytes().all(|b| b.is_ascii_digit()))?.parse().ok()?;
    if !(2..=98).contains(&check) || own.len() > 21 || modulo_97(&format!("{own}{head}")) != Some(1)
    {
        return None;
    }
    Reference::parse(own)
}

/// Whether this is a business identifier code by its form (ISO 9362): four letters or digits,
/// the two letters of a country, two letters or digits, and three more for a branch or none.
#[must_use]
pub fn is_bic(text: &str) -> bool {
    matches!(text.len(), 8 | 11)
        && text.bytes().all(|b| b.is_ascii_uppercase() || b.is_ascii_digit())
        && text.bytes().skip(4).take(2).all(|b| b.is_ascii_uppercase())
}

/// What is wrong with an IBAN (ISO 13616).
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum IbanFault {
    /// It does not begin with the two letters of a country and two figures.
    #[error("it does not begin with a country and two figures")]
    Head,
    /// Other signs than letters and figures.
    #[error("it has other signs than letters and figures")]
    Signs,
    /// So many letters and figures: no country has an IBAN that long or short.
    #[error("{0} letters and figures")]
    Length(usize),
    /// The two figures after the country do not fit the rest: a letter or figure is wrong, or two
    /// are swapped.
    #[error("its check figures do not fit")]
    Check,
}

/// Reads an IBAN (ISO 13616), blanks and small letters forgiven.
///
/// # Errors
/// What is wrong with it.
pub fn read_iban(text: &str) -> Result<String, IbanFault> {
    let bare: String = text.chars().filter(|c| !c.is_whitespace()).collect();
    let bare = bare.to_ascii_uppercase();
    if !bare.bytes().all(|b| b.is_ascii_alphanumeric()) {
        return Err(IbanFault::Signs);
    }
    let (head, rest) = bare.split_at_checked(4).ok_or(IbanFault::Length(bare.len()))?;
    let letters = head.bytes().take(2).all(|b| b.is_ascii_uppercase());
    if !letters || !head.bytes().skip(2).all(|b| b.is_ascii_digit()) {
        return Err(IbanFault::Head);
    }
    if !(11..=30).contains(&rest.len()) {
        return Err(IbanFault::Length(bare.len()));
    }
    match modulo_97(&format!("{rest}{head}")) {
        Some(1) => Ok(bare),
        _ => Err(IbanFault::Check),
    }
}

/// A transfer as an address that banking programs open (`payto:`, RFC 8905); empty when the house
/// takes none.
#[must_use]
pub fn payto(payee: &Payee, amount: Money, reference: Reference) -> String {
    if !payee.takes_transfers() {
        return String::new();
    }
    let plain = |text: &str| -> String {
        let byte = |b: u8| match b {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => {
                char::from(b).to_string()
            }
            _ => format!("%{b:02X}"),
        };
        text.bytes().map(byte).collect()
    };
    let iban: String = payee.iban.chars().filter(|c| !c.is_whitespace()).collect();
    let bic = if payee.bic.is_empty() { String::new() } else { format!("{}/", payee.bic) };
    format!(
        "payto://iban/{bic}{iban}?amount={}:{}&receiver-name={}&message={}",
        amount.currency.letters(),
        amount.figures(),
        plain(&payee.name),
        creditor_reference(reference)
    )
}

/// Whether this is an IBAN ([`read_iban`]).
#[must_use]
pub fn is_iban(text: &str) -> bool {
    read_iban(text).is_ok()
}

/// Whom a transfer goes to.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Payee {
    /// The account's holder.
    pub name: String,
    /// Its IBAN; empty when the house takes no transfers.
    pub iban: String,
    /// Its BIC; may be empty within the European Economic Area.
    pub bic: String,
}

impl Payee {
    /// Whether the house takes transfers at all.
    #[must_use]
    pub fn takes_transfers(&self) -> bool {
        !self.iban.is_empty()
    }
}

/// Why no payment QR code can be made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NoQr {
    /// The house has named no account.
    #[error("no account is named")]
    NoAccount,
    /// The standard knows euro only, from 0.01 to 999,999,999.99.
    #[error("the amount is not in euro, or out of range")]
    Amount,
}

/// The text of the payment QR code: twelve lines of EPC069-12 (version 002, UTF-8), of
/// which the last two are left out since they are empty. The structured reference is used
/// and so no free text.
///
/// # Errors
/// Nothing to pay to, or an amount that the standard cannot carry.
pub fn epc_text(payee: &Payee, amount: Money, reference: Reference) -> Result<String, NoQr> {
    if !payee.takes_transfers() {
        return Err(NoQr::NoAccount);
    }
    if amount.currency.letters() != "EUR" || !(1..=99_999_999_999).contains(&amount.minor) {
        return Err(NoQr::Amount);
    }
    let iban: String = payee.iban.chars().filter(|c| !c.is_whitespace()).collect();
    // At most 70 characters of the name (AT-E001).
    let name: String = payee.name.chars().filter(|c| !c.is_control()).take(70).collect();
    Ok([
        "BCD",
        "002",
        "1",
        "SCT",
        payee.bic.trim(),
        name.trim(),
        &iban,
        &format!("EUR{}", amount.figures()),
        "",
        &creditor_reference(reference),
    ]
    .join("\n"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Currency;
    use proptest::prelude::*;

    #[test]
    fn known_values_of_the_standards() {
        // ISO 11649's own example, and the Irish and German examples of the IBAN registry.
        assert_eq!(modulo_97("539007547034RF18"), Some(1));
        assert!(is_bic("AIBKIE2D") && is_bic("AIBKIE2DXXX"));
        for bad in ["", "AIBKIE2", "AIBKIE2DXX", "AIBK1E2D", "aibkie2d", "AIBKIE2É"] {
            assert!(!is_bic(bad), "{bad}");
        }
        assert!(is_iban("IE29 AIBK 9311 5212 3456 78") && is_iban("DE89370400440532013000"));
        assert!(!is_iban("IE28 AIBK 9311 5212 3456 78") && !is_iban("IE29") && !is_iban("€"));
        let (payee, reference) = (
            Payee {
                name: "Ostrel Vale Beekeepers".into(),
                iban: "IE29 AIBK 9311 5212 3456 78".into(),
                bic: "AIBKIE2D".into(),
            },
            Reference::from_random(7),
        );
        let text = epc_text(&payee, Currency::EUR.of(12_050), reference).unwrap();
        let lines: Vec<&str> = text.split('\n').collect();
        assert_eq!(lines[..4], ["BCD", "002", "1", "SCT"]);
        assert_eq!(
            lines[4..9],
            ["AIBKIE2D", "Ostrel Vale Beekeepers", "IE29AIBK93115212345678", "EUR120.50", ""]
        );
        assert_eq!(read_creditor_reference(lines[9]), Some(reference));
        assert!(lines.len() == 10 && text.len() <= 331);
        assert_eq!(epc_text(&payee, Currency::EUR.of(0), reference), Err(NoQr::Amount));
        assert_eq!(
            epc_text(&Payee::default(), Currency::EUR.of(1), reference),
            Err(NoQr::NoAccount)
        );
    }

    proptest! {
        #[test]
        fn a_creditor_reference_is_read_back_and_a_slip_is_noticed(seed: u64, at in 0usize..12, with in 0usize..36) {
            let reference = Reference::from_random(seed);
            let text = creditor_reference(reference);
            prop_assert_eq!(text.len(), 12);
            prop_assert_eq!(modulo_97(&format!("{}{}", &text[4..], &text[..4])), Some(1));
            prop_assert_eq!(read_creditor_reference(&grouped(&text).to_lowercase()), Some(reference));
            let mut slip: Vec<u8> = text.clone().into_bytes();
            slip[at] = b"0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ"[with];
            let slip = String::from_utf8(slip).unwrap();
            if slip != text { prop_assert_eq!(read_creditor_reference(&slip), None); }
        }

        #[test]
        fn no_text_makes_reading_panic(text in "\\PC{0,30}") {
            let _ = (read_creditor_reference(&text), is_iban(&text));
        }
    }
}
