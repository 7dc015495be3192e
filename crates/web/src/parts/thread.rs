//! The thread: one time axis for an event. Labels never overlap: they stack.

use std::fmt::Write;

use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp, ToSpan};
use matricle_formats::words;

use crate::parts::strip::escape;

/// A stretch of time, such as a sale window.
#[derive(Debug, Clone)]
pub(crate) struct Bar {
    pub(crate) class: &'static str,
    pub(crate) from: Timestamp,
    pub(crate) until: Timestamp,
    pub(crate) label: String,
}

/// A date of the event.
#[derive(Debug, Clone)]
pub(crate) struct Block {
    pub(crate) from: Timestamp,
    pub(crate) until: Timestamp,
    pub(crate) label: String,
}

/// A message.
#[derive(Debug, Clone)]
pub(crate) struct Pin {
    pub(crate) at: Timestamp,
    pub(crate) sent: bool,
    pub(crate) label: String,
    pub(crate) href: String,
}

/// Everything on a thread.
#[derive(Debug, Clone)]
pub(crate) struct Thread {
    pub(crate) zone: String,
    pub(crate) now: Timestamp,
    pub(crate) bars: Vec<Bar>,
    pub(crate) blocks: Vec<Block>,
    pub(crate) pins: Vec<Pin>,
}

const WIDTH: f64 = 960.0;
const LANE: f64 = 20.0;
const ROW: f64 = 17.0;

/// About how wide a label is, in the thread's own units.
fn width(label: &str) -> f64 {
    f64::from(u16::try_from(label.chars().count()).unwrap_or(u16::MAX)) * 6.6 + 6.0
}

/// Gives each label, centred on its x, the first row in which it touches none before it.
fn stack(labels: &[(f64, f64)]) -> Vec<usize> {
    let mut rows: Vec<f64> = Vec::new(); // where the last label of each row ends
    let mut order: Vec<usize> = (0..labels.len()).collect();
    order.sort_by(|&a, &b| labels[a].0.total_cmp(&labels[b].0));
    let mut given = vec![0; labels.len()];
    for i in order {
        let (left, right) = (labels[i].0, labels[i].0 + labels[i].1);
        let row = rows.iter().position(|end| *end + 4.0 <= left).unwrap_or_else(|| {
            rows.push(f64::MIN);
            rows.len() - 1
        });
        rows[row] = right;
        given[i] = row;
    }
    given
}

/// The left end of a label of this width that is centred on x but stays on the thread.
fn centred(x: f64, wide: f64) -> f64 {
    (x - wide / 2.0).clamp(0.0, (WIDTH - wide).max(0.0))
}

struct Axis {
    from: Timestamp,
    until: Timestamp,
}

impl Axis {
    fn of(thread: &Thread) -> Self {
        let instants = thread
            .bars
            .iter()
            .flat_map(|b| [b.from, b.until])
            .chain(thread.blocks.iter().flat_map(|b| [b.from, b.until]))
            .chain(thread.pins.iter().map(|p| p.at))
            .chain([thread.now]);
        let (mut from, mut until) = (thread.now, thread.now);
        for at in instants {
            from = from.min(at);
            until = until.max(at);
        }
        let least = SignedDuration::from_hours(48);
        let margin = (until.duration_since(from).max(least)).as_secs() / 16;
        let margin = SignedDuration::from_secs(margin);
        Self {
            from: from.saturating_sub(margin).unwrap_or(from),
            until: until.saturating_add(margin).unwrap_or(until),
        }
    }

    fn x(&self, at: Timestamp) -> f64 {
        let seconds = |d: SignedDuration| d.as_secs_f64();
        let whole = seconds(self.until.duration_since(self.from)).max(1.0);
        (seconds(at.duration_since(self.from)) / whole * WIDTH).clamp(0.0, WIDTH)
    }

    /// Days to mark: the closest step that leaves room for the labels.
    fn ticks(&self, zone: &str) -> Vec<(f64, Date)> {
        let days = self.until.duration_since(self.from).as_hours() / 24 + 1;
        let step = [1, 2, 7, 14, 28, 91, 365].into_iter().find(|s| days / s <= 9).unwrap_or(3650);
        let mut day = words::local(self.from, zone).date().saturating_add(1.day());
        // Weeks begin on Mondays here.
        while step % 7 == 0 && day.weekday().to_monday_zero_offset() != 0 {
            day = day.saturating_add(1.day());
        }
        let mut ticks = Vec::new();
        while let Ok(at) = day.to_zoned_datetime(words::zone(zone)) {
            let at = at.timestamp();
            if at >= self.until {
                break;
            }
            ticks.push((self.x(at), day));
            day = day.saturating_add((step).days());
        }
        ticks
    }
}

/// Draws a thread.
pub(crate) fn svg(thread: &Thread) -> String {
    let axis = Axis::of(thread);
    let mut blocks: Vec<(f64, f64, String)> = Vec::new();
    for block in &thread.blocks {
        let (from, until) = (axis.x(block.from), axis.x(block.until));
        blocks.push((from, (until - from).max(7.0), block.label.clone()));
    }
    let above: Vec<(f64, f64)> = blocks
        .iter()
        .map(|(x, w, label)| (centred(x + w / 2.0, width(label)), width(label)))
        .collect();
    let above_rows = stack(&above);
    let pins = fold(thread, &axis);
    let below: Vec<(f64, f64)> =
        pins.iter().map(|(x, pin)| (centred(*x, width(&pin.label)), width(&pin.label))).collect();
    let below_rows = stack(&below);

    let count = |rows: &[usize]| rows.iter().max().map_or(0.0, |r| row(*r + 1));
    let bars_top = 24.0;
    let lanes = lane(thread.bars.len());
    let blocks_top = bars_top + lanes + 6.0;
    let line = blocks_top + count(&above_rows) + 20.0;
    let pins_top = line + 40.0;
    let ticks_y = pins_top + count(&below_rows) + 8.0;
    let height = ticks_y + 8.0;

    let mut svg = format!(
        r#"<svg class="threadline" viewBox="0 0 {WIDTH} {height:.0}" role="group" aria-label="{}">"#,
        escape(&in_words(thread))
    );
    let now = axis.x(thread.now);
    for (i, bar) in thread.bars.iter().enumerate() {
        let (from, until) = (axis.x(bar.from), axis.x(bar.until));
        let y = bars_top + lane(i);
        let long = (until - from).max(3.0);
        let _ = write!(
            svg,
            r#"<rect class="{}" x="{from:.1}" y="{y:.1}" width="{long:.1}" height="14" rx="7"/>"#,
            bar.class
        );
        let wide = width(&bar.label);
        // Inside when it fits, else behind the bar, else before it.
        let x = if wide + 10.0 <= long {
            from + 9.0
        } else if until + 6.0 + wide <= WIDTH {
            until + 6.0
        } else {
            (from - wide).max(0.0)
        };
        let _ = write!(
            svg,
            r#"<text class="lab" x="{x:.1}" y="{:.1}">{}</text>"#,
            y + 11.5,
            escape(&bar.label)
        );
    }
    let _ = write!(svg, r#"<path class="axis" d="M0 {line:.1}H{WIDTH}"/>"#);
    for (x, day) in axis.ticks(&thread.zone) {
        let _ = write!(
            svg,
            r#"<path class="axis" d="M{x:.1} {:.1}v8"/><text class="tick" x="{:.1}" y="{ticks_y:.1}">{}</text>"#,
            line - 4.0,
            x.clamp(22.0, WIDTH - 22.0),
            words::tick(day)
        );
    }
    for ((x, wide, label), (place, r)) in blocks.iter().zip(above.iter().zip(&above_rows)) {
        let _ = write!(
            svg,
            r#"<rect class="date" x="{x:.1}" y="{:.1}" width="{wide:.1}" height="28" rx="2"/>"#,
            line - 14.0
        );
        let y = line - 20.0 - row(*r);
        let _ = write!(
            svg,
            r#"<text class="lab" x="{:.1}" y="{y:.1}">{}</text>"#,
            place.0,
            escape(label)
        );
    }
    for ((x, pin), (place, r)) in pins.iter().zip(below.iter().zip(&below_rows)) {
        let class = if pin.sent { "sent" } else { "planned" };
        let _ = write!(
            svg,
            r#"<a class="pin" href="{}"><path d="M{x:.1} {line:.1}v20"/><circle class="{class}" cx="{x:.1}" cy="{:.1}" r="6"/><text x="{:.1}" y="{:.1}">{}</text></a>"#,
            escape(&pin.href),
            line + 24.0,
            place.0,
            pins_top + 5.0 + row(*r),
            escape(&pin.label)
        );
    }
    let side = if now > WIDTH - 40.0 { now - 32.0 } else { now + 5.0 };
    let _ = write!(
        svg,
        r#"<path class="now" d="M{now:.1} 6V{:.1}"/><text class="nowt" x="{side:.1}" y="14">now</text></svg>"#,
        line + 14.0
    );
    svg
}

fn lane(n: usize) -> f64 {
    f64::from(u16::try_from(n).unwrap_or(u16::MAX)) * LANE
}

fn row(n: usize) -> f64 {
    f64::from(u16::try_from(n).unwrap_or(u16::MAX)) * ROW
}

/// Pins closer than their heads become one, with a count.
fn fold(thread: &Thread, axis: &Axis) -> Vec<(f64, Pin)> {
    let mut sorted: Vec<(f64, &Pin)> = thread.pins.iter().map(|p| (axis.x(p.at), p)).collect();
    sorted.sort_by(|a, b| a.0.total_cmp(&b.0));
    let mut folded: Vec<(f64, Pin, u32)> = Vec::new();
    for (x, pin) in sorted {
        match folded.last_mut() {
            Some((last, one, n)) if x - *last < 14.0 && one.sent == pin.sent => {
                *n += 1;
                one.label = format!("{n} messages");
            }
            _ => folded.push((x, pin.clone(), 1)),
        }
    }
    folded.into_iter().map(|(x, pin, _)| (x, pin)).collect()
}

fn in_words(thread: &Thread) -> String {
    let bars = thread.bars.iter().map(|b| b.label.clone());
    let blocks = thread.blocks.iter().map(|b| format!("date {}", b.label));
    let pins = thread.pins.iter().map(|p| p.label.clone());
    bars.chain(blocks).chain(pins).collect::<Vec<_>>().join("; ")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(s: &str) -> Timestamp {
        s.parse().unwrap()
    }

    #[test]
    fn a_thread_is_drawn_with_labels_stacked() {
        let pin = |when, sent, label: &str| Pin {
            at: at(when),
            sent,
            label: label.into(),
            href: "/office?a=1&b=2".into(),
        };
        let thread = Thread {
            zone: "Europe/Dublin".into(),
            now: at("2026-11-25T08:00:00Z"),
            bars: vec![
                Bar {
                    class: "sale",
                    from: at("2026-11-10T08:00:00Z"),
                    until: at("2026-12-10T20:00:00Z"),
                    label: "on sale until Thu 10 December, 20:00".into(),
                },
                Bar {
                    class: "early",
                    from: at("2026-11-10T08:00:00Z"),
                    until: at("2026-11-27T00:00:00Z"),
                    label: "early price until Fri 27 November".into(),
                },
            ],
            blocks: vec![Block {
                from: at("2026-12-12T10:00:00Z"),
                until: at("2026-12-12T15:30:00Z"),
                label: "Sat 12 December, 10:00–15:30".into(),
            }],
            pins: vec![
                pin("2026-11-12T08:00:00Z", true, "confirmation, 27 sent"),
                pin("2026-11-14T08:00:00Z", true, "confirmation, 3 sent"),
                pin("2026-11-25T08:00:00Z", false, "confirmation, 2 to go"),
            ],
        };
        insta::assert_snapshot!(svg(&thread).replace("><", ">\n<"));
    }

    #[test]
    fn stacked_labels_never_touch() {
        let labels: Vec<(f64, f64)> = (0..40u16).map(|i| (f64::from(i * 7 % 90), 30.0)).collect();
        let rows = stack(&labels);
        for (i, a) in labels.iter().enumerate() {
            for (j, b) in labels.iter().enumerate().skip(i + 1) {
                let apart = a.0 + a.1 <= b.0 || b.0 + b.1 <= a.0;
                assert!(rows[i] != rows[j] || apart, "{a:?} {b:?}");
            }
        }
    }
}
