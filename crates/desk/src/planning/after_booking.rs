//! What may happen to an event's bookings once they are made: the form, and keeping it.

use matricle_core::EventId;
use matricle_core::booking::event_rules::Rules;
use matricle_core::fields;
use matricle_core::forms::field::Binding;
use matricle_core::forms::form::Form;
use matricle_core::people::staff::Right;
use matricle_core::seats::waiting::Manner;
use matricle_store::events;
use matricle_store::people::Staff;

use crate::planning::dates::log;
use crate::planning::sheet::serve_all;
use crate::{Desk, DeskError, house_of};

fields! {
    MAY_CANCEL: Tick = "may_cancel", "cancel, all or a part", "money goes back by the steps";
    MAY_MOVE: Tick = "may_move", "move to another date", "at the price they booked";
    MAY_PASS: Tick = "may_pass", "pass a ticket to somebody else", "the old code dies";
    OWN_STEPS: Tick = "own_steps", "This event has steps of its own",
        "otherwise those of the house";
    STEPS: Steps(4) = "days", "Cancellation steps";
    WAITING: OneOf<Manner>(&[
        (Manner::Off, "Nobody waits"),
        (Manner::OfferFirst, "Seats that come free are offered to the first who fits"),
        (Manner::TellAll, "Everybody who waits is told, the first to book has them"),
    ]) = "waiting", "When it is full";
    OFFER_HOURS: Whole(1, 336) = "offer_hours", "Hours that seats are on offer to one party",
        "Then they go to the next." needed;
}

/// The form.
pub fn form(f: &mut Binding<'_>, rules: &mut Rules) {
    f.bind(&MAY_CANCEL, &mut rules.may_cancel);
    f.bind(&MAY_MOVE, &mut rules.may_move);
    f.bind(&MAY_PASS, &mut rules.may_pass);
    let (mut own, mut steps) = (rules.steps.is_some(), rules.steps.take().unwrap_or_default());
    f.bind(&OWN_STEPS, &mut own);
    f.bind(&STEPS, &mut steps);
    rules.steps = own.then_some(steps);
    f.bind(&WAITING, &mut rules.waiting);
    f.bind(&OFFER_HOURS, &mut rules.offer_hours);
}

/// Writes what may happen to an event's bookings once they are made: what bookers may do
/// themselves, cancellation steps of its own, the waiting list.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn keep(
    desk: &Desk,
    staff: &Staff,
    id: EventId,
    mut typed: Form,
) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    desk.store
        .write(move |tx| {
            let mut event = events::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
            let locale = house_of(tx)?.locale();
            form(&mut Binding::Read(&mut typed, &locale), &mut event.rules);
            typed.done().map_err(DeskError::Form)?;
            events::set(tx, &event, turn.now)?;
            log(tx, id, &turn, "changed what may happen to bookings")?;
            serve_all(tx, id, turn.now)
        })
        .await
        .inspect(|()| desk.wake.all())
}
