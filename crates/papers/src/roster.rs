//! Rosters: who comes to a date, with a box to tick, on as many A4 pages as it takes.

use jiff::Timestamp;

use crate::PaperError;
use crate::paper::{Face, Ink, MM, Paper, Pen, Style, drawn};

/// What stands on a roster.
#[derive(Debug, Clone)]
pub struct Roster {
    /// The house.
    pub house: String,
    /// The event.
    pub title: String,
    /// When it is, in words.
    pub when: String,
    /// Where it is.
    pub place: String,
    /// How many come, in words.
    pub count: String,
    /// Name, ticket, and what else is to be known of each.
    pub rows: Vec<(String, String, String)>,
}

const WIDTH: f32 = 210.0 * MM;
const HEIGHT: f32 = 297.0 * MM;
const EDGE: f32 = 18.0 * MM;
/// So many people fit on a page.
const ON_A_PAGE: usize = 16;

/// Draws a roster.
///
/// # Errors
/// The PDF writer refuses.
pub fn roster(sheet: &Roster, made_at: Timestamp) -> Result<Vec<u8>, PaperError> {
    drawn(|standard| {
        let mut paper =
            Paper::new(standard, &format!("Who comes: {}", sheet.title), &sheet.house, made_at);
        let pages = sheet.rows.chunks(ON_A_PAGE).count();
        for (n, rows) in sheet.rows.chunks(ON_A_PAGE).enumerate() {
            let page = format!("{} · page {} of {pages}", sheet.count, n + 1);
            paper.page(WIDTH, HEIGHT, |pen| draw(pen, sheet, rows, &page))?;
        }
        paper.finish()
    })
}

fn draw(pen: &mut Pen<'_, '_>, sheet: &Roster, rows: &[(String, String, String)], page: &str) {
    let inner = WIDTH - 2.0 * EDGE;
    let strong = Style::new(Face::Strong, 11.0, Ink::Text);
    let body = Style::new(Face::Body, 10.0, Ink::Text);
    let soft = Style::new(Face::Body, 9.5, Ink::Soft);
    let mut y = EDGE;
    y += pen.text(EDGE, y, inner, &sheet.house, soft, 1) + 4.0;
    y += pen.text(EDGE, y, inner, &sheet.title, Style::new(Face::Heading, 20.0, Ink::Text), 2);
    y += pen.text(EDGE, y, inner, &format!("{} · {}", sheet.when, sheet.place), body, 2);
    y += pen.text(EDGE, y, inner, page, soft, 1) + 8.0;
    for (name, ticket, more) in rows {
        pen.line((EDGE, y), (WIDTH - EDGE, y), 0.5, None, Ink::Rule);
        y += 6.0;
        // A box to tick.
        let (left, side) = (EDGE, 11.0);
        for (from, to) in [
            ((left, y), (left + side, y)),
            ((left + side, y), (left + side, y + side)),
            ((left + side, y + side), (left, y + side)),
            ((left, y + side), (left, y)),
        ] {
            pen.line(from, to, 0.8, None, Ink::Text);
        }
        let one = pen.text(EDGE + 20.0, y, inner * 0.42, name, strong, 1);
        pen.text(EDGE + 24.0 + inner * 0.42, y, inner * 0.24, ticket, body, 1);
        // A place for what a hand writes.
        let notes = EDGE + inner * 0.72;
        pen.line((notes, y + one), (WIDTH - EDGE, y + one), 0.5, Some(2.0), Ink::Rule);
        let two = if more.is_empty() {
            0.0
        } else {
            pen.text(EDGE + 20.0, y + one, inner * 0.7 - 20.0, more, soft, 2)
        };
        y += (one + two).max(14.0) + 4.0;
    }
}
