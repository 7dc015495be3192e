//! What a booker can do with their own booking: correct it, pass tickets on, move, cancel,
//! pay in another way, give promo codes, read its papers.

use askama::Template;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::booking::acts::Act;
use matricle_core::door::Presence;
use matricle_core::people::acting::Actor;
use matricle_core::{AttendeeId, DateId};
use matricle_desk::DeskError;
use matricle_desk::bookings::cancel::{self, By, Cancelling};
use matricle_desk::bookings::whole::{self, WholeBooking};
use matricle_desk::bookings::{bills, change, hold, move_date, pass_on, pay, stamps};
use matricle_formats::words;

use crate::asking::{Asker, Booker, Perhaps, Posted, Visitor};
use crate::error::WebError;
use crate::guard::Often;
use crate::news::NewsLine;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form};
use crate::parts::places::address;
use crate::programme::at::{At, frame};
use crate::programme::form::{draft_of, fill, fill_again};
use crate::programme::refused::Refused;
use crate::{App, wording};

#[derive(Template)]
#[template(path = "programme/change.html")]
struct Change {
    f: Frame,
    address: String,
    title: String,
    when: String,
    reference: String,
    people: Vec<(i64, u32, String, String)>,
    may_pass: bool,
    /// Dates to move to: key, words, and whether seats are left for all on the booking.
    dates: Vec<(i64, String, bool)>,
    /// All of it may be cancelled at once.
    may_cancel: bool,
    /// The tickets that may be cancelled by themselves: number, name, ticket type.
    parts: Vec<(u32, String, String)>,
    /// What cancelling would come to, and the tickets it is about.
    cancelling: Option<(Vec<String>, Vec<u32>)>,
    problem: Option<String>,
    d: Fields,
}

async fn page(app: &App, f: Frame, sheet: &WholeBooking) -> Result<Change, WebError> {
    let free = hold::free_on(&app.desk, sheet.other_dates.clone()).await?;
    let now = app.desk.clock.now();
    let span = &sheet.date.span;
    let today = words::local(now, &span.zone).date();
    let may = |act| sheet.may(act, Actor::Booker, now);
    Ok(Change {
        f,
        address: address(app, sheet.booking.reference),
        title: sheet.event.title.clone(),
        when: words::span(span.starts, span.ends, today),
        reference: sheet.booking.reference.to_string(),
        people: sheet
            .attendees
            .iter()
            .filter(|a| !a.cancelled && a.presence == Presence::Expected)
            .map(|a| (a.id.0, a.ticket_no, a.name.clone(), a.ticket.clone()))
            .collect(),
        may_pass: may(Act::PassOn),
        dates: free
            .iter()
            .filter(|_| may(Act::MoveDate))
            .map(|(d, free)| {
                let when = words::span(d.span.starts, d.span.ends, today);
                let left = if *free == 0 {
                    "full".to_owned()
                } else {
                    format!("{} left", words::count(*free, "seats"))
                };
                (d.id.0, format!("{when}: {left}"), *free > 0)
            })
            .collect(),
        may_cancel: may(Act::Cancel),
        parts: sheet
            .attendees
            .iter()
            .filter(|a| sheet.may_cancel_ticket(a.ticket_no, Actor::Booker, now))
            .map(|a| (a.ticket_no, a.name.clone(), a.ticket.clone()))
            .collect(),
        cancelling: None,
        problem: None,
        d: Fields::default(),
    })
}

/// `GET …/change`: what can be done with the booking.
pub(crate) async fn show(
    State(app): State<App>,
    At(reference): At,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
) -> Result<Response, WebError> {
    let sheet = whole::of(&app.desk, reference).await?;
    let stands = sheet.booking.state.stands();
    if !stands {
        return Ok(Redirect::to(&address(&app, reference)).into_response());
    }
    let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
    html(&page(&app, f, &sheet).await?)
}

fn said(plan: &Cancelling) -> Vec<String> {
    let mut said = vec![if plan.whole {
        "The whole booking is cancelled, and its seats come free.".to_owned()
    } else {
        format!("These tickets are cancelled: {}.", plan.people.join(", "))
    }];
    if !plan.back.is_zero() {
        said.push(format!("{} goes back to you, the way it came.", plan.back));
    }
    if !plan.forgiven.is_zero() {
        said.push(format!("{} need not be paid any more.", plan.forgiven));
    }
    if plan.percent < 100 && !plan.kept.is_zero() {
        said.push(match plan.percent {
            0 => "So near to the date nothing is given back.".into(),
            percent => format!("So near to the date {percent} % of the price is given back."),
        });
    }
    said
}

/// What was done, in a line.
fn done(act: &str, sheet: &WholeBooking) -> String {
    let back: i64 = sheet.refunds.iter().filter(|r| r.done_at.is_none()).map(|r| r.minor).sum();
    let back = match back {
        0 => String::new(),
        minor => format!(" {} is on its way back to you.", sheet.booking.total.currency.of(minor)),
    };
    match act {
        "names" => "Names and answers are corrected.".into(),
        "pass" => "The ticket is passed on; its new holder gets it by mail.".into(),
        "move" => format!("Moved.{back}"),
        _ if sheet.booking.state.stands() => format!("Those tickets are cancelled.{back}"),
        _ => format!("Cancelled.{back}"),
    }
}

/// `POST …/change/{act}`.
pub(crate) async fn act(
    State(app): State<App>,
    At(reference): At,
    Path((_, _, act)): Path<(String, String, String)>,
    asker: Asker,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
    posted: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    let own = address(&app, reference);
    let number = |name: &str| posted.get(name).parse::<i64>().unwrap_or(0);
    let tickets: Vec<u32> = posted.starting("ticket").filter_map(|(_, n)| n.parse().ok()).collect();
    let outcome = match act.as_str() {
        "names" => {
            let draft = draft_of(&posted);
            match change::correct(&app.desk, By::Booker, reference, draft.clone()).await {
                Err(DeskError::Details(problems)) => {
                    let again = (&draft, problems.as_slice());
                    let mut fill =
                        fill_again(&app, reference, &visitor, staff.as_ref(), again).await?;
                    fill.correcting = true;
                    return refused(StatusCode::UNPROCESSABLE_ENTITY, &fill);
                }
                other => other,
            }
        }
        "pass" => {
            let attendee = AttendeeId(number("attendee"));
            pass_on::pass_on(&app.desk, By::Booker, reference, attendee, form(&posted)).await
        }
        "move" => {
            move_date::move_to(&app.desk, By::Booker, reference, DateId(number("date"))).await
        }
        "cancel" if posted.get("sure") == "yes" => {
            cancel::cancel(&app.desk, By::Booker, reference, tickets).await.map(drop)
        }
        "cancel" => {
            match cancel::preview(&app.desk, By::Booker, reference, tickets.clone()).await {
                Ok(plan) => {
                    let sheet = whole::of(&app.desk, reference).await?;
                    let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
                    let mut page = page(&app, f, &sheet).await?;
                    page.cancelling = Some((said(&plan), tickets));
                    return html(&page);
                }
                Err(refusal) => Err(refusal),
            }
        }
        _ => Err(DeskError::NotFound),
    };
    let refusal = match outcome {
        Ok(()) => {
            let sheet = whole::of(&app.desk, reference).await?;
            // What can be taken back stands on the page itself, with its Undo.
            if !sheet.undo.as_ref().is_some_and(|u| u.is_open(app.desk.clock.now())) {
                app.news.tell(&visitor.0, NewsLine { what: done(&act, &sheet), undo: None });
            }
            return Ok(Redirect::to(&own).into_response());
        }
        // What was cancelled in another tab shows as cancelled.
        Err(DeskError::Move(_)) => return Ok(Redirect::to(&own).into_response()),
        Err(refusal) => refusal,
    };
    let sheet = whole::of(&app.desk, reference).await?;
    let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
    let mut page = page(&app, f, &sheet).await?;
    match refusal {
        DeskError::Form(wrong) => page.d = Fields::posted(&posted, &wrong),
        DeskError::Choice(refusal) => {
            page.problem =
                Some(format!("That date cannot be had. {}", wording::choice(&refusal, &[])));
        }
        DeskError::Inside { name } => page.problem = Some(wording::inside(&name)),
        other => return Err(other.into()),
    }
    refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
}

/// `GET …/names`: names and answers, to be corrected.
pub(crate) async fn names(
    State(app): State<App>,
    At(reference): At,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
) -> Result<Response, WebError> {
    let sheet = whole::of(&app.desk, reference).await?;
    let mut draft = sheet.booking.draft.clone();
    draft.name.clone_from(&sheet.booking.name);
    draft.attendees = sheet.attendees.iter().map(|a| a.name.clone()).collect();
    let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
    let mut fill = fill(&app, f, &sheet, &draft, &[], None);
    fill.correcting = true;
    html(&fill)
}

/// `POST …/transfer`: the booker will pay by bank transfer.
pub(crate) async fn transfer(
    State(app): State<App>,
    At(reference): At,
    visitor: Visitor,
    (Perhaps(staff), Booker(booker)): (Perhaps, Booker),
    _posted: Posted,
) -> Result<Response, WebError> {
    match pay::by_transfer(&app.desk, &booker, reference).await {
        Ok(()) | Err(DeskError::Move(_)) => {
            Ok(Redirect::to(&address(&app, reference)).into_response())
        }
        // Seats are kept for days by whoever reads the mail of the address only.
        Err(DeskError::Who(refusal)) => {
            let sheet = whole::of(&app.desk, reference).await?;
            let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
            let to_prove = (sheet.booking.email.clone(), wording::who(&refusal));
            crate::programme::shown::page(&app, f, &sheet, Some(Refused::Unproved(to_prove)), None)
        }
        Err(error) => Err(error.into()),
    }
}

/// `GET …/papers/{id}`: a receipt, invoice or credit note.
pub(crate) async fn paper(
    State(app): State<App>,
    At(reference): At,
    Path((_, _, id)): Path<(String, String, i64)>,
) -> Result<Response, WebError> {
    let (name, bytes) = bills::document(&app.desk, reference, id).await?;
    Ok(crate::parts::files::pdf(&name, bytes))
}

/// `POST …/stamps`: pays with a stamp card.
pub(crate) async fn stamps(
    State(app): State<App>,
    At(reference): At,
    asker: Asker,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
    posted: Posted,
) -> Result<Response, WebError> {
    // Codes of cards are not to be guessed.
    app.guards.often(Often::SignIn, &asker)?;
    let typed = posted.get("card").to_owned();
    match stamps::pay(&app.desk, reference, typed.clone()).await {
        Ok(()) | Err(DeskError::Move(_)) => {
            Ok(Redirect::to(&address(&app, reference)).into_response())
        }
        Err(DeskError::Stamps(refusal)) => {
            let sheet = whole::of(&app.desk, reference).await?;
            let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
            let why = wording::stamps(&refusal, &sheet.house.zone);
            crate::programme::shown::page(&app, f, &sheet, Some(Refused::Card(typed, why)), None)
        }
        Err(error) => Err(error.into()),
    }
}
