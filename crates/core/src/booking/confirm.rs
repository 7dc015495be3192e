//! When a booking is confirmed by itself, and when the organiser says yes first.
//!
//! An event has one rule for bookings that cost nothing and one for those that cost
//! something; a ticket type may have a rule of its own, which then counts more.

use serde::{Deserialize, Serialize};

use crate::Money;

crate::worded! {
    /// How bookings become confirmed.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
    #[serde(rename_all = "snake_case")]
    pub enum Way {
        /// By itself: at once when nothing is to pay, else when all the money has come.
        #[default]
        ByItself = "by itself",
        /// After the organiser has said yes; the money is asked for after that.
        AfterYes = "after yes",
    }
}

/// An event's rules.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Confirming {
    /// For bookings that cost nothing.
    pub free: Way,
    /// For bookings that cost something.
    pub paid: Way,
}

impl Confirming {
    /// The same rule for all bookings.
    #[must_use]
    pub const fn all(way: Way) -> Self {
        Self { free: way, paid: way }
    }

    /// The way of a booking that costs `total` and has tickets with these rules of their
    /// own. One ticket that waits for a yes makes the whole booking wait: it is decided on
    /// as one.
    ///
    /// # Examples
    /// ```
    /// # use matricle_core::{Currency, booking::confirm::{Confirming, Way}};
    /// let rules = Confirming { free: Way::ByItself, paid: Way::AfterYes };
    /// let helper = Some(Way::ByItself);
    /// assert_eq!(rules.way([None], Currency::EUR.of(800)), Way::AfterYes);
    /// assert_eq!(rules.way([helper], Currency::EUR.of(800)), Way::ByItself);
    /// assert_eq!(rules.way([helper, None], Currency::EUR.of(800)), Way::AfterYes);
    /// ```
    #[must_use]
    pub fn way(&self, tickets: impl IntoIterator<Item = Option<Way>>, total: Money) -> Way {
        let rule = if total.is_zero() { self.free } else { self.paid };
        let waits = tickets.into_iter().any(|own| own.unwrap_or(rule) == Way::AfterYes);
        if waits { Way::AfterYes } else { Way::ByItself }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Currency;
    use proptest::prelude::*;

    const WAYS: [Way; 2] = [Way::ByItself, Way::AfterYes];

    fn way() -> impl Strategy<Value = Way> {
        prop::sample::select(WAYS.to_vec())
    }

    proptest! {
        /// A ticket's own rule counts more than the event's, and turning any rule to
        /// "after a yes" never lets a booking through that waited before.
        #[test]
        fn rules_of_tickets_count_more_and_a_stricter_rule_lets_nobody_new_through(
            free in way(), paid in way(), total in 0i64..3,
            mut tickets in prop::collection::vec(prop::option::of(way()), 1..4), stricter in 0usize..4,
        ) {
            let rules = Confirming { free, paid };
            let total = Currency::EUR.of(total);
            let before = rules.way(tickets.clone(), total);
            if tickets.iter().all(Option::is_some) {
                for other in WAYS {
                    prop_assert_eq!(Confirming::all(other).way(tickets.clone(), total), before);
                }
            }
            if let Some(own) = tickets.get_mut(stricter) {
                *own = Some(Way::AfterYes);
                prop_assert_eq!(rules.way(tickets, total), Way::AfterYes);
            } else if before == Way::AfterYes {
                prop_assert_eq!(Confirming::all(Way::AfterYes).way(tickets, total), before);
            }
        }
    }

    #[test]
    fn free_and_paid_bookings_have_rules_of_their_own() {
        let rules = Confirming { free: Way::AfterYes, paid: Way::ByItself };
        assert_eq!(rules.way([None, None], Currency::EUR.of(0)), Way::AfterYes);
        assert_eq!(rules.way([None, None], Currency::EUR.of(1)), Way::ByItself);
        let old: Confirming = serde_json::from_str("{}").unwrap();
        assert_eq!(old, Confirming::default(), "an event without a rule lets bookings through");
    }
}
