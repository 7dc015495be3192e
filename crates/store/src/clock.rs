//! What hangs on a clock that was ahead and was set back: without this a hold would keep its seats,
//! and a queue wait, until the clock is there again.

use jiff::Timestamp;

use crate::{Doing, StoreError, Tx, us};

/// Brings what was written down by a clock that was ahead of `now` to it: holds and times to pay
/// run as long as they were to, from now on; what was to be asked or tried again is tried now. How
/// many rows there were.
pub fn set_back(tx: &Tx<'_>, now: Timestamp) -> Result<usize, StoreError> {
    let mut rows = 0;
    for sql in [
        "UPDATE bookings SET deadline = ?1 + max(0, deadline - max(made_at, coalesce(since, made_at)))
         WHERE deadline IS NOT NULL AND max(made_at, coalesce(since, made_at)) > ?1",
        "UPDATE payments SET next_check_at = ?1 WHERE next_check_at > ?1 AND made_at > ?1",
        "UPDATE set_aside SET next_try_at = ?1 WHERE next_try_at > ?1 AND first_at > ?1",
        // What was tried and is tried again within the hour, or was due when it was planned.
        "UPDATE outbox SET next_try_at = ?1 WHERE state = 'planned' AND tries > 0 AND next_try_at > ?1 + 3600000000",
    ] {
        rows += tx
            .prepare_cached(sql)
            .and_then(|mut q| q.execute([us(now)]))
            .doing("setting what hangs on the clock back")?;
    }
    Ok(rows)
}
