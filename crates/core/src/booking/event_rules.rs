//! What an event lets happen to its bookings.

use serde::{Deserialize, Serialize};

use crate::booking::confirm::Confirming;
use crate::messages::replies::Inviting;
use crate::money::refund;
use crate::seats::waiting::Manner;

/// What an event lets happen to its bookings once they are made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Rules {
    /// Cancellation steps of its own; without them those of the house.
    pub steps: Option<Vec<refund::Step>>,
    /// Which bookings are confirmed by themselves.
    pub confirm: Confirming,
    /// Bookers may cancel, all or a part.
    pub may_cancel: bool,
    /// Bookers may move to another date of the event.
    pub may_move: bool,
    /// Bookers may pass a ticket to somebody else.
    pub may_pass: bool,
    /// Whether, and how, people wait for seats.
    pub waiting: Manner,
    /// How long a seat is on offer to one of them, in hours.
    pub offer_hours: u32,
    /// How people are invited to it.
    pub inviting: Inviting,
}

impl Default for Rules {
    fn default() -> Self {
        Self {
            steps: None,
            confirm: Confirming::default(),
            may_cancel: true,
            may_move: true,
            may_pass: true,
            waiting: Manner::Off,
            offer_hours: 24,
            inviting: Inviting::default(),
        }
    }
}
