//! Promo codes: making them, using them while booking.

use matricle_core::fields;
use matricle_core::forms::field::{Field, Several};
use matricle_core::forms::form::{Fault, Form};
use matricle_core::money::promo::{Gives, Promo};
use matricle_core::people::staff::{Right, require};
use matricle_core::{EventId, TicketTypeId};
use matricle_store::people::Staff;
use matricle_store::promos::{self, PromoRow};
use matricle_store::{Connection, events};

use crate::{Desk, DeskError, house_of};

fields! {
    CODE: Line = "code", "Code", "Case, accents and blanks do not matter." needed;
    PERCENT: WholeOrNone(1, 100) = "percent", "Percent off", "Either this …";
    AMOUNT: Amount = "amount", "Amount off", "… or this.";
    MOST: WholeOrNone(1, 1_000_000) = "most", "How often in all";
    ADDRESS: MailAddress = "address", "Only for this address";
    GOOD_FROM: Moment = "good_from", "Good from";
    GOOD_UNTIL: Moment = "good_until", "Good until";
    LEAST: Amount = "least", "Bookings from", "An amount.";
    MOST_BASKET: Amount = "most_basket", "Bookings up to", "An amount.";
    ONCE: Tick = "once", "Once a person";
    ONLY_TICKET: Several = "only_ticket", "Only for these tickets";
    ONLY_DATE: Several = "only_date", "Only for these dates";
    TOGETHER: Tick = "together", "Beside other codes", "percentages first, amounts after";
}

/// What a code of an event can be narrowed to.
#[derive(Debug, Clone, Default)]
pub struct Parts {
    /// Its ticket types.
    pub tickets: Vec<(TicketTypeId, String)>,
    /// Its dates, soonest first.
    pub dates: Vec<events::Date>,
}

fn parts_of(conn: &Connection, event: EventId) -> Result<Parts, DeskError> {
    let rows = events::ticket_rows(conn, event)?;
    Ok(Parts {
        tickets: rows.into_iter().map(|t| (t.id, t.plan.name)).collect(),
        dates: events::dates_of(conn, event)?,
    })
}

/// Tickets and dates of an event, for a code that is for some of them only.
pub async fn parts(desk: &Desk, staff: &Staff, event: EventId) -> Result<Parts, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store.read(move |conn| parts_of(conn, event)).await
}

/// All codes, for the Office, each with what it is narrowed to.
pub async fn all(desk: &Desk, staff: &Staff) -> Result<Vec<(PromoRow, Parts)>, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(|conn| {
            let narrowed = |row: PromoRow| {
                let (tickets, dates) = (&row.promo.tickets, &row.promo.dates);
                let mut parts = match &row.event {
                    Some((event, _)) if !(tickets.is_empty() && dates.is_empty()) => {
                        parts_of(conn, *event)?
                    }
                    _ => Parts::default(),
                };
                parts.tickets.retain(|(id, _)| tickets.contains(id));
                parts.dates.retain(|d| dates.contains(&d.id));
                Ok((row, parts))
            };
            promos::all(conn)?.into_iter().map(narrowed).collect()
        })
        .await
}

/// Makes a code.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn make(
    desk: &Desk,
    staff: &Staff,
    event: Option<EventId>,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::HandleMoney)?;
    desk.store
        .write(move |tx| {
            let house = house_of(tx)?;
            let code = form.take(&CODE);
            if !code.is_empty() && matricle_core::words::fold(&code).is_empty() {
                form.fault(CODE, Fault::NoWord);
            }
            let percent = form.take(&PERCENT);
            let minor = form.amount(AMOUNT.name, house.currency).filter(|m| *m > 0);
            let gives = match (percent, minor) {
                (Some(percent), None) => Gives::Percent(percent),
                (None, Some(minor)) => Gives::Amount(minor),
                _ => {
                    form.fault(PERCENT, Fault::Missing);
                    Gives::Percent(1)
                }
            };
            let mut numbers = |field: &Field<Several>| -> Vec<i64> {
                form.take(field).iter().filter_map(|v| v.parse().ok()).collect()
            };
            let (mut tickets, mut dates) = (numbers(&ONLY_TICKET), numbers(&ONLY_DATE));
            // Ticked for one event, and then another was chosen: that one's are meant.
            let of = event.map(|event| parts_of(tx, event)).transpose()?.unwrap_or_default();
            tickets.retain(|id| of.tickets.iter().any(|(t, _)| t.0 == *id));
            dates.retain(|id| of.dates.iter().any(|d| d.id.0 == *id));
            let address = form.take(&ADDRESS).to_lowercase();
            let promo = Promo {
                id: 0,
                code,
                gives,
                tickets: tickets.into_iter().map(TicketTypeId).collect(),
                dates: dates.into_iter().map(matricle_core::DateId).collect(),
                address,
                most: form.take(&MOST),
                once: form.take(&ONCE),
                from: form.instant(GOOD_FROM.name, &house.zone),
                until: form.instant(GOOD_UNTIL.name, &house.zone),
                least_minor: form.amount(LEAST.name, house.currency),
                most_minor: form.amount(MOST_BASKET.name, house.currency),
                together: form.take(&TOGETHER),
                stopped: false,
            };
            if let (Some(from), Some(until)) = (promo.from, promo.until)
                && until <= from
            {
                form.fault(GOOD_UNTIL, Fault::EndsFirst);
            }
            let wrong = std::mem::take(&mut form.wrong);
            if !wrong.is_empty() {
                return Err(DeskError::Form(wrong));
            }
            if promos::add(tx, &promo, event, turn.now)?.is_none() {
                form.fault(CODE, Fault::Taken);
                return Err(DeskError::Form(form.wrong));
            }
            let what = format!("made the promo code {}", promo.code);
            turn.log(tx, &what, "/office/money/promos")
        })
        .await
}

/// Stops a code, or lets it be used again. Bookings that have it keep it.
pub async fn stop(desk: &Desk, staff: &Staff, id: i64, stopped: bool) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::HandleMoney)?;
    desk.store
        .write(move |tx| {
            promos::stop(tx, id, stopped.then_some(turn.now))?;
            let what =
                if stopped { "stopped a promo code" } else { "let a promo code be used again" };
            turn.log(tx, what, "/office/money/promos")
        })
        .await
}
