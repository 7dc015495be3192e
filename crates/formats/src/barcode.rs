//! QR codes (ISO/IEC 18004) and Code 128 (ISO/IEC 15417), as modules to draw.

use barcoders::sym::code128::Code128;
use matricle_core::words::codes::TicketCode;
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

/// A square as a picture: PNG, eight pixels a module, with the quiet zone of four modules.
///
/// # Panics
/// Never: a picture in memory is always written.
#[must_use]
pub fn png(square: &Square) -> Vec<u8> {
    const SCALE: usize = 8;
    let side = (square.side + 8) * SCALE;
    let across = u32::try_from(side).unwrap_or(0);
    let picture = image::GrayImage::from_fn(across, across, |x, y| {
        let module = |n: u32| (n as usize / SCALE).checked_sub(4).filter(|n| *n < square.side);
        let dark = module(x).zip(module(y)).is_some_and(|(x, y)| square.dark[y * square.side + x]);
        image::Luma([if dark { 0 } else { 255 }])
    });
    let mut out = std::io::Cursor::new(Vec::new());
    picture.write_to(&mut out, image::ImageFormat::Png).expect("memory takes a picture");
    out.into_inner()
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

/// The Code 128 of any text of printable ASCII, in code set B; `None` of another text.
#[must_use]
pub fn code128_of(text: &str) -> Option<Bars> {
    let plain = !text.is_empty() && text.chars().all(|c| matches!(c, ' '..='~'));
    let symbol = plain.then(|| Code128::new(format!("Ɓ{text}")).ok())??;
    Some(symbol.encode().into_iter().map(|bar| bar == 1).collect())
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
