//! Papers for the day, chosen on one page with a preview that is the paper itself.

use askama::Template;
use axum::extract::{Path, Query};
use axum::response::{IntoResponse, Response};
use matricle_core::DateId;
use matricle_core::people::staff::Right;
use matricle_desk::door::papers::{self, Kind, PaperChoice, Sheet, before, paper, sheets};
use matricle_desk::door::posting::{self, Posted as Sent};
use matricle_formats::words;
use serde::Deserialize;

use matricle_desk::door::papers as on;

use crate::asking::Posted;
use crate::error::WebError;
use crate::office::Clerk;
use crate::page::{Frame, html, refused};
use crate::parts::fields::{Fields, form};
use crate::parts::files;

/// What the address says: the choices of the form.
type Choices = Vec<(String, String)>;

#[derive(Template)]
#[template(path = "office/papers.html")]
struct Papers {
    f: Frame,
    id: i64,
    title: String,
    when: String,
    d: Fields,
    kinds: Vec<(&'static str, bool)>,
    sheets: Vec<(String, String)>,
    own: bool,
    tickets: Vec<(String, String)>,
    questions: Vec<String>,
    functions: Vec<(String, String)>,
    says: String,
    missing: Vec<(String, String)>,
    wrong: String,
    file: String,
    nobody: bool,
    people: usize,
    /// Badges may be sent by mail by whoever looks.
    may_send: bool,
    /// The choices, to be sent along.
    choices: Choices,
}

/// The measures of one's own sheet, in their order.
const MEASURES: [(&str, &str, &str); 10] = [
    ("pw", "Page across", "210"),
    ("ph", "Page down", "297"),
    ("bw", "Badge across", "90"),
    ("bh", "Badge down", "65"),
    ("nx", "Side by side", "2"),
    ("ny", "Below one another", "4"),
    ("fx", "From the left edge to the first", "15"),
    ("fy", "From the top to the first", "18.5"),
    ("sx", "From one to the next, across", "90"),
    ("sy", "From one to the next, down", "65"),
];

fn asked_for(choices: &Choices) -> (PaperChoice, Option<String>) {
    let get = |name: &str| choices.iter().find(|(n, _)| n == name).map_or("", |(_, v)| v.trim());
    let mut wrong = None;
    let kind = Kind::from_word(get("kind")).unwrap_or(Kind::Badges);
    let mut asked = PaperChoice::new(kind);
    let known = sheets();
    let chosen = get(on::SHEET.name);
    if let Some((_, sheet)) = known.iter().find(|(name, _)| *name == chosen) {
        asked.sheet = *sheet;
    } else if chosen == "own" {
        let number = |at: usize| {
            let (name, _, usual) = MEASURES[at];
            let typed = match get(name) {
                "" => usual,
                typed => typed,
            };
            typed.replace(',', ".").parse::<f32>().unwrap_or(f32::NAN)
        };
        let count = |at: usize| {
            let n = number(at);
            if n.is_finite() && (1.0..=200.0).contains(&n) {
                format!("{n:.0}").parse().unwrap_or(0)
            } else {
                0
            }
        };
        let sheet = Sheet {
            page: (number(0), number(1)),
            badge: (number(2), number(3)),
            places: (count(4), count(5)),
            first: (number(6), number(7)),
            step: (number(8), number(9)),
            folded: false,
        };
        match sheet.fault() {
            None => asked.sheet = sheet,
            Some(fault) => wrong = Some(format!("These measures cannot be: {fault}.")),
        }
    }
    let from: u32 = get(on::FROM.name).parse().unwrap_or(1);
    asked.from = from.max(1).min(asked.sheet.on_a_page()) - 1;
    asked.by_ticket = get("order") == "ticket";
    asked.ticket = get(on::TICKET.name).to_owned();
    asked.inside = !get(on::INSIDE.name).is_empty();
    asked.function = get(on::FUNCTION.name).to_owned();
    asked.answers =
        choices.iter().filter(|(n, _)| n == "answers").map(|(_, v)| v.clone()).take(4).collect();
    // A form that was sent and has no tick says no; the first look says yes.
    asked.with_code =
        choices.is_empty() || get("kind").is_empty() || !get(on::WITH_CODE.name).is_empty();
    asked.hours = matricle_core::words::text::line(get(on::HOURS.name)).chars().take(60).collect();
    (asked, wrong)
}

fn query(choices: &Choices) -> String {
    choices
        .iter()
        .map(|(n, v)| format!("{}={}", crate::address::encode(n), crate::address::encode(v)))
        .collect::<Vec<_>>()
        .join("&")
}

/// `GET /office/doors/{date}/papers`.
pub(crate) async fn show(
    at: Clerk,
    Path(id): Path<i64>,
    Query(choices): Query<Choices>,
) -> Result<Response, WebError> {
    let (page, wrong) = papers_page(&at, id, choices).await?;
    match wrong {
        true => refused(axum::http::StatusCode::UNPROCESSABLE_ENTITY, &page),
        false => html(&page),
    }
}

async fn papers_page(at: &Clerk, id: i64, choices: Choices) -> Result<(Papers, bool), WebError> {
    let (asked, wrong) = asked_for(&choices);
    let told = before(&at.app.desk, &at.staff, DateId(id), asked.clone()).await?;
    let house = at.app.desk.house().await?;
    let mut d = Fields::default();
    for (name, value) in &choices {
        d.add(name, value.clone());
    }
    d.set("kind", asked.kind.word().into());
    if choices.is_empty() {
        d.tick(on::WITH_CODE.name, true);
    }
    if d.v("from").is_empty() {
        d.set("from", "1".into());
    }
    let today = words::local(at.app.desk.clock.now(), &house.zone).date();
    let span = &told.date.span;
    let count = u32::try_from(told.people).unwrap_or(u32::MAX);
    let says = match (told.people, told.pages) {
        (0, _) => "Nobody fits this choice yet.".into(),
        (_, 0) => format!("For {}.", words::people(count)),
        (_, pages) => format!("For {}, on {}.", words::people(count), words::count(pages, "pages")),
    };
    let named = |none: &str, all: &[String]| -> Vec<(String, String)> {
        std::iter::once((String::new(), none.to_owned()))
            .chain(all.iter().map(|t| (t.clone(), t.clone())))
            .collect()
    };
    let sheets = sheets()
        .into_iter()
        .map(|(name, _)| (name.to_owned(), name.to_owned()))
        .chain([("own".to_owned(), "my own measures".to_owned())])
        .collect();
    let page = Papers {
        f: at.frame(format!("Papers: {}", told.event.title), &house.name).in_room("doors"),
        id,
        title: told.event.title.clone(),
        when: words::span(span.starts, span.ends, today),
        kinds: Kind::ALL.into_iter().map(|k| (k.word(), k == asked.kind)).collect(),
        own: d.is(on::SHEET, "own"),
        sheets,
        tickets: named("all tickets", &told.tickets),
        functions: named("none", &told.questions),
        questions: told.questions,
        says,
        missing: told.missing,
        nobody: told.people == 0,
        people: told.people,
        may_send: at.staff.role.may(Right::ChangeBookings),
        file: format!("/office/doors/{id}/papers.pdf?{}", query(&choices)),
        wrong: wrong.clone().unwrap_or_default(),
        d,
        choices,
    };
    Ok((page, wrong.is_some()))
}

/// `POST /office/doors/{date}/papers`: badges go by mail.
pub(crate) async fn send(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let own = ["token", "once", "each", "also"];
    let choices: Choices =
        posted.0.iter().filter(|(n, _)| !own.contains(&n.as_str())).cloned().collect();
    let (asked, wrong) = asked_for(&choices);
    if let Some(what) = wrong {
        return Err(WebError::Refused { title: "These measures cannot be", what });
    }
    let to = format!("/office/doors/{id}/papers?{}", query(&choices));
    let path = format!("/office/doors/{id}/papers");
    if !at.app.guards.is_first(&path, &posted) {
        return Ok(at.done(&to, "These badges are on their way already."));
    }
    match posting::send(&at.app.desk, &at.staff, DateId(id), asked, form(&posted)).await {
        Ok(sent) => Ok(at.done(&to, sent_words(sent))),
        Err(error) => {
            at.app.guards.not_done(&path, &posted);
            let fields = Fields::again(&posted, error)?;
            let (mut page, _) = papers_page(&at, id, choices).await?;
            page.d = fields.over(&page.d);
            refused(axum::http::StatusCode::UNPROCESSABLE_ENTITY, &page)
        }
    }
}

/// What went by mail, in a sentence.
fn sent_words(sent: Sent) -> String {
    let mut said = Vec::new();
    if sent.people > 0 {
        let mails = words::count(sent.mails, "mails");
        said.push(format!("The badges of {} go out in {mails}.", words::people(sent.people)));
    }
    if sent.without > 0 {
        let none = words::people(sent.without);
        said.push(format!("Of {none} no address is known, or it takes no mail."));
    }
    if sent.further > 0 {
        let to = match sent.further {
            1 => "one address".to_owned(),
            n => format!("{n} addresses"),
        };
        said.push(format!("All of them go to {to} on the sheet chosen."));
    }
    said.push("How far it is stands under Messages.".into());
    said.join(" ")
}

/// `GET /office/doors/papers/drawn`: how many are drawn of a paper that is being made.
pub(crate) async fn drawn(at: Clerk, Query(of): Query<Key>) -> Result<Response, WebError> {
    let done = papers::drawn(&at.app.desk, &at.staff, &of.key)?;
    Ok(axum::Json(serde_json::json!({ "drawn": done })).into_response())
}

/// Under what a paper is drawn.
#[derive(Debug, Deserialize)]
pub(crate) struct Key {
    #[serde(default)]
    key: String,
}

/// `GET /office/doors/{date}/papers.pdf`.
pub(crate) async fn file(
    at: Clerk,
    Path(id): Path<i64>,
    Query(choices): Query<Choices>,
) -> Result<Response, WebError> {
    let (asked, wrong) = asked_for(&choices);
    if let Some(what) = wrong {
        return Err(WebError::Refused { title: "These measures cannot be", what });
    }
    let key = choices.iter().find(|(n, _)| n == "key").map_or("", |(_, v)| v.as_str());
    let (name, bytes) = paper(&at.app.desk, &at.staff, DateId(id), asked, key).await?;
    Ok(files::pdf_within(&name, bytes))
}

impl Papers {
    fn measures(&self) -> Vec<(&'static str, &'static str, String)> {
        MEASURES
            .iter()
            .map(|(name, label, usual)| {
                let typed = self.d.v(name);
                (
                    *name,
                    *label,
                    if typed.is_empty() { (*usual).to_owned() } else { typed.to_owned() },
                )
            })
            .collect()
    }
}
