//! The page where a booking's money is waited for, and the ways to pay it.

use askama::Template;
use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use matricle_core::booking::State as BookingState;
use matricle_desk::DeskError;
use matricle_desk::bookings::pay;
use matricle_desk::bookings::whole::{self, WholeBooking};
use matricle_desk::money::documents;
use matricle_formats::{barcode, words};
use matricle_store::payments::PaymentState;

use crate::App;
use crate::error::WebError;
use crate::page::Frame;
use crate::parts::files::square_svg;
use crate::parts::places::address;
use crate::programme::at::At;
use crate::programme::refused::{Refused, TakeBack};
use crate::programme::summary::{Summary, summary};

/// What is typed into a transfer, the payment QR code as SVG (may be empty), until when the
/// seats are kept for it.
struct Transfer {
    lines: Vec<(String, String)>,
    code: String,
    /// For programs that open a transfer by its address (`payto:`, RFC 8905).
    payto: String,
    until: String,
}

/// The ways to pay what a booking owes.
#[derive(Template)]
#[template(path = "programme/ways.html")]
pub(crate) struct Ways {
    address: String,
    token: String,
    pub(super) due: String,
    declined: bool,
    /// Seats are kept until it is paid; else they are the booker's, and the rest is owed.
    awaiting: bool,
    /// The way to pay by transfer is open: what to type, a QR code, until when.
    transfer: Option<Transfer>,
    /// It can be paid by card.
    by_card: bool,
    /// Whom to write to where there is no way to pay here.
    write_to: String,
    /// The house takes transfers, and there is time for one.
    may_transfer: bool,
    /// Nobody has proved the address yet, and a transfer asks for that.
    asks_number: bool,
    invoice: Option<String>,
    /// Stamps that would pay it, and what for; what was typed as a card, and why it does not pay.
    stamps: Option<String>,
    card: String,
    card_problem: Option<String>,
    /// The address is to be proved before seats are kept for a transfer: it, and why.
    pub(super) unproved: Option<(String, String)>,
}

impl Ways {
    /// `card` is what was typed as a stamp card and why it does not pay.
    pub(super) fn of(
        app: &App,
        sheet: &WholeBooking,
        token: String,
        card: Option<(String, String)>,
    ) -> Self {
        let now = app.desk.clock.now();
        let booking = &sheet.booking;
        let awaiting = booking.state == BookingState::AwaitingPayment;
        let chosen = !awaiting || !sheet.documents.is_empty();
        let until = booking
            .deadline
            .map_or_else(String::new, |d| words::deadline(d, &sheet.house.zone, now));
        let lines = documents::transfer_lines(&sheet.house, booking);
        let own = address(app, booking.reference);
        let (card, card_problem) = card.map_or_else(Default::default, |(c, p)| (c, Some(p)));
        Self {
            transfer: (chosen && !lines.is_empty()).then(|| Transfer {
                lines,
                code: barcode::text_qr(&documents::qr_text(&sheet.house, booking))
                    .map_or_else(String::new, |c| square_svg(&c, "Payment QR code")),
                payto: documents::payto(&sheet.house, booking),
                until,
            }),
            may_transfer: !chosen && pay::transfer_until(&sheet.house, &sheet.date, now).is_some(),
            asks_number: booking.buyer.address.is_empty(),
            by_card: app.desk.provider.is_there(),
            write_to: sheet.house.email.clone(),
            invoice: sheet.documents.last().map(|d| format!("{own}/papers/{}", d.id)),
            address: own,
            token,
            due: booking.due().to_string(),
            declined: sheet.payments.last().is_some_and(|p| p.state == PaymentState::Declined),
            awaiting,
            stamps: (sheet.stamps.0 > 0).then(|| {
                let amount = booking.total.currency.of(sheet.stamps.1);
                format!("{} for {amount}", words::count(sheet.stamps.0, "stamps"))
            }),
            card,
            card_problem,
            unproved: None,
        }
    }
}

/// Waiting for the money.
#[derive(Template)]
#[template(path = "programme/pay.html")]
struct Pay {
    f: Frame,
    summary: Summary,
    ways: Ways,
    undo: TakeBack,
    address: String,
    may_change: bool,
    /// Seats are waited for, not only stamp cards.
    seats: bool,
}

/// The page where the money is waited for, with what was refused.
pub(crate) fn pay_page(
    app: &App,
    f: Frame,
    sheet: &WholeBooking,
    refused: Option<Refused>,
    notice: Option<String>,
) -> impl Template {
    let token = f.token.clone();
    let (mut card, mut problem, mut unproved) = (None, None, None);
    match refused {
        Some(Refused::Card(typed, why)) => card = Some((typed, why)),
        Some(Refused::Undo(why) | Refused::Sessions(_, why) | Refused::Address(_, why)) => {
            problem = Some(why)
        }
        Some(Refused::Unproved(to_prove)) => unproved = Some(to_prove),
        None => {}
    }
    let mut summary = summary(app, sheet, token.clone(), app.desk.clock.now());
    summary.notice = notice.or(summary.notice);
    let begun = sheet.date.span.starts_at <= app.desk.clock.now();
    Pay {
        may_change: !sheet.booking.test && !begun,
        seats: !sheet.attendees.is_empty(),
        address: address(app, sheet.booking.reference),
        undo: TakeBack::of(app, sheet, token.clone(), problem),
        ways: Ways { unproved, ..Ways::of(app, sheet, token, card) },
        summary,
        f,
    }
}

/// `GET …/pay`: on to the card provider's page.
pub(crate) async fn pay(State(app): State<App>, At(reference): At) -> Result<Response, WebError> {
    match pay::pay_url(&app.desk, reference).await {
        Ok(url) => Ok(Redirect::to(&url).into_response()),
        // Paid in another tab, or over: the booking's page says what is so.
        Err(DeskError::Move(_)) => Ok(Redirect::to(&address(&app, reference)).into_response()),
        Err(error) => Err(error.into()),
    }
}

/// `GET …/state`: whether there is something new to show, asked by the waiting page.
pub(crate) async fn state(State(app): State<App>, At(reference): At) -> Result<Response, WebError> {
    let state = whole::state(&app.desk, reference).await?;
    let mut headers = HeaderMap::new();
    if state != BookingState::AwaitingPayment {
        headers.insert("hx-refresh", header::HeaderValue::from_static("true"));
    }
    Ok((headers, Html("")).into_response())
}
