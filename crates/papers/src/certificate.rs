//! Certificates: who took part, in what, for how long, when, and who says so.

use jiff::Timestamp;

use crate::PaperError;
use crate::paper::{Face, Ink, MM, Paper, Style, drawn};

/// A certificate.
#[derive(Debug, Clone)]
pub struct Certificate {
    /// The house.
    pub house: String,
    /// Who took part.
    pub name: String,
    /// In what.
    pub title: String,
    /// When and where.
    pub when: String,
    /// How long, in words.
    pub hours: String,
    /// Who led it; may be empty.
    pub by: String,
    /// The day it was made, in words.
    pub made: String,
    /// The code that the Programme confirms.
    pub code: String,
    /// Where it does.
    pub address: String,
}

/// Draws certificates, an A4 page each, lying.
///
/// # Errors
/// The PDF writer refuses.
pub fn certificates(all: &[Certificate], made_at: Timestamp) -> Result<Vec<u8>, PaperError> {
    drawn(|standard| {
        let house = all.first().map_or("", |c| c.house.as_str());
        let title = all.first().map_or("", |c| c.title.as_str());
        let mut paper = Paper::new(standard, &format!("Certificates: {title}"), house, made_at);
        let (w, h) = (297.0 * MM, 210.0 * MM);
        let edge = 26.0 * MM;
        let inner = w - 2.0 * edge;
        for one in all {
            paper.page(w, h, |pen| {
                pen.block(0.0, 0.0, w, h, Ink::Card);
                pen.block(0.0, 0.0, w, 9.0 * MM, Ink::Text);
                pen.block(0.0, 9.0 * MM, w, 1.2 * MM, Ink::Brass);
                let soft = Style::new(Face::Body, 13.0, Ink::Soft).centred();
                let body = Style::new(Face::Body, 16.0, Ink::Text).centred();
                let mut y = 24.0 * MM;
                let mark = Style::new(Face::Mark, 18.0, Ink::Text).centred();
                y += pen.text(edge, y, inner, &one.house, mark, 1) + 8.0 * MM;
                y += pen.text(edge, y, inner, "confirms that", soft, 1) + 1.0 * MM;
                let name = Style::new(Face::Heading, 46.0, Ink::Text).centred();
                pen.name((edge, y), (inner, 26.0 * MM), &one.name, name);
                y += 27.0 * MM;
                y += pen.text(edge, y, inner, "took part in", soft, 1) + 2.0 * MM;
                let title = Style::new(Face::Heading, 26.0, Ink::Text).centred();
                y += pen.text(edge, y, inner, &one.title, title, 2) + 3.0 * MM;
                y += pen.text(edge, y, inner, &one.when, body, 2);
                y += pen.text(edge, y, inner, &one.hours, body, 1);
                if !one.by.is_empty() {
                    pen.text(edge, y, inner, &format!("Led by {}", one.by), body, 1);
                }
                let foot = h - 34.0 * MM;
                pen.line((edge, foot), (edge + 70.0 * MM, foot), 0.8, None, Ink::Text);
                let small = Style::new(Face::Body, 10.0, Ink::Soft);
                pen.text(
                    edge,
                    foot + 3.0,
                    90.0 * MM,
                    &format!("{}, {}", one.house, one.made),
                    small,
                    1,
                );
                let right = w / 2.0;
                let code = Style::new(Face::Strong, 13.0, Ink::Text).at_end().spaced(1.0);
                pen.text(right, foot - 6.0 * MM, w / 2.0 - edge, &one.code, code, 1);
                let says = format!("confirmed at {}", one.address);
                pen.text(right, foot + 3.0, w / 2.0 - edge, &says, small.at_end(), 1);
            })?;
        }
        paper.finish()
    })
}
