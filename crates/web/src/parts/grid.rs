//! The grid of a date's sessions: rooms across, time down. On a phone the list beside it
//! says the same.

use std::fmt::Write;

use matricle_formats::words;
use matricle_store::sessions::Session;

use crate::parts::strip::{escape, fits};

const LEFT: f64 = 52.0;
const TOP: f64 = 26.0;
const MINUTE: f64 = 1.25;
const WIDE: f64 = 640.0;

/// The rooms of sessions, in the order of their first use.
fn rooms(sessions: &[Session]) -> Vec<&str> {
    let mut rooms: Vec<&str> = Vec::new();
    for s in sessions {
        if !rooms.contains(&s.room.as_str()) {
            rooms.push(&s.room);
        }
    }
    rooms
}

/// What a session's seats come to.
pub(crate) fn seats(session: &Session) -> String {
    match (session.facts.sign_up, session.facts.left()) {
        (false, _) => "open to all".into(),
        (true, None) => "sign up".into(),
        (true, Some(0)) => "full".into(),
        (true, Some(left)) => format!("{left} of {} left", session.facts.seats.unwrap_or(0)),
    }
}

/// Words that fit on lines of so many letters, at most so many lines.
fn lines(text: &str, letters: usize, most: usize) -> Vec<String> {
    let mut lines: Vec<String> = vec![String::new()];
    for word in text.split(' ') {
        let Some(last) = lines.last_mut() else { break };
        if last.is_empty() || last.chars().count() + 1 + word.chars().count() <= letters {
            if !last.is_empty() {
                last.push(' ');
            }
            last.push_str(word);
        } else {
            lines.push(word.to_owned());
        }
    }
    if lines.len() > most {
        lines.truncate(most);
        if let Some(last) = lines.last_mut() {
            last.push('…');
        }
    }
    lines
}

/// Draws the sessions of one date.
pub(crate) fn svg(sessions: &[Session]) -> String {
    let (Some(first), Some(last)) = (
        sessions.iter().map(|s| s.span.starts_at).min(),
        sessions.iter().map(|s| s.span.ends_at).max(),
    ) else {
        return String::new();
    };
    let rooms = rooms(sessions);
    let minutes = |at: jiff::Timestamp| {
        f64::from(u32::try_from(at.duration_since(first).as_mins()).unwrap_or(0))
    };
    let height = TOP + minutes(last) * MINUTE + 8.0;
    let column = (WIDE - LEFT) / f64::from(u32::try_from(rooms.len()).unwrap_or(1).max(1));
    let mut svg = format!(
        r#"<svg class="grid" viewBox="0 0 {WIDE:.0} {height:.0}" role="img" aria-label="{} sessions in {} rooms; the list says the same">"#,
        sessions.len(),
        rooms.len()
    );
    for (i, room) in rooms.iter().enumerate() {
        let x = LEFT + column * f64::from(u32::try_from(i).unwrap_or(0));
        let name = if room.is_empty() { "anywhere" } else { room };
        let _ = write!(
            svg,
            r#"<text class="g-room" x="{:.0}" y="16">{}</text>"#,
            x + 6.0,
            escape(name)
        );
    }
    let mut times: Vec<_> = sessions.iter().map(|s| (s.span.starts_at, s.span.starts)).collect();
    times.sort_unstable();
    times.dedup();
    let mut free_from = f64::MIN;
    for (at, local) in times {
        let y = TOP + minutes(at) * MINUTE;
        let _ = write!(svg, r#"<path class="g-rule" d="M{LEFT} {y:.0}H{WIDE:.0}"/>"#);
        // Labels never lie over one another.
        if y >= free_from {
            let _ = write!(
                svg,
                r#"<text class="g-time" x="{:.0}" y="{:.0}">{}</text>"#,
                LEFT - 8.0,
                y + 12.0,
                words::clock(local)
            );
            free_from = y + 15.0;
        }
    }
    for s in sessions {
        let i = rooms.iter().position(|r| *r == s.room).unwrap_or(0);
        let x = LEFT + column * f64::from(u32::try_from(i).unwrap_or(0)) + 2.0;
        let (y, h) = (
            TOP + minutes(s.span.starts_at) * MINUTE + 1.0,
            (minutes(s.span.ends_at) - minutes(s.span.starts_at)) * MINUTE - 3.0,
        );
        let class = match (s.facts.sign_up, s.facts.left()) {
            (false, _) => "g-open",
            (true, Some(0)) => "g-full",
            (true, _) => "g-sign",
        };
        let _ = write!(
            svg,
            r#"<g class="{class}"><rect x="{x:.0}" y="{y:.0}" width="{:.0}" height="{h:.0}" rx="2"/>"#,
            column - 4.0
        );
        let letters = fits(7.2, column, 120).max(8);
        let room = fits(15.0, h - 22.0, 40).max(1);
        let mut at = y + 16.0;
        for line in lines(&s.title, letters, room) {
            let _ = write!(
                svg,
                r#"<text class="g-title" x="{:.0}" y="{at:.0}">{}</text>"#,
                x + 7.0,
                escape(&line)
            );
            at += 15.0;
        }
        if at < y + h {
            let _ = write!(
                svg,
                r#"<text class="g-seats" x="{:.0}" y="{at:.0}">{}</text>"#,
                x + 7.0,
                escape(&seats(s))
            );
        }
        svg.push_str("</g>");
    }
    svg.push_str("</svg>");
    svg
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use matricle_core::SessionId;
    use matricle_core::dates::schedule::Span;
    use matricle_core::dates::sessions::CourseFacts;

    #[test]
    fn sessions_are_drawn_in_their_rooms_at_their_times() {
        let day = date(2027, 1, 23);
        let session = |id, title: &str, room: &str, from: (i8, i8), to: (i8, i8), seats, taken| {
            let span =
                Span::new(day.at(from.0, from.1, 0, 0), day.at(to.0, to.1, 0, 0), "Europe/Dublin")
                    .unwrap();
            Session {
                facts: CourseFacts {
                    id: SessionId(id),
                    from: span.starts_at,
                    until: span.ends_at,
                    seats,
                    taken,
                    sign_up: seats.is_some(),
                },
                title: title.into(),
                track: String::new(),
                room: room.into(),
                host: String::new(),
                span,
            }
        };
        let all = [
            session(1, "Welcome & <numbers>", "great hall", (9, 30), (10, 15), None, 0),
            session(
                2,
                "Grafting under a lamp, with a very long title that must be cut",
                "map room",
                (10, 30),
                (11, 0),
                Some(14),
                14,
            ),
            session(3, "Labels", "great hall", (10, 30), (11, 15), Some(50), 9),
        ];
        insta::assert_snapshot!(svg(&all).replace("><", ">\n<"));
        assert_eq!(svg(&[]), "");
    }
}
