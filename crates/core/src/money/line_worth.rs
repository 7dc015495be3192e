//! What a line of a booking is worth: which bookings are charged, what comes back of a line or
//! of a part of it, and what a cancelled part leaves.

use crate::money::price::with_tax;
use crate::money::refund::{last_parts, share};
use crate::state::State;

/// Whether a booking is charged what its lines say: while money is asked for or seats are
/// booked, and what a cancellation left of it. Tests are charged nothing.
#[must_use]
pub const fn is_charged(state: State, test: bool) -> bool {
    !test && matches!(state, State::AwaitingPayment | State::Confirmed | State::Cancelled)
}

/// A line: so many tickets of one type at one price. Money in minor units.
///
/// Two things are kept apart in what it is charged: what its tickets come to that stand, and what
/// was kept of those that were cancelled one by one. Nothing comes back of the second: it is the
/// house's.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Worth {
    /// How many stand.
    pub quantity: u32,
    /// The price of one.
    pub unit: i64,
    /// What promo codes take off all of them.
    pub discount: i64,
    /// What those that stand come to, tax with it.
    pub standing: i64,
    /// What was kept of those that were cancelled one by one.
    pub kept: i64,
    /// What these came to.
    pub gone: i64,
    /// Its tax rate, in hundredths of a percent.
    pub tax_basis: u32,
    /// The tax comes on top of the price.
    pub tax_added: bool,
    /// Stamp cards were made of it: these stay bought, whatever is cancelled.
    pub bought: bool,
}

impl Worth {
    /// What it is charged while money is charged at all.
    #[must_use]
    pub const fn charge(&self) -> i64 {
        self.standing + self.kept
    }

    /// What is no longer charged when all that stands goes, and so many percent of it come back.
    #[must_use]
    pub fn back(&self, percent: u32) -> i64 {
        self.part_back(self.quantity, percent)
    }

    /// What so many tickets would come to at the line's own price, with the discount that goes
    /// with them.
    #[must_use]
    pub fn whole(&self, quantity: u32) -> i64 {
        let gone = last_parts(self.discount, self.quantity, self.quantity.saturating_sub(quantity));
        let net = self.unit * i64::from(quantity) - (self.discount - gone);
        with_tax(net, self.tax_basis, self.tax_added).0
    }

    /// What so many of the tickets that stand come to: the last ones, so that the parts of all of
    /// them add up. Where a price was set by hand for everything, or tickets were added at another,
    /// each is its share of the whole.
    fn worth_of(&self, tickets: u32) -> i64 {
        let tickets = tickets.min(self.quantity);
        if tickets == self.quantity {
            return self.standing;
        }
        let worth = if self.whole(self.quantity) == self.standing {
            self.standing - self.whole(self.quantity - tickets)
        } else {
            last_parts(self.standing, self.quantity, tickets)
        };
        worth.clamp(0, self.standing)
    }

    /// What is no longer charged when so many tickets go and so many percent of their price come
    /// back. It is reckoned over all that ever went, so that tickets which go one by one give back
    /// to the cent what they give together.
    #[must_use]
    pub fn part_back(&self, tickets: u32, percent: u32) -> i64 {
        if self.bought || tickets == 0 {
            return 0;
        }
        let worth = self.worth_of(tickets);
        (share(self.gone + worth, percent) - share(self.gone, percent)).clamp(0, worth)
    }

    /// The line once so many tickets of it are cancelled and so many percent of their price have
    /// come back.
    #[must_use]
    pub fn without(&self, tickets: u32, percent: u32) -> Self {
        let tickets = tickets.min(self.quantity);
        let (worth, back) = (self.worth_of(tickets), self.part_back(tickets, percent));
        Self {
            quantity: self.quantity - tickets,
            discount: self.discount - last_parts(self.discount, self.quantity, tickets),
            standing: self.standing - worth,
            kept: self.kept + worth - back,
            gone: self.gone + worth,
            ..*self
        }
    }

    /// The line at another price for one, set by hand: no promo code takes anything off it, and
    /// what was kept stays kept.
    #[must_use]
    pub fn at(&self, unit: i64) -> Self {
        let line = Self { unit, discount: 0, ..*self };
        Self { standing: line.whole(line.quantity), ..line }
    }

    /// The line charged so much in all, set by hand. Less than was kept gives some of that back.
    #[must_use]
    pub fn charged(&self, minor: i64) -> Self {
        let kept = self.kept.min(minor);
        Self { standing: minor - kept, kept, ..*self }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn line() -> impl Strategy<Value = Worth> {
        (1u32..9, 0i64..10_000, 0i64..9_000, 0u32..3000, any::<bool>()).prop_map(
            |(quantity, unit, off, tax_basis, tax_added)| {
                let line = Worth {
                    quantity,
                    unit,
                    discount: off.min(unit * i64::from(quantity)),
                    standing: 0,
                    kept: 0,
                    gone: 0,
                    tax_basis,
                    tax_added,
                    bought: false,
                };
                Worth { standing: line.whole(quantity), ..line }
            },
        )
    }

    #[test]
    fn what_was_kept_is_not_halved_again() {
        // 4 × €20, half comes back: at once, and three singly before the rest.
        let four = Worth {
            quantity: 4,
            unit: 2000,
            discount: 0,
            standing: 8000,
            kept: 0,
            gone: 0,
            tax_basis: 0,
            tax_added: false,
            bought: false,
        };
        assert_eq!(four.back(50), 4000);
        let mut line = four;
        let mut back = 0;
        for _ in 0..3 {
            back += line.part_back(1, 50);
            line = line.without(1, 50);
        }
        assert_eq!((back, line.kept, line.standing), (3000, 3000, 2000));
        assert_eq!(back + line.back(50), 4000, "never €55");
        // Two at €20, one cancelled: another ticket is paid in full.
        let two = Worth { quantity: 2, standing: 4000, ..four }.without(1, 50);
        assert_eq!((two.charge(), two.at(2000).charge()), (3000, 3000));
        assert_eq!(Worth { bought: true, ..four }.part_back(1, 100), 0, "cards stay bought");
    }

    proptest! {
        /// However tickets go, one by one or together, and whatever was set by hand before: what
        /// comes back in all is what would at once, to the cent.
        #[test]
        fn taken_apart_in_any_order_it_gives_back_what_it_gives_at_once(
            line in line(), percent in 0u32..=100, by_hand in prop::option::of(0i64..50_000),
            steps in prop::collection::vec(1u32..4, 0..9),
        ) {
            let line = by_hand.map_or(line, |minor| line.charged(minor));
            let (charged, at_once) = (line.charge(), line.back(percent));
            let (mut left, mut back) = (line, 0);
            for step in steps {
                let step = step.min(left.quantity);
                back += left.part_back(step, percent);
                left = left.without(step, percent);
                prop_assert_eq!(left.charge() + back, charged, "nothing is lost");
            }
            back += left.back(percent);
            prop_assert_eq!(back, at_once);
            prop_assert!((0..=charged).contains(&back));
            if percent == 100 {
                prop_assert_eq!(back, charged);
            }
        }

        /// While less and less comes back, and prices change in between, nothing comes back of what
        /// was kept, and no more than was charged.
        #[test]
        fn what_was_kept_stays_kept(
            line in line(),
            acts in prop::collection::vec((0u32..3, 0u32..=100, prop::option::of(0i64..9_000)), 1..9),
        ) {
            let (mut line, mut kept) = (line, 0);
            for (tickets, percent, price) in acts {
                if let Some(price) = price {
                    line = line.at(price);
                }
                let (before, back) = (line, line.part_back(tickets, percent));
                line = line.without(tickets, percent);
                prop_assert!(back >= 0 && back <= before.standing);
                prop_assert_eq!(line.charge(), before.charge() - back);
                prop_assert!(line.kept >= kept && line.standing >= 0 && line.gone >= line.kept);
                kept = line.kept;
                prop_assert!(line.back(100) == line.standing);
            }
        }
    }
}
