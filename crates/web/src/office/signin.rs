//! Signing in and out.

use askama::Template;
use axum::extract::{Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::staff::{Right, Role};
use matricle_desk::people::signin;
use matricle_desk::{DeskError, demo};
use serde::Deserialize;

use crate::App;
use crate::error::WebError;
use crate::guard::{self, Asker, Often, Posted, Signer, Visitor};
use crate::page::{Face, Frame, html, refused};

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

/// Only our own addresses: never on to another site.
pub(crate) fn own_address(back: &str) -> &str {
    // Browsers leave tabs and line breaks out of an address: `/<tab>/x` is `//x` to them.
    let odd = |c: char| c == '\\' || c.is_control() || c.is_whitespace();
    let ours = back.starts_with('/') && !back.starts_with("//") && !back.contains(odd);
    if ours { back } else { "" }
}

async fn form(
    app: &App,
    visitor: &Visitor,
    back: &str,
    email: &str,
    problem: Option<&'static str>,
) -> Result<SignIn, WebError> {
    let house = app.desk.house().await?;
    let demo = if app.settings.demo {
        demo::STAFF
            .iter()
            .map(|(_, email, role, password)| (role.word(), *email, *password))
            .collect()
    } else {
        Vec::new()
    };
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
            if let Some(old) = guard::session_token(&headers) {
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
            let cookie = guard::session_cookie(&app.settings, &token);
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
    if let Some(token) = guard::session_token(&headers) {
        signin::sign_out(&app.desk, token).await?;
    }
    let cookie = guard::no_session(&app.settings);
    Ok(([(header::SET_COOKIE, cookie)], Redirect::to("/")).into_response())
}

#[cfg(test)]
mod tests {
    use super::own_address;

    #[test]
    fn signing_in_never_leads_to_another_site() {
        assert_eq!(own_address("/door/3?x=1"), "/door/3?x=1");
        for evil in [
            "//evil.example",
            "https://evil.example",
            "/\\evil.example",
            "/\t/evil.example",
            "/\n/evil.example",
            "/\u{85}/evil.example",
            "",
            "javascript:1",
        ] {
            assert_eq!(own_address(evil), "", "{evil}");
        }
    }
}
