//! The questions of an event.

use askama::Template;
use axum::extract::Path;
use axum::response::Response;
use matricle_core::booking::details::{Answering, Question};
use matricle_core::forms::field::Locale;
use matricle_core::{EventId, QuestionId};
use matricle_desk::DeskError;
use matricle_desk::planning::{questions as on, sheet};
use matricle_store::events::TicketRow;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::office::tab::{answer, frame};
use crate::page::Frame;
use crate::parts::fields::Fields;

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
    tickets: Vec<(String, String)>,
}

fn question_view(q: &Question, tickets: &[TicketRow]) -> QuestionView {
    let way = on::Way::of(&q.answering).shown();
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
    let (mut question, mut place) = (q.clone(), u32::try_from(place + 1).ok());
    Fields::filled(&Locale::default(), |f| {
        on::form(f, &mut question);
        f.bind(&on::PLACE, &mut place);
    })
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
        on::drop_question(&at.app.desk, &at.staff, EventId(id), which).await?;
        let to = format!("/office/events/{id}/questions");
        return Ok(at.done(&to, "It is not asked any more. Answers that were given stay."));
    }
    let _alone = at.keeping().await;
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let found = s.questions.iter().enumerate().find(|(_, q)| Some(q.id) == which);
    let now = found.map_or_else(Fields::default, |(place, q)| question_fields(q, place));
    let keep = |form| on::save_question(&at.app.desk, &at.staff, EventId(id), which, form);
    match Fields::keep(posted, &now, keep).await? {
        Ok(()) => Ok(at.done(&format!("/office/events/{id}/questions"), "The question is kept.")),
        Err(d) => questions_page(&at, id, which.map(|q| q.0), Some(d)).await,
    }
}
