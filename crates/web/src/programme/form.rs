//! The form of a booking.

use std::collections::BTreeMap;

use askama::Template;
use matricle_core::QuestionId;
use matricle_core::booking::confirm::Way;
use matricle_core::booking::details::{Answering, Draft, Field, Problem, Question};
use matricle_core::words::codes::Reference;
use matricle_desk::bookings::whole::{self, WholeBooking};
use matricle_desk::money::entries;

use crate::asking::{Posted, Visitor};
use crate::error::WebError;
use crate::page::Frame;
use crate::parts::places;
use crate::programme::at::frame;
use crate::programme::summary::{Summary, summary};
use crate::{App, wording};

/// A field of the form, as typed, with what is wrong with it.
pub(crate) struct Input {
    pub(crate) name: String,
    pub(crate) label: String,
    pub(crate) value: String,
    pub(crate) hint: String,
    pub(crate) problem: Option<String>,
    pub(crate) needed: bool,
}

/// A question, as answered so far.
pub(crate) struct Asking {
    input: Input,
    /// How it is drawn: `line`, `text`, `one`, `several`, `yes`, or a kind of input.
    how: &'static str,
    options: Vec<String>,
    /// What is agreed to.
    consent: String,
}

impl Asking {
    fn has(&self, option: &str) -> bool {
        self.input.value.lines().any(|l| l == option)
    }
}

/// An attendee: a name, and what is asked of each.
pub(crate) struct Person {
    input: Input,
    questions: Vec<Asking>,
}

fn asking(q: &Question, input: Input) -> Asking {
    let (how, options, consent) = match &q.answering {
        Answering::Text => ("text", Vec::new(), String::new()),
        Answering::LongText => ("long", Vec::new(), String::new()),
        Answering::OneOf(options) => ("one", options.clone(), String::new()),
        Answering::SeveralOf(options) => ("several", options.clone(), String::new()),
        Answering::Number => ("number", Vec::new(), String::new()),
        Answering::Day => ("date", Vec::new(), String::new()),
        Answering::YesNo => ("yes", Vec::new(), String::new()),
        Answering::Phone => ("tel", Vec::new(), String::new()),
        Answering::Consent(text) => ("yes", Vec::new(), text.clone()),
    };
    Asking { input, how, options, consent }
}

#[derive(Template)]
#[template(path = "programme/fill.html")]
pub(crate) struct Fill {
    pub(crate) f: Frame,
    pub(crate) address: String,
    pub(crate) name: Input,
    pub(crate) email: Input,
    pub(crate) attendees: Vec<Person>,
    pub(crate) questions: Vec<Asking>,
    pub(crate) terms: Input,
    pub(crate) agreed: bool,
    /// What cancelling gives back, in days for this date; empty where nothing is to pay.
    pub(crate) steps: String,
    pub(crate) problems: usize,
    pub(crate) button: String,
    pub(crate) summary: Summary,
    /// Names and answers of a booking that stands are corrected.
    pub(super) correcting: bool,
    /// Promo codes on it.
    pub(crate) promos: Vec<(i64, String)>,
    /// What was typed as a code, and why it is not taken.
    pub(super) code: String,
    pub(super) code_problem: Option<String>,
    /// The same address has booked this date before, then.
    pub(crate) before: Option<String>,
    /// The address is to be proved before it goes on.
    pub(crate) to_prove: bool,
}

/// What cancelling this booking gives back, in days for its date; empty where it costs nothing.
pub(crate) fn steps_of(app: &App, sheet: &WholeBooking) -> String {
    if sheet.booking.total.is_zero() {
        return String::new();
    }
    let told =
        entries::steps_until(&sheet.house, &sheet.event, &sheet.date, sheet.booking.steps_from);
    wording::steps(&told, &sheet.house.zone, app.desk.clock.now())
}

pub(crate) fn fill(
    app: &App,
    f: Frame,
    sheet: &WholeBooking,
    draft: &Draft,
    problems: &[(Field, Problem)],
    notice: Option<String>,
) -> Fill {
    let problem = |field: Field| {
        problems.iter().find(|(f, _)| *f == field).map(|(f, p)| wording::problem(*f, p))
    };
    let input = |name: &str, label: &str, value: &str, field, needed| Input {
        name: name.into(),
        label: label.into(),
        value: value.into(),
        hint: String::new(),
        problem: problem(field),
        needed,
    };
    let many = sheet.attendees.len();
    let of_people = sheet.tickets_of_people();
    let attendees = sheet
        .attendees
        .iter()
        .enumerate()
        .map(|(i, a)| {
            let label = if many > 1 {
                format!("{}, place {} of {many}", a.ticket, i + 1)
            } else {
                a.ticket.clone()
            };
            let value = draft.attendees.get(i).map_or("", String::as_str);
            let mut field =
                input(&format!("attendee_{i}"), &label, value, Field::Attendee(i), i > 0);
            if i == 0 {
                field.hint = "Leave this empty if it is you.".into();
            }
            let questions = sheet
                .questions
                .iter()
                .filter(|q| q.each && of_people.get(i).is_some_and(|t| q.concerns(*t)))
                .map(|q| {
                    let value = draft.each.get(i).and_then(|a| a.get(&q.id));
                    let name = format!("each_{i}_{}", q.id);
                    let value = value.map_or("", String::as_str);
                    let which = Field::AnswerOf(i, q.id);
                    asking(q, input(&name, &q.label, value, which, q.needed))
                })
                .collect();
            Person { input: field, questions }
        })
        .collect();
    let questions = sheet
        .questions
        .iter()
        .filter(|q| q.asked_once(&of_people))
        .map(|q| {
            let value = draft.answers.get(&q.id).map_or("", String::as_str);
            let name = format!("answer_{}", q.id);
            asking(q, input(&name, &q.label, value, Field::Answer(q.id), q.needed))
        })
        .collect();
    let now = app.desk.clock.now();
    let token = f.token.clone();
    let mut summary = summary(app, sheet, token, now);
    summary.notice = notice;
    let total = sheet.booking.total;
    // Whoever has proved an address is known by it; what they typed themselves goes before.
    let or_known = |typed: &str, known: &str| {
        if typed.is_empty() { known.to_owned() } else { typed.to_owned() }
    };
    let address = or_known(&draft.email, &sheet.booking.buyer.address);
    let booker = or_known(&draft.name, &sheet.known);
    let mut email = input("email", "Your e-mail address", &address, Field::Email, true);
    email.hint = if sheet.wants_proof() {
        "Your tickets go there. Before that a number is mailed to it, and you type it here.".into()
    } else {
        "Your tickets go there.".into()
    };
    Fill {
        address: places::address(app, sheet.booking.reference),
        name: input("name", "Your name", &booker, Field::Name, true),
        email,
        attendees,
        questions,
        steps: steps_of(app, sheet),
        terms: input("agreed", &sheet.house.terms, "", Field::Terms, true),
        agreed: draft.agreed,
        problems: problems.len(),
        button: if sheet.way() == Way::AfterYes {
            "Ask for these seats".into()
        } else if total.is_zero() {
            "Book".into()
        } else {
            format!("Book and pay {total}")
        },
        summary,
        correcting: false,
        promos: sheet.promos.iter().map(|p| (p.id, p.code.clone())).collect(),
        code: String::new(),
        code_problem: None,
        before: None,
        to_prove: false,
        f,
    }
}

/// The form once more as it was typed, with what needs another look.
pub(crate) async fn fill_again(
    app: &App,
    reference: Reference,
    visitor: &Visitor,
    staff: Option<&matricle_store::people::Staff>,
    (draft, problems): (&Draft, &[(Field, Problem)]),
) -> Result<Fill, WebError> {
    let sheet = whole::of(&app.desk, reference).await?;
    let f = frame(app, &sheet, visitor, staff).await;
    Ok(fill(app, f, &sheet, draft, problems, None))
}

/// So many people of a booking are read at most.
const MOST_PEOPLE: usize = 1000;

/// The fields that a form has, as far as they are of a booking's.
pub(crate) fn fields_of(form: &Posted) -> Vec<Field> {
    let mut fields = Vec::new();
    let has = |name: &str| form.has(name);
    fields.extend(has("name").then_some(Field::Name));
    fields.extend(has("email").then_some(Field::Email));
    fields.extend(has("agreed").then_some(Field::Terms));
    let place = |text: &str| text.parse().ok().filter(|at| *at < MOST_PEOPLE);
    fields.extend(form.starting("attendee_").filter_map(|(at, _)| place(at).map(Field::Attendee)));
    let question = |text: &str| text.parse().ok().map(QuestionId);
    fields.extend(form.starting("answer_").filter_map(|(q, _)| question(q).map(Field::Answer)));
    fields.extend(form.starting("each_").filter_map(|(which, _)| {
        let (at, q) = which.split_once('_')?;
        Some(Field::AnswerOf(place(at)?, question(q)?))
    }));
    fields
}

pub(crate) fn draft_of(form: &Posted) -> Draft {
    // Long enough for anything a person types, short enough to keep.
    let kept = |text: &str| text.chars().take(2000).collect::<String>();
    let mut draft = Draft {
        name: kept(form.get("name")),
        email: kept(form.get("email")),
        agreed: form.get("agreed") == "yes",
        again: form.get("again") == "yes",
        ..Draft::default()
    };
    for (place, name) in form.starting("attendee_") {
        if let Some(place) = place.parse::<usize>().ok().filter(|at| *at < MOST_PEOPLE) {
            if draft.attendees.len() <= place {
                draft.attendees.resize(place + 1, String::new());
            }
            draft.attendees[place] = kept(name);
        }
    }
    // Several chosen answers come one by one and stand on a line each.
    let add = |answers: &mut BTreeMap<QuestionId, String>, question: i64, answer: &str| {
        let all = answers.entry(QuestionId(question)).or_default();
        if !all.is_empty() {
            all.push('\n');
        }
        all.push_str(&answer.chars().take(4000).collect::<String>());
    };
    for (question, answer) in form.starting("answer_") {
        if let Ok(question) = question.parse() {
            add(&mut draft.answers, question, answer);
        }
    }
    for (which, answer) in form.starting("each_") {
        let which =
            which.split_once('_').and_then(|(i, q)| Some((i.parse().ok()?, q.parse().ok()?)));
        if let Some((place, question)) = which.filter(|(at, _): &(usize, _)| *at < MOST_PEOPLE) {
            if draft.each.len() <= place {
                draft.each.resize(place + 1, BTreeMap::new());
            }
            add(&mut draft.each[place], question, answer);
        }
    }
    draft
}
