//! The board: rooms down, time across, dates as blocks with their seats.

use std::fmt::Write;

use jiff::civil::{Date as Day, DateTime};
use jiff::{SignedDuration, ToSpan};
use matricle_desk::planning::board::{Board, Lane, Reach};
use matricle_formats::words;
use matricle_store::events::DateSummary;

use crate::parts::strip::escape;

const LEFT: f64 = 150.0;
const WIDE: f64 = 1180.0;
const TOP: f64 = 40.0;
const ROW: f64 = 40.0;
const GAP: f64 = 10.0;

/// The local hours a day shows, first and last.
const HOURS: (i64, i64) = (7, 23);

/// Where a local time lies across the board, in minutes from its left edge: nights are
/// left out, except that what happens at night stands at the edge of its day.
fn across(at: DateTime, first: Day, reach: Reach) -> f64 {
    let days = at.date().since(first).map_or(0, |s| s.get_days());
    let minute = i64::from(at.hour()) * 60 + i64::from(at.minute());
    let (from, until) = if reach == Reach::Month { (0, 24) } else { HOURS };
    let length = (until - from) * 60;
    let within = (minute - from * 60).clamp(0, length);
    f64::from(days) * f64::from(i32::try_from(length).unwrap_or(1))
        + f64::from(i32::try_from(within).unwrap_or(0))
}

/// Minutes of one day across the board.
#[must_use]
pub(crate) fn day_minutes(reach: Reach) -> i64 {
    if reach == Reach::Month { 24 * 60 } else { (HOURS.1 - HOURS.0) * 60 }
}

/// A block in its lane: where it stands, one above another when they overlap.
struct Block<'b> {
    date: &'b DateSummary,
    x: f64,
    width: f64,
    row: usize,
    /// How wide its title may be: up to the next block of its row.
    room: f64,
}

/// Puts blocks into as few rows as they need.
fn stack<'b>(
    dates: &[&'b DateSummary],
    scale: f64,
    first: Day,
    reach: Reach,
) -> (Vec<Block<'b>>, usize) {
    let mut ends: Vec<f64> = Vec::new();
    let mut blocks = Vec::new();
    for date in dates {
        let x = LEFT + across(date.date.span.starts, first, reach) * scale;
        let until = LEFT + across(date.date.span.ends, first, reach) * scale;
        let x = x.max(LEFT);
        let (x, width) = match reach {
            Reach::Month => cells(date, scale, first),
            Reach::Day | Reach::Week => (x, (until.min(WIDE) - x).max(18.0)),
        };
        let row = ends.iter().position(|end| *end <= x).unwrap_or_else(|| {
            ends.push(0.0);
            ends.len() - 1
        });
        ends[row] = x + width + 1.0;
        blocks.push(Block { date, x, width, row, room: WIDE - x });
    }
    for i in 0..blocks.len() {
        let (row, x) = (blocks[i].row, blocks[i].x);
        let next = blocks[i + 1..].iter().find(|b| b.row == row).map_or(WIDE, |b| b.x);
        blocks[i].room = next - x;
    }
    (blocks, ends.len().max(1))
}

/// In a month a block fills the cells of its days, and nothing of the next.
fn cells(date: &DateSummary, scale: f64, first: Day) -> (f64, f64) {
    let day_wide = 24.0 * 60.0 * scale;
    let cell = |day: Day| f64::from(day.since(first).map_or(0, |s| s.get_days()));
    let span = &date.date.span;
    let last = span.ends.saturating_sub(1.minute()).date().max(span.starts.date());
    let x = (LEFT + cell(span.starts.date()) * day_wide).max(LEFT) + 1.0;
    let until = (LEFT + (cell(last) + 1.0) * day_wide).min(WIDE) - 1.0;
    (x, (until - x).max(1.0))
}

fn lane_of(lane: &Lane, d: &DateSummary) -> bool {
    d.date.venue == lane.venue && d.date.room == lane.room
}

/// The seats of a block as a bar: confirmed, to pay and the rest, told apart by pattern.
fn seats(svg: &mut String, d: &DateSummary, x: f64, y: f64, width: f64) {
    let capacity = f64::from(d.pool.capacity.max(1));
    let t = d.pool.taken;
    let mut at = x;
    let _ = write!(
        svg,
        r#"<rect class="s-free" x="{x:.1}" y="{y:.1}" width="{width:.1}" height="5"/>"#
    );
    for (n, class) in [
        (t.confirmed, "s-conf"),
        (t.awaiting_payment, "s-pay"),
        (t.requested, "s-req"),
        (t.held, "s-held"),
    ] {
        let part = (width * f64::from(n) / capacity).min(x + width - at);
        if part > 0.0 {
            let _ = write!(
                svg,
                r#"<rect class="{class}" x="{at:.1}" y="{y:.1}" width="{part:.1}" height="5"/>"#
            );
            at += part;
        }
    }
}

/// Draws a board. Blocks are links; those of the future can be moved.
pub(crate) fn svg(board: &Board, reach: Reach, now: jiff::Timestamp) -> String {
    let (first, after) = board.days;
    let days = after.since(first).map_or(7, |s| s.get_days()).max(1);
    let minutes = f64::from(days) * f64::from(i32::try_from(day_minutes(reach)).unwrap_or(1));
    let scale = (WIDE - LEFT) / minutes;
    let mut body = String::new();
    let mut y = TOP;
    let mut venue = "";
    for lane in &board.lanes {
        let dates: Vec<&DateSummary> = board
            .dates
            .iter()
            .filter(|d| lane_of(lane, d) && d.date.called_off.is_empty())
            .collect();
        let (blocks, rows) = stack(&dates, scale, first, reach);
        let height = ROW * f64::from(u32::try_from(rows).unwrap_or(1));
        if lane.venue != venue {
            venue = &lane.venue;
            let _ = write!(
                body,
                r#"<text class="b-venue" x="8" y="{:.0}">{}</text>"#,
                y + 12.0,
                escape(venue)
            );
            y += 18.0;
        }
        let name = if lane.room.is_empty() { "(no room)" } else { &lane.room };
        let said = lane.seats.map_or_else(String::new, |n| format!(" · {n}"));
        let _ = write!(
            body,
            r#"<g class="lane" data-venue="{}" data-room="{}" data-top="{y:.0}" data-height="{height:.0}"><rect class="b-lane" x="{LEFT}" y="{y:.0}" width="{:.0}" height="{height:.0}"/><text class="b-room" x="14" y="{:.0}">{}{}</text></g>"#,
            escape(&lane.venue),
            escape(&lane.room),
            WIDE - LEFT,
            y + 20.0,
            escape(name),
            said
        );
        for block in blocks {
            draw(&mut body, board, &block, y, now);
        }
        y += height + GAP;
    }
    let height = y + 6.0;
    let mut svg = format!(
        r#"<svg id="board" class="board" viewBox="0 0 {WIDE:.0} {height:.0}" data-first="{first}" data-days="{days}" data-left="{LEFT}" data-scale="{scale:.6}" data-day-minutes="{}" data-from-hour="{}" data-snap="{}" role="group" aria-label="{} dates from {} on">"#,
        day_minutes(reach),
        if reach == Reach::Month { 0 } else { HOURS.0 },
        if reach == Reach::Month { day_minutes(reach) } else { 15 },
        board.dates.len(),
        words::long_day(first)
    );
    axis(&mut svg, board, reach, scale, height, now);
    svg.push_str(&body);
    svg.push_str("</svg>");
    svg
}

fn axis(
    svg: &mut String,
    board: &Board,
    reach: Reach,
    scale: f64,
    height: f64,
    now: jiff::Timestamp,
) {
    let (first, after) = board.days;
    let today = words::local(now, &board.house.zone).date();
    let day_wide = f64::from(i32::try_from(day_minutes(reach)).unwrap_or(1)) * scale;
    for (i, day) in (0i32..).zip(first.series(1.days()).take_while(|d| *d < after)) {
        let x = LEFT + f64::from(i) * day_wide;
        let _ = write!(svg, r#"<path class="b-day" d="M{x:.1} 22V{height:.0}"/>"#);
        let label = match reach {
            Reach::Day => words::long_day(day),
            Reach::Week => words::day(day, today).replace(" 20", " ’"),
            Reach::Month => day.day().to_string(),
        };
        let class = if day == today { "b-date today" } else { "b-date" };
        let _ = write!(
            svg,
            r#"<text class="{class}" x="{:.1}" y="15">{}</text>"#,
            x + 3.0,
            escape(&label)
        );
        let hours: &[i64] = match reach {
            Reach::Day => &[8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18, 19, 20, 21, 22],
            Reach::Week => &[11, 15, 19],
            Reach::Month => &[],
        };
        for hour in hours {
            let hx = x + f64::from(i32::try_from((hour - HOURS.0) * 60).unwrap_or(0)) * scale;
            let _ = write!(
                svg,
                r#"<path class="b-hour" d="M{hx:.1} 34V{height:.0}"/><text class="b-clock" x="{hx:.1}" y="32">{hour}</text>"#
            );
        }
    }
    let local = words::local(now, &board.house.zone).datetime();
    if (first..after).contains(&local.date()) {
        let x = LEFT + across(local, first, reach) * scale;
        let _ = write!(svg, r#"<path class="now" d="M{x:.1} 20V{height:.0}"/>"#);
    }
}

/// Where a date of the board leads: to be changed, or to be looked at.
pub(crate) fn href(board: &Board, d: &DateSummary) -> String {
    if board.may_move {
        format!("/office/events/{}/dates?date={}", d.event.id, d.date.id)
    } else {
        format!("/office/events/{}", d.event.id)
    }
}

fn draw(svg: &mut String, board: &Board, block: &Block<'_>, top: f64, now: jiff::Timestamp) {
    let d = block.date;
    let span = &d.date.span;
    let y = top + ROW * f64::from(u32::try_from(block.row).unwrap_or(0)) + 2.0;
    let (x, width, height) = (block.x, block.width, ROW - 4.0);
    let over: Vec<&str> = board
        .clashes
        .iter()
        .filter(|(a, b, _)| *a == d.date.id || *b == d.date.id)
        .map(|(_, _, what)| what.as_str())
        .collect();
    let state = d.event.state.word();
    let mut said = format!(
        "{}, {}, {} of {} {} taken, {state}",
        d.event.title,
        words::long_span(span.starts, span.ends),
        d.pool.taken.total(),
        d.pool.capacity,
        d.pool.name
    );
    if !over.is_empty() {
        let _ = write!(said, ", clashes over {}", over.join(" and "));
    }
    let movable = board.may_move && span.starts_at > now && !d.slot;
    let class = match (over.is_empty(), state) {
        (false, _) => "block clash",
        (true, "draft") => "block draft",
        _ => "block",
    };
    let _ = write!(
        svg,
        r#"<a class="{class}" href="{}" data-date="{}" data-starts="{}" data-ends="{}" data-venue="{}" data-room="{}"{} aria-label="{}"><rect class="b-block" x="{x:.1}" y="{y:.1}" width="{width:.1}" height="{height:.1}" rx="2"/>"#,
        href(board, d),
        d.date.id,
        span.starts.strftime("%Y-%m-%dT%H:%M"),
        span.ends.strftime("%Y-%m-%dT%H:%M"),
        escape(&d.date.venue),
        escape(&d.date.room),
        if movable { r#" data-move="yes""# } else { "" },
        escape(&said)
    );
    // Cut off at the next block by its own small picture, so that the words stay whole for
    // those who do not see it.
    if block.room > 30.0 {
        let _ = write!(
            svg,
            r#"<svg x="{:.1}" y="{y:.1}" width="{:.1}" height="20"><text class="b-title" x="2" y="15">{}</text></svg>"#,
            x + 3.0,
            block.room - 6.0,
            escape(&d.event.title)
        );
    }
    if width > 24.0 {
        seats(svg, d, x + 5.0, y + height - 11.0, width - 10.0);
    }
    svg.push_str("</a>");
}

/// How long a date is, in words, for the list under the board.
pub(crate) fn length(d: &DateSummary) -> String {
    let minutes = d.date.span.ends_at.duration_since(d.date.span.starts_at);
    let whole = SignedDuration::as_mins(&minutes);
    if whole % 60 == 0 {
        format!("{} h", whole / 60)
    } else {
        format!("{} h {:02}", whole / 60, whole % 60)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use matricle_demo as demo;
    use matricle_desk::{Clock, Desk, Secrets};
    use matricle_store::Store;

    /// The demo's week of clashes, drawn: where blocks stand, what is hatched, what is said.
    #[tokio::test(flavor = "multi_thread")]
    async fn a_week_is_drawn_with_its_clashes() {
        let folder = tempfile::tempdir().unwrap();
        let now = "2026-11-25T17:40:00Z".parse().unwrap();
        let desk = Desk {
            store: Store::open(folder.path()).unwrap(),
            clock: Clock::still(now),
            secrets: std::sync::Arc::new(Secrets::new([1; 32])),
            provider: std::sync::Arc::new(matricle_desk::outside::provider::Rehearsal::default()),
            mailer: std::sync::Arc::new(matricle_desk::outside::mailer::Recorder::default()),
            texts: std::sync::Arc::new(matricle_desk::outside::texts::NoTexts),
            chat: std::sync::Arc::new(matricle_desk::outside::chat::NoChat),
            mail_at_once: 1,
            letterbox: std::sync::Arc::new(matricle_desk::outside::letterbox::NoLetterbox),
            rooms: std::sync::Arc::new(matricle_desk::outside::rooms::NoRooms),
            public_url: "http://club.example".into(),
            wake: std::sync::Arc::default(),
            health: std::sync::Arc::default(),
            sessions: std::sync::Arc::default(),
            drawing: std::sync::Arc::default(),
            looking: std::sync::Arc::default(),
            names: Default::default(),
            often: std::sync::Arc::default(),
            backups: std::sync::Arc::default(),
            word: std::sync::Arc::from(""),
        };
        demo::seed(&desk).await.unwrap();
        let email = demo::STAFF[0].1;
        let find = move |c: &matricle_store::Connection| matricle_store::people::by_email(c, email);
        let ilse = desk.store.read(find).await.unwrap().unwrap().0;
        let around = Some(date(2026, 12, 8));
        let board =
            matricle_desk::planning::board::board(&desk, &ilse, Reach::Week, around).await.unwrap();
        insta::assert_snapshot!(svg(&board, Reach::Week, now).replace("><", ">\n<"));
        // However long it looks, a block never leaves the board, and rows never overlap.
        for reach in [Reach::Day, Reach::Week, Reach::Month] {
            let board =
                matricle_desk::planning::board::board(&desk, &ilse, reach, around).await.unwrap();
            let drawn = svg(&board, reach, now);
            for rect in drawn.split("b-block\" x=\"").skip(1) {
                let x: f64 = rect.split('"').next().unwrap().parse().unwrap();
                let width: f64 = rect
                    .split("width=\"")
                    .nth(1)
                    .unwrap()
                    .split('"')
                    .next()
                    .unwrap()
                    .parse()
                    .unwrap();
                assert!(x >= LEFT && x + width <= WIDE + 18.0, "{x} {width}");
                if reach == Reach::Month && width < 40.0 {
                    // One day's block stays in the cell of its day.
                    let wide = (WIDE - LEFT) / 31.0;
                    let cell = ((x - LEFT) / wide).floor();
                    assert!(x + width <= LEFT + (cell + 1.0) * wide, "{x} {width}");
                }
            }
        }
    }
}
