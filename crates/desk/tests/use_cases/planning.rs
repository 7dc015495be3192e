//! Planning: runs, changes that touch bookings, calling off, courses, slots, sessions,
//! patterns, who may book, test bookings.

use std::collections::BTreeMap;

use jiff::civil::date;
use matricle_core::booking::details::Draft;
use matricle_core::booking::{ChoiceRefusal, State};
use matricle_core::dates::sessions::SignUpRefusal;
use matricle_core::forms::form::{Fault, Form};
use matricle_core::money::price::Buyer;
use matricle_core::people::who::WhoRefusal;
use matricle_core::{DateId, EventId, SessionId};
use matricle_desk::bookings::cancel;
use matricle_desk::bookings::cancel::By;
use matricle_desk::bookings::submit::Outcome;
use matricle_desk::bookings::{decide, hold, whole};
use matricle_desk::bookings::{pay, submit};
use matricle_desk::people::asking::Asking;
use matricle_desk::people::signin;
use matricle_desk::planning::board::Reach;
use matricle_desk::planning::dates;
use matricle_desk::planning::dates::Scope;
use matricle_desk::planning::patterns;
use matricle_desk::planning::patterns::From;
use matricle_desk::planning::{board, questions, sessions, sheet, slots, tickets, trying};
use matricle_desk::programme;
use matricle_desk::programme::{Feed, Looking, Wish};
use matricle_desk::{DeskError, house, office, timers};
use matricle_store::bookings::HeldBy;
use matricle_store::events::{self, EventState};
use matricle_store::people::Staff;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};

use crate::world::{BOOKER, CANDLES, World, look, text_of, world};

fn form(fields: &[(&str, &str)]) -> Form {
    Form::new(fields.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect())
}

async fn id_of(w: &World, slug: &'static str) -> EventId {
    let find = move |c: &matricle_store::Connection| events::by_slug(c, slug);
    w.desk.store.read(find).await.unwrap().unwrap().id
}

async fn dates_of(w: &World, event: EventId) -> Vec<events::Date> {
    w.desk.store.read(move |c| events::dates_of(c, event)).await.unwrap()
}

fn faults(error: DeskError) -> Vec<(String, Fault)> {
    match error {
        DeskError::Form(wrong) => wrong.into_iter().map(|w| (w.field, w.fault)).collect(),
        other => panic!("{other}"),
    }
}

const RUN: [(&str, &str); 9] = [
    ("day", "2027-03-07"),
    ("from", "01:30"),
    ("until", "03:00"),
    ("venue", "Millrace Barn"),
    ("room", "long room"),
    ("hosts", "Tobias Wren, Newly Named"),
    ("pool_0", "12"),
    ("repeat", "week"),
    ("count", "5"),
];

#[tokio::test(flavor = "multi_thread")]
async fn a_run_keeps_wall_time_says_what_the_clocks_forbid_and_is_read_back() {
    let w = world().await;
    let (ilse, event) = (w.staff(0).await, id_of(&w, "mead-and-how-not-to").await);
    let add = |extra: &[(&str, &str)]| form(&[&RUN[..], extra].concat());
    let adding = dates::adding(&w.desk, &ilse, event, add(&[])).await.unwrap();
    let days: Vec<String> = adding.dates.iter().map(|d| d.span.starts.to_string()).collect();
    // On 28 March 2027 the hour from one to two does not exist in Dublin.
    assert_eq!(
        days,
        [
            "2027-03-07T01:30:00",
            "2027-03-14T01:30:00",
            "2027-03-21T01:30:00",
            "2027-04-04T01:30:00"
        ]
    );
    assert_eq!(adding.skipped, [date(2027, 3, 28).at(1, 30, 0, 0)]);
    let extra = [("but", "2027-03-14"), ("extra", "2027-05-01 2027-05-08")];
    assert_eq!(dates::add(&w.desk, &ilse, event, add(&extra)).await.unwrap(), 5);
    let sheet = office::event(&w.desk, &ilse, event).await.unwrap();
    assert_eq!(sheet.dates.len(), 6);
    assert_eq!(sheet.runs[0].1, "FREQ=WEEKLY;BYDAY=SU;COUNT=5");
    assert!(sheet.dates.last().unwrap().date.hosts.contains("Newly Named"));
    // Added again, every one of them clashes with itself.
    let again = dates::adding(&w.desk, &ilse, event, add(&extra)).await.unwrap();
    assert_eq!(again.clashes.len(), 5 * 4, "room, two hosts and the event itself each");
    let wrong = |extra: &'static [(&str, &str)]| {
        let (desk, ilse) = (w.desk.clone(), ilse.clone());
        async move {
            let form = form(&[extra, &RUN[..]].concat());
            faults(dates::adding(&desk, &ilse, event, form).await.unwrap_err())
        }
    };
    assert_eq!(wrong(&[("day", "7 March")]).await, [("day".into(), Fault::NotADay)]);
    assert_eq!(
        wrong(&[("count", "9999")]).await,
        [("count".into(), Fault::NotANumber(1, 520)), ("count".into(), Fault::NeedsOther)][..1]
    );
    assert_eq!(
        wrong(&[("repeat", "day"), ("count", ""), ("last", "2030-01-01")]).await,
        [("count".into(), Fault::TooMany(520))]
    );
    assert_eq!(wrong(&[("but", "soon")]).await, [("but".into(), Fault::NotADay)]);
    assert_eq!(wrong(&[("repeat", ""), ("day", "2027-03-28")]).await[0].0, "from");
    assert_eq!(w.faults().await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn moving_a_booked_date_says_whom_it_touches_and_tells_them_once() {
    let w = world().await;
    let (ilse, event) = (w.staff(0).await, id_of(&w, "apiary-open-day").await);
    let all = dates_of(&w, event).await;
    let first = all[0].id;
    let moved = [("day", "2026-12-06"), ("from", "13:00"), ("until", "16:00"), ("pool_0", "9")];
    let touches =
        dates::what_it_touches(&w.desk, &ilse, first, Scope::Later, form(&moved)).await.unwrap();
    assert_eq!(touches.dates.len(), 2);
    assert_eq!(
        touches.dates[1].span.starts,
        date(2026, 12, 20).at(13, 0, 0, 0),
        "a day later as well"
    );
    assert_eq!(touches.bookings, 9);
    assert!(touches.people.len() >= 8 && !touches.over.is_empty());
    let too_small = dates::change(&w.desk, &ilse, first, Scope::Later, form(&moved), false).await;
    let Err(DeskError::OverFull(over)) = too_small else { panic!("{too_small:?}") };
    assert!(over[0].taken > 9 && over[0].capacity == 9 && !over[0].people.is_empty());
    assert_eq!(dates_of(&w, event).await, all, "nothing was changed");
    dates::change(&w.desk, &ilse, first, Scope::Later, form(&moved), true).await.unwrap();
    assert_eq!(w.faults().await, Vec::<String>::new(), "over-full on purpose is no fault");
    let before = w.subjects().len();
    w.due().await;
    w.due().await;
    let told: Vec<String> = w.subjects()[before..].to_vec();
    assert_eq!(told.len(), 9);
    assert!(told.iter().all(|s| s.starts_with("Moved: Apiary open day, now S")), "{told:?}");
    let after = dates_of(&w, event).await;
    assert_eq!((after[0].sequence, after[1].sequence), (1, 1));
    // The same again changes nothing and tells nobody.
    let same = dates::change(&w.desk, &ilse, first, Scope::One, form(&moved), true).await.unwrap();
    assert!(same.dates.iter().all(|m| !m.told));
    let list = sheet::told(&w.desk, &ilse, event).await.unwrap();
    assert!(
        list.rows.len() == 9
            && list
                .rows
                .iter()
                .all(|(m, ..)| m.state == matricle_store::outbox::MessageState::Sent)
    );
    // A date with bookings cannot vanish.
    assert!(matches!(dates::remove(&w.desk, &ilse, first).await, Err(DeskError::Booked { .. })));
}

#[tokio::test(flavor = "multi_thread")]
async fn calling_off_cancels_tells_and_gives_all_back() {
    let w = world().await;
    let (ilse, event) = (w.staff(0).await, id_of(&w, "apiary-open-day").await);
    let no_reason = dates::call_off(&w.desk, &ilse, event, None, " ".into()).await.unwrap_err();
    assert_eq!(faults(no_reason), [("reason".into(), Fault::Missing)]);
    let held = w.keep("apiary-open-day", &[1, 0, 0, 0]).await.unwrap();
    let before = office::today(&w.desk, &ilse).await.unwrap().to_give_back.len();
    let one = dates_of(&w, event).await[0].id;
    let told =
        dates::call_off(&w.desk, &ilse, event, Some(one), "Foul brood.".into()).await.unwrap();
    assert_eq!(told, 7);
    assert_eq!(w.state(held).await, State::Lapsed);
    let page = programme::event(&w.desk, look("apiary-open-day")).await.unwrap();
    assert_eq!((page.dates.len(), page.off.len(), page.event.state), (1, 1, EventState::Published));
    let told = dates::call_off(&w.desk, &ilse, event, None, "Foul brood.".into()).await.unwrap();
    assert_eq!(told, 2);
    let page = programme::event(&w.desk, look("apiary-open-day")).await.unwrap();
    assert_eq!((page.dates.len(), page.event.state), (0, EventState::CalledOff));
    w.due().await;
    let subjects = w.subjects();
    assert_eq!(subjects.iter().filter(|s| s.starts_with("Called off: Apiary")).count(), 9);
    let after = office::today(&w.desk, &ilse).await.unwrap().to_give_back.len();
    assert_eq!(after - before, 7, "whoever had paid gets all of it back");
    assert_eq!(w.faults().await, Vec::<String>::new());
    // Calendars strike it out.
    let fed = programme::feed(&w.desk, Feed::Event("apiary-open-day".into())).await.unwrap();
    assert!(fed.dates.iter().all(|(d, ..)| !d.date.called_off.is_empty() && d.date.sequence > 0));
}

#[tokio::test(flavor = "multi_thread")]
async fn one_booking_covers_a_course_and_any_of_its_codes_opens_every_evening() {
    let w = world().await;
    let course = "beginners-course";
    let event = id_of(&w, course).await;
    let before: Vec<u32> = free_of(&w, event).await;
    let reference = w.book(course, &[1, 1]).await;
    w.provider.decide(matricle_desk::outside::provider::Status::Paid);
    pay::ask(&w.desk, reference).await.unwrap();
    let sheet = w.sheet(reference).await;
    assert_eq!(
        (sheet.booking.state, sheet.attendees.len(), sheet.covers.len()),
        (State::Confirmed, 3, 6)
    );
    let after = free_of(&w, event).await;
    assert!(before.iter().zip(&after).all(|(b, a)| b - a == 3), "{before:?} {after:?}");
    let code = sheet.attendees[1].code.as_str().to_owned();
    for (i, date) in sheet.covers.iter().enumerate() {
        let told = w.scan(date.id, "main door", &format!("course-{i}"), &code).await.told;
        assert_eq!(told.verdict.word(), "come in", "evening {i}");
        let again = w.scan(date.id, "side door", &format!("course-again-{i}"), &code).await.told;
        assert_eq!(again.verdict.word(), "already in");
    }
    assert_eq!(w.faults().await, Vec::<String>::new());
    // Two evenings are over: four are left, at four sixths of the price.
    w.pass(60 * 24 * 30);
    let page = programme::event(&w.desk, look(course)).await.unwrap();
    let sheet = &page.dates[0];
    let left = sheet.covers.len();
    assert!((1..6).contains(&left));
    let late = w.keep(course, &[1, 0]).await.unwrap();
    let asked = w.sheet(late).await.booking.total.minor;
    assert_eq!(asked, 12_000 * i64::try_from(left).unwrap() / 6);
    // Called off one by one, the course goes on until the last.
    let ilse = w.staff(0).await;
    let all = dates_of(&w, event).await;
    dates::call_off(&w.desk, &ilse, event, Some(all[5].id), "Snow.".into()).await.unwrap();
    assert_eq!(w.state(reference).await, State::Confirmed);
    assert_eq!(w.faults().await, Vec::<String>::new());
}

async fn free_of(w: &World, event: EventId) -> Vec<u32> {
    let now = w.desk.clock.now();
    let dates = dates_of(w, event).await;
    let read = move |c: &matricle_store::Connection| {
        dates.iter().map(|d| Ok(events::pools(c, d.id, now)?[0].free())).collect()
    };
    w.desk.store.read::<_, matricle_store::StoreError>(read).await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn slots_roll_on_close_with_the_day_and_keep_their_notice() {
    let w = world().await;
    let (ilse, frame) = (w.staff(0).await, "bring-us-a-frame");
    let event = id_of(&w, frame).await;
    let page = programme::event(&w.desk, look(frame)).await.unwrap();
    let week = page.week.unwrap();
    let open = week.slots.iter().find(|(_, open)| *open).unwrap().0.clone();
    let looking = Looking { date: Some(open.date.id), ..look(frame) };
    let sheet = programme::event(&w.desk, looking).await.unwrap().dates.remove(0);
    assert_eq!(sheet.main_pool().capacity, 2);
    // Tomorrow is too near for a notice of eighteen hours; nothing is sold past the desks.
    let wanted = vec![matricle_core::seats::Wanted { ticket: sheet.tickets[0].id, quantity: 1 }];
    let keep = |date| hold::keep(&w.desk, date, wanted.clone(), HeldBy::default(), None);
    let mut kept = 0;
    while keep(open.date.id).await.is_ok() {
        kept += 1;
    }
    assert_eq!(kept, sheet.main_pool().free());
    let last = dates_of(&w, event).await.last().unwrap().span.starts.date();
    w.pass(60 * 24 * 14);
    timers::run_due(&w.desk).await.unwrap();
    let rolled = dates_of(&w, event).await;
    assert!(rolled.last().unwrap().span.starts.date() > last, "two weeks further");
    let near = rolled.iter().find(|d| d.span.starts_at > w.desk.clock.now()).unwrap();
    let early = rolled.last().unwrap().id;
    w.pass((near.span.starts_at.duration_since(w.desk.clock.now()).as_mins()) - 60);
    for date in [near.id] {
        assert!(matches!(
            keep(date).await,
            Err(DeskError::Choice(ChoiceRefusal::Notice { .. } | ChoiceRefusal::Seats(_)))
        ));
    }
    let _ = early;
    // A day that closes loses the slots nobody has booked.
    let day = rolled.last().unwrap().span.starts.date();
    let closing = form(&[("closed_day", &day.to_string()), ("why", "Wax day")]);
    assert_eq!(slots::close_day(&w.desk, &ilse, closing, true).await.unwrap(), 0);
    assert!(dates_of(&w, event).await.iter().all(|d| d.span.starts.date() != day));
    let opening = form(&[("closed_day", &day.to_string())]);
    slots::close_day(&w.desk, &ilse, opening.clone(), false).await.unwrap();
    assert!(dates_of(&w, event).await.iter().any(|d| d.span.starts.date() == day));
    // What is left of a slot that somebody has booked is offered to nobody, and comes back.
    let on_day = async || {
        dates_of(&w, event).await.into_iter().find(|d| d.span.starts.date() == day).unwrap().id
    };
    let half = on_day().await;
    keep(half).await.unwrap();
    let closing = form(&[("closed_day", &day.to_string()), ("why", "Wax day")]);
    slots::close_day(&w.desk, &ilse, closing, true).await.unwrap();
    assert_eq!(on_day().await, half, "it stands");
    assert!(matches!(keep(half).await, Err(DeskError::Choice(ChoiceRefusal::Seats(_)))));
    slots::close_day(&w.desk, &ilse, opening, false).await.unwrap();
    keep(half).await.unwrap();
    // Other lengths: booked ones stay as they are.
    let booked: Vec<DateId> = office::event(&w.desk, &ilse, event)
        .await
        .unwrap()
        .dates
        .iter()
        .map(|d| d.date.id)
        .collect();
    let plan = form(&[
        ("minutes", "30"),
        ("desks", "1"),
        ("ahead_days", "20"),
        ("venue", "Ostrel apiary"),
    ]);
    slots::plan(&w.desk, &ilse, event, plan).await.unwrap();
    let now: Vec<DateId> = dates_of(&w, event).await.iter().map(|d| d.id).collect();
    assert!(booked.iter().all(|id| now.contains(id)));
    assert_eq!(w.faults().await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_talk_in_a_room_at_one_time_is_shown_before_it_is_added() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let convention = id_of(&w, "vale-convention").await;
    let sheet = office::event(&w.desk, &ilse, convention).await.unwrap();
    let (date, talks) = sheet.sessions.first().unwrap();
    let talk = talks.iter().find(|t| !t.room.is_empty() && !t.host.is_empty()).unwrap();
    let time = |at: jiff::civil::DateTime| at.strftime("%H:%M").to_string();
    let form = || {
        let (from, until) = (time(talk.span.starts), time(talk.span.ends));
        let fields = [
            ("title", "Wax lab".to_owned()),
            ("room", talk.room.clone()),
            ("from", from),
            ("until", until),
        ];
        Form::new(fields.map(|(n, v)| (n.to_owned(), v)).to_vec())
    };
    let Err(DeskError::Clashes(clashes)) =
        sessions::add(&w.desk, &ilse, *date, form(), false).await
    else {
        panic!("shown first")
    };
    assert_eq!(clashes.len(), 1);
    assert_eq!((&clashes[0].what, clashes[0].other), (&talk.room, *date));
    assert_eq!(clashes[0].title, format!("Wax lab” and “{}", talk.title));
    let before = office::event(&w.desk, &ilse, convention).await.unwrap();
    assert_eq!(before.sessions[0].1.len(), talks.len(), "nothing was added");
    sessions::add(&w.desk, &ilse, *date, form(), true).await.unwrap();
    let after = office::event(&w.desk, &ilse, convention).await.unwrap();
    assert_eq!(after.sessions[0].1.len(), talks.len() + 1);
    assert_eq!(
        after.clashes.iter().map(|(c, _)| c.len()).sum::<usize>(),
        sheet.clashes.iter().map(|(c, _)| c.len()).sum::<usize>() + 1,
        "said once on the sheet"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_signs_up_for_two_sessions_at_one_time_or_for_a_full_one() {
    let w = world().await;
    let reference = w.book("vale-convention", &[2, 0]).await;
    w.provider.decide(matricle_desk::outside::provider::Status::Paid);
    pay::ask(&w.desk, reference).await.unwrap();
    let sheet = w.sheet(reference).await;
    let find = |title: &str| {
        sheet.sessions.iter().find(|s| s.title.starts_with(title)).map(|s| s.facts.id).unwrap()
    };
    let (graft, labels, swarm) = (find("Grafting"), find("Labels"), find("Swarm"));
    let (one, two) = (sheet.attendees[0].id, sheet.attendees[1].id);
    let sign = |wants: Vec<(matricle_core::AttendeeId, Vec<SessionId>)>| {
        sessions::sign_up(&w.desk, reference, BTreeMap::from_iter(wants))
    };
    let refused = sign(vec![(one, vec![swarm]), (two, vec![graft, labels])]).await;
    assert!(
        matches!(refused, Err(DeskError::SignUp(SignUpRefusal::Overlaps { session, with })) if session == labels && with == graft)
    );
    assert!(w.sheet(reference).await.sign_ups.is_empty(), "all or none");
    sign(vec![(one, vec![graft, swarm]), (two, vec![labels])]).await.unwrap();
    assert_eq!(w.sheet(reference).await.sign_ups.len(), 3);
    sign(vec![(one, vec![])]).await.unwrap();
    assert_eq!(w.sheet(reference).await.sign_ups, [(two, labels)]);
    // A booking that is cancelled gives its places in sessions back.
    let taken = |s: &[matricle_store::sessions::Session]| {
        s.iter().find(|s| s.facts.id == labels).unwrap().facts.taken
    };
    let before = taken(&w.sheet(reference).await.sessions);
    cancel::cancel(&w.desk, By::Staff(w.staff(0).await, None), reference, Vec::new())
        .await
        .unwrap();
    assert_eq!(taken(&w.sheet(reference).await.sessions), before - 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_copy_and_a_pattern_bring_everything_but_the_bookings_on_the_wall_clock() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let event = id_of(&w, "pollen-under-the-lens").await;
    let copy = |day: &'static str| {
        patterns::start(&w.desk, &ilse, From::Event(event), form(&[("day", day), ("title", "")]))
    };
    assert_eq!(faults(copy("").await.unwrap_err()), [("day".into(), Fault::Missing)]);
    assert_eq!(faults(copy("2026-11-01").await.unwrap_err()), [("day".into(), Fault::Past)]);
    // From winter into summer time: ten in the morning stays ten.
    let id = copy("2027-06-12").await.unwrap();
    let (old, new) = (
        office::event(&w.desk, &ilse, event).await.unwrap(),
        office::event(&w.desk, &ilse, id).await.unwrap(),
    );
    assert_eq!(
        (new.event.state, new.bookings, new.event.slug.as_str()),
        (EventState::Draft, 0, "pollen-under-the-lens-2")
    );
    assert_eq!(new.dates[0].date.span.starts, date(2027, 6, 12).at(10, 0, 0, 0));
    assert_eq!(new.event.description, old.event.description);
    let early = |s: &office::EventSheet| {
        let offer = &s.dates[0].offer.offers[1];
        let day = s.dates[0].date.span.starts.date();
        let at = matricle_formats::words::local(offer.price.early.unwrap().until, "Europe/Dublin");
        (day.since(at.date()).unwrap().get_days(), at.time(), offer.seats.draws.len())
    };
    assert_eq!(early(&new), early(&old));
    patterns::save(&w.desk, &ilse, id, form(&[("pattern", "A day at the lens")])).await.unwrap();
    let all = patterns::all(&w.desk, &ilse).await.unwrap();
    let names: Vec<&str> = all.iter().map(|p| p.name.as_str()).collect();
    assert_eq!(names, ["A day at the lens", "Course in six evenings"]);
    let course = patterns::start(
        &w.desk,
        &ilse,
        From::Pattern(all[1].id),
        form(&[("day", "2027-09-07"), ("title", "Autumn course")]),
    )
    .await
    .unwrap();
    let sheet = office::event(&w.desk, &ilse, course).await.unwrap();
    assert!(sheet.event.course && sheet.dates.len() == 6 && sheet.event.slug == "autumn-course");
    assert_eq!(w.faults().await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn who_may_book_is_kept_at_the_last_step_and_the_organiser_may_decide() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let event = id_of(&w, CANDLES).await;
    let set = |fields: &'static [(&str, &str)]| {
        let fields = [fields, &[("hold_minutes", "15")]].concat();
        matricle_desk::planning::who::keep(&w.desk, &ilse, event, form(&fields))
    };
    let nobody = Asking::default();
    let submit = |draft: Draft, reference| submit::submit(&w.desk, &nobody, reference, draft);
    assert_eq!(
        faults(set(&[("who", "domains"), ("who_domains", "not a domain")]).await.unwrap_err())[0].1,
        Fault::LineNotAnAddress("not".into())
    );
    set(&[("who", "domains"), ("who_domains", "school.example"), ("once", "yes")]).await.unwrap();
    let reference = w.keep(CANDLES, &[1, 0, 0]).await.unwrap();
    let mut draft = w.draft(reference).await;
    assert!(matches!(
        submit(draft.clone(), reference).await,
        Err(DeskError::Who(WhoRefusal::OtherDomain { .. }))
    ));
    draft.email = "sian@north.school.example".into();
    let typed = submit(draft.clone(), reference).await;
    assert!(matches!(typed, Err(DeskError::Who(WhoRefusal::NotSignedIn))), "typed is not proved");
    let pupil = Asking { proved: Some("sian@north.school.example".into()), ..Asking::default() };
    let submit_as = |draft, reference| submit::submit(&w.desk, &pupil, reference, draft);
    assert_eq!(submit_as(draft.clone(), reference).await.unwrap(), Outcome::ToPay);
    let second = w.keep(CANDLES, &[1, 0, 0]).await.unwrap();
    draft.email = "Sian@North.School.example".into();
    let again = submit_as(draft.clone(), second).await;
    assert!(matches!(again, Err(DeskError::Who(WhoRefusal::Again))));
    set(&[("who", "word"), ("who_word", "Propolis"), ("confirm_paid", "after yes")]).await.unwrap();
    let (date, wanted) = w.choice(CANDLES, &[1, 0, 0]).await;
    let mut by = HeldBy::default();
    by.buyer.word = "propolis ".into();
    by.buyer.address = crate::world::BOOKER.into();
    let third = hold::keep(&w.desk, date, wanted, by, None).await.unwrap();
    let draft = w.draft(third).await;
    assert_eq!(submit(draft.clone(), third).await.unwrap(), Outcome::Asked);
    assert_eq!(submit(draft, third).await.unwrap(), Outcome::Asked, "twice says the same");
    assert_eq!(w.state(third).await, State::Requested);
    decide::approve(&w.desk, &ilse, third, None).await.unwrap();
    assert_eq!(w.state(third).await, State::AwaitingPayment);
    w.due().await;
    assert!(w.subjects().last().unwrap().starts_with("Your seats are kept: Candles"));
    pay::pay_url(&w.desk, third).await.unwrap();
    w.provider.decide(matricle_desk::outside::provider::Status::Paid);
    pay::ask(&w.desk, third).await.unwrap();
    assert_eq!(w.state(third).await, State::Confirmed);
    // A booking that asks and is told no.
    let asking = office::today(&w.desk, &ilse).await.unwrap().asking.rows[0].booking.reference;
    decide::decline(&w.desk, &ilse, asking, "Full of members.".into()).await.unwrap();
    assert_eq!(w.state(asking).await, State::Declined);
    assert!(decide::approve(&w.desk, &ilse, asking, None).await.is_err());
    w.due().await;
    assert_eq!(w.faults().await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_test_booking_of_a_draft_goes_every_step_and_counts_nowhere() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let (mead, event) = ("mead-and-how-not-to", id_of(&w, "mead-and-how-not-to").await);
    assert!(matches!(programme::event(&w.desk, look(mead)).await, Err(DeskError::NotFound)));
    let preview = w.desk.secrets.preview_key(event);
    let page = programme::event(&w.desk, Looking { preview, ..look(mead) }).await.unwrap();
    assert!(page.preview);
    let sheet = &page.dates[0];
    let wanted = || vec![matricle_core::seats::Wanted { ticket: sheet.tickets[0].id, quantity: 2 }];
    let date = sheet.date.id;
    let real = hold::keep(&w.desk, date, wanted(), HeldBy::default(), None).await;
    assert!(matches!(real, Err(DeskError::NotFound)), "a draft is not for sale");
    let by = HeldBy::default();
    let unasked = hold::keep_test(&w.desk, date, wanted(), by.clone(), None, ("x", None)).await;
    assert!(matches!(unasked, Err(DeskError::NotFound)), "by a key, or by who plans");
    let key = w.desk.secrets.preview_key(event);
    let reference = hold::keep_test(&w.desk, date, wanted(), by, None, (&key, None)).await.unwrap();
    let draft = w.draft(reference).await;
    assert_eq!(
        submit::submit(&w.desk, &Asking::default(), reference, draft).await.unwrap(),
        Outcome::ToPay
    );
    pay::pay_url(&w.desk, reference).await.unwrap();
    w.provider.decide(matricle_desk::outside::provider::Status::Paid);
    pay::ask(&w.desk, reference).await.unwrap();
    assert_eq!(w.state(reference).await, State::Confirmed);
    w.due().await;
    assert!(w.subjects().last().unwrap().starts_with("Test: Your seats: Mead"));
    let sheet = office::event(&w.desk, &ilse, event).await.unwrap();
    assert_eq!((sheet.tests, sheet.bookings, sheet.latest.len()), (1, 0, 0));
    assert_eq!(sheet.dates[0].main_pool().taken.total(), 0);
    assert_eq!(w.faults().await, Vec::<String>::new());
    // The test was paid for: it stays, and the money goes back.
    let cleared = trying::clear_tests(&w.desk, &ilse, event).await.unwrap();
    assert_eq!((cleared.gone, cleared.kept), (0, 1));
    assert!(cleared.back_minor > 0, "{cleared:?}");
    assert_eq!(w.state(reference).await, State::Cancelled);
    w.due().await;
    let refunds = whole::of(&w.desk, reference).await.unwrap().refunds;
    assert_eq!(refunds.iter().map(|r| r.minor).sum::<i64>(), cleared.back_minor);
    assert!(refunds.iter().all(|r| r.done_at.is_some()), "{refunds:?}");
    let again = trying::clear_tests(&w.desk, &ilse, event).await.unwrap();
    assert_eq!((again.gone, again.kept, again.back_minor), (0, 1, 0));
    assert_eq!(office::event(&w.desk, &ilse, event).await.unwrap().tests, 0);
    assert_eq!(w.faults().await, Vec::<String>::new());
    // Published at a set time, and not before.
    let at = form(&[("publish_at", "2026-11-25T18:00")]);
    sheet::publish_at(&w.desk, &ilse, event, at).await.unwrap();
    w.due().await;
    assert!(programme::event(&w.desk, look(mead)).await.is_err());
    w.pass(21);
    w.due().await;
    assert!(programme::event(&w.desk, look(mead)).await.is_ok());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_programme_forgives_slips_keeps_old_addresses_and_shows_each_thing_once() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let find = |wish: Wish| {
        let desk = w.desk.clone();
        async move {
            let all = programme::catalogue(&desk, wish, 100).await.unwrap().found.dates;
            all.into_iter().map(|d| d.event.slug).collect::<Vec<_>>()
        }
    };
    let words = |text: &str| Wish { words: text.into(), ..Wish::default() };
    let all = find(Wish::default()).await;
    for once in ["beginners-course", "bring-us-a-frame"] {
        assert_eq!(all.iter().filter(|s| *s == once).count(), 1, "{once}");
    }
    assert_eq!(all.iter().filter(|s| *s == "thursday-dipping").count(), 8);
    assert_eq!(find(words("miscroscopy")).await, ["pollen-under-the-lens"]);
    assert_eq!(find(words("tobias quens")).await, ["rearing-queens"], "a host, and a slip");
    assert_eq!(find(words("zzzz")).await, Vec::<String>::new());
    assert_eq!(find(words("\" OR 1=1 --")).await, Vec::<String>::new());
    let online = Wish { format: Some(events::Format::Online), ..Wish::default() };
    assert_eq!(find(online).await, ["winter-feed-your-questions", "what-the-frost-does"]);
    let with_seats = find(Wish { with_seats: true, ..Wish::default() }).await;
    assert!(!with_seats.contains(&"rearing-queens".to_owned()) && with_seats.len() > 10);
    let tagged =
        find(Wish { tag: "families".into(), month: Some(date(2026, 12, 1)), ..Wish::default() })
            .await;
    assert!(
        tagged.iter().all(|s| s == "apiary-open-day" || s == "thursday-dipping")
            && tagged.len() > 4
    );
    // Another address: the old one leads on, and nobody else can take it.
    let event = id_of(&w, "rearing-queens").await;
    let mut fields = vec![
        ("title", "Rearing queens"),
        ("kind", "Workshop"),
        ("slug", "Queens, reared"),
        ("format", "in person"),
        ("listed", "yes"),
    ];
    matricle_desk::planning::wording::keep(&w.desk, &ilse, event, form(&fields)).await.unwrap();
    for slug in ["rearing-queens", "queens-reared"] {
        let page = programme::event(&w.desk, look(slug)).await.unwrap();
        assert_eq!(page.event.slug, "queens-reared");
    }
    fields[2].1 = "vale-convention";
    let taken = matricle_desk::planning::wording::keep(&w.desk, &ilse, event, form(&fields))
        .await
        .unwrap_err();
    assert_eq!(faults(taken), [("slug".into(), Fault::Taken)]);
    // Unlisted: gone from the lists, there for whoever has the link.
    fields[2].1 = "queens-reared";
    matricle_desk::planning::wording::keep(&w.desk, &ilse, event, form(&fields[..4]))
        .await
        .unwrap();
    assert!(!find(Wish::default()).await.contains(&"queens-reared".to_owned()));
    assert!(programme::event(&w.desk, look("queens-reared")).await.is_ok());
    let feed = |feed| programme::feed(&w.desk, feed);
    let slugs = |fed: &programme::Fed| {
        fed.dates.iter().map(|(d, ..)| d.event.slug.clone()).collect::<Vec<_>>()
    };
    assert!(!slugs(&feed(Feed::All).await.unwrap()).contains(&"queens-reared".to_owned()));
    assert_eq!(slugs(&feed(Feed::Event("queens-reared".into())).await.unwrap()), ["queens-reared"]);
    assert!(feed(Feed::Event("mead-and-how-not-to".into())).await.is_err(), "a draft has no feed");
    let tobias = matricle_core::HostId(3);
    assert!(feed(Feed::Host(tobias, "guess".into())).await.is_err());
    let key = w.desk.secrets.feed_key(tobias);
    assert!(feed(Feed::Host(tobias, key)).await.unwrap().dates.len() > 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn clashes_are_found_with_ways_out_and_the_board_shows_them() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let queens = office::event(&w.desk, &ilse, id_of(&w, "rearing-queens").await).await.unwrap();
    let (clashes, instead) = &queens.clashes[0];
    let what: Vec<&str> = clashes.iter().map(|c| c.what.as_str()).collect();
    assert_eq!(what, ["long room", "Tobias Wren"]);
    assert_eq!(instead.rooms, ["press room"]);
    assert_eq!(instead.times[0], date(2026, 12, 8).at(17, 30, 0, 0));
    let around = Some(date(2026, 12, 9));
    let board = board::board(&w.desk, &ilse, Reach::Week, around).await.unwrap();
    assert_eq!(board.days, (date(2026, 12, 7), date(2026, 12, 14)));
    let over: Vec<&str> = board.clashes.iter().map(|(_, _, what)| what.as_str()).collect();
    assert_eq!(over.len(), 4);
    assert!(over.contains(&"microscopes"), "{over:?}");
    assert!(board.lanes.iter().any(|l| l.room == "map room" && l.seats == Some(28)));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_house_is_kept_by_those_who_may_and_every_change_is_logged() {
    let w = world().await;
    let (ilse, nia) = (w.staff(0).await, w.staff(2).await);
    let venue = form(&[("name", "Ford mill"), ("address", "Ford 2")]);
    house::things::save(&w.desk, &ilse, house::things::Thing::Venue, 0, venue).await.unwrap();
    let twice = form(&[("name", "FORD MILL")]);
    let taken = house::things::save(&w.desk, &ilse, house::things::Thing::Venue, 0, twice)
        .await
        .unwrap_err();
    assert_eq!(faults(taken), [("name".into(), Fault::Taken)]);
    let mill = house::all(&w.desk, &ilse)
        .await
        .unwrap()
        .venues
        .iter()
        .find(|v| v.name == "Ford mill")
        .unwrap()
        .id;
    house::things::retire(&w.desk, &ilse, house::things::Thing::Venue, mill.0, true).await.unwrap();
    let terms = [
        ("name", "Ostrel"),
        ("email", "nobody"),
        ("zone", "Mars/Base"),
        ("terms", ""),
        ("embed_sites", "club.example"),
    ];
    let wrong = faults(house::settings::keep(&w.desk, &ilse, form(&terms)).await.unwrap_err());
    assert_eq!(
        wrong.iter().map(|(f, _)| f.as_str()).collect::<Vec<_>>(),
        ["email", "terms", "zone", "embed_sites"]
    );
    let role = [
        ("name", "Rory Quinn"),
        ("email", "rory@ostrel.example"),
        ("role", "reviewer"),
        ("password", "long enough it is"),
    ];
    assert!(matches!(
        house::give_role(&w.desk, &ilse, form(&role)).await,
        Err(DeskError::Right(_))
    ));
    house::give_role(&w.desk, &nia, form(&role)).await.unwrap();
    // Whoever is made a host is asked which: their dates are those with that name.
    let host = [("name", "Rory Quinn"), ("email", "rory@ostrel.example"), ("role", "host")];
    assert_eq!(
        faults(house::give_role(&w.desk, &nia, form(&host)).await.unwrap_err()),
        [("host".into(), Fault::Missing)]
    );
    let host = [&host[..], &[("host", "Quinn of the apiary")]].concat();
    house::give_role(&w.desk, &nia, form(&host)).await.unwrap();
    let known = house::all(&w.desk, &nia).await.unwrap();
    let rory = known.staff.iter().find(|s| s.name == "Rory Quinn").unwrap().id;
    let tied = known.hosts.iter().find(|h| h.name == "Quinn of the apiary").unwrap();
    assert_eq!(tied.person, Some(rory));
    let own = [("name", "Nia"), ("email", "nia@ostrel.example"), ("role", "reviewer")];
    assert_eq!(
        faults(house::give_role(&w.desk, &nia, form(&own)).await.unwrap_err()),
        [("role".into(), Fault::Taken)]
    );
    let all = house::all(&w.desk, &nia).await.unwrap();
    let rory: &Staff = all.staff.iter().find(|s| s.name == "Rory Quinn").unwrap();
    house::take_role(&w.desk, &nia, rory.id).await.unwrap();
    assert!(house::take_role(&w.desk, &nia, nia.id).await.is_err());
    let log: Vec<String> = house::changes(&w.desk, &nia, 0, 60)
        .await
        .unwrap()
        .0
        .iter()
        .map(|c| format!("{} {}", c.who, c.what))
        .take(5)
        .collect();
    assert_eq!(
        log,
        [
            "Nia Ferrier took the role of Rory Quinn away",
            "Nia Ferrier made Rory Quinn host",
            "Nia Ferrier made Rory Quinn reviewer",
            "Ilse Karrow retired a venue",
            "Ilse Karrow added the venue Ford mill",
        ]
    );
    // A host sees their own dates, with the people, and nothing else.
    let owen = w.staff(3).await;
    let (_, mine) = office::own_dates(&w.desk, &owen).await.unwrap();
    assert!(mine.len() >= 6 && mine.iter().all(|(d, _)| d.date.hosts.contains("Owen Pryce")));
    assert!(mine.iter().any(|(_, people)| !people.is_empty()));
    assert!(matches!(office::today(&w.desk, &owen).await, Err(DeskError::Right(_))));
}

#[tokio::test(flavor = "multi_thread")]
async fn lists_keep_the_order_asked_and_another_event_cannot_reach_them() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let (event, other) = (id_of(&w, "apiary-open-day").await, id_of(&w, CANDLES).await);
    let labels = async || {
        let all = sheet::settings(&w.desk, &ilse, event).await.unwrap().questions;
        all.into_iter().map(|q| (q.label, q.id)).collect::<Vec<_>>()
    };
    let words = |all: &[(String, _)]| all.iter().map(|q| q.0.clone()).collect::<Vec<_>>();
    let first = labels().await.len();
    for label in ["Shoe size", "Allergies", "Bus"] {
        questions::save_question(&w.desk, &ilse, event, None, form(&[("label", label)]))
            .await
            .unwrap();
    }
    let bus = labels().await[first + 2].1;
    let moved = [("label", "Bus"), ("place", "1")];
    questions::save_question(&w.desk, &ilse, event, Some(bus), form(&moved)).await.unwrap();
    let before = labels().await;
    assert_eq!(before[0].0, "Bus");
    // Without a place it stays where it is.
    let last = before.last().unwrap().1;
    let reworded = form(&[("label", "What you cannot eat")]);
    questions::save_question(&w.desk, &ilse, event, Some(last), reworded).await.unwrap();
    let after = words(&labels().await);
    assert_eq!(after[..after.len() - 1], words(&before)[..after.len() - 1]);
    assert_eq!(after.last().unwrap(), "What you cannot eat");

    let whole = sheet::settings(&w.desk, &ilse, event).await.unwrap();
    let ticket = whole.tickets[0].id;
    let taken = [
        tickets::drop_ticket(&w.desk, &ilse, other, ticket).await,
        tickets::save_ticket(
            &w.desk,
            &ilse,
            other,
            Some(ticket),
            form(&[("name", "Mine"), ("draw_0", "1")]),
        )
        .await,
        questions::save_question(&w.desk, &ilse, other, Some(bus), form(&[("label", "Mine")]))
            .await,
    ];
    assert!(taken.iter().all(|t| matches!(t, Err(DeskError::NotFound))), "{taken:?}");
    let still = sheet::settings(&w.desk, &ilse, event).await.unwrap();
    assert_eq!((still.tickets, words(&labels().await)), (whole.tickets, after));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_room_is_a_ceiling_and_what_is_missing_is_made_on_the_way() {
    let w = world().await;
    let ilse = w.staff(0).await;
    // The open day asks for sixty seats; the press room has sixteen.
    let event = id_of(&w, "apiary-open-day").await;
    let second = dates_of(&w, event).await[1].id;
    let indoors = [("venue", "Millrace Barn"), ("room", "press room")];
    let touches =
        dates::what_it_touches(&w.desk, &ilse, second, Scope::One, form(&indoors)).await.unwrap();
    assert_eq!((touches.capped.as_slice(), touches.over.len()), (&[(60, 16)][..], 0));
    dates::change(&w.desk, &ilse, second, Scope::One, form(&indoors), false).await.unwrap();
    let sheet = office::date(&w.desk, &ilse, second).await.unwrap();
    assert_eq!(sheet.main_pool().capacity, 16);
    let first = dates_of(&w, event).await[0].id;
    let crowd = dates::change(&w.desk, &ilse, first, Scope::One, form(&indoors), false).await;
    assert!(matches!(crowd, Err(DeskError::OverFull(over)) if over[0].capacity == 16));
    // Outdoors again nothing is lost of the sixty.
    let outdoors = [("venue", "Ostrel apiary"), ("room", "")];
    dates::change(&w.desk, &ilse, second, Scope::One, form(&outdoors), false).await.unwrap();
    let sheet = office::date(&w.desk, &ilse, second).await.unwrap();
    assert_eq!(sheet.main_pool().capacity, 60);

    let looking_on = sheet.tickets[3].id;
    let ticket =
        [("name", "Looking on"), ("draw_0", "1"), ("place", "1"), ("new_rate", "Guests 4.8 %")];
    tickets::save_ticket(&w.desk, &ilse, event, Some(looking_on), form(&ticket)).await.unwrap();
    let settings = sheet::settings(&w.desk, &ilse, event).await.unwrap();
    assert_eq!(settings.tickets[0].id, looking_on);
    assert_eq!(settings.tickets[0].plan.tax.as_deref(), Some("Guests"));
    assert_eq!(settings.tickets.len(), 4);
    let words = [
        ("title", "Apiary open day"),
        ("kind", "Open day"),
        ("slug", "apiary-open-day"),
        ("new_tag", "Out of doors"),
        ("tag", "families"),
    ];
    matricle_desk::planning::wording::keep(&w.desk, &ilse, event, form(&words)).await.unwrap();
    let settings = sheet::settings(&w.desk, &ilse, event).await.unwrap();
    let tags: Vec<&str> = settings.tags.iter().map(|(slug, _)| slug.as_str()).collect();
    assert_eq!(tags, ["families", "out-of-doors"]);
    let money = [
        ("name", "O"),
        ("email", "o@o.example"),
        ("zone", "UTC"),
        ("terms", "t"),
        ("currency", "CHF"),
    ];
    let kept = faults(house::settings::keep(&w.desk, &ilse, form(&money)).await.unwrap_err());
    assert_eq!(kept, [("currency".into(), Fault::Taken)]);
    assert_eq!(w.faults().await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mailed_number_signs_in_once_and_members_are_known_by_their_record() {
    let w = world().await;
    let (ilse, member) = (w.staff(0).await, "Marit.Solheim@post.example");
    let browser = signin::Browser { visitor: "one".into(), ..Default::default() };
    assert_eq!(
        faults(signin::send_code(&w.desk, "marit at post".into(), &browser).await.unwrap_err()),
        [("email".into(), Fault::NotAnAddress)]
    );
    let number = async || {
        signin::send_code(&w.desk, member.into(), &browser).await.unwrap();
        w.subjects().last().unwrap().split(' ').next().unwrap().to_owned()
    };
    let code = number().await;
    let other = if code == "000000" { "000001" } else { "000000" };
    assert!(matches!(
        signin::enter_code(&w.desk, member.into(), other, &browser).await,
        Err(DeskError::SignIn)
    ));
    let token =
        signin::enter_code(&w.desk, member.into(), &format!(" {code}"), &browser).await.unwrap();
    assert!(signin::enter_code(&w.desk, member.into(), &code, &browser).await.is_err(), "once");
    let known = signin::known(&w.desk, &token).await.unwrap().unwrap();
    assert!(known.member && !known.staff && known.email.eq_ignore_ascii_case(member));
    assert!(signin::session(&w.desk, &token).await.unwrap().is_none(), "no way into the Office");
    // Guessing ends the number, and so does time.
    let code = number().await;
    for _ in 0..5 {
        assert!(signin::enter_code(&w.desk, member.into(), "wrong", &browser).await.is_err());
    }
    assert!(
        signin::enter_code(&w.desk, member.into(), &code, &browser).await.is_err(),
        "tried too often"
    );
    let code = number().await;
    w.pass(16);
    assert!(signin::enter_code(&w.desk, member.into(), &code, &browser).await.is_err(), "too old");
    // The price for members is asked of members, to the last step.
    let (date, wanted) = w.choice("beginners-course", &[1, 0]).await;
    let buyer = Buyer { address: known.email.clone(), ..Buyer::default() };
    let mut by = HeldBy { buyer, ..HeldBy::default() };
    by.buyer.member = known.member;
    let reference = hold::keep(&w.desk, date, wanted, by, None).await.unwrap();
    assert_eq!(w.sheet(reference).await.booking.total.minor, 9600);
    w.pass(60);
    w.due().await;
    hold::again(&w.desk, reference).await.unwrap();
    assert_eq!(w.sheet(reference).await.booking.total.minor, 9600, "taken again at the same price");
    let list = form(&[("members", "ros@post.example\nnobody")]);
    assert_eq!(
        faults(house::set_members(&w.desk, &ilse, list).await.unwrap_err())[0].1,
        Fault::LineNotAnAddress("nobody".into())
    );
    let list = form(&[("members", "ros@post.example\n")]);
    assert_eq!(house::set_members(&w.desk, &ilse, list).await.unwrap(), 1);
    assert!(!signin::known(&w.desk, &token).await.unwrap().unwrap().member);
    // An event for those who have signed in.
    let event = id_of(&w, "thursday-dipping").await;
    let only = form(&[("who", "signed in"), ("hold_minutes", "15")]);
    matricle_desk::planning::who::keep(&w.desk, &ilse, event, only).await.unwrap();
    let (date, wanted) = w.choice("thursday-dipping", &[1]).await;
    let buyer = Buyer { address: "sian@post.example".into(), ..Buyer::default() };
    let by = HeldBy { buyer, ..HeldBy::default() };
    let reference = hold::keep(&w.desk, date, wanted, by, None).await.unwrap();
    let mut draft = w.draft(reference).await;
    draft.email = "other@post.example".into();
    let refused = submit::submit(&w.desk, &Asking::default(), reference, draft.clone()).await;
    assert!(matches!(refused, Err(DeskError::Who(WhoRefusal::NotSignedIn))));
    draft.email = "Sian@post.example".into();
    assert_eq!(
        submit::submit(&w.desk, &Asking::default(), reference, draft).await.unwrap(),
        Outcome::ToPay
    );
    assert_eq!(w.faults().await, Vec::<String>::new());
}

/// What can happen to a course, an open day, slots and a convention at once.
#[derive(Debug, Clone)]
enum Act {
    Book(usize, u32),
    Test(usize),
    ClearTests(usize),
    Cancel(usize),
    Move(usize, usize, i64),
    Seats(usize, usize, u32),
    CallOff(usize, usize),
    AddDates(usize, u32),
    Sign(usize, usize),
    CutSlots(u32, u32),
    CloseDay(i64),
    Pass(i64),
    Course(bool),
}

const EVENTS: [&str; 4] =
    ["beginners-course", "apiary-open-day", "bring-us-a-frame", "vale-convention"];

/// Any acts of an organiser and of bookers, after each of which the whole file is in order.
#[test]
fn no_act_of_planning_loses_a_seat_or_a_booking() {
    let which = || 0usize..EVENTS.len();
    let act = prop_oneof![
        5 => (which(), 1u32..4).prop_map(|(e, n)| Act::Book(e, n)),
        1 => which().prop_map(Act::Test),
        1 => which().prop_map(Act::ClearTests),
        2 => any::<usize>().prop_map(Act::Cancel),
        3 => (which(), 0usize..8, -9i64..30).prop_map(|(e, d, n)| Act::Move(e, d, n)),
        2 => (which(), 0usize..8, 0u32..40).prop_map(|(e, d, n)| Act::Seats(e, d, n)),
        1 => (which(), 0usize..8).prop_map(|(e, d)| Act::CallOff(e, d)),
        1 => (which(), 1u32..4).prop_map(|(e, n)| Act::AddDates(e, n)),
        2 => (any::<usize>(), any::<usize>()).prop_map(|(b, s)| Act::Sign(b, s)),
        1 => (20u32..70, 1u32..4).prop_map(|(m, d)| Act::CutSlots(m, d)),
        1 => (1i64..30).prop_map(Act::CloseDay),
        2 => (1i64..3000).prop_map(Act::Pass),
        1 => any::<bool>().prop_map(Act::Course),
    ];
    let mut runner = TestRunner::new(Config { cases: 8, ..Config::default() });
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    runner
        .run(&prop::collection::vec(act, 1..25), |acts| {
            runtime.block_on(async {
                let w = world().await;
                let mut made = Vec::new();
                for (i, act) in acts.into_iter().enumerate() {
                    carry_out(&w, &mut made, act).await;
                    let faults = w.faults().await;
                    prop_assert!(faults.is_empty(), "after act {i}: {faults:?}");
                }
                // Nobody was left without a word: every booking of a date that is off is told.
                for slug in EVENTS {
                    let event = id_of(&w, slug).await;
                    let off: Vec<_> = dates_of(&w, event)
                        .await
                        .into_iter()
                        .filter(|d| !d.called_off.is_empty())
                        .collect();
                    for date in off {
                        let read = move |c: &matricle_store::Connection| {
                            matricle_store::bookings::live_on(c, date.id)
                        };
                        let live = w.desk.store.read(read).await.unwrap();
                        prop_assert!(slug == EVENTS[0] || live.is_empty(), "{slug}: {live:?}");
                    }
                }
                Ok(())
            })
        })
        .unwrap();
}

async fn carry_out(w: &World, made: &mut Vec<matricle_core::words::codes::Reference>, act: Act) {
    let (ilse, desk) = (w.staff(0).await, &w.desk);
    let today = matricle_formats::words::local(desk.clock.now(), "Europe/Dublin").date();
    let nth = |dates: &[events::Date], n: usize| dates.get(n % dates.len().max(1)).map(|d| d.id);
    match act {
        Act::Book(e, n) => {
            let Some((date, ticket)) = first_open(w, EVENTS[e]).await else { return };
            let wanted = vec![matricle_core::seats::Wanted { ticket, quantity: n }];
            if let Ok(reference) = hold::keep(desk, date, wanted, HeldBy::default(), None).await {
                let draft = w.draft(reference).await;
                let _ = submit::submit(desk, &Asking::default(), reference, draft).await;
                if pay::pay_url(desk, reference).await.is_ok() {
                    w.provider.decide(matricle_desk::outside::provider::Status::Paid);
                    let _ = pay::ask(desk, reference).await;
                }
                made.push(reference);
            }
        }
        Act::Test(e) => {
            let Some((date, ticket)) = first_open(w, EVENTS[e]).await else { return };
            let wanted = vec![matricle_core::seats::Wanted { ticket, quantity: 1 }];
            let by = HeldBy::default();
            let ilse = w.staff(0).await;
            let opener = ("", Some(&ilse));
            if let Ok(reference) = hold::keep_test(desk, date, wanted, by, None, opener).await {
                let draft = w.draft(reference).await;
                let _ = submit::submit(desk, &Asking::default(), reference, draft).await;
            }
        }
        Act::ClearTests(e) => {
            trying::clear_tests(desk, &ilse, id_of(w, EVENTS[e]).await).await.unwrap();
        }
        Act::Cancel(n) => {
            if let Some(reference) = made.get(n % made.len().max(1)) {
                let _ = cancel::cancel(desk, By::Staff(ilse.clone(), None), *reference, Vec::new())
                    .await;
            }
        }
        Act::Move(e, d, days) => {
            let dates = dates_of(w, id_of(w, EVENTS[e]).await).await;
            let Some(id) = nth(&dates, d) else { return };
            let day = today.saturating_add(jiff::ToSpan::days(days)).to_string();
            let scope = [Scope::One, Scope::Later, Scope::All][d % 3];
            let to = form(&[("day", &day), ("from", "16:00"), ("until", "17:30")]);
            let _ = dates::change(desk, &ilse, id, scope, to, d % 2 == 0).await;
        }
        Act::Seats(e, d, n) => {
            let dates = dates_of(w, id_of(w, EVENTS[e]).await).await;
            let Some(id) = nth(&dates, d) else { return };
            let seats = form(&[("pool_0", &n.to_string())]);
            let _ = dates::change(desk, &ilse, id, Scope::One, seats, d % 2 == 0).await;
        }
        Act::CallOff(e, d) => {
            let event = id_of(w, EVENTS[e]).await;
            let dates = dates_of(w, event).await;
            let only = nth(&dates, d).filter(|_| d > 0);
            let _ = dates::call_off(desk, &ilse, event, only, "Rain.".into()).await;
        }
        Act::AddDates(e, n) => {
            let event = id_of(w, EVENTS[e]).await;
            let day = today.saturating_add(jiff::ToSpan::days(40)).to_string();
            let count = n.to_string();
            let fields = [
                ("day", day.as_str()),
                ("from", "10:00"),
                ("until", "11:00"),
                ("venue", "Ostrel Guildhall"),
                ("room", "map room"),
                ("pool_0", "9"),
                ("pool_1", "3"),
                ("repeat", "week"),
                ("count", &count),
            ];
            let _ = dates::add(desk, &ilse, event, form(&fields)).await;
        }
        Act::Sign(b, s) => {
            let Some(reference) = made.get(b % made.len().max(1)) else { return };
            let Ok(sheet) = whole::of(desk, *reference).await else { return };
            let open: Vec<SessionId> =
                sheet.sessions.iter().filter(|s| s.facts.sign_up).map(|s| s.facts.id).collect();
            if let (Some(session), Some(person)) =
                (open.get(s % open.len().max(1)), sheet.attendees.first())
            {
                let wants = BTreeMap::from([(person.id, vec![*session])]);
                let _ = sessions::sign_up(desk, *reference, wants).await;
            }
        }
        Act::CutSlots(minutes, desks) => {
            let (minutes, desks) = (minutes.to_string(), desks.to_string());
            let fields = [
                ("minutes", minutes.as_str()),
                ("desks", &desks),
                ("ahead_days", "30"),
                ("venue", "Ostrel apiary"),
            ];
            let event = id_of(w, EVENTS[2]).await;
            slots::plan(desk, &ilse, event, form(&fields)).await.unwrap();
        }
        Act::CloseDay(days) => {
            let day = today.saturating_add(jiff::ToSpan::days(days)).to_string();
            let _ =
                slots::close_day(desk, &ilse, form(&[("closed_day", &day)]), days % 3 != 0).await;
        }
        Act::Pass(minutes) => {
            w.pass(minutes);
            w.due().await;
        }
        Act::Course(on) => {
            let event = id_of(w, EVENTS[1]).await;
            let course = if on { "yes" } else { "" };
            let fields = [("who", "anyone"), ("hold_minutes", "15"), ("course", course)];
            let _ = matricle_desk::planning::who::keep(desk, &ilse, event, form(&fields)).await;
        }
    }
}

/// A date of an event with a seat, and its first ticket.
async fn first_open(
    w: &World,
    slug: &'static str,
) -> Option<(DateId, matricle_core::TicketTypeId)> {
    let page = programme::event(&w.desk, look(slug)).await.ok()?;
    let date = match &page.week {
        Some(week) => week.slots.iter().find(|(_, open)| *open)?.0.date.id,
        None => page.dates.iter().find(|d| d.main_pool().free() > 0)?.date.id,
    };
    let looking = Looking { date: Some(date), ..look(slug) };
    let page = programme::event(&w.desk, looking).await.ok()?;
    let sheet = page.dates.iter().find(|d| d.date.id == date)?;
    Some((date, sheet.tickets.first()?.id))
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_booked_a_course_is_told_which_evening_moved() {
    let w = world().await;
    let (ilse, event) = (w.staff(0).await, id_of(&w, "beginners-course").await);
    let reference = w.paid("beginners-course", &[1]).await;
    w.due().await;
    let third = w.sheet(reference).await.covers.swap_remove(2);
    let old = third.span.starts;
    let new = old.date().tomorrow().unwrap().tomorrow().unwrap();
    let day = new.to_string();
    let moved = [("day", day.as_str()), ("from", "17:15"), ("until", "18:45")];
    dates::change(&w.desk, &ilse, third.id, Scope::One, form(&moved), true).await.unwrap();
    let before = w.to(BOOKER).len();
    w.due().await;
    let mails = w.to(BOOKER);
    assert_eq!(mails.len(), before + 1);
    let mail = mail_parser::MessageParser::default().parse(&mails[before].0).unwrap();
    let text = text_of(&mail);
    let (old, new) = (old.strftime("%-d %B").to_string(), new.strftime("%-d %B").to_string());
    assert!(mail.subject().unwrap().contains(&new) && text.contains(&old), "{text}");
    assert!(text.contains("One date of") && text.contains("17:15"), "{text}");
    // The third alone is called off: the mail names it, and no other.
    dates::call_off(&w.desk, &ilse, event, Some(third.id), "Snow".into()).await.unwrap();
    w.due().await;
    let (raw, _) = w.to(BOOKER).pop().unwrap();
    let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
    let text = text_of(&mail);
    assert!(mail.subject().unwrap().starts_with("One date less") && text.contains(&new), "{text}");
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_can_hardly_be_meant_is_asked_about_before_it_is_kept() {
    let w = world().await;
    let (ilse, event) = (w.staff(0).await, id_of(&w, "apiary-open-day").await);
    let save = |more: &'static [(&'static str, &'static str)]| {
        let (desk, ilse) = (w.desk.clone(), ilse.clone());
        let plain = [("name", "Late"), ("price", "9.00"), ("draw_0", "1")];
        let fields: Vec<_> = more.iter().chain(&plain).copied().collect();
        async move { tickets::save_ticket(&desk, &ilse, event, None, form(&fields)).await }
    };
    let odd: &[(&str, &str)] =
        &[("early_price", "7.00"), ("early_until", "2020-01-01T10:00"), ("member_price", "9.01")];
    let asked = faults(save(odd).await.unwrap_err());
    assert_eq!(
        asked,
        [("early_until".into(), Fault::Past), ("member_price".into(), Fault::TooMuch)]
    );
    // As much as the price itself is no question.
    save(&[("member_price", "9.00"), ("name", "As much")]).await.unwrap();
    save(&[("sure", "yes"), ("member_price", "9.01")]).await.unwrap();
    // No seat of any pool is not one seat.
    let none = save(&[("draw_0", "0"), ("name", "Of nothing")]).await.unwrap_err();
    assert_eq!(faults(none), [("draw_0".into(), Fault::Missing)]);

    // A date that people have booked goes into the past once it is said that it is meant so.
    let first = dates_of(&w, event).await[0].id;
    let back = [("day", "2020-01-01"), ("from", "10:00"), ("until", "12:00")];
    let before = w.mails.taken().len();
    let touches = dates::what_it_touches(&w.desk, &ilse, first, Scope::One, form(&back)).await;
    assert_eq!(touches.unwrap().past, 1);
    let refused = dates::change(&w.desk, &ilse, first, Scope::One, form(&back), true).await;
    assert!(matches!(refused, Err(DeskError::IntoPast)));
    w.due().await;
    assert_eq!(w.mails.taken().len(), before, "nobody is told of a slip");
    let meant = [&back[..], &[("past", "yes")]].concat();
    dates::change(&w.desk, &ilse, first, Scope::One, form(&meant), true).await.unwrap();
}
