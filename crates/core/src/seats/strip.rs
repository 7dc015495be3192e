//! The seat strip: one cell a seat, or one for several when there are many.

use crate::seats::{Pool, Taken};

/// Most cells a strip is drawn with, the waiting left out.
pub const MOST_CELLS: u32 = 80;

/// What a cell says. The order is the order of the strip.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cell {
    /// Confirmed, and the person is in: with a punched hole.
    In,
    /// Confirmed.
    Confirmed,
    /// Booked, money due.
    ToPay,
    /// Asked for.
    Asking,
    /// Kept while somebody fills the form in.
    Held,
    /// Free.
    Free,
    /// Past the cut: taken beyond an over-full pool's capacity.
    Over,
}

/// A strip ready to draw.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Strip {
    /// Kinds of cells with how many of each, none empty.
    pub runs: Vec<(Cell, u32)>,
    /// Seats one cell stands for; one, unless there are more than [`MOST_CELLS`].
    pub seats_a_cell: u32,
}

/// Lays a strip out for a pool with so many people in, in at most `most` cells
/// (and never more than [`MOST_CELLS`]).
///
/// When one cell stands for several seats, cells are shared out by the largest
/// remainder, but nothing that is there is left without a cell: the last free
/// seat of a large hall is seen.
#[must_use]
pub fn strip(pool: &Pool, inside: u32, most: u32) -> Strip {
    let Taken { held, requested, awaiting_payment, confirmed } = pool.taken;
    let mut left = pool.capacity;
    let mut within = |n: u32| {
        let fits = n.min(left);
        left -= fits;
        fits
    };
    let (confirmed_in, to_pay) = (within(confirmed), within(awaiting_payment));
    let (asking, held_in) = (within(requested), within(held));
    let over = pool.taken.total().saturating_sub(pool.capacity);
    debug_assert_eq!(
        confirmed_in + to_pay + asking + held_in + over,
        confirmed + awaiting_payment + requested + held
    );
    let inside = inside.min(confirmed_in);
    let counts = [
        (Cell::In, inside),
        (Cell::Confirmed, confirmed_in - inside),
        (Cell::ToPay, to_pay),
        (Cell::Asking, asking),
        (Cell::Held, held_in),
        (Cell::Free, left),
        (Cell::Over, over),
    ];
    let total: u32 = counts.iter().map(|(_, n)| n).sum();
    let seats_a_cell = total.div_ceil(most.clamp(8, MOST_CELLS)).max(1);
    let cells = total.div_ceil(seats_a_cell);
    Strip { runs: share(&counts, cells, seats_a_cell), seats_a_cell }
}

fn share(counts: &[(Cell, u32)], cells: u32, size: u32) -> Vec<(Cell, u32)> {
    let present: Vec<_> = counts.iter().copied().filter(|&(_, n)| n > 0).collect();
    let mut runs: Vec<(Cell, u32)> =
        present.iter().map(|&(cell, n)| (cell, (n / size).max(1))).collect();
    let mut given: u32 = runs.iter().map(|(_, n)| n).sum();
    // Largest remainder first; ties go to the left.
    let mut order: Vec<usize> = (0..present.len()).collect();
    order.sort_by_key(|&i| {
        std::cmp::Reverse(if present[i].1 < size { 0 } else { present[i].1 % size })
    });
    for &i in order.iter().cycle().take(present.len() * 2) {
        if given < cells {
            runs[i].1 += 1;
            given += 1;
        }
    }
    while given > cells.max(u32::try_from(present.len()).unwrap_or(u32::MAX)) {
        let Some(longest) = runs.iter_mut().max_by_key(|(_, n)| *n) else { break };
        longest.1 -= 1;
        given -= 1;
    }
    runs
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::PoolId;
    use proptest::prelude::*;

    fn pool(capacity: u32, confirmed: u32, awaiting_payment: u32, held: u32) -> Pool {
        let taken = Taken { confirmed, awaiting_payment, requested: 2, held };
        Pool { id: PoolId(1), name: "seats".into(), capacity, taken }
    }

    #[test]
    fn a_small_strip_has_a_cell_for_each_seat() {
        let s = strip(&pool(40, 27, 4, 2), 3, 80);
        assert_eq!(s.seats_a_cell, 1);
        assert_eq!(
            s.runs,
            [
                (Cell::In, 3),
                (Cell::Confirmed, 24),
                (Cell::ToPay, 4),
                (Cell::Asking, 2),
                (Cell::Held, 2),
                (Cell::Free, 5),
            ]
        );
    }

    #[test]
    fn an_over_full_pool_shows_what_is_past_the_cut() {
        let s = strip(&pool(10, 11, 0, 0), 0, 80);
        assert_eq!(s.runs, [(Cell::Confirmed, 10), (Cell::Over, 3)]);
    }

    proptest! {
        #[test]
        fn a_long_strip_keeps_its_length_and_hides_nothing(
            capacity in 0u32..5_000, confirmed in 0u32..5_000, pay in 0u32..50, held in 0u32..50, inside in 0u32..5_000, most in 0u32..100,
        ) {
            let p = pool(capacity, confirmed, pay, held);
            let s = strip(&p, inside, most);
            let cells: u32 = s.runs.iter().map(|(_, n)| n).sum();
            prop_assert!(s.runs.iter().all(|(_, n)| *n > 0));
            prop_assert!(cells <= most.clamp(8, MOST_CELLS));
            let total = p.capacity.max(p.taken.total());
            prop_assert!(cells == total.div_ceil(s.seats_a_cell) || cells == u32::try_from(s.runs.len()).unwrap());
            prop_assert_eq!(s.runs.iter().any(|(c, _)| *c == Cell::Free), p.free() > 0);
        }
    }
}
