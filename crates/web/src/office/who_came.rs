//! Who came: the list of a date afterwards, as far as it is known, and what is said of each by hand.

use askama::Template;
use axum::extract::Path;
use axum::http::{StatusCode, Uri};
use axum::response::Response;
use matricle_core::{AttendeeId, DateId};
use matricle_desk::DeskError;
use matricle_desk::door::after::{self, Listed, Mark};
use matricle_formats::table::Cell;
use matricle_formats::words;

use crate::asking::Posted;
use crate::error::WebError;
use crate::news::Undo;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form};
use crate::parts::list::{self, Ask, Column, Columns, Head, InFile};

struct ListRow {
    id: i64,
    name: String,
    ticket: String,
    mark: &'static str,
    door: String,
}

impl ListRow {
    fn is(&self, word: &str) -> bool {
        self.mark == word
    }
}

#[derive(Template)]
#[template(path = "office/after.html")]
struct After {
    f: Frame,
    id: i64,
    title: String,
    when: String,
    people: Vec<ListRow>,
    open: usize,
    begun: bool,
    closed: String,
    heads: Vec<Head>,
    q: String,
    query: String,
    marks: [(&'static str, &'static str); 3],
    d: Fields,
}

/// What stands on the list of who came.
fn columns(zone: &str) -> Columns<'_, Listed> {
    // To the minute, as all lists are.
    let entered = move |p: &Listed| p.door.as_ref().map(|(at, _)| Cell::at(*at, zone));
    let said = |p: &Listed| if p.mark == Mark::Open { "" } else { p.mark.word() };
    let door = |p: &Listed| p.door.as_ref().map(|(_, door)| door.clone());
    vec![
        Column::new("name", "Name", |p: &Listed| p.name.clone()).rising(),
        Column::new("ticket", "Ticket", |p: &Listed| p.ticket.clone()).rising(),
        Column::new("came", "Came", said).rising(),
        Column::new("in", "In at", entered).rising(),
        Column::new("by", "By", door).rising(),
    ]
}

async fn page(at: &Clerk, id: i64, ask: Ask, d: Fields) -> Result<After, WebError> {
    let mut told = after::list(&at.app.desk, &at.staff, DateId(id)).await?;
    let house = at.app.desk.house().await?;
    let clock = |when| words::clock(words::local(when, &house.zone).datetime());
    let today = words::local(at.app.desk.clock.now(), &house.zone).date();
    let span = &told.date.span;
    let open = told.people.iter().filter(|p| p.mark == Mark::Open).count();
    let columns = columns(&house.zone);
    ask.narrow(&columns, &mut told.people);
    let people: Vec<ListRow> = told
        .people
        .iter()
        .map(|p| ListRow {
            id: p.attendee.0,
            name: p.name.clone(),
            ticket: p.ticket.clone(),
            mark: p.mark.word(),
            door: p.door.as_ref().map_or_else(String::new, |(at, door)| match door.as_str() {
                after::LIST => "by the list".into(),
                door => format!("{}, {door}", clock(*at)),
            }),
        })
        .collect();
    Ok(After {
        f: at.frame(format!("Who came: {}", told.event.title), &house.name).in_room("doors"),
        id,
        title: told.event.title.clone(),
        when: words::span(span.starts, span.ends, today),
        open,
        heads: list::heads(&columns, &format!("/office/doors/{id}/after?"), &ask),
        query: ask.query(),
        q: ask.q,
        people,
        begun: told.begun,
        closed: told
            .closed
            .map_or_else(String::new, |(at, who)| format!("{who} closed it at {}", clock(at))),
        marks: [("came", "C"), ("came late", "L"), ("missed", "M")],
        d,
    })
}

/// `GET /office/doors/{date}/after`: who came.
pub(crate) async fn show(at: Clerk, Path(id): Path<i64>, ask: Ask) -> Result<Response, WebError> {
    html(&page(&at, id, ask, Fields::default()).await?)
}

/// `GET /office/doors/{date}/after.csv` and `.xlsx`: the same as a file.
pub(crate) async fn file(
    at: Clerk,
    Path(id): Path<i64>,
    uri: Uri,
    ask: Ask,
) -> Result<Response, WebError> {
    let mut told = after::list(&at.app.desk, &at.staff, DateId(id)).await?;
    let zone = at.app.desk.house().await?.zone;
    let columns = columns(&zone);
    ask.narrow(&columns, &mut told.people);
    let what = format!("who came to {}", told.event.title);
    InFile::of(&columns, &told.people)
        .hand_out((&at.app.desk, &at.staff), &uri, ("Who came", &what))
        .await
}

/// `POST /office/doors/{date}/after`: one of them is marked, the list is closed or opened again.
pub(crate) async fn mark(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let (desk, date, to) = (&at.app.desk, DateId(id), format!("/office/doors/{id}/after"));
    match posted.get("act") {
        "close" => {
            let missed = after::close(desk, &at.staff, date).await?;
            let said = match missed {
                0 => "The list is closed: nobody missed it.".into(),
                n => format!("The list is closed: {} missed it.", words::people(n)),
            };
            return Ok(at.done(&to, said));
        }
        "again" => {
            return match after::open_again(desk, &at.staff, date, form(&posted)).await {
                Ok(()) => Ok(at.done(&to, "The list is open again.")),
                Err(error @ DeskError::Form(_)) => {
                    let page =
                        page(&at, id, Ask::default(), Fields::again(&posted, error)?).await?;
                    refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
                }
                Err(other) => Err(other.into()),
            };
        }
        _ => {}
    }
    let attendee =
        posted.get("attendee").parse().map(AttendeeId).map_err(|_| DeskError::NotFound)?;
    let mark = Mark::from_word(posted.get("mark")).ok_or(DeskError::NotFound)?;
    let told = after::list(desk, &at.staff, date).await?;
    let was =
        told.people.iter().find(|p| p.attendee == attendee).ok_or(DeskError::NotFound)?.clone();
    after::mark(desk, &at.staff, date, attendee, mark).await?;
    let undo = Undo::new(&to, &[("attendee", posted.get("attendee")), ("mark", was.mark.word())]);
    let at_row = format!("{to}#p{attendee}");
    Ok(at.done_but(&at_row, format!("{}: {}.", was.name, mark.word()), undo))
}
