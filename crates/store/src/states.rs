//! States of bookings in statements. Which of them stand, keep seats or are asked for money is
//! core's to say; a statement names the set, and the words are put in when it is made.

use std::collections::HashMap;
use std::sync::LazyLock;

use matricle_core::money::line_worth::is_charged;
use matricle_core::seats::Bucket;
use matricle_core::state::State;

/// A statement with the states it names in braces filled in: `{stands}`, `{keeps_seats}`,
/// `{charged}`, `{asked_for}` (money is waited for, or what is still due), `{open}` (keeps seats and is not
/// confirmed), `{over}` (keeps none), each as a list for `IN`; a single one by its name in core,
/// such as `{Confirmed}`.
pub(crate) fn filled(sql: &str) -> String {
    let mut out = String::with_capacity(sql.len() + 64);
    let mut rest = sql;
    while let Some((before, after)) = rest.split_once('{') {
        out.push_str(before);
        let named = after.split_once('}');
        let known = named.and_then(|(name, left)| Some((SETS.get(name)?, left)));
        match known {
            Some((words, left)) => {
                out.push_str(words);
                rest = left;
            }
            None => {
                out.push('{');
                rest = after;
            }
        }
    }
    out.push_str(rest);
    out
}

/// The words that stand for each name: made once, since statements are put together at each use.
static SETS: LazyLock<HashMap<String, String>> = LazyLock::new(|| {
    let list = |of: &dyn Fn(State) -> bool| {
        let words = State::ALL.into_iter().filter(|state| of(*state));
        let words: Vec<String> = words.map(|state| format!("'{}'", state.word())).collect();
        format!("({})", words.join(", "))
    };
    let keeps = |state| Bucket::of(state).is_some();
    let sets = [
        ("stands".to_owned(), list(&State::stands)),
        ("keeps_seats".into(), list(&keeps)),
        ("charged".into(), list(&|state| is_charged(state, false))),
        ("asked_for".into(), list(&|state| state.is_owed(1))),
        ("open".into(), list(&|state| keeps(state) && state != State::Confirmed)),
        ("over".into(), list(&|state| !keeps(state))),
    ];
    let single = State::ALL.map(|state| (format!("{state:?}"), format!("'{}'", state.word())));
    sets.into_iter().chain(single).collect()
});

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
            ("{no_set} {", "{no_set} {"),
        ] {
            assert_eq!(filled(&format!("b.state IN {set}")), format!("b.state IN {words}"));
        }
    }
}
