//! Waiting for seats: joining a list, one's place on it, leaving.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::seats::Wanted;
use matricle_core::seats::waiting::{Manner, Stands};
use matricle_core::{DateId, TicketTypeId};
use matricle_desk::DeskError;
use matricle_desk::bookings::waiting::{self, Joined};
use matricle_desk::programme::{self, Looking};
use matricle_formats::words;
use serde::Deserialize;

use crate::asking::{Asker, Booker, Perhaps, Posted, Visitor};
use crate::error::WebError;
use crate::guard::Often;
use crate::page::{Face, Frame, html, refused};
use crate::parts::fields::{Fields, form};
use crate::parts::places::address;
use crate::{App, wording};

#[derive(Template)]
#[template(path = "programme/wait.html")]
struct Wait {
    f: Frame,
    slug: String,
    date: i64,
    title: String,
    when: String,
    waiting: u32,
    offers: bool,
    tickets: Vec<(i64, String, String)>,
    d: Fields,
    problem: Option<String>,
    /// The seats are free after all.
    free: bool,
    /// They are on the list, and a mail tells them where.
    mailed: bool,
}

#[derive(Debug, Deserialize)]
pub(crate) struct Which {
    date: i64,
    #[serde(default)]
    mailed: String,
}

async fn page(
    app: &App,
    visitor: &Visitor,
    staff: Option<&matricle_store::people::Staff>,
    slug: &str,
    date: DateId,
) -> Result<Wait, WebError> {
    let looking = Looking { slug: slug.into(), ..Looking::default() };
    let page = programme::event(&app.desk, looking).await?;
    let sheet = page.dates.iter().find(|d| d.date.id == date).ok_or(DeskError::NotFound)?;
    if page.event.rules.waiting == Manner::Off {
        return Err(DeskError::NotFound.into());
    }
    let span = &sheet.date.span;
    let currency = page.house.currency;
    Ok(Wait {
        f: Frame::new(
            app,
            Face::Programme,
            page.event.title.clone(),
            &page.house.name,
            visitor,
            staff,
        ),
        slug: page.event.slug.clone(),
        date: date.0,
        title: page.event.title.clone(),
        when: words::long_span(span.starts, span.ends),
        waiting: waiting::count(&app.desk, date).await?,
        offers: page.event.rules.waiting == Manner::OfferFirst,
        tickets: sheet
            .tickets
            .iter()
            .zip(&sheet.offer.offers)
            .filter(|(_, o)| o.word.is_empty() && !o.closed)
            .map(|(t, o)| (t.id.0, t.name.clone(), currency.of(o.price.minor).to_string()))
            .collect(),
        d: Fields::default(),
        problem: None,
        free: false,
        mailed: false,
    })
}

/// `GET /events/{slug}/wait?date=…`.
pub(crate) async fn ask(
    State(app): State<App>,
    Path(slug): Path<String>,
    Query(Which { date, mailed }): Query<Which>,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
) -> Result<Response, WebError> {
    let mut page = page(&app, &visitor, staff.as_ref(), &slug, DateId(date)).await?;
    page.mailed = mailed == "yes";
    html(&page)
}

/// `POST /events/{slug}/wait`.
pub(crate) async fn join(
    State(app): State<App>,
    Path(slug): Path<String>,
    asker: Asker,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
    Booker(booker): Booker,
    posted: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    let date = DateId(posted.get("date").parse().unwrap_or(0));
    let wanted: Vec<Wanted> = posted
        .starting("q_")
        .filter_map(|(ticket, n)| {
            let quantity = n.trim().parse().ok().filter(|n| *n > 0)?;
            Some(Wanted { ticket: TicketTypeId(ticket.parse().ok()?), quantity })
        })
        .collect();
    let refusal = match waiting::join(&app.desk, date, wanted, &booker, form(&posted)).await {
        Ok(Joined { id, proved: true }) => {
            let key = app.desk.secrets.waiting_key(id);
            return Ok(Redirect::to(&format!("/waiting/{id}/{key}")).into_response());
        }
        Ok(Joined { proved: false, .. }) => {
            let to =
                format!("/events/{}/wait?date={date}&mailed=yes", crate::address::encode(&slug));
            return Ok(Redirect::to(&to).into_response());
        }
        Err(refusal) => refusal,
    };
    let mut page = page(&app, &visitor, staff.as_ref(), &slug, date).await?;
    page.d = Fields::posted(&posted, &[]);
    match refusal {
        DeskError::Form(wrong) => page.d.mark(&wrong),
        DeskError::SeatsFree => page.free = true,
        DeskError::Choice(refusal) => page.problem = Some(wording::choice(&refusal, &[])),
        other => return Err(other.into()),
    }
    refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
}

#[derive(Template)]
#[template(path = "programme/place.html")]
struct PlacePage {
    f: Frame,
    own: String,
    title: String,
    event_href: String,
    when: String,
    name: String,
    tickets: String,
    stands: &'static str,
    place: u32,
    line: u32,
    passed_over: u32,
    offer: Option<(String, String)>,
    /// They asked to leave, and are asked whether they mean it.
    leaves: bool,
}

/// What the address of a place says.
#[derive(Debug, Default, serde::Deserialize)]
pub(crate) struct OfPlace {
    #[serde(default)]
    leave: String,
}

/// `GET /waiting/{id}/{key}`: one's place on the list.
pub(crate) async fn place(
    State(app): State<App>,
    Path((id, key)): Path<(i64, String)>,
    Query(of): Query<OfPlace>,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
) -> Result<Response, WebError> {
    if !app.desk.secrets.opens_waiting(id, &key) {
        return Err(DeskError::NotFound.into());
    }
    let place = waiting::place(&app.desk, id).await?;
    let now = app.desk.clock.now();
    let span = &place.date.span;
    let offer = place.offer.as_ref().filter(|_| place.waiter.stands == Stands::Offered).map(|b| {
        let until =
            b.deadline.map_or_else(String::new, |d| words::deadline(d, &place.house.zone, now));
        (address(&app, b.reference), until)
    });
    html(&PlacePage {
        f: Frame::new(
            &app,
            Face::Programme,
            "Waiting list",
            &place.house.name,
            &visitor,
            staff.as_ref(),
        ),
        own: format!("/waiting/{id}/{key}"),
        title: place.event.title.clone(),
        event_href: format!("/events/{}?date={}", place.event.slug, place.date.id),
        when: words::long_span(span.starts, span.ends),
        name: place.waiter.name.clone(),
        tickets: place.tickets.join(", "),
        stands: place.waiter.stands.word(),
        place: place.place,
        line: place.line,
        passed_over: place.waiter.passed_over,
        offer,
        leaves: of.leave == "ask",
    })
}

/// `POST /waiting/{id}/{key}`: leaves the list.
pub(crate) async fn leave(
    State(app): State<App>,
    Path((id, key)): Path<(i64, String)>,
    _posted: Posted,
) -> Result<Response, WebError> {
    if !app.desk.secrets.opens_waiting(id, &key) {
        return Err(DeskError::NotFound.into());
    }
    waiting::leave(&app.desk, id).await?;
    Ok(Redirect::to(&format!("/waiting/{id}/{key}")).into_response())
}
