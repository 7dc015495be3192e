//! The fields that templates may use, and who has which.

use crate::messages::cue::{Cue, Trigger, Way, Whom};
use crate::messages::occasion::{Moment, Occasion, Subject};

/// What a field is like.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shape {
    /// A line of text.
    Line,
    /// Several lines: stands on a line of its own.
    Block,
    /// A time, in several lengths.
    When,
    /// An address that leads somewhere.
    Link,
    /// It holds or not: for sections only.
    Holds,
}

/// Who has a field.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Has {
    /// Everybody.
    All,
    /// Whoever hears of an event.
    Event,
    /// Whoever hears of a date of it.
    Date,
    /// Whoever hears of a booking.
    Booking,
    /// Whoever hears of a place on a waiting list.
    Waiting,
    /// Whoever hears of these occasions.
    On(&'static [Occasion]),
    /// Hosts and people of the house, who hear of a date.
    Roster,
    /// People of the house, who hear of the day.
    Day,
    /// Whoever hears of a submission.
    Submission,
    /// Reviewers.
    Reviewer,
}

/// A field.
#[derive(Debug, PartialEq, Eq)]
pub struct Field {
    /// Its name, as it is typed.
    pub name: &'static str,
    /// What it is like.
    pub shape: Shape,
    /// What it says, for the list that it is chosen from.
    pub says: &'static str,
    has: Has,
}

const fn f(name: &'static str, shape: Shape, has: Has, says: &'static str) -> Field {
    Field { name, shape, says, has }
}

/// All fields, in the order of the list they are chosen from.
pub const FIELDS: &[Field] = {
    use Has::{All, Booking, Date, Day, Event, On, Reviewer, Roster, Submission, Waiting};
    use Occasion as O;
    use Shape::{Block, Holds, Line, Link, When};
    &[
        f("house", Line, All, "the name of the house"),
        f("our address", Line, All, "where answers go"),
        f("name", Line, All, "whom it is for"),
        f("first name", Line, All, "the first word of that name"),
        f("greeting", Line, All, "Dear, with the name; Hello, without one"),
        f("event", Line, Event, "the title"),
        f("lead", Line, Event, "the event in one sentence"),
        f("event page", Link, Event, "the event in the Programme"),
        f("when", When, Date, "start and end of the date"),
        f("before", When, On(&[O::Moved, O::Changed]), "start and end before it moved"),
        f("place before", Line, On(&[O::Moved, O::Changed]), "where it was before it moved"),
        f("dates", Block, Date, "all dates, where one booking covers several"),
        f("place", Line, Date, "venue and room"),
        f("address", Line, Date, "the venue’s address"),
        f("directions", Line, Date, "how to get there"),
        f("hosts", Line, Date, "who leads it"),
        f("bring", Line, Event, "what to bring"),
        f("note", Line, Event, "what is said after booking"),
        f("cancelling", Line, Event, "the cancellation steps"),
        f("online", Line, Booking, "how to join online; empty in person"),
        f("join link", Link, Booking, "leads to where it happens online"),
        f("in person", Holds, Booking, "takes part at the place"),
        f("course", Holds, Date, "one booking covers several dates"),
        f("reference", Line, Booking, "the booking’s letters"),
        f("link", Link, Booking, "leads to the booking, or to the one ticket"),
        f("link words", Line, Booking, "what that link opens"),
        f("booker", Line, Booking, "who booked"),
        f("tickets", Block, Booking, "codes, names and tickets"),
        f("codes", Block, Booking, "the codes as pictures"),
        f("party", Line, Booking, "how many people"),
        f("several", Holds, Booking, "more than one person"),
        f("sessions", Block, Booking, "sessions signed up for"),
        f("cards", Block, Booking, "stamp cards bought, with their letters"),
        f("stamps", Line, Booking, "stamps used, and how many are left"),
        f("lines", Block, Booking, "what was booked, and its price"),
        f("promo code", Line, Booking, "the promo code used"),
        f("total", Line, Booking, "the price of it all"),
        f("paid", Line, Booking, "what was paid; empty for nothing"),
        f("to pay", Line, Booking, "what is still to pay; empty for nothing"),
        f("pay by", When, Booking, "when the time to pay ends"),
        f("transfer", Block, Booking, "lines for a bank transfer"),
        f("receipt", Line, Booking, "the number of the receipt"),
        f("back", Line, Booking, "what goes back; empty for nothing"),
        f("kept", Line, Booking, "what of the price is kept; empty for nothing"),
        f("after a yes", Holds, Booking, "the organiser had to say yes"),
        f("keeps seats", When, Booking, "until when seats are kept while the form is open"),
        f("wanted", Line, Waiting, "the tickets somebody waits for"),
        f("place in line", Line, Waiting, "which place on the list"),
        f("line", Line, Waiting, "how many wait"),
        f("price", Line, Waiting, "what those tickets cost today"),
        f("offer until", When, Waiting, "when the offer ends"),
        f("take link", Link, Waiting, "leads to the seats on offer"),
        f("list link", Link, Waiting, "leads to the place on the list"),
        f("waits", Holds, Waiting, "still waits"),
        f("invitation link", Link, On(&[O::Invited]), "opens the event to this one address"),
        f("yes link", Link, On(&[O::Invited]), "leads to the reply yes"),
        f("maybe link", Link, On(&[O::Invited]), "leads to the reply maybe"),
        f("no link", Link, On(&[O::Invited]), "leads to the reply no"),
        f(
            "reason",
            Line,
            On(&[O::CalledOff, O::Declined, O::Cancelled, O::Twice, O::MoneyBack]),
            "why, in the organiser’s words",
        ),
        f("whole date", Holds, On(&[O::CalledOff]), "nothing of the booking is left"),
        f("called off", Line, On(&[O::CalledOff]), "the dates that were called off"),
        f("by the house", Holds, On(&[O::Cancelled]), "the house cancelled it"),
        f(
            "holder",
            Line,
            On(&[O::PassedOn, O::PassedBack, O::NotComing]),
            "who has the ticket now",
        ),
        f("came", Line, On(&[O::Came]), "who has come, when and by which door"),
        f(
            "change",
            Line,
            On(&[O::Changed, O::PassedOn, O::PassedBack, O::Moved, O::NotComing]),
            "what changed, or was said",
        ),
        f("word", Line, Booking, "words of one’s own, typed with the act"),
        f("unsubscribe", Link, On(&[O::Announced]), "ends announcements for this address"),
        f("who comes", Block, Roster, "names, tickets, answers and notes of a date"),
        f("how many", Line, Roster, "how many come to a date"),
        f("news", Block, Day, "what happened since the day before, line by line"),
        f("since", When, Day, "since when"),
        f("submission", Line, Submission, "the title of a submission"),
        f("submission state", Line, Submission, "where it stands"),
        f("submission link", Link, Submission, "leads to it, with no signing in"),
        f("copy", Block, Submission, "what was sent, field by field"),
        f("reviewer words", Block, Submission, "what the reviewer said"),
        f("corrections", Block, Submission, "what was corrected: before and after"),
        f("published at", Link, Submission, "its page in the Programme, once it has one"),
        f("same as", Line, Submission, "the title of what it was joined with"),
        f("of a change", Holds, Submission, "it is about a change to what was accepted"),
        f("waiting", Block, Reviewer, "what waits for review, with its light word"),
        f("how many wait", Line, Reviewer, "how many submissions wait"),
        f("review link", Link, Reviewer, "leads to the review page"),
    ]
};

/// Conditions that are chosen instead of typed: the field, whether it holds, and for whom the
/// words between are then.
pub const CONDITIONS: [(&str, bool, &str); 14] = [
    ("online", true, "only who join online"),
    ("online", false, "only who come to the place"),
    ("several", true, "only where more than one comes"),
    ("several", false, "only who come alone"),
    ("course", true, "only of a course"),
    ("to pay", true, "only while something is to pay"),
    ("paid", true, "only who have paid something"),
    ("after a yes", true, "only whom the organiser said yes to"),
    ("bring", true, "only where something is to be brought"),
    ("sessions", true, "only who have signed up for sessions"),
    ("waits", true, "only who still wait"),
    ("whole date", true, "only if nothing of the booking is left"),
    ("by the house", true, "only if the house cancelled it"),
    ("by the house", false, "only if they cancelled it themselves"),
];

/// How a condition opens.
#[must_use]
pub fn opening(field: &str, holds: bool) -> String {
    if holds { format!("{{{{if {field}}}}}") } else { format!("{{{{if not {field}}}}}") }
}

/// A field by its name.
#[must_use]
pub fn field(name: &str) -> Option<&'static Field> {
    FIELDS.iter().find(|f| f.name.eq_ignore_ascii_case(name))
}

/// What nobody but its reader may know, of what everybody who is told of an event has.
const NOT_PUBLIC: [&str; 4] = ["name", "first name", "greeting", "note"];

/// What an occasion knows of a whole date.
const OF_A_DATE: [&str; 3] = ["before", "place before", "reason"];

/// Whether the readers of a cue have something that a field could say.
#[must_use]
pub fn can_have(field: &Field, cue: &Cue) -> bool {
    let subject = cue.subject();
    if cue.way == Way::Notice && (NOT_PUBLIC.contains(&field.name) || field.has == Has::Roster) {
        return false;
    }
    match field.has {
        Has::All => true,
        Has::Event => !matches!(subject, Subject::Card | Subject::Submission),
        Has::Submission => {
            subject == Subject::Submission && cue.trigger != Trigger::On(Occasion::ToReview)
        }
        Has::Reviewer => cue.trigger == Trigger::On(Occasion::ToReview),
        Has::Date => {
            matches!(subject, Subject::Booking | Subject::Waiting | Subject::Date | Subject::Event)
        }
        Has::Booking => matches!(subject, Subject::Booking | Subject::Card),
        Has::Waiting => subject == Subject::Waiting,
        Has::Day => cue.trigger == Trigger::At(Moment::Day),
        Has::Roster => {
            !cue.whom.has_booked() && matches!(subject, Subject::Date | Subject::Booking)
        }
        // Whoever has not booked has no part in what became of a booking.
        Has::On(_) if subject == Subject::Date && !OF_A_DATE.contains(&field.name) => false,
        Has::On(occasions) => match cue.trigger {
            Trigger::On(occasion) => occasions.contains(&occasion),
            // Whoever has not replied is asked what the invitation asked.
            Trigger::At(_) => cue.whom == Whom::Silent && occasions.contains(&Occasion::Invited),
        },
    }
}
