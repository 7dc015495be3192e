//! Those without a ticket: walk-ins, the waiting list, wristbands and cards.

use askama::Template;
use axum::extract::{Path, State};
use axum::http::HeaderMap;
use axum::response::{Html, IntoResponse, Response};
use matricle_core::money::ledger::Method;
use matricle_core::seats::Wanted;
use matricle_core::{AttendeeId, DateId, TicketTypeId};
use matricle_desk::DeskError;
use matricle_desk::door::walk_in::{self as desk_walk, WalkIn, for_walk_ins};
use matricle_desk::door::{Volunteer, on_their_telephone};
use matricle_formats::words;

use crate::asking::{Part, Posted, Visitor};
use crate::door::at::AtDoor;
use crate::door::{answer, device_of, door_page, frame, scan_key};
use crate::error::WebError;
use crate::page::{Frame, html};
use crate::parts::files::square_svg;
use crate::{App, cookies};

struct TicketRow {
    id: i64,
    name: String,
    price: String,
    minor: i64,
    left: String,
    none: bool,
}

struct LineRow {
    id: i64,
    place: u32,
    name: String,
    wants: String,
    price: String,
    minor: i64,
    fits: bool,
    key: String,
}

#[derive(Template)]
#[template(path = "door/walk.html")]
struct Walk {
    date: i64,
    token: String,
    key: String,
    tickets: Vec<TicketRow>,
    line: Vec<LineRow>,
    says: String,
    takes_money: bool,
}

/// The part of a door's page for those without a ticket.
pub(crate) async fn part(
    app: &App,
    volunteer: &Volunteer,
    date: DateId,
    token: &str,
) -> Result<String, WebError> {
    let told = for_walk_ins(&app.desk, volunteer, date).await?;
    let now = app.desk.clock.now();
    let zone = app.zone().await?;
    let says = match told.from {
        None => String::new(),
        Some(from) if from > now => format!(
            "Seats of those who have not come are kept until {}.",
            words::clock(words::local(from, &zone).datetime())
        ),
        Some(_) if told.given_up == 0 => "Everybody who booked has come.".into(),
        Some(_) if told.given_up == 1 => {
            "One person has not come; their seat can be given now.".into()
        }
        Some(_) => format!("{} people have not come; their seats can be given now.", told.given_up),
    };
    let tickets = told
        .tickets
        .into_iter()
        .map(|t| TicketRow {
            id: t.ticket.0,
            name: t.name,
            price: if t.price.is_zero() { "free".into() } else { t.price.to_string() },
            minor: t.price.minor,
            none: t.left == 0,
            left: if t.left == 0 { "none left".into() } else { format!("{} left", t.left) },
        })
        .collect();
    let line = told
        .line
        .into_iter()
        .map(|l| LineRow {
            id: l.id,
            place: l.place,
            name: l.name,
            wants: l.wants,
            price: if l.price.is_zero() { String::new() } else { l.price.to_string() },
            minor: l.price.minor,
            fits: l.fits,
            key: scan_key(),
        })
        .collect();
    let walk = Walk {
        date: date.0,
        token: token.into(),
        key: scan_key(),
        tickets,
        line,
        says,
        takes_money: told.takes_money,
    };
    Ok(walk.render()?)
}

/// `GET /door/{date}/walk-in`: the same part, as things stand now.
pub(crate) async fn show(
    State(app): State<App>,
    Path(date): Path<i64>,
    visitor: Visitor,
    AtDoor(volunteer): AtDoor,
) -> Result<Response, WebError> {
    let token = app.desk.secrets.form_token(&visitor.0);
    Ok(Html(part(&app, &volunteer, DateId(date), &token).await?).into_response())
}

/// `POST /door/{date}/walk-in`: somebody without a ticket is booked, pays and is let in, in one.
pub(crate) async fn walk_in(
    State(app): State<App>,
    Path(date): Path<i64>,
    Part(is_part): Part,
    headers: HeaderMap,
    visitor: Visitor,
    AtDoor(volunteer): AtDoor,
    form: Posted,
) -> Result<Response, WebError> {
    let date = DateId(date);
    let door = cookies::door_name(&headers, date);
    let waiter = form.get("waiter").parse().ok();
    // What is sent is a ticket and what it costs: `3:800`.
    let (ticket, due) = form.get("ticket").split_once(':').unwrap_or(("", form.get("due")));
    let quantity = form.get("quantity").parse().unwrap_or(1).clamp(1, 20);
    let wanted = match (ticket.parse(), waiter) {
        (Ok(ticket), None) => vec![Wanted { ticket: TicketTypeId(ticket), quantity }],
        (_, Some(_)) => Vec::new(),
        (Err(_), None) => {
            return Err(WebError::Refused {
                title: "No ticket was chosen",
                what: "Choose which ticket they want, then how they pay.".into(),
            });
        }
    };
    let each: i64 = due.parse().map_err(|_| DeskError::NotFound)?;
    let walk = WalkIn {
        wanted,
        due_minor: if waiter.is_some() { each } else { each * i64::from(quantity) },
        method: if form.get("with") == "card" { Method::CardHere } else { Method::Cash },
        name: matricle_core::words::text::line(form.get("name")).chars().take(200).collect(),
        waiter,
    };
    let device = device_of(&form, &door);
    let outcome = match desk_walk::walk_in(&app.desk, &volunteer, (date, device), walk).await {
        Err(DeskError::PriceChanged { new, .. }) => {
            return Err(WebError::Refused {
                title: "It costs something else",
                what: format!(
                    "They come to {new} together now. Nothing was booked and nothing taken; load the page again."
                ),
            });
        }
        outcome => outcome?,
    };
    if !is_part {
        return door_page(&app, &visitor, &volunteer, date, door, Some(outcome), None).await;
    }
    answer(&app, &visitor, date, &outcome).await
}

/// Where somebody pays on their own telephone.
#[derive(Template)]
#[template(path = "door/till.html")]
struct Till {
    qr: String,
}

#[derive(Template)]
#[template(path = "door/till_page.html")]
struct TillPage {
    f: Frame,
    date: i64,
    part: String,
}

/// `POST /door/{date}/till`: what is due is paid by card, on the booker's own telephone.
pub(crate) async fn till(
    State(app): State<App>,
    Path(date): Path<i64>,
    Part(is_part): Part,
    visitor: Visitor,
    AtDoor(volunteer): AtDoor,
    form: Posted,
) -> Result<Response, WebError> {
    let attendee = form.get("attendee").parse().map(AttendeeId).map_err(|_| DeskError::NotFound)?;
    let url = on_their_telephone(&app.desk, &volunteer, DateId(date), attendee).await?;
    let square = matricle_formats::barcode::text_qr(&url);
    let label = "The address where they pay, to be scanned with their telephone";
    let part = Till { qr: square.map_or_else(String::new, |s| square_svg(&s, label)) }.render()?;
    if is_part {
        return Ok(Html(part).into_response());
    }
    let house = app.house_name().await;
    html(&TillPage { f: frame(&app, "Card", &house, &visitor, &volunteer), date, part })
}

/// `POST /door/{date}/give`: a wristband or a card of the house is given to somebody.
pub(crate) async fn give(
    State(app): State<App>,
    Path(date): Path<i64>,
    AtDoor(volunteer): AtDoor,
    form: Posted,
) -> Result<Response, WebError> {
    let attendee = form.get("attendee").parse().map(AttendeeId).map_err(|_| DeskError::NotFound)?;
    let code = form.get("code");
    let name =
        matricle_desk::door::give_code(&app.desk, &volunteer, DateId(date), code, attendee).await?;
    let said = format!("{name} has it now: it lets them in like their ticket.");
    Ok(Html(format!(
        "<p class=\"note keep\" role=\"status\">{}</p>",
        askama::filters::escape(said.as_str(), askama::filters::Html)
            .map_err(askama::Error::from)?
    ))
    .into_response())
}
