//! What every page has around it.

use askama::Template;
use axum::http::StatusCode;
use axum::response::{Html, IntoResponse, Response};
use matricle_core::people::staff::Right;
use matricle_desk::random_u64;
use matricle_store::people::Staff;

use crate::asking::Visitor;
use crate::error::WebError;
use crate::news::NewsLine;
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
    /// The name of the device that has joined, at the door.
    pub(crate) device: Option<String>,
    /// Whether this browser is signed in, as staff or to book.
    pub(crate) signed_in: bool,
    /// Whether they may see the Office.
    pub(crate) office: bool,
    /// Whether they may plan events.
    pub(crate) plans: bool,
    /// Whether they let people in at the door.
    pub(crate) checks_in: bool,
    /// Whether they handle money.
    /// Whether they review.
    pub(crate) reviews: bool,
    pub(crate) handles_money: bool,
    /// Whether they lead dates of their own.
    pub(crate) hosts: bool,
    /// A draft that is looked at as a stranger will see it, or a step that is tried out: what
    /// to call it, and the way back for whoever works here.
    pub(crate) trying: Option<Trying>,
    /// What was done just now.
    pub(crate) news: Option<NewsLine>,
    /// A colour of the event's own, six digits; empty for the house's.
    pub(crate) accent: String,
    /// The token of this visitor's forms.
    pub(crate) token: String,
    /// Made for this page: a form that carries it is acted on once, however often it is sent.
    pub(crate) once: String,
    /// In the addresses of scripts and styles.
    pub(crate) version: &'static str,
}

/// How a page is not for real.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Trial {
    /// A draft as a stranger will see it.
    Preview,
    /// A booking to try the steps out.
    Test,
}

impl Trial {
    pub(crate) const fn word(self) -> &'static str {
        match self {
            Self::Preview => "Preview",
            Self::Test => "Test",
        }
    }

    pub(crate) const fn says(self) -> &'static str {
        match self {
            Self::Preview => "This is how a stranger will see this draft. Nobody can book it yet.",
            Self::Test => "It takes no seats and counts nowhere.",
        }
    }
}

/// A page that is not for real.
#[derive(Debug, Clone)]
pub(crate) struct Trying {
    pub(crate) what: Trial,
    /// The sheet of the event, for staff.
    pub(crate) back: Option<String>,
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
            device: None,
            signed_in: visitor.1,
            office: staff.is_some_and(|s| s.role.may(Right::SeeOffice)),
            plans: staff.is_some_and(|s| s.role.may(Right::PlanEvents)),
            checks_in: staff.is_some_and(|s| s.role.may(Right::CheckIn)),
            handles_money: staff.is_some_and(|s| s.role.may(Right::HandleMoney)),
            reviews: staff.is_some_and(|s| s.role.may(Right::Review)),
            hosts: staff.is_some_and(|s| s.role == matricle_core::people::staff::Role::Host),
            trying: None,
            news: app.news.take(&visitor.0),
            accent: String::new(),
            token: app.desk.secrets.form_token(&visitor.0),
            once: format!("{:016x}", random_u64()),
            version: &assets::VERSION,
        }
    }

    /// As a stranger sees it: nobody is signed in, nothing of the Office stands around it.
    pub(crate) fn tried(mut self, what: Trial, event: i64) -> Self {
        let back = self.office.then(|| format!("/office/events/{event}"));
        self.trying = Some(Trying { what, back });
        (self.me, self.signed_in, self.office, self.plans) = (None, false, false, false);
        (self.checks_in, self.handles_money, self.hosts) = (false, false, false);
        self.reviews = false;
        self
    }

    /// In the colour of an event, `#1d4f3f`, if it has one of its own.
    pub(crate) fn coloured(mut self, accent: &str) -> Self {
        accent.trim_start_matches('#').clone_into(&mut self.accent);
        self
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

impl App {
    /// Name and zone of the house; they change so seldom that they are asked for once a minute.
    async fn name_and_zone(&self) -> Result<(String, String), WebError> {
        let now = self.desk.clock.now();
        if let Some(known) = self.pages.house(now) {
            return Ok(known);
        }
        let house = self.desk.house().await?;
        self.pages.keep_house((house.name.clone(), house.zone.clone()), now);
        Ok((house.name, house.zone))
    }

    /// The zone of the house's clocks.
    pub(crate) async fn zone(&self) -> Result<String, WebError> {
        Ok(self.name_and_zone().await?.1)
    }

    /// The name of the house, for a page that says what failed; the program's where that fails too.
    pub(crate) async fn house_name(&self) -> String {
        self.name_and_zone().await.map_or_else(|_| "Matricle".into(), |(name, _)| name)
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
