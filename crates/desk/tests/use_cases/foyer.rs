//! Dates online: what an attendee's own link opens, before, during and after.

use std::sync::Arc;

use jiff::{SignedDuration, Timestamp};
use matricle_core::booking::State;
use matricle_core::door::Presence;
use matricle_core::door::foyer::{Beside, Stands};
use matricle_core::words::codes::{Reading, Reference, TicketCode, read};
use matricle_core::{AttendeeId, DateId};
use matricle_desk::bookings::cancel::{self, By};
use matricle_desk::bookings::pass_on;
use matricle_desk::door::foyer::{self, In, ONLINE};
use matricle_desk::door::{after, online};
use matricle_desk::outside::rooms::{Rehearsed, RoomError, Visit};
use matricle_desk::{Clock, DeskError};
use matricle_store::events;
use proptest::prelude::*;

use crate::world::{BOOKER, World, form, model, text_of, world};

const FROST: &str = "what-the-frost-does";

impl World {
    /// A confirmed place at an online talk: its code, the key of its link, its date.
    async fn place(&self) -> (TicketCode, String, DateId, Reference) {
        let reference = self.book(FROST, &[1]).await;
        let sheet = self.sheet(reference).await;
        assert_eq!(sheet.booking.state, State::Confirmed);
        let url = matricle_desk::messages::own_links(&self.desk, &sheet).pop().unwrap().1;
        let (rest, key) = url.rsplit_once('/').unwrap();
        let Reading::Code(code) = read(rest.rsplit_once('/').unwrap().1) else { panic!("{url}") };
        (code, key.to_owned(), sheet.date.id, reference)
    }

    /// The same world at another time.
    fn at(&mut self, at: Timestamp) {
        self.desk.clock = Clock::still(at);
    }

    async fn starts(&self, date: DateId) -> Timestamp {
        let found = self.desk.store.read(move |c| events::date_by_id(c, date)).await.unwrap();
        found.unwrap().1.span.starts_at
    }

    async fn where_is(&self, id: AttendeeId) -> Presence {
        let find = move |c: &matricle_store::Connection| matricle_store::door::by_id(c, id);
        self.desk.store.read(find).await.unwrap().unwrap().facts.presence
    }
}

fn minutes(n: i64) -> SignedDuration {
    SignedDuration::from_mins(n)
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_link_says_what_is_true_and_an_act_goes_in_once() {
    let mut w = world().await;
    let (code, key, date, _) = w.place().await;
    let starts = w.starts(date).await;
    let seen = foyer::look(&w.desk, code, &key, "mine").await.unwrap();
    assert!(matches!(seen.stands, Stands::Before(at) if at == starts - minutes(15)));
    // Guessing opens nothing, and too early nobody goes in.
    assert!(matches!(foyer::look(&w.desk, code, "x", "mine").await, Err(DeskError::NotFound)));
    assert_eq!(foyer::go(&w.desk, code, &key, "mine", None).await.unwrap(), In::Not);

    w.at(starts - minutes(10));
    for _ in 0..3 {
        let seen = foyer::look(&w.desk, code, &key, "scanner").await.unwrap();
        assert_eq!(seen.stands, Stands::Open);
    }
    assert_eq!(w.where_is(seen.attendee).await, Presence::Expected, "looking marks nobody");
    let went = foyer::go(&w.desk, code, &key, "mine", None).await.unwrap();
    assert!(
        matches!(went, In::With(ref to, ref pass) if to.contains("rooms.example") && pass == "smoker")
    );
    let came = Presence::In { at: starts - minutes(10), door: ONLINE.into() };
    assert_eq!(w.where_is(seen.attendee).await, came);
    // Out of the line and in again: it is no second coming, and another browser is seen.
    w.at(starts + minutes(5));
    foyer::go(&w.desk, code, &key, "mine", None).await.unwrap();
    assert_eq!(w.where_is(seen.attendee).await, came);
    assert_eq!(foyer::look(&w.desk, code, &key, "mine").await.unwrap().elsewhere, None);
    let other = foyer::look(&w.desk, code, &key, "other").await.unwrap();
    assert_eq!(other.elsewhere, Some(starts + minutes(5)));
    foyer::go(&w.desk, code, &key, "other", None).await.unwrap();
    let ilse = w.staff(0).await;
    let sheet = online::sheet(&w.desk, &ilse, date).await.unwrap();
    let line = sheet.people.iter().find(|p| p.attendee == seen.attendee).unwrap();
    assert_eq!((line.goes, &line.came), ((3, 2), &Some((starts - minutes(10), ONLINE.into()))));
    // One list, one count: whoever came online stands on the list of who came.
    let listed = after::list(&w.desk, &ilse, date).await.unwrap();
    let here = listed.people.iter().find(|p| p.attendee == seen.attendee).unwrap();
    assert_eq!(here.door, Some((starts - minutes(10), ONLINE.into())));

    // It can be stopped: the old link opens nothing any more, the new one is mailed.
    online::replace_link(&w.desk, &ilse, date, seen.attendee).await.unwrap();
    assert!(matches!(
        foyer::go(&w.desk, code, &key, "other", None).await,
        Err(DeskError::NotFound)
    ));
    w.due().await;
    let (raw, _) = w.to(BOOKER).pop().unwrap();
    let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
    let words = text_of(&mail);
    assert!(words.contains("/foyer/") && !words.contains(&key), "{words}");
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_late_address_a_moved_date_and_a_place_that_is_gone_are_said() {
    let mut w = world().await;
    let (code, key, date, reference) = w.place().await;
    let ilse = w.staff(0).await;
    let starts = w.starts(date).await;
    let of_its_own = |link: &str| {
        form(&[("room", "link"), ("link", link), ("opens_minutes", "20"), ("audience", "came")])
    };
    online::save(&w.desk, &ilse, date, of_its_own("")).await.unwrap();
    let bad = online::save(&w.desk, &ilse, date, of_its_own("javascript:alert(1)")).await;
    assert!(matches!(bad, Err(DeskError::Form(_))));
    w.at(starts - minutes(18));
    let stands = |w: &World| {
        let (desk, key) = (w.desk.clone(), key.clone());
        async move { foyer::look(&desk, code, &key, "mine").await.map(|f| f.stands) }
    };
    assert_eq!(stands(&w).await.unwrap(), Stands::NoRoom);
    let today = matricle_desk::office::today(&w.desk, &ilse).await.unwrap();
    assert!(today.without_room.iter().any(|r| r.1 == date), "Today says so");
    assert_eq!(foyer::go(&w.desk, code, &key, "mine", None).await.unwrap(), In::Not);
    online::save(&w.desk, &ilse, date, of_its_own("https://rooms.example/late")).await.unwrap();
    assert_eq!(stands(&w).await.unwrap(), Stands::Open);
    w.shift(date, 1).await;
    let opens = w.starts(date).await - minutes(20);
    assert!(opens > starts);
    assert_eq!(stands(&w).await.unwrap(), Stands::Before(opens), "the new time");
    // Passed on, the link goes along with the ticket, and the old one dies.
    let seen = foyer::look(&w.desk, code, &key, "mine").await.unwrap();
    let to = form(&[("new_name", "Tove"), ("new_email", "tove@post.example")]);
    pass_on::pass_on(&w.desk, By::Booker, reference, seen.attendee, to).await.unwrap();
    assert!(matches!(stands(&w).await, Err(DeskError::NotFound)));
    w.due().await;
    let (code, key, date, reference) = w.place().await;
    cancel::cancel(&w.desk, By::Booker, reference, Vec::new()).await.unwrap();
    let gone = foyer::look(&w.desk, code, &key, "mine").await.unwrap();
    assert_eq!((gone.stands, gone.date.id), (Stands::Cancelled, date));
    assert_eq!(foyer::go(&w.desk, code, &key, "mine", None).await.unwrap(), In::Not);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_room_of_the_service_is_made_reports_and_brings_its_recording() {
    let mut w = world().await;
    let rooms = Arc::new(Rehearsed::default());
    w.desk.rooms = rooms.clone();
    let (code, key, date, _) = w.place().await;
    let ilse = w.staff(0).await;
    let starts = w.starts(date).await;
    let how = |more: &[(&str, &str)]| {
        let mut all = vec![("room", "made"), ("opens_minutes", "15"), ("audience", "came")];
        all.extend_from_slice(more);
        form(&all)
    };
    online::save(&w.desk, &ilse, date, how(&[("recorded", "yes"), ("straight_in", "yes")]))
        .await
        .unwrap();
    w.due().await;
    assert!(rooms.made.lock().unwrap().is_empty(), "not a week before");
    w.at(starts - minutes(60));
    *rooms.fails.lock().unwrap() = Some(RoomError::Failed("it sleeps".into()));
    w.due().await;
    assert!(rooms.made.lock().unwrap().is_empty());
    *rooms.fails.lock().unwrap() = None;
    w.at(starts - minutes(5));
    w.due().await;
    assert_eq!(rooms.made.lock().unwrap().len(), 1);
    assert!(rooms.made.lock().unwrap()[0].record && rooms.made.lock().unwrap()[0].straight_in);
    *rooms.fails.lock().unwrap() = Some(RoomError::Full);
    assert_eq!(foyer::go(&w.desk, code, &key, "mine", None).await.unwrap(), In::Full);
    let seen = foyer::look(&w.desk, code, &key, "mine").await.unwrap();
    assert_eq!(
        w.where_is(seen.attendee).await,
        Presence::Expected,
        "who finds it full has not come"
    );
    *rooms.fails.lock().unwrap() = None;
    let went = foyer::go(&w.desk, code, &key, "mine", None).await.unwrap();
    assert!(matches!(went, In::To(ref to) if to.contains(&format!("a{}", seen.attendee))));

    // What it reports stands beside what the foyer knows; of strangers it reports nothing counts.
    let visit = |person: String, from, to| Visit {
        person,
        came_at: starts + minutes(from),
        left_at: Some(starts + minutes(to)),
    };
    let others = online::sheet(&w.desk, &ilse, date).await.unwrap().people;
    let other = others.iter().find(|p| p.attendee != seen.attendee).unwrap().attendee;
    *rooms.visits.lock().unwrap() = vec![
        visit(format!("a{}", seen.attendee), 0, 70),
        visit(format!("a{other}"), 10, 30),
        visit("a999999".into(), 0, 5),
        visit("somebody".into(), 0, 5),
    ];
    w.at(starts + minutes(80));
    w.due().await;
    let sheet = online::sheet(&w.desk, &ilse, date).await.unwrap();
    let of = |id| sheet.people.iter().find(|p| p.attendee == id).unwrap().beside.clone().unwrap();
    assert!(matches!(of(seen.attendee), Beside::Stayed { minutes: 70, .. }));
    assert!(matches!(of(other), Beside::AnotherWay { minutes: 20, .. }), "shown, and not hidden");
    assert_eq!(w.where_is(other).await, Presence::Expected, "nor settled by itself");

    // Afterwards the same link shows the recording, to those who came.
    *rooms.recording.lock().unwrap() = Some("https://rooms.example/recording/7".into());
    w.at(starts + minutes(90));
    w.due().await;
    let found = foyer::recording(&w.desk, code, &key).await.unwrap();
    assert_eq!(found, "https://rooms.example/recording/7");
    w.sound().await;
}

/// Whatever is told to people outside, where a room is stands in none of it.
#[tokio::test(flavor = "multi_thread")]
async fn no_mail_and_no_calendar_file_says_where_a_room_is() {
    let w = world().await;
    let reference = w.book(FROST, &[2]).await;
    w.due().await;
    let files = matricle_desk::messages::calendar_of(&w.desk, reference).await.unwrap();
    assert!(!files.contains("rooms.example") && files.contains("/foyer/"), "{files}");
    let mut seen = 0;
    for raw in w.mails.taken() {
        let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
        let mut all = String::from_utf8_lossy(&raw).into_owned();
        for n in 0..mail.text_body_count() {
            all.push_str(&mail.body_text(n).unwrap());
            all.push_str(&mail.body_html(n).unwrap_or_default());
        }
        assert!(!all.contains("rooms.example") && !all.contains("smoker"), "{all}");
        let to = mail.to().unwrap().first().unwrap().address().unwrap().to_owned();
        seen += usize::from(to == BOOKER && all.contains("/foyer/"));
    }
    assert_eq!(seen, 1);
    // Unless the organiser wants it to.
    let (ilse, date) = (w.staff(0).await, w.sheet(reference).await.date.id);
    let how = form(&[("room", "event"), ("opens_minutes", "15"), ("in_mails", "yes")]);
    online::save(&w.desk, &ilse, date, how).await.unwrap();
    let files = matricle_desk::messages::calendar_of(&w.desk, reference).await.unwrap();
    assert!(files.contains("rooms.example"));
}

/// A whole date with several rooms: one link leads to all of them, each by its own times.
#[tokio::test(flavor = "multi_thread")]
async fn one_link_leads_to_the_rooms_of_all_sessions() {
    use matricle_core::door::foyer::PartStands;
    use matricle_store::sessions;
    let mut w = world().await;
    let rooms = Arc::new(Rehearsed::default());
    w.desk.rooms = rooms.clone();
    let (code, key, date, reference) = w.place().await;
    let (ilse, starts) = (w.staff(0).await, w.starts(date).await);
    let zone = w.sheet(reference).await.date.span.zone;
    let ids: Vec<_> = {
        let mut ids = Vec::new();
        for (title, from, sign_up) in [("Wax", 0, false), ("Brood", 30, false), ("Mead", 30, true)]
        {
            let local =
                |n: i64| matricle_formats::words::local(starts + minutes(n), &zone).datetime();
            let span =
                matricle_core::dates::schedule::Span::new(local(from), local(from + 30), &zone)
                    .unwrap();
            let new = events::NewSession {
                title: title.into(),
                track: String::new(),
                room: String::new(),
                host: "Dilys Llewellyn".into(),
                span,
                seats: None,
                sign_up,
            };
            let add = move |tx: &matricle_store::Tx<'_>| sessions::add(tx, date, &new);
            ids.push(w.desk.store.write(add).await.unwrap());
        }
        ids
    };
    let [wax, brood, mead] = ids[..] else { panic!() };
    let names: Vec<String> = [
        (format!("part_{wax}"), "link".to_owned()),
        (format!("partlink_{wax}"), "https://rooms.example/wax".into()),
        (format!("partcode_{wax}"), "comb".into()),
        (format!("part_{brood}"), "made".into()),
        (format!("part_{mead}"), "link".into()),
    ]
    .into_iter()
    .flat_map(|(a, b)| [a, b])
    .collect();
    let mut how = vec![("room", "link"), ("opens_minutes", "10"), ("audience", "came")];
    how.extend(names.chunks(2).map(|c| (c[0].as_str(), c[1].as_str())));
    let mut bad = how.clone();
    bad.retain(|(name, _)| !name.starts_with("partlink"));
    let (wrong, link) = (format!("partlink_{wax}"), "nowhere");
    bad.push((&wrong, link));
    let refused = online::save(&w.desk, &ilse, date, form(&bad)).await;
    assert!(matches!(refused, Err(DeskError::Form(f)) if f[0].field == wrong));
    online::save(&w.desk, &ilse, date, form(&how)).await.unwrap();

    w.at(starts - minutes(9));
    w.due().await;
    assert_eq!(rooms.made.lock().unwrap().len(), 1, "one for the session that wants one");
    let look = |w: &World| {
        let (desk, key) = (w.desk.clone(), key.clone());
        async move { foyer::look(&desk, code, &key, "mine").await.unwrap() }
    };
    let seen = look(&w).await;
    let says = |f: &foyer::Foyer| f.parts.iter().map(|p| p.stands).collect::<Vec<_>>();
    let before = PartStands::Before(starts + minutes(20));
    assert_eq!((seen.stands, seen.one_room), (Stands::Open, false));
    assert_eq!(says(&seen), [PartStands::Open, before, PartStands::NotTheirs]);
    let go = |w: &World, session| {
        let (desk, key) = (w.desk.clone(), key.clone());
        async move { foyer::go(&desk, code, &key, "mine", session).await.unwrap() }
    };
    for shut in [None, Some(brood), Some(mead), Some(matricle_core::SessionId(99_999))] {
        assert_eq!(go(&w, shut).await, In::Not, "{shut:?}");
    }
    assert_eq!(w.where_is(seen.attendee).await, Presence::Expected);
    let with = In::With("https://rooms.example/wax".into(), "comb".into());
    assert_eq!(go(&w, Some(wax)).await, with);
    assert!(matches!(w.where_is(seen.attendee).await, Presence::In { .. }));
    w.at(starts + minutes(46));
    assert_eq!(says(&look(&w).await), [PartStands::Over, PartStands::Open, PartStands::NotTheirs]);
    assert!(matches!(go(&w, Some(brood)).await, In::To(_)));
    let (to, code) = online::lead(&w.desk, &ilse, date, Some(wax)).await.unwrap();
    assert_eq!((to.as_str(), code.as_str()), ("https://rooms.example/wax", "comb"));
    w.sound().await;
}

/// What is said of one date holds for the others, for those that are added, and for a copy; links
/// and recordings are each date's own.
#[tokio::test(flavor = "multi_thread")]
async fn how_a_date_happens_online_goes_along_to_others() {
    use matricle_desk::planning::{dates, patterns};
    let w = world().await;
    let ilse = w.staff(0).await;
    let event = w.event_named(FROST).await;
    let add = |day: &'static str| {
        let fields = form(&[
            ("day", day),
            ("from", "19:00"),
            ("until", "20:00"),
            ("venue", "Online"),
            ("pool_0", "40"),
        ]);
        dates::add(&w.desk, &ilse, event, fields)
    };
    add("2027-02-01").await.unwrap();
    let all = || async {
        let mut all = Vec::new();
        let find = move |c: &matricle_store::Connection| events::dates_of(c, event);
        for d in w.desk.store.read(find).await.unwrap() {
            let how =
                move |c: &matricle_store::Connection| matricle_store::online::of_date(c, d.id);
            all.push((d.id, w.desk.store.read(how).await.unwrap()));
        }
        all
    };
    let first = all().await[0].0;
    let fields = [
        ("room", "link"),
        ("link", "https://rooms.example/one"),
        ("recording", "https://rooms.example/seen"),
        ("opens_minutes", "25"),
        ("audience", "booked"),
        ("prepare", "Have a pen."),
        ("for_all", "yes"),
    ];
    online::save(&w.desk, &ilse, first, form(&fields)).await.unwrap();
    add("2027-03-01").await.unwrap();
    let copy = form(&[("day", "2027-05-03"), ("title", "")]);
    let from = patterns::From::Event(event);
    let copied = patterns::start(&w.desk, &ilse, from, copy).await.unwrap();
    let find = move |c: &matricle_store::Connection| {
        let mut all = Vec::new();
        for d in events::dates_of(c, copied)? {
            all.push(matricle_store::online::of_date(c, d.id)?);
        }
        Ok::<_, matricle_store::StoreError>(all)
    };
    let (own, copies) = (all().await, w.desk.store.read(find).await.unwrap());
    assert!(own.len() >= 3 && !copies.is_empty());
    for how in own.iter().skip(1).map(|(_, how)| how).chain(&copies) {
        assert_eq!((how.opens_minutes, how.prepare.as_str()), (25, "Have a pen."));
        assert_eq!((how.link.as_str(), how.recording.as_str()), ("", ""));
    }
}

/// What can happen to a date online and to those who join it.
#[derive(Debug, Clone, Copy)]
enum Act {
    Looks(usize),
    Goes(usize, usize),
    Room(bool),
    Shift(i8),
    Cancels(usize),
    Replace(usize),
    Minutes(i64),
}

fn act() -> impl Strategy<Value = Act> {
    let who = 0usize..2;
    prop_oneof![
        2 => who.clone().prop_map(Act::Looks),
        6 => (who.clone(), 0usize..2).prop_map(|(who, browser)| Act::Goes(who, browser)),
        2 => any::<bool>().prop_map(Act::Room),
        1 => prop::sample::select(vec![-1i8, 1]).prop_map(Act::Shift),
        1 => who.clone().prop_map(Act::Cancels),
        1 => who.prop_map(Act::Replace),
        6 => prop::sample::select(vec![4, 11, 26, 70, 24 * 60]).prop_map(Act::Minutes),
    ]
}

/// Somebody who joins: their place, and the keys of the links they had and have.
struct Joins {
    code: TicketCode,
    keys: Vec<String>,
    reference: Reference,
    attendee: AttendeeId,
}

impl World {
    async fn joins(&self) -> Joins {
        let (code, key, _, reference) = self.place().await;
        let attendee = self.sheet(reference).await.attendees[0].id;
        Joins { code, keys: vec![key], reference, attendee }
    }

    /// Does something, and sees that it did what it should to those who join, and nothing else.
    async fn happens(&self, date: DateId, all: &mut [Joins], act: Act) {
        let ilse = self.staff(0).await;
        let before = [self.where_is(all[0].attendee).await, self.where_is(all[1].attendee).await];
        let mut went_in = None;
        match act {
            Act::Looks(who) => {
                let key = all[who].keys.last().unwrap();
                let _ = foyer::look(&self.desk, all[who].code, key, "a scanner").await;
            }
            Act::Goes(who, browser) => {
                let (code, key) = (all[who].code, all[who].keys.last().unwrap());
                let browser = ["mine", "other"][browser];
                let seen = foyer::look(&self.desk, code, key, browser).await;
                let went = foyer::go(&self.desk, code, key, browser, None).await;
                let open = matches!(&seen, Ok(foyer) if foyer.stands == Stands::Open);
                let let_in = matches!(&went, Ok(In::To(_) | In::With(..)));
                assert_eq!(open, let_in, "the button is there when it leads somewhere: {went:?}");
                went_in = let_in.then_some(who);
            }
            Act::Room(there) => {
                let link = if there { "https://rooms.example/late" } else { "" };
                let how = form(&[("room", "link"), ("link", link), ("opens_minutes", "20")]);
                online::save(&self.desk, &ilse, date, how).await.unwrap();
            }
            Act::Shift(hours) => {
                let find = move |c: &matricle_store::Connection| events::date_by_id(c, date);
                let on = self.desk.store.read(find).await.unwrap().unwrap().1;
                let ahead = on.span.starts_at > self.desk.clock.now();
                if ahead && (9..20).contains(&on.span.starts.hour()) {
                    self.shift(date, hours).await;
                }
            }
            Act::Cancels(who) => {
                let by = By::Booker;
                let _ = cancel::cancel(&self.desk, by, all[who].reference, Vec::new()).await;
            }
            Act::Replace(who) => {
                let attendee = all[who].attendee;
                if online::replace_link(&self.desk, &ilse, date, attendee).await.is_ok() {
                    let sheet = self.sheet(all[who].reference).await;
                    let links = matricle_desk::messages::own_links(&self.desk, &sheet);
                    let key = links[0].1.rsplit_once('/').unwrap().1.to_owned();
                    assert!(!all[who].keys.contains(&key), "a new link is another one");
                    all[who].keys.push(key);
                }
            }
            Act::Minutes(minutes) => self.pass(minutes),
        }
        for (who, joins) in all.iter().enumerate() {
            let after = self.where_is(joins.attendee).await;
            match (went_in == Some(who), &before[who]) {
                // The first coming holds, by whichever browser they go in again.
                (_, Presence::In { .. }) => assert_eq!(after, before[who], "{act:?}"),
                (true, _) => {
                    let here = Presence::In { at: self.desk.clock.now(), door: ONLINE.into() };
                    assert_eq!(after, here, "{act:?}");
                }
                (false, _) => assert_eq!(after, before[who], "{act:?} marks nobody"),
            }
            // A link that was replaced opens nothing, whatever happens afterwards.
            for old in &joins.keys[..joins.keys.len() - 1] {
                let opened = foyer::go(&self.desk, joins.code, old, "old", None).await;
                assert!(matches!(opened, Err(DeskError::NotFound)), "{opened:?}");
            }
        }
    }
}

/// Whatever happens around a date online: nobody is let in but while the foyer says so, going in
/// marks them as come once, nothing else marks anybody, and a link that was replaced is dead.
#[test]
fn whatever_happens_around_a_date_online_only_an_act_of_the_person_marks_them() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    proptest!(model(), |(acts in prop::collection::vec(act(), 15..50))| {
        runtime.block_on(async {
            let w = world().await;
            let mut all = [w.joins().await, w.joins().await];
            let date = w.sheet(all[0].reference).await.date.id;
            let early = w.starts(date).await - minutes(45) - w.desk.clock.now();
            w.pass(early.as_mins());
            for act in &acts {
                w.happens(date, &mut all, *act).await;
            }
            w.due().await;
            w.sound().await;
        });
    });
}
