//! Doors of rooms: sign-ups first, then free seats; with the network and without.

use jiff::{SignedDuration, Timestamp};
use matricle_core::dates::schedule::Span;
use matricle_core::door::Presence;
use matricle_core::door::passages::{Did, Way};
use matricle_core::{AttendeeId, DateId, SessionId};
use matricle_desk::door::settling::{Queued, settle_one};
use matricle_desk::door::{self, Device, Shown, Volunteer, report, roster, set_up};
use matricle_store::door as db;
use matricle_store::events::NewSession;
use matricle_store::sessions;

use crate::world::{World, form, world};

impl World {
    /// A session of ten minutes from now, with sign-ups, in a room of its own.
    async fn talk(&self, date: DateId, room: &'static str, seats: u32) -> SessionId {
        let now = self.desk.clock.now();
        let at = |minutes| {
            let at = now + SignedDuration::from_mins(minutes);
            matricle_formats::words::local(at, "Europe/Dublin").datetime()
        };
        let span = Span::new(at(10), at(70), "Europe/Dublin").unwrap();
        let new = NewSession {
            title: format!("Talk in the {room}"),
            track: String::new(),
            room: room.into(),
            host: String::new(),
            span,
            seats: Some(seats),
            sign_up: true,
        };
        self.desk.store.write(move |tx| sessions::add(tx, date, &new)).await.unwrap()
    }

    async fn in_the_room(&self, date: DateId, session: SessionId) -> (u32, u32) {
        let found = set_up::set_up(&self.desk, &self.staff(0).await, date).await.unwrap();
        let on = found.sessions.iter().find(|s| s.session.facts.id == session).unwrap();
        (on.room.inside(), on.came)
    }

    async fn goes(&self, date: DateId, door: &str, code: &str, way: Way) -> String {
        let key = format!("room-{door}-{code}-{:?}-{}", way, self.desk.clock.now());
        let device = Device { way, ..Device::at(door, &key) };
        let bram = self.staff(1).await;
        let told = door::show(&self.desk, &bram, date, device, Shown::Text(code.into())).await;
        told.unwrap().told.verdict.word().to_owned()
    }

    async fn is_in(&self, id: AttendeeId) -> bool {
        let found = self.desk.store.read(move |c| db::by_id(c, id)).await.unwrap();
        matches!(found.unwrap().facts.presence, Presence::In { .. })
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_room_has_its_own_door_with_sign_ups_first_and_free_seats_after() {
    let w = world().await;
    let (ilse, bram) = (w.staff(0).await, w.staff(1).await);
    let (_, date, people) = w.at_open_door("apiary-open-day", &[5, 0, 0, 0]).await;
    let (loft, yard) = (w.talk(date, "loft", 2).await, w.talk(date, "yard room", 9).await);
    let signed_up = [(people[0].0, loft), (people[1].0, loft), (people[2].0, yard)];
    let write = move |tx: &matricle_store::Tx<'_>| {
        signed_up.iter().try_for_each(|(who, what)| sessions::sign_up(tx, *who, &[*what], &[]))
    };
    w.desk.store.write(write).await.unwrap();
    let doors = [
        ("again", "yes"),
        ("free_after", "5"),
        ("name_0", "Gate"),
        ("name_1", "Loft door"),
        ("room_1", "loft"),
        ("name_2", "Yard door"),
        ("room_2", "yard room"),
    ];
    let unknown = form(&[("name_0", "Cellar door"), ("room_0", "cellar")]);
    assert!(set_up::keep(&w.desk, &ilse, date, unknown).await.is_err(), "no session is there");
    set_up::keep(&w.desk, &ilse, date, form(&doors)).await.unwrap();
    let code = |n: usize| people[n].1.as_str();

    // In at the gate, then at the door of the room; straight to the room is in as well.
    assert_eq!(w.goes(date, "Gate", code(0), Way::In).await, "come in");
    assert_eq!(w.goes(date, "Loft door", code(0), Way::In).await, "come in");
    assert!(w.is_in(people[0].0).await && !w.is_in(people[1].0).await);
    assert_eq!(w.in_the_room(date, loft).await, (1, 1));
    assert_eq!(w.goes(date, "Loft door", code(2), Way::In).await, "other door");
    assert_eq!(w.goes(date, "Loft door", code(3), Way::In).await, "sign-ups first");
    // By name as well, each door says what it would say of a ticket.
    let found = door::names(&w.desk, &bram, (date, "Loft door"), "").await.unwrap();
    let says = |n: usize| found.iter().find(|f| f.person.facts.attendee == people[n].0).unwrap();
    let words: Vec<&str> = (0..4).map(|n| says(n).verdict.word()).collect();
    assert_eq!(words, ["already in", "come in", "other door", "sign-ups first"]);
    w.pass(1);
    assert_eq!(w.goes(date, "Loft door", code(0), Way::In).await, "already in");
    assert_eq!(w.goes(date, "Gate", code(0), Way::In).await, "already in");

    // What a device takes along says the same.
    let volunteer = Volunteer::from(&bram);
    let taken = roster::roster(&w.desk, &volunteer, date, "Loft door".into()).await.unwrap();
    let there = taken.rooms.iter().find(|r| r.session == loft).unwrap();
    assert_eq!((there.free, there.inside.len()), ([Some(0), Some(1)], 1));
    let words = |told: &[door::Told; 2]| [told[0].verdict.word(), told[1].verdict.word()];
    assert_eq!(words(&there.here), ["come in", "come in"]);
    assert_eq!(words(&there.nothing), ["sign-ups first", "come in"]);
    assert_eq!(words(&there.elsewhere[0].1), ["other door", "come in"]);
    assert_eq!(taken.sign_ups, signed_up);

    // Five minutes into it the seat of whoever has not come is free, and then it is full.
    w.pass(14);
    assert_eq!(w.goes(date, "Loft door", code(3), Way::In).await, "come in");
    assert!(w.is_in(people[3].0).await, "whoever goes into a room has come");
    assert_eq!(w.goes(date, "Loft door", code(1), Way::In).await, "full");
    // A seat is free when somebody goes out, who is still at the date.
    assert_eq!(w.goes(date, "Loft door", code(3), Way::Out).await, "out");
    assert!(w.is_in(people[3].0).await);
    assert_eq!(w.in_the_room(date, loft).await, (1, 2));
    w.pass(1);
    assert_eq!(w.goes(date, "Loft door", code(1), Way::In).await, "come in");
    assert_eq!(w.goes(date, "Loft door", code(3), Way::In).await, "full");
    // Whoever goes into another room, or home, has left this one.
    w.pass(1);
    assert_eq!(w.goes(date, "Yard door", code(1), Way::In).await, "come in");
    assert_eq!(w.goes(date, "Gate", code(0), Way::Out).await, "out");
    assert_eq!(w.in_the_room(date, loft).await, (0, 3));
    assert_eq!(w.in_the_room(date, yard).await, (1, 1));

    // Without network: settled later, in whatever order, nobody is told as let in twice.
    let queued = |key: &str, n: usize, door: &str, at: Timestamp| Queued {
        key: key.into(),
        shown: Shown::Text(people[n].1.clone()),
        did: Did::LetIn,
        at,
        behind: SignedDuration::ZERO,
        door: door.into(),
        cash: None,
        said: String::new(),
        undone: None,
    };
    let now = w.desk.clock.now();
    let before = now - SignedDuration::from_mins(2);
    for item in [queued("late-room", 4, "Yard door", now), queued("late-gate", 4, "Gate", before)] {
        assert_eq!(settle_one(&w.desk, &bram, date, item).await.unwrap().twice, None);
    }
    assert_eq!(w.in_the_room(date, yard).await, (2, 2));
    assert_eq!(report::report(&w.desk, &ilse, date).await.unwrap(), []);
    // Undone at the room, they are where the gate let them.
    let scan = w.desk.store.read(|c| db::scan_by_key(c, "late-room")).await.unwrap().unwrap();
    let undone = door::undo(&w.desk, &bram, date, scan.id).await.unwrap();
    assert!(matches!(undone.stands, Some(Presence::In { door, .. }) if door == "Gate"));
    assert_eq!(w.in_the_room(date, yard).await, (1, 1));
    w.sound().await;
}
