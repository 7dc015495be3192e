//! The ticket types of an event.

use jiff::Timestamp;
use matricle_core::dates::schedule::SaleWindow;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::money::price::{self, Early, Group, Odd};
use matricle_core::people::staff::Right;
use matricle_core::{EventId, TicketTypeId};
use matricle_store::cards::{self, CardKind};
use matricle_store::events::{self, NewTicketType};
use matricle_store::people::Staff;
use matricle_store::{Connection, places};

use crate::bookings::confirm::{self, Waiting};
use crate::planning::dates::log;
use crate::planning::sheet::{MOST_INVITED, serve_all};
use crate::{Desk, DeskError, house_of};

/// What is asked about before it is kept: prices that are never paid, or are none of a reduction.
/// Whoever says that they are meant so is believed.
fn ask_about(form: &mut Form, new: &NewTicketType, now: Timestamp) {
    if form.ticked("sure") {
        return;
    }
    for odd in price::odd(new.minor, new.early, new.member, new.group, now) {
        let (field, fault) = match odd {
            Odd::EarlyOver => ("early_until", Fault::Past),
            Odd::EarlyAbove => ("early_price", Fault::TooMuch),
            Odd::MemberAbove => ("member_price", Fault::TooMuch),
            Odd::GroupAbove => ("group_price", Fault::TooMuch),
        };
        form.fault(field, fault);
    }
}

fn read_ticket(
    conn: &Connection,
    id: EventId,
    form: &mut Form,
) -> Result<NewTicketType, DeskError> {
    let house = house_of(conn)?;
    let currency = house.currency;
    let pools = events::pool_kinds(conn, id)?;
    let minor = form.amount("price", currency).unwrap_or(0);
    let early = (form.amount("early_price", currency), form.instant("early_until", &house.zone));
    if early.0.is_some() != early.1.is_some() && form.wrong.is_empty() {
        let missing = if early.0.is_some() { "early_until" } else { "early_price" };
        form.fault(missing, Fault::NeedsOther);
    }
    let group = (form.number("group_from", 2, 100), form.amount("group_price", currency));
    if group.0.is_some() != group.1.is_some() && form.wrong.is_empty() {
        let missing = if group.0.is_some() { "group_price" } else { "group_from" };
        form.fault(missing, Fault::NeedsOther);
    }
    let sale = SaleWindow {
        from: form.instant("sale_from", &house.zone),
        until: form.instant("sale_until", &house.zone),
    };
    if sale.from.zip(sale.until).is_some_and(|(from, until)| until <= from) {
        form.fault("sale_until", Fault::EndsFirst);
    }
    let least = form.number("least", 1, 100).unwrap_or(1);
    let most = form.number("most", 1, 100).unwrap_or(10);
    if most < least {
        form.fault("most", Fault::EndsFirst);
    }
    let tax = form.line("tax");
    // `Courses 9`: a rate that is new is made on the way, once the form is sound.
    let new_rate = form.line("new_rate");
    if !new_rate.is_empty() && crate::planning::rates::read_rate(&new_rate).is_none() {
        form.fault("new_rate", Fault::NotANumber(0, 100));
    }
    if !tax.is_empty() && !places::tax_rates(conn)?.iter().any(|t| t.name == tax) {
        form.fault("tax", Fault::Unknown);
    }
    let card = form.line("card");
    let sold = |k: &CardKind| k.name == card && !k.retired;
    if !card.is_empty() && !cards::kinds(conn)?.iter().any(sold) {
        form.fault("card", Fault::Unknown);
    }
    let card = (!card.is_empty()).then_some(card);
    let draws: Vec<(usize, u32)> = (0..pools.len())
        .filter_map(|i| {
            let seats = form.number(&format!("draw_{i}"), 0, 100)?;
            (seats > 0).then_some((i, seats))
        })
        .collect();
    // Seats that are said to be none are not one.
    if card.is_none() && draws.is_empty() && form.has("draw_0") && !form.get("draw_0").is_empty() {
        form.fault("draw_0", Fault::Missing);
    }
    Ok(NewTicketType {
        name: form.needed("name"),
        note: form.line("note"),
        minor,
        early: early.0.zip(early.1).map(|(minor, until)| Early { minor, until }),
        member: form.amount("member_price", currency),
        group: group.0.zip(group.1).map(|(from, minor)| Group { from, minor }),
        tax: (!tax.is_empty()).then_some(tax),
        sale,
        per_date: form.number("per_date", 0, matricle_core::forms::quick::MOST_SEATS),
        least,
        most,
        // Whoever buys a card buys no seat: what the form says of seats does not count.
        admits: if card.is_some() { 1 } else { form.number("admits", 1, 20).unwrap_or(1) },
        word: form.line("word"),
        members_only: form.ticked("members_only"),
        online: form.ticked("online"),
        invited: form.pasted("invited", MOST_INVITED),
        closed: form.ticked("closed"),
        stamps: form.number("stamps", 1, 100).filter(|_| card.is_none()),
        confirm: confirm::way(form.get("confirm")),
        draws: match (&card, draws.is_empty()) {
            (Some(_), _) => Vec::new(),
            (None, true) => vec![(0, 1)],
            (None, false) => draws,
        },
        card,
    })
}

/// Adds a ticket type, or changes one.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; [`DeskError::Freed`] when
/// bookings wait for a yes that need not any more, until it is said what becomes of them;
/// the role may not.
pub async fn save_ticket(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    ticket: Option<TicketTypeId>,
    mut form: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let now = turn.now;
    let waiting = Waiting::of(&form);
    desk.store
        .write(move |tx| {
            let new = read_ticket(tx, event, &mut form)?;
            let rows = events::ticket_rows(tx, event)?;
            let before = rows.iter().find(|r| Some(r.id) == ticket).map(|r| &r.plan);
            // An early price that was kept when its time was to come stays without a question.
            if before.is_none_or(|b| {
                (&b.early, b.minor, b.member, &b.group)
                    != (&new.early, new.minor, new.member, &new.group)
            }) {
                ask_about(&mut form, &new, now);
            }
            if ticket.is_some_and(|id| rows.iter().all(|r| r.id != id)) {
                return Err(DeskError::NotFound);
            }
            if rows.iter().any(|r| r.plan.name == new.name && Some(r.id) != ticket) {
                form.fault("name", Fault::Taken);
            }
            let place = form.number("place", 1, 200);
            let new_rate = crate::planning::rates::read_rate(form.get("new_rate"));
            form.done().map_err(DeskError::Form)?;
            let mut new = new;
            if let Some(rate) = new_rate {
                if !places::tax_rates(tx)?.iter().any(|t| t.name.eq_ignore_ascii_case(&rate.name)) {
                    places::save_tax_rate(tx, &rate)?;
                    let what = format!("added the tax rate {}", rate.name);
                    turn.log(tx, &what, "/office/house/money")?;
                }
                new.tax = Some(rate.name);
            }
            match ticket {
                Some(id) => {
                    events::set_ticket(tx, event, id, &new)?;
                    if let Some(place) = place {
                        events::set_ticket_place(tx, event, id, index(place))?;
                    }
                }
                None => events::add_ticket(tx, event, &new)?,
            }
            events::changed(tx, event, now)?;
            let act = if ticket.is_some() { "changed" } else { "added" };
            log(tx, event, &turn, &format!("{act} the ticket {}", new.name))?;
            serve_all(tx, event, now)?;
            let event = events::by_id(tx, event)?.ok_or(DeskError::NotFound)?;
            confirm::follow(tx, &event, waiting, &turn).map(drop)
        })
        .await
        .inspect(|()| desk.wake.all())
}

/// A place in a list as people count, from 1, as an index.
pub(crate) const fn index(place: u32) -> usize {
    place.saturating_sub(1) as usize
}

/// Takes a ticket type off; one that is on bookings stays on them.
///
/// # Errors
/// The event has no such ticket; the role may not, or the store fails.
pub async fn drop_ticket(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    ticket: TicketTypeId,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            if events::ticket_rows(tx, event)?.iter().all(|r| r.id != ticket) {
                return Err(DeskError::NotFound);
            }
            events::drop_ticket(tx, event, ticket)?;
            log(tx, event, &turn, "took a ticket off")
        })
        .await
}
