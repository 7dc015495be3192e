//! What is told of whole dates, to people of the house, of stamp cards and of those let in.

use jiff::civil::time;
use matricle_core::booking::State;
use matricle_core::booking::details::Draft;
use matricle_core::messages::cue::Trigger;
use matricle_core::messages::occasion::{Moment, Occasion};
use matricle_core::words::codes::Reference;
use matricle_core::{DateId, EventId, MessageId};
use matricle_desk::bookings::{hold, pay, submit};
use matricle_desk::door::{papers, posting, set_up};
use matricle_desk::messages::outbox::{self as office, Steer};
use matricle_desk::messages::{cues, files, senders, wordings};
use matricle_desk::outside::provider::Status;
use matricle_desk::people::asking::Asking;
use matricle_desk::planning::dates::{self, Scope};
use matricle_desk::{DeskError, office as desk_office, programme, telling};
use matricle_store::outbox::{self, About, Found, Look, MessageState, Sort};
use matricle_store::people::{self, Staff};
use matricle_store::{events, wishes};

use crate::world::{CANDLES, FREE, World, form, look, text_of, world};

const OPEN_DAY: &str = "apiary-open-day";
const DIPPING: &str = "thursday-dipping";

impl World {
    pub(crate) async fn event_called(&self, slug: &'static str) -> EventId {
        let find = move |c: &matricle_store::Connection| events::by_slug(c, slug);
        self.desk.store.read(find).await.unwrap().unwrap().id
    }

    /// A confirmed booking, whatever it costs.
    pub(crate) async fn confirmed(&self, slug: &str) -> Reference {
        let reference = self.book(slug, &[1]).await;
        if self.state(reference).await != State::Confirmed {
            self.provider.decide(Status::Paid);
            pay::ask(&self.desk, reference).await.unwrap();
        }
        reference
    }

    /// All messages, the first planned first.
    async fn outbox(&self) -> Vec<Found> {
        let ilse = self.staff(0).await;
        office::list(&self.desk, &ilse, Look::default(), 0, 100_000).await.unwrap().rows
    }

    /// Messages set off by this, by their readers.
    pub(crate) async fn about(&self, trigger: Trigger) -> Vec<Found> {
        let mut found = self.outbox().await;
        found.retain(|f| f.message.trigger == trigger);
        found
    }

    /// Adds a cue for something that happens, in a standard wording.
    async fn cue(&self, event: EventId, happens: &str, whom: &str, way: &str, words: &str) {
        let ilse = self.staff(0).await;
        let sheet = cues::load(&self.desk, &ilse, Some(event)).await.unwrap();
        let template = sheet.templates.iter().find(|t| t.standard == words).unwrap().id;
        let typed = form(&[
            ("happens", happens),
            ("when", "at once"),
            ("whom", whom),
            ("way", way),
            ("template", &template.to_string()),
        ]);
        cues::save(&self.desk, &ilse, Some(event), None, typed).await.unwrap();
    }

    async fn move_by(&self, event: EventId, hours: i8) {
        let all = self.desk.store.read(move |c| events::dates_of(c, event)).await.unwrap();
        let date = all.iter().find(|d| d.called_off.is_empty()).unwrap();
        self.shift(date.id, hours).await;
    }

    /// Moves one date by hours.
    pub(crate) async fn shift(&self, date: DateId, hours: i8) {
        let ilse = self.staff(0).await;
        let found = self.desk.store.read(move |c| events::date_by_id(c, date)).await.unwrap();
        let date = found.unwrap().1;
        let at = |t: jiff::civil::DateTime| {
            let t = t.checked_add(jiff::Span::new().hours(hours)).unwrap();
            t.strftime("%H:%M").to_string()
        };
        let moved = form(&[
            ("day", &date.span.starts.date().to_string()),
            ("from", &at(date.span.starts)),
            ("until", &at(date.span.ends)),
            ("venue", &date.venue),
            ("room", &date.room),
            ("hosts", &date.hosts),
            ("seats_0", ""),
            ("seats_1", ""),
        ]);
        dates::change(&self.desk, &ilse, date.id, Scope::One, moved, true).await.unwrap();
    }

    /// The text of the last mail to an address whose subject begins so.
    fn mail(&self, to: &str, begins: &str) -> Option<String> {
        let raw = self.raw(to, begins)?;
        let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
        Some(text_of(&mail))
    }

    /// The latest mail to an address whose subject begins so, as it went out.
    fn raw(&self, to: &str, begins: &str) -> Option<Vec<u8>> {
        self.mails.taken().into_iter().rev().find(|raw| {
            let mail = mail_parser::MessageParser::default().parse(raw).unwrap();
            let is_to = mail.to().unwrap().first().unwrap().address() == Some(to);
            is_to && mail.subject().unwrap().starts_with(begins)
        })
    }
}

/// Those who have not booked hear of a date that moves once, however many have booked it; twice
/// moved it is told once, and back where it was, not at all. The notice is up on the event's page
/// until it is taken down.
#[tokio::test(flavor = "multi_thread")]
async fn what_happens_to_a_date_is_told_once_and_put_up() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let event = w.event_called(OPEN_DAY).await;
    for _ in 0..3 {
        w.confirmed(OPEN_DAY).await;
    }
    w.due().await;
    w.cue(event, "moved", "hosts", "mail", "notice-moved").await;
    w.cue(event, "moved", "attendees", "notice", "notice-moved").await;
    w.cue(event, "called off", "role treasurer", "mail", "notice-called-off").await;
    w.move_by(event, 1).await;
    w.move_by(event, -1).await;
    w.due().await;
    let moved = Trigger::On(Occasion::Moved);
    let of_date = |all: Vec<Found>| -> Vec<Found> {
        let mine = |f: &Found| f.message.about == About::Event(event);
        all.into_iter().filter(mine).filter(|f| f.message.state == MessageState::Sent).collect()
    };
    assert_eq!(of_date(w.about(moved).await).len(), 0, "it is where it was");
    w.move_by(event, 1).await;
    w.move_by(event, 1).await;
    w.due().await;
    let told = of_date(w.about(moved).await);
    let mut readers: Vec<&str> = told.iter().map(|f| f.message.reader.as_str()).collect();
    readers.sort_unstable();
    assert_eq!(readers.len(), 2, "{readers:?}");
    assert_eq!((readers[0], &readers[1][..1]), ("all", "h"));
    // Read by everybody: the page says what was before, and knows no name.
    let up = || async {
        let page = programme::event(&w.desk, look(OPEN_DAY)).await.unwrap();
        page.notices.into_iter().map(|n| (n.subject, n.words)).collect::<Vec<_>>()
    };
    let notices = up().await;
    assert_eq!(notices.len(), 1);
    assert!(notices[0].1.contains("Before: ") && notices[0].1.contains(", 14:00"), "{notices:?}");
    let id = told.iter().find(|f| f.message.reader == "all").unwrap().message.id;
    assert!(office::take_down(&w.desk, &w.staff(1).await, id, true).await.is_err());
    office::take_down(&w.desk, &ilse, id, true).await.unwrap();
    assert!(up().await.is_empty());
    office::take_down(&w.desk, &ilse, id, false).await.unwrap();
    assert_eq!(up().await.len(), 1);
    let fed = programme::feed(&w.desk, programme::Feed::All).await.unwrap();
    assert_eq!(fed.notices.iter().filter(|n| n.event == event).count(), 1);
    // What moves and is called off before anybody heard that it moved is called off only.
    w.move_by(event, -1).await;
    dates::call_off(&w.desk, &ilse, event, None, "A storm.".into()).await.unwrap();
    w.due().await;
    assert_eq!(of_date(w.about(moved).await).len(), 2, "no more than before");
    let off = of_date(w.about(Trigger::On(Occasion::CalledOff)).await);
    assert_eq!(off.len(), 2, "each of its dates, to the treasurer alone: nobody waits for it");
    // What is nobody else's business is no notice.
    let sheet = cues::load(&w.desk, &ilse, Some(event)).await.unwrap();
    let confirmation = sheet.templates.iter().find(|t| t.standard == "confirmation").unwrap();
    let template = confirmation.id.to_string();
    for (happens, field) in [("confirmation", "way"), ("moved", "template")] {
        let typed = form(&[
            ("happens", happens),
            ("when", "at once"),
            ("whom", "attendees"),
            ("way", "notice"),
            ("template", &template),
        ]);
        let refused = cues::save(&w.desk, &ilse, Some(event), None, typed).await;
        let Err(DeskError::Form(wrong)) = refused else { panic!("{refused:?}") };
        assert!(wrong.iter().any(|w| w.field == field), "{happens}: {wrong:?}");
    }
    w.sound().await;
}

/// Hosts hear of their own dates only, at once or at their hour; the treasurer and the organiser
/// of what is theirs; of nothing only if they like; and what was missed stands in the next.
#[tokio::test(flavor = "multi_thread")]
async fn people_of_the_house_hear_what_they_wish_for_at_their_hour() {
    let w = world().await;
    let (owen, petra, bram) = (w.staff(3).await, w.staff(4).await, w.staff(1).await);
    let set = async |who: &Staff, fields: &[(&str, &str)]| {
        telling::keep_wishes(&w.desk, who, form(fields)).await
    };
    let bad = set(&owen, &[("attendees", "day"), ("attendees_at", "25:00")]).await;
    assert!(matches!(bad, Err(DeskError::Form(wrong)) if wrong[0].field == "attendees_at"));
    let daily = [("attendees", "day"), ("attendees_at", "20:00"), ("money", "yes")];
    set(&owen, &daily).await.unwrap();
    set(&bram, &[("house", "yes"), ("money", "yes"), ("tomorrow", "yes")]).await.unwrap();
    set(&petra, &[("money", "yes"), ("money_at", "08:00"), ("money_nothing", "yes")])
        .await
        .unwrap();
    let of = |id| move |c: &matricle_store::Connection| wishes::of(c, id);
    assert!(w.desk.store.read(of(bram.id)).await.unwrap().is_empty(), "nothing of it is theirs");
    assert_eq!(w.desk.store.read(of(owen.id)).await.unwrap().len(), 1, "a host has no money");
    w.due().await;
    w.confirmed(OPEN_DAY).await;
    w.confirmed(FREE).await;
    w.due().await;
    let day = || async {
        let mut all = w.about(Trigger::At(Moment::Day)).await;
        all.retain(|f| {
            f.message.address == owen.email && f.message.reason != "wished for otherwise"
        });
        all
    };
    assert_eq!(day().await.len(), 1, "one is planned, however often it is asked");
    // 17:40 in London; the server is down over his hour and hands it over afterwards.
    w.pass(60 * 3);
    w.due().await;
    let text = w.mail(&owen.email, "New attendees since").unwrap();
    assert!(text.contains("Apiary open day") && text.contains("1 new, "), "{text}");
    assert!(text.contains("booked by Siân O'Hara"), "{text}");
    assert!(!text.contains("Is beekeeping for me?"), "not his: {text}");
    w.pass(60 * 24);
    w.due().await;
    let states: Vec<_> = day().await.iter().map(|f| f.message.state).collect();
    assert_eq!(states[..2], [MessageState::Sent, MessageState::Skipped], "nobody new");
    assert_eq!(states[2..], [MessageState::Planned]);
    // Money at eight, and that nothing happened is said to whoever likes.
    let money = w.mail(&petra.email, "Money since").unwrap();
    assert!(money.contains("Owed now"), "{money}");
    // At once, beside what the cue sheet says; and no more once it is not wished for.
    set(&owen, &[("attendees", "each")]).await.unwrap();
    w.due().await;
    assert!(day().await.iter().all(|f| f.message.state != MessageState::Planned));
    let before = w.mails.taken().len();
    w.confirmed(OPEN_DAY).await;
    w.due().await;
    assert!(w.mail(&owen.email, "New for").unwrap().contains("Siân O'Hara has booked"));
    assert_eq!(w.mails.taken().len(), before + 2, "a confirmation, and word to Owen");
    let event = w.event_called(OPEN_DAY).await;
    w.cue(event, "confirmation", "hosts", "mail", "new-booking").await;
    w.confirmed(OPEN_DAY).await;
    w.due().await;
    assert_eq!(w.mails.taken().len(), before + 4, "by the cue, and not once more by the wish");
    w.sound().await;
}

/// The list of who comes goes to a host at the hour they chose, and says that nobody has booked
/// if they like.
#[tokio::test(flavor = "multi_thread")]
async fn the_list_of_tomorrow_comes_at_a_host_s_own_hour() {
    let w = world().await;
    let owen = w.staff(3).await;
    telling::keep_wishes(&w.desk, &owen, form(&[])).await.unwrap();
    w.due().await;
    let minutes = async || -> Vec<jiff::civil::Time> {
        let zone = jiff::tz::TimeZone::get("Europe/London").unwrap();
        let all = w.outbox().await;
        let mine = all.iter().filter(|f| {
            f.template == "Who comes"
                && f.message.address == owen.email
                && f.message.state == MessageState::Planned
        });
        mine.map(|f| zone.to_datetime(f.message.planned_at).time()).collect()
    };
    let house = minutes().await;
    assert!(!house.is_empty() && house.iter().all(|t| *t == time(17, 0, 0, 0)), "{house:?}");
    let mine = form(&[("tomorrow", "yes"), ("tomorrow_at", "06:45"), ("tomorrow_nothing", "yes")]);
    telling::keep_wishes(&w.desk, &owen, mine).await.unwrap();
    w.due().await;
    let own = minutes().await;
    assert!(own.len() == house.len() && own.iter().all(|t| *t == time(6, 45, 0, 0)), "{own:?}");
    telling::keep_wishes(&w.desk, &owen, form(&[])).await.unwrap();
    w.due().await;
    assert_eq!(minutes().await, house);
}

/// A card that was bought tells of itself two weeks before it expires, until it is used up.
#[tokio::test(flavor = "multi_thread")]
async fn a_stamp_card_is_told_of_before_it_expires() {
    let w = world().await;
    let expires = || w.about(Trigger::At(Moment::CardExpires));
    let alone = w.paid(DIPPING, &[0, 1]).await;
    let card = w.sheet(alone).await.cards[0].clone();
    w.due().await;
    let planned = expires().await;
    assert_eq!(planned.len(), 1);
    let ends = card.card.expires_at.expect("the demo's cards expire");
    let day = jiff::SignedDuration::from_hours(24);
    assert!(
        (ends - planned[0].message.planned_at.duration_since(jiff::Timestamp::UNIX_EPOCH))
            .duration_since(jiff::Timestamp::UNIX_EPOCH)
            >= day * 13
    );
    let id = planned[0].message.id;
    // Written once, however often it is followed; sent with the card's own letters.
    let ilse = w.staff(0).await;
    office::steer(&w.desk, &ilse, vec![id], Steer::Now).await.unwrap();
    w.due().await;
    let text = w.mail("sian@post.example", "Your stamp card expires soon").unwrap();
    assert!(text.contains(&matricle_core::money::transfer::grouped(&card.code)), "{text}");
    let other = w.paid(DIPPING, &[0, 1]).await;
    let card = w.sheet(other).await.cards[0].id;
    w.due().await;
    let petra = w.staff(4).await;
    let off = form(&[("take_stamps", "10"), ("take_reason", "lost")]);
    matricle_desk::money::cards::take(&w.desk, &petra, card, off).await.unwrap();
    w.due().await;
    let states: Vec<_> = expires().await.iter().map(|f| f.message.state).collect();
    assert_eq!(states.len(), 2);
    assert!(states.contains(&MessageState::Sent) && states.contains(&MessageState::Withdrawn));
    w.sound().await;
}

/// Whoever is let in is told where a cue says so: once, by whichever door and however often.
#[tokio::test(flavor = "multi_thread")]
async fn who_is_let_in_is_told_once_where_a_cue_says_so() {
    let w = world().await;
    let reference = w.confirmed(OPEN_DAY).await;
    let sheet = w.sheet(reference).await;
    let code = sheet.attendees[0].code.to_string();
    w.scan(sheet.date.id, "gate", "one", &code).await;
    assert!(w.about(Trigger::On(Occasion::LetIn)).await.is_empty(), "no cue speaks of it");
    w.cue(sheet.event.id, "let in", "attendees", "mail", "let-in").await;
    w.scanned_back(sheet.date.id).await;
    for (door, key) in [("gate", "two"), ("barn", "three")] {
        w.scan(sheet.date.id, door, key, &code).await;
    }
    w.due().await;
    assert_eq!(w.about(Trigger::On(Occasion::LetIn)).await.len(), 1);
    assert!(w.mail("sian@post.example", "Welcome to Apiary open day").is_some());
}

/// Whoever of the house asked to hear of somebody is told that they have come: once, however
/// often they go in and out, and whether the door asks or settles later.
#[tokio::test(flavor = "multi_thread")]
async fn who_asked_to_hear_of_somebody_is_told_that_they_have_come() {
    let w = world().await;
    let (ilse, petra) = (w.staff(0).await, w.staff(4).await);
    let (reference, other) = (w.confirmed(OPEN_DAY).await, w.confirmed(OPEN_DAY).await);
    let sheet = w.sheet(reference).await;
    let person = &sheet.attendees[0];
    let stranger = w.sheet(other).await.attendees[0].id;
    let asks = |staff, id, awaits| set_up::await_one(&w.desk, staff, reference, id, awaits);
    assert!(matches!(asks(&ilse, stranger, true).await, Err(DeskError::NotFound)));
    asks(&ilse, person.id, true).await.unwrap();
    asks(&petra, person.id, true).await.unwrap();
    asks(&petra, person.id, false).await.unwrap();
    // Whoever works here no more hears nothing more of who comes.
    let rosalind = w.staff(5).await;
    asks(&rosalind, person.id, true).await.unwrap();
    w.desk.store.write(move |tx| people::take_role(tx, rosalind.id)).await.unwrap();
    assert_eq!(set_up::awaited(&w.desk, &ilse, reference).await.unwrap(), [person.id]);
    assert_eq!(set_up::awaited(&w.desk, &petra, reference).await.unwrap(), []);
    for (door, key) in [("gate", "one"), ("barn", "two")] {
        w.scan(sheet.date.id, door, key, &person.code.to_string()).await;
        w.scanned_back(sheet.date.id).await;
    }
    w.due().await;
    assert_eq!(w.about(Trigger::On(Occasion::Came)).await.len(), 1);
    let clock = matricle_formats::words::local(w.desk.clock.now(), "Europe/Dublin");
    let said = format!("Has come: {}, {}, gate", person.name, clock.strftime("%H:%M"));
    assert!(w.mail("ilse@ostrel.example", &said).is_some(), "{:?}", w.subjects());
    for nobody in ["petra@ostrel.example", "rosalind@ostrel.example"] {
        assert!(w.mail(nobody, "Has come").is_none(), "{nobody}");
    }
    w.sound().await;
}

/// Badges go by mail: to each their own, to those without an address through whoever booked, and
/// all of them to further addresses; by hand as often as one likes, by a cue before the date.
#[tokio::test(flavor = "multi_thread")]
async fn badges_go_by_mail_to_each_and_to_further_addresses() {
    let w = world().await;
    let (ilse, petra) = (w.staff(0).await, w.staff(4).await);
    let reference = w.confirmed(OPEN_DAY).await;
    let sheet = w.sheet(reference).await;
    let (event, date) = (sheet.event.id, sheet.date.id);
    let asked = || papers::PaperChoice::new(papers::Kind::Badges);
    let send = |staff, fields| posting::send(&w.desk, staff, date, asked(), form(fields));
    let wrong = |result| match result {
        Err(DeskError::Form(wrong)) => wrong.first().map(|w| w.field.clone()),
        other => panic!("{other:?}"),
    };
    assert_eq!(wrong(send(&ilse, &[]).await).as_deref(), Some("each"));
    let bad = [("each", "yes"), ("also", "print@shop.example, no-address")];
    assert_eq!(wrong(send(&ilse, &bad).await).as_deref(), Some("also"));
    assert!(send(&petra, &[("each", "yes")]).await.is_err(), "no treasurer's work");
    w.due().await;
    assert!(w.about(Trigger::On(Occasion::Badge)).await.is_empty(), "nothing half-way");

    let also = [("each", "yes"), ("also", "print@shop.example; PRINT@shop.example")];
    let sent = send(&ilse, &also).await.unwrap();
    assert_eq!((sent.further, sent.people >= sent.mails, sent.mails > 0), (1, true, true));
    w.due().await;
    let parsed = |to: &str, subject: &str| {
        let raw = w.raw(to, subject).unwrap_or_else(|| panic!("{to}: {:?}", w.subjects()));
        let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
        let file = mail.attachments().next().unwrap();
        assert!(file.contents().starts_with(b"%PDF"), "{subject}");
        file.contents().len()
    };
    let own = parsed("sian@post.example", "Your badge for Apiary open day");
    let all = parsed("print@shop.example", "Badges for Apiary open day");
    assert!(all > own, "the shop has all of them: {all} and {own}");

    // By itself, once the house switches its cue on.
    let cues = cues::load(&w.desk, &ilse, Some(event)).await.unwrap().cues;
    let own = cues.iter().find(|c| c.template == "Your badge").unwrap();
    cues::switch(&w.desk, &ilse, Some(event), own.cue.id, true).await.unwrap();
    w.due().await;
    let to_go = w.about(Trigger::At(Moment::Starts)).await;
    let to_go: Vec<_> = to_go.iter().filter(|f| f.template == "Your badge").collect();
    assert!(!to_go.is_empty(), "planned for each booking");
    w.sound().await;
}

/// The mail that leads back to a booking that was left has bounds of its own: whoever types an
/// address and goes on books as often as ever.
#[tokio::test(flavor = "multi_thread")]
async fn an_address_that_is_typed_takes_nothing_from_its_bookings() {
    let w = world().await;
    let mut booked = 0;
    for typed_first in [false, true] {
        for _ in 0..12 {
            let Ok(reference) = w.keep(FREE, &[1]).await else { break };
            let draft = w.draft(reference).await;
            if typed_first {
                hold::type_on(&w.desk, reference, draft.clone()).await.unwrap();
            }
            let done = submit::submit(&w.desk, &Asking::default(), reference, draft).await;
            if done.is_err() {
                break;
            }
            booked += 1;
        }
        w.pass(24 * 60 + 1);
        if !typed_first {
            assert!(booked >= 6, "{booked}");
            (booked, _) = (0, w.due().await);
        }
    }
    assert!(booked >= 6, "as many with the address typed before: {booked}");
}

/// Whoever has left one address and types another is told there, within the bounds of that one:
/// nobody makes mails go to somebody by many bookings that began elsewhere.
#[tokio::test(flavor = "multi_thread")]
async fn another_address_that_is_typed_has_its_own_bound() {
    let w = world().await;
    for n in 0..12 {
        let Ok(reference) = w.keep(OPEN_DAY, &[1]).await else { break };
        for email in [format!("one{n}@post.example"), "victim@post.example".into()] {
            let draft = Draft { email, ..Draft::default() };
            hold::type_on(&w.desk, reference, draft).await.unwrap();
        }
    }
    let mut left = w.about(Trigger::On(Occasion::Left)).await;
    left.retain(|f| f.message.state == MessageState::Planned);
    assert_eq!(left.len(), 6, "as many as one address may get in a day");
    assert!(left.iter().all(|f| f.message.address == "victim@post.example"));
}

/// A cue for the hosts or the chat speaks of those bookings only that it is for.
#[tokio::test(flavor = "multi_thread")]
async fn hosts_hear_of_those_bookings_only_that_a_cue_is_for() {
    let w = world().await;
    let ilse = w.staff(0).await;
    telling::keep_wishes(&w.desk, &w.staff(3).await, form(&[])).await.unwrap();
    let event = w.event_called(OPEN_DAY).await;
    let sheet = cues::load(&w.desk, &ilse, Some(event)).await.unwrap();
    let template = sheet.templates.iter().find(|t| t.standard == "new-booking").unwrap().id;
    let typed = |happens: &str| {
        form(&[
            ("happens", happens),
            ("when", "at once"),
            ("whom", "hosts"),
            ("way", "mail"),
            ("template", &template.to_string()),
            ("ticket", &sheet.tickets[1].0.to_string()),
        ])
    };
    let refused = cues::save(&w.desk, &ilse, Some(event), None, typed("moved")).await;
    assert!(matches!(refused, Err(DeskError::Form(wrong)) if wrong[0].field == "whom"));
    cues::save(&w.desk, &ilse, Some(event), None, typed("confirmation")).await.unwrap();
    let told = async || {
        let all = w.about(Trigger::On(Occasion::Confirmed)).await;
        all.iter().filter(|f| f.message.reader.starts_with('h')).count()
    };
    let before = told().await;
    w.confirmed(OPEN_DAY).await;
    assert_eq!(told().await, before, "it is for another ticket");
    let reference = w.book(OPEN_DAY, &[0, 1]).await;
    if w.state(reference).await != State::Confirmed {
        w.provider.decide(Status::Paid);
        pay::ask(&w.desk, reference).await.unwrap();
    }
    assert!(told().await > before);
}

/// Two cues that would tell somebody twice are made one; the other is off.
#[tokio::test(flavor = "multi_thread")]
async fn two_cues_are_joined_into_one() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let event = w.event_called(FREE).await;
    let sheet = || async { cues::load(&w.desk, &ilse, Some(event)).await.unwrap() };
    let template =
        sheet().await.cues.iter().find(|c| c.template == "Confirmation").unwrap().cue.template;
    let typed = |join: &str| {
        form(&[
            ("happens", "confirmation"),
            ("when", "at once"),
            ("whom", "attendees"),
            ("way", "mail"),
            ("template", &template.to_string()),
            ("join", join),
        ])
    };
    assert!(cues::save(&w.desk, &ilse, Some(event), None, typed("")).await.is_err());
    let saved = cues::save(&w.desk, &ilse, Some(event), None, typed("yes")).await.unwrap();
    let on: Vec<_> = sheet()
        .await
        .cues
        .iter()
        .filter(|c| c.cue.on && c.cue.trigger == Trigger::On(Occasion::Confirmed))
        .map(|c| c.cue.id)
        .collect();
    assert_eq!(on, [saved]);
    w.book(FREE, &[1]).await;
    w.due().await;
    assert_eq!(w.subjects().len(), 1, "{:?}", w.subjects());
}

/// Thanks and *we missed you* are both planned until it is known who came: one line of one list.
#[tokio::test(flavor = "multi_thread")]
async fn of_two_messages_of_which_one_goes_a_list_has_one_line() {
    let w = world().await;
    let reference = w.paid(CANDLES, &[1, 0, 0, 0]).await;
    w.due().await;
    let ilse = w.staff(0).await;
    let sheet = desk_office::booking(&w.desk, &ilse, reference).await.unwrap();
    let after = sheet
        .messages
        .iter()
        .filter(|f| ["Thanks", "We missed you"].contains(&f.template.as_str()));
    let after: Vec<_> = after.map(|f| (f.template.as_str(), f.or_else.as_str())).collect();
    assert_eq!(after, [("Thanks", "We missed you")]);
    // The list of the whole house says the same.
    let look = Look { words: vec!["Candles".into()], ..Look::default() };
    let found = w.desk.store.read(move |c| outbox::find(c, &look, 0, 500)).await.unwrap();
    assert!(found.0.iter().all(|f| f.template != "We missed you"));
    assert_eq!(found.1 as usize, found.0.len());
}

/// A file of the house goes with a template that asks for it, also once it is out of use; an
/// event's messages come from the sender it chose; lists are in the order that was asked for.
#[tokio::test(flavor = "multi_thread")]
async fn files_senders_and_orders() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let event = w.event_called(FREE).await;
    let add =
        async |bytes: &[u8]| files::add(&w.desk, &ilse, "Rules.pdf".into(), bytes.to_vec()).await;
    for bytes in [&b"<script>"[..], b"", &[b'%'; 3 * 1024 * 1024]] {
        assert!(
            matches!(add(bytes).await, Err(DeskError::Form(wrong)) if wrong[0].field == "file")
        );
    }
    let file = add(b"%PDF-1.7 the rules of the house").await.unwrap();
    assert!(
        matches!(add(b"%PDF-1.7 others").await, Err(DeskError::Form(wrong)) if wrong[0].field == "file")
    );
    let sheet = cues::load(&w.desk, &ilse, Some(event)).await.unwrap();
    let template = sheet.cues.iter().find(|c| c.template == "Confirmation").unwrap().cue.template;
    let words = form(&[
        ("name", "Ours"),
        ("subject", "Yes: {{event}}"),
        ("body", "<p>Read the rules, {{name}}.</p>"),
        ("goes", &format!("file {file}")),
    ]);
    wordings::save(&w.desk, &ilse, Some(event), Some(template), words).await.unwrap();
    files::retire(&w.desk, &ilse, file, true).await.unwrap();
    assert!(files::all(&w.desk, &ilse, &[]).await.unwrap().1.is_empty());
    let typed = form(&[("name", "Courses"), ("email", "courses@club.example")]);
    senders::save(&w.desk, &ilse, 0, typed).await.unwrap();
    let known = senders::all(&w.desk, &ilse).await.unwrap().1;
    let sender = known.iter().find(|s| s.email == "courses@club.example").unwrap().id;
    assert!(senders::choose(&w.desk, &ilse, event, Some(9_999)).await.is_err());
    senders::choose(&w.desk, &ilse, event, Some(sender)).await.unwrap();
    w.book(FREE, &[1]).await;
    w.due().await;
    let raw = w.mails.taken().pop().unwrap();
    let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
    assert_eq!(mail.from().unwrap().first().unwrap().address(), Some("courses@club.example"));
    let attached: Vec<_> = mail
        .attachments()
        .map(|a| {
            (
                a.contents().to_vec(),
                mail_parser::MimeHeaders::attachment_name(a).unwrap_or_default().to_owned(),
            )
        })
        .collect();
    assert_eq!(attached, [(b"%PDF-1.7 the rules of the house".to_vec(), "Rules.pdf".to_owned())]);
    // A picture whose name stands by itself is shown there, and leads where its link does.
    let png = [&b"\x89PNG\r\n\x1a\n"[..], b"a map"].concat();
    let map = files::add(&w.desk, &ilse, "Map.png".into(), png.clone()).await.unwrap();
    let words = form(&[
        ("name", "Ours"),
        ("subject", "Yes: {{event}}"),
        ("body", "<p>As Map.png shows:</p><p><a href=\"field:event page\">Map.png</a></p>"),
        ("goes", &format!("file {map}")),
    ]);
    let own = cues::load(&w.desk, &ilse, Some(event)).await.unwrap();
    let own = own.cues.iter().find(|c| c.template == "Ours").unwrap().cue.template;
    wordings::save(&w.desk, &ilse, Some(event), Some(own), words).await.unwrap();
    w.book(FREE, &[1]).await;
    w.due().await;
    let raw = w.mails.taken().pop().unwrap();
    let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
    let html = mail.body_html(0).unwrap();
    let shown = "/events/is-beekeeping-for-me\" rel=\"noopener nofollow\"";
    assert!(html.contains("<p>As Map.png shows:</p>") && html.contains("alt=\"Map\""), "{html}");
    assert!(html.contains("src=\"cid:file-0\"") && html.contains(shown), "{html}");
    let inside = mail.attachments().find(|a| a.contents() == png).unwrap();
    assert_eq!(mail_parser::MimeHeaders::content_id(inside), Some("file-0"));
    for sort in Sort::ALL {
        let ids = async |backwards| -> Vec<MessageId> {
            let look = Look { sort, backwards, ..Look::default() };
            let found = office::list(&w.desk, &ilse, look, 0, 100_000).await.unwrap();
            if sort == Sort::To {
                let to: Vec<String> =
                    found.rows.iter().map(|f| f.message.address.to_lowercase()).collect();
                assert!(to.is_sorted_by(|a, b| if backwards { a >= b } else { a <= b }));
            }
            found.rows.iter().map(|f| f.message.id).collect()
        };
        let (mut up, mut down) = (ids(false).await, ids(true).await);
        assert_ne!(up, down, "{sort:?}");
        up.sort_unstable();
        down.sort_unstable();
        assert_eq!(up, down, "all of them, in any order");
    }
}

/// Whoever waits for a date hears, by name and once, that it is called off.
#[tokio::test(flavor = "multi_thread")]
async fn those_who_wait_hear_that_it_is_called_off() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let waiting = |c: &matricle_store::Connection| {
        let sql =
            "SELECT d.event_id, w.name, w.email FROM waiting w JOIN dates d ON d.id = w.date_id
             WHERE w.stands = 'waiting' AND d.called_off = '' ORDER BY w.id LIMIT 1";
        let found = c.query_row(sql, [], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?;
        Ok::<(i64, String, String), matricle_store::StoreError>(found)
    };
    let (event, name, email) = w.desk.store.read(waiting).await.unwrap();
    dates::call_off(&w.desk, &ilse, EventId(event), None, "Foulbrood.".into()).await.unwrap();
    w.due().await;
    let text = w.mail(&email, "Called off: ").unwrap();
    assert!(text.contains(&format!("Dear {name}")) && text.contains("Foulbrood."), "{text}");
    assert!(text.contains("waiting list"), "{text}");
    w.sound().await;
}
