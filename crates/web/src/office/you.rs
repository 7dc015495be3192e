//! `/you`: whoever works here looks at their sessions and changes their password.

use askama::Template;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::forms::form::Fault;
use matricle_core::people::wish::What;
use matricle_desk::DeskError;
use matricle_desk::people::signin;
use matricle_desk::telling::{self, Wishes};

use crate::asking::{Asker, Posted, Signer};
use crate::error::WebError;
use crate::guard::Often;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form};
use crate::parts::sessions::session_row;
use crate::{App, cookies};

#[derive(Template)]
#[template(path = "office/you.html")]
struct You {
    f: Frame,
    name: String,
    email: String,
    role: &'static str,
    sessions: Vec<(String, String)>,
    hosts: bool,
    money: bool,
    house: bool,
    zone: String,
    d: Fields,
}

/// The wishes of somebody, as the form shows them.
fn wished(wishes: &Wishes) -> Fields {
    let mut d = Fields::default();
    for wish in &wishes.has {
        let name = match wish.what {
            What::EachAttendee => {
                d.set("attendees", "each".into());
                continue;
            }
            What::Attendees => {
                d.set("attendees", "day".into());
                "attendees"
            }
            What::Tomorrow => "tomorrow",
            What::Money => "money",
            What::House => "house",
        };
        if name != "attendees" {
            d.tick(name, true);
        }
        let at = wish.at.map_or_else(String::new, |at| at.strftime("%H:%M").to_string());
        d.set(&format!("{name}_at"), at);
        d.tick(&format!("{name}_nothing"), wish.nothing);
    }
    d
}

async fn page(at: &Clerk, headers: &HeaderMap, d: Fields) -> Result<You, WebError> {
    let wishes = telling::wishes(&at.app.desk, &at.staff).await?;
    let may = |what| wishes.may.contains(&what);
    let house = at.app.desk.house().await?;
    let now = at.app.desk.clock.now();
    let open = match cookies::session_token(headers) {
        Some(token) => signin::sessions(&at.app.desk, token).await?,
        None => Vec::new(),
    };
    Ok(You {
        f: at.frame("You", &house.name),
        name: at.staff.name.clone(),
        email: at.staff.email.clone(),
        role: at.staff.role.word(),
        sessions: open.iter().map(|s| session_row(s, &house.zone, now)).collect(),
        hosts: may(What::Tomorrow),
        money: may(What::Money),
        house: may(What::House),
        d: if d.on("kept") { d } else { d.over(&wished(&wishes)) },
        zone: wishes.zone,
    })
}

pub(crate) async fn show(at: Clerk, headers: HeaderMap) -> Result<Response, WebError> {
    html(&page(&at, &headers, Fields::default()).await?)
}

/// `POST /you/told`: what is to be told by itself.
pub(crate) async fn told(
    at: Clerk,
    headers: HeaderMap,
    posted: Posted,
) -> Result<Response, WebError> {
    let _alone = at.keeping().await;
    let now = wished(&telling::wishes(&at.app.desk, &at.staff).await?);
    let posted = match posted.over(&now) {
        Ok(posted) => posted,
        Err(again) => {
            let page = page(&at, &headers, *again).await?;
            return refused(StatusCode::UNPROCESSABLE_ENTITY, &page);
        }
    };
    match telling::keep_wishes(&at.app.desk, &at.staff, form(&posted)).await {
        Ok(()) => Ok(at.done("/you", "What you are told is kept.")),
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &page(&at, &headers, d).await?)
        }
    }
}

/// `POST /you`: another password; every session ends, this one too.
pub(crate) async fn change(
    State(app): State<App>,
    at: Clerk,
    headers: HeaderMap,
    asker: Asker,
    Signer(browser): Signer,
    posted: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::SignIn, &asker)?;
    match signin::change_password(&app.desk, &at.staff, form(&posted), browser).await {
        Ok(()) => {
            let cookie = cookies::no_session(&app.settings);
            let to = Redirect::to("/sign-in?changed");
            Ok(([(header::SET_COOKIE, cookie)], to).into_response())
        }
        Err(DeskError::Form(wrong)) => {
            // What was typed is not shown again.
            let mut d = Fields::default();
            d.mark(&wrong);
            if wrong.iter().any(|w| w.field == "old_password" && w.fault == Fault::Unknown) {
                d.say("old_password", "This is not the password you have.".into());
            }
            refused(StatusCode::UNPROCESSABLE_ENTITY, &page(&at, &headers, d).await?)
        }
        Err(error) => Err(error.into()),
    }
}
