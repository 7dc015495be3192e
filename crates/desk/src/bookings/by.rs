//! Whose act it is: the booker's, by the booking's own address, or that of somebody at the Office.

use matricle_core::people::acting::Acting;
use matricle_core::people::staff::Right;
use matricle_store::people::Staff;

use crate::acting::Turn;
use crate::{Desk, DeskError};

/// Who calls a booking back.
#[derive(Debug, Clone)]
pub enum By {
    /// The booker, by the booking's own address: by the event's rules and steps.
    Booker,
    /// Somebody at the Office; with a percentage of their own, if they give one.
    Staff(Staff, Option<u32>),
}

impl By {
    /// Their act: the booker's, or that of somebody who may change bookings.
    pub(crate) fn turn(&self, desk: &Desk) -> Result<Turn, DeskError> {
        match self {
            Self::Booker => Ok(desk.turn(Acting::booker())),
            Self::Staff(staff, _) => desk.turn_of(staff, Right::ChangeBookings),
        }
    }
}
