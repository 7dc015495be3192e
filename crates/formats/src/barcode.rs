//! QR codes (ISO/IEC 18004) and Code 128 (ISO/IEC 15417), as modules to draw.

use barcoders::sym::code128::Code128;
use matricle_core::codes::TicketCode;
use qrcode::{Color, EcLevel, QrCode};

/// A square of dark and light modules, without its quiet zone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Square {
    /// Modules a side.
    pub side: usize,
    /// Row by row; true is dark.
    pub dark: Vec<bool>,
}

/// Bars of one module's width each, without the quiet zone; true is dark.
pub type Bars = Vec<bool>;

/// The QR code of a ticket: error correction M, so that a creased ticket is read.
///
/// # Panics
/// Never: twelve letters fit in the smallest symbols.
#[must_use]
pub fn qr(code: TicketCode) -> Square {
    let symbol = QrCode::with_error_correction_level(code.as_str(), EcLevel::M)
        .expect("twelve letters fit in a version 1 symbol");
    let side = symbol.width();
    let dark = symbol.into_colors().into_iter().map(|c| c == Color::Dark).collect();
    Square { side, dark }
}

/// The QR code of any text, such as a payment (EPC069-12 asks for error correction M); `None`
/// for no text, or one that is too long.
#[must_use]
pub fn text_qr(text: &str) -> Option<Square> {
    if text.is_empty() {
        return None;
    }
    let symbol = QrCode::with_error_correction_level(text, EcLevel::M).ok()?;
    let side = symbol.width();
    let dark = symbol.into_colors().into_iter().map(|c| c == Color::Dark).collect();
    Some(Square { side, dark })
}

/// The Code 128 of a ticket, in code set B.
///
/// # Panics
/// Never: all letters of a ticket code are in code set B.
#[must_use]
pub fn code128(code: TicketCode) -> Bars {
    // `Ɓ` is how the library is told to start in code set B.
    let symbol = Code128::new(format!("Ɓ{}", code.as_str())).expect("letters are in code set B");
    symbol.encode().into_iter().map(|bar| bar == 1).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_ticket_is_a_version_1_qr_code_and_fourteen_code_128_characters() {
        let code = TicketCode::from_random(0x12_3456_789a);
        let square = qr(code);
        assert_eq!((square.side, square.dark.len()), (21, 441));
        assert!(square.dark[..7].iter().all(|d| *d), "the finder pattern's edge");
        // Start, twelve letters, check: eleven modules each; stop: thirteen.
        let bars = code128(code);
        assert_eq!(bars.len(), 14 * 11 + 13);
        assert_eq!(
            bars[..11].iter().map(|b| u8::from(*b)).collect::<Vec<_>>(),
            [1, 1, 0, 1, 0, 0, 1, 0, 0, 0, 0]
        );
    }
}
