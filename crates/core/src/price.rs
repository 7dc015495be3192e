//! Price: one function that quotes the page, the booking and whatever follows.

use jiff::Timestamp;

use crate::seats::Wanted;
use crate::{Currency, Money, TicketTypeId};

/// A lower price until an instant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Early {
    /// Minor units for one ticket.
    pub minor: i64,
    /// From this instant on the ordinary price holds.
    pub until: Timestamp,
}

/// What one ticket of a type costs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TicketPrice {
    /// The ticket type.
    pub id: TicketTypeId,
    /// Minor units for one ticket, not negative.
    pub minor: i64,
    /// The early price, if there is one.
    pub early: Option<Early>,
}

impl TicketPrice {
    /// The price of one ticket at `now`.
    #[must_use]
    pub fn unit(&self, now: Timestamp) -> i64 {
        match self.early {
            Some(early) if now < early.until => early.minor,
            _ => self.minor,
        }
    }
}

/// One ticket type of a quote.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Line {
    /// The ticket type.
    pub ticket: TicketTypeId,
    /// How many of it.
    pub quantity: u32,
    /// The ordinary price of one.
    pub base: Money,
    /// The price asked for one.
    pub unit: Money,
    /// `quantity × unit`.
    pub total: Money,
}

/// What a choice of tickets costs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Quote {
    /// One line a ticket type, in the order of the ticket types.
    pub lines: Vec<Line>,
    /// The sum of the lines.
    pub total: Money,
    /// What it would cost at ordinary prices, less `total`.
    pub saved: Money,
}

/// Why a price cannot be told.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PriceRefusal {
    /// The amount does not fit in whole minor units.
    #[error("the amount for {quantity} of ticket {ticket} is out of range")]
    OutOfRange {
        /// The ticket type.
        ticket: TicketTypeId,
        /// How many were wanted.
        quantity: u32,
    },
}

/// Quotes a choice of tickets at `now`. Tickets wanted twice are one line; a
/// ticket type without a price is left out, since the seat rules refuse it first.
///
/// # Errors
/// [`PriceRefusal::OutOfRange`] when the sum does not fit.
pub fn quote(
    currency: Currency,
    tickets: &[TicketPrice],
    wanted: &[Wanted],
    now: Timestamp,
) -> Result<Quote, PriceRefusal> {
    let mut lines = Vec::new();
    let (mut total, mut ordinary) = (0i64, 0i64);
    for ticket in tickets {
        let quantity = wanted
            .iter()
            .filter(|w| w.ticket == ticket.id)
            .fold(0u32, |sum, w| sum.saturating_add(w.quantity));
        if quantity == 0 {
            continue;
        }
        let out = PriceRefusal::OutOfRange { ticket: ticket.id, quantity };
        let unit = ticket.unit(now);
        let times = |minor: i64| minor.checked_mul(i64::from(quantity));
        let line = times(unit).ok_or_else(|| out.clone())?;
        total = total.checked_add(line).ok_or_else(|| out.clone())?;
        ordinary = times(ticket.minor).and_then(|base| ordinary.checked_add(base)).ok_or(out)?;
        lines.push(Line {
            ticket: ticket.id,
            quantity,
            base: currency.of(ticket.minor),
            unit: currency.of(unit),
            total: currency.of(line),
        });
    }
    Ok(Quote { lines, total: currency.of(total), saved: currency.of(ordinary - total) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn t(second: i64) -> Timestamp {
        Timestamp::from_second(second).unwrap()
    }

    #[test]
    fn the_early_price_ends_at_its_instant() {
        let early = Some(Early { minor: 4200, until: t(100) });
        let visitor = TicketPrice { id: TicketTypeId(1), minor: 4800, early };
        let two = [Wanted { ticket: TicketTypeId(1), quantity: 2 }];
        let at = |now| quote(Currency::EUR, std::slice::from_ref(&visitor), &two, t(now)).unwrap();
        assert_eq!((at(99).total.minor, at(99).saved.minor), (8400, 1200));
        assert_eq!((at(100).total.minor, at(100).saved.minor), (9600, 0));
    }

    #[test]
    fn an_amount_out_of_range_is_refused() {
        let dear = TicketPrice { id: TicketTypeId(1), minor: i64::MAX / 2, early: None };
        let three = [Wanted { ticket: TicketTypeId(1), quantity: 3 }];
        assert!(quote(Currency::EUR, &[dear], &three, t(0)).is_err());
    }

    proptest! {
        #[test]
        fn parts_add_up_and_more_tickets_never_cost_less(
            prices in prop::collection::vec((0i64..100_000, prop::option::of((0i64..100_000, 0i64..200))), 1..6),
            quantities in prop::collection::vec(0u32..20, 1..6),
            now in 0i64..200,
        ) {
            let tickets: Vec<_> = (0i64..).zip(&prices).map(|(id, &(minor, early))| TicketPrice {
                id: TicketTypeId(id),
                minor,
                early: early.map(|(e, until)| Early { minor: e.min(minor), until: t(until) }),
            }).collect();
            let wanted: Vec<_> = (0i64..).zip(&quantities)
                .map(|(id, &quantity)| Wanted { ticket: TicketTypeId(id), quantity }).collect();
            let q = quote(Currency::EUR, &tickets, &wanted, t(now)).unwrap();
            prop_assert_eq!(q.lines.iter().map(|l| l.total.minor).sum::<i64>(), q.total.minor);
            let ordinary: i64 = q.lines.iter().map(|l| l.base.minor * i64::from(l.quantity)).sum();
            prop_assert_eq!(q.total.minor + q.saved.minor, ordinary);
            prop_assert!(q.saved.minor >= 0);
            for (i, _) in wanted.iter().enumerate() {
                let mut more = wanted.clone();
                more[i].quantity += 1;
                let dearer = quote(Currency::EUR, &tickets, &more, t(now)).unwrap();
                prop_assert!(dearer.total.minor >= q.total.minor);
            }
        }
    }
}
