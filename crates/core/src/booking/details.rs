//! What a booker fills in, and what is said about each field.

use crate::words::address::{is_address, is_phone};
use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::words::text;
use crate::{QuestionId, TicketTypeId};

/// Longest name or short answer, in characters.
pub const LONGEST: usize = 200;

/// Longest long answer, in characters.
pub const LONGEST_TEXT: usize = 4000;

/// What has been typed so far, kept word for word.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Draft {
    /// The booker's name.
    pub name: String,
    /// The booker's e-mail address.
    pub email: String,
    /// The attendees' names, in the order of the tickets.
    pub attendees: Vec<String>,
    /// Answers by question. Several chosen answers stand on a line each.
    pub answers: BTreeMap<QuestionId, String>,
    /// Answers of each attendee, in the order of the tickets.
    #[serde(default)]
    pub each: Vec<BTreeMap<QuestionId, String>>,
    /// Whether the terms are agreed to.
    pub agreed: bool,
    /// They have been told that they have booked this date before, and mean it.
    #[serde(default)]
    pub again: bool,
}

impl Draft {
    /// Takes some fields over from another draft and leaves all others: of two people, or two
    /// devices, that type at once each keeps what it typed, and of one field the last one counts.
    pub fn take_over(&mut self, typed: &Self, fields: &[Field]) {
        fn place<T: Default + Clone>(all: &mut Vec<T>, at: usize) -> &mut T {
            if all.len() <= at {
                all.resize(at + 1, T::default());
            }
            &mut all[at]
        }
        for field in fields {
            match *field {
                Field::Name => self.name.clone_from(&typed.name),
                Field::Email => self.email.clone_from(&typed.email),
                Field::Terms => self.agreed = typed.agreed,
                Field::Attendee(at) => {
                    *place(&mut self.attendees, at) =
                        typed.attendees.get(at).cloned().unwrap_or_default();
                }
                Field::Answer(question) => {
                    let answer = typed.answers.get(&question).cloned().unwrap_or_default();
                    self.answers.insert(question, answer);
                }
                Field::AnswerOf(at, question) => {
                    let given = typed.each.get(at).and_then(|all| all.get(&question));
                    place(&mut self.each, at).insert(question, given.cloned().unwrap_or_default());
                }
            }
        }
    }
}

/// How a question is answered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Answering {
    /// A line of text.
    Text,
    /// Some paragraphs.
    LongText,
    /// One of several.
    OneOf(Vec<String>),
    /// Any of several.
    SeveralOf(Vec<String>),
    /// A whole number.
    Number,
    /// A day.
    Day,
    /// Yes, or left open.
    YesNo,
    /// A telephone number.
    Phone,
    /// Agreeing to this text.
    Consent(String),
}

/// A question, for the whole booking or for each attendee.
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
    /// Asked of each attendee rather than once.
    pub each: bool,
    /// Only for these ticket types; empty for all.
    pub only: Vec<TicketTypeId>,
}

impl Question {
    /// Whether an attendee with this ticket is asked; for a question of the whole
    /// booking, whether one such ticket makes it asked.
    #[must_use]
    pub fn concerns(&self, ticket: TicketTypeId) -> bool {
        self.only.is_empty() || self.only.contains(&ticket)
    }

    /// Whether it is asked once for a booking of these tickets.
    #[must_use]
    pub fn asked_once(&self, tickets: &[TicketTypeId]) -> bool {
        !self.each && (self.only.is_empty() || tickets.iter().any(|t| self.concerns(*t)))
    }
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
    /// The answer of the attendee at this place, counted from zero.
    AnswerOf(usize, QuestionId),
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
    /// Not a whole number.
    #[error("not a whole number")]
    NotANumber,
    /// Not a day.
    #[error("not a day")]
    NotADay,
    /// Not a telephone number.
    #[error("not a telephone number")]
    NotAPhone,
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
    /// The answers given by each attendee.
    pub each: Vec<BTreeMap<QuestionId, String>>,
}

/// Reads one answer: what is written down of it, or what is wrong with it. An answer
/// left open is empty.
///
/// # Errors
/// What is wrong.
pub fn answer(question: &Question, typed: &str) -> Result<String, Problem> {
    let line = text::line(typed);
    let long = |said: String, most: usize| {
        if said.chars().count() > most { Err(Problem::TooLong { most }) } else { Ok(said) }
    };
    if line.is_empty() {
        return if question.needed { Err(Problem::Missing) } else { Ok(line) };
    }
    match &question.answering {
        Answering::Text => long(line, LONGEST),
        Answering::LongText => long(text::lines(typed), LONGEST_TEXT),
        Answering::OneOf(options) if options.contains(&line) => Ok(line),
        Answering::OneOf(_) => Err(Problem::NotOffered),
        Answering::SeveralOf(options) => {
            let chosen: Vec<&str> =
                typed.lines().map(str::trim).filter(|l| !l.is_empty()).collect();
            if chosen.iter().all(|c| options.iter().any(|o| o == c)) {
                let said: Vec<&str> =
                    options.iter().map(String::as_str).filter(|o| chosen.contains(o)).collect();
                Ok(said.join(", "))
            } else {
                Err(Problem::NotOffered)
            }
        }
        Answering::Number => {
            line.parse::<i64>().map(|n| n.to_string()).map_err(|_| Problem::NotANumber)
        }
        Answering::Day => {
            line.parse::<jiff::civil::Date>().map(|d| d.to_string()).map_err(|_| Problem::NotADay)
        }
        Answering::YesNo | Answering::Consent(_) if line == "yes" => Ok(line),
        Answering::YesNo | Answering::Consent(_) => Err(Problem::NotOffered),
        Answering::Phone if is_phone(&line) => Ok(line),
        Answering::Phone => Err(Problem::NotAPhone),
    }
}

/// Checks a draft for people who hold these tickets. The first attendee's name, left
/// empty, is the booker's.
///
/// # Errors
/// Every field that needs another look, in the order of the form.
pub fn check(
    draft: &Draft,
    tickets: &[TicketTypeId],
    questions: &[Question],
) -> Result<Details, Vec<(Field, Problem)>> {
    check_of(draft, tickets, questions, false)
}

/// [`check`] for a booking that somebody at the house takes by telephone: there may be no
/// address, whoever is not named is the booker, and terms are not ticked. Questions that need
/// an answer need one here too.
///
/// # Errors
/// As [`check`].
pub fn check_by_phone(
    draft: &Draft,
    tickets: &[TicketTypeId],
    questions: &[Question],
) -> Result<Details, Vec<(Field, Problem)>> {
    check_of(draft, tickets, questions, true)
}

fn check_of(
    draft: &Draft,
    tickets: &[TicketTypeId],
    questions: &[Question],
    by_phone: bool,
) -> Result<Details, Vec<(Field, Problem)>> {
    let mut problems = Vec::new();
    let line = |field: Field, typed: &str, problems: &mut Vec<(Field, Problem)>| {
        let text = text::line(typed);
        if text.is_empty() {
            problems.push((field, Problem::Missing));
        } else if text.chars().count() > LONGEST {
            problems.push((field, Problem::TooLong { most: LONGEST }));
        }
        text
    };
    let name = line(Field::Name, &draft.name, &mut problems);
    let email = text::line(&draft.email);
    if email.is_empty() {
        if !by_phone {
            problems.push((Field::Email, Problem::Missing));
        }
    } else if !is_address(&email) {
        problems.push((Field::Email, Problem::NotAnAddress));
    }
    let names = (0..tickets.len())
        .map(|i| match draft.attendees.get(i).map(String::as_str) {
            None | Some("") if i == 0 || by_phone => name.clone(),
            given => line(Field::Attendee(i), given.unwrap_or_default(), &mut problems),
        })
        .collect();
    let mut ask = |field: Field, question: &Question, typed: Option<&String>| match answer(
        question,
        typed.map_or("", String::as_str),
    ) {
        Ok(text) => (!text.is_empty()).then_some((question.id, text)),
        Err(problem) => {
            problems.push((field, problem));
            None
        }
    };
    let each = tickets
        .iter()
        .enumerate()
        .map(|(i, ticket)| {
            questions
                .iter()
                .filter(|q| q.each && q.concerns(*ticket))
                .filter_map(|q| {
                    let typed = draft.each.get(i).and_then(|a| a.get(&q.id));
                    ask(Field::AnswerOf(i, q.id), q, typed)
                })
                .collect()
        })
        .collect();
    let answers = questions
        .iter()
        .filter(|q| q.asked_once(tickets))
        .filter_map(|q| ask(Field::Answer(q.id), q, draft.answers.get(&q.id)))
        .collect();
    if !draft.agreed && !by_phone {
        problems.push((Field::Terms, Problem::NotAgreed));
    }
    if problems.is_empty() {
        Ok(Details { name, email, attendees: names, answers, each })
    } else {
        // Questions come in the organiser's order, fields in the form's.
        problems.sort_by_key(|(field, _)| *field);
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
            ..Draft::default()
        }
    }

    fn people(n: usize) -> Vec<TicketTypeId> {
        vec![TicketTypeId(1); n]
    }

    fn questions() -> Vec<Question> {
        let ask = |id, answering, needed| Question {
            id: QuestionId(id),
            label: String::new(),
            answering,
            needed,
            each: false,
            only: Vec::new(),
        };
        vec![
            ask(1, Answering::YesNo, false),
            ask(2, Answering::OneOf(vec!["soup".into(), "bread".into()]), false),
            ask(3, Answering::Text, false),
        ]
    }

    #[test]
    fn of_two_who_type_at_once_each_keeps_their_fields() {
        let (first, second) = (QuestionId(1), QuestionId(2));
        let one = Draft { name: "Ana".into(), agreed: true, ..Draft::default() };
        let mut other = Draft { attendees: vec!["Kit".into(), "Noor".into()], ..Draft::default() };
        other.answers.insert(first, "Vegan".into());
        other.each = vec![BTreeMap::new(), BTreeMap::from([(second, "M".into())])];
        let mut kept = Draft { email: "ana@post.example".into(), ..Draft::default() };
        kept.take_over(&one, &[Field::Name, Field::Terms]);
        kept.take_over(
            &other,
            &[Field::Attendee(1), Field::Answer(first), Field::AnswerOf(1, second)],
        );
        assert_eq!((kept.name.as_str(), kept.email.as_str()), ("Ana", "ana@post.example"));
        assert_eq!(kept.attendees, ["", "Noor"]);
        assert!(kept.agreed);
        assert_eq!((kept.answers[&first].as_str(), kept.each[1][&second].as_str()), ("Vegan", "M"));
        // What was taken back is taken back.
        kept.take_over(
            &Draft::default(),
            &[Field::Terms, Field::Answer(first), Field::Attendee(7)],
        );
        assert_eq!((kept.agreed, kept.answers[&first].as_str()), (false, ""));
        assert_eq!(kept.attendees.len(), 8);
    }

    #[test]
    fn a_complete_draft_is_tidied_and_the_booker_comes_first() {
        let details = check(&draft(), &people(2), &questions()).unwrap();
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
        let problems = check(&bad, &people(2), &questions()).unwrap_err();
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

    #[test]
    fn each_way_of_answering_takes_what_fits_it() {
        let ask = |answering: Answering, typed: &str| {
            let question = Question {
                id: QuestionId(1),
                label: String::new(),
                answering,
                needed: false,
                each: false,
                only: Vec::new(),
            };
            answer(&question, typed)
        };
        let several = || Answering::SeveralOf(vec!["soup".into(), "bread, rye".into()]);
        assert_eq!(ask(several(), "bread, rye\nsoup").unwrap(), "soup, bread, rye");
        assert_eq!(ask(several(), "cake"), Err(Problem::NotOffered));
        assert_eq!(ask(Answering::LongText, " one\r\ntwo\u{7} ").unwrap(), "one\ntwo");
        assert_eq!(ask(Answering::Number, " 012 ").unwrap(), "12");
        assert_eq!(ask(Answering::Number, "4.5"), Err(Problem::NotANumber));
        assert_eq!(ask(Answering::Day, "2027-02-30"), Err(Problem::NotADay));
        assert_eq!(ask(Answering::Phone, "+353 (1) 555-0199").unwrap(), "+353 (1) 555-0199");
        assert_eq!(ask(Answering::Phone, "ring me"), Err(Problem::NotAPhone));
        assert_eq!(ask(Answering::Consent("photographs".into()), "no"), Err(Problem::NotOffered));
        assert_eq!(ask(Answering::Day, "").unwrap(), "");
    }

    #[test]
    fn a_question_is_asked_of_those_it_concerns() {
        let (child, grown) = (TicketTypeId(2), TicketTypeId(1));
        let ask = |id, each, only: &[TicketTypeId]| Question {
            id: QuestionId(id),
            label: String::new(),
            answering: Answering::Number,
            needed: true,
            each,
            only: only.to_vec(),
        };
        let questions = [ask(1, true, &[child]), ask(2, false, &[child]), ask(3, true, &[])];
        let draft = draft();
        let wrong = |tickets: &[TicketTypeId]| {
            let problems = check(&draft, tickets, &questions).unwrap_err();
            problems.into_iter().map(|(field, _)| field).collect::<Vec<_>>()
        };
        let of = |i, id| Field::AnswerOf(i, QuestionId(id));
        assert_eq!(wrong(&[grown]), [of(0, 3)]);
        assert_eq!(
            wrong(&[grown, child]),
            [of(0, 3), of(1, 1), of(1, 3), Field::Answer(QuestionId(2))]
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
            match check(&draft, &self::people(people), &questions()) {
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
