//! The house rules: who may submit, where it lands, who is told, what may be changed later.

use matricle_core::forms::form::{Fault, Form};
use matricle_core::people::staff::{Right, require};
use matricle_core::review::rules::{HouseRules, Lands, Told, WhoMay};
use matricle_core::words::address::is_address;
use matricle_store::people::Staff;
use matricle_store::submissions;

use super::Given;
use crate::{Desk, DeskError};

/// Most addresses that are told, and most that are named.
const MOST_TOLD: usize = 20;
const MOST_NAMED: usize = 2_000;
/// Longest words above the form.
const LONGEST_WORDS: usize = 4_000;

/// The house and its rules, for anybody who may know them: they are no secret.
pub async fn show(desk: &Desk) -> Result<Given, DeskError> {
    desk.store.read(super::given).await
}

/// The house and its rules, for the page that sets them.
pub async fn settings(desk: &Desk, staff: &Staff) -> Result<Given, DeskError> {
    require(staff.role, Right::SeeOffice)?;
    show(desk).await
}

fn lines(form: &mut Form, name: &str, most: usize) -> Vec<String> {
    let found: Vec<String> = form
        .get(name)
        .split(['\n', ',', ';', ' '])
        .map(|l| l.trim().to_owned())
        .filter(|l| !l.is_empty())
        .collect();
    if found.len() > most {
        form.fault(name, Fault::TooMany(most));
    }
    found
}

/// Reads the house rules of a form.
fn read(form: &mut Form) -> HouseRules {
    let usual = HouseRules::default();
    let who = match form.get("who") {
        "nobody" => WhoMay::Nobody,
        "named" => {
            let named = form.addresses("named", MOST_NAMED);
            if named.is_empty() {
                form.fault("named", Fault::Missing);
            }
            WhoMay::Named(named)
        }
        "anybody" => WhoMay::Anybody,
        _ => WhoMay::Members,
    };
    let told = |form: &mut Form, name: &str, daily| {
        let found = form.addresses(name, MOST_TOLD);
        found.into_iter().map(move |email| Told { email, daily }).collect::<Vec<_>>()
    };
    let mut all = told(form, "told_at_once", false);
    for daily in told(form, "told_daily", true) {
        if all.iter().any(|t| t.email.eq_ignore_ascii_case(&daily.email)) {
            form.fault("told_daily", Fault::Taken);
        }
        all.push(daily);
    }
    let bad_domains = lines(form, "bad_domains", MOST_NAMED);
    if let Some(bad) = bad_domains.iter().find(|d| !is_address(&format!("a@{d}"))) {
        form.fault("bad_domains", Fault::LineNotAnAddress(bad.clone()));
    }
    let lands = |form: &Form, name: &str| Lands::from_word(form.get(name)).unwrap_or_default();
    HouseRules {
        who,
        strangers: lands(form, "strangers"),
        members: lands(form, "members"),
        trusted: lands(form, "trusted"),
        told: all,
        hour: form.time("hour").unwrap_or(usual.hour),
        change_before: form.ticked("change_before"),
        change_after: form.ticked("change_after"),
        withdraw: form.ticked("withdraw"),
        keep_days: match form.get("keep") {
            "erase" => 0,
            _ => form.count("keep_days", 1, 3650),
        },
        suggest_places: form.ticked("suggest_places"),
        suggest_hosts: form.ticked("suggest_hosts"),
        words: form.text("words", LONGEST_WORDS),
        terms: form.text("terms", LONGEST_WORDS),
        pictures: form.ticked("pictures"),
        bookable: form.ticked("bookable"),
        share: form.number("share", 0, 100).unwrap_or(0),
        a_day: form.count("a_day", 1, 500),
        own: form.ticked("own"),
        trust_after: form.number("trust_after", 0, 100).unwrap_or(0),
        ahead_days: form.count("ahead_days", 7, 3650),
        bad_domains,
    }
}

/// Sets the house rules.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn set(desk: &Desk, staff: &Staff, mut form: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    let rules = read(&mut form);
    form.done().map_err(DeskError::Form)?;
    desk.store
        .write(move |tx| {
            submissions::set_rules(tx, &rules)?;
            for waiting in submissions::waiting(tx, 1_000)? {
                submissions::recheck(tx, waiting.id)?;
            }
            turn.log(tx, "changed the house rules", "/office/house/submissions")
        })
        .await
}
