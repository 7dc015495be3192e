//! Events that members submit: the form, what became of them, and complaints.

pub(super) mod complain;
pub(super) mod mine;
mod view;

use askama::Template;
use axum::extract::{Multipart, Path, Query, State as Shared};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::SubmissionId;
use matricle_core::forms::form::Wrong;
use matricle_core::forms::repeats;
use matricle_core::review::submission as on;
use matricle_core::review::submission::Refusal;
use matricle_desk::DeskError;
use matricle_desk::review::Submitter;
use matricle_desk::review::writing::{self, Handed, Hints, Opens, Page};
use matricle_formats::{letter, words};
use serde::Deserialize;

use crate::App;
use crate::asking::{Asker, Booker, Posted, Somebody, Visitor, WithFile};
use crate::error::WebError;
use crate::guard::Often;
use crate::news::NewsLine;
use crate::page::{Face, Frame, refused};
use crate::parts::editor;
use crate::parts::fields::{Fields, form, wrong};
use crate::parts::submitted::{picture_address, typed_fields};
use crate::wording;

/// Whoever submits, taken from a request.
pub(super) struct Sender(pub(super) Submitter);

impl axum::extract::FromRequestParts<App> for Sender {
    type Rejection = WebError;

    async fn from_request_parts(
        parts: &mut axum::http::request::Parts,
        app: &App,
    ) -> Result<Self, WebError> {
        let Somebody(known) = Somebody::from_request_parts(parts, app).await?;
        let Booker(asking) = Booker::from_request_parts(parts, app).await?;
        Ok(Self(Submitter::of(known.as_ref(), &asking)))
    }
}

/// What every page of a submitter has: the program, the visitor, and who they are.
pub(super) struct At {
    pub(super) app: App,
    pub(super) visitor: Visitor,
    pub(super) who: Submitter,
}

impl axum::extract::FromRequestParts<App> for At {
    type Rejection = WebError;

    async fn from_request_parts(
        parts: &mut axum::http::request::Parts,
        app: &App,
    ) -> Result<Self, WebError> {
        let Sender(who) = Sender::from_request_parts(parts, app).await?;
        let visitor = Visitor::from_request_parts(parts, app).await?;
        Ok(Self { app: app.clone(), visitor, who })
    }
}

impl At {
    pub(super) fn frame(&self, title: impl Into<String>, house: &str) -> Frame {
        let mut f = Frame::new(&self.app, Face::Programme, title, house, &self.visitor, None);
        f.signed_in = self.who.person.is_some();
        f
    }

    /// On to a page that says in one line what was done.
    pub(super) fn done(&self, to: &str, what: impl Into<String>) -> Response {
        self.app.news.tell(&self.visitor.0, NewsLine { what: what.into(), undo: None });
        Redirect::to(to).into_response()
    }

    /// The sentence for a refusal.
    pub(super) async fn says(&self, refusal: &Refusal) -> Result<String, WebError> {
        let (zone, now) = (self.app.zone().await?, self.app.desk.clock.now());
        Ok(wording::submission(refusal, &zone, now))
    }
}

/// Something near what is typed.
struct Said {
    clashes: Vec<String>,
    near: Vec<(String, String)>,
    waits: bool,
    tags: Vec<String>,
    live: Vec<String>,
    place: String,
    read: bool,
}

impl From<Hints> for Said {
    fn from(h: Hints) -> Self {
        let href = |slug: &str| format!("/events/{}", crate::address::encode(slug));
        Self {
            near: h.near.into_iter().map(|(title, slug)| (title, href(&slug))).collect(),
            clashes: h.clashes,
            waits: h.waits,
            tags: h.tags,
            live: h.live,
            place: h.place,
            read: h.read,
        }
    }
}

#[derive(Template)]
#[template(path = "submit/form.html")]
struct FormPage {
    f: Frame,
    nonce: String,
    d: Fields,
    /// The description as it is edited, and as plain text where there is no script.
    html: String,
    text: String,
    id: String,
    key: String,
    stamp: String,
    /// A change to something that was sent.
    changing: bool,
    address: String,
    words: Vec<String>,
    terms: Vec<String>,
    signed_in: Option<String>,
    pictures: bool,
    bookable: bool,
    picture: Option<(String, String)>,
    places: Vec<String>,
    hosts: Vec<String>,
    tags: Vec<String>,
    currency: String,
    said: Said,
    refusal: String,
}

/// The hints beside the form, as they are renewed while one types.
#[derive(Template)]
#[template(path = "submit/hints.html")]
struct HintsPart {
    id: String,
    key: String,
    said: Said,
    when: String,
    pictures: bool,
    begun: bool,
    token: String,
}

struct Begun {
    id: SubmissionId,
    key: String,
}

/// The submission that a form belongs to, by its hidden fields.
fn begun(posted: &Posted) -> Option<(SubmissionId, String)> {
    let id = posted.get("id").parse().ok()?;
    Some((SubmissionId(id), posted.get("key").to_owned()))
}

async fn form_page(
    at: &At,
    page: Page,
    begun: Option<Begun>,
    d: Option<Fields>,
    stamp: Option<String>,
    refusal: String,
) -> Result<Response, WebError> {
    let nonce = crate::parts::editor::word();
    let d = d.unwrap_or_else(|| typed_fields(&page.typed));
    let html = matricle_desk::review::shown(d.v("description")).await?;
    let now = at.app.desk.clock.now();
    let lines =
        |text: &str| text.lines().filter(|l| !l.trim().is_empty()).map(String::from).collect();
    let rules = &page.given.rules;
    let template = FormPage {
        f: at.frame("Submit an event", &page.given.house.name),
        text: letter::text_of(&html),
        html,
        id: begun.as_ref().map_or_else(String::new, |b| b.id.to_string()),
        address: begun
            .as_ref()
            .map_or_else(String::new, |b| format!("/submissions/{}/{}", b.id, b.key)),
        key: begun.map_or_else(String::new, |b| b.key),
        stamp: stamp.unwrap_or_else(|| at.app.desk.secrets.stamp(now, at.who.from.0)),
        changing: false,
        words: lines(&rules.words),
        terms: lines(&rules.terms),
        signed_in: at.who.proved.clone(),
        pictures: rules.pictures,
        bookable: rules.bookable,
        picture: page.picture.map(|p| (picture_address(&at.app, p.id, "small"), p.alt)),
        places: page.places,
        hosts: page.hosts,
        tags: page.tags,
        currency: page.given.house.currency.letters().to_owned(),
        said: page.hints.into(),
        d,
        nonce,
        refusal,
    };
    let wrong = template.d.count() + usize::from(!template.refusal.is_empty());
    editor::with_editor(&at.app, &template.nonce, wrong, &template)
}

#[derive(Template)]
#[template(path = "submit/closed.html")]
struct Closed {
    f: Frame,
    words: Vec<String>,
    what: String,
    sign_in: bool,
}

async fn closed(at: &At, refusal: &Refusal) -> Result<Response, WebError> {
    let given = matricle_desk::review::house_rules::show(&at.app.desk).await?;
    let page = Closed {
        f: at.frame("Submit an event", &given.house.name),
        words: given
            .rules
            .words
            .lines()
            .filter(|l| !l.trim().is_empty())
            .map(String::from)
            .collect(),
        what: at.says(refusal).await?,
        sign_in: at.who.person.is_none()
            && !matches!(
                refusal,
                Refusal::NotYou(matricle_core::review::submission::NotYou::Closed)
            ),
    };
    refused(StatusCode::OK, &page)
}

/// `GET /submit`.
pub(super) async fn show(at: At) -> Result<Response, WebError> {
    match writing::page(&at.app.desk, &at.who, None).await {
        Ok((page, _)) => form_page(&at, page, None, None, None, String::new()).await,
        Err(DeskError::Submission(refusal @ Refusal::NotYou(_))) => closed(&at, &refusal).await,
        Err(error) => Err(error.into()),
    }
}

/// The form of one that is being written; its stamp is of when it was begun.
pub(super) async fn go_on(
    at: &At,
    id: SubmissionId,
    key: &str,
    begun_at: jiff::Timestamp,
) -> Result<Response, WebError> {
    let (page, _) = writing::page(&at.app.desk, &at.who, Some((id, key.to_owned()))).await?;
    let stamp = at.app.desk.secrets.stamp(begun_at, at.who.from.0);
    form_page(at, page, Some(Begun { id, key: key.to_owned() }), None, Some(stamp), String::new())
        .await
}

/// The key that whoever writes goes on with: the one they came with, or that of their browser.
fn key_for(at: &At, id: SubmissionId, came_with: &str) -> String {
    if came_with.is_empty() { at.app.desk.secrets.writing_key(id) } else { came_with.to_owned() }
}

/// `POST /submit/keep`: what is typed is kept as one types.
pub(super) async fn keep(at: At, posted: Posted) -> Result<Response, WebError> {
    let begun = begun(&posted);
    let new = begun.is_none();
    let given = matricle_desk::review::house_rules::show(&at.app.desk).await?;
    let came_with = begun.as_ref().map_or_else(String::new, |(_, key)| key.clone());
    let (id, hints) = match writing::keep(&at.app.desk, &at.who, begun, &form(&posted)).await {
        Err(DeskError::Submission(refusal)) => {
            let what = at.says(&refusal).await?;
            return Err(WebError::Refused { title: "That is not kept", what });
        }
        other => other?,
    };
    let key = key_for(&at, id, &came_with);
    let (now, zone) = (at.app.desk.clock.now(), given.house.zone);
    let part = HintsPart {
        when: words::seconds(now, &zone),
        said: hints.into(),
        pictures: given.rules.pictures,
        token: at.app.desk.secrets.form_token(&at.visitor.0),
        begun: new,
        id: id.to_string(),
        key,
    };
    let mut response = crate::page::html(&part)?;
    if new {
        let address = format!("/submissions/{id}/{}", part.key);
        if let Ok(address) = HeaderValue::from_str(&address) {
            response.headers_mut().insert("hx-replace-url", address);
        }
    }
    Ok(response)
}

/// `POST /submit`: sent, kept for later, or the link is mailed; what was typed is kept first.
pub(super) async fn act(at: At, asker: Asker, posted: Posted) -> Result<Response, WebError> {
    at.app.guards.often(Often::Booking, &asker)?;
    let desk = &at.app.desk;
    let before = begun(&posted);
    let came_with = before.as_ref().map_or_else(String::new, |(_, key)| key.clone());
    let kept = writing::keep(desk, &at.who, before, &form(&posted)).await;
    let (id, _) = match kept {
        Err(DeskError::Submission(refusal @ Refusal::NotYou(_))) => {
            return closed(&at, &refusal).await;
        }
        Err(DeskError::Submission(refusal)) => {
            let what = at.says(&refusal).await?;
            return Err(WebError::Refused { title: "That cannot be done", what });
        }
        other => other?,
    };
    let key = key_for(&at, id, &came_with);
    let address = format!("/submissions/{id}/{key}");
    let fields = form(&posted);
    let (error, at_field) = match posted.get("act") {
        "keep" => {
            return Ok(at.done(
                &address,
                "Kept. The address of this page leads back here; nobody else sees it.",
            ));
        }
        "link" => match writing::mail_link(desk, &at.who, (id, key.clone()), fields).await {
            Ok(to) => {
                let what = format!("A link went to {to}: go on with it on any device.");
                return Ok(at.done(&address, what));
            }
            Err(error) => (error, "email"),
        },
        _ => match writing::send(desk, &at.who, (id, key.clone()), fields).await {
            Ok(handed) => return handed_in(&at, id, &key, &handed).await,
            Err(error) => (error, ""),
        },
    };
    again(&at, id, key, &posted, error, at_field).await
}

/// The form once more, with what is wrong with it.
async fn again(
    at: &At,
    id: SubmissionId,
    key: String,
    posted: &Posted,
    error: DeskError,
    at_field: &str,
) -> Result<Response, WebError> {
    let mut said = String::new();
    let faults: Vec<Wrong> = match error {
        DeskError::Submission(refusal) => {
            said = at.says(&refusal).await?;
            Vec::new()
        }
        DeskError::MailAway => {
            said = "The mail server does not take a mail at the moment. Everything is kept: try again in a few minutes.".into();
            Vec::new()
        }
        DeskError::TooOften { seconds } if !at_field.is_empty() || seconds > 0 => {
            said = format!(
                "That was asked for often enough. Everything is kept: try again in {}.",
                wording::wait(seconds)
            );
            Vec::new()
        }
        error => wrong(error)?,
    };
    let mut d = Fields::posted(posted, &faults);
    if d.v("how").is_empty() {
        d.set("how", "once".into());
    }
    // The box that is to stay empty is shown once somebody, or their browser, filled it in.
    let (page, _) = writing::page(&at.app.desk, &at.who, Some((id, key.clone()))).await?;
    let stamp = posted.get("stamp");
    let stamp = at.app.desk.secrets.stamped_at(stamp, at.who.from.0).map(|_| stamp.to_owned());
    form_page(at, page, Some(Begun { id, key }), Some(d), stamp, said).await
}

/// What is said after it was sent.
async fn handed_in(
    at: &At,
    id: SubmissionId,
    key: &str,
    handed: &Handed,
) -> Result<Response, WebError> {
    Ok(match handed {
        Handed::Mailed(to) => {
            let given = matricle_desk::review::house_rules::show(&at.app.desk).await?;
            let page = LookAtMail {
                f: at.frame("Look at your mail", &given.house.name),
                to: to.clone(),
                back: format!("/submissions/{id}/{key}"),
            };
            crate::page::html(&page)?
        }
        Handed::Waits => at.done(
            &mine::address(at, id).await?,
            "It has arrived. A copy is on its way to you by mail; this page shows where it stands.",
        ),
        Handed::Draft => at.done(
            &mine::address(at, id).await?,
            "It has arrived, and lies before the organisers as a draft.",
        ),
        Handed::Published(slug) => at.done(
            &format!("/events/{}", crate::address::encode(slug)),
            "It is in the Programme. This is its page.",
        ),
    })
}

#[derive(Template)]
#[template(path = "submit/mail.html")]
struct LookAtMail {
    f: Frame,
    to: String,
    back: String,
}

/// What a page of one submission is asked for.
#[derive(Debug, Default, Deserialize)]
pub(super) struct How {
    #[serde(default)]
    pub(super) edit: String,
}

/// `POST /submissions/{id}/{key}/send`: handed in by the link that was mailed.
pub(super) async fn confirm(
    at: At,
    Path((id, key)): Path<(i64, String)>,
    posted: Posted,
) -> Result<Response, WebError> {
    let id = SubmissionId(id);
    let version = posted.get("version").parse().unwrap_or(u32::MAX);
    match writing::confirm(&at.app.desk, id, &key, version).await {
        Ok(handed) => handed_in(&at, id, &key, &handed).await,
        Err(DeskError::Form(_)) => {
            let to = format!("/submissions/{id}/{key}?edit=yes");
            Ok(at.done(
                &to,
                "Something is missing that it cannot be without: a title, a day or an hour.",
            ))
        }
        Err(DeskError::Submission(refusal)) => {
            let what = at.says(&refusal).await?;
            Ok(at.done(&format!("/submissions/{id}/{key}"), what))
        }
        Err(error) => Err(error.into()),
    }
}

/// `POST /submissions/{id}/{key}/picture`: a file with words for those who cannot see it.
pub(super) async fn picture(
    at: At,
    asker: Asker,
    Path((id, key)): Path<(i64, String)>,
    parts: Multipart,
) -> Result<Response, WebError> {
    at.app.guards.often(Often::Booking, &asker)?;
    let (id, to) = (SubmissionId(id), format!("/submissions/{id}/{key}?edit=yes"));
    match writing::may_have_picture(&at.app.desk, &at.who, id, &key).await {
        Ok(()) => {}
        Err(DeskError::Submission(refusal)) => {
            let what = at.says(&refusal).await?;
            return Ok(at.done(&to, what));
        }
        Err(error) => return Err(error.into()),
    }
    let WithFile { act, alt, bytes, .. } =
        WithFile::read(&at.app, &at.visitor, "picture", parts).await?;
    let drops = act == "drop";
    // No file chosen is a file that is no picture.
    let sent = if drops {
        Vec::new()
    } else if bytes.is_empty() {
        vec![0]
    } else {
        bytes
    };
    match writing::set_picture(&at.app.desk, &at.who, (id, key), alt, sent).await {
        Ok(()) if drops => Ok(at.done(&to, "The picture is taken away.")),
        Ok(()) => Ok(at.done(&to, "The picture is kept.")),
        Err(DeskError::Form(wrong)) => {
            let said: Vec<String> =
                wrong.iter().map(|w| wording::fault(&w.field, &w.fault)).collect();
            Ok(at.done(&to, format!("The picture was not taken. {}", said.join(" "))))
        }
        Err(DeskError::Submission(refusal)) => {
            let what = at.says(&refusal).await?;
            Ok(at.done(&to, what))
        }
        Err(error) => Err(error.into()),
    }
}

/// `GET /submitted/{id}/{key}/{size}`: the picture of a submission.
pub(super) async fn picture_file(
    Shared(app): Shared<App>,
    Path((id, key, size)): Path<(i64, String, String)>,
) -> Result<Response, WebError> {
    if !app.desk.secrets.opens_picture(id, &key) {
        return Err(DeskError::NotFound.into());
    }
    let bytes = writing::picture(&app.desk, id, size == "small.jpg").await?;
    let kind = (header::CONTENT_TYPE, "image/jpeg");
    Ok(([kind, (header::CACHE_CONTROL, "private, max-age=3600")], bytes).into_response())
}

/// `GET /submissions/{id}/{key}`: where it stands, or the form of one that is being written.
pub(super) async fn one(
    at: At,
    Path((id, key)): Path<(i64, String)>,
    Query(how): Query<How>,
) -> Result<Response, WebError> {
    let found =
        matricle_desk::review::mine::one(&at.app.desk, &at.who, SubmissionId(id), &key).await?;
    let unsent = found.submission.state == matricle_core::review::submission::State::Unsent;
    if unsent && (how.edit == "yes" || found.opens != Opens::Mailed || at.who.person.is_some()) {
        return go_on(&at, SubmissionId(id), &key, found.submission.begun_at).await;
    }
    if how.edit == "yes" && found.may_change.is_ok() {
        return mine::change_page(&at, found, &key, None, String::new()).await;
    }
    mine::page(&at, found, &key, None, String::new()).await
}
