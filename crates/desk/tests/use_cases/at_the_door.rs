//! The door in full: devices, what they settle later, families, walk-ins, seats given up.

use std::collections::HashMap;

use jiff::{SignedDuration, Timestamp};
use matricle_core::door::Presence;
use matricle_core::door::device::DeviceRefusal;
use matricle_core::door::passages::{Did, Finding, Passage, Way, standing};
use matricle_core::money::ledger::Method;
use matricle_core::seats::Wanted;
use matricle_core::{AttendeeId, DateId};
use matricle_desk::bookings::cancel::By;
use matricle_desk::bookings::{cancel, pass_on, waiting};
use matricle_desk::door::after::{self, Mark};
use matricle_desk::door::board;
use matricle_desk::door::papers;
use matricle_desk::door::report::{About, ReportLine, report};
use matricle_desk::door::settling::{Queued, SettledScan, settle_one};
use matricle_desk::door::walk_in::{WalkIn, for_walk_ins, walk_in};
use matricle_desk::door::walked_in::{WalkedIn, settle_walk_in};
use matricle_desk::door::{self, Device, Outcome, Shown, Volunteer, With, devices, roster, set_up};
use matricle_desk::{DeskError, door::flow};
use matricle_store::door as db;

use crate::world::{CANDLES, World, form, world};

const OPEN_DAY: &str = "apiary-open-day";

impl World {
    async fn presence(&self, id: AttendeeId) -> Presence {
        let found = self.desk.store.read(move |c| db::by_id(c, id)).await.unwrap();
        found.unwrap().facts.presence
    }

    async fn report(&self, date: DateId) -> Vec<ReportLine> {
        report(&self.desk, &self.staff(0).await, date).await.unwrap()
    }

    async fn joined(&self, name: &str, fields: &[(&str, &str)]) -> Volunteer {
        let mut all = vec![("name", name)];
        all.extend_from_slice(fields);
        let letters =
            devices::let_join(&self.desk, &self.staff(0).await, form(&all)).await.unwrap();
        let typed = letters.letters.to_string().to_lowercase();
        let (token, _) = devices::join(&self.desk, &typed, "10.0.0.1").await.unwrap();
        let device = devices::by_token(&self.desk, &token).await.unwrap().unwrap();
        Volunteer::Device(Box::new(device))
    }

    /// A paid booking whose door is open, with its date and each one's key and code.
    pub(crate) async fn at_open_door(
        &self,
        slug: &str,
        quantities: &[u32],
    ) -> (matricle_core::words::codes::Reference, DateId, Vec<(AttendeeId, String)>) {
        let reference = self.paid(slug, quantities).await;
        let sheet = self.sheet(reference).await;
        door::open(&self.desk, &self.staff(0).await, sheet.date.id, true, String::new())
            .await
            .unwrap();
        let people = sheet.attendees.iter().map(|a| (a.id, a.code.as_str().to_owned())).collect();
        (reference, sheet.date.id, people)
    }

    async fn show(&self, date: DateId, door: &str, key: &str, code: &str) -> Outcome {
        let bram = self.staff(1).await;
        door::show(&self.desk, &bram, date, Device::at(door, key), Shown::Text(code.into()))
            .await
            .unwrap()
    }

    fn queued(&self, key: &str, code: &str, did: Did, minutes_ago: i64, door: &str) -> Queued {
        Queued {
            key: key.into(),
            shown: Shown::Text(code.into()),
            did,
            at: self.desk.clock.now() - SignedDuration::from_mins(minutes_ago),
            behind: SignedDuration::ZERO,
            door: door.into(),
            cash: None,
            said: String::new(),
            undone: None,
        }
    }

    async fn settle(&self, by: &Volunteer, date: DateId, queued: Queued) -> SettledScan {
        settle_one(&self.desk, by, date, queued).await.unwrap()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_joins_once_does_what_it_was_given_and_is_sent_away_at_once() {
    let w = world().await;
    let (ilse, bram) = (w.staff(0).await, w.staff(1).await);
    let (_, date, people) = w.at_open_door(CANDLES, &[1, 0, 0]).await;
    let letters = devices::let_join(&w.desk, &ilse, form(&[("name", "Gate")])).await.unwrap();
    let typed = letters.letters.to_string();
    assert!(devices::join(&w.desk, &typed, "a").await.is_ok());
    let refused = |outcome: Result<_, DeskError>| {
        matches!(outcome, Err(DeskError::Device(DeviceRefusal::Letters)))
    };
    assert!(refused(devices::join(&w.desk, &typed, "b").await), "once");
    let late = devices::let_join(&w.desk, &ilse, form(&[])).await.unwrap();
    w.pass(16);
    assert!(refused(devices::join(&w.desk, &late.letters.to_string(), "c").await), "too late");
    let mut outcome = Ok(());
    for _ in 0..30 {
        outcome = devices::join(&w.desk, "BCDFGHJX", "guesser").await.map(drop);
    }
    assert!(matches!(outcome, Err(DeskError::TooOften { .. })), "guessing is slowed down");
    assert!(matches!(devices::let_join(&w.desk, &bram, form(&[])).await, Err(DeskError::Right(_))));

    let device = w.joined("Gate", &[("dates", &date.to_string())]).await;
    let other = w.choice("is-beekeeping-for-me", &[1]).await.0;
    door::open(&w.desk, &ilse, other, true, String::new()).await.unwrap();
    let refusal = |outcome: Result<Outcome, DeskError>| match outcome {
        Err(DeskError::Device(refusal)) => Some(refusal),
        _ => None,
    };
    let show = async |date, key: &str| {
        door::show(
            &w.desk,
            &device,
            date,
            Device::at("gate", key),
            Shown::Text(people[0].1.clone()),
        )
        .await
    };
    assert_eq!(refusal(show(other, "key-other").await), Some(DeviceRefusal::OtherDate));
    assert_eq!(door::todays(&w.desk, &device).await.unwrap().len(), 1, "its own date alone");
    let pay = door::pay(
        &w.desk,
        &device,
        (date, Device::at("gate", "key-pay")),
        people[0].0,
        800,
        With::Cash,
    );
    assert_eq!(refusal(pay.await), Some(DeviceRefusal::NoMoney));
    let told = roster::roster(&w.desk, &device, date, "gate".into()).await.unwrap();
    assert!(told.people.len() > 10 && !told.takes_money && told.until > told.span.ends_at);
    assert_eq!(show(date, "key-one").await.unwrap().told.verdict.word(), "come in");

    let Volunteer::Device(known) = &device else { unreachable!() };
    w.pass(3);
    // It has announced one scan.
    let (id, now) = (known.id, w.desk.clock.now());
    let said = matricle_store::devices::Said { to_send: 1, ..Default::default() };
    let heard =
        move |tx: &matricle_store::Tx<'_>| matricle_store::devices::heard(tx, id, &said, now);
    w.desk.store.write(heard).await.unwrap();
    devices::send_away(&w.desk, &ilse, known.id).await.unwrap();
    let all = devices::all(&w.desk, &ilse).await.unwrap();
    let gone = all.iter().find(|d| d.id == known.id).unwrap();
    let away = Volunteer::Device(Box::new(gone.clone()));
    assert!(matches!(
        door::names(&w.desk, &away, (date, "gate"), "a").await,
        Err(DeskError::Device(DeviceRefusal::SentAway))
    ));
    // What it did before that it still hands in; what it did after lets nobody in.
    let (more_reference, _, more) = w.at_open_door(CANDLES, &[2, 0, 0]).await;
    let before =
        w.settle(&away, date, w.queued("key-before", &more[0].1, Did::LetIn, 1, "gate")).await;
    assert_eq!(before.line, Some(Finding::OfSentAway), "with a line, whatever it was");
    // Handed in again it is the same; more than it announced is not believed, by whatever clock.
    w.settle(&away, date, w.queued("key-before", &more[0].1, Did::LetIn, 1, "gate")).await;
    let mut cash = w.queued("key-more", &more[1].1, Did::LetIn, 2, "gate");
    cash.cash = Some((800, "r1".into()));
    let paid = async || w.sheet(more_reference).await.booking.paid.minor;
    let was = paid().await;
    let more_of_it = w.settle(&away, date, cash).await;
    assert_eq!(more_of_it.line, Some(Finding::CashSaid { minor: 800 }));
    assert_eq!(paid().await, was, "money waits for a person");
    w.pass(5);
    let after =
        w.settle(&away, date, w.queued("key-after", &more[1].1, Did::LetIn, 1, "gate")).await;
    assert_eq!(after.line, Some(Finding::AfterSentAway));
    assert!(matches!(w.presence(more[0].0).await, Presence::In { .. }));
    assert_eq!(w.presence(more[1].0).await, Presence::Expected);
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_settled_later_has_its_rule_and_its_line() {
    let w = world().await;
    let (ilse, bram) = (w.staff(0).await, w.staff(1).await);
    let by = Volunteer::from(&bram);
    let (first, date, people) = w.at_open_door(CANDLES, &[4, 0, 0]).await;
    let code = |n: usize| people[n].1.as_str();
    // Earlier at the side gate, without network, than at the gate with it.
    w.show(date, "gate", "key-gate", code(0)).await;
    let told = w.settle(&by, date, w.queued("key-side", code(0), Did::LetIn, 9, "side gate")).await;
    let (stands, other) = told.twice.unwrap();
    assert_eq!((stands.door.as_str(), other.door.as_str()), ("side gate", "gate"));
    assert!(
        matches!(w.presence(people[0].0).await, Presence::In { door, .. } if door == "side gate")
    );
    // Undone at the side gate, the other one stands.
    door::undo(&w.desk, &bram, date, told.scan).await.unwrap();
    assert!(matches!(w.presence(people[0].0).await, Presence::In { door, .. } if door == "gate"));
    assert!(w.report(date).await.is_empty());

    // The answer came too late, and the device had sent them away: nobody is in.
    w.show(date, "gate", "key-late", code(1)).await;
    w.settle(&by, date, w.queued("key-late", code(1), Did::SentAway, 0, "gate")).await;
    assert_eq!(w.presence(people[1].0).await, Presence::Expected);
    // And the other way round; handed in twice it is one.
    for _ in 0..2 {
        w.settle(&by, date, w.queued("key-in", code(1), Did::LetIn, 0, "gate")).await;
    }
    assert!(matches!(w.presence(people[1].0).await, Presence::In { .. }));

    // Cancelled meanwhile, and passed on meanwhile.
    let (gone, _, cancelled) = w.at_open_door(CANDLES, &[1, 0, 0]).await;
    cancel::cancel(&w.desk, By::Staff(ilse.clone(), None), gone, Vec::new()).await.unwrap();
    let told =
        w.settle(&by, date, w.queued("key-gone", &cancelled[0].1, Did::LetIn, 3, "gate")).await;
    assert_eq!(
        (told.line, w.presence(cancelled[0].0).await),
        (Some(Finding::Cancelled), Presence::Expected)
    );
    let fields = form(&[("new_name", "Kit Marsh"), ("new_email", "kit@post.example")]);
    pass_on::pass_on(&w.desk, By::Booker, first, people[2].0, fields).await.unwrap();
    let told = w.settle(&by, date, w.queued("key-old", code(2), Did::LetIn, 3, "gate")).await;
    assert_eq!(told.line, Some(Finding::PassedOn));
    let unknown =
        w.settle(&by, date, w.queued("key-x", "4006381333931", Did::LetIn, 3, "gate")).await;
    assert_eq!(unknown.line, Some(Finding::Unknown));

    // Whom a device sent away is kept with the word it gave, and cash that it gave back with its
    // receipt.
    let said = async |key: &str, code: &str, said: &str, undone: Option<(i64, String)>| {
        let away = w.queued(key, code, Did::SentAway, 3, "gate");
        w.settle(&by, date, Queued { said: said.into(), undone, ..away }).await;
        let log = door::log(&w.desk, &bram, date).await.unwrap();
        let row = log.into_iter().next().unwrap();
        (row.told.verdict.word(), format!("{:?}", row.told.why))
    };
    let inside =
        matricle_core::door::Verdict::AlreadyIn { at: w.desk.clock.now(), door: String::new() };
    assert_eq!(said("key-away-1", code(0), "already in", None).await.0, inside.word());
    assert_eq!(said("key-away-2", code(0), "to pay", None).await.0, "to pay");
    assert_eq!(said("key-away-3", code(0), "went out", None).await.0, "went out");
    assert_eq!(said("key-away-4", code(0), "the moon", None).await.0, "unknown");
    let (word, why) = said("key-away-5", code(0), "come in", Some((800, "D1-007".into()))).await;
    assert_eq!(word, "not in");
    assert!(why.contains("receipt D1-007, €8.00 given back"), "{why}");

    // Cash at two doors: the second is to be given back, and neither is lost.
    let owing = w.desk.store.read(move |c| db::by_words(c, date, "", 200)).await.unwrap();
    let owing = owing.into_iter().find(|p| p.facts.due.minor > 0).unwrap();
    let due = owing.facts.due.minor;
    for (key, receipt) in [("key-cash-1", "D1-001"), ("key-cash-2", "D2-001")] {
        let cash = Queued {
            shown: Shown::Attendee(owing.facts.attendee),
            cash: Some((due, receipt.into())),
            ..w.queued(key, "", Did::LetIn, 2, receipt)
        };
        for _ in 0..2 {
            w.settle(&by, date, cash.clone()).await;
        }
    }
    let lines = w.report(date).await;
    let twice = lines.iter().filter(|l| matches!(l.about, About::Twice(..))).count();
    let paid = lines.iter().any(|l| l.about == About::Found(Finding::PaidTwice { minor: due }));
    assert!(twice == 1 && paid, "{lines:#?}");
    let refunds = w.desk.store.read(matricle_store::refunds::open_ones).await.unwrap();
    assert_eq!(
        refunds.iter().filter(|r| r.0.minor == due && r.0.booking == owing.booking).count(),
        1
    );
    w.sound().await;
}

/// Three devices with clocks that are off, with network and without; undoing, going out,
/// cancelling and passing on in between; what they keep arrives late, in turns, twice. Nobody is
/// let in twice without a line, the earliest stands, counts are people, and nothing is lost.
#[tokio::test(flavor = "multi_thread")]
async fn whatever_happens_in_whatever_order_the_evening_adds_up() {
    for seed in 1..=4u64 {
        let mut random = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15);
        let mut dice = move |n: u64| {
            random ^= random << 13;
            random ^= random >> 7;
            random ^= random << 17;
            random % n
        };
        let w = world().await;
        let (ilse, bram) = (w.staff(0).await, w.staff(1).await);
        let by = Volunteer::from(&bram);
        let (reference, date, mut people) = w.at_open_door(CANDLES, &[3, 0, 0]).await;
        let (doomed, _, more) = w.at_open_door(CANDLES, &[2, 0, 0]).await;
        people.extend(more);
        // What each device believes of whom, from the roster it took along.
        let devices = ["gate", "side gate", "yard"];
        let off =
            [SignedDuration::from_mins(11), SignedDuration::ZERO, SignedDuration::from_mins(-7)];
        let mut believes: Vec<HashMap<AttendeeId, bool>> = vec![HashMap::new(); 3];
        let mut waiting: Vec<Vec<Queued>> = vec![Vec::new(); 3];
        let mut let_in: Vec<(AttendeeId, String)> = Vec::new();
        let (mut cancelled, mut passed_on, mut n) = (false, false, 0);
        for _ in 0..60 {
            n += 1;
            w.desk.clock.advance(SignedDuration::from_secs(20));
            let (device, key) = (usize::try_from(dice(3)).unwrap(), format!("key-{seed}-{n}"));
            let (id, code) = people[usize::try_from(dice(people.len() as u64)).unwrap()].clone();
            match dice(10) {
                0..=2 => {
                    let outcome = w.show(date, devices[device], &key, &code).await;
                    if outcome.passed {
                        believes[device].insert(id, true);
                        let_in.push((id, key));
                    }
                }
                3..=7 => {
                    let inside = believes[device].get(&id).copied().unwrap_or(false);
                    let did = match (inside, dice(4)) {
                        (true, 0) => Did::LetOut,
                        (true, _) => Did::SentAway,
                        (false, _) => Did::LetIn,
                    };
                    match did {
                        Did::LetIn => {
                            believes[device].insert(id, true);
                            let_in.push((id, key.clone()));
                        }
                        Did::LetOut => drop(believes[device].insert(id, false)),
                        Did::SentAway => {}
                    }
                    let queued = Queued {
                        at: w.desk.clock.now() - off[device],
                        behind: off[device],
                        ..w.queued(&key, &code, did, 0, devices[device])
                    };
                    waiting[device].push(queued);
                }
                8 => {
                    let log = door::log(&w.desk, &bram, date).await.unwrap();
                    if let Some(scan) = log.iter().find(|s| {
                        s.passed && !s.undone && people.iter().any(|p| Some(p.0) == s.attendee)
                    }) {
                        door::undo(&w.desk, &bram, date, scan.scan).await.unwrap();
                    }
                }
                _ if !cancelled => {
                    // Refused while somebody is in with it, and then it stands.
                    let by = By::Staff(ilse.clone(), None);
                    cancelled = cancel::cancel(&w.desk, by, doomed, Vec::new()).await.is_ok();
                }
                _ if !passed_on => {
                    let fields =
                        form(&[("new_name", "Ana Quill"), ("new_email", "ana@post.example")]);
                    passed_on =
                        pass_on::pass_on(&w.desk, By::Booker, reference, people[0].0, fields)
                            .await
                            .is_ok();
                }
                _ => {}
            }
            // Now and then the network of one is back for a while.
            if dice(7) == 0 {
                let some = usize::try_from(dice(3)).unwrap();
                for queued in waiting[some].iter().take(2).cloned().collect::<Vec<_>>() {
                    w.settle(&by, date, queued).await;
                }
            }
        }
        let keys: Vec<String> = waiting.iter().flatten().map(|q| q.key.clone()).collect();
        for device in [2, 0, 1] {
            for queued in &waiting[device] {
                w.settle(&by, date, queued.clone()).await;
            }
        }
        let lines = w.report(date).await;
        let (keys_there, undone) = w
            .desk
            .store
            .read(move |c| {
                let scans = db::last_scans(c, date, 500)?;
                let undone: Vec<String> =
                    scans.iter().filter(|s| s.undone_at.is_some()).map(|s| s.key.clone()).collect();
                Ok::<_, matricle_store::StoreError>((
                    scans.into_iter().map(|s| (s.key.clone(), s.id)).collect::<Vec<_>>(),
                    undone,
                ))
            })
            .await
            .unwrap();
        for key in &keys {
            assert_eq!(keys_there.iter().filter(|k| k.0 == *key).count(), 1, "seed {seed}: {key}");
        }
        // Everybody who was let in by anybody stands, or is told.
        for (id, key) in &let_in {
            if undone.contains(key) {
                continue;
            }
            let scan = keys_there.iter().find(|k| k.0 == *key).unwrap().1;
            let passages: Vec<Passage> = w
                .desk
                .store
                .read({
                    let id = *id;
                    move |c| db::passages(c, id)
                })
                .await
                .unwrap();
            let told = lines.iter().any(|l| l.scan == scan);
            let mut stood = passages.clone();
            stood.sort_by_key(|p| (p.at, p.scan));
            let at = stood.iter().position(|p| p.scan == scan);
            let alone = at.is_some_and(|at| at == 0 || stood[at - 1].way == Way::Out);
            assert!(
                told || alone,
                "seed {seed}: {key} of {id} neither stands nor is told: {stood:?}"
            );
            assert_eq!(w.presence(*id).await, standing(&passages).presence, "seed {seed}");
        }
        w.sound().await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_family_comes_in_with_one_scan_and_who_is_missing_is_taken_out() {
    let w = world().await;
    let (ilse, bram) = (w.staff(0).await, w.staff(1).await);
    let (_, date, people) = w.at_open_door(OPEN_DAY, &[1, 0, 1, 0]).await;
    assert_eq!(people.len(), 5, "a grown-up and a family of four");
    let set = form(&[("most", "4"), ("again", "yes")]);
    set_up::keep(&w.desk, &ilse, date, set).await.unwrap();
    let told = w.show(date, "gate", "key-family", &people[2].1).await;
    assert_eq!((told.told.with.len(), told.told.others.len()), (3, 1), "{:?}", told.told);
    assert_eq!(w.report(date).await, []);
    // Full: the fifth waits, until an organiser lifts the limit with a reason.
    let full = w.show(date, "gate", "key-full", &people[0].1).await;
    assert_eq!(full.told.verdict.word(), "full");
    assert!(matches!(
        set_up::lift(&w.desk, &ilse, date, true, form(&[])).await,
        Err(DeskError::Form(_))
    ));
    set_up::lift(&w.desk, &ilse, date, true, form(&[("why", "the yard is open too")]))
        .await
        .unwrap();
    assert_eq!(
        w.show(date, "gate", "key-lifted", &people[0].1).await.told.verdict.word(),
        "come in"
    );
    // One of the family is not here after all; then all of them go with one undo.
    let missing = &told.told.with[0];
    let undone = door::undo(&w.desk, &bram, date, missing.0).await.unwrap();
    assert_eq!(undone.stands, Some(Presence::Expected));
    door::undo(&w.desk, &bram, date, told.scan).await.unwrap();
    for person in &people[1..] {
        assert_eq!(w.presence(person.0).await, Presence::Expected);
    }
    // Out and in again, as the date allows it; then not any more.
    let out = Device { way: Way::Out, ..Device::at("gate", "key-out") };
    let left = door::show(&w.desk, &bram, date, out.clone(), Shown::Text(people[0].1.clone()))
        .await
        .unwrap();
    assert_eq!((left.told.verdict.word(), w.presence(people[0].0).await), ("out", Presence::Left));
    set_up::keep(&w.desk, &ilse, date, form(&[("name_0", "Gate"), ("name_1", "Yard")]))
        .await
        .unwrap();
    assert_eq!(
        w.show(date, "gate", "key-back", &people[0].1).await.told.verdict.word(),
        "went out"
    );
    // A door for some tickets sends the others to theirs.
    let tickets = set_up::set_up(&w.desk, &ilse, date).await.unwrap().tickets;
    let (grown, family) = (tickets[0].0.to_string(), tickets[2].0.to_string());
    let doors = form(&[
        ("again", "yes"),
        ("name_0", "Gate"),
        ("tickets_0", &grown),
        ("name_1", "Yard"),
        ("tickets_1", &family),
    ]);
    set_up::keep(&w.desk, &ilse, date, doors).await.unwrap();
    let told = w.show(date, "Gate", "key-way", &people[1].1).await;
    assert_eq!(told.told.verdict, matricle_core::door::Verdict::OtherDoor { door: "Yard".into() });
    // A wristband of the house lets its bearer in like their ticket.
    door::give_code(&w.desk, &bram, date, " band-0042", people[1].0).await.unwrap();
    assert_eq!(w.show(date, "Yard", "key-band", "BAND-0042").await.told.verdict.word(), "come in");
    assert!(
        door::give_code(&w.desk, &bram, date, &people[0].1, people[1].0).await.is_err(),
        "a ticket is no wristband"
    );
    let told = flow::of_date(&w.desk, &ilse, date).await.unwrap();
    assert!(told.between.0 <= told.between.1);
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_walk_in_pays_and_comes_in_at_once_and_seats_of_the_absent_go_to_the_line() {
    let w = world().await;
    let (ilse, bram) = (w.staff(0).await, w.staff(1).await);
    let (date, _) = w.choice(CANDLES, &[1]).await;
    let told = for_walk_ins(&w.desk, &bram, date).await.unwrap();
    let member = &told.tickets[0];
    let walk = |due, key: &str, waiter: Option<i64>| {
        let wanted = vec![Wanted { ticket: member.ticket, quantity: 1 }];
        let wanted = if waiter.is_some() { Vec::new() } else { wanted };
        let walk =
            WalkIn { wanted, due_minor: due, method: Method::Cash, name: String::new(), waiter };
        walk_in(&w.desk, &bram, (date, Device::at("gate", key)), walk)
    };
    assert!(matches!(walk(1, "key-wrong", None).await, Err(DeskError::PriceChanged { .. })));
    let price = member.price.minor;
    let one = walk(price, "key-walk", None).await.unwrap();
    assert_eq!(walk(price, "key-walk", None).await.unwrap().scan, one.scan, "sent again: once");
    assert!(one.passed && one.told.name.starts_with("Walk-in"), "{:?}", one.told);
    // Without a right to money only what is free.
    let poor = w.joined("Gate", &[]).await;
    let free = WalkIn {
        wanted: vec![Wanted { ticket: member.ticket, quantity: 1 }],
        due_minor: price,
        method: Method::Cash,
        name: String::new(),
        waiter: None,
    };
    let refused = walk_in(&w.desk, &poor, (date, Device::at("gate", "key-poor")), free).await;
    assert!(matches!(refused, Err(DeskError::Device(DeviceRefusal::NoMoney))));

    // All seats go, somebody waits, and nobody has come when the minute is over.
    let mut taken = 0;
    while walk(price, &format!("key-fill-{taken}"), None).await.is_ok() {
        taken += 1;
    }
    let wanted = vec![Wanted { ticket: member.ticket, quantity: 1 }];
    let fields = form(&[("name", "Ros Hale"), ("email", "ros@post.example")]);
    let waits = waiting::join(&w.desk, date, wanted, &Default::default(), fields).await.unwrap();
    set_up::keep(&w.desk, &ilse, date, form(&[("again", "yes"), ("give_up", "10")])).await.unwrap();
    assert!(walk(price, "key-early", Some(waits.id)).await.is_err(), "not before the minute");
    let starts = told.from;
    assert_eq!(starts, None, "before it was set");
    let from = for_walk_ins(&w.desk, &bram, date).await.unwrap().from.unwrap();
    let now: Timestamp = w.desk.clock.now();
    w.desk.clock.advance(from.duration_since(now));
    let told = for_walk_ins(&w.desk, &bram, date).await.unwrap();
    assert!(told.given_up > 0 && told.line[0].fits && told.line[0].name == "Ros Hale", "{told:?}");
    let absent = w.desk.store.read(move |c| db::not_come(c, date)).await.unwrap();
    let came = walk(price, "key-line", Some(waits.id)).await.unwrap();
    assert_eq!(came.told.name, "Ros Hale");
    // The last who booked and had not come hears it, politely.
    let late = absent[0].0;
    let shown =
        door::show(&w.desk, &bram, date, Device::at("gate", "key-late"), Shown::Attendee(late))
            .await
            .unwrap();
    assert_eq!(shown.told.verdict.word(), "seat given up");

    // Money that was taken is handed back with the undo.
    let paid = door::undo(&w.desk, &bram, date, one.scan).await.unwrap();
    assert_eq!(
        (paid.stands, paid.back),
        (Some(Presence::Expected), None),
        "a walk-in's money stays"
    );
    let owing = w.desk.store.read(move |c| db::by_words(c, date, "", 200)).await.unwrap();
    let owing = owing.into_iter().find(|p| p.facts.due.minor > 0).unwrap();
    let due = owing.facts.due.minor;
    let took = door::pay(
        &w.desk,
        &bram,
        (date, Device::at("gate", "key-cash")),
        owing.facts.attendee,
        due,
        With::Cash,
    )
    .await
    .unwrap();
    assert!(took.passed);
    let back = door::undo(&w.desk, &bram, date, took.scan).await.unwrap();
    assert_eq!(back.back.map(|b| b.minor), Some(due));
    let again =
        w.desk.store.read(move |c| db::by_id(c, owing.facts.attendee)).await.unwrap().unwrap();
    assert_eq!((again.facts.due.minor, again.facts.presence), (due, Presence::Expected));
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn who_came_is_gone_through_closed_and_opened_again_and_certificates_are_confirmed() {
    let w = world().await;
    let (ilse, bram, owen) = (w.staff(0).await, w.staff(1).await, w.staff(3).await);
    let (_, date, people) = w.at_open_door(CANDLES, &[3, 0, 0]).await;
    let mark =
        async |who: usize, mark| after::mark(&w.desk, &ilse, date, people[who].0, mark).await;
    let closed = |outcome: Result<_, DeskError>| matches!(outcome, Err(DeskError::ListClosed));
    assert!(closed(mark(0, Mark::Missed).await), "it has not begun");
    assert!(matches!(after::list(&w.desk, &bram, date).await, Err(DeskError::Right(_))));
    assert!(
        matches!(after::list(&w.desk, &owen, date).await, Err(DeskError::Right(_))),
        "he does not lead it"
    );
    w.show(date, "gate", "key-one", &people[0].1).await;
    w.pass(180);
    mark(1, Mark::CameLate).await.unwrap();
    let of = async |who: usize| {
        let list = after::list(&w.desk, &ilse, date).await.unwrap();
        list.people.into_iter().find(|p| p.attendee == people[who].0).unwrap().mark
    };
    assert_eq!((of(0).await, of(1).await, of(2).await), (Mark::Came, Mark::CameLate, Mark::Open));
    // What the door wrote was a mistake; and back.
    mark(0, Mark::Missed).await.unwrap();
    assert_eq!(of(0).await, Mark::Missed);
    mark(0, Mark::Came).await.unwrap();
    let missed = after::close(&w.desk, &ilse, date).await.unwrap();
    assert!(missed > 0 && of(2).await == Mark::Missed);
    assert!(closed(mark(2, Mark::Came).await));
    // A device hands in after it was closed: whoever came is not forgotten by opening it again.
    let by = Volunteer::from(&bram);
    w.settle(&by, date, w.queued("key-late", &people[2].1, Did::LetIn, 100, "yard")).await;
    assert!(matches!(
        after::open_again(&w.desk, &ilse, date, form(&[])).await,
        Err(DeskError::Form(_))
    ));
    after::open_again(&w.desk, &ilse, date, form(&[("why", "one was there")])).await.unwrap();
    assert_eq!((of(0).await, of(2).await), (Mark::Came, Mark::Came));
    assert!(after::close(&w.desk, &ilse, date).await.unwrap() < missed);

    // A certificate of one who came is confirmed by number and code, and by nothing else.
    let asked = papers::PaperChoice::new(papers::Kind::Certificates);
    assert!(papers::paper(&w.desk, &ilse, date, asked, "").await.unwrap().1.starts_with(b"%PDF"));
    let code = |who: usize| w.desk.secrets.certificate_code(people[who].0).to_string();
    let confirm = async |number: AttendeeId, code: String| {
        papers::confirm(&w.desk, &number.to_string(), &code, "10.0.0.2").await
    };
    let told = confirm(people[0].0, code(0).to_lowercase()).await.unwrap();
    assert!(told.title.contains("Candles") && !told.name.is_empty());
    assert!(matches!(confirm(people[0].0, code(1)).await, Err(DeskError::NotFound)));
    let absent = w.desk.store.read(move |c| db::missed_at_close(c, date)).await.unwrap()[0];
    let theirs = w.desk.secrets.certificate_code(absent).to_string();
    assert!(matches!(confirm(absent, theirs).await, Err(DeskError::NotFound)), "they did not come");
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_party_without_tickets_comes_in_together_and_nobody_pays_to_stand_outside() {
    let w = world().await;
    let (ilse, bram) = (w.staff(0).await, w.staff(1).await);
    let (date, _) = w.choice(CANDLES, &[1]).await;
    let sold = for_walk_ins(&w.desk, &bram, date).await.unwrap().tickets.remove(0);
    let party = |key: &str| {
        let wanted = vec![Wanted { ticket: sold.ticket, quantity: 3 }];
        let walk = WalkIn {
            wanted,
            due_minor: 3 * sold.price.minor,
            method: Method::Cash,
            name: String::new(),
            waiter: None,
        };
        walk_in(&w.desk, &bram, (date, Device::at("gate", key)), walk)
    };
    let before = door::board(&w.desk, &bram, date).await.unwrap().inside;
    let came = party("key-party").await.unwrap();
    assert_eq!((came.told.with.len(), came.told.others.len()), (2, 0));
    assert_eq!(door::board(&w.desk, &bram, date).await.unwrap().inside, before + 3);
    door::undo(&w.desk, &bram, date, came.scan).await.unwrap();
    assert_eq!(door::board(&w.desk, &bram, date).await.unwrap().inside, before, "all of them");
    let most = (before + 2).to_string();
    set_up::keep(&w.desk, &ilse, date, form(&[("most", &most), ("again", "yes")])).await.unwrap();
    let full = party("key-full").await;
    assert!(matches!(full, Err(DeskError::HallFull { .. })), "{full:?}");
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn whom_a_device_let_in_without_a_ticket_is_booked_paid_and_in_once() {
    let w = world().await;
    let bram = w.staff(1).await;
    let (_, date, _) = w.at_open_door(CANDLES, &[1, 0, 0]).await;
    let by = Volunteer::from(&bram);
    let sold = for_walk_ins(&w.desk, &bram, date).await.unwrap().tickets.remove(0);
    let inside = async || board(&w.desk, &bram, date).await.unwrap().inside;
    let walked = |key: &str, quantity: u32, cash: i64| WalkedIn {
        key: key.into(),
        ticket: sold.ticket,
        quantity,
        name: "Wren O'Dea".into(),
        at: w.desk.clock.now() - SignedDuration::from_mins(4),
        behind: SignedDuration::ZERO,
        door: "gate".into(),
        cash,
        receipt: "S2-001".into(),
    };
    let settle = async |walked| settle_walk_in(&w.desk, &by, date, walked).await.unwrap();
    let (each, before) = (sold.price.minor, inside().await);
    assert!(each > 0 && sold.left >= 4, "{sold:?}");
    for _ in 0..2 {
        let done = settle(walked("key-walk-1", 2, 2 * each)).await;
        assert_eq!(done.line, None);
    }
    assert_eq!(inside().await, before + 2, "both, and once");
    let left = for_walk_ins(&w.desk, &bram, date).await.unwrap().tickets.remove(0).left;
    assert_eq!(left, sold.left - 2);
    // What was paid too much is to be given back, what was not is owed: they are in all the same.
    let over = settle(walked("key-walk-2", 1, each + 300)).await;
    assert_eq!(over.line, Some(Finding::PaidTwice { minor: 300 }));
    let short = settle(walked("key-walk-3", 1, each - 100)).await;
    assert!(matches!(short.line, Some(Finding::Unpaid { due }) if due.minor == 100), "{short:?}");
    assert_eq!(inside().await, before + 4);
    // More than there are seats: nothing is booked, and a person hears of it, with the money.
    let many = settle(walked("key-walk-4", left, i64::from(left) * each)).await;
    let told = Finding::WalkedIn { people: left, minor: i64::from(left) * each };
    assert_eq!(many.line, Some(told.clone()));
    assert_eq!(inside().await, before + 4);
    assert!(w.report(date).await.iter().any(|l| l.about == About::Found(told.clone())));
    w.sound().await;
}
