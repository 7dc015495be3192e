//! Invitations: who is asked, what their link does, who is asked once again.

use std::collections::BTreeSet;

use jiff::{SignedDuration, Timestamp};
use matricle_core::booking::State;
use matricle_core::forms::form::Fault;
use matricle_core::messages::replies::{HandOnRefusal, Reply, Stands};
use matricle_core::words::codes::Reference;
use matricle_core::{DateId, EventId};
use matricle_desk::bookings::cancel::{By, cancel};
use matricle_desk::outside::mailer::SendError;
use matricle_desk::planning::invitations::{self, From, Opens};
use matricle_desk::planning::{asking, replies, sheet};
use matricle_desk::{Clock, DeskError};
use matricle_store::bookings::Filter;
use matricle_store::{Connection, StoreError, events, invited, outbox};
use proptest::prelude::*;

use crate::world::{BOOKER, World, form, model, text_of, world};

const FREE: &str = "is-beekeeping-for-me";
const COUNCIL: &str = "winter-council";

impl World {
    async fn next_of(&self, event: EventId) -> (DateId, Timestamp) {
        let find = move |c: &Connection| events::dates_of(c, event);
        let now = self.desk.clock.now();
        let all = self.desk.store.read(find).await.unwrap();
        let next = all.into_iter().find(|d| d.span.starts_at > now).unwrap();
        (next.id, next.span.starts_at)
    }

    /// An event to which these are invited, by mails that have gone.
    async fn invited(&self, slug: &'static str, rules: &[(&str, &str)], whom: &str) -> EventId {
        let (ilse, event) = (self.staff(0).await, self.event_named(slug).await);
        invitations::set(&self.desk, &ilse, event, form(rules)).await.unwrap();
        invitations::add(&self.desk, &ilse, event, form(&[("whom", whom)])).await.unwrap();
        asking::send(&self.desk, &ilse, event).await.unwrap();
        self.due().await;
        event
    }

    async fn row(&self, event: EventId, address: &str) -> Option<replies::ReplyRow> {
        let ilse = self.staff(0).await;
        let all = replies::of_event(&self.desk, &ilse, event).await.unwrap();
        all.rows.into_iter().find(|r| r.invited.email == address)
    }

    async fn link(&self, event: EventId, address: &str) -> (i64, String) {
        let link = self.row(event, address).await.unwrap().link(&self.desk).unwrap();
        let parts: Vec<&str> = link.split('/').collect();
        (parts[parts.len() - 3].parse().unwrap(), parts[parts.len() - 2].to_owned())
    }

    async fn says(
        &self,
        link: &(i64, String),
        fields: &[(&str, &str)],
    ) -> Result<Reply, DeskError> {
        replies::reply(&self.desk, link.0, &link.1, form(fields)).await
    }

    async fn asks(&self, link: &(i64, String)) -> Result<replies::Question, DeskError> {
        replies::question(&self.desk, link.0, &link.1).await
    }

    async fn hands(&self, link: &(i64, String), to: &str) -> Result<String, DeskError> {
        replies::hand_on(&self.desk, link.0, &link.1, form(&[("hand_to", to)])).await
    }

    /// Goes on by so many days, and does what is due.
    async fn days_on(&self, days: i64) {
        self.pass(days * 24 * 60);
        self.due().await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_list_is_looked_at_before_anything_is_kept_and_its_people_come_from_anywhere() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let (council, earlier) = (w.event_named(COUNCIL).await, w.event_named("apiary-open-day").await);
    w.confirmed("apiary-open-day").await;
    let look =
        |event, text: &str, from| invitations::look(&w.desk, &ilse, event, text.to_owned(), from);
    let text = "Ann <ann@post.example>; ANN@post.example, no-address@\n\"Bo, Li\" bo@post.example";
    let booked = |event| From::Earlier { event: Some(event), date: None, came: None };
    let looked = look(council, text, booked(earlier)).await.unwrap();
    assert_eq!(looked.addresses[..2], ["ann@post.example", "bo@post.example"]);
    assert!(looked.addresses.contains(&BOOKER.to_owned()) && looked.found > 0);
    assert_eq!((looked.doubles.len(), &looked.wrong[..]), (1, &["no-address@".to_owned()][..]));
    let again = look(earlier, text, booked(earlier)).await.unwrap();
    assert!(again.booked.contains(&BOOKER.to_owned()), "who has booked already");
    let came = From::Earlier { event: Some(earlier), date: None, came: Some(true) };
    assert!(!look(council, "", came).await.unwrap().addresses.contains(&BOOKER.to_owned()));
    // By a list, by a filter in words; whoever wants no announcements is not found, but typed.
    let words = Filter { words: "apiary confirmed".into(), ..Filter::default() };
    let filter = look(council, "", From::Filter(Box::new(words))).await.unwrap();
    assert!(filter.addresses.contains(&BOOKER.to_owned()));
    let now = w.desk.clock.now();
    let off = move |tx: &matricle_store::Tx<'_>| outbox::unsubscribe(tx, BOOKER, now);
    w.desk.store.write(off).await.unwrap();
    let left_out = look(council, "", booked(earlier)).await.unwrap();
    assert!(!left_out.addresses.contains(&BOOKER.to_owned()));
    assert_eq!(left_out.unsubscribed, 1);
    let typed = look(council, BOOKER, From::Nowhere).await.unwrap();
    assert_eq!(typed.addresses, [BOOKER]);
    let list = look(earlier, "", From::Invited(council)).await.unwrap();
    assert_eq!((list.addresses.len(), list.found), (240, 240));
    assert_eq!(look(council, "", From::Invited(council)).await.unwrap().known.len(), 240);
    assert!(look(council, "", From::Members).await.is_ok());
    // Only some domains: shown when it is looked at, refused when it is kept.
    let only = form(&[("only_domains", "school.example")]);
    invitations::set(&w.desk, &ilse, earlier, only).await.unwrap();
    let mixed = "a@school.example b@post.example c@north.school.example";
    let looked = look(earlier, mixed, From::Nowhere).await.unwrap();
    assert_eq!(
        (looked.addresses.len(), &looked.outside[..]),
        (2, &["b@post.example".to_owned()][..])
    );
    let kept = invitations::add(&w.desk, &ilse, earlier, form(&[("whom", mixed)])).await;
    let Err(DeskError::Form(wrong)) = kept else { panic!("{kept:?}") };
    assert_eq!(wrong[0].fault, Fault::OtherDomain("b@post.example".into()));
    let added =
        invitations::add(&w.desk, &ilse, earlier, form(&[("whom", &looked.addresses.join(";"))]));
    assert_eq!(added.await.unwrap().new, 2);
    // An invitation opens an event to its reader, and to nobody else; off the list it opens nothing.
    let link = w.link(council, &list.addresses[7]).await;
    let opens = invitations::open(&w.desk, link.0, &link.1).await.unwrap();
    assert_eq!(opens, Opens::Event(COUNCIL.into()));
    let first = list.addresses[7].clone();
    assert!(invitations::take_off(&w.desk, &ilse, council, first.to_uppercase()).await.unwrap());
    assert!(matches!(invitations::open(&w.desk, link.0, &link.1).await, Err(DeskError::NotFound)));
    assert!(!invitations::take_off(&w.desk, &ilse, council, first).await.unwrap(), "once");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_yes_books_at_once_and_those_who_said_yes_are_booked_once() {
    let w = world().await;
    let (ilse, council) = (w.staff(0).await, w.event_named(COUNCIL).await);
    let all = replies::of_event(&w.desk, &ilse, council).await.unwrap();
    assert_eq!(all.rows.len(), 240);
    assert_eq!(asking::by_other_means(&w.desk, &ilse, council).await.unwrap(), 0);
    let silent = all.rows.iter().find(|r| r.said.is_none()).unwrap();
    let link = w.link(council, &silent.invited.email).await;
    assert!(w.asks(&link).await.unwrap().at_once);
    assert!(matches!(w.says(&link, &[("reply", "yes")]).await, Err(DeskError::Form(_))), "whose");
    for _ in 0..2 {
        w.says(&link, &[("reply", "yes"), ("name", "Ann O'Hara")]).await.unwrap();
    }
    assert!(w.asks(&link).await.unwrap().booked);
    assert_eq!(w.free(COUNCIL).await, 119, "once");
    // Whoever said yes and handed the invitation on is not among them; the other has said nothing.
    invitations::set(&w.desk, &ilse, council, form(&[("hand_on", "yes")])).await.unwrap();
    let yes = all.rows.iter().find(|r| r.stands == Stands::Said(Reply::Yes)).unwrap();
    let link = w.link(council, &yes.invited.email).await;
    w.hands(&link, "dee@post.example").await.unwrap();
    for booked in [99, 0] {
        let done = replies::book_yes(&w.desk, &ilse, council, form(&[])).await.unwrap();
        assert_eq!((done.booked, done.not.len()), (booked, 0));
    }
    w.sound().await;
}

/// Whoever is invited to a ticket alone chooses it by their link: a yes books it, and nobody else's.
#[tokio::test(flavor = "multi_thread")]
async fn a_yes_books_the_ticket_that_one_is_invited_to() {
    let w = world().await;
    let (ilse, event) = (w.staff(0).await, w.event_named(FREE).await);
    let only = move |tx: &matricle_store::Tx<'_>| {
        let list = r#"["ann@post.example"]"#;
        tx.execute("UPDATE ticket_types SET invited = ?1 WHERE event_id = ?2", (list, event.0))?;
        Ok::<_, StoreError>(())
    };
    w.desk.store.write(only).await.unwrap();
    invitations::add(&w.desk, &ilse, event, form(&[("whom", "bo@post.example")])).await.unwrap();
    assert_eq!(asking::send(&w.desk, &ilse, event).await.unwrap(), 2);
    w.due().await;
    let (ann, bo) =
        (w.link(event, "ann@post.example").await, w.link(event, "bo@post.example").await);
    let (asked, other) = (w.asks(&ann).await.unwrap(), w.asks(&bo).await.unwrap());
    assert!(asked.at_once && !other.at_once, "the ticket is hers alone");
    for link in [&ann, &bo] {
        w.says(link, &[("reply", "yes"), ("name", "Ann")]).await.unwrap();
    }
    assert!(w.asks(&ann).await.unwrap().booked && !w.asks(&bo).await.unwrap().booked);
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_maybe_keeps_a_seat_until_the_organisers_day() {
    let mut w = world().await;
    let rules = [("maybe_days", "3")];
    let whom = "ann@post.example bo@post.example cy@post.example dee@post.example";
    let event = w.invited(FREE, &rules, whom).await;
    let before = w.free(FREE).await;
    // Who is taken off the list at the Office keeps nothing.
    let dee = w.link(event, "dee@post.example").await;
    w.says(&dee, &[("reply", "maybe"), ("name", "Dee")]).await.unwrap();
    assert_eq!(w.free(FREE).await, before - 1);
    let ilse = w.staff(0).await;
    let off = invitations::take_off(&w.desk, &ilse, event, "DEE@post.example".into());
    assert!(off.await.unwrap());
    assert_eq!(w.free(FREE).await, before);
    let (ann, bo, cy) = (
        w.link(event, "ann@post.example").await,
        w.link(event, "bo@post.example").await,
        w.link(event, "cy@post.example").await,
    );
    for _ in 0..2 {
        for link in [&ann, &bo, &cy] {
            w.says(link, &[("reply", "maybe"), ("name", "Ann")]).await.unwrap();
        }
    }
    assert_eq!(w.free(FREE).await, before - 3, "one seat each, however often it is said");
    let (kept, until) = w.asks(&ann).await.unwrap().kept.unwrap();
    let (_, starts) = w.next_of(event).await;
    let days = (starts - until).as_hours() / 24;
    assert!((2..=3).contains(&days), "{until} before {starts}");
    assert_eq!(w.state(kept).await, State::Held);
    // A no gives it back; a yes takes that very seat; handing on gives it back, too.
    w.says(&bo, &[("reply", "no")]).await.unwrap();
    assert_eq!(w.free(FREE).await, before - 2);
    assert!(w.asks(&bo).await.unwrap().kept.is_none());
    assert!(w.asks(&ann).await.unwrap().at_once);
    w.says(&ann, &[("reply", "yes"), ("name", "Ann O'Hara")]).await.unwrap();
    assert_eq!(w.state(kept).await, State::Confirmed);
    assert_eq!(w.free(FREE).await, before - 2);
    // The day is over: the seat is free, and a new maybe keeps none.
    w.desk.clock = Clock::still(until + SignedDuration::from_secs(1));
    w.due().await;
    assert_eq!(w.free(FREE).await, before - 1);
    w.says(&cy, &[("reply", "maybe")]).await.unwrap();
    assert!(w.asks(&cy).await.unwrap().kept.is_none());
    assert_eq!(w.free(FREE).await, before - 1);
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_invitation_is_handed_on_only_where_the_organiser_says_so() {
    let w = world().await;
    let whom = "ann@post.example bo@post.example cy@post.example";
    let event = w.invited(FREE, &[], whom).await;
    let ann = w.link(event, "ann@post.example").await;
    let why = |done: Result<String, DeskError>| match done {
        Err(DeskError::Form(wrong)) => match wrong[0].fault.clone() {
            Fault::HandOn(refusal) => refusal,
            other => panic!("{other:?}"),
        },
        other => panic!("{other:?}"),
    };
    assert_eq!(why(w.hands(&ann, "dee@post.example").await), HandOnRefusal::TheirsAlone);
    let rules = form(&[("hand_on", "yes"), ("only_domains", "post.example")]);
    invitations::set(&w.desk, &w.staff(0).await, event, rules).await.unwrap();
    assert_eq!(why(w.hands(&ann, "dee@post").await), HandOnRefusal::NotAnAddress);
    // Who is invited is not to be found out by trying one after the other.
    let cy = w.link(event, "cy@post.example").await;
    for _ in 0..3 {
        assert_eq!(why(w.hands(&cy, "BO@post.example").await), HandOnRefusal::Invited);
    }
    assert_eq!(why(w.hands(&cy, "BO@post.example").await), HandOnRefusal::TooOften);
    let other = why(w.hands(&ann, "dee@evil.example").await);
    assert!(matches!(other, HandOnRefusal::OtherDomain { .. }));
    // It is the other's now: hers says so and opens nothing.
    w.hands(&ann, "dee@post.example").await.unwrap();
    w.due().await;
    let (asked, dee) = (w.asks(&ann).await.unwrap(), w.link(event, "dee@post.example").await);
    assert_eq!((asked.handed_to.as_str(), asked.take_back), ("dee@post.example", true));
    assert_eq!(invitations::open(&w.desk, ann.0, &ann.1).await.unwrap(), Opens::WhoHasIt);
    assert!(matches!(w.says(&ann, &[("reply", "no")]).await, Err(DeskError::NotFound)));
    assert!(matches!(w.hands(&ann, "eve@post.example").await, Err(DeskError::NotFound)));
    assert_eq!(w.row(event, "ann@post.example").await.unwrap().stands, Stands::HandedOn);
    // Back, while nothing was said; then the other's opens nothing.
    replies::take_back(&w.desk, ann.0, &ann.1).await.unwrap();
    assert!(matches!(w.asks(&dee).await, Err(DeskError::NotFound)));
    assert!(w.asks(&ann).await.unwrap().handed_to.is_empty());
    // A second time is a link anew; once they have replied it is theirs for good.
    w.hands(&ann, "dee@post.example").await.unwrap();
    w.due().await;
    let dee = w.link(event, "dee@post.example").await;
    w.says(&dee, &[("reply", "maybe")]).await.unwrap();
    let back = replies::take_back(&w.desk, ann.0, &ann.1).await;
    assert!(matches!(back, Err(DeskError::NothingToUndo)));
    // Not without end.
    w.hands(&dee, "eve@post.example").await.unwrap();
    let eve = w.link(event, "eve@post.example").await;
    assert_eq!(why(w.hands(&eve, "fay@post.example").await), HandOnRefusal::TooOften);
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cue_asks_once_again_whoever_is_silent_and_nobody_else() {
    let w = world().await;
    let whom = "ann@post.example bo@post.example cy@post.example dee@post.example";
    let event = w.invited(COUNCIL, &[("hand_on", "yes")], whom).await;
    let (_, starts) = w.next_of(event).await;
    let early = starts - SignedDuration::from_hours(24 * 12);
    assert!(early > w.desk.clock.now(), "the date is far enough away for this test");
    let bo = w.link(event, "bo@post.example").await;
    w.says(&bo, &[("reply", "no")]).await.unwrap();
    let cy = w.link(event, "cy@post.example").await;
    w.hands(&cy, "eve@post.example").await.unwrap();
    let asked = async |w: &World| {
        let mut asked = Vec::new();
        for a in ["ann", "bo", "cy", "dee", "eve"] {
            let row = w.row(event, &format!("{a}@post.example")).await.unwrap();
            asked.push(row.invited.asked);
        }
        asked
    };
    w.days_on(6).await;
    assert_eq!(asked(&w).await, [1, 1, 1, 1, 1]);
    let ilse = w.staff(0).await;
    let again = replies::of_event(&w.desk, &ilse, event).await.unwrap().again_at.unwrap();
    assert!(again > w.desk.clock.now(), "the page says when");
    // Whoever replies between the minute and the mail gets none.
    w.mails.refuse(Some(SendError { for_good: false, reason: "busy".into() }));
    w.days_on(1).await;
    let ann = w.link(event, "ann@post.example").await;
    w.says(&ann, &[("reply", "maybe")]).await.unwrap();
    w.mails.refuse(None);
    w.days_on(1).await;
    assert_eq!(asked(&w).await, [2, 1, 1, 2, 2], "once again, who was silent");
    let mut to: Vec<String> = Vec::new();
    for raw in w.mails.taken() {
        let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
        if mail.subject().unwrap().starts_with("Once again") {
            let address = mail.to().unwrap().first().unwrap().address().unwrap().to_owned();
            // The demo's 240 have numbers in their addresses.
            to.extend(Some(address).filter(|a| !a.contains(|c: char| c.is_ascii_digit())));
        }
    }
    to.sort();
    assert_eq!(to, ["dee@post.example", "eve@post.example"]);
    w.days_on(1).await;
    assert_eq!(asked(&w).await, [2, 1, 1, 2, 2], "never a third time");
    // The demo's were asked before the cue was there: they are asked by hand, once.
    for many in [80, 0] {
        assert_eq!(asking::ask_again(&w.desk, &ilse, event).await.unwrap(), many);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_did_not_reply_is_written_to_and_replies_from_there() {
    use matricle_desk::messages::announcements;
    let w = world().await;
    let event = w.invited(FREE, &[], "ann@post.example bo@post.example").await;
    let bo = w.link(event, "bo@post.example").await;
    w.says(&bo, &[("reply", "no")]).await.unwrap();
    let words = [("silent", "yes"), ("subject", "Soup"), ("words", "<p>There is soup.</p>")];
    let ilse = w.staff(0).await;
    let sent = announcements::send(&w.desk, &ilse, event, form(&words)).await.unwrap();
    assert_eq!(sent.1, 1, "bo has replied");
    w.due().await;
    let mails = w.mails.taken();
    let mail = mail_parser::MessageParser::default().parse(mails.last().unwrap()).unwrap();
    let text = text_of(&mail);
    let ann = w.link(event, "ann@post.example").await;
    assert_eq!(mail.to().unwrap().first().unwrap().address(), Some("ann@post.example"));
    assert!(text.contains("There is soup.") && text.contains("say=maybe"), "{text}");
    assert!(text.contains(&format!("/invited/{}/{}/", ann.0, ann.1)), "her own link: {text}");
    // Bookers have no such links under their words.
    w.confirmed(FREE).await;
    let (date, _) = w.next_of(event).await;
    let date = date.to_string();
    let words =
        [("confirmed", "yes"), ("date", &date), ("subject", "Tea"), ("words", "<p>Tea.</p>")];
    announcements::send(&w.desk, &ilse, event, form(&words)).await.unwrap();
    w.due().await;
    let mails = w.mails.taken();
    let mail = mail_parser::MessageParser::default().parse(mails.last().unwrap()).unwrap();
    assert_eq!(mail.subject(), Some("Tea"));
    assert!(!text_of(&mail).contains("Are you coming"));
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_written_back_to_an_invitation_stands_on_the_sheet_of_the_event() {
    let w = world().await;
    let event = w.invited(FREE, &[], "ann@post.example").await;
    let mails = w.mails.taken();
    let mail = mail_parser::MessageParser::default().parse(mails.last().unwrap()).unwrap();
    let raw = format!(
        "From: Ann <ann@post.example>\r\nTo: office@ostrel.example\r\nSubject: Re: a question\r\n\
         Date: Wed, 25 Nov 2026 17:50:00 +0000\r\nMessage-ID: <back@post.example>\r\n\
         In-Reply-To: <{}>\r\n\r\nIs there soup?\r\n",
        mail.message_id().unwrap()
    );
    matricle_desk::letters::take_in(&w.desk, raw.into_bytes()).await.unwrap();
    let ilse = w.staff(0).await;
    let sheet = matricle_desk::office::event(&w.desk, &ilse, event).await.unwrap();
    assert_eq!(sheet.letters.1, 1);
    assert_eq!(sheet.letters.0[0].words.trim(), "Is there soup?");
}

#[tokio::test(flavor = "multi_thread")]
async fn twenty_thousand_are_looked_at_kept_and_asked() {
    let w = world().await;
    let (ilse, event) = (w.staff(0).await, w.event_named(FREE).await);
    let many: String = (0..20_000).map(|n| format!("\"P {n}\" p{n}@post.example;\n")).collect();
    let looked =
        invitations::look(&w.desk, &ilse, event, many.clone(), From::Nowhere).await.unwrap();
    assert_eq!(looked.addresses.len(), 20_000);
    let added = invitations::add(&w.desk, &ilse, event, form(&[("whom", &many)])).await.unwrap();
    assert_eq!((added.new, added.known), (20_000, 0));
    assert_eq!(asking::send(&w.desk, &ilse, event).await.unwrap(), 20_000);
    let planned = move |c: &Connection| Ok::<_, StoreError>(outbox::invitations(c, event)?.len());
    assert_eq!(w.desk.store.read(planned).await.unwrap(), 20_000);
    let all = replies::of_event(&w.desk, &ilse, event).await.unwrap();
    assert_eq!(all.counts.iter().sum::<u32>(), 20_000);
    // Who books by hand stays as they booked.
    let open = sheet::settings(&w.desk, &ilse, event).await.unwrap();
    assert_eq!(open.invited, 20_000);
}

/// What can be done to an invitation, by whoever has it or at the Office.
#[derive(Debug, Clone, Copy)]
enum Act {
    Add(usize),
    Off(usize),
    Ask,
    Again,
    Says(usize, Reply),
    Hands(usize, usize),
    Back(usize),
    Cancels(usize),
    Days(i64),
}

const PEOPLE: usize = 6;

fn address(n: usize) -> String {
    format!("guest.{n}@post.example")
}

fn act() -> impl Strategy<Value = Act> {
    let one = 0..PEOPLE;
    let reply = prop::sample::select(Reply::ALL.to_vec());
    prop_oneof![
        3 => one.clone().prop_map(Act::Add),
        1 => one.clone().prop_map(Act::Off),
        3 => Just(Act::Ask),
        1 => Just(Act::Again),
        8 => (one.clone(), reply).prop_map(|(n, r)| Act::Says(n, r)),
        4 => (one.clone(), 0..PEOPLE).prop_map(|(n, to)| Act::Hands(n, to)),
        2 => one.clone().prop_map(Act::Back),
        1 => one.prop_map(Act::Cancels),
        1 => (0i64..3).prop_map(Act::Days),
    ]
}

impl World {
    /// The links of an event's invitations, by address: also those of before.
    async fn links(&self, event: EventId) -> Vec<(i64, String, String)> {
        let find = move |c: &Connection| {
            let rows: Vec<(i64, String)> = c
                .prepare(
                    "SELECT id, address FROM outbox WHERE event_id = ?1 AND happened = 'invitation' ORDER BY id",
                )?
                .query_map([event.0], |row| Ok((row.get(0)?, row.get(1)?)))?
                .collect::<Result<_, _>>()?;
            Ok::<_, StoreError>(rows)
        };
        let all = self.desk.store.read(find).await.unwrap();
        let key = |id: i64| {
            let link = self.desk.invitation_url(matricle_core::MessageId(id));
            link.rsplit('/').next().unwrap().to_owned()
        };
        all.into_iter().map(|(id, to)| (id, key(id), to)).collect()
    }

    /// Seats of an event's dates that somebody has: reference, whose, whether only kept.
    async fn seats_of(&self, event: EventId) -> Vec<(Reference, String, bool)> {
        let find = move |c: &Connection| {
            let all = c
                .prepare(
                    // Of a seat that is only kept, whose it is stands with their reply.
                    "SELECT b.reference, coalesce(r.email, b.email), b.state = 'held'
                     FROM bookings b JOIN dates d ON d.id = b.date_id
                     LEFT JOIN replies r ON r.kept_id = b.id AND b.state = 'held'
                     WHERE d.event_id = ?1 AND (b.state = 'held'
                        OR b.state = 'confirmed' AND b.email LIKE 'guest.%')",
                )?
                .query_map([event.0], |row| {
                    let reference: String = row.get(0)?;
                    Ok((Reference::parse(&reference).unwrap(), row.get(1)?, row.get(2)?))
                })?
                .collect::<Result<_, _>>()?;
            Ok::<_, StoreError>(all)
        };
        self.desk.store.read(find).await.unwrap()
    }

    async fn does(&self, event: EventId, act: Act) {
        let ilse = self.staff(0).await;
        let mut links = self.links(event).await;
        links.reverse();
        let link = |n: usize| {
            let of = links.iter().find(|(_, _, to)| *to == address(n));
            of.map(|(id, key, _)| (*id, key.clone()))
        };
        let refused = match act {
            Act::Add(n) => {
                invitations::add(&self.desk, &ilse, event, form(&[("whom", &address(n))]))
                    .await
                    .err()
            }
            Act::Off(n) => invitations::take_off(&self.desk, &ilse, event, address(n)).await.err(),
            Act::Ask => asking::send(&self.desk, &ilse, event).await.err(),
            Act::Again => asking::ask_again(&self.desk, &ilse, event).await.err(),
            Act::Says(n, reply) => match link(n) {
                Some(link) => {
                    self.says(&link, &[("reply", reply.word()), ("name", "Guest")]).await.err()
                }
                None => None,
            },
            Act::Hands(n, to) => match link(n) {
                Some(link) => self.hands(&link, &address(to)).await.err(),
                None => None,
            },
            Act::Back(n) => match link(n) {
                Some(link) => replies::take_back(&self.desk, link.0, &link.1).await.err(),
                None => None,
            },
            Act::Cancels(n) => {
                let seats = self.seats_of(event).await;
                match seats.iter().find(|(_, of, kept)| *of == address(n) && !kept) {
                    Some((reference, ..)) => {
                        cancel(&self.desk, By::Booker, *reference, Vec::new()).await.err()
                    }
                    None => None,
                }
            }
            // Up to the day of the date, over the end of what a maybe keeps, and not beyond.
            Act::Days(days) => {
                let left = (self.next_of(event).await.1 - self.desk.clock.now()).as_mins() - 60;
                self.pass(left.min(days * 24 * 60));
                None
            }
        };
        // Refused with words, and nothing half done.
        let refused_well = refused.as_ref().is_none_or(|e| {
            matches!(e, DeskError::Form(_) | DeskError::NotFound | DeskError::NothingToUndo)
        });
        assert!(refused_well, "{act:?}: {refused:?}");
        self.due().await;
    }

    /// What holds of the invitations of an event whatever was done.
    async fn holds(&self, event: EventId, before: u32) {
        let ilse = self.staff(0).await;
        let all = replies::of_event(&self.desk, &ilse, event).await.unwrap();
        assert_eq!(all.counts.iter().sum::<u32>() as usize, all.rows.len(), "each counted once");
        let seats = self.seats_of(event).await;
        let taken = u32::try_from(seats.len()).unwrap();
        assert_eq!(self.free(FREE).await, before - taken, "a seat is free, or it is somebody's");
        for row in &all.rows {
            let email = &row.invited.email;
            let theirs: Vec<_> = seats.iter().filter(|(_, of, _)| of == email).collect();
            assert!(theirs.len() <= 1, "{email} has one seat at most: {theirs:?}");
            assert_eq!(row.booked, theirs.iter().any(|(_, _, kept)| !kept), "{email}");
            if theirs.iter().any(|(_, _, kept)| *kept) {
                assert_eq!(row.stands, Stands::Said(Reply::Maybe), "{email} keeps a seat");
            }
            assert!(row.invited.asked <= 2, "{email} was asked {} times", row.invited.asked);
        }
        // The store finds those whom core lets be asked again, and nobody else.
        let find = move |c: &Connection| {
            invited::silent(c, event, (Timestamp::MIN, Timestamp::MAX), u32::MAX)
        };
        let found: BTreeSet<String> =
            self.desk.store.read(find).await.unwrap().into_iter().map(|(who, _)| who).collect();
        let may = all.rows.iter().filter(|r| r.may_be_asked_again());
        assert_eq!(found, may.map(|r| r.invited.email.clone()).collect());
        // A seat is nobody's who is not invited any more, but for those who have booked it.
        for (_, of, kept) in &seats {
            assert!(!kept || all.rows.iter().any(|r| r.invited.email == *of), "{of}");
        }
        // The link of an invitation opens the event for whoever has it now, and for nobody else.
        for (id, key, to) in self.links(event).await {
            let opens = invitations::open(&self.desk, id, &key).await;
            let row = all.rows.iter().find(|r| r.invited.email == to);
            match row.map(|r| r.invited.handed_to.is_empty()) {
                Some(true) => assert!(matches!(opens, Ok(Opens::Event(_))), "{to}"),
                Some(false) => assert_eq!(opens.unwrap(), Opens::WhoHasIt, "{to}"),
                None => assert!(matches!(opens, Err(DeskError::NotFound)), "{to}"),
            }
        }
    }
}

/// Whatever is done to invitations, in whatever order: no seat is had twice or lost, nobody is
/// asked a third time, and a link opens what it should.
#[test]
fn whatever_is_done_to_invitations_seats_and_links_are_right() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    proptest!(model(), |(acts in prop::collection::vec(act(), 10..40))| {
        runtime.block_on(async {
            let w = world().await;
            let rules = [("hand_on", "yes"), ("maybe_days", "1")];
            let event = w.invited(FREE, &rules, &address(0)).await;
            let before = w.free(FREE).await;
            for act in &acts {
                w.does(event, *act).await;
                w.holds(event, before).await;
            }
            w.sound().await;
        });
    });
}
