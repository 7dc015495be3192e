//! Sender names and addresses.

use askama::Template;
use axum::extract::Path;
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::people::staff::Right;
use matricle_desk::messages::senders;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::office::tab::answer;
use crate::page::Frame;
use crate::parts::fields::{Fields, form};

#[derive(Template)]
#[template(path = "messages/senders.html")]
struct Page {
    f: Frame,
    tab: &'static str,
    house: (String, String),
    rows: Vec<(i64, String, String, String, String)>,
    /// Who stands behind the house's own address.
    behind: String,
    d: Fields,
    tags: Vec<(String, String)>,
    may: bool,
}

async fn page(at: &Clerk, d: Fields) -> Result<Response, WebError> {
    let (house, all, tags) = senders::all(&at.app.desk, &at.staff).await?;
    let name =
        |id: matricle_core::TagId| tags.iter().find(|t| t.0 == id).map_or("", |t| t.1.as_str());
    let wrong = d.count();
    let behind = senders::behind_house(&at.app.desk, &at.staff).await?;
    let page = Page {
        behind: if d.bad("house_forwards_to") {
            d.v("house_forwards_to").to_owned()
        } else {
            behind
        },
        f: at.frame("Senders", &house.name).in_room("messages"),
        tab: "senders",
        rows: all
            .iter()
            .map(|s| {
                let of = s.tag.map_or_else(
                    || "events that choose it".to_owned(),
                    |t| format!("events tagged {}", name(t)),
                );
                (s.id, s.name.clone(), s.email.clone(), of, s.forwards_to.clone())
            })
            .collect(),
        tags: std::iter::once((String::new(), "for events that choose it".to_owned()))
            .chain(tags.iter().map(|t| (t.0.to_string(), format!("for events tagged {}", t.1))))
            .collect(),
        house: (house.name, house.email),
        may: at.staff.role.may(Right::SetHouseUp),
        d,
    };
    answer(wrong, &page)
}

/// `GET /office/messages/senders`.
pub(crate) async fn show(at: Clerk) -> Result<Response, WebError> {
    page(&at, Fields::default()).await
}

/// `POST /office/messages/senders/{id}`; 0 is a new one.
pub(crate) async fn save(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let there = "/office/messages/senders";
    if posted.get("act") == "retire" {
        senders::retire(&at.app.desk, &at.staff, id).await?;
        return Ok(at.done(there, "The sender is out of use."));
    }
    if !at.app.guards.is_first(there, &posted) {
        return Ok(Redirect::to(there).into_response());
    }
    match senders::save(&at.app.desk, &at.staff, id, form(&posted)).await {
        Ok(()) => Ok(at.done(there, "The sender is kept.")),
        Err(error) => {
            at.app.guards.not_done(there, &posted);
            page(&at, Fields::again(&posted, error)?).await
        }
    }
}

/// `POST /office/messages/senders/house`: who reads what is written to the house's own address.
pub(crate) async fn house(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    match senders::forward_house(&at.app.desk, &at.staff, form(&posted)).await {
        Ok(()) => {
            let said = if posted.get("house_forwards_to").trim().is_empty() {
                "Letters to the house are read at the Office."
            } else {
                "Letters to the house are forwarded."
            };
            Ok(at.done("/office/messages/senders", said))
        }
        Err(error) => page(&at, Fields::again(&posted, error)?).await,
    }
}
