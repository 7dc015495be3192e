//! What is done on the review page: decisions, taking them back, putting right, complaints.

use axum::extract::Path;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use matricle_core::SubmissionId;
use matricle_core::review::checks::Other;
use matricle_core::review::submission::{Act, Refusal};
use matricle_desk::DeskError;
use matricle_desk::review::deciding::{self, Decision};
use matricle_desk::review::{complaints, queue};
use matricle_formats::words;

use super::article::article_part;
use super::{ByScript, DonePart, Open, figures_line, page, past};
use crate::asking::Posted;
use crate::error::WebError;
use crate::news::Undo;
use crate::office::Clerk;
use crate::page::html;
use crate::parts::fields::form;
use crate::wording;

/// `POST /office/review/right`: all of them are accepted, but for those that somebody unticked.
pub(crate) async fn accept_right(at: Clerk, posted: Posted) -> Result<Response, WebError> {
    let these = posted
        .starting("these")
        .filter_map(|(_, v)| {
            let (id, version) = v.split_once('.')?;
            Some((SubmissionId(id.parse().ok()?), version.parse().ok()?))
        })
        .collect();
    let (done, not) = deciding::accept_many(&at.app.desk, &at.staff, these).await?;
    let n = u32::try_from(done.len()).unwrap_or(u32::MAX);
    let mut what = format!("{} accepted.", words::count(n, "submissions"));
    for (id, error) in not {
        let why = match error {
            DeskError::Submission(refusal) => says(&at, &refusal).await?,
            DeskError::Form(_) => "It needs another look.".into(),
            other => other.to_string(),
        };
        what.push_str(&format!(" Submission {id} was not: {why}"));
    }
    Ok(at.done("/office/review", what))
}

async fn says(at: &Clerk, refusal: &Refusal) -> Result<String, WebError> {
    Ok(wording::submission(refusal, &at.app.zone().await?, at.app.desk.clock.now()))
}

/// What came of an act, before it is shown.
enum Came {
    Done { what: String, undo: String, href: String },
    Refused { what: String, faults: Vec<String> },
}

async fn came(
    at: &Clerk,
    id: SubmissionId,
    result: Result<deciding::Done, DeskError>,
) -> Result<Came, WebError> {
    Ok(match result {
        Ok(done) if done.act.is_decision() => Came::Done {
            what: format!("“{}”: {}.", done.title, past(done.act)),
            undo: format!("/office/review/{id}/undo"),
            href: if done.slug.is_empty() {
                String::new()
            } else {
                format!("/events/{}", crate::address::encode(&done.slug))
            },
        },
        Ok(done) => Came::Done {
            what: format!("“{}”.", done.title),
            undo: String::new(),
            href: String::new(),
        },
        Err(DeskError::Submission(refusal)) => {
            Came::Refused { what: says(at, &refusal).await?, faults: Vec::new() }
        }
        Err(DeskError::Form(wrong)) => Came::Refused {
            what: "It needs another look first.".into(),
            faults: wrong
                .iter()
                .map(|w| {
                    let label = matricle_core::review::submission::label(&w.field);
                    let said = wording::fault(&w.field, &w.fault);
                    if w.field == "words" { said } else { format!("{label}: {said}") }
                })
                .collect(),
        },
        Err(error) => return Err(error.into()),
    })
}

/// `POST /office/review/{id}/{act}`.
pub(crate) async fn act(
    at: Clerk,
    ByScript(by_script): ByScript,
    Path((id, act)): Path<(i64, String)>,
    posted: Posted,
) -> Result<Response, WebError> {
    let (desk, id) = (&at.app.desk, SubmissionId(id));
    let version = posted.get("version").parse().unwrap_or(0);
    let mut undone = false;
    let result = match act.as_str() {
        "undo" => {
            undone = true;
            deciding::undo(desk, &at.staff, id).await
        }
        "correct" => return correct(at, by_script, id, version, posted).await,
        act => {
            let act = Act::from_word(&act.replace('-', " ")).ok_or(DeskError::NotFound)?;
            let number = |text: &str| text.trim().parse().ok();
            let with = posted.get("with");
            let with =
                with.strip_prefix("event ").and_then(number).map(Other::Event).or_else(|| {
                    with.strip_prefix("submission ").and_then(number).map(Other::Submission)
                });
            let words = posted.get("words").to_owned();
            deciding::decide(desk, &at.staff, Decision { id, version, act, words, with }).await
        }
    };
    let token = at.app.desk.secrets.form_token(&at.visitor.0);
    match came(&at, id, result).await? {
        Came::Done { what, .. } if undone => {
            let what = format!("Taken back: {what} It waits again.");
            if by_script {
                let figures = figures_line(&at).await?;
                let (href, undo) = (String::new(), String::new());
                return html(&DonePart { token, what, href, undo, figures });
            }
            Ok(at.done(&format!("/office/review/{id}"), what))
        }
        Came::Done { what, undo, href } if by_script => {
            let figures = figures_line(&at).await?;
            html(&DonePart { token, what, href, undo, figures })
        }
        Came::Done { what, undo, .. } => {
            Ok(at.done_but("/office/review", what, Undo::new(undo, &[])))
        }
        Came::Refused { what, faults } if by_script => {
            let said = [vec![what], faults].concat().join(" ");
            let (href, undo, figures) = (String::new(), String::new(), String::new());
            let part = DonePart { token, what: said, href, undo, figures };
            crate::page::refused(StatusCode::CONFLICT, &part)
        }
        Came::Refused { what, faults } => {
            let mut response = page(&at, Open::Submission(id, what, faults)).await?;
            *response.status_mut() = StatusCode::CONFLICT;
            Ok(response)
        }
    }
}

/// Something in it is put right; the answer to our script is the article as it is then.
async fn correct(
    at: Clerk,
    by_script: bool,
    id: SubmissionId,
    version: u32,
    posted: Posted,
) -> Result<Response, WebError> {
    let result = deciding::correct(&at.app.desk, &at.staff, (id, version), form(&posted)).await;
    let (mut said, mut faults) = (String::new(), Vec::new());
    match result {
        Ok(changed) if !by_script => {
            let what = match changed.len() {
                0 => "Nothing is another than before.".to_owned(),
                _ => "Corrected. The submitter reads what was changed, with your decision.".into(),
            };
            return Ok(at.done(&format!("/office/review/{id}"), what));
        }
        Ok(_) => {}
        Err(error) => match came(&at, id, Err(error)).await? {
            Came::Refused { what, faults: found } => (said, faults) = (what, found),
            Came::Done { .. } => {}
        },
    }
    let status = if said.is_empty() { StatusCode::OK } else { StatusCode::CONFLICT };
    if by_script {
        let a = queue::one(&at.app.desk, &at.staff, id, true).await?;
        return crate::page::refused(status, &article_part(&at, a, said, faults));
    }
    let mut response = page(&at, Open::Submission(id, said, faults)).await?;
    *response.status_mut() = status;
    Ok(response)
}

/// `POST /office/review/{id}/look`: somebody looks at it; says who else does, and whether it
/// waits still, in which wording.
pub(crate) async fn look(
    at: Clerk,
    Path(id): Path<i64>,
    _posted: Posted,
) -> Result<Response, WebError> {
    let (others, waits, version) = queue::look(&at.app.desk, &at.staff, SubmissionId(id)).await?;
    let body = serde_json::json!({ "others": others, "waits": waits, "version": version });
    Ok(([(axum::http::header::CONTENT_TYPE, "application/json")], body.to_string()).into_response())
}

/// `POST /office/review/complaint/{id}`.
pub(crate) async fn decide_complaint(
    at: Clerk,
    ByScript(by_script): ByScript,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let desk = &at.app.desk;
    let token = desk.secrets.form_token(&at.visitor.0);
    let act = posted.get("act").to_owned();
    let result = match act.as_str() {
        "undo" => complaints::undo(desk, &at.staff, id).await.map(|()| None),
        "out" => complaints::decide(desk, &at.staff, id, true, true).await.map(Some),
        "right" => complaints::decide(desk, &at.staff, id, true, false).await.map(Some),
        "not-right" => complaints::decide(desk, &at.staff, id, false, false).await.map(Some),
        _ => return Err(DeskError::NotFound.into()),
    };
    let to = format!("/office/review/complaint/{id}");
    match result {
        Ok(done) => {
            let what = match (&done, act.as_str()) {
                (None, _) => "Taken back: the complaint waits again.",
                (Some(_), "out") => "The complaint is right: the event is out of the Programme.",
                (Some(_), "right") => "The complaint is right; the event stays in the Programme.",
                _ => "The complaint is not right.",
            };
            if by_script {
                let undo = if done.is_some() { to } else { String::new() };
                let figures = figures_line(&at).await?;
                let href = String::new();
                return html(&DonePart { token, what: what.into(), href, undo, figures });
            }
            match done {
                Some(_) => {
                    Ok(at.done_but("/office/review", what, Undo::new(to, &[("act", "undo")])))
                }
                None => Ok(at.done(&to, what)),
            }
        }
        Err(DeskError::Submission(refusal)) => {
            let what = says(&at, &refusal).await?;
            if by_script {
                let (href, undo, figures) = (String::new(), String::new(), String::new());
                let part = DonePart { token, what, href, undo, figures };
                return crate::page::refused(StatusCode::CONFLICT, &part);
            }
            let mut response = page(&at, Open::Complaint(id, what)).await?;
            *response.status_mut() = StatusCode::CONFLICT;
            Ok(response)
        }
        Err(error) => Err(error.into()),
    }
}
