//! Occasions, of which people may be told, and moments, which cues count from.

use jiff::civil::DateTime;
use serde::{Deserialize, Serialize};

use crate::state::State;

crate::worded! {
    /// Something that happened to a booking, a person or a date, of which people may be told.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
    pub enum Occasion {
        /// A booking was begun and left, with an address typed.
        Left = "left half-way",
        /// Somebody asked for the way back to a booking that is not complete.
        WayBack = "link",
        /// A booking waits for the organiser's yes.
        Asked = "asked",
        /// Seats are kept, and money is due.
        ToPay = "approval",
        /// A booking is confirmed.
        Confirmed = "confirmation",
        /// Something about a booking changed: people, tickets, date.
        Changed = "change",
        /// A booking was cancelled.
        Cancelled = "cancellation",
        /// The organiser said no.
        Declined = "refusal",
        /// The time to fill in or to pay passed, and the seats are free again.
        Lapsed = "lapsed",
        /// A ticket was passed to somebody else.
        PassedOn = "ticket passed on",
        /// A ticket that was passed on does not stand any more.
        PassedBack = "ticket taken back",
        /// The address has booked the date before.
        Twice = "second booking",
        /// Somebody joined a waiting list.
        Joined = "place on the waiting list",
        /// Seats are on offer to somebody who waits.
        Offered = "offer",
        /// Somebody who waits was passed over, because their party does not fit.
        PassedOver = "passed over",
        /// Everybody who waits is told that seats are free.
        SeatsFree = "seats free",
        /// A date moved to another time or place.
        Moved = "moved",
        /// A date was called off.
        CalledOff = "called off",
        /// Money went back.
        MoneyBack = "money back",
        /// Somebody was let in.
        LetIn = "let in",
        /// Somebody was let in of whom somebody of the house asked to hear.
        Came = "has come",
        /// The badge of somebody is made, to be printed before they come.
        Badge = "badge",
        /// Somebody’s calendar said that they do not come to what they booked.
        NotComing = "not coming",
        /// Stamp cards were bought.
        CardBought = "stamp card bought",
        /// A stamp card is nearly used up.
        CardNearlyUsed = "stamp card nearly used up",
        /// Somebody on a list of people invited is told of the event.
        Invited = "invitation",
        /// Words to chosen people.
        Announced = "announcement",
        /// A submission arrived: its submitter hears what was sent.
        Submitted = "submission received",
        /// A submission goes back to its submitter.
        SentBack = "submission sent back",
        /// A submission became an event.
        Accepted = "submission accepted",
        /// A submission will not be an event.
        TurnedDown = "submission turned down",
        /// Something waits for a reviewer.
        ToReview = "to review",
    }
}

/// What an occasion or moment is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Subject {
    /// A booking.
    Booking,
    /// A place on a waiting list.
    Waiting,
    /// A date.
    Date,
    /// An event, for somebody who has not booked.
    Event,
    /// A stamp card.
    Card,
    /// A submission.
    Submission,
}

impl Occasion {
    /// What it is about.
    #[must_use]
    pub const fn subject(self) -> Subject {
        match self {
            Self::Joined | Self::Offered | Self::PassedOver | Self::SeatsFree => Subject::Waiting,
            Self::Invited => Subject::Event,
            Self::Submitted
            | Self::SentBack
            | Self::Accepted
            | Self::TurnedDown
            | Self::ToReview => Subject::Submission,
            Self::CardBought | Self::CardNearlyUsed => Subject::Card,
            Self::Left
            | Self::WayBack
            | Self::Asked
            | Self::ToPay
            | Self::Confirmed
            | Self::Changed
            | Self::Cancelled
            | Self::Declined
            | Self::Lapsed
            | Self::PassedOn
            | Self::PassedBack
            | Self::Twice
            | Self::Moved
            | Self::CalledOff
            | Self::MoneyBack
            | Self::LetIn
            | Self::Came
            | Self::Badge
            | Self::NotComing
            | Self::Announced => Subject::Booking,
        }
    }

    /// Whether it is still true of a booking in this state: what is not is not sent any more.
    #[must_use]
    pub const fn holds(self, state: State) -> bool {
        use State::{AwaitingPayment, Cancelled, Confirmed, Declined, Held, Lapsed, Requested};
        match self {
            Self::Left | Self::WayBack => matches!(state, Held | AwaitingPayment | Lapsed),
            Self::Asked => matches!(state, Requested),
            Self::ToPay => matches!(state, AwaitingPayment),
            Self::Confirmed | Self::LetIn | Self::Came | Self::Badge => matches!(state, Confirmed),
            Self::Changed | Self::Moved | Self::PassedOn | Self::NotComing => {
                matches!(state, Requested | AwaitingPayment | Confirmed)
            }
            Self::Cancelled => matches!(state, Cancelled),
            Self::Declined => matches!(state, Declined),
            Self::Lapsed => matches!(state, Lapsed),
            Self::Twice
            | Self::PassedBack
            | Self::CalledOff
            | Self::MoneyBack
            | Self::Joined
            | Self::Offered
            | Self::PassedOver
            | Self::SeatsFree
            | Self::CardBought
            | Self::CardNearlyUsed
            | Self::Invited
            | Self::Announced
            | Self::Submitted
            | Self::SentBack
            | Self::Accepted
            | Self::TurnedDown
            | Self::ToReview => true,
        }
    }

    /// Whether it is told once only for a booking; all others happen again and again.
    #[must_use]
    pub const fn is_once(self) -> bool {
        matches!(self, Self::Left | Self::LetIn | Self::Twice)
    }

    /// Whether it happens to a whole date: those who have not booked it hear of it once, not once
    /// for each booking.
    #[must_use]
    pub const fn is_of_date(self) -> bool {
        matches!(self, Self::Moved | Self::CalledOff)
    }

    /// Whether it happens to one ticket: of a booking's attendees only whoever holds it is told, and
    /// the booker is somebody else.
    #[must_use]
    pub const fn is_of_ticket(self) -> bool {
        matches!(self, Self::PassedOn | Self::PassedBack)
    }

    /// Whether a booker without an address is rung up about it.
    #[must_use]
    pub const fn is_rung(self) -> bool {
        matches!(self, Self::Moved | Self::CalledOff)
    }
}

/// What an occasion knows beside the booking, place or event that it is about.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Knows {
    /// The date it is about, where a booking covers several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub date: Option<crate::DateId>,
    /// Start and end before it moved.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<(DateTime, DateTime)>,
    /// Where it was before it moved.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub place_before: String,
    /// Why, in the organiser's words.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub reason: String,
    /// What changed, in words.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub change: String,
    /// Words of one's own, typed with the act.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub word: String,
    /// What goes back, in minor units.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub back: Option<i64>,
    /// What is kept of the price, in minor units.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kept: Option<i64>,
    /// The house did it, not the booker.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub by_house: bool,
    /// Nothing of the booking is left.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub whole: bool,
    /// Which person of the booking it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub person: Option<usize>,
    /// What somebody of the house asked to hear of …
    #[serde(skip_serializing_if = "String::is_empty")]
    pub wish: String,
    /// … and since when they have not heard of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub since: Option<jiff::Timestamp>,
    /// The ticket was theirs before: they hear of it, and nobody else does.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub again: bool,
    /// Who has the ticket now, or had it.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub holder: String,
    /// Who has come, when and by which door, in words.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub came: String,
    /// How badges are drawn, as the papers of a date keep it.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub paper: String,
    /// The event that a submission was joined with.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub event: Option<i64>,
    /// What was corrected: each field, before and after.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub corrected: Vec<(String, String, String)>,
}

impl Knows {
    /// What there is to say on the telephone.
    #[must_use]
    pub fn said(&self) -> String {
        let before = self.before.map_or_else(String::new, |(starts, _)| {
            format!("Before: {}, {}", starts.strftime("%A %-d %B %Y, %H:%M"), self.place_before)
        });
        [before, self.change.clone(), self.reason.clone(), self.word.clone()]
            .into_iter()
            .filter(|part| !part.is_empty())
            .collect::<Vec<_>>()
            .join("\n\n")
    }
}

crate::worded! {
    /// A time that cues count from.
    #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
    pub enum Moment {
        /// The date starts.
        Starts = "the date starts",
        /// The date ends.
        Ends = "the date ends",
        /// The first of its tickets goes on sale.
        SaleOpens = "a sale opens",
        /// The last of its tickets goes off sale.
        SaleCloses = "a sale closes",
        /// The time to pay of a booking ends.
        PayBy = "the time to pay ends",
        /// The time of an offer to somebody who waits ends.
        OfferEnds = "an offer ends",
        /// A stamp card expires.
        CardExpires = "a stamp card expires",
        /// Somebody was invited.
        Asked = "an invitation goes out",
        /// The hour at which somebody of the house wants to hear of the day.
        Day = "once a day",
    }
}
