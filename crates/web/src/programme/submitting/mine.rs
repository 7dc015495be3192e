//! `/submissions`: what somebody sent, where it stands, and what may be done with it.

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::SubmissionId;
use matricle_core::review::submission::{Refusal, State};
use matricle_desk::DeskError;
use matricle_desk::review::mine::{self, Mine};
use matricle_desk::review::told;
use matricle_desk::review::writing::{self, Opens};
use matricle_formats::{letter, words};
use matricle_store::submissions::Submission;
use serde::Deserialize;

use super::view::{Days, ROWS, VIEW, View};
use super::{At, FormPage, Said};
use matricle_core::review::submission as on;

use crate::asking::Posted;
use crate::cookies;
use crate::error::WebError;
use crate::page::{Frame, html, refused};
use crate::parts::editor;
use crate::parts::fields::{Fields, form, wrong};
use crate::parts::pager::Pager;
use crate::parts::submitted::{picture_address, typed_fields};

/// The address of a submission for whoever has proved that it is theirs.
pub(super) async fn address(at: &At, id: SubmissionId) -> Result<String, WebError> {
    Ok(mine::address(&at.app.desk, id).await?)
}

fn href(at: &At, id: SubmissionId, email: &str) -> String {
    format!("/submissions/{id}/{}", at.app.desk.secrets.submission_key(id, email))
}

/// How a state is drawn.
pub(crate) const fn class(state: State) -> &'static str {
    match state {
        State::Unsent => "held",
        State::Received => "asking",
        State::SentBack => "pay",
        State::Accepted => "done",
        State::TurnedDown | State::Withdrawn => "over",
    }
}

#[derive(Template)]
#[template(path = "submit/list.html")]
struct List {
    f: Frame,
    rows: Vec<MineRow>,
    pager: Pager,
    view: View,
    rows_offered: [usize; 3],
    days_offered: Vec<(&'static str, String)>,
    may: bool,
    why_not: String,
    signed_in: bool,
    from_office: bool,
}

struct MineRow {
    href: String,
    title: String,
    when: String,
    sent: String,
    class: &'static str,
    state: &'static str,
}

/// Which page of the list, and how it is read.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct MineQuery {
    #[serde(default)]
    page: String,
    #[serde(default)]
    rows: String,
    #[serde(default)]
    days: String,
    #[serde(default)]
    from: String,
}

/// `GET /submissions`: all of somebody's who has signed in.
pub(crate) async fn list(
    at: At,
    headers: HeaderMap,
    Query(asked): Query<MineQuery>,
) -> Result<Response, WebError> {
    let chosen = !asked.rows.is_empty() || !asked.days.is_empty();
    let view = if chosen {
        View::read(&format!("{}.{}", asked.rows, asked.days))
    } else {
        View::of(&headers)
    };
    let page: usize = asked.page.parse().unwrap_or(0).min(10_000);
    let skip = u32::try_from(page * view.rows).unwrap_or(0);
    let most = u32::try_from(view.rows).unwrap_or(30);
    let found = mine::list(&at.app.desk, &at.who, skip, most).await?;
    let house = found.given.house;
    let now = at.app.desk.clock.now();
    let today = words::local(now, &house.zone).date();
    let day = words::local(now, &house.zone).datetime();
    let row = |s: &Submission| {
        let open = s.undo_until.is_some_and(|until| until > now);
        let state = if open { State::Received } else { s.state };
        let first: Option<jiff::civil::DateTime> =
            format!("{}T{}", s.typed.get("day"), s.typed.get("from")).parse().ok();
        let sent = s.sent_at.map(|sent| words::local(sent, &house.zone).datetime());
        MineRow {
            href: href(&at, s.id, &s.email),
            title: if s.title.is_empty() { "Without a title".into() } else { s.title.clone() },
            when: first.map_or_else(String::new, |d| view.days.write(d, today)),
            sent: sent.map_or_else(String::new, |d| view.days.write(d, today)),
            class: class(state),
            state: state.word(),
        }
    };
    let count = found.all as usize;
    let page = List {
        rows: found.rows.iter().map(row).collect(),
        pager: Pager::of(count, page, view.rows, "/submissions?"),
        view,
        rows_offered: ROWS,
        days_offered: Days::ALL.map(|d| (d.word(), d.write(day, today))).to_vec(),
        may: found.may.is_ok(),
        why_not: match &found.may {
            Ok(()) => String::new(),
            Err(refusal) => at.says(refusal).await?,
        },
        signed_in: at.who.person.is_some(),
        from_office: asked.from == "office",
        f: at.frame("My submissions", &house.name),
    };
    let mut response = html(&page)?;
    if chosen {
        let year = Some(365 * 24 * 3600);
        let cookie = cookies::set_cookie(&at.app.settings, VIEW, &view.text(), year);
        response.headers_mut().append(header::SET_COOKIE, cookie);
    }
    Ok(response)
}

#[derive(Template)]
#[template(path = "submit/one.html")]
struct One {
    f: Frame,
    title: String,
    class: &'static str,
    state: &'static str,
    /// What that means, in a sentence.
    means: String,
    happened: Vec<(String, String, Vec<String>)>,
    missing: Vec<&'static str>,
    copy: Vec<(String, String)>,
    picture: Option<(String, String)>,
    page: String,
    address: String,
    to_send: bool,
    version: u32,
    may_change: bool,
    may_withdraw: bool,
    may_copy: bool,
    asked_back: bool,
    change_waits: bool,
    d: Fields,
    refusal: String,
    mailed: bool,
}

fn means(found: &Mine) -> String {
    let s = &found.submission;
    match found.state {
        State::Unsent => "It is not sent yet. Read it once more, then hand it in.".into(),
        State::Received => "It waits for a reviewer. You will have a mail when it is decided.".into(),
        State::SentBack => "A reviewer asks you something. Answer below, or change it.".into(),
        State::Accepted if s.change.is_some() && s.waits_since.is_some() => {
            "It is accepted. Your change waits for a reviewer; until then the Programme shows what it showed before.".into()
        }
        State::Accepted if found.slug.is_empty() => {
            "It is accepted, and lies before the organisers as a draft.".into()
        }
        State::Accepted => "It is accepted and in the Programme.".into(),
        State::TurnedDown => "It will not be in the Programme.".into(),
        State::Withdrawn => "You have withdrawn it.".into(),
    }
}

/// Where one stands.
pub(super) async fn page(
    at: &At,
    found: Mine,
    key: &str,
    d: Option<Fields>,
    refusal: String,
) -> Result<Response, WebError> {
    let (s, house) = (&found.submission, &found.given.house);
    let now = at.app.desk.clock.now();
    let picture = found.picture.as_ref();
    let picture = picture.map(|p| (picture_address(&at.app, p.id, "small"), p.alt.clone()));
    let shown = s.change.as_ref().unwrap_or(&s.typed);
    let lines = |text: &str| {
        text.lines().map(str::trim).filter(|l| !l.is_empty()).map(String::from).collect()
    };
    let page = One {
        title: s.title.clone(),
        class: class(found.state),
        state: found.state.word(),
        means: means(&found),
        happened: found
            .happened
            .iter()
            .rev()
            .map(|h| {
                let who = if h.act.is_submitters() { "You" } else { "The house" };
                let what = format!("{who} {}", h.act.done());
                (words::moment(h.at, &house.zone, now), what, lines(&h.words))
            })
            .collect(),
        missing: found.missing.clone(),
        copy: told::copy(shown, house, now),
        picture,
        page: if found.slug.is_empty() {
            String::new()
        } else {
            format!("/events/{}", crate::address::encode(&found.slug))
        },
        address: format!("/submissions/{}/{key}", s.id),
        to_send: found.state == State::Unsent,
        version: s.version,
        may_change: found.may_change.is_ok(),
        may_withdraw: found.may_withdraw.is_ok(),
        may_copy: found.state != State::Unsent,
        asked_back: found.state == State::SentBack,
        change_waits: s.change.is_some() && s.waits_since.is_some(),
        d: d.unwrap_or_default(),
        mailed: found.opens == Opens::Mailed,
        f: at.frame(s.title.clone(), &house.name),
        refusal,
    };
    let wrong = page.d.count() + usize::from(!page.refusal.is_empty());
    if wrong == 0 { html(&page) } else { refused(StatusCode::UNPROCESSABLE_ENTITY, &page) }
}

/// The form to change what was sent.
pub(super) async fn change_page(
    at: &At,
    found: Mine,
    key: &str,
    d: Option<Fields>,
    refusal: String,
) -> Result<Response, WebError> {
    let s = &found.submission;
    let begun = Some((s.id, key.to_owned()));
    let (page, _) = writing::page(&at.app.desk, &at.who, begun).await?;
    let d = d.unwrap_or_else(|| {
        let mut d = typed_fields(s.change.as_ref().unwrap_or(&s.typed));
        d.set("note", String::new());
        d
    });
    let nonce = editor::word();
    let description = matricle_desk::review::shown(d.v("description")).await?;
    let rules = &found.given.rules;
    let template = FormPage {
        f: at.frame("Change your submission", &found.given.house.name),
        text: letter::text_of(&description),
        html: description,
        id: s.id.to_string(),
        key: key.to_owned(),
        stamp: String::new(),
        changing: true,
        address: format!("/submissions/{}/{key}", s.id),
        words: Vec::new(),
        terms: Vec::new(),
        signed_in: Some(s.email.clone()),
        pictures: rules.pictures && matches!(s.state, State::Received | State::SentBack),
        bookable: rules.bookable && s.state != State::Accepted,
        picture: page.picture.map(|p| (picture_address(&at.app, p.id, "small"), p.alt)),
        places: page.places,
        hosts: page.hosts,
        tags: page.tags,
        currency: found.given.house.currency.letters().to_owned(),
        said: Said::from(page.hints),
        d,
        nonce,
        refusal,
    };
    let wrong = template.d.count() + usize::from(!template.refusal.is_empty());
    editor::with_editor(&at.app, &template.nonce, wrong, &template)
}

/// `POST /submissions/{id}/{key}/change`: another wording, an answer, or both.
pub(crate) async fn change(
    at: At,
    Path((id, key)): Path<(i64, String)>,
    posted: Posted,
) -> Result<Response, WebError> {
    let (desk, id) = (&at.app.desk, SubmissionId(id));
    let to = format!("/submissions/{id}/{key}");
    match mine::change(desk, &at.who, id, &key, form(&posted)).await {
        Ok(()) => Ok(at.done(&to, "It is with the reviewers again.")),
        Err(error @ (DeskError::Form(_) | DeskError::Submission(_))) => {
            let mut said = String::new();
            let faults = match error {
                DeskError::Submission(refusal) => {
                    said = at.says(&refusal).await?;
                    Vec::new()
                }
                error => wrong(error)?,
            };
            let found = mine::one(desk, &at.who, id, &key).await?;
            let d = Fields::posted(&posted, &faults);
            if posted.get("title").is_empty() && !posted.0.iter().any(|(n, _)| n == "title") {
                return page(&at, found, &key, Some(d), said).await;
            }
            change_page(&at, found, &key, Some(d), said).await
        }
        Err(error) => Err(error.into()),
    }
}

/// `POST /submissions/{id}/{key}/{act}`: withdrawn, or copied to another date.
pub(crate) async fn act(
    at: At,
    Path((id, key, act)): Path<(i64, String, String)>,
    _posted: Posted,
) -> Result<Response, WebError> {
    let (desk, id) = (&at.app.desk, SubmissionId(id));
    let to = format!("/submissions/{id}/{key}");
    match act.as_str() {
        "withdraw" => match mine::withdraw(desk, &at.who, id, &key).await {
            Ok(()) => Ok(at.done(
                &to,
                "It is withdrawn. Should you change your mind, copy it and send the copy.",
            )),
            Err(DeskError::Submission(refusal)) => refused_at(&at, id, &key, &refusal).await,
            Err(error) => Err(error.into()),
        },
        "copy" => match mine::copy(desk, &at.who, id, &key).await {
            Ok((new, key)) => {
                let to = format!("/submissions/{new}/{key}?edit=yes");
                Ok(at.done(&to, "Copied. Give it another date, then send it."))
            }
            Err(DeskError::Submission(refusal)) => refused_at(&at, id, &key, &refusal).await,
            Err(error) => Err(error.into()),
        },
        _ => Err(DeskError::NotFound.into()),
    }
}

async fn refused_at(
    at: &At,
    id: SubmissionId,
    key: &str,
    refusal: &Refusal,
) -> Result<Response, WebError> {
    let said = at.says(refusal).await?;
    let found = mine::one(&at.app.desk, &at.who, id, key).await?;
    page(at, found, key, None, said).await
}

/// `GET` on an address that takes forms only: back to the submission.
pub(crate) async fn back(Path((id, key, _)): Path<(i64, String, String)>) -> Response {
    Redirect::to(&format!("/submissions/{id}/{key}")).into_response()
}

/// The same, where the act stands in the route itself.
pub(crate) async fn back_of(Path((id, key)): Path<(i64, String)>) -> Response {
    Redirect::to(&format!("/submissions/{id}/{key}")).into_response()
}
