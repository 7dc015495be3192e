//! The waiting list: who is offered freed seats.
//!
//! First come, first served. A party that does not fit keeps its place: those behind it
//! that fit are offered seats meanwhile, and that it was passed over is said, never
//! silent. A seat on offer is held and so on sale to nobody else.

use serde::{Deserialize, Serialize};

use crate::seats::{self, Pool, TicketSeats, Wanted};

crate::worded! {
    /// How an event tells those who wait.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
    #[serde(rename_all = "snake_case")]
    pub enum Manner {
        /// Nobody can wait.
        #[default]
        Off = "off",
        /// Freed seats are offered to the first who fits, until a deadline.
        OfferFirst = "offer to the first",
        /// Everybody who fits is told, and the first to book has the seats.
        TellAll = "tell everyone",
    }
}

crate::worded! {
    /// Where somebody on the list stands.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
    pub enum Stands {
        /// Waiting.
        Waiting = "waiting",
        /// Seats are held for them.
        Offered = "offered",
        /// They took the seats.
        Taken = "taken",
        /// The offer's deadline passed.
        Passed = "passed",
        /// They left the list.
        Left = "left",
    }
}

/// A party that waits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Party {
    /// Its key.
    pub id: i64,
    /// The tickets it wants.
    pub wanted: Vec<Wanted>,
}

/// Who is offered seats, and who was passed over because their party does not fit.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Serving {
    /// Parties offered seats, first come first.
    pub offered: Vec<i64>,
    /// Parties that came before one of those and do not fit.
    pub passed_over: Vec<i64>,
}

/// Serves the parties that wait, in the order they came, from what is free.
#[must_use]
pub fn serve(pools: &[Pool], tickets: &[TicketSeats], parties: &[Party]) -> Serving {
    let (mut pools, mut tickets) = (pools.to_vec(), tickets.to_vec());
    let (mut serving, mut unfit) = (Serving::default(), Vec::new());
    for party in parties {
        let Ok(draws) = seats::take(&pools, &tickets, &party.wanted) else {
            unfit.push(party.id);
            continue;
        };
        for draw in draws {
            let pool = pools.iter_mut().filter(|p| p.id == draw.pool);
            pool.for_each(|p| p.taken.held = p.taken.held.saturating_add(draw.seats));
        }
        for w in &party.wanted {
            let ticket = tickets.iter_mut().filter(|t| t.id == w.ticket);
            ticket.for_each(|t| t.sold = t.sold.saturating_add(w.quantity));
        }
        serving.offered.push(party.id);
        serving.passed_over.append(&mut unfit);
    }
    serving
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::seats::{Draw, Taken};
    use crate::{PoolId, TicketTypeId};
    use proptest::prelude::*;

    fn hall(capacity: u32, taken: u32) -> (Vec<Pool>, Vec<TicketSeats>) {
        let pool = Pool {
            id: PoolId(1),
            name: "chairs".into(),
            capacity,
            taken: Taken { confirmed: taken, ..Taken::default() },
        };
        let ticket = TicketSeats {
            id: TicketTypeId(1),
            draws: vec![Draw { pool: PoolId(1), seats: 1 }],
            limit: None,
            sold: taken,
        };
        (vec![pool], vec![ticket])
    }

    fn party(id: i64, size: u32) -> Party {
        Party { id, wanted: vec![Wanted { ticket: TicketTypeId(1), quantity: size }] }
    }

    #[test]
    fn a_party_that_does_not_fit_keeps_its_place_and_is_told() {
        let (pools, tickets) = hall(10, 7);
        let serving =
            serve(&pools, &tickets, &[party(1, 4), party(2, 2), party(3, 2), party(4, 1)]);
        assert_eq!(serving.offered, [2, 4]);
        assert_eq!(serving.passed_over, [1, 3]);
        assert_eq!(serve(&pools, &tickets, &[party(1, 4)]), Serving::default());
    }

    /// There are seats for all, but no more than three of the ticket: what one party is offered
    /// uses it up for the next.
    #[test]
    fn a_tickets_own_limit_is_used_up_while_the_line_is_served() {
        let (pools, mut tickets) = hall(40, 0);
        tickets[0].limit = Some(3);
        let serving = serve(&pools, &tickets, &[party(1, 2), party(2, 2), party(3, 1)]);
        assert_eq!((serving.offered, serving.passed_over), (vec![1, 3], vec![2]));
        let last = serve(&pools, &tickets, &[party(1, 3), party(2, 1)]);
        assert_eq!(last.offered, [1], "the very last of them");
    }

    /// What can happen to a full date with people waiting.
    #[derive(Debug, Clone)]
    enum Act {
        Join(u32),
        Free(u32),
        LetPass(usize),
        Leave(usize),
        Walk(u32),
        Capacity(u32),
    }

    fn act() -> impl Strategy<Value = Act> {
        prop_oneof![
            (1u32..5).prop_map(Act::Join),
            (1u32..6).prop_map(Act::Free),
            (0usize..8).prop_map(Act::LetPass),
            (0usize..8).prop_map(Act::Leave),
            (1u32..4).prop_map(Act::Walk),
            (4u32..16).prop_map(Act::Capacity),
        ]
    }

    proptest! {
        /// Whoever joins, leaves, lets an offer pass or books past the list: seats are never
        /// promised twice, and nobody is offered seats while somebody who came before and
        /// needs no more of them waits.
        #[test]
        fn seats_and_turns_hold_whatever_happens(acts in prop::collection::vec(act(), 1..60)) {
            let (mut capacity, mut confirmed) = (8u32, 8u32);
            let mut line: Vec<(i64, u32)> = Vec::new();
            let mut offers: Vec<(i64, u32)> = Vec::new();
            let mut next = 0;
            for act in acts {
                let held: u32 = offers.iter().map(|o| o.1).sum();
                match act {
                    Act::Join(size) => { line.push((next, size)); next += 1; }
                    Act::Free(seats) => confirmed = confirmed.saturating_sub(seats),
                    Act::LetPass(n) => if n < offers.len() { offers.remove(n); },
                    Act::Leave(n) => if n < line.len() { line.remove(n); },
                    // Only what is free and on offer to nobody can be booked past the list.
                    Act::Walk(seats) => if confirmed + held + seats <= capacity { confirmed += seats; },
                    Act::Capacity(seats) => if seats >= confirmed + held { capacity = seats; },
                }
                let held: u32 = offers.iter().map(|o| o.1).sum();
                let (mut pools, tickets) = hall(capacity, confirmed);
                pools[0].taken.held = held;
                let parties: Vec<Party> = line.iter().map(|(id, size)| party(*id, *size)).collect();
                let serving = serve(&pools, &tickets, &parties);
                let size = |id: i64| line.iter().find(|l| l.0 == id).unwrap().1;
                for id in &serving.offered {
                    let before = line.iter().take_while(|l| l.0 != *id);
                    for (other, needs) in before.filter(|l| !serving.offered.contains(&l.0)) {
                        prop_assert!(*needs > size(*id), "{} came before {}", other, id);
                        prop_assert!(serving.passed_over.contains(other));
                    }
                }
                offers.extend(line.iter().filter(|l| serving.offered.contains(&l.0)));
                line.retain(|l| !serving.offered.contains(&l.0));
                let promised = confirmed + offers.iter().map(|o| o.1).sum::<u32>();
                prop_assert!(promised <= capacity);
                prop_assert!(line.iter().all(|l| l.1 > capacity - promised), "whoever fits is offered");
            }
        }
    }
}
