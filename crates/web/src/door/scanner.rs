//! Setting a scanner up: one code to scan, and what it says of the scanner; and a badge for one
//! who stands at the door.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use matricle_core::{AttendeeId, DateId};
use matricle_desk::door::papers::badge_at_door;
use matricle_formats::barcode;

use crate::App;
use crate::asking::Visitor;
use crate::door::at::AtDoor;
use crate::door::frame;
use crate::door::verdict::shapes;
use crate::error::WebError;
use crate::page::{Frame, html};
use crate::parts::files;

/// What the code says: letters, digits and a sign that layouts put in other places.
const SETUP: &str = "MQWZY-0123456789-AXK";

#[derive(Template)]
#[template(path = "door/scanner.html")]
struct Page {
    f: Frame,
    setup: &'static str,
    bars: String,
    square: String,
}

/// The bars of a Code 128 as SVG, with a quiet zone of ten modules.
fn bars_svg(text: &str) -> String {
    let Some(bars) = barcode::code128_of(text) else { return String::new() };
    let width = bars.len() + 20;
    let dark: String = bars
        .iter()
        .enumerate()
        .filter(|(_, dark)| **dark)
        .map(|(n, _)| format!("M{} 0h1v60h-1z", n + 10))
        .collect();
    format!(
        r#"<svg class="bars" viewBox="0 0 {width} 60" role="img" aria-label="The code to scan, as bars" shape-rendering="crispEdges"><rect width="{width}" height="60" fill="white"/><path d="{dark}" fill="black"/></svg>"#
    )
}

/// `GET /door/scanner`.
pub(crate) async fn show(
    State(app): State<App>,
    visitor: Visitor,
    AtDoor(volunteer): AtDoor,
) -> Result<Response, WebError> {
    volunteer.checks_in(app.desk.clock.now())?;
    let house = app.house_name().await;
    let square = barcode::text_qr(SETUP);
    html(&Page {
        f: frame(&app, "A scanner", &house, &visitor, &volunteer),
        setup: SETUP,
        bars: bars_svg(SETUP),
        square: square
            .map_or_else(String::new, |s| files::square_svg(&s, "The same code, as a square")),
    })
}

/// `GET /door/{date}/badge/{attendee}`: the badge of one who stands here.
pub(crate) async fn badge(
    State(app): State<App>,
    Path((date, attendee)): Path<(i64, i64)>,
    AtDoor(volunteer): AtDoor,
) -> Result<Response, WebError> {
    let (date, attendee) = (DateId(date), AttendeeId(attendee));
    let bytes = badge_at_door(&app.desk, &volunteer, date, attendee).await?;
    Ok(files::pdf_within("badge", bytes))
}

#[derive(Template)]
#[template(path = "door/guide.html")]
struct Guide {
    f: Frame,
    address: String,
    verdicts: Vec<(&'static str, String, &'static str, &'static str)>,
}

/// What each verdict asks of a volunteer.
const VERDICTS: [(&str, &str, &str); 10] = [
    ("in", "Come in", "They are in. Rising sound, one short shake."),
    ("dup", "Already in", "The ticket was used: when, and at which door. Two like sounds."),
    (
        "pay",
        "To pay",
        "Take what it says, in cash or by card, and press the button; then they are in.",
    ),
    ("other", "Other date", "A good ticket, for another day. It says which."),
    ("way", "Other door", "A good ticket, and this is not its door. It says which way."),
    (
        "first",
        "Sign-ups first",
        "At a room: its seats are kept for those who signed up. It says from when others get them.",
    ),
    (
        "full",
        "Full",
        "As many are inside as may be. Wait until somebody goes out, or ask an organiser.",
    ),
    (
        "gone",
        "Seat given up, or went out",
        "They came too late and somebody who waited has the seat; or nobody comes in again.",
    ),
    ("mis", "Misread", "A letter was read wrongly. Scan again."),
    (
        "no",
        "Cancelled, or unknown",
        "Do not let in. Low, long sound, one long shake. Ask the Office.",
    ),
];

/// `GET /door/guide`: what a volunteer has to know, on one page that can be printed.
pub(crate) async fn guide(
    State(app): State<App>,
    visitor: Visitor,
    AtDoor(volunteer): AtDoor,
) -> Result<Response, WebError> {
    volunteer.checks_in(app.desk.clock.now())?;
    let house = app.house_name().await;
    let shapes = shapes()?;
    let shape = |class: &str| {
        shapes.iter().find(|s| s.0 == class).map_or_else(String::new, |s| s.1.clone())
    };
    html(&Guide {
        f: frame(&app, "At the door", &house, &visitor, &volunteer),
        address: app.desk.public_url.to_string(),
        verdicts: VERDICTS.map(|(class, word, what)| (class, shape(class), word, what)).to_vec(),
    })
}
