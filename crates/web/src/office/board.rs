//! `GET /office/board`: rooms down, time across; dates can be moved.

use askama::Template;
use axum::extract::Query;
use axum::response::Response;
use jiff::ToSpan;
use matricle_desk::planning::board::{self, Reach};
use matricle_formats::words;
use serde::Deserialize;

use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html};
use crate::parts::board as drawing;

/// How much of the board is shown, around which day.
#[derive(Debug, Deserialize)]
pub(crate) struct BoardQuery {
    #[serde(default)]
    reach: String,
    #[serde(default)]
    day: String,
}

struct BoardLine {
    href: String,
    title: String,
    when: String,
    place: String,
    seats: String,
    length: String,
    clash: String,
}

#[derive(Template)]
#[template(path = "office/board.html")]
struct BoardPage {
    f: Frame,
    heading: String,
    reach: &'static str,
    day: String,
    before: String,
    after: String,
    drawing: String,
    lines: Vec<BoardLine>,
    clashes: usize,
}

pub(crate) async fn show(at: Clerk, Query(asked): Query<BoardQuery>) -> Result<Response, WebError> {
    let reach = Reach::from_word(&asked.reach).unwrap_or(Reach::Week);
    let board = board::board(
        &at.app.desk,
        &at.staff,
        reach,
        asked.day.parse().ok().filter(crate::parts::places::near),
    )
    .await?;
    let now = at.app.desk.clock.now();
    let today = words::local(now, &board.house.zone).date();
    let (first, after) = board.days;
    let last = after.saturating_sub(1.day());
    let heading = match reach {
        Reach::Day => words::long_day(first),
        Reach::Week => format!("{} – {}", words::day(first, today), words::day(last, today)),
        Reach::Month => words::month_of(first),
    };
    let lines = board
        .dates
        .iter()
        .filter(|d| d.date.called_off.is_empty())
        .map(|d| BoardLine {
            href: drawing::href(&board, d),
            title: d.event.title.clone(),
            when: words::span(d.date.span.starts, d.date.span.ends, today),
            place: d.date.place(),
            seats: format!("{} of {}", d.pool.taken.total(), d.pool.capacity),
            length: drawing::length(d),
            clash: board
                .clashes
                .iter()
                .filter(|(a, b, _)| *a == d.date.id || *b == d.date.id)
                .map(|(_, _, what)| what.as_str())
                .collect::<Vec<_>>()
                .join(", "),
        })
        .collect();
    let f = at.frame("Board", &board.house.name).in_room("board");
    html(&BoardPage {
        f,
        heading,
        reach: reach.word(),
        day: first.to_string(),
        before: first.saturating_sub(1.day()).to_string(),
        after: after.to_string(),
        drawing: drawing::svg(&board, reach, now),
        lines,
        clashes: board.clashes.len(),
    })
}
