//! A cue in words.

use matricle_core::messages::cue::{Cue, Late, Part, Paying, Side, Trigger, Unit, Way, When, Whom};
use matricle_core::messages::occasion::{Moment, Occasion};
use matricle_core::{QuestionId, TagId, TicketTypeId};

/// What the keys of a cue stand for.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Names<'a> {
    pub(crate) tickets: &'a [(TicketTypeId, String)],
    pub(crate) questions: &'a [(QuestionId, String)],
    pub(crate) tags: &'a [(TagId, String)],
}

/// What sets a cue off, after *when* or *before*.
pub(crate) const fn trigger(trigger: Trigger) -> &'static str {
    match trigger {
        Trigger::At(moment) => match moment {
            Moment::Starts => "the date starts",
            Moment::Ends => "the date ends",
            Moment::SaleOpens => "the first ticket goes on sale",
            Moment::SaleCloses => "the last ticket goes off sale",
            Moment::PayBy => "the time to pay ends",
            Moment::OfferEnds => "an offer to somebody who waits ends",
            Moment::CardExpires => "a stamp card expires",
            Moment::Asked => "somebody was invited",
            Moment::Day => "it is time for the news of the day",
        },
        Trigger::On(occasion) => match occasion {
            Occasion::Left => "somebody typed an address and left",
            Occasion::WayBack => "somebody asks for the way back",
            Occasion::Asked => "somebody asks for seats",
            Occasion::ToPay => "seats are kept, to pay",
            Occasion::Confirmed => "a booking is confirmed",
            Occasion::Changed => "a booking changes",
            Occasion::Cancelled => "a booking is cancelled",
            Occasion::Declined => "a booking is declined",
            Occasion::Lapsed => "the time to pay ran out",
            Occasion::PassedOn => "a ticket is passed on",
            Occasion::PassedBack => "a ticket that was passed on is good no more",
            Occasion::Twice => "an address books the date again",
            Occasion::Joined => "somebody joins the waiting list",
            Occasion::Offered => "seats are offered to somebody who waits",
            Occasion::PassedOver => "somebody who waits is passed over",
            Occasion::SeatsFree => "seats are free for all who wait",
            Occasion::Moved => "the date moves",
            Occasion::CalledOff => "the date is called off",
            Occasion::MoneyBack => "money goes back",
            Occasion::LetIn => "somebody is let in",
            Occasion::Badge => "badges are sent",
            Occasion::NotComing => "a calendar says that somebody does not come",
            Occasion::Came => "somebody has come of whom one asked to hear",
            Occasion::CardBought => "stamp cards are bought",
            Occasion::CardNearlyUsed => "a stamp card is nearly used up",
            Occasion::Invited => "somebody is invited",
            Occasion::Announced => "something is announced",
            Occasion::Submitted => "a submission arrives",
            Occasion::SentBack => "a submission is sent back",
            Occasion::Accepted => "a submission is accepted",
            Occasion::TurnedDown => "a submission is turned down",
            Occasion::ToReview => "something is to be reviewed",
        },
    }
}

fn counted(n: u32, unit: Unit) -> String {
    matricle_formats::words::count(n, unit.word())
}

/// When a cue speaks: `the day before at 18:00`.
pub(crate) fn when(cue: &Cue) -> String {
    let (after, at) = match cue.trigger {
        Trigger::On(_) => ("when", trigger(cue.trigger)),
        Trigger::At(_) => ("when", trigger(cue.trigger)),
    };
    match cue.when {
        When::AtOnce => format!("{after} {at}"),
        When::Offset { n, unit, side: Side::Before } => format!("{} before {at}", counted(n, unit)),
        When::Offset { n, unit, side: Side::After } => format!("{} after {at}", counted(n, unit)),
        When::Clock { days, side, at: clock } => {
            let clock = clock.strftime("%H:%M");
            let day = match (days, side) {
                (0, _) => "on the day".to_owned(),
                (1, Side::Before) => "the day before".into(),
                (1, Side::After) => "the day after".into(),
                (n, Side::Before) => format!("{n} days before"),
                (n, Side::After) => format!("{n} days after"),
            };
            match cue.trigger {
                Trigger::At(Moment::Starts) => format!("{day} at {clock}"),
                _ => format!("{day} {at}, at {clock}"),
            }
        }
    }
}

/// To whom a cue speaks: `to each attendee in person`.
pub(crate) fn whom(cue: &Cue, names: Names<'_>) -> String {
    let mut said = match &cue.whom {
        _ if cue.way == Way::Chat => "to the team".to_owned(),
        _ if cue.way == Way::Notice => "to everybody".into(),
        _ if cue.trigger == Trigger::At(Moment::CardExpires) => "to whoever has the card".into(),
        Whom::Attendees => "to each attendee".into(),
        Whom::Booker => "to the booker".into(),
        Whom::Hosts => "to the hosts".into(),
        Whom::Waiting => "to those who wait".into(),
        Whom::Silent => "to those who were invited and have not replied".into(),
        Whom::Came => "to those who came".into(),
        Whom::Missed => "to those who missed it".into(),
        Whom::Role(role) => format!("to every {}", role.word()),
        Whom::Address(address) => format!("to {address}"),
    };
    let only = &cue.only;
    match only.part {
        Some(Part::InPerson) => said.push_str(" in person"),
        Some(Part::Online) => said.push_str(" online"),
        None => {}
    }
    let of = |id: TicketTypeId| {
        names.tickets.iter().find(|t| t.0 == id).map_or("another ticket", |t| t.1.as_str())
    };
    if !only.tickets.is_empty() {
        let all: Vec<&str> = only.tickets.iter().map(|t| of(*t)).collect();
        said.push_str(&format!(" with {}", all.join(" or ")));
    }
    if let Some((question, answer)) = &only.answer {
        let asked = names
            .questions
            .iter()
            .find(|q| q.0 == *question)
            .map_or("a question", |q| q.1.as_str());
        said.push_str(&format!(" who answered {answer} to {asked}"));
    }
    if let Some(tag) = only.tag {
        let name = names.tags.iter().find(|t| t.0 == tag).map_or("a tag", |t| t.1.as_str());
        said.push_str(&format!(" of events tagged {name}"));
    }
    if only.first_visit {
        said.push_str(", if here for the first time");
    }
    match only.paying {
        Some(Paying::Card) => said.push_str(", if paying by card"),
        Some(Paying::Transfer) => said.push_str(", if paying by transfer"),
        None => {}
    }
    said
}

/// A cue in words: `the day before at 18:00, to each attendee in person, by mail`.
pub(crate) fn cue(cue: &Cue, names: Names<'_>) -> String {
    let way = match cue.way {
        Way::Mail => "by mail",
        Way::Text => "by text message",
        Way::Chat => "into the team chat",
        Way::Notice => "as a notice on the event’s page",
        Way::Ring => "by telephone",
    };
    format!("{}, {}, {way}", when(cue), whom(cue, names))
}

/// What becomes of somebody who books after its minute, where that can happen.
pub(crate) fn late(cue: &Cue) -> String {
    if !cue.when.is_before() || matches!(cue.trigger, Trigger::On(_)) {
        return String::new();
    }
    match cue.late {
        Late::AtOnce => "who books later gets it at once".into(),
        Late::Never => "who books later does not get it".into(),
        Late::UntilHours(0) => "who books later gets it at once".into(),
        Late::UntilHours(hours) => format!(
            "who books later gets it at once, until {} before",
            matricle_formats::words::count(hours, "hours")
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::Timestamp;
    use matricle_core::messages::cue::Only;
    use matricle_core::{CueId, TemplateId};

    #[test]
    fn a_cue_is_a_sentence() {
        let cue_of = |trigger, when, whom, only, way| Cue {
            id: CueId(1),
            event: None,
            instead_of: None,
            on: true,
            trigger,
            when,
            whom,
            only,
            way,
            template: TemplateId(1),
            late: Late::UntilHours(3),
            added_at: Timestamp::UNIX_EPOCH,
            already: false,
            since: None,
        };
        let six = jiff::civil::time(18, 0, 0, 0);
        let in_person = Only { part: Some(Part::InPerson), ..Only::default() };
        let starts = Trigger::At(Moment::Starts);
        let said = [
            cue_of(
                starts,
                When::Clock { days: 1, side: Side::Before, at: six },
                Whom::Attendees,
                in_person,
                Way::Mail,
            ),
            cue_of(
                Trigger::At(Moment::Ends),
                When::Offset { n: 2, unit: Unit::Hours, side: Side::After },
                Whom::Came,
                Only::default(),
                Way::Text,
            ),
            cue_of(
                Trigger::On(Occasion::Confirmed),
                When::AtOnce,
                Whom::Hosts,
                Only::default(),
                Way::Chat,
            ),
        ]
        .map(|c| format!("{} ({})", cue(&c, Names::default()), late(&c)));
        insta::assert_snapshot!(said.join("\n"), @r"
        the day before at 18:00, to each attendee in person, by mail (who books later gets it at once, until 3 hours before)
        2 hours after the date ends, to those who came, by text message ()
        when a booking is confirmed, to the team, into the team chat ()
        ");
    }
}
