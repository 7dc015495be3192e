//! Many people at once: two hundred for the last ten seats, and a thousand through everything
//! that can happen to a booking, with the program killed amid it.

use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::time::Duration;

use matricle_core::booking::State;
use matricle_core::words::codes::Reference;
use matricle_store::bookings;

use crate::town::{Person, Town, event};

#[tokio::test(flavor = "multi_thread")]
async fn of_two_hundred_bookers_for_ten_seats_ten_get_one_and_all_others_are_told() {
    let mut town = Town::found(&event(10, "5.00"));
    town.open().await;
    let booked = Arc::new(AtomicU32::new(0));
    let told = Arc::new(AtomicU32::new(0));
    let bookers = (0..200).map(|i| {
        let (url, booked, told) = (town.url.clone(), Arc::clone(&booked), Arc::clone(&told));
        tokio::spawn(async move {
            let mut person = Person::new();
            // Whoever is refused looks in again while others may still abandon.
            for attempt in 0..40 {
                match person.keep(&url, "1").await.unwrap() {
                    // Every third gives the seat back, once.
                    Ok(own) if i % 3 == 0 && attempt == 0 => {
                        let back = person.post(&format!("{own}/give-back"), &[]).await.unwrap();
                        assert_eq!(back.status, 303);
                    }
                    Ok(own) => {
                        let to_pay = person.book(&own, &format!("Person{i}"), 1).await.unwrap();
                        assert_eq!(to_pay.status, 303, "{}", to_pay.body);
                        let page = person.pay(&own).await.unwrap();
                        assert!(page.body.contains("Your seats are booked."), "{}", page.body);
                        booked.fetch_add(1, Ordering::Relaxed);
                        return;
                    }
                    Err(page) => {
                        assert!(
                            page.contains("No seats are left") || page.contains("full"),
                            "{page}"
                        );
                        if booked.load(Ordering::Relaxed) == 10 {
                            break;
                        }
                    }
                }
                tokio::time::sleep(std::time::Duration::from_millis(50)).await;
            }
            told.fetch_add(1, Ordering::Relaxed);
        })
    });
    for booker in bookers.collect::<Vec<_>>() {
        booker.await.unwrap();
    }
    assert_eq!((booked.load(Ordering::Relaxed), told.load(Ordering::Relaxed)), (10, 190));
    let page = Person::new().get(&format!("{}/events/evening", town.url)).await.unwrap();
    assert!(page.body.contains("This date is full."));
    // Kindly asked, it ends cleanly; and the file is sound: ten seats, paid, each once.
    assert!(town.stop().success());
    town.is_sound();
}

const PEOPLE: u32 = 1000;
const LANES: u32 = 16;
const KILLS: u32 = 4;

/// A hundred seats, four ticket types, one of them free.
const SEASON: &str = r#"title = "Evening"
kind = "Talk"
lead = "Come."
pools = ["seats"]
[[tickets]]
name = "Seat"
price = "5.00"
draws = { seats = 1 }
[[tickets]]
name = "Pair"
price = "9.00"
admits = 2
draws = { seats = 2 }
[[tickets]]
name = "Family"
price = "16.00"
admits = 4
draws = { seats = 4 }
[[tickets]]
name = "Helper"
price = "0"
draws = { seats = 1 }
[[dates]]
starts = "2099-06-01T19:00"
ends = "2099-06-01T21:00"
venue = "Hall"
seats = { seats = 100 }
"#;

/// Chance that gives the same run for the same seed (xorshift64*).
struct Chance(u64);

impl Chance {
    fn below(&mut self, n: u32) -> u32 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        let high = self.0.wrapping_mul(0x2545_F491_4F6C_DD1D) >> 33;
        u32::try_from(high).unwrap() % n
    }
}

/// What people were told, and so must stay true whatever is killed.
#[derive(Default)]
struct Told {
    booked: Vec<String>,
    cancelled: Vec<String>,
    waiting: Vec<String>,
}

/// One booker: keeps seats, leaves, pays, is declined, gives up, cancels, waits.
async fn booker(
    url: &str,
    n: u32,
    told: &Mutex<Told>,
    chance: &mut Chance,
) -> Result<(), reqwest::Error> {
    let mut person = Person::new();
    let (ticket, people) =
        [("q_1", 1), ("q_2", 2), ("q_3", 4), ("q_4", 1)][chance.below(4) as usize];
    let own = match person.keep_of(url, ticket, "1").await? {
        Ok(own) => own,
        Err(_) if chance.below(3) > 0 => return Ok(()),
        Err(page) => {
            let date = page
                .split("name=\"date\" value=\"")
                .nth(1)
                .map_or("1", |d| d.split('"').next().unwrap());
            let (name, email) = (format!("Waiter{n}"), format!("waiter{n}@post.example"));
            let fields = [("date", date), (ticket, "1"), ("name", &name), ("email", &email)];
            let joined = person.post(&format!("{url}/events/evening/wait"), &fields).await?;
            if joined.status == 303 {
                told.lock().unwrap().waiting.push(email);
            }
            return Ok(());
        }
    };
    match chance.below(10) {
        0 => return Ok(()),
        1 => return person.post(&format!("{own}/give-back"), &[]).await.map(drop),
        _ => {}
    }
    if person.book(&own, &format!("Person{n}"), people).await?.status != 303 {
        return Ok(());
    }
    let mut page = person.get(&own).await?;
    if !page.body.contains("Your seats are booked.") {
        page = match chance.below(10) {
            0 => return Ok(()),
            1 => person.decide(&own, "declined").await?,
            2 => {
                person.decide(&own, "declined").await?;
                person.pay(&own).await?
            }
            _ => person.pay(&own).await?,
        };
    }
    if !page.body.contains("Your seats are booked.") {
        return Ok(());
    }
    if chance.below(4) > 0 {
        told.lock().unwrap().booked.push(own);
        return Ok(());
    }
    person.get(&format!("{own}/change")).await?;
    person.post(&format!("{own}/change/cancel"), &[("sure", "yes")]).await?;
    if person.get(&own).await?.body.contains("This booking was cancelled") {
        told.lock().unwrap().cancelled.push(own);
    }
    Ok(())
}

/// The addresses of places on the waiting list, from the mails to those who joined it.
async fn places(town: &Town, waiting: &[String]) -> Vec<String> {
    let mut missing: std::collections::BTreeSet<&str> =
        waiting.iter().map(String::as_str).collect();
    let mut places = Vec::new();
    for _ in 0..300 {
        let list = reqwest::get(format!("{}/mails.json", town.mailbox)).await.unwrap();
        let list: serde_json::Value = list.json().await.unwrap();
        for mail in list.as_array().unwrap() {
            let to = mail["to"].as_str().unwrap();
            let Some(known) = missing.iter().find(|m| to.contains(**m)).copied() else { continue };
            let raw = format!("{}/mail/{}/raw", town.mailbox, mail["id"]);
            let raw = reqwest::get(raw).await.unwrap().text().await.unwrap();
            let raw = raw.replace("=\r\n", "").replace("=\n", "");
            if let Some(link) = raw.split("/waiting/").nth(1) {
                let link = link.split_whitespace().next().unwrap();
                places.push(format!("{}/waiting/{link}", town.url));
                missing.remove(known);
            }
        }
        if missing.is_empty() {
            return places;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("no mail about the waiting list to {missing:?}");
}

/// A clerk who makes the hall smaller and larger, as far as it is let.
async fn clerk(url: String, done: Arc<AtomicBool>) -> u32 {
    let (mut chance, mut changed) = (Chance(77), 0);
    let mut person = Person::new();
    while !done.load(Ordering::Relaxed) {
        let seats = (90 + chance.below(21)).to_string();
        let change = [("act", "save"), ("pool_0", seats.as_str()), ("scope", "one")];
        let there = person.post(&format!("{url}/office/dates/1/change"), &change).await;
        let Ok(page) = there else { continue };
        if page.status == 303 && page.location.contains("/dates") {
            changed += 1;
        } else if page.status == 403 || page.location.contains("sign-in") {
            let _ = person.sign_in_as_clerk(&url).await;
        }
        tokio::time::sleep(Duration::from_millis(40)).await;
    }
    changed
}

/// Freed seats go to whoever waits, webhooks come late, doubled or never, the program is
/// killed again and again: what was told stays true, nothing is sold twice, the books are
/// right to the cent.
#[tokio::test(flavor = "multi_thread")]
async fn a_thousand_bookers_a_clerk_and_kills_leave_every_answer_true_and_the_books_right() {
    let mut town = Town::found(SEASON);
    town.employ_a_clerk();
    town.open().await;
    let mut ilse = Person::new();
    ilse.sign_in_as_clerk(&town.url).await.unwrap();
    ilse.get(&format!("{}/office/events/1/rules", town.url)).await.unwrap();
    let rules = [("may_cancel", "yes"), ("waiting", "offer to the first"), ("offer_hours", "1")];
    let kept = ilse.post(&format!("{}/office/events/1/rules", town.url), &rules).await.unwrap();
    assert_eq!(kept.status, 303, "{}", kept.body);
    let by_chance = [("delivery", "by_chance"), ("seed", "20261125")];
    Person::new().post(&format!("{}/delivery", town.till), &by_chance).await.unwrap();

    let (told, done) = (Arc::new(Mutex::new(Told::default())), Arc::new(AtomicBool::new(false)));
    let next = Arc::new(AtomicU32::new(0));
    let clerk = tokio::spawn(clerk(town.url.clone(), Arc::clone(&done)));
    let mut before = (Vec::new(), Vec::new());
    let lanes: Vec<_> = (0..LANES)
        .map(|lane| {
            let (url, told, next) = (town.url.clone(), Arc::clone(&told), Arc::clone(&next));
            tokio::spawn(async move {
                let mut chance = Chance(0x9E37_79B9 + u64::from(lane));
                loop {
                    let n = next.fetch_add(1, Ordering::Relaxed);
                    if n >= PEOPLE {
                        return;
                    }
                    if booker(&url, n, &told, &mut chance).await.is_err() {
                        tokio::time::sleep(Duration::from_millis(60)).await;
                    }
                }
            })
        })
        .collect();
    for kill in 1..=KILLS {
        while next.load(Ordering::Relaxed) < kill * PEOPLE / (KILLS + 1) {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        town.kill();
        town.open().await;
        if kill == KILLS / 2 {
            // What was told before the copy was begun is in it, whatever goes on meanwhile.
            before = {
                let known = told.lock().unwrap();
                (known.booked.clone(), known.cancelled.clone())
            };
            std::fs::create_dir(town.path("backups")).unwrap();
            let mut backup = town.command("backup");
            let done = tokio::task::spawn_blocking({
                let folder = town.path("backups");
                move || backup.arg(folder).status().unwrap()
            });
            assert!(done.await.unwrap().success());
        }
    }
    for lane in lanes {
        lane.await.unwrap();
    }
    done.store(true, Ordering::Relaxed);
    let changed = clerk.await.unwrap();
    assert!(changed >= 10, "the clerk changed the hall {changed} times");

    let told = std::mem::take(&mut *told.lock().unwrap());
    let (booked, cancelled, waiting) =
        (told.booked.len(), told.cancelled.len(), told.waiting.len());
    assert!(booked >= 25 && cancelled >= 5 && waiting >= 25, "{booked}, {cancelled}, {waiting}");
    let mut person = Person::new();
    for own in &told.booked {
        assert!(person.get(own).await.unwrap().body.contains("Your seats are booked."), "{own}");
    }
    for own in &told.cancelled {
        assert!(
            person.get(own).await.unwrap().body.contains("This booking was cancelled"),
            "{own}"
        );
    }
    let mut offered = 0;
    // Whoever waits is told so by mail, and only there.
    let places = places(&town, &told.waiting).await;
    for (n, own) in places.iter().enumerate() {
        let page = person.get(own).await.unwrap();
        assert_eq!(page.status, 200, "{own}");
        if page.body.contains("Seats are kept for you") {
            offered += 1;
            let link =
                page.body.split("href=\"/booking/").nth(1).unwrap().split('"').next().unwrap();
            let own = format!("{}/booking/{link}", town.url);
            person.get(&own).await.unwrap();
            let taken = person.book(&own, &format!("Taker{n}"), 4).await.unwrap();
            assert_eq!(taken.status, 303, "{}", taken.body);
        }
    }
    // Whatever webhooks were lost, the program asks; then both lists of payments agree.
    let mut compared = String::new();
    for _ in 0..400 {
        ilse.sign_in_as_clerk(&town.url).await.unwrap();
        compared = ilse.get(&format!("{}/office/money/provider", town.url)).await.unwrap().body;
        if compared.contains("all the same") {
            break;
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    assert!(compared.contains("all the same"), "{compared}");
    assert!(town.stop().success());
    town.is_sound();
    let restored = town.restored("backups");
    let states = |owns: &[String], state: State| {
        for own in owns {
            let reference = own.split("/booking/").nth(1).unwrap().split('/').next().unwrap();
            let reference = Reference::parse(reference).unwrap();
            let found = bookings::by_reference(&restored, reference).unwrap();
            assert_eq!(found.map(|b| b.state), Some(state), "{own}");
        }
    };
    assert!(!before.0.is_empty(), "somebody had booked when the copy was made");
    states(&before.0, State::Confirmed);
    states(&before.1, State::Cancelled);
    println!(
        "{booked} booked, {cancelled} cancelled, {waiting} waited, {offered} had seats on offer, the hall changed {changed} times"
    );
}

/// Somewhere that takes connections and never says a word.
fn silence() -> std::net::SocketAddr {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let at = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        let mut kept = Vec::new();
        kept.extend(listener.incoming());
    });
    at
}

/// Neither the mail server nor the card provider ever answers, and one booking cannot be
/// written: holds beside it lapse all the same, pages answer, Today tells, and it stops.
#[tokio::test(flavor = "multi_thread")]
async fn servers_that_hang_and_a_poisoned_booking_hold_up_only_themselves() {
    let mut town = Town::found(SEASON);
    town.employ_a_clerk();
    town.reach(&format!("smtp://{}", silence()), &format!("http://{}", silence()));
    town.open().await;
    let bookers = (0..40u32).map(|n| {
        let url = town.url.clone();
        tokio::spawn(async move {
            let mut person = Person::new();
            let ticket = if n < 10 { "q_1" } else { "q_4" };
            let own = person.keep_of(&url, ticket, "1").await.unwrap().unwrap();
            let booked = person.book(&own, &format!("Person{n}"), 1).await.unwrap();
            assert_eq!(booked.status, 303, "{}", booked.body);
            if n < 10 {
                // Whether the page waits for the provider is not what this is about.
                tokio::spawn(async move { person.get(&format!("{own}/pay")).await.is_ok() });
            }
        })
    });
    for booker in bookers.collect::<Vec<_>>() {
        booker.await.unwrap();
    }
    let mut held = Vec::new();
    for _ in 0..3 {
        let own = Person::new().keep_of(&town.url, "q_2", "1").await.unwrap().unwrap();
        held.push(own.split("/booking/").nth(1).unwrap().split('/').next().unwrap().to_owned());
    }
    let file =
        matricle_store::Store::writer(&town.path("data").join(matricle_store::FILE)).unwrap();
    file.execute_batch(&format!(
        "CREATE TRIGGER poison BEFORE UPDATE OF state ON bookings WHEN OLD.reference = '{}'
            BEGIN SELECT RAISE(ABORT, 'a poisoned booking'); END;
         UPDATE bookings SET deadline = made_at WHERE state = 'held';",
        held[0]
    ))
    .unwrap();
    let state = |reference: &str| {
        let sql = "SELECT state FROM bookings WHERE reference = ?1";
        file.query_row(sql, [reference], |r| r.get::<_, String>(0)).unwrap()
    };
    for _ in 0..400 {
        if state(&held[1]) == "lapsed" && state(&held[2]) == "lapsed" {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let states: Vec<String> = held.iter().map(|reference| state(reference)).collect();
    assert_eq!(states, ["held", "lapsed", "lapsed"]);
    let mut ilse = Person::new();
    ilse.sign_in_as_clerk(&town.url).await.unwrap();
    let today = ilse.get(&format!("{}/office", town.url)).await.unwrap().body;
    assert!(today.contains("a poisoned booking"), "{today}");
    let ready = ilse.get(&format!("{}/ready", town.url)).await.unwrap();
    assert_eq!((ready.status, ready.body.as_str()), (200, "ready\n"));
    file.execute_batch("DROP TRIGGER poison").unwrap();
    drop(file);
    assert!(town.stop().success());
    town.is_sound();
}
