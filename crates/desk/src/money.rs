//! Money that comes and goes: every act is booked in the ledger as it happens, and every
//! change of what a booking is charged is met by a document.

use jiff::Timestamp;
use matricle_core::acting::Acting;
use matricle_core::booking::State;
use matricle_core::documents::{self as papers, Body, Kind as Document};
use matricle_core::ledger::{Account, Entry, Method};
use matricle_core::refund::{over_payments, percent};
use matricle_core::staff::Right;
use matricle_core::transfer::{creditor_reference, epc_text, grouped};
use matricle_formats::words;
use matricle_store::bookings::{self, Booking, Line};
use matricle_store::events::{self, Date, Event};
use matricle_store::house::House;
use matricle_store::payments::{self, Payment};
use matricle_store::people::Staff;
use matricle_store::refunds::{self, NewRefund, Refund};
use matricle_store::{Connection, Tx, documents, ledger};

use crate::acting::Turn;
use crate::checkout::backoff;
use crate::provider::ProviderError;
use crate::timers::{Due, ROUND, Work, each};
use crate::{Desk, DeskError, house_of};

/// Refunds asked for in one round.
/// Tries of a refund at the provider before somebody has to look at it.
const TRIES: u32 = 60;

/// Books money that came for a booking.
pub(crate) fn received(
    tx: &Tx<'_>,
    booking: &Booking,
    method: Method,
    minor: i64,
    turn: &Turn,
) -> Result<(), DeskError> {
    bookings::add_paid(tx, booking.id, minor)?;
    let (to, from) = ((method.account(), 0), (Account::Receivable, booking.id.0));
    book(tx, booking, Entry::move_money(to, from, minor), method.word(), turn)
}

fn book(
    tx: &Tx<'_>,
    booking: &Booking,
    entry: Option<Entry>,
    what: &str,
    turn: &Turn,
) -> Result<(), DeskError> {
    match entry.filter(|_| !booking.test) {
        Some(entry) => {
            Ok(ledger::book(tx, &entry, Some(booking.id), &turn.by.shown(), what, turn.now)?)
        }
        None => Ok(()),
    }
}

/// Money that came and is not wanted: owed back at once.
pub(crate) fn surplus(
    tx: &Tx<'_>,
    booking: &Booking,
    payment: &Payment,
    turn: &Turn,
) -> Result<(), DeskError> {
    let turn = turn.program();
    let (to, from) = ((payment.method.account(), 0), (Account::Refunds, 0));
    let entry = Entry::move_money(to, from, payment.amount_minor);
    book(tx, booking, entry, "not wanted any more", &turn)?;
    open_refund(tx, booking, payment, payment.amount_minor, "not wanted any more", &turn)
}

fn open_refund(
    tx: &Tx<'_>,
    booking: &Booking,
    payment: &Payment,
    minor: i64,
    reason: &str,
    turn: &Turn,
) -> Result<(), DeskError> {
    let (id, who) = (uuid::Uuid::now_v7().to_string(), turn.by.shown());
    let new = NewRefund {
        id: &id,
        payment: &payment.id,
        booking: booking.id,
        minor,
        reason,
        who: &who,
        by_hand: payment.method.by_hand(),
    };
    Ok(refunds::open(tx, &new, turn.now)?)
}

/// Gives back what has been paid beyond what is charged, the way it came; says how much.
/// The booking is read anew.
pub(crate) fn give_back_surplus(
    tx: &Tx<'_>,
    booking: &Booking,
    reason: &str,
    turn: &Turn,
) -> Result<i64, DeskError> {
    let booking = bookings::by_id(tx, booking.id)?.ok_or(DeskError::NotFound)?;
    if booking.paid.minor <= 0 {
        return Ok(0);
    }
    let charged = bookings::charge(tx, booking.id)?.total();
    // A test is charged nothing in the books: what it is asked for while it stands.
    let charged = match booking.test {
        true if booking.state.stands() => booking.total.minor,
        _ => charged,
    };
    let over = booking.paid.minor - charged;
    if over <= 0 {
        return Ok(0);
    }
    let payments = payments::of_booking(tx, booking.id)?;
    let left: Vec<i64> = payments.iter().map(Payment::left).collect();
    let gives = over_payments(over, &left);
    let mut all = 0;
    for (payment, minor) in payments.iter().zip(gives).filter(|(_, minor)| *minor > 0) {
        open_refund(tx, &booking, payment, minor, reason, turn)?;
        all += minor;
    }
    bookings::add_paid(tx, booking.id, -all)?;
    let entry = Entry::move_money((Account::Receivable, booking.id.0), (Account::Refunds, 0), all);
    book(tx, &booking, entry, reason, turn)?;
    if all > 0 {
        let what = format!("{} to be given back: {reason}", booking.total.currency.of(all));
        bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?;
    }
    Ok(all)
}

/// The payer's bank took money back: the booking owes it again.
pub(crate) fn taken_back(
    tx: &Tx<'_>,
    booking: &Booking,
    payment: &Payment,
    turn: &Turn,
) -> Result<(), DeskError> {
    let left = payment.amount_minor - payment.given_minor;
    bookings::add_paid(tx, booking.id, -payment.amount_minor + payment.given_minor)?;
    let (to, from) = ((Account::Receivable, booking.id.0), (Account::Provider, 0));
    book(tx, booking, Entry::move_money(to, from, left), "dispute lost", turn)
}

/// The percent that comes back of a booking cancelled at `now`. `moved_from` is the earliest
/// start of the dates that the booker moved it away from: the steps count from that one, so
/// that moving to a far date first makes nothing of cancelling.
pub(crate) fn percent_back(
    house: &House,
    event: &Event,
    date: &Date,
    moved_from: Option<Timestamp>,
    now: Timestamp,
) -> u32 {
    let steps = event.rules.steps.as_ref().unwrap_or(&house.steps);
    let starts_at = moved_from.map_or(date.span.starts_at, |from| from.min(date.span.starts_at));
    percent(steps, starts_at, !date.called_off.is_empty(), now)
}

/// Money on its way back is asked of the provider.
///
/// # Errors
/// The store fails.
pub(crate) async fn give_refunds(desk: &Desk) -> Result<usize, DeskError> {
    let now = desk.clock.now();
    let due = desk.store.read(move |conn| refunds::due(conn, now, ROUND)).await?;
    let due = due
        .into_iter()
        .map(|(id, booking)| Due { about: id.clone(), booking: Some(booking), row: id })
        .collect();
    each(desk, Work::Refunds, due, 4, |desk, id| async move {
        match desk.store.read(move |conn| refunds::by_id(conn, &id)).await? {
            Some(refund) => give(&desk, refund).await,
            None => Ok(()),
        }
    })
    .await
}

async fn give(desk: &Desk, refund: Refund) -> Result<(), DeskError> {
    let told = match (&refund.provider_id, refund.method) {
        (Some(id), Method::Card) => {
            desk.provider.refund(id, &refund.id, refund.minor).await.map(drop)
        }
        // Stamps go back onto their card without asking anybody.
        (_, Method::Stamps) => Ok(()),
        _ => Err(ProviderError::Unknown),
    };
    let turn = desk.turn(match refund.method {
        Method::Stamps => Acting::program(),
        _ => Acting::provider(),
    });
    desk.store
        .write(move |tx| match told {
            Ok(()) => note_given(tx, &refund, &turn),
            Err(ProviderError::Away(why)) if refund.tries < TRIES => {
                let next = turn.now + backoff(refund.tries);
                Ok(refunds::not_done(tx, &refund.id, &why, Some(next))?)
            }
            Err(error) => {
                let why = error.to_string();
                Ok(refunds::not_done(tx, &refund.id, &why, None)?)
            }
        })
        .await
}

fn note_given(tx: &Tx<'_>, refund: &Refund, turn: &Turn) -> Result<(), DeskError> {
    if !refunds::done(tx, &refund.id, turn.now)? {
        return Ok(());
    }
    let booking = bookings::by_id(tx, refund.booking)?.ok_or(DeskError::NotFound)?;
    if refund.method == Method::Stamps {
        let paid = payments::by_id(tx, &refund.payment)?.map_or(1, |p| p.amount_minor);
        crate::cards::give_back(tx, &booking, refund, paid, turn)?;
    } else {
        let (to, from) = ((Account::Refunds, 0), (refund.method.account(), 0));
        book(tx, &booking, Entry::move_money(to, from, refund.minor), "given back", turn)?;
    }
    let amount = booking.total.currency.of(refund.minor);
    let what = format!("{amount} given back by {}", refund.method.word());
    Ok(bookings::happened(tx, booking.id, turn.now, &turn.by, &what)?)
}

/// Somebody has given money back by hand.
///
/// # Errors
/// The role may not; there is no such refund.
pub async fn given(desk: &Desk, staff: &Staff, refund: String) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::HandleMoney)?;
    desk.store
        .write(move |tx| {
            let refund = refunds::by_id(tx, &refund)?.ok_or(DeskError::NotFound)?;
            note_given(tx, &refund, &turn)
        })
        .await
}

/// Meets what a booking is charged with a document, if that has changed since the last, and
/// what it has paid for with the stamp cards it bought.
///
/// # Errors
/// The store fails.
pub(crate) fn document(tx: &Tx<'_>, booking: &Booking, now: Timestamp) -> Result<(), DeskError> {
    if booking.test {
        return Ok(());
    }
    crate::cards::make_bought(tx, booking.id, now)?;
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
    let lines: Vec<papers::Line> = bookings::lines(tx, &booking)?
        .iter()
        .filter(|_| firm)
        .map(|l| papers::Line {
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

fn what_of(line: &Line) -> String {
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
