//! `/ticket/{code}/{key}`: one ticket, for whoever it was passed to. It shows nothing else of
//! the booking, and dies with the code.

use askama::Template;
use axum::extract::{FromRequestParts, Path, State};
use axum::http::header;
use axum::http::request::Parts;
use axum::response::{IntoResponse, Response};
use matricle_core::words::codes::{Reading, TicketCode, read};
use matricle_desk::{DeskError, messages};
use matricle_formats::words;

use crate::App;
use crate::asking::{Perhaps, Visitor};
use crate::error::WebError;
use crate::page::{Face, Frame, Trial, html};
use crate::parts::files::qr_svg;

#[derive(Template)]
#[template(path = "programme/ticket.html")]
struct TicketPage {
    f: Frame,
    own: String,
    title: String,
    event_href: String,
    when: Vec<String>,
    place: String,
    address_line: String,
    directions: String,
    bring: String,
    name: String,
    ticket: String,
    code: String,
    qr: String,
    /// Their own link to join online; empty for whoever comes.
    /// It has several dates.
    several: bool,
    /// Web calendars that it is put into: name and address.
    web_calendars: Vec<(String, String)>,
    join: String,
}

/// The code and the secret part of an address; an address that is none is not found.
pub(crate) struct Shown(pub(crate) TicketCode, pub(crate) String);

impl FromRequestParts<App> for Shown {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        let nothing = || WebError::Desk(DeskError::NotFound);
        let Path(path): Path<Vec<(String, String)>> =
            Path::from_request_parts(parts, app).await.map_err(|_| nothing())?;
        let part = |name: &str| path.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_str());
        match read(part("code").unwrap_or_default()) {
            Reading::Code(code) => Ok(Self(code, part("key").unwrap_or_default().into())),
            Reading::Misread | Reading::NotACode => Err(nothing()),
        }
    }
}

pub(crate) async fn show(
    State(app): State<App>,
    Shown(code, key): Shown,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
) -> Result<Response, WebError> {
    let sheet = messages::ticket(&app.desk, code, &key).await?;
    let holder = sheet.attendees.first().ok_or(DeskError::NotFound)?;
    let house = &sheet.house.name;
    let f = Frame::new(&app, Face::Programme, "Your ticket", house, &visitor, staff.as_ref())
        .coloured(&sheet.event.accent);
    let f = if sheet.booking.test { f.tried(Trial::Test, sheet.event.id.0) } else { f };
    let span = |d: &matricle_store::events::Date| words::long_span(d.span.starts, d.span.ends);
    html(&TicketPage {
        f,
        own: format!("/ticket/{}/{key}", code.as_str()),
        title: sheet.event.title.clone(),
        event_href: format!("/events/{}?date={}", sheet.event.slug, sheet.date.id),
        when: sheet.covers.iter().map(span).collect(),
        place: sheet.date.place(),
        address_line: sheet.date.address.clone(),
        directions: sheet.date.directions.clone(),
        bring: sheet.event.bring.clone(),
        name: holder.name.clone(),
        ticket: holder.ticket.clone(),
        code: holder.code.to_string(),
        qr: qr_svg(holder.code),
        several: sheet.covers.len() > 1,
        web_calendars: messages::web_calendars(
            &app.desk,
            &sheet,
            &app.desk.ticket_url(code),
            app.desk.clock.now(),
        ),
        join: messages::own_links(&app.desk, &sheet).pop().map_or_else(String::new, |j| j.1),
    })
}

/// `GET …/{file}`: the ticket as PDF, or the date for a calendar.
pub(crate) async fn file(
    State(app): State<App>,
    Shown(code, key): Shown,
    Path((_, _, file)): Path<(String, String, String)>,
) -> Result<Response, WebError> {
    let (media_type, name, bytes) = match file.as_str() {
        "ticket.pdf" => {
            let pdf = messages::ticket_file(&app.desk, code, &key).await?;
            ("application/pdf", "inline; filename=\"ticket.pdf\"", pdf)
        }
        "date.ics" => {
            let ics = messages::ticket_calendar(&app.desk, code, &key).await?;
            ("text/calendar; charset=utf-8", "attachment; filename=\"date.ics\"", ics.into_bytes())
        }
        _ => return Err(DeskError::NotFound.into()),
    };
    let headers = [(header::CONTENT_TYPE, media_type), (header::CONTENT_DISPOSITION, name)];
    Ok((headers, bytes).into_response())
}
