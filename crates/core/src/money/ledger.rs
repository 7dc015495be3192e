//! The ledger: double entry. Only balanced entries can be made, and none is ever
//! changed: what was wrong is met by a counter-entry.
//!
//! A line's amount is in minor units of the house's currency; debits are positive,
//! credits negative, so a balanced entry adds up to nothing.

use std::collections::BTreeMap;

crate::worded! {
    /// An account. What it is kept by (an event, a host, a rate) is the line's `about`.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
    pub enum Account {
        /// What bookers owe, by booking.
        Receivable = "receivables",
        /// Money at the card provider.
        Provider = "card provider",
        /// Money at the bank.
        Bank = "bank",
        /// Money in the cash box.
        Cash = "cash",
        /// Money promised back to bookers and not yet given.
        Refunds = "refunds owed",
        /// Stamps sold and not used.
        StampsOwed = "stamps owed",
        /// What hosts are to be paid, by host.
        HostsOwed = "hosts owed",
        /// Tax owed, by rate in hundredths of a percent.
        Tax = "tax",
        /// What was earned, without tax, by event.
        Income = "income",
        /// What the card provider keeps.
        Fees = "fees",
        /// What the house has spent on hosts' shares, by event.
        HostShares = "hosts' shares",
        /// Cents that a transfer was off by and that nobody asks for.
        Rounding = "rounding",}
}

/// One line of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LedgerLine {
    /// The account.
    pub account: Account,
    /// What it is kept by; 0 where an account is not kept by anything.
    pub about: i64,
    /// Minor units; a debit is positive.
    pub minor: i64,
}

/// A balanced entry of two lines or more.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    lines: Vec<LedgerLine>,
}

/// An entry whose lines do not add up to nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("an entry is off by {by} minor units")]
pub struct Unbalanced {
    /// By how much.
    pub by: i128,
}

impl Entry {
    /// An entry of these lines; lines of nothing are left out, and an entry of nothing at
    /// all is `None`.
    ///
    /// # Errors
    /// [`Unbalanced`] unless debits and credits are the same.
    pub fn new(lines: impl IntoIterator<Item = LedgerLine>) -> Result<Option<Self>, Unbalanced> {
        let lines: Vec<LedgerLine> = lines.into_iter().filter(|l| l.minor != 0).collect();
        let by: i128 = lines.iter().map(|l| i128::from(l.minor)).sum();
        if by != 0 {
            return Err(Unbalanced { by });
        }
        Ok((!lines.is_empty()).then_some(Self { lines }))
    }

    /// From one account to another.
    #[must_use]
    pub fn move_money(to: (Account, i64), from: (Account, i64), minor: i64) -> Option<Self> {
        let line = |(account, about), minor| LedgerLine { account, about, minor };
        let lines = vec![line(to, minor), line(from, -minor)];
        (minor != 0).then_some(Self { lines })
    }

    /// Its lines.
    #[must_use]
    pub fn lines(&self) -> &[LedgerLine] {
        &self.lines
    }
}

/// What a booking is charged, by tax rate: the tax contained, and the whole amount.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Charge {
    /// By rate in hundredths of a percent: amount with tax, tax.
    pub by_rate: BTreeMap<u32, (i64, i64)>,
}

impl Charge {
    /// A charge of these parts: rate, amount with tax, tax.
    #[must_use]
    pub fn of(parts: impl IntoIterator<Item = (u32, i64, i64)>) -> Self {
        let mut by_rate: BTreeMap<u32, (i64, i64)> = BTreeMap::new();
        for (rate, gross, tax) in parts {
            let sum = by_rate.entry(rate).or_default();
            *sum = (sum.0.saturating_add(gross), sum.1.saturating_add(tax));
        }
        by_rate.retain(|_, sum| *sum != (0, 0));
        Self { by_rate }
    }

    /// The whole amount.
    #[must_use]
    pub fn total(&self) -> i64 {
        self.by_rate.values().map(|(gross, _)| gross).sum()
    }

    /// The tax contained.
    #[must_use]
    pub fn tax(&self) -> i64 {
        self.by_rate.values().map(|(_, tax)| tax).sum()
    }

    /// What has to be added to this charge to come to another one.
    #[must_use]
    pub fn to(&self, wanted: &Self) -> Self {
        let less = self.by_rate.iter().map(|(rate, (gross, tax))| (*rate, -gross, -tax));
        let more = wanted.by_rate.iter().map(|(rate, (gross, tax))| (*rate, *gross, *tax));
        Self::of(less.chain(more))
    }
}

/// The entry that brings the books from what a booking was charged to what it is to be
/// charged; `None` when that is the same.
///
/// `event` keeps the income, `booking` what is owed.
#[must_use]
pub fn charge(event: i64, booking: i64, was: &Charge, wanted: &Charge) -> Option<Entry> {
    let change = was.to(wanted);
    let mut lines = vec![
        LedgerLine { account: Account::Receivable, about: booking, minor: change.total() },
        LedgerLine { account: Account::Income, about: event, minor: change.tax() - change.total() },
    ];
    lines.extend(change.by_rate.iter().map(|(rate, (_, tax))| LedgerLine {
        account: Account::Tax,
        about: i64::from(*rate),
        minor: -tax,
    }));
    Entry::new(lines).ok().flatten()
}

crate::worded! {
    /// How money comes in or goes out.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
    pub enum Method {
        /// By card, through the provider's page.
        Card = "card",
        /// By bank transfer.
        Transfer = "bank transfer",
        /// In cash, at the Office or the door.
        Cash = "cash",
        /// By card at the Office or the door, on the house's own machine.
        CardHere = "card at the desk",
        /// With stamps.
        Stamps = "stamps",
    }
}

impl Method {
    /// Where money that came this way lies. A card machine of the house pays into its bank.
    #[must_use]
    pub const fn account(self) -> Account {
        match self {
            Self::Card => Account::Provider,
            Self::Transfer | Self::CardHere => Account::Bank,
            Self::Cash => Account::Cash,
            Self::Stamps => Account::StampsOwed,
        }
    }

    /// Whether somebody at the house has to give money back by hand.
    #[must_use]
    pub const fn by_hand(self) -> bool {
        matches!(self, Self::Transfer | Self::Cash | Self::CardHere)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn charge_of(parts: &[(u32, i64, i64)]) -> Charge {
        Charge::of(parts.iter().copied())
    }

    #[test]
    fn an_entry_that_does_not_balance_cannot_be_made() {
        let line = |account, minor| LedgerLine { account, about: 0, minor };
        let off = Entry::new([line(Account::Bank, 100), line(Account::Receivable, -99)]);
        assert_eq!(off, Err(Unbalanced { by: 1 }));
        assert_eq!(Entry::new([line(Account::Bank, 0)]), Ok(None));
        for account in Account::ALL {
            assert_eq!(Account::from_word(account.word()), Some(account));
        }
        assert!(Method::ALL.into_iter().all(|m| Method::from_word(m.word()) == Some(m)));
    }

    proptest! {
        /// Whatever a booking is charged one after the other, the books come to the last of
        /// it, and a counter-entry takes all of it back.
        #[test]
        fn the_books_follow_what_is_charged(
            charges in prop::collection::vec(
                prop::collection::vec((prop::sample::select(vec![0u32, 900, 2300]), 0i64..100_000, 0i64..9000), 0..4), 1..8),
        ) {
            let mut sums: BTreeMap<(Account, i64), i64> = BTreeMap::new();
            let mut was = Charge::default();
            for parts in &charges {
                let wanted = charge_of(parts);
                if let Some(entry) = charge(7, 9, &was, &wanted) {
                    prop_assert_eq!(entry.lines().iter().map(|l| l.minor).sum::<i64>(), 0);
                    for l in entry.lines() { *sums.entry((l.account, l.about)).or_default() += l.minor; }
                } else {
                    prop_assert_eq!(&was, &wanted);
                }
                let owed = sums.get(&(Account::Receivable, 9)).copied().unwrap_or(0);
                prop_assert_eq!(owed, wanted.total());
                let tax: i64 = sums.iter().filter(|((a, _), _)| *a == Account::Tax).map(|(_, m)| m).sum();
                prop_assert_eq!(-tax, wanted.tax());
                was = wanted;
            }
            if let Some(entry) = charge(7, 9, &was, &Charge::default()) {
                for l in entry.lines() { *sums.entry((l.account, l.about)).or_default() += l.minor; }
            }
            prop_assert!(sums.values().all(|m| *m == 0));
        }
    }
}
