//! Receipts, invoices and credit notes: what is printed on them.
//!
//! A document says what a booking is charged since the one before it: an invoice or a
//! receipt when that is more, a credit note when it is less. Together the documents of a
//! booking always come to what it is charged.

use serde::{Deserialize, Serialize};

use crate::money::ledger::Charge;

crate::worded! {
    /// What a document is.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
    pub enum Kind {
        /// Paid when it was issued.
        Receipt = "receipt",
        /// To be paid when it was issued.
        Invoice = "invoice",
        /// Takes back what an earlier one charged.
        CreditNote = "credit note",
    }
}

impl Kind {
    /// A number as it is written, such as `R-2026-0017`.
    #[must_use]
    pub fn name(self, year: i16, number: u32) -> String {
        let letter = match self {
            Self::Receipt => "R",
            Self::Invoice => "I",
            Self::CreditNote => "C",
        };
        format!("{letter}-{year}-{number:04}")
    }
}

/// A line of a document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DocumentLine {
    /// What it is for.
    pub what: String,
    /// Its tax rate, in hundredths of a percent.
    pub rate: u32,
    /// Minor units with tax; negative on a credit note.
    pub gross: i64,
    /// The tax contained.
    pub tax: i64,
}

/// All that is printed on a document; once issued it stays as it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Body {
    /// ISO 4217 letters.
    pub currency: String,
    /// The house's name.
    pub house: String,
    /// Who sells: lines of name and address.
    pub seller: String,
    /// The seller's tax number; may be empty.
    pub tax_number: String,
    /// The booker's name.
    pub buyer: String,
    /// What was booked: the event.
    pub title: String,
    /// When it is, in words.
    pub when: String,
    /// The booking's reference, as people see it.
    pub reference: String,
    /// The number of the document that this one takes back from; empty for none.
    pub corrects: String,
    /// Its lines.
    pub lines: Vec<DocumentLine>,
    /// How it was paid or is to be paid; a sentence.
    pub payment: String,
    /// The text of a payment QR code; empty for none.
    pub qr: String,
    /// Lines under the code: account, creditor reference.
    pub transfer: Vec<(String, String)>,
    /// It says that an invoice was paid, and charges nothing of its own.
    #[serde(default)]
    pub settles: bool,
}

impl Body {
    /// What its lines come to, in minor units.
    #[must_use]
    pub fn total(&self) -> i64 {
        self.lines.iter().map(|l| l.gross).sum()
    }

    /// What it charges, in minor units: nothing where it says that an invoice was paid.
    #[must_use]
    pub fn charged(&self) -> i64 {
        if self.settles { 0 } else { self.total() }
    }

    /// Its tax table: by rate, the amount with tax and the tax. It adds up to the total.
    #[must_use]
    pub fn charge(&self) -> Charge {
        Charge::of(self.lines.iter().map(|l| (l.rate, l.gross, l.tax)))
    }
}

/// The lines of a document that brings what was documented to what is charged. `lines` are
/// the booking's as they stand: what each is, its rate, its amount with tax and the tax. When
/// nothing was documented they are printed as they are; otherwise what changed is printed
/// rate by rate under `changed`.
#[must_use]
pub fn lines(documented: &Charge, lines: &[DocumentLine], changed: &str) -> Vec<DocumentLine> {
    if documented.by_rate.is_empty() {
        return lines.iter().filter(|l| l.gross != 0).cloned().collect();
    }
    let wanted = Charge::of(lines.iter().map(|l| (l.rate, l.gross, l.tax)));
    documented
        .to(&wanted)
        .by_rate
        .into_iter()
        .map(|(rate, (gross, tax))| DocumentLine { what: changed.to_owned(), rate, gross, tax })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn numbers_are_written_with_kind_and_year() {
        assert_eq!(Kind::Receipt.name(2026, 17), "R-2026-0017");
        assert_eq!(Kind::CreditNote.name(2026, 12_345), "C-2026-12345");
        assert!(Kind::ALL.into_iter().all(|k| Kind::from_word(k.word()) == Some(k)));
    }

    proptest! {
        /// Whatever a booking is charged one after the other, its documents come to the last.
        #[test]
        fn documents_add_up_to_what_is_charged(
            charges in prop::collection::vec(
                prop::collection::vec((prop::sample::select(vec![0u32, 900, 2300]), 0i64..9999, 0i64..99), 0..4), 1..6),
        ) {
            let mut documented = Charge::default();
            for charge in charges {
                let now: Vec<DocumentLine> = charge.iter()
                    .map(|(rate, gross, tax)| DocumentLine { what: "seats".into(), rate: *rate, gross: *gross, tax: *tax }).collect();
                let printed = lines(&documented, &now, "changed");
                let parts = |c: &Charge| c.by_rate.iter().map(|(r, (g, t))| (*r, *g, *t)).collect::<Vec<_>>();
                documented = Charge::of(parts(&documented).into_iter().chain(printed.iter().map(|l| (l.rate, l.gross, l.tax))));
                let wanted = Charge::of(now.iter().map(|l| (l.rate, l.gross, l.tax)));
                prop_assert_eq!(documented.total(), wanted.total());
                // A line without any amount is not printed, so its tax is none either.
                if now.iter().all(|l| l.gross > 0) { prop_assert_eq!(&documented, &wanted); }
            }
        }
    }
}
