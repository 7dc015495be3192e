//! Stamp cards: prepaid stamps that tickets are paid with.
//!
//! Stamps sold and not used are a debt of the house. A card is worth what was paid for it,
//! cut over its stamps so that the parts add up to the cent; each stamp used makes it worth
//! its part less.

use jiff::Timestamp;

use crate::money::refund::last_parts;

/// A card with so many stamps left, or fewer, is nearly used up.
const NEARLY: u32 = 2;

/// A card.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Card {
    /// Stamps that are left.
    pub left: u32,
    /// What they are worth, in minor units.
    pub value: i64,
    /// It is good before this instant; without one for ever.
    pub expires_at: Option<Timestamp>,
}

/// Why a card does not pay.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum StampRefusal {
    /// There is no such card.
    #[error("no such card")]
    Unknown,
    /// None of the tickets is paid with stamps, or all are paid.
    #[error("nothing here is paid with stamps")]
    NotForThis,
    /// Its time is over.
    #[error("the card was good until {until}")]
    Expired {
        /// Until when.
        until: Timestamp,
    },
    /// Too few stamps are left.
    #[error("{needed} stamps needed, {left} left")]
    TooFew {
        /// Stamps needed.
        needed: u32,
        /// Stamps left.
        left: u32,
    },
}

impl Card {
    /// Whether its time is over.
    #[must_use]
    pub fn is_over(&self, now: Timestamp) -> bool {
        self.expires_at.is_some_and(|until| now >= until)
    }

    /// Whether it is nearly used up once so many stamps more are.
    #[must_use]
    pub const fn is_nearly_used(&self, stamps: u32) -> bool {
        self.left.saturating_sub(stamps) <= NEARLY
    }

    /// Stamps that can be used: none of a card that is over.
    #[must_use]
    pub fn usable(&self, now: Timestamp) -> u32 {
        if self.is_over(now) { 0 } else { self.left }
    }
}

/// Uses stamps of a card; gives what they are worth.
///
/// # Errors
/// The card is over, or has too few.
pub fn using(card: &Card, needed: u32, now: Timestamp) -> Result<i64, StampRefusal> {
    if needed == 0 {
        return Err(StampRefusal::NotForThis);
    }
    if let Some(until) = card.expires_at.filter(|until| now >= *until) {
        return Err(StampRefusal::Expired { until });
    }
    if needed > card.left {
        return Err(StampRefusal::TooFew { needed, left: card.left });
    }
    Ok(last_parts(card.value, card.left, needed))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_card_that_is_over_or_too_small_does_not_pay() {
        let now = Timestamp::from_second(100).unwrap();
        let card =
            Card { left: 3, value: 1000, expires_at: Some(Timestamp::from_second(101).unwrap()) };
        assert_eq!(using(&card, 3, now), Ok(1000));
        assert_eq!(using(&card, 4, now), Err(StampRefusal::TooFew { needed: 4, left: 3 }));
        assert_eq!(using(&card, 0, now), Err(StampRefusal::NotForThis));
        let over = Card { expires_at: Some(now), ..card };
        assert_eq!(using(&over, 1, now), Err(StampRefusal::Expired { until: now }));
    }

    proptest! {
        /// However the stamps of a card are used up, what they were worth is what was paid.
        #[test]
        fn a_card_is_worth_what_was_paid_to_the_cent(value in 0i64..50_000, uses in prop::collection::vec(1u32..5, 1..40)) {
            let all: u32 = uses.iter().sum();
            let mut card = Card { left: all, value, expires_at: None };
            for n in uses {
                let worth = using(&card, n, Timestamp::UNIX_EPOCH).unwrap();
                prop_assert!(worth >= 0);
                card = Card { left: card.left - n, value: card.value - worth, expires_at: None };
            }
            prop_assert_eq!(card, Card { left: 0, value: 0, expires_at: None });
        }
    }
}
