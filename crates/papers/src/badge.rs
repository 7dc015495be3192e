//! Badges: one a page, on sheets of several, on rolls, or folded in four.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::PaperError;
use crate::paper::{Face, Ink, MM, Paper, Pen, Style, drawn};
use crate::ticket::Barcodes;

/// How far colour stays from the edge of a label.
const INSET: f32 = 1.5 * MM;

/// The measures of a sheet, in millimetres.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Sheet {
    /// The page: across and down.
    pub page: (f32, f32),
    /// One badge: across and down.
    pub badge: (f32, f32),
    /// How many stand side by side, and below one another.
    pub places: (u32, u32),
    /// From the edge of the page to the first: from the left and from the top.
    pub first: (f32, f32),
    /// From the left edge of one to that of the next, and from the top of one to that of the next.
    pub step: (f32, f32),
    /// The page is folded in four: the front in its quarter, the back beside it.
    pub folded: bool,
}

impl Sheet {
    /// One a page: a card, or a piece of a roll.
    #[must_use]
    pub const fn single(width: f32, height: f32) -> Self {
        Self {
            page: (width, height),
            badge: (width, height),
            places: (1, 1),
            first: (0.0, 0.0),
            step: (width, height),
            folded: false,
        }
    }

    /// A page folded in four.
    #[must_use]
    pub const fn in_four(width: f32, height: f32) -> Self {
        let badge = (width / 2.0, height / 2.0);
        Self {
            page: (width, height),
            badge,
            places: (1, 1),
            first: badge,
            step: badge,
            folded: true,
        }
    }

    /// So many badges on a page, in its middle, without gaps.
    #[must_use]
    pub fn middle(page: (f32, f32), badge: (f32, f32), places: (u32, u32)) -> Self {
        let of = |page: f32, badge: f32, n: u32| (page - badge * count(n)) / 2.0;
        let first = (of(page.0, badge.0, places.0), of(page.1, badge.1, places.1));
        Self { page, badge, places, first, step: badge, folded: false }
    }

    /// What is wrong with these measures, if anything: a badge of no size, or one past the edge.
    #[must_use]
    pub fn fault(&self) -> Option<&'static str> {
        let (w, h) = self.badge;
        let sizes =
            [self.page.0, self.page.1, w, h, self.first.0, self.first.1, self.step.0, self.step.1];
        if sizes.iter().any(|n| !n.is_finite() || *n < 0.0 || *n > 1500.0) || w < 25.0 || h < 12.0 {
            return Some("a badge is at least 25 mm wide and 12 mm high");
        }
        if self.places.0 == 0 || self.places.1 == 0 || self.places.0 * self.places.1 > 200 {
            return Some("a sheet has 1 to 200 places");
        }
        let end = |first: f32, step: f32, n: u32, size: f32| first + step * count(n - 1) + size;
        let across = end(self.first.0, self.step.0, self.places.0, w);
        let down = end(self.first.1, self.step.1, self.places.1, h);
        if across > self.page.0 + 0.05 || down > self.page.1 + 0.05 {
            return Some("the badges go past the edge of the page");
        }
        let laps = self.places.0 > 1 && self.step.0 < w || self.places.1 > 1 && self.step.1 < h;
        laps.then_some("the badges lie on one another")
    }

    /// Badges on a page.
    #[must_use]
    pub const fn on_a_page(&self) -> u32 {
        self.places.0 * self.places.1
    }

    /// The left and top edge of a place, in millimetres.
    #[must_use]
    pub fn place(&self, n: u32) -> (f32, f32) {
        let (column, row) = (n % self.places.0, n / self.places.0);
        (self.first.0 + self.step.0 * count(column), self.first.1 + self.step.1 * count(row))
    }
}

fn count(n: u32) -> f32 {
    f32::from(u16::try_from(n).unwrap_or(u16::MAX))
}

/// What stands on a badge.
#[derive(Debug, Clone)]
pub struct Badge {
    /// Whose it is.
    pub name: String,
    /// Their club or function; may be empty.
    pub function: String,
    /// The ticket type: the word of its band.
    pub ticket: String,
    /// Which of the eight bands.
    pub band: u8,
    /// What stands on the back, line by line: sessions.
    pub back: Vec<String>,
    /// The code, in groups, and its modules.
    pub code: String,
    /// The code as modules.
    pub barcodes: Barcodes,
}

/// What stands on all of them.
#[derive(Debug, Clone)]
pub struct Badges {
    /// The house.
    pub house: String,
    /// The event.
    pub title: String,
    /// When.
    pub when: String,
    /// The sheet.
    pub sheet: Sheet,
    /// The first place that is free on the first page, counted from nought.
    pub from: u32,
    /// With its code.
    pub with_code: bool,
    /// Everybody.
    pub people: Vec<Badge>,
}

/// Draws badges.
///
/// # Errors
/// The PDF writer refuses.
pub fn badges(all: &Badges, made_at: Timestamp) -> Result<Vec<u8>, PaperError> {
    badges_telling(all, made_at, &|_| {})
}

/// [`badges`], which tells after each page how many of them are drawn.
///
/// # Errors
/// As [`badges`].
pub fn badges_telling(
    all: &Badges,
    made_at: Timestamp,
    tell: &dyn Fn(usize),
) -> Result<Vec<u8>, PaperError> {
    drawn(|standard| {
        let mut paper =
            Paper::new(standard, &format!("Badges: {}", all.title), &all.house, made_at);
        let sheet = &all.sheet;
        let (width, height) = (sheet.page.0 * MM, sheet.page.1 * MM);
        let each = sheet.on_a_page().max(1);
        let from = all.from.min(each - 1);
        let mut people = all.people.iter().peekable();
        let mut first = from;
        while people.peek().is_some() {
            paper.page(width, height, |pen| {
                for n in first..each {
                    let Some(badge) = people.next() else { break };
                    let (x, y) = sheet.place(n);
                    front(pen, all, badge, (x * MM, y * MM));
                    if sheet.folded {
                        fold(pen, all, badge);
                    }
                }
            })?;
            first = 0;
            tell(all.people.len() - people.len());
        }
        paper.finish()
    })
}

fn front(pen: &mut Pen<'_, '_>, all: &Badges, badge: &Badge, (x, y): (f32, f32)) {
    let (w, h) = (all.sheet.badge.0 * MM, all.sheet.badge.1 * MM);
    let short = w.min(h);
    let edge = (short * 0.06).clamp(1.5 * MM, 6.0 * MM);
    let inner = w - 2.0 * edge;
    // The band with its word below, the house above, the name in all the room between.
    let band = (h * 0.15).clamp(4.0 * MM, 14.0 * MM);
    let small = (h * 0.065).clamp(5.0, 12.0);
    // It ends before the edge: no printer meets a cut to the hair.
    pen.block(x + INSET, y + h - band, w - 2.0 * INSET, band - INSET, Ink::Band(badge.band));
    let word = Style::new(Face::Strong, (band * 0.62).min(20.0), Ink::White).centred();
    let word_height = pen.height(inner, &badge.ticket, word, 1);
    pen.text(
        x + edge,
        y + h - band + (band - INSET - word_height) / 2.0,
        inner,
        &badge.ticket,
        word,
        1,
    );
    let with_code = all.with_code && h >= 30.0 * MM;
    let side = (h * 0.34).clamp(16.0 * MM, 34.0 * MM).min(w * 0.38);
    let side = if with_code { side } else { 0.0 };
    let head = h >= 30.0 * MM;
    let mut top = y + edge;
    if head {
        let soft = Style::new(Face::Body, small, Ink::Soft);
        top += pen.text(x + edge, top, inner, &format!("{} · {}", all.house, all.title), soft, 1);
    }
    let bottom = y + h - band - edge * 0.5;
    let code_top = bottom - side;
    let function = if badge.function.is_empty() { 0.0 } else { small * 2.1 };
    let name_height = (bottom - top) - side.max(function) - edge * 0.4;
    let name = Style::new(Face::Heading, 64.0, Ink::Text).centred();
    pen.name((x + edge, top), (inner, name_height.max(10.0)), &badge.name, name);
    if with_code {
        code(pen, &badge.barcodes, (x + w - edge - side, code_top), side);
    }
    if !badge.function.is_empty() {
        let style = Style::new(Face::Strong, small * 1.5, Ink::Text);
        let room = inner - if with_code { side + edge } else { 0.0 };
        let style = if with_code { style } else { style.centred() };
        let height = pen.height(room, &badge.function, style, 2);
        pen.text(x + edge, bottom - height.max(small), room, &badge.function, style, 2);
    }
}

/// A QR code with its quiet zone of four modules within `side`.
fn code(pen: &mut Pen<'_, '_>, barcodes: &Barcodes, (x, y): (f32, f32), side: f32) {
    let modules = barcodes.side;
    let module = side / count(u32::try_from(modules).unwrap_or(21) + 8);
    pen.block(x, y, side, side, Ink::White);
    let at = |n: usize| (count(u32::try_from(n).unwrap_or(0)) + 4.0) * module;
    let dark = barcodes.square.iter().enumerate().filter(|(_, dark)| **dark);
    let rects = dark.map(|(i, _)| (x + at(i % modules), y + at(i / modules), module, module));
    pen.blocks(rects, Ink::Black);
}

/// The rest of a page that is folded in four: the back beside the front, and where to fold.
fn fold(pen: &mut Pen<'_, '_>, all: &Badges, badge: &Badge) {
    let (w, h) = (all.sheet.page.0 * MM, all.sheet.page.1 * MM);
    let (edge, inner) = (8.0 * MM, w / 2.0 - 16.0 * MM);
    pen.line((0.0, h / 2.0), (w, h / 2.0), 0.6, Some(4.0), Ink::Rule);
    pen.line((w / 2.0, h / 2.0), (w / 2.0, h), 0.6, Some(4.0), Ink::Rule);
    let soft = Style::new(Face::Body, 8.0, Ink::Soft);
    pen.text(
        edge,
        h / 2.0 - 14.0,
        w - 2.0 * edge,
        "Fold the upper half back here first, then the left half behind the right.",
        soft.centred(),
        1,
    );
    let mut y = h / 2.0 + edge;
    y += pen.text(edge, y, inner, &all.title, Style::new(Face::Heading, 15.0, Ink::Text), 2);
    y += pen.text(edge, y, inner, &all.when, Style::new(Face::Body, 10.0, Ink::Text), 2) + 6.0;
    for line in badge.back.iter().take(14) {
        y += pen.text(edge, y, inner, line, Style::new(Face::Body, 10.0, Ink::Text), 2) + 2.0;
    }
    let code = Style::new(Face::Body, 9.0, Ink::Soft).spaced(0.6);
    pen.text(edge, h - edge - 10.0, inner, &badge.code, code, 1);
}

/// A name tent: A4 folded across, the name on both sides.
///
/// # Errors
/// The PDF writer refuses.
pub fn tents(all: &Badges, made_at: Timestamp) -> Result<Vec<u8>, PaperError> {
    drawn(|standard| {
        let mut paper =
            Paper::new(standard, &format!("Name tents: {}", all.title), &all.house, made_at);
        let (w, h) = (297.0 * MM, 210.0 * MM);
        let edge = 18.0 * MM;
        for badge in &all.people {
            paper.page(w, h, |pen| {
                pen.line((0.0, h / 2.0), (w, h / 2.0), 0.6, Some(4.0), Ink::Rule);
                let name = Style::new(Face::Heading, 120.0, Ink::Text).centred();
                let room = h / 2.0 - 34.0 * MM;
                let function = Style::new(Face::Body, 22.0, Ink::Soft).centred();
                let top = h / 2.0 + 10.0 * MM;
                pen.name((edge, top), (w - 2.0 * edge, room), &badge.name, name);
                pen.text(edge, top + room, w - 2.0 * edge, &badge.function, function, 1);
                // The other side stands on its head: folded, both are read.
                pen.upside_down((w, h), |pen| {
                    pen.name((edge, top), (w - 2.0 * edge, room), &badge.name, name);
                    pen.text(edge, top + room, w - 2.0 * edge, &badge.function, function, 1);
                });
            })?;
        }
        paper.finish()
    })
}
