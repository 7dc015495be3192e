//! The seat strip.

use std::fmt::Write;

use matricle_core::seats::Pool;
use matricle_core::seats::strip::{Cell, MOST_CELLS, Strip, strip};
use matricle_formats::words;

/// How large a strip is drawn.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Size {
    /// The most it may measure across.
    pub(crate) width: f64,
    /// The height of a cell.
    pub(crate) height: f64,
    /// The most a cell may measure across.
    pub(crate) widest: f64,
}

/// In lists.
pub(crate) const SMALL: Size = Size { width: 240.0, height: 12.0, widest: 7.0 };
/// In a booking stub.
pub(crate) const STUB: Size = Size { width: 330.0, height: 16.0, widest: 12.0 };
/// On a sheet.
pub(crate) const SHEET: Size = Size { width: 960.0, height: 26.0, widest: 18.0 };
/// At the door.
pub(crate) const DOOR: Size = Size { width: 560.0, height: 24.0, widest: 14.0 };

const fn class(cell: Cell) -> &'static str {
    match cell {
        Cell::In | Cell::Confirmed => "s-conf",
        Cell::ToPay => "s-pay",
        Cell::Asking => "s-req",
        Cell::Held => "s-held",
        Cell::Free => "s-free",
        Cell::Over => "s-over",
    }
}

/// What a strip says, for those who do not see it.
fn in_words(pool: &Pool, inside: u32) -> String {
    let t = pool.taken;
    let parts = [
        (inside, "in"),
        (t.confirmed, "confirmed"),
        (t.awaiting_payment, "to pay"),
        (t.requested, "asking"),
        (t.held, "held"),
        (pool.free(), "free"),
    ];
    let said: Vec<String> =
        parts.iter().filter(|(n, _)| *n > 0).map(|(n, word)| format!("{n} {word}")).collect();
    format!("{}: {}", words::count(pool.capacity, &pool.name), said.join(", "))
}

/// Draws the strip of a pool.
pub(crate) fn svg(pool: &Pool, inside: u32, size: Size) -> String {
    draw(&strip(pool, inside, size.cells()), &in_words(pool, inside), size)
}

impl Size {
    /// Space between cells.
    const fn gap(self) -> f64 {
        if self.height > 20.0 { 4.0 } else { 2.0 }
    }

    /// As many cells as can be told apart: each at least four wide.
    fn cells(self) -> u32 {
        let fits = (self.width / (4.0 + self.gap())).floor();
        (1..=MOST_CELLS).rev().find(|n| f64::from(*n) <= fits).unwrap_or(1)
    }
}

fn draw(strip: &Strip, label: &str, size: Size) -> String {
    let cells: u32 = strip.runs.iter().map(|(_, n)| n).sum();
    let cut = strip.runs.iter().any(|(cell, _)| *cell == Cell::Over);
    let gap = size.gap();
    let extra = if cut { 6.0 } else { 0.0 };
    let width = ((size.width - extra) / f64::from(cells.max(1)) - gap).clamp(2.0, size.widest);
    let step = width + gap;
    let whole = step * f64::from(cells) - gap + extra;
    let height = size.height;
    let mut svg = format!(
        r#"<svg class="seatstrip" viewBox="-1 -3 {:.1} {:.1}" width="{:.0}" height="{:.0}" role="img" aria-label="{}">"#,
        whole + 2.0,
        height + 6.0,
        whole + 2.0,
        height + 6.0,
        escape(label)
    );
    let radius = (width / 4.0).min(2.0);
    let mut x = 0.0;
    for &(cell, n) in &strip.runs {
        if cell == Cell::Over {
            let _ = write!(
                svg,
                r#"<path class="cutline" d="M{:.1} -3V{:.1}"/>"#,
                x + 1.0,
                height + 3.0
            );
            x += extra;
        }
        for _ in 0..n {
            let _ = write!(
                svg,
                r#"<rect class="{}" x="{x:.1}" y="0" width="{width:.1}" height="{height:.1}" rx="{radius:.1}"/>"#,
                class(cell)
            );
            if cell == Cell::In {
                let _ = write!(
                    svg,
                    r#"<circle class="hole" cx="{:.1}" cy="{:.1}" r="{:.1}"/>"#,
                    x + width / 2.0,
                    height / 2.0,
                    (width * 0.3).max(1.0)
                );
            }
            x += step;
        }
    }
    svg.push_str("</svg>");
    if strip.seats_a_cell > 1 {
        let _ =
            write!(svg, r#"<small class="scale">a cell for {} seats</small>"#, strip.seats_a_cell);
    }
    svg
}

/// How often a length goes into another, as a whole number up to `most`.
pub(crate) fn fits(length: f64, into: f64, most: u32) -> usize {
    let whole = (0..=most).rev().find(|n| f64::from(*n) * length <= into).unwrap_or(0);
    usize::try_from(whole).unwrap_or(0)
}

/// Text inside an attribute or an element.
pub(crate) fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

#[cfg(test)]
mod tests {
    use super::*;
    use matricle_core::PoolId;
    use matricle_core::seats::Taken;

    #[test]
    fn a_strip_is_drawn_and_said() {
        let taken = Taken { confirmed: 3, awaiting_payment: 1, requested: 0, held: 1 };
        let pool = Pool { id: PoolId(1), name: "seats <\"&".into(), capacity: 6, taken };
        insta::assert_snapshot!(svg(&pool, 1, SMALL).replace("/>", "/>\n"));
        let hall = Pool { capacity: 300, taken: Taken { confirmed: 320, ..taken }, ..pool };
        let drawn = svg(&hall, 0, STUB);
        assert!(drawn.contains("cutline") && drawn.contains("a cell for 6 seats"), "{drawn}");
    }
}
