//! Tickets, calendar, sessions and undo of a booking.

use std::collections::BTreeMap;

use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::{AttendeeId, SessionId};
use matricle_desk::bookings::{calendars, undo, whole};
use matricle_desk::{DeskError, messages};

use crate::asking::{Asker, Booker, Perhaps, Posted, Visitor};
use crate::error::WebError;
use crate::guard::Often;
use crate::parts::places::address;
use crate::programme::at::{At, frame};
use crate::programme::refused::Refused;
use crate::programme::shown::page;
use crate::{App, wording};

/// `GET …/tickets.pdf`: the tickets.
pub(crate) async fn tickets(
    State(app): State<App>,
    At(reference): At,
) -> Result<Response, WebError> {
    let pdf = messages::tickets_of(&app.desk, reference).await?;
    let name = format!("inline; filename=\"tickets-{reference}.pdf\"");
    let headers =
        [(header::CONTENT_TYPE, "application/pdf".to_owned()), (header::CONTENT_DISPOSITION, name)];
    Ok((headers, pdf).into_response())
}

/// `GET …/date.ics`: the date for a calendar.
pub(crate) async fn calendar(
    State(app): State<App>,
    At(reference): At,
) -> Result<Response, WebError> {
    let file = messages::calendar_of(&app.desk, reference).await?;
    let headers = [
        (header::CONTENT_TYPE, "text/calendar; charset=utf-8"),
        (header::CONTENT_DISPOSITION, "attachment; filename=\"date.ics\""),
    ];
    Ok((headers, file).into_response())
}

/// `POST …/calendar`: whether something for a calendar goes with the mails.
pub(crate) async fn calendar_by_mail(
    State(app): State<App>,
    At(reference): At,
    asker: Asker,
    form: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    calendars::turn_off(&app.desk, reference, form.get("to") == "off").await?;
    Ok(Redirect::to(&format!("{}#calendar", address(&app, reference))).into_response())
}

/// `POST …/sessions`: who goes to which session.
pub(crate) async fn sign_up(
    State(app): State<App>,
    At(reference): At,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
    form: Posted,
) -> Result<Response, WebError> {
    let before = whole::of(&app.desk, reference).await?;
    // Boxes that are not ticked are not sent: everybody on the booking is meant.
    let mut wants: BTreeMap<AttendeeId, Vec<SessionId>> =
        before.attendees.iter().map(|a| (a.id, Vec::new())).collect();
    for (attendee, session) in form.starting("session_") {
        if let (Ok(attendee), Ok(session)) = (attendee.parse(), session.parse())
            && let Some(list) = wants.get_mut(&AttendeeId(attendee))
        {
            list.push(SessionId(session));
        }
    }
    match matricle_desk::planning::sessions::sign_up(&app.desk, reference, wants.clone()).await {
        Ok(()) => {
            let what = "Your sessions are kept.".to_owned();
            app.news.tell(&visitor.0, crate::news::NewsLine { what, undo: None });
            Ok(Redirect::to(&format!("{}#sessions", address(&app, reference))).into_response())
        }
        Err(DeskError::SignUp(refusal)) => {
            let sheet = whole::of(&app.desk, reference).await?;
            let title = |id: SessionId| {
                let found = sheet.sessions.iter().find(|s| s.facts.id == id);
                found.map_or_else(String::new, |s| s.title.clone())
            };
            let said = wording::sign_up(&refusal, title);
            let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
            page(&app, f, &sheet, Some(Refused::Sessions(wants, said)), None)
        }
        Err(error) => Err(error.into()),
    }
}

/// `POST …/undo`: the booker takes back what they did last.
pub(crate) async fn take_back(
    State(app): State<App>,
    At(reference): At,
    asker: Asker,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
    _form: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    let why = match undo::undo(&app.desk, reference).await {
        Ok(()) => {
            let what = "Taken back: it is as it was before.".to_owned();
            app.news.tell(&visitor.0, crate::news::NewsLine { what, undo: None });
            return Ok(Redirect::to(&address(&app, reference)).into_response());
        }
        // Taken back in another tab: the page shows how things are.
        Err(DeskError::NothingToUndo | DeskError::Move(_)) => {
            return Ok(Redirect::to(&address(&app, reference)).into_response());
        }
        Err(DeskError::Choice(refusal)) => wording::choice(&refusal, &[]),
        Err(error) => return Err(error.into()),
    };
    let sheet = whole::of(&app.desk, reference).await?;
    let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
    let said = format!("It cannot be taken back any more. {why}");
    page(&app, f, &sheet, Some(Refused::Undo(said)), None)
}

/// `POST …/address`: the booker corrects an address that refused its mail.
pub(crate) async fn correct_address(
    State(app): State<App>,
    At(reference): At,
    asker: Asker,
    visitor: Visitor,
    (Perhaps(staff), Booker(booker)): (Perhaps, Booker),
    posted: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    let typed = posted.get("new_email").to_owned();
    let outcome = matricle_desk::bookings::address::correct(
        &app.desk,
        &booker,
        reference,
        crate::parts::fields::form(&posted),
    )
    .await;
    let why = match outcome {
        // Corrected in another tab: the page shows how things are.
        Ok(()) | Err(DeskError::NotByBooker) => {
            return Ok(Redirect::to(&address(&app, reference)).into_response());
        }
        Err(DeskError::Form(wrong)) => {
            wrong.first().map_or_else(String::new, |w| wording::fault(&w.field, &w.fault))
        }
        Err(error) => return Err(error.into()),
    };
    let sheet = whole::of(&app.desk, reference).await?;
    let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
    page(&app, f, &sheet, Some(Refused::Address(typed, why)), None)
}
