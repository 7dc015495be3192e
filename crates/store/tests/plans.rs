//! Whole events: whatever is planned is read back as it was planned, copied and shifted
//! on the wall clock; the house's things are kept, retired and logged.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::too_many_lines, reason = "a test is one story")]

use jiff::civil::date;
use jiff::{Timestamp, ToSpan, tz::TimeZone};
use matricle_core::booking::Rules;
use matricle_core::booking::confirm::{Confirming, Way};
use matricle_core::booking::details::Answering;
use matricle_core::dates::schedule::{SaleWindow, Span};
use matricle_core::dates::slots::Opening;
use matricle_core::money::price::{Early, Group};
use matricle_core::people::who::Who;
use matricle_core::{DateId, HostId, RoomId, TagId, TaxRateId, VenueId};
use matricle_store::events::{
    self, EventState, Format, NewDate, NewEvent, NewOnline, NewQuestion, NewSession, NewTicketType,
    SlotPlan, Sought,
};
use matricle_store::places::{self, Host, Kind, Room, Tag, TaxRate, Venue};
use matricle_store::{Store, Tx, clashes, house, people, sessions, slots};
use proptest::prelude::*;
use rusqlite::Connection;

const ZONE: &str = "Europe/Dublin";

fn at(minutes: i64) -> Timestamp {
    Timestamp::from_second(1_795_000_000 + minutes * 60).unwrap()
}

/// A connection inside a transaction, to a fresh file.
fn file() -> (Connection, tempfile::TempDir) {
    let folder = tempfile::tempdir().unwrap();
    Store::open(folder.path()).unwrap().close();
    let conn = Store::writer(&folder.path().join("matricle.sqlite")).unwrap();
    conn.execute_batch("BEGIN").unwrap();
    (conn, folder)
}

fn word() -> impl Strategy<Value = String> {
    "[A-Za-zé'][A-Za-z é'&<-]{0,14}[a-z]"
}

fn span() -> impl Strategy<Value = Span> {
    // Away from the nights on which the clocks change.
    (0i64..700, 6i8..20, 1i64..8).prop_map(|(day, hour, half_hours)| {
        let starts = date(2027, 1, 4).saturating_add(day.days()).at(hour, 15, 0, 0);
        Span::new(starts, starts.saturating_add((half_hours * 30).minutes()), ZONE).unwrap()
    })
}

fn answering() -> impl Strategy<Value = Answering> {
    let options = || prop::collection::vec(word(), 2..4);
    prop_oneof![
        Just(Answering::Text),
        Just(Answering::LongText),
        Just(Answering::Number),
        Just(Answering::Day),
        Just(Answering::YesNo),
        Just(Answering::Phone),
        options().prop_map(Answering::OneOf),
        options().prop_map(Answering::SeveralOf),
        word().prop_map(Answering::Consent),
    ]
}

fn way() -> impl Strategy<Value = Way> {
    prop::sample::select(vec![Way::ByItself, Way::AfterYes])
}

prop_compose! {
    fn ticket(pools: usize)(
        note in word(), minor in 0i64..100_000, early in prop::option::of((0i64..9_000, 0i64..9_000)),
        member in prop::option::of(0i64..9_000), group in prop::option::of((2u32..9, 0i64..9_000)),
        sale in (prop::option::of(0i64..500), prop::option::of(600i64..900)), per_date in prop::option::of(0u32..50), stamps in prop::option::of(1u32..9),
        counts in (1u32..4, 4u32..20, 1u32..6), flags in any::<(bool, bool)>(), secret in prop::option::of(word()),
        draws in prop::collection::btree_map(0usize..3, 1u32..5, 1..3), confirm in prop::option::of(way()),
    ) -> NewTicketType {
        NewTicketType {
            name: String::new(),
            note, minor, member, per_date, stamps, confirm,
            card: None,
            early: early.map(|(minor, minutes)| Early { minor, until: at(minutes) }),
            group: group.map(|(from, minor)| Group { from, minor }),
            tax: None,
            sale: SaleWindow { from: sale.0.map(at), until: sale.1.map(at) },
            least: counts.0, most: counts.1, admits: counts.2,
            word: secret.unwrap_or_default(),
            members_only: flags.0, closed: flags.1, online: flags.1,
            invited: if flags.0 { Vec::new() } else { vec!["o'hara@post.example".into()] },
            draws: {
                let mut kept: Vec<(usize, u32)> = draws.into_iter().filter(|(p, _)| *p < pools).collect();
                if kept.is_empty() { kept.push((0, 1)); }
                kept
            },
        }
    }
}

prop_compose! {
    fn dated(pools: usize)(
        span in span(), venue in 0u8..3, room in prop::option::of(0u8..3), hosts in prop::collection::btree_set(0u8..4, 0..3),
        margins in (0u32..90, 0u32..90), capacities in prop::collection::vec(0u32..200, 3), talks in prop::collection::vec((word(), 0i64..3, prop::option::of(1u32..40)), 0..3),
        online in prop::option::of((0u32..60, any::<(bool, bool, bool, bool)>())),
    ) -> NewDate {
        let room = room.map_or_else(String::new, |r| format!("room {r}"));
        NewDate {
            venue: format!("Venue {venue}"), address: String::new(), directions: String::new(),
            hosts: hosts.into_iter().map(|h| format!("Host {h}")).collect(),
            margins, capacities: capacities[..pools].to_vec(),
            sessions: talks.into_iter().map(|(title, late, seats)| {
                let starts = span.starts.saturating_add((late * 10).minutes());
                NewSession {
                    title, track: "Honey".into(), room: room.clone(), host: String::new(), seats, sign_up: seats.is_some(),
                    span: Span::new(starts, starts.saturating_add(30.minutes()), ZONE).unwrap(),
                }
            }).collect(),
            online: online.map(|(opens_minutes, can)| NewOnline {
                room: "made".into(), opens_minutes, can, prepare: "Bring a comb.".into(), audience: "booked".into(),
            }),
            room, span,
        }
    }
}

fn who() -> impl Strategy<Value = Who> {
    prop_oneof![
        Just(Who::Anyone),
        Just(Who::SignedIn),
        word().prop_map(Who::Word),
        Just(Who::Domains(vec!["school.example".into()])),
        Just(Who::Invited),
    ]
}

fn plan() -> impl Strategy<Value = NewEvent> {
    (1usize..4).prop_flat_map(|pools| {
        (
            (word(), word(), word(), any::<(bool, bool, bool, bool, bool)>(), who(), way(), way()),
            prop::sample::select(Format::ALL.to_vec()),
            prop::collection::vec(ticket(pools), 1..4),
            prop::collection::vec(
                (word(), answering(), any::<(bool, bool)>(), prop::option::of(0usize..3)),
                0..4,
            ),
            prop::collection::vec(dated(pools), 0..4),
            prop::option::of((5u32..90, 0u32..30, 1u32..4)),
        )
            .prop_map(
                move |(
                    (title, lead, bring, flags, who, free, paid),
                    format,
                    mut tickets,
                    questions,
                    mut dates,
                    slots,
                )| {
                    for (i, t) in tickets.iter_mut().enumerate() {
                        t.name = format!("Ticket {i}");
                    }
                    dates.sort_by_key(|d| d.span.starts_at);
                    if slots.is_some() {
                        dates.clear();
                    }
                    let count = tickets.len();
                    NewEvent {
                        slug: "an-event".into(),
                        title,
                        lead,
                        bring,
                        who,
                        format,
                        tickets,
                        dates,
                        kind: "Talk".into(),
                        description: "<p>One</p>".into(),
                        hold_minutes: 15,
                        course: flags.0,
                        latecomers: flags.1,
                        rules: Rules {
                            confirm: Confirming { free, paid },
                            may_pass: flags.2,
                            ..Rules::default()
                        },
                        once: flags.3,
                        unlisted: flags.4,
                        pools: (0..pools).map(|i| format!("things {i}")).collect(),
                        questions: questions
                            .into_iter()
                            .map(|(label, answering, (needed, each), only)| NewQuestion {
                                label,
                                answering,
                                needed,
                                each,
                                only: only.filter(|i| *i < count).into_iter().collect(),
                            })
                            .collect(),
                        slots: slots.map(|(minutes, pause, desks)| SlotPlan {
                            minutes,
                            pause,
                            desks,
                            notice_hours: 18,
                            ahead_days: 30,
                            venue: "Venue 0".into(),
                            room: String::new(),
                        }),
                        ..NewEvent::default()
                    }
                },
            )
    })
}

/// Sessions and dates in one order, since two that start together have none of their own.
fn in_order(mut plan: NewEvent) -> NewEvent {
    for date in &mut plan.dates {
        date.sessions.sort_by(|a, b| {
            (a.span.starts_at, &a.title, a.seats).cmp(&(b.span.starts_at, &b.title, b.seats))
        });
        date.hosts.sort();
    }
    plan.dates.sort_by(|a, b| {
        (a.span.starts_at, &a.venue, &a.room, a.margins, &a.capacities).cmp(&(
            b.span.starts_at,
            &b.venue,
            &b.room,
            b.margins,
            &b.capacities,
        ))
    });
    plan
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    /// A copy of an event is the event; as JSON, for a pattern, it is too.
    #[test]
    fn what_is_planned_is_read_back(plan in plan()) {
        let (conn, _folder) = file();
        let tx = Tx::within(&conn);
        let id = events::insert(&tx, &plan, at(0)).unwrap();
        let read = events::read(&conn, id).unwrap().unwrap();
        prop_assert_eq!(in_order(read.clone()), in_order(plan.clone()));
        events::save_pattern(&tx, "Mine", &read, at(0)).unwrap();
        prop_assert_eq!(&events::patterns(&conn).unwrap()[0].plan, &read);
        // Written down once more it gives the same again.
        let mut second = read;
        second.slug = events::free_slug(&conn, &second.slug).unwrap();
        prop_assert_eq!(&second.slug, "an-event-2");
        let copy = events::insert(&tx, &second, at(0)).unwrap();
        prop_assert_eq!(in_order(events::read(&conn, copy).unwrap().unwrap()), in_order(second));
        prop_assert_eq!(matricle_store::check::faults(&conn).unwrap(), Vec::<String>::new());
    }

    /// What the writing thread keeps of a plan is what is planned, whatever is changed of it.
    #[test]
    fn a_plan_that_is_kept_is_never_an_old_one(plan in plan()) {
        let (conn, _folder) = file();
        let tx = Tx::within(&conn);
        house::set(&tx, &house::House { name: "Ostrel".into(), zone: ZONE.into(), ..Default::default() }).unwrap();
        let id = events::insert(&tx, &plan, at(0)).unwrap();
        let dates = events::dates_of(&tx, id).unwrap();
        let changes = [
            "UPDATE events SET title = title || '!'",
            "UPDATE dates SET sequence = sequence + 1",
            "UPDATE dates SET called_off = 'storm'",
            "UPDATE venues SET directions = 'left'",
            "UPDATE rooms SET name = name || '!'",
            "UPDATE hosts SET name = name || '!'",
            "DELETE FROM date_hosts",
            "UPDATE ticket_types SET minor = minor + 1",
            "UPDATE draws SET seats = seats + 1",
            "DELETE FROM draws",
            "UPDATE pool_kinds SET name = name || '!'",
            "UPDATE questions SET label = label || '!'",
            "UPDATE slot_plans SET notice_hours = notice_hours + 1",
            "UPDATE house SET settings = json_set(settings, '$.currency', 'JPY')",
        ];
        for change in [""].into_iter().chain(changes) {
            tx.execute_batch(change).unwrap();
            let currency = house::get(&tx).unwrap().unwrap().currency;
            for date in &dates {
                let now = at(0);
                prop_assert_eq!(
                    events::choices_now(&tx, date.id, now).unwrap(),
                    events::choices(&tx, currency, date.id, now).unwrap(),
                    "{}", change
                );
                let kept = events::planned(&tx, date.id).unwrap().unwrap();
                prop_assert_eq!(&kept.questions, &events::questions(&tx, id).unwrap());
                prop_assert_eq!(&kept.event, &events::by_id(&tx, id).unwrap().unwrap());
            }
        }
    }

    /// Shifted by days, everything keeps its clock; shifted back, it is the old plan.
    #[test]
    fn a_shift_keeps_the_wall_clock_and_can_be_undone(plan in plan(), days in -300i32..300) {
        let zone = TimeZone::get(ZONE).unwrap();
        // An hour that a clock change leaves out, or brings twice, has no way back.
        let once = |at: &Timestamp, days: i32| {
            let civil = at.to_zoned_datetime(zone.clone()).datetime().saturating_add(i64::from(days).days());
            !zone.to_ambiguous_timestamp(civil).is_ambiguous()
        };
        let instants = plan.tickets.iter().flat_map(|t| {
            [t.early.map(|e| e.until), t.sale.from, t.sale.until].into_iter().flatten()
        });
        prop_assume!(instants.into_iter().all(|at| once(&at, 0) && once(&at, days)));
        let mut moved = plan.clone();
        prop_assume!(moved.shift(days, &zone).is_ok());
        for (old, new) in plan.dates.iter().zip(&moved.dates) {
            prop_assert_eq!(old.span.starts.time(), new.span.starts.time());
            prop_assert_eq!(new.span.starts.date().since(old.span.starts.date()).unwrap().get_days(), days);
            for (a, b) in old.sessions.iter().zip(&new.sessions) {
                prop_assert_eq!(a.span.starts.time(), b.span.starts.time());
            }
        }
        let clock = |at: Timestamp| at.to_zoned_datetime(zone.clone()).time();
        for (old, new) in plan.tickets.iter().zip(&moved.tickets) {
            if let (Some(a), Some(b)) = (old.early, new.early) {
                prop_assert_eq!(clock(a.until), clock(b.until));
            }
        }
        moved.shift(-days, &zone).unwrap();
        prop_assert_eq!(moved, plan);
    }
}

fn evening(slug: &str, day: i8, room: &str, host: &str) -> NewEvent {
    let on = date(2027, 3, day);
    NewEvent {
        slug: slug.into(),
        title: format!("Evening {slug}"),
        kind: "Talk".into(),
        state: EventState::Published,
        hold_minutes: 15,
        pools: vec!["chairs".into(), "Smokers".into()],
        tickets: vec![NewTicketType::default()],
        dates: vec![NewDate {
            span: Span::new(on.at(19, 0, 0, 0), on.at(21, 0, 0, 0), ZONE).unwrap(),
            venue: "Hall".into(),
            address: "Square 1".into(),
            directions: String::new(),
            room: room.into(),
            hosts: vec![host.into()],
            margins: (60, 30),
            capacities: vec![40, 6],
            sessions: Vec::new(),
            online: None,
        }],
        ..NewEvent::default()
    }
}

#[test]
fn what_dates_use_is_found_with_its_margins_and_without_what_is_called_off() {
    let (conn, _folder) = file();
    let tx = Tx::within(&conn);
    let a = events::insert(&tx, &evening("a", 9, "long room", "Ana"), at(0)).unwrap();
    events::insert(&tx, &evening("b", 9, "press room", "Ana"), at(0)).unwrap();
    let draft = NewEvent { state: EventState::Draft, ..evening("c", 9, "long room", "Bo") };
    events::insert(&tx, &draft, at(0)).unwrap();
    let first = events::dates_of(&conn, a).unwrap()[0].clone();
    let hour = jiff::SignedDuration::from_hours(1);
    let uses = |from: Timestamp, until: Timestamp| clashes::uses(&conn, from, until).unwrap();
    // An hour before the start it is being set up; touching is not using.
    assert_eq!(uses(first.span.starts_at - hour, first.span.starts_at - hour / 2).len(), 9);
    assert!(uses(first.span.starts_at - hour * 3, first.span.starts_at - hour).is_empty());
    let calendar =
        matricle_core::dates::clash::Calendar::new(uses(first.span.starts_at, first.span.ends_at));
    let over: Vec<String> =
        calendar.pairs().iter().map(|(u, _)| format!("{:?}", u.resource)).collect();
    assert_eq!(over.iter().filter(|r| r.contains("Room")).count(), 1, "a draft counts: {over:?}");
    assert_eq!(over.iter().filter(|r| r.contains("Host")).count(), 1);
    assert_eq!(over.iter().filter(|r| r.contains("smokers")).count(), 3, "folded, in pairs");
    events::call_off(&tx, first.id, "Snow").unwrap();
    assert_eq!(uses(first.span.starts_at, first.span.ends_at).len(), 6);
    assert_eq!(events::dates_of(&conn, a).unwrap()[0].sequence, 1);
}

#[test]
fn addresses_lead_on_and_a_list_is_narrowed_from_every_side() {
    let (conn, _folder) = file();
    let tx = Tx::within(&conn);
    let a = events::insert(&tx, &evening("alpha", 9, "long room", "Ana"), at(0)).unwrap();
    let b = events::insert(&tx, &evening("beta", 10, "press room", "Bo"), at(0)).unwrap();
    for slug in ["first", "second", "alpha"] {
        events::set_slug(&tx, a, slug).unwrap();
    }
    for old in ["first", "second", "alpha"] {
        assert_eq!(events::by_slug(&conn, old).unwrap().unwrap().slug, "alpha", "{old}");
    }
    assert!(events::slug_of_another(&conn, "second", b).unwrap());
    assert_eq!(events::free_slug(&conn, "first").unwrap(), "first-2");
    let tag = Tag {
        id: TagId(0),
        name: "Talks".into(),
        slug: "talks".into(),
        description: String::new(),
        retired_at: None,
    };
    places::save_tag(&tx, &tag).unwrap();
    events::set_tags(&tx, a, &["talks".into(), "none-such".into()]).unwrap();
    let all = Sought { most: 10, ..Sought::default() };
    let count = |asked: Sought| events::list(&conn, &asked, at(0)).unwrap().dates.len();
    let (hall, ana) = (VenueId(1), HostId(1));
    assert_eq!(count(all.clone()), 2);
    assert_eq!(count(Sought { tag: Some("talks".into()), ..all.clone() }), 1);
    assert_eq!(count(Sought { venue: Some(hall), ..all.clone() }), 2);
    assert_eq!(count(Sought { host: Some(ana), ..all.clone() }), 1);
    assert_eq!(count(Sought { room: Some(RoomId(2)), ..all.clone() }), 1);
    assert_eq!(count(Sought { event: Some(b), ..all.clone() }), 1);
    assert_eq!(count(Sought { format: Some(Format::Online), ..all.clone() }), 0);
    assert_eq!(count(Sought { with_seats: true, ..all.clone() }), 2);
    let tenth = events::dates_of(&conn, b).unwrap()[0].span.clone();
    let on = Sought { between: Some((tenth.starts_at, tenth.ends_at)), ..all.clone() };
    assert_eq!(count(on), 1);
    let months = events::months(&conn, at(0)).unwrap();
    assert_eq!(months, [(date(2027, 3, 1), 2)]);
    // Called off and unlisted: only where they are asked for.
    events::call_off(&tx, events::dates_of(&conn, b).unwrap()[0].id, "Snow").unwrap();
    let mut hidden = events::by_id(&conn, a).unwrap().unwrap();
    hidden.listed = false;
    events::set(&tx, &hidden, at(1)).unwrap();
    assert_eq!(count(all.clone()), 0);
    assert_eq!(count(Sought { off: true, ..all.clone() }), 1);
    assert_eq!(count(Sought { off: true, unlisted: true, ..all.clone() }), 2);
    assert_eq!(count(Sought { staff: true, ..all }), 2);
    assert_eq!(events::by_id(&conn, a).unwrap().unwrap().changed_at, at(1));
}

#[test]
fn the_things_of_the_house_are_kept_changed_and_retired() {
    let (conn, _folder) = file();
    let tx = Tx::within(&conn);
    let venue = Venue {
        id: VenueId(0),
        name: "Barn".into(),
        address: "Lane 3".into(),
        directions: "By bus.".into(),
        accessible: true,
        retired_at: None,
    };
    let id = places::save_venue(&tx, &venue).unwrap();
    let kept = Venue { id: VenueId(id), name: "The barn".into(), ..venue };
    assert_eq!(places::save_venue(&tx, &kept).unwrap(), id, "changed, not doubled");
    assert_eq!(places::venues(&conn).unwrap(), std::slice::from_ref(&kept));
    let room = Room {
        id: RoomId(0),
        venue: kept.id,
        name: "loft".into(),
        seats: Some(12),
        accessible: false,
        retired_at: None,
    };
    let loft = places::save_room(&tx, &room).unwrap();
    assert!(places::save_room(&tx, &room).is_err(), "two rooms of one name");
    let host = Host {
        id: HostId(0),
        name: "Siân O'Hara".into(),
        about: "Mites".into(),
        person: None,
        retired_at: None,
    };
    places::save_host(&tx, &host).unwrap();
    let rate = TaxRate {
        id: TaxRateId(0),
        name: "Courses".into(),
        basis: 900,
        added: false,
        retired_at: None,
    };
    let rate_id = places::save_tax_rate(&tx, &rate).unwrap();
    for (kind, id) in [(Kind::Room, loft), (Kind::TaxRate, rate_id), (Kind::Venue, id)] {
        places::retire(&tx, kind, id, Some(at(5))).unwrap();
    }
    assert_eq!(places::rooms(&conn).unwrap()[0].retired_at, Some(at(5)));
    assert_eq!(places::tax_rates(&conn).unwrap()[0].retired_at, Some(at(5)));
    places::retire(&tx, Kind::Venue, id, None).unwrap();
    assert_eq!(places::venues(&conn).unwrap()[0].retired_at, None);
    let open = |weekday, from: i8| Opening {
        weekday,
        opens: jiff::civil::time(from, 0, 0, 0),
        closes: jiff::civil::time(from + 2, 30, 0, 0),
    };
    let hours = [open(jiff::civil::Weekday::Monday, 9), open(jiff::civil::Weekday::Sunday, 14)];
    places::set_opening_hours(&tx, &hours).unwrap();
    places::set_opening_hours(&tx, &hours).unwrap();
    assert_eq!(places::opening_hours(&conn).unwrap(), hours);
    places::close_day(&tx, date(2027, 5, 1), Some("Holiday")).unwrap();
    places::close_day(&tx, date(2027, 5, 1), Some("Labour Day")).unwrap();
    assert_eq!(
        places::closed_days(&conn, date(2027, 1, 1)).unwrap(),
        [(date(2027, 5, 1), "Labour Day".to_owned())]
    );
    places::close_day(&tx, date(2027, 5, 1), None).unwrap();
    assert!(places::closed_days(&conn, date(2027, 1, 1)).unwrap().is_empty());
    places::log(&tx, at(1), "Ilse", "did a thing", "/office/house").unwrap();
    places::log(&tx, at(2), "Ilse", "did another", "/office/events/1").unwrap();
    assert_eq!(places::changes(&conn, None, 0, 10).unwrap()[0].what, "did another");
    assert_eq!(places::changes(&conn, Some("/office/house"), 0, 10).unwrap().len(), 1);
    for act in ["UPDATE changes SET who = 'nobody'", "DELETE FROM changes"] {
        assert!(conn.execute(act, []).is_err(), "the log is only added to");
    }
}

#[test]
fn slots_are_due_until_they_are_cut_and_sessions_count_who_signed_up() {
    let (conn, _folder) = file();
    let tx = Tx::within(&conn);
    let plan = NewEvent {
        dates: Vec::new(),
        slots: Some(SlotPlan {
            minutes: 30,
            pause: 0,
            desks: 2,
            notice_hours: 1,
            ahead_days: 10,
            venue: "Hall".into(),
            room: "booth".into(),
        }),
        ..evening("slots", 9, "", "Ana")
    };
    let event = events::insert(&tx, &plan, at(0)).unwrap();
    let today = date(2027, 1, 1);
    assert_eq!(slots::to_cut(&conn, today).unwrap(), [(event, date(2027, 1, 11))]);
    slots::cut_until(&tx, Some(event), Some(date(2027, 1, 11))).unwrap();
    assert!(slots::to_cut(&conn, today).unwrap().is_empty());
    assert_eq!(slots::to_cut(&conn, date(2027, 1, 2)).unwrap(), [(event, date(2027, 1, 12))]);
    assert_eq!(slots::plan_of(&conn, event).unwrap(), plan.slots);
    let talks = events::insert(&tx, &evening("talks", 9, "hall", "Ana"), at(0)).unwrap();
    let day: DateId = events::dates_of(&conn, talks).unwrap()[0].id;
    let on = date(2027, 3, 9);
    let session = NewSession {
        title: "Mites".into(),
        track: String::new(),
        room: "loft".into(),
        host: "Bo".into(),
        span: Span::new(on.at(19, 0, 0, 0), on.at(19, 30, 0, 0), ZONE).unwrap(),
        seats: Some(3),
        sign_up: true,
    };
    sessions::add(&tx, day, &session).unwrap();
    let read = sessions::of_date(&conn, day).unwrap().remove(0);
    assert_eq!(
        (read.title.as_str(), read.room.as_str(), read.host.as_str(), read.facts.taken),
        ("Mites", "loft", "Bo", 0)
    );
    // The date moves, and its sessions move along.
    let old = events::dates_of(&conn, talks).unwrap()[0].span.clone();
    let new = Span::new(on.at(20, 0, 0, 0), on.at(22, 0, 0, 0), ZONE).unwrap();
    events::move_date(&tx, day, &new).unwrap();
    events::move_sessions(&tx, day, &old, &new).unwrap();
    assert_eq!(sessions::of_date(&conn, day).unwrap()[0].span.starts, on.at(20, 0, 0, 0));
    sessions::remove(&tx, day, read.facts.id).unwrap();
    assert!(sessions::of_date(&conn, day).unwrap().is_empty());
    assert!(events::without_bookings(&conn, day).unwrap());
    events::remove_date(&tx, day).unwrap();
    assert!(events::dates_of(&conn, talks).unwrap().is_empty());
    // Numbers to sign in with: each for the browser that asked, spent by use; the two newest.
    let keep = |browser: u8, n: u8, until| {
        people::keep_code(&tx, "A@b.example", &[browser; 32], &[n; 32], at(until), at(0)).unwrap();
    };
    let attempt = |browser: u8, n: u8, now| {
        people::try_code(&tx, "a@B.example", &[browser; 32], &[n; 32], 5, at(now)).unwrap()
    };
    for n in 1..=3 {
        keep(7, n, 10);
    }
    keep(8, 4, 10);
    assert!(
        !attempt(7, 1, 1) && !attempt(8, 3, 1) && !attempt(7, 4, 1),
        "old, or another browser's"
    );
    assert!(attempt(7, 2, 1) && !attempt(7, 2, 1) && attempt(7, 3, 1));
    assert!(!attempt(8, 4, 10), "over");
}

#[test]
fn a_house_keeps_its_face_and_kinds_their_marks() {
    use matricle_core::words::marks::Mark;
    let (conn, _folder) = file();
    let tx = Tx::within(&conn);
    let own = house::House { name: "Ostrel".into(), zone: ZONE.into(), ..Default::default() };
    house::set(&tx, &own).unwrap();
    assert_eq!((house::mark(&conn).unwrap(), own.accent.as_str()), (None, ""));
    for png in [&b"one"[..], b"two"] {
        house::set_mark(&tx, Some(png)).unwrap();
        assert_eq!(house::mark(&conn).unwrap().as_deref(), Some(png));
    }
    house::set_mark(&tx, None).unwrap();
    assert_eq!(house::mark(&conn).unwrap(), None);
    house::set(&tx, &house::House { accent: "#1d4f3f".into(), ..own }).unwrap();
    assert_eq!(house::get(&conn).unwrap().unwrap().accent, "#1d4f3f");
    // Kinds are those that events have, each once; one that was thrown away has none.
    let event = |slug: &str, kind: &str| NewEvent {
        slug: slug.into(),
        title: slug.into(),
        kind: kind.into(),
        hold_minutes: 15,
        pools: vec!["seats".into()],
        ..NewEvent::default()
    };
    for (slug, kind) in [("a", "Talk"), ("b", "talk by the fire"), ("c", "Walk"), ("d", "Talk")] {
        events::insert(&tx, &event(slug, kind), at(0)).unwrap();
    }
    house::set_kind_mark(&tx, "Talk", Some(Mark::Drop)).unwrap();
    house::set_kind_mark(&tx, "Walk", Some(Mark::Leaf)).unwrap();
    house::set_kind_mark(&tx, "Walk", None).unwrap();
    let kinds = house::kinds(&conn).unwrap();
    let seen: Vec<_> = kinds.iter().map(|(k, m)| (k.as_str(), *m)).collect();
    assert_eq!(seen, [("Talk", Some(Mark::Drop)), ("talk by the fire", None), ("Walk", None)]);
    let walk = events::by_slug(&conn, "c").unwrap().unwrap().id;
    events::set_publish_at(&tx, walk, Some(at(20))).unwrap();
    events::set_thrown(&tx, walk, true, at(5)).unwrap();
    assert_eq!(events::to_publish(&conn, at(30)).unwrap(), []);
    assert_eq!(house::kinds(&conn).unwrap().len(), 2);
    assert!(!events::rows(&conn).unwrap().iter().any(|r| r.event.id == walk));
    events::set_thrown(&tx, walk, false, at(6)).unwrap();
    assert_eq!(events::to_publish(&conn, at(30)).unwrap(), [walk], "its time is had back, too");
    // Brought back when that time has passed, it waits for somebody to say so.
    events::set_thrown(&tx, walk, true, at(7)).unwrap();
    events::set_thrown(&tx, walk, false, at(25)).unwrap();
    assert_eq!(events::to_publish(&conn, at(30)).unwrap(), []);
    assert_eq!(events::rows(&conn).unwrap().len(), 4);
    // What is published is not thrown away, whoever asks.
    events::set_state(&tx, walk, events::EventState::Published).unwrap();
    events::set_thrown(&tx, walk, true, at(26)).unwrap();
    assert_eq!(events::by_id(&conn, walk).unwrap().unwrap().thrown_at, None);
}
