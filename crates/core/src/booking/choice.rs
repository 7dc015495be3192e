//! Choosing tickets: what a date offers a booker, and whether a choice can be kept for them.

use jiff::{SignedDuration, Timestamp};

use crate::dates::schedule::{Sale, SaleWindow};
use crate::dates::slots::Notice;
use crate::money::price::{self, Buyer, PriceRefusal, Quote, TicketPrice};
use crate::people::who::is_invited;
use crate::seats::{self, Draw, Pool, SeatRefusal, TicketSeats, Wanted};
use crate::words::fold;
use crate::{Currency, TicketTypeId};

/// What choosing needs to know about one ticket type on one date.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Offer {
    /// Its price.
    pub price: TicketPrice,
    /// Its seats.
    pub seats: TicketSeats,
    /// When it is sold.
    pub sale: SaleWindow,
    /// The fewest of it in one booking, if any.
    pub least: u32,
    /// The most of it in one booking.
    pub most: u32,
    /// Taken off sale by hand.
    pub closed: bool,
    /// Shown only to those who give this word; empty for everybody.
    pub word: String,
    /// Sold to members only.
    pub members_only: bool,
    /// Sold only to whoever has proved one of these addresses; empty for everybody.
    pub invited: Vec<String>,
}

impl Offer {
    /// Whether this booker sees the ticket at all: a word is compared without regard
    /// to case and accents.
    #[must_use]
    pub fn shown_to(&self, buyer: &Buyer) -> bool {
        self.word.is_empty() || fold(&self.word) == fold(&buyer.word)
    }

    /// Whether this booker is invited to buy it, or everybody is.
    #[must_use]
    pub fn invites(&self, buyer: &Buyer) -> bool {
        self.invited.is_empty() || is_invited(&self.invited, &buyer.address)
    }
}

/// What choosing needs to know about a date.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DateOffer {
    /// Nothing is sold from this instant on: the start of the date, or of the last one
    /// of a course that admits latecomers.
    pub starts_at: Timestamp,
    /// It will not happen.
    pub called_off: bool,
    /// For slots: how long before it must, and may, be booked.
    pub notice: Option<Notice>,
    /// The currency of its prices.
    pub currency: Currency,
    /// How long chosen seats are kept.
    pub hold: SignedDuration,
    /// The pools.
    pub pools: Vec<Pool>,
    /// The ticket types.
    pub offers: Vec<Offer>,
}

impl DateOffer {
    /// The date as it is sold at its door: until it ends, without notice, one ticket at a time
    /// if need be, also what stands for members or behind a word, since the volunteer sees who
    /// stands there. `given_up` seats of those who have not come are for whoever does.
    #[must_use]
    pub fn at_door(mut self, ends_at: Timestamp, given_up: u32) -> Self {
        self.starts_at = ends_at;
        self.notice = None;
        if let Some(pool) = self.pools.first_mut() {
            pool.capacity = pool.capacity.saturating_add(given_up);
        }
        for offer in &mut self.offers {
            offer.sale = SaleWindow::default();
            offer.least = 1;
            offer.members_only = false;
            offer.word.clear();
            offer.invited.clear();
        }
        self
    }

    /// The seat facts of all ticket types.
    #[must_use]
    pub fn tickets(&self) -> Vec<TicketSeats> {
        self.offers.iter().map(|o| o.seats.clone()).collect()
    }

    /// How many more of a ticket this booker may add beside what is chosen: by
    /// pools, by the ticket's limit, by the most in one booking, and by its sale window.
    #[must_use]
    pub fn more(
        &self,
        chosen: &[Wanted],
        ticket: TicketTypeId,
        buyer: &Buyer,
        now: Timestamp,
    ) -> u32 {
        let Some(offer) = self.offers.iter().find(|o| o.price.id == ticket) else { return 0 };
        if self.bars(now).is_some() || bars(self, offer, buyer, now).is_some() {
            return 0;
        }
        let already = seats::count_of(chosen, ticket);
        seats::sellable(&self.pools, &self.tickets(), chosen, ticket)
            .min(offer.most.saturating_sub(already))
    }

    /// The tickets that a booker may choose at `now`, in their order, whether seats are left or not.
    #[must_use]
    pub fn open_to(&self, buyer: &Buyer, now: Timestamp) -> Vec<TicketTypeId> {
        let open = |o: &&Offer| self.bars(now).is_none() && bars(self, o, buyer, now).is_none();
        self.offers.iter().filter(open).map(|o| o.price.id).collect()
    }

    /// Why nothing of this date can be booked at `now`, if so.
    #[must_use]
    pub fn bars(&self, now: Timestamp) -> Option<ChoiceRefusal> {
        if self.called_off {
            return Some(ChoiceRefusal::CalledOff);
        }
        let notice = self.notice.filter(|n| !n.allows(self.starts_at, now))?;
        Some(ChoiceRefusal::Notice { notice })
    }
}

/// Why a ticket is not sold to this booker at `now`, if so.
fn bars(date: &DateOffer, offer: &Offer, buyer: &Buyer, now: Timestamp) -> Option<ChoiceRefusal> {
    let ticket = offer.price.id;
    if !offer.shown_to(buyer) {
        return Some(SeatRefusal::UnknownTicket { ticket }.into());
    }
    if offer.closed {
        return Some(ChoiceRefusal::Closed { ticket });
    }
    if offer.members_only && !buyer.member {
        return Some(ChoiceRefusal::MembersOnly { ticket });
    }
    if !offer.invites(buyer) {
        return Some(ChoiceRefusal::InvitedOnly { ticket });
    }
    match offer.sale.at(date.starts_at, now) {
        Sale::Open => None,
        sale => Some(ChoiceRefusal::NotOnSale { ticket, sale }),
    }
}

/// A choice of tickets that fits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Choice {
    /// What it takes from each pool.
    pub draws: Vec<Draw>,
    /// What it costs, fixed for as long as the seats are kept.
    pub quote: Quote,
    /// Until when the seats are kept.
    pub held_until: Timestamp,
}

/// Why a choice of tickets was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ChoiceRefusal {
    /// No ticket was chosen.
    #[error("nothing chosen")]
    Nothing,
    /// A ticket is not on sale at this time.
    #[error("ticket {ticket} is not on sale: {sale:?}")]
    NotOnSale {
        /// The ticket type.
        ticket: TicketTypeId,
        /// Where now lies in its sale window.
        sale: Sale,
    },
    /// More of one ticket than one booking may have.
    #[error("{wanted} of ticket {ticket} in one booking, {most} allowed")]
    TooManyInOne {
        /// The ticket type.
        ticket: TicketTypeId,
        /// How many were wanted.
        wanted: u32,
        /// The most allowed.
        most: u32,
    },
    /// Fewer of one ticket than it is sold in.
    #[error("{wanted} of ticket {ticket} in one booking, at least {least} needed")]
    TooFewInOne {
        /// The ticket type.
        ticket: TicketTypeId,
        /// How many were wanted.
        wanted: u32,
        /// The fewest allowed.
        least: u32,
    },
    /// The ticket was taken off sale by hand.
    #[error("ticket {ticket} is closed")]
    Closed {
        /// The ticket type.
        ticket: TicketTypeId,
    },
    /// The ticket is for members.
    #[error("ticket {ticket} is for members")]
    MembersOnly {
        /// The ticket type.
        ticket: TicketTypeId,
    },
    /// The ticket is for those invited.
    #[error("ticket {ticket} is by invitation")]
    InvitedOnly {
        /// The ticket type.
        ticket: TicketTypeId,
    },
    /// The date will not happen.
    #[error("the date is called off")]
    CalledOff,
    /// A slot that is too near or too far.
    #[error("not bookable now: {notice:?}")]
    Notice {
        /// How long before it must, and may, be booked.
        notice: Notice,
    },
    /// The seats are not there.
    #[error(transparent)]
    Seats(#[from] SeatRefusal),
    /// The price cannot be told.
    #[error(transparent)]
    Price(#[from] PriceRefusal),
}

/// Decides whether a choice of tickets can be kept for a booker.
///
/// # Errors
/// The first thing in the way, with the ticket and the number concerned.
pub fn choose(
    date: &DateOffer,
    wanted: &[Wanted],
    buyer: &Buyer,
    now: Timestamp,
) -> Result<Choice, ChoiceRefusal> {
    // However often a ticket is named, it is one wish for so many of it.
    let wanted = &seats::together(wanted)[..];
    if wanted.is_empty() {
        return Err(ChoiceRefusal::Nothing);
    }
    if let Some(refusal) = date.bars(now) {
        return Err(refusal);
    }
    for w in wanted {
        let Some(offer) = date.offers.iter().find(|o| o.price.id == w.ticket) else {
            return Err(SeatRefusal::UnknownTicket { ticket: w.ticket }.into());
        };
        if let Some(refusal) = bars(date, offer, buyer, now) {
            return Err(refusal);
        }
        if w.quantity < offer.least {
            return Err(ChoiceRefusal::TooFewInOne {
                ticket: w.ticket,
                wanted: w.quantity,
                least: offer.least,
            });
        }
        if w.quantity > offer.most {
            return Err(ChoiceRefusal::TooManyInOne {
                ticket: w.ticket,
                wanted: w.quantity,
                most: offer.most,
            });
        }
    }
    let draws = seats::take(&date.pools, &date.tickets(), wanted)?;
    let prices: Vec<_> = date.offers.iter().map(|o| o.price.clone()).collect();
    let quote = price::quote(date.currency, &prices, wanted, buyer, now)?;
    Ok(Choice { draws, quote, held_until: now + date.hold })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::PoolId;
    use crate::money::price::Early;
    use crate::seats::Taken;

    fn date() -> DateOffer {
        let chairs = Pool {
            id: PoolId(1),
            name: "chairs".into(),
            capacity: 3,
            taken: Taken { confirmed: 1, ..Taken::default() },
        };
        let offer = Offer {
            price: TicketPrice {
                early: Some(Early { minor: 4200, until: Timestamp::from_second(500).unwrap() }),
                ..TicketPrice::plain(TicketTypeId(1), 4800)
            },
            seats: TicketSeats {
                id: TicketTypeId(1),
                draws: vec![Draw { pool: PoolId(1), seats: 1 }],
                limit: None,
                sold: 1,
            },
            sale: SaleWindow::default(),
            least: 1,
            most: 4,
            closed: false,
            word: String::new(),
            members_only: false,
            invited: Vec::new(),
        };
        DateOffer {
            starts_at: Timestamp::from_second(10_000).unwrap(),
            called_off: false,
            notice: None,
            currency: Currency::EUR,
            hold: SignedDuration::from_mins(15),
            pools: vec![chairs],
            offers: vec![offer],
        }
    }

    #[test]
    fn a_choice_that_fits_says_seats_price_and_deadline() {
        let (date, now) = (date(), Timestamp::from_second(499).unwrap());
        let two = [Wanted { ticket: TicketTypeId(1), quantity: 2 }];
        let choice = choose(&date, &two, &Buyer::default(), now).unwrap();
        assert_eq!(choice.quote.total, Currency::EUR.of(8400));
        assert_eq!(choice.held_until, now + SignedDuration::from_mins(15));
        assert_eq!(date.more(&two, TicketTypeId(1), &Buyer::default(), now), 0);
        assert_eq!(date.more(&[], TicketTypeId(1), &Buyer::default(), now), 2);
    }

    #[test]
    fn each_thing_in_the_way_is_named() {
        let (date, now) = (date(), Timestamp::from_second(600).unwrap());
        let ask = |ticket, quantity, now| {
            choose(
                &date,
                &[Wanted { ticket: TicketTypeId(ticket), quantity }],
                &Buyer::default(),
                now,
            )
        };
        assert_eq!(ask(1, 0, now), Err(ChoiceRefusal::Nothing));
        assert!(matches!(
            ask(1, 3, now),
            Err(ChoiceRefusal::Seats(SeatRefusal::TooFew { free: 2, .. }))
        ));
        assert!(matches!(ask(1, 5, now), Err(ChoiceRefusal::TooManyInOne { most: 4, .. })));
        assert!(matches!(
            ask(2, 1, now),
            Err(ChoiceRefusal::Seats(SeatRefusal::UnknownTicket { .. }))
        ));
        let started = date.starts_at;
        assert!(matches!(ask(1, 1, started), Err(ChoiceRefusal::NotOnSale { .. })));
        assert_eq!(date.more(&[], TicketTypeId(1), &Buyer::default(), started), 0);
    }

    #[test]
    fn words_members_closing_and_notice_are_kept() {
        let now = Timestamp::from_second(600).unwrap();
        let ask = |change: fn(&mut DateOffer), buyer: &Buyer, quantity| {
            let mut date = date();
            change(&mut date);
            choose(&date, &[Wanted { ticket: TicketTypeId(1), quantity }], buyer, now)
        };
        let (member, word) = (
            Buyer { member: true, ..Buyer::default() },
            Buyer { word: " PROPOLÍS ".into(), ..Buyer::default() },
        );
        let none = Buyer::default();
        assert!(matches!(
            ask(|d| d.offers[0].closed = true, &none, 1),
            Err(ChoiceRefusal::Closed { .. })
        ));
        assert!(matches!(
            ask(|d| d.offers[0].members_only = true, &none, 1),
            Err(ChoiceRefusal::MembersOnly { .. })
        ));
        assert!(ask(|d| d.offers[0].members_only = true, &member, 1).is_ok());
        let invited = |d: &mut DateOffer| d.offers[0].invited = vec!["ezra@post.example".into()];
        let ezra = Buyer { address: "Ezra@post.example".into(), ..Buyer::default() };
        assert!(matches!(ask(invited, &member, 1), Err(ChoiceRefusal::InvitedOnly { .. })));
        assert!(ask(invited, &ezra, 1).is_ok());
        assert!(matches!(
            ask(|d| d.offers[0].word = "propolis".into(), &none, 1),
            Err(ChoiceRefusal::Seats(SeatRefusal::UnknownTicket { .. }))
        ));
        assert!(ask(|d| d.offers[0].word = "propolis".into(), &word, 1).is_ok());
        assert!(matches!(
            ask(|d| d.offers[0].least = 2, &none, 1),
            Err(ChoiceRefusal::TooFewInOne { least: 2, .. })
        ));
        assert_eq!(ask(|d| d.called_off = true, &none, 1), Err(ChoiceRefusal::CalledOff));
        let late = |d: &mut DateOffer| d.notice = Some(Notice { hours: 24, days_ahead: 30 });
        assert!(matches!(ask(late, &none, 1), Err(ChoiceRefusal::Notice { .. })));
    }
}
