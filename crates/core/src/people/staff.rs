//! People who work for the house: their roles and what each may do.

use serde::{Deserialize, Serialize};

crate::worded! {
    /// A role, given to a person by an administrator.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
    #[serde(rename_all = "snake_case")]
    pub enum Role {
        /// May do everything.
        Administrator = "administrator",
        /// Plans events, looks after bookings, keeps the house in order.
        Organiser = "organiser",
        /// Leads dates, and sees those only.
        Host = "host",
        /// Looks after the money; reads everything at the Office.
        Treasurer = "treasurer",
        /// Decides on what members propose; reads everything at the Office.
        Reviewer = "reviewer",
        /// Checks people in, and sees nothing else.
        Door = "door volunteer",
    }
}

impl Role {
    /// Whether this role has a right.
    #[must_use]
    pub const fn may(self, right: Right) -> bool {
        match self {
            Self::Administrator => true,
            Self::Organiser => !matches!(right, Right::GiveRoles),
            Self::Host => matches!(right, Right::SeeOwnDates),
            Self::Treasurer => matches!(right, Right::SeeOffice | Right::HandleMoney),
            Self::Reviewer => matches!(right, Right::SeeOffice | Right::Review),
            Self::Door => matches!(right, Right::CheckIn),
        }
    }
}

crate::every! {
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
        /// Change venues, rooms, hosts, tags, tax rates, opening hours and terms.
        SetHouseUp,
        /// Give people roles.
        GiveRoles,
        /// See the dates one leads, and who comes to them.
        SeeOwnDates,
        /// Take money, give it back, see the books.
        HandleMoney,
        /// Decide on what members submit, and on complaints.
        Review,
    }
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
        let rows: Vec<String> = Role::ALL
            .into_iter()
            .map(|role| {
                let may: Vec<String> = Right::ALL
                    .into_iter()
                    .filter(|right| require(role, *right).is_ok())
                    .map(|right| format!("{right:?}"))
                    .collect();
                format!("{}: {}", role.word(), may.join(", "))
            })
            .collect();
        insta::assert_snapshot!(rows.join("\n"), @r"
        administrator: SeeOffice, ChangeBookings, PlanEvents, CheckIn, SetHouseUp, GiveRoles, SeeOwnDates, HandleMoney, Review
        organiser: SeeOffice, ChangeBookings, PlanEvents, CheckIn, SetHouseUp, SeeOwnDates, HandleMoney, Review
        host: SeeOwnDates
        treasurer: SeeOffice, HandleMoney
        reviewer: SeeOffice, Review
        door volunteer: CheckIn
        ");
        assert!(Role::ALL.into_iter().all(|r| Role::from_word(r.word()) == Some(r)));
    }
}
