//! Everybody is told, once: two thousand bookings while dates move and are called off, the mail
//! server refuses, hangs and hangs up, and the program is killed every few seconds.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use crate::town::{Person, Town};

const PEOPLE: u32 = 2_000;
const LANES: u32 = 12;
const ROUNDS: u32 = 4;

/// Three dates, a week apart, free, with room for all.
fn dates() -> String {
    let head = "title = \"Evening\"\nkind = \"Talk\"\nlead = \"Come.\"\npools = [\"seats\"]
[[tickets]]\nname = \"Seat\"\nprice = \"0\"\ndraws = { seats = 1 }\n";
    let date = |day: &str| {
        format!(
            "[[dates]]\nstarts = \"2099-06-{day}T19:00\"\nends = \"2099-06-{day}T21:00\"
venue = \"Hall\"\nseats = {{ seats = {PEOPLE} }}\n"
        )
    };
    format!("{head}{}", ["01", "08", "15"].map(date).concat())
}

async fn behave(town: &Town, how: &str) {
    let there = format!("{}/behave", town.mailbox);
    Person::new().post(&there, &[("how", how)]).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn two_thousand_are_told_once_whatever_becomes_of_dates_servers_and_the_program() {
    let mut town = Town::found(&dates());
    town.employ_a_clerk();
    town.open().await;
    let next = Arc::new(AtomicU32::new(0));
    let lanes: Vec<_> = (0..LANES)
        .map(|_| {
            let (url, next) = (town.url.clone(), Arc::clone(&next));
            tokio::spawn(async move {
                loop {
                    let n = next.fetch_add(1, Ordering::Relaxed);
                    if n >= PEOPLE {
                        return;
                    }
                    let mut person = Person::new();
                    let date = (1 + n % 3).to_string();
                    // Whoever meets a killed server, or a date that is off, goes without.
                    let kept = person.keep_on(&url, &date, "q_1", "1").await;
                    let Ok(Ok(own)) = kept else {
                        tokio::time::sleep(Duration::from_millis(20)).await;
                        continue;
                    };
                    let _ = person.book(&own, &format!("Person{n}"), 1).await;
                }
            })
        })
        .collect();
    let mut moved = 0;
    for round in 1..=ROUNDS {
        while next.load(Ordering::Relaxed) < round * PEOPLE / (ROUNDS + 1) {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        for how in ["refuses", "hangs_up", "hangs"] {
            behave(&town, how).await;
            tokio::time::sleep(Duration::from_millis(400)).await;
        }
        let mut ilse = Person::new();
        ilse.sign_in_as_clerk(&town.url).await.unwrap();
        let hour = (17 + round).to_string();
        let fields = [
            ("act", "save"),
            ("scope", "one"),
            ("day", "2099-06-09"),
            ("from", &format!("{hour}:30")),
            ("until", &format!("{}:30", 19 + round)),
            ("venue", "Hall"),
            ("pool_0", "2000"),
            ("sure", "yes"),
        ];
        let change = format!("{}/office/dates/2/change", town.url);
        let page = ilse.post(&change, &fields).await.unwrap();
        moved += u32::from(page.status == 303);
        if round == 2 {
            let off = format!("{}/office/events/1/call-off", town.url);
            let fields = [("date", "3"), ("reason", "A storm."), ("sure", "yes")];
            let page = ilse.post(&off, &fields).await.unwrap();
            assert_eq!(page.status, 303, "{}", page.body);
        }
        town.kill();
        behave(&town, "well").await;
        town.open().await;
    }
    for lane in lanes {
        lane.await.unwrap();
    }
    assert_eq!(moved, ROUNDS, "the date moved each time");
    // What waits to be tried again is tried now; then nothing is left that is due.
    let file = town.path("data").join(matricle_store::FILE);
    let conn = matricle_store::Store::writer(&file).unwrap();
    let left = || {
        let sql = "SELECT (SELECT count(*) FROM outbox WHERE state IN ('planned', 'sending') AND planned_at < unixepoch() * 1000000)
            + (SELECT count(*) FROM to_follow) + (SELECT count(*) FROM to_follow_dates)";
        conn.query_row(sql, [], |r| r.get::<_, u32>(0)).unwrap()
    };
    for _ in 0..600 {
        conn.execute(
            "UPDATE outbox SET next_try_at = planned_at WHERE next_try_at > planned_at",
            [],
        )
        .unwrap();
        if left() == 0 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    assert_eq!(left(), 0, "everything that was due has gone");
    let list = reqwest::get(format!("{}/mails.json", town.mailbox)).await.unwrap();
    let list: serde_json::Value = list.json().await.unwrap();
    let came: BTreeMap<String, u64> = list
        .as_array()
        .unwrap()
        .iter()
        .map(|m| (m["message_id"].as_str().unwrap().to_owned(), m["times"].as_u64().unwrap()))
        .collect();
    let rows: Vec<(i64, i64, String, String, String, String)> = conn
        .prepare(
            "SELECT b.id, b.date_id, b.state, o.happened, o.state, o.message_id FROM bookings b
             JOIN outbox o ON o.booking_id = b.id WHERE b.state IN ('confirmed', 'cancelled')",
        )
        .unwrap()
        .query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?, r.get(5)?)))
        .unwrap()
        .collect::<Result<_, _>>()
        .unwrap();
    let (mut told, mut off): (BTreeMap<i64, u32>, BTreeSet<i64>) =
        (BTreeMap::new(), BTreeSet::new());
    let mut known = BTreeSet::new();
    for (booking, date, state, happened, stands, id) in &rows {
        if stands == "sent" {
            assert!(came.contains_key(id), "{happened} of {booking} counts as sent and never came");
            known.insert(id.clone());
        }
        match (happened.as_str(), state.as_str(), *date) {
            ("confirmation", "confirmed", _) => {
                assert_eq!(stands, "sent", "booking {booking}");
                *told.entry(*booking).or_default() += 1;
            }
            ("called off", "cancelled", 3) => {
                assert_eq!(stands, "sent");
                off.insert(*booking);
            }
            // Of a date that is called off nothing is said but that.
            (_, "cancelled", 3) => assert_ne!(stands, "planned", "{happened} of {booking}"),
            _ => {}
        }
    }
    let of = |sql: &str| -> BTreeSet<i64> {
        conn.prepare(sql)
            .unwrap()
            .query_map([], |r| r.get(0))
            .unwrap()
            .collect::<Result<_, _>>()
            .unwrap()
    };
    let confirmed = of("SELECT id FROM bookings WHERE state = 'confirmed'");
    assert!(confirmed.len() > 600, "{}", confirmed.len());
    assert_eq!(told.keys().copied().collect::<BTreeSet<_>>(), confirmed);
    assert!(told.values().all(|n| *n == 1), "nobody is told twice");
    assert!(!off.is_empty());
    assert_eq!(off, of("SELECT id FROM bookings WHERE state = 'cancelled' AND date_id = 3"));
    // A mail that came without being known as sent was withdrawn when it had been handed over, or
    // is of the few that were in hand when the program was killed.
    let again = came.values().filter(|times| **times > 1).count();
    let unknown = came.keys().filter(|id| !known.contains(*id)).count();
    let in_hand = usize::try_from(ROUNDS * 16).unwrap();
    assert!(again <= in_hand && unknown <= in_hand, "{again} again, {unknown} unknown");
    println!(
        "{} told, {} of a date called off, {} mails, {again} handed over again, {unknown} not written down",
        confirmed.len(),
        off.len(),
        came.len()
    );
    // Reminders stand at their minute: the day before at six by the clock of the date.
    let wrong = of("SELECT b.id FROM bookings b JOIN dates d ON d.id = b.date_id WHERE b.state = 'confirmed' AND 1 <> (
        SELECT count(*) FROM outbox o JOIN templates t ON t.id = o.template_id
        WHERE o.booking_id = b.id AND o.state = 'planned' AND t.standard = 'reminder'
            AND o.planned_at = unixepoch(date(substr(d.starts, 1, 10), '-1 day') || ' 17:00:00') * 1000000)");
    assert_eq!(wrong, BTreeSet::new(), "18:00 in Dublin in June is 17:00 UTC");
    assert_eq!(
        of("SELECT id FROM outbox WHERE state = 'planned' AND date_id = 3"),
        BTreeSet::new()
    );
    drop(conn);
    assert!(town.stop().success());
    town.is_sound();
}
