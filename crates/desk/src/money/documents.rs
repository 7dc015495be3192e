//! Receipts, invoices and credit notes: each change of what a booking is charged is met by one.

use jiff::Timestamp;
use matricle_core::booking::State;
use matricle_core::money::documents as papers;
use matricle_core::money::documents::{Body, Kind as Document};
use matricle_core::money::transfer::{self, creditor_reference, epc_text, grouped};
use matricle_formats::words;
use matricle_store::bookings::{self, Booking, ChargedLine};
use matricle_store::house::House;
use matricle_store::{Connection, Tx, documents, events, payments};

use crate::acting::Turn;
use crate::{DeskError, house_of};

/// Meets what a booking is charged with a document, if that has changed since the last, and
/// what it has paid for with the stamp cards it bought.
pub(crate) fn document(tx: &Tx<'_>, booking: &Booking, turn: &Turn) -> Result<(), DeskError> {
    let now = turn.now;
    if booking.test {
        return Ok(());
    }
    crate::money::cards::make_bought(tx, booking.id, turn)?;
    let charge = bookings::charge(tx, booking.id)?;
    let issued = documents::of_booking(tx, booking.id)?;
    let known = documents::documented(&issued);
    let booking = bookings::by_id(tx, booking.id)?.ok_or(DeskError::NotFound)?;
    if known == charge {
        return settle_invoices(tx, &booking, &issued, now);
    }
    let (event, date) = events::date_by_id(tx, booking.date)?.ok_or(DeskError::NotFound)?;
    let house = house_of(tx)?;
    let change = charge.total() - known.total();
    let kind = match (change < 0, booking.due().minor > 0) {
        (true, _) => Document::CreditNote,
        (false, true) => Document::Invoice,
        (false, false) => Document::Receipt,
    };
    let firm = !charge.by_rate.is_empty();
    let lines: Vec<papers::DocumentLine> = bookings::lines(tx, &booking)?
        .iter()
        .filter(|_| firm)
        .map(|l| papers::DocumentLine {
            what: what_of(l),
            rate: l.tax_basis,
            gross: l.charge.minor,
            tax: l.tax.minor,
        })
        .collect();
    let changed = if change < 0 { "Taken back" } else { "Added" };
    let body = Body {
        currency: house.currency.letters().into(),
        house: house.name.clone(),
        seller: house.seller.clone(),
        tax_number: house.tax_number.clone(),
        buyer: booking.name.clone(),
        title: event.title.clone(),
        when: words::long_span(date.span.starts, date.span.ends),
        reference: booking.reference.to_string(),
        corrects: match (kind, issued.iter().rev().find(|d| d.kind != Document::CreditNote)) {
            (Document::CreditNote, Some(earlier)) => earlier.name(),
            _ => String::new(),
        },
        lines: papers::lines(&known, &lines, changed),
        payment: payment_words(tx, &booking, kind)?,
        qr: if kind == Document::Invoice { qr_text(&house, &booking) } else { String::new() },
        transfer: if kind == Document::Invoice {
            transfer_lines(&house, &booking)
        } else {
            Vec::new()
        },
        settles: false,
    };
    let year = words::local(now, &house.zone).year();
    documents::issue(tx, kind, year, booking.id, &body, now)?;
    Ok(())
}

/// A receipt follows the invoices of a booking once they are paid. It names them, and charges
/// nothing of its own.
fn settle_invoices(
    tx: &Tx<'_>,
    booking: &Booking,
    issued: &[documents::Document],
    now: Timestamp,
) -> Result<(), DeskError> {
    let settled = issued.iter().rposition(|d| d.body.settles).map_or(0, |n| n + 1);
    let open: Vec<_> = issued[settled..].iter().filter(|d| d.kind == Document::Invoice).collect();
    let paid = booking.state == State::Confirmed && booking.due().minor <= 0;
    let Some(last) = open.last().filter(|_| paid) else { return Ok(()) };
    let names: Vec<String> = open.iter().map(|d| d.name()).collect();
    let body = Body {
        corrects: names.join(", "),
        lines: open.iter().flat_map(|d| d.body.lines.clone()).collect(),
        payment: payment_words(tx, booking, Document::Receipt)?,
        qr: String::new(),
        transfer: Vec::new(),
        settles: true,
        ..last.body.clone()
    };
    let year = words::local(now, &house_of(tx)?.zone).year();
    documents::issue(tx, Document::Receipt, year, booking.id, &body, now)?;
    Ok(())
}

fn what_of(line: &ChargedLine) -> String {
    match (line.quantity, line.cancelled) {
        (_, 0) => line.label(),
        (0, gone) => format!("{gone} × {}, cancelled", line.name),
        (_, gone) => format!("{}, and {gone} cancelled", line.label()),
    }
}

fn payment_words(
    conn: &Connection,
    booking: &Booking,
    kind: Document,
) -> Result<String, DeskError> {
    let came: Vec<String> = payments::of_booking(conn, booking.id)?
        .iter()
        .filter(|p| p.state == payments::PaymentState::Paid && p.left() > 0)
        .map(|p| format!("{} by {}", booking.total.currency.of(p.left()), p.method.word()))
        .collect();
    Ok(match kind {
        Document::CreditNote => "What was paid too much goes back the way it came.".into(),
        _ if booking.due().minor > 0 && came.is_empty() => format!("{} to pay.", booking.due()),
        _ if booking.due().minor > 0 => {
            format!("Paid: {}; {} to pay.", came.join(", "), booking.due())
        }
        _ => format!("Paid: {}.", came.join(", ")),
    })
}

/// The text of the payment QR code for what is still to pay; empty when there is none.
#[must_use]
pub fn qr_text(house: &House, booking: &Booking) -> String {
    epc_text(&house.payee(), booking.due(), booking.reference).unwrap_or_default()
}

/// A transfer of what is due as an address for banking programs; empty when the house takes none.
#[must_use]
pub fn payto(house: &House, booking: &Booking) -> String {
    transfer::payto(&house.payee(), booking.due(), booking.reference)
}

/// What a payer types into a transfer; empty when the house takes none.
#[must_use]
pub fn transfer_lines(house: &House, booking: &Booking) -> Vec<(String, String)> {
    let payee = house.payee();
    if !payee.takes_transfers() {
        return Vec::new();
    }
    let mut lines = vec![
        ("To".to_owned(), payee.name.clone()),
        ("IBAN".into(), grouped(&payee.iban.replace(' ', ""))),
    ];
    if !payee.bic.is_empty() {
        lines.push(("BIC".into(), payee.bic.clone()));
    }
    lines.push(("Amount".into(), booking.due().to_string()));
    lines.push(("Reference".into(), grouped(&creditor_reference(booking.reference))));
    lines
}
