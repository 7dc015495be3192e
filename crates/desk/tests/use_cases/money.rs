//! Money and what moves it: cancelling by the steps, transfers, codes, waiting lists, disputes,
//! documents; and that any run of such acts leaves seats and books right.

use matricle_core::messages::occasion::Occasion;
use std::io::Read as _;

use jiff::SignedDuration;
use matricle_core::booking::State;
use matricle_core::booking::acts;
use matricle_core::door::Verdict;
use matricle_core::forms::form::Fault;
use matricle_core::money::documents::Kind;
use matricle_core::money::price::Buyer;
use matricle_core::money::promo::PromoRefusal;
use matricle_core::money::transfer::{creditor_reference, grouped, read_creditor_reference};
use matricle_core::people::acting::Actor;
use matricle_core::seats::Wanted;
use matricle_core::seats::waiting::{Manner, Stands};
use matricle_core::words::codes::Reference;
use matricle_core::{DateId, TicketTypeId};
use matricle_desk::bookings::cancel;
use matricle_desk::bookings::cancel::By;
use matricle_desk::bookings::hold;
use matricle_desk::bookings::phone::ByPhone;
use matricle_desk::bookings::submit::Outcome;
use matricle_desk::bookings::whole::WholeBooking;
use matricle_desk::bookings::{bills, codes, decide, undo, waiting};
use matricle_desk::bookings::{change, move_date, pass_on, phone, taking};
use matricle_desk::bookings::{pay, submit};
use matricle_desk::door::Why;
use matricle_desk::money::{books, refunds};
use matricle_desk::outside::provider::{Dispute, Status};
use matricle_desk::people::asking::Asking;
use matricle_desk::planning::dates::{self, Scope};
use matricle_desk::{DeskError, programme};
use matricle_store::bookings::HeldBy;
use matricle_store::{events, ledger, outbox};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};

use crate::world::{BOOKER, CANDLES, FREE, World, form, look, world};

const WALK: &str = "apiary-open-day";
const COURSE: &str = "beginners-course";
/// Somebody on the telephone, and what the open day asks.
const NOOR: [(&str, &str); 2] = [("name", "Noor Haddad"), ("answer_4", "no")];
const QUEENS: &str = "rearing-queens";

impl World {
    async fn set_rules(&self, slug: &'static str, steps: Option<Vec<(u32, u32)>>, waiting: Manner) {
        let now = self.desk.clock.now();
        let change = move |tx: &matricle_store::Tx<'_>| {
            let mut event = events::by_slug(tx, slug)?.unwrap();
            event.rules.steps = steps;
            event.rules.waiting = waiting;
            events::set(tx, &event, now)
        };
        self.desk.store.write(change).await.unwrap();
    }

    async fn rename_ticket(&self, ticket: TicketTypeId, name: String) {
        let rename = move |tx: &matricle_store::Tx<'_>| {
            tx.execute("UPDATE ticket_types SET name = ?2 WHERE id = ?1", (ticket.0, name))
                .unwrap();
            Ok::<_, DeskError>(())
        };
        self.desk.store.write(rename).await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_part_is_cancelled_by_the_steps_and_the_money_goes_back_the_way_it_came() {
    let w = world().await;
    w.set_rules(WALK, Some(vec![(1, 50)]), Manner::Off).await;
    let free = w.free(WALK).await;
    let reference = w.paid(WALK, &[2, 0, 0, 0]).await;
    let before = w.sheet(reference).await;
    let each = before.booking.total.minor / 2;
    assert_eq!(before.documents[0].kind, Kind::Receipt);
    let plan = cancel::preview(&w.desk, By::Booker, reference, vec![1]).await.unwrap();
    assert_eq!((plan.whole, plan.percent, plan.back.minor), (false, 50, each / 2));
    let done = cancel::cancel(&w.desk, By::Booker, reference, vec![1]).await.unwrap();
    assert_eq!(done, plan, "what was shown is what was done");
    w.due().await;
    assert_eq!(w.provider.payments().last().unwrap().refunded, each / 2);
    let after = w.sheet(reference).await;
    assert_eq!((after.booking.state, after.booking.due().minor), (State::Confirmed, 0));
    assert_eq!(after.booking.total.minor, each + each / 2);
    assert_eq!(w.free(WALK).await, free - 1);
    let kinds: Vec<Kind> = after.documents.iter().map(|d| d.kind).collect();
    assert_eq!(kinds, [Kind::Receipt, Kind::CreditNote]);
    assert_eq!(after.documents[1].body.corrects, after.documents[0].name());
    // The dead ticket is refused at the door, the other is not.
    let gone = after.attendees.iter().find(|a| a.cancelled).unwrap();
    let told = w.scan(after.date.id, "gate", "key-gone", gone.code.as_str()).await.told;
    assert_eq!(told.verdict.word(), "cancelled");
    let stays = after.attendees.iter().find(|a| !a.cancelled).unwrap();
    let told = w.scan(after.date.id, "gate", "key-stays", stays.code.as_str()).await.told;
    assert_eq!(told.verdict.word(), "come in");
    w.sound().await;
    // The rest as well, once nobody is inside with it; another refund of the same payment.
    let ilse = || async { By::Staff(w.staff(0).await, Some(100)) };
    let inside = cancel::cancel(&w.desk, ilse().await, reference, Vec::new()).await;
    assert!(matches!(inside, Err(DeskError::Inside { .. })));
    w.scanned_back(after.date.id).await;
    cancel::cancel(&w.desk, ilse().await, reference, Vec::new()).await.unwrap();
    w.due().await;
    // What was kept of the first by the steps is the house's.
    assert_eq!(w.provider.payments().last().unwrap().refunded, each / 2 + each);
    assert_eq!(w.sheet(reference).await.booking.total.minor, each - each / 2);
    w.sound().await;
}

/// Half comes back: at once, or one ticket after the other with the rest at the end, or by the
/// Office in between, or undone and done again: it is the same in all.
#[tokio::test(flavor = "multi_thread")]
async fn a_booking_taken_apart_gives_back_what_it_gives_at_once() {
    let w = world().await;
    w.set_rules(WALK, Some(vec![(1, 50)]), Manner::Off).await;
    let booked = async || {
        let reference = w.paid(WALK, &[4, 0, 0, 0]).await;
        let sheet = w.sheet(reference).await;
        let numbers: Vec<u32> = sheet.attendees.iter().map(|a| a.ticket_no).collect();
        (reference, numbers, sheet.booking.total.minor)
    };
    let by_office = || async { By::Staff(w.staff(0).await, None) };
    let cancel = async |by: By, reference, numbers: Vec<u32>| {
        let plan = cancel::preview(&w.desk, by.clone(), reference, numbers.clone()).await.unwrap();
        let done = cancel::cancel(&w.desk, by, reference, numbers).await.unwrap();
        assert_eq!(plan, done, "what was shown is what was done");
        done.back.minor
    };
    let (reference, _, total) = booked().await;
    let at_once = cancel(By::Booker, reference, Vec::new()).await;
    assert_eq!(at_once, total / 2);
    // Three singly, then the rest as a whole; by turns booker and Office.
    let (reference, numbers, _) = booked().await;
    let mut back = 0;
    for (n, number) in numbers[..3].iter().enumerate() {
        let by = if n % 2 == 0 { By::Booker } else { by_office().await };
        back += cancel(by, reference, vec![*number]).await;
    }
    back += cancel(By::Booker, reference, Vec::new()).await;
    assert_eq!(back, at_once, "never more");
    // Two together, one by one the others: the last one by its number.
    let (reference, numbers, _) = booked().await;
    let mut back = cancel(by_office().await, reference, numbers[1..3].to_vec()).await;
    back += cancel(By::Booker, reference, vec![numbers[0]]).await;
    back += cancel(By::Booker, reference, vec![numbers[3]]).await;
    assert_eq!(back, at_once);
    // Another price for what stands changes nothing of what was kept.
    let (reference, numbers, _) = booked().await;
    let kept = cancel(By::Booker, reference, vec![numbers[0]]).await;
    let ticket = w.sheet(reference).await.lines[0].ticket.to_string();
    let fields = [("price", "0"), ("ticket", ticket.as_str()), ("reason", "free after all")];
    change::set_price(&w.desk, &w.staff(0).await, reference, form(&fields)).await.unwrap();
    assert_eq!(w.sheet(reference).await.booking.total.minor, kept, "and no more");
    w.due().await;
    w.sound().await;
}

/// An amount goes back by itself: of a booking that stands, and of what a cancellation kept; to
/// the cent, never more, with its paper and its mail, and the tickets stay.
#[tokio::test(flavor = "multi_thread")]
async fn an_amount_is_given_back_by_itself() {
    let w = world().await;
    w.set_rules(WALK, Some(vec![(1, 50)]), Manner::Off).await;
    let petra = w.staff(4).await;
    let reference = w.paid(WALK, &[2, 0, 0, 0]).await;
    let total = w.sheet(reference).await.booking.total;
    let give = async |minor: i64, why: &str| {
        let amount = total.currency.of(minor).figures();
        let fields = [("back", amount.as_str()), ("back_reason", why)];
        taking::give_back(&w.desk, &petra, reference, form(&fields)).await
    };
    for (minor, why, field) in
        [(total.minor + 1, "cold hall", "back"), (0, "cold hall", "back"), (100, "", "back_reason")]
    {
        let refused = give(minor, why).await;
        assert!(matches!(refused, Err(DeskError::Form(wrong)) if wrong[0].field == field));
    }
    give(301, "the hall was cold").await.unwrap();
    w.due().await;
    let sheet = w.sheet(reference).await;
    assert_eq!(
        (sheet.booking.total.minor, sheet.booking.paid.minor),
        (total.minor - 301, total.minor - 301)
    );
    assert_eq!(
        (sheet.refunds[0].minor, sheet.refunds[0].reason.as_str()),
        (301, "the hall was cold")
    );
    assert_eq!(sheet.attendees.iter().filter(|a| !a.cancelled).count(), 2);
    assert_eq!(sheet.documents.last().unwrap().body.total(), -301);
    w.sound().await;
    // Half of what is left stays with the house; that goes back too, in the end.
    cancel::cancel(&w.desk, By::Booker, reference, Vec::new()).await.unwrap();
    let kept = w.sheet(reference).await.booking.total.minor;
    give(kept + 1, "kind").await.unwrap_err();
    give(kept, "kind").await.unwrap();
    assert!(matches!(give(1, "more").await, Err(DeskError::Move(_))), "nothing is left");
    w.due().await;
    let sheet = w.sheet(reference).await;
    assert_eq!((sheet.booking.paid.minor, sheet.booking.total.minor), (0, 0));
    assert_eq!(sheet.refunds.iter().map(|r| r.minor).sum::<i64>(), total.minor);
    w.sound().await;
}

/// A page shows an act where the use case lets it pass, and nowhere else.
#[tokio::test(flavor = "multi_thread")]
async fn who_is_inside_holds_back_the_whole_and_their_own_ticket_not_the_others() {
    let w = world().await;
    let reference = w.paid(WALK, &[3, 0, 0, 0]).await;
    let sheet = w.sheet(reference).await;
    let (inside, code) = (sheet.attendees[1].ticket_no, &sheet.attendees[1].code);
    w.scan(sheet.date.id, "gate", "key-first", code.as_str()).await;
    let sheet = w.sheet(reference).await;
    let now = w.desk.clock.now();
    for tickets in [vec![], vec![0], vec![1], vec![2]] {
        let goes = !tickets.is_empty() && tickets != [inside];
        let shown = match tickets[..] {
            [one] => sheet.may_cancel_ticket(one, Actor::Clerk, now),
            _ => sheet.may(acts::Act::Cancel, Actor::Clerk, now),
        };
        let by = By::Staff(w.staff(0).await, None);
        let plan = cancel::preview(&w.desk, by, reference, tickets.clone()).await;
        assert_eq!((shown, plan.is_ok()), (goes, goes), "{tickets:?}");
    }
    assert!(!sheet.may_cancel_ticket(3, Actor::Clerk, now), "no such ticket");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_ticket_passed_on_opens_the_door_for_its_new_holder_only() {
    let w = world().await;
    let reference = w.paid(WALK, &[1, 0, 0, 0]).await;
    let old = w.sheet(reference).await.attendees[0].clone();
    let bad = form(&[("new_name", ""), ("new_email", "ros at post")]);
    let refused = pass_on::pass_on(&w.desk, By::Booker, reference, old.id, bad).await;
    assert!(matches!(refused, Err(DeskError::Form(wrong)) if wrong.len() == 2));
    let good = || form(&[("new_name", "Ros O'Hara"), ("new_email", "ros@post.example")]);
    pass_on::pass_on(&w.desk, By::Booker, reference, old.id, good()).await.unwrap();
    w.due().await;
    let sheet = w.sheet(reference).await;
    let new = &sheet.attendees[0];
    assert!(new.name == "Ros O'Hara" && new.code != old.code);
    let told = w.scan(sheet.date.id, "gate", "key-old1", old.code.as_str()).await.told;
    assert_eq!((told.verdict, told.why), (Verdict::Cancelled, Why::PassedOn));
    let told = w.scan(sheet.date.id, "gate", "key-new1", new.code.as_str()).await.told;
    assert_eq!(told.verdict.word(), "come in");
    let at = w.subjects().iter().position(|s| s.starts_with("A ticket for you")).unwrap();
    let raw = w.mails.taken().swap_remove(at);
    let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
    assert_eq!(mail.to().unwrap().first().unwrap().address(), Some("ros@post.example"));
    let inside = pass_on::pass_on(&w.desk, By::Booker, reference, old.id, good()).await;
    assert!(matches!(inside, Err(DeskError::NotByBooker)), "they are in already");
}

#[tokio::test(flavor = "multi_thread")]
async fn several_payments_are_open_and_what_comes_twice_goes_back() {
    let w = world().await;
    let reference = w.book(WALK, &[1, 0, 0, 0]).await;
    let first = pay::pay_url(&w.desk, reference).await.unwrap();
    assert_eq!(pay::pay_url(&w.desk, reference).await.unwrap(), first, "two tabs, one payment");
    let price = w.sheet(reference).await.booking.due().minor;
    // A clerk adds a ticket while the payer looks at the first amount.
    let ilse = w.staff(0).await;
    let ticket = w.sheet(reference).await.lines[0].ticket;
    let wanted = vec![Wanted { ticket, quantity: 1 }];
    change::add_tickets(&w.desk, &ilse, reference, wanted, Vec::new()).await.unwrap();
    let second = pay::pay_url(&w.desk, reference).await.unwrap();
    assert_ne!(first, second, "the first is for what was owed before");
    let due = w.sheet(reference).await.booking.due().minor;
    assert_eq!(due, 2 * price);
    // The payer pays the new one, and the old one before it could be called back.
    w.provider.decide_all(Status::Paid);
    pay::ask(&w.desk, reference).await.unwrap();
    w.due().await;
    let sheet = w.sheet(reference).await;
    assert_eq!((sheet.booking.state, sheet.booking.due().minor), (State::Confirmed, 0));
    let back: i64 = sheet.refunds.iter().map(|r| r.minor).sum();
    assert_eq!((back, sheet.booking.paid.minor), (price, due));
    assert!(sheet.refunds.iter().all(|r| r.done_at.is_some()), "by card by themselves");
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_brought_back_and_paid_again_is_confirmed_by_mail_again() {
    let w = world().await;
    let reference = w.paid(WALK, &[1, 0, 0, 0]).await;
    w.due().await;
    let ilse = w.staff(0).await;
    let whole = By::Staff(ilse.clone(), Some(100));
    cancel::cancel(&w.desk, whole, reference, Vec::new()).await.unwrap();
    w.due().await;
    decide::bring_back(&w.desk, &ilse, reference).await.unwrap();
    assert_eq!(w.state(reference).await, State::AwaitingPayment);
    pay::pay_url(&w.desk, reference).await.unwrap();
    w.provider.decide(Status::Paid);
    pay::ask(&w.desk, reference).await.unwrap();
    w.due().await;
    assert_eq!(w.state(reference).await, State::Confirmed);
    let seats = |raw: &Vec<u8>| String::from_utf8_lossy(raw).contains("Subject: Your seats: ");
    assert_eq!(w.mails.taken().iter().filter(|raw| seats(raw)).count(), 2);
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn transfers_are_booked_in_part_too_much_and_for_several_at_once() {
    let w = world().await;
    let petra = w.staff(4).await;
    let (one, two) = (w.book(COURSE, &[1]).await, w.book(COURSE, &[1]).await);
    for reference in [one, two] {
        pay::by_transfer(&w.desk, &Asking::default(), reference).await.unwrap();
        pay::by_transfer(&w.desk, &Asking::default(), reference).await.unwrap();
    }
    let sheet = w.sheet(one).await;
    assert_eq!((sheet.documents.len(), sheet.documents[0].kind), (1, Kind::Invoice));
    let due = sheet.booking.due().minor;
    assert!(sheet.booking.deadline.unwrap() > w.desk.clock.now() + SignedDuration::from_hours(48));
    let owed = books::overview(&w.desk, &petra).await.unwrap().owing;
    assert!(owed.iter().any(|o| o.reference == one.as_str() && o.due == due && o.invoiced));
    // A part first: the seats stay kept.
    let pay = |amount: i64, references: &str| {
        let amount = matricle_core::Currency::EUR.of(amount).figures();
        form(&[("amount", &amount), ("references", references)])
    };
    taking::take_transfer(&w.desk, &petra, pay(5000, &grouped(&creditor_reference(one))))
        .await
        .unwrap();
    assert_eq!(w.state(one).await, State::AwaitingPayment);
    assert_eq!(w.sheet(one).await.booking.due().minor, due - 5000);
    // One transfer for both, with a slip, then right, and €3.00 too much.
    let slip = format!("{one}\nRF00 NNNN");
    let refused = taking::take_transfer(&w.desk, &petra, pay(1, &slip)).await;
    let Err(DeskError::Form(wrong)) = refused else { panic!("a slip is noticed") };
    assert_eq!((wrong[0].field.as_str(), &wrong[0].fault), ("references", &Fault::Unknown));
    let both = format!("{one}, {}", creditor_reference(two));
    taking::take_transfer(&w.desk, &petra, pay(2 * due - 5000 + 300, &both)).await.unwrap();
    assert_eq!((w.state(one).await, w.state(two).await), (State::Confirmed, State::Confirmed));
    // A receipt follows the invoice that was paid, once, and changes nothing that is owed.
    let papers = w.sheet(one).await.documents;
    let kinds: Vec<Kind> = papers.iter().map(|d| d.kind).collect();
    assert_eq!(kinds, [Kind::Invoice, Kind::Receipt]);
    assert_eq!(w.sheet(one).await.booking.due().minor, 0);
    let back = w.sheet(two).await.refunds;
    assert_eq!((back.len(), back[0].minor, back[0].by_hand), (1, 300, true));
    refunds::given(&w.desk, &petra, back[0].id.clone()).await.unwrap();
    refunds::given(&w.desk, &petra, back[0].id.clone()).await.unwrap();
    assert!(w.sheet(two).await.refunds[0].done_at.is_some());
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn codes_take_off_what_they_say_and_misuse_is_named() {
    let w = world().await;
    let reference = w.keep(COURSE, &[2]).await.unwrap();
    let full = w.sheet(reference).await.booking.total.minor;
    let give = |code: &str| codes::give(&w.desk, reference, code.to_owned());
    let why = |refused: Result<(), DeskError>| match refused {
        Err(DeskError::Promo { refusal, .. }) => refusal,
        other => panic!("{other:?}"),
    };
    assert_eq!(why(give("Clover 11").await), PromoRefusal::Unknown);
    give(" CLÓVER10 ").await.unwrap();
    assert_eq!(why(give("Clover 10").await), PromoRefusal::Given);
    let ten = w.sheet(reference).await;
    assert_eq!(ten.booking.total.minor, full - full / 10);
    give("first swarm").await.unwrap();
    assert_eq!(w.sheet(reference).await.booking.total.minor, full - full / 10 - 500);
    // The time runs out and the seats are taken again: with the codes, at the same price.
    w.pass(16);
    let draft = w.draft(reference).await;
    assert_eq!(
        submit::submit(&w.desk, &Asking::default(), reference, draft).await.unwrap(),
        Outcome::ToPay
    );
    pay::pay_url(&w.desk, reference).await.unwrap();
    w.provider.decide(Status::Paid);
    pay::ask(&w.desk, reference).await.unwrap();
    assert_eq!(w.provider.payments().last().unwrap().amount, full - full / 10 - 500);
    // Once a person: known by their box, whatever its dots, when the form is complete.
    let again = w.keep(COURSE, &[1]).await.unwrap();
    codes::give(&w.desk, again, "First swarm".into()).await.unwrap();
    let draft = w.draft(again).await;
    let refused = submit::submit(&w.desk, &Asking::default(), again, draft).await.map(drop);
    assert_eq!(why(refused), PromoRefusal::Again);
    let swarm = w.sheet(again).await.promos[0].id;
    codes::drop(&w.desk, again, swarm).await.unwrap();
    let draft = w.draft(again).await;
    submit::submit(&w.desk, &Asking::default(), again, draft).await.unwrap();
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn freed_seats_go_down_the_list_and_offers_pass_on_by_themselves() {
    let w = world().await;
    w.set_rules(QUEENS, None, Manner::OfferFirst).await;
    let page = programme::event(&w.desk, look(QUEENS)).await.unwrap();
    let (date, ticket) = (page.dates[0].date.id, page.dates[0].tickets[0].id);
    let ilse = w.staff(0).await;
    let early = waiting::list(&w.desk, &ilse, date).await.unwrap().len();
    assert_eq!(early, 2, "Hedda wants two seats, Joss one");
    let nobody = Asking::default();
    let join = |name: &str, quantity| {
        let email = format!("{}@post.example", name.to_lowercase());
        let fields = form(&[("name", name), ("email", &email)]);
        let wanted = vec![Wanted { ticket, quantity }];
        waiting::join(&w.desk, date, wanted, &nobody, fields)
    };
    let greta = join("Greta", 1).await.unwrap().id;
    assert_eq!(join("Greta", 1).await.unwrap().id, greta, "twice is once");
    assert_eq!(waiting::place(&w.desk, greta).await.unwrap().place, 3);
    let never = join("Crowd", 400).await;
    assert!(matches!(never, Err(DeskError::Choice(_))), "a party that could never fit");
    // One seat comes free: Hedda's party of two is passed over, and told.
    let booked =
        w.desk.store.read(move |c| matricle_store::bookings::live_on(c, date)).await.unwrap();
    let single = booked.iter().find(|b| b.state == State::Confirmed).unwrap();
    let people = w.sheet(single.reference).await.attendees.len();
    let by = || By::Staff(ilse.clone(), None);
    let only: Vec<u32> = if people > 1 { vec![0] } else { Vec::new() };
    cancel::cancel(&w.desk, by(), single.reference, only).await.unwrap();
    let list = waiting::list(&w.desk, &ilse, date).await.unwrap();
    assert_eq!((list[0].waiter.stands, list[0].waiter.passed_over), (Stands::Waiting, 1));
    assert_eq!(list[1].waiter.stands, Stands::Offered);
    assert_eq!(w.free(QUEENS).await, 0, "on offer is not on sale");
    assert!(w.keep(QUEENS, &[1]).await.is_err());
    w.sound().await;
    // Joss lets it pass: Greta is next. She takes it.
    w.pass(60 * 24 + 1);
    w.due().await;
    let list = waiting::list(&w.desk, &ilse, date).await.unwrap();
    let stands: Vec<Stands> = list.iter().map(|p| p.waiter.stands).collect();
    assert_eq!(stands, [Stands::Waiting, Stands::Passed, Stands::Offered]);
    let offer = list[2].offer.as_ref().unwrap();
    let draft = w.draft(offer.reference).await;
    submit::submit(&w.desk, &Asking::default(), offer.reference, draft).await.unwrap();
    assert_eq!(waiting::place(&w.desk, greta).await.unwrap().waiter.stands, Stands::Taken);
    let offers = w.subjects().iter().filter(|s| s.starts_with("Seats")).count();
    assert_eq!(offers, 2, "{:?}", w.subjects());
    w.sound().await;
    // Out of turn needs a reason, and seats.
    let joss = list[1].waiter.id;
    let mute = waiting::out_of_turn(&w.desk, &ilse, joss, form(&[("reason", " ")])).await;
    assert!(matches!(mute, Err(DeskError::Form(_))));
    let full = waiting::out_of_turn(&w.desk, &ilse, joss, form(&[("reason", "He drives")])).await;
    assert!(matches!(full, Err(DeskError::Choice(_))));
    // A whole booking of two or more: Hedda's party fits at last.
    let large = booked.iter().filter(|b| b.id != single.id && b.state == State::Confirmed);
    let mut freed = 0;
    for booking in large {
        let seats = w.sheet(booking.reference).await.attendees.len();
        if seats >= 2 {
            cancel::cancel(&w.desk, by(), booking.reference, Vec::new()).await.unwrap();
            freed += seats;
            break;
        }
    }
    assert!(freed >= 2);
    let list = waiting::list(&w.desk, &ilse, date).await.unwrap();
    assert_eq!(list[0].waiter.stands, Stands::Offered);
    w.sound().await;
}

/// Seats that come free without a change of state go down the list as well: by choosing again
/// with fewer, and by one more ticket of a type that was renamed since.
#[tokio::test(flavor = "multi_thread")]
async fn seats_left_by_another_choice_and_by_renamed_tickets_come_free_for_who_waits() {
    let w = world().await;
    w.set_rules(CANDLES, None, Manner::OfferFirst).await;
    let ilse = w.staff(0).await;
    // All that is free is held by one browser; somebody waits for two.
    let free = w.free(CANDLES).await;
    let held = w.keep(CANDLES, &[0, free, 0]).await.unwrap();
    let (date, two) = w.choice(CANDLES, &[0, 2, 0]).await;
    let fields = form(&[("name", "Greta"), ("email", "greta@post.example")]);
    let greta = waiting::join(&w.desk, date, two, &Asking::default(), fields).await.unwrap().id;
    let buyer = Buyer { address: BOOKER.into(), ..Buyer::default() };
    let by = HeldBy { buyer, ..HeldBy::default() };
    let (_, fewer) = w.choice(CANDLES, &[0, free - 3, 0]).await;
    assert_eq!(hold::keep(&w.desk, date, fewer, by, Some(held)).await.unwrap(), held);
    let place = waiting::place(&w.desk, greta).await.unwrap();
    assert_eq!(place.waiter.stands, Stands::Offered, "three were left, two go to who waits");
    assert_eq!(w.free(CANDLES).await, 1);
    w.sound().await;
    // A type is renamed; one more of it comes to an older booking and is cancelled.
    hold::give_back(&w.desk, held).await.unwrap();
    let reference = w.paid(CANDLES, &[0, 1, 0]).await;
    let (ticket, free) = (w.sheet(reference).await.lines[0].ticket, w.free(CANDLES).await);
    w.rename_ticket(ticket, "Grown-up".into()).await;
    let one = vec![Wanted { ticket, quantity: 1 }];
    change::add_tickets(&w.desk, &ilse, reference, one, vec!["Una".into()]).await.unwrap();
    let sheet = w.sheet(reference).await;
    assert_eq!((sheet.lines[0].quantity, w.free(CANDLES).await), (2, free - 1));
    let last = sheet.attendees.last().unwrap().ticket_no;
    let by = By::Staff(ilse.clone(), Some(100));
    let gone = cancel::cancel(&w.desk, by, reference, vec![last]).await.unwrap();
    assert_eq!(gone.forgiven.minor, sheet.booking.due().minor);
    let sheet = w.sheet(reference).await;
    assert_eq!((sheet.lines[0].quantity, w.free(CANDLES).await), (1, free));
    assert!(sheet.booking.due().is_zero());
    w.sound().await;
}

/// Every webhook between was lost: the first that comes tells of a payment that is paid and
/// taken back.
#[tokio::test(flavor = "multi_thread")]
async fn a_payment_first_heard_of_as_paid_and_lost_is_booked_as_both() {
    let w = world().await;
    let reference = w.book(WALK, &[1, 0, 0, 0]).await;
    let total = w.sheet(reference).await.booking.total;
    w.provider.decide(Status::Paid);
    w.provider.dispute(Dispute::Lost);
    w.hook("both").await.unwrap();
    let sheet = w.sheet(reference).await;
    assert_eq!((sheet.booking.paid.minor, sheet.booking.due()), (0, total));
    assert_eq!(sheet.payments[0].dispute, "lost");
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dispute_that_is_lost_makes_the_booking_owe_again_whatever_order_it_is_told_in() {
    let w = world().await;
    let reference = w.paid(WALK, &[1, 0, 0, 0]).await;
    let total = w.sheet(reference).await.booking.total;
    w.provider.dispute(Dispute::Open);
    w.hook("open").await.unwrap();
    w.sound().await;
    w.provider.dispute(Dispute::Lost);
    w.hook("lost").await.unwrap();
    w.provider.dispute(Dispute::Open);
    w.hook("late-open").await.unwrap();
    let sheet = w.sheet(reference).await;
    assert_eq!((sheet.booking.state, sheet.booking.due()), (State::Confirmed, total));
    assert_eq!(sheet.payments[0].dispute, "lost");
    // The rest is paid in cash.
    let petra = w.staff(4).await;
    let cash = form(&[("amount", &total.figures()), ("method", "cash")]);
    taking::take_money(&w.desk, &petra, reference, cash).await.unwrap();
    assert_eq!(w.sheet(reference).await.booking.due().minor, 0);
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_office_takes_bookings_by_phone_sets_prices_adds_swaps_moves_and_brings_back() {
    let w = world().await;
    let (ilse, petra) = (w.staff(0).await, w.staff(4).await);
    let (date, wanted) = w.choice(WALK, &[1, 0, 0, 0]).await;
    let price = matricle_core::Currency::EUR.of(250);
    let by_hand = Some((price, "a neighbour".to_owned()));
    let asked = ByPhone { date, wanted: wanted.clone(), by_hand };
    let reference = phone::by_phone(&w.desk, &ilse, asked, form(&NOOR)).await.unwrap();
    let sheet = w.sheet(reference).await;
    assert_eq!((sheet.booking.state, sheet.booking.due()), (State::AwaitingPayment, price));
    assert!(sheet.timeline.iter().any(|h| h.what.ends_with("by hand: a neighbour")));
    w.sound().await;
    let cash = form(&[("amount", "2.50"), ("method", "cash")]);
    taking::take_money(&w.desk, &petra, reference, cash).await.unwrap();
    assert_eq!(w.state(reference).await, State::Confirmed);
    change::add_tickets(&w.desk, &ilse, reference, wanted, vec!["Ilya".into()]).await.unwrap();
    let sheet = w.sheet(reference).await;
    assert_eq!((sheet.attendees.len(), sheet.attendees[1].name.as_str()), (2, "Ilya"));
    assert!(sheet.booking.due().minor > 0, "the difference is owed");
    w.sound().await;
    let other = sheet.lines[0].ticket;
    let page = programme::event(&w.desk, look(WALK)).await.unwrap();
    let swap = page.dates[0].tickets.iter().find(|t| t.id != other && t.admits == 1).unwrap().id;
    change::swap_ticket(&w.desk, &ilse, reference, 1, swap).await.unwrap();
    w.sound().await;
    let to: DateId = page.dates[1].date.id;
    move_date::move_to(&w.desk, By::Booker, reference, to).await.unwrap();
    assert_eq!(w.sheet(reference).await.date.id, to);
    w.sound().await;
    let note = change::note(&w.desk, &ilse, reference, form(&[("note", " ")])).await;
    assert!(matches!(note, Err(DeskError::Form(_))));
    cancel::cancel(&w.desk, By::Staff(ilse.clone(), None), reference, Vec::new()).await.unwrap();
    decide::bring_back(&w.desk, &ilse, reference).await.unwrap();
    assert_ne!(w.state(reference).await, State::Cancelled);
    w.due().await;
    w.sound().await;
}

/// The payment QR code is read back from the invoice's PDF and holds what the standard asks.
#[tokio::test(flavor = "multi_thread")]
async fn an_invoice_carries_a_payment_code_that_a_bank_can_read() {
    let w = world().await;
    let reference = w.book(COURSE, &[1]).await;
    pay::by_transfer(&w.desk, &Asking::default(), reference).await.unwrap();
    let sheet = w.sheet(reference).await;
    let (name, pdf) = bills::document(&w.desk, reference, sheet.documents[0].id).await.unwrap();
    assert_eq!(name, sheet.documents[0].name());
    let folder = tempfile::tempdir().unwrap();
    let (file, page) = (folder.path().join("bill.pdf"), folder.path().join("page"));
    std::fs::write(&file, &pdf).unwrap();
    let drawn = std::process::Command::new("pdftoppm")
        .args(["-r", "200", "-gray", "-singlefile"])
        .args([&file, &page])
        .status()
        .unwrap();
    assert!(drawn.success());
    let mut raw = Vec::new();
    std::fs::File::open(page.with_extension("pgm")).unwrap().read_to_end(&mut raw).unwrap();
    let text = read_qr(&raw);
    let lines: Vec<&str> = text.split('\n').collect();
    let due = sheet.booking.due();
    assert_eq!(lines[..4], ["BCD", "002", "1", "SCT"]);
    assert_eq!(lines[4..7], ["OVBKIE2D", "Ostrel Vale Beekeepers", "IE66OVBK90001712345678"]);
    assert_eq!((lines[7], lines[8]), (format!("EUR{}", due.figures()).as_str(), ""));
    assert_eq!(read_creditor_reference(lines[9]), Some(reference));
    assert!(sheet.documents[0].body.charge().total() == due.minor && text.len() <= 331);
}

/// Reads the one QR code of a grey picture (PGM).
fn read_qr(pgm: &[u8]) -> String {
    let mut parts = pgm.splitn(4, |b| b.is_ascii_whitespace());
    let mut number = || std::str::from_utf8(parts.next().unwrap()).unwrap().parse::<usize>();
    let _ = number();
    let (width, height) = (number().unwrap(), number().unwrap());
    let pixels = &pgm[pgm.len() - width * height..];
    let mut picture =
        rqrr::PreparedImage::prepare_from_greyscale(width, height, |x, y| pixels[y * width + x]);
    picture.detect_grids()[0].decode().unwrap().1
}

#[derive(Debug, Clone, Copy)]
enum Act {
    Book(u32),
    Pay,
    Decline,
    Part,
    Cancel,
    BringBack,
    TakeBack,
    Add,
    Cash(i64),
    Price(i64),
    GiveBack(i64),
    Move,
    Wait,
    Time(i64),
    ChooseAgain(u32),
    RenameTicket,
    Swap,
    PassOn,
    PutOff(i64),
}

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        (1u32..3).prop_map(Act::Book),
        Just(Act::Pay),
        Just(Act::Decline),
        Just(Act::Part),
        Just(Act::Cancel),
        Just(Act::BringBack),
        Just(Act::TakeBack),
        Just(Act::Add),
        (1i64..9000).prop_map(Act::Cash),
        (0i64..9000).prop_map(Act::Price),
        (1i64..9000).prop_map(Act::GiveBack),
        Just(Act::Move),
        Just(Act::Wait),
        (1i64..4000).prop_map(Act::Time),
        (1u32..4).prop_map(Act::ChooseAgain),
        Just(Act::RenameTicket),
        Just(Act::Swap),
        Just(Act::PassOn),
        (1i64..90).prop_map(Act::PutOff),
    ]
}

/// Any run of acts by bookers, clerks, the treasurer, the provider and time leaves seats,
/// ledger and documents as `check` wants them, and gives nothing back that never came.
#[test]
fn any_run_of_acts_keeps_seats_and_books_right() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    let mut runner = TestRunner::new(Config { cases: 10, ..Config::default() });
    let acts = prop::collection::vec((act(), any::<usize>()), 8..26);
    let slugs = [WALK, COURSE, QUEENS];
    runner
        .run(&acts, |acts| {
            runtime.block_on(async {
                let w = world().await;
                w.set_rules(WALK, Some(vec![(2, 50)]), Manner::OfferFirst).await;
                w.set_rules(QUEENS, None, Manner::TellAll).await;
                let (ilse, petra) = (w.staff(0).await, w.staff(4).await);
                let desk = &w.desk;
                let mut all: Vec<Reference> = Vec::new();
                for (act, pick) in acts {
                    let slug = slugs[pick % 3];
                    let one = (!all.is_empty()).then(|| all[pick % all.len()]);
                    match (act, one) {
                        (Act::Book(n), _) => {
                            let Ok(reference) = w.keep(slug, &[n]).await else { continue };
                            let draft = w.draft(reference).await;
                            if submit::submit(desk, &Asking::default(), reference, draft)
                                .await
                                .is_ok()
                            {
                                all.push(reference);
                            }
                        }
                        (Act::Wait, _) => {
                            let (date, wanted) = w.choice(slug, &[2]).await;
                            let email = format!("w{pick}@post.example");
                            let fields = form(&[("name", "W"), ("email", &email)]);
                            let _ =
                                waiting::join(desk, date, wanted, &Asking::default(), fields).await;
                        }
                        (Act::Time(minutes), _) => {
                            w.pass(minutes);
                            w.due().await;
                        }
                        (_, None) => {}
                        (Act::Pay, Some(b)) => {
                            if pay::pay_url(desk, b).await.is_ok() {
                                w.provider.decide(Status::Paid);
                                let _ = pay::ask(desk, b).await;
                            }
                        }
                        (Act::Decline, Some(b)) => {
                            if pay::pay_url(desk, b).await.is_ok() {
                                w.provider.decide(Status::Declined);
                                let _ = pay::ask(desk, b).await;
                            }
                        }
                        (Act::Part, Some(b)) => {
                            let _ = cancel::cancel(desk, By::Booker, b, vec![0]).await;
                        }
                        (Act::Cancel, Some(b)) => {
                            let by = match pick % 3 {
                                0 => By::Booker,
                                n => By::Staff(ilse.clone(), [None, Some(30)][n - 1]),
                            };
                            let _ = cancel::cancel(desk, by, b, Vec::new()).await;
                        }
                        (Act::TakeBack, Some(b)) => {
                            let was = w.sheet(b).await;
                            let deed = match (pick % 3, was.other_dates.first()) {
                                (0, Some(other)) => {
                                    let to = other.id;
                                    move_date::move_to(desk, By::Booker, b, to).await.is_ok()
                                }
                                (n, _) => {
                                    let part = if n == 1 { vec![0] } else { Vec::new() };
                                    cancel::cancel(desk, By::Booker, b, part).await.is_ok()
                                }
                            };
                            let now = desk.clock.now();
                            let open =
                                |s: &WholeBooking| s.undo.as_ref().is_some_and(|u| u.is_open(now));
                            let may = open(&w.sheet(b).await);
                            match undo::undo(desk, b).await {
                                _ if !deed => {}
                                Ok(()) => {
                                    let is = w.sheet(b).await;
                                    prop_assert!(may && !open(&is));
                                    prop_assert_eq!(&is.lines, &was.lines);
                                    prop_assert_eq!(&is.attendees, &was.attendees);
                                    prop_assert_eq!(is.booking.date, was.booking.date);
                                    prop_assert_eq!(is.booking.paid, was.booking.paid);
                                }
                                // The waiting list was faster, or the dates have begun.
                                Err(DeskError::Choice(_)) => {}
                                Err(DeskError::NothingToUndo) => prop_assert!(!may),
                                Err(other) => prop_assert!(false, "{other}"),
                            }
                        }
                        (Act::BringBack, Some(b)) => {
                            let _ = decide::bring_back(desk, &ilse, b).await;
                        }
                        (Act::Add, Some(b)) => {
                            let ticket = w.sheet(b).await.lines[0].ticket;
                            let wanted = vec![Wanted { ticket, quantity: 1 }];
                            let _ = change::add_tickets(desk, &ilse, b, wanted, Vec::new()).await;
                        }
                        (Act::Cash(minor), Some(b)) => {
                            let amount = matricle_core::Currency::EUR.of(minor).figures();
                            let cash = form(&[("amount", &amount), ("method", "cash")]);
                            let _ = taking::take_money(desk, &petra, b, cash).await;
                        }
                        (Act::Price(minor), Some(b)) => {
                            let sheet = w.sheet(b).await;
                            let price = matricle_core::Currency::EUR.of(minor).figures();
                            let ticket = sheet.lines[0].ticket.to_string();
                            let fields =
                                [("price", price.as_str()), ("ticket", &ticket), ("reason", "so")];
                            let _ = change::set_price(desk, &ilse, b, form(&fields)).await;
                        }
                        (Act::GiveBack(minor), Some(b)) => {
                            let before = w.sheet(b).await.booking;
                            let amount = matricle_core::Currency::EUR.of(minor).figures();
                            let fields = [("back", amount.as_str()), ("back_reason", "sorry")];
                            let given = taking::give_back(desk, &petra, b, form(&fields)).await;
                            let after = w.sheet(b).await.booking;
                            let less = if given.is_ok() { minor } else { 0 };
                            prop_assert_eq!(before.paid.minor - after.paid.minor, less);
                            prop_assert_eq!(before.total.minor - after.total.minor, less);
                        }
                        (Act::ChooseAgain(n), Some(b)) => {
                            // What was booked, or is past, is left alone: a new hold is made.
                            let (date, wanted) = w.choice(slug, &[n]).await;
                            let buyer = Buyer { address: BOOKER.into(), ..Buyer::default() };
                            let by = HeldBy { buyer, ..HeldBy::default() };
                            let kept =
                                hold::keep(desk, date, wanted.clone(), by.clone(), Some(b)).await;
                            if let Ok(held) = kept {
                                let less = wanted
                                    .into_iter()
                                    .map(|w| Wanted { quantity: w.quantity.min(1), ..w });
                                let again =
                                    hold::keep(desk, date, less.collect(), by, Some(held)).await;
                                prop_assert_eq!(again.ok(), Some(held));
                                all.push(held);
                            }
                        }
                        (Act::RenameTicket, Some(b)) => {
                            let line = w.sheet(b).await.lines[0].clone();
                            w.rename_ticket(line.ticket, format!("Renamed {pick}")).await;
                        }
                        (Act::Swap, Some(b)) => {
                            let to = w.choice(slug, &[1, 1]).await.1.last().map(|w| w.ticket);
                            let ticket = to.unwrap_or(w.sheet(b).await.lines[0].ticket);
                            let _ = change::swap_ticket(desk, &ilse, b, 0, ticket).await;
                        }
                        (Act::PassOn, Some(b)) => {
                            let person = w.sheet(b).await.attendees[0].id;
                            let to =
                                form(&[("new_name", "Una"), ("new_email", "una@post.example")]);
                            let by = By::Staff(ilse.clone(), None);
                            let _ = pass_on::pass_on(desk, by, b, person, to).await;
                        }
                        (Act::PutOff(hours), Some(b)) => {
                            let until = desk.clock.now() + SignedDuration::from_hours(hours);
                            let _ = decide::put_off(desk, &ilse, b, until).await;
                        }
                        (Act::Move, Some(b)) => {
                            let other = w.sheet(b).await.other_dates.first().map(|d| d.id);
                            if let Some(other) = other {
                                let by = By::Staff(ilse.clone(), None);
                                let by = if pick % 2 == 0 { By::Booker } else { by };
                                let _ = move_date::move_to(desk, by, b, other).await;
                            }
                        }
                    }
                    let faults = w.faults().await;
                    prop_assert!(faults.is_empty(), "after {act:?}: {faults:?}");
                }
                w.due().await;
                w.sound().await;
                let sums = desk.store.read(ledger::balances).await.unwrap();
                prop_assert_eq!(sums.values().sum::<i64>(), 0);
                Ok(())
            })
        })
        .unwrap();
}

/// Another deadline for the money is the one that counts, and only while money is waited for.
#[tokio::test(flavor = "multi_thread")]
async fn a_payment_that_is_put_off_lapses_at_its_new_deadline() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let reference = w.book(CANDLES, &[1, 0, 0]).await;
    let first = w.sheet(reference).await.booking.deadline.unwrap();
    let later = first + SignedDuration::from_hours(48);
    let past = w.desk.clock.now() - SignedDuration::from_hours(1);
    assert!(decide::put_off(&w.desk, &ilse, reference, past).await.is_err(), "a past deadline");
    assert_eq!(w.sheet(reference).await.booking.deadline, Some(first));
    decide::put_off(&w.desk, &ilse, reference, later).await.unwrap();
    w.desk.clock.advance(first.duration_since(w.desk.clock.now()) + SignedDuration::from_mins(1));
    w.due().await;
    assert_eq!(w.state(reference).await, State::AwaitingPayment, "past the first deadline");
    w.desk.clock.advance(SignedDuration::from_hours(48));
    w.due().await;
    assert_eq!(w.state(reference).await, State::Lapsed);
    assert!(decide::put_off(&w.desk, &ilse, reference, later).await.is_err(), "nothing waits");
    w.sound().await;
}

/// A payment that only the provider knows of, one that only the books know, and one of another
/// amount are each told; what was never paid is no difference.
#[tokio::test(flavor = "multi_thread")]
async fn the_provider_and_the_books_are_compared_payment_by_payment() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let known = w.paid(CANDLES, &[1, 0, 0]).await;
    let less = w.paid(CANDLES, &[2, 0, 0]).await;
    w.book(CANDLES, &[1, 0, 0]).await;
    let before = books::compare(&w.desk, &ilse).await.unwrap();
    let told =
        |c: &books::Compared, r: Reference| c.differences.iter().any(|d| d.reference == r.as_str());
    assert!(before.answered && !told(&before, known) && !told(&before, less));
    let payments = w.provider.payments();
    let total = w.sheet(less).await.booking.total.minor;
    w.provider.change(|all| {
        all[1].refunded = 100;
        let mut strange = all.remove(0);
        strange.reference = "made-by-hand".into();
        all.push(strange);
    });
    let after = books::compare(&w.desk, &ilse).await.unwrap();
    assert!(told(&after, known) && told(&after, less));
    let of = |payment: &str| after.differences.iter().find(|d| d.payment == payment).unwrap();
    assert_eq!(of(&payments[1].reference).ours, (total, 0));
    assert_eq!(of(&payments[1].reference).theirs, Some((total, 100)));
    assert_eq!(of(&payments[0].reference).theirs, None);
    assert_eq!(of("made-by-hand").ours, (0, 0));
    assert_eq!(after.differences.len(), before.differences.len() + 3);
    w.provider.go_away(true);
    let away = books::compare(&w.desk, &ilse).await.unwrap();
    assert!(!away.answered && away.differences.is_empty());
}

/// Who cancels before the news of a moved date has gone out hears of the cancellation alone.
#[tokio::test(flavor = "multi_thread")]
async fn news_of_a_move_is_not_sent_to_who_has_cancelled() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let (stays, goes) = (w.book(FREE, &[1]).await, w.book(FREE, &[1]).await);
    w.due().await;
    let sheet = w.sheet(goes).await;
    let day = sheet.date.span.starts.date().to_string();
    let moved = form(&[
        ("day", &day),
        ("from", "20:30"),
        ("until", "22:00"),
        ("venue", &sheet.date.venue),
        ("room", &sheet.date.room),
        ("hosts", &sheet.date.hosts),
    ]);
    dates::change(&w.desk, &ilse, sheet.date.id, Scope::One, moved, true).await.unwrap();
    cancel::cancel(&w.desk, By::Booker, goes, vec![]).await.unwrap();
    w.due().await;
    for (reference, moved) in [(stays, "sent"), (goes, "withdrawn")] {
        let id = w.sheet(reference).await.booking.id;
        let read = move |c: &matricle_store::Connection| outbox::of_booking(c, id);
        let mails = w.desk.store.read(read).await.unwrap();
        let of = |kind| mails.iter().find(|m| m.occasion() == Some(kind)).map(|m| m.state.word());
        assert_eq!(of(Occasion::Moved), Some(moved));
        assert_eq!(of(Occasion::Cancelled), (reference == goes).then_some("sent"));
    }
    w.sound().await;
}

/// A hold that was given back is nobody's booking: no way leads past its form.
#[tokio::test(flavor = "multi_thread")]
async fn a_hold_that_was_cancelled_is_not_had_back_without_its_form() {
    let w = world().await;
    let ilse = w.staff(0).await;
    for slug in [FREE, WALK, COURSE, QUEENS] {
        for part in [vec![0], Vec::new()] {
            let Ok(held) = w.keep(slug, &[1]).await else { continue };
            let free = w.free(slug).await;
            cancel::cancel(&w.desk, By::Booker, held, part).await.unwrap();
            assert_eq!((w.state(held).await, w.free(slug).await), (State::Cancelled, free + 1));
            assert!(w.sheet(held).await.undo.is_none(), "nothing is offered to be undone");
            let undone = undo::undo(&w.desk, held).await;
            assert!(matches!(undone, Err(DeskError::NothingToUndo)), "{undone:?}");
            let back = decide::bring_back(&w.desk, &ilse, held).await;
            assert!(back.is_err(), "{slug}: {back:?}");
            assert_eq!(w.state(held).await, State::Cancelled);
            assert_eq!(w.faults().await, Vec::<String>::new());
        }
    }
    w.sound().await;
}
