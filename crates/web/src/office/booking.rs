//! The sheet of a booking at the Office, and everything that can be done with it.

use askama::Template;
use axum::extract::Path;
use axum::response::Response;
use jiff::Timestamp;
use matricle_core::AttendeeId;
use matricle_core::booking::acts::Act;
use matricle_core::door::Presence;
use matricle_core::money::ledger::Method;
use matricle_core::money::line_worth::is_charged;
use matricle_core::people::acting::Actor;
use matricle_core::people::staff::Right;
use matricle_core::words::codes::Reference;
use matricle_desk::DeskError;
use matricle_desk::bookings::bills;
use matricle_desk::bookings::whole::WholeBooking;
use matricle_desk::bookings::{change, decide, pass_on, phone, taking};
use matricle_desk::door::set_up;
use matricle_desk::office::{self, OfficeBooking};
use matricle_formats::words;
use matricle_store::payments::PaymentState;

use crate::error::WebError;
use crate::office::Clerk;
use crate::office::messages::{self, letters};
use crate::page::{Frame, html};
use crate::parts::fields::Fields;
use crate::parts::files::pdf;
use crate::wording;

/// The letters of names for which no font is here, in a list.
fn boxes<'a>(names: impl Iterator<Item = &'a str>) -> String {
    let mut all: Vec<char> =
        names.flat_map(matricle_desk::bookings::bills::without_glyph).collect();
    all.sort_unstable();
    all.dedup();
    all.iter().map(|c| format!("{c} (U+{:04X})", u32::from(*c))).collect::<Vec<_>>().join(", ")
}

pub(crate) struct AttendeeRow {
    id: i64,
    ticket_no: u32,
    name: String,
    ticket: String,
    code: String,
    presence: String,
    cancelled: bool,
    /// The ticket may be passed on.
    may_pass: bool,
    /// The ticket may be cancelled, by itself.
    may_cancel: bool,
    /// Whoever looks has asked to hear when they come.
    awaited: bool,
    /// What their calendar said; empty for nothing.
    calendar: String,
}

pub(crate) struct MessageRow {
    id: i64,
    kind: String,
    address: String,
    state: &'static str,
    when: String,
    error: Option<String>,
}

pub(crate) struct HappeningRow {
    when: String,
    who: String,
    what: String,
}

/// Money that came or went.
pub(crate) struct MoneyRow {
    when: String,
    what: String,
    amount: String,
    note: String,
    /// The refund that somebody has to give by hand.
    to_give: Option<String>,
}

#[derive(Template)]
#[template(path = "office/booking.html")]
pub(crate) struct Sheet {
    pub(crate) f: Frame,
    pub(crate) reference: String,
    pub(crate) href: String,
    pub(crate) class: &'static str,
    pub(crate) state: &'static str,
    pub(crate) booker: String,
    pub(crate) email: String,
    /// All that is known of the booker.
    pub(crate) person: String,
    pub(crate) phone: String,
    /// Why no mail reaches the booker.
    pub(crate) unreachable: String,
    pub(crate) title: String,
    pub(crate) event_href: String,
    pub(crate) when: String,
    pub(crate) place: String,
    pub(crate) own_page: String,
    /// The secret address of the booker's page, for whoever may change the booking.
    pub(crate) own_address: Option<String>,
    pub(crate) deadline: Option<String>,
    pub(crate) attendees: Vec<AttendeeRow>,
    /// Letters that the tickets show as boxes.
    pub(crate) boxes: String,
    pub(crate) lines: Vec<(String, String)>,
    pub(crate) total: String,
    pub(crate) tax: Option<String>,
    pub(crate) paid: String,
    pub(crate) due: String,
    pub(crate) money: Vec<MoneyRow>,
    pub(crate) documents: Vec<(i64, String, &'static str, String)>,
    /// They do not say who sells.
    pub(crate) no_seller: bool,
    pub(crate) answers: Vec<(String, String)>,
    pub(crate) notes: Vec<HappeningRow>,
    pub(crate) messages: Vec<MessageRow>,
    /// Letters, in order, each with what went out because of it.
    pub(crate) letters: Vec<(letters::LetterRow, Vec<letters::OutRow>)>,
    /// Where stands what will go to whoever booked, and what does not; not for a test.
    pub(crate) goes: Option<String>,
    pub(crate) timeline: Vec<HappeningRow>,
    pub(crate) tickets: Vec<(i64, String)>,
    pub(crate) on_booking: Vec<(i64, String)>,
    pub(crate) dates: Vec<(i64, String)>,
    pub(crate) may: May,
    /// The summary before cancelling, when asked for, and the tickets it is about.
    pub(crate) cancelling: Option<(Vec<String>, Vec<u32>)>,
    /// What was typed and refused.
    pub(crate) d: Fields,
    /// The act that was refused, and why, when it is no field's fault.
    pub(crate) refused: Option<String>,
    /// The act whose form stays open.
    pub(crate) open: String,
}

/// What can be done now, by whoever looks.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct May {
    pub(crate) cancel: bool,
    /// Some of several tickets can be cancelled by themselves.
    pub(crate) cancel_part: bool,
    pub(crate) bring_back: bool,
    pub(crate) reconsider: bool,
    pub(crate) resend: bool,
    pub(crate) take_money: bool,
    pub(crate) give_back: bool,
    pub(crate) price: bool,
    pub(crate) change: bool,
    pub(crate) pass_on: bool,
    pub(crate) put_off: bool,
    pub(crate) note: bool,
    /// Name, address and number of the booker can be put right.
    pub(crate) correct: bool,
    pub(crate) give: bool,
}

impl May {
    pub(crate) fn of(at: &Clerk, loaded: &OfficeBooking) -> Self {
        let (sheet, now) = (&loaded.sheet, at.app.desk.clock.now());
        let clerk = at.staff.role.may(Right::ChangeBookings);
        let money = at.staff.role.may(Right::HandleMoney);
        let may = |act| clerk && sheet.may(act, Actor::Clerk, now);
        Self {
            cancel: may(Act::Cancel),
            cancel_part: clerk
                && sheet.attendees.len() > 1
                && sheet
                    .attendees
                    .iter()
                    .any(|a| sheet.may_cancel_ticket(a.ticket_no, Actor::Clerk, now)),
            bring_back: may(Act::BringBack),
            reconsider: may(Act::Reconsider),
            resend: may(Act::Resend),
            take_money: money && sheet.may(Act::TakeMoney, Actor::Treasurer, now),
            give_back: money
                && sheet.booking.due().minor <= 0
                && sheet.may(Act::GiveBack, Actor::Treasurer, now),
            price: may(Act::Change),
            change: may(Act::Change),
            pass_on: may(Act::PassOn)
                && sheet.attendees.iter().any(|a| !a.cancelled && a.presence == Presence::Expected),
            put_off: may(Act::PutOff),
            note: clerk,
            correct: clerk && !sheet.booking.name.is_empty(),
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
            PaymentState::Withdrawn => "the card payment was not needed any more".into(),
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
        let amount = currency.of(p.amount_minor).column();
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
            amount: currency.of(-r.minor).column(),
            note: note.join(" · "),
            to_give: (r.by_hand && r.done_at.is_none()).then(|| r.id.clone()),
        };
        rows.push((at, row));
    }
    rows.sort_by_key(|(at, _)| *at);
    rows.into_iter().map(|(_, row)| row).collect()
}

pub(crate) fn reference_of(text: &str) -> Result<Reference, WebError> {
    Reference::parse(text).ok_or(WebError::Desk(DeskError::NotFound))
}

fn attendee_rows(
    loaded: &OfficeBooking,
    awaited: &[AttendeeId],
    letters: &letters::OfBooking,
    may: May,
    now: Timestamp,
) -> Vec<AttendeeRow> {
    let sheet = &loaded.sheet;
    let moment = |at| words::moment(at, &sheet.house.zone, now);
    sheet
        .attendees
        .iter()
        .map(|a| AttendeeRow {
            id: a.id.0,
            ticket_no: a.ticket_no,
            name: a.name.clone(),
            ticket: a.ticket.clone(),
            code: a.code.to_string(),
            cancelled: a.cancelled,
            awaited: awaited.contains(&a.id),
            calendar: letters
                .said
                .iter()
                // The booker's calendar speaks for the first of the booking.
                .find(|(person, _)| person.map_or(a.person == 0, |p| p == a.person))
                .map(|(_, said)| said.clone())
                .unwrap_or_default(),
            may_pass: !a.cancelled && a.presence == Presence::Expected,
            may_cancel: may.cancel_part && sheet.may_cancel_ticket(a.ticket_no, Actor::Clerk, now),
            presence: match &a.presence {
                _ if a.cancelled => "ticket cancelled".into(),
                Presence::Expected => "expected".into(),
                Presence::In { at, door } => format!("in, {}, {door}", moment(*at)),
                Presence::Left => "left".into(),
                Presence::Missed => "missed".into(),
            },
        })
        .collect()
}

/// Receipts, invoices and the like: key, name, kind, amount.
fn documents(sheet: &WholeBooking) -> Vec<(i64, String, &'static str, String)> {
    sheet
        .documents
        .iter()
        .map(|doc| {
            let total = sheet.booking.total.currency.of(doc.body.total());
            (doc.id, doc.name(), doc.kind.word(), total.column())
        })
        .collect()
}

/// What was answered, and for whom.
fn answers(sheet: &WholeBooking) -> Vec<(String, String)> {
    sheet
        .answers
        .iter()
        .map(|a| {
            let whose = a.person.and_then(|n| sheet.attendees.get(n)).map(|p| p.name.as_str());
            let label = match whose {
                Some(name) if !name.is_empty() => format!("{name}: {}", a.label),
                _ => a.label.clone(),
            };
            (label, a.answer.clone())
        })
        .collect()
}

fn message_rows(loaded: &OfficeBooking, moment: &impl Fn(Timestamp) -> String) -> Vec<MessageRow> {
    loaded
        .messages
        .iter()
        .map(|found| (&found.message, found))
        .map(|(m, found)| MessageRow {
            id: m.id.0,
            kind: messages::what(found),
            address: if m.address.is_empty() { m.way.word().into() } else { m.address.clone() },
            state: m.state.word(),
            when: moment(m.sent_at.unwrap_or(m.planned_at)),
            error: m.last_error.clone(),
        })
        .collect()
}

pub(crate) async fn load(at: &Clerk, reference: &str) -> Result<Sheet, WebError> {
    let reference = reference_of(reference)?;
    let loaded = office::booking(&at.app.desk, &at.staff, reference).await?;
    let awaited = set_up::awaited(&at.app.desk, &at.staff, reference).await?;
    let letters = letters::of_booking(at, reference).await?;
    let sheet = &loaded.sheet;
    let (now, may) = (at.app.desk.clock.now(), May::of(at, &loaded));
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
        person: crate::address::person(&b.email),
        phone: b.phone.clone(),
        unreachable: sheet.refused.clone().unwrap_or_default(),
        title: sheet.event.title.clone(),
        event_href: format!("/office/events/{}", sheet.event.id),
        when: words::span(span.starts, span.ends, today),
        place: sheet.date.place(),
        own_page: format!("/office/bookings/{}/page", b.reference.as_str()),
        // Whoever may change the booking can do all that its address opens.
        own_address: at
            .staff
            .role
            .may(Right::ChangeBookings)
            .then(|| at.app.desk.booking_url(b.reference)),
        deadline: b.deadline.map(moment),
        boxes: boxes(sheet.attendees.iter().map(|a| a.name.as_str())),
        attendees: attendee_rows(&loaded, &awaited, &letters, may, now),
        lines: wording::money_lines(&sheet.lines)
            .into_iter()
            .map(|(what, amount)| (what, amount.column()))
            .collect(),
        total: b.total.column(),
        tax: (tax > 0).then(|| b.total.currency.of(tax).column()),
        paid: b.paid.column(),
        due: if charged { b.due().column() } else { b.total.currency.of(0).column() },
        money: money_rows(&loaded, &moment),
        no_seller: sheet.house.seller.is_empty(),
        documents: documents(sheet),
        answers: answers(sheet),
        notes: loaded.notes.iter().map(|n| row((n.at, n.who.clone(), &n.text))).collect(),
        goes: (!b.test).then(|| {
            let (event, date) = (sheet.event.id, sheet.date.id);
            format!("/office/events/{event}/goes?date={date}&q={}", b.reference)
        }),
        letters: letters.letters,
        messages: message_rows(&loaded, &moment),
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
        may,
        cancelling: None,
        d: Fields::of([
            (taking::AMOUNT.name, if charged { b.due().figures() } else { String::new() }),
            (phone::BOOKER_NAME.name, b.name.clone()),
            (phone::BOOKER_EMAIL.name, b.email.clone()),
            (phone::PHONE.name, b.phone.clone()),
        ]),
        refused: None,
        open: String::new(),
    })
}

/// `GET /office/bookings/{reference}`: the sheet of a booking.
pub(crate) async fn sheet(at: Clerk, Path(reference): Path<String>) -> Result<Response, WebError> {
    html(&load(&at, &reference).await?)
}

/// `GET /office/bookings/{reference}/documents/{id}`: a receipt, invoice or credit note.
pub(crate) async fn document(
    at: Clerk,
    Path((reference, id)): Path<(String, i64)>,
) -> Result<Response, WebError> {
    let reference = reference_of(&reference)?;
    office::booking(&at.app.desk, &at.staff, reference).await?;
    let (name, bytes) = bills::document(&at.app.desk, reference, id).await?;
    Ok(pdf(&name, bytes))
}

/// Methods that somebody at the house takes money by.
const BY_HAND: [Method; 3] = [Method::Transfer, Method::Cash, Method::CardHere];

impl Sheet {
    pub(crate) fn methods(&self) -> [&'static str; 3] {
        BY_HAND.map(Method::word)
    }
}
