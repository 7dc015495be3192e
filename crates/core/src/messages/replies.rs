//! Replies to an invitation: yes, no, maybe.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use crate::messages::cue::{Cue, Trigger, Whom};
use crate::messages::due::DateFacts;
use crate::messages::occasion::Moment;
use crate::people::who::is_within;
use crate::words::address::is_address;

crate::worded! {
    /// What somebody who was invited says.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
    pub enum Reply {
        /// They are coming.
        Yes = "yes",
        /// They do not know yet.
        Maybe = "maybe",
        /// They are not coming.
        No = "no",
    }
}

/// When a cue asks somebody once again who was invited at an instant and has not replied; nothing
/// where it does not. `date` is the next one that can be booked.
///
/// Nobody is asked again within a day of being invited, nor once the date has begun, nor by a cue
/// that was added after the invitation, unless it is also for those who were invited before.
#[must_use]
pub fn again_at(cue: &Cue, date: &DateFacts, invited_at: Timestamp) -> Option<Timestamp> {
    let Trigger::At(moment) = cue.trigger else { return None };
    let wanted = cue.only.tag.is_none_or(|tag| date.tags.contains(&tag));
    if cue.whom != Whom::Silent || !cue.on || !date.takes_place || !wanted {
        return None;
    }
    if invited_at < cue.added_at && !cue.already {
        return None;
    }
    let wall = |at| date.zone.to_datetime(at);
    let from = match moment {
        Moment::Asked => wall(invited_at),
        Moment::Starts => date.starts,
        Moment::SaleCloses => wall(date.sale_closes?),
        _ => return None,
    };
    let minute = cue.when.from(from, &date.zone)?;
    let starts = date.zone.to_timestamp(date.starts).ok()?;
    (minute >= invited_at + SignedDuration::from_hours(24) && minute < starts).then_some(minute)
}

/// Until when a *maybe* keeps a seat: the end of the day so many days before the date, on its own
/// wall clock; nothing where that is over.
#[must_use]
pub fn kept_until(date: &DateFacts, days: u32, now: Timestamp) -> Option<Timestamp> {
    let span = jiff::Span::new().try_days(i64::from(days) - 1).ok()?;
    let end = date.starts.date().checked_sub(span).ok()?;
    let starts = date.zone.to_timestamp(date.starts).ok()?;
    let until = date.zone.to_timestamp(end.to_datetime(jiff::civil::Time::midnight())).ok()?;
    let until = until.min(starts);
    (until > now).then_some(until)
}

/// How people are invited to an event.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Inviting {
    /// Whoever is invited may hand the invitation on to somebody else.
    pub hand_on: bool,
    /// A *maybe* keeps a seat until the end of the day so many days before the date; without, it
    /// keeps none.
    pub maybe_days: Option<u32>,
    /// Only addresses in these domains, or below one, are invited; empty for all.
    pub domains: Vec<String>,
}

impl Inviting {
    /// Whether an address may be invited: any, where no domains are named.
    #[must_use]
    pub fn admits(&self, address: &str) -> bool {
        self.domains.is_empty() || is_within(address, &self.domains)
    }
}

/// Most times that one invitation goes from one to another.
pub const MOST_HANDED: u32 = 3;

/// What is known when somebody hands their invitation on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HandingOn<'a> {
    /// How people are invited to the event.
    pub inviting: &'a Inviting,
    /// They are on the list of the event: one for a single ticket is its reader's alone.
    pub listed: bool,
    /// They have booked.
    pub booked: bool,
    /// How often the invitation was handed on before.
    pub handed: u32,
    /// To whom.
    pub to: &'a str,
    /// That one is invited already.
    pub invited: bool,
}

/// Why an invitation is not handed on.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum HandOnRefusal {
    /// It is that person's alone.
    #[error("it is for this person alone")]
    TheirsAlone,
    /// They have booked: what they have is a ticket now.
    #[error("they have booked")]
    Booked,
    /// Too many had it.
    #[error("handed on too often")]
    TooOften,
    /// No address that mail can be sent to.
    #[error("not an address")]
    NotAnAddress,
    /// That one is invited already.
    #[error("invited already")]
    Invited,
    /// An address in none of the domains.
    #[error("not in {domains:?}")]
    OtherDomain {
        /// The domains allowed.
        domains: Vec<String>,
    },
}

/// Lets an invitation be handed on, or says why not.
///
/// # Errors
/// [`HandOnRefusal`].
pub fn hand_on(facts: &HandingOn<'_>) -> Result<(), HandOnRefusal> {
    if !facts.inviting.hand_on || !facts.listed {
        return Err(HandOnRefusal::TheirsAlone);
    }
    if facts.booked {
        return Err(HandOnRefusal::Booked);
    }
    if facts.handed >= MOST_HANDED {
        return Err(HandOnRefusal::TooOften);
    }
    if !is_address(facts.to) {
        return Err(HandOnRefusal::NotAnAddress);
    }
    if facts.invited {
        return Err(HandOnRefusal::Invited);
    }
    if !facts.inviting.admits(facts.to) {
        return Err(HandOnRefusal::OtherDomain { domains: facts.inviting.domains.clone() });
    }
    Ok(())
}

/// What booking an event asks of somebody who was invited.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Asks {
    /// Dates that can be chosen; one for a course.
    pub dates: usize,
    /// Ticket types that can be chosen.
    pub tickets: usize,
    /// What the first of them costs, in minor units.
    pub minor: i64,
    /// Something has to be answered.
    pub answers: bool,
    /// The organiser has to say yes.
    pub after_yes: bool,
}

/// Whether a yes books at once: nothing is to be chosen, asked or paid, and nobody has to say yes.
#[must_use]
pub const fn books_at_once(asks: Asks) -> bool {
    asks.dates == 1 && asks.tickets == 1 && asks.minor == 0 && !asks.answers && !asks.after_yes
}

/// A reply as it stands: the latest of whoever was invited.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Replied {
    /// What they say.
    pub reply: Reply,
    /// A word with it; may be empty.
    pub word: String,
    /// When.
    pub at: Timestamp,
}

/// Where somebody who was invited stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stands {
    /// They said so.
    Said(Reply),
    /// They have said nothing, but have booked.
    Booked,
    /// They have handed their invitation on.
    HandedOn,
    /// Their address takes no mail.
    Bounced,
    /// They have said nothing.
    None,
    /// No invitation has gone to them yet.
    NotAsked,
}

/// What is known of somebody who was invited.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct ReplyFacts {
    /// What they said.
    pub said: Option<Reply>,
    /// They have booked.
    pub booked: bool,
    /// They have handed the invitation on.
    pub handed_on: bool,
    /// Their address takes no mail.
    pub bounced: bool,
    /// They have been invited.
    pub asked: bool,
}

impl Stands {
    /// Where somebody stands: what they said comes before what they did, and that before what
    /// became of the mail.
    #[must_use]
    pub fn of(facts: &ReplyFacts) -> Self {
        let ReplyFacts { said, booked, handed_on, bounced, asked } = *facts;
        match said {
            _ if handed_on => Self::HandedOn,
            Some(reply) => Self::Said(reply),
            None if booked => Self::Booked,
            None if bounced => Self::Bounced,
            None if asked => Self::None,
            None => Self::NotAsked,
        }
    }

    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Said(reply) => reply.word(),
            Self::Booked => "booked",
            Self::HandedOn => "handed on",
            Self::Bounced => "bounced",
            Self::None => "none",
            Self::NotAsked => "not asked",
        }
    }

    /// All of them, in the order of the strip.
    pub const ALL: [Self; 8] = [
        Self::Said(Reply::Yes),
        Self::Booked,
        Self::Said(Reply::Maybe),
        Self::Said(Reply::No),
        Self::HandedOn,
        Self::None,
        Self::Bounced,
        Self::NotAsked,
    ];

    /// Whether they may be asked once more, having been `asked` so often: once, and only who has
    /// neither replied nor booked, where mail arrives.
    #[must_use]
    pub const fn may_be_asked_again(self, asked: u32) -> bool {
        matches!(self, Self::None) && asked == 1
    }
}

/// How many stand where, in the order of [`Stands::ALL`].
#[must_use]
pub fn counts(all: impl IntoIterator<Item = Stands>) -> [u32; 8] {
    let mut counts = [0; 8];
    for stands in all {
        if let Some(at) = Stands::ALL.iter().position(|s| *s == stands) {
            counts[at] += 1;
        }
    }
    counts
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ids::DateId;
    use crate::messages::cue::{Side, Unit, Way, When};
    use jiff::civil::{datetime, time};
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    fn date() -> DateFacts {
        DateFacts {
            id: DateId(1),
            starts: datetime(2027, 3, 29, 19, 0, 0, 0),
            ends: datetime(2027, 3, 29, 21, 0, 0, 0),
            zone: TimeZone::get("Europe/Vienna").unwrap(),
            takes_place: true,
            moved_at: None,
            sale_opens: None,
            sale_closes: None,
            tags: Vec::new(),
        }
    }

    fn cue(moment: Moment, when: When) -> Cue {
        let trigger = Trigger::At(moment);
        Cue { trigger, when, whom: Whom::Silent, ..crate::messages::cue::tests::cue(1) }
    }

    #[test]
    fn whoever_is_silent_is_asked_again_after_some_days_or_before_the_date() {
        let asked: Timestamp = "2027-03-20T08:00:00Z".parse().unwrap();
        let after = When::Offset { n: 7, unit: Unit::Days, side: Side::After };
        let before = When::Clock { days: 3, side: Side::Before, at: time(9, 0, 0, 0) };
        let at = |cue: &Cue, asked| again_at(cue, &date(), asked).map(|at| at.to_string());
        let week = cue(Moment::Asked, after);
        assert_eq!(week.check(&[]), Ok(()));
        assert_eq!(at(&week, asked).as_deref(), Some("2027-03-27T08:00:00Z"));
        let three = cue(Moment::Starts, before);
        assert_eq!(three.check(&[]), Ok(()));
        assert_eq!(at(&three, asked).as_deref(), Some("2027-03-26T08:00:00Z"));
        // Invited the evening before; invited so late that the week ends after it began.
        assert_eq!(at(&three, "2027-03-25T19:00:00Z".parse().unwrap()), None);
        assert_eq!(at(&week, "2027-03-28T08:00:00Z".parse().unwrap()), None);
        // A cue of later asks nobody of before, unless it is told to.
        let later = Cue { added_at: asked + SignedDuration::from_hours(1), ..week.clone() };
        assert_eq!(at(&later, asked), None);
        assert!(at(&Cue { already: true, ..later }, asked).is_some());
        for wrong in [
            cue(Moment::Asked, before),
            cue(Moment::Starts, after),
            cue(Moment::Ends, before),
            Cue { way: Way::Chat, ..week.clone() },
            Cue { whom: Whom::Booker, ..week },
        ] {
            assert!(wrong.check(&[]).is_err(), "{wrong:?}");
        }
    }

    #[test]
    fn a_yes_books_only_where_nothing_is_left_to_ask() {
        let asks = Asks { dates: 1, tickets: 1, minor: 0, answers: false, after_yes: false };
        assert!(books_at_once(asks));
        for more in [
            Asks { dates: 0, ..asks },
            Asks { dates: 2, ..asks },
            Asks { tickets: 0, ..asks },
            Asks { tickets: 2, ..asks },
            Asks { minor: 1, ..asks },
            Asks { answers: true, ..asks },
            Asks { after_yes: true, ..asks },
        ] {
            assert!(!books_at_once(more), "{more:?}");
        }
    }

    proptest! {
        /// A seat is kept to the end of a day on the wall clock, and never beyond the date.
        #[test]
        fn a_maybe_keeps_a_seat_until_the_end_of_a_day(days in 0u32..400) {
            let date = date();
            let until = kept_until(&date, days, Timestamp::UNIX_EPOCH).unwrap();
            let wall = date.zone.to_datetime(until);
            if days == 0 {
                prop_assert_eq!(wall, date.starts);
            } else {
                prop_assert_eq!(wall.time(), jiff::civil::Time::midnight());
                let since = wall.date().until(date.starts.date()).unwrap().get_days();
                prop_assert_eq!(since, i32::try_from(days).unwrap() - 1);
            }
            prop_assert_eq!(kept_until(&date, days, until), None, "over");
        }
    }

    proptest! {
        /// Whoever has replied is never asked again; everybody is counted once.
        #[test]
        fn nobody_is_asked_again_who_has_replied(
            people in prop::collection::vec((0usize..4, any::<(bool, bool, bool)>()), 0..40),
        ) {
            let all: Vec<Stands> = people.iter().map(|(said, (booked, bounced, asked))| {
                Stands::of(&ReplyFacts {
                    said: Reply::ALL.get(*said).copied(),
                    booked: *booked,
                    handed_on: false,
                    bounced: *bounced,
                    asked: *asked,
                })
            }).collect();
            for (stands, (said, (booked, bounced, asked))) in all.iter().zip(&people) {
                prop_assert!(!stands.may_be_asked_again(2), "never a third time");
                prop_assert_eq!(
                    stands.may_be_asked_again(1),
                    *said == 3 && !booked && !bounced && *asked,
                );
            }
            let counted: u32 = counts(all).iter().sum();
            prop_assert_eq!(counted as usize, people.len());
        }
    }

    #[test]
    fn words_lead_back() {
        for reply in Reply::ALL {
            assert_eq!(Reply::from_word(reply.word()), Some(reply));
        }
        assert_eq!(Reply::from_word("perhaps"), None);
    }
}
