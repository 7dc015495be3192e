//! People who work for the house: their roles and what each may do.

/// A role, given to a person by an administrator.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Role {
    /// May do everything.
    Administrator,
    /// Plans events, looks after bookings.
    Organiser,
    /// Checks people in, and sees nothing else.
    Door,
}

impl Role {
    /// All roles.
    pub const ALL: [Self; 3] = [Self::Administrator, Self::Organiser, Self::Door];

    /// The word for it, as stored and as shown.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Administrator => "administrator",
            Self::Organiser => "organiser",
            Self::Door => "door volunteer",
        }
    }

    /// Finds a role by its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|r| r.word() == word)
    }

    /// Whether this role has a right.
    #[must_use]
    pub const fn may(self, right: Right) -> bool {
        match self {
            Self::Administrator | Self::Organiser => true,
            Self::Door => matches!(right, Right::CheckIn),
        }
    }
}

/// Something that not everybody may do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Right {
    /// See the Office: events, bookings, people's details.
    SeeOffice,
    /// Change bookings.
    ChangeBookings,
    /// Plan events, publish them.
    PlanEvents,
    /// Let people in at the door, and see today's names.
    CheckIn,
}

/// Why an act was refused for want of a right.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a {} may not {right:?}", role.word())]
pub struct RightRefusal {
    /// The role of the person who tried.
    pub role: Role,
    /// What it takes.
    pub right: Right,
}

/// Lets a role pass, or says why not.
///
/// # Errors
/// [`RightRefusal`] when the role lacks the right.
pub const fn require(role: Role, right: Right) -> Result<(), RightRefusal> {
    if role.may(right) { Ok(()) } else { Err(RightRefusal { role, right }) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_may_do_what() {
        let rights = [Right::SeeOffice, Right::ChangeBookings, Right::PlanEvents, Right::CheckIn];
        let row = |role: Role| rights.map(|right| require(role, right).is_ok());
        assert_eq!(row(Role::Administrator), [true, true, true, true]);
        assert_eq!(row(Role::Organiser), [true, true, true, true]);
        assert_eq!(row(Role::Door), [false, false, false, true]);
        assert!(Role::ALL.into_iter().all(|r| Role::from_word(r.word()) == Some(r)));
    }
}
