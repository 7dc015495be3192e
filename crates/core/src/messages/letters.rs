//! Letters: mails that came in. Where one belongs, what in it is new, what must not leave the
//! house with it.

pub mod private;

use jiff::{SignedDuration, Timestamp};

use crate::words::codes::Reference;
use crate::{BookingId, EventId};

crate::worded! {
    /// What a letter is.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
    pub enum Kind {
        /// Somebody wrote it.
        Letter = "letter",
        /// Whoever stands behind a reply address answers what was forwarded to them.
        Answer = "answer",
        /// A machine wrote it by itself (RFC 3834): it is never answered, nor forwarded.
        Automatic = "automatic answer",
        /// A mail server says that a mail did not arrive (RFC 3464).
        Bounce = "bounce",
        /// A calendar says what its owner does with an invitation (RFC 5546 §3.2.3).
        Calendar = "from a calendar",
        /// Nothing could be made of it.
        Unreadable = "unreadable",
    }
}

impl Kind {
    /// Whether a person wrote it, for a person to read.
    #[must_use]
    pub const fn is_from_somebody(self) -> bool {
        matches!(self, Self::Letter | Self::Answer)
    }
}

crate::worded! {
    /// What the owner of a calendar does with an invitation (RFC 5545 §3.2.12).
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum Said {
        /// They come.
        Accepted = "accepted",
        /// Perhaps they come.
        Tentative = "tentative",
        /// They do not come.
        Declined = "declined",
        /// They send somebody else.
        Delegated = "delegated",
    }
}

impl Said {
    /// Reads what a calendar wrote; other values say nothing of whether somebody comes.
    #[must_use]
    pub fn from_partstat(value: &str) -> Option<Self> {
        // The words are those of the standard.
        Self::from_word(&value.to_ascii_lowercase())
    }
}

/// Whether a letter waits for an answer, or for a decision on what it proposes, once it has found
/// its place: in the tray it waits for that first.
#[must_use]
pub fn is_to_answer(kind: Kind, place: Place, proposes: bool) -> bool {
    place != Place::Tray && (kind == Kind::Letter || proposes)
}

/// Where a letter belongs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// To a booking.
    Booking(BookingId),
    /// To an event.
    Event(EventId),
    /// To whoever wrote it: they are known, and it is about nothing in particular.
    Person,
    /// To nothing that is known: it waits in the tray.
    Tray,
}

crate::worded! {
    /// How a letter found its place.
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum Found {
        /// It answers a message of ours, or another letter.
        ByThread = "thread",
        /// It names a booking.
        ByReference = "reference",
        /// Whoever wrote it has booked.
        BySender = "sender",
        /// It was written to the reply address of one event.
        ByAddress = "address",
        /// Somebody put it there.
        ByHand = "hand",
        /// It did not.
        Not = "not",}
}

impl Found {
    /// How, in words for the Office.
    #[must_use]
    pub const fn says(self) -> &'static str {
        match self {
            Self::ByThread => "it answers a message of ours",
            Self::ByReference => "it names the booking",
            Self::BySender => "whoever wrote it has booked",
            Self::ByAddress => "it was written to the event’s reply address",
            Self::ByHand => "put there by hand",
            Self::Not => "nothing in it was known",
        }
    }
}

/// A booking of whoever wrote a letter.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Theirs {
    /// Which.
    pub booking: BookingId,
    /// When what they booked ends.
    pub ends_at: Timestamp,
}

/// What is known of a letter before it has a place.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LetterFacts {
    /// Where the message or letter belongs that it answers.
    pub thread: Option<Place>,
    /// The booking that its subject names.
    pub named: Option<BookingId>,
    /// The bookings of its writer that stand.
    pub theirs: Vec<Theirs>,
    /// The events whose reply address it was written to.
    pub events: Vec<EventId>,
    /// Whether its writer is known at all.
    pub known: bool,
}

/// Finds the place of a letter. In this order: what it answers, the booking it names, the one
/// booking of its writer that is still to come (or the latest, where none is), the one event of
/// the address it was written to, its writer. Of several bookings to come none is guessed.
#[must_use]
pub fn place(facts: &LetterFacts, now: Timestamp) -> (Place, Found) {
    if let Some(place) = facts.thread {
        return (place, Found::ByThread);
    }
    if let Some(booking) = facts.named {
        return (Place::Booking(booking), Found::ByReference);
    }
    let mut to_come = facts.theirs.iter().filter(|t| t.ends_at > now);
    match (to_come.next(), to_come.next()) {
        (Some(one), None) => return (Place::Booking(one.booking), Found::BySender),
        (None, _) => {
            if let Some(latest) = facts.theirs.iter().max_by_key(|t| t.ends_at) {
                return (Place::Booking(latest.booking), Found::BySender);
            }
        }
        (Some(_), Some(_)) => {}
    }
    if let [event] = facts.events[..] {
        return (Place::Event(event), Found::ByAddress);
    }
    if facts.known { (Place::Person, Found::BySender) } else { (Place::Tray, Found::Not) }
}

/// Most letters of one writer that are forwarded within an hour: more are no conversation, but a
/// loop of two machines, neither of which says that it is one (RFC 3834 §2).
pub const MOST_AN_HOUR: u32 = 12;

/// Most letters that are forwarded to whoever stands behind a reply address within an hour, whoever
/// writes them: names of senders are typed by anybody. The rest waits at the Office.
pub const MOST_FORWARDED: u32 = 24;

/// Whether one more letter is forwarded, whose writer wrote so many within the hour before, to
/// somebody to whom so many were forwarded within it.
#[must_use]
pub const fn is_forwarded(kind: Kind, of_writer: u32, to_them: u32) -> bool {
    matches!(kind, Kind::Letter) && of_writer < MOST_AN_HOUR && to_them < MOST_FORWARDED
}

/// Whether a calendar is believed in what it says: the mail has to come from the very address whose
/// entry it answers. What stands in a file is anybody's to type.
#[must_use]
pub fn is_believed(attendee: &str, from: &str) -> bool {
    attendee.trim().eq_ignore_ascii_case(from.trim())
}

/// So long nobody is told once more that a calendar says they do not come.
pub const TOLD_AGAIN: SignedDuration = SignedDuration::from_hours(24);

/// How long an hour is.
pub const AN_HOUR: SignedDuration = SignedDuration::from_hours(1);

/// The first booking reference in a text, as people write one: four letters, a dash, four
/// letters, with a check letter that fits.
#[must_use]
pub fn reference_in(text: &str) -> Option<Reference> {
    text.split(|c: char| !(c.is_ascii_alphanumeric() || c == '-'))
        .filter(|word| word.len() == 9 && word.as_bytes().get(4) == Some(&b'-'))
        .find_map(Reference::parse)
}

/// What is new in a letter: its words without what it quotes at its end, nor a signature below
/// two dashes (RFC 3676 §4.3). Where that leaves nothing, all of it. Takes time by the length of
/// the text, whatever stands in it.
#[must_use]
pub fn own_words(text: &str) -> &str {
    // Words below a quotation are an answer to it; a quotation with nothing below is not. The
    // last line that somebody wrote tells which is which.
    let mut begins = 0;
    let mut last_written = 0;
    for line in text.split_inclusive('\n') {
        let words = line.trim();
        begins += line.len();
        if !words.is_empty() && !words.starts_with('>') {
            last_written = begins;
        }
    }
    let mut kept = 0;
    let mut begins = 0;
    let mut last_line: Option<(usize, &str)> = None;
    for line in text.split_inclusive('\n') {
        let bare = line.trim_end();
        let quotes = bare.starts_with('>');
        let parts = bare == "--" || line.trim_end_matches(['\r', '\n']) == "-- ";
        let rule = {
            let t = bare.trim();
            t.len() >= 10 && t.chars().all(|c| c == '_' || c == '-')
                || t.len() > 10 && t.starts_with("-----") && t.ends_with("-----")
        };
        if parts || rule {
            break;
        }
        if quotes {
            // The line that leads to what is quoted: “On … somebody wrote:”, in any language.
            if let Some((at, led)) = last_line
                && led.trim_end().ends_with(':')
                && kept > at
            {
                kept = at;
            }
            if begins >= last_written {
                break;
            }
        }
        begins += line.len();
        if !bare.is_empty() {
            kept = begins;
            if !quotes {
                last_line = Some((begins - line.len(), bare));
            }
        }
    }
    let own = text[..kept].trim();
    if own.is_empty() { text.trim() } else { own }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(hours: i64) -> Timestamp {
        Timestamp::UNIX_EPOCH + SignedDuration::from_hours(hours)
    }

    #[test]
    fn a_letter_finds_its_place_in_order_and_nothing_is_guessed() {
        let now = at(100);
        let theirs = |id, hours| Theirs { booking: BookingId(id), ends_at: at(hours) };
        let mut facts = LetterFacts::default();
        assert_eq!(place(&facts, now), (Place::Tray, Found::Not));
        facts.known = true;
        assert_eq!(place(&facts, now), (Place::Person, Found::BySender));
        facts.events = vec![EventId(4), EventId(5)];
        assert_eq!(place(&facts, now), (Place::Person, Found::BySender), "two events: neither");
        facts.events.pop();
        assert_eq!(place(&facts, now), (Place::Event(EventId(4)), Found::ByAddress));
        facts.theirs = vec![theirs(1, 20), theirs(2, 50)];
        assert_eq!(place(&facts, now), (Place::Booking(BookingId(2)), Found::BySender));
        facts.theirs.push(theirs(7, 100));
        assert_eq!(place(&facts, now).0, Place::Booking(BookingId(7)), "the latest that is over");
        facts.theirs.extend([theirs(8, 101), theirs(9, 100)]);
        assert_eq!(
            place(&facts, now).0,
            Place::Booking(BookingId(8)),
            "one that ends this instant is over"
        );
        facts.theirs.truncate(2);
        facts.theirs.push(theirs(3, 120));
        assert_eq!(place(&facts, now), (Place::Booking(BookingId(3)), Found::BySender));
        facts.theirs.push(theirs(6, 130));
        assert_eq!(place(&facts, now), (Place::Event(EventId(4)), Found::ByAddress), "two to come");
        facts.named = Some(BookingId(9));
        assert_eq!(place(&facts, now).0, Place::Booking(BookingId(9)));
        facts.thread = Some(Place::Event(EventId(8)));
        assert_eq!(place(&facts, now), (Place::Event(EventId(8)), Found::ByThread));
    }

    #[test]
    fn the_thirteenth_letter_of_an_hour_stays_and_so_does_a_machines_first() {
        assert!(is_forwarded(Kind::Letter, 11, 23), "the twelfth of its writer, the last of all");
        assert!(!is_forwarded(Kind::Letter, 12, 0), "the thirteenth");
        assert!(!is_forwarded(Kind::Letter, 0, 24), "the twenty-fifth to them");
        assert!(Kind::ALL.into_iter().all(|k| is_forwarded(k, 0, 0) == (k == Kind::Letter)));
    }

    #[test]
    fn what_is_new_stands_without_what_it_quotes() {
        let cases = [
            ("Thank you!\n\nOn Friday, the office wrote:\n> See you\n> there\n", "Thank you!"),
            ("Danke\r\n\r\nAm Freitag schrieb das Büro:\r\n> Bis dann\r\n", "Danke"),
            ("Yes\n-- \nSiân\nVale Road 4", "Yes"),
            ("Yes\n\n-----Original Message-----\nFrom: x@y.example", "Yes"),
            ("> May I come?\nYes\n> And my son?\nNo", "> May I come?\nYes\n> And my son?\nNo"),
            ("> all of it\n> is quoted", "> all of it\n> is quoted"),
            ("", ""),
        ];
        for (whole, own) in cases {
            assert_eq!(own_words(whole), own, "{whole:?}");
        }
        // As long as a mail may be: work that grew with its square would not end.
        let quoted = "> x\n".repeat(300_000);
        assert_eq!(own_words(&format!("{quoted}yes")), format!("{quoted}yes"));
        assert_eq!(own_words(&format!("yes\n{quoted}")), "yes");
    }

    #[test]
    fn a_booking_is_named_as_people_write_it() {
        let reference = Reference::from_random(77);
        let written = reference.to_string();
        assert_eq!(reference_in(&format!("Re: Your seats ({written})!")), Some(reference));
        assert_eq!(reference_in(&format!("re {}", written.to_lowercase())), Some(reference));
        assert_eq!(reference_in(&written.replace('-', " ")), None);
        assert_eq!(reference_in("well-made half-past"), None);
    }

    proptest! {
        /// Whatever is cut, what is left stood there, and something is left of something.
        #[test]
        fn own_words_are_words_of_the_letter(text in "(\\PC|[>\r\n:-]){0,120}") {
            let own = own_words(&text);
            prop_assert!(text.contains(own));
            prop_assert_eq!(own.is_empty(), text.trim().is_empty());
        }
    }
}
