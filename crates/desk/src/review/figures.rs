//! Figures for those who review.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use matricle_core::people::staff::{Right, require};
use matricle_core::review::submission::Act;
use matricle_formats::words;
use matricle_store::people::Staff;
use matricle_store::submissions::{self, Decided};
use matricle_store::{Connection, complaints};

use crate::{Desk, DeskError, house_of};

/// So many days are looked back on.
pub const DAYS: i64 = 90;

/// Figures.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Figures {
    /// How many wait, complaints among them.
    pub waiting: u32,
    /// Since when the oldest does.
    pub oldest: Option<Timestamp>,
    /// Half of those decided in [`DAYS`] days waited no longer than so many seconds.
    pub median: Option<i64>,
    /// Decided in that time.
    pub decided: u32,
    /// By whom, and of those how many after corrections.
    pub by: Vec<(String, u32, u32)>,
    /// What was corrected most.
    pub corrected: Vec<(String, u32)>,
    /// What was done today: act, and how often.
    pub today: Vec<(Act, u32)>,
}

/// The median of numbers; of an even number the lower of the two in the middle.
fn median(mut numbers: Vec<i64>) -> Option<i64> {
    numbers.sort_unstable();
    numbers.get(numbers.len().checked_sub(1)? / 2).copied()
}

pub(crate) fn figures(conn: &Connection, now: Timestamp) -> Result<Figures, DeskError> {
    let house = house_of(conn)?;
    let (waiting, oldest) = submissions::waits(conn)?;
    let since = now - SignedDuration::from_hours(24 * DAYS);
    let decided = submissions::figures(conn, since)?;
    let midnight = words::local(now, &house.zone).start_of_day().map_or(now, |z| z.timestamp());
    let mut by: BTreeMap<&str, (u32, u32)> = BTreeMap::new();
    let mut corrected: BTreeMap<&str, u32> = BTreeMap::new();
    for d in &decided {
        let row = by.entry(d.who.as_str()).or_default();
        row.0 += 1;
        row.1 += u32::from(!d.corrected.is_empty());
        for field in &d.corrected {
            *corrected.entry(field).or_default() += 1;
        }
    }
    let mut by: Vec<_> = by.into_iter().map(|(who, (n, c))| (who.to_owned(), n, c)).collect();
    by.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    let mut corrected: Vec<_> = corrected.into_iter().map(|(f, n)| (f.to_owned(), n)).collect();
    corrected.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    Ok(Figures {
        waiting: waiting + complaints::count_open(conn)?,
        oldest,
        median: median(decided.iter().map(|d| d.waited / 1_000_000).collect()),
        decided: u32::try_from(decided.len()).unwrap_or(u32::MAX),
        by,
        corrected,
        today: today(&decided, midnight),
    })
}

/// What was done since an instant, in the order of the acts.
fn today(decided: &[Decided], since: Timestamp) -> Vec<(Act, u32)> {
    let count = |act: Act| {
        let n = decided.iter().filter(|d| d.act == act && d.at >= since).count();
        u32::try_from(n).unwrap_or(u32::MAX)
    };
    Act::ALL.into_iter().map(|act| (act, count(act))).filter(|(_, n)| *n > 0).collect()
}

/// Figures for somebody who reviews.
pub async fn show(desk: &Desk, staff: &Staff) -> Result<Figures, DeskError> {
    require(staff.role, Right::Review)?;
    let now = desk.clock.now();
    desk.store.read(move |conn| figures(conn, now)).await
}

#[cfg(test)]
mod tests {
    use super::median;

    #[test]
    fn half_waited_no_longer_than_the_median() {
        assert_eq!(median(Vec::new()), None);
        assert_eq!(median(vec![7]), Some(7));
        assert_eq!(median(vec![9, 1]), Some(1));
        assert_eq!(median(vec![9, 1, 4]), Some(4));
    }
}
