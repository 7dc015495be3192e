//! A booking's page as its booker sees it, for people of the house: nothing on it is made of a key.

use askama::Template;
use axum::extract::Path;
use axum::response::Response;
use matricle_core::booking::State;
use matricle_desk::{messages, office};
use matricle_formats::words;

use crate::error::WebError;
use crate::office::Clerk;
use crate::office::booking::reference_of;
use crate::page::{Frame, html};
use crate::parts::files::qr_svg;
use crate::wording;

/// One of their tickets.
struct Ticket {
    name: String,
    ticket: String,
    code: String,
    qr: String,
}

#[derive(Template)]
#[template(path = "office/as_booker.html")]
struct Page {
    f: Frame,
    /// Where the booking stands at the Office.
    office: String,
    reference: String,
    class: &'static str,
    state: &'static str,
    title: String,
    when: Vec<String>,
    place: String,
    address: String,
    directions: String,
    bring: String,
    after_note: String,
    /// They join online, by links of their own.
    online: bool,
    tickets: Vec<Ticket>,
    lines: Vec<(String, String)>,
    total: String,
    paid: Option<String>,
    due: Option<String>,
    back: Vec<String>,
    /// Receipts, invoices, credit notes: address at the Office, number, kind, amount.
    papers: Vec<(String, String, &'static str, String)>,
    answers: Vec<(String, String)>,
}

/// `GET /office/bookings/{reference}/page`.
pub(crate) async fn page(at: Clerk, Path(reference): Path<String>) -> Result<Response, WebError> {
    let reference = reference_of(&reference)?;
    let sheet = office::booking(&at.app.desk, &at.staff, reference).await?.sheet;
    let (b, date) = (&sheet.booking, &sheet.date);
    let title = format!("Booking {reference}, as its booker sees it");
    let office = format!("/office/bookings/{}", reference.as_str());
    let currency = b.total.currency;
    let confirmed = b.state == State::Confirmed;
    html(&Page {
        f: at.frame(title, &sheet.house.name).in_room("bookings"),
        reference: reference.to_string(),
        class: wording::state_class(b.state),
        state: wording::state(b.state),
        title: sheet.event.title.clone(),
        when: sheet.covers.iter().map(|d| words::long_span(d.span.starts, d.span.ends)).collect(),
        place: date.place(),
        address: date.address.clone(),
        directions: date.directions.clone(),
        bring: sheet.event.bring.clone(),
        after_note: if b.state.stands() { sheet.event.after_note.clone() } else { String::new() },
        online: confirmed && !messages::own_links(&at.app.desk, &sheet).is_empty(),
        tickets: sheet
            .attendees
            .iter()
            .filter(|a| confirmed && !a.cancelled)
            .map(|a| Ticket {
                name: a.name.clone(),
                ticket: a.ticket.clone(),
                code: a.code.to_string(),
                qr: qr_svg(a.code),
            })
            .collect(),
        lines: wording::money_lines(&sheet.lines)
            .into_iter()
            .map(|(what, amount)| (what, amount.to_string()))
            .collect(),
        total: b.total.to_string(),
        paid: (b.paid.minor > 0).then(|| b.paid.to_string()),
        due: b.is_owed().then(|| b.due().to_string()),
        back: sheet
            .refunds
            .iter()
            .map(|r| format!("{} goes back by {}", currency.of(r.minor), r.method.word()))
            .collect(),
        papers: sheet
            .documents
            .iter()
            .map(|d| {
                let href = format!("{office}/documents/{}", d.id);
                (href, d.name(), d.kind.word(), currency.of(d.body.total()).to_string())
            })
            .collect(),
        answers: sheet.answers.iter().map(|a| (a.label.clone(), a.answer.clone())).collect(),
        office,
    })
}
