//! What calendars read in mails: an invitation that follows its booking, whatever it goes through.

use std::collections::BTreeMap;

use ical::parser::ical::component::IcalCalendar;
use matricle_core::DateId;
use matricle_core::booking::State;
use matricle_core::words::codes::Reference;
use matricle_desk::bookings::cancel::{self, By};
use matricle_desk::bookings::{calendars, decide, move_date, pass_on};
use matricle_desk::{messages, programme};
use matricle_store::events::{self, Sought};
use matricle_store::readers;
use proptest::prelude::*;

use crate::world::{BOOKER, CANDLES, World, form, look, model, text_of, world};

const OPEN_DAY: &str = "apiary-open-day";

/// An entry as an independent library reads it.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Read {
    method: String,
    uids: Vec<String>,
    sequence: u32,
    status: String,
    starts: String,
    organizer: String,
    attendee: String,
}

fn read(text: &str) -> Read {
    let calendar: IcalCalendar = ical::IcalParser::new(text.as_bytes()).next().unwrap().unwrap();
    let of = |properties: &[ical::property::Property], name: &str| {
        let found = properties.iter().find(|p| p.name == name);
        found.and_then(|p| p.value.clone()).unwrap_or_default()
    };
    let first = &calendar.events[0].properties;
    let mut uids: Vec<String> = calendar.events.iter().map(|e| of(&e.properties, "UID")).collect();
    uids.dedup();
    Read {
        method: of(&calendar.properties, "METHOD"),
        uids,
        sequence: of(first, "SEQUENCE").parse().unwrap(),
        status: of(first, "STATUS"),
        starts: of(first, "DTSTART"),
        organizer: of(first, "ORGANIZER"),
        attendee: of(first, "ATTENDEE"),
    }
}

/// What calendars read in a raw mail, with its method as the mail says it.
fn within(raw: &[u8]) -> Option<(String, Read)> {
    use mail_parser::MimeHeaders;
    let mail = mail_parser::MessageParser::default().parse(raw).unwrap();
    let part = mail.parts.iter().find(|p| {
        p.content_type().is_some_and(|t| t.ctype() == "text" && t.subtype() == Some("calendar"))
    })?;
    let method = part.content_type().unwrap().attribute("method").unwrap().to_owned();
    Some((method, read(std::str::from_utf8(part.contents()).unwrap())))
}

impl World {
    /// What the latest mail to an address that brings something for calendars says.
    async fn latest(&self, to: &str) -> Read {
        self.due().await;
        let mails = self.mails.taken();
        let found = mails.iter().rev().find_map(|raw| {
            let mail = mail_parser::MessageParser::default().parse(raw).unwrap();
            let is_to = mail.to().unwrap().first().unwrap().address() == Some(to);
            if is_to { within(raw) } else { None }
        });
        let (method, read) = found.unwrap_or_else(|| panic!("{:?}", self.subjects()));
        assert_eq!(method, read.method, "the mail and the file say the same");
        read
    }

    /// The date of a booking of the open day, and another date of it.
    async fn here_and_there(&self, reference: Reference) -> [DateId; 2] {
        let here = self.sheet(reference).await.date.id;
        let page = programme::event(&self.desk, look(OPEN_DAY)).await.unwrap();
        [here, page.dates.iter().map(|d| d.date.id).find(|id| *id != here).unwrap()]
    }

    async fn taken(&self, reference: Reference) -> Read {
        read(&messages::calendar_of(&self.desk, reference).await.unwrap())
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_invitation_follows_its_booking_through_ten_changes() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let reference = w.confirmed(OPEN_DAY).await;
    let [here, there] = w.here_and_there(reference).await;
    let first = w.latest(BOOKER).await;
    assert_eq!((first.method.as_str(), first.status.as_str()), ("REQUEST", "CONFIRMED"));
    assert_eq!(first.attendee, format!("mailto:{BOOKER}"));
    assert!(first.organizer.starts_with("mailto:") && first.organizer.contains("ostrel"));
    assert_eq!(first.uids.len(), 1);

    let mut before = first.clone();
    for change in 0..10 {
        match change {
            2 | 6 => move_date::move_to(&w.desk, By::Booker, reference, there).await.unwrap(),
            3 | 9 => move_date::move_to(&w.desk, By::Booker, reference, here).await.unwrap(),
            4 | 8 => {
                let by = By::Staff(ilse.clone(), Some(0));
                cancel::cancel(&w.desk, by, reference, Vec::new()).await.unwrap();
                let said = w.latest(BOOKER).await;
                assert_eq!((said.method.as_str(), said.status.as_str()), ("CANCEL", "CANCELLED"));
                assert!(said.sequence > before.sequence, "{change}: {said:?} after {before:?}");
                decide::bring_back(&w.desk, &ilse, reference).await.unwrap();
                before = said;
            }
            _ => w.shift(w.sheet(reference).await.date.id, 1).await,
        }
        let (said, mailed) = (w.taken(reference).await, w.latest(BOOKER).await);
        assert_eq!((&said.uids, said.method.as_str()), (&first.uids, "PUBLISH"), "{change}");
        assert!(said.sequence > before.sequence, "{change}: {said:?} after {before:?}");
        assert_eq!((&mailed.uids, mailed.method.as_str()), (&first.uids, "REQUEST"), "{change}");
        assert_eq!((&mailed.starts, mailed.sequence), (&said.starts, said.sequence), "{change}");
        before = said;
    }
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_course_is_one_entry_a_ticket_goes_along_and_whoever_wants_none_has_none() {
    let w = world().await;
    // A ticket that is passed on brings its entry, and takes it away again.
    let reference = w.paid(CANDLES, &[0, 1]).await;
    let own = w.latest(BOOKER).await;
    let person = w.sheet(reference).await.attendees[0].id;
    let to = form(&[("new_name", "Ros Ferrier"), ("new_email", "ros@post.example")]);
    pass_on::pass_on(&w.desk, By::Booker, reference, person, to).await.unwrap();
    let passed = w.latest("ros@post.example").await;
    assert_eq!(
        (passed.method.as_str(), passed.attendee.as_str()),
        ("REQUEST", "mailto:ros@post.example")
    );
    assert_ne!(passed.uids, own.uids, "an entry of their own");
    let back = form(&[("new_name", "Siân O'Hara"), ("new_email", "else@post.example")]);
    pass_on::pass_on(&w.desk, By::Booker, reference, person, back).await.unwrap();
    let gone = w.latest("ros@post.example").await;
    assert_eq!((gone.method.as_str(), &gone.uids), ("CANCEL", &passed.uids));
    assert!(gone.sequence > passed.sequence);

    // The booker, who has no ticket left, loses theirs, and has it again with a ticket.
    let lost = w.latest(BOOKER).await;
    assert_eq!((lost.method.as_str(), &lost.uids), ("CANCEL", &own.uids));
    assert!(lost.sequence > own.sequence);
    let secret = w.desk.ticket_url(w.sheet(reference).await.attendees[0].code);
    for raw in w.mails.taken() {
        let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
        let theirs = mail.to().unwrap().first().unwrap().address() != Some("else@post.example");
        let text = text_of(&mail);
        assert!(!(theirs && text.contains(&secret)), "a ticket is its holder's alone: {text}");
    }

    // A course: one entry with all its dates.
    let course = w.paid("beginners-course", &[1]).await;
    let mailed = w.latest(BOOKER).await;
    assert_eq!(mailed.uids, [format!("{}@{}", course.as_str().to_lowercase(), w.desk.host())]);
    let text = messages::calendar_of(&w.desk, course).await.unwrap();
    let dates = w.sheet(course).await.covers.len();
    assert!(dates > 2);
    assert_eq!(text.matches("BEGIN:VEVENT").count(), dates);
    assert_eq!(text.matches("RDATE").count(), dates - 1);

    // Turned off, a mail brings nothing for calendars; the page has the file all the same.
    calendars::turn_off(&w.desk, reference, true).await.unwrap();
    let to = |raw: &[u8]| {
        let mail = mail_parser::MessageParser::default().parse(raw).unwrap();
        mail.to().unwrap().first().unwrap().address().unwrap().to_owned()
    };
    let theirs = |raw: &Vec<u8>| [BOOKER, "else@post.example"].contains(&to(raw).as_str());
    let count = |w: &World| {
        w.mails.taken().iter().filter(|raw| theirs(raw) && within(raw).is_some()).count()
    };
    w.due().await;
    let before = count(&w);
    let date = w.sheet(reference).await.date.id;
    w.shift(date, 1).await;
    w.due().await;
    assert_eq!(count(&w) - before, 0, "{:?}", w.subjects());
    assert!(w.taken(reference).await.method == "PUBLISH");
}

/// What feeds show of a date changes when the date does, or the words of its event: not with its
/// seats, its prices, or another date.
#[tokio::test(flavor = "multi_thread")]
async fn a_feed_renews_what_changed_and_nothing_else() {
    let w = world().await;
    let event = w.event_called(OPEN_DAY).await;
    let shown = || async {
        let asked = Sought { staff: true, most: 500, ..Sought::default() };
        let now = w.desk.clock.now();
        let all = w.desk.store.read(move |c| events::list(c, &asked, now)).await.unwrap().dates;
        let own = all.into_iter().filter(|d| d.event.id == event);
        own.map(|d| (d.date.id, d.shown_at())).collect::<Vec<_>>()
    };
    w.pass(5);
    let before = shown().await;
    assert!(before.len() > 1);
    w.shift(before[0].0, 1).await;
    let moved = shown().await;
    let renewed: Vec<bool> = before
        .iter()
        .map(|(id, at)| moved.iter().any(|(other, now)| other == id && now != at))
        .collect();
    assert_eq!(renewed.iter().filter(|r| **r).count(), 1, "one date alone");
    w.pass(5);
    let now = w.desk.clock.now();
    let title = |title: &str| {
        let title = title.to_owned();
        w.desk.store.write(move |tx| {
            let mut found = events::by_id(tx, event)?.unwrap();
            found.title = title;
            events::set(tx, &found, now)
        })
    };
    title("Open day of the apiary").await.unwrap();
    let renamed = shown().await;
    assert!(moved.iter().zip(&renamed).all(|(a, b)| a.1 != b.1), "its words stand in all");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_feed_of_ones_own_has_all_that_was_booked_and_is_withdrawn_at_will() {
    let w = world().await;
    let mine = || async { messages::own_feed::of(&w.desk, BOOKER).await.unwrap() };
    assert_eq!(mine().await, None);
    messages::own_feed::set(&w.desk, BOOKER, true).await.unwrap();
    let first = mine().await.unwrap();
    let open = |url: String| {
        let desk = w.desk.clone();
        async move {
            let parts: Vec<&str> = url.trim_end_matches(".ics").rsplit('/').collect();
            messages::own_feed::read(&desk, parts[1].parse().unwrap(), parts[0]).await.map(|f| f.1)
        }
    };
    let (kept, gone) = (w.confirmed(OPEN_DAY).await, w.confirmed(CANDLES).await);
    w.desk.clock.advance(jiff::SignedDuration::from_mins(1));
    let by = By::Staff(w.staff(0).await, Some(0));
    cancel::cancel(&w.desk, by, gone, Vec::new()).await.unwrap();
    let text = open(first.clone()).await.unwrap();
    let calendar: IcalCalendar = ical::IcalParser::new(text.as_bytes()).next().unwrap().unwrap();
    let of = |n: usize, name: &str| {
        let found = calendar.events[n].properties.iter().find(|p| p.name == name);
        found.and_then(|p| p.value.clone()).unwrap_or_default()
    };
    assert_eq!(calendar.events.len(), 2);
    assert!(
        of(0, "UID").starts_with(&gone.as_str().to_lowercase()),
        "what changed lately is first"
    );
    assert_eq!((of(0, "STATUS"), of(1, "STATUS")), ("CANCELLED".into(), "CONFIRMED".into()));
    assert!(of(1, "UID").starts_with(&kept.as_str().to_lowercase()));
    assert!(text.contains("REFRESH-INTERVAL"), "it says when to come back");
    // A ticket that somebody passed to them stands there, too; one they passed on is gone.
    let passed = w.confirmed("what-the-frost-does").await;
    let person = w.sheet(passed).await.attendees[0].id;
    let to = form(&[("new_name", "Ros"), ("new_email", "ros@post.example")]);
    pass_on::pass_on(&w.desk, By::Booker, passed, person, to).await.unwrap();
    let text = open(first.clone()).await.unwrap();
    let uid = format!("UID:{}", passed.as_str().to_lowercase());
    assert!(text.split("BEGIN:VEVENT").any(|e| e.contains(&uid) && e.contains("CANCELLED")));
    messages::own_feed::set(&w.desk, "ROS@post.example", true).await.unwrap();
    let theirs = messages::own_feed::of(&w.desk, "ros@post.example").await.unwrap().unwrap();
    let text = open(theirs).await.unwrap();
    assert!(text.contains(&format!("{uid}-0")) && text.contains("STATUS:CONFIRMED"), "{text}");
    // Another address, then none.
    messages::own_feed::set(&w.desk, BOOKER, true).await.unwrap();
    let second = mine().await.unwrap();
    assert!(open(first).await.is_err() && open(second.clone()).await.is_ok());
    messages::own_feed::set(&w.desk, BOOKER, false).await.unwrap();
    assert!(open(second).await.is_err() && mine().await.is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn web_calendars_are_addresses_and_a_hosts_feed_has_names_where_the_house_says_so() {
    use matricle_core::dates::web_calendar::TemplateFault;
    use matricle_core::forms::form::Fault;
    use matricle_desk::DeskError;
    use matricle_desk::house::settings as ways;
    let w = world().await;
    let ilse = w.staff(0).await;
    let reference = w.confirmed(OPEN_DAY).await;
    assert_eq!(w.state(reference).await, matricle_core::booking::State::Confirmed);
    let wrong = form(&[("web_calendars", "Town https://calendar.example/{title}{when}")]);
    let Err(DeskError::Form(faults)) = ways::keep_calendars(&w.desk, &ilse, wrong).await else {
        panic!()
    };
    let unknown = TemplateFault::Unknown("when".into());
    assert!(matches!(&faults[0].fault, Fault::WebCalendar(_, fault) if *fault == unknown));
    let line = "Town https://calendar.example/new?t={title}&f={starts}&l={link}&w={place}";
    let host = w.desk.store.read(matricle_store::places::hosts).await.unwrap();
    let own = w.sheet(reference).await.date.hosts;
    let comes = w.sheet(reference).await.attendees[0].name.clone();
    assert!(!comes.is_empty());
    let host = host.into_iter().find(|h| own.contains(&h.name)).unwrap();
    let feed = || {
        let key = w.desk.secrets.feed_key(host.id);
        programme::feed(&w.desk, programme::Feed::Host(host.id, key))
    };
    for names in ["", "yes"] {
        let fields = form(&[("web_calendars", line), ("names_in_feeds", names)]);
        ways::keep_calendars(&w.desk, &ilse, fields).await.unwrap();
        let fed = feed().await.unwrap();
        let named = fed.names.values().flatten().any(|n| *n == comes);
        assert_eq!(named, names == "yes");
    }
    // Nobody else's feed has any.
    let all = programme::feed(&w.desk, programme::Feed::All).await.unwrap();
    assert!(all.names.is_empty());
    let sheet = w.sheet(reference).await;
    let url = w.desk.booking_url(reference);
    let ways = messages::web_calendars(&w.desk, &sheet, &url, w.desk.clock.now());
    assert_eq!(ways[0].0, "Town");
    let starts = sheet.date.span.starts_at.strftime("%Y%m%dT%H%M%SZ").to_string();
    assert!(ways[0].1.contains(&format!("&f={starts}&")), "{}", ways[0].1);
    assert!(ways[0].1.contains("l=http%3A%2F%2Fclub.example%2Fbooking%2F"), "{}", ways[0].1);
}

/// What can happen to a booking that calendars follow.
#[derive(Debug, Clone, Copy)]
enum Act {
    Moves,
    Shift(i8),
    Cancels,
    BroughtBack,
    PassedTo(&'static str),
}

const DEE: &str = "dee@post.example";

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        2 => Just(Act::Moves),
        2 => prop::sample::select(vec![-1i8, 1]).prop_map(Act::Shift),
        2 => Just(Act::Cancels),
        3 => Just(Act::BroughtBack),
        2 => prop::sample::select(vec![BOOKER, DEE]).prop_map(Act::PassedTo),
    ]
}

impl World {
    async fn undergoes(&self, reference: Reference, dates: [DateId; 2], act: Act) {
        let ilse = self.staff(0).await;
        let sheet = self.sheet(reference).await;
        match act {
            Act::Moves => {
                let to = if sheet.date.id == dates[0] { dates[1] } else { dates[0] };
                let _ = move_date::move_to(&self.desk, By::Booker, reference, to).await;
            }
            Act::Shift(hours) => {
                if (9..18).contains(&sheet.date.span.starts.hour()) {
                    self.shift(sheet.date.id, hours).await;
                }
            }
            Act::Cancels => {
                let by = By::Staff(ilse, Some(0));
                let _ = cancel::cancel(&self.desk, by, reference, Vec::new()).await;
            }
            Act::BroughtBack => {
                let _ = decide::bring_back(&self.desk, &ilse, reference).await;
            }
            Act::PassedTo(to) => {
                let person = sheet.attendees.last().unwrap().id;
                let to = form(&[("new_name", "Dee"), ("new_email", to)]);
                let _ = pass_on::pass_on(&self.desk, By::Booker, reference, person, to).await;
            }
        }
        self.due().await;
        self.pass(1);
    }
}

impl World {
    /// The entries that stand in the feed of an address of their own: UID and start.
    async fn feed(&self, who: &str) -> Vec<(String, String)> {
        messages::own_feed::set(&self.desk, who, true).await.unwrap();
        let url = messages::own_feed::of(&self.desk, who).await.unwrap().unwrap();
        let parts: Vec<&str> = url.trim_end_matches(".ics").rsplit('/').collect();
        let id = parts[1].parse().unwrap();
        let text = messages::own_feed::read(&self.desk, id, parts[0]).await.unwrap().1;
        let parsed = ical::IcalParser::new(text.as_bytes()).next();
        let events = parsed.map_or_else(Vec::new, |calendar| calendar.unwrap().events);
        let of = |event: &ical::parser::ical::component::IcalEvent, name: &str| {
            let found = event.properties.iter().find(|p| p.name == name);
            found.and_then(|p| p.value.clone()).unwrap_or_default()
        };
        let live = events.iter().filter(|e| of(e, "STATUS") != "CANCELLED");
        live.map(|e| (of(e, "UID"), of(e, "DTSTART"))).collect()
    }
}

/// Somebody's calendar, as RFC 5546 §2.1.5 has it: of each entry the version with the highest
/// SEQUENCE holds, in whatever order mails arrive, and however often.
fn calendar(mails: &[Vec<u8>], to: &str) -> BTreeMap<String, Read> {
    let mut entries: BTreeMap<String, Read> = BTreeMap::new();
    for raw in mails {
        let mail = mail_parser::MessageParser::default().parse(raw).unwrap();
        if mail.to().unwrap().first().unwrap().address() != Some(to) {
            continue;
        }
        let Some((_, said)) = within(raw) else { continue };
        let known = entries.get(&said.uids[0]);
        if known.is_none_or(|k| said.sequence > k.sequence) {
            entries.insert(said.uids[0].clone(), said);
        }
    }
    entries
}

/// Whatever a booking goes through, and in whatever order its mails arrive: in the end each
/// calendar has what is true, and an entry where there is none to have is gone.
#[test]
fn calendars_have_what_is_true_in_whatever_order_mails_arrive() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    let order = prop::collection::vec(any::<prop::sample::Index>(), 60);
    proptest!(model(), |(acts in prop::collection::vec(act(), 5..16), order in order)| {
        runtime.block_on(async {
            let w = world().await;
            let reference = w.confirmed(OPEN_DAY).await;
            let dates = w.here_and_there(reference).await;
            w.due().await;
            for act in &acts {
                w.undergoes(reference, dates, *act).await;
            }
            // What changed to and fro more often than anybody is written to waits an hour.
            w.pass(61);
            w.due().await;
            // Mixed up, some of them twice.
            let mut mails = w.mails.taken();
            for (n, at) in order.iter().enumerate() {
                let other = at.index(mails.len());
                let one = n % mails.len();
                mails.swap(one, other);
            }
            let twice: Vec<_> = mails.iter().rev().step_by(3).cloned().collect();
            mails.extend(twice);
            let sheet = w.sheet(reference).await;
            let stands = sheet.booking.state == State::Confirmed;
            let id = sheet.booking.id;
            let find = move |c: &matricle_store::Connection| readers::holders(c, id);
            let holders = w.desk.store.read(find).await.unwrap();
            let passed = holders.iter().any(|(_, _, email)| email == DEE);
            let starts = sheet.date.span.starts.strftime("%Y%m%dT%H%M%S").to_string();
            for (who, theirs) in [(BOOKER, stands && !passed), (DEE, stands && passed)] {
                let entries = calendar(&mails, who);
                let live: Vec<&Read> = entries.values().filter(|e| e.method != "CANCEL").collect();
                assert_eq!(live.len(), usize::from(theirs), "{who}: {entries:?}");
                for entry in live {
                    assert_eq!((&entry.starts, entry.status.as_str()), (&starts, "CONFIRMED"));
                }
                // The feed of their own says the same as the mails.
                let mut feed = w.feed(who).await;
                feed.retain(|(uid, _)| uid.starts_with(&reference.as_str().to_lowercase()));
                let there: Vec<&String> = feed.iter().map(|(_, at)| at).collect();
                assert_eq!(there, vec![&starts; usize::from(theirs)], "{who}: {feed:?}");
            }
            w.sound().await;
        });
    });
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_has_a_passed_on_ticket_hears_what_becomes_of_it() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let reference = w.confirmed(OPEN_DAY).await;
    let [_, there] = w.here_and_there(reference).await;
    let pass = async || {
        let person = w.sheet(reference).await.attendees.last().unwrap().id;
        let to = form(&[("new_name", "Dee"), ("new_email", DEE)]);
        pass_on::pass_on(&w.desk, By::Booker, reference, person, to).await.unwrap();
        w.latest(DEE).await
    };
    let lost = || w.subjects().iter().filter(|s| s.contains("no longer good")).count();
    let given = || w.subjects().iter().filter(|s| s.starts_with("Passed on:")).count();
    let first = pass().await;
    // To the same one once more: a new ticket, and nothing that was taken away.
    let again = pass().await;
    assert_eq!((&again.uids, again.method.as_str()), (&first.uids, "REQUEST"));
    assert_eq!((lost(), given()), (0, 2));
    move_date::move_to(&w.desk, By::Booker, reference, there).await.unwrap();
    let moved = w.latest(DEE).await;
    let starts = w.sheet(reference).await.date.span.starts.strftime("%Y%m%dT%H%M%S").to_string();
    assert_eq!(
        (&moved.uids, moved.method.as_str(), &moved.starts),
        (&first.uids, "REQUEST", &starts)
    );
    assert!(moved.sequence > again.sequence);
    let by = By::Staff(ilse.clone(), Some(0));
    cancel::cancel(&w.desk, by, reference, Vec::new()).await.unwrap();
    assert_eq!((w.latest(DEE).await.method.as_str(), lost()), ("CANCEL", 1));
    decide::bring_back(&w.desk, &ilse, reference).await.unwrap();
    let back = w.latest(DEE).await;
    assert_eq!((back.method.as_str(), &back.uids), ("REQUEST", &first.uids));
    let (raw, _) = w.to(DEE).pop().unwrap();
    let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
    assert!(text_of(&mail).contains("passed to you is good again"));
    assert_eq!(given(), 2, "the booker hears of what they passed on, and of nothing twice");
    w.sound().await;
}
