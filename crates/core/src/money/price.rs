//! Price: one function that quotes the page, the booking and whatever follows.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::money::promo::{self, Promo};
use crate::seats::Wanted;
use crate::{Currency, Money, TicketTypeId};

/// A lower price until an instant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Early {
    /// Minor units for one ticket.
    pub minor: i64,
    /// From this instant on the ordinary price holds.
    pub until: Timestamp,
}

/// A lower price from so many of one ticket in one booking.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Group {
    /// From so many on, at least two.
    pub from: u32,
    /// Minor units for each of them.
    pub minor: i64,
}

/// What is odd about the prices of a ticket: one that nobody pays, or a reduction that is none.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Odd {
    /// The early price was over before it was kept.
    EarlyOver,
    /// The early price is above the price.
    EarlyAbove,
    /// The price for members is above the price.
    MemberAbove,
    /// The price in a group is above the price.
    GroupAbove,
}

/// What is odd about the prices of a ticket of `minor` units, so that it is asked about before it
/// is kept.
#[must_use]
pub fn odd(
    minor: i64,
    early: Option<Early>,
    member: Option<i64>,
    group: Option<Group>,
    now: Timestamp,
) -> Vec<Odd> {
    let cases = [
        (early.is_some_and(|early| early.until <= now), Odd::EarlyOver),
        (early.is_some_and(|early| early.minor > minor), Odd::EarlyAbove),
        (member.is_some_and(|member| member > minor), Odd::MemberAbove),
        (group.is_some_and(|group| group.minor > minor), Odd::GroupAbove),
    ];
    cases.into_iter().filter(|(is, _)| *is).map(|(_, odd)| odd).collect()
}

/// The part of a course that is still to come, for those who join late.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Share {
    /// Dates left.
    pub left: u32,
    /// Dates in all, at least one.
    pub all: u32,
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
    /// Minor units for one ticket when a member books, if that is another price.
    pub member: Option<i64>,
    /// The price by group size, if there is one.
    pub group: Option<Group>,
    /// The part of a course that is left, once it has begun.
    pub share: Option<Share>,
    /// Tax contained in the price, in hundredths of a percent.
    pub tax_basis: u32,
    /// The tax comes on top of the price instead of being contained in it.
    pub tax_added: bool,
}

/// Which of its prices a ticket is sold at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Why {
    /// The ordinary one.
    Ordinary,
    /// The early one.
    Early,
    /// The one for members.
    Member,
    /// The one by group size.
    Group,
}

/// What is known of whoever books.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Buyer {
    /// A member, by their record.
    pub member: bool,
    /// The word they gave, which shows hidden tickets; empty when they gave none.
    pub word: String,
    /// The address they proved by signing in; empty when they did not.
    pub address: String,
    /// Promo codes they have given and may use, in the order given.
    pub promos: Vec<Promo>,
}

impl TicketPrice {
    /// A ticket with nothing but an ordinary price.
    #[must_use]
    pub const fn plain(id: TicketTypeId, minor: i64) -> Self {
        Self {
            id,
            minor,
            early: None,
            member: None,
            group: None,
            share: None,
            tax_basis: 0,
            tax_added: false,
        }
    }

    /// The price of one of `quantity` tickets at `now`, and which it is: the lowest of
    /// those this buyer is entitled to. Latecomers to a course pay for the dates that
    /// are left, rounded half up to a whole minor unit.
    #[must_use]
    pub fn unit(&self, quantity: u32, buyer: &Buyer, now: Timestamp) -> (i64, Why) {
        let mut best = (self.minor, Why::Ordinary);
        let mut offer = |minor: Option<i64>, why| {
            if let Some(minor) = minor.filter(|m| *m < best.0) {
                best = (minor, why);
            }
        };
        offer(self.early.filter(|e| now < e.until).map(|e| e.minor), Why::Early);
        offer(self.member.filter(|_| buyer.member), Why::Member);
        offer(self.group.filter(|g| quantity >= g.from).map(|g| g.minor), Why::Group);
        (self.part(best.0), best.1)
    }

    /// What is asked of an ordinary price, for those who join late.
    #[must_use]
    pub fn part(&self, minor: i64) -> i64 {
        self.share.map_or(minor, |s| {
            let (left, all) = (i128::from(s.left), i128::from(s.all.max(1)));
            let rounded = (i128::from(minor) * left * 2 + all) / (all * 2);
            i64::try_from(rounded).unwrap_or(minor)
        })
    }
}

/// The tax contained in an amount at a rate in hundredths of a percent, rounded half
/// up to a whole minor unit.
#[must_use]
pub fn tax_within(minor: i64, basis: u32) -> i64 {
    let whole = 10_000 + i128::from(basis);
    let tax = (i128::from(minor) * i128::from(basis) * 2 + whole) / (whole * 2);
    i64::try_from(tax).unwrap_or(0)
}

/// The tax on top of an amount at a rate in hundredths of a percent, rounded half up.
#[must_use]
pub fn tax_on(minor: i64, basis: u32) -> i64 {
    let tax = (i128::from(minor) * i128::from(basis) * 2 + 10_000) / 20_000;
    i64::try_from(tax).unwrap_or(0)
}

/// What a line comes to, and the tax contained in that: tax that is added makes the line
/// longer, tax that is contained does not.
#[must_use]
pub fn with_tax(minor: i64, basis: u32, added: bool) -> (i64, i64) {
    if added {
        let tax = tax_on(minor, basis);
        (minor.saturating_add(tax), tax)
    } else {
        (minor, tax_within(minor, basis))
    }
}

/// One ticket type of a quote.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct QuoteLine {
    /// The ticket type.
    pub ticket: TicketTypeId,
    /// How many of it.
    pub quantity: u32,
    /// The ordinary price of one.
    pub base: Money,
    /// The price asked for one.
    pub unit: Money,
    /// Which price that is.
    pub why: Why,
    /// What promo codes take off.
    pub discount: Money,
    /// `quantity × unit − discount`, and the tax if it is added.
    pub total: Money,
    /// Tax contained in `total`.
    pub tax: Money,
    /// Its rate, in hundredths of a percent.
    pub tax_basis: u32,
    /// The tax is added to `unit`.
    pub tax_added: bool,
}

/// What a choice of tickets costs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Quote {
    /// One line a ticket type, in the order of the ticket types.
    pub lines: Vec<QuoteLine>,
    /// The sum of the lines.
    pub total: Money,
    /// What ordinary prices would come to, less what is asked, both without added tax.
    pub saved: Money,
    /// Tax contained in `total`: the sum of the lines'.
    pub tax: Money,
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
    buyer: &Buyer,
    now: Timestamp,
) -> Result<Quote, PriceRefusal> {
    let mut units = Vec::new();
    for ticket in tickets {
        let quantity = wanted
            .iter()
            .filter(|w| w.ticket == ticket.id)
            .fold(0u32, |sum, w| sum.saturating_add(w.quantity));
        if quantity > 0 {
            let (unit, why) = ticket.unit(quantity, buyer, now);
            let out = PriceRefusal::OutOfRange { ticket: ticket.id, quantity };
            let line = unit.checked_mul(i64::from(quantity)).ok_or(out)?;
            units.push((ticket, quantity, unit, why, line));
        }
    }
    let before: Vec<(TicketTypeId, i64)> = units.iter().map(|u| (u.0.id, u.4)).collect();
    let off = promo::discounts(&before, &buyer.promos);
    let mut lines = Vec::new();
    let (mut total, mut saved, mut taxes) = (0i64, 0i64, 0i64);
    for (column, (ticket, quantity, unit, why, line)) in units.into_iter().enumerate() {
        let out = || PriceRefusal::OutOfRange { ticket: ticket.id, quantity };
        let base = ticket.part(ticket.minor);
        let discount: i64 = off.iter().map(|row| row[column]).sum();
        let (whole, tax) = with_tax(line - discount, ticket.tax_basis, ticket.tax_added);
        total = total.checked_add(whole).ok_or_else(out)?;
        let ordinary = base.checked_mul(i64::from(quantity)).ok_or_else(out)?;
        saved = saved.checked_add(ordinary - line + discount).ok_or_else(out)?;
        // Contained in the lines, so it fits wherever they do.
        taxes = taxes.saturating_add(tax);
        lines.push(QuoteLine {
            ticket: ticket.id,
            quantity,
            base: currency.of(base),
            unit: currency.of(unit),
            why,
            discount: currency.of(discount),
            total: currency.of(whole),
            tax: currency.of(tax),
            tax_basis: ticket.tax_basis,
            tax_added: ticket.tax_added,
        });
    }
    Ok(Quote {
        lines,
        total: currency.of(total),
        saved: currency.of(saved),
        tax: currency.of(taxes),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn t(second: i64) -> Timestamp {
        Timestamp::from_second(second).unwrap()
    }

    fn one(price: TicketPrice, quantity: u32, member: bool, now: i64) -> Quote {
        let wanted = [Wanted { ticket: price.id, quantity }];
        quote(Currency::EUR, &[price], &wanted, &Buyer { member, ..Buyer::default() }, t(now))
            .unwrap()
    }

    #[test]
    fn a_price_is_odd_from_the_very_instant_and_the_first_unit() {
        let at = |second| Timestamp::from_second(second).unwrap();
        let early = |minor, until| Some(Early { minor, until: at(until) });
        let group = |minor| Some(Group { from: 2, minor });
        let now = at(100);
        assert_eq!(odd(900, early(900, 101), Some(900), group(900), now), []);
        assert_eq!(odd(900, None, None, None, now), []);
        assert_eq!(odd(900, early(901, 100), None, None, now), [Odd::EarlyOver, Odd::EarlyAbove]);
        assert_eq!(odd(900, None, Some(901), group(901), now), [Odd::MemberAbove, Odd::GroupAbove]);
    }

    #[test]
    fn the_lowest_price_one_is_entitled_to_is_asked_and_named() {
        let visitor = TicketPrice {
            early: Some(Early { minor: 4200, until: t(100) }),
            member: Some(3600),
            group: Some(Group { from: 5, minor: 3000 }),
            ..TicketPrice::plain(TicketTypeId(1), 4800)
        };
        let asked = |quantity, member, now| {
            let q = one(visitor.clone(), quantity, member, now);
            (q.lines[0].unit.minor, q.lines[0].why, q.saved.minor)
        };
        assert_eq!(asked(2, false, 99), (4200, Why::Early, 1200));
        assert_eq!(asked(2, false, 100), (4800, Why::Ordinary, 0));
        assert_eq!(asked(2, true, 99), (3600, Why::Member, 2400));
        assert_eq!(asked(4, false, 100), (4800, Why::Ordinary, 0));
        assert_eq!(asked(5, true, 99), (3000, Why::Group, 9000));
    }

    #[test]
    fn latecomers_pay_for_the_evenings_that_are_left_and_tax_is_within() {
        let mut course = TicketPrice::plain(TicketTypeId(1), 12_000);
        course.share = Some(Share { left: 5, all: 6 });
        assert_eq!(one(course.clone(), 1, false, 0).total.minor, 10_000);
        course.share = Some(Share { left: 1, all: 7 });
        assert_eq!(one(course.clone(), 1, false, 0).total.minor, 1714);
        course.share = None;
        course.tax_basis = 900;
        assert_eq!(one(course.clone(), 2, false, 0).tax.minor, 1982); // 240.00 / 1.09 × 0.09 = 19.817
        course.tax_added = true;
        let added = one(course, 2, false, 0);
        assert_eq!((added.total.minor, added.tax.minor, added.saved.minor), (26_160, 2160, 0));
    }

    #[test]
    fn an_amount_out_of_range_is_refused() {
        let dear = TicketPrice::plain(TicketTypeId(1), i64::MAX / 2);
        let three = [Wanted { ticket: TicketTypeId(1), quantity: 3 }];
        assert!(quote(Currency::EUR, &[dear], &three, &Buyer::default(), t(0)).is_err());
    }

    prop_compose! {
        fn price(id: i64)(
            minor in 0i64..100_000, early in prop::option::of((0i64..120_000, 0i64..200)),
            member in prop::option::of(0i64..120_000), group in prop::option::of((2u32..8, 0i64..120_000)),
            share in prop::option::of((0u32..9, 1u32..9)), tax_basis in 0u32..3000, tax_added: bool,
        ) -> TicketPrice {
            TicketPrice {
                id: TicketTypeId(id), minor, member, tax_basis, tax_added,
                early: early.map(|(minor, until)| Early { minor, until: t(until) }),
                group: group.map(|(from, minor)| Group { from, minor }),
                share: share.map(|(left, all)| Share { left: left.min(all), all }),
            }
        }
    }

    proptest! {
        #[test]
        fn parts_add_up_and_nobody_pays_more_for_being_more_entitled(
            tickets in (price(0), price(1), price(2)), quantities in prop::collection::vec(0u32..20, 3),
            now in 0i64..200, member: bool,
        ) {
            let tickets = [tickets.0, tickets.1, tickets.2];
            let wanted: Vec<_> = (0i64..).zip(&quantities)
                .map(|(id, &quantity)| Wanted { ticket: TicketTypeId(id), quantity }).collect();
            let ask = |wanted: &[Wanted], member, now| {
                quote(Currency::EUR, &tickets, wanted, &Buyer { member, ..Buyer::default() }, t(now)).unwrap()
            };
            let q = ask(&wanted, member, now);
            prop_assert_eq!(q.lines.iter().map(|l| l.total.minor).sum::<i64>(), q.total.minor);
            prop_assert_eq!(q.lines.iter().map(|l| l.tax.minor).sum::<i64>(), q.tax.minor);
            prop_assert!(q.tax.minor <= q.total.minor);
            let ordinary: i64 = q.lines.iter().map(|l| l.base.minor * i64::from(l.quantity)).sum();
            let added: i64 = q.lines.iter().filter(|l| tickets.iter().any(|t| t.id == l.ticket && t.tax_added))
                .map(|l| l.tax.minor).sum();
            prop_assert_eq!(q.total.minor - added + q.saved.minor, ordinary);
            prop_assert!(q.saved.minor >= 0);
            prop_assert!(ask(&wanted, true, now).total.minor <= ask(&wanted, false, now).total.minor);
            prop_assert!(ask(&wanted, member, now + 1).total.minor >= q.total.minor, "waiting never pays");
            for line in &q.lines {
                let mut more = wanted.clone();
                more.iter_mut().filter(|w| w.ticket == line.ticket).for_each(|w| w.quantity += 1);
                let dearer = ask(&more, member, now);
                let unit = dearer.lines.iter().find(|l| l.ticket == line.ticket).unwrap();
                prop_assert!(unit.unit.minor <= line.unit.minor, "one more never makes each dearer");
                // Without a price by group size more never cost less in all.
                if unit.why != Why::Group {
                    prop_assert!(dearer.total.minor >= q.total.minor);
                }
            }
        }
    }
}
