//! `/office/events/new`: an event on one small form, and into the Programme with it.

use askama::Template;
use axum::http::StatusCode;
use axum::response::Response;
use matricle_core::EventId;
use matricle_core::forms::quick::{Field, Format, How, Problem, Typed};
use matricle_desk::DeskError;
use matricle_desk::planning::events;
use matricle_desk::planning::patterns::{self, From};

use crate::asking::Posted;
use crate::error::WebError;
use crate::news::Undo;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
use crate::parts::fields;
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
    how: &'static str,
    part: &'static str,
    parts: [(&'static str, &'static str); 3],
    overnight: bool,
    fields: Vec<Input>,
    venues: Vec<String>,
    problems: usize,
    patterns: Vec<(i64, String)>,
    from_problem: String,
    from_day: String,
}

async fn form(at: &Clerk, typed: &Typed, problems: &[(Field, Problem)]) -> Result<Quick, WebError> {
    let wanting = events::wanting(&at.app.desk, &at.staff).await?;
    let currency = wanting.house.currency.letters();
    let field = |field: Field, name, label, hint: &str, kind, value: &str| Input {
        name,
        label,
        hint: hint.into(),
        kind,
        value: value.into(),
        problem: problems.iter().find(|(f, _)| *f == field).map(|(f, p)| wording::quick(*f, *p)),
        needed: !matches!(field, Field::Kind | Field::Price | Field::Link),
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
        field(Field::Weeks, "weeks", "For how many weeks", "", "text", &typed.weeks),
        field(
            Field::Minutes,
            "minutes",
            "Minutes of one appointment",
            "They are cut from the opening hours of the house.",
            "text",
            &typed.minutes,
        ),
        field(
            Field::Place,
            "place",
            "Where",
            "A known place, or a room of it as in the list, keeps its address and its seats. Of another, the name and then its address: Mill, 3 Mill Lane, Ostrel.",
            "text",
            &typed.place,
        ),
        field(Field::Link, "link", "Link to join online", "May come later.", "url", &typed.link),
        field(Field::Seats, "seats", "Seats", "", "text", &typed.seats),
        field(Field::Places, "places", "Places online", "", "text", &typed.places),
        field(Field::Price, "price", "Price of a seat", &price_hint, "text", &typed.price),
    ];
    let f = at.frame("New event", &wanting.house.name).in_room("events");
    Ok(Quick {
        f,
        how: typed.how.word(),
        part: typed.part.word(),
        parts: Format::ALL.map(|p| {
            let label = match p {
                Format::InPerson => "At a place",
                Format::Online => "Online",
                Format::Both => "Both: some are there, some online",
            };
            (p.word(), label)
        }),
        overnight: typed.overnight,
        fields,
        venues: wanting.offered.places().into_iter().map(|(line, ..)| line).collect(),
        problems: problems.len(),
        patterns: wanting.patterns.iter().map(|p| (p.id, p.name.clone())).collect(),
        from_problem: String::new(),
        from_day: String::new(),
    })
}

pub(crate) async fn show(at: Clerk) -> Result<Response, WebError> {
    html(&form(&at, &Typed::default(), &[]).await?)
}

/// `POST /office/events/new`: published at once, or kept as a draft.
pub(crate) async fn make(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let field = |name| posted.get(name).to_owned();
    let typed = Typed {
        how: How::from_word(posted.get("how")).unwrap_or_default(),
        weeks: field("weeks"),
        overnight: !posted.get("overnight").is_empty(),
        minutes: field("minutes"),
        title: field("title"),
        kind: field("kind"),
        day: field("day"),
        from: field("from"),
        until: field("until"),
        part: Format::from_word(posted.get("part")).unwrap_or_default(),
        place: field("place"),
        link: field("link"),
        seats: field("seats"),
        places: field("places"),
        price: field("price"),
    };
    match events::quick(&at.app.desk, &at.staff, typed.clone(), posted.get("act") != "draft").await
    {
        Ok(id) if posted.get("act") == "draft" => {
            let undo = Undo::new(format!("/office/events/{id}/throw"), &[("away", "yes")]);
            Ok(at.done_but(&format!("/office/events/{id}"), "Kept as a draft.", undo))
        }
        Ok(id) => {
            Ok(at.done(&format!("/office/events/{id}?published=yes"), "It is in the Programme."))
        }
        Err(DeskError::Quick(problems)) => {
            let page = form(&at, &typed, &problems).await?;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
        Err(error) => Err(error.into()),
    }
}

/// `POST /office/events/new/from`: a draft from a pattern or a copy.
pub(crate) async fn start(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let number = |name| posted.get(name).parse::<i64>().ok();
    let from = match (number("event"), number("pattern")) {
        (Some(event), _) => From::Event(EventId(event)),
        (None, Some(pattern)) => From::Pattern(pattern),
        (None, None) => return Err(DeskError::NotFound.into()),
    };
    if let (From::Pattern(id), "forget") = (from, posted.get("act")) {
        patterns::forget(&at.app.desk, &at.staff, id).await?;
        return Ok(at.done("/office/events/new", "The pattern is forgotten."));
    }
    match patterns::start(&at.app.desk, &at.staff, from, fields::form(&posted)).await {
        Ok(id) => {
            let undo = Undo::new(format!("/office/events/{id}/throw"), &[("away", "yes")]);
            Ok(at.done_but(&format!("/office/events/{id}"), "A draft was made.", undo))
        }
        Err(error) => {
            let wrong = fields::wrong(error)?;
            let mut page = form(&at, &Typed::default(), &[]).await?;
            page.from_problem =
                wrong.first().map_or_else(String::new, |w| wording::fault(&w.field, &w.fault));
            page.from_day = posted.get("day").to_owned();
            refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
    }
}
