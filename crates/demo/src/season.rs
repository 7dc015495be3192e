//! The rest of the season: a course, weekly evenings, slots, a convention's sessions, a
//! talk online, something called off, and clashes to be found.

use jiff::civil::{Time, Weekday, time};
use jiff::{SignedDuration, ToSpan};
use matricle_core::booking::Move;
use matricle_core::dates::recurrence::{Ends, Every, Rule};
use matricle_core::dates::slots::Opening;
use matricle_core::door::Door;
use matricle_core::people::staff::Right;
use matricle_core::{PersonId, RoomId, TagId, TaxRateId, VenueId};
use matricle_store::door::AtDoors;
use matricle_store::events::{Format, NewSession, SlotPlan};
use matricle_store::places::{self, Host, Room, Tag, TaxRate};

use super::{
    BARN, DeskError, EventState, HALL, NewDate, NewEvent, NewTicketType, STAFF, Span, Stands,
    Venue, World, ZONE, bookings, door, events, one_of, people, question, ticket,
};
use matricle_desk::within::{With, make};

const ORCHARD: Venue =
    ("Ostrel apiary", "Orchard Road, Ostrel", "Follow the yellow arrows from the church.", "", "");

impl World<'_> {
    /// Venues with counted rooms, tags, tax rates, opening hours.
    pub(super) fn house(&mut self) -> Result<(), DeskError> {
        let tx = self.tx;
        for (name, slug, description) in [
            ("Beginners", "beginners", "For those who do not keep bees yet, or only just."),
            ("Hands-on", "hands-on", "You go home with sticky fingers."),
            ("Talks", "talks", "Somebody who knows tells, then answers."),
            ("Families", "families", "Children from eight years on are welcome."),
        ] {
            let tag = Tag {
                id: TagId(0),
                name: name.into(),
                slug: slug.into(),
                description: description.into(),
                retired_at: None,
            };
            places::save_tag(tx, &tag)?;
        }
        for (name, basis) in [("Standard", 2300), ("Courses", 900), ("None", 0)] {
            let rate = TaxRate {
                id: TaxRateId(0),
                name: name.into(),
                basis,
                added: false,
                retired_at: None,
            };
            places::save_tax_rate(tx, &rate)?;
        }
        for (venue, rooms) in [
            (BARN, &[("long room", 45), ("press room", 16)][..]),
            (HALL, &[("great hall", 300), ("upper room", 60), ("map room", 28)][..]),
        ] {
            let (name, address, directions, ..) = venue;
            let id = places::save_venue(
                tx,
                &places::Venue {
                    id: VenueId(0),
                    name: name.into(),
                    address: address.into(),
                    directions: directions.into(),
                    accessible: name == HALL.0,
                    retired_at: None,
                },
            )?;
            for (room, seats) in rooms {
                places::save_room(
                    tx,
                    &Room {
                        id: RoomId(0),
                        venue: VenueId(id),
                        name: (*room).into(),
                        seats: Some(*seats),
                        accessible: name == HALL.0 && *room != "upper room",
                        retired_at: None,
                    },
                )?;
            }
        }
        let owen = people::by_email(tx, STAFF[3].1)?.map(|(staff, _)| staff.id);
        for (name, about, person) in [
            ("Owen Pryce", "Reads frames aloud, and has never been in a hurry.", owen),
            ("Marit Solheim", "Forty summers with the same queen line.", None::<PersonId>),
            ("Tobias Wren", "Wax, wicks and the old press.", None),
        ] {
            places::save_host(
                tx,
                &Host {
                    id: matricle_core::HostId(0),
                    name: name.into(),
                    about: about.into(),
                    person,
                    retired_at: None,
                },
            )?;
        }
        let open = |weekday, opens: Time, closes: Time| Opening { weekday, opens, closes };
        let hours = [
            open(Weekday::Wednesday, time(15, 0, 0, 0), time(18, 20, 0, 0)),
            open(Weekday::Saturday, time(9, 0, 0, 0), time(12, 20, 0, 0)),
        ];
        Ok(places::set_opening_hours(tx, &hours)?)
    }

    pub(super) fn season(&mut self) -> Result<(), DeskError> {
        self.course()?;
        self.weekly_candles()?;
        self.inspection_slots()?;
        self.online_talk()?;
        self.spring_clash()?;
        self.convention_sessions()?;
        self.called_off()?;
        let members = ["marit.solheim@post.example", "ezra.quill@post.example", STAFF[0].1];
        people::set_members(self.tx, &members.map(String::from), self.now)?;
        self.tag_all()
    }

    /// Dates of a rule from so many days from today on; what a clock change forbids is left out.
    fn run(&self, days: i64, rule: &Rule, from: Time, to: Time) -> Vec<Span> {
        let first = self.today().date().saturating_add(days.days());
        let spans =
            |d: &jiff::civil::Date| Span::new(d.to_datetime(from), d.to_datetime(to), ZONE).ok();
        rule.days(first).map_or_else(|_| Vec::new(), |days| days.iter().filter_map(spans).collect())
    }

    fn course(&mut self) -> Result<(), DeskError> {
        let rule =
            Rule { every: Every::Week(vec![Weekday::Tuesday]), interval: 1, ends: Ends::Count(6) };
        let mut dates: Vec<NewDate> = Vec::new();
        for span in self.run(16, &rule, time(19, 0, 0, 0), time(21, 30, 0, 0)) {
            let mut date = self.date(span, HALL, &[24]);
            date.room = "upper room".into();
            date.hosts = vec!["Marit Solheim".into(), "Owen Pryce".into()];
            date.margins = (30, 20);
            dates.push(date);
        }
        let plan = NewEvent {
            slug: "beginners-course".into(),
            title: "The beginners' course".into(),
            kind: "Course in six evenings".into(),
            lead: "From the empty box to the first honey: six Tuesdays, one booking.".into(),
            description: "Bees, box, frame; the year of a colony; swarms; food; mites; honey. Each evening ends \
                at a hive, or at the photograph of one when it rains.\n\nOne booking covers all six evenings. Whoever \
                joins late pays for the evenings that are left.".into(),
            bring: "A notebook; veils are lent".into(),
            refund_note: "Cancel up to 14 days before for a full refund, up to 3 days before for half.".into(),
            state: EventState::Published,
            hold_minutes: 15,
            course: true,
            latecomers: true,
            after_note: "A list of books to read, and not to read, comes a week before the first evening.".into(),
            pools: vec!["seats".into()],
            tickets: vec![
                NewTicketType { tax: Some("Courses".into()), member: Some(9600), ..ticket("Place", 12_000, &[(0, 1)]) },
                NewTicketType {
                    note: "Two who share a hive afterwards".into(),
                    tax: Some("Courses".into()),
                    ..ticket("Pair", 20_000, &[(0, 2)])
                },
            ],
            questions: vec![
                question("Have you ever opened a hive?", one_of(&["never", "with somebody", "my own"]), true),
            ],
            dates,
            ..NewEvent::default()
        };
        events::save_pattern(self.tx, "Course in six evenings", &plan, self.now)?;
        let (_, dates) = self.event(plan)?;
        for i in 0..7i64 {
            let wanted = if i % 3 == 2 { [0, 1] } else { [1, 0] };
            self.book(dates[0], &wanted, Stands::Confirmed, 20 + 19 * i)?;
        }
        self.book(dates[0], &[1, 0], Stands::ToPay(60), 12)?;
        Ok(())
    }

    fn weekly_candles(&mut self) -> Result<(), DeskError> {
        let rule =
            Rule { every: Every::Week(vec![Weekday::Thursday]), interval: 1, ends: Ends::Count(8) };
        let dates: Vec<NewDate> = self
            .run(2, &rule, time(18, 30, 0, 0), time(20, 30, 0, 0))
            .into_iter()
            .map(|span| {
                let mut date = self.date(span, BARN, &[12]);
                date.room = "press room".into();
                date
            })
            .collect();
        let (_, dates) = self.event(NewEvent {
            slug: "thursday-dipping".into(),
            title: "Thursday dipping".into(),
            kind: "Candle-making, weekly".into(),
            lead: "Every Thursday the pot is hot: dip as many as your arm allows.".into(),
            description:
                "Come when you like; each evening is booked by itself, and paid singly or \
                with a stamp of a dipping card."
                    .into(),
            refund_note:
                "Cancel up to 14 days before for a full refund, up to 3 days before for half."
                    .into(),
            state: EventState::Published,
            hold_minutes: 15,
            pools: vec!["seats".into()],
            tickets: vec![NewTicketType {
                group: Some(matricle_core::money::price::Group { from: 4, minor: 650 }),
                stamps: Some(1),
                tax: Some("Standard".into()),
                ..ticket("Seat", 800, &[(0, 1)])
            }],
            dates,
            ..NewEvent::default()
        })?;
        for (i, date) in (0i64..).zip(dates.iter().take(4)) {
            for n in 0..(5 - i) {
                let seats = 1 + u32::try_from(n % 3).unwrap_or(0);
                self.book(*date, &[seats], Stands::Confirmed, 9 + 7 * n + i)?;
            }
        }
        Ok(())
    }

    fn inspection_slots(&mut self) -> Result<(), DeskError> {
        let (event, _) = self.event(NewEvent {
            slug: "bring-us-a-frame".into(),
            title: "Bring us a frame".into(),
            kind: "Inspection by appointment".into(),
            lead: "Forty minutes with an inspector and one frame of yours, looked at properly.".into(),
            description: "Two inspectors sit side by side. Bring the frame in a closed box; we have the light \
                and the lens.".into(),
            refund_note: "Cancel up to 14 days before for a full refund, up to 3 days before for half.".into(),
            state: EventState::Published,
            hold_minutes: 10,
            button: "Keep this appointment".into(),
            pools: vec!["desks".into()],
            tickets: vec![NewTicketType { most: 1, ..ticket("Appointment", 1500, &[(0, 1)]) }],
            questions: vec![question("What have you seen on the frame?", matricle_core::booking::details::Answering::LongText, false)],
            slots: Some(SlotPlan {
                minutes: 40,
                pause: 10,
                desks: 2,
                notice_hours: 18,
                ahead_days: 35,
                venue: ORCHARD.0.into(),
                room: String::new(),
            }),
            ..NewEvent::default()
        })?;
        let today = self.today().date();
        matricle_desk::planning::slots::cut_again(
            self.tx,
            event,
            today,
            today.saturating_add(35.days()),
            self.now,
        )?;
        let slots = events::dates_of(self.tx, event)?;
        let soon = self.now + SignedDuration::from_hours(20);
        let bookable: Vec<_> =
            slots.iter().filter(|s| s.span.starts_at > soon).map(|s| s.id).take(14).collect();
        for (i, date) in (0i64..).zip(bookable) {
            for n in 0..[2, 1, 0, 2, 1, 1, 0][usize::try_from(i % 7).unwrap_or(0)] {
                // Made within the notice that slots ask for.
                self.book(date, &[1], Stands::Confirmed, 1 + n)?;
            }
        }
        Ok(())
    }

    fn online_talk(&mut self) -> Result<(), DeskError> {
        let date = NewDate {
            venue: "Online".into(),
            ..self.date(
                self.span(9, time(19, 30, 0, 0), time(20, 45, 0, 0))?,
                ("Online", "", "", "", "Dilys Llewellyn"),
                &[100],
            )
        };
        let (_, dates) = self.event(NewEvent {
            slug: "what-the-frost-does".into(),
            title: "What the frost does".into(),
            kind: "Talk online".into(),
            lead: "A colony in January, measured every ten minutes for nine winters.".into(),
            description:
                "With curves, and an hour for questions. The link comes with your confirmation."
                    .into(),
            state: EventState::Published,
            hold_minutes: 15,
            format: Format::Online,
            online_link: "https://rooms.example/ostrel-frost".into(),
            online_passcode: "smoker".into(),
            pools: vec!["seats".into()],
            tickets: vec![ticket("Seat", 0, &[(0, 1)])],
            dates: vec![date],
            ..NewEvent::default()
        })?;
        for i in 0..9i64 {
            self.book(dates[0], &[1], Stands::Confirmed, 8 + 6 * i)?;
        }
        Ok(())
    }

    /// In the long room on the day of the queens, with the microscopes of the pollen day,
    /// and led by somebody who is busy: clashes to be found.
    fn spring_clash(&mut self) -> Result<(), DeskError> {
        let wax = self.date(self.span(13, time(15, 0, 0, 0), time(17, 30, 0, 0))?, BARN, &[16]);
        self.plain(
            [
                "wax-for-the-year",
                "Wax for the year",
                "Workshop",
                "Melting, cleaning and pressing foundations before the season.",
                "Bring what you have scraped together.",
            ],
            vec![ticket("Place", 1000, &[(0, 1)])],
            wax,
            EventState::Published,
        )?;
        let mut nosema =
            self.date(self.span(17, time(14, 0, 0, 0), time(16, 0, 0, 0))?, HALL, &[12, 8]);
        nosema.room = "map room".into();
        nosema.hosts = vec!["Tobias Wren".into()];
        self.event(NewEvent {
            slug: "spores-by-eye".into(),
            title: "Spores by eye".into(),
            kind: "Microscopy evening".into(),
            lead: "Count what you cannot see, and be sure.".into(),
            description: "Still being planned.".into(),
            state: EventState::Draft,
            hold_minutes: 15,
            pools: vec!["seats".into(), "microscopes".into()],
            tickets: vec![ticket("Place", 1200, &[(0, 1), (1, 1)])],
            dates: vec![nosema],
            ..NewEvent::default()
        })?;
        Ok(())
    }

    #[expect(clippy::too_many_lines, reason = "one session after the other")]
    fn convention_sessions(&mut self) -> Result<(), DeskError> {
        let event = events::by_slug(self.tx, "vale-convention")?.ok_or(DeskError::NotFound)?;
        let Some(date) = events::dates_of(self.tx, event.id)?.into_iter().next() else {
            return Ok(());
        };
        let day = date.span.starts.date();
        let all = [
            (
                "Welcome, and the year in numbers",
                "",
                "great hall",
                "Marit Solheim",
                (9, 30),
                (10, 15),
                None,
            ),
            (
                "Mites: what we did wrong",
                "Health",
                "great hall",
                "Dilys Llewellyn",
                (10, 30),
                (11, 30),
                None,
            ),
            (
                "Grafting under a lamp",
                "Hands-on",
                "map room",
                "Owen Pryce",
                (10, 30),
                (12, 0),
                Some(14),
            ),
            ("Labels that may be read", "Honey", "upper room", "", (10, 30), (11, 15), Some(50)),
            (
                "Heather, lime, ivy: tasting",
                "Honey",
                "upper room",
                "Tobias Wren",
                (11, 30),
                (12, 15),
                Some(30),
            ),
            ("The argument about varroa", "Health", "great hall", "", (13, 30), (14, 45), None),
            (
                "Swarm in a bucket",
                "Hands-on",
                "map room",
                "Owen Pryce",
                (13, 30),
                (14, 15),
                Some(20),
            ),
            (
                "Splitting without tears",
                "Hands-on",
                "map room",
                "Marit Solheim",
                (14, 30),
                (15, 45),
                Some(20),
            ),
            (
                "Mead: a sober view",
                "Honey",
                "upper room",
                "Tobias Wren",
                (14, 0),
                (15, 0),
                Some(40),
            ),
            (
                "A hive in the school yard",
                "Beginners",
                "upper room",
                "",
                (15, 15),
                (16, 0),
                Some(50),
            ),
            ("Questions to everybody", "", "great hall", "", (16, 15), (17, 15), None),
        ];
        for (title, track, room, host, from, until, seats) in all {
            let at = |(h, m)| day.at(h, m, 0, 0);
            let Ok(span) = Span::new(at(from), at(until), ZONE) else { continue };
            matricle_store::sessions::add(
                self.tx,
                date.id,
                &NewSession {
                    title: title.into(),
                    track: track.into(),
                    room: room.into(),
                    host: host.into(),
                    span,
                    seats,
                    sign_up: seats.is_some(),
                },
            )?;
        }
        // Each room has a door of its own, beside the one of the day.
        let door = |name: &str, room: &str| Door {
            name: name.into(),
            tickets: Vec::new(),
            room: room.into(),
        };
        let doors = vec![
            door("main door", ""),
            door("great hall door", "great hall"),
            door("map room door", "map room"),
            door("upper room door", "upper room"),
        ];
        let at = AtDoors {
            again: true,
            most_inside: None,
            give_up_minutes: None,
            free_after_minutes: 5,
            badge_sheet: String::new(),
            doors,
        };
        door::set_doors(self.tx, date.id, &at)?;
        let sessions = matricle_store::sessions::of_date(self.tx, date.id)?;
        let people = door::by_words(self.tx, date.id, "", 60)?;
        for (i, person) in people.iter().enumerate() {
            let open: Vec<_> = sessions.iter().filter(|s| s.facts.sign_up).collect();
            let Some(one) = open.get(i % open.len()) else { continue };
            if one.facts.seats.is_some_and(|n| i / open.len() < n as usize) {
                matricle_store::sessions::sign_up(
                    self.tx,
                    person.facts.attendee,
                    &[one.facts.id],
                    &[],
                )?;
            }
        }
        Ok(events::changed(self.tx, event.id, self.now)?)
    }

    fn called_off(&mut self) -> Result<(), DeskError> {
        let date = self.date(self.span(7, time(20, 0, 0, 0), time(22, 0, 0, 0))?, ORCHARD, &[20]);
        let id = self.plain(
            [
                "the-hive-at-night",
                "The hive at night",
                "Evening walk",
                "With red lamps and quiet shoes.",
                "We stand, we listen, we go home.",
            ],
            vec![ticket("Place", 500, &[(0, 1)])],
            date,
            EventState::Published,
        )?;
        let reason = "The ford is under water, and will be for weeks.";
        let mut booked = Vec::new();
        for hours in [60, 81, 95] {
            booked.push(self.book(id, &[1], Stands::Confirmed, hours)?);
        }
        let (mut event, _) = events::date_by_id(self.tx, id)?.ok_or(DeskError::NotFound)?;
        let at = self.ago(3);
        events::call_off(self.tx, id, reason)?;
        event.called_off = reason.into();
        events::set(self.tx, &event, at)?;
        events::set_state(self.tx, event.id, EventState::CalledOff)?;
        for reference in booked {
            let Some(b) = bookings::by_reference(self.tx, reference)? else { continue };
            let what = format!("called the date off: {reason}");
            let turn = self.turn(self.acting(0, Right::PlanEvents)?, at);
            make(self.tx, &b, Move::CallOff, &turn, With { note: reason, ..With::said(&what) })?;
            self.sent(b.id, at)?;
        }
        let what = format!("called the event off: {reason}");
        let turn = self.turn(self.acting(0, Right::PlanEvents)?, at);
        matricle_desk::planning::dates::log(self.tx, event.id, &turn, &what)
    }

    fn tag_all(&mut self) -> Result<(), DeskError> {
        for (slug, tags) in [
            ("candles-from-our-own-wax", &["hands-on", "families"][..]),
            ("pollen-under-the-lens", &["hands-on"]),
            ("apiary-open-day", &["families", "beginners"]),
            ("is-beekeeping-for-me", &["beginners", "talks"]),
            ("rearing-queens", &["hands-on"]),
            ("forage-in-a-dry-summer", &["talks"]),
            ("vale-convention", &["talks", "hands-on"]),
            ("beginners-course", &["beginners", "hands-on"]),
            ("thursday-dipping", &["hands-on", "families"]),
            ("what-the-frost-does", &["talks"]),
            ("bring-us-a-frame", &["beginners"]),
        ] {
            if let Some(event) = events::by_slug(self.tx, slug)? {
                let tags: Vec<String> = tags.iter().map(|t| (*t).into()).collect();
                events::set_tags(self.tx, event.id, &tags)?;
                events::index(self.tx, event.id)?;
            }
        }
        Ok(())
    }
}
