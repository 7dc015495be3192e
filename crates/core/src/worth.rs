//! What a line of a booking is worth: which bookings are charged, what comes back of a line or
//! of a part of it, and what a cancelled part leaves.

use crate::price::with_tax;
use crate::refund::{last_parts, share};
use crate::state::State;

/// Whether a booking is charged what its lines say: while money is asked for or seats are
/// booked, and what a cancellation left of it. Tests are charged nothing.
#[must_use]
pub const fn is_charged(state: State, test: bool) -> bool {
    !test && matches!(state, State::AwaitingPayment | State::Confirmed | State::Cancelled)
}

/// A line: so many tickets of one type at one price. Money in minor units.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Worth {
    /// How many stand.
    pub quantity: u32,
    /// The price of one.
    pub unit: i64,
    /// What promo codes take off all of them.
    pub discount: i64,
    /// What it is charged now, tax with it.
    pub charge: i64,
    /// Its tax rate, in hundredths of a percent.
    pub tax_basis: u32,
    /// The tax comes on top of the price.
    pub tax_added: bool,
    /// Stamp cards were made of it: these stay bought, whatever is cancelled.
    pub bought: bool,
}

impl Worth {
    /// What is no longer charged when so many percent of the whole line come back.
    #[must_use]
    pub fn back(&self, percent: u32) -> i64 {
        if self.bought { 0 } else { share(self.charge, percent) }
    }

    /// What it would be charged if so many stood and nothing had been kept of those that
    /// were cancelled, with the discount that goes with them; and the tax in that.
    #[must_use]
    pub fn whole(&self, quantity: u32) -> (i64, i64) {
        let gone = last_parts(self.discount, self.quantity, self.quantity - quantity);
        let net = self.unit * i64::from(quantity) - (self.discount - gone);
        with_tax(net, self.tax_basis, self.tax_added)
    }

    /// What is no longer charged when so many tickets go and so many percent of their price
    /// come back; never more than is charged.
    #[must_use]
    pub fn part_back(&self, gone: u32, percent: u32) -> i64 {
        let gone = gone.min(self.quantity);
        let worth = self.whole(self.quantity).0 - self.whole(self.quantity - gone).0;
        share(worth, percent).min(self.charge)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Tickets that go one by one give back no more than all at once, never more than was
        /// charged, and at a hundred percent leave nothing.
        #[test]
        fn parts_never_give_back_more_than_the_whole(
            quantity in 1u32..9, unit in 0i64..10_000, off in 0i64..9_000, percent in 0u32..=100,
            tax_basis in 0u32..3000, tax_added: bool,
        ) {
            let discount = off.min(unit * i64::from(quantity));
            let mut line = Worth {
                quantity, unit, discount, charge: 0, tax_basis, tax_added, bought: false,
            };
            line.charge = line.whole(quantity).0;
            let (charged, at_once) = (line.charge, line.part_back(quantity, percent));
            let mut back = 0;
            while line.quantity > 0 {
                let one = line.part_back(1, percent);
                prop_assert!((0..=line.charge).contains(&one));
                line.discount -= last_parts(line.discount, line.quantity, 1);
                line.charge -= one;
                line.quantity -= 1;
                back += one;
            }
            prop_assert!((back - at_once).abs() <= i64::from(quantity) + 1, "but for roundings");
            prop_assert!(back <= charged);
            if percent == 100 {
                prop_assert_eq!(line.charge, 0);
            }
        }
    }
}
