//! Money of the demo: an account for transfers, codes, a share, people who wait.

use jiff::SignedDuration;
use matricle_core::money::ledger::{Account, Entry};
use matricle_core::money::promo::{Gives, Promo};
use matricle_core::money::shares::Share;
use matricle_core::seats::Wanted;
use matricle_core::seats::waiting::Manner;
use matricle_store::cards::{self, CardKind};
use matricle_store::events::{self, NewTicketType};
use matricle_store::{books, ledger, places, promos, waiting};

use super::World;
use matricle_desk::{DeskError, house_of};

impl World<'_> {
    pub(super) fn money(&mut self) -> Result<(), DeskError> {
        let code = |code: &str, gives| Promo {
            id: 0,
            code: code.into(),
            gives,
            tickets: Vec::new(),
            dates: Vec::new(),
            address: String::new(),
            most: None,
            once: false,
            from: None,
            until: None,
            least_minor: None,
            most_minor: None,
            together: true,
            stopped: false,
        };
        let ten = Promo { most: Some(40), ..code("Clover 10", Gives::Percent(10)) };
        let five = Promo {
            once: true,
            least_minor: Some(2000),
            until: Some(self.now + SignedDuration::from_hours(24 * 60)),
            ..code("First swarm", Gives::Amount(500))
        };
        for promo in [ten, five] {
            promos::add(self.tx, &promo, None, self.now)?;
        }
        for (slug, manner) in [
            ("rearing-queens", Manner::OfferFirst),
            ("beginners-course", Manner::OfferFirst),
            ("candles-from-our-own-wax", Manner::OfferFirst),
            ("a-hive-inspection", Manner::TellAll),
        ] {
            if let Some(mut event) = events::by_slug(self.tx, slug)? {
                event.rules.waiting = manner;
                events::set(self.tx, &event, self.now)?;
            }
        }
        let course = events::by_slug(self.tx, "beginners-course")?;
        let host = places::hosts(self.tx)?.into_iter().next();
        if let (Some(course), Some(host)) = (course, host) {
            books::set_share(self.tx, course.id, host.id, Share::Percent(60))?;
        }
        self.dipping_cards()?;
        self.waiters()
    }

    /// A kind of stamp card, and one that a member has bought.
    fn dipping_cards(&self) -> Result<(), DeskError> {
        let kind = CardKind {
            id: 0,
            name: "Dipping card".into(),
            stamps: 10,
            price: 7000,
            life_days: Some(365),
            retired: false,
        };
        cards::add_kind(self.tx, &kind)?;
        let Some(sold) = cards::kinds(self.tx)?.into_iter().next() else { return Ok(()) };
        if let Some(evening) = events::by_slug(self.tx, "thursday-dipping")? {
            let ticket = NewTicketType {
                name: "Dipping card".into(),
                note: "ten evenings for the price of nearly nine".into(),
                minor: sold.price,
                card: Some(sold.name.clone()),
                most: 2,
                draws: Vec::new(),
                ..NewTicketType::default()
            };
            events::add_ticket(self.tx, evening.id, &ticket)?;
        }
        let holder = ("Marit Solheim", "marit.solheim@post.example");
        let (at, who) = (self.ago(24 * 25), super::STAFF[4].0);
        let told = (who, "sold, paid by cash");
        let code =
            matricle_desk::money::cards::issue(self.tx, &sold, holder, told, sold.price, None, at)?;
        let (to, from) = ((Account::Cash, 0), (Account::StampsOwed, 0));
        if let Some(entry) = Entry::move_money(to, from, sold.price) {
            let what = format!("stamp card {code} sold");
            ledger::book(self.tx, &entry, None, who, &what, at)?;
        }
        Ok(())
    }

    /// Two parties wait for the first date that is full.
    fn waiters(&self) -> Result<(), DeskError> {
        let rows = events::rows(self.tx)?;
        for row in rows.iter().filter(|r| r.event.rules.waiting == Manner::OfferFirst) {
            for date in events::dates_of(self.tx, row.event.id)? {
                let house = house_of(self.tx)?;
                let sheet = events::choices(self.tx, house.currency, date.id, self.now)?;
                let full = |s: &events::Choices| s.main_pool().free() == 0;
                let Some(sheet) = sheet.filter(full).filter(|s| s.date.span.starts_at > self.now)
                else {
                    continue;
                };
                let Some(ticket) = sheet.tickets.first() else { continue };
                for (name, address, quantity) in [
                    ("Hedda Lindqvist", "hedda.lindqvist@post.example", 2),
                    ("Joss O'Hara", "joss.ohara@post.example", 1),
                ] {
                    let wanted = [Wanted { ticket: ticket.id, quantity }];
                    waiting::join(self.tx, date.id, name, address, &wanted, self.ago(9))?;
                }
                return Ok(());
            }
        }
        Ok(())
    }
}
