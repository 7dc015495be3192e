//! Where a booking stands.

crate::worded! {
    /// Where a booking stands.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
    pub enum State {
        /// Seats kept while the form is filled in.
        Held = "held",
        /// Asked for; the organiser decides.
        Requested = "requested",
        /// Complete but for the money; the seats are kept.
        AwaitingPayment = "awaiting payment",
        /// Booked.
        Confirmed = "confirmed",
        /// The organiser said no.
        Declined = "declined",
        /// Called back by the booker or the organiser.
        Cancelled = "cancelled",
        /// The hold or the time to pay ran out.
        Lapsed = "lapsed",
    }
}

impl State {
    /// Whether a booking stands: its form is complete, and nobody called it off.
    #[must_use]
    pub const fn stands(self) -> bool {
        matches!(self, Self::Requested | Self::AwaitingPayment | Self::Confirmed)
    }

    /// Whether money is waited for: its seats are kept until it comes, or they are the booker's
    /// and something is still due, in minor units.
    #[must_use]
    pub const fn is_owed(self, due_minor: i64) -> bool {
        match self {
            Self::AwaitingPayment => true,
            Self::Confirmed => due_minor > 0,
            Self::Requested | Self::Held | Self::Declined | Self::Cancelled | Self::Lapsed => false,
        }
    }

    /// Whether somebody has to pay before they are let in, at a door or into a room online: until
    /// it is confirmed, and of a confirmed one whatever is still due, in minor units.
    #[must_use]
    pub const fn owes(self, due_minor: i64) -> bool {
        match self {
            Self::Requested | Self::AwaitingPayment => true,
            Self::Confirmed => due_minor > 0,
            Self::Held | Self::Declined | Self::Cancelled | Self::Lapsed => false,
        }
    }
}
