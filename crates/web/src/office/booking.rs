//! The sheet of a booking at the Office, and everything that can be done with it.

use askama::Template;
use axum::extract::{Path, Query};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use jiff::Timestamp;
use matricle_core::acting::Actor;
use matricle_core::acts::Act;
use matricle_core::codes::Reference;
use matricle_core::door::Presence;
use matricle_core::ledger::Method;
use matricle_core::seats::Wanted;
use matricle_core::staff::Right;
use matricle_core::worth::is_charged;
use matricle_core::{AttendeeId, DateId, TicketTypeId};
use matricle_desk::bookings::cancel;
use matricle_desk::bookings::cancel::By;
use matricle_desk::bookings::{change, decide, move_date, papers, pass_on, taking};
use matricle_desk::money::refunds;
use matricle_desk::office::OfficeBooking;
use matricle_desk::{DeskError, office};
use matricle_formats::words;
use matricle_store::payments::PaymentState;

use super::Clerk;
use super::fields::{Fields, form};
use crate::error::WebError;
use crate::guard::Posted;
use crate::page::{Frame, html, refused};
use crate::wording;

/// The letters of names for which no font is here, in a list.
fn boxes<'a>(names: impl Iterator<Item = &'a str>) -> String {
    let mut all: Vec<char> =
        names.flat_map(matricle_desk::bookings::papers::without_glyph).collect();
    all.sort_unstable();
    all.dedup();
    all.iter().map(|c| format!("{c} (U+{:04X})", u32::from(*c))).collect::<Vec<_>>().join(", ")
}

struct AttendeeRow {
    id: i64,
    ticket_no: u32,
    name: String,
    ticket: String,
    code: String,
    presence: String,
    cancelled: bool,
    /// The ticket may be passed on.
    may_pass: bool,
}

struct MessageRow {
    kind: &'static str,
    address: String,
    state: String,
    when: String,
    error: Option<String>,
}

struct HappeningRow {
    when: String,
    who: String,
    what: String,
}

/// Money that came or went.
struct MoneyRow {
    when: String,
    what: String,
    amount: String,
    note: String,
    /// The refund that somebody has to give by hand.
    to_give: Option<String>,
}

#[derive(Template)]
#[template(path = "office/booking.html")]
struct Sheet {
    f: Frame,
    reference: String,
    href: String,
    class: &'static str,
    state: &'static str,
    booker: String,
    email: String,
    title: String,
    event_href: String,
    when: String,
    place: String,
    own_page: String,
    deadline: Option<String>,
    attendees: Vec<AttendeeRow>,
    /// Letters that the tickets show as boxes.
    boxes: String,
    lines: Vec<(String, String)>,
    total: String,
    tax: Option<String>,
    paid: String,
    due: String,
    money: Vec<MoneyRow>,
    documents: Vec<(i64, String, &'static str, String)>,
    answers: Vec<(String, String)>,
    notes: Vec<HappeningRow>,
    messages: Vec<MessageRow>,
    timeline: Vec<HappeningRow>,
    tickets: Vec<(i64, String)>,
    on_booking: Vec<(i64, String)>,
    dates: Vec<(i64, String)>,
    may: May,
    /// The summary before cancelling, when asked for, and the tickets it is about.
    cancelling: Option<(Vec<String>, Vec<u32>)>,
    /// What was typed and refused.
    d: Fields,
    /// The act that was refused, and why, when it is no field's fault.
    refused: Option<String>,
    /// The act whose form stays open.
    open: String,
}

/// What can be done now, by whoever looks.
#[derive(Debug, Clone, Copy, Default)]
struct May {
    cancel: bool,
    bring_back: bool,
    reconsider: bool,
    resend: bool,
    take_money: bool,
    price: bool,
    change: bool,
    pass_on: bool,
    put_off: bool,
    note: bool,
    give: bool,
}

impl May {
    fn of(at: &Clerk, loaded: &OfficeBooking) -> Self {
        let (sheet, now) = (&loaded.sheet, at.app.desk.clock.now());
        let clerk = at.staff.role.may(Right::ChangeBookings);
        let money = at.staff.role.may(Right::HandleMoney);
        let may = |act| clerk && sheet.may(act, Actor::Clerk, now);
        Self {
            cancel: may(Act::Cancel),
            bring_back: may(Act::BringBack),
            reconsider: may(Act::Reconsider),
            resend: may(Act::Resend),
            take_money: money && sheet.may(Act::TakeMoney, Actor::Treasurer, now),
            price: may(Act::Change),
            change: may(Act::Change),
            pass_on: may(Act::PassOn),
            put_off: may(Act::PutOff),
            note: clerk,
            give: money,
        }
    }
}

fn money_rows(loaded: &OfficeBooking, moment: &impl Fn(Timestamp) -> String) -> Vec<MoneyRow> {
    let currency = loaded.sheet.booking.total.currency;
    let mut rows: Vec<(Timestamp, MoneyRow)> = Vec::new();
    for p in &loaded.sheet.payments {
        let at = p.settled_at.unwrap_or(p.made_at);
        let what = match p.state {
            PaymentState::Paid => format!("paid by {}", p.method.word()),
            PaymentState::Open => "asked for by card, not paid yet".into(),
            PaymentState::Declined => "the card was declined".into(),
            PaymentState::Withdrawn => "the payment was called back".into(),
            PaymentState::Surplus => "came and was not wanted".into(),
        };
        let mut note = vec![p.who.clone(), p.note.clone()];
        if p.fee_minor > 0 {
            note.push(format!("the provider kept {}", currency.of(p.fee_minor)));
        }
        if !p.dispute.is_empty() {
            note.push(format!("disputed by the payer’s bank: {}", p.dispute));
        }
        note.retain(|n| !n.is_empty());
        let amount = currency.of(p.amount_minor).figures();
        let row =
            MoneyRow { when: moment(at), what, amount, note: note.join(" · "), to_give: None };
        rows.push((at, row));
    }
    for r in &loaded.sheet.refunds {
        let at = r.done_at.unwrap_or(r.made_at);
        let what = match (r.done_at, r.by_hand) {
            (Some(_), _) => format!("given back by {}", r.method.word()),
            (None, true) => format!("to be given back by {}", r.method.word()),
            (None, false) => "on its way back by card".into(),
        };
        let mut note = vec![r.reason.clone()];
        note.extend(r.last_error.clone());
        let row = MoneyRow {
            when: moment(at),
            what,
            amount: currency.of(-r.minor).figures(),
            note: note.join(" · "),
            to_give: (r.by_hand && r.done_at.is_none()).then(|| r.id.clone()),
        };
        rows.push((at, row));
    }
    rows.sort_by_key(|(at, _)| *at);
    rows.into_iter().map(|(_, row)| row).collect()
}

fn reference_of(text: &str) -> Result<Reference, WebError> {
    Reference::parse(text).ok_or(WebError::Desk(DeskError::NotFound))
}

async fn load(at: &Clerk, reference: &str) -> Result<Sheet, WebError> {
    let reference = reference_of(reference)?;
    let loaded = office::booking(&at.app.desk, &at.staff, reference).await?;
    let sheet = &loaded.sheet;
    let now = at.app.desk.clock.now();
    let (b, zone) = (&sheet.booking, &sheet.house.zone);
    let moment = |at| words::moment(at, zone, now);
    let span = &sheet.date.span;
    let today = words::local(now, &span.zone).date();
    let f = at.frame(format!("Booking {}", b.reference), &sheet.house.name).in_room("bookings");
    let tax: i64 = sheet.lines.iter().map(|l| l.tax.minor).sum();
    let charged = is_charged(b.state, false);
    let row = |(at, who, what): (Timestamp, String, &str)| HappeningRow {
        when: moment(at),
        who,
        what: what.to_owned(),
    };
    Ok(Sheet {
        f,
        reference: b.reference.to_string(),
        href: format!("/office/bookings/{}", b.reference.as_str()),
        class: wording::state_class(b.state),
        state: wording::state(b.state),
        booker: if b.booker().is_empty() { "No name yet".into() } else { b.booker().into() },
        email: b.email.clone(),
        title: sheet.event.title.clone(),
        event_href: format!("/office/events/{}", sheet.event.id),
        when: words::span(span.starts, span.ends, today),
        place: sheet.date.place(),
        own_page: crate::programme::booking::address(&at.app, b.reference),
        deadline: b.deadline.map(moment),
        boxes: boxes(sheet.attendees.iter().map(|a| a.name.as_str())),
        attendees: sheet
            .attendees
            .iter()
            .map(|a| AttendeeRow {
                id: a.id.0,
                ticket_no: a.ticket_no,
                name: a.name.clone(),
                ticket: a.ticket.clone(),
                code: a.code.to_string(),
                cancelled: a.cancelled,
                may_pass: !a.cancelled && a.presence == Presence::Expected,
                presence: match &a.presence {
                    _ if a.cancelled => "ticket cancelled".into(),
                    Presence::Expected => "expected".into(),
                    Presence::In { at, door } => format!("in, {}, {door}", moment(*at)),
                    Presence::Left => "left".into(),
                    Presence::Missed => "missed".into(),
                },
            })
            .collect(),
        lines: wording::money_lines(&sheet.lines)
            .into_iter()
            .map(|(what, amount)| (what, amount.figures()))
            .collect(),
        total: b.total.figures(),
        tax: (tax > 0).then(|| b.total.currency.of(tax).figures()),
        paid: b.paid.figures(),
        due: if charged { b.due().figures() } else { b.total.currency.of(0).figures() },
        money: money_rows(&loaded, &moment),
        documents: sheet
            .documents
            .iter()
            .map(|doc| {
                let total = b.total.currency.of(doc.body.total());
                (doc.id, doc.name(), doc.kind.word(), total.figures())
            })
            .collect(),
        answers: sheet.answers.iter().map(|a| (a.label.clone(), a.answer.clone())).collect(),
        notes: loaded.notes.iter().map(|n| row((n.at, n.who.clone(), &n.text))).collect(),
        messages: loaded
            .messages
            .iter()
            .map(|m| MessageRow {
                kind: m.kind.word(),
                address: m.address.clone(),
                state: m.state.clone(),
                when: moment(m.sent_at.unwrap_or(m.planned_at)),
                error: m.last_error.clone(),
            })
            .collect(),
        timeline: sheet
            .timeline
            .iter()
            .rev()
            .map(|h| row((h.at, h.who.shown(), &h.what)))
            .collect(),
        tickets: loaded
            .tickets
            .iter()
            .map(|t| {
                let price = b.total.currency.of(t.plan.minor);
                (t.id.0, format!("{}, {price}", t.plan.name))
            })
            .collect(),
        on_booking: sheet.lines.iter().map(|l| (l.ticket.0, l.name.clone())).collect(),
        dates: if sheet.event.course {
            Vec::new()
        } else {
            loaded
                .other_dates
                .iter()
                .map(|d| (d.id.0, words::span(d.span.starts, d.span.ends, today)))
                .collect()
        },
        may: May::of(at, &loaded),
        cancelling: None,
        d: Fields::of([("amount", if charged { b.due().figures() } else { String::new() })]),
        refused: None,
        open: String::new(),
    })
}

/// `GET /office/bookings/{reference}`: the sheet of a booking.
pub(crate) async fn sheet(at: Clerk, Path(reference): Path<String>) -> Result<Response, WebError> {
    html(&load(&at, &reference).await?)
}

/// Tickets by their numbers on the booking, and a percentage that is given back.
#[derive(Debug, serde::Deserialize)]
pub(crate) struct Chosen {
    #[serde(default)]
    percent: String,
}

/// Numbers of tickets ticked in an address: `ticket=0&ticket=2`.
fn numbers(query: &str) -> Vec<u32> {
    query.split('&').filter_map(|p| p.strip_prefix("ticket=")?.parse().ok()).collect()
}

/// `GET …/cancel`: what cancelling will do, before it is done: mail and money cannot be
/// called back.
pub(crate) async fn before_cancelling(
    at: Clerk,
    Path(reference): Path<String>,
    uri: axum::http::Uri,
    Query(Chosen { percent }): Query<Chosen>,
) -> Result<Response, WebError> {
    let mut page = load(&at, &reference).await?;
    if page.may.cancel {
        let numbers = numbers(uri.query().unwrap_or_default());
        let own = percent.parse().ok();
        let by = By::Staff(at.staff.clone(), own);
        let reference = reference_of(&reference)?;
        let plan = cancel::preview(&at.app.desk, by, reference, numbers.clone()).await?;
        let seats = u32::try_from(plan.people.len()).unwrap_or(0);
        let mut what = vec![if plan.whole {
            "All seats come free at once, and the tickets are refused at the door.".to_owned()
        } else {
            format!(
                "The tickets of {} die; {} free at once.",
                plan.people.join(", "),
                if seats == 1 { "the seat comes" } else { "the seats come" }
            )
        }];
        if !plan.back.is_zero() {
            what.push(format!("{} goes back, the way it came.", plan.back));
        }
        if !plan.forgiven.is_zero() {
            what.push(format!("{} is no longer asked for.", plan.forgiven));
        }
        if !plan.kept.is_zero() && plan.whole {
            what.push(format!(
                "{} stays with the house: the cancellation steps give {} % back.",
                plan.kept, plan.percent
            ));
        }
        what.push(if page.email.is_empty() {
            "Nobody is told: the booking has no address.".into()
        } else {
            format!("A mail tells {} ({}).", page.booker, page.email)
        });
        page.d.set("percent", plan.percent.to_string());
        page.cancelling = Some((what, numbers));
    }
    html(&page)
}

/// `POST …/cancel`.
pub(crate) async fn cancel(
    at: Clerk,
    Path(reference): Path<String>,
    posted: Posted,
) -> Result<Response, WebError> {
    let reference = reference_of(&reference)?;
    let numbers = posted.starting("ticket").filter_map(|(_, n)| n.parse().ok()).collect();
    let by = By::Staff(at.staff.clone(), posted.get("percent").parse().ok());
    match cancel::cancel(&at.app.desk, by, reference, numbers).await {
        // A double click finds it cancelled: the sheet says so.
        Ok(_) | Err(DeskError::Move(_)) => {
            Ok(Redirect::to(&format!("/office/bookings/{}", reference.as_str())).into_response())
        }
        Err(error) => Err(error.into()),
    }
}

async fn done(
    at: &Clerk,
    reference: Reference,
    act: &str,
    posted: &Posted,
) -> Result<(), DeskError> {
    let (desk, staff) = (&at.app.desk, &at.staff);
    let by = || By::Staff(staff.clone(), None);
    let number = |name: &str| posted.get(name).parse::<i64>().unwrap_or(0);
    match act {
        "yes" => {
            let zone = desk.house().await?.zone;
            let mut until = form(posted);
            let until = until.instant("until", &zone);
            decide::approve(desk, staff, reference, until).await
        }
        "no" => {
            let reason = matricle_core::text::line(posted.get("reason"));
            decide::decline(desk, staff, reference, reason).await
        }
        "back" => decide::bring_back(desk, staff, reference).await,
        "reconsider" => decide::reconsider(desk, staff, reference).await,
        "resend" => change::resend(desk, staff, reference).await,
        "note" => change::note(desk, staff, reference, form(posted)).await,
        "money" => taking::take_money(desk, staff, reference, form(posted)).await,
        "price" => change::set_price(desk, staff, reference, form(posted)).await,
        "given" => refunds::given(desk, staff, posted.get("refund").to_owned()).await,
        "pass" => {
            let attendee = AttendeeId(number("attendee"));
            pass_on::pass_on(desk, by(), reference, attendee, form(posted)).await
        }
        "move" => move_date::move_to(desk, by(), reference, DateId(number("date"))).await,
        "add" => {
            let quantity = u32::try_from(number("quantity").max(0)).unwrap_or(0);
            let wanted = vec![Wanted { ticket: TicketTypeId(number("ticket")), quantity }];
            let names = posted.get("people").lines().map(|l| l.trim().to_owned()).collect();
            change::add_tickets(desk, staff, reference, wanted, names).await
        }
        "swap" => {
            let from = u32::try_from(number("from")).unwrap_or(u32::MAX);
            change::swap_ticket(desk, staff, reference, from, TicketTypeId(number("to"))).await
        }
        "put-off" => {
            let zone = desk.house().await?.zone;
            let mut fields = form(posted);
            let until = fields.instant("until", &zone);
            let until = fields.need("until", until);
            match until {
                Some(until) => decide::put_off(desk, staff, reference, until).await,
                None => Err(DeskError::Form(fields.wrong)),
            }
        }
        _ => Err(DeskError::NotFound),
    }
}

/// `POST /office/bookings/{reference}/{act}`: one change; a refusal comes back beside its
/// field, or as a sentence above the sheet.
pub(crate) async fn act(
    at: Clerk,
    Path((reference, act)): Path<(String, String)>,
    posted: Posted,
) -> Result<Response, WebError> {
    let reference = reference_of(&reference)?;
    let to = format!("/office/bookings/{}", reference.as_str());
    let form = format!("{to}/{act}");
    if !at.app.guards.is_first(&form, &posted) {
        return Ok(Redirect::to(&to).into_response());
    }
    let refusal = match done(&at, reference, &act, &posted).await {
        Ok(()) => return Ok(Redirect::to(&to).into_response()),
        Err(refusal) => refusal,
    };
    at.app.guards.not_done(&form, &posted);
    let mut page = load(&at, reference.as_str()).await?;
    let mut status = StatusCode::UNPROCESSABLE_ENTITY;
    match refusal {
        DeskError::Form(wrong) => page.d = Fields::posted(&posted, &wrong),
        DeskError::Choice(refusal) => {
            let loaded = office::booking(&at.app.desk, &at.staff, reference).await?;
            page.refused = Some(wording::choice(&refusal, &wording::ticket_names(&loaded.tickets)));
            page.d = Fields::posted(&posted, &[]);
            status = StatusCode::CONFLICT;
        }
        DeskError::Move(refusal) => {
            page.refused = Some(format!(
                "The booking is {}, and that cannot be done with it now. Somebody else may have been here.",
                wording::state(refusal.state)
            ));
            status = StatusCode::CONFLICT;
        }
        other => return Err(other.into()),
    }
    page.open = act;
    refused(status, &page)
}

/// `GET /office/bookings/{reference}/documents/{id}`: a receipt, invoice or credit note.
pub(crate) async fn document(
    at: Clerk,
    Path((reference, id)): Path<(String, i64)>,
) -> Result<Response, WebError> {
    let reference = reference_of(&reference)?;
    office::booking(&at.app.desk, &at.staff, reference).await?;
    let (name, bytes) = papers::document(&at.app.desk, reference, id).await?;
    Ok(pdf(&name, bytes))
}

/// A PDF that opens in the browser under a name.
pub(crate) fn pdf(name: &str, bytes: Vec<u8>) -> Response {
    let headers = [
        (header::CONTENT_TYPE, "application/pdf".to_owned()),
        (header::CONTENT_DISPOSITION, format!("inline; filename=\"{name}.pdf\"")),
        (header::CACHE_CONTROL, "private, no-store".to_owned()),
    ];
    (headers, bytes).into_response()
}

/// Methods that somebody at the house takes money by.
const BY_HAND: [Method; 3] = [Method::Transfer, Method::Cash, Method::CardHere];

impl Sheet {
    fn methods(&self) -> [&'static str; 3] {
        BY_HAND.map(Method::word)
    }
}
