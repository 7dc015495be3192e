//! Seats: capacity counted in named pools, and what tickets draw from them.
//!
//! A ticket can be sold *n* times when every pool it draws from has `n × draw`
//! seats free and its own limit allows it. Nothing here ever takes a pool below
//! zero. A pool may be *over-full* after an organiser accepts a smaller capacity
//! on purpose; then it simply has nothing free.

pub mod hold_limits;
pub mod strip;
pub mod waiting;

use std::collections::BTreeMap;

use crate::state::State;
use crate::{PoolId, TicketTypeId};

/// Why seats are not free: each seat taken is in exactly one of these.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Bucket {
    /// Kept for a booker who is filling the form in.
    Held,
    /// Asked for, waiting for the organiser's word.
    Requested,
    /// Booked, waiting for the money.
    AwaitingPayment,
    /// Booked for good.
    Confirmed,
}

impl Bucket {
    /// The bucket in which a booking of this state keeps its seats, if it keeps any.
    #[must_use]
    pub const fn of(state: State) -> Option<Self> {
        match state {
            State::Held => Some(Self::Held),
            State::Requested => Some(Self::Requested),
            State::AwaitingPayment => Some(Self::AwaitingPayment),
            State::Confirmed => Some(Self::Confirmed),
            State::Declined | State::Cancelled | State::Lapsed => None,
        }
    }
}

/// Seats of one pool that are not free, by reason.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Taken {
    /// Seats in [`Bucket::Held`].
    pub held: u32,
    /// Seats in [`Bucket::Requested`].
    pub requested: u32,
    /// Seats in [`Bucket::AwaitingPayment`].
    pub awaiting_payment: u32,
    /// Seats in [`Bucket::Confirmed`].
    pub confirmed: u32,
}

impl Taken {
    /// All seats taken.
    #[must_use]
    pub const fn total(&self) -> u32 {
        self.held
            .saturating_add(self.requested)
            .saturating_add(self.awaiting_payment)
            .saturating_add(self.confirmed)
    }

    /// The count of one bucket.
    #[must_use]
    pub const fn bucket(&mut self, bucket: Bucket) -> &mut u32 {
        match bucket {
            Bucket::Held => &mut self.held,
            Bucket::Requested => &mut self.requested,
            Bucket::AwaitingPayment => &mut self.awaiting_payment,
            Bucket::Confirmed => &mut self.confirmed,
        }
    }
}

/// A named pool of seats on one date.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pool {
    /// Its key.
    pub id: PoolId,
    /// What is counted, in the plural: chairs, microscopes, suits.
    pub name: String,
    /// Seats in all, the room's ceiling already applied.
    pub capacity: u32,
    /// Seats that are not free. Holds past their deadline must be left out.
    pub taken: Taken,
}

impl Pool {
    /// Seats free; zero also when the pool is over-full.
    #[must_use]
    pub const fn free(&self) -> u32 {
        self.capacity.saturating_sub(self.taken.total())
    }
}

/// What one ticket takes from one pool.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Draw {
    /// The pool drawn from.
    pub pool: PoolId,
    /// Seats, at least one.
    pub seats: u32,
}

/// What the seat rules need to know of a ticket type on one date.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TicketSeats {
    /// Its key.
    pub id: TicketTypeId,
    /// What one of it draws.
    pub draws: Vec<Draw>,
    /// How many of it may be sold for this date, whatever the pools say.
    pub limit: Option<u32>,
    /// How many are booked or held.
    pub sold: u32,
}

/// So many of one ticket type.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Wanted {
    /// The ticket type.
    pub ticket: TicketTypeId,
    /// How many of it.
    pub quantity: u32,
}

/// A choice with each ticket type once, in the order they are first named; what is not
/// wanted is left out.
#[must_use]
pub fn together(wanted: &[Wanted]) -> Vec<Wanted> {
    let mut all: Vec<Wanted> = Vec::new();
    for w in wanted.iter().filter(|w| w.quantity > 0) {
        match all.iter_mut().find(|known| known.ticket == w.ticket) {
            Some(known) => known.quantity = known.quantity.saturating_add(w.quantity),
            None => all.push(*w),
        }
    }
    all
}

/// How many of a ticket a choice holds.
#[must_use]
pub fn count_of(wanted: &[Wanted], ticket: TicketTypeId) -> u32 {
    let of_it = wanted.iter().filter(|w| w.ticket == ticket);
    of_it.fold(0, |sum, w| sum.saturating_add(w.quantity))
}

/// Why seats were refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SeatRefusal {
    /// A pool has not enough free.
    #[error("{wanted} {name} wanted, {free} free")]
    TooFew {
        /// The pool.
        pool: PoolId,
        /// Its name, in the plural.
        name: String,
        /// Seats the choice needs.
        wanted: u32,
        /// Seats free.
        free: u32,
    },
    /// The ticket's own limit is reached.
    #[error("{wanted} of ticket {ticket} wanted, {left} left")]
    TicketLimit {
        /// The ticket type.
        ticket: TicketTypeId,
        /// How many were wanted.
        wanted: u32,
        /// How many its limit leaves.
        left: u32,
    },
    /// A ticket type that this date does not sell.
    #[error("ticket {ticket} is not sold here")]
    UnknownTicket {
        /// The ticket type.
        ticket: TicketTypeId,
    },
}

/// The seats a choice draws from each pool, summed; saturating, so that a silly
/// quantity is refused for want of seats and never wraps around.
fn needs(tickets: &[TicketSeats], wanted: &[Wanted]) -> Result<BTreeMap<PoolId, u32>, SeatRefusal> {
    let mut needs = BTreeMap::new();
    for w in wanted.iter().filter(|w| w.quantity > 0) {
        let ticket = tickets
            .iter()
            .find(|t| t.id == w.ticket)
            .ok_or(SeatRefusal::UnknownTicket { ticket: w.ticket })?;
        for draw in &ticket.draws {
            let need: &mut u32 = needs.entry(draw.pool).or_default();
            *need = need.saturating_add(w.quantity.saturating_mul(draw.seats));
        }
    }
    Ok(needs)
}

/// Decides whether a choice of tickets fits, and what it takes from each pool.
///
/// # Errors
/// The first thing in the way: an unknown ticket, a ticket's limit, a pool with too few free.
pub fn take(
    pools: &[Pool],
    tickets: &[TicketSeats],
    wanted: &[Wanted],
) -> Result<Vec<Draw>, SeatRefusal> {
    let needs = needs(tickets, wanted)?;
    for ticket in tickets {
        let of_it = count_of(wanted, ticket.id);
        let left = ticket.limit.map_or(u32::MAX, |limit| limit.saturating_sub(ticket.sold));
        if of_it > left {
            return Err(SeatRefusal::TicketLimit { ticket: ticket.id, wanted: of_it, left });
        }
    }
    for (&id, &wanted) in &needs {
        let pool = pools.iter().find(|p| p.id == id);
        let free = pool.map_or(0, Pool::free);
        if wanted > free {
            let name = pool.map_or_else(String::new, |p| p.name.clone());
            return Err(SeatRefusal::TooFew { pool: id, name, wanted, free });
        }
    }
    Ok(needs.into_iter().map(|(pool, seats)| Draw { pool, seats }).collect())
}

/// How many *more* of a ticket could be sold beside what is already chosen.
#[must_use]
pub fn sellable(
    pools: &[Pool],
    tickets: &[TicketSeats],
    chosen: &[Wanted],
    ticket: TicketTypeId,
) -> u32 {
    let Some(facts) = tickets.iter().find(|t| t.id == ticket) else { return 0 };
    let Ok(needs) = needs(tickets, chosen) else { return 0 };
    let already = count_of(chosen, ticket);
    let by_limit = facts
        .limit
        .map_or(u32::MAX, |limit| limit.saturating_sub(facts.sold).saturating_sub(already));
    facts.draws.iter().filter(|d| d.seats > 0).fold(by_limit, |least, draw| {
        let free = pools.iter().find(|p| p.id == draw.pool).map_or(0, Pool::free);
        let left = free.saturating_sub(needs.get(&draw.pool).copied().unwrap_or(0));
        least.min(left / draw.seats)
    })
}

/// How a bucket of a pool changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Shift {
    /// The pool.
    pub pool: PoolId,
    /// The bucket.
    pub bucket: Bucket,
    /// Seats added, or taken away when negative.
    pub by: i64,
}

/// What a booking's change of state does to the pools it draws from. `None` is a
/// booking that does not exist yet.
#[must_use]
pub fn shifts(draws: &[Draw], from: Option<State>, to: State) -> Vec<Shift> {
    let (from, to) = (from.and_then(Bucket::of), Bucket::of(to));
    if from == to {
        return Vec::new();
    }
    let change = |bucket: Option<Bucket>, sign: i64| {
        draws.iter().filter_map(move |d| {
            Some(Shift { pool: d.pool, bucket: bucket?, by: sign * i64::from(d.seats) })
        })
    };
    change(from, -1).chain(change(to, 1)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::booking::{Move, allowed};
    use crate::people::acting::Actor;
    use proptest::prelude::*;

    fn pool(id: i64, capacity: u32) -> Pool {
        Pool { id: PoolId(id), name: format!("pool {id}"), capacity, taken: Taken::default() }
    }

    fn ticket(id: i64, draws: &[(i64, u32)], limit: Option<u32>) -> TicketSeats {
        let draws = draws.iter().map(|&(pool, seats)| Draw { pool: PoolId(pool), seats }).collect();
        TicketSeats { id: TicketTypeId(id), draws, limit, sold: 0 }
    }

    fn of(ticket: i64, quantity: u32) -> Wanted {
        Wanted { ticket: TicketTypeId(ticket), quantity }
    }

    #[test]
    fn a_family_draws_four_chairs_and_four_suits_and_the_scarcer_pool_decides() {
        let pools = [pool(1, 40), pool(2, 10)];
        let tickets = [ticket(1, &[(1, 1), (2, 1)], None), ticket(2, &[(1, 4), (2, 4)], None)];
        assert_eq!(sellable(&pools, &tickets, &[], TicketTypeId(2)), 2);
        assert_eq!(sellable(&pools, &tickets, &[of(1, 3)], TicketTypeId(2)), 1);
        assert_eq!(
            take(&pools, &tickets, &[of(1, 3), of(2, 2)]),
            Err(SeatRefusal::TooFew {
                pool: PoolId(2),
                name: "pool 2".into(),
                wanted: 11,
                free: 10
            })
        );
        let drawn = take(&pools, &tickets, &[of(1, 2), of(2, 2)]).unwrap();
        assert_eq!(drawn.iter().map(|d| d.seats).collect::<Vec<_>>(), [10, 10]);
    }

    #[test]
    fn a_tickets_own_limit_counts_before_the_pools_do() {
        let mut tickets = [ticket(1, &[(1, 1)], Some(5))];
        tickets[0].sold = 4;
        let pools = [pool(1, 40)];
        assert_eq!(sellable(&pools, &tickets, &[], TicketTypeId(1)), 1);
        assert_eq!(sellable(&pools, &tickets, &[of(1, 1)], TicketTypeId(1)), 0, "chosen already");
        assert_eq!(take(&pools, &tickets, &[of(1, 1)]).map(|d| d.len()), Ok(1), "the last one");
        assert_eq!(
            take(&[pool(1, 1)], &[ticket(1, &[(1, 1)], None)], &[of(1, 1)]).map(|d| d.len()),
            Ok(1)
        );
        assert!(matches!(
            take(&pools, &tickets, &[of(1, 2)]),
            Err(SeatRefusal::TicketLimit { wanted: 2, left: 1, .. })
        ));
    }

    #[test]
    fn an_over_full_pool_has_nothing_free_and_silly_numbers_do_not_wrap() {
        let mut over = pool(1, 5);
        over.taken.confirmed = 9;
        assert_eq!(over.free(), 0);
        let tickets = [ticket(1, &[(1, 4)], None)];
        assert!(take(&[pool(1, 5)], &tickets, &[of(1, u32::MAX)]).is_err());
        assert!(matches!(
            take(&[pool(1, 5)], &tickets, &[of(9, 1)]),
            Err(SeatRefusal::UnknownTicket { .. })
        ));
    }

    #[derive(Debug, Clone)]
    enum Act {
        Hold { one: u32, family: u32 },
        Move { which: usize, by: Move },
    }

    fn act() -> impl Strategy<Value = Act> {
        let moves = prop::sample::select(Move::ALL.to_vec());
        prop_oneof![
            (0u32..4, 0u32..3).prop_map(|(one, family)| Act::Hold { one, family }),
            (any::<usize>(), moves).prop_map(|(which, by)| Act::Move { which, by }),
        ]
    }

    proptest! {
        /// Any sequence of holding, expiring, booking, paying, cancelling and taking again.
        #[test]
        fn no_sequence_takes_a_pool_below_zero_or_loses_a_seat(
            acts in prop::collection::vec(act(), 1..80), chairs in 0u32..20, suits in 0u32..12,
        ) {
            let mut pools = [pool(1, chairs), pool(2, suits)];
            let tickets = [ticket(1, &[(1, 1)], None), ticket(2, &[(1, 4), (2, 4)], None)];
            let mut bookings: Vec<(State, Vec<Wanted>)> = Vec::new();
            for act in acts {
                let (entry, to) = match act {
                    Act::Hold { one, family } => {
                        (None, (State::Held, vec![of(1, one), of(2, family)]))
                    }
                    Act::Move { which, by } => {
                        if bookings.is_empty() { continue }
                        let at = which % bookings.len();
                        let (state, wanted) = bookings[at].clone();
                        let row = Actor::ALL.into_iter().find_map(|who| allowed(state, by, who).ok());
                        let Some(row) = row else { continue };
                        let to = row.to;
                        (Some(at), (to, wanted))
                    }
                };
                let from = entry.map(|at| bookings[at].0);
                let keeps = from.and_then(Bucket::of).is_some();
                let draws = if !keeps && Bucket::of(to.0).is_some() {
                    let Ok(draws) = take(&pools, &tickets, &to.1) else { continue };
                    draws
                } else {
                    needs(&tickets, &to.1).unwrap().into_iter()
                        .map(|(pool, seats)| Draw { pool, seats }).collect()
                };
                for shift in shifts(&draws, from, to.0) {
                    let pool = pools.iter_mut().find(|p| p.id == shift.pool).unwrap();
                    let count = pool.taken.bucket(shift.bucket);
                    *count = u32::try_from(i64::from(*count) + shift.by).expect("below zero");
                }
                match entry {
                    Some(at) => bookings[at] = to,
                    None => bookings.push(to),
                }
                for pool in &pools {
                    prop_assert!(pool.taken.total() <= pool.capacity);
                    let counted: u32 = bookings.iter()
                        .filter(|(state, _)| Bucket::of(*state).is_some())
                        .map(|(_, wanted)| needs(&tickets, wanted).unwrap().get(&pool.id).copied().unwrap_or(0))
                        .sum();
                    prop_assert_eq!(pool.taken.total(), counted);
                }
            }
        }

        #[test]
        fn what_is_said_to_be_sellable_can_be_taken_and_one_more_cannot(
            chairs in 0u32..40, suits in 0u32..20, ones in 0u32..5, limit in prop::option::of(0u32..9),
        ) {
            let pools = [pool(1, chairs), pool(2, suits)];
            let tickets = [ticket(1, &[(1, 1)], None), ticket(2, &[(1, 4), (2, 4)], limit)];
            prop_assume!(take(&pools, &tickets, &[of(1, ones)]).is_ok());
            let n = sellable(&pools, &tickets, &[of(1, ones)], TicketTypeId(2));
            prop_assert!(take(&pools, &tickets, &[of(1, ones), of(2, n)]).is_ok());
            prop_assert!(take(&pools, &tickets, &[of(1, ones), of(2, n + 1)]).is_err());
        }
    }
}
