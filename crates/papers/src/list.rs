//! Lists on paper: to tick off, to sign, and for the evening when everything fails.

use jiff::Timestamp;

use crate::PaperError;
use crate::paper::{Face, Ink, MM, Paper, Pen, Style, drawn};

/// A list of people.
#[derive(Debug, Clone)]
pub struct List {
    /// The house.
    pub house: String,
    /// What kind of list it is: its heading.
    pub kind: String,
    /// The event.
    pub title: String,
    /// When and where.
    pub when: String,
    /// What is to be known of it: how many, as of when.
    pub says: String,
    /// A box stands before each to be ticked.
    pub boxes: bool,
    /// The columns: their heads, and how wide each is beside the others.
    pub columns: Vec<(String, f32)>,
    /// A line for each person, a text for each column; a group's name stands above its first.
    pub rows: Vec<(String, Vec<String>)>,
}

const WIDTH: f32 = 210.0 * MM;
const HEIGHT: f32 = 297.0 * MM;
const EDGE: f32 = 15.0 * MM;
const BOX: f32 = 16.0;

/// Draws a list, over as many A4 pages as it takes; the head stands on each.
///
/// # Errors
/// The PDF writer refuses.
pub fn list(list: &List, made_at: Timestamp) -> Result<Vec<u8>, PaperError> {
    drawn(|standard| {
        let title = format!("{}: {}", list.kind, list.title);
        let mut paper = Paper::new(standard, &title, &list.house, made_at);
        let (mut next, mut page) = (0, 1);
        loop {
            let mut end = next;
            paper.page(WIDTH, HEIGHT, |pen| end = draw(pen, list, next, page))?;
            // A line that fits on no page is set all the same.
            next = end.max(next + 1);
            page += 1;
            if next >= list.rows.len() {
                return paper.finish();
            }
        }
    })
}

/// Draws lines from one on; gives the first that has no room.
fn draw(pen: &mut Pen<'_, '_>, list: &List, from: usize, page: u32) -> usize {
    let inner = WIDTH - 2.0 * EDGE;
    let soft = Style::new(Face::Body, 9.0, Ink::Soft);
    let body = Style::new(Face::Body, 10.0, Ink::Text);
    let strong = Style::new(Face::Strong, 10.5, Ink::Text);
    let mut y = EDGE;
    if page == 1 {
        y += pen.text(EDGE, y, inner, &list.house, soft, 1) + 2.0;
        y += pen.text(EDGE, y, inner, &list.title, Style::new(Face::Heading, 19.0, Ink::Text), 2);
    } else {
        y += pen.text(EDGE, y, inner, &list.title, strong, 1);
    }
    y += pen.text(EDGE, y, inner, &format!("{} · {}", list.kind, list.when), body, 2);
    y += pen.text(EDGE, y, inner, &format!("{} · page {page}", list.says), soft, 1) + 6.0;
    let left = if list.boxes { EDGE + BOX + 4.0 } else { EDGE };
    let all: f32 = list.columns.iter().map(|c| c.1).sum::<f32>().max(0.1);
    let room = WIDTH - EDGE - left;
    let wide: Vec<f32> = list.columns.iter().map(|c| room * c.1 / all).collect();
    let columns = || {
        wide.iter().scan(left, |at, w| {
            let x = *at;
            *at += w;
            Some((x, w - 6.0))
        })
    };
    let head = Style::new(Face::Strong, 9.0, Ink::Soft);
    let mut highest = 0.0_f32;
    for ((x, w), (name, _)) in columns().zip(&list.columns) {
        highest = highest.max(pen.text(x, y, w, name, head, 2));
    }
    y += highest + 3.0;
    pen.line((EDGE, y), (WIDTH - EDGE, y), 1.2, None, Ink::Text);
    let mut group = String::new();
    for (n, (of, cells)) in list.rows.iter().enumerate().skip(from) {
        let style = |column: usize| if column == 0 { strong } else { body };
        let mut high = 15.0_f32;
        for ((column, (_, w)), text) in columns().enumerate().zip(cells) {
            high = high.max(pen.height(w, text, style(column), 3));
        }
        let heading = if *of != group { 22.0 } else { 0.0 };
        if y + heading + high + 9.0 > HEIGHT - EDGE && n > from {
            return n;
        }
        if *of != group {
            group.clone_from(of);
            pen.text(EDGE, y + 7.0, inner, of, Style::new(Face::Heading, 12.0, Ink::Text), 1);
            y += 22.0;
            pen.line((EDGE, y), (WIDTH - EDGE, y), 0.8, None, Ink::Text);
        }
        if list.boxes {
            let (x, top) = (EDGE + 1.0, y + 5.0);
            for (a, b) in [
                ((0.0, 0.0), (11.0, 0.0)),
                ((11.0, 0.0), (11.0, 11.0)),
                ((11.0, 11.0), (0.0, 11.0)),
                ((0.0, 11.0), (0.0, 0.0)),
            ] {
                pen.line((x + a.0, top + a.1), (x + b.0, top + b.1), 0.8, None, Ink::Text);
            }
        }
        for ((column, (x, w)), text) in columns().enumerate().zip(cells) {
            pen.text(x, y + 4.0, w, text, style(column), 3);
        }
        y += high + 8.0;
        pen.line((EDGE, y), (WIDTH - EDGE, y), 0.5, None, Ink::Rule);
    }
    list.rows.len()
}
