//! The parts of an event's sheet that change it: wording, tickets, questions, who may
//! book, people told.

use askama::Template;
use axum::extract::{Multipart, Path};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use matricle_core::codes::Reference;
use matricle_core::confirm::Way;
use matricle_core::details::{Answering, Question};
use matricle_core::form::Wrong;
use matricle_core::who::Who;
use matricle_core::{EventId, QuestionId, TicketTypeId};
use matricle_desk::bookings::confirm;
use matricle_desk::bookings::confirm::Followed;
use matricle_desk::planning::questions::{ANSWERING, answering_word};
use matricle_desk::planning::sheet::Settings;
use matricle_desk::planning::{events, invitations, patterns};
use matricle_desk::planning::{pictures, questions, sheet, tickets, trying};
use matricle_desk::{DeskError, random_bytes};
use matricle_formats::words;
use matricle_store::events::{EventState, Format, TicketRow};
use matricle_store::outbox::Message;

use super::Clerk;
use super::fields::{Fields, form, wrong};
use crate::error::WebError;
use crate::guard::Posted;
use crate::page::{Frame, html, refused};

fn frame(at: &Clerk, s: &Settings) -> Frame {
    let title = s.event.title.clone();
    at.frame(title, &s.house.name).in_room("events")
}

fn answer(wrong: usize, page: &impl Template) -> Result<Response, WebError> {
    if wrong == 0 { html(page) } else { refused(StatusCode::UNPROCESSABLE_ENTITY, page) }
}

#[derive(Template)]
#[template(path = "office/wording.html")]
struct Wording {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    d: Fields,
    formats: Vec<(&'static str, &'static str)>,
    tags: Vec<(String, String)>,
    picture: Option<(String, String)>,
    nonce: String,
    saved: bool,
}

async fn wording_page(
    at: &Clerk,
    id: i64,
    d: Option<Fields>,
    saved: bool,
) -> Result<Response, WebError> {
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let d = d.unwrap_or_else(|| {
        let e = &s.event;
        let mut d = Fields::of([
            ("title", e.title.clone()),
            ("kind", e.kind.clone()),
            ("lead", e.lead.clone()),
            ("description", e.description.clone()),
            ("bring", e.bring.clone()),
            ("refund_note", e.refund_note.clone()),
            ("button", e.button.clone()),
            ("after_note", e.after_note.clone()),
            ("format", e.format.word().into()),
            ("online_link", e.online_link.clone()),
            ("online_passcode", e.online_passcode.clone()),
            ("slug", e.slug.clone()),
        ]);
        d.tick("listed", e.listed);
        s.tags.iter().for_each(|(slug, _)| d.add("tag", slug.clone()));
        d
    });
    // The editor writes a style of its own; a fresh word lets that one pass.
    let nonce = URL_SAFE_NO_PAD.encode(random_bytes::<16>());
    let policy = at.app.guards.policy_for_editor(&nonce);
    let count = d.count();
    let page = Wording {
        tab: "wording",
        id,
        bookings: s.bookings,
        title: s.event.title.clone(),
        formats: Format::ALL.map(|f| (f.word(), f.word())).to_vec(),
        tags: s.all_tags.iter().map(|t| (t.slug.clone(), t.name.clone())).collect(),
        picture: s.picture.as_ref().map(|p| {
            let address = crate::programme::event::picture_address(&at.app, p.id, "small");
            (address, p.alt.clone())
        }),
        nonce,
        f: frame(at, &s),
        d,
        saved,
    };
    let mut response = answer(count, &page)?;
    response.headers_mut().insert(header::CONTENT_SECURITY_POLICY, policy);
    Ok(response)
}

pub(crate) async fn wording(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    wording_page(&at, id, None, false).await
}

/// `POST /office/events/{id}/wording`.
pub(crate) async fn reword(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    match sheet::reword(&at.app.desk, &at.staff, EventId(id), form(&posted)).await {
        Ok(()) => wording_page(&at, id, None, true).await,
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            wording_page(&at, id, Some(d), false).await
        }
    }
}

/// `POST /office/events/{id}/picture`: a file with words for those who cannot see it.
pub(crate) async fn picture(
    at: Clerk,
    Path(id): Path<i64>,
    mut parts: Multipart,
) -> Result<Response, WebError> {
    let (mut token, mut alt, mut bytes, mut act) =
        (String::new(), String::new(), Vec::new(), String::new());
    while let Some(part) = parts.next_field().await.map_err(|_| WebError::Unreadable)? {
        match part.name().unwrap_or_default() {
            "token" => token = part.text().await.map_err(|_| WebError::Unreadable)?,
            "alt" => alt = part.text().await.map_err(|_| WebError::Unreadable)?,
            "act" => act = part.text().await.map_err(|_| WebError::Unreadable)?,
            "picture" => bytes = part.bytes().await.map_err(|_| WebError::Unreadable)?.to_vec(),
            _ => {}
        }
    }
    if !at.app.desk.secrets.is_form_token(&at.visitor.0, &token) {
        return Err(WebError::OldPage);
    }
    if act == "drop" {
        pictures::drop_picture(&at.app.desk, &at.staff, EventId(id)).await?;
        return Ok(Redirect::to(&format!("/office/events/{id}/wording#picture")).into_response());
    }
    match pictures::set_picture(&at.app.desk, &at.staff, EventId(id), alt.clone(), bytes).await {
        Ok(()) => Ok(Redirect::to(&format!("/office/events/{id}/wording#picture")).into_response()),
        Err(error) => {
            let wrong = wrong(error)?;
            let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
            let mut d = Fields::of([("title", s.event.title.clone()), ("alt", alt)]);
            d.mark(&wrong);
            let f = frame(&at, &s);
            refused(StatusCode::UNPROCESSABLE_ENTITY, &PictureAgain { f, id, d })
        }
    }
}

#[derive(Template)]
#[template(path = "office/picture.html")]
struct PictureAgain {
    f: Frame,
    id: i64,
    d: Fields,
}

struct TicketView {
    here: bool,
    id: i64,
    name: String,
    note: String,
    price: String,
    more: Vec<String>,
    sold: u32,
}

#[derive(Template)]
#[template(path = "office/tickets.html")]
struct Tickets {
    /// Kinds of stamp cards that a ticket may be.
    card_kinds: Vec<(String, String)>,
    /// Bookings that wait for a yes and need not any more: what becomes of them is asked.
    waiting: Vec<(String, String)>,
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    rows: Vec<TicketView>,
    editing: Option<i64>,
    d: Fields,
    pools: Vec<(String, String)>,
    rates: Vec<(String, String)>,
    currency: String,
}

fn ticket_view(
    row: &TicketRow,
    editing: Option<i64>,
    s: &Settings,
    now: jiff::Timestamp,
) -> TicketView {
    let (t, currency, zone) = (&row.plan, s.house.currency, &s.house.zone);
    let mut more = Vec::new();
    let takes: Vec<String> = t
        .draws
        .iter()
        .filter_map(|(i, n)| s.pools.get(*i).map(|name| words::count(*n, name)))
        .collect();
    match &t.card {
        Some(kind) => more.push(format!("the stamp card “{kind}”")),
        None => more.push(format!("takes {}", takes.join(" and "))),
    }
    if t.admits != 1 && t.card.is_none() {
        more.push(format!("lets {} in", words::count(t.admits, "people")));
    }
    if let Some(early) = t.early {
        more.push(format!(
            "{} until {}",
            currency.of(early.minor),
            words::deadline(early.until, zone, now)
        ));
    }
    if let Some(member) = t.member {
        more.push(format!("{} for members", currency.of(member)));
    }
    if let Some(group) = t.group {
        more.push(format!("{} each from {} on", currency.of(group.minor), group.from));
    }
    if let Some(tax) = &t.tax {
        more.push(format!("tax: {tax}"));
    }
    if let Some(stamps) = t.stamps {
        more.push(format!("or {}", words::count(stamps, "stamps")));
    }
    match t.confirm {
        Some(Way::ByItself) => more.push("confirmed by itself".into()),
        Some(Way::AfterYes) => more.push("confirmed after the organiser’s yes".into()),
        None => {}
    }
    if let Some(until) = t.sale.until {
        more.push(format!("on sale until {}", words::deadline(until, zone, now)));
    }
    if let Some(from) = t.sale.from {
        more.push(format!("on sale from {}", words::moment(from, zone, now)));
    }
    if let Some(n) = t.per_date {
        more.push(format!("at most {n} a date"));
    }
    if !t.word.is_empty() {
        more.push(format!("only with the word “{}”", t.word));
    }
    if t.members_only {
        more.push("for members only".into());
    }
    if !t.invited.is_empty() {
        more.push(format!("by invitation, {} on the list", t.invited.len()));
    }
    if t.closed {
        more.push("closed by hand".into());
    }
    TicketView {
        id: row.id.0,
        here: editing == Some(row.id.0),
        name: t.name.clone(),
        note: t.note.clone(),
        price: if t.minor == 0 { "free".into() } else { currency.of(t.minor).to_string() },
        more,
        sold: row.sold,
    }
}

fn ticket_fields(row: &TicketRow, s: &Settings) -> Fields {
    let (t, currency) = (&row.plan, s.house.currency);
    let amount = |minor: Option<i64>| minor.map_or_else(String::new, |m| currency.of(m).figures());
    let local = |at: Option<jiff::Timestamp>| {
        at.map_or_else(String::new, |at| {
            words::local(at, &s.house.zone).datetime().strftime("%Y-%m-%dT%H:%M").to_string()
        })
    };
    let number = |n: Option<u32>| n.map_or_else(String::new, |n| n.to_string());
    let mut d = Fields::of([
        ("name", t.name.clone()),
        ("note", t.note.clone()),
        ("price", if t.minor == 0 { String::new() } else { amount(Some(t.minor)) }),
        ("tax", t.tax.clone().unwrap_or_default()),
        ("early_price", amount(t.early.map(|e| e.minor))),
        ("early_until", local(t.early.map(|e| e.until))),
        ("member_price", amount(t.member)),
        ("group_from", number(t.group.map(|g| g.from))),
        ("group_price", amount(t.group.map(|g| g.minor))),
        ("sale_from", local(t.sale.from)),
        ("sale_until", local(t.sale.until)),
        ("per_date", number(t.per_date)),
        ("stamps", number(t.stamps)),
        ("card", t.card.clone().unwrap_or_default()),
        ("confirm", t.confirm.map_or("", confirm::word).into()),
        ("least", t.least.to_string()),
        ("most", t.most.to_string()),
        ("admits", t.admits.to_string()),
        ("word", t.word.clone()),
        ("invited", t.invited.join("\n")),
        ("place", s.tickets.iter().position(|r| r.id == row.id).map_or(1, |i| i + 1).to_string()),
    ]);
    d.tick("members_only", t.members_only);
    d.tick("closed", t.closed);
    for (i, seats) in &t.draws {
        d.add(&format!("draw_{i}"), seats.to_string());
    }
    d
}

async fn tickets_page(
    at: &Clerk,
    id: i64,
    editing: Option<i64>,
    d: Option<Fields>,
    waiting: Vec<(String, String)>,
) -> Result<Response, WebError> {
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let now = at.app.desk.clock.now();
    let d = d.unwrap_or_else(|| match s.tickets.iter().find(|t| Some(t.id.0) == editing) {
        Some(row) => ticket_fields(row, &s),
        None => Fields::of([
            ("least", "1".into()),
            ("most", "10".into()),
            ("admits", "1".into()),
            ("draw_0", "1".into()),
        ]),
    });
    let count = d.count();
    let mut rates = vec![(String::new(), "none".to_owned())];
    rates.extend(s.tax_rates.iter().map(|r| {
        (r.name.clone(), format!("{}, {}.{:02} %", r.name, r.basis / 100, r.basis % 100))
    }));
    let mut card_kinds = vec![(String::new(), "no, a seat".to_owned())];
    card_kinds.extend(s.card_kinds.iter().map(|k| (k.clone(), k.clone())));
    let page = Tickets {
        card_kinds,
        waiting,
        tab: "tickets",
        id,
        bookings: s.bookings,
        title: s.event.title.clone(),
        rows: s.tickets.iter().map(|t| ticket_view(t, editing, &s, now)).collect(),
        editing,
        pools: s
            .pools
            .iter()
            .enumerate()
            .map(|(i, name)| (format!("draw_{i}"), name.clone()))
            .collect(),
        rates,
        currency: s.house.currency.letters().to_owned(),
        f: frame(at, &s),
        d,
    };
    answer(count, &page)
}

pub(crate) async fn tickets(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    tickets_page(&at, id, None, None, Vec::new()).await
}

pub(crate) async fn ticket(
    at: Clerk,
    Path((id, ticket)): Path<(i64, i64)>,
) -> Result<Response, WebError> {
    tickets_page(&at, id, Some(ticket), None, Vec::new()).await
}

/// `POST /office/events/{id}/tickets/{ticket}`: a change, an addition (`0`), or off with it.
pub(crate) async fn save_ticket(
    at: Clerk,
    Path((id, ticket)): Path<(i64, i64)>,
    posted: Posted,
) -> Result<Response, WebError> {
    let which = (ticket != 0).then_some(TicketTypeId(ticket));
    if let (Some(which), "drop") = (which, posted.get("act")) {
        tickets::drop_ticket(&at.app.desk, &at.staff, EventId(id), which).await?;
        return Ok(Redirect::to(&format!("/office/events/{id}/tickets")).into_response());
    }
    match tickets::save_ticket(&at.app.desk, &at.staff, EventId(id), which, form(&posted)).await {
        Ok(()) => Ok(Redirect::to(&format!("/office/events/{id}/tickets")).into_response()),
        Err(DeskError::Freed { bookings }) => {
            let d = Some(Fields::posted(&posted, &[]));
            tickets_page(&at, id, which.map(|t| t.0), d, freed(bookings)).await
        }
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            tickets_page(&at, id, which.map(|t| t.0), Some(d), Vec::new()).await
        }
    }
}

/// Bookings that wait for a yes and need not any more: reference and booker.
fn freed(bookings: Vec<(Reference, String)>) -> Vec<(String, String)> {
    bookings.into_iter().map(|(reference, name)| (reference.to_string(), name)).collect()
}

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
    let d = d.unwrap_or_else(|| {
        let found = s.questions.iter().enumerate().find(|(_, q)| Some(q.id.0) == editing);
        found.map_or_else(Fields::default, |(i, q)| question_fields(q, i))
    });
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
        return Ok(Redirect::to(&format!("/office/events/{id}/questions")).into_response());
    }
    match questions::save_question(&at.app.desk, &at.staff, EventId(id), which, form(&posted)).await
    {
        Ok(()) => Ok(Redirect::to(&format!("/office/events/{id}/questions")).into_response()),
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            questions_page(&at, id, which.map(|q| q.0), Some(d)).await
        }
    }
}

#[derive(Template)]
#[template(path = "office/who.html")]
struct WhoPage {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    d: Fields,
    /// What became of it; empty before anything was saved.
    saved: String,
    /// Bookings that wait for a yes and need not any more: what becomes of them is asked.
    waiting: Vec<(String, String)>,
    /// Addresses invited, and where the mail to each stands; empty when there is none.
    invited: Vec<(String, String)>,
    published: bool,
}

impl WhoPage {
    fn uninvited(&self) -> usize {
        self.invited.iter().filter(|(_, mail)| mail.is_empty()).count()
    }
}

async fn who_page(
    at: &Clerk,
    id: i64,
    d: Option<Fields>,
    saved: String,
    waiting: Vec<(String, String)>,
) -> Result<Response, WebError> {
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let d = d.unwrap_or_else(|| {
        let (word, text) = match &s.event.who {
            Who::Anyone => ("anyone", String::new()),
            Who::SignedIn => ("signed in", String::new()),
            Who::Word(word) => ("word", word.clone()),
            Who::Domains(domains) => ("domains", domains.join("\n")),
            Who::Invited(list) => ("invited", list.join("\n")),
        };
        let mut d = Fields::of([
            ("who", word.into()),
            ("hold_minutes", s.event.hold.as_mins().to_string()),
        ]);
        match word {
            "word" => d.add("who_word", text),
            "domains" => d.add("who_domains", text),
            "invited" => d.add("who_invited", text),
            _ => {}
        }
        d.set("confirm_free", confirm::word(s.event.rules.confirm.free).into());
        d.set("confirm_paid", confirm::word(s.event.rules.confirm.paid).into());
        d.tick("once", s.event.once);
        d.tick("course", s.event.course);
        d.tick("latecomers", s.event.latecomers);
        d
    });
    let count = d.count();
    let page = WhoPage {
        tab: "who",
        id,
        bookings: s.bookings,
        title: s.event.title.clone(),
        invited: invited_views(at, &s),
        published: s.event.state == EventState::Published,
        f: frame(at, &s),
        d,
        saved,
        waiting,
    };
    answer(count, &page)
}

/// Addresses invited, and where the mail to each stands.
fn invited_views(at: &Clerk, s: &sheet::Settings) -> Vec<(String, String)> {
    let now = at.app.desk.clock.now();
    let stands = |m: &Message| match m.sent_at {
        Some(sent) => format!("sent {}", words::moment(sent, &s.house.zone, now)),
        None => m.state.clone(),
    };
    s.invited
        .iter()
        .map(|(address, mailed)| {
            (address.clone(), mailed.as_ref().map_or_else(String::new, stands))
        })
        .collect()
}

/// `POST /office/events/{id}/invite`: mails an invitation to whoever has none yet.
pub(crate) async fn invite(
    at: Clerk,
    Path(id): Path<i64>,
    _posted: Posted,
) -> Result<Response, WebError> {
    invitations::send(&at.app.desk, &at.staff, EventId(id)).await?;
    Ok(Redirect::to(&format!("/office/events/{id}/who#invitations")).into_response())
}

pub(crate) async fn who(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    who_page(&at, id, None, String::new(), Vec::new()).await
}

/// What became of bookings when the rules changed, in words.
fn followed(f: Followed) -> String {
    let mut said = vec!["Kept.".to_owned()];
    match f.went_on {
        0 => {}
        1 => said.push("One booking that waited has gone on by itself.".into()),
        n => said.push(format!("{n} bookings that waited have gone on by themselves.")),
    }
    match f.wait {
        0 => {}
        1 => said.push("One booking waits for your yes.".into()),
        n => said.push(format!("{n} bookings wait for your yes.")),
    }
    match f.will_wait {
        0 => {}
        1 => said.push("One that is being filled in now will wait for it too.".into()),
        n => said.push(format!("{n} that are being filled in now will wait for it too.")),
    }
    said.join(" ")
}

/// `POST /office/events/{id}/who`.
pub(crate) async fn save_who(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    match sheet::set_booking(&at.app.desk, &at.staff, EventId(id), form(&posted)).await {
        Ok(done) => who_page(&at, id, None, followed(done), Vec::new()).await,
        Err(DeskError::Freed { bookings }) => {
            let d = Some(Fields::posted(&posted, &[]));
            who_page(&at, id, d, String::new(), freed(bookings)).await
        }
        Err(error) => {
            let d = Fields::again(&posted, error)?;
            who_page(&at, id, Some(d), String::new(), Vec::new()).await
        }
    }
}

#[derive(Template)]
#[template(path = "office/told.html")]
struct Told {
    f: Frame,
    tab: &'static str,
    id: i64,
    bookings: u32,
    title: String,
    rows: Vec<(String, String, String, &'static str, String, String)>,
}

/// `GET /office/events/{id}/told`: who is told that something moved or was called off.
pub(crate) async fn told(at: Clerk, Path(id): Path<i64>) -> Result<Response, WebError> {
    let told = sheet::told(&at.app.desk, &at.staff, EventId(id)).await?;
    let now = at.app.desk.clock.now();
    let f = at.frame("People told", &told.house.name).in_room("events");
    html(&Told {
        f,
        tab: "told",
        id,
        bookings: told.bookings,
        title: told.event.title,
        rows: told
            .rows
            .into_iter()
            .map(|(m, reference, name)| {
                let when = m
                    .sent_at
                    .map_or_else(String::new, |at| words::moment(at, &told.house.zone, now));
                (reference, name, m.address, m.kind.word(), m.state, when)
            })
            .collect(),
    })
}

/// `POST /office/events/{id}/pattern`: saved as a starting point.
pub(crate) async fn save_pattern(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    patterns::save(&at.app.desk, &at.staff, EventId(id), form(&posted)).await?;
    Ok(Redirect::to("/office/events/new").into_response())
}

/// `POST /office/events/{id}/publish-at`.
pub(crate) async fn publish_at(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let outcome = sheet::publish_at(&at.app.desk, &at.staff, EventId(id), form(&posted)).await;
    let wrong: Vec<Wrong> = match outcome {
        Ok(()) => return Ok(Redirect::to(&format!("/office/events/{id}")).into_response()),
        Err(error) => wrong(error)?,
    };
    let s = sheet::settings(&at.app.desk, &at.staff, EventId(id)).await?;
    let f = frame(&at, &s);
    let d = Fields::posted(&posted, &wrong);
    refused(StatusCode::UNPROCESSABLE_ENTITY, &PublishAgain { f, id, d })
}

#[derive(Template)]
#[template(path = "office/publish_at.html")]
struct PublishAgain {
    f: Frame,
    id: i64,
    d: Fields,
}

/// `POST /office/events/{id}/tests`: test bookings are cleared.
pub(crate) async fn clear_tests(
    at: Clerk,
    Path(id): Path<i64>,
    _posted: Posted,
) -> Result<Response, WebError> {
    let done = trying::clear_tests(&at.app.desk, &at.staff, EventId(id)).await?;
    let (gone, kept, back) = (done.gone, done.kept, done.back_minor);
    let to = format!("/office/events/{id}?cleared={gone}&kept={kept}&back={back}");
    Ok(Redirect::to(&to).into_response())
}

/// `POST /office/events/{id}/programme`: publishes a draft, or takes it back.
pub(crate) async fn show_in_programme(
    at: Clerk,
    Path(id): Path<i64>,
    posted: Posted,
) -> Result<Response, WebError> {
    let shown = posted.get("shown") == "yes";
    events::show_in_programme(&at.app.desk, &at.staff, EventId(id), shown).await?;
    Ok(Redirect::to(&format!("/office/events/{id}")).into_response())
}
