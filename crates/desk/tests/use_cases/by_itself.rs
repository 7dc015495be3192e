//! What runs by itself: rows that fail or panic, a mail server and a provider that hang, a
//! full disk, loops that end.

use std::sync::Arc;
use std::time::{Duration, Instant};

use lettre::Message;
use matricle_core::booking::State;
use matricle_core::words::codes::Reference;
use matricle_desk::bookings::waiting;
use matricle_desk::outside::mailer::{Checking, Mailer, SendError, Sending, SmtpMailer};
use matricle_desk::outside::provider::{
    Answer, CardProvider, NewPayment, Payout, ProviderPayment, REHEARSAL_SECRET,
};
use matricle_desk::{office, rounds, timers};
use matricle_store::{aside, outbox};

use crate::world::{CANDLES, FREE, World, form, world};

/// Runs SQL on the house's file, as an old version or a broken disk might have left it.
async fn spoil(w: &World, sql: impl Into<String>) {
    let sql = sql.into();
    w.desk
        .store
        .write(move |tx| tx.execute_batch(&sql).map_err(matricle_store::StoreError::from))
        .await
        .unwrap();
}

async fn states(w: &World) -> Vec<(String, String)> {
    w.desk
        .store
        .read(|c| {
            let mut q = c.prepare("SELECT address, state FROM outbox WHERE date_id IS NULL AND address IN ('sian@post.example', 'ros@post.example', 'boom@post.example') ORDER BY id")?;
            let rows: Result<Vec<_>, _> =
                q.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect();
            Ok::<_, matricle_store::StoreError>(rows?)
        })
        .await
        .unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_line_break_in_a_name_breaks_no_mail_new_or_old() {
    let w = world().await;
    let page = matricle_desk::programme::event(&w.desk, crate::world::look("a-hive-inspection"));
    let page = page.await.unwrap();
    w.keep("a-hive-inspection", &[1]).await.unwrap();
    spoil(&w, "UPDATE events SET rules = json_set(rules, '$.waiting', 'offer_first') WHERE slug = 'a-hive-inspection'").await;
    let wanted = w.choice("a-hive-inspection", &[1]).await.1;
    let typed = form(&[("name", "Ros\r\nBcc: all@post.example\0"), ("email", "ros@post.example")]);
    let date = page.dates[0].date.id;
    waiting::join(&w.desk, date, wanted, &Default::default(), typed).await.unwrap();
    // As versions before wrote it down.
    spoil(&w, "UPDATE waiting SET name = 'Ros' || char(13, 10) || 'Bcc: all@post.example'").await;
    w.book(FREE, &[1]).await;
    w.due().await;
    assert!(states(&w).await.iter().all(|(_, state)| state == "sent"), "{:?}", states(&w).await);
    for raw in w.mails.taken() {
        let mail = mail_parser::MessageParser::default().parse(&raw).unwrap();
        assert!(mail.bcc().is_none());
    }
    w.sound().await;
}

/// A row that fails and a row that cannot even be read are set aside, shown on Today, tried
/// again, and stop nothing after them.
#[tokio::test(flavor = "multi_thread")]
async fn a_poisoned_row_stops_neither_the_rows_after_it_nor_another_loop() {
    let w = world().await;
    let poisoned = w.keep(CANDLES, &[1, 0, 0]).await.unwrap();
    let unreadable = w.keep(FREE, &[1]).await.unwrap();
    let fine = w.keep("pollen-under-the-lens", &[1, 0, 0]).await.unwrap();
    w.book(FREE, &[1]).await;
    let of = poisoned.as_str();
    spoil(
        &w,
        format!(
            "CREATE TRIGGER poison BEFORE UPDATE OF state ON bookings WHEN OLD.reference = '{of}'
             BEGIN SELECT RAISE(ABORT, 'a poisoned booking'); END"
        ),
    )
    .await;
    let mangled = unreadable.as_str();
    spoil(&w, format!("UPDATE bookings SET draft = 'not json' WHERE reference = '{mangled}'"))
        .await;
    w.pass(20);
    w.due().await;
    assert_eq!((w.state(poisoned).await, w.state(fine).await), (State::Held, State::Lapsed));
    assert!(states(&w).await.iter().all(|(_, state)| state == "sent"));
    let ilse = w.staff(0).await;
    let today = office::today(&w.desk, &ilse).await.unwrap();
    let reasons: Vec<_> = today.aside.iter().map(|a| (a.work.as_str(), a.tries)).collect();
    assert_eq!(reasons, [("deadlines", 1)], "{:?}", today.aside);
    assert!(today.aside[0].reason.contains("a poisoned booking"));
    // What was typed cannot be read: the booking goes its way without it, and Today says so.
    assert_eq!(w.state(unreadable).await, State::Lapsed);
    assert!(today.left_out.iter().any(|said| said.contains("what was typed into a booking")));
    // Not tried again at once; later it is, and forgotten once it is done.
    w.due().await;
    assert_eq!(w.desk.store.read(aside::all).await.unwrap()[0].tries, 1);
    spoil(&w, "DROP TRIGGER poison; UPDATE bookings SET draft = '{}' WHERE draft = 'not json'")
        .await;
    w.pass(2);
    w.due().await;
    assert_eq!(w.state(poisoned).await, State::Lapsed);
    assert_eq!(w.state(unreadable).await, State::Lapsed);
    assert_eq!(w.desk.store.read(aside::all).await.unwrap(), []);
    w.sound().await;
}

/// A mailer that panics at one address.
struct Explosive(Arc<matricle_desk::outside::mailer::Recorder>);

impl Mailer for Explosive {
    fn send(&self, message: Message) -> Sending<'_> {
        let to = message.envelope().to()[0].to_string();
        assert!(to != "boom@post.example", "a mail gone wrong");
        self.0.send(message)
    }

    fn check(&self) -> Checking<'_> {
        self.0.check()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_panic_is_a_failure_of_its_message_alone_and_what_is_left_half_way_is_taken_up() {
    let mut w = world().await;
    w.desk.mailer = Arc::new(Explosive(w.mails.clone()));
    let first = w.book(FREE, &[1]).await;
    w.book(FREE, &[2]).await;
    let boom = first.as_str();
    spoil(
        &w,
        format!(
            "UPDATE outbox SET address = 'boom@post.example' WHERE booking_id =
                (SELECT id FROM bookings WHERE reference = '{boom}')"
        ),
    )
    .await;
    w.due().await;
    let planned = ("boom@post.example".to_owned(), "planned".to_owned());
    assert_eq!(states(&w).await[0], planned);
    assert_eq!(states(&w).await[1].1, "sent");
    let said = w.desk.store.read(outbox::in_trouble).await.unwrap();
    let wrong = |e: &str| e.contains("a mail gone wrong");
    assert!(said.iter().any(|(m, _)| m.last_error.as_deref().is_some_and(wrong)));
    // A message that a full disk left *sending* needs no restart.
    spoil(
        &w,
        "UPDATE outbox SET state = 'sending', next_try_at = NULL, address = 'ros@post.example'
        WHERE address = 'boom@post.example'",
    )
    .await;
    w.due().await;
    assert!(states(&w).await.iter().all(|(_, state)| state == "sent"));
    assert_eq!(w.mails.taken().len(), 2);
}

/// What became of a message is known but cannot be written: it is not sent a second time.
#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_sends_nothing_twice() {
    let w = world().await;
    w.book(FREE, &[1]).await;
    spoil(
        &w,
        "CREATE TRIGGER full BEFORE UPDATE ON outbox WHEN NEW.state = 'sent'
        BEGIN SELECT RAISE(ABORT, 'disk full'); END",
    )
    .await;
    for _ in 0..3 {
        let _ = timers::turn(&w.desk, rounds::Work::Mail).await;
    }
    assert_eq!((w.mails.taken().len(), states(&w).await[0].1.as_str()), (1, "sending"));
    spoil(&w, "DROP TRIGGER full").await;
    w.due().await;
    assert_eq!((w.mails.taken().len(), states(&w).await[0].1.as_str()), (1, "sent"));
}

/// A provider that takes every question and never answers.
struct Silent;

impl Silent {
    fn never<'a, T: Send + 'a>() -> Answer<'a, T> {
        Box::pin(std::future::pending())
    }
}

impl CardProvider for Silent {
    fn create(&self, _: NewPayment) -> Answer<'_, ProviderPayment> {
        Self::never()
    }
    fn get<'a>(&'a self, _: &'a str) -> Answer<'a, ProviderPayment> {
        Self::never()
    }
    fn withdraw<'a>(&'a self, _: &'a str) -> Answer<'a, ProviderPayment> {
        Self::never()
    }
    fn refund<'a>(&'a self, _: &'a str, _: &'a str, _: i64) -> Answer<'a, ProviderPayment> {
        Self::never()
    }
    fn list(&self) -> Answer<'_, Vec<ProviderPayment>> {
        Self::never()
    }
    fn payouts(&self) -> Answer<'_, Vec<Payout>> {
        Self::never()
    }
    fn webhook_secret(&self) -> &[u8] {
        REHEARSAL_SECRET
    }
}

/// A mail server that accepts and says nothing, and a provider that hangs with payments open:
/// a hold lapses all the same, and a message goes as soon as a server takes it.
#[tokio::test(flavor = "multi_thread")]
async fn a_hanging_mail_server_and_provider_delay_no_deadline() {
    let mut w = world().await;
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let mut unpaid: Vec<Reference> = Vec::new();
    for _ in 0..5 {
        unpaid.push(w.book(CANDLES, &[1, 0, 0]).await);
    }
    w.book(FREE, &[1]).await;
    w.desk.mailer = Arc::new(SmtpMailer::new(&format!("smtp://127.0.0.1:{port}"), None).unwrap());
    w.desk.provider = Arc::new(Silent);
    let running = tokio::spawn(timers::run(w.desk.clone()));
    // Both are being waited for.
    let (_open, _) = listener.accept().await.unwrap();
    let hold = w.keep("pollen-under-the-lens", &[1, 0, 0]).await.unwrap();
    w.pass(45);
    w.desk.wake.all();
    let began = Instant::now();
    while w.state(hold).await == State::Held {
        assert!(began.elapsed() < Duration::from_secs(20), "the hold has not lapsed");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    for reference in unpaid {
        assert_eq!(
            w.state(reference).await,
            State::AwaitingPayment,
            "nobody knows whether it was paid"
        );
    }
    w.desk.store.close();
    running.abort();
}

#[tokio::test(flavor = "multi_thread")]
async fn an_unreachable_mail_server_is_a_failure_with_a_reason() {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    drop(listener);
    let mailer = SmtpMailer::new(&format!("smtp://127.0.0.1:{port}"), None).unwrap();
    let message = Message::builder()
        .from("a@b.example".parse().unwrap())
        .to("c@d.example".parse().unwrap())
        .body(String::new())
        .unwrap();
    let SendError { for_good, reason } = mailer.send(message).await.unwrap_err();
    assert!(!for_good && !reason.is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_row_that_cannot_be_read_is_left_out_and_stops_no_booking() {
    let w = world().await;
    // A cue, a template's files, the rules of the house, a question, the count of changes.
    for sql in [
        "UPDATE cues SET only = '{' WHERE id = (SELECT max(id) FROM cues WHERE event_id IS NULL)",
        "UPDATE house_rules SET rules = '{'",
        "DELETE FROM plan_version",
    ] {
        spoil(&w, sql).await;
    }
    let reference = w.confirmed("apiary-open-day").await;
    w.due().await;
    assert_eq!(w.state(reference).await, State::Confirmed);
    assert!(!w.to("sian@post.example").is_empty(), "and it is told");
    let today = office::today(&w.desk, &w.staff(0).await).await.unwrap();
    assert!(today.left_out.iter().any(|said| said.starts_with("cues:")), "{:?}", today.left_out);
    let faults = w.faults().await.join("\n");
    assert!(faults.contains("broken is “it can be read”"), "{faults}");
    assert!(faults.contains("how often plans changed is counted"), "{faults}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_that_is_set_back_holds_no_seat_for_ever() {
    let w = world().await;
    // A hold made while the clock was two days ahead.
    w.pass(2 * 24 * 60);
    let held = w.keep("apiary-open-day", &[1]).await.unwrap();
    let now = w.desk.clock.now() - jiff::SignedDuration::from_hours(48);
    let before = w.sheet(held).await.booking.deadline.unwrap();
    assert!(before.duration_since(now) > jiff::SignedDuration::from_hours(24));
    let rows =
        w.desk.store.write(move |tx| matricle_store::clock::set_back(tx, now)).await.unwrap();
    assert!(rows >= 1);
    let after = w.sheet(held).await.booking.deadline.unwrap();
    let minutes = after.duration_since(now).as_mins();
    assert!((1..=240).contains(&minutes), "{minutes} minutes, as it was to be");
}

/// A mailer whose conversations with some addresses never end.
struct Hanging(Arc<matricle_desk::outside::mailer::Recorder>);

impl Mailer for Hanging {
    fn send(&self, message: Message) -> Sending<'_> {
        if message.envelope().to()[0].to_string().starts_with("hang") {
            return Box::pin(std::future::pending());
        }
        self.0.send(message)
    }

    fn check(&self) -> Checking<'_> {
        self.0.check()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_conversation_that_hangs_holds_up_no_other() {
    let mut w = world().await;
    w.desk.mailer = Arc::new(Hanging(w.mails.clone()));
    w.desk.mail_at_once = 2;
    // What the demo has due goes first.
    w.due().await;
    let sent = w.mails.taken().len();
    let book = async |to: &str| {
        let reference = w.book(FREE, &[1]).await;
        let (from, to) = ("sian@post.example", to.to_owned());
        let of = reference.as_str();
        let sql = format!(
            "UPDATE outbox SET address = '{to}' WHERE address = '{from}' AND booking_id =
                (SELECT id FROM bookings WHERE reference = '{of}')"
        );
        spoil(&w, sql).await;
    };
    for n in 0..4 {
        book(&format!("hang@slow{n}.example")).await;
        book(&format!("quick@quick{n}.example")).await;
    }
    let desk = w.desk.clone();
    let mail = tokio::spawn(async move { timers::turn(&desk, rounds::Work::Mail).await });
    let until = async |n: usize| {
        for _ in 0..600 {
            if w.mails.taken().len() >= sent + n {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        panic!("{} of {n} were sent", w.mails.taken().len() - sent);
    };
    // Both places hang, and are given up to those that wait.
    until(4).await;
    // Whoever books meanwhile is told, while the four still hang.
    book("late@quick.example").await;
    w.desk.wake.all();
    until(5).await;
    assert!(!mail.is_finished());
    mail.abort();
}
