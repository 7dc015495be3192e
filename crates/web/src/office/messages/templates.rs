//! Templates: the list, the editor with its preview, earlier wordings.

use askama::Template;
use axum::extract::{Path, Query};
use axum::response::{IntoResponse, Redirect, Response};
use matricle_core::people::staff::Right;
use matricle_core::words::codes::Reference;
use matricle_core::{EventId, TemplateId};
use matricle_desk::messages::wordings::{self, Preview, Whose};
use matricle_desk::messages::{cues, files};
use matricle_formats::words;
use matricle_store::templates::Goes;
use serde::Deserialize;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::office::messages::put_in::Choices;
use crate::office::tab::{with_editor, word};
use crate::page::{Frame, html};
use crate::parts::cue_words::{self, Names};
use crate::parts::fields::{Fields, form, wrong};
use crate::parts::new_or::NewOr;
use crate::wording;

#[derive(Template)]
#[template(path = "messages/templates.html")]
struct List {
    f: Frame,
    tab: &'static str,
    rows: Vec<(i64, String, String, String)>,
    may: bool,
}

/// A subject as a list shows it: what it says of a booking in square brackets, and no conditions.
fn plain(subject: &str) -> String {
    let mut parts = subject.split("{{");
    let mut out = parts.next().unwrap_or_default().to_owned();
    for part in parts {
        let (field, rest) = part.split_once("}}").unwrap_or((part, ""));
        let word = field.trim();
        if word == "else" {
            out.push_str(" / ");
        } else if !word.starts_with("if ") && word != "end" {
            out.push_str(&format!("[{word}]"));
        }
        out.push_str(rest);
    }
    out
}

/// `GET /office/messages/templates`.
pub(crate) async fn list(at: Clerk) -> Result<Response, WebError> {
    let sheet = cues::load(&at.app.desk, &at.staff, None).await?;
    let rows = sheet
        .templates
        .iter()
        .map(|t| {
            let used: Vec<String> = sheet
                .cues
                .iter()
                .filter(|c| c.cue.template == t.id)
                .map(|c| cue_words::when(&c.cue))
                .collect();
            let used = if used.is_empty() {
                "used by no automatic message of the house".into()
            } else {
                used.join("; ")
            };
            (t.id.0, t.name.clone(), plain(&t.subject), used)
        })
        .collect();
    html(&List {
        f: at.frame("Templates", &sheet.house.name).in_room("messages"),
        tab: "templates",
        rows,
        may: at.staff.role.may(Right::SetHouseUp),
    })
}

#[derive(Debug, Default, Deserialize)]
pub(crate) struct TemplatesQuery {
    event: Option<i64>,
    #[serde(default)]
    whose: String,
    from: Option<i64>,
}

/// What a preview shows.
struct Shown {
    subject: String,
    html: String,
    text: String,
    wrong: Vec<String>,
    parts: String,
    empty: Vec<String>,
    looked_at: String,
    says: Vec<(&'static str, &'static str, String)>,
}

/// A mail as the page may show it: its styles in one sheet that carries the page's word, since
/// a page of ours lets no style through that stands in an element.
pub(super) fn styled(html: &str, nonce: &str) -> String {
    let (mut out, mut rules) = (String::with_capacity(html.len()), String::new());
    let mut rest = html;
    let mut n = 0;
    while let Some(at) = rest.find(" style=\"") {
        let (before, after) = rest.split_at(at);
        let style = &after[8..];
        let end = style.find('"').unwrap_or(style.len());
        out.push_str(before);
        out.push_str(&format!(" data-s=\"{n}\""));
        rules.push_str(&format!("[data-s=\"{n}\"]{{{}}}", &style[..end]));
        rest = style.get(end + 1..).unwrap_or_default();
        n += 1;
    }
    out.push_str(rest);
    out.replacen("<style>", &format!("<style nonce=\"{nonce}\">{rules}"), 1)
}

fn shown(preview: Preview, nonce: &str) -> Shown {
    let (subject, text, empty, wrong) = match &preview.letter {
        Ok(l) => (l.subject.clone(), l.text.clone(), l.empty.clone(), Vec::new()),
        Err(wrong) => {
            let said = wrong.iter().map(wording::template).collect();
            (String::new(), String::new(), Vec::new(), said)
        }
    };
    let c = preview.text;
    let alphabet = if c.gsm7 { "plain letters" } else { "letters of all scripts" };
    let parts = format!(
        "As a text message: {} in {alphabet}, {}, room for {} more in the last.",
        words::count(u32::try_from(c.units).unwrap_or(u32::MAX), "units"),
        words::count(u32::try_from(c.parts).unwrap_or(u32::MAX), "parts"),
        c.left
    );
    let mut said: Vec<String> =
        empty.iter().map(|name| format!("“{name}” says nothing here")).collect();
    for (name, n, who) in &preview.empty {
        said.push(format!(
            "“{name}” would say nothing to {}: {}{}",
            words::people(*n),
            who.join(", "),
            if who.len() < *n as usize { " …" } else { "" }
        ));
    }
    let looked_at = match preview.looked_at {
        (0, _) => String::new(),
        (n, false) => format!("Looked at with all {n} confirmed bookings."),
        (n, true) => format!("Looked at with the latest {n} confirmed bookings, not with all."),
    };
    Shown {
        subject,
        html: styled(&preview.html, nonce),
        text,
        wrong,
        parts,
        empty: said,
        looked_at,
        says: preview.says,
    }
}

#[derive(Template)]
#[template(path = "messages/template.html")]
struct Page {
    f: Frame,
    tab: &'static str,
    id: String,
    event: Option<i64>,
    event_title: String,
    d: Fields,
    nonce: String,
    goes: Vec<(String, String)>,
    used: Vec<String>,
    wordings: Vec<(String, String, String, String)>,
    people: Vec<(String, String)>,
    whose: String,
    shown: Shown,
    choices: Choices,
    may: bool,
}

/// A template as it stands.
fn filled(t: &matricle_store::templates::Template) -> Fields {
    let mut d = Fields::of([
        ("name", t.name.clone()),
        ("subject", t.subject.clone()),
        ("body", t.body.clone()),
        ("plain", t.plain.clone()),
    ]);
    t.files.iter().for_each(|g| d.add("goes", g.key()));
    d
}

async fn page(
    at: &Clerk,
    id: Option<TemplateId>,
    asked: &TemplatesQuery,
    again: Option<Fields>,
    all: bool,
) -> Result<Response, WebError> {
    let event = asked.event.map(EventId);
    let sheet = cues::load(&at.app.desk, &at.staff, event).await?;
    let now = at.app.desk.clock.now();
    let zone = &sheet.house.zone;
    let opened = match id.or(asked.from.map(TemplateId)) {
        Some(id) => Some(wordings::open(&at.app.desk, &at.staff, id).await?),
        None => None,
    };
    let count = again.as_ref().map_or(0, Fields::count);
    let d = again.unwrap_or_else(|| match &opened {
        Some(o) => filled(&o.template),
        None => Fields::of([("body", "<p>{{greeting}},</p><p></p><p>{{house}}</p>".to_owned())]),
    });
    let mut typed = matricle_core::forms::form::Form::new(
        d.all().map(|(n, v)| (n.to_owned(), v.to_owned())).collect(),
    );
    let typed = wordings::read(&mut typed, opened.as_ref().map(|o| &o.template), event);
    let whose = match Reference::parse(&asked.whose) {
        Some(reference) => Whose::Booking(reference),
        None => Whose::MadeUp,
    };
    let preview = wordings::preview(&at.app.desk, &at.staff, typed, event, whose, all).await?;
    let people = preview.people.clone();
    let nonce = word();
    let shown = shown(preview, &nonce);
    let right = if event.is_some() { Right::PlanEvents } else { Right::SetHouseUp };
    let had = opened.as_ref().map_or(&[][..], |o| &o.template.files);
    let (_, own) = files::all(&at.app.desk, &at.staff, had).await?;
    let page = Page {
        f: at.frame("Template", &sheet.house.name).in_room("messages"),
        tab: "templates",
        id: id.map_or("new".into(), |id| id.to_string()),
        event: asked.event,
        event_title: sheet.event.as_ref().map_or_else(String::new, |e| e.title.clone()),
        nonce,
        goes: Goes::MADE
            .into_iter()
            .map(|g| (g.key(), g.word().to_owned()))
            .chain(own.into_iter().map(|f| {
                let out = if f.retired { ", out of use" } else { "" };
                (Goes::File(f.id).key(), format!("{}{out}", f.name))
            }))
            .collect(),
        used: opened.as_ref().map_or_else(Vec::new, |o| {
            o.used.iter().map(|c| cue_words::cue(c, Names::default())).collect()
        }),
        wordings: opened.as_ref().map_or_else(Vec::new, |o| {
            o.wordings
                .iter()
                .map(|w| {
                    let until = words::moment(w.until, zone, now);
                    let text = matricle_formats::letter::text_of(&w.body);
                    (until, w.who.clone(), w.subject.clone(), text)
                })
                .collect()
        }),
        people,
        whose: asked.whose.clone(),
        shown,
        choices: Choices::of(opened.as_ref().and_then(|o| o.used.first())),
        may: at.staff.role.may(right),
        d,
    };
    with_editor(at, &page.nonce, count, &page)
}

/// `GET /office/messages/templates/{id}`; `new` is a new one.
pub(crate) async fn show(
    at: Clerk,
    Path(id): Path<NewOr>,
    Query(asked): Query<TemplatesQuery>,
) -> Result<Response, WebError> {
    page(&at, id.0.map(TemplateId), &asked, None, false).await
}

/// `POST /office/messages/templates/{id}`: kept, looked at, or sent to oneself.
pub(crate) async fn save(
    at: Clerk,
    Path(id): Path<NewOr>,
    Query(mut asked): Query<TemplatesQuery>,
    posted: Posted,
) -> Result<Response, WebError> {
    let (event, key) = (asked.event.map(EventId), id.0.map(TemplateId));
    asked.whose = posted.get("whose").to_owned();
    let whose = match Reference::parse(&asked.whose) {
        Some(reference) => Whose::Booking(reference),
        None => Whose::MadeUp,
    };
    let act = posted.get("act").to_owned();
    if act == "look" || act == "all" {
        let mut typed = form(&posted);
        wordings::read(&mut typed, None, event);
        let again = Fields::posted(&posted, &typed.wrong);
        return page(&at, key, &asked, Some(again), act == "all").await;
    }
    if act == "test" {
        return match wordings::to_oneself(&at.app.desk, &at.staff, event, form(&posted), whose)
            .await
        {
            Ok(address) => {
                let line = format!("Sent to {address}. What you typed is not kept yet.");
                at.app.news.tell(&at.visitor.0, crate::news::NewsLine { what: line, undo: None });
                page(&at, key, &asked, Some(Fields::posted(&posted, &[])), false).await
            }
            Err(error) => {
                let again = Fields::posted(&posted, &wrong(error)?);
                page(&at, key, &asked, Some(again), false).await
            }
        };
    }
    let _alone = at.keeping().await;
    let posted = match key {
        None => posted,
        Some(key) => {
            let now = wordings::open(&at.app.desk, &at.staff, key).await?.template;
            match posted.over(&filled(&now)) {
                Ok(posted) => posted,
                Err(again) => return page(&at, Some(key), &asked, Some(*again), false).await,
            }
        }
    };
    let sent_to = format!("templates/{}", key.map_or(0, |id| id.0));
    if !at.app.guards.is_first(&sent_to, &posted) {
        return Ok(Redirect::to("/office/messages/templates").into_response());
    }
    match wordings::save(&at.app.desk, &at.staff, event, key, form(&posted)).await {
        Ok(saved) => {
            let of = asked.event.map_or_else(String::new, |e| format!("?event={e}"));
            let to = format!("/office/messages/templates/{saved}{of}");
            Ok(at.done(&to, "Kept. Messages that have not gone out use the new words."))
        }
        Err(error) => {
            at.app.guards.not_done(&sent_to, &posted);
            let again = Fields::posted(&posted, &wrong(error)?);
            page(&at, key, &asked, Some(again), false).await
        }
    }
}
