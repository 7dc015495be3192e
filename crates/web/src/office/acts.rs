//! Acts on a booking at the Office: cancelling with its summary, and the rest.

use axum::extract::{Path, Query};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::seats::Wanted;
use matricle_core::words::codes::Reference;
use matricle_core::{AttendeeId, DateId, TicketTypeId};
use matricle_desk::bookings::cancel::{self, By};
use matricle_desk::bookings::{change, decide, keys, move_date, pass_on, phone, taking};
use matricle_desk::door::set_up;
use matricle_desk::money::refunds;
use matricle_desk::{DeskError, office};

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::office::booking::{load, reference_of};
use crate::page::{html, refused};
use crate::parts::fields::{Fields, form};
use crate::wording;

/// Tickets by their numbers on the booking, and a percentage that is given back.
#[derive(Debug, serde::Deserialize)]
pub(crate) struct Chosen {
    #[serde(default)]
    percent: String,
}

/// Numbers of tickets ticked in an address: `ticket=0&ticket=2`.
fn numbers(query: &str) -> Vec<u32> {
    query.split('&').filter_map(|p| p.strip_prefix("ticket=")?.parse().ok()).collect()
}

/// `GET …/cancel`: what cancelling will do, before it is done: mail and money cannot be
/// called back.
pub(crate) async fn before_cancelling(
    at: Clerk,
    Path(reference): Path<String>,
    uri: axum::http::Uri,
    Query(Chosen { percent }): Query<Chosen>,
) -> Result<Response, WebError> {
    let mut page = load(&at, &reference).await?;
    if page.may.cancel || page.may.cancel_part {
        let numbers = numbers(uri.query().unwrap_or_default());
        let own = percent.parse().ok();
        let by = By::Staff(at.staff.clone(), own);
        let reference = reference_of(&reference)?;
        let plan = match cancel::preview(&at.app.desk, by, reference, numbers.clone()).await {
            // Nothing is ticked, or they came in since the sheet was opened.
            Err(DeskError::Inside { name }) => {
                page.refused = Some(wording::inside(&name));
                return refused(StatusCode::CONFLICT, &page);
            }
            plan => plan?,
        };
        let seats = u32::try_from(plan.people.len()).unwrap_or(0);
        let mut what = vec![if plan.whole {
            "All seats come free at once, and the tickets are refused at the door.".to_owned()
        } else {
            format!(
                "The tickets of {} open the door no more; {} free at once.",
                plan.people.join(", "),
                if seats == 1 { "the seat comes" } else { "the seats come" }
            )
        }];
        if !plan.back.is_zero() {
            what.push(format!("{} goes back, the way it came.", plan.back));
        }
        if !plan.forgiven.is_zero() {
            what.push(format!("{} is no longer asked for.", plan.forgiven));
        }
        if !plan.kept.is_zero() && plan.whole {
            what.push(format!(
                "{} stays with the house: the cancellation steps give {} % back.",
                plan.kept, plan.percent
            ));
        }
        what.push(if page.email.is_empty() {
            "The booking has no address, so no mail goes: ring them up.".into()
        } else {
            format!("A mail tells {} ({}).", page.booker, page.email)
        });
        page.d.set("percent", plan.percent.to_string());
        page.cancelling = Some((what, numbers));
    }
    html(&page)
}

/// `POST …/cancel`.
pub(crate) async fn cancel(
    at: Clerk,
    Path(reference): Path<String>,
    posted: Posted,
) -> Result<Response, WebError> {
    let reference = reference_of(&reference)?;
    let numbers = posted.starting("ticket").filter_map(|(_, n)| n.parse().ok()).collect();
    let by = By::Staff(at.staff.clone(), posted.get("percent").parse().ok());
    match cancel::cancel(&at.app.desk, by, reference, numbers).await {
        // A double click finds it cancelled: the sheet says so.
        Ok(_) | Err(DeskError::Move(_)) => Ok(at.done(
            &format!("/office/bookings/{}", reference.as_str()),
            "Cancelled, as the sheet says.",
        )),
        Err(DeskError::Inside { name }) => {
            let mut page = load(&at, reference.as_str()).await?;
            page.refused = Some(wording::inside(&name));
            refused(StatusCode::CONFLICT, &page)
        }
        Err(error) => Err(error.into()),
    }
}

/// What an act on a booking did; the timeline tells the rest.
fn said(act: &str) -> &'static str {
    match act {
        "yes" => "Said yes.",
        "no" => "Said no.",
        "back" => "Brought back, with its seats.",
        "reconsider" => "It waits for a yes again.",
        "resend" => "The confirmation goes out again.",
        "key" => {
            "The page has another address; the old one opens nothing. The booker is mailed the new one."
        }
        "booker" => "The booker is corrected.",
        "note" => "The note is kept.",
        "await" => "You will have a mail when they come.",
        "await-not" => "You will hear nothing when they come.",
        "door-note" => "The door says it when they are scanned.",
        "money" => "The money is booked.",
        "give-back" => "It goes back the way it came; the booker has a mail once it has gone.",
        "price" => "The price is changed.",
        "given" => "Noted as given back.",
        "pass" => "The ticket is passed on; the old one lets nobody in.",
        "move" => "Moved to the other date.",
        "add" => "Added.",
        "swap" => "Swapped.",
        _ => "Done.",
    }
}

async fn done(
    at: &Clerk,
    reference: Reference,
    act: &str,
    posted: &Posted,
) -> Result<(), DeskError> {
    let desk = &at.app.desk.saying(posted.get("word"));
    let staff = &at.staff;
    let by = || By::Staff(staff.clone(), None);
    let number = |name: &str| posted.get(name).parse::<i64>().unwrap_or(0);
    match act {
        "yes" => {
            let zone = desk.house().await?.zone;
            let mut until = form(posted);
            let until = until.instant(decide::UNTIL.name, &zone);
            decide::approve(desk, staff, reference, until).await
        }
        "no" => {
            let reason = matricle_core::words::text::line(posted.get("reason"));
            decide::decline(desk, staff, reference, reason).await
        }
        "back" => decide::bring_back(desk, staff, reference).await,
        "reconsider" => decide::reconsider(desk, staff, reference).await,
        "resend" => change::resend(desk, staff, reference).await,
        "key" => keys::replace_of_booking(desk, staff, reference).await,
        "booker" => phone::correct_booker(desk, staff, reference, form(posted)).await,
        "note" => change::note(desk, staff, reference, form(posted)).await,
        "door-note" => {
            let attendee = AttendeeId(number("attendee"));
            set_up::note(desk, staff, reference, attendee, form(posted)).await
        }
        "await" | "await-not" => {
            let attendee = AttendeeId(number("attendee"));
            set_up::await_one(desk, staff, reference, attendee, act == "await").await
        }
        "money" => taking::take_money(desk, staff, reference, form(posted)).await,
        "give-back" => taking::give_back(desk, staff, reference, form(posted)).await.map(drop),
        "price" => change::set_price(desk, staff, reference, form(posted)).await,
        "given" => refunds::given(desk, staff, posted.get("refund").to_owned()).await,
        "pass" => {
            let attendee = AttendeeId(number("attendee"));
            pass_on::pass_on(desk, by(), reference, attendee, form(posted)).await
        }
        "move" => move_date::move_to(desk, by(), reference, DateId(number("date"))).await,
        "add" => {
            let quantity = u32::try_from(number("quantity").max(0)).unwrap_or(0);
            let wanted = vec![Wanted { ticket: TicketTypeId(number("ticket")), quantity }];
            let names = posted.get("people").lines().map(|l| l.trim().to_owned()).collect();
            change::add_tickets(desk, staff, reference, wanted, names).await
        }
        "swap" => {
            let from = u32::try_from(number("from")).unwrap_or(u32::MAX);
            change::swap_ticket(desk, staff, reference, from, TicketTypeId(number("to"))).await
        }
        "put-off" => {
            let zone = desk.house().await?.zone;
            let mut fields = form(posted);
            let until = fields.instant(decide::UNTIL.name, &zone);
            let until = fields.need(decide::UNTIL.name, until);
            match until {
                Some(until) => decide::put_off(desk, staff, reference, until).await,
                None => Err(DeskError::Form(fields.wrong)),
            }
        }
        _ => Err(DeskError::NotFound),
    }
}

/// `POST /office/bookings/{reference}/{act}`: one change; a refusal comes back beside its
/// field, or as a sentence above the sheet.
pub(crate) async fn act(
    at: Clerk,
    Path((reference, act)): Path<(String, String)>,
    posted: Posted,
) -> Result<Response, WebError> {
    let reference = reference_of(&reference)?;
    let to = format!("/office/bookings/{}", reference.as_str());
    let form = format!("{to}/{act}");
    if !at.app.guards.is_first(&form, &posted) {
        return Ok(Redirect::to(&to).into_response());
    }
    let refusal = match done(&at, reference, &act, &posted).await {
        Ok(()) => return Ok(at.done(&to, said(&act))),
        Err(refusal) => refusal,
    };
    at.app.guards.not_done(&form, &posted);
    let mut page = load(&at, reference.as_str()).await?;
    let mut status = StatusCode::UNPROCESSABLE_ENTITY;
    match refusal {
        DeskError::Form(wrong) => page.d = Fields::posted(&posted, &wrong).over(&page.d),
        DeskError::Choice(refusal) => {
            let loaded = office::booking(&at.app.desk, &at.staff, reference).await?;
            page.refused = Some(wording::choice(&refusal, &wording::ticket_names(&loaded.tickets)));
            page.d = Fields::posted(&posted, &[]).over(&page.d);
            status = StatusCode::CONFLICT;
        }
        DeskError::Move(refusal) => {
            page.refused = Some(format!(
                "The booking is {}, and that cannot be done with it now. Somebody else may have been here.",
                wording::state(refusal.state)
            ));
            status = StatusCode::CONFLICT;
        }
        DeskError::RefusesMail(address) => {
            page.refused = Some(wording::refuses_mail(&address));
            status = StatusCode::CONFLICT;
        }
        DeskError::Inside { name } => {
            page.refused = Some(wording::inside(&name));
            status = StatusCode::CONFLICT;
        }
        other => return Err(other.into()),
    }
    page.open = act;
    refused(status, &page)
}
