//! A verdict as the door shows it, and as a row of the log.

use askama::Template;
use matricle_core::DateId;
use matricle_core::door::{Presence, Verdict};
use matricle_desk::door::Outcome;
use matricle_formats::words;

use crate::door::scan_key;
use crate::wording;

/// A verdict, or what stands there before the first.
#[derive(Debug, Default, Template)]
#[template(path = "door/verdict.html")]
pub(crate) struct VerdictPart {
    pub(crate) class: &'static str,
    pub(crate) word: String,
    pub(crate) name: String,
    pub(crate) ticket: String,
    pub(crate) reason: String,
    pub(crate) companions: String,
    /// Others who came in with the same ticket: the scan, their name.
    pub(crate) with: Vec<(i64, String)>,
    /// Others on the booking with tickets of their own: who, their name, a key for each.
    pub(crate) others: Vec<(i64, String, String)>,
    pub(crate) date: i64,
    pub(crate) token: String,
    pub(crate) when: String,
    pub(crate) pay: Option<PayPart>,
    /// What the organiser wants the door to know.
    pub(crate) note: String,
    /// Who was let in: a device remembers it. Nought for nobody.
    pub(crate) attendee: i64,
    /// The session whose room it was, in words.
    pub(crate) session: String,
}

/// How somebody who is to pay can do so here.
#[derive(Debug)]
pub(crate) struct PayPart {
    pub(crate) date: i64,
    pub(crate) attendee: i64,
    pub(crate) due_minor: i64,
    pub(crate) due: String,
    pub(crate) token: String,
    pub(crate) key: String,
    /// The house has a card provider.
    pub(crate) by_card: bool,
    /// What stamps would pay it; empty when they do not.
    pub(crate) stamps: String,
    /// The booker's cards: letters, what is left.
    pub(crate) cards: Vec<(String, String)>,
}

fn pay_part(outcome: &Outcome, date: DateId, token: &str) -> Option<PayPart> {
    let pay = outcome.pay.as_ref()?;
    Some(PayPart {
        date: date.0,
        attendee: pay.attendee.0,
        due_minor: pay.due.minor,
        due: pay.due.to_string(),
        token: token.into(),
        key: scan_key(),
        by_card: pay.by_card,
        stamps: if pay.stamps > 0 { words::count(pay.stamps, "stamps") } else { String::new() },
        cards: pay
            .cards
            .iter()
            .map(|(code, left)| (code.clone(), format!("{} left", words::count(*left, "stamps"))))
            .collect(),
    })
}

/// A verdict's word as a heading.
pub(crate) fn heading(word: &str) -> String {
    let mut word = word.to_owned();
    if let Some(first) = word.get_mut(..1) {
        first.make_ascii_uppercase();
    }
    word
}

/// Class and shape of a verdict.
pub(crate) const fn class(verdict: &Verdict) -> &'static str {
    match verdict {
        Verdict::ComeIn => "in",
        Verdict::AlreadyIn { .. } => "dup",
        Verdict::ToPay { .. } => "pay",
        Verdict::OtherDate { .. } => "other",
        Verdict::OtherDoor { .. } => "way",
        Verdict::Out => "out",
        Verdict::NotIn => "mis",
        Verdict::SignUpsFirst { .. } => "first",
        Verdict::Full { .. } => "full",
        Verdict::WentOut | Verdict::GivenUp { .. } => "gone",
        Verdict::Misread => "mis",
        Verdict::StampCard { .. } => "card",
        Verdict::Test => "test",
        Verdict::Cancelled | Verdict::Unknown => "no",
    }
}

pub(crate) fn verdict_part(
    outcome: &Outcome,
    date: DateId,
    zone: &str,
    token: &str,
) -> VerdictPart {
    let told = &outcome.told;
    let word = heading(told.verdict.word());
    VerdictPart {
        class: if outcome.undone { "ready" } else { class(&told.verdict) },
        word: if outcome.undone { "Undone".into() } else { word },
        name: told.name.clone(),
        ticket: match told.place {
            Some((place, people)) => format!("{} · place {place} of {people}", told.ticket),
            None => told.ticket.clone(),
        },
        reason: match outcome.undone {
            true => match &outcome.stands {
                Some(Presence::In { at, door }) => format!(
                    "still in: {}, {door}",
                    words::clock(words::local(*at, zone).datetime())
                ),
                Some(Presence::Left) => "they are out".into(),
                _ => match outcome.back {
                    Some(back) => format!("expected again; give {back} back"),
                    None => "expected again".into(),
                },
            },
            false => wording::verdict(told, zone, outcome.at),
        },
        companions: match told.companions.as_slice() {
            [] => String::new(),
            [one] => format!("{one} not here yet"),
            several => format!("{} not here yet", several.join(", ")),
        },
        with: match outcome.undone {
            true => Vec::new(),
            false => told.with.iter().map(|(scan, _, name)| (*scan, name.clone())).collect(),
        },
        others: match outcome.undone {
            true => Vec::new(),
            false => {
                told.others.iter().map(|(id, name)| (id.0, name.clone(), scan_key())).collect()
            }
        },
        date: date.0,
        token: token.into(),
        when: words::seconds(outcome.at, zone),
        pay: pay_part(outcome, date, token),
        note: told.note.clone(),
        attendee: outcome.attendee.map_or(0, |a| a.0),
        session: told.session.clone(),
    }
}

/// The picture of a kind of verdict.
#[derive(Template)]
#[template(path = "door/shape.html")]
struct Shape {
    class: &'static str,
}

/// What each kind of verdict looks like.
pub(crate) fn shapes() -> Result<Vec<(&'static str, String)>, askama::Error> {
    [
        "in", "out", "dup", "pay", "other", "way", "first", "full", "gone", "mis", "card", "test",
        "ready", "no", "wait",
    ]
    .into_iter()
    .map(|class| Ok((class, Shape { class }.render()?)))
    .collect()
}

/// A scan in the log.
#[derive(Template)]
#[template(path = "door/row.html")]
pub(crate) struct VerdictRow {
    pub(crate) scan: i64,
    pub(crate) date: i64,
    pub(crate) token: String,
    pub(crate) class: &'static str,
    pub(crate) when: String,
    pub(crate) name: String,
    pub(crate) what: String,
    pub(crate) door: String,
    pub(crate) can_undo: bool,
    /// Nobody passed with it: undoing it gives the money back, and nothing else.
    pub(crate) gives_back: bool,
    pub(crate) undone: bool,
    /// Whose ticket it was; nought for nobody's.
    pub(crate) attendee: i64,
}

pub(crate) fn log_row(outcome: &Outcome, date: DateId, zone: &str, token: &str) -> VerdictRow {
    let told = &outcome.told;
    let (word, reason) = (told.verdict.word(), wording::verdict(told, zone, outcome.at));
    let what = match (&told.verdict, reason.as_str()) {
        (_, "") => word.to_owned(),
        (Verdict::ToPay { .. }, _) => reason,
        _ => format!("{word}: {reason}"),
    };
    VerdictRow {
        scan: outcome.scan,
        date: date.0,
        token: token.into(),
        class: class(&told.verdict),
        when: words::seconds(outcome.at, zone),
        name: if told.name.is_empty() { "–".into() } else { told.name.clone() },
        what,
        door: outcome.door.clone(),
        can_undo: (outcome.passed || outcome.took) && !outcome.undone,
        gives_back: outcome.took && !outcome.passed,
        undone: outcome.undone,
        attendee: outcome.attendee.map_or(0, |a| a.0),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::Timestamp;
    use matricle_desk::door::{Told, Why};

    fn outcome(verdict: &Verdict, reason: &str, undone: bool) -> Outcome {
        let told = Told {
            verdict: verdict.clone(),
            why: if reason.is_empty() { Why::Itself } else { Why::Said(reason.into()) },
            name: "Siân <O'Hara>".into(),
            ticket: "Family".into(),
            place: Some((1, 4)),
            companions: vec!["Kit".into(), "Ana".into()],
            note: String::new(),
            with: Vec::new(),
            others: Vec::new(),
            session: String::new(),
        };
        let at = "2026-11-25T18:42:07Z".parse().unwrap();
        Outcome {
            scan: 7,
            told,
            at,
            door: "side gate".into(),
            undone,
            took: false,
            pay: None,
            stands: None,
            back: None,
            attendee: None,
            passed: *verdict == Verdict::ComeIn,
        }
    }

    fn in_words(outcome: &Outcome) -> VerdictPart {
        verdict_part(outcome, DateId(1), "UTC", "t")
    }

    /// Each verdict has its own class, and with it its own shape: colour is never alone.
    #[test]
    fn each_verdict_has_its_own_word_and_shape() {
        let due = matricle_core::Currency::EUR.of(4200);
        let at = Timestamp::UNIX_EPOCH;
        let verdicts = [
            Verdict::ComeIn,
            Verdict::AlreadyIn { at, door: "gate".into() },
            Verdict::ToPay { due },
            Verdict::OtherDate { date: DateId(2) },
            Verdict::WentOut,
            Verdict::Out,
            Verdict::OtherDoor { door: "yard".into() },
            Verdict::SignUpsFirst { from: at },
            Verdict::Full { inside: 40, most: 40 },
            Verdict::Misread,
            Verdict::StampCard { left: 3 },
            Verdict::Test,
            Verdict::Unknown,
        ];
        let mut shapes = Vec::new();
        for verdict in &verdicts {
            let part = in_words(&outcome(verdict, "why", false)).render().unwrap();
            assert!(
                part.contains("Siân &#60;O&#39;Hara&#62;") && part.contains("18:42:07"),
                "{part}"
            );
            let shape =
                part.split("<svg").nth(1).unwrap().split("</svg>").next().unwrap().to_owned();
            assert!(!shapes.contains(&shape), "{} has its own shape", verdict.word());
            shapes.push(shape);
        }
        assert_eq!(class(&Verdict::Cancelled), class(&Verdict::Unknown), "both: do not let in");
    }

    #[test]
    fn a_scan_in_the_log_can_be_undone_once_and_only_if_it_let_somebody_in() {
        let row = |verdict, undone| {
            log_row(&outcome(verdict, "", undone), DateId(1), "UTC", "t").render().unwrap()
        };
        assert!(row(&Verdict::ComeIn, false).contains("data-undo"));
        assert!(!row(&Verdict::Unknown, false).contains("data-undo"));
        let undone = row(&Verdict::ComeIn, true);
        assert!(!undone.contains("data-undo") && undone.contains("undone, was come in"));
        let told = in_words(&outcome(&Verdict::ComeIn, "", true)).render().unwrap();
        assert!(told.contains("Undone") && told.contains("expected again"));
        let part = in_words(&outcome(&Verdict::ComeIn, "", false)).render().unwrap();
        assert!(part.contains("Kit, Ana not here yet"));
    }
}
