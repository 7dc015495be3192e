//! States of bookings in statements. Which of them stand, keep seats or are asked for money is
//! core's to say; a statement names the set, and the words are put in when it is made.

use matricle_core::money::line_worth::is_charged;
use matricle_core::seats::Bucket;
use matricle_core::state::State;

/// A statement with the states it names in braces filled in: `{stands}`, `{keeps_seats}`,
/// `{charged}`, `{asked_for}` (money is waited for, or what is still due), `{open}` (keeps seats and is not
/// confirmed), `{over}` (keeps none), each as a list for `IN`; a single one by its name in core,
/// such as `{Confirmed}`.
pub(crate) fn filled(sql: &str) -> String {
    let list = |of: &dyn Fn(State) -> bool| {
        let words = State::ALL.into_iter().filter(|state| of(*state));
        let words: Vec<String> = words.map(|state| format!("'{}'", state.word())).collect();
        format!("({})", words.join(", "))
    };
    let keeps = |state| Bucket::of(state).is_some();
    let mut sql = sql
        .replace("{stands}", &list(&State::stands))
        .replace("{keeps_seats}", &list(&keeps))
        .replace("{charged}", &list(&|state| is_charged(state, false)))
        .replace("{asked_for}", &list(&|state| state.is_owed(1)))
        .replace("{open}", &list(&|state| keeps(state) && state != State::Confirmed))
        .replace("{over}", &list(&|state| !keeps(state)));
    for state in State::ALL {
        sql = sql.replace(&format!("{{{state:?}}}"), &format!("'{}'", state.word()));
    }
    sql
}

/// A statement that names states: see [`filled`]. It is filled once.
macro_rules! sql {
    ($text:literal) => {{
        static SQL: std::sync::LazyLock<String> =
            std::sync::LazyLock::new(|| $crate::states::filled($text));
        SQL.as_str()
    }};
}

/// The same for one that is put together: braces of states are written twice.
macro_rules! sql_of {
    ($($text:tt)*) => {
        $crate::states::filled(&format!($($text)*))
    };
}

pub(crate) use {sql, sql_of};

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_set_is_cores() {
        for (set, words) in [
            ("{stands}", "('requested', 'awaiting payment', 'confirmed')"),
            ("{keeps_seats}", "('held', 'requested', 'awaiting payment', 'confirmed')"),
            ("{charged}", "('awaiting payment', 'confirmed', 'cancelled')"),
            ("{asked_for}", "('awaiting payment', 'confirmed')"),
            ("{open}", "('held', 'requested', 'awaiting payment')"),
            ("{over}", "('declined', 'cancelled', 'lapsed')"),
            ("{AwaitingPayment}", "'awaiting payment'"),
        ] {
            assert_eq!(filled(&format!("b.state IN {set}")), format!("b.state IN {words}"));
        }
    }
}
