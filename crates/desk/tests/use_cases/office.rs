//! What staff do, and what each role may.

use jiff::SignedDuration;
use matricle_core::booking::State;
use matricle_core::door::Verdict;
use matricle_core::forms::form::Form;
use matricle_core::forms::quick::{Field, Format, Problem, Typed};
use matricle_core::people::staff::Role;
use matricle_core::words::codes::Reference;
use matricle_core::{DateId, EventId};
use matricle_desk::bookings::cancel;
use matricle_desk::bookings::cancel::By;
use matricle_desk::bookings::{change, decide, taking, waiting};
use matricle_desk::door;
use matricle_desk::door::Device;
use matricle_desk::door::Shown;
use matricle_desk::money::refunds;
use matricle_desk::people::asking::Asking;
use matricle_desk::planning::dates;
use matricle_desk::planning::dates::Scope;
use matricle_desk::planning::{
    asking, board, events, patterns, plan, questions, sessions, sheet, slots, tickets,
};
use matricle_desk::{DeskError, house, office, programme};
use matricle_store::bookings::Filter;
use matricle_store::events::EventState;
use matricle_store::people::Staff;

use crate::world::{CANDLES, FREE, look, world};

fn typed(title: &str) -> Typed {
    Typed {
        title: title.into(),
        kind: "Talk".into(),
        day: "2026-12-20".into(),
        from: "19:00".into(),
        until: "21:00".into(),
        place: "Millrace Barn".into(),
        seats: "12".into(),
        price: "7.50".into(),
        ..Typed::default()
    }
}

/// Every use case of staff, tried by every role.
#[tokio::test(flavor = "multi_thread")]
async fn each_role_may_what_the_table_says_and_nothing_else() {
    let w = world().await;
    let (ilse, date, event) = (w.staff(0).await, DateId(1), EventId(1));
    let mut rows = Vec::new();
    for role in Role::ALL {
        let who = Staff { role, ..ilse.clone() };
        let refused = |outcome: Result<(), DeskError>| match outcome {
            Err(DeskError::Right(refusal)) => {
                assert_eq!(refusal.role, role);
                "no"
            }
            _ => "yes",
        };
        let desk = &w.desk;
        let shown = Shown::Text("BCDF".into());
        let answers = [
            ("today", refused(office::today(desk, &who).await.map(drop))),
            ("list events", refused(office::events(desk, &who).await.map(drop))),
            ("see an event", refused(office::event(desk, &who, event).await.map(drop))),
            ("follow a date", refused(office::date(desk, &who, date).await.map(drop))),
            (
                "list bookings",
                refused(office::bookings(desk, &who, Filter::default(), false).await.map(drop)),
            ),
            (
                "see a booking",
                refused(office::booking(desk, &who, Reference::from_random(1)).await.map(drop)),
            ),
            (
                "cancel a booking",
                refused(
                    cancel::cancel(
                        desk,
                        By::Staff(who.clone(), None),
                        Reference::from_random(1),
                        Vec::new(),
                    )
                    .await
                    .map(drop),
                ),
            ),
            ("begin an event", refused(events::wanting(desk, &who).await.map(drop))),
            (
                "make an event",
                refused(events::quick(desk, &who, Typed::default(), true).await.map(drop)),
            ),
            ("publish an event", refused(events::show_in_programme(desk, &who, event, true).await)),
            ("today's doors", refused(door::todays(desk, &who).await.map(drop))),
            ("see a door", refused(door::board(desk, &who, date).await.map(drop))),
            ("see scans", refused(door::log(desk, &who, date).await.map(drop))),
            (
                "look up a name",
                refused(door::names(desk, &who, (date, "gate"), "a").await.map(drop)),
            ),
            (
                "scan",
                refused(
                    door::show(desk, &who, date, Device::at("d", &format!("key-{role:?}")), shown)
                        .await
                        .map(drop),
                ),
            ),
            (
                "see the board",
                refused(board::board(desk, &who, board::Reach::Day, None).await.map(drop)),
            ),
            ("see the house", refused(house::all(desk, &who).await.map(drop))),
            (
                "change the house",
                refused(
                    house::things::save(desk, &who, house::things::Thing::Tag, 0, Form::default())
                        .await,
                ),
            ),
            ("change the hours", refused(house::set_hours(desk, &who, Form::default()).await)),
            (
                "close a day",
                refused(slots::close_day(desk, &who, Form::default(), true).await.map(drop)),
            ),
            ("give a role", refused(house::give_role(desk, &who, Form::default()).await)),
            (
                "list members",
                refused(house::set_members(desk, &who, Form::default()).await.map(drop)),
            ),
            ("see own dates", refused(office::own_dates(desk, &who).await.map(drop))),
            (
                "reword",
                refused(
                    matricle_desk::planning::wording::keep(desk, &who, event, Form::default())
                        .await,
                ),
            ),
            (
                "change tickets",
                refused(tickets::save_ticket(desk, &who, event, None, Form::default()).await),
            ),
            (
                "ask questions",
                refused(questions::save_question(desk, &who, event, None, Form::default()).await),
            ),
            (
                "who may book",
                refused(
                    matricle_desk::planning::who::keep(desk, &who, event, Form::default())
                        .await
                        .map(drop),
                ),
            ),
            ("see who is told", refused(sheet::told(desk, &who, event).await.map(drop))),
            ("add dates", refused(dates::add(desk, &who, event, Form::default()).await.map(drop))),
            (
                "change dates",
                refused(
                    dates::change(desk, &who, date, Scope::One, Form::default(), false)
                        .await
                        .map(drop),
                ),
            ),
            (
                "call off",
                refused(dates::call_off(desk, &who, event, None, String::new()).await.map(drop)),
            ),
            (
                "plan sessions",
                refused(sessions::add(desk, &who, date, Form::default(), false).await),
            ),
            ("invite", refused(asking::send(desk, &who, event).await.map(drop))),
            ("plan slots", refused(slots::plan(desk, &who, event, Form::default()).await)),
            ("see patterns", refused(patterns::all(desk, &who).await.map(drop))),
            (
                "say yes",
                refused(decide::approve(desk, &who, Reference::from_random(1), None).await),
            ),
            (
                "take money",
                refused(
                    taking::take_money(desk, &who, Reference::from_random(1), Form::default())
                        .await,
                ),
            ),
            (
                "give an amount back",
                refused(
                    taking::give_back(desk, &who, Reference::from_random(1), Form::default())
                        .await
                        .map(drop),
                ),
            ),
            ("give back", refused(refunds::given(desk, &who, "1".into()).await)),
            (
                "set a price",
                refused(
                    change::set_price(desk, &who, Reference::from_random(1), Form::default()).await,
                ),
            ),
            (
                "note",
                refused(change::note(desk, &who, Reference::from_random(1), Form::default()).await),
            ),
            (
                "bring back",
                refused(decide::bring_back(desk, &who, Reference::from_random(1)).await),
            ),
            ("out of turn", refused(waiting::out_of_turn(desk, &who, 1, Form::default()).await)),
            ("undo a scan", refused(door::undo(desk, &who, date, 0).await.map(drop))),
        ];
        for (what, answer) in answers {
            rows.push(format!("{:<16} {what:<17} {answer}", role.word()));
        }
    }
    insta::assert_snapshot!(rows.join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_event_of_the_quick_form_is_whole_and_its_address_its_own() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let Err(DeskError::Quick(problems)) =
        events::quick(&w.desk, &ilse, Typed::default(), true).await
    else {
        panic!("refused")
    };
    assert_eq!(problems.first(), Some(&(Field::Title, Problem::Missing)));
    let mut slugs = Vec::new();
    for publish in [true, true, false] {
        let id = events::quick(&w.desk, &ilse, typed("Mites & more"), publish).await.unwrap();
        let sheet = office::event(&w.desk, &ilse, id).await.unwrap();
        slugs.push((sheet.event.slug.clone(), sheet.event.state));
        let date = &sheet.dates[0];
        assert_eq!(
            (date.main_pool().capacity, date.date.address.as_str()),
            (12, "3 Weir Lane, Ostrel")
        );
        assert_eq!(date.offer.offers[0].price.minor, 750);
    }
    let expected = [
        ("mites-more".to_owned(), EventState::Published),
        ("mites-more-2".to_owned(), EventState::Published),
        ("mites-more-3".to_owned(), EventState::Draft),
    ];
    assert_eq!(slugs, expected);
    assert!(programme::event(&w.desk, look("mites-more-2")).await.is_ok());
    assert!(matches!(
        programme::event(&w.desk, look("mites-more-3")).await,
        Err(DeskError::NotFound)
    ));
    // A room out of the list is that room: it has so many seats, and is seen used twice.
    let in_press_room =
        Typed { place: "millrace barn, Press room".into(), seats: "17".into(), ..typed("Press") };
    let crowd = events::quick(&w.desk, &ilse, in_press_room.clone(), true).await;
    let Err(DeskError::Quick(problems)) = crowd else { panic!("it seats sixteen") };
    assert_eq!(problems, [(Field::Seats, Problem::MoreThanRoom { most: 16 })]);
    let in_press_room = Typed { seats: "16".into(), ..in_press_room };
    for clashing in [false, true] {
        let id = events::quick(&w.desk, &ilse, in_press_room.clone(), true).await.unwrap();
        let sheet = office::event(&w.desk, &ilse, id).await.unwrap();
        let date = &sheet.dates[0];
        assert_eq!(
            (date.date.place(), date.main_pool().capacity),
            ("Millrace Barn, press room".into(), 16)
        );
        assert_eq!(!sheet.clashes.is_empty(), clashing);
    }
    // Another place is its name, then where it is; another room of a known one is a room of it.
    let place_of = async |place: &str, part| {
        let typed = Typed { place: place.into(), part, places: "50".into(), ..typed("Loft") };
        let id = events::quick(&w.desk, &ilse, typed, true).await.unwrap();
        let sheet = office::event(&w.desk, &ilse, id).await.unwrap();
        let date = &sheet.dates[0];
        let pools: Vec<u32> = date.offer.pools.iter().map(|p| p.capacity).collect();
        let rows = sheet::settings(&w.desk, &ilse, id).await.unwrap().tickets;
        let online = rows.iter().filter(|t| t.plan.online).count();
        (date.date.place(), date.date.address.clone(), pools, online)
    };
    let mill = ("Old Mill".to_owned(), "3 Mill Lane, Ostrel".to_owned(), vec![12], 0);
    assert_eq!(place_of("Old Mill, 3 Mill Lane, Ostrel", Format::InPerson).await, mill);
    assert_eq!(place_of("old mill, 3 Mill Lane", Format::InPerson).await, mill);
    let loft = place_of("Millrace Barn, Loft", Format::Both).await;
    assert_eq!((loft.0.as_str(), loft.2, loft.3), ("Millrace Barn, Loft", vec![12, 50], 1));
    assert_eq!(place_of("", Format::Online).await.0, "Online");
    let reference = w.book("mites-more", &[2]).await;
    assert_eq!(w.sheet(reference).await.booking.total.minor, 1500);
    assert_eq!(w.faults().await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn an_event_goes_into_the_programme_and_back_until_somebody_books() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let id = events::quick(&w.desk, &ilse, typed("Wax"), false).await.unwrap();
    let show = |shown| events::show_in_programme(&w.desk, &ilse, id, shown);
    let state = async || office::event(&w.desk, &ilse, id).await.unwrap().event.state;
    show(true).await.unwrap();
    show(true).await.unwrap();
    assert_eq!(state().await, EventState::Published);
    show(false).await.unwrap();
    assert_eq!(state().await, EventState::Draft);
    show(true).await.unwrap();
    // Seats that somebody keeps are no booking yet, but then it is gone: they are told so.
    let kept = w.keep("wax", &[1]).await.unwrap();
    show(false).await.unwrap();
    let draft = w.draft(kept).await;
    w.pass(16);
    let late =
        matricle_desk::bookings::submit::submit(&w.desk, &Asking::default(), kept, draft).await;
    assert!(matches!(late, Err(DeskError::NotFound)), "{late:?}");
    show(true).await.unwrap();
    w.book("wax", &[1]).await;
    assert!(matches!(show(false).await, Err(DeskError::Booked { bookings: 1 })));
    assert!(matches!(
        events::show_in_programme(&w.desk, &ilse, EventId(999), true).await,
        Err(DeskError::NotFound)
    ));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_door_of_a_date_is_there_all_day_and_while_it_lasts() {
    let w = world().await;
    let bram = w.staff(1).await;
    let doors = async || {
        let dates = door::todays(&w.desk, &bram).await.unwrap();
        dates.into_iter().map(|d| d.event.slug).collect::<Vec<_>>()
    };
    // Nobody stands at a door of the talk that happens online.
    assert_eq!(doors().await, [CANDLES]);
    w.desk.clock.advance(SignedDuration::from_hours(-17));
    assert_eq!(doors().await, [CANDLES], "from the first minute of its day");
    w.desk.clock.advance(SignedDuration::from_hours(23));
    assert_eq!(doors().await, [CANDLES], "to the last");
    w.desk.clock.advance(SignedDuration::from_hours(12));
    assert!(doors().await.is_empty());
    let sunday = SignedDuration::from_hours(24 * 3 - 11);
    w.desk.clock.advance(sunday);
    assert_eq!(doors().await, [FREE]);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_board_counts_in_and_tells_the_pace() {
    let w = world().await;
    let bram = w.staff(1).await;
    let date = DateId(1);
    let before = door::board(&w.desk, &bram, date).await.unwrap();
    assert_eq!((before.inside, before.expected, before.lately), (6, 18, 5));
    let names = door::names(&w.desk, &bram, (date, "gate"), "").await.unwrap();
    let expected: Vec<_> = names.iter().filter(|n| n.verdict == Verdict::ComeIn).collect();
    assert_eq!(expected.len(), 12);
    for (i, name) in expected.iter().enumerate() {
        let shown = Shown::Attendee(name.person.facts.attendee);
        let key = format!("board-{i:04}");
        let outcome =
            door::show(&w.desk, &bram, date, Device::at("gate", &key), shown).await.unwrap();
        // With the ticket of a pair the other one is in by then.
        assert!(["come in", "already in"].contains(&outcome.told.verdict.word()));
    }
    let after = door::board(&w.desk, &bram, date).await.unwrap();
    assert_eq!((after.inside, after.expected, after.all_in_by), (18, 18, None));
    let log = door::log(&w.desk, &bram, date).await.unwrap();
    assert_eq!((log.len(), log[0].door.as_str()), (12, "gate"), "the latest twelve, newest first");
    w.pass(6);
    let later = door::board(&w.desk, &bram, date).await.unwrap();
    assert_eq!((later.lately, later.sheet.inside), (0, 18));
    assert_eq!(w.faults().await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn today_lists_what_waits_for_somebody() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let today = office::today(&w.desk, &ilse).await.unwrap();
    assert!(today.dates.iter().all(|d| d.event.state == EventState::Published));
    let first: Vec<&str> = today.dates.iter().take(2).map(|d| d.event.slug.as_str()).collect();
    assert_eq!(first, ["winter-feed-your-questions", CANDLES]);
    assert_eq!(
        today.asking.rows.iter().map(|b| b.booking.state).collect::<Vec<_>>(),
        [State::Requested]
    );
    assert_eq!(today.to_pay.count, 7);
    assert!(
        today.to_pay.rows.iter().all(|b| b.booking.due().minor > 0 && b.booking.deadline.is_some())
    );
    assert_eq!(today.to_give_back.len(), 5);
    let known = |e: &str| e.contains("no such mailbox");
    assert!(today.messages.iter().all(|(m, _)| m.last_error.as_deref().is_some_and(known)));
    // Time to pay runs out by itself; what is over no longer waits for anybody.
    w.pass(60 * 24 * 5);
    w.due().await;
    let later = office::today(&w.desk, &ilse).await.unwrap();
    assert!(later.to_pay.rows.is_empty());
    assert_eq!(w.faults().await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_planned_event_is_published_once_under_its_address() {
    let w = world().await;
    let example =
        plan::EXAMPLE.replace("slug = \"pollen-under-the-lens\"", "slug = \"Pollen again!\"");
    let (id, slug) = plan::publish(&w.desk, &example).await.unwrap();
    assert_eq!(slug, "pollen-again");
    let ilse = w.staff(0).await;
    let sheet = office::event(&w.desk, &ilse, id).await.unwrap();
    assert_eq!(sheet.dates[0].offer.offers.len(), 3);
    assert!(
        matches!(plan::publish(&w.desk, &example).await, Err(DeskError::Store(_))),
        "the address is taken"
    );
    assert!(matches!(plan::publish(&w.desk, "title = 1").await, Err(DeskError::Plan(_))));
    let pair = w.book("pollen-again", &[0, 0, 1]).await;
    let sheet = w.sheet(pair).await;
    assert_eq!((sheet.attendees.len(), sheet.booking.total.minor), (2, 7500));
    assert_eq!(w.free("pollen-again").await, 38);
}
