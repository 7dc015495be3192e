//! Clearing away what was booked to try the steps out.

use matricle_core::EventId;
use matricle_core::booking::{Move, allowed};
use matricle_core::people::staff::Right;
use matricle_store::bookings;
use matricle_store::people::Staff;

use crate::bookings::moves::{With, make};
use crate::{Desk, DeskError};

/// Clears the test bookings of an event; says how many.
pub async fn clear_tests(desk: &Desk, staff: &Staff, event: EventId) -> Result<Cleared, DeskError> {
    let turn = desk.turn_of(staff, Right::PlanEvents)?;
    let cleared = desk
        .store
        .write(move |tx| {
            let mut cleared = Cleared::default();
            for booking in bookings::paid_tests(tx, event)? {
                let what = "the test was cleared";
                if allowed(booking.state, Move::Cancel, turn.by.kind).is_ok() {
                    make(tx, &booking, Move::Cancel, &turn, With::said(what))?;
                } else {
                    crate::money::entries::give_back_surplus(tx, &booking, what, &turn)?;
                }
                let left = bookings::by_id(tx, booking.id)?.map_or(0, |b| b.paid.minor);
                cleared.back_minor += booking.paid.minor - left;
                cleared.kept += 1;
            }
            cleared.gone = bookings::clear_tests(tx, event)?;
            Ok::<_, DeskError>(cleared)
        })
        .await?;
    desk.wake.all();
    Ok(cleared)
}

/// What became of test bookings.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Cleared {
    /// Those that are gone.
    pub gone: usize,
    /// Those that had a payment: cancelled, and kept with it.
    pub kept: usize,
    /// What goes back to whoever paid, in minor units.
    pub back_minor: i64,
}
