//! The questions of an event.

use askama::Template;
use axum::extract::Path;
use axum::response::Response;
use matricle_core::booking::details::{Answering, Question};
use matricle_core::{EventId, QuestionId};
use matricle_desk::DeskError;
use matricle_desk::planning::questions::{self, ANSWERING, answering_word};
use matricle_desk::planning::sheet;
use matricle_store::events::TicketRow;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::office::tab::{answer, frame};
use crate::page::Frame;
use crate::parts::fields::{Fields, form};

struct QuestionView {
    id: i64,
    label: String,
    how: String,
}

#[derive(Template)]
#[template(path = "office/questions.html")]
struct Questions {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    rows: Vec<QuestionView>,
    editing: Option<i64>,
    d: Fields,
    ways: Vec<(&'static str, &'static str)>,
    tickets: Vec<(String, String)>,
}

fn question_view(q: &Question, tickets: &[TicketRow]) -> QuestionView {
    let word = answering_word(&q.answering);
    let way = ANSWERING.iter().find(|(w, _)| *w == word).map_or("", |(_, said)| said);
    let options = match &q.answering {
        Answering::OneOf(o) | Answering::SeveralOf(o) => format!(": {}", o.join(" / ")),
        _ => String::new(),
    };
    let mut how = vec![format!("{way}{options}")];
    how.push(if q.each { "asked of each attendee".into() } else { "asked once".into() });
    if q.needed {
        how.push("needed".into());
    }
    if !q.only.is_empty() {
        let names: Vec<&str> = tickets
            .iter()
            .filter(|t| q.only.contains(&t.id))
            .map(|t| t.plan.name.as_str())
            .collect();
        how.push(format!("only with {}", names.join(", ")));
    }
    QuestionView { id: q.id.0, label: q.label.clone(), how: how.join(" · ") }
}

fn question_fields(q: &Question, place: usize) -> Fields {
    let options = match &q.answering {
        Answering::OneOf(o) | Answering::SeveralOf(o) => o.join("\n"),
        _ => String::new(),
    };
    let consent =
        if let Answering::Consent(text) = &q.answering { text.clone() } else { String::new() };
    let mut d = Fields::of([
        ("label", q.label.clone()),
        ("answering", answering_word(&q.answering).into()),
        ("options", options),
        ("consent", consent),
        ("place", (place + 1).to_string()),
    ]);
    d.tick("needed", q.needed);
    d.tick("each", q.each);
    q.only.iter().for_each(|t| d.add("only", t.to_string()));
    d
}

async fn questions_page(
    at: &Clerk,
    id: i64,
    editing: Option<i64>,
    d: Option<Fields>,
) -> Result<Response, WebError> {
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let d = match (d, editing) {
        (Some(d), _) => d,
        (None, Some(question)) => {
            let found = s.questions.iter().enumerate().find(|(_, q)| q.id.0 == question);
            let (place, question) = found.ok_or(DeskError::NotFound)?;
            question_fields(question, place)
        }
        (None, None) => Fields::default(),
    };
    let count = d.count();
    let page = Questions {
        tab: "questions",
        id,
        bookings: s.bookings,
        title: s.event.title.clone(),
        rows: s.questions.iter().map(|q| question_view(q, &s.tickets)).collect(),
        editing,
        ways: ANSWERING.to_vec(),
        tickets: s.tickets.iter().map(|t| (t.id.to_string(), t.plan.name.clone())).collect(),
        f: frame(at, &s),
        d,
    };
    answer(count, &page)
}

pub(crate) async fn questions(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    questions_page(&at, id, None, None).await
}

pub(crate) async fn question(
    at: Clerk,
    Path((id, question)): Path<(i64, i64)>,
) -> Result<Response, WebError> {
    questions_page(&at, id, Some(question), None).await
}

/// `POST /office/events/{id}/questions/{question}`: a change, an addition (`0`), or off.
pub(crate) async fn save_question(
    at: Clerk,
    Path((id, question)): Path<(i64, i64)>,
    posted: Posted,
) -> Result<Response, WebError> {
    let which = (question != 0).then_some(QuestionId(question));
    if let (Some(which), "drop") = (which, posted.get("act")) {
        questions::drop_question(&at.app.desk, &at.staff, EventId(id), which).await?;
        let to = format!("/office/events/{id}/questions");
        return Ok(at.done(&to, "It is not asked any more. Answers that were given stay."));
    }
    let _alone = at.keeping().await;
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let posted = match s.questions.iter().enumerate().find(|(_, q)| Some(q.id) == which) {
        None => posted,
        Some((place, q)) => match posted.over(&question_fields(q, place)) {
            Ok(posted) => posted,
            Err(again) => return questions_page(&at, id, Some(question), Some(*again)).await,
        },
    };
    match questions::save_question(&at.app.desk, &at.staff, EventId(id), which, form(&posted)).await
    {
        Ok(()) => Ok(at.done(&format!("/office/events/{id}/questions"), "The question is kept.")),
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            questions_page(&at, id, which.map(|q| q.0), Some(d)).await
        }
    }
}
