//! Promo codes: what they take off, whom they are for, how several go together.
//!
//! Percentages are taken first, each from what the ones before it have left; amounts
//! after them. An amount is spread over the lines it is for in proportion to what is left
//! of them, by largest remainder, so that the parts add up to it. Nothing falls below
//! nothing.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::words::fold;
use crate::{DateId, TicketTypeId};

/// What a code takes off.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Gives {
    /// So many percent, 1 to 100.
    Percent(u32),
    /// So many minor units of the whole.
    Amount(i64),
}

/// A promo code and the bounds of its use.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Promo {
    /// Its key.
    pub id: i64,
    /// What is typed; compared without regard to case and accents.
    pub code: String,
    /// What it takes off.
    pub gives: Gives,
    /// The tickets it is for; empty for all.
    pub tickets: Vec<TicketTypeId>,
    /// The dates it is for; empty for all.
    pub dates: Vec<DateId>,
    /// The address it is for; empty for everybody.
    pub address: String,
    /// How often it may be used in all.
    pub most: Option<u32>,
    /// Each person may use it once.
    pub once: bool,
    /// It may be used from this instant.
    pub from: Option<Timestamp>,
    /// It may be used before this instant.
    pub until: Option<Timestamp>,
    /// The least that a basket must come to, in minor units.
    pub least_minor: Option<i64>,
    /// The most that a basket may come to, in minor units.
    pub most_minor: Option<i64>,
    /// It may be used beside other codes.
    pub together: bool,
    /// Taken back by hand.
    pub stopped: bool,
}

/// What is known of a booking when a code is given with it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Asks<'a> {
    /// The date booked.
    pub date: DateId,
    /// The tickets chosen.
    pub tickets: &'a [TicketTypeId],
    /// What they come to before any code, in minor units.
    pub basket: i64,
    /// The booker's address as far as it is known; may be empty.
    pub address: &'a str,
    /// How often the code is in use on other bookings that count.
    pub used: u32,
    /// Whether this person uses it on another booking.
    pub used_by_them: bool,
    /// Codes on the booking already.
    pub others: &'a [Promo],
}

/// Why a code is not taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PromoRefusal {
    /// There is no such code, or it was taken back.
    #[error("no such code")]
    Unknown,
    /// It is on the booking already.
    #[error("given already")]
    Given,
    /// Its time has not come.
    #[error("good from {from}")]
    NotYet {
        /// From when on.
        from: Timestamp,
    },
    /// Its time is over.
    #[error("was good until {until}")]
    Over {
        /// Until when.
        until: Timestamp,
    },
    /// It has been used as often as it may be.
    #[error("used {most} times already")]
    UsedUp {
        /// How often it may be.
        most: u32,
    },
    /// This person has used it.
    #[error("used by this person already")]
    Again,
    /// It is for somebody else, or nobody yet knows for whom the booking is.
    #[error("for another address")]
    NotTheirs,
    /// It is for other tickets.
    #[error("for other tickets")]
    OtherTickets,
    /// It is for other dates.
    #[error("for other dates")]
    OtherDate,
    /// The basket is too small.
    #[error("from {least} minor units on")]
    TooLittle {
        /// The least.
        least: i64,
    },
    /// The basket is too large.
    #[error("up to {most} minor units")]
    TooMuch {
        /// The most.
        most: i64,
    },
    /// It does not go with a code that is on the booking.
    #[error("not beside another code")]
    Alone,
}

impl Promo {
    /// Whether this is the code that was typed.
    #[must_use]
    pub fn is(&self, typed: &str) -> bool {
        fold(&self.code).replace(' ', "") == fold(typed).replace(' ', "")
    }

    /// Whether it is for this ticket.
    #[must_use]
    pub fn is_for(&self, ticket: TicketTypeId) -> bool {
        self.tickets.is_empty() || self.tickets.contains(&ticket)
    }

    /// Lets a booking use the code, or says why not.
    ///
    /// # Errors
    /// The first thing in the way.
    pub fn admits(&self, asks: &Asks<'_>, now: Timestamp) -> Result<(), PromoRefusal> {
        let refuse = |refusal| Err(refusal);
        if self.stopped {
            return refuse(PromoRefusal::Unknown);
        }
        if asks.others.iter().any(|o| o.id == self.id) {
            return refuse(PromoRefusal::Given);
        }
        if let Some(from) = self.from.filter(|from| now < *from) {
            return refuse(PromoRefusal::NotYet { from });
        }
        if let Some(until) = self.until.filter(|until| now >= *until) {
            return refuse(PromoRefusal::Over { until });
        }
        if let Some(most) = self.most.filter(|most| asks.used >= *most) {
            return refuse(PromoRefusal::UsedUp { most });
        }
        if !self.dates.is_empty() && !self.dates.contains(&asks.date) {
            return refuse(PromoRefusal::OtherDate);
        }
        if !asks.tickets.iter().any(|t| self.is_for(*t)) {
            return refuse(PromoRefusal::OtherTickets);
        }
        // Whom it is for is asked again when the form is complete.
        let theirs = self.address.trim().to_lowercase();
        if !theirs.is_empty()
            && !asks.address.is_empty()
            && theirs != asks.address.trim().to_lowercase()
        {
            return refuse(PromoRefusal::NotTheirs);
        }
        if self.once && asks.used_by_them {
            return refuse(PromoRefusal::Again);
        }
        if let Some(least) = self.least_minor.filter(|least| asks.basket < *least) {
            return refuse(PromoRefusal::TooLittle { least });
        }
        if let Some(most) = self.most_minor.filter(|most| asks.basket > *most) {
            return refuse(PromoRefusal::TooMuch { most });
        }
        let goes_with_others = self.together && asks.others.iter().all(|o| o.together);
        if !asks.others.is_empty() && !goes_with_others {
            return refuse(PromoRefusal::Alone);
        }
        Ok(())
    }
}

/// What each code takes off each line: a row for each code in the order given, a column
/// for each line. Lines are a ticket and what it comes to in minor units.
#[must_use]
pub fn discounts(lines: &[(TicketTypeId, i64)], promos: &[Promo]) -> Vec<Vec<i64>> {
    let mut left: Vec<i64> = lines.iter().map(|(_, minor)| (*minor).max(0)).collect();
    let mut off = vec![vec![0; lines.len()]; promos.len()];
    let percents = promos.iter().enumerate().filter(|(_, p)| matches!(p.gives, Gives::Percent(_)));
    let amounts = promos.iter().enumerate().filter(|(_, p)| matches!(p.gives, Gives::Amount(_)));
    for (row, promo) in percents.chain(amounts) {
        let taken: Vec<i64> = match promo.gives {
            Gives::Percent(percent) => (lines.iter().zip(&left))
                .map(|((ticket, _), left)| {
                    if promo.is_for(*ticket) {
                        crate::money::refund::share(*left, percent)
                    } else {
                        0
                    }
                })
                .collect(),
            Gives::Amount(minor) => {
                let open: Vec<i64> = (lines.iter().zip(&left))
                    .map(|((ticket, _), left)| if promo.is_for(*ticket) { *left } else { 0 })
                    .collect();
                spread(minor.max(0).min(open.iter().sum()), &open)
            }
        };
        for (left, taken) in left.iter_mut().zip(&taken) {
            *left -= taken;
        }
        off[row] = taken;
    }
    off
}

/// An amount spread in proportion to weights, by largest remainder: the parts add up to
/// it, and none is larger than its weight as long as the amount is not larger than all.
#[must_use]
pub fn spread(minor: i64, weights: &[i64]) -> Vec<i64> {
    let all: i128 = weights.iter().map(|w| i128::from(*w)).sum();
    if all == 0 {
        return vec![0; weights.len()];
    }
    let exact = |w: i64| i128::from(minor) * i128::from(w);
    let mut parts: Vec<i64> =
        weights.iter().map(|w| i64::try_from(exact(*w) / all).unwrap_or(0)).collect();
    let mut rest = minor - parts.iter().sum::<i64>();
    let mut order: Vec<usize> = (0..weights.len()).collect();
    order.sort_by_key(|i| (std::cmp::Reverse(exact(weights[*i]) % all), *i));
    for i in order {
        if rest == 0 {
            break;
        }
        parts[i] += 1;
        rest -= 1;
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn promo(id: i64, gives: Gives) -> Promo {
        Promo {
            id,
            code: format!("Frühling {id}"),
            gives,
            tickets: Vec::new(),
            dates: Vec::new(),
            address: String::new(),
            most: None,
            once: false,
            from: None,
            until: None,
            least_minor: None,
            most_minor: None,
            together: true,
            stopped: false,
        }
    }

    #[test]
    fn each_misuse_is_named() {
        let now = Timestamp::from_second(1000).unwrap();
        let tickets = [TicketTypeId(1)];
        let asks = Asks {
            date: DateId(1),
            tickets: &tickets,
            basket: 5000,
            address: "ros@post.example",
            used: 3,
            used_by_them: true,
            others: &[],
        };
        let with = |change: &dyn Fn(&mut Promo)| {
            let mut p = promo(1, Gives::Percent(10));
            change(&mut p);
            p.admits(&asks, now).err()
        };
        let later = now + jiff::SignedDuration::from_secs(1);
        assert_eq!(with(&|_| ()), None);
        assert_eq!(with(&|p| p.stopped = true), Some(PromoRefusal::Unknown));
        assert_eq!(with(&|p| p.from = Some(later)), Some(PromoRefusal::NotYet { from: later }));
        assert_eq!(with(&|p| p.until = Some(now)), Some(PromoRefusal::Over { until: now }));
        assert_eq!(with(&|p| p.most = Some(3)), Some(PromoRefusal::UsedUp { most: 3 }));
        assert_eq!(with(&|p| p.once = true), Some(PromoRefusal::Again));
        assert_eq!(with(&|p| p.dates = vec![DateId(2)]), Some(PromoRefusal::OtherDate));
        assert_eq!(with(&|p| p.tickets = vec![TicketTypeId(2)]), Some(PromoRefusal::OtherTickets));
        assert_eq!(with(&|p| p.address = "x@post.example".into()), Some(PromoRefusal::NotTheirs));
        assert_eq!(with(&|p| p.address = "Ros@post.example".into()), None);
        assert_eq!(
            with(&|p| p.least_minor = Some(5001)),
            Some(PromoRefusal::TooLittle { least: 5001 })
        );
        assert_eq!(
            with(&|p| p.most_minor = Some(4999)),
            Some(PromoRefusal::TooMuch { most: 4999 })
        );
        let lonely = Promo { together: false, ..promo(2, Gives::Amount(1)) };
        let others = [lonely];
        let beside = Asks { others: &others, ..asks };
        assert_eq!(promo(1, Gives::Percent(10)).admits(&beside, now), Err(PromoRefusal::Alone));
        assert_eq!(others[0].admits(&beside, now), Err(PromoRefusal::Given));
        assert!(promo(1, Gives::Percent(10)).is(" FRUHLING1 "));
    }

    #[test]
    fn percent_first_then_amounts_in_parts_that_add_up() {
        let lines = [(TicketTypeId(1), 1000), (TicketTypeId(2), 1000), (TicketTypeId(3), 1000)];
        let off = discounts(&lines, &[promo(1, Gives::Amount(100)), promo(2, Gives::Percent(10))]);
        assert_eq!(off, [vec![34, 33, 33], vec![100, 100, 100]]);
        assert_eq!(spread(5, &[0, 0]), [0, 0]);
    }

    proptest! {
        #[test]
        fn nothing_falls_below_nothing(
            lines in prop::collection::vec(0i64..20_000, 0..5),
            codes in prop::collection::vec((any::<bool>(), 0i64..30_000, any::<bool>()), 0..4),
        ) {
            let lines: Vec<_> = (0i64..).zip(&lines).map(|(n, m)| (TicketTypeId(n), *m)).collect();
            let promos: Vec<Promo> = (0i64..).zip(&codes).map(|(n, (percent, size, first))| Promo {
                tickets: if *first { vec![TicketTypeId(0)] } else { Vec::new() },
                ..promo(n, if *percent { Gives::Percent(u32::try_from(*size % 101).unwrap()) } else { Gives::Amount(*size) })
            }).collect();
            let off = discounts(&lines, &promos);
            for (column, (ticket, minor)) in lines.iter().enumerate() {
                let all: i64 = off.iter().map(|row| row[column]).sum();
                prop_assert!(all >= 0 && all <= *minor);
                prop_assert!(promos.iter().zip(&off).all(|(p, row)| p.is_for(*ticket) || row[column] == 0));
            }
            if let [one] = &promos[..] && let Gives::Amount(minor) = one.gives {
                let open: i64 = lines.iter().filter(|(t, _)| one.is_for(*t)).map(|(_, m)| m).sum();
                prop_assert_eq!(off[0].iter().sum::<i64>(), minor.min(open));
            }
        }
    }
}
