//! Choosing tickets of an event, and keeping their seats.

use askama::Template;
use axum::extract::{Path, State as Shared};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use matricle_desk::bookings::hold;
use matricle_desk::people::asking::{self, Asking};
use matricle_desk::{DeskError, programme};
use matricle_store::bookings::HeldBy;
use matricle_store::people::Staff;

use crate::asking::{Asker, Booker, Part, Perhaps, Posted, Visitor};
use crate::error::WebError;
use crate::guard::Often;
use crate::page::{Face, Frame, Trial, html};
use crate::programme::asked::ProgrammeQuery;
use crate::programme::choosing::{Who, kept, make_stub, own_hold};
use crate::programme::event::render;
use crate::{App, cookies};

/// `POST /events/{slug}/choose`: one more, one less, or a number: the stub again.
/// Without script, the page again with the choice in its address.
pub(crate) async fn choose(
    Shared(app): Shared<App>,
    Path(slug): Path<String>,
    Part(part): Part,
    headers: HeaderMap,
    visitor: Visitor,
    (Perhaps(staff), Booker(booker)): (Perhaps, Booker),
    form: Posted,
) -> Result<Response, WebError> {
    let asked = ProgrammeQuery::read(form.starting(""));
    if !part {
        return Ok(Redirect::to(&asked.address(&slug)).into_response());
    }
    let page = programme::event(&app.desk, asked.looking(slug)).await?;
    let who = Who::of(&app, &booker, &page, &asked, staff.as_ref()).await?;
    let kept = kept(&app, &headers, &page).await?;
    let token = app.desk.secrets.form_token(&visitor.0);
    match make_stub(&app, &page, &asked, kept, &who, token) {
        Some(stub) => html(&stub),
        None => Err(DeskError::NotFound.into()),
    }
}

/// `POST /events/{slug}/keep`: keeps the chosen seats and goes on to the form.
pub(crate) async fn keep(
    Shared(app): Shared<App>,
    Path(slug): Path<String>,
    asker: Asker,
    headers: HeaderMap,
    visitor: Visitor,
    (Perhaps(staff), Booker(booker)): (Perhaps, Booker),
    form: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    let asked = ProgrammeQuery::read(form.starting(""));
    let date = asked.date.ok_or(DeskError::NotFound)?;
    let nobody = Asking { from: booker.from, ..Asking::default() };
    let asking = if asked.test { &nobody } else { &booker };
    let buyer = asking::buyer_of(&app.desk, asking, date, &asked.word).await?;
    let by = HeldBy { buyer, test: false, from: booker.from };
    let (wanted, instead) = (asked.wanted.clone(), own_hold(&app, &headers));
    let tried = if asked.test {
        let opener = (asked.preview.as_str(), staff.as_ref());
        hold::keep_test(&app.desk, date, wanted.clone(), by.clone(), instead, opener).await
    } else {
        Err(DeskError::NotFound)
    };
    // What is published is booked for good, also by a link of its draft.
    let kept_now = match tried {
        Err(DeskError::NotFound) => hold::keep(&app.desk, date, wanted, by, instead).await,
        tried => tried,
    };
    match kept_now {
        Ok(reference) => {
            let key = app.desk.secrets.booking_key(reference);
            let cookie =
                cookies::hold_cookie(&app.settings, &format!("{}.{key}", reference.as_str()));
            let to = Redirect::to(&crate::parts::places::address(&app, reference));
            Ok(([(header::SET_COOKIE, cookie)], to).into_response())
        }
        Err(error @ (DeskError::Choice(_) | DeskError::Keep(_))) => {
            not_kept(&app, (slug, &asked), &headers, &visitor, (staff, &booker), &error).await
        }
        Err(error) => Err(error.into()),
    }
}

/// The page again, with what is in the way where the choice stands.
async fn not_kept(
    app: &App,
    (slug, asked): (String, &ProgrammeQuery),
    headers: &HeaderMap,
    visitor: &Visitor,
    (staff, booker): (Option<Staff>, &Asking),
    error: &DeskError,
) -> Result<Response, WebError> {
    let page = programme::event(&app.desk, asked.looking(slug)).await?;
    let who = Who::of(app, booker, &page, asked, staff.as_ref()).await?;
    let kept = kept(app, headers, &page).await?;
    let tickets = page.dates.first().map_or(&[][..], |d| &d.tickets);
    let notice = match error {
        DeskError::Keep(refusal) => crate::wording::keep(refusal),
        DeskError::Choice(refusal) => crate::wording::choice(refusal, tickets),
        _ => String::new(),
    };
    let token = app.desk.secrets.form_token(&visitor.0);
    let mut stub = make_stub(app, &page, asked, kept, &who, token);
    if let Some(stub) = &mut stub {
        stub.notice = Some(notice);
    }
    let title = page.event.title.clone();
    let f = Frame::new(app, Face::Programme, title, &page.house.name, visitor, staff.as_ref())
        .coloured(&page.event.accent);
    let f = if asked.test { f.tried(Trial::Test, page.event.id.0) } else { f };
    let page = render(app, f, &page, asked, stub, app.desk.clock.now()).render()?;
    Ok((StatusCode::CONFLICT, Html(page)).into_response())
}

/// `GET` of an address that only takes forms, as after going back: the event.
pub(crate) async fn back(Path(slug): Path<String>) -> Redirect {
    Redirect::to(&format!("/events/{}", crate::address::encode(&slug)))
}
