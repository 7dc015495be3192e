//! Whom an announcement is for.

use serde::{Deserialize, Serialize};

use crate::messages::due::{Person, Seen};
use crate::{DateId, TicketTypeId};

/// Who is asked for. Each reader is held against it twice: when it is written, and when their
/// message goes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Chosen {
    /// Of these dates; empty for none.
    pub dates: Vec<DateId>,
    /// With these tickets; empty for all.
    pub tickets: Vec<TicketTypeId>,
    /// Those who have booked and are confirmed.
    pub confirmed: bool,
    /// Those who have asked and wait for a yes.
    pub asked: bool,
    /// Those who have something to pay, confirmed or not.
    pub to_pay: bool,
    /// Those who wait for a seat.
    pub waiting: bool,
    /// Those who were invited to the event and have not replied.
    pub silent: bool,
    /// Only who came, or only who missed it, of those who have booked.
    pub seen: Option<Seen>,
    /// Who gave this answer to any question; empty for all.
    pub answer: String,
}

impl Chosen {
    /// Whether anybody who has booked is asked for.
    #[must_use]
    pub const fn is_of_bookings(&self) -> bool {
        self.confirmed || self.asked || self.to_pay
    }

    /// Whether somebody of a booking is asked for, by what is known of them now; the answers that
    /// were given are `answers`.
    #[must_use]
    pub fn takes<'a>(&self, who: &Person, answers: impl IntoIterator<Item = &'a str>) -> bool {
        let has_asked = !who.confirmed && who.paying.is_none();
        let state = who.stands
            && ((self.confirmed && who.confirmed)
                || (self.asked && has_asked)
                || (self.to_pay && who.owes));
        let ticket =
            self.tickets.is_empty() || who.tickets.iter().any(|t| self.tickets.contains(t));
        let wanted = self.answer.trim().to_lowercase();
        state
            && ticket
            && self.seen.is_none_or(|seen| seen == who.seen)
            && (wanted.is_empty()
                || answers.into_iter().any(|given| given.to_lowercase().contains(&wanted)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::BookingId;
    use crate::messages::cue::Paying;
    use crate::messages::due::Reader;
    use jiff::Timestamp;

    #[test]
    fn who_has_asked_and_who_has_to_pay_are_two() {
        let person = |confirmed, paying, owes| Person {
            confirmed,
            paying,
            owes,
            ..Person::new(Reader::Booker(BookingId(1)), "a@b.example", Timestamp::UNIX_EPOCH)
        };
        let asked = person(false, None, false);
        let pays = person(false, Some(Paying::Card), true);
        let owes = person(true, None, true);
        let paid = person(true, None, false);
        let gone = Person { stands: false, ..owes.clone() };
        let takes = |chosen: &Chosen| {
            [&asked, &pays, &owes, &paid, &gone].map(|who| chosen.takes(who, ["Vegan, please"]))
        };
        let only = Chosen::default();
        assert_eq!(takes(&only), [false; 5]);
        let of = Chosen { asked: true, ..only.clone() };
        assert_eq!(takes(&of), [true, false, false, false, false]);
        let of = Chosen { to_pay: true, ..only.clone() };
        assert_eq!(takes(&of), [false, true, true, false, false]);
        let of = Chosen { confirmed: true, ..only.clone() };
        assert_eq!(takes(&of), [false, false, true, true, false]);
        let vegan = Chosen { answer: " vegan".into(), ..of.clone() };
        assert_eq!(takes(&vegan), takes(&of));
        let other = Chosen { answer: "nuts".into(), ..of.clone() };
        assert_eq!(takes(&other), [false; 5]);
        let tickets = Chosen { tickets: vec![TicketTypeId(7)], ..of };
        assert_eq!(takes(&tickets), [false; 5]);
    }
}
