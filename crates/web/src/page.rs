//! What every page has around it.

use askama::Template;
use axum::http::StatusCode;
use axum::response::{Html, IntoResponse, Response};
use matricle_core::staff::Right;
use matricle_desk::random_u64;
use matricle_store::people::Staff;

use crate::asking::Visitor;
use crate::error::WebError;
use crate::{App, assets};

/// The three faces.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Face {
    Programme,
    Office,
    Door,
}

/// The frame of a page.
#[derive(Debug, Clone)]
pub(crate) struct Frame {
    pub(crate) title: String,
    pub(crate) face: Face,
    /// The room of the Office, such as `events`.
    pub(crate) room: &'static str,
    pub(crate) house: String,
    /// Name of whoever has signed in.
    pub(crate) me: Option<String>,
    /// Whether they may see the Office.
    pub(crate) office: bool,
    /// Whether they may plan events.
    pub(crate) plans: bool,
    /// Whether they let people in at the door.
    pub(crate) checks_in: bool,
    /// Whether they handle money.
    pub(crate) handles_money: bool,
    /// Whether they lead dates of their own.
    pub(crate) hosts: bool,
    /// The token of this visitor's forms.
    pub(crate) token: String,
    /// Made for this page: a form that carries it is acted on once, however often it is sent.
    pub(crate) once: String,
    /// In the addresses of scripts and styles.
    pub(crate) version: &'static str,
}

impl Frame {
    pub(crate) fn new(
        app: &App,
        face: Face,
        title: impl Into<String>,
        house: &str,
        visitor: &Visitor,
        staff: Option<&Staff>,
    ) -> Self {
        Self {
            title: title.into(),
            face,
            room: "",
            house: house.into(),
            me: staff.map(|s| s.name.clone()),
            office: staff.is_some_and(|s| s.role.may(Right::SeeOffice)),
            plans: staff.is_some_and(|s| s.role.may(Right::PlanEvents)),
            checks_in: staff.is_some_and(|s| s.role.may(Right::CheckIn)),
            handles_money: staff.is_some_and(|s| s.role.may(Right::HandleMoney)),
            hosts: staff.is_some_and(|s| s.role == matricle_core::staff::Role::Host),
            token: app.desk.secrets.form_token(&visitor.0),
            once: format!("{:016x}", random_u64()),
            version: &assets::VERSION,
        }
    }

    pub(crate) fn in_room(mut self, room: &'static str) -> Self {
        self.room = room;
        self
    }

    pub(crate) fn is(&self, face: &str) -> bool {
        matches!(
            (self.face, face),
            (Face::Programme, "programme") | (Face::Office, "office") | (Face::Door, "door")
        )
    }
}

/// Renders a page or a part of one.
pub(crate) fn html(template: &impl Template) -> Result<Response, WebError> {
    Ok(Html(template.render()?).into_response())
}

/// Renders a page that says what is wrong with what was sent.
pub(crate) fn refused(status: StatusCode, template: &impl Template) -> Result<Response, WebError> {
    Ok((status, Html(template.render()?)).into_response())
}
