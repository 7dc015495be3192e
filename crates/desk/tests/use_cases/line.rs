//! The line: choosing, filling in, paying, mails, cancelling, the door.

use matricle_core::Currency;
use matricle_core::QuestionId;
use matricle_core::booking::details::{Draft, Field};
use matricle_core::booking::{ChoiceRefusal, State};
use matricle_core::door::Verdict;
use matricle_core::seats::SeatRefusal;
use matricle_core::words::codes::Reference;
use matricle_demo as demo;
use matricle_desk::bookings::cancel;
use matricle_desk::bookings::cancel::By;
use matricle_desk::bookings::hold;
use matricle_desk::bookings::submit::Outcome;
use matricle_desk::bookings::{pay, submit};
use matricle_desk::door;
use matricle_desk::door::Shown;
use matricle_desk::door::{Device, Why};
use matricle_desk::outside::mailer::SendError;
use matricle_desk::outside::provider::{REHEARSAL_SECRET, Status, sign};
use matricle_desk::people::asking::Asking;
use matricle_desk::people::signin;
use matricle_desk::people::signin::Browser;
use matricle_desk::programme::Wish;
use matricle_desk::{Clock, DeskError, office, programme};
use matricle_store::bookings::HeldBy;
use matricle_store::{outbox, payments};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};

use crate::world::{CANDLES, FREE, open, text_of, world};

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_is_sound_and_seeded_once() {
    let w = world().await;
    assert_eq!(w.faults().await, Vec::<String>::new());
    assert!(!demo::seed(&w.desk).await.unwrap());
    let all = programme::catalogue(&w.desk, Wish::default(), 100).await.unwrap();
    let dates = all.found.dates;
    assert!(dates.len() >= 15, "{}", dates.len());
    assert!(dates.iter().any(|d| d.pool.free() == 0) && dates.iter().any(|d| d.pool.free() == 1));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_free_booking_confirms_at_once_and_its_mail_goes_once_with_tickets_and_calendar() {
    let w = world().await;
    let before = w.free(FREE).await;
    let reference = w.book(FREE, &[3]).await;
    assert_eq!(w.state(reference).await, State::Confirmed);
    assert_eq!(w.free(FREE).await, before - 3);
    // A double click says the same.
    let draft = w.draft(reference).await;
    let again = submit::submit(&w.desk, &Asking::default(), reference, draft).await.unwrap();
    assert_eq!(again, Outcome::Confirmed);
    w.due().await;
    w.due().await;
    let mails = w.mails.taken();
    assert_eq!(mails.len(), 1);
    let mail = mail_parser::MessageParser::default().parse(&mails[0]).unwrap();
    use mail_parser::MimeHeaders;
    let files: Vec<_> = mail.attachments().filter_map(|a| a.attachment_name()).collect();
    let pictures = ["code-0.png", "code-1.png", "code-2.png"];
    assert_eq!(files[..3], pictures, "shown inside it");
    assert_eq!(files[3..], [format!("tickets-{reference}.pdf").as_str()]);
    let ticket = mail.attachments().find(|a| a.attachment_name() == Some(files[3])).unwrap();
    assert!(ticket.contents().starts_with(b"%PDF"));
    let calendar = |p: &&mail_parser::MessagePart<'_>| {
        p.content_type().is_some_and(|t| t.subtype() == Some("calendar"))
    };
    assert!(mail.parts.iter().any(|p| calendar(&p)), "for calendars, among the words");
    let text = text_of(&mail);
    assert!(text.contains(&w.desk.booking_url(reference)) && text.contains("Person 3"), "{text}");
    assert!(mail.body_html(0).unwrap().contains("O&#39;Hara"), "escaped");
}

/// What people read in their mails.
#[tokio::test(flavor = "multi_thread")]
async fn the_words_of_the_mails() {
    let w = world().await;
    let reference = w.book(CANDLES, &[0, 1, 1]).await;
    w.provider.decide(Status::Paid);
    w.hook("msg").await.unwrap();
    w.due().await;
    let ilse = w.staff(0).await;
    cancel::cancel(&w.desk, By::Staff(ilse.clone(), None), reference, Vec::new()).await.unwrap();
    w.due().await;
    let sheet = w.sheet(reference).await;
    let mut said = Vec::new();
    for raw in w.mails.taken() {
        let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
        let mut text = text_of(&mail).replace("\r\n", "\n");
        text = text.replace(&w.desk.booking_url(reference), "URL");
        text = text.replace(&reference.to_string(), "REFERENCE");
        for (i, attendee) in sheet.attendees.iter().enumerate() {
            text = text.replace(&attendee.code.to_string(), &format!("CODE-{i}"));
        }
        said.push(format!("{}\n\n{}", mail.subject().unwrap(), text.trim_end()));
    }
    insta::assert_snapshot!(said.join("\n\n=====\n\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn one_payment_is_booked_once_whatever_tells_of_it() {
    let w = world().await;
    let reference = w.book(CANDLES, &[0, 2, 0]).await;
    assert_eq!(w.state(reference).await, State::AwaitingPayment);
    w.provider.decide(Status::Paid);
    for id in ["msg_a", "msg_a", "msg_b"] {
        w.hook(id).await.unwrap();
    }
    pay::ask(&w.desk, reference).await.unwrap();
    w.pass(5);
    w.due().await;
    let sheet = w.sheet(reference).await;
    assert_eq!((sheet.booking.state, sheet.booking.paid.minor), (State::Confirmed, 2800));
    assert_eq!(w.mails.taken().len(), 1);
    assert_eq!(w.faults().await, Vec::<String>::new());
    let forged = pay::hook(&w.desk, "x".into(), "0", "v1,AAAA", b"{}").await;
    assert!(matches!(forged, Err(DeskError::Unsigned)));
    // Rightly signed, of a kind that a later provider may send: taken and noted, once for all.
    let (time, body) = (
        w.desk.clock.outside().as_second().to_string(),
        br#"{"type":"payout.made","to":"siobhan@post.example"}"#,
    );
    let signature = sign(REHEARSAL_SECRET, "odd", &time, body);
    pay::hook(&w.desk, "odd".into(), &time, &signature, body).await.unwrap();
    let sql = "SELECT note FROM hooks_taken WHERE webhook_id = 'odd'";
    let note = w.desk.store.read(|c| {
        Ok::<_, matricle_store::StoreError>(
            c.query_row(sql, [], |r| r.get::<_, String>(0)).unwrap(),
        )
    });
    // By its type and its length alone: whoever it is about stands nowhere.
    assert_eq!(note.await.unwrap(), format!("payout.made, {} bytes", body.len()));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_webhook_that_never_comes_is_asked_for() {
    let w = world().await;
    let reference = w.book(CANDLES, &[1, 0, 0]).await;
    w.provider.decide(Status::Paid);
    w.due().await;
    assert_eq!(w.state(reference).await, State::AwaitingPayment, "too early to ask");
    w.pass(1);
    w.due().await;
    assert_eq!(w.state(reference).await, State::Confirmed);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_declined_card_can_be_tried_again_with_the_seats_still_kept() {
    let w = world().await;
    let before = w.free(CANDLES).await;
    let reference = w.book(CANDLES, &[1, 0, 0]).await;
    w.provider.decide(Status::Declined);
    pay::ask(&w.desk, reference).await.unwrap();
    assert_eq!(
        (w.state(reference).await, w.free(CANDLES).await),
        (State::AwaitingPayment, before - 1)
    );
    let first = w.provider.payments()[0].pay_url.clone();
    let second = pay::pay_url(&w.desk, reference).await.unwrap();
    assert_ne!(first, second);
    assert_eq!(pay::pay_url(&w.desk, reference).await.unwrap(), second, "one open payment");
    w.provider.decide(Status::Paid);
    w.hook("msg").await.unwrap();
    assert_eq!(w.state(reference).await, State::Confirmed);
}

#[tokio::test(flavor = "multi_thread")]
async fn seats_are_given_back_only_once_no_money_can_come_for_them() {
    let w = world().await;
    let before = w.free(CANDLES).await;
    let (paid, unpaid) = (w.book(CANDLES, &[1, 0, 0]).await, w.book(CANDLES, &[1, 0, 0]).await);
    w.provider.decide(Status::Waiting);
    w.provider.go_away(true);
    w.pass(45);
    w.due().await;
    // Nobody knows whether they were paid, so the seats stay kept.
    assert_eq!(w.state(unpaid).await, State::AwaitingPayment);
    w.provider.go_away(false);
    let first = w.provider.payments()[0].clone();
    let body = serde_json::to_vec(&matricle_desk::outside::provider::ProviderPayment {
        status: Status::Paid,
        ..first
    })
    .unwrap();
    let time = w.desk.clock.outside().as_second().to_string();
    let signature = sign(REHEARSAL_SECRET, "late", &time, &body);
    pay::hook(&w.desk, "late".into(), &time, &signature, &body).await.unwrap();
    w.pass(11);
    w.due().await;
    assert_eq!((w.state(paid).await, w.state(unpaid).await), (State::Confirmed, State::Lapsed));
    assert_eq!(w.provider.payments()[1].status, Status::Withdrawn);
    // The two seeded bookings that were to pay by 18:40 have lapsed meanwhile.
    assert_eq!(w.faults().await, Vec::<String>::new());
    assert!(w.free(CANDLES).await >= before - 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hold_that_ran_out_takes_the_same_seats_again_or_says_who_was_quicker() {
    let w = world().await;
    let slug = "a-hive-inspection";
    let mine = w.keep(slug, &[1]).await.unwrap();
    let refused = w.keep(slug, &[1]).await.unwrap_err();
    assert!(matches!(
        refused,
        DeskError::Choice(ChoiceRefusal::Seats(SeatRefusal::TooFew { free: 0, .. }))
    ));
    let draft = w.draft(mine).await;
    hold::type_on(&w.desk, mine, draft.clone()).await.unwrap();
    w.pass(16);
    // Free again for everybody, even before a timer has run.
    assert_eq!(w.free(slug).await, 1);
    hold::again(&w.desk, mine).await.unwrap();
    assert_eq!(w.free(slug).await, 0);
    w.pass(16);
    w.due().await;
    assert_eq!(w.state(mine).await, State::Lapsed);
    let other = w.keep(slug, &[1]).await.unwrap();
    assert!(matches!(hold::again(&w.desk, mine).await, Err(DeskError::Choice(_))));
    assert!(matches!(
        submit::submit(&w.desk, &Asking::default(), mine, draft.clone()).await,
        Err(DeskError::Choice(_))
    ));
    assert_eq!(w.sheet(mine).await.booking.draft, draft, "nothing typed is lost");
    hold::give_back(&w.desk, other).await.unwrap();
    let outcome = submit::submit(&w.desk, &Asking::default(), mine, draft).await.unwrap();
    assert_eq!(outcome, Outcome::ToPay, "submitting takes the same seats again by itself");
    assert_eq!(w.faults().await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn choosing_again_replaces_the_hold_and_a_refusal_leaves_it_as_it_was() {
    let w = world().await;
    let before = w.free(CANDLES).await;
    let first = w.keep(CANDLES, &[1, 1, 0]).await.unwrap();
    let draft = Draft { name: "Half typ".into(), ..Draft::default() };
    hold::type_on(&w.desk, first, draft).await.unwrap();
    let (date, wanted) = w.choice(CANDLES, &[0, 0, 2]).await;
    let second = hold::keep(&w.desk, date, wanted, HeldBy::default(), Some(first)).await.unwrap();
    assert_eq!((second, w.free(CANDLES).await), (first, before - 4));
    assert_eq!(w.sheet(first).await.booking.draft.name, "Half typ");
    let (date, too_many) = w.choice(CANDLES, &[0, 10, 10]).await;
    assert!(hold::keep(&w.desk, date, too_many, HeldBy::default(), Some(first)).await.is_err());
    assert_eq!((w.state(first).await, w.free(CANDLES).await), (State::Held, before - 4));
}

#[tokio::test(flavor = "multi_thread")]
async fn every_field_in_need_is_told_and_the_draft_is_kept() {
    let w = world().await;
    let reference = w.keep("pollen-under-the-lens", &[2, 0, 0]).await.unwrap();
    let typed = Draft { email: "nobody".into(), ..Draft::default() };
    let Err(DeskError::Details(problems)) =
        submit::submit(&w.desk, &Asking::default(), reference, typed.clone()).await
    else {
        panic!("refused")
    };
    let fields: Vec<_> = problems.iter().map(|(field, _)| *field).collect();
    let soup = w.sheet(reference).await.questions[0].id;
    assert_eq!(
        fields,
        [Field::Name, Field::Email, Field::Attendee(1), Field::Answer(soup), Field::Terms]
    );
    assert_eq!(w.sheet(reference).await.booking.draft, typed);
    assert_ne!(soup, QuestionId(0));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cancelled_booking_frees_its_seats_tells_the_booker_and_is_refused_at_the_door() {
    let w = world().await;
    let before = w.free(CANDLES).await;
    let reference = w.book(CANDLES, &[0, 1, 0]).await;
    w.provider.decide(Status::Paid);
    w.hook("msg").await.unwrap();
    let sheet = w.sheet(reference).await;
    let (ilse, bram) = (w.staff(0).await, w.staff(1).await);
    let refused =
        cancel::cancel(&w.desk, By::Staff(bram.clone(), None), reference, Vec::new()).await;
    assert!(matches!(refused, Err(DeskError::Right(_))), "a door volunteer may not");
    cancel::cancel(&w.desk, By::Staff(ilse.clone(), None), reference, Vec::new()).await.unwrap();
    assert!(matches!(
        cancel::cancel(&w.desk, By::Staff(ilse.clone(), None), reference, Vec::new()).await,
        Err(DeskError::Move(_))
    ));
    assert_eq!(w.free(CANDLES).await, before);
    w.due().await;
    assert_eq!(
        w.subjects(),
        ["Cancelled: Candles from our own wax, Wed 25 November"],
        "no confirmation any more"
    );
    let told =
        w.scan(sheet.date.id, "main door", "key-0001", sheet.attendees[0].code.as_str()).await.told;
    assert_eq!(told.verdict.word(), "cancelled");
    let sheet = w.sheet(reference).await;
    assert_eq!(w.provider.payments().last().unwrap().refunded, 0, "the evening has begun: no step");
    assert_eq!((sheet.booking.total.minor, sheet.booking.paid.minor), (1400, 1400));
    assert_eq!(w.faults().await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn money_for_a_booking_cancelled_meanwhile_is_put_aside_to_be_given_back() {
    let w = world().await;
    let reference = w.book(CANDLES, &[0, 1, 0]).await;
    let ilse = w.staff(0).await;
    w.provider.decide(Status::Paid);
    cancel::cancel(&w.desk, By::Staff(ilse.clone(), None), reference, Vec::new()).await.unwrap();
    w.due().await;
    let id = w.sheet(reference).await.booking.id;
    let states = w.desk.store.read(move |c| payments::of_booking(c, id)).await.unwrap();
    assert_eq!(states[0].state, payments::PaymentState::Surplus);
    assert_eq!(w.state(reference).await, State::Cancelled);
    w.due().await;
    assert_eq!(w.provider.payments().last().unwrap().refunded, 1400, "all of it goes back");
    assert!(w.sheet(reference).await.refunds[0].done_at.is_some());
    assert_eq!(w.faults().await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn money_that_comes_after_a_payment_was_given_up_is_booked_if_the_seats_are_free_else_put_aside()
 {
    let w = world().await;
    let slug = "a-hive-inspection";
    for somebody_was_quicker in [false, true] {
        let reference = w.book(slug, &[1]).await;
        w.provider.decide(Status::Declined);
        pay::ask(&w.desk, reference).await.unwrap();
        w.pass(31);
        w.due().await;
        assert_eq!(w.state(reference).await, State::Lapsed);
        if somebody_was_quicker {
            w.keep(slug, &[1]).await.unwrap();
        }
        // The provider changes its mind.
        let told = w.provider.payments().last().unwrap().clone();
        let told =
            matricle_desk::outside::provider::ProviderPayment { status: Status::Paid, ..told };
        let body = serde_json::to_vec(&told).unwrap();
        let time = w.desk.clock.outside().as_second().to_string();
        for id in ["one", "two"] {
            let id = format!("{id}-{somebody_was_quicker}");
            let signature = sign(REHEARSAL_SECRET, &id, &time, &body);
            pay::hook(&w.desk, id, &time, &signature, &body).await.unwrap();
        }
        let sheet = w.sheet(reference).await;
        let (state, payment) = (sheet.booking.state, sheet.payments.last().unwrap().state);
        if somebody_was_quicker {
            assert_eq!((state, payment), (State::Lapsed, payments::PaymentState::Surplus));
        } else {
            assert_eq!((state, payment), (State::Confirmed, payments::PaymentState::Paid));
            assert_eq!(sheet.attendees[0].name, "Person 1", "whole again");
            let ilse = w.staff(0).await;
            cancel::cancel(&w.desk, By::Staff(ilse.clone(), None), reference, Vec::new())
                .await
                .unwrap();
        }
        assert_eq!(w.faults().await, Vec::<String>::new());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_password_ends_open_sessions_and_a_wrong_one_opens_none() {
    let w = world().await;
    let (name, email, role, password) = demo::STAFF[1];
    let token = signin::sign_in(&w.desk, email.to_uppercase(), password.into(), Browser::default())
        .await
        .unwrap();
    assert_eq!(signin::session(&w.desk, &token).await.unwrap().unwrap().name, name);
    for (email, password) in [(email, "smoker-is-out"), ("nobody@ostrel.example", password)] {
        let refused =
            signin::sign_in(&w.desk, email.into(), password.into(), Browser::default()).await;
        assert!(matches!(refused, Err(DeskError::SignIn)));
    }
    let employ =
        |password: &str| signin::employ(&w.desk, name.into(), email.into(), role, password.into());
    assert!(matches!(employ("short").await, Err(DeskError::ShortPassword { least: 10 })));
    assert!(signin::session(&w.desk, &token).await.unwrap().is_some());
    employ("another-password").await.unwrap();
    assert!(signin::session(&w.desk, &token).await.unwrap().is_none());
    let token =
        signin::sign_in(&w.desk, email.into(), "another-password".into(), Browser::default())
            .await
            .unwrap();
    w.pass(60 * 24 * 15);
    assert!(signin::session(&w.desk, &token).await.unwrap().is_none(), "two weeks and over");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mail_server_that_is_down_delays_mails_and_loses_none() {
    let w = world().await;
    let down = |for_good| Some(SendError { for_good, reason: "out of order".into() });
    w.mails.refuse(down(false));
    let reference = w.book(FREE, &[1]).await;
    for _ in 0..4 {
        w.due().await;
        w.pass(1);
    }
    let ilse = w.staff(0).await;
    assert_eq!(office::today(&w.desk, &ilse).await.unwrap().messages.len(), 2, "with the demo's");
    w.mails.refuse(None);
    w.pass(10);
    w.due().await;
    assert_eq!(w.mails.taken().len(), 1);
    w.mails.refuse(down(true));
    w.book(FREE, &[1]).await;
    w.due().await;
    w.mails.refuse(None);
    w.pass(60 * 24);
    w.due().await;
    let seats = |s: &&String| s.starts_with("Your seats: Is beekeeping");
    assert_eq!(w.subjects().iter().filter(seats).count(), 1, "refused for good is not tried again");
    let id = w.sheet(reference).await.booking.id;
    let messages = w.desk.store.read(move |c| outbox::of_booking(c, id)).await.unwrap();
    assert_eq!((messages[0].state.word(), messages[0].last_error.as_deref()), ("sent", None));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_restart_sends_what_was_planned_and_takes_up_what_was_being_handed_over() {
    let folder = tempfile::tempdir().unwrap();
    let clock = Clock::still("2026-11-25T17:40:00Z".parse().unwrap());
    let first = open(folder.path(), clock.clone());
    demo::seed(&first.desk).await.unwrap();
    first.book(FREE, &[1]).await;
    first.book(FREE, &[2]).await;
    let now = clock.now();
    // Taken to be handed over, then the power goes.
    first
        .desk
        .store
        .write(move |tx| {
            let due: Vec<_> = outbox::due(tx, &[], 1, now)?.into_iter().map(|(id, _)| id).collect();
            outbox::take(tx, &due, now)
        })
        .await
        .unwrap();
    first.desk.store.close();
    drop(first);
    let second = open(folder.path(), clock);
    second.due().await;
    second.due().await;
    let mut ids: Vec<_> = second
        .mails
        .taken()
        .iter()
        .map(|raw| {
            mail_parser::MessageParser::default()
                .parse(raw)
                .unwrap()
                .message_id()
                .unwrap()
                .to_owned()
        })
        .collect();
    ids.dedup();
    assert_eq!(ids.len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn two_doors_scanning_one_code_at_once_admit_once() {
    let w = world().await;
    let reference = w.book(FREE, &[2]).await;
    let sheet = w.sheet(reference).await;
    let code = sheet.attendees[0].code.to_string();
    for round in 0..20 {
        let (left, right) = (format!("left-{round:04}"), format!("right-{round:04}"));
        let (a, b) = tokio::join!(
            w.scan(sheet.date.id, "left door", &left, &code),
            w.scan(sheet.date.id, "right door", &right, &code)
        );
        let verdicts = [a.told.verdict.word(), b.told.verdict.word()];
        assert_eq!(verdicts.iter().filter(|v| **v == "come in").count(), 1, "{verdicts:?}");
        let admitted = if verdicts[0] == "come in" { &a } else { &b };
        let other = if verdicts[0] == "come in" { &b } else { &a };
        let admitted_at = Verdict::AlreadyIn { at: admitted.at, door: admitted.door.clone() };
        assert_eq!(other.told.verdict, admitted_at);
        let others: Vec<&str> = admitted.told.others.iter().map(|o| o.1.as_str()).collect();
        assert_eq!(others, ["Person 2"]);
        let bram = w.staff(1).await;
        door::undo(&w.desk, &bram, sheet.date.id, admitted.scan).await.unwrap();
        let twice = door::undo(&w.desk, &bram, sheet.date.id, admitted.scan).await;
        assert!(matches!(twice, Err(DeskError::NothingToUndo)));
    }
    assert_eq!(w.faults().await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_scan_sent_again_is_told_the_same_and_each_stranger_his_reason() {
    let w = world().await;
    let reference = w.book(FREE, &[1]).await;
    let sheet = w.sheet(reference).await;
    let (code, date) = (sheet.attendees[0].code.to_string(), sheet.date.id);
    let first = w.scan(date, "gate", "same-key-1", &code).await;
    let again = w.scan(date, "gate", "same-key-1", &code).await;
    assert_eq!(first, again);
    assert_eq!(w.scan(date, "gate", "other-key", &code).await.told.verdict.word(), "already in");
    let tonight = w.choice(CANDLES, &[]).await.0;
    let told = w.scan(tonight, "gate", "key-other-date", &code).await.told;
    assert_eq!(told.verdict, Verdict::OtherDate { date });
    let why = Why::Other { title: sheet.event.title, span: sheet.date.span };
    assert_eq!(told.why, why);
    assert_eq!(
        w.scan(date, "gate", "key-misread", &code[..13]).await.told.verdict.word(),
        "misread"
    );
    assert_eq!(
        w.scan(date, "gate", "key-unknown", "4006381333931").await.told.verdict.word(),
        "unknown"
    );
    let bram = w.staff(1).await;
    let names = door::names(&w.desk, &bram, (tonight, "gate"), "THORNE").await.unwrap();
    let to_pay = names.iter().find(|n| n.verdict.word() == "to pay").expect("one has to pay");
    let shown = Shown::Attendee(to_pay.person.facts.attendee);
    let told = door::show(&w.desk, &bram, tonight, Device::at("gate", "key-to-pay"), shown)
        .await
        .unwrap()
        .told;
    assert_eq!(told.verdict, Verdict::ToPay { due: Currency::EUR.of(2800) });
    assert!(matches!(office::today(&w.desk, &bram).await, Err(DeskError::Right(_))));
    assert!(matches!(
        office::bookings(&w.desk, &bram, Default::default(), false).await,
        Err(DeskError::Right(_))
    ));
}

#[derive(Debug, Clone)]
enum Act {
    Keep(u32, u32),
    Submit(usize),
    Decide(bool),
    Hook,
    Cancel(usize),
    GiveBack(usize),
    Again(usize),
    Scan(usize),
    Pass(i64),
    Away(bool),
}

/// Whatever happens in whatever order, the file stays sound and nothing is oversold.
#[test]
fn any_sequence_of_acts_leaves_the_file_sound() {
    let act = prop_oneof![
        4 => (0u32..4, 0u32..3).prop_map(|(a, b)| Act::Keep(a, b)),
        4 => any::<usize>().prop_map(Act::Submit),
        3 => any::<bool>().prop_map(Act::Decide),
        2 => Just(Act::Hook),
        2 => any::<usize>().prop_map(Act::Cancel),
        1 => any::<usize>().prop_map(Act::GiveBack),
        1 => any::<usize>().prop_map(Act::Again),
        2 => any::<usize>().prop_map(Act::Scan),
        2 => (1i64..40).prop_map(Act::Pass),
        1 => any::<bool>().prop_map(Act::Away),
    ];
    let mut runner = TestRunner::new(Config { cases: 12, ..Config::default() });
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    runner
        .run(&prop::collection::vec(act, 1..40), |acts| {
            runtime.block_on(async {
                let w = world().await;
                let ilse = w.staff(0).await;
                let mut made: Vec<Reference> = Vec::new();
                for (i, act) in acts.into_iter().enumerate() {
                    let pick = |n: usize| made.get(n % made.len().max(1)).copied();
                    match act {
                        Act::Keep(a, b) => made.extend(w.keep(CANDLES, &[a, b, 0]).await.ok()),
                        Act::Submit(n) => {
                            if let Some(reference) = pick(n) {
                                let draft = w.draft(reference).await;
                                let _ =
                                    submit::submit(&w.desk, &Asking::default(), reference, draft)
                                        .await;
                                let _ = pay::pay_url(&w.desk, reference).await;
                            }
                        }
                        Act::Decide(paid) => {
                            w.provider.decide(if paid { Status::Paid } else { Status::Declined });
                        }
                        Act::Hook => {
                            if !w.provider.payments().is_empty() {
                                let _ = w.hook(&format!("msg_{}", i % 5)).await;
                            }
                        }
                        Act::Cancel(n) => {
                            if let Some(reference) = pick(n) {
                                let _ = cancel::cancel(
                                    &w.desk,
                                    By::Staff(ilse.clone(), None),
                                    reference,
                                    Vec::new(),
                                )
                                .await;
                            }
                        }
                        Act::GiveBack(n) => {
                            if let Some(reference) = pick(n) {
                                let _ = hold::give_back(&w.desk, reference).await;
                            }
                        }
                        Act::Again(n) => {
                            if let Some(reference) = pick(n) {
                                let _ = hold::again(&w.desk, reference).await;
                            }
                        }
                        Act::Scan(n) => {
                            if let Some(reference) = pick(n) {
                                let sheet = w.sheet(reference).await;
                                let code = sheet.attendees[0].code.to_string();
                                w.scan(sheet.date.id, "gate", &format!("key-{i:05}"), &code).await;
                            }
                        }
                        Act::Pass(minutes) => {
                            w.pass(minutes);
                            w.due().await;
                        }
                        Act::Away(away) => w.provider.go_away(away),
                    }
                    let faults = w.faults().await;
                    prop_assert!(faults.is_empty(), "{faults:?}");
                }
                Ok(())
            })
        })
        .unwrap();
}
