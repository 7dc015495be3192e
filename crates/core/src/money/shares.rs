//! What hosts get of an event.

/// How a host's share is worked out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Share {
    /// So many percent of what was earned without tax.
    Percent(u32),
    /// So many minor units for each person booked.
    PerHead(i64),
    /// So many minor units, whoever comes.
    Fixed(i64),
    /// So many percent of what is left after costs in minor units.
    AfterCosts {
        /// The percentage.
        percent: u32,
        /// What is taken off first.
        costs: i64,
    },
}

impl Share {
    /// The word for its kind, as stored and as shown.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Percent(_) => "percent",
            Self::PerHead(_) => "per head",
            Self::Fixed(_) => "fixed",
            Self::AfterCosts { .. } => "after costs",
        }
    }

    /// A share from its stored parts.
    #[must_use]
    pub fn from_parts(word: &str, amount: i64, costs: i64) -> Option<Self> {
        let percent = u32::try_from(amount).ok().filter(|p| *p <= 100);
        match word {
            "percent" => percent.map(Self::Percent),
            "per head" => Some(Self::PerHead(amount)),
            "fixed" => Some(Self::Fixed(amount)),
            "after costs" => percent.map(|percent| Self::AfterCosts { percent, costs }),
            _ => None,
        }
    }

    /// Its stored parts: amount and costs.
    #[must_use]
    pub fn parts(self) -> (i64, i64) {
        match self {
            Self::Percent(percent) => (percent.into(), 0),
            Self::PerHead(minor) | Self::Fixed(minor) => (minor, 0),
            Self::AfterCosts { percent, costs } => (percent.into(), costs),
        }
    }

    /// What it comes to, in minor units, when so much was earned without tax from so many
    /// people. Never less than nothing; percentages are rounded half up.
    #[must_use]
    pub fn of(self, earned: i64, heads: u32) -> i64 {
        let share = |minor: i64, percent| crate::money::refund::share(minor.max(0), percent);
        match self {
            Self::Percent(percent) => share(earned, percent),
            Self::PerHead(minor) => minor.saturating_mul(heads.into()),
            Self::Fixed(minor) => minor,
            Self::AfterCosts { percent, costs } => share(earned.saturating_sub(costs), percent),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_kind_of_share_is_worked_out_and_read_back() {
        let all = [
            (Share::Percent(60), 6000),
            (Share::PerHead(250), 3000),
            (Share::Fixed(8000), 8000),
            (Share::AfterCosts { percent: 50, costs: 4000 }, 3000),
        ];
        for (share, minor) in all {
            assert_eq!(share.of(10_000, 12), minor, "{share:?}");
            let (amount, costs) = share.parts();
            assert_eq!(Share::from_parts(share.word(), amount, costs), Some(share));
        }
        assert_eq!(Share::AfterCosts { percent: 50, costs: 4000 }.of(3000, 12), 0);
        assert_eq!(Share::from_parts("percent", 101, 0), None);
    }
}
