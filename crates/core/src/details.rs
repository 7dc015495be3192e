//! What a booker fills in, and what is said about each field.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::QuestionId;

/// Longest name or short answer, in characters.
pub const LONGEST: usize = 200;

/// Longest address, in bytes (RFC 5321 §4.5.3.1.3 less the angle brackets).
pub const LONGEST_ADDRESS: usize = 254;

/// What has been typed so far, kept word for word.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Draft {
    /// The booker's name.
    pub name: String,
    /// The booker's e-mail address.
    pub email: String,
    /// The attendees' names, in the order of the tickets.
    pub attendees: Vec<String>,
    /// Answers by question.
    pub answers: BTreeMap<QuestionId, String>,
    /// Whether the terms are agreed to.
    pub agreed: bool,
}

/// How a question is answered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Answering {
    /// A line of text.
    Text,
    /// One of several.
    OneOf(Vec<String>),
    /// Yes, or left open.
    YesNo,
}

/// A question for the whole booking.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// Its key.
    pub id: QuestionId,
    /// Its wording.
    pub label: String,
    /// How it is answered.
    pub answering: Answering,
    /// Whether an answer is needed.
    pub needed: bool,
}

/// A field of the form.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Field {
    /// The booker's name.
    Name,
    /// The booker's address.
    Email,
    /// The name of the attendee at this place, counted from zero.
    Attendee(usize),
    /// The answer to a question.
    Answer(QuestionId),
    /// The terms.
    Terms,
}

/// What is wrong with a field.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Problem {
    /// Nothing was given, and something is needed.
    #[error("missing")]
    Missing,
    /// More than fits.
    #[error("longer than {most} characters")]
    TooLong {
        /// The most that fits.
        most: usize,
    },
    /// Not an address that mail can be sent to.
    #[error("not an e-mail address")]
    NotAnAddress,
    /// Not one of the answers offered.
    #[error("not one of the answers offered")]
    NotOffered,
    /// The terms are not agreed to.
    #[error("terms not agreed to")]
    NotAgreed,
}

/// Details that are complete.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Details {
    /// The booker's name.
    pub name: String,
    /// The booker's address.
    pub email: String,
    /// A name for every attendee.
    pub attendees: Vec<String>,
    /// The answers given; questions left open are absent.
    pub answers: BTreeMap<QuestionId, String>,
}

/// Whether mail can be sent to this: one `@`, a local part, a domain with a dot,
/// no spaces or control characters (the shape of RFC 5321 §4.1.2, quoted local
/// parts left out). Whether the box exists only mail can tell.
#[must_use]
pub fn is_address(text: &str) -> bool {
    let Some((local, domain)) = text.rsplit_once('@') else { return false };
    let label = |l: &str| {
        !l.is_empty()
            && l.len() <= 63
            && !l.starts_with('-')
            && !l.ends_with('-')
            && l.chars().all(|c| c.is_alphanumeric() || c == '-')
    };
    let atom = |a: &str| {
        !a.is_empty() && a.chars().all(|c| c.is_alphanumeric() || "!#$%&'*+-/=?^_`{|}~".contains(c))
    };
    text.len() <= LONGEST_ADDRESS
        && local.len() <= 64
        && local.split('.').all(atom)
        && domain.contains('.')
        && domain.split('.').all(label)
}

/// One line of text: control characters out, ends trimmed.
fn tidy(text: &str) -> String {
    let spaced: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    spaced.trim().to_owned()
}

/// Checks a draft for `attendees` people. The first attendee's name, left empty,
/// is the booker's.
///
/// # Errors
/// Every field that needs another look, in the order of the form.
pub fn check(
    draft: &Draft,
    attendees: usize,
    questions: &[Question],
) -> Result<Details, Vec<(Field, Problem)>> {
    let mut problems = Vec::new();
    let line = |field: Field, text: &str, problems: &mut Vec<(Field, Problem)>| {
        let text = tidy(text);
        if text.is_empty() {
            problems.push((field, Problem::Missing));
        } else if text.chars().count() > LONGEST {
            problems.push((field, Problem::TooLong { most: LONGEST }));
        }
        text
    };
    let name = line(Field::Name, &draft.name, &mut problems);
    let email = tidy(&draft.email);
    if email.is_empty() {
        problems.push((Field::Email, Problem::Missing));
    } else if !is_address(&email) {
        problems.push((Field::Email, Problem::NotAnAddress));
    }
    let names = (0..attendees)
        .map(|i| match draft.attendees.get(i).map(String::as_str) {
            None | Some("") if i == 0 => name.clone(),
            given => line(Field::Attendee(i), given.unwrap_or_default(), &mut problems),
        })
        .collect();
    let mut answers = BTreeMap::new();
    for question in questions {
        let field = Field::Answer(question.id);
        let answer = tidy(draft.answers.get(&question.id).map_or("", String::as_str));
        let problem = match &question.answering {
            _ if answer.is_empty() => question.needed.then_some(Problem::Missing),
            Answering::Text => {
                (answer.chars().count() > LONGEST).then_some(Problem::TooLong { most: LONGEST })
            }
            Answering::OneOf(options) => {
                (!options.contains(&answer)).then_some(Problem::NotOffered)
            }
            Answering::YesNo => (answer != "yes").then_some(Problem::NotOffered),
        };
        match problem {
            Some(problem) => problems.push((field, problem)),
            None if answer.is_empty() => {}
            None => {
                answers.insert(question.id, answer);
            }
        }
    }
    if !draft.agreed {
        problems.push((Field::Terms, Problem::NotAgreed));
    }
    if problems.is_empty() {
        Ok(Details { name, email, attendees: names, answers })
    } else {
        Err(problems)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn draft() -> Draft {
        Draft {
            name: " Siân O'Hara ".into(),
            email: "sian@post.example".into(),
            attendees: vec![String::new(), "Sam O'Hara".into()],
            answers: BTreeMap::from([(QuestionId(1), "yes".into())]),
            agreed: true,
        }
    }

    fn questions() -> Vec<Question> {
        let ask = |id, answering, needed| Question {
            id: QuestionId(id),
            label: String::new(),
            answering,
            needed,
        };
        vec![
            ask(1, Answering::YesNo, false),
            ask(2, Answering::OneOf(vec!["soup".into(), "bread".into()]), false),
            ask(3, Answering::Text, false),
        ]
    }

    #[test]
    fn a_complete_draft_is_tidied_and_the_booker_comes_first() {
        let details = check(&draft(), 2, &questions()).unwrap();
        assert_eq!(details.attendees, ["Siân O'Hara", "Sam O'Hara"]);
        assert_eq!(details.answers.len(), 1);
    }

    #[test]
    fn every_problem_is_told_at_once() {
        let mut bad = draft();
        bad.email = "sian at post".into();
        bad.attendees[1] = "  ".into();
        bad.answers.insert(QuestionId(2), "cake".into());
        bad.answers.insert(QuestionId(3), "x".repeat(LONGEST + 1));
        bad.agreed = false;
        let problems = check(&bad, 2, &questions()).unwrap_err();
        assert_eq!(
            problems,
            [
                (Field::Email, Problem::NotAnAddress),
                (Field::Attendee(1), Problem::Missing),
                (Field::Answer(QuestionId(2)), Problem::NotOffered),
                (Field::Answer(QuestionId(3)), Problem::TooLong { most: LONGEST }),
                (Field::Terms, Problem::NotAgreed),
            ]
        );
    }

    proptest! {
        /// Whatever is typed, every attendee gets a name or a problem, in the order of the form.
        #[test]
        fn every_field_is_answered_or_told(
            name in "\\PC{0,220}", email in "\\PC{0,40}", agreed: bool,
            attendees in prop::collection::vec("\\PC{0,8}", 0..6), people in 0usize..6,
        ) {
            let draft = Draft { name, email, attendees, agreed, ..Draft::default() };
            match check(&draft, people, &questions()) {
                Ok(details) => {
                    prop_assert_eq!(details.attendees.len(), people);
                    prop_assert!(agreed && is_address(&details.email));
                    for name in details.attendees.iter().chain([&details.name]) {
                        prop_assert!(!name.is_empty() && name.chars().count() <= LONGEST);
                        prop_assert!(!name.chars().any(char::is_control));
                    }
                }
                Err(problems) => {
                    prop_assert!(!problems.is_empty());
                    prop_assert!(problems.windows(2).all(|p| p[0].0 < p[1].0), "{:?}", problems);
                }
            }
        }
    }

    #[test]
    fn addresses() {
        for good in ["a@b.example", "o'hara+hive@a-b.example", "zoë@café.example"] {
            assert!(is_address(good), "{good}");
        }
        for bad in [
            "",
            "a",
            "@b.example",
            "a@b",
            "a b@c.example",
            "a..b@c.example",
            "a@-b.example",
            "a@b.example\r\nBcc: c@d.example",
            "a@b@c.example, d@e.example",
        ] {
            assert!(!is_address(bad), "{bad}");
        }
    }
}
