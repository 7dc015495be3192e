//! The house rules: who may submit, where it lands, who is told, what may be changed later.

use matricle_core::fields;
use matricle_core::forms::field::{Binding, Locale};
use matricle_core::forms::form::{Fault, Form};
use matricle_core::people::staff::{Right, require};
use matricle_core::review::rules::{HouseRules, Lands, Told, WhoMay};
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

matricle_core::worded! {
    /// Which of the ways to say who may submit.
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum Whom {
        /// [`WhoMay::Nobody`].
        Nobody = "nobody",
        /// [`WhoMay::Named`].
        Named = "named",
        /// [`WhoMay::Members`].
        Members = "members",
        /// [`WhoMay::Anybody`].
        Anybody = "anybody",
    }
}

matricle_core::worded! {
    /// What becomes of what was turned down or withdrawn.
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum Kept {
        /// It is kept for some days.
        Days = "days",
        /// It is erased the day after.
        Erase = "erase",
    }
}

const LANDS: &[(Lands, &str)] = &[
    (Lands::Review, "waits for a reviewer"),
    (Lands::Draft, "becomes a draft at the Office"),
    (Lands::Published, "is published at once"),
];

fields! {
    WHO: OneOf<Whom>(&[
        (Whom::Nobody, "Nobody, for the time being"),
        (Whom::Named, "People named here, once they have signed in by mail"),
        (Whom::Members, "Members, once they have signed in by mail"),
        (Whom::Anybody, "Anybody who proves an address"),
    ]) = "who", "Who may submit";
    NAMED: Addresses(3, MOST_NAMED) = "named", "People named, by their addresses", "One on a line.";
    A_DAY: Whole(1, 500) = "a_day", "So many a day are taken from one address" needed;
    STRANGERS: OneOf<Lands>(LANDS) = "strangers", "What somebody who is no member sends";
    MEMBERS: OneOf<Lands>(LANDS) = "members", "What a member sends";
    TRUSTED: OneOf<Lands>(LANDS) = "trusted", "What somebody trusted sends";
    TRUST_AFTER: Whole(0, 100) = "trust_after",
        "After so many accepted without a correction, a reviewer is asked whether to trust somebody";
    OWN: Tick = "own", "Reviewers may accept what they submitted themselves",
        "It is marked as their own. Otherwise another one decides.";
    AT_ONCE: Addresses(3, MOST_TOLD) = "told_at_once", "Of each at once",
        "Addresses, one on a line.";
    DAILY: Addresses(3, MOST_TOLD) = "told_daily", "Once a day, of all that wait",
        "Addresses, one on a line.";
    HOUR: Clock = "hour", "The news of the day go at";
    CHANGE_BEFORE: Tick = "change_before", "It may be changed while it waits",
        "what was sent back always may";
    CHANGE_AFTER: Tick = "change_after", "It may be changed once it is accepted",
        "the change is reviewed; until then the Programme shows what it showed";
    WITHDRAW: Tick = "withdraw", "It may be withdrawn",
        "once accepted, only while nobody has booked it";
    KEEP: OneOf<Kept>(&[
        (Kept::Days, "is kept for so many days"),
        (Kept::Erase, "is erased the day after"),
    ]) = "keep", "What was turned down or withdrawn";
    KEEP_DAYS: Whole(1, 3650) = "keep_days", "So many days" needed;
    WORDS: Text(3, LONGEST_WORDS) = "words", "Words above the form";
    TERMS: Text(3, LONGEST_WORDS) = "terms", "What a submitter agrees to",
        "Left empty, nothing is asked.";
    SUGGEST_PLACES: Tick = "suggest_places", "Known places are suggested";
    SUGGEST_HOSTS: Tick = "suggest_hosts", "Those who lead events are suggested";
    PICTURES: Tick = "pictures", "A picture may come with it";
    BOOKABLE: Tick = "bookable", "It may be asked that it can be booked here",
        "with the terms of the house";
    SHARE: Whole(0, 100) = "share", "Percent of what such an event earns, for whoever leads it";
    AHEAD_DAYS: Whole(7, 3650) = "ahead_days", "Further ahead than so many days is looked at" needed;
    BAD_DOMAINS: Domains(2, MOST_NAMED) = "bad_domains",
        "Domains whose submissions are turned away", "One on a line, such as pills.example.";
}

/// The form of the house rules.
pub fn form(f: &mut Binding<'_>, rules: &mut HouseRules) {
    who(f, &mut rules.who);
    f.bind(&STRANGERS, &mut rules.strangers);
    f.bind(&MEMBERS, &mut rules.members);
    f.bind(&TRUSTED, &mut rules.trusted);
    told(f, &mut rules.told);
    let mut hour = Some(rules.hour);
    f.bind(&HOUR, &mut hour);
    rules.hour = hour.unwrap_or(rules.hour);
    f.bind(&CHANGE_BEFORE, &mut rules.change_before);
    f.bind(&CHANGE_AFTER, &mut rules.change_after);
    f.bind(&WITHDRAW, &mut rules.withdraw);
    keep_days(f, &mut rules.keep_days);
    f.bind(&SUGGEST_PLACES, &mut rules.suggest_places);
    f.bind(&SUGGEST_HOSTS, &mut rules.suggest_hosts);
    f.bind(&WORDS, &mut rules.words);
    f.bind(&TERMS, &mut rules.terms);
    f.bind(&PICTURES, &mut rules.pictures);
    f.bind(&BOOKABLE, &mut rules.bookable);
    f.bind(&SHARE, &mut rules.share);
    f.bind(&A_DAY, &mut rules.a_day);
    f.bind(&OWN, &mut rules.own);
    f.bind(&TRUST_AFTER, &mut rules.trust_after);
    f.bind(&AHEAD_DAYS, &mut rules.ahead_days);
    f.bind(&BAD_DOMAINS, &mut rules.bad_domains);
}

fn who(f: &mut Binding<'_>, who: &mut WhoMay) {
    let (mut whom, mut named) = match who {
        WhoMay::Nobody => (Whom::Nobody, Vec::new()),
        WhoMay::Named(list) => (Whom::Named, std::mem::take(list)),
        WhoMay::Members => (Whom::Members, Vec::new()),
        WhoMay::Anybody => (Whom::Anybody, Vec::new()),
    };
    f.bind(&WHO, &mut whom);
    if f.is_filled() || whom == Whom::Named {
        f.bind(&NAMED, &mut named);
    }
    if let Some(form) = f.form()
        && whom == Whom::Named
        && named.is_empty()
    {
        form.fault(NAMED, Fault::Missing);
    }
    *who = match whom {
        Whom::Nobody => WhoMay::Nobody,
        Whom::Named => WhoMay::Named(named),
        Whom::Members => WhoMay::Members,
        Whom::Anybody => WhoMay::Anybody,
    };
}

/// Who is told, in two fields.
fn told(f: &mut Binding<'_>, told: &mut Vec<Told>) {
    let of = |daily: bool| told.iter().filter(move |t| t.daily == daily).map(|t| t.email.clone());
    let (mut at_once, mut daily) = (of(false).collect::<Vec<_>>(), of(true).collect::<Vec<_>>());
    f.bind(&AT_ONCE, &mut at_once);
    f.bind(&DAILY, &mut daily);
    let twice = daily.iter().any(|d| at_once.iter().any(|a| a.eq_ignore_ascii_case(d)));
    if let Some(form) = f.form().filter(|_| twice) {
        form.fault(DAILY, Fault::Taken);
    }
    let at_once = at_once.into_iter().map(|email| Told { email, daily: false });
    *told = at_once.chain(daily.into_iter().map(|email| Told { email, daily: true })).collect();
}

/// How long what was turned down is kept: days, none of which is erased the day after.
fn keep_days(f: &mut Binding<'_>, days: &mut u32) {
    let mut kept = if *days == 0 { Kept::Erase } else { Kept::Days };
    f.bind(&KEEP, &mut kept);
    let mut so_many = (*days).max(1);
    if f.is_filled() || kept == Kept::Days {
        f.bind(&KEEP_DAYS, &mut so_many);
    }
    *days = if kept == Kept::Days { so_many } else { 0 };
}

/// Sets the house rules.
///
/// # Errors
/// [`DeskError::Form`] with every field that needs another look; the role may not.
pub async fn set(desk: &Desk, staff: &Staff, mut typed: Form) -> Result<(), DeskError> {
    let turn = desk.turn_of(staff, Right::SetHouseUp)?;
    let mut rules = HouseRules::default();
    form(&mut Binding::Read(&mut typed, &Locale::default()), &mut rules);
    typed.done().map_err(DeskError::Form)?;
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
