//! Signing in and out.

use askama::Template;
use axum::extract::{Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::people::staff::{Right, Role};
use matricle_desk::DeskError;
use matricle_desk::people::signin;
use serde::Deserialize;

use crate::asking::{Asker, Posted, Signer, Visitor};
use crate::error::WebError;
use crate::guard::Often;
use crate::page::{Face, Frame, html, refused};
use crate::parts::places::own_address;
use crate::{App, cookies};

#[derive(Template)]
#[template(path = "office/signin.html")]
struct SignIn {
    f: Frame,
    back: String,
    email: String,
    problem: Option<&'static str>,
    demo: Vec<(&'static str, &'static str, &'static str)>,
}

#[derive(Debug, Deserialize)]
pub(crate) struct Back {
    #[serde(default)]
    back: String,
}

async fn form(
    app: &App,
    visitor: &Visitor,
    back: &str,
    email: &str,
    problem: Option<&'static str>,
) -> Result<SignIn, WebError> {
    let house = app.desk.house().await?;
    let shown = app.settings.demo.iter();
    let demo = shown.map(|(_, email, role, password)| (role.word(), *email, *password)).collect();
    Ok(SignIn {
        f: Frame::new(app, Face::Office, "Sign in", &house.name, visitor, None),
        back: own_address(back).into(),
        email: email.into(),
        problem,
        demo,
    })
}

pub(crate) async fn show(
    State(app): State<App>,
    Query(Back { back }): Query<Back>,
    visitor: Visitor,
) -> Result<Response, WebError> {
    html(&form(&app, &visitor, &back, "", None).await?)
}

/// `POST /sign-in`.
pub(crate) async fn sign_in(
    State(app): State<App>,
    asker: Asker,
    visitor: Visitor,
    Signer(browser): Signer,
    headers: HeaderMap,
    posted: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::SignIn, &asker)?;
    let (email, back) = (posted.get("email").trim().to_owned(), posted.get("back").to_owned());
    let password = posted.get("password").to_owned();
    match signin::sign_in(&app.desk, email.clone(), password, browser).await {
        Ok(token) => {
            // The session of before, if there was one, is not left open behind the new one.
            if let Some(old) = cookies::session_token(&headers) {
                signin::sign_out(&app.desk, old).await?;
            }
            let role = signin::session(&app.desk, &token).await?.map_or(Role::Door, |s| s.role);
            let home = match role {
                role if role.may(Right::SeeOffice) => "/office",
                Role::Host => "/office/mine",
                _ => "/door",
            };
            let to = match own_address(&back) {
                "" => home,
                back => back,
            };
            let cookie = cookies::session_cookie(&app.settings, &token);
            Ok(([(header::SET_COOKIE, cookie)], Redirect::to(to)).into_response())
        }
        Err(DeskError::SignIn) => {
            let problem = "Address and password do not belong together. Check both; capital letters matter in the password.";
            let page = form(&app, &visitor, &back, &email, Some(problem)).await?;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
        Err(error) => Err(error.into()),
    }
}

/// `POST /sign-out`.
pub(crate) async fn sign_out(
    State(app): State<App>,
    headers: HeaderMap,
    _form: Posted,
) -> Result<Response, WebError> {
    if let Some(token) = cookies::session_token(&headers) {
        signin::sign_out(&app.desk, token).await?;
    }
    let cookie = cookies::no_session(&app.settings);
    Ok(([(header::SET_COOKIE, cookie)], Redirect::to("/")).into_response())
}
