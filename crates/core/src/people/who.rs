//! Who may book an event.

use serde::{Deserialize, Serialize};

use crate::words::fold;

/// Who may book.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Who {
    /// Anyone.
    #[default]
    Anyone,
    /// Whoever has signed in with their address.
    SignedIn,
    /// Whoever knows the word.
    Word(String),
    /// Whoever has proved an address in one of these domains, or below one.
    Domains(Vec<String>),
    /// Whoever has proved an address that is invited.
    Invited,
}

/// Why somebody may not book.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum WhoRefusal {
    /// They have not proved this address.
    #[error("the address is not proved")]
    NotSignedIn,
    /// The word is missing or another one.
    #[error("the word is needed")]
    WrongWord,
    /// The address is in none of the domains.
    #[error("the address is not in {domains:?}")]
    OtherDomain {
        /// The domains allowed.
        domains: Vec<String>,
    },
    /// The address is not on the list.
    #[error("not invited")]
    NotInvited,
    /// Somebody with this address has booked already.
    #[error("booked already")]
    Again,
}

fn same_address(one: &str, other: &str) -> bool {
    one.trim().to_lowercase() == other.trim().to_lowercase()
}

/// The box that an address means, as far as its letters tell: without case, without what
/// stands after a plus, without dots before the at. Two addresses of one box are one person
/// where somebody may book once.
#[must_use]
pub fn mailbox(address: &str) -> String {
    let address = address.trim().to_lowercase();
    let Some((local, domain)) = address.rsplit_once('@') else { return address };
    let local = local.split('+').next().unwrap_or(local).replace('.', "");
    format!("{local}@{domain}")
}

/// Whether an address is on a list of people invited, without regard to case.
#[must_use]
pub fn is_invited(list: &[String], address: &str) -> bool {
    list.iter().any(|invited| same_address(invited, address))
}

impl Who {
    /// Whether it asks for an address that is proved.
    #[must_use]
    pub const fn wants_proof(&self) -> bool {
        match self {
            Self::Anyone | Self::Word(_) => false,
            Self::SignedIn | Self::Domains(_) | Self::Invited => true,
        }
    }

    /// Lets an address book, or says why not. `proved` is the address proved by signing in or
    /// by the link of an invitation, if any; `word` what was given as the word; `invited` whether
    /// the address is on the event's list. A rule about addresses never believes what is merely
    /// typed.
    ///
    /// # Errors
    /// What is missing.
    pub fn allows(
        &self,
        address: &str,
        proved: Option<&str>,
        word: &str,
        invited: bool,
    ) -> Result<(), WhoRefusal> {
        let ok = match self {
            Self::Anyone => true,
            Self::SignedIn => is_proved(address, proved)?,
            Self::Word(right) if fold(right) == fold(word) => true,
            Self::Word(_) => return Err(WhoRefusal::WrongWord),
            Self::Domains(domains) => {
                if !is_within(address, domains) {
                    return Err(WhoRefusal::OtherDomain { domains: domains.clone() });
                }
                is_proved(address, proved)?
            }
            Self::Invited => invited && is_proved(address, proved)?,
        };
        if ok { Ok(()) } else { Err(WhoRefusal::NotInvited) }
    }
}

/// Whether an address is in one of some domains, or below one.
#[must_use]
pub fn is_within(address: &str, domains: &[String]) -> bool {
    let own = address.rsplit_once('@').map_or("", |(_, d)| d).trim().to_lowercase();
    domains.iter().any(|d| {
        let d = d.trim().trim_start_matches('@').to_lowercase();
        own == d || own.strip_suffix(&d).is_some_and(|rest| rest.ends_with('.'))
    })
}

/// Whether the address typed is the one that was proved.
///
/// # Errors
/// [`WhoRefusal::NotSignedIn`] when it is not.
pub fn is_proved(address: &str, proved: Option<&str>) -> Result<bool, WhoRefusal> {
    let same = proved.is_some_and(|p| same_address(p, address));
    if same { Ok(true) } else { Err(WhoRefusal::NotSignedIn) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_way_lets_in_whom_it_should() {
        let ask = |who: &Who, address| who.allows(address, Some("ros@post.example"), "Hive", true);
        assert!(ask(&Who::Anyone, "a@b.example").is_ok());
        assert!(ask(&Who::SignedIn, "Ros@post.example").is_ok());
        assert_eq!(ask(&Who::SignedIn, "a@b.example"), Err(WhoRefusal::NotSignedIn));
        assert!(ask(&Who::Word("hive".into()), "a@b.example").is_ok());
        assert_eq!(ask(&Who::Word("comb".into()), "a@b.example"), Err(WhoRefusal::WrongWord));
        let domains = Who::Domains(vec!["school.example".into()]);
        for good in ["a@school.example", "a@north.School.example"] {
            assert!(domains.allows(good, Some(good), "", false).is_ok(), "{good}");
            assert_eq!(ask(&domains, good), Err(WhoRefusal::NotSignedIn), "typed, not proved");
        }
        for bad in ["a@myschool.example", "a@school.example.evil.example", "school.example"] {
            assert!(ask(&domains, bad).is_err(), "{bad}");
        }
        // Each is proved: it is the domain alone that keeps them out.
        for (address, within) in [
            ("a@school.example", true),
            ("a@north.school.example", true),
            ("a@SCHOOL.Example", true),
            ("a@myschool.example", false),
            ("a@school.example.evil.example", false),
            ("a@example", false),
            ("school.example", false),
        ] {
            assert_eq!(is_within(address, &["@School.example".into()]), within, "{address}");
            assert_eq!(domains.allows(address, Some(address), "", false).is_ok(), within);
        }
        let (ezra, proved) = ("ezra@post.example ", Some("Ezra@post.example"));
        assert_eq!(ask(&Who::Invited, ezra), Err(WhoRefusal::NotSignedIn));
        assert!(Who::Invited.allows(ezra, proved, "", true).is_ok());
        let other = Who::Invited.allows(ezra, proved, "", false);
        assert_eq!(other, Err(WhoRefusal::NotInvited));
        let same =
            ["Ros.Wren@Post.example", "roswren+bees@post.example", " r.o.s.wren@post.example"];
        assert!(same.iter().all(|a| mailbox(a) == "roswren@post.example"));
        assert_ne!(mailbox("roswren@post.example"), mailbox("roswren@other.example"));
        assert_eq!(mailbox("no address"), "no address");
        let json = serde_json::to_string(&domains).unwrap();
        assert_eq!(serde_json::from_str::<Who>(&json).unwrap(), domains);
    }
}
