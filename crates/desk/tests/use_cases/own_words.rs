//! A word of one's own in the mails about a change, and a house without a card provider.

use std::sync::Arc;

use matricle_core::booking::State;
use matricle_core::seats::Wanted;
use matricle_desk::DeskError;
use matricle_desk::bookings::cancel::{self, By};
use matricle_desk::bookings::{change, pay, submit};
use matricle_desk::house::first;
use matricle_desk::outside::mailer::{Mailer, SendError, SmtpMailer};
use matricle_desk::outside::provider::{NoProvider, ProviderError, Status};
use matricle_desk::people::asking::Asking;
use matricle_store::refunds;

use crate::world::{CANDLES, FREE, World, world};

/// The mails that went out since some number of them, as text.
fn mails(w: &World, since: usize) -> Vec<String> {
    w.mails.taken()[since..].iter().map(|m| String::from_utf8_lossy(m).into_owned()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_clerk_adds_goes_out_with_that_change_and_with_no_other() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let reference = w.book(FREE, &[1]).await;
    w.due().await;
    let ticket = w.sheet(reference).await.lines[0].ticket;
    let one = || vec![Wanted { ticket, quantity: 1 }];
    let since = w.mails.taken().len();
    let saying = w.desk.saying("  Bring your boots.\r\nThe ford is high.\u{202e}\0  ");
    change::add_tickets(&saying, &ilse, reference, one(), vec!["Kit".into()]).await.unwrap();
    w.due().await;
    let told = mails(&w, since);
    assert_eq!(told.len(), 1);
    assert!(told[0].contains("Bring your boots.") && told[0].contains("The ford is high."));
    assert!(!told[0].contains('\u{202e}'), "what could deceive is dropped");
    // The desk itself says nothing of it the next time.
    let since = w.mails.taken().len();
    change::add_tickets(&w.desk, &ilse, reference, one(), vec!["Mo".into()]).await.unwrap();
    w.due().await;
    let told = mails(&w, since);
    assert!(told.len() == 1 && !told[0].contains("boots"), "{told:?}");
    // However much is typed, a mail stays a mail.
    let since = w.mails.taken().len();
    let long = w.desk.saying(&"word ".repeat(5000));
    change::add_tickets(&long, &ilse, reference, one(), vec!["Ana".into()]).await.unwrap();
    w.due().await;
    let said = mails(&w, since)[0].matches("word ").count();
    assert!(said > 100 && said <= 2 * 2000 / 5, "{said}");
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn without_a_card_provider_nothing_is_asked_of_one_and_money_is_given_back_by_hand() {
    let mut w = world().await;
    // Somebody paid by card while there was one.
    let paid = w.book(CANDLES, &[1]).await;
    w.provider.decide(Status::Paid);
    w.desk.clock.advance(jiff::SignedDuration::from_mins(2));
    w.due().await;
    assert_eq!(w.state(paid).await, State::Confirmed);
    w.desk.provider = Arc::new(NoProvider);
    let (ilse, nia) = (w.staff(0).await, w.staff(2).await);
    // The first steps lead to transfers instead of a try.
    let known = first::try_card(&w.desk, &nia).await.unwrap();
    assert_eq!(known, Err("no card provider is configured".to_owned()));
    // Nobody is sent anywhere to pay, and no webhook is believed.
    let reference = w.keep(CANDLES, &[1]).await.unwrap();
    let draft = w.draft(reference).await;
    let outcome = submit::submit(&w.desk, &Asking::default(), reference, draft).await.unwrap();
    assert_eq!(outcome, submit::Outcome::ToPay);
    let refused = pay::pay_url(&w.desk, reference).await;
    assert!(matches!(refused, Err(DeskError::Provider(ProviderError::None))), "{refused:?}");
    assert!(matches!(w.hook("msg_1").await, Err(DeskError::Unsigned)));
    // What is not paid lapses as ever; what was paid goes back by hand, and is said to.
    cancel::cancel(&w.desk, By::Staff(ilse, Some(100)), paid, Vec::new()).await.unwrap();
    w.desk.clock.advance(jiff::SignedDuration::from_hours(4));
    w.due().await;
    assert_eq!((w.state(reference).await, w.state(paid).await), (State::Lapsed, State::Cancelled));
    let open = w.desk.store.read(refunds::open_ones).await.unwrap();
    let own = open.iter().find(|(_, r, _)| r.replace('-', "") == paid.as_str());
    assert!(own.is_some_and(|(r, ..)| r.by_hand), "{open:?}");
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mail_server_that_does_not_take_mails_is_found_without_sending_any() {
    let w = world().await;
    assert_eq!(w.desk.mailer.check().await, Ok(()));
    let refusal = SendError { for_good: false, reason: "454 later".into() };
    w.mails.refuse(Some(refusal.clone()));
    assert_eq!(w.desk.mailer.check().await, Err(refusal));
    assert_eq!(w.mails.taken().len(), 0);
    // Nobody listens at this port.
    let away = SmtpMailer::new("smtp://127.0.0.1:9", None).unwrap();
    let said = away.check().await.unwrap_err();
    assert!(!said.for_good && !said.reason.is_empty(), "{said:?}");
}
