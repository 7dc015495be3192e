//! Strangers: whatever they do, whoever has not asked is not written to without end.

use matricle_core::DateId;
use matricle_core::people::unasked::{AN_HOUR, PASSES};
use matricle_core::people::who::mailbox;
use matricle_core::words::codes::Reference;
use matricle_desk::DeskError;
use matricle_desk::bookings::cancel::By;
use matricle_desk::bookings::{cancel, change, hold, move_date, pass_on, submit, undo, waiting};
use matricle_desk::people::asking::Asking;
use proptest::prelude::*;

use crate::world::text_of;

use super::world::{BOOKER, CANDLES, FREE, World, form, look, model, world};

const OPEN_DAY: &str = "apiary-open-day";

/// What a stranger does next, as whom, to which writing of the victim's address.
#[derive(Debug, Clone, Copy)]
enum Act {
    Books,
    PassesOn,
    Moves,
    CancelsAndBack,
    Joins,
    WayBack,
    Waits(i64),
}

fn act() -> impl Strategy<Value = (Act, u8)> {
    let act = prop_oneof![
        2 => Just(Act::Books),
        4 => Just(Act::PassesOn),
        4 => Just(Act::Moves),
        3 => Just(Act::CancelsAndBack),
        1 => Just(Act::Joins),
        1 => Just(Act::WayBack),
        2 => (0i64..25).prop_map(Act::Waits),
    ];
    (act, any::<u8>())
}

/// One of many writings of one address: all lead to one box.
fn victim(n: u8) -> String {
    match n % 3 {
        0 => "vera.lind@post.example".into(),
        1 => format!("veralind+{n}@post.example"),
        _ => "VERALIND@Post.example".into(),
    }
}

impl World {
    /// A booking made by somebody who types another's address and proves nothing.
    async fn typed(&self, slug: &str, address: &str, n: u8) -> Result<Reference, DeskError> {
        let (date, wanted) = self.choice(slug, &[2]).await;
        let by = matricle_store::bookings::HeldBy {
            from: (i64::from(n) + 1, i64::from(n % 5) + 1),
            ..Default::default()
        };
        let asking = Asking { from: by.from, ..Asking::default() };
        let reference = hold::keep(&self.desk, date, wanted, by, None).await?;
        let mut draft = self.draft(reference).await;
        draft.email = address.into();
        submit::submit(&self.desk, &asking, reference, draft).await?;
        Ok(reference)
    }

    /// How many mails went to the victim's box.
    fn to_box(&self) -> usize {
        let is_theirs = |raw: &Vec<u8>| {
            let mail = mail_parser::MessageParser::default().parse(raw).unwrap();
            let to = mail.to().and_then(|to| to.first()).and_then(|to| to.address()).unwrap();
            mailbox(to) == "veralind@post.example"
        };
        self.mails.taken().iter().filter(|raw| is_theirs(raw)).count()
    }

    async fn strange(&self, mine: &mut Vec<Reference>, dates: &[DateId], (act, n): (Act, u8)) {
        let chosen = (!mine.is_empty()).then(|| mine[usize::from(n) % mine.len()]);
        match (act, chosen) {
            (Act::Waits(minutes), _) => self.pass(minutes),
            (Act::Books, _) => {
                let slug = if n % 2 == 0 { OPEN_DAY } else { FREE };
                mine.extend(self.typed(slug, &victim(n), n).await);
            }
            (Act::Joins, _) => {
                let (date, wanted) = self.choice(OPEN_DAY, &[1]).await;
                let asking = Asking { from: (i64::from(n) + 1, 3), ..Asking::default() };
                let fields = form(&[("name", "V"), ("email", &victim(n)), ("agreed", "yes")]);
                let _ = waiting::join(&self.desk, date, wanted, &asking, fields).await;
            }
            (_, None) => {}
            (Act::PassesOn, Some(reference)) => {
                let sheet = self.sheet(reference).await;
                let person = sheet.attendees[usize::from(n) % sheet.attendees.len()].id;
                let to =
                    form(&[("new_name", "Win at www.evil.example"), ("new_email", &victim(n))]);
                let _ = pass_on::pass_on(&self.desk, By::Booker, reference, person, to).await;
                if n % 3 == 0 {
                    let _ = undo::undo(&self.desk, reference).await;
                }
            }
            (Act::Moves, Some(reference)) => {
                let to = dates[usize::from(n) % dates.len()];
                let _ = move_date::move_to(&self.desk, By::Booker, reference, to).await;
            }
            (Act::CancelsAndBack, Some(reference)) => {
                let _ = cancel::cancel(&self.desk, By::Booker, reference, Vec::new()).await;
                self.due().await;
                let _ = undo::undo(&self.desk, reference).await;
            }
            (Act::WayBack, Some(reference)) => {
                let asking = Asking { from: (i64::from(n) + 1, 2), ..Asking::default() };
                let _ = hold::mail_link(&self.desk, &asking, reference).await;
            }
        }
        self.due().await;
    }
}

#[test]
fn whatever_strangers_do_no_box_is_written_to_without_end() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    proptest!(model(), |(acts in prop::collection::vec(act(), 15..30))| {
        runtime.block_on(async {
            let w = world().await;
            let page = matricle_desk::programme::event(&w.desk, look(OPEN_DAY)).await.unwrap();
            let dates: Vec<DateId> = page.dates.iter().map(|d| d.date.id).collect();
            let mut mine = Vec::new();
            // What was sent when: no hour holds more than the rule says.
            let mut sent: Vec<(jiff::Timestamp, usize)> = Vec::new();
            for act in acts {
                w.strange(&mut mine, &dates, act).await;
                let (now, all) = (w.desk.clock.now(), w.to_box());
                let hour_ago = sent.iter().rev().find(|(at, _)| {
                    now.duration_since(*at) >= jiff::SignedDuration::from_hours(1)
                });
                let within = all - hour_ago.map_or(0, |(_, n)| *n);
                // Reminders are the organiser's, one for each booking and day.
                prop_assert!(within <= AN_HOUR + mine.len(), "{within} within an hour");
                sent.push((now, all));
            }
            w.sound().await;
            Ok(())
        })?;
    });
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_to_and_fro_become_one_mail_that_is_true_when_it_goes() {
    let w = world().await;
    let reference = w.typed(OPEN_DAY, "vera@post.example", 1).await.unwrap();
    w.provider.decide(matricle_desk::outside::provider::Status::Paid);
    matricle_desk::bookings::pay::pay_url(&w.desk, reference).await.unwrap();
    w.provider.decide(matricle_desk::outside::provider::Status::Paid);
    matricle_desk::bookings::pay::ask(&w.desk, reference).await.unwrap();
    w.due().await;
    let page = matricle_desk::programme::event(&w.desk, look(OPEN_DAY)).await.unwrap();
    let here = w.sheet(reference).await.date.id;
    let there = page.dates.iter().map(|d| d.date.id).find(|id| *id != here).unwrap();
    let changes = || w.subjects().iter().filter(|s| s.starts_with("Your booking has ch")).count();
    let before = changes();
    for n in 0..41 {
        let to = if n % 2 == 0 { there } else { here };
        move_date::move_to(&w.desk, By::Booker, reference, to).await.unwrap();
        w.due().await;
    }
    let at_once = changes() - before;
    assert!(at_once < 8, "{at_once}");
    w.pass(61);
    w.due().await;
    let after = changes() - before;
    assert_eq!(after, at_once + 1, "one more, of all that changed since");
    let (raw, _) = w.to("vera@post.example").pop().unwrap();
    let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
    let text = text_of(&mail);
    let starts = w.sheet(reference).await.date.span.starts;
    let day = matricle_formats::words::long_day(starts.date());
    assert!(text.contains(&format!("Now: {day}")), "{text}");
    assert_eq!(text.matches("It is for another date now.").count(), 1, "{text}");
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_ticket_is_passed_on_so_often_a_day_and_whoever_had_it_learns_nothing_of_who_has_it() {
    let w = world().await;
    let reference = w.confirmed(OPEN_DAY).await;
    let long = "Dee ".repeat(80);
    let person = w.sheet(reference).await.attendees[0].id;
    for (n, name) in ["Ann Able", "Zelda Quist", &long].into_iter().enumerate() {
        let to = format!("reader{n}@post.example");
        let fields = form(&[("new_name", name.trim()), ("new_email", &to)]);
        let passed = pass_on::pass_on(&w.desk, By::Booker, reference, person, fields).await;
        // A name of more letters than a line has is none.
        assert_eq!(passed.is_ok(), n < 2);
        w.due().await;
    }
    let gone = w.to("reader0@post.example").pop().unwrap().0;
    let gone = mail_parser::MessageParser::default().parse(&gone).unwrap();
    let mut held = format!("{:?} {}", gone.to(), gone.subject().unwrap());
    for part in &gone.parts {
        held.push_str(&String::from_utf8_lossy(part.contents()));
    }
    assert!(held.contains("Dear Ann Able") && held.contains("no longer"), "{held}");
    assert!(!held.contains("Zelda") && !held.contains("reader1@"), "{held}");
    for n in 2..=PASSES + 1 {
        let fields = form(&[("new_name", "Dee"), ("new_email", "dee@post.example")]);
        let passed = pass_on::pass_on(&w.desk, By::Booker, reference, person, fields).await;
        assert_eq!(passed.is_ok(), n < PASSES, "{n}");
        if n >= PASSES {
            assert!(matches!(passed, Err(DeskError::TooOften { .. })));
        }
    }
    // Whoever of the house does it answers for it.
    let by = By::Staff(w.staff(0).await, None);
    let fields = form(&[("new_name", "Dee"), ("new_email", "dee@post.example")]);
    pass_on::pass_on(&w.desk, by, reference, person, fields).await.unwrap();
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_ticket_passed_on_and_names_corrected_are_taken_back() {
    let w = world().await;
    let reference = w.paid(CANDLES, &[1]).await;
    w.due().await;
    let before = w.sheet(reference).await;
    let person = &before.attendees[0];
    // Names: exactly as they were, and only once.
    let mut draft = w.draft(reference).await;
    draft.attendees = vec!["Somebody Else".into()];
    change::correct(&w.desk, By::Booker, reference, draft).await.unwrap();
    assert_eq!(w.sheet(reference).await.attendees[0].name, "Somebody Else");
    undo::undo(&w.desk, reference).await.unwrap();
    assert_eq!(w.sheet(reference).await.attendees, before.attendees);
    assert!(matches!(undo::undo(&w.desk, reference).await, Err(DeskError::NothingToUndo)));

    // A ticket: it is whose it was, the code that went out opens nothing, and both hear of it.
    let to = form(&[("new_name", "Ann Able"), ("new_email", "ann@post.example")]);
    pass_on::pass_on(&w.desk, By::Booker, reference, person.id, to).await.unwrap();
    w.due().await;
    let passed = w.sheet(reference).await.attendees[0].code;
    undo::undo(&w.desk, reference).await.unwrap();
    w.due().await;
    let after = w.sheet(reference).await;
    let one = &after.attendees[0];
    assert_eq!(one.name, person.name);
    assert!(one.code != passed && one.code != person.code);
    let scanned = w.scan(before.date.id, "main door", "old", passed.as_str()).await;
    assert_ne!(scanned.told.verdict.word(), "come in");
    let told = |to: &str| {
        let (raw, _) = w.to(to).pop().unwrap();
        let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
        text_of(&mail)
    };
    assert!(told("ann@post.example").contains("taken back"), "{}", told("ann@post.example"));
    assert!(told(BOOKER).contains("yours again") && told(BOOKER).contains(&one.code.to_string()));
    // Once somebody came in by it, it stays passed on.
    let to = form(&[("new_name", "Ann Able"), ("new_email", "ann@post.example")]);
    pass_on::pass_on(&w.desk, By::Booker, reference, one.id, to).await.unwrap();
    // Passed on from her, and taken back: it is hers again, and the booker is told nothing more.
    w.due().await;
    let to = form(&[("new_name", "Dee Doe"), ("new_email", "dee@post.example")]);
    pass_on::pass_on(&w.desk, By::Booker, reference, one.id, to).await.unwrap();
    w.due().await;
    let mails = w.to(BOOKER).len();
    undo::undo(&w.desk, reference).await.unwrap();
    w.due().await;
    assert_eq!(w.sheet(reference).await.attendees[0].name, "Ann Able");
    let hers = told("ann@post.example");
    assert!(hers.contains("yours again, with a new code"), "{hers}");
    assert_eq!(w.to(BOOKER).len(), mails);
    let code = w.sheet(reference).await.attendees[0].code;
    w.scan(before.date.id, "main door", "new", code.as_str()).await;
    assert!(matches!(undo::undo(&w.desk, reference).await, Err(DeskError::NothingToUndo)));
    w.sound().await;
}
