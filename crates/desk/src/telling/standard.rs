//! The program's own templates and cues: what every house begins with. They are written down
//! once; a house changes them as it likes.

use jiff::Timestamp;
use jiff::civil::time;
use matricle_core::messages::cue::{
    Cue, Late, Only, Part, Paying, Side, Trigger, Unit, Way, When, Whom,
};
use matricle_core::messages::occasion::{Moment, Occasion};
use matricle_core::{CueId, TemplateId};
use matricle_store::templates::{self, Goes};
use matricle_store::{Tx, cues};

use crate::DeskError;

/// A wording: its word, its name, subject and body, what goes with it.
struct Words(&'static str, &'static str, &'static str, &'static [Goes]);

macro_rules! words {
    ($word:literal, $name:literal, $($goes:ident),*) => {
        Words($word, $name, include_str!(concat!("../../templates/standard/", $word, ".html")), &[$(Goes::$goes),*])
    };
}

const WORDS: &[Words] = &[
    words!("confirmation", "Confirmation", Tickets, Calendar),
    words!("approval", "Seats kept, to pay", Bill),
    words!("left", "Go on with your booking",),
    words!("pay-soon", "Please pay soon", Bill),
    words!("lapsed", "Seats free again",),
    words!("asked", "Asked for seats",),
    words!("change", "Something changed", Tickets, Calendar),
    words!("cancellation", "Cancelled", Calendar),
    words!("not-coming", "A calendar said no",),
    words!("host-not-coming", "A calendar said no, to hosts",),
    words!("refusal", "Declined",),
    words!("ticket-passed-on", "A ticket for you", Tickets, Calendar),
    words!("ticket-given", "Your ticket is passed on", Calendar),
    words!("ticket-taken-back", "Ticket no longer good", Calendar),
    words!("second-booking", "Second booking",),
    words!("moved", "Moved", Tickets, Calendar),
    words!("called-off", "Called off", Calendar),
    words!("called-off-waiting", "Called off, to those who wait",),
    words!("money-back", "Money on its way back",),
    words!("waiting-list", "On the waiting list",),
    words!("offer", "Seats for you",),
    words!("offer-ends", "Offer about to end",),
    words!("passed-over", "Passed over",),
    words!("seats-free", "Seats are free",),
    words!("invitation", "Invitation",),
    words!("invitation-again", "Invitation, once again",),
    words!("reminder", "Reminder",),
    words!("reminder-online", "Reminder, online",),
    words!("who-comes", "Who comes", Roster),
    words!("new-booking", "New booking",),
    words!("thanks", "Thanks",),
    words!("missed", "We missed you",),
    words!("card-bought", "Stamp cards bought",),
    words!("card-nearly-used", "Stamp card nearly used up",),
    words!("card-expires", "Stamp card about to expire",),
    words!("let-in", "Welcome",),
    words!("has-come", "Somebody has come",),
    words!("your-badge", "Your badge", Badge),
    words!("badges", "Badges to print", Badge),
    words!("notice-moved", "Notice: moved",),
    words!("notice-called-off", "Notice: called off",),
    words!("day-attendees", "New attendees of the day",),
    words!("day-money", "Money of the day",),
    words!("day-house", "The day in the house",),
    words!("announcement", "Announcement",),
    words!("submission-received", "Submission received",),
    words!("submission-sent-back", "Submission sent back",),
    words!("submission-accepted", "Submission accepted",),
    words!("submission-turned-down", "Submission turned down",),
    words!("to-review", "To review",),
];

/// The standard wording of something that no cue of the sheet speaks of.
#[must_use]
pub(crate) const fn wording_of(trigger: Trigger) -> &'static str {
    match trigger {
        Trigger::On(occasion) => match occasion {
            Occasion::Confirmed => "confirmation",
            Occasion::LetIn => "let-in",
            Occasion::Came => "has-come",
            Occasion::Badge => "your-badge",
            Occasion::NotComing => "not-coming",
            Occasion::ToPay => "approval",
            Occasion::Left | Occasion::WayBack => "left",
            Occasion::Lapsed => "lapsed",
            Occasion::Asked => "asked",
            Occasion::Changed => "change",
            Occasion::Cancelled => "cancellation",
            Occasion::Declined => "refusal",
            Occasion::PassedOn => "ticket-passed-on",
            Occasion::PassedBack => "ticket-taken-back",
            Occasion::Twice => "second-booking",
            Occasion::Moved => "moved",
            Occasion::CalledOff => "called-off",
            Occasion::MoneyBack => "money-back",
            Occasion::Joined => "waiting-list",
            Occasion::Offered => "offer",
            Occasion::PassedOver => "passed-over",
            Occasion::SeatsFree => "seats-free",
            Occasion::Invited => "invitation",
            Occasion::CardBought => "card-bought",
            Occasion::CardNearlyUsed => "card-nearly-used",
            Occasion::Announced => "announcement",
            Occasion::Submitted => "submission-received",
            Occasion::SentBack => "submission-sent-back",
            Occasion::Accepted => "submission-accepted",
            Occasion::TurnedDown => "submission-turned-down",
            Occasion::ToReview => "to-review",
        },
        Trigger::At(moment) => match moment {
            Moment::Starts | Moment::SaleOpens | Moment::SaleCloses => "reminder",
            Moment::Ends => "thanks",
            Moment::PayBy => "pay-soon",
            Moment::OfferEnds => "offer-ends",
            Moment::CardExpires => "card-expires",
            Moment::Asked => "invitation-again",
            Moment::Day => "day-house",
        },
    }
}

/// Splits a wording as it stands in its file: the subject is its first line.
fn split(text: &str) -> (&str, &str) {
    let (subject, body) = text.split_once('\n').unwrap_or((text, ""));
    (subject.trim(), body.trim())
}

/// What a cue of the program's own is, beside its word.
struct Own {
    word: &'static str,
    template: &'static str,
    trigger: Trigger,
    when: When,
    whom: Whom,
    only: Only,
    late: Late,
    way: Way,
    on: bool,
}

impl Own {
    /// The cue, in the words of a template.
    fn cue(self, template: TemplateId, now: Timestamp) -> Cue {
        Cue {
            id: CueId(0),
            event: None,
            instead_of: None,
            on: self.on,
            trigger: self.trigger,
            when: self.when,
            whom: self.whom,
            only: self.only,
            way: self.way,
            template,
            late: self.late,
            added_at: now,
            already: false,
            since: None,
        }
    }

    fn on(word: &'static str, occasion: Occasion, whom: Whom) -> Self {
        Self {
            word,
            template: word,
            trigger: Trigger::On(occasion),
            when: When::AtOnce,
            whom,
            only: Only::default(),
            late: Late::AtOnce,
            way: Way::Mail,
            on: true,
        }
    }

    fn at(word: &'static str, moment: Moment, when: When, whom: Whom, late: Late) -> Self {
        Self {
            trigger: Trigger::At(moment),
            when,
            late,
            ..Self::on(word, Occasion::Confirmed, whom)
        }
    }
}

#[expect(clippy::too_many_lines, reason = "a table: each message the house begins with")]
fn own() -> Vec<Own> {
    use Occasion as O;
    let day_before = |hour| When::Clock { days: 1, side: Side::Before, at: time(hour, 0, 0, 0) };
    let day_after = When::Clock { days: 1, side: Side::After, at: time(10, 0, 0, 0) };
    let before = |n, unit| When::Offset { n, unit, side: Side::Before };
    let after = |n, unit| When::Offset { n, unit, side: Side::After };
    let part = |part| Only { part: Some(part), ..Only::default() };
    let paying = |paying| Only { paying: Some(paying), ..Only::default() };
    vec![
        Own::on("confirmation", O::Confirmed, Whom::Booker),
        Own::on("approval", O::ToPay, Whom::Booker),
        Own { when: after(3, Unit::Minutes), ..Own::on("left", O::Left, Whom::Booker) },
        Own { template: "left", ..Own::on("link", O::WayBack, Whom::Booker) },
        Own {
            only: paying(Paying::Transfer),
            ..Own::at("pay-soon", Moment::PayBy, before(1, Unit::Days), Whom::Booker, Late::Never)
        },
        Own {
            word: "pay-soon-card",
            only: paying(Paying::Card),
            ..Own::at(
                "pay-soon",
                Moment::PayBy,
                before(5, Unit::Minutes),
                Whom::Booker,
                Late::Never,
            )
        },
        Own::on("lapsed", O::Lapsed, Whom::Booker),
        Own::on("asked", O::Asked, Whom::Booker),
        Own::on("change", O::Changed, Whom::Booker),
        Own::on("cancellation", O::Cancelled, Whom::Booker),
        Own::on("refusal", O::Declined, Whom::Booker),
        Own::on("not-coming", O::NotComing, Whom::Booker),
        Own::on("host-not-coming", O::NotComing, Whom::Hosts),
        Own::on("ticket-passed-on", O::PassedOn, Whom::Attendees),
        Own::on("ticket-given", O::PassedOn, Whom::Booker),
        Own::on("ticket-taken-back", O::PassedBack, Whom::Attendees),
        Own::on("second-booking", O::Twice, Whom::Booker),
        Own::on("moved", O::Moved, Whom::Attendees),
        Own::on("called-off", O::CalledOff, Whom::Attendees),
        Own::on("called-off-waiting", O::CalledOff, Whom::Waiting),
        Own { on: false, ..Own::on("money-back", O::MoneyBack, Whom::Booker) },
        Own::on("waiting-list", O::Joined, Whom::Waiting),
        Own::on("offer", O::Offered, Whom::Waiting),
        Own::at(
            "offer-ends",
            Moment::OfferEnds,
            before(2, Unit::Hours),
            Whom::Waiting,
            Late::Never,
        ),
        Own::on("passed-over", O::PassedOver, Whom::Waiting),
        Own::on("seats-free", O::SeatsFree, Whom::Waiting),
        Own {
            only: part(Part::InPerson),
            ..Own::at(
                "reminder",
                Moment::Starts,
                day_before(18),
                Whom::Attendees,
                Late::UntilHours(3),
            )
        },
        Own {
            only: part(Part::Online),
            ..Own::at(
                "reminder-online",
                Moment::Starts,
                day_before(18),
                Whom::Attendees,
                Late::UntilHours(1),
            )
        },
        Own::at("who-comes", Moment::Starts, day_before(17), Whom::Hosts, Late::UntilHours(0)),
        Own { on: false, ..Own::on("new-booking", O::Confirmed, Whom::Hosts) },
        Own::at("thanks", Moment::Ends, day_after, Whom::Came, Late::Never),
        Own::at("missed", Moment::Ends, day_after, Whom::Missed, Late::Never),
        // What a confirmation says already.
        Own { on: false, ..Own::on("card-bought", O::CardBought, Whom::Booker) },
        Own::on("card-nearly-used", O::CardNearlyUsed, Whom::Booker),
        Own::at(
            "card-expires",
            Moment::CardExpires,
            before(2, Unit::Weeks),
            Whom::Booker,
            Late::Never,
        ),
        Own {
            on: false,
            ..Own::at("your-badge", Moment::Starts, day_before(9), Whom::Attendees, Late::Never)
        },
        Own::at(
            "invitation-again",
            Moment::Asked,
            after(7, Unit::Days),
            Whom::Silent,
            Late::AtOnce,
        ),
        Own { on: false, ..Own::on("let-in", O::LetIn, Whom::Attendees) },
        Own { way: Way::Notice, on: false, ..Own::on("notice-moved", O::Moved, Whom::Attendees) },
        Own {
            way: Way::Notice,
            on: false,
            ..Own::on("notice-called-off", O::CalledOff, Whom::Attendees)
        },
    ]
}

/// Writes down what is missing of the program's own templates and cues, and words anew those
/// that nobody has changed.
pub(crate) fn install(tx: &Tx<'_>, now: Timestamp) -> Result<(), DeskError> {
    for Words(word, name, text, goes) in WORDS {
        let (subject, body) = split(text);
        templates::set_standard(tx, word, (name, subject, body), goes, now)?;
    }
    for own in own() {
        let template = templates::standard(tx, own.template)?.map_or(TemplateId(0), |t| t.id);
        let word = own.word;
        cues::save(tx, &own.cue(template, now), Some(word))?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use matricle_core::messages::template::Template;
    use matricle_formats::letter;

    /// Every wording of the program's own is read, has nothing that its readers cannot have, and
    /// no two of its cues tell anybody twice.
    #[test]
    fn what_every_house_begins_with_is_right() {
        let mut sheet: Vec<Cue> = Vec::new();
        for (n, own) in own().into_iter().enumerate() {
            let words = WORDS.iter().find(|w| w.0 == own.template).unwrap();
            let word = own.word;
            let cue = Cue {
                id: CueId(i64::try_from(n).unwrap() + 1),
                ..own.cue(TemplateId(1), Timestamp::UNIX_EPOCH)
            };
            assert_eq!(cue.check(&sheet), Ok(()), "{}", word);
            let (subject, body) = split(words.2);
            let read = Template::read(subject).unwrap_or_else(|e| panic!("{}: {e:?}", word));
            let body = letter::read_body(body).unwrap_or_else(|e| panic!("{}: {e:?}", word));
            for part in [&read, &body] {
                assert_eq!(part.not_theirs(&cue), [], "{}", word);
            }
            assert_eq!(read.block(), None);
            sheet.push(cue);
        }
        for word in Occasion::ALL
            .into_iter()
            .map(Trigger::On)
            .chain(Moment::ALL.into_iter().map(Trigger::At))
        {
            assert!(WORDS.iter().any(|w| w.0 == wording_of(word)), "{word:?}");
        }
    }

    /// Frozen: what every wording of the program's own says in person, online, and where an event
    /// is both; what is said again in the same words is not repeated.
    #[test]
    fn the_words_of_every_template_in_person_online_and_both() {
        let of = |format: &str| {
            let mut values = crate::messages::made_up();
            let gone: &[&str] = match format {
                "in person" => &["online", "join link"],
                "online" => &[
                    "in person",
                    "place",
                    "address",
                    "directions",
                    "tickets",
                    "codes",
                    "place before",
                ],
                _ => &[],
            };
            values.retain(|name, _| !gone.contains(name));
            values
        };
        let mut frozen = String::new();
        for Words(word, name, text, goes) in WORDS {
            let (subject, body) = split(text);
            let template = templates::Template {
                id: TemplateId(1),
                event: None,
                name: (*name).into(),
                subject: subject.into(),
                body: body.into(),
                plain: String::new(),
                files: goes.to_vec(),
                standard: (*word).into(),
                own_words: false,
            };
            let mut said: Vec<String> = Vec::new();
            for format in ["in person", "online", "both"] {
                let letter = crate::messages::write(&template, &of(format)).unwrap();
                let words = format!("{}\n\n{}", letter.subject, letter.text.trim());
                if !said.contains(&words) {
                    frozen.push_str(&format!("===== {name}, {format}\n{words}\n\n"));
                    said.push(words);
                }
            }
        }
        insta::assert_snapshot!("words", frozen);
    }
}
