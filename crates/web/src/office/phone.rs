//! A booking for somebody on the telephone.

use askama::Template;
use axum::extract::Path;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::Timestamp;
use matricle_core::booking::details::{Answering, Field, Question};
use matricle_core::money::price::{Buyer, Why};
use matricle_core::seats::Wanted;
use matricle_core::{Currency, DateId, EventId, TicketTypeId};
use matricle_desk::bookings::phone::{self, ByPhone};
use matricle_desk::planning::sheet;
use matricle_desk::{DeskError, office};
use matricle_formats::words;
use matricle_store::events::Choices;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form};
use crate::wording;

#[derive(Template)]
#[template(path = "office/phone.html")]
struct Phone {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    dates: Vec<(i64, String)>,
    tickets: Vec<(i64, String, String)>,
    questions: Vec<PhoneQuery>,
    d: Fields,
    problem: Option<String>,
}

/// A question that is asked on the telephone.
struct PhoneQuery {
    /// The name of its field.
    name: String,
    label: String,
    hint: &'static str,
    options: Vec<String>,
    /// Several may be ticked.
    several: bool,
    needed: bool,
    /// A line for each person.
    each: bool,
}

fn asked(q: &Question) -> PhoneQuery {
    let (options, several, hint) = match &q.answering {
        Answering::OneOf(options) => (options.clone(), false, ""),
        Answering::SeveralOf(options) => (options.clone(), true, ""),
        Answering::YesNo | Answering::Consent(_) => (vec!["yes".into()], false, ""),
        Answering::Day => (Vec::new(), false, "A day like 2026-12-31."),
        Answering::Number => (Vec::new(), false, "A whole number."),
        Answering::Phone => (Vec::new(), false, "A number like +353 1 555 0199."),
        Answering::Text | Answering::LongText => (Vec::new(), false, ""),
    };
    PhoneQuery {
        name: format!("{}_{}", if q.each { "each" } else { "answer" }, q.id),
        label: match &q.answering {
            Answering::Consent(text) => format!("{}: {text}", q.label),
            _ => q.label.clone(),
        },
        hint,
        options,
        several,
        needed: q.needed,
        each: q.each,
    }
}

/// What a ticket costs now, whatever it costs at other times.
fn price_now(
    date: &Choices,
    ticket: TicketTypeId,
    currency: Currency,
    now: Timestamp,
) -> Option<String> {
    let place = date.tickets.iter().position(|t| t.id == ticket)?;
    let (minor, why) = date.offer.offers.get(place)?.price.unit(1, &Buyer::default(), now);
    let price = currency.of(minor);
    Some(match why {
        Why::Early => format!("{price}, early"),
        _ => price.to_string(),
    })
}

async fn phone_page(
    at: &Clerk,
    id: i64,
    d: Fields,
    problem: Option<String>,
) -> Result<Response, WebError> {
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let event = office::event(&at.app.desk, &at.staff, EventId(id)).await?;
    let now = at.app.desk.clock.now();
    let today = words::local(now, &s.house.zone).date();
    let bad = d.count() > 0 || problem.is_some();
    let coming =
        event.dates.iter().find(|d| d.date.span.ends_at > now && d.date.called_off.is_empty());
    let page = Phone {
        questions: s.questions.iter().map(asked).collect(),
        f: at.frame(s.event.title.clone(), &s.house.name).in_room("events"),
        tab: "phone",
        id,
        bookings: s.bookings,
        title: s.event.title.clone(),
        dates: event
            .dates
            .iter()
            .filter(|d| d.date.span.ends_at > now && d.date.called_off.is_empty())
            .map(|d| {
                let when = words::span(d.date.span.starts, d.date.span.ends, today);
                (d.date.id.0, format!("{when}, {} left", d.main_pool().free()))
            })
            .collect(),
        tickets: s
            .tickets
            .iter()
            .map(|t| {
                let usual = s.house.currency.of(t.plan.minor).to_string();
                let price = coming.and_then(|d| price_now(d, t.id, s.house.currency, now));
                (t.id.0, t.plan.name.clone(), price.unwrap_or(usual))
            })
            .collect(),
        d,
        problem,
    };
    if bad { refused(StatusCode::UNPROCESSABLE_ENTITY, &page) } else { html(&page) }
}

/// `GET /office/events/{id}/phone`: a booking for somebody on the phone.
pub(crate) async fn phone(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    phone_page(&at, id, Fields::default(), None).await
}

/// `POST /office/events/{id}/phone`.
pub(crate) async fn by_phone(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let sheet = format!("/office/events/{id}");
    if !at.app.guards.is_first(&sheet, &posted) {
        return Ok(Redirect::to(&sheet).into_response());
    }
    let currency = at.app.desk.house().await?.currency;
    let mut fields = form(&posted);
    let price = fields.amount("price", currency);
    let reason = fields.line("reason");
    let wanted = posted
        .starting("q_")
        .filter_map(|(ticket, n)| {
            let quantity = n.trim().parse().ok().filter(|n| *n > 0)?;
            Some(Wanted { ticket: TicketTypeId(ticket.parse().ok()?), quantity })
        })
        .collect();
    let asked = ByPhone {
        date: DateId(posted.get("date").parse().unwrap_or(0)),
        wanted,
        by_hand: price.map(|minor| (currency.of(minor), reason)),
    };
    let mut d = Fields::posted(&posted, &[]);
    let outcome = phone::by_phone(&at.app.desk, &at.staff, asked, fields).await;
    if outcome.is_err() {
        at.app.guards.not_done(&sheet, &posted);
    }
    match outcome {
        Ok(reference) => {
            let to = format!("/office/bookings/{}", reference.as_str());
            Ok(at.done(&to, format!("Booked: {reference}.")))
        }
        Err(DeskError::Form(wrong)) => {
            d.mark(&wrong);
            phone_page(&at, id, d, None).await
        }
        Err(DeskError::Details(problems)) => {
            for (field, problem) in problems {
                let name = match field {
                    Field::Name => "name".to_owned(),
                    Field::Email => "email".to_owned(),
                    Field::Attendee(_) | Field::Terms => "people".to_owned(),
                    Field::AnswerOf(_, q) => format!("each_{q}"),
                    Field::Answer(q) => format!("answer_{q}"),
                };
                d.say(&name, wording::problem(field, &problem));
            }
            phone_page(&at, id, d, None).await
        }
        Err(DeskError::Choice(refusal)) => {
            let said = wording::choice(&refusal, &[]);
            phone_page(&at, id, d, Some(said)).await
        }
        Err(error) => Err(error.into()),
    }
}
