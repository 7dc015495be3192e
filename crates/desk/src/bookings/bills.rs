//! Papers of a booking: receipts, invoices and credit notes as PDF.

use matricle_core::Currency;
use matricle_core::words::codes::Reference;
use matricle_formats::{barcode, words};
use matricle_papers::{Bill, BillLine, bill};
use matricle_store::bookings;
use matricle_store::documents::{self, Document};

pub use matricle_papers::without_glyph;

use crate::bench::{self, Takes};
use crate::drawn::paper;
use crate::{Desk, DeskError, house_of};

/// A document of a booking as PDF, and its name.
///
/// # Errors
/// [`DeskError::NotFound`], or the PDF writer refuses.
pub async fn document(
    desk: &Desk,
    reference: Reference,
    id: i64,
) -> Result<(String, Vec<u8>), DeskError> {
    let (document, zone) = desk
        .store
        .read(move |conn| {
            let booking = bookings::by_reference(conn, reference)?.ok_or(DeskError::NotFound)?;
            let found = documents::by_id(conn, booking.id, id)?.ok_or(DeskError::NotFound)?;
            Ok::<_, DeskError>((found, house_of(conn)?.zone))
        })
        .await?;
    bench::unless_busy(Takes::Place, move || Ok((document.name(), draw(&document, &zone)?))).await
}

fn rate(basis: u32) -> String {
    match (basis / 100, basis % 100) {
        (whole, 0) => format!("{whole} %"),
        (whole, part) => format!("{whole}.{part:02} %"),
    }
}

/// Draws a document from what it was issued with.
pub(crate) fn draw(document: &Document, zone: &str) -> Result<Vec<u8>, DeskError> {
    let body = &document.body;
    let currency = Currency::from_letters(&body.currency).unwrap_or(Currency::EUR);
    let figures = |minor: i64| currency.of(minor).column();
    let issued = words::local(document.issued_at, zone);
    let kind = document.kind.word();
    let charge = body.charge();
    let qr = barcode::text_qr(&body.qr);
    let page = Bill {
        house: body.house.clone(),
        seller: body.seller.lines().map(String::from).collect(),
        tax_number: body.tax_number.clone(),
        kind: kind[..1].to_uppercase() + &kind[1..],
        number: document.name(),
        day: words::long_day(issued.date()),
        buyer: body.buyer.clone(),
        title: body.title.clone(),
        when: body.when.clone(),
        about: format!("Booking {}", body.reference),
        corrects: match (body.corrects.as_str(), body.settles) {
            ("", _) => String::new(),
            (invoice, true) => format!("For {invoice}"),
            (earlier, false) => format!("Takes back from {earlier}"),
        },
        currency: body.currency.clone(),
        lines: body
            .lines
            .iter()
            .map(|l| BillLine {
                what: l.what.clone(),
                rate: rate(l.rate),
                amount: figures(l.gross),
            })
            .collect(),
        total: figures(body.total()),
        taxes: charge
            .by_rate
            .iter()
            .map(|(basis, (gross, tax))| {
                [rate(*basis), figures(gross - tax), figures(*tax), figures(*gross)]
            })
            .collect(),
        payment: body.payment.clone(),
        square: qr.map(|q| (q.side, q.dark)),
        transfer: body.transfer.clone(),
    };
    paper(&("bill", &page, document.issued_at), || Ok(bill(&page, document.issued_at)?))
}
