//! Who acts, and when: passed down to all that follows from an act.

use std::sync::Arc;

use jiff::Timestamp;
use matricle_core::people::acting::Acting;
use matricle_core::people::staff::{Right, require};
use matricle_core::words::text;
use matricle_store::people::Staff;
use matricle_store::{Tx, places};

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
    /// What whoever acts adds in words of their own to the messages of a change; may be empty.
    pub word: Arc<str>,
}

/// Longest word of one's own, in characters.
const LONGEST_WORD: usize = 2000;

impl Turn {
    /// What the program does as part of this act.
    pub(crate) fn program(&self) -> Self {
        Self { by: Acting::program(), ..self.clone() }
    }

    /// Adds to the house's log of changes: what was done, and the page that shows it.
    pub(crate) fn log(&self, tx: &Tx<'_>, what: &str, page: &str) -> Result<(), DeskError> {
        Ok(places::log(tx, self.now, &self.by.name, what, page)?)
    }
}

impl Desk {
    /// An act of somebody who needs no right for it: the booker, the card provider, the
    /// program.
    #[must_use]
    pub fn turn(&self, by: Acting) -> Turn {
        let word = Arc::clone(&self.word);
        Turn { by, now: self.clock.now(), host: self.host().into(), word }
    }

    /// The same desk for an act whose messages get a word of one's own.
    #[must_use]
    pub fn saying(&self, word: &str) -> Self {
        let word: String = text::lines(word).trim().chars().take(LONGEST_WORD).collect();
        Self { word: word.into(), ..self.clone() }
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
