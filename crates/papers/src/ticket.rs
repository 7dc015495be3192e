//! Tickets: one A5 page an attendee.

use jiff::Timestamp;

use crate::PaperError;
use crate::paper::{Face, Ink, MM, Paper, Pen, Style, drawn};

/// The barcodes of a ticket, as modules.
#[derive(Debug, Clone)]
pub struct Barcodes {
    /// Modules a side of the QR code.
    pub side: usize,
    /// Its modules, row by row; true is dark.
    pub square: Vec<bool>,
    /// The modules of the Code 128; true is dark.
    pub bars: Vec<bool>,
}

/// What stands on a ticket.
#[derive(Debug, Clone)]
pub struct Ticket {
    /// The house.
    pub house: String,
    /// The kind of event.
    pub kind: String,
    /// The event.
    pub title: String,
    /// The day, in words.
    pub day: String,
    /// From when until when, in words.
    pub times: String,
    /// The place.
    pub place: String,
    /// Its address.
    pub address: String,
    /// Whose ticket it is.
    pub attendee: String,
    /// Ticket type and place on the booking.
    pub ticket: String,
    /// Booking and booker.
    pub booking: String,
    /// The code in groups.
    pub code: String,
    /// The same code, as bars.
    pub barcodes: Barcodes,
}

const WIDTH: f32 = 148.0 * MM;
const HEIGHT: f32 = 210.0 * MM;
const EDGE: f32 = 12.0 * MM;

/// Draws tickets, a page each.
///
/// # Errors
/// The PDF writer refuses.
pub fn tickets(title: &str, tickets: &[Ticket], made_at: Timestamp) -> Result<Vec<u8>, PaperError> {
    drawn(|standard| {
        let house = tickets.first().map_or("", |t| t.house.as_str());
        let mut paper = Paper::new(standard, title, house, made_at);
        for ticket in tickets {
            paper.page(WIDTH, HEIGHT, |pen| draw(pen, ticket))?;
        }
        paper.finish()
    })
}

fn draw(pen: &mut Pen<'_, '_>, ticket: &Ticket) {
    let inner = WIDTH - 2.0 * EDGE;
    pen.block(0.0, 0.0, WIDTH, HEIGHT, Ink::Card);
    let bar = 14.0 * MM;
    pen.block(0.0, 0.0, WIDTH, bar, Ink::Text);
    pen.mark(EDGE, bar / 2.0 - 8.0, 16.0);
    pen.text(
        EDGE + 22.0,
        bar / 2.0 - 8.2,
        inner - 22.0,
        &ticket.house,
        Style::new(Face::Mark, 13.0, Ink::Paper),
        1,
    );

    let mut y = bar + 7.0 * MM;
    y += pen.text(EDGE, y, inner, &ticket.kind, Style::new(Face::Strong, 10.5, Ink::Bronze), 1);
    y += 1.0
        + pen.text(
            EDGE,
            y + 1.0,
            inner,
            &ticket.title,
            Style::new(Face::Heading, 25.0, Ink::Text),
            2,
        );
    y += 8.0;
    pen.line((EDGE, y), (WIDTH - EDGE, y), 1.4, None, Ink::Text);
    y += 7.0;
    let (label, value) =
        (Style::new(Face::Body, 10.5, Ink::Soft), Style::new(Face::Strong, 12.0, Ink::Text));
    let column = 46.0;
    for (name, lines) in [
        ("Day", vec![&ticket.day]),
        ("Time", vec![&ticket.times]),
        ("Where", vec![&ticket.place, &ticket.address]),
    ] {
        pen.text(EDGE, y + 1.2, column, name, label, 1);
        for (i, line) in lines.into_iter().enumerate().filter(|(_, l)| !l.is_empty()) {
            let style = if i == 0 { value } else { Style::new(Face::Body, 10.5, Ink::Text) };
            y += pen.text(EDGE + column, y, inner - column, line, style, 2);
        }
        y += 3.5;
    }

    // The stub: everything the door needs, below the perforation.
    let perforation = 98.0 * MM;
    pen.line((4.0, perforation), (WIDTH - 4.0, perforation), 2.2, Some(4.4), Ink::Rule);
    let mut y = perforation + 6.0 * MM;
    y += pen.text(
        EDGE,
        y,
        inner,
        &ticket.attendee,
        Style::new(Face::Heading, 21.0, Ink::Text).centred(),
        2,
    );
    y += 2.0
        + pen.text(
            EDGE,
            y + 2.0,
            inner,
            &ticket.ticket,
            Style::new(Face::Body, 11.5, Ink::Text).centred(),
            1,
        );

    // Four light modules around the QR code, as ISO/IEC 18004 asks; pure black on white.
    let codes = &ticket.barcodes;
    let module = 5.2;
    let side = module * count(codes.side);
    let (left, top) = ((WIDTH - side) / 2.0, y + 8.0 + 4.0 * module);
    let quiet = 4.0 * module;
    pen.block(left - quiet, top - quiet, side + 2.0 * quiet, side + 2.0 * quiet, Ink::White);
    let dark = codes.square.iter().enumerate().filter(|(_, dark)| **dark).map(|(i, _)| {
        let (row, column) = (i / codes.side, i % codes.side);
        (left + module * count(column), top + module * count(row), module, module)
    });
    pen.blocks(dark, Ink::Black);
    y = top + side + quiet + 5.0;

    // Ten light modules on either side of the Code 128, as ISO/IEC 15417 asks.
    let module = 1.44;
    let (width, height) = (module * count(codes.bars.len()), 13.0 * MM);
    let left = (WIDTH - width) / 2.0;
    pen.block(left - 10.0 * module, y, width + 20.0 * module, height + 8.0, Ink::White);
    let bars = codes.bars.iter().enumerate().filter(|(_, dark)| **dark);
    pen.blocks(bars.map(|(i, _)| (left + module * count(i), y + 4.0, module, height)), Ink::Black);
    y += height + 12.0;
    y += pen.text(
        EDGE,
        y,
        inner,
        &ticket.code,
        Style::new(Face::Strong, 15.0, Ink::Text).spaced(1.6).centred(),
        1,
    );
    pen.text(
        EDGE,
        y + 2.0,
        inner,
        &ticket.booking,
        Style::new(Face::Body, 9.5, Ink::Soft).centred(),
        1,
    );
}

/// A small count as a length; modules of a barcode are far below 2²⁴.
fn count(n: usize) -> f32 {
    f32::from(u16::try_from(n).unwrap_or(u16::MAX))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ticket(attendee: &str) -> Ticket {
        Ticket {
            house: "Ostrel Vale Beekeepers".into(),
            kind: "Microscopy workshop".into(),
            title: "Pollen under the lens".into(),
            day: "Saturday 12 December 2026".into(),
            times: "10:00 to 15:30".into(),
            place: "Millrace Barn, long room".into(),
            address: "3 Weir Lane, Ostrel".into(),
            attendee: attendee.into(),
            ticket: "Visitor".into(),
            booking: "Booking KRTB-XNLD".into(),
            code: "BCDF-GHJK-LNPR".into(),
            barcodes: Barcodes {
                side: 2,
                square: vec![true, false, false, true],
                bars: vec![true; 5],
            },
        }
    }

    /// What another program reads out of a PDF, if one is here that can.
    fn extracted(pdf: &[u8]) -> Option<String> {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), pdf).unwrap();
        let out =
            std::process::Command::new("pdftotext").arg(file.path()).arg("-").output().ok()?;
        Some(String::from_utf8(out.stdout).unwrap())
    }

    #[test]
    fn a_ticket_is_read_by_everybody_and_kept_for_long_and_drawn_whatever_the_name() {
        let at = "2026-11-25T08:00:00Z".parse().unwrap();
        // ISO 14289-1 and ISO 19005-2 name themselves in what a PDF says of itself.
        let says = |name: &str| {
            let pdf = tickets("Your ticket", &[ticket(name)], at).unwrap();
            String::from_utf8_lossy(&pdf).contains("pdfuaid")
        };
        assert!(says("Siân O'Hara") && says("王小明"));
        // A letter that no font has keeps it from that, and nobody from their ticket.
        assert!(!says("\u{13000}\u{13001}"));
    }

    #[test]
    fn names_of_many_scripts_are_read_out_as_they_are_printed() {
        let names = [
            "Győrffy Offiíc",
            "王小明 たなか 김철수",
            "محمد بن سلمان",
            "דוד בן־גוריון",
            "प्रिया क्षत्रिय",
            "Nguyễn Thị Hồng Ngọc",
            "রবীন্দ্রনাথ தமிழ் ქართული Հայ አማርኛ",
            "สมชาย ใจดี Ждан Ωμέγα ὥρα",
            &"W".repeat(120),
        ];
        for name in names {
            assert!(crate::without_glyph(name).is_empty(), "{name}");
        }
        assert_eq!(crate::without_glyph("Ana 𓀀\u{200d}𒀀 é"), ['𒀀', '𓀀']);
        let all = names.iter().map(|n| ticket(n)).chain([ticket("Nguye\u{302}\u{303}n")]);
        let pdf = tickets("Tickets", &all.collect::<Vec<_>>(), Timestamp::UNIX_EPOCH).unwrap();
        assert!(pdf.len() < 250_000, "fonts are subset: {}", pdf.len());
        let Some(text) = extracted(&pdf) else { return };
        // Readers mark what runs from right to left, and break where the paper does.
        let plain: String =
            text.chars().filter(|c| !matches!(c, '\u{202a}'..='\u{202e}' | '\n')).collect();
        for name in names.into_iter().chain(["BCDF-GHJK-LNPR", "Nguyễn"]) {
            assert!(plain.contains(name), "{name}: {text}");
        }
    }

    #[test]
    fn a_page_for_each_attendee_with_fonts_embedded_and_nothing_made_up() {
        let at = Timestamp::UNIX_EPOCH;
        let draw = |names: &[&str]| {
            tickets("Tickets", &names.iter().map(|n| ticket(n)).collect::<Vec<_>>(), at).unwrap()
        };
        let pdf = draw(&["Siân O'Hara", "Ωmega Ждан", &"Very long name ".repeat(30)]);
        let text = String::from_utf8_lossy(&pdf);
        assert!(text.starts_with("%PDF-1."));
        assert_eq!(
            text.matches("/Type/Page/").count() + text.matches("/Type /Page\n").count(),
            3,
            "{}",
            &text[..2000]
        );
        assert!(text.contains("Besley") && text.contains("SourceSans3"));
        assert_eq!(draw(&["Same"]), draw(&["Same"]));
        assert!(pdf.len() < 120_000, "fonts are subset: {}", pdf.len());
    }
}
