//! Promo codes: making them, using them while booking.

use matricle_core::forms::form::{Fault, Form};
use matricle_core::money::promo::{Gives, Promo};
use matricle_core::people::staff::{Right, require};
use matricle_core::{EventId, TicketTypeId};
use matricle_store::people::Staff;
use matricle_store::promos::{self, PromoRow};
use matricle_store::{Connection, events};

use crate::{Desk, DeskError, house_of};

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
            let code = form.needed("code");
            if !code.is_empty() && matricle_core::words::fold(&code).is_empty() {
                form.fault("code", Fault::NoWord);
            }
            let percent = form.number("percent", 1, 100);
            let minor = form.amount("amount", house.currency).filter(|m| *m > 0);
            let gives = match (percent, minor) {
                (Some(percent), None) => Gives::Percent(percent),
                (None, Some(minor)) => Gives::Amount(minor),
                _ => {
                    form.fault("percent", Fault::Missing);
                    Gives::Percent(1)
                }
            };
            let numbers = |name: &str| -> Vec<i64> {
                form.all(name).iter().filter_map(|v| v.parse().ok()).collect()
            };
            let (mut tickets, mut dates) = (numbers("only_ticket"), numbers("only_date"));
            // Ticked for one event, and then another was chosen: that one's are meant.
            let of = event.map(|event| parts_of(tx, event)).transpose()?.unwrap_or_default();
            tickets.retain(|id| of.tickets.iter().any(|(t, _)| t.0 == *id));
            dates.retain(|id| of.dates.iter().any(|d| d.id.0 == *id));
            let address = form.line("address").to_lowercase();
            if !address.is_empty() && !matricle_core::words::address::is_address(&address) {
                form.fault("address", Fault::NotAnAddress);
            }
            let promo = Promo {
                id: 0,
                code,
                gives,
                tickets: tickets.into_iter().map(TicketTypeId).collect(),
                dates: dates.into_iter().map(matricle_core::DateId).collect(),
                address,
                most: form.number("most", 1, 1_000_000),
                once: form.ticked("once"),
                from: form.instant("good_from", &house.zone),
                until: form.instant("good_until", &house.zone),
                least_minor: form.amount("least", house.currency),
                most_minor: form.amount("most_basket", house.currency),
                together: form.ticked("together"),
                stopped: false,
            };
            if let (Some(from), Some(until)) = (promo.from, promo.until)
                && until <= from
            {
                form.fault("good_until", Fault::EndsFirst);
            }
            let wrong = std::mem::take(&mut form.wrong);
            if !wrong.is_empty() {
                return Err(DeskError::Form(wrong));
            }
            if promos::add(tx, &promo, event, turn.now)?.is_none() {
                form.fault("code", Fault::Taken);
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
