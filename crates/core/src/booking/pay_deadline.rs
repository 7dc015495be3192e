//! How long seats are kept for the money.

use jiff::{SignedDuration, Timestamp};

use crate::booking::Move;

/// A booker who pays at once, on the page.
const AT_ONCE: SignedDuration = SignedDuration::from_mins(30);
/// A booker who is asked by mail.
const BY_MAIL: SignedDuration = SignedDuration::from_hours(72);
/// A date that has begun or is about to leaves at least this long.
const LEAST: SignedDuration = SignedDuration::from_secs(20);
/// Each new try gives at least this long …
const EACH_TRY: SignedDuration = SignedDuration::from_mins(15);
/// … but tries keep seats no longer than this in all.
const ALL_TRIES: SignedDuration = SignedDuration::from_hours(2);
/// A transfer is there so long before the date begins.
const TRANSFER_BEFORE: SignedDuration = SignedDuration::from_hours(48);
/// A transfer takes at least so long.
const TRANSFER_LEAST: SignedDuration = SignedDuration::from_hours(24);

/// Until when seats are kept for the money after a move that asks for it: half an hour for
/// whoever pays on the page; three days, or until `wished`, for whoever is asked by mail, and
/// until the date begins at the latest.
#[must_use]
pub fn time_to_pay(
    by: Move,
    wished: Option<Timestamp>,
    starts_at: Timestamp,
    now: Timestamp,
) -> Timestamp {
    if matches!(by, Move::AskForMoney | Move::PayLate) {
        return now + AT_ONCE;
    }
    let latest = starts_at.max(now + LEAST);
    wished.filter(|w| *w > now).unwrap_or(now + BY_MAIL).min(latest)
}

/// Until when seats are kept for another try to pay.
#[must_use]
pub fn another_try(deadline: Timestamp, made_at: Timestamp, now: Timestamp) -> Timestamp {
    deadline.max((now + EACH_TRY).min(made_at + ALL_TRIES))
}

/// Until when seats are kept for a bank transfer, where the house gives so many days; `None`
/// when the date is too near for one.
#[must_use]
pub fn time_to_transfer(days: u32, starts_at: Timestamp, now: Timestamp) -> Option<Timestamp> {
    let days = SignedDuration::from_hours(24 * i64::from(days));
    let until = (now + days).min(starts_at - TRANSFER_BEFORE);
    (until > now + TRANSFER_LEAST).then_some(until)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn seats_are_kept_for_the_money_and_not_past_the_date() {
        let at = |hours: i64| Timestamp::UNIX_EPOCH + SignedDuration::from_hours(hours);
        let by = |by, wished, starts| time_to_pay(by, wished, at(starts), at(0));
        assert_eq!(by(Move::AskForMoney, None, 500), at(0) + AT_ONCE);
        assert_eq!(by(Move::ApproveToPay, None, 500), at(72));
        assert_eq!(by(Move::AskByMail, Some(at(100)), 500), at(100));
        assert_eq!(by(Move::AskByMail, Some(at(-1)), 500), at(72), "a wish that is past");
        assert_eq!(by(Move::BringBackToPay, Some(at(100)), 50), at(50));
        assert_eq!(by(Move::ApproveToPay, None, -3), at(0) + LEAST);
        assert_eq!(another_try(at(9), at(0), at(0)), at(9));
        assert_eq!(another_try(at(0), at(0), at(1)), at(1) + EACH_TRY);
        assert_eq!(another_try(at(0), at(0), at(5)), at(2));
        assert_eq!(time_to_transfer(10, at(500), at(0)), Some(at(240)));
        assert_eq!(time_to_transfer(10, at(100), at(0)), Some(at(52)));
        assert_eq!(time_to_transfer(10, at(72), at(0)), None);
    }
}
