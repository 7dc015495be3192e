//! The hall screen: welcome, which way, how many are inside, nobody's name.

use askama::Template;
use axum::extract::{Path, State};
use axum::http::HeaderMap;
use axum::response::Response;
use matricle_core::DateId;
use matricle_desk::door::flow::{Hall, hall};
use matricle_formats::words;

use crate::asking::Visitor;
use crate::door::at::AtDoor;
use crate::door::frame;
use crate::error::WebError;
use crate::page::{Frame, html};
use crate::{App, live};

#[derive(Template)]
#[template(path = "door/hall.html")]
struct HallPage {
    f: Frame,
    date: i64,
    part: String,
}

#[derive(Template)]
#[template(path = "door/hall_part.html")]
struct HallPart {
    house: String,
    title: String,
    when: String,
    place: String,
    doors: Vec<(String, String)>,
    inside: u32,
    most: Option<u32>,
    say: String,
    clock: String,
}

fn part(app: &App, hall: &Hall) -> Result<String, askama::Error> {
    let now = app.desk.clock.now();
    let span = &hall.date.span;
    let say = match hall.most {
        Some(most) if hall.inside >= most => "It is full. Please wait here.".into(),
        Some(most) if u64::from(hall.inside) * 10 >= u64::from(most) * 9 => {
            "Few places are left.".into()
        }
        _ => String::new(),
    };
    let tickets = |tickets: &[String]| match tickets {
        [] => "all tickets".to_owned(),
        some => some.join(", "),
    };
    HallPart {
        house: hall.house.clone(),
        title: hall.title.clone(),
        when: words::span(span.starts, span.ends, words::local(now, &span.zone).date()),
        place: hall.date.place(),
        doors: hall
            .doors
            .iter()
            .map(|(name, t)| (name.clone(), tickets(t)))
            .chain(hall.rooms.iter().map(|(name, on)| {
                (name.clone(), on.clone().unwrap_or_else(|| "nothing is on just now".into()))
            }))
            .collect(),
        inside: hall.inside,
        most: hall.most,
        say,
        clock: words::clock(words::local(now, &hall.zone).datetime()),
    }
    .render()
}

/// `GET /door/{date}/hall`.
pub(crate) async fn show(
    State(app): State<App>,
    Path(date): Path<i64>,
    visitor: Visitor,
    AtDoor(volunteer): AtDoor,
) -> Result<Response, WebError> {
    let told = hall(&app.desk, &volunteer, DateId(date)).await?;
    let f = frame(&app, format!("Hall: {}", told.title), &told.house, &visitor, &volunteer);
    html(&HallPage { f, date, part: part(&app, &told)? })
}

/// `GET /door/{date}/hall/live`: the same, as it changes.
pub(crate) async fn live(
    State(app): State<App>,
    Path(date): Path<i64>,
    headers: HeaderMap,
    AtDoor(volunteer): AtDoor,
) -> Result<Response, WebError> {
    hall(&app.desk, &volunteer, DateId(date)).await?;
    let viewer = live::Viewer::at_door(&headers, &volunteer);
    let shown = app.clone();
    Ok(live::stream(&app, viewer, vec![DateId(date)], move || {
        let (app, volunteer) = (shown.clone(), volunteer.clone());
        async move { Ok(part(&app, &hall(&app.desk, &volunteer, DateId(date)).await?)?) }
    }))
}
