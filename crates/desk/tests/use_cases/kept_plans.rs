//! What an event offers is read once and kept: whoever books always books what is planned now.

use matricle_core::TicketTypeId;
use matricle_core::booking::State;
use matricle_desk::bookings::submit;
use matricle_desk::people::asking::Asking;
use matricle_desk::planning::{dates, events, questions, sheet, tickets};
use matricle_desk::{Desk, DeskError, programme};
use matricle_store::people::Staff;
use matricle_store::{StoreError, events as stored};

use crate::world::{FREE, form, look, world};

/// Sets what a seat of the free evening costs.
async fn price(desk: &Desk, ilse: &Staff, minor: u32) {
    let page = programme::event(desk, look(FREE)).await.unwrap();
    let ticket = &page.dates[0].tickets[0];
    let (whole, cents) = (minor / 100, minor % 100);
    let amount = format!("{whole}.{cents:02}");
    let fields = [("name", ticket.name.as_str()), ("draw_0", "1"), ("price", &amount)];
    let which: Option<TicketTypeId> = Some(ticket.id);
    tickets::save_ticket(desk, ilse, page.event.id, which, form(&fields)).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_next_to_book_books_what_is_planned_now() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let costs = async || {
        let reference = w.keep(FREE, &[1]).await.unwrap();
        w.sheet(reference).await.booking.total.minor
    };
    assert_eq!(costs().await, 0);
    for minor in [1250, 900, 0, 75] {
        price(&w.desk, &ilse, minor).await;
        assert_eq!(costs().await, i64::from(minor));
        assert_eq!(costs().await, i64::from(minor), "and so does the one after");
    }
    // A change that was taken back was never one, whatever was read in the meantime.
    let date = programme::event(&w.desk, look(FREE)).await.unwrap().dates[0].date.id;
    let broken = w
        .desk
        .store
        .write(move |tx| {
            let ticket = stored::planned(tx, date)?.unwrap();
            let event = ticket.event.id;
            let sql = "UPDATE ticket_types SET minor = 99900 WHERE event_id = ?1";
            tx.execute(sql, [event.0]).map_err(|_| StoreError::Closed)?;
            assert_eq!(
                stored::choices_now(tx, date, jiff::Timestamp::UNIX_EPOCH)?.unwrap().offer.offers
                    [0]
                .price
                .minor,
                99_900,
                "its own change is seen"
            );
            Err::<(), _>(StoreError::Closed)
        })
        .await;
    assert!(broken.is_err());
    assert_eq!(costs().await, 75);
    price(&w.desk, &ilse, 80).await;
    assert_eq!(costs().await, 80, "the next change has the number that was taken back");
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_form_is_asked_what_is_asked_now_and_nothing_is_sold_of_what_is_off() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let page = programme::event(&w.desk, look(FREE)).await.unwrap();
    let (event, date) = (page.event.id, page.dates[0].date.id);
    let begun = w.keep(FREE, &[1]).await.unwrap();
    let draft = w.draft(begun).await;
    let new = form(&[("label", "Who sent you?"), ("answering", "text"), ("needed", "yes")]);
    questions::save_question(&w.desk, &ilse, event, None, new).await.unwrap();
    let refused = submit::submit(&w.desk, &Asking::default(), begun, draft).await;
    assert!(matches!(refused, Err(DeskError::Details(ref p)) if p.len() == 1), "{refused:?}");
    // Fewer seats than are asked for: the next one is told the number there is now.
    let asked = sheet::settings(&w.desk, &ilse, event).await.unwrap();
    assert_eq!(asked.questions.last().unwrap().label, "Who sent you?");
    let free = w.free(FREE).await;
    let off = "The hall is flooded.".to_owned();
    assert!(free > 0);
    dates::call_off(&w.desk, &ilse, event, Some(date), off).await.unwrap();
    let refused = w.desk.store.read(move |c| stored::date_by_id(c, date)).await.unwrap().unwrap();
    assert!(!refused.1.called_off.is_empty());
    let (_, wanted) = (date, page.dates[0].tickets[0].id);
    let wanted = vec![matricle_core::seats::Wanted { ticket: wanted, quantity: 1 }];
    let by = matricle_store::bookings::HeldBy::default();
    let kept = matricle_desk::bookings::hold::keep(&w.desk, date, wanted, by, None).await;
    assert!(kept.is_err(), "its last date was called off, and the event with it");
    assert_eq!(w.state(begun).await, State::Lapsed);
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_books_while_the_price_changes_books_one_of_the_prices_that_there_were() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let changes = {
        let desk = w.desk.clone();
        tokio::spawn(async move {
            for minor in (1..=20).map(|n| n * 100) {
                price(&desk, &ilse, minor).await;
            }
        })
    };
    let mut before = 0;
    for _ in 0..12 {
        let reference = w.keep(FREE, &[1]).await.unwrap();
        let total = w.sheet(reference).await.booking.total.minor;
        assert!(total % 100 == 0 && total >= before, "{total} after {before}");
        before = total;
    }
    changes.await.unwrap();
    let last = w.keep(FREE, &[1]).await.unwrap();
    assert_eq!(w.sheet(last).await.booking.total.minor, 2000);
    w.sound().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_thrown_away_is_had_back_whole_and_takes_no_room_meanwhile() {
    let w = world().await;
    let ilse = w.staff(0).await;
    let rows = async || {
        let rows = matricle_desk::office::events(&w.desk, &ilse).await.unwrap().1;
        rows.into_iter().map(|r| (r.event.id, r.dates, r.seats)).collect::<Vec<_>>()
    };
    let (before, draft) = (rows().await, matricle_core::EventId(11));
    let plan = async || w.desk.store.read(move |c| stored::read(c, draft)).await.unwrap().unwrap();
    let whole = plan().await;
    events::throw_away(&w.desk, &ilse, draft, true).await.unwrap();
    events::throw_away(&w.desk, &ilse, draft, true).await.unwrap();
    assert_eq!(rows().await.len(), before.len() - 1);
    let refused = events::show_in_programme(&w.desk, &ilse, draft, true).await;
    assert!(matches!(refused, Err(DeskError::NotADraft)), "{refused:?}");
    // It publishes itself no more, and its room is free for others.
    w.due().await;
    let used = w.desk.store.read(move |c| stored::by_id(c, draft)).await.unwrap().unwrap();
    assert!(used.thrown_at.is_some() && used.publish_at.is_none());
    events::throw_away(&w.desk, &ilse, draft, false).await.unwrap();
    assert_eq!((rows().await, plan().await), (before, whole));
    // What is published, or booked, is not thrown away.
    for (event, why) in [(2, "published"), (999, "none")] {
        let refused = events::throw_away(&w.desk, &ilse, matricle_core::EventId(event), true).await;
        assert!(matches!(refused, Err(DeskError::NotADraft | DeskError::NotFound)), "{why}");
    }
    w.sound().await;
}
