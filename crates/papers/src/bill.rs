//! Bills: receipts, invoices and credit notes, one A4 page each.

use jiff::Timestamp;

use crate::PaperError;
use crate::paper::{Face, Ink, MM, Paper, Pen, Style, drawn};

/// A line of a bill.
#[derive(Debug, Clone)]
pub struct BillLine {
    /// What it is for.
    pub what: String,
    /// The tax rate in words.
    pub rate: String,
    /// The amount with tax, in figures.
    pub amount: String,
}

/// What stands on a bill. Amounts are figures of one currency.
#[derive(Debug, Clone)]
pub struct Bill {
    /// The house.
    pub house: String,
    /// Who sells: lines of name and address.
    pub seller: Vec<String>,
    /// The seller's tax number; may be empty.
    pub tax_number: String,
    /// What it is: *Receipt*, *Invoice*, *Credit note*.
    pub kind: String,
    /// Its number.
    pub number: String,
    /// The day it was issued, in words.
    pub day: String,
    /// Who buys.
    pub buyer: String,
    /// The event.
    pub title: String,
    /// When it is, in words.
    pub when: String,
    /// The booking.
    pub about: String,
    /// The document it takes back from, or whose payment it tells of, in words; empty for none.
    pub corrects: String,
    /// ISO 4217 letters.
    pub currency: String,
    /// Its lines.
    pub lines: Vec<BillLine>,
    /// The sum of them.
    pub total: String,
    /// The tax table: rate, amount without tax, tax, amount with tax.
    pub taxes: Vec<[String; 4]>,
    /// How it was or is to be paid.
    pub payment: String,
    /// The payment QR code: modules a side, and the modules row by row.
    pub square: Option<(usize, Vec<bool>)>,
    /// What a payer types into a transfer.
    pub transfer: Vec<(String, String)>,
}

const WIDTH: f32 = 210.0 * MM;
const HEIGHT: f32 = 297.0 * MM;
const EDGE: f32 = 22.0 * MM;
/// Lines beyond this are summed up in one: a page has an end.
const MOST: usize = 24;

/// Draws a bill.
///
/// # Errors
/// The PDF writer refuses.
pub fn bill(bill: &Bill, made_at: Timestamp) -> Result<Vec<u8>, PaperError> {
    drawn(|standard| {
        let title = format!("{} {}", bill.kind, bill.number);
        let mut paper = Paper::new(standard, &title, &bill.house, made_at);
        paper.page(WIDTH, HEIGHT, |pen| draw(pen, bill))?;
        paper.finish()
    })
}

fn right(pen: &mut Pen<'_, '_>, edge: f32, y: f32, text: &str, style: Style) -> f32 {
    let width = 110.0;
    pen.text(edge - width, y, width, text, style.at_end(), 1)
}

fn draw(pen: &mut Pen<'_, '_>, bill: &Bill) {
    let inner = WIDTH - 2.0 * EDGE;
    let end = WIDTH - EDGE;
    let body = Style::new(Face::Body, 10.5, Ink::Text);
    let strong = Style::new(Face::Strong, 10.5, Ink::Text);
    let soft = Style::new(Face::Body, 9.5, Ink::Soft);
    pen.mark(EDGE, 16.0 * MM, 18.0);
    pen.text(
        EDGE + 25.0,
        16.0 * MM + 1.0,
        inner / 2.0,
        &bill.house,
        Style::new(Face::Mark, 14.0, Ink::Text),
        1,
    );
    let mut top = 16.0 * MM;
    for line in bill.seller.iter().take(6) {
        top += right(pen, end, top, line, soft);
    }
    if !bill.tax_number.is_empty() {
        right(pen, end, top, &format!("Tax number {}", bill.tax_number), soft);
    }
    let mut y = 48.0 * MM;
    y += pen.text(EDGE, y, inner / 2.0, &bill.buyer, Style::new(Face::Strong, 12.0, Ink::Text), 2);
    y = y.max(58.0 * MM) + 6.0 * MM;
    y += pen.text(
        EDGE,
        y,
        inner,
        &format!("{} {}", bill.kind, bill.number),
        Style::new(Face::Heading, 24.0, Ink::Text),
        1,
    );
    y += 2.0 + pen.text(EDGE, y + 2.0, inner, &format!("{} · {}", bill.day, bill.about), body, 1);
    if !bill.corrects.is_empty() {
        y += pen.text(EDGE, y, inner, &bill.corrects, body, 1);
    }
    y += 6.0;
    y += pen.text(EDGE, y, inner, &bill.title, strong, 2);
    y += pen.text(EDGE, y, inner, &bill.when, body, 1) + 10.0;
    let (rate, amount) = (end - 110.0, end);
    pen.text(EDGE, y, inner, "For", soft, 1);
    right(pen, rate, y, "Tax rate", soft);
    y += right(pen, amount, y, &bill.currency, soft) + 2.0;
    pen.line((EDGE, y), (end, y), 1.4, None, Ink::Text);
    y += 5.0;
    for line in bill.lines.iter().take(MOST) {
        right(pen, rate, y, &line.rate, body);
        right(pen, amount, y, &line.amount, body);
        y += pen.text(EDGE, y, inner - 190.0, &line.what, body, 2) + 3.0;
    }
    pen.line((EDGE, y), (end, y), 0.7, None, Ink::Rule);
    y += 5.0;
    pen.text(EDGE, y, inner, "Together", Style::new(Face::Strong, 13.0, Ink::Text), 1);
    y += right(pen, amount, y, &bill.total, Style::new(Face::Strong, 13.0, Ink::Text)) + 12.0;
    let columns = [rate - 110.0, rate, amount];
    pen.text(EDGE, y, 90.0, "Tax rate", soft, 1);
    for (edge, name) in columns.into_iter().zip(["Without tax", "Tax", "With tax"]) {
        right(pen, edge, y, name, soft);
    }
    y += 14.0;
    for row in &bill.taxes {
        pen.text(EDGE, y, 90.0, &row[0], body, 1);
        for (edge, figures) in columns.into_iter().zip(&row[1..]) {
            right(pen, edge, y, figures, body);
        }
        y += 14.0;
    }
    y += 12.0;
    y += pen.text(EDGE, y, inner, &bill.payment, strong, 3) + 8.0;
    if let Some((side, dark)) = &bill.square {
        // A module is at least 0.4 mm, and four light ones stand around (ISO/IEC 18004).
        let module = 0.62 * MM;
        let length = |n: usize| module * f32::from(u16::try_from(n).unwrap_or(u16::MAX));
        let (left, code_top, whole) = (EDGE + 4.0 * module, y + 4.0 * module, length(*side));
        pen.block(EDGE, y, whole + 8.0 * module, whole + 8.0 * module, Ink::White);
        let modules =
            dark.iter().enumerate().filter(|(_, dark)| **dark).map(|(i, _)| {
                (left + length(i % side), code_top + length(i / side), module, module)
            });
        pen.blocks(modules, Ink::Black);
        let beside = EDGE + whole + 8.0 * module + 16.0;
        let mut line = y + 6.0;
        for (name, value) in &bill.transfer {
            pen.text(beside, line, 70.0, name, soft, 1);
            line += pen.text(beside + 70.0, line, end - beside - 70.0, value, strong, 2) + 3.0;
        }
        pen.text(
            beside,
            line + 4.0,
            end - beside,
            "Scan this with your bank’s app, or type the reference exactly as it stands.",
            soft,
            3,
        );
    } else {
        for (name, value) in &bill.transfer {
            pen.text(EDGE, y, 70.0, name, soft, 1);
            y += pen.text(EDGE + 70.0, y, inner - 70.0, value, strong, 2) + 3.0;
        }
    }
}
