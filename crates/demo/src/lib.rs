//! The demo house: the Ostrel Vale Beekeepers' Association, made up, its dates
//! laid around *now* so that there is always a door open today.

mod large;
mod letters;
mod messages;
mod money;
mod online;
mod season;
mod submissions;

use jiff::civil::{DateTime, Time, time};
use jiff::{SignedDuration, Timestamp, ToSpan};
pub use large::enlarge;
use matricle_core::booking::details::{Answering, Details};
use matricle_core::booking::{self, Move, State};
use matricle_core::dates::schedule::{SaleWindow, Span};
use matricle_core::money::ledger::Method;
use matricle_core::money::price::Early;
use matricle_core::people::acting::Acting;
use matricle_core::people::staff::{Right, Role};
use matricle_core::seats::Wanted;
use matricle_core::words::codes::{Reference, TicketCode};
use matricle_core::{Currency, DateId, EventId};
use matricle_formats::words;
use matricle_store::bookings::{self, HeldBy};
use matricle_store::events::{self, EventState, NewDate, NewEvent, NewQuestion, NewTicketType};
use matricle_store::house::{self, House};
use matricle_store::payments::{self, Taken};
use matricle_store::{StoreError, Tx, door, outbox, people};

use matricle_desk::acting::Turn;
use matricle_desk::people::signin;
use matricle_desk::within::fresh_reference;
use matricle_desk::within::{With, make};
use matricle_desk::{Desk, DeskError, random_u64};

/// The zone of the demo house.
pub const ZONE: &str = "Europe/Dublin";

/// Who can sign in: name, address, role, password.
pub const STAFF: [(&str, &str, Role, &str); 6] = [
    ("Ilse Karrow", "ilse@ostrel.example", Role::Organiser, "comb-and-wax"),
    ("Bram Tully", "bram@ostrel.example", Role::Door, "smoker-is-lit"),
    ("Nia Ferrier", "nia@ostrel.example", Role::Administrator, "queen-right-hive"),
    ("Owen Pryce", "owen@ostrel.example", Role::Host, "frames-to-read"),
    ("Petra Vogel", "petra@ostrel.example", Role::Treasurer, "jars-and-ledger"),
    ("Rosalind Hale", "rosalind@ostrel.example", Role::Reviewer, "read-and-decide"),
];

/// Fills an empty house with the demo; a house that is set up stays as it is.
pub async fn seed(desk: &Desk) -> Result<bool, DeskError> {
    let set_up = desk.store.read(|conn| Ok::<_, StoreError>(house::get(conn)?.is_some())).await?;
    if set_up {
        return Ok(false);
    }
    for (name, email, role, password) in STAFF {
        signin::employ(desk, name.into(), email.into(), role, password.into()).await?;
    }
    let (now, host) = (desk.clock.now(), desk.host().to_owned());
    desk.store.write(move |tx| fill(tx, &host, now)).await?;
    matricle_desk::messages::prepare(desk).await?;
    // What was due by now went when it was due.
    while matricle_desk::telling::follow_due(desk).await? {}
    desk.store.write(move |tx| outbox::went(tx, now)).await?;
    submissions::add(desk).await?;
    messages::add(desk).await?;
    letters::add(desk).await?;
    Ok(true)
}

fn fill(tx: &Tx<'_>, host: &str, now: Timestamp) -> Result<(), DeskError> {
    house::set(
        tx,
        &House {
            name: "Ostrel Vale Beekeepers".into(),
            currency: Currency::EUR,
            zone: ZONE.into(),
            email: "office@ostrel.example".into(),
            terms: "I have read how cancelling works. Beekeeping is done at your own risk; \
                    tell us of an allergy to stings."
                .into(),
            seller: "Ostrel Vale Beekeepers’ Association\nMillrace Barn, Ford Lane 3\nOstrel Vale"
                .into(),
            tax_number: "OV 4471 08".into(),
            iban: "IE66 OVBK 9000 1712 3456 78".into(),
            bic: "OVBKIE2D".into(),
            ..House::default()
        },
    )?;
    let mut world = World { tx, host, now, next_name: 0 };
    world.house()?;
    world.candles()?;
    world.pollen()?;
    world.open_days()?;
    world.first_evening()?;
    world.queens()?;
    world.forage()?;
    world.convention()?;
    world.inspection()?;
    world.branch()?;
    world.heather()?;
    world.mead()?;
    world.season()?;
    world.online()?;
    world.money()
}

struct World<'a> {
    tx: &'a Tx<'a>,
    host: &'a str,
    now: Timestamp,
    next_name: usize,
}

/// How a made-up booking stands.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Stands {
    Confirmed,
    /// To be paid within so many hours.
    ToPay(i64),
    Asking,
    Held,
    Cancelled,
}

const FIRST: [&str; 37] = [
    "Marit", "Ezra", "Amadi", "Ros", "Oona", "Tobias", "Siân", "Bartek", "Noor", "Ilya", "Greta",
    "Kofi", "Wilma", "Ansel", "Petra", "Joss", "Maeve", "Luca", "Hedda", "Rory", "Sanne", "Imre",
    "Tilda", "Owen", "Asha", "Milo", "Freya", "Casper", "Dilys", "Nils", "Vera", "Hugo", "Ailsa",
    "Jonah", "Edda", "Søren", "Mina",
];
const LAST: [&str; 31] = [
    "Solheim",
    "Quill",
    "Rowe",
    "Ferrier",
    "Birch",
    "Wren",
    "O'Hara",
    "Zielinska",
    "Haddad",
    "Marsh",
    "Lindqvist",
    "Mensah",
    "Thorne",
    "Vogel",
    "Castell",
    "Pike",
    "Brennan",
    "Ferrari",
    "Dahl",
    "Quinn",
    "de Wit",
    "Sárközy",
    "Ashdown",
    "Pryce",
    "Nair",
    "Fenwick",
    "Holloway",
    "Grau",
    "Llewellyn",
    "Brandt",
    "Kerr",
];

fn ticket(name: &str, minor: i64, draws: &[(usize, u32)]) -> NewTicketType {
    NewTicketType {
        name: name.into(),
        minor,
        admits: draws.first().map_or(1, |(_, seats)| *seats),
        draws: draws.to_vec(),
        ..NewTicketType::default()
    }
}

fn question(label: &str, answering: Answering, needed: bool) -> NewQuestion {
    NewQuestion { label: label.into(), answering, needed, each: false, only: Vec::new() }
}

fn one_of(options: &[&str]) -> Answering {
    Answering::OneOf(options.iter().map(|&o| o.into()).collect())
}

impl World<'_> {
    fn today(&self) -> DateTime {
        words::local(self.now, ZONE).datetime()
    }

    /// A time so many days from today; hours that a clock change skips are put off.
    fn span(&self, days: i64, from: Time, to: Time) -> Result<Span, DeskError> {
        let day = self.today().date().saturating_add(days.days());
        let fix = |shift: i64| {
            let shifted = day.saturating_add(shift.days());
            Span::new(shifted.to_datetime(from), shifted.to_datetime(to), ZONE)
        };
        fix(0).or_else(|_| fix(1)).map_err(|e| DeskError::Internal(e.to_string()))
    }

    /// The midnight with which the day so many days from today begins.
    fn midnight(&self, days: i64) -> Result<Timestamp, DeskError> {
        let day = self.today().date().saturating_add(days.days());
        let zoned = day.to_zoned_datetime(words::zone(ZONE));
        zoned.map(|z| z.timestamp()).map_err(|e| DeskError::Internal(e.to_string()))
    }

    fn ago(&self, hours: i64) -> Timestamp {
        self.now - SignedDuration::from_hours(hours)
    }

    fn date(&self, span: Span, venue: Venue, capacities: &[u32]) -> NewDate {
        let (name, address, directions, room, hosts) = venue;
        NewDate {
            span,
            venue: name.into(),
            address: address.into(),
            directions: directions.into(),
            room: room.into(),
            hosts: hosts.split(" and ").filter(|h| !h.is_empty()).map(String::from).collect(),
            margins: (0, 0),
            capacities: capacities.to_vec(),
            sessions: Vec::new(),
            online: None,
        }
    }

    fn event(&self, mut event: NewEvent) -> Result<(EventId, Vec<DateId>), DeskError> {
        event.description = matricle_formats::rich::from_text(&event.description);
        let id = events::insert(self.tx, &event, self.ago(24 * 60))?;
        let dates = events::dates_of(self.tx, id)?.into_iter().map(|d| d.id).collect();
        Ok((id, dates))
    }

    fn name(&mut self) -> String {
        let n = self.next_name;
        self.next_name += 1;
        format!("{} {}", FIRST[n % FIRST.len()], LAST[n % LAST.len()])
    }

    /// Makes a booking as if it had been made so many hours ago: `wanted` are
    /// quantities by ticket type, in their order.
    fn book(
        &mut self,
        date: DateId,
        wanted: &[u32],
        stands: Stands,
        hours_ago: i64,
    ) -> Result<Reference, DeskError> {
        let tx = self.tx;
        let at = if stands == Stands::Held { self.now } else { self.ago(hours_ago) };
        let by = HeldBy::default();
        let sheet = events::choices(tx, Currency::EUR, date, at)?.ok_or(DeskError::NotFound)?;
        let wanted: Vec<_> = sheet
            .tickets
            .iter()
            .zip(wanted)
            .map(|(t, &quantity)| Wanted { ticket: t.id, quantity })
            .collect();
        let choice = booking::choose(&sheet.offer, &wanted, &by.buyer, at)?;
        let reference = fresh_reference(tx)?;
        let code = || TicketCode::from_random(random_u64());
        let id = bookings::hold(tx, &sheet, reference, &choice, code, &by, at)?;
        bookings::happened(tx, id, at, &Acting::booker(), "chose seats")?;
        let mut booking = bookings::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
        if stands == Stands::Held {
            return Ok(reference);
        }
        let name = self.name();
        let (first, last) = name.split_once(' ').unwrap_or((&name, ""));
        let local = matricle_core::words::fold(&format!("{first}.{last}")).replace(' ', "");
        let people = bookings::attendees(tx, id)?.len();
        let family: Vec<_> =
            (1..people).map(|i| FIRST[(self.next_name + i * 5) % FIRST.len()]).collect();
        let mut attendees = vec![name.clone()];
        attendees.extend(family.into_iter().map(|f| format!("{f} {last}")));
        let details = Details {
            email: format!("{local}@post.example"),
            name,
            attendees,
            answers: std::collections::BTreeMap::new(),
            each: Vec::new(),
        };
        let person = people::know(tx, &details.name, &details.email, at)?;
        let questions = events::questions(tx, sheet.event.id)?;
        bookings::complete(tx, &booking, &details, &questions, Some(person))?;
        booking.email.clone_from(&details.email);
        let done = at + SignedDuration::from_mins(4);
        let booking = bookings::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
        let clerk = self.acting(0, Right::ChangeBookings)?;
        match stands {
            Stands::Held => {}
            Stands::Asking => {
                let turn = self.turn(Acting::booker(), done);
                make(tx, &booking, Move::Ask, &turn, With::said("asked for seats"))?;
            }
            Stands::ToPay(hours) => {
                let until = Some(self.now + SignedDuration::from_hours(hours));
                let turn = self.turn(clerk, done);
                let with = With { until, ..With::said("took the booking by phone") };
                make(tx, &booking, Move::AskByMail, &turn, with)?;
            }
            Stands::Confirmed | Stands::Cancelled => {
                if choice.quote.total.minor > 0 {
                    self.pay(id, choice.quote.total.minor, done)?;
                }
                let booking = bookings::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
                let turn = self.turn(Acting::booker(), done);
                make(tx, &booking, Move::Complete, &turn, With::said("filled the form in"))?;
                if stands == Stands::Cancelled {
                    self.sent(id, done)?;
                    let booking = bookings::by_id(tx, id)?.ok_or(DeskError::NotFound)?;
                    let turn = self.turn(clerk, self.ago(2));
                    let with = With::said("cancelled the booking");
                    make(tx, &booking, Move::Cancel, &turn, with)?;
                }
            }
        }
        self.sent(id, done)?;
        Ok(reference)
    }

    /// Somebody of the house, by their place in [`STAFF`].
    fn acting(&self, who: usize, right: Right) -> Result<Acting, DeskError> {
        let (person, _) = people::by_email(self.tx, STAFF[who].1)?.ok_or(DeskError::NotFound)?;
        Ok(Acting::staff(right, person.id, &person.name))
    }

    /// An act at a time that is past.
    fn turn(&self, by: Acting, now: Timestamp) -> Turn {
        Turn { by, now, host: self.host.into(), word: "".into() }
    }

    /// What was planned about a booking has gone out.
    fn sent(&self, id: matricle_core::BookingId, at: Timestamp) -> Result<(), DeskError> {
        for message in outbox::of_booking(self.tx, id)? {
            if message.state != outbox::MessageState::Planned || message.occasion().is_none() {
                continue;
            }
            outbox::sent(self.tx, message.id, "250 taken", at)?;
            let what = format!("{} sent to {}", message.trigger.word(), message.address);
            bookings::happened(self.tx, id, at, &Acting::program(), &what)?;
        }
        Ok(())
    }

    fn pay(
        &self,
        id: matricle_core::BookingId,
        minor: i64,
        at: Timestamp,
    ) -> Result<(), DeskError> {
        // The till of the demo starts empty, so what was paid before came in other ways.
        let method = [Method::Transfer, Method::CardHere, Method::Transfer, Method::Cash]
            [usize::try_from(id.0 % 4).unwrap_or(0)];
        let turn = self.turn(self.acting(4, Right::HandleMoney)?, at);
        let (key, who) = (format!("demo-{id}"), turn.by.shown());
        let taken = Taken { id: &key, booking: id, minor, method, who: &who, note: "" };
        payments::take(self.tx, &taken, at)?;
        let booking = bookings::by_id(self.tx, id)?.ok_or(DeskError::NotFound)?;
        matricle_desk::money::entries::received(self.tx, &booking, method, minor, &turn)?;
        let amount = Currency::EUR.of(minor);
        let what = format!("took {amount} by {}", method.word());
        Ok(bookings::happened(self.tx, id, at, &turn.by, &what)?)
    }

    /// Today's evening: starts soon, or just began when the day is nearly over.
    fn candles(&mut self) -> Result<(), DeskError> {
        let clock = words::local(self.now, ZONE);
        let ahead = if clock.hour() >= 21 { -30 } else { 60 };
        let about = self.now + SignedDuration::from_mins(ahead);
        let quarter = 15 * 60;
        let starts = Timestamp::from_second(about.as_second().div_euclid(quarter) * quarter)
            .unwrap_or(about);
        let local = |at| words::local(at, ZONE).datetime();
        let span = Span::new(local(starts), local(starts + SignedDuration::from_mins(150)), ZONE)
            .map_err(|e| DeskError::Internal(e.to_string()))?;
        let (_, dates) = self.event(NewEvent {
            slug: "candles-from-our-own-wax".into(),
            title: "Candles from our own wax".into(),
            kind: "Candle-making evening".into(),
            lead: "Dip, roll and pour: go home with six candles and the smell of the hive in your coat.".into(),
            description: "We melt this year's cappings in water baths and show three ways to a candle. \
                Wicks, moulds and aprons are here.\n\nChildren from eight years on are welcome with a grown-up.".into(),
            bring: "A cardboard box to carry your candles home".into(),
            refund_note: "Cancel up to 14 days before for a full refund, up to 3 days before for half.".into(),
            state: EventState::Published,
            hold_minutes: 15,
            pools: vec!["seats".into()],
            tickets: vec![ticket("Member", 900, &[(0, 1)]), ticket("Visitor", 1400, &[(0, 1)]),
                NewTicketType { note: "Grown-up and child at one place".into(), ..ticket("Pair", 2000, &[(0, 2)]) }],
            questions: vec![
                question("How did you hear of us?", one_of(&["from a member", "a poster", "the newspaper", "somewhere else"]), false),
            ],
            dates: vec![self.date(span, BARN, &[31])],
            ..NewEvent::default()
        })?;
        let date = dates[0];
        for (i, wanted) in [
            [1, 0, 0],
            [0, 2, 0],
            [0, 0, 1],
            [0, 1, 0],
            [2, 0, 0],
            [0, 1, 0],
            [0, 0, 1],
            [1, 1, 0],
            [0, 3, 0],
            [1, 0, 0],
            [0, 1, 0],
        ]
        .iter()
        .enumerate()
        {
            self.book(date, wanted, Stands::Confirmed, 30 + 9 * i64::try_from(i).unwrap_or(0))?;
        }
        self.book(date, &[0, 1, 0], Stands::ToPay(1), 5)?;
        self.book(date, &[0, 2, 0], Stands::ToPay(1), 3)?;
        self.book(date, &[1, 0, 0], Stands::Cancelled, 100)?;
        self.let_in(date, 6)
    }

    /// Lets the first few people of a date in.
    fn let_in(&self, date: DateId, how_many: usize) -> Result<(), DeskError> {
        let people = door::by_words(self.tx, date, "", 100)?;
        let bram = people::by_email(self.tx, STAFF[1].1)?.ok_or(DeskError::NotFound)?.0;
        let confirmed = people.into_iter().filter(|p| p.facts.state == State::Confirmed);
        // One by one: with a pair's ticket both come in at once.
        let mut alone = Vec::new();
        for person in confirmed {
            if door::on_the_same_ticket(self.tx, person.facts.attendee)?.is_empty() {
                alone.push(person);
            }
        }
        for (i, person) in (0i64..).zip(alone.into_iter().take(how_many)) {
            let at = self.now - SignedDuration::from_secs(40 + 47 * (6 - i));
            let shown = matricle_desk::door::Shown::Attendee(person.facts.attendee);
            let volunteer = matricle_desk::door::Volunteer::from(&bram);
            let turn = Turn {
                by: volunteer.acting(),
                now: at,
                host: "club.example".into(),
                word: "".into(),
            };
            let device = matricle_desk::door::Device::at("main door", &format!("demo-{i}"));
            matricle_desk::door::show_in(self.tx, &volunteer, date, &device, &shown, &turn)?;
        }
        Ok(())
    }

    fn pollen(&mut self) -> Result<(), DeskError> {
        let early = self.midnight(3)?;
        let closing = self.midnight(16)? - SignedDuration::from_hours(4);
        let sale = SaleWindow { from: None, until: Some(closing) };
        let span = self.span(17, time(10, 0, 0, 0), time(15, 30, 0, 0))?;
        let (_, dates) = self.event(NewEvent {
            slug: "pollen-under-the-lens".into(),
            title: "Pollen under the lens".into(),
            kind: "Microscopy workshop".into(),
            lead: "A day at the microscope: mount, stain and name the pollen that your bees bring home.".into(),
            description: "Twenty microscopes, forty people, two to a lens. We start with ready slides and \
                end with a slide of your own, named and dated. Soup at noon.".into(),
            bring: "A sample from your own hive, if you have one".into(),
            refund_note: "Cancel up to 14 days before for a full refund, up to 3 days before for half.".into(),
            state: EventState::Published,
            hold_minutes: 15,
            pools: vec!["seats".into(), "microscopes".into()],
            tickets: vec![
                NewTicketType { sale, ..ticket("Member", 3600, &[(0, 1)]) },
                NewTicketType {
                    early: Some(Early { minor: 4200, until: early }),
                    sale,
                    ..ticket("Visitor", 4800, &[(0, 1)])
                },
                NewTicketType {
                    note: "Two people, a microscope to yourselves".into(),
                    sale,
                    ..ticket("Pair at one lens", 7500, &[(0, 2), (1, 1)])
                },
            ],
            questions: vec![
                question("Soup at noon", one_of(&["with meat", "without meat", "none for me"]), true),
                question("I bring my own microscope", Answering::YesNo, false),
            ],
            dates: vec![self.date(span, BARN, &[40, 8])],
            ..NewEvent::default()
        })?;
        let date = dates[0];
        for i in 0..13i64 {
            let wanted = match i % 5 {
                0 => [2, 0, 0],
                1 => [0, 1, 1],
                2 => [1, 0, 0],
                3 => [0, 0, 1],
                _ => [0, 2, 0],
            };
            self.book(date, &wanted, Stands::Confirmed, 40 + 17 * i)?;
        }
        self.book(date, &[0, 3, 0], Stands::ToPay(50), 20)?;
        self.book(date, &[1, 0, 0], Stands::ToPay(48), 8)?;
        self.book(date, &[0, 2, 0], Stands::Asking, 6)?;
        self.book(date, &[0, 1, 0], Stands::Cancelled, 130)?;
        self.book(date, &[1, 1, 0], Stands::Held, 0)?;
        Ok(())
    }

    fn open_days(&mut self) -> Result<(), DeskError> {
        let orchard = (
            "Ostrel apiary",
            "Orchard Road, Ostrel",
            "Follow the yellow arrows from the church.",
            "",
            "Marit Solheim and Owen Pryce",
        );
        let dates = vec![
            self.date(self.span(10, time(14, 0, 0, 0), time(17, 0, 0, 0))?, orchard, &[60, 24]),
            self.date(self.span(24, time(14, 0, 0, 0), time(17, 0, 0, 0))?, orchard, &[60, 24]),
        ];
        let (_, dates) = self.event(NewEvent {
            slug: "apiary-open-day".into(),
            title: "Apiary open day".into(),
            kind: "Open day".into(),
            lead: "Put a suit on, lift a frame, and look a drone in the eye.".into(),
            description: "Six hives, four people to a hive at a time. Who does not want a suit can look on from the \
                fence, with cake.\n\nThe suits fit from 120 cm on.".into(),
            bring: "Boots that cover the ankle".into(),
            refund_note: "Cancel up to 14 days before for a full refund, up to 3 days before for half.".into(),
            state: EventState::Published,
            hold_minutes: 15,
            pools: vec!["seats".into(), "protective suits".into()],
            tickets: vec![
                ticket("Grown-up", 600, &[(0, 1), (1, 1)]),
                ticket("Child", 300, &[(0, 1), (1, 1)]),
                NewTicketType { note: "Four people, four suits".into(), most: 3, ..ticket("Family of four", 1500, &[(0, 4), (1, 4)]) },
                NewTicketType { note: "From the fence, no suit".into(), ..ticket("Looking on", 0, &[(0, 1)]) },
            ],
            questions: vec![question("Has anybody reacted badly to a sting?", one_of(&["no", "yes, we will talk to you first"]), true)],
            dates,
            ..NewEvent::default()
        })?;
        for (i, wanted) in
            [[0, 0, 1, 0], [2, 1, 0, 0], [0, 0, 1, 1], [1, 0, 0, 0], [0, 0, 0, 3], [0, 0, 1, 0]]
                .iter()
                .enumerate()
        {
            self.book(
                dates[0],
                wanted,
                Stands::Confirmed,
                20 + 11 * i64::try_from(i).unwrap_or(0),
            )?;
        }
        self.book(dates[0], &[2, 0, 0, 0], Stands::ToPay(70), 4)?;
        for hours in [9, 33] {
            self.book(dates[1], &[0, 0, 1, 0], Stands::Confirmed, hours)?;
        }
        Ok(())
    }

    fn plain(
        &mut self,
        words: [&str; 5],
        tickets: Vec<NewTicketType>,
        date: NewDate,
        state: EventState,
    ) -> Result<DateId, DeskError> {
        let [slug, title, kind, lead, description] = words.map(String::from);
        let (_, dates) = self.event(NewEvent {
            slug,
            title,
            kind,
            lead,
            description,
            bring: String::new(),
            refund_note: if tickets.iter().any(|t| t.minor > 0) {
                "Cancel up to 14 days before for a full refund, up to 3 days before for half."
                    .into()
            } else {
                String::new()
            },
            state,
            hold_minutes: 15,
            pools: vec!["seats".into()],
            tickets,
            questions: Vec::new(),
            dates: vec![date],
            ..NewEvent::default()
        })?;
        Ok(dates[0])
    }

    fn first_evening(&mut self) -> Result<(), DeskError> {
        let date = self.date(self.span(4, time(19, 0, 0, 0), time(21, 0, 0, 0))?, HALL, &[50]);
        let id = self.plain(
            ["is-beekeeping-for-me", "Is beekeeping for me?", "Information evening",
             "An honest evening about time, money, neighbours and stings, before you buy a hive.",
             "Three members tell of their first year. Then we answer everything.\n\nThe beginners' course starts a fortnight later; you can put your name down on the evening."],
            vec![ticket("Seat", 0, &[(0, 1)])], date, EventState::Published)?;
        for i in 0..11i64 {
            self.book(
                id,
                &[1 + u32::try_from(i % 3).unwrap_or(0)],
                Stands::Confirmed,
                12 + 10 * i,
            )?;
        }
        Ok(())
    }

    fn queens(&mut self) -> Result<(), DeskError> {
        let date = self.date(self.span(13, time(9, 30, 0, 0), time(16, 0, 0, 0))?, BARN, &[12]);
        let id = self.plain(
            [
                "rearing-queens",
                "Rearing queens",
                "Workshop",
                "Graft, start, finish: three cells of your own by four o'clock.",
                "For those with two summers behind them. Twelve people, so that everybody grafts.",
            ],
            vec![ticket("Member", 7000, &[(0, 1)]), ticket("Visitor", 8500, &[(0, 1)])],
            date,
            EventState::Published,
        )?;
        for (i, wanted) in
            [[2, 0], [0, 1], [1, 0], [0, 2], [3, 0], [0, 1], [1, 1]].iter().enumerate()
        {
            self.book(id, wanted, Stands::Confirmed, 60 + 13 * i64::try_from(i).unwrap_or(0))?;
        }
        Ok(())
    }

    fn forage(&mut self) -> Result<(), DeskError> {
        let date = self.date(self.span(20, time(19, 30, 0, 0), time(21, 0, 0, 0))?, HALL, &[220]);
        let id = self.plain(
            [
                "forage-in-a-dry-summer",
                "Forage in a dry summer",
                "Talk",
                "What flowered when nothing should have: five years of notes from the vale.",
                "With maps, and with seed to take home.",
            ],
            vec![ticket("Seat", 0, &[(0, 1)])],
            date,
            EventState::Published,
        )?;
        for i in 0..34i64 {
            self.book(id, &[1 + u32::try_from(i % 4).unwrap_or(0)], Stands::Confirmed, 6 + 5 * i)?;
        }
        Ok(())
    }

    fn convention(&mut self) -> Result<(), DeskError> {
        let span = self.span(59, time(9, 0, 0, 0), time(18, 0, 0, 0))?;
        let date = self.date(span, HALL, &[300]);
        let early = Some(Early { minor: 5000, until: self.midnight(20)? });
        let id = self.plain(
            ["vale-convention", "The vale convention", "Yearly convention",
             "One day, eleven talks, and every beekeeper between the two rivers.",
             "The programme follows in the new year. Lunch and coffee are in the price; so is the argument about varroa."],
            vec![ticket("Member", 4500, &[(0, 1)]),
                 NewTicketType { early, ..ticket("Visitor", 6000, &[(0, 1)]) }], date, EventState::Published)?;
        for i in 0..42i64 {
            let n = 1 + u32::try_from(i % 3).unwrap_or(0);
            self.book(
                id,
                &[n, u32::try_from(i % 2).unwrap_or(0) * n],
                Stands::Confirmed,
                10 + 7 * i,
            )?;
        }
        self.book(id, &[0, 2], Stands::ToPay(90), 6)?;
        Ok(())
    }

    fn inspection(&mut self) -> Result<(), DeskError> {
        let orchard = ("Ostrel apiary", "Orchard Road, Ostrel", "", "", "Dilys Llewellyn");
        let date = self.date(self.span(6, time(13, 0, 0, 0), time(16, 0, 0, 0))?, orchard, &[9]);
        let id = self.plain(
            [
                "a-hive-inspection",
                "A hive inspection, start to end",
                "Inspection",
                "Stand beside an inspector while she reads nine hives aloud.",
                "You hear what she sees and why she writes what she writes.",
            ],
            vec![ticket("Place", 2000, &[(0, 1)])],
            date,
            EventState::Published,
        )?;
        for (i, n) in [2, 1, 3, 2].into_iter().enumerate() {
            self.book(id, &[n], Stands::Confirmed, 15 + 21 * i64::try_from(i).unwrap_or(0))?;
        }
        Ok(())
    }

    fn branch(&mut self) -> Result<(), DeskError> {
        let chapel =
            ("Lower Ostrel chapel room", "Ford Street, Lower Ostrel", "", "", "Rory Quinn");
        let date = self.date(self.span(8, time(18, 30, 0, 0), time(20, 0, 0, 0))?, chapel, &[30]);
        let id = self.plain(
            [
                "branch-meeting-lower-ostrel",
                "Branch meeting, Lower Ostrel",
                "Branch meeting",
                "Oxalic acid: who, when and how much. Then tea.",
                "For members of the branch and their neighbours.",
            ],
            vec![ticket("Seat", 0, &[(0, 1)])],
            date,
            EventState::Published,
        )?;
        for hours in [7, 28, 50] {
            self.book(id, &[1], Stands::Confirmed, hours)?;
        }
        Ok(())
    }

    fn heather(&mut self) -> Result<(), DeskError> {
        let date = self.date(self.span(-24, time(10, 0, 0, 0), time(13, 0, 0, 0))?, BARN, &[16]);
        let id = self.plain(
            [
                "pressing-heather-honey",
                "Pressing heather honey",
                "Workshop",
                "Heather honey does not run. We make it.",
                "With the old press and the new one.",
            ],
            vec![ticket("Place", 1200, &[(0, 1)])],
            date,
            EventState::Published,
        )?;
        for i in 0..7i64 {
            self.book(
                id,
                &[1 + u32::try_from(i % 2).unwrap_or(0)],
                Stands::Confirmed,
                24 * 26 + 9 * i,
            )?;
        }
        Ok(())
    }

    fn mead(&mut self) -> Result<(), DeskError> {
        let date = self.date(self.span(40, time(18, 0, 0, 0), time(21, 0, 0, 0))?, BARN, &[20]);
        self.plain(
            [
                "mead-and-how-not-to",
                "Mead, and how not to",
                "Workshop",
                "Three ways to spoil good honey, and one not to.",
                "Still being planned.",
            ],
            vec![ticket("Place", 1800, &[(0, 1)])],
            date,
            EventState::Draft,
        )?;
        Ok(())
    }
}

/// Name, address, directions, room, hosts.
type Venue = (&'static str, &'static str, &'static str, &'static str, &'static str);

const BARN: Venue = (
    "Millrace Barn",
    "3 Weir Lane, Ostrel",
    "Bus 12 to Weir Lane; the yard has room for bicycles.",
    "long room",
    "Tobias Wren",
);
const HALL: Venue = (
    "Ostrel Guildhall",
    "Market Square 1, Ostrel",
    "Entrance from the square; step-free.",
    "great hall",
    "",
);
