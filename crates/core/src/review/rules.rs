//! The house rules: who may submit, where a submission lands, who is told, what may be changed
//! later.

use jiff::civil::{Time, time};
use serde::{Deserialize, Serialize};

use super::submission::{Act, NotYou, Refusal, State};
use crate::PersonId;
use crate::people::who::{is_invited, mailbox};

/// Who may submit.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum WhoMay {
    /// Nobody.
    Nobody,
    /// People named, who sign in with one of these addresses.
    Named(Vec<String>),
    /// Members who have signed in.
    #[default]
    Members,
    /// Anybody who proves an address.
    Anybody,
}

crate::worded! {
    /// Where a submission lands.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
    #[serde(rename_all = "snake_case")]
    pub enum Lands {
        /// It waits for a reviewer.
        #[default]
        Review = "review",
        /// It becomes a draft at the Office.
        Draft = "draft",
        /// It is published at once.
        Published = "published",
    }
}

/// An address that is told of what arrives.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Told {
    /// The address.
    pub email: String,
    /// Once a day, rather than of each at once.
    pub daily: bool,
}

/// The house rules.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct HouseRules {
    /// Who may submit.
    pub who: WhoMay,
    /// Where a submission lands of somebody who is no member …
    pub strangers: Lands,
    /// … of a member …
    pub members: Lands,
    /// … and of somebody a reviewer trusts.
    pub trusted: Lands,
    /// Who is told.
    pub told: Vec<Told>,
    /// At which hour of the house's clock, for those told once a day.
    pub hour: Time,
    /// It may be changed while it waits.
    pub change_before: bool,
    /// It may be changed once it is accepted: the change is reviewed.
    pub change_after: bool,
    /// It may be withdrawn.
    pub withdraw: bool,
    /// So many days what was turned down or withdrawn is kept; 0 erases it the day after.
    pub keep_days: u32,
    /// Places are suggested while one types …
    pub suggest_places: bool,
    /// … and those who lead events.
    pub suggest_hosts: bool,
    /// Words above the form.
    pub words: String,
    /// What a submitter agrees to.
    pub terms: String,
    /// A picture may come with it.
    pub pictures: bool,
    /// It may be asked that it can be booked here.
    pub bookable: bool,
    /// What the submitter gets of the earnings of an event that can be booked, in percent.
    pub share: u32,
    /// So many a day from one address.
    pub a_day: u32,
    /// A reviewer may accept what they submitted themselves; it is marked as their own then.
    #[serde(default)]
    pub own: bool,
    /// After so many accepted without a correction, a person is proposed to be trusted.
    pub trust_after: u32,
    /// Further ahead than so many days is looked at.
    pub ahead_days: u32,
    /// Domains that nothing good ever came from.
    pub bad_domains: Vec<String>,
}

impl Default for HouseRules {
    fn default() -> Self {
        Self {
            who: WhoMay::default(),
            strangers: Lands::Review,
            members: Lands::Review,
            trusted: Lands::Published,
            told: Vec::new(),
            hour: time(17, 0, 0, 0),
            change_before: true,
            change_after: true,
            withdraw: true,
            keep_days: 90,
            suggest_places: true,
            suggest_hosts: true,
            words: String::new(),
            terms: String::new(),
            pictures: true,
            bookable: true,
            share: 0,
            a_day: 5,
            own: false,
            trust_after: 5,
            ahead_days: 400,
            bad_domains: Vec::new(),
        }
    }
}

/// What is known of somebody who submits.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Standing {
    /// The address they have proved.
    pub proved: Option<String>,
    /// They are a member, by the record of that address.
    pub member: bool,
    /// A reviewer trusts them.
    pub trusted: bool,
}

/// Whether a reviewer has submitted something themselves: by their person, or by an address that
/// leads to the same box.
#[must_use]
pub fn is_own(submitter: (Option<PersonId>, &str), reviewer: (Option<PersonId>, &str)) -> bool {
    let same_person = submitter.0.is_some() && submitter.0 == reviewer.0;
    let same_box = !submitter.1.is_empty() && mailbox(submitter.1) == mailbox(reviewer.1);
    same_person || same_box
}

impl HouseRules {
    /// Lets somebody submit. Where anybody may who proves an address, they may write before they
    /// have proved it.
    ///
    /// # Errors
    /// [`Refusal::NotYou`].
    pub fn may_submit(&self, who: &Standing) -> Result<(), Refusal> {
        let ok = match &self.who {
            WhoMay::Nobody => Err(NotYou::Closed),
            WhoMay::Anybody => Ok(()),
            WhoMay::Members if who.proved.is_some() && who.member => Ok(()),
            WhoMay::Members => Err(NotYou::MembersOnly),
            WhoMay::Named(list) => match &who.proved {
                Some(address) if is_invited(list, address) => Ok(()),
                Some(_) | None => Err(NotYou::NotNamed),
            },
        };
        ok.map_err(Refusal::NotYou)
    }

    /// Where a submission of somebody lands.
    #[must_use]
    pub const fn lands(&self, who: &Standing) -> Lands {
        if who.trusted {
            self.trusted
        } else if who.member {
            self.members
        } else {
            self.strangers
        }
    }

    /// Whether a submitter may do this with what stands so.
    ///
    /// # Errors
    /// [`Refusal::ByRules`].
    pub const fn allows(&self, act: Act, state: State) -> Result<(), Refusal> {
        let ok = match (act, state) {
            (Act::Change, State::Accepted) => self.change_after,
            // What was sent back is to be changed, whatever else holds.
            (Act::Change, State::SentBack) => true,
            (Act::Change, _) => self.change_before,
            (Act::Withdraw, _) => self.withdraw,
            (_, _) => true,
        };
        if ok { Ok(()) } else { Err(Refusal::ByRules(act)) }
    }

    /// Whether nothing good ever came from the domain of an address, or from one above it.
    #[must_use]
    pub fn is_bad(&self, domain: &str) -> bool {
        let domain = domain.to_lowercase();
        self.bad_domains.iter().any(|bad| {
            let bad = bad.to_lowercase();
            domain == bad || domain.strip_suffix(&bad).is_some_and(|rest| rest.ends_with('.'))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_may_submit_and_where_it_lands() {
        let stranger = Standing::default();
        let proved = Standing { proved: Some("a@post.example".into()), ..Standing::default() };
        let member = Standing { member: true, ..proved.clone() };
        let trusted = Standing { trusted: true, ..proved.clone() };
        let mut rows = Vec::new();
        for who in [
            WhoMay::Nobody,
            WhoMay::Named(vec!["A@post.example".into()]),
            WhoMay::Members,
            WhoMay::Anybody,
        ] {
            let rules = HouseRules { who, ..HouseRules::default() };
            let said = [&stranger, &proved, &member, &trusted].map(|s| match rules.may_submit(s) {
                Ok(()) => rules.lands(s).word().to_owned(),
                Err(Refusal::NotYou(why)) => format!("{why:?}"),
                Err(other) => other.to_string(),
            });
            rows.push(said.join(", "));
        }
        insta::assert_snapshot!(rows.join("\n"), @r"
        Closed, Closed, Closed, Closed
        NotNamed, review, review, published
        MembersOnly, MembersOnly, review, MembersOnly
        review, review, review, published
        ");
        // What is sent back can be changed even where nothing else may be.
        let strict = HouseRules { change_before: false, withdraw: false, ..HouseRules::default() };
        assert!(strict.allows(Act::Change, State::SentBack).is_ok());
        for (act, state) in [(Act::Change, State::Received), (Act::Withdraw, State::Accepted)] {
            assert_eq!(strict.allows(act, state), Err(Refusal::ByRules(act)));
        }
        let bad = HouseRules { bad_domains: vec!["pills.example".into()], ..strict };
        assert!(bad.is_bad("buy.Pills.example") && !bad.is_bad("mypills.example"));
        let json = serde_json::to_string(&bad).unwrap();
        assert_eq!(serde_json::from_str::<HouseRules>(&json).unwrap(), bad);
    }
}
