//! `/office/events/new`: an event on one small form, and into the Programme with it.

use askama::Template;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::EventId;
use matricle_core::quick::{Field, Problem, Typed};
use matricle_desk::{DeskError, events};
use matricle_store::people::Staff;

use crate::App;
use crate::error::WebError;
use crate::guard::{Posted, SignedIn, Visitor};
use crate::page::{Face, Frame, html, refused};
use crate::wording;

/// A field of the form, as typed, with what is wrong with it.
struct Input {
    name: &'static str,
    label: &'static str,
    hint: String,
    kind: &'static str,
    value: String,
    problem: Option<String>,
    needed: bool,
}

#[derive(Template)]
#[template(path = "office/quick.html")]
struct Quick {
    f: Frame,
    fields: Vec<Input>,
    venues: Vec<String>,
    problems: usize,
}

async fn form(
    app: &App,
    visitor: &Visitor,
    staff: &Staff,
    typed: &Typed,
    problems: &[(Field, Problem)],
) -> Result<Quick, WebError> {
    let wanting = events::wanting(&app.desk, staff).await?;
    let currency = wanting.house.currency.letters();
    let field = |field: Field, name, label, hint: &str, kind, value: &str| Input {
        name,
        label,
        hint: hint.into(),
        kind,
        value: value.into(),
        problem: problems.iter().find(|(f, _)| *f == field).map(|(f, p)| wording::quick(*f, *p)),
        needed: !matches!(field, Field::Kind | Field::Price),
    };
    let price_hint = format!("In {currency}, such as 12.50. Left empty, it is free.");
    let fields = vec![
        field(Field::Title, "title", "Title", "", "text", &typed.title),
        field(
            Field::Kind,
            "kind",
            "Kind",
            "Such as talk or workshop; it stands above the title.",
            "text",
            &typed.kind,
        ),
        field(Field::Day, "day", "Day", "", "date", &typed.day),
        field(Field::From, "from", "From", "", "time", &typed.from),
        field(Field::Until, "until", "Until", "", "time", &typed.until),
        field(
            Field::Place,
            "place",
            "Where",
            "A known place keeps its address and how to get there.",
            "text",
            &typed.place,
        ),
        field(Field::Seats, "seats", "Seats", "", "text", &typed.seats),
        field(Field::Price, "price", "Price of a seat", &price_hint, "text", &typed.price),
    ];
    let f = Frame::new(app, Face::Office, "New event", &wanting.house.name, visitor, Some(staff))
        .in_room("events");
    Ok(Quick { f, fields, venues: wanting.venues, problems: problems.len() })
}

pub(crate) async fn show(
    State(app): State<App>,
    visitor: Visitor,
    SignedIn(staff): SignedIn,
) -> Result<Response, WebError> {
    html(&form(&app, &visitor, &staff, &Typed::default(), &[]).await?)
}

/// `POST /office/events/new`: published at once, or kept as a draft.
pub(crate) async fn make(
    State(app): State<App>,
    visitor: Visitor,
    SignedIn(staff): SignedIn,
    posted: Posted,
) -> Result<Response, WebError> {
    let field = |name| posted.get(name).to_owned();
    let typed = Typed {
        title: field("title"),
        kind: field("kind"),
        day: field("day"),
        from: field("from"),
        until: field("until"),
        place: field("place"),
        seats: field("seats"),
        price: field("price"),
    };
    match events::quick(&app.desk, &staff, typed.clone(), posted.get("act") != "draft").await {
        Ok(id) => Ok(Redirect::to(&format!("/office/events/{id}")).into_response()),
        Err(DeskError::Quick(problems)) => {
            let page = form(&app, &visitor, &staff, &typed, &problems).await?;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
        Err(error) => Err(error.into()),
    }
}

/// `POST /office/events/{id}/programme`: publishes a draft, or takes it back.
pub(crate) async fn show_in_programme(
    State(app): State<App>,
    Path(id): Path<i64>,
    SignedIn(staff): SignedIn,
    posted: Posted,
) -> Result<Response, WebError> {
    let shown = posted.get("shown") == "yes";
    events::show_in_programme(&app.desk, &staff, EventId(id), shown).await?;
    Ok(Redirect::to(&format!("/office/events/{id}")).into_response())
}
