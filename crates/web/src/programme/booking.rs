//! `/booking/{reference}/{key}`: a booking at its secret address, from the form to the tickets.

use std::time::Duration;

use axum::extract::{RawQuery, State};
use axum::http::StatusCode;
use axum::response::{Html, IntoResponse, Redirect, Response};
use matricle_core::booking::details::Draft;
use matricle_core::people::who::WhoRefusal;
use matricle_desk::DeskError;
use matricle_desk::bookings::{codes, hold, pay, submit, whole};
use matricle_formats::words;

use crate::asking::{Asker, Booker, Part, Perhaps, Posted, Visitor};
use crate::error::WebError;
use crate::guard::Often;
use crate::page::{html, refused};
use crate::parts::places::address;
use crate::programme::at::{At, frame};
use crate::programme::form::{draft_of, fields_of, fill, fill_again};
use crate::programme::shown::page;
use crate::programme::summary::summary;
use crate::{App, wording};

/// How long a page waits for the card provider before it shows what is known.
const PATIENCE: Duration = Duration::from_secs(3);

pub(crate) async fn show(
    State(app): State<App>,
    At(reference): At,
    RawQuery(query): RawQuery,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
) -> Result<Response, WebError> {
    let mut sheet = whole::of(&app.desk, reference).await?;
    if sheet.booking.is_owed() {
        // The payer may just have come back: do not wait for a webhook to know.
        if let Ok(asked) = tokio::time::timeout(PATIENCE, pay::ask(&app.desk, reference)).await {
            asked?;
            sheet = whole::of(&app.desk, reference).await?;
        }
    }
    let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
    let mailed = query.as_deref() == Some("mailed");
    let notice = "The link is on its way. It leads back here, with all that you typed.";
    page(&app, f, &sheet, None, mailed.then(|| notice.to_owned()))
}

/// `GET` of an address that only takes forms, as after going back: the booking.
pub(crate) async fn back(State(app): State<App>, At(reference): At) -> Redirect {
    Redirect::to(&address(&app, reference))
}

/// `POST …/draft`: keeps what has been typed so far; of a part of the form only that part.
pub(crate) async fn draft(
    State(app): State<App>,
    At(reference): At,
    form: Posted,
) -> Result<Response, WebError> {
    let typed = draft_of(&form);
    if form.get("part") == "yes" {
        hold::type_over(&app.desk, reference, typed, fields_of(&form)).await?;
    } else {
        hold::type_on(&app.desk, reference, typed).await?;
    }
    Ok(Html("Saved as you type.").into_response())
}

/// `POST …/link`: mails the way back, with all that was typed kept.
pub(crate) async fn link(
    State(app): State<App>,
    At(reference): At,
    asker: Asker,
    visitor: Visitor,
    (Perhaps(staff), Booker(booker)): (Perhaps, Booker),
    form: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    let typed = form.starting("email").next().map(|_| draft_of(&form));
    if let Some(draft) = typed.clone() {
        hold::type_on(&app.desk, reference, draft).await?;
    }
    match hold::mail_link(&app.desk, &booker, reference).await {
        Ok(()) => {
            let to = format!("{}?mailed", address(&app, reference));
            Ok(Redirect::to(&to).into_response())
        }
        Err(DeskError::Details(problems)) => {
            let draft = typed.unwrap_or_default();
            let again = (&draft, problems.as_slice());
            let fill = fill_again(&app, reference, &visitor, staff.as_ref(), again).await?;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &fill)
        }
        Err(DeskError::Move(_)) => Ok(Redirect::to(&address(&app, reference)).into_response()),
        Err(error) => Err(error.into()),
    }
}

/// `POST …/book`: takes the form; what follows is the booking's page, or the way to pay.
pub(crate) async fn book(
    State(app): State<App>,
    At(reference): At,
    asker: Asker,
    visitor: Visitor,
    (Perhaps(staff), Booker(booker)): (Perhaps, Booker),
    form: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    // *Enter* in the field of a code sends the whole form: the code is not lost over that. One
    // that was refused already, and stands there still, is in nobody's way.
    let code_typed = form.get("code").trim();
    if !code_typed.is_empty() && code_typed != form.get("tried").trim() {
        return code(State(app), At(reference), asker, visitor, Perhaps(staff), form).await;
    }
    let draft = draft_of(&form);
    let own = address(&app, reference);
    let outcome = submit::submit(&app.desk, &booker, reference, draft.clone()).await;
    if outcome.is_err() {
        // Whoever loads the booking again finds what they sent.
        hold::type_on(&app.desk, reference, draft.clone()).await?;
    }
    match outcome {
        Ok(submit::Outcome::Confirmed | submit::Outcome::Asked) => {
            Ok(Redirect::to(&own).into_response())
        }
        Ok(submit::Outcome::ToPay) => {
            // Where there is more than one way to pay, the booking's page offers them.
            let sheet = whole::of(&app.desk, reference).await?;
            let now = app.desk.clock.now();
            let transfer = pay::transfer_until(&sheet.house, &sheet.date, now).is_some();
            let to = if transfer || sheet.stamps.0 > 0 { own } else { format!("{own}/pay") };
            Ok(Redirect::to(&to).into_response())
        }
        Err(DeskError::Details(problems)) => {
            let fill =
                fill_again(&app, reference, &visitor, staff.as_ref(), (&draft, &problems)).await?;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &fill)
        }
        Err(DeskError::Who(refusal)) => {
            let mut fill =
                fill_again(&app, reference, &visitor, staff.as_ref(), (&draft, &[])).await?;
            fill.email.problem = Some(wording::who(&refusal));
            fill.to_prove = refusal == WhoRefusal::NotSignedIn;
            fill.problems = 1;
            refused(StatusCode::FORBIDDEN, &fill)
        }
        Err(DeskError::BookedBefore { made_at, .. }) => {
            let mut fill =
                fill_again(&app, reference, &visitor, staff.as_ref(), (&draft, &[])).await?;
            let zone = app.desk.house().await?.zone;
            let when = words::moment(made_at, &zone, app.desk.clock.now());
            fill.before = Some(when);
            refused(StatusCode::CONFLICT, &fill)
        }
        Err(DeskError::Promo { code, refusal }) => {
            let mut fill =
                fill_again(&app, reference, &visitor, staff.as_ref(), (&draft, &[])).await?;
            fill.code_problem =
                Some(wording::promo(&code, &refusal, &app.desk.house().await?.zone));
            fill.problems = 1;
            refused(StatusCode::CONFLICT, &fill)
        }
        Err(
            error @ (DeskError::Choice(_) | DeskError::Keep(_) | DeskError::PriceChanged { .. }),
        ) => {
            let sheet = whole::of(&app.desk, reference).await?;
            let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
            let notice = lost_words(&error);
            let fill = fill(&app, f, &sheet, &draft, &[], Some(notice));
            refused(StatusCode::CONFLICT, &fill)
        }
        Err(error) => Err(error.into()),
    }
}

fn lost_words(error: &DeskError) -> String {
    match error {
        DeskError::Choice(refusal) => format!(
            "Your time ran out, and the same seats could not be kept again. {}",
            wording::choice(refusal, &[])
        ),
        DeskError::Keep(refusal) => wording::keep(refusal),
        DeskError::PriceChanged { old, new } => format!(
            "Your time ran out. The same seats are free, but cost {new} now instead of {old}. Keep them again to go on."
        ),
        _ => String::new(),
    }
}

/// `POST …/again`: the same seats again after the time ran out.
pub(crate) async fn again(
    State(app): State<App>,
    At(reference): At,
    Part(part): Part,
    visitor: Visitor,
    asker: Asker,
    Perhaps(staff): Perhaps,
    form: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    let typed = draft_of(&form);
    if typed != Draft::default() {
        hold::type_on(&app.desk, reference, typed).await?;
    }
    let outcome = hold::again(&app.desk, reference).await;
    let notice = match &outcome {
        Ok(()) => {
            "Your time ran out, but nobody took your seats: they are kept for you again.".into()
        }
        Err(error @ (DeskError::Choice(_) | DeskError::Keep(_))) => lost_words(error),
        Err(DeskError::Move(_)) => String::new(),
        Err(_) => return Err(outcome.err().map_or(WebError::Unreadable, WebError::Desk)),
    };
    if !part && outcome.is_ok() {
        return Ok(Redirect::to(&address(&app, reference)).into_response());
    }
    let sheet = whole::of(&app.desk, reference).await?;
    let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
    if part {
        let mut summary = summary(&app, &sheet, f.token, app.desk.clock.now());
        summary.notice = Some(notice).filter(|n| !n.is_empty());
        return html(&summary);
    }
    let draft = sheet.booking.draft.clone();
    refused(StatusCode::CONFLICT, &fill(&app, f, &sheet, &draft, &[], Some(notice)))
}

/// `POST …/give-back`: the seats go back before anything is booked.
pub(crate) async fn give_back(
    State(app): State<App>,
    At(reference): At,
    _form: Posted,
) -> Result<Response, WebError> {
    hold::give_back(&app.desk, reference).await?;
    let sheet = whole::of(&app.desk, reference).await?;
    let to = format!("/events/{}?date={}", sheet.event.slug, sheet.date.id);
    Ok(Redirect::to(&to).into_response())
}

/// `POST …/code`: a promo code is given, or taken off; what else was typed is kept.
pub(crate) async fn code(
    State(app): State<App>,
    At(reference): At,
    asker: Asker,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
    posted: Posted,
) -> Result<Response, WebError> {
    // Codes are not to be guessed.
    app.guards.often(Often::SignIn, &asker)?;
    let draft = draft_of(&posted);
    hold::type_on(&app.desk, reference, draft.clone()).await?;
    let typed = posted.get("code").to_owned();
    let outcome = match posted.get("drop").parse() {
        Ok(id) => codes::drop(&app.desk, reference, id).await,
        Err(_) => codes::give(&app.desk, reference, typed.clone()).await,
    };
    let (code, refusal) = match outcome {
        Ok(()) | Err(DeskError::Move(_)) => {
            return Ok(Redirect::to(&address(&app, reference)).into_response());
        }
        Err(DeskError::Promo { code, refusal }) => (code, refusal),
        Err(error) => return Err(error.into()),
    };
    let again = (&draft, [].as_slice());
    let mut fill = fill_again(&app, reference, &visitor, staff.as_ref(), again).await?;
    fill.code_problem = Some(if typed.trim().is_empty() {
        "Type the code first.".into()
    } else {
        wording::promo(&code, &refusal, &app.desk.house().await?.zone)
    });
    fill.code = typed;
    refused(StatusCode::CONFLICT, &fill)
}
