//! Who acts, and when: passed down to all that follows from an act.

use std::sync::Arc;

use jiff::Timestamp;
use matricle_core::acting::Acting;
use matricle_core::staff::{Right, require};
use matricle_store::people::Staff;

use crate::{Desk, DeskError};

/// One act under way.
#[derive(Debug, Clone)]
pub struct Turn {
    /// Whose it is.
    pub by: Acting,
    /// When it is.
    pub now: Timestamp,
    /// The host that names the messages which follow.
    pub host: Arc<str>,
}

impl Turn {
    /// What the program does as part of this act.
    pub(crate) fn program(&self) -> Self {
        Self { by: Acting::program(), ..self.clone() }
    }
}

impl Desk {
    /// An act of somebody who needs no right for it: the booker, the card provider, the
    /// program.
    #[must_use]
    pub fn turn(&self, by: Acting) -> Turn {
        Turn { by, now: self.clock.now(), host: self.host().into() }
    }

    /// An act of somebody of the house.
    ///
    /// # Errors
    /// The role lacks the right.
    pub fn turn_of(&self, staff: &Staff, right: Right) -> Result<Turn, DeskError> {
        require(staff.role, right)?;
        Ok(self.turn(Acting::staff(right, staff.id, &staff.name)))
    }
}
