//! Whether a date can be booked at an instant, and if not, why: as lists and feeds tell it to
//! whoever has given no address and no word.

use jiff::Timestamp;

use crate::dates::schedule::{Sale, SaleWindow};

/// What a ticket is sold like, as far as a stranger is concerned.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct OnSale {
    /// From when until when.
    pub window: SaleWindow,
    /// Members only.
    pub members_only: bool,
    /// The organiser has closed it.
    pub closed: bool,
}

/// Whether a date can be booked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Availability {
    /// Sale is over, or the date has begun.
    Over,
    /// No seat is left.
    SoldOut,
    /// Sale starts at this instant.
    NotYet(Timestamp),
    /// Members can book it.
    MembersOnly,
    /// Anybody can book it.
    Open,
}

impl Availability {
    /// The best that one of the tickets of a date offers; `free` seats are left on it.
    /// A date without tickets that a stranger sees is over for them.
    pub fn of(
        tickets: impl IntoIterator<Item = OnSale>,
        free: u32,
        date_starts_at: Timestamp,
        now: Timestamp,
    ) -> Self {
        let mut best = Self::Over;
        for ticket in tickets.into_iter().filter(|t| !t.closed) {
            let offers = match ticket.window.at(date_starts_at, now) {
                Sale::Over(_) => continue,
                Sale::NotYet(from) => Self::NotYet(from),
                Sale::Open if ticket.members_only => Self::MembersOnly,
                Sale::Open => Self::Open,
            };
            best = match (best, offers) {
                // The earlier of two openings.
                (Self::NotYet(a), Self::NotYet(b)) => Self::NotYet(a.min(b)),
                (a, b) => a.max(b),
            };
        }
        if free == 0 && best != Self::Over { Self::SoldOut } else { best }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_best_of_the_tickets_counts_and_seats_come_last() {
        let at = |s| Timestamp::from_second(s).unwrap();
        let open = OnSale::default();
        let from = |s| OnSale {
            window: SaleWindow { from: Some(at(s)), until: None },
            ..OnSale::default()
        };
        let members = OnSale { members_only: true, ..open };
        let closed = OnSale { closed: true, ..open };
        let of = |tickets: &[OnSale], free| {
            Availability::of(tickets.iter().copied(), free, at(1000), at(10))
        };
        assert_eq!(of(&[members, open], 1), Availability::Open);
        assert_eq!(of(&[members, from(50)], 1), Availability::MembersOnly);
        assert_eq!(of(&[from(50), from(20), closed], 1), Availability::NotYet(at(20)));
        assert_eq!(of(&[closed], 1), Availability::Over);
        assert_eq!(of(&[], 1), Availability::Over);
        assert_eq!(of(&[open], 0), Availability::SoldOut);
        assert_eq!(of(&[closed], 0), Availability::Over);
        assert_eq!(Availability::of([open], 5, at(10), at(10)), Availability::Over);
    }
}
