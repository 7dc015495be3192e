//! `/booking/{reference}/{key}`: a booking at its secret address, from the form to the tickets.

use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use askama::Template;
use axum::extract::{FromRequestParts, Path, RawQuery, State};
use axum::http::StatusCode;
use axum::http::request::Parts;
use axum::response::{Html, IntoResponse, Redirect, Response};
use jiff::Timestamp;
use matricle_core::QuestionId;
use matricle_core::booking::State as BookingState;
use matricle_core::codes::Reference;
use matricle_core::confirm::Way;
use matricle_core::details::{Answering, Draft, Field, Problem, Question};
use matricle_core::who::WhoRefusal;
use matricle_desk::DeskError;
use matricle_desk::bookings::whole::WholeBooking;
use matricle_desk::bookings::{hold, whole};
use matricle_desk::bookings::{pay, submit};
use matricle_formats::words;

use super::own::{Refused, own};
use super::pay::pay_page;
use crate::App;
use crate::error::WebError;
use crate::guard::{Asker, Booker, Often, Part, Perhaps, Posted, Visitor};
use crate::page::{Face, Frame, html, refused};
use crate::wording;

/// How long a page waits for the card provider before it shows what is known.
const PATIENCE: Duration = Duration::from_secs(3);

/// The address of a booking's own page.
pub(crate) fn address(app: &App, reference: Reference) -> String {
    format!("/booking/{}/{}", reference.as_str(), app.desk.secrets.booking_key(reference))
}

/// The booking that an address opens; an address that opens none is not found.
pub(crate) struct At(pub(super) Reference);

impl FromRequestParts<App> for At {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, WebError> {
        let nothing = || WebError::Desk(DeskError::NotFound);
        let Path(path): Path<HashMap<String, String>> =
            Path::from_request_parts(parts, app).await.map_err(|_| nothing())?;
        let part = |name: &str| path.get(name).map_or("", String::as_str);
        Reference::parse(part("reference"))
            .filter(|reference| app.desk.secrets.opens_booking(*reference, part("key")))
            .map(Self)
            .ok_or_else(nothing)
    }
}

/// What stands beside every step: which seats, until when, for how much.
#[derive(Template)]
#[template(path = "programme/summary.html")]
pub(super) struct Summary {
    address: String,
    token: String,
    title: String,
    event_href: String,
    when: String,
    place: String,
    lines: Vec<(String, String)>,
    total: String,
    /// Seconds that the seats are still kept, and until when in words.
    kept: Option<(i64, String)>,
    /// What happened to the seats, when something did.
    pub(super) notice: Option<String>,
    /// The time ran out and the seats are not kept.
    lost: bool,
}

/// Deadlines so near that only the clock is told, in seconds; a page counts them down.
const TODAY: i64 = 2 * 60 * 60;

pub(super) fn summary(app: &App, sheet: &WholeBooking, token: String, now: Timestamp) -> Summary {
    let span = &sheet.date.span;
    let today = words::local(now, &span.zone).date();
    let kept = sheet.booking.deadline.filter(|d| *d > now).map(|until| {
        let seconds = until.duration_since(now).as_secs();
        let zone = &sheet.house.zone;
        // Some minutes: the clock says it. Some days: the day with it.
        let said = if seconds <= TODAY {
            words::clock(words::local(until, zone).datetime())
        } else {
            words::deadline(until, zone, now)
        };
        (seconds, said)
    });
    let total = sheet.booking.total;
    Summary {
        address: address(app, sheet.booking.reference),
        token,
        title: sheet.event.title.clone(),
        event_href: format!("/events/{}?date={}", sheet.event.slug, sheet.date.id),
        when: words::span(span.starts, span.ends, today),
        place: sheet.date.place(),
        lines: wording::money_lines(&sheet.lines)
            .into_iter()
            .map(|(what, amount)| (what, amount.to_string()))
            .collect(),
        total: if total.is_zero() { "free".into() } else { total.to_string() },
        lost: kept.is_none()
            && matches!(sheet.booking.state, BookingState::Held | BookingState::Lapsed),
        kept,
        notice: None,
    }
}

/// A field of the form, as typed, with what is wrong with it.
struct Input {
    name: String,
    label: String,
    value: String,
    hint: String,
    problem: Option<String>,
    needed: bool,
}

/// A question, as answered so far.
struct Asking {
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
struct Person {
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
pub(super) struct Fill {
    f: Frame,
    address: String,
    name: Input,
    email: Input,
    attendees: Vec<Person>,
    questions: Vec<Asking>,
    terms: Input,
    agreed: bool,
    problems: usize,
    button: String,
    test: bool,
    summary: Summary,
    /// Names and answers of a booking that stands are corrected.
    pub(super) correcting: bool,
    /// Promo codes on it.
    promos: Vec<(i64, String)>,
    /// What was typed as a code, and why it is not taken.
    pub(super) code: String,
    pub(super) code_problem: Option<String>,
    /// The same address has booked this date before, then.
    before: Option<String>,
    /// The address is to be proved before it goes on.
    to_prove: bool,
}

pub(super) fn fill(
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
    let mut email = input("email", "Your e-mail address", &draft.email, Field::Email, true);
    email.hint = "Your tickets go there.".into();
    Fill {
        address: address(app, sheet.booking.reference),
        name: input("name", "Your name", &draft.name, Field::Name, true),
        email,
        attendees,
        questions,
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
        test: sheet.booking.test,
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
pub(super) async fn fill_again(
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

/// The page for the state that the booking is in, with what was refused on it.
pub(super) fn page(
    app: &App,
    f: Frame,
    sheet: &WholeBooking,
    what: Option<Refused>,
    notice: Option<String>,
) -> Result<Response, WebError> {
    let status = if what.is_some() { StatusCode::CONFLICT } else { StatusCode::OK };
    match sheet.booking.state {
        BookingState::Held | BookingState::Lapsed => {
            refused(status, &fill(app, f, sheet, &sheet.booking.draft, &[], notice))
        }
        BookingState::AwaitingPayment => refused(status, &pay_page(app, f, sheet, what, notice)),
        _ => refused(status, &own(app, f, sheet, what)),
    }
}

pub(super) async fn frame(
    app: &App,
    sheet: &WholeBooking,
    visitor: &Visitor,
    staff: Option<&matricle_store::people::Staff>,
) -> Frame {
    let title = format!("Booking {}", sheet.booking.reference);
    Frame::new(app, Face::Programme, title, &sheet.house.name, visitor, staff)
}

pub(crate) async fn show(
    State(app): State<App>,
    At(reference): At,
    RawQuery(query): RawQuery,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
) -> Result<Response, WebError> {
    let mut sheet = whole::of(&app.desk, reference).await?;
    if sheet.booking.is_owed() {
        // The payer may just have come back: do not wait for a webhook to know.
        if let Ok(asked) = tokio::time::timeout(PATIENCE, pay::ask(&app.desk, reference)).await {
            asked?;
            sheet = whole::of(&app.desk, reference).await?;
        }
    }
    let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
    let mailed = query.as_deref() == Some("mailed");
    let notice = "The link is on its way. It leads back here, with all that you typed.";
    page(&app, f, &sheet, None, mailed.then(|| notice.to_owned()))
}

pub(super) fn draft_of(form: &Posted) -> Draft {
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
        if let Ok(place @ 0..=999) = place.parse::<usize>() {
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
        if let Some((place @ 0..=999usize, question)) = which {
            if draft.each.len() <= place {
                draft.each.resize(place + 1, BTreeMap::new());
            }
            add(&mut draft.each[place], question, answer);
        }
    }
    draft
}

/// `GET` of an address that only takes forms, as after going back: the booking.
pub(crate) async fn back(State(app): State<App>, At(reference): At) -> Redirect {
    Redirect::to(&address(&app, reference))
}

/// `POST …/draft`: keeps what has been typed so far.
pub(crate) async fn draft(
    State(app): State<App>,
    At(reference): At,
    form: Posted,
) -> Result<Response, WebError> {
    hold::type_on(&app.desk, reference, draft_of(&form)).await?;
    Ok(Html("Saved as you type.").into_response())
}

/// `POST …/link`: mails the way back, with all that was typed kept.
pub(crate) async fn link(
    State(app): State<App>,
    At(reference): At,
    asker: Asker,
    visitor: Visitor,
    (Perhaps(staff), Booker(booker)): (Perhaps, Booker),
    form: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    let typed = form.starting("email").next().map(|_| draft_of(&form));
    if let Some(draft) = typed.clone() {
        hold::type_on(&app.desk, reference, draft).await?;
    }
    match hold::mail_link(&app.desk, &booker, reference).await {
        Ok(()) => {
            let to = format!("{}?mailed", address(&app, reference));
            Ok(Redirect::to(&to).into_response())
        }
        Err(DeskError::Details(problems)) => {
            let draft = typed.unwrap_or_default();
            let again = (&draft, problems.as_slice());
            let fill = fill_again(&app, reference, &visitor, staff.as_ref(), again).await?;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &fill)
        }
        Err(DeskError::Move(_)) => Ok(Redirect::to(&address(&app, reference)).into_response()),
        Err(error) => Err(error.into()),
    }
}

/// `POST …/book`: takes the form; what follows is the booking's page, or the way to pay.
pub(crate) async fn book(
    State(app): State<App>,
    At(reference): At,
    asker: Asker,
    visitor: Visitor,
    (Perhaps(staff), Booker(booker)): (Perhaps, Booker),
    form: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    let draft = draft_of(&form);
    let own = address(&app, reference);
    match submit::submit(&app.desk, &booker, reference, draft.clone()).await {
        Ok(submit::Outcome::Confirmed | submit::Outcome::Asked) => {
            Ok(Redirect::to(&own).into_response())
        }
        Ok(submit::Outcome::ToPay) => {
            // Where there is more than one way to pay, the booking's page offers them.
            let sheet = whole::of(&app.desk, reference).await?;
            let now = app.desk.clock.now();
            let transfer = pay::transfer_until(&sheet.house, &sheet.date, now).is_some();
            let to = if transfer || sheet.stamps.0 > 0 { own } else { format!("{own}/pay") };
            Ok(Redirect::to(&to).into_response())
        }
        Err(DeskError::Details(problems)) => {
            let fill =
                fill_again(&app, reference, &visitor, staff.as_ref(), (&draft, &problems)).await?;
            refused(StatusCode::UNPROCESSABLE_ENTITY, &fill)
        }
        Err(DeskError::Who(refusal)) => {
            let mut fill =
                fill_again(&app, reference, &visitor, staff.as_ref(), (&draft, &[])).await?;
            fill.email.problem = Some(wording::who(&refusal));
            fill.to_prove = refusal == WhoRefusal::NotSignedIn;
            fill.problems = 1;
            refused(StatusCode::FORBIDDEN, &fill)
        }
        Err(DeskError::BookedBefore { made_at, .. }) => {
            let mut fill =
                fill_again(&app, reference, &visitor, staff.as_ref(), (&draft, &[])).await?;
            let zone = app.desk.house().await?.zone;
            let when = words::moment(made_at, &zone, app.desk.clock.now());
            fill.before = Some(when);
            refused(StatusCode::CONFLICT, &fill)
        }
        Err(DeskError::Promo { code, refusal }) => {
            let mut fill =
                fill_again(&app, reference, &visitor, staff.as_ref(), (&draft, &[])).await?;
            fill.code_problem =
                Some(wording::promo(&code, &refusal, &app.desk.house().await?.zone));
            fill.problems = 1;
            refused(StatusCode::CONFLICT, &fill)
        }
        Err(
            error @ (DeskError::Choice(_) | DeskError::Keep(_) | DeskError::PriceChanged { .. }),
        ) => {
            let sheet = whole::of(&app.desk, reference).await?;
            let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
            let notice = lost_words(&error);
            let fill = fill(&app, f, &sheet, &draft, &[], Some(notice));
            refused(StatusCode::CONFLICT, &fill)
        }
        Err(error) => Err(error.into()),
    }
}

fn lost_words(error: &DeskError) -> String {
    match error {
        DeskError::Choice(refusal) => format!(
            "Your time ran out, and the same seats could not be kept again. {}",
            wording::choice(refusal, &[])
        ),
        DeskError::Keep(refusal) => wording::keep(refusal),
        DeskError::PriceChanged { old, new } => format!(
            "Your time ran out. The same seats are free, but cost {new} now instead of {old}. Keep them again to go on."
        ),
        _ => String::new(),
    }
}

/// `POST …/again`: the same seats again after the time ran out.
pub(crate) async fn again(
    State(app): State<App>,
    At(reference): At,
    Part(part): Part,
    visitor: Visitor,
    asker: Asker,
    Perhaps(staff): Perhaps,
    form: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, &asker)?;
    let typed = draft_of(&form);
    if typed != Draft::default() {
        hold::type_on(&app.desk, reference, typed).await?;
    }
    let outcome = hold::again(&app.desk, reference).await;
    let notice = match &outcome {
        Ok(()) => {
            "Your time ran out, but nobody took your seats: they are kept for you again.".into()
        }
        Err(error @ (DeskError::Choice(_) | DeskError::Keep(_))) => lost_words(error),
        Err(DeskError::Move(_)) => String::new(),
        Err(_) => return Err(outcome.err().map_or(WebError::Unreadable, WebError::Desk)),
    };
    if !part && outcome.is_ok() {
        return Ok(Redirect::to(&address(&app, reference)).into_response());
    }
    let sheet = whole::of(&app.desk, reference).await?;
    let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
    if part {
        let mut summary = summary(&app, &sheet, f.token, app.desk.clock.now());
        summary.notice = Some(notice).filter(|n| !n.is_empty());
        return html(&summary);
    }
    let draft = sheet.booking.draft.clone();
    refused(StatusCode::CONFLICT, &fill(&app, f, &sheet, &draft, &[], Some(notice)))
}

/// `POST …/give-back`: the seats go back before anything is booked.
pub(crate) async fn give_back(
    State(app): State<App>,
    At(reference): At,
    _form: Posted,
) -> Result<Response, WebError> {
    hold::give_back(&app.desk, reference).await?;
    let sheet = whole::of(&app.desk, reference).await?;
    let to = format!("/events/{}?date={}", sheet.event.slug, sheet.date.id);
    Ok(Redirect::to(&to).into_response())
}
