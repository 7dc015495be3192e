//! Who acts on a booking: their kind, which the table of moves asks for; their key, which
//! tells one from another; and the name they went by then, for showing.

use crate::ids::PersonId;
use crate::people::staff::Right;

/// The name that the booker goes by where names are shown.
pub const BOOKER: &str = "the booker";
/// The name that the card provider goes by.
pub const PROVIDER: &str = "the card provider";
/// The name that the program goes by.
pub const PROGRAM: &str = "Matricle";

crate::worded! {
    /// The kinds of those who act.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
    pub enum Actor {
        /// The booker, by the booking's own address.
        Booker = "booker",
        /// Somebody who may change bookings.
        Clerk = "clerk",
        /// Somebody who handles money.
        Treasurer = "treasurer",
        /// Somebody at the door.
        Door = "door volunteer",
        /// The card provider.
        Provider = "card provider",
        /// The program, when a time has come, or as what follows from another's act.
        Program = "program",
    }
}

impl Actor {
    /// What somebody of the house is when they act by a right.
    #[must_use]
    pub const fn by_right(right: Right) -> Self {
        match right {
            Right::HandleMoney => Self::Treasurer,
            Right::CheckIn => Self::Door,
            Right::SeeOffice
            | Right::ChangeBookings
            | Right::PlanEvents
            | Right::SetHouseUp
            | Right::GiveRoles
            | Right::SeeOwnDates
            | Right::Review => Self::Clerk,
        }
    }
}

/// Whoever acts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Acting {
    /// Their kind.
    pub kind: Actor,
    /// The person, for people of the house. A booking has one booker.
    pub key: Option<PersonId>,
    /// The name they go by now. A timeline keeps it as it was.
    pub name: String,
}

impl Acting {
    /// The booker.
    #[must_use]
    pub fn booker() -> Self {
        Self { kind: Actor::Booker, key: None, name: BOOKER.into() }
    }

    /// The card provider.
    #[must_use]
    pub fn provider() -> Self {
        Self { kind: Actor::Provider, key: None, name: PROVIDER.into() }
    }

    /// The program.
    #[must_use]
    pub fn program() -> Self {
        Self { kind: Actor::Program, key: None, name: PROGRAM.into() }
    }

    /// The name as it is shown.
    #[must_use]
    pub fn shown(&self) -> String {
        match self.kind {
            Actor::Door => format!("{} at the door", self.name),
            Actor::Booker | Actor::Clerk | Actor::Treasurer | Actor::Provider | Actor::Program => {
                self.name.clone()
            }
        }
    }

    /// Somebody of the house who acts by a right.
    #[must_use]
    pub fn staff(right: Right, person: PersonId, name: &str) -> Self {
        Self { kind: Actor::by_right(right), key: Some(person), name: name.into() }
    }
}
