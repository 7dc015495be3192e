//! The sheet of an event at the Office: its wording, tickets, questions, who may book.

use jiff::Timestamp;
use matricle_core::EventId;
use matricle_core::MessageId;
use matricle_core::fields;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::people::staff::{Right, require};
use matricle_store::events::{self, Event, EventState, Picture, TicketRow};
use matricle_store::house::House;
use matricle_store::people::Staff;
use matricle_store::places::{self, Tag, TaxRate};
use matricle_store::{Connection, bookings, cards, invited, outbox};

use crate::planning::dates::log;
use crate::{Desk, DeskError, house_of};

fields! {
    PUBLISH_AT: Moment = "publish_at", "When",
        "On the clock of the house. Left empty, the time is cleared.";
}

/// Most addresses on a list of people invited.
pub(crate) const MOST_INVITED: usize = 50_000;

/// What the pages of an event's settings show.
#[derive(Debug, Clone)]
pub struct Settings {
    /// The house.
    pub house: House,
    /// The event.
    pub event: Event,
    /// Its tags.
    pub tags: Vec<(String, String)>,
    /// Tags that are offered.
    pub all_tags: Vec<Tag>,
    /// Tax rates that are offered.
    pub tax_rates: Vec<TaxRate>,
    /// Its picture.
    pub picture: Option<Picture>,
    /// What it counts.
    pub pools: Vec<String>,
    /// Its ticket types.
    pub tickets: Vec<TicketRow>,
    /// Kinds of stamp cards that are sold.
    pub card_kinds: Vec<String>,
    /// Its questions.
    pub questions: Vec<matricle_core::booking::details::Question>,
    /// Bookings that count.
    pub bookings: u32,
    /// Test bookings.
    pub tests: u32,
    /// How many are invited.
    pub invited: u32,
}

fn settings_in(conn: &Connection, id: EventId) -> Result<Settings, DeskError> {
    let event = events::by_id(conn, id)?.ok_or(DeskError::NotFound)?;
    let mut all_tags = places::tags(conn)?;
    all_tags.retain(|t| t.retired_at.is_none());
    let mut tax_rates = places::tax_rates(conn)?;
    tax_rates.retain(|t| t.retired_at.is_none());
    Ok(Settings {
        house: house_of(conn)?,
        tags: events::tags_of(conn, id)?,
        all_tags,
        tax_rates,
        picture: events::picture(conn, id)?,
        pools: events::pool_kinds(conn, id)?.into_iter().map(|(_, name)| name).collect(),
        tickets: events::ticket_rows(conn, id)?,
        card_kinds: cards::kinds(conn)?
            .into_iter()
            .filter(|k| !k.retired)
            .map(|k| k.name)
            .collect(),
        questions: events::questions(conn, id)?,
        bookings: bookings::count_live(conn, id)?,
        tests: bookings::count_tests(conn, id)?,
        invited: invited::count(conn, id)?.0,
        event,
    })
}

/// Somebody who gave no address was rung up.
///
/// # Errors
/// The role may not. Somebody rung before stays so.
pub async fn rung(desk: &Desk, staff: &Staff, event: EventId, id: i64) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::ChangeBookings)?;
    let ring = move |tx: &matricle_store::Tx<'_>| {
        outbox::rung(tx, event, MessageId(id), &turn.by.name, turn.now).map(drop)
    };
    Ok(desk.store.write(ring).await?)
}

/// What the pages of an event's settings show.
///
/// # Errors
/// The role may not, there is no such event, or the store fails.
pub async fn settings(desk: &Desk, staff: &Staff, id: EventId) -> Result<Settings, DeskError> {
    require(staff.role, Right::PlanEvents)?;
    desk.store.read(move |conn| settings_in(conn, id)).await
}

/// Serves the waiting lists of an event, whose rules or tickets leave more than before.
pub(crate) fn serve_all(
    tx: &matricle_store::Tx<'_>,
    id: EventId,
    now: jiff::Timestamp,
) -> Result<(), DeskError> {
    for date in events::dates_of(tx, id)? {
        crate::bookings::serving::serve_date(tx, date.id, now)?;
    }
    Ok(())
}

/// Sets the time at which a draft publishes itself; none clears it. Tells the one before.
///
/// # Errors
/// [`DeskError::Form`] for a time that is none or past; it is no draft; the role may not.
pub async fn publish_at(
    desk: &Desk,
    staff: &Staff,
    event: EventId,
    mut form: Form,
) -> Result<Option<Timestamp>, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            let at = form.instant(PUBLISH_AT.name, &house_of(tx)?.zone);
            if at.is_some_and(|at| at <= turn.now) {
                form.fault(PUBLISH_AT, Fault::Past);
            }
            form.done().map_err(DeskError::Form)?;
            let draft = events::by_id(tx, event)?.ok_or(DeskError::NotFound)?;
            if draft.state != EventState::Draft || draft.thrown_at.is_some() {
                return Err(DeskError::NotADraft);
            }
            events::set_publish_at(tx, event, at)?;
            let what =
                if at.is_some() { "set a time to publish" } else { "cleared the time to publish" };
            log(tx, event, &turn, what)?;
            Ok(draft.publish_at)
        })
        .await
}

/// Who is told that a date moved or was called off, and whether it has gone out.
#[derive(Debug, Clone)]
pub struct ToTell {
    /// The house.
    pub house: House,
    /// The event.
    pub event: Event,
    /// Messages, with reference and name of the booking.
    pub rows: Vec<(matricle_store::outbox::Message, String, String)>,
    /// Those without an address, to be rung.
    pub rings: Vec<outbox::Ring>,
    /// Bookings that count.
    pub bookings: u32,
}

/// The list of people told about changes of an event.
///
/// # Errors
/// The role may not, there is no such event, or the store fails.
pub async fn told(desk: &Desk, staff: &Staff, event: EventId) -> Result<ToTell, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    desk.store
        .read(move |conn| {
            Ok(ToTell {
                house: house_of(conn)?,
                event: events::by_id(conn, event)?.ok_or(DeskError::NotFound)?,
                rows: matricle_store::outbox::told(conn, event)?,
                rings: outbox::rings(conn, event)?,
                bookings: bookings::count_live(conn, event)?,
            })
        })
        .await
}
