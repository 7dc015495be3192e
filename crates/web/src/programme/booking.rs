//! `/booking/{reference}/{key}`: a booking at its secret address, from the form to the tickets.

use std::collections::BTreeMap;
use std::time::Duration;

use askama::Template;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use jiff::Timestamp;
use matricle_core::booking::State as BookingState;
use matricle_core::codes::Reference;
use matricle_core::confirm::Way;
use matricle_core::details::{Answering, Draft, Field, Problem, Question};
use matricle_core::{AttendeeId, QuestionId, SessionId};
use matricle_desk::hold::{self, BookingSheet};
use matricle_desk::{DeskError, checkout, messages, money};
use matricle_formats::{barcode, words};
use matricle_store::payments::PaymentState;

use crate::App;
use crate::error::WebError;
use crate::guard::{Asker, Often, Part, Perhaps, Posted, Visitor};
use crate::page::{Face, Frame, html, refused};
use crate::wording;

/// How long a page waits for the card provider before it shows what is known.
const PATIENCE: Duration = Duration::from_secs(3);

/// The address of a booking's own page.
pub(crate) fn address(app: &App, reference: Reference) -> String {
    format!("/booking/{}/{}", reference.as_str(), app.desk.secrets.booking_key(reference))
}

/// The booking that an address opens; an address that opens none is not found.
pub(super) fn open(app: &App, reference: &str, key: &str) -> Result<Reference, WebError> {
    Reference::parse(reference)
        .filter(|reference| app.desk.secrets.opens_booking(*reference, key))
        .ok_or(WebError::Desk(DeskError::NotFound))
}

pub(super) type At = Path<(String, String)>;

/// What stands beside every step: which seats, until when, for how much.
#[derive(Template)]
#[template(path = "programme/summary.html")]
struct Summary {
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
    notice: Option<String>,
    /// The time ran out and the seats are not kept.
    lost: bool,
}

/// Deadlines so near that only the clock is told, in seconds; a page counts them down.
const TODAY: i64 = 2 * 60 * 60;

fn summary(app: &App, sheet: &BookingSheet, token: String, now: Timestamp) -> Summary {
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
}

pub(super) fn fill(
    app: &App,
    f: Frame,
    sheet: &BookingSheet,
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
    let sheet = hold::sheet(&app.desk, reference).await?;
    let f = frame(app, &sheet, visitor, staff).await;
    Ok(fill(app, f, &sheet, draft, problems, None))
}

/// What is typed into a transfer, the payment QR code as SVG (may be empty), until when the
/// seats are kept for it.
struct Transfer {
    lines: Vec<(String, String)>,
    code: String,
    until: String,
}

/// Waiting for the money.
#[derive(Template)]
#[template(path = "programme/pay.html")]
struct Pay {
    f: Frame,
    address: String,
    due: String,
    declined: bool,
    summary: Summary,
    /// The way to pay by transfer has been chosen: what to type, a QR code, until when.
    transfer: Option<Transfer>,
    /// The house takes transfers, and there is time for one.
    may_transfer: bool,
    invoice: Option<String>,
    /// Stamps that would pay it, and what for; what was typed as a card, and why it does not pay.
    stamps: Option<String>,
    card: String,
    card_problem: Option<String>,
}

/// One attendee on the booking's own page.
struct TicketView {
    name: String,
    ticket: String,
    code: String,
    qr: String,
    inside: Option<String>,
}

/// Confirmed, or over.
#[derive(Template)]
#[template(path = "programme/own.html")]
struct Own {
    f: Frame,
    address: String,
    state: &'static str,
    confirmed: bool,
    reference: String,
    title: String,
    event_href: String,
    when: String,
    place: String,
    address_line: String,
    directions: String,
    bring: String,
    refund_note: String,
    email: String,
    tickets: Vec<TicketView>,
    /// Stamp cards bought: letters, and what is on them.
    cards: Vec<(String, String)>,
    lines: Vec<(String, String)>,
    total: String,
    paid: Option<String>,
    answers: Vec<(String, String)>,
    what: &'static str,
    /// The dates of a course.
    dates: Vec<(String, String)>,
    online: String,
    after_note: String,
    test: bool,
    signing: Vec<Signing>,
    grid: String,
    problem: Option<String>,
    /// Receipts, invoices, credit notes: address, number, kind, amount.
    papers: Vec<(String, String, &'static str, String)>,
    /// Still to pay, when something is.
    due: Option<String>,
    back: Vec<String>,
    may_change: bool,
}

/// The sessions one person may sign up for.
struct Signing {
    attendee: i64,
    name: String,
    sessions: Vec<SessionChoice>,
}

struct SessionChoice {
    id: i64,
    when: String,
    title: String,
    place: String,
    seats: String,
    mine: bool,
    closed: bool,
}

/// What each person may sign up for; `wanted` is what was sent and refused.
fn signing(
    sheet: &BookingSheet,
    wanted: Option<&BTreeMap<AttendeeId, Vec<SessionId>>>,
    now: Timestamp,
) -> Vec<Signing> {
    if !sheet.sessions.iter().any(|s| s.facts.sign_up) {
        return Vec::new();
    }
    sheet
        .attendees
        .iter()
        .map(|a| Signing {
            attendee: a.id.0,
            name: a.name.clone(),
            sessions: sheet
                .sessions
                .iter()
                .filter(|s| s.facts.sign_up)
                .map(|s| {
                    let had = sheet.sign_ups.contains(&(a.id, s.facts.id));
                    let place: Vec<&str> = [s.room.as_str(), s.host.as_str()]
                        .into_iter()
                        .filter(|t| !t.is_empty())
                        .collect();
                    SessionChoice {
                        id: s.facts.id.0,
                        when: format!(
                            "{}–{}",
                            words::clock(s.span.starts),
                            words::clock(s.span.ends)
                        ),
                        title: s.title.clone(),
                        place: place.join(" · "),
                        seats: crate::parts::grid::seats(s),
                        mine: wanted
                            .and_then(|w| w.get(&a.id))
                            .map_or(had, |w| w.contains(&s.facts.id)),
                        closed: !had && (s.facts.left() == Some(0) || s.facts.from <= now),
                    }
                })
                .collect(),
        })
        .collect()
}

fn own(
    app: &App,
    f: Frame,
    sheet: &BookingSheet,
    refused: Option<(&BTreeMap<AttendeeId, Vec<SessionId>>, String)>,
) -> Own {
    let now = app.desk.clock.now();
    let stands = matches!(
        sheet.booking.state,
        BookingState::Confirmed | BookingState::AwaitingPayment | BookingState::Requested
    );
    let booking = &sheet.booking;
    let span = &sheet.date.span;
    let confirmed = booking.state == BookingState::Confirmed;
    Own {
        f,
        address: address(app, booking.reference),
        state: wording::state(booking.state),
        confirmed,
        reference: booking.reference.to_string(),
        title: sheet.event.title.clone(),
        event_href: format!("/events/{}?date={}", sheet.event.slug, sheet.date.id),
        when: words::long_span(span.starts, span.ends),
        place: sheet.date.place(),
        address_line: sheet.date.address.clone(),
        directions: sheet.date.directions.clone(),
        bring: sheet.event.bring.clone(),
        refund_note: sheet.event.refund_note.clone(),
        email: booking.email.clone(),
        tickets: sheet
            .attendees
            .iter()
            .filter(|a| !a.cancelled)
            .map(|a| TicketView {
                name: a.name.clone(),
                ticket: a.ticket.clone(),
                code: a.code.to_string(),
                qr: qr_svg(a.code),
                inside: match &a.presence {
                    matricle_core::door::Presence::In { at, .. } => Some(format!(
                        "in since {}",
                        words::clock(words::local(*at, &sheet.house.zone).datetime())
                    )),
                    _ => None,
                },
            })
            .collect(),
        cards: sheet
            .cards
            .iter()
            .map(|c| messages::card_words(c, &sheet.house.zone, now))
            .collect(),
        lines: wording::money_lines(&sheet.lines)
            .into_iter()
            .map(|(what, amount)| (what, amount.to_string()))
            .collect(),
        total: booking.total.to_string(),
        paid: (booking.paid.minor > 0).then(|| booking.paid.to_string()),
        answers: sheet
            .answers
            .iter()
            .map(|a| {
                let name = a.person.and_then(|i| sheet.attendees.get(i)).map(|p| &p.name);
                let label = name.map_or_else(|| a.label.clone(), |n| format!("{n}: {}", a.label));
                (label, a.answer.clone())
            })
            .collect(),
        dates: if sheet.covers.len() > 1 {
            sheet
                .covers
                .iter()
                .map(|d| (words::long_span(d.span.starts, d.span.ends), d.called_off.clone()))
                .collect()
        } else {
            Vec::new()
        },
        online: if confirmed { messages::online(sheet) } else { String::new() },
        after_note: if stands { sheet.event.after_note.clone() } else { String::new() },
        test: booking.test,
        signing: if stands {
            signing(sheet, refused.as_ref().map(|(w, _)| *w), now)
        } else {
            Vec::new()
        },
        grid: crate::parts::grid::svg(&sheet.sessions),
        papers: sheet
            .documents
            .iter()
            .map(|d| {
                let href = format!("{}/papers/{}", address(app, booking.reference), d.id);
                let total = booking.total.currency.of(d.body.total());
                (href, d.name(), d.kind.word(), total.to_string())
            })
            .collect(),
        due: (confirmed && booking.due().minor > 0).then(|| booking.due().to_string()),
        back: sheet
            .refunds
            .iter()
            .map(|r| {
                let amount = booking.total.currency.of(r.minor);
                match r.done_at {
                    Some(_) => format!("{amount} given back by {}", r.method.word()),
                    None => format!("{amount} on its way back by {}", r.method.word()),
                }
            })
            .collect(),
        may_change: stands && !booking.test && span.starts_at > now,
        problem: refused.map(|(_, said)| said),
        what: match booking.state {
            BookingState::Confirmed if sheet.attendees.is_empty() => "It is paid. Thank you.",
            BookingState::Confirmed => "Your seats are booked.",
            BookingState::Requested => "You asked for seats. The organiser answers by mail.",
            BookingState::Cancelled => {
                "This booking was cancelled. Its tickets no longer open the door."
            }
            BookingState::Declined => "The organiser could not accept this booking.",
            BookingState::Held | BookingState::AwaitingPayment | BookingState::Lapsed => "",
        },
    }
}

/// A QR code as SVG, with its quiet zone.
fn qr_svg(code: matricle_core::codes::TicketCode) -> String {
    square_svg(&barcode::qr(code), &format!("QR code of ticket {code}"))
}

/// A QR code as SVG, with its quiet zone of four modules.
fn square_svg(square: &barcode::Square, label: &str) -> String {
    let side = square.side + 8;
    let dark: String = square
        .dark
        .iter()
        .enumerate()
        .filter(|(_, dark)| **dark)
        .map(|(i, _)| format!("M{} {}h1v1h-1z", i % square.side + 4, i / square.side + 4))
        .collect();
    format!(
        r#"<svg class="qr" viewBox="0 0 {side} {side}" role="img" aria-label="{label}" shape-rendering="crispEdges"><rect width="{side}" height="{side}" fill="white"/><path d="{dark}" fill="black"/></svg>"#
    )
}

/// The page where the money is waited for.
pub(super) fn pay_page(
    app: &App,
    f: Frame,
    sheet: &BookingSheet,
    card: String,
    card_problem: Option<String>,
) -> impl Template {
    let now = app.desk.clock.now();
    let token = f.token.clone();
    let last = sheet.payments.last().map(|p| p.state);
    let chosen = !sheet.documents.is_empty();
    let until = sheet
        .booking
        .deadline
        .map_or_else(String::new, |d| words::deadline(d, &sheet.house.zone, now));
    let lines = money::transfer_lines(&sheet.house, &sheet.booking);
    let own = address(app, sheet.booking.reference);
    Pay {
        transfer: (chosen && !lines.is_empty()).then(|| Transfer {
            lines,
            code: barcode::text_qr(&money::qr_text(&sheet.house, &sheet.booking))
                .map_or_else(String::new, |c| square_svg(&c, "Payment QR code")),
            until,
        }),
        may_transfer: !chosen && checkout::transfer_until(&sheet.house, &sheet.date, now).is_some(),
        invoice: sheet.documents.last().map(|d| format!("{own}/papers/{}", d.id)),
        address: address(app, sheet.booking.reference),
        due: sheet.booking.due().to_string(),
        declined: last == Some(PaymentState::Declined),
        summary: summary(app, sheet, token, now),
        f,
        stamps: (sheet.stamps.0 > 0).then(|| {
            let amount = sheet.booking.total.currency.of(sheet.stamps.1);
            format!("{} for {amount}", words::count(sheet.stamps.0, "stamps"))
        }),
        card,
        card_problem,
    }
}

/// The page for the state that the booking is in.
fn page(app: &App, f: Frame, sheet: &BookingSheet) -> Result<Response, WebError> {
    match sheet.booking.state {
        BookingState::Held | BookingState::Lapsed => {
            html(&fill(app, f, sheet, &sheet.booking.draft, &[], None))
        }
        BookingState::AwaitingPayment => html(&pay_page(app, f, sheet, String::new(), None)),
        _ => html(&own(app, f, sheet, None)),
    }
}

pub(super) async fn frame(
    app: &App,
    sheet: &BookingSheet,
    visitor: &Visitor,
    staff: Option<&matricle_store::people::Staff>,
) -> Frame {
    let title = format!("Booking {}", sheet.booking.reference);
    Frame::new(app, Face::Programme, title, &sheet.house.name, visitor, staff)
}

pub(crate) async fn show(
    State(app): State<App>,
    Path((reference, key)): At,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
) -> Result<Response, WebError> {
    let reference = open(&app, &reference, &key)?;
    let mut sheet = hold::sheet(&app.desk, reference).await?;
    if sheet.booking.state == BookingState::AwaitingPayment {
        // The payer may just have come back: do not wait for a webhook to know.
        if let Ok(asked) = tokio::time::timeout(PATIENCE, checkout::ask(&app.desk, reference)).await
        {
            asked?;
            sheet = hold::sheet(&app.desk, reference).await?;
        }
    }
    let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
    page(&app, f, &sheet)
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
pub(crate) async fn back(
    State(app): State<App>,
    Path((reference, key)): At,
) -> Result<Redirect, WebError> {
    Ok(Redirect::to(&address(&app, open(&app, &reference, &key)?)))
}

/// The same for an address with one part more.
pub(crate) async fn back_from(
    State(app): State<App>,
    Path((reference, key, _)): Path<(String, String, String)>,
) -> Result<Redirect, WebError> {
    Ok(Redirect::to(&address(&app, open(&app, &reference, &key)?)))
}

/// `POST …/draft`: keeps what has been typed so far.
pub(crate) async fn draft(
    State(app): State<App>,
    Path((reference, key)): At,
    form: Posted,
) -> Result<Response, WebError> {
    let reference = open(&app, &reference, &key)?;
    hold::type_on(&app.desk, reference, draft_of(&form)).await?;
    Ok(Html("Saved as you type.").into_response())
}

/// `POST …/book`: takes the form; what follows is the booking's page, or the way to pay.
pub(crate) async fn book(
    State(app): State<App>,
    Path((reference, key)): At,
    asker: Asker,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
    form: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, asker)?;
    let reference = open(&app, &reference, &key)?;
    let draft = draft_of(&form);
    let own = address(&app, reference);
    match checkout::submit(&app.desk, reference, draft.clone()).await {
        Ok(checkout::Outcome::Confirmed | checkout::Outcome::Asked) => {
            Ok(Redirect::to(&own).into_response())
        }
        Ok(checkout::Outcome::ToPay) => {
            // Where there is more than one way to pay, the booking's page offers them.
            let sheet = hold::sheet(&app.desk, reference).await?;
            let now = app.desk.clock.now();
            let transfer = checkout::transfer_until(&sheet.house, &sheet.date, now).is_some();
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
            fill.code_problem = Some(wording::promo(&code, &refusal));
            fill.problems = 1;
            refused(StatusCode::CONFLICT, &fill)
        }
        Err(error @ (DeskError::Choice(_) | DeskError::PriceChanged { .. })) => {
            let sheet = hold::sheet(&app.desk, reference).await?;
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
        DeskError::PriceChanged { old, new } => format!(
            "Your time ran out. The same seats are free, but cost {new} now instead of {old}. Keep them again to go on."
        ),
        _ => String::new(),
    }
}

/// `POST …/again`: the same seats again after the time ran out.
pub(crate) async fn again(
    State(app): State<App>,
    Path((reference, key)): At,
    Part(part): Part,
    visitor: Visitor,
    asker: Asker,
    Perhaps(staff): Perhaps,
    form: Posted,
) -> Result<Response, WebError> {
    app.guards.often(Often::Booking, asker)?;
    let reference = open(&app, &reference, &key)?;
    let typed = draft_of(&form);
    if typed != Draft::default() {
        hold::type_on(&app.desk, reference, typed).await?;
    }
    let outcome = hold::again(&app.desk, reference).await;
    let notice = match &outcome {
        Ok(()) => {
            "Your time ran out, but nobody took your seats: they are kept for you again.".into()
        }
        Err(error @ DeskError::Choice(_)) => lost_words(error),
        Err(DeskError::Move(_)) => String::new(),
        Err(_) => return Err(outcome.err().map_or(WebError::Unreadable, WebError::Desk)),
    };
    if !part && outcome.is_ok() {
        return Ok(Redirect::to(&address(&app, reference)).into_response());
    }
    let sheet = hold::sheet(&app.desk, reference).await?;
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
    Path((reference, key)): At,
    _form: Posted,
) -> Result<Response, WebError> {
    let reference = open(&app, &reference, &key)?;
    hold::give_back(&app.desk, reference).await?;
    let sheet = hold::sheet(&app.desk, reference).await?;
    let to = format!("/events/{}?date={}", sheet.event.slug, sheet.date.id);
    Ok(Redirect::to(&to).into_response())
}

/// `GET …/pay`: on to the card provider's page.
pub(crate) async fn pay(
    State(app): State<App>,
    Path((reference, key)): At,
) -> Result<Response, WebError> {
    let reference = open(&app, &reference, &key)?;
    match checkout::pay_url(&app.desk, reference).await {
        Ok(url) => Ok(Redirect::to(&url).into_response()),
        // Paid in another tab, or over: the booking's page says what is so.
        Err(DeskError::Move(_)) => Ok(Redirect::to(&address(&app, reference)).into_response()),
        Err(error) => Err(error.into()),
    }
}

/// `GET …/state`: whether there is something new to show, asked by the waiting page.
pub(crate) async fn state(
    State(app): State<App>,
    Path((reference, key)): At,
) -> Result<Response, WebError> {
    let reference = open(&app, &reference, &key)?;
    let sheet = hold::sheet(&app.desk, reference).await?;
    let mut headers = HeaderMap::new();
    if sheet.booking.state != BookingState::AwaitingPayment {
        headers.insert("hx-refresh", header::HeaderValue::from_static("true"));
    }
    Ok((headers, Html("")).into_response())
}

/// `GET …/tickets.pdf`: the tickets.
pub(crate) async fn tickets(
    State(app): State<App>,
    Path((reference, key)): At,
) -> Result<Response, WebError> {
    let reference = open(&app, &reference, &key)?;
    let pdf = messages::tickets_of(&app.desk, reference).await?;
    let name = format!("inline; filename=\"tickets-{reference}.pdf\"");
    let headers =
        [(header::CONTENT_TYPE, "application/pdf".to_owned()), (header::CONTENT_DISPOSITION, name)];
    Ok((headers, pdf).into_response())
}

/// `GET …/date.ics`: the date for a calendar.
pub(crate) async fn calendar(
    State(app): State<App>,
    Path((reference, key)): At,
) -> Result<Response, WebError> {
    let reference = open(&app, &reference, &key)?;
    let file = messages::calendar_of(&app.desk, reference).await?;
    let headers = [
        (header::CONTENT_TYPE, "text/calendar; charset=utf-8"),
        (header::CONTENT_DISPOSITION, "attachment; filename=\"date.ics\""),
    ];
    Ok((headers, file).into_response())
}

/// `POST …/sessions`: who goes to which session.
pub(crate) async fn sign_up(
    State(app): State<App>,
    Path((reference, key)): At,
    visitor: Visitor,
    Perhaps(staff): Perhaps,
    form: Posted,
) -> Result<Response, WebError> {
    let reference = open(&app, &reference, &key)?;
    let before = hold::sheet(&app.desk, reference).await?;
    // Boxes that are not ticked are not sent: everybody on the booking is meant.
    let mut wants: BTreeMap<AttendeeId, Vec<SessionId>> =
        before.attendees.iter().map(|a| (a.id, Vec::new())).collect();
    for (attendee, session) in form.starting("session_") {
        if let (Ok(attendee), Ok(session)) = (attendee.parse(), session.parse())
            && let Some(list) = wants.get_mut(&AttendeeId(attendee))
        {
            list.push(SessionId(session));
        }
    }
    match matricle_desk::sessions::sign_up(&app.desk, reference, wants.clone()).await {
        Ok(()) => {
            Ok(Redirect::to(&format!("{}#sessions", address(&app, reference))).into_response())
        }
        Err(DeskError::SignUp(refusal)) => {
            let sheet = hold::sheet(&app.desk, reference).await?;
            let title = |id: SessionId| {
                let found = sheet.sessions.iter().find(|s| s.facts.id == id);
                found.map_or_else(String::new, |s| s.title.clone())
            };
            let said = wording::sign_up(&refusal, title);
            let f = frame(&app, &sheet, &visitor, staff.as_ref()).await;
            refused(StatusCode::CONFLICT, &own(&app, f, &sheet, Some((&wants, said))))
        }
        Err(error) => Err(error.into()),
    }
}
