//! The ticket types of an event.

use jiff::Timestamp;
use matricle_core::booking::confirm::Way;
use matricle_core::fields;
use matricle_core::forms::field::{self, Binding, Field, Locale};
use matricle_core::forms::form::{Fault, Form};
use matricle_core::forms::quick::MOST_SEATS;
use matricle_core::money::price::{self, Early, Group, Odd};
use matricle_core::people::staff::Right;
use matricle_core::{EventId, TicketTypeId};
use matricle_store::cards;
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
    if form.ticked(SURE.name) {
        return;
    }
    for odd in price::odd(new.minor, new.early, new.member, new.group, now) {
        let (field, fault) = match odd {
            Odd::EarlyOver => (EARLY_UNTIL.name, Fault::Past),
            Odd::EarlyAbove => (EARLY_PRICE.name, Fault::TooMuch),
            Odd::MemberAbove => (MEMBER_PRICE.name, Fault::TooMuch),
            Odd::GroupAbove => (GROUP_PRICE.name, Fault::TooMuch),
        };
        form.fault(field, fault);
    }
}

fields! {
    NAME: Line = "name", "Name" needed;
    NOTE: Line = "note", "A line of explanation";
    PRICE: Price = "price", "Price";
    DRAW: WholeOrNone(0, 100) = "draw", "Takes";
    MOST: Whole(1, 100) = "most", "Most in one booking";
    EARLY_PRICE: Amount = "early_price", "Early price";
    EARLY_UNTIL: Moment = "early_until", "until";
    MEMBER_PRICE: Amount = "member_price", "Price for members";
    GROUP_FROM: WholeOrNone(2, 100) = "group_from", "In a group from",
        "tickets of it in one booking";
    GROUP_PRICE: Amount = "group_price", "each costs";
    TAX: Choice = "tax", "Tax";
    NEW_RATE: Line = "new_rate", "or a new rate", "Such as Courses 9.";
    ADMITS: Whole(1, 20) = "admits", "People it lets in";
    LEAST: Whole(1, 100) = "least", "Fewest in one booking";
    PER_DATE: WholeOrNone(0, MOST_SEATS) = "per_date", "Most for one date";
    SALE_FROM: Moment = "sale_from", "On sale from";
    SALE_UNTIL: Moment = "sale_until", "On sale until", "Left empty, until the date begins.";
    WORD: Line = "word", "Only with the word", "Hidden from everybody who does not give it.";
    INVITED: PastedAddresses(2, MOST_INVITED) = "invited", "Only for these addresses",
        "One on a line; they sign in by mail. Left empty, for everybody.";
    MEMBERS_ONLY: Tick = "members_only", "For members only";
    ONLINE: Tick = "online", "Its people join online",
        "they get the link and no code for the door";
    CLOSED: Tick = "closed", "Closed by hand";
    STAMPS: WholeOrNone(1, 100) = "stamps", "Stamps it costs",
        "Left empty, stamps are not taken for it.";
    CARD: Choice = "card", "Is it a stamp card?",
        "Then it lets nobody in and takes no seats; the card is made when it is paid.";
    CONFIRM: OneOfOrNone<Way>("as the event says", &[
        (Way::ByItself, "by itself"),
        (Way::AfterYes, "after the organiser’s yes"),
    ]) = "confirm", "Is confirmed";
    PLACE: WholeOrNone(1, 200) = "place", "Place in the order";
    SURE: Tick = "sure", "The prices are meant so";
}

/// The form of a ticket type, of an event that counts so many things.
pub fn form(f: &mut Binding<'_>, ticket: &mut NewTicketType, pools: usize) {
    f.bind(&NAME, &mut ticket.name);
    f.bind(&NOTE, &mut ticket.note);
    prices(f, ticket);
    f.bind(&LEAST, &mut ticket.least);
    f.bind(&MOST, &mut ticket.most);
    f.bind(&ADMITS, &mut ticket.admits);
    f.bind(&PER_DATE, &mut ticket.per_date);
    f.bind(&SALE_FROM, &mut ticket.sale.from);
    f.bind(&SALE_UNTIL, &mut ticket.sale.until);
    if let Some(form) = f.form() {
        if ticket.sale.from.zip(ticket.sale.until).is_some_and(|(from, until)| until <= from) {
            form.fault(SALE_UNTIL, Fault::EndsFirst);
        }
        if ticket.most < ticket.least {
            form.fault(MOST, Fault::EndsFirst);
        }
    }
    f.bind(&WORD, &mut ticket.word);
    f.bind(&INVITED, &mut ticket.invited);
    f.bind(&MEMBERS_ONLY, &mut ticket.members_only);
    f.bind(&ONLINE, &mut ticket.online);
    f.bind(&CLOSED, &mut ticket.closed);
    f.bind(&STAMPS, &mut ticket.stamps);
    f.bind(&CONFIRM, &mut ticket.confirm);
    draws(f, &mut ticket.draws, pools);
    optional(f, &CARD, &mut ticket.card);
    if ticket.card.is_some() {
        // Whoever buys a card buys no seat: what the form says of seats does not count.
        (ticket.draws, ticket.admits, ticket.stamps) = (Vec::new(), 1, None);
    }
}

fn prices(f: &mut Binding<'_>, ticket: &mut NewTicketType) {
    f.bind(&PRICE, &mut ticket.minor);
    let (mut price, mut until) = ticket.early.map(|e| (e.minor, e.until)).unzip();
    f.bind_both((&EARLY_PRICE, &mut price), (&EARLY_UNTIL, &mut until));
    ticket.early = price.zip(until).map(|(minor, until)| Early { minor, until });
    f.bind(&MEMBER_PRICE, &mut ticket.member);
    let (mut from, mut price) = ticket.group.map(|g| (g.from, g.minor)).unzip();
    f.bind_both((&GROUP_FROM, &mut from), (&GROUP_PRICE, &mut price));
    ticket.group = from.zip(price).map(|(from, minor)| Group { from, minor });
    optional(f, &TAX, &mut ticket.tax);
}

/// What a ticket takes of each thing the event counts; one of the first where nothing is said.
fn draws(f: &mut Binding<'_>, draws: &mut Vec<(usize, u32)>, pools: usize) {
    let stood = std::mem::take(draws);
    for pool in 0..pools {
        let mut seats = stood.iter().find(|(p, _)| *p == pool).map(|(_, n)| *n);
        f.bind_at(&DRAW, pool, &mut seats);
        draws.extend(seats.filter(|n| *n > 0).map(|n| (pool, n)));
    }
    if let Some(form) = f.form()
        && draws.is_empty()
    {
        // Seats that are said to be none are not one.
        if !form.get(&DRAW.at(0)).is_empty() && form.get(CARD.name).is_empty() {
            form.fault(DRAW.at(0), Fault::Missing);
        }
        draws.push((0, 1));
    }
}

/// A choice of which the empty one is none.
fn optional(f: &mut Binding<'_>, field: &Field<field::Choice>, value: &mut Option<String>) {
    let mut word = value.take().unwrap_or_default();
    f.bind(field, &mut word);
    *value = (!word.is_empty()).then_some(word);
}

/// What the form of a new ticket begins with.
#[must_use]
pub fn blank() -> NewTicketType {
    NewTicketType { name: String::new(), draws: vec![(0, 1)], ..NewTicketType::default() }
}

fn read_ticket(
    conn: &Connection,
    id: EventId,
    typed: &mut Form,
) -> Result<NewTicketType, DeskError> {
    let (mut ticket, pools) = (blank(), events::pool_kinds(conn, id)?.len());
    let locale = house_of(conn)?.locale();
    form(&mut Binding::Read(typed, &locale), &mut ticket, pools);
    // `Courses 9`: a rate that is new is made on the way, once the form is sound.
    let new_rate = typed.line(NEW_RATE.name);
    if !new_rate.is_empty() && crate::planning::rates::read_rate(&new_rate).is_none() {
        typed.fault(NEW_RATE, Fault::NotANumber(0, 100));
    }
    if let Some(tax) = &ticket.tax
        && !places::tax_rates(conn)?.iter().any(|t| t.name == *tax)
    {
        typed.fault(TAX, Fault::Unknown);
    }
    if let Some(card) = &ticket.card
        && !cards::kinds(conn)?.iter().any(|k| k.name == *card && !k.retired)
    {
        typed.fault(CARD, Fault::Unknown);
    }
    Ok(ticket)
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
                form.fault(NAME, Fault::Taken);
            }
            let place = form.read(&PLACE, &Locale::default());
            let new_rate = crate::planning::rates::read_rate(form.get(NEW_RATE.name));
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
