//! Stamp cards: bought like a ticket, paid with, read at the door; and money taken at the door.

use matricle_core::Currency;
use matricle_core::booking::{Move, State};
use matricle_core::door::Verdict;
use matricle_core::money::ledger::{Account, Method};
use matricle_core::money::stamps::StampRefusal;
use matricle_core::people::acting::Actor;
use matricle_desk::DeskError;
use matricle_desk::bookings::cancel;
use matricle_desk::bookings::cancel::By;
use matricle_desk::bookings::{decide, pay, stamps, whole};
use matricle_desk::door;
use matricle_desk::door::{Device, Why};
use matricle_desk::door::{Outcome, Shown, With};
use matricle_desk::money::cards;
use matricle_store::ledger;

use crate::world::{World, form, text_of, world};

const COURSE: &str = "beginners-course";
const DIPPING: &str = "thursday-dipping";

#[tokio::test(flavor = "multi_thread")]
async fn a_stamp_card_pays_gets_its_stamp_back_and_expires() {
    let w = world().await;
    let petra = w.staff(4).await;
    let all = cards::all(&w.desk, &petra).await.unwrap();
    let (kind, marit) = (all.kinds[0].id.to_string(), &all.cards[0]);
    assert_eq!((marit.card.left, marit.card.value), (10, 7000));
    let sell = |method: &'static str, reason: &'static str| {
        let fields = [
            ("kind", kind.as_str()),
            ("name", "Ros"),
            ("email", "Ros@post.example"),
            ("method", method),
            ("reason", reason),
        ];
        cards::sell(&w.desk, &petra, form(&fields))
    };
    let mute = sell("given", "").await;
    assert!(matches!(mute, Err(DeskError::Form(wrong)) if wrong[0].field == "reason"));
    let present = sell("given", "for the barn roof").await.unwrap();
    let bought = sell("cash", "").await.unwrap();
    assert_eq!(cards::mine(&w.desk, "ros@post.example".into()).await.unwrap().len(), 2);
    w.sound().await;
    // Three seats of €8.00 with stamps that cost €7.00 each: the event bears the difference.
    let reference = w.book("thursday-dipping", &[3]).await;
    assert_eq!(w.sheet(reference).await.stamps, (3, 2400));
    let why = |refused: Result<(), DeskError>| match refused {
        Err(DeskError::Stamps(refusal)) => refusal,
        other => panic!("{other:?}"),
    };
    let stranger = stamps::pay(&w.desk, reference, "BCDF GHJK LNPR".into()).await;
    assert_eq!(why(stranger), StampRefusal::Unknown);
    stamps::pay(&w.desk, reference, bought.to_lowercase()).await.unwrap();
    let sheet = w.sheet(reference).await;
    assert_eq!((sheet.booking.state, sheet.booking.due().minor), (State::Confirmed, 0));
    w.due().await;
    w.sound().await;
    let left = || async {
        let mine = cards::mine(&w.desk, "ros@post.example".into()).await.unwrap();
        mine.iter().map(|c| (c.card.left, c.card.value)).collect::<Vec<_>>()
    };
    assert_eq!(left().await, [(7, 4900), (10, 0)]);
    // One of the three cannot come, in time: a stamp goes back onto the card.
    let by = By::Staff(w.staff(0).await, Some(100));
    cancel::cancel(&w.desk, by, reference, vec![2]).await.unwrap();
    w.due().await;
    assert_eq!(left().await, [(8, 5600), (10, 0)]);
    w.sound().await;
    // Eleven are more than the present holds; a booking without stamps takes none.
    let course = w.book(COURSE, &[1]).await;
    assert_eq!(why(stamps::pay(&w.desk, course, present).await), StampRefusal::NotForThis);
    let off = form(&[("take_stamps", "2"), ("take_reason", "a slip")]);
    let id = cards::mine(&w.desk, "ros@post.example".into()).await.unwrap()[0].id;
    cards::take(&w.desk, &petra, id, off).await.unwrap();
    assert_eq!(left().await[0], (6, 4200));
    w.pass(60 * 24 * 366);
    w.due().await;
    assert_eq!(left().await, [(0, 0), (0, 0)]);
    assert_eq!(
        w.desk.store.read(ledger::balances).await.unwrap().get(&Account::StampsOwed),
        Some(&0)
    );
    w.sound().await;
}

impl World {
    async fn owed(&self, account: Account) -> i64 {
        let balances = self.desk.store.read(ledger::balances).await.unwrap();
        balances.get(&account).copied().unwrap_or_default()
    }

    /// A door volunteer takes what somebody of a booking is to pay.
    async fn take(&self, shown: &Outcome, due: i64, with: With) -> Result<Outcome, DeskError> {
        let volunteer = self.staff(1).await;
        let date = self.choice(DIPPING, &[1]).await.0;
        let key = format!("device-{}-{due}", shown.scan);
        let attendee = shown.pay.as_ref().unwrap().attendee;
        let at = (date, Device::at("barn", &key));
        door::pay(&self.desk, &volunteer, at, attendee, due, with).await
    }
}

/// A card is bought on the same form as a seat, made once it is paid, and stays good when the
/// seat beside it is cancelled.
#[tokio::test(flavor = "multi_thread")]
async fn a_stamp_card_is_bought_like_a_ticket_and_stays_bought() {
    let w = world().await;
    let owed = w.owed(Account::StampsOwed).await;
    let reference = w.book(DIPPING, &[1, 2]).await;
    let sheet = w.sheet(reference).await;
    assert_eq!((sheet.attendees.len(), sheet.booking.total.minor), (1, 800 + 2 * 7000));
    assert!(sheet.cards.is_empty(), "nothing is made before it is paid");
    assert_eq!(sheet.stamps, (1, 800), "a card is not paid with stamps");
    w.provider.decide(matricle_desk::outside::provider::Status::Paid);
    // Told twice, it is booked once.
    w.hook("first").await.unwrap();
    w.hook("second").await.unwrap();
    pay::ask(&w.desk, reference).await.unwrap();
    let sheet = w.sheet(reference).await;
    let held: Vec<_> = sheet.cards.iter().map(|c| (c.card.left, c.card.value)).collect();
    assert_eq!((sheet.booking.state, held), (State::Confirmed, vec![(10, 7000), (10, 7000)]));
    assert_eq!(w.owed(Account::StampsOwed).await, owed - 14_000, "a debt, and no income");
    w.due().await;
    let mail = String::from_utf8_lossy(w.mails.taken().last().unwrap()).into_owned();
    let parsed = mail_parser::MessageParser::default().parse(mail.as_bytes()).unwrap();
    let text = text_of(&parsed);
    for card in &sheet.cards {
        let letters = matricle_core::money::transfer::grouped(&card.code);
        assert!(text.contains(&letters), "{letters} in {text}");
    }
    assert_eq!(cards::mine(&w.desk, "SIAN@post.example".into()).await.unwrap().len(), 2);
    w.sound().await;
    let free = w.free(DIPPING).await;
    let done = cancel::cancel(&w.desk, By::Booker, reference, Vec::new()).await.unwrap();
    assert_eq!((done.back.minor, done.kept.minor), (400, 14_400), "half of the seat, by the steps");
    assert_eq!(w.free(DIPPING).await, free + 1);
    w.due().await;
    assert_eq!(w.sheet(reference).await.cards, sheet.cards);
    w.sound().await;
    // Brought back, it has the cards it had.
    decide::bring_back(&w.desk, &w.staff(0).await, reference).await.unwrap();
    assert_eq!(w.sheet(reference).await.cards, sheet.cards);
    // A card alone takes no seat, lets nobody in, and is refused nothing for that.
    let alone = w.paid(DIPPING, &[0, 1]).await;
    let sheet = w.sheet(alone).await;
    assert_eq!((sheet.attendees.len(), sheet.cards.len()), (0, 1));
    w.due().await;
    let seats = |s: &&String| s.starts_with("Your seats: Thursday dipping");
    assert_eq!(w.subjects().iter().filter(seats).count(), 2, "{:?}", w.subjects());
    // Lapsed before it was paid, there is no card.
    let never = w.book(DIPPING, &[0, 1]).await;
    w.pass(60);
    w.due().await;
    assert_eq!(w.state(never).await, State::Lapsed);
    assert!(w.sheet(never).await.cards.is_empty());
    let places = cards::sold_at(&w.desk).await.unwrap();
    assert_eq!((places.len(), places[0].slug.as_str(), places[0].minor), (1, DIPPING, 7000));
    w.sound().await;
}

/// Who comes unpaid pays at the door, in cash, by card, or with a stamp; each once, and never
/// another amount than the volunteer saw.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_to_pay_is_taken_at_the_door() {
    let w = world().await;
    let date = w.choice(DIPPING, &[1]).await.0;
    let bought = w.paid(DIPPING, &[0, 1]).await;
    let card = w.sheet(bought).await.cards[0].clone();
    let shown = w.scan(date, "barn", "card-1", &card.code.to_lowercase()).await;
    assert_eq!(shown.told.verdict, Verdict::StampCard { left: 10 });
    assert_eq!((shown.told.name.as_str(), shown.pay.is_none()), ("Siân O'Hara", true));

    let reference = w.book(DIPPING, &[2]).await;
    let sheet = w.sheet(reference).await;
    let ticket = |n: usize| sheet.attendees[n].code.to_string();
    let unpaid = w.scan(date, "barn", "first-1", &ticket(0)).await;
    assert_eq!(unpaid.told.verdict, Verdict::ToPay { due: Currency::EUR.of(1600) });
    let pay = unpaid.pay.clone().unwrap();
    assert_eq!(
        (pay.due.minor, pay.stamps, pay.cards.clone()),
        (1600, 2, vec![(card.code.clone(), 10)])
    );
    // Another amount than was seen: nothing is taken, the fresh verdict says what is due.
    let other = w.take(&unpaid, 800, With::Cash).await.unwrap();
    assert_eq!(other.told.verdict.word(), "to pay");
    assert_eq!(w.sheet(reference).await.booking.paid.minor, 0);
    let wrong = w.take(&unpaid, 1600, With::Stamps("BCDF GHJK LNPR".into())).await;
    assert!(matches!(wrong, Err(DeskError::Stamps(StampRefusal::Unknown))));
    let cash = w.owed(Account::Cash).await;
    let done = w.take(&unpaid, 1600, With::Cash).await.unwrap();
    let again = w.take(&unpaid, 1600, With::Cash).await.unwrap();
    assert_eq!((done.told.verdict.word(), again.scan), ("come in", done.scan), "a double click");
    assert_eq!(w.owed(Account::Cash).await, cash + 1600);
    let paid = w.sheet(reference).await;
    assert_eq!(
        (paid.booking.state, paid.payments.last().unwrap().method),
        (State::Confirmed, Method::Cash)
    );
    assert_eq!(w.scan(date, "barn", "second-1", &ticket(1)).await.told.verdict.word(), "come in");

    // The next one has the card with them, or only its letters in mind.
    let by = By::Staff(w.staff(0).await, Some(100));
    for with in [None, Some(With::CardHere)] {
        let next = w.book(DIPPING, &[1]).await;
        let code = w.sheet(next).await.attendees[0].code.to_string();
        let unpaid = w.scan(date, "barn", &format!("later-{}", with.is_some()), &code).await;
        let pay = unpaid.pay.clone().unwrap();
        let with = with.unwrap_or_else(|| With::Stamps(pay.cards[0].0.clone()));
        let done = w.take(&unpaid, pay.due.minor, with).await.unwrap();
        assert_eq!(done.told.verdict.word(), "come in");
        // Their seats go to the next.
        w.scanned_back(date).await;
        let _ = cancel::cancel(&w.desk, by.clone(), reference, Vec::new()).await;
    }
    let left = cards::mine(&w.desk, "sian@post.example".into()).await.unwrap()[0].card.left;
    assert_eq!(left, 9);
    w.due().await;
    w.sound().await;
    // Somebody whose booking is not decided on cannot pay their way in.
    let asking = w.keep(DIPPING, &[1]).await.unwrap();
    let ask = move |tx: &matricle_store::Tx<'_>| {
        let booking = matricle_store::bookings::by_reference(tx, asking)?.unwrap();
        let to =
            matricle_core::booking::allowed(booking.state, Move::Ask, Actor::Booker).unwrap().to;
        matricle_store::bookings::set_state(tx, &booking, to, None, booking.made_at)
    };
    w.desk.store.write(ask).await.unwrap();
    let code = whole::of(&w.desk, asking).await.unwrap().attendees[0].code.to_string();
    let undecided = w.scan(date, "barn", "undecided", &code).await;
    let to_pay = Verdict::ToPay { due: Currency::EUR.of(800) };
    assert_eq!((undecided.told.verdict, undecided.told.why), (to_pay, Why::NoYesYet));
    assert_eq!(undecided.pay, None);
    // A role that may not stand at the door takes nothing there.
    let treasurer = w.staff(4).await;
    let shown = Shown::Attendee(pay.attendee);
    let refused = door::show(&w.desk, &treasurer, date, Device::at("d", "treasurer"), shown).await;
    assert!(matches!(refused, Err(DeskError::Right(_))));
    let at = (date, Device::at("barn", "treasurer"));
    let refused = door::pay(&w.desk, &treasurer, at, pay.attendee, 800, With::Cash).await;
    assert!(matches!(refused, Err(DeskError::Right(_))));
}
